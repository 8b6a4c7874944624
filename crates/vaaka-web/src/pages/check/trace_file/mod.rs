//! Files of traces, whatever form their instrument writes: columns of numbers, network files, packed spectra.

mod network;
mod spectrum;

use vaaka_core::trace::{MOST_COLUMNS, MOST_POINTS, Table, TraceWanted};
use vaaka_formats::{Columns, is_spectrum_file, is_touchstone, read_columns};

use network::network_table;
use spectrum::spectrum_table;

/// Reads a file as the form that it says of itself; what says nothing is read as columns.
///
/// # Errors
/// Words that say what is wrong with it, and where.
pub fn read(bytes: &[u8], wanted: &TraceWanted) -> Result<Table, String> {
    if is_touchstone(bytes) {
        return network_table(bytes, wanted);
    }
    if is_spectrum_file(bytes) {
        return spectrum_table(bytes, wanted);
    }
    read_columns(bytes, (MOST_POINTS, MOST_COLUMNS))
        .map(|Columns { heads, columns, lines }| Table { heads, columns, lines })
        .map_err(|error| error.to_string())
}
