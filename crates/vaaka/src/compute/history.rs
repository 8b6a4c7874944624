//! What a series of checks has done, since when, and where it leads: many series in one call.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::history::{
    self, Course, CrossRead, Finding, Ground, Interval, ShapeInput, Suspect, Told, When,
};

use super::words::{Moment, Word};
use super::{Computation, Compute, forecasts, said};

pub fn all() -> Vec<Computation> {
    vec![Computation::of::<Shapes>(), Computation::of::<Whose>(), forecasts::command()]
}

struct Shapes;

/// Series that are looked at, each by itself.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ShapesInput {
    /// The series.
    series: Vec<Series>,
}

/// One series.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Series {
    /// When each check after the baseline was measured, oldest first; the newest four hundred are looked at.
    at: Vec<Moment>,
    /// Their values.
    values: Vec<f64>,
    /// Check means of the baseline in their order, at least three; or “known”.
    #[serde(default)]
    baseline: Option<Vec<f64>>,
    /// What is known without a baseline.
    #[serde(default)]
    known: Option<Known>,
    /// Noted events: a change at one of them is twice as likely as at another check.
    #[serde(default)]
    events: Vec<Moment>,
    /// Lower tolerance limit; null where there is none.
    #[serde(default)]
    lower: Option<f64>,
    /// Upper tolerance limit.
    #[serde(default)]
    upper: Option<f64>,
    /// Step of the display in the unit of the values; zero where it does not matter.
    #[serde(default)]
    resolution: f64,
    /// What acts on the values besides, each known only so well: adjustments, the temperature.
    #[serde(default)]
    influences: Vec<Influence>,
}

/// An influence on the values.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Influence {
    /// How strongly it acts on each value: 1 from an adjustment on, or degrees about the mean temperature.
    acts: Vec<f64>,
    /// How strongly it acts from now on, on the level that is told and forecast: 1 for an adjustment, 0 at the mean temperature.
    ahead: f64,
    /// What a one of it does, in the unit of the values.
    effect: f64,
    /// Standard uncertainty of that.
    #[schemars(extend("minimum" = 0))]
    standard_uncertainty: f64,
}

/// What is known of a chart.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Known {
    /// Centre line.
    center: f64,
    /// Standard deviation of a check about it.
    #[schemars(extend("exclusiveMinimum" = 0))]
    std_dev: f64,
    /// Of how many checks the centre is worth the mean.
    #[schemars(extend("exclusiveMinimum" = 0))]
    center_worth: f64,
    /// Degrees of freedom of the standard deviation; null where it was given.
    #[serde(default)]
    degrees_of_freedom: Option<f64>,
    /// How much neighbouring checks resemble each other; null where nothing is known.
    #[serde(default)]
    autocorrelation: Option<f64>,
    /// Number of checks that says so.
    #[serde(default)]
    autocorrelation_points: usize,
}

/// What each series has done.
#[derive(Debug, Serialize, JsonSchema)]
struct ShapesOutput {
    /// One for each series, in their order.
    series: Vec<Found>,
}

/// Probabilities of the shapes; their sum is one.
#[derive(Debug, Serialize, JsonSchema)]
struct Posterior {
    /// Nothing changed.
    flat: f64,
    /// The level stepped and stays.
    step: f64,
    /// The level drifts.
    drift: f64,
    /// The level drifted and stays.
    stopped: f64,
    /// One to four checks were elsewhere; it is over.
    knock: f64,
}

/// Three points of a posterior.
#[derive(Debug, Serialize, JsonSchema)]
struct Range {
    /// 2.5 %.
    low: f64,
    /// 50 %.
    median: f64,
    /// 97.5 %.
    high: f64,
}

/// Three points of a posterior in time; null beyond a year.
#[derive(Debug, Serialize, JsonSchema)]
struct Times {
    /// 2.5 %.
    low: Moment,
    /// 50 %.
    median: Option<Moment>,
    /// 97.5 %.
    high: Option<Moment>,
}

