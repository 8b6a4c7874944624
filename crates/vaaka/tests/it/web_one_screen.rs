//! Points that are read off one screen, and a picture that a step asks for: each kept as an entry of its own.

use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::Server;
use crate::web_chart_room::{lines, number};
use crate::web_plans::{TWO_WAYS, editor, lead, other_lead, press};

const PNG: &[u8] = b"\x89PNG\r\n\x1a\n the screen";

/// The plan: two points and a third off one screen, limits by band about a target, and a picture of the screen.
const SETTINGS: [(&str, &str); 23] = [
    ("s.presentation", "inserted"),
    ("s.points_together", "on"),
    ("s.mean_limit.form", "absolute"),
    ("s.mean_limit.half_width", "3"),
    ("s.mean_limit.percent", ""),
    ("s.mean_limit.target", "1"),
    ("s.mean_limit.bands", "300: 0.5 %"),
    ("s.settings.0.name", "the screen before anything is measured"),
    ("s.settings.0.kind", "file"),
    ("s.settings.0.expected", ""),
    ("s.conditions.0.name", ""),
    ("points.1.repeats", "1"),
    ("points.2.nominal", "200"),
    ("points.2.travel", "rising"),
    ("points.2.repeats", "1"),
    ("points.2.pieces", "200"),
    ("points.2.charted", "on"),
    ("points.0.charted", "on"),
    ("s.hysteresis_limit.form", ""),
    ("s.hysteresis_limit.half_width", ""),
    ("s.waits.0.what", ""),
    ("s.cautions", ""),
    ("s.preparation", ""),
];

struct Case {
    server: Server,
    teemu: Bench,
    path: String,
}

impl Case {
    /// Up to the picture.
    async fn new() -> Self {
        let server = Server::demo().await;
        let (ilma, rauno) = (lead(&server).await, other_lead(&server).await);
        let page = editor(&ilma).await;
        let typed: Vec<(&str, &str)> = TWO_WAYS.into_iter().chain(SETTINGS).collect();
        let odd: Vec<(&str, &str)> = typed
            .iter()
            .copied()
            .chain([("points.0.repeats", "2"), ("s.mean_limit.bands", "x")])
            .collect();
        let refused = ilma.submit(&page, "/new/plan", &odd).await;
        assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(
            refused.all(".field-error").join("|").contains("“x” is no band"),
            "{:?}",
            refused.all(".field-error")
        );
        let odd: Vec<(&str, &str)> =
            typed.iter().copied().chain([("points.0.repeats", "2")]).collect();
        let refused = ilma.submit(&page, "/new/plan", &odd).await;
        assert!(
            refused.all(".field-error").join("|").contains("each is read once"),
            "{:?}",
            refused.all(".field-error")
        );
        let saved = ilma.submit(&page, "/new/plan", &typed).await;
        assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
        let version = saved.location.unwrap();
        let preview = ilma.get(&version).await.words("main");
        assert!(preview.contains("a photograph or document: the screen"), "{preview}");
        let again = ilma.get(&format!("{}/edit", version.replace("versions", "plans"))).await;
        drop(again);
        assert_eq!(press(&rauno, &version, "approve").await.status, StatusCode::SEE_OTHER);
        let teemu = Bench::signed_in(&server.base, "teemu", "kuiva-kivi-7").await;
        let path = teemu.start("P-12").await;
        let tag = teemu.send(&path, "PR-1").await;
        assert_eq!(tag.status, StatusCode::SEE_OTHER, "{}", tag.text);
        Self { server, teemu, path }
    }

    async fn picture(&self, page: &Page, (name, bytes): (&str, &[u8])) -> Page {
        let fields = page.form("form.entry");
        let parts: Vec<(&str, &str)> =
            fields.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
        self.teemu.send_parts(&format!("{}/entries", self.path), &parts, name, bytes).await
    }

