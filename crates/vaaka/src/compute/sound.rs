//! Sound in materials: velocity and zero of a thickness gauge, and what the setting-up of flaw detection computes.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use vaaka_core::method::ultrasonic::{
    Echo, amplitude_linearity, elements, encoder_scale, gain_curve, gain_to_height,
    refracted_angle, sound_place, velocity_and_zero, velocity_at,
};

use super::{Computation, Compute, said};

pub fn all() -> Vec<Computation> {
    vec![
        Computation::of::<VelocityZero>(),
        Computation::of::<Temperature>(),
        Computation::of::<Path>(),
        Computation::of::<Gain>(),
        Computation::of::<Tcg>(),
        Computation::of::<Uniformity>(),
        Computation::of::<Linearity>(),
        Computation::of::<Encoder>(),
    ]
}

struct VelocityZero;

/// A step and the time of its echo.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct TimedStep {
    /// Certified thickness in mm.
    thickness_mm: f64,
    /// Time of its echo in µs.
    time_us: f64,
}

/// Steps, and what is uncertain of them.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "steps": [
        { "thickness_mm": 5.001, "time_us": 2.189 }, { "thickness_mm": 9.998, "time_us": 3.873 },
        { "thickness_mm": 20.002, "time_us": 7.246 }
    ],
    "thickness_u_mm": 0.002, "time_u_us": 0.003
}))]
struct TimedSteps {
    /// Two steps at least, in any order.
    steps: Vec<TimedStep>,
    /// Standard uncertainty of each thickness in mm.
    #[serde(default)]
    thickness_u_mm: f64,
    /// Standard uncertainty of each time in µs.
    #[serde(default)]
    time_u_us: f64,
}

/// Velocity and probe zero.
#[derive(Debug, Serialize, JsonSchema)]
struct VelocityZeroFound {
    /// Velocity v of t = t₀ + 2·d/v, in m/s.
    velocity_m_per_s: f64,
    /// Its standard uncertainty, of what was given as uncertain; null where nothing was.
    velocity_u_m_per_s: Option<f64>,
    /// Delay of the probe t₀ in µs.
    zero_us: f64,
    /// Its standard uncertainty; null where nothing was given as uncertain.
    zero_u_us: Option<f64>,
    /// Time of each step less that of the line, in µs; null of two thicknesses, which a line always hits.
    residuals_us: Option<Vec<f64>>,
    /// Standard deviation of the times about the line in µs; null where there is none.
    scatter_us: Option<f64>,
    /// What the residuals prove, in a sentence.
    words: String,
}

impl Compute for VelocityZero {
    const NAME: &'static str = "ultrasonic-velocity-zero";
    const ABOUT: &'static str =
        "velocity and probe zero of a thickness gauge from two steps or by least squares from many";
    type Input = TimedSteps;
    type Output = VelocityZeroFound;

    fn compute(input: TimedSteps) -> Result<VelocityZeroFound, String> {
        let uncertain = |what: &str, u: f64| {
            if u.is_finite() && u >= 0.0 {
                Ok(u)
            } else {
                Err(format!("{what} is {}: give zero or more", super::shown(u)))
            }
        };
        let of_thickness = uncertain("thickness_u_mm", input.thickness_u_mm)?;
        let of_time = uncertain("time_u_us", input.time_u_us)?;
        let steps: Vec<(f64, f64)> =
            input.steps.iter().map(|step| (step.thickness_mm, step.time_us)).collect();
        let found = velocity_and_zero(&steps).map_err(said)?;
        let line = &found.line;
        let each = of_time.hypot(line.slope * of_thickness);
        let (u_zero, u_slope) = line.uncertainties(&vec![each; steps.len()]);
        let is_known = each > 0.0;
        Ok(VelocityZeroFound {
            velocity_m_per_s: found.velocity,
            velocity_u_m_per_s: is_known.then(|| found.velocity * u_slope / line.slope),
            zero_us: found.zero,
            zero_u_us: is_known.then_some(u_zero),
            residuals_us: line.residuals.clone(),
            scatter_us: line.residuals.as_ref().and(line.scatter).map(|(s, _)| s),
            words: match &line.residuals {
                None => "Two thicknesses give velocity and zero and leave nothing: a third one proves them.".to_owned(),
                Some(_) => "What the line leaves of each step says how well the steps agree.".to_owned(),
            },
        })
    }
}

struct Temperature;

