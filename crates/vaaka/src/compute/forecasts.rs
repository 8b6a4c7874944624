//! How right forecasts of a first check outside were.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::history::{Followed, ForecastScore, Outcome, ToldForecast, outcome_of};

use super::words::Moment;
use super::{Computation, Compute};

pub fn command() -> Computation {
    Computation::of::<Scored>()
}

struct Scored;

/// Charts whose forecasts are held against what came.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ScoredInput {
    /// The charts.
    charts: Vec<Chart>,
}

/// One chart: what was told, and what followed.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Chart {
    /// What was told of its first check outside.
    forecasts: Vec<Forecast>,
    /// When its checks were measured, oldest first.
    at: Vec<Moment>,
    /// Their values.
    values: Vec<f64>,
    /// Lower tolerance limit; null where there is none.
    #[serde(default)]
    lower: Option<f64>,
    /// Upper tolerance limit.
    #[serde(default)]
    upper: Option<f64>,
    /// When something else moved its level: an adjustment, a repair; null where nothing did.
    #[serde(default)]
    ended_at: Option<Moment>,
}

/// A forecast that was told.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Forecast {
    /// At which check.
    told_at: Moment,
    /// 2.5 %.
    low: Moment,
    /// 50 %; null beyond a year.
    #[serde(default)]
    median: Option<Moment>,
    /// 97.5 %; null beyond a year.
    #[serde(default)]
    high: Option<Moment>,
}

/// What came of the forecasts.
#[derive(Debug, Serialize, JsonSchema)]
struct ScoredOutput {
    /// Of each chart, in their order: of each of its forecasts, in their order.
    charts: Vec<Vec<Came>>,
    /// All together.
    all: Together,
}

/// What came of one.
#[derive(Debug, Serialize, JsonSchema)]
struct Came {
    /// “held”; “too_late” where it came before the interval; “too_early” where the interval passed and all was inside; “overtaken”
    /// where the level was moved first; “open” while its time is not over.
    outcome: &'static str,
    /// When the first check outside came, where it did.
    at: Option<Moment>,
}

/// Forecasts together.
#[derive(Debug, Serialize, JsonSchema)]
struct Together {
    /// How many were told.
    told: usize,
    /// Of how many it is known what came.
    known: usize,
    /// How many of those held it.
    held: usize,
    /// Share of them; null while none is known.
    coverage: Option<f64>,
    /// 95 % interval of that share (Clopper and Pearson).
    coverage_low: Option<f64>,
    /// Its upper end.
    coverage_high: Option<f64>,
    /// Median width of the intervals that have an end, in days.
    width_days: Option<f64>,
    /// How many have none.
    open_ended: usize,
    /// Median time from the forecast to what came, in days.
    lead_days: Option<f64>,
    /// Median of predicted by true time.
    ratio: Option<f64>,
}

fn came(chart: &Chart) -> Result<Vec<(ToldForecast, Outcome)>, String> {
    let (at, values) = (chart.at.len(), chart.values.len());
    if at != values {
        return Err(format!("{at} times and {values} values: give as many of each"));
    }
    if let (Some(lower), Some(upper)) = (chart.lower, chart.upper)
        && lower >= upper
    {
        return Err("the limits are crossed: give the lower one first".to_owned());
    }
    if let Some(index) = chart.at.windows(2).position(|pair| pair[1].0 < pair[0].0) {
        return Err(format!("the check at place {} is older than the one before it", index + 1));
    }
    let outside = |value: f64| {
        chart.lower.is_some_and(|lower| value < lower)
            || chart.upper.is_some_and(|upper| value > upper)
    };
    let checks: Vec<(Timestamp, bool)> =
        chart.at.iter().zip(&chart.values).map(|(at, value)| (at.0, outside(*value))).collect();
    let followed = Followed { checks: &checks, ended_at: chart.ended_at.as_ref().map(|at| at.0) };
    let of = |one: &Forecast| {
        let told = ToldForecast {
            told_at: one.told_at.0,
            earliest: one.low.0,
            median: one.median.as_ref().map(|at| at.0),
            latest: one.high.as_ref().map(|at| at.0),
        };
        if told.latest.is_some_and(|latest| latest < told.earliest) {
            return Err("a forecast ends before it begins".to_owned());
        }
        Ok((told, outcome_of(&told, &followed)))
    };
    chart.forecasts.iter().map(of).collect()
}

impl Compute for Scored {
    const NAME: &'static str = "forecast-score";
    const ABOUT: &'static str =
        "what came of forecasts of a first check outside: coverage, sharpness, lead";
    type Input = ScoredInput;
    type Output = ScoredOutput;

