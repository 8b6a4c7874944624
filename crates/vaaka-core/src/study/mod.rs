//! The baseline study: what a lead looks at before limits are frozen, and what freezing them would have
//! done in the past.

mod back_test;
mod capability;
mod objection;

pub use back_test::{BackTest, BackTestSegment, Fault, RaisedSignal, back_test};
pub use capability::{Capability, capability};
pub use objection::{Around, MATTERS, NoReason, Objection, TOLD, is_reason};

use std::collections::{BTreeMap, BTreeSet};

use jiff::{SignedDuration, Timestamp};
use thiserror::Error;

use crate::chart::{
    BaselineStudy, ChartDesign, ChartPoint, Components, Criteria, CusumDesign, EwmaDesign, Firing,
    FromBaseline, LimitBasis, LimitError, MINIMUM_BASELINE_POINTS, Scatter, Spread, SpreadDesign,
    evaluate, study_baseline,
};
use crate::stats::{
    Components as Groups, Normality, StatsError, Step, Trend, anderson_darling,
    lag_one_autocorrelation, mean, sample_std_dev, step, trend, variance_components,
};

/// A point as the study sees it.
#[derive(Debug, Clone, PartialEq)]
pub struct StudyPoint {
    /// When it was measured.
    pub measured_at: Timestamp,
    /// Plotted value.
    pub value: f64,
    /// Readings that it is a mean of.
    pub readings: u32,
    /// Their scatter.
    pub scatter: Option<Scatter>,
    /// Segment of the chart.
    pub segment: i64,
    /// Which shift, as a number that no two shifts share; none for values from before.
    pub shift: Option<i64>,
    /// Kind of the shift: its label.
    pub shift_kind: String,
    /// Who measured.
    pub person: String,
    /// Left out, because it has an assigned cause.
    pub excluded: bool,
}

/// What surrounds the points.
#[derive(Debug, Clone, PartialEq)]
pub struct StudyInput<'a> {
    /// The points of the chosen period, oldest first.
    pub points: &'a [StudyPoint],
    /// Usual distance between checks.
    pub interval: SignedDuration,
    /// Resolution of the plotted value.
    pub resolution: f64,
    /// Half-width of the proposed limits, in sigmas.
    pub multiplier: f64,
    /// Kinds of shift in which this check is due.
    pub shift_kinds: &'a [String],
    /// People who make this check as a rule.
    pub regulars: &'a [String],
}

/// The points of one technician, or of one kind of shift.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// Name.
    pub name: String,
    /// Points.
    pub points: usize,
    /// Their mean.
    pub mean: f64,
    /// Their standard deviation; none for a single one.
    pub std_dev: Option<f64>,
}

/// Groups beside each other.
#[derive(Debug, Clone, PartialEq)]
pub struct Difference {
    /// The groups, by name.
    pub groups: Vec<Group>,
    /// One-way analysis of variance; none where there is nothing to compare.
    pub test: Option<Groups>,
}

impl Difference {
    /// Whether the groups differ, at 1 %: many charts are looked at, and one in a hundred is enough.
    #[must_use]
    pub fn is_marked(&self) -> bool {
        self.test.is_some_and(|test| test.probability < 0.01)
    }
}

/// Why a period makes no baseline.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum StudyFault {
    /// Nothing is left.
    #[error("no point is left in this period: choose a longer one, or take points back in")]
    Nothing,
    /// Too few shifts.
    #[error("{got} different shifts are in this period, at least {required} are needed")]
    TooFewShifts {
        /// Found.
        got: usize,
        /// Needed.
        required: usize,
    },
    /// A kind of shift is missing.
    #[error("no check of the {kind} shift is among them, and it is made there too")]
    ShiftKindMissing {
        /// Which.
        kind: String,
    },
    /// A regular technician is missing.
    #[error("no check by {name} is among them, who makes this check as a rule")]
    RegularMissing {
        /// Who.
        name: String,
    },
    /// No limits can be formed.
    #[error("{0}")]
    Limits(LimitError),
    /// A value that is no number.
    #[error("{0}")]
    Statistic(StatsError),
}

