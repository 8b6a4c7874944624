//! Plans and their versions.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use serde_json::json;
use vaaka_boxed::boxed;
use vaaka_core::judgement::Decision;
use vaaka_core::method::{BudgetAddition, PlanPoint, PlanSpec, PlanStandard, Purpose};
use vaaka_core::quantity::Unit;
use vaaka_core::round::DueRule;
use vaaka_core::standard::{CertifiedPiece, same_nominal};

use crate::audit::{self, Happening};
use crate::ids::{
    CertificateId, InstrumentId, PersonId, PlanId, PlanVersionId, SetUpId, StandardId,
};
use crate::prepared::Condition;
use crate::rows::{Area, Instrument, Plan, PlanPointRow, PlanVersion, SetUp, Standard};
use crate::schema::{
    areas, certificate_reviews, certificates, instruments, plan_points, plan_versions, plans,
    set_ups, standard_lots, standards,
};
use crate::types::{At, Day};
use crate::{StoreError, registers, unreadable};

/// A plan version with all that it belongs to.
#[derive(Debug, Clone)]
pub struct PlanView {
    /// The version.
    pub version: PlanVersion,
    /// The plan.
    pub plan: Plan,
    /// The instrument.
    pub instrument: Instrument,
    /// Where it stands.
    pub area: Area,
    /// The check standard; none where any of a kind will do.
    pub standard: Option<Standard>,
    /// What tells its cell (probe × scale × material) from others of the instrument, where it names one.
    pub cell: Option<String>,
}

impl PlanView {
    /// The standard as a list names it: its tag, or "any weight set".
    #[must_use]
    pub fn standard_words(&self) -> String {
        let tag = self.standard.as_ref().map(|standard| standard.tag.as_str());
        standard_words(tag, self.version.standard_kind.as_deref())
    }

    /// Whether the instrument's display was changed since this version was written: then its
    /// numbers would mean something else, and a lead renews the plan first.
    #[must_use]
    pub fn is_outdated(&self) -> bool {
        let (version, instrument) = (&self.version, &self.instrument);
        version.unit != instrument.unit
            || version.resolution != instrument.resolution
            || version.range_low != instrument.range_low
            || version.maximum != instrument.maximum
            || version.configuration_names != instrument.configuration_names
            || version.configuration_values != instrument.configuration_values
    }
}

type ViewRow = (PlanVersion, Plan, Instrument, Area, Option<Standard>, SetUp);

fn view((version, plan, instrument, area, standard, set_up): ViewRow) -> PlanView {
    PlanView { version, plan, instrument, area, standard, cell: set_up.words() }
}

macro_rules! view_query {
    () => {
        plan_versions::table
            .inner_join(
                plans::table
                    .inner_join(instruments::table.inner_join(areas::table))
                    .inner_join(set_ups::table),
            )
            .left_join(standards::table)
            .select((
                PlanVersion::as_select(),
                Plan::as_select(),
                Instrument::as_select(),
                Area::as_select(),
                Option::<Standard>::as_select(),
                SetUp::as_select(),
            ))
    };
}

/// A plan in force, as far as telling whether it is due needs it.
#[derive(Debug, Clone, Queryable)]
pub struct InForce {
    /// Its version.
    pub version: PlanVersionId,
    /// The plan.
    pub plan: PlanId,
    /// When it is due.
    pub due_rule: String,
    /// What makes it due beside the calendar.
    pub due_triggers: Vec<String>,
    /// Since when.
    pub since: Option<At>,
    /// Tag of its instrument.
    pub tag: String,
    /// Business date of its newest concluded as-found check.
    pub last_done_on: Option<Day>,
}

macro_rules! in_force_query {
    () => {
        plan_versions::table
            .inner_join(plans::table.inner_join(instruments::table))
            // Word for word: of bound states a kept plan expects a single row, and looks up each plan by itself.
            .filter(Condition(
                "plan_versions.state = 'approved' AND instruments.state NOT IN ('out', 'retired')",
            ))
            .order(plans::id)
            .select((
                plan_versions::id,
                plans::id,
                plan_versions::due_rule,
                plan_versions::due_triggers,
                plan_versions::approved_at,
                instruments::tag,
                plans::last_done_on,
            ))
    };
}

/// A plan in force by its names: what a list offers to choose from.
#[derive(Debug, Clone, Queryable)]
pub struct Named {
    /// The plan.
    pub plan: PlanId,
    /// Its version in force.
    pub version: PlanVersionId,
    /// Tag of its instrument.
    pub tag: String,
    /// Name of its instrument.
    pub instrument: String,
    /// Its name.
    pub name: String,
    /// Key of its method.
    pub method: String,
}

