//! The named rule sets, and the criteria of a design itself.
//!
//! *Beyond* is strictly beyond. A point on the centre breaks a side run. In "2 of 3" and
//! "4 of 5" the last point itself is beyond. "Six rising" is six points. A missed check
//! neither counts nor breaks, because it is no point; what resets the window is decided by the
//! fold. Sources: Western Electric 1956 zones; Nelson 1984; the laboratory multirules of Westgard, Barry, Hunt
//! and Groth 1981 (from memory).

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

/// One of the named sets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RuleSet {
    /// Four zone rules.
    Zones,
    /// The eight of Nelson 1984.
    Nelson,
    /// The laboratory multirules.
    Multirules,
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
            Self::Multirules => &[
                C::WarningBeyond2,
                C::Beyond3,
                C::TwoInARowBeyond2,
                C::TwoLevelsBeyond2,
                C::LevelsFourApart,
                C::FourInARowBeyond1,
                C::TenOnASide,
            ],
        }
    }

    /// Its name.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Zones => "four zone rules",
            Self::Nelson => "eight rules of Nelson 1984",
            Self::Multirules => "laboratory multirules",
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
    /// The cumulative sum is beyond its decision interval.
    Cusum,
    /// The spread within the check is beyond its limits.
    Spread,
    /// One point beyond 2σ: a warning, never a signal.
    WarningBeyond2,
    /// Two in a row beyond 2σ on one side.
    TwoInARowBeyond2,
    /// Four in a row beyond 1σ on one side.
    FourInARowBeyond1,
    /// Ten in a row on one side.
    TenOnASide,
    /// Two levels of one check beyond 2σ on one side.
    TwoLevelsBeyond2,
    /// Within one check one level above +2σ and another below −2σ.
    LevelsFourApart,
}

impl Criterion {
    /// Every criterion, in the order of their bits in [`Criteria`].
    pub const ALL: [Self; 19] = [
        Self::BeyondLimits,
        Self::Ewma,
        Self::Beyond3,
        Self::TwoOfThree,
        Self::FourOfFive,
        Self::EightOnASide,
        Self::NineOnASide,
        Self::SixTrending,
        Self::FourteenAlternating,
        Self::FifteenHugging,
        Self::EightAvoiding,
        Self::Cusum,
        Self::Spread,
        Self::WarningBeyond2,
        Self::TwoInARowBeyond2,
        Self::FourInARowBeyond1,
        Self::TenOnASide,
        Self::TwoLevelsBeyond2,
        Self::LevelsFourApart,
    ];

    /// The word that stands for it in the store and on the command line.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::BeyondLimits => "beyond_limits",
            Self::Ewma => "ewma",
            Self::Beyond3 => "beyond3",
            Self::TwoOfThree => "two_of_three",
            Self::FourOfFive => "four_of_five",
            Self::EightOnASide => "eight_on_a_side",
            Self::NineOnASide => "nine_on_a_side",
            Self::SixTrending => "six_trending",
            Self::FourteenAlternating => "fourteen_alternating",
            Self::FifteenHugging => "fifteen_hugging",
            Self::EightAvoiding => "eight_avoiding",
            Self::Cusum => "cusum",
            Self::Spread => "spread",
            Self::WarningBeyond2 => "warning_beyond2",
            Self::TwoInARowBeyond2 => "two_in_a_row_beyond2",
            Self::FourInARowBeyond1 => "four_in_a_row_beyond1",
            Self::TenOnASide => "ten_on_a_side",
            Self::TwoLevelsBeyond2 => "two_levels_beyond2",
            Self::LevelsFourApart => "levels_four_apart",
        }
    }

    /// Its bit in [`Criteria`].
    const fn bit(self) -> u32 {
        1 << self as u32
    }

    /// True for the two rules that look at all levels of one check together.
    #[must_use]
    pub fn across_levels(self) -> bool {
        matches!(self, Self::TwoLevelsBeyond2 | Self::LevelsFourApart)
    }

    /// Whether it may raise a signal; a warning never does.
    #[must_use]
    pub fn may_raise(self) -> bool {
        self != Self::WarningBeyond2
    }

    /// Every rule of the zone rules and of Nelson's, each once: what is advisory by default.
    #[must_use]
    pub fn named_sets() -> Criteria {
        RuleSet::Zones.rules().iter().chain(RuleSet::Nelson.rules()).copied().collect()
    }

    /// True for rules that mean nothing while the resolution sets sigma.
    #[must_use]
    pub fn needs_zones(self) -> bool {
        !matches!(self, Self::BeyondLimits | Self::Ewma | Self::Cusum | Self::Spread)
    }
}

