//! The rest of the mill's registers: instruments that have no plan yet, standards with lots, use
//! counters and temperatures, and who is trained for what.

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;
use vaaka_core::method;
use vaaka_store::ids::*;
use vaaka_store::rows::*;
use vaaka_store::{At, Day};

use super::World;
use super::charts::next;
use super::registers::{lot, person};
use super::said::{decimal, fault};
use super::world::{LEAD, SECOND_LEAD};
use crate::AppError;

/// Tag, name, family, area, unit, step, from, to, serial, program version.
type Other = (
    &'static str,
    &'static str,
    &'static str,
    usize,
    &'static str,
    &'static str,
    &'static str,
    &'static str,
    &'static str,
    &'static str,
);

const OTHERS: [Other; 30] = [
    (
        "R-31",
        "Resin density meter",
        "density meter",
        0,
        "kg/m³",
        "0.1",
        "600",
        "1400",
        "VD-031",
        "4.02",
    ),
    (
        "R-32",
        "Hardener density meter",
        "density meter",
        0,
        "kg/m³",
        "0.1",
        "600",
        "1400",
        "VD-032",
        "4.02",
    ),
    ("R-35", "Resin pH meter", "pH meter", 0, "pH", "0.01", "0", "14", "VH-035", "2.7"),
    ("R-41", "Weighing room hygrometer", "hygrometer", 0, "%RH", "0.1", "5", "95", "VR-041", "1.3"),
    (
        "R-22",
        "Hardener thermometer",
        "thermometer",
        0,
        "°C",
        "0.1",
        "0",
        "200",
        "VT-200-014",
        "1.08",
    ),
    (
        "P-12",
        "Hydraulic gauge, press 2",
        "pressure gauge",
        1,
        "bar",
        "1",
        "0",
        "400",
        "VG-400-044",
        "",
    ),
    (
        "P-13",
        "Hydraulic gauge, press 3",
        "pressure gauge",
        1,
        "bar",
        "1",
        "0",
        "400",
        "VG-400-045",
        "",
    ),
    (
        "P-21",
        "Plate hardness tester",
        "hardness tester",
        1,
        "HRC",
        "0.1",
        "20",
        "70",
        "VK-021",
        "3.11",
    ),
    (
        "P-22",
        "Hand hardness tester",
        "hardness tester",
        1,
        "HRC",
        "0.1",
        "20",
        "70",
        "VK-022",
        "5.0",
    ),
    ("P-31", "Cloth moisture meter", "moisture meter", 1, "%", "0.01", "0", "20", "VM-031", "2.20"),
    (
        "P-32",
        "Cloth moisture meter, stores",
        "moisture meter",
        1,
        "%",
        "0.01",
        "0",
        "20",
        "VM-032",
        "2.20",
    ),
    (
        "P-41",
        "Plate thickness gauge",
        "ultrasonic gauge",
        1,
        "mm",
        "0.01",
        "1",
        "200",
        "VU-041",
        "7.4",
    ),
    (
        "P-42",
        "Laminate thickness gauge",
        "ultrasonic gauge",
        1,
        "mm",
        "0.001",
        "0.2",
        "25",
        "VU-042",
        "7.4",
    ),
    (
        "P-51",
        "Press platen thermometer",
        "thermometer",
        1,
        "°C",
        "0.1",
        "0",
        "250",
        "VT-250-002",
        "1.2",
    ),
    (
        "F-12",
        "Micrometer, bench 2",
        "length gauge",
        2,
        "mm",
        "0.001",
        "0",
        "25",
        "VM-25-141",
        "1.0",
    ),
    ("F-13", "Depth micrometer", "length gauge", 2, "mm", "0.001", "0", "25", "VM-25-203", "1.0"),
    ("F-15", "Calliper, bench 2", "length gauge", 2, "mm", "0.01", "0", "150", "VC-150-071", ""),
    ("F-16", "Dial indicator", "length gauge", 2, "mm", "0.001", "0", "10", "VI-10-018", ""),
    (
        "F-21",
        "Foil roughness tester",
        "roughness tester",
        2,
        "µm",
        "0.01",
        "0.01",
        "50",
        "VS-021",
        "6.1",
    ),
    (
        "F-22",
        "Copper roughness tester",
        "roughness tester",
        2,
        "µm",
        "0.01",
        "0.01",
        "50",
        "VS-022",
        "6.1",
    ),
    ("F-31", "Peel force gauge", "force gauge", 2, "N", "0.1", "0", "250", "VN-031", "1.9"),
    ("C-11", "Varnish photometer", "photometer", 3, "Abs", "0.001", "0", "3", "VP-011", "8.3"),
    ("C-12", "Tin bath photometer", "photometer", 3, "mg/L", "0.01", "0", "10", "VP-012", "8.3"),
    ("C-31", "Colour lab hygrometer", "hygrometer", 3, "%RH", "0.1", "5", "95", "VR-131", "1.3"),
    ("C-32", "Oven thermometer", "thermometer", 3, "°C", "0.1", "0", "250", "VT-250-007", "1.2"),
    (
        "V-01",
        "Network analyzer, bench 1",
        "network analyzer",
        4,
        "dB",
        "0.01",
        "-100",
        "20",
        "VV-001",
        "12.6",
    ),
    (
        "V-02",
        "Network analyzer, bench 2",
        "network analyzer",
        4,
        "Γ",
        "0.0001",
        "-1",
        "1",
        "VV-002",
        "12.6",
    ),
    ("V-11", "Power meter", "power meter", 4, "dB", "0.01", "-70", "20", "VW-011", "3.3"),
    ("V-21", "Radio room hygrometer", "hygrometer", 4, "%RH", "0.1", "5", "95", "VR-221", "1.3"),
    ("C-21", "Paint thickness gauge", "coating gauge", 3, "µm", "1", "0", "1500", "VC-021", "1.6"),
];

