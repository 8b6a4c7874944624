//! A moisture check as a technician makes it: the empty chamber, then the fillings, each with its mass beside it.

use reqwest::StatusCode;

use crate::client::Bench;
use crate::web_chart_room::{ilma, lines, post, with_clock};

#[tokio::test(flavor = "multi_thread")]
async fn fillings_are_read_with_their_mass_beside_them() {
    let (clock, server) = with_clock().await;
    let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
    clock.pass(60);
    let plan = lines(
        &server.database,
        "SELECT p.id::text AS line FROM plans p JOIN set_ups s ON s.id = p.set_up_id
         WHERE s.name = 'chamber, %, glass cloth 48 g'",
    )
    .await
    .remove(0);
    let order = [("reason", "chamber brushed out and looked at")];
    let ordered = post(&ilma, &format!("/plans/{plan}/order"), &order).await;
    assert_eq!(ordered.status, StatusCode::SEE_OTHER, "{}", ordered.words("main"));
    clock.pass(60);
    let path = aino.start("P-31").await;
    let asked = async || {
        for _ in 0..20 {
            clock.pass(40);
            let page = aino.get(&path).await;
            if page.find("form.entry.reading").is_some() {
                return page;
            }
            let answer = aino.confirm(&path).await;
            assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
        }
        panic!("no reading is asked for");
    };
    let empty = asked().await;
    assert!(empty.words("h1").contains("Read the empty chamber"), "{}", empty.words("main"));
    assert!(empty.find("#added").is_none(), "an empty chamber has no mass");
    assert!(empty.words("nav.way").contains("glass cloth 48 g"), "the cell stands over the steps");
    aino.read(&path, "0.01").await;
    let fill = asked().await;
    assert!(fill.words("h1").contains("Fill in MM-1, 6 %"), "{}", fill.words("main"));
    assert_eq!(fill.words("label[for=added]"), "Mass of the filling, g");

    // What is typed beside is asked for at its own field, and what was typed stays.
    let without = aino.send_form(&path, &fill, &[("typed", "6.10"), ("added", "")]).await;
    assert_eq!(without.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(without.words("#added-error").starts_with("Mass of the filling: "), "{}", without.text);
    assert_eq!(without.attribute("#typed", "value").as_deref(), Some("6.10"));
    let less = aino.send_form(&path, &fill, &[("typed", "6.10"), ("added", "0")]).await;
    assert!(less.words("#added-error").contains("it is at least 0.001 g"), "{}", less.text);
    for (shown, mass) in [("6.10", "103,5"), ("6.16", "102.8 g"), ("6.12", "104.1")] {
        let page = asked().await;
        let kept = aino.send_form(&path, &page, &[("typed", shown), ("added", mass)]).await;
        assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.words("main"));
    }
    let review = aino.get(&path).await;
    assert!(
        review.words("table.review").contains("6.10 %; mass of the filling 103.5 g"),
        "{}",
        review.text
    );
    // Looked over and put away.
    let verdict = aino.finish(&path).await;
    let table = verdict.words("main");
    for words in
        ["Error at 6 %", "Range at 6 %", "Empty chamber", "Bulk density at 6 %", " 413.87 kg"]
    {
        assert!(table.contains(words), "{words}: {table}");
    }
    assert!(table.contains("Within tolerance"), "{table}");
    // The heap has a chart of its own, told apart by its cell.
    let charts = lines(
        &server.database,
        "SELECT s.label || ' ' || s.unit AS line FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id
         WHERE i.tag = 'P-31' AND derived IS NULL ORDER BY s.id",
    )
    .await;
    assert_eq!(
        charts,
        [
            "Error at 6 % (chamber, glass cloth 48 g) %",
            "Bulk density at 6 % (chamber, glass cloth 48 g) kg/m³",
            "Error at 4 % (chamber, glass cloth 200 g) %",
        ]
    );
    let record = aino.get(&format!("{path}/record")).await;
    assert!(record.text.contains("103.5"), "the mass stands on the record");
}
