//! Statistics of plain numbers.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::quantity::{TypedDecimal, Unit};
use vaaka_core::stats;

use super::words::Word;
use super::{Computation, Compute, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<Summary>(),
        Computation::of::<Normal>(),
        Computation::of::<Components>(),
        Computation::of::<Line>(),
        Computation::of::<StudentT>(),
        Computation::of::<Convert>(),
    ]
}

/// Values in their order.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Values {
    /// Values, in the order in which they were measured.
    values: Vec<f64>,
}

struct Summary;

/// What the values come to.
#[derive(Debug, Serialize, JsonSchema)]
struct SummaryOutput {
    /// How many.
    n: usize,
    /// Arithmetic mean.
    mean: f64,
    /// Sample standard deviation, with n − 1.
    standard_deviation: f64,
    /// Mean of the moving ranges of consecutive values.
    mean_moving_range: f64,
    /// Autocorrelations at lags 1, 2 … 5, as far as there are values for them.
    autocorrelation: Vec<f64>,
}

impl Compute for Summary {
    const NAME: &'static str = "summary";
    const ABOUT: &'static str = "mean, standard deviation, moving range and autocorrelation";
    type Input = Values;
    type Output = SummaryOutput;

    fn compute(Values { values }: Values) -> Result<SummaryOutput, String> {
        Ok(SummaryOutput {
            n: values.len(),
            mean: stats::mean(&values).map_err(said)?,
            standard_deviation: stats::sample_std_dev(&values).map_err(said)?,
            mean_moving_range: stats::mean_moving_range(&[&values]).map_err(said)?,
            autocorrelation: (1..=5)
                .map_while(|lag| stats::autocorrelation(&values, lag).ok())
                .collect(),
        })
    }
}

struct Normal;

/// Whether the values could come from a normal distribution.
#[derive(Debug, Serialize, JsonSchema)]
struct NormalOutput {
    /// Anderson-Darling A², mean and deviation estimated.
    a_squared: f64,
    /// Probability of an A² as large if the values were normal.
    probability: f64,
}

impl Compute for Normal {
    const NAME: &'static str = "normality";
    const ABOUT: &'static str = "Anderson-Darling test of normality";
    type Input = Values;
    type Output = NormalOutput;

    fn compute(Values { values }: Values) -> Result<NormalOutput, String> {
        let found = stats::anderson_darling(&values).map_err(said)?;
        Ok(NormalOutput { a_squared: found.statistic, probability: found.probability })
    }
}

struct Components;

/// Values in groups.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Groups {
    /// The groups: readings of a check, checks of a technician, of a shift.
    groups: Vec<Vec<f64>>,
}

/// What varies within and between groups.
#[derive(Debug, Serialize, JsonSchema)]
struct ComponentsOutput {
    /// Variance within groups.
    within_variance: f64,
    /// Variance between groups beside that of their values.
    between_variance: f64,
    /// Mean square between over mean square within; null where nothing varies within.
    f: Option<f64>,
    /// Probability of a ratio as large if the groups did not differ.
    probability: f64,
}

impl Compute for Components {
    const NAME: &'static str = "variance-components";
    const ABOUT: &'static str = "variance within and between groups of values";
    type Input = Groups;
    type Output = ComponentsOutput;

    fn compute(Groups { groups }: Groups) -> Result<ComponentsOutput, String> {
        let slices: Vec<&[f64]> = groups.iter().map(Vec::as_slice).collect();
        let found = stats::variance_components(&slices).map_err(said)?;
        Ok(ComponentsOutput {
            within_variance: found.within,
            between_variance: found.between,
            f: Some(found.f).filter(|f| f.is_finite()),
            probability: found.probability,
        })
    }
}

struct Line;

/// Points of a line.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Points {
    /// Abscissae, for example days.
    x: Vec<f64>,
    /// Ordinates, one for each abscissa.
    y: Vec<f64>,
}

/// A line fitted by least squares.
#[derive(Debug, Serialize, JsonSchema)]
struct LineOutput {
    /// Value at x = 0.
    intercept: f64,
    /// Change of y with x.
    slope: f64,
    /// Standard error of the slope.
    slope_standard_error: f64,
    /// Half-width of the 95 % interval of the slope.
    slope_half_width: f64,
    /// Standard deviation about the line.
    residual_standard_deviation: f64,
}

impl Compute for Line {
    const NAME: &'static str = "line";
    const ABOUT: &'static str = "straight line by least squares, with the interval of its slope";
    type Input = Points;
    type Output = LineOutput;

    fn compute(Points { x, y }: Points) -> Result<LineOutput, String> {
        if x.len() != y.len() {
            return Err(format!("{} x and {} y: give as many of each", x.len(), y.len()));
        }
        let line = stats::fit_line(&x, &y).map_err(said)?;
        let t = stats::student_t(0.95, line.degrees_of_freedom as f64).map_err(said)?;
        Ok(LineOutput {
            intercept: line.intercept,
            slope: line.slope,
            slope_standard_error: line.slope_standard_error,
            slope_half_width: t * line.slope_standard_error,
            residual_standard_deviation: line.residual_std_dev,
        })
    }
}

