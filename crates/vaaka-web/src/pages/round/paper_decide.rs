//! Sheets of paper that wait, and their decision by a lead who neither measured nor entered them.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_core::method::{Entry, Purpose, RunState, by_key};
use vaaka_core::quantity::{show_decimal, show_float, show_signed_float};
use vaaka_core::round::{LateRemark, late_remarks};
use vaaka_store::checks::{Late, NewCheck};
use vaaka_store::ids::PersonId;
use vaaka_store::paper;
use vaaka_store::second_look::Decision;
use vaaka_store::{StoreError, people, plans, shifts};

use crate::auth::Address;
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::Fields;
use crate::forms::PathId;
use crate::pages::people::second_look::{Deciding, Errors, hear};
use crate::pages::round::paper::{Sheet, rank_words, read_again};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time, local_time};

/// Sheets that the list shows.
const SHOWN: i64 = 200;

#[derive(Debug, Template)]
#[template(path = "paper_list.html")]
struct ListPage {
    shell: Shell,
    waiting: usize,
    rows: Vec<ListRow>,
}

#[derive(Debug)]
struct ListRow {
    id: i64,
    when: String,
    instrument: String,
    plan: String,
    measured_by: String,
    entered_by: String,
    state: String,
}

/// Shows the sheets, those that wait first.
pub async fn list(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let sheets = paper::all(&mut desk.connection, SHOWN).await?;
    let everybody = people::all(&mut desk.connection).await?;
    let name = |id: PersonId| {
        everybody.iter().find(|p| p.id == id).map_or_else(String::new, |p| p.name.clone())
    };
    let mut rows = Vec::new();
    for sheet in &sheets {
        let view = plans::version(&mut desk.connection, sheet.plan_version_id).await?;
        rows.push(ListRow {
            id: sheet.id,
            when: local_day_time(sheet.began_at.0, &desk.here.zone),
            instrument: format!("{} {}", view.instrument.name, view.instrument.tag),
            plan: view.plan.name.clone(),
            measured_by: name(sheet.measured_by),
            entered_by: name(sheet.entered_by),
            state: state_words(sheet).to_owned(),
        });
    }
    let template = ListPage {
        shell: Shell::new(&signed, "records", &desk.here),
        waiting: sheets.iter().filter(|sheet| sheet.state == "waiting").count(),
        rows,
    };
    page(StatusCode::OK, &template)
}

fn state_words(sheet: &paper::Sheet) -> &'static str {
    match (sheet.state.as_str(), sheet.alone) {
        ("waiting", _) => "waits for a lead",
        ("countersigned", false) => "countersigned",
        ("countersigned", true) => "taken as a check, not countersigned",
        _ => "rejected",
    }
}

#[derive(Debug, Template)]
#[template(path = "paper.html")]
struct SheetPage {
    shell: Shell,
    id: i64,
    heading: String,
    file: i64,
    picture: bool,
    state: &'static str,
    facts: Vec<(&'static str, String)>,
    remarks: Vec<String>,
    /// What does not hold any more, where the sheet can only be rejected.
    unreadable: Vec<String>,
    written: Vec<(String, String)>,
    found: Vec<Found>,
    rank: &'static str,
    check: Option<i64>,
    decided: Option<String>,
    may_decide: Option<Deciding>,
    why_not: Option<&'static str>,
}

/// What a characteristic comes to.
#[derive(Debug)]
struct Found {
    label: String,
    value: String,
    limits: String,
    inside: bool,
}

/// Whether somebody measured or entered it.
fn is_own(signed: &SignedIn, sheet: &paper::Sheet) -> bool {
    sheet.entered_by == signed.person.id || sheet.measured_by == signed.person.id
}

/// Why somebody may not decide a sheet.
fn why_not(signed: &SignedIn, sheet: &paper::Sheet, alone: bool) -> Option<&'static str> {
    if signed.person.role != "lead" {
        return Some("A lead who neither measured nor entered it decides.");
    }
    (is_own(signed, sheet) && !alone)
        .then_some("You measured or entered it yourself: another lead decides.")
}

