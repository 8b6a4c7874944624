//! The round beyond its checks: what was missed, what makes a check due, what one shift hands over to
//! the next.

use std::collections::{BTreeSet, HashMap};

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Nullable, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use vaaka_boxed::boxed;
use vaaka_core::round::{DueRule, MayFail, Missed, MissedInput, ShiftSpan, SinceCheck, missed};

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::{InstrumentId, PersonId, PlanId, ShiftId};
use crate::prepared::{Bind, prepared};
use crate::rows::Shift;
use crate::schema::{
    checks, handovers, instrument_events, instrument_uses, missed_reasons, people, plan_versions,
    plans, round_sign_offs, shift_instances,
};
use crate::types::At;
use crate::types::By;

/// A plan as far as missing needs it.
#[derive(Debug, Clone)]
pub struct Asked {
    /// The plan.
    pub plan: PlanId,
    /// Its rule.
    pub rule: DueRule,
    /// Since when it has been in force.
    pub since: Timestamp,
    /// Until when: when its next version came, which asks for what begins from then on.
    pub until: Timestamp,
}

/// Shifts between two moments, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn spans(
    connection: &mut AsyncPgConnection,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<ShiftSpan>, StoreError> {
    let rows: Vec<Shift> = shift_instances::table
        .filter(shift_instances::ends_at.gt(At(from)))
        .filter(shift_instances::starts_at.lt(At(until)))
        .order(shift_instances::starts_at)
        .select(Shift::as_select())
        .load(connection)
        .await?;
    Ok(rows
        .into_iter()
        .map(|row| ShiftSpan {
            label: row.label,
            business_date: row.business_date.0,
            starts_at: row.starts_at.0,
            ends_at: row.ends_at.0,
            works: row.works,
        })
        .collect())
}

/// Windows that plans missed and that were over between two moments.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn missed_between(
    connection: &mut AsyncPgConnection,
    asked: &[Asked],
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<(PlanId, Missed)>, StoreError> {
    // Weeks, months and longer run from the last check before.
    let longest = asked.iter().map(|one| one.rule.interval()).max().unwrap_or_default();
    let back = SignedDuration::from_hours(24 * 8) + longest * 2;
    let back = from.checked_sub(back).unwrap_or(from);
    let seldom = |rule: DueRule| rule.rests_for().is_some_and(|days| days > 1);
    let first = if asked.iter().any(|one| seldom(one.rule)) {
        back
    } else {
        from.checked_sub(SignedDuration::from_hours(36)).unwrap_or(from)
    };
    let spans = spans(connection, first, until).await?;
    let ids: Vec<PlanId> = asked.iter().map(|one| one.plan).collect();
    let done: Vec<(PlanId, At)> = checks::table
        .inner_join(plan_versions::table)
        .inner_join(shift_instances::table)
        .filter(plan_versions::plan_id.eq_any(ids))
        .filter(checks::purpose.eq("as_found"))
        .filter(checks::state.ne("void"))
        .filter(shift_instances::ends_at.gt(At(first)))
        .filter(shift_instances::starts_at.lt(At(until)))
        .select((plan_versions::plan_id, shift_instances::starts_at))
        .load(connection)
        .await?;
    let mut by_plan: HashMap<PlanId, BTreeSet<Timestamp>> = HashMap::new();
    for (plan, at) in done {
        by_plan.entry(plan).or_default().insert(at.0);
    }
    let nothing = BTreeSet::new();
    let mut found = Vec::new();
    for one in asked {
        let done = by_plan.get(&one.plan).unwrap_or(&nothing);
        let since = match done.iter().next() {
            Some(first) if seldom(one.rule) => one.since.max(*first),
            _ => one.since,
        };
        let input = MissedInput { rule: one.rule, since, spans: &spans, done, now: until };
        found.extend(
            missed(input)
                .into_iter()
                .filter(|window| window.from < one.until)
                .filter(|window| window.until > from && window.until <= until)
                .map(|window| (one.plan, window)),
        );
    }
    found.sort_by_key(|(_, window)| window.until);
    Ok(found)
}

#[derive(QueryableByName)]
struct LastRow {
    #[diesel(sql_type = BigInt)]
    plan: PlanId,
    #[diesel(sql_type = BigInt)]
    instrument: InstrumentId,
    #[diesel(sql_type = Timestamptz)]
    at: At,
    #[diesel(sql_type = Nullable<Bool>)]
    new_lot: Option<bool>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    may_fail_from: Option<At>,
}

