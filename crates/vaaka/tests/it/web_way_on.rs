//! No instrument is stuck: from every state there is a way back to use, found on its page by whom it is for.

use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server};
use crate::web_chart_room::{FINE, ilma, lines, post, with_clock};

const FAILING: [&str; 9] =
    ["0.000", "5.003", "10.014", "20.029", "20.030", "20.031", "10.014", "5.003", "0.000"];

struct Case {
    clock: std::sync::Arc<HandClock>,
    server: Server,
    aino: Bench,
    ilma: Bench,
}

impl Case {
    async fn new() -> Self {
        let (clock, server) = with_clock().await;
        let (aino, ilma) = (Bench::aino(&server.base).await, ilma(&server).await);
        clock.pass(60);
        Self { clock, server, aino, ilma }
    }

    async fn run(&self, readings: &[&str]) -> Page {
        self.clock.pass(300);
        let page = self.aino.run("R-02", readings).await;
        self.clock.pass(60);
        page
    }

    async fn ways(&self, bench: &Bench) -> Vec<String> {
        bench.get("/instruments/R-02").await.all("#way-on li")
    }

    async fn state(&self) -> String {
        lines(&self.server.database, "SELECT state AS line FROM instruments WHERE tag = 'R-02'")
            .await
            .remove(0)
    }

    async fn order(&self, bench: &Bench, reason: &str) -> Page {
        let page = bench.get("/instruments/R-02").await;
        let action = page.attribute("#way-on form", "action").unwrap_or("/plans/1/order".into());
        post(bench, &action, &[("reason", reason)]).await
    }

    async fn use_it(&self, to: &str) -> Page {
        let page = self.ilma.get("/instruments/R-02").await;
        let version = page.attribute("#use input[name=version]", "value").unwrap();
        let typed = [("to", to), ("reason", "as the check says"), ("version", version.as_str())];
        post(&self.ilma, "/instruments/R-02/state", &typed).await
    }

    /// From wherever it stands back to use, by nothing but what its page offers.
    async fn back_to_use(&self) {
        for _ in 0..6 {
            let ways = self.ways(&self.ilma).await;
            let ways: Vec<String> = ways.iter().map(|way| way.to_lowercase()).collect();
            let Some(way) = ways.iter().rfind(|way| !way.contains("adjust")) else { break };
            if way.contains("order a check") {
                let done =
                    self.order(&self.ilma, "cleaned and levelled, the pan was touching").await;
                assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
            } else if way.contains("back in service") {
                let done = self.use_it("in_service").await;
                assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("#use"));
            } else if way.contains("take it back") {
                let done = self.use_it("on_hold").await;
                assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("#use"));
            } else if way.contains("check that is due") || way.contains("repeat its check") {
                self.run(&FINE).await;
            } else {
                panic!("an unknown way: {way}");
            }
        }
        assert_eq!(self.state().await, "in_service");
        assert!(self.ways(&self.ilma).await.is_empty());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn failed_then_passed_is_no_dead_end() {
    let case = Case::new().await;
    case.run(&FAILING).await;
    let doubtful = case.run(&FINE).await;
    assert!(doubtful.words(".action").contains("a lead decides"), "{}", doubtful.text);
    assert_eq!(case.ways(&case.aino).await, ["A lead decides what happens next."]);
    // The round, the instrument's page and its list say one and the same.
    for path in ["/", "/instruments/R-02", "/instruments"] {
        let page = case.ilma.get(path).await;
        assert!(page.text.contains("Doubtful, a lead decides"), "{path}");
    }
    let ways = case.ways(&case.ilma).await;
    assert!(ways.iter().any(|way| way.contains("Order a check")), "{ways:?}");
    assert!(ways.iter().any(|way| way.contains("Adjust it")), "{ways:?}");
    // What was settled is said in a sentence, by a lead.
    let vague = case.order(&case.ilma, "ok").await;
    assert_eq!(vague.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(vague.words("#way-on .field-error").contains("what was settled"), "{}", vague.text);
    assert_eq!(
        case.order(&case.aino, "cleaned and levelled it").await.status,
        StatusCode::FORBIDDEN
    );
    case.back_to_use().await;
    let states = lines(
        &case.server.database,
        "SELECT r.repeat_state || ' ' || c.counts AS line FROM results r JOIN checks c ON c.id = r.check_id
         JOIN instruments i ON i.id = c.instrument_id WHERE i.tag = 'R-02' ORDER BY r.id DESC LIMIT 3",
    )
    .await;
    assert_eq!(states, ["none true", "doubtful false", "repeat_allowed true"]);
    // Once is enough: nothing is due any more.
    let again = case.order(&case.ilma, "cleaned and levelled it once more").await;
    assert_eq!(again.status, StatusCode::SEE_OTHER, "an order is a lead's to give");
    let twice = case.order(&case.ilma, "cleaned and levelled it once more").await;
    assert!(twice.text.contains("due already"), "{}", twice.words("main"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_confirmed_failure_is_no_dead_end() {
    let case = Case::new().await;
    case.run(&FAILING).await;
    case.run(&FAILING).await;
    assert_eq!(case.state().await, "on_hold");
    case.back_to_use().await;
}

/// A hold between the failure and its repeat, laid up and back, and a first run that a lead voids.
#[tokio::test(flavor = "multi_thread")]
async fn holds_service_and_void_runs_lead_back_too() {
    let case = Case::new().await;
    case.run(&FAILING).await;
    assert_eq!(case.use_it("on_hold").await.status, StatusCode::SEE_OTHER);
    case.back_to_use().await;
    // Away and back in the same shift, its check done before.
    assert_eq!(case.use_it("out").await.status, StatusCode::SEE_OTHER);
    case.back_to_use().await;
    let case = Case::new().await;
    case.run(&FAILING).await;
    let first =
        lines(&case.server.database, "SELECT max(id)::text AS line FROM checks").await.remove(0);
    let void =
        post(&case.ilma, &format!("/checks/{first}/void"), &[("words", "the wrong weights")]).await;
    assert_eq!(void.status, StatusCode::SEE_OTHER, "{}", void.text);
    assert_eq!(case.state().await, "restricted", "what a verdict did a person undoes");
    case.back_to_use().await;
}
