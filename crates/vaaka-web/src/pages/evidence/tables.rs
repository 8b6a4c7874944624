//! What stands on a page as a table for other programs: `/export/NAME.csv` and `/export/NAME.json`; a
//! chart also as a drawing, `.svg`.
//! Both forms come from one table. Registers have the heads under which a table is brought in.

use std::collections::HashMap;

use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Response;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use vaaka_core::method::by_key;
use vaaka_formats::{Cell, CsvForm, Table};
use vaaka_store::ids::{CheckId, StreamId};
use vaaka_store::outcomes::result_of;
use vaaka_store::{
    attempts, audit, calendar, charts, checks, entries, instruments, notices, people, plans,
    registers, rounds, search, shifts, standards, trainings,
};

use super::attachment::{as_csv, attachment};
use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::{Asked, PathTag};
use crate::pages::chart;
use crate::pages::chart::Window;
use crate::pages::chart::list as chart_list;
use crate::pages::evidence::records;
use crate::pages::round;
use crate::pages::round::missed;
use crate::session::Caller;
use crate::state::AppState;

/// Rows that one table may have. More are refused with words, never cut in silence: who counts
/// failures in a table must be able to rely on its having them all.
const MOST: i64 = 100_000;

/// What narrows a table: whatever its page can be narrowed by.
#[derive(Debug, Default, Clone, serde::Deserialize)]
#[serde(default)]
pub struct Query {
    tag: String,
    standard: String,
    person: String,
    from: String,
    to: String,
    verdict: String,
    range: String,
    chain: String,
    /// comma, semicolon or tab; as the browser's choice says where it is left out.
    separator: String,
    /// point or comma.
    decimals: String,
    /// yes: a byte-order mark first.
    mark: String,
}

impl Query {
    /// How a CSV file is written: by the address, else by what was chosen in this browser.
    fn csv_form(&self, headers: &HeaderMap) -> Result<CsvForm, WebError> {
        let chosen = crate::session::tables_of(headers);
        let unknown = |what: &str| WebError::NotNow {
            words: format!(
                "“{what}” is not known here. Ask for separator=comma, semicolon or tab, decimals=point or comma, mark=yes or no."
            ),
        };
        Ok(CsvForm {
            separator: match self.separator.as_str() {
                "" => chosen.separator,
                "comma" => ',',
                "semicolon" => ';',
                "tab" => '\t',
                other => return Err(unknown(other)),
            },
            decimal_comma: match self.decimals.as_str() {
                "" => chosen.decimal_comma,
                "comma" => true,
                "point" => false,
                other => return Err(unknown(other)),
            },
            mark: match self.mark.as_str() {
                "" => chosen.mark,
                "yes" => true,
                "no" => false,
                other => return Err(unknown(other)),
            },
        })
    }
}

/// Columns of codes that words stand beside.
const CODES: [&str; 5] = ["conformity", "conforms", "purpose", "source", "control"];

/// Words for a code of one of these columns.
fn words_of(head: &str, code: &str) -> Option<&'static str> {
    Some(match (head, code) {
        ("conformity" | "conforms", "pass") => "within tolerance",
        ("conformity" | "conforms", "fail") => "not accepted",
        ("conformity" | "conforms", "not_judged") => "not judged",
        ("purpose", "as_found") => "as found",
        ("purpose", "as_left") => "as left, the proof of an adjustment",
        ("purpose", "trial") => "a trial, counts for nothing",
        ("source", "keyed") => "typed at the bench",
        ("source", "held") => "kept in the browser while the network was gone",
        ("source", "paper") => "entered from paper",
        ("source", "device") => "read from the instrument",
        ("control", "in_control") => "as it normally is",
        ("control", "signal") => "not where it normally is",
        ("control", "no_baseline") => "no control limits yet",
        ("control", "not_charted") => "not charted",
        _ => return None,
    })
}

/// Whether a column of a table holds moments.
fn is_moment(table: &str, head: &str) -> bool {
    head.ends_with("_at")
        || head == "at" && table != "calendar"
        || table == "missed" && matches!(head, "from" | "until")
}

/// A moment as people read it: local time with its zone.
fn local_words(text: &str, zone: &TimeZone) -> Option<String> {
    // Only what is a moment, not a day.
    let at = text.ends_with('Z').then(|| text.parse::<Timestamp>().ok())??;
    let zoned = at.to_zoned_datetime(zone.clone());
    let name = zone.iana_name().unwrap_or("local");
    Some(format!("{} {name}", zoned.strftime("%Y-%m-%d %H:%M:%S%:z")))
}

