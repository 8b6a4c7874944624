//! Plans: which are in force, their versions, and the check as the technician will see it.

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use vaaka_core::method::{
    AdjustmentPolicy, Input, PlanSpec, Purpose, Rung, Step, by_key, plan_warnings,
};
use vaaka_core::quantity::{show_decimal, show_signed};
use vaaka_core::round::{DueRule, Trigger};
use vaaka_core::standard::{StandardFacts, alternatives};
use vaaka_store::ids::{PlanId, PlanVersionId};
use vaaka_store::plans::{self, PlanView, Source, build_spec};
use vaaka_store::rows::PlanPointRow;
use vaaka_store::standards::{self, Record};
use vaaka_store::{people, plan_drafts, registers};

use crate::desk::Desk;
use crate::draw::draw_scene;
use crate::error::WebError;
use crate::fields::Fields;
use crate::forms::PathId;
use crate::pages::check::input::{OnSheet, shown};
use crate::pages::check::start::wanted;
use crate::pages::people::second_look::{Deciding, Errors};
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, local_day_time};

#[derive(Debug, Template)]
#[template(path = "plans.html")]
struct PlansPage {
    shell: Shell,
    heading: String,
    rows: Vec<Row>,
}

#[derive(Debug)]
struct Row {
    plan: i64,
    version: i64,
    instrument: String,
    tag: String,
    name: String,
    standard: String,
    due: &'static str,
    minutes: i32,
    state: &'static str,
    words: String,
}

#[derive(Debug, Template)]
#[template(path = "plan.html")]
struct PlanPage {
    shell: Shell,
    plan: i64,
    heading: String,
    instrument: (String, String),
    versions: Vec<VersionRow>,
    can_edit: bool,
    in_force: Option<i64>,
    /// Whether it can be done on paper.
    on_paper: bool,
}

#[derive(Debug)]
struct VersionRow {
    id: i64,
    number: i32,
    state: &'static str,
    words: String,
    by: String,
    note: String,
}

