//! Drafts of plan versions: written over by their author until another lead approves.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use vaaka_boxed::boxed;
use vaaka_core::judgement::Decision;
use vaaka_core::method::BudgetAddition;

use crate::audit::{self, Happening};
use crate::ids::{InstrumentId, PersonId, PlanId, PlanVersionId, SetUpId, StandardId};
use crate::plan_notices::{SENT_BACK, TO_APPROVE, asked_no_more, edit_path, version_path};
use crate::rows::{Instrument, PlanPointRow};
use crate::schema::{people, plan_points, plan_rejections, plan_versions, plans};
use crate::types::At;
use crate::{StoreError, notices};

/// What a draft says; its display is that of the instrument at the moment of saving.
#[derive(Debug, Clone)]
pub struct Draft {
    /// The plan's own standard, by tag; none where any of a kind will do.
    pub standard: Option<StandardId>,
    /// The kind, where any of it will do.
    pub standard_kind: Option<String>,
    /// Settings of the method.
    pub settings: Value,
    /// Minutes of the check.
    pub minutes: i32,
    /// Due rule.
    pub due_rule: &'static str,
    /// What makes it due beside the calendar.
    pub due_triggers: Vec<String>,
    /// Decision rule with its numbers.
    pub decision: Decision,
    /// What the plan adds to the uncertainty budget.
    pub additions: Vec<BudgetAddition>,
    /// Adjustment policy.
    pub adjustment_policy: &'static str,
    /// Reaction ladder.
    pub reaction: Vec<String>,
    /// Container or fixture.
    pub fixture: String,
    /// What changed, for the one who approves.
    pub change_note: String,
    /// Points.
    pub points: Vec<DraftPoint>,
}

/// A point of a draft.
#[derive(Debug, Clone)]
pub struct DraftPoint {
    /// Nominal value.
    pub nominal: Decimal,
    /// Travel.
    pub travel: &'static str,
    /// Place.
    pub place: &'static str,
    /// Repeats.
    pub repeats: i32,
    /// Whether it is charted.
    pub charted: bool,
    /// Pieces.
    pub pieces: Vec<String>,
    /// A standard of its own.
    pub standard: Option<StandardId>,
}

impl Draft {
    /// The rows of its points.
    #[must_use]
    pub fn rows(&self, version: PlanVersionId) -> Vec<PlanPointRow> {
        self.points
            .iter()
            .zip(1_i32..)
            .map(|(point, sequence)| PlanPointRow {
                plan_version_id: version,
                sequence,
                nominal: point.nominal,
                travel: point.travel.to_owned(),
                place: point.place.to_owned(),
                repeats: point.repeats,
                charted: point.charted,
                pieces: point.pieces.clone(),
                standard_id: point.standard,
            })
            .collect()
    }
}

/// A plan that is new.
#[derive(Debug, Clone, Copy)]
pub struct NewPlan<'a> {
    /// Instrument.
    pub instrument: InstrumentId,
    /// Its set-up.
    pub set_up: SetUpId,
    /// Name.
    pub name: &'a str,
    /// Method.
    pub method: &'a str,
}

/// Where a draft is saved.
#[derive(Debug, Clone, Copy)]
pub enum Target<'a> {
    /// A new plan.
    New(NewPlan<'a>),
    /// The next version of a plan.
    Next(PlanId),
    /// A draft that was saved before, as it was read.
    Again {
        /// The version.
        version: PlanVersionId,
        /// How often it had been saved when it was read.
        saves: i32,
    },
}

