//! An instrument of the mill: its plan in short, its noise and its story.

use serde_json::Value;
use vaaka_core::method::weighing::{self, AccuracyClass, LimitStage, Pan};
use vaaka_core::method::{
    self, Around, Bound, Place, Travel, assay, coating, gauge, hardness, moisture, reflection,
    spectrum, ultrasonic,
};
use vaaka_core::round::DueRule;

use super::coating::CoatingPlan;
use super::hardness::HardnessPlan;
use super::moisture::MoisturePlan;
use super::network::NetworkPlan;
use super::photometers::{AssayPlan, FilterPlan};
use super::registers::{decimal, fault};
use super::standards::SETS;
use super::ultrasonic::UltrasonicPlan;
use crate::AppError;

/// What happens to an instrument.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Story {
    /// Nothing but noise.
    Quiet,
    /// From some days before the end on, the gain creeps up by this much a week (parts of the load).
    Drift {
        /// Days before the end.
        onset: f64,
        /// Relative change a week.
        per_week: f64,
    },
    /// Knocked some days before the end, levelled again later.
    Knocked {
        /// Days before the end.
        knock: f64,
        /// Step of the error at the largest load, in display units.
        step: f64,
        /// Days before the end at which it was levelled again.
        levelled: f64,
    },
    /// Somebody adjusts it by its last error every few days, between these days before the end.
    OverAdjusted {
        /// First day, counted back.
        from: f64,
        /// Last day, counted back.
        until: f64,
    },
    /// The face of its probe wears: from some days before the end on the thinnest load reads by this much a week more, in
    /// display units, thicker ones by its square less.
    Worn {
        /// Days before the end.
        onset: f64,
        /// Change at the thinnest load a week.
        per_week: f64,
    },
    /// Fails some days before the end for residue under the pan; cleaned, adjusted, proven.
    Failed {
        /// Days before the end.
        at: f64,
        /// Error at the largest load, in display units.
        error: f64,
    },
}