/// Gives a table.
pub async fn show(
    caller: Caller,
    State(state): State<AppState>,
    headers: HeaderMap,
    PathTag(file): PathTag,
    Asked(query): Asked<Query>,
) -> Result<Response, WebError> {
    let csv_form = query.csv_form(&headers)?;
    let (name, form) = file.rsplit_once('.').ok_or(WebError::NotFound)?;
    if !matches!(form, "csv" | "json" | "svg") {
        return Err(WebError::NotFound);
    }
    let mut desk = Desk::open(&state).await?;
    if form == "svg" {
        let id = name.strip_prefix("chart-").and_then(|id| id.parse().ok());
        let id = id.ok_or(WebError::NotFound)?;
        let drawn = {
            let asked = (query.range.as_str(), query.from.as_str(), query.to.as_str());
            chart::stand_alone_svg(&state.store, &mut desk, StreamId(id), asked).await?
        };
        return Ok(attachment(name, "svg", "image/svg+xml", drawn));
    }
    let mut table = match name {
        // Addresses of people are for whoever looks after them.
        "mail" => {
            caller.may_administer()?;
            mail_table(&mut desk).await?
        }
        name => table(&mut desk, name, &query).await?,
    };
    let zone = desk.here.zone.clone();
    // Registers are written with the heads that bring them in again.
    if !matches!(name, "instruments" | "standards") {
        table.beside("_local", |head| is_moment(name, head), |_, text| local_words(text, &zone));
        table.beside(
            "_words",
            |head| CODES.contains(&head),
            |head, code| words_of(head, code).map(str::to_owned),
        );
        // How far a signal is: other tables have states of their own.
        table.beside(
            "_words",
            |head| name == "signals" && head == "state",
            |_, code| Some(crate::pages::chart::signals::signal_state(code).to_owned()),
        );
    }
    Ok(match form {
        "csv" => as_csv(name, table.csv_as(csv_form)),
        _ => attachment(name, "json", "application/json", table.json()),
    })
}

async fn table(desk: &mut Desk, name: &str, query: &Query) -> Result<Table, WebError> {
    if let Some((name, id)) = name.rsplit_once('-') {
        let id: i64 = id.parse().map_err(|_| WebError::NotFound)?;
        return match name {
            "chart" => chart_points(desk, StreamId(id), query).await,
            "readings" => readings(desk, CheckId(id)).await,
            "characteristics" => characteristics(desk, CheckId(id)).await,
            _ => Err(WebError::NotFound),
        };
    }
    match name {
        "round" => round::table(desk).await,
        "charts" => chart_list::table(desk).await,
        "forecasts" => crate::pages::chart::forecasts::table(desk).await,
        "forecast_scores" => crate::pages::chart::forecast_score::table(desk).await,
        "instruments" => instruments_table(desk).await,
        "standards" => standards_table(desk).await,
        "plans" => plans_table(desk).await,
        "people" => people_table(desk).await,
        "records" => records_table(desk, query).await,
        "notices" => notices_table(desk).await,
        "signals" => crate::pages::chart::signals::table(desk).await,
        "handover" => handover_table(desk).await,
        "calendar" => calendar_table(desk).await,
        "happenings" => happenings_table(desk, query.tag.trim()).await,
        "audit" => audit_table(desk, &query.chain).await,
        "missed" => {
            let query = missed::Query {
                from: query.from.clone(),
                to: query.to.clone(),
                tag: query.tag.clone(),
            };
            missed::table(desk, &query).await
        }
        _ => Err(WebError::NotFound),
    }
}

async fn instruments_table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&crate::pages::evidence::import::instrument_heads());
    for (one, area) in instruments::all(&mut desk.connection).await? {
        let pairs = one.configuration_names.iter().zip(&one.configuration_values);
        let configuration: Vec<String> =
            pairs.map(|(name, value)| format!("{name} = {value}")).collect();
        table.row([
            one.tag.into(),
            one.name.into(),
            one.family.into(),
            area.name.into(),
            one.maker.into(),
            one.model.into(),
            one.calibrated_until.map(|day| day.0.to_string()).into(),
            one.serial.into(),
            one.owner.into(),
            one.unit.into(),
            one.resolution.into(),
            one.range_low.into(),
            one.maximum.into(),
            one.work_low.into(),
            one.work_high.into(),
            one.firmware.into(),
            one.calibration_file.into(),
            one.adjustable.into(),
            one.sealed.into(),
            one.critical.into(),
            configuration.join(" | ").into(),
            one.state.into(),
        ]);
    }
    Ok(table)
}

