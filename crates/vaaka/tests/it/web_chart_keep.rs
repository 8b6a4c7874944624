//! What a chart keeps while people work with it: signals that come back, levels that are left out, blocks of
//! points, connections that compile nothing.

use reqwest::StatusCode;
use vaaka_store::Store;

use crate::client::{Bench, Page};
use crate::support::{Server, app_url};
use crate::web_chart_room::{
    FINE, bits, chart, ilma, lines, next_shift, number, post, with_clock, wrong_blocks,
};

/// Readings of the tank scale a good deal too high.
const HIGH: [&str; 9] =
    ["0.000", "5.016", "10.018", "20.018", "20.018", "20.018", "10.018", "10.018", "0.000"];

/// The same much too low.
const LOW: [&str; 9] =
    ["0.000", "4.986", "9.984", "19.984", "19.984", "19.984", "9.984", "9.984", "0.000"];

/// The newest signal of a chart.
async fn newest_signal(server: &Server, id: i64) -> i64 {
    let query = format!(
        "SELECT coalesce(max(id), 0) AS number FROM signals
         WHERE stream_id = {id} AND state <> 'withdrawn'"
    );
    number(&server.database, &query).await
}

async fn state(server: &Server, signal: i64) -> String {
    let query = format!("SELECT state AS line FROM signals WHERE id = {signal}");
    lines(&server.database, &query).await.remove(0)
}

/// Assigns a cause and closes it.
async fn close(lead: &Bench, signal: i64) {
    let step = format!("/signals/{signal}/step");
    let cause = post(lead, &step, &[("step", "cause"), ("cause", "3"), ("cause_words", "")]).await;
    assert_eq!(cause.status, StatusCode::SEE_OTHER, "{}", cause.text);
    let done = post(lead, &step, &[("step", "close"), ("closing", "cover put right")]).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
}

/// One signal until eight quiet points have followed: closed before that, it comes back when its chart goes
/// on signalling, and after that it stays closed and another is opened.
#[tokio::test(flavor = "multi_thread")]
async fn a_closed_signal_comes_back_when_its_chart_goes_on() {
    let (clock, server) = with_clock().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let id = chart(&server, "R-02").await;
    aino.run("R-02", &HIGH).await;
    let signal = newest_signal(&server, id).await;
    assert_ne!(state(&server, signal).await, "closed");
    let page = ilma.get(&format!("/signals/{signal}")).await;
    assert!(page.words("aside").contains("it comes back by itself"), "{}", page.words("aside"));
    close(&ilma, signal).await;
    assert_eq!(state(&server, signal).await, "closed");
    assert!(!aino.get("/signals").await.text.contains(&format!("/signals/{signal}\"")));
    next_shift(&clock, &aino).await;
    aino.run("R-02", &HIGH).await;
    assert_eq!(newest_signal(&server, id).await, signal, "it is the same one");
    assert_eq!(state(&server, signal).await, "cause_assigned");
    assert!(aino.get("/signals").await.text.contains(&format!("/signals/{signal}\"")));
    let words = aino.get(&format!("/signals/{signal}")).await.words(".work-steps");
    assert!(words.contains("Came back: the chart went on signalling"), "{words}");
    assert!(words.contains("by itself"), "{words}");
    let chain = format!(
        "SELECT action AS line FROM audit_entries WHERE chain = 'signal:{signal}' ORDER BY sequence"
    );
    let actions = lines(&server.database, &chain).await;
    assert_eq!(actions.last().map(String::as_str), Some("signal_came_back"), "{actions:?}");
    // A replay that finds nothing newer wakes nobody.
    close(&ilma, signal).await;
    let check = format!(
        "SELECT check_id AS number FROM chart_points WHERE stream_id = {id} AND ordinal = 3"
    );
    let check = number(&server.database, &check).await;
    let mark = format!("/charts/{id}/points/{check}/mark");
    post(&ilma, &mark, &[("mark", "exclude"), ("reason", "knocked")]).await;
    post(&ilma, &mark, &[("mark", "include"), ("reason", "it was another")]).await;
    assert_eq!(state(&server, signal).await, "closed");
    assert_eq!(lines(&server.database, &chain).await.len(), actions.len() + 2);
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
}

