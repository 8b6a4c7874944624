//! The numbers behind a reason, line by line.

use super::words::{factor_words, limit_places, mean_of, places_to_see};
use super::{Characteristic, ConformityResult, GuardBasis, Reason, Scatter, ToleranceLimits};
use crate::chart::Criterion;
use crate::quantity::{show_decimal, show_float, show_signed, show_signed_float};

/// A reason opened to its numbers: name and value, the values with their units. Empty for reasons
/// that are all said by their sentence.
#[must_use]
pub fn reason_numbers(
    reason: &Reason,
    results: &[(Characteristic, ConformityResult)],
) -> Vec<(&'static str, String)> {
    let Some((characteristic, result)) = reason
        .characteristic()
        .and_then(|key| results.iter().find(|(characteristic, _)| characteristic.key == key))
    else {
        return vec![];
    };
    match reason {
        Reason::Within { .. }
        | Reason::MeanOutside { .. }
        | Reason::SingleOutside { .. }
        | Reason::InGuardBand { .. }
        | Reason::SingleInGuardBand { .. }
        | Reason::NotProven { .. }
        | Reason::NothingAccepted { .. }
        | Reason::NoHistoryYet { .. } => conformity_numbers(characteristic, result),
        Reason::Fired { firing, .. } => {
            let unit = characteristic.unit;
            let d = characteristic.mean_decimals() + 1;
            let mut lines = vec![(
                "value",
                with_unit(bare(characteristic, show_signed_float(characteristic.value(), d)), unit),
            )];
            match (firing.criterion, firing.points.as_slice()) {
                // An average is made of all points so far; only a pattern has points of its own.
                (Criterion::Ewma, _) => {}
                (Criterion::Cusum, [first, .., last]) => {
                    lines.push(("checks since the sum left zero", (last - first + 1).to_string()));
                }
                (_, points) => lines.push(("points that make it", points.len().to_string())),
            }
            lines
        }
        _ => vec![],
    }
}

fn with_unit(value: String, unit: crate::quantity::Unit) -> String {
    format!("{value} {unit}")
}

/// A probability in words that keep small ones apart from none: "2.3 %", "below 0.01 %".
fn percent(probability: f64) -> String {
    match probability * 100.0 {
        p if p < 0.01 => "below 0.01 %".to_owned(),
        p if p > 99.99 => "above 99.99 %".to_owned(),
        p if !(1.0..=99.0).contains(&p) => format!("{} %", show_float(p, 2)),
        p => format!("{} %", show_float(p, 1)),
    }
}

fn limit_words(limits: ToleranceLimits, decimals: u32) -> String {
    let places = |value: rust_decimal::Decimal| limit_places(value, decimals);
    match (limits.lower, limits.upper) {
        _ if limits.are_empty() => "nothing".to_owned(),
        (Some(lower), Some(upper)) => format!(
            "{} to {}",
            show_signed(lower, places(lower)),
            show_signed(upper, places(upper))
        ),
        (Some(lower), None) => format!("at least {}", show_signed(lower, places(lower))),
        (None, Some(upper)) => format!("at most {}", show_decimal(upper, places(upper))),
        (None, None) => "no limit".to_owned(),
    }
}

/// Acceptance limits with the places that they were rounded to, two beyond the display: they are what was compared.
#[must_use]
pub fn accepted_words(limits: ToleranceLimits, decimals: u32) -> String {
    let signed = |limit: rust_decimal::Decimal| {
        show_signed(limit, limit.normalize().scale().min(decimals + 2).max(decimals))
    };
    match (limits.lower, limits.upper) {
        _ if limits.are_empty() => "nothing".to_owned(),
        (Some(lower), Some(upper)) => format!("{} to {}", signed(lower), signed(upper)),
        (Some(lower), None) => format!("at least {}", signed(lower)),
        (None, Some(upper)) => format!("at most {}", signed(upper)),
        (None, None) => "no limit".to_owned(),
    }
}

/// A number without its plus where a sign says nothing.
fn bare(characteristic: &Characteristic, shown: String) -> String {
    match characteristic.kind.is_signed() {
        true => shown,
        false => shown.trim_start_matches('+').to_owned(),
    }
}

