//! The verdict: three answers side by side, the action, and every reason with its numbers.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_core::judgement::{
    Characteristic, CharacteristicKind, Conformity, ConformityResult, Control, NextAction,
    Validity, Verdict, action_sentence, drift_words, reason_sentence,
};
use vaaka_core::method::Rung;
use vaaka_core::quantity::{show_float, show_signed, show_signed_float, to_f64};
use vaaka_store::charts;
use vaaka_store::checks;
use vaaka_store::files::{self, FileBrief, Owner};
use vaaka_store::ids::CheckId;
use vaaka_store::outcomes::{StoredResult, result_of};
use vaaka_store::rows::{Point, Stream};
use vaaka_store::{people, plans, registers};

use super::{Here, Shell, page};
use crate::draw::{Beam, BeamMark, BeamSize};
use crate::error::WebError;
use crate::forms::PathId;
use crate::session::SignedIn;
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "verdict.html")]
struct VerdictPage {
    shell: Shell,
    id: i64,
    may_void: bool,
    voided: Option<String>,
    rungs: Vec<&'static str>,
    photos: Vec<FileBrief>,
    instrument: String,
    heading: String,
    action: &'static str,
    action_state: &'static str,
    answers: Vec<Answer>,
    attention: Vec<String>,
    others: Vec<String>,
    rows: Vec<Row>,
    facts: Vec<(&'static str, String)>,
    charts: Vec<(i64, String)>,
    repeat_plan: Option<i64>,
    form_token: String,
    repeat_key: uuid::Uuid,
}

#[derive(Debug)]
struct Answer {
    question: &'static str,
    state: &'static str,
    words: String,
}

#[derive(Debug)]
struct Row {
    label: String,
    value: String,
    limits: String,
    uncertainty: String,
    ratio: String,
    singles: String,
    beam: String,
    state: &'static str,
    words: &'static str,
    indicative: bool,
}

/// Shows the verdict of a concluded check.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let check = checks::by_id(&mut connection, CheckId(id)).await?;
    let Some(stored) = result_of(&mut connection, check.id).await? else {
        return Ok(Redirect::to(&format!("/checks/{id}")).into_response());
    };
    let here = Here::find(&state, &mut connection).await?;
    let view = plans::version(&mut connection, check.plan_version_id).await?;
    let mut standards = Vec::new();
    let certificates = checks::certificates_of(&mut connection, &check).await?;
    for (source, id) in
        plans::sources(&mut connection, &certificates).await?.iter().zip(&certificates)
    {
        let paper = registers::certificate(&mut connection, *id).await?;
        let (number, issuer) = (paper.number, paper.issuer);
        standards.push(format!("{}, certificate {number} of {issuer}", source.standard.tag));
    }
    let hands = checks::hands(&mut connection, &check).await?;
    let photos = files::of(&mut connection, Owner::Check(check.id)).await?;
    let points = charts::of_check(&mut connection, check.id).await?;
    let person = people::by_id(&mut connection, stored.row.computed_by).await?;
    let runs = checks::attempts(&mut connection, view.plan.id, here.shift.id).await?;
    let may_repeat = check.shift_instance_id == here.shift.id
        && vaaka_core::round::due_of(false, &runs) == vaaka_core::round::Due::Repeat;
    let verdict = &stored.verdict;
    let (attention, others): (Vec<_>, Vec<_>) =
        verdict.reasons.iter().partition(|reason| reason.needs_attention());
    let sentence = |reason: &&vaaka_core::judgement::Reason| {
        reason_sentence(reason, &stored.results, &here.zone)
    };
    let mut facts = vec![
        ("Concluded", local_day_time(stored.row.computed_at.0, &here.zone)),
        ("By", person.map_or("someone who has left".to_owned(), |person| person.name)),
        ("Plan", format!("{}, version {}", view.plan.name, view.version.version)),
        ("Standard", standards.join("; ")),
        (
            "Computed by",
            format!(
                "{} {}, {}",
                stored.row.method_key, stored.row.method_version, stored.row.table_edition
            ),
        ),
        ("Fingerprint of the inputs", fingerprint(&stored.row.inputs_hash)),
    ];
    if hands.len() > 1 {
        let names: Vec<&str> = hands.iter().map(|(_, name, _)| name.as_str()).collect();
        facts.insert(2, ("In hand of", names.join(", then ")));
    }
    if let (Some(reason), Some(who)) = (&check.late_reason, &check.measured_by) {
        facts.insert(2, ("From paper", format!("measured by {who}; {reason}")));
    }
    if stored.row.version > 1 {
        facts.push((
            "Version of the result",
            format!("{}, amended; the first is kept", stored.row.version),
        ));
    }
    let failed = verdict.conforms == Conformity::Fail;
    let own = hands.iter().any(|(person, ..)| *person == signed.person.id);
    let shell = Shell::new(&signed, "round", &here);
    let voided = match (&check.void_reason, check.voided_by) {
        (Some(reason), Some(by)) => {
            let name = people::anybody(&mut connection, by).await?.name;
            Some(format!("Void: {reason} ({name}). It stays on record and off the charts."))
        }
        _ => None,
    };
    let template = VerdictPage {
        may_void: shell.may_lead() && voided.is_none() && !(failed && own),
        voided,
        rungs: if failed {
            let rungs = view.version.reaction.iter();
            rungs.filter_map(|word| word.parse::<Rung>().ok().map(Rung::words)).collect()
        } else {
            vec![]
        },
        photos,
        id,
        shell,
        instrument: format!("{} {}", view.instrument.name, view.instrument.tag),
        heading: heading(verdict),
        action: action_sentence(verdict.action),
        action_state: action_state(verdict.action),
        answers: answers(verdict, &stored, &here),
        attention: attention.iter().map(sentence).collect(),
        others: others.iter().map(sentence).collect(),
        rows: stored.results.iter().map(|pair| row(pair, &points)).collect(),
        facts,
        charts: points.iter().map(|(stream, _)| (stream.id.0, stream.label.clone())).collect(),
        repeat_plan: may_repeat.then_some(view.version.id.0),
        form_token: signed.form_token.clone(),
        repeat_key: crate::forms::new_key(),
    };
    page(StatusCode::OK, &template)
}

