//! Rows that are inserted as they are, live and by the demo world's loader alike.
#![allow(missing_docs)] // The columns say what they are, and the migrations why.

use diesel::prelude::*;
use rust_decimal::Decimal;
use serde_json::Value;
use uuid::Uuid;

use crate::ids::*;
use crate::schema::*;
use crate::types::{At, Day, WallTime};

macro_rules! row {
    ($(#[$doc:meta])* $name:ident in $table:ident { $($field:ident : $kind:ty),+ $(,)? }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Insertable, Queryable, Selectable)]
        #[diesel(table_name = $table)]
        pub struct $name { $(pub $field: $kind),+ }
    };
}

row! { #[doc = "A person."] Person in people {
    id: PersonId, sign_in: String, name: String, role: String, password_hash: String,
    active: bool, created_at: At, version: i32, email: String, must_change: bool,
} }
row! { #[doc = "A site."] Site in sites { id: SiteId, name: String, zone: String } }
row! { #[doc = "An area."] Area in areas { id: AreaId, site_id: SiteId, name: String, walk_order: i32 } }
row! { #[doc = "A start in the daily pattern."] ShiftStartRow in shift_starts {
    site_id: SiteId, label: String, starts_at_local: WallTime, days: Vec<bool>,
} }
row! { #[doc = "A shift as it really was."] Shift in shift_instances {
    id: ShiftId, site_id: SiteId, label: String, business_date: Day, starts_at: At, ends_at: At,
    works: bool,
} }
row! { #[doc = "An instrument."] Instrument in instruments {
    id: InstrumentId, tag: String, name: String, area_id: AreaId, unit: String,
    resolution: Decimal, maximum: Decimal, serial: String, state: String, version: i32,
    range_low: Decimal, owner: String, firmware: String, adjustable: bool, sealed: bool,
    critical: bool, restricted_to: Option<String>, family: String, work_low: Option<Decimal>,
    work_high: Option<Decimal>, calibration_file: String, configuration_names: Vec<String>,
    configuration_values: Vec<Decimal>, maker: String, model: String,
    calibrated_until: Option<Day>,
} }
row! { #[doc = "A change of an instrument's state."] InstrumentStateRow in instrument_states {
    instrument_id: InstrumentId, state: String, restricted_to: Option<String>, reason: String,
    person_id: PersonId, at: At, set_up_id: Option<SetUpId>,
} }
row! { #[doc = "A set-up: a cell of probe × scale × material."] SetUp in set_ups {
    id: SetUpId, instrument_id: InstrumentId, name: String, probe: String, scale: String,
    material: String, in_use: bool, state: String, restricted_to: Option<String>,
} }
row! { #[doc = "A further certificate that a check rests on, by the place of its standard in the plan."] CheckStandard in check_standards {
    check_id: CheckId, place: i32, certificate_id: CertificateId,
} }
row! { #[doc = "A training."] Training in trainings {
    person_id: PersonId, method_key: String, trained_on: Day, valid_until: Day, note: String,
    recorded_by: PersonId, at: At,
} }
row! { #[doc = "Something that happened to an instrument."] InstrumentEvent in instrument_events {
    id: EventId, instrument_id: InstrumentId, kind: String, at: At, note: String,
    person_id: PersonId, applied_correction: Option<Decimal>, unit: Option<String>,
    affects_measurement: bool, applied_gain: Option<Decimal>,
} }
row! { #[doc = "A rung of the reaction ladder that was tried."] LadderStepRow in ladder_steps {
    check_id: CheckId, rung: String, outcome: String, note: String, trial_id: Option<CheckId>,
    person_id: PersonId, at: At,
} }
row! { #[doc = "An adjustment."] AdjustmentRow in adjustments {
    instrument_id: InstrumentId, set_up_id: SetUpId, check_id: CheckId, event_id: EventId,
    kind: String, offset_change: Decimal, gain_change: Decimal, unit: String,
    old_offset: Decimal, old_gain: Decimal, new_offset: Decimal, new_gain: Decimal,
    standard_id: Option<StandardId>, authority: String, reason: String, performed_by: PersonId,
    approved_by: PersonId, at: At, proposed_kind: Option<String>,
    proposed_offset: Option<Decimal>, proposed_gain: Option<Decimal>,
} }
row! { #[doc = "What was typed and refused, and says something about instrument or standard."] AttemptRow in attempts {
    check_id: CheckId, step_key: String, repeat: i32, kind: String, typed: String, said: String,
    person_id: PersonId, at: At,
} }
row! { #[doc = "A check standard."] Standard in standards {
    id: StandardId, tag: String, name: String, kind: String, location: String, state: String,
    state_reason: String, version: i32,
} }
row! { #[doc = "A lot of a standard."] Lot in standard_lots {
    id: LotId, standard_id: StandardId, lot: String, in_use_from: Option<At>,
    in_use_until: Option<At>, expires_on: Option<Day>, opened_at: Option<At>,
    open_hours: Option<i32>, use_kind: Option<String>, use_limit: Option<i32>,
    face_width: Option<Decimal>, face_height: Option<Decimal>, face_spacing: Option<Decimal>,
    face_edge: Option<Decimal>,
} }
row! { #[doc = "A use of a lot."] StandardUse in standard_uses {
    lot_id: LotId, count: i32, place_x: Option<Decimal>, place_y: Option<Decimal>,
    check_id: Option<CheckId>, reason: String, person_id: PersonId, at: At,
} }
row! { #[doc = "A change of a standard's state."] StandardStateRow in standard_states {
    standard_id: StandardId, state: String, reason: String, person_id: PersonId, at: At,
} }
row! { #[doc = "A crossover between two lots."] CrossoverRow in crossovers {
    standard_id: StandardId, old_lot_id: LotId, new_lot_id: LotId, instrument_id: InstrumentId,
    nominal: Decimal, unit: String, old_errors: Vec<Decimal>, new_errors: Vec<Decimal>,
    offset_found: f64, expanded_uncertainty: f64, person_id: PersonId, at: At,
    accepted_by: Option<PersonId>, accepted_at: Option<At>,
} }
row! { #[doc = "A look-back over what rested on a standard."] LookBack in look_backs {
    standard_id: StandardId, certificate_id: CertificateId, suspect_from: At, suspect_until: At,
    finding: String, opened_by: PersonId, opened_at: At, closed_by: Option<PersonId>,
    closed_at: Option<At>, conclusion: Option<String>,
} }
row! { #[doc = "A certificate."] Certificate in certificates {
    id: CertificateId, lot_id: LotId, number: String, version: i32, kind: String, issuer: String,
    issued_on: Day, valid_from: Day, valid_until: Day, change: String,
    replaces_id: Option<CertificateId>,
} }
row! { #[doc = "A certified value."] CertifiedValue in certified_values {
    certificate_id: CertificateId, piece: String, nominal: Decimal, certified_value: Decimal,
    expanded_uncertainty: Decimal, coverage_factor: Decimal, unit: String,
    temperature: Option<Decimal>, non_uniformity: Option<Decimal>, class_limit: bool,
    at_unit: Option<String>,
} }
row! { #[doc = "A plan."] Plan in plans {
    id: PlanId, instrument_id: InstrumentId, set_up_id: SetUpId, name: String, method_key: String,
} }
row! { #[doc = "A version of a plan."] PlanVersion in plan_versions {
    id: PlanVersionId, plan_id: PlanId, version: i32, state: String,
    standard_id: Option<StandardId>, settings: Value, minutes: i32, due_rule: String,
    created_by: PersonId, approved_by: Option<PersonId>, approved_at: Option<At>,
    standard_kind: Option<String>, unit: String, resolution: Decimal, range_low: Decimal,
    maximum: Decimal, configuration_names: Vec<String>, configuration_values: Vec<Decimal>,
    fixture: String, decision_rule: String, adjustment_policy: String, reaction: Vec<String>,
    change_note: String, saves: i32, decision_share: Decimal, decision_risk: Decimal,
    coverage: String, addition_sources: Vec<String>, addition_labels: Vec<String>,
    addition_half_widths: Vec<Decimal>, addition_grows: Vec<String>,
    due_triggers: Vec<String>,
} }
row! { #[doc = "A point of a plan version."] PlanPointRow in plan_points {
    plan_version_id: PlanVersionId, sequence: i32, nominal: Decimal, travel: String,
    place: String, repeats: i32, charted: bool, pieces: Vec<String>,
    standard_id: Option<StandardId>,
} }
row! { #[doc = "A check."] Check in checks {
    id: CheckId, plan_version_id: PlanVersionId, instrument_id: InstrumentId,
    shift_instance_id: ShiftId, certificate_id: CertificateId, purpose: String, state: String,
    opened_by: PersonId, opened_at: At, closed_by: Option<PersonId>, closed_at: Option<At>,
    void_reason: Option<String>, idempotency_key: Uuid, held_by: PersonId,
    late_reason: Option<String>, measured_by: Option<String>, voided_by: Option<PersonId>,
    voided_at: Option<At>, counts: bool, beside: bool, late_place: bool,
} }
row! { #[doc = "A sheet of paper that was entered."] PaperSheetRow in paper_sheets {
    plan_version_id: PlanVersionId, shift_instance_id: ShiftId, idempotency_key: Uuid,
    measured_by: PersonId, reason: String, began_at: At, ended_at: At, typed: Value,
    file_id: FileId, entered_by: PersonId, entered_at: At,
} }
row! { #[doc = "A kept entry."] Reading in readings {
    id: ReadingId, check_id: CheckId, step_key: String, repeat: i32, kind: String, typed: String,
    indication: Option<Decimal>, unit: Option<String>, added: Option<Decimal>,
    far_confirmed: bool, source: String, person_id: PersonId, measured_at: At, received_at: At,
    idempotency_key: Uuid, replaces_id: Option<ReadingId>, reason: Option<String>,
    ready_at: Option<At>, latest_at: Option<At>, seconded_by: Option<PersonId>,
} }
row! { #[doc = "A result."] ResultRow in results {
    id: ResultId, check_id: CheckId, version: i32, plan_version_id: PlanVersionId,
    certificate_id: CertificateId, method_key: String, method_version: i32,
    table_edition: String, inputs_hash: Vec<u8>, conforms: String, control: String,
    action: String, repeat_state: String, verdict: Value, computed_at: At, computed_by: PersonId,
} }
row! { #[doc = "A characteristic with its judgement."] CharacteristicRow in characteristics {
    result_id: ResultId, sequence: i32, key: String, label: String, kind: String,
    nominal: Option<Decimal>, unit: String, decimals: i32, singles: Vec<Decimal>,
    reference_value: Option<Decimal>, lower_tolerance_limit: Option<Decimal>,
    upper_tolerance_limit: Option<Decimal>, lower_single_limit: Option<Decimal>,
    upper_single_limit: Option<Decimal>, reference_standard_uncertainty: f64,
    reading_standard_uncertainty: f64, indicative: bool, charted: bool, conformity: String,
    decision_rule: String, share_used: Option<f64>, worst_single_share: Option<f64>,
    expanded_uncertainty: f64, coverage_factor: f64, capability_index: Option<f64>,
    mean: Option<Decimal>,
} }
row! { #[doc = "The budget of a characteristic, and what the decision rule made of it."] BudgetRow in budgets {
    result_id: ResultId, key: String, sources: Vec<String>, labels: Vec<String>,
    standard_uncertainties: Vec<f64>, degrees_of_freedom: Vec<f64>, coverage: String,
    statement: Option<String>, guard_band: f64, guard_basis: Value,
    lower_acceptance_limit: Option<Decimal>, upper_acceptance_limit: Option<Decimal>,
    conformance_probability: Option<f64>, counted: Option<Vec<bool>>, single_guard_band: f64,
} }
row! { #[doc = "A chart stream."] Stream in chart_streams {
    id: StreamId, instrument_id: InstrumentId, set_up_id: SetUpId, method_key: String,
    characteristic_key: String, label: String, nominal: Option<Decimal>, unit: String,
    decimals: i32, interval_seconds: i64, derived: Option<String>, ended_at: Option<At>,
    is_indication: Option<bool>,
} }
row! { #[doc = "A segment of a stream."] Segment in segments {
    id: SegmentId, stream_id: StreamId, ordinal: i32, opened_at: At, cause: String,
    event_id: Option<EventId>, design: Option<Value>, sigma_source: Option<String>, state: Value,
    settled: Option<String>, settled_by: Option<PersonId>, settled_at: Option<At>,
    settled_reason: String,
} }
row! { #[doc = "A frozen baseline."] Baseline in baselines {
    segment_id: SegmentId, name: String, first_at: At, last_at: At, points: i32,
    center_line: f64, lower_control_limit: f64, upper_control_limit: f64, sigma: f64,
    multiplier: f64, sigma_source: String, mean_moving_range: f64, frozen_by: PersonId,
    frozen_at: At, reason: String, basis: String, excluded: i32, review_due_at: Option<At>,
    shown: Value, countersigned_by: Option<PersonId>, countersigned_reason: Option<String>,
    alone: bool,
} }
row! { #[doc = "A point of a chart."] Point in chart_points {
    stream_id: StreamId, segment_id: SegmentId, check_id: CheckId, certificate_id: CertificateId,
    ordinal: Option<i64>, measured_at: At, value: f64, conformity: String,
    lower_tolerance_limit: Option<f64>, upper_tolerance_limit: Option<f64>,
    center_line: Option<f64>, lower_control_limit: Option<f64>, upper_control_limit: Option<f64>,
    ewma: Option<f64>, ewma_half_width: Option<f64>, provisional: bool, firings: Value,
    advisory: Value, signalled: bool, withdrawn: bool, excluded: bool, readings: i32,
    std_dev: Option<f64>, reading_range: Option<f64>, lower_spread_limit: Option<f64>,
    upper_spread_limit: Option<f64>, standardised: Option<f64>, cusum_above: Option<f64>,
    cusum_below: Option<f64>, temperature: Option<f64>,
} }
row! { #[doc = "What somebody said of a point."] PointMark in point_marks {
    point_id: PointId, kind: String, words: String, person_id: PersonId, at: At,
} }
row! { #[doc = "A signal."] SignalRow in signals {
    stream_id: StreamId, segment_id: SegmentId, side: Option<String>, opened_ordinal: i64,
    opened_at: At, last_evidence_at: At, evidence: i32, state: String,
    cause_id: Option<CauseId>, touched_at: At, owner_id: Option<PersonId>, due_on: Option<Day>,
} }
row! { #[doc = "A step that somebody took about a signal."] SignalStepRow in signal_steps {
    signal_id: SignalId, step: String, words: String, cause_id: Option<CauseId>,
    person_id: Option<PersonId>, at: At,
} }

impl SetUp {
    /// What tells it from other cells of its instrument; none where it names nothing.
    #[must_use]
    pub fn words(&self) -> Option<String> {
        vaaka_core::instrument::cell_words(&self.probe, &self.scale, &self.material)
    }
}

impl Stream {
    /// A value of it with so many places: an error with its sign, an indication without.
    #[must_use]
    pub fn shown(&self, value: f64, decimals: u32) -> String {
        match self.is_indication {
            Some(true) => vaaka_core::quantity::show_float(value, decimals),
            _ => vaaka_core::quantity::show_signed_float(value, decimals),
        }
    }
}
