//! What the setting-up of flaw detection computes: where an echo is, gains, elements, linearity, the encoder.

use thiserror::Error;

/// Why nothing can be computed.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum SoundError {
    /// A number that cannot be.
    #[error("{what} must be {must}")]
    Number {
        /// Of what.
        what: &'static str,
        /// What it must be.
        must: &'static str,
    },
    /// Nothing is refracted into the material.
    #[error(
        "the angle in the wedge is at or beyond the critical one: nothing is refracted into the material"
    )]
    Critical,
    /// Nothing was given.
    #[error("give {0}")]
    Nothing(&'static str),
}

fn positive(what: &'static str, value: f64) -> Result<f64, SoundError> {
    if value.is_finite() && value > 0.0 {
        Ok(value)
    } else {
        Err(SoundError::Number { what, must: "greater than zero" })
    }
}

/// Angle in the material, in degrees, of what comes from a wedge: sin β = v₂/v₁·sin α (Snell's law).
///
/// # Errors
/// [`SoundError`]: an angle outside 0° to 90°, a velocity that is none, at or beyond the critical angle.
pub fn refracted_angle(in_wedge: f64, of_wedge: f64, of_material: f64) -> Result<f64, SoundError> {
    let ratio = positive("a velocity", of_material)? / positive("a velocity", of_wedge)?;
    if !(0.0..90.0).contains(&in_wedge) {
        return Err(SoundError::Number {
            what: "the angle in the wedge",
            must: "from 0° to below 90°",
        });
    }
    let sine = ratio * in_wedge.to_radians().sin();
    if sine >= 1.0 { Err(SoundError::Critical) } else { Ok(sine.asin().to_degrees()) }
}

/// Where an echo of an angle beam comes from.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SoundPlace {
    /// Distance along the surface from the beam index, s·sin β.
    pub surface: f64,
    /// Depth as the beam runs on, s·cos β.
    pub unfolded: f64,
    /// Depth in a plate, folded at its faces; as it runs on where no thickness is known.
    pub depth: f64,
    /// Which leg of the beam it is, from 1; none where no thickness is known.
    pub leg: Option<u32>,
}

/// Where an echo at a sound path is, for a beam at an angle to the normal, in a plate of a thickness.
///
/// # Errors
/// [`SoundError`].
pub fn sound_place(
    path: f64,
    angle: f64,
    thickness: Option<f64>,
) -> Result<SoundPlace, SoundError> {
    if !(path.is_finite() && path >= 0.0) {
        return Err(SoundError::Number { what: "the sound path", must: "zero or more" });
    }
    if !(0.0..90.0).contains(&angle) {
        return Err(SoundError::Number { what: "the angle", must: "from 0° to below 90°" });
    }
    let (sine, cosine) = angle.to_radians().sin_cos();
    let unfolded = path * cosine;
    let mut place = SoundPlace { surface: path * sine, unfolded, depth: unfolded, leg: None };
    if let Some(thickness) = thickness {
        let thickness = positive("the thickness", thickness)?;
        let before = (unfolded / thickness).floor();
        if before > 1e6 {
            return Err(SoundError::Number {
                what: "the sound path",
                must: "within a million legs",
            });
        }
        let into = unfolded - before * thickness;
        place.depth = if before % 2.0 == 0.0 { into } else { thickness - into };
        place.leg = Some(before as u32 + 1);
    }
    Ok(place)
}

/// Gain in dB that brings an echo to a height of the screen: 20·lg(wanted/seen).
///
/// # Errors
/// [`SoundError`].
pub fn gain_to_height(seen: f64, wanted: f64) -> Result<f64, SoundError> {
    Ok(20.0 * (positive("the height wanted", wanted)? / positive("the height seen", seen)?).log10())
}

/// Echoes above it are cut off: their height is a lower bound.
pub const SCREEN: f64 = 100.0;

/// The echo of a step or hole.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Echo {
    /// Sound path.
    pub path: f64,
    /// Height in per cent of the screen.
    pub height: f64,
}

