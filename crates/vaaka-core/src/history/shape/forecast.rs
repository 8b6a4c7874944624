//! Where a drift leads: when its level reaches a limit, when a single check will first be outside it, and the level
//! between now and then.

use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, Normal};

use super::posterior::{Found, Hypothesis, Kind, Moments};
use super::{Interval, ShapeInput};
use crate::stats::normal_tail;

/// Further ahead nothing is promised.
const FURTHEST: f64 = 366.0 * 86_400.0;
/// How sure the direction is before anything is promised.
const SURE: f64 = 0.975;
/// Steps at most until a moment is found, and how near is near enough, in seconds.
const STEPS: usize = 60;
const NEAR: f64 = 10.0;
/// Futures that are drawn for the first single check outside.
const FUTURES: usize = 200;

/// A moment with its interval; an end that is not reached within a year is open.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct When {
    /// 2.5 %.
    pub earliest: Timestamp,
    /// 50 %.
    pub median: Option<Timestamp>,
    /// 97.5 %.
    pub latest: Option<Timestamp>,
}

/// What a drift leads to.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Ahead {
    /// The limit that it runs towards.
    pub limit: f64,
    /// Whether its level is beyond it already: then there is nothing to forecast.
    pub beyond: bool,
    /// When the level reaches it; none within a year.
    pub level: Option<When>,
    /// When a single check is outside for the first time, if checks go on at the distances that they had: earlier than
    /// the level.
    pub first_check: Option<When>,
}

/// The level at one moment.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct FanPoint {
    /// When.
    pub at: Timestamp,
    /// The level.
    pub level: Interval<f64>,
}

/// What a drift leads to, and its fan.
pub(super) fn of(found: &Found<'_>, input: &ShapeInput<'_>) -> (Option<Ahead>, Vec<FanPoint>) {
    let chosen: Vec<(Hypothesis, Moments)> = found
        .likeliest(Some(Kind::Drift))
        .into_iter()
        .map(|one| (one, found.moments(&one)))
        .collect();
    let rising: f64 = chosen.iter().map(|(one, moments)| one.weight * rises(moments)).sum();
    let (up, sure) = if rising >= 0.5 { (true, rising) } else { (false, 1.0 - rising) };
    let limit = if up { input.upper } else { input.lower };
    let ahead = limit.filter(|_| sure >= SURE).map(|limit| {
        let of = Future { found, chosen: &chosen, limit, up };
        let beyond = of.beyond(0.0) >= 0.5;
        Ahead {
            limit,
            beyond,
            level: if beyond { None } else { of.level() },
            first_check: if beyond { None } else { of.first_check() },
        }
    });
    let fan = fan(found, &chosen, ahead.as_ref(), input.fan);
    (ahead, fan)
}

/// P(slope > 0) under one hypothesis.
fn rises(moments: &Moments) -> f64 {
    let scale = (moments.variance() * moments.bb).sqrt();
    super::mixture::tail(-moments.effect / scale, 2.0 * moments.a)
}

/// The future of a drift towards a limit.
struct Future<'a> {
    found: &'a Found<'a>,
    chosen: &'a [(Hypothesis, Moments)],
    limit: f64,
    up: bool,
}

