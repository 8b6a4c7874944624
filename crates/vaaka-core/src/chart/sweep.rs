//! Many plain points in a row: what [`ChartState::push`] does one by one, done for a block at once.
//!
//! The slow average and the sums are followed point by point, the rules for 64 points at a time: a bit a
//! point says what is so of it, and a rule is a few operations on words of bits. It comes to the same bits
//! as pushing, which a property test holds it to.

use jiff::Timestamp;

use super::fold::Beyond;
use super::rules::{LONGEST, pattern};
use super::{
    ChartDesign, ChartPoint, ChartState, Criteria, Criterion, CusumArm, CusumState, Firing, Level,
    PointEvaluation, RuleWindow,
};

/// Points in a block.
const BLOCK: usize = 256;
/// Values in hand: the fifteen before the block, so that patterns run into it, and the block.
const VALUES: usize = LONGEST + BLOCK;
const WORDS: usize = VALUES.div_ceil(64);

/// A bit a value, oldest lowest.
type Row = [u64; WORDS];

/// The average and the sums after a point, and where the average last touched the centre.
#[derive(Debug, Clone, Copy, Default)]
struct Step {
    average: f64,
    above: f64,
    below: f64,
    above_length: u32,
    below_length: u32,
    /// One more than the ordinal; zero for none.
    not_above: u64,
    not_below: u64,
}

/// What a block is worked out in.
struct Block {
    values: [f64; VALUES],
    steps: [Step; BLOCK],
}

impl ChartState {
    /// Takes many plain values in a row, and gives what it says of those at which anything fires: for a
    /// back-test or a search through years, where most points are quiet and nobody asks for each. It comes
    /// to the same bits as pushing one by one.
    pub fn run(
        &mut self,
        design: &ChartDesign,
        points: impl IntoIterator<Item = (Timestamp, f64)>,
        mut found: impl FnMut(PointEvaluation),
    ) {
        let plain = design.components.is_none() && design.earlier.is_empty();
        let longest = self.interval.as_secs().saturating_mul(3) - 2;
        let mut block = Box::new(Block { values: [0.0; VALUES], steps: [Step::default(); BLOCK] });
        let mut points = points.into_iter();
        loop {
            // What is not usual goes the long way: a gap, no number, a level that is not frozen, the first
            // limits of the slow average.
            let ready = plain
                && self.ewma.is_steady()
                && self.cusum.is_some()
                && matches!(design.level, Level::Frozen { .. });
            let (mut count, mut unusual, mut last) = (0, None, self.last_at);
            // Before the first point lies a gap that no interval bridges.
            let mut second = last.map_or(i64::MIN / 2, Timestamp::as_second);
            while count < BLOCK {
                let Some((at, value)) = points.next() else { break };
                let now = at.as_second();
                if !ready | (now - second >= longest) | !value.is_finite() {
                    unusual = Some((at, value));
                    break;
                }
                block.values[LONGEST + count] = value;
                (last, second) = (Some(at), now);
                count += 1;
            }
            if count == 0 && unusual.is_none() {
                return;
            }
            if count > 0 {
                self.last_at = last;
                self.take_block(design, &mut block, count, &mut found);
            }
            if let Some((at, value)) = unusual {
                let evaluation = self.push(design, &ChartPoint::new(at, value));
                if evaluation.found.is_some() {
                    found(evaluation);
                }
            }
        }
    }

    fn take_block(
        &mut self,
        design: &ChartDesign,
        block: &mut Block,
        count: usize,
        found: &mut impl FnMut(PointEvaluation),
    ) {
        let (Level::Frozen { center_line }, Some(cusum)) = (design.level, self.cusum) else {
            return;
        };
        let wanted = design.wanted();
        let steady = design.ewma.half_width(0.0);
        let (upper, lower) = (center_line + design.above, center_line - design.below);
        // The fifteen values before; what is missing compares with nothing.
        let before: Vec<(u64, f64)> = self.window.values().collect();
        block.values[..LONGEST].fill(f64::NAN);
        for (place, (_, z)) in before.iter().enumerate() {
            block.values[LONGEST - before.len() + place] = *z;
        }
        let beyond =
            standardise(&mut block.values, count, (center_line, design.sigma), (lower, upper));
        let first = self.next;
        let outside = self.follow(design, block, count, cusum, steady);
        let rules = patterns(&block.values, wanted, [beyond, outside.0, outside.1]);
        let ordinal_of = |place: usize| {
            // Of a value before the block, its own; they need not follow each other.
            match place.checked_sub(LONGEST) {
                Some(place) => first + place as u64,
                None => before[before.len() + place - LONGEST].0,
            }
        };
        let window_at = |place: usize| {
            let oldest = (place + 1 - LONGEST).max(LONGEST - before.len());
            let mut window = RuleWindow::default();
            for place in oldest..=place {
                window.push(ordinal_of(place), block.values[place]);
            }
            window
        };
        let oldest = LONGEST - before.len();
        for word in 0..WORDS {
            let mut active = [(Criterion::Ewma, 0_u64); Criterion::ALL.len()];
            let mut some = 0;
            let mut left = 0;
            for (criterion, row) in &rules {
                if row[word] != 0 {
                    active[some] = (*criterion, row[word]);
                    some += 1;
                    left |= row[word];
                }
            }
            while left != 0 {
                let bit = left.trailing_zeros();
                left &= left - 1;
                let place = word * 64 + bit as usize;
                if place < LONGEST || place >= LONGEST + count {
                    continue;
                }
                let fired = active[..some].iter().filter(|(_, row)| row >> bit & 1 == 1);
                let fired: Criteria = fired.map(|(criterion, _)| *criterion).collect();
                self.stand_at(&block.steps[place - LONGEST], ordinal_of(place) + 1);
                let pattern = |criterion| {
                    pattern(criterion, |back| {
                        let place = place.checked_sub(back).filter(|place| *place >= oldest)?;
                        Some((ordinal_of(place), block.values[place]))
                    })
                };
                let lines = (center_line, lower, upper);
                found(self.say(design, lines, steady, block.values[place], fired, &pattern));
            }
        }
        self.stand_at(&block.steps[count - 1], first + count as u64);
        self.window = window_at(LONGEST + count - 1);
    }

