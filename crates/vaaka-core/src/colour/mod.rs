//! Colour: tristimulus values of a reflectance, CIELAB of these, and how far two colours are from each other.

mod tristimulus;
mod weights;

pub use tristimulus::{Illuminant, Observer, tristimulus, white};

use thiserror::Error;

/// Why nothing can be said of a colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum ColourError {
    /// A number that is none.
    #[error("the values of a colour are finite numbers")]
    NotFinite,
    /// A white that is none.
    #[error("the values of the white are above zero")]
    White,
    /// A lightness that is none.
    #[error(
        "a lightness L* lies between 0 and 150, a* and b* within ±500: these are no values of CIELAB"
    )]
    Range,
    /// A factor that is none.
    #[error("the factors of a difference are above zero")]
    Factor,
    /// A spectrum that the weights do not fit.
    #[error(
        "a spectrum has steps of 10 nm, on whole tens, rising, and reaches from 400 nm or below to 700 nm or above"
    )]
    Spectrum,
}

/// A colour in CIELAB (ISO/CIE 11664-4).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Lab {
    /// L*.
    pub l: f64,
    /// a*.
    pub a: f64,
    /// b*.
    pub b: f64,
}

/// Factors of lightness, chroma and hue in a colour difference; all one for reference conditions.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Factors {
    /// k_L.
    pub lightness: f64,
    /// k_C.
    pub chroma: f64,
    /// k_H.
    pub hue: f64,
}

impl Factors {
    /// Reference conditions.
    pub const ONE: Self = Self { lightness: 1.0, chroma: 1.0, hue: 1.0 };

    fn check(self) -> Result<Self, ColourError> {
        let all = [self.lightness, self.chroma, self.hue];
        if all.iter().all(|k| k.is_finite() && *k > 0.0) {
            Ok(self)
        } else {
            Err(ColourError::Factor)
        }
    }
}

impl Lab {
    /// A colour of its three values.
    ///
    /// # Errors
    /// [`ColourError`].
    pub fn new(l: f64, a: f64, b: f64) -> Result<Self, ColourError> {
        if ![l, a, b].iter().all(|value| value.is_finite()) {
            return Err(ColourError::NotFinite);
        }
        if !(0.0..=150.0).contains(&l) || a.abs() > 500.0 || b.abs() > 500.0 {
            return Err(ColourError::Range);
        }
        Ok(Self { l, a, b })
    }

    /// From tristimulus values, against those of a white of the same illuminant and observer (ISO/CIE 11664-4: cube root, and a
    /// straight line below (24/116)³).
    ///
    /// # Errors
    /// [`ColourError`].
    pub fn from_xyz(xyz: [f64; 3], white: [f64; 3]) -> Result<Self, ColourError> {
        if !xyz.iter().chain(&white).all(|value| value.is_finite()) {
            return Err(ColourError::NotFinite);
        }
        if white.iter().any(|value| *value <= 0.0) {
            return Err(ColourError::White);
        }
        let f = |index: usize| {
            let t = xyz[index] / white[index];
            if t > (24.0_f64 / 116.0).powi(3) { t.cbrt() } else { 841.0 / 108.0 * t + 16.0 / 116.0 }
        };
        let (x, y, z) = (f(0), f(1), f(2));
        Ok(Self { l: 116.0 * y - 16.0, a: 500.0 * (x - y), b: 200.0 * (y - z) })
    }

    /// Chroma C*ab.
    #[must_use]
    pub fn chroma(self) -> f64 {
        self.a.hypot(self.b)
    }

    /// Hue angle h_ab in degrees, from 0 to below 360; 0 where there is no chroma.
    #[must_use]
    pub fn hue(self) -> f64 {
        hue_of(self.a, self.b)
    }
}

fn hue_of(a: f64, b: f64) -> f64 {
    if a == 0.0 && b == 0.0 {
        return 0.0;
    }
    b.atan2(a).to_degrees().rem_euclid(360.0)
}

