//! Adjusting: the advice, the effect over the whole range before anything is recorded, the record,
//! and the way to its proof.

use std::collections::{BTreeMap, HashMap};

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::SignedDuration;
use rust_decimal::Decimal;
use rust_decimal::prelude::FromPrimitive;
use uuid::Uuid;
use vaaka_core::adjustment::{
    AdjustmentKind, Correction, Effect, ErrorPoint, Factors, PermitInput, Recommendation, effects,
    permit, propose, recommend,
};
use vaaka_core::judgement::{
    AdjustmentAdvice, AdjustmentInput, CharacteristicKind, Conformity, RepeatState,
    advise_adjustment,
};
use vaaka_core::method::{AdjustmentPolicy, Purpose};
use vaaka_core::quantity::{show_float, show_signed, show_signed_float, to_f64};
use vaaka_core::round::DueRule;
use vaaka_store::adjustments::{self, AdjustmentView};
use vaaka_store::charts::{self, ChartLevel};
use vaaka_store::checks::{self, NewCheck};
use vaaka_store::ids::{AdjustmentId, CheckId, EventId, PersonId, StandardId};
use vaaka_store::outcomes::{StoredResult, result_of};
use vaaka_store::plans::{self, PlanView};
use vaaka_store::rows::{AdjustmentRow, Check};
use vaaka_store::{At, StoreError, people, standards};

use crate::desk::{Desk, Sent};
use crate::draw::draw_effects;
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, choices};
use crate::forms::{PathId, new_key};
use crate::pages::check::start::{fits, may_run, refuse_other_open, standards_for};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

/// Word of the choice that undoes every adjustment.
const FACTORY: &str = "factory";

#[derive(Debug, Template)]
#[template(path = "adjust.html")]
struct AdjustPage {
    shell: Shell,
    id: i64,
    instrument: String,
    heading: String,
    advice: String,
    advice_state: &'static str,
    refusal: Option<String>,
    /// Why nothing is proposed.
    no_proposal: Option<String>,
    kinds: Vec<KindRow>,
    effect: String,
    effect_words: String,
    spoils: Vec<String>,
    rows: Vec<EffectRow>,
    factors: Vec<(&'static str, String)>,
    groups: Vec<Group>,
    error: Option<String>,
    caution: &'static str,
}

#[derive(Debug)]
struct KindRow {
    words: &'static str,
    offset: String,
    gain: String,
    left: String,
    advised: &'static str,
}

#[derive(Debug)]
struct EffectRow {
    label: String,
    before: String,
    level: String,
    after: String,
    tolerance: String,
    share_before: String,
    share_after: String,
    state: &'static str,
    words: &'static str,
}

const CAUTION: &str = "Nothing under pressure, load or voltage is opened for adjusting. Follow local rules and the maker's instructions. Whatever is sealed, licensed or legal for trade is adjusted by authorised people only.";

/// Everything that an adjustment is decided on.
struct Ground {
    check: Check,
    view: PlanView,
    stored: StoredResult,
    points: Vec<ErrorPoint>,
    unit: String,
    decimals: u32,
    noise: f64,
    factors: Factors,
    policy: AdjustmentPolicy,
    /// What the charts say of the level, by the keys of characteristics.
    levels: HashMap<String, ChartLevel>,
}

impl Ground {
    async fn of(desk: &mut Desk, id: i64) -> Result<Self, WebError> {
        let check = checks::by_id(&mut desk.connection, CheckId(id)).await?;
        let stored = result_of(&mut desk.connection, check.id).await?.ok_or(WebError::NotFound)?;
        let view = plans::version(&mut desk.connection, check.plan_version_id).await?;
        let factors = adjustments::factors(&mut desk.connection, view.plan.set_up_id).await?;
        let levels =
            charts::levels_of(&mut desk.connection, check.instrument_id, view.plan.set_up_id)
                .await?;
        let (points, unit, decimals, noise) = points_of(&stored, &levels);
        let policy =
            view.version.adjustment_policy.parse().unwrap_or(AdjustmentPolicy::OnlyWhenOut);
        Ok(Self { check, view, stored, points, unit, decimals, noise, factors, policy, levels })
    }

