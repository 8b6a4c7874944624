//! Writing plans: a lead fills in the form, sees the check as the technician will, and another
//! lead approves.

use std::collections::BTreeMap;

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use serde::Deserialize;
use vaaka_core::method::{self, Method, by_key};
use vaaka_store::ids::{PlanId, PlanVersionId};
use vaaka_store::plan_drafts::{self, Draft, NewPlan, Target};
use vaaka_store::plans::{self, PlanView};
use vaaka_store::rows::{Instrument, Plan, PlanVersion};
use vaaka_store::standards::{self, Record};
use vaaka_store::{StoreError, instruments, people};

use crate::auth::Address;
use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, choices};
use crate::forms::{Asked, PathId};
use crate::pages::form::{Folds, Form, whole};
use crate::pages::people::second_look::hear;
use crate::pages::plan::form::{self as plan_form, Ground, filled_in, fresh, parts, read};
use crate::pages::plan::list::{draw_version, spec_of};
use crate::session::SignedIn;
use crate::state::AppState;

/// Which instrument a new plan is for.
#[derive(Debug, Default, Deserialize)]
pub struct NewQuery {
    #[serde(default)]
    instrument: String,
    /// The plan that it begins as a copy of.
    #[serde(default)]
    like: String,
}

async fn beginning(
    desk: &mut Desk,
    tag: &str,
) -> Result<(Form, Option<(Instrument, Vec<vaaka_store::rows::SetUp>)>), WebError> {
    let all = instruments::all(&mut desk.connection).await?;
    let offered: Vec<(String, String)> = std::iter::once((String::new(), "Choose".to_owned()))
        .chain(
            all.iter()
                .filter(|(instrument, _)| instrument.state != "retired")
                .map(|(i, _)| (i.tag.clone(), format!("{} {}", i.tag, i.name))),
        )
        .collect();
    let copies = plans::named(&mut desk.connection).await?.into_iter().map(|one| {
        let method = by_key(&one.method).map_or("", |method| method.name());
        let words = format!("a copy of {} {}: {} ({method})", one.tag, one.instrument, one.name);
        (one.plan.to_string(), words)
    });
    let likes: Vec<(String, String)> =
        std::iter::once((String::new(), "an empty form".to_owned())).chain(copies).collect();
    let found = all.into_iter().find(|(instrument, _)| instrument.tag == tag);
    let mut fields = vec![
        Field::new("instrument", "Instrument", Look::Choice(offered)),
        Field::new("method", "Method", choices(method::all().iter().map(|m| (m.key(), m.name())))),
        Field::new("name", "Name of the plan", Look::Line).hint("Like “bench scale each shift”."),
        Field::new("like", "Begin with", Look::Choice(likes))
            .hint("A copy of another plan is a draft like any other: its points, limits and standards are looked through one by one."),
    ];
    let mut with = None;
    if let Some((instrument, _)) = found {
        let set_ups = instruments::set_ups(&mut desk.connection, instrument.id).await?;
        let cells = set_ups
            .iter()
            .filter(|set_up| set_up.in_use)
            .map(|set_up| (set_up.id.0.to_string(), set_up.name.clone()))
            .collect();
        fields.insert(1, Field::new("set_up", "Set-up", Look::Choice(cells)));
        with = Some((instrument, set_ups));
    }
    let form = Form {
        intro: "First what the plan is for; the points, limits and waits follow.".into(),
        groups: vec![Group::new("", fields)],
        ..Form::new("plans", "A new plan", "/new/plan", "/plans", "Go on")
    };
    Ok((form, with))
}

/// The plan that a new one begins as a copy of, where one was chosen.
async fn model(desk: &mut Desk, like: &str) -> Result<Option<plans::Named>, WebError> {
    if like.is_empty() {
        return Ok(None);
    }
    let all = plans::named(&mut desk.connection).await?;
    Ok(all.into_iter().find(|one| one.plan.to_string() == like))
}

