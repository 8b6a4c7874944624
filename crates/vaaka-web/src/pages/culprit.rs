//! Whose fault: what instruments, standards, people and areas have in common, and which of them changed.

use std::collections::{BTreeMap, HashMap};

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::{SignedDuration, Timestamp};
use vaaka_core::history::{Course, CrossRead, Culprit, Finding, Inclusion, Suspect, culprit};
use vaaka_core::quantity::{show_float, show_signed_float};
use vaaka_core::stats::StatsError;
use vaaka_store::crossings::{self, Crossing};

use super::chart::percent;
use crate::desk::Desk;
use crate::draw::strip;
use crate::error::WebError;
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
use crate::state::{AppState, local_day};

/// How far back is looked: some 330 shifts, three a day.
const BACK: SignedDuration = SignedDuration::from_hours(24 * 110);
/// Errors in a strip.
const STRIP: usize = 40;

#[derive(Debug, Template)]
#[template(path = "culprit.html")]
struct CulpritPage {
    shell: Shell,
    state: &'static str,
    heading: String,
    telling: Option<Telling>,
    rows: Vec<Row>,
    standards: Vec<(String, bool)>,
    matrix: Vec<MatrixRow>,
    rests_on: String,
}

#[derive(Debug)]
struct Telling {
    words: String,
    instrument: String,
    standard: String,
}

#[derive(Debug)]
struct Row {
    kind: &'static str,
    name: String,
    to: Option<String>,
    probability: String,
    named: bool,
    how: String,
}

#[derive(Debug)]
struct MatrixRow {
    tag: String,
    stream: i64,
    suspect: bool,
    /// One for each standard: the strip and how many checks; none where it was never read with it.
    cells: Vec<Option<(String, usize)>>,
}

/// Numbers of what the reads name, in the order in which they come.
#[derive(Debug, Default)]
struct Names {
    numbers: HashMap<i64, usize>,
    names: Vec<String>,
}

impl Names {
    fn of(&mut self, id: i64, name: &str) -> usize {
        *self.numbers.entry(id).or_insert_with(|| {
            self.names.push(name.to_owned());
            self.names.len() - 1
        })
    }
}

/// The reads of a site with the names of what they name.
#[derive(Debug, Default)]
struct Site {
    reads: Vec<CrossRead>,
    shifts: Vec<Timestamp>,
    instruments: Names,
    standards: Names,
    persons: Names,
    areas: Names,
    /// Chart of each instrument, tag of each standard.
    streams: Vec<i64>,
    tags: Vec<String>,
}

impl Site {
    fn of(crossings: &[Crossing]) -> Self {
        let mut site = Self::default();
        let mut epochs = Names::default();
        for one in crossings {
            if site.shifts.last() != Some(&one.shift_at.0) {
                site.shifts.push(one.shift_at.0);
            }
            let instrument = site.instruments.of(one.instrument_id.0, &one.instrument);
            let standard =
                site.standards.of(one.lot_id, &format!("{} ({})", one.standard, one.lot));
            if instrument == site.streams.len() {
                site.streams.push(one.stream_id.0);
            }
            if standard == site.tags.len() {
                site.tags.push(one.standard.clone());
            }
            site.reads.push(CrossRead {
                shift: u32::try_from(site.shifts.len() - 1).unwrap_or(u32::MAX),
                instrument,
                standard,
                person: site.persons.of(one.person_id, &one.person),
                area: site.areas.of(one.area_id, &one.area),
                epoch: epochs.of(one.segment_id, ""),
                error: one.error,
            });
        }
        site
    }

    /// "instrument", its name, and where its page is.
    fn name(&self, of: Suspect) -> (&'static str, String, Option<String>) {
        match of {
            Suspect::Instrument(id) => {
                let name = self.instruments.names[id].clone();
                let to = format!("/instruments/{name}");
                ("instrument", name, Some(to))
            }
            Suspect::Standard(id) => {
                let to = format!("/standards/{}", self.tags[id]);
                ("standard", self.standards.names[id].clone(), Some(to))
            }
            Suspect::Person(id) => ("person", self.persons.names[id].clone(), None),
            Suspect::Area(id) => ("area", self.areas.names[id].clone(), None),
        }
    }

    fn full_name(&self, of: Suspect) -> String {
        let (kind, name, _) = self.name(of);
        format!("{kind} {name}")
    }

    fn day(&self, shift: u32, here: &Here) -> String {
        let at = self.shifts.get(shift as usize).or(self.shifts.last());
        at.map_or(String::new(), |at| local_day(*at, &here.zone))
    }
}

fn heading(site: &Site, found: &Culprit) -> String {
    let probability = |of: Suspect| {
        let one = found.inclusions.iter().find(|one| one.suspect == of);
        one.map_or(0.0, |one| one.probability)
    };
    match &found.finding {
        Finding::Nothing => "Nothing changed that checks have in common".to_owned(),
        Finding::Named(named) => {
            let all: Vec<String> = named.iter().map(|one| site.full_name(*one)).collect();
            let words = all.join(" and ");
            let mut letters = words.chars();
            let first = letters.next().map(|first| first.to_uppercase().to_string());
            format!("{}{} changed", first.unwrap_or_default(), letters.as_str())
        }
        Finding::CannotTell(among) => {
            let told = |one: &Suspect| {
                format!("{} ({})", site.full_name(*one), percent(probability(*one)))
            };
            let all: Vec<String> = among.iter().take(3).map(told).collect();
            match all.as_slice() {
                [] => "Something changed, and nobody can tell what".to_owned(),
                [one] => format!("Something changed, perhaps {one}"),
                [first @ .., last] => {
                    format!(
                        "Something changed: {} or {last} cannot be told apart",
                        first.join(", ")
                    )
                }
            }
        }
    }
}

