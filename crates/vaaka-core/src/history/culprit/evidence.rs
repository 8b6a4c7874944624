//! The evidence for one suspect, alone or beside another that is known.

use super::course::{Best, Course};
use super::site::{Site, Touched};

/// Prior standard deviations of an effect, in sigmas, equally likely.
const SIZES: [f64; 2] = [0.7, 2.0];
/// How unequally the instruments of an area move: a share of the effect, squared.
const UNEQUAL: f64 = 0.35 * 0.35;
/// Instruments of an area that are looked at one by one where another explanation is looked for beside it.
const MOST_COLUMNS: usize = 12;
/// Moments between which a stretch of an area may lie.
const STRETCHES: usize = 20;

/// What speaks for a suspect.
#[derive(Debug, Clone, Copy)]
pub(super) struct Evidence {
    /// Logarithm of the Bayes factor against nothing, averaged over course, onset and size.
    pub ln: f64,
    pub best: Best,
    /// Lower end of the 95 % interval of the onset, over courses and sizes.
    pub earliest: f64,
}

/// An explanation that is projected out: its whitened columns and what its prior leaves of them.
#[derive(Debug)]
pub(super) struct Known {
    /// For each read its columns that are not zero.
    columns: Vec<Vec<f64>>,
    diagonal: Vec<f64>,
    dots: Vec<f64>,
    prior: f64,
    unequal: f64,
}

fn height(course: Course, (from, until): (f64, f64), time: f64, last: f64) -> f64 {
    match course {
        Course::Step => f64::from(u8::from(time >= from)),
        Course::Drift => (time - from).max(0.0) / (last - from).max(1.0),
        Course::Stretch => f64::from(u8::from(time >= from && time < until)),
    }
}

/// Sums over a site of one shape of a suspect: of each of its columns x·x (the levels of the pairs taken out) and x·y.
struct Dots {
    xx: Vec<f64>,
    xy: Vec<f64>,
    /// x of all columns together with each column of what is known.
    cross: Vec<f64>,
    /// x·x and x·y of all columns together.
    whole: (f64, f64),
}

fn dots(site: &Site, touched: &Touched, shape: impl Fn(f64) -> f64, known: Option<&Known>) -> Dots {
    let columns = touched.members.as_ref().map_or(1, |(count, _)| *count);
    let (mut xx, mut xy) = (vec![0.0; columns], vec![0.0; columns]);
    let mut cross = vec![0.0; known.map_or(0, |known| known.columns.len())];
    // Each pair is of one instrument, and so of one column.
    let mut sums = vec![(0.0, 0); site.counts.len()];
    for (nth, (place, weight)) in touched.reads.iter().enumerate() {
        let read = &site.reads[*place];
        let x = weight * shape(read.time);
        if x == 0.0 {
            continue;
        }
        let column = touched.members.as_ref().map_or(0, |(_, of)| of[nth]);
        xx[column] += x * x;
        xy[column] += x * read.y;
        sums[read.pair].0 += x;
        sums[read.pair].1 = column;
        for (sum, column) in cross.iter_mut().zip(known.iter().flat_map(|known| &known.columns)) {
            *sum += x * column[*place];
        }
    }
    for ((sum, column), count) in sums.into_iter().zip(&site.counts) {
        xx[column] -= sum * sum / count;
    }
    let whole = (xx.iter().sum(), xy.iter().sum());
    Dots { xx, xy, cross, whole }
}

/// ln BF and posterior mean of the common effect of columns with prior κ²(11ᵀ + a·I), by Sherman and Morrison's inverse of a
/// diagonal and one more (1950; from memory).
fn ln_factor(xx: &[f64], xy: &[f64], prior: f64, unequal: f64) -> (f64, f64) {
    let (own, common) = (prior * prior * unequal, prior * prior);
    let (mut ln_det, mut shared, mut of_y) = (0.0, 0.0, 0.0);
    let total: f64 = xy.iter().sum();
    // u = Kv and w = (M + κ²1dᵀ)⁻¹u with M = 1 + a·κ²·d on the diagonal.
    for (d, v) in xx.iter().zip(xy) {
        let m = 1.0 + own * d;
        ln_det += m.ln();
        shared += d / m;
        of_y += d / m * (own * v + common * total);
    }
    let det = 1.0 + common * shared;
    ln_det += det.ln();
    let (mut quadratic, mut mean) = (0.0, 0.0);
    for (d, v) in xx.iter().zip(xy) {
        let m = 1.0 + own * d;
        let w = (own * v + common * total) / m - common / m * of_y / det;
        quadratic += v * w;
        mean += w / xx.len() as f64;
    }
    (-0.5 * ln_det + 0.5 * quadratic, mean)
}

