//! Reading a table against the registers as they are: what it would bring, and what is wrong with it.

use std::collections::HashSet;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};
use vaaka_core::method::{Place as PiecePlace, PlanPoint, Travel, by_key};
use vaaka_core::quantity::Unit;
use vaaka_formats::read_table;
use vaaka_store::imports::{self, Import, Lines, Place};
use vaaka_store::plans::{self, ChartedPoint};
use vaaka_store::{Connection, instrument_changes, instruments, standards};

use super::Kind;
use super::columns::{Fault, Mapping, Sheet};
use super::history::{Charted, history};
use super::registers;
use crate::error::WebError;

/// Lines that the page shows as they were understood.
const SAMPLE: usize = 8;
/// Faults that are kept with the reading of a large table.
const KEPT: usize = 5_000;

/// What a table would bring.
pub struct Looked {
    /// Its lines; none where something is wrong.
    pub lines: Option<Lines>,
    /// What its page shows.
    pub shown: Shown,
}

/// What the page of a table shows of it.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Shown {
    /// Whether it can be brought in.
    pub can: bool,
    /// Lines.
    pub count: usize,
    /// What is wrong: the first of it, where the reading is kept.
    pub faults: Vec<Fault>,
    /// How much is wrong, and in how many lines.
    pub wrong: (usize, usize),
    /// Heads of the columns that were understood, and the first lines.
    pub heads: Vec<String>,
    pub sample: Vec<Vec<String>>,
    /// Columns of the file with what stands first in each, where their heads do not say it all.
    pub columns: Vec<(String, String)>,
}

impl Shown {
    /// As it is kept with a large table.
    pub fn kept(mut self) -> Self {
        self.faults.truncate(KEPT);
        self
    }
}

/// Reads a table against the registers as they are now. The reading itself is done beside the requests.
pub async fn look(
    connection: &mut Connection,
    (zone, now): (TimeZone, Timestamp),
    import: &Import,
    mapping: &Mapping,
) -> Result<Looked, WebError> {
    let kind = Kind::of(&import.kind).ok_or(WebError::NotFound)?;
    let areas = instrument_changes::all_areas(connection).await?;
    let (mut taken, mut certificates) = (HashSet::new(), HashSet::new());
    let (mut charted, mut known) = (Vec::new(), HashSet::new());
    match kind {
        Kind::Instruments => taken = instruments::tags(connection).await?,
        Kind::Standards => {
            (taken, certificates) = standards::tags_and_certificates(connection).await?;
        }
        Kind::History => {
            charted = plans::charted_points(connection)
                .await?
                .into_iter()
                .filter_map(|point| charted_of(point).transpose())
                .collect::<Result<Vec<Charted>, WebError>>()?;
            known = imports::known(connection, charted.iter().map(|point| &point.place)).await?;
        }
    }
    let bytes = import.bytes.clone();
    let mapping = mapping.clone();
    let read = move || {
        let grid = match read_table(&bytes, kind.most()) {
            Ok(grid) => grid,
            Err(error) => {
                return Looked::refused(vec![Fault {
                    line: 1,
                    column: String::new(),
                    typed: String::new(),
                    words: error.to_string(),
                }]);
            }
        };
        let first = |place: usize| {
            let cells = grid.lines.iter().map(|line| line.cell(place));
            cells.clone().find(|cell| !cell.is_empty()).unwrap_or_default().to_owned()
        };
        let in_file = || -> Vec<(String, String)> {
            let heads = grid.heads.iter().enumerate();
            heads.map(|(place, head)| (head.clone(), first(place))).collect()
        };
        let sheet = match Sheet::mapped(&grid, kind.columns(), &mapping) {
            Ok(sheet) => sheet,
            Err(faults) => {
                let mut looked = Looked::refused(faults);
                looked.shown.columns = in_file();
                return looked;
            }
        };
        let (lines, faults) = match kind {
            Kind::Instruments => registers::instruments(&sheet, &areas, &taken),
            Kind::Standards => registers::standards(&sheet, &taken, &certificates),
            Kind::History => history(&sheet, &charted, &known, &zone, now),
        };
        let (heads, sample) = sheet.sample(SAMPLE);
        let lines = faults.is_empty().then_some(lines);
        let columns = if mapping.is_empty() { vec![] } else { in_file() };
        let looked = Looked::refused(faults);
        let (can, count) = (lines.is_some(), grid.lines.len());
        Looked { lines, shown: Shown { can, count, heads, sample, columns, ..looked.shown } }
    };
    tokio::task::spawn_blocking(read).await.map_err(|error| WebError::Inner(error.to_string()))
}

impl Looked {
    fn refused(faults: Vec<Fault>) -> Self {
        let bad: HashSet<u64> = faults.iter().map(|fault| fault.line).collect();
        let wrong = (faults.len(), bad.len());
        Self { lines: None, shown: Shown { faults, wrong, ..Shown::default() } }
    }
}

fn charted_of(point: ChartedPoint) -> Result<Option<Charted>, WebError> {
    let travel: Travel = point.point.travel.parse().map_err(unreadable)?;
    let place: PiecePlace = point.point.place.parse().map_err(unreadable)?;
    let plain = PlanPoint {
        nominal: point.point.nominal,
        travel,
        place,
        repeats: 1,
        charted: true,
        pieces: vec![],
        standard: 0,
    };
    // A method that this version does not know is no reason to refuse the others.
    let Ok(method) = by_key(&point.method) else { return Ok(None) };
    let unit: Unit = point.unit.parse().map_err(unreadable)?;
    Ok(Some(Charted {
        tag: point.tag,
        plan: point.plan,
        nominal: point.point.nominal,
        unit,
        error_unit: unit.error_unit(point.resolution),
        direction: if travel == Travel::Corner { place.word() } else { travel.word() },
        place: Place {
            instrument: point.instrument,
            set_up: point.set_up,
            key: method.chart_key(&plain),
        },
    }))
}

fn unreadable(error: impl std::fmt::Display) -> WebError {
    WebError::Inner(error.to_string())
}
