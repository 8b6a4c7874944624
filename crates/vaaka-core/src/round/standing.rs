//! How an instrument stands: one state, worst first, and one answer to every screen, label, table and program that asks.

use super::Due;
use crate::chart::Side;
use crate::instrument::ServiceState;
use crate::judgement::{Attempt, Conformity, RepeatState, repeat_state};

/// How an instrument stands, worst first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Standing {
    /// A verdict or a person has put it on hold.
    OnHold,
    /// Failed, then passed: a lead decides.
    Doubtful,
    /// Outside tolerance at its newest check.
    OutOfTolerance,
    /// Inside tolerance at its newest check, and in the guard band: not accepted.
    NotAccepted,
    /// Adjusted, and not proven since.
    Unproven,
    /// May be used for what a lead has stated only.
    Restricted,
    /// Its newest check rests on a standard that was found wrong since.
    WrongStandard,
    /// Something happened since its newest check that asks for another.
    CheckFirst,
    /// A plan of it is in force and was never checked.
    NeverChecked,
    /// No plan is in force: nothing vouches for it.
    NoPlan,
    /// A signal is active, above.
    SignalAbove,
    /// A signal is active, below.
    SignalBelow,
    /// Adjusted and proven since the newest point of its chart.
    GoodSince,
    /// Charted without limits yet.
    NoLimits,
    /// Does what it normally does.
    InControl,
    /// It is away for service, or waits for acceptance.
    OutOfUse,
    /// Gone for good.
    Retired,
}

impl Standing {
    /// All, worst first.
    pub const ALL: [Self; 17] = [
        Self::OnHold,
        Self::Doubtful,
        Self::OutOfTolerance,
        Self::NotAccepted,
        Self::Unproven,
        Self::Restricted,
        Self::WrongStandard,
        Self::CheckFirst,
        Self::NeverChecked,
        Self::NoPlan,
        Self::SignalAbove,
        Self::SignalBelow,
        Self::GoodSince,
        Self::NoLimits,
        Self::InControl,
        Self::OutOfUse,
        Self::Retired,
    ];

    /// The standing in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::OnHold => "On hold",
            Self::Doubtful => "Doubtful, a lead decides",
            Self::OutOfTolerance => "Out of tolerance",
            Self::NotAccepted => "Inside, not accepted",
            Self::Unproven => "Adjusted, not proven",
            Self::Restricted => "Restricted",
            Self::WrongStandard => "Rests on a wrong standard",
            Self::CheckFirst => "Check first",
            Self::NeverChecked => "Never checked",
            Self::NoPlan => "No plan yet",
            Self::SignalAbove => "Above normal",
            Self::SignalBelow => "Below normal",
            Self::GoodSince => "Proven since",
            Self::NoLimits => "No limits yet",
            Self::InControl => "In control",
            Self::OutOfUse => "Out of use",
            Self::Retired => "Retired",
        }
    }

    /// As [`Self::words`], but a signal with a proven drift is called by its direction.
    #[must_use]
    pub fn words_with_drift(self, per_week: Option<f64>) -> &'static str {
        match (self, per_week) {
            (Self::SignalAbove | Self::SignalBelow, Some(slope)) if slope > 0.0 => "Drifting up",
            (Self::SignalAbove | Self::SignalBelow, Some(slope)) if slope < 0.0 => "Drifting down",
            _ => self.words(),
        }
    }

    /// Whether its newest check, or what came of it, speaks against it.
    #[must_use]
    pub fn is_bad(self) -> bool {
        self <= Self::NotAccepted
    }

    /// Whether a chart says that it is not where it normally is.
    #[must_use]
    pub fn is_signal(self) -> bool {
        matches!(self, Self::SignalAbove | Self::SignalBelow)
    }

    /// Whether it may be used for what its plans prove, as far as this goes: a check may be due by the calendar beside it.
    #[must_use]
    pub fn is_usable(self) -> bool {
        matches!(
            self,
            Self::SignalAbove
                | Self::SignalBelow
                | Self::GoodSince
                | Self::NoLimits
                | Self::InControl
        )
    }
}

