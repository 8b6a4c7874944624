//! Limits over a drift, over an open signal or beyond the tolerance: one lead proposes, another countersigns.

use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server};
use crate::web_chart_room::{
    FINE, QUIET, chart, freeze, ilma, lines, next_shift, number, post, rauno, with_clock,
};

const WORDS: [(&str, &str); 2] =
    [("name", "As it drifts"), ("reason", "the line runs on until the spare cell arrives")];

struct Case {
    clock: std::sync::Arc<HandClock>,
    server: Server,
    id: i64,
    ilma: Bench,
    rauno: Bench,
}

impl Case {
    /// The tank scale drifts since the end of October, and its signal is open.
    async fn new() -> Self {
        let (clock, server) = with_clock().await;
        // Its second level, 20 kg.
        let id = chart(&server, "R-02").await + 1;
        let (ilma, rauno) = (ilma(&server).await, rauno(&server).await);
        Self { clock, server, id, ilma, rauno }
    }

    /// The study of the weeks in which it drifts.
    fn drifting(&self) -> String {
        format!("/charts/{}/study?chosen=yes&from=2026-11-02", self.id)
    }

    fn study(&self) -> String {
        format!("/charts/{}/study", self.id)
    }

    async fn propose(&self) -> Page {
        let page = self.ilma.get(&self.drifting()).await;
        freeze(&self.ilma, &self.study(), &page, &WORDS).await
    }

    async fn decide(&self, bench: &Bench, verdict: &str, words: &str) -> Page {
        let waiting = self.waiting().await;
        let path = format!("/charts/{}/countersign", self.id);
        let typed = [("proposal", waiting.as_str()), ("verdict", verdict), ("decision", words)];
        post(bench, &path, &typed).await
    }

    async fn waiting(&self) -> String {
        let query = format!(
            "SELECT coalesce(max(id), 0) AS number FROM limit_proposals WHERE stream_id = {}",
            self.id
        );
        number(&self.server.database, &query).await.to_string()
    }