    /// May it be adjusted now, by this person?
    async fn refusal(
        &self,
        desk: &mut Desk,
        signed: &SignedIn,
        authority: &str,
    ) -> Result<Option<String>, WebError> {
        let touched =
            adjustments::last_touched(&mut desk.connection, self.check.instrument_id).await?;
        // The repeat belongs to its first run; a check of a later shift makes this one history.
        let newest = checks::newest_shift(&mut desk.connection, self.view.plan.id).await?;
        let is_history = newest.is_some_and(|shift| shift != self.check.shift_instance_id);
        let rule: DueRule = self.view.version.due_rule.parse().map_err(WebError::Inner)?;
        let soon = desk.now.checked_add(SignedDuration::from_secs(rule.interval().as_secs()));
        let crossing = self.stored.verdict.forecast.and_then(|drift| drift.crossing);
        let share = |point: &ErrorPoint| {
            let limit = if point.level >= 0.0 { point.upper } else { point.lower.map(|l| -l) };
            limit.filter(|limit| *limit > 0.0).map(|limit| point.level.abs() / limit)
        };
        let worst =
            self.points.iter().filter_map(share).fold(None, |worst: Option<f64>, own| {
                Some(worst.map_or(own, |worst| worst.max(own)))
            });
        let found = permit(&PermitInput {
            policy: self.policy,
            adjustable: self.view.instrument.adjustable,
            sealed: self.view.instrument.sealed,
            authority,
            by_lead: signed.person.role == "lead",
            full_as_found: self.check.purpose == "as_found" && self.check.state == "concluded",
            touched_since: is_history || touched.is_some_and(|at| at >= self.check.opened_at),
            conforms: self.stored.verdict.conforms,
            level_share: worst,
            crosses_soon: crossing
                .zip(soon.ok())
                .is_some_and(|(crossing, soon)| crossing.at <= soon),
        });
        Ok(found.err().map(|error| error.to_string()))
    }

    /// One far value among many is chance: nothing is proposed on it before its repeat, not even in a field.
    fn waits_for_repeat(&self) -> bool {
        self.stored.verdict.repeat == RepeatState::RepeatAllowed
    }

    fn recommended(&self) -> Option<Recommendation> {
        // Nor where no chart says what the level is: one check's own error is not it.
        if self.waits_for_repeat() || self.levels.is_empty() {
            return None;
        }
        recommend(&self.points, self.noise).ok()
    }

