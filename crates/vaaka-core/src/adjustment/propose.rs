//! Offset, gain or both: the correction, and its effect at every point.

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// What is changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum AdjustmentKind {
    /// The same amount at every level.
    Offset,
    /// A share of the indication: nothing at zero, most at the top.
    Gain,
    /// Both.
    OffsetAndGain,
}

impl AdjustmentKind {
    /// All, the simplest first.
    pub const ALL: [Self; 3] = [Self::Offset, Self::Gain, Self::OffsetAndGain];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Offset => "offset",
            Self::Gain => "gain",
            Self::OffsetAndGain => "offset_and_gain",
        }
    }

    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Offset => "offset: the same amount at every level",
            Self::Gain => "gain: a share of the indication, nothing at zero",
            Self::OffsetAndGain => "offset and gain together",
        }
    }
}

impl std::str::FromStr for AdjustmentKind {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let known = Self::ALL.into_iter().find(|kind| kind.word() == text);
        known.ok_or_else(|| format!("“{text}” is no kind of adjustment"))
    }
}

/// What is added to the indication and by which share it is stretched.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Correction {
    /// Offset, in the unit of errors.
    pub offset: f64,
    /// Gain, as a fraction: 0.001 makes 100 read 100.1.
    pub gain: f64,
}

impl Correction {
    /// What it does to the error of an indication of `indication` (both in the unit of errors).
    #[must_use]
    pub fn at(&self, indication: f64) -> f64 {
        self.offset + self.gain * indication
    }

    /// What undoes a correction that made `factors` of the factory's.
    #[must_use]
    pub fn back_to_factory(factors: Factors) -> Self {
        // I = raw·G + O; raw = (I − O)/G, so I' = I/G − O/G.
        let gain = 1.0 / factors.gain - 1.0;
        Self { offset: -factors.offset / factors.gain, gain }
    }
}

/// The factors that an instrument works with, `I = raw·gain + offset`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Factors {
    /// Gain; 1 as it left the factory.
    pub gain: f64,
    /// Offset; 0 as it left the factory.
    pub offset: f64,
}

impl Factors {
    /// As it left the factory.
    pub const FACTORY: Self = Self { gain: 1.0, offset: 0.0 };

    /// After a correction: `I' = I·(1 + g) + o` with `I = raw·G + O`.
    #[must_use]
    pub fn after(self, correction: Correction) -> Self {
        Self {
            gain: self.gain * (1.0 + correction.gain),
            offset: self.offset * (1.0 + correction.gain) + correction.offset,
        }
    }
}

/// An error of indication as found, with what it is held against; all in the unit of errors.
#[derive(Debug, Clone, PartialEq)]
pub struct ErrorPoint {
    /// Key of the characteristic.
    pub key: String,
    /// Name for people.
    pub label: String,
    /// Reference value.
    pub reference: f64,
    /// Mean error of the check.
    pub error: f64,
    /// Estimated level of the instrument here, which is what a correction moves; the error where no chart knows more.
    pub level: f64,
    /// Lower tolerance limit.
    pub lower: Option<f64>,
    /// Upper tolerance limit.
    pub upper: Option<f64>,
}

impl ErrorPoint {
    fn indication(&self) -> f64 {
        self.reference + self.level
    }

    fn holds(&self, error: f64) -> bool {
        self.lower.is_none_or(|lower| error >= lower)
            && self.upper.is_none_or(|upper| error <= upper)
    }

    /// Share of the tolerance that an error uses; 1 on the limit.
    fn share(&self, error: f64) -> Option<f64> {
        let limit = if error >= 0.0 { self.upper? } else { -self.lower? };
        (limit > 0.0).then(|| error.abs() / limit)
    }
}

/// Why no correction can be worked out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum ProposeError {
    /// No errors of indication at all.
    #[error("The check has no error of indication to correct.")]
    NoPoints,
    /// A gain needs a point away from zero.
    #[error("A gain cannot be found at zero only: choose an offset, or check at a higher level.")]
    OnlyZero,
    /// Offset and gain need two levels.
    #[error("Offset and gain together need two different levels: choose one of them.")]
    OneLevel,
    /// Whatever is corrected pushes a point out that is inside.
    #[error(
        "Neither an offset nor a gain makes the errors smaller without pushing out a point that is inside: leave it alone, and call for service."
    )]
    Spoils,
}