/// Cells of probe × scale × material; the last says whether it is in use.
const CELLS: [(&str, &str, &str, &str, bool); 13] = [
    ("P-21", "150 kg cone", "HRC", "tool steel", true),
    ("P-21", "150 kg cone", "HRC", "stainless plate", true),
    ("P-22", "impact body D", "HRC", "tool steel", true),
    ("P-22", "impact body D", "HRC", "chromed plate", false),
    ("P-31", "chamber", "%", "glass cloth 48 g", true),
    ("P-31", "chamber", "%", "glass cloth 200 g", true),
    ("P-41", "5 MHz, 10 mm", "mm", "press plate steel", true),
    ("P-42", "15 MHz delay", "mm", "laminate", true),
    ("V-01", "port cables A", "dB", "patch antenna", true),
    ("C-21", "magnetic", "µm", "blasted steel", true),
    ("C-11", "10 mm holder", "Abs", "546 nm", true),
    ("C-12", "10 mm cell", "mg/L", "tin by 490 nm", true),
    ("V-02", "cable B", "Γ", "end of cable", true),
];

/// How a standard wears or ages.
#[derive(Debug, Clone, Copy)]
enum Care {
    Nothing,
    /// Indentations borne, indentations made so far.
    Block(i32, u32),
    /// Days until it expires, hours it may be open, hours it has been open.
    Material(i64, i32, Option<i64>),
    /// Kind of use, uses borne, uses so far.
    Counted(&'static str, i32, i32),
}

/// Tag, name, kind, place, unit, lot, certificate; conformance only; days until it ends; care;
/// state; pieces: tag, nominal, value, U, not uniform, at °C.
struct Shelf {
    tag: &'static str,
    name: &'static str,
    kind: &'static str,
    location: &'static str,
    unit: &'static str,
    lot: &'static str,
    certificate: &'static str,
    conformance: bool,
    ends_in: i64,
    care: Care,
    state: (&'static str, &'static str),
    pieces: &'static [(
        &'static str,
        &'static str,
        &'static str,
        &'static str,
        &'static str,
        &'static str,
    )],
}

const IN_USE: (&str, &str) = ("in_use", "");

