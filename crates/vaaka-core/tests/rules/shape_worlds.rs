//! Worlds with a known truth, looked at as a chart is: how often the intervals of onset and crossing hold it, how often a
//! drift is told that is none. Shared by the table in `docs/DETECTION.md` and by the tests.

use std::fmt::Write;

use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use vaaka_core::history::{Ground, Shape, ShapeInput, Told, estimate_drift, shape};

use super::policies::normal;

/// What surrounds a series.
#[derive(Debug, Clone, Copy)]
pub struct Around {
    pub name: &'static str,
    /// Checks of the baseline.
    pub baseline: usize,
    /// Autocorrelation of the noise.
    pub rho: f64,
    /// Step of the display, in sigmas.
    pub step: f64,
    /// Share of shifts without a check, besides two days a week.
    pub missed: Option<f64>,
}

pub const AROUND: [Around; 6] = [
    Around {
        name: "independent noise, baseline of 50",
        baseline: 50,
        rho: 0.0,
        step: 0.0,
        missed: None,
    },
    Around { name: "autocorrelated, ρ = 0.3", baseline: 50, rho: 0.3, step: 0.0, missed: None },
    Around { name: "autocorrelated, ρ = 0.6", baseline: 50, rho: 0.6, step: 0.0, missed: None },
    Around { name: "display of half a sigma", baseline: 50, rho: 0.0, step: 0.5, missed: None },
    Around { name: "baseline of 20", baseline: 20, rho: 0.0, step: 0.0, missed: None },
    Around {
        name: "weekends off, one check in ten missed",
        baseline: 50,
        rho: 0.0,
        step: 0.0,
        missed: Some(0.1),
    },
];

/// Where the level is at a time, in shifts since the baseline.
#[derive(Debug, Clone, Copy)]
pub enum Truth {
    Flat,
    Step { at: f64, size: f64 },
    Drift { from: f64, slope: f64 },
    Stopped { from: f64, slope: f64, until: f64 },
}

/// Half-width of the tolerance, in sigmas.
pub const LIMIT: f64 = 8.0;

impl Truth {
    pub fn level(self, time: f64) -> f64 {
        match self {
            Self::Flat => 0.0,
            Self::Step { at, size } => {
                if time >= at {
                    size
                } else {
                    0.0
                }
            }
            Self::Drift { from, slope } => slope * (time - from).max(0.0),
            Self::Stopped { from, slope, until } => slope * (time.min(until) - from).max(0.0),
        }
    }
}

/// One series: its baseline and the checks after it, with their shifts.
#[derive(Debug)]
pub struct World {
    pub baseline: Vec<f64>,
    pub shifts: Vec<f64>,
    pub values: Vec<f64>,
    step: f64,
}

impl World {
    pub fn new(around: Around, truth: Truth, shifts: usize, random: &mut ChaCha8Rng) -> Self {
        let mut before = normal(random);
        let mut noise = |random: &mut ChaCha8Rng| {
            before = around.rho * before + (1.0 - around.rho * around.rho).sqrt() * normal(random);
            before
        };
        let shown = |value: f64| {
            if around.step > 0.0 { (value / around.step).round() * around.step } else { value }
        };
        let baseline = (0..around.baseline).map(|_| shown(noise(random))).collect();
        let (mut times, mut values) = (vec![], vec![]);
        for shift in 0..shifts {
            let missed = around
                .missed
                .is_some_and(|share| (shift / 3) % 7 >= 5 || random.random::<f64>() < share);
            if !missed {
                times.push(shift as f64);
                values.push(shown(truth.level(shift as f64) + noise(random)));
            }
        }
        Self { baseline, shifts: times, values, step: around.step }
    }

    /// What is seen after so many checks.
    pub fn look(&self, checks: usize) -> Shape {
        let points: Vec<(Timestamp, f64)> = self.shifts[..checks]
            .iter()
            .map(|shift| moment(*shift))
            .zip(self.values[..checks].iter().copied())
            .collect();
        let input = ShapeInput {
            ground: Ground::Baseline(&self.baseline),
            points: &points,
            events: &[],
            lower: Some(-LIMIT),
            upper: Some(LIMIT),
            resolution: self.step,
            influences: &[],
            fan: 0,
        };
        shape(&input).unwrap()
    }