/// A material and a temperature.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct TemperatureAsked {
    /// Velocity at 20 °C in m/s.
    velocity_m_per_s: f64,
    /// By how much it falls for each °C, in m/s.
    per_degree_m_per_s: f64,
    /// Temperature of the piece in °C.
    temperature_c: f64,
    /// Velocity that the gauge is set to; that at 20 °C where it is left out.
    #[serde(default)]
    set_to_m_per_s: Option<f64>,
    /// Thickness of the piece in mm, where its error is wanted.
    #[serde(default)]
    thickness_mm: Option<f64>,
}

/// What the temperature does.
#[derive(Debug, Serialize, JsonSchema)]
struct TemperatureFound {
    /// Velocity at the temperature, in m/s.
    velocity_m_per_s: f64,
    /// What is shown less what is there, in mm: d·(v_set/v − 1); null where no thickness was given.
    error_mm: Option<f64>,
}

impl Compute for Temperature {
    const NAME: &'static str = "velocity-temperature";
    const ABOUT: &'static str =
        "velocity of sound at a temperature, and the error of thickness that it makes";
    type Input = TemperatureAsked;
    type Output = TemperatureFound;

    fn compute(input: TemperatureAsked) -> Result<TemperatureFound, String> {
        let velocity =
            velocity_at(input.velocity_m_per_s, input.per_degree_m_per_s, input.temperature_c)
                .map_err(said)?;
        let set = super::positive(
            "set_to_m_per_s",
            input.set_to_m_per_s.unwrap_or(input.velocity_m_per_s),
        )?;
        let thickness =
            input.thickness_mm.map(|d| super::positive("thickness_mm", d)).transpose()?;
        let error_mm = thickness.map(|d| d * (set / velocity - 1.0));
        Ok(TemperatureFound { velocity_m_per_s: velocity, error_mm })
    }
}

struct Path;

/// An echo of an angle beam.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct PathAsked {
    /// Sound path in mm.
    path_mm: f64,
    /// Angle of the beam to the normal in degrees; or give what it follows from.
    #[serde(default)]
    angle_degrees: Option<f64>,
    /// Angle in the wedge in degrees, with both velocities.
    #[serde(default)]
    wedge_degrees: Option<f64>,
    /// Velocity in the wedge in m/s.
    #[serde(default)]
    wedge_m_per_s: Option<f64>,
    /// Velocity in the material in m/s, of the kind of wave that is used.
    #[serde(default)]
    material_m_per_s: Option<f64>,
    /// Thickness of the plate in mm, at whose faces the beam is folded.
    #[serde(default)]
    thickness_mm: Option<f64>,
}

/// Where an echo comes from.
#[derive(Debug, Serialize, JsonSchema)]
struct PathFound {
    /// Angle in the material in degrees.
    angle_degrees: f64,
    /// Distance along the surface from the beam index, s·sin β, in mm.
    surface_mm: f64,
    /// Depth, folded at the faces of the plate where its thickness was given, in mm.
    depth_mm: f64,
    /// Depth as the beam runs on, s·cos β, in mm.
    unfolded_mm: f64,
    /// Which leg of the beam it is, from 1; null where no thickness was given.
    leg: Option<u32>,
}

impl Compute for Path {
    const NAME: &'static str = "sound-path";
    const ABOUT: &'static str =
        "where an echo of an angle beam comes from: depth, surface distance and leg";
    type Input = PathAsked;
    type Output = PathFound;

    fn compute(input: PathAsked) -> Result<PathFound, String> {
        let angle_degrees = match (input.angle_degrees, input.wedge_degrees) {
            (Some(angle), None) => angle,
            (None, Some(wedge)) => {
                let (Some(of_wedge), Some(of_material)) =
                    (input.wedge_m_per_s, input.material_m_per_s)
                else {
                    return Err("an angle in the wedge needs both velocities: wedge_m_per_s and material_m_per_s".to_owned());
                };
                refracted_angle(wedge, of_wedge, of_material).map_err(said)?
            }
            _ => return Err("give either angle_degrees or wedge_degrees".to_owned()),
        };
        let place = sound_place(input.path_mm, angle_degrees, input.thickness_mm).map_err(said)?;
        Ok(PathFound {
            angle_degrees,
            surface_mm: place.surface,
            depth_mm: place.depth,
            unfolded_mm: place.unfolded,
            leg: place.leg,
        })
    }
}

struct Gain;

/// Two heights.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct GainAsked {
    /// Height that is seen, in per cent of the screen.
    seen_percent: f64,
    /// Height that is wanted, in per cent of the screen.
    wanted_percent: f64,
}