/// A set of criteria. The stored form is their list.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "Vec<Criterion>", into = "Vec<Criterion>")]
pub struct Criteria(u32);

impl Criteria {
    /// None at all.
    pub const NONE: Self = Self(0);
    /// Those that need zones.
    const ZONED: Self = Self(
        !(Criterion::BeyondLimits.bit()
            | Criterion::Ewma.bit()
            | Criterion::Cusum.bit()
            | Criterion::Spread.bit()),
    );

    /// Whether it holds a criterion.
    #[must_use]
    pub const fn has(self, criterion: Criterion) -> bool {
        self.0 & criterion.bit() != 0
    }

    /// Whether it is empty.
    #[must_use]
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// What is in both.
    #[must_use]
    pub const fn both(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// What is in either.
    #[must_use]
    pub const fn or(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// What is in this and not in the other.
    #[must_use]
    pub const fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// What means something while the resolution sets sigma.
    #[must_use]
    pub const fn without_zones(self) -> Self {
        self.without(Self::ZONED)
    }

    /// Adds one.
    #[must_use]
    pub const fn with(self, criterion: Criterion) -> Self {
        Self(self.0 | criterion.bit())
    }

    /// How many it holds.
    #[must_use]
    pub fn count(self) -> usize {
        self.0.count_ones() as usize
    }

    /// Its members, in the order of [`Criterion::ALL`].
    pub fn iter(self) -> impl Iterator<Item = Criterion> {
        let mut left = self.0;
        std::iter::from_fn(move || {
            let next = Criterion::ALL.get(left.trailing_zeros() as usize)?;
            left &= left - 1;
            Some(*next)
        })
    }

    fn put(&mut self, criterion: Criterion, holds: bool) {
        self.0 |= u32::from(holds) << criterion as u32;
    }
}

impl FromIterator<Criterion> for Criteria {
    fn from_iter<T: IntoIterator<Item = Criterion>>(criteria: T) -> Self {
        criteria.into_iter().fold(Self::NONE, Self::with)
    }
}

impl From<Vec<Criterion>> for Criteria {
    fn from(criteria: Vec<Criterion>) -> Self {
        criteria.into_iter().collect()
    }
}

impl From<Criteria> for Vec<Criterion> {
    fn from(criteria: Criteria) -> Self {
        criteria.iter().collect()
    }
}

/// The extreme standardised values of the levels of one check, for the rules that look across levels.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Levels {
    /// The two highest, highest first.
    pub highest: [f64; 2],
    /// The two lowest, lowest first.
    pub lowest: [f64; 2],
}

impl Levels {
    /// Of these standardised values; none for fewer than two.
    #[must_use]
    pub fn of(z: &[f64]) -> Option<Self> {
        let mut sorted = z.to_vec();
        sorted.sort_by(f64::total_cmp);
        match sorted.as_slice() {
            [lowest, next, ..] => {
                let n = sorted.len();
                Some(Self { highest: [sorted[n - 1], sorted[n - 2]], lowest: [*lowest, *next] })
            }
            _ => None,
        }
    }

    /// The value that is furthest from the centre: what the chart of the levels shows.
    #[must_use]
    pub fn furthest(&self) -> f64 {
        if self.highest[0] >= -self.lowest[0] { self.highest[0] } else { self.lowest[0] }
    }

    /// Whether two are beyond 2σ on one side, and which.
    #[must_use]
    pub fn two_beyond(&self) -> Option<Side> {
        if self.highest[1] > 2.0 {
            Some(Side::Above)
        } else if self.lowest[1] < -2.0 {
            Some(Side::Below)
        } else {
            None
        }
    }

