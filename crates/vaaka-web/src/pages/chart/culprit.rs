//! Whose fault: what instruments, standards, people and areas have in common, and which of them changed.

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use uuid::Uuid;
use vaaka_core::history::{Course, Culprit, Finding, Inclusion, Suspect};
use vaaka_core::method::Purpose;
use vaaka_core::quantity::{show_float, show_signed_float};
use vaaka_store::checks::{self, NewCheck};
use vaaka_store::culprits::{self, Explanation, Offer, Site};
use vaaka_store::plans;

use crate::desk::Desk;
use crate::draw::strip;
use crate::error::WebError;
use crate::forms::Posted;
use crate::pages::chart::percent;
use crate::pages::check::start::{fits, may_run, refuse_other_open, with_standard};
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
use crate::state::{AppState, local_day, local_day_time};

/// Errors in a strip.
const STRIP: usize = 40;
/// Lines of what was said before.
const MOST_SAID: i64 = 12;

#[derive(Debug, Template)]
#[template(path = "culprit.html")]
struct CulpritPage {
    shell: Shell,
    state: &'static str,
    heading: String,
    telling: Option<Telling>,
    trial: Option<Trial>,
    rows: Vec<Row>,
    standards: Vec<(String, bool)>,
    matrix: Vec<MatrixRow>,
    strips: Vec<StripRow>,
    said: Vec<SaidLine>,
    rests_on: String,
}

/// What was said at a signal.
#[derive(Debug)]
struct SaidLine {
    when: String,
    check: i64,
    instrument: String,
    words: String,
    how: String,
}

/// The check that would tell, as it is started.
#[derive(Debug)]
pub(in crate::pages) struct Trial {
    pub instrument: String,
    pub standard: String,
    pub key: Uuid,
}

impl Trial {
    pub(in crate::pages) fn of(offer: &Offer) -> Self {
        let (instrument, standard) = (offer.instrument.clone(), offer.standard.clone());
        Self { instrument, standard, key: Uuid::new_v4() }
    }
}

#[derive(Debug)]
struct Telling {
    words: String,
    instrument: String,
    standard: String,
}

impl Telling {
    fn is(&self, offer: &Offer) -> bool {
        self.instrument == offer.instrument && self.standard == offer.standard
    }
}

#[derive(Debug)]
struct Row {
    kind: &'static str,
    name: String,
    to: Option<String>,
    probability: String,
    named: bool,
    how: String,
    /// Where a lead says that a standard was found wrong, since when.
    wrong: Option<String>,
}

/// A person or an area, with the newest errors of all that it has a part in.
#[derive(Debug)]
struct StripRow {
    kind: &'static str,
    name: String,
    suspect: bool,
    drawing: String,
    count: usize,
}

#[derive(Debug)]
struct MatrixRow {
    tag: String,
    stream: i64,
    suspect: bool,
    /// One for each standard: the strip and how many checks; none where it was never read with it.
    cells: Vec<Option<(String, usize)>>,
}

/// "instrument", its name, and where its page is.
fn name(site: &Site, of: Suspect) -> (&'static str, String, Option<String>) {
    let (kind, name) = site.name(of);
    let to = match of {
        Suspect::Instrument(_) => Some(format!("/instruments/{name}")),
        Suspect::Standard(id) => Some(format!("/standards/{}", site.tags[id].0)),
        Suspect::Person(_) | Suspect::Area(_) => None,
    };
    (kind, name.to_owned(), to)
}

fn full_name(site: &Site, of: Suspect) -> String {
    let (kind, name) = site.name(of);
    format!("{kind} {name}")
}

/// "Standard M1-B (lot 2) changed", "… cannot be told apart".
fn finding_words(named: &[String], among: Option<&[(String, f64)]>) -> String {
    let Some(among) = among else {
        let words = named.join(" and ");
        let mut letters = words.chars();
        let first = letters.next().map(|first| first.to_uppercase().to_string());
        return format!("{}{} changed", first.unwrap_or_default(), letters.as_str());
    };
    let told = |(name, probability): &(String, f64)| format!("{name} ({})", percent(*probability));
    let all: Vec<String> = among.iter().take(3).map(told).collect();
    match all.as_slice() {
        [] => "Something changed, and nobody can tell what".to_owned(),
        [one] => format!("Something changed, perhaps {one}"),
        [first @ .., last] => {
            format!("Something changed: {} or {last} cannot be told apart", first.join(", "))
        }
    }
}

