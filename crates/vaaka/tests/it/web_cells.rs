//! An instrument with two cells (probe × scale × material): what fails on one says nothing of the other, and what passes proves no
//! other. Page, label, register, round and gate say so.

use diesel_async::SimpleAsyncConnection;
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server};
use crate::web_chart_room::{FINE, ilma, lines, post, with_clock};

const FAILING: [&str; 9] =
    ["0.000", "5.003", "10.014", "20.029", "20.030", "20.031", "10.014", "5.003", "0.000"];

/// A second cell of the tank scale, with a plan like that of the first.
const SECOND_CELL: &str = "INSERT INTO set_ups (instrument_id, name, probe)
        SELECT id, 'long beam', 'long beam' FROM instruments WHERE tag = 'R-02';
    CREATE TEMP TABLE v AS SELECT v.* FROM plan_versions v JOIN plans p ON p.id = v.plan_id
        JOIN instruments i ON i.id = p.instrument_id WHERE i.tag = 'R-02' AND v.state = 'approved';
    CREATE TEMP TABLE n AS SELECT (SELECT max(id) + 1 FROM plans) AS plan, (SELECT max(id) + 1 FROM plan_versions) AS version;
    INSERT INTO plans SELECT (jsonb_populate_record(p, jsonb_build_object('id', n.plan, 'name', 'On the long beam',
        'set_up_id', (SELECT max(id) FROM set_ups), 'last_done_on', NULL))).* FROM plans p, v, n WHERE p.id = v.plan_id;
    INSERT INTO plan_versions SELECT (jsonb_populate_record(o, jsonb_build_object('id', n.version, 'plan_id', n.plan))).*
        FROM plan_versions o, v, n WHERE o.id = v.id;
    INSERT INTO plan_points SELECT (jsonb_populate_record(o, jsonb_build_object('id', o.id + 100000, 'plan_version_id', n.version))).*
        FROM plan_points o, v, n WHERE o.plan_version_id = v.id;";

struct Case {
    clock: std::sync::Arc<HandClock>,
    server: Server,
    aino: Bench,
    ilma: Bench,
    /// Versions of the plans of both cells.
    plans: [String; 2],
    /// The cells.
    cells: [String; 2],
}

impl Case {
    async fn new() -> Self {
        let (clock, server) = with_clock().await;
        server.owner().await.batch_execute(SECOND_CELL).await.unwrap();
        let column = async |what: &str| {
            let query = format!(
                "SELECT {what}::text AS line FROM plan_versions v JOIN plans p ON p.id = v.plan_id
                 JOIN instruments i ON i.id = p.instrument_id
                 WHERE i.tag = 'R-02' AND v.state = 'approved' ORDER BY p.id"
            );
            <[String; 2]>::try_from(lines(&server.database, &query).await).unwrap()
        };
        let (plans, cells) = (column("v.id").await, column("p.set_up_id").await);
        let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
        clock.pass(60);
        Self { clock, server, aino, ilma, plans, cells }
    }

    async fn run(&self, cell: usize, readings: &[&str]) -> Page {
        self.clock.pass(300);
        let round = self.aino.get("/").await;
        let mut fields = round.form("td.do form");
        fields.insert("plan_version".into(), self.plans[cell].clone());
        fields.insert("key".into(), uuid::Uuid::new_v4().to_string());
        let begun = self.aino.post("/checks", &fields).await;
        assert_eq!(begun.status, StatusCode::SEE_OTHER, "{}", begun.words("main"));
        let page = self.aino.run_to_end(&begun.location.unwrap(), readings).await;
        self.clock.pass(60);
        page
    }

