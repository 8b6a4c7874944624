//! Lines that are instruments or standards, read by the same rules as the forms.

use std::collections::{BTreeMap, HashMap, HashSet};

use rust_decimal::Decimal;
use vaaka_core::quantity::Unit;
use vaaka_formats::Line;
use vaaka_store::ids::StandardId;
use vaaka_store::imports::{Lines, NewInstrument, NewStandard};
use vaaka_store::rows::Area;
use vaaka_store::standard_changes::NewLot;

use super::columns::{Column, Fault, Sheet, column, tick};
use crate::fields::{Fields, MOST_ROWS, Reader};
use crate::pages::instrument::forms as instrument_forms;
use crate::pages::standard::forms as standard_forms;

/// Columns of instruments.
pub static INSTRUMENTS: [Column; 22] = [
    column("tag", "tag", true, "as on its label; it stays for good", "S-17"),
    column("name", "name", true, "as people call it", "bench scale"),
    column("family", "family", false, "scale, pressure gauge, hardness tester …", "scale"),
    column("area", "area", true, "one of the site's areas", "Wet end"),
    column("made by", "maker", false, "", "Northern scale works"),
    column("model", "model", false, "", ""),
    column("calibrated until", "calibrated_until", false, "last day of its own calibration", ""),
    column("serial number", "serial", true, "or “none”", "40117"),
    column("belongs to", "owner", false, "", "Laboratory"),
    column("unit", "unit", true, "of its display", "kg"),
    column("step", "resolution", true, "of its display", "0.002"),
    column("range from", "range_low", false, "0 when left out", "0"),
    column("range to", "maximum", true, "", "60"),
    column("used from", "work_low", false, "where the work is", "5"),
    column("used to", "work_high", false, "", "40"),
    column("program version", "firmware", false, "", "2.4"),
    column("calibration file", "calibration_file", false, "with its version", ""),
    column("adjustable", "adjustable", false, "yes or no", "yes"),
    column("sealed", "sealed", false, "legal for trade: yes or no", "no"),
    column("critical", "critical", false, "an error would be grave: yes or no", "no"),
    column("configuration", "configuration", false, "like “modules = 3 | fans = 2”", ""),
    column("state", "state", false, "of no account here: what is brought in begins on hold", ""),
];

/// Columns of standards; a line for each certified value.
pub static STANDARDS: [Column; 25] = [
    column("tag", "tag", true, "the same in each line of one standard", "W-60"),
    column("name", "name", true, "", "Weights to 20 kg"),
    column("kind", "kind", true, "what can stand in for it is found by that", "weight set"),
    column("kept at", "location", false, "", "Cabinet 2"),
    column("lot", "lot", true, "serial number of a set, batch of a material", "771"),
    column("expires on", "expires_on", false, "year-month-day", ""),
    column("open hours", "open_hours", false, "how long it may be open", ""),
    column("uses counted", "use_kind", false, "indentations, matings, openings or single_use", ""),
    column("uses it bears", "use_limit", false, "", ""),
    column("certificate", "number", true, "its number", "K-2026-118"),
    column(
        "certificate kind",
        "paper",
        false,
        "calibration (when left out) or conformance",
        "calibration",
    ),
    column("issued by", "issuer", true, "", "Northern calibration house"),
    column("issued on", "issued_on", true, "year-month-day", "2026-05-04"),
    column("valid from", "valid_from", true, "", "2026-05-04"),
    column("valid until", "valid_until", true, "the last valid day", "2027-05-03"),
    column("unit", "unit", true, "of all its values", "kg"),
    column("piece", "piece", true, "as it is engraved or marked", "20 kg"),
    column("nominal", "nominal", true, "", "20"),
    column("certified value", "value", true, "", "20.0003"),
    column("U", "uncertainty", true, "expanded uncertainty", "0.0004"),
    column("k", "k", false, "2 when left out", "2"),
    column("class limit", "class_limit", false, "U is the limit of its class: yes or no", "no"),
    column("not uniform", "non_uniformity", false, "± half of the spread", ""),
    column("at °C", "temperature", false, "for a value that depends on it", ""),
    column("at unit", "at_unit", false, "of what it depends on, where that is no temperature", ""),
];

/// Fields of a standard that belong to a value; the others are the same in each line of a standard.
const OF_VALUE: [&str; 8] = [
    "piece",
    "nominal",
    "value",
    "uncertainty",
    "k",
    "class_limit",
    "non_uniformity",
    "temperature",
];

