//! The checks in units of their noise and of their usual distance in time, whitened for each autocorrelation, with the
//! running sums that make every shape cost the same few operations.

use jiff::Timestamp;

use super::influence::{Acting, Influence};
use super::sums::{Products, Sums};
use super::{AFTER_CHANGE, Ground, SHAPE_WINDOW, ShapeError, ShapeInput};
use crate::stats::StatsError;

/// Autocorrelations that are weighed, equally likely beforehand.
pub(super) const RHOS: [f64; 4] = [0.0, 0.2, 0.4, 0.6];
/// After so many usual distances without a check the noise remembers nothing.
const FORGOTTEN_AFTER: f64 = 3.0;
/// Checks of the longest knock that is looked for.
pub(super) const LONGEST_KNOCK: usize = 4;
/// Degrees of freedom of a standard deviation that was given.
const GIVEN: f64 = 1000.0;

/// The checks, and the same whitened for each ρ.
#[derive(Debug)]
pub(super) struct Series {
    moments: Vec<Timestamp>,
    /// Times in usual distances, the newest at zero.
    pub times: Vec<f64>,
    /// Seconds of the usual distance between two checks.
    pub interval: f64,
    /// Centre and scale of the values.
    pub shift: f64,
    pub scale: f64,
    /// Weight of each check as the place of a step; of a drift.
    pub step_prior: Vec<f64>,
    pub drift_prior: Vec<f64>,
    /// For each of [`RHOS`].
    pub whitened: Vec<Whitened>,
}

/// The checks whitened for one ρ: uncorrelated, of one variance, where the constant has become `o`.
#[derive(Debug)]
pub(super) struct Whitened {
    pub rho: f64,
    /// The constant one.
    pub o: Vec<f64>,
    /// What a value that is alone (none before it) becomes.
    pub w: Vec<f64>,
    /// Values, in sigmas.
    pub y: Vec<f64>,
    /// Sums from each place to the newest; one more than there are checks.
    sums: Vec<Sums>,
    /// What acts on the values besides.
    acting: Option<Acting>,
    /// Σo², Σoy and Σy² of all checks, less what influences take of them.
    pub whole: Sums,
    pub yy: f64,
    /// What influences bring to the level from now on.
    pub now: Now,
    /// Of the baseline: its worth in checks, mean in sigmas, degrees of freedom, and twice b₀.
    pub n0: f64,
    pub c0: f64,
    pub nu0: f64,
    pub twice_b0: f64,
    /// What the logarithm of every likelihood of this ρ begins with.
    pub ln_base: f64,
}

/// What influences bring to the level from now on, in sigmas: a share of the constant less, so much more, with a variance in
/// σ².
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Now {
    pub less_center: f64,
    pub more: f64,
    pub variance: f64,
}

impl Series {
    /// A change needs `after` checks after it.
    pub(super) fn new(input: &ShapeInput<'_>, after: usize) -> Result<Self, ShapeError> {
        let newest = input.points.len().saturating_sub(SHAPE_WINDOW);
        let points = &input.points[newest..];
        let required = if after == AFTER_CHANGE { after + 1 } else { 1 };
        if points.len() < required {
            return Err(StatsError::TooFewPoints { required, got: points.len() }.into());
        }
        if let (Some(lower), Some(upper)) = (input.lower, input.upper)
            && lower >= upper
        {
            return Err(StatsError::CrossedLimits.into());
        }
        if let Some(index) = points.iter().position(|(_, value)| !value.is_finite()) {
            return Err(StatsError::NotFinite { index: newest + index }.into());
        }
        if let Some(index) = points.windows(2).position(|pair| pair[1].0 < pair[0].0) {
            return Err(ShapeError::TimesFall { index: newest + index + 1 });
        }
        let moments: Vec<Timestamp> = points.iter().map(|(at, _)| *at).collect();
        let interval = match usual_distance(&moments) {
            Some(interval) => interval,
            // Of one check alone there is no distance, and none is needed.
            None if moments.len() == 1 => 86_400.0,
            None => return Err(StatsError::NoSpreadInX.into()),
        };
        let last = moments[moments.len() - 1];
        let times: Vec<f64> =
            moments.iter().map(|at| at.duration_since(last).as_secs_f64() / interval).collect();
        let (shift, scale) = centre_and_scale(input)?;
        let values: Vec<f64> = points.iter().map(|(_, value)| (value - shift) / scale).collect();
        if values.iter().any(|value| !(value * value).is_finite()) {
            return Err(StatsError::TooLarge.into());
        }
        let influences = influences(input, newest)?;
        let known = Known { times: &times, values: &values, influences: &influences };
        let whitened = RHOS
            .iter()
            .map(|rho| Whitened::new(*rho, &known, input, shift, scale))
            .collect::<Result<_, _>>()?;
        let (step_prior, drift_prior) = priors(&moments, input.events);
        Ok(Self { moments, times, interval, shift, scale, step_prior, drift_prior, whitened })
    }

