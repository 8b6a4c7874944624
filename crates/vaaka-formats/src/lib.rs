//! Open formats in and out: bytes to plain types and back. Nothing here knows the job.

mod columns;
mod jcamp;
mod table_in;
mod table_out;
mod touchstone;

pub use columns::{Columns, ColumnsError, read_columns};
pub use jcamp::{JcampError, Spectrum, is_spectrum_file, read_jcamp};
pub use table_in::{Grid, Line, TableError, read_table};
pub use table_out::{Cell, CsvForm, Table};
pub use touchstone::{
    MOST_PORTS, NumberFormat, Touchstone, TouchstoneError, TouchstoneVersion, is_touchstone,
    read_touchstone,
};
