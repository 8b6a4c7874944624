//! The chart's fold, with limits, EWMA, cumulative sums and every rule, beside a plain sum of the same
//! array, and beside NumPy where it is there.

use std::hint::black_box;
use std::process::Command;
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vaaka_core::chart::{ChartDesign, ChartPoint, ChartState, Criteria, Criterion};

const POINTS: usize = 10_000_000;
const SHIFT: SignedDuration = SignedDuration::from_hours(8);

fn design(raising: Criteria, advisory: Criteria) -> ChartDesign {
    ChartDesign { raising, advisory, ..ChartDesign::given(0.0, 1.0) }
}

fn fastest(times: usize, mut work: impl FnMut()) -> Duration {
    (0..times)
        .map(|_| {
            let start = Instant::now();
            work();
            start.elapsed()
        })
        .min()
        .unwrap()
}

fn fold(design: &ChartDesign, times: &[Timestamp], values: &[f64]) -> u64 {
    let (mut state, mut signals) = (ChartState::new(SHIFT), 0);
    let points = times.iter().copied().zip(values.iter().copied());
    state.run(design, points, |point| signals += u64::from(!point.firings().is_empty()));
    signals
}

/// The same with NumPy: limits, EWMA and cumulative sums by a loop that its arrays cannot avoid (SciPy's
/// lfilter for the EWMA where it is there), the rules by shifted arrays.
const NUMPY: &str = r"
import sys, time
try:
    import numpy as n
except ImportError:
    sys.exit(3)
z = n.random.default_rng(5).standard_normal(int(sys.argv[1]))
def best(work, times=3):
    found = []
    for _ in range(times):
        start = time.perf_counter(); work(); found.append(time.perf_counter() - start)
    return min(found)
def row(flags, count):
    out = flags.copy()
    for back in range(1, count):
        out[back:] &= flags[:-back]
    out[:count - 1] = False
    return out
def full():
    fired = n.abs(z) > 3.25
    try:
        from scipy.signal import lfilter
        ewma = lfilter([0.1], [1, -0.9], z)
    except ImportError:
        ewma, last = n.empty_like(z), 0.0
        for index, value in enumerate(z):
            last = 0.1 * value + 0.9 * last; ewma[index] = last
    i = n.arange(1, len(z) + 1)
    fired |= n.abs(ewma) > 3.1 * n.sqrt(0.1 / 1.9 * (1 - 0.9 ** (2.0 * i)))
    for s in (z, -z):
        steps = n.cumsum(s - 0.5)
        low = n.minimum.accumulate(n.minimum(steps, 0))
        fired |= steps - low > 4.77
        two, one = s > 2, s > 1
        fired |= s > 3
        fired |= two & (n.r_[False, two[:-1]] | n.r_[False, False, two[:-2]])
        count = n.convolve(one, n.ones(5), 'full')[:len(s)]
        fired |= one & (count >= 4)
        fired |= row(s > 0, 8) | row(s > 0, 9) | row(s > 0, 10) | row(one, 4)
        fired |= row(n.r_[False, n.diff(s) > 0], 5)
    turns = n.r_[False, False, (n.diff(z)[1:] * n.diff(z)[:-1]) < 0]
    fired |= row(turns, 12) | row(n.abs(z) < 1, 15) | row(n.abs(z) > 1, 8)
    return fired.sum()
print(best(lambda: z.sum(), 5), best(full, 2))
";

fn numpy() -> Option<(f64, f64)> {
    let ran = Command::new("python3").args(["-c", NUMPY, &POINTS.to_string()]).output().ok()?;
    let text = String::from_utf8(ran.stdout).ok()?;
    let (sum, full) = text.trim().split_once(' ')?;
    Some((sum.parse().ok()?, full.parse().ok()?))
}

pub fn run() {
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    let values: Vec<f64> = (0..POINTS)
        .map(|_| {
            let radius = (-2.0 * (1.0 - rng.random::<f64>()).ln()).sqrt();
            radius * (std::f64::consts::TAU * rng.random::<f64>()).cos()
        })
        .collect();
    let times: Vec<Timestamp> = (0..POINTS)
        .map(|index| {
            Timestamp::from_second(1_000_000_000 + index as i64 * 28_800 % 200_000_000_000)
        })
        .map(Result::unwrap)
        .collect();
    let sum = fastest(9, || {
        black_box(black_box(&values).iter().sum::<f64>());
    });
    let signals: Criteria = [Criterion::BeyondLimits, Criterion::Ewma].into_iter().collect();
    let all: Criteria = Criterion::ALL.into_iter().collect();
    let rules: Criteria = all.iter().filter(|criterion| criterion.may_raise()).collect();
    let (plain, full) = (design(signals, Criteria::NONE), design(signals, rules.without(signals)));
    let warned = design(signals, all.without(signals));
    let default = fastest(5, || {
        black_box(fold(&plain, black_box(&times), black_box(&values)));
    });
    let everything = fastest(5, || {
        black_box(fold(&full, black_box(&times), black_box(&values)));
    });
    let warnings = fastest(5, || {
        black_box(fold(&warned, black_box(&times), black_box(&values)));
    });
    let each = |seconds: f64| seconds * 1e9 / POINTS as f64;
    println!("chart evaluation, {POINTS} points");
    println!("  plain sum                            {:>8.2} ns a point", each(sum.as_secs_f64()));
    for (what, time) in [
        ("limits, EWMA, CUSUM; default signals", default),
        ("every rule that can raise besides", everything),
        ("and a warning at every 22nd point", warnings),
    ] {
        println!(
            "  {what:<36} {:>8.2} ns a point   {:>6.1} × the sum",
            each(time.as_secs_f64()),
            time.as_secs_f64() / sum.as_secs_f64()
        );
    }
    match numpy() {
        Some((own, full)) => println!(
            "  NumPy: its sum {:.2}, the same evaluation {:.2} ns a point; it takes {:.1} × as long as the fold",
            each(own),
            each(full),
            full / everything.as_secs_f64()
        ),
        None => println!("  NumPy is not here; nothing to stand beside"),
    }
    grows_with_nothing(&full, &times, &values);
}

/// One more point after a thousand and after ten million: the fold does not grow.
fn grows_with_nothing(design: &ChartDesign, times: &[Timestamp], values: &[f64]) {
    for count in [1_000, POINTS] {
        let mut state = ChartState::new(SHIFT);
        for (at, value) in times[..count].iter().zip(&values[..count]) {
            state.push(design, &ChartPoint::new(*at, *value));
        }
        let bytes = serde_json::to_string(&state).map_or(0, |text| text.len());
        let time = fastest(5, || {
            let mut next = state.clone();
            for (at, value) in times[..10_000].iter().zip(&values[..10_000]) {
                black_box(next.push(design, &ChartPoint::new(*at, *value)));
            }
        });
        println!(
            "  one more point after {count:>10}           {:>8.2} ns, {bytes} bytes of state",
            time.as_secs_f64() * 1e9 / 10_000.0
        );
    }
}
