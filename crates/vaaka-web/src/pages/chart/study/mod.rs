//! The baseline study: a period, what it says of itself, the limits it proposes, what they would have done
//! in the past, and freezing them.

mod choice;
mod drawing;
mod material;
mod words;

use material::{Material, Proposal};
use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use vaaka_core::chart::{ChartDesign, Level, SigmaSource};
use vaaka_core::judgement::firing_words;
use vaaka_core::quantity::{Unit, decimals_for, to_f64};
use vaaka_core::study::{
    Around, BackTestSegment, LimitChoice, Objection, StudyInput, StudyPoint, back_test, is_reason,
    study,
};
use vaaka_store::charts::{self, StreamView};
use vaaka_store::ids::{SegmentId, StreamId};
use vaaka_store::studies::{
    self, Countersigned, Freeze, LimitProposal, NewProposal, StudyRefusal, StudyRow,
};
use vaaka_store::{At, imports, people};

use self::choice::{Chosen, choice_groups, freeze_groups, hidden, read_choice, with_defaults};
use self::drawing::drawing;
use self::words::{
    GroupRow, caution_words, facts, group_rows, objection_words, places_of, proposal_words,
    widened_offer,
};
use super::row::lower_first;
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Fields, Group, Reader};
use crate::forms::PathId;
use crate::pages::chart::signals::sentence;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "chart_study.html")]
struct StudyPage {
    shell: Shell,
    id: i64,
    heading: String,
    drawing: String,
    choice: Vec<Group>,
    period: String,
    facts: Vec<(&'static str, String)>,
    technicians: Vec<GroupRow>,
    shifts: Vec<GroupRow>,
    faults: Vec<String>,
    cautions: Vec<String>,
    unstable: Vec<(i64, String, String)>,
    more_unstable: usize,
    proposal: Vec<String>,
    back_test: Option<String>,
    raised: Vec<(String, String)>,
    /// Why one lead alone may not freeze them.
    objections: Vec<String>,
    /// Limits widened for checks that resemble their neighbours: in words, and the choice that makes them.
    widened: Option<(String, Vec<(String, String)>)>,
    waiting: Option<Waiting>,
    freeze: Vec<Group>,
    hidden: Vec<(String, String)>,
    may_freeze: bool,
    error: Option<String>,
}

/// A proposal that waits for a second lead.
#[derive(Debug)]
struct Waiting {
    id: i64,
    proposer: String,
    at: String,
    reason: String,
    objections: Vec<String>,
    limits: String,
    /// Whether the person who looks proposed it.
    own: bool,
    /// The site has one lead, who may decide alone.
    alone: bool,
    reason_typed: String,
    reason_error: Option<String>,
}

async fn material(desk: &mut Desk, id: StreamId, with_earlier: bool) -> Result<Material, WebError> {
    let view = charts::by_id(&desk.connection, id).await?;
    let segment = charts::current_segment(&mut desk.connection, id).await?;
    let baselines = studies::baselines_of(&mut desk.connection, id).await?;
    let rows = studies::points(&mut desk.connection, id).await?;
    let mut points: Vec<StudyPoint> = rows.iter().map(StudyRow::point).collect();
    if with_earlier {
        let first = At(Timestamp::UNIX_EPOCH);
        let now = At(desk.now);
        let most = studies::MOST_POINTS;
        let known = imports::earlier(&desk.connection, &view.stream, first, now, most).await?;
        points.extend(known.iter().map(|value| StudyPoint {
            measured_at: value.at.0,
            value: to_f64(value.value),
            readings: 1,
            scatter: None,
            segment: 0,
            shift: None,
            shift_kind: String::new(),
            person: value.person.clone(),
            excluded: false,
        }));
        points.sort_by_key(|point| point.measured_at);
    }
    let shift_kinds = studies::shift_kinds(&mut desk.connection, &view.stream).await?;
    let regulars = studies::regulars(&rows);
    let resolution = resolution_of(&view);
    let tolerance = studies::tolerance(&mut desk.connection, id).await?;
    let waiting = studies::waiting_proposal(&mut desk.connection, id).await?;
    Ok(Material {
        view,
        segment,
        baselines,
        rows,
        points,
        resolution,
        shift_kinds,
        regulars,
        tolerance,
        waiting,
    })
}

/// Resolution of the instrument in the unit of a chart. Charts of all levels together are means of several
/// readings and have no steps of their own.
fn resolution_of(view: &StreamView) -> f64 {
    let units = (view.instrument.unit.parse::<Unit>(), view.stream.unit.parse::<Unit>());
    match units {
        (Ok(from), Ok(to)) if view.stream.derived.is_none() => {
            from.try_convert(view.instrument.resolution, to).map_or(0.0, to_f64)
        }
        _ => 0.0,
    }
}

/// Shows the study; what was chosen stands in the address.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
    typed: Fields,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let earlier = !typed.get("earlier").is_empty();
    let material = material(&mut desk, StreamId(id), earlier).await?;
    draw(&mut desk, &signed, &material, &typed, BTreeMap::new()).await
}

