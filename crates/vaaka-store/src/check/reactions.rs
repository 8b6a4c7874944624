//! What a concluded check does to its instrument at once, in the transaction of its verdict.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_boxed::boxed;
use vaaka_core::history::Drift;
use vaaka_core::instrument::ServiceState;
use vaaka_core::judgement::{NextAction, Reason, Statement, Verdict, action_sentence, drift_words};
use vaaka_core::method::Purpose;
use vaaka_core::reaction::{DOUBT_WINDOW, ReactionInput, react};

use crate::ids::{CheckId, PersonId, SegmentId, StreamId};
use crate::instruments::{NewState, cell_of, change_state_locked};
use crate::notices::{NewNotice, tell_leads};
use crate::plans::PlanView;
use crate::rows::{Check, Instrument};
use crate::schema::{
    budgets, characteristics, chart_points, chart_streams, checks, instruments, plan_versions,
    results,
};
use crate::{StoreError, forecasts, shifts, unreadable_word, word};

/// Restricts or holds the instrument where the verdict asks for it, and tells the leads.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn after_check(
    connection: &mut AsyncPgConnection,
    check: &Check,
    view: &PlanView,
    verdict: &Verdict,
    person: PersonId,
    now: Timestamp,
) -> Result<(), StoreError> {
    let purpose: Purpose = word(&check.purpose)?;
    let kind = match (purpose, verdict.action) {
        (Purpose::Trial, _) => return Ok(()),
        (Purpose::AsLeft, NextAction::Hold) => "as_left_failed",
        (_, NextAction::RepeatOnce) => "failed",
        (_, NextAction::Hold) => "confirmed",
        (_, NextAction::AskLeadLate) => "failed",
        (_, NextAction::AskLead) => "doubtful",
        _ => return Ok(()),
    };
    let instrument: Instrument = instruments::table
        .find(check.instrument_id)
        .for_update()
        .select(Instrument::as_select())
        .first(connection)
        .await?;
    let cell = cell_of(connection, instrument.id, view.plan.set_up_id).await?;
    let state = cell.as_ref().map_or(&instrument.state, |cell| &cell.state);
    let state: ServiceState = state.parse().map_err(|_| unreadable_word(state))?;
    let doubts = doubts(connection, view).await?;
    let reaction = react(ReactionInput {
        purpose,
        conforms: verdict.conforms,
        repeat: verdict.repeat,
        state,
        doubts,
    });
    let in_band = only_in_band(connection, check.id).await?;
    let mut words = action_sentence(verdict.action).to_owned();
    if let Some(reaction) = reaction {
        change_state_locked(
            connection,
            NewState {
                instrument: &instrument,
                cell: cell.as_ref(),
                to: reaction.to,
                restricted_to: reaction.restricted_to,
                reason: reaction.reason,
                person,
                at: now,
            },
        )
        .await?;
        let what = cell.as_ref().map_or("It", |cell| &cell.name);
        words = format!("{what} is {} now: {}. {words}", reaction.to.words(), reaction.reason);
    }
    let said = match kind {
        "failed" if in_band => "its check lies in the guard band and is not accepted",
        "confirmed" if in_band => "again in the guard band, not accepted",
        "failed" if check.late_reason.is_some() => "its check from paper failed",
        "failed" => "its check failed",
        "confirmed" => "its failure is confirmed",
        "doubtful" => "failed, then passed: doubtful",
        _ => "its adjustment is not proven",
    };
    let of = cell.as_ref().map(|cell| format!(" ({})", cell.name)).unwrap_or_default();
    let title = format!("{} {}{of}: {said}", instrument.name, instrument.tag);
    tell_leads(
        connection,
        &NewNotice {
            kind,
            instrument: Some(instrument.id),
            check: Some(check.id),
            title: &title,
            words: &words,
            path: &format!("/checks/{}/verdict", check.id),
            at: now,
        },
    )
    .await?;
    Ok(())
}

