//! Tables in: CSV as RFC 4180 describes it and as spreadsheets really write it, with a byte-order
//! mark, with semicolons or tabs between the cells, in UTF-8 or UTF-16.

use csv::{ReaderBuilder, StringRecord};
use thiserror::Error;

/// A line of a table with where it stands in the file, counted from 1.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// Number of the line in the file, as a text editor counts.
    pub number: u64,
    cells: StringRecord,
}

impl Line {
    /// The cell of a column, trimmed; empty where the line is shorter.
    #[must_use]
    pub fn cell(&self, column: usize) -> &str {
        self.cells.get(column).map_or("", str::trim)
    }

    /// How many cells it has, those that are empty at its end left out.
    #[must_use]
    pub fn len(&self) -> usize {
        let filled = |(_, cell): &(usize, &str)| !cell.trim().is_empty();
        self.cells.iter().enumerate().filter(filled).last().map_or(0, |(last, _)| last + 1)
    }

    /// Whether nothing stands in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// A table as it was read: heads, and the lines that hold anything.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grid {
    /// Heads, trimmed.
    pub heads: Vec<String>,
    /// Lines.
    pub lines: Vec<Line>,
}

impl Grid {
    /// Whether a cell would be run by a spreadsheet that opens this table again: a formula, not a
    /// number.
    #[must_use]
    pub fn is_formula(text: &str) -> bool {
        crate::table_out::runs_as_formula(text)
    }
}

/// Why a file is no table.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TableError {
    /// Nothing in it.
    #[error("There is nothing in this file. Save the table as CSV again and send that.")]
    Empty,
    /// A workbook, not a text.
    #[error(
        "This is a workbook, not a table of text. In the spreadsheet choose “save as”, then CSV in UTF-8, and send that."
    )]
    Workbook,
    /// Bytes that are no text.
    #[error(
        "Line {line} is not text in UTF-8. In the spreadsheet choose “save as”, then CSV in UTF-8, and send that."
    )]
    NotText {
        /// Where.
        line: usize,
    },
    /// A quote that is never closed.
    #[error(
        "The quotation mark that opens in line {line} is never closed, so the rest of the file would be one cell. Close it and send the file again."
    )]
    OpenQuote {
        /// Line where it opens.
        line: u64,
    },
    /// More lines than are taken at once.
    #[error(
        "This table has more than {most} lines. Split it and bring in the parts one after the other."
    )]
    TooLong {
        /// Most lines.
        most: usize,
    },
}

/// Reads a table. Cells are separated by what separates the heads: semicolon, tab or comma.
///
/// # Errors
/// [`TableError`].
pub fn read_table(bytes: &[u8], most: usize) -> Result<Grid, TableError> {
    let text = decode(bytes)?;
    let text = text.as_str();
    // Some spreadsheets say the separator in a line of its own.
    let (text, told, skipped) = match text.split_once('\n') {
        Some((first, rest)) if first.trim().to_ascii_lowercase().starts_with("sep=") => {
            (rest, first.trim().as_bytes().get(4).copied(), 1)
        }
        _ => (text, None, 0),
    };
    let separator = told.unwrap_or_else(|| separator_of(text));
    let mut reader = ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .delimiter(separator)
        .from_reader(text.as_bytes());
    let mut heads: Option<Vec<String>> = None;
    let mut lines = Vec::new();
    let mut record = StringRecord::new();
    let mut counter = LineCounter { bytes: text.as_bytes(), at: 0, line: 1 };
    while reader.read_record(&mut record).unwrap_or(false) {
        let from = record.position().map_or(0, csv::Position::byte);
        let number = counter.line_of(usize::try_from(from).unwrap_or(usize::MAX)) + skipped;
        if record.iter().all(|cell| cell.trim().is_empty()) {
            continue;
        }
        if heads.is_none() {
            heads = Some(record.iter().map(|head| head.trim().to_owned()).collect());
            continue;
        }
        if lines.len() == most {
            return Err(TableError::TooLong { most });
        }
        lines.push(Line { number, cells: record.clone() });
    }
    if let Some(line) = open_quote(text, separator) {
        return Err(TableError::OpenQuote { line: line + skipped });
    }
    let mut heads = heads.ok_or(TableError::Empty)?;
    while heads.last().is_some_and(String::is_empty) {
        heads.pop();
    }
    Ok(Grid { heads, lines })
}

/// Counts lines as a text editor does; the reader's own count leaves out empty lines, and stands one
/// line short where lines end with two characters.
struct LineCounter<'a> {
    bytes: &'a [u8],
    at: usize,
    line: u64,
}