/// The plans in force by their names, in the order of tags.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn named(connection: &mut AsyncPgConnection) -> Result<Vec<Named>, StoreError> {
    Ok(plan_versions::table
        .inner_join(plans::table.inner_join(instruments::table))
        .filter(plan_versions::state.eq("approved").and(instruments::state.ne("retired")))
        .order((instruments::tag, plans::name))
        .select((
            plans::id,
            plan_versions::id,
            instruments::tag,
            instruments::name,
            plans::name,
            plans::method_key,
        ))
        .load(connection)
        .await?)
}

/// All plans in force in brief.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn in_force(connection: &mut AsyncPgConnection) -> Result<Vec<InForce>, StoreError> {
    Ok(in_force_query!().load(connection).await?)
}

/// Plans in force in brief, less those that rest on a day for sure: done so lately that their week or
/// month is not over, without occasions, and not `begun`. A large site has hundreds of these, and a
/// round reads none of them.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn awake(
    connection: &mut AsyncPgConnection,
    today: jiff::civil::Date,
    begun: &[PlanId],
) -> Result<Vec<InForce>, StoreError> {
    let since = |rule: DueRule| {
        let days = rule.rests_for().unwrap_or(0);
        (rule.word(), Day(today.saturating_sub(jiff::Span::new().days(days))))
    };
    let (week, month) = (since(DueRule::EachWeek), since(DueRule::EachMonth));
    let (quarter, year) = (since(DueRule::EachQuarter), since(DueRule::EachYear));
    let rests = |(rule, day): (&'static str, Day)| {
        plan_versions::due_rule.eq(rule).and(plans::last_done_on.assume_not_null().gt(day))
    };
    Ok(in_force_query!()
        .filter(
            plans::last_done_on
                .is_null()
                .or(cardinality(plan_versions::due_triggers).gt(0))
                .or(plans::id.eq_any(begun))
                .or(diesel::dsl::not(
                    rests(week).or(rests(month)).or(rests(quarter)).or(rests(year)),
                )),
        )
        .load(connection)
        .await?)
}

diesel::define_sql_function! {
    /// How many elements an array has.
    fn cardinality(array: diesel::sql_types::Array<diesel::sql_types::Text>) -> diesel::sql_types::Integer;
}

/// A plan in force as a round shows it.
#[derive(Debug, Clone, Queryable)]
pub struct RoundPlan {
    /// The plan.
    pub plan: PlanId,
    /// Its version.
    pub version: PlanVersionId,
    /// The set-up it checks.
    pub set_up: SetUpId,
    /// How long a check takes.
    pub minutes: i32,
    /// Kind of standard, where any of a kind will do.
    pub standard_kind: Option<String>,
    /// Tag of the standard, where it names one.
    pub standard_tag: Option<String>,
    /// The instrument.
    pub instrument: InstrumentId,
    /// Its tag.
    pub tag: String,
    /// Its name.
    pub name: String,
    /// What it may be used for.
    pub state: String,
    /// Where it stands.
    pub area: String,
    /// Place of that area along the walk.
    pub walk_order: i32,
    /// Probe, scale and material of the set-up.
    pub cell: (String, String, String),
}

impl RoundPlan {
    /// What tells its cell from others of the instrument, where it names one.
    #[must_use]
    pub fn cell_words(&self) -> Option<String> {
        let (probe, scale, material) = &self.cell;
        vaaka_core::instrument::cell_words(probe, scale, material)
    }

    /// The standard as a list names it: its tag, or "any weight set".
    #[must_use]
    pub fn standard_words(&self) -> String {
        standard_words(self.standard_tag.as_deref(), self.standard_kind.as_deref())
    }
}

fn standard_words(tag: Option<&str>, kind: Option<&str>) -> String {
    match (tag, kind) {
        (Some(tag), _) => tag.to_owned(),
        (None, Some(kind)) => format!("any {}", vaaka_core::standard::kind_words(kind)),
        (None, None) => "–".to_owned(),
    }
}

