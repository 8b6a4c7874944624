//! What of a check was read over the instrument's line: beside the entries that kept it, and what nobody kept.

use jiff::tz::TimeZone;
use vaaka_core::method::Step;
use vaaka_devices::text;
use vaaka_store::captures::{self, Capture};
use vaaka_store::ids::CheckId;
use vaaka_store::rows::Reading;

use crate::desk::Desk;
use crate::error::WebError;
use crate::state::local_day_time;

/// Longest piece of what came that is shown.
const MOST_SHOWN: usize = 120;

/// What came of the instrument during a check.
#[derive(Debug)]
pub(super) struct Captures(Vec<(Capture, String)>);

impl Captures {
    /// Reads them.
    pub(super) async fn of(desk: &mut Desk, check: CheckId) -> Result<Self, WebError> {
        Ok(Self(captures::of(&mut desk.connection, check).await?))
    }

    fn behind(&self, reading: &Reading) -> Option<&Capture> {
        self.0.iter().rev().map(|(capture, _)| capture).find(|capture| is_of(capture, reading))
    }

    /// What an entry was read from, in words.
    pub(super) fn note(&self, reading: &Reading) -> Option<String> {
        let capture = self.behind(reading)?;
        let by = match capture.station.as_str() {
            "" => String::new(),
            station => format!(" by the bench PC “{station}”"),
        };
        Some(format!("captured from the instrument at {}{by}: {}", capture.address, came(capture)))
    }

    /// What came and no entry kept.
    pub(super) fn not_kept<'a>(
        &self,
        kept: impl Iterator<Item = &'a Reading> + Clone,
        steps: &[Step],
        zone: &TimeZone,
    ) -> Vec<String> {
        let stays = |capture: &Capture| {
            kept.clone()
                .any(|reading| self.behind(reading).is_some_and(|behind| behind.id == capture.id))
        };
        self.0
            .iter()
            .filter(|(capture, _)| !stays(capture))
            .map(|(capture, person)| {
                let step = steps.iter().find(|step| step.key.0 == capture.step_key);
                let title = step.map_or(capture.step_key.as_str(), |step| step.title.as_str());
                format!(
                    "{}, {title}: {} ({person})",
                    local_day_time(capture.at.0, zone),
                    came(capture)
                )
            })
            .collect()
    }
}

/// Whether an entry keeps a capture. One that was asked about was sent twice, under two keys; of what the device held only the
/// key tells whether it was read or typed.
fn is_of(capture: &Capture, reading: &Reading) -> bool {
    let by_key = capture.entry_key == reading.idempotency_key;
    let place = capture.step_key == reading.step_key && capture.repeat == reading.repeat;
    let kept = match reading.source.as_str() {
        "device" => place && capture.at <= reading.received_at,
        "held" => by_key,
        _ => false,
    };
    kept && (capture.typed.is_empty() || capture.typed == reading.typed)
}

fn came(capture: &Capture) -> String {
    match capture.typed.is_empty() {
        true => format!("a file of {} bytes", capture.bytes.len()),
        false => format!("“{}”", text::shown(&capture.bytes, MOST_SHOWN)),
    }
}