struct StudentT;

/// What a coverage factor is of.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Confidence {
    /// Probability between the two ends, for example 0.95.
    #[schemars(extend("exclusiveMinimum" = 0, "exclusiveMaximum" = 1))]
    probability: f64,
    /// Degrees of freedom.
    #[schemars(extend("exclusiveMinimum" = 0))]
    degrees_of_freedom: f64,
}

/// A quantile.
#[derive(Debug, Serialize, JsonSchema)]
struct Factor {
    /// t: the variable lies within ±t with the probability asked for.
    t: f64,
}

impl Compute for StudentT {
    const NAME: &'static str = "student-t";
    const ABOUT: &'static str = "two-sided quantile of Student's t, as a coverage factor";
    type Input = Confidence;
    type Output = Factor;

    fn compute(input: Confidence) -> Result<Factor, String> {
        let probability = input.probability;
        if !(probability > 0.0 && probability < 1.0) {
            return Err(format!("the probability is {probability}: give one between 0 and 1"));
        }
        super::positive("the number of degrees of freedom", input.degrees_of_freedom)?;
        Ok(Factor { t: stats::student_t(probability, input.degrees_of_freedom).map_err(said)? })
    }
}

struct Convert;

/// A value as it is typed.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Typed {
    /// The number as typed, with a decimal comma or point.
    typed: String,
    /// Symbol of its unit.
    from: Word<Unit>,
    /// Symbol of the unit that is wanted.
    to: Word<Unit>,
}

/// A value in another unit, exact.
#[derive(Debug, Serialize, JsonSchema)]
struct Converted {
    /// The number, by its digits.
    value: String,
    /// Digits after the point as typed.
    decimals_typed: u32,
}

impl Compute for Convert {
    const NAME: &'static str = "convert";
    const ABOUT: &'static str = "a typed reading, exact, in another unit of its quantity";
    type Input = Typed;
    type Output = Converted;

    fn compute(input: Typed) -> Result<Converted, String> {
        let typed = TypedDecimal::parse(&input.typed).map_err(said)?;
        let (from, to) = (input.from.0, input.to.0);
        let value = from
            .try_convert(typed.value, to)
            .map_err(|_| format!("{from} and {to} measure different things"))?;
        Ok(Converted { value: value.to_string(), decimals_typed: typed.value.scale() })
    }
}

#[cfg(test)]
mod tests {
    fn run(name: &str, input: &str) -> Result<serde_json::Value, String> {
        let found = super::super::all().into_iter().find(|one| one.name == name).unwrap();
        found.run(input).map(|text| serde_json::from_str(&text).unwrap())
    }

    #[test]
    fn worked_by_hand() {
        let summary = run("summary", r#"{"values":[2,4,4,4,5,5,7,9]}"#).unwrap();
        assert_eq!((summary["mean"].as_f64(), summary["n"].as_u64()), (Some(5.0), Some(8)));
        assert_eq!(summary["mean_moving_range"], 1.0);
        let line = run("line", r#"{"x":[0,1,2,3],"y":[1,3,5,7]}"#).unwrap();
        assert_eq!((line["slope"].as_f64(), line["intercept"].as_f64()), (Some(2.0), Some(1.0)));
        let large = run("line", r#"{"x":[1e200,2e200,3e200],"y":[2e200,4e200,6e200]}"#).unwrap();
        assert!((large["slope"].as_f64().unwrap() - 2.0).abs() < 1e-12, "{large}");
        let t = run("student-t", r#"{"probability":0.95,"degrees_of_freedom":10}"#).unwrap();
        assert!((t["t"].as_f64().unwrap() - 2.228).abs() < 0.0005);
        let grams = run("convert", r#"{"typed":"0,0125","from":"kg","to":"g"}"#).unwrap();
        assert_eq!(grams["value"].as_str().map(|text| text.trim_end_matches('0')), Some("12.5"));
    }

    #[test]
    fn bad_numbers_are_said() {
        for (name, input, said) in [
            ("summary", r#"{"values":[]}"#, "0 points are too few"),
            ("summary", r#"{"values":[1,2,1e400]}"#, "number out of range"),
            ("normality", r#"{"values":[1,1,1,1,1,1,1,1]}"#, "all values are the same"),
            ("line", r#"{"x":[1,2],"y":[1]}"#, "2 x and 1 y"),
            ("line", r#"{"x":[1e-300,2e-300,3e-300],"y":[0,1e200,3e200]}"#, "too large"),
            ("summary", r#"{"values":"1"}"#, "expected a list"),
            ("student-t", r#"{"probability":1,"degrees_of_freedom":5}"#, "between 0 and 1"),
            ("student-t", r#"{"probability":0.9,"degrees_of_freedom":0}"#, "above zero"),
            ("convert", r#"{"typed":"1","from":"kg","to":"bar"}"#, "different things"),
            ("convert", r#"{"typed":"1,2,3","from":"kg","to":"g"}"#, "more than one comma"),
        ] {
            let found = run(name, input).unwrap_err();
            assert!(found.contains(said), "{name}: {found}");
        }
    }
}
