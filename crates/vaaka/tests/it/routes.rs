//! Walks the router: each route answers each kind of visitor as its access says.

use std::collections::HashMap;

use reqwest::StatusCode;
use vaaka_web::{Access, routes};

use crate::client::{Bench, Page};
use crate::support::Server;

/// Something real behind each parameter.
fn filled(path: &str) -> String {
    let id = if path.starts_with("/checks") { "12" } else { "1" };
    let tag = if path.starts_with("/standards") { "M1-B" } else { "R-02" };
    let tag = match path {
        "/export/{tag}" => "round.csv",
        "/import/columns/{tag}" => "history.csv",
        _ => tag,
    };
    path.replace("{id}", id)
        .replace("{tag}", tag)
        .replace("{check}", "1")
        .replace("{segment}", "1")
        .replace("{turn}", "6f2b1c5e-0000-4000-8000-000000000000")
}

async fn call(bench: &Bench, method: &str, path: &str, token: &str) -> Page {
    if path == "/wall/events" {
        // It has no end.
        return bench.opened(path).await;
    }
    if method == "GET" {
        return bench.get(path).await;
    }
    if path.ends_with("/photo") || path.ends_with("/file") || path == "/import" {
        return bench.send_file(path, token, "a.png", b"no picture").await;
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
        // What is for other programs says that a key is wanted.
        let keyed = answer.status == StatusCode::UNAUTHORIZED && answer.text.contains("Bearer");
        assert!(
            sent_away
                || asked
                || (keyed && matches!(route.access, Access::Program | Access::Station)),
            "{} {path}: {} {location}",
            route.method,
            answer.status
        );
    }
}

/// Every role against every route: what its access says, and nothing else.
#[tokio::test(flavor = "multi_thread")]
async fn each_role_gets_what_is_its_own() {
    let server = Server::demo().await;
    for (name, password, may) in [
        ("veera", "avoin-ovi-8", &[Access::Program, Access::SignedIn][..]),
        ("aino", "kapea-silta-4", &[Access::Program, Access::SignedIn, Access::Bench]),
        (
            "ilma",
            "tyyni-selka-3",
            &[Access::Program, Access::SignedIn, Access::Bench, Access::Lead],
        ),
        ("onni", "uusi-portti-6", &[Access::Program, Access::SignedIn, Access::Administrator]),
    ] {
        let bench = Bench::signed_in(&server.base, name, password).await;
        let token = token_of(&bench).await;
        for route in routes().into_iter().filter(|route| route.access != Access::Everybody) {
            let path = filled(route.path);
            let answer = call(&bench, route.method, &path, &token).await;
            if route.access == Access::Station {
                // For bench PCs alone, by their keys: a person is none, whatever their role.
                assert_eq!(answer.status, StatusCode::UNAUTHORIZED, "{name} {path}");
                continue;
            }
            let refused = answer.status == StatusCode::FORBIDDEN;
            assert_eq!(refused, !may.contains(&route.access), "{name} {} {path}", route.method);
            assert!(
                !answer.status.is_server_error(),
                "{name} {} {path}: {} {}",
                route.method,
                answer.status,
                answer.text
            );
            let reads = route.method == "GET" && may.contains(&route.access);
            // No look-back, file or adjustment is there yet, and a release is of an instrument.
            let missing =
                ["/look-backs", "/files", "/adjustments", "/api/release", "/import/1", "/paper/1"];
            let absent = missing.iter().any(|missing| path.starts_with(missing))
                || path.contains("/traces/");
            if reads && !absent {
                let fine =
                    answer.status == StatusCode::OK || answer.status == StatusCode::SEE_OTHER;
                assert!(fine, "{name} {path}: {}", answer.status);
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_form_without_its_token_changes_nothing() {
    let server = Server::demo().await;
    // Whoever has the role for it: without the role nobody gets as far as the token.
    let ilma = Bench::signed_in(&server.base, "ilma", "tyyni-selka-3").await;
    let onni = Bench::signed_in(&server.base, "onni", "uusi-portti-6").await;
    for route in routes() {
        if route.method != "POST" || matches!(route.access, Access::Everybody | Access::Station) {
            continue;
        }
        let path = filled(route.path);
        let who = if route.access == Access::Administrator { &onni } else { &ilma };
        let answer = call(who, "POST", &path, "of another sign-in").await;
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
