//! Writing.

use std::fmt::Write;

use super::Spectrum;

/// Points of a line.
const ROW: usize = 6;
/// Whole numbers up to which values are written: nine digits.
const MOST: f64 = 999_999_999.0;
/// How even steps of x are, as a share of one, to be written as one.
const EVEN: f64 = 1e-6;

impl Spectrum {
    /// As a file of version 4.24: x in even steps as XYDATA in plain numbers (nine digits of the largest value), else as XYPOINTS.
    #[must_use]
    pub fn written(&self) -> String {
        let mut text = String::new();
        // A label ends with its line.
        let plain = |words: &str| words.replace(['\r', '\n'], " ").replace("$$", "$ $");
        writeln!(text, "##TITLE={}", plain(&self.title)).ok();
        writeln!(text, "##JCAMP-DX=4.24\n##DATA TYPE=UV-VIS SPECTRUM").ok();
        writeln!(text, "##XUNITS={}\n##YUNITS={}", plain(&self.x_unit), plain(&self.y_unit)).ok();
        let (first, last) =
            (self.x.first().copied().unwrap_or(0.0), self.x.last().copied().unwrap_or(0.0));
        writeln!(text, "##FIRSTX={first}\n##LASTX={last}\n##NPOINTS={}", self.x.len()).ok();
        let step = (last - first) / (self.x.len().max(2) - 1) as f64;
        let even = step != 0.0
            && self
                .x
                .iter()
                .enumerate()
                .all(|(place, x)| (x - first - step * place as f64).abs() <= EVEN * step.abs());
        if even {
            let largest = self.y.iter().map(|y| y.abs()).fold(0.0, f64::max);
            let factor = if largest > 0.0 { largest / MOST } else { 1.0 };
            writeln!(
                text,
                "##DELTAX={step}\n##XFACTOR=1\n##YFACTOR={factor}\n##XYDATA=(X++(Y..Y))"
            )
            .ok();
            for (row, values) in self.y.chunks(ROW).enumerate() {
                write!(text, "{}", first + step * (row * ROW) as f64).ok();
                for value in values {
                    write!(text, " {}", (value / factor).round()).ok();
                }
                text.push('\n');
            }
        } else {
            writeln!(text, "##XFACTOR=1\n##YFACTOR=1\n##XYPOINTS=(XY..XY)").ok();
            for (x, y) in self.x.iter().zip(&self.y) {
                writeln!(text, "{x}, {y}").ok();
            }
        }
        text.push_str("##END=\n");
        text
    }
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
