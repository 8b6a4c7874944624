//! What a link read off an instrument, held against what a step asks for: its unit is converted exactly or refused, its digits
//! are those of the display or refused. Nothing is kept here: a captured value is what somebody would have typed.

use rust_decimal::Decimal;
use thiserror::Error;

use super::Input;
use crate::quantity::Unit;

/// A captured value as the field of the step takes it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Captured {
    /// In the unit of the step, with the digits that were sent.
    pub typed: String,
    /// What has to be said beside it: that it was converted, that it lies beyond the range.
    pub said: Vec<String>,
}

/// Why a captured value does not go into the field. The words say what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CaptureFault {
    /// The step asks for no number.
    #[error("This step needs nothing that an instrument sends. Enter it by hand.")]
    NoNumber,
    /// No unit came, and none is known of the link.
    #[error(
        "The instrument sends no unit, and its connection names none. Read the display and type it; tell your lead that the unit of the connection is missing."
    )]
    NoUnit,
    /// A word that names no unit.
    #[error(
        "The instrument sends the unit “{sent}”, which is not known here; {wanted} is needed. Set it to {wanted} and read again."
    )]
    UnknownUnit {
        /// As sent.
        sent: String,
        /// Wanted.
        wanted: String,
    },
    /// A unit of something else.
    #[error(
        "The instrument sends {sent}, and this step is in {wanted}: another quantity. Check its mode, and read again."
    )]
    OtherQuantity {
        /// As sent.
        sent: String,
        /// Wanted.
        wanted: String,
    },
    /// A unit that converts to digits without an end, or a display finer than the plan says.
    #[error(
        "The instrument sends {sent}, and the resolution of this plan is {step} {wanted}. Set it to {wanted} with a resolution of {step}, and read again; where it is meant to read finer, a lead changes the plan."
    )]
    NotAStep {
        /// As sent, with its unit.
        sent: String,
        /// One step.
        step: String,
        /// Unit of the step.
        wanted: String,
    },
}

/// Takes a captured value into the unit and the steps of an input.
///
/// The conversion is exact: between metric units the point moves; a value in a unit whose factor leaves more digits than the
/// display of the plan has is refused, since rounding it would add an error of up to half a step that is the link's and not the
/// instrument's. `range` is that of the instrument, in the unit of the display; a value beyond it is taken all the same, since
/// it says the most, and is spoken of.
///
/// # Errors
/// [`CaptureFault`].
pub fn capture(
    input: &Input,
    value: Decimal,
    unit: Option<&str>,
    range: Option<(Decimal, Decimal)>,
) -> Result<Captured, CaptureFault> {
    let (wanted, step) = match input {
        Input::Reading { unit, resolution, .. } => (unit.symbol(), Some(*resolution)),
        Input::Condition { unit, .. } => (unit.as_str(), None),
        _ => return Err(CaptureFault::NoNumber),
    };
    let sent = unit.ok_or(CaptureFault::NoUnit)?;
    let (typed, converted) = if sent == wanted {
        (value, false)
    } else {
        let unknown = || CaptureFault::UnknownUnit { sent: sent.into(), wanted: wanted.into() };
        let from: Unit = sent.parse().map_err(|_| unknown())?;
        let to: Unit = wanted.parse().map_err(|_| unknown())?;
        let other = |_| CaptureFault::OtherQuantity { sent: sent.into(), wanted: wanted.into() };
        (from.try_convert(value, to).map_err(other)?, from != to)
    };
    let as_sent = format!("{value} {sent}");
    let mut typed = typed;
    if let Some(step) = step.filter(|step| *step > Decimal::ZERO) {
        if !(typed % step).is_zero() {
            let step = plain(step);
            return Err(CaptureFault::NotAStep { sent: as_sent, step, wanted: wanted.into() });
        }
        // The point may have moved: the digits are those that this display has.
        if typed.scale() > step.scale() {
            typed.rescale(step.scale());
        }
    }
    let mut said = Vec::new();
    if converted {
        said.push(format!("Converted from {as_sent}."));
    }
    if let Some((low, high)) = range.filter(|(low, high)| typed < *low || typed > *high) {
        said.push(format!(
            "Outside the range of the instrument, {} to {} {wanted}.",
            plain(low),
            plain(high)
        ));
    }
    Ok(Captured { typed: typed.to_string(), said })
}

