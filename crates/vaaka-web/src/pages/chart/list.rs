//! All charts in a list, worst first.

use std::collections::HashMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use vaaka_core::chart::ChartDesign;
use vaaka_core::instrument::ServiceState;
use vaaka_core::quantity::show_float;
use vaaka_core::round::{Standing, of_chart};
use vaaka_formats::{Cell, Table};
use vaaka_store::Connection;
use vaaka_store::charts::{self, BriefPoint, StreamView};
use vaaka_store::ids::StreamId;
use vaaka_store::rows::Stream;
use vaaka_store::standing::{Of, Standings};
use vaaka_store::{StoreError, studies};

use crate::desk::Desk;
use crate::draw::{Beam, BeamMark, BeamSize};
use crate::error::WebError;
use crate::pages::chart::false_signals_a_check;
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
use crate::state::{AppState, local_day_time};

/// How many points a beam looks back.
pub const BEAM_TRAIL: i64 = 9;

#[derive(Debug, Template)]
#[template(path = "charts.html")]
struct ChartsPage {
    shell: Shell,
    heading: String,
    false_alarms: String,
    reviews: Vec<(i64, String)>,
    rows: Vec<Row>,
}

#[derive(Debug)]
struct Row {
    id: StreamId,
    instrument: String,
    area: String,
    label: String,
    beam: String,
    value: String,
    at: String,
    state: &'static str,
    words: &'static str,
}

/// Class of a standing, for shape and colour.
pub fn state_class(standing: Standing) -> &'static str {
    match standing {
        standing if standing.is_bad() => "out",
        Standing::Unproven
        | Standing::Restricted
        | Standing::WrongStandard
        | Standing::CheckFirst
        | Standing::SignalAbove
        | Standing::SignalBelow => "signal",
        Standing::OutOfUse | Standing::Retired => "void",
        Standing::InControl | Standing::GoodSince => "ok",
        _ => "due",
    }
}

/// What a newest point says by itself, for its mark on a beam. How the chart stands is asked of [`Standings`].
pub fn by_itself(newest: Option<&BriefPoint>) -> Standing {
    let point = newest.and_then(|point| point.last().ok());
    of_chart(ServiceState::InService, &[], point.as_ref())
}

/// The beam of a stream from its newest point and the values before it, oldest first.
pub fn beam_of(stream: &Stream, newest: Option<&BriefPoint>, trail: &[f64]) -> Beam {
    let decimals = u32::try_from(stream.decimals).unwrap_or(1);
    let Some(newest) = newest else {
        return Beam::new(BeamSize::Row, format!("{}: not checked yet", stream.label));
    };
    let standing = by_itself(Some(newest));
    let description = format!(
        "{}: {} {}, {}",
        stream.label,
        stream.shown(newest.value, decimals),
        stream.unit,
        standing.words_with_drift(newest.drift_per_week).to_lowercase()
    );
    let control =
        newest.lower_control_limit.zip(newest.upper_control_limit).zip(newest.center_line);
    // The arrow stands for a proven drift, not for any signal.
    let drift = match newest.drift_per_week {
        Some(slope) if slope > 0.0 => 1,
        Some(slope) if slope < 0.0 => -1,
        _ => 0,
    };
    Beam {
        tolerance: (newest.lower_tolerance_limit, newest.upper_tolerance_limit),
        control: control.map(|((lower, upper), center)| (lower, center, upper)),
        trail: trail.to_vec(),
        mark: Some(BeamMark {
            value: newest.value,
            state: match state_class(standing) {
                "due" => "ok",
                other => other,
            },
        }),
        drift,
        ..Beam::new(BeamSize::Row, description)
    }
}

