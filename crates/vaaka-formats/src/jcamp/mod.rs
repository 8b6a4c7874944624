//! JCAMP-DX files of spectra (McDonald and Wilks 1988, version 4.24, and 5.01 of IUPAC 1993; from memory): XYDATA in every packing (AFFN,
//! PAC, SQZ, DIF, DUP) and XYPOINTS, in and out. What is at fault is named by its line.

mod read;
mod write;

use thiserror::Error;

pub use read::{is_spectrum_file, read_jcamp};

use crate::TableError;

/// A spectrum.
#[derive(Debug, Clone, PartialEq)]
pub struct Spectrum {
    /// Its title.
    pub title: String,
    /// Unit of x as it stands in the file, "NANOMETERS".
    pub x_unit: String,
    /// Unit of y, "ABSORBANCE".
    pub y_unit: String,
    /// Values of x.
    pub x: Vec<f64>,
    /// Values of y.
    pub y: Vec<f64>,
}

/// Why a file is no spectrum. The words say what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum JcampError {
    /// It is no text at all.
    #[error(transparent)]
    NotText(#[from] TableError),
    /// No data in it.
    #[error(
        "There is no spectrum in this file (no XYDATA and no XYPOINTS). Export the spectrum itself as JCAMP-DX."
    )]
    NoData,
    /// Several spectra.
    #[error("Line {line}: a second spectrum begins. Export one spectrum a file.")]
    Several {
        /// Line.
        line: usize,
    },
    /// A form of data that is not read.
    #[error(
        "Line {line}: data in the form {form} are not read here. Export XYDATA=(X++(Y..Y)) or XYPOINTS=(XY..XY)."
    )]
    Form {
        /// Line.
        line: usize,
        /// As it stands there.
        form: String,
    },
    /// A label that is needed.
    #[error("The file does not say its {label}. Export it again.")]
    Missing {
        /// Label.
        label: &'static str,
    },
    /// A label that holds no number.
    #[error("Line {line}: {label} holds “{text}”, which is no number.")]
    Label {
        /// Line.
        line: usize,
        /// Label.
        label: String,
        /// As it stands there.
        text: String,
    },
    /// Something that is no number.
    #[error("Line {line}: “{text}” is no number of this form.")]
    NoNumber {
        /// Line.
        line: usize,
        /// As it stands there.
        text: String,
    },
    /// A point that was not measured.
    #[error(
        "Line {line}: a point is marked as not measured (?). Measure again, or export a part without it."
    )]
    NotMeasured {
        /// Line.
        line: usize,
    },
    /// The x of a line is not where the points lead to.
    #[error(
        "Line {line}: it begins at {found}, where {wanted} follows from the lines before: points are missing or stand twice. Export it again."
    )]
    XCheck {
        /// Line.
        line: usize,
        /// What stands there.
        found: String,
        /// What should.
        wanted: String,
    },
    /// The first value of a line is not the last one of the line before.
    #[error(
        "Line {line}: its first value is not the last one of the line before, which it repeats: the file is damaged. Export it again."
    )]
    YCheck {
        /// Line.
        line: usize,
    },
    /// The file says another count than it holds.
    #[error(
        "The file says that it has {wanted} points, and holds {found}: it is cut off. Export it again."
    )]
    Count {
        /// What it says.
        wanted: usize,
        /// What it holds.
        found: usize,
    },
}