/// The beginning of a new plan.
pub async fn new(
    signed: SignedIn,
    State(state): State<AppState>,
    Asked(query): Asked<NewQuery>,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let (form, _) = beginning(&mut desk, &query.instrument).await?;
    let mut typed = Fields::default().with("instrument", query.instrument);
    if let Some(like) = model(&mut desk, &query.like).await? {
        typed =
            typed.with("like", query.like).with("method", &like.method).with("name", &like.name);
    }
    form.draw(&signed, &desk.here, &typed, &BTreeMap::new())
}

struct Chosen {
    instrument: Instrument,
    set_up: vaaka_store::ids::SetUpId,
    method: &'static dyn Method,
    name: String,
}

/// Goes on with a new plan: its form, then its saving.
pub async fn create(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let (form, found) = beginning(&mut desk, typed.get("instrument")).await?;
    let mut reader = Reader::of(&typed);
    let method = reader.choice("method", |key| by_key(key).ok());
    let name = reader.required("name", 120, "Give the plan a name; it stands on the records.");
    let Some((instrument, set_ups)) = found else {
        reader.fault("instrument", "Choose the instrument.");
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    };
    let set_up = match typed.get("set_up") {
        "" => set_ups.iter().find(|set_up| set_up.in_use),
        id => set_ups.iter().find(|set_up| set_up.id.0.to_string() == id),
    };
    let model = model(&mut desk, typed.get("like")).await?;
    if let (Some(method), Some(model)) = (&method, &model)
        && method.key() != model.method
    {
        let other = by_key(&model.method)?;
        reader.fault(
            "like",
            format!(
                "That plan is of another method. Choose “{}” as the method, or begin with an empty form.",
                other.name()
            ),
        );
    }
    let (Some(method), Some(set_up), true) = (method, set_up, reader.is_fine()) else {
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    };
    let chosen = Chosen { instrument, set_up: set_up.id, method, name };
    let all = standards::all(&mut desk.connection, desk.today).await?;
    // What it was begun as a copy of goes along, with the words about it, until it is saved.
    let like = typed.get("like").to_owned();
    let hidden = vec![
        ("instrument".to_owned(), chosen.instrument.tag.clone()),
        ("set_up".to_owned(), chosen.set_up.0.to_string()),
        ("method".to_owned(), chosen.method.key().to_owned()),
        ("name".to_owned(), chosen.name.clone()),
        ("filled".to_owned(), "yes".to_owned()),
        ("like".to_owned(), like),
    ];
    let ground = Ground { method: chosen.method, instrument: &chosen.instrument, standards: &all };
    let title = format!("{} for {} {}", chosen.name, chosen.instrument.name, chosen.instrument.tag);
    let model = match model {
        Some(model) => Some(plans::version(&mut desk.connection, model.version).await?),
        None => None,
    };
    let editor = |typed: &Fields| {
        let form = editor(&title, "/new/plan", "/plans", hidden.clone(), &ground, typed);
        match &model {
            Some(model) => {
                let copied = copied_words(model, &chosen.instrument);
                Form { intro: format!("{copied} {}", form.intro), ..form }
            }
            // What is still to be filled in stands open, also when the page comes again.
            None => Form { folds: Folds::Empty, ..form },
        }
    };
    if let Some(model) = model.as_ref().filter(|_| typed.get("filled").is_empty()) {
        let points = plans::points(&mut desk.connection, model.version.id).await?;
        let begun = filled_in(&ground, model, &points);
        return editor(&begun).draw(&signed, &desk.here, &begun, &BTreeMap::new());
    }
    if typed.get("filled").is_empty() {
        let begun = fresh(chosen.method);
        return editor(&begun).draw(&signed, &desk.here, &begun, &BTreeMap::new());
    }
    if !typed.get("more").is_empty() {
        return editor(&typed).draw(&signed, &desk.here, &typed, &BTreeMap::new());
    }
    let mut reader = Reader::of(&typed);
    let draft = read(&ground, &mut reader, &typed)?;
    let plan = Plan {
        id: PlanId(0),
        instrument_id: chosen.instrument.id,
        set_up_id: chosen.set_up,
        name: chosen.name.clone(),
        method_key: chosen.method.key().to_owned(),
    };
    let Some(draft) = checked(&mut desk, &ground, plan, draft, &mut reader, &all).await? else {
        return editor(&typed).draw(&signed, &desk.here, &typed, &reader.faults);
    };
    let new = NewPlan {
        instrument: chosen.instrument.id,
        set_up: chosen.set_up,
        name: &chosen.name,
        method: chosen.method.key(),
    };
    let saved = plan_drafts::save(
        &mut desk.connection,
        Target::New(new),
        &draft,
        &chosen.instrument,
        signed.person.id,
        desk.now,
    );
    match saved.await {
        Ok(id) => Ok(Redirect::to(&format!("/versions/{id}")).into_response()),
        Err(StoreError::Conflict { .. }) => {
            let words = "This instrument has a plan of this name already. Go back a step and give this one another name.";
            editor(&typed).draw(&signed, &desk.here, &typed, &whole(words))
        }
        Err(other) => Err(other.into()),
    }
}

