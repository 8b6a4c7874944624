//! Hardness on blocks: a block's error and repeatability, the curve of a sensor, the map of a face.

use rust_decimal::Decimal;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::method::hardness::{CurveBy, SensorCurve, brinell_diameter, vickers_diagonal};
use vaaka_core::standard::{Face, Spot, UsedFace};
use vaaka_core::stats::sample_std_dev;

use super::words::{Word, Worded};
use super::{Computation, Compute, positive, said};

pub fn all() -> Vec<Computation> {
    vec![Computation::of::<Block>(), Computation::of::<Curve>(), Computation::of::<Map>()]
}

struct Block;

/// Readings of a block.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct BlockRead {
    /// Readings, in the unit of the display.
    readings: Vec<f64>,
    /// Certified value of the block, in the same unit.
    certified_value: f64,
    /// Test force in newtons, where sizes of indentations are wanted.
    #[serde(default)]
    force_newton: Option<f64>,
    /// Diameter of the ball in millimetres: with it sizes are those of Brinell indentations, without it of Vickers.
    #[serde(default)]
    ball_diameter_mm: Option<f64>,
}

/// What a block says.
#[derive(Debug, Serialize, JsonSchema)]
struct BlockFound {
    /// Mean of the readings.
    mean: f64,
    /// Error of the mean, mean minus certified value.
    error_of_indication: f64,
    /// Largest minus smallest reading; null for a single one.
    range: Option<f64>,
    /// Coefficient of variation s/H̄ in per cent; null for a single one.
    coefficient_of_variation_percent: Option<f64>,
    /// Sizes of the indentations in millimetres; null where no force was given.
    sizes_mm: Option<Vec<f64>>,
    /// Range of the sizes as a share of their mean, in per cent; null where no force was given.
    range_of_sizes_percent: Option<f64>,
}

impl Compute for Block {
    const NAME: &'static str = "hardness-block";
    const ABOUT: &'static str =
        "error and repeatability of a hardness block, in the three ways of the standards";
    type Input = BlockRead;
    type Output = BlockFound;

    fn compute(input: BlockRead) -> Result<BlockFound, String> {
        let n = input.readings.len();
        if n == 0 {
            return Err("there are no readings: give one at least".to_owned());
        }
        for (index, reading) in input.readings.iter().enumerate() {
            positive(&format!("reading {}", index + 1), *reading)?;
        }
        positive("the certified value", input.certified_value)?;
        let mean = input.readings.iter().sum::<f64>() / n as f64;
        let ends = |values: &[f64]| {
            let most = values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
            most - values.iter().copied().fold(f64::INFINITY, f64::min)
        };
        let decimal = |what: &str, value: f64| {
            positive(what, value)?;
            Decimal::try_from(value).map_err(|_| format!("{what} is too large or too small"))
        };
        let sizes = match (input.force_newton, input.ball_diameter_mm) {
            (None, None) => None,
            (None, Some(_)) => {
                return Err("a size follows from ball and force: give force_newton, too".to_owned());
            }
            (Some(force), ball) => {
                let force = decimal("force_newton", force)?;
                let ball = ball.map(|ball| decimal("ball_diameter_mm", ball)).transpose()?;
                let size = |reading: &f64| {
                    let hardness = decimal("a reading", *reading)?;
                    let size = match ball {
                        Some(ball) => brinell_diameter(hardness, force, ball),
                        None => vickers_diagonal(hardness, force),
                    };
                    size.ok_or_else(|| {
                        let reading = super::shown(*reading);
                        format!("no indentation of this force and ball has the hardness {reading}")
                    })
                };
                Some(input.readings.iter().map(size).collect::<Result<Vec<f64>, String>>()?)
            }
        };
        let several = n > 1;
        let s = sample_std_dev(&input.readings).ok();
        Ok(BlockFound {
            mean,
            error_of_indication: mean - input.certified_value,
            range: several.then(|| ends(&input.readings)),
            coefficient_of_variation_percent: s.map(|s| 100.0 * s / mean),
            range_of_sizes_percent: sizes
                .as_ref()
                .filter(|_| several)
                .map(|sizes| 100.0 * ends(sizes) * sizes.len() as f64 / sizes.iter().sum::<f64>()),
            sizes_mm: sizes,
        })
    }
}

struct Curve;

/// A block of a curve.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct CurveBlock {
    /// Mean code of the sensor on it.
    code: f64,
    /// Certified hardness, in full.
    hardness: f64,
}

