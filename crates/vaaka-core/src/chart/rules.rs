//! The two named rule sets, and the two criteria of the default design.
//!
//! *Beyond* is strictly beyond. A point on the centre breaks a side run. In "2 of 3" and
//! "4 of 5" the last point itself is beyond. "Six rising" is six points. A missed check
//! neither counts nor breaks, because it is no point; what resets the window is decided by the
//! fold. Sources: Western Electric 1956 zones; Nelson 1984.

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
///
/// What each rule asks of a point (beyond a zone, rising, …) is kept as a bit a point, the newest
/// lowest, so that a rule is a mask over one small number and a point costs the same whatever the
/// rules. The stored form is the list of values alone.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
#[serde(from = "StoredWindow", into = "StoredWindow")]
pub struct RuleWindow {
    /// The points since the reset, in a ring.
    ring: [(u64, f64); RING],
    /// Points pushed since the reset.
    pushed: usize,
    /// Points above 0, 1, 2 and 3 sigmas.
    above: [u16; 4],
    /// Points below the same.
    below: [u16; 4],
    /// Points within one sigma.
    within: u16,
    /// Points above, and below, the one before.
    rising: u16,
    falling: u16,
}

/// Edges of the zones, in sigmas.
const ZONES: [f64; 4] = [0.0, 1.0, 2.0, 3.0];
const LONGEST: usize = 15;
/// A power of two, so that the place of a point in the ring is a mask.
const RING: usize = 16;

#[derive(Serialize, Deserialize)]
struct StoredWindow {
    values: Vec<(u64, f64)>,
}

impl From<RuleWindow> for StoredWindow {
    fn from(window: RuleWindow) -> Self {
        Self { values: window.values().collect() }
    }
}

impl From<StoredWindow> for RuleWindow {
    fn from(stored: StoredWindow) -> Self {
        let mut window = Self::default();
        for (ordinal, standardised) in stored.values {
            window.push(ordinal, standardised);
        }
        window
    }
}

impl PartialEq for RuleWindow {
    /// Of the points before the last fifteen nothing is left that a rule could see.
    fn eq(&self, other: &Self) -> bool {
        self.values().eq(other.values())
    }
}

/// The lowest `count` bits.
fn newest(count: usize) -> u16 {
    ((1_u32 << count) - 1) as u16
}

impl RuleWindow {
    /// Takes the next standardised value (distance from the centre in sigmas).
    pub fn push(&mut self, ordinal: u64, z: f64) {
        let before = self.ring[self.pushed.wrapping_sub(1) % RING].1;
        self.ring[self.pushed % RING] = (ordinal, z);
        for (zone, edge) in ZONES.into_iter().enumerate() {
            self.above[zone] = self.above[zone] << 1 | u16::from(z > edge);
            self.below[zone] = self.below[zone] << 1 | u16::from(z < -edge);
        }
        self.within = self.within << 1 | u16::from(z.abs() < 1.0);
        let has_before = self.pushed > 0;
        self.rising = self.rising << 1 | u16::from(has_before && z > before);
        self.falling = self.falling << 1 | u16::from(has_before && z < before);
        self.pushed += 1;
    }

    /// Forgets all points: after a gap of more than three intervals, an exclusion, a new segment.
    pub fn reset(&mut self) {
        *self = Self::default();
    }

