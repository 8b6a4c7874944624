//! Every hypothesis with its marginal likelihood, and what the posterior says of onset, size, slope and level.

use super::mixture::{Mixture, Part};
use super::series::{LONGEST_KNOCK, Now, Series, Whitened};
use super::sums::Products;
use super::{Interval, Posterior};

/// Prior probabilities of the shapes.
const FLAT: f64 = 0.25;
const STEP: f64 = 0.25;
const DRIFT: f64 = 0.25;
const STOPPED: f64 = 0.15;
const KNOCK: f64 = 0.10;
/// Prior standard deviation of a step or a knock, in sigmas.
const STEP_SIZE: f64 = 3.0;
/// Prior standard deviations of a slope, in sigmas a check, equally likely.
const SLOPES: [f64; 4] = [0.01, 0.03, 0.1, 0.3];
/// Lengths of a knock, in checks, and among how many of the newest checks it is looked for.
const KNOCKS: [usize; 3] = [1, 2, LONGEST_KNOCK];
const KNOCK_WINDOW: usize = 40;
/// Places of a grid over the series for onset and end of a drift that stopped.
const GRID: usize = 24;
/// How much of the probability of what is mixed is left out at most: the ends of intervals move by less than a hundredth of
/// their width.
const NEGLECTED: f64 = 5e-4;

/// Kind of a hypothesis.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Flat,
    Step,
    Drift,
    Stopped,
    Knock,
}

/// One hypothesis: a shape at a place, with a prior size, under one autocorrelation.
#[derive(Debug, Clone, Copy)]
pub(super) struct Hypothesis {
    pub kind: Kind,
    rho: u8,
    /// Place of the change.
    pub at: u16,
    /// Where a stopped drift ends; length of a knock.
    until: u16,
    size: f64,
    /// Logarithm of its weight, then its posterior probability.
    pub weight: f64,
}

/// Posterior of constant and effect under one hypothesis, in sigmas and usual distances.
#[derive(Debug, Clone, Copy)]
pub(super) struct Moments {
    pub center: f64,
    pub effect: f64,
    /// Covariance of both, in σ².
    pub cc: f64,
    pub cb: f64,
    pub bb: f64,
    /// Half the degrees of freedom, and the scale of σ².
    pub a: f64,
    pub b: f64,
    /// What influences bring to the level from now on, and what they take of the shape in it.
    pub now: Now,
    pub less_shape: f64,
}

/// All hypotheses with their posterior probabilities.
#[derive(Debug)]
pub(super) struct Found<'a> {
    series: &'a Series,
    all: Vec<Hypothesis>,
}

impl Moments {
    /// σ² of this hypothesis: scale of Student's t with 2a degrees of freedom.
    pub fn variance(&self) -> f64 {
        self.b / self.a
    }

    /// Share of the constant and of the effect in a level at a height of the shape.
    pub fn acts(&self, height: f64) -> (f64, f64) {
        (1.0 - self.now.less_center, height - self.less_shape)
    }

    fn of(of: &Whitened, products: Option<(Products, f64)>, count: usize) -> (Self, f64) {
        let a_ = of.n0 + of.whole.oo;
        let u = of.n0 * of.c0 + of.whole.oy;
        let now = of.now;
        let a = 0.5 * (of.nu0 + count as f64);
        let whole = of.twice_b0 + of.yy + of.n0 * of.c0 * of.c0;
        let Some((h, size)) = products else {
            let center = u / a_;
            let b = 0.5 * (whole - center * u);
            let cc = 1.0 / a_;
            let (effect, less_shape) = (0.0, 0.0);
            let moments = Self { center, effect, cc, cb: 0.0, bb: 0.0, a, b, now, less_shape };
            return (moments, of.ln_base - 0.5 * a_.ln() - a * b.ln());
        };
        let c_ = 1.0 / (size * size) + h.hh;
        let det = a_ * c_ - h.oh * h.oh;
        let center = (c_ * u - h.oh * h.hy) / det;
        let effect = (a_ * h.hy - h.oh * u) / det;
        let b = 0.5 * (whole - center * u - effect * h.hy);
        let (cc, cb, bb, less_shape) = (c_ / det, -h.oh / det, a_ / det, h.ahead);
        let moments = Self { center, effect, cc, cb, bb, a, b, now, less_shape };
        (moments, of.ln_base - size.ln() - 0.5 * det.ln() - a * b.ln())
    }
}

