//! Touchstone files (IBIS Open Forum, versions 1.1 and 2.0; from memory): scattering parameters over the frequency, in and out.
//!
//! In: options in any order, every unit and number format, comments, networks of many ports over several lines, both orders of
//! two-ports, a reference impedance for each port, triangles, noise data (which is passed over). What is at fault is named by its line.

mod read;
mod write;

use num_complex::Complex;
use thiserror::Error;

pub use read::{is_touchstone, read_touchstone};
pub use write::{NumberFormat, TouchstoneVersion};

use crate::TableError;

/// Most ports of a file.
pub const MOST_PORTS: usize = 16;

/// A network over the frequency.
#[derive(Debug, Clone, PartialEq)]
pub struct Touchstone {
    /// Count of ports.
    pub ports: usize,
    /// Frequencies in Hz, rising.
    pub frequencies: Vec<f64>,
    /// Reference impedance of each port, Ω.
    pub references: Vec<f64>,
    /// Scattering parameters: for each frequency all rows, one behind the other (S₁₁, S₁₂, … S₂₁, …).
    pub parameters: Vec<Vec<Complex<f64>>>,
    /// What stands in its comments, line by line, without the mark.
    pub comments: Vec<String>,
    /// Whether noise data followed, which were passed over.
    pub noise: bool,
}

impl Touchstone {
    /// S of a row and a column, from 1, over all frequencies; none where there is no such port.
    #[must_use]
    pub fn parameter(&self, row: usize, column: usize) -> Option<Vec<Complex<f64>>> {
        let inside = |port: usize| (1..=self.ports).contains(&port);
        let place =
            row.wrapping_sub(1).wrapping_mul(self.ports).wrapping_add(column.wrapping_sub(1));
        (inside(row) && inside(column))
            .then(|| self.parameters.iter().map(|all| all[place]).collect())
    }
}

/// Why a file is no network. The words say what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TouchstoneError {
    /// It is no text at all.
    #[error(transparent)]
    NotText(#[from] TableError),
    /// No option line before the numbers.
    #[error(
        "Line {line}: numbers begin before a line of options (# GHz S RI R 50) has said what they are. Export it again as Touchstone."
    )]
    NoOptions {
        /// Line.
        line: usize,
    },
    /// Nothing in it.
    #[error("There are no numbers in this file. Export the measurement again as Touchstone.")]
    NoNumbers,
    /// An option that is not known.
    #[error(
        "Line {line}: “{text}” is no option that is known here. Unit (Hz, kHz, MHz, GHz), S, format (RI, MA, DB) and R with an impedance are."
    )]
    Option {
        /// Line.
        line: usize,
        /// As it stands there.
        text: String,
    },
    /// Other parameters than scattering ones.
    #[error("Line {line}: the file holds {text} parameters. Export scattering parameters (S).")]
    Parameters {
        /// Line.
        line: usize,
        /// Their letter.
        text: String,
    },
    /// Something that is no number.
    #[error("Line {line}: “{text}” is no number.")]
    NoNumber {
        /// Line.
        line: usize,
        /// As it stands there.
        text: String,
    },
    /// Numbers that make no network.
    #[error(
        "Line {line}: {found} numbers, where a network of {ports} ports has {wanted} at each frequency: the file is cut off, or another name was given to it. Export it again."
    )]
    Uneven {
        /// Line where the frequency begins.
        line: usize,
        /// What was found.
        found: usize,
        /// What belongs there.
        wanted: usize,
        /// Ports.
        ports: usize,
    },
    /// A frequency that does not rise.
    #[error(
        "Line {line}: the frequency does not rise from the one before. One sweep is wanted, from one end to the other."
    )]
    Falls {
        /// Line.
        line: usize,
    },
    /// A frequency below zero.
    #[error("Line {line}: a frequency below zero.")]
    Negative {
        /// Line.
        line: usize,
    },
    /// A keyword of version 2 that is not known, or out of place.
    #[error("Line {line}: “{text}” cannot stand here in a file of version 2.")]
    Keyword {
        /// Line.
        line: usize,
        /// As it stands there.
        text: String,
    },
    /// Something that version 2 asks for is missing.
    #[error("This file of version 2 does not say its {what}. Export it again.")]
    Missing {
        /// What.
        what: &'static str,
    },
    /// The file says another count than it holds.
    #[error(
        "The file says that it has {wanted} frequencies, and holds {found}: it is cut off. Export it again."
    )]
    Count {
        /// What it says.
        wanted: usize,
        /// What it holds.
        found: usize,
    },
    /// Too many ports, or none.
    #[error("A network of {found} ports; 1 to {MOST_PORTS} are read here.")]
    Ports {
        /// Ports.
        found: usize,
    },
    /// An impedance that is none.
    #[error("Line {line}: a reference impedance is a number greater than zero.")]
    Reference {
        /// Line.
        line: usize,
    },
}