/// What was said, in the words of its time.
fn said_words(finding: &str, explanations: &[Explanation]) -> String {
    let full = |one: &Explanation| format!("{} {}", one.kind, one.name);
    match finding {
        "nothing" => NOTHING.to_owned(),
        "named" => {
            let named: Vec<String> =
                explanations.iter().filter(|one| one.named).map(full).collect();
            finding_words(&named, None)
        }
        _ => {
            let all: Vec<(String, f64)> = explanations
                .iter()
                .filter(|one| !one.settled)
                .map(|one| (full(one), one.probability))
                .collect();
            finding_words(&[], Some(&all))
        }
    }
}

const NOTHING: &str = "Nothing changed that checks have in common";

fn heading(site: &Site, found: &Culprit) -> String {
    let probability = |of: Suspect| {
        let one = found.inclusions.iter().find(|one| one.suspect == of);
        one.map_or(0.0, |one| one.probability)
    };
    match &found.finding {
        Finding::Nothing => NOTHING.to_owned(),
        Finding::Named(named) => {
            let all: Vec<String> = named.iter().map(|one| full_name(site, *one)).collect();
            finding_words(&all, None)
        }
        Finding::CannotTell(among) => {
            let all: Vec<(String, f64)> =
                among.iter().map(|one| (full_name(site, *one), probability(*one))).collect();
            finding_words(&[], Some(&all))
        }
    }
}

fn how(one: &Inclusion, site: &Site, here: &Here) -> String {
    let day =
        |shift: u32| site.moment(shift).map(|at| local_day(at, &here.zone)).unwrap_or_default();
    let (since, earliest) = (day(one.since), day(one.since_low));
    let words = course_words(one.course, one.size, &since);
    let words =
        if earliest == since { words } else { format!("{words}; perhaps since {earliest}") };
    if one.settled { format!("{words}. A known change came after it: it is over") } else { words }
}

fn course_words(course: Course, size: f64, since: &str) -> String {
    let size = show_signed_float(size, 1);
    match course {
        Course::Step => format!("stepped by {size} sigma about {since}"),
        Course::Drift => format!("drifts since about {since}, by {size} sigma until now"),
        Course::Stretch => format!("was off by {size} sigma for a time from about {since}"),
    }
}

fn is_suspected(found: &Culprit, one: Suspect) -> bool {
    match &found.finding {
        Finding::Nothing => false,
        Finding::Named(all) | Finding::CannotTell(all) => all.contains(&one),
    }
}

/// People and areas: the newest errors of all that each has a part in, in sigmas about the level of their pair. Whoever is suspected
/// stands first.
fn strips(site: &Site, found: &Culprit) -> Vec<StripRow> {
    let mut sums: BTreeMap<(usize, usize), (f64, f64)> = BTreeMap::new();
    for read in &site.reads {
        let (sum, count) = sums.entry((read.instrument, read.standard)).or_default();
        *sum += read.error;
        *count += 1.0;
    }
    let mut of: BTreeMap<Suspect, Vec<f64>> = BTreeMap::new();
    for read in &site.reads {
        let (sum, count) = sums[&(read.instrument, read.standard)];
        let sigma = found.sigmas.get(read.instrument).copied().unwrap_or(0.0);
        if sigma > 0.0 {
            let error = (read.error - sum / count) / sigma;
            for suspect in [Suspect::Person(read.person), Suspect::Area(read.area)] {
                of.entry(suspect).or_default().push(error);
            }
        }
    }
    let mut rows: Vec<StripRow> = of
        .into_iter()
        .map(|(suspect, errors)| {
            let (kind, name) = site.name(suspect);
            let newest = &errors[errors.len().saturating_sub(STRIP)..];
            StripRow {
                kind,
                drawing: strip(newest, &format!("{kind} {name}")),
                name: name.to_owned(),
                suspect: is_suspected(found, suspect),
                count: errors.len(),
            }
        })
        .collect();
    rows.sort_by_key(|row| !row.suspect);
    rows
}