/// Signals without a cause that charts raise in a week, on average, each by its own design and checked as
/// often as its plan says; of all charts in use where none are named.
pub(in crate::pages) async fn false_alarms_a_week(
    connection: &mut Connection,
    streams: Option<&[StreamId]>,
) -> Result<f64, WebError> {
    let mut parts = Vec::new();
    for group in charts::design_groups(connection, streams).await? {
        let Ok(design) = serde_json::from_value::<ChartDesign>(group.design) else { continue };
        let checks = 7.0 * 86_400.0 / (group.interval_seconds.max(1) as f64);
        parts.push((design, group.count as f64 * checks));
    }
    // The first look after a start simulates each kind of chart once, some milliseconds each.
    let sum = tokio::task::spawn_blocking(move || {
        let of = |(design, checks): &(ChartDesign, f64)| {
            checks * false_signals_a_check(design).unwrap_or_default()
        };
        parts.iter().map(of).sum::<f64>()
    });
    sum.await.map_err(|stopped| WebError::Inner(stopped.to_string()))
}

/// "about 0.8", "about 12".
pub(in crate::pages) fn alarms_words(a_week: f64) -> String {
    format!("about {}", show_float(a_week, if a_week < 10.0 { 1 } else { 0 }))
}

/// The newest points of streams, by stream.
pub async fn newest_of(
    connection: &mut Connection,
    ids: &[StreamId],
) -> Result<HashMap<StreamId, BriefPoint>, WebError> {
    let points = charts::newest_points(connection, ids).await?;
    Ok(points.into_iter().map(|point| (point.stream_id, point)).collect())
}

/// Shows the list.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let here = Here::find(&state, &mut connection).await?;
    let streams = charts::all(&mut connection).await?;
    let ids: Vec<StreamId> = streams.iter().map(|view| view.stream.id).collect();
    let newest = newest_of(&mut connection, &ids).await?;
    let trails = charts::trails(&mut connection, &ids, BEAM_TRAIL).await?;
    let all = Standings::read(&mut connection, Of::All, state.now()).await?;
    let mut own: Vec<(Standing, Standing)> = Vec::new();
    let mut standings: Vec<(Standing, Row)> = streams
        .iter()
        .map(|view| {
            let newest = newest.get(&view.stream.id);
            let trail = trails.get(&view.stream.id).map_or(&[][..], Vec::as_slice);
            let standing = all.of_chart(&view.instrument.state, &view.stream, newest)?;
            own.push((standing, by_itself(newest)));
            Ok((standing, row(view, newest, trail, standing, &here)))
        })
        .collect::<Result<_, StoreError>>()?;
    standings.sort_by_key(|(standing, _)| *standing);
    let heading = heading(&own);
    let a_week = false_alarms_a_week(&mut connection, None).await?;
    let due = studies::reviews_due(&mut connection, state.now()).await?;
    let reviews = due
        .iter()
        .filter_map(|(id, at)| {
            let view = streams.iter().find(|view| view.stream.id == *id)?;
            let since = at.0.to_zoned_datetime(here.zone.clone()).strftime("%-d %b %Y");
            let name = format!(
                "{} {}",
                view.instrument.tag,
                crate::pages::chart::lower_first(&view.stream.label)
            );
            Some((id.0, format!("{name}, since {since}")))
        })
        .collect();
    let template = ChartsPage {
        shell: Shell::new(&signed, "charts", &here),
        heading,
        false_alarms: format!(
            "Over all charts with limits {} false alarms a week are to be expected.",
            alarms_words(a_week)
        ),
        reviews,
        rows: standings.into_iter().map(|(_, row)| row).collect(),
    };
    page(StatusCode::OK, &template)
}

/// All charts with their newest point, as a table for other programs.
pub(in crate::pages) async fn table(desk: &mut Desk) -> Result<Table, WebError> {
    let streams = charts::all(&mut desk.connection).await?;
    let ids: Vec<StreamId> = streams.iter().map(|view| view.stream.id).collect();
    let newest = newest_of(&mut desk.connection, &ids).await?;
    let all = Standings::read(&mut desk.connection, Of::All, desk.now).await?;
    let mut table = Table::new(&[
        "chart",
        "instrument",
        "area",
        "characteristic",
        "unit",
        "measured_at",
        "value",
        "state",
        "lower_control_limit",
        "center_line",
        "upper_control_limit",
        "lower_tolerance_limit",
        "upper_tolerance_limit",
        "record",
    ]);
    for view in &streams {
        let point = newest.get(&view.stream.id);
        let standing = all.of_chart(&view.instrument.state, &view.stream, point)?;
        table.row([
            view.stream.id.0.into(),
            Cell::from(&view.instrument.tag),
            Cell::from(&view.area.name),
            Cell::from(&view.stream.label),
            Cell::from(&view.stream.unit),
            point.map(|point| point.measured_at.0.to_string()).into(),
            point.map(|point| point.value).into(),
            standing.words().into(),
            point.and_then(|point| point.lower_control_limit).into(),
            point.and_then(|point| point.center_line).into(),
            point.and_then(|point| point.upper_control_limit).into(),
            point.and_then(|point| point.lower_tolerance_limit).into(),
            point.and_then(|point| point.upper_tolerance_limit).into(),
            point.map(|point| point.check_id.0).into(),
        ]);
    }
    Ok(table)
}