const SHELVES: [Shelf; 19] = [
    Shelf {
        tag: "M1-D",
        name: "Kitchen weights, blue case",
        kind: "weight_set",
        location: "Resin kitchen, blue cabinet",
        unit: "kg",
        lot: "VR-0640",
        certificate: "V-2271",
        conformance: false,
        ends_in: 410,
        care: Care::Nothing,
        state: IN_USE,
        pieces: &[
            ("5", "5", "4.99996", "0.00008", "", ""),
            ("10-1", "10", "9.99994", "0.00015", "", ""),
            ("10-2", "10", "10.00006", "0.00015", "", ""),
        ],
    },
    Shelf {
        tag: "M1-K",
        name: "Old kitchen weights",
        kind: "weight_set",
        location: "Stores",
        unit: "kg",
        lot: "VR-0219",
        certificate: "V-1902",
        conformance: false,
        ends_in: -260,
        care: Care::Nothing,
        state: ("retired", "replaced by the red case after its closing calibration"),
        pieces: &[
            ("5", "5", "5.00041", "0.00008", "", ""),
            ("10-1", "10", "10.00063", "0.00015", "", ""),
        ],
    },
    Shelf {
        tag: "GB-2",
        name: "Gauge blocks, wooden case",
        kind: "block_set",
        location: "Finishing, tool cabinet",
        unit: "mm",
        lot: "VL-0131",
        certificate: "V-2274",
        conformance: false,
        ends_in: 300,
        care: Care::Nothing,
        state: IN_USE,
        pieces: &[
            ("10.3", "10.3", "10.30002", "0.00013", "", ""),
            ("50", "50", "50.00006", "0.00019", "", ""),
            ("75", "75", "74.99990", "0.00023", "", ""),
        ],
    },
    Shelf {
        tag: "HB-30",
        name: "Hardness block, low",
        kind: "hardness_block",
        location: "Press hall, block drawer",
        unit: "HRC",
        lot: "VB-3017",
        certificate: "V-2280",
        conformance: false,
        ends_in: 520,
        care: Care::Block(150, 87),
        state: IN_USE,
        pieces: &[("30", "30", "30.42", "0.30", "0.35", "")],
    },
    Shelf {
        tag: "HB-60",
        name: "Hardness block, high",
        kind: "hardness_block",
        location: "Press hall, block drawer",
        unit: "HRC",
        lot: "VB-6009",
        certificate: "V-2281",
        conformance: false,
        ends_in: 520,
        care: Care::Block(150, 146),
        state: IN_USE,
        pieces: &[("60", "60", "60.85", "0.30", "0.25", "")],
    },
    Shelf {
        tag: "MM-1",
        name: "Moisture material, glass cloth",
        kind: "moisture_material",
        location: "Press hall, dry box",
        unit: "%",
        lot: "VX-2611",
        certificate: "V-2290",
        conformance: false,
        ends_in: 120,
        care: Care::Material(44, 8, Some(3)),
        state: IN_USE,
        pieces: &[("bag", "6", "6.04", "0.08", "", "")],
    },
    Shelf {
        tag: "MM-2",
        name: "Moisture material, heavy glass cloth",
        kind: "moisture_material",
        location: "Press hall, dry box",
        unit: "%",
        lot: "VX-2617",
        certificate: "V-2291",
        conformance: false,
        ends_in: 160,
        care: Care::Material(61, 8, Some(2)),
        state: IN_USE,
        pieces: &[("bag", "4", "3.97", "0.08", "", "")],
    },
    Shelf {
        tag: "HS-75",
        name: "Salt solution, middle",
        kind: "humidity_solution",
        location: "Colour lab, cool cupboard",
        unit: "%RH",
        lot: "VS-7504",
        certificate: "V-2292",
        conformance: false,
        ends_in: 200,
        care: Care::Counted("single_use", 24, 17),
        state: IN_USE,
        pieces: &[
            ("vial", "75", "75.9", "0.5", "", "15"),
            ("vial", "75", "75.5", "0.5", "", "20"),
            ("vial", "75", "75.3", "0.5", "", "25"),
        ],
    },
    Shelf {
        tag: "SB-5",
        name: "Step block, five steps",
        kind: "step_block",
        location: "Press hall, tool cabinet",
        unit: "mm",
        lot: "VU-S511",
        certificate: "V-2294",
        conformance: false,
        ends_in: 46,
        care: Care::Nothing,
        state: IN_USE,
        pieces: &[
            ("2.5", "2.5", "2.503", "0.004", "", ""),
            ("5", "5", "5.001", "0.004", "", ""),
            ("10", "10", "9.998", "0.004", "", ""),
            ("20", "20", "20.002", "0.005", "", ""),
        ],
    },
    Shelf {
        tag: "NF-1",
        name: "Grey filters",
        kind: "filter_set",
        location: "Colour lab, filter case",
        unit: "Abs",
        lot: "VF-0101",
        certificate: "V-2296",
        conformance: false,
        ends_in: 240,
        care: Care::Nothing,
        state: IN_USE,
        pieces: &[
            ("light", "0.3", "0.3042", "0.0030", "", ""),
            ("middle", "0.6", "0.6011", "0.0035", "", ""),
            ("dark", "1", "0.9986", "0.0040", "", ""),
        ],
    },
    Shelf {
        tag: "VK-1",
        name: "Verification attenuators",
        kind: "attenuator_set",
        location: "Radio room, grey box",
        unit: "dB",
        lot: "VA-1101",
        certificate: "V-2298",
        conformance: false,
        ends_in: 330,
        care: Care::Counted("matings", 500, 431),
        state: IN_USE,
        pieces: &[("10", "-10", "-10.03", "0.06", "", ""), ("20", "-20", "-19.98", "0.08", "", "")],
    },
    Shelf {
        tag: "SR-2",
        name: "Roughness specimen, fine",
        kind: "roughness_specimen",
        location: "Finishing, granite bench",
        unit: "µm",
        lot: "VSP-22",
        certificate: "MC-7713",
        conformance: true,
        ends_in: 700,
        care: Care::Nothing,
        state: IN_USE,
        pieces: &[("fine", "0.4", "0.40", "0.02", "", "")],
    },
    Shelf {
        tag: "FR-1",
        name: "Force reference",
        kind: "force_reference",
        location: "Finishing, tool cabinet",
        unit: "N",
        lot: "VN-R07",
        certificate: "V-2205",
        conformance: false,
        ends_in: -12,
        care: Care::Nothing,
        state: IN_USE,
        pieces: &[("100", "100", "100.02", "0.10", "", "")],
    },
    Shelf {
        tag: "PB-7",
        name: "pH buffer, middle",
        kind: "ph_buffer",
        location: "Resin kitchen, shelf 4",
        unit: "pH",
        lot: "VH-7033",
        certificate: "V-2299",
        conformance: false,
        ends_in: 90,
        care: Care::Material(-5, 720, Some(600)),
        state: ("on_hold", "bottle found without its cap"),
        pieces: &[("7", "7", "7.00", "0.02", "", "20"), ("7", "7", "6.99", "0.02", "", "25")],
    },
    Shelf {
        tag: "SB-6",
        name: "Step block, laminate, three steps",
        kind: "step_block",
        location: "Press hall, tool cabinet",
        unit: "mm",
        lot: "VU-S602",
        certificate: "V-2312",
        conformance: false,
        ends_in: 310,
        care: Care::Nothing,
        state: IN_USE,
        pieces: &[
            ("0.8", "0.8", "0.8012", "0.0015", "", ""),
            ("1.6", "1.6", "1.5994", "0.0015", "", ""),
            ("3.2", "3.2", "3.2021", "0.0020", "", ""),
        ],
    },
    Shelf {
        tag: "FS-1",
        name: "Foils, three thicknesses",
        kind: "foil_set",
        location: "Colour lab, drawer 4",
        unit: "µm",
        lot: "VF-0117",
        certificate: "V-2313",
        conformance: false,
        ends_in: 240,
        care: Care::Nothing,
        state: IN_USE,
        pieces: &[
            ("50", "50", "48.7", "0.8", "", ""),
            ("125", "125", "126.2", "1.0", "", ""),
            ("500", "500", "497.8", "2.0", "", ""),
        ],
    },
    Shelf {
        tag: "TN-1",
        name: "Tin standards, five",
        kind: "solution_set",
        location: "Colour lab, cool cupboard",
        unit: "mg/L",
        lot: "VTN-2604",
        certificate: "V-2314",
        conformance: false,
        ends_in: 75,
        care: Care::Material(75, 9_000, None),
        state: IN_USE,
        pieces: &[
            ("1", "1", "1.002", "0.010", "", ""),
            ("2", "2", "2.003", "0.016", "", ""),
            ("4", "4", "4.007", "0.028", "", ""),
            ("6", "6", "6.010", "0.040", "", ""),
            ("8", "8", "8.013", "0.052", "", ""),
        ],
    },
    Shelf {
        tag: "TN-5",
        name: "Tin control",
        kind: "control_solution",
        location: "Colour lab, cool cupboard",
        unit: "mg/L",
        lot: "VTN-2577",
        certificate: "V-2315",
        conformance: false,
        ends_in: 140,
        care: Care::Material(140, 9_000, None),
        state: IN_USE,
        pieces: &[("5", "5", "4.992", "0.040", "", "")],
    },
    Shelf {
        tag: "VM-1",
        name: "Verification mismatch",
        kind: "mismatch",
        location: "Radio room, grey box",
        unit: "Γ",
        lot: "VMM-014",
        certificate: "V-2316",
        conformance: false,
        ends_in: 265,
        care: Care::Counted("matings", 500, 122),
        state: IN_USE,
        pieces: &[
            ("2.45 GHz real", "0.06", "0.0612", "0.0030", "", ""),
            ("2.45 GHz imaginary", "-0.19", "-0.1879", "0.0030", "", ""),
            ("5.8 GHz real", "-0.13", "-0.1270", "0.0045", "", ""),
            ("5.8 GHz imaginary", "-0.15", "-0.1469", "0.0045", "", ""),
        ],
    },
];