    pub(super) fn len(&self) -> usize {
        self.times.len()
    }

    pub(super) fn at(&self, index: usize) -> Timestamp {
        self.moments[index.min(self.moments.len() - 1)]
    }
}

/// The influences on the checks that are looked at.
fn influences<'a>(input: &ShapeInput<'a>, newest: usize) -> Result<Vec<Influence<'a>>, ShapeError> {
    let of = |influence: &Influence<'a>| {
        let Influence { acts, ahead, effect, standard_uncertainty } = *influence;
        if acts.len() != input.points.len() {
            let (required, got) = (input.points.len(), acts.len());
            return Err(ShapeError::Influence { required, got });
        }
        if let Some(index) = acts.iter().position(|value| !value.is_finite()) {
            return Err(StatsError::NotFinite { index }.into());
        }
        let is_known = [ahead, effect, standard_uncertainty].iter().all(|value| value.is_finite());
        if !is_known || standard_uncertainty < 0.0 {
            return Err(StatsError::TooLarge.into());
        }
        Ok(Influence { acts: &acts[newest..], ..*influence })
    };
    input.influences.iter().map(of).collect()
}

/// Median distance of checks that follow each other, in seconds; none where all are at one moment.
fn usual_distance(moments: &[Timestamp]) -> Option<f64> {
    let mut gaps: Vec<f64> = moments
        .windows(2)
        .map(|pair| pair[1].duration_since(pair[0]).as_secs_f64())
        .filter(|gap| *gap > 0.0)
        .collect();
    gaps.sort_by(f64::total_cmp);
    gaps.get(gaps.len() / 2).copied()
}

fn centre_and_scale(input: &ShapeInput<'_>) -> Result<(f64, f64), StatsError> {
    let floor = input.resolution.abs() / 12.0_f64.sqrt();
    let (center, std_dev) = match input.ground {
        Ground::Baseline(values) => {
            if values.len() < 3 {
                return Err(StatsError::TooFewPoints { required: 3, got: values.len() });
            }
            if let Some(index) = values.iter().position(|value| !value.is_finite()) {
                return Err(StatsError::NotFinite { index });
            }
            (crate::stats::mean(values)?, crate::stats::sample_std_dev(values)?)
        }
        Ground::Known { center, std_dev, .. } => (center, std_dev),
    };
    let scale = std_dev.max(floor);
    if !(center.is_finite() && scale.is_finite()) {
        return Err(StatsError::TooLarge);
    }
    // What is left of rounding in the mean of like values is no scatter.
    if scale <= center.abs() * 1e-14 || scale <= 0.0 {
        return Err(StatsError::NoSpread);
    }
    Ok((center, scale))
}

/// The centre line with its standard uncertainty.
pub(super) fn centre_of(input: &ShapeInput<'_>) -> Result<(f64, f64), StatsError> {
    let (center, scale) = centre_and_scale(input)?;
    let worth = match input.ground {
        Ground::Baseline(values) => values.len() as f64,
        Ground::Known { center_worth, .. } => center_worth.max(1e-6),
    };
    Ok((center, scale / worth.sqrt()))
}

/// Weights of the places of a step and of a drift: twice as much at a noted event.
fn priors(moments: &[Timestamp], events: &[Timestamp]) -> (Vec<f64>, Vec<f64>) {
    let mut step = vec![1.0; moments.len()];
    let mut drift = step.clone();
    for event in events {
        let first = moments.partition_point(|at| at < event);
        if first == 0 || first == moments.len() {
            continue;
        }
        // A step shows at the first check after it; a drift leaves from the check before or from the next.
        step[first] = 2.0;
        drift[first] = 2.0;
        drift[first - 1] = 2.0;
    }
    (step, drift)
}

