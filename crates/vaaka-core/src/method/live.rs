//! What is computed so far, to be seen while measuring: numbers, and drawings as typed parts. The same drawings stand on
//! the verdict, the record and its print.

use rust_decimal::Decimal;

use crate::judgement::{Characteristic, CharacteristicKind};
use crate::quantity::{show_signed_float, to_f64};

/// What is computed so far.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Live {
    /// Numbers, each with its name.
    pub facts: Vec<Fact>,
    /// Drawings.
    pub pictures: Vec<Picture>,
}

/// A number with its name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fact {
    /// What it is.
    pub name: String,
    /// The number with its unit.
    pub value: String,
    /// Whether it lies within its limits; none where it has none.
    pub inside: Option<bool>,
}

/// A drawing; a closed set, so that no page knows a family.
#[derive(Debug, Clone, PartialEq)]
pub enum Picture {
    /// Curves over an axis.
    Plot(Plot),
    /// One bar a thing, each with its own limits.
    Bars(Bars),
    /// Curves in the complex plane of reflections.
    Plane(Plane),
}

/// An axis of a plot.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlotAxis {
    /// What it is.
    pub name: String,
    /// Symbol of its unit; empty for a plain number.
    pub unit: String,
}

/// How a curve is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CurveKind {
    /// The curve of now.
    Line,
    /// One of before, behind it.
    Before,
    /// What was fitted.
    Fit,
    /// Single points.
    Points,
}

/// A curve.
#[derive(Debug, Clone, PartialEq)]
pub struct Curve {
    /// What it is called.
    pub name: String,
    /// How it is drawn.
    pub kind: CurveKind,
    /// Its points, by rising x.
    pub points: Vec<(f64, f64)>,
}

/// A place on the axis that matters.
#[derive(Debug, Clone, PartialEq)]
pub struct PlotMark {
    /// Where it belongs.
    pub x: f64,
    /// How far to either side it may be.
    pub half_width: f64,
    /// What it is called.
    pub name: String,
    /// Where it was found, and how high.
    pub found: Option<(f64, f64)>,
}

/// Curves over an axis.
#[derive(Debug, Clone, PartialEq)]
pub struct Plot {
    /// Heading.
    pub title: String,
    /// What it shows, for those who do not see it.
    pub description: String,
    /// The axis.
    pub x: PlotAxis,
    /// What stands over it.
    pub y: PlotAxis,
    /// The curves, back to front.
    pub curves: Vec<Curve>,
    /// Places that matter.
    pub marks: Vec<PlotMark>,
}

/// A curve in the complex plane: real and imaginary part, and where on the axis that is.
#[derive(Debug, Clone, PartialEq)]
pub struct PlaneCurve {
    /// What it is called.
    pub name: String,
    /// How it is drawn.
    pub kind: CurveKind,
    /// Its points, in the order of the axis.
    pub points: Vec<(f64, f64, f64)>,
}

/// A place in the complex plane that matters.
#[derive(Debug, Clone, PartialEq)]
pub struct PlaneMark {
    /// Where it belongs.
    pub at: (f64, f64),
    /// How far off it may be.
    pub radius: f64,
    /// What it is called.
    pub name: String,
    /// Where it was found.
    pub found: Option<(f64, f64)>,
}

/// Curves in the complex plane of reflections.
#[derive(Debug, Clone, PartialEq)]
pub struct Plane {
    /// Heading.
    pub title: String,
    /// What it shows, for those who do not see it.
    pub description: String,
    /// Reference impedance, Ω.
    pub impedance: f64,
    /// What runs along a curve: its name and the symbol of its unit.
    pub axis: (String, String),
    /// The curves, back to front.
    pub curves: Vec<PlaneCurve>,
    /// Places that matter.
    pub marks: Vec<PlaneMark>,
}

/// A bar.
#[derive(Debug, Clone, PartialEq)]
pub struct Bar {
    /// What it is of.
    pub name: String,
    /// Its value.
    pub value: f64,
    /// Its value in words, with its unit.
    pub words: String,
    /// Lower limit.
    pub lower: Option<f64>,
    /// Upper limit.
    pub upper: Option<f64>,
    /// Whether it lies within its limits, decided without rounding; none where it has none.
    pub inside: Option<bool>,
    /// Single values behind it.
    pub singles: Vec<f64>,
}

/// Bars of one unit.
#[derive(Debug, Clone, PartialEq)]
pub struct Bars {
    /// Heading.
    pub title: String,
    /// What it shows, for those who do not see it.
    pub description: String,
    /// Symbol of the unit.
    pub unit: String,
    /// The bars, in their order.
    pub bars: Vec<Bar>,
}

/// The errors of a run as bars with their limits; nothing where there are none.
#[must_use]
pub fn bars_of(found: &[Characteristic]) -> Option<Picture> {
    let errors: Vec<&Characteristic> =
        found.iter().filter(|one| one.kind == CharacteristicKind::Error).collect();
    let unit = errors.first()?.unit;
    let bars: Vec<Bar> = errors
        .into_iter()
        .filter(|one| one.unit == unit)
        .map(|one| {
            let side = |of: fn(&crate::judgement::ToleranceLimits) -> Option<Decimal>| {
                one.limits.as_ref().and_then(of).map(to_f64)
            };
            Bar {
                name: one.label.strip_prefix("Error at ").unwrap_or(&one.label).to_owned(),
                value: one.value(),
                words: format!("{} {unit}", show_signed_float(one.value(), one.mean_decimals())),
                lower: side(|limits| limits.lower),
                upper: side(|limits| limits.upper),
                inside: one.limits.map(|limits| match one.mean {
                    Some(mean) => limits.hold_mean(mean, 1),
                    None => limits.hold_mean(one.sum(), one.n()),
                }),
                singles: one.singles.iter().map(|single| to_f64(*single)).collect(),
            }
        })
        .collect();
    let lines: Vec<String> = bars
        .iter()
        .map(|bar| {
            let state = match bar.inside {
                Some(true) => ", within its limits",
                Some(false) => ", outside its limits",
                None => "",
            };
            format!("{}: {}{state}", bar.name, bar.words)
        })
        .collect();
    Some(Picture::Bars(Bars {
        title: format!("Errors so far, in {unit}"),
        description: format!("{}.", lines.join("; ")),
        unit: unit.symbol().to_owned(),
        bars,
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_drawn_of_nothing() {
        assert_eq!(bars_of(&[]), None);
        assert_eq!(Live::default().pictures.len(), 0);
    }
}
