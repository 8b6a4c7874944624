//! People: who may sign in, in which role, and who is trained for what.

pub mod first;
pub mod keys;
pub mod notices;
pub mod password;
pub mod second_look;
pub mod sign_in;

use std::collections::BTreeMap;

use askama::Template;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use vaaka_core::method::{self, by_key};
use vaaka_store::ids::PersonId;
use vaaka_store::people::{self, PersonFields};
use vaaka_store::rows::{Person, Training};
use vaaka_store::{At, Day, StoreError, instrument_changes, trainings};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, Refusal, choices};
use crate::forms::PathId;
use crate::pages::form::{Form, whole};
use crate::passwords::hash_in_background;
use crate::session::SignedIn;
use crate::shell::{Shell, page};
use crate::state::{AppState, long_day};

type Faults = BTreeMap<String, String>;

/// Roles with their words.
pub const ROLES: [(&str, &str); 4] = [
    ("technician", "technician: runs checks"),
    ("lead", "lead: runs checks, and decides on plans, registers and training"),
    ("viewer", "viewer: reads everything, changes nothing (auditor)"),
    ("administrator", "administrator: looks after people and areas"),
];

/// Fewest characters of a password.
const SHORTEST: usize = 10;

#[derive(Debug, Template)]
#[template(path = "people.html")]
struct PeoplePage {
    shell: Shell,
    heading: String,
    rows: Vec<Row>,
    areas: Vec<String>,
    methods: Vec<(&'static str, &'static str)>,
    refusal: Refusal,
    /// Words about a form that is not offered.
    notice: Option<String>,
}

