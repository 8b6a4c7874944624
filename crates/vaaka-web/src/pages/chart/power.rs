//! False alarms and power of a chart's design, in words.

use std::collections::HashMap;
use std::sync::{Mutex, OnceLock};

use vaaka_core::chart::simulate::{
    Change, Circumstances, Estimate, Estimated, HUNDRED, Runs, Widened, falsely_within_hundred,
    run_length_of, widened_for, with_estimated_limits,
};
use vaaka_core::chart::{ChartDesign, FromBaseline, Level};
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
    static KEPT: Kept<Option<Power>> = OnceLock::new();
    let plain = plain(design);
    remembered(&KEPT, format!("{around:?} {}", key_of(&plain)?), || {
        let of = |change| run_length_of(&plain, change, around).ok();
        Some(Power {
            quiet: of(Change::None)?,
            one: of(Change::Step { sigmas: 1.0 })?,
            two: of(Change::Step { sigmas: 2.0 })?,
            drift: of(Change::Drift { sigmas_a_check: DRIFT })?,
        })
    })
}

/// What limits that were estimated really do in control; none for given ones.
pub(in crate::pages) fn honest(design: &ChartDesign, around: Circumstances) -> Option<Estimated> {
    static KEPT: Kept<Option<Estimated>> = OnceLock::new();
    let from = design.estimated?;
    let (points, rho) = (rounded_points(from.points), (from.autocorrelation * 20.0).round() / 20.0);
    let plain = plain(design);
    let key = format!("{around:?} {points} {rho} {:?} {}", from.source, key_of(&plain)?);
    remembered(&KEPT, key, || {
        let around = Circumstances { autocorrelation: rho, ..around };
        with_estimated_limits(&plain, from.source, points, around, Runs::default()).ok()
    })
}

/// False signals a check that are to be expected of a design within the next hundred checks, with what its limits
/// were formed from counted in: −ln(1 − p)/100, p the share of charts that give one. Lines that somebody set are
/// crossed by chance as often as nobody can say.
pub(in crate::pages) fn false_signals_a_check(design: &ChartDesign) -> Option<f64> {
    static KEPT: Kept<Option<f64>> = OnceLock::new();
    if !design.is_statistical() {
        return None;
    }
    let Some(from) = design.estimated else {
        let power = power_of(design, Circumstances::default())?;
        return Some(1.0 / power.quiet.average);
    };
    // As the charts are grouped (`segments.design_group`): nobody tells a sum's parts apart more finely.
    let points = first_digit(from.points);
    let rho = (from.autocorrelation * 10.0).round() / 10.0;
    let plain = plain(design);
    let key = format!("{points} {rho} {:?} {}", from.source, key_of(&plain)?);
    remembered(&KEPT, key, || {
        let around = Circumstances { autocorrelation: rho, ..Circumstances::default() };
        let runs = Runs::default();
        let within = falsely_within_hundred(&plain, from.source, points, around, runs).ok()?;
        // Where every run gave one, half a run more is as good a guess as any.
        let most = 1.0 - 0.5 / f64::from(runs.runs);
        Some(-(1.0 - within.min(most)).ln() / f64::from(HUNDRED))
    })
}

/// 57 is 50 and 312 is 300: a few shifts more or less change no sum.
fn first_digit(points: usize) -> usize {
    let step = 10_usize.pow(points.max(1).ilog10());
    points / step * step
}

/// Limits widened for checks that resemble their neighbours; none where they do not.
pub(super) fn widened(design: &ChartDesign, around: Circumstances) -> Option<Widened> {
    static KEPT: Kept<Option<Widened>> = OnceLock::new();
    let rho = design.estimated.map_or(0.0, |from: FromBaseline| from.autocorrelation);
    let rho = (rho * 20.0).round() / 20.0;
    if rho == 0.0 {
        return None;
    }
    let plain = plain(design);
    remembered(&KEPT, format!("{around:?} {rho} {}", key_of(&plain)?), || {
        let around = Circumstances { autocorrelation: rho, ..around };
        widened_for(&plain, around, Runs::default()).ok()
    })
}

/// The number of shifts to two digits: a few more say nothing else.
fn rounded_points(points: usize) -> usize {
    match points {
        ..100 => points,
        100..1_000 => points / 10 * 10,
        _ => points.min(10_000) / 100 * 100,
    }
}

type Kept<T> = OnceLock<Mutex<HashMap<String, T>>>;

/// Computes once for a key.
fn remembered<T: Copy>(kept: &'static Kept<T>, key: String, compute: impl FnOnce() -> T) -> T {
    let kept = kept.get_or_init(Mutex::default);
    if let Ok(kept) = kept.lock()
        && let Some(found) = kept.get(&key)
    {
        return *found;
    }
    let found = compute();
    if let Ok(mut kept) = kept.lock() {
        if kept.len() >= MOST {
            kept.clear();
        }
        kept.insert(key, found);
    }
    found
}

/// The design about zero with a sigma of one: what run lengths depend on.
fn plain(design: &ChartDesign) -> ChartDesign {
    ChartDesign {
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
        estimated: None,
        ..design.clone()
    }
}

fn key_of(plain: &ChartDesign) -> Option<String> {
    serde_json::to_string(plain).ok()
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

/// "With limits known exactly a false alarm comes every 508 checks, about 24 weeks. Limits from 60 shifts are
/// uncertain: 32 % of such charts signal falsely within 100 checks (18 % with known limits) …"
pub(super) fn false_alarm_words(
    design: &ChartDesign,
    power: &Power,
    weeks_a_check: f64,
    around: Circumstances,
) -> String {
    let weeks = power.quiet.average * weeks_a_check;
    let weeks = show_float(weeks, if weeks < 10.0 { 1 } else { 0 });
    let every = about(power.quiet);
    let every = every.trim_start_matches("about ");
    let Some((from, honest)) = design.estimated.zip(honest(design, around)) else {
        return format!(
            "With these rules a false alarm comes every {every} checks, about {weeks} weeks."
        );
    };
    let percent = |share: f64| format!("{}\u{a0}%", show_float(100.0 * share, 0));
    let resemble = if from.autocorrelation > 0.0 {
        format!(
            " and neighbouring checks resemble each other (ρ = {})",
            show_float(from.autocorrelation, 2)
        )
    } else {
        String::new()
    };
    format!(
        "If centre and sigma were known and checks independent, a false alarm would come every {every} checks, about {weeks} weeks. These limits come from {} shifts{resemble}: {} ± {} of such charts signal falsely within {HUNDRED} checks ({} with known limits), one half within {}.",
        from.points,
        percent(honest.within),
        percent(honest.within_standard_error),
        percent(honest.within_if_known),
        show_float(honest.length.median, 0),
    )
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
