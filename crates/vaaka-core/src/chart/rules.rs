//! The two named rule sets, and the two criteria of the default design.
//!
//! *Beyond* is strictly beyond. A point on the centre breaks a side run. In "2 of 3" and
//! "4 of 5" the last point itself is beyond. "Six rising" is six points. A missed check
//! neither counts nor breaks, because it is no point; what resets the window is decided by the
//! fold. Sources: Western Electric 1956 zones; Nelson 1984.

use std::collections::VecDeque;

use serde::{Deserialize, Serialize};

/// The side of the centre line on which a pattern lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// Above the centre.
    Above,
    /// Below the centre.
    Below,
}

impl Side {
    /// "above" or "below".
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Above => "above",
            Self::Below => "below",
        }
    }
}

/// One of the two named sets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RuleSet {
    /// Four zone rules.
    Zones,
    /// The eight of Nelson 1984.
    Nelson,
}

impl RuleSet {
    /// The rules of the set, in their usual order.
    #[must_use]
    pub fn rules(self) -> &'static [Criterion] {
        use Criterion as C;
        match self {
            Self::Zones => &[C::Beyond3, C::TwoOfThree, C::FourOfFive, C::EightOnASide],
            Self::Nelson => &[
                C::Beyond3,
                C::NineOnASide,
                C::SixTrending,
                C::FourteenAlternating,
                C::TwoOfThree,
                C::FourOfFive,
                C::FifteenHugging,
                C::EightAvoiding,
            ],
        }
    }
}

/// What can fire at a point.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Criterion {
    /// Beyond the control limits of the design.
    BeyondLimits,
    /// The drift watcher is beyond its own limits.
    Ewma,
    /// One point beyond 3σ.
    Beyond3,
    /// Two of three beyond 2σ on one side.
    TwoOfThree,
    /// Four of five beyond 1σ on one side.
    FourOfFive,
    /// Eight in a row on one side.
    EightOnASide,
    /// Nine in a row on one side.
    NineOnASide,
    /// Six in a row rising, or six falling.
    SixTrending,
    /// Fourteen in a row alternating up and down.
    FourteenAlternating,
    /// Fifteen in a row within 1σ.
    FifteenHugging,
    /// Eight in a row beyond 1σ, on either side.
    EightAvoiding,
}

impl Criterion {
    /// Every rule of both named sets, each once.
    #[must_use]
    pub fn named_sets() -> Vec<Self> {
        let mut all = RuleSet::Zones.rules().to_vec();
        for rule in RuleSet::Nelson.rules() {
            if !all.contains(rule) {
                all.push(*rule);
            }
        }
        all
    }

    /// True for rules that mean nothing while the resolution sets sigma.
    #[must_use]
    pub fn needs_zones(self) -> bool {
        !matches!(self, Self::BeyondLimits | Self::Ewma)
    }
}

/// A rule that fired at the newest point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Firing {
    /// What fired.
    pub criterion: Criterion,
    /// Side of the centre, where the pattern has one.
    pub side: Option<Side>,
    /// Ordinals (in the stream's segment, from 0) of exactly the points that make the pattern.
    pub points: Vec<u64>,
}

/// The last standardised values without a reset among them; fifteen suffice for every rule.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct RuleWindow {
    values: VecDeque<(u64, f64)>,
}

const LONGEST: usize = 15;

impl RuleWindow {
    /// Takes the next standardised value (distance from the centre in sigmas).
    pub fn push(&mut self, ordinal: u64, standardised: f64) {
        if self.values.len() == LONGEST {
            self.values.pop_front();
        }
        self.values.push_back((ordinal, standardised));
    }

    /// Forgets all points: after a gap of more than three intervals, an exclusion, a new segment.
    pub fn reset(&mut self) {
        self.values.clear();
    }

    /// What `criterion` says at the newest point. The two criteria of the design itself are not
    /// patterns of this window and give nothing here.
    #[must_use]
    pub fn check(&self, criterion: Criterion) -> Option<Firing> {
        use Criterion as C;
        match criterion {
            C::BeyondLimits | C::Ewma => None,
            C::Beyond3 => self.some_beyond(criterion, 1, 1, 3.0),
            C::TwoOfThree => self.some_beyond(criterion, 2, 3, 2.0),
            C::FourOfFive => self.some_beyond(criterion, 4, 5, 1.0),
            C::EightOnASide => self.some_beyond(criterion, 8, 8, 0.0),
            C::NineOnASide => self.some_beyond(criterion, 9, 9, 0.0),
            C::SixTrending => self.trending(6),
            C::FourteenAlternating => self.alternating(14),
            C::FifteenHugging => self.each(criterion, 15, |z| z.abs() < 1.0),
            C::EightAvoiding => self.each(criterion, 8, |z| z.abs() > 1.0),
        }
    }

