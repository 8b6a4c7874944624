//! The one place where verdicts and reasons become sentences.

use jiff::tz::TimeZone;
use rust_decimal::{Decimal, RoundingStrategy};

use super::{
    AdjustmentAdvice, Characteristic, ConformityResult, FEWEST_READINGS, NextAction, Reason,
    RepeatState, Scatter, ToleranceLimits,
};
use crate::chart::{Criterion, Firing, MINIMUM_BASELINE_POINTS, Side, SigmaSource, derived_label};
use crate::history::{Crossing, Drift, Interval, Told, ToldShape};
use crate::quantity::{
    decimals_for, show_decimal, show_float, show_signed, show_signed_float, to_f64,
};

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
        NextAction::AskLeadLate => {
            "Keep it out of use until a lead decides: a check that came from paper lay outside tolerance. \
             Everything measured since the good check before it is in doubt."
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
        Reason::SingleInGuardBand { .. } => format!(
            "{label}: the mean is accepted, but one single reading{} is closer to its limit than its own guard band of {}: not proven, and by this plan's rule not accepted.",
            found.map(|pair| format!(" ({})", singles(pair))).unwrap_or_default(),
            found.map_or_else(String::new, single_guard_words),
        ),
        Reason::NotProven { scatter, accepted, .. } => format!(
            "{label}: {}inside the tolerance, and not proven: {} Freeze limits from {MINIMUM_BASELINE_POINTS} shifts, state the repeatability in the plan, or take {FEWEST_READINGS} readings.{}",
            found.map(|pair| format!("{}, ", held_against(pair))).unwrap_or_default(),
            match scatter {
                Scatter::FewReadings { readings } =>
                    format!("U would rest on {readings} readings of this check alone."),
                Scatter::RoundingOnly | Scatter::Known =>
                    "nothing but the rounding of the display is known of how far readings scatter.".to_owned(),
            },
            if *accepted { "" } else { " This plan's rule needs U, so that it is not accepted; tell your lead." },
        ),
        Reason::CannotHold { lower_control_limit, upper_control_limit, .. } => {
            let unit = found.map_or("", |(characteristic, _)| characteristic.unit.symbol());
            let places = decimals_for((upper_control_limit - lower_control_limit) / 6.0);
            format!(
                "{label}: its control limits, {} to {} {unit}, reach beyond the tolerance{}: this instrument cannot hold its tolerance.",
                show_signed_float(*lower_control_limit, places),
                show_signed_float(*upper_control_limit, places),
                found
                    .map(|(c, _)| format!(" of {} {unit}", limit_text(c.limits, c.decimals)))
                    .unwrap_or_default(),
            )
        }
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
        Reason::Changed { shape, .. } => {
            let unit = found.map_or("", |(characteristic, _)| characteristic.unit.symbol());
            let words = shape_words(shape, unit, zone);
            let mut rest = words.chars();
            let first = rest.next().map(|first| first.to_lowercase().to_string());
            format!("{label}: {}{}", first.unwrap_or_default(), rest.as_str())
        }
        Reason::Drifting { drift, .. } => {
            let unit = found.map_or("", |(characteristic, _)| characteristic.unit.symbol());
            format!("{label} is drifting: {}.", drift_words(drift, unit, zone))
        }
        Reason::Advice { advice, .. } => advice_sentence(*advice, label, found),
        Reason::Repeat { state } => repeat_sentence(*state).to_owned(),
        Reason::EnteredLate { reason } => {
            format!("Measured on paper and entered later: {reason}.")
        }
        Reason::CorrectedInside { step, was, now, reason, second } => format!(
            "{step} was corrected from {was} to {now}, and with that from outside to inside its limits: {reason}. Seen by {second}. Both values stay on record."
        ),
        Reason::SetRight { step, found, now } => format!(
            "{step}: “{found}” was typed first, and “{now}” before anything was measured. How it was found stays on record."
        ),
        Reason::StandsBeside => "It came when its shift had its check already, or its charts newer points: it is judged by the charts as they stood at its time, is drawn at its place, and changes nothing that was seen since.".to_owned(),
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
    // Day, month and year: an interval may end in another year than it begins.
    let decimals = decimals_for((drift.per_week_high - drift.per_week_low) / 2.0);
    let day = |at: jiff::Timestamp| day_words(at, zone);
    let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
    let mut text = format!(
        "{}{unit} a week (95 %: {} to {}) since about {}{}",
        show_signed_float(drift.per_week, decimals),
        show_signed_float(drift.per_week_low, decimals),
        show_signed_float(drift.per_week_high, decimals),
        day(drift.since),
        drift.since_interval.map_or(String::new(), |(low, high)| format!(
            " (95 %: {})",
            span_words(low, high, zone)
        )),
    );
    if let Some(ahead) = ahead_words(drift, zone) {
        let if_so = if drift.beyond.is_some() { "" } else { "if it goes on like this, " };
        text.push_str(&format!("; {if_so}{ahead}"));
    }
    // A single check scatters about the level: it is outside before.
    if let (None, Some(crossing), Some(first)) = (drift.beyond, drift.crossing, drift.first_check)
        && first.at < crossing.at
    {
        text.push_str(&format!(
            ", and a single check is outside for the first time {}",
            crossing_words(&first, zone)
        ));
    }
    text
}

