//! What decides how instruments stand, read once for every screen, table and program that asks.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Nullable, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_boxed::boxed;
use vaaka_core::instrument::ServiceState;
use vaaka_core::round::{
    LastPoint, Newest, PlanFacts, Standing, Trigger, of_chart, of_instrument, triggered,
};

use crate::charts::BriefPoint;
use crate::ids::{InstrumentId, PlanId, SetUpId};
use crate::prepared::{Bind, prepared};
use crate::rows::Stream;
use crate::schema::{plan_versions, plans, set_ups};
use crate::types::At;
use crate::{StoreError, adjustments, rounds, unreadable_word, word};

/// A plan in force with its facts.
#[derive(Debug, Clone)]
pub struct Planned {
    /// The plan.
    pub plan: PlanId,
    /// Its name.
    pub name: String,
    /// The instrument.
    pub instrument: InstrumentId,
    /// The set-up that it checks.
    pub set_up: SetUpId,
    /// Name of that cell.
    pub cell: String,
    /// What that cell may be used for, where it is restricted by itself.
    pub cell_only: Option<String>,
    /// What it says.
    pub facts: PlanFacts,
    /// Tag of the standard that was found wrong, on which its newest check rests.
    pub wrong_standard: Option<String>,
}

/// Of which plans.
#[derive(Debug, Clone, Copy)]
pub enum Of<'a> {
    /// All in force.
    All,
    /// Those of some instruments.
    Instruments(&'a [InstrumentId]),
    /// Some.
    Plans(&'a [PlanId]),
}

#[derive(Debug, QueryableByName)]
struct NewestRow {
    #[diesel(sql_type = BigInt)]
    plan: PlanId,
    #[diesel(sql_type = Text)]
    conforms: String,
    #[diesel(sql_type = Bool)]
    in_band: bool,
    #[diesel(sql_type = Bool)]
    doubtful: bool,
    #[diesel(sql_type = Bool)]
    as_left: bool,
    #[diesel(sql_type = Timestamptz)]
    at: At,
    #[diesel(sql_type = Nullable<Text>)]
    wrong_standard: Option<String>,
}

/// A plan, its cell, and what asks for checks out of turn.
type PlannedRow =
    ((PlanId, String, InstrumentId, SetUpId), (String, String, Option<String>), Vec<String>);

/// The facts of plans in force: the newest check of each, what happened since, what is not proven.
///
/// A check that stands beside another or has no place of its own on the charts is no newest one: what people have seen is not
/// un-happened by what came late. An order settles what failed before it only for the checks that follow it. Doubtful is derived from the runs of the shift, so that voiding the failed one ends it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn facts(
    connection: &mut AsyncPgConnection,
    of: Of<'_>,
    now: Timestamp,
) -> Result<Vec<Planned>, StoreError> {
    let mut query = plan_versions::table
        .inner_join(plans::table.inner_join(set_ups::table))
        .filter(plan_versions::state.eq("approved"))
        .order(plans::id)
        .select((
            (plans::id, plans::name, plans::instrument_id, plans::set_up_id),
            (set_ups::name, set_ups::state, set_ups::restricted_to),
            plan_versions::due_triggers,
        ))
        .into_boxed();
    match of {
        Of::All => {}
        Of::Instruments(ids) => query = query.filter(plans::instrument_id.eq_any(ids.to_vec())),
        Of::Plans(ids) => query = query.filter(plans::id.eq_any(ids.to_vec())),
    }
    let rows: Vec<PlannedRow> = query.load(connection).await?;
    let ids: Vec<i64> = rows.iter().map(|((plan, ..), ..)| plan.0).collect();
    let newest = newest(connection, ids).await?;
    let mut newest: HashMap<PlanId, NewestRow> =
        newest.into_iter().map(|row| (row.plan, row)).collect();
    let watched: Vec<PlanId> =
        rows.iter().filter(|(.., triggers)| !triggers.is_empty()).map(|(own, ..)| own.0).collect();
    let since = rounds::since_checks(connection, &watched).await?;
    let unproven = adjustments::unproven(connection).await?;
    rows.into_iter()
        .map(|((plan, name, instrument, set_up), (cell, state, cell_only), triggers)| {
            let triggers: Vec<Trigger> =
                triggers.iter().filter_map(|word| word.parse().ok()).collect();
            let occasion = since
                .get(&plan)
                .and_then(|since| triggered(&triggers, since, now))
                .map(Trigger::words);
            let row = newest.remove(&plan);
            let found = row.as_ref().map(|row| {
                Ok::<_, StoreError>(Newest {
                    conforms: word(&row.conforms)?,
                    in_band: row.in_band,
                    doubtful: row.doubtful,
                    as_left: row.as_left,
                    wrong_standard: row.wrong_standard.is_some(),
                    at: row.at.0,
                })
            });
            Ok(Planned {
                plan,
                name,
                instrument,
                set_up,
                cell,
                cell_only,
                facts: PlanFacts {
                    cell: state.parse().map_err(|_| unreadable_word(&state))?,
                    newest: found.transpose()?,
                    unproven: unproven.iter().any(|(i, s, _)| (*i, *s) == (instrument, set_up)),
                    occasion,
                },
                wrong_standard: row.and_then(|row| row.wrong_standard),
            })
        })
        .collect()
}