    /// A correction in the digits in which it is set and kept.
    fn rounded(&self, correction: Correction) -> (Decimal, Decimal) {
        let part = |value: f64, places: u32| {
            Decimal::from_f64(value).unwrap_or_default().round_dp(places).normalize()
        };
        // A tenth of a step for the offset, a millionth for the gain: finer sets nothing.
        (part(correction.offset, self.decimals + 1), part(correction.gain * 100.0, 4))
    }
}

/// Errors of a result that a correction acts on: with a reference, in one unit. Loads off centre say
/// where the load stood, not what span and zero do.
fn points_of(
    stored: &StoredResult,
    levels: &HashMap<String, ChartLevel>,
) -> (Vec<ErrorPoint>, String, u32, f64) {
    let errors: Vec<_> = stored
        .results
        .iter()
        .filter(|(c, _)| c.kind == CharacteristicKind::Error && c.reference_value.is_some())
        .collect();
    let centred = |key: &str| key.ends_with("rising") || key.ends_with("falling");
    let any = errors.iter().any(|(c, _)| centred(&c.key));
    let errors: Vec<_> = errors.into_iter().filter(|(c, _)| !any || centred(&c.key)).collect();
    let unit = errors.first().map_or(String::new(), |(c, _)| c.unit.symbol().to_owned());
    let decimals = errors.first().map_or(2, |(c, _)| c.decimals);
    let noise = errors.iter().map(|(_, r)| r.expanded_uncertainty()).fold(0.0, f64::max);
    let points = errors
        .iter()
        .filter(|(c, _)| c.unit.symbol() == unit)
        .map(|(c, _)| ErrorPoint {
            key: c.key.clone(),
            label: match levels.contains_key(&c.key) || levels.is_empty() {
                true => c.label.clone(),
                false => format!("{} (no chart: this check alone)", c.label),
            },
            reference: c.reference_value.map_or(0.0, to_f64),
            error: c.value(),
            level: levels.get(&c.key).map_or_else(|| c.value(), |known| known.estimate.level),
            lower: c.limits.and_then(|limits| limits.lower).map(to_f64),
            upper: c.limits.and_then(|limits| limits.upper).map(to_f64),
        })
        .collect::<Vec<ErrorPoint>>();
    let points = with_zero(points, stored, &unit);
    (points, unit, decimals, noise)
}

/// A scale that was set to zero before its loads has a point there, and a tolerance: a correction must not put it out.
fn with_zero(mut points: Vec<ErrorPoint>, stored: &StoredResult, unit: &str) -> Vec<ErrorPoint> {
    let back = stored.results.iter().find(|(c, _)| c.kind == CharacteristicKind::ReturnToZero);
    if let Some((c, _)) = back
        && c.unit.symbol() == unit
        && points.iter().all(|point| point.reference != 0.0)
    {
        let limit = |side: Option<Decimal>| side.map(to_f64);
        points.push(ErrorPoint {
            key: "zero".into(),
            label: "Zero".into(),
            reference: 0.0,
            error: 0.0,
            level: 0.0,
            lower: limit(c.limits.and_then(|limits| limits.lower)),
            upper: limit(c.limits.and_then(|limits| limits.upper)),
        });
    }
    points
}

/// The advice that weighs most, over all points.
fn advice(ground: &Ground) -> (String, &'static str) {
    let display = &ground.view.version;
    let resolution = display
        .unit
        .parse::<vaaka_core::quantity::Unit>()
        .ok()
        .zip(ground.unit.parse().ok())
        .and_then(|(from, to)| from.try_convert(display.resolution, to).ok())
        .map_or(0.0, to_f64);
    let rank = |advice: &AdjustmentAdvice| match advice {
        AdjustmentAdvice::Adjust { .. } => 3,
        AdjustmentAdvice::WithinTolerance { .. } => 2,
        AdjustmentAdvice::WithinNoise { .. } => 1,
        AdjustmentAdvice::SmallerThanResolution { .. } => 0,
    };
    let worst = ground
        .stored
        .results
        .iter()
        // Whether an error is real rests on what varies from check to check; rounding alone says nothing of that.
        .filter_map(|(c, result)| Some((c, result, ground.levels.get(&c.key)?)))
        .map(|(c, result, known)| {
            let advice = advise_adjustment(&AdjustmentInput {
                mean_error: c.value(),
                level: known.estimate.level,
                check_mean_std_dev: known.sigma,
                reference_standard_uncertainty: c.reference_standard_uncertainty(),
                resolution,
                coverage_factor: result.coverage_factor(),
                within_tolerance: !result.mean_is_outside(c),
            });
            (c, advice)
        })
        .max_by_key(|(_, advice)| rank(advice));
    if ground.waits_for_repeat() {
        return ("No advice on a first failing run: make its confirming repeat first. One far value among many is chance.".into(), "due");
    }
    let Some((characteristic, advice)) = worst else {
        return ("No advice: no chart of this instrument has limits yet, so that nobody knows how far its checks vary.".into(), "due");
    };
    let d = characteristic.mean_decimals();
    let unit = characteristic.unit;
    match advice {
        AdjustmentAdvice::SmallerThanResolution { resolution } => (
            format!(
                "Leave it alone: every error is smaller than one step of the display ({} {unit}).",
                show_float(resolution, characteristic.decimals)
            ),
            "ok",
        ),
        AdjustmentAdvice::WithinNoise { noise } => (
            format!(
                "Leave it alone: every error is inside what varies from check to check, with the uncertainty of the reference (±{} {unit}). Adjusting by the full last error would double that variation.",
                show_float(noise, d)
            ),
            "ok",
        ),
        AdjustmentAdvice::WithinTolerance { noise } => (
            format!(
                "Leave it alone for now: the error is real (beyond ±{} {unit}) but inside tolerance, and adjusting would hide its drift.",
                show_float(noise, d)
            ),
            "signal",
        ),
        AdjustmentAdvice::Adjust { correction } => (
            format!(
                "Adjust: {} is out by more than noise; about {} {unit} are wanted there, by its estimated level.",
                characteristic.label,
                show_signed_float(correction, d)
            ),
            "out",
        ),
    }
}

/// Shows whether an instrument may be adjusted after a check, and what it would do.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let ground = Ground::of(&mut desk, id).await?;
    if let Some(done) = adjustments::after(&mut desk.connection, ground.check.id).await? {
        return Ok(Redirect::to(&format!("/adjustments/{}", done.id)).into_response());
    }
    let mut typed = Fields::default();
    if let Some(found) = ground.recommended() {
        let (offset, gain) = ground.rounded(found.correction);
        typed = typed
            .with("kind", found.kind.word())
            .with("offset", offset.to_string())
            .with("gain", gain.to_string());
    }
    typed = typed.with("performed_by", signed.person.id.to_string());
    draw(&mut desk, &signed, &ground, &typed, &BTreeMap::new(), StatusCode::OK).await
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    ground: &Ground,
    typed: &Fields,
    faults: &BTreeMap<String, String>,
    status: StatusCode,
) -> Result<Response, WebError> {
    // What is asked here is the adjustment itself; its authority is asked in the form.
    let refusal = ground.refusal(desk, signed, "asked in the form").await?;
    let unit = &ground.unit;
    let advised = ground.recommended();
    let kinds = AdjustmentKind::ALL
        .iter()
        .filter_map(|kind| {
            let correction = propose(&ground.points, *kind).ok()?;
            let left = effects(&ground.points, correction)
                .iter()
                .map(|effect| effect.after.abs())
                .fold(0.0, f64::max);
            let (offset, gain) = ground.rounded(correction);
            Some(KindRow {
                words: kind.words(),
                offset: format!("{} {unit}", show_signed(offset, offset.scale())),
                gain: format!("{} %", show_signed(gain, gain.scale())),
                left: format!("{} {unit}", show_float(left, ground.decimals + 1)),
                advised: match advised.filter(|advised| advised.kind == *kind) {
                    Some(advised) if advised.within_noise => "the simplest that fits",
                    Some(_) => "leaves least, more than noise",
                    None => "",
                },
            })
        })
        .collect();
    let correction = correction_typed(ground, typed);
    let found = effects(&ground.points, correction);
    let mut groups = vec![
        Group::new("The correction", correction_fields(unit)),
        Group::new("Who, and why", who_fields(desk, ground).await?),
    ];
    for group in &mut groups {
        group.fill(typed, faults);
    }
    let after = ground.factors.after(correction);
    let (advice, advice_state) = advice(ground);
    let (instrument, shell) = (&ground.view.instrument, Shell::new(signed, "round", &desk.here));
    let template = AdjustPage {
        shell,
        id: ground.check.id.0,
        instrument: format!("{} {}", instrument.name, instrument.tag),
        heading: "adjust it?".to_owned(),
        advice,
        advice_state,
        refusal,
        no_proposal: recommend(&ground.points, ground.noise)
            .err()
            .filter(|_| !ground.waits_for_repeat())
            .map(|error| error.to_string()),
        kinds,
        effect: draw_effects(
            &format!("Errors of {} before and after the correction", instrument.tag),
            unit,
            &found,
        ),
        effect_words: effect_words(&found),
        spoils: found
            .iter()
            .filter(|effect| effect.spoils)
            .map(|effect| effect.point.label.clone())
            .collect(),
        rows: found.iter().map(|effect| effect_row(effect, unit, ground.decimals)).collect(),
        factors: factor_lines(ground.factors, after, unit),
        groups,
        error: faults.get("").cloned(),
        caution: CAUTION,
    };
    page(status, &template)
}