    /// Whether one is above +2σ and another below −2σ.
    #[must_use]
    pub fn four_apart(&self) -> bool {
        self.highest[0] > 2.0 && self.lowest[0] < -2.0
    }
}

/// A rule that fired at the newest point.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Firing {
    /// What fired.
    pub criterion: Criterion,
    /// Side of the centre, where the pattern has one.
    pub side: Option<Side>,
    /// Ordinals (in the stream's segment, from 0) of exactly the points that make the pattern.
    pub points: Vec<u64>,
    /// The shift that it suggests, in sigmas with its sign: the mean of its points, or what the slow
    /// average or the cumulative sum says of itself; none for patterns without a side.
    #[serde(default)]
    pub shift: Option<f64>,
}

/// The last standardised values without a reset among them; fifteen suffice for every rule.
///
/// What the rules ask is kept as a bit a point, so that a point costs the same whatever the rules. Which
/// points make a pattern is looked up in the ring when one fires. The stored form is the list of values alone.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
#[serde(from = "StoredWindow", into = "StoredWindow")]
pub struct RuleWindow {
    /// The points since the reset, in a ring.
    ring: [(u64, f64); RING],
    /// Points pushed since the reset.
    pushed: usize,
    runs: Runs,
}

/// What is so of the last points, a bit a point, the newest lowest.
#[derive(Debug, Clone, Copy, Default)]
struct Runs {
    /// The newest value.
    z: f64,
    /// Above the centre, one and two sigmas.
    above: [u32; 3],
    /// Below them.
    below: [u32; 3],
    /// Above, below the one before.
    rising: u32,
    falling: u32,
    /// Within one sigma.
    within: u32,
}

pub(super) const LONGEST: usize = 15;
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

/// Whether the newest `count` points are all set.
#[inline]
fn in_a_row(bits: u32, count: u32) -> bool {
    let all = (1 << count) - 1;
    bits & all == all
}

/// Whether the newest point is set, and at least three of the four before it.
#[inline]
fn four_of_five(bits: u32) -> bool {
    let (pair, other) = (bits >> 1 & bits >> 2, bits >> 3 & bits >> 4);
    let (either, or_other) = (bits >> 1 | bits >> 2, bits >> 3 | bits >> 4);
    bits & (pair & or_other | other & either) & 1 != 0
}

impl Runs {
    /// After another value; `has_before` says whether there is one before it. Without branches: whether a
    /// value lies above the centre is a coin's toss, and a processor that guesses wrong waits longer than
    /// all the rules take together.
    #[inline]
    fn after(&self, z: f64, has_before: bool) -> Self {
        let next = |bits: u32, holds: bool| bits << 1 | u32::from(holds);
        Self {
            z,
            above: [
                next(self.above[0], z > 0.0),
                next(self.above[1], z > 1.0),
                next(self.above[2], z > 2.0),
            ],
            below: [
                next(self.below[0], z < 0.0),
                next(self.below[1], z < -1.0),
                next(self.below[2], z < -2.0),
            ],
            rising: next(self.rising, has_before & (z > self.z)),
            falling: next(self.falling, has_before & (z < self.z)),
            within: next(self.within, z.abs() < 1.0),
        }
    }

    /// A rise after a fall, or a fall after a rise.
    #[inline]
    fn turns(&self) -> u32 {
        self.rising & self.falling >> 1 | self.falling & self.rising >> 1
    }

    /// Whether no rule fires: nearly every point, and told by very little.
    #[inline]
    fn is_quiet(&self) -> bool {
        !(in_a_row(self.above[0], 8)
            | in_a_row(self.below[0], 8)
            | in_a_row(self.rising, 5)
            | in_a_row(self.falling, 5)
            | in_a_row(self.turns(), 12)
            | in_a_row(self.within, 15)
            | in_a_row(self.above[1] | self.below[1], 8)
            | (self.z.abs() > 2.0)
            // Four of four hold four of five as soon as there are five.
            | in_a_row(self.above[1], 4)
            | in_a_row(self.below[1], 4)
            | four_of_five(self.above[1])
            | four_of_five(self.below[1]))
    }