/// Rows of instruments, columns of standards: each cell the newest errors of that pair in their own sigmas. Whatever is suspected
/// stands first, then what it is read with, then what most share: the rest is a diagonal.
fn matrix(site: &Site, found: &Culprit) -> (Vec<usize>, Vec<MatrixRow>) {
    let mut cells: BTreeMap<(usize, usize), Vec<f64>> = BTreeMap::new();
    for read in &site.reads {
        cells.entry((read.instrument, read.standard)).or_default().push(read.error);
    }
    let suspect = |one: Suspect| is_suspected(found, one);
    let readers = |standard: usize| cells.keys().filter(move |key| key.1 == standard);
    let mut standards: Vec<usize> = (0..site.standards.names.len()).collect();
    standards.sort_by_key(|standard| {
        let by_suspect = readers(*standard).any(|(one, _)| suspect(Suspect::Instrument(*one)));
        let own = suspect(Suspect::Standard(*standard));
        (!own, !by_suspect, std::cmp::Reverse(readers(*standard).count()), *standard)
    });
    let first_column = |instrument: usize| {
        standards.iter().position(|standard| cells.contains_key(&(instrument, *standard)))
    };
    let mut instruments: Vec<usize> = (0..site.instruments.names.len()).collect();
    instruments.sort_by_key(|instrument| {
        (!suspect(Suspect::Instrument(*instrument)), first_column(*instrument), *instrument)
    });
    let rows = instruments
        .into_iter()
        .map(|instrument| {
            let tag = site.instruments.names[instrument].clone();
            let sigma = found.sigmas.get(instrument).copied().unwrap_or(0.0);
            let cell = |standard: &usize| {
                let errors = cells.get(&(instrument, *standard))?;
                let newest = &errors[errors.len().saturating_sub(STRIP)..];
                let mean = errors.iter().sum::<f64>() / errors.len() as f64;
                let of = |error: &f64| if sigma > 0.0 { (error - mean) / sigma } else { 0.0 };
                let values: Vec<f64> = newest.iter().map(of).collect();
                let name = format!("{tag} with {}", site.standards.names[*standard]);
                Some((strip(&values, &name), errors.len()))
            };
            MatrixRow {
                suspect: suspect(Suspect::Instrument(instrument)),
                stream: site.streams[instrument],
                cells: standards.iter().map(cell).collect(),
                tag,
            }
        })
        .collect();
    (standards, rows)
}