/// Gain over the sound path that makes echoes of one size equally high.
#[derive(Debug, Clone, PartialEq)]
pub struct GainCurve {
    /// Path, gain that it needs in dB, and gain that can be set.
    pub points: Vec<(f64, f64, f64)>,
    /// The largest gain.
    pub largest: f64,
    /// Heights that are left, in per cent of the screen.
    pub heights: Vec<f64>,
    /// The farthest from the height wanted, in dB.
    pub largest_residual: f64,
}

/// The curve that brings each echo to a height, with gains in steps of the instrument.
///
/// # Errors
/// [`SoundError`]: fewer than two echoes, paths that do not rise, an echo that is cut off or lost.
pub fn gain_curve(echoes: &[Echo], wanted: f64, step: f64) -> Result<GainCurve, SoundError> {
    if echoes.len() < 2 {
        return Err(SoundError::Nothing("two echoes at least: a curve has two ends"));
    }
    positive("the step of the gain", step)?;
    if echoes.windows(2).any(|pair| pair[1].path <= pair[0].path) {
        return Err(SoundError::Number {
            what: "the sound path",
            must: "greater from echo to echo",
        });
    }
    let (mut points, mut heights) = (vec![], vec![]);
    for echo in echoes {
        positive("a sound path", echo.path)?;
        if echo.height >= SCREEN {
            return Err(SoundError::Number {
                what: "a height",
                must: "below 100 %: an echo that is cut off says only that it is higher, so turn the gain down",
            });
        }
        let needed = gain_to_height(echo.height, wanted)?;
        let set = (needed / step).round() * step;
        points.push((echo.path, needed, set));
        heights.push(echo.height * 10.0_f64.powf(set / 20.0));
    }
    let largest = points.iter().map(|point| point.2).fold(f64::NEG_INFINITY, f64::max);
    let farthest = |far: f64, point: &(f64, f64, f64)| far.max((point.2 - point.1).abs());
    let largest_residual = points.iter().fold(0.0, farthest);
    Ok(GainCurve { points, largest, heights, largest_residual })
}

/// How alike the elements of an array are.
#[derive(Debug, Clone, PartialEq)]
pub struct Elements {
    /// Each against the median, in dB; none of an element without an echo.
    pub deviations: Vec<Option<f64>>,
    /// Highest against lowest that has an echo, in dB.
    pub spread: f64,
    /// Places (from 1) without an echo.
    pub dead: Vec<usize>,
    /// Places that are weaker than the median by more than the limit.
    pub weak: Vec<usize>,
    /// First places of neighbours that are both dead or weak.
    pub neighbours: Vec<usize>,
}

/// How alike elements are by their amplitudes, against their median, with a limit in dB (a factor of 10^(limit/20): 6 dB are
/// 1.995).
///
/// # Errors
/// [`SoundError`]: no elements, none with an echo, an amplitude below zero.
pub fn elements(amplitudes: &[f64], limit: f64) -> Result<Elements, SoundError> {
    positive("the limit", limit)?;
    if amplitudes.is_empty() {
        return Err(SoundError::Nothing("the amplitude of each element"));
    }
    if amplitudes.iter().any(|one| !one.is_finite() || *one < 0.0) {
        return Err(SoundError::Number { what: "an amplitude", must: "zero or more" });
    }
    let mut alive: Vec<f64> = amplitudes.iter().copied().filter(|one| *one > 0.0).collect();
    alive.sort_by(f64::total_cmp);
    let (Some(least), Some(most)) = (alive.first(), alive.last()) else {
        return Err(SoundError::Number {
            what: "one amplitude at least",
            must: "greater than zero",
        });
    };
    let middle = alive.len() / 2;
    let median = if alive.len() % 2 == 1 {
        alive[middle]
    } else {
        0.5 * (alive[middle - 1] + alive[middle])
    };
    let spread = 20.0 * (most / least).log10();
    let deviation = |one: &f64| (*one > 0.0).then(|| 20.0 * (one / median).log10());
    let deviations: Vec<Option<f64>> = amplitudes.iter().map(deviation).collect();
    let places = |which: &dyn Fn(&Option<f64>) -> bool| -> Vec<usize> {
        let found = deviations.iter().enumerate().filter(|(_, one)| which(one));
        found.map(|(index, _)| index + 1).collect()
    };
    let dead = places(&|one| one.is_none());
    let weak = places(&|one| one.is_some_and(|one| one < -limit));
    let bad = |one: &Option<f64>| one.is_none_or(|one| one < -limit);
    let pairs =
        deviations.windows(2).enumerate().filter(|(_, pair)| bad(&pair[0]) && bad(&pair[1]));
    let neighbours = pairs.map(|(index, _)| index + 1).collect();
    Ok(Elements { deviations, spread, dead, weak, neighbours })
}

