//! Plans and their versions.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use serde_json::json;
use vaaka_core::method::{PlanPoint, PlanSpec, Purpose};
use vaaka_core::standard::CertifiedPiece;

use crate::audit::{self, Happening};
use crate::ids::{CertificateId, PersonId, PlanId, PlanVersionId};
use crate::rows::{Area, Instrument, Plan, PlanPointRow, PlanVersion, Standard};
use crate::schema::{areas, instruments, plan_points, plan_versions, plans, standards};
use crate::types::At;
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
    /// The check standard.
    pub standard: Standard,
}

type ViewRow = (PlanVersion, Plan, Instrument, Area, Standard);

fn view((version, plan, instrument, area, standard): ViewRow) -> PlanView {
    PlanView { version, plan, instrument, area, standard }
}

/// All plans in force, along the walk.
///
/// # Errors
/// [`StoreError`].
pub async fn in_force(connection: &mut AsyncPgConnection) -> Result<Vec<PlanView>, StoreError> {
    let rows: Vec<ViewRow> = plan_versions::table
        .inner_join(plans::table.inner_join(instruments::table.inner_join(areas::table)))
        .inner_join(standards::table)
        .filter(plan_versions::state.eq("approved"))
        .filter(instruments::state.ne_all(["out", "retired"]))
        .order((areas::walk_order, instruments::tag))
        .select((
            PlanVersion::as_select(),
            Plan::as_select(),
            Instrument::as_select(),
            Area::as_select(),
            Standard::as_select(),
        ))
        .load(connection)
        .await?;
    Ok(rows.into_iter().map(view).collect())
}

/// One version.
///
/// # Errors
/// [`StoreError`].
pub async fn version(
    connection: &mut AsyncPgConnection,
    id: PlanVersionId,
) -> Result<PlanView, StoreError> {
    let row: ViewRow = plan_versions::table
        .inner_join(plans::table.inner_join(instruments::table.inner_join(areas::table)))
        .inner_join(standards::table)
        .filter(plan_versions::id.eq(id))
        .select((
            PlanVersion::as_select(),
            Plan::as_select(),
            Instrument::as_select(),
            Area::as_select(),
            Standard::as_select(),
        ))
        .first(connection)
        .await?;
    Ok(view(row))
}

/// Number of the version of this plan that is in force.
///
/// # Errors
/// [`StoreError`].
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

/// What the method needs: a version of the plan with the values of one certificate. Versions
/// and certificates never change, so the result may be kept.
///
/// # Errors
/// [`StoreError`]; [`StoreError::Unreadable`] when the plan names a piece that the certificate has not.
pub async fn spec(
    connection: &mut AsyncPgConnection,
    view: &PlanView,
    certificate: CertificateId,
    purpose: Purpose,
) -> Result<PlanSpec, StoreError> {
    let points: Vec<PlanPointRow> = plan_points::table
        .filter(plan_points::plan_version_id.eq(view.version.id))
        .order(plan_points::sequence)
        .select(PlanPointRow::as_select())
        .load(connection)
        .await?;
    let pieces = registers::certified_pieces(connection, certificate).await?;
    build_spec(view, points, &pieces, purpose)
}

/// Puts stored rows together into what the method needs.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn build_spec(
    view: &PlanView,
    points: Vec<PlanPointRow>,
    pieces: &[CertifiedPiece],
    purpose: Purpose,
) -> Result<PlanSpec, StoreError> {
    let points = points.into_iter().map(|row| point(row, pieces)).collect::<Result<_, _>>()?;
    Ok(PlanSpec {
        purpose,
        unit: view.instrument.unit.parse().map_err(unreadable)?,
        resolution: view.instrument.resolution,
        maximum: view.instrument.maximum,
        standard_tag: view.standard.tag.clone(),
        standard_name: view.standard.name.clone(),
        settings: view.version.settings.clone(),
        points,
    })
}

fn point(row: PlanPointRow, pieces: &[CertifiedPiece]) -> Result<PlanPoint, StoreError> {
    let chosen = row
        .pieces
        .iter()
        .map(|tag| {
            let found = pieces.iter().find(|piece| piece.tag == *tag).cloned();
            found.ok_or_else(|| unreadable(format!("the certificate has no piece {tag}")))
        })
        .collect::<Result<_, _>>()?;
    Ok(PlanPoint {
        nominal: row.nominal,
        travel: row.travel.parse().map_err(unreadable)?,
        place: row.place.parse().map_err(unreadable)?,
        repeats: u32::try_from(row.repeats).map_err(unreadable)?,
        charted: row.charted,
        pieces: chosen,
    })
}

/// Puts a draft in force and supersedes the version before it. Checks that are open go on
/// under the version with which they began.
///
/// # Errors
/// [`StoreError::NotFound`] when there is no such draft; [`StoreError::Conflict`] when its author
/// approves it.
pub async fn approve(
    connection: &mut AsyncPgConnection,
    draft: PlanVersionId,
    approver: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let plan: PlanId = plan_versions::table
                .find(draft)
                .filter(plan_versions::state.eq("draft"))
                .select(plan_versions::plan_id)
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
            .await
        })
        .await
}