    fn last(&self, count: usize) -> Option<Vec<(u64, f64)>> {
        let start = self.values.len().checked_sub(count)?;
        Some(self.values.iter().skip(start).copied().collect())
    }

    /// `needed` of the last `out_of` beyond `zone` sigmas on the newest point's side.
    fn some_beyond(
        &self,
        criterion: Criterion,
        needed: usize,
        out_of: usize,
        zone: f64,
    ) -> Option<Firing> {
        let newest = self.values.back()?.1;
        let side = if newest > zone {
            Side::Above
        } else if newest < -zone {
            Side::Below
        } else {
            return None;
        };
        // With fewer than `out_of` points so far the pattern may already be complete.
        let start = self.values.len().saturating_sub(out_of);
        let mut points: Vec<u64> = self
            .values
            .iter()
            .skip(start)
            .filter(|(_, z)| if side == Side::Above { *z > zone } else { *z < -zone })
            .map(|(ordinal, _)| *ordinal)
            .collect();
        if points.len() < needed {
            return None;
        }
        // Three of three hold two of three: name the newest ones that suffice.
        points.drain(..points.len() - needed);
        Some(Firing { criterion, side: Some(side), points })
    }

    fn trending(&self, count: usize) -> Option<Firing> {
        let last = self.last(count)?;
        let rising = last.windows(2).all(|pair| pair[1].1 > pair[0].1);
        let falling = last.windows(2).all(|pair| pair[1].1 < pair[0].1);
        let side = match (rising, falling) {
            (true, _) => Side::Above,
            (_, true) => Side::Below,
            _ => return None,
        };
        Some(Firing {
            criterion: Criterion::SixTrending,
            side: Some(side),
            points: ordinals(&last),
        })
    }

    fn alternating(&self, count: usize) -> Option<Firing> {
        let last = self.last(count)?;
        let steps: Vec<f64> = last.windows(2).map(|pair| pair[1].1 - pair[0].1).collect();
        let turns = steps.windows(2).all(|pair| pair[0] * pair[1] < 0.0);
        turns.then(|| Firing {
            criterion: Criterion::FourteenAlternating,
            side: None,
            points: ordinals(&last),
        })
    }

    fn each(
        &self,
        criterion: Criterion,
        count: usize,
        holds: impl Fn(f64) -> bool,
    ) -> Option<Firing> {
        let last = self.last(count)?;
        last.iter().all(|(_, z)| holds(*z)).then(|| Firing {
            criterion,
            side: None,
            points: ordinals(&last),
        })
    }
}

