//! Who is signed in. The session's data lives on the server; the cookie carries only its id.

use async_trait::async_trait;
use axum::extract::{FromRequestParts, OptionalFromRequestParts};
use axum::http::request::Parts;
use axum::http::{HeaderMap, header};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use tower_sessions::cookie::SameSite;
use tower_sessions::session::{Id, Record};
use tower_sessions::session_store::{self, Error as StoreFailure};
use tower_sessions::{Expiry, Session, SessionManagerLayer, SessionStore};
use vaaka_formats::CsvForm;
use vaaka_store::ids::PersonId;
use vaaka_store::rows::Person;
use vaaka_store::{Store, StoreError, keys, sessions};

use crate::access::Access;
use crate::error::WebError;
use crate::state::AppState;

/// A sign-in lasts a long shift and a bit; nobody is signed out in the middle of one.
const HOURS: i64 = 14;
const KEY: &str = "signed_in";

/// Sessions in PostgreSQL.
#[derive(Debug, Clone)]
pub struct PgSessions {
    store: Store,
}

fn failure(error: StoreError) -> StoreFailure {
    StoreFailure::Backend(error.to_string())
}

fn instant(at: OffsetDateTime) -> session_store::Result<Timestamp> {
    Timestamp::from_second(at.unix_timestamp())
        .map_err(|error| StoreFailure::Encode(error.to_string()))
}

fn person_of(record: &Record) -> Option<PersonId> {
    let stored = record.data.get(KEY)?;
    serde_json::from_value::<Stored>(stored.clone()).ok().map(|stored| stored.person)
}

fn encoded(record: &Record) -> session_store::Result<serde_json::Value> {
    serde_json::to_value(&record.data).map_err(|error| StoreFailure::Encode(error.to_string()))
}

#[async_trait]
impl SessionStore for PgSessions {
    async fn create(&self, record: &mut Record) -> session_store::Result<()> {
        loop {
            let data = encoded(record)?;
            let until = instant(record.expiry_date)?;
            if sessions::create(&self.store, &record.id.to_string(), data, person_of(record), until)
                .await
                .map_err(failure)?
            {
                return Ok(());
            }
            record.id = Id::default();
        }
    }

    async fn save(&self, record: &Record) -> session_store::Result<()> {
        let until = instant(record.expiry_date)?;
        let id = record.id.to_string();
        sessions::save(&self.store, &id, encoded(record)?, person_of(record), until)
            .await
            .map_err(failure)
    }

    async fn load(&self, id: &Id) -> session_store::Result<Option<Record>> {
        // Sessions end by the machine's clock, also where the application's is set elsewhere.
        let found = sessions::load(&self.store, &id.to_string(), Timestamp::now())
            .await
            .map_err(failure)?;
        let Some((data, until)) = found else {
            return Ok(None);
        };
        let data = serde_json::from_value(data)
            .map_err(|error| StoreFailure::Decode(error.to_string()))?;
        let expiry_date = OffsetDateTime::from_unix_timestamp(until.as_second())
            .map_err(|error| StoreFailure::Decode(error.to_string()))?;
        Ok(Some(Record { id: *id, data, expiry_date }))
    }

    async fn delete(&self, id: &Id) -> session_store::Result<()> {
        sessions::delete(&self.store, &id.to_string()).await.map_err(failure)
    }
}

