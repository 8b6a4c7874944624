//! Columns of the tables that can be brought in, and what is wrong with a table.

use std::collections::BTreeMap;

use vaaka_formats::{Grid, Line};

use crate::fields::Fields;

/// A column.
#[derive(Debug)]
pub struct Column {
    /// Its head; capitals, blanks and lines between words do not matter.
    pub head: &'static str,
    /// Name of the field of a form that asks for the same.
    pub field: &'static str,
    /// Whether it must be there.
    pub needed: bool,
    /// What stands in it.
    pub words: &'static str,
    /// For example.
    pub example: &'static str,
}

/// A column: head, field, whether it must be there, what stands in it, for example.
pub const fn column(
    head: &'static str,
    field: &'static str,
    needed: bool,
    words: &'static str,
    example: &'static str,
) -> Column {
    Column { head, field, needed, words, example }
}

/// What is wrong with a cell, a line or the heads.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Fault {
    /// Line of the file.
    pub line: u64,
    /// Head of the column; empty where it is the whole line.
    pub column: String,
    /// What stands there.
    pub typed: String,
    /// What is wrong, and what to do.
    pub words: String,
}

/// A table whose columns are known.
#[derive(Debug)]
pub struct Sheet<'a> {
    columns: &'static [Column],
    places: Vec<Option<usize>>,
    /// The table.
    pub grid: &'a Grid,
}

fn plain(head: &str) -> String {
    head.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect()
}

/// What a person has said of columns whose heads are not known here: by their place in the file, the field that it is, or none
/// where it is left out on purpose.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Mapping(BTreeMap<usize, Option<String>>);

impl Mapping {
    /// Word of a column that is left out.
    pub const LEFT_OUT: &'static str = "-";

    /// Reads it from fields named `column.N`; what says nothing is found by its head.
    pub fn read<'b>(fields: impl IntoIterator<Item = (&'b String, &'b String)>) -> Self {
        let said = fields.into_iter().filter(|(_, word)| !word.is_empty());
        Self(
            said.filter_map(|(name, word)| {
                let place = name.strip_prefix("column.")?.parse().ok()?;
                Some((place, (word != Self::LEFT_OUT).then(|| word.clone())))
            })
            .collect(),
        )
    }

    /// What was said of a column, as the form has it.
    pub fn word(&self, place: usize) -> &str {
        match self.0.get(&place) {
            None => "",
            Some(None) => Self::LEFT_OUT,
            Some(Some(field)) => field,
        }
    }

    /// Whether nothing was said.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// As it was kept: see [`Mapping::fields`].
    pub fn of(fields: &[(String, String)]) -> Self {
        Self::read(fields.iter().map(|(name, word)| (name, word)))
    }

    /// As fields of a form and of an address.
    pub fn fields(&self) -> Vec<(String, String)> {
        self.0
            .keys()
            .map(|place| (format!("column.{place}"), self.word(*place).to_owned()))
            .collect()
    }
}

/// Whether a head is one of those that are known.
pub fn is_known(head: &str, columns: &[Column]) -> bool {
    columns.iter().any(|column| plain(column.head) == plain(head))
}

impl<'a> Sheet<'a> {
    /// Finds the columns by their heads.
    ///
    /// # Errors
    /// What is wrong with the heads.
    #[cfg(test)]
    pub fn of(grid: &'a Grid, columns: &'static [Column]) -> Result<Self, Vec<Fault>> {
        Self::mapped(grid, columns, &Mapping::default())
    }

    /// Finds the columns by what a person said of them, and the others by their heads.
    ///
    /// # Errors
    /// What is wrong with the heads.
    pub fn mapped(
        grid: &'a Grid,
        columns: &'static [Column],
        mapping: &Mapping,
    ) -> Result<Self, Vec<Fault>> {
        let fault = |column: &str, words: String| Fault {
            line: 1,
            column: column.to_owned(),
            typed: column.to_owned(),
            words,
        };
        let mut faults = Vec::new();
        let mut places = vec![None; columns.len()];
        for (place, head) in grid.heads.iter().enumerate() {
            let found = match mapping.0.get(&place) {
                Some(None) => continue,
                Some(Some(field)) => columns.iter().position(|column| column.field == field),
                None => columns.iter().position(|column| plain(column.head) == plain(head)),
            };
            match found {
                Some(known) if places[known].is_some() => {
                    faults.push(fault(head, "This column is here twice. Take one of them out.".into()));
                }
                Some(known) => places[known] = Some(place),
                None if head.is_empty() => {
                    faults.push(fault(head, format!("Column {} has no head. Name it, or take it out.", place + 1)));
                }
                None => faults.push(fault(
                    head,
                    "This column is not known here. Say above what it is, or that it is left out: nothing is left aside in silence.".into(),
                )),
            }
        }
        for (column, place) in columns.iter().zip(&places) {
            if column.needed && place.is_none() {
                faults.push(fault(column.head, "This column is missing.".into()));
            }
        }
        if grid.lines.is_empty() && faults.is_empty() {
            faults.push(fault("", "There is no line below the heads.".into()));
        }
        if faults.is_empty() { Ok(Self { columns, places, grid }) } else { Err(faults) }
    }