async fn mark(lead: &Bench, chart: i64, check: i64, kind: &str) -> Page {
    let path = format!("/charts/{chart}/points/{check}/mark");
    post(lead, &path, &[("mark", kind), ("reason", "wrong weight")]).await
}

/// A level that is left out takes no part in offset and gain. Of the tank scale's two levels one makes no
/// line: then the check is left out with it, and taken in with it, and by nothing else.
#[tokio::test(flavor = "multi_thread")]
async fn a_level_left_out_takes_no_part_in_offset_and_gain() {
    let (_, server) = with_clock().await;
    let ilma = ilma(&server).await;
    let id = chart(&server, "R-02").await;
    let on = post(&ilma, &format!("/charts/{id}/levels"), &[("turn", "line-on")]).await;
    let offset: i64 = on.location.unwrap().rsplit('/').next().unwrap().parse().unwrap();
    let check = format!(
        "SELECT check_id AS number FROM chart_points WHERE stream_id = {id} AND ordinal = 40"
    );
    let check = number(&server.database, &check).await;
    let before = bits(&server, offset).await;
    let out = |chart: i64| {
        format!(
            "SELECT excluded::int::bigint AS number FROM chart_points
             WHERE stream_id = {chart} AND check_id = {check}"
        )
    };
    assert_eq!(mark(&ilma, id, check, "exclude").await.status, StatusCode::SEE_OTHER);
    for chart in [offset, offset + 1] {
        assert_eq!(number(&server.database, &out(chart)).await, 1);
    }
    // Its own page says why, and offers no way that would lead nowhere.
    let page = ilma.get(&format!("/charts/{offset}/points/{check}")).await;
    assert!(page.words("aside").contains("Left out with its levels"), "{}", page.words("aside"));
    assert!(page.find("button[value=include]").is_none());
    assert_eq!(
        mark(&ilma, offset, check, "include").await.status,
        StatusCode::UNPROCESSABLE_ENTITY
    );
    // Somebody leaves the other level out, too: the offset comes back only with a line.
    mark(&ilma, id + 1, check, "exclude").await;
    mark(&ilma, id, check, "include").await;
    assert_eq!(number(&server.database, &out(offset)).await, 1);
    mark(&ilma, id + 1, check, "include").await;
    assert_eq!(number(&server.database, &out(offset)).await, 0);
    assert_eq!(bits(&server, offset).await, before);
    // What a lead left out on the chart itself stays out whatever becomes of the levels.
    mark(&ilma, offset, check, "exclude").await;
    mark(&ilma, id, check, "exclude").await;
    mark(&ilma, id, check, "include").await;
    assert_eq!(number(&server.database, &out(offset)).await, 1);
    assert_eq!(mark(&ilma, offset, check, "include").await.status, StatusCode::SEE_OTHER);
    assert_eq!(bits(&server, offset).await, before);
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
}

/// Blocks follow whatever is done to points: a check, its voiding, a new certificate's segment.
#[tokio::test(flavor = "multi_thread")]
async fn blocks_follow_their_points() {
    let (clock, server) = with_clock().await;
    let aino = Bench::aino(&server.base).await;
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new(), "the demo's history has them");
    let blocks = "SELECT sum(count)::bigint AS number FROM chart_blocks";
    let before = number(&server.database, blocks).await;
    for _ in 0..3 {
        aino.run("R-02", &FINE).await;
        next_shift(&clock, &aino).await;
    }
    assert_eq!(number(&server.database, blocks).await, before + 6, "two charts, three checks");
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
    let mut owner = server.owner().await;
    let id = chart(&server, "R-02").await;
    for change in [
        format!("UPDATE chart_points SET ordinal = NULL WHERE stream_id = {id} AND ordinal < 11"),
        format!(
            "UPDATE chart_points SET value = value + 1 WHERE stream_id = {id} AND ordinal > 90"
        ),
        format!("UPDATE chart_points SET ordinal = ordinal + 1000 WHERE stream_id = {id}"),
    ] {
        diesel_async::RunQueryDsl::execute(diesel::sql_query(change), &mut owner).await.unwrap();
        assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
    }
    // The application reads them and cannot write them.
    let store = Store::new(&app_url(&server.database), 1).unwrap();
    let mut connection = store.connection().await.unwrap();
    for refused in [
        "DELETE FROM chart_blocks",
        "UPDATE chart_blocks SET mean = 0",
        "SELECT refresh_chart_blocks(ARRAY[1]::bigint[], ARRAY[0]::bigint[])",
    ] {
        let done =
            diesel_async::RunQueryDsl::execute(diesel::sql_query(refused), &mut connection).await;
        assert!(done.unwrap_err().to_string().contains("permission denied"), "{refused}");
    }
}