/// What is said over a plan that was begun as a copy.
fn copied_words(model: &PlanView, instrument: &Instrument) -> String {
    let unit = if model.version.unit == instrument.unit {
        ""
    } else {
        " That display shows another unit: every number is to be written anew."
    };
    format!(
        "This begins as a copy of “{}” of {}, version {}: look through its standard, points and limits before you save it.{unit}",
        model.plan.name, model.instrument.tag, model.version.version
    )
}

fn editor(
    title: &str,
    action: &str,
    back: &str,
    hidden: Vec<(String, String)>,
    ground: &Ground<'_>,
    typed: &Fields,
) -> Form {
    let (groups, tables) = parts(ground, typed);
    Form {
        intro: "Saving makes a draft. You then see the check as the technician will, with warnings; another lead approves it. Checks already made keep the version with which they were made.".into(),
        groups,
        tables,
        // The points are what a plan is about: they come right after what the check is.
        tables_after: 1,
        folds: Folds::Told,
        hidden,
        ..Form::new("plans", title, action, back, "Save the draft and look at it")
    }
}

/// A draft that a technician could run, or the words for why not.
async fn checked(
    desk: &mut Desk,
    ground: &Ground<'_>,
    plan: Plan,
    draft: Option<Draft>,
    reader: &mut Reader<'_>,
    all: &[Record],
) -> Result<Option<Draft>, WebError> {
    let Some(draft) = draft else { return Ok(None) };
    let view = view_of(desk, ground.instrument, plan, &draft, all);
    match spec_of(&view, draft.rows(PlanVersionId(0)), all, desk) {
        Ok(spec) => match ground.method.way(&spec) {
            Ok(_) => Ok(Some(draft)),
            Err(error) => {
                reader.fault("*", format!("This cannot be run: {error}."));
                Ok(None)
            }
        },
        Err(words) => {
            reader.fault("*", words);
            Ok(None)
        }
    }
}

/// A draft as the version that it will be.
fn view_of(
    desk: &Desk,
    instrument: &Instrument,
    plan: Plan,
    draft: &Draft,
    all: &[Record],
) -> PlanView {
    let version = PlanVersion {
        id: PlanVersionId(0),
        plan_id: plan.id,
        version: 0,
        state: "draft".into(),
        standard_id: draft.standard,
        settings: draft.settings.clone(),
        minutes: draft.minutes,
        due_rule: draft.due_rule.into(),
        created_by: vaaka_store::ids::PersonId(0),
        approved_by: None,
        approved_at: None,
        standard_kind: draft.standard_kind.clone(),
        unit: instrument.unit.clone(),
        resolution: instrument.resolution,
        range_low: instrument.range_low,
        maximum: instrument.maximum,
        configuration_names: instrument.configuration_names.clone(),
        configuration_values: instrument.configuration_values.clone(),
        fixture: draft.fixture.clone(),
        decision_rule: draft.decision.rule.word().into(),
        decision_share: draft.decision.share,
        decision_risk: draft.decision.most_risk,
        coverage: draft.decision.coverage.word().into(),
        due_triggers: draft.due_triggers.clone(),
        addition_sources: draft.additions.iter().map(|a| a.source.word().into()).collect(),
        addition_labels: draft.additions.iter().map(|a| a.label.clone()).collect(),
        addition_half_widths: draft.additions.iter().map(|a| a.half_width).collect(),
        addition_grows: draft.additions.iter().map(|a| plans::grows(a).to_owned()).collect(),
        adjustment_policy: draft.adjustment_policy.into(),
        reaction: draft.reaction.clone(),
        change_note: String::new(),
        saves: 0,
    };
    let standard = draft.standard.and_then(|id| all.iter().find(|record| record.standard.id == id));
    PlanView {
        version,
        plan,
        instrument: instrument.clone(),
        area: vaaka_store::rows::Area {
            id: instrument.area_id,
            site_id: vaaka_store::ids::SiteId(0),
            name: desk.here.shift.label.clone(),
            walk_order: 0,
        },
        standard: standard.map(|record| record.standard.clone()),
        cell: None,
    }
}

