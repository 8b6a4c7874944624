//! Random sequences of what people do to a check, against a simple model of the rules: what was
//! acknowledged stands, once, and nothing else does.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use diesel::sql_types::{Integer, Text};
use diesel_async::RunQueryDsl;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::{HandClock, Server, demo_database, now};

/// What stands: step and repeat, with what was typed.
type Model = BTreeMap<(String, i32), String>;

struct Walk {
    rng: ChaCha8Rng,
    clock: Arc<HandClock>,
    benches: [Bench; 2],
    /// Token of each person's forms; a form of one is filled in by the other.
    tokens: [String; 2],
    path: String,
    model: Model,
    /// Forms that were sent already, to be sent again at any time.
    sent: Vec<HashMap<String, String>>,
    /// Who has the check in hand.
    holder: usize,
    /// Seconds until the wait is over, by the model's own count.
    wait_left: i64,
}

#[derive(diesel::QueryableByName)]
struct Standing {
    #[diesel(sql_type = Text)]
    step_key: String,
    #[diesel(sql_type = Integer)]
    repeat: i32,
    #[diesel(sql_type = Text)]
    typed: String,
}

fn place(form: &HashMap<String, String>) -> (String, i32) {
    (form["step"].clone(), form["repeat"].parse().unwrap())
}

impl Walk {
    /// Somebody at a bench; who has not the check in hand takes it over first, and before that
    /// gets nothing kept.
    async fn bench(&mut self) -> Bench {
        let who = self.rng.random_range(0..2_usize);
        if who != self.holder {
            let page = self.benches[who].get(&self.path).await;
            if page.status == StatusCode::OK {
                assert!(page.words("h1").ends_with("has this check in hand"), "{}", page.text);
                assert!(page.find("form.entry").is_none());
                let fields = HashMap::from([
                    ("form_token", self.tokens[who].clone()),
                    ("from", (self.holder + 1).to_string()),
                ]);
                let path = format!("{}/take-over", self.path);
                let taken = self.benches[who].post(&path, &fields).await;
                assert_eq!(taken.status, StatusCode::SEE_OTHER, "{}", taken.text);
                self.holder = who;
            }
        }
        self.benches[who].clone()
    }

    /// The other one tries without taking it over: nothing is kept, and what was typed is said.
    async fn do_behind(&mut self, form: &HashMap<String, String>) {
        let other = 1 - self.holder;
        let mut form = form.clone();
        form.insert("form_token".into(), self.tokens[other].clone());
        form.insert("key".into(), uuid::Uuid::new_v4().to_string());
        form.insert("typed".into(), "20.001".into());
        let answer = self.benches[other].post(&format!("{}/entries", self.path), &form).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{}", answer.text);
        assert!(answer.words("p.notice").contains("20.001"), "{}", answer.text);
    }

    /// Something that the step takes, by its key: points and loads carry their value in it.
    fn good(&mut self, step: &str) -> String {
        let parts: Vec<&str> = step.split('-').collect();
        let near = |rng: &mut ChaCha8Rng, nominal: f64, d: f64, places: usize| {
            let off = f64::from(rng.random_range(-4..=4_i32)) * d;
            let text = format!("{:.*}", places, nominal + off);
            // A value of exactly zero may come out as −0.
            let text = text.strip_prefix("-0.000").map_or(text.clone(), |_| "0.000".into());
            if rng.random_bool(0.3) { text.replace('.', ",") } else { text }
        };
        match parts.as_slice() {
            ["standard"] if self.path_is_gauge() => "TR-1".into(),
            ["standard"] => "M1-B".into(),
            ["setting", "1"] => "Pt100".into(),
            ["setting", _] => "°C".into(),
            ["condition", _] => near(&mut self.rng, 22.0, 0.5, 1),
            ["zero"] | ["zero", _] => near(&mut self.rng, 0.0, 0.001, 3),
            ["load", _, nominal, _] => near(&mut self.rng, nominal.parse().unwrap(), 0.001, 3),
            ["point", _, nominal, _] => near(&mut self.rng, nominal.parse().unwrap(), 0.1, 1),
            _ => String::new(),
        }
    }

    fn path_is_gauge(&self) -> bool {
        self.model.contains_key(&("gauge".to_owned(), 0))
    }

    async fn shown(&mut self) -> Option<(Page, HashMap<String, String>)> {
        let page = self.bench().await.get(&self.path.clone()).await;
        if page.status == StatusCode::SEE_OTHER {
            return None;
        }
        let form = page.form("form.entry");
        Some((page, form))
    }

    async fn post(&mut self, form: &HashMap<String, String>) -> Page {
        let path = format!("{}/entries", self.path);
        let who = self.holder;
        let mut form = form.clone();
        form.insert("form_token".into(), self.tokens[who].clone());
        self.benches[who].post(&path, &form).await
    }

    /// Sends what is right; twice now and then, as an impatient finger does.
    async fn do_right(&mut self, page: &Page, mut form: HashMap<String, String>) {
        let (step, repeat) = place(&form);
        if step.ends_with("-over") && self.wait_left > 0 {
            self.clock.pass(self.wait_left);
            self.wait_left = 0;
        }
        let typed = self.good(&step);
        form.insert("typed".into(), typed.clone());
        for name in page.boxes() {
            form.insert(name, "on".into());
        }
        let answer = self.post(&form).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{step} {typed}: {}", answer.text);
        if step == "wait-1" {
            self.wait_left = 600;
        }
        self.model.insert((step, repeat), typed);
        if self.rng.random_bool(0.3) {
            let again = self.post(&form).await;
            assert_eq!(again.status, StatusCode::SEE_OTHER, "{}", again.text);
        }
        self.sent.push(form);
    }

