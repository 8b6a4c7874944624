//! The second pair of eyes on certificates: what one lead typed, beside what held before, to be compared with the paper by another.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_core::quantity::show_decimal;
use vaaka_core::standard::value_remarks;
use vaaka_store::certificate_reviews::{self as reviews, Review};
use vaaka_store::files::{self, FileBrief, Owner};
use vaaka_store::ids::{CertificateId, PersonId};
use vaaka_store::jobs;
use vaaka_store::rows::CertifiedValue;
use vaaka_store::second_look::Decision;
use vaaka_store::{StoreError, countersigning, people, registers, standards};

use crate::auth::Address;
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::Fields;
use crate::forms::PathId;
use crate::pages::people::second_look::{Deciding, Errors, hear};
use crate::pages::progress::{Pieces, Progress};
use crate::pages::standard::list::{ValueRow, paper_words, state_of, value_row};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time, long_day};

#[derive(Debug, Template)]
#[template(path = "certificates.html")]
struct ListPage {
    shell: Shell,
    rows: Vec<(i64, String, String, String, String)>,
}

/// Shows the certificates that wait.
pub async fn list(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let everybody = people::all(&mut desk.connection).await?;
    let name = |id: PersonId| {
        everybody.iter().find(|p| p.id == id).map_or_else(String::new, |p| p.name.clone())
    };
    let rows = reviews::waiting(&mut desk.connection)
        .await?
        .into_iter()
        .map(|(paper, tag, by, at)| {
            let at = local_day_time(at.0, &desk.here.zone);
            (paper.id.0, tag, paper_words(&paper), name(by), at)
        })
        .collect();
    page(StatusCode::OK, &ListPage { shell: Shell::new(&signed, "standards", &desk.here), rows })
}

#[derive(Debug, Template)]
#[template(path = "certificate.html")]
struct CertificatePage {
    shell: Shell,
    id: i64,
    tag: String,
    heading: String,
    state: &'static str,
    words: &'static str,
    facts: Vec<(&'static str, String)>,
    remarks: Vec<String>,
    rows: Vec<Compared>,
    by_temperature: bool,
    not_uniform: bool,
    replaces: bool,
    files: Vec<FileBrief>,
    decided: Option<String>,
    why_not: Option<&'static str>,
    may_decide: Option<Deciding>,
    /// How far its clerical fix has been carried through the past.
    progress: Option<Progress>,
}

/// What carrying a clerical fix through the past is made of.
const REWRITTEN: Pieces = Pieces {
    so_far: "checks that rested on it are evaluated again",
    meanwhile: "You may leave this page; it goes on by itself. Charts are replayed at the end.",
    at_the_end: "All {total} checks that rested on it are evaluated again, and their charts are replayed.",
};

/// A value with the one that held before.
#[derive(Debug)]
struct Compared {
    now: ValueRow,
    before: String,
    same: bool,
}

/// Why somebody may not decide it.
fn why_not(signed: &SignedIn, review: &Review, alone: bool) -> Option<&'static str> {
    if signed.person.role != "lead" {
        return Some("Another lead than who typed it decides.");
    }
    (review.entered_by == signed.person.id && !alone)
        .then_some("You typed it yourself: another lead compares it with the paper.")
}

/// Shows one certificate.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw(&mut desk, &signed, CertificateId(id), &Fields::default(), [None, None], StatusCode::OK)
        .await
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    id: CertificateId,
    typed: &Fields,
    errors: Errors,
    status: StatusCode,
) -> Result<Response, WebError> {
    let (paper, standard) = reviews::one(&mut desk.connection, id).await?;
    let review = reviews::of(&mut desk.connection, id).await?;
    let values = standards::values(&mut desk.connection, id).await?;
    let before = match paper.replaces_id {
        Some(old) => standards::values(&mut desk.connection, old).await?,
        None => vec![],
    };
    let remarks =
        value_remarks(&registers::pieces(values.clone())?, &registers::pieces(before.clone())?);
    let zone = desk.here.zone.clone();
    let alone = people::is_only_lead(&mut desk.connection).await?;
    let waiting = review.as_ref().filter(|review| review.state == "waiting");
    let why_not = waiting.and_then(|review| why_not(signed, review, alone));
    let mut facts = vec![
        ("Standard", format!("{} {}", standard.name, standard.tag)),
        ("Certificate", format!("{}, version {}", paper.number, paper.version)),
        ("Issued by", paper.issuer.clone()),
        ("Issued on", long_day(paper.issued_on.0)),
        ("Valid", format!("{} to {}", long_day(paper.valid_from.0), long_day(paper.valid_until.0))),
    ];
    let mut decided = None;
    if let Some(review) = &review {
        let by = people::anybody(&mut desk.connection, review.entered_by).await?.name;
        facts.push(("Typed by", format!("{by}, {}", local_day_time(review.entered_at.0, &zone))));
        if let (Some(by), Some(at), Some(reason)) =
            (review.decided_by, review.decided_at, &review.decided_reason)
        {
            let by = people::anybody(&mut desk.connection, by).await?.name;
            decided = Some(format!("{by}, {}: {reason}", local_day_time(at.0, &zone)));
        }
    }
    let (state, words) = state_of(review.as_ref());
    let template = CertificatePage {
        id: id.0,
        tag: standard.tag.clone(),
        heading: format!("Certificate {} of {}", paper.number, standard.tag),
        state,
        words,
        facts,
        remarks,
        by_temperature: values.iter().any(|row| row.temperature.is_some()),
        not_uniform: values.iter().any(|row| row.non_uniformity.is_some()),
        replaces: paper.replaces_id.is_some(),
        rows: values.iter().map(|value| compared(value, &before)).collect(),
        files: files::of(&mut desk.connection, Owner::Certificate(id)).await?,
        decided,
        may_decide: (waiting.is_some() && why_not.is_none()).then(|| {
            let own = waiting.is_some_and(|review| review.entered_by == signed.person.id);
            Deciding::of(alone && own, typed, errors)
        }),
        why_not,
        progress: jobs::of(&mut desk.connection, &reviews::path(id)).await?.map(|job| {
            let lead = signed.person.role == "lead";
            Progress::of(&job, REWRITTEN, lead.then(|| format!("/certificates/{id}/again")))
        }),
        shell: Shell::new(signed, "standards", &desk.here),
    };
    page(status, &template)
}

