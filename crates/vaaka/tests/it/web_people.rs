//! People: the first one, roles, training, the quick switch.

use std::collections::HashMap;

use reqwest::StatusCode;

use crate::client::Bench;
use crate::support::{FIRST_CODE, Server, empty_database, now};

#[tokio::test(flavor = "multi_thread")]
async fn the_first_administrator_proves_himself_by_the_servers_code() {
    let server = Server::over(empty_database().await, now()).await;
    let stranger = Bench::new(&server.base);
    let page = stranger.get("/first").await;
    let typed = [
        ("code", FIRST_CODE),
        ("name", "Onni Laaksamo"),
        ("sign_in", "Onni"),
        ("password", "uusi-portti-6"),
        ("again", "uusi-portti-6"),
        ("site", "Velmaranta Laminates"),
        ("zone", "Europe/Helsinki"),
        ("areas", "Resin kitchen\nPress hall"),
    ];
    for (field, value, words) in [
        ("code", "0000-0000-0000-0000", "not the code"),
        ("code", "", "not the code"),
        ("password", "short", "ten characters"),
        ("again", "something else", "differ"),
        ("zone", "Middle/Earth", "no time zone"),
        ("areas", " ", "one area"),
        ("name", "", "your name"),
    ] {
        let mut fields = typed.to_vec();
        fields.push((field, value));
        let answer = stranger.submit(&page, "/first", &fields).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{field} {value}");
        assert!(answer.words(&format!("#f-{field}-error")).contains(words), "{field} {value}");
        assert!(!answer.text.contains("uusi-portti-6"), "a password never comes back");
        assert_eq!(answer.whole_form("form.sheet-form")["site"], "Velmaranta Laminates");
    }
    let done = stranger.submit(&page, "/first", &typed).await;
    assert_eq!(done.location.as_deref(), Some("/people"), "{}", done.text);
    // Once there is somebody, nobody becomes the first again.
    let late = Bench::new(&server.base);
    assert_eq!(late.get("/first").await.location.as_deref(), Some("/sign-in"));
    assert_eq!(late.submit(&page, "/first", &typed).await.location.as_deref(), Some("/sign-in"));

    // From here on a whole site is made without touching the database.
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let form = onni.get("/new/person").await;
    for (name, sign_in, role) in
        [("Ilma Tarvola", "ilma", "lead"), ("Aino Verkala", "aino", "technician")]
    {
        let typed =
            [("name", name), ("sign_in", sign_in), ("role", role), ("password", "kapea-silta-4")];
        let added = onni.submit(&form, "/new/person", &typed).await;
        assert_eq!(added.status, StatusCode::SEE_OTHER, "{}", added.text);
    }
    let twice =
        [("name", "x"), ("sign_in", "AINO"), ("role", "technician"), ("password", "kapea-silta-4")];
    assert!(onni.submit(&form, "/new/person", &twice).await.text.contains("sign-in name already"));
    let ilma =
        Bench::signed_in_first(&server.base, "ilma", "kapea-silta-4", "leve\u{e4}-silta-5").await;
    let page = ilma.get("/new/instrument").await;
    let typed = [
        ("tag", "K-01"),
        ("name", "Bench scale"),
        ("family", "scale"),
        ("unit", "kg"),
        ("resolution", "0,001"),
        ("maximum", "15"),
        ("serial", "none"),
    ];
    let made = ilma.submit(&page, "/new/instrument", &typed).await;
    assert_eq!(made.location.as_deref(), Some("/instruments/K-01"), "{}", made.words("main"));
    let shown = ilma.get("/instruments/K-01").await;
    assert!(
        shown.words("main").contains("0.001 kg") && shown.words("main").contains("Resin kitchen")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_untrained_are_told_who_can_and_training_ends() {
    let server = Server::demo().await;
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let form = onni.get("/new/person").await;
    let typed = [
        ("name", "Uusi Tulija"),
        ("sign_in", "uusi"),
        ("role", "technician"),
        ("password", "pitka-polku-3"),
    ];
    onni.submit(&form, "/new/person", &typed).await;
    let uusi = Bench::signed_in_first(&server.base, "uusi", "pitka-polku-3", "lyhyt-polku-4").await;
    let round = uusi.get("/").await;
    let mut fields = round.form("td.do form");
    fields.insert("plan_version".into(), crate::client::plan_version(&round, "P-11"));
    let refused = uusi.post("/checks", &fields).await;
    assert_eq!(refused.status, StatusCode::CONFLICT);
    assert!(
        refused.text.contains("You are not trained for this kind of check"),
        "{}",
        refused.text
    );
    assert!(refused.text.contains("Aino Verkala") && refused.text.contains(" can."));

    let ilma = Bench::signed_in(&server.base, "ilma", "tyyni-selka-3").await;
    let train = async |bench: &Bench, id: &str, method: &str, until: &str| {
        let page = bench.get("/people").await;
        let token = page.attribute("input[name=form_token]", "value").unwrap();
        let fields = HashMap::from([
            ("form_token", token.as_str()),
            ("method", method),
            ("valid_until", until),
        ]);
        bench.post(&format!("/people/{id}/training"), &fields).await
    };
    for (method, until) in [("dowsing", "2027-01-01"), ("gauge", ""), ("gauge", "soon")] {
        let answer = train(&ilma, "9", method, until).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{method} {until}");
    }
    assert!(
        train(&ilma, "5", "gauge", "2027-01-01").await.text.contains("Nobody records their own")
    );
    assert_eq!(train(&ilma, "9", "gauge", "2027-01-01").await.status, StatusCode::SEE_OTHER);
    let path = uusi.start("P-11").await;
    assert!(path.starts_with("/checks/"));
    // Ended by a day that is over: the next check is refused, and says since when.
    train(&ilma, "9", "gauge", "2026-11-20").await;
    let round = uusi.get("/").await;
    let mut fields = round.form("td.do form");
    fields.insert("plan_version".into(), crate::client::plan_version(&round, "F-11"));
    let refused = uusi.post("/checks", &fields).await;
    assert!(refused.text.contains("ended on 2026-11-20"), "{}", refused.text);
}

#[tokio::test(flavor = "multi_thread")]
async fn people_change_and_the_last_administrator_stays() {
    let server = Server::demo().await;
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    let aino = Bench::aino(&server.base).await;
    let page = onni.get("/people/1").await;
    assert_eq!(page.whole_form("form.sheet-form")["sign_in"], "aino");
    let left = onni.submit(&page, "/people/1", &[("active", "")]).await;
    assert_eq!(left.status, StatusCode::SEE_OTHER, "{}", left.text);
    assert!(aino.get("/").await.location.unwrap().starts_with("/sign-in"), "signed out at once");
    let stale = onni.submit(&page, "/people/1", &[("name", "Aino V.")]).await;
    assert!(stale.text.contains("Somebody changed this person"), "{}", stale.text);
    let page = onni.get("/people/8").await;
    let last = onni.submit(&page, "/people/8", &[("role", "viewer")]).await;
    assert!(last.text.contains("last administrator"), "{}", last.words("main"));
    // Nothing of it happened: the administrator is one still.
    assert_eq!(onni.get("/new/person").await.status, StatusCode::OK);
    for (name, words) in [("  ", "Give an area"), ("Press hall", "of this name already")] {
        let token = onni.get("/people").await.attribute("input[name=form_token]", "value").unwrap();
        let fields = HashMap::from([("form_token", token.as_str()), ("name", name)]);
        let answer = onni.post("/areas", &fields).await;
        assert_eq!(answer.status, StatusCode::UNPROCESSABLE_ENTITY, "{words}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_next_person_goes_on_by_a_password_alone() {
    let server = Server::demo().await;
    let bench = Bench::aino(&server.base).await;
    let fields = HashMap::from([("name", "teemu"), ("password", "kuiva-kivi-7")]);
    bench.post("/sign-in", &fields).await;
    let page = bench.get("/charts").await;
    assert_eq!(page.words(".who summary"), "Teemu Ronsala");
    let switch = page.form(".switch form");
    assert_eq!((switch["name"].as_str(), switch["next"].as_str()), ("aino", "/charts"));
    let mut wrong = switch.clone();
    wrong.insert("password".into(), "guess".into());
    assert_eq!(bench.post("/sign-in", &wrong).await.status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(bench.get("/charts").await.words(".who summary"), "Teemu Ronsala", "still the same");
    let mut right = switch;
    right.insert("password".into(), "kapea-silta-4".into());
    assert_eq!(bench.post("/sign-in", &right).await.location.as_deref(), Some("/charts"));
    assert_eq!(bench.get("/charts").await.words(".who summary"), "Aino Verkala");
}
