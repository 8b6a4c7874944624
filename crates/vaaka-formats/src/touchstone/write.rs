//! Writing.

use std::fmt::Write;

use num_complex::Complex;

use super::Touchstone;

/// How a complex number stands in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NumberFormat {
    /// Real and imaginary part.
    RealImaginary,
    /// Magnitude, and angle in degrees.
    MagnitudeAngle,
    /// Magnitude in dB, and angle in degrees.
    DecibelAngle,
}

/// Version of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TouchstoneVersion {
    /// 1.1: one reference impedance for all ports.
    V1,
    /// 2.0.
    V2,
}

impl NumberFormat {
    fn word(self) -> &'static str {
        match self {
            Self::RealImaginary => "RI",
            Self::MagnitudeAngle => "MA",
            Self::DecibelAngle => "DB",
        }
    }

    pub(super) fn complex(self, first: f64, second: f64) -> Complex<f64> {
        match self {
            Self::RealImaginary => Complex::new(first, second),
            Self::MagnitudeAngle => Complex::from_polar(first, second.to_radians()),
            Self::DecibelAngle => {
                Complex::from_polar(10.0_f64.powf(first / 20.0), second.to_radians())
            }
        }
    }

    fn numbers(self, value: Complex<f64>) -> (f64, f64) {
        let degrees = value.arg().to_degrees();
        match self {
            Self::RealImaginary => (value.re, value.im),
            Self::MagnitudeAngle => (value.norm(), degrees),
            // Nothing has no decibels: so far down that it comes back as nothing.
            Self::DecibelAngle => ((20.0 * value.norm().log10()).max(-6_000.0), degrees),
        }
    }
}

impl Touchstone {
    /// As a file. Numbers have the digits that bring back the very same value. Version 1 has one impedance: where the ports differ,
    /// version 2 is written.
    #[must_use]
    pub fn written(&self, version: TouchstoneVersion, format: NumberFormat) -> String {
        let same = self.references.windows(2).all(|pair| pair[0] == pair[1]);
        let version = if same { version } else { TouchstoneVersion::V2 };
        let reference = self.references.first().copied().unwrap_or(50.0);
        let mut text = String::new();
        for comment in &self.comments {
            writeln!(text, "! {comment}").ok();
        }
        let options = format!("# Hz S {} R {reference}", format.word());
        match version {
            TouchstoneVersion::V1 => writeln!(text, "{options}").ok(),
            TouchstoneVersion::V2 => {
                let references: Vec<String> = self.references.iter().map(f64::to_string).collect();
                let order = if self.ports == 2 { "[Two-Port Data Order] 21_12\n" } else { "" };
                writeln!(
                    text,
                    "[Version] 2.0\n{options}\n[Number of Ports] {}\n{order}[Number of Frequencies] {}\n[Reference] {}\n[Network Data]",
                    self.ports,
                    self.frequencies.len(),
                    references.join(" "),
                )
                .ok()
            }
        };
        for (frequency, all) in self.frequencies.iter().zip(&self.parameters) {
            write!(text, "{frequency}").ok();
            let own: Vec<Complex<f64>> = match all.as_slice() {
                // Two ports go by columns.
                [s11, s12, s21, s22] if self.ports == 2 => vec![*s11, *s21, *s12, *s22],
                other => other.to_vec(),
            };
            for (place, value) in own.into_iter().enumerate() {
                // Of three ports and more each row is a line, of at most four values.
                let column = place % self.ports.max(1);
                if self.ports > 2 && place > 0 && column.is_multiple_of(4) {
                    text.push('\n');
                }
                let (first, second) = format.numbers(value);
                write!(text, " {first} {second}").ok();
            }
            text.push('\n');
        }
        if version == TouchstoneVersion::V2 {
            text.push_str("[End]\n");
        }
        text
    }
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