/// Without trailing zeros.
fn plain(value: Decimal) -> String {
    value.normalize().to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn d(text: &str) -> Decimal {
        text.parse().unwrap()
    }

    fn reading(unit: Unit, resolution: &str) -> Input {
        Input::Reading {
            unit,
            resolution: d(resolution),
            expected: Decimal::ZERO,
            guard: Decimal::ZERO,
            guard_question: String::new(),
            beside: None,
        }
    }

    #[rstest]
    #[case(Unit::Kilogram, "0.001", "20.016", "kg", "20.016")]
    // The point moves, the digits stay.
    #[case(Unit::Kilogram, "0.001", "20016", "g", "20.016")]
    #[case(Unit::Gram, "1", "20.016", "kg", "20016")]
    #[case(Unit::Kilogram, "0.001", "20016.0", "g", "20.016")]
    #[case(Unit::Kilogram, "0.002", "-0.002", "kg", "-0.002")]
    // A trailing zero that was sent is kept.
    #[case(Unit::Millimetre, "0.01", "17.60", "mm", "17.60")]
    #[case(Unit::Millimetre, "0.1", "0.5", "in", "12.7")]
    #[case(Unit::Kilogram, "0.001", "0", "kg", "0")]
    fn what_is_sent_goes_into_the_field(
        #[case] unit: Unit,
        #[case] step: &str,
        #[case] value: &str,
        #[case] sent: &str,
        #[case] typed: &str,
    ) {
        let captured = capture(&reading(unit, step), d(value), Some(sent), None).unwrap();
        assert_eq!(captured.typed, typed);
        assert_eq!(captured.said.is_empty(), sent == unit.symbol(), "{:?}", captured.said);
    }

    #[test]
    fn what_does_not_fit_is_refused_with_what_to_do() {
        let scale = reading(Unit::Kilogram, "0.002");
        let fault = |value: &str, unit: Option<&str>| {
            capture(&scale, d(value), unit, None).unwrap_err().to_string()
        };
        assert!(fault("20", None).contains("sends no unit"));
        assert!(fault("20", Some("stone")).contains("“stone”"));
        assert!(fault("20", Some("mm")).contains("another quantity"));
        // Between two steps, and a pound that leaves digits behind.
        assert!(fault("20.003", Some("kg")).contains("resolution of this plan is 0.002 kg"));
        assert!(fault("1", Some("lb")).contains("1 lb"));
        assert_eq!(capture(&Input::Review, d("1"), Some("kg"), None), Err(CaptureFault::NoNumber));
    }

    #[test]
    fn a_condition_takes_its_unit_and_no_steps() {
        let room = Input::Condition {
            name: "the room".into(),
            unit: "°C".into(),
            lower: None,
            upper: None,
            advice: String::new(),
        };
        assert_eq!(capture(&room, d("21.37"), Some("°C"), None).unwrap().typed, "21.37");
        assert!(capture(&room, d("21.37"), Some("kg"), None).is_err());
        // A unit of the plan's own that the core does not know fits itself and nothing else.
        let own = Input::Condition {
            name: "the flow".into(),
            unit: "l/min".into(),
            lower: None,
            upper: None,
            advice: String::new(),
        };
        assert_eq!(capture(&own, d("3"), Some("l/min"), None).unwrap().typed, "3");
        assert!(capture(&own, d("3"), Some("kg"), None).is_err());
    }

    #[test]
    fn beyond_the_range_is_taken_and_told() {
        let scale = reading(Unit::Kilogram, "0.001");
        let range = Some((d("0"), d("30")));
        let of = |value: &str| capture(&scale, d(value), Some("kg"), range).unwrap().said;
        assert!(of("30").is_empty() && of("0").is_empty());
        assert!(of("30.001")[0].contains("0 to 30 kg"), "{:?}", of("30.001"));
        assert_eq!(of("-0.001").len(), 1);
    }
}
