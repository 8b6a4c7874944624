//! Signing in and out, and the choice of look.

use askama::Template;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use tower_sessions::Session;
use vaaka_store::{people, sign_ins};

use crate::auth::{Address, Proof, prove, too_many};
use crate::error::WebError;
use crate::forms::{Asked, Posted};
use crate::paths::local_path;
use crate::session::{self, LOOK_COOKIE, SignedIn, TABLES_COOKIE};
use crate::shell::{Shell, page};
use crate::state::AppState;

#[derive(Debug, Template)]
#[template(path = "sign_in.html")]
struct SignInPage {
    shell: Shell,
    next: String,
    name: String,
    notice: Option<String>,
    error: Option<String>,
    demo: Vec<(String, String, String)>,
}

/// Where to go on to.
#[derive(Debug, Default, Deserialize)]
pub struct Next {
    #[serde(default)]
    next: String,
}

/// The form.
#[derive(Debug, Deserialize)]
pub struct SignInForm {
    #[serde(default)]
    name: String,
    #[serde(default)]
    password: String,
    #[serde(default)]
    next: String,
}

impl SignInPage {
    fn new(state: &AppState, headers: &HeaderMap, next: String) -> Self {
        Self {
            shell: Shell::plain(session::look_of(headers)),
            next,
            name: String::new(),
            notice: None,
            error: None,
            demo: state.settings.demo_sign_ins.clone(),
        }
    }
}

/// Shows the page.
pub async fn show(
    State(state): State<AppState>,
    headers: HeaderMap,
    Asked(next): Asked<Next>,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    if people::count(&mut connection).await? == 0 {
        return Ok(Redirect::to("/first").into_response());
    }
    page(StatusCode::OK, &SignInPage::new(&state, &headers, local_path(&next.next)))
}

/// The page in answer to something that was sent while signed out: what was typed goes along.
pub fn ask_again(
    state: &AppState,
    headers: &HeaderMap,
    next: String,
    notice: String,
) -> Result<Response, WebError> {
    let template =
        SignInPage { notice: Some(notice), ..SignInPage::new(state, headers, local_path(&next)) };
    page(StatusCode::UNAUTHORIZED, &template)
}

/// Signs in, or says why not; which of name and password is wrong is not told.
pub async fn submit(
    State(state): State<AppState>,
    session: Session,
    headers: HeaderMap,
    address: Address,
    Posted(form): Posted<SignInForm>,
) -> Result<Response, WebError> {
    let again = |error: String| SignInPage {
        name: form.name.clone(),
        error: Some(error),
        ..SignInPage::new(&state, &headers, local_path(&form.next))
    };
    let person = match prove(&state, &form.name, &form.password, &address, "sign in").await? {
        Proof::Fits(person) => person,
        Proof::Wrong => {
            let words = "Name and password do not fit together. Check both and try again.";
            return page(StatusCode::UNPROCESSABLE_ENTITY, &again(words.to_owned()));
        }
        Proof::Wait(left) => {
            let seconds = (left.as_secs() + 1).to_string();
            let shown = page(StatusCode::TOO_MANY_REQUESTS, &again(too_many(left)))?;
            return Ok(([(header::RETRY_AFTER, seconds)], shown).into_response());
        }
    };
    session::sign_in(&session, person.id).await?;
    let mut connection = state.store.connection().await?;
    sign_ins::signed_in(&mut connection, person.id, state.now()).await?;
    // Who signs in here is offered for the quick switch of a shared bench.
    let cookie = session::bench_cookie(&headers, &person.sign_in, state.settings.secure_cookies);
    let next = Redirect::to(&local_path(&form.next));
    Ok(([(header::SET_COOKIE, cookie)], next).into_response())
}

/// A form with nothing but its token.
#[derive(Debug, Deserialize)]
pub struct TokenForm {
    #[serde(default)]
    form_token: String,
}

/// Signs out.
pub async fn sign_out(
    signed: SignedIn,
    session: Session,
    Posted(form): Posted<TokenForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    session::sign_out(&session).await?;
    Ok(Redirect::to("/sign-in").into_response())
}

/// The chosen look and the page to return to.
#[derive(Debug, Deserialize)]
pub struct LookForm {
    #[serde(default)]
    look: String,
    #[serde(default)]
    tables: String,
    #[serde(default)]
    back: String,
}

/// Keeps the chosen look, or how tables are written, in a cookie of its own; it is no secret and changes nothing else.
pub async fn choose_look(
    State(state): State<AppState>,
    Posted(form): Posted<LookForm>,
) -> Response {
    let secure = state.settings.secure_cookies;
    let back = Redirect::to(&local_path(&form.back));
    if matches!(form.tables.as_str(), "programs" | "spreadsheets") {
        let cookie = session::cookie(TABLES_COOKIE, &form.tables, 365, secure);
        return ([(header::SET_COOKIE, cookie)], back).into_response();
    }
    let look = match form.look.as_str() {
        "light" => "light",
        "dark" => "dark",
        _ => "auto",
    };
    let cookie = session::cookie(LOOK_COOKIE, look, 365, secure);
    ([(header::SET_COOKIE, cookie)], back).into_response()
}