/// Shows it.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let (site, found) = culprits::look(&mut desk.connection, desk.now).await?;
    let said = history(&mut desk).await?;
    let Some(found) = found else {
        return page(StatusCode::OK, &too_few(&signed, &desk.here, said));
    };
    let here = &desk.here;
    let row = |one: &Inclusion| {
        let (kind, name, to) = name(&site, one.suspect);
        let named = matches!(&found.finding, Finding::Named(all) if all.contains(&one.suspect));
        let probability = percent(one.probability);
        let standard = match one.suspect {
            Suspect::Standard(id) => Some(site.tags[id].0.clone()),
            _ => None,
        };
        let since =
            site.moment(one.since_low).map(|at| at.to_zoned_datetime(here.zone.clone()).date());
        let wrong = standard
            .filter(|_| named && signed.may_lead().is_ok())
            .zip(since)
            .map(|(tag, since)| format!("/standards/{tag}/wrong?from={since}"));
        Row { kind, name, to, probability, named, how: how(one, &site, here), wrong }
    };
    let telling = found.telling.map(|telling| Telling {
        instrument: site.instruments.names[telling.instrument].clone(),
        standard: site.tags[telling.standard].0.clone(),
        words: format!(
            "the explanations differ there by {} sigma, and about {} such checks tell.",
            show_float(telling.differs_by, 1),
            telling.checks
        ),
    });
    let suspect = |standard: usize| is_suspected(&found, Suspect::Standard(standard));
    let (columns, rows) = matrix(&site, &found);
    let names = columns.iter().map(|standard| (*standard, &site.standards.names[*standard]));
    // Of a large site the newest reads are looked at, so that it may begin later than is looked back.
    let from = site.shifts.first().copied().unwrap_or(desk.now);
    let offer = culprits::offer(&mut desk.connection).await?;
    let template = CulpritPage {
        shell: Shell::new(&signed, "charts", here),
        state: if found.finding == Finding::Nothing { "ok" } else { "signal" },
        heading: heading(&site, &found),
        // What was offered belongs to what is told now; where that is another thing it is offered no more.
        trial: offer
            .filter(|offer| {
                signed.may_check().is_ok() && telling.as_ref().is_some_and(|now| now.is(offer))
            })
            .map(|offer| Trial::of(&offer)),
        telling,
        rows: found.inclusions.iter().map(row).collect(),
        standards: names.map(|(id, name)| (name.clone(), suspect(id))).collect(),
        matrix: rows,
        strips: strips(&site, &found),
        said,
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

/// What was said when signals came, newest first.
async fn history(desk: &mut Desk) -> Result<Vec<SaidLine>, WebError> {
    let mut lines = Vec::new();
    for said in culprits::said(&mut desk.connection, MOST_SAID).await? {
        let explanations = said.explanations()?;
        // Of those that were named how each changed; of what could not be told the likeliest.
        let likeliest = explanations.iter().find(|one| !one.settled);
        let meant: Vec<&Explanation> = match said.finding.as_str() {
            "nothing" => vec![],
            "named" => explanations.iter().filter(|one| one.named).collect(),
            _ => likeliest.into_iter().collect(),
        };
        let how: Vec<String> = meant
            .iter()
            .map(|one| {
                let since = one.since.map(|at| local_day(at, &desk.here.zone)).unwrap_or_default();
                let words = course_words(one.course, one.size, &since);
                if meant.len() > 1 { format!("{} {words}", one.name) } else { words }
            })
            .collect();
        lines.push(SaidLine {
            when: local_day_time(said.at.0, &desk.here.zone),
            check: said.check_id.0,
            instrument: said.instrument.clone(),
            words: said_words(&said.finding, &explanations),
            how: how.join("; "),
        });
    }
    Ok(lines)
}

/// A check that would tell, as the round offers it: "Standard M1-B or instrument P-21?".
pub(in crate::pages) struct Offered {
    pub title: String,
    pub words: String,
}

/// What the round says of the check that would tell.
pub(in crate::pages) fn offered(offer: &Offer) -> Result<Offered, WebError> {
    let explanations = offer.explanations()?;
    let names: Vec<String> =
        explanations.iter().take(2).map(|one| format!("{} {}", one.kind, one.name)).collect();
    let left = (i64::from(offer.checks) - offer.made).max(1);
    let more = if left == 1 {
        "One such check tells".to_owned()
    } else {
        format!("About {left} such checks tell")
    };
    Ok(Offered {
        title: format!("{} with {} would tell whose fault it is", offer.instrument, offer.standard),
        words: format!(
            "{} cannot be told apart. {more}, a trial of {} min each; it counts for nothing else.",
            names.join(" and "),
            offer.minutes
        ),
    })
}

/// Starting the trial that is offered.
#[derive(Debug, Deserialize)]
pub struct TrialForm {
    #[serde(default)]
    form_token: String,
    #[serde(default)]
    instrument: String,
    #[serde(default)]
    standard: String,
    key: Uuid,
}

/// Starts the check that would tell, as a trial: with the standard that is named, whatever the plan takes.
pub async fn trial(
    signed: SignedIn,
    State(state): State<AppState>,
    Posted(form): Posted<TrialForm>,
) -> Result<Response, WebError> {
    signed.check_form(&form.form_token)?;
    let mut desk = Desk::open(&state).await?;
    let offer = culprits::offer(&mut desk.connection).await?;
    let same =
        |offer: &Offer| offer.instrument == form.instrument && offer.standard == form.standard;
    let Some(offer) = offer.filter(same) else {
        let words = "That check is not asked for any more. Look at what would tell now.";
        return Err(WebError::NotNow { words: words.to_owned() });
    };
    let view = plans::version(&mut desk.connection, offer.plan_version).await?;
    may_run(&mut desk, &signed, &view).await?;
    let open = checks::of_shift(&mut desk.connection, desk.here.shift.id).await?;
    let open = open.iter().find(|check| {
        check.plan == view.plan.id
            && check.check.state == "open"
            && check.check.purpose == Purpose::Trial.word()
    });
    if let Some(open) = open {
        return Ok(Redirect::to(&format!("/checks/{}", open.check.id)).into_response());
    }
    refuse_other_open(&mut desk, &view, Purpose::Trial).await?;
    let certificates = with_standard(&mut desk, &view, &offer.standard).await?;
    fits(&mut desk.connection, &view, &certificates, Purpose::Trial).await?;
    let trial = checks::open(
        &mut desk.connection,
        &NewCheck {
            plan: &view,
            shift: desk.here.shift.id,
            certificates,
            purpose: Purpose::Trial,
            person: signed.person.id,
            now: desk.now,
            key: form.key,
            late: None,
        },
    )
    .await?;
    Ok(Redirect::to(&format!("/checks/{trial}")).into_response())
}

/// Before there are checks enough nothing is claimed.
fn too_few(signed: &SignedIn, here: &Here, said: Vec<SaidLine>) -> CulpritPage {
    CulpritPage {
        shell: Shell::new(signed, "charts", here),
        state: "due",
        heading: "Too few checks to tell anything".to_owned(),
        telling: None,
        trial: None,
        rows: vec![],
        standards: vec![],
        matrix: vec![],
        strips: vec![],
        said,
        rests_on: "Whose fault a change is can be told when instruments have been read at least eight times each, and twelve times together.".to_owned(),
    }
}
