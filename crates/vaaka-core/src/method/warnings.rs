//! What a lead should hear about a plan before it goes live. Warnings stop nothing.

use rust_decimal::Decimal;
use thiserror::Error;

use super::{Input, Method, MethodError, PlanSpec, Travel};
use crate::judgement::{ContributionSource, DecisionRule, FEWEST_READINGS};
use crate::quantity::{Unit, show_decimal, to_f64};
use crate::standard::combine;

/// A warning about a plan; its words say what is lost.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PlanWarning {
    /// Work below the lowest point.
    #[error(
        "The work begins at {work} {unit}, and the lowest point is {point} {unit}: below it nothing is proven. Add a point at or below {work} {unit}."
    )]
    BelowLowest {
        /// Lowest work.
        work: String,
        /// Lowest point.
        point: String,
        /// Unit.
        unit: Unit,
    },
    /// Work above the highest point.
    #[error(
        "The work goes up to {work} {unit}, and the highest point is {point} {unit}: above it nothing is proven. Add a point at or above {work} {unit}."
    )]
    AboveHighest {
        /// Highest work.
        work: String,
        /// Highest point.
        point: String,
        /// Unit.
        unit: Unit,
    },
    /// A point that is read once.
    #[error(
        "{value} {unit} is read once: one bad reading cannot be told from an error of the instrument."
    )]
    ReadOnce {
        /// Its value.
        value: String,
        /// Unit.
        unit: Unit,
    },
    /// Falling without rising.
    #[error("{value} {unit} is read falling, but not rising: hysteresis cannot be told from it.")]
    NotRising {
        /// Its value.
        value: String,
        /// Unit.
        unit: Unit,
    },
    /// Falling, and the load before it cannot become this one by taking pieces off.
    #[error(
        "{value} {unit} is read coming down, but its pieces are not among those of the load before it: the pan is emptied in between, and the reading is none of a falling load. Choose pieces that stay on."
    )]
    NotComingDown {
        /// Its value.
        value: String,
        /// Unit.
        unit: Unit,
    },
    /// A curve cannot be seen on two values.
    #[error(
        "Only two different values are read: a bend between them is not seen. Straight-line instruments want a middle, curved ones need it."
    )]
    NoMiddle,
    /// A limit that the display cannot show.
    #[error(
        "At {value} {unit} the limit is ±{limit} {unit}, and the display moves in steps of {step} {unit}: it can hardly tell inside from outside."
    )]
    CoarseDisplay {
        /// Its value.
        value: String,
        /// The limit.
        limit: String,
        /// One step.
        step: String,
        /// Unit.
        unit: Unit,
    },
    /// A standard that is hardly better than the limit.
    #[error(
        "At {value} {unit} the standard's uncertainty (k = 2) takes {percent} % of the limit; a third at most is usual."
    )]
    WeakStandard {
        /// Its value.
        value: String,
        /// Unit.
        unit: Unit,
        /// U over the limit, per cent.
        percent: String,
    },
    /// A rule that needs the scatter of readings, and nothing that states it.
    #[error(
        "The decision rule needs the scatter of the readings. Until limits are frozen from a baseline nothing states it: every check is “not proven” and not accepted. State the repeatability among the parts of the uncertainty."
    )]
    ScatterUnknown,
    /// Nothing is charted.
    #[error("No point is charted: drift will be seen only when the instrument fails.")]
    NothingCharted,
}

fn show(value: Decimal) -> String {
    show_decimal(value.normalize(), value.normalize().scale())
}

/// Looks at a plan with the eyes of somebody who has seen many. `work` is the range in which the
/// instrument is used.
///
/// # Errors
/// [`MethodError`] when the plan's settings do not fit the method.
pub fn plan_warnings(
    method: &dyn Method,
    plan: &PlanSpec,
    work: (Decimal, Decimal),
) -> Result<Vec<PlanWarning>, MethodError> {
    let mut found = bracketing(plan, work);
    for (index, point) in plan.points.iter().enumerate() {
        if point.travel == Travel::Falling && method.has_places() && !plan.comes_down(index) {
            let value = show(point.nominal);
            found.push(PlanWarning::NotComingDown { value, unit: plan.unit });
        }
        let value = show(point.nominal);
        if point.repeats < 2 && point.charted {
            found.push(PlanWarning::ReadOnce { value: value.clone(), unit: plan.unit });
        }
        let rising = |other: &super::PlanPoint| {
            other.travel == Travel::Rising && other.nominal == point.nominal
        };
        if point.travel == Travel::Falling && !plan.points.iter().any(rising) {
            found.push(PlanWarning::NotRising { value, unit: plan.unit });
        }
    }
    let mut values: Vec<Decimal> = plan.points.iter().map(|point| point.nominal).collect();
    values.sort();
    values.dedup();
    if values.len() == 2 {
        found.push(PlanWarning::NoMiddle);
    }
    if !plan.points.is_empty() && !plan.points.iter().any(|point| point.charted) {
        found.push(PlanWarning::NothingCharted);
    }
    let states = |source| plan.additions.iter().any(|part| part.source == source);
    if plan.decision.rule != DecisionRule::SimpleAcceptance
        && !states(ContributionSource::Repeatability)
        && plan.points.iter().any(|point| point.repeats < FEWEST_READINGS)
    {
        found.push(PlanWarning::ScatterUnknown);
    }
    found.extend(against_limits(method, plan)?);
    Ok(found)
}

fn bracketing(plan: &PlanSpec, (low, high): (Decimal, Decimal)) -> Vec<PlanWarning> {
    let mut found = Vec::new();
    let values = || plan.points.iter().map(|point| point.nominal);
    let unit = plan.unit;
    // An instrument that is read empty first has its zero as a point.
    let lowest = values().min();
    if let Some(point) = lowest.filter(|point| *point > low && !low.is_zero()) {
        found.push(PlanWarning::BelowLowest { work: show(low), point: show(point), unit });
    }
    if let Some(point) = values().max().filter(|point| *point < high) {
        found.push(PlanWarning::AboveHighest { work: show(high), point: show(point), unit });
    }
    found
}

fn against_limits(method: &dyn Method, plan: &PlanSpec) -> Result<Vec<PlanWarning>, MethodError> {
    let mut found: Vec<PlanWarning> = Vec::new();
    let steps = method.way(plan)?;
    for point in &plan.points {
        let reference = combine(&point.pieces, plan.unit)?;
        let limit = steps
            .iter()
            .filter(|step| matches!(&step.input, Input::Reading { expected, .. } if *expected == point.nominal))
            .find_map(|step| step.tolerance?.upper.or(step.tolerance?.lower.map(|lower| -lower)));
        let Some(limit) = limit.filter(|limit| *limit > Decimal::ZERO) else { continue };
        let (value, unit) = (show(point.nominal), plan.unit);
        let mut push = |warning: PlanWarning| {
            if !found.contains(&warning) {
                found.push(warning);
            }
        };
        if limit < plan.resolution {
            let (limit, step) = (show(limit), show(plan.resolution));
            push(PlanWarning::CoarseDisplay { value: value.clone(), limit, step, unit });
        }
        let share = 200.0 * reference.standard_uncertainty() / to_f64(limit);
        // A third, with a hair for the rounding of certificates.
        if share > 34.0 {
            push(PlanWarning::WeakStandard { value, unit, percent: format!("{share:.0}") });
        }
    }
    Ok(found)
}
