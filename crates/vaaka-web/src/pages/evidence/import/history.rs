//! Lines that are values from before: the error of an instrument at a point of its plan.

use std::collections::{HashMap, HashSet};

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::{AmbiguousOffset, TimeZone};
use rust_decimal::Decimal;
use vaaka_core::quantity::{TypedDecimal, Unit};
use vaaka_formats::Line;
use vaaka_store::At;
use vaaka_store::imports::{EarlierValue, Lines, Place};

use super::columns::{Column, Fault, Sheet, column};
use super::registers::Read;
use crate::fields::{Reader, clean};

/// Columns of history.
pub static HISTORY: [Column; 11] = [
    column("instrument", "instrument", true, "its tag", "R-02"),
    column("plan", "plan", false, "where several plans in force have this point", ""),
    column("point", "point", true, "nominal value of a charted point of that plan", "20"),
    column(
        "direction",
        "direction",
        false,
        "rising (when left out), falling, or the place of the piece: middle, back_left …",
        "",
    ),
    column(
        "measured at",
        "at",
        true,
        "2025-11-03 06:12 or 3.11.2025 06:12, in the site's time",
        "2025-11-03 06:12",
    ),
    column(
        "error",
        "error",
        false,
        "what the instrument showed too much; or give the two that follow",
        "2.5",
    ),
    column("reading", "reading", false, "what it showed", ""),
    column("reference", "reference", false, "what was right", ""),
    column(
        "unit",
        "unit",
        false,
        "of these numbers; that of the chart for an error, that of the display for a reading, when left out",
        "g",
    ),
    column("by", "person", false, "who measured", "Aino"),
    column("remark", "remark", false, "", ""),
];

/// A charted point of a plan in force.
#[derive(Debug, Clone)]
pub struct Charted {
    /// Tag of its instrument.
    pub tag: String,
    /// Name of its plan.
    pub plan: String,
    /// Nominal value.
    pub nominal: Decimal,
    /// Unit of the display.
    pub unit: Unit,
    /// Unit of errors.
    pub error_unit: Unit,
    /// Direction, or the place of the piece where it has one.
    pub direction: &'static str,
    /// What the value is kept under.
    pub place: Place,
}

/// A moment as people and spreadsheets write it, in the time zone of the site unless it says its own.
///
/// # Errors
/// What to do.
pub fn moment(text: &str, zone: &TimeZone) -> Result<Timestamp, String> {
    const FORM: &str = "Write it as 2025-11-03 06:12, or 3.11.2025 06:12.";
    if text.contains('/') {
        return Err(format!("With strokes a date can be read in two ways. {FORM}"));
    }
    if let Ok(at) = text.parse::<Timestamp>() {
        return Ok(at);
    }
    let forms = [
        "%Y-%m-%d %H:%M:%S",
        "%Y-%m-%d %H:%M",
        "%d.%m.%Y %H:%M:%S",
        "%d.%m.%Y %H:%M",
        "%d.%m.%Y %H.%M",
    ];
    let read = text.parse::<DateTime>().ok().filter(|_| text.contains(':'));
    let found = read.or_else(|| forms.iter().find_map(|form| DateTime::strptime(form, text).ok()));
    let Some(local) = found else { return Err(FORM.to_owned()) };
    let known = zone.to_ambiguous_timestamp(local);
    match known.offset() {
        AmbiguousOffset::Unambiguous { .. } => known.unambiguous().map_err(|_| FORM.to_owned()),
        AmbiguousOffset::Gap { .. } => Err(
            "There was no such time at the site: the clocks were put forward over it. Look at it again.".into(),
        ),
        AmbiguousOffset::Fold { before, .. } => Err(format!(
            "This time was there twice: the clocks were put back. Say which, with its offset, for example {}{before}.",
            local.strftime("%Y-%m-%dT%H:%M")
        )),
    }
}

fn number(sheet: &Sheet<'_>, line: &Line, field: &str) -> Result<Option<Decimal>, Fault> {
    match sheet.cell(line, field) {
        "" => Ok(None),
        text => match TypedDecimal::parse(text) {
            Ok(read) => Ok(Some(read.value)),
            Err(error) => Err(sheet.fault(line, field, error.to_string())),
        },
    }
}

/// The error that a line states, in the unit of errors of its point.
fn error_of(sheet: &Sheet<'_>, line: &Line, point: &Charted) -> Result<Decimal, Fault> {
    let unit = match sheet.cell(line, "unit") {
        "" => None,
        text => match text.parse::<Unit>() {
            Ok(unit) => Some(unit),
            Err(_) => return Err(sheet.fault(line, "unit", "This unit is not known.")),
        },
    };
    let [error, reading, reference] =
        ["error", "reading", "reference"].map(|field| number(sheet, line, field));
    let (value, of) = match (error?, reading?, reference?) {
        (Some(error), None, None) => (error, unit.unwrap_or(point.error_unit)),
        (None, Some(reading), Some(reference)) => (reading - reference, unit.unwrap_or(point.unit)),
        _ => {
            return Err(sheet.fault(
                line,
                "error",
                "Give the error, or the reading and the reference, not both.",
            ));
        }
    };
    of.try_convert(value, point.error_unit).map_err(|_| {
        sheet.fault(line, "unit", "This unit is of another quantity than the instrument measures.")
    })
}

