//! What long work asks of the pages: see [`Clerk`].

use serde_json::Value;
use vaaka_store::StoreError;
use vaaka_store::clerk::{Clerk, Later, Reading};
use vaaka_store::imports::Import;
use vaaka_store::reports::Report;

use super::import::{Mapping, look};
use crate::desk::Desk;
use crate::error::WebError;
use crate::state::AppState;

impl Clerk for AppState {
    fn read_table<'a>(
        &'a self,
        import: &'a Import,
        mapping: &'a [(String, String)],
    ) -> Later<'a, Reading> {
        Box::pin(async move {
            let mut desk = Desk::open(self).await.map_err(stored)?;
            let when = (desk.here.zone.clone(), desk.now);
            let looked = look(&mut desk.connection, when, import, &Mapping::of(mapping))
                .await
                .map_err(stored)?;
            let count = looked.shown.count;
            let shown = serde_json::to_value(looked.shown.kept())
                .map_err(|error| stored(WebError::Inner(error.to_string())))?;
            Ok(Reading { lines: looked.lines, count, shown })
        })
    }

    fn write_report<'a>(&'a self, report: &'a Report) -> Later<'a, Value> {
        Box::pin(async move {
            let mut desk = Desk::open(self).await.map_err(stored)?;
            let written = super::written(&mut desk, report).await.map_err(stored)?;
            serde_json::to_value(written)
                .map_err(|error| stored(WebError::Inner(error.to_string())))
        })
    }
}

/// What went wrong, as the job's record tells it.
fn stored(error: WebError) -> StoreError {
    match error {
        WebError::Store(error) => error,
        WebError::NotFound => StoreError::NotFound,
        other => StoreError::Unreadable { what: other.to_string() },
    }
}