/// The layer that reads and writes the session cookie.
pub fn layer(state: &AppState) -> SessionManagerLayer<PgSessions> {
    SessionManagerLayer::new(PgSessions { store: state.store.clone() })
        .with_name("vaaka")
        .with_http_only(true)
        .with_same_site(SameSite::Lax)
        .with_secure(state.settings.secure_cookies)
        .with_expiry(Expiry::OnInactivity(time::Duration::hours(HOURS)))
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Stored {
    person: PersonId,
    form_token: String,
}

/// Signs a person in under a fresh session id, so that an id known before is worth nothing.
pub async fn sign_in(session: &Session, person: PersonId) -> Result<(), WebError> {
    session.cycle_id().await?;
    let form_token = uuid::Uuid::new_v4().simple().to_string();
    session.insert(KEY, Stored { person, form_token }).await?;
    Ok(())
}

/// Forgets the session, here and on the server.
pub async fn sign_out(session: &Session) -> Result<(), WebError> {
    session.flush().await?;
    Ok(())
}

/// Name of the cookie that keeps the chosen look; it holds nothing else.
pub const LOOK_COOKIE: &str = "vaaka_look";

/// Name of the cookie that remembers who signed in on this device, for the quick switch. It
/// holds sign-in names and nothing that would let anybody in.
pub const BENCH_COOKIE: &str = "vaaka_bench";
/// How many of them are remembered.
const NEIGHBOURS: usize = 6;

/// Sign-in names that were used on this device, the newest first.
pub fn neighbours_of(headers: &HeaderMap) -> Vec<String> {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    let known = cookies
        .flat_map(|line| line.split(';'))
        .filter_map(|pair| pair.trim().split_once('='))
        .find(|(name, _)| *name == BENCH_COOKIE);
    let Some((_, list)) = known else { return Vec::new() };
    list.split('.')
        .filter_map(|hex| String::from_utf8(hex::decode(hex).ok()?).ok())
        .filter(|name| !name.is_empty() && name.chars().count() <= 40)
        .take(NEIGHBOURS)
        .collect()
}

/// The cookie with one more name, in front of the others.
pub fn bench_cookie(headers: &HeaderMap, name: &str, secure: bool) -> String {
    let mut names = neighbours_of(headers);
    names.retain(|known| known != name);
    names.insert(0, name.to_owned());
    names.truncate(NEIGHBOURS);
    let list: Vec<String> = names.iter().map(hex::encode).collect();
    let value = list.join(".");
    cookie(BENCH_COOKIE, &value, 30, secure)
}

/// A cookie of so many days that no script reads; sent over safe connections only where the site has them.
pub fn cookie(name: &str, value: &str, days: u32, secure: bool) -> String {
    let age = u64::from(days) * 86_400;
    let secure = if secure { "; Secure" } else { "" };
    format!("{name}={value}; Path=/; Max-Age={age}; SameSite=Lax; HttpOnly{secure}")
}

/// The look that a browser asked for: auto, light or dark.
pub fn look_of(headers: &HeaderMap) -> &'static str {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    let chosen = cookies
        .flat_map(|line| line.split(';'))
        .filter_map(|pair| pair.trim().split_once('='))
        .find(|(name, _)| *name == LOOK_COOKIE);
    match chosen {
        Some((_, "light")) => "light",
        Some((_, "dark")) => "dark",
        _ => "auto",
    }
}

/// Name of the cookie that keeps how tables are written for this browser.
pub const TABLES_COOKIE: &str = "vaaka_tables";

/// How tables are written for this browser.
pub fn tables_of(headers: &HeaderMap) -> CsvForm {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    let chosen = cookies
        .flat_map(|line| line.split(';'))
        .filter_map(|pair| pair.trim().split_once('='))
        .find(|(name, _)| *name == TABLES_COOKIE);
    match chosen {
        Some((_, "spreadsheets")) => CsvForm::SPREADSHEETS,
        _ => CsvForm::PROGRAMS,
    }
}

/// The person who is signed in; as an argument of a handler it says that one is needed, with the role that
/// the route asks for.
#[derive(Debug, Clone)]
pub struct SignedIn {
    /// The person.
    pub person: Person,
    /// Token that every form of this session carries.
    pub form_token: String,
    /// Chosen look.
    pub look: &'static str,
    /// The page, to come back to it after a switch of person.
    pub path: String,
    /// Others who signed in on this device.
    pub neighbours: Vec<String>,
    /// Tables are written for spreadsheets in this browser.
    pub spreadsheets: bool,
}

impl SignedIn {
    /// Checks the token of a form.
    pub fn check_form(&self, token: &str) -> Result<(), WebError> {
        if token == self.form_token { Ok(()) } else { Err(WebError::ForeignForm) }
    }

    /// Checks that this person may run checks.
    pub fn may_check(&self) -> Result<(), WebError> {
        match self.person.role.as_str() {
            "technician" | "lead" => Ok(()),
            "viewer" => Err(WebError::not_allowed(
                "A viewer reads and does not change. Sign in as a technician or lead to do this.",
            )),
            _ => Err(WebError::not_allowed(
                "An administrator looks after people and does not run checks. Sign in as a technician or lead to do this.",
            )),
        }
    }

    /// Checks that this person decides as a lead.
    pub fn may_lead(&self) -> Result<(), WebError> {
        match self.person.role.as_str() {
            "lead" => Ok(()),
            _ => Err(WebError::not_allowed(
                "This is for a lead. Tell your lead what is needed, or sign in as one.",
            )),
        }
    }

    /// Checks that this person looks after people.
    pub fn may_administer(&self) -> Result<(), WebError> {
        match self.person.role.as_str() {
            "administrator" => Ok(()),
            _ => Err(WebError::not_allowed(
                "This is for an administrator. Ask whoever looks after the sign-ins.",
            )),
        }
    }
}

