//! False alarms and power of a chart's design, in words.

use std::collections::HashMap;
use std::sync::{Mutex, OnceLock};

use vaaka_core::chart::simulate::{
    Change, Circumstances, Estimate, estimation_range, run_length_of,
};
use vaaka_core::chart::{ChartDesign, Level};
use vaaka_core::quantity::{decimals_for, show_float};

/// What a design does, all its rules together.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(in crate::pages) struct Power {
    /// In control.
    pub quiet: Estimate,
    /// After a step of one sigma.
    pub one: Estimate,
    /// After a step of two sigmas.
    pub two: Estimate,
    /// With a drift of one sigma in twenty checks.
    pub drift: Estimate,
}

/// Sigmas a check of the drift that is spoken of.
pub(super) const DRIFT: f64 = 0.05;
/// Designs that are remembered; a site has a few.
const MOST: usize = 500;

/// Computed once a design, since it takes some milliseconds; none where nothing raises a signal. Sigma and
/// centre do not matter, so that all charts of the default design share one.
pub(in crate::pages) fn power_of(design: &ChartDesign, around: Circumstances) -> Option<Power> {
    static KEPT: OnceLock<Mutex<HashMap<String, Option<Power>>>> = OnceLock::new();
    let plain = ChartDesign {
        level: Level::Frozen { center_line: 0.0 },
        below: rounded(design.below / design.sigma),
        above: rounded(design.above / design.sigma),
        sigma: 1.0,
        components: None,
        spread: design
            .spread
            .map(|spread| vaaka_core::chart::SpreadDesign { within: 1.0, ..spread }),
        advisory: vaaka_core::chart::Criteria::NONE,
        earlier: vec![],
        ..design.clone()
    };
    let key = format!("{around:?} {}", serde_json::to_string(&plain).ok()?);
    let kept = KEPT.get_or_init(Mutex::default);
    if let Ok(kept) = kept.lock()
        && let Some(found) = kept.get(&key)
    {
        return *found;
    }
    let of = |change| run_length_of(&plain, change, around).ok();
    let found = (|| {
        Some(Power {
            quiet: of(Change::None)?,
            one: of(Change::Step { sigmas: 1.0 })?,
            two: of(Change::Step { sigmas: 2.0 })?,
            drift: of(Change::Drift { sigmas_a_check: DRIFT })?,
        })
    })();
    if let Ok(mut kept) = kept.lock() {
        if kept.len() >= MOST {
            kept.clear();
        }
        kept.insert(key, found);
    }
    found
}

/// Limits to a thousandth of a sigma are the same limits.
fn rounded(value: f64) -> f64 {
    (value * 1_000.0).round() / 1_000.0
}

/// "about 508", "about 92 ± 5 (simulated)", "more than 20 000 (simulated)".
pub(super) fn about(estimate: Estimate) -> String {
    let number = |value: f64| show_float(value, if value < 10.0 { 1 } else { 0 });
    match estimate.standard_error {
        _ if estimate.at_least => format!("more than {} (simulated)", number(estimate.average)),
        None => format!("about {}", number(estimate.average)),
        Some(error) => {
            format!("about {} ± {} (simulated)", number(estimate.average), number(error))
        }
    }
}

/// "A false alarm comes about every 508 checks, 24 weeks of shifts."
pub(super) fn false_alarm_words(
    design: &ChartDesign,
    power: &Power,
    weeks_a_check: f64,
    points: usize,
) -> String {
    let weeks = power.quiet.average * weeks_a_check;
    let mut words = format!(
        "With these rules a false alarm comes every {} checks, about {} weeks.",
        about(power.quiet).trim_start_matches("about "),
        show_float(weeks, if weeks < 10.0 { 1 } else { 0 }),
    );
    if points > 0
        && let Some((low, high)) = range_of(design, points)
    {
        words.push_str(&format!(
            " Limits from {points} shifts are themselves uncertain: it may be anything from {} to {} checks (90 %).",
            show_float(low, 0),
            show_float(high, 0)
        ));
    }
    words
}

/// Remembered like the power; the two integral equations take some milliseconds.
fn range_of(design: &ChartDesign, points: usize) -> Option<(f64, f64)> {
    type Kept = HashMap<String, Option<(f64, f64)>>;
    static KEPT: OnceLock<Mutex<Kept>> = OnceLock::new();
    let key = format!(
        "{points} {} {} {:?} {:?} {:?}",
        rounded(design.below / design.sigma),
        rounded(design.above / design.sigma),
        design.raising,
        design.ewma,
        design.cusum
    );
    let kept = KEPT.get_or_init(Mutex::default);
    if let Ok(kept) = kept.lock()
        && let Some(found) = kept.get(&key)
    {
        return *found;
    }
    let found = estimation_range(design, points).ok();
    if let Ok(mut kept) = kept.lock() {
        if kept.len() >= MOST {
            kept.clear();
        }
        kept.insert(key, found);
    }
    found
}

/// "A step of 0.4 g (one sigma) is seen after about 12 checks, …"
pub(super) fn power_words(design: &ChartDesign, power: &Power, unit: &str) -> String {
    let places = decimals_for(design.sigma);
    let size = |sigmas: f64| format!("{} {unit}", show_float(sigmas * design.sigma, places));
    format!(
        "A step of {} (one sigma) is seen after {} checks, one of {} after {}; a drift of one sigma in twenty checks after {}.",
        size(1.0),
        about(power.one),
        size(2.0),
        about(power.two),
        about(power.drift),
    )
}
