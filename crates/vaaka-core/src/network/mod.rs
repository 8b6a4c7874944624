//! Network analyzers: corrections from raw sweeps, models of standards, and what is told of a piece.
//!
//! Waves a travel towards a port, b away from it. Scattering parameters are ratios S = b/a in a real reference impedance; transfer
//! parameters follow [b₁; a₁] = T·[a₂; b₂], so that what is joined one behind the other multiplies. Everything is computed frequency by
//! frequency; what cannot be at one is named with it.

mod convert;
mod kit;
mod line;
mod one_port;
mod two_port;
mod vector;

pub use convert::{
    Reflection, TwoPort, cascade, deembed, reflection, renormalized, renormalized_one_port,
};
pub use kit::{Load, Offset, Standard, offset_delay};
pub use line::{LineReflect, Reflect, line_correction, match_correction};
pub use one_port::{OnePort, one_port_terms};
pub use two_port::{Raw, TwelveTerms, twelve_terms};
pub use vector::{Cloud, ErrorVector, Ripple, error_vector, ripple};

use thiserror::Error;

/// A complex number.
pub type Complex = num_complex::Complex<f64>;

/// Most frequencies that a message names.
const NAMED: usize = 3;

/// Why sweeps make no correction. The words say what to do.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum NetworkError {
    /// Sweeps of different lengths.
    #[error(
        "The sweeps have {found} and {wanted} points: measure all of them in one and the same sweep."
    )]
    Lengths {
        /// What one has.
        found: usize,
        /// What the first has.
        wanted: usize,
    },
    /// A frequency is no positive number.
    #[error("Frequency {index} is no frequency above zero.")]
    Frequency {
        /// Which, from 1.
        index: usize,
    },
    /// A value is no number.
    #[error("{what}: value {index} is no number.")]
    NotFinite {
        /// Of which sweep.
        what: String,
        /// Which, from 1.
        index: usize,
    },
    /// Too few standards.
    #[error("{wanted} standards at least are wanted, and {found} are given.")]
    TooFew {
        /// Fewest.
        wanted: usize,
        /// What is given.
        found: usize,
    },
    /// The standards cannot be told apart at some frequencies.
    #[error(
        "The standards are too much alike at {places}: choose others there, or measure them anew."
    )]
    Alike {
        /// At which frequencies, in words.
        places: String,
    },
    /// Line and thru differ by half a wave, or not at all.
    #[error(
        "The line is a whole number of half waves longer than the thru at {places}: another line is wanted there."
    )]
    HalfWave {
        /// At which frequencies, in words.
        places: String,
    },
    /// Something that passes nothing on.
    #[error("{what} passes nothing on at {places}: look at the connection.")]
    Blocked {
        /// Of which sweep.
        what: String,
        /// At which frequencies, in words.
        places: String,
    },
    /// A number that cannot be.
    #[error("{0}")]
    Asked(&'static str),
}

/// "1.2 GHz, 1.3 GHz and 14 more": frequencies in words.
#[must_use]
pub fn frequency_words(frequencies: &[f64]) -> String {
    let one = |hertz: f64| {
        let (value, unit) = match hertz {
            f if f >= 1e9 => (f / 1e9, "GHz"),
            f if f >= 1e6 => (f / 1e6, "MHz"),
            f if f >= 1e3 => (f / 1e3, "kHz"),
            f => (f, "Hz"),
        };
        format!("{} {unit}", (value * 1e6).round() / 1e6)
    };
    let named: Vec<String> = frequencies.iter().take(NAMED).map(|f| one(*f)).collect();
    match (named.split_last(), frequencies.len().saturating_sub(NAMED)) {
        (None, _) => "no frequency".to_owned(),
        (Some((last, [])), 0) => last.clone(),
        (Some((last, before)), 0) => format!("{} and {last}", before.join(", ")),
        (Some(_), more) => format!("{} and {more} more", named.join(", ")),
    }
}

/// Looks at frequencies and sweeps: as many values as frequencies, all finite.
fn fit(frequencies: &[f64], sweeps: &[(&str, &[Complex])]) -> Result<(), NetworkError> {
    if let Some(index) = frequencies.iter().position(|f| !(f.is_finite() && *f > 0.0)) {
        return Err(NetworkError::Frequency { index: index + 1 });
    }
    for (what, sweep) in sweeps {
        if sweep.len() != frequencies.len() {
            return Err(NetworkError::Lengths { found: sweep.len(), wanted: frequencies.len() });
        }
        if let Some(index) = sweep.iter().position(|value| !value.is_finite()) {
            return Err(NetworkError::NotFinite { what: (*what).to_owned(), index: index + 1 });
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frequencies_are_told_in_words() {
        assert_eq!(frequency_words(&[]), "no frequency");
        assert_eq!(frequency_words(&[2.4e9]), "2.4 GHz");
        assert_eq!(frequency_words(&[500.0, 1e3]), "500 Hz and 1 kHz");
        let many: Vec<f64> = (1..=5).map(|n| f64::from(n) * 1e6).collect();
        assert_eq!(frequency_words(&many), "1 MHz, 2 MHz, 3 MHz and 2 more");
    }

    #[test]
    fn sweeps_that_do_not_fit_are_refused() {
        let one = [Complex::new(0.1, 0.0)];
        assert_eq!(fit(&[1e9], &[("open", &one)]), Ok(()));
        assert_eq!(fit(&[0.0], &[]), Err(NetworkError::Frequency { index: 1 }));
        let error = fit(&[1e9, 2e9], &[("open", &one)]).unwrap_err();
        assert_eq!(error, NetworkError::Lengths { found: 1, wanted: 2 });
        let odd = [Complex::new(f64::NAN, 0.0)];
        assert!(matches!(fit(&[1e9], &[("open", &odd)]), Err(NetworkError::NotFinite { .. })));
    }
}
