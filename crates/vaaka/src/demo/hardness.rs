//! The hardness testers of the press hall: each cell (probe × scale × material) with its blocks, its plan and its story.

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;
use serde_json::Value;
use vaaka_core::method::hardness::{self, Procedure, RepeatabilityBy, Settings, SettingsV1};
use vaaka_core::method::{Around, Limit, LimitForm, Place, RequiredSetting, SettingKind, Travel};
use vaaka_store::ids::*;
use vaaka_store::rows::*;
use vaaka_store::wear::face_of;
use vaaka_store::{At, Day};

use super::World;
use super::charts::next;
use super::gear::{Gear, Player, Story};
use super::registers::lot;
use super::said::{decimal, fault};
use crate::AppError;

use Place::Middle;
use Travel::Rising;

/// A block: tag, name, where it is kept, lot, certificate; nominal, certified value, U (k = 2), how far its places differ; width,
/// height, spacing and edge of its face in mm; how many readings it bears.
struct Block {
    tag: &'static str,
    name: &'static str,
    location: &'static str,
    lot: &'static str,
    certificate: &'static str,
    values: [&'static str; 4],
    face: [&'static str; 4],
    bears: i32,
}

const DRAWER: &str = "Press hall, block drawer";
/// Room for a year of readings at three millimetres from each other.
const ROOMY: [&str; 4] = ["65", "45", "3", "2.5"];
/// What springs back wants more room.
const WIDE: [&str; 4] = ["90", "60", "5", "5"];

const BLOCKS: [Block; 7] = [
    Block {
        tag: "HB-25",
        name: "Hardness block, soft",
        location: DRAWER,
        lot: "VB-2544",
        certificate: "V-2282",
        values: ["25", "25.36", "0.40", "0.45"],
        face: ROOMY,
        bears: 294,
    },
    Block {
        tag: "HB-45",
        name: "Hardness block, middle",
        location: DRAWER,
        lot: "VB-4512",
        certificate: "V-2283",
        values: ["45", "45.18", "0.35", "0.35"],
        face: ROOMY,
        bears: 294,
    },
    Block {
        tag: "HB-62",
        name: "Hardness block, hard",
        location: DRAWER,
        lot: "VB-6207",
        certificate: "V-2284",
        values: ["62", "62.41", "0.30", "0.25"],
        face: ROOMY,
        bears: 294,
    },
    Block {
        tag: "SP-28",
        name: "Own stainless plate, soft",
        location: DRAWER,
        lot: "VSS-28",
        certificate: "V-2286",
        values: ["28", "28.15", "0.60", "0.60"],
        face: ROOMY,
        bears: 294,
    },
    Block {
        tag: "SP-41",
        name: "Own stainless plate, hard",
        location: DRAWER,
        lot: "VSS-41",
        certificate: "V-2287",
        values: ["41", "40.86", "0.60", "0.55"],
        face: ROOMY,
        bears: 294,
    },
    Block {
        tag: "RB-38",
        name: "Rebound block, soft",
        location: DRAWER,
        lot: "VB-3821",
        certificate: "V-2288",
        values: ["38", "38.2", "0.8", "0.7"],
        face: WIDE,
        bears: 187,
    },
    Block {
        tag: "RB-58",
        name: "Rebound block, hard",
        location: DRAWER,
        lot: "VB-5817",
        certificate: "V-2289",
        values: ["58", "57.7", "0.7", "0.6"],
        face: WIDE,
        bears: 187,
    },
];

/// What the plan of a cell says.
#[derive(Debug, Clone, Copy)]
pub struct HardnessPlan {
    /// How the tester measures.
    pub procedure: Procedure,
    /// Name of the cell.
    pub cell: &'static str,
    /// Blocks, in working order.
    pub blocks: &'static [&'static str],
    /// ± limit of the mean error.
    pub limit: &'static str,
    /// Limit of the repeatability in the unit of the display, and the share of the depth in per cent.
    pub repeatability: (RepeatabilityBy, &'static str, Option<&'static str>),
    /// What it calls the code of its sensor; empty where it shows none.
    pub sensor: &'static str,
    /// Settings: name, expected.
    pub settings: &'static [(&'static str, &'static str)],
    /// What is made ready.
    pub preparation: &'static [&'static str],
    /// What is looked out for.
    pub cautions: &'static [&'static str],
}

