//! The register of standards as it is read: the lot in use, its certificate, its uses, and what
//! rests on it.

use std::collections::{HashMap, HashSet};

use diesel::dsl::sum;
use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::civil::Date;
use vaaka_boxed::boxed;
use vaaka_core::standard::{
    CertificateFacts, CertificateKind, LotFacts, StandardFacts, StandardState,
};

use crate::ids::{CertificateId, CheckId, CrossoverId, LookBackId, LotId, StandardId};
use crate::rows::{
    Certificate, CertifiedValue, CrossoverRow, Instrument, LookBack, Lot, Standard,
    StandardStateRow, StandardUse,
};
use crate::schema::{
    certificate_acceptances, certificates, certified_values, crossovers, instruments, look_backs,
    people, plan_points, plan_versions, plans, standard_lots, standard_states, standard_uses,
    standards,
};
use crate::types::Day;
use crate::{StoreError, certificate_reviews, unreadable};

/// A standard with everything that decides whether it can serve on a day.
#[derive(Debug, Clone)]
pub struct Record {
    /// The standard.
    pub standard: Standard,
    /// The lot in use, if any.
    pub lot: Option<Lot>,
    /// The certificate of that lot that holds on the day, or the one that will.
    pub certificate: Option<Certificate>,
    /// Whether a lead accepted that certificate, though it is one of conformance only.
    pub accepted: bool,
    /// Uses of the lot so far.
    pub used: u32,
    /// What that certificate states.
    pub values: Vec<CertifiedValue>,
    /// Number of a certificate of the lot that waits for a second lead.
    pub waiting: Option<String>,
}

impl Record {
    /// What the core needs to judge it.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn facts(&self) -> Result<StandardFacts, StoreError> {
        let state = match self.standard.state.as_str() {
            "in_use" => StandardState::InUse,
            "on_hold" => StandardState::OnHold { reason: self.standard.state_reason.clone() },
            "retired" => StandardState::Retired,
            other => return Err(unreadable(format!("a standard that is “{other}”"))),
        };
        let lot = self.lot.as_ref().map(|lot| lot_facts(lot, self.used)).transpose()?;
        let certificate = self.certificate.as_ref().filter(|_| !self.values.is_empty());
        let mut pieces = Vec::new();
        for piece in crate::registers::pieces(self.values.clone())? {
            pieces.push((piece.nominal, piece.unit));
        }
        Ok(StandardFacts {
            tag: self.standard.tag.clone(),
            name: self.standard.name.clone(),
            kind: self.standard.kind.clone(),
            location: self.standard.location.clone(),
            state,
            lot,
            waiting: self.waiting.clone(),
            certificate: certificate.map(|certificate| CertificateFacts {
                number: certificate.number.clone(),
                kind: match certificate.kind.as_str() {
                    "conformance" => CertificateKind::Conformance { accepted: self.accepted },
                    _ => CertificateKind::Calibration,
                },
                valid_from: certificate.valid_from.0,
                valid_until: certificate.valid_until.0,
            }),
            pieces,
        })
    }
}

fn lot_facts(lot: &Lot, used: u32) -> Result<LotFacts, StoreError> {
    let whole = |value: i32| u32::try_from(value).map_err(unreadable);
    let limit = match (&lot.use_kind, lot.use_limit) {
        (Some(kind), Some(most)) => Some((kind.parse().map_err(unreadable)?, whole(most)?)),
        _ => None,
    };
    Ok(LotFacts {
        lot: lot.lot.clone(),
        expires_on: lot.expires_on.map(|day| day.0),
        opened_at: lot.opened_at.map(|at| at.0),
        open_hours: lot.open_hours.map(whole).transpose()?,
        limit,
        used,
    })
}

/// All standards by tag, as they stand on a day.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn all(connection: &mut AsyncPgConnection, day: Date) -> Result<Vec<Record>, StoreError> {
    let rows: Vec<Standard> = standards::table
        .order(standards::tag)
        .select(Standard::as_select())
        .load(connection)
        .await?;
    records(connection, rows, day).await
}