    /// The rules that fire.
    fn fired(&self) -> Criteria {
        use Criterion as C;
        let mut fired = Criteria::NONE;
        if self.is_quiet() {
            return fired;
        }
        for [side, one, two] in [self.above, self.below] {
            fired.put(C::TwoOfThree, two & 1 == 1 && two & 0b110 != 0);
            fired.put(C::TwoInARowBeyond2, in_a_row(two, 2));
            fired.put(C::FourOfFive, four_of_five(one));
            fired.put(C::FourInARowBeyond1, in_a_row(one, 4));
            fired.put(C::EightOnASide, in_a_row(side, 8));
            fired.put(C::NineOnASide, in_a_row(side, 9));
            fired.put(C::TenOnASide, in_a_row(side, 10));
        }
        fired.put(C::Beyond3, self.z.abs() > 3.0);
        fired.put(C::WarningBeyond2, self.z.abs() > 2.0);
        // Five moves in a row are six points, twelve turns fourteen.
        fired.put(C::SixTrending, in_a_row(self.rising, 5) || in_a_row(self.falling, 5));
        fired.put(C::FourteenAlternating, in_a_row(self.turns(), 12));
        fired.put(C::FifteenHugging, in_a_row(self.within, 15));
        fired.put(C::EightAvoiding, in_a_row(self.above[1] | self.below[1], 8));
        fired
    }
}

impl RuleWindow {
    /// Takes the next standardised value (distance from the centre in sigmas).
    #[inline]
    pub fn push(&mut self, ordinal: u64, z: f64) {
        let runs = self.after(z);
        self.take(ordinal, z, runs);
    }

    /// What the runs would be after another value.
    #[inline]
    fn after(&self, z: f64) -> Runs {
        self.runs.after(z, self.pushed > 0)
    }

    /// Takes a value whose runs are known.
    #[inline]
    fn take(&mut self, ordinal: u64, z: f64, runs: Runs) {
        self.ring[self.pushed % RING] = (ordinal, z);
        self.runs = runs;
        self.pushed += 1;
    }

    /// Forgets all points: after a gap of more than three intervals, an exclusion, a new segment.
    pub fn reset(&mut self) {
        *self = Self::default();
    }

    /// The last fifteen points since the reset, oldest first.
    pub(super) fn values(&self) -> impl Iterator<Item = (u64, f64)> + '_ {
        let from = self.pushed.saturating_sub(LONGEST);
        (from..self.pushed).map(|place| self.ring[place % RING])
    }

    /// The rules that fire at the newest point.
    #[must_use]
    pub fn fired(&self) -> Criteria {
        self.runs.fired()
    }

    /// What `criterion` says at the newest point. The criteria of the design itself are not
    /// patterns of this window and give nothing here.
    #[must_use]
    pub fn check(&self, criterion: Criterion) -> Option<Firing> {
        self.fired().has(criterion).then(|| self.pattern(criterion)).flatten()
    }

    /// The pattern of a criterion that is known to fire.
    pub(super) fn pattern(&self, criterion: Criterion) -> Option<Firing> {
        pattern(criterion, |back| {
            let place = self.pushed.checked_sub(back + 1)?;
            Some(self.ring[place % RING])
        })
    }
}

/// The pattern of a criterion that is known to fire, from its newest points: `newest(0)` is the newest.
pub(super) fn pattern(
    criterion: Criterion,
    newest: impl Fn(usize) -> Option<(u64, f64)>,
) -> Option<Firing> {
    use Criterion as C;
    let z = newest(0)?.1;
    let side = if z > 0.0 { Side::Above } else { Side::Below };
    // The newest `needed` of the last `out_of` beyond an edge on the side of the newest: three of three hold
    // two of three.
    let beyond = |needed: usize, out_of: usize, edge: f64| {
        let holds = |z: f64| if side == Side::Above { z > edge } else { z < -edge };
        let points = (0..out_of).filter_map(&newest).filter(|(_, z)| holds(*z)).take(needed);
        firing(criterion, Some(side), needed, points)
    };
    let all = |side: Option<Side>, count: usize| {
        firing(criterion, side, count, (0..count).filter_map(&newest))
    };
    Some(match criterion {
        C::Beyond3 | C::WarningBeyond2 => beyond(1, 1, 0.0),
        C::TwoOfThree => beyond(2, 3, 2.0),
        C::TwoInARowBeyond2 => beyond(2, 2, 2.0),
        C::FourOfFive => beyond(4, 5, 1.0),
        C::FourInARowBeyond1 => beyond(4, 4, 1.0),
        C::EightOnASide => beyond(8, 8, 0.0),
        C::NineOnASide => beyond(9, 9, 0.0),
        C::TenOnASide => beyond(10, 10, 0.0),
        C::SixTrending => {
            let rises = newest(1).is_some_and(|(_, before)| z > before);
            all(Some(if rises { Side::Above } else { Side::Below }), 6)
        }
        C::FourteenAlternating => all(None, 14),
        C::FifteenHugging => all(None, 15),
        C::EightAvoiding => all(None, 8),
        C::BeyondLimits
        | C::Ewma
        | C::Cusum
        | C::Spread
        | C::TwoLevelsBeyond2
        | C::LevelsFourApart => return None,
    })
}