/// A load of a plan: nominal, travel, place, repeats, charted, pieces.
pub type Load = (&'static str, Travel, Place, i32, bool, &'static [&'static str]);

/// An instrument with its plan and story.
#[derive(Debug, Clone, Copy)]
pub struct Gear {
    /// Tag.
    pub tag: &'static str,
    /// Name.
    pub name: &'static str,
    /// Area, by its place in the walk.
    pub area: usize,
    /// Unit.
    pub unit: &'static str,
    /// Scale interval d.
    pub resolution: &'static str,
    /// Maximum.
    pub maximum: &'static str,
    /// Serial number.
    pub serial: &'static str,
    /// Family and what only it needs.
    pub family: Family,
    /// Its standard, by place in [`super::standards::SETS`].
    pub set: usize,
    /// Minutes of the check.
    pub minutes: i32,
    /// Loads.
    pub loads: &'static [Load],
    /// Between-check standard deviation at the largest load, display units.
    pub between: f64,
    /// Within-check standard deviation, display units.
    pub within: f64,
    /// Constant error at the largest load, display units.
    pub bias: f64,
    /// Falling minus rising, display units.
    pub hysteresis: f64,
    /// Where the work is, when it is less than the range.
    pub work: Option<(&'static str, &'static str)>,
    /// Whether its plan takes any standard of the kind.
    pub any_of_kind: bool,
    /// Story.
    pub story: Story,
}

/// Areas along the walk.
pub const AREAS: [&str; 5] =
    ["Resin kitchen", "Press hall", "Finishing", "Colour lab", "Radio room"];

/// A family and what only it needs.
#[derive(Debug, Clone, Copy)]
pub enum Family {
    /// A scale.
    Scale {
        /// Accuracy class.
        class: AccuracyClass,
        /// Verification scale interval e.
        verification_interval: &'static str,
        /// Pan.
        pan: Pan,
        /// Rounding removed with small weights.
        added_weights: bool,
        /// Heavy weights want other cautions.
        heavy: bool,
    },
    /// Any other gauge.
    Gauge(&'static GaugePlan),
    /// A spectrophotometer.
    Spectrum,
    /// One cell of a hardness tester.
    Hardness(&'static HardnessPlan),
    /// One curve of a moisture meter.
    Moisture(&'static MoisturePlan),
    /// An ultrasonic thickness gauge with its probe.
    Ultrasonic(&'static UltrasonicPlan),
    /// A coating thickness gauge on its base.
    Coating(&'static CoatingPlan),
    /// A photometer on filters.
    Filters(&'static FilterPlan),
    /// A photometer with a curve of its own in each check.
    Assay(&'static AssayPlan),
    /// A network analyzer with its cable and kit.
    Reflection(&'static NetworkPlan),
}

/// What the plan of a gauge says.
#[derive(Debug, Clone, Copy)]
pub struct GaugePlan {
    /// How the reference comes to the gauge.
    pub presentation: gauge::Presentation,
    /// Form, half-width and percentage of the limit of the mean.
    pub mean_limit: (Form, &'static str, &'static str),
    /// Half-width of the limit of the hysteresis, in the unit of the display.
    pub hysteresis_limit: Option<&'static str>,
    /// Settings: name, expected.
    pub settings: &'static [(&'static str, &'static str)],
    /// Conditions: name, unit, least, greatest, advice.
    pub conditions:
        &'static [(&'static str, &'static str, &'static str, &'static str, &'static str)],
    /// Waits: what, shortest and longest in seconds.
    pub waits: &'static [(&'static str, u32, Option<u32>)],
    /// Shortest time between readings.
    pub pause_seconds: u32,
    /// Cautions.
    pub cautions: &'static [&'static str],
    /// Preparation.
    pub preparation: &'static [&'static str],
    /// Closing.
    pub closing: &'static [&'static str],
    /// How often it is due.
    pub due: DueRule,
}

/// Form of a limit.
#[derive(Debug, Clone, Copy)]
pub enum Form {
    /// Absolute.
    Absolute,
    /// Percentage of the span.
    PercentOfRange,
    /// The larger of an absolute value and a percentage of the reading.
    LargerOf,
}

impl Gear {
    /// Key of its method.
    pub fn method_key(&self) -> &'static str {
        match self.family {
            Family::Scale { .. } => weighing::KEY,
            Family::Gauge(_) | Family::Filters(_) => gauge::KEY,
            Family::Spectrum => spectrum::KEY,
            Family::Hardness(_) => hardness::KEY,
            Family::Moisture(_) => moisture::KEY,
            Family::Ultrasonic(_) => ultrasonic::KEY,
            Family::Coating(_) => coating::KEY,
            Family::Assay(_) => assay::KEY,
            Family::Reflection(_) => reflection::KEY,
        }
    }

    /// Family, for the register.
    pub fn family_words(&self) -> &'static str {
        match (self.family, self.unit) {
            (Family::Scale { .. }, _) => "scale",
            (Family::Gauge(_), "bar") => "pressure gauge",
            (Family::Gauge(_), "°C") => "thermometer",
            (Family::Gauge(_), _) => "length gauge",
            (Family::Spectrum, _) => "spectrophotometer",
            (Family::Hardness(_), _) => "hardness tester",
            (Family::Moisture(_), _) => "moisture meter",
            (Family::Ultrasonic(_), _) => "ultrasonic gauge",
            (Family::Coating(_), _) => "coating gauge",
            (Family::Filters(_) | Family::Assay(_), _) => "photometer",
            (Family::Reflection(_), _) => "network analyzer",
        }
    }

    /// Version of the program inside it, where it has one.
    pub fn firmware(&self) -> &'static str {
        match self.family {
            Family::Scale { .. } => "2.14",
            Family::Gauge(_) if self.tag == "R-21" => "1.08",
            Family::Gauge(_) => "",
            Family::Spectrum => "3.41",
            Family::Hardness(_)
            | Family::Moisture(_)
            | Family::Ultrasonic(_)
            | Family::Coating(_)
            | Family::Filters(_)
            | Family::Assay(_)
            | Family::Reflection(_) => "",
        }
    }

    /// The cell that it checks and the standards of that, where its instrument is registered by itself.
    pub fn cell(&self) -> Option<(&'static str, &'static [&'static str])> {
        match self.family {
            Family::Hardness(plan) => Some((plan.cell, plan.blocks)),
            Family::Moisture(plan) => Some((plan.cell, plan.materials)),
            Family::Ultrasonic(plan) => Some((plan.cell, plan.blocks)),
            Family::Coating(plan) => Some((plan.cell, plan.foils)),
            Family::Filters(plan) => Some((plan.cell, plan.filters)),
            Family::Assay(plan) => Some((plan.cell, plan.solutions)),
            Family::Reflection(plan) => Some((plan.cell, plan.pieces)),
            _ => None,
        }
    }

    /// Whether rounding is removed with small weights.
    pub fn added_weights(&self) -> bool {
        matches!(self.family, Family::Scale { added_weights: true, .. })
    }

    /// How often it is due: what drifts slowly is checked once a week.
    pub fn due_rule(&self) -> DueRule {
        match self.family {
            Family::Scale { .. } => DueRule::EachShift,
            Family::Gauge(plan) => plan.due,
            Family::Filters(plan) => plan.gauge.due,
            Family::Spectrum
            | Family::Hardness(_)
            | Family::Moisture(_)
            | Family::Ultrasonic(_)
            | Family::Coating(_)
            | Family::Assay(_)
            | Family::Reflection(_) => DueRule::EachWeek,
        }
    }

    /// What was found where its story is a failure, and what was done.
    pub fn remedy(&self) -> &'static str {
        match self.family {
            Family::Hardness(_) => "ball of the impact body worn flat, a new one put in",
            _ => "residue under the pan, cleaned",
        }
    }

    /// Settings of its plan, as they are stored.
    pub fn settings(&self) -> Result<Value, AppError> {
        match self.family {
            Family::Scale { class, verification_interval, pan, added_weights, heavy } => {
                let settings = weighing::Settings::V1(weighing::SettingsV1 {
                    class,
                    verification_interval: decimal(verification_interval)?,
                    stage: LimitStage::InService,
                    pan,
                    added_weights,
                    case: SETS[self.set].name.to_lowercase(),
                    around: Around {
                        preparation: scale_preparation(class),
                        cautions: scale_cautions(heavy),
                        // What can crush a foot is read line by line each time.
                        fold_cautions: !heavy,
                        closing: vec![
                            format!(
                                "Weights wiped and back in their place: {}.",
                                SETS[self.set].name.to_lowercase()
                            ),
                            "Pan clean, scale free for work.".to_owned(),
                        ],
                        ..Around::default()
                    },
                });
                serde_json::to_value(settings).map_err(fault)
            }
            Family::Gauge(plan) => serde_json::to_value(gauge_settings(plan)?).map_err(fault),
            Family::Spectrum => serde_json::to_value(super::spectra::settings()?).map_err(fault),
            Family::Hardness(plan) => {
                serde_json::to_value(super::hardness::settings(plan)?).map_err(fault)
            }
            Family::Moisture(plan) => {
                serde_json::to_value(super::moisture::settings(plan)?).map_err(fault)
            }
            Family::Filters(plan) => {
                serde_json::to_value(gauge_settings(&plan.gauge)?).map_err(fault)
            }
            Family::Reflection(plan) => {
                serde_json::to_value(super::network::settings(plan)?).map_err(fault)
            }
            Family::Assay(plan) => {
                serde_json::to_value(super::photometers::settings(plan)?).map_err(fault)
            }
            Family::Coating(plan) => {
                serde_json::to_value(super::coating::settings(plan)?).map_err(fault)
            }
            Family::Ultrasonic(plan) => {
                let settings = super::ultrasonic::settings(plan, self.resolution)?;
                serde_json::to_value(settings).map_err(fault)
            }
        }
    }
}