/// What a table came to.
pub type Read = (Lines, Vec<Fault>);

fn ticks(sheet: &Sheet<'_>, line: &Line, fields: &mut Fields, names: &[&str]) -> Vec<Fault> {
    let mut faults = Vec::new();
    for name in names {
        match tick(fields.get(name)) {
            Ok(word) => *fields = std::mem::take(fields).with(name, word),
            Err(words) => faults.push(sheet.fault(line, name, words)),
        }
    }
    faults
}

/// Words for what a form offers to choose from and a table does not.
fn better(field: &str, words: &str, areas: &[Area]) -> String {
    match field {
        "area" => {
            let known: Vec<&str> = areas.iter().map(|area| area.name.as_str()).collect();
            format!(
                "There is no such area. Known are: {}. An administrator adds areas on the page People.",
                known.join(", ")
            )
        }
        "unit" => {
            let known: Vec<&str> = Unit::ALL.iter().map(|unit| unit.symbol()).collect();
            format!("This unit is not known. Known are: {}.", known.join(", "))
        }
        "paper" => "Write calibration or conformance.".to_owned(),
        "use_kind" => {
            let known: Vec<&str> =
                vaaka_core::standard::UseKind::ALL.iter().map(|kind| kind.word()).collect();
            format!("Write one of: {}.", known.join(", "))
        }
        _ => words.to_owned(),
    }
}

/// “modules = 3 | fans = 2” as rows of a form.
fn configuration(fields: &mut Fields) -> Result<(), &'static str> {
    let text = fields.get("configuration").to_owned();
    for (row, pair) in text.split('|').map(str::trim).filter(|pair| !pair.is_empty()).enumerate() {
        let (name, value) =
            pair.split_once('=').ok_or("Write it as name = number, several with | between.")?;
        *fields = std::mem::take(fields)
            .with(&format!("configuration.{row}.name"), name.trim())
            .with(&format!("configuration.{row}.value"), value.trim());
    }
    Ok(())
}

/// Reads instruments; `taken` are the tags that are in the register.
pub fn instruments(sheet: &Sheet<'_>, areas: &[Area], taken: &HashSet<String>) -> Read {
    let (mut found, mut faults) = (Vec::new(), Vec::new());
    let mut seen: HashMap<String, u64> = HashMap::new();
    for line in &sheet.grid.lines {
        sheet.shape_faults(line, &mut faults);
        let mut fields = sheet.fields(line);
        faults.extend(ticks(sheet, line, &mut fields, &["adjustable", "sealed", "critical"]));
        if let Err(words) = configuration(&mut fields) {
            faults.push(sheet.fault(line, "configuration", words));
        }
        let name = fields.get("area").to_lowercase();
        if let Some(area) = areas.iter().find(|area| area.name.to_lowercase() == name) {
            fields = fields.with("area", area.id.0.to_string());
        }
        if fields.get("range_low").is_empty() {
            fields = fields.with("range_low", "0");
        }
        let mut reader = Reader::of(&fields);
        let tag = reader.tag("tag");
        if taken.contains(&tag) {
            reader.fault("tag", format!("{tag} is in the register already. Take this line out, or give the instrument another tag."));
        }
        if let Some(first) = seen.get(&tag).filter(|_| !tag.is_empty()) {
            reader.fault("tag", format!("{tag} stands in line {first} already."));
        }
        seen.entry(tag.clone()).or_insert(line.number);
        let new = instrument_forms::read(areas, &mut reader, &fields);
        for (field, words) in &reader.faults {
            let field = field.split('.').next().unwrap_or(field);
            faults.push(sheet.fault(line, field, better(field, words, areas)));
        }
        found.push(NewInstrument { tag, fields: new });
    }
    (Lines::Instruments(found), faults)
}