fn point_of<'a>(
    sheet: &Sheet<'_>,
    line: &Line,
    of_tag: Option<&'a Vec<(usize, &'a Charted)>>,
) -> Result<(usize, &'a Charted), Fault> {
    let Some(all) = of_tag else {
        return Err(sheet.fault(
            line,
            "instrument",
            "No instrument of this tag has a plan in force with a charted point.",
        ));
    };
    let plan = sheet.cell(line, "plan");
    let direction = match sheet.cell(line, "direction") {
        "" => None,
        text => Some(text.to_lowercase().replace(' ', "_")),
    };
    let Some(nominal) = number(sheet, line, "point")? else {
        return Err(sheet.fault(line, "point", "Give the nominal value of the point."));
    };
    let fits = |point: &Charted| {
        (plan.is_empty() || plan.eq_ignore_ascii_case(&point.plan))
            && nominal == point.nominal
            && direction.as_deref().unwrap_or("rising") == point.direction
    };
    let found: Vec<_> = all.iter().filter(|(_, point)| fits(point)).collect();
    match found.as_slice() {
        [one] => Ok(**one),
        [] => {
            let known: Vec<String> = all
                .iter()
                .map(|(_, point)| {
                    let unit = point.unit.symbol();
                    format!(
                        "{} {unit} {} ({})",
                        point.nominal.normalize(),
                        point.direction,
                        point.plan
                    )
                })
                .collect();
            Err(sheet.fault(
                line,
                "point",
                format!(
                    "This is no charted point of a plan in force. Known are: {}.",
                    known.join(", ")
                ),
            ))
        }
        _ => Err(sheet.fault(
            line,
            "plan",
            "Several plans in force have this point. Say which plan is meant.",
        )),
    }
}

