//! Whose fault a change is: the reads of a site in the order of its names, what they say, and what was said before.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Double, Integer, Jsonb, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use vaaka_boxed::boxed;
use vaaka_core::history::{Course, CrossRead, Culprit, Finding, Inclusion, Suspect, culprit};
use vaaka_core::stats::StatsError;

use crate::crossings::{self, Crossing};
use crate::ids::{CheckId, PersonId, PlanVersionId};
use crate::prepared::{Bind, prepared};
use crate::schema::culprit_findings;
use crate::types::At;
use crate::{StoreError, jobs, unreadable};

/// How far back is looked: some 330 shifts, three a day.
pub const BACK: SignedDuration = SignedDuration::from_hours(24 * 110);

/// Numbers of what the reads name, in the order in which they come.
#[derive(Debug, Clone, Default)]
pub struct Names {
    numbers: HashMap<i64, usize>,
    /// The names by their numbers.
    pub names: Vec<String>,
    /// Their ids.
    pub ids: Vec<i64>,
}

impl Names {
    fn of(&mut self, id: i64, name: &str) -> usize {
        *self.numbers.entry(id).or_insert_with(|| {
            self.names.push(name.to_owned());
            self.ids.push(id);
            self.names.len() - 1
        })
    }
}

/// The reads of a site with the names of what they name.
#[derive(Debug, Clone, Default)]
pub struct Site {
    /// The reads.
    pub reads: Vec<CrossRead>,
    /// When each shift began.
    pub shifts: Vec<Timestamp>,
    /// Tags of instruments.
    pub instruments: Names,
    /// Tags of standards with their lots.
    pub standards: Names,
    /// People.
    pub persons: Names,
    /// Areas.
    pub areas: Names,
    /// Chart of each instrument.
    pub streams: Vec<i64>,
    /// Tag and id of each standard, whatever its lot.
    pub tags: Vec<(String, i64)>,
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
                site.tags.push((one.standard.clone(), one.standard_id));
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

    /// "instrument" and its name.
    #[must_use]
    pub fn name(&self, of: Suspect) -> (&'static str, &str) {
        match of {
            Suspect::Instrument(id) => ("instrument", &self.instruments.names[id]),
            Suspect::Standard(id) => ("standard", &self.standards.names[id]),
            Suspect::Person(id) => ("person", &self.persons.names[id]),
            Suspect::Area(id) => ("area", &self.areas.names[id]),
        }
    }

    /// When a shift began.
    #[must_use]
    pub fn moment(&self, shift: u32) -> Option<Timestamp> {
        self.shifts.get(shift as usize).or(self.shifts.last()).copied()
    }
}

/// The newest reads of a site, and what they say; nothing before there are enough.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn look(
    connection: &mut AsyncPgConnection,
    now: Timestamp,
) -> Result<(Site, Option<Culprit>), StoreError> {
    let from = now.checked_sub(BACK).unwrap_or(now);
    let site = Site::of(&crossings::between(connection, (from, now)).await?);
    let reads = site.reads.clone();
    // A large site takes some tenths of a second: nothing else waits for it.
    let found = tokio::task::spawn_blocking(move || culprit(&reads)).await.map_err(unreadable)?;
    match found {
        Ok(found) => Ok((site, Some(found))),
        Err(StatsError::TooFewPoints { .. }) => Ok((site, None)),
        Err(error) => Err(unreadable(error)),
    }
}

/// An explanation as it was told.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Explanation {
    /// "instrument", "standard", "person" or "area".
    pub kind: String,
    /// Its name.
    pub name: String,
    /// Probability that it changed.
    pub probability: f64,
    /// Whether it was named.
    pub named: bool,
    /// How it changed, most likely.
    pub course: Course,
    /// Since when.
    pub since: Option<Timestamp>,
    /// Since when at the earliest: the lower end of the 95 % interval.
    #[serde(default)]
    pub since_low: Option<Timestamp>,
    /// How far, in sigmas of a check.
    pub size: f64,
    /// Whether a known change came after it.
    #[serde(default)]
    pub settled: bool,
}

impl Explanation {
    fn of(site: &Site, found: &Culprit, one: &Inclusion) -> Self {
        let (kind, name) = site.name(one.suspect);
        let named = matches!(&found.finding, Finding::Named(all) if all.contains(&one.suspect));
        Self {
            kind: kind.to_owned(),
            name: name.to_owned(),
            probability: one.probability,
            named,
            course: one.course,
            since: site.moment(one.since),
            since_low: site.moment(one.since_low),
            size: one.size,
            settled: one.settled,
        }
    }
}

