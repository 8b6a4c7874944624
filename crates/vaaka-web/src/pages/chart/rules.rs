//! The rules of a chart, switched one by one; its proposed segments; the charts of all its levels.

use std::collections::BTreeMap;

use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_core::chart::{Criteria, Criterion, RuleSet};
use vaaka_core::judgement::criterion_words;
use vaaka_store::charts::{self, StreamView};
use vaaka_store::derived::{self, Kind};
use vaaka_store::ids::{SegmentId, StreamId};
use vaaka_store::studies::{self, Settle};
use vaaka_store::to_word;

use super::power::{about, power_of, power_words};
use super::row::lower_first;
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, choices};
use crate::forms::{PathId, PathIds};
use crate::pages::chart::signals::sentence;
use crate::pages::form::{Form, whole};
use crate::session::SignedIn;
use crate::state::AppState;

/// The name of a criterion's field.
fn name_of(criterion: Criterion) -> Result<String, WebError> {
    Ok(format!("rule-{}", to_word(&criterion)?))
}

/// Ready-made choices.
const PRESETS: [(&str, &str); 6] = [
    ("", "As ticked below"),
    ("default", "Limits and slow average"),
    ("sums", "Limits and cumulative sums"),
    ("zones", "The four zone rules"),
    ("nelson", "The eight rules of Nelson 1984"),
    ("multirules", "The laboratory multirules"),
];

/// What a ready-made choice raises; none for a choice of one's own.
pub(super) fn preset(word: &str) -> Option<Criteria> {
    let set = |set: RuleSet| {
        set.rules().iter().copied().filter(|rule| rule.may_raise()).collect::<Criteria>()
    };
    Some(match word {
        "default" => [Criterion::BeyondLimits, Criterion::Ewma].into_iter().collect(),
        "sums" => [Criterion::BeyondLimits, Criterion::Cusum].into_iter().collect(),
        "zones" => set(RuleSet::Zones),
        "nelson" => set(RuleSet::Nelson),
        "multirules" => set(RuleSet::Multirules),
        _ => return None,
    })
}

/// Everything that may be mentioned where it does not raise.
pub(super) fn all_mentioned() -> Criteria {
    Criterion::ALL.into_iter().filter(|criterion| !criterion.across_levels()).collect()
}

fn form(view: &StreamView, intro: String) -> Result<Form, WebError> {
    let id = view.stream.id;
    let heading = format!("Rules of {}: {}", view.instrument.tag, lower_first(&view.stream.label));
    let back = format!("/charts/{id}");
    let mut form = Form::new("charts", heading, format!("/charts/{id}/rules"), back, "Switch them");
    form.intro = intro;
    let own = [Criterion::BeyondLimits, Criterion::Ewma, Criterion::Cusum, Criterion::Spread];
    let across = view.stream.derived.as_deref() == Some("levels");
    let patterns: Vec<Criterion> = Criterion::ALL
        .into_iter()
        .filter(|criterion| !own.contains(criterion) && criterion.across_levels() == across)
        .collect();
    let field = |criterion: Criterion| -> Result<Field, WebError> {
        let sets: Vec<&str> = [RuleSet::Zones, RuleSet::Nelson, RuleSet::Multirules]
            .into_iter()
            .filter(|set| set.rules().contains(&criterion))
            .map(RuleSet::words)
            .collect();
        let look = if criterion.may_raise() {
            choices([
                ("raises", "raises a signal"),
                ("mentioned", "for information"),
                ("off", "off"),
            ])
        } else {
            choices([("mentioned", "for information"), ("off", "off")])
        };
        let label = sentence(criterion_words(criterion));
        Ok(Field::new(name_of(criterion)?, label.trim_end_matches('.'), look).hint(sets.join(", ")))
    };
    let fields = |list: &[Criterion]| -> Result<Vec<Field>, WebError> {
        list.iter().copied().map(field).collect()
    };
    let ready = Field::new("preset", "A ready-made choice", choices(PRESETS))
        .hint("It takes the place of what is chosen below; the rest is for information.");
    form.groups = vec![
        Group::new("", vec![ready]),
        Group::new("The chart\u{2019}s own limits and watchers", fields(&own)?),
        Group::new("Patterns", fields(&patterns)?),
        Group::new(
            "",
            vec![
                Field::new(
                    "only_look",
                    "Only show what it would do; switch nothing yet",
                    Look::Tick,
                ),
                Field::new("reason", "Why", Look::Lines)
                    .hint("What was judged keeps its rules; these hold from the next check on."),
            ],
        ),
    ];
    Ok(form)
}

fn filled(raising: Criteria, advisory: Criteria) -> Result<Fields, WebError> {
    let mut typed = Fields::default();
    for criterion in Criterion::ALL {
        let word = match (raising.has(criterion), advisory.has(criterion)) {
            (true, _) => "raises",
            (_, true) => "mentioned",
            _ => "off",
        };
        typed = typed.with(&name_of(criterion)?, word);
    }
    Ok(typed)
}

