//! The one place where verdicts and reasons become sentences.

use jiff::tz::TimeZone;

use super::{
    AdjustmentAdvice, Characteristic, ConformityResult, NextAction, Reason, RepeatState,
    ToleranceLimits,
};
use crate::chart::{Criterion, Firing, Side, SigmaSource, derived_label};
use crate::history::Drift;
use crate::quantity::{decimals_for, show_decimal, show_float, show_signed, show_signed_float};

/// Said where a chart has no limits.
pub const NO_CHART_YET: &str = "no control limits yet";

/// The action in a sentence or two; never "see the manual".
#[must_use]
pub fn action_sentence(action: NextAction) -> &'static str {
    match action {
        NextAction::Use => "Use it. Adjust nothing.",
        NextAction::UseAndFindCause => {
            "Use it, and adjust nothing. Look for the cause: is it clean, firm and set up as always, \
             was it moved, knocked or repaired? Note what you find; check it again next shift."
        }
        NextAction::RepeatOnce => {
            "Take it out of use now. Clean it, see that it stands and is set up as it should, let it \
             settle, then repeat the check once. Both runs stay on record."
        }
        NextAction::Hold => {
            "Keep it out of use and tell your lead. Do not adjust before the lead has decided; \
             everything measured since the last good check is in doubt."
        }
        NextAction::AskLead => {
            "Keep it out of use until a lead decides: it failed, then passed, and that is not a pass. \
             Do not run it again."
        }
        NextAction::CheckAgain => {
            "This check does not count. Put right what went wrong, then start it again."
        }
        NextAction::ProvenAsLeft => {
            "The adjustment is proven. A lead puts it back in service; its next check continues the chart."
        }
        NextAction::NoteTrial => {
            "A trial counts for nothing. Note on the ladder what it showed, then go on from there."
        }
    }
}

/// A criterion in plain words, without any rule number.
#[must_use]
pub fn criterion_words(criterion: Criterion) -> &'static str {
    match criterion {
        Criterion::BeyondLimits => "beyond what this instrument normally does",
        Criterion::Ewma => "the slow average has left its band: a small shift or a drift",
        Criterion::Beyond3 => "one check beyond three sigma",
        Criterion::TwoOfThree => "two of three checks beyond two sigma",
        Criterion::FourOfFive => "four of five checks beyond one sigma",
        Criterion::EightOnASide => "eight checks in a row on one side of the centre",
        Criterion::NineOnASide => "nine checks in a row on one side of the centre",
        Criterion::SixTrending => "six checks in a row, each further than the one before",
        Criterion::FourteenAlternating => "fourteen checks in a row going up and down by turns",
        Criterion::FifteenHugging => "fifteen checks in a row within one sigma of the centre",
        Criterion::EightAvoiding => "eight checks in a row, none within one sigma of the centre",
        Criterion::Cusum => "the cumulative sum has left its band: a small shift that stays",
        Criterion::Spread => "the readings within the check scatter unlike before",
        Criterion::WarningBeyond2 => "one check beyond two sigma, a warning",
        Criterion::TwoInARowBeyond2 => "two checks in a row beyond two sigma",
        Criterion::FourInARowBeyond1 => "four checks in a row beyond one sigma",
        Criterion::TenOnASide => "ten checks in a row on one side of the centre",
        Criterion::TwoLevelsBeyond2 => "two levels of one check beyond two sigma",
        Criterion::LevelsFourApart => {
            "one level beyond two sigma above, another beyond two sigma below, in one check"
        }
    }
}

/// A firing in plain words with its side and how many points make it.
#[must_use]
pub fn firing_words(firing: &Firing) -> String {
    let words = criterion_words(firing.criterion);
    match (firing.criterion, firing.side) {
        (Criterion::SixTrending, Some(Side::Above)) => format!("{words}, rising"),
        (Criterion::SixTrending, Some(Side::Below)) => format!("{words}, falling"),
        (_, Some(side)) => format!("{words}, {}", side.word()),
        (_, None) => words.to_owned(),
    }
}

/// The shift that a firing suggests, in the unit of its chart: "a shift of about +1.2 g"; none for
/// patterns without a side.
#[must_use]
pub fn shift_words(firing: &Firing, sigma: f64, unit: &str) -> Option<String> {
    let shift = firing.shift? * sigma;
    let decimals = decimals_for(sigma);
    Some(format!("a shift of about {} {unit}", show_signed_float(shift, decimals)))
}

/// A firing in the few words that a row of a table bears.
#[must_use]
pub fn firing_short(firing: &Firing) -> String {
    let words = match firing.criterion {
        Criterion::BeyondLimits => "beyond its limits",
        Criterion::Ewma => "slow average out of its band",
        Criterion::Cusum => "cumulative sum out of its band",
        Criterion::Spread => "scatter beyond its limits",
        _ => return firing_words(firing),
    };
    firing.side.map_or_else(|| words.to_owned(), |side| format!("{words}, {}", side.word()))
}