#[derive(Debug, Template)]
#[template(path = "plan_version.html")]
struct VersionPage {
    shell: Shell,
    id: i64,
    plan: i64,
    saves: i32,
    heading: String,
    state: &'static str,
    words: String,
    trouble: Option<String>,
    warnings: Vec<String>,
    facts: Vec<(&'static str, String)>,
    reaction: Vec<&'static str>,
    steps: Vec<PreviewStep>,
    deciding: Option<Deciding>,
    may_approve: bool,
    sent_back: Vec<String>,
    may_edit: bool,
    may_withdraw: bool,
    on_paper: bool,
}

/// A step as the technician will see it.
#[derive(Debug)]
pub struct PreviewStep {
    /// Title.
    pub title: String,
    /// Instruction.
    pub instruction: String,
    /// Detail.
    pub detail: String,
    /// Sentences to tick.
    pub sentences: Vec<String>,
    /// Whether they are cautions.
    pub caution: bool,
    /// What is asked for, in words.
    pub asks: String,
    /// Limits, in words.
    pub limits: String,
    /// How often.
    pub repeats: u32,
    /// Drawing.
    pub scene: String,
    /// Whether a number or text is written down.
    pub writes: bool,
    /// Unit of what is written.
    pub unit: String,
    /// Whether a time is written down.
    pub waits: bool,
    /// Whether it is on a printed sheet.
    pub on_sheet: bool,
    /// Whether a printed sheet says in words what is to be written: where the place alone does not.
    pub told: bool,
}

/// A step in words, for the preview and the paper sheet.
pub fn preview(step: &Step) -> PreviewStep {
    let shown = shown(step);
    let signed =
        |value: rust_decimal::Decimal| show_signed(value.normalize(), value.normalize().scale());
    let limits = match (&step.input, step.tolerance) {
        // In the unit in which errors are spoken of in the check, on the chart and in the verdict.
        (Input::Reading { unit, resolution, .. }, Some(limits)) => {
            let fine = unit.error_unit(*resolution);
            let in_fine = |value| signed(unit.convert(value, fine));
            match (limits.lower.map(in_fine), limits.upper.map(in_fine)) {
                (Some(lower), Some(upper)) => format!("error from {lower} to {upper} {fine}"),
                (None, Some(upper)) => format!("error at most {upper} {fine}"),
                (Some(lower), None) => format!("error at least {lower} {fine}"),
                (None, None) => String::new(),
            }
        }
        _ => String::new(),
    };
    PreviewStep {
        title: step.title.clone(),
        instruction: step.instruction.clone(),
        detail: step.detail.clone(),
        sentences: shown.sentences,
        caution: matches!(step.input, Input::Confirm { caution: true, .. }),
        asks: shown.asks,
        limits,
        repeats: step.repeats,
        scene: step.scene.as_ref().map(draw_scene).unwrap_or_default(),
        writes: shown.on_sheet == OnSheet::Value,
        unit: step.input.unit().unwrap_or_default().to_owned(),
        waits: step.input.is_wait(),
        on_sheet: shown.on_sheet != OnSheet::NotThere,
        told: shown.on_sheet == OnSheet::Value && !step.input.measures(),
    }
}

/// What the method needs of a version, with the values that hold now; or the words for why it
/// cannot be put together.
pub fn spec_of(
    view: &PlanView,
    points: Vec<PlanPointRow>,
    all: &[Record],
    desk: &Desk,
) -> Result<PlanSpec, String> {
    let facts: Vec<StandardFacts> = all
        .iter()
        .map(Record::facts)
        .collect::<Result<_, _>>()
        .map_err(|error| error.to_string())?;
    let wanted = wanted(view, &points, all).map_err(|error| error.to_string())?;
    let mut sources = Vec::new();
    for wanted in wanted {
        let record = match wanted.named {
            Some(id) => all.iter().find(|record| record.standard.id == id),
            None => alternatives(&facts, "", wanted.offer(), desk.now, desk.today)
                .first()
                .and_then(|fit| all.iter().find(|record| record.standard.tag == fit.tag)),
        };
        let record = record.ok_or_else(|| {
            format!(
                "No {} in the register has all these values and is fit for use. Change the points, or choose a standard by its tag.",
                vaaka_core::standard::kind_words(&wanted.kind)
            )
        })?;
        let pieces = registers::pieces(record.values.clone()).map_err(|error| error.to_string())?;
        if pieces.is_empty() {
            return Err(format!("{} has no certified values.", record.standard.tag));
        }
        sources.push(Source { standard: record.standard.clone(), pieces });
    }
    build_spec(view, points, &sources, Purpose::AsFound).map_err(|error| error.to_string())
}

fn due_words(word: &str) -> &'static str {
    word.parse::<DueRule>().map_or("", DueRule::words)
}

/// Shows the plans.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let views = plans::current(&mut desk.connection).await?;
    let rows: Vec<Row> = views
        .iter()
        .map(|view| {
            let (state, words) = match (view.version.state.as_str(), view.is_outdated()) {
                ("draft", _) => ("open", format!("draft of version {}", view.version.version)),
                (_, true) => ("out", "the instrument was changed: renew it".to_owned()),
                _ => ("ok", format!("version {} in force", view.version.version)),
            };
            Row {
                plan: view.plan.id.0,
                version: view.version.id.0,
                instrument: view.instrument.name.clone(),
                tag: view.instrument.tag.clone(),
                name: view.plan.name.clone(),
                standard: view.standard_words(),
                due: due_words(&view.version.due_rule),
                minutes: view.version.minutes,
                state,
                words,
            }
        })
        .collect();
    let drafts = rows.iter().filter(|row| row.state == "open").count();
    let heading = match drafts {
        0 => format!("{} plans in force", rows.len()),
        1 => format!("{} plans in force, one draft", rows.len() - 1),
        n => format!("{} plans in force, {n} drafts", rows.len() - n),
    };
    page(
        StatusCode::OK,
        &PlansPage { shell: Shell::new(&signed, "plans", &desk.here), heading, rows },
    )
}