/// One standard by its tag.
///
/// # Errors
/// [`StoreError::NotFound`].
#[boxed]
pub async fn by_tag(
    connection: &mut AsyncPgConnection,
    tag: &str,
    day: Date,
) -> Result<Record, StoreError> {
    let standard: Standard = standards::table
        .filter(standards::tag.eq(tag))
        .select(Standard::as_select())
        .first(connection)
        .await?;
    let mut found = records(connection, vec![standard], day).await?;
    found.pop().ok_or(StoreError::NotFound)
}

async fn records(
    connection: &mut AsyncPgConnection,
    rows: Vec<Standard>,
    day: Date,
) -> Result<Vec<Record>, StoreError> {
    let ids: Vec<StandardId> = rows.iter().map(|row| row.id).collect();
    let lots: Vec<Lot> = standard_lots::table
        .filter(standard_lots::standard_id.eq_any(&ids))
        .filter(standard_lots::in_use_from.is_not_null())
        .filter(standard_lots::in_use_until.is_null())
        .select(Lot::as_select())
        .load(connection)
        .await?;
    let lot_ids: Vec<LotId> = lots.iter().map(|lot| lot.id).collect();
    // Of the certificates that have begun the newest; where none has, the first that will.
    let papers: Vec<Certificate> = certificates::table
        .filter(certificates::lot_id.eq_any(&lot_ids))
        .order((
            certificates::valid_from.le(Day(day)).desc(),
            certificates::valid_from.desc(),
            certificates::version.desc(),
            certificates::id.desc(),
        ))
        .select(Certificate::as_select())
        .load(connection)
        .await?;
    // What one lead typed serves when another has looked at it.
    let all_ids: Vec<CertificateId> = papers.iter().map(|paper| paper.id).collect();
    let reviews = certificate_reviews::of_these(connection, &all_ids).await?;
    let state = |id: CertificateId| {
        reviews
            .iter()
            .find(|one| one.certificate_id == id)
            .map_or("countersigned", |one| &one.state)
    };
    let waiting: Vec<(LotId, String)> = papers
        .iter()
        .filter(|paper| state(paper.id) == "waiting")
        .map(|paper| (paper.lot_id, paper.number.clone()))
        .collect();
    let papers: Vec<Certificate> =
        papers.into_iter().filter(|paper| state(paper.id) == "countersigned").collect();
    let paper_ids: Vec<CertificateId> = papers.iter().map(|paper| paper.id).collect();
    let accepted: Vec<CertificateId> = certificate_acceptances::table
        .filter(certificate_acceptances::certificate_id.eq_any(&paper_ids))
        .select(certificate_acceptances::certificate_id)
        .load(connection)
        .await?;
    let uses: Vec<(LotId, Option<i64>)> = standard_uses::table
        .filter(standard_uses::lot_id.eq_any(&lot_ids))
        .group_by(standard_uses::lot_id)
        .select((standard_uses::lot_id, sum(standard_uses::count)))
        .load(connection)
        .await?;
    let uses: HashMap<LotId, i64> =
        uses.into_iter().map(|(lot, count)| (lot, count.unwrap_or(0))).collect();
    let values: Vec<CertifiedValue> = certified_values::table
        .filter(certified_values::certificate_id.eq_any(&paper_ids))
        .order(certified_values::id)
        .select(CertifiedValue::as_select())
        .load(connection)
        .await?;
    Ok(rows
        .into_iter()
        .map(|standard| {
            let lot = lots.iter().find(|lot| lot.standard_id == standard.id).cloned();
            let certificate = lot
                .as_ref()
                .and_then(|lot| papers.iter().find(|paper| paper.lot_id == lot.id))
                .cloned();
            let id = certificate.as_ref().map(|certificate| certificate.id);
            let used = lot.as_ref().and_then(|lot| uses.get(&lot.id)).copied().unwrap_or(0);
            Record {
                accepted: id.is_some_and(|id| accepted.contains(&id)),
                used: u32::try_from(used.max(0)).unwrap_or(u32::MAX),
                values: values
                    .iter()
                    .filter(|value| Some(value.certificate_id) == id)
                    .cloned()
                    .collect(),
                waiting: lot
                    .as_ref()
                    .and_then(|lot| waiting.iter().find(|(of, _)| *of == lot.id))
                    .map(|(_, number)| number.clone()),
                standard,
                lot,
                certificate,
            }
        })
        .collect())
}