/// What was said at a check that brought a signal.
#[derive(Debug, Clone, QueryableByName)]
pub struct Said {
    /// When.
    #[diesel(sql_type = Timestamptz)]
    pub at: At,
    /// The check whose signal it was said at.
    #[diesel(sql_type = BigInt)]
    pub check_id: CheckId,
    /// Tag of its instrument.
    #[diesel(sql_type = Text)]
    pub instrument: String,
    /// "nothing", "named" or "cannot_tell".
    #[diesel(sql_type = Text)]
    pub finding: String,
    /// Explanations, the likeliest first.
    #[diesel(sql_type = Jsonb)]
    explanations: serde_json::Value,
}

impl Said {
    /// Explanations, the likeliest first.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn explanations(&self) -> Result<Vec<Explanation>, StoreError> {
        serde_json::from_value(self.explanations.clone()).map_err(unreadable)
    }
}

/// What was said, newest first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn said(connection: &mut AsyncPgConnection, most: i64) -> Result<Vec<Said>, StoreError> {
    Ok(prepared(
        "SELECT f.at, f.check_id, i.tag AS instrument, f.finding, f.explanations
         FROM culprit_findings f JOIN checks c ON c.id = f.check_id JOIN instruments i ON i.id = c.instrument_id
         ORDER BY f.id DESC LIMIT ?",
        vec![Bind::Int(most)],
    )
    .load(connection)
    .await?)
}

/// The word of a finding.
fn word(found: &Finding) -> &'static str {
    match found {
        Finding::Nothing => "nothing",
        Finding::Named(_) => "named",
        Finding::CannotTell(_) => "cannot_tell",
    }
}

/// Who is meant by a finding: what must differ before it is said again.
fn meant(finding: &str, explanations: &[Explanation]) -> Vec<(String, String)> {
    let all = explanations.iter().filter(|one| match finding {
        "named" => one.named,
        "cannot_tell" => !one.settled,
        _ => false,
    });
    let mut all: Vec<(String, String)> =
        all.map(|one| (one.kind.clone(), one.name.clone())).collect();
    all.sort();
    all
}

/// Looks, and keeps what is said where it is another thing than what was said last.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn say(
    connection: &mut AsyncPgConnection,
    check: CheckId,
    at: Timestamp,
) -> Result<(), StoreError> {
    let (site, found) = look(connection, at).await?;
    let Some(found) = found else { return Ok(()) };
    let explanations: Vec<Explanation> =
        found.inclusions.iter().map(|one| Explanation::of(&site, &found, one)).collect();
    let finding = word(&found.finding);
    let before = said(connection, 1).await?.pop();
    let same = match &before {
        Some(before) if before.finding == finding => {
            meant(finding, &before.explanations()?) == meant(finding, &explanations)
        }
        // Nothing is said before anything ever changed.
        Some(_) => false,
        None => found.finding == Finding::Nothing,
    };
    // The same again is said again where the checks that were to tell have been made, and more are needed.
    let asks_on = same && found.telling.is_some() && offer(connection).await?.is_none();
    if same && !asks_on {
        return Ok(());
    }
    let telling = found.telling;
    let to_json = serde_json::to_value(&explanations).map_err(unreadable)?;
    diesel::insert_into(culprit_findings::table)
        .values((
            culprit_findings::at.eq(At(at)),
            culprit_findings::check_id.eq(check),
            culprit_findings::finding.eq(finding),
            culprit_findings::none.eq(found.none),
            culprit_findings::reads.eq(i32::try_from(site.reads.len()).map_err(unreadable)?),
            culprit_findings::explanations.eq(to_json),
            culprit_findings::instrument_id
                .eq(telling.map(|one| site.instruments.ids[one.instrument])),
            culprit_findings::standard_id.eq(telling.map(|one| site.tags[one.standard].1)),
            culprit_findings::differs_by.eq(telling.map(|one| one.differs_by)),
            culprit_findings::checks
                .eq(telling.map(|one| i32::try_from(one.checks).unwrap_or(i32::MAX))),
        ))
        .execute(connection)
        .await?;
    Ok(())
}

/// Asks for it to be looked at, in the transaction of a check that brought a signal: once, however many signals come
/// before somebody gets to it.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn ask(
    connection: &mut AsyncPgConnection,
    check: CheckId,
    who: (PersonId, Timestamp),
) -> Result<(), StoreError> {
    if jobs::waits(connection, PATH).await? {
        return Ok(());
    }
    jobs::ask(connection, jobs::Work::Culprit { check }, (PATH, 1), who).await
}

/// Where it is shown.
const PATH: &str = "/culprit";

