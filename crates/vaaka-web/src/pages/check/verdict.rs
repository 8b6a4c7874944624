//! The verdict: three answers side by side, the action, and every reason with its numbers.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_core::judgement::{Conformity, Reason, action_sentence, reason_numbers, reason_sentence};
use vaaka_store::charts;
use vaaka_store::checks;
use vaaka_store::files::{self, FileBrief, Owner};
use vaaka_store::ids::{AdjustmentId, CertificateId, CheckId};
use vaaka_store::outcomes::{StoredResult, result_of};
use vaaka_store::plans::PlanView;
use vaaka_store::rows::Check;
use vaaka_store::{adjustments, culprits, ladder as store_ladder, people, plans, registers};

use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::PathId;
use crate::pages::check::ladder::{self, LadderShown, Refused};
use crate::pages::check::live::LiveView;
use crate::pages::check::start as check_start;
use crate::pages::check::verdict_parts::{
    Answer, BudgetShown, Row, Since, action_state, answers, budgets, fingerprint, heading, row,
    since_last,
};
use crate::pages::round::paper_decide;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "verdict.html")]
struct VerdictPage {
    shell: Shell,
    id: i64,
    may_void: bool,
    voided: Option<String>,
    ladder: Option<LadderShown>,
    budgets: Vec<BudgetShown>,
    since: Since,
    may_adjust: bool,
    next: Option<(String, &'static str)>,
    photos: Vec<FileBrief>,
    instrument: String,
    heading: String,
    action: &'static str,
    action_state: &'static str,
    answers: Vec<Answer>,
    attention: Vec<Opened>,
    others: Vec<Opened>,
    rows: Vec<Row>,
    facts: Vec<(&'static str, String)>,
    charts: Vec<(i64, String)>,
    repeat_plan: Option<i64>,
    in_the_way: Option<String>,
    live: LiveView,
    form_token: String,
    repeat_key: uuid::Uuid,
}

/// A reason with its numbers.
#[derive(Debug)]
struct Opened {
    words: String,
    numbers: Vec<(&'static str, String)>,
}

/// Shows the verdict of a concluded check.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    draw(&state, &signed, id, None).await
}

/// Draws the verdict; `refused` is what was typed on its ladder and could not be kept.
pub(in crate::pages) async fn draw(
    state: &AppState,
    signed: &SignedIn,
    id: i64,
    refused: Option<&Refused>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(state).await?;
    let check = checks::by_id(&mut desk.connection, CheckId(id)).await?;
    let Some(stored) = result_of(&mut desk.connection, check.id).await? else {
        return Ok(Redirect::to(&format!("/checks/{id}")).into_response());
    };
    let view = plans::version(&mut desk.connection, check.plan_version_id).await?;
    let certificates = checks::certificates_of(&mut desk.connection, &check).await?;
    let live =
        LiveView::of_check((state, &mut desk.connection), (&check, &view), &certificates).await?;
    let hands = checks::hands(&mut desk.connection, &check).await?;
    let photos = files::of(&mut desk.connection, Owner::Check(check.id)).await?;
    let points = charts::of_check(&mut desk.connection, check.id).await?;
    let runs = checks::attempts(&mut desk.connection, view.plan.id, desk.here.shift.id).await?;
    let may_repeat = check.shift_instance_id == desk.here.shift.id
        && vaaka_core::round::due_of(false, &runs) == vaaka_core::round::Due::Repeat;
    // A button that would be refused is not offered.
    let in_the_way = if may_repeat && signed.may_check().is_ok() {
        check_start::would_refuse(&mut desk, signed, &view).await?
    } else {
        None
    };
    let verdict = &stored.verdict;
    let (attention, others): (Vec<_>, Vec<_>) =
        verdict.reasons.iter().partition(|reason| reason.needs_attention());
    let zone = desk.here.zone.clone();
    let opened = |reason: &&Reason| Opened {
        words: reason_sentence(reason, &stored.results, &zone),
        numbers: reason_numbers(reason, &stored.results),
    };
    let names: Vec<&str> = hands.iter().map(|(_, name, _)| name.as_str()).collect();
    let facts = facts(&mut desk, (&check, &view, &stored), &certificates, &names).await?;
    let failed = verdict.conforms == Conformity::Fail;
    let own = hands.iter().any(|(person, ..)| *person == signed.person.id);
    let shell = Shell::new(signed, "round", &desk.here);
    let voided = match (&check.void_reason, check.voided_by) {
        (Some(reason), Some(by)) => {
            let name = people::anybody(&mut desk.connection, by).await?.name;
            Some(format!("Void: {reason} ({name}). It stays on record and off the charts."))
        }
        _ => None,
    };
    let ladder = ladder::of(&mut desk.connection, &check, &view, &desk.here, refused).await?;
    let adjusted = adjustments::after(&mut desk.connection, check.id).await?;
    let next = leads_on(&mut desk, &check, adjusted.as_ref().map(|one| one.id)).await?;
    let may_adjust = shell.may_check()
        && check.purpose == "as_found"
        && voided.is_none()
        && adjusted.is_none()
        && view.instrument.adjustable;
    let template = VerdictPage {
        may_void: shell.may_lead() && voided.is_none() && !(failed && own),
        voided,
        ladder,
        budgets: budgets(&stored),
        since: since_last(&mut desk.connection, &check, &view, &stored, &desk.here).await?,
        may_adjust,
        next,
        photos,
        id,
        shell,
        instrument: format!("{} {}", view.instrument.name, view.instrument.tag),
        heading: heading(verdict, &stored),
        action: action_sentence(verdict.action),
        action_state: action_state(verdict.action),
        answers: answers(verdict, &stored, &desk.here),
        attention: attention.iter().map(opened).collect(),
        others: others.iter().map(opened).collect(),
        rows: stored.results.iter().map(|pair| row(pair, &points)).collect(),
        facts,
        charts: points.iter().map(|(stream, _)| (stream.id.0, stream.label.clone())).collect(),
        repeat_plan: may_repeat.then_some(view.version.id.0),
        in_the_way,
        live,
        form_token: signed.form_token.clone(),
        repeat_key: crate::forms::new_key(),
    };
    page(StatusCode::OK, &template)
}

/// What stands beside the verdict: when, by whom, by which plan, against what, computed how.
async fn facts(
    desk: &mut Desk,
    (check, view, stored): (&Check, &PlanView, &StoredResult),
    certificates: &[CertificateId],
    hands: &[&str],
) -> Result<Vec<(&'static str, String)>, WebError> {
    let connection = &mut desk.connection;
    let mut standards = Vec::new();
    let sources = plans::sources(connection, certificates).await?;
    for (source, id) in sources.iter().zip(certificates) {
        let paper = registers::certificate(connection, *id).await?;
        let (number, issuer) = (paper.number, paper.issuer);
        standards.push(format!("{}, certificate {number} of {issuer}", source.standard.tag));
    }
    let row = &stored.row;
    let person = people::by_id(connection, row.computed_by).await?;
    let mut facts = vec![
        ("Concluded", local_day_time(row.computed_at.0, &desk.here.zone)),
        ("By", person.map_or("someone who has left".to_owned(), |person| person.name)),
        ("Plan", format!("{}, version {}", view.plan.name, view.version.version)),
        ("Standard", standards.join("; ")),
        (
            "Computed by",
            format!("{} {}, {}", row.method_key, row.method_version, row.table_edition),
        ),
        ("Fingerprint of the inputs", fingerprint(&row.inputs_hash)),
    ];
    if let Some(cell) = &view.cell {
        facts.insert(3, ("Set-up", cell.clone()));
    }
    if hands.len() > 1 {
        facts.insert(2, ("In hand of", hands.join(", then ")));
    }
    let paper = paper_decide::paper_words(connection, check, &desk.here.zone).await?;
    if let Some(words) = paper {
        facts.insert(2, ("From paper", words));
    }
    if row.version > 1 {
        let words = format!("{}, amended; the first is kept", row.version);
        facts.push(("Version of the result", words));
    }
    Ok(facts)
}

/// Where a check leads on to: its adjustment, or the ladder that a trial was made on.
async fn leads_on(
    desk: &mut Desk,
    check: &Check,
    adjusted: Option<AdjustmentId>,
) -> Result<Option<(String, &'static str)>, WebError> {
    let connection = &mut desk.connection;
    if let Some(id) = adjusted {
        return Ok(Some((format!("/adjustments/{id}"), "See the adjustment")));
    }
    let ladder = |failed| (format!("/checks/{failed}/verdict"), "Back to the ladder");
    if let Some(failed) = store_ladder::behind_trial(connection, check.id).await? {
        return Ok(Some(ladder(failed)));
    }
    // A trial that was made to tell whose fault a change is stands on no ladder.
    if culprits::was_offered(connection, check.id).await? {
        return Ok(Some(("/culprit".to_owned(), "Whose fault")));
    }
    if check.purpose != "trial" {
        return Ok(None);
    }
    Ok(ladder::failed_before(connection, check).await?.map(ladder))
}