    /// The cell of a column of this line; empty where the table has no such column.
    pub fn cell<'b>(&self, line: &'b Line, field: &str) -> &'b str {
        let column = self.columns.iter().position(|column| column.field == field);
        column.and_then(|column| self.places[column]).map_or("", |place| line.cell(place))
    }

    /// Head of the column of a field.
    pub fn head(&self, field: &str) -> &'static str {
        self.columns.iter().find(|column| column.field == field).map_or("", |column| column.head)
    }

    /// The line as fields of a form.
    pub fn fields(&self, line: &Line) -> Fields {
        self.columns.iter().fold(Fields::default(), |fields, column| {
            fields.with(column.field, self.cell(line, column.field))
        })
    }

    /// A fault at a cell.
    pub fn fault(&self, line: &Line, field: &str, words: impl Into<String>) -> Fault {
        Fault {
            line: line.number,
            column: self.head(field).to_owned(),
            typed: self.cell(line, field).chars().take(80).collect(),
            words: words.into(),
        }
    }

    /// What is wrong with a line before anybody reads it: too many cells, a formula.
    pub fn shape_faults(&self, line: &Line, faults: &mut Vec<Fault>) {
        if line.len() > self.grid.heads.len() {
            faults.push(Fault {
                line: line.number,
                column: String::new(),
                typed: line.cell(self.grid.heads.len()).chars().take(80).collect(),
                words: format!(
                    "This line has {} cells under {} heads. A decimal comma in a table that is separated by commas needs quotation marks around its cell.",
                    line.len(),
                    self.grid.heads.len()
                ),
            });
        }
        for column in self.columns {
            if Grid::is_formula(self.cell(line, column.field)) {
                faults.push(self.fault(
                    line,
                    column.field,
                    "This begins as a formula does, and a spreadsheet would run it. Write it without the sign before it.",
                ));
            }
        }
    }

    /// The columns that are there, and the first lines, for the eye.
    pub fn sample(&self, most: usize) -> (Vec<String>, Vec<Vec<String>>) {
        let there: Vec<&Column> = self
            .columns
            .iter()
            .zip(&self.places)
            .filter(|(_, place)| place.is_some())
            .map(|(column, _)| column)
            .collect();
        let row = |line: &Line| {
            there.iter().map(|column| self.cell(line, column.field).to_owned()).collect()
        };
        let rows = self.grid.lines.iter().take(most).map(row).collect();
        (there.iter().map(|column| column.head.to_owned()).collect(), rows)
    }
}

/// Yes or no, as people and spreadsheets write it; the word of a ticked box.
pub fn tick(text: &str) -> Result<&'static str, &'static str> {
    match text.to_lowercase().as_str() {
        "yes" | "y" | "1" | "true" | "x" => Ok("on"),
        "" | "no" | "n" | "0" | "false" => Ok(""),
        _ => Err("Write yes or no."),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_formats::read_table;

    static COLUMNS: [Column; 2] = [
        column("serial number", "serial", true, "", ""),
        column("step", "resolution", false, "", ""),
    ];

    fn faults(text: &str) -> Vec<String> {
        let grid = read_table(text.as_bytes(), 100).unwrap();
        match Sheet::of(&grid, &COLUMNS) {
            Ok(sheet) => {
                let mut found = Vec::new();
                for line in &grid.lines {
                    sheet.shape_faults(line, &mut found);
                }
                found.into_iter().map(|fault| format!("{}: {}", fault.line, fault.column)).collect()
            }
            Err(faults) => faults.into_iter().map(|fault| fault.words).collect(),
        }
    }

    #[test]
    fn heads_are_found_as_people_write_them() {
        let grid = read_table(b"STEP;Serial_Number\n0,1;A7\n", 10).unwrap();
        let sheet = Sheet::of(&grid, &COLUMNS).unwrap();
        assert_eq!(sheet.cell(&grid.lines[0], "serial"), "A7");
        assert_eq!(sheet.fields(&grid.lines[0]).get("resolution"), "0,1");
        assert_eq!(sheet.sample(5).0, ["serial number", "step"]);
    }

    #[test]
    fn heads_that_are_wrong_are_named() {
        assert_eq!(faults("serial number\n1\n"), Vec::<String>::new());
        assert_eq!(faults("step\n1\n"), ["This column is missing."]);
        assert!(faults("serial number,colour\n1,red\n")[0].contains("not known here"));
        assert!(faults("serial number,serial-number\n1,1\n")[0].contains("twice"));
        assert!(faults("serial number,,step\n1,2,3\n")[0].starts_with("Column 2 has no head"));
        assert_eq!(faults("serial number\n"), ["There is no line below the heads."]);
    }

    #[test]
    fn shapes_that_are_wrong_are_named() {
        assert_eq!(faults("serial number,step\n=1+1,2\nx,0,5\n"), ["2: serial number", "3: "]);
        assert_eq!(faults("serial number,step\nx,-0.5\n"), Vec::<String>::new());
    }

    #[test]
    fn yes_and_no() {
        assert_eq!(
            (tick("Yes"), tick("x"), tick("FALSE"), tick("")),
            (Ok("on"), Ok("on"), Ok(""), Ok(""))
        );
        assert!(tick("maybe").is_err());
    }
}