fn propose(material: &Material, chosen: &Chosen) -> Proposal {
    let inside = |point: &&StudyPoint| {
        chosen.from.is_none_or(|from| point.measured_at >= from)
            && chosen.to.is_none_or(|to| point.measured_at < to)
    };
    let points: Vec<StudyPoint> = material.points.iter().filter(inside).cloned().collect();
    let found = study(&StudyInput {
        points: &points,
        interval: charts::interval(&material.view.stream),
        resolution: material.resolution,
        multiplier: chosen.design.above,
        shift_kinds: &material.shift_kinds,
        regulars: &material.regulars,
    });
    let needs_baseline = chosen.design.limits == LimitChoice::Baseline;
    let design = match found.faults.first() {
        Some(fault) if needs_baseline => Err(sentence(&fault.to_string())),
        _ => found
            .design(&chosen.design, material.resolution)
            .map_err(|fault| sentence(&fault.to_string())),
    };
    Proposal { study: found, design, points }
}

/// What stands against freezing a design by one lead alone.
async fn objections(
    desk: &mut Desk,
    material: &Material,
    proposal: &Proposal,
    design: &ChartDesign,
) -> Result<Vec<Objection>, WebError> {
    let ends = proposal.points.first().zip(proposal.points.last());
    let open_signals = match ends {
        Some((first, last)) => {
            let period = (first.measured_at, last.measured_at);
            studies::open_signals(&mut desk.connection, material.view.stream.id, period).await?
        }
        None => 0,
    };
    let (lower, upper) = material.tolerance;
    Ok(proposal.study.objections(design, Around { lower, upper, open_signals }))
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    material: &Material,
    typed: &Fields,
    mut faults: BTreeMap<String, String>,
) -> Result<Response, WebError> {
    let zone = desk.here.zone.clone();
    let chosen = read_choice(typed, material, &zone);
    faults.extend(chosen.faults.clone());
    let proposal = propose(material, &chosen);
    let (view, found) = (&material.view, &proposal.study);
    let full = with_defaults(typed, &chosen, &zone);
    let id = view.stream.id;
    let limits = (At(Timestamp::UNIX_EPOCH), At(desk.now));
    let has_earlier =
        !imports::earlier(&desk.connection, &view.stream, limits.0, limits.1, 1).await?.is_empty();
    let design = proposal.design.as_ref().ok().filter(|_| chosen.faults.is_empty());
    let (tested, raised) = match design {
        Some(design) => test_the_past(desk, material, &chosen, design).await?,
        None => (None, vec![]),
    };
    let against = match design {
        Some(design) => objections(desk, material, &proposal, design).await?,
        None => vec![],
    };
    let mut words =
        design.map_or_else(Vec::new, |design| proposal_words(material, found, design, &chosen));
    if let (Err(fault), true) = (&proposal.design, chosen.faults.is_empty())
        && !found.faults.iter().any(|known| sentence(&known.to_string()) == *fault)
    {
        words.push(fault.clone());
    }
    let shell = Shell::new(signed, "charts", &desk.here);
    let status = if faults.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    let used: Vec<&StudyPoint> = proposal.points.iter().filter(|point| !point.excluded).collect();
    let check_at = |at: Timestamp| {
        material.rows.iter().find(|row| row.point().measured_at == at).map(|row| row.check_id.0)
    };
    let mut unstable: Vec<(i64, String, String)> = Vec::new();
    for (place, firing) in &found.unstable {
        let Some(point) = used.get(*place) else { continue };
        let Some(check) = check_at(point.measured_at) else { continue };
        match unstable.iter_mut().find(|(known, _, _)| *known == check) {
            Some(line) => line.2.push_str(&format!("; {}", firing_words(firing))),
            None => {
                let when = local_day_time(point.measured_at, &zone);
                unstable.push((check, when, firing_words(firing)));
            }
        }
    }
    let more_unstable = unstable.len().saturating_sub(12);
    unstable.truncate(12);
    let only_lead = people::is_only_lead(&mut desk.connection).await?;
    let mut freeze = freeze_groups();
    let waiting = material.waiting.as_ref().map(|waiting| Waiting {
        alone: only_lead,
        ..waiting_words(waiting, material, signed, typed, &faults, &zone)
    });
    for group in &mut freeze {
        group.fill(typed, &faults);
    }
    let error = faults.get("*").cloned();
    let places = places_of(material, found);
    let template = StudyPage {
        id: id.0,
        heading: format!("{} {}", view.instrument.tag, lower_first(&view.stream.label)),
        drawing: drawing(material, &proposal, design, &zone),
        choice: choice_groups(&full, &faults, has_earlier),
        period: found.period.map_or("no check".to_owned(), |(first, last)| {
            let day = |at: Timestamp| at.to_zoned_datetime(zone.clone()).strftime("%-d %b %Y");
            format!("{} to {}", day(first), day(last))
        }),
        facts: facts(material, found),
        technicians: group_rows(&found.technicians, places),
        shifts: group_rows(&found.shift_kinds, places),
        faults: found.faults.iter().map(|fault| sentence(&fault.to_string())).collect(),
        cautions: found.cautions.iter().map(caution_words).collect(),
        unstable,
        more_unstable,
        proposal: words,
        back_test: tested,
        raised,
        objections: against
            .iter()
            .map(|one| objection_words(one, material, found, &used, &zone))
            .collect(),
        widened: design.and_then(|design| widened_offer(design, found, &full, material)),
        waiting,
        freeze,
        hidden: hidden(&full, material),
        may_freeze: shell.may_lead() && design.is_some(),
        shell,
        error,
    };
    page(status, &template)
}