/// Reads standards: lines with one tag are one standard. `taken` are the tags in the register,
/// `certificates` the numbers.
pub fn standards(
    sheet: &Sheet<'_>,
    taken: &HashSet<String>,
    certificates: &HashSet<String>,
) -> Read {
    let (mut found, mut faults) = (Vec::new(), Vec::new());
    let mut by_tag: BTreeMap<(u64, String), Vec<&Line>> = BTreeMap::new();
    let mut first_line: HashMap<&str, u64> = HashMap::new();
    for line in &sheet.grid.lines {
        sheet.shape_faults(line, &mut faults);
        let tag = sheet.cell(line, "tag");
        let first = *first_line.entry(tag).or_insert(line.number);
        by_tag.entry((first, tag.to_owned())).or_default().push(line);
    }
    let mut numbers: HashMap<String, u64> = HashMap::new();
    for lines in by_tag.values() {
        let Some(first) = lines.first() else { continue };
        if lines.len() > MOST_ROWS {
            faults.push(sheet.fault(
                first,
                "tag",
                format!("This standard has {} values; {MOST_ROWS} are the most. Divide it into several.", lines.len()),
            ));
            continue;
        }
        let fields = of_standard(sheet, lines, &mut faults);
        let mut reader = Reader::of(&fields);
        let tag = reader.tag("tag");
        if taken.contains(&tag) {
            reader.fault("tag", format!("{tag} is in the register already. Take its lines out; a new lot or certificate is added on its own page."));
        }
        let [name, kind, location] = standard_forms::read_standard(&mut reader);
        let lot = standard_forms::read_lot(&mut reader, StandardId(0));
        let certificate = standard_forms::read_certificate(&mut reader);
        let values = standard_forms::read_values(&mut reader, &fields);
        if certificates.contains(&certificate.number) {
            reader.fault("number", "A certificate of this number is in the register already.");
        }
        if let Some(line) = numbers.get(&certificate.number) {
            reader.fault("number", format!("This certificate stands in line {line} already. One certificate is one standard's; a set is one standard with several pieces."));
        }
        numbers.entry(certificate.number.clone()).or_insert(first.number);
        for (field, words) in &reader.faults {
            let mut parts = field.split('.');
            let (line, field) = match (parts.next(), parts.next(), parts.next()) {
                (Some("values"), Some(row), Some(field)) => {
                    let row = row.parse::<usize>().unwrap_or(0);
                    (lines.get(row).unwrap_or(first), field)
                }
                (Some("values"), ..) => (first, "value"),
                _ => (first, field.as_str()),
            };
            faults.push(sheet.fault(line, field, better(field, words, &[])));
        }
        found.push(NewStandard {
            tag,
            name,
            kind,
            location,
            lot: NewLot { lot, certificate, values },
        });
    }
    faults.sort_by_key(|fault| fault.line);
    (Lines::Standards(found), faults)
}

/// The lines of one standard as one form: what is said of all of it once, and a row for each value.
fn of_standard(sheet: &Sheet<'_>, lines: &[&Line], faults: &mut Vec<Fault>) -> Fields {
    let mut fields = Fields::default();
    for (row, line) in lines.iter().enumerate() {
        let mut own = sheet.fields(line);
        faults.extend(ticks(sheet, line, &mut own, &["class_limit"]));
        for column in &STANDARDS {
            let (name, text) = (column.field, own.get(column.field).to_owned());
            if OF_VALUE.contains(&name) {
                fields = fields.with(&format!("values.{row}.{name}"), text);
            } else if row == 0 {
                fields = fields.with(name, text);
            } else if !text.is_empty() && text != fields.get(name) {
                let said = match fields.get(name) {
                    "" => "nothing".to_owned(),
                    said => format!("“{said}”"),
                };
                faults.push(sheet.fault(
                    line,
                    name,
                    format!("Line {} says {said} of the same standard. Write the same in both, or leave it empty here.", lines[0].number),
                ));
            }
        }
    }
    if fields.get("paper").is_empty() {
        fields = fields.with("paper", "calibration");
    }
    fields
}