/// What happened to the instruments of plans since their last concluded as-found check.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn since_checks(
    connection: &mut AsyncPgConnection,
    wanted: &[PlanId],
) -> Result<HashMap<PlanId, SinceCheck>, StoreError> {
    let mut found: HashMap<PlanId, SinceCheck> = HashMap::new();
    if wanted.is_empty() {
        return Ok(found);
    }
    let ids: Vec<i64> = wanted.iter().map(|id| id.0).collect();
    let last: Vec<LastRow> = prepared(
        "SELECT DISTINCT ON (v.plan_id) v.plan_id AS plan, p.instrument_id AS instrument,
             newest.opened_at AS at,
             (SELECT used.lot_id <> l.id FROM certificates used, standard_lots l
              WHERE used.id = newest.certificate_id AND l.standard_id = approved.standard_id
                AND l.in_use_from IS NOT NULL AND l.in_use_until IS NULL LIMIT 1) AS new_lot,
             (SELECT min(may_fail_from(r.verdict)) FROM results r WHERE r.check_id = newest.id
                AND NOT EXISTS (SELECT FROM results o WHERE o.check_id = r.check_id AND o.version > r.version)
                AND NOT EXISTS (SELECT FROM instrument_events e WHERE e.instrument_id = p.instrument_id
                    AND e.affects_measurement AND e.at > newest.opened_at)) AS may_fail_from
         FROM plan_versions v
         JOIN plans p ON p.id = v.plan_id
         LEFT JOIN plan_versions approved ON approved.plan_id = v.plan_id AND approved.state = 'approved'
         CROSS JOIN LATERAL (SELECT c.id, c.opened_at, c.certificate_id FROM checks c
             WHERE c.plan_version_id = v.id AND c.state = 'concluded' AND c.purpose = 'as_found' AND NOT c.beside
             ORDER BY c.opened_at DESC LIMIT 1) newest
         WHERE v.plan_id = ANY(?) ORDER BY v.plan_id, newest.opened_at DESC",
        vec![Bind::Ints(ids)],
    )
    .load(connection)
    .await?;
    let instruments: Vec<InstrumentId> = last.iter().map(|row| row.instrument).collect();
    let oldest = last.iter().map(|row| row.at).min().unwrap_or(At(Timestamp::MAX));
    let events: Vec<(InstrumentId, String, At)> = instrument_events::table
        .filter(instrument_events::instrument_id.eq_any(&instruments))
        .filter(instrument_events::at.gt(oldest))
        .select((instrument_events::instrument_id, instrument_events::kind, instrument_events::at))
        .load(connection)
        .await?;
    let uses: Vec<(InstrumentId, i32, At)> = instrument_uses::table
        .filter(instrument_uses::instrument_id.eq_any(&instruments))
        .filter(instrument_uses::at.gt(oldest))
        .select((instrument_uses::instrument_id, instrument_uses::count, instrument_uses::at))
        .load(connection)
        .await?;
    for row in last {
        let own = |id: &InstrumentId, at: &At| *id == row.instrument && *at > row.at;
        let used = || uses.iter().filter(|(id, _, at)| own(id, at));
        found.insert(
            row.plan,
            SinceCheck {
                last: Some(row.at.0),
                events: events
                    .iter()
                    .filter(|(id, _, at)| own(id, at))
                    .map(|(_, kind, at)| (kind.clone(), at.0))
                    .collect(),
                uses: used().map(|(_, count, _)| u32::try_from(*count).unwrap_or(0)).sum(),
                last_use: used().map(|(_, _, at)| at.0).max(),
                new_lot: row.new_lot.unwrap_or(false),
                may_fail_from: row.may_fail_from.map(|at| at.0),
            },
        );
    }
    Ok(found)
}

/// Why checks were missed whose windows began in a period: plan, beginning of the window, the words, who said so.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn missed_reasons(
    connection: &mut AsyncPgConnection,
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<(PlanId, At, String, String)>, StoreError> {
    let longest = SignedDuration::from_hours(24 * 400);
    let from = from.checked_sub(longest).unwrap_or(from);
    Ok(missed_reasons::table
        .inner_join(people::table)
        .filter(missed_reasons::window_from.between(At(from), At(until)))
        .select((
            missed_reasons::plan_id,
            missed_reasons::window_from,
            missed_reasons::reason,
            people::name,
        ))
        .load(connection)
        .await?)
}

