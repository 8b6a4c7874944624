//! Hardness testers on reference blocks: Rockwell (ISO 6508-2), Vickers (ISO 6507-2), Brinell (ISO 6506-2), contact impedance
//! (DIN 50159-2) and rebound (ISO 16859-2).
//!
//! Each block of the plan is read n times, each time at another place of its face. Error of each block E = H̄ − H_C, the mean of
//! its readings minus its certified value (VIM 2.16); repeatability as the standard of the procedure states it: the range of the
//! readings, the range of the sizes of the indentations as a share of their mean, or the coefficient of variation.

mod curve;
mod evaluate;
mod keys;
mod scene;
mod sheet;
mod size;
mod way;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

pub use curve::{CurveBy, CurveError, SensorCurve};
pub use size::{brinell_diameter, vickers_diagonal};

use super::around::{Around, Words};
use super::common::measured_twice;
use super::{
    Family, Limit, MethodError, PlanPoint, PlanSpec, RunState, Scene, Sheet, Step, Travel,
};
use crate::judgement::Characteristic;
use crate::standard::UsedFace;

/// Key of this method.
pub const KEY: &str = "hardness";

/// So many readings on a block make a full check: from them on its repeatability is judged, below it is recorded.
pub const FULL_CHECK: usize = 5;

/// Settings of a plan; stored with their schema version.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "schema")]
pub enum Settings {
    /// The first schema.
    #[serde(rename = "hardness-1")]
    V1(SettingsV1),
}

/// How the tester measures.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Procedure {
    /// Depth of an indentation between two forces.
    Rockwell,
    /// Diagonals of the indentation of a pyramid.
    Vickers,
    /// Diameter of the indentation of a ball.
    Brinell,
    /// A vibrating rod that is pressed on: its frequency shifts with the area of contact.
    ContactImpedance,
    /// A body that is shot and springs back.
    Rebound,
}

/// What the repeatability of a block is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RepeatabilityBy {
    /// H_max − H_min, in the unit of the display.
    Range,
    /// (d_max − d_min)/d̄ of the sizes of the indentations, in per cent.
    RangeOfSizes,
    /// s/H̄, in per cent.
    Variation,
}

/// First version of the settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SettingsV1 {
    /// How the tester measures.
    pub procedure: Procedure,
    /// Test force in N, where sizes follow from it.
    pub force: Option<Decimal>,
    /// Diameter of the ball in mm, where sizes follow from it.
    pub ball: Option<Decimal>,
    /// Limit of the mean error of each block.
    pub mean_limit: Limit,
    /// Limit of every single reading; that of the mean where absent.
    pub single_limit: Option<Limit>,
    /// What the repeatability is.
    pub repeatability_by: RepeatabilityBy,
    /// Its limit, in the unit of the display or in per cent; recorded only where absent.
    pub repeatability_limit: Option<Decimal>,
    /// And no more than so much of what lies above the mean, in per cent of (`scale_end` − H̄): the greater of both holds. A
    /// Rockwell number is what is left of a depth, so that its standard states repeatability as a share of it.
    pub depth_share: Option<Decimal>,
    /// Number at which the depth is zero: 100 for Rockwell scales of the cone, 130 for those of the ball.
    pub scale_end: Option<Decimal>,
    /// What the tester calls the code of its sensor, which is read beside each value; empty where it shows none.
    #[serde(default)]
    pub sensor: String,
    /// What surrounds the measuring.
    #[serde(flatten)]
    pub around: Around,
}

impl SettingsV1 {
    fn fault(&self, plan: &PlanSpec) -> Option<String> {
        if plan.resolution <= Decimal::ZERO || plan.span() <= Decimal::ZERO {
            return Some(
                "the range must end above where it begins, and the resolution be greater than zero"
                    .into(),
            );
        }
        if plan.points.is_empty() {
            return Some("a plan needs at least one block".into());
        }
        self.fault_of_blocks(plan)
            .or_else(|| self.fault_of_repeatability(plan))
            .or_else(|| measured_twice(plan, |point| keys::key_of("error", point)))
            .or_else(|| self.around.fault(plan, false))
            .or_else(|| {
                let limits = [Some(&self.mean_limit), self.single_limit.as_ref()];
                limits.into_iter().flatten().find_map(|limit| limit.fault(plan))
            })
    }