impl Player for HardnessPlan {
    fn method_key(&self) -> &'static str {
        hardness::KEY
    }

    fn words(&self, _unit: &str) -> &'static str {
        "hardness tester"
    }

    fn cell(&self) -> Option<(&'static str, &'static [&'static str])> {
        Some((self.cell, self.blocks))
    }

    fn settings(&self, _gear: &Gear) -> Result<Value, AppError> {
        serde_json::to_value(settings(self)?).map_err(fault)
    }

    fn remedy(&self) -> &'static str {
        "ball of the impact body worn flat, a new one put in"
    }
}

const BENCH: HardnessPlan = HardnessPlan {
    procedure: Procedure::Rockwell,
    cell: "150 kg cone, HRC, tool steel",
    blocks: &["HB-25", "HB-45", "HB-62"],
    limit: "1.5",
    repeatability: (RepeatabilityBy::Range, "0.8", Some("2")),
    sensor: "",
    settings: &[("the scale", "HRC = C"), ("the total force", "1471 N = 1471 = 150 kg")],
    preparation: &[
        "Indenter looked at under the lens: no chip, no ring.",
        "Anvil and underside of the block wiped; the block wrung on, nothing between.",
        "One reading thrown away after a change of indenter or anvil.",
    ],
    cautions: &["Fingers stay away from between indenter and block while the force comes on."],
};

/// The cells that are checked.
pub const TESTERS: [Gear; 3] = [
    Gear {
        tag: "P-21",
        name: "Plate hardness tester, tool steel",
        area: 1,
        unit: "HRC",
        resolution: "0.1",
        maximum: "70",
        serial: "VK-021",
        family: &BENCH,
        set: 0,
        minutes: 9,
        loads: &[
            ("25", Rising, Middle, 3, true, &["25"]),
            ("45", Rising, Middle, 3, true, &["45"]),
            ("62", Rising, Middle, 3, true, &["62"]),
        ],
        between: 0.12,
        within: 0.16,
        bias: 0.15,
        hysteresis: 0.0,
        work: None,
        any_of_kind: false,
        // A cone that wears reads hard plates too hard.
        story: Story::Drift { onset: 62.0, per_week: 0.0013 },
    },
    Gear {
        tag: "P-21",
        name: "Plate hardness tester, stainless",
        family: &HardnessPlan {
            cell: "150 kg cone, HRC, stainless plate",
            blocks: &["SP-28", "SP-41"],
            limit: "2",
            ..BENCH
        },
        loads: &[
            ("28", Rising, Middle, 3, true, &["28"]),
            ("41", Rising, Middle, 3, true, &["41"]),
        ],
        minutes: 7,
        area: 1,
        unit: "HRC",
        resolution: "0.1",
        maximum: "70",
        serial: "VK-021",
        set: 0,
        between: 0.16,
        within: 0.25,
        bias: -0.2,
        hysteresis: 0.0,
        work: None,
        any_of_kind: false,
        story: Story::Quiet,
    },
    Gear {
        tag: "P-22",
        name: "Hand hardness tester",
        area: 1,
        unit: "HRC",
        resolution: "0.1",
        maximum: "70",
        serial: "VK-022",
        family: &HardnessPlan {
            procedure: Procedure::Rebound,
            cell: "impact body D, HRC, tool steel",
            blocks: &["RB-38", "RB-58"],
            limit: "2",
            repeatability: (RepeatabilityBy::Variation, "2", None),
            sensor: "Rebound value",
            settings: &[("the direction of impact", "down = ↓"), ("the material", "tool steel")],
            preparation: &[
                "Impact body out: clean, its ball not flat.",
                "Block on its heavy base, its whole face lying on.",
            ],
            cautions: &["Nobody's hand in front of the device when it is released."],
        },
        set: 0,
        minutes: 6,
        loads: &[
            ("38", Rising, Middle, 3, true, &["38"]),
            ("58", Rising, Middle, 3, true, &["58"]),
        ],
        between: 0.25,
        within: 0.35,
        bias: 0.3,
        hysteresis: 0.0,
        work: None,
        any_of_kind: false,
        story: Story::Failed { at: 33.0, error: 3.4 },
    },
];

