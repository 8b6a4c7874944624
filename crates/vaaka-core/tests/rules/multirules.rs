//! The laboratory multirules by sequences that can be followed by hand (the rules of Westgard, Barry, Hunt
//! and Groth 1981; from memory), within a level and across levels.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use jiff::{SignedDuration, Timestamp};
use rstest::rstest;
use vaaka_core::chart::{
    ChartDesign, ChartPoint, Criteria, Criterion, Levels, RuleSet, Side, evaluate,
};

const SHIFT: SignedDuration = SignedDuration::from_hours(8);

fn at(index: usize) -> Timestamp {
    Timestamp::from_second(1_760_000_000 + index as i64 * 8 * 3_600).unwrap()
}

/// Place, side and points of the first firing of a rule along values in sigmas.
fn first(rule: Criterion, z: &[f64]) -> Option<(usize, Option<Side>, Vec<u64>)> {
    let design = ChartDesign {
        raising: [rule].into_iter().collect(),
        advisory: Criteria::NONE,
        ..ChartDesign::given(0.0, 1.0)
    };
    let points: Vec<ChartPoint> =
        z.iter().enumerate().map(|(index, z)| ChartPoint::new(at(index), *z)).collect();
    let (_, found) = evaluate(&design, SHIFT, &points);
    found.iter().enumerate().find_map(|(index, one)| {
        one.firings().first().map(|firing| (index, firing.side, firing.points.clone()))
    })
}

use Criterion as C;
use Side::{Above, Below};

#[rstest]
// 1-2s: a warning at the first value strictly beyond two sigma.
#[case(C::WarningBeyond2, &[0.0, 2.0, -2.0, -2.01], Some((3, Some(Below), vec![3])))]
#[case(C::WarningBeyond2, &[1.9, -1.9, 2.0], None)]
// 1-3s.
#[case(C::Beyond3, &[2.9, -3.0, 3.2], Some((2, Some(Above), vec![2])))]
// 2-2s: the same side, one after the other; a value between breaks it, and so does the other side.
#[case(C::TwoInARowBeyond2, &[2.1, 1.0, 2.1, 2.2], Some((3, Some(Above), vec![2, 3])))]
#[case(C::TwoInARowBeyond2, &[2.1, -2.1, 2.1, -2.1], None)]
#[case(C::TwoInARowBeyond2, &[-2.5, -2.5, -2.5], Some((1, Some(Below), vec![0, 1])))]
// 4-1s.
#[case(C::FourInARowBeyond1, &[1.1, 1.2, 1.3, 0.9, 1.1, 1.1, 1.1, 1.1], Some((7, Some(Above), vec![4, 5, 6, 7])))]
#[case(C::FourInARowBeyond1, &[-1.1, -1.1, -1.1, -1.0], None)]
#[case(C::FourInARowBeyond1, &[1.1, 1.1, -1.1, -1.1], None)]
// 10-x: ten on one side; one on the centre belongs to neither.
#[case(C::TenOnASide, &[0.1; 10], Some((9, Some(Above), vec![0, 1, 2, 3, 4, 5, 6, 7, 8, 9])))]
#[case(C::TenOnASide, &[-0.1, -0.1, -0.1, -0.1, -0.1, 0.0, -0.1, -0.1, -0.1, -0.1, -0.1], None)]
fn within_a_level(
    #[case] rule: Criterion,
    #[case] z: &[f64],
    #[case] expected: Option<(usize, Option<Side>, Vec<u64>)>,
) {
    assert_eq!(first(rule, z), expected);
}

/// Levels of one check, and what the rules across them say.
#[rstest]
#[case(&[2.1, 2.2], &[C::TwoLevelsBeyond2])]
#[case(&[-2.1, -2.2, 0.0], &[C::TwoLevelsBeyond2])]
#[case(&[2.1, -2.2], &[C::LevelsFourApart])]
// Four apart means one beyond on each side: 3.5 and -0.6 are four apart in sum and say nothing of that.
#[case(&[2.9, -1.2], &[])]
#[case(&[2.0, -2.0, 1.9], &[])]
#[case(&[3.1, 2.5, -2.5], &[C::Beyond3, C::TwoLevelsBeyond2, C::LevelsFourApart])]
#[case(&[0.1, 0.2, 0.3], &[])]
fn across_levels(#[case] z: &[f64], #[case] expected: &[Criterion]) {
    let levels = Levels::of(z).unwrap();
    let point = ChartPoint { levels: Some(levels), ..ChartPoint::new(at(0), levels.furthest()) };
    let (_, found) = evaluate(&ChartDesign::levels(), SHIFT, &[point]);
    let fired: Vec<Criterion> = found[0].firings().iter().map(|firing| firing.criterion).collect();
    assert_eq!(fired, expected);
    // The order of the levels does not matter.
    let mut turned = z.to_vec();
    turned.reverse();
    assert_eq!(Levels::of(&turned), Some(levels));
}

/// No run rule of one chart is taken over by the chart of all levels: two checks of which each has one
/// level far out are not two in a row.
#[test]
fn checks_do_not_run_into_each_other_across_levels() {
    let of = |index, z: &[f64]| {
        let levels = Levels::of(z).unwrap();
        ChartPoint { levels: Some(levels), ..ChartPoint::new(at(index), levels.furthest()) }
    };
    let mut design = ChartDesign::levels();
    design.raising = RuleSet::Multirules.rules().iter().copied().collect();
    let series: Vec<ChartPoint> = (0..12).map(|index| of(index, &[2.5, 0.1])).collect();
    let (_, found) = evaluate(&design, SHIFT, &series);
    for one in found {
        let fired: Vec<Criterion> = one.firings().iter().map(|firing| firing.criterion).collect();
        assert_eq!(fired, [C::WarningBeyond2]);
    }
}

/// Every rule of a set is a criterion, each once, and a warning is the only one that never raises.
#[test]
fn sets_are_whole() {
    for set in [RuleSet::Zones, RuleSet::Nelson, RuleSet::Multirules] {
        let once: Criteria = set.rules().iter().copied().collect();
        assert_eq!(once.count(), set.rules().len(), "{}", set.words());
    }
    let silent: Vec<Criterion> = C::ALL.into_iter().filter(|rule| !rule.may_raise()).collect();
    assert_eq!(silent, [C::WarningBeyond2]);
}
