//! The story of a check over HTTP: from the round to the verdict and the chart.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use reqwest::StatusCode;
use vaaka_store::ids::{PersonId, PlanVersionId};
use vaaka_store::plans;
use vaaka_store::rows::{PlanPointRow, PlanVersion};
use vaaka_store::schema::{plan_points, plan_versions};

use crate::client::{Bench, plan_version};
use crate::support::{Server, now};

/// What the tank scale shows when it has drifted far, but not out: 20 kg read 15 g too much.
const DRIFTED: [&str; 9] =
    ["0.000", "5.003", "10.007", "20.015", "20.016", "20,015", "10.008", "10.007", "0.000"];
/// The same scale out of tolerance at 20 kg.
const OUT: [&str; 9] =
    ["0.000", "5.003", "10.007", "20.025", "20.026", "20.025", "10.008", "10.007", "0.000"];

#[tokio::test(flavor = "multi_thread")]
async fn from_the_round_to_the_verdict_and_the_chart() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let round = bench.get("/").await;
    let heading = round.words("h1");
    assert!(heading.starts_with("Round of Tuesday night:"), "{heading}");
    assert!(round.words("table.round").contains("Tank scale R-02"));
    assert!(
        round.words("aside").contains("Tank scale R-02 is drifting"),
        "{}",
        round.words("aside")
    );

    let verdict = bench.run("R-02", &DRIFTED).await;
    assert_eq!(verdict.status, StatusCode::OK);
    assert_eq!(
        verdict.words("h1"),
        "Tank scale R-02: Within tolerance, and its error at 20 kg is drifting"
    );
    assert!(verdict.words(".action p").starts_with("Use it, and adjust nothing."));
    let answers = verdict.all(".answer");
    assert_eq!(answers.len(), 3);
    assert!(answers[1].contains("Yes: all"), "{answers:?}");
    assert!(
        answers[2].contains(" g a week (") && answers[2].contains("since about"),
        "{answers:?}"
    );
    // Mean of the three readings at 20 kg, against 20.00021 kg: (15 + 16 + 15)/3 − 0.21 = 15.12.
    let row = verdict
        .all("table.results tbody tr")
        .into_iter()
        .find(|row| row.starts_with("Error at 20 kg"))
        .unwrap();
    assert!(row.contains("+15.1 g") && row.contains("±20 "), "{row}");

    let chart = bench.get(&verdict.attribute(".links a", "href").unwrap()).await;
    assert_eq!(chart.status, StatusCode::OK);
    assert!(chart.words(".card-strip").contains("Drifting up"), "{}", chart.words("aside"));
    let newest = chart.all("g.point").len();
    assert!(newest > 60, "{newest} points in a month");

    let round = bench.get("/").await;
    let done =
        round.all("table.round tbody tr").into_iter().find(|row| row.contains("R-02")).unwrap();
    assert!(done.contains("done 22:34") && done.contains("Verdict"), "{done}");
}