/// Which points were written, by the transaction that wrote each last.
async fn written(server: &Server, id: i64) -> Vec<String> {
    let query = format!(
        "SELECT ordinal || ':' || xmin AS line FROM chart_points
         WHERE stream_id = {id} AND ordinal IS NOT NULL ORDER BY ordinal"
    );
    lines(&server.database, &query).await
}

/// A replay that finds nothing new writes nothing, and one from a point on leaves those before it alone.
#[tokio::test(flavor = "multi_thread")]
async fn a_replay_writes_only_what_changed() {
    let (_, server) = with_clock().await;
    let ilma = ilma(&server).await;
    let id = chart(&server, "R-02").await;
    let store = Store::new(&app_url(&server.database), 1).unwrap();
    let mut connection = store.connection().await.unwrap();
    let before = written(&server, id).await;
    vaaka_store::replay::these(&mut connection, vec![vaaka_store::ids::StreamId(id)])
        .await
        .unwrap();
    assert_eq!(written(&server, id).await, before);
    let check = format!(
        "SELECT check_id AS number FROM chart_points WHERE stream_id = {id} AND ordinal = 100"
    );
    let check = number(&server.database, &check).await;
    assert_eq!(mark(&ilma, id, check, "exclude").await.status, StatusCode::SEE_OTHER);
    let after = written(&server, id).await;
    assert_eq!(after[..100], before[..100]);
    assert!(after[100..].iter().zip(&before[100..]).all(|(new, old)| new != old));
}

/// Turned off and on again, a chart of all levels takes in what happened between, and makes no work of it.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_between_is_no_work() {
    let (clock, server) = with_clock().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    let id = chart(&server, "R-02").await;
    let path = format!("/charts/{id}/levels");
    let on = post(&ilma, &path, &[("turn", "levels-on")]).await;
    let across: i64 = on.location.unwrap().rsplit('/').next().unwrap().parse().unwrap();
    post(&ilma, &path, &[("turn", "levels-off")]).await;
    next_shift(&clock, &aino).await;
    let signals = format!("SELECT count(*) AS number FROM signals WHERE stream_id = {across}");
    let before = number(&server.database, &signals).await;
    for readings in [&HIGH, &FINE] {
        aino.run("R-02", readings).await;
        next_shift(&clock, &aino).await;
    }
    post(&ilma, &path, &[("turn", "levels-on")]).await;
    assert_eq!(number(&server.database, &signals).await, before);
    let mentioned = format!(
        "SELECT jsonb_array_length(advisory)::bigint AS number FROM chart_points
         WHERE stream_id = {across} ORDER BY measured_at DESC OFFSET 1 LIMIT 1"
    );
    assert!(number(&server.database, &mentioned).await > 0, "it is mentioned");
    // On the other side, so that it is no evidence for what went before.
    aino.run("R-02", &LOW).await;
    assert_eq!(number(&server.database, &signals).await, before + 1, "what comes is work");
    // No watcher runs over the furthest of several levels, however far the chart looks back.
    for range in ["month", "all"] {
        let page = ilma.get(&format!("/charts/{across}?range={range}")).await;
        assert!(page.find(".watch-band").is_none(), "{range}");
    }
}

/// PostgreSQL would take longer to compile the chart of ten years than to run it.
#[tokio::test(flavor = "multi_thread")]
async fn connections_compile_no_queries() {
    #[derive(diesel::QueryableByName)]
    struct Setting {
        #[diesel(sql_type = diesel::sql_types::Text)]
        jit: String,
    }
    let server = Server::demo().await;
    let store = Store::new(&app_url(&server.database), 2).unwrap();
    let (mut first, mut second) = (store.connection().await.unwrap(), store.spare().await.unwrap());
    for connection in [&mut first, &mut second] {
        let query = diesel::sql_query("SELECT current_setting('jit') AS jit");
        let found: Setting =
            diesel_async::RunQueryDsl::get_result(query, connection).await.unwrap();
        assert_eq!(found.jit, "off");
    }
}