/// Saves a draft. Of two who save at one moment, one is told.
///
/// # Errors
/// [`StoreError::Conflict`] on `plan_versions_saves` when it was saved or approved meanwhile, on
/// `plan_versions_one_draft` when the plan has a draft already, on `plans_instrument_id_name_key`
/// when a plan of this name exists.
#[boxed]
pub async fn save(
    connection: &mut AsyncPgConnection,
    target: Target<'_>,
    draft: &Draft,
    instrument: &Instrument,
    person: PersonId,
    at: Timestamp,
) -> Result<PlanVersionId, StoreError> {
    connection
        .transaction(async |connection| {
            let (plan, version) = match target {
                Target::New(new) => {
                    let plan: PlanId = diesel::insert_into(plans::table)
                        .values((
                            plans::instrument_id.eq(new.instrument),
                            plans::set_up_id.eq(new.set_up),
                            plans::name.eq(new.name),
                            plans::method_key.eq(new.method),
                        ))
                        .returning(plans::id)
                        .get_result(connection)
                        .await?;
                    (plan, insert(connection, plan, draft, instrument, person).await?)
                }
                Target::Next(plan) => {
                    (plan, insert(connection, plan, draft, instrument, person).await?)
                }
                Target::Again { version, saves } => {
                    let plan =
                        rewrite(connection, version, saves, draft, instrument, person).await?;
                    (plan, version)
                }
            };
            diesel::insert_into(plan_points::table)
                .values(draft.rows(version))
                .execute(connection)
                .await?;
            audit::record(
                connection,
                &Happening {
                    chain: &format!("plan:{plan}"),
                    at,
                    person: Some(person),
                    action: "plan_draft_saved",
                    detail: json!({
                        "plan_version": version, "note": draft.change_note,
                        "settings": draft.settings, "points": draft.points.len(),
                    }),
                },
            )
            .await?;
            ask(connection, (plan, version), instrument, person, at).await?;
            Ok(version)
        })
        .await
}

/// Tells the leads of a draft, once as long as nobody has decided about it; what it was sent back for is answered by it.
async fn ask(
    connection: &mut AsyncPgConnection,
    (plan, version): (PlanId, PlanVersionId),
    instrument: &Instrument,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    notices::end(connection, notices::Over::At(SENT_BACK, &edit_path(plan)), person, at).await?;
    let path = version_path(version);
    if notices::is_open(connection, TO_APPROVE, &path).await? {
        return Ok(());
    }
    let name: String = plans::table.find(plan).select(plans::name).first(connection).await?;
    let title = format!("A plan waits to be approved: {name} for {}", instrument.tag);
    let notice = notices::NewNotice {
        kind: TO_APPROVE,
        instrument: Some(instrument.id),
        check: None,
        title: &title,
        words: "Another lead than its author looks at the check as the technician will see it, and decides.",
        path: &path,
        at,
    };
    notices::tell_leads(connection, &notice).await?;
    Ok(())
}

/// Words with which a draft was sent back.
#[derive(Debug, Clone, Queryable)]
pub struct Rejection {
    /// How often it had been saved.
    pub saves: i32,
    /// The words.
    pub reason: String,
    /// Who.
    pub person: String,
    /// When.
    pub at: At,
}

/// How often, and with which words, a draft was sent back; the newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn rejections(
    connection: &mut AsyncPgConnection,
    version: PlanVersionId,
) -> Result<Vec<Rejection>, StoreError> {
    Ok(plan_rejections::table
        .inner_join(people::table)
        .filter(plan_rejections::plan_version_id.eq(version))
        .order(plan_rejections::saves.desc())
        .select((
            plan_rejections::saves,
            plan_rejections::reason,
            people::name,
            plan_rejections::at,
        ))
        .load(connection)
        .await?)
}

