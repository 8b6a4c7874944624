//! The second pair of eyes: values of certificates and drafts of plans serve when another lead has decided, with a password and
//! with words; a site with one lead says so everywhere.

use reqwest::StatusCode;

use crate::client::{Bench, Page};
use crate::support::Server;
use crate::web_chart_room::{ilma, lines, number, post, rauno};

const PASSWORD: &str = "hiljainen-vuo-5";

const RENEWED: [(&str, &str); 5] = [
    ("change", "recertified"),
    ("number", "V-2999"),
    ("issued_on", "2026-11-24"),
    ("valid_from", "2026-11-24"),
    ("valid_until", "2028-11-24"),
];

async fn renew(bench: &Bench, more: &[(&str, &str)]) -> Page {
    let page = bench.get("/standards/M1-B/certificate").await;
    let typed: Vec<(&str, &str)> = RENEWED.iter().chain(more).copied().collect();
    bench.submit(&page, "/standards/M1-B/certificate", &typed).await
}

async fn decide(bench: &Bench, path: &str, typed: &[(&str, &str)]) -> Page {
    let mut fields = bench.get(path).await.form(&format!("form[action='{path}']"));
    for (name, value) in typed {
        fields.insert((*name).to_owned(), (*value).to_owned());
    }
    bench.post(path, &fields).await
}

