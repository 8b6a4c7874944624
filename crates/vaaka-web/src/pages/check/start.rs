//! Starting a check: is it due, may this person run it, and with which standards.

use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use rust_decimal::Decimal;
use serde::Deserialize;
use uuid::Uuid;
use vaaka_core::judgement::{RepeatState, repeat_state};
use vaaka_core::method::{Purpose, by_key};
use vaaka_core::quantity::Unit;
use vaaka_core::round::{Due, DueRule, Training, Trigger, check_training, due_of, triggered};
use vaaka_core::standard::{
    Offer, StandardFacts, alternatives, check_fitness, instead_words, kind_words,
};
use vaaka_store::checks::{self, NewCheck};
use vaaka_store::ids::{CertificateId, PlanVersionId, StandardId};
use vaaka_store::plans::{self, PlanView, choose_pieces, extra_standards};
use vaaka_store::rows::{Check, PlanPointRow};
use vaaka_store::standards::{self, Record};
use vaaka_store::{Connection, StoreError, adjustments, orders, registers, rounds, trainings};

use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::Posted;
use crate::session::SignedIn;
use crate::state::{AppState, method_of};

/// Starting a check.
#[derive(Debug, Deserialize)]
pub struct StartForm {
    #[serde(default)]
    form_token: String,
    plan_version: i64,
    key: Uuid,
}

fn not_now(words: impl Into<String>) -> WebError {
    WebError::NotNow { words: words.into() }
}

/// Opens a check of a plan, or goes on with the one that is open.
pub async fn start(
    signed: SignedIn,
    State(state): State<AppState>,
    Posted(form): Posted<StartForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut desk = Desk::open(&state).await?;
    let view = plans::version(&mut desk.connection, PlanVersionId(form.plan_version)).await?;
    in_force(&view)?;
    let open = checks::of_shift(&mut desk.connection, desk.here.shift.id).await?;
    let open = open.iter().find(|c| {
        c.plan == view.plan.id && c.check.state == "open" && c.check.purpose == "as_found"
    });
    if let Some(open) = open {
        return Ok(Redirect::to(&format!("/checks/{}", open.check.id)).into_response());
    }
    refuse_other_open(&mut desk, &view, Purpose::AsFound).await?;
    may_run(&mut desk, &signed, &view).await?;
    is_due(&mut desk, &view).await?;
    let certificates = standards_for(&mut desk, &view).await?;
    fits(&mut desk.connection, &view, &certificates, Purpose::AsFound).await?;
    let id = checks::open(
        &mut desk.connection,
        &NewCheck {
            plan: &view,
            shift: desk.here.shift.id,
            certificates,
            purpose: Purpose::AsFound,
            person: signed.person.id,
            now: desk.now,
            key: form.key,
            late: None,
        },
    )
    .await?;
    Ok(Redirect::to(&format!("/checks/{id}")).into_response())
}

/// By a version that is over nothing begins.
fn in_force(view: &PlanView) -> Result<(), WebError> {
    if view.version.state == "approved" {
        return Ok(());
    }
    Err(not_now(
        "This plan was changed a moment ago. Go back to the round and start the check from there.",
    ))
}

/// Why a check of the plan would be refused to this person now; none where it may begin.
pub(in crate::pages) async fn would_refuse(
    desk: &mut Desk,
    signed: &SignedIn,
    view: &PlanView,
) -> Result<Option<String>, WebError> {
    let asked = async {
        in_force(view)?;
        refuse_other_open(desk, view, Purpose::AsFound).await?;
        may_run(desk, signed, view).await?;
        is_due(desk, view).await?;
        let certificates = standards_for(desk, view).await?;
        fits(&mut desk.connection, view, &certificates, Purpose::AsFound).await
    };
    match asked.await {
        Ok(()) => Ok(None),
        Err(WebError::NotNow { words }) => Ok(Some(words)),
        Err(other) => Err(other),
    }
}