/// Registers the rest of the mill.
pub fn rest(world: &mut World, first: Date, today: Date, now: Timestamp) -> Result<(), AppError> {
    instruments(world)?;
    for shelf in &SHELVES {
        standard(world, shelf, first, (today, now))?;
    }
    trainings(world, first, today)
}

fn instruments(world: &mut World) -> Result<(), AppError> {
    for (tag, name, family, area, unit, step, from, to, serial, firmware) in OTHERS {
        let id = InstrumentId(next(world.instruments.len()));
        world.instruments.push(Instrument {
            id,
            tag: tag.to_owned(),
            name: name.to_owned(),
            area_id: AreaId(next(area)),
            unit: unit.to_owned(),
            resolution: decimal(step)?,
            maximum: decimal(to)?,
            serial: serial.to_owned(),
            state: "in_service".to_owned(),
            version: 1,
            range_low: decimal(from)?,
            owner: world.areas[area].name.clone(),
            firmware: firmware.to_owned(),
            adjustable: !matches!(family, "pressure gauge" | "length gauge"),
            sealed: false,
            critical: matches!(tag, "P-21" | "V-01"),
            restricted_to: None,
            maker: String::new(),
            model: String::new(),
            calibrated_until: None,
            family: family.to_owned(),
            work_low: None,
            work_high: None,
            calibration_file: match family {
                "network analyzer" => "slot 3, of 12 March".to_owned(),
                "moisture meter" => "glass cloth 2".to_owned(),
                _ => String::new(),
            },
            configuration_names: if family == "density meter" {
                vec!["modules".into()]
            } else {
                vec![]
            },
            configuration_values: if family == "density meter" {
                vec![Decimal::TWO]
            } else {
                vec![]
            },
        });
        let cells: Vec<_> = CELLS.iter().filter(|cell| cell.0 == tag).collect();
        let mut push = |name: String, [probe, scale, material]: [&str; 3], in_use: bool| {
            world.set_ups.push(SetUp {
                id: SetUpId(next(world.set_ups.len())),
                instrument_id: id,
                name,
                probe: probe.to_owned(),
                scale: scale.to_owned(),
                material: material.to_owned(),
                in_use,
                state: "in_service".to_owned(),
                restricted_to: None,
            });
        };
        if cells.is_empty() {
            push("as installed".to_owned(), ["", "", ""], true);
        }
        for (_, probe, scale, material, in_use) in cells {
            push(format!("{probe}, {scale}, {material}"), [probe, scale, material], *in_use);
        }
    }
    Ok(())
}