    /// Numbers of checks at which is looked: every few, as far as the shift.
    fn looks(&self, every: usize, until: f64) -> impl Iterator<Item = usize> {
        let most = self.shifts.partition_point(|shift| *shift < until);
        (10..=most).step_by(every)
    }
}

pub fn moment(shift: f64) -> Timestamp {
    let seconds = (shift * 28_800.0) as i64;
    Timestamp::from_second(1_790_000_000)
        .unwrap()
        .checked_add(SignedDuration::from_secs(seconds))
        .unwrap()
}

/// What was found over many drifts.
#[derive(Debug, Default)]
pub struct Drifts {
    /// Worlds in which the drift was told before it crossed.
    pub told: usize,
    /// Intervals of the crossing that hold it: of the first that was told; of all; of how many.
    pub first: usize,
    pub holds: usize,
    pub all: usize,
    /// Intervals of the first single failure that hold it.
    pub first_check: usize,
    pub onset: usize,
    /// Intervals of a straight line from the median onset on that hold the crossing; of how many.
    pub line: usize,
    pub lines: usize,
    /// Widths of the onset's intervals, in checks, and predicted time by true time, to be sorted.
    pub widths: Vec<f64>,
    pub ratios: Vec<f64>,
    /// Days before the crossing at which it was first told.
    pub leads: Vec<f64>,
}

/// Drifts of random slope and onset, looked at every few checks until they cross.
pub fn drifts(around: Around, worlds: usize, seed: u64) -> Drifts {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut found = Drifts::default();
    for _ in 0..worlds {
        let slope = 0.02 * 10.0_f64.powf(random.random::<f64>());
        let from = random.random_range(20.0..120.0);
        let crossing = from + LIMIT / slope;
        let truth = Truth::Drift { from, slope };
        // A single check fails at the latest a little after the level has crossed.
        let world = World::new(around, truth, crossing as usize + 60, &mut random);
        let mut first = true;
        for checks in world.looks(6, crossing) {
            let seen = world.look(checks);
            if seen.told != Told::Drift {
                continue;
            }
            let Some(ahead) = seen.ahead.filter(|ahead| !ahead.beyond) else { continue };
            let Some(level) = ahead.level else { continue };
            found.all += 1;
            let now = world.shifts[checks - 1];
            let truth = moment(crossing);
            let holds =
                level.earliest <= truth && level.latest.is_none_or(|latest| truth <= latest);
            found.holds += usize::from(holds);
            // The first single failure after now.
            let fails = (checks..world.values.len()).find(|i| world.values[*i] > LIMIT);
            let fails = fails.map_or(Timestamp::MAX, |i| moment(world.shifts[i]));
            found.first_check += usize::from(ahead.first_check.is_some_and(|when| {
                when.earliest <= fails && when.latest.is_none_or(|latest| fails <= latest)
            }));
            let onset = seen.onset.unwrap();
            let from_at = moment(from);
            // An onset is told to a check: each check stands for half the way to its neighbours.
            let slack = SignedDuration::from_hours(4);
            let low = onset.low.checked_sub(slack).unwrap();
            let high = onset.high.checked_add(slack).unwrap();
            found.onset += usize::from(low <= from_at && from_at <= high);
            found.widths.push(onset.high.duration_since(onset.low).as_secs_f64() / 28_800.0);
            let since = world.shifts.partition_point(|shift| moment(*shift) < onset.median);
            let points: Vec<(Timestamp, f64)> =
                (since..checks).map(|i| (moment(world.shifts[i]), world.values[i])).collect();
            if let Ok(Some(crossing)) =
                estimate_drift(&points, Some(-LIMIT), Some(LIMIT)).map(|drift| drift.crossing)
            {
                found.lines += 1;
                let holds = crossing.earliest <= truth
                    && crossing.latest.is_none_or(|latest| truth <= latest);
                found.line += usize::from(holds);
            }
            if let Some(median) = level.median {
                let ahead = median.duration_since(moment(now)).as_secs_f64() / 28_800.0;
                found.ratios.push(ahead / (crossing - now));
            }
            if first {
                found.told += 1;
                found.first += usize::from(holds);
                found.leads.push((crossing - now) / 3.0);
                first = false;
            }
        }
    }
    for list in [&mut found.widths, &mut found.ratios, &mut found.leads] {
        list.sort_by(f64::total_cmp);
    }
    found
}