async fn newest(
    connection: &mut AsyncPgConnection,
    plans: Vec<i64>,
) -> Result<Vec<NewestRow>, StoreError> {
    Ok(prepared(
        "SELECT wanted.id AS plan, r.conforms, newest.purpose = 'as_left' AS as_left, newest.closed_at AS at,
             (r.conforms = 'fail' AND NOT EXISTS (SELECT FROM characteristics h
                 LEFT JOIN budgets b ON b.result_id = h.result_id AND b.key = h.key
                 WHERE h.result_id = r.id AND h.conformity = 'fail'
                   AND b.statement IS DISTINCT FROM 'conditional_pass')) AS in_band,
             (newest.purpose = 'as_found' AND r.conforms <> 'fail' AND EXISTS (SELECT FROM checks e
                 JOIN plan_versions ev ON ev.id = e.plan_version_id AND ev.plan_id = wanted.id
                 JOIN results first ON first.check_id = e.id AND first.version = 1
                 JOIN LATERAL (SELECT o.conforms FROM results o WHERE o.check_id = e.id
                     ORDER BY o.version DESC LIMIT 1) last ON last.conforms = 'fail'
                 WHERE e.shift_instance_id = newest.shift_instance_id AND e.id <> newest.id
                   AND e.state = 'concluded' AND e.purpose = 'as_found' AND NOT e.beside
                   AND (e.opened_at, e.id) < (newest.opened_at, newest.id)
                   AND NOT EXISTS (SELECT FROM check_orders o WHERE o.plan_id = wanted.id
                       AND o.shift_instance_id = e.shift_instance_id AND o.after_result >= first.id
                       AND o.after_result < (SELECT min(m.id) FROM results m WHERE m.check_id = newest.id)))) AS doubtful,
             (SELECT s.tag FROM look_backs l JOIN certificates g ON g.id = l.certificate_id
                 JOIN standards s ON s.id = l.standard_id
                 WHERE l.closed_at IS NULL AND newest.closed_at BETWEEN l.suspect_from AND l.suspect_until
                   AND EXISTS (SELECT FROM certificates o WHERE o.lot_id = g.lot_id
                       AND (o.id = newest.certificate_id OR o.id IN
                           (SELECT c.certificate_id FROM check_standards c WHERE c.check_id = newest.id)))
                 ORDER BY l.id LIMIT 1) AS wrong_standard
         FROM unnest(?) AS wanted(id)
         CROSS JOIN LATERAL (SELECT own.* FROM plan_versions v
             CROSS JOIN LATERAL (SELECT c.* FROM checks c WHERE c.plan_version_id = v.id AND c.state = 'concluded'
                 AND c.purpose <> 'trial' AND NOT c.beside AND NOT c.late_place
                 ORDER BY c.opened_at DESC, c.id DESC LIMIT 1) own
             WHERE v.plan_id = wanted.id ORDER BY own.opened_at DESC, own.id DESC LIMIT 1) newest
         CROSS JOIN LATERAL (SELECT o.id, o.conforms FROM results o WHERE o.check_id = newest.id
             ORDER BY o.version DESC LIMIT 1) r",
        vec![Bind::Ints(plans)],
    )
    .load(connection)
    .await?)
}

