//! Answers for other programs: the release gate as JSON.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use serde_json::json;
use vaaka_core::instrument::ServiceState;
use vaaka_core::quantity::{TypedDecimal, Unit};
use vaaka_core::round::{DueRule, PlanStanding, ReleaseInput, release};
use vaaka_store::{StoreError, checks, instruments, plans, unreadable_word};

use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::Asked;
use crate::pages::instrument::list::standing;
use crate::session::Caller;
use crate::state::AppState;

/// May this be measured on that instrument now?
#[derive(Debug, Default, Deserialize)]
pub struct ReleaseQuery {
    #[serde(default)]
    instrument: String,
    /// Name of the cell (set-up) that it is measured on; without one all cells have to stand well.
    #[serde(default)]
    cell: String,
    #[serde(default)]
    lot: String,
    #[serde(default)]
    value: String,
    #[serde(default)]
    unit: String,
}

#[derive(Debug, Serialize)]
struct Refusal {
    error: String,
}

fn refuse(status: StatusCode, words: impl Into<String>) -> Response {
    (status, Json(Refusal { error: words.into() })).into_response()
}

/// The release gate: `GET /api/release?instrument=R-02&cell=as+installed&lot=L-118&value=20&unit=kg`.
pub async fn release_gate(
    _caller: Caller,
    State(state): State<AppState>,
    Asked(query): Asked<ReleaseQuery>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let bad = |words: &str| Ok(refuse(StatusCode::BAD_REQUEST, words));
    if query.instrument.trim().is_empty() {
        return bad("Name the instrument by its tag: instrument=R-02.");
    }
    let tag = query.instrument.trim();
    let (instrument, _) = match instruments::by_tag(&mut desk.connection, tag).await {
        Ok(found) => found,
        Err(StoreError::NotFound) => {
            return Ok(refuse(StatusCode::NOT_FOUND, format!("There is no instrument “{tag}”.")));
        }
        Err(cause) => return Err(cause.into()),
    };
    let own: Unit = instrument.unit.parse().map_err(|_| unreadable_word(&instrument.unit))?;
    let value = match query.value.trim() {
        "" => None,
        text => {
            let Ok(typed) = TypedDecimal::parse(text) else {
                return bad("The value is no number: give digits with one comma or point.");
            };
            let unit = match query.unit.trim() {
                "" => own,
                unit => match unit.parse::<Unit>() {
                    Ok(unit) => unit,
                    Err(_) => return bad("This unit is not known."),
                },
            };
            let Ok(value) = unit.try_convert(typed.value, own) else {
                return bad("This unit is of another quantity than the instrument measures.");
            };
            let low = instrument.work_low.unwrap_or(instrument.range_low);
            let high = instrument.work_high.unwrap_or(instrument.maximum);
            Some((value, low, high))
        }
    };
    let service: ServiceState =
        instrument.state.parse().map_err(|_| unreadable_word(&instrument.state))?;
    let mut views = plans::of_instrument(&mut desk.connection, instrument.id).await?;
    let set_ups = instruments::set_ups(&mut desk.connection, instrument.id).await?;
    let cell = query.cell.trim();
    if !cell.is_empty() {
        let Some(meant) = set_ups.iter().find(|set_up| set_up.name == cell) else {
            let names: Vec<String> =
                set_ups.iter().map(|set_up| format!("“{}”", set_up.name)).collect();
            let words = format!("It has no cell “{cell}”. It has {}.", names.join(", "));
            return Ok(refuse(StatusCode::NOT_FOUND, words));
        };
        views.retain(|view| view.plan.set_up_id == meant.id);
    }
    let ids: Vec<_> = views.iter().map(|view| view.plan.id).collect();
    let last = checks::last_dates(&mut desk.connection, &ids).await?;
    let found = instruments::by_tag(&mut desk.connection, tag).await?;
    let known = standing(&mut desk.connection, desk.now, vec![found], &set_ups).await?;
    let known = known.first().ok_or(WebError::NotFound)?;
    let mut standings = Vec::new();
    for view in &views {
        let rule: DueRule = view.version.due_rule.parse().map_err(WebError::Inner)?;
        let date = last.iter().find(|(plan, _)| *plan == view.plan.id).map(|(_, day)| day.0);
        let newest = checks::newest_shift(&mut desk.connection, view.plan.id).await?;
        let in_shift = newest.as_ref().is_some_and(|shift| *shift == desk.here.shift.id);
        let facts = known.plans.iter().find(|one| one.plan == view.plan.id);
        standings.push(PlanStanding {
            name: view.plan.name.clone(),
            facts: facts.map(|one| one.facts.clone()).unwrap_or_default(),
            cell_only: facts.and_then(|one| one.cell_only.clone()).unwrap_or_default(),
            due: calendar_due(rule, date, in_shift, &desk),
        });
    }
    let answer = release(&ReleaseInput {
        state: service,
        restricted_to: instrument.restricted_to.clone().unwrap_or_default(),
        plans: standings,
        value,
    });
    let body = json!({
        "instrument": instrument.tag,
        "lot": query.lot,
        "at": desk.now.to_string(),
        "released": answer.released,
        "state": service.word(),
        "standing": known.standing_words(),
        "use": known.use_words(),
        "only": known.only(),
        "cell": (!cell.is_empty()).then_some(cell),
        "reasons": answer.reasons,
    });
    Ok(Json(body).into_response())
}

/// Why a check is due by the calendar before anything is measured. A check of each shift is asked for
/// from the shift itself once the one before it went by without.
fn calendar_due(
    rule: DueRule,
    last: Option<jiff::civil::Date>,
    in_shift: bool,
    desk: &Desk,
) -> Option<String> {
    match rule {
        _ if in_shift => None,
        DueRule::EachShift => Some("in this shift".into()),
        DueRule::BeforeUse => Some("before each use, and none was made in this shift".into()),
        rule => rule.is_due(last, desk.here.shift.business_date.0).then(|| rule.words().to_owned()),
    }
}