impl FromRequestParts<AppState> for SignedIn {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, state: &AppState) -> Result<Self, WebError> {
        let found = <Self as OptionalFromRequestParts<AppState>>::from_request_parts(parts, state);
        let signed = found.await?.ok_or_else(|| WebError::SignedOut {
            // A form that was sent while signed out comes back to the page that held it.
            next: parts.uri.path_and_query().map_or("/", |path| path.as_str()).to_owned(),
        })?;
        match parts.extensions.get::<Access>() {
            Some(Access::Everybody | Access::SignedIn | Access::Program) => {}
            Some(Access::Bench) => signed.may_check()?,
            Some(Access::Lead) => signed.may_lead()?,
            Some(Access::Administrator) => signed.may_administer()?,
            // No person is a bench PC.
            Some(Access::Station) => return Err(WebError::NoKey),
            // A route that says nothing of it lets nobody in.
            None => return Err(WebError::NotFound),
        }
        Ok(signed)
    }
}

impl OptionalFromRequestParts<AppState> for SignedIn {
    type Rejection = WebError;

    async fn from_request_parts(
        parts: &mut Parts,
        state: &AppState,
    ) -> Result<Option<Self>, WebError> {
        let session = Session::from_request_parts(parts, state)
            .await
            .map_err(|(_, cause)| WebError::Inner(cause.to_owned()))?;
        // The cookie names the session; its data and the person come in one query.
        let Some(id) = session.id() else {
            return Ok(None);
        };
        let mut connection = state.store.connection().await?;
        let found = sessions::signed_in(&mut connection, &id.to_string(), Timestamp::now()).await?;
        let Some((data, person)) = found else {
            return Ok(None);
        };
        // What an administrator chose is good for setting an own password, and for nothing else.
        if person.must_change && !matches!(parts.uri.path(), "/password" | "/sign-out") {
            return Err(WebError::OwnPassword);
        }
        let stored = data.get(KEY).cloned().map(serde_json::from_value::<Stored>);
        let Some(Ok(stored)) = stored else {
            return Ok(None);
        };
        let look = look_of(&parts.headers);
        let path = match parts.method {
            axum::http::Method::GET => {
                parts.uri.path_and_query().map_or("/", |path| path.as_str()).to_owned()
            }
            _ => "/".to_owned(),
        };
        let mut neighbours = neighbours_of(&parts.headers);
        neighbours.retain(|name| *name != person.sign_in);
        let spreadsheets = tables_of(&parts.headers) == CsvForm::SPREADSHEETS;
        let form_token = stored.form_token;
        Ok(Some(Self { person, form_token, look, path, neighbours, spreadsheets }))
    }
}

/// Somebody who is signed in, or another program by its key: whoever may read tables and ask the
/// release gate. As an argument of a handler it says that one is needed.
#[derive(Debug, Clone)]
pub struct Caller {
    /// Role of the person; none for a program, which sees what everybody sees.
    role: Option<String>,
}

impl Caller {
    /// Checks that this is an administrator: no program is one.
    pub fn may_administer(&self) -> Result<(), WebError> {
        match self.role.as_deref() {
            Some("administrator") => Ok(()),
            _ => Err(WebError::not_allowed(
                "This is for an administrator. Ask whoever looks after the sign-ins.",
            )),
        }
    }
}

impl FromRequestParts<AppState> for Caller {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, state: &AppState) -> Result<Self, WebError> {
        if !parts.headers.contains_key(header::AUTHORIZATION) {
            let signed =
                <SignedIn as OptionalFromRequestParts<AppState>>::from_request_parts(parts, state);
            return match signed.await? {
                Some(signed) => Ok(Self { role: Some(signed.person.role) }),
                None if parts.uri.path().starts_with("/api/") => Err(WebError::NoKey),
                None => Err(WebError::SignedOut { next: parts.uri.to_string() }),
            };
        }
        // A bench PC reads instruments; tables are none of its business.
        let known = known_key(parts, state).await?.filter(|known| !known.station);
        known.map(|_| Self { role: None }).ok_or(WebError::NoKey)
    }
}

/// The program whose key a request carries, if it carries one that is in use.
async fn known_key(parts: &Parts, state: &AppState) -> Result<Option<keys::Known>, WebError> {
    // RFC 6750, 2.1; the word is not case-sensitive (RFC 9110, 11.1).
    let value = parts.headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    let key = value.and_then(|value| {
        let (scheme, key) = value.trim().split_once(' ')?;
        scheme.eq_ignore_ascii_case("bearer").then(|| key.trim())
    });
    let Some(key) = key else { return Ok(None) };
    let mut connection = state.store.connection().await?;
    Ok(keys::of(&mut connection, key, state.now()).await?)
}

/// A bench PC that reads instruments near it, by its key.
#[derive(Debug, Clone)]
pub struct StationKey(pub keys::Known);

impl FromRequestParts<AppState> for StationKey {
    type Rejection = WebError;

    async fn from_request_parts(parts: &mut Parts, state: &AppState) -> Result<Self, WebError> {
        let known = known_key(parts, state).await?;
        known.filter(|known| known.station).map(Self).ok_or(WebError::NoKey)
    }
}
