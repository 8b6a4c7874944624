//! What changed since the last check of the same kind.

use super::{Characteristic, ConformityResult, Contribution, ContributionSource, Coverage};

/// One characteristic beside its last value.
#[derive(Debug, Clone, PartialEq)]
pub struct Compared {
    /// Key of the characteristic.
    pub key: String,
    /// Value of the last check.
    pub before: f64,
    /// Value of this one.
    pub after: f64,
    /// What two checks of an unchanged instrument differ by at most, as a rule: k·√(2σ² + …) with the sigma from check
    /// to check; where the standard's values are others than last time, its uncertainty is in it as well, both times.
    /// None before that sigma is known: nobody knows then how much is usual.
    pub usual: Option<f64>,
    /// Whether the difference is more than that.
    pub is_beyond: bool,
}

/// Compares the characteristics that both checks have. The reference drops out of a difference when
/// both rest on the same certified values.
#[must_use]
pub fn compare(
    before: &[(Characteristic, ConformityResult)],
    after: &[(Characteristic, ConformityResult)],
) -> Vec<Compared> {
    after
        .iter()
        .filter_map(|(now, result)| {
            let (then, earlier) = before.iter().find(|(then, _)| then.key == now.key)?;
            if then.unit != now.unit {
                return None;
            }
            let same = then.reference_value == now.reference_value;
            let sigma = |result: &ConformityResult| {
                let parts = &result.budget.contributions;
                let between =
                    |part: &&Contribution| part.source == ContributionSource::BetweenChecks;
                parts.iter().find(between).map(|part| part.standard_uncertainty)
            };
            let reference = |of: &Characteristic| {
                if same { 0.0 } else { of.reference_standard_uncertainty() }
            };
            let usual = sigma(result).zip(sigma(earlier)).map(|(later, before)| {
                let checks = later.hypot(before);
                let references = reference(now).hypot(reference(then));
                Coverage::default().normal_factor() * checks.hypot(references)
            });
            let (before, after) = (then.value(), now.value());
            Some(Compared {
                key: now.key.clone(),
                before,
                after,
                usual,
                is_beyond: usual.is_some_and(|usual| (after - before).abs() > usual),
            })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judgement::{CharacteristicKind, Surroundings, ToleranceLimits, judge_conformity};
    use crate::quantity::Unit;
    use rust_decimal::Decimal;

    fn result(value: &str, reference: i64) -> (Characteristic, ConformityResult) {
        let characteristic = Characteristic {
            key: "error-10-rising".into(),
            label: "Error at 10 kg".into(),
            kind: CharacteristicKind::Error,
            nominal: None,
            unit: Unit::Gram,
            decimals: 1,
            singles: vec![value.parse().unwrap()],
            mean: None,
            reference_value: Some(Decimal::from(reference)),
            limits: Some(ToleranceLimits::symmetric(Decimal::TEN)),
            single_limits: None,
            contributions: vec![
                Contribution::known(ContributionSource::Certificate, 4.0),
                Contribution::known(ContributionSource::BetweenChecks, 3.0),
            ],
            indicative: false,
            charted: true,
            scatter_weight: 1.0,
            rests_on: vec![],
        };
        let judged = judge_conformity(&characteristic, &Surroundings::default());
        (characteristic, judged)
    }

    /// 2·3·√2 = 8.485 on the same certified value; 2·5·√2 = 14.142 on another.
    #[test]
    fn the_reference_drops_out_of_a_difference() {
        let same = compare(&[result("0", 10)], &[result("8.5", 10)]);
        assert!((same[0].usual.unwrap() - 8.485).abs() < 0.001 && same[0].is_beyond, "{same:?}");
        let other = compare(&[result("0", 10)], &[result("8.5", 11)]);
        assert!(
            (other[0].usual.unwrap() - 14.142).abs() < 0.001 && !other[0].is_beyond,
            "{other:?}"
        );
    }

    /// A single reading without a baseline: only its rounding is known, and a change of two steps
    /// says nothing.
    #[test]
    fn how_much_is_usual_may_be_unknown() {
        let mut pair = [result("0", 10), result("20", 10)];
        for (characteristic, judged) in &mut pair {
            characteristic.contributions[1].source = ContributionSource::Resolution;
            *judged = judge_conformity(characteristic, &Surroundings::default());
        }
        let found = compare(&pair[..1], &pair[1..]);
        assert_eq!((found[0].usual, found[0].is_beyond), (None, false));
    }

    #[test]
    fn what_only_one_check_has_is_not_compared() {
        let mut other = result("1", 10);
        other.0.key = "error-20-rising".into();
        assert!(compare(&[other], &[result("1", 10)]).is_empty());
    }
}
