//! Walks the router: each route answers each kind of visitor as its access says.

use std::collections::HashMap;

use reqwest::StatusCode;
use vaaka_web::{Access, routes};

use crate::client::{Bench, Page};
use crate::support::Server;

/// Something real behind each parameter.
fn filled(path: &str) -> String {
    let id = match path {
        _ if path.starts_with("/charts") => "1",
        _ if path.starts_with("/checks") => "12",
        _ => "R-02",
    };
    let tag = if path.starts_with("/standards") { "M1-B" } else { "R-02" };
    path.replace("{id}", id).replace("{tag}", tag)
}

async fn call(bench: &Bench, method: &str, path: &str, token: &str) -> Page {
    if method == "GET" {
        return bench.get(path).await;
    }
    // A key and a plan version, so that the form itself is readable.
    let key = uuid::Uuid::new_v4().to_string();
    let fields = HashMap::from([("form_token", token), ("plan_version", "1"), ("key", &key)]);
    bench.post(path, &fields).await
}

async fn token_of(bench: &Bench) -> String {
    bench.get("/").await.attribute("input[name=form_token]", "value").unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_gets_past_the_sign_in() {
    let server = Server::demo().await;
    let stranger = Bench::new(&server.base);
    for route in routes().into_iter().filter(|route| route.access != Access::Everybody) {
        let path = filled(route.path);
        let answer = call(&stranger, route.method, &path, "none").await;
        let location = answer.location.clone().unwrap_or_default();
        let sent_away = answer.status == StatusCode::SEE_OTHER && location.starts_with("/sign-in");
        // An entry that was typed while signed out is asked for again, with what was typed.
        let asked = answer.status == StatusCode::UNAUTHORIZED && answer.find("#password").is_some();
        assert!(sent_away || asked, "{} {path}: {} {location}", route.method, answer.status);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_auditor_reads_everything_and_runs_nothing() {
    let server = Server::demo().await;
    let veera = Bench::signed_in(&server.base, "veera", "avoin-ovi-8").await;
    let token = token_of(&veera).await;
    for route in routes() {
        let path = filled(route.path);
        match route.access {
            Access::Everybody => {}
            Access::SignedIn => {
                let answer = call(&veera, route.method, &path, &token).await;
                assert_eq!(answer.status, StatusCode::OK, "{} {path}", route.method);
            }
            Access::Bench => {
                let answer = call(&veera, route.method, &path, &token).await;
                assert_eq!(answer.status, StatusCode::FORBIDDEN, "{} {path}", route.method);
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_form_without_its_token_changes_nothing() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    for route in routes() {
        if route.method != "POST" || route.access == Access::Everybody {
            continue;
        }
        let path = filled(route.path);
        let answer = call(&aino, "POST", &path, "of another sign-in").await;
        assert_eq!(answer.status, StatusCode::FORBIDDEN, "{path}");
        assert!(answer.text.contains("another sign-in"), "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_parameters_get_a_page_and_no_failure() {
    let server = Server::demo().await;
    let aino = Bench::aino(&server.base).await;
    for route in routes().into_iter().filter(|route| route.path.contains('{')) {
        if route.method != "GET" {
            continue;
        }
        for wrong in [
            "0",
            "-1",
            "999999999999",
            "99999999999999999999999",
            "x",
            "%F0%9F%98%80",
            "%00",
            "a%27b",
        ] {
            let path = route.path.replace("{id}", wrong).replace("{tag}", wrong);
            let answer = aino.get(&path).await;
            assert!(
                answer.status.is_client_error(),
                "{path}: {} {}",
                answer.status,
                answer.words("h1")
            );
        }
    }
}