impl Future<'_> {
    fn interval(&self) -> f64 {
        self.found.series().interval
    }

    fn moment(&self, seconds: f64) -> Timestamp {
        let now = self.found.series().at(usize::MAX);
        SignedDuration::try_from_secs_f64(seconds)
            .ok()
            .and_then(|later| now.checked_add(later).ok())
            .unwrap_or(now)
    }

    /// P(the level is beyond the limit) so many seconds ahead.
    fn beyond(&self, seconds: f64) -> f64 {
        let level = self.found.level_at(self.chosen, seconds / self.interval());
        let above = level.above(self.limit);
        if self.up { above } else { 1.0 - above }
    }

    /// When the level is beyond the limit with a probability that grows with time. `known` are places and probabilities that
    /// were looked at, in order of time; what is looked at joins them.
    fn reached(&self, p: f64, known: &mut Vec<(f64, f64)>) -> Option<Timestamp> {
        let next = known.partition_point(|(_, at)| *at < p);
        if next == 0 {
            return Some(self.moment(0.0));
        }
        let mut high = *known.get(next)?;
        let mut low = known[next - 1];
        // By secants (Illinois: an end that stays loses half its weight), by halves where these are slow.
        let (mut of_low, mut of_high) = (low.1 - p, high.1 - p);
        let mut last_was_low = None;
        for step in 0..STEPS {
            if high.0 - low.0 <= NEAR {
                break;
            }
            let secant = low.0 - of_low * (high.0 - low.0) / (of_high - of_low);
            let within = secant > low.0 && secant < high.0;
            let by_halves = step % 4 == 3 || !within;
            let at = if by_halves { 0.5 * (low.0 + high.0) } else { secant };
            let found = (at, self.beyond(at));
            known.insert(known.partition_point(|(before, _)| *before < at), found);
            let is_low = found.1 < p;
            if is_low {
                (low, of_low) = (found, found.1 - p);
            } else {
                (high, of_high) = (found, found.1 - p);
            }
            if last_was_low == Some(is_low) {
                if is_low { of_high *= 0.5 } else { of_low *= 0.5 }
            }
            last_was_low = Some(is_low);
            if (found.1 - p).abs() < 1e-9 {
                return Some(self.moment(at));
            }
        }
        Some(self.moment(high.0))
    }

    fn level(&self) -> Option<When> {
        let mut known = vec![(0.0, self.beyond(0.0)), (FURTHEST, self.beyond(FURTHEST))];
        let mut at = |p: f64| self.reached(p, &mut known);
        Some(When { earliest: at(0.025)?, median: at(0.5), latest: at(0.975) })
    }

    /// The first check outside, over futures drawn from the posterior: in each, P(no check so far outside) is the product of
    /// theirs. The generator is seeded: the same points promise the same moment.
    fn first_check(&self) -> Option<When> {
        let series = self.found.series();
        let slots = ((FURTHEST / self.interval()).ceil() as usize).min(3_000);
        let mut random = ChaCha8Rng::seed_from_u64(series.len() as u64);
        // At the end of each usual distance from now on, the sum over all futures of P(inside until then).
        let mut inside = vec![0.0; slots];
        let limit = (self.limit - series.shift) / series.scale;
        let rhythm = Rhythm::of(&series.times, self.interval());
        let mut weights = self.chosen.iter();
        let (mut chosen, mut sum) = (weights.next()?, 0.0);
        for draw in 0..FUTURES {
            let place = (draw as f64 + 0.5) / FUTURES as f64;
            while sum + chosen.0.weight < place {
                let Some(next) = weights.next() else { break };
                sum += chosen.0.weight;
                chosen = next;
            }
            let one = Drawn::from(chosen, &mut random);
            let (mut survives, mut filled) = (1.0, 0);
            for ahead in rhythm.ahead(&mut random).take(4 * slots) {
                // A check a little late of its slot belongs to it.
                let slot = ((ahead - 0.5).ceil().max(1.0) as usize - 1).min(slots);
                inside[filled.min(slot)..slot].iter_mut().for_each(|inside| *inside += survives);
                filled = filled.max(slot);
                if slot == slots {
                    break;
                }
                let (o, h) = chosen.1.acts(self.found.height(&chosen.0, ahead));
                let level = o * one.center + h * one.effect + one.more;
                let left = (limit - level) / one.sigma;
                survives *= 1.0 - normal_tail(if self.up { left } else { -left });
                if survives < 1e-4 {
                    break;
                }
            }
            inside[filled..].iter_mut().for_each(|inside| *inside += survives);
        }
        let at = |p: f64| {
            let first = inside.iter().position(|inside| 1.0 - inside / FUTURES as f64 >= p)?;
            Some(self.moment((first as f64 + 1.0) * self.interval()))
        };
        Some(When { earliest: at(0.025)?, median: at(0.5), latest: at(0.975) })
    }
}

