//! Columns of numbers, as instruments write them: a few lines of words, then rows of numbers. Points or commas are decimal
//! marks, whatever else separates. Nothing is guessed: what can be read in two ways, or lacks a number, is refused with its line.

use thiserror::Error;

use crate::TableError;
use crate::table_in::decode;

/// Columns of numbers of one length.
#[derive(Debug, Clone, PartialEq)]
pub struct Columns {
    /// What stands over the columns, one each; empty where nothing does.
    pub heads: Vec<String>,
    /// The columns.
    pub columns: Vec<Vec<f64>>,
    /// Line of each row, counted from 1 as an editor counts.
    pub lines: Vec<usize>,
}

/// Why a file holds no columns of numbers.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ColumnsError {
    /// It is no text at all.
    #[error(transparent)]
    NotText(#[from] TableError),
    /// No row of numbers in it.
    #[error(
        "There are no rows of numbers in this file. Export the curve itself as text (CSV), one point a line, and take that file."
    )]
    NoNumbers,
    /// A row has more or fewer numbers than the first.
    #[error(
        "Line {line} has {found} numbers where the first row has {wanted}: the file is cut off, or a value is missing. Export it again."
    )]
    Uneven {
        /// Line.
        line: usize,
        /// Its numbers.
        found: usize,
        /// Those of the first row.
        wanted: usize,
    },
    /// Words in the midst of the numbers.
    #[error(
        "Line {line}, column {column}: “{text}” is no number. Where the instrument had nothing to give, measure again; words belong above the numbers."
    )]
    NoNumber {
        /// Line.
        line: usize,
        /// Column, from 1.
        column: usize,
        /// What stands there.
        text: String,
    },
    /// Points here and commas there.
    #[error(
        "Line {line}: decimal commas stand beside decimal points, so a mark may mean thousands. Export it with one decimal mark."
    )]
    MixedMarks {
        /// Line.
        line: usize,
    },
    /// Commas between whole numbers only.
    #[error(
        "The commas in this file may be decimal marks or stand between columns: nothing in it tells. Export it with semicolons or tabs between the columns."
    )]
    Ambiguous,
    /// More rows than are taken.
    #[error("This file has more than {most} rows. Measure with fewer points, or a narrower range.")]
    TooLong {
        /// Most rows.
        most: usize,
    },
    /// More columns than are taken.
    #[error("This file has {found} columns; {most} are the most. Export fewer at once.")]
    TooWide {
        /// Columns.
        found: usize,
        /// Most columns.
        most: usize,
    },
}

/// How the rows are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Separator {
    Mark(char),
    Space,
}

impl Separator {
    /// What separates the cells of a row. A comma separates only where nothing else does: beside a semicolon, a tab or
    /// spaces it is a decimal mark.
    fn of(line: &str) -> Self {
        let spaced = || line.split_whitespace().filter(|cell| may_begin_number(cell)).count() > 1;
        if line.contains(';') {
            Self::Mark(';')
        } else if line.contains('\t') {
            Self::Mark('\t')
        } else if line.contains(", ") || (line.contains(',') && !spaced()) {
            Self::Mark(',')
        } else {
            Self::Space
        }
    }

    fn cells(self, line: &str) -> Vec<&str> {
        match self {
            Self::Mark(mark) => {
                let mut cells: Vec<&str> = line.split(mark).map(str::trim).collect();
                // A mark at the end of a row closes it; it opens no column.
                if cells.len() > 1 && cells.last() == Some(&"") {
                    cells.pop();
                }
                cells
            }
            Self::Space => line.split_whitespace().collect(),
        }
    }

    /// Whether a comma inside a cell is a decimal mark.
    fn allows_comma(self) -> bool {
        self != Self::Mark(',')
    }
}

fn may_begin_number(cell: &str) -> bool {
    cell.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '+' | '-' | '.' | '\u{2212}'))
}