/// 2.0003 typed for 20 kg is asked about at its field; the answer holds for that value alone.
#[tokio::test(flavor = "multi_thread")]
async fn a_value_far_from_nominal_is_asked_about() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    let row = ilma.get("/standards/M1-B/certificate").await.whole_form("form.sheet-form");
    assert_eq!(row["values.1.nominal"], "10");
    let slip = renew(&ilma, &[("values.1.value", "1.00011")]).await;
    assert_eq!(slip.status, StatusCode::UNPROCESSABLE_ENTITY);
    let said = slip.words("#f-values-1-value-error");
    assert!(said.contains("90 % away from its nominal 10"), "{said}");
    assert_eq!(slip.whole_form("form.sheet-form")["values.1.value"], "1.00011", "kept as typed");
    // Ticked for this value, and then another one typed: it is asked about again.
    let path = "/standards/M1-B/certificate";
    let other = [("values.1.sure", "on"), ("values.1.value", "1.00012")];
    let other = ilma.submit(&slip, path, &other).await;
    assert!(other.words("#f-values-1-value-error").contains("so stated"), "{}", other.text);
    let right = ilma.submit(&slip, path, &[("values.1.value", "10.00012")]).await;
    assert_eq!(right.status, StatusCode::SEE_OTHER, "{}", right.words("main"));
    // Nothing rests on it, and another one does not jump the queue.
    let page = ilma.get("/standards/M1-B").await;
    assert!(page.words("main").contains("nothing rests on it yet"), "{}", page.words("main"));
    let second = renew(&ilma, &[("number", "V-3000")]).await;
    assert!(second.words("form .field-error").contains("waits for its second lead"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_serves_when_another_lead_has_compared_it() {
    let server = Server::demo().await;
    let (aino, ilma, rauno) =
        (Bench::aino(&server.base).await, ilma(&server).await, rauno(&server).await);
    let value = async || {
        let page = aino.get("/standards/M1-B").await;
        page.all(".plain-list tbody tr").iter().any(|row| row.contains("10.00555"))
    };
    let kept = renew(
        &ilma,
        &[
            ("values.1.value", "10.00055"),
            ("values.2.value", "10.00555"),
            ("values.2.sure", "on"),
            ("values.2.asked", "10.00555"),
        ],
    )
    .await;
    let path = kept.location.expect("kept");
    assert!(!value().await, "it holds at once");
    let open = "SELECT count(*) AS number FROM notices WHERE kind = 'certificate_to_countersign' AND taken_by IS NULL";
    assert_eq!(number(&server.database, open).await, 1);
    // Who typed it does not countersign it, and neither does a technician.
    let own = ilma.get(&path).await;
    assert!(own.words(".notice").contains("You typed it yourself"));
    let pushed = [("reason", "compared line by line"), ("password", "tyyni-selka-3")];
    assert_eq!(post(&ilma, &path, &pushed).await.status, StatusCode::CONFLICT);
    assert_eq!(post(&aino, &path, &pushed).await.status, StatusCode::FORBIDDEN);
    // The other one sees what was typed beside what held before, and what is worth a look.
    let shown = rauno.get(&path).await;
    assert!(
        shown.words(".card-strip").contains("37 times its uncertainty away"),
        "{}",
        shown.words(".card-strip")
    );
    assert!(shown.all("tbody tr").iter().any(|row| row.contains("the same")), "{}", shown.text);
    let vague = decide(
        &rauno,
        &path,
        &[("reason", "ok"), ("password", PASSWORD), ("verdict", "countersign")],
    )
    .await;
    assert_eq!(vague.status, StatusCode::UNPROCESSABLE_ENTITY);
    let wrong = decide(
        &rauno,
        &path,
        &[("reason", "compared line by line"), ("password", "x"), ("verdict", "countersign")],
    )
    .await;
    assert!(wrong.words("#password-error").contains("nothing was decided"), "{}", wrong.text);
    assert_eq!(wrong.words("#reason"), "compared line by line", "kept as typed");
    assert!(!value().await);
    // Rejected it stays on record, and its number may be typed again.
    let rejected = decide(
        &rauno,
        &path,
        &[
            ("reason", "the second 10 kg piece is 10.00055 there"),
            ("password", PASSWORD),
            ("verdict", "reject"),
        ],
    )
    .await;
    assert_eq!(rejected.status, StatusCode::SEE_OTHER);
    assert_eq!(number(&server.database, open).await, 0);
    assert!(rauno.get(&path).await.words(".page-head").contains("rejected"));
    let again = renew(&ilma, &[("values.2.value", "10.00055")]).await;
    let path = again.location.unwrap_or_else(|| panic!("typed again: {}", again.text));
    let done = rauno.countersign(&path, PASSWORD).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.words("main"));
    let page = aino.get("/standards/M1-B").await;
    let rows = page.all(".plain-list tbody tr");
    assert_eq!(rows.iter().filter(|row| row.contains("10.00055")).count(), 1, "{rows:?}");
    assert!(page.words("aside").contains("V-2999, version 2"), "{}", page.words("aside"));
    let twice = rauno.get(&path).await;
    assert!(twice.find(&format!("form[action='{path}']")).is_none());
    assert!(ilma.look_over(&server).await.contains("Unbroken."));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_is_sent_back_with_words_and_approved_by_password() {
    let server = Server::demo().await;
    let (ilma, rauno) = (ilma(&server).await, rauno(&server).await);
    let page = ilma.get("/plans/1/edit").await;
    let saved = ilma.submit(&page, "/plans/1/edit", &[("minutes", "9")]).await;
    let version = saved.location.unwrap();
    let approve = format!("{version}/approve");
    let told = async |kind: &str| {
        let of = format!(
            "SELECT count(*) AS number FROM notices WHERE kind = '{kind}' AND taken_by IS NULL"
        );
        number(&server.database, &of).await
    };
    assert_eq!(told("plan_to_approve").await, 1, "the leads hear of it");
    let send = async |typed: &[(&str, &str)]| {
        let mut fields = rauno.get(&version).await.form(&format!("form[action='{approve}']"));
        for (name, value) in typed {
            fields.insert((*name).to_owned(), (*value).to_owned());
        }
        rauno.post(&approve, &fields).await
    };
    let without = send(&[("verdict", "approve")]).await;
    assert!(without.find("#password-error").is_some(), "{}", without.text);
    let wordless = send(&[("verdict", "send_back"), ("password", PASSWORD)]).await;
    assert!(wordless.find("#reason-error").is_some(), "{}", wordless.text);
    let words = "nine minutes are too few for a full round of weights";
    let back = send(&[("verdict", "send_back"), ("password", PASSWORD), ("reason", words)]).await;
    assert_eq!(back.status, StatusCode::SEE_OTHER, "{}", back.text);
    assert_eq!((told("plan_to_approve").await, told("plan_sent_back").await), (0, 1));
    // As it stands it is not approved; its author reads why, and saves it again.
    let seen = ilma.get(&version).await;
    assert!(
        seen.words("aside .card-strip").contains(words)
            && seen.words("h1 + p").contains("sent back")
    );
    let pushed = [("saves", "1"), ("verdict", "approve"), ("password", PASSWORD)];
    let pushed = post(&rauno, &approve, &pushed).await;
    assert!(pushed.text.contains("sent back as it stands"), "{}", pushed.text);
    let page = ilma.get("/plans/1/edit").await;
    let saved = ilma.submit(&page, "/plans/1/edit", &[("minutes", "14")]).await;
    assert_eq!(saved.status, StatusCode::SEE_OTHER, "{}", saved.words("main"));
    assert_eq!((told("plan_to_approve").await, told("plan_sent_back").await), (1, 0));
    let done = send(&[("verdict", "approve"), ("password", PASSWORD)]).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
    assert_eq!(told("plan_to_approve").await, 0);
    assert!(ilma.look_over(&server).await.contains("Unbroken."));
}

/// A site with one lead goes on, and says on each page that nobody countersigned.
#[tokio::test(flavor = "multi_thread")]
async fn one_lead_decides_alone_and_it_says_so() {
    let server = Server::demo().await;
    let ilma = ilma(&server).await;
    diesel_async::SimpleAsyncConnection::batch_execute(
        &mut server.owner().await,
        "UPDATE people SET active = false WHERE sign_in = 'rauno'; UPDATE sites SET one_lead = true;",
    )
    .await
    .unwrap();
    let kept = renew(&ilma, &[("values.1.value", "10.00012")]).await;
    let path = kept.location.expect("kept");
    assert!(ilma.get(&path).await.words("form.stacked h2").contains("Decide alone"));
    assert_eq!(ilma.countersign(&path, "tyyni-selka-3").await.status, StatusCode::SEE_OTHER);
    assert!(ilma.get(&path).await.words(".page-head").contains("not countersigned"));
    assert!(ilma.get("/standards/M1-B").await.text.contains("not countersigned"));

    let page = ilma.get("/plans/1/edit").await;
    let version = ilma.submit(&page, "/plans/1/edit", &[("minutes", "9")]).await.location.unwrap();
    let approve = format!("{version}/approve");
    let mut fields = ilma.get(&version).await.form(&format!("form[action='{approve}']"));
    fields.insert("verdict".into(), "approve".into());
    fields.insert("password".into(), "tyyni-selka-3".into());
    let done = ilma.post(&approve, &fields).await;
    assert_eq!(done.status, StatusCode::SEE_OTHER, "{}", done.text);
    assert!(ilma.get(&version).await.words(".page-head").contains("not countersigned"));
    assert!(ilma.get("/plans/1").await.words("table").contains("not countersigned"));
    let alone = lines(
        &server.database,
        "SELECT (approved_by = created_by)::text AS line FROM plan_versions WHERE state = 'approved' AND plan_id = 1",
    );
    assert_eq!(alone.await, ["true"]);
}

/// A lot is not put in use before its certificate serves, and one whose first certificate was rejected gets another.
#[tokio::test(flavor = "multi_thread")]
async fn a_lot_waits_for_its_certificate() {
    let server = Server::demo().await;
    let (ilma, rauno) = (ilma(&server).await, rauno(&server).await);
    let lot = [
        ("lot", "VR-0800"),
        ("paper", "calibration"),
        ("number", "V-3100"),
        ("issuer", "Velmaranta measuring room"),
        ("issued_on", "20.11.2026"),
        ("valid_from", "20.11.2026"),
        ("valid_until", "20.11.2028"),
        ("unit", "kg"),
        ("values.0.piece", "10"),
        ("values.0.nominal", "10"),
        ("values.0.value", "10.00002"),
        ("values.0.uncertainty", "0.00015"),
        ("values.0.k", "2"),
    ];
    let page = ilma.get("/new/standard").await;
    let typed = [("tag", "M1-Y"), ("name", "Spare weight"), ("kind", "Weight set")];
    assert_eq!(ilma.submit(&page, "/new/standard", &typed).await.status, StatusCode::SEE_OTHER);
    let page = ilma.get("/standards/M1-Y/lot").await;
    let kept = ilma.submit(&page, "/standards/M1-Y/lot", &lot).await;
    let path = kept.location.unwrap_or_else(|| panic!("{}", kept.text));
    // The first lot is in use at once, and cannot serve.
    let shown = ilma.get("/standards/M1-Y").await.words(".page-head");
    assert!(shown.contains("V-3100 waits for a second lead"), "{shown}");
    let reject =
        [("reason", "the paper says 10.00003"), ("password", PASSWORD), ("verdict", "reject")];
    assert_eq!(decide(&rauno, &path, &reject).await.status, StatusCode::SEE_OTHER);
    let page = ilma.get("/standards/M1-Y/certificate").await;
    assert!(
        page.find("[name=change]").is_none(),
        "nothing is replaced: there is nothing to choose"
    );
    let right: Vec<(&str, &str)> = lot
        .iter()
        .filter(|(name, _)| *name != "lot")
        .map(|(name, value)| (*name, if *name == "values.0.value" { "10.00003" } else { *value }))
        .collect();
    let again = ilma.submit(&page, "/standards/M1-Y/certificate", &right).await;
    let path = again.location.unwrap_or_else(|| panic!("{}", again.text));
    // A second lot waits for its own certificate before it takes over.
    let page = ilma.get("/standards/M1-Y/lot").await;
    let mut second = lot.to_vec();
    second.extend([("lot", "VR-0801"), ("number", "V-3101")]);
    let second = ilma.submit(&page, "/standards/M1-Y/lot", &second).await;
    let its = second.location.unwrap_or_else(|| panic!("{}", second.text));
    let lots = ilma.get("/standards/M1-Y").await;
    let action = lots.attribute("form[action*='/lots/']", "action").unwrap();
    let early = post(&ilma, &action, &[("reason", "the first one is worn")]).await;
    assert_eq!(early.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(early.text.contains("waits for a second lead"), "{}", early.words("main"));
    for path in [&path, &its] {
        assert_eq!(rauno.countersign(path, PASSWORD).await.status, StatusCode::SEE_OTHER);
    }
    let shown = ilma.get("/standards/M1-Y").await.words(".page-head");
    assert!(shown.contains("in date until 20 November 2028"), "{shown}");
}