fn how(one: &Inclusion, site: &Site, here: &Here) -> String {
    let size = show_signed_float(one.size, 1);
    let since = site.day(one.since, here);
    match one.course {
        Course::Step => format!("stepped by {size} sigma about {since}"),
        Course::Drift => format!("drifts since about {since}, by {size} sigma until now"),
        Course::Stretch => format!("was off by {size} sigma for a time from about {since}"),
    }
}

/// Rows of instruments, columns of standards: each cell the newest errors of that pair in their own sigmas.
fn matrix(site: &Site, found: &Culprit) -> Vec<MatrixRow> {
    let mut cells: BTreeMap<(usize, usize), Vec<f64>> = BTreeMap::new();
    for read in &site.reads {
        cells.entry((read.instrument, read.standard)).or_default().push(read.error);
    }
    let suspects: Vec<Suspect> = match &found.finding {
        Finding::Nothing => vec![],
        Finding::Named(all) | Finding::CannotTell(all) => all.clone(),
    };
    (0..site.instruments.names.len())
        .map(|instrument| {
            let tag = site.instruments.names[instrument].clone();
            let sigma = found.sigmas.get(instrument).copied().unwrap_or(0.0);
            let cell = |standard: usize| {
                let errors = cells.get(&(instrument, standard))?;
                let newest = &errors[errors.len().saturating_sub(STRIP)..];
                let mean = errors.iter().sum::<f64>() / errors.len() as f64;
                let of = |error: &f64| if sigma > 0.0 { (error - mean) / sigma } else { 0.0 };
                let values: Vec<f64> = newest.iter().map(of).collect();
                let name = format!("{tag} with {}", site.standards.names[standard]);
                Some((strip(&values, &name), errors.len()))
            };
            MatrixRow {
                suspect: suspects.contains(&Suspect::Instrument(instrument)),
                stream: site.streams[instrument],
                cells: (0..site.standards.names.len()).map(cell).collect(),
                tag,
            }
        })
        .collect()
}

/// Shows it.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let from = desk.now.checked_sub(BACK).unwrap_or(desk.now);
    let site = Site::of(&crossings::since(&mut desk.connection, from).await?);
    let reads = site.reads.clone();
    // A large site takes some tenths of a second: no other page waits for it.
    let found = tokio::task::spawn_blocking(move || culprit(&reads)).await;
    let found = match found.map_err(|stopped| WebError::Inner(stopped.to_string()))? {
        Ok(found) => Some(found),
        Err(StatsError::TooFewPoints { .. }) => None,
        Err(error) => return Err(WebError::Inner(error.to_string())),
    };
    let Some(found) = found else { return page(StatusCode::OK, &too_few(&signed, &desk.here)) };
    let here = &desk.here;
    let row = |one: &Inclusion| {
        let (kind, name, to) = site.name(one.suspect);
        let named = matches!(&found.finding, Finding::Named(all) if all.contains(&one.suspect));
        let probability = percent(one.probability);
        Row { kind, name, to, probability, named, how: how(one, &site, here) }
    };
    let telling = found.telling.map(|telling| Telling {
        instrument: site.instruments.names[telling.instrument].clone(),
        standard: site.tags[telling.standard].clone(),
        words: format!(
            "the explanations differ there by {} sigma, and about {} such checks tell.",
            show_float(telling.differs_by, 1),
            telling.checks
        ),
    });
    let suspect = |standard: usize| match &found.finding {
        Finding::Nothing => false,
        Finding::Named(all) | Finding::CannotTell(all) => {
            all.contains(&Suspect::Standard(standard))
        }
    };
    let names = site.standards.names.iter().enumerate();
    let template = CulpritPage {
        shell: Shell::new(&signed, "charts", here),
        state: if found.finding == Finding::Nothing { "ok" } else { "signal" },
        heading: heading(&site, &found),
        telling,
        rows: found.inclusions.iter().map(row).collect(),
        standards: names.map(|(id, name)| (name.clone(), suspect(id))).collect(),
        matrix: matrix(&site, &found),
        rests_on: format!(
            "From {} checks of {} instruments with {} standards by {} people in {} areas since {}, one chart an instrument. A known change of level (an adjustment, a repair, new limits) is nobody’s fault and is left out. At most two changes are looked for; a third can hide behind them until they are settled. Probability that nothing changed: {}.",
            site.reads.len(),
            site.instruments.names.len(),
            site.standards.names.len(),
            site.persons.names.len(),
            site.areas.names.len(),
            local_day(from, &here.zone),
            percent(found.none),
        ),
    };
    page(StatusCode::OK, &template)
}

/// Before there are checks enough nothing is claimed.
fn too_few(signed: &SignedIn, here: &Here) -> CulpritPage {
    CulpritPage {
        shell: Shell::new(signed, "charts", here),
        state: "due",
        heading: "Too few checks to tell anything".to_owned(),
        telling: None,
        rows: vec![],
        standards: vec![],
        matrix: vec![],
        rests_on: "Whose fault a change is can be told when instruments have been read at least eight times each, and twelve times together.".to_owned(),
    }
}