fn effect_words(found: &[Effect]) -> String {
    let out = found.iter().filter(|effect| !effect.holds_after).count();
    match out {
        0 => "Every point would be within tolerance.".to_owned(),
        1 => "One point would still be outside.".to_owned(),
        n => format!("{n} points would still be outside."),
    }
}

fn factor_lines(before: Factors, after: Factors, unit: &str) -> Vec<(&'static str, String)> {
    let show = |factors: Factors| {
        format!(
            "offset {} {unit}, gain {}",
            show_signed_float(factors.offset, 4),
            show_float(factors.gain, 6)
        )
    };
    let now = if before == Factors::FACTORY {
        format!("{}, as it left the factory", show(before))
    } else {
        show(before)
    };
    vec![("Now", now), ("Afterwards", show(after))]
}

fn effect_row(effect: &Effect, unit: &str, decimals: u32) -> EffectRow {
    let d = decimals + 1;
    let show = |value: f64| format!("{} {unit}", show_signed_float(value, d));
    let percent = |share: Option<f64>| {
        share.map_or("–".into(), |s| format!("{} %", show_float(s * 100.0, 0)))
    };
    EffectRow {
        label: effect.point.label.clone(),
        before: show(effect.point.error),
        level: show(effect.point.level),
        after: show(effect.after),
        tolerance: match (effect.point.lower, effect.point.upper) {
            (Some(lower), Some(upper)) => format!(
                "{} to {}",
                show_signed_float(lower, decimals),
                show_signed_float(upper, decimals)
            ),
            (None, Some(upper)) => format!("at most {}", show_float(upper, decimals)),
            (Some(lower), None) => format!("at least {}", show_signed_float(lower, decimals)),
            (None, None) => "none".into(),
        },
        share_before: percent(effect.share_before),
        share_after: percent(effect.share_after),
        state: if effect.holds_after { "ok" } else { "out" },
        words: match (effect.spoils, effect.holds_after) {
            (true, _) => "spoiled: inside now, outside then",
            (_, true) => "inside",
            (_, false) => "still outside",
        },
    }
}

