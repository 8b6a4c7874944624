//! The tables as diesel sees them; a test compares them with the migrated database.
#![allow(missing_docs)]

diesel::table! { people (id) {
    id -> BigInt, sign_in -> Text, name -> Text, role -> Text, password_hash -> Text,
    active -> Bool, created_at -> Timestamptz, version -> Integer, email -> Text,
    must_change -> Bool,
} }
diesel::table! { sessions (id_hash) {
    id_hash -> Bytea, data -> Jsonb, person_id -> Nullable<BigInt>, expires_at -> Timestamptz,
} }
diesel::table! { audit_entries (id) {
    id -> BigInt, chain -> Text, sequence -> Integer, at -> Timestamptz,
    person_id -> Nullable<BigInt>, action -> Text, detail -> Jsonb,
    previous_hash -> Nullable<Bytea>, hash -> Bytea,
    tx -> Nullable<Text>,
} }
diesel::table! { sites (id) { id -> BigInt, name -> Text, zone -> Text, signal_reminder_hours -> Integer, one_lead -> Bool, } }
diesel::table! { areas (id) { id -> BigInt, site_id -> BigInt, name -> Text, walk_order -> Integer, } }
diesel::table! { shift_starts (id) {
    id -> BigInt, site_id -> BigInt, label -> Text, starts_at_local -> Time,
    days -> Array<Bool>,
} }
diesel::table! { shift_instances (id) {
    id -> BigInt, site_id -> BigInt, label -> Text, business_date -> Date,
    starts_at -> Timestamptz, ends_at -> Timestamptz, works -> Bool,
} }
diesel::table! { holidays (site_id, day) {
    site_id -> BigInt, day -> Date, name -> Text, person_id -> BigInt, at -> Timestamptz,
} }
diesel::table! { instrument_uses (id) {
    id -> BigInt, instrument_id -> BigInt, count -> Integer, lot -> Text,
    person_id -> Nullable<BigInt>, at -> Timestamptz,
} }
diesel::table! { handovers (id) {
    id -> BigInt, shift_instance_id -> BigInt, words -> Text, person_id -> BigInt,
    at -> Timestamptz,
} }
diesel::table! { round_sign_offs (shift_instance_id) {
    shift_instance_id -> BigInt, person_id -> BigInt, at -> Timestamptz, done -> Integer,
    to_go -> Integer, reason -> Text,
} }
diesel::table! { instruments (id) {
    id -> BigInt, tag -> Text, name -> Text, area_id -> BigInt, unit -> Text,
    resolution -> Numeric, maximum -> Numeric, serial -> Text, state -> Text, version -> Integer,
    range_low -> Numeric, owner -> Text, firmware -> Text, adjustable -> Bool, sealed -> Bool,
    critical -> Bool, restricted_to -> Nullable<Text>, family -> Text,
    work_low -> Nullable<Numeric>, work_high -> Nullable<Numeric>, calibration_file -> Text,
    configuration_names -> Array<Text>, configuration_values -> Array<Numeric>,
    maker -> Text, model -> Text, calibrated_until -> Nullable<Date>,
} }
diesel::table! { files (id) {
    id -> BigInt, instrument_id -> Nullable<BigInt>, certificate_id -> Nullable<BigInt>,
    check_id -> Nullable<BigInt>, name -> Text, media_type -> Text, bytes -> Bytea,
    sha256 -> Bytea, caption -> Text, person_id -> BigInt, at -> Timestamptz,
    plan_version_id -> Nullable<BigInt>,
} }
diesel::table! { evidence (id) {
    id -> BigInt, relation -> Text, row_key -> Text, hash -> Nullable<Bytea>, tx -> Text,
} }
diesel::table! { evidence_tables (relation) { relation -> Text, key_columns -> Array<Text>, } }
diesel::table! { check_orders (id) {
    id -> BigInt, plan_id -> BigInt, shift_instance_id -> BigInt, after_result -> BigInt,
    reason -> Text, person_id -> BigInt, at -> Timestamptz,
} }
diesel::table! { sign_in_attempts (id) {
    id -> BigInt, sign_in -> Text, address -> Text, fits -> Bool, at -> Timestamptz,
} }
diesel::table! { paper_sheets (id) {
    id -> BigInt, plan_version_id -> BigInt, shift_instance_id -> BigInt, idempotency_key -> Uuid,
    measured_by -> BigInt, reason -> Text, began_at -> Timestamptz, ended_at -> Timestamptz,
    typed -> Jsonb, file_id -> BigInt, entered_by -> BigInt, entered_at -> Timestamptz,
    state -> Text, decided_by -> Nullable<BigInt>, decided_at -> Nullable<Timestamptz>,
    decided_reason -> Nullable<Text>, alone -> Bool, check_id -> Nullable<BigInt>,
} }
diesel::table! { trainings (id) {
    id -> BigInt, person_id -> BigInt, method_key -> Text, trained_on -> Date,
    valid_until -> Date, note -> Text, recorded_by -> BigInt, at -> Timestamptz,
} }
diesel::table! { instrument_states (id) {
    id -> BigInt, instrument_id -> BigInt, state -> Text, restricted_to -> Nullable<Text>,
    reason -> Text, person_id -> BigInt, at -> Timestamptz, set_up_id -> Nullable<BigInt>,
} }
diesel::table! { set_ups (id) {
    id -> BigInt, instrument_id -> BigInt, name -> Text, probe -> Text, scale -> Text,
    material -> Text, in_use -> Bool, state -> Text, restricted_to -> Nullable<Text>,
} }
diesel::table! { instrument_events (id) {
    id -> BigInt, instrument_id -> BigInt, kind -> Text, at -> Timestamptz, note -> Text,
    person_id -> BigInt, applied_correction -> Nullable<Numeric>, unit -> Nullable<Text>,
    affects_measurement -> Bool, applied_gain -> Nullable<Numeric>,
} }
diesel::table! { ladder_steps (id) {
    id -> BigInt, check_id -> BigInt, rung -> Text, outcome -> Text, note -> Text,
    trial_id -> Nullable<BigInt>, person_id -> BigInt, at -> Timestamptz,
} }
diesel::table! { notices (id) {
    id -> BigInt, kind -> Text, instrument_id -> Nullable<BigInt>, check_id -> Nullable<BigInt>,
    title -> Text, words -> Text, path -> Text, at -> Timestamptz, taken_by -> Nullable<BigInt>,
    taken_at -> Nullable<Timestamptz>,
} }
diesel::table! { mails (id) {
    id -> BigInt, notice_id -> BigInt, person_id -> BigInt, recipient -> Text, subject -> Text,
    body -> Text, queued_at -> Timestamptz, sent_at -> Nullable<Timestamptz>,
    attempts -> Integer, last_error -> Nullable<Text>, next_attempt_at -> Timestamptz,
} }
diesel::table! { adjustments (id) {
    id -> BigInt, instrument_id -> BigInt, set_up_id -> BigInt, check_id -> BigInt,
    event_id -> BigInt, kind -> Text, offset_change -> Numeric, gain_change -> Numeric,
    unit -> Text, old_offset -> Numeric, old_gain -> Numeric, new_offset -> Numeric,
    new_gain -> Numeric, standard_id -> Nullable<BigInt>, authority -> Text, reason -> Text,
    performed_by -> BigInt, approved_by -> BigInt, at -> Timestamptz,
    proposed_kind -> Nullable<Text>, proposed_offset -> Nullable<Numeric>,
    proposed_gain -> Nullable<Numeric>,
} }
diesel::table! { attempts (id) {
    id -> BigInt, check_id -> BigInt, step_key -> Text, repeat -> Integer, kind -> Text,
    typed -> Text, said -> Text, person_id -> BigInt, at -> Timestamptz,
} }
diesel::table! { limit_proposals (id) {
    id -> BigInt, stream_id -> BigInt, segment_id -> BigInt, choice -> Jsonb, design -> Jsonb,
    objections -> Jsonb, reason -> Text, proposed_by -> BigInt, proposed_at -> Timestamptz,
    state -> Text, decided_by -> Nullable<BigInt>, decided_at -> Nullable<Timestamptz>,
    decided_reason -> Nullable<Text>, alone -> Bool,
} }
diesel::table! { signatures (id) {
    id -> BigInt, result_id -> BigInt, person_id -> BigInt, meaning -> Text,
    statement_hash -> Bytea, at -> Timestamptz,
} }
diesel::table! { amendments (id) {
    id -> BigInt, check_id -> BigInt, words -> Text, person_id -> BigInt, at -> Timestamptz,
} }
diesel::table! { audit_seals (id) {
    id -> BigInt, sequence -> Integer, at -> Timestamptz, entry_ids -> Array<BigInt>,
    chains -> Array<Text>, sequences -> Array<Integer>, entries_hash -> Bytea,
    previous_hash -> Nullable<Bytea>, hash -> Bytea,
    evidence_rows -> Nullable<Integer>, evidence_hash -> Nullable<Bytea>,
} }
diesel::table! { standards (id) {
    id -> BigInt, tag -> Text, name -> Text, kind -> Text, location -> Text, state -> Text,
    state_reason -> Text, version -> Integer,
} }
diesel::table! { standard_states (id) {
    id -> BigInt, standard_id -> BigInt, state -> Text, reason -> Text, person_id -> BigInt,
    at -> Timestamptz,
} }
diesel::table! { standard_lots (id) {
    id -> BigInt, standard_id -> BigInt, lot -> Text, in_use_from -> Nullable<Timestamptz>,
    in_use_until -> Nullable<Timestamptz>, expires_on -> Nullable<Date>,
    opened_at -> Nullable<Timestamptz>, open_hours -> Nullable<Integer>,
    use_kind -> Nullable<Text>, use_limit -> Nullable<Integer>, face_width -> Nullable<Numeric>,
    face_height -> Nullable<Numeric>, face_spacing -> Nullable<Numeric>,
    face_edge -> Nullable<Numeric>,
} }
diesel::table! { standard_uses (id) {
    id -> BigInt, lot_id -> BigInt, count -> Integer, place_x -> Nullable<Numeric>,
    place_y -> Nullable<Numeric>, check_id -> Nullable<BigInt>, reason -> Text,
    person_id -> BigInt, at -> Timestamptz,
} }
diesel::table! { certificates (id) {
    id -> BigInt, lot_id -> BigInt, number -> Text, version -> Integer, kind -> Text,
    issuer -> Text, issued_on -> Date, valid_from -> Date, valid_until -> Date, change -> Text,
    replaces_id -> Nullable<BigInt>,
} }
diesel::table! { certificate_acceptances (certificate_id) {
    certificate_id -> BigInt, reason -> Text, person_id -> BigInt, at -> Timestamptz,
} }
diesel::table! { crossovers (id) {
    id -> BigInt, standard_id -> BigInt, old_lot_id -> BigInt, new_lot_id -> BigInt,
    instrument_id -> BigInt, nominal -> Numeric, unit -> Text, old_errors -> Array<Numeric>,
    new_errors -> Array<Numeric>, offset_found -> Double, expanded_uncertainty -> Double,
    person_id -> BigInt, at -> Timestamptz, accepted_by -> Nullable<BigInt>,
    accepted_at -> Nullable<Timestamptz>,
} }
diesel::table! { look_backs (id) {
    id -> BigInt, standard_id -> BigInt, certificate_id -> BigInt, suspect_from -> Timestamptz,
    suspect_until -> Timestamptz, finding -> Text, opened_by -> BigInt, opened_at -> Timestamptz,
    closed_by -> Nullable<BigInt>, closed_at -> Nullable<Timestamptz>,
    conclusion -> Nullable<Text>,
} }
diesel::table! { certified_values (id) {
    id -> BigInt, certificate_id -> BigInt, piece -> Text, nominal -> Numeric,
    certified_value -> Numeric, expanded_uncertainty -> Numeric, coverage_factor -> Numeric,
    unit -> Text, temperature -> Nullable<Numeric>, non_uniformity -> Nullable<Numeric>,
    class_limit -> Bool, at_unit -> Nullable<Text>,
} }
diesel::table! { plans (id) {
    id -> BigInt, instrument_id -> BigInt, set_up_id -> BigInt, name -> Text, method_key -> Text,
    last_done_on -> Nullable<Date>,
} }
diesel::table! { plan_versions (id) {
    id -> BigInt, plan_id -> BigInt, version -> Integer, state -> Text,
    standard_id -> Nullable<BigInt>, settings -> Jsonb, minutes -> Integer, due_rule -> Text,
    created_by -> BigInt, approved_by -> Nullable<BigInt>, approved_at -> Nullable<Timestamptz>,
    standard_kind -> Nullable<Text>, unit -> Text, resolution -> Numeric, range_low -> Numeric,
    maximum -> Numeric, configuration_names -> Array<Text>, configuration_values -> Array<Numeric>,
    fixture -> Text, decision_rule -> Text, adjustment_policy -> Text, reaction -> Array<Text>,
    change_note -> Text, saves -> Integer, decision_share -> Numeric, decision_risk -> Numeric,
    coverage -> Text, addition_sources -> Array<Text>, addition_labels -> Array<Text>,
    addition_half_widths -> Array<Numeric>, addition_grows -> Array<Text>,
    due_triggers -> Array<Text>,
} }
diesel::table! { plan_points (id) {
    id -> BigInt, plan_version_id -> BigInt, sequence -> Integer, nominal -> Numeric,
    travel -> Text, place -> Text, repeats -> Integer, charted -> Bool, pieces -> Array<Text>,
    standard_id -> Nullable<BigInt>,
} }
diesel::table! { checks (id) {
    id -> BigInt, plan_version_id -> BigInt, instrument_id -> BigInt, shift_instance_id -> BigInt,
    certificate_id -> BigInt, purpose -> Text, state -> Text, opened_by -> BigInt,
    opened_at -> Timestamptz, closed_by -> Nullable<BigInt>, closed_at -> Nullable<Timestamptz>,
    void_reason -> Nullable<Text>, idempotency_key -> Uuid, held_by -> BigInt,
    late_reason -> Nullable<Text>, measured_by -> Nullable<Text>, voided_by -> Nullable<BigInt>,
    voided_at -> Nullable<Timestamptz>, counts -> Bool, beside -> Bool, late_place -> Bool,
} }
diesel::table! { check_hands (id) {
    id -> BigInt, check_id -> BigInt, from_person_id -> BigInt, to_person_id -> BigInt,
    at -> Timestamptz,
} }
diesel::table! { check_standards (check_id, place) {
    check_id -> BigInt, place -> Integer, certificate_id -> BigInt,
} }
diesel::table! { readings (id) {
    id -> BigInt, check_id -> BigInt, step_key -> Text, repeat -> Integer, kind -> Text,
    typed -> Text, indication -> Nullable<Numeric>, unit -> Nullable<Text>,
    added -> Nullable<Numeric>, far_confirmed -> Bool, source -> Text, person_id -> BigInt,
    measured_at -> Timestamptz, received_at -> Timestamptz, idempotency_key -> Uuid,
    replaces_id -> Nullable<BigInt>, reason -> Nullable<Text>,
    ready_at -> Nullable<Timestamptz>, latest_at -> Nullable<Timestamptz>,
    seconded_by -> Nullable<BigInt>,
} }
diesel::table! { culprit_findings (id) {
    id -> BigInt, at -> Timestamptz, check_id -> BigInt, finding -> Text, none -> Double,
    reads -> Integer, explanations -> Jsonb, instrument_id -> Nullable<BigInt>,
    standard_id -> Nullable<BigInt>, differs_by -> Nullable<Double>, checks -> Nullable<Integer>,
} }
diesel::table! { jobs (id) {
    id -> BigInt, work -> Jsonb, path -> Text, asked_by -> BigInt, asked_at -> Timestamptz, state -> Text,
    done -> Integer, total -> Integer, place -> BigInt, turn_at -> Timestamptz, attempts -> Integer, trouble -> Nullable<Text>,
    leased_until -> Nullable<Timestamptz>, finished_at -> Nullable<Timestamptz>,
} }
diesel::table! { traces (reading_id) {
    reading_id -> BigInt, points -> Integer, axis_unit -> Text, axis -> Array<Double>,
    digest -> Bytea, name -> Text, bytes -> Bytea, sha256 -> Bytea,
} }
diesel::table! { trace_channels (reading_id, sequence) {
    reading_id -> BigInt, sequence -> Integer, points -> Integer, name -> Text, unit -> Text,
    re -> Array<Double>, im -> Nullable<Array<Double>>,
} }
diesel::table! { reading_voids (reading_id) {
    reading_id -> BigInt, voided_by_id -> BigInt, reason -> Text,
} }
diesel::table! { results (id) {
    id -> BigInt, check_id -> BigInt, version -> Integer, plan_version_id -> BigInt,
    certificate_id -> BigInt, method_key -> Text, method_version -> Integer,
    table_edition -> Text, inputs_hash -> Bytea, conforms -> Text, control -> Text,
    action -> Text, repeat_state -> Text, verdict -> Jsonb, computed_at -> Timestamptz,
    computed_by -> BigInt,
} }
diesel::table! { certificate_reviews (certificate_id) {
    certificate_id -> BigInt, entered_by -> BigInt, entered_at -> Timestamptz, finding -> Nullable<Text>,
    suspect_from -> Nullable<Timestamptz>, state -> Text, decided_by -> Nullable<BigInt>,
    decided_at -> Nullable<Timestamptz>, decided_reason -> Nullable<Text>, alone -> Bool,
} }
diesel::table! { missed_reasons (plan_id, window_from) {
    plan_id -> BigInt, window_from -> Timestamptz, reason -> Text, person_id -> BigInt, at -> Timestamptz,
} }
diesel::table! { plan_rejections (plan_version_id, saves) {
    plan_version_id -> BigInt, saves -> Integer, reason -> Text, person_id -> BigInt, at -> Timestamptz,
} }
diesel::table! { characteristics (id) {
    id -> BigInt, result_id -> BigInt, sequence -> Integer, key -> Text, label -> Text,
    kind -> Text, nominal -> Nullable<Numeric>, unit -> Text, decimals -> Integer,
    singles -> Array<Numeric>, reference_value -> Nullable<Numeric>,
    lower_tolerance_limit -> Nullable<Numeric>, upper_tolerance_limit -> Nullable<Numeric>,
    lower_single_limit -> Nullable<Numeric>, upper_single_limit -> Nullable<Numeric>,
    reference_standard_uncertainty -> Double, reading_standard_uncertainty -> Double,
    indicative -> Bool, charted -> Bool, conformity -> Text, decision_rule -> Text,
    share_used -> Nullable<Double>, worst_single_share -> Nullable<Double>,
    expanded_uncertainty -> Double, coverage_factor -> Double,
    capability_index -> Nullable<Double>, mean -> Nullable<Numeric>,
} }
diesel::table! { budgets (result_id, key) {
    result_id -> BigInt, key -> Text, sources -> Array<Text>, labels -> Array<Text>,
    standard_uncertainties -> Array<Double>, degrees_of_freedom -> Array<Double>,
    coverage -> Text, statement -> Nullable<Text>, guard_band -> Double, guard_basis -> Jsonb,
    lower_acceptance_limit -> Nullable<Numeric>, upper_acceptance_limit -> Nullable<Numeric>,
    conformance_probability -> Nullable<Double>, counted -> Nullable<Array<Bool>>,
    single_guard_band -> Double,
} }
diesel::table! { chart_streams (id) {
    id -> BigInt, instrument_id -> BigInt, set_up_id -> BigInt, method_key -> Text,
    characteristic_key -> Text, label -> Text, nominal -> Nullable<Numeric>, unit -> Text,
    decimals -> Integer, interval_seconds -> BigInt, derived -> Nullable<Text>,
    ended_at -> Nullable<Timestamptz>, is_indication -> Nullable<Bool>,
} }
diesel::table! { segments (id) {
    id -> BigInt, stream_id -> BigInt, ordinal -> Integer, opened_at -> Timestamptz,
    cause -> Text, event_id -> Nullable<BigInt>, design -> Nullable<Jsonb>,
    sigma_source -> Nullable<Text>, state -> Jsonb, settled -> Nullable<Text>,
    settled_by -> Nullable<BigInt>, settled_at -> Nullable<Timestamptz>, settled_reason -> Text,
    design_group -> Nullable<Text>,
} }
diesel::table! { baselines (id) {
    id -> BigInt, segment_id -> BigInt, name -> Text, first_at -> Timestamptz,
    last_at -> Timestamptz, points -> Integer, center_line -> Double,
    lower_control_limit -> Double, upper_control_limit -> Double, sigma -> Double,
    multiplier -> Double, sigma_source -> Text, mean_moving_range -> Double,
    frozen_by -> BigInt, frozen_at -> Timestamptz, reason -> Text, basis -> Text,
    excluded -> Integer, review_due_at -> Nullable<Timestamptz>, shown -> Jsonb,
    countersigned_by -> Nullable<BigInt>, countersigned_reason -> Nullable<Text>,
    alone -> Bool,
} }
diesel::table! { chart_blocks (segment_id, block) {
    segment_id -> BigInt, block -> BigInt, first_at -> Timestamptz, last_at -> Timestamptz,
    count -> BigInt, least -> Double, most -> Double, mean -> Double, ewma -> Nullable<Double>,
    std_dev -> Nullable<Double>, ewma_half_width -> Nullable<Double>,
    center_line -> Nullable<Double>, lower_control_limit -> Nullable<Double>,
    upper_control_limit -> Nullable<Double>, lower_tolerance_limit -> Nullable<Double>,
    upper_tolerance_limit -> Nullable<Double>, provisional -> Bool,
} }
diesel::table! { chart_points (id) {
    id -> BigInt, stream_id -> BigInt, segment_id -> BigInt, check_id -> BigInt,
    certificate_id -> BigInt, ordinal -> Nullable<BigInt>, measured_at -> Timestamptz,
    value -> Double, conformity -> Text, lower_tolerance_limit -> Nullable<Double>,
    upper_tolerance_limit -> Nullable<Double>, center_line -> Nullable<Double>,
    lower_control_limit -> Nullable<Double>, upper_control_limit -> Nullable<Double>,
    ewma -> Nullable<Double>, ewma_half_width -> Nullable<Double>, provisional -> Bool,
    firings -> Jsonb, advisory -> Jsonb, signalled -> Bool, withdrawn -> Bool,
    excluded -> Bool, readings -> Integer, std_dev -> Nullable<Double>,
    reading_range -> Nullable<Double>, lower_spread_limit -> Nullable<Double>,
    upper_spread_limit -> Nullable<Double>, standardised -> Nullable<Double>,
    cusum_above -> Nullable<Double>, cusum_below -> Nullable<Double>,
    temperature -> Nullable<Double>,
} }
diesel::table! { point_marks (id) {
    id -> BigInt, point_id -> BigInt, kind -> Text, words -> Text, person_id -> BigInt,
    at -> Timestamptz,
} }
diesel::table! { signals (id) {
    id -> BigInt, stream_id -> BigInt, segment_id -> BigInt, side -> Nullable<Text>,
    opened_ordinal -> BigInt, opened_at -> Timestamptz, last_evidence_at -> Timestamptz,
    evidence -> Integer, state -> Text, cause_id -> Nullable<BigInt>, touched_at -> Timestamptz,
    owner_id -> Nullable<BigInt>, due_on -> Nullable<Date>,
} }
diesel::table! { signal_causes (id) {
    id -> BigInt, name -> Text, added_by -> Nullable<BigInt>, added_at -> Nullable<Timestamptz>,
    retired_by -> Nullable<BigInt>, retired_at -> Nullable<Timestamptz>,
} }
diesel::table! { signal_steps (id) {
    id -> BigInt, signal_id -> BigInt, step -> Text, words -> Text, cause_id -> Nullable<BigInt>,
    person_id -> Nullable<BigInt>, at -> Timestamptz,
} }
diesel::table! { imports (id) {
    id -> BigInt, kind -> Text, file_name -> Text, bytes -> Bytea, sha256 -> Bytea,
    person_id -> BigInt, at -> Timestamptz, state -> Text, lines -> Nullable<Integer>,
    done_at -> Nullable<Timestamptz>, withdrawn_by -> Nullable<BigInt>,
    withdrawn_at -> Nullable<Timestamptz>, reason -> Text, reading -> Nullable<Jsonb>, refused -> Text,
} }
diesel::table! { trail_looks (id) {
    id -> BigInt, asked_by -> BigInt, at -> Timestamptz, look -> Jsonb, finished_at -> Nullable<Timestamptz>,
} }
diesel::table! { reports (id) {
    id -> BigInt, instrument_id -> BigInt, from_day -> Date, until_day -> Date, asked_by -> BigInt,
    at -> Timestamptz, body -> Nullable<Jsonb>, sha256 -> Nullable<Bytea>, finished_at -> Nullable<Timestamptz>,
} }
diesel::table! { earlier_values (id) {
    id -> BigInt, import_id -> BigInt, line -> Integer, instrument_id -> BigInt,
    set_up_id -> BigInt, characteristic_key -> Text, measured_at -> Timestamptz,
    value -> Numeric, unit -> Text, person -> Text, remark -> Text,
} }
diesel::table! { program_keys (id) {
    id -> BigInt, name -> Text, key_hash -> Bytea, made_by -> BigInt, made_at -> Timestamptz,
    last_used_at -> Nullable<Timestamptz>, ended_by -> Nullable<BigInt>,
    ended_at -> Nullable<Timestamptz>, station -> Bool, asked_at -> Nullable<Timestamptz>,
} }
diesel::table! { instrument_links (instrument_id) {
    instrument_id -> BigInt, station_id -> Nullable<BigInt>, address -> Text, link -> Jsonb, in_use -> Bool,
    version -> Integer, changed_by -> BigInt, changed_at -> Timestamptz,
} }
diesel::table! { link_turns (instrument_id) {
    instrument_id -> BigInt, turn -> Uuid, person_id -> BigInt, check_id -> Nullable<BigInt>,
    began_at -> Timestamptz, ends_at -> Timestamptz, station_id -> Nullable<BigInt>, address -> Text, link -> Jsonb,
    taken_at -> Nullable<Timestamptz>, answered_at -> Nullable<Timestamptz>, answer -> Nullable<Bytea>,
    trouble -> Nullable<Text>,
} }
diesel::table! { captures (id) {
    id -> BigInt, check_id -> BigInt, step_key -> Text, repeat -> Integer, entry_key -> Uuid, person_id -> BigInt,
    at -> Timestamptz, address -> Text, station -> Text, typed -> Text, bytes -> Bytea, sha256 -> Bytea,
} }
diesel::joinable!(instrument_links -> instruments (instrument_id));
diesel::joinable!(captures -> people (person_id));