/// A gain.
#[derive(Debug, Serialize, JsonSchema)]
struct GainFound {
    /// 20·lg(wanted/seen) in dB.
    gain_db: f64,
    /// The same as a factor of amplitude.
    factor: f64,
    /// Whether what is seen is cut off at the top of the screen: the gain is then an upper bound.
    cut_off: bool,
}

impl Compute for Gain {
    const NAME: &'static str = "gain-for-height";
    const ABOUT: &'static str = "gain that brings an echo to a height of the screen";
    type Input = GainAsked;
    type Output = GainFound;

    fn compute(input: GainAsked) -> Result<GainFound, String> {
        let gain_db = gain_to_height(input.seen_percent, input.wanted_percent).map_err(said)?;
        let factor = input.wanted_percent / input.seen_percent;
        Ok(GainFound { gain_db, factor, cut_off: input.seen_percent >= 100.0 })
    }
}

struct Tcg;

/// Echoes of one size at several paths.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(example = serde_json::json!({
    "echoes": [
        { "path_mm": 5, "height_percent": 80 }, { "path_mm": 10, "height_percent": 52 }, { "path_mm": 20, "height_percent": 26 }
    ],
    "wanted_percent": 80, "step_db": 0.5
}))]
struct TcgAsked {
    /// Two at least, by rising path.
    echoes: Vec<EchoAsked>,
    /// Height that each is brought to, in per cent of the screen.
    wanted_percent: f64,
    /// Steps in which the gain can be set, in dB.
    step_db: f64,
}

/// An echo.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct EchoAsked {
    /// Sound path in mm.
    path_mm: f64,
    /// Height in per cent of the screen; below 100.
    height_percent: f64,
}

/// A point of the curve.
#[derive(Debug, Serialize, JsonSchema)]
struct TcgPoint {
    /// Sound path in mm.
    path_mm: f64,
    /// Gain that it needs, in dB.
    needed_db: f64,
    /// Gain that is set, in dB.
    set_db: f64,
    /// Height that is left, in per cent of the screen.
    height_percent: f64,
}

/// The curve.
#[derive(Debug, Serialize, JsonSchema)]
struct TcgFound {
    /// Its points.
    points: Vec<TcgPoint>,
    /// The largest gain in dB.
    largest_db: f64,
    /// What is left at most, in dB.
    largest_residual_db: f64,
}

impl Compute for Tcg {
    const NAME: &'static str = "tcg-curve";
    const ABOUT: &'static str =
        "gain over the sound path that brings echoes of one size to one height";
    type Input = TcgAsked;
    type Output = TcgFound;

    fn compute(input: TcgAsked) -> Result<TcgFound, String> {
        let echo = |one: &EchoAsked| Echo { path: one.path_mm, height: one.height_percent };
        let echoes: Vec<Echo> = input.echoes.iter().map(echo).collect();
        let curve = gain_curve(&echoes, input.wanted_percent, input.step_db).map_err(said)?;
        let points = curve.points.iter().zip(&curve.heights);
        let point = |((path_mm, needed_db, set_db), height): (&(f64, f64, f64), &f64)| TcgPoint {
            path_mm: *path_mm,
            needed_db: *needed_db,
            set_db: *set_db,
            height_percent: *height,
        };
        Ok(TcgFound {
            points: points.map(point).collect(),
            largest_db: curve.largest,
            largest_residual_db: curve.largest_residual,
        })
    }
}

struct Uniformity;

/// The elements of an array.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct UniformityAsked {
    /// Amplitude of each, in any unit; zero where there is no echo.
    amplitudes: Vec<f64>,
    /// How much weaker than the median one may be, in dB.
    limit_db: f64,
}

/// How alike they are.
#[derive(Debug, Serialize, JsonSchema)]
struct UniformityFound {
    /// Each against the median of those that have an echo, in dB; null where there is none.
    deviations_db: Vec<Option<f64>>,
    /// Strongest against weakest that has an echo, in dB.
    spread_db: f64,
    /// Elements without an echo, from 1.
    dead: Vec<usize>,
    /// Elements that are too weak, from 1.
    weak: Vec<usize>,
    /// First ones of neighbours that are both dead or weak: worse than as many apart.
    neighbours: Vec<usize>,
}

impl Compute for Uniformity {
    const NAME: &'static str = "element-uniformity";
    const ABOUT: &'static str = "dead and weak elements of an array, and neighbours among them";
    type Input = UniformityAsked;
    type Output = UniformityFound;

