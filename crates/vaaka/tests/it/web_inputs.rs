//! What a step can ask for beside a number, a tag and a tick: a choice, a text, a count, and a setting whose setting right is
//! a lead's.

use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::Server;
use crate::web_chart_room::{lines, post};
use crate::web_plans::{TWO_WAYS, editor, lead, other_lead, press};

/// The settings of the plan: one of each kind.
const SETTINGS: [(&str, &str); 16] = [
    ("s.settings.0.name", "the unit on the display"),
    ("s.settings.0.kind", "exactly"),
    ("s.settings.0.expected", "bar = 10⁵ Pa"),
    ("s.settings.0.by_lead", "on"),
    ("s.settings.1.name", "the damping"),
    ("s.settings.1.kind", "one_of"),
    ("s.settings.1.expected", "slow = S; middle; fast = F = quick"),
    ("s.settings.2.name", "the serial of the hose"),
    ("s.settings.2.kind", "text"),
    ("s.settings.2.expected", ""),
    ("s.settings.3.name", "the number of adapters"),
    ("s.settings.3.kind", "count"),
    ("s.settings.3.expected", ""),
    ("s.conditions.0.name", ""),
    ("s.waits.0.what", ""),
    ("s.preparation", ""),
];

struct Case {
    server: Server,
    teemu: Bench,
    ilma: Bench,
}

impl Case {
    /// The plan written by one lead and approved by the other.
    async fn new() -> Self {
        let server = Server::demo().await;
        let (ilma, rauno) = (lead(&server).await, other_lead(&server).await);
        let page = editor(&ilma).await;
        let typed: Vec<(&str, &str)> = TWO_WAYS.into_iter().chain(SETTINGS).collect();
        let saved = ilma.submit(&page, "/new/plan", &typed).await;
        assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
        let version = saved.location.unwrap();
        let preview = ilma.get(&version).await.words("main");
        for words in [
            "it must be bar (or 10⁵ Pa); found otherwise, a lead decides",
            "one of these: slow, middle, fast",
            "the serial of the hose, as it stands there",
            "the number of adapters, a whole number",
        ] {
            assert!(preview.contains(words), "no “{words}” in {preview}");
        }
        assert_eq!(press(&rauno, &version, "approve").await.status, StatusCode::SEE_OTHER);
        let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;
        Self { server, teemu, ilma }
    }

    /// A check up to its first setting.
    async fn begun(&self) -> String {
        let path = self.teemu.start("P-12").await;
        self.teemu.confirm(&path).await;
        self.kept(&self.teemu, &path, "PR-1").await;
        path
    }

    async fn kept(&self, bench: &Bench, path: &str, typed: &str) {
        let answer = bench.send(path, typed).await;
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{typed}: {}", answer.text);
    }

    async fn refused(&self, bench: &Bench, path: &str, typed: &str) -> Page {
        let answer = bench.send(path, typed).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{typed}: {}", answer.text);
        answer
    }
}

/// A server whose second hydraulic gauge has a plan with a setting of each kind.
pub async fn planned() -> Server {
    Case::new().await.server
}