/// Runs the proposed design over everything that is on the chart.
async fn test_the_past(
    desk: &mut Desk,
    material: &Material,
    chosen: &Chosen,
    design: &ChartDesign,
) -> Result<(Option<String>, Vec<(String, String)>), WebError> {
    let faults =
        studies::faults(&mut desk.connection, &material.view.stream, &material.rows).await?;
    let inside = |point: &StudyPoint| {
        chosen.from.is_none_or(|from| point.measured_at >= from)
            && chosen.to.is_none_or(|to| point.measured_at < to)
    };
    let all: Vec<StudyPoint> = material.rows.iter().map(StudyRow::point).collect();
    let segments: Vec<BackTestSegment> = all
        .chunk_by(|a, b| a.segment == b.segment)
        .map(|points| {
            // Of another segment nobody knows the level: it begins at the target, provisional.
            let own = points.iter().any(inside) || !design.is_statistical();
            let design = if own { design.clone() } else { design.after_adjustment(0.0) };
            BackTestSegment { design, points: points.to_vec() }
        })
        .collect();
    let interval = charts::interval(&material.view.stream);
    let tested = back_test(&segments, &faults, interval);
    let zone = &desk.here.zone;
    let raised = tested
        .signals
        .iter()
        .rev()
        .take(12)
        .map(|signal| {
            let words =
                signal.before.map_or("for nothing that is known".to_owned(), |(fault, n)| {
                    format!("{n} checks before: {}", faults[fault].words)
                });
            let side = signal.side.map_or("", |side| side.word());
            (local_day_time(signal.at, zone), format!("{side}, {words}"))
        })
        .collect();
    Ok((Some(tested.words()), raised))
}

fn waiting_words(
    waiting: &LimitProposal,
    material: &Material,
    signed: &SignedIn,
    typed: &Fields,
    faults: &BTreeMap<String, String>,
    zone: &TimeZone,
) -> Waiting {
    let design: Option<ChartDesign> = serde_json::from_value(waiting.design.clone()).ok();
    let unit = &material.view.stream.unit;
    let limits = design.map_or(String::new(), |design| {
        let Level::Frozen { center_line } = design.level else { return String::new() };
        let places = decimals_for(design.sigma);
        let show = |value: f64| material.view.stream.shown(value, places);
        format!(
            "{} to {} {unit} about {} {unit}",
            show(center_line - design.below),
            show(center_line + design.above),
            show(center_line)
        )
    });
    Waiting {
        id: waiting.id,
        proposer: waiting.proposer.clone(),
        at: local_day_time(waiting.proposed_at.0, zone),
        reason: waiting.reason.clone(),
        objections: serde_json::from_value(waiting.objections.clone()).unwrap_or_default(),
        limits,
        own: waiting.proposed_by == signed.person.id,
        alone: false,
        reason_typed: typed.get("decision").to_owned(),
        reason_error: faults.get("decision").cloned(),
    }
}