impl Whitened {
    fn new(
        rho: f64,
        known: &Known<'_>,
        input: &ShapeInput<'_>,
        shift: f64,
        scale: f64,
    ) -> Result<Self, StatsError> {
        let Known { times, values, influences } = known;
        let count = values.len();
        let gain = 1.0 / (1.0 - rho * rho).sqrt();
        // What influences do as far as it is known is taken off; what is not known of it is integrated out.
        let taken = |index: usize| -> f64 {
            influences.iter().map(|one| one.effect / scale * one.acts[index]).sum()
        };
        let open: Vec<&Influence<'_>> =
            influences.iter().filter(|one| one.standard_uncertainty > 0.0).collect();
        let (mut o, mut w, mut y, mut p) = (vec![], vec![], vec![], vec![]);
        let mut rows = Vec::with_capacity(count * open.len());
        let mut correlated = 0.0;
        for index in 0..count {
            let fresh = index == 0 || times[index] - times[index - 1] > FORGOTTEN_AFTER;
            let (own, before) = if fresh { (1.0, 0.0) } else { (gain, rho) };
            let whiten = |of: &dyn Fn(usize) -> f64| {
                own * (of(index) - if fresh { 0.0 } else { before * of(index - 1) })
            };
            correlated += if fresh { 0.0 } else { 1.0 };
            o.push(own * (1.0 - before));
            w.push(own);
            y.push(whiten(&|index| values[index] - taken(index)));
            p.push(whiten(&|index| times[index]));
            rows.extend(open.iter().map(|one| whiten(&|index| one.acts[index])));
        }
        let mut sums = vec![Sums::default(); count + 1];
        for index in (0..count).rev() {
            let after = sums[index + 1];
            sums[index] = Sums {
                oo: after.oo + o[index] * o[index],
                po: after.po + p[index] * o[index],
                pp: after.pp + p[index] * p[index],
                oy: after.oy + o[index] * y[index],
                py: after.py + p[index] * y[index],
            };
        }
        let (mut whole, mut yy) = (sums[0], y.iter().map(|y| y * y).sum());
        let more = influences.iter().map(|one| one.effect / scale * one.ahead).sum();
        let mut now = Now { more, ..Now::default() };
        let mut ln_det = 0.0;
        let acting = if open.is_empty() {
            None
        } else {
            let deviations: Vec<f64> =
                open.iter().map(|one| one.standard_uncertainty / scale).collect();
            let ahead = open.iter().map(|one| one.ahead).collect();
            let acting = Acting::new(rows, &deviations, ahead, (&o, &p, &y))?;
            whole = acting.whole(whole);
            yy = acting.left_of_yy(yy, &acting.with(&y));
            let (less_center, found, variance) = acting.now();
            now = Now { less_center, more: more + found, variance };
            ln_det = acting.ln_det;
            Some(acting)
        };
        let floor = (input.resolution.abs() / 12.0_f64.sqrt() / scale).powi(2);
        let before = Before::of(input.ground, rho, shift, scale, floor);
        let ln_base = before.ln_base - 0.5 * correlated * (1.0 - rho * rho).ln() - 0.5 * ln_det;
        let Before { n0, c0, nu0, twice_b0, .. } = before;
        Ok(Self { rho, o, w, y, sums, acting, whole, yy, now, n0, c0, nu0, twice_b0, ln_base })
    }

    fn left(&self, products: Products, by: impl Fn(&Acting, Products) -> Products) -> Products {
        self.acting.as_ref().map_or(products, |acting| by(acting, products))
    }

    /// A step: one from `at` on.
    pub(super) fn step(&self, at: usize) -> Products {
        let after = self.sums[at + 1];
        let products = Products {
            oh: after.oo + self.o[at] * self.w[at],
            hh: after.oo + self.w[at] * self.w[at],
            hy: after.oy + self.w[at] * self.y[at],
            ahead: 0.0,
        };
        self.left(products, |acting, of| acting.step(of, at, self.w[at]))
    }