/// Whether the plan can be walked with these certificates. One may lack a piece that the plan names, or know no value
/// at the temperatures that it allows: a check that began with it would have no way on.
pub(in crate::pages) async fn fits(
    connection: &mut Connection,
    view: &PlanView,
    certificates: &[CertificateId],
    purpose: Purpose,
) -> Result<(), WebError> {
    let why = match plans::spec(connection, view, certificates, purpose).await {
        Ok(spec) => match method_of(view)?.way(&spec) {
            Ok(_) => return Ok(()),
            Err(error) => error.to_string(),
        },
        Err(StoreError::Unreadable { what }) => what,
        Err(other) => return Err(other.into()),
    };
    Err(not_now(format!(
        "Plan and certificate do not meet: {why}. A lead mends the plan, or has the standard certified anew."
    )))
}

/// A check of the plan with another purpose that is open would be taken for this one.
pub(in crate::pages) async fn refuse_other_open(
    desk: &mut Desk,
    view: &PlanView,
    purpose: Purpose,
) -> Result<(), WebError> {
    let all = checks::of_shift(&mut desk.connection, desk.here.shift.id).await?;
    let other = all.iter().find(|check| {
        check.plan == view.plan.id
            && check.check.state == "open"
            && check.check.purpose != purpose.word()
    });
    match other {
        None => Ok(()),
        Some(other) => Err(not_now(format!(
            "Another check of {} is open ({}). Finish it or void it first; it waits on the round.",
            view.instrument.tag,
            match other.check.purpose.as_str() {
                "as_left" => "its proof after an adjustment",
                "trial" => "a trial, which counts for nothing",
                _ => "as found",
            }
        ))),
    }
}

/// Certificates for a trial with another standard: the first of the kind that is fit and was not
/// used by the check that failed.
pub(in crate::pages) async fn other_standard(
    desk: &mut Desk,
    view: &PlanView,
    failed: &Check,
) -> Result<Vec<CertificateId>, WebError> {
    let points = plans::points(&mut desk.connection, view.version.id).await?;
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let facts: Vec<StandardFacts> = all.iter().map(Record::facts).collect::<Result<_, _>>()?;
    let used = checks::certificates_of(&mut desk.connection, failed).await?;
    let used: Vec<StandardId> = plans::sources(&mut desk.connection, &used)
        .await?
        .iter()
        .map(|source| source.standard.id)
        .collect();
    let mut found = Vec::new();
    for (place, wanted) in wanted(view, &points, &all)?.into_iter().enumerate() {
        let before = used.get(place).and_then(|id| all.iter().find(|r| r.standard.id == *id));
        let tag = before.map_or("", |record| record.standard.tag.as_str());
        let others = alternatives(&facts, tag, wanted.offer(), desk.now, desk.today);
        let other = others
            .first()
            .and_then(|fit| all.iter().find(|record| record.standard.tag == fit.tag))
            .and_then(|record| record.certificate.as_ref());
        let Some(certificate) = other else {
            return Err(not_now(format!(
                "No other {} with these values can be used now. Note on the ladder that it could not be tried.",
                kind_words(&wanted.kind)
            )));
        };
        found.push(certificate.id);
    }
    Ok(found)
}

/// Certificates for a trial with a standard that is named, whatever the plan takes: it must have the same values, and be fit.
pub(in crate::pages) async fn with_standard(
    desk: &mut Desk,
    view: &PlanView,
    tag: &str,
) -> Result<Vec<CertificateId>, WebError> {
    let points = plans::points(&mut desk.connection, view.version.id).await?;
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let facts: Vec<StandardFacts> = all.iter().map(Record::facts).collect::<Result<_, _>>()?;
    let wanted = wanted(view, &points, &all)?;
    let [wanted] = wanted.as_slice() else {
        return Err(not_now(
            "This plan takes several standards: which of them would tell is not known.",
        ));
    };
    let fit = alternatives(&facts, "", wanted.offer(), desk.now, desk.today);
    let named = fit.iter().any(|fit| fit.tag == tag);
    let record = all.iter().find(|record| named && record.standard.tag == tag);
    match record.and_then(|record| record.certificate.as_ref()) {
        Some(certificate) => Ok(vec![certificate.id]),
        None => Err(not_now(format!(
            "{tag} cannot serve this plan now: another kind, other values, or not fit for use. Its page says which."
        ))),
    }
}