/// A line for each value of the certificate that holds today; one line for a standard without any.
async fn standards_table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&crate::pages::evidence::import::standard_heads());
    for record in standards::all(&mut desk.connection, desk.today).await? {
        let values = match &record.certificate {
            Some(certificate) => {
                let values = standards::values(&mut desk.connection, certificate.id).await?;
                values.into_iter().map(Some).collect()
            }
            None => vec![None],
        };
        // The same in each line of a standard, as all that is not of a single value.
        let axis = values.iter().flatten().find_map(|value| value.at_unit.clone());
        for value in values {
            let (lot, paper) = (record.lot.as_ref(), record.certificate.as_ref());
            let value = value.as_ref();
            table.row([
                Cell::from(&record.standard.tag),
                Cell::from(&record.standard.name),
                vaaka_core::standard::kind_words(&record.standard.kind).into(),
                Cell::from(&record.standard.location),
                lot.map(|lot| &lot.lot).into(),
                lot.and_then(|lot| lot.expires_on).map(|day| day.0.to_string()).into(),
                lot.and_then(|lot| lot.open_hours).into(),
                lot.and_then(|lot| lot.use_kind.as_ref()).into(),
                lot.and_then(|lot| lot.use_limit).into(),
                paper.map(|paper| &paper.number).into(),
                paper.map(|paper| &paper.kind).into(),
                paper.map(|paper| &paper.issuer).into(),
                paper.map(|paper| paper.issued_on.0.to_string()).into(),
                paper.map(|paper| paper.valid_from.0.to_string()).into(),
                paper.map(|paper| paper.valid_until.0.to_string()).into(),
                value.map(|value| &value.unit).into(),
                value.map(|value| &value.piece).into(),
                value.map(|value| value.nominal).into(),
                value.map(|value| value.certified_value).into(),
                value.map(|value| value.expanded_uncertainty).into(),
                value.map(|value| value.coverage_factor).into(),
                value.map(|value| value.class_limit).into(),
                value.and_then(|value| value.non_uniformity).into(),
                value.and_then(|value| value.temperature).into(),
                axis.as_ref().into(),
            ]);
        }
    }
    Ok(table)
}

/// The points of the plans in force, a line each.
async fn plans_table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&[
        "instrument",
        "plan",
        "method",
        "version",
        "in force since",
        "due",
        "occasions",
        "minutes",
        "standard",
        "decision rule",
        "point",
        "nominal",
        "unit",
        "direction",
        "place",
        "repeats",
        "charted",
        "pieces",
    ]);
    let in_force = plans::in_force(&mut desk.connection).await?;
    let ids: Vec<_> = in_force.iter().map(|one| one.version).collect();
    for view in plans::by_versions(&mut desk.connection, &ids).await? {
        let method = by_key(&view.plan.method_key).map_or("", |method| method.name());
        let version = &view.version;
        for point in plans::points(&mut desk.connection, version.id).await? {
            table.row([
                Cell::from(&view.instrument.tag),
                Cell::from(&view.plan.name),
                method.into(),
                version.version.into(),
                version.approved_at.map(|at| at.0.to_string()).into(),
                Cell::from(&version.due_rule),
                version.due_triggers.join(" ").into(),
                version.minutes.into(),
                view.standard_words().into(),
                Cell::from(&version.decision_rule),
                point.sequence.into(),
                point.nominal.into(),
                Cell::from(&version.unit),
                point.travel.into(),
                point.place.into(),
                point.repeats.into(),
                point.charted.into(),
                point.pieces.join(" + ").into(),
            ]);
        }
    }
    Ok(table)
}

/// People with their trainings, a line each.
async fn people_table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&["name", "sign-in", "role", "active", "trained for", "until"]);
    let trained = trainings::newest(&mut desk.connection).await?;
    for person in people::all(&mut desk.connection).await? {
        let own: Vec<_> =
            trained.iter().filter(|(training, _)| training.person_id == person.id).collect();
        let lines = match own.is_empty() {
            true => vec![(Cell::Empty, Cell::Empty)],
            false => own
                .iter()
                .map(|(training, _)| {
                    let method = by_key(&training.method_key).map_or("", |method| method.name());
                    (method.into(), training.valid_until.0.to_string().into())
                })
                .collect(),
        };
        for (method, until) in lines {
            table.row([
                Cell::from(&person.name),
                Cell::from(&person.sign_in),
                Cell::from(&person.role),
                person.active.into(),
                method,
                until,
            ]);
        }
    }
    Ok(table)
}

