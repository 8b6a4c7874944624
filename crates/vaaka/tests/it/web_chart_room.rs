//! The chart room: zoom, points, the baseline study, rules, segments, charts of all levels, signals as
//! work, the wall.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use diesel::sql_types::{BigInt, Text};
use diesel_async::RunQueryDsl;
use rand::{Rng, SeedableRng};
use reqwest::StatusCode;
use vaaka_core::chart::{ChartDesign, ChartPoint, Scatter, evaluate};
use vaaka_store::ids::StreamId;
use vaaka_store::{Store, charts, replay, stretches};

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server, app_url, connect, demo_database, now, owner_url};

pub async fn ilma(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "ilma", "tyyni-selka-3").await
}

pub async fn rauno(server: &Server) -> Bench {
    Bench::signed_in(&server.base, "rauno", "hiljainen-vuo-5").await
}

pub async fn post(bench: &Bench, path: &str, typed: &[(&str, &str)]) -> Page {
    let token = bench.get("/charts").await.attribute("input[name=form_token]", "value").unwrap();
    let mut fields: HashMap<String, String> =
        typed.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
    fields.insert("form_token".into(), token);
    bench.post(path, &fields).await
}

#[derive(diesel::QueryableByName)]
struct Number {
    #[diesel(sql_type = BigInt)]
    number: i64,
}

#[derive(diesel::QueryableByName)]
struct Line {
    #[diesel(sql_type = Text)]
    line: String,
}

#[derive(diesel::QueryableByName)]
struct Plan {
    #[diesel(sql_type = Text, column_name = "QUERY PLAN")]
    line: String,
}

pub async fn number(database: &str, query: &str) -> i64 {
    let mut connection = connect(&owner_url(database)).await;
    diesel::sql_query(query).get_result::<Number>(&mut connection).await.unwrap().number
}

pub async fn lines(database: &str, query: &str) -> Vec<String> {
    let mut connection = connect(&owner_url(database)).await;
    let rows: Vec<Line> = diesel::sql_query(query).load(&mut connection).await.unwrap();
    rows.into_iter().map(|row| row.line).collect()
}

/// What the points say stands beside the chart with the odds of what else it may be, and says the same as the finding: a
/// drift with onset, slope and crossing in intervals, its onset and fan drawn; without limits nothing is said.
#[tokio::test(flavor = "multi_thread")]
async fn what_the_points_say() {
    let server = Server::demo().await;
    let bench = ilma(&server).await;
    let tank = chart(&server, "R-02").await + 1;
    let page = bench.get(&format!("/charts/{tank}")).await;
    let finding = page.words(".card-strip");
    assert!(finding.contains("Drifting up") && finding.matches("95 %").count() == 4, "{finding}");
    assert!(finding.contains("a single check is outside for the first time"), "{finding}");
    let odds = page.all("table.odds tr");
    assert_eq!(odds.len(), 5);
    assert!(odds[2].starts_with("a drift (told)") && odds[2].contains('%'), "{odds:?}");
    assert!(
        page.words("aside").contains("more checks at the level of now would take the drift back")
    );
    assert_eq!((page.all("svg .fan").len(), page.all("svg line.onset").len()), (1, 3));
    // The round says the same in its own place.
    let round = bench.get("/").await;
    let slope = finding.split(" a week").next().unwrap().rsplit(' ').nth(1).unwrap().to_owned();
    assert!(round.text.contains(&slope), "{slope}");

    let query =
        "SELECT s.id AS number FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id
         WHERE i.tag = 'P-21' AND s.label LIKE 'Error at 45 %' ORDER BY s.id LIMIT 1";
    let hardness = number(&server.database, query).await;
    // Without limits nothing is known of what is normal, and nothing is said.
    let page = bench.get(&format!("/charts/{hardness}?range=year")).await;
    assert!(!page.words("aside").contains("What the points say"), "{}", page.words("aside"));
    assert_eq!(page.all("svg .fan").len() + page.all("svg line.onset").len(), 0);
    // A quiet chart tells no change, and draws none.
    let bench_scale = chart(&server, "R-05").await;
    let page = bench.get(&format!("/charts/{bench_scale}")).await;
    assert_eq!(page.all("table.odds tr").len(), 5);
    assert_eq!(page.all("svg .fan").len(), 0);
}

/// The chart of an instrument's first level.
pub async fn chart(server: &Server, tag: &str) -> i64 {
    let query = format!(
        "SELECT min(s.id) AS number FROM chart_streams s JOIN instruments i
             ON i.id = s.instrument_id WHERE i.tag = '{tag}' AND s.derived IS NULL"
    );
    number(&server.database, &query).await
}

/// Eight hours pass.
pub async fn next_shift(clock: &HandClock, bench: &Bench) {
    clock.pass(8 * 3_600);
    bench.get("/").await;
}

/// A server whose clock a test moves on.
pub async fn with_clock() -> (Arc<HandClock>, Server) {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    (clock, server)
}

/// The time before the tank scale begins to drift, as the form of a study asks for it.
pub const QUIET: &str = "chosen=yes&to=2026-10-28";

/// Readings of the tank scale that are right to a gram.
pub const FINE: [&str; 9] =
    ["0.000", "5.001", "10.001", "20.001", "20.001", "20.001", "10.001", "10.001", "0.000"];

#[tokio::test(flavor = "multi_thread")]
async fn from_all_years_to_a_shift() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let id = chart(&server, "R-02").await;
    let month = bench.get(&format!("/charts/{id}")).await;
    assert_eq!(month.words("nav.ranges a[aria-current]"), "Month");
    assert!(month.all("svg.chart .point").len() > 60);
    // Closer and closer, down to a shift; each way is a link.
    let mut page = month;
    for _ in 0..8 {
        let closer = page.attribute("a[data-way=closer]", "href").unwrap();
        page = bench.get(&closer).await;
        assert_eq!(page.status, StatusCode::OK);
    }
    assert!(page.all("svg.chart .point").len() <= 3, "{}", page.words(".ways span"));
    let wider = page.attribute("a[data-way=wider]", "href").unwrap();
    assert_eq!(bench.get(&wider).await.status, StatusCode::OK);
    // What cannot be read is a month; a stretch without checks says so.
    for nonsense in
        ["range=%00", "from=x&to=y", "from=2026-11-20&to=2026-11-10", "range=week&view=zzz"]
    {
        let page = bench.get(&format!("/charts/{id}?{nonsense}")).await;
        assert_eq!(page.status, StatusCode::OK, "{nonsense}");
    }
    let empty = bench.get(&format!("/charts/{id}?from=2019-01-01&to=2019-02-01")).await;
    assert!(empty.words(".chart-sheet").contains("No check in this time"), "{}", empty.text);
    // Every point as a row, and the distribution with figures that say what they are.
    let table = bench.get(&format!("/charts/{id}?view=table&range=all")).await;
    assert!(table.all("table.points tbody tr").len() > 100);
    let spread = bench.get(&format!("/charts/{id}?view=distribution&range=all")).await;
    let words = spread.words(".stack .side");
    assert!(words.contains("Pp = (U − L)/(6 s)") && words.contains("Ppk"), "{words}");
    assert!(!spread.all("svg .bar").is_empty());
    // Another chart and nothing beside it.
    let other = number(&server.database, &format!("SELECT max(id) AS number FROM chart_streams WHERE instrument_id = (SELECT instrument_id FROM chart_streams WHERE id = {id})")).await;
    let beside = bench.get(&format!("/charts/{id}?with={other}")).await;
    assert!(beside.text.contains("beside it R-02"), "{}", beside.text);
    for nothing in ["with=999999", "with=x", "tag=%20"] {
        let page = bench.get(&format!("/charts/{id}?{nothing}")).await;
        assert!(!page.text.contains("beside it R-02"), "{nothing}");
    }
    for missing in
        ["/charts/999999", "/charts/x", "/charts/1/points/999999", "/charts/999999/study"]
    {
        assert_eq!(bench.get(missing).await.status, StatusCode::NOT_FOUND, "{missing}");
    }
}