/// Versions by their ids, as a round shows them, along the walk: a round of sixty reads no settings
/// and no registers.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn on_round(
    connection: &mut AsyncPgConnection,
    wanted: &[PlanVersionId],
) -> Result<Vec<RoundPlan>, StoreError> {
    Ok(plan_versions::table
        .inner_join(
            plans::table
                .inner_join(instruments::table.inner_join(areas::table))
                .inner_join(set_ups::table),
        )
        .left_join(standards::table)
        .filter(plan_versions::id.eq_any(wanted))
        .order((areas::walk_order, instruments::tag, plans::id))
        .select((
            plans::id,
            plan_versions::id,
            plans::set_up_id,
            plan_versions::minutes,
            plan_versions::standard_kind,
            standards::tag.nullable(),
            instruments::id,
            instruments::tag,
            instruments::name,
            instruments::state,
            areas::name,
            areas::walk_order,
            (set_ups::probe, set_ups::scale, set_ups::material),
        ))
        .load(connection)
        .await?)
}

/// Tags of the standards that points of these versions name beside the plan's own.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn further_standards(
    connection: &mut AsyncPgConnection,
    wanted: &[PlanVersionId],
) -> Result<Vec<(PlanVersionId, String)>, StoreError> {
    Ok(plan_points::table
        .inner_join(standards::table.on(standards::id.nullable().eq(plan_points::standard_id)))
        .filter(plan_points::plan_version_id.eq_any(wanted))
        .order((plan_points::plan_version_id, standards::tag))
        .distinct()
        .select((plan_points::plan_version_id, standards::tag))
        .load(connection)
        .await?)
}

/// Versions by their ids, along the walk.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn by_versions(
    connection: &mut AsyncPgConnection,
    wanted: &[PlanVersionId],
) -> Result<Vec<PlanView>, StoreError> {
    let rows: Vec<ViewRow> = view_query!()
        .filter(plan_versions::id.eq_any(wanted.to_vec()))
        .order((areas::walk_order, instruments::tag, plans::id))
        .load(connection)
        .await?;
    Ok(rows.into_iter().map(view).collect())
}

/// The version in force and the draft of every plan, with plans that have neither left out; in
/// the order of the walk.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn current(connection: &mut AsyncPgConnection) -> Result<Vec<PlanView>, StoreError> {
    let rows: Vec<ViewRow> = view_query!()
        .filter(plan_versions::state.eq_any(["approved", "draft"]))
        .order((areas::walk_order, instruments::tag, plans::id, plan_versions::version))
        .load(connection)
        .await?;
    Ok(rows.into_iter().map(view).collect())
}

/// The versions in force of an instrument's plans.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn of_instrument(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
) -> Result<Vec<PlanView>, StoreError> {
    let rows: Vec<ViewRow> = view_query!()
        .filter(plan_versions::state.eq("approved"))
        .filter(instruments::id.eq(instrument))
        .order(plans::id)
        .load(connection)
        .await?;
    Ok(rows.into_iter().map(view).collect())
}

/// All versions of a plan, newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn versions(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
) -> Result<Vec<PlanView>, StoreError> {
    let rows: Vec<ViewRow> = view_query!()
        .filter(plans::id.eq(plan))
        .order(plan_versions::version.desc())
        .load(connection)
        .await?;
    Ok(rows.into_iter().map(view).collect())
}

/// One version.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn version(
    connection: &mut AsyncPgConnection,
    id: PlanVersionId,
) -> Result<PlanView, StoreError> {
    let row: ViewRow = view_query!().filter(plan_versions::id.eq(id)).first(connection).await?;
    Ok(view(row))
}

/// The points of a version, in their order.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn points(
    connection: &mut AsyncPgConnection,
    version: PlanVersionId,
) -> Result<Vec<PlanPointRow>, StoreError> {
    Ok(plan_points::table
        .filter(plan_points::plan_version_id.eq(version))
        .order(plan_points::sequence)
        .select(PlanPointRow::as_select())
        .load(connection)
        .await?)
}

/// The standards that single points use beside the plan's own, each once, in the order of the
/// points: their places begin at 1.
#[must_use]
pub fn extra_standards(points: &[PlanPointRow]) -> Vec<StandardId> {
    let mut found = Vec::new();
    for id in points.iter().filter_map(|point| point.standard_id) {
        if !found.contains(&id) {
            found.push(id);
        }
    }
    found
}

/// Number of the version of this plan that is in force.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn version_in_force(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
) -> Result<Option<i32>, StoreError> {
    Ok(plan_versions::table
        .filter(plan_versions::plan_id.eq(plan))
        .filter(plan_versions::state.eq("approved"))
        .select(plan_versions::version)
        .first(connection)
        .await
        .optional()?)
}