/// What a form to freeze comes to, its own faults aside.
struct Wanted {
    proposal: Proposal,
    chosen: Chosen,
    design: ChartDesign,
    name: String,
    reason: String,
    months: i32,
}

/// Reads a form to freeze; the faults where it does not hold.
fn wanted(
    typed: &Fields,
    material: &Material,
    zone: &TimeZone,
) -> Result<Wanted, BTreeMap<String, String>> {
    let chosen = read_choice(typed, material, zone);
    let mut reader = Reader::of(typed);
    let name =
        reader.required("name", 80, "Give these limits a name, so that people can speak of them.");
    let reason = reader.required("reason", 1_000, "Say why they are frozen now.");
    if !reason.is_empty()
        && let Err(words) = is_reason(&reason)
    {
        reader.fault("reason", words.to_string());
    }
    let months = reader.whole("review", 1, 60).unwrap_or(12);
    let proposal = propose(material, &chosen);
    let design = match (&proposal.design, chosen.faults.is_empty()) {
        (Ok(design), true) => Some(design.clone()),
        (Err(words), true) => {
            reader.fault("*", words.clone());
            None
        }
        _ => None,
    };
    match design {
        Some(design) if reader.is_fine() => {
            Ok(Wanted { proposal, chosen, design, name, reason, months })
        }
        _ => Err(reader.faults),
    }
}

/// Freezes what was chosen; where something stands against it, proposes it to a second lead.
pub async fn freeze(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let earlier = !typed.get("earlier").is_empty();
    let material = material(&mut desk, StreamId(id), earlier).await?;
    let zone = desk.here.zone.clone();
    let wanted = match wanted(&typed, &material, &zone) {
        Ok(wanted) => wanted,
        Err(faults) => return draw(&mut desk, &signed, &material, &typed, faults).await,
    };
    let against = objections(&mut desk, &material, &wanted.proposal, &wanted.design).await?;
    let done = if against.is_empty() {
        let new = frozen(&mut desk, &material, &typed, &wanted, None).await?;
        let (person, now) = (signed.person.id, desk.now);
        studies::freeze(&mut desk.connection, StreamId(id), &new, person, now).await?
    } else {
        let used: Vec<&StudyPoint> =
            wanted.proposal.points.iter().filter(|point| !point.excluded).collect();
        let words: Vec<String> = against
            .iter()
            .map(|one| objection_words(one, &material, &wanted.proposal.study, &used, &zone))
            .collect();
        let (view, seen) = (&material.view, typed.get("seen_segment").parse().unwrap_or(0));
        let new = NewProposal {
            design: &wanted.design,
            choice: typed.to_json(),
            objections: &words,
            reason: &wanted.reason,
            segment: SegmentId(seen),
            what: &format!("{} {}", view.instrument.tag, lower_first(&view.stream.label)),
        };
        let (person, now) = (signed.person.id, desk.now);
        studies::propose(&mut desk.connection, StreamId(id), &new, person, now).await?
    };
    match done {
        Ok(()) if against.is_empty() => Ok(Redirect::to(&format!("/charts/{id}")).into_response()),
        Ok(()) => Ok(Redirect::to(&format!("/charts/{id}/study")).into_response()),
        Err(refusal) => {
            let faults = BTreeMap::from([("*".to_owned(), sentence(&refusal.to_string()))]);
            draw(&mut desk, &signed, &material, &typed, faults).await
        }
    }
}

/// Everything that is kept with frozen limits.
async fn frozen(
    desk: &mut Desk,
    material: &Material,
    typed: &Fields,
    wanted: &Wanted,
    countersigned: Option<Countersigned>,
) -> Result<Freeze, WebError> {
    let Wanted { proposal, chosen, design, name, reason, months } = wanted;
    let found = &proposal.study;
    let mut shown = proposal_words(material, found, design, chosen);
    shown.extend(test_the_past(desk, material, chosen, design).await?.0);
    shown.extend(found.cautions.iter().map(caution_words));
    let is_baseline = chosen.design.limits == LimitChoice::Baseline;
    let sigma_source = found
        .limits
        .as_ref()
        .filter(|_| is_baseline)
        .map_or(SigmaSource::Given, |limits| limits.limits.sigma_source);
    Ok(Freeze {
        sigma_source: if design.resolution_floor { SigmaSource::Resolution } else { sigma_source },
        name: name.clone(),
        reason: reason.clone(),
        period: found.period.filter(|_| is_baseline),
        points: if is_baseline { found.used } else { 0 },
        excluded: found.excluded,
        mean_moving_range: found
            .limits
            .as_ref()
            .filter(|_| is_baseline)
            .map_or(0.0, |limits| limits.mean_moving_range),
        review_due: desk
            .today
            .saturating_add(months.months())
            .to_zoned_datetime(desk.here.zone.clone())
            .ok()
            .map(|zoned| zoned.timestamp()),
        shown,
        seen_segment: SegmentId(typed.get("seen_segment").parse().unwrap_or(0)),
        seen_baselines: typed.get("seen_baselines").parse().unwrap_or(-1),
        design: design.clone(),
        countersigned,
    })
}

