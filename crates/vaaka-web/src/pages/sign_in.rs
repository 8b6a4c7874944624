//! Signing in and out, and the choice of look.

use askama::Template;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use serde_json::json;
use tower_sessions::Session;
use vaaka_store::audit::{self, Happening};
use vaaka_store::people;

use super::{Shell, page};
use crate::error::WebError;
use crate::forms::{Asked, Posted, local_path};
use crate::passwords;
use crate::session::{self, LOOK_COOKIE, SignedIn};
use crate::state::AppState;

#[derive(Debug, Template)]
#[template(path = "sign_in.html")]
struct SignInPage {
    shell: Shell,
    next: String,
    name: String,
    notice: Option<String>,
    error: Option<&'static str>,
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
    Posted(form): Posted<SignInForm>,
) -> Result<Response, WebError> {
    let person = {
        let mut connection = state.store.connection().await?;
        people::by_sign_in(&mut connection, &form.name).await?
    };
    let hash = person.as_ref().map(|person| person.password_hash.clone());
    let fits = passwords::verify(form.password, hash).await?;
    let Some(person) = person.filter(|_| fits) else {
        let template = SignInPage {
            name: form.name,
            error: Some("Name and password do not fit together. Check both and try again."),
            ..SignInPage::new(&state, &headers, local_path(&form.next))
        };
        return page(StatusCode::UNPROCESSABLE_ENTITY, &template);
    };
    session::sign_in(&session, person.id).await?;
    let mut connection = state.store.connection().await?;
    let happening = Happening {
        chain: &format!("person:{}", person.id),
        at: state.now(),
        person: Some(person.id),
        action: "signed_in",
        detail: json!({}),
    };
    // Two sign-ins of one person at one moment meet in the chain; one more look settles it.
    if audit::record(&mut connection, &happening).await.is_err() {
        audit::record(&mut connection, &happening).await?;
    }
    // Who signs in here is offered for the quick switch of a shared bench.
    let cookie = session::bench_cookie(&headers, &person.sign_in);
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
    back: String,
}

/// Keeps the chosen look in a cookie of its own; it is no secret and changes nothing else.
pub async fn choose_look(Posted(form): Posted<LookForm>) -> Response {
    let look = match form.look.as_str() {
        "light" => "light",
        "dark" => "dark",
        _ => "auto",
    };
    let cookie = format!("{LOOK_COOKIE}={look}; Path=/; Max-Age=31536000; SameSite=Lax; HttpOnly");
    ([(header::SET_COOKIE, cookie)], Redirect::to(&local_path(&form.back))).into_response()
}