/// How one cell of an instrument (probe × scale × material) stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cell {
    /// Its name.
    pub name: String,
    /// How it stands, by its own state, plans and charts.
    pub standing: Standing,
}

/// The cells that an instrument may be used on, where it has several and may not be used on all of them: a check of one vouches
/// for no other. None where one sentence is true of the whole instrument.
#[must_use]
pub fn usable_cells(service: ServiceState, cells: &[Cell]) -> Option<Vec<&str>> {
    let usable = || cells.iter().filter(|cell| cell.standing.is_usable());
    let some = service == ServiceState::InService && usable().next().is_some();
    (some && usable().count() < cells.len())
        .then(|| usable().map(|cell| cell.name.as_str()).collect())
}

/// What an instrument may be used for, in the words of a label.
#[must_use]
pub fn use_words(service: ServiceState, standing: Standing) -> &'static str {
    match (service, standing) {
        (ServiceState::Out, _) => "Out of use",
        (ServiceState::Retired, _) => "Retired",
        (ServiceState::OnHold, _) => "On hold: do not use",
        (ServiceState::Restricted, _) => "Restricted",
        (_, Standing::NoPlan) => "Not proven: no plan",
        (_, Standing::WrongStandard | Standing::CheckFirst | Standing::NeverChecked) => {
            "Check it before use"
        }
        (_, standing) if standing.is_usable() => "May be used",
        _ => "Do not use: a lead decides",
    }
}

/// The newest concluded check of a plan: neither void nor a trial, nor one that stands beside another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Newest {
    /// Whether it conformed.
    pub conforms: Conformity,
    /// It failed, and only in the guard band: all inside tolerance.
    pub in_band: bool,
    /// It passed after one of its shift that failed and that nobody has settled.
    pub doubtful: bool,
    /// It proves an adjustment.
    pub as_left: bool,
    /// Rests on a standard that was found wrong, as long as the look-back is open.
    pub wrong_standard: bool,
    /// When it was over.
    pub at: jiff::Timestamp,
}

impl Newest {
    /// Whether it vouches for the instrument.
    #[must_use]
    pub fn is_good(&self) -> bool {
        matches!(self.conforms, Conformity::Pass | Conformity::NotJudged) && !self.doubtful
    }
}

/// A plan in force, as far as the standing needs it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PlanFacts {
    /// Its newest check; none before the first.
    pub newest: Option<Newest>,
    /// Its set-up was adjusted and is not proven yet.
    pub unproven: bool,
    /// What happened since that asks for a check out of turn: "after a move".
    pub occasion: Option<String>,
    /// What was decided about the cell (set-up) that it checks, by itself; the state of the whole instrument stands over it.
    pub cell: ServiceState,
}

impl PlanFacts {
    /// What this plan says of its instrument, by itself.
    #[must_use]
    pub fn standing(&self) -> Standing {
        with_service(self.of_checks(), self.cell)
    }

    fn of_checks(&self) -> Standing {
        let Some(newest) = &self.newest else { return Standing::NeverChecked };
        let mut found = Standing::InControl;
        if self.occasion.is_some() {
            found = Standing::CheckFirst;
        }
        if newest.wrong_standard {
            found = Standing::WrongStandard;
        }
        if self.unproven {
            found = Standing::Unproven;
        }
        match (newest.conforms, newest.in_band) {
            _ if newest.doubtful => found.min(Standing::Doubtful),
            (Conformity::Fail, false) => found.min(Standing::OutOfTolerance),
            (Conformity::Fail, true) => found.min(Standing::NotAccepted),
            _ => found,
        }
    }
}

/// What the newest checks of an instrument's plans say together, and when the newest of them was over; none before the first. A
/// plan whose own newest check failed is not outvoted by the good one of another; what is recorded without limits has nothing to
/// fail.
#[must_use]
pub fn vouched<'a>(
    plans: impl IntoIterator<Item = &'a PlanFacts>,
) -> Option<(Conformity, jiff::Timestamp)> {
    let checked: Vec<&Newest> = plans.into_iter().filter_map(|plan| plan.newest.as_ref()).collect();
    let good = checked.iter().all(|newest| newest.is_good() && !newest.wrong_standard);
    let at = checked.iter().map(|newest| newest.at).max()?;
    Some((if good { Conformity::Pass } else { Conformity::Fail }, at))
}