fn version_state(state: &str) -> &'static str {
    match state {
        "draft" => "open",
        "approved" => "ok",
        _ => "void",
    }
}

fn version_words(view: &PlanView, name: &str, approver: Option<&str>, desk: &Desk) -> String {
    let version = &view.version;
    match (version.state.as_str(), approver, version.approved_at) {
        ("draft", ..) => format!("draft by {name}"),
        (state, Some(_), Some(at)) if version.approved_by == Some(version.created_by) => {
            let at = local_day_time(at.0, &desk.here.zone);
            let state = if state == "approved" { "in force" } else { "superseded" };
            format!("{state}; by {name}, approved alone on {at}, not countersigned")
        }
        ("withdrawn", ..) => format!("withdrawn, by {name}"),
        (state, Some(approver), Some(at)) => {
            let at = local_day_time(at.0, &desk.here.zone);
            let state = if state == "approved" { "in force" } else { "superseded" };
            format!("{state}; by {name}, approved by {approver} on {at}")
        }
        (state, ..) => state.to_owned(),
    }
}

async fn names(desk: &mut Desk, view: &PlanView) -> Result<(String, Option<String>), WebError> {
    let by = people::anybody(&mut desk.connection, view.version.created_by).await?.name;
    let approver = match view.version.approved_by {
        Some(id) => Some(people::anybody(&mut desk.connection, id).await?.name),
        None => None,
    };
    Ok((by, approver))
}

/// Shows one plan with its versions.
pub async fn one(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(plan): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let views = plans::versions(&mut desk.connection, PlanId(plan)).await?;
    let first = views.first().ok_or(WebError::NotFound)?;
    let heading = first.plan.name.clone();
    let instrument = (first.instrument.tag.clone(), first.instrument.name.clone());
    let on_paper = by_key(&first.plan.method_key)?.on_paper();
    let in_force =
        views.iter().find(|view| view.version.state == "approved").map(|v| v.version.id.0);
    let mut versions = Vec::new();
    for view in &views {
        let (by, approver) = names(&mut desk, view).await?;
        versions.push(VersionRow {
            id: view.version.id.0,
            number: view.version.version,
            state: version_state(&view.version.state),
            words: version_words(view, &by, approver.as_deref(), &desk),
            by,
            note: view.version.change_note.clone(),
        });
    }
    let shell = Shell::new(&signed, "plans", &desk.here);
    let can_edit = shell.may_lead();
    page(
        StatusCode::OK,
        &PlanPage { shell, plan, heading, instrument, versions, can_edit, in_force, on_paper },
    )
}

/// Shows a version as the technician will see it, with warnings for the lead.
pub async fn version(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    draw_version(&mut desk, &signed, id, &Fields::default(), [None, None], StatusCode::OK).await
}

