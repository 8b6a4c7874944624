//! Every page that links lead to, for each role: whole, well made, and with no way that leads nowhere. Every
//! form on them, with what nobody should type: words and no failure, and what was typed stays.

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};

use reqwest::StatusCode;
use scraper::{ElementRef, Html, Selector};

use crate::client::{Bench, Page};
use crate::support::Server;
use crate::web_chart_room::{chart, same_as_from_scratch, wrong_blocks};

/// Pages of one kind that are looked at: they differ in their data only.
const OF_A_KIND: usize = 3;

fn select(selector: &str) -> Selector {
    Selector::parse(selector).unwrap()
}

fn words_of(element: ElementRef<'_>) -> String {
    element.text().flat_map(str::split_whitespace).collect::<Vec<_>>().join(" ")
}

/// A path with its numbers and tags left out: pages of one kind share it.
fn kind(path: &str) -> String {
    let (path, query) = path.split_once('?').unwrap_or((path, ""));
    let piece = |piece: &str| {
        if piece.chars().any(|c| c.is_ascii_digit()) { "*".to_owned() } else { piece.to_owned() }
    };
    let names: Vec<&str> =
        query.split('&').map(|pair| pair.split('=').next().unwrap_or_default()).collect();
    format!("{}?{}", path.split('/').map(piece).collect::<Vec<_>>().join("/"), names.join("&"))
}

/// What a page must have whatever it shows; each fault in words.
pub fn faults(text: &str) -> Vec<String> {
    let document = Html::parse_document(text);
    let mut faults = Vec::new();
    let mut ids = HashSet::new();
    for element in document.select(&select("[id]")) {
        let id = element.value().attr("id").unwrap_or_default();
        if id.is_empty() || !ids.insert(id.to_owned()) {
            faults.push(format!("the id “{id}” stands twice"));
        }
    }
    for name in ["for", "aria-describedby", "aria-labelledby", "aria-controls", "list"] {
        for element in document.select(&select(&format!("[{name}]"))) {
            for id in element.value().attr(name).unwrap_or_default().split_whitespace() {
                if !ids.contains(id) {
                    faults.push(format!("{name}=“{id}” names nothing"));
                }
            }
        }
    }
    if document.select(&select("h1")).count() != 1 {
        faults.push("not one heading of the first rank".to_owned());
    }
    if document.select(&select("title")).next().is_none_or(|title| words_of(title).is_empty()) {
        faults.push("no title".to_owned());
    }
    for element in document.select(&select("a, button, summary, th, legend")) {
        // A drawing in a link names it.
        let named = element.value().attr("aria-label").is_some_and(|name| !name.is_empty())
            || element.select(&select("svg[aria-label]")).next().is_some();
        let row_or_column =
            element.value().name() != "th" || element.value().attr("scope").is_some();
        if (words_of(element).is_empty() && !named) || !row_or_column {
            faults.push(format!("without words or scope: {}", element.html()));
        }
    }
    for element in document.select(&select("input:not([type=hidden]), select, textarea")) {
        let value = element.value();
        let id = value.attr("id").unwrap_or_default();
        let labelled = value.attr("aria-label").is_some()
            || value.attr("aria-labelledby").is_some()
            || document.select(&select("label")).any(|label| {
                label.value().attr("for") == Some(id)
                    && !id.is_empty()
                    && !words_of(label).is_empty()
            })
            || element
                .ancestors()
                .filter_map(ElementRef::wrap)
                .any(|up| up.value().name() == "label");
        if !labelled {
            faults.push(format!("without a label: {}", element.html()));
        }
        if value.attr("aria-invalid") == Some("true") && value.attr("aria-describedby").is_none() {
            faults.push(format!("wrong, and no word why: {}", element.html()));
        }
    }
    // The policy of contents would stop these in the browser.
    for element in document.select(&select("*")) {
        for (name, _) in element.value().attrs() {
            if name == "style" || name.starts_with("on") {
                faults.push(format!("{name} in a page: {}", element.html()));
            }
        }
    }
    for script in document.select(&select("script")) {
        if !words_of(script).is_empty() {
            faults.push("a script in the page".to_owned());
        }
    }
    for form in document.select(&select("form[method=post]")) {
        // Who signs in has none yet, and the look is a cookie that anybody may have.
        let free = matches!(form.value().attr("action"), Some("/sign-in" | "/look"));
        if form.select(&select("input[name=form_token]")).next().is_none() && !free {
            faults.push(format!("a form without its token: {:?}", form.value().attr("action")));
        }
    }
    for svg in document.select(&select("svg")) {
        let value = svg.value();
        if value.attr("aria-hidden").is_none()
            && value.attr("aria-label").is_none()
            && svg.select(&select("title")).next().is_none()
        {
            faults.push("a drawing without a name".to_owned());
        }
    }
    for slip in ["Some(", "None)", "Err(", "{{", "{%", "&lt;"] {
        let shown = document.select(&select("main")).next().map(words_of).unwrap_or_default();
        if shown.contains(slip) {
            faults.push(format!("“{slip}” is shown"));
        }
    }
    faults
}

