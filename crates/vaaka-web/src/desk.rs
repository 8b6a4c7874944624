//! What a handler of the registers has open in front of it: the database, the moment, the shift.

use axum::extract::{FromRequest, FromRequestParts, Request};
use jiff::Timestamp;
use jiff::civil::Date;
use vaaka_store::Connection;
use vaaka_store::standard_changes::By;

use crate::error::WebError;
use crate::fields::Fields;
use crate::pages::Here;
use crate::session::SignedIn;
use crate::state::AppState;

/// The desk.
pub struct Desk {
    /// Connection to the database.
    pub connection: Connection,
    /// Site, zone and shift.
    pub here: Here,
    /// The moment.
    pub now: Timestamp,
    /// The day at the site.
    pub today: Date,
}

impl Desk {
    /// Opens it.
    pub async fn open(state: &AppState) -> Result<Self, WebError> {
        let mut connection = state.store.connection().await?;
        let here = Here::find(state, &mut connection).await?;
        let now = state.now();
        let today = now.to_zoned_datetime(here.zone.clone()).date();
        Ok(Self { connection, here, now, today })
    }

    /// Who changes something, and when.
    pub fn by(&self, signed: &SignedIn) -> By {
        By { person: signed.person.id, at: self.now }
    }
}

/// A form that somebody who may send it sent: its token is checked, and the desk is open.
pub struct Sent {
    /// Who sent it.
    pub signed: SignedIn,
    /// The desk.
    pub desk: Desk,
    /// What was typed.
    pub typed: Fields,
}

impl FromRequest<AppState> for Sent {
    type Rejection = WebError;

    async fn from_request(request: Request, state: &AppState) -> Result<Self, WebError> {
        let (mut parts, body) = request.into_parts();
        let signed =
            <SignedIn as FromRequestParts<AppState>>::from_request_parts(&mut parts, state);
        let signed = signed.await?;
        let typed = Fields::from_request(Request::from_parts(parts, body), state).await?;
        signed.check_form(typed.token())?;
        Ok(Self { signed, desk: Desk::open(state).await?, typed })
    }
}