/// Where a sigma came from, for the chart's label.
#[must_use]
pub fn sigma_words(source: SigmaSource) -> &'static str {
    match source {
        SigmaSource::MovingRange => "sigma from moving ranges of the baseline",
        SigmaSource::SampleStdDev => {
            "sigma from the standard deviation of the baseline, because neighbouring checks resemble each other"
        }
        SigmaSource::Given => "sigma as it was given, not estimated from checks",
        SigmaSource::Resolution => {
            "sigma from the resolution, which is coarser than the spread: patterns are not judged"
        }
    }
}

/// A reason as a sentence with its numbers. `results` are those of the check that the reason
/// belongs to; `zone` is the site's.
#[must_use]
pub fn reason_sentence(
    reason: &Reason,
    results: &[(Characteristic, ConformityResult)],
    zone: &TimeZone,
) -> String {
    let found = reason
        .characteristic()
        .and_then(|key| results.iter().find(|(characteristic, _)| characteristic.key == key));
    let label = found.map_or_else(
        || reason.characteristic().and_then(derived_label).unwrap_or("One property"),
        |(characteristic, _)| characteristic.label.as_str(),
    );
    match reason {
        Reason::Void { reason } => format!("Void: {reason}. It stays on record and off the chart."),
        Reason::Within { .. } => {
            format!("{label}: {}.", found.map_or_else(|| "inside the tolerance".to_owned(), within))
        }
        Reason::MeanOutside { .. } => {
            let numbers = found.map(|pair| format!("{}, ", against(pair))).unwrap_or_default();
            format!("{label}: {numbers}outside the tolerance.")
        }
        Reason::InGuardBand { .. } => format!(
            "{label}: {}inside the tolerance, but closer to its limit than the guard band of {}: not proven, and by this plan's rule not accepted.",
            found.map(|pair| format!("{}, ", against(pair))).unwrap_or_default(),
            found.map_or_else(String::new, guard_words),
        ),
        Reason::NothingAccepted { .. } => format!(
            "{label}: the uncertainty leaves nothing that this plan's rule could accept ({}). A better standard, more repeats or another rule is needed; tell your lead.",
            found.map_or_else(String::new, against),
        ),
        Reason::NoHistoryYet { .. } => format!(
            "{label}: the plan asks for a global risk, and this check has fewer than {} results yet: a guard band of {} stands in.",
            super::MINIMUM_PRIOR_CHECKS,
            found.map_or_else(String::new, guard_words),
        ),
        Reason::NotIndependent { standard } => format!(
            "The adjustment was made with {standard} and proven with the same: that looks excellent by construction. Check it with other pieces or at another level as well."
        ),
        Reason::SingleOutside { .. } => format!(
            "{label}: the mean is inside, but one single reading is outside{}.",
            found.map(|pair| format!(": {}", singles(pair))).unwrap_or_default()
        ),
        Reason::Indicative { .. } => format!(
            "{label} is indicative: the display moves in coarse steps and its rounding was not removed \
             with small added weights."
        ),
        Reason::NoBaseline { got, required, .. } => format!(
            "{label}: nobody knows yet what is normal here; {got} of at least {required} shifts are on the chart."
        ),
        Reason::InControl { .. } => format!("{label}: what this instrument normally does."),
        Reason::Fired { firing, .. } => format!("{label}: {}.", firing_words(firing)),
        Reason::StillActive { side, .. } => format!(
            "{label}: this check is quiet, but an earlier signal{} is not over yet.",
            side.map(|side| format!(" {}", side.word())).unwrap_or_default()
        ),
        Reason::Drifting { drift, .. } => {
            let unit = found.map_or("", |(characteristic, _)| characteristic.unit.symbol());
            format!("{label} is drifting: {}.", drift_words(drift, unit, zone))
        }
        Reason::Advice { advice, .. } => advice_sentence(*advice, label, found),
        Reason::Repeat { state } => repeat_sentence(*state).to_owned(),
        Reason::EnteredLate { reason } => {
            format!("Measured on paper and entered later: {reason}.")
        }
        Reason::Amended => "A certificate of its standard was put right afterwards; this is the check evaluated again with the right values. The first verdict is kept.".to_owned(),
        Reason::PlanSuperseded { used, current } => format!(
            "The plan was changed while this check was open: it is judged by version {used}, with which it began; \
             version {current} holds from the next check on."
        ),
        Reason::FarReadingConfirmed { step } => {
            format!("A reading far from its load was confirmed by hand at “{step}”.")
        }
    }
}