/// Reads values from before. `known` are those that are there already.
pub fn history(
    sheet: &Sheet<'_>,
    charted: &[Charted],
    known: &HashSet<(Place, At)>,
    zone: &TimeZone,
    now: Timestamp,
) -> Read {
    let mut by_tag: HashMap<&str, Vec<(usize, &Charted)>> = HashMap::new();
    for (index, point) in charted.iter().enumerate() {
        by_tag.entry(&point.tag).or_default().push((index, point));
    }
    let (mut found, mut faults) = (Vec::new(), Vec::new());
    let mut seen: HashMap<(usize, Timestamp), u64> = HashMap::new();
    for line in &sheet.grid.lines {
        sheet.shape_faults(line, &mut faults);
        let point = point_of(sheet, line, by_tag.get(sheet.cell(line, "instrument")));
        let at = moment(sheet.cell(line, "at"), zone)
            .and_then(|at| match at <= now {
                true => Ok(at),
                false => Err("This is still to come. Look at the date again.".to_owned()),
            })
            .map_err(|words| sheet.fault(line, "at", words));
        let fields = sheet.fields(line);
        let mut reader = Reader::of(&fields);
        let (person, remark) = (reader.text("person", 80), reader.text("remark", 200));
        faults.extend(reader.faults.iter().map(|(field, words)| sheet.fault(line, field, words)));
        let (index, point, at) = match (point, at) {
            (Ok((index, point)), Ok(at)) => (index, point, at),
            (point, at) => {
                faults.extend(point.err());
                faults.extend(at.err());
                continue;
            }
        };
        if known.contains(&(point.place.clone(), At(at))) {
            faults.push(sheet.fault(
                line,
                "at",
                "A value of this point and moment was brought in before.",
            ));
        }
        if let Some(first) = seen.insert((index, at), line.number) {
            faults.push(sheet.fault(
                line,
                "at",
                format!("Line {first} has the same point and moment already."),
            ));
        }
        match error_of(sheet, line, point) {
            Ok(value) => found.push(EarlierValue {
                line: i32::try_from(line.number).unwrap_or(i32::MAX),
                place: point.place.clone(),
                at: At(at),
                value,
                unit: point.error_unit.symbol().to_owned(),
                person: clean(&person),
                remark: clean(&remark),
            }),
            Err(fault) => faults.push(fault),
        }
    }
    (Lines::History(found), faults)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use vaaka_formats::read_table;
    use vaaka_store::ids::{InstrumentId, SetUpId};

    fn zone() -> TimeZone {
        TimeZone::get("Europe/Helsinki").unwrap()
    }

    #[rstest]
    #[case("2025-11-03 06:12", "2025-11-03T04:12:00Z")]
    #[case("2025-11-03T06:12:30", "2025-11-03T04:12:30Z")]
    #[case("3.11.2025 06:12", "2025-11-03T04:12:00Z")]
    #[case("3.7.2025 6.12", "2025-07-03T03:12:00Z")]
    #[case("2025-11-03T06:12:00Z", "2025-11-03T06:12:00Z")]
    #[case("2025-10-26T03:30+02:00", "2025-10-26T01:30:00Z")]
    fn moments(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(moment(text, &zone()).unwrap().to_string(), expected);
    }

    #[rstest]
    #[case("11/3/2025 06:12", "two ways")]
    #[case("2025-11-03", "Write it as")]
    #[case("31.2.2025 06:12", "Write it as")]
    #[case("", "Write it as")]
    #[case("45964.25", "Write it as")]
    // The last Sunday of March and of October 2025.
    #[case("2025-03-30 03:30", "no such time")]
    #[case("2025-10-26 03:30", "there twice")]
    fn moments_that_are_none(#[case] text: &str, #[case] words: &str) {
        let said = moment(text, &zone()).unwrap_err();
        assert!(said.contains(words), "{said}");
    }

    fn charted() -> Vec<Charted> {
        let place = |key: &str| Place {
            instrument: InstrumentId(1),
            set_up: SetUpId(1),
            key: key.to_owned(),
        };
        let point = |plan: &str, nominal: &str, direction, key: &str| Charted {
            tag: "R-02".into(),
            plan: plan.into(),
            nominal: nominal.parse().unwrap(),
            unit: Unit::Kilogram,
            error_unit: Unit::Gram,
            direction,
            place: place(key),
        };
        vec![
            point("each shift", "20", "rising", "error-20-rising"),
            point("each shift", "40", "rising", "error-40-rising"),
            point("each shift", "40", "falling", "error-40-falling"),
            point("in full", "40", "rising", "error-40-rising"),
        ]
    }

    fn read(text: &str) -> (Vec<EarlierValue>, Vec<Fault>) {
        let grid = read_table(text.as_bytes(), 100).unwrap();
        let sheet = Sheet::of(&grid, &HISTORY).unwrap();
        let there = Place {
            instrument: InstrumentId(1),
            set_up: SetUpId(1),
            key: "error-20-rising".into(),
        };
        let known = HashSet::from([(there, At("2025-01-01T04:00:00Z".parse().unwrap()))]);
        let now = "2026-11-24T20:34:00Z".parse().unwrap();
        let (lines, faults) = history(&sheet, &charted(), &known, &zone(), now);
        let Lines::History(found) = lines else { panic!() };
        (found, faults)
    }

    #[test]
    fn errors_and_readings_with_their_reference() {
        let (found, faults) = read(
            "instrument;plan;point;direction;measured at;error;reading;reference;unit;by\n\
             R-02;;20;;2025-11-03 06:12;2,5;;;;Aino\n\
             R-02;In full;40,0;;2025-11-03 06:20;;40,004;40,0012;;\n\
             R-02;;40;falling;2025-11-03 06:25;0,004;;;kg;\n",
        );
        assert_eq!(faults, vec![]);
        let values: Vec<(String, &str)> =
            found.iter().map(|v| (v.value.normalize().to_string(), v.place.key.as_str())).collect();
        assert_eq!(
            values,
            [
                ("2.5".into(), "error-20-rising"),
                ("2.8".into(), "error-40-rising"),
                ("4".into(), "error-40-falling"),
            ]
        );
        assert!(found.iter().all(|value| value.unit == "g"));
    }

    #[test]
    fn every_bad_line_of_history_is_named() {
        let (found, faults) = read(
            "instrument;plan;point;measured at;error;reading;reference;unit\n\
             R-99;;20;2025-11-03 06:12;1;;;\n\
             R-02;;21;2025-11-03 06:12;1;;;\n\
             R-02;;40;2025-11-03 06:12;1;;;\n\
             R-02;;20;2027-11-03 06:12;1;;;\n\
             R-02;;20;2025-11-03 06:12;1;2;;\n\
             R-02;;20;2025-11-03 06:13;1;;;bar\n\
             R-02;;20;2025-11-03 06:14;1,2,3;;;\n\
             R-02;;20;2025-11-03 06:14;1;;;\n\
             R-02;;20;2025-01-01 06:00;1;;;\n\
             R-02;;x;2025-11-03 06:15;1;;;stone\n",
        );
        let named: Vec<(u64, &str)> =
            faults.iter().map(|fault| (fault.line, fault.column.as_str())).collect();
        assert_eq!(
            named,
            [
                (2, "instrument"),
                (3, "point"),
                (4, "plan"),
                (5, "measured at"),
                (6, "error"),
                (7, "unit"),
                (8, "error"),
                (9, "measured at"),
                (10, "measured at"),
                (11, "point"),
            ]
        );
        assert!(faults[1].words.contains("40 kg falling (each shift)"), "{}", faults[1].words);
        assert!(faults[7].words.contains("Line 8"), "{}", faults[7].words);
        // Whatever is read beside faults is never brought in.
        assert_eq!(found.len(), 2);
    }
}