/// How far a sample is from a reference. A difference ΔE is never negative and never normal: it is charted by its parts ΔL*, Δa*, Δb*.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ColourDifference {
    /// ΔL*, sample less reference.
    pub lightness: f64,
    /// Δa*.
    pub a: f64,
    /// Δb*.
    pub b: f64,
    /// ΔC*ab.
    pub chroma: f64,
    /// ΔH*ab, with the sign of the hue.
    pub hue: f64,
    /// ΔE*ab (CIE 1976).
    pub cie_1976: f64,
    /// ΔE94 (CIE 116:1995); its weights are those of the reference, so that which is which matters.
    pub cie_1994: f64,
    /// ΔE00 (ISO/CIE 11664-6).
    pub cie_2000: f64,
}

/// The differences of a sample from a reference, both of one illuminant, observer and geometry.
///
/// # Errors
/// [`ColourError::Factor`].
pub fn colour_difference(
    reference: Lab,
    sample: Lab,
    factors: Factors,
) -> Result<ColourDifference, ColourError> {
    let factors = factors.check()?;
    let (lightness, a, b) =
        (sample.l - reference.l, sample.a - reference.a, sample.b - reference.b);
    let chroma = sample.chroma() - reference.chroma();
    let hue_squared = (a * a + b * b - chroma * chroma).max(0.0);
    // Positive where the hue angle grows.
    let turns = reference.a * sample.b - sample.a * reference.b;
    let hue = hue_squared.sqrt().copysign(if turns < 0.0 { -1.0 } else { 1.0 });
    let (sc, sh) = (1.0 + 0.045 * reference.chroma(), 1.0 + 0.015 * reference.chroma());
    let Factors { lightness: kl, chroma: kc, hue: kh } = factors;
    let cie_1994 =
        ((lightness / kl).powi(2) + (chroma / (kc * sc)).powi(2) + hue_squared / (kh * sh).powi(2))
            .sqrt();
    Ok(ColourDifference {
        lightness,
        a,
        b,
        chroma,
        hue,
        cie_1976: (lightness * lightness + a * a + b * b).sqrt(),
        cie_1994,
        cie_2000: cie_2000(reference, sample, factors),
    })
}

/// ΔE00 with the corner cases of Sharma, Wu and Dalal (2005): hue of no chroma, hues on either side of 0°.
fn cie_2000(one: Lab, other: Lab, factors: Factors) -> f64 {
    let seventh = |c: f64| (c.powi(7) / (c.powi(7) + 25.0_f64.powi(7))).sqrt();
    let g = 0.5 * (1.0 - seventh(0.5 * (one.chroma() + other.chroma())));
    let stretched = |colour: Lab| {
        let a = (1.0 + g) * colour.a;
        (a.hypot(colour.b), hue_of(a, colour.b))
    };
    let ((c1, h1), (c2, h2)) = (stretched(one), stretched(other));
    let grey = c1 * c2 == 0.0;
    let dh = match h2 - h1 {
        _ if grey => 0.0,
        d if d > 180.0 => d - 360.0,
        d if d < -180.0 => d + 360.0,
        d => d,
    };
    let (dl, dc) = (other.l - one.l, c2 - c1);
    let d_hue = 2.0 * (c1 * c2).sqrt() * (0.5 * dh).to_radians().sin();
    let (l, c) = (0.5 * (one.l + other.l), 0.5 * (c1 + c2));
    let h = match (h1 + h2, (h1 - h2).abs() > 180.0) {
        (sum, _) if grey => sum,
        (sum, false) => 0.5 * sum,
        (sum, true) if sum < 360.0 => 0.5 * (sum + 360.0),
        (sum, true) => 0.5 * (sum - 360.0),
    };
    let cosine = |degrees: f64| degrees.to_radians().cos();
    let t = 1.0 - 0.17 * cosine(h - 30.0) + 0.24 * cosine(2.0 * h) + 0.32 * cosine(3.0 * h + 6.0)
        - 0.20 * cosine(4.0 * h - 63.0);
    let turn = 30.0 * libm::exp(-((h - 275.0) / 25.0).powi(2));
    let rotation = -(2.0 * turn).to_radians().sin() * 2.0 * seventh(c);
    let square = (l - 50.0).powi(2);
    let sl = 1.0 + 0.015 * square / (20.0 + square).sqrt();
    let (sc, sh) = (1.0 + 0.045 * c, 1.0 + 0.015 * c * t);
    let (l, c, h) =
        (dl / (factors.lightness * sl), dc / (factors.chroma * sc), d_hue / (factors.hue * sh));
    (l * l + c * c + h * h + rotation * c * h).max(0.0).sqrt()
}