struct Editing {
    view: PlanView,
    all: Vec<Record>,
    /// The draft that is written over; none when the next version is begun.
    again: Option<(PlanVersionId, i32)>,
}

async fn editing(desk: &mut Desk, signed: &SignedIn, plan: i64) -> Result<Editing, WebError> {
    let versions = plans::versions(&mut desk.connection, PlanId(plan)).await?;
    let draft = versions.iter().find(|view| view.version.state == "draft");
    if let Some(draft) = draft.filter(|draft| draft.version.created_by != signed.person.id) {
        return Err(WebError::NotNow {
            words: format!(
                "Another lead is writing version {} of this plan. Approve or withdraw that draft first.",
                draft.version.version
            ),
        });
    }
    let view = draft.or_else(|| versions.iter().find(|view| view.version.state == "approved"));
    let view = view.or_else(|| versions.first()).cloned().ok_or(WebError::NotFound)?;
    let again = draft.map(|draft| (draft.version.id, draft.version.saves));
    let all = standards::all(&mut desk.connection, desk.today).await?;
    Ok(Editing { view, all, again })
}

impl Editing {
    fn ground(&self) -> Result<Ground<'_>, WebError> {
        let method = by_key(&self.view.plan.method_key)?;
        Ok(Ground { method, instrument: &self.view.instrument, standards: &self.all })
    }

    fn editor(&self, typed: &Fields) -> Result<Form, WebError> {
        let (plan, instrument) = (&self.view.plan, &self.view.instrument);
        let title = format!("{} for {} {}", plan.name, instrument.name, instrument.tag);
        let (version, saves) = self.again.map_or((0, 0), |(version, saves)| (version.0, saves));
        let hidden = vec![
            ("version".to_owned(), version.to_string()),
            ("saves".to_owned(), saves.to_string()),
        ];
        let path = format!("/plans/{}", plan.id);
        Ok(editor(&title, &format!("{path}/edit"), &path, hidden, &self.ground()?, typed))
    }
}

/// The form of the next version of a plan, or of the draft that is being written.
pub async fn edit(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(plan): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let editing = editing(&mut desk, &signed, plan).await?;
    let points = plans::points(&mut desk.connection, editing.view.version.id).await?;
    let typed = filled_in(&editing.ground()?, &editing.view, &points);
    editing.editor(&typed)?.draw(&signed, &desk.here, &typed, &plan_form::none())
}