/// Slope, onset and crossing of a drift in words. The slope is shown to as many places as two
/// significant digits of its interval need (JCGM 100:2008, 7.2.6; from memory).
#[must_use]
pub fn drift_words(drift: &Drift, unit: &str, zone: &TimeZone) -> String {
    let decimals = decimals_for((drift.per_week_high - drift.per_week_low) / 2.0);
    let day =
        |at: jiff::Timestamp| at.to_zoned_datetime(zone.clone()).strftime("%-d %B").to_string();
    let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
    let mut text = format!(
        "{}{unit} a week ({} to {}) since about {}",
        show_signed_float(drift.per_week, decimals),
        show_signed_float(drift.per_week_low, decimals),
        show_signed_float(drift.per_week_high, decimals),
        day(drift.since),
    );
    if let Some(crossing) = drift.crossing {
        let latest = crossing.latest.map_or("later than in a year".to_owned(), day);
        text.push_str(&format!(
            "; it reaches its tolerance about {} ({} to {latest})",
            day(crossing.at),
            day(crossing.earliest),
        ));
    }
    text
}

fn repeat_sentence(state: RepeatState) -> &'static str {
    match state {
        RepeatState::None => "First run.",
        RepeatState::RepeatAllowed => {
            "First run of the shift, and it failed: one confirming repeat is allowed."
        }
        RepeatState::Confirmed => "The repeat failed too: the failure is confirmed.",
        RepeatState::Doubtful => {
            "It failed, then passed: doubtful, and never a pass. The first run is on the chart."
        }
    }
}

fn limit_text(characteristic: &Characteristic, limits: Option<ToleranceLimits>) -> String {
    let decimals = characteristic.decimals;
    match limits.map(|limits| (limits.lower, limits.upper)) {
        Some((Some(lower), Some(upper))) if lower == -upper => {
            format!("±{}", show_decimal(upper, decimals.max(upper.normalize().scale())))
        }
        Some((Some(lower), Some(upper))) => {
            format!("{} to {}", show_signed(lower, decimals), show_signed(upper, decimals))
        }
        Some((Some(lower), None)) => format!("not below {}", show_signed(lower, decimals)),
        Some((None, Some(upper))) => format!("not above {}", show_decimal(upper, decimals)),
        _ => "no limit".to_owned(),
    }
}

/// A coverage factor to two places, without zeros that say nothing: "2", "2.13".
#[must_use]
pub fn factor_words(factor: f64) -> String {
    show_float(factor, 2).trim_end_matches('0').trim_end_matches('.').to_owned()
}

fn against((characteristic, result): &(Characteristic, ConformityResult)) -> String {
    let unit = characteristic.unit;
    format!(
        "{} {unit} against {} {unit} (U = {} {unit}, k = {})",
        show_signed_float(characteristic.value(), characteristic.mean_decimals()),
        limit_text(characteristic, characteristic.limits),
        show_float(result.expanded_uncertainty(), characteristic.mean_decimals() + 1),
        factor_words(result.coverage_factor()),
    )
}

fn guard_words((characteristic, result): &(Characteristic, ConformityResult)) -> String {
    format!(
        "{} {}",
        show_float(result.guard_band.width, characteristic.mean_decimals() + 1),
        characteristic.unit
    )
}

fn within(pair: &(Characteristic, ConformityResult)) -> String {
    let ratio = pair
        .1
        .capability_index
        .map(|index| format!("; the tolerance is {} times the uncertainty", show_float(index, 1)))
        .unwrap_or_default();
    format!("{}, inside the tolerance{ratio}", against(pair))
}

fn singles((characteristic, _): &(Characteristic, ConformityResult)) -> String {
    let list: Vec<String> = characteristic
        .singles
        .iter()
        .map(|single| show_signed(*single, characteristic.decimals))
        .collect();
    let limits = characteristic.single_limits.or(characteristic.limits);
    format!(
        "{} {} against {}",
        list.join(", "),
        characteristic.unit,
        limit_text(characteristic, limits)
    )
}

fn advice_sentence(
    advice: AdjustmentAdvice,
    label: &str,
    found: Option<&(Characteristic, ConformityResult)>,
) -> String {
    let decimals = found.map_or(2, |(characteristic, _)| characteristic.mean_decimals());
    let unit = found.map_or("", |(characteristic, _)| characteristic.unit.symbol());
    match advice {
        AdjustmentAdvice::SmallerThanResolution { resolution } => format!(
            "{label}: leave it alone, the error is smaller than one step of the display ({} {unit}).",
            show_float(resolution, decimals.saturating_sub(1)),
        ),
        AdjustmentAdvice::WithinNoise { noise } => format!(
            "{label}: leave it alone, the error is inside what varies from check to check anyway (±{} {unit}); \
             adjusting would add to it.",
            show_float(noise, decimals),
        ),
        AdjustmentAdvice::WithinTolerance { noise } => format!(
            "{label}: the error is real (beyond ±{} {unit}) but inside tolerance: do not adjust yet, so that the drift stays visible.",
            show_float(noise, decimals),
        ),
        AdjustmentAdvice::Adjust { correction } => format!(
            "{label}: an adjustment is due, about {} {unit}, after a lead has decided; as found is on record.",
            show_signed_float(correction, decimals),
        ),
    }
}