/// What is to be said about a baseline, without forbidding it.
#[derive(Debug, Clone, PartialEq)]
pub enum Caution {
    /// Points lie beyond the limits that they themselves propose, or make a pattern.
    Unstable {
        /// How many points.
        points: usize,
    },
    /// The values are not normal.
    NotNormal {
        /// Probability of values as far from normal, were they normal.
        probability: f64,
    },
    /// Neighbouring checks resemble each other.
    Autocorrelated {
        /// Lag-one autocorrelation.
        r: f64,
    },
    /// The resolution is coarse beside the spread.
    Coarse {
        /// Sigma over resolution.
        steps: f64,
    },
    /// The resolution sets the limits.
    Floor,
    /// The period holds more than one segment.
    SeveralSegments {
        /// How many.
        segments: usize,
    },
    /// Technicians have different levels.
    TechniciansDiffer,
    /// Kinds of shift have different levels.
    ShiftsDiffer,
    /// Much was left out.
    ManyExcluded {
        /// How many.
        points: usize,
    },
    /// Values from before this program are among them, of which nobody knows shift or person.
    FromBefore {
        /// How many.
        points: usize,
    },
    /// Two points have one time.
    SameInstant,
}

/// What a period comes to.
#[derive(Debug, Clone, PartialEq)]
pub struct Study {
    /// Points used.
    pub used: usize,
    /// Points left out.
    pub excluded: usize,
    /// Different shifts.
    pub shifts: usize,
    /// First and last point used.
    pub period: Option<(Timestamp, Timestamp)>,
    /// Proposed limits; none where no limits can be formed.
    pub limits: Option<BaselineStudy>,
    /// Anderson-Darling; none for too few points or without spread.
    pub normality: Option<Normality>,
    /// Lag-one autocorrelation.
    pub autocorrelation: Option<f64>,
    /// |r| beyond which it counts, 2/√n.
    pub autocorrelation_limit: f64,
    /// The robust trend of the period.
    pub trend: Option<Trend>,
    /// The robust step of the period.
    pub step: Option<Step>,
    /// Sigma over resolution; none without a resolution.
    pub steps: Option<f64>,
    /// Between and within checks, where readings were repeated.
    pub components: Option<Components>,
    /// Degrees of freedom of what was pooled within checks, Σ(nᵢ − 1).
    pub within_degrees_of_freedom: Option<f64>,
    /// What the proposed limits and both named rule sets say of the period itself: place among the points
    /// used, and what fired.
    pub unstable: Vec<(usize, Firing)>,
    /// By technician.
    pub technicians: Difference,
    /// By kind of shift.
    pub shift_kinds: Difference,
    /// Why nothing can be frozen.
    pub faults: Vec<StudyFault>,
    /// What is to be said.
    pub cautions: Vec<Caution>,
}