/// All lots of a standard, the newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn lots(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
) -> Result<Vec<Lot>, StoreError> {
    Ok(standard_lots::table
        .filter(standard_lots::standard_id.eq(standard))
        .order(standard_lots::id.desc())
        .select(Lot::as_select())
        .load(connection)
        .await?)
}

/// All certificates of a standard's lots, the newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn certificates(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
) -> Result<Vec<Certificate>, StoreError> {
    Ok(certificates::table
        .inner_join(standard_lots::table)
        .filter(standard_lots::standard_id.eq(standard))
        .order((certificates::valid_from.desc(), certificates::id.desc()))
        .select(Certificate::as_select())
        .load(connection)
        .await?)
}

/// Certified values of a certificate, in its order.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn values(
    connection: &mut AsyncPgConnection,
    certificate: CertificateId,
) -> Result<Vec<CertifiedValue>, StoreError> {
    Ok(certified_values::table
        .filter(certified_values::certificate_id.eq(certificate))
        .order(certified_values::id)
        .select(CertifiedValue::as_select())
        .load(connection)
        .await?)
}

/// Instruments whose plans in force use each standard, as the plan's own or for single points.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn used_by(
    connection: &mut AsyncPgConnection,
) -> Result<Vec<(StandardId, Instrument)>, StoreError> {
    let own: Vec<(Option<StandardId>, Instrument)> = plan_versions::table
        .inner_join(plans::table.inner_join(instruments::table))
        .filter(plan_versions::state.eq("approved"))
        .order((plan_versions::standard_id, instruments::tag))
        .select((plan_versions::standard_id, Instrument::as_select()))
        .load(connection)
        .await?;
    let of_points: Vec<(Option<StandardId>, Instrument)> = plan_points::table
        .inner_join(plan_versions::table.on(plan_versions::id.eq(plan_points::plan_version_id)))
        .inner_join(plans::table.on(plans::id.eq(plan_versions::plan_id)))
        .inner_join(instruments::table.on(instruments::id.eq(plans::instrument_id)))
        .filter(plan_versions::state.eq("approved"))
        .filter(plan_points::standard_id.is_not_null())
        .distinct()
        .select((plan_points::standard_id, Instrument::as_select()))
        .load(connection)
        .await?;
    let mut found: Vec<(StandardId, Instrument)> = Vec::new();
    for (standard, instrument) in own.into_iter().chain(of_points) {
        let Some(standard) = standard else { continue };
        if !found.iter().any(|(id, known)| *id == standard && known.id == instrument.id) {
            found.push((standard, instrument));
        }
    }
    Ok(found)
}

/// Changes of state with who made them, newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn states(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
) -> Result<Vec<(StandardStateRow, String)>, StoreError> {
    Ok(standard_states::table
        .inner_join(people::table.on(people::id.eq(standard_states::person_id)))
        .filter(standard_states::standard_id.eq(standard))
        .order(standard_states::id.desc())
        .select((StandardStateRow::as_select(), people::name))
        .load(connection)
        .await?)
}

/// Uses of a lot with who made them, newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn uses(
    connection: &mut AsyncPgConnection,
    lot: LotId,
    count: i64,
) -> Result<Vec<(StandardUse, String)>, StoreError> {
    Ok(standard_uses::table
        .inner_join(people::table.on(people::id.eq(standard_uses::person_id)))
        .filter(standard_uses::lot_id.eq(lot))
        .order(standard_uses::id.desc())
        .limit(count)
        .select((StandardUse::as_select(), people::name))
        .load(connection)
        .await?)
}