/// Shows one sheet: its picture beside what was typed, what it would come to, and what is worth a second look.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw(&mut desk, &signed, id, &Fields::default(), [None, None], StatusCode::OK).await
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    id: i64,
    typed: &Fields,
    errors: Errors,
    status: StatusCode,
) -> Result<Response, WebError> {
    let kept = paper::sheet(&mut desk.connection, id).await?;
    let (view, steps, read) = read_again(desk, &kept).await?;
    let everybody = people::all(&mut desk.connection).await?;
    let name = |id: PersonId| {
        everybody.iter().find(|p| p.id == id).map_or_else(String::new, |p| p.name.clone())
    };
    let zone = desk.here.zone.clone();
    let shift = shifts::by_id(&mut desk.connection, kept.shift_instance_id).await?;
    let (unreadable, written, found, remarks) = match &read {
        Ok(sheet) => {
            let titles: Vec<(String, String)> = sheet
                .entries
                .iter()
                .filter_map(|entry| {
                    let step = steps.iter().find(|step| step.key == entry.step)?;
                    let number = if step.repeats > 1 {
                        format!(", {}", entry.repeat)
                    } else {
                        String::new()
                    };
                    let shown = match entry.typed.as_str() {
                        "" | "on" => "ticked".to_owned(),
                        text => format!("{text} {}", entry.unit.clone().unwrap_or_default()),
                    };
                    Some((format!("{}{number}", step.title), shown.trim().to_owned()))
                })
                .collect();
            let found = found(desk, &view, sheet).await?;
            let mut remarks: Vec<String> = late_remarks(&steps, &run_of(sheet).entries)
                .into_iter()
                .map(remark_words)
                .collect();
            if kept.entered_by == kept.measured_by {
                remarks.push("Who measured also entered it.".into());
            }
            if !shift.works {
                remarks.push("That shift does not work.".into());
            }
            (vec![], titles, found, remarks)
        }
        Err(faults) => (faults.values().cloned().collect(), vec![], vec![], vec![]),
    };
    let alone = people::is_only_lead(&mut desk.connection).await?;
    let waits = kept.state == "waiting";
    let why = why_not(signed, &kept, alone).filter(|_| waits);
    let rank =
        paper::rank_of(&mut desk.connection, view.plan.id, kept.shift_instance_id, kept.began_at.0)
            .await?;
    let files = vaaka_store::files::read(&mut desk.connection, kept.file_id).await?;
    let template = SheetPage {
        shell: Shell::new(signed, "records", &desk.here),
        id,
        heading: format!("{} {}: {}", view.instrument.name, view.instrument.tag, view.plan.name),
        file: kept.file_id.0,
        picture: files.1 != "application/pdf",
        state: state_words(&kept),
        facts: vec![
            (
                "Measured",
                format!(
                    "{} to {}, {} of {}",
                    local_day_time(kept.began_at.0, &zone),
                    local_time(kept.ended_at.0, &zone),
                    shift.label.to_lowercase(),
                    shift.business_date.0.strftime("%-d %b %Y")
                ),
            ),
            ("By", name(kept.measured_by)),
            ("Why on paper", kept.reason.clone()),
            (
                "Entered",
                format!(
                    "{} by {}",
                    local_day_time(kept.entered_at.0, &zone),
                    name(kept.entered_by)
                ),
            ),
            ("Plan", format!("version {}", view.version.version)),
        ],
        remarks,
        may_decide: (waits && why.is_none())
            .then(|| Deciding::of(alone && is_own(signed, &kept), typed, errors)),
        unreadable,
        written,
        found,
        rank: if waits { rank_words(rank) } else { "" },
        check: kept.check_id.map(|id| id.0),
        decided: kept.decided_by.zip(kept.decided_at).map(|(by, at)| {
            format!(
                "{} by {} on {}: {}",
                state_words(&kept),
                name(by),
                local_day_time(at.0, &zone),
                kept.decided_reason.clone().unwrap_or_default()
            )
        }),
        why_not: why,
    };
    page(status, &template)
}

fn remark_words(remark: LateRemark) -> String {
    match remark {
        LateRemark::AllNominal { readings } => format!(
            "All {readings} readings are exactly their nominal values. Real readings seldom are: compare with the picture."
        ),
        LateRemark::AllAlike { readings } => format!(
            "The readings of every step that was read more than once are alike ({readings} readings). Compare with the picture."
        ),
    }
}

fn run_of(sheet: &Sheet) -> RunState {
    let entries = sheet
        .entries
        .iter()
        .map(|entry| Entry {
            step: entry.step.clone(),
            repeat: entry.repeat,
            at: entry.at,
            value: entry.value.clone(),
        })
        .collect();
    RunState { entries }
}

