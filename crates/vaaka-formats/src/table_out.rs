//! Tables out, as CSV (RFC 4180) and as JSON (RFC 8259). Both come from one table, so that they
//! cannot differ.

use std::borrow::Cow;

use rust_decimal::Decimal;

/// Significant digits of a number that was computed: the fifteenth of a binary float says nothing any more.
const DIGITS: usize = 12;

/// How a CSV file is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CsvForm {
    /// Between two fields.
    pub separator: char,
    /// A comma in numbers instead of the point.
    pub decimal_comma: bool,
    /// A byte-order mark first, by which spreadsheets know UTF-8.
    pub mark: bool,
}

impl CsvForm {
    /// For other programs: RFC 4180, numbers with a point.
    pub const PROGRAMS: Self = Self { separator: ',', decimal_comma: false, mark: false };
    /// For spreadsheets of countries that write numbers with a comma.
    pub const SPREADSHEETS: Self = Self { separator: ';', decimal_comma: true, mark: true };
}

/// One value of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cell {
    /// Nothing: an empty field, `null`.
    Empty,
    /// A text.
    Text(String),
    /// A number, by its digits as they are to stand: no digit is added or lost on the way.
    Number(String),
    /// Yes or no.
    Flag(bool),
}

impl From<&str> for Cell {
    fn from(text: &str) -> Self {
        if text.is_empty() { Self::Empty } else { Self::Text(text.to_owned()) }
    }
}

impl From<String> for Cell {
    fn from(text: String) -> Self {
        if text.is_empty() { Self::Empty } else { Self::Text(text) }
    }
}

impl From<&String> for Cell {
    fn from(text: &String) -> Self {
        text.as_str().into()
    }
}

impl From<Decimal> for Cell {
    fn from(value: Decimal) -> Self {
        Self::Number(value.to_string())
    }
}

impl From<f64> for Cell {
    /// A number that is none (NaN, infinite) is empty: JSON has no word for it.
    fn from(value: f64) -> Self {
        if !value.is_finite() {
            return Self::Empty;
        }
        // 9.790000000000001 is 9.79 that was added up in binary.
        let rounded: f64 = format!("{value:.*e}", DIGITS - 1).parse().unwrap_or(value);
        Self::Number(rounded.to_string())
    }
}

impl From<i64> for Cell {
    fn from(value: i64) -> Self {
        Self::Number(value.to_string())
    }
}

impl From<i32> for Cell {
    fn from(value: i32) -> Self {
        Self::Number(value.to_string())
    }
}

impl From<usize> for Cell {
    fn from(value: usize) -> Self {
        Self::Number(value.to_string())
    }
}

impl From<bool> for Cell {
    fn from(value: bool) -> Self {
        Self::Flag(value)
    }
}

impl<T: Into<Self>> From<Option<T>> for Cell {
    fn from(value: Option<T>) -> Self {
        value.map_or(Self::Empty, Into::into)
    }
}

/// A table: heads, and rows of as many cells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Table {
    heads: Vec<Cow<'static, str>>,
    rows: Vec<Vec<Cell>>,
}