/// Crossovers of a standard, newest first, with the names of the lots' and instruments' tags.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn crossovers_of(
    connection: &mut AsyncPgConnection,
    standard: StandardId,
) -> Result<Vec<(CrossoverId, CrossoverRow, String)>, StoreError> {
    Ok(crossovers::table
        .inner_join(instruments::table.on(instruments::id.eq(crossovers::instrument_id)))
        .filter(crossovers::standard_id.eq(standard))
        .order(crossovers::id.desc())
        .select((crossovers::id, CrossoverRow::as_select(), instruments::tag))
        .load(connection)
        .await?)
}

/// Look-backs of a standard, newest first; of all standards where none is given.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn look_backs_of(
    connection: &mut AsyncPgConnection,
    standard: Option<StandardId>,
) -> Result<Vec<(LookBackId, LookBack)>, StoreError> {
    let mut query = look_backs::table
        .order(look_backs::id.desc())
        .select((look_backs::id, LookBack::as_select()))
        .into_boxed();
    if let Some(standard) = standard {
        query = query.filter(look_backs::standard_id.eq(standard));
    }
    Ok(query.load(connection).await?)
}

/// What rested on a certificate in a time: each check with its instrument, oldest first.
#[derive(Debug, Clone, QueryableByName)]
pub struct Rested {
    /// The check.
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub check_id: CheckId,
    /// Tag of the instrument.
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub tag: String,
    /// Name of the instrument.
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub name: String,
    /// When it was concluded.
    #[diesel(sql_type = diesel::sql_types::Timestamptz)]
    pub at: crate::types::At,
    /// Its conformity.
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub conforms: String,
}

/// Concluded checks that used a certificate of the same lot between two moments.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn rested_on(
    connection: &mut AsyncPgConnection,
    certificate: CertificateId,
    from: crate::types::At,
    until: crate::types::At,
) -> Result<Vec<Rested>, StoreError> {
    use diesel::sql_types::{BigInt, Timestamptz};
    Ok(diesel::sql_query(
        "SELECT c.id AS check_id, i.tag, i.name, c.closed_at AS at, r.conforms
         FROM checks c
         JOIN instruments i ON i.id = c.instrument_id
         JOIN LATERAL (SELECT conforms FROM results WHERE check_id = c.id
             ORDER BY version DESC LIMIT 1) r ON true
         WHERE c.state = 'concluded' AND c.closed_at BETWEEN $2 AND $3
           AND (c.certificate_id IN (SELECT o.id FROM certificates o
                    JOIN certificates g ON g.lot_id = o.lot_id WHERE g.id = $1)
             OR EXISTS (SELECT FROM check_standards s
                    JOIN certificates o ON o.id = s.certificate_id
                    JOIN certificates g ON g.lot_id = o.lot_id
                    WHERE s.check_id = c.id AND g.id = $1))
         ORDER BY c.closed_at, c.id",
    )
    .bind::<BigInt, _>(certificate.0)
    .bind::<Timestamptz, _>(from)
    .bind::<Timestamptz, _>(until)
    .load(connection)
    .await?)
}

/// A crossover between two lots that a lead accepted, at a nominal value: its offset, in its unit.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn accepted_crossovers(
    connection: &mut AsyncPgConnection,
    old: LotId,
    new: LotId,
) -> Result<Vec<CrossoverRow>, StoreError> {
    Ok(crossovers::table
        .filter(crossovers::old_lot_id.eq(old))
        .filter(crossovers::new_lot_id.eq(new))
        .filter(crossovers::accepted_at.is_not_null())
        .order(crossovers::id.desc())
        .select(CrossoverRow::as_select())
        .load(connection)
        .await?)
}

/// Tags of all standards, and the numbers of all certificates.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn tags_and_certificates(
    connection: &mut AsyncPgConnection,
) -> Result<(HashSet<String>, HashSet<String>), StoreError> {
    let tags: Vec<String> = standards::table.select(standards::tag).load(connection).await?;
    let numbers: Vec<String> =
        certificates::table.select(certificates::number).load(connection).await?;
    Ok((tags.into_iter().collect(), numbers.into_iter().collect()))
}