fn scale_cautions(heavy: bool) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    if heavy {
        lines.push(
            "Pieces of 10 kg and more: lift with two or with the hoist, back straight.".into(),
        );
        lines.push(
            "Feet clear of the drop, safety shoes on, nobody reaches under a hanging weight."
                .into(),
        );
    } else {
        lines.push("Weights in gloves or with the fork; never drop one on the pan.".into());
    }
    lines.push(
        "Sealed scales are adjusted by authorised people only; a check changes nothing.".into(),
    );
    lines
}

fn scale_preparation(class: AccuracyClass) -> Vec<String> {
    let fine = class == AccuracyClass::I;
    let warm = if fine {
        "Switched on for an hour at least."
    } else {
        "Switched on for half an hour at least."
    };
    let mut lines = vec![
        "Level, clean and free on all sides; nothing on the pan.".to_owned(),
        warm.to_owned(),
        "Loaded once to about its largest load, and emptied.".to_owned(),
    ];
    if fine {
        lines.push("Doors shut, no draught, weights as warm as the room.".to_owned());
    }
    lines
}

fn limit((form, half_width, percent): (Form, &str, &str)) -> Result<method::Limit, AppError> {
    Ok(method::Limit::both(match form {
        Form::Absolute => method::LimitForm::Absolute { half_width: decimal(half_width)? },
        Form::PercentOfRange => method::LimitForm::PercentOfRange { percent: decimal(percent)? },
        Form::LargerOf => method::LimitForm::LargerOf {
            half_width: decimal(half_width)?,
            percent: decimal(percent)?,
        },
    }))
}