impl<'a> Found<'a> {
    /// A change needs `after` checks after it.
    pub(super) fn of(series: &'a Series, after: usize) -> Self {
        let mut all = Vec::with_capacity(16_384);
        for (rho, whitened) in series.whitened.iter().enumerate() {
            let mut found = Collector { series, whitened, rho: rho as u8, after, all: &mut all };
            found.collect();
        }
        let most = all.iter().map(|one| one.weight).fold(f64::NEG_INFINITY, f64::max);
        let mut total = 0.0;
        for one in &mut all {
            one.weight = (one.weight - most).exp();
            total += one.weight;
        }
        for one in &mut all {
            one.weight /= total;
        }
        Self { series, all }
    }

    pub(super) fn series(&self) -> &'a Series {
        self.series
    }

    pub(super) fn posterior(&self) -> Posterior {
        let of = |kind| self.of_kind(kind).map(|one| one.weight).sum();
        Posterior {
            flat: of(Kind::Flat),
            step: of(Kind::Step),
            drift: of(Kind::Drift),
            stopped: of(Kind::Stopped),
            knock: of(Kind::Knock),
        }
    }

    fn of_kind(&self, kind: Kind) -> impl Iterator<Item = &Hypothesis> {
        self.all.iter().filter(move |one| one.kind == kind)
    }

    /// The likeliest hypotheses of a kind (of all kinds where none is named), with weights that sum to one.
    pub(super) fn likeliest(&self, kind: Option<Kind>) -> Vec<Hypothesis> {
        let mut chosen: Vec<Hypothesis> = self
            .all
            .iter()
            .filter(|one| kind.is_none_or(|kind| one.kind == kind))
            .copied()
            .collect();
        let total: f64 = chosen.iter().map(|one| one.weight).sum();
        // Most of them weigh nothing: they are not sorted.
        let least = total * NEGLECTED / chosen.len().max(1) as f64;
        chosen.retain(|one| one.weight >= least);
        chosen.sort_by(|a, b| b.weight.total_cmp(&a.weight));
        let mut sum = 0.0;
        let enough = chosen.iter().position(|one| {
            sum += one.weight;
            sum >= (1.0 - NEGLECTED) * total
        });
        chosen.truncate(enough.map_or(usize::MAX, |last| last + 1));
        let total: f64 = chosen.iter().map(|one| one.weight).sum();
        chosen.iter_mut().for_each(|one| one.weight /= total);
        chosen
    }

    pub(super) fn moments(&self, of: &Hypothesis) -> Moments {
        let whitened = &self.series.whitened[usize::from(of.rho)];
        let times = &self.series.times;
        let (at, until) = (usize::from(of.at), usize::from(of.until));
        let products = match of.kind {
            Kind::Flat => None,
            Kind::Step => Some(whitened.step(at)),
            Kind::Drift => Some(whitened.drift(at, times)),
            Kind::Stopped => Some(whitened.stopped(at, until, times)),
            Kind::Knock => Some(whitened.knock(at, until)),
        };
        Moments::of(whitened, products.map(|h| (h, of.size)), self.series.len()).0
    }

    /// The shape of a hypothesis at a time, in usual distances from the newest check.
    pub(super) fn height(&self, of: &Hypothesis, time: f64) -> f64 {
        let times = &self.series.times;
        let begins = times[usize::from(of.at)];
        match of.kind {
            Kind::Flat => 0.0,
            Kind::Step => f64::from(u8::from(time >= begins)),
            Kind::Drift => (time - begins).max(0.0),
            Kind::Stopped => (time.min(times[usize::from(of.until)]) - begins).max(0.0),
            Kind::Knock => {
                let over = times[usize::from(of.at) + usize::from(of.until)];
                f64::from(u8::from(time >= begins && time < over))
            }
        }
    }

    /// 2.5, 50 and 97.5 % of the place of the change, given its kind.
    pub(super) fn onset(&self, kind: Kind) -> Interval<usize> {
        self.places(kind, |one| usize::from(one.at))
    }

    /// The same of the end of a drift that stopped.
    pub(super) fn end(&self) -> Interval<usize> {
        self.places(Kind::Stopped, |one| usize::from(one.until))
    }

    fn places(&self, kind: Kind, place: impl Fn(&Hypothesis) -> usize) -> Interval<usize> {
        let mut weights = vec![0.0; self.series.len()];
        for one in self.of_kind(kind) {
            weights[place(one)] += one.weight;
        }
        let total: f64 = weights.iter().sum();
        let quantile = |p: f64| {
            let mut sum = 0.0;
            weights
                .iter()
                .position(|weight| {
                    sum += weight;
                    sum >= p * total
                })
                .unwrap_or(0)
        };
        Interval { low: quantile(0.025), median: quantile(0.5), high: quantile(0.975) }
    }

    fn effects(&self, kind: Kind, factor: impl Fn(&Hypothesis) -> f64) -> Mixture {
        let parts = self.likeliest(Some(kind)).into_iter().map(|one| {
            let (moments, factor) = (self.moments(&one), factor(&one));
            Part {
                weight: one.weight,
                location: factor * moments.effect,
                scale: factor * (moments.variance() * moments.bb).sqrt(),
                degrees_of_freedom: 2.0 * moments.a,
            }
        });
        Mixture::new(parts.collect())
    }

    /// Height of a step or a knock, or how far a stopped drift went.
    pub(super) fn size(&self, kind: Kind) -> Interval<f64> {
        let times = &self.series.times;
        let scale = self.series.scale;
        self.effects(kind, |one| match kind {
            Kind::Stopped => scale * (times[usize::from(one.until)] - times[usize::from(one.at)]),
            _ => scale,
        })
        .interval()
    }

    /// Slope of a drift, in units a week.
    pub(super) fn per_week(&self) -> Interval<f64> {
        const WEEK: f64 = 7.0 * 86_400.0;
        let factor = self.series.scale * WEEK / self.series.interval;
        self.effects(Kind::Drift, |_| factor).interval()
    }

    /// Level at the newest check and standard deviation of a check about it, over all hypotheses; σ is the root of the
    /// posterior mean of σ².
    pub(super) fn level_and_std_dev(&self) -> (Interval<f64>, f64) {
        let chosen = self.chosen();
        let variance: f64 =
            chosen.iter().map(|(one, moments)| one.weight * moments.variance()).sum();
        (self.level_at(&chosen, 0.0).interval(), self.series.scale * variance.sqrt())
    }

    /// Mean and standard deviation of the level at the newest check, over all hypotheses.
    pub(super) fn level_moments(&self) -> (f64, f64) {
        self.level_at(&self.chosen(), 0.0).moments()
    }

    fn chosen(&self) -> Vec<(Hypothesis, Moments)> {
        self.likeliest(None).into_iter().map(|one| (one, self.moments(&one))).collect()
    }

    /// The level at a time under chosen hypotheses.
    pub(super) fn level_at(&self, chosen: &[(Hypothesis, Moments)], time: f64) -> Mixture {
        let Series { shift, scale, .. } = *self.series;
        let parts = chosen.iter().map(|(one, moments)| {
            let (o, h) = moments.acts(self.height(one, time));
            let variance = o * o * moments.cc
                + 2.0 * o * h * moments.cb
                + h * h * moments.bb
                + moments.now.variance;
            let level = o * moments.center + h * moments.effect + moments.now.more;
            Part {
                weight: one.weight,
                location: shift + scale * level,
                scale: scale * (moments.variance() * variance).sqrt(),
                degrees_of_freedom: 2.0 * moments.a,
            }
        });
        Mixture::new(parts.collect())
    }

    /// Posterior mean of ρ.
    pub(super) fn autocorrelation(&self) -> f64 {
        self.all.iter().map(|one| one.weight * self.series.whitened[usize::from(one.rho)].rho).sum()
    }
}

