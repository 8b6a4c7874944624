//! Another chart laid beside this one: another of its instrument, or its like at another instrument.

use axum::Json;
use axum::extract::State;
use serde::Serialize;
use vaaka_store::charts::{self, Beside};
use vaaka_store::ids::StreamId;
use vaaka_store::rows::Stream;

use super::read::Read;
use crate::desk::Desk;
use crate::error::WebError;
use crate::forms::PathId;
use crate::session::SignedIn;
use crate::state::AppState;

/// Tags that are named where none fits.
const NAMED: usize = 6;

/// What was asked to lie beside a chart.
#[derive(Debug, Default)]
pub(super) struct Laid {
    /// The charts, with the tags of their instruments.
    pub charts: Vec<(Stream, String)>,
    /// Why what was typed gives none.
    pub fault: Option<String>,
}

/// Finds what was asked for: a chart by its id, one by the tag of its instrument, or both.
pub(super) async fn laid(
    desk: &mut Desk,
    read: &Read,
    with: &str,
    tag: &str,
) -> Result<Laid, WebError> {
    let (own, with, tag) = (&read.view.stream, with.trim(), tag.trim());
    let mut laid = Laid::default();
    if let Ok(id) = with.parse() {
        let found = charts::beside(&desk.connection, own, Beside::Chart(StreamId(id))).await?;
        if found.is_none() {
            laid.fault = Some(
                "That chart measures something else. Type the tag of an instrument of this kind."
                    .to_owned(),
            );
        }
        laid.charts.extend(found);
    }
    if !tag.is_empty() {
        match charts::beside(&desk.connection, own, Beside::Instrument(tag)).await? {
            Some(found) => {
                if laid.charts.iter().all(|(chart, _)| chart.id != found.0.id) {
                    laid.charts.push(found);
                }
            }
            None => laid.fault = Some(none_fits(desk, own, tag).await?),
        }
    }
    Ok(laid)
}

async fn none_fits(desk: &mut Desk, own: &Stream, tag: &str) -> Result<String, WebError> {
    let alike = charts::alike(&mut desk.connection, own).await?;
    if alike.is_empty() {
        return Ok("No other instrument has a chart of this kind yet.".to_owned());
    }
    let named: Vec<&str> = alike.iter().take(NAMED).map(|(tag, _)| tag.as_str()).collect();
    let more = if alike.len() > NAMED {
        format!(" and {} more", alike.len() - NAMED)
    } else {
        String::new()
    };
    Ok(format!(
        "No chart of this kind is kept of “{tag}”. These instruments have one: {}{more}.",
        named.join(", ")
    ))
}

/// An instrument that may be named.
#[derive(Debug, Serialize)]
pub struct Alike {
    tag: String,
    name: String,
}

/// The instruments whose chart may be laid beside this one, for the list under the field. Read when somebody
/// asks, because a site may have a thousand.
pub async fn alike(
    _signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Json<Vec<Alike>>, WebError> {
    let mut connection = state.store.connection().await?;
    let view = charts::by_id(&connection, StreamId(id)).await?;
    let found = charts::alike(&mut connection, &view.stream).await?;
    Ok(Json(found.into_iter().map(|(tag, name)| Alike { tag, name }).collect()))
}
