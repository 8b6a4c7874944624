//! Who somebody is, proven by a password: at the sign-in, and again where a word is signed. Wrong ones are on record and
//! slow down whoever goes on; a few are computed at a time, so that nobody shuts out everybody.

use std::net::{IpAddr, SocketAddr};
use std::sync::LazyLock;
use std::sync::atomic::{AtomicUsize, Ordering};

use axum::extract::{ConnectInfo, FromRequestParts};
use axum::http::request::Parts;
use jiff::{SignedDuration, Timestamp};
use tokio::sync::Semaphore;
use vaaka_core::method::duration_words;
use vaaka_store::rows::Person;
use vaaka_store::{Connection, people, sign_ins};

use crate::error::WebError;
use crate::passwords;
use crate::state::AppState;

/// Passwords that are computed at a time: each takes 19 MiB and some tens of milliseconds of a core.
const AT_A_TIME: usize = 2;
/// How many may wait for that; the rest is told to come again.
const MAY_WAIT: usize = 24;

static DESK: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(AT_A_TIME));
static WAITING: AtomicUsize = AtomicUsize::new(0);

/// Where a request came from: the other end of its connection, or what a proxy on this machine says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address(pub String);

impl<S: Send + Sync> FromRequestParts<S> for Address {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(parts: &mut Parts, _state: &S) -> Result<Self, Self::Rejection> {
        let peer = parts.extensions.get::<ConnectInfo<SocketAddr>>().map(|info| info.0.ip());
        let forwarded = parts
            .headers
            .get("x-forwarded-for")
            .and_then(|value| value.to_str().ok())
            // The last is the one that the nearest proxy saw; those before it anybody may have written.
            .and_then(|value| value.rsplit(',').next())
            .and_then(|text| text.trim().parse::<IpAddr>().ok());
        let seen = match (peer, forwarded) {
            (Some(peer), Some(forwarded)) if peer.is_loopback() => Some(forwarded),
            (peer, _) => peer,
        };
        Ok(Self(seen.map_or_else(|| "unknown".to_owned(), |ip| ip.to_string())))
    }
}

/// What became of a password.
#[derive(Debug)]
pub enum Proof {
    /// It is that person.
    Fits(Box<Person>),
    /// Name and password do not fit together.
    Wrong,
    /// Too many were wrong: not before so long.
    Wait(SignedDuration),
}

impl Proof {
    /// What to say at the field, when it is not that person; `nothing` says what did not happen.
    pub fn refusal(&self, nothing: &str) -> Option<String> {
        match self {
            Self::Fits(_) => None,
            Self::Wrong => Some(format!("This is not the password. Type it again; {nothing}.")),
            Self::Wait(left) => Some(too_many(*left)),
        }
    }
}

/// What somebody is told who has to wait.
pub fn too_many(left: SignedDuration) -> String {
    format!("Too many wrong passwords. Wait {}, then try again.", duration_words(left))
}

/// The pause after so many wrong passwords in an hour: the first are free, then it doubles from a second on.
fn pause(failures: i64, free: i64, most: SignedDuration) -> SignedDuration {
    let over = failures - free;
    if over <= 0 {
        return SignedDuration::ZERO;
    }
    let seconds =
        1_i64.checked_shl(u32::try_from(over - 1).unwrap_or(63).min(40)).unwrap_or(i64::MAX);
    SignedDuration::from_secs(seconds).min(most)
}

/// Wrong passwords of an account that cost nothing; nobody shuts out a colleague for longer than a minute.
const ACCOUNT: (i64, SignedDuration) = (4, SignedDuration::from_mins(1));
/// The same for an address, which a whole bench may share.
const ADDRESS: (i64, SignedDuration) = (20, SignedDuration::from_mins(10));

fn left(failures: &sign_ins::Failures, now: Timestamp) -> SignedDuration {
    let of = |count: i64, at: Option<vaaka_store::At>, (free, most): (i64, SignedDuration)| {
        let Some(at) = at else { return SignedDuration::ZERO };
        pause(count, free, most) - now.duration_since(at.0)
    };
    of(failures.of_account, failures.account_at, ACCOUNT)
        .max(of(failures.of_address, failures.address_at, ADDRESS))
        .max(SignedDuration::ZERO)
}

/// Proves who somebody is. `purpose` says what for, in the audit trail.
pub async fn prove(
    state: &AppState,
    sign_in: &str,
    password: &str,
    address: &Address,
    purpose: &str,
) -> Result<Proof, WebError> {
    let asked = {
        let mut connection = state.store.connection().await?;
        Asked::of(&mut connection, sign_in, address).await?
    };
    // Many sign in at once: no connection to the database is held while a password is computed.
    let Some(fits) = asked.fits(password).await? else { return Ok(Proof::Wait(asked.left)) };
    let mut connection = state.store.connection().await?;
    asked.note(&mut connection, (address, purpose), fits, state.now()).await
}