fn correction_fields(unit: &str) -> Vec<Field> {
    let kinds = AdjustmentKind::ALL
        .iter()
        .map(|kind| (kind.word(), kind.words()))
        .chain([(FACTORY, "back to the factory's factors: undo every adjustment")]);
    vec![
        Field::new("kind", "What is changed", choices(kinds)),
        Field::new("offset", format!("Offset, {unit}"), Look::Number)
            .hint("Added to every indication."),
        Field::new("gain", "Gain, %", Look::Number)
            .hint("Of the indication: 0.1 makes 100 read 100.1."),
    ]
}

async fn who_fields(desk: &mut Desk, ground: &Ground) -> Result<Vec<Field>, WebError> {
    let everybody = people::all(&mut desk.connection).await?;
    let hands = everybody
        .iter()
        .filter(|person| person.active && matches!(person.role.as_str(), "technician" | "lead"))
        .map(|person| (person.id.to_string(), person.name.clone()))
        .collect();
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let tags = std::iter::once((String::new(), "none, or not on the register".to_owned()))
        .chain(
            all.iter()
                .filter(|record| record.standard.state != "retired")
                .map(|record| (record.standard.id.to_string(), record.standard.tag.clone())),
        )
        .collect();
    let mut fields = vec![
        Field::new("performed_by", "Adjusted by", Look::Choice(hands)),
        Field::new("standard", "Adjusted with", Look::Choice(tags))
            .hint("An adjustment is proven best with another standard or at another level."),
        Field::new("reason", "Why", Look::Line).hint("It stands on record with the old factors."),
    ];
    if ground.view.instrument.sealed {
        fields.push(
            Field::new("authority", "Who broke the seal, and by which authority", Look::Line).hint(
                "Sealed equipment: the authorised body or person, and the number of the new seal.",
            ),
        );
    }
    Ok(fields)
}