/// A step of an amplitude linearity check.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AmplitudeStep {
    /// Height that the change of gain should make, in per cent of the screen.
    pub expected: f64,
    /// What is seen less that; none where what should be seen is above the screen.
    pub deviation: Option<f64>,
}

/// Heights after known changes of gain against those that follow from the first: h₀·10^(Δ/20) (the thought of EN 12668-1
/// and ISO 22232-1). Each step is the change in dB and the height seen.
///
/// # Errors
/// [`SoundError`].
pub fn amplitude_linearity(
    first: f64,
    steps: &[(f64, f64)],
) -> Result<Vec<AmplitudeStep>, SoundError> {
    positive("the first height", first)?;
    if first >= SCREEN {
        return Err(SoundError::Number {
            what: "the first height",
            must: "below 100 %: it is cut off",
        });
    }
    if steps.is_empty() {
        return Err(SoundError::Nothing("one change of gain at least"));
    }
    let of = |(change, seen): &(f64, f64)| {
        if !(change.is_finite() && change.abs() <= 200.0 && seen.is_finite() && *seen >= 0.0) {
            return Err(SoundError::Number {
                what: "a change and a height",
                must: "finite, the height zero or more",
            });
        }
        let expected = first * 10.0_f64.powf(change / 20.0);
        Ok(AmplitudeStep { expected, deviation: (expected < SCREEN).then(|| seen - expected) })
    };
    steps.iter().map(of).collect()
}

/// An encoder against a known distance.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct EncoderScale {
    /// What a count must be multiplied with, in the unit of the distance.
    pub per_count: f64,
    /// What it shows too much over the distance, with the scale that it has; none where it has none.
    pub error: Option<f64>,
    /// What is left when it has come back, in the unit of the distance.
    pub backlash: f64,
}

/// Scale and backlash of an encoder: counts over a known distance and back again, with the scale that is set.
///
/// # Errors
/// [`SoundError`].
pub fn encoder_scale(
    distance: f64,
    counts: f64,
    counts_back: f64,
    set: Option<f64>,
) -> Result<EncoderScale, SoundError> {
    positive("the distance", distance)?;
    if !(counts.is_finite() && counts != 0.0 && counts_back.is_finite()) {
        return Err(SoundError::Number {
            what: "the counts",
            must: "other than zero over the distance",
        });
    }
    let per_count = distance / counts;
    let error = set.map(|set| set * counts - distance);
    Ok(EncoderScale { per_count, error, backlash: counts_back * set.unwrap_or(per_count) })
}

/// Velocity at a temperature where it falls by so much for each degree: v(T) = v₂₀ − k·(T − 20 °C).
///
/// # Errors
/// [`SoundError`]: a velocity that is none, or comes to none.
pub fn velocity_at(at_20: f64, per_degree: f64, temperature: f64) -> Result<f64, SoundError> {
    positive("the velocity", at_20)?;
    positive("the velocity at this temperature", at_20 - per_degree * (temperature - 20.0))
}