/// The distances between checks as they were: what the next ones are drawn from.
struct Rhythm<'a> {
    times: &'a [f64],
    /// Places from which on they are gone through again: where the week stood as it stands now.
    starts: Vec<usize>,
}

impl<'a> Rhythm<'a> {
    fn of(times: &'a [f64], interval: f64) -> Self {
        let week = 7.0 * 86_400.0 / interval;
        let as_now = |time: f64| {
            let off = (-time).rem_euclid(week);
            off.min(week - off) <= 0.5
        };
        let before = times.len() - 1;
        let mut starts: Vec<usize> = (0..before).filter(|at| as_now(times[*at])).collect();
        if starts.len() < 3 {
            starts = (0..before).collect();
        }
        Self { times, starts }
    }

    /// Times of the next checks in one future, in usual distances: those between the old ones, again and again from one of the
    /// starts on.
    fn ahead(&self, random: &mut ChaCha8Rng) -> impl Iterator<Item = f64> + use<'_> {
        let start = |random: &mut ChaCha8Rng| match self.starts.len() {
            0 => 0,
            many => self.starts[random.random_range(0..many)],
        };
        let (mut place, mut time) = (start(random), 0.0);
        let again = start(random);
        std::iter::repeat_with(move || {
            if place + 1 >= self.times.len() {
                place = again;
            }
            // Of one check alone there is no distance.
            let next = self.times.get(place + 1).map_or(1.0, |next| next - self.times[place]);
            place += 1;
            time += next;
            time
        })
    }
}

/// A constant, an effect, what influences bring besides, and a σ, drawn from the posterior of one hypothesis.
struct Drawn {
    center: f64,
    effect: f64,
    more: f64,
    sigma: f64,
}

impl Drawn {
    /// χ² of the many degrees of freedom that a chart has by the cube root that is nearly normal (Wilson and Hilferty
    /// 1931; from memory).
    fn from((_, moments): &(Hypothesis, Moments), random: &mut ChaCha8Rng) -> Self {
        let standard = Normal::standard();
        let mut normal = || standard.inverse_cdf(random.random_range(1e-9..1.0 - 1e-9));
        let degrees = 2.0 * moments.a;
        let share = 2.0 / (9.0 * degrees);
        let root = (1.0 - share + normal() * share.sqrt()).max(0.1);
        let sigma = (moments.b / moments.a / root.powi(3)).sqrt();
        let (first, second): (f64, f64) = (normal(), normal());
        let slope = moments.bb.sqrt();
        let effect = moments.effect + sigma * slope * first;
        let left = (moments.cc - moments.cb * moments.cb / moments.bb).max(0.0).sqrt();
        let center = moments.center + sigma * (moments.cb / slope * first + left * second);
        let now = moments.now;
        let more = now.more
            + if now.variance > 0.0 { sigma * now.variance.sqrt() * normal() } else { 0.0 };
        Self { center, effect, more, sigma }
    }
}

/// The level from the onset to the crossing and a little beyond.
fn fan(
    found: &Found<'_>,
    chosen: &[(Hypothesis, Moments)],
    ahead: Option<&Ahead>,
    moments: usize,
) -> Vec<FanPoint> {
    let series = found.series();
    let now = series.at(usize::MAX);
    let from = series.times[found.onset(Kind::Drift).low];
    let crossing = ahead.and_then(|ahead| ahead.level).map(|level| {
        let end = level.latest.or(level.median).unwrap_or(level.earliest);
        end.duration_since(now).as_secs_f64() / series.interval
    });
    // As far ahead as behind where nothing is crossed; never further than what is promised.
    let until = crossing.unwrap_or(-from).min(FURTHEST / series.interval).max(1.0);
    (0..moments)
        .map(|step| {
            let time =
                from + (until - from) * step as f64 / moments.saturating_sub(1).max(1) as f64;
            let at = SignedDuration::try_from_secs_f64(time * series.interval)
                .ok()
                .and_then(|away| now.checked_add(away).ok())
                .unwrap_or(now);
            FanPoint { at, level: found.level_at(chosen, time).interval() }
        })
        .collect()
}