fn standard(
    world: &mut World,
    shelf: &Shelf,
    first: Date,
    (today, now): (Date, Timestamp),
) -> Result<(), AppError> {
    let at = |day: Date| -> Result<jiff::Timestamp, AppError> {
        Ok(day.to_zoned_datetime(TimeZone::UTC).map_err(fault)?.timestamp())
    };
    let id = StandardId(next(world.standards.len()));
    let lot_id = LotId(next(world.lots.len()));
    let certificate = CertificateId(next(world.certificates.len()));
    let begin = first.saturating_sub(30.days());
    let (state, reason) = shelf.state;
    world.standards.push(Standard {
        id,
        tag: shelf.tag.to_owned(),
        name: shelf.name.to_owned(),
        kind: shelf.kind.to_owned(),
        location: shelf.location.to_owned(),
        state: state.to_owned(),
        state_reason: reason.to_owned(),
        version: 1,
    });
    if !reason.is_empty() {
        world.standard_states.push(StandardStateRow {
            standard_id: id,
            state: state.to_owned(),
            reason: reason.to_owned(),
            person_id: person(LEAD),
            at: At(at(today.saturating_sub(3.days()))?),
        });
    }
    let mut row = Lot { ..lot(lot_id, id, shelf.lot, at(begin)?) };
    match shelf.care {
        Care::Nothing => {}
        Care::Block(most, used) => {
            row.use_kind = Some("indentations".to_owned());
            row.use_limit = Some(most);
            let size = |text| decimal(text).map(Some);
            (row.face_width, row.face_height) = (size("50")?, size("35")?);
            (row.face_spacing, row.face_edge) = (size("3")?, size("2.5")?);
            indentations(world, lot_id, &row, used, at(today)?)?;
        }
        Care::Material(days, hours, open) => {
            row.expires_on = Some(Day(today.saturating_add(days.days())));
            row.open_hours = Some(hours);
            row.opened_at = open.map(|hours| At(now - SignedDuration::from_hours(hours)));
        }
        Care::Counted(kind, most, used) => {
            row.use_kind = Some(kind.to_owned());
            row.use_limit = Some(most);
            world.standard_uses.push(StandardUse {
                lot_id,
                count: used,
                place_x: None,
                place_y: None,
                check_id: None,
                reason: "counted over from the paper log".to_owned(),
                person_id: person(SECOND_LEAD),
                at: At(at(today.saturating_sub(20.days()))?),
            });
        }
    }
    world.lots.push(row);
    world.certificates.push(Certificate {
        id: certificate,
        lot_id,
        number: shelf.certificate.to_owned(),
        version: 1,
        kind: if shelf.conformance { "conformance" } else { "calibration" }.to_owned(),
        issuer: if shelf.conformance { "its maker" } else { "Velmaranta measuring room" }
            .to_owned(),
        issued_on: Day(begin),
        valid_from: Day(begin),
        valid_until: Day(today.saturating_add(shelf.ends_in.days()).max(begin)),
        change: "first".to_owned(),
        replaces_id: None,
    });
    for (piece, nominal, value, uncertainty, not_uniform, temperature) in shelf.pieces {
        let optional =
            |text: &str| if text.is_empty() { Ok(None) } else { decimal(text).map(Some) };
        world.certified_values.push(CertifiedValue {
            certificate_id: certificate,
            piece: (*piece).to_owned(),
            nominal: decimal(nominal)?,
            certified_value: decimal(value)?,
            expanded_uncertainty: decimal(uncertainty)?,
            coverage_factor: Decimal::TWO,
            unit: shelf.unit.to_owned(),
            temperature: optional(temperature)?,
            at_unit: None,
            non_uniformity: optional(not_uniform)?,
            class_limit: false,
        });
    }
    Ok(())
}