/// A firing made by these points, newest first.
fn firing(
    criterion: Criterion,
    side: Option<Side>,
    count: usize,
    made_of: impl Iterator<Item = (u64, f64)>,
) -> Firing {
    let mut points = Vec::with_capacity(count);
    let mut sum = 0.0;
    for (ordinal, z) in made_of {
        points.push(ordinal);
        sum += z;
    }
    points.reverse();
    let shift = side.map(|_| sum / points.len().max(1) as f64);
    Firing { criterion, side, points, shift }
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
            for criterion in Criterion::ALL {
                assert_eq!(read.check(criterion), window.check(criterion), "{stored}");
                let fires = window.check(criterion).is_some();
                assert_eq!(window.fired().has(criterion), fires, "{criterion:?} {stored}");
            }
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
                (C::TenOnASide, run(10, &|v| v > 0.0) || run(10, &|v| v < 0.0)),
                (C::WarningBeyond2, both(&|s| s > 2.0)),
                (C::TwoInARowBeyond2, run(2, &|v| v > 2.0) || run(2, &|v| v < -2.0)),
                (C::FourInARowBeyond1, run(4, &|v| v > 1.0) || run(4, &|v| v < -1.0)),
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
                assert_eq!(window.fired().has(criterion), expected, "{criterion:?} at {i}");
            }
        }
    }

    /// The order of the list is that of the bits, and a set reads back as it was.
    #[test]
    fn a_set_is_its_list() {
        for (index, criterion) in Criterion::ALL.into_iter().enumerate() {
            assert_eq!(criterion as usize, index);
            let alone: Criteria = [criterion].into_iter().collect();
            assert_eq!(alone.iter().collect::<Vec<_>>(), [criterion]);
            let text = serde_json::to_string(&alone).unwrap();
            assert_eq!(serde_json::from_str::<Criteria>(&text).unwrap(), alone);
        }
        let zoned = Criterion::named_sets().with(C::Ewma).with(C::Spread);
        assert_eq!(zoned.without_zones().iter().collect::<Vec<_>>(), [C::Ewma, C::Spread]);
    }

    /// The mean of the points that make a pattern is what it says of the shift.
    #[test]
    fn a_firing_suggests_a_shift() {
        let mut window = RuleWindow::default();
        for (i, z) in [-2.1, 0.0, -2.5].into_iter().enumerate() {
            window.push(i as u64, z);
        }
        let firing = window.check(C::TwoOfThree).unwrap();
        assert!((firing.shift.unwrap() + 2.3).abs() < 1e-12);
        let levels = Levels::of(&[0.3, 2.4, -2.2]).unwrap();
        assert_eq!((levels.two_beyond(), levels.four_apart()), (None, true));
        assert_eq!(levels.furthest(), 2.4);
        let levels = Levels::of(&[-2.3, -2.2, 0.0]).unwrap();
        assert_eq!((levels.two_beyond(), levels.four_apart()), (Some(Below), false));
        assert_eq!(levels.furthest(), -2.3);
        assert_eq!(Levels::of(&[2.4]), None);
    }

    #[test]
    fn sets_have_four_and_eight_rules() {
        assert_eq!(RuleSet::Zones.rules().len(), 4);
        assert_eq!(RuleSet::Nelson.rules().len(), 8);
        assert_eq!(Criterion::named_sets().iter().count(), 9);
    }
}