fn conformity_numbers(
    characteristic: &Characteristic,
    result: &ConformityResult,
) -> Vec<(&'static str, String)> {
    let unit = characteristic.unit;
    let d = characteristic.mean_decimals();
    // As in the sentence: no number hides on which side of a limit it lies.
    let more = places_to_see(characteristic);
    let value = bare(characteristic, show_signed(mean_of(characteristic), d + more));
    let mut lines = vec![("value", with_unit(value, unit))];
    if characteristic.singles.len() > 1 {
        let singles: Vec<String> = characteristic
            .singles
            .iter()
            .map(|single| bare(characteristic, show_signed(*single, characteristic.decimals)))
            .collect();
        lines.push(("single readings", with_unit(singles.join(", "), unit)));
    }
    if let Some(limits) = characteristic.limits {
        let words = limit_words(limits, characteristic.decimals + more);
        lines.push(("tolerance", with_unit(words, unit)));
    }
    if let Some(limits) = characteristic.single_limits {
        let words = limit_words(limits, characteristic.decimals);
        lines.push(("tolerance of each reading", with_unit(words, unit)));
    }
    let expanded = show_float(result.expanded_uncertainty(), d + 1);
    match result.budget.scatter() {
        Scatter::Known => {}
        _ if result.is_proven(characteristic.kind) => {}
        Scatter::FewReadings { readings } => {
            lines.push((
                "uncertainty",
                format!("not stated: it would rest on {readings} readings of this check alone"),
            ));
        }
        Scatter::RoundingOnly => {
            lines.push((
                "uncertainty",
                "incomplete: rounding only, the scatter of readings is not known".to_owned(),
            ));
        }
    }
    lines.push((
        "expanded uncertainty U",
        format!(
            "{expanded} {unit} (k = {}, {})",
            factor_words(result.coverage_factor()),
            result.budget.degrees_of_freedom.map_or_else(
                || "taken as known".to_owned(),
                |freedom| format!("{} degrees of freedom", show_float(freedom, 0)),
            )
        ),
    ));
    if let Some(index) = result.capability_index {
        lines.push(("TUR, tolerance width/(2U)", show_float(index, 1)));
    }
    if let Some(acceptance) = result.acceptance.filter(|_| result.statement.is_some()) {
        lines.push(("decision rule", result.rule.words().to_owned()));
        let width = show_float(result.guard_band.width, d + 1);
        let basis = match result.guard_band.basis {
            GuardBasis::Stated => String::new(),
            GuardBasis::NoHistory => " (U, until there is a history)".to_owned(),
            GuardBasis::NotCharted => {
                " (U; it is not charted and has no history of its own)".to_owned()
            }
            GuardBasis::ScatterUnknown => {
                " (none can be stated: the scatter of readings is not known)".to_owned()
            }
            GuardBasis::History { prior } | GuardBasis::Unreachable { prior } => format!(
                " (history of {} checks: mean {}, standard deviation {} {unit})",
                prior.checks,
                show_signed_float(prior.mean, d),
                show_float(prior.std_dev, d + 1),
            ),
        };
        lines.push(("guard band", format!("{width} {unit}{basis}")));
        if characteristic.singles.len() > 1
            && result.guard_band.single_width > result.guard_band.width
        {
            let single = show_float(result.guard_band.single_width, d + 1);
            lines.push(("guard band of a single reading", format!("{single} {unit}")));
        }
        let words = accepted_words(acceptance, characteristic.decimals);
        lines.push(("accepted", with_unit(words, unit)));
    }
    if let Some(statement) = result.statement {
        lines.push(("statement", statement.words().to_owned()));
    }
    if let Some(inside) = result.conformance_probability {
        lines.push(("probability that it is within tolerance", percent(inside)));
    }
    if let Some(risk) = result.specific_risk() {
        let name = match result.conformity {
            super::Conformity::Pass => "risk of a false accept, this result",
            _ => "risk of a false reject, this result",
        };
        lines.push((name, percent(risk)));
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judgement::{
        CharacteristicKind, Contribution, ContributionSource, DecisionRule, Surroundings,
        judge_conformity,
    };
    use crate::quantity::Unit;

    fn pair(rule: DecisionRule) -> (Characteristic, ConformityResult) {
        let characteristic = Characteristic {
            key: "error-20-rising".into(),
            label: "Error at 20 kg".into(),
            kind: CharacteristicKind::Error,
            nominal: None,
            unit: Unit::Gram,
            decimals: 1,
            singles: vec!["19.7".parse().unwrap(), "19.9".parse().unwrap()],
            mean: None,
            reference_value: None,
            limits: Some(ToleranceLimits::symmetric(20.into())),
            single_limits: None,
            contributions: vec![Contribution::known(ContributionSource::Certificate, 0.25)],
            indicative: false,
            charted: true,
            scatter_weight: 0.5_f64.sqrt(),
            rests_on: vec![],
        };
        let stated = Contribution::known(ContributionSource::Repeatability, 1e-9);
        let around = Surroundings { additions: vec![stated], ..Surroundings::by(rule) };
        let judged = judge_conformity(&characteristic, &around);
        (characteristic, judged)
    }

    fn line(lines: &[(&str, String)], name: &str) -> String {
        let found = lines.iter().find(|(known, _)| *known == name);
        found.unwrap_or_else(|| panic!("{name} in {lines:?}")).1.clone()
    }

    #[test]
    fn a_guarded_result_opens_to_all_its_numbers() {
        let reason = Reason::InGuardBand { key: "error-20-rising".into() };
        let lines = reason_numbers(&reason, &[pair(DecisionRule::GuardBandU)]);
        assert_eq!(line(&lines, "value"), "+19.80 g");
        assert_eq!(line(&lines, "single readings"), "+19.7, +19.9 g");
        assert_eq!(line(&lines, "tolerance"), "−20.0 to +20.0 g");
        assert_eq!(line(&lines, "expanded uncertainty U"), "0.500 g (k = 2, taken as known)");
        assert_eq!(line(&lines, "accepted"), "−19.5 to +19.5 g");
        assert_eq!(line(&lines, "statement"), "conditional pass");
        // Φ(0.2/0.25) = Φ(0.8) = 78.8 % (tables).
        assert_eq!(line(&lines, "probability that it is within tolerance"), "78.8 %");
        assert_eq!(line(&lines, "risk of a false reject, this result"), "78.8 %");
    }

    #[test]
    fn simple_acceptance_has_no_band_and_other_reasons_no_numbers() {
        let reason = Reason::Within { key: "error-20-rising".into() };
        let lines = reason_numbers(&reason, &[pair(DecisionRule::SimpleAcceptance)]);
        assert!(lines.iter().all(|(name, _)| *name != "guard band" && *name != "statement"));
        assert_eq!(line(&lines, "TUR, tolerance width/(2U)"), "40.0");
        assert!(reason_numbers(&Reason::Amended, &[]).is_empty());
        assert!(reason_numbers(&reason, &[]).is_empty());
    }

    #[test]
    fn small_probabilities_are_not_none() {
        assert_eq!(percent(0.000_001), "below 0.01 %");
        assert_eq!(percent(0.022_75), "2.3 %");
        assert_eq!(percent(0.002), "0.20 %");
        assert_eq!(percent(1.0), "above 99.99 %");
    }
}