/// Tells the leads, in one notice, of the drifts with a forecast that a check tells first since the last known change of their
/// charts: each in the sentence that stands everywhere.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn tell_drifts(
    connection: &mut AsyncPgConnection,
    check: &Check,
    view: &PlanView,
    verdict: &Verdict,
    now: Timestamp,
) -> Result<(), StoreError> {
    let drifts = verdict.reasons.iter().filter_map(|reason| match reason {
        Reason::Drifting { key, drift } => Some((key, drift)),
        _ => None,
    });
    let drifts: Vec<(&String, &Drift)> =
        drifts.filter(|(_, drift)| drift.crossing.is_some() || drift.beyond.is_some()).collect();
    if drifts.is_empty() {
        return Ok(());
    }
    let zone = shifts::zone(&shifts::site(connection).await?)?;
    let mut told = Vec::new();
    for (key, drift) in drifts {
        if let Some((stream, label, unit)) = first_told(connection, check.id, key).await? {
            let words = format!("{label}: {}.", drift_words(drift, &unit, &zone));
            told.push((drift.crossing.as_ref().map(|crossing| crossing.at), stream, words));
        }
    }
    // What is beyond its tolerance already, or will be soonest, stands first and is what the notice opens.
    told.sort_by_key(|(at, ..)| *at);
    let [(_, stream, _), ..] = told.as_slice() else { return Ok(()) };
    let title = format!("{} {} is drifting", view.instrument.name, view.instrument.tag);
    let words: Vec<&str> = told.iter().map(|(.., words)| words.as_str()).collect();
    tell_leads(
        connection,
        &NewNotice {
            kind: "drifting",
            instrument: Some(check.instrument_id),
            check: Some(check.id),
            title: &title,
            words: &words.join(" "),
            path: &format!("/charts/{stream}"),
            at: now,
        },
    )
    .await?;
    Ok(())
}

/// Chart, label and unit of a characteristic, if no check before told a drift of it since its segment began.
async fn first_told(
    connection: &mut AsyncPgConnection,
    check: CheckId,
    key: &str,
) -> Result<Option<(StreamId, String, String)>, StoreError> {
    let own: Option<(StreamId, SegmentId, String, String)> = chart_points::table
        .inner_join(chart_streams::table.on(chart_streams::id.eq(chart_points::stream_id)))
        .filter(chart_points::check_id.eq(check))
        .filter(chart_streams::characteristic_key.eq(key))
        .select((
            chart_points::stream_id,
            chart_points::segment_id,
            chart_streams::label,
            chart_streams::unit,
        ))
        .first(connection)
        .await
        .optional()?;
    let Some((stream, segment, label, unit)) = own else { return Ok(None) };
    let told = forecasts::told_in(connection, segment, key, check).await?;
    Ok((!told).then_some((stream, label, unit)))
}

/// Whether all that a check failed of lies inside tolerance, in the guard band.
async fn only_in_band(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<bool, StoreError> {
    let statements: Vec<Option<String>> = characteristics::table
        .inner_join(results::table)
        .left_join(
            budgets::table.on(budgets::result_id
                .eq(characteristics::result_id)
                .and(budgets::key.eq(characteristics::key))),
        )
        .filter(results::check_id.eq(check))
        .filter(characteristics::conformity.eq("fail"))
        .select(budgets::statement.nullable())
        .load(connection)
        .await?;
    let in_band = |one: &Option<String>| one.as_deref() == Some(Statement::ConditionalPass.word());
    Ok(!statements.is_empty() && statements.iter().all(in_band))
}

/// Doubtful ones among the newest checks of a plan, the one just concluded included.
async fn doubts(connection: &mut AsyncPgConnection, view: &PlanView) -> Result<usize, StoreError> {
    let newest: Vec<String> = checks::table
        .inner_join(plan_versions::table)
        .inner_join(results::table)
        .filter(plan_versions::plan_id.eq(view.plan.id))
        .filter(checks::state.ne("void"))
        .filter(checks::purpose.eq("as_found"))
        .filter(results::version.eq(1))
        .order(results::id.desc())
        .limit(DOUBT_WINDOW)
        .select(results::repeat_state)
        .load(connection)
        .await?;
    Ok(newest.iter().filter(|state| *state == "doubtful").count())
}