/// What the sheet comes to, computed as the check will be.
async fn found(
    desk: &mut Desk,
    view: &plans::PlanView,
    sheet: &Sheet,
) -> Result<Vec<Found>, WebError> {
    let spec =
        plans::spec(&mut desk.connection, view, &sheet.certificates, Purpose::AsFound).await?;
    let found = by_key(&view.plan.method_key)?.evaluate(&spec, &run_of(sheet))?;
    Ok(found
        .iter()
        .map(|c| {
            let places = c.mean_decimals();
            let show = |limit: Option<rust_decimal::Decimal>| {
                limit.map_or_else(|| "no limit".to_owned(), |own| show_decimal(own, own.scale()))
            };
            let signed = c.kind == vaaka_core::judgement::CharacteristicKind::Error;
            let value = if signed {
                show_signed_float(c.value(), places)
            } else {
                show_float(c.value(), places)
            };
            Found {
                label: c.label.clone(),
                value: format!("{value} {}", c.unit),
                limits: c.limits.map_or_else(String::new, |limits| {
                    format!("{} to {} {}", show(limits.lower), show(limits.upper), c.unit)
                }),
                inside: c.limits.is_none_or(|limits| limits.hold_mean(c.sum(), c.n())),
            }
        })
        .collect())
}

/// Countersigns or rejects a sheet.
pub async fn decide(
    PathId(id): PathId,
    address: Address,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let kept = paper::sheet(&mut desk.connection, id).await?;
    let alone = people::is_only_lead(&mut desk.connection).await?;
    if kept.state != "waiting" {
        return Err(WebError::NotNow { words: "This sheet was decided meanwhile.".into() });
    }
    if let Some(words) = why_not(&signed, &kept, alone) {
        return Err(WebError::NotNow { words: words.into() });
    }
    let who = (&mut desk, &signed, &address);
    let reason = match hear(who, &typed, "decide a sheet of paper", true).await? {
        Ok(reason) => reason,
        Err(errors) => {
            let status = StatusCode::UNPROCESSABLE_ENTITY;
            return draw(&mut desk, &signed, id, &typed, errors, status).await;
        }
    };
    let alone = alone && is_own(&signed, &kept);
    let decision = Decision { by: signed.person.id, reason: &reason, alone, at: desk.now };
    if typed.get("verdict") == "reject" {
        paper::reject(&mut desk.connection, id, decision).await?;
        return Ok(Redirect::to(&paper::path(id)).into_response());
    }
    let (view, _, read) = read_again(&mut desk, &kept).await?;
    let Ok(sheet) = read else {
        return Err(WebError::NotNow {
            words: "What this sheet rests on was changed since it was entered: it can only be rejected.".into(),
        });
    };
    let measurer = people::anybody(&mut desk.connection, sheet.measured_by).await?;
    let new = NewCheck {
        plan: &view,
        shift: kept.shift_instance_id,
        certificates: sheet.certificates.clone(),
        purpose: Purpose::AsFound,
        person: sheet.measured_by,
        now: sheet.began,
        key: kept.idempotency_key,
        late: Some(Late { reason: &sheet.reason, measured_by: &measurer.name, beside: false }),
    };
    match paper::countersign(&mut desk.connection, id, &new, &sheet.entries, decision).await {
        Ok(Some(check)) => Ok(Redirect::to(&format!("/checks/{check}/verdict")).into_response()),
        Ok(None) => Err(WebError::NotNow { words: "This sheet was decided meanwhile.".into() }),
        Err(StoreError::Conflict { .. }) => Err(WebError::NotNow {
            words: "A check by this plan is open on the screen. Countersign the sheet when that one is finished or void.".into(),
        }),
        Err(other) => Err(other.into()),
    }
}

/// Where a check from paper comes from: who measured and when, why, who entered and who countersigned it.
pub(in crate::pages) async fn paper_words(
    connection: &mut vaaka_store::Connection,
    check: &vaaka_store::rows::Check,
    zone: &jiff::tz::TimeZone,
) -> Result<Option<String>, WebError> {
    let (Some(reason), Some(who)) = (&check.late_reason, &check.measured_by) else {
        return Ok(None);
    };
    let mut words = format!("measured by {who}; {reason}");
    // Sheets from before there were countersignatures have none.
    let Some(sheet) = paper::of_check(connection, check.id).await? else {
        return Ok(Some(format!("{words}; not countersigned")));
    };
    let entered = people::anybody(connection, sheet.entered_by).await?.name;
    words = format!(
        "measured by {who} between {} and {}; {reason}; entered by {entered} on {}",
        local_day_time(sheet.began_at.0, zone),
        local_time(sheet.ended_at.0, zone),
        local_day_time(sheet.entered_at.0, zone)
    );
    if let Some((by, at)) = sheet.decided_by.zip(sheet.decided_at) {
        let by = people::anybody(connection, by).await?.name;
        let how = if sheet.alone { "not countersigned, taken by" } else { "countersigned by" };
        words = format!("{words}; {how} {by} on {}", local_day_time(at.0, zone));
    }
    Ok(Some(words))
}
