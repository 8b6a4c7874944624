//! Instruments that are read over their lines: by the server, by a station, from the simulated bench.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU16, Ordering};
use std::sync::{Arc, Mutex};

use async_trait::async_trait;
use reqwest::StatusCode;
use serde_json::Value;
use tokio::net::TcpListener;
use tokio::sync::Notify;
use tokio::task::JoinHandle;
use vaaka::bench::{Lines, Mood, OnBench, Stands, answer, lay_lines, set_up};
use vaaka_devices::stand_in::{Display, Shows, Speech, Trouble, serve};
use vaaka_store::Store;
use vaaka_store::ids::PersonId;
use vaaka_web::ShiftedClock;

use crate::client::{Bench, Page};
use crate::support::{Server, app_url, now};
use crate::web_chart_room::{lines, number, post};
use crate::web_plans::lead;

/// A stand-in that shows what a test says.
struct Shown {
    speech: Speech,
    display: Mutex<Display>,
    file: Mutex<Vec<u8>>,
    key: Notify,
}

#[async_trait]
impl Shows for Shown {
    fn speech(&self) -> Speech {
        self.speech
    }
    fn trouble(&self) -> Trouble {
        Trouble::None
    }
    async fn display(&self) -> Display {
        self.display.lock().unwrap().clone()
    }
    async fn file(&self) -> Vec<u8> {
        self.file.lock().unwrap().clone()
    }
    async fn pressed(&self) -> u64 {
        self.key.notified().await;
        1
    }
}

/// A stand-in on a port of its own.
struct StandIn {
    shows: Arc<Shown>,
    address: String,
    serving: JoinHandle<()>,
}

impl StandIn {
    async fn new(speech: Speech, text: &str, unit: &str) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap().to_string();
        let display = Display { text: text.into(), unit: unit.into(), steady: true };
        let (display, file) = (Mutex::new(display), Mutex::default());
        let shows = Arc::new(Shown { speech, display, file, key: Notify::new() });
        let serving = tokio::spawn(serve(listener, Arc::clone(&shows)));
        Self { shows, address, serving }
    }

    fn show(&self, text: &str, unit: &str, steady: bool) {
        let display = Display { text: text.into(), unit: unit.into(), steady };
        *self.shows.display.lock().unwrap() = display;
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.serving.abort();
    }
}

/// What is typed into the form of a line for a way of speaking.
fn typed(speech: Speech, address: &str) -> Vec<(String, String)> {
    let link = speech.link("kg");
    [
        ("in_use", "on"),
        ("address", address),
        ("way", link.way.word()),
        ("ask", &link.ask),
        ("line_end", link.line_end.word()),
        ("timeout", "2"),
        ("settle", "0"),
        ("pattern", &link.pattern),
        ("stable_mark", &link.stable_mark),
        ("unit", &link.unit),
    ]
    .map(|(name, value)| (name.to_owned(), value.to_owned()))
    .to_vec()
}

async fn save(bench: &Bench, tag: &str, fields: &[(String, String)]) -> Page {
    let path = format!("/instruments/{tag}/link");
    let page = bench.get(&path).await;
    let fields: Vec<(&str, &str)> =
        fields.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
    bench.submit(&page, &path, &fields).await
}

/// The tank scale with a check that has come to its first reading.
async fn at_first_reading(bench: &Bench, tag: &str) -> (String, Page) {
    let path = bench.start(tag).await;
    for _ in 0..10 {
        let page = bench.get(&path).await;
        if page.find("form.entry.reading, form.entry.trace").is_some() {
            return (path, page);
        }
        assert_eq!(bench.confirm(&path).await.status, StatusCode::SEE_OTHER);
    }
    panic!("no reading in {path}");
}

/// Presses Read as the page's own script does.
async fn read(bench: &Bench, path: &str, page: &Page) -> (StatusCode, Value) {
    let fields: HashMap<String, String> = page.form("form.entry").into_iter().collect();
    let answer = bench.post_short(&format!("{path}/read"), &fields).await;
    let body = serde_json::from_str(&answer.text).unwrap_or(Value::String(answer.text));
    (answer.status, body)
}

