//! The register: every instrument with its range, state and latest check.

use std::collections::HashMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::Timestamp;
use serde::Deserialize;
use vaaka_core::instrument::{Equipment, ServiceState, substitutes, told_apart};
use vaaka_core::quantity::{Unit, show_decimal};
use vaaka_core::round::{Cell, Standing, usable_cells, use_words};
use vaaka_store::charts::{self, BriefPoint};
use vaaka_store::ids::{InstrumentId, SetUpId};
use vaaka_store::instruments::{self, CheckBrief};
use vaaka_store::rows::{Area, Instrument, SetUp, Stream};
use vaaka_store::standing::{Of, Planned, Standings};
use vaaka_store::{Connection, unreadable_word};

use crate::error::WebError;
use crate::forms::Asked;
use crate::pages::chart::list::{newest_of, state_class};
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "instruments.html")]
struct InstrumentsPage {
    shell: Shell,
    heading: String,
    query: String,
    rows: Vec<Row>,
}

#[derive(Debug)]
struct Row {
    tag: String,
    name: String,
    area: String,
    range: String,
    resolution: String,
    service: &'static str,
    last: String,
    state: &'static str,
    words: String,
}

/// An instrument with what its charts and latest check say.
pub(in crate::pages) struct Known {
    pub instrument: Instrument,
    pub area: Area,
    pub service: ServiceState,
    pub standing: Standing,
    /// Its plans in force, as they stand.
    pub plans: Vec<Planned>,
    pub drift: Option<f64>,
    pub cells: Vec<(String, String)>,
    /// Its cells as they stand, where it has several: a check of one vouches for no other.
    pub by_cell: Vec<(SetUpId, Cell)>,
    pub latest: Option<CheckBrief>,
}

/// Reads the whole register with standings.
pub(in crate::pages) async fn known(
    connection: &mut Connection,
    now: Timestamp,
) -> Result<Vec<Known>, WebError> {
    let register = instruments::all(connection).await?;
    let latest = instruments::latest_checks(connection).await?;
    let streams = charts::all_streams(connection).await?;
    let set_ups = instruments::cells(connection).await?;
    gather(connection, now, register, latest, (&streams, &set_ups)).await
}

/// An instrument with those that may serve instead of it, each with what its charts say.
pub(in crate::pages) async fn related(
    connection: &mut Connection,
    now: Timestamp,
    tag: &str,
) -> Result<Vec<Known>, WebError> {
    let (own, own_area) = instruments::by_tag(connection, tag).await?;
    let unit: Unit = own.unit.parse().map_err(|_| unreadable_word(&own.unit))?;
    let units: Vec<&str> = Unit::ALL
        .iter()
        .filter(|other| other.dimension() == unit.dimension())
        .map(|other| other.symbol())
        .collect();
    let sieved = instruments::sieve(connection, &units).await?;
    let set_ups = instruments::cells(connection).await?;
    let cells_of = |id: InstrumentId| -> Vec<(String, String)> {
        let named = |set_up: &&SetUp| !set_up.scale.is_empty() || !set_up.material.is_empty();
        let own = set_ups.iter().filter(|set_up| set_up.instrument_id == id).filter(named);
        own.map(|set_up| (set_up.scale.clone(), set_up.material.clone())).collect()
    };
    // What the register alone can tell comes first: the charts are then asked of the best only,
    // however large the site. Were too many of those out of tolerance, all are asked.
    let equipment = sieved
        .iter()
        .map(|other| {
            Ok(Equipment {
                tag: other.tag.clone(),
                name: other.name.clone(),
                walk_order: other.walk_order,
                unit: other.unit.parse().map_err(|_| unreadable_word(&other.unit))?,
                range_low: other.work_low.unwrap_or(other.range_low),
                maximum: other.work_high.unwrap_or(other.maximum),
                resolution: other.resolution,
                state: ServiceState::InService,
                standing: Standing::InControl,
                cells: cells_of(other.id),
            })
        })
        .collect::<Result<Vec<_>, WebError>>()?;
    let held = Equipment {
        tag: tag.to_owned(),
        name: own.name.clone(),
        walk_order: own_area.walk_order,
        unit,
        range_low: own.work_low.unwrap_or(own.range_low),
        maximum: own.work_high.unwrap_or(own.maximum),
        resolution: own.resolution,
        state: ServiceState::InService,
        standing: Standing::InControl,
        cells: cells_of(own.id),
    };
    let found = substitutes(&held, &equipment);
    let ranked: Vec<InstrumentId> = found
        .iter()
        .filter_map(|one| sieved.iter().find(|other| other.tag == one.equipment.tag))
        .map(|other| other.id)
        .collect();
    let (near, far) = ranked.split_at(ranked.len().min(ASKED));
    let near: Vec<InstrumentId> = near.iter().copied().chain([own.id]).collect();
    let near = instruments::by_ids(connection, &near).await?;
    let mut known = standing(connection, now, near, &set_ups).await?;
    let fine = |other: &&Known| other.standing.is_usable();
    if !far.is_empty() && known.iter().filter(fine).count() < ENOUGH {
        let far = instruments::by_ids(connection, far).await?;
        known.extend(standing(connection, now, far, &set_ups).await?);
    }
    Ok(known)
}