/// A number with the mark that it was written with.
fn number(cell: &str, allows_comma: bool) -> Option<(f64, Option<char>)> {
    let cell = cell.trim_matches('"').trim();
    // What Rust reads beside digits ("inf", "nan") is no value of anything.
    if !may_begin_number(cell) {
        return None;
    }
    let mark = cell.chars().find(|c| matches!(c, '.' | ','));
    if mark == Some(',') && !allows_comma {
        return None;
    }
    let plain: String = cell
        .chars()
        .map(|c| match c {
            ',' => '.',
            '\u{2212}' => '-',
            'd' | 'D' => 'e',
            other => other,
        })
        .collect();
    let value: f64 = plain.parse().ok().filter(|value: &f64| value.is_finite())?;
    Some((value, mark))
}

fn numbers(line: &str, separator: Separator) -> Option<Vec<f64>> {
    let cells = separator.cells(line);
    cells
        .iter()
        .map(|cell| number(cell, separator.allows_comma()).map(|(value, _)| value))
        .collect()
}

fn is_remark(line: &str) -> bool {
    line.starts_with(['#', '!', '%']) || line.starts_with("//")
}

/// Reads columns of numbers: at most so many rows, and so many columns.
///
/// # Errors
/// [`ColumnsError`].
pub fn read_columns(
    bytes: &[u8],
    (most_rows, most_columns): (usize, usize),
) -> Result<Columns, ColumnsError> {
    let text = decode(bytes)?;
    if let Some(at) = text.find('\0') {
        let line = text[..at].matches('\n').count() + 1;
        return Err(TableError::NotText { line }.into());
    }
    let lines = || {
        let numbered = text.lines().enumerate().map(|(index, line)| (index + 1, line.trim()));
        numbered.filter(|(_, line)| !line.is_empty() && !is_remark(line))
    };
    // The first row of numbers says how all are written: two at least, x and y.
    let first = lines().find_map(|(at, line)| {
        let separator = Separator::of(line);
        let found = numbers(line, separator).filter(|found| found.len() > 1)?;
        Some((at, separator, found.len()))
    });
    let Some((begin, separator, width)) = first else { return Err(ColumnsError::NoNumbers) };
    if width > most_columns {
        return Err(ColumnsError::TooWide { found: width, most: most_columns });
    }
    let above = lines().take_while(|(at, _)| *at < begin).last();
    let mut read = Columns {
        heads: above.map_or_else(Vec::new, |(_, line)| heads(line, separator, width)),
        columns: vec![Vec::new(); width],
        lines: Vec::new(),
    };
    let mut decimal = None;
    let mut whole_only = separator == Separator::Mark(',');
    for (line, text) in lines().skip_while(|(at, _)| *at < begin) {
        if read.lines.len() == most_rows {
            return Err(ColumnsError::TooLong { most: most_rows });
        }
        let cells = separator.cells(text);
        whole_only &= text.bytes().all(|byte| byte.is_ascii_digit() || byte == b',');
        for (index, cell) in cells.iter().enumerate() {
            let Some((value, mark)) = number(cell, separator.allows_comma()) else {
                // A row that ends early lacks a number; a word in its place is one.
                if cell.is_empty() || index >= width {
                    break;
                }
                let text = cell.chars().take(24).collect();
                return Err(ColumnsError::NoNumber { line, column: index + 1, text });
            };
            if mark.is_some() && decimal.is_some() && mark != decimal {
                return Err(ColumnsError::MixedMarks { line });
            }
            decimal = decimal.or(mark);
            if let Some(column) = read.columns.get_mut(index) {
                column.push(value);
            }
        }
        let found = cells.iter().filter(|cell| !cell.is_empty()).count();
        if found != width || cells.len() != width {
            return Err(ColumnsError::Uneven { line, found, wanted: width });
        }
        read.lines.push(line);
    }
    // 341,5 may be one number or two.
    if whole_only {
        return Err(ColumnsError::Ambiguous);
    }
    Ok(read)
}