/// Studies a period.
#[must_use]
pub fn study(input: &StudyInput<'_>) -> Study {
    let used: Vec<&StudyPoint> = input.points.iter().filter(|point| !point.excluded).collect();
    let values: Vec<f64> = used.iter().map(|point| point.value).collect();
    let excluded = input.points.len() - used.len();
    let shifts = shifts_of(&used, input.interval);
    let (mut faults, mut cautions) = (Vec::new(), Vec::new());
    coverage(input, &used, shifts, &mut faults);
    let runs = runs(&used, input.interval);
    let slices: Vec<&[f64]> = runs.iter().map(Vec::as_slice).collect();
    let limits = match study_baseline(&slices, input.multiplier, input.resolution) {
        Ok(limits) => Some(limits),
        // Said above in the words of shifts.
        Err(
            LimitError::TooFewShifts { .. } | LimitError::Stats(StatsError::TooFewPoints { .. }),
        ) => None,
        Err(error) => {
            faults.push(StudyFault::Limits(error));
            None
        }
    };
    let normality = anderson_darling(&values).ok();
    let autocorrelation = lag_one_autocorrelation(&values).ok().filter(|r| r.is_finite());
    let autocorrelation_limit = 2.0 / (values.len().max(1) as f64).sqrt();
    let components = components(&used, input.resolution);
    let unstable =
        limits.as_ref().map_or_else(Vec::new, |limits| stability(limits, &used, input.interval));
    let by = |name: fn(&StudyPoint) -> &str| difference(&used, name);
    let (technicians, shift_kinds) = (by(|point| &point.person), by(|point| &point.shift_kind));
    let steps = limits
        .as_ref()
        .filter(|_| input.resolution > 0.0)
        .map(|limits| limits.limits.sigma / input.resolution);
    let places: BTreeSet<usize> = unstable.iter().map(|(place, _)| *place).collect();
    if !places.is_empty() {
        cautions.push(Caution::Unstable { points: places.len() });
    }
    if let Some(normality) = normality.filter(|normality| normality.probability < 0.01) {
        cautions.push(Caution::NotNormal { probability: normality.probability });
    }
    if let Some(r) = autocorrelation.filter(|r| r.abs() > autocorrelation_limit) {
        cautions.push(Caution::Autocorrelated { r });
    }
    if limits.as_ref().is_some_and(|limits| limits.limits.resolution_floor) {
        cautions.push(Caution::Floor);
    } else if let Some(steps) = steps.filter(|steps| *steps < 1.0) {
        cautions.push(Caution::Coarse { steps });
    }
    let segments: BTreeSet<i64> = used.iter().map(|point| point.segment).collect();
    if segments.len() > 1 {
        cautions.push(Caution::SeveralSegments { segments: segments.len() });
    }
    if technicians.is_marked() {
        cautions.push(Caution::TechniciansDiffer);
    }
    if shift_kinds.is_marked() {
        cautions.push(Caution::ShiftsDiffer);
    }
    if excluded * 10 > input.points.len() {
        cautions.push(Caution::ManyExcluded { points: excluded });
    }
    let before = used.iter().filter(|point| point.shift.is_none()).count();
    if before > 0 {
        cautions.push(Caution::FromBefore { points: before });
    }
    if used.windows(2).any(|pair| pair[0].measured_at == pair[1].measured_at) {
        cautions.push(Caution::SameInstant);
    }
    Study {
        used: used.len(),
        excluded,
        shifts,
        period: used.first().zip(used.last()).map(|(a, b)| (a.measured_at, b.measured_at)),
        limits,
        normality,
        autocorrelation,
        autocorrelation_limit,
        trend: trend(&values).ok(),
        step: step(&values).ok(),
        steps,
        components,
        within_degrees_of_freedom: components
            .map(|_| used.iter().map(|point| f64::from(point.readings.saturating_sub(1))).sum()),
        unstable,
        technicians,
        shift_kinds,
        faults,
        cautions,
    }
}

/// Different shifts. Of values from before nobody knows the shift: each stretch of one interval is one.
fn shifts_of(used: &[&StudyPoint], interval: SignedDuration) -> usize {
    let seconds = interval.as_secs().max(1);
    let shifts: BTreeSet<(bool, i64)> = used
        .iter()
        .map(|point| match point.shift {
            Some(shift) => (true, shift),
            None => (false, point.measured_at.as_second().div_euclid(seconds)),
        })
        .collect();
    shifts.len()
}

fn coverage(
    input: &StudyInput<'_>,
    used: &[&StudyPoint],
    shifts: usize,
    faults: &mut Vec<StudyFault>,
) {
    if used.is_empty() {
        faults.push(StudyFault::Nothing);
        return;
    }
    if let Some(index) = used.iter().position(|point| !point.value.is_finite()) {
        faults.push(StudyFault::Statistic(StatsError::NotFinite { index }));
    }
    if shifts < MINIMUM_BASELINE_POINTS {
        faults.push(StudyFault::TooFewShifts { got: shifts, required: MINIMUM_BASELINE_POINTS });
    }
    for kind in input.shift_kinds {
        if !used.iter().any(|point| point.shift_kind == *kind) {
            faults.push(StudyFault::ShiftKindMissing { kind: kind.clone() });
        }
    }
    for name in input.regulars {
        if !used.iter().any(|point| point.person == *name) {
            faults.push(StudyFault::RegularMissing { name: name.clone() });
        }
    }
}

