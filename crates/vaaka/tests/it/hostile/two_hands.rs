//! Random sequences of two people, one of them a lead, at one instrument, against a model of who may do what: every answer is
//! the one that the model gives, nothing is ever a failure of the server, and no evidence becomes less.

use std::sync::Arc;

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server};
use crate::web_chart_room::{FINE, ilma, lines, number, post, with_clock};

const FAILING: [&str; 9] =
    ["0.000", "5.003", "10.014", "20.029", "20.030", "20.031", "10.014", "5.003", "0.000"];

const LEAD: usize = 1;

#[derive(Debug, Clone)]
struct Run {
    id: i64,
    passed: bool,
    runner: usize,
    /// After how many orders it was made.
    order: usize,
    at: i64,
    void: bool,
    /// It was a doubt when it was judged, and counts as one for good.
    doubt: bool,
}

/// Where the one repeat stands.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Repeat {
    None,
    Allowed,
    Confirmed,
    Doubtful,
}

#[derive(Debug)]
struct Model {
    service: &'static str,
    since: i64,
    runs: Vec<Run>,
    orders: usize,
    moved_at: i64,
    now: i64,
}

impl Model {
    fn standing(&self) -> impl Iterator<Item = &Run> {
        self.runs.iter().filter(|run| !run.void)
    }

    fn repeat(&self) -> Repeat {
        self.standing().filter(|run| run.order == self.orders).fold(Repeat::None, |state, run| {
            match (state, run.passed) {
                (Repeat::None, true) => Repeat::None,
                (Repeat::None, false) => Repeat::Allowed,
                (Repeat::Allowed, true) => Repeat::Doubtful,
                (Repeat::Allowed, false) => Repeat::Confirmed,
                (decided, _) => decided,
            }
        })
    }

    fn is_moved(&self) -> bool {
        self.standing().last().map_or(self.moved_at > 0, |run| self.moved_at > run.at)
    }

    fn is_due(&self) -> bool {
        // Nothing is asked of it while it is away.
        if self.service == "out" {
            return false;
        }
        let none = !self.standing().any(|run| run.order == self.orders);
        match self.repeat() {
            Repeat::None => none || self.is_moved(),
            Repeat::Allowed => true,
            Repeat::Confirmed | Repeat::Doubtful => false,
        }
    }

    /// The newest run that stands, where it is good: passed, and after no failure that nobody had settled before it.
    fn good(&self) -> Option<&Run> {
        let newest = self.standing().last()?;
        let failed = self
            .standing()
            .any(|run| !run.passed && run.order == newest.order && run.at < newest.at);
        (newest.passed && !failed).then_some(newest)
    }

    fn is_free(&self) -> bool {
        // Before the first run the year of the demo vouches for it.
        let vouched = self.standing().next().is_none() || self.good().is_some();
        self.service == "in_service" && vouched && !self.is_moved()
    }

    fn conclude(&mut self, id: i64, passed: bool, runner: usize) {
        let order = self.orders;
        let at = self.now;
        self.runs.push(Run { id, passed, runner, order, at, void: false, doubt: false });
        let repeat = self.repeat();
        let doubtful = repeat == Repeat::Doubtful;
        if let Some(run) = self.runs.last_mut() {
            run.doubt = doubtful;
        }
        let doubts = self.standing().filter(|run| run.doubt).count();
        let wanted = match repeat {
            Repeat::None => return,
            Repeat::Confirmed => "on_hold",
            Repeat::Doubtful if doubts >= 2 => "on_hold",
            Repeat::Allowed | Repeat::Doubtful => "restricted",
        };
        let rank = |state: &str| {
            ["in_service", "restricted", "on_hold", "out"].iter().position(|one| *one == state)
        };
        if rank(wanted) > rank(self.service)
            || (wanted, self.service) == ("restricted", "restricted")
        {
            self.decide(wanted);
        }
    }

    fn decide(&mut self, to: &'static str) {
        self.service = to;
        self.since = self.now;
    }

    fn may_change(&self, who: usize, to: &str) -> bool {
        let good = self.good().is_some_and(|run| run.at > self.since);
        match (self.service, to) {
            (from, to) if from == to && to != "restricted" => false,
            (_, to) if to != "on_hold" && who != LEAD => false,
            ("on_hold" | "out" | "restricted", "in_service")
            | ("on_hold" | "out", "restricted") => good,
            _ => true,
        }
    }
}

struct Site {
    clock: Arc<HandClock>,
    server: Server,
    people: [Bench; 2],
    model: Model,
}

impl Site {
    async fn new() -> Self {
        let (clock, server) = with_clock().await;
        let people = [Bench::aino(&server.base).await, ilma(&server).await];
        let model =
            Model { service: "in_service", since: 0, runs: vec![], orders: 0, moved_at: 0, now: 0 };
        Self { clock, server, people, model }
    }

    fn pass(&mut self, seconds: i64) {
        self.clock.pass(seconds);
        self.model.now += seconds;
    }