/// What stands over the columns, where it has as many parts.
fn heads(line: &str, separator: Separator, width: usize) -> Vec<String> {
    let marks = [separator, Separator::Mark('\t'), Separator::Mark(';'), Separator::Mark(',')];
    let fits = |mark: &Separator| mark.cells(line).len() == width;
    let Some(mark) = marks.into_iter().find(fits) else { return vec![] };
    let plain = |cell: &str| cell.trim_matches('"').trim().to_owned();
    mark.cells(line).into_iter().map(plain).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};
    use rand_chacha::ChaCha8Rng;
    use rstest::rstest;

    const SIZE: (usize, usize) = (1_000, 8);

    fn read(text: &str) -> Result<Columns, ColumnsError> {
        read_columns(text.as_bytes(), SIZE)
    }

    #[rstest]
    #[case::commas("nm,Abs\n340,0.25\n341.5,-0.5\n")]
    #[case::commas_and_spaces("nm, Abs\n340, 0.25\n341.5, -0.5\n")]
    #[case::tabs("nm\tAbs\n340\t0.25\n341.5\t-0.5")]
    #[case::tabs_and_decimal_commas("nm\tAbs\r\n340\t0,25\r\n341,5\t-0,5\r\n")]
    #[case::semicolons("\u{feff}nm;Abs\n340;0,25\n341,5;-0,5\n")]
    #[case::spaces("nm Abs\n  340   0.25\n  341.5  -0.5\n")]
    #[case::spaces_and_decimal_commas("nm Abs\n340,0 0,25\n341,5 -0,5\n")]
    #[case::closing_mark("nm;Abs;\n340;0,25;\n341,5;-0,5;\n")]
    #[case::exponents("nm,Abs\n3.40E+02,2.5e-1\n3.415D2,-5E-1\n")]
    #[case::minus_sign("nm;Abs\n340;0,25\n341,5;\u{2212}0,5\n")]
    #[case::quotes("\"nm\",\"Abs\"\n\"340\",\"0.25\"\n\"341.5\",\"-0.5\"\n")]
    fn one_curve_in_many_forms(#[case] text: &str) {
        let found = read(text).unwrap();
        assert_eq!(found.heads, ["nm", "Abs"]);
        assert_eq!(found.columns, [vec![340.0, 341.5], vec![0.25, -0.5]]);
        assert_eq!(found.lines, [2, 3]);
    }

    #[test]
    fn words_remarks_and_empty_lines_stand_above_and_between() {
        let text =
            "Scan of 26.11.2026 08:12\n# slit 1\n\nWavelength [nm];A\n!\n500;1\n\n# half\n501;2\n";
        let found = read(text).unwrap();
        assert_eq!(found.heads, ["Wavelength [nm]", "A"]);
        assert_eq!(
            (found.columns[0].as_slice(), found.lines),
            ([500.0, 501.0].as_slice(), vec![6, 9])
        );
        assert_eq!(read("1 2\n3 4\n").unwrap().heads, Vec::<String>::new());
        assert_eq!(read("freq\tRe S11\tIm S11\n1e6\t0.1\t-0.2\n").unwrap().columns.len(), 3);
    }

    #[rstest]
    #[case::nothing("", "nothing in this file")]
    #[case::words_only("a report\nwithout numbers\n", "no rows of numbers")]
    #[case::one_column("1\n2\n3\n", "no rows of numbers")]
    #[case::cut_off("1;2\n3;4\n5", "Line 3 has 1 numbers where the first row has 2")]
    #[case::cut_off_in_mid_row("1;2;3\n4;5;6\n7;8\n", "Line 3 has 2")]
    #[case::gap("1;2;3\n4;;6\n", "Line 2 has 2")]
    #[case::empty_end("1;2\n3;\n", "Line 2 has 1")]
    #[case::more("1;2\n3;4;5\n", "Line 2 has 3")]
    #[case::not_a_number("1;2\n3;NaN\n", "Line 2, column 2: “NaN” is no number")]
    #[case::infinite("1;2\n3;-inf\n", "“-inf”")]
    #[case::beyond_numbers("1;2\n3;1e999\n", "“1e999”")]
    #[case::dashes("1;2\n3;---\n", "“---”")]
    #[case::footer("1;2\n3;4\nend of scan\n", "Line 3, column 1: “end of scan”")]
    #[case::thousands("1;2\n1.234,5;6\n", "“1.234,5”")]
    #[case::mixed("1,5;2\n3;4.5\n", "Line 2: decimal commas stand beside")]
    #[case::one_or_two("341,5\n342,5\n", "may be decimal marks")]
    #[case::two_or_four("341,5,0,25\n342,5,0,26\n", "may be decimal marks")]
    #[case::too_wide("1;2;3;4;5;6;7;8;9\n", "has 9 columns; 8 are the most")]
    #[case::binary("1;2\n3;\u{0}\n", "Line 2 is not text")]
    fn refused(#[case] text: &str, #[case] words: &str) {
        let error = read(text).unwrap_err().to_string();
        assert!(error.contains(words), "{error}");
    }

    #[test]
    fn other_files_are_refused_by_their_first_bytes_or_by_their_length() {
        let long = "1 2\n".repeat(1_001);
        let error = read(&long).unwrap_err();
        assert_eq!(error, ColumnsError::TooLong { most: 1_000 });
        for bytes in [&b"PK\x03\x04sheet"[..], b"\xff\xd8\xff\xe0jpeg", b"%PDF-1.7\n1 0 obj\n"] {
            assert!(read_columns(bytes, SIZE).is_err(), "{bytes:?}");
        }
        let mut wide = vec![0xff, 0xfe];
        wide.extend("nm;A\n1;0,5\n".encode_utf16().flat_map(u16::to_le_bytes));
        assert_eq!(read_columns(&wide, SIZE).unwrap().columns, [[1.0], [0.5]]);
    }

    /// What is written is read back to the bit, in every form; and no bytes make it panic.
    #[test]
    fn out_and_in_and_any_bytes() {
        let mut random = ChaCha8Rng::seed_from_u64(16);
        for (separator, comma) in
            [(";", true), ("\t", true), (" ", true), (",", false), (";", false)]
        {
            for _ in 0..100 {
                let (rows, width) = (random.random_range(1..20), random.random_range(2..6));
                let columns: Vec<Vec<f64>> = (0..width)
                    .map(|_| {
                        (0..rows)
                            .map(|_| {
                                random.random_range(-1.0..1.0)
                                    * 10f64.powi(random.random_range(-12..12))
                            })
                            .collect()
                    })
                    .collect();
                let mut text = String::from("words above\n");
                for row in 0..rows {
                    let cells: Vec<String> = columns
                        .iter()
                        .map(|column| {
                            // A part after the mark in each, so that it can be no thousands mark.
                            let cell = format!("{:?}", column[row]);
                            if comma { cell.replace('.', ",") } else { cell }
                        })
                        .collect();
                    text.push_str(&cells.join(separator));
                    text.push('\n');
                }
                let found = read(&text).unwrap_or_else(|error| panic!("{error}\n{text}"));
                assert_eq!(found.columns, columns, "{text}");
            }
        }
        let kinds = b"\"\n\r;,\t\xff\xfePK.eE+-#%19 \0";
        for _ in 0..3_000 {
            let length = random.random_range(0..60);
            let bytes: Vec<u8> =
                (0..length).map(|_| kinds[random.random_range(0..kinds.len())]).collect();
            match read_columns(&bytes, SIZE) {
                Ok(found) => {
                    assert!(found.columns.iter().all(|column| column.len() == found.lines.len()));
                    assert!(found.columns.iter().flatten().all(|value| value.is_finite()));
                }
                Err(error) => assert!(error.to_string().ends_with('.'), "{error}"),
            }
        }
    }
}