/// The correction that was typed, as far as it can be read.
fn correction_typed(ground: &Ground, typed: &Fields) -> Correction {
    let mut reader = Reader::of(typed);
    let offset = reader.decimal("offset").map_or(0.0, to_f64);
    let gain = reader.decimal("gain").map_or(0.0, to_f64) / 100.0;
    match typed.get("kind") {
        FACTORY => Correction::back_to_factory(ground.factors),
        "offset" => Correction { offset, gain: 0.0 },
        "gain" => Correction { offset: 0.0, gain },
        _ => Correction { offset, gain },
    }
}

/// Records an adjustment; “Show the effect” only draws it anew.
pub async fn record(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let ground = Ground::of(&mut desk, id).await?;
    let mut reader = Reader::of(&typed);
    let kind = reader.choice("kind", |word| {
        let known = AdjustmentKind::ALL.iter().map(|kind| kind.word()).chain([FACTORY]);
        known.into_iter().find(|known| *known == word)
    });
    reader.decimal("offset");
    if reader.decimal("gain").is_some_and(|gain| gain.abs() >= Decimal::from(50)) {
        reader.fault("gain", "A gain is less than 50 %: give it in per cent of the indication.");
    }
    let correction = correction_typed(&ground, &typed);
    let only_shown = !typed.get("show").is_empty();
    if only_shown {
        let faults = reader.faults;
        let status =
            if faults.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
        return draw(&mut desk, &signed, &ground, &typed, &faults, status).await;
    }
    if kind.is_some() && correction == Correction::default() {
        let words = if kind == Some(FACTORY) {
            "It has the factory's factors already."
        } else {
            "This changes nothing. Give an offset or a gain."
        };
        reader.fault("kind", words);
    }
    let performed_by = reader.choice("performed_by", |text| text.parse::<i64>().ok().map(PersonId));
    let reason = reader.required("reason", 200, "Say in a few words why it is adjusted.");
    let authority = reader.text("authority", 160);
    let standard = typed.get("standard").parse::<i64>().ok().map(StandardId);
    let sealed = ground.refusal(&mut desk, &signed, &authority).await?;
    if let Some(words) = sealed {
        let at =
            if ground.view.instrument.sealed && authority.is_empty() { "authority" } else { "" };
        reader.fault(at, words);
    }
    let (Some(kind), Some(performed_by), true) = (kind, performed_by, reader.is_fine()) else {
        let faults = reader.faults;
        let status = StatusCode::UNPROCESSABLE_ENTITY;
        return draw(&mut desk, &signed, &ground, &typed, &faults, status).await;
    };
    let row =
        row(&ground, &signed, kind, correction, performed_by, standard, authority, reason, &desk);
    let note = format!(
        "adjusted: offset {} {}, gain {} %",
        show_signed(row.offset_change, row.offset_change.scale()),
        row.unit,
        show_signed(row.gain_change * Decimal::ONE_HUNDRED, 4),
    );
    match adjustments::record(&mut desk.connection, row, &note).await {
        Ok(id) => Ok(Redirect::to(&format!("/adjustments/{id}")).into_response()),
        Err(StoreError::Conflict { .. }) => {
            let faults = BTreeMap::from([(
                String::new(),
                "Somebody recorded an adjustment after this check a moment ago. Look at it before you do anything more.".to_owned(),
            )]);
            draw(&mut desk, &signed, &ground, &typed, &faults, StatusCode::CONFLICT).await
        }
        Err(other) => Err(other.into()),
    }
}