fn words(body: &Value) -> String {
    body["words"].as_str().unwrap_or_default().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_is_read_kept_and_told_on_the_record() {
    let server = Server::demo().await;
    let scale = StandIn::new(Speech::Words, "0.000", "kg").await;
    let ilma = lead(&server).await;
    assert_eq!(ilma.get("/links").await.words("h1"), "Connections: no instrument is connected");
    let saved = save(&ilma, "R-02", &typed(Speech::Words, &scale.address)).await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
    let list = ilma.get("/links").await;
    assert_eq!(list.words("h1"), "Connections: 1 instrument is connected");
    assert!(list.words("tbody").contains(&scale.address), "{}", list.words("tbody"));
    let aino = Bench::aino(&server.base).await;
    let (path, page) = at_first_reading(&aino, "R-02").await;
    assert_eq!(page.words("[data-read]"), "Read F9");
    assert!(page.find("[data-saves]").is_none(), "somebody keeps it");
    let (status, body) = read(&aino, &path, &page).await;
    assert_eq!((status, body["typed"].as_str()), (StatusCode::OK, Some("0.000")), "{body}");
    assert!(words(&body).contains("gross +0.000 kg steady"), "{body}");
    // Nothing is kept until somebody keeps it.
    let kept = "SELECT count(*) AS number FROM readings WHERE kind = 'reading' AND check_id = (SELECT max(id) FROM checks)";
    assert_eq!(number(&server.database, kept).await, 0);
    let capture = body["capture"].to_string();
    let sent = aino.send_form(&path, &page, &[("typed", "0.000"), ("capture", &capture)]).await;
    assert_eq!(sent.status, StatusCode::SEE_OTHER, "{}", sent.text);
    // Without scripts the step comes back with the value in its field; grams come as kilograms.
    scale.show("5003", "g", true);
    let page = aino.get(&path).await;
    let shown = aino.post(&format!("{path}/read"), &page.form("form.entry")).await;
    assert_eq!(shown.status, StatusCode::OK, "{}", shown.text);
    assert_eq!(shown.attribute("#typed", "value").unwrap(), "5.003");
    assert!(shown.words("[data-captured]").contains("Converted from 5003 g"), "{}", shown.text);
    let sent = aino.send_form(&path, &shown, &[]).await;
    assert_eq!(sent.status, StatusCode::SEE_OTHER, "{}", sent.text);
    // What is typed over a capture is typed; a capture of another step is none of this one's.
    let page = aino.get(&path).await;
    scale.show("10.008", "kg", true);
    let (_, body) = read(&aino, &path, &page).await;
    let other = body["capture"].to_string();
    let over = aino.send_form(&path, &page, &[("typed", "10.007"), ("capture", &other)]).await;
    assert_eq!(over.status, StatusCode::SEE_OTHER, "{}", over.text);
    let page = aino.get(&path).await;
    let stale = aino.send_form(&path, &page, &[("typed", "20.016"), ("capture", &capture)]).await;
    assert_eq!(stale.status, StatusCode::SEE_OTHER, "{}", stale.text);
    let sources = lines(
        &server.database,
        "SELECT typed || ' ' || source AS line FROM readings WHERE kind = 'reading' AND check_id = (SELECT max(id) FROM checks) ORDER BY id",
    )
    .await;
    assert_eq!(sources, ["0.000 device", "5.003 device", "10.007 keyed", "20.016 keyed"]);
    let record = aino.get(&format!("{path}/record")).await;
    let entries = record.words("table.entries");
    let from =
        format!("captured from the instrument at {}: “gross +0.000 kg steady”", scale.address);
    assert!(entries.contains(&from), "{entries}");
    assert!(record.words("main").contains("Captured, not kept"), "{}", record.text);
    assert!(record.words("main").contains("“gross +10.008 kg steady” (Aino Verkala)"));
    // The trail knows what was captured, and is whole.
    let looked = ilma.look_over(&server).await;
    assert!(looked.contains("Unbroken") || looked.contains("unbroken"), "{looked}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_does_not_fit_is_refused_and_typing_goes_on() {
    let server = Server::demo().await;
    let scale = StandIn::new(Speech::Words, "20.016", "mm").await;
    let ilma = lead(&server).await;
    save(&ilma, "R-02", &typed(Speech::Words, &scale.address)).await;
    let aino = Bench::aino(&server.base).await;
    let (path, page) = at_first_reading(&aino, "R-02").await;
    let refused = |told: (StatusCode, Value), part: &str| {
        assert_eq!(told.0, StatusCode::UNPROCESSABLE_ENTITY, "{}", told.1);
        assert!(words(&told.1).contains(part), "{}: {}", part, told.1);
    };
    refused(read(&aino, &path, &page).await, "another quantity");
    scale.show("0.0005", "kg", true);
    refused(read(&aino, &path, &page).await, "resolution of this plan is 0.001 kg");
    scale.show("44.1", "lb", true);
    refused(read(&aino, &path, &page).await, "resolution of this plan is 0.001 kg");
    scale.show("1", "stone", true);
    refused(read(&aino, &path, &page).await, "“stone”");
    scale.show("0.004", "kg", false);
    refused(read(&aino, &path, &page).await, "not stable, last 0.004 kg");
    drop(scale);
    refused(read(&aino, &path, &page).await, "No connection to");
    let none = "SELECT count(*) AS number FROM captures";
    assert_eq!(number(&server.database, none).await, 0);
    assert_eq!(number(&server.database, "SELECT count(*) AS number FROM link_turns").await, 0);
    // Typed as ever.
    assert_eq!(aino.read(&path, "0.000").await.status, StatusCode::SEE_OTHER);
    // Where the check is in other hands, or over, nothing is read for it.
    let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;
    let page = aino.get(&path).await;
    assert_eq!(teemu.take_over(&path).await.status, StatusCode::SEE_OTHER);
    let (status, body) = read(&aino, &path, &page).await;
    assert_eq!(status, StatusCode::CONFLICT);
    assert!(words(&body).contains("Somebody else has this check in hand"), "{body}");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_at_a_time_and_who_leaves_gives_it_back() {
    let server = Server::demo().await;
    let scale = StandIn::new(Speech::Numbered, "0.000", "kg").await;
    let ilma = lead(&server).await;
    let mut fields = typed(Speech::Numbered, &scale.address);
    for (name, value) in &mut fields {
        if name == "timeout" {
            "20".clone_into(value);
        }
    }
    assert_eq!(save(&ilma, "R-02", &fields).await.status, StatusCode::SEE_OTHER);
    let aino = Bench::aino(&server.base).await;
    let (path, page) = at_first_reading(&aino, "R-02").await;
    assert!(page.find("[data-own-key]").is_some());
    let has_turn = "SELECT count(*) AS number FROM link_turns";
    let waits_for = async |wanted: i64| {
        while number(&server.database, has_turn).await != wanted {
            tokio::task::yield_now().await;
        }
    };
    // Aino waits for the key; the lead who tries the line meanwhile is told so.
    let (reading, tried) = tokio::join!(read(&aino, &path, &page), async {
        waits_for(1).await;
        let mut fields = fields.clone();
        fields.push(("try".into(), "yes".into()));
        let tried = save(&ilma, "R-02", &fields).await;
        // Whether the line is open yet nobody outside can know: it is pressed until the value has come.
        while number(&server.database, has_turn).await > 0 {
            scale.shows.key.notify_waiters();
            tokio::task::yield_now().await;
        }
        tried
    });
    assert_eq!(reading.0, StatusCode::OK, "{}", reading.1);
    let words = tried.words(".tried");
    assert!(words.contains("Aino Verkala has been reading this instrument since"), "{words}");
    // Who goes away in the middle gives the line back.
    let fields: HashMap<String, String> = page.form("form.entry").into_iter().collect();
    let address = format!("{path}/read");
    tokio::select! {
        _ = aino.post_short(&address, &fields) => panic!("nobody pressed"),
        () = waits_for(1) => {}
    }
    waits_for(0).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_is_described_tried_and_changed() {
    let server = Server::demo().await;
    let scale = StandIn::new(Speech::Words, "1.500", "KG").await;
    let ilma = lead(&server).await;
    let good = typed(Speech::Words, &scale.address);
    let with = |changes: &[(&str, &str)]| -> Vec<(String, String)> {
        let kept = good.iter().filter(|(name, _)| changes.iter().all(|(own, _)| own != name));
        let changed = changes.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned()));
        kept.cloned().chain(changed).collect()
    };
    for (changes, part) in [
        (vec![("address", "")], "Type the address"),
        (vec![("address", "/etc/passwd")], "no serial port"),
        (vec![("ask", "")], "Type the query"),
        (vec![("ask", "Q\\y")], "means nothing here"),
        (vec![("pattern", "(")], "is not valid"),
        (vec![("pattern", "\\d+")], "(?<value>…)"),
        (vec![("pattern", "(?<value>\\d+)"), ("stable_mark", "")], "choose the unit"),
        (vec![("timeout", "90")], "Between 0.1 s and 25 s"),
        (vec![("settle", "3")], "At most 10 s"),
        (vec![("units.0.sent", "KG")], "Choose the unit that it means"),
        (vec![("station", "77")], "one of the list"),
    ] {
        let refused = save(&ilma, "R-02", &with(&changes)).await;
        assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY, "{part}");
        let faults = refused.all(".field-error").join("|");
        assert!(faults.contains(part), "{part}: {faults}");
        // What was typed stays.
        if let Some((name, value)) = changes.first().filter(|(name, _)| *name == "pattern") {
            assert_eq!(refused.attribute(&format!("[name={name}]"), "value").unwrap(), *value);
        }
    }
    let tried = save(
        &ilma,
        "R-02",
        &with(&[("try", "yes"), ("units.0.sent", "KG"), ("units.0.meant", "kg")]),
    )
    .await;
    let words = tried.words(".tried");
    assert!(words.contains("gross +1.500 KG steady") && words.contains("1.500"), "{words}");
    assert!(words.contains("kg"), "KG means it: {words}");
    let nothing = "SELECT count(*) AS number FROM instrument_links";
    assert_eq!(number(&server.database, nothing).await, 0, "a try saves nothing");
    let misfit = save(
        &ilma,
        "R-02",
        &with(&[
            ("try", "yes"),
            ("pattern", "(?<value>\\d+\\.\\d+) (?<unit>KG)"),
            ("stable_mark", ""),
        ]),
    )
    .await;
    let words = misfit.words(".tried");
    assert!(words.contains("No reading") && words.contains("gross +1.500 KG steady"), "{words}");
    // Two leads at once: the second is told, and what they typed stands there.
    let path = "/instruments/R-02/link";
    let page = ilma.get(path).await;
    let pairs: Vec<(&str, &str)> = good.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
    assert_eq!(ilma.submit(&page, path, &pairs).await.status, StatusCode::SEE_OTHER);
    let late = ilma.submit(&page, path, &pairs).await;
    assert_eq!(late.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(late.words("main").contains("Somebody else changed this connection"), "{}", late.text);
    // Not used for now: no Read beside the field, and nothing is read.
    let off: Vec<(String, String)> = good
        .iter()
        .filter(|(name, _)| name != "in_use")
        .cloned()
        .chain([("in_use".into(), String::new())])
        .collect();
    assert_eq!(save(&ilma, "R-02", &off).await.status, StatusCode::SEE_OTHER);
    let aino = Bench::aino(&server.base).await;
    let (path, page) = at_first_reading(&aino, "R-02").await;
    assert!(page.find("[data-read]").is_none());
    let (_, body) = read(&aino, &path, &page).await;
    assert!(self::words(&body).contains("not connected"), "{body}");
}

/// A trace comes as a block; what it holds is asked of it as of a file that somebody sends, and it is kept as it came.
#[tokio::test(flavor = "multi_thread")]
async fn a_trace_is_read_over_the_line() {
    let case = crate::web_trace::Case::begun().await;
    let gauge = StandIn::new(Speech::Table, "0", "").await;
    let saved = save(&case.ilma, "C-13", &typed(Speech::Table, &gauge.address)).await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
    let page = case.teemu.get(&case.path).await;
    assert!(page.find("[data-read]").is_some());
    let (_, body) = read(&case.teemu, &case.path, &page).await;
    assert!(words(&body).contains("sent an empty trace"), "{body}");
    let keep = async |file: &str| {
        *gauge.shows.file.lock().unwrap() = file.as_bytes().to_vec();
        let (status, body) = read(&case.teemu, &case.path, &page).await;
        assert_eq!((status, body["typed"].as_str()), (StatusCode::OK, Some("")), "{body}");
        let capture = body["capture"].to_string();
        case.teemu.send_form(&case.path, &page, &[("capture", &capture)]).await
    };
    let refused = keep("f;A\n1;x\n").await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(!refused.words("#typed-error").is_empty());
    let scan = crate::web_trace::scan(0.11);
    let kept = keep(&scan).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.words("main"));
    let record = case.ilma.get(&format!("{}/record", case.path)).await;
    let entries = record.words("table.entries");
    assert!(entries.contains(&format!("a file of {} bytes", scan.len())), "{entries}");
    assert!(entries.contains("581 points"), "{entries}");
    let file = case.ilma.get(&record.hrefs("table.entries a")[0]).await;
    assert_eq!(file.text, scan, "as it came");
    // What was refused was captured, too, and no entry kept it.
    assert!(record.words("main").contains("Captured, not kept"));
    // A link that sends numbers is none for a scan.
    let numbers = StandIn::new(Speech::Words, "1", "kg").await;
    save(&case.ilma, "C-13", &typed(Speech::Words, &numbers.address)).await;
    let page = case.teemu.get(&case.path).await;
    assert!(page.find("[data-read]").is_none());
    let (_, body) = read(&case.teemu, &case.path, &page).await;
    assert!(words(&body).contains("nothing that this step needs"), "{body}");
}

/// A plan may say that what is read is kept at once: the page does that, and says so in its editor.
#[tokio::test(flavor = "multi_thread")]
async fn a_plan_may_keep_what_is_read_at_once() {
    let server = Server::demo().await;
    let ilma = lead(&server).await;
    let plan = "SELECT p.id AS number FROM plans p JOIN instruments i ON i.id = p.instrument_id WHERE i.tag = 'C-21'";
    let plan = number(&server.database, plan).await;
    let editor = ilma.get(&format!("/plans/{plan}/edit")).await;
    let tick = editor.attribute("[name='s.capture_saves']", "checked");
    assert!(tick.is_some(), "the plan of the foils keeps what is read");
    let reason = [("reason", "foils were changed this afternoon")];
    let ordered = post(&ilma, &format!("/plans/{plan}/order"), &reason).await;
    assert_eq!(ordered.status, StatusCode::SEE_OTHER, "{}", ordered.words("main"));
    let gauge = StandIn::new(Speech::Numbered, "0", "µm").await;
    save(&ilma, "C-21", &typed(Speech::Numbered, &gauge.address)).await;
    let aino = Bench::aino(&server.base).await;
    let (_, page) = at_first_reading(&aino, "C-21").await;
    assert!(page.find("[data-read][data-saves][data-own-key]").is_some(), "{}", page.words("main"));
}

/// The key of a bench PC, as an administrator makes it.
async fn station_key(server: &Server, name: &str, station: bool) -> String {
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let page = onni.get("/keys").await;
    let mut fields = page.form("form.search-form");
    fields.insert("name".into(), name.into());
    if station {
        fields.insert("station".into(), "on".into());
    }
    onni.post("/keys", &fields).await.words(".key-once")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bench_pc_reads_for_the_server() {
    let server = Server::demo().await;
    let scale = StandIn::new(Speech::Words, "0.000", "kg").await;
    let key = station_key(&server, "kitchen bench", true).await;
    let program = station_key(&server, "spreadsheet", false).await;
    let ilma = lead(&server).await;
    for key in ["nonsense", &program] {
        let refused = ilma.get_with_key("/api/stations/next", key).await;
        assert_eq!(refused.status, StatusCode::UNAUTHORIZED);
        let ended = vaaka::station::run(&server.base, key).await.unwrap_err();
        assert!(ended.to_string().contains("does not know this key"), "{ended}");
    }
    // A person is no bench PC, and a bench PC sees no tables and asks for no release.
    for path in ["/export/instruments.csv", "/api/release?instrument=R-02", "/metrics"] {
        assert_eq!(ilma.get_with_key(path, &key).await.status, StatusCode::UNAUTHORIZED, "{path}");
        assert_eq!(ilma.get_with_key(path, &program).await.status, StatusCode::OK, "{path}");
    }
    assert_eq!(ilma.get("/api/stations/next").await.status, StatusCode::UNAUTHORIZED);
    let station = "SELECT id AS number FROM program_keys WHERE station";
    let station = number(&server.database, station).await.to_string();
    let mut fields = typed(Speech::Words, &scale.address);
    fields.push(("station".into(), station));
    assert_eq!(save(&ilma, "R-02", &fields).await.status, StatusCode::SEE_OTHER);
    let aino = Bench::aino(&server.base).await;
    let (path, page) = at_first_reading(&aino, "R-02").await;
    // It is not running yet.
    let (status, body) = read(&aino, &path, &page).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        words(&body).contains("“kitchen bench” does not answer. It has never been seen"),
        "{body}"
    );
    let (base, own) = (server.base.clone(), key.clone());
    let running = tokio::spawn(async move { vaaka::station::run(&base, &own).await });
    let (status, body) = read(&aino, &path, &page).await;
    assert_eq!((status, body["typed"].as_str()), (StatusCode::OK, Some("0.000")), "{body}");
    let capture = body["capture"].to_string();
    let sent = aino.send_form(&path, &page, &[("typed", "0.000"), ("capture", &capture)]).await;
    assert_eq!(sent.status, StatusCode::SEE_OTHER);
    let record = aino.get(&format!("{path}/record")).await.words("table.entries");
    assert!(record.contains("by the bench PC “kitchen bench”"), "{record}");
    assert!(ilma.get("/links").await.words("main").contains("kitchen bench: last seen"));
    // What it meets is told as from here.
    let page = aino.get(&path).await;
    drop(scale);
    let (_, body) = read(&aino, &path, &page).await;
    assert!(words(&body).contains("No connection to"), "{body}");
    // Its key is ended: it stops by itself, and whoever reads is told.
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let keys = onni.get("/keys").await;
    let form = keys.form("form[action$='/end']");
    let action = keys.attribute("form[action$='/end']", "action").unwrap();
    assert_eq!(onni.post(&action, &form).await.status, StatusCode::SEE_OTHER);
    running.abort();
    let (_, body) = read(&aino, &path, &page).await;
    assert!(words(&body).contains("The key of the bench PC “kitchen bench” has ended"), "{body}");
    let ended = vaaka::station::run(&server.base, &key).await.unwrap_err();
    assert!(ended.to_string().contains("does not know this key, or it was ended"), "{ended}");
}

/// Ports for the benches of this run, below those that the system hands out.
static PORTS: AtomicU16 = AtomicU16::new(0);

/// The simulated bench beside a server, with its lines.
pub struct OnTable {
    pub server: Server,
    stands: Vec<Stands>,
    answering: JoinHandle<()>,
}

impl OnTable {
    pub async fn new() -> Self {
        let server = Server::demo().await;
        let own = u16::try_from(std::process::id() % 140).unwrap() * 70;
        let lines = Lines::at(20_000 + own + PORTS.fetch_add(60, Ordering::SeqCst));
        let store = Store::new(&app_url(&server.database), 4).unwrap();
        let mut connection = store.connection().await.unwrap();
        lay_lines(&mut connection, &lines, (PersonId(5), now())).await.unwrap();
        let clock = Arc::new(ShiftedClock::starting_at(now()));
        let stands = set_up(&store, clock).await.unwrap();
        let own = stands.clone();
        let answering = tokio::spawn(async move { answer(&own).await.unwrap() });
        Self { server, stands, answering }
    }

    /// Serves the page of the bench, and gives its address.
    pub async fn page(&self) -> String {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let page = vaaka::bench::page(self.stands.clone());
        tokio::spawn(async move { axum::serve(listener, page).await });
        format!("http://{address}")
    }

    fn of(&self, tag: &str) -> &OnBench {
        &self.stands.iter().find(|one| one.shows.tag() == tag).unwrap().shows
    }
}

impl Drop for OnTable {
    fn drop(&mut self) {
        self.answering.abort();
    }
}

/// Reads until the line is up: the tasks of a bench that was just begun come to it in their own time.
async fn read_when_up(bench: &Bench, path: &str, page: &Page) -> (StatusCode, Value) {
    let mut told = read(bench, path, page).await;
    for _ in 0..200 {
        if !words(&told.1).contains("No connection to") {
            break;
        }
        told = read(bench, path, page).await;
    }
    told
}

/// Whole checks of which every reading is captured: over a port, and over a serial line.
#[tokio::test(flavor = "multi_thread")]
async fn whole_checks_are_read_from_the_bench() {
    let table = OnTable::new().await;
    assert!(table.stands.len() > 20, "{}", table.stands.len());
    let aino = Bench::aino(&table.server.base).await;
    for tag in ["R-02", "R-05"] {
        let (path, _) = at_first_reading(&aino, tag).await;
        let mut captured = 0;
        let verdict = loop {
            let page = aino.get(&path).await;
            if page.status == StatusCode::SEE_OTHER {
                break aino.follow(page).await;
            }
            let answer = if page.find("[data-read]").is_some() {
                let (status, body) = read_when_up(&aino, &path, &page).await;
                assert_eq!(status, StatusCode::OK, "{tag}: {body}");
                captured += 1;
                let capture = body["capture"].to_string();
                let value = body["typed"].as_str().unwrap().to_owned();
                aino.send_form(&path, &page, &[("typed", &value), ("capture", &capture)]).await
            } else {
                aino.confirm(&path).await
            };
            assert_eq!(answer.status, StatusCode::SEE_OTHER, "{tag}: {}", answer.text);
        };
        assert!(captured > 0 && !verdict.words("h1").is_empty(), "{tag}");
        let kept = "SELECT count(*) AS number FROM readings WHERE source = 'device' AND check_id = (SELECT max(id) FROM checks)";
        assert_eq!(number(&table.server.database, kept).await, captured, "{tag}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn troubles_of_the_bench_are_met_at_the_step() {
    let table = OnTable::new().await;
    let aino = Bench::aino(&table.server.base).await;
    let (path, page) = at_first_reading(&aino, "R-02").await;
    assert_eq!(read_when_up(&aino, &path, &page).await.0, StatusCode::OK);
    assert_eq!(aino.read(&path, "0.000").await.status, StatusCode::SEE_OTHER);
    let page = aino.get(&path).await;
    let expected: f64 = page.attribute("form.entry", "data-wanted").unwrap().parse().unwrap();
    let scale = table.of("R-02");
    let shown = |body: &Value| body["typed"].as_str().unwrap().parse::<f64>().unwrap();
    for (mood, part) in [
        (Mood::Line(Trouble::Unplugged), "The connection was lost in mid-reading"),
        (Mood::Line(Trouble::Garbage), "is no reading"),
        (Mood::Unsteady, "not stable"),
        (Mood::OtherUnit, "lb"),
    ] {
        scale.set_mood(mood);
        let (status, body) = read(&aino, &path, &page).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{mood:?}: {body}");
        assert!(words(&body).contains(part), "{mood:?}: {body}");
    }
    scale.set_mood(Mood::WrongPiece);
    let (_, body) = read(&aino, &path, &page).await;
    assert!((shown(&body) - expected / 2.0).abs() < 0.1, "{body}");
    // The guard asks about it as about any other number, and the capture comes along with the answer.
    let capture = body["capture"].to_string();
    let value = body["typed"].as_str().unwrap().to_owned();
    let asked = aino.send_form(&path, &page, &[("typed", &value), ("capture", &capture)]).await;
    assert_eq!(asked.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(asked.attribute("[name=capture]", "value").unwrap(), capture);
    scale.set_mood(Mood::Well);
    let (_, body) = read(&aino, &path, &page).await;
    assert!((shown(&body) - expected).abs() < 0.05, "{body}");
    let well = shown(&body);
    scale.set_mood(Mood::Knocked);
    let (_, body) = read(&aino, &path, &page).await;
    assert!(shown(&body) > well, "{body}");
    // What was asked about and meant all the same is on the record with what came.
    let page = aino.get(&path).await;
    scale.set_mood(Mood::WrongPiece);
    let (_, body) = read(&aino, &path, &page).await;
    let capture = body["capture"].to_string();
    let value = body["typed"].as_str().unwrap().to_owned();
    let typed = [("typed", value.as_str()), ("capture", &capture)];
    let asked = aino.send_form(&path, &page, &typed).await;
    let far = asked.attribute("[name=confirm_far]", "value").unwrap();
    let kept = aino.send_form(&path, &asked, &[("typed", &value), ("confirm_far", &far)]).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.text);
    let entries = aino.get(&format!("{path}/record")).await.words("table.entries");
    assert!(entries.contains(&format!("“gross +{value} kg steady”")), "{entries}");
}

/// The page of the bench: what stands on it, its troubles, its keys; nothing that another site sends.
#[tokio::test(flavor = "multi_thread")]
async fn the_page_of_the_bench() {
    let table = OnTable::new().await;
    let bench = Bench::new(&table.page().await);
    let page = bench.get("/").await;
    assert_eq!(page.words("h1"), "The simulated bench");
    let rows = page.all("tbody tr");
    assert_eq!(rows.len(), table.stands.len());
    assert!(rows.iter().any(|row| row.contains("R-05") && row.contains("/dev/shm/")), "{rows:?}");
    let given = |mood: &'static str| HashMap::from([("mood", mood)]);
    assert_eq!(bench.post("/R-02/mood", &given("mute")).await.status, StatusCode::SEE_OTHER);
    assert_eq!(table.of("R-02").mood(), Mood::Line(Trouble::Mute));
    for (path, mood) in [("/R-02/mood", "sad"), ("/X-99/mood", "well"), ("/X-99/press", "well")] {
        assert_eq!(bench.post(path, &given(mood)).await.status, StatusCode::NOT_FOUND, "{path}");
    }
    let client = reqwest::Client::new();
    let elsewhere = client
        .post(format!("{}/R-02/mood", bench.base))
        .header("sec-fetch-site", "cross-site")
        .form(&given("well"))
        .send();
    assert_eq!(elsewhere.await.unwrap().status(), StatusCode::FORBIDDEN);
    assert_eq!(table.of("R-02").mood(), Mood::Line(Trouble::Mute));
}