impl LineCounter<'_> {
    /// The line of the record that begins at `from`, or at the next byte that ends no line.
    fn line_of(&mut self, from: usize) -> u64 {
        while let Some(byte) = self.bytes.get(self.at) {
            if self.at >= from && !matches!(byte, b'\r' | b'\n') {
                break;
            }
            self.line += u64::from(*byte == b'\n');
            self.at += 1;
        }
        self.line
    }
}

/// Line of a quotation mark that opens a cell and is never closed. One inside a cell that none opened
/// is a letter like others.
fn open_quote(text: &str, separator: u8) -> Option<u64> {
    let (mut line, mut opened, mut at_start) = (1, None, true);
    let mut bytes = text.bytes().peekable();
    while let Some(byte) = bytes.next() {
        match (byte, opened) {
            (b'"', None) if at_start => opened = Some(line),
            (b'"', Some(_)) => {
                if bytes.peek() == Some(&b'"') {
                    bytes.next();
                } else {
                    opened = None;
                }
            }
            _ => {}
        }
        at_start = opened.is_none() && (byte == separator || byte == b'\n' || byte == b'\r');
        line += u64::from(byte == b'\n');
    }
    opened
}

pub(crate) fn decode(bytes: &[u8]) -> Result<String, TableError> {
    let wide = |bytes: &[u8], unit: fn([u8; 2]) -> u16| {
        let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| unit([pair[0], pair[1]])).collect();
        String::from_utf16(&units).map_err(|_| TableError::NotText { line: 1 })
    };
    match bytes {
        [] => Err(TableError::Empty),
        [b'P', b'K', 3, 4, ..] => Err(TableError::Workbook),
        [0xff, 0xfe, rest @ ..] => wide(rest, u16::from_le_bytes),
        [0xfe, 0xff, rest @ ..] => wide(rest, u16::from_be_bytes),
        _ => {
            let bytes = bytes.strip_prefix(&[0xef, 0xbb, 0xbf]).unwrap_or(bytes);
            std::str::from_utf8(bytes).map(str::to_owned).map_err(|error| {
                let before = bytes.iter().take(error.valid_up_to());
                TableError::NotText { line: before.filter(|byte| **byte == b'\n').count() + 1 }
            })
        }
    }
}