#[tokio::test(flavor = "multi_thread")]
async fn failing_twice_is_a_hold_and_fail_then_pass_is_never_a_pass() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let first = bench.run("R-02", &OUT).await;
    assert!(first.words("h1").contains("Out of tolerance"), "{}", first.words("h1"));
    assert!(first.words(".action p").contains("repeat the check once"));
    assert!(first.words(".action button").contains("Repeat once"));
    let second = bench.run("R-02", &OUT).await;
    assert!(second.words(".action p").contains("Keep it out of use and tell your lead"));
    assert!(second.words(".answers").contains("Not charted"));
    // No third run: the round offers none, and a form kept from before is refused.
    let round = bench.get("/").await;
    let row =
        round.all("table.round tbody tr").into_iter().find(|row| row.contains("R-02")).unwrap();
    assert!(row.contains("On hold") && !row.contains("Start"), "{row}");
    let mut fields = round.form("td.do form");
    fields.insert("plan_version".into(), "1".into());
    let refused = bench.post("/checks", &fields).await;
    assert_eq!(refused.status, StatusCode::CONFLICT);
    assert!(refused.words("main").contains("a lead decides"), "{}", refused.words("main"));

    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    bench.run("R-02", &OUT).await;
    let passed = bench.run("R-02", &DRIFTED).await;
    assert!(
        passed.words(".action p").contains("failed, then passed"),
        "{}",
        passed.words(".action p")
    );
    let round = bench.get("/").await;
    assert!(round.words("table.round").contains("Doubtful, a lead decides"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scale_with_small_added_weights_is_read_between_its_steps() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = bench.start("F-04").await;
    for _ in 0..3 {
        bench.confirm(&path).await;
    }
    bench.send(&path, "0.0").await;
    let page = bench.get(&path).await;
    assert!(page.words("form.entry").contains("small weights added"));
    let refused = bench.send_form(&path, &page, &[("typed", "40.0"), ("added", "0.5")]).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(refused.words("#added-error").contains("between 0 and one step"));
    assert_eq!(refused.attribute("#typed", "value").unwrap(), "40.0", "what was typed stays");
    let kept = bench.send_form(&path, &page, &[("typed", "40.0"), ("added", "0,07")]).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER);
    for (typed, added) in [("100.0", "0.06"), ("40.0", "0.06")] {
        let page = bench.get(&path).await;
        bench.send_form(&path, &page, &[("typed", typed), ("added", added)]).await;
    }
    bench.send(&path, "0.0").await;
    let verdict = bench.finish(&path).await;
    // P = 40.0 + 0.05 − 0.07 = 39.98 kg against 39.9999 kg: −19.9 g.
    let row = verdict
        .all("table.results tbody tr")
        .into_iter()
        .find(|row| row.starts_with("Error at 40 kg"))
        .unwrap();
    assert!(row.contains("−20 g") || row.contains("−19.9"), "{row}");
    assert!(!verdict.text.contains("indicative"), "rounding was removed");
}

