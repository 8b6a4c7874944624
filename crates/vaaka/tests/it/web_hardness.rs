//! A hardness check as a technician makes it: blocks one after the other, each reading at a place that nobody has used.

use diesel_async::SimpleAsyncConnection;
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server};
use crate::web_chart_room::{ilma, lines, post, with_clock};

/// Words of the drawing of the step.
fn drawn(page: &Page) -> String {
    page.attribute(".scene-box svg", "aria-label").unwrap_or_default()
}

struct Case {
    clock: std::sync::Arc<HandClock>,
    server: Server,
    aino: Bench,
    ilma: Bench,
    plan: String,
}

impl Case {
    /// The check of tool steel, ordered out of turn: it is due on Mondays.
    async fn new() -> Self {
        let (clock, server) = with_clock().await;
        let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
        clock.pass(60);
        let plan = lines(
            &server.database,
            "SELECT p.id::text AS line FROM plans p JOIN set_ups s ON s.id = p.set_up_id
             WHERE s.name = '150 kg cone, HRC, tool steel'",
        )
        .await
        .remove(0);
        let case = Self { clock, server, aino, ilma, plan };
        case.order().await;
        case
    }

    async fn order(&self) {
        self.clock.pass(60);
        let order = [("reason", "the indenter was changed and looked at")];
        let ordered = post(&self.ilma, &format!("/plans/{}/order", self.plan), &order).await;
        assert_eq!(ordered.status, StatusCode::SEE_OTHER, "{}", ordered.words("main"));
        self.clock.pass(60);
    }

    /// Begins the check and comes to its first reading.
    async fn begin(&self) -> String {
        let path = self.aino.start("P-21").await;
        for _ in 0..20 {
            let page = self.aino.get(&path).await;
            if page.find("form.entry.reading").is_some() {
                return path;
            }
            let answer = self.aino.confirm(&path).await;
            assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.words("main"));
        }
        panic!("no reading is asked for");
    }

    /// Places of a block that are used up.
    async fn used(&self, block: &str) -> usize {
        let query = format!(
            "SELECT count(*)::text AS line FROM standard_uses u JOIN standard_lots l ON l.id = u.lot_id
             JOIN standards s ON s.id = l.standard_id WHERE s.tag = '{block}' AND u.place_x IS NOT NULL"
        );
        lines(&self.server.database, &query).await.remove(0).parse().unwrap()
    }
}

const BLOCKS: [&str; 3] = ["HB-25", "HB-45", "HB-62"];

#[tokio::test(flavor = "multi_thread")]
async fn every_reading_goes_to_a_place_that_nobody_has_used() {
    let case = Case::new().await;
    let mut before = Vec::new();
    for block in BLOCKS {
        before.push(case.used(block).await);
    }
    let path = case.begin().await;
    let page = case.aino.get(&path).await;
    assert!(page.words("h1").contains("Read block HB-25, 25 HRC"), "{}", page.words("main"));
    assert!(page.words("aside [data-standard] .strong").starts_with("HB-25"));
    let first = drawn(&page);
    assert!(first.contains("wrung onto its heavy, rigid base"), "{first}");
    assert!(first.contains("from the left edge"), "{first}");
    // Drawn ahead, the next readings go on from there.
    assert!(page.text.matches("spot active").count() > 3, "each step ahead has its own map");

    // There is a mark already: another place, and only one however often the button is sent.
    let form = page.form("form.place-taken");
    for _ in 0..2 {
        let refused = case.aino.post(&format!("{path}/place"), &form).await;
        assert_eq!(refused.status, StatusCode::SEE_OTHER);
    }
    assert_eq!(case.used("HB-25").await, before[0] + 1);
    let second = drawn(&case.aino.get(&path).await);
    assert_ne!(first, second);
    // Not by who has not got it in hand; nor on a block without such a place.
    let other = case.ilma.get("/").await.attribute("input[name=form_token]", "value").unwrap();
    let mut foreign = form.clone();
    foreign.insert("form_token".into(), other);
    foreign.insert("seen".into(), (before[0] + 1).to_string());
    case.ilma.post(&format!("{path}/place"), &foreign).await;
    let mut nowhere = form.clone();
    nowhere.insert("standard".into(), "7".into());
    case.aino.post(&format!("{path}/place"), &nowhere).await;
    assert_eq!(case.used("HB-25").await, before[0] + 1);

    // A reading is kept, and the map goes on; the readings stand in a panel of their own.
    case.aino.read(&path, "25.4").await;
    let third = case.aino.get(&path).await;
    assert_ne!(drawn(&third), second);
    assert!(third.text.contains("spot done"));
    assert!(third.words("aside").contains("This point so far"));
    let verdict = case
        .aino
        .run_to_end(&path, &["25.6", "25.5", "45.2", "45.3", "45,1", "62.6", "62.7", "62.5"])
        .await;
    let table = verdict.words("main");
    for words in ["Error at 25 HRC", "Error at 62 HRC", "Range at 45 HRC"] {
        assert!(table.contains(words), "{words}: {table}");
    }
    assert!(table.contains("Within tolerance"), "{table}");
    // Three readings a block, and the place that bore a mark.
    for (block, before) in BLOCKS.iter().zip(before) {
        let marks = if *block == "HB-25" { 1 } else { 0 };
        assert_eq!(case.used(block).await, before + 3 + marks, "{block}");
    }
    let block = case.aino.get("/standards/HB-25").await;
    assert!(block.text.contains("bore a mark already"), "{}", block.words("main"));
    let check = path.trim_start_matches("/checks/");
    let same = lines(
        &case.server.database,
        &format!("SELECT count(DISTINCT (lot_id, place_x, place_y))::text || ' of ' || count(*) AS line FROM standard_uses WHERE check_id = {check}"),
    )
    .await;
    assert_eq!(same, ["10 of 10"], "no place twice");
}