#[allow(clippy::too_many_arguments)] // One row, its columns.
fn row(
    ground: &Ground,
    signed: &SignedIn,
    kind: &str,
    correction: Correction,
    performed_by: PersonId,
    standard: Option<StandardId>,
    authority: String,
    reason: String,
    desk: &Desk,
) -> AdjustmentRow {
    let exact = |value: f64| Decimal::from_f64(value).unwrap_or_default().round_dp(9).normalize();
    let after = ground.factors.after(correction);
    let proposed = ground.recommended();
    // Decided by the lead who records it; where the plan standardises before each use, by the one
    // who approved that plan.
    let approved_by = if signed.person.role == "lead" {
        signed.person.id
    } else {
        ground.view.version.approved_by.unwrap_or(signed.person.id)
    };
    AdjustmentRow {
        instrument_id: ground.check.instrument_id,
        set_up_id: ground.view.plan.set_up_id,
        check_id: ground.check.id,
        event_id: EventId(0),
        kind: kind.to_owned(),
        offset_change: exact(correction.offset),
        gain_change: exact(correction.gain),
        unit: ground.unit.clone(),
        old_offset: exact(ground.factors.offset),
        old_gain: exact(ground.factors.gain),
        new_offset: exact(after.offset),
        new_gain: exact(after.gain),
        standard_id: standard,
        authority,
        reason,
        performed_by,
        approved_by,
        at: At(desk.now),
        proposed_kind: proposed.map(|found| found.kind.word().to_owned()),
        proposed_offset: proposed.map(|found| exact(found.correction.offset)),
        proposed_gain: proposed.map(|found| exact(found.correction.gain)),
    }
}