fn ordinals(points: &[(u64, f64)]) -> Vec<u64> {
    points.iter().map(|(ordinal, _)| *ordinal).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};
    use rstest::rstest;

    /// First firing of a criterion along a sequence, with the points that make it.
    fn first(criterion: Criterion, z: &[f64]) -> Option<(usize, Option<Side>, Vec<u64>)> {
        let mut window = RuleWindow::default();
        z.iter().enumerate().find_map(|(index, value)| {
            window.push(index as u64, *value);
            window.check(criterion).map(|firing| (index, firing.side, firing.points))
        })
    }

    use Criterion as C;
    use Side::{Above, Below};

    // Every sequence can be followed by hand; the number is the index of the first firing.
    #[rstest]
    #[case(C::Beyond3, &[0.0, 3.0, -3.0, 3.01], 3, Some(Above), &[3])]
    #[case(C::Beyond3, &[0.0, -3.5], 1, Some(Below), &[1])]
    #[case(C::TwoOfThree, &[2.5, 0.0, 2.0, 2.1, 0.3, 2.2], 5, Some(Above), &[3, 5])]
    #[case(C::TwoOfThree, &[-2.1, -2.1], 1, Some(Below), &[0, 1])]
    #[case(C::TwoOfThree, &[2.1, -2.1, 2.1], 2, Some(Above), &[0, 2])]
    #[case(C::FourOfFive, &[1.1, 1.2, 0.9, 1.3, 1.4], 4, Some(Above), &[0, 1, 3, 4])]
    #[case(C::FourOfFive, &[-1.1, -1.2, -1.3, 0.0, 0.0, -1.4], 5, None, &[])]
    #[case(C::EightOnASide, &[0.1; 8], 7, Some(Above), &[0, 1, 2, 3, 4, 5, 6, 7])]
    #[case(C::EightOnASide, &[0.1, 0.1, 0.1, 0.1, 0.0, 0.1, 0.1, 0.1, 0.1], 8, None, &[])]
    #[case(C::NineOnASide, &[-0.1; 9], 8, Some(Below), &[0, 1, 2, 3, 4, 5, 6, 7, 8])]
    #[case(C::NineOnASide, &[-0.1; 8], 8, None, &[])]
    #[case(C::SixTrending, &[5.0, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6], 6, Some(Above), &[1, 2, 3, 4, 5, 6])]
    #[case(C::SixTrending, &[0.6, 0.5, 0.4, 0.3, 0.2, 0.1], 5, Some(Below), &[0, 1, 2, 3, 4, 5])]
    #[case(C::SixTrending, &[0.1, 0.2, 0.3, 0.3, 0.4, 0.5, 0.6], 6, None, &[])]
    #[case(C::FourteenAlternating, &[0.0, 1.0, 0.0, 1.0, 0.0, 1.0, 0.0, 1.0, 0.0, 1.0, 0.0, 1.0, 0.0, 1.0], 13, None,
           &[0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13])]
    #[case(C::FifteenHugging, &[0.9, -0.9, 0.1, 0.2, 0.3, 0.4, 0.5, -0.6, 0.7, 0.8, 0.9, 0.0, 0.1, 0.2, 0.3], 14, None,
           &[0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14])]
    #[case(C::EightAvoiding, &[1.1, -1.1, 1.2, -1.2, 1.3, -1.3, 1.4, -1.4], 7, None, &[0, 1, 2, 3, 4, 5, 6, 7])]
    #[case(C::EightAvoiding, &[1.1, -1.1, 1.2, -1.0, 1.3, -1.3, 1.4, -1.4], 7, None, &[])]
    fn first_firing(
        #[case] criterion: Criterion,
        #[case] z: &[f64],
        #[case] index: usize,
        #[case] side: Option<Side>,
        #[case] points: &[u64],
    ) {
        let expected = (!points.is_empty()).then(|| (index, side, points.to_vec()));
        assert_eq!(first(criterion, z), expected);
    }

    #[test]
    fn last_point_itself_must_be_beyond() {
        let mut window = RuleWindow::default();
        for (i, z) in [2.1, 2.1, 0.0].into_iter().enumerate() {
            window.push(i as u64, z);
        }
        assert_eq!(window.check(C::TwoOfThree), None);
    }

    #[test]
    fn a_reset_forgets() {
        let mut window = RuleWindow::default();
        for i in 0..7 {
            window.push(i, 0.5);
        }
        window.reset();
        window.push(7, 0.5);
        assert_eq!(window.check(C::EightOnASide), None);
    }

    /// The ring against a naive scan over the whole history.
    #[test]
    fn ring_agrees_with_a_naive_scan() {
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(11);
        let z: Vec<f64> = (0..3000).map(|_| (rng.random::<f64>() - 0.45) * 5.0).collect();
        let mut window = RuleWindow::default();
        for i in 0..z.len() {
            window.push(i as u64, z[i]);
            let tail = |n: usize| (i + 1 >= n).then(|| &z[i + 1 - n..=i]);
            let run = |n: usize, f: &dyn Fn(f64) -> bool| {
                tail(n).is_some_and(|t| t.iter().all(|v| f(*v)))
            };
            let count = |n: usize, f: &dyn Fn(f64) -> bool| {
                z[(i + 1).saturating_sub(n)..=i].iter().filter(|v| f(**v)).count()
            };
            let both = |f: &dyn Fn(f64) -> bool| f(z[i]) || f(-z[i]);
            let naive = [
                (C::Beyond3, both(&|s| s > 3.0)),
                (
                    C::TwoOfThree,
                    (z[i] > 2.0 && count(3, &|v| v > 2.0) >= 2)
                        || (z[i] < -2.0 && count(3, &|v| v < -2.0) >= 2),
                ),
                (
                    C::FourOfFive,
                    (z[i] > 1.0 && count(5, &|v| v > 1.0) >= 4)
                        || (z[i] < -1.0 && count(5, &|v| v < -1.0) >= 4),
                ),
                (C::EightOnASide, run(8, &|v| v > 0.0) || run(8, &|v| v < 0.0)),
                (C::NineOnASide, run(9, &|v| v > 0.0) || run(9, &|v| v < 0.0)),
                (C::FifteenHugging, run(15, &|v| v.abs() < 1.0)),
                (C::EightAvoiding, run(8, &|v| v.abs() > 1.0)),
                (
                    C::SixTrending,
                    tail(6).is_some_and(|t| {
                        t.windows(2).all(|p| p[1] > p[0]) || t.windows(2).all(|p| p[1] < p[0])
                    }),
                ),
            ];
            for (criterion, expected) in naive {
                assert_eq!(window.check(criterion).is_some(), expected, "{criterion:?} at {i}");
            }
        }
    }

    #[test]
    fn sets_have_four_and_eight_rules() {
        assert_eq!(RuleSet::Zones.rules().len(), 4);
        assert_eq!(RuleSet::Nelson.rules().len(), 8);
        assert_eq!(Criterion::named_sets().len(), 9);
    }
}