/// How many substitutes are asked for their charts at first.
const ASKED: usize = 24;
/// With fewer within tolerance than this, the others are asked too.
const ENOUGH: usize = 7;

/// Some instruments as they stand.
pub(in crate::pages) async fn standing(
    connection: &mut Connection,
    now: Timestamp,
    register: Vec<(Instrument, Area)>,
    set_ups: &[SetUp],
) -> Result<Vec<Known>, WebError> {
    let ids: Vec<_> = register.iter().map(|(instrument, _)| instrument.id).collect();
    let streams = charts::streams_of(connection, &ids).await?;
    gather(connection, now, register, vec![], (&streams, set_ups)).await
}

async fn gather(
    connection: &mut Connection,
    now: Timestamp,
    register: Vec<(Instrument, Area)>,
    latest: Vec<CheckBrief>,
    (streams, set_ups): (&[Stream], &[SetUp]),
) -> Result<Vec<Known>, WebError> {
    let benches: Vec<_> = register.iter().map(|(instrument, _)| instrument.id).collect();
    let of = if latest.is_empty() { Of::Instruments(&benches) } else { Of::All };
    let standings = Standings::read(connection, of, now).await?;
    let ids: Vec<_> = streams.iter().map(|stream| stream.id).collect();
    let newest = newest_of(connection, &ids).await?;
    let mut cells: HashMap<InstrumentId, Vec<(String, String)>> = HashMap::new();
    let mut named: HashMap<InstrumentId, Vec<(SetUpId, String)>> = HashMap::new();
    for set_up in set_ups.iter().filter(|set_up| set_up.in_use) {
        let cell = (set_up.scale.clone(), set_up.material.clone());
        if !set_up.probe.is_empty() || cell != (String::new(), String::new()) {
            let own = (set_up.id, set_up.words().unwrap_or_else(|| set_up.name.clone()));
            named.entry(set_up.instrument_id).or_default().push(own);
        }
        if cell != (String::new(), String::new()) {
            cells.entry(set_up.instrument_id).or_default().push(cell);
        }
    }
    // By id, so that a large register is gone through once.
    let mut by_bench: HashMap<InstrumentId, Vec<(&Stream, &BriefPoint)>> = HashMap::new();
    for stream in streams {
        if let Some(point) = newest.get(&stream.id) {
            by_bench.entry(stream.instrument_id).or_default().push((stream, point));
        }
    }
    let mut latest: HashMap<InstrumentId, CheckBrief> =
        latest.into_iter().map(|check| (check.instrument_id, check)).collect();
    register
        .into_iter()
        .map(|(instrument, area)| {
            let own = by_bench.remove(&instrument.id).unwrap_or_default();
            let service: ServiceState =
                instrument.state.parse().map_err(|_| unreadable_word(&instrument.state))?;
            Ok(Known {
                standing: standings
                    .of_instrument((instrument.id, &instrument.state), own.iter().copied())?,
                drift: own.iter().find_map(|(_, point)| point.drift_per_week),
                plans: standings.plans(instrument.id).to_vec(),
                latest: latest.remove(&instrument.id),
                cells: cells.remove(&instrument.id).unwrap_or_default(),
                by_cell: by_cell(
                    &standings,
                    &instrument,
                    named.remove(&instrument.id).unwrap_or_default(),
                    &own,
                )?,
                service,
                instrument,
                area,
            })
        })
        .collect()
}