    /// A drift: the time since the check `at`.
    pub(super) fn drift(&self, at: usize, times: &[f64]) -> Products {
        let (after, t) = (self.sums[at + 1], times[at]);
        let products = Products {
            oh: after.po - t * after.oo,
            hh: after.pp - 2.0 * t * after.po + t * t * after.oo,
            hy: after.py - t * after.oy,
            ahead: 0.0,
        };
        self.left(products, |acting, of| acting.drift(of, at, t))
    }

    /// A drift from the check `at` that stopped at the check `end`.
    pub(super) fn stopped(&self, at: usize, end: usize, times: &[f64]) -> Products {
        let after = self.sums[end + 1];
        let (within, t) = (self.sums[at + 1].minus(after), times[at]);
        let height = times[end] - t;
        let products = Products {
            oh: within.po - t * within.oo + height * after.oo,
            hh: within.pp - 2.0 * t * within.po + t * t * within.oo + height * height * after.oo,
            hy: within.py - t * within.oy + height * after.oy,
            ahead: 0.0,
        };
        self.left(products, |acting, of| acting.stopped(of, (at, end), (t, height)))
    }

    /// A knock: one for `length` checks from `at` on; the check after it exists.
    pub(super) fn knock(&self, at: usize, length: usize) -> Products {
        let mut products = Products::default();
        let mut shape = [0.0; LONGEST_KNOCK + 1];
        for (place, index) in (at..=at + length).enumerate() {
            let h = match index {
                first if first == at => self.w[index],
                end if end == at + length => self.o[index] - self.w[index],
                _ => self.o[index],
            };
            shape[place] = h;
            products.oh += self.o[index] * h;
            products.hh += h * h;
            products.hy += h * self.y[index];
        }
        self.left(products, |acting, of| acting.knock(of, at, &shape[..=length]))
    }
}

/// What is whitened.
struct Known<'a> {
    times: &'a [f64],
    values: &'a [f64],
    influences: &'a [Influence<'a>],
}

/// What the baseline says, for one ρ.
struct Before {
    n0: f64,
    c0: f64,
    nu0: f64,
    twice_b0: f64,
    ln_base: f64,
}

impl Before {
    fn of(ground: Ground<'_>, rho: f64, shift: f64, scale: f64, floor: f64) -> Self {
        let ln = (1.0 - rho * rho).ln();
        match ground {
            Ground::Baseline(values) => {
                let gain = 1.0 / (1.0 - rho * rho).sqrt();
                let (mut n0, mut sum, mut squares) = (0.0, 0.0, 0.0);
                let mut last = None;
                for value in values {
                    let z = (value - shift) / scale;
                    let (o, y) = match last {
                        None => (1.0, z),
                        Some(last) => (gain * (1.0 - rho), gain * (z - rho * last)),
                    };
                    n0 += o * o;
                    sum += o * y;
                    squares += y * y;
                    last = Some(z);
                }
                let nu0 = values.len() as f64 - 1.0;
                let twice_b0 = (squares - sum * sum / n0).max(nu0 * floor);
                // The prior before it, flat in the centre and in ln σ, makes its own likelihood
                // n₀^(−½)·b₀^(−ν₀/2): both cancel against what the posterior from it is normed by.
                Self { n0, c0: sum / n0, nu0, twice_b0, ln_base: -0.5 * nu0 * ln }
            }
            Ground::Known { center, center_worth, degrees_of_freedom, autocorrelation, .. } => {
                let worth = center_worth.max(1e-6);
                // A mean of n checks that resemble each other is worth fewer.
                let n0 = if worth > 1.0 {
                    1.0 + (worth - 1.0) * (1.0 - rho) / (1.0 + rho)
                } else {
                    worth
                };
                let nu0 = degrees_of_freedom.unwrap_or(GIVEN).max(1.0);
                let told = autocorrelation.map_or(0.0, |(r, points)| {
                    let variance = (1.0 - rho * rho) / points.max(1) as f64;
                    -0.5 * (r - rho) * (r - rho) / variance - 0.5 * variance.ln()
                });
                let c0 = (center - shift) / scale;
                Self { n0, c0, nu0, twice_b0: nu0, ln_base: 0.5 * n0.ln() + told }
            }
        }
    }
}