async fn records_table(desk: &mut Desk, query: &Query) -> Result<Table, WebError> {
    let asked = records::Query {
        tag: query.tag.clone(),
        standard: query.standard.clone(),
        person: query.person.clone(),
        from: query.from.clone(),
        to: query.to.clone(),
        verdict: query.verdict.clone(),
    };
    let (wanted, error) = records::wanted(&asked, &desk.here);
    if let Some(words) = error {
        return Err(WebError::NotNow { words });
    }
    let found = search::find(&mut desk.connection, &wanted, MOST + 1).await?;
    let mut table = Table::new(&[
        "record",
        "instrument",
        "name",
        "plan",
        "purpose",
        "state",
        "opened_at",
        "closed_at",
        "person",
        "standard",
        "lot",
        "certificate",
        "conforms",
        "control",
        "void_reason",
        "source",
    ]);
    for one in whole(found, MOST)? {
        table.row([
            one.id.0.into(),
            one.tag.into(),
            one.instrument.into(),
            one.plan.into(),
            one.purpose.into(),
            one.state.into(),
            one.opened_at.0.to_string().into(),
            one.closed_at.map(|at| at.0.to_string()).into(),
            one.person.into(),
            one.standard.into(),
            one.lot.into(),
            one.certificate.into(),
            one.conforms.into(),
            one.control.into(),
            one.void_reason.into(),
            if one.paper { "paper" } else { "screen" }.into(),
        ]);
    }
    Ok(table)
}

/// What was found, if it is no more than `most`.
fn whole<T>(found: Vec<T>, most: i64) -> Result<Vec<T>, WebError> {
    if found.len() as i64 > most {
        return Err(WebError::NotNow {
            words: format!(
                "More than {most} records fit, which is more than one table holds. Nothing was written. Go back, narrow the search, for example by days, and take the tables one after the other."
            ),
        });
    }
    Ok(found)
}

async fn notices_table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&["notice", "kind", "title", "words", "at", "taken_by", "taken_at"]);
    for one in whole(notices::newest(&mut desk.connection, MOST + 1).await?, MOST)? {
        table.row([
            one.id.0.into(),
            one.kind.into(),
            one.title.into(),
            one.words.into(),
            one.at.0.to_string().into(),
            one.taken_by.into(),
            one.taken_at.map(|at| at.0.to_string()).into(),
        ]);
    }
    Ok(table)
}

/// The outbox, newest first.
async fn mail_table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&[
        "mail",
        "to",
        "subject",
        "body",
        "queued_at",
        "sent_at",
        "attempts",
        "last_error",
    ]);
    for one in whole(notices::mails(&mut desk.connection, MOST + 1).await?, MOST)? {
        table.row([
            one.id.0.into(),
            one.recipient.into(),
            one.subject.into(),
            one.body.into(),
            one.queued_at.0.to_string().into(),
            one.sent_at.map(|at| at.0.to_string()).into(),
            one.attempts.into(),
            one.last_error.into(),
        ]);
    }
    Ok(table)
}

/// What was handed over: from the shift before, and in this one.
async fn handover_table(desk: &mut Desk) -> Result<Table, WebError> {
    let mut table = Table::new(&["date", "shift", "at", "words", "person"]);
    let here = desk.here.shift.clone();
    let before = rounds::shift_before(&mut desk.connection, &here).await?;
    for shift in before.into_iter().chain([here]) {
        for note in rounds::handed_over(&mut desk.connection, shift.id).await? {
            table.row([
                shift.business_date.0.to_string().into(),
                Cell::from(&shift.label),
                note.at.0.to_string().into(),
                note.words.into(),
                note.person.into(),
            ]);
        }
    }
    Ok(table)
}