/// A second lead countersigns limits, or turns them down; the first may withdraw them.
pub async fn countersign(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let stream = StreamId(id);
    let waiting = studies::waiting_proposal(&mut desk.connection, stream).await?;
    let asked: i64 = typed.get("proposal").parse().unwrap_or(0);
    let Some(waiting) = waiting.filter(|waiting| waiting.id == asked) else {
        return Err(WebError::NotNow {
            words: "This proposal was decided on meanwhile. Look at the chart again.".into(),
        });
    };
    let choice = Fields::from_json(&waiting.choice);
    let material = material(&mut desk, stream, !choice.get("earlier").is_empty()).await?;
    let own = waiting.proposed_by == signed.person.id;
    let alone = own && people::is_only_lead(&mut desk.connection).await?;
    let reason = typed.get("decision").trim().to_owned();
    let mut faults = BTreeMap::new();
    let accepts = typed.get("verdict") == "countersign";
    if let (Err(words), true) = (is_reason(&reason), !own || (alone && accepts)) {
        faults.insert("decision".to_owned(), words.to_string());
    }
    if accepts && own && !alone {
        faults.insert(
            "decision".to_owned(),
            "Another lead countersigns what you proposed.".to_owned(),
        );
    }
    if !faults.is_empty() {
        return draw(&mut desk, &signed, &material, &typed, faults).await;
    }
    let now = desk.now;
    let done = if accepts {
        let zone = desk.here.zone.clone();
        let seen: Option<ChartDesign> = serde_json::from_value(waiting.design.clone()).ok();
        // Points of that time that were entered late, or taken out since, change it.
        let material = material.back_at(waiting.proposed_at.0);
        let same = wanted(&choice, &material, &zone)
            .ok()
            .filter(|wanted| seen.as_ref() == Some(&wanted.design));
        match same {
            Some(wanted) => {
                let second =
                    Countersigned { proposal: waiting.id, by: signed.person.id, reason, alone };
                let new = frozen(&mut desk, &material, &choice, &wanted, Some(second)).await?;
                studies::freeze(&mut desk.connection, stream, &new, waiting.proposed_by, now)
                    .await?
            }
            None => Err(StudyRefusal::ChangedMeanwhile),
        }
    } else {
        let words = if reason.is_empty() { "withdrawn" } else { reason.as_str() };
        let decision = (signed.person.id, words);
        studies::turn_down(&mut desk.connection, stream, waiting.id, decision, now).await?
    };
    match done {
        Ok(()) if accepts => Ok(Redirect::to(&format!("/charts/{id}")).into_response()),
        Ok(()) => Ok(Redirect::to(&format!("/charts/{id}/study")).into_response()),
        Err(refusal) => {
            let faults = BTreeMap::from([("*".to_owned(), sentence(&refusal.to_string()))]);
            let now = self::material(&mut desk, stream, false).await?;
            draw(&mut desk, &signed, &now, &typed, faults).await
        }
    }
}

/// For tests: the default choice raises what the rules of the house say.
#[cfg(test)]
mod tests {
    use super::super::rules::preset;
    use vaaka_core::chart::ChartDesign;
    use vaaka_core::chart::Criteria;

    #[test]
    fn ready_made_choices() {
        let default = preset("default").unwrap();
        assert_eq!(default, ChartDesign::given(0.0, 1.0).raising);
        for word in ["sums", "zones", "nelson", "multirules"] {
            assert!(!preset(word).unwrap().is_empty(), "{word}");
        }
        assert_eq!(preset("anything"), None);
        // A warning never raises.
        let warned = Criteria::NONE.with(vaaka_core::chart::Criterion::WarningBeyond2);
        assert!(preset("multirules").unwrap().both(warned).is_empty());
    }
}
