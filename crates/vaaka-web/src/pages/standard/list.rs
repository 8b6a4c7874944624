//! The register of standards: which can be used now, and all there is to know of one.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use jiff::Timestamp;
use jiff::civil::Date;
use rust_decimal::Decimal;
use vaaka_core::quantity::{show_decimal, show_signed_float};
use vaaka_core::standard::{
    CELSIUS, Offer, StandardFacts, alternatives, check_fitness, kind_words,
};
use vaaka_store::certificate_reviews::Review;
use vaaka_store::files::{self, FileBrief, Owner};
use vaaka_store::rows::{Certificate, CertifiedValue, Lot};
use vaaka_store::standards::{self, Record};
use vaaka_store::{Connection, wear};

use crate::desk::Desk;
use crate::draw::draw_face;
use crate::error::WebError;
use crate::fields::Refusal;
use crate::forms::PathTag;
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};
use crate::state::{AppState, local_day, local_day_time, long_day};

/// A certificate that ends within this many days is shown as soon due.
const SOON_DAYS: i32 = 60;
/// How many uses the page lists.
const USES: i64 = 30;

#[derive(Debug, Template)]
#[template(path = "standards.html")]
struct StandardsPage {
    shell: Shell,
    heading: String,
    rows: Vec<Row>,
    look_backs: Vec<(i64, String)>,
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
    tag: String,
    heading: String,
    state: &'static str,
    words: String,
    instead: Option<String>,
    facts: Vec<(&'static str, String)>,
    values: Vec<ValueRow>,
    by_temperature: bool,
    not_uniform: bool,
    papers: Vec<Paper>,
    lots: Vec<LotRow>,
    lot_waits: bool,
    crossovers: Vec<CrossoverLine>,
    look_backs: Vec<(i64, String, bool)>,
    uses: Vec<String>,
    face: Option<String>,
    face_words: String,
    wears: bool,
    can_open: bool,
    conformance: Option<i64>,
    happenings: Vec<(String, String)>,
    instruments: Vec<(String, String)>,
    states: Vec<(&'static str, &'static str)>,
    version: i32,
    refusal: Refusal,
    /// Words about a form that is not offered any more.
    notice: Option<String>,
}

#[derive(Debug)]
pub struct ValueRow {
    pub(in crate::pages) piece: String,
    pub(in crate::pages) nominal: String,
    pub(in crate::pages) temperature: String,
    pub(in crate::pages) value: String,
    pub(in crate::pages) uncertainty: String,
    pub(in crate::pages) non_uniformity: String,
}

#[derive(Debug)]
struct Paper {
    id: i64,
    words: String,
    /// How its second look stands, where there was one.
    review: Option<&'static str>,
    waits: bool,
    valid: String,
    files: Vec<FileBrief>,
}

#[derive(Debug)]
struct LotRow {
    id: i64,
    name: String,
    words: String,
    waits: bool,
    /// Its form, to put it in use.
    form: String,
}

#[derive(Debug)]
struct CrossoverLine {
    id: i64,
    words: String,
    accepted: bool,
}

/// Whether it may be used now, in a shape and in words.
fn standing(facts: &StandardFacts, now: Timestamp, today: Date) -> (&'static str, String) {
    if let Err(unfit) = check_fitness(facts, 1, now, today) {
        let words = unfit.to_string();
        let words = words.strip_prefix(&format!("{}: ", facts.tag)).unwrap_or(&words);
        return ("out", words.to_owned());
    }
    let Some(until) = facts.certificate.as_ref().map(|certificate| certificate.valid_until) else {
        return ("out", "no certificate".to_owned());
    };
    let left = today.until(until).map_or(0, |span| span.get_days());
    if left <= SOON_DAYS {
        return ("signal", format!("ends on {}, in {left} days", long_day(until)));
    }
    if let Some((kind, most)) = facts.lot.as_ref().and_then(|lot| lot.limit) {
        let left = most.saturating_sub(facts.lot.as_ref().map_or(0, |lot| lot.used));
        if left * 10 <= most {
            return ("signal", format!("{left} of {most} {} left", kind.words()));
        }
    }
    ("ok", format!("in date until {}", long_day(until)))
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

/// Shows the register.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let used = standards::used_by(&mut desk.connection).await?;
    let mut rows = Vec::new();
    for record in &all {
        let (state, words) = standing(&record.facts()?, desk.now, desk.today);
        let by: Vec<&str> = used
            .iter()
            .filter(|(standard, _)| *standard == record.standard.id)
            .map(|(_, instrument)| instrument.tag.as_str())
            .collect();
        rows.push(Row {
            tag: record.standard.tag.clone(),
            name: record.standard.name.clone(),
            kind: capital(&kind_words(&record.standard.kind)),
            lot: record.lot.as_ref().map_or_else(|| "–".into(), |lot| lot.lot.clone()),
            certificate: record
                .certificate
                .as_ref()
                .map_or_else(|| "–".into(), |certificate| certificate.number.clone()),
            used_by: if by.is_empty() { "–".to_owned() } else { by.join(", ") },
            state,
            words,
        });
    }
    let out = rows.iter().filter(|row| row.state == "out").count();
    let heading = match out {
        0 => format!("{} standards, all can be used", rows.len()),
        out => format!("{} standards, {out} cannot be used now", rows.len()),
    };
    let open: Vec<(i64, String)> = standards::look_backs_of(&mut desk.connection, None)
        .await?
        .into_iter()
        .filter(|(_, row)| row.closed_at.is_none())
        .map(|(id, row)| (id.0, row.finding))
        .collect();
    let shell = Shell::new(&signed, "standards", &desk.here);
    page(StatusCode::OK, &StandardsPage { shell, heading, rows, look_backs: open })
}

/// Shows one standard.
pub async fn one(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let shown = draw(&mut desk, &signed, &tag, Refusal::default()).await?;
    page(StatusCode::OK, &shown)
}

/// The page again, with the words at the form that was refused.
pub async fn refused(
    desk: &mut Desk,
    signed: &SignedIn,
    tag: &str,
    refusal: Refusal,
) -> Result<Response, WebError> {
    let shown = draw(desk, signed, tag, refusal).await?;
    page(StatusCode::UNPROCESSABLE_ENTITY, &shown)
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    tag: &str,
    refusal: Refusal,
) -> Result<StandardPage, WebError> {
    let record = standards::by_tag(&mut desk.connection, tag, desk.today).await?;
    let facts = record.facts()?;
    let (state, words) = standing(&facts, desk.now, desk.today);
    let instead = match state {
        "out" => Some(instead(desk, &facts).await?),
        _ => None,
    };
    let id = record.standard.id;
    let papers = papers(desk, &record).await?;
    let lots = standards::lots(&mut desk.connection, id).await?;
    let crossovers = crossovers(desk, &record, &lots).await?;
    let look_backs = standards::look_backs_of(&mut desk.connection, Some(id))
        .await?
        .into_iter()
        .map(|(id, row)| (id.0, row.finding, row.closed_at.is_some()))
        .collect();
    let (face, face_words) = face(&mut desk.connection, record.lot.as_ref()).await?;
    let instruments = standards::used_by(&mut desk.connection)
        .await?
        .into_iter()
        .filter(|(standard, _)| *standard == id)
        .map(|(_, instrument)| (instrument.tag, instrument.name))
        .collect();
    let happenings = standards::states(&mut desk.connection, id)
        .await?
        .into_iter()
        .map(|(row, person)| {
            let words = format!("{}: {} ({person})", state_words(&row.state), row.reason);
            (local_day_time(row.at.0, &desk.here.zone), words)
        })
        .collect();
    let wears = record.lot.as_ref().is_some_and(|lot| lot.use_kind.is_some());
    let conformance = record
        .certificate
        .as_ref()
        .filter(|paper| paper.kind == "conformance" && !record.accepted)
        .map(|paper| paper.id.0);
    let shell = Shell::new(signed, "standards", &desk.here);
    let may_lead = shell.may_lead();
    let states: Vec<_> = STATES
        .into_iter()
        .filter(|(word, _)| *word != record.standard.state && (may_lead || *word == "on_hold"))
        .collect();
    let lots: Vec<LotRow> = lots.iter().map(|lot| lot_row(lot, &desk.here)).collect();
    let waiting = lots.iter().filter(|lot| lot.waits && may_lead);
    let mut forms: Vec<&str> = waiting.map(|lot| lot.form.as_str()).collect();
    forms.extend((!states.is_empty()).then_some("state"));
    forms.extend(wears.then_some("uses"));
    forms.extend((conformance.is_some() && may_lead).then_some("accept"));
    let notice = refusal.elsewhere(&forms);
    Ok(StandardPage {
        tag: tag.to_owned(),
        heading: format!("{} {}", record.standard.name, record.standard.tag),
        state,
        words,
        instead,
        facts: fact_list(&record, &desk.here),
        by_temperature: record.values.iter().any(|row| row.temperature.is_some()),
        not_uniform: record.values.iter().any(|row| row.non_uniformity.is_some()),
        values: record.values.iter().map(value_row).collect(),
        papers,
        lot_waits: lots.iter().any(|lot| lot.waits),
        lots,
        crossovers,
        look_backs,
        uses: match &record.lot {
            Some(lot) if wears => uses(desk, lot).await?,
            _ => vec![],
        },
        face,
        face_words,
        wears,
        can_open: record
            .lot
            .as_ref()
            .is_some_and(|lot| lot.open_hours.is_some() && lot.opened_at.is_none()),
        conformance,
        happenings,
        instruments,
        states,
        version: record.standard.version,
        refusal,
        notice,
        shell,
    })
}

/// States with their words, as the form offers them.
pub const STATES: [(&str, &str); 3] =
    [("in_use", "in use"), ("on_hold", "on hold"), ("retired", "retired for good")];

fn state_words(word: &str) -> &'static str {
    STATES.iter().find(|(known, _)| *known == word).map_or("", |(_, words)| words)
}