#[derive(Debug)]
struct Row {
    id: i64,
    name: String,
    sign_in: String,
    role: String,
    active: bool,
    trained: Vec<(&'static str, String)>,
    benches: bool,
    /// Its form for a training.
    form: String,
}

/// Shows everybody with their trainings.
pub async fn show(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let shown = draw(&mut desk, &signed, Refusal::default()).await?;
    page(StatusCode::OK, &shown)
}

async fn draw(
    desk: &mut Desk,
    signed: &SignedIn,
    refusal: Refusal,
) -> Result<PeoplePage, WebError> {
    let everybody = people::all(&mut desk.connection).await?;
    let newest = trainings::newest(&mut desk.connection).await?;
    let today = desk.today;
    let rows: Vec<Row> = everybody
        .iter()
        .map(|person| Row {
            id: person.id.0,
            form: format!("training-{}", person.id),
            name: person.name.clone(),
            sign_in: person.sign_in.clone(),
            role: person.role.clone(),
            active: person.active,
            benches: person.active && matches!(person.role.as_str(), "technician" | "lead"),
            trained: newest
                .iter()
                .filter(|(training, _)| training.person_id == person.id)
                .map(|(training, _)| {
                    let name = by_key(&training.method_key).map_or("?", |method| method.name());
                    let until = training.valid_until.0;
                    let (state, words) = if until < today {
                        ("out", format!("{name}: ended on {}", long_day(until)))
                    } else if today.until(until).is_ok_and(|left| left.get_days() <= 30) {
                        ("signal", format!("{name}: ends on {}", long_day(until)))
                    } else {
                        ("ok", format!("{name}: until {}", long_day(until)))
                    };
                    (state, words)
                })
                .collect(),
        })
        .collect();
    let areas = instrument_changes::all_areas(&mut desk.connection).await?;
    let trained = rows.iter().filter(|row| row.benches && signed.person.role == "lead");
    let mut forms: Vec<&str> = trained.map(|row| row.form.as_str()).collect();
    forms.push("area");
    let notice = refusal.elsewhere(&forms);
    Ok(PeoplePage {
        shell: Shell::new(signed, "people", &desk.here),
        heading: format!("{} people", rows.iter().filter(|row| row.active).count()),
        rows,
        areas: areas.into_iter().map(|area| area.name).collect(),
        methods: method::all().iter().map(|method| (method.key(), method.name())).collect(),
        refusal,
        notice,
    })
}

async fn refused(
    desk: &mut Desk,
    signed: &SignedIn,
    refusal: Refusal,
) -> Result<Response, WebError> {
    let shown = draw(desk, signed, refusal).await?;
    page(StatusCode::UNPROCESSABLE_ENTITY, &shown)
}

fn person_form(person: Option<&Person>) -> Form {
    let mut fields = vec![
        Field::new("name", "Name", Look::Line),
        Field::new("sign_in", "Sign-in name", Look::Line)
            .hint("Small letters; what is typed at the bench."),
        Field::new("email", "E-mail", Look::Line)
            .hint("Leads are told of failures there; empty where they are not to be."),
        Field::new("role", "Role", choices(ROLES)),
        Field::new("password", "Password", Look::Password).hint(match person {
            Some(_) => "Left empty, the old one stays. A new one signs the person out everywhere.",
            None => "At least ten characters; tell it to the person yourself.",
        }),
    ];
    if person.is_some() {
        fields.push(Field::new("active", "May sign in", Look::Tick));
    }
    let (heading, action, button) = match person {
        Some(person) => (person.name.clone(), format!("/people/{}", person.id), "Save"),
        None => ("Add a person".to_owned(), "/new/person".to_owned(), "Add the person"),
    };
    Form {
        groups: vec![Group::new("", fields)],
        hidden: person.map(|p| ("version".to_owned(), p.version.to_string())).into_iter().collect(),
        ..Form::new("people", heading, action, "/people", button)
    }
}

struct Said {
    name: String,
    sign_in: String,
    email: String,
    role: String,
    password: String,
}

/// Reads what is said of a person; `new` asks for a password.
fn read(reader: &mut Reader<'_>, typed: &Fields, new: bool) -> Said {
    let name = reader.required("name", 80, "Give the name; it stands on the records.");
    let sign_in = read_sign_in(reader);
    let role = reader
        .choice("role", |word| ROLES.iter().find(|(known, _)| *known == word))
        .map_or("technician", |(known, _)| *known);
    let password = typed.0.get("password").cloned().unwrap_or_default();
    if (new || !password.is_empty()) && !long_enough(&password) {
        reader.fault("password", format!("At least {SHORTEST} characters, and at most 200."));
    }
    let email = reader.text("email", 120);
    let parts: Vec<&str> = email.split('@').collect();
    let fine = email.is_empty()
        || (parts.len() == 2
            && parts.iter().all(|part| !part.is_empty())
            && !email.contains(char::is_whitespace));
    if !fine {
        reader.fault("email", "An address has one @ with something on both sides, and no spaces.");
    }
    Said { name, sign_in, email, role: role.to_owned(), password }
}

/// Whether a password has a fair length.
pub fn long_enough(password: &str) -> bool {
    (SHORTEST..=200).contains(&password.chars().count())
}

/// A sign-in name.
pub fn read_sign_in(reader: &mut Reader<'_>) -> String {
    let sign_in = reader.required("sign_in", 40, "Give a sign-in name.").to_lowercase();
    if sign_in.contains(char::is_whitespace) {
        reader.fault("sign_in", "A sign-in name has no spaces.");
    }
    sign_in
}

/// The form for a new person.
pub async fn new(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let desk = Desk::open(&state).await?;
    let typed = Fields::default().with("role", "technician");
    person_form(None).draw(&signed, &desk.here, &typed, &Faults::new())
}

/// Adds a person.
pub async fn create(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let mut reader = Reader::of(&typed);
    let said = read(&mut reader, &typed, true);
    if !reader.is_fine() {
        return person_form(None).draw(&signed, &desk.here, &typed, &reader.faults);
    }
    let hash = hash_in_background(said.password).await?;
    let by = desk.by(&signed);
    let fields = PersonFields {
        sign_in: &said.sign_in,
        email: &said.email,
        name: &said.name,
        role: &said.role,
        active: true,
        password_hash: None,
    };
    match people::add(&mut desk.connection, fields, &hash, by).await {
        Ok(_) => Ok(Redirect::to("/people").into_response()),
        Err(StoreError::Conflict { .. }) => {
            reader.fault("sign_in", "Somebody has this sign-in name already.");
            person_form(None).draw(&signed, &desk.here, &typed, &reader.faults)
        }
        Err(other) => Err(other.into()),
    }
}

/// The form that changes a person.
pub async fn edit(
    signed: SignedIn,
    State(state): State<AppState>,
    PathId(id): PathId,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let person = people::anybody(&mut desk.connection, PersonId(id)).await?;
    let typed = Fields::default()
        .with("name", &person.name)
        .with("sign_in", &person.sign_in)
        .with("email", &person.email)
        .with("role", &person.role)
        .with("active", if person.active { "on" } else { "" });
    person_form(Some(&person)).draw(&signed, &desk.here, &typed, &Faults::new())
}

/// Changes a person.
pub async fn save(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let mut person = people::anybody(&mut desk.connection, PersonId(id)).await?;
    let form = person_form(Some(&person));
    let mut reader = Reader::of(&typed);
    let said = read(&mut reader, &typed, false);
    if !reader.is_fine() {
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    }
    let hash = match said.password.as_str() {
        "" => None,
        _ => Some(hash_in_background(said.password.clone()).await?),
    };
    person.version = typed.get("version").parse().unwrap_or(0);
    let by = desk.by(&signed);
    let fields = PersonFields {
        sign_in: &said.sign_in,
        email: &said.email,
        name: &said.name,
        role: &said.role,
        active: reader.ticked("active"),
        password_hash: hash.as_deref(),
    };
    match people::edit(&mut desk.connection, &person, fields, by).await {
        Ok(()) => Ok(Redirect::to("/people").into_response()),
        Err(StoreError::Conflict { constraint }) => {
            let faults = match constraint.as_str() {
                "people_version" => whole(
                    "Somebody changed this person a moment ago. What you typed is here: look again, then save.",
                ),
                "people_last_administrator" => whole(
                    "This is the last administrator. Make somebody else one first, or nobody could change people any more.",
                ),
                _ => BTreeMap::from([(
                    "sign_in".to_owned(),
                    "Somebody has this sign-in name already.".to_owned(),
                )]),
            };
            form.draw(&signed, &desk.here, &typed, &faults)
        }
        Err(other) => Err(other.into()),
    }
}

/// Records a training of somebody else, or ends one by a day that is over.
pub async fn train(
    PathId(id): PathId,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let person = people::anybody(&mut desk.connection, PersonId(id)).await?;
    let mut reader = Reader::of(&typed);
    let method = reader.choice("method", |key| by_key(key).ok());
    let until = reader.day("valid_until");
    if until.is_none() {
        reader.fault("valid_until", "Say until when the training holds, like 2027-03-14.");
    }
    let note = reader.text("note", 200);
    let form = format!("training-{id}");
    if person.id == signed.person.id {
        let words = "Nobody records their own training: another lead does.";
        return refused(&mut desk, &signed, Refusal::of(form, "", typed, words)).await;
    }
    let (Some(method), Some(until), true) = (method, until, reader.is_fine()) else {
        let field = ["valid_until", "method", "note"];
        let field = field.into_iter().find(|name| reader.faults.contains_key(*name));
        let field = field.unwrap_or("method");
        let words = reader.faults.remove(field);
        let words = words.unwrap_or_else(|| "Choose what the training is for.".to_owned());
        return refused(&mut desk, &signed, Refusal::of(form, field, typed, words)).await;
    };
    let today = desk.today;
    let training = Training {
        person_id: person.id,
        method_key: method.key().to_owned(),
        trained_on: Day(today),
        valid_until: Day(until),
        note,
        recorded_by: signed.person.id,
        at: At(desk.now),
    };
    trainings::record(&mut desk.connection, &training).await?;
    Ok(Redirect::to("/people").into_response())
}

/// Adds an area to the walk.
pub async fn add_area(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let mut reader = Reader::of(&typed);
    let name = reader.required("name", 60, "Name the area.");
    if let Some(words) = reader.faults.into_values().next() {
        return refused(&mut desk, &signed, Refusal::of("area", "name", typed, words)).await;
    }
    let by = desk.by(&signed);
    match people::add_area(&mut desk.connection, &name, by).await {
        Ok(_) => Ok(Redirect::to("/people").into_response()),
        Err(StoreError::Conflict { .. }) => {
            let words = "There is an area of this name already.";
            refused(&mut desk, &signed, Refusal::of("area", "name", typed, words)).await
        }
        Err(other) => Err(other.into()),
    }
}
