//! "What may I use instead?": instruments whose range, resolution and latest check fit.

use rust_decimal::Decimal;

use super::ServiceState;
use crate::quantity::Unit;
use crate::round::Standing;

/// An instrument as far as the question needs it.
#[derive(Debug, Clone, PartialEq)]
pub struct Equipment {
    /// Tag.
    pub tag: String,
    /// Name.
    pub name: String,
    /// Place of its area along the walk.
    pub walk_order: i32,
    /// Unit of the display.
    pub unit: Unit,
    /// Lower end of the range in which it works.
    pub range_low: Decimal,
    /// Upper end of it.
    pub maximum: Decimal,
    /// Resolution.
    pub resolution: Decimal,
    /// Whether it may be used.
    pub state: ServiceState,
    /// What its latest check says.
    pub standing: Standing,
    /// Scale and material of each set-up in use, where it has such: a check of one curve vouches
    /// for no other.
    pub cells: Vec<(String, String)>,
}

/// How much of the work another instrument can take over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fit {
    /// The whole range.
    Whole,
    /// This part of it, in the unit of the instrument that is replaced.
    Part {
        /// From.
        from: Decimal,
        /// To.
        to: Decimal,
    },
}

/// An instrument that may be used instead.
#[derive(Debug, Clone, PartialEq)]
pub struct Substitute<'a> {
    /// Which.
    pub equipment: &'a Equipment,
    /// For how much.
    pub fit: Fit,
}

/// Instruments that may be used instead of `held`, the best first: those that cover its whole
/// range before those that cover a part, near ones before far ones, finer ones first.
///
/// Fit to be used means in service and, at the latest check, within tolerance; a signal alone
/// bars nothing. Their resolution must be at least as fine, and they must take over half of the range at least.
#[must_use]
pub fn substitutes<'a>(held: &Equipment, all: &'a [Equipment]) -> Vec<Substitute<'a>> {
    let mut found: Vec<(Substitute<'a>, i32, Decimal)> = Vec::new();
    for other in all {
        if other.tag == held.tag || !is_usable(other) || !shares_a_cell(held, other) {
            continue;
        }
        let here = |value: Decimal| other.unit.try_convert(value, held.unit);
        let (Ok(low), Ok(high), Ok(resolution)) =
            (here(other.range_low), here(other.maximum), here(other.resolution))
        else {
            continue;
        };
        if resolution > held.resolution {
            continue;
        }
        let (from, to) = (low.max(held.range_low), high.min(held.maximum));
        if from >= to {
            continue;
        }
        let fit = if from == held.range_low && to == held.maximum {
            Fit::Whole
        } else if (to - from) * Decimal::TWO >= held.maximum - held.range_low {
            Fit::Part { from, to }
        } else {
            // A laboratory balance does a sliver of a roll scale's work and is no help on the floor.
            continue;
        };
        let distance = (other.walk_order - held.walk_order).abs();
        found.push((Substitute { equipment: other, fit }, distance, resolution));
    }
    found.sort_by(|(a, near, fine), (b, other_near, other_fine)| {
        (a.fit != Fit::Whole, near, fine, &a.equipment.tag).cmp(&(
            b.fit != Fit::Whole,
            other_near,
            other_fine,
            &b.equipment.tag,
        ))
    });
    found.into_iter().map(|(substitute, _, _)| substitute).collect()
}

/// Whether one can do what the other does on some scale and material; where the one that is
/// replaced names none, range and resolution decide alone.
fn shares_a_cell(held: &Equipment, other: &Equipment) -> bool {
    held.cells.is_empty() || held.cells.iter().any(|cell| other.cells.contains(cell))
}

fn is_usable(equipment: &Equipment) -> bool {
    equipment.state == ServiceState::InService && equipment.standing.is_usable()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn scale(tag: &str, unit: Unit, maximum: &str, resolution: &str) -> Equipment {
        Equipment {
            tag: tag.into(),
            name: tag.into(),
            walk_order: 1,
            unit,
            range_low: Decimal::ZERO,
            maximum: maximum.parse().unwrap(),
            resolution: resolution.parse().unwrap(),
            state: ServiceState::InService,
            standing: Standing::InControl,
            cells: vec![],
        }
    }

    fn tags(held: &Equipment, all: &[Equipment]) -> Vec<String> {
        substitutes(held, all).into_iter().map(|found| found.equipment.tag.clone()).collect()
    }

    #[test]
    fn the_whole_range_first_then_parts_and_never_coarser() {
        let held = scale("A", Unit::Kilogram, "60", "0.001");
        let far = Equipment { walk_order: 3, ..scale("B", Unit::Kilogram, "100", "0.001") };
        let near = scale("C", Unit::Kilogram, "60", "0.001");
        let small = scale("D", Unit::Gram, "6200", "0.01");
        let coarse = scale("E", Unit::Kilogram, "300", "0.02");
        let length = scale("F", Unit::Millimetre, "150", "0.01");
        let half = scale("G", Unit::Gram, "30000", "0.1");
        let less = scale("H", Unit::Gram, "29999", "0.1");
        let all = [held.clone(), far, near, small, coarse, length, half, less];
        // A tenth of the range is no help, half of it is.
        assert_eq!(tags(&held, &all), ["C", "B", "G"]);
        let part = substitutes(&held, &all).pop().unwrap().fit;
        assert_eq!(part, Fit::Part { from: Decimal::ZERO, to: Decimal::from(30) });
    }

    /// A moisture meter checked for one cloth says nothing of another.
    #[test]
    fn another_material_is_not_offered() {
        let cell = |material: &str| ("%".to_owned(), material.to_owned());
        let meter =
            |tag: &str, cells| Equipment { cells, ..scale(tag, Unit::Percent, "20", "0.01") };
        let held = meter("A", vec![cell("cloth 48 g"), cell("cloth 200 g")]);
        let same = meter("B", vec![cell("cloth 48 g")]);
        let all = [held.clone(), same, meter("C", vec![cell("grain")]), meter("D", vec![])];
        assert_eq!(tags(&held, &all), ["B"]);
    }

    #[test]
    fn what_may_not_be_used_is_not_offered() {
        let held = scale("A", Unit::Gram, "100", "0.1");
        let mut other = scale("B", Unit::Gram, "200", "0.1");
        assert_eq!(tags(&held, std::slice::from_ref(&other)), ["B"]);
        for state in [ServiceState::Restricted, ServiceState::OnHold, ServiceState::Out] {
            other.state = state;
            assert!(tags(&held, std::slice::from_ref(&other)).is_empty(), "{state:?}");
        }
        other.state = ServiceState::InService;
        for standing in
            [Standing::OutOfTolerance, Standing::OnHold, Standing::Doubtful, Standing::NeverChecked]
        {
            other.standing = standing;
            assert!(tags(&held, std::slice::from_ref(&other)).is_empty(), "{standing:?}");
        }
        other.standing = Standing::SignalAbove;
        assert_eq!(tags(&held, std::slice::from_ref(&other)), ["B"], "a signal bars nothing");
    }
}