/// When shifts begin and on which days they work; then the days on which nobody does.
async fn calendar_table(desk: &mut Desk) -> Result<Table, WebError> {
    const DAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
    let mut table = Table::new(&["kind", "name", "begins", "works_on", "day"]);
    let site = shifts::site(&desk.connection).await?;
    for start in calendar::starts(&mut desk.connection, site.id).await? {
        let days: Vec<&str> = DAYS
            .into_iter()
            .zip(&start.days)
            .filter(|(_, works)| **works)
            .map(|(day, _)| day)
            .collect();
        table.row([
            "shift".into(),
            start.label.into(),
            start.at.0.strftime("%H:%M").to_string().into(),
            days.join(" ").into(),
            Cell::Empty,
        ]);
    }
    for (day, name) in calendar::holidays_of(&mut desk.connection, site.id).await? {
        let date = day.to_string().into();
        table.row(["holiday".into(), name.into(), Cell::Empty, Cell::Empty, date]);
    }
    Ok(table)
}

/// What happened to an instrument, or to all, and how its use was changed, oldest first.
async fn happenings_table(desk: &mut Desk, tag: &str) -> Result<Table, WebError> {
    let mut table = Table::new(&[
        "instrument",
        "at",
        "kind",
        "words",
        "restricted_to",
        "person",
        "affects_measurement",
        "set_up",
    ]);
    let all = match tag {
        "" => instruments::all(&mut desk.connection).await?,
        tag => vec![instruments::by_tag(&mut desk.connection, tag).await?],
    };
    for (instrument, _) in all {
        let mut rows: Vec<(vaaka_store::At, Vec<Cell>)> = Vec::new();
        for (event, by) in registers::events(&desk.connection, instrument.id).await? {
            let cells = vec![
                event.kind.into(),
                event.note.into(),
                Cell::Empty,
                by.into(),
                event.affects_measurement.into(),
                Cell::Empty,
            ];
            rows.push((event.at, cells));
        }
        for one in instruments::states(&mut desk.connection, instrument.id).await? {
            let cells = vec![
                one.row.state.into(),
                one.row.reason.into(),
                one.row.restricted_to.into(),
                one.person.into(),
                Cell::Empty,
                one.cell.into(),
            ];
            rows.push((one.row.at, cells));
        }
        rows.sort_by_key(|(at, _)| *at);
        for (at, cells) in rows {
            let head = [Cell::from(&instrument.tag), at.0.to_string().into()];
            table.row(head.into_iter().chain(cells));
        }
    }
    Ok(table)
}

async fn audit_table(desk: &mut Desk, chain: &str) -> Result<Table, WebError> {
    let mut table = Table::new(&[
        "chain",
        "sequence",
        "at",
        "person",
        "action",
        "detail",
        "previous_hash",
        "hash",
    ]);
    let names = people::all(&mut desk.connection).await?;
    for entry in audit::read_chain(&mut desk.connection, chain.trim()).await? {
        let by = entry.person_id.and_then(|id| names.iter().find(|person| person.id == id));
        table.row([
            entry.chain.into(),
            entry.sequence.into(),
            entry.at.0.to_string().into(),
            by.map(|person| &person.name).into(),
            entry.action.into(),
            entry.detail.to_string().into(),
            entry.previous_hash.map(hex::encode).into(),
            hex::encode(entry.hash).into(),
        ]);
    }
    Ok(table)
}

/// The points that a chart shows, with the limits each was held against, and the values from before.
async fn chart_points(desk: &mut Desk, id: StreamId, query: &Query) -> Result<Table, WebError> {
    let view = charts::by_id(&desk.connection, id).await?;
    let window = Window::of(&query.range, &query.from, &query.to, desk.now, &desk.here.zone);
    let mut read = chart::read(&mut desk.connection, view, window.from, window.to).await?;
    read.points.retain(|one| one.point.measured_at.0 <= window.to);
    let mut table = Table::new(&[
        "measured_at",
        "value",
        "unit",
        "source",
        "counted",
        "purpose",
        "conformity",
        "signal",
        "lower_control_limit",
        "center_line",
        "upper_control_limit",
        "lower_tolerance_limit",
        "upper_tolerance_limit",
        "ewma",
        "person",
        "certificate",
        "record",
    ]);
    let unit = &read.view.stream.unit;
    for earlier in &read.earlier {
        let mut row = vec![
            earlier.at.0.to_string().into(),
            earlier.value.into(),
            Cell::from(unit),
            "brought in".into(),
            false.into(),
        ];
        row.resize(14, Cell::Empty);
        row.extend([Cell::from(&earlier.person), Cell::Empty, Cell::Empty]);
        table.row(row);
    }
    for one in &read.points {
        let point = &one.point;
        table.row([
            point.measured_at.0.to_string().into(),
            point.value.into(),
            Cell::from(unit),
            if one.paper.is_some() { "paper" } else { "check" }.into(),
            point.ordinal.is_some().into(),
            Cell::from(&one.purpose),
            Cell::from(&point.conformity),
            point.signalled.into(),
            point.lower_control_limit.into(),
            point.center_line.into(),
            point.upper_control_limit.into(),
            point.lower_tolerance_limit.into(),
            point.upper_tolerance_limit.into(),
            point.ewma.into(),
            one.person.as_ref().into(),
            Cell::from(&one.certificate),
            point.check_id.0.into(),
        ]);
    }
    Ok(table)
}