/// A check that would tell, as it is offered.
#[derive(Debug, Clone, QueryableByName)]
pub struct Offer {
    /// The plan by which it is made: that of the chart that speaks.
    #[diesel(sql_type = BigInt)]
    pub plan_version: PlanVersionId,
    /// Tag of the instrument.
    #[diesel(sql_type = Text)]
    pub instrument: String,
    /// Tag of the standard.
    #[diesel(sql_type = Text)]
    pub standard: String,
    /// By how many sigmas the explanations differ there.
    #[diesel(sql_type = Double)]
    pub differs_by: f64,
    /// About how many such checks it takes.
    #[diesel(sql_type = Integer)]
    pub checks: i32,
    /// How many have been made since.
    #[diesel(sql_type = BigInt)]
    pub made: i64,
    /// Minutes that one takes.
    #[diesel(sql_type = Integer)]
    pub minutes: i32,
    /// The explanations that it would tell apart.
    #[diesel(sql_type = Jsonb)]
    explanations: serde_json::Value,
}

impl Offer {
    /// The explanations that it would tell apart.
    ///
    /// # Errors
    /// [`StoreError::Unreadable`].
    pub fn explanations(&self) -> Result<Vec<Explanation>, StoreError> {
        serde_json::from_value(self.explanations.clone()).map_err(unreadable)
    }
}

/// Whether a check, of whatever purpose, is of the pair that would tell by what was said last.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn waits_for(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<bool, StoreError> {
    let found: Vec<Found> = prepared(
        "SELECT EXISTS (SELECT FROM (SELECT * FROM culprit_findings ORDER BY id DESC LIMIT 1) f
             JOIN checks c ON c.instrument_id = f.instrument_id
             JOIN certificates e ON e.id = c.certificate_id
             JOIN standard_lots l ON l.id = e.lot_id AND l.standard_id = f.standard_id
             WHERE c.id = ? AND c.opened_at > f.at AND f.finding = 'cannot_tell') AS found",
        vec![Bind::Int(check.0)],
    )
    .load(connection)
    .await?;
    Ok(found.iter().any(|row| row.found))
}

/// A yes or a no.
#[derive(QueryableByName)]
struct Found {
    #[diesel(sql_type = diesel::sql_types::Bool)]
    found: bool,
}

/// Whether a check is a trial that was offered to tell.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn was_offered(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<bool, StoreError> {
    let found: Vec<Found> = prepared(
        "SELECT EXISTS (SELECT FROM checks c JOIN certificates e ON e.id = c.certificate_id
             JOIN standard_lots l ON l.id = e.lot_id
             JOIN culprit_findings f ON f.instrument_id = c.instrument_id AND f.standard_id = l.standard_id
                 AND f.at <= c.opened_at AND f.at > c.opened_at - interval '30 days'
             WHERE c.id = ? AND c.purpose = 'trial') AS found",
        vec![Bind::Int(check.0)],
    )
    .load(connection)
    .await?;
    Ok(found.iter().any(|row| row.found))
}

/// The check that would tell, where the newest word is that it cannot be told, and as long as there are too few of them.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn offer(connection: &mut AsyncPgConnection) -> Result<Option<Offer>, StoreError> {
    Ok(prepared(
        "SELECT v.id AS plan_version, i.tag AS instrument, s.tag AS standard, f.differs_by, f.checks, f.explanations,
             v.minutes, made.count AS made
         FROM (SELECT * FROM culprit_findings ORDER BY id DESC LIMIT 1) f
         JOIN instruments i ON i.id = f.instrument_id JOIN standards s ON s.id = f.standard_id
         CROSS JOIN LATERAL (SELECT t.set_up_id, t.method_key FROM chart_streams t
             WHERE t.instrument_id = i.id AND t.derived IS NULL AND t.ended_at IS NULL AND t.is_indication IS NOT TRUE
             ORDER BY (SELECT count(*) FROM chart_points p WHERE p.stream_id = t.id
                 AND p.measured_at >= f.at - interval '110 days') DESC, t.id LIMIT 1) own
         JOIN plans p ON p.instrument_id = i.id AND p.set_up_id = own.set_up_id AND p.method_key = own.method_key
         JOIN plan_versions v ON v.plan_id = p.id AND v.state = 'approved'
         CROSS JOIN LATERAL (SELECT count(*) FROM checks c JOIN certificates e ON e.id = c.certificate_id
             JOIN standard_lots l ON l.id = e.lot_id
             WHERE c.instrument_id = i.id AND l.standard_id = s.id AND c.state = 'concluded'
                 AND c.purpose <> 'as_left' AND c.opened_at > f.at) made
         WHERE f.finding = 'cannot_tell' AND made.count < f.checks
             AND s.state = 'in_use' AND i.state NOT IN ('out', 'retired')
         ORDER BY p.id LIMIT 1",
        vec![],
    )
    .load(connection)
    .await?
    .pop())
}