/// As [`prove`], for who has a connection in hand: whoever holds one never waits for another, since with all of them
/// taken each would wait for the rest.
pub async fn prove_on(
    connection: &mut Connection,
    (sign_in, password): (&str, &str),
    address: &Address,
    purpose: &str,
    now: Timestamp,
) -> Result<Proof, WebError> {
    let asked = Asked::of(connection, sign_in, address).await?;
    let Some(fits) = asked.fits(password).await? else { return Ok(Proof::Wait(asked.left)) };
    asked.note(connection, (address, purpose), fits, now).await
}

/// Somebody who is to be proven, with what is known of wrong passwords before.
struct Asked {
    name: String,
    person: Option<Person>,
    machine: Timestamp,
    left: SignedDuration,
}

impl Asked {
    async fn of(
        connection: &mut Connection,
        sign_in: &str,
        address: &Address,
    ) -> Result<Self, WebError> {
        let name: String =
            sign_in.trim().to_lowercase().chars().filter(|c| !c.is_control()).take(80).collect();
        // A password is counted by the clock of the machine, also in a demo whose clock is set elsewhere.
        let machine = Timestamp::now();
        let person = people::by_sign_in(connection, &name).await?;
        let failures = sign_ins::failures(connection, &name, &address.0, machine).await?;
        Ok(Self { name, person, machine, left: left(&failures, machine) })
    }

    /// Whether the password fits; nothing while there is a pause.
    async fn fits(&self, password: &str) -> Result<Option<bool>, WebError> {
        if self.left > SignedDuration::ZERO {
            return Ok(None);
        }
        let hash = self.person.as_ref().map(|person| person.password_hash.clone());
        Ok(Some(hashed(password, hash).await?))
    }

    async fn note(
        self,
        connection: &mut Connection,
        (address, purpose): (&Address, &str),
        fits: bool,
        now: Timestamp,
    ) -> Result<Proof, WebError> {
        let typed = sign_ins::Typed {
            sign_in: &self.name,
            address: &address.0,
            person: self.person.as_ref().map(|person| person.id),
            fits,
            purpose,
            machine: self.machine,
            now,
        };
        sign_ins::note(connection, typed).await?;
        Ok(match self.person.filter(|_| fits) {
            Some(person) => Proof::Fits(Box::new(person)),
            None => Proof::Wrong,
        })
    }
}

/// Computes a password when its turn comes; says to come again where too many wait.
async fn hashed(password: &str, hash: Option<String>) -> Result<bool, WebError> {
    /// Counts itself out again, also where the request is given up.
    struct Place;
    impl Drop for Place {
        fn drop(&mut self) {
            WAITING.fetch_sub(1, Ordering::AcqRel);
        }
    }
    let before = WAITING.fetch_add(1, Ordering::AcqRel);
    let _place = Place;
    if before >= AT_A_TIME + MAY_WAIT {
        return Err(WebError::Busy);
    }
    let _turn = DESK.acquire().await.map_err(|closed| WebError::Inner(closed.to_string()))?;
    passwords::verify(password.to_owned(), hash).await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_and_end() {
        let of = |failures| pause(failures, ACCOUNT.0, ACCOUNT.1).as_secs();
        let seconds: Vec<i64> = (0..14).map(of).collect();
        assert_eq!(seconds, [0, 0, 0, 0, 0, 1, 2, 4, 8, 16, 32, 60, 60, 60]);
        assert_eq!(pause(i64::MAX, ADDRESS.0, ADDRESS.1), ADDRESS.1);
    }

    #[tokio::test]
    async fn an_address_is_the_other_end_or_what_a_proxy_here_says() {
        let of = async |peer: &str, forwarded: Option<&str>| {
            let mut request = axum::http::Request::builder();
            if let Some(text) = forwarded {
                request = request.header("x-forwarded-for", text);
            }
            let (mut parts, ()) = request.body(()).unwrap().into_parts();
            parts.extensions.insert(ConnectInfo::<SocketAddr>(peer.parse().unwrap()));
            Address::from_request_parts(&mut parts, &()).await.unwrap().0
        };
        assert_eq!(of("10.1.2.3:5000", None).await, "10.1.2.3");
        assert_eq!(
            of("10.1.2.3:5000", Some("1.1.1.1")).await,
            "10.1.2.3",
            "anybody may write that"
        );
        assert_eq!(of("127.0.0.1:5000", Some("9.9.9.9, 10.7.7.7")).await, "10.7.7.7");
        assert_eq!(of("127.0.0.1:5000", Some("nonsense")).await, "127.0.0.1");
    }
}
