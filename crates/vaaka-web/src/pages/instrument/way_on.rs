//! What leads on from where an instrument stands, with the form or link for it; and the check that a lead orders.

use vaaka_core::instrument::{LatestCheck, ServiceState};
use vaaka_core::judgement::{RepeatState, repeat_state};
use vaaka_core::reaction::{Exit, Situation, exits, is_stuck_without_exit};
use vaaka_core::round::{Due, vouched};
use vaaka_store::checks::{self, ShiftCheck};
use vaaka_store::ids::SetUpId;
use vaaka_store::instruments::{StateChanged, as_it_is_since};
use vaaka_store::outcomes::result_of;
use vaaka_store::plans::PlanView;
use vaaka_store::rows::Instrument;
use vaaka_store::standing::Planned;
use vaaka_store::{Connection, adjustments, instruments};

use crate::error::WebError;
use crate::pages::chart::signals::sentence;
use crate::pages::round;
use crate::session::SignedIn;
use crate::shell::Here;

/// One way on.
#[derive(Debug, Clone)]
pub struct Way {
    /// What to do.
    pub words: String,
    /// Where, if it is elsewhere.
    pub path: Option<String>,
    /// The plan of which a check may be ordered here, and the name of that form.
    pub order: Option<(i64, String)>,
}

/// What the newest checks of a cell's plans say together, and whether the newest was made after instrument and cell came into
/// their state; none before the first check. `of_cell` tells whether the state of the cell alone is meant.
pub(in crate::pages) fn latest_of(
    states: &[StateChanged],
    plans: &[Planned],
    (set_up, of_cell): (SetUpId, bool),
) -> Option<LatestCheck> {
    let since = as_it_is_since(states, set_up, of_cell);
    let own = plans.iter().filter(|plan| plan.set_up == set_up);
    let (conforms, at) = vouched(own.map(|plan| &plan.facts))?;
    Some(LatestCheck { conforms, since_change: since.is_none_or(|since| at > since) })
}

/// The ways on for this person; none where the instrument is freely usable.
pub(in crate::pages) async fn ways(
    connection: &mut Connection,
    here: &Here,
    now: jiff::Timestamp,
    signed: &SignedIn,
    (instrument, views, plans): (&Instrument, &[PlanView], &[Planned]),
) -> Result<Vec<Way>, WebError> {
    let service: ServiceState =
        instrument.state.parse().map_err(|_| vaaka_store::unreadable_word(&instrument.state))?;
    let attempts = checks::attempts_of_shift(connection, here.shift.id).await?;
    let of_shift = checks::of_shift(connection, here.shift.id).await?;
    let unproven = adjustments::unproven(connection).await?;
    let of_cell = service == ServiceState::InService;
    let by_lead = signed.person.role == "lead";
    let states = instruments::states(connection, instrument.id).await?;
    let mut found: Vec<Way> = Vec::new();
    if views.is_empty() {
        let at = Situation {
            service,
            repeat: RepeatState::None,
            open: false,
            due: false,
            unproven: false,
            good_since: false,
            planned: false,
            outdated: false,
        };
        let tag = &instrument.tag;
        return Ok(exits(&at, by_lead)
            .into_iter()
            .map(|exit| Way {
                words: sentence(exit.words()),
                path: (exit == Exit::Plan).then(|| format!("/new/plan?instrument={tag}")),
                order: None,
            })
            .collect());
    }
    let wrong = plans.iter().find_map(|one| one.wrong_standard.clone());
    if let Some(tag) = wrong.filter(|_| by_lead) {
        found.push(Way {
            words: format!(
                "See what rested on {tag}; its look-back is closed when that is settled."
            ),
            path: Some(format!("/standards/{tag}")),
            order: None,
        });
    }
    // The whole round is worked out for this: once, and only if a plan is stuck.
    let mut due = None;
    for view in views {
        let runs = attempts.get(&view.plan.id).map_or(&[][..], Vec::as_slice);
        let own: Vec<&ShiftCheck> =
            of_shift.iter().filter(|check| check.plan == view.plan.id).collect();
        let open = own.iter().find(|check| check.check.state == "open");
        let adjusted = unproven
            .iter()
            .rev()
            .find(|(i, set_up, _)| (*i, *set_up) == (instrument.id, view.plan.set_up_id));
        let planned = plans.iter().find(|one| one.plan == view.plan.id);
        let mut at = Situation {
            service: planned.map_or(service, |one| service.worse(one.facts.cell)),
            repeat: repeat_state(runs),
            open: open.is_some(),
            due: false,
            unproven: adjusted.is_some(),
            good_since: latest_of(&states, plans, (view.plan.set_up_id, of_cell))
                .is_some_and(|latest| latest.is_good_since()),
            planned: true,
            outdated: planned
                .is_some_and(|one| one.wrong_standard.is_some() || one.facts.occasion.is_some()),
        };
        if !is_stuck_without_exit(&at) {
            continue;
        }
        let due = match &mut due {
            Some(due) => due,
            none => none.insert(round::due_now(connection, here, now).await?),
        };
        at.due = due.get(&view.plan.id) == Some(&Due::Due);
        let last = own.iter().rev().find(|check| check.check.state == "concluded");
        for exit in exits(&at, by_lead) {
            let check = open.or(last).map(|check| check.check.id);
            let path = match exit {
                Exit::GoOn => check.map(|id| format!("/checks/{id}")),
                Exit::Prove => adjusted.map(|(.., id)| format!("/adjustments/{}", id.0)),
                Exit::Repeat => check.map(|id| format!("/checks/{id}/verdict")),
                Exit::Check => Some("/".to_owned()),
                Exit::Adjust => adjustable(connection, &own).await?,
                _ => None,
            };
            if exit == Exit::Adjust && path.is_none() {
                continue;
            }
            let named =
                if views.len() > 1 { format!(" ({})", view.plan.name) } else { String::new() };
            found.push(Way {
                words: format!("{}{named}", sentence(exit.words())),
                path,
                order: (exit == Exit::Order)
                    .then(|| (view.plan.id.0, format!("order-{}", view.plan.id))),
            });
        }
    }
    Ok(found)
}

/// Where the check is that an adjustment could rest on: the failed one of this shift, if the instrument can be adjusted.
async fn adjustable(
    connection: &mut Connection,
    own: &[&ShiftCheck],
) -> Result<Option<String>, WebError> {
    for check in own.iter().rev().filter(|check| check.check.state == "concluded") {
        let failed = result_of(connection, check.check.id).await?;
        if failed.is_some_and(|stored| stored.row.conforms == "fail") {
            return Ok(Some(format!("/checks/{}/adjust", check.check.id)));
        }
    }
    Ok(None)
}