/// Goes through the hypotheses of one ρ.
struct Collector<'a> {
    series: &'a Series,
    whitened: &'a Whitened,
    rho: u8,
    after: usize,
    all: &'a mut Vec<Hypothesis>,
}

impl Collector<'_> {
    fn collect(&mut self) {
        let count = self.series.len();
        let times = &self.series.times;
        let one = Hypothesis {
            kind: Kind::Flat,
            rho: self.rho,
            at: 0,
            until: 0,
            size: STEP_SIZE,
            weight: 0.0,
        };
        self.add(one, None, FLAT);
        let steps = (count + 1).saturating_sub(self.after);
        let sum: f64 = self.series.step_prior[..steps].iter().sum();
        for at in 0..steps {
            let prior = STEP * self.series.step_prior[at] / sum;
            let one = Hypothesis { kind: Kind::Step, at: at as u16, ..one };
            self.add(one, Some(self.whitened.step(at)), prior);
        }
        let drifts = count.saturating_sub(self.after);
        let sum: f64 = self.series.drift_prior[..drifts].iter().sum();
        let each = 1.0 / SLOPES.len() as f64;
        for at in 0..drifts {
            let prior = DRIFT * each * self.series.drift_prior[at] / sum;
            let h = self.whitened.drift(at, times);
            let one = Hypothesis { kind: Kind::Drift, at: at as u16, ..one };
            for size in SLOPES {
                self.add(Hypothesis { size, ..one }, Some(h), prior);
            }
        }
        let grid: Vec<usize> = grid(count, drifts);
        let pairs = grid.len() * grid.len().saturating_sub(1) / 2;
        for (place, at) in grid.iter().enumerate() {
            for end in &grid[place + 1..] {
                let prior = STOPPED * each / pairs as f64;
                let h = self.whitened.stopped(*at, *end, times);
                let (at, until) = (*at as u16, *end as u16);
                for size in SLOPES {
                    let one = Hypothesis { kind: Kind::Stopped, at, until, size, ..one };
                    self.add(one, Some(h), prior);
                }
            }
        }
        let first = count.saturating_sub(KNOCK_WINDOW);
        let knocks: Vec<(usize, usize)> = KNOCKS
            .into_iter()
            .flat_map(|length| (first..count).map(move |at| (at, length)))
            .filter(|(at, length)| at + length < count)
            .collect();
        for (at, length) in &knocks {
            let h = self.whitened.knock(*at, *length);
            let (at, until) = (*at as u16, *length as u16);
            let one = Hypothesis { kind: Kind::Knock, at, until, ..one };
            self.add(one, Some(h), KNOCK / knocks.len() as f64);
        }
    }

    fn add(&mut self, one: Hypothesis, products: Option<Products>, prior: f64) {
        let products = products.map(|h| (h, one.size));
        let (_, ln) = Moments::of(self.whitened, products, self.series.len());
        self.all.push(Hypothesis { weight: prior.ln() + ln, ..one });
    }
}

/// Places for onset and end of a drift that stopped: each has the checks after it that a change needs.
fn grid(count: usize, drifts: usize) -> Vec<usize> {
    let mut places: Vec<usize> =
        (0..GRID).map(|step| step * count / GRID).filter(|at| *at < drifts).collect();
    places.dedup();
    places
}