#[tokio::test(flavor = "multi_thread")]
async fn a_choice_a_text_and_a_count_are_kept_as_they_were_found() {
    let case = Case::new().await;
    let path = case.begun().await;
    case.kept(&case.teemu, &path, "10⁵ Pa").await;

    let page = case.teemu.get(&path).await;
    assert_eq!(page.words("h1"), "What is the damping set to?");
    assert_eq!(page.all("fieldset.choices label"), ["slow", "middle", "fast"]);
    // What nobody offered is refused, and stays on record: it says something about the instrument.
    for (typed, words) in [
        ("", "Choose what the damping is: slow, middle, fast."),
        ("turbo", "“turbo” is none of these. Choose one of: slow, middle, fast."),
        ("slow; fast", "none of these"),
    ] {
        let page = case.refused(&case.teemu, &path, typed).await;
        assert!(page.words("#typed-error").contains(words), "{}", page.words("#typed-error"));
    }
    // Another way to write it is the word itself.
    case.kept(&case.teemu, &path, " QUICK ").await;

    assert_eq!(case.teemu.get(&path).await.words("h1"), "What is the serial of the hose?");
    let long = "x".repeat(201);
    for (typed, words) in [
        ("", "Read the serial of the hose"),
        (&*long, "This has 201 characters; 200 are the most."),
    ] {
        let page = case.refused(&case.teemu, &path, typed).await;
        assert!(page.words("#typed-error").contains(words), "{}", page.words("#typed-error"));
    }
    let serial = "№ 4711 <b>µ</b> & “Co”, ".to_owned() + &"x".repeat(150);
    case.kept(&case.teemu, &path, &serial).await;

    assert_eq!(case.teemu.get(&path).await.words("h1"), "What is the number of adapters?");
    for typed in ["", "two", "1.5", "1,5", "-1", "1e3", "1000000", "٣"] {
        let page = case.refused(&case.teemu, &path, typed).await;
        assert!(page.words("#typed-error").contains("a whole number from 0 to 999999"), "{typed}");
    }
    case.kept(&case.teemu, &path, "007").await;

    // They stand beside the readings while measuring, and on the record, the word and not what was typed for it.
    let page = case.teemu.get(&path).await;
    let kept = page.words("table.kept");
    assert!(
        kept.contains("fast") && kept.contains("№ 4711 <b>µ</b>") && kept.contains("007"),
        "{kept}"
    );
    // A slip is corrected with a reason, like a reading.
    let fix = page.hrefs("table.kept a").into_iter().nth(1).unwrap();
    let page = case.teemu.get(&fix).await;
    assert!(page.words("h1").starts_with("Correct: What is the damping"), "{}", page.words("h1"));
    let typed = [("typed", "middle"), ("reason", "wrong line touched")];
    let corrected = case.teemu.send_form(&path, &page, &typed).await;
    assert_eq!(corrected.status, StatusCode::SEE_OTHER, "{}", corrected.text);
    assert!(case.teemu.get(&path).await.words("table.kept").contains("middle"));
    let verdict = case.teemu.run_to_end(&path, &["80", "320", "321", "81"]).await;
    assert!(verdict.words("h1").contains("Within tolerance"), "{}", verdict.words("h1"));
    assert!(!verdict.words("main").contains("was typed first"), "a choice was set right by nobody");
    let record = case.ilma.get(&format!("{path}/record")).await;
    let words = record.words("main");
    for told in ["Damping", "middle", "fast", "turbo", "№ 4711 <b>µ</b> & “Co”", "007"] {
        assert!(words.contains(told), "no “{told}” in {words}");
    }
    let rows = lines(
        &case.server.database,
        "SELECT kind || ' ' || left(typed, 6) || coalesce(' ' || indication, '') AS line FROM readings
         WHERE check_id = (SELECT max(id) FROM checks) AND kind IN ('setting', 'choice', 'text', 'count') ORDER BY id",
    )
    .await;
    assert_eq!(
        rows,
        ["setting 10⁵ Pa", "choice fast", "text № 4711", "count 007", "choice middle"]
    );
    // And nothing that another program asks for breaks on them.
    let id = path.rsplit('/').next().unwrap();
    let table = case.ilma.get(&format!("/export/readings-{id}.csv")).await;
    assert_eq!(table.status, StatusCode::OK);
    for told in ["choice,", "text,", "count,", "№ 4711", "turbo", "middle"] {
        assert!(table.text.contains(told), "no “{told}” in {}", table.text);
    }
    assert!(case.ilma.look_over(&case.server).await.contains("Unbroken"));
}

/// How a setting was found is a finding: where the plan says so, a lead decides about setting it right.
#[tokio::test(flavor = "multi_thread")]
async fn a_setting_found_wrong_is_set_right_by_a_lead_and_told() {
    let case = Case::new().await;
    let path = case.begun().await;
    let wrong = case.refused(&case.teemu, &path, "psi").await;
    assert!(wrong.words("#typed-error").contains("must be bar, and “psi” was typed"));
    let told = case.refused(&case.teemu, &path, "bar").await;
    let words = told.words("#typed-error");
    assert!(words.contains("was found at “psi”") && words.contains("a lead decides"), "{words}");
    // Nobody gets past it by coming back, or by another of its ways to be written.
    let again = case.refused(&case.teemu, &path, "10⁵ Pa").await;
    assert!(again.words("#typed-error").contains("found at “psi”"));
    assert_eq!(case.ilma.take_over(&path).await.status, StatusCode::SEE_OTHER);
    case.kept(&case.ilma, &path, "bar").await;
    for typed in ["slow", "4711", "2"] {
        case.kept(&case.ilma, &path, typed).await;
    }
    let verdict = case.ilma.run_to_end(&path, &["80", "320", "321", "81"]).await;
    let words = verdict.words("main");
    assert!(
        words.contains("“psi” was typed first, and “bar” before anything was measured"),
        "{words}"
    );
    let record = case.ilma.get(&format!("{path}/record")).await.words("main");
    assert!(record.contains("psi") && record.contains("Teemu"), "{record}");
}

