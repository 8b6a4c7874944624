//! Tables out, as CSV (RFC 4180) and as JSON (RFC 8259). Both come from one table, so that they
//! cannot differ.

use rust_decimal::Decimal;

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
        if value.is_finite() { Self::Number(value.to_string()) } else { Self::Empty }
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
    heads: Vec<&'static str>,
    rows: Vec<Vec<Cell>>,
}

impl Table {
    /// An empty table.
    #[must_use]
    pub fn new(heads: &[&'static str]) -> Self {
        Self { heads: heads.to_vec(), rows: vec![] }
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

    /// As CSV: a line of heads, then the rows; lines end with CR LF, a field with a comma, a quote or
    /// a line end is quoted. A text that a spreadsheet would take for a formula gets an apostrophe
    /// before it, so that nothing that somebody typed is ever run.
    #[must_use]
    pub fn csv(&self) -> String {
        let mut writer =
            csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(vec![]);
        // Writing into memory does not fail, and all rows are of one length.
        let _ = writer.write_record(&self.heads);
        for row in &self.rows {
            let _ = writer.write_record(row.iter().map(field));
        }
        let bytes = writer.into_inner().unwrap_or_default();
        String::from_utf8(bytes).unwrap_or_default()
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

fn field(cell: &Cell) -> String {
    match cell {
        Cell::Empty => String::new(),
        Cell::Text(text) if runs_as_formula(text) => format!("'{text}"),
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