#[derive(Debug, Template)]
#[template(path = "adjustment.html")]
struct AdjustmentPage {
    shell: Shell,
    id: i64,
    tag: String,
    instrument: String,
    facts: Vec<(&'static str, String)>,
    effect: String,
    as_found: i64,
    proof: Option<(i64, bool)>,
    rows: Vec<(String, String, String, String)>,
    may_prove: bool,
    key: Uuid,
}

/// Shows a recorded adjustment and its proof.
pub async fn one(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let adjustment = adjustments::by_id(&mut desk.connection, AdjustmentId(id)).await?;
    let ground = Ground::of(&mut desk, adjustment.row.check_id.0).await?;
    let proof = adjustments::proof(&mut desk.connection, &adjustment.row).await?;
    let proven = match proof {
        Some(check) => result_of(&mut desk.connection, check).await?,
        None => None,
    };
    let correction = Correction {
        offset: to_f64(adjustment.row.offset_change),
        gain: to_f64(adjustment.row.gain_change),
    };
    let found = effects(&ground.points, correction);
    let rows = found
        .iter()
        .map(|effect| {
            let show = |value: f64| {
                format!("{} {}", show_signed_float(value, ground.decimals + 1), ground.unit)
            };
            let left = proven
                .as_ref()
                .and_then(|stored| stored.results.iter().find(|(c, _)| c.key == effect.point.key))
                .map_or("not yet".to_owned(), |(c, _)| show(c.value()));
            (effect.point.label.clone(), show(effect.point.error), show(effect.after), left)
        })
        .collect();
    let performed = people::anybody(&mut desk.connection, adjustment.row.performed_by).await?;
    let facts = facts(&adjustment, &performed.name, &desk);
    let instrument = &ground.view.instrument;
    let shell = Shell::new(&signed, "instruments", &desk.here);
    let template = AdjustmentPage {
        id,
        tag: instrument.tag.clone(),
        instrument: format!("{} {}", instrument.name, instrument.tag),
        facts,
        effect: draw_effects("Errors as found and after the correction", &ground.unit, &found),
        as_found: ground.check.id.0,
        may_prove: shell.may_check() && proof.is_none(),
        proof: proof
            .zip(proven.map(|stored| stored.verdict.conforms == Conformity::Pass))
            .map(|(check, good)| (check.0, good)),
        rows,
        shell,
        key: new_key(),
    };
    page(StatusCode::OK, &template)
}

fn facts(adjustment: &AdjustmentView, performed: &str, desk: &Desk) -> Vec<(&'static str, String)> {
    let row = &adjustment.row;
    let factors = |offset: Decimal, gain: Decimal| {
        format!(
            "offset {} {}, gain {}",
            show_signed(offset, offset.scale()),
            row.unit,
            gain.normalize()
        )
    };
    let mut facts = vec![
        ("When", local_day_time(row.at.0, &desk.here.zone)),
        ("Adjusted by", performed.to_owned()),
        ("Decided by", adjustment.approved_by.clone()),
        ("Why", row.reason.clone()),
        (
            "Done",
            format!(
                "offset {} {}, gain {} %",
                show_signed(row.offset_change, row.offset_change.scale()),
                row.unit,
                show_signed(row.gain_change * Decimal::ONE_HUNDRED, 4)
            ),
        ),
        (
            "Proposed",
            match (row.proposed_offset, row.proposed_gain) {
                (Some(offset), Some(gain)) => format!(
                    "offset {} {}, gain {} %",
                    show_signed(offset, offset.scale().min(4)),
                    row.unit,
                    show_signed(gain * Decimal::ONE_HUNDRED, 4)
                ),
                _ => "nothing".to_owned(),
            },
        ),
        ("Old factors", factors(row.old_offset, row.old_gain)),
        ("New factors", factors(row.new_offset, row.new_gain)),
    ];
    if !row.authority.is_empty() {
        facts.push(("Under which authority", row.authority.clone()));
    }
    facts
}

/// Starts the as-left check that proves an adjustment.
pub async fn prove(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let adjustment = adjustments::by_id(&mut desk.connection, AdjustmentId(id)).await?;
    let not_now = |words: &str| WebError::NotNow { words: words.to_owned() };
    let before = checks::by_id(&mut desk.connection, adjustment.row.check_id).await?;
    let old = plans::version(&mut desk.connection, before.plan_version_id).await?;
    let current = plans::of_instrument(&mut desk.connection, before.instrument_id).await?;
    let Some(view) = current.into_iter().find(|view| view.plan.id == old.plan.id) else {
        return Err(not_now(
            "The plan of this check is no longer in force. A lead approves one first.",
        ));
    };
    let open = checks::of_shift(&mut desk.connection, desk.here.shift.id).await?;
    let open = open.iter().find(|check| {
        check.plan == view.plan.id
            && check.check.state == "open"
            && check.check.purpose == Purpose::AsLeft.word()
    });
    if let Some(open) = open {
        return Ok(Redirect::to(&format!("/checks/{}", open.check.id)).into_response());
    }
    refuse_other_open(&mut desk, &view, Purpose::AsLeft).await?;
    may_run(&mut desk, &signed, &view).await?;
    let certificates = standards_for(&mut desk, &view).await?;
    fits(&mut desk.connection, &view, &certificates, Purpose::AsLeft).await?;
    let key = typed.get("key").parse::<Uuid>().unwrap_or_else(|_| new_key());
    let check = checks::open(
        &mut desk.connection,
        &NewCheck {
            plan: &view,
            shift: desk.here.shift.id,
            certificates,
            purpose: Purpose::AsLeft,
            person: signed.person.id,
            now: desk.now,
            key,
            late: None,
        },
    )
    .await?;
    Ok(Redirect::to(&format!("/checks/{check}")).into_response())
}