/// What is done again was made all the same: its places stay used up.
#[tokio::test(flavor = "multi_thread")]
async fn readings_that_a_redo_voids_have_used_their_places() {
    let case = Case::new().await;
    let before = case.used("HB-25").await;
    let path = case.begin().await;
    case.aino.read(&path, "25.4").await;
    // The block is taken again: what was read on it is void.
    let page = case.aino.get(&path).await;
    let tag = lines(
        &case.server.database,
        &format!(
            "SELECT id::text AS line FROM readings WHERE check_id = {} AND step_key = 'standard'",
            path.trim_start_matches("/checks/")
        ),
    )
    .await
    .remove(0);
    let map = drawn(&page);
    let again = format!("{path}?correct={tag}");
    let redo = case.aino.get(&again).await;
    let typed = [("typed", "HB-25"), ("reason", "the block had tilted on its base")];
    let done = case.aino.send_form(&path, &redo, &typed).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("main"));
    let now = case.aino.get(&path).await;
    assert!(now.words("h1").contains("HB-25"), "{}", now.words("h1"));
    assert_eq!(drawn(&now), map, "the place of the reading that is void is used up");
    let readings = ["25.4", "25.6", "25.5", "45.2", "45.3", "45.1", "62.6", "62.7", "62.5"];
    case.aino.run_to_end(&path, &readings).await;
    assert_eq!(case.used("HB-25").await, before + 4);
}

/// A check that is voided has worn its block by what was read in it, once.
#[tokio::test(flavor = "multi_thread")]
async fn a_void_check_has_used_its_places() {
    let case = Case::new().await;
    let before = case.used("HB-25").await;
    let other = case.used("HB-45").await;
    let path = case.begin().await;
    for typed in ["25.4", "25.6"] {
        case.aino.read(&path, typed).await;
    }
    let mut fields = case.aino.get(&path).await.form(&format!("form[action='{path}/void']"));
    fields.insert("reason".into(), "power was lost".into());
    for _ in 0..2 {
        case.aino.post(&format!("{path}/void"), &fields).await;
    }
    assert_eq!(case.used("HB-25").await, before + 2);
    assert_eq!(case.used("HB-45").await, other, "a block that was not read on is not worn");
}

/// Each cell of the tester stands by itself, on the page, with its own charts.
#[tokio::test(flavor = "multi_thread")]
async fn a_failing_cell_leaves_the_other_in_use() {
    let case = Case::new().await;
    let path = case.begin().await;
    let readings = ["25.4", "25.6", "25.5", "45.2", "45.3", "45.1", "64.6", "64.7", "64.5"];
    let verdict = case.aino.run_to_end(&path, &readings).await;
    assert!(verdict.words("h1").contains("Out of tolerance"), "{}", verdict.words("h1"));
    let page = case.ilma.get("/instruments/P-21").await;
    assert_eq!(page.words(".page-head .beside").trim(), "May be used in part");
    assert!(page.text.contains("May be used on: 150 kg cone, stainless plate."));
    assert!(page.words("h1").ends_with("In part out of tolerance"), "{}", page.words("h1"));
    // On the label stands what tells it from the others.
    let label = case.ilma.get("/instruments/P-21/label.svg").await;
    assert!(label.text.contains("only: stainless plate<"), "{}", label.text);
    let states = lines(
        &case.server.database,
        "SELECT s.name || ' ' || s.state AS line FROM set_ups s JOIN instruments i ON i.id = s.instrument_id
         WHERE i.tag = 'P-21' ORDER BY s.id",
    )
    .await;
    assert_eq!(
        states,
        ["150 kg cone, HRC, tool steel restricted", "150 kg cone, HRC, stainless plate in_service"]
    );
}

/// What nothing certifies has no target to come back to: after a repair its chart begins anew, without limits that lie at nothing.
#[tokio::test(flavor = "multi_thread")]
async fn a_code_has_no_target() {
    let case = Case::new().await;
    // Limits as if twenty shifts had frozen them; the demo of the tests is younger.
    let design =
        "UPDATE segments g SET design = (SELECT d.design FROM segments d WHERE d.design IS NOT NULL
            AND d.design->>'basis' = 'baseline' LIMIT 1)
        FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id
        WHERE s.id = g.stream_id AND i.tag = 'P-22'";
    case.server.owner().await.batch_execute(design).await.unwrap();
    case.clock.pass(60);
    let typed = [("kind", "repaired"), ("note", "a new impact body put in")];
    let noted = post(&case.aino, "/instruments/P-22/events", &typed).await;
    assert_eq!(noted.status, StatusCode::SEE_OTHER, "{}", noted.words("main"));
    let newest = lines(
        &case.server.database,
        "SELECT s.characteristic_key || ' ' || (g.design IS NOT NULL)::text AS line
         FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id
         CROSS JOIN LATERAL (SELECT design FROM segments WHERE stream_id = s.id ORDER BY ordinal DESC LIMIT 1) g
         WHERE i.tag = 'P-22' AND s.derived IS NULL ORDER BY s.id",
    )
    .await;
    assert_eq!(newest, ["error-38 true", "error-58 true", "code-38 false", "code-58 false"]);
}
