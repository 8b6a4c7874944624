//! What leads are told, and the outbox of mail.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_store::ids::NoticeId;
use vaaka_store::notices;

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::forms::PathId;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

/// Notices shown at most.
const MOST: i64 = 60;

#[derive(Debug, Template)]
#[template(path = "notices.html")]
struct NoticesPage {
    shell: Shell,
    heading: String,
    rows: Vec<Row>,
}

#[derive(Debug)]
struct Row {
    id: i64,
    state: &'static str,
    title: String,
    words: String,
    path: String,
    at: String,
    taken: Option<String>,
}

/// Shows what there is to know, what nobody took up first.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let found = notices::newest(&mut desk.connection, MOST).await?;
    let waiting = notices::waiting(&desk.connection).await?;
    let heading = match waiting {
        0 => "nothing waits".to_owned(),
        1 => "one waits for a lead".to_owned(),
        n => format!("{n} wait for a lead"),
    };
    let when = |at: vaaka_store::At| local_day_time(at.0, &desk.here.zone);
    let rows = found
        .into_iter()
        .map(|notice| Row {
            id: notice.id.0,
            state: match (notice.taken_at.is_some(), notice.kind.as_str()) {
                (true, _) => "ok",
                (false, "adjusted" | "missed") => "signal",
                (false, _) => "out",
            },
            title: notice.title,
            words: notice.words,
            path: notice.path,
            at: when(notice.at),
            taken: notice
                .taken_by
                .zip(notice.taken_at)
                .map(|(by, at)| format!("taken up by {by}, {}", when(at))),
        })
        .collect();
    let shell = Shell::new(&signed, "notices", &desk.here);
    page(StatusCode::OK, &NoticesPage { shell, heading, rows })
}

/// A lead takes a notice up.
pub async fn take(
    PathId(id): PathId,
    Sent { signed, mut desk, .. }: Sent,
) -> Result<Response, WebError> {
    notices::take_up(&mut desk.connection, NoticeId(id), signed.person.id, desk.now).await?;
    Ok(Redirect::to("/notices").into_response())
}

#[derive(Debug, Template)]
#[template(path = "mail.html")]
struct MailPage {
    shell: Shell,
    rows: Vec<MailRow>,
}

#[derive(Debug)]
struct MailRow {
    to: String,
    subject: String,
    body: String,
    queued: String,
    state: &'static str,
    words: String,
}

/// Shows the outbox.
pub async fn mail(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let rows = notices::mails(&mut desk.connection, MOST)
        .await?
        .into_iter()
        .map(|mail| {
            let when = |at: vaaka_store::At| local_day_time(at.0, &desk.here.zone);
            let (state, words) = match (mail.sent_at, mail.last_error) {
                (Some(at), _) => ("ok", format!("sent {}", when(at))),
                (None, Some(error)) => (
                    "out",
                    format!(
                        "not sent after {} attempts: {error}; it is tried again",
                        mail.attempts
                    ),
                ),
                (None, None) => ("due", "waits to be sent".to_owned()),
            };
            MailRow {
                to: mail.recipient,
                subject: mail.subject,
                body: mail.body,
                queued: when(mail.queued_at),
                state,
                words,
            }
        })
        .collect();
    let shell = Shell::new(&signed, "people", &desk.here);
    page(StatusCode::OK, &MailPage { shell, rows })
}