    fn expect(page: &Page, allowed: bool, what: &str, model: &Model) {
        assert!(page.status.as_u16() < 500, "{what}: {} {}", page.status, page.text);
        let done = page.status == StatusCode::SEE_OTHER;
        let said = page.find("main").unwrap_or_default();
        assert_eq!(done, allowed, "{what}: {} {said}\n{model:?}", page.status);
        assert!(done || !said.is_empty(), "{what}: refused without a word");
    }

    async fn check(&mut self, who: usize, passes: bool) {
        let key = uuid::Uuid::new_v4().to_string();
        let begun =
            post(&self.people[who], "/checks", &[("plan_version", "1"), ("key", &key)]).await;
        let due = self.model.is_due();
        Self::expect(&begun, due, "start", &self.model);
        if !due {
            return;
        }
        let path = begun.location.unwrap();
        let readings = if passes { &FINE } else { &FAILING };
        let verdict = self.people[who].run_to_end(&path, readings).await;
        assert!(verdict.text.contains("Within tolerance?"), "{}", verdict.words("main"));
        let id = path.rsplit('/').next().unwrap().parse().unwrap();
        self.model.conclude(id, passes, who);
    }

    async fn order(&mut self, who: usize) {
        let done = post(
            &self.people[who],
            "/plans/1/order",
            &[("reason", "cleaned and levelled once more")],
        )
        .await;
        let allowed = who == LEAD && self.model.service != "out" && !self.model.is_due();
        Self::expect(&done, allowed, "order", &self.model);
        if allowed {
            self.model.orders += 1;
        }
    }

    async fn change(&mut self, who: usize, to: &'static str) {
        let page = self.people[LEAD].get("/instruments/R-02").await;
        let version = page.attribute("#use input[name=version]", "value").unwrap();
        let typed = [
            ("to", to),
            ("reason", "as the check says"),
            ("restricted_to", "rolls under 20 kg"),
            ("version", version.as_str()),
        ];
        let allowed = self.model.may_change(who, to);
        let done = post(&self.people[who], "/instruments/R-02/state", &typed).await;
        Self::expect(&done, allowed, to, &self.model);
        if allowed {
            self.model.decide(to);
        }
    }

    async fn void(&mut self, who: usize, which: usize) {
        let Some(run) = self.model.runs.get(which).cloned() else { return };
        let path = format!("/checks/{}/void", run.id);
        let done =
            post(&self.people[who], &path, &[("words", "the wrong weights were on it")]).await;
        let allowed = !run.void && who == LEAD && run.runner != who;
        Self::expect(&done, allowed, "void", &self.model);
        if allowed {
            self.model.runs[which].void = true;
        }
    }

    async fn moved(&mut self, who: usize) {
        let typed = [("kind", "moved"), ("note", "pushed by the truck")];
        let done = post(&self.people[who], "/instruments/R-02/events", &typed).await;
        Self::expect(&done, true, "moved", &self.model);
        self.model.moved_at = self.model.now;
    }

    /// What is stored says what the model says, and evidence never becomes less.
    async fn compare(&self, before: &mut [i64; 3]) {
        let database = &self.server.database;
        let state =
            lines(database, "SELECT state AS line FROM instruments WHERE tag = 'R-02'").await;
        assert_eq!(state, [self.model.service], "{:?}", self.model);
        let gate = self.people[0].get("/api/release?instrument=R-02").await;
        let gate: serde_json::Value = serde_json::from_str(&gate.text).unwrap();
        assert_eq!(gate["use"] == "May be used", self.model.is_free(), "{gate}\n{:?}", self.model);
        let mut now = [0; 3];
        for (count, table) in now.iter_mut().zip(["readings", "results", "audit_entries"]) {
            *count = number(database, &format!("SELECT count(*) AS number FROM {table}")).await;
        }
        assert!(now.iter().zip(before.iter()).all(|(now, before)| now >= before));
        *before = now;
    }
}

async fn walk(seed: u64, steps: usize) {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut site = Site::new().await;
    let mut evidence = [0; 3];
    for _ in 0..steps {
        site.pass(60);
        let who = rng.random_range(0..2_usize);
        match rng.random_range(0..12_u32) {
            0..5 => {
                let passes = rng.random_range(0..3_u32) > 0;
                site.check(who, passes).await;
            }
            5 | 6 => site.order(who).await,
            7 | 8 => {
                let to =
                    ["in_service", "restricted", "on_hold", "out"][rng.random_range(0..4_usize)];
                site.change(who, to).await;
            }
            9 => site.change(LEAD, "in_service").await,
            10 => {
                let which = rng.random_range(0..site.model.runs.len().max(1));
                site.void(who, which).await;
            }
            _ => site.moved(who).await,
        }
        site.pass(60);
        site.compare(&mut evidence).await;
    }
    assert!(site.people[LEAD].look_over(&site.server).await.contains("Unbroken."));
}

#[tokio::test(flavor = "multi_thread")]
async fn two_people_and_a_model_of_who_may_do_what() {
    for seed in [11, 12, 13] {
        walk(seed, 40).await;
    }
}