impl Worded for CurveBy {
    const WHAT: &'static str = "way of a curve";

    fn all() -> Vec<(Self, &'static str)> {
        vec![(Self::Parabola, "parabola"), (Self::Monotone, "monotone")]
    }
}

/// Blocks, and what is asked of their curve.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "blocks": [
        { "code": 412, "hardness": 25.36 }, { "code": 545, "hardness": 45.18 }, { "code": 702, "hardness": 62.41 }
    ],
    "by": "monotone", "at": [500], "proof": [{ "code": 620, "hardness": 54.0 }]
}))]
struct CurveAsked {
    /// Three blocks at least; three for a parabola.
    blocks: Vec<CurveBlock>,
    /// How it runs between them.
    by: Word<CurveBy>,
    /// Codes at which its hardness is wanted.
    #[serde(default)]
    at: Vec<f64>,
    /// Blocks that it is not drawn through: how far it lies from them is what proves it.
    #[serde(default)]
    proof: Vec<CurveBlock>,
}

/// A curve at its codes.
#[derive(Debug, Serialize, JsonSchema)]
struct CurveFound {
    /// Lowest code of a block: below it nothing is computed.
    from_code: f64,
    /// Highest code of a block: above it nothing is computed.
    to_code: f64,
    /// Hardness at each code asked for.
    hardness: Vec<f64>,
    /// Hardness of the curve less the certified one, at each block of the proof.
    residuals: Vec<f64>,
}

impl Compute for Curve {
    const NAME: &'static str = "sensor-curve";
    const ABOUT: &'static str =
        "curve from the code of a sensor to hardness through blocks, never beyond them";
    type Input = CurveAsked;
    type Output = CurveFound;

    fn compute(input: CurveAsked) -> Result<CurveFound, String> {
        let pair = |block: &CurveBlock| (block.code, block.hardness);
        let blocks: Vec<(f64, f64)> = input.blocks.iter().map(pair).collect();
        let curve = SensorCurve::through(&blocks, input.by.0).map_err(said)?;
        let (from_code, to_code) = curve.range();
        let hardness =
            input.at.iter().map(|code| curve.at(*code)).collect::<Result<_, _>>().map_err(said)?;
        let residual = |block: &CurveBlock| curve.residual(pair(block));
        let residuals = input.proof.iter().map(residual).collect::<Result<_, _>>().map_err(said)?;
        Ok(CurveFound { from_code, to_code, hardness, residuals })
    }
}

struct Map;

/// A place of a face.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct At {
    /// From the left edge.
    x_mm: f64,
    /// From the lower edge.
    y_mm: f64,
}

/// A face and where it was used.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct FaceAsked {
    /// Width of the face.
    width_mm: f64,
    /// Height of the face.
    height_mm: f64,
    /// Mean diagonal or diameter of an indentation: places keep three of them from each other, two and a half from the edge.
    indentation_mm: f64,
    /// Places that are used up.
    #[serde(default)]
    used: Vec<At>,
}

/// Places that are left.
#[derive(Debug, Serialize, JsonSchema)]
struct FaceFound {
    /// Distance of places from each other, centre to centre.
    spacing_mm: f64,
    /// Distance from the edge.
    edge_mm: f64,
    /// Places that are left, in the order in which they are taken.
    free: Vec<At>,
}

/// Places of a face at most: of more nobody takes a list.
const MOST_PLACES: f64 = 100_000.0;

impl Compute for Map {
    const NAME: &'static str = "indentation-map";
    const ABOUT: &'static str =
        "places that are left on the face of a block, by the size of an indentation";
    type Input = FaceAsked;
    type Output = FaceFound;