/// Stretches over which a moving range may be taken: not over a gap of more than three intervals, an
/// excluded point or a new segment.
fn runs(used: &[&StudyPoint], interval: SignedDuration) -> Vec<Vec<f64>> {
    let longest = interval.saturating_mul(3);
    let mut runs: Vec<Vec<f64>> = Vec::new();
    let mut last: Option<&StudyPoint> = None;
    for point in used {
        let breaks = last.is_none_or(|last| {
            point.measured_at.duration_since(last.measured_at) > longest
                || point.segment != last.segment
        });
        match runs.last_mut() {
            Some(run) if !breaks => run.push(point.value),
            _ => runs.push(vec![point.value]),
        }
        last = Some(point);
    }
    runs
}

/// σ_w² pooled over the checks with their own numbers of readings, σ_b² = max(0, s²_means − σ_w²/n̄), n̄ the
/// harmonic mean of the numbers. None where nothing was repeated.
fn components(used: &[&StudyPoint], resolution: f64) -> Option<Components> {
    let (mut squares, mut freedom, mut inverse, mut repeated) = (0.0, 0.0, 0.0, 0.0);
    for point in used.iter().filter(|point| point.readings > 1) {
        let scatter = point.scatter?;
        let own = f64::from(point.readings - 1);
        squares += own * scatter.std_dev.powi(2);
        freedom += own;
        inverse += 1.0 / f64::from(point.readings);
        repeated += 1.0;
    }
    if freedom < 1.0 || used.len() < 2 {
        return None;
    }
    let within = (squares / freedom).sqrt().max(resolution / 12.0_f64.sqrt());
    let values: Vec<f64> = used.iter().map(|point| point.value).collect();
    let total = sample_std_dev(&values).ok()?.powi(2);
    let between = (total - within.powi(2) * inverse / repeated).max(0.0).sqrt();
    let readings = (repeated / inverse).round() as u32;
    Some(Components { between, within, readings: readings.max(1) })
}

/// The period under its own proposed limits and both named sets of rules.
fn stability(
    limits: &BaselineStudy,
    used: &[&StudyPoint],
    interval: SignedDuration,
) -> Vec<(usize, Firing)> {
    let mut design = ChartDesign::from_limits(&limits.limits);
    // Trends and mixtures matter here, since the limits are to be made of these very points.
    design.raising = design.raising.or(design.advisory);
    design.advisory = Criteria::NONE;
    let points: Vec<ChartPoint> = used
        .iter()
        .map(|point| ChartPoint {
            monitored: false,
            ..ChartPoint::new(point.measured_at, point.value)
        })
        .collect();
    let (_, evaluations) = evaluate(&design, interval, &points);
    evaluations
        .iter()
        .enumerate()
        .flat_map(|(place, one)| one.firings().iter().map(move |firing| (place, firing.clone())))
        .collect()
}

fn difference(used: &[&StudyPoint], name: fn(&StudyPoint) -> &str) -> Difference {
    let mut by: BTreeMap<&str, Vec<f64>> = BTreeMap::new();
    for point in used.iter().filter(|point| !name(point).is_empty()) {
        by.entry(name(point)).or_default().push(point.value);
    }
    let groups = by
        .iter()
        .filter_map(|(name, values)| {
            Some(Group {
                name: (*name).to_owned(),
                points: values.len(),
                mean: mean(values).ok()?,
                std_dev: sample_std_dev(values).ok(),
            })
        })
        .collect();
    let slices: Vec<&[f64]> = by.values().map(Vec::as_slice).collect();
    Difference { groups, test: variance_components(&slices).ok() }
}

/// What a lead chose for a chart, beside the period.
#[derive(Debug, Clone, PartialEq)]
pub struct DesignChoice {
    /// What the limits rest on.
    pub limits: LimitChoice,
    /// Half-width of the lower limit, in sigmas.
    pub below: f64,
    /// Half-width of the upper limit, in sigmas.
    pub above: f64,
    /// The slow average.
    pub ewma: EwmaDesign,
    /// The cumulative sums.
    pub cusum: CusumDesign,
    /// How the scatter of repeated readings is charted.
    pub spread: Spread,
    /// Whether limits follow the number of readings of each check.
    pub by_readings: bool,
    /// What raises a signal.
    pub raising: Criteria,
    /// What is mentioned.
    pub advisory: Criteria,
}