/// Keeps why a check was missed.
///
/// # Errors
/// [`StoreError::Conflict`] where it was said before.
#[boxed]
pub async fn explain_missed(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    window: Timestamp,
    reason: &str,
    by: By,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            diesel::insert_into(missed_reasons::table)
                .values((
                    missed_reasons::plan_id.eq(plan),
                    missed_reasons::window_from.eq(At(window)),
                    missed_reasons::reason.eq(reason),
                    missed_reasons::person_id.eq(by.person),
                    missed_reasons::at.eq(At(by.at)),
                ))
                .execute(connection)
                .await?;
            let chain = format!("plan:{plan}");
            let happening = Happening {
                chain: &chain,
                at: by.at,
                person: Some(by.person),
                action: "missed_check_explained",
                detail: json!({ "window": window.to_string(), "reason": reason }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// What each plan asked for in its time, of all instruments or of one: a version for as long as it was
/// in force, so that a new version hides nothing that the old one had asked for.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn asked(
    connection: &mut AsyncPgConnection,
    of: Option<InstrumentId>,
) -> Result<Vec<Asked>, StoreError> {
    let mut query = plan_versions::table
        .inner_join(plans::table)
        .filter(plan_versions::approved_at.is_not_null())
        .order((plans::id, plan_versions::version))
        .select((plans::id, plan_versions::due_rule, plan_versions::approved_at.assume_not_null()))
        .into_boxed();
    if let Some(of) = of {
        query = query.filter(plans::instrument_id.eq(of));
    }
    let rows: Vec<(PlanId, String, At)> = query.load(connection).await?;
    let mut found: Vec<Asked> = Vec::new();
    for (plan, rule, since) in rows {
        if let Some(before) = found.last_mut().filter(|before| before.plan == plan) {
            before.until = since.0;
        }
        let rule = rule.parse().map_err(crate::unreadable)?;
        found.push(Asked { plan, rule, since: since.0, until: Timestamp::MAX });
    }
    Ok(found)
}

/// Counts uses of an instrument.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn used(
    connection: &mut AsyncPgConnection,
    instrument: InstrumentId,
    count: i32,
    lot: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            crate::instruments::lock(connection, instrument).await?;
            diesel::insert_into(instrument_uses::table)
                .values((
                    instrument_uses::instrument_id.eq(instrument),
                    instrument_uses::count.eq(count),
                    instrument_uses::lot.eq(lot),
                    instrument_uses::person_id.eq(person),
                    instrument_uses::at.eq(At(at)),
                ))
                .execute(connection)
                .await?;
            let happening = Happening {
                chain: &format!("instrument:{instrument}"),
                at,
                person: Some(person),
                action: "instrument_used",
                detail: json!({ "count": count, "lot": lot }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// A note handed over.
#[derive(Debug, Clone, Queryable)]
pub struct Handover {
    /// What is said.
    pub words: String,
    /// Who.
    pub person: String,
    /// When.
    pub at: At,
}

/// What was handed over in a shift, oldest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn handed_over(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
) -> Result<Vec<Handover>, StoreError> {
    Ok(handovers::table
        .inner_join(people::table)
        .filter(handovers::shift_instance_id.eq(shift))
        .order(handovers::id)
        .select((handovers::words, people::name, handovers::at))
        .load(connection)
        .await?)
}

/// The shift before one, if it is stored.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn shift_before(
    connection: &mut AsyncPgConnection,
    shift: &Shift,
) -> Result<Option<Shift>, StoreError> {
    Ok(shift_instances::table
        .filter(shift_instances::site_id.eq(shift.site_id))
        .filter(shift_instances::ends_at.le(shift.starts_at))
        .order(shift_instances::ends_at.desc())
        .select(Shift::as_select())
        .first(connection)
        .await
        .optional()?)
}

/// Writes a note for the next shift.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn hand_over(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
    words: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            lock(connection, shift).await?;
            diesel::insert_into(handovers::table)
                .values((
                    handovers::shift_instance_id.eq(shift),
                    handovers::words.eq(words),
                    handovers::person_id.eq(person),
                    handovers::at.eq(At(at)),
                ))
                .execute(connection)
                .await?;
            note(connection, shift, person, at, "handed_over", json!({ "words": words })).await
        })
        .await
}

/// Two people who write about one shift follow each other in its chain; rows of shifts are never
/// updated, so that an advisory lock stands for their row.
async fn lock(connection: &mut AsyncPgConnection, shift: ShiftId) -> Result<(), StoreError> {
    diesel::sql_query("SELECT pg_advisory_xact_lock(7305132461000 + $1)")
        .bind::<BigInt, _>(shift.0)
        .execute(connection)
        .await?;
    Ok(())
}

async fn note(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
    person: PersonId,
    at: Timestamp,
    action: &str,
    detail: serde_json::Value,
) -> Result<(), StoreError> {
    let chain = format!("shift:{shift}");
    audit::record(
        connection,
        &Happening { chain: &chain, at, person: Some(person), action, detail },
    )
    .await
}

/// A sign-off of a round.
#[derive(Debug, Clone, Queryable)]
pub struct SignOff {
    /// Who.
    pub person: String,
    /// When.
    pub at: At,
    /// Checks that were done.
    pub done: i32,
    /// Checks that were left.
    pub to_go: i32,
    /// Why, where some were left.
    pub reason: String,
}