impl Known {
    pub(super) fn of(site: &Site, touched: &Touched, evidence: &Evidence) -> Self {
        let best = &evidence.best;
        // Each instrument of an area is a column of its own; of many all move as one, or a large site takes minutes.
        let members = touched.members.as_ref().filter(|(count, _)| *count <= MOST_COLUMNS);
        let count = members.map_or(1, |(count, _)| *count);
        let mut columns = vec![vec![0.0; site.reads.len()]; count];
        for (nth, (place, weight)) in touched.reads.iter().enumerate() {
            let column = members.map_or(0, |(_, of)| of[nth]);
            let time = site.reads[*place].time;
            columns[column][*place] =
                weight * height(best.course, (best.from, best.until), time, site.last);
        }
        for column in &mut columns {
            let mut sums = vec![0.0; site.counts.len()];
            for (read, x) in site.reads.iter().zip(column.iter()) {
                sums[read.pair] += x;
            }
            for (read, x) in site.reads.iter().zip(column.iter_mut()) {
                *x -= sums[read.pair] / site.counts[read.pair];
            }
        }
        let dot = |column: &Vec<f64>, other: &dyn Fn(usize) -> f64| {
            column.iter().enumerate().map(|(place, x)| x * other(place)).sum::<f64>()
        };
        let diagonal = columns.iter().map(|column| dot(column, &|place| column[place])).collect();
        let dots = columns.iter().map(|column| dot(column, &|place| site.reads[place].y)).collect();
        let unequal = if members.is_some() { UNEQUAL } else { 0.0 };
        Self { columns, diagonal, dots, prior: best.prior, unequal }
    }

    /// cᵀ(K⁻¹ + D)⁻¹u.
    fn projected(&self, c: &[f64], u: &[f64]) -> f64 {
        let (own, common) = (self.prior * self.prior * self.unequal, self.prior * self.prior);
        let total: f64 = u.iter().sum();
        let (mut shared, mut of_u) = (0.0, 0.0);
        for (d, u) in self.diagonal.iter().zip(u) {
            let m = 1.0 + own * d;
            shared += d / m;
            of_u += d / m * (own * u + common * total);
        }
        let det = 1.0 + common * shared;
        self.diagonal
            .iter()
            .zip(u)
            .zip(c)
            .map(|((d, u), c)| {
                let m = 1.0 + own * d;
                c * ((own * u + common * total) / m - common / m * of_u / det)
            })
            .sum()
    }
}

/// What speaks for a suspect, beside what is known.
pub(super) fn of(site: &Site, touched: &Touched, known: Option<&Known>) -> Evidence {
    let is_area = touched.members.is_some();
    let mut shapes: Vec<(Course, f64, f64, f64)> = Vec::new();
    let courses = if is_area { 3.0 } else { 2.0 };
    for from in &site.grid {
        let each = 1.0 / (courses * site.grid.len() as f64);
        shapes.push((Course::Step, *from, f64::INFINITY, each));
        shapes.push((Course::Drift, *from, f64::INFINITY, each));
    }
    if is_area {
        let step = site.grid.len().div_ceil(STRETCHES).max(1);
        let ends: Vec<f64> = site.grid.iter().step_by(step).copied().collect();
        let pairs = ends.len() * ends.len().saturating_sub(1) / 2;
        for (nth, from) in ends.iter().enumerate() {
            for until in &ends[nth + 1..] {
                shapes.push((Course::Stretch, *from, *until, 1.0 / (courses * pairs as f64)));
            }
        }
    }
    let mut all: Vec<(f64, Best)> = Vec::new();
    for (course, from, until, weight) in shapes {
        let shape = |time: f64| height(course, (from, until), time, site.last);
        let mut sums = dots(site, touched, shape, known);
        if let Some(known) = known {
            // Beside another explanation all columns move as one.
            let (xx, xy) = sums.whole;
            sums.xx = vec![(xx - known.projected(&sums.cross, &sums.cross)).max(0.0)];
            sums.xy = vec![xy - known.projected(&sums.cross, &known.dots)];
        }
        let unequal = if is_area && known.is_none() { UNEQUAL } else { 0.0 };
        for prior in SIZES {
            let (ln, size) = ln_factor(&sums.xx, &sums.xy, prior, unequal);
            let ln = ln + (weight / SIZES.len() as f64).ln();
            all.push((ln, Best { course, from, until, prior, size }));
        }
    }
    let nothing = Best { course: Course::Step, from: 0.0, until: 0.0, prior: SIZES[0], size: 0.0 };
    let (most, best) = all
        .iter()
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map_or((0.0, nothing), |(ln, best)| (*ln, *best));
    let sum: f64 = all.iter().map(|(ln, _)| (ln - most).exp()).sum();
    all.sort_by(|a, b| a.1.from.total_cmp(&b.1.from));
    let mut below = 0.0;
    let earliest = all.iter().find(|(ln, _)| {
        below += (ln - most).exp();
        below >= 0.025 * sum
    });
    Evidence {
        ln: if all.is_empty() { 0.0 } else { most + sum.ln() },
        best,
        earliest: earliest.map_or(best.from, |(_, one)| one.from),
    }
}