/// The level at one moment.
#[derive(Debug, Serialize, JsonSchema)]
struct LevelAt {
    /// When.
    at: Moment,
    /// The level.
    level: Range,
}

/// What one series has done.
#[derive(Debug, Serialize, JsonSchema)]
struct Found {
    /// What is told: a shape from a probability of 0.8 on, a drift moreover from eight checks after its median onset on.
    told: Word<Told>,
    /// The probabilities behind it.
    posterior: Posterior,
    /// When it began, given the shape that is told; null where none is.
    onset: Option<Times>,
    /// Checks from the median onset to the newest.
    checks_since: Option<usize>,
    /// When a drift that stopped stopped.
    stopped_at: Option<Times>,
    /// Height of a step or knock, or how far a stopped drift went.
    size: Option<Range>,
    /// Slope of a drift, a week.
    per_week: Option<Range>,
    /// Level at the newest check, over all shapes.
    level: Range,
    /// The limit that a drift runs towards; null where it runs towards none or its direction is not sure.
    limit: Option<f64>,
    /// Whether its level is beyond that already.
    beyond: bool,
    /// When the level reaches it; null within no year.
    level_crosses: Option<Times>,
    /// When a single check is outside for the first time, if checks go on at their usual distance.
    first_check_outside: Option<Times>,
    /// The level since the onset and as far as is looked ahead.
    fan: Vec<LevelAt>,
    /// How much neighbouring checks resemble each other.
    autocorrelation: f64,
    /// Standard deviation of a check about the level.
    std_dev: f64,
    /// Checks that were looked at.
    points: usize,
}

impl From<Interval<f64>> for Range {
    fn from(of: Interval<f64>) -> Self {
        Self { low: of.low, median: of.median, high: of.high }
    }
}

impl From<Interval<Timestamp>> for Times {
    fn from(of: Interval<Timestamp>) -> Self {
        let (median, high) = (Some(Moment(of.median)), Some(Moment(of.high)));
        Self { low: Moment(of.low), median, high }
    }
}

impl From<When> for Times {
    fn from(of: When) -> Self {
        let (median, high) = (of.median.map(Moment), of.latest.map(Moment));
        Self { low: Moment(of.earliest), median, high }
    }
}

fn found(series: &Series) -> Result<Found, String> {
    if series.at.len() != series.values.len() {
        let (at, values) = (series.at.len(), series.values.len());
        return Err(format!("{at} times and {values} values: give as many of each"));
    }
    let ground = match (&series.baseline, &series.known) {
        (Some(values), None) => Ground::Baseline(values),
        (None, Some(known)) => Ground::Known {
            center: known.center,
            std_dev: known.std_dev,
            center_worth: known.center_worth,
            degrees_of_freedom: known.degrees_of_freedom,
            autocorrelation: known.autocorrelation.map(|rho| (rho, known.autocorrelation_points)),
        },
        _ => return Err("give either “baseline” or “known”".to_owned()),
    };
    if let Some(known) = &series.known {
        super::positive("std_dev", known.std_dev)?;
        super::positive("center_worth", known.center_worth)?;
    }
    let points: Vec<(Timestamp, f64)> =
        series.at.iter().map(|at| at.0).zip(series.values.iter().copied()).collect();
    let events: Vec<Timestamp> = series.events.iter().map(|at| at.0).collect();
    let influences: Vec<history::Influence<'_>> = series
        .influences
        .iter()
        .map(|one| {
            let Influence { ref acts, ahead, effect, standard_uncertainty } = *one;
            history::Influence { acts, ahead, effect, standard_uncertainty }
        })
        .collect();
    let shape = history::shape(&ShapeInput {
        ground,
        points: &points,
        events: &events,
        lower: series.lower,
        upper: series.upper,
        resolution: series.resolution,
        influences: &influences,
        fan: 24,
    })
    .map_err(said)?;
    let history::Posterior { flat, step, drift, stopped, knock } = shape.posterior;
    let level_at =
        |one: &history::FanPoint| LevelAt { at: Moment(one.at), level: one.level.into() };
    Ok(Found {
        told: Word(shape.told),
        posterior: Posterior { flat, step, drift, stopped, knock },
        onset: shape.onset.map(Times::from),
        checks_since: shape.checks_since,
        stopped_at: shape.stopped_at.map(Times::from),
        size: shape.size.map(Range::from),
        per_week: shape.per_week.map(Range::from),
        level: shape.level.into(),
        limit: shape.ahead.map(|ahead| ahead.limit),
        beyond: shape.ahead.is_some_and(|ahead| ahead.beyond),
        level_crosses: shape.ahead.and_then(|ahead| ahead.level).map(Times::from),
        first_check_outside: shape.ahead.and_then(|ahead| ahead.first_check).map(Times::from),
        fan: shape.fan.iter().map(level_at).collect(),
        autocorrelation: shape.autocorrelation,
        std_dev: shape.std_dev,
        points: shape.points,
    })
}