/// A standard with the values that a certificate states.
#[derive(Debug, Clone)]
pub struct Source {
    /// The standard.
    pub standard: Standard,
    /// Its pieces.
    pub pieces: Vec<CertifiedPiece>,
}

/// The standards behind certificates, with their certified values, in the order asked for.
///
/// # Errors
/// [`StoreError::NotFound`] for an unknown certificate.
#[boxed]
pub async fn sources(
    connection: &mut AsyncPgConnection,
    wanted: &[CertificateId],
) -> Result<Vec<Source>, StoreError> {
    let rows: Vec<(CertificateId, Standard)> = certificates::table
        .inner_join(standard_lots::table.inner_join(standards::table))
        .filter(certificates::id.eq_any(wanted))
        .select((certificates::id, Standard::as_select()))
        .load(connection)
        .await?;
    let by_id: HashMap<CertificateId, Standard> = rows.into_iter().collect();
    let mut found = Vec::new();
    for id in wanted {
        let standard = by_id.get(id).cloned().ok_or(StoreError::NotFound)?;
        let pieces = registers::certified_pieces(connection, *id).await?;
        found.push(Source { standard, pieces });
    }
    Ok(found)
}

/// What the method needs: a version of the plan with the values of the certificates, first that
/// of the plan's own standard, then those of [`extra_standards`]. Versions and certificates
/// never change, so the result may be kept.
///
/// # Errors
/// [`StoreError`]; [`StoreError::Unreadable`] when the plan names a piece that a certificate has not.
#[boxed]
pub async fn spec(
    connection: &mut AsyncPgConnection,
    view: &PlanView,
    certificates: &[CertificateId],
    purpose: Purpose,
) -> Result<PlanSpec, StoreError> {
    let mut points = points(connection, view.version.id).await?;
    let sources = sources(connection, certificates).await?;
    if purpose == Purpose::Trial {
        by_nominal(connection, view, &mut points, &sources).await?;
    }
    build_spec(view, points, &sources, purpose)
}

/// A trial may take another standard than the plan names: its pieces are found by their nominal
/// values, since they bear other tags.
async fn by_nominal(
    connection: &mut AsyncPgConnection,
    view: &PlanView,
    points: &mut [PlanPointRow],
    sources: &[Source],
) -> Result<(), StoreError> {
    let unit: Unit = view.version.unit.parse().map_err(unreadable)?;
    let extra = extra_standards(points);
    let named = std::iter::once(view.version.standard_id).chain(extra.into_iter().map(Some));
    for (place, (named, source)) in named.zip(sources).enumerate() {
        let Some(own) = named.filter(|id| *id != source.standard.id) else { continue };
        let newest: CertificateId = certificates::table
            .inner_join(standard_lots::table)
            .filter(standard_lots::standard_id.eq(own))
            .filter(diesel::dsl::not(diesel::dsl::exists(
                certificate_reviews::table
                    .filter(certificate_reviews::certificate_id.eq(certificates::id))
                    .filter(certificate_reviews::state.ne("countersigned")),
            )))
            .order((certificates::valid_from.desc(), certificates::id.desc()))
            .select(certificates::id)
            .first(connection)
            .await?;
        let pieces = registers::certified_pieces(connection, newest).await?;
        for point in points.iter_mut() {
            let of_place = match place {
                0 => point.standard_id.is_none(),
                _ => point.standard_id == Some(own),
            };
            if !of_place {
                continue;
            }
            let chosen = choose_pieces(&point.pieces, &pieces, unit).map_err(unreadable)?;
            point.pieces = chosen
                .iter()
                .map(|piece| {
                    let nominal = piece.unit.try_convert(piece.nominal, unit);
                    nominal.map(|value| value.normalize().to_string()).map_err(unreadable)
                })
                .collect::<Result<_, _>>()?;
        }
    }
    Ok(())
}

/// Years from the day on which the plan's own standard was certified to a moment.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn age_years(
    connection: &mut AsyncPgConnection,
    used: &[CertificateId],
    at: Timestamp,
) -> Result<f64, StoreError> {
    let Some(first) = used.first() else { return Ok(0.0) };
    let issued: crate::types::Day =
        certificates::table.find(first).select(certificates::issued_on).first(connection).await?;
    Ok(years_since(issued.0, at))
}

/// Years of 365.25 days from a day to a moment; zero before it.
#[must_use]
pub fn years_since(day: jiff::civil::Date, at: Timestamp) -> f64 {
    let from = day.to_zoned_datetime(jiff::tz::TimeZone::UTC).map_or(at, |zoned| zoned.timestamp());
    (at.duration_since(from).as_secs_f64() / (365.25 * 86_400.0)).max(0.0)
}