/// A block that was in use for a while: five places a day, in their order.
fn indentations(
    world: &mut World,
    lot_id: LotId,
    row: &Lot,
    used: u32,
    today: jiff::Timestamp,
) -> Result<(), AppError> {
    let face = vaaka_store::wear::face_of(row).ok_or_else(|| fault("a block without a face"))?;
    let part = |value: f64| Decimal::from_f64(value).map(|value| value.round_dp(3));
    for (index, spot) in face.spots().into_iter().take(used as usize).enumerate() {
        let days = i64::from((used - u32::try_from(index).unwrap_or(0)) / 5 + 1);
        world.standard_uses.push(StandardUse {
            lot_id,
            count: 1,
            place_x: part(spot.x),
            place_y: part(spot.y),
            check_id: None,
            reason: "hardness check on paper".to_owned(),
            person_id: person(1),
            at: At(today - SignedDuration::from_hours(24 * days)),
        });
    }
    Ok(())
}

/// Technicians and leads are trained for every method; one training ends soon.
fn trainings(world: &mut World, first: Date, today: Date) -> Result<(), AppError> {
    let at = first.to_zoned_datetime(TimeZone::UTC).map_err(fault)?.timestamp();
    for index in 0..=SECOND_LEAD {
        for method in method::all() {
            let ends_soon = index == 3 && method.key() == "gauge";
            let left = if ends_soon { 12 } else { 200 + 30 * i64::try_from(index).unwrap_or(0) };
            world.trainings.push(Training {
                person_id: person(index),
                method_key: method.key().to_owned(),
                trained_on: Day(first),
                valid_until: Day(today.saturating_add(left.days())),
                note: "at the bench, with a lead beside".to_owned(),
                recorded_by: person(if index == LEAD { SECOND_LEAD } else { LEAD }),
                at: At(at),
            });
        }
    }
    Ok(())
}