impl Compute for Shapes {
    const NAME: &'static str = "shape";
    const ABOUT: &'static str =
        "what series have done (step, drift, knock), since when, and when they cross a limit";
    type Input = ShapesInput;
    type Output = ShapesOutput;

    fn compute(input: ShapesInput) -> Result<ShapesOutput, String> {
        let series = input.series.iter().enumerate().map(|(index, series)| {
            found(series).map_err(|words| format!("series {}: {words}", index + 1))
        });
        Ok(ShapesOutput { series: series.collect::<Result<_, _>>()? })
    }
}

struct Whose;

/// Sites that are looked at, each by itself.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WhoseInput {
    /// The sites.
    sites: Vec<Reads>,
}

/// The checked errors of a site, as columns of equal length.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Reads {
    /// Number of the shift.
    shifts: Vec<u32>,
    /// Tag of the instrument.
    instruments: Vec<String>,
    /// Tag of the standard.
    standards: Vec<String>,
    /// Who read it.
    persons: Vec<String>,
    /// Where it stands.
    areas: Vec<String>,
    /// The errors, in whatever unit each instrument has.
    errors: Vec<f64>,
    /// Stretches between known changes of an instrument's level (adjustments, repairs), numbered; empty where there are none.
    #[serde(default)]
    epochs: Vec<usize>,
}

/// Whose fault it is, site by site.
#[derive(Debug, Serialize, JsonSchema)]
struct WhoseOutput {
    /// One for each site, in their order.
    sites: Vec<Blamed>,
}

/// What is told of a site.
#[derive(Debug, Serialize, JsonSchema)]
struct Blamed {
    /// “nothing”, “named” or “cannot_tell”.
    finding: &'static str,
    /// Probability that nothing changed.
    none: f64,
    /// Explanations, the likeliest first.
    explanations: Vec<Explanation>,
    /// The check that would tell, where the explanations cannot be told apart and one would.
    telling: Option<TellingCheck>,
    /// How much neighbouring checks of a pair resemble each other.
    autocorrelation: f64,
}

/// An explanation.
#[derive(Debug, Serialize, JsonSchema)]
struct Explanation {
    /// “instrument”, “standard”, “person” or “area”.
    kind: &'static str,
    /// Which.
    name: String,
    /// Probability that it changed, alone or beside another.
    probability: f64,
    /// Whether it is named.
    named: bool,
    /// “step”, “drift” or “stretch”, most likely.
    course: &'static str,
    /// Shift from which on, most likely.
    since: u32,
    /// Lower end of the 95 % interval of that.
    since_low: u32,
    /// How far, in sigmas of a check.
    size: f64,
    /// Whether a known change of the instrument came after it: then it is over, and is not named.
    settled: bool,
}