/// Sends a draft back to its author with words: approved it may be when it was saved again.
///
/// # Errors
/// [`StoreError::NotFound`] when it is no draft any more or was saved meanwhile; [`StoreError::Conflict`] when it was sent back
/// as it stands.
#[boxed]
pub async fn send_back(
    connection: &mut AsyncPgConnection,
    (version, saves): (PlanVersionId, i32),
    reason: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let plan: PlanId = plan_versions::table
                .find(version)
                .filter(plan_versions::state.eq("draft"))
                .filter(plan_versions::saves.eq(saves))
                .select(plan_versions::plan_id)
                .for_update()
                .first(connection)
                .await?;
            let name: String =
                plans::table.find(plan).select(plans::name).first(connection).await?;
            diesel::insert_into(plan_rejections::table)
                .values((
                    plan_rejections::plan_version_id.eq(version),
                    plan_rejections::saves.eq(saves),
                    plan_rejections::reason.eq(reason),
                    plan_rejections::person_id.eq(person),
                    plan_rejections::at.eq(At(at)),
                ))
                .execute(connection)
                .await?;
            asked_no_more(connection, (plan, version), person, at).await?;
            let notice = notices::NewNotice {
                kind: SENT_BACK,
                instrument: None,
                check: None,
                title: &format!("Sent back to its author: {name}"),
                words: reason,
                path: &edit_path(plan),
                at,
            };
            notices::tell_leads(connection, &notice).await?;
            let happening = Happening {
                chain: &format!("plan:{plan}"),
                at,
                person: Some(person),
                action: "plan_draft_sent_back",
                detail: json!({ "plan_version": version, "saves": saves, "reason": reason }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

macro_rules! columns {
    ($draft:expr, $instrument:expr) => {
        (
            plan_versions::standard_id.eq($draft.standard),
            plan_versions::standard_kind.eq(&$draft.standard_kind),
            plan_versions::settings.eq(&$draft.settings),
            plan_versions::minutes.eq($draft.minutes),
            plan_versions::due_rule.eq($draft.due_rule),
            plan_versions::due_triggers.eq(&$draft.due_triggers),
            plan_versions::decision_rule.eq($draft.decision.rule.word()),
            plan_versions::decision_share.eq($draft.decision.share),
            plan_versions::decision_risk.eq($draft.decision.most_risk),
            plan_versions::coverage.eq($draft.decision.coverage.word()),
            plan_versions::addition_sources.eq(each(&$draft.additions, |a| a.source.word())),
            plan_versions::addition_labels.eq(each(&$draft.additions, |a| a.label.clone())),
            plan_versions::addition_half_widths.eq(each(&$draft.additions, |a| a.half_width)),
            plan_versions::addition_grows.eq(each(&$draft.additions, crate::plans::grows)),
            plan_versions::adjustment_policy.eq($draft.adjustment_policy),
            plan_versions::reaction.eq(&$draft.reaction),
            plan_versions::fixture.eq(&$draft.fixture),
            plan_versions::change_note.eq(&$draft.change_note),
            plan_versions::unit.eq(&$instrument.unit),
            plan_versions::resolution.eq($instrument.resolution),
            plan_versions::range_low.eq($instrument.range_low),
            plan_versions::maximum.eq($instrument.maximum),
            plan_versions::configuration_names.eq(&$instrument.configuration_names),
            plan_versions::configuration_values.eq(&$instrument.configuration_values),
        )
    };
}

fn each<T>(additions: &[BudgetAddition], of: impl Fn(&BudgetAddition) -> T) -> Vec<T> {
    additions.iter().map(of).collect()
}

async fn insert(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    draft: &Draft,
    instrument: &Instrument,
    person: PersonId,
) -> Result<PlanVersionId, StoreError> {
    let last: Option<i32> = plan_versions::table
        .filter(plan_versions::plan_id.eq(plan))
        .select(diesel::dsl::max(plan_versions::version))
        .first(connection)
        .await?;
    Ok(diesel::insert_into(plan_versions::table)
        .values((
            plan_versions::plan_id.eq(plan),
            plan_versions::version.eq(last.unwrap_or(0) + 1),
            plan_versions::state.eq("draft"),
            plan_versions::created_by.eq(person),
            columns!(draft, instrument),
        ))
        .returning(plan_versions::id)
        .get_result(connection)
        .await?)
}

async fn rewrite(
    connection: &mut AsyncPgConnection,
    version: PlanVersionId,
    saves: i32,
    draft: &Draft,
    instrument: &Instrument,
    person: PersonId,
) -> Result<PlanId, StoreError> {
    let changed: Option<PlanId> = diesel::update(plan_versions::table.find(version))
        .filter(plan_versions::state.eq("draft"))
        .filter(plan_versions::created_by.eq(person))
        .filter(plan_versions::saves.eq(saves))
        .set((plan_versions::saves.eq(saves + 1), columns!(draft, instrument)))
        .returning(plan_versions::plan_id)
        .get_result(connection)
        .await
        .optional()?;
    let plan = changed
        .ok_or_else(|| StoreError::Conflict { constraint: "plan_versions_saves".to_owned() })?;
    diesel::delete(plan_points::table.filter(plan_points::plan_version_id.eq(version)))
        .execute(connection)
        .await?;
    Ok(plan)
}

/// Withdraws a draft; it stays on record.
///
/// # Errors
/// [`StoreError::NotFound`] when it is no draft any more.
#[boxed]
pub async fn withdraw(
    connection: &mut AsyncPgConnection,
    version: PlanVersionId,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let plan: PlanId = diesel::update(plan_versions::table.find(version))
                .filter(plan_versions::state.eq("draft"))
                .set(plan_versions::state.eq("withdrawn"))
                .returning(plan_versions::plan_id)
                .get_result(connection)
                .await?;
            audit::record(
                connection,
                &Happening {
                    chain: &format!("plan:{plan}"),
                    at,
                    person: Some(person),
                    action: "plan_draft_withdrawn",
                    detail: json!({ "plan_version": version }),
                },
            )
            .await?;
            asked_no_more(connection, (plan, version), person, at).await
        })
        .await
}