    /// The average and the sums along a block; gives where each of them is outside.
    fn follow(
        &self,
        design: &ChartDesign,
        block: &mut Block,
        count: usize,
        cusum: CusumState,
        steady: f64,
    ) -> (Row, Row) {
        let (mut averages, mut sums) = ([0; WORDS], [0; WORDS]);
        let shifted = |ordinal: Option<u64>| ordinal.map_or(0, |ordinal| ordinal + 1);
        let (mut not_above, mut not_below) = (shifted(self.not_above), shifted(self.not_below));
        let (mut average, mut upper, mut lower) = (self.ewma, cusum.upper, cusum.lower);
        let reference = design.cusum.reference;
        let interval = design.cusum.interval;
        for place in 0..count {
            let z = block.values[LONGEST + place];
            average.z = average.after(design.ewma, z);
            upper.push(z - reference);
            lower.push(-z - reference);
            let next = self.next + place as u64 + 1;
            not_above = if average.z <= 0.0 { next } else { not_above };
            not_below = if average.z >= 0.0 { next } else { not_below };
            block.steps[place] = Step {
                average: average.z,
                above: upper.sum,
                below: lower.sum,
                above_length: upper.length,
                below_length: lower.length,
                not_above,
                not_below,
            };
            let (word, bit) = ((LONGEST + place) / 64, (LONGEST + place) % 64);
            averages[word] |= u64::from(average.z.abs() > steady) << bit;
            sums[word] |= u64::from((upper.sum > interval) | (lower.sum > interval)) << bit;
        }
        (averages, sums)
    }

    /// Puts the state to where it stood after a point of a block.
    fn stand_at(&mut self, step: &Step, next: u64) {
        self.next = next;
        self.ewma.z = step.average;
        self.cusum = Some(CusumState {
            upper: CusumArm { sum: step.above, length: step.above_length },
            lower: CusumArm { sum: step.below, length: step.below_length },
        });
        self.not_above = step.not_above.checked_sub(1);
        self.not_below = step.not_below.checked_sub(1);
    }

    /// What is said of a point at which something fires, with the state standing at it.
    fn say(
        &mut self,
        design: &ChartDesign,
        (center_line, lower, upper): (f64, f64, f64),
        steady: f64,
        standardised: f64,
        fired: Criteria,
        pattern: &dyn Fn(Criterion) -> Option<Firing>,
    ) -> PointEvaluation {
        let ordinal = self.next - 1;
        let sums = self.cusum;
        let beyond = Beyond {
            standardised,
            lambda: design.ewma.lambda,
            average: self.ewma.z,
            cusum: sums.and_then(|sums| sums.signal(design.cusum)),
            ..Beyond::default()
        };
        let (raising, advisory) = (design.raising.both(fired), design.advisory.both(fired));
        let found = Some(self.find(ordinal, raising, advisory, &beyond, true, pattern));
        PointEvaluation {
            ordinal,
            center_line,
            lower_control_limit: lower,
            upper_control_limit: upper,
            ewma: center_line + design.sigma * self.ewma.z,
            ewma_half_width: design.sigma * steady,
            standardised,
            cusum: sums.map_or((0.0, 0.0), |sums| (sums.upper.sum, sums.lower.sum)),
            provisional: false,
            found,
        }
    }
}