/// A form that sends: the page it stands on, where it sends to, and its fields.
#[derive(Debug, Clone)]
struct Form {
    page: String,
    action: String,
    fields: HashMap<String, String>,
    /// Fields that somebody types into.
    typed: Vec<String>,
}

/// The forms of a page that send plain fields.
fn forms(page: &str, text: &str) -> Vec<Form> {
    let document = Html::parse_document(text);
    let mut found = Vec::new();
    for form in document.select(&select("form[method=post]")) {
        if form.value().attr("enctype").is_some() {
            continue;
        }
        let mut fields = HashMap::new();
        let mut typed = Vec::new();
        // Where a button without a name sends the form, those with one do something else first.
        let plain = form.select(&select("button:not([name])")).next().is_some();
        for field in form.select(&select("input, textarea, select, button[name]")) {
            let Some(name) = field.value().attr("name") else { continue };
            if plain && field.value().name() == "button" {
                continue;
            }
            let value = match field.value().name() {
                "textarea" => field.text().collect(),
                "select" => {
                    let chosen = field.select(&select("option[selected]")).next();
                    let first = || field.select(&select("option")).next();
                    let option = chosen.or_else(first);
                    option.and_then(|o| o.value().attr("value")).unwrap_or_default().to_owned()
                }
                _ => field.value().attr("value").unwrap_or_default().to_owned(),
            };
            let what = field.value().attr("type").unwrap_or("text");
            if matches!(what, "checkbox" | "radio") && field.value().attr("checked").is_none() {
                continue;
            }
            if field.value().name() == "textarea"
                || (field.value().name() == "input"
                    && matches!(what, "text" | "search" | "number" | "date" | "email"))
            {
                typed.push(name.to_owned());
            }
            fields.entry(name.to_owned()).or_insert(value);
        }
        let action = form.value().attr("action").unwrap_or(page).to_owned();
        found.push(Form { page: page.to_owned(), action, fields, typed });
    }
    found
}

/// What a walk has seen.
#[derive(Default)]
struct Walk {
    faults: Vec<String>,
    pages: usize,
    forms: BTreeMap<String, Form>,
}

/// Follows links from the round on, a few of each kind.
async fn walk(bench: &Bench) -> Walk {
    let mut seen = Walk::default();
    let mut kinds: HashMap<String, usize> = HashMap::new();
    let mut known: HashSet<String> = HashSet::from(["/".to_owned()]);
    let mut ahead = VecDeque::from([("/".to_owned(), "the beginning".to_owned())]);
    while let Some((path, from)) = ahead.pop_front() {
        let answer = bench.get(&path).await;
        seen.pages += 1;
        if answer.status == StatusCode::SEE_OTHER {
            continue;
        }
        if answer.status != StatusCode::OK {
            seen.faults.push(format!("{path}, from {from}: {}", answer.status));
            continue;
        }
        let html = answer.headers["content-type"].to_str().unwrap().starts_with("text/html");
        if !html || !answer.text.contains("<html") {
            assert!(!answer.text.is_empty(), "{path} is empty");
            continue;
        }
        seen.faults
            .extend(faults(&answer.text).into_iter().map(|fault| format!("{path}: {fault}")));
        for form in forms(&path, &answer.text) {
            seen.forms.entry(kind(&form.action)).or_insert(form);
        }
        let document = Html::parse_document(&answer.text);
        for link in document.select(&select("a[href^='/'], link[href^='/'], img[src^='/']")) {
            let value = link.value();
            let to = value.attr("href").or(value.attr("src")).unwrap_or_default();
            let to = to.split('#').next().unwrap_or_default().to_owned();
            if !known.insert(to.clone()) {
                continue;
            }
            let count = kinds.entry(kind(&to)).or_default();
            *count += 1;
            if *count <= OF_A_KIND {
                ahead.push_back((to, path.clone()));
            }
        }
    }
    seen
}