    /// Sends what is wrong: it is refused in words and nothing moves.
    async fn do_wrong(&mut self, form: &HashMap<String, String>) {
        let (step, _) = place(form);
        let waits = step == "wait-1"
            || step == "review"
            || (step.ends_with("-over") && self.wait_left <= 0);
        if waits {
            return;
        }
        let wrong = [
            "abc",
            "",
            "1e9",
            "--5",
            "12.3.4",
            "<b>5</b>",
            "\u{202e}5",
            "9999999999999999999999999",
        ];
        let mut form = form.clone();
        let typed = wrong[self.rng.random_range(0..wrong.len())];
        form.insert("typed".into(), typed.to_owned());
        let answer = self.post(&form).await;
        assert_eq!(
            answer.status,
            StatusCode::UNPROCESSABLE_ENTITY,
            "{step} {typed}: {}",
            answer.text
        );
        assert!(answer.find(".field-error").is_some(), "{step} {typed}: {}", answer.text);
    }

    /// Corrects something kept, with a reason; a new zero voids the loads, a new setting or condition the points.
    async fn correct(&mut self, page: &Page) {
        let links = page.hrefs("table.kept a");
        if links.is_empty() {
            return;
        }
        let link = links[self.rng.random_range(0..links.len())].clone();
        let path = link.clone();
        let shown = self.bench().await.get(&path).await;
        let mut form = shown.form("form.entry");
        if !form.contains_key("replaces") {
            return;
        }
        let (step, repeat) = place(&form);
        let typed = self.good(&step);
        form.insert("typed".into(), typed.clone());
        let silent = self.post(&form).await;
        assert_eq!(silent.status, StatusCode::UNPROCESSABLE_ENTITY, "no reason: {}", silent.text);
        form.insert("reason".into(), "typed wrongly".into());
        let answer = self.post(&form).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{step} {typed}: {}", answer.text);
        self.model.insert((step.clone(), repeat), typed);
        self.model.retain(|(key, _), _| key != "review");
        if step.starts_with("setting") || step.starts_with("condition") {
            self.model.retain(|(key, _), _| !key.starts_with("point-"));
        }
        if step == "zero" {
            self.model.retain(|(key, _), _| !key.starts_with("load-") && key != "zero-return");
        }
    }

    async fn stand(&self, server: &Server) -> Model {
        let id = self.path.rsplit('/').next().unwrap();
        let rows: Vec<Standing> = diesel::sql_query(format!(
            "SELECT r.step_key, r.repeat, r.typed FROM readings r
             LEFT JOIN reading_voids v ON v.reading_id = r.id
             LEFT JOIN readings n ON n.replaces_id = r.id
             WHERE r.check_id = {id} AND v.reading_id IS NULL AND n.id IS NULL"
        ))
        .load(&mut server.owner().await)
        .await
        .unwrap();
        rows.into_iter().map(|row| ((row.step_key, row.repeat), row.typed)).collect()
    }
}

async fn walk(seed: u64, tag: &str) {
    let clock = HandClock::at(now());
    let server = Server::with_clock(demo_database().await, Arc::clone(&clock) as _).await;
    let aino = Bench::aino(&server.base).await;
    let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;
    let path = aino.start(tag).await;
    assert_eq!(teemu.start_again(tag).await, path, "two people come to one check");
    let mut tokens = [String::new(), String::new()];
    for (token, bench) in tokens.iter_mut().zip([&aino, &teemu]) {
        *token = bench.get("/").await.attribute("input[name=form_token]", "value").unwrap();
    }
    let mut walk = Walk {
        rng: ChaCha8Rng::seed_from_u64(seed),
        clock,
        benches: [aino, teemu],
        tokens,
        path,
        model: Model::new(),
        sent: Vec::new(),
        wait_left: 0,
        holder: 0,
    };
    let gauge = ("gauge".to_owned(), 0);
    if tag.starts_with("R-21") {
        walk.model.insert(gauge.clone(), String::new());
    }
    for _ in 0..140 {
        let Some((page, form)) = walk.shown().await else { break };
        match walk.rng.random_range(0..10) {
            0..=4 => walk.do_right(&page, form).await,
            5 => walk.do_wrong(&form).await,
            6 => walk.do_behind(&form).await,
            7 => walk.correct(&page).await,
            8 => {
                // An old form comes back from a sleeping tablet.
                if let Some(old) = walk.sent.last().cloned() {
                    let answer = walk.post(&old).await;
                    assert_eq!(answer.status, StatusCode::SEE_OTHER, "{}", answer.text);
                }
            }
            _ => {
                let seconds = walk.rng.random_range(1..400);
                walk.clock.pass(seconds);
                walk.wait_left -= seconds;
            }
        }
        let mut model = walk.model.clone();
        model.remove(&gauge);
        let trimmed: Model = model.into_iter().map(|(k, v)| (k, v.trim().to_owned())).collect();
        assert_eq!(walk.stand(&server).await, trimmed, "seed {seed}");
    }
    let end = walk.benches[0].get(&walk.path).await;
    assert_eq!(end.status, StatusCode::SEE_OTHER, "the check ends: {}", end.words("h1"));
    assert!(end.location.unwrap().ends_with("/verdict"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_scale_under_random_hands() {
    for seed in 1..=3 {
        walk(seed, "R-02").await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gauge_under_random_hands() {
    for seed in 11..=13 {
        walk(seed, "R-21").await;
    }
}