/// What limits rest on, with their numbers.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum LimitChoice {
    /// The studied baseline.
    Baseline,
    /// A target and a sigma.
    Given {
        /// Centre line.
        target: f64,
        /// Sigma.
        sigma: f64,
    },
    /// No error against the certified value, with the standard's uncertainty beside a given sigma.
    Certificate {
        /// Sigma of the checks.
        sigma: f64,
        /// Standard uncertainty of the certified value, U/k.
        standard_uncertainty: f64,
    },
    /// Action lines.
    ActionLines {
        /// Lower line.
        lower: f64,
        /// Upper line.
        upper: f64,
    },
}

/// Why a design cannot be made.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum DesignFault {
    /// The period makes no baseline.
    #[error("this period makes no baseline; choose another, or give target and sigma")]
    NoBaseline,
    /// A sigma of nothing.
    #[error("a sigma of {sigma} gives limits without width: give one above zero")]
    Sigma {
        /// What was given.
        sigma: f64,
    },
    /// Lines the wrong way round.
    #[error("the lower line has to lie below the upper one")]
    Crossed,
    /// A multiplier that makes no sense.
    #[error("limits at {given} sigma: give a number from 1 to 10")]
    Multiplier {
        /// What was given.
        given: f64,
    },
}

impl Study {
    /// How sure limits from this period are; none where no limits can be formed.
    #[must_use]
    pub fn estimated(&self) -> Option<FromBaseline> {
        let limits = &self.limits.as_ref()?.limits;
        Some(FromBaseline {
            points: self.used,
            source: limits.sigma_source,
            autocorrelation: FromBaseline::resemblance(
                self.autocorrelation.unwrap_or(0.0),
                self.used,
            ),
            within_degrees_of_freedom: self.within_degrees_of_freedom,
        })
    }

    /// The design that a choice makes of this study.
    ///
    /// # Errors
    /// [`DesignFault`].
    pub fn design(
        &self,
        choice: &DesignChoice,
        resolution: f64,
    ) -> Result<ChartDesign, DesignFault> {
        for given in [choice.below, choice.above] {
            if !(1.0..=10.0).contains(&given) {
                return Err(DesignFault::Multiplier { given });
            }
        }
        if let LimitChoice::ActionLines { lower, upper } = choice.limits {
            if !(lower < upper && lower.is_finite() && upper.is_finite()) {
                return Err(DesignFault::Crossed);
            }
            return Ok(ChartDesign::action_lines(lower, (lower + upper) / 2.0, upper));
        }
        let (center, sigma, basis) = match choice.limits {
            LimitChoice::Given { target, sigma } => (target, sigma, LimitBasis::Given),
            LimitChoice::Certificate { sigma, standard_uncertainty } => {
                (0.0, sigma.hypot(standard_uncertainty), LimitBasis::Certificate)
            }
            _ => {
                let limits = self.limits.as_ref().ok_or(DesignFault::NoBaseline)?.limits;
                (limits.center_line, limits.sigma, LimitBasis::Baseline)
            }
        };
        if !(sigma > 0.0 && sigma.is_finite() && center.is_finite()) {
            return Err(DesignFault::Sigma { sigma });
        }
        // The floor holds whatever the limits rest on (RULINGS).
        let floor = resolution / 12.0_f64.sqrt();
        let floored = sigma <= floor && resolution > 0.0;
        let sigma = sigma.max(floor);
        let half = |multiplier: f64| (multiplier * sigma).max(1.5 * resolution);
        let (below, above) = (half(choice.below), half(choice.above));
        let resolution_floor =
            floored || below > choice.below * sigma || above > choice.above * sigma;
        let spread = self.components.map(|components| SpreadDesign {
            within: components.within,
            by: choice.spread,
            multiplier: choice.above.max(3.0),
        });
        Ok(ChartDesign {
            multiplier: choice.above,
            below,
            above,
            resolution_floor,
            basis,
            components: self.components.filter(|_| choice.by_readings),
            spread,
            ewma: choice.ewma,
            cusum: choice.cusum,
            raising: choice.raising,
            advisory: choice.advisory.without(choice.raising),
            estimated: self.estimated().filter(|_| basis == LimitBasis::Baseline),
            ..ChartDesign::given(center, sigma)
        })
    }
}

#[cfg(test)]
mod tests;