fn gauge_settings(plan: &GaugePlan) -> Result<gauge::Settings, AppError> {
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    let bound = |text: &str| -> Result<Option<Bound>, AppError> {
        if text.is_empty() { Ok(None) } else { Ok(Some(Bound::Fixed(decimal(text)?))) }
    };
    let conditions = plan
        .conditions
        .iter()
        .map(|(name, unit, lower, upper, advice)| {
            Ok(method::Precondition {
                name: (*name).to_owned(),
                unit: (*unit).to_owned(),
                lower: bound(lower)?,
                upper: bound(upper)?,
                advice: (*advice).to_owned(),
                standard_temperature: false,
                half_width: None,
            })
        })
        .collect::<Result<_, AppError>>()?;
    let hysteresis_limit = plan
        .hysteresis_limit
        .map(|half_width| limit((Form::Absolute, half_width, "0")))
        .transpose()?;
    Ok(gauge::Settings::V1(gauge::SettingsV1 {
        presentation: plan.presentation,
        mean_limit: limit(plan.mean_limit)?,
        single_limit: None,
        hysteresis_limit,
        range_limit: None,
        pause_seconds: plan.pause_seconds,
        around: Around {
            settings: plan
                .settings
                .iter()
                .map(|(name, expected)| method::RequiredSetting {
                    name: (*name).to_owned(),
                    kind: Some(method::SettingKind::Exactly),
                    expected: (*expected).to_owned(),
                    by_lead: false,
                })
                .collect(),
            conditions,
            waits: plan
                .waits
                .iter()
                .map(|(what, minimum_seconds, maximum_seconds)| method::Wait {
                    what: (*what).to_owned(),
                    minimum_seconds: *minimum_seconds,
                    maximum_seconds: *maximum_seconds,
                })
                .collect(),
            cautions: lines(plan.cautions),
            preparation: lines(plan.preparation),
            closing: lines(plan.closing),
            fold_cautions: true,
            together: false,
        },
    }))
}