/// What stands out among charts, each counted once: what is outside or not accepted by its own point, what has a signal of its
/// own, and what waits because of its instrument. Each comes with its standing and with what its point says by itself.
pub(in crate::pages) fn heading(standings: &[(Standing, Standing)]) -> String {
    let count = |wanted: &dyn Fn(Standing, Standing) -> bool| {
        standings.iter().filter(|(standing, own)| wanted(*standing, *own)).count()
    };
    // What was proven since is over, and what is away or was never checked is not counted.
    let counts = |standing: Standing| {
        standing != Standing::GoodSince
            && !matches!(standing, Standing::OutOfUse | Standing::Retired | Standing::NeverChecked)
    };
    let parts = [
        (count(&|standing, own| counts(standing) && own.is_bad()), "outside or not accepted"),
        (count(&|standing, own| counts(standing) && own.is_signal()), "with a signal"),
        (
            count(&|standing, own| {
                counts(standing) && !standing.is_usable() && !own.is_bad() && !own.is_signal()
            }),
            "of an instrument that waits for a check or a lead",
        ),
    ];
    let said: Vec<String> = parts
        .iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, words)| format!("{count} {words}"))
        .collect();
    let all = match standings.len() {
        1 => "one chart".to_owned(),
        all => format!("{all} charts"),
    };
    match said.is_empty() {
        true => format!("{all}, all quiet"),
        false => format!("{all}, {}", said.join(", ")),
    }
}

fn row(
    view: &StreamView,
    newest: Option<&BriefPoint>,
    trail: &[f64],
    standing: Standing,
    here: &Here,
) -> Row {
    let decimals = u32::try_from(view.stream.decimals).unwrap_or(1);
    Row {
        id: view.stream.id,
        instrument: format!("{} {}", view.instrument.name, view.instrument.tag),
        area: view.area.name.clone(),
        label: view.stream.label.clone(),
        beam: beam_of(&view.stream, newest, trail).draw(),
        value: newest.map_or("–".to_owned(), |point| {
            format!("{} {}", view.stream.shown(point.value, decimals), view.stream.unit)
        }),
        at: newest.map_or(String::new(), |point| local_day_time(point.measured_at.0, &here.zone)),
        state: state_class(standing),
        words: standing.words_with_drift(newest.and_then(|point| point.drift_per_week)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use Standing::{
        CheckFirst, GoodSince, InControl, OnHold, OutOfTolerance, OutOfUse, SignalAbove,
        WrongStandard,
    };

    #[test]
    fn nothing_is_called_quiet_that_is_not() {
        assert_eq!(heading(&[(InControl, InControl)]), "one chart, all quiet");
        let all = [
            (OutOfTolerance, OutOfTolerance),
            (WrongStandard, SignalAbove),
            (WrongStandard, InControl),
            (CheckFirst, InControl),
            (SignalAbove, SignalAbove),
            // On hold for another reason: its own point lies inside.
            (OnHold, InControl),
            (GoodSince, OutOfTolerance),
            (OutOfUse, OutOfTolerance),
            (InControl, InControl),
        ];
        assert_eq!(
            heading(&all),
            "9 charts, 1 outside or not accepted, 2 with a signal, 3 of an instrument that waits for a check or a lead"
        );
    }
}