/// Registers the blocks.
pub fn blocks(world: &mut World, first: Date, today: Date) -> Result<(), AppError> {
    let begin = first.saturating_sub(20.days());
    let begin_at = begin.to_zoned_datetime(TimeZone::UTC).map_err(fault)?.timestamp();
    for (index, block) in BLOCKS.iter().enumerate() {
        let id = StandardId(next(world.standards.len()));
        let lot_id = LotId(next(world.lots.len()));
        let certificate = CertificateId(next(world.certificates.len()));
        world.standards.push(Standard {
            id,
            tag: block.tag.to_owned(),
            name: block.name.to_owned(),
            kind: "hardness_block".to_owned(),
            location: block.location.to_owned(),
            state: "in_use".to_owned(),
            state_reason: String::new(),
            version: 1,
        });
        let [width, height, spacing, edge] = block.face;
        world.lots.push(Lot {
            use_kind: Some("indentations".to_owned()),
            use_limit: Some(block.bears),
            face_width: Some(decimal(width)?),
            face_height: Some(decimal(height)?),
            face_spacing: Some(decimal(spacing)?),
            face_edge: Some(decimal(edge)?),
            ..lot(lot_id, id, block.lot, begin_at)
        });
        let left = 260 + 40 * i64::try_from(index).unwrap_or(0);
        world.certificates.push(Certificate {
            id: certificate,
            lot_id,
            number: block.certificate.to_owned(),
            version: 1,
            kind: "calibration".to_owned(),
            issuer: "Velmaranta measuring room".to_owned(),
            issued_on: Day(begin),
            valid_from: Day(begin),
            valid_until: Day(today.saturating_add(left.days())),
            change: "first".to_owned(),
            replaces_id: None,
        });
        let [nominal, value, uncertainty, places] = block.values;
        world.certified_values.push(CertifiedValue {
            certificate_id: certificate,
            piece: nominal.to_owned(),
            nominal: decimal(nominal)?,
            certified_value: decimal(value)?,
            expanded_uncertainty: decimal(uncertainty)?,
            coverage_factor: Decimal::TWO,
            unit: "HRC".to_owned(),
            temperature: None,
            at_unit: None,
            non_uniformity: Some(decimal(places)?),
            class_limit: false,
        });
    }
    Ok(())
}

/// Settings of the plan of a cell.
pub fn settings(plan: &HardnessPlan) -> Result<Settings, AppError> {
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    let (repeatability_by, limit, share) = plan.repeatability;
    Ok(Settings::V1(SettingsV1 {
        procedure: plan.procedure,
        force: None,
        ball: None,
        sensor: plan.sensor.to_owned(),
        mean_limit: Limit::both(LimitForm::Absolute { half_width: decimal(plan.limit)? }),
        single_limit: None,
        repeatability_by,
        repeatability_limit: Some(decimal(limit)?),
        depth_share: share.map(decimal).transpose()?,
        scale_end: share.map(|_| Decimal::ONE_HUNDRED),
        around: Around {
            capture_saves: false,
            settings: plan
                .settings
                .iter()
                .map(|(name, expected)| RequiredSetting {
                    name: (*name).to_owned(),
                    kind: Some(SettingKind::Exactly),
                    expected: (*expected).to_owned(),
                    by_lead: false,
                })
                .collect(),
            conditions: vec![],
            waits: vec![],
            cautions: lines(plan.cautions),
            preparation: lines(plan.preparation),
            closing: lines(&[
                "Blocks wiped, oiled and back in their drawer.",
                "Tester clean and covered.",
            ]),
            fold_cautions: true,
            together: false,
        },
    }))
}

/// The places that a check takes on a block, in their order.
pub fn wear(
    world: &mut World,
    certificate: CertificateId,
    readings: u32,
    (check, who, at): (CheckId, PersonId, Timestamp),
) -> Result<(), AppError> {
    let lot = world.certificates.iter().find(|one| one.id == certificate).map(|one| one.lot_id);
    let row = world.lots.iter().find(|one| Some(one.id) == lot);
    let row = row.ok_or_else(|| fault("a certificate without a lot"))?;
    let face = face_of(row).ok_or_else(|| fault("a block without a face"))?;
    let lot_id = row.id;
    let used = world.standard_uses.iter().filter(|one| one.lot_id == lot_id).count();
    let part = |value: f64| Decimal::from_f64(value).map(|value| value.round_dp(3));
    for spot in face.spots().into_iter().skip(used).take(readings as usize) {
        world.standard_uses.push(StandardUse {
            lot_id,
            count: 1,
            place_x: part(spot.x),
            place_y: part(spot.y),
            check_id: Some(check),
            reason: String::new(),
            person_id: who,
            at: At(at),
        });
    }
    Ok(())
}