fn fingerprint(hash: &[u8]) -> String {
    hash.iter().take(8).map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(" ")
}

/// The finding in a line: conformity and control, never merged into one word.
fn heading(verdict: &Verdict) -> String {
    let conforms = match verdict.conforms {
        Conformity::Pass => "Within tolerance",
        Conformity::Fail => "Out of tolerance",
        Conformity::NotJudged => "Not judged",
    };
    let control = match &verdict.control {
        Control::InControl => ", as it normally is",
        Control::Signal { .. } if verdict.forecast.is_some() => ", and drifting",
        Control::Signal { .. } => ", but not where it normally is",
        Control::NoBaseline { .. } => ", no control limits yet",
        Control::NotCharted => "",
    };
    match &verdict.valid {
        Validity::Void { .. } => "Void".to_owned(),
        Validity::Valid => format!("{conforms}{control}"),
    }
}

fn action_state(action: NextAction) -> &'static str {
    match action {
        NextAction::Use | NextAction::ProvenAsLeft => "ok",
        NextAction::UseAndFindCause | NextAction::CheckAgain => "signal",
        NextAction::RepeatOnce | NextAction::Hold | NextAction::AskLead => "out",
    }
}

fn answers(verdict: &Verdict, stored: &StoredResult, here: &Here) -> Vec<Answer> {
    let (valid_state, valid_words) = match &verdict.valid {
        Validity::Valid if stored.results.iter().any(|(c, _)| c.indicative) => {
            ("ok", "Yes, but indicative: the display's rounding was not removed.".to_owned())
        }
        Validity::Valid => ("ok", "Yes: every step done, standard in date.".to_owned()),
        Validity::Void { reason } => ("void", format!("No: {reason}.")),
    };
    let judged: Vec<&(Characteristic, ConformityResult)> =
        stored.results.iter().filter(|(_, r)| r.conformity != Conformity::NotJudged).collect();
    let failed = judged.iter().filter(|(_, r)| r.conformity == Conformity::Fail).count();
    let worst = judged.iter().filter_map(|(_, r)| r.share_used.map(f64::abs)).fold(0.0, f64::max);
    let (within_state, within_words) = match verdict.conforms {
        Conformity::Pass => (
            "ok",
            format!(
                "Yes: all {} inside; the worst uses {} % of its limit.",
                judged.len(),
                show_float(worst * 100.0, 0)
            ),
        ),
        Conformity::Fail => ("out", format!("No: {failed} of {} outside.", judged.len())),
        Conformity::NotJudged => ("due", "Not judged: no limits in the plan.".to_owned()),
    };
    let (control_state, control_words) = match &verdict.control {
        Control::InControl => ("ok", "Yes: what this instrument normally does.".to_owned()),
        Control::Signal { .. } => {
            let unit = stored.results.iter().find(|(c, _)| c.charted).map(|(c, _)| c.unit.symbol());
            let words = match (verdict.forecast, unit) {
                (Some(drift), Some(unit)) => {
                    format!("No: {}.", drift_words(&drift, unit, &here.zone))
                }
                _ => "No: it is not where it normally is. See the chart.".to_owned(),
            };
            ("signal", words)
        }
        Control::NoBaseline { got, required } => {
            ("due", format!("Not known yet: {got} of at least {required} shifts are on the chart."))
        }
        Control::NotCharted => {
            ("due", "Not charted: only the first as-found run of a shift is.".to_owned())
        }
    };
    vec![
        Answer { question: "Does the check count?", state: valid_state, words: valid_words },
        Answer { question: "Within tolerance?", state: within_state, words: within_words },
        Answer { question: "As it normally is?", state: control_state, words: control_words },
    ]
}