    fn compute(input: FaceAsked) -> Result<FaceFound, String> {
        let width = positive("width_mm", input.width_mm)?;
        let height = positive("height_mm", input.height_mm)?;
        let size = positive("indentation_mm", input.indentation_mm)?;
        // ISO 6506-1 and ISO 6507-1 for steel: 3 d between centres, 2.5 d to the edge.
        let face = Face { width, height, spacing: 3.0 * size, edge: 2.5 * size };
        if width * height / face.spacing.powi(2) > MOST_PLACES {
            return Err(format!(
                "more than {MOST_PLACES} places: width_mm and height_mm are of a block, indentation_mm of what is pressed into it"
            ));
        }
        if let Some(bad) =
            input.used.iter().find(|at| !(at.x_mm.is_finite() && at.y_mm.is_finite()))
        {
            return Err(format!(
                "a place at {}, {} is none",
                super::shown(bad.x_mm),
                super::shown(bad.y_mm)
            ));
        }
        let used = input.used.iter().map(|at| Spot { x: at.x_mm, y: at.y_mm }).collect();
        let free = UsedFace { face, used }.free();
        let places = free.into_iter().map(|spot| At { x_mm: spot.x, y_mm: spot.y });
        Ok(FaceFound { spacing_mm: face.spacing, edge_mm: face.edge, free: places.collect() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn run<C: Compute>(input: &Value) -> Result<Value, String> {
        let text = Computation::of::<C>().run(&input.to_string())?;
        Ok(serde_json::from_str(&text).unwrap())
    }

    #[test]
    fn a_block_says_three_kinds_of_repeatability() {
        let found = run::<Block>(&json!({
            "readings": [201.0, 198.0, 203.0, 205.0, 199.0], "certified_value": 200.0, "force_newton": 98.07
        }))
        .unwrap();
        assert_eq!(found["mean"], json!(201.2));
        assert_eq!(found["range"], json!(7.0));
        // By a second way: d = √(18.544/HV) for HV 10.
        let size = |hv: f64| (18.544 / hv).sqrt();
        let mean: f64 =
            [201.0, 198.0, 203.0, 205.0, 199.0].iter().map(|hv| size(*hv)).sum::<f64>() / 5.0;
        let expected = 100.0 * (size(198.0) - size(205.0)) / mean;
        let value = found["range_of_sizes_percent"].as_f64().unwrap();
        assert!((value - expected).abs() < 1e-3, "{value} {expected}");
        let single = run::<Block>(&json!({ "readings": [60.4], "certified_value": 60.1 })).unwrap();
        assert_eq!(single["range"], Value::Null);
        assert_eq!(single["sizes_mm"], Value::Null);
        for (bad, words) in [
            (json!({ "readings": [], "certified_value": 60 }), "no readings"),
            (json!({ "readings": [-3.0], "certified_value": 60 }), "reading 1"),
            (json!({ "readings": [60.0], "certified_value": 0 }), "certified value"),
            (
                json!({ "readings": [60.0], "certified_value": 60, "ball_diameter_mm": 10 }),
                "force_newton",
            ),
            (
                json!({ "readings": [1.0], "certified_value": 60, "force_newton": 29420, "ball_diameter_mm": 10 }),
                "no indentation",
            ),
        ] {
            let said = run::<Block>(&bad).unwrap_err();
            assert!(said.contains(words), "{bad}: {said}");
        }
    }

    #[test]
    fn a_curve_is_proven_by_a_block_that_it_is_not_drawn_through() {
        let blocks = json!([
            { "code": 412, "hardness": 25.36 }, { "code": 545, "hardness": 45.18 }, { "code": 702, "hardness": 62.41 }
        ]);
        let found = run::<Curve>(&json!({
            "blocks": blocks, "by": "parabola", "at": [412, 545, 702], "proof": [{ "code": 620, "hardness": 54.0 }]
        }))
        .unwrap();
        assert_eq!(found["hardness"], json!([25.36, 45.18, 62.41]));
        assert!(found["residuals"][0].as_f64().unwrap().abs() < 1.0);
        let beyond = run::<Curve>(&json!({ "blocks": blocks, "by": "monotone", "at": [800] }));
        assert!(beyond.unwrap_err().contains("not drawn out beyond its blocks"));
        let unknown = run::<Curve>(&json!({ "blocks": blocks, "by": "spline" })).unwrap_err();
        assert!(unknown.contains("way of a curve"), "{unknown}");
    }

    #[test]
    fn a_map_keeps_the_distances_of_the_standards() {
        let found =
            run::<Map>(&json!({ "width_mm": 35, "height_mm": 20, "indentation_mm": 1 })).unwrap();
        assert_eq!((&found["spacing_mm"], &found["edge_mm"]), (&json!(3.0), &json!(2.5)));
        let free = found["free"].as_array().unwrap();
        assert_eq!(free.len(), 66);
        let used = run::<Map>(
            &json!({ "width_mm": 35, "height_mm": 20, "indentation_mm": 1, "used": [free[0], { "x_mm": 10, "y_mm": 10 }] }),
        )
        .unwrap();
        assert!(used["free"].as_array().unwrap().len() < 65);
        let huge =
            run::<Map>(&json!({ "width_mm": 1e6, "height_mm": 1e6, "indentation_mm": 0.01 }));
        assert!(huge.unwrap_err().contains("more than"));
    }
}