/// Share of worlds in which a drift is ever told, looked at every few checks over so many shifts.
pub fn ever_told(
    around: Around,
    worlds: usize,
    seed: u64,
    truth: impl Fn(&mut ChaCha8Rng) -> Truth,
) -> f64 {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let told = (0..worlds)
        .filter(|_| {
            let truth = truth(&mut random);
            let world = World::new(around, truth, 240, &mut random);
            world.looks(8, 240.0).any(|checks| world.look(checks).told == Told::Drift)
        })
        .count();
    told as f64 / worlds as f64
}

/// A step of one to four sigmas somewhere.
pub fn steps(random: &mut ChaCha8Rng) -> Truth {
    Truth::Step { at: random.random_range(20.0..120.0), size: random.random_range(1.0..4.0) }
}

/// Share of drifts that are told after so many checks since they stopped, of worlds in which one stopped at two to five
/// sigmas.
pub fn stopped(around: Around, worlds: usize, seed: u64, after: &[usize]) -> Vec<f64> {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut told = vec![0_usize; after.len()];
    for _ in 0..worlds {
        let slope = 0.03 * 10.0_f64.powf(random.random::<f64>());
        let from = random.random_range(20.0..80.0);
        let until: f64 = from + random.random_range(2.0..5.0) / slope;
        let truth = Truth::Stopped { from, slope, until };
        let most = after.iter().max().unwrap();
        let world = World::new(around, truth, until as usize + 2 * most, &mut random);
        let stop = world.shifts.partition_point(|shift| *shift < until);
        for (told, after) in told.iter_mut().zip(after) {
            *told += usize::from(world.look(stop + after).told == Told::Drift);
        }
    }
    told.into_iter().map(|told| told as f64 / worlds as f64).collect()
}

pub fn median(sorted: &[f64]) -> f64 {
    sorted.get(sorted.len() / 2).copied().unwrap_or(f64::NAN)
}

/// All rows, as many at once as there are processors.
fn at_once<T: Send>(row: impl Fn(Around) -> T + Sync) -> Vec<(Around, T)> {
    let row = &row;
    std::thread::scope(|threads| {
        let rows: Vec<_> =
            AROUND.into_iter().map(|one| (one, threads.spawn(move || row(one)))).collect();
        rows.into_iter().map(|(one, row)| (one, row.join().unwrap())).collect()
    })
}

/// The rows of `docs/DRIFT.md`, from so many worlds each.
fn table(worlds: usize) -> String {
    let mut text = format!(
        "# What is told of a drift, and how often it is right\n\nSimulated, {worlds} worlds a row, seeded (`crates/vaaka-core/tests/rules/shape_worlds.rs`; \
         `WORLDS={worlds} VAAKA_WRITE_DOCS=1 cargo test --release -p vaaka-core --test rules -- --ignored shape_worlds` writes this page). A drift of 0.02 to 0.2 σ a check begins 20 to 120 checks \
         after the baseline and runs to a limit of {LIMIT} σ; every six checks it is looked at until its level crosses. *First*, *all*: shares of the 95 % intervals of the crossing that hold it, of the \
         first that is told and of all. *Single*: of the first single check outside. *Onset*: of its beginning, with the median width. *Ratio*: predicted by true time to the crossing, median. *Lead*: days \
         before the crossing at which it is first told, three checks a day, median. *Straight line*: share of the intervals of a straight line from the median onset on that hold the crossing.\n\n\
         | worlds | told | first | all (of) | single | onset, width | ratio | lead | straight line |\n|---|---|---|---|---|---|---|---|---|\n"
    );
    for (around, found) in at_once(|around| drifts(around, worlds, 1)) {
        let share = |n: usize| 100.0 * n as f64 / found.all.max(1) as f64;
        writeln!(
            text,
            "| {} | {:.0} % | {:.1} % | {:.1} % ({}) | {:.1} % | {:.1} %, {:.0} checks | {:.2} | {:.0} d | {:.1} % |",
            around.name,
            100.0 * found.told as f64 / worlds as f64,
            100.0 * found.first as f64 / found.told.max(1) as f64,
            share(found.holds),
            found.all,
            share(found.first_check),
            share(found.onset),
            median(&found.widths),
            median(&found.ratios),
            median(&found.leads),
            100.0 * found.line as f64 / found.lines.max(1) as f64,
        )
        .unwrap();
    }
    text.push_str(
        "\nWhat is no drift: shares of worlds in which one is told at any look, every eight checks over 240; of drifts that stopped at 2 to 5 σ, the share still told so many checks later.\n\n\
         | worlds | nothing changes | a step of 1 to 4 σ | stopped: 10 later | 40 | 80 |\n|---|---|---|---|---|---|\n",
    );
    let rows = at_once(|around| {
        let flat = ever_told(around, worlds, 2, |_| Truth::Flat);
        (flat, ever_told(around, worlds, 3, steps), stopped(around, worlds, 4, &[10, 40, 80]))
    });
    for (around, (flat, step, still)) in rows {
        writeln!(
            text,
            "| {} | {:.1} % | {:.1} % | {:.0} % | {:.1} % | {:.1} % |",
            around.name,
            100.0 * flat,
            100.0 * step,
            100.0 * still[0],
            100.0 * still[1],
            100.0 * still[2],
        )
        .unwrap();
    }
    text
}