async fn instead(desk: &mut Desk, facts: &StandardFacts) -> Result<String, WebError> {
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let all: Vec<StandardFacts> = all.iter().map(Record::facts).collect::<Result<_, _>>()?;
    let wanted = Offer { kind: &facts.kind, nominals: &facts.pieces, readings: 1 };
    let found = alternatives(&all, &facts.tag, wanted, desk.now, desk.today);
    Ok(match found.as_slice() {
        [] => "No other standard with the same values can be used now.".to_owned(),
        found => {
            let tags: Vec<&str> = found.iter().map(|standard| standard.tag.as_str()).collect();
            format!("With the same values: {}.", tags.join(", "))
        }
    })
}

async fn papers(desk: &mut Desk, record: &Record) -> Result<Vec<Paper>, WebError> {
    let mut shown = Vec::new();
    let all = standards::certificates(&mut desk.connection, record.standard.id).await?;
    let ids: Vec<_> = all.iter().map(|paper| paper.id).collect();
    let reviews = vaaka_store::certificate_reviews::of_these(&mut desk.connection, &ids).await?;
    for paper in all {
        let review = reviews.iter().find(|review| review.certificate_id == paper.id);
        shown.push(Paper {
            review: review_words(review),
            waits: review.is_some_and(|review| review.state == "waiting"),
            id: paper.id.0,
            words: paper_words(&paper),
            valid: format!("{} to {}", long_day(paper.valid_from.0), long_day(paper.valid_until.0)),
            files: files::of(&mut desk.connection, Owner::Certificate(paper.id)).await?,
        });
    }
    Ok(shown)
}

