//! The chart's fold, with limits, EWMA and both rule sets, beside a plain sum of the same array.

use std::hint::black_box;
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vaaka_core::chart::{ChartDesign, ChartPoint, ChartState, Criteria, Criterion};

const POINTS: usize = 1_000_000;

fn design(raising: Criteria) -> ChartDesign {
    ChartDesign { raising, advisory: Criteria::NONE, ..ChartDesign::given(0.0, 1.0) }
}

fn fastest(mut work: impl FnMut()) -> Duration {
    (0..5)
        .map(|_| {
            let start = Instant::now();
            work();
            start.elapsed()
        })
        .min()
        .unwrap()
}

fn fold(design: &ChartDesign, points: &[ChartPoint]) -> u64 {
    let mut state = ChartState::new(SignedDuration::from_hours(8));
    points.iter().filter(|point| !state.push(design, point).firings().is_empty()).count() as u64
}

pub fn run() {
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    let values: Vec<f64> = (0..POINTS)
        .map(|_| {
            let radius = (-2.0 * (1.0 - rng.random::<f64>()).ln()).sqrt();
            radius * (std::f64::consts::TAU * rng.random::<f64>()).cos()
        })
        .collect();
    let points: Vec<ChartPoint> = values
        .iter()
        .enumerate()
        .map(|(index, value)| {
            let second = 1_000_000_000 + index as i64 * 28_800;
            ChartPoint::new(Timestamp::from_second(second).unwrap(), *value)
        })
        .collect();
    let sum = fastest(|| {
        black_box(black_box(&values).iter().sum::<f64>());
    });
    let signals: Criteria = [Criterion::BeyondLimits, Criterion::Ewma].into_iter().collect();
    let (plain, full) = (design(signals), design(Criterion::ALL.into_iter().collect()));
    let default = fastest(|| {
        black_box(fold(&plain, black_box(&points)));
    });
    let everything = fastest(|| {
        black_box(fold(&full, black_box(&points)));
    });
    let each = |time: Duration| time.as_secs_f64() * 1e9 / POINTS as f64;
    println!("chart evaluation, {POINTS} points");
    println!("  plain sum                            {:>8.2} ns a point", each(sum));
    for (what, time) in [
        ("limits and EWMA (default signals)", default),
        ("both named rule sets besides", everything),
    ] {
        println!(
            "  {what:<36} {:>8.2} ns a point   {:>6.1} × the sum",
            each(time),
            time.as_secs_f64() / sum.as_secs_f64()
        );
    }
}