/// Laid beside it: another chart of the instrument, its like at another one, both, or a word why not.
#[tokio::test(flavor = "multi_thread")]
async fn a_chart_is_laid_beside_its_like_at_another_instrument() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let id = chart(&server, "R-02").await;
    let panes = |page: &Page| page.text.matches("beside it ").count();
    // The tag as somebody types it; of the two levels of R-09 the one that is nearest.
    let page = bench.get(&format!("/charts/{id}?range=month&tag=%20r-09")).await;
    assert!(page.text.contains("beside it R-09: error at 10 kg"), "{}", page.text);
    assert_eq!((panes(&page), page.attribute("#beside-tag", "value").unwrap().trim()), (1, "r-09"));
    let own = page.attribute("#with option:nth-child(2)", "value").unwrap();
    let both = bench.get(&format!("/charts/{id}?with={own}&tag=R-09")).await;
    assert_eq!(panes(&both), 2);
    // By a link to a chart of another instrument, the field says whose it is.
    let other = chart(&server, "R-09").await;
    let linked = bench.get(&format!("/charts/{id}?with={other}&tag=R-09")).await;
    assert_eq!(panes(&linked), 1, "one chart once");
    let linked = bench.get(&format!("/charts/{id}?with={other}")).await;
    assert_eq!(linked.attribute("#beside-tag", "value").as_deref(), Some("R-09"));
    // What has no such chart, what is no tag, and what only looks like a pattern.
    let hardness = number(
        &server.database,
        "SELECT max(id) AS number FROM chart_streams WHERE method_key <> 'weighing'",
    )
    .await;
    for (asked, words) in [
        ("tag=NO-1", "No chart of this kind is kept of “NO-1”. These instruments have one: F-04"),
        ("tag=R%25", "“R%”"),
        ("tag=%3Cb%3E", "“<b>”"),
        (&*format!("with={hardness}"), "measures something else"),
    ] {
        let page = bench.get(&format!("/charts/{id}?{asked}")).await;
        assert_eq!((page.status, panes(&page)), (StatusCode::OK, 0), "{asked}");
        assert!(page.words("#beside-tag-error").contains(words), "{asked}: {}", page.text);
        assert!(page.find("details[open] #beside-tag").is_some(), "at the place");
    }
    let alike = bench.get(&format!("/charts/{id}/beside")).await.text;
    let alike: Vec<HashMap<String, String>> = serde_json::from_str(&alike).unwrap();
    let tags: Vec<&str> = alike.iter().map(|one| one["tag"].as_str()).collect();
    assert!(tags.is_sorted() && tags.contains(&"R-09") && !tags.contains(&"R-02"), "{tags:?}");
    assert!(alike.iter().all(|one| !one["name"].is_empty()));
    let far = bench.get(&format!("/charts/{hardness}?tag=R-02")).await;
    assert!(far.find("#beside-tag-error").is_some());
}

