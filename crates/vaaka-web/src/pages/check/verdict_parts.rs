//! Parts of the verdict's page: the three answers, the rows, the budgets, what changed.

use jiff::Timestamp;
use vaaka_core::judgement::{
    Characteristic, Conformity, ConformityResult, Control, NextAction, Scatter, Statement,
    Validity, Verdict, accepted_words, compare, drift_words, factor_words, shown_with_limits,
};
use vaaka_core::quantity::{show_decimal, show_float, show_signed, show_signed_float, to_f64};
use vaaka_store::checks;
use vaaka_store::outcomes::{StoredResult, result_of};
use vaaka_store::plans::PlanView;
use vaaka_store::rows::{Check, Point, Stream};
use vaaka_store::{Connection, people, plans, registers};

use crate::draw::{Beam, BeamMark, BeamSize, Share, draw_shares};
use crate::error::WebError;
use crate::shell::Here;
use crate::state::local_day_time;

/// One of the three answers.
#[derive(Debug)]
pub(in crate::pages) struct Answer {
    pub question: &'static str,
    pub state: &'static str,
    pub words: String,
}

/// A characteristic.
#[derive(Debug)]
pub(in crate::pages) struct Row {
    pub label: String,
    pub value: String,
    pub limits: String,
    /// Acceptance limits, where a guard band draws them in.
    pub accepted: Option<String>,
    pub uncertainty: String,
    pub ratio: String,
    pub singles: String,
    pub beam: String,
    pub state: &'static str,
    pub words: &'static str,
    pub indicative: bool,
}

/// A line of a budget.
#[derive(Debug)]
pub(in crate::pages) struct BudgetLine {
    pub number: String,
    pub words: String,
    pub uncertainty: String,
    pub freedom: String,
    pub share: String,
}

/// The budget of a characteristic.
#[derive(Debug)]
pub(in crate::pages) struct BudgetShown {
    pub label: String,
    pub sum: String,
    pub bar: String,
    pub lines: Vec<BudgetLine>,
}

/// A difference from the last check.
#[derive(Debug)]
pub(in crate::pages) struct Difference {
    pub label: String,
    pub before: String,
    pub after: String,
    pub difference: String,
    pub usual: String,
    pub state: &'static str,
    pub words: &'static str,
}

/// What changed since the last check of the same plan.
#[derive(Debug, Default)]
pub(in crate::pages) struct Since {
    pub last: Option<(i64, String)>,
    pub facts: Vec<String>,
    pub differences: Vec<Difference>,
}

/// The budgets of a result, of what has a limit or a chart.
pub(in crate::pages) fn budgets(stored: &StoredResult) -> Vec<BudgetShown> {
    stored
        .results
        .iter()
        .filter(|(characteristic, _)| characteristic.limits.is_some() || characteristic.charted)
        .map(|(characteristic, result)| budget(characteristic, result))
        .collect()
}

fn budget(characteristic: &Characteristic, result: &ConformityResult) -> BudgetShown {
    let budget = &result.budget;
    let unit = characteristic.unit;
    let d = characteristic.mean_decimals() + 2;
    let mut number = 0;
    let mut shares = Vec::new();
    let lines = budget
        .contributions
        .iter()
        .map(|part| {
            let share = budget.share(part);
            if part.counted {
                number += 1;
                shares.push(Share { number, share });
            }
            BudgetLine {
                number: if part.counted { number.to_string() } else { "–".to_owned() },
                words: part.words(),
                uncertainty: format!("{} {unit}", show_float(part.standard_uncertainty, d)),
                freedom: part.degrees_of_freedom.map_or("known".to_owned(), |v| show_float(v, 0)),
                share: if part.counted {
                    format!("{} %", show_float(share * 100.0, 0))
                } else {
                    "in a larger one".to_owned()
                },
            }
        })
        .collect();
    let sum = format!(
        "u = {} {unit}, k = {}, U = {} {unit}; {}",
        show_float(budget.combined_standard_uncertainty, d),
        factor_words(budget.coverage_factor),
        show_float(budget.expanded_uncertainty, d),
        budget.coverage.words(),
    );
    let description = format!("Shares of the uncertainty of {}", characteristic.label);
    BudgetShown {
        label: characteristic.label.clone(),
        bar: draw_shares(&description, &shares),
        sum,
        lines,
    }
}