    fn compute(input: UniformityAsked) -> Result<UniformityFound, String> {
        let found = elements(&input.amplitudes, input.limit_db).map_err(said)?;
        Ok(UniformityFound {
            deviations_db: found.deviations,
            spread_db: found.spread,
            dead: found.dead,
            weak: found.weak,
            neighbours: found.neighbours,
        })
    }
}

struct Linearity;

/// A change of gain and what is seen after it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct GainStep {
    /// Change against the first, in dB.
    change_db: f64,
    /// Height that is seen, in per cent of the screen.
    height_percent: f64,
}

/// An amplitude linearity check.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct LinearityAsked {
    /// Height before any change, in per cent of the screen; below 100.
    first_percent: f64,
    /// Known changes.
    steps: Vec<GainStep>,
}

/// A step of it.
#[derive(Debug, Serialize, JsonSchema)]
struct LinearityStep {
    /// Height that it should have, in per cent of the screen.
    expected_percent: f64,
    /// Seen less expected, in per cent of the screen; null where it should be above the screen.
    deviation_percent: Option<f64>,
}

/// What it says.
#[derive(Debug, Serialize, JsonSchema)]
struct LinearityFound {
    /// Each step.
    steps: Vec<LinearityStep>,
    /// The largest deviation without its sign; null where none is known.
    largest_percent: Option<f64>,
}

impl Compute for Linearity {
    const NAME: &'static str = "amplitude-linearity";
    const ABOUT: &'static str =
        "heights after known changes of gain against those that follow from the first";
    type Input = LinearityAsked;
    type Output = LinearityFound;

    fn compute(input: LinearityAsked) -> Result<LinearityFound, String> {
        let steps: Vec<(f64, f64)> =
            input.steps.iter().map(|step| (step.change_db, step.height_percent)).collect();
        let found = amplitude_linearity(input.first_percent, &steps).map_err(said)?;
        let largest =
            found.iter().filter_map(|step| step.deviation).map(f64::abs).max_by(f64::total_cmp);
        let steps = found
            .into_iter()
            .map(|step| LinearityStep {
                expected_percent: step.expected,
                deviation_percent: step.deviation,
            })
            .collect();
        Ok(LinearityFound { steps, largest_percent: largest })
    }
}

struct Encoder;

/// A known distance, there and back.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct EncoderAsked {
    /// The distance in mm.
    distance_mm: f64,
    /// Counts over it.
    counts: f64,
    /// Counts that are left when it has come back.
    counts_back: f64,
    /// Scale that is set, in mm a count.
    #[serde(default)]
    set_mm_per_count: Option<f64>,
}

/// Its scale.
#[derive(Debug, Serialize, JsonSchema)]
struct EncoderFound {
    /// Scale that the distance speaks for, in mm a count.
    mm_per_count: f64,
    /// What it shows too much over the distance with the scale that is set, in mm; null where none was given.
    error_mm: Option<f64>,
    /// What is left when it has come back, in mm.
    backlash_mm: f64,
}

impl Compute for Encoder {
    const NAME: &'static str = "encoder-scale";
    const ABOUT: &'static str = "scale and backlash of an encoder over a known distance";
    type Input = EncoderAsked;
    type Output = EncoderFound;

