//! One question to every place that shows how an instrument stands, after every event: round, page, list, charts, wall, label, and
//! the gate for other programs say the same.

use std::collections::HashMap;
use std::sync::Arc;

use diesel_async::SimpleAsyncConnection;
use reqwest::StatusCode;

use crate::client::Bench;
use crate::support::{HandClock, Server};
use crate::web_chart_room::{FINE, ilma, lines, number, post, with_clock};

const FAILING: [&str; 9] =
    ["0.000", "5.003", "10.014", "20.029", "20.030", "20.031", "10.014", "5.003", "0.000"];

/// What the round says instead of a quiet standing: only what is to do.
const QUIET: [&str; 3] = ["Due", "Late", "Begun"];

struct Mill {
    clock: Arc<HandClock>,
    server: Server,
    aino: Bench,
    ilma: Bench,
}

/// What all places say.
#[derive(Debug, PartialEq)]
struct Said {
    standing: String,
    may: String,
}

impl Mill {
    async fn new() -> Self {
        let (clock, server) = with_clock().await;
        let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
        clock.pass(60);
        Self { clock, server, aino, ilma }
    }

    async fn run(&self, tag: &str, readings: &[&str]) {
        self.clock.pass(300);
        let page = self.aino.run(tag, readings).await;
        assert!(page.text.contains("Within tolerance?"), "{}", page.words("main"));
        self.clock.pass(60);
    }

    async fn use_it(&self, tag: &str, to: &str) {
        let page = self.ilma.get(&format!("/instruments/{tag}")).await;
        let version = page.attribute("#use input[name=version]", "value").unwrap();
        let typed = [("to", to), ("reason", "as the check says"), ("version", version.as_str())];
        let done = post(&self.ilma, &format!("/instruments/{tag}/state"), &typed).await;
        assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("#use"));
    }

    async fn happened(&self, tag: &str, kind: &str) {
        self.clock.pass(60);
        let typed = [("kind", kind), ("note", "pushed against the wall by the truck")];
        let done = post(&self.aino, &format!("/instruments/{tag}/events"), &typed).await;
        assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
        self.clock.pass(60);
    }

    /// Asks everywhere, and holds the answers against each other.
    async fn everywhere(&self, tag: &str) -> Said {
        let page = self.ilma.get(&format!("/instruments/{tag}")).await;
        let heading = page.words("h1");
        let standing = heading.rsplit(": ").next().unwrap().trim().to_owned();
        let may = page.words(".page-head .beside").trim().to_owned();
        // The register.
        let list = self.ilma.get(&format!("/instruments?find={tag}")).await;
        let cells = list.all("tbody td");
        assert_eq!(cells.last().unwrap(), &standing, "the register of {tag}");
        assert_eq!(cells[2], may, "the register of {tag}");
        // The label.
        let label = self.ilma.get(&format!("/instruments/{tag}/label.svg")).await;
        assert!(
            label.text.contains(&may),
            "the label of {tag} does not say “{may}”: {}",
            label.text
        );
        // The gate.
        let gate = self.ilma.get(&format!("/api/release?instrument={tag}")).await;
        let gate: serde_json::Value = serde_json::from_str(&gate.text).unwrap();
        assert_eq!(gate["standing"], standing, "{gate}");
        assert_eq!(gate["use"], may, "{gate}");
        let reasons: Vec<&str> =
            gate["reasons"].as_array().unwrap().iter().filter_map(|one| one.as_str()).collect();
        match (gate["released"].as_bool().unwrap(), may == "May be used") {
            (true, free) => assert!(free, "{tag} is released and “{may}”"),
            // What may be used waits for nothing but the calendar.
            (false, true) => {
                assert!(reasons.iter().all(|reason| reason.contains("a check is due")), "{gate}");
            }
            (false, false) => {}
        }
        // The round.
        let round = self.ilma.get("/").await;
        let names = round.all("table.round tbody th .name");
        let states = round.all("table.round tbody td.state");
        let row = names.iter().position(|name| name.ends_with(tag));
        let on_round = row.map(|row| states[row].clone());
        if let Some(words) = &on_round {
            let quiet = ["In control", "Never checked", "No limits yet", "Proven since"];
            let said = words == &standing
                || QUIET.contains(&words.as_str()) && quiet.contains(&standing.as_str());
            assert!(said, "the round says “{words}” of {tag}, its page “{standing}”");
        }
        // Its charts: in the list, on the wall, each on its page.
        let of_list = self.charts(&list_of(&self.ilma.get("/charts").await), tag).await;
        for (id, words) in &of_list {
            let wall = self.ilma.get("/wall").await;
            let card = wall.words(&format!("[data-chart-card=\"{id}\"] .state"));
            assert!(
                card.trim_start_matches(char::is_whitespace).starts_with(words),
                "{card}: {words}"
            );
            let own = self.ilma.get(&format!("/charts/{id}")).await;
            let title = own.words("aside .card-strip h2");
            let same = title.contains(words) || title.contains("Drifting");
            assert!(same, "chart {id} of {tag} is headed “{title}”, listed as “{words}”");
        }
        let any = of_list.iter().any(|(_, words)| *words == standing);
        let elsewhere =
            ["No plan yet", "Never checked", "Out of tolerance", "Inside, not accepted"];
        assert!(
            any || of_list.is_empty() || elsewhere.contains(&standing.as_str()),
            "{tag}: {standing}, its charts {of_list:?}"
        );
        Said { standing, may }
    }

    async fn charts(&self, listed: &HashMap<i64, String>, tag: &str) -> Vec<(i64, String)> {
        let own = lines(
            &self.server.database,
            &format!(
                "SELECT s.id::text AS line FROM chart_streams s JOIN instruments i ON i.id = s.instrument_id
                 WHERE i.tag = '{tag}' ORDER BY s.id"
            ),
        )
        .await;
        let ids = own.iter().map(|id| id.parse().unwrap());
        ids.filter_map(|id: i64| Some((id, listed.get(&id)?.clone()))).collect()
    }
}