/// Where the level of a drift leads: a part of [`drift_words`] for where there is room for no more. Nothing where no limit is reached.
#[must_use]
pub fn ahead_words(drift: &Drift, zone: &TimeZone) -> Option<String> {
    match (drift.beyond, drift.crossing) {
        (Some(_), _) => Some("its level is beyond the tolerance already".to_owned()),
        (None, Some(crossing)) => {
            Some(format!("its level reaches the tolerance {}", crossing_words(&crossing, zone)))
        }
        (None, None) => None,
    }
}

fn day_words(at: jiff::Timestamp, zone: &TimeZone) -> String {
    at.to_zoned_datetime(zone.clone()).strftime("%-d %B %Y").to_string()
}

/// "about 28 November 2026 (95 %: 24 November to 1 December 2026)".
#[must_use]
pub fn crossing_words(crossing: &Crossing, zone: &TimeZone) -> String {
    let ends = match crossing.latest {
        Some(latest) => span_words(crossing.earliest, latest, zone),
        None => format!("{} to later than in a year", day_words(crossing.earliest, zone)),
    };
    format!("about {} (95 %: {ends})", day_words(crossing.at, zone))
}

/// "24 to 30 October 2026", "30 October to 1 November 2026": month and year once where they are the same.
#[must_use]
pub fn span_words(low: jiff::Timestamp, high: jiff::Timestamp, zone: &TimeZone) -> String {
    let part = |form: &str| {
        let of =
            |at: jiff::Timestamp| at.to_zoned_datetime(zone.clone()).strftime(form).to_string();
        (of(low), of(high))
    };
    let ((first, _), (month, last_month), (year, last_year)) =
        (part("%-d"), part("%B"), part("%Y"));
    let last = day_words(high, zone);
    match (month == last_month, year == last_year) {
        (true, true) => format!("{first} to {last}"),
        (false, true) => format!("{first} {month} to {last}"),
        _ => format!("{first} {month} {year} to {last}"),
    }
}