/// The sign-off of a shift's round, if there is one.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn signed_off(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
) -> Result<Option<SignOff>, StoreError> {
    Ok(round_sign_offs::table
        .inner_join(people::table)
        .filter(round_sign_offs::shift_instance_id.eq(shift))
        .select((
            people::name,
            round_sign_offs::at,
            round_sign_offs::done,
            round_sign_offs::to_go,
            round_sign_offs::reason,
        ))
        .first(connection)
        .await
        .optional()?)
}

/// Signs a round off, once.
///
/// # Errors
/// [`StoreError::Conflict`] when it is signed off already.
#[boxed]
pub async fn sign_off(
    connection: &mut AsyncPgConnection,
    shift: ShiftId,
    (done, to_go): (i32, i32),
    reason: &str,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            lock(connection, shift).await?;
            diesel::insert_into(round_sign_offs::table)
                .values((
                    round_sign_offs::shift_instance_id.eq(shift),
                    round_sign_offs::person_id.eq(person),
                    round_sign_offs::at.eq(At(at)),
                    round_sign_offs::done.eq(done),
                    round_sign_offs::to_go.eq(to_go),
                    round_sign_offs::reason.eq(reason),
                ))
                .execute(connection)
                .await?;
            let detail = json!({ "done": done, "to_go": to_go, "reason": reason });
            note(connection, shift, person, at, "round_signed_off", detail).await
        })
        .await
}

/// What a plan's occasions rest on, for looking back over them.
#[derive(Debug, Clone, Default)]
pub struct Past {
    /// Events, by kind.
    pub events: Vec<(String, Timestamp)>,
    /// Uses.
    pub uses: Vec<(u32, Timestamp)>,
    /// When lots of the plan's standard were put in use.
    pub lots: Vec<Timestamp>,
    /// Concluded as-found checks, by when they were opened.
    pub checks: Vec<Timestamp>,
    /// What those of them told that told a drift.
    pub forecasts: Vec<MayFail>,
}

#[derive(QueryableByName)]
struct MayFailRow {
    #[diesel(sql_type = Timestamptz)]
    at: At,
    #[diesel(sql_type = Timestamptz)]
    from: At,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    until: Option<At>,
}

/// Everything that bears on the occasions of a plan so far.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn past(
    connection: &mut AsyncPgConnection,
    plan: PlanId,
    instrument: InstrumentId,
    standard: Option<crate::ids::StandardId>,
) -> Result<Past, StoreError> {
    use crate::schema::standard_lots;
    let events: Vec<(String, At)> = instrument_events::table
        .filter(instrument_events::instrument_id.eq(instrument))
        .select((instrument_events::kind, instrument_events::at))
        .load(connection)
        .await?;
    let uses: Vec<(i32, At)> = instrument_uses::table
        .filter(instrument_uses::instrument_id.eq(instrument))
        .select((instrument_uses::count, instrument_uses::at))
        .load(connection)
        .await?;
    let lots: Vec<Option<At>> = match standard {
        None => vec![],
        Some(standard) => {
            standard_lots::table
                .filter(standard_lots::standard_id.eq(standard))
                .select(standard_lots::in_use_from)
                .load(connection)
                .await?
        }
    };
    let checks: Vec<At> = checks::table
        .inner_join(plan_versions::table)
        .filter(plan_versions::plan_id.eq(plan))
        .filter(checks::state.eq("concluded"))
        .filter(checks::purpose.eq("as_found"))
        .select(checks::opened_at)
        .load(connection)
        .await?;
    let forecasts: Vec<MayFailRow> = prepared(
        "SELECT c.opened_at AS at, may_fail_from(r.verdict) AS \"from\",
             (SELECT min(e.at) FROM instrument_events e WHERE e.instrument_id = c.instrument_id
                 AND e.affects_measurement AND e.at > c.opened_at) AS \"until\" FROM checks c
         JOIN plan_versions v ON v.id = c.plan_version_id AND v.plan_id = ?
         CROSS JOIN LATERAL (SELECT o.verdict FROM results o WHERE o.check_id = c.id
             ORDER BY o.version DESC LIMIT 1) r
         WHERE c.state = 'concluded' AND c.purpose = 'as_found' AND may_fail_from(r.verdict) IS NOT NULL",
        vec![Bind::Int(plan.0)],
    )
    .load(connection)
    .await?;
    Ok(Past {
        events: events.into_iter().map(|(kind, at)| (kind, at.0)).collect(),
        uses: uses.into_iter().map(|(n, at)| (u32::try_from(n).unwrap_or(0), at.0)).collect(),
        lots: lots.into_iter().flatten().map(|at| at.0).collect(),
        checks: checks.into_iter().map(|at| at.0).collect(),
        forecasts: forecasts
            .into_iter()
            .map(|row| MayFail {
                told_at: row.at.0,
                from: row.from.0,
                until: row.until.map(|at| at.0),
            })
            .collect(),
    })
}