/// Whether this person is trained for the method, and the plan still fits its instrument.
pub(in crate::pages) async fn may_run(
    desk: &mut Desk,
    signed: &SignedIn,
    view: &PlanView,
) -> Result<(), WebError> {
    let method = by_key(&view.plan.method_key)?;
    let (until, others) =
        trainings::for_method(&mut desk.connection, signed.person.id, method.key(), desk.today)
            .await?;
    let own = until.map(|valid_until| Training { valid_until });
    check_training(own, method.name(), &others, desk.today)
        .map_err(|error| not_now(error.to_string()))?;
    if view.is_outdated() {
        return Err(not_now(format!(
            "{} was changed since this plan was approved: its display, range or configuration is another one now. A lead renews the plan before the next check.",
            view.instrument.tag
        )));
    }
    Ok(())
}

/// What is away is not checked: it comes back first.
pub(in crate::pages) fn away(state: &str) -> Option<&'static str> {
    match state {
        "out" => {
            Some("It is out of use. Take it back first: put it on hold, and its check proves it.")
        }
        "retired" => Some("It is retired for good. Register it anew if it comes back."),
        _ => None,
    }
}

async fn is_due(desk: &mut Desk, view: &PlanView) -> Result<(), WebError> {
    if let Some(words) = away(&view.instrument.state) {
        return Err(not_now(words));
    }
    let unproven = adjustments::unproven(&mut desk.connection).await?;
    let place = (view.instrument.id, view.plan.set_up_id);
    if unproven.iter().any(|(instrument, set_up, _)| (*instrument, *set_up) == place) {
        return Err(not_now(
            "It was adjusted, and the adjustment is not proven yet: its as-left check comes first. The round leads to it.",
        ));
    }
    let runs = checks::attempts(&mut desk.connection, view.plan.id, desk.here.shift.id).await?;
    let rule: DueRule = view.version.due_rule.parse().map_err(WebError::Inner)?;
    let last = checks::last_dates(&mut desk.connection, &[view.plan.id]).await?;
    let last = last.first().map(|(_, day)| day.0);
    let triggers: Vec<Trigger> =
        view.version.due_triggers.iter().filter_map(|word| word.parse().ok()).collect();
    let since = rounds::since_checks(&mut desk.connection, &[view.plan.id]).await?;
    let occasion =
        since.get(&view.plan.id).and_then(|since| triggered(&triggers, since, desk.now)).is_some();
    let ordered = orders::of_shift(&mut desk.connection, desk.here.shift.id).await?;
    let ordered = runs.is_empty() && ordered.contains_key(&view.plan.id);
    // What happened since its good check of this shift asks for another; a failed one is not undone so.
    let again = occasion && repeat_state(&runs) == RepeatState::None;
    if due_of(false, &runs) == Due::Nothing && !again {
        return Err(not_now(nothing_due(repeat_state(&runs))));
    }
    let due = occasion
        || ordered
        || rule == DueRule::BeforeUse
        || rule.is_due(last, desk.here.shift.business_date.0);
    if runs.is_empty() && !due {
        return Err(not_now(format!(
            "This check is due {}, and was done on {}. Nothing is due here today.",
            rule.words(),
            last.map_or_else(String::new, |day| day.strftime("%-d %B").to_string()),
        )));
    }
    Ok(())
}

fn nothing_due(state: RepeatState) -> &'static str {
    match state {
        RepeatState::Confirmed => {
            "This instrument failed twice in this shift and is on hold. Running it again proves nothing: a lead decides what happens next."
        }
        RepeatState::Doubtful => {
            "This instrument failed, then passed. A lead decides; running it again would only hide the doubt."
        }
        RepeatState::None | RepeatState::RepeatAllowed => {
            "This check is done for this shift. Nothing more is due here."
        }
    }
}

/// What a check wants of the standard at each place: nominal values and readings.
pub(in crate::pages) struct Wanted {
    /// The standard that the plan names; none where any of a kind will do.
    pub named: Option<StandardId>,
    /// The kind.
    pub kind: String,
    /// Nominal values.
    pub nominals: Vec<(Decimal, Unit)>,
    /// Readings.
    pub readings: u32,
}

