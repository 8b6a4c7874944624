//! Standards: which are in date, what their certificates state, and what rests on them.

use askama::Template;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::Response;
use jiff::civil::Date;
use vaaka_core::quantity::show_decimal;
use vaaka_core::standard::check_validity;
use vaaka_store::standards::{self, StandardView};

use super::{Here, Shell, page};
use crate::error::WebError;
use crate::session::SignedIn;
use crate::state::AppState;

/// A certificate that ends within this many days is shown as soon due.
const SOON_DAYS: i32 = 60;

#[derive(Debug, Template)]
#[template(path = "standards.html")]
struct StandardsPage {
    shell: Shell,
    heading: String,
    rows: Vec<Row>,
}

#[derive(Debug)]
struct Row {
    tag: String,
    name: String,
    kind: String,
    lot: String,
    certificate: String,
    used_by: String,
    state: &'static str,
    words: String,
}

#[derive(Debug, Template)]
#[template(path = "standard.html")]
struct StandardPage {
    shell: Shell,
    heading: String,
    state: &'static str,
    words: String,
    facts: Vec<(&'static str, String)>,
    values: Vec<ValueRow>,
    instruments: Vec<(String, String)>,
}

#[derive(Debug)]
struct ValueRow {
    piece: String,
    nominal: String,
    value: String,
    uncertainty: String,
}

/// Whether it may be used today, in a shape and in words.
fn standing(view: &StandardView, today: Date) -> (&'static str, String) {
    let Some(certificate) = &view.certificate else {
        return ("out", "no certificate of calibration: it proves nothing".to_owned());
    };
    let until = certificate.valid_until.0;
    let valid = check_validity(
        &view.standard.tag,
        &certificate.number,
        certificate.valid_from.0,
        until,
        today,
    );
    let left = today.until(until).map_or(0, |span| span.get_days());
    match valid {
        Err(error) => ("out", error.to_string()),
        Ok(()) if left <= SOON_DAYS => {
            ("signal", format!("ends on {}, in {left} days", until.strftime("%-d %B %Y")))
        }
        Ok(()) => ("ok", format!("in date until {}", until.strftime("%-d %B %Y"))),
    }
}

fn kind_words(kind: &str) -> String {
    let words = kind.replace('_', " ");
    let mut chars = words.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

/// Shows the register.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let here = Here::find(&state, &mut connection).await?;
    let today = state.now().to_zoned_datetime(here.zone.clone()).date();
    let all = standards::all(&mut connection).await?;
    let used = standards::used_by(&mut connection).await?;
    let rows: Vec<Row> = all
        .iter()
        .map(|view| {
            let (state, words) = standing(view, today);
            let by: Vec<&str> = used
                .iter()
                .filter(|(standard, _)| *standard == view.standard.id)
                .map(|(_, instrument)| instrument.tag.as_str())
                .collect();
            Row {
                tag: view.standard.tag.clone(),
                name: view.standard.name.clone(),
                kind: kind_words(&view.standard.kind),
                lot: view.lot.as_ref().map_or_else(|| "–".into(), |lot| lot.lot.clone()),
                certificate: view
                    .certificate
                    .as_ref()
                    .map_or_else(|| "–".into(), |certificate| certificate.number.clone()),
                used_by: if by.is_empty() { "–".to_owned() } else { by.join(", ") },
                state,
                words,
            }
        })
        .collect();
    let out = rows.iter().filter(|row| row.state == "out").count();
    let heading = match out {
        0 => format!("{} standards, all in date", rows.len()),
        out => format!("{} standards, {out} cannot be used", rows.len()),
    };
    let template = StandardsPage { shell: Shell::new(&signed, "standards", &here), heading, rows };
    page(StatusCode::OK, &template)
}

/// Shows one standard.
pub async fn one(
    signed: SignedIn,
    State(state): State<AppState>,
    Path(tag): Path<String>,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let here = Here::find(&state, &mut connection).await?;
    let today = state.now().to_zoned_datetime(here.zone.clone()).date();
    let all = standards::all(&mut connection).await?;
    let view = all.into_iter().find(|view| view.standard.tag == tag).ok_or(WebError::NotFound)?;
    let values = match &view.certificate {
        Some(certificate) => standards::values(&mut connection, certificate.id).await?,
        None => Vec::new(),
    };
    let instruments = standards::used_by(&mut connection)
        .await?
        .into_iter()
        .filter(|(standard, _)| *standard == view.standard.id)
        .map(|(_, instrument)| (instrument.tag, instrument.name))
        .collect();
    let (state_class, words) = standing(&view, today);
    let full = |value: rust_decimal::Decimal| show_decimal(value, value.scale());
    let template = StandardPage {
        shell: Shell::new(&signed, "standards", &here),
        heading: format!("{} {}", view.standard.name, view.standard.tag),
        state: state_class,
        words,
        facts: facts(&view),
        values: values
            .into_iter()
            .map(|row| ValueRow {
                piece: row.piece,
                nominal: format!("{} {}", full(row.nominal), row.unit),
                value: format!("{} {}", full(row.certified_value), row.unit),
                uncertainty: format!(
                    "{} {} (k = {})",
                    full(row.expanded_uncertainty),
                    row.unit,
                    full(row.coverage_factor.normalize())
                ),
            })
            .collect(),
        instruments,
    };
    page(StatusCode::OK, &template)
}

fn facts(view: &StandardView) -> Vec<(&'static str, String)> {
    let mut facts = vec![("Kind", kind_words(&view.standard.kind))];
    if let Some(lot) = &view.lot {
        facts.push(("Lot or piece", lot.lot.clone()));
        facts.push(("In use since", lot.in_use_from.0.strftime("%-d %B %Y").to_string()));
    }
    if let Some(certificate) = &view.certificate {
        let day = |day: Date| day.strftime("%-d %B %Y").to_string();
        facts.push(("Certificate", certificate.number.clone()));
        facts.push(("Version", certificate.version.to_string()));
        facts.push(("Issued by", certificate.issuer.clone()));
        facts.push(("Issued on", day(certificate.issued_on.0)));
        facts.push((
            "Valid",
            format!("{} to {}", day(certificate.valid_from.0), day(certificate.valid_until.0)),
        ));
    }
    facts
}