/// How instruments stand: one answer for every place that asks.
#[derive(Debug, Clone, Default)]
pub struct Standings {
    planned: HashMap<InstrumentId, Vec<Planned>>,
}

impl Standings {
    /// Reads what decides it.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn read(
        connection: &mut AsyncPgConnection,
        of: Of<'_>,
        now: Timestamp,
    ) -> Result<Self, StoreError> {
        let mut planned: HashMap<InstrumentId, Vec<Planned>> = HashMap::new();
        for one in facts(connection, of, now).await? {
            planned.entry(one.instrument).or_default().push(one);
        }
        Ok(Self { planned })
    }

    /// The plans in force of an instrument.
    #[must_use]
    pub fn plans(&self, instrument: InstrumentId) -> &[Planned] {
        self.planned.get(&instrument).map_or(&[], Vec::as_slice)
    }

    fn of_set_up(&self, instrument: InstrumentId, set_up: SetUpId) -> Vec<PlanFacts> {
        let own = self.plans(instrument).iter().filter(|one| one.set_up == set_up);
        own.map(|one| one.facts.clone()).collect()
    }

    /// How an instrument stands, by its decided state and the newest points of its charts.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn of_instrument<'a>(
        &self,
        at: (InstrumentId, &str),
        charts: impl IntoIterator<Item = (&'a Stream, &'a BriefPoint)>,
    ) -> Result<Standing, StoreError> {
        self.of(at, None, charts)
    }

    /// As [`Self::of_instrument`], by one of its set-ups alone.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn of_one_set_up<'a>(
        &self,
        at: (InstrumentId, &str),
        set_up: SetUpId,
        charts: impl IntoIterator<Item = (&'a Stream, &'a BriefPoint)>,
    ) -> Result<Standing, StoreError> {
        self.of(at, Some(set_up), charts)
    }

    fn of<'a>(
        &self,
        (instrument, state): (InstrumentId, &str),
        only: Option<SetUpId>,
        charts: impl IntoIterator<Item = (&'a Stream, &'a BriefPoint)>,
    ) -> Result<Standing, StoreError> {
        let service: ServiceState = state.parse().map_err(|_| unreadable_word(state))?;
        let mut set_ups: Vec<(SetUpId, Vec<PlanFacts>, Vec<LastPoint>)> = Vec::new();
        let wanted = |one: &&Planned| only.is_none_or(|only| one.set_up == only);
        for one in self.plans(instrument).iter().filter(wanted) {
            if !set_ups.iter().any(|(set_up, ..)| *set_up == one.set_up) {
                set_ups.push((one.set_up, self.of_set_up(instrument, one.set_up), vec![]));
            }
        }
        for (stream, point) in charts {
            let own = set_ups.iter_mut().find(|(set_up, ..)| *set_up == stream.set_up_id);
            if let Some((_, _, points)) = own {
                points.push(point.last()?);
            }
        }
        let facts: Vec<(&[PlanFacts], &[LastPoint])> = set_ups
            .iter()
            .map(|(_, plans, points)| (plans.as_slice(), points.as_slice()))
            .collect();
        Ok(of_instrument(service, &facts))
    }

    /// How one chart stands.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn of_chart(
        &self,
        state: &str,
        stream: &Stream,
        point: Option<&BriefPoint>,
    ) -> Result<Standing, StoreError> {
        let service: ServiceState = state.parse().map_err(|_| unreadable_word(state))?;
        let point = point.map(BriefPoint::last).transpose()?;
        let plans = self.of_set_up(stream.instrument_id, stream.set_up_id);
        Ok(of_chart(service, &plans, point.as_ref()))
    }
}

impl BriefPoint {
    /// As the core asks for it.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn last(&self) -> Result<LastPoint, StoreError> {
        Ok(LastPoint {
            conforms: word(&self.conformity)?,
            in_band: self.in_band,
            signal: self.active_side.as_deref().map(word).transpose()?,
            has_limits: self.center_line.is_some(),
            at: self.measured_at.0,
        })
    }
}
