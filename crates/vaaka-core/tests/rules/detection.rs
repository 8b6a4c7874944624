//! Known steps and drifts, simulated: the share found, the delay and the false alarms of each design, as
//! the table in `docs/DETECTION.md`. The table is what this test computes; with `VAAKA_WRITE_DOCS=1` it is
//! written anew.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fmt::Write;
use std::path::Path;

use super::policies::{TOLERANCE, Way, YEAR, simulate};
use vaaka_core::chart::simulate::{
    Change, Circumstances, Detection, Runs, detection, run_length_of,
};
use vaaka_core::chart::{ChartDesign, Criteria, Criterion, RuleSet};

const QUIET: u32 = 100;
const WATCH: u32 = 60;
const RUNS: u32 = 5_000;

fn designs() -> Vec<(&'static str, ChartDesign)> {
    let of = |raising: &[Criterion]| ChartDesign {
        raising: raising.iter().copied().filter(|rule| rule.may_raise()).collect::<Criteria>(),
        ..ChartDesign::given(0.0, 1.0)
    };
    let mut three = of(&[Criterion::BeyondLimits]);
    (three.below, three.above) = (3.0, 3.0);
    let mut sums = of(&[Criterion::BeyondLimits, Criterion::Cusum]);
    (sums.below, sums.above) = (3.5, 3.5);
    sums.cusum.interval = 5.2;
    vec![
        (
            "limits at 3.25 σ and slow average (default)",
            of(&[Criterion::BeyondLimits, Criterion::Ewma]),
        ),
        ("limits at 3.5 σ and cumulative sums, h = 5.2", sums),
        ("limits at 3 σ alone", three),
        ("four zone rules", of(RuleSet::Zones.rules())),
        ("eight rules of Nelson 1984", of(RuleSet::Nelson.rules())),
        ("laboratory multirules within a level", of(RuleSet::Multirules.rules())),
    ]
}

fn changes() -> Vec<(String, Change)> {
    let steps = [0.5, 1.0, 1.5, 2.0, 3.0];
    let drifts = [0.02, 0.05, 0.1, 0.2];
    steps
        .into_iter()
        .map(|sigmas| (format!("step of {sigmas} σ"), Change::Step { sigmas }))
        .chain(drifts.into_iter().map(|sigmas_a_check| {
            let words = format!("drift of {sigmas_a_check} σ a check");
            (words, Change::Drift { sigmas_a_check })
        }))
        .collect()
}

fn found(design: &ChartDesign, change: Change) -> Detection {
    detection(design, change, (QUIET, WATCH), Runs { seed: 1_987, runs: RUNS }).unwrap()
}

#[test]
fn the_table_is_what_the_designs_do() {
    let mut text = format!(
        "# What each design finds\n\nSimulated: {QUIET} quiet checks, then a change and {WATCH} checks more, {RUNS} times each, independent normal values, seeded \
         (`crates/vaaka-core/tests/rules/detection.rs` computes this table, and fails when it is not what stands here). *Found*: the change was signalled on its own side \
         within the {WATCH} checks, with the standard error of the simulation. *Delay*: the checks until then, median over those found, with its 95 % interval. *False alarms*: signals \
         opened in a thousand quiet checks. The run length in control, from the start of a segment on, is exact where it stands alone, else simulated with its standard error.\n"
    );
    let changes = changes();
    for (name, design) in designs() {
        let quiet = run_length_of(&design, Change::None, Circumstances::default()).unwrap();
        let error = quiet.standard_error.map_or(String::new(), |error| format!(" ± {error:.0}"));
        let first = found(&design, changes[0].1);
        write!(
            text,
            "\n## {name}\n\nIn control a false alarm every {:.0}{error} checks; {:.2} ± {:.2} signals opened in a thousand quiet checks.\n\n| change | found | delay |\n|---|---|---|\n",
            quiet.average, first.false_alarms, first.false_alarms_standard_error
        )
        .unwrap();
        for (words, change) in &changes {
            let one = found(&design, *change);
            let delay = one.delay.map_or("–".to_owned(), |delay| {
                format!("{:.0} ({:.0} to {:.0})", delay.median, delay.low, delay.high)
            });
            let (found, error) = (100.0 * one.found, 100.0 * one.found_standard_error);
            writeln!(text, "| {words} | {found:.1} ± {error:.1} % | {delay} |").unwrap();
        }
    }
    text.push_str(&policies_table());
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/DETECTION.md");
    if std::env::var_os("VAAKA_WRITE_DOCS").is_some() {
        std::fs::write(&path, &text).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap();
    assert!(
        kept == text,
        "docs/DETECTION.md is not what the designs do; write it with VAAKA_WRITE_DOCS=1:\n{text}"
    );
}

/// Ways of adjusting, on a stable instrument and on drifting ones.
fn policies_table() -> String {
    let mut text = format!(
        "\n# What each way of adjusting does\n\nSimulated over forty years of {YEAR} checks, eight where the level is looked at after each check, seeded (`crates/vaaka-core/tests/policies`), tolerance ±{TOLERANCE} σ of a check. *Level*: root of the mean squared true \
         error of the instrument. *Worse*: adjustments that left it further off than it was. *Left*: mean of what adjustments left, towards the side on which it was; correcting \
         by the error of a failing check overshoots, because failing checks are chosen for being far out. Standard errors of the rates are below a tenth of them, or of one; of the shorter ones twice that.\n"
    );
    for drift in [0.0, 0.02, 0.05] {
        let heading = if drift == 0.0 {
            "a stable instrument".to_owned()
        } else {
            format!("a drift of {drift} σ a check")
        };
        write!(
            text,
            "\n## {heading}\n\n| adjusted | adjustments a year | worse | left | level | failures a year |\n|---|---|---|---|---|---|\n"
        )
        .unwrap();
        for way in Way::ALL {
            // A drift that nobody stops runs away.
            if way == Way::Never && drift > 0.0 {
                continue;
            }
            // Looking at all shapes at every check takes its time.
            let years = if way == Way::GuardFraction { 8 } else { 40 };
            let found = simulate(way, drift, years * YEAR);
            let n = found.adjustments.len();
            let (worse, left) = if n == 0 {
                ("–".to_owned(), "–".to_owned())
            } else {
                let share = 100.0 * found.worse() as f64 / n as f64;
                (format!("{share:.0} %"), format!("{:+.2} σ", found.left()))
            };
            writeln!(
                text,
                "| {} | {:.1} | {worse} | {left} | {:.2} σ | {:.1} |",
                way.words(),
                found.a_year(n),
                found.root_mean_square_level(),
                found.a_year(found.failures()),
            )
            .unwrap();
        }
    }
    text
}

/// What the table is for: the default design finds a step of one sigma nearly always, sooner than limits
/// alone, and with fewer false alarms than any set of rules.
#[test]
fn the_default_is_a_good_default() {
    let all = designs();
    let step = Change::Step { sigmas: 1.0 };
    let default = found(&all[0].1, step);
    assert!(default.found > 0.97, "{default:?}");
    let alone = found(&all[2].1, step);
    let median = |one: &Detection| one.delay.unwrap().median;
    assert!(alone.found < 0.9 && median(&alone) > median(&default), "{alone:?}");
    for (name, rules) in &all[3..] {
        assert!(found(rules, step).false_alarms > 2.0 * default.false_alarms, "{name}");
    }
}