impl Table {
    /// An empty table.
    #[must_use]
    pub fn new(heads: &[&'static str]) -> Self {
        Self { heads: heads.iter().map(|head| Cow::Borrowed(*head)).collect(), rows: vec![] }
    }

    /// Adds a row. One that is too short is filled with empty cells; what is too long is a mistake
    /// of the caller, and the rest is dropped.
    pub fn row(&mut self, cells: impl IntoIterator<Item = Cell>) {
        let mut row: Vec<Cell> = cells.into_iter().collect();
        debug_assert_eq!(row.len(), self.heads.len(), "{row:?}");
        row.resize(self.heads.len(), Cell::Empty);
        self.rows.push(row);
    }

    /// How many rows there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether there is no row.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Puts a column beside each one whose head is meant, with what `of` says of its texts: local times beside those of a
    /// program, words beside codes. Its head is the column's with `suffix`. Heads alone decide, so that a table has the same
    /// columns whatever stands in it.
    pub fn beside(
        &mut self,
        suffix: &str,
        is_meant: impl Fn(&str) -> bool,
        of: impl Fn(&str, &str) -> Option<String>,
    ) {
        for place in (0..self.heads.len()).rev() {
            let head = self.heads[place].clone();
            if !is_meant(&head) {
                continue;
            }
            self.heads.insert(place + 1, Cow::Owned(format!("{head}{suffix}")));
            for row in &mut self.rows {
                let said = match &row[place] {
                    Cell::Text(text) => of(&head, text),
                    _ => None,
                };
                row.insert(place + 1, said.into());
            }
        }
    }

    /// As CSV for other programs.
    #[must_use]
    pub fn csv(&self) -> String {
        self.csv_as(CsvForm::PROGRAMS)
    }

    /// As CSV: a line of heads, then the rows; lines end with CR LF, a field with a comma, a quote or
    /// a line end is quoted. A text that a spreadsheet would take for a formula gets an apostrophe
    /// before it, so that nothing that somebody typed is ever run.
    #[must_use]
    pub fn csv_as(&self, form: CsvForm) -> String {
        let mut writer = csv::WriterBuilder::new()
            .terminator(csv::Terminator::CRLF)
            .delimiter(u8::try_from(form.separator).unwrap_or(b','))
            .from_writer(vec![]);
        // Writing into memory does not fail, and all rows are of one length.
        let _ = writer.write_record(self.heads.iter().map(|head| head.as_bytes()));
        for row in &self.rows {
            let _ = writer.write_record(row.iter().map(|cell| field(cell, form.decimal_comma)));
        }
        let bytes = writer.into_inner().unwrap_or_default();
        let text = String::from_utf8(bytes).unwrap_or_default();
        if form.mark { format!("\u{feff}{text}") } else { text }
    }

    /// As JSON: an array with an object for each row.
    #[must_use]
    pub fn json(&self) -> String {
        let mut text = String::from("[");
        for (index, row) in self.rows.iter().enumerate() {
            text.push_str(if index == 0 { "\n" } else { ",\n" });
            text.push('{');
            for (place, (head, cell)) in self.heads.iter().zip(row).enumerate() {
                if place > 0 {
                    text.push(',');
                }
                text.push_str(&quoted(head));
                text.push(':');
                match cell {
                    Cell::Empty => text.push_str("null"),
                    Cell::Text(words) => text.push_str(&quoted(words)),
                    Cell::Number(digits) => text.push_str(digits),
                    Cell::Flag(flag) => text.push_str(if *flag { "true" } else { "false" }),
                }
            }
            text.push('}');
        }
        text.push_str("\n]\n");
        text
    }
}

fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

fn field(cell: &Cell, decimal_comma: bool) -> String {
    match cell {
        Cell::Empty => String::new(),
        Cell::Text(text) if runs_as_formula(text) => format!("'{text}"),
        Cell::Number(digits) if decimal_comma => digits.replace('.', ","),
        Cell::Text(text) | Cell::Number(text) => text.clone(),
        Cell::Flag(flag) => if *flag { "yes" } else { "no" }.to_owned(),
    }
}

/// Whether a spreadsheet would take this text for a formula and run it.
pub(crate) fn runs_as_formula(text: &str) -> bool {
    let number = text.strip_prefix(['-', '+']).unwrap_or(text);
    let is_number =
        !number.is_empty() && number.chars().all(|c| c.is_ascii_digit() || c == '.' || c == ',');
    text.starts_with(['=', '+', '-', '@', '\t', '\r']) && !is_number
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn one(cell: Cell) -> Table {
        let mut table = Table::new(&["a"]);
        table.row([cell]);
        table
    }

    #[rstest]
    #[case("plain", "plain")]
    #[case("a,b", "\"a,b\"")]
    #[case("say \"so\"", "\"say \"\"so\"\"\"")]
    #[case("two\nlines", "\"two\nlines\"")]
    #[case("-12.5", "-12.5")]
    #[case("=1+1", "'=1+1")]
    #[case("-x", "'-x")]
    #[case("@cmd", "'@cmd")]
    #[case("\tx", "'\tx")]
    fn fields(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(one(text.into()).csv(), format!("a\r\n{expected}\r\n"));
    }

    #[test]
    fn one_table_gives_both_forms() {
        let mut table = Table::new(&["tag", "value", "fit", "note"]);
        table.row(["R-02".into(), Decimal::new(1250, 2).into(), true.into(), Cell::Empty]);
        table.row([
            "say \"so\"".into(),
            (-0.5).into(),
            false.into(),
            Some("<b>".to_owned()).into(),
        ]);
        assert_eq!(
            table.csv(),
            "tag,value,fit,note\r\nR-02,12.50,yes,\r\n\"say \"\"so\"\"\",-0.5,no,<b>\r\n"
        );
        let read: serde_json::Value = serde_json::from_str(&table.json()).unwrap();
        assert_eq!(read[0]["tag"], "R-02");
        assert_eq!(read[0]["note"], serde_json::Value::Null);
        assert_eq!(read[1]["value"], -0.5);
        assert_eq!(read[1]["tag"], "say \"so\"");
        // The digits are kept, not a number near them.
        assert!(table.json().contains("\"value\":12.50,"), "{}", table.json());
    }

    #[rstest]
    #[case(9.790_000_000_000_001, "9.79")]
    #[case(0.1 + 0.2, "0.3")]
    #[case(-0.5, "-0.5")]
    #[case(123_456_789.25, "123456789.25")]
    #[case(1.0 / 3.0, "0.333333333333")]
    #[case(1e-9, "0.000000001")]
    #[case(0.0, "0")]
    fn computed_numbers_have_no_binary_tail(#[case] value: f64, #[case] digits: &str) {
        assert_eq!(Cell::from(value), Cell::Number(digits.into()));
    }

    #[test]
    fn spreadsheets_get_their_mark_separator_and_comma() {
        let mut table = Table::new(&["tag", "value"]);
        table.row(["R;2".into(), Decimal::new(-1250, 2).into()]);
        let text = table.csv_as(CsvForm::SPREADSHEETS);
        assert_eq!(text, "\u{feff}tag;value\r\n\"R;2\";-12,50\r\n");
        let tabs = CsvForm { separator: '\t', ..CsvForm::PROGRAMS };
        assert_eq!(table.csv_as(tabs), "tag\tvalue\r\nR;2\t-12.50\r\n");
        // What was written for a spreadsheet is read again as it was.
        let grid = crate::read_table(text.as_bytes(), 10).unwrap();
        assert_eq!(grid.heads, ["tag", "value"]);
    }

    #[test]
    fn words_stand_beside_codes_whatever_stands_in_the_table() {
        let with_words = |table: &mut Table| {
            table.beside(
                "_words",
                |head| head == "state",
                |_, code| (code == "pass").then(|| "within tolerance".to_owned()),
            );
        };
        let mut empty = Table::new(&["at", "state"]);
        with_words(&mut empty);
        assert_eq!(empty.csv(), "at,state,state_words\r\n");
        let mut table = Table::new(&["at", "state", "note"]);
        table.row(["1".into(), "pass".into(), "pass".into()]);
        table.row([Cell::Empty, "strange".into(), Cell::Empty]);
        with_words(&mut table);
        assert_eq!(
            table.csv(),
            "at,state,state_words,note\r\n1,pass,within tolerance,pass\r\n,strange,,\r\n"
        );
    }

    #[test]
    fn what_is_no_number_is_empty() {
        assert_eq!(Cell::from(f64::NAN), Cell::Empty);
        assert_eq!(one(f64::INFINITY.into()).json(), "[\n{\"a\":null}\n]\n");
        assert_eq!(one("\u{1}".into()).json(), "[\n{\"a\":\"\\u0001\"}\n]\n");
    }

    #[test]
    fn an_empty_table_is_a_table() {
        let table = Table::new(&["a", "b"]);
        assert!(table.is_empty());
        assert_eq!((table.csv().as_str(), table.json().as_str()), ("a,b\r\n", "[\n]\n"));
    }
}