/// The newest counted point of a chart, as far as the standing needs it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LastPoint {
    /// Whether the characteristic conformed.
    pub conforms: Conformity,
    /// It failed in the guard band only.
    pub in_band: bool,
    /// Side of the signal that this point raised or confirmed.
    pub signal: Option<Side>,
    /// Whether the chart has limits.
    pub has_limits: bool,
    /// When it was measured.
    pub at: jiff::Timestamp,
}

impl LastPoint {
    /// Whether an adjustment of its set-up was proven since: what it says is over.
    fn is_over(&self, plans: &[PlanFacts]) -> bool {
        let proof = |newest: &Newest| newest.as_left && newest.is_good() && newest.at > self.at;
        plans.iter().filter_map(|plan| plan.newest.as_ref()).any(proof)
    }

    fn normal(&self, plans: &[PlanFacts]) -> Standing {
        match self.signal {
            _ if self.is_over(plans) => Standing::GoodSince,
            Some(Side::Above) => Standing::SignalAbove,
            Some(Side::Below) => Standing::SignalBelow,
            None if !self.has_limits => Standing::NoLimits,
            None => Standing::InControl,
        }
    }
}

/// What a decision of a person, or a verdict, makes of it: the worse of the two holds.
fn with_service(standing: Standing, state: ServiceState) -> Standing {
    match state {
        ServiceState::InService => standing,
        ServiceState::Restricted => standing.min(Standing::Restricted),
        ServiceState::OnHold => Standing::OnHold,
        ServiceState::Out => Standing::OutOfUse,
        ServiceState::Retired => Standing::Retired,
    }
}

/// How an instrument stands: by what was decided, by its plans in force, and by the newest points of its charts. Each set-up
/// comes with its plans and the points of its charts; whether something conforms, the newest checks say.
#[must_use]
pub fn of_instrument(service: ServiceState, set_ups: &[(&[PlanFacts], &[LastPoint])]) -> Standing {
    let planned = set_ups.iter().filter(|(plans, _)| !plans.is_empty());
    let found = planned
        .flat_map(|(plans, points)| {
            let own = plans.iter().map(PlanFacts::standing);
            own.chain(points.iter().map(|point| point.normal(plans)))
        })
        .min();
    with_service(found.unwrap_or(Standing::NoPlan), service)
}

/// How one chart stands: whether it conforms, its own newest point says; all else its instrument and set-up say.
#[must_use]
pub fn of_chart(service: ServiceState, plans: &[PlanFacts], point: Option<&LastPoint>) -> Standing {
    let cell =
        plans.iter().map(|plan| plan.cell).fold(ServiceState::InService, ServiceState::worse);
    let Some(point) = point else {
        return with_service(Standing::NeverChecked, service.worse(cell));
    };
    let own = match (point.conforms, point.in_band) {
        (Conformity::Fail, _) if point.is_over(plans) => Standing::GoodSince,
        (Conformity::Fail, false) => Standing::OutOfTolerance,
        (Conformity::Fail, true) => Standing::NotAccepted,
        _ => point.normal(plans),
    };
    let around = plans
        .iter()
        .map(PlanFacts::of_checks)
        .filter(|standing| !matches!(standing, Standing::OutOfTolerance | Standing::NotAccepted));
    with_service(around.fold(own, Standing::min), service.worse(cell))
}