/// Lets work that stopped be tried again.
pub async fn try_again(
    PathId(id): PathId,
    Sent { signed, mut desk, .. }: Sent,
) -> Result<Response, WebError> {
    let path = reviews::path(CertificateId(id));
    jobs::try_again(&mut desk.connection, &path, (signed.person.id, desk.now)).await?;
    Ok(Redirect::to(&path).into_response())
}

fn compared(value: &CertifiedValue, before: &[CertifiedValue]) -> Compared {
    let old =
        before.iter().find(|old| old.piece == value.piece && old.temperature == value.temperature);
    let show = |value: &CertifiedValue| {
        let decimals = value.certified_value.scale();
        format!("{} {}", show_decimal(value.certified_value, decimals), value.unit)
    };
    Compared {
        now: value_row(value),
        before: old.map_or_else(|| "–".to_owned(), show),
        same: old.is_some_and(|old| {
            (old.certified_value, &old.unit) == (value.certified_value, &value.unit)
        }),
    }
}

/// Countersigns or rejects a certificate.
pub async fn decide(
    PathId(id): PathId,
    address: Address,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let id = CertificateId(id);
    let gone = || WebError::NotNow { words: "This certificate was decided meanwhile.".into() };
    let review = reviews::of(&mut desk.connection, id).await?.ok_or(WebError::NotFound)?;
    if review.state != "waiting" {
        return Err(gone());
    }
    let alone = people::is_only_lead(&mut desk.connection).await?;
    if let Some(words) = why_not(&signed, &review, alone) {
        return Err(WebError::NotNow { words: words.into() });
    }
    let who = (&mut desk, &signed, &address);
    let reason = match hear(who, &typed, "decide a certificate", true).await? {
        Ok(reason) => reason,
        Err(errors) => {
            let status = StatusCode::UNPROCESSABLE_ENTITY;
            return draw(&mut desk, &signed, id, &typed, errors, status).await;
        }
    };
    let decision = Decision {
        by: signed.person.id,
        reason: &reason,
        alone: alone && review.entered_by == signed.person.id,
        at: desk.now,
    };
    let (_, standard) = reviews::one(&mut desk.connection, id).await?;
    let back = format!("/standards/{}", standard.tag);
    if typed.get("verdict") == "reject" {
        return match countersigning::reject(&mut desk.connection, id, decision).await? {
            true => Ok(Redirect::to(&back).into_response()),
            false => Err(gone()),
        };
    }
    match countersigning::countersign(&mut desk.connection, id, decision).await {
        Ok(Some(followed)) => Ok(Redirect::to(&match followed.look_back {
            Some(look_back) => format!("/look-backs/{look_back}"),
            // How far it has come is seen there.
            None if followed.to_amend > 0 => reviews::path(id),
            None => back,
        })
        .into_response()),
        Ok(None) => Err(gone()),
        Err(StoreError::Method(why)) => Err(WebError::NotNow {
            words: format!(
                "With these values past checks cannot be computed: {why}. Reject it, so that it is typed again."
            ),
        }),
        Err(StoreError::Unreadable { what }) => Err(WebError::NotNow {
            words: format!(
                "A piece that plans or past checks need is missing: {what}. Reject it, so that it is typed again."
            ),
        }),
        Err(other) => Err(other.into()),
    }
}