/// What stands most often between the heads, outside quotes; where two are equal, the one that is
/// rarer inside words.
fn separator_of(text: &str) -> u8 {
    let first = text.lines().find(|line| !line.trim().is_empty()).unwrap_or_default();
    let mut quoted = false;
    let (mut semicolons, mut tabs, mut commas) = (0, 0, 0);
    for byte in first.bytes() {
        match byte {
            b'"' => quoted = !quoted,
            b';' if !quoted => semicolons += 1,
            b'\t' if !quoted => tabs += 1,
            b',' if !quoted => commas += 1,
            _ => {}
        }
    }
    match (semicolons, tabs, commas) {
        (s, t, c) if s > 0 && s >= t && s >= c => b';',
        (_, t, c) if t > 0 && t >= c => b'\t',
        _ => b',',
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Cell, Table};
    use rand::{Rng, SeedableRng};
    use rand_chacha::ChaCha8Rng;
    use rstest::rstest;

    fn cells(grid: &Grid) -> Vec<(u64, Vec<&str>)> {
        grid.lines
            .iter()
            .map(|line| (line.number, (0..grid.heads.len()).map(|n| line.cell(n)).collect()))
            .collect()
    }

    #[rstest]
    #[case::commas("tag,value\nR-1,2.5\n")]
    #[case::semicolons_and_decimal_comma("tag;value\nR-1;2.5\n")]
    #[case::tabs("tag\tvalue\nR-1\t2.5")]
    #[case::carriage_returns("tag;value\r\nR-1;2.5\r\n")]
    #[case::mark("\u{feff}tag;value\nR-1;2.5\n")]
    #[case::quotes("\"tag\",\"value\"\n\"R-1\",\"2.5\"\n")]
    #[case::said("sep=;\ntag;value\nR-1;2.5\n")]
    #[case::empty_cells_at_the_end("tag,value,,\nR-1,2.5,,\n,,,\n")]
    fn one_table_in_many_forms(#[case] text: &str) {
        let grid = read_table(text.as_bytes(), 10).unwrap();
        assert_eq!(grid.heads, ["tag", "value"]);
        let expected = if text.starts_with("sep") { 3 } else { 2 };
        assert_eq!(cells(&grid), [(expected, vec!["R-1", "2.5"])]);
    }

    #[rstest]
    #[case::little(u16::to_le_bytes, [0xff, 0xfe])]
    #[case::big(u16::to_be_bytes, [0xfe, 0xff])]
    fn wide_characters(#[case] bytes: fn(u16) -> [u8; 2], #[case] mark: [u8; 2]) {
        let mut file = mark.to_vec();
        file.extend("näyte;arvo\n1;0,5\n".encode_utf16().flat_map(bytes));
        let grid = read_table(&file, 10).unwrap();
        assert_eq!(grid.heads, ["näyte", "arvo"]);
        assert_eq!(cells(&grid), [(2, vec!["1", "0,5"])]);
    }

    #[test]
    fn a_cell_of_several_lines_counts_as_an_editor_counts() {
        let grid = read_table(b"a,b\n\"one\ntwo\",x\n\nlast,y\n", 10).unwrap();
        assert_eq!(cells(&grid), [(2, vec!["one\ntwo", "x"]), (5, vec!["last", "y"])]);
    }

    #[rstest]
    #[case::nothing(b"", TableError::Empty)]
    #[case::blank(b"\n \n,,\n", TableError::Empty)]
    #[case::workbook(b"PK\x03\x04rest", TableError::Workbook)]
    #[case::other_code_page(b"a;b\n1;2\nm\xe4;3\n", TableError::NotText { line: 3 })]
    #[case::open_quote(b"a,b\n1,2\n3,\"4\n5,6\n", TableError::OpenQuote { line: 3 })]
    #[case::long(b"a\n1\n2\n3\n", TableError::TooLong { most: 2 })]
    fn refused(#[case] bytes: &[u8], #[case] expected: TableError) {
        assert_eq!(read_table(bytes, 2).unwrap_err(), expected);
    }

    #[test]
    fn formulas_are_known() {
        assert!(Grid::is_formula("=1+1") && Grid::is_formula("@x") && Grid::is_formula("-x"));
        assert!(!Grid::is_formula("-2,5") && !Grid::is_formula("+3") && !Grid::is_formula("x"));
    }

    /// What goes out comes in again, whatever stands in it.
    #[test]
    fn out_and_in() {
        let letters: Vec<char> = "ab;,\"'=+-@ \n\r\tä µ10.".chars().collect();
        let mut random = ChaCha8Rng::seed_from_u64(20);
        for _ in 0..500 {
            let rows: Vec<Vec<String>> = (0..random.random_range(0..12))
                .map(|_| {
                    let mut word = || -> String {
                        let length = random.random_range(0..9);
                        (0..length)
                            .map(|_| letters[random.random_range(0..letters.len())])
                            .collect()
                    };
                    vec![word(), word(), word()]
                })
                .collect();
            let mut table = Table::new(&["first", "second", "third"]);
            for row in &rows {
                table.row(row.iter().map(|text| Cell::from(text.as_str())));
            }
            let grid = read_table(table.csv().as_bytes(), 100).unwrap();
            let made_safe = |text: &String| {
                let mark = if Grid::is_formula(text) { "'" } else { "" };
                format!("{mark}{text}").trim().to_owned()
            };
            let expected: Vec<Vec<String>> = rows
                .iter()
                .map(|row| row.iter().map(made_safe).collect::<Vec<_>>())
                .filter(|row| row.iter().any(|text| !text.is_empty()))
                .collect();
            let read: Vec<Vec<String>> = grid
                .lines
                .iter()
                .map(|line| (0..3).map(|n| line.cell(n).to_owned()).collect())
                .collect();
            assert_eq!(read, expected, "{rows:?}");
        }
    }

    /// No bytes make it panic, and what is refused is refused with words.
    #[test]
    fn any_bytes() {
        let mut random = ChaCha8Rng::seed_from_u64(21);
        for _ in 0..2_000 {
            let length = random.random_range(0..60);
            let kinds = b"\"\"\n\r;,\t\xff\xfe\xef\xbb\xbfPK\x03\x04a1";
            let bytes: Vec<u8> =
                (0..length).map(|_| kinds[random.random_range(0..kinds.len())]).collect();
            if let Err(error) = read_table(&bytes, 10) {
                assert!(error.to_string().ends_with('.'), "{error}");
            }
        }
    }

    #[test]
    fn a_quote_inside_a_cell_is_a_letter() {
        let grid = read_table(b"name;value\n5\" pipe;1\n", 10).unwrap();
        assert_eq!(cells(&grid), [(2, vec!["5\" pipe", "1"])]);
    }
}
