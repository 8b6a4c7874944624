//! What every handler has at hand.

use std::collections::HashMap;
use std::sync::{Arc, RwLock};

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use tokio::sync::watch;
use vaaka_core::method::{self, Method, PlanSpec, Purpose, Step};
use vaaka_store::ids::{CertificateId, PlanVersionId};
use vaaka_store::plans::{self, PlanView};
use vaaka_store::{Connection, Store};

use crate::clock::Clock;
use crate::error::WebError;

/// How the application is run.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// Marks cookies `Secure`; on when the site is served over TLS.
    pub secure_cookies: bool,
    /// Code that proves the first administrator of an empty database.
    pub first_code: String,
    /// Address of the application as people reach it; where empty, labels use that of the request.
    pub address: String,
    /// Shown on the sign-in page of a demo, so that a newcomer can get in.
    pub demo_sign_ins: Vec<(String, String, String)>,
}

/// Shared state; cheap to clone.
#[derive(Debug, Clone)]
pub struct AppState {
    /// The database.
    pub store: Store,
    /// The time.
    pub clock: Arc<dyn Clock>,
    /// How the application is run.
    pub settings: Arc<Settings>,
    ways: Arc<RwLock<HashMap<WayKey, Arc<Way>>>>,
    conditions: Arc<RwLock<HashMap<PlanVersionId, Conditions>>>,
    closing: Arc<watch::Sender<bool>>,
}

/// The conditions that a plan version asks for: key of the step, name with unit.
pub type Conditions = Vec<(String, String)>;

type WayKey = (PlanVersionId, Vec<CertificateId>, Purpose);

/// A plan version read for one certificate, with its steps.
#[derive(Debug)]
pub struct Way {
    /// The method.
    pub method: &'static dyn Method,
    /// What the method works with.
    pub spec: PlanSpec,
    /// The steps.
    pub steps: Vec<Step>,
}

/// Ways kept at most; past it the memory is emptied, since they are quickly read again.
const MOST_WAYS: usize = 2_000;

impl AppState {
    /// State over a store and a clock.
    #[must_use]
    pub fn new(store: Store, clock: Arc<dyn Clock>, settings: Settings) -> Self {
        let closing = Arc::new(watch::Sender::new(false));
        Self {
            store,
            clock,
            settings: Arc::new(settings),
            ways: Arc::default(),
            conditions: Arc::default(),
            closing,
        }
    }

    /// The conditions of a plan version, if they are remembered; a version never changes.
    pub(crate) fn remembered_conditions(&self, version: PlanVersionId) -> Option<Conditions> {
        self.conditions.read().ok()?.get(&version).cloned()
    }

    /// Remembers them.
    pub(crate) fn remember_conditions(&self, version: PlanVersionId, found: &Conditions) {
        if let Ok(mut kept) = self.conditions.write() {
            if kept.len() >= MOST_WAYS {
                kept.clear();
            }
            kept.insert(version, found.clone());
        }
    }

    /// Says that the server is closing: what runs without an end ends now.
    pub fn close(&self) {
        self.closing.send_replace(true);
    }

    /// Resolves when the server is closing.
    pub async fn closed(&self) {
        let mut closing = self.closing.subscribe();
        let _ = closing.wait_for(|closing| *closing).await;
    }

    /// The present instant.
    #[must_use]
    pub fn now(&self) -> Timestamp {
        self.clock.now()
    }

    /// The way of an open check, if it is remembered: then keeping an entry asks the store for
    /// nothing that cannot have changed.
    pub(crate) fn remembered_way(
        &self,
        version: PlanVersionId,
        certificates: &[CertificateId],
        purpose: Purpose,
    ) -> Option<Arc<Way>> {
        self.ways.read().ok()?.get(&(version, certificates.to_vec(), purpose)).cloned()
    }

    /// The way of a plan version. Versions, points and certified values are never changed once
    /// written, so what was read once may be kept.
    pub(crate) async fn way(
        &self,
        connection: &mut Connection,
        view: &PlanView,
        certificates: &[CertificateId],
        purpose: Purpose,
    ) -> Result<Arc<Way>, WebError> {
        let key = (view.version.id, certificates.to_vec(), purpose);
        let kept = self.ways.read().ok().and_then(|ways| ways.get(&key).cloned());
        if let Some(way) = kept {
            return Ok(way);
        }
        let spec = plans::spec(connection, view, certificates, purpose).await?;
        let method = method_of(view)?;
        let steps = method.way(&spec)?;
        let way = Arc::new(Way { method, spec, steps });
        if let Ok(mut ways) = self.ways.write() {
            if ways.len() >= MOST_WAYS {
                ways.clear();
            }
            ways.insert(key, way.clone());
        }
        Ok(way)
    }
}

/// The method of a plan.
pub(crate) fn method_of(view: &PlanView) -> Result<&'static dyn Method, WebError> {
    Ok(method::by_key(&view.plan.method_key)?)
}

/// "Tuesday night 22:00–06:00" and the like are shown in the site's zone.
pub(crate) fn local_time(at: Timestamp, zone: &TimeZone) -> String {
    told(at, zone, "%H:%M")
}

/// A time in a form; in the hour that a change of the clocks repeats with its offset, or it would be two moments.
fn told(at: Timestamp, zone: &TimeZone, form: &str) -> String {
    let zoned = at.to_zoned_datetime(zone.clone());
    let text = zoned.strftime(form).to_string();
    match zone.to_ambiguous_timestamp(zoned.datetime()).is_ambiguous() {
        true => format!("{text} ({})", zoned.strftime("%:z")),
        false => text,
    }
}

/// A day and time for people.
pub(crate) fn local_day_time(at: Timestamp, zone: &TimeZone) -> String {
    told(at, zone, "%-d %b %Y, %H:%M")
}

/// The day of a moment, as [`long_day`].
pub(crate) fn local_day(at: Timestamp, zone: &TimeZone) -> String {
    long_day(at.to_zoned_datetime(zone.clone()).date())
}

/// "14 March 2027".
pub fn long_day(day: Date) -> String {
    day.strftime("%-d %B %Y").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The clocks of the mill go back from 04:00 to 03:00 on 25 October 2026 (EU Directive 2000/84/EC).
    #[test]
    fn the_repeated_hour_is_told_with_its_offset() {
        let zone = TimeZone::get("Europe/Helsinki").unwrap();
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        assert_eq!(local_time(at("2026-10-25T00:30:00Z"), &zone), "03:30 (+03:00)");
        assert_eq!(local_time(at("2026-10-25T01:30:00Z"), &zone), "03:30 (+02:00)");
        assert_eq!(local_time(at("2026-10-24T23:59:00Z"), &zone), "02:59");
        assert_eq!(local_time(at("2026-10-25T02:00:00Z"), &zone), "04:00");
        assert_eq!(
            local_day_time(at("2026-10-25T01:00:00Z"), &zone),
            "25 Oct 2026, 03:00 (+02:00)"
        );
        // Nothing is repeated in spring, and nothing in a zone without changes.
        assert_eq!(local_time(at("2026-03-29T01:00:00Z"), &zone), "04:00");
        assert_eq!(local_time(at("2026-10-25T01:30:00Z"), &TimeZone::UTC), "01:30");
    }
}