/// Puts stored rows together into what the method needs.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn build_spec(
    view: &PlanView,
    points: Vec<PlanPointRow>,
    sources: &[Source],
    purpose: Purpose,
) -> Result<PlanSpec, StoreError> {
    let version = &view.version;
    let extra = extra_standards(&points);
    let unit: Unit = version.unit.parse().map_err(unreadable)?;
    let standards = sources
        .iter()
        .enumerate()
        .map(|(place, source)| PlanStandard {
            tag: source.standard.tag.clone(),
            name: source.standard.name.clone(),
            any_of_kind: version.standard_kind.clone().filter(|_| place == 0),
        })
        .collect();
    let points = points
        .into_iter()
        .map(|row| {
            let own = row.standard_id.and_then(|id| extra.iter().position(|known| *known == id));
            let place = own.map_or(0, |index| index + 1);
            let source = sources.get(place).ok_or_else(|| {
                unreadable(format!("the plan needs {} certificates", extra.len() + 1))
            })?;
            point(row, place, &source.pieces, unit)
        })
        .collect::<Result<_, _>>()?;
    Ok(PlanSpec {
        purpose,
        unit,
        resolution: version.resolution,
        range_low: version.range_low,
        maximum: version.maximum,
        configuration: version
            .configuration_names
            .iter()
            .cloned()
            .zip(version.configuration_values.iter().copied())
            .collect(),
        standards,
        fixture: version.fixture.clone(),
        decision: decision(version)?,
        additions: additions(version)?,
        standard_age_years: 0.0,
        settings: version.settings.clone(),
        points,
    })
}

/// The decision rule of a version with its numbers.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn decision(version: &PlanVersion) -> Result<Decision, StoreError> {
    Ok(Decision {
        rule: version.decision_rule.parse().map_err(unreadable)?,
        share: version.decision_share,
        most_risk: version.decision_risk,
        coverage: version.coverage.parse().map_err(unreadable)?,
    })
}

/// What a version adds to the uncertainty budget.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn additions(version: &PlanVersion) -> Result<Vec<BudgetAddition>, StoreError> {
    let rest = version
        .addition_labels
        .iter()
        .zip(&version.addition_half_widths)
        .zip(&version.addition_grows);
    version
        .addition_sources
        .iter()
        .zip(rest)
        .map(|(source, ((label, half_width), grows))| {
            Ok(BudgetAddition {
                source: source.parse().map_err(unreadable)?,
                label: label.clone(),
                half_width: *half_width,
                per_year: matches!(grows.as_str(), "years" | "years_load"),
                of_reference: matches!(grows.as_str(), "load" | "years_load"),
            })
        })
        .collect()
}

/// What an addition grows with, as it is stored.
#[must_use]
pub fn grows(addition: &BudgetAddition) -> &'static str {
    match (addition.per_year, addition.of_reference) {
        (false, false) => "fixed",
        (true, false) => "years",
        (false, true) => "load",
        (true, true) => "years_load",
    }
}

/// The pieces that a plan names: by their tags, or by their nominal values in the unit of the
/// display where any standard of a kind will do; none is taken twice.
///
/// # Errors
/// The name of the first piece that is not there.
pub fn choose_pieces(
    names: &[String],
    pieces: &[CertifiedPiece],
    unit: Unit,
) -> Result<Vec<CertifiedPiece>, String> {
    let mut left: Vec<&CertifiedPiece> = pieces.iter().collect();
    names
        .iter()
        .map(|name| {
            let nominal: Option<Decimal> = name.replace(',', ".").parse().ok();
            let exact = |piece: &&CertifiedPiece| {
                let of_piece = piece.unit.try_convert(piece.nominal, unit).ok();
                of_piece.is_some() && of_piece == nominal
            };
            let near = |piece: &&CertifiedPiece| {
                nominal.is_some_and(|wanted| {
                    same_nominal(&[(piece.nominal, piece.unit)], wanted, unit)
                })
            };
            let by_tag = left.iter().position(|piece| piece.tag == *name);
            let place = by_tag
                .or_else(|| left.iter().position(exact))
                .or_else(|| left.iter().position(near))
                .ok_or_else(|| name.clone())?;
            Ok(left.remove(place).clone())
        })
        .collect()
}