fn row(pair: &(Characteristic, ConformityResult), points: &[(Stream, Point)]) -> Row {
    let (characteristic, result) = pair;
    let decimals = characteristic.mean_decimals();
    let unit = characteristic.unit;
    let show_limit = |limit: Option<rust_decimal::Decimal>| {
        limit.map(|limit| show_signed(limit.normalize(), limit.normalize().scale()))
    };
    let (lower, upper) =
        characteristic.limits.map_or((None, None), |limits| (limits.lower, limits.upper));
    let limits = match (show_limit(lower), show_limit(upper)) {
        (Some(lower), Some(upper)) => format!("{lower} to {upper}"),
        (None, Some(upper)) => format!("at most {}", upper.trim_start_matches('+')),
        (Some(lower), None) => format!("at least {lower}"),
        (None, None) => "recorded only".to_owned(),
    };
    let (state, words) = match result.conformity {
        Conformity::Pass => ("ok", "inside"),
        Conformity::Fail => ("out", "outside"),
        Conformity::NotJudged => ("due", "recorded"),
    };
    let point = points.iter().find(|(stream, _)| stream.characteristic_key == characteristic.key);
    let control = point.and_then(|(_, point)| {
        Some((point.lower_control_limit?, point.center_line?, point.upper_control_limit?))
    });
    let mark = match (state, point.is_some_and(|(_, point)| point.signalled)) {
        ("out", _) => "out",
        (_, true) => "signal",
        _ => "ok",
    };
    let beam = Beam {
        tolerance: (lower.map(to_f64), upper.map(to_f64)),
        control,
        mark: Some(BeamMark { value: characteristic.value(), state: mark }),
        ..Beam::new(BeamSize::Row, format!("{}: {words}", characteristic.label))
    };
    Row {
        label: characteristic.label.clone(),
        value: match characteristic.kind {
            CharacteristicKind::Repeatability => {
                format!("{} {unit}", show_float(characteristic.value(), decimals))
            }
            _ => format!("{} {unit}", show_signed_float(characteristic.value(), decimals)),
        },
        limits,
        uncertainty: format!(
            "{} {unit} (k = {})",
            show_float(result.expanded_uncertainty, decimals + 1),
            result.coverage_factor
        ),
        ratio: result.capability_index.map_or(String::new(), |index| show_float(index, 1)),
        singles: if characteristic.singles.len() > 1 {
            let list: Vec<String> = characteristic
                .singles
                .iter()
                .map(|single| show_signed(*single, characteristic.decimals))
                .collect();
            format!("singles {}", list.join(", "))
        } else {
            String::new()
        },
        beam: if characteristic.limits.is_some() { beam.draw() } else { String::new() },
        state,
        words,
        indicative: characteristic.indicative,
    }
}