#[tokio::test(flavor = "multi_thread")]
async fn coarse_steps_make_the_result_indicative() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let round = bench.get("/").await;
    let row =
        round.all("table.round tbody tr").into_iter().find(|row| row.contains("R-08")).unwrap();
    let verdict = if row.contains("Start") {
        bench.run("R-08", &["0", "5000", "10000", "0"]).await
    } else {
        let path = round.attribute("a.quiet", "href").unwrap();
        bench.get(&path).await
    };
    assert!(verdict.words(".answers").contains("indicative"), "{}", verdict.words(".answers"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_correction_is_a_new_row_and_a_new_zero_voids_what_rests_on_it() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let path = bench.start("R-02").await;
    for _ in 0..3 {
        bench.confirm(&path).await;
    }
    for typed in ["0.000", "5.003", "10.007"] {
        bench.send(&path, typed).await;
    }
    // Esc leads to the last reading.
    let page = bench.get(&path).await;
    let back = page.attribute("[data-check]", "data-step-back").unwrap();
    let page = bench.get(&back).await;
    assert!(page.words("h1").starts_with("Correct: Put 10 kg"), "{}", page.words("h1"));
    let without = bench.send_form(&path, &page, &[("typed", "10.008")]).await;
    assert_eq!(without.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(without.words("#reason-error").contains("why it is corrected"));
    bench.send_form(&path, &page, &[("typed", "10.008"), ("reason", "typed wrongly")]).await;
    let page = bench.get(&path).await;
    assert!(page.words("h1").contains("20 kg"), "{}", page.words("h1"));
    assert!(
        page.words("aside").contains("10.008 kg") && !page.words("aside").contains("10.007 kg")
    );

    // Correcting the zero: the readings after it are taken again.
    let zero = page.attribute("table.kept a", "href").unwrap();
    let page = bench.get(&zero).await;
    let warning = page.words(".step .notice");
    assert!(warning.contains("makes void what rests on it: 5 kg, 10 kg."), "{warning}");
    bench.send_form(&path, &page, &[("typed", "0.001"), ("reason", "not steady")]).await;
    let page = bench.get(&path).await;
    assert!(page.words("h1").contains("Put 5 kg"), "{}", page.words("h1"));
    bench.send(&path, "5.004").await;
    let page = bench.get(&path).await;
    assert!(page.words("h1").contains("Put 10 kg"), "{}", page.words("h1"));

    let mut owner = server.owner().await;
    let kept: i64 = vaaka_store::schema::readings::table
        .filter(
            vaaka_store::schema::readings::check_id.eq(path
                .rsplit('/')
                .next()
                .unwrap()
                .parse::<i64>()
                .unwrap()),
        )
        .count()
        .get_result(&mut owner)
        .await
        .unwrap();
    // Three confirmations, three readings, two corrections, one taken again: nothing is lost.
    assert_eq!(kept, 9);
}

/// Puts a second version in force in which the 20 kg stand elsewhere, in smaller pieces.
async fn change_plan(server: &Server) -> PlanVersionId {
    let mut owner = server.owner().await;
    let old: PlanVersion = plan_versions::table
        .find(PlanVersionId(1))
        .select(PlanVersion::as_select())
        .first(&mut owner)
        .await
        .unwrap();
    let draft = PlanVersion {
        id: PlanVersionId(100),
        version: 2,
        state: "draft".into(),
        approved_by: None,
        approved_at: None,
        ..old
    };
    diesel::insert_into(plan_versions::table).values(draft).execute(&mut owner).await.unwrap();
    let points: Vec<PlanPointRow> = plan_points::table
        .filter(plan_points::plan_version_id.eq(PlanVersionId(1)))
        .select(PlanPointRow::as_select())
        .load(&mut owner)
        .await
        .unwrap();
    let moved: Vec<PlanPointRow> = points
        .into_iter()
        .map(|point| {
            let mut point = PlanPointRow { plan_version_id: PlanVersionId(100), ..point };
            if point.sequence == 1 {
                point.place = "front_right".into();
                point.nominal = 15.into();
                point.pieces = vec!["5".into(), "10-1".into()];
            }
            point
        })
        .collect();
    diesel::insert_into(plan_points::table).values(moved).execute(&mut owner).await.unwrap();
    plans::approve(&mut owner, (PlanVersionId(100), 1), PersonId(6), now()).await.unwrap();
    PlanVersionId(100)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_changed_in_mid_check_holds_from_the_next_one_on_and_changes_the_drawing() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let round = bench.get("/").await;
    let path = bench.start("R-02").await;
    for _ in 0..3 {
        bench.confirm(&path).await;
    }
    bench.send(&path, "0.000").await;
    let before = bench.get(&path).await;
    change_plan(&server).await;
    let after = bench.get(&path).await;
    assert!(
        after.words(".notice").contains("You go on by version 1"),
        "{}",
        after.words(".notice")
    );
    assert_eq!(after.words("h1"), before.words("h1"), "the open check goes on as it began");
    for typed in ["5.003", "10.007", "20.012", "20.012", "20.012", "10.008", "10.007", "0.000"] {
        bench.send(&path, typed).await;
    }
    let verdict = bench.finish(&path).await;
    assert!(verdict.words("aside").contains("judged by version 1"), "{}", verdict.words("aside"));
    // A start form of the old version is refused in words; the author could not approve alone.
    let mut fields = round.form("td.do form");
    fields.insert("plan_version".into(), plan_version(&round, "R-02"));
    let refused = bench.post("/checks", &fields).await;
    assert_eq!(refused.status, StatusCode::CONFLICT);
    assert!(refused.words("main").contains("This plan was changed"));

    // Change of place and size: the drawing changes. A second server, whose check is not done.
    let server = Server::demo().await;
    change_plan(&server).await;
    let bench = Bench::aino(&server.base).await;
    let path = bench.start("R-02").await;
    for _ in 0..3 {
        bench.confirm(&path).await;
    }
    bench.send(&path, "0.000").await;
    let changed = bench.get(&path).await;
    let spot = |page: &crate::client::Page| {
        let active = "svg.scene circle.spot.active";
        ["cx", "cy", "r"].map(|name| page.attribute(active, name).unwrap().parse::<f64>().unwrap())
    };
    let (old, new) = (spot(&before), spot(&changed));
    assert!(new[0] > old[0] && new[1] > old[1], "moved to the front right: {old:?} {new:?}");
    assert!(new[2] > old[2], "15 kg is drawn larger than 5 kg");
    assert_eq!(before.all("svg.scene .weight-label"), ["5"]);
    assert_eq!(changed.all("svg.scene .weight-label"), ["5", "10"]);
    assert!(changed.attribute("svg.scene", "aria-label").unwrap().contains("front right"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_table_and_the_drawing_hold_the_same_points() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let drawing = bench.get("/charts/1?range=year").await;
    let table = bench.get("/charts/1?range=year&view=table").await;
    assert_eq!(drawing.all("g.point").len(), table.all("table.points tbody tr").len());
    let list = bench.get("/charts").await;
    assert!(list.words("h1").contains("charts"), "{}", list.words("h1"));
    assert!(list.all("table tbody tr")[0].contains("R-02"), "worst first");
}