/// Shows the form.
pub async fn show(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let view = charts::by_id(&desk.connection, StreamId(id)).await?;
    let segment = charts::current_segment(&mut desk.connection, StreamId(id)).await?;
    let Some(design) = studies::design_of(&segment)? else {
        return Err(WebError::NotNow {
            words: "This chart has no limits yet; its rules are chosen when they are frozen."
                .into(),
        });
    };
    let intro = effect(&view, &design);
    let typed = filled(design.raising, design.advisory)?;
    form(&view, intro)?.draw(&signed, &desk.here, &typed, &BTreeMap::new())
}

/// What the rules of a design do, in words.
fn effect(view: &StreamView, design: &vaaka_core::chart::ChartDesign) -> String {
    match power_of(design, vaaka_core::chart::simulate::Circumstances::default()) {
        Some(power) => format!(
            "As chosen, a false alarm comes every {} checks. {}",
            about(power.quiet).trim_start_matches("about "),
            power_words(design, &power, &view.stream.unit)
        ),
        None => "As chosen, nothing raises a signal.".to_owned(),
    }
}

/// Switches rules, or shows what that would do.
pub async fn switch(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let view = charts::by_id(&desk.connection, StreamId(id)).await?;
    let segment = charts::current_segment(&mut desk.connection, StreamId(id)).await?;
    let mut reader = Reader::of(&typed);
    let (mut raising, mut advisory) = (Criteria::NONE, Criteria::NONE);
    for criterion in Criterion::ALL {
        match typed.get(&name_of(criterion)?) {
            "raises" if criterion.may_raise() => raising = raising.with(criterion),
            "mentioned" => advisory = advisory.with(criterion),
            "" | "off" => {}
            _ => reader.fault(&name_of(criterion)?, "Choose one of these."),
        }
    }
    if let Some(chosen) = preset(typed.get("preset")) {
        (raising, advisory) = (chosen, all_mentioned().without(chosen));
    }
    let only_look = reader.ticked("only_look");
    let reason = if only_look {
        reader.text("reason", 1_000)
    } else {
        reader.required("reason", 1_000, "Say why the rules are switched.")
    };
    let design = studies::design_of(&segment)?;
    let proposed = design.map(|design| design.with_rules(raising, advisory, desk.now));
    let intro = proposed.as_ref().map(|design| effect(&view, design)).unwrap_or_default();
    if only_look || !reader.is_fine() {
        let mut shown = filled(raising, advisory)?.with("reason", reason);
        if only_look && reader.is_fine() {
            shown = shown.with("only_look", "");
        }
        return form(&view, intro)?.draw(&signed, &desk.here, &shown, &reader.faults);
    }
    let (person, now) = (signed.person.id, desk.now);
    let rules = (raising, advisory);
    let stream = StreamId(id);
    match studies::switch_rules(&mut desk.connection, stream, rules, &reason, person, now).await? {
        Ok(()) => Ok(Redirect::to(&format!("/charts/{id}")).into_response()),
        Err(refusal) => {
            let faults = whole(sentence(&refusal.to_string()));
            form(&view, intro)?.draw(&signed, &desk.here, &typed, &faults)
        }
    }
}

/// Confirms a proposed segment, or joins it with the one before.
pub async fn settle(
    PathIds(chart, segment): PathIds,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let settle = match typed.get("settle") {
        "confirm" => Settle::Confirm,
        "join" => Settle::Join,
        _ => return Err(WebError::BadForm("settle".into())),
    };
    let mut reader = Reader::of(&typed);
    let ask =
        "Say why it is joined with the segment before: then the old limits hold for its points.";
    let reason = match settle {
        Settle::Confirm => reader.text("reason", 1_000),
        Settle::Join => reader.required("reason", 1_000, ask),
    };
    if let Some(words) = reader.faults.into_values().next() {
        return Err(WebError::NotNow { words });
    }
    let (person, now) = (signed.person.id, desk.now);
    let ids = (StreamId(chart), SegmentId(segment));
    match studies::settle_segment(&mut desk.connection, ids, settle, &reason, person, now).await? {
        Ok(()) => Ok(Redirect::to(&format!("/charts/{chart}")).into_response()),
        Err(refusal) => Err(WebError::NotNow { words: sentence(&refusal.to_string()) }),
    }
}

/// Turns charts of all levels on or off.
pub async fn all_levels(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let (kind, on) = match typed.get("turn") {
        "line-on" => (Kind::Line, true),
        "line-off" => (Kind::Line, false),
        "levels-on" => (Kind::Levels, true),
        "levels-off" => (Kind::Levels, false),
        _ => return Err(WebError::BadForm("turn".into())),
    };
    let (person, now) = (signed.person.id, desk.now);
    let stream = StreamId(id);
    if !on {
        derived::turn_off(&mut desk.connection, stream, kind, person, now).await?;
        return Ok(Redirect::to("/charts").into_response());
    }
    match derived::turn_on(&mut desk.connection, stream, kind, person, now).await? {
        Ok(made) => {
            let first = made.first().map_or(id, |id| id.0);
            Ok(Redirect::to(&format!("/charts/{first}")).into_response())
        }
        Err(refusal) => Err(WebError::NotNow { words: sentence(&refusal.to_string()) }),
    }
}