    /// The last fifteen points since the reset, oldest first.
    fn values(&self) -> impl Iterator<Item = (u64, f64)> + '_ {
        let from = self.pushed.saturating_sub(LONGEST);
        (from..self.pushed).map(|place| self.ring[place % RING])
    }

    /// Whether any rule of the named sets fires at the newest point: for most points none does, and
    /// nothing else has to be asked.
    #[must_use]
    #[inline]
    pub fn is_quiet(&self) -> bool {
        // The newest point and one of the two before it.
        let two_of_three = |bits: u16| bits & 0b001 != 0 && bits & 0b110 != 0;
        // The newest point, and at most one of the five is missing.
        let four_of_five = |bits: u16| {
            let missing = !bits & 0b1_1111;
            bits & 1 == 1 && missing & missing.wrapping_sub(1) == 0
        };
        let all = |bits: u16, count: usize| bits & newest(count) == newest(count);
        let sided = |bits: &[u16; 4]| {
            bits[3] & 1 == 1 || two_of_three(bits[2]) || four_of_five(bits[1]) || all(bits[0], 8)
        };
        !(sided(&self.above)
            || sided(&self.below)
            || all(self.rising, 5)
            || all(self.falling, 5)
            || all(self.turns(), 12)
            || all(self.within, 15)
            || all(self.above[1] | self.below[1], 8))
    }

    /// Points at which a rise follows a fall, or a fall a rise; the first bit is that of the newest.
    fn turns(&self) -> u16 {
        self.rising & self.falling >> 1 | self.falling & self.rising >> 1
    }

    /// What `criterion` says at the newest point. The two criteria of the design itself are not
    /// patterns of this window and give nothing here.
    #[must_use]
    pub fn check(&self, criterion: Criterion) -> Option<Firing> {
        use Criterion as C;
        match criterion {
            C::BeyondLimits | C::Ewma => None,
            C::Beyond3 => self.some_beyond(criterion, 1, 1, 3),
            C::TwoOfThree => self.some_beyond(criterion, 2, 3, 2),
            C::FourOfFive => self.some_beyond(criterion, 4, 5, 1),
            C::EightOnASide => self.some_beyond(criterion, 8, 8, 0),
            C::NineOnASide => self.some_beyond(criterion, 9, 9, 0),
            C::SixTrending => {
                let side = if self.rising & newest(5) == newest(5) {
                    Side::Above
                } else if self.falling & newest(5) == newest(5) {
                    Side::Below
                } else {
                    return None;
                };
                Some(self.firing(criterion, Some(side), newest(6)))
            }
            C::FourteenAlternating => self.each(criterion, self.turns(), 12, 14),
            C::FifteenHugging => self.each(criterion, self.within, 15, 15),
            C::EightAvoiding => self.each(criterion, self.above[1] | self.below[1], 8, 8),
        }
    }

    /// `needed` of the last `out_of` beyond `zone` sigmas on the newest point's side. With fewer than
    /// `out_of` points so far the pattern may already be complete.
    fn some_beyond(
        &self,
        criterion: Criterion,
        needed: u32,
        out_of: usize,
        zone: usize,
    ) -> Option<Firing> {
        let (side, bits) = if self.above[zone] & 1 == 1 {
            (Side::Above, self.above[zone])
        } else if self.below[zone] & 1 == 1 {
            (Side::Below, self.below[zone])
        } else {
            return None;
        };
        let mut bits = bits & newest(out_of);
        if bits.count_ones() < needed {
            return None;
        }
        // Three of three hold two of three: name the newest ones that suffice.
        while bits.count_ones() > needed {
            bits &= !(1 << (15 - bits.leading_zeros()));
        }
        Some(self.firing(criterion, Some(side), bits))
    }

    /// A pattern without a side: `count` bits in a row make it, and `points` points.
    fn each(&self, criterion: Criterion, bits: u16, count: usize, points: usize) -> Option<Firing> {
        let holds = bits & newest(count) == newest(count);
        holds.then(|| self.firing(criterion, None, newest(points)))
    }

    /// A firing made by the points of these bits.
    fn firing(&self, criterion: Criterion, side: Option<Side>, bits: u16) -> Firing {
        let points = (0..RING.min(self.pushed))
            .rev()
            .filter(|back| bits >> back & 1 == 1)
            .map(|back| self.ring[(self.pushed - 1 - back) % RING].0)
            .collect();
        Firing { criterion, side, points }
    }
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

    /// The stored form is the values; read back, it goes on as if nothing had been.
    #[test]
    fn a_stored_window_goes_on() {
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(12);
        let mut window = RuleWindow::default();
        for i in 0..400 {
            if rng.random_range(0..30) == 0 {
                window.reset();
            }
            window.push(i, (rng.random::<f64>() - 0.45) * 4.0);
            let stored = serde_json::to_string(&window).unwrap();
            let read: RuleWindow = serde_json::from_str(&stored).unwrap();
            assert_eq!(read, window, "{stored}");
            for criterion in Criterion::named_sets() {
                assert_eq!(read.check(criterion), window.check(criterion), "{stored}");
            }
            let fires = Criterion::named_sets().into_iter().any(|c| window.check(c).is_some());
            assert_eq!(window.is_quiet(), !fires, "{stored}");
        }
        assert_eq!(
            serde_json::from_str::<RuleWindow>(r#"{"values":[[3,0.5],[4,-0.25]]}"#).unwrap(),
            {
                let mut window = RuleWindow::default();
                window.push(3, 0.5);
                window.push(4, -0.25);
                window
            }
        );
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
                (
                    C::FourteenAlternating,
                    tail(14)
                        .is_some_and(|t| t.windows(3).all(|p| (p[1] - p[0]) * (p[2] - p[1]) < 0.0)),
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
