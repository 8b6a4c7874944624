//! What every second pair of eyes has in common: a sentence, a password, and the words where one of them is missing.

use vaaka_core::study::is_reason;

use crate::auth::{Address, prove_on};
use crate::desk::Desk;
use crate::error::WebError;
use crate::fields::{Fields, sentence};
use crate::session::SignedIn;

/// Most characters of the sentence.
const LONGEST: usize = 300;

/// Words at the sentence and at the password, where something is wrong with them.
pub(in crate::pages) type Errors = [Option<String>; 2];

/// The form by which something is decided, as it was typed.
#[derive(Debug)]
pub(in crate::pages) struct Deciding {
    /// The one lead of a site decides about what he did himself.
    pub alone: bool,
    /// The sentence.
    pub reason: String,
    /// Words at it.
    pub reason_error: Option<String>,
    /// Words at the password.
    pub password_error: Option<String>,
}

impl Deciding {
    /// The form with what was typed and the words at it.
    pub fn of(alone: bool, typed: &Fields, [reason_error, password_error]: Errors) -> Self {
        Self { alone, reason: typed.get("reason").to_owned(), reason_error, password_error }
    }
}

/// Hears who decides: the sentence where both fit, else the words at each.
pub(in crate::pages) async fn hear(
    (desk, signed, address): (&mut Desk, &SignedIn, &Address),
    typed: &Fields,
    what: &str,
    needs_reason: bool,
) -> Result<Result<String, Errors>, WebError> {
    let reason = sentence(typed.get("reason"), LONGEST);
    let reason_error = match &reason {
        Err(words) => Some(words.clone()),
        Ok(text) if needs_reason => is_reason(text).err().map(|error| error.to_string()),
        Ok(_) => None,
    };
    let who = (signed.person.sign_in.as_str(), typed.get("password"));
    let proof = prove_on(&mut desk.connection, who, address, what, desk.now).await?;
    let password_error = proof.refusal("nothing was decided");
    Ok(match (reason, &reason_error, &password_error) {
        (Ok(reason), None, None) => Ok(reason),
        _ => Err([reason_error, password_error]),
    })
}