diesel::joinable!(imports -> people (person_id));
diesel::joinable!(trail_looks -> people (asked_by));
diesel::joinable!(reports -> people (asked_by));
diesel::joinable!(reports -> instruments (instrument_id));
diesel::joinable!(earlier_values -> imports (import_id));
diesel::joinable!(earlier_values -> instruments (instrument_id));
diesel::joinable!(sessions -> people (person_id));
diesel::joinable!(areas -> sites (site_id));
diesel::joinable!(instruments -> areas (area_id));
diesel::joinable!(plans -> instruments (instrument_id));
diesel::joinable!(plans -> set_ups (set_up_id));
diesel::joinable!(plan_versions -> plans (plan_id));
diesel::joinable!(plan_versions -> standards (standard_id));
diesel::joinable!(check_standards -> certificates (certificate_id));
diesel::joinable!(checks -> plan_versions (plan_version_id));
diesel::joinable!(checks -> instruments (instrument_id));
diesel::joinable!(checks -> shift_instances (shift_instance_id));
diesel::joinable!(checks -> certificates (certificate_id));
diesel::joinable!(certificates -> standard_lots (lot_id));
diesel::joinable!(standard_lots -> standards (standard_id));
diesel::joinable!(check_orders -> people (person_id));
diesel::joinable!(paper_sheets -> plan_versions (plan_version_id));
diesel::joinable!(readings -> checks (check_id));
diesel::joinable!(readings -> people (person_id));
diesel::joinable!(attempts -> people (person_id));
diesel::joinable!(attempts -> checks (check_id));
diesel::joinable!(results -> checks (check_id));
diesel::joinable!(characteristics -> results (result_id));
diesel::joinable!(budgets -> results (result_id));
diesel::joinable!(certificate_reviews -> certificates (certificate_id));
diesel::joinable!(plan_rejections -> people (person_id));
diesel::joinable!(missed_reasons -> people (person_id));
diesel::joinable!(handovers -> people (person_id));
diesel::joinable!(round_sign_offs -> people (person_id));
diesel::joinable!(ladder_steps -> people (person_id));
diesel::joinable!(adjustments -> instruments (instrument_id));
diesel::joinable!(signatures -> people (person_id));
diesel::joinable!(amendments -> people (person_id));
diesel::joinable!(chart_streams -> instruments (instrument_id));
diesel::joinable!(segments -> chart_streams (stream_id));
diesel::joinable!(point_marks -> chart_points (point_id));
diesel::joinable!(point_marks -> people (person_id));
diesel::joinable!(signals -> chart_streams (stream_id));
diesel::joinable!(signal_steps -> signals (signal_id));
diesel::joinable!(signal_steps -> people (person_id));
diesel::joinable!(traces -> readings (reading_id));
diesel::joinable!(chart_points -> segments (segment_id));
diesel::joinable!(chart_points -> checks (check_id));
diesel::joinable!(chart_points -> certificates (certificate_id));

diesel::allow_tables_to_appear_in_same_query!(
    attempts,
    check_orders,
    paper_sheets,
    limit_proposals,
    imports,
    trail_looks,
    reports,
    program_keys,
    instrument_links,
    link_turns,
    captures,
    earlier_values,
    people,
    files,
    trainings,
    standard_states,
    standard_uses,
    certificate_acceptances,
    crossovers,
    look_backs,
    check_hands,
    check_standards,
    sessions,
    audit_entries,
    sites,
    areas,
    shift_starts,
    shift_instances,
    holidays,
    instrument_uses,
    handovers,
    round_sign_offs,
    instruments,
    set_ups,
    instrument_states,
    instrument_events,
    ladder_steps,
    notices,
    mails,
    adjustments,
    signatures,
    amendments,
    audit_seals,
    standards,
    standard_lots,
    certificates,
    certified_values,
    plans,
    plan_versions,
    plan_points,
    certificate_reviews,
    plan_rejections,
    missed_reasons,
    checks,
    readings,
    reading_voids,
    traces,
    trace_channels,
    results,
    characteristics,
    budgets,
    chart_streams,
    segments,
    baselines,
    chart_points,
    point_marks,
    signals,
    signal_causes,
    signal_steps,
);