async fn of_role(role: &str) -> (Server, Bench) {
    let server = Server::demo().await;
    let (name, password) = match role {
        "technician" => ("aino", "kapea-silta-4"),
        "lead" => ("ilma", "tyyni-selka-3"),
        "viewer" => ("veera", "avoin-ovi-8"),
        _ => ("onni", "uusi-portti-6"),
    };
    let bench = Bench::signed_in(&server.base, name, password).await;
    (server, bench)
}

async fn every_page_of(role: &str, at_least: usize) {
    let (_server, bench) = of_role(role).await;
    let seen = walk(&bench).await;
    assert!(seen.faults.is_empty(), "{role}: {:#?}", seen.faults);
    assert!(seen.pages >= at_least, "{role} came to {} pages only", seen.pages);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_that_a_technician_comes_to() {
    every_page_of("technician", 80).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_that_a_lead_comes_to() {
    every_page_of("lead", 100).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_that_a_viewer_comes_to() {
    every_page_of("viewer", 70).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_that_an_administrator_comes_to() {
    every_page_of("administrator", 70).await;
}

/// More characters than any field takes.
const LONG: usize = 5_000;

/// What nobody should type.
fn odd_things() -> Vec<String> {
    vec![
        // First, while nothing has been taken yet.
        "x".repeat(LONG),
        "  ".into(),
        "<b>\"x\" & 'y'</b>".into(),
        "-1".into(),
        "1e999".into(),
        "9999999999999999999999999999999999".into(),
        "2026-02-30".into(),
        "\u{202e}gnp\u{0}.exe".into(),
    ]
}

/// Whether a page that refuses still holds what was typed.
fn holds(page: &Page, name: &str, typed: &str) -> bool {
    let document = Html::parse_document(&page.text);
    let fields = select("input, textarea");
    let mut own = document.select(&fields).filter(|one| one.value().attr("name") == Some(name));
    own.any(|field| {
        let value = match field.value().name() {
            "textarea" => field.text().collect::<String>(),
            _ => field.value().attr("value").unwrap_or_default().to_owned(),
        };
        value.trim() == typed.trim()
    })
}

/// Sends every form of a role's pages with one field after the other gone odd.
async fn every_form_of(role: &str, at_least: usize) {
    let (_server, bench) = of_role(role).await;
    let found = walk(&bench).await.forms;
    let (mut sent, mut wrong) = (0, Vec::new());
    for (name, form) in found {
        // What ends the walk, or is not this page's own.
        if name.starts_with("/sign-out") || name.starts_with("/sign-in") {
            continue;
        }
        for field in &form.typed {
            for odd in odd_things() {
                let mut fields = form.fields.clone();
                fields.insert(field.clone(), odd.clone());
                let answer = bench.post(&form.action, &fields).await;
                sent += 1;
                let short: String = odd.chars().take(20).collect();
                let what = format!("{} of {} as {short:?}", field, form.action);
                let status = answer.status.as_u16();
                if !matches!(status, 200 | 303 | 400 | 403 | 404 | 409 | 413 | 422) {
                    wrong.push(format!("{what}: {status}"));
                }
                // Words that somebody signs are refused where they are too long, never cut.
                if odd.len() == LONG && matches!(status, 200 | 303) {
                    wrong.push(format!("{what}: taken, though it cannot have been kept whole"));
                }
                if status == 422 {
                    let refused = faults(&answer.text);
                    wrong.extend(refused.into_iter().map(|fault| format!("{what}: {fault}")));
                    let said = answer.text.contains("field-error")
                        || answer.text.contains("role=\"alert\"");
                    if !said {
                        wrong.push(format!("{what}: refused without a word"));
                    }
                    // A byte that no text holds may be left out, and what is far too long may be cut.
                    let plain = !odd.contains('\u{0}') && odd.len() < 1_000;
                    // A form that is offered no more (it is on hold already) has no place for it.
                    let offered =
                        forms(&form.page, &answer.text).iter().any(|one| one.action == form.action);
                    if plain && offered && !odd.trim().is_empty() && !holds(&answer, field, &odd) {
                        wrong.push(format!("{what}: refused, and what was typed is gone"));
                    }
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{role}: {wrong:#?}");
    assert!(sent >= at_least, "{role} sent {sent} only");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_form_of_a_technician_with_odd_things_typed() {
    every_form_of("technician", 60).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_form_of_a_lead_with_odd_things_typed() {
    every_form_of("lead", 500).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_form_of_an_administrator_with_odd_things_typed() {
    every_form_of("administrator", 100).await;
}

/// Something that a field would take, by its name.
fn plausible(name: &str, place: usize) -> String {
    let last = name.rsplit(['.', '_']).next().unwrap_or(name);
    match last {
        "count" | "hours" | "weeks" | "minutes" | "repeats" | "used" => "2".into(),
        "until" | "on" | "from" | "day" | "valid" => "2027-03-14".into(),
        "tag" => format!("NEW-{place}"),
        "offset" | "gain" | "nominal" | "value" => "0.5".into(),
        "name" | "lot" | "number" => format!("new {place}"),
        _ => "as agreed with the lead on duty".into(),
    }
}

/// Two people press the same button at one moment, each a few times: one is served first, nobody sees a failure,
/// and the chain of evidence stays whole.
#[tokio::test(flavor = "multi_thread")]
async fn every_form_sent_by_two_at_once() {
    let (server, ilma) = of_role("lead").await;
    let rauno = Bench::signed_in(&server.base, "rauno", "hiljainen-vuo-5").await;
    let found = walk(&ilma).await.forms;
    let token = rauno.get("/").await.attribute("input[name=form_token]", "value").unwrap();
    let (mut wrong, mut taken) = (Vec::new(), 0);
    for (place, (name, form)) in found.into_iter().enumerate() {
        if name.starts_with("/sign-") {
            continue;
        }
        let mut fields = form.fields.clone();
        for field in &form.typed {
            let empty = fields.get(field).is_none_or(|value| value.trim().is_empty());
            if empty {
                fields.insert(field.clone(), plausible(field, place));
            }
        }
        let mut of_rauno = fields.clone();
        if of_rauno.contains_key("form_token") {
            of_rauno.insert("form_token".into(), token.clone());
        }
        let answers = tokio::join!(
            ilma.post(&form.action, &fields),
            rauno.post(&form.action, &of_rauno),
            ilma.post(&form.action, &fields),
            rauno.post(&form.action, &of_rauno)
        );
        for answer in [answers.0, answers.1, answers.2, answers.3] {
            let status = answer.status.as_u16();
            taken += usize::from(status == 303);
            if !matches!(status, 200 | 303 | 400 | 403 | 404 | 409 | 422) {
                wrong.push(format!("{}: {status}", form.action));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert!(taken > 40, "{taken} were taken only");
    // Whatever came of it, the books agree.
    assert_eq!(wrong_blocks(&server).await, Vec::<String>::new());
    crate::audit::unbroken(&mut server.owner().await).await;
    let id = chart(&server, "R-02").await;
    same_as_from_scratch(&server, id).await;
}

/// The look is a cookie that anybody may have; it leads back to where one was, and nowhere else.
#[tokio::test(flavor = "multi_thread")]
async fn the_look_is_chosen_and_leads_nowhere_else() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    let page = aino.get("/charts/1?range=year").await;
    assert_eq!(page.attribute("html", "data-look").as_deref(), Some("auto"));
    let back = page.attribute("form[action='/look'] input[name=back]", "value");
    assert_eq!(back.as_deref(), Some("/charts/1?range=year"), "back to where one was");
    for (look, back, then) in [
        ("dark", "/charts", "dark"),
        ("light", "/charts", "light"),
        ("purple", "/charts", "auto"),
        ("dark", "//example.org/charts", "dark"),
        ("dark", "https://example.org/", "dark"),
    ] {
        let fields = HashMap::from([("look", look), ("back", back)]);
        let answer = aino.post("/look", &fields).await;
        let to = answer.location.clone().unwrap_or_default();
        assert_eq!(answer.status, StatusCode::SEE_OTHER, "{look} {back}");
        assert!(to.starts_with('/') && !to.starts_with("//"), "{back} led to {to}");
        let page = aino.follow(answer).await;
        assert_eq!(page.attribute("html", "data-look").as_deref(), Some(then), "{look}");
    }
}