fn point(
    row: PlanPointRow,
    standard: usize,
    pieces: &[CertifiedPiece],
    unit: Unit,
) -> Result<PlanPoint, StoreError> {
    let chosen = choose_pieces(&row.pieces, pieces, unit)
        .map_err(|name| unreadable(format!("the certificate has no piece {name}")))?;
    Ok(PlanPoint {
        nominal: row.nominal,
        travel: row.travel.parse().map_err(unreadable)?,
        place: row.place.parse().map_err(unreadable)?,
        repeats: u32::try_from(row.repeats).map_err(unreadable)?,
        charted: row.charted,
        pieces: chosen,
        standard,
    })
}

/// Puts a draft in force and supersedes the version before it. Checks that are open go on
/// under the version with which they began.
///
/// # Errors
/// [`StoreError::NotFound`] when there is no such draft, or it was saved again since `saves` was
/// read; [`StoreError::Conflict`] when its author approves it.
#[boxed]
pub async fn approve(
    connection: &mut AsyncPgConnection,
    (draft, saves): (PlanVersionId, i32),
    approver: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let plan: PlanId = plan_versions::table
                .find(draft)
                .filter(plan_versions::state.eq("draft"))
                .filter(plan_versions::saves.eq(saves))
                .select(plan_versions::plan_id)
                .for_update()
                .first(connection)
                .await?;
            diesel::update(plan_versions::table)
                .filter(plan_versions::plan_id.eq(plan))
                .filter(plan_versions::state.eq("approved"))
                .set(plan_versions::state.eq("superseded"))
                .execute(connection)
                .await?;
            diesel::update(plan_versions::table.find(draft))
                .set((
                    plan_versions::state.eq("approved"),
                    plan_versions::approved_by.eq(Some(approver)),
                    plan_versions::approved_at.eq(Some(At(at))),
                ))
                .execute(connection)
                .await?;
            audit::record(
                connection,
                &Happening {
                    chain: &format!("plan:{plan}"),
                    at,
                    person: Some(approver),
                    action: "plan_version_approved",
                    detail: json!({ "plan_version": draft }),
                },
            )
            .await?;
            crate::plan_notices::asked_no_more(connection, (plan, draft), approver, at).await
        })
        .await
}

/// A charted point of a plan in force.
#[derive(Debug, Clone, Queryable)]
pub struct ChartedPoint {
    /// Instrument.
    pub instrument: InstrumentId,
    /// Its tag.
    pub tag: String,
    /// Set-up.
    pub set_up: SetUpId,
    /// Name of the plan.
    pub plan: String,
    /// Method.
    pub method: String,
    /// Unit of the display, as the version carries it.
    pub unit: String,
    /// Step of the display.
    pub resolution: Decimal,
    /// The point.
    pub point: PlanPointRow,
}

/// The charted points of all plans in force.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn charted_points(
    connection: &mut AsyncPgConnection,
) -> Result<Vec<ChartedPoint>, StoreError> {
    Ok(plan_points::table
        .inner_join(plan_versions::table.on(plan_versions::id.eq(plan_points::plan_version_id)))
        .inner_join(plans::table.on(plans::id.eq(plan_versions::plan_id)))
        .inner_join(instruments::table.on(instruments::id.eq(plans::instrument_id)))
        .filter(plan_versions::state.eq("approved"))
        .filter(plan_points::charted)
        .order((instruments::tag, plans::id, plan_points::sequence))
        .select((
            instruments::id,
            instruments::tag,
            plans::set_up_id,
            plans::name,
            plans::method_key,
            plan_versions::unit,
            plan_versions::resolution,
            PlanPointRow::as_select(),
        ))
        .load(connection)
        .await?)
}

/// What a plan and its instrument are called.
#[derive(Debug, Clone, Queryable)]
pub struct PlanName {
    /// Name of the plan.
    pub plan: String,
    /// Instrument.
    pub instrument_id: InstrumentId,
    /// Its tag.
    pub tag: String,
    /// Its name.
    pub instrument: String,
}

/// Names of plans.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn names(
    connection: &mut AsyncPgConnection,
    wanted: &[PlanId],
) -> Result<HashMap<PlanId, PlanName>, StoreError> {
    let rows: Vec<(PlanId, PlanName)> = plans::table
        .inner_join(instruments::table)
        .filter(plans::id.eq_any(wanted))
        .select((plans::id, (plans::name, instruments::id, instruments::tag, instruments::name)))
        .load(connection)
        .await?;
    Ok(rows.into_iter().collect())
}
