//! What a handler of the registers has open in front of it: the database, the moment, the shift.

use jiff::Timestamp;
use jiff::civil::Date;
use vaaka_store::Connection;
use vaaka_store::standard_changes::By;

use crate::error::WebError;
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