pub(in crate::pages) fn paper_words(paper: &Certificate) -> String {
    let kind = match paper.kind.as_str() {
        "conformance" => "conformance",
        _ => "calibration",
    };
    let change = match paper.change.as_str() {
        "clerical" => ", a slip of the pen put right",
        "recertified" => ", certified anew",
        _ => "",
    };
    format!("{}, version {}: {kind}, {}{change}", paper.number, paper.version, paper.issuer)
}

async fn crossovers(
    desk: &mut Desk,
    record: &Record,
    lots: &[Lot],
) -> Result<Vec<CrossoverLine>, WebError> {
    let name = |id| lots.iter().find(|lot| lot.id == id).map_or("?", |lot| lot.lot.as_str());
    let rows = standards::crossovers_of(&mut desk.connection, record.standard.id).await?;
    Ok(rows
        .into_iter()
        .map(|(id, row, tag)| CrossoverLine {
            id: id.0,
            words: format!(
                "{} to {} on {tag} at {} {}: {} ± {:.3} {} from {} pairs",
                name(row.old_lot_id),
                name(row.new_lot_id),
                row.nominal.normalize(),
                row.unit,
                show_signed_float(row.offset_found, 3),
                row.expanded_uncertainty,
                row.unit,
                row.old_errors.len(),
            ),
            accepted: row.accepted_at.is_some(),
        })
        .collect())
}

async fn face(
    connection: &mut Connection,
    lot: Option<&Lot>,
) -> Result<(Option<String>, String), WebError> {
    let Some((lot, face)) = lot.and_then(|lot| Some((lot, wear::face_of(lot)?))) else {
        return Ok((None, String::new()));
    };
    let used = wear::used_spots(connection, lot).await?;
    let free = vaaka_core::standard::free_spots(&face, &used);
    let words = match free.first() {
        Some(next) => format!(
            "{} places used, {} free. Next: {} mm along, {} mm up from the lower left corner.",
            used.len(),
            free.len(),
            next.x,
            next.y
        ),
        None => format!("{} places used, none is free: take a new block.", used.len()),
    };
    Ok((Some(draw_face(&face, &used, free.first())), words))
}