/// Saves the draft of a plan.
pub async fn save(
    PathId(plan): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let editing = editing(&mut desk, &signed, plan).await?;
    if !typed.get("more").is_empty() {
        return editing.editor(&typed)?.draw(&signed, &desk.here, &typed, &plan_form::none());
    }
    let ground = editing.ground()?;
    let mut reader = Reader::of(&typed);
    let draft = read(&ground, &mut reader, &typed)?;
    let row = editing.view.plan.clone();
    let Some(draft) = checked(&mut desk, &ground, row, draft, &mut reader, &editing.all).await?
    else {
        return editing.editor(&typed)?.draw(&signed, &desk.here, &typed, &reader.faults);
    };
    let sent: (i64, i32) =
        (typed.get("version").parse().unwrap_or(0), typed.get("saves").parse().unwrap_or(0));
    let target = match sent {
        (0, _) => Target::Next(PlanId(plan)),
        (version, saves) => Target::Again { version: PlanVersionId(version), saves },
    };
    let (instrument, person) = (editing.view.instrument.clone(), signed.person.id);
    let saved =
        plan_drafts::save(&mut desk.connection, target, &draft, &instrument, person, desk.now)
            .await;
    match saved {
        Ok(id) => Ok(Redirect::to(&format!("/versions/{id}")).into_response()),
        Err(StoreError::Conflict { .. }) => {
            let words = "This draft was saved or approved elsewhere a moment ago. What you typed is here; look at the plan, then save again.";
            let mut response =
                editing.editor(&typed)?.draw(&signed, &desk.here, &typed, &whole(words))?;
            *response.status_mut() = StatusCode::CONFLICT;
            Ok(response)
        }
        Err(other) => Err(other.into()),
    }
}

/// Another lead than its author approves a draft, and the version before it is superseded; or sends it back with words. Both are
/// signed with the password.
pub async fn approve(
    PathId(id): PathId,
    address: Address,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let view = plans::version(&mut desk.connection, PlanVersionId(id)).await?;
    let not_now = |words: &str| Err(WebError::NotNow { words: words.to_owned() });
    if view.version.state != "draft" {
        return not_now("This version is no draft any more. Look at the plan again.");
    }
    let own = view.version.created_by == signed.person.id;
    if own && !people::is_only_lead(&mut desk.connection).await? {
        return not_now("You wrote this version yourself: another lead approves it.");
    }
    let seen: i32 = typed.get("saves").parse().unwrap_or(0);
    if seen != view.version.saves {
        return not_now(
            "The draft was saved again since you looked at it. Look at it once more, then decide.",
        );
    }
    let rejections = plan_drafts::rejections(&mut desk.connection, view.version.id).await?;
    if rejections.first().is_some_and(|one| one.saves == seen) {
        return not_now("This draft was sent back as it stands. Its author saves it again first.");
    }
    let back = typed.get("verdict") == "send_back";
    if view.is_outdated() && !back {
        return not_now(
            "The instrument was changed since this draft was saved. Its author saves it again first.",
        );
    }
    let who = (&mut desk, &signed, &address);
    let reason = match hear(who, &typed, "decide about a plan", back).await? {
        Ok(reason) => reason,
        Err(errors) => {
            let status = StatusCode::UNPROCESSABLE_ENTITY;
            return draw_version(&mut desk, &signed, id, &typed, errors, status).await;
        }
    };
    let (draft, person) = ((view.version.id, seen), signed.person.id);
    let decided = if back {
        plan_drafts::send_back(&mut desk.connection, draft, &reason, person, desk.now).await
    } else {
        plans::approve(&mut desk.connection, draft, person, desk.now).await
    };
    match decided {
        Ok(()) => Ok(Redirect::to(&format!("/plans/{}", view.plan.id)).into_response()),
        Err(StoreError::NotFound | StoreError::Conflict { .. }) => {
            not_now("Somebody decided on this draft a moment ago. Look at the plan again.")
        }
        Err(other) => Err(other.into()),
    }
}

/// Withdraws a draft: its author or any lead may.
pub async fn withdraw(
    PathId(id): PathId,
    Sent { signed, mut desk, .. }: Sent,
) -> Result<Response, WebError> {
    let view = plans::version(&mut desk.connection, PlanVersionId(id)).await?;
    match plan_drafts::withdraw(&mut desk.connection, view.version.id, signed.person.id, desk.now)
        .await
    {
        Ok(()) | Err(StoreError::NotFound) => {
            Ok(Redirect::to(&format!("/plans/{}", view.plan.id)).into_response())
        }
        Err(other) => Err(other.into()),
    }
}