fn list_of(page: &crate::client::Page) -> HashMap<i64, String> {
    let ids = page.hrefs("tbody th a.name");
    let words = page.all("tbody td.state");
    let id = |href: String| href.rsplit('/').next().unwrap().parse().unwrap();
    ids.into_iter().map(id).zip(words).collect()
}

fn said(standing: &str, may: &str) -> Said {
    Said { standing: standing.to_owned(), may: may.to_owned() }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_instrument_of_the_mill_stands_alike_everywhere() {
    let mill = Mill::new().await;
    let tags =
        lines(&mill.server.database, "SELECT tag AS line FROM instruments ORDER BY tag").await;
    assert!(tags.len() > 20);
    for tag in tags.iter().filter(|tag| tag.len() < 6) {
        mill.everywhere(tag).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn after_every_event_of_a_failure_all_places_agree() {
    let mill = Mill::new().await;
    let notices =
        "SELECT count(*) AS number FROM notices n JOIN instruments i ON i.id = n.instrument_id
         WHERE i.tag = 'R-02' AND n.taken_by IS NULL";
    let before = mill.everywhere("R-02").await;
    assert_eq!(before.may, "May be used");
    mill.run("R-02", &FAILING).await;
    assert_eq!(mill.everywhere("R-02").await, said("Out of tolerance", "Restricted"));
    mill.run("R-02", &FINE).await;
    assert_eq!(mill.everywhere("R-02").await, said("Doubtful, a lead decides", "Restricted"));
    assert!(number(&mill.server.database, notices).await > 0);
    let page = mill.ilma.get("/instruments/R-02").await;
    let action = page.attribute("#way-on form", "action").unwrap();
    post(&mill.ilma, &action, &[("reason", "cleaned and levelled, the pan was touching")]).await;
    assert_eq!(mill.everywhere("R-02").await.may, "Restricted");
    mill.run("R-02", &FINE).await;
    assert_eq!(mill.everywhere("R-02").await.may, "Restricted");
    mill.use_it("R-02", "in_service").await;
    let after = mill.everywhere("R-02").await;
    assert_eq!(after.may, "May be used", "{after:?}");
    // Whoever was called about its failed checks need not come any more.
    assert_eq!(number(&mill.server.database, notices).await, 0);
    for (to, may) in [("on_hold", "On hold: do not use"), ("out", "Out of use")] {
        mill.use_it("R-02", to).await;
        assert_eq!(mill.everywhere("R-02").await.may, may);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_knock_is_told_everywhere_until_it_is_checked() {
    let mill = Mill::new().await;
    mill.run("R-02", &FINE).await;
    assert_eq!(mill.everywhere("R-02").await.may, "May be used");
    mill.happened("R-02", "moved").await;
    assert_eq!(mill.everywhere("R-02").await, said("Check first", "Check it before use"));
    let page = mill.aino.get("/instruments/R-02").await;
    assert!(page.words(".notice").contains("due after a move"), "{}", page.words("main"));
    assert!(page.all("#way-on li").iter().any(|way| way.contains("check that is due")));
    mill.run("R-02", &FINE).await;
    assert_eq!(mill.everywhere("R-02").await.may, "May be used");
    // What affects nothing that its plan asks about changes nothing.
    mill.happened("R-02", "note").await;
    assert_eq!(mill.everywhere("R-02").await.may, "May be used");
}

/// What rested on a standard that was found wrong vouches for nothing, no check on it is offered, and there is a way on.
#[tokio::test(flavor = "multi_thread")]
async fn a_standard_found_wrong_is_told_everywhere() {
    let mill = Mill::new().await;
    let used = "SELECT s.tag AS line FROM plan_versions v JOIN plans p ON p.id = v.plan_id
        JOIN instruments i ON i.id = p.instrument_id JOIN standards s ON s.id = v.standard_id
        WHERE i.tag = 'R-02' AND v.state = 'approved'";
    let standard = lines(&mill.server.database, used).await.remove(0);
    let path = format!("/standards/{standard}/wrong");
    let page = mill.ilma.get(&path).await;
    let typed = [("finding", "its 20 kg piece is chipped at the edge"), ("from", "2026-11-01")];
    let look_back = mill.ilma.submit(&page, &path, &typed).await.location.unwrap();
    assert_eq!(
        mill.everywhere("R-02").await,
        said("Rests on a wrong standard", "Check it before use")
    );
    let page = mill.aino.get("/instruments/R-02").await;
    assert!(page.words(".notice").contains(&format!("{standard} was found wrong")));
    let round = mill.aino.get("/").await;
    let start = round.find("form[action=\"/checks\"] button[aria-label$=\"R-02\"]");
    assert!(start.is_none(), "a check that would be refused is offered");
    assert!(round.words("table.round").contains(&format!("{standard} is on hold")));
    // The lead sees what it came to, and closes the look-back: what vouched before does so again.
    let page = mill.ilma.get(&look_back).await;
    let action = page.attribute("form[action$=close]", "action").unwrap();
    let conclusion = [("conclusion", "chipped after the last check: nothing was affected")];
    let closed = post(&mill.ilma, &action, &conclusion).await;
    assert_eq!(closed.status, StatusCode::SEE_OTHER, "{}", closed.words("main"));
    assert_eq!(mill.everywhere("R-02").await.may, "May be used");
}

/// Where any of a kind would do, a check is offered as long as one can serve, and no longer.
#[tokio::test(flavor = "multi_thread")]
async fn any_of_a_kind_is_offered_until_none_can_serve() {
    let mill = Mill::new().await;
    let row = async || {
        let round = mill.aino.get("/").await;
        round.all("table.round tr").into_iter().find(|row| row.contains("F-14")).unwrap()
    };
    assert!(row().await.contains("any block set"), "{}", row().await);
    let sets = "SELECT tag AS line FROM standards WHERE kind = 'block_set' AND state = 'in_use' ORDER BY tag";
    let tags = lines(&mill.server.database, sets).await;
    assert!(!tags.is_empty());
    for tag in &tags {
        assert!(row().await.contains("Start"), "before {tag} is on hold: {}", row().await);
        let page = mill.ilma.get(&format!("/standards/{tag}")).await;
        let version = page.attribute("input[name=version]", "value").unwrap();
        let typed = [("to", "on_hold"), ("reason", "dropped on the floor"), ("version", &version)];
        let held = post(&mill.ilma, &format!("/standards/{tag}/state"), &typed).await;
        assert_eq!(held.status, StatusCode::SEE_OTHER, "{}", held.text);
    }
    let blocked = row().await;
    assert!(blocked.contains("no block set can be used now"), "{blocked}");
    assert!(!blocked.contains("Start"), "{blocked}");
    let table = mill.aino.get("/export/round.json").await.text;
    assert!(table.contains("wait for a standard"), "{table}");
}

/// What a check told the leads is over when it is void, or when its instrument goes away.
#[tokio::test(flavor = "multi_thread")]
async fn notices_of_a_failure_end_with_it() {
    let open =
        "SELECT count(*) AS number FROM notices n JOIN instruments i ON i.id = n.instrument_id
        WHERE i.tag = 'R-02' AND n.taken_by IS NULL";
    let mill = Mill::new().await;
    mill.run("R-02", &FAILING).await;
    assert_eq!(number(&mill.server.database, open).await, 1);
    let check = number(&mill.server.database, "SELECT max(id) AS number FROM checks").await;
    let void = [("words", "the wrong weights were on it")];
    let done = post(&mill.ilma, &format!("/checks/{check}/void"), &void).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
    assert_eq!(number(&mill.server.database, open).await, 0);
    // The restriction stays until a lead takes it back by a good check; all places say so.
    assert_eq!(mill.everywhere("R-02").await.may, "Restricted");
    mill.run("R-02", &FAILING).await;
    assert_eq!(number(&mill.server.database, open).await, 1);
    mill.use_it("R-02", "out").await;
    assert_eq!(number(&mill.server.database, open).await, 0);
    assert_eq!(mill.everywhere("R-02").await, said("Out of use", "Out of use"));
}

/// What is away is neither checked nor ordered to be, by a form kept from before either.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_away_is_not_checked() {
    let mill = Mill::new().await;
    mill.use_it("R-02", "out").await;
    let key = uuid::Uuid::new_v4().to_string();
    let begun = post(&mill.aino, "/checks", &[("plan_version", "1"), ("key", &key)]).await;
    assert_eq!(begun.status, StatusCode::CONFLICT);
    assert!(begun.text.contains("Take it back first"), "{}", begun.words("main"));
    let ordered =
        post(&mill.ilma, "/plans/1/order", &[("reason", "cleaned and levelled it")]).await;
    assert_eq!(ordered.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(ordered.text.contains("Take it back first"), "{}", ordered.words("main"));
    assert!(mill.aino.get("/instruments/R-02").await.words("#way-on").contains("Take it back"));
}

/// What is chosen is what the button at the head starts, also where the first check of the round cannot begin.
#[tokio::test(flavor = "multi_thread")]
async fn the_chosen_check_is_one_that_can_begin() {
    let mill = Mill::new().await;
    let round = mill.aino.get("/").await;
    assert!(round.words("tr.chosen").contains("R-05"), "{}", round.words("table.round"));
    let page = mill.ilma.get("/standards/F2-A").await;
    let version = page.attribute("input[name=version]", "value").unwrap();
    let typed = [("to", "on_hold"), ("reason", "dropped on the floor"), ("version", &version)];
    post(&mill.ilma, "/standards/F2-A/state", &typed).await;
    let round = mill.aino.get("/").await;
    let first = &round.all("table.round tbody tr")[0];
    assert!(first.contains("R-05") && first.contains("F2-A is on hold: dropped"), "{first}");
    let chosen = round.words("tr.chosen");
    assert!(chosen.contains("R-02") && chosen.contains("Start"), "{chosen}");
    assert!(
        round.words(".page-head .main-button").contains("R-02"),
        "{}",
        round.words(".page-head")
    );
}

/// A verdict offers the repeat only while it would be taken, and says why it would not in the words of the refusal.
#[tokio::test(flavor = "multi_thread")]
async fn a_repeat_that_would_be_refused_is_not_offered() {
    let mill = Mill::new().await;
    mill.run("R-02", &FAILING).await;
    let check = number(&mill.server.database, "SELECT max(id) AS number FROM checks").await;
    let path = format!("/checks/{check}/verdict");
    let offered = async || {
        let page = mill.aino.get(&path).await;
        let button = page.find(".action form button").is_some_and(|words| words.contains("Repeat"));
        (button, page.find(".action .in-the-way"))
    };
    let refused = async || {
        let key = uuid::Uuid::new_v4().to_string();
        let page = post(&mill.aino, "/checks", &[("plan_version", "1"), ("key", &key)]).await;
        assert_eq!(page.status, StatusCode::CONFLICT, "{}", page.text);
        page.words("main")
    };
    assert_eq!(offered().await, (true, None));
    let mut owner = mill.server.owner().await;
    // What the pages themselves would not undo.
    owner.batch_execute("SET session_replication_role = replica").await.unwrap();
    let cases = [
        (
            "UPDATE standards SET state = 'on_hold', state_reason = 'dropped' WHERE tag = 'M1-B'",
            "UPDATE standards SET state = 'in_use', state_reason = '' WHERE tag = 'M1-B'",
            "M1-B is on hold",
        ),
        (
            "UPDATE instruments SET resolution = resolution * 2 WHERE tag = 'R-02'",
            "UPDATE instruments SET resolution = resolution / 2 WHERE tag = 'R-02'",
            "A lead renews the plan",
        ),
        (
            "UPDATE trainings SET valid_until = '2026-11-01' WHERE method_key = 'weighing'",
            "UPDATE trainings SET valid_until = '2027-11-01' WHERE method_key = 'weighing'",
            "trai",
        ),
        (
            "UPDATE instruments SET state = 'out', restricted_to = NULL WHERE tag = 'R-02'",
            "UPDATE instruments SET state = 'on_hold' WHERE tag = 'R-02'",
            "Take it back first",
        ),
        (
            "UPDATE plan_versions SET state = 'superseded' WHERE id = 1",
            "UPDATE plan_versions SET state = 'approved' WHERE id = 1",
            "This plan was changed",
        ),
    ];
    for (event, undone, words) in cases {
        owner.batch_execute(event).await.unwrap();
        let (button, told) = offered().await;
        let told = told.unwrap_or_else(|| panic!("nothing is told after: {event}"));
        assert!(!button && told.contains(words), "{told}");
        let said = told.strip_prefix("It cannot begin now: ").unwrap();
        assert!(refused().await.contains(said), "the refusal says something else than “{said}”");
        owner.batch_execute(undone).await.unwrap();
        assert_eq!(offered().await, (true, None), "after: {undone}");
    }
    // Who only reads is told of no obstacle to what it is not offered.
    let veera = Bench::signed_in(&mill.server.base, "veera", "avoin-ovi-8").await;
    let page = veera.get(&path).await;
    assert!(page.find(".action form").is_none() && page.find(".in-the-way").is_none());
}

/// A certificate that lacks a piece which the plan names lets no check begin, and stops one that is open at its tag:
/// begun, it would have no way on.
#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_without_a_piece_of_the_plan_is_told_before_the_check() {
    let mill = Mill::new().await;
    let mut owner = mill.server.owner().await;
    owner.batch_execute("SET session_replication_role = replica").await.unwrap();
    let rename = |from: &str, to: &str| {
        format!(
            "UPDATE certified_values v SET piece = '{to}' FROM certificates c JOIN standard_lots l ON l.id = c.lot_id
             JOIN standards s ON s.id = l.standard_id
             WHERE c.id = v.certificate_id AND s.tag = 'M1-B' AND v.piece = '{from}'"
        )
    };
    owner.batch_execute(&rename("10-2", "10-2n")).await.unwrap();
    let key = uuid::Uuid::new_v4().to_string();
    let refused = post(&mill.aino, "/checks", &[("plan_version", "1"), ("key", &key)]).await;
    assert_eq!(refused.status, StatusCode::CONFLICT, "{}", refused.text);
    let words = refused.words("main");
    assert!(
        words.contains("Plan and certificate do not meet") && words.contains("no piece 10-2"),
        "{words}"
    );
    let open = "SELECT count(*) AS number FROM checks WHERE state = 'open' AND plan_version_id = 1";
    assert_eq!(number(&mill.server.database, open).await, 0);
    owner.batch_execute(&rename("10-2n", "10-2")).await.unwrap();
    mill.run("R-02", &FINE).await;
}