    fn fault_of_blocks(&self, plan: &PlanSpec) -> Option<String> {
        for point in &plan.points {
            let nominal = point.nominal.normalize();
            if point.repeats == 0 {
                return Some(format!("the block {nominal} is read at least once"));
            }
            if point.pieces.len() != 1 {
                return Some(format!("the block {nominal} is one piece: nothing is put together"));
            }
            if point.nominal < plan.range_low || point.nominal > plan.maximum {
                return Some(format!("the block {nominal} lies outside the range"));
            }
        }
        // Soft to hard or hard to soft, not mixed.
        let mixed = plan.points.windows(2).find(|pair| match pair[0].travel {
            Travel::Falling => {
                pair[1].travel != Travel::Falling || pair[1].nominal >= pair[0].nominal
            }
            _ => pair[1].travel != Travel::Rising || pair[1].nominal <= pair[0].nominal,
        });
        let corner = plan.points.iter().any(|point| point.travel == Travel::Corner);
        (mixed.is_some() || corner).then(|| {
            "blocks go from soft to hard, all rising, or from hard to soft, all falling; never mixed"
                .into()
        })
    }

    fn fault_of_repeatability(&self, plan: &PlanSpec) -> Option<String> {
        let positive =
            [self.force, self.ball, self.repeatability_limit, self.depth_share, self.scale_end];
        if positive.into_iter().flatten().any(|value| value <= Decimal::ZERO) {
            return Some(
                "force, ball, limit of the repeatability and the end of the scale are greater than zero"
                    .into(),
            );
        }
        if self.repeatability_by == RepeatabilityBy::RangeOfSizes {
            match self.procedure {
                Procedure::Vickers if self.force.is_none() => {
                    return Some(
                        "the size of an indentation follows from the test force: state it".into(),
                    );
                }
                Procedure::Brinell if self.force.is_none() || self.ball.is_none() => {
                    return Some(
                        "the size of an indentation follows from the test force and the ball: state both"
                            .into(),
                    );
                }
                Procedure::Vickers | Procedure::Brinell => {}
                _ => {
                    return Some(
                        "sizes of indentations are those of Vickers and Brinell: choose the range of the readings or their variation"
                            .into(),
                    );
                }
            }
            let sizeless = plan.points.iter().find(|point| self.size(point.nominal).is_none());
            if let Some(point) = sizeless {
                let nominal = point.nominal.normalize();
                return Some(format!(
                    "no indentation of this force and ball can have the hardness {nominal}"
                ));
            }
        }
        match (self.depth_share, self.scale_end) {
            (None, None) => None,
            (Some(_), Some(end)) if self.repeatability_by == RepeatabilityBy::Range => {
                let beyond = plan.points.iter().any(|point| point.nominal >= end);
                beyond.then(|| "the scale ends above its hardest block: 100 for cones, 130 for balls".into())
            }
            _ => Some(
                "a share of the depth goes with the range of the readings and with the number at which the depth is zero"
                    .into(),
            ),
        }
    }

    /// Size of the indentation that makes a reading, in mm, where one follows from it.
    fn size(&self, hardness: Decimal) -> Option<f64> {
        match self.procedure {
            Procedure::Vickers => vickers_diagonal(hardness, self.force?),
            Procedure::Brinell => brinell_diameter(hardness, self.force?, self.ball?),
            _ => None,
        }
    }
}

/// How what surrounds the measuring is called.
const WORDS: Words = Words {
    begin: "Before you begin",
    standard: (
        "block",
        "Look at its face: clean, its own side up. Scan or type the tag that is on it.",
    ),
    make_ready: ("Make ready", "Make the tester ready"),
};

/// The method.
#[derive(Debug, Clone, Copy)]
pub struct Hardness;

impl Family for Hardness {
    type Stored = Settings;
    type Settings = SettingsV1;

    const KEY: &'static str = KEY;
    const NAME: &'static str = "Hardness on blocks";
    const TRAVELS: &'static [Travel] = &[Travel::Rising, Travel::Falling];
    const USES_PLACES: bool = true;

    fn newest(Settings::V1(settings): Settings) -> SettingsV1 {
        settings
    }

    fn fault(settings: &SettingsV1, plan: &PlanSpec) -> Option<String> {
        settings.fault(plan)
    }

    fn around(settings: &Self::Settings) -> &Around {
        &settings.around
    }

    fn sheet() -> Sheet {
        sheet::sheet()
    }

    fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
        way::way(plan, settings)
    }

    fn scene_on(
        plan: &PlanSpec,
        settings: &SettingsV1,
        step: &Step,
        on: Option<(&UsedFace, usize)>,
    ) -> Option<Scene> {
        match step.point {
            Some(index) => Some(scene::on_block(plan, settings, index, on)),
            None => step.scene.clone(),
        }
    }

    fn chart_key(point: &PlanPoint) -> String {
        keys::key_of("error", point)
    }

    fn evaluate(
        plan: &PlanSpec,
        settings: &SettingsV1,
        run: &RunState,
    ) -> Result<Vec<Characteristic>, MethodError> {
        evaluate::evaluate(plan, settings, run)
    }

    fn so_far(
        plan: &PlanSpec,
        settings: &SettingsV1,
        run: &RunState,
    ) -> Result<Vec<Characteristic>, MethodError> {
        evaluate::so_far(plan, settings, run)
    }
}