fn page() -> std::path::PathBuf {
    std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/DRIFT.md")
}

#[test]
#[ignore = "a thousand worlds a row take some minutes in release"]
fn the_page_is_what_the_worlds_do() {
    let worlds = std::env::var("WORLDS").ok().and_then(|n| n.parse().ok()).unwrap_or(1_000);
    let text = table(worlds);
    println!("{text}");
    if std::env::var_os("VAAKA_WRITE_DOCS").is_some() {
        std::fs::write(page(), &text).unwrap();
    }
    assert!(std::fs::read_to_string(page()).unwrap() == text, "write docs/DRIFT.md anew");
}

/// Numbers of a row of the page, in their order.
fn numbers(row: &str) -> Vec<f64> {
    row.split('|')
        .skip(2)
        .flat_map(|cell| cell.split([' ', '(', ')', ',']))
        .filter_map(|word| word.parse().ok())
        .collect()
}

/// What the page promises: intervals that hold what they should, hardly a drift where there is none, each within what so many
/// worlds leave open (three standard errors of a share).
#[test]
fn the_page_keeps_what_was_asked_of_it() {
    let page = std::fs::read_to_string(page()).unwrap();
    let worlds: f64 = page
        .split("Simulated, ")
        .nth(1)
        .and_then(|rest| rest.split(' ').next())
        .and_then(|count| count.parse().ok())
        .unwrap();
    assert!(worlds >= 100.0);
    let open = |share: f64| 300.0 * (share * (1.0 - share) / worlds).sqrt();
    for around in AROUND {
        let rows: Vec<Vec<f64>> = page
            .lines()
            .filter(|line| line.starts_with(&format!("| {} |", around.name)))
            .map(numbers)
            .collect();
        let [drifts, others] = rows.as_slice() else { panic!("{}: {rows:?}", around.name) };
        for (what, place) in [("first", 1), ("all", 2), ("single", 4), ("onset", 5)] {
            let held = drifts[place];
            assert!(held >= 93.0 - open(0.93), "{} {what}: {drifts:?}", around.name);
            assert!(held <= 97.0 + open(0.97), "{} {what}: {drifts:?}", around.name);
        }
        assert!(drifts[0] > 97.0 && (drifts[7] - 1.0).abs() < 0.1, "{drifts:?}");
        assert!(others[0] <= 0.5 + open(0.005), "{others:?}");
        assert!(others[1] <= 10.0 + open(0.1) && others[3] <= 5.0 + open(0.05), "{others:?}");
    }
}

/// The same, a few worlds of it, computed here: what the page says is what the code does.
#[test]
fn a_few_worlds_do_what_the_page_says() {
    for around in [AROUND[0], AROUND[5]] {
        let found = drifts(around, 12, 17);
        assert_eq!(found.told, 12, "{}", around.name);
        // Of one world all looks see the same checks: the intervals of twelve are no twelve times twenty draws.
        assert!(found.holds as f64 > 0.8 * found.all as f64, "{found:?}");
        assert!(found.onset as f64 > 0.75 * found.all as f64, "{found:?}");
        assert!((median(&found.ratios) - 1.0).abs() < 0.2, "{found:?}");
    }
    assert_eq!(ever_told(AROUND[0], 12, 5, |_| Truth::Flat), 0.0);
    assert!(stopped(AROUND[0], 12, 6, &[60])[0] < 0.2);
}