    fn compute(input: EncoderAsked) -> Result<EncoderFound, String> {
        let EncoderAsked { distance_mm, counts, counts_back, set_mm_per_count } = input;
        let set =
            set_mm_per_count.map(|set| super::positive("set_mm_per_count", set)).transpose()?;
        let found = encoder_scale(distance_mm, counts, counts_back, set).map_err(said)?;
        Ok(EncoderFound {
            mm_per_count: found.per_count,
            error_mm: found.error,
            backlash_mm: found.backlash,
        })
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

    fn near(value: &Value, expected: f64) {
        let value = value.as_f64().unwrap();
        assert!((value - expected).abs() < 1e-9 * expected.abs().max(1.0), "{value} {expected}");
    }

    #[test]
    fn two_steps_prove_nothing_and_three_do() {
        let step = |d: f64, t: f64| json!({ "thickness_mm": d, "time_us": t });
        let two =
            run::<VelocityZero>(&json!({ "steps": [step(5.0, 2.19), step(20.0, 7.19)] })).unwrap();
        near(&two["velocity_m_per_s"], 6_000.0);
        assert_eq!(two["residuals_us"], Value::Null);
        assert_eq!(two["velocity_u_m_per_s"], Value::Null);
        assert!(two["words"].as_str().unwrap().contains("a third one proves"));
        let asked = json!({
            "steps": [step(5.0, 2.19), step(12.5, 4.70), step(20.0, 7.19)], "time_u_us": 0.003, "thickness_u_mm": 0.0
        });
        let three = run::<VelocityZero>(&asked).unwrap();
        // u(b) = u(t)/√Σ(d − d̄)² with Σ = 2·7.5²; u(v) = v·u(b)/b.
        let slope = 2_000.0 / three["velocity_m_per_s"].as_f64().unwrap();
        near(&three["velocity_u_m_per_s"], 2_000.0 / slope * 0.003 / 112.5_f64.sqrt() / slope);
        assert_eq!(three["residuals_us"].as_array().unwrap().len(), 3);
        for (steps, words) in [
            (json!([step(5.0, 2.0)]), "two steps at least"),
            (json!([step(5.0, 2.0), step(5.0, 3.0)]), "one thickness"),
            (json!([step(5.0, 3.0), step(9.0, 2.0)]), "times fall"),
            (json!([step(-5.0, 3.0), step(9.0, 2.0)]), "step 1"),
        ] {
            let said = run::<VelocityZero>(&json!({ "steps": steps })).unwrap_err();
            assert!(said.contains(words), "{said}");
        }
    }

    #[test]
    fn a_warm_piece_reads_thick() {
        let asked = json!({
            "velocity_m_per_s": 5934, "per_degree_m_per_s": 0.8, "temperature_c": 60, "thickness_mm": 10
        });
        let found = run::<Temperature>(&asked).unwrap();
        near(&found["velocity_m_per_s"], 5_902.0);
        near(&found["error_mm"], 10.0 * (5_934.0 / 5_902.0 - 1.0));
    }

    #[test]
    fn an_echo_is_folded_at_the_faces() {
        let angle = 0.8_f64.acos().to_degrees();
        let found =
            run::<Path>(&json!({ "path_mm": 25, "angle_degrees": angle, "thickness_mm": 12 }))
                .unwrap();
        near(&found["surface_mm"], 15.0);
        near(&found["depth_mm"], 4.0);
        assert_eq!(found["leg"], json!(2));
        let wedge = json!({ "path_mm": 25, "wedge_degrees": 60, "wedge_m_per_s": 2730, "material_m_per_s": 3250 });
        assert!(run::<Path>(&wedge).unwrap_err().contains("critical"));
        assert!(run::<Path>(&json!({ "path_mm": 25 })).unwrap_err().contains("either"));
        assert!(
            run::<Path>(&json!({ "path_mm": 25, "wedge_degrees": 30 }))
                .unwrap_err()
                .contains("both velocities")
        );
    }

    #[test]
    fn gains_and_heights() {
        let found = run::<Gain>(&json!({ "seen_percent": 40, "wanted_percent": 80 })).unwrap();
        near(&found["gain_db"], 20.0 * 2.0_f64.log10());
        assert_eq!(found["cut_off"], json!(false));
        let cut = run::<Gain>(&json!({ "seen_percent": 100, "wanted_percent": 80 })).unwrap();
        assert_eq!(cut["cut_off"], json!(true));
        let echoes = json!([{ "path_mm": 5, "height_percent": 80 }, { "path_mm": 20, "height_percent": 26 }]);
        let curve =
            run::<Tcg>(&json!({ "echoes": echoes, "wanted_percent": 80, "step_db": 0.5 })).unwrap();
        near(&curve["largest_db"], 10.0);
        near(&curve["points"][1]["height_percent"], 26.0 * 10.0_f64.sqrt());
        let alike = run::<Uniformity>(&json!({ "amplitudes": [90, 91, 0, 40, 90], "limit_db": 6 }))
            .unwrap();
        assert_eq!(
            (&alike["dead"], &alike["weak"], &alike["neighbours"]),
            (&json!([3]), &json!([4]), &json!([3]))
        );
        let steps = json!([{ "change_db": -6, "height_percent": 41 }, { "change_db": 6, "height_percent": 100 }]);
        let linear = run::<Linearity>(&json!({ "first_percent": 80, "steps": steps })).unwrap();
        near(&linear["largest_percent"], 41.0 - 80.0 * 10.0_f64.powf(-0.3));
        assert_eq!(linear["steps"][1]["deviation_percent"], Value::Null);
        let encoder = run::<Encoder>(&json!({
            "distance_mm": 300, "counts": 2985, "counts_back": 12, "set_mm_per_count": 0.1
        }))
        .unwrap();
        near(&encoder["error_mm"], -1.5);
        near(&encoder["backlash_mm"], 1.2);
    }
}