/// What changed since the last concluded as-found check of the same plan.
pub(in crate::pages) async fn since_last(
    connection: &mut Connection,
    check: &Check,
    view: &PlanView,
    stored: &StoredResult,
    here: &Here,
) -> Result<Since, WebError> {
    let Some(last) = checks::one_before(connection, check, view.plan.id).await? else {
        return Ok(Since::default());
    };
    let Some(earlier) = result_of(connection, last.id).await? else {
        return Ok(Since::default());
    };
    let at = last.closed_at.map_or(last.opened_at, |at| at);
    let mut facts = Vec::new();
    if last.plan_version_id != check.plan_version_id {
        let before = plans::version(connection, last.plan_version_id).await?;
        facts.push(format!(
            "the plan: version {} then, version {} now",
            before.version.version, view.version.version
        ));
    }
    if last.certificate_id != check.certificate_id {
        let then = registers::certificate(connection, last.certificate_id).await?;
        let now = registers::certificate(connection, check.certificate_id).await?;
        facts.push(format!("the certificate: {} then, {} now", then.number, now.number));
    }
    if last.closed_by != check.closed_by
        && let (Some(then), Some(now)) = (last.closed_by, check.closed_by)
    {
        let then = people::anybody(connection, then).await?.name;
        let now = people::anybody(connection, now).await?.name;
        facts.push(format!("who measured: {then} then, {now} now"));
    }
    for (event, by) in registers::events(connection, view.instrument.id).await? {
        if event.at > at && event.at.0 <= stored.row.computed_at.0 {
            let when = local_day_time(event.at.0, &here.zone);
            facts.push(format!("{when}: {} ({by})", event.note));
        }
    }
    facts.extend(gap_words(at.0, check.opened_at.0));
    let differences = compare(&earlier.results, &stored.results)
        .into_iter()
        .filter_map(|compared| {
            let (characteristic, _) =
                stored.results.iter().find(|(known, _)| known.key == compared.key)?;
            if !(characteristic.charted || characteristic.limits.is_some()) {
                return None;
            }
            let d = characteristic.mean_decimals();
            let unit = characteristic.unit;
            let show = |value: f64| format!("{} {unit}", show_signed_float(value, d));
            let bare = |value: f64| match characteristic.kind.is_signed() {
                true => show(value),
                false => show(value).trim_start_matches('+').to_owned(),
            };
            Some(Difference {
                label: characteristic.label.clone(),
                before: bare(compared.before),
                after: bare(compared.after),
                difference: show(compared.after - compared.before),
                usual: compared
                    .usual
                    .map_or("–".to_owned(), |usual| format!("±{} {unit}", show_float(usual, d))),
                state: match (compared.usual, compared.is_beyond) {
                    (None, _) => "due",
                    (_, true) => "signal",
                    (_, false) => "ok",
                },
                words: match (compared.usual, compared.is_beyond) {
                    (None, _) => "not known yet",
                    (_, true) => "more than usual",
                    (_, false) => "as usual",
                },
            })
        })
        .collect();
    Ok(Since { last: Some((last.id.0, local_day_time(at.0, &here.zone))), facts, differences })
}

/// A long gap is said in days.
fn gap_words(then: Timestamp, now: Timestamp) -> Option<String> {
    let days = now.duration_since(then).as_secs_f64() / 86_400.0;
    (days >= 2.0).then(|| format!("{} days went by without a check", show_float(days, 0)))
}

pub(in crate::pages) fn fingerprint(hash: &[u8]) -> String {
    hash.iter().take(8).map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(" ")
}

/// Whether nothing is outside its tolerance, and what is not accepted lies in the guard band.
pub(in crate::pages) fn only_in_band(stored: &StoredResult) -> bool {
    stored
        .results
        .iter()
        .filter(|(_, judged)| judged.conformity == Conformity::Fail)
        .all(|(_, judged)| judged.statement == Some(Statement::ConditionalPass))
}

/// The finding in a line: conformity and control, never merged into one word.
pub(in crate::pages) fn heading(verdict: &Verdict, stored: &StoredResult) -> String {
    let of = verdict.forecast_of.as_deref();
    let drifts = stored.results.iter().find(|(c, _)| Some(c.key.as_str()) == of).map_or_else(
        || ", and drifting".to_owned(),
        |(c, _)| {
            let mut label = c.label.clone();
            if let Some(first) = label.get(..1) {
                label.replace_range(..1, &first.to_lowercase());
            }
            format!(", and its {label} is drifting")
        },
    );
    let conforms = match verdict.conforms {
        Conformity::Pass => "Within tolerance",
        Conformity::Fail if only_in_band(stored) => "Inside tolerance, and not accepted",
        Conformity::Fail => "Out of tolerance",
        Conformity::NotJudged => "Not judged",
    };
    let control = match &verdict.control {
        Control::InControl => ", as it normally is",
        Control::Signal { .. } if verdict.forecast.is_some() => drifts.as_str(),
        // Out of tolerance *and* not as usual; within it *but* not as usual.
        Control::Signal { .. } if verdict.conforms == Conformity::Fail => {
            ", and not where it normally is"
        }
        Control::Signal { .. } => ", but not where it normally is",
        Control::NoBaseline { .. } => ", no control limits yet",
        Control::NotCharted => "",
    };
    match &verdict.valid {
        Validity::Void { .. } => "Void".to_owned(),
        Validity::Valid => format!("{conforms}{control}"),
    }
}