    async fn baselines(&self) -> i64 {
        let query = format!(
            "SELECT count(*) AS number FROM baselines b JOIN segments g ON g.id = b.segment_id
             WHERE g.stream_id = {}",
            self.id
        );
        number(&self.server.database, &query).await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn limits_over_a_drift_want_a_second_lead() {
    let case = Case::new().await;
    let before = case.baselines().await;
    let page = case.ilma.get(&case.drifting()).await;
    let against = page.words(".card-strip.out");
    assert!(against.contains("A second lead has to countersign"), "{}", page.text);
    assert!(against.contains("not closed"), "an open signal: {against}");
    assert!(against.contains("drifts"), "a slope: {against}");
    assert!(!page.all("svg.chart .tolerance-limit").is_empty(), "the study draws the tolerance");
    // A reason that nobody understands in a year is none.
    let vague =
        freeze(&case.ilma, &case.study(), &page, &[("name", "As it drifts"), ("reason", "x")])
            .await;
    assert_eq!(vague.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(vague.words("#f-reason-error").contains("understands in a year"), "{}", vague.text);
    assert_eq!(vague.words("#f-reason"), "x", "what was typed is kept");
    // Proposed, not frozen.
    let proposed = case.propose().await;
    assert_eq!(proposed.status, StatusCode::SEE_OTHER, "{}", proposed.text);
    assert_eq!(case.baselines().await, before);
    let own = case.ilma.get(&case.study()).await;
    assert!(
        own.words("#waiting").contains("Another lead countersigns"),
        "{}",
        own.words("#waiting")
    );
    assert!(own.find("#waiting button[value=countersign]").is_none());
    let notices = lines(&case.server.database, "SELECT title AS line FROM notices").await;
    assert!(
        notices.iter().any(|title| title.contains("Limits to countersign: R-02")),
        "{notices:?}"
    );
    // One proposal at a time; the proposer alone freezes nothing, nor does a technician.
    let page = case.rauno.get(&case.drifting()).await;
    let again = freeze(&case.rauno, &case.study(), &page, &WORDS).await;
    assert!(again.text.contains("wait to be countersigned"), "{}", again.text);
    let reason = "looked at the course with maintenance, agreed until December";
    let alone = case.decide(&case.ilma, "countersign", reason).await;
    assert_eq!(alone.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(alone.words("#decision-error").contains("Another lead"), "{}", alone.text);
    let aino = Bench::aino(&case.server.base).await;
    assert_eq!(case.decide(&aino, "countersign", reason).await.status, StatusCode::FORBIDDEN);
    assert!(aino.get(&case.study()).await.find("#waiting form").is_none());
    // Meanwhile the shift brings its check: what was proposed stands as it was.
    next_shift(&case.clock, &aino).await;
    aino.run("R-02", &FINE).await;
    let vague = case.decide(&case.rauno, "countersign", "ok ok").await;
    assert_eq!(vague.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(vague.words("#decision"), "ok ok");
    let signed = case.decide(&case.rauno, "countersign", reason).await;
    assert_eq!(signed.status, StatusCode::SEE_OTHER, "{}", signed.text);
    assert_eq!(case.baselines().await, before + 1);
    let card = case.ilma.get(&format!("/charts/{}", case.id)).await.words("aside");
    assert!(card.contains("frozen by Ilma Tarvola"), "{card}");
    assert!(card.contains("countersigned by Rauno") && card.contains(reason), "{card}");
    let open = "SELECT count(*) AS number FROM notices WHERE kind = 'limits_to_countersign'
        AND taken_by IS NULL";
    assert_eq!(number(&case.server.database, open).await, 0, "nobody is asked any more");
    // Decided is decided.
    let late = case.decide(&case.rauno, "reject", "after all it is not a good idea").await;
    assert!(late.text.contains("decided on meanwhile"), "{}", late.text);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_proposal_is_withdrawn_or_rejected_and_another_may_come() {
    let case = Case::new().await;
    let before = case.baselines().await;
    // Who thinks better of it proposes again, and the first is withdrawn.
    case.propose().await;
    assert_eq!(case.propose().await.status, StatusCode::SEE_OTHER);
    let back = case.decide(&case.ilma, "withdraw", "").await;
    assert_eq!(back.status, StatusCode::SEE_OTHER, "{}", back.text);
    assert!(case.ilma.get(&case.study()).await.find("#waiting").is_none());
    case.propose().await;
    let silent = case.decide(&case.rauno, "reject", "").await;
    assert_eq!(silent.status, StatusCode::UNPROCESSABLE_ENTITY);
    let reason = "find the cause first, the cell is suspected";
    case.decide(&case.rauno, "reject", reason).await;
    let states = lines(
        &case.server.database,
        "SELECT state || ': ' || coalesce(decided_reason, '') AS line FROM limit_proposals ORDER BY id",
    )
    .await;
    assert_eq!(
        states,
        [
            "withdrawn: proposed anew".to_owned(),
            "withdrawn: withdrawn".to_owned(),
            format!("rejected: {reason}")
        ]
    );
    assert_eq!(case.baselines().await, before);
    assert_eq!(case.propose().await.status, StatusCode::SEE_OTHER, "nobody is stuck");
    // A late check within the period changes what was proposed: it is not frozen as something else.
    let mut owner = case.server.owner().await;
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut owner,
        &format!(
            "UPDATE chart_points SET value = value + 3 WHERE id = (SELECT max(id) FROM chart_points
             WHERE stream_id = {} AND ordinal IS NOT NULL)",
            case.id
        ),
    )
    .await
    .unwrap();
    let stale = case.decide(&case.rauno, "countersign", "looked at the course of November").await;
    assert_eq!(stale.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(case.baselines().await, before);
    let rejected = case.decide(&case.rauno, "reject", "it is not what was proposed").await;
    assert_eq!(rejected.status, StatusCode::SEE_OTHER, "{}", rejected.text);
}

/// Where nothing speaks against a period, one lead is enough.
#[tokio::test(flavor = "multi_thread")]
async fn a_quiet_period_is_frozen_by_one_lead() {
    let case = Case::new().await;
    let quiet = chart(&case.server, "R-09").await;
    let path = format!("/charts/{quiet}/study");
    let page = case.ilma.get(&path).await;
    assert!(!page.text.contains("A second lead has to countersign"), "{}", page.text);
    let done = freeze(&case.ilma, &path, &page, &WORDS).await;
    assert_eq!(done.location.as_deref(), Some(format!("/charts/{quiet}").as_str()));
}

/// Limits that another lead freezes meanwhile end what waits: it was proposed for a chart that is another one now.
#[tokio::test(flavor = "multi_thread")]
async fn other_limits_end_a_proposal_that_waits() {
    let case = Case::new().await;
    case.propose().await;
    let page = case.rauno.get(&format!("/charts/{}/study?{QUIET}", case.id)).await;
    let done = freeze(&case.rauno, &case.study(), &page, &WORDS).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
    let query = "SELECT state || ': ' || decided_reason AS line FROM limit_proposals";
    let states = lines(&case.server.database, query).await;
    assert_eq!(states, ["withdrawn: other limits were frozen meanwhile"]);
    assert!(case.ilma.get(&case.study()).await.find("#waiting").is_none());
    let open = "SELECT count(*) AS number FROM notices WHERE kind = 'limits_to_countersign'
        AND taken_by IS NULL";
    assert_eq!(number(&case.server.database, open).await, 0);
}