async fn uses(desk: &mut Desk, lot: &Lot) -> Result<Vec<String>, WebError> {
    let rows = standards::uses(&mut desk.connection, lot.id, USES).await?;
    let mut lines: Vec<(Option<i64>, String, i32)> = Vec::new();
    for (row, person) in rows {
        let at = local_day_time(row.at.0, &desk.here.zone);
        let check = row.check_id.map(|id| id.0);
        // The places of one check make one line.
        let own = check.is_some() && row.reason.is_empty();
        if let Some(last) = lines.last_mut().filter(|last| own && last.0 == check) {
            last.2 += row.count;
            continue;
        }
        let words = match check {
            Some(check) if own => format!("{at}, {person}, check {check}"),
            Some(check) => format!("{at}, {person}, check {check}: {}", row.reason),
            None => format!("{at}, {person}: {}", row.reason),
        };
        lines.push((check.filter(|_| own), words, row.count));
    }
    Ok(lines.into_iter().map(|(_, words, count)| format!("{count} on {words}")).collect())
}

fn lot_row(lot: &Lot, here: &Here) -> LotRow {
    let words = match (lot.in_use_from, lot.in_use_until) {
        (None, _) => "waits to be put in use".to_owned(),
        (Some(from), None) => format!("in use since {}", local_day_time(from.0, &here.zone)),
        (Some(from), Some(until)) => format!(
            "{} to {}",
            local_day_time(from.0, &here.zone),
            local_day_time(until.0, &here.zone)
        ),
    };
    LotRow {
        id: lot.id.0,
        name: lot.lot.clone(),
        words,
        waits: lot.in_use_from.is_none(),
        form: format!("use-{}", lot.id),
    }
}

fn full(value: Decimal) -> String {
    show_decimal(value, value.scale())
}

pub(in crate::pages) fn value_row(row: &CertifiedValue) -> ValueRow {
    ValueRow {
        piece: row.piece.clone(),
        nominal: format!("{} {}", full(row.nominal), row.unit),
        temperature: row.temperature.map_or_else(
            || "–".into(),
            |at| format!("{} {}", full(at), row.at_unit.as_deref().unwrap_or(CELSIUS)),
        ),
        value: format!("{} {}", full(row.certified_value), row.unit),
        uncertainty: if row.class_limit {
            format!("{} {} (limit of its class)", full(row.expanded_uncertainty), row.unit)
        } else {
            format!(
                "{} {} (k = {})",
                full(row.expanded_uncertainty),
                row.unit,
                full(row.coverage_factor.normalize())
            )
        },
        non_uniformity: row
            .non_uniformity
            .map_or_else(|| "–".into(), |a| format!("±{} {}", full(a), row.unit)),
    }
}

fn fact_list(record: &Record, here: &Here) -> Vec<(&'static str, String)> {
    let mut facts = vec![("Kind", capital(&kind_words(&record.standard.kind)))];
    if !record.standard.location.is_empty() {
        facts.push(("Kept", record.standard.location.clone()));
    }
    if let Some(lot) = &record.lot {
        facts.push(("Lot or piece", lot.lot.clone()));
        if let Some(from) = lot.in_use_from {
            facts.push(("In use since", local_day(from.0, &here.zone)));
        }
        if let Some(day) = lot.expires_on {
            facts.push(("Expires", long_day(day.0)));
        }
        if let Some(hours) = lot.open_hours {
            let opened = lot.opened_at.map_or_else(
                || "not opened yet".to_owned(),
                |at| format!("opened {}", local_day_time(at.0, &here.zone)),
            );
            facts.push(("May be open", format!("{hours} h; {opened}")));
        }
        if let (Some(kind), Some(most)) = (&lot.use_kind, lot.use_limit) {
            let kind = kind.parse::<vaaka_core::standard::UseKind>();
            let words = kind.map_or("uses", |kind| kind.words());
            facts.push(("Used", format!("{} of {most} {words}", record.used)));
        }
    }
    if let Some(certificate) = &record.certificate {
        facts.push((
            "Certificate",
            format!("{}, version {}", certificate.number, certificate.version),
        ));
        facts.push(("Issued by", certificate.issuer.clone()));
        facts.push(("Issued on", long_day(certificate.issued_on.0)));
        let (from, until) =
            (long_day(certificate.valid_from.0), long_day(certificate.valid_until.0));
        facts.push(("Valid", format!("{from} to {until}")));
    }
    facts
}

/// How a certificate under review stands: mark and words.
pub(in crate::pages) fn state_of(review: Option<&Review>) -> (&'static str, &'static str) {
    match review.map(|review| (review.state.as_str(), review.alone)) {
        None => ("ok", "in the register from before certificates were countersigned"),
        Some(("waiting", _)) => ("due", "waits for a second lead"),
        Some(("countersigned", false)) => ("ok", "countersigned"),
        Some(("countersigned", true)) => ("ok", "taken, not countersigned: this site has one lead"),
        Some(_) => ("void", "rejected"),
    }
}

/// How a certificate of a list stands, where that has to be said.
pub(in crate::pages) fn review_words(review: Option<&Review>) -> Option<&'static str> {
    review.map(|review| state_of(Some(review)).1)
}