/// The cells of an instrument as they stand, those that are named and those that have a plan; none where it has only one.
fn by_cell(
    standings: &Standings,
    instrument: &Instrument,
    mut named: Vec<(SetUpId, String)>,
    charts: &[(&Stream, &BriefPoint)],
) -> Result<Vec<(SetUpId, Cell)>, WebError> {
    for one in standings.plans(instrument.id) {
        if named.iter().all(|(id, _)| *id != one.set_up) {
            // One that names nothing, beside others that do.
            named.push((one.set_up, one.cell.clone()));
        }
    }
    if named.len() < 2 {
        return Ok(vec![]);
    }
    named.sort_by_key(|(id, _)| *id);
    // Each by itself: the state of the whole instrument is told once, above them.
    let at = (instrument.id, ServiceState::InService.word());
    named
        .into_iter()
        .map(|(id, name)| {
            let standing = standings.of_one_set_up(at, id, charts.iter().copied())?;
            Ok((id, Cell { name, standing }))
        })
        .collect()
}

impl Known {
    /// As the core asks for it.
    pub fn equipment(&self) -> Result<Equipment, WebError> {
        let unit = &self.instrument.unit;
        Ok(Equipment {
            tag: self.instrument.tag.clone(),
            name: self.instrument.name.clone(),
            walk_order: self.area.walk_order,
            unit: unit.parse().map_err(|_| unreadable_word(unit))?,
            // Where it works is where it is needed, and where it is proven.
            range_low: self.instrument.work_low.unwrap_or(self.instrument.range_low),
            maximum: self.instrument.work_high.unwrap_or(self.instrument.maximum),
            resolution: self.instrument.resolution,
            state: self.service,
            standing: self.standing,
            cells: self.cells.clone(),
        })
    }

    /// "0 to 60 kg".
    pub fn range_words(&self) -> String {
        let show = |value: rust_decimal::Decimal| show_decimal(value, value.normalize().scale());
        format!(
            "{} to {} {}",
            show(self.instrument.range_low),
            show(self.instrument.maximum),
            self.instrument.unit
        )
    }

    /// Where it is used: "5 to 50 kg", or its whole range.
    pub fn work_words(&self) -> String {
        match (self.instrument.work_low, self.instrument.work_high) {
            (Some(low), Some(high)) => {
                format!("{} to {} {}", low.normalize(), high.normalize(), self.instrument.unit)
            }
            _ => "its whole range".to_owned(),
        }
    }

    /// "0.001 kg".
    pub fn resolution_words(&self) -> String {
        let resolution = self.instrument.resolution;
        format!(
            "{} {}",
            show_decimal(resolution, resolution.normalize().scale()),
            self.instrument.unit
        )
    }

    /// Words of the standing; where only some of its cells stand so badly, that is said.
    pub fn standing_words(&self) -> String {
        let words = self.standing.words_with_drift(self.drift);
        match self.usable_cells() {
            Some(_) => format!("In part {}", words.to_lowercase()),
            None => words.to_owned(),
        }
    }