    /// Changes the use of a cell, or of the whole where none is named.
    async fn use_it(&self, bench: &Bench, cell: Option<usize>, to: &str) -> Page {
        self.clock.pass(60);
        let page = bench.get("/instruments/R-02").await;
        let version = page.attribute("#use input[name=version]", "value").unwrap();
        let of = cell.map_or(String::new(), |cell| self.cells[cell].clone());
        let typed = [
            ("to", to),
            ("of", of.as_str()),
            ("reason", "as the check says"),
            ("restricted_to", "rolls below 10 kg"),
            ("version", version.as_str()),
        ];
        let done = post(bench, "/instruments/R-02/state", &typed).await;
        self.clock.pass(60);
        done
    }

    /// State of the instrument, then of its cells.
    async fn states(&self) -> Vec<String> {
        let query = "SELECT state AS line FROM (SELECT 0 AS id, state FROM instruments WHERE tag = 'R-02'
            UNION ALL SELECT s.id, s.state FROM set_ups s JOIN instruments i ON i.id = s.instrument_id
            WHERE i.tag = 'R-02') all_of ORDER BY id";
        lines(&self.server.database, query).await
    }

    /// A lead orders a check of a cell.
    async fn order(&self, cell: usize) {
        let query = format!(
            "SELECT plan_id::text AS line FROM plan_versions WHERE id = {}",
            self.plans[cell]
        );
        let plan = lines(&self.server.database, &query).await.remove(0);
        let order = [("reason", "cleaned and levelled, the pan was touching")];
        let ordered = post(&self.ilma, &format!("/plans/{plan}/order"), &order).await;
        assert_eq!(ordered.status, StatusCode::SEE_OTHER, "{}", ordered.words("main"));
    }

    async fn page(&self) -> Page {
        self.ilma.get("/instruments/R-02").await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_on_one_cell_holds_that_cell_alone() {
    let case = Case::new().await;
    case.run(0, &FINE).await;
    case.run(1, &FAILING).await;
    assert_eq!(case.states().await, ["in_service", "in_service", "restricted"]);
    let page = case.page().await;
    assert_eq!(page.words(".page-head .beside").trim(), "May be used in part");
    assert!(page.text.contains("May be used on: as installed."), "{}", page.words("main"));
    assert!(page.text.contains("long beam is restricted: nothing until its failed check"));
    let label = case.ilma.get("/instruments/R-02/label.svg").await;
    assert!(label.text.contains("May be used in part"), "{}", label.text);
    assert!(label.text.contains("only: as installed"), "{}", label.text);

    // Its repeat fails, too: on hold, and the other cell is none the worse.
    case.run(1, &FAILING).await;
    assert_eq!(case.states().await, ["in_service", "in_service", "on_hold"]);
    let cells = case.page().await.all("table td.state");
    assert!(cells.iter().any(|words| words.contains("On hold; checked")), "{cells:?}");
    let notices = lines(
        &case.server.database,
        "SELECT title AS line FROM notices WHERE taken_by IS NULL AND kind = 'confirmed'",
    )
    .await;
    assert_eq!(notices, ["Tank scale R-02 (long beam): its failure is confirmed"]);

    // That the whole is held and comes back decides nothing about the cell: its notice stays.
    assert_eq!(case.use_it(&case.aino, None, "on_hold").await.status, StatusCode::SEE_OTHER);
    case.order(0).await;
    case.run(0, &FINE).await;
    let back = case.use_it(&case.ilma, None, "in_service").await;
    assert_eq!(back.status, StatusCode::SEE_OTHER, "{}", back.words("#use"));
    assert_eq!(case.states().await, ["in_service", "in_service", "on_hold"]);
    let still = lines(
        &case.server.database,
        "SELECT kind AS line FROM notices WHERE taken_by IS NULL AND kind = 'confirmed'",
    )
    .await;
    assert_eq!(still, ["confirmed"]);

    // Nor is anybody stuck where the other cell, or this one, goes out of use meanwhile: it is still offered by itself.
    for cell in [0, 1] {
        let path = format!("/instruments/R-02/set-ups/{}", case.cells[cell]);
        let out = post(&case.ilma, &path, &[("in_use", "no")]).await;
        assert_eq!(out.status, StatusCode::SEE_OTHER, "{}", out.words("main"));
        let offered = case.page().await.all("#of option");
        assert!(offered.iter().any(|one| one == "long beam alone"), "{cell}: {offered:?}");
        let back = post(&case.ilma, &path, &[("in_use", "yes")]).await;
        assert_eq!(back.status, StatusCode::SEE_OTHER, "{}", back.words("main"));
    }

    // A pass on the other cell frees it as little as time does.
    let freed = case.use_it(&case.ilma, Some(1), "in_service").await;
    assert_eq!(freed.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(freed.words("#use").contains("through a good check only"), "{}", freed.words("#use"));
    // Nor is it away or gone by itself.
    let away = case.use_it(&case.ilma, Some(1), "out").await;
    assert!(away.words("#use").contains("Only the whole instrument can be out of use"));
    // A technician may hold a cell, and nothing else.
    let held = case.use_it(&case.aino, Some(0), "on_hold").await;
    assert_eq!(held.status, StatusCode::SEE_OTHER, "{}", held.words("#use"));
    assert_eq!(case.states().await, ["in_service", "on_hold", "on_hold"]);
    let page = case.page().await;
    assert_eq!(page.words(".page-head .beside").trim(), "Do not use: a lead decides");
    let history = page.words("main");
    assert!(history.contains("as installed: on hold: as the check says (Aino"), "{history}");

    // The ways on lead each cell back by itself.
    for cell in [0, 1] {
        let ways = case.page().await.words("#way-on");
        assert!(ways.contains("Order a check"), "{ways}");
        case.order(cell).await;
        case.run(cell, &FINE).await;
        let ways = case.page().await.words("#way-on");
        assert!(ways.contains("Put it back in service"), "{ways}");
        let back = case.use_it(&case.ilma, Some(cell), "in_service").await;
        assert_eq!(back.status, StatusCode::SEE_OTHER, "{}", back.words("#use"));
    }
    assert_eq!(case.states().await, ["in_service", "in_service", "in_service"]);
    assert!(case.page().await.find("#way-on").is_none());
    let still = lines(
        &case.server.database,
        "SELECT kind AS line FROM notices WHERE taken_by IS NULL AND kind IN ('failed', 'confirmed')",
    )
    .await;
    assert!(still.is_empty(), "a lead has decided: {still:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_not_checked_since_stays_behind() {
    let case = Case::new().await;
    case.run(0, &FINE).await;
    case.run(1, &FINE).await;
    // Dropped: the whole is on hold; one cell is checked, and comes back alone.
    assert_eq!(case.use_it(&case.aino, None, "on_hold").await.status, StatusCode::SEE_OTHER);
    let early = case.use_it(&case.ilma, None, "in_service").await;
    assert_eq!(early.status, StatusCode::UNPROCESSABLE_ENTITY, "nothing was checked since");
    case.order(0).await;
    case.run(0, &FINE).await;
    let back = case.use_it(&case.ilma, None, "in_service").await;
    assert_eq!(back.status, StatusCode::SEE_OTHER, "{}", back.words("#use"));
    assert_eq!(case.states().await, ["in_service", "in_service", "on_hold"]);
    let page = case.page().await;
    assert!(page.text.contains("long beam: on hold: not proven since the instrument came back"));
    assert_eq!(page.words(".page-head .beside").trim(), "May be used in part");
    // That the instrument came back later does not un-make a good check of the cell before.
    case.use_it(&case.ilma, Some(1), "restricted").await;
    assert_eq!(case.states().await[2], "on_hold", "not without a good check");

    // The restricted cell is told apart on the gate, too.
    case.order(1).await;
    case.run(1, &FINE).await;
    let restricted = case.use_it(&case.ilma, Some(1), "restricted").await;
    assert_eq!(restricted.status, StatusCode::SEE_OTHER, "{}", restricted.words("#use"));
    assert!(case.page().await.text.contains("long beam is restricted: rolls below 10 kg"));
    let gate = async |cell: &str| {
        let asked = format!("/api/release?instrument=R-02&cell={cell}&value=20&unit=kg");
        case.ilma.get(&asked).await
    };
    let held = gate("long+beam").await;
    assert!(held.text.contains("its cell is restricted to: rolls below 10 kg"), "{}", held.text);
    let free = gate("as+installed").await;
    assert!(free.text.contains("\"released\":true"), "{}", free.text);
    let whole = gate("").await;
    assert!(whole.text.contains("\"released\":false"), "without a cell all have to stand well");
    let none = gate("short+beam").await;
    assert_eq!(none.status, StatusCode::NOT_FOUND);
    assert!(none.text.contains("It has “as installed”, “long beam”"), "{}", none.text);
    // On the round each row speaks of its own cell.
    let round = case.aino.get("/").await;
    let rows = round.all("table.round tbody tr");
    let own: Vec<&String> = rows.iter().filter(|row| row.contains("R-02")).collect();
    assert_eq!(own.len(), 2, "{rows:?}");
    assert_eq!(own.iter().filter(|row| row.contains("Restricted")).count(), 1, "{own:?}");
}

/// The proof of an adjustment is one of the cell that was adjusted.
#[tokio::test(flavor = "multi_thread")]
async fn an_as_left_check_proves_its_own_cell() {
    let case = Case::new().await;
    case.run(0, &FAILING).await;
    let confirmed = case.run(0, &FAILING).await;
    let record = confirmed.attribute(".head-links a", "href").unwrap();
    let check = record.trim_end_matches("/record");
    let typed = [
        ("kind", "gain"),
        ("gain", "-0,14"),
        ("performed_by", "1"),
        ("standard", "1"),
        ("reason", "span has gone up"),
    ];
    let done = post(&case.ilma, &format!("{check}/adjust"), &typed).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("main"));
    let adjusted = lines(
        &case.server.database,
        "SELECT set_up_id::text AS line FROM adjustments ORDER BY id DESC LIMIT 1",
    )
    .await;
    assert_eq!(adjusted, [case.cells[0].clone()]);
    assert_eq!(case.states().await, ["in_service", "on_hold", "in_service"]);
    // An as-left check of the other cell, put in by hand: it proves nothing here.
    let other = format!(
        "INSERT INTO checks SELECT (jsonb_populate_record(c, jsonb_build_object('id', 9000001, 'idempotency_key', gen_random_uuid(),
             'plan_version_id', {}, 'purpose', 'as_left'))).* FROM checks c
         WHERE c.id = {} ",
        case.plans[1],
        check.rsplit('/').next().unwrap()
    );
    case.server.owner().await.batch_execute(&other).await.unwrap();
    assert!(case.page().await.words("#way-on").contains("Prove the adjustment"));
}

/// What a check showed of a cell ages from the day after the next one fell due; a cell without a check says that.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_known_of_a_cell_ages() {
    let case = Case::new().await;
    case.run(0, &FINE).await;
    let row = |page: &Page, n: usize| page.all("table.cells tbody tr")[n].clone();
    let page = case.ilma.get("/instruments/R-02").await;
    assert!(row(&page, 0).contains("checked, last on 24 Nov 2026"), "{}", row(&page, 0));
    assert!(!row(&page, 0).contains("ageing"));
    assert!(row(&page, 1).contains("not checked yet"), "{}", row(&page, 1));
    case.clock.pass(3 * 24 * 3600);
    let lead = ilma(&case.server).await;
    let page = lead.get("/instruments/R-02").await;
    let words = row(&page, 0);
    assert!(
        words.contains("last on 24 Nov 2026; ageing: its plan wants a check each shift"),
        "{words}"
    );
    assert!(row(&page, 1).contains("not checked yet"));
}