impl Wanted {
    /// As the core asks for it.
    pub fn offer(&self) -> Offer<'_> {
        Offer { kind: &self.kind, nominals: &self.nominals, readings: self.readings }
    }
}

/// What a plan version wants of its standards, place by place.
pub(in crate::pages) fn wanted(
    view: &PlanView,
    points: &[PlanPointRow],
    all: &[Record],
) -> Result<Vec<Wanted>, WebError> {
    let unit: Unit = view.version.unit.parse().map_err(|_| WebError::Inner("unit".into()))?;
    let named = std::iter::once(view.version.standard_id)
        .chain(extra_standards(points).into_iter().map(Some));
    let mut found = Vec::new();
    for (place, standard) in named.enumerate() {
        let own: Vec<&PlanPointRow> = points
            .iter()
            .filter(|point| match place {
                0 => point.standard_id.is_none(),
                _ => point.standard_id == standard,
            })
            .filter(|point| !point.pieces.is_empty())
            .collect();
        let record = all.iter().find(|record| Some(record.standard.id) == standard);
        let kind = match (record, &view.version.standard_kind) {
            (Some(record), _) => record.standard.kind.clone(),
            (None, Some(kind)) => kind.clone(),
            (None, None) => String::new(),
        };
        let pieces = match record {
            Some(record) => registers::pieces(record.values.clone())?,
            None => vec![],
        };
        let mut nominals: Vec<(Decimal, Unit)> = Vec::new();
        for point in &own {
            let mut of_point: Vec<(Decimal, Unit)> = match record {
                Some(_) => choose_pieces(&point.pieces, &pieces, unit)
                    .map(|chosen| chosen.iter().map(|piece| (piece.nominal, piece.unit)).collect())
                    .unwrap_or_default(),
                None => point
                    .pieces
                    .iter()
                    .filter_map(|piece| Some((piece.replace(',', ".").parse().ok()?, unit)))
                    .collect(),
            };
            // The same pieces serve again at the next point: only what is on at once adds up.
            for known in &nominals {
                if let Some(same) = of_point.iter().position(|one| one == known) {
                    of_point.remove(same);
                }
            }
            nominals.extend(of_point);
        }
        let readings = own.iter().map(|point| u32::try_from(point.repeats).unwrap_or(0)).sum();
        found.push(Wanted { named: standard, kind, nominals, readings });
    }
    Ok(found)
}

/// The certificates with which a check begins: those of the standards that the plan names, fit
/// for use; where any of a kind will do, the first that is fit.
pub(in crate::pages) async fn standards_for(
    desk: &mut Desk,
    view: &PlanView,
) -> Result<Vec<CertificateId>, WebError> {
    let points = plans::points(&mut desk.connection, view.version.id).await?;
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let facts: Vec<StandardFacts> = all.iter().map(Record::facts).collect::<Result<_, _>>()?;
    let mut found = Vec::new();
    for wanted in wanted(view, &points, &all)? {
        let record = match wanted.named {
            Some(id) => all.iter().find(|record| record.standard.id == id),
            None => alternatives(&facts, "", wanted.offer(), desk.now, desk.today)
                .first()
                .and_then(|fit| all.iter().find(|record| record.standard.tag == fit.tag)),
        };
        let Some(record) = record else {
            return Err(not_now(format!(
                "No {} with the values that this check needs can be used now. Put the instrument on hold, and tell your lead.",
                kind_words(&wanted.kind)
            )));
        };
        check_fitness(&record.facts()?, wanted.readings, desk.now, desk.today).map_err(
            |unfit| {
                let others = alternatives(
                    &facts,
                    &record.standard.tag,
                    wanted.offer(),
                    desk.now,
                    desk.today,
                );
                not_now(format!("{unfit}. {}", instead_words(true, &others)))
            },
        )?;
        found.extend(record.certificate.as_ref().map(|certificate| certificate.id));
    }
    Ok(found)
}