/// What was tried on a device while the network was gone counts like what was tried here, whatever becomes of the entry
/// with which it comes: else the lead would be got round by waiting for the network.
#[tokio::test(flavor = "multi_thread")]
async fn what_a_device_tried_is_no_way_round_the_lead() {
    let case = Case::new().await;
    let path = case.begun().await;
    let page = case.teemu.get(&path).await;
    let mut fields = page.form("form.entry");
    fields.insert("typed".into(), "bar".into());
    fields.insert("attempted".into(), "psi\nkPa".into());
    let answer = case.teemu.post_short(&format!("{path}/entries"), &fields).await;
    assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{}", answer.text);
    assert!(answer.text.contains("found at “psi”"), "{}", answer.text);
    // The page's own form follows, without what was tried; it is on record by then.
    let told = case.refused(&case.teemu, &path, "bar").await;
    assert!(told.words("#typed-error").contains("found at “psi”"));
    let tried = lines(
        &case.server.database,
        "SELECT kind || ' ' || typed AS line FROM attempts WHERE check_id = (SELECT max(id) FROM checks) ORDER BY id",
    )
    .await;
    assert_eq!(tried, ["setting psi", "setting kPa"]);
}

/// What cannot be asked for is refused where the plan is written.
#[tokio::test(flavor = "multi_thread")]
async fn settings_that_ask_for_nothing_are_refused_in_the_editor() {
    let server = Server::demo().await;
    let ilma = lead(&server).await;
    let page = editor(&ilma).await;
    for (kind, expected, words) in [
        ("exactly", "", "say what it must show"),
        ("exactly", " = ", "say what it must show"),
        ("one_of", "slow", "with semicolons between"),
        ("one_of", "", "with semicolons between"),
        ("one_of", "slow = S; fast = s", "“s” stands there twice"),
        ("exactly", "bar = BAR", "“BAR” stands there twice"),
        ("of_old", "bar", "Choose one of these"),
    ] {
        let mut typed: Vec<(&str, &str)> = TWO_WAYS.to_vec();
        typed.extend([("s.settings.0.kind", kind), ("s.settings.0.expected", expected)]);
        let refused = ilma.submit(&page, "/new/plan", &typed).await;
        assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY, "{kind} {expected}");
        assert!(
            refused.words("main").contains(words),
            "{kind} “{expected}”: {}",
            refused.words("main")
        );
    }
}

/// A sheet of paper has a line for each of them, and is entered by the same rules.
#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_of_paper_has_them_too() {
    let case = Case::new().await;
    let version = lines(
        &case.server.database,
        "SELECT max(id)::text AS line FROM plan_versions WHERE state = 'approved'",
    )
    .await
    .remove(0);
    let sheet = case.teemu.get(&format!("/versions/{version}/sheet")).await;
    let words = sheet.words("main");
    for told in ["damping", "Write down one of these: slow, middle, fast", "a whole number"] {
        assert!(words.contains(told), "no “{told}” on the sheet: {words}");
    }
    let form = case.teemu.get(&format!("/versions/{version}/late")).await;
    let fields = form.whole_form("form.sheet-form");
    let names: Vec<&String> = fields.keys().filter(|name| name.starts_with("e.setting")).collect();
    assert_eq!(names.len(), 4, "{names:?}");
    let typed = [
        ("reason", "network down"),
        ("began", "22:05"),
        ("ended", "22:30"),
        ("e.setting-1.1", "bar"),
        ("e.setting-2.1", "turbo"),
        ("e.setting-4.1", "many"),
    ];
    let sent: Vec<(&str, &str)> = typed.to_vec();
    let refused = post(&case.teemu, &format!("/versions/{version}/late"), &sent).await;
    let words = refused.words("main");
    assert!(words.contains("“turbo” is none of these"), "{words}");
    assert!(words.contains("a whole number from 0 to 999999"), "{words}");
    assert!(words.contains("Read the serial of the hose"), "{words}");
}