/// A check that would tell.
#[derive(Debug, Serialize, JsonSchema)]
struct TellingCheck {
    /// Instrument to be checked.
    instrument: String,
    /// With this standard.
    standard: String,
    /// By how many sigmas the two likeliest explanations differ there.
    differs_by: f64,
    /// About how many such checks it takes.
    checks: u32,
}

/// Names in the order in which they first come, and the number of each in a column.
fn numbered(column: &[String]) -> (Vec<&String>, Vec<usize>) {
    let mut names: Vec<&String> = Vec::new();
    let mut known = std::collections::HashMap::new();
    let numbers = column
        .iter()
        .map(|name| {
            *known.entry(name).or_insert_with(|| {
                names.push(name);
                names.len() - 1
            })
        })
        .collect();
    (names, numbers)
}

fn blamed(reads: &Reads) -> Result<Blamed, String> {
    let count = reads.errors.len();
    let others = [
        reads.shifts.len(),
        reads.instruments.len(),
        reads.standards.len(),
        reads.persons.len(),
        reads.areas.len(),
    ];
    if others.iter().any(|other| *other != count) {
        return Err(format!("{count} errors and columns of {others:?}: give as many of each"));
    }
    if !(reads.epochs.is_empty() || reads.epochs.len() == count) {
        return Err(format!(
            "{count} errors and {} epochs: give as many, or none",
            reads.epochs.len()
        ));
    }
    let (instruments, instrument) = numbered(&reads.instruments);
    let (standards, standard) = numbered(&reads.standards);
    let (persons, person) = numbered(&reads.persons);
    let (areas, area) = numbered(&reads.areas);
    let cross: Vec<CrossRead> = (0..count)
        .map(|i| CrossRead {
            shift: reads.shifts[i],
            instrument: instrument[i],
            standard: standard[i],
            person: person[i],
            area: area[i],
            epoch: reads.epochs.get(i).copied().unwrap_or(0),
            error: reads.errors[i],
        })
        .collect();
    let found = history::culprit(&cross).map_err(said)?;
    let named: &[Suspect] = match &found.finding {
        Finding::Named(named) => named,
        Finding::Nothing | Finding::CannotTell(_) => &[],
    };
    let explanation = |one: &history::Inclusion| {
        let (kind, name) = match one.suspect {
            Suspect::Instrument(id) => ("instrument", instruments[id]),
            Suspect::Standard(id) => ("standard", standards[id]),
            Suspect::Person(id) => ("person", persons[id]),
            Suspect::Area(id) => ("area", areas[id]),
        };
        Explanation {
            kind,
            name: name.clone(),
            probability: one.probability,
            named: named.contains(&one.suspect),
            course: match one.course {
                Course::Step => "step",
                Course::Drift => "drift",
                Course::Stretch => "stretch",
            },
            since: one.since,
            since_low: one.since_low,
            size: one.size,
            settled: one.settled,
        }
    };
    Ok(Blamed {
        finding: match found.finding {
            Finding::Nothing => "nothing",
            Finding::Named(_) => "named",
            Finding::CannotTell(_) => "cannot_tell",
        },
        none: found.none,
        explanations: found.inclusions.iter().map(explanation).collect(),
        telling: found.telling.map(|telling| TellingCheck {
            instrument: instruments[telling.instrument].clone(),
            standard: standards[telling.standard].clone(),
            differs_by: telling.differs_by,
            checks: telling.checks,
        }),
        autocorrelation: found.autocorrelation,
    })
}

impl Compute for Whose {
    const NAME: &'static str = "culprit";
    const ABOUT: &'static str = "whether an instrument, a standard, a person or an area changed, and the check that would tell";
    type Input = WhoseInput;
    type Output = WhoseOutput;