/// Every entry of a check ever kept, those that stand no longer with the reason.
async fn readings(desk: &mut Desk, id: CheckId) -> Result<Table, WebError> {
    let check = checks::by_id(&mut desk.connection, id).await?;
    let view = plans::version(&mut desk.connection, check.plan_version_id).await?;
    let tag = view.instrument.tag.as_str();
    let all = entries::every_entry(&mut desk.connection, id).await?;
    let attempts = attempts::of(&desk.connection, id).await?;
    let mut table = Table::new(&[
        "instrument",
        "step",
        "repeat",
        "kind",
        "typed",
        "indication",
        "unit",
        "added",
        "source",
        "person",
        "measured_at",
        "received_at",
        "stands",
        "why_not",
    ]);
    let replaced: HashMap<_, _> = all
        .iter()
        .filter_map(|(one, ..)| Some((one.replaces_id?, one.reason.clone().unwrap_or_default())))
        .collect();
    for (one, person, void) in all {
        let why_not = match (void, replaced.get(&one.id)) {
            (Some(why), _) => format!("void: {why}"),
            (None, Some(why)) => format!("corrected: {why}"),
            (None, None) => String::new(),
        };
        table.row([
            tag.into(),
            one.step_key.into(),
            one.repeat.into(),
            one.kind.into(),
            one.typed.into(),
            one.indication.into(),
            one.unit.into(),
            one.added.into(),
            one.source.into(),
            person.into(),
            one.measured_at.0.to_string().into(),
            one.received_at.0.to_string().into(),
            why_not.is_empty().into(),
            why_not.into(),
        ]);
    }
    // What was typed and refused stands among them as what it is.
    for (one, person) in attempts {
        table.row([
            tag.into(),
            one.step_key.into(),
            one.repeat.into(),
            "attempt".into(),
            one.typed.into(),
            Cell::Empty,
            Cell::Empty,
            Cell::Empty,
            Cell::Empty,
            person.into(),
            one.at.0.to_string().into(),
            Cell::Empty,
            false.into(),
            format!("refused: {}", one.said).into(),
        ]);
    }
    Ok(table)
}

/// The characteristics of a check with their judgement, by the newest version of its result.
async fn characteristics(desk: &mut Desk, id: CheckId) -> Result<Table, WebError> {
    checks::by_id(&mut desk.connection, id).await?;
    let mut table = Table::new(&[
        "characteristic",
        "nominal",
        "value",
        "unit",
        "lower_tolerance_limit",
        "upper_tolerance_limit",
        "expanded_uncertainty",
        "coverage_factor",
        "lower_acceptance_limit",
        "upper_acceptance_limit",
        "conformity",
        "probability_of_conformity",
    ]);
    let Some(stored) = result_of(&mut desk.connection, id).await? else { return Ok(table) };
    for (characteristic, judged) in &stored.results {
        let limits = characteristic.limits;
        let conformity = vaaka_store::to_word(&judged.conformity)?;
        table.row([
            Cell::from(&characteristic.label),
            characteristic.nominal.into(),
            characteristic.value().into(),
            characteristic.unit.symbol().into(),
            limits.and_then(|limits| limits.lower).into(),
            limits.and_then(|limits| limits.upper).into(),
            judged.expanded_uncertainty().into(),
            judged.coverage_factor().into(),
            judged.acceptance.and_then(|limits| limits.lower).into(),
            judged.acceptance.and_then(|limits| limits.upper).into(),
            conformity.into(),
            judged.conformance_probability.into(),
        ]);
    }
    Ok(table)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_has_everything_or_is_refused() {
        assert_eq!(whole(vec![1, 2, 3], 3).ok(), Some(vec![1, 2, 3]));
        let refused = whole(vec![1, 2, 3, 4], 3);
        let Err(WebError::NotNow { words }) = refused else { panic!("cut in silence") };
        assert!(words.starts_with("More than 3 records"), "{words}");
    }
}