/// The correction of a kind that makes the levels smallest in the sum of squares.
///
/// Offset: −mean(E). Gain: −Σ I·E/Σ I². Both: the straight line of E over I, turned round.
///
/// # Errors
/// [`ProposeError`].
pub fn propose(points: &[ErrorPoint], kind: AdjustmentKind) -> Result<Correction, ProposeError> {
    let n = points.len() as f64;
    if points.is_empty() {
        return Err(ProposeError::NoPoints);
    }
    let mean = |value: &dyn Fn(&ErrorPoint) -> f64| points.iter().map(value).sum::<f64>() / n;
    let mean_error = mean(&|point| point.level);
    match kind {
        AdjustmentKind::Offset => Ok(Correction { offset: -mean_error, gain: 0.0 }),
        AdjustmentKind::Gain => {
            let squares: f64 = points.iter().map(|point| point.indication().powi(2)).sum();
            let products: f64 = points.iter().map(|p| p.indication() * p.level).sum();
            if squares <= 0.0 || points.iter().all(|point| point.reference == 0.0) {
                return Err(ProposeError::OnlyZero);
            }
            Ok(Correction { offset: 0.0, gain: -products / squares })
        }
        AdjustmentKind::OffsetAndGain => {
            let first = points.first().map_or(0.0, |point| point.reference);
            if points.iter().all(|point| point.reference == first) {
                return Err(ProposeError::OneLevel);
            }
            let centre = mean(&ErrorPoint::indication);
            let sxx: f64 = points.iter().map(|p| (p.indication() - centre).powi(2)).sum();
            let sxy: f64 =
                points.iter().map(|p| (p.indication() - centre) * (p.level - mean_error)).sum();
            let slope = sxy / sxx;
            Ok(Correction { offset: -(mean_error - slope * centre), gain: -slope })
        }
    }
}

/// What a correction does at one point.
#[derive(Debug, Clone, PartialEq)]
pub struct Effect {
    /// The point as found.
    pub point: ErrorPoint,
    /// Its level after the correction.
    pub after: f64,
    /// Share of the tolerance used as found.
    pub share_before: Option<f64>,
    /// Share of the tolerance used afterwards.
    pub share_after: Option<f64>,
    /// Inside as found, outside afterwards: the correction spoils this level.
    pub spoils: bool,
    /// Whether it is within tolerance afterwards.
    pub holds_after: bool,
}

/// The effect of a correction at every point, by rising reference.
#[must_use]
pub fn effects(points: &[ErrorPoint], correction: Correction) -> Vec<Effect> {
    let mut found: Vec<Effect> = points
        .iter()
        .map(|point| {
            let after = point.level + correction.at(point.indication());
            Effect {
                after,
                share_before: point.share(point.error),
                share_after: point.share(after),
                spoils: point.holds(point.level) && !point.holds(after),
                holds_after: point.holds(after),
                point: point.clone(),
            }
        })
        .collect();
    found.sort_by(|a, b| a.point.reference.total_cmp(&b.point.reference));
    found
}

/// Which kind of correction fits, and why.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Recommendation {
    /// The kind.
    pub kind: AdjustmentKind,
    /// Its correction.
    pub correction: Correction,
    /// Largest error that is left.
    pub left: f64,
    /// Whether what is left is no more than the noise of the check.
    pub within_noise: bool,
}