/// As [`version`], with what was typed and refused of its decision.
pub(in crate::pages) async fn draw_version(
    desk: &mut Desk,
    signed: &SignedIn,
    id: i64,
    typed: &Fields,
    errors: Errors,
    status: StatusCode,
) -> Result<Response, WebError> {
    let view = plans::version(&mut desk.connection, PlanVersionId(id)).await?;
    let points = plans::points(&mut desk.connection, view.version.id).await?;
    let all = standards::all(&mut desk.connection, desk.today).await?;
    let method = by_key(&view.plan.method_key)?;
    let work = (
        view.instrument.work_low.unwrap_or(view.version.range_low),
        view.instrument.work_high.unwrap_or(view.version.maximum),
    );
    let found = spec_of(&view, points, &all, desk).and_then(|spec| {
        let steps = method.way(&spec).map_err(|error| error.to_string())?;
        let warnings = plan_warnings(method, &spec, work).map_err(|error| error.to_string())?;
        Ok((steps, warnings))
    });
    let (steps, warnings, trouble) = match found {
        Ok((steps, warnings)) => (steps, warnings, None),
        Err(words) => (vec![], vec![], Some(words)),
    };
    let (by, approver) = names(desk, &view).await?;
    let rejections = plan_drafts::rejections(&mut desk.connection, view.version.id).await?;
    let is_sent_back = rejections.first().is_some_and(|one| one.saves == view.version.saves);
    let only_lead = people::is_only_lead(&mut desk.connection).await?;
    let shell = Shell::new(signed, "plans", &desk.here);
    let (lead, draft) = (shell.may_lead(), view.version.state == "draft");
    let own = view.version.created_by == signed.person.id;
    let template = VersionPage {
        id,
        plan: view.plan.id.0,
        saves: view.version.saves,
        heading: format!("{}, version {}", view.plan.name, view.version.version),
        state: version_state(&view.version.state),
        words: match is_sent_back && draft {
            true => format!("draft by {by}, sent back"),
            false => version_words(&view, &by, approver.as_deref(), desk),
        },
        sent_back: rejections
            .iter()
            .filter(|_| draft)
            .map(|one| {
                let at = local_day_time(one.at.0, &desk.here.zone);
                format!("{}, {at}: {}", one.person, one.reason)
            })
            .collect(),
        warnings: warnings.iter().map(ToString::to_string).collect(),
        facts: facts(&view, method.name()),
        reaction: view
            .version
            .reaction
            .iter()
            .filter_map(|word| word.parse::<Rung>().ok().map(Rung::words))
            .collect(),
        steps: steps.iter().map(preview).collect(),
        deciding: (lead && draft && (!own || only_lead) && !is_sent_back)
            .then(|| Deciding::of(own, typed, errors)),
        may_approve: trouble.is_none(),
        may_edit: lead && (own || !draft),
        may_withdraw: lead && draft,
        // A sheet for it is offered where it can be written down.
        on_paper: view.version.state == "approved" && method.on_paper(),
        trouble,
        shell,
    };
    page(status, &template)
}

/// The calendar rule with what makes the check due out of turn.
fn due_in_full(rule: &str, triggers: &[String]) -> String {
    let mut words = vec![due_words(rule).to_owned()];
    let known = triggers.iter().filter_map(|word| word.parse::<Trigger>().ok());
    words.extend(known.map(|trigger| trigger.words()));
    words.join(", ")
}

fn facts(view: &PlanView, method: &'static str) -> Vec<(&'static str, String)> {
    let version = &view.version;
    let rule = plans::decision(version).map_or_else(
        |_| String::new(),
        |decision| format!("{}; U covers {}", decision.words(), decision.coverage.words()),
    );
    let policy =
        version.adjustment_policy.parse::<AdjustmentPolicy>().map_or("", AdjustmentPolicy::words);
    let show =
        |value: rust_decimal::Decimal| show_decimal(value.normalize(), value.normalize().scale());
    let mut facts = vec![
        ("Instrument", format!("{} {}", view.instrument.name, view.instrument.tag)),
        ("Method", method.to_owned()),
        ("Standard", view.standard_words()),
        ("Due", due_in_full(&version.due_rule, &version.due_triggers)),
        ("Takes", format!("{} min", version.minutes)),
        (
            "Display",
            format!(
                "{} to {} {} in steps of {}",
                show(version.range_low),
                show(version.maximum),
                version.unit,
                show(version.resolution)
            ),
        ),
        ("Decision rule", rule),
        ("Adjusted", policy.to_owned()),
    ];
    for addition in plans::additions(version).unwrap_or_default() {
        let yearly = if addition.per_year { " a year" } else { "" };
        let half_width = show(addition.half_width);
        let unit = if addition.of_reference { "% of the value" } else { version.unit.as_str() };
        let words = format!("{}: ±{half_width} {unit}{yearly}", addition.label);
        facts.push(("In the uncertainty, too", words));
    }
    if !version.fixture.is_empty() {
        facts.push(("Container or fixture", version.fixture.clone()));
    }
    if !version.change_note.is_empty() {
        facts.push(("What it changes", version.change_note.clone()));
    }
    facts
}