    /// Up to the readings.
    async fn measuring(&self) -> Page {
        let page = self.teemu.get(&self.path).await;
        let kept = self.picture(&page, ("screen.png", PNG)).await;
        assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.text);
        self.teemu.get(&self.path).await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_that_a_step_asks_for_is_kept_with_the_check() {
    let case = Case::new().await;
    let page = case.teemu.get(&case.path).await;
    assert_eq!(
        page.words("h1"),
        "Take a picture or a print: the screen before anything is measured"
    );
    for (file, words) in [
        (("", &b""[..]), "Choose the photograph or document"),
        (("notes.txt", &b"just words"[..]), "This is no picture"),
        (("big.png", &[PNG, &vec![0; 9 * 1024 * 1024]].concat()[..]), "larger than 8 MB"),
    ] {
        let refused = case.picture(&page, file).await;
        assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY, "{}", refused.text);
        assert!(refused.words("#typed-error").contains(words), "{}", refused.text);
    }
    // A name typed in place of a file is none.
    let typed = case.teemu.send_form(&case.path, &page, &[("typed", "picture.png")]).await;
    assert!(typed.words("#typed-error").contains("Choose the photograph"), "{}", typed.text);
    let (one, two) = tokio::join!(
        case.picture(&page, ("screen <b>.png", PNG)),
        case.picture(&page, ("screen <b>.png", PNG)),
    );
    assert_eq!((one.status, two.status), (StatusCode::SEE_OTHER, StatusCode::SEE_OTHER));
    let kept = lines(
        &case.server.database,
        "SELECT typed AS line FROM readings WHERE check_id = (SELECT max(id) FROM checks) AND step_key = 'setting-1'",
    )
    .await;
    assert_eq!(kept.len(), 1, "{kept:?}");
    assert!(kept[0].starts_with("screen <b>.png (file "), "{kept:?}");
    let files =
        "SELECT count(*) AS number FROM files WHERE check_id = (SELECT max(id) FROM checks)";
    assert_eq!(number(&case.server.database, files).await, 1, "sent twice, kept once");
    let id = kept[0].trim_end_matches(')').rsplit(' ').next().unwrap().to_owned();
    let file = case.teemu.get(&format!("/files/{id}")).await;
    assert_eq!((file.status, file.text.contains("the screen")), (StatusCode::OK, true));
    let page = case.teemu.get(&case.path).await;
    assert!(page.words("table.kept").contains("screen <b>.png"), "{}", page.words("table.kept"));
    // A document takes its place: it is told by its name, where a picture is drawn; the record has both.
    let fix = page.hrefs("table.kept a").remove(0);
    let redo = case.teemu.get(&fix).await;
    let fields = redo.form("form.entry");
    let parts: Vec<(&str, &str)> = fields
        .iter()
        .map(|(name, value)| (name.as_str(), value.as_str()))
        .filter(|(name, _)| *name != "reason")
        .chain([("reason", "a print says more")])
        .collect();
    let path = format!("{}/entries", case.path);
    let kept = case.teemu.send_parts(&path, &parts, "print.pdf", b"%PDF-1.7 print").await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.text);
    let page = case.teemu.get(&case.path).await;
    assert_eq!(page.attributes(".photos img", "src").len(), 1);
    assert!(page.words(".photos").contains("print.pdf"), "{}", page.words(".photos"));
    let record = case.teemu.get(&format!("{}/record", case.path)).await;
    let shown = record.words(".photos");
    assert!(shown.contains("print.pdf") && shown.contains("screen <b>.png"), "{shown}");
}