    fn compute(input: WhoseInput) -> Result<WhoseOutput, String> {
        let sites = input.sites.iter().enumerate().map(|(index, site)| {
            blamed(site).map_err(|words| format!("site {}: {words}", index + 1))
        });
        Ok(WhoseOutput { sites: sites.collect::<Result<_, _>>()? })
    }
}

#[cfg(test)]
mod tests {
    use serde_json::{Value, json};

    fn run(input: &Value) -> Result<Value, String> {
        run_of("shape", input)
    }

    fn run_of(name: &str, input: &Value) -> Result<Value, String> {
        let found = super::super::all().into_iter().find(|one| one.name == name).unwrap();
        found.run(&input.to_string()).map(|text| serde_json::from_str(&text).unwrap())
    }

    /// Thirty checks of nothing, then a ramp, with a noise that repeats: no draw decides.
    fn series(slope: f64) -> Value {
        let noise = |i: usize| [0.6, -0.9, 0.2, 1.1, -0.4, -1.2, 0.8, -0.2][i % 8];
        let baseline: Vec<f64> = (0..40).map(noise).collect();
        let values: Vec<f64> =
            (0..60).map(|i| noise(i + 3) + slope * (i as f64 - 29.0).max(0.0)).collect();
        let at: Vec<String> = (0..60)
            .map(|i| {
                let at = jiff::Timestamp::from_second(1_790_000_000 + 28_800 * i).unwrap();
                at.to_string()
            })
            .collect();
        json!({ "at": at, "values": values, "baseline": baseline, "upper": 12.0 })
    }

    #[test]
    fn many_series_in_one_call() {
        let found = run(&json!({ "series": [series(0.2), series(0.0)] })).unwrap();
        let (drifts, quiet) = (&found["series"][0], &found["series"][1]);
        assert_eq!(drifts["told"], "drift", "{drifts}");
        let number = |value: &Value| value.as_f64().unwrap();
        let per_week = &drifts["per_week"];
        // 0.2 a check, 21 checks a week.
        assert!(number(&per_week["low"]) < 4.2 && number(&per_week["high"]) > 4.2, "{per_week}");
        let moment = |value: &Value| value.as_str().unwrap().parse::<jiff::Timestamp>().unwrap();
        assert!(
            moment(&drifts["first_check_outside"]["median"])
                < moment(&drifts["level_crosses"]["median"])
        );
        assert_eq!(drifts["limit"], 12.0);
        assert_eq!(drifts["fan"].as_array().unwrap().len(), 24);
        assert!(quiet["per_week"].is_null() && quiet["level_crosses"].is_null(), "{quiet}");
        let sum: f64 = quiet["posterior"].as_object().unwrap().values().map(number).sum();
        assert!((sum - 1.0).abs() < 1e-9);
    }

    /// An instrument that was adjusted back at every twentieth check still drifts, and its level is that of now.
    #[test]
    fn a_drift_over_adjustments() {
        let mut adjusted = series(0.25);
        let moved = |i: usize| f64::from((i > 39) as u8) + f64::from((i > 49) as u8);
        let values: Vec<f64> = adjusted["values"]
            .as_array()
            .unwrap()
            .iter()
            .enumerate()
            .map(|(i, value)| value.as_f64().unwrap() - 2.5 * moved(i))
            .collect();
        adjusted["values"] = json!(values);
        let steps = |from: usize| (0..60).map(|i| f64::from((i > from) as u8)).collect::<Vec<_>>();
        let bare = adjusted.clone();
        adjusted["influences"] = json!([39, 49].map(|from| json!({
            "acts": steps(from), "ahead": 1, "effect": -2.5, "standard_uncertainty": 0.3 })));
        let found = run(&json!({ "series": [adjusted, bare] })).unwrap();
        let (known, bare) = (&found["series"][0], &found["series"][1]);
        assert_eq!(known["told"], "drift", "{known}");
        assert_ne!(bare["told"], "drift", "{bare}");
        // 0.25 a check over thirty, less two adjustments of 2.5.
        let level = |end: &str| known["level"][end].as_f64().unwrap();
        assert!(level("low") < 2.5 && level("high") > 2.5, "{known}");
        assert!(known["per_week"]["median"].as_f64().unwrap() > 3.5, "{known}");
    }