/// The simplest correction that leaves no more than `noise` at any point; when none does, the one that leaves least. A
/// gain is never guessed from one level, a zero that is right is left alone where a gain can do (what reads nothing
/// with nothing on it has no offset), and what pushes another point out is never advised.
///
/// # Errors
/// [`ProposeError::NoPoints`]; [`ProposeError::Spoils`] when every correction would push a point out.
pub fn recommend(points: &[ErrorPoint], noise: f64) -> Result<Recommendation, ProposeError> {
    use AdjustmentKind::{Gain, Offset, OffsetAndGain};
    let mut best: Option<Recommendation> = None;
    let levels = {
        let mut references: Vec<f64> = points.iter().map(|point| point.reference).collect();
        references.sort_by(f64::total_cmp);
        references.dedup();
        references.len()
    };
    let at_zero = points.iter().find(|point| point.reference == 0.0);
    let zero_is_right =
        at_zero.is_some_and(|zero| zero.level.abs() <= noise && zero.holds(zero.level));
    let order =
        if zero_is_right { [Gain, OffsetAndGain, Offset] } else { [Offset, Gain, OffsetAndGain] };
    // What leaves more than there is now is no correction.
    let now = points.iter().map(|point| point.level.abs()).fold(0.0, f64::max);
    let mut any = false;
    for kind in order {
        if kind != Offset && levels < 2 {
            continue;
        }
        let correction = match propose(points, kind) {
            Ok(correction) => correction,
            Err(ProposeError::NoPoints) => return Err(ProposeError::NoPoints),
            Err(_) => continue,
        };
        any = true;
        let found = effects(points, correction);
        if found.iter().any(|effect| effect.spoils) {
            continue;
        }
        let left = found.iter().map(|effect| effect.after.abs()).fold(0.0, f64::max);
        let one = Recommendation { kind, correction, left, within_noise: left <= noise };
        if one.within_noise {
            return Ok(one);
        }
        if left < best.map_or(now, |best| best.left) {
            best = Some(one);
        }
    }
    best.ok_or(if any { ProposeError::Spoils } else { ProposeError::NoPoints })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn point(reference: f64, error: f64) -> ErrorPoint {
        ErrorPoint {
            key: format!("error-{reference}"),
            label: format!("Error at {reference}"),
            reference,
            error,
            level: error,
            lower: Some(-2.0),
            upper: Some(2.0),
        }
    }

    /// By hand. Errors 1, 1, 1: offset −1. Errors that are a hundredth of the indication (so 1/99 of
    /// the reference): gain −0.01. Errors on a line 0.5 + 0.01·I: both.
    #[rstest]
    #[case(AdjustmentKind::Offset, &[(0.0, 1.0), (50.0, 1.0), (100.0, 1.0)], -1.0, 0.0)]
    #[case(AdjustmentKind::Gain, &[(0.0, 0.0), (99.0, 1.0), (198.0, 2.0)], 0.0, -0.01)]
    #[case(AdjustmentKind::OffsetAndGain, &[(-0.5, 0.5), (98.5, 1.5), (197.5, 2.5)], -0.5, -0.01)]
    fn corrections_by_hand(
        #[case] kind: AdjustmentKind,
        #[case] errors: &[(f64, f64)],
        #[case] offset: f64,
        #[case] gain: f64,
    ) {
        let points: Vec<ErrorPoint> = errors.iter().map(|(r, e)| point(*r, *e)).collect();
        let found = propose(&points, kind).unwrap();
        assert!(
            (found.offset - offset).abs() < 1e-12 && (found.gain - gain).abs() < 1e-12,
            "{found:?}"
        );
        for effect in effects(&points, found) {
            assert!(effect.after.abs() < 1e-12, "{effect:?}");
        }
        let advised = recommend(&points, 0.01).unwrap();
        assert_eq!((advised.kind, advised.within_noise), (kind, true));
    }

    #[test]
    fn an_offset_that_helps_at_the_top_spoils_the_bottom() {
        let points = [point(0.0, 0.0), point(100.0, 5.0)];
        let found = effects(&points, Correction { offset: -5.0, gain: 0.0 });
        assert!(found[0].spoils && !found[0].holds_after && !found[1].spoils);
        assert_eq!(found[1].share_after, Some(0.0));
        // A gain does not: nothing at zero.
        let gain = propose(&points, AdjustmentKind::Gain).unwrap();
        assert!(effects(&points, gain).iter().all(|effect| !effect.spoils));
        assert_eq!(recommend(&points, 0.1).unwrap().kind, AdjustmentKind::Gain);
    }

    /// A scale that reads 0 with nothing on it and 229.9 g too much at its one load: an offset of −229.9 g was once proposed,
    /// which would have put the zero out. A gain leaves the zero alone.
    #[test]
    fn a_zero_that_is_right_is_left_alone() {
        let zero = ErrorPoint { lower: Some(-50.0), upper: Some(50.0), ..point(0.0, 0.0) };
        let load =
            ErrorPoint { lower: Some(-100.0), upper: Some(100.0), ..point(150_000.0, 229.9) };
        let found = recommend(&[zero.clone(), load.clone()], 20.0).unwrap();
        assert_eq!((found.kind, found.correction.offset), (AdjustmentKind::Gain, 0.0));
        assert!((found.correction.gain + 229.9 / 150_229.9).abs() < 1e-12, "{found:?}");
        // Without a zero nobody knows; an offset is all that one level tells.
        assert_eq!(
            recommend(std::slice::from_ref(&load), 20.0).unwrap().kind,
            AdjustmentKind::Offset
        );
        // The zero is off by as much: an offset.
        let off = ErrorPoint { level: 229.0, error: 229.0, ..zero };
        assert_eq!(recommend(&[off, load], 20.0).unwrap().kind, AdjustmentKind::Offset);
    }

    /// What would push another point out is not advised, and where everything would, that is said.
    #[test]
    fn nothing_is_pushed_out() {
        // A curve, out in the middle: the least squares would raise all of it by 0.4, the middle from 2.6 to 3.0.
        let curve = [point(0.0, -1.9), point(50.0, 2.6), point(100.0, -1.9)];
        assert_eq!(recommend(&curve, 0.1), Err(ProposeError::Spoils));
        // Two out above, one inside at its lower limit: an offset of −1.7 would push it out.
        let above = [point(50.0, 3.5), point(51.0, 3.5), point(49.0, -1.9)];
        let offset = propose(&above, AdjustmentKind::Offset).unwrap();
        assert!(effects(&above, offset).iter().any(|effect| effect.spoils));
        let one = recommend(&above, 0.1).unwrap();
        assert_eq!(one.kind, AdjustmentKind::OffsetAndGain);
        assert!(effects(&above, one.correction).iter().all(|e| !e.spoils), "{one:?}");
    }

    /// The level is corrected, not the error of a check that happened to be far out.
    #[test]
    fn levels_are_corrected() {
        let points = [
            ErrorPoint { level: 1.5, ..point(50.0, 2.8) },
            ErrorPoint { level: 1.5, ..point(99.0, 2.4) },
        ];
        let found = recommend(&points, 0.1).unwrap();
        assert!((found.correction.offset + 1.5).abs() < 1e-12, "{found:?}");
    }

    #[test]
    fn what_cannot_be_worked_out_says_so() {
        assert_eq!(propose(&[], AdjustmentKind::Offset), Err(ProposeError::NoPoints));
        let zero = [point(0.0, 1.0)];
        assert_eq!(propose(&zero, AdjustmentKind::Gain), Err(ProposeError::OnlyZero));
        assert_eq!(propose(&zero, AdjustmentKind::OffsetAndGain), Err(ProposeError::OneLevel));
        assert_eq!(recommend(&zero, 0.1).unwrap().kind, AdjustmentKind::Offset);
        assert_eq!(recommend(&[], 0.1), Err(ProposeError::NoPoints));
    }

    #[test]
    fn a_curve_takes_what_leaves_least() {
        let points = [point(0.0, 0.0), point(50.0, 1.5), point(100.0, 0.0)];
        let found = recommend(&points, 0.1).unwrap();
        assert!(!found.within_noise && found.left < 1.5, "{found:?}");
    }

    #[rstest]
    #[case(Correction { offset: -0.7, gain: 0.002 })]
    #[case(Correction { offset: 3.0, gain: -0.01 })]
    fn back_to_factory_undoes_everything(#[case] correction: Correction) {
        let factors =
            Factors::FACTORY.after(correction).after(Correction { offset: 0.1, gain: 0.001 });
        let back = factors.after(Correction::back_to_factory(factors));
        assert!((back.gain - 1.0).abs() < 1e-12 && back.offset.abs() < 1e-12, "{back:?}");
        // The indication of a raw 100 goes back to 100.
        let indication = 100.0 * factors.gain + factors.offset;
        let undone = indication + Correction::back_to_factory(factors).at(indication);
        assert!((undone - 100.0).abs() < 1e-9);
    }

    #[test]
    fn words_read_back() {
        for kind in AdjustmentKind::ALL {
            assert_eq!(kind.word().parse(), Ok(kind));
        }
    }
}