/// Turns the values of a block into sigmas from the centre; gives which lay beyond the limits.
fn standardise(
    values: &mut [f64; VALUES],
    count: usize,
    (center_line, sigma): (f64, f64),
    (lower, upper): (f64, f64),
) -> Row {
    let mut beyond = [0; WORDS];
    for place in LONGEST..LONGEST + count {
        let value = values[place];
        beyond[place / 64] |= u64::from((value > upper) | (value < lower)) << (place % 64);
        values[place] = (value - center_line) / sigma;
    }
    values[LONGEST + count..].fill(f64::NAN);
    beyond
}

/// The same row, `back` values later: what was so that many values ago.
#[inline]
fn ago(row: &Row, back: u32) -> Row {
    let mut moved = [0; WORDS];
    for word in 0..WORDS {
        let carried = if word > 0 { row[word - 1] >> (64 - back) } else { 0 };
        moved[word] = row[word] << back | carried;
    }
    moved
}

#[inline]
fn and(a: &Row, b: &Row) -> Row {
    std::array::from_fn(|word| a[word] & b[word])
}

#[inline]
fn or(a: &Row, b: &Row) -> Row {
    std::array::from_fn(|word| a[word] | b[word])
}

/// Values that are the last of `count` in a row of which something is so.
fn in_a_row(row: &Row, count: u32) -> Row {
    let (mut held, mut length) = (*row, 1);
    while length < count {
        let step = length.min(count - length);
        held = and(&held, &ago(&held, step));
        length += step;
    }
    held
}

/// Every wanted criterion with the values at which it fires; the first three rows are those of the limits,
/// the average and the sums.
fn patterns(
    values: &[f64; VALUES],
    wanted: Criteria,
    [limits, average, sums]: [Row; 3],
) -> Vec<(Criterion, Row)> {
    use Criterion as C;
    let mut rules = Vec::with_capacity(C::ALL.len());
    let mut add = |criterion: Criterion, row: &dyn Fn() -> Row| {
        if wanted.has(criterion) {
            rules.push((criterion, row()));
        }
    };
    add(C::BeyondLimits, &|| limits);
    add(C::Ewma, &|| average);
    add(C::Cusum, &|| sums);
    if wanted.without(wanted.without_zones()).is_empty() {
        return rules;
    }
    let mut rows = [[0_u64; WORDS]; 10];
    let mut before = f64::NAN;
    for (word, chunk) in values.chunks(64).enumerate() {
        let mut bits = [0_u64; 10];
        for (place, z) in chunk.iter().enumerate() {
            let flags = [
                *z > 0.0,
                *z > 1.0,
                *z > 2.0,
                *z < 0.0,
                *z < -1.0,
                *z < -2.0,
                *z > before,
                *z < before,
                z.abs() < 1.0,
                z.abs() > 3.0,
            ];
            for (bits, flag) in bits.iter_mut().zip(flags) {
                *bits |= u64::from(flag) << place;
            }
            before = *z;
        }
        for (row, bits) in rows.iter_mut().zip(bits) {
            row[word] = bits;
        }
    }
    let [up, up_one, up_two, down, down_one, down_two, rising, falling, within, three] = rows;
    let sides = [(up, up_one, up_two), (down, down_one, down_two)];
    let either = |rule: &dyn Fn(&Row, &Row, &Row) -> Row| {
        let [above, below] = sides.map(|(side, one, two)| rule(&side, &one, &two));
        or(&above, &below)
    };
    add(C::WarningBeyond2, &|| or(&up_two, &down_two));
    add(C::Beyond3, &|| three);
    add(C::TwoOfThree, &|| either(&|_, _, two| and(two, &or(&ago(two, 1), &ago(two, 2)))));
    add(C::TwoInARowBeyond2, &|| either(&|_, _, two| in_a_row(two, 2)));
    add(C::FourInARowBeyond1, &|| either(&|_, one, _| in_a_row(one, 4)));
    add(C::FourOfFive, &|| {
        either(&|_, one, _| {
            let [a, b, c, d] = [1, 2, 3, 4].map(|back| ago(one, back));
            let three = or(&and(&and(&a, &b), &or(&c, &d)), &and(&and(&c, &d), &or(&a, &b)));
            and(one, &three)
        })
    });
    add(C::EightOnASide, &|| either(&|side, _, _| in_a_row(side, 8)));
    add(C::NineOnASide, &|| either(&|side, _, _| in_a_row(side, 9)));
    add(C::TenOnASide, &|| either(&|side, _, _| in_a_row(side, 10)));
    add(C::SixTrending, &|| or(&in_a_row(&rising, 5), &in_a_row(&falling, 5)));
    add(C::FourteenAlternating, &|| {
        let turns = or(&and(&rising, &ago(&falling, 1)), &and(&falling, &ago(&rising, 1)));
        in_a_row(&turns, 12)
    });
    add(C::FifteenHugging, &|| in_a_row(&within, 15));
    add(C::EightAvoiding, &|| in_a_row(&or(&up_one, &down_one), 8));
    rules
}