    #[test]
    fn what_is_wrong_names_its_series() {
        let mut short = series(0.0);
        short["at"].as_array_mut().unwrap().truncate(3);
        let mut both = series(0.0);
        both["known"] = json!({ "center": 0, "std_dev": 1, "center_worth": 1 });
        let mut zero = both.clone();
        zero.as_object_mut().unwrap().remove("baseline");
        zero["known"]["std_dev"] = json!(0);
        let mut crossed = series(0.0);
        crossed["lower"] = json!(20);
        let mut influenced = series(0.0);
        let acts = json!([{ "acts": [1.0], "ahead": 1, "effect": 0, "standard_uncertainty": 1 }]);
        influenced["influences"] = acts;
        for (wrong, words) in [
            (influenced, "acts on 1 checks, and there are 60"),
            (short, "3 times and 60 values"),
            (both, "either “baseline” or “known”"),
            (zero, "std_dev"),
            (crossed, "right way round"),
        ] {
            let said = run(&json!({ "series": [series(0.0), wrong] })).unwrap_err();
            assert!(said.starts_with("series 2: ") && said.contains(words), "{said}");
        }
    }

    /// Three scales and two weights, each scale on both of them: from shift 40 on everything read with W-2 falls.
    fn site(fallen: &str) -> Value {
        let noise = |i: usize| [0.6, -0.9, 0.2, 1.1, -0.4, -1.2, 0.8, -0.2][i * 5 % 8];
        let (mut shifts, mut columns, mut errors) =
            (vec![], [vec![], vec![], vec![], vec![]], vec![]);
        for shift in 0..80_usize {
            for (n, instrument) in ["A", "B", "C"].into_iter().enumerate() {
                let standard = if (shift + n) % 2 == 0 { "W-1" } else { "W-2" };
                let person = ["p", "q", "r"][(shift * 7 + n) % 3];
                let row = [instrument, standard, person, if n == 0 { "x" } else { "y" }];
                columns.iter_mut().zip(row).for_each(|(column, name)| column.push(name));
                let falls = shift >= 40 && row.contains(&fallen);
                shifts.push(shift);
                errors.push(noise(shift * 3 + n) - if falls { 2.5 } else { 0.0 });
            }
        }
        let [instruments, standards, persons, areas] = columns;
        json!({ "shifts": shifts, "instruments": instruments, "standards": standards,
            "persons": persons, "areas": areas, "errors": errors })
    }

    #[test]
    fn the_culprit_is_named() {
        let found =
            run_of("culprit", &json!({ "sites": [site("W-2"), site("B"), site("")] })).unwrap();
        let (standard, instrument, none) =
            (&found["sites"][0], &found["sites"][1], &found["sites"][2]);
        assert_eq!(standard["finding"], "named", "{standard}");
        let first = &standard["explanations"][0];
        assert_eq!((&first["kind"], &first["name"]), (&json!("standard"), &json!("W-2")));
        // Errors fell: the standard grew.
        assert!(first["size"].as_f64().unwrap() > 1.5 && first["named"] == true, "{first}");
        assert!((38..=42).contains(&first["since"].as_u64().unwrap()), "{first}");
        assert!((34..=40).contains(&first["since_low"].as_u64().unwrap()), "{first}");
        assert_eq!(instrument["explanations"][0]["name"], "B", "{instrument}");
        assert_eq!(none["finding"], "nothing", "{none}");
        let mut short = site("");
        short["persons"].as_array_mut().unwrap().pop();
        let said = run_of("culprit", &json!({ "sites": [site(""), short] })).unwrap_err();
        assert!(said.starts_with("site 2: 240 errors"), "{said}");
    }
}