    /// Class of its mark: what may be used in part is no failure of the whole.
    pub fn state_class(&self) -> &'static str {
        if self.usable_cells().is_some() { "signal" } else { state_class(self.standing) }
    }

    /// The cells that it may be used on, as short as tells them apart: what fits on a label.
    pub fn only_short(&self) -> Option<String> {
        let Some(usable) = self.usable_cells() else {
            return self.instrument.restricted_to.clone();
        };
        let names: Vec<&str> = self.by_cell.iter().map(|(_, cell)| cell.name.as_str()).collect();
        let short = told_apart(&names);
        let own = names.iter().zip(short).filter(|(name, _)| usable.iter().any(|one| one == *name));
        Some(own.map(|(_, short)| short).collect::<Vec<_>>().join("; "))
    }

    /// What it may be used for, in the words of its label.
    pub fn use_words(&self) -> &'static str {
        match self.usable_cells() {
            Some(_) => "May be used in part",
            None => use_words(self.service, self.standing),
        }
    }

    /// The cells that it may be used on, where it may not be used on all of them.
    fn usable_cells(&self) -> Option<Vec<String>> {
        let cells: Vec<Cell> = self.by_cell.iter().map(|(_, cell)| cell.clone()).collect();
        let found = usable_cells(self.service, &cells)?;
        Some(found.into_iter().map(str::to_owned).collect())
    }

    /// What alone it may be used for, by a lead's restriction or by its cells.
    pub fn only(&self) -> Option<String> {
        let cells = self.usable_cells().map(|cells| cells.join("; "));
        self.instrument.restricted_to.clone().or(cells)
    }

    /// Why it is to be checked first, where that is not plain from the standing.
    pub fn why(&self) -> Option<String> {
        let wrong = self.plans.iter().find_map(|plan| plan.wrong_standard.as_ref());
        let occasion = self.plans.iter().find_map(|plan| plan.facts.occasion.as_ref());
        match self.standing {
            Standing::WrongStandard => {
                Some(format!("{} was found wrong after its newest check", wrong?))
            }
            Standing::CheckFirst => Some(format!("a check is due {}", occasion?)),
            _ => None,
        }
    }
}

/// What the address may carry.
#[derive(Debug, Default, Deserialize)]
pub struct Search {
    #[serde(default)]
    find: String,
}

/// Shows the register.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    Asked(search): Asked<Search>,
) -> Result<Response, WebError> {
    let mut connection = state.store.connection().await?;
    let here = Here::find(&state, &mut connection).await?;
    let all = known(&mut connection, state.now()).await?;
    let wanted = search.find.trim().to_lowercase();
    let fits = |known: &&Known| {
        let text = format!(
            "{} {} {} {}",
            known.instrument.tag, known.instrument.name, known.area.name, known.instrument.serial
        );
        text.to_lowercase().contains(&wanted)
    };
    let rows: Vec<Row> = all.iter().filter(fits).map(|known| row(known, &here)).collect();
    let heading = if wanted.is_empty() {
        let held = all.iter().filter(|known| known.service == ServiceState::OnHold).count();
        match held {
            0 => format!("{} instruments, none on hold", all.len()),
            held => format!("{} instruments, {held} on hold", all.len()),
        }
    } else {
        format!("{} of {} instruments", rows.len(), all.len())
    };
    let template = InstrumentsPage {
        shell: Shell::new(&signed, "instruments", &here),
        heading,
        query: search.find,
        rows,
    };
    page(StatusCode::OK, &template)
}

fn row(known: &Known, here: &Here) -> Row {
    Row {
        tag: known.instrument.tag.clone(),
        name: known.instrument.name.clone(),
        area: known.area.name.clone(),
        range: known.range_words(),
        resolution: known.resolution_words(),
        service: known.use_words(),
        last: known
            .latest
            .as_ref()
            .map_or_else(|| "never".into(), |check| local_day_time(check.at.0, &here.zone)),
        state: known.state_class(),
        words: known.standing_words(),
    }
}