    fn compute(input: ScoredInput) -> Result<ScoredOutput, String> {
        let charts = input.charts.iter().enumerate().map(|(index, chart)| {
            came(chart).map_err(|words| format!("chart {}: {words}", index + 1))
        });
        let charts: Vec<Vec<(ToldForecast, Outcome)>> = charts.collect::<Result<_, _>>()?;
        let score = ForecastScore::of(&charts.concat());
        let coverage = score.coverage();
        let told = |(_, outcome): &(ToldForecast, Outcome)| match *outcome {
            Outcome::Held { at } => Came { outcome: "held", at: Some(Moment(at)) },
            Outcome::TooLate { at } => Came { outcome: "too_late", at: Some(Moment(at)) },
            Outcome::TooEarly => Came { outcome: "too_early", at: None },
            Outcome::Overtaken => Came { outcome: "overtaken", at: None },
            Outcome::Open => Came { outcome: "open", at: None },
        };
        Ok(ScoredOutput {
            charts: charts.iter().map(|all| all.iter().map(told).collect()).collect(),
            all: Together {
                told: score.told,
                known: score.known,
                held: score.held,
                coverage: coverage.map(|(share, ..)| share),
                coverage_low: coverage.map(|(_, low, _)| low),
                coverage_high: coverage.map(|(.., high)| high),
                width_days: score.width_days,
                open_ended: score.open_ended,
                lead_days: score.lead_days,
                ratio: score.ratio,
            },
        })
    }
}

#[cfg(test)]
mod tests {
    use serde_json::{Value, json};

    fn run(input: &Value) -> Result<Value, String> {
        let found = super::super::all().into_iter().find(|one| one.name == "forecast-score");
        found.unwrap().run(&input.to_string()).map(|text| serde_json::from_str(&text).unwrap())
    }

    fn at(hour: i64) -> String {
        jiff::Timestamp::from_second(1_790_000_000 + 3_600 * hour).unwrap().to_string()
    }

    fn chart(values: &[f64]) -> Value {
        let times: Vec<String> = (0..values.len() as i64).map(|i| at(8 * i)).collect();
        json!({
            "forecasts": [{ "told_at": at(0), "low": at(20), "median": at(36), "high": at(50) }],
            "at": times, "values": values, "lower": -3, "upper": 3,
        })
    }

    #[test]
    fn forecasts_and_what_came() {
        let mut adjusted = chart(&[0.0, 1.0, 2.0, 9.0]);
        adjusted["ended_at"] = json!(at(17));
        let charts = [
            chart(&[0.0, 1.0, 2.0, 2.5, -3.5]),
            chart(&[0.0, 3.5]),
            chart(&[0.0; 9]),
            chart(&[0.0, 1.0]),
            adjusted,
        ];
        let found = run(&json!({ "charts": charts })).unwrap();
        let outcomes: Vec<&str> =
            (0..5).map(|n| found["charts"][n][0]["outcome"].as_str().unwrap()).collect();
        assert_eq!(outcomes, ["held", "too_late", "too_early", "open", "overtaken"]);
        assert_eq!(found["charts"][0][0]["at"], at(32));
        let all = &found["all"];
        assert_eq!((all["told"].as_u64(), all["known"].as_u64()), (Some(5), Some(3)), "{all}");
        assert!((all["coverage"].as_f64().unwrap() - 1.0 / 3.0).abs() < 1e-12, "{all}");
        assert!((all["width_days"].as_f64().unwrap() - 1.25).abs() < 1e-12, "{all}");
    }

    #[test]
    fn what_is_wrong_names_its_chart() {
        let mut short = chart(&[0.0, 1.0]);
        short["at"].as_array_mut().unwrap().pop();
        let mut backward = chart(&[0.0, 1.0]);
        backward["at"].as_array_mut().unwrap().reverse();
        let mut crossed = chart(&[0.0]);
        crossed["lower"] = json!(4);
        let mut ends = chart(&[0.0]);
        ends["forecasts"][0]["high"] = json!(at(1));
        for (wrong, words) in [
            (short, "1 times and 2 values"),
            (backward, "older than the one before"),
            (crossed, "crossed"),
            (ends, "ends before it begins"),
        ] {
            let said = run(&json!({ "charts": [chart(&[0.0]), wrong] })).unwrap_err();
            assert!(said.starts_with("chart 2: ") && said.contains(words), "{said}");
        }
    }
}