/// What a plan wants in this shift, from its valid as-found runs so far.
#[must_use]
pub fn due_of(open: bool, runs: &[Attempt]) -> Due {
    match (open, runs.is_empty(), repeat_state(runs)) {
        (true, _, _) => Due::Open,
        (false, true, _) => Due::Due,
        (false, false, RepeatState::RepeatAllowed) => Due::Repeat,
        (false, false, _) => Due::Nothing,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use Conformity::{Fail, NotJudged, Pass};
    use ServiceState::{InService, OnHold, Out, Restricted, Retired};
    use jiff::Timestamp;

    fn runs(conforms: &[Conformity]) -> Vec<Attempt> {
        conforms.iter().map(|conforms| Attempt { conforms: *conforms }).collect()
    }

    fn at(hour: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + hour * 3600).unwrap()
    }

    fn newest(conforms: Conformity) -> Newest {
        Newest {
            conforms,
            in_band: false,
            doubtful: false,
            as_left: false,
            wrong_standard: false,
            at: at(1),
        }
    }

    fn plan(newest: Newest) -> PlanFacts {
        PlanFacts { newest: Some(newest), ..PlanFacts::default() }
    }

    fn point(conforms: Conformity, signal: Option<Side>) -> LastPoint {
        LastPoint { conforms, in_band: false, signal, has_limits: true, at: at(0) }
    }

    #[test]
    fn fail_then_pass_is_never_a_pass() {
        let doubtful = plan(Newest { doubtful: true, ..newest(Pass) });
        assert_eq!(doubtful.standing(), Standing::Doubtful);
        let quiet = [point(Pass, None)];
        let plans = [doubtful];
        assert_eq!(of_instrument(InService, &[(&plans, &quiet)]), Standing::Doubtful);
        assert_eq!(of_chart(InService, &plans, Some(&quiet[0])), Standing::Doubtful);
        assert_eq!(plan(newest(Fail)).standing(), Standing::OutOfTolerance);
        assert_eq!(plan(newest(Pass)).standing(), Standing::InControl);
        // What a guard band rejects is not out of tolerance.
        let band = plan(Newest { in_band: true, ..newest(Fail) });
        assert_eq!(band.standing(), Standing::NotAccepted);
        assert!(band.standing().is_bad());
    }

    #[test]
    fn what_was_proven_since_is_over() {
        let proof = plan(Newest { as_left: true, ..newest(Pass) });
        let failed = point(Fail, Some(Side::Above));
        let plans = [proof.clone()];
        assert_eq!(of_chart(InService, &plans, Some(&failed)), Standing::GoodSince);
        assert_eq!(of_instrument(InService, &[(&plans, &[failed])]), Standing::GoodSince);
        // A later point speaks again; a failed proof ends nothing; neither does one of another set-up.
        let later = LastPoint { at: at(2), ..failed };
        assert_eq!(of_chart(InService, &plans, Some(&later)), Standing::OutOfTolerance);
        let failed_proof = [plan(Newest { as_left: true, ..newest(Fail) })];
        assert_eq!(of_chart(InService, &failed_proof, Some(&failed)), Standing::OutOfTolerance);
        let other = [plan(newest(Pass))];
        assert_eq!(of_chart(InService, &other, Some(&failed)), Standing::OutOfTolerance);
        let signal = [point(Pass, Some(Side::Below))];
        let both: [(&[PlanFacts], &[LastPoint]); 2] = [(&plans, &[failed]), (&other, &signal)];
        assert_eq!(of_instrument(InService, &both), Standing::SignalBelow);
    }

    /// Every service state × what a plan can say × what a point can say.
    fn every() -> Vec<(ServiceState, PlanFacts, Option<LastPoint>)> {
        let mut all = Vec::new();
        let mut plans = vec![];
        for bits in 0..3 * 128_u32 {
            let bit = |place: u32| bits & (1 << place) != 0;
            let conforms = if bit(0) { Fail } else { Pass };
            plans.push(PlanFacts {
                cell: ServiceState::OF_CELLS[(bits / 128) as usize],
                newest: (!bit(6)).then(|| Newest {
                    in_band: bit(0) && bit(1),
                    doubtful: !bit(0) && bit(1),
                    as_left: bit(2),
                    wrong_standard: bit(3),
                    ..newest(conforms)
                }),
                unproven: bit(4),
                occasion: bit(5).then(|| "after a move".to_owned()),
            });
        }
        for service in ServiceState::ALL {
            for plan in &plans {
                all.push((service, plan.clone(), None));
                for conforms in [Pass, Fail, NotJudged] {
                    for signal in [None, Some(Side::Above), Some(Side::Below)] {
                        let has_limits = signal.is_some();
                        let point = LastPoint { has_limits, ..point(conforms, signal) };
                        all.push((service, plan.clone(), Some(point)));
                    }
                }
            }
        }
        all
    }

    /// Instrument, chart and label never contradict each other.
    #[test]
    fn every_place_says_the_same() {
        for (service, plan, point) in every() {
            let plans = [plan.clone()];
            let points: Vec<LastPoint> = point.into_iter().collect();
            let whole = of_instrument(service, &[(&plans, &points)]);
            let words = use_words(service, whole);
            assert_eq!(words == "May be used", whole.is_usable(), "{whole:?}");
            match service {
                InService => {}
                Restricted => assert!(whole <= Standing::Restricted),
                OnHold => assert_eq!(whole, Standing::OnHold),
                Out => assert_eq!(whole, Standing::OutOfUse),
                Retired => assert_eq!(whole, Standing::Retired),
            }
            let Some(point) = point else { continue };
            let chart = of_chart(service, &plans, Some(&point));
            let consistent = plan.newest.is_some_and(|newest| {
                // A point that fails has a newest check that fails, or one that came after it.
                let failed = newest.conforms == Fail && !newest.in_band;
                point.conforms != Fail || failed || newest.as_left && newest.is_good()
            });
            if consistent && chart.is_usable() && !whole.is_usable() {
                // Its own point is fine, another of the same check failed: only that is left, and it is at least restricted.
                assert!(
                    matches!(whole, Standing::OutOfTolerance | Standing::NotAccepted),
                    "{service:?} {plan:?} {point:?}: chart {chart:?}, instrument {whole:?}"
                );
                assert_eq!(service, InService);
            }
            if consistent {
                assert!(chart >= whole, "{plan:?} {point:?}: chart {chart:?}, whole {whole:?}");
            }
        }
    }

    #[test]
    fn nothing_vouches_for_what_has_no_plan_or_no_check() {
        let fine = [point(Pass, None)];
        assert_eq!(of_instrument(InService, &[]), Standing::NoPlan);
        // A chart of a plan that is in force no more proves nothing.
        assert_eq!(of_instrument(InService, &[(&[], &fine)]), Standing::NoPlan);
        let never = [PlanFacts::default()];
        assert_eq!(of_instrument(InService, &[(&never, &fine)]), Standing::NeverChecked);
        assert_eq!(of_chart(InService, &never, None), Standing::NeverChecked);
        assert_eq!(use_words(InService, Standing::NoPlan), "Not proven: no plan");
    }

    #[test]
    fn what_happened_since_and_wrong_standards_ask_for_a_check() {
        let moved = PlanFacts { occasion: Some("after a move".into()), ..plan(newest(Pass)) };
        assert_eq!(moved.standing(), Standing::CheckFirst);
        let wrong = plan(Newest { wrong_standard: true, ..newest(Pass) });
        assert_eq!(wrong.standing(), Standing::WrongStandard);
        assert_eq!(use_words(InService, wrong.standing()), "Check it before use");
        // A failure says more.
        let failed = PlanFacts { occasion: Some("after a move".into()), ..plan(newest(Fail)) };
        assert_eq!(failed.standing(), Standing::OutOfTolerance);
        assert!(Standing::ALL.is_sorted());
    }

    #[test]
    fn a_pass_on_one_cell_proves_no_other() {
        let held = [PlanFacts { cell: OnHold, ..plan(newest(Pass)) }];
        let fine = [plan(newest(Pass))];
        let (quiet, other) = ([point(Pass, None)], [point(Pass, None)]);
        let both: [(&[PlanFacts], &[LastPoint]); 2] = [(&held, &quiet), (&fine, &other)];
        assert_eq!(of_instrument(InService, &both), Standing::OnHold, "the worst speaks");
        assert_eq!(of_instrument(InService, &both[1..]), Standing::InControl);
        assert_eq!(of_chart(InService, &held, Some(&quiet[0])), Standing::OnHold);
        assert_eq!(of_chart(InService, &held, None), Standing::OnHold);
        assert_eq!(of_chart(InService, &fine, Some(&other[0])), Standing::InControl);
        // The state of the whole instrument stands over that of its cells.
        assert_eq!(of_chart(Out, &held, Some(&quiet[0])), Standing::OutOfUse);
        let failed = [PlanFacts { cell: Restricted, ..plan(newest(Fail)) }];
        assert_eq!(failed[0].standing(), Standing::OutOfTolerance);
        let restricted = [PlanFacts { cell: Restricted, ..plan(newest(Pass)) }];
        assert_eq!(of_chart(InService, &restricted, Some(&quiet[0])), Standing::Restricted);
        // What has passed long ago and was never decided about does not hide a failing point of the chart.
        let bad = point(Fail, None);
        assert_eq!(of_chart(InService, &restricted, Some(&bad)), Standing::OutOfTolerance);
    }

    #[test]
    fn usable_in_part_is_said_with_the_cells() {
        let cell = |name: &str, standing| Cell { name: name.into(), standing };
        let cells = [
            cell("steel", Standing::InControl),
            cell("brass", Standing::OnHold),
            cell("zinc", Standing::SignalAbove),
        ];
        assert_eq!(usable_cells(InService, &cells), Some(vec!["steel", "zinc"]));
        // On hold as a whole, all alike, or one cell only: one sentence is true of all of it.
        for service in [Restricted, OnHold, Out, Retired] {
            assert_eq!(usable_cells(service, &cells), None);
        }
        assert_eq!(usable_cells(InService, &cells[..1]), None);
        assert_eq!(usable_cells(InService, &cells[1..2]), None);
        assert_eq!(usable_cells(InService, &[]), None);
    }

    #[test]
    fn a_plan_is_not_outvoted_by_another() {
        assert_eq!(vouched(&[]), None);
        assert_eq!(vouched(&[PlanFacts::default()]), None);
        let later = plan(Newest { at: at(2), ..newest(Pass) });
        let good = [plan(newest(Pass)), later.clone(), PlanFacts::default()];
        assert_eq!(vouched(&good), Some((Pass, at(2))));
        // What is recorded without limits may go into service like anything else.
        assert_eq!(vouched(&[plan(newest(NotJudged))]), Some((Pass, at(1))));
        for bad in [
            newest(Fail),
            Newest { doubtful: true, ..newest(Pass) },
            Newest { wrong_standard: true, ..newest(Pass) },
        ] {
            assert_eq!(vouched(&[plan(bad), later.clone()]), Some((Fail, at(2))), "{bad:?}");
        }
    }

    #[test]
    fn one_repeat_and_no_more() {
        assert_eq!(due_of(false, &[]), Due::Due);
        assert_eq!(due_of(false, &runs(&[Fail])), Due::Repeat);
        assert_eq!(due_of(false, &runs(&[Fail, Fail])), Due::Nothing);
        assert_eq!(due_of(false, &runs(&[Fail, Pass])), Due::Nothing);
        assert_eq!(due_of(false, &runs(&[Pass])), Due::Nothing);
        // After a knock in the same shift the check is made anew, and its failure is a failure.
        assert_eq!(due_of(false, &runs(&[Pass, Fail])), Due::Repeat);
        assert_eq!(due_of(false, &runs(&[Pass, Pass])), Due::Nothing);
        assert_eq!(due_of(true, &runs(&[Fail])), Due::Open);
    }

    #[test]
    fn the_worst_chart_speaks() {
        let points = [point(Pass, None), point(Pass, Some(Side::Above))];
        let plans = [plan(newest(Pass))];
        assert_eq!(of_instrument(InService, &[(&plans, &points)]), Standing::SignalAbove);
    }
}