pub(in crate::pages) fn action_state(action: NextAction) -> &'static str {
    match action {
        NextAction::Use | NextAction::ProvenAsLeft => "ok",
        NextAction::UseAndFindCause | NextAction::CheckAgain | NextAction::NoteTrial => "signal",
        NextAction::RepeatOnce
        | NextAction::Hold
        | NextAction::AskLead
        | NextAction::AskLeadLate => "out",
    }
}

pub(in crate::pages) fn answers(
    verdict: &Verdict,
    stored: &StoredResult,
    here: &Here,
) -> Vec<Answer> {
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
        Conformity::Pass => {
            let open = judged.iter().filter(|(c, r)| !r.is_proven(c.kind)).count();
            let proof = match open {
                0 => String::new(),
                n if n == judged.len() => {
                    " Not proven: how far readings scatter is not known yet.".to_owned()
                }
                1 => " One of them is not proven: its scatter is not known.".to_owned(),
                n => format!(" {n} of them are not proven: their scatter is not known."),
            };
            (
                "ok",
                format!(
                    "Yes: all {} inside; the worst uses {} % of its limit.{proof}",
                    judged.len(),
                    show_float(worst * 100.0, 0)
                ),
            )
        }
        Conformity::Fail if only_in_band(stored) => (
            "out",
            format!("Not accepted: {failed} of {} inside, but in the guard band.", judged.len()),
        ),
        Conformity::Fail => ("out", format!("No: {failed} of {} outside.", judged.len())),
        Conformity::NotJudged => ("due", "Not judged: no limits in the plan.".to_owned()),
    };
    let (control_state, control_words) = match &verdict.control {
        Control::InControl => ("ok", "Yes: what this instrument normally does.".to_owned()),
        Control::Signal { .. } => {
            let of = verdict.forecast_of.as_deref();
            let named = stored.results.iter().find(|(c, _)| Some(c.key.as_str()) == of);
            let named = named.or_else(|| stored.results.iter().find(|(c, _)| c.charted));
            let words = match (verdict.forecast, named) {
                (Some(drift), Some((c, _))) => format!(
                    "No: {}, {}.",
                    c.label,
                    drift_words(&drift, c.unit.symbol(), &here.zone)
                ),
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

pub(in crate::pages) fn row(
    pair: &(Characteristic, ConformityResult),
    points: &[(Stream, Point)],
) -> Row {
    let (characteristic, result) = pair;
    let decimals = characteristic.mean_decimals();
    let unit = characteristic.unit;
    let (lower, upper) =
        characteristic.limits.map_or((None, None), |limits| (limits.lower, limits.upper));
    let (shown_value, shown_limits) = shown_with_limits(characteristic);
    let accepted = result.acceptance.filter(|_| result.guard_band.width > 0.0);
    let limits = match characteristic.limits {
        None => "recorded only".to_owned(),
        Some(_) => shown_limits,
    };
    let proven = result.is_proven(characteristic.kind);
    let (state, words) = match result.conformity {
        Conformity::Pass if !proven => ("ok", "inside, not proven"),
        Conformity::Pass => ("ok", "inside"),
        Conformity::Fail if result.statement == Some(Statement::ConditionalPass) && !proven => {
            ("out", "not proven: not accepted")
        }
        Conformity::Fail if result.statement == Some(Statement::ConditionalPass) => {
            ("out", "conditional pass: not accepted")
        }
        Conformity::Fail if result.statement == Some(Statement::ConditionalFail) => {
            ("out", "conditional fail")
        }
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
        acceptance: accepted.map_or((None, None), |limits| {
            if limits.are_empty() {
                return (None, None);
            }
            (limits.lower.map(to_f64), limits.upper.map(to_f64))
        }),
        control,
        mark: Some(BeamMark { value: characteristic.value(), state: mark }),
        ..Beam::new(BeamSize::Row, format!("{}: {words}", characteristic.label))
    };
    Row {
        label: characteristic.label.clone(),
        value: match characteristic.kind {
            kind if !kind.is_signed() => {
                format!("{} {unit}", shown_value.trim_start_matches('+'))
            }
            _ => format!("{shown_value} {unit}"),
        },
        limits,
        accepted: accepted.map(|limits| accepted_words(limits, characteristic.decimals)),
        uncertainty: if proven {
            format!(
                "{} {unit} (k = {})",
                show_float(result.expanded_uncertainty(), decimals + 1),
                factor_words(result.coverage_factor())
            )
        } else {
            match result.budget.scatter() {
                Scatter::FewReadings { readings } => format!("not stated: {readings} readings"),
                _ => "incomplete: rounding only".to_owned(),
            }
        },
        ratio: result.capability_index.map_or(String::new(), |index| show_float(index, 1)),
        singles: if characteristic.singles.len() > 1 {
            let list: Vec<String> = characteristic
                .singles
                .iter()
                .map(|single| match characteristic.kind.is_signed() {
                    true => show_signed(*single, characteristic.decimals),
                    false => show_decimal(*single, characteristic.decimals),
                })
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