/// What a series has done, in a sentence or two; nothing is promised of a drift here ([`drift_words`] does).
#[must_use]
pub fn shape_words(shape: &ToldShape, unit: &str, zone: &TimeZone) -> String {
    let about = |when: Option<Interval<jiff::Timestamp>>| {
        when.map_or(String::new(), |Interval { low, median, high }| {
            let median = day_words(median, zone);
            if day_words(low, zone) == day_words(high, zone) {
                format!(" on {median}")
            } else {
                format!(" about {median} (95 %: {})", span_words(low, high, zone))
            }
        })
    };
    let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
    let by = |size: Option<Interval<f64>>| {
        size.map_or(String::new(), |size| {
            let decimals = decimals_for((size.high - size.low) / 2.0);
            let show = |value: f64| show_signed_float(value, decimals);
            format!(
                " by {}{unit} (95 %: {} to {})",
                show(size.median),
                show(size.low),
                show(size.high)
            )
        })
    };
    match shape.told {
        Told::Flat => "Nothing has changed.".to_owned(),
        Told::Unclear => {
            "No change can be told: there is none, or it is too small or too new.".to_owned()
        }
        Told::Step => format!("The level stepped{}{}.", by(shape.size), about(shape.onset)),
        Told::Drift => format!("The level drifts since{}.", about(shape.onset)),
        Told::Stopped => format!(
            "The level drifted{} from{} to{} and has stood since.",
            by(shape.size),
            about(shape.onset),
            about(shape.stopped_at)
        ),
        Told::Knock => format!(
            "A few checks were off{}{}; the level is back.",
            by(shape.size),
            about(shape.onset)
        ),
        Told::Changed => format!(
            "The level has changed since{}. A step cannot be told from a drift yet.",
            about(shape.onset)
        ),
    }
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

/// Limits to the places of the display, or to two digits where the display is coarser than they are; judged
/// unrounded.
fn limit_text(limits: Option<ToleranceLimits>, decimals: u32) -> String {
    let places = |limit: Decimal| limit_places(limit, decimals);
    match limits.map(|limits| (limits.lower, limits.upper)) {
        Some((Some(lower), Some(upper))) if lower == -upper => {
            format!("±{}", show_decimal(upper, places(upper)))
        }
        // What holds a value, not an error, lies on one side of nothing.
        Some((Some(lower), Some(upper))) if lower > Decimal::ZERO => {
            format!(
                "{} to {}",
                show_decimal(lower, places(lower)),
                show_decimal(upper, places(upper))
            )
        }
        Some((Some(lower), Some(upper))) => {
            format!(
                "{} to {}",
                show_signed(lower, places(lower)),
                show_signed(upper, places(upper))
            )
        }
        Some((Some(lower), None)) => format!("not below {}", show_signed(lower, places(lower))),
        // A range or a difference without a sign has no plus either.
        Some((None, Some(upper))) if upper > Decimal::ZERO => {
            format!("not above {}", show_decimal(upper, places(upper)))
        }
        Some((None, Some(upper))) => format!("not above {}", show_signed(upper, places(upper))),
        _ => "no limit".to_owned(),
    }
}

/// Places of a limit on a display of `decimals` places.
pub(super) fn limit_places(limit: Decimal, decimals: u32) -> u32 {
    let own = limit.normalize().scale();
    own.min(decimals_for(to_f64(limit).abs())).max(decimals)
}

/// A value and its limits with as many places as it takes to see on which side it lies: 100.1 against ±100 is never
/// shown as +100.
pub(super) fn value_and_limits(
    value: Decimal,
    limits: Option<ToleranceLimits>,
    (value_places, limit_places): (u32, u32),
) -> (String, String) {
    let more = places_more(value, limits, (value_places, limit_places));
    (show_signed(value, value_places + more), limit_text(limits, limit_places + more))
}

/// How many places more than usual a value and its limits need for that.
fn places_more(
    value: Decimal,
    limits: Option<ToleranceLimits>,
    (value_places, limit_places): (u32, u32),
) -> u32 {
    let side = |value: Decimal, limits: ToleranceLimits| {
        limits.lower.is_none_or(|lower| value >= lower)
            && limits.upper.is_none_or(|upper| value <= upper)
    };
    let round = |value: Decimal, places: u32| {
        value.round_dp_with_strategy(places, RoundingStrategy::MidpointNearestEven)
    };
    let shows = |more: u32| {
        limits.is_none_or(|limits| {
            let own = |limit: Option<Decimal>| {
                limit.map(|limit| round(limit, self::limit_places(limit, limit_places + more)))
            };
            let rounded = ToleranceLimits { lower: own(limits.lower), upper: own(limits.upper) };
            side(round(value, value_places + more), rounded) == side(value, limits)
        })
    };
    (0..6).find(|more| shows(*more)).unwrap_or(6)
}

/// [`places_more`] of a characteristic's value.
pub(super) fn places_to_see(characteristic: &Characteristic) -> u32 {
    let places = (characteristic.mean_decimals(), characteristic.decimals);
    places_more(mean_of(characteristic), characteristic.limits, places)
}

/// The mean of a characteristic as a decimal, for show.
pub(super) fn mean_of(characteristic: &Characteristic) -> Decimal {
    characteristic
        .mean
        .unwrap_or_else(|| characteristic.sum() / Decimal::from(characteristic.n().max(1)))
}

/// The value of a characteristic and its limits, each with as many places as it takes to see on which side it lies.
#[must_use]
pub fn shown_with_limits(characteristic: &Characteristic) -> (String, String) {
    let places = (characteristic.mean_decimals(), characteristic.decimals);
    value_and_limits(mean_of(characteristic), characteristic.limits, places)
}

/// "+7.2 g against ±20 g".
fn held_against((characteristic, _): &(Characteristic, ConformityResult)) -> String {
    let unit = characteristic.unit;
    let places = (characteristic.mean_decimals(), characteristic.decimals);
    let (value, limits) = value_and_limits(mean_of(characteristic), characteristic.limits, places);
    format!("{value} {unit} against {limits} {unit}")
}

/// A coverage factor to two places, without zeros that say nothing: "2", "2.13".
#[must_use]
pub fn factor_words(factor: f64) -> String {
    show_float(factor, 2).trim_end_matches('0').trim_end_matches('.').to_owned()
}

fn against(pair: &(Characteristic, ConformityResult)) -> String {
    let (characteristic, result) = pair;
    let unit = characteristic.unit;
    format!(
        "{} (U = {} {unit}, k = {})",
        held_against(pair),
        show_float(result.expanded_uncertainty(), characteristic.mean_decimals() + 1),
        factor_words(result.coverage_factor()),
    )
}

fn guard_words((characteristic, result): &(Characteristic, ConformityResult)) -> String {
    band_words(characteristic, result.guard_band.width)
}

fn single_guard_words((characteristic, result): &(Characteristic, ConformityResult)) -> String {
    band_words(characteristic, result.guard_band.single_width)
}

fn band_words(characteristic: &Characteristic, width: f64) -> String {
    format!("{} {}", show_float(width, characteristic.mean_decimals() + 1), characteristic.unit)
}

fn within(pair: &(Characteristic, ConformityResult)) -> String {
    let ratio = pair
        .1
        .capability_index
        .map(|index| format!("; TUR {} (half of the tolerance over U)", show_float(index, 1)))
        .unwrap_or_default();
    format!("{}, inside the tolerance{ratio}", against(pair))
}

fn singles((characteristic, _): &(Characteristic, ConformityResult)) -> String {
    let limits = characteristic.single_limits.or(characteristic.limits);
    let d = characteristic.decimals;
    let list: Vec<(String, String)> = characteristic
        .singles
        .iter()
        .map(|single| value_and_limits(*single, limits, (d, d)))
        .collect();
    let values: Vec<&str> = list.iter().map(|(value, _)| value.as_str()).collect();
    let longest = list.iter().map(|(_, limits)| limits.as_str()).max_by_key(|text| text.len());
    format!("{} {} against {}", values.join(", "), characteristic.unit, longest.unwrap_or_default())
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
            "{label}: leave it alone, the error is inside what varies from check to check, with the uncertainty of the \
             reference (±{} {unit}); adjusting would add to it.",
            show_float(noise, decimals),
        ),
        AdjustmentAdvice::WithinTolerance { noise } => format!(
            "{label}: the error is real (beyond ±{} {unit}, what varies from check to check with the uncertainty of the reference) but inside tolerance: do not adjust yet, so that the drift stays visible.",
            show_float(noise, decimals),
        ),
        AdjustmentAdvice::Adjust { correction } => format!(
            "{label}: an adjustment is due after a lead has decided; the estimated level asks for about {} {unit}, the failing check alone would say too much. As found is on record.",
            show_signed_float(correction, decimals),
        ),
    }
}
