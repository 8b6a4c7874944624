//! Charts of what no chart is made for: nothing, one point, all alike, all left out, all at one instant, values at
//! the edge of what a number holds. Every page of them is whole and says what is missing.

use diesel_async::SimpleAsyncConnection;
use reqwest::StatusCode;
use vaaka_store::ids::StreamId;
use vaaka_store::stretches::BLOCK;
use vaaka_store::{Store, replay};

use crate::client::{Bench, Page};
use crate::support::{Server, app_url};
use crate::web_chart_room::{chart, ilma, same_as_from_scratch, wrong_blocks};
use crate::web_everywhere::faults;

/// Changes the points of the tank scale's first chart behind the application's back, and replays it.
async fn changed(how: &str) -> (Server, i64) {
    let server = Server::demo().await;
    let id = chart(&server, "R-02").await;
    let mut owner = server.owner().await;
    let how = how.replace("THESE", &format!("stream_id = {id} AND ordinal IS NOT NULL"));
    owner
        .batch_execute(&format!(
            "SET session_replication_role = replica;
             {how};
             DELETE FROM chart_blocks WHERE segment_id IN (SELECT id FROM segments WHERE stream_id = {id});
             SELECT refresh_chart_blocks(array_agg(segment_id), array_agg(block)) FROM
                 (SELECT DISTINCT segment_id, ordinal / {BLOCK} AS block FROM chart_points
                  WHERE stream_id = {id} AND ordinal IS NOT NULL) there;
             SET session_replication_role = origin;"
        ))
        .await
        .unwrap();
    let store = Store::new(&app_url(&server.database), 2).unwrap();
    let mut connection = store.connection().await.unwrap();
    replay::these(&mut connection, vec![StreamId(id)]).await.unwrap();
    (server, id)
}

/// Every page that shows the chart: whole, and with no number that is none.
async fn whole(server: &Server, id: i64) -> Vec<Page> {
    let bench = ilma(server).await;
    let mut pages = Vec::new();
    let of_chart =
        ["", "?range=week", "?range=year", "?range=all", "?view=table", "?view=distribution"]
            .map(|query| format!("/charts/{id}{query}"));
    let others = [
        format!("/charts/{id}?range=all&tag=R-09"),
        format!("/charts/{id}/study?chosen=yes"),
        format!("/charts/{id}/rules"),
        "/charts".into(),
        "/wall".into(),
        "/signals".into(),
        "/instruments/R-02".into(),
        "/".into(),
    ];
    for path in of_chart.into_iter().chain(others) {
        let page = bench.get(&path).await;
        assert!(
            page.status == StatusCode::OK || path.ends_with("/rules"),
            "{path}: {}",
            page.status
        );
        if page.status == StatusCode::OK {
            assert_eq!(faults(&page.text), Vec::<String>::new(), "{path}");
        }
        // In the words and in the drawings.
        for number in ["NaN", "inf ", "inf,", "inf\"", "∞"] {
            assert!(!page.text.contains(number), "{path} shows {number}: {}", page.words("main"));
        }
        pages.push(page);
    }
    for kind in ["csv", "json", "svg"] {
        let file = bench.get(&format!("/export/chart-{id}.{kind}?range=all")).await;
        assert_eq!(file.status, StatusCode::OK, "{kind}");
        assert!(!file.text.contains("NaN"), "{kind}");
    }
    pages
}

async fn study(server: &Server, id: i64) -> Page {
    ilma(server).await.get(&format!("/charts/{id}/study?chosen=yes")).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chart_without_a_point() {
    let (server, id) = changed("DELETE FROM chart_points WHERE THESE").await;
    let pages = whole(&server, id).await;
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
    assert!(pages[3].words(".chart-sheet").contains("No check in this time"));
    assert!(study(&server, id).await.words(".card-strip.out").contains("No point is left"));
    // And the next check is its first point.
    let aino = Bench::aino(&server.base).await;
    aino.run_exactly("R-02").await;
    let page = aino.get(&format!("/charts/{id}?range=all")).await;
    assert_eq!(page.all("svg.chart .point").len(), 1, "{}", page.words("main"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chart_of_one_point_and_of_two() {
    for most in [1, 2] {
        let keep = format!(
            "DELETE FROM chart_points WHERE THESE AND ordinal >= {most};
             UPDATE chart_points SET measured_at = TIMESTAMPTZ '2026-11-24 10:00Z' - ordinal * interval '8 hours' WHERE THESE"
        );
        let (server, id) = changed(&keep).await;
        let pages = whole(&server, id).await;
        assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
        assert_eq!(pages[1].all("svg.chart .point").len(), most);
        assert!(
            study(&server, id).await.words(".card-strip.out").contains("at least 20 are needed")
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chart_whose_points_are_all_alike() {
    let (server, id) =
        changed("UPDATE chart_points SET value = 0.4, standardised = 0 WHERE THESE").await;
    let pages = whole(&server, id).await;
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
    assert!(!pages[3].all("svg.chart .point").is_empty());
    same_as_from_scratch(&server, id).await;
    // Nothing scatters: limits from it would signal at the first digit that differs.
    let study = study(&server, id).await;
    assert!(study.text.contains("resolution"), "{}", study.words("main"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chart_whose_every_point_is_left_out() {
    let (server, id) = changed("UPDATE chart_points SET excluded = true WHERE THESE").await;
    let pages = whole(&server, id).await;
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
    assert!(!pages[3].all("svg.chart .point").is_empty(), "they stay as crosses");
    assert!(study(&server, id).await.words(".card-strip.out").contains("No point is left"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chart_whose_points_share_one_instant() {
    let (server, id) =
        changed("UPDATE chart_points SET measured_at = '2026-11-24 10:00Z' WHERE THESE").await;
    whole(&server, id).await;
    same_as_from_scratch(&server, id).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chart_at_the_edge_of_numbers() {
    for value in
        ["7.9e28 * (1 - 2 * (ordinal % 2))", "1e-300 * ordinal", "79228162514264337593543950335"]
    {
        let (server, id) =
            changed(&format!("UPDATE chart_points SET value = {value} WHERE THESE")).await;
        whole(&server, id).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chart_of_what_is_still_to_come() {
    // The clock of another machine ran ahead: a third of the points lies in the future.
    let (server, id) = changed(
        "UPDATE chart_points SET measured_at = measured_at + interval '400 days' WHERE THESE AND ordinal > 90",
    )
    .await;
    let pages = whole(&server, id).await;
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
    assert!(!pages[3].all("svg.chart .point").is_empty());
    same_as_from_scratch(&server, id).await;
}