/// An example of a table: its heads and one line.
pub fn example(columns: &[Column]) -> String {
    let heads: Vec<&'static str> = columns.iter().map(|column| column.head).collect();
    let mut table = vaaka_formats::Table::new(&heads);
    let cell = |column: &Column| match column.example.parse::<Decimal>() {
        Ok(_) => vaaka_formats::Cell::Number(column.example.to_owned()),
        Err(_) => column.example.into(),
    };
    table.row(columns.iter().map(cell));
    table.csv()
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_formats::{Grid, read_table};
    use vaaka_store::ids::{AreaId, SiteId};

    fn grid(text: &str) -> Grid {
        read_table(text.as_bytes(), 100).unwrap()
    }

    fn areas() -> Vec<Area> {
        vec![Area { id: AreaId(3), site_id: SiteId(1), name: "Wet end".into(), walk_order: 1 }]
    }

    #[test]
    fn the_examples_can_be_brought_in() {
        let text = grid(&example(&INSTRUMENTS));
        let sheet = Sheet::of(&text, &INSTRUMENTS).unwrap();
        let (lines, faults) = instruments(&sheet, &areas(), &HashSet::new());
        assert_eq!(faults, vec![]);
        let Lines::Instruments(found) = lines else { panic!() };
        assert_eq!(found[0].fields.area_id, AreaId(3));
        assert!(found[0].fields.adjustable && !found[0].fields.sealed);

        let text = grid(&example(&STANDARDS));
        let sheet = Sheet::of(&text, &STANDARDS).unwrap();
        let (lines, faults) = standards(&sheet, &HashSet::new(), &HashSet::new());
        assert_eq!(faults, vec![]);
        let Lines::Standards(found) = lines else { panic!() };
        assert_eq!(found[0].lot.values[0].certified_value.to_string(), "20.0003");
        assert_eq!(found[0].kind, "weight_set");
    }

    #[test]
    fn every_bad_line_of_instruments_is_named() {
        let text = grid(
            "tag;name;area;serial number;unit;step;range to;adjustable;configuration\n\
             A-1;one;wet END;1;kg;0,01;60;yes;modules = 3 | fans = 2\n\
             A-1;two;Wet end;2;kg;0,01;60;maybe;\n\
             A 3;three;Dry end;3;stone;0;60;;modules 3\n\
             TAKEN;four;Wet end;4;kg;zero;-1;;\n",
        );
        let sheet = Sheet::of(&text, &INSTRUMENTS).unwrap();
        let taken = HashSet::from(["TAKEN".to_owned()]);
        let (lines, faults) = instruments(&sheet, &areas(), &taken);
        let Lines::Instruments(found) = lines else { panic!() };
        assert_eq!(found[0].fields.configuration_names, ["modules", "fans"]);
        assert_eq!(found[0].fields.resolution.to_string(), "0.01");
        let named: Vec<(u64, &str)> =
            faults.iter().map(|fault| (fault.line, fault.column.as_str())).collect();
        assert_eq!(
            named,
            [
                (3, "adjustable"),
                (3, "tag"),
                (4, "configuration"),
                (4, "area"),
                (4, "step"),
                (4, "tag"),
                (4, "unit"),
                (5, "range to"),
                (5, "step"),
                (5, "tag"),
            ]
        );
        assert_eq!(faults[1].words, "A-1 stands in line 2 already.");
        assert!(faults[3].words.contains("Known are: Wet end."), "{}", faults[3].words);
        assert!(faults[6].words.starts_with("This unit is not known"), "{}", faults[6].words);
    }

    #[test]
    fn lines_of_one_tag_are_one_standard() {
        let head = "tag,name,kind,lot,certificate,issued by,issued on,valid from,valid until,unit,piece,nominal,certified value,U,k";
        let text = grid(&format!(
            "{head}\n\
             W-1,set,weight set,7,K-1,house,2026-01-02,2026-01-02,2027-01-01,kg,a,1,1.0001,0.0002,2\n\
             W-1,,,,,,,,,,b,2,2.0001,0.0002,\n\
             W-1,other,,,,,,,,,b,2,2.0001,-1,0\n\
             W-2,set,weight set,8,K-1,house,2026-01-02,2026-01-02,2025-01-01,kg,a,1,x,0.0002,2\n"
        ));
        let sheet = Sheet::of(&text, &STANDARDS).unwrap();
        let (lines, faults) = standards(&sheet, &HashSet::new(), &HashSet::new());
        let Lines::Standards(found) = lines else { panic!() };
        assert_eq!((found.len(), found[0].lot.values.len()), (2, 3));
        let named: Vec<(u64, &str)> =
            faults.iter().map(|fault| (fault.line, fault.column.as_str())).collect();
        assert_eq!(
            named,
            [
                (4, "name"),
                (4, "k"),
                (4, "piece"),
                (4, "U"),
                (5, "certificate"),
                (5, "valid until"),
                (5, "certified value")
            ]
        );
        assert!(faults[0].words.contains("Line 2 says “set”"), "{}", faults[0].words);
        assert!(faults[4].words.contains("stands in line 2 already"), "{}", faults[4].words);
    }
}