#[tokio::test(flavor = "multi_thread")]
async fn points_are_read_off_one_screen_and_kept_one_by_one() {
    let case = Case::new().await;
    let (teemu, path) = (&case.teemu, &case.path);
    let page = case.measuring().await;
    assert_eq!(page.words("h1"), "What does it show?");
    assert_eq!(page.all("form.values label.value-name"), ["80 bar", "320 bar", "200 bar"]);
    assert!(page.find(".scene-box svg").is_some(), "where to put what");
    assert!(page.find(".from-list").is_none(), "what a display shows is typed");
    // What is far is asked about at its place, what cannot be is refused, what is right is kept.
    let refused = teemu.keep_values(path, &page, &["81", "3200", "200.05"]).await;
    assert_eq!(refused.status, StatusCode::UNPROCESSABLE_ENTITY);
    let errors = refused.all("form.values .field-error").join("|");
    assert!(errors.contains("3200") && errors.contains("steps of"), "{errors}");
    assert_eq!(refused.all(".value-row.is-kept").len(), 1, "{}", refused.words("main"));
    let asked = refused.attributes("form.values [name=confirm_far]", "value");
    assert_eq!(asked, ["3200"]);
    // Said yes to another value than was asked about, it is asked again.
    let token = refused.form("form.values").remove("form_token").unwrap();
    let keys = refused.attributes("form.values [name=key]", "value");
    let steps = refused.attributes("form.values [name=step]", "value");
    let say = async |typed: &str, yes: &str| {
        let pairs = [
            ("form_token", token.as_str()),
            ("step", steps[0].as_str()),
            ("key", keys[0].as_str()),
            ("typed", typed),
            ("confirm_far", yes),
        ];
        teemu.post_pairs(&format!("{path}/values"), &pairs).await
    };
    let again = say("3100", "3200").await;
    assert_eq!(again.attributes("form.values [name=confirm_far]", "value"), ["3100"]);
    let page = teemu.get(path).await;
    let kept = teemu.keep_values(path, &page, &["322.9", "203"]).await;
    assert_eq!(kept.status, StatusCode::UNPROCESSABLE_ENTITY, "the display moves in whole bars");
    let page = teemu.get(path).await;
    let kept = teemu.keep_values(path, &page, &["322", "203"]).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.words("main"));
    let count =
        "SELECT count(*) AS number FROM readings WHERE check_id = (SELECT max(id) FROM checks)
         AND kind = 'reading'";
    assert_eq!(number(&case.server.database, count).await, 3);
    let verdict = teemu.run_to_end(path, &[]).await;
    assert!(verdict.words("h1").contains("Within tolerance"), "{}", verdict.words("main"));
    // About +1 bar: ±3 below 300 bar, then half a per cent.
    let limits = lines(
        &case.server.database,
        "SELECT c.key || ' ' || trim_scale(c.lower_tolerance_limit) || ' ' || trim_scale(c.upper_tolerance_limit) AS line
         FROM characteristics c JOIN results r ON r.id = c.result_id
         WHERE r.check_id = (SELECT max(id) FROM checks) AND c.key LIKE 'error%' ORDER BY c.id",
    )
    .await;
    assert_eq!(
        limits,
        ["error-80-rising -2 4", "error-320-rising -0.60025 2.60025", "error-200-rising -2 4"]
    );
}

/// The way shows what falls with a step that is done again, and after it what is to be taken again.
#[tokio::test(flavor = "multi_thread")]
async fn the_way_shows_what_falls() {
    let case = Case::new().await;
    let (teemu, path) = (&case.teemu, &case.path);
    let page = case.measuring().await;
    teemu.keep_values(path, &page, &["80", "", "201"]).await;
    let page = teemu.get(path).await;
    assert_eq!(page.all(".way li.done").len(), 4);
    let fix = page.hrefs("table.kept a").remove(0);
    let redo = teemu.get(&fix).await;
    let falls = redo.all(".way li.falls");
    assert!(
        falls.len() == 2
            && falls[0].starts_with("80 bar")
            && falls[0].contains("falls with the step"),
        "{falls:?}"
    );
    let fields = redo.form("form.entry");
    let parts: Vec<(&str, &str)> = fields
        .iter()
        .map(|(name, value)| (name.as_str(), value.as_str()))
        .filter(|(name, _)| *name != "reason")
        .chain([("reason", "the picture was dark")])
        .collect();
    let kept = teemu.send_parts(&format!("{path}/entries"), &parts, "light.png", PNG).await;
    assert_eq!(kept.status, StatusCode::SEE_OTHER, "{}", kept.text);
    let page = teemu.get(path).await;
    let void: Vec<String> = page.all(".way li.void");
    let now = page.all(".way li.now");
    assert!(now[0].starts_with("80 bar"), "{now:?}");
    assert!(
        void.len() == 1
            && void[0].starts_with("200 bar")
            && void[0].contains("void: to be taken again"),
        "{void:?}"
    );
}