/// More points than are drawn one by one: strokes, and only what says something by itself.
#[tokio::test(flavor = "multi_thread")]
async fn ten_years_are_strokes_on_a_light_page() {
    let server = Server::demo().await;
    let id = chart(&server, "R-02").await;
    // The same checks again and again, each time a month and a half earlier: eleven thousand points.
    let mut owner = server.owner().await;
    for query in [
        format!("CREATE TEMPORARY TABLE numbered AS SELECT row_number() OVER (ORDER BY c.id) AS n, c.* FROM checks c WHERE c.state = 'concluded' AND EXISTS (SELECT FROM chart_points p WHERE p.check_id = c.id AND p.stream_id = {id})"),
        "INSERT INTO checks (plan_version_id, instrument_id, shift_instance_id, certificate_id, purpose, state, opened_by, opened_at, closed_by, closed_at, idempotency_key, held_by)
            SELECT plan_version_id, instrument_id, shift_instance_id, certificate_id, purpose, state, opened_by, opened_at - back * interval '46 days', closed_by, closed_at - back * interval '46 days', gen_random_uuid(), held_by FROM numbered, generate_series(1, 80) back".into(),
        format!("INSERT INTO chart_points (stream_id, segment_id, check_id, certificate_id, ordinal, measured_at, value, conformity, firings, advisory, center_line, lower_control_limit, upper_control_limit, ewma, ewma_half_width)
            SELECT {id}, (SELECT min(id) FROM segments WHERE stream_id = {id}), c.id, c.certificate_id, 100000 + row_number() OVER (ORDER BY c.closed_at), c.closed_at, (c.id % 17) / 10.0, 'pass', '[]', '[]', 0.4, -4.8, 5.6, 0.5, 1.0
            FROM checks c WHERE NOT EXISTS (SELECT FROM chart_points p WHERE p.check_id = c.id) AND c.instrument_id = (SELECT instrument_id FROM chart_streams WHERE id = {id})"),
    ] {
        diesel::sql_query(query).execute(&mut owner).await.unwrap();
    }
    let count = number(
        &server.database,
        &format!("SELECT count(*) AS number FROM chart_points WHERE stream_id = {id}"),
    )
    .await;
    assert!(count > 10_000, "{count}");
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
    strokes_hold_every_point(&server, id, count).await;
    marked_points_are_found_by_their_index(&server, id).await;
    let bench = Bench::aino(&server.base).await;
    let page = bench.get(&format!("/charts/{id}?range=all")).await;
    assert_eq!(page.all("svg.chart .condensed").len(), 1);
    assert!(page.all("svg.chart .point").len() <= 200);
    assert!(page.text.len() < 400_000, "{} bytes", page.text.len());
    let table = bench.get(&format!("/charts/{id}?range=all&view=table")).await;
    assert_eq!(table.all("table.points tbody tr").len(), 500);
    assert!(table.words("table.points caption").contains("all of them are in the CSV"));
    let study = bench.get(&format!("/charts/{id}/study?chosen=yes")).await;
    assert_eq!(study.status, StatusCode::OK);
    assert!(study.text.len() < 400_000, "{} bytes", study.text.len());
}

/// Whether they are made of blocks or of points, strokes hold the same checks between the same ends, and
/// there are about as many as were asked for.
async fn strokes_hold_every_point(server: &Server, id: i64, count: i64) {
    let store = Store::new(&app_url(&server.database), 1).unwrap();
    let connection = store.connection().await.unwrap();
    let span = (jiff::Timestamp::UNIX_EPOCH, now());
    let extent = stretches::extent(&connection, StreamId(id), span, 701).await.unwrap();
    assert!(extent.count == 701 && extent.blocks * stretches::BLOCK >= count, "{extent:?}");
    let mut sums = Vec::new();
    for (parts, blocks) in
        [(380, extent.blocks), (380, 0), (20, extent.blocks), (20, 0), (1_000, extent.blocks)]
    {
        let known = stretches::Extent { blocks, ..extent.clone() };
        let strokes = stretches::of(&connection, StreamId(id), span, parts, &known).await.unwrap();
        assert!(strokes.len() as i64 <= parts + 20, "{} of {parts}", strokes.len());
        assert!(strokes.is_sorted_by_key(|one| one.first_at), "in order");
        let total: i64 = strokes.iter().map(|one| one.count).sum();
        let mean = strokes.iter().map(|one| one.mean * one.count as f64).sum::<f64>();
        let least = strokes.iter().map(|one| one.least).fold(f64::INFINITY, f64::min);
        let most = strokes.iter().map(|one| one.most).fold(f64::NEG_INFINITY, f64::max);
        let ends = (strokes[0].first_at, strokes.last().unwrap().last_at);
        sums.push((total, (mean * 1e6).round(), least, most, ends));
    }
    assert!(sums.iter().all(|one| *one == sums[0]), "{sums:?}");
}

/// However often it is asked: PostgreSQL keeps a plan after some rounds, and a kept plan knows no values.
async fn marked_points_are_found_by_their_index(server: &Server, id: i64) {
    let mut owner = server.owner().await;
    diesel::sql_query("ANALYZE chart_points").execute(&mut owner).await.unwrap();
    let store = Store::new(&app_url(&server.database), 1).unwrap();
    let mut connection = store.connection().await.unwrap();
    let span = (jiff::Timestamp::UNIX_EPOCH, now());
    charts::points_between(&connection, StreamId(id), span, 200, true).await.unwrap();
    let kept = "SELECT name AS line FROM pg_prepared_statements WHERE statement LIKE '%conformity = ''fail''%'";
    let kept: Vec<Line> = diesel::sql_query(kept).load(&mut connection).await.unwrap();
    let [Line { line: name }] = kept.as_slice() else { panic!("{} statements", kept.len()) };
    diesel::sql_query("SET plan_cache_mode = force_generic_plan")
        .execute(&mut connection)
        .await
        .unwrap();
    // In the order of the query: chart, from, to, withdrawn, how many.
    let explain = format!("EXPLAIN EXECUTE \"{name}\" ({id}, 'epoch', 'infinity', false, 200)");
    let plan: Vec<Plan> = diesel::sql_query(explain).load(&mut connection).await.unwrap();
    let plan: Vec<String> = plan.into_iter().map(|row| row.line).collect();
    assert!(plan.iter().any(|line| line.contains("chart_points_marked")), "{plan:#?}");
}

/// Blocks that are not what their points come to.
pub async fn wrong_blocks(server: &Server) -> Vec<String> {
    let block = stretches::BLOCK;
    let points = format!(
        "SELECT segment_id, ordinal / {block} AS block, count(*) AS count, min(measured_at) AS first_at,
            max(measured_at) AS last_at, min(value) AS least, max(value) AS most,
            round(avg(value)::numeric, 9) AS mean, round(avg(ewma)::numeric, 9) AS ewma,
            (array_agg(center_line ORDER BY ordinal DESC))[1] AS center_line,
            (array_agg(upper_control_limit ORDER BY ordinal DESC))[1] AS upper_control_limit,
            (array_agg(provisional ORDER BY ordinal DESC))[1] AS provisional
        FROM chart_points WHERE ordinal IS NOT NULL AND NOT excluded GROUP BY 1, 2"
    );
    let blocks = "SELECT segment_id, block, count, first_at, last_at, least, most, round(mean::numeric, 9),
            round(ewma::numeric, 9), center_line, upper_control_limit, provisional FROM chart_blocks";
    let query = format!(
        "SELECT ('points: ' || p)::text AS line FROM (({points}) EXCEPT ({blocks})) p
         UNION ALL SELECT ('blocks: ' || b)::text FROM (({blocks}) EXCEPT ({points})) b LIMIT 5"
    );
    lines(&server.database, &query).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_point_is_commented_left_out_and_taken_in() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let id = chart(&server, "R-02").await;
    let check = number(
        &server.database,
        &format!(
            "SELECT check_id AS number FROM chart_points WHERE stream_id = {id} AND ordinal = 60"
        ),
    )
    .await;
    let path = format!("/charts/{id}/points/{check}");
    let shown = aino.get(&path).await;
    assert!(shown.words("dl.facts").contains("From the centre"), "{}", shown.text);
    assert!(shown.find("button[value=exclude]").is_none(), "only a lead leaves points out");
    let mark = format!("{path}/mark");
    let empty = post(&aino, &mark, &[("mark", "comment"), ("comment", " ")]).await;
    assert_eq!(empty.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(empty.words("#comment-error").contains("Type what is to be said"));
    let said = post(&aino, &mark, &[("mark", "comment"), ("comment", "door was open <b>")]).await;
    assert_eq!(said.status, StatusCode::SEE_OTHER);
    assert_eq!(
        post(&aino, &mark, &[("mark", "exclude"), ("reason", "no")]).await.status,
        StatusCode::FORBIDDEN
    );
    // Left out with its reason: a cross, no number of its own, and the chart evaluated without it.
    let before = bits(&server, id).await;
    let silent = post(&ilma, &mark, &[("mark", "exclude"), ("reason", "")]).await;
    assert!(silent.words("#reason-error").contains("never because it is inconvenient"));
    let out = post(&ilma, &mark, &[("mark", "exclude"), ("reason", "draught")]).await;
    assert_eq!(out.status, StatusCode::SEE_OTHER, "{}", out.text);
    let chart_page = ilma.get(&format!("/charts/{id}?range=all")).await;
    assert_eq!(chart_page.all(".point.excluded").len(), 1);
    assert!(
        chart_page.text.contains("door was open &#60;b&#62;")
            || chart_page.text.contains("door was open &lt;b&gt;")
    );
    same_as_from_scratch(&server, id).await;
    assert_ne!(bits(&server, id).await, before);
    // A second lead who does the same is told so.
    let again = post(&ilma, &mark, &[("mark", "exclude"), ("reason", "draught")]).await;
    assert!(again.words("[role=alert]").contains("already"), "{}", again.text);
    // Taken in again it is as if nothing had been.
    post(&ilma, &mark, &[("mark", "include"), ("reason", "was fine")]).await;
    assert_eq!(bits(&server, id).await, before);
    let actions = lines(
        &server.database,
        &format!(
            "SELECT action AS line FROM audit_entries WHERE chain = 'chart:{id}' ORDER BY sequence"
        ),
    )
    .await;
    assert_eq!(actions, ["point_comment", "point_excluded", "point_included"]);
}

/// Everything that the fold says of a chart, as it is stored.
pub async fn bits(server: &Server, id: i64) -> Vec<String> {
    lines(&server.database, &format!("SELECT concat_ws('|', check_id, ordinal, value, center_line, lower_control_limit, upper_control_limit, ewma, ewma_half_width, standardised, cusum_above, cusum_below, provisional, signalled, firings, advisory) AS line FROM chart_points WHERE stream_id = {id} ORDER BY measured_at, id")).await
}

/// The stored points of each segment against a full evaluation from its start, to the same bits.
pub async fn same_as_from_scratch(server: &Server, id: i64) {
    let store = Store::new(&app_url(&server.database), 2).unwrap();
    let mut connection = store.connection().await.unwrap();
    let stream = charts::by_id(&connection, StreamId(id)).await.unwrap().stream;
    let points = charts::points_since(&mut connection, StreamId(id), jiff::Timestamp::UNIX_EPOCH)
        .await
        .unwrap();
    let mut compared = 0;
    for segment in charts::segments_of(&connection, StreamId(id)).await.unwrap() {
        let Some(design) = segment.design.clone() else { continue };
        let design: ChartDesign = serde_json::from_value(design).unwrap();
        let own: Vec<_> = points
            .iter()
            .map(|view| &view.point)
            .filter(|point| point.segment_id == segment.id && point.ordinal.is_some())
            .collect();
        let series: Vec<ChartPoint> = own
            .iter()
            .map(|point| ChartPoint {
                excluded: point.excluded,
                readings: u32::try_from(point.readings).unwrap(),
                scatter: point
                    .std_dev
                    .zip(point.reading_range)
                    .map(|(std_dev, range)| Scatter { std_dev, range }),
                ..ChartPoint::new(point.measured_at.0, point.value)
            })
            .collect();
        let (_, evaluations) = evaluate(&design, charts::interval(&stream), &series);
        for (ordinal, (point, one)) in own.iter().zip(&evaluations).enumerate() {
            assert_eq!(point.ordinal, Some(i64::try_from(ordinal).unwrap()));
            assert_eq!(point.ewma.map(f64::to_bits), Some(one.ewma.to_bits()), "{ordinal}");
            assert_eq!(point.cusum_above.map(f64::to_bits), Some(one.cusum.0.to_bits()));
            assert_eq!(point.firings, serde_json::to_value(one.firings()).unwrap());
            compared += 1;
        }
    }
    assert!(compared > 60, "{compared}");
}

/// Property: points left out and taken in at random, each time replayed, and in the end as at the start.
#[tokio::test(flavor = "multi_thread")]
async fn any_points_left_out_replay_to_the_same_bits() {
    let server = Server::demo().await;
    let id = chart(&server, "R-02").await;
    let checks: Vec<i64> = lines(&server.database, &format!("SELECT check_id::text AS line FROM chart_points WHERE stream_id = {id} AND ordinal IS NOT NULL"))
        .await
        .iter()
        .map(|line| line.parse().unwrap())
        .collect();
    let before = bits(&server, id).await;
    let store = Store::new(&app_url(&server.database), 2).unwrap();
    let mut connection = store.connection().await.unwrap();
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(44);
    let mut owner = server.owner().await;
    for _ in 0..8 {
        let out: Vec<String> =
            (0..6).map(|_| checks[rng.random_range(0..checks.len())].to_string()).collect();
        let query = format!(
            "UPDATE chart_points SET excluded = check_id IN ({}) WHERE stream_id = {id}",
            out.join(",")
        );
        diesel::sql_query(query).execute(&mut owner).await.unwrap();
        replay::these(&mut connection, vec![StreamId(id)]).await.unwrap();
        same_as_from_scratch(&server, id).await;
        assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
    }
    diesel::sql_query("UPDATE chart_points SET excluded = false")
        .execute(&mut owner)
        .await
        .unwrap();
    replay::these(&mut connection, vec![StreamId(id)]).await.unwrap();
    assert_eq!(bits(&server, id).await, before);
}

#[tokio::test(flavor = "multi_thread")]
async fn limits_are_studied_and_frozen_by_one_lead() {
    let (clock, server) = with_clock().await;
    let (aino, ilma, rauno) =
        (Bench::aino(&server.base).await, ilma(&server).await, rauno(&server).await);
    let id = chart(&server, "R-02").await;
    let path = format!("/charts/{id}/study");
    // Anybody who is signed in sees where limits come from; only a lead freezes.
    let seen = aino.get(&path).await;
    assert_eq!(seen.status, StatusCode::OK);
    assert!(seen.find("form[method=post][action$=study]").is_none());
    let page = ilma.get(&path).await;
    for words in
        ["Checks used", "Sigma", "Normal (Anderson-Darling)", "Technicians", "Kinds of shift"]
    {
        assert!(page.words("dl.facts.wide").contains(words), "{words}");
    }
    assert!(
        page.text.contains("it would have signalled")
            || page.text.contains("would not have signalled")
    );
    // A day is too short, a period without a check is empty, and nonsense stays in its field.
    let day = ilma.get(&format!("{path}?chosen=yes&from=2026-11-01&to=2026-11-02")).await;
    assert!(day.words(".card-strip.out").contains("at least 20 are needed"), "{}", day.text);
    assert!(day.find("form[method=post][action$=study]").is_none());
    let none = ilma.get(&format!("{path}?chosen=yes&from=2019-01-01&to=2019-02-01")).await;
    assert!(none.words(".card-strip.out").contains("No point is left"), "{}", none.text);
    let wrong = ilma.get(&format!("{path}?chosen=yes&from=yesterday&below=0&limits=given")).await;
    assert_eq!(wrong.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(wrong.words("#f-from-error").contains("year-month-day"));
    assert!(wrong.words("#f-below-error").contains("from 1 to 10"));
    assert!(wrong.words("#f-sigma-error").contains("sigma"));
    assert_eq!(wrong.attribute("#f-from", "value").as_deref(), Some("yesterday"));
    // Frozen with a name and a reason.
    let form = rauno.get(&format!("{path}?{QUIET}")).await;
    let page = ilma.get(&format!("{path}?{QUIET}")).await;
    let missing = freeze(&ilma, &path, &page, &[]).await;
    assert_eq!(missing.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(missing.words("#f-name-error").contains("Give these limits a name"));
    assert!(missing.words("#f-reason-error").contains("Say why"));
    let named = [
        ("name", "Limits of the autumn"),
        ("reason", "autumn review, looked at every point"),
        ("review", "6"),
    ];
    let done = freeze(&ilma, &path, &page, &named).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
    let chart_page = ilma.get(&format!("/charts/{id}")).await;
    let words = chart_page.words("aside");
    for wanted in ["Limits of the autumn", "Ilma Tarvola", "review due", "this is segment"] {
        assert!(words.contains(wanted), "{wanted}: {words}");
    }
    // What was judged keeps its limits; the other lead saw another chart.
    same_as_from_scratch(&server, id).await;
    let stale = freeze(&rauno, &path, &form, &named).await;
    assert!(stale.text.contains("Somebody else has changed this chart"), "{}", stale.text);
    // The next check is held against the new limits.
    aino.run("R-02", &FINE).await;
    let newest = lines(&server.database, &format!("SELECT g.cause || ', ' || p.ordinal AS line FROM chart_points p JOIN segments g ON g.id = p.segment_id WHERE p.stream_id = {id} ORDER BY p.measured_at DESC LIMIT 1")).await;
    assert_eq!(newest, ["limits frozen, 0"]);
    // Action lines are no control limits.
    let lines_chosen = format!("{QUIET}&limits=action_lines&lower=-10&upper=10");
    let page = ilma.get(&format!("{path}?{lines_chosen}")).await;
    assert!(page.text.contains("Action lines are no control limits"), "{}", page.text);
    let named = [("name", "Owner's lines"), ("reason", "asked for by the owner of the line")];
    freeze(&ilma, &path, &page, &named).await;
    next_shift(&clock, &aino).await;
    aino.run("R-02", &FINE).await;
    let drawn = ilma.get(&format!("/charts/{id}?range=week")).await;
    assert!(drawn.text.contains("no control limits"), "{}", drawn.words("aside"));
    assert!(!drawn.text.contains("With these rules a false alarm"));
}

/// Sends the form that freezes, as it was shown, with more typed into it.
pub async fn freeze(bench: &Bench, path: &str, page: &Page, typed: &[(&str, &str)]) -> Page {
    let mut fields = page.whole_form("form[method=post][action$=study]");
    for (name, value) in typed {
        fields.insert((*name).to_owned(), (*value).to_owned());
    }
    let token = bench.get("/charts").await.attribute("input[name=form_token]", "value").unwrap();
    fields.insert("form_token".into(), token);
    bench.post(path, &fields).await
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_are_switched_one_by_one_for_what_comes() {
    let server = Server::demo().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let id = chart(&server, "R-02").await;
    let path = format!("/charts/{id}/rules");
    assert_eq!(aino.get(&path).await.status, StatusCode::FORBIDDEN);
    let page = ilma.get(&path).await;
    assert_eq!(page.all("select[name^=rule-]").len(), 17, "all but the two across levels");
    let before = bits(&server, id).await;
    let mut fields = page.whole_form("form[action$=rules]");
    fields.insert("rule-ewma".into(), "off".into());
    fields.insert("rule-eight_on_a_side".into(), "raises".into());
    // Only looked at: nothing is switched, and the mixture says that it was simulated.
    fields.insert("only_look".into(), "on".into());
    let looked = ilma.post(&path, &fields).await;
    assert!(looked.words(".intro").contains("(simulated)"), "{}", looked.words(".intro"));
    assert_eq!(looked.attribute("#f-rule-ewma option[selected]", "value").as_deref(), Some("off"));
    fields.remove("only_look");
    let silent = ilma.post(&path, &fields).await;
    assert!(silent.words("#f-reason-error").contains("Say why"), "{}", silent.text);
    fields.insert("reason".into(), "too many drifts by season".into());
    assert_eq!(ilma.post(&path, &fields).await.status, StatusCode::SEE_OTHER);
    // What was judged stays, also after a replay.
    let store = Store::new(&app_url(&server.database), 2).unwrap();
    let mut connection = store.connection().await.unwrap();
    replay::these(&mut connection, vec![StreamId(id)]).await.unwrap();
    assert_eq!(bits(&server, id).await, before);
    same_as_from_scratch(&server, id).await;
    // The next check, in the middle of the drift, is far above by the slow average, which is off now.
    let drifted =
        ["0.000", "5.004", "10.008", "20.014", "20.014", "20.014", "10.008", "10.008", "0.000"];
    aino.run("R-02", &drifted).await;
    let fired = lines(&server.database, &format!("SELECT f->>'criterion' AS line FROM chart_points p, jsonb_array_elements(p.firings) f WHERE p.stream_id = {id} AND p.id = (SELECT max(id) FROM chart_points WHERE stream_id = {id})")).await;
    assert!(fired.contains(&"eight_on_a_side".to_owned()), "{fired:?}");
    assert!(!fired.contains(&"ewma".to_owned()), "{fired:?}");
    // A ready-made choice takes the place of the rest.
    let mut fields = ilma.get(&path).await.whole_form("form[action$=rules]");
    fields.insert("preset".into(), "multirules".into());
    fields.insert("reason".into(), "as in the laboratory".into());
    ilma.post(&path, &fields).await;
    let raising = lines(&server.database, &format!("SELECT jsonb_array_elements_text(design->'raising') AS line FROM segments WHERE stream_id = {id} ORDER BY ordinal DESC, 1")).await;
    assert!(raising.contains(&"two_in_a_row_beyond2".to_owned()), "{raising:?}");
    assert!(!raising.contains(&"warning_beyond2".to_owned()), "a warning never raises");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposed_segment_is_confirmed_or_joined() {
    let (clock, server) = with_clock().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let id = chart(&server, "R-02").await;
    let first = number(
        &server.database,
        &format!("SELECT min(id) AS number FROM segments WHERE stream_id = {id}"),
    )
    .await;
    // Moved: a new segment, proposed until a lead has decided.
    let event =
        post(&aino, "/instruments/R-02/events", &[("kind", "moved"), ("note", "to bay 4")]).await;
    assert_eq!(event.status, StatusCode::SEE_OTHER, "{}", event.text);
    aino.run("R-02", &FINE).await;
    let second = number(
        &server.database,
        &format!("SELECT max(id) AS number FROM segments WHERE stream_id = {id}"),
    )
    .await;
    assert_ne!(first, second);
    let page = ilma.get(&format!("/charts/{id}")).await;
    assert!(page.text.contains("New segments to confirm"), "{}", page.text);
    assert!(!aino.get(&format!("/charts/{id}")).await.text.contains("New segments to confirm"));
    let settle = format!("/charts/{id}/segments/{second}");
    let silent = post(&ilma, &settle, &[("settle", "join"), ("reason", "")]).await;
    assert!(silent.text.contains("Say why it is joined"), "{}", silent.text);
    assert_eq!(
        post(&aino, &settle, &[("settle", "join"), ("reason", "x")]).await.status,
        StatusCode::FORBIDDEN
    );
    let joined = post(&ilma, &settle, &[("settle", "join"), ("reason", "put back at once")]).await;
    assert_eq!(joined.status, StatusCode::SEE_OTHER, "{}", joined.text);
    let of = number(&server.database, &format!("SELECT segment_id AS number FROM chart_points WHERE stream_id = {id} ORDER BY measured_at DESC LIMIT 1")).await;
    assert_eq!(of, first, "its point goes on with the segment before");
    same_as_from_scratch(&server, id).await;
    // The next check goes there, too, and the next segment has a number of its own.
    next_shift(&clock, &aino).await;
    aino.run("R-02", &FINE).await;
    assert_eq!(
        number(
            &server.database,
            &format!("SELECT count(*) AS number FROM chart_points WHERE segment_id = {second}")
        )
        .await,
        0
    );
    post(&aino, "/instruments/R-02/events", &[("kind", "moved"), ("note", "to bay 5")]).await;
    next_shift(&clock, &aino).await;
    aino.run("R-02", &FINE).await;
    let third = number(
        &server.database,
        &format!("SELECT max(id) AS number FROM segments WHERE stream_id = {id}"),
    )
    .await;
    let settle = format!("/charts/{id}/segments/{third}");
    post(&ilma, &settle, &[("settle", "confirm"), ("reason", "")]).await;
    let twice = post(&ilma, &settle, &[("settle", "join"), ("reason", "after all")]).await;
    assert!(twice.text.contains("confirmed already"), "{}", twice.text);
    let nothing = post(
        &ilma,
        &format!("/charts/{id}/segments/{first}"),
        &[("settle", "join"), ("reason", "x")],
    )
    .await;
    assert!(nothing.text.contains("has none before it"), "{}", nothing.text);
    assert_eq!(
        post(&ilma, &format!("/charts/{id}/segments/999999"), &[("settle", "confirm")])
            .await
            .status,
        StatusCode::NOT_FOUND
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn offset_and_gain_instead_of_a_chart_a_level() {
    let (clock, server) = with_clock().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let id = chart(&server, "R-02").await;
    let levels = number(&server.database, &format!("SELECT count(*) AS number FROM chart_points WHERE stream_id = {id} AND ordinal IS NOT NULL")).await;
    let path = format!("/charts/{id}/levels");
    assert_eq!(post(&aino, &path, &[("turn", "line-on")]).await.status, StatusCode::FORBIDDEN);
    let on = post(&ilma, &path, &[("turn", "line-on")]).await;
    assert_eq!(on.status, StatusCode::SEE_OTHER, "{}", on.text);
    let offset: i64 = on.location.unwrap().rsplit('/').next().unwrap().parse().unwrap();
    // What was there goes onto it; the charts of the levels stay and only inform.
    let there = number(&server.database, &format!("SELECT count(*) AS number FROM chart_points WHERE stream_id = {offset} AND ordinal IS NOT NULL")).await;
    assert_eq!(there, levels);
    let by_hand = lines(&server.database, &format!("SELECT p.check_id::text AS line FROM chart_points p JOIN chart_points a ON a.check_id = p.check_id AND a.stream_id = {id} JOIN chart_points b ON b.check_id = p.check_id AND b.stream_id = {id} + 1 WHERE p.stream_id = {offset} AND p.ordinal IS NOT NULL AND abs(p.value - (a.value + b.value) / 2) > 1e-9")).await;
    assert_eq!(by_hand, Vec::<String>::new(), "the offset of two levels is their mean");
    let raising = lines(&server.database, &format!("SELECT jsonb_array_length(design->'raising')::text AS line FROM segments WHERE stream_id = {id} ORDER BY ordinal DESC LIMIT 1")).await;
    assert_eq!(raising, ["0"]);
    // Limits for it by the same study.
    let study = format!("/charts/{offset}/study");
    let page = ilma.get(&format!("{study}?{QUIET}")).await;
    let done =
        freeze(&ilma, &study, &page, &[("name", "Offset"), ("reason", "two instead of ten")]).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
    // A check goes onto it, and a step of all levels is its signal, with words for the shift.
    let stepped =
        ["0.000", "5.014", "10.016", "20.016", "20.016", "20.016", "10.016", "10.016", "0.000"];
    let verdict = aino.run("R-02", &stepped).await;
    assert!(verdict.text.contains("Offset of all levels: "), "{}", verdict.words("main"));
    same_as_from_scratch(&server, offset).await;
    // A certificate that is put right moves the errors, and with them the offset.
    let mut owner = server.owner().await;
    let before = number(
        &server.database,
        &format!("SELECT (1000 * sum(value))::bigint AS number FROM chart_points WHERE stream_id = {offset}"),
    )
    .await;
    let moved =
        format!("UPDATE chart_points SET value = value + 2 WHERE stream_id IN ({id}, {id} + 1)");
    diesel::sql_query(moved).execute(&mut owner).await.unwrap();
    let store = Store::new(&app_url(&server.database), 2).unwrap();
    let mut connection = store.connection().await.unwrap();
    replay::these(&mut connection, vec![StreamId(id)]).await.unwrap();
    let after = format!(
        "SELECT (1000 * sum(value - 2))::bigint AS number FROM chart_points WHERE stream_id = {offset}"
    );
    assert!((number(&server.database, &after).await - before).abs() <= 1);
    same_as_from_scratch(&server, offset).await;
    let back =
        format!("UPDATE chart_points SET value = value - 2 WHERE stream_id IN ({id}, {id} + 1)");
    diesel::sql_query(back).execute(&mut owner).await.unwrap();
    replay::these(&mut connection, vec![StreamId(id)]).await.unwrap();
    // All levels in their own sigmas, for the rules across them.
    clock.pass(60);
    let all = post(&ilma, &path, &[("turn", "levels-on")]).await;
    assert_eq!(all.status, StatusCode::SEE_OTHER, "{}", all.text);
    let across: i64 = all.location.unwrap().rsplit('/').next().unwrap().parse().unwrap();
    let page = ilma.get(&format!("/charts/{across}")).await;
    assert!(page.words("h1").contains("each in its own sigmas"), "{}", page.words("h1"));
    assert!(page.find(".watch-band").is_none(), "no watcher over the furthest of several");
    // What lies behind is mentioned and is no work; the newest point and what comes raise.
    let fired = |column: &str| {
        format!(
            "SELECT DISTINCT f->>'criterion' AS line FROM chart_points p, jsonb_array_elements(p.{column}) f WHERE p.stream_id = {across}"
        )
    };
    let signals = format!("SELECT count(*) AS number FROM signals WHERE stream_id = {across}");
    let mentioned = lines(&server.database, &fired("advisory")).await;
    assert!(mentioned.contains(&"two_levels_beyond2".to_owned()), "{mentioned:?}");
    let raising = format!(
        "SELECT count(*) AS number FROM chart_points WHERE stream_id = {across} AND firings <> '[]'"
    );
    assert_eq!(number(&server.database, &raising).await, 1, "the newest says how it stands today");
    assert_eq!(number(&server.database, &signals).await, 1);
    next_shift(&clock, &aino).await;
    aino.run("R-02", &stepped).await;
    let raised = lines(&server.database, &fired("firings")).await;
    assert!(raised.contains(&"two_levels_beyond2".to_owned()), "{raised:?}");
    assert_eq!(number(&server.database, &signals).await, 1);
    // Off again: they keep what they have and take no more, and the levels raise what they raised.
    for word in ["levels-off", "line-off"] {
        assert_eq!(post(&ilma, &path, &[("turn", word)]).await.status, StatusCode::SEE_OTHER);
    }
    let kept = number(
        &server.database,
        &format!("SELECT count(*) AS number FROM chart_points WHERE stream_id = {offset}"),
    )
    .await;
    next_shift(&clock, &aino).await;
    aino.run("R-02", &FINE).await;
    assert_eq!(
        number(
            &server.database,
            &format!("SELECT count(*) AS number FROM chart_points WHERE stream_id = {offset}")
        )
        .await,
        kept
    );
    let raising = lines(&server.database, &format!("SELECT jsonb_array_length(design->'raising')::text AS line FROM segments WHERE stream_id = {id} ORDER BY ordinal DESC LIMIT 1")).await;
    assert_eq!(raising, ["2"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_signal_is_seen_explained_acted_on_and_closed() {
    let (clock, server) = with_clock().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let id = number(&server.database, "SELECT min(id) AS number FROM signals WHERE state = 'open'")
        .await;
    let path = format!("/signals/{id}");
    let step = format!("{path}/step");
    assert!(aino.get("/signals").await.text.contains(&format!("href=\"{path}\"")));
    // Forgotten: it comes back on the round, until somebody takes a step.
    assert!(aino.get("/").await.text.contains("Signals that nobody goes on with"));
    assert!(aino.get("/").await.text.contains(&format!("href=\"{path}\"")));
    post(&aino, &step, &[("step", "seen")]).await;
    assert!(aino.get(&path).await.words("h2").contains("its cause is looked for"));
    assert!(!aino.get("/").await.text.contains(&format!("href=\"{path}\"")));
    clock.pass(73 * 3_600);
    // After three days it is among those that wait again; the round shows the longest of them.
    let rows = aino.get("/signals").await.all("tbody tr");
    let forgotten = rows.iter().filter(|row| row.contains("no step since")).count();
    assert_eq!(forgotten, rows.len());
    let shown = aino.get("/").await.all(".card-strip .signal-lines li").len();
    assert_eq!(shown, forgotten.min(5));
    // Only a lead closes, and only with a cause.
    assert_eq!(
        post(&aino, &step, &[("step", "close"), ("closing", "ok")]).await.status,
        StatusCode::FORBIDDEN
    );
    let early = post(&ilma, &step, &[("step", "close"), ("closing", "quiet again")]).await;
    assert_eq!(early.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(early.words("p.field-error").contains("Assign a cause first"), "{}", early.text);
    assert!(early.text.contains("quiet again"), "what was typed is kept");
    let none = post(&aino, &step, &[("step", "cause"), ("cause", ""), ("cause_words", "hm")]).await;
    assert!(none.words("#cause-error").contains("Choose a cause"));
    // The list of causes is the site's own.
    let added = post(&ilma, "/signal-causes", &[("name", "Pan cover swapped")]).await;
    assert_eq!(added.status, StatusCode::SEE_OTHER);
    let twice = post(&ilma, "/signal-causes", &[("name", "pan COVER swapped")]).await;
    assert!(twice.words("#name-error").contains("already"));
    let cause =
        number(&server.database, "SELECT max(id) AS number FROM signal_causes").await.to_string();
    let noted =
        post(&aino, &step, &[("step", "cause"), ("cause", &cause), ("cause_words", "found it")])
            .await;
    assert_eq!(noted.status, StatusCode::SEE_OTHER, "{}", noted.text);
    // Taken off the list it stays with the signal, and is offered no more.
    post(&ilma, &format!("/signal-causes/{cause}/retire"), &[]).await;
    let page = aino.get(&path).await;
    assert!(page.words(".work-steps").contains("Pan cover swapped"));
    assert!(!page.all("#cause option").iter().any(|name| name == "Pan cover swapped"));
    let gone = post(&aino, &step, &[("step", "cause"), ("cause", &cause)]).await;
    assert!(gone.words("p.field-error").contains("no longer on the list"), "{}", gone.text);
    let silent = post(&aino, &step, &[("step", "acted"), ("done", "")]).await;
    assert!(silent.words("#done-error").contains("Say what was done"));
    post(&aino, &step, &[("step", "acted"), ("done", "put the old cover back")]).await;
    post(&ilma, &step, &[("step", "close"), ("closing", "quiet again")]).await;
    let closed = aino.get(&path).await;
    let words = closed.words(".work-steps");
    for wanted in [
        "Seen",
        "Cause: Pan cover swapped : found it",
        "Done : put the old cover back",
        "Closed : quiet again",
    ] {
        assert!(words.contains(wanted), "{wanted}: {words}");
    }
    let late = post(&aino, &step, &[("step", "acted"), ("done", "more")]).await;
    assert!(late.words("p.field-error").contains("closed"), "{}", late.text);
    post(&ilma, &step, &[("step", "reopen"), ("closing", "it is back")]).await;
    assert!(aino.get(&path).await.words(".work-steps").contains("Opened again : it is back"));
    // A replay leaves what people did.
    let stream = number(
        &server.database,
        &format!("SELECT stream_id AS number FROM signals WHERE id = {id}"),
    )
    .await;
    let store = Store::new(&app_url(&server.database), 2).unwrap();
    let mut connection = store.connection().await.unwrap();
    replay::these(&mut connection, vec![StreamId(stream)]).await.unwrap();
    assert!(aino.get(&path).await.words("h2").contains("cause known"));
    // The time after which one comes back is the site's own, too.
    let bad = post(&ilma, "/signal-causes/reminder", &[("hours", "0")]).await;
    assert!(bad.words("#hours-error").contains("from 1 to 2000"));
    assert_eq!(bad.attribute("#hours", "value").as_deref(), Some("0"));
    post(&ilma, "/signal-causes/reminder", &[("hours", "2")]).await;
    assert!(aino.get("/signals").await.words(".intro").contains("2 hours"));
    let table = aino.get("/export/signals.csv").await;
    assert!(
        table.text.lines().count() > 1 && table.text.contains("cause_assigned"),
        "{}",
        table.text
    );
    assert_eq!(aino.get("/signals/999999").await.status, StatusCode::NOT_FOUND);
}

/// A wall that is open at one process hears of a check at another.
#[tokio::test(flavor = "multi_thread")]
async fn the_wall_is_live_across_processes() {
    let server = Server::demo().await;
    let other = Server::over(server.database.clone(), now()).await;
    let aino = Bench::aino(&server.base).await;
    let viewer = Bench::signed_in(&other.base, "veera", "avoin-ovi-8").await;
    let wall = viewer.get("/wall").await;
    let cards = wall.all(".wall-card").len();
    assert!(cards > 10, "{cards}");
    assert!(wall.find(".wall-card:first-child .mark.signal").is_some(), "worst first");
    let area = wall.attribute("nav.ranges a:nth-child(2)", "href").unwrap();
    assert!(viewer.get(&area).await.all(".wall-card").len() < cards);
    assert_eq!(viewer.get("/wall?area=999").await.all(".wall-card").len(), cards);
    let mut told = viewer.events("/wall/events").await;
    // The connection that listens says so first; only then is it sure to hear.
    assert_eq!(told.next(Duration::from_secs(20)).await, "all");
    aino.run("R-02", &FINE).await;
    let id = chart(&server, "R-02").await.to_string();
    let mut heard = Vec::new();
    while !heard.contains(&id) {
        heard.push(told.next(Duration::from_secs(20)).await);
    }
    let fresh = viewer.get("/wall/cards").await;
    assert_eq!(fresh.all(".wall-card").len(), cards);
    assert!(fresh.find("nav").is_none(), "the cards alone");
}

/// What will fail stands in one list with its intervals, as a table and as a calendar, and says what the chart says.
#[tokio::test(flavor = "multi_thread")]
async fn what_will_fail() {
    let server = Server::demo().await;
    let bench = ilma(&server).await;
    let page = bench.get("/forecasts").await;
    let rows = page.all("table.forecasts tbody tr");
    let tank = rows.iter().position(|row| row.contains("R-02") && row.contains("20 kg")).unwrap();
    assert_eq!(rows[tank].matches("95 %").count(), 2, "{rows:?}");
    // The one that crosses later stands after it.
    let other = rows.iter().position(|row| row.contains("R-02") && row.contains("10 kg")).unwrap();
    assert!(tank < other, "{rows:?}");
    let chart = bench.get(&format!("/charts/{}", chart(&server, "R-02").await + 1)).await;
    let told = chart.words(".card-strip");
    let crossing = told.split("tolerance about ").nth(1).unwrap().split(" (").next().unwrap();
    assert!(rows[tank].contains(crossing), "{crossing}: {}", rows[tank]);

    let csv = bench.get("/export/forecasts.csv").await;
    let mut lines = csv.text.lines().filter(|line| line.contains("R-02"));
    let first = lines.next().unwrap();
    assert!(first.contains("Error at 20 kg") && lines.count() == 1, "{}", csv.text);
    let calendar = bench.get("/export/forecasts.ics").await;
    // Lines are folded at 75 octets (RFC 5545, 3.1).
    let text = calendar.text.replace("\r\n ", "");
    let events: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("SUMMARY:")).collect();
    assert_eq!(events.len(), rows.len());
    assert!(
        events[0].contains("R-02") && events[0].contains("may be outside from here on"),
        "{events:?}"
    );
    assert!(text.contains("95 %"), "{}", text);
}

/// Whose fault it is: with what one scale alone reads, nobody is blamed for its drift; the matrix has a strip for each pair that was
/// read and none for the others.
#[tokio::test(flavor = "multi_thread")]
async fn whose_fault() {
    let server = Server::demo().await;
    let bench = ilma(&server).await;
    let page = bench.get("/culprit").await;
    assert_eq!(page.status, StatusCode::OK);
    let said = page.words(".card-strip");
    assert!(said.contains("Probability that nothing changed"), "{said}");
    let strips = page.all("table.culprit-matrix svg.pair-strip").len();
    let rows = page.all("table.culprit-matrix tbody tr");
    assert!(strips >= rows.len() && rows.len() >= 5, "{strips} strips in {} rows", rows.len());
    // Who and where stand beside, each with a strip of its own.
    assert!(rows.iter().any(|row| row.starts_with("person Aino")), "{rows:?}");
    assert!(rows.iter().any(|row| row.starts_with("area ")), "{rows:?}");
    // The tank scale's drift is no secret: it is among the explanations, or its standard is.
    let odds = page.all("table.round tbody tr").join("\n");
    assert!(odds.contains("R-02"), "{odds}");
}

/// Every forecast that was told is scored: those of the tank scale's drift are not over, and the straight line stands beside
/// them; as a table each has what the line would have told.
#[tokio::test(flavor = "multi_thread")]
async fn how_right_the_forecasts_were() {
    let server = Server::demo().await;
    let bench = ilma(&server).await;
    let page = bench.get("/forecasts/score").await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.text);
    let shares = page.all("table.round:first-of-type tbody tr");
    assert!(shares.iter().any(|row| row.contains("straight line")), "{shares:?}");
    let table = bench.get("/export/forecast_scores.json").await.text;
    let table: serde_json::Value = serde_json::from_str(&table).unwrap();
    let tank: Vec<&serde_json::Value> =
        table.as_array().unwrap().iter().filter(|row| row["instrument"] == "R-02").collect();
    assert!(tank.len() >= 3, "{table}");
    // What is told at each check lies ahead of it.
    for row in &tank {
        assert!(row["earliest"].as_str() > row["told_at"].as_str(), "{row}");
        assert_eq!(row["line_outcome"].is_null(), row["line_at"].is_null(), "{row}");
    }
    assert!(tank.iter().any(|row| row["outcome"] == "open"), "{table}");
    assert!(
        page.all("table.round tbody tr").iter().any(|row| row.contains("its time is not over")),
        "{}",
        page.text
    );
}

/// A drift that may take the scale outside before its next check makes it due in each shift, where its plan says so; after an
/// adjustment the forecast speaks of nothing any more.
#[tokio::test(flavor = "multi_thread")]
async fn a_forecast_makes_a_check_due() {
    let server = Server::demo().await;
    let mut owner = server.owner().await;
    let aino = Bench::aino(&server.base).await;
    let with = async |owner: &mut diesel_async::AsyncPgConnection, triggers: &str| {
        let query = format!(
            "SET session_replication_role = replica;
             UPDATE plan_versions v SET due_rule = 'each_month', due_triggers = '{triggers}'
             FROM plans p JOIN instruments i ON i.id = p.instrument_id
             WHERE p.id = v.plan_id AND i.tag = 'R-02'"
        );
        diesel_async::SimpleAsyncConnection::batch_execute(owner, &query).await.unwrap();
    };
    let due = async || {
        let rows = aino.get("/").await.all("table.round tbody tr");
        rows.into_iter().find(|row| row.contains("R-02"))
    };
    with(&mut owner, "{}").await;
    assert_eq!(due().await, None, "once a month, and done today");
    with(&mut owner, "{forecast}").await;
    // The same verdict with a check outside that may come so many hours after it.
    let soonest = async |owner: &mut diesel_async::AsyncPgConnection, hours: u32| {
        let query = format!(
            "SET session_replication_role = replica;
        UPDATE results r SET verdict = jsonb_set(verdict, '{{reasons}}', (SELECT jsonb_agg(CASE
            WHEN reason->>'kind' = 'drifting' THEN jsonb_set(reason, '{{drift,first_check,earliest}}', to_jsonb(c.opened_at + interval '{hours} hours'))
            ELSE reason END) FROM jsonb_array_elements(r.verdict->'reasons') reason))
        FROM checks c JOIN instruments i ON i.id = c.instrument_id
        WHERE r.check_id = c.id AND i.tag = 'R-02' AND r.verdict->'reasons' @> '[{{\"kind\": \"drifting\"}}]'"
        );
        diesel_async::SimpleAsyncConnection::batch_execute(owner, &query).await.unwrap();
    };
    soonest(&mut owner, 100).await;
    assert_eq!(due().await, None, "days away: not yet");
    soonest(&mut owner, 9).await;
    let row = due().await.expect("it may be outside before its next check");
    assert!(row.contains("a drift may take it outside"), "{row}");
    // What moved the level since speaks of another level.
    let moved = "INSERT INTO instrument_events (instrument_id, kind, note, affects_measurement, at, person_id)
        SELECT id, 'repaired', 'new cell', true, now(), (SELECT min(id) FROM people) FROM instruments WHERE tag = 'R-02'";
    let moved = moved.replace("now()", &format!("'{}'::timestamptz", now()));
    diesel_async::SimpleAsyncConnection::batch_execute(&mut owner, &moved).await.unwrap();
    assert_eq!(due().await, None);
}

/// The leads are told of a drift by the check that tells it first, and by no other of the same level.
#[tokio::test(flavor = "multi_thread")]
async fn a_drift_is_told_to_the_leads_once() {
    let (clock, server) = with_clock().await;
    let mut owner = server.owner().await;
    // As if no check had told it yet.
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut owner,
        "SET session_replication_role = replica;
         UPDATE results r SET verdict = jsonb_set(verdict, '{reasons}', (SELECT coalesce(jsonb_agg(reason), '[]')
             FROM jsonb_array_elements(r.verdict->'reasons') reason WHERE reason->>'kind' <> 'drifting'))
         FROM checks c JOIN instruments i ON i.id = c.instrument_id WHERE r.check_id = c.id AND i.tag = 'R-02'",
    )
    .await
    .unwrap();
    let told =
        "SELECT title || ': ' || words AS line FROM notices WHERE kind = 'drifting' ORDER BY id";
    assert!(lines(&server.database, told).await.is_empty());
    let drifted =
        ["0.000", "5.003", "10.007", "20.015", "20.016", "20.015", "10.008", "10.007", "0.000"];
    for _ in 0..2 {
        let aino = Bench::aino(&server.base).await;
        aino.run("R-02", &drifted).await;
        let told = lines(&server.database, told).await;
        assert_eq!(told.len(), 1, "{told:?}");
        assert!(told[0].starts_with("Tank scale R-02 is drifting: Error at 20 kg: "), "{told:?}");
        assert!(told[0].contains(". Error at 10 kg: "), "the later one behind it: {told:?}");
        assert!(told[0].contains(" g a week (") && told[0].contains("since about"), "{told:?}");
        clock.pass(8 * 3_600);
    }
    // The same sentence on the page of the instrument, and where it leads on the wall.
    let ilma = ilma(&server).await;
    let page = ilma.get("/instruments/R-02").await;
    assert!(page.words("body").contains(" g a week ("), "{}", page.words("body"));
    let wall = ilma.get("/wall").await.words("body");
    assert!(wall.contains("its level reaches the tolerance about"), "{wall}");
}

/// What is said of whose fault a change is, is looked at when a signal comes, and kept as it was said.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_said_is_kept() {
    let server = Server::demo().await;
    let mut owner = server.owner().await;
    let bench = ilma(&server).await;
    let check = number(
        &server.database,
        "SELECT max(c.id) AS number FROM checks c JOIN instruments i ON i.id = c.instrument_id WHERE i.tag = 'R-02'",
    )
    .await;
    vaaka_store::culprits::say(&mut owner, vaaka_store::ids::CheckId(check), now()).await.unwrap();
    vaaka_store::culprits::say(&mut owner, vaaka_store::ids::CheckId(check), now()).await.unwrap();
    let said = vaaka_store::culprits::said(&mut owner, 9).await.unwrap();
    let newest = &said[0];
    let explanations = newest.explanations().unwrap();
    assert!(explanations.iter().any(|one| one.name.contains("R-02")), "{explanations:?}");
    for one in &explanations {
        assert!(one.since_low <= one.since, "{one:?}");
    }
    let page = bench.get("/culprit").await;
    // Its line leads to the verdict at which it was said.
    let checks = page.all("table.round td a[href$='/verdict']");
    assert!(checks.iter().any(|tag| tag.contains("R-02")), "{checks:?}");
    assert!(page.words("body").contains("as it was said then"), "{}", page.text);
    // The same again is not said twice.
    let again = said.iter().filter(|one| one.at == newest.at).count();
    assert_eq!(again, 1, "{said:?}");
    let kept = diesel_async::SimpleAsyncConnection::batch_execute(
        &mut owner,
        "DELETE FROM culprit_findings",
    )
    .await;
    assert!(kept.is_err(), "what was said stands");
}

/// What says that it cannot be told whether it is F-14 or GB-1, and which check would tell.
fn cannot_tell(instrument: &str, standard: &str) -> String {
    format!(
        "INSERT INTO culprit_findings (at, check_id, finding, none, reads, explanations, instrument_id, standard_id,
             differs_by, checks)
         SELECT '{}'::timestamptz - interval '1 hour', (SELECT max(id) FROM checks), 'cannot_tell', 0.1, 900,
             '[{{\"kind\": \"instrument\", \"name\": \"F-14\", \"probability\": 0.55, \"named\": false, \"course\": \"step\",
                \"since\": null, \"size\": 2.1}},
               {{\"kind\": \"standard\", \"name\": \"GB-1 (VL-0112)\", \"probability\": 0.4, \"named\": false,
                \"course\": \"step\", \"since\": null, \"size\": -2.0}}]',
             i.id, s.id, 2.0, 4 FROM instruments i, standards s WHERE i.tag = '{instrument}' AND s.tag = '{standard}'",
        now()
    )
}

/// An ordinary check of the pair that would tell is looked at as well as a trial; one of another pair is not.
#[tokio::test(flavor = "multi_thread")]
async fn an_ordinary_check_tells_too() {
    let server = Server::demo().await;
    let mut owner = server.owner().await;
    let aino = Bench::aino(&server.base).await;
    let asked = || {
        number(
            &server.database,
            "SELECT count(*) AS number FROM jobs WHERE work ->> 'kind' = 'culprit' AND state = 'waiting'",
        )
    };
    let standard = lines(
        &server.database,
        "SELECT s.tag AS line FROM checks c JOIN instruments i ON i.id = c.instrument_id
             JOIN certificates e ON e.id = c.certificate_id JOIN standard_lots l ON l.id = e.lot_id
             JOIN standards s ON s.id = l.standard_id
         WHERE i.tag = 'R-02' AND c.state = 'concluded' ORDER BY c.id DESC LIMIT 1",
    )
    .await;
    let say = cannot_tell("F-14", &standard[0]);
    diesel_async::SimpleAsyncConnection::batch_execute(&mut owner, &say).await.unwrap();
    aino.run_exactly("R-05").await;
    assert_eq!(asked().await, 0, "another instrument, and nothing new of its own");
    let say = cannot_tell("R-02", &standard[0]);
    diesel_async::SimpleAsyncConnection::batch_execute(&mut owner, &say).await.unwrap();
    aino.run_exactly("R-02").await;
    assert_eq!(asked().await, 1);
}

/// The check that would tell whose fault it is stands on the round, and begins as a trial with the standard that is named; what
/// is not asked for any more is refused.
#[tokio::test(flavor = "multi_thread")]
async fn the_check_that_would_tell_is_offered() {
    let server = Server::demo().await;
    let mut owner = server.owner().await;
    let aino = Bench::aino(&server.base).await;
    assert!(!aino.get("/").await.text.contains("would tell whose fault it is"));
    let said = cannot_tell("F-14", "GB-2");
    diesel_async::SimpleAsyncConnection::batch_execute(&mut owner, &said).await.unwrap();
    let round = aino.get("/").await;
    let card =
        round.all("aside section").into_iter().find(|one| one.contains("would tell")).unwrap();
    for words in
        ["F-14 with GB-2", "instrument F-14", "standard GB-1", "About 4 such checks", "4 min"]
    {
        assert!(card.contains(words), "{words}: {card}");
    }
    let key = uuid::Uuid::new_v4().to_string();
    let ask = |standard: &'static str| [("instrument", "F-14"), ("standard", standard)];
    let wrong = post(&aino, "/culprit/trial", &[&ask("GB-1")[..], &[("key", &key)]].concat()).await;
    assert!(wrong.text.contains("not asked for any more"), "{}", wrong.text);
    let begun = post(&aino, "/culprit/trial", &[&ask("GB-2")[..], &[("key", &key)]].concat()).await;
    assert_eq!(begun.status, StatusCode::SEE_OTHER, "{}", begun.text);
    let check = number(
        &server.database,
        "SELECT c.id AS number FROM checks c JOIN certificates e ON e.id = c.certificate_id
             JOIN standard_lots l ON l.id = e.lot_id JOIN standards s ON s.id = l.standard_id
         WHERE c.purpose = 'trial' AND c.state = 'open' AND s.tag = 'GB-2'",
    )
    .await;
    assert_eq!(begun.location.as_deref(), Some(format!("/checks/{check}").as_str()));
    // The same again goes on with it; its own check of the shift waits until it is over.
    let other = uuid::Uuid::new_v4().to_string();
    let again =
        post(&aino, "/culprit/trial", &[&ask("GB-2")[..], &[("key", &other)]].concat()).await;
    assert_eq!(again.location, begun.location);
    let viewer = Bench::signed_in(&server.base, "veera", "avoin-ovi-8").await;
    assert!(!viewer.get("/").await.text.contains("Start the trial"));
}
