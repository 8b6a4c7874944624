//! What the people of the mill did about the signals of the year: old ones are closed, the newest are
//! at different stages, and one was forgotten.

use std::collections::HashMap;

use jiff::{SignedDuration, Timestamp};
use vaaka_store::At;
use vaaka_store::ids::{CauseId, SignalId, StreamId};
use vaaka_store::rows::SignalStepRow;

use super::World;
use super::charts::next;
use super::registers::person;
use super::world::LEAD;

/// Causes as the migration numbers them, with what was found and what was done.
const STORIES: [(i64, &str, &str); 4] = [
    (
        3,
        "Residue under the pan; the reading came back after cleaning.",
        "Cleaned, and the round's note now asks for it.",
    ),
    (
        1,
        "The level moved slowly over weeks; the standard reads right elsewhere.",
        "Watched to the next service; adjusted there.",
    ),
    (4, "The hall door stood open next to it in the cold week.", "Draught screen put up."),
    (7, "Readings of three shifts gone through; nothing was found.", "Nothing to do."),
];

/// Confirms the segments of the year, but for the newest ones, and works the signals.
pub fn work(world: &mut World, now: Timestamp) {
    let hours = SignedDuration::from_hours;
    for segment in world.segments.iter_mut().filter(|segment| segment.ordinal > 1) {
        if now.duration_since(segment.opened_at.0) > hours(24 * 63) {
            segment.settled = Some("confirmed".to_owned());
            segment.settled_by = Some(person(LEAD));
            segment.settled_at = Some(At(segment.opened_at.0 + hours(30)));
        }
    }
    // Each family of its own, so that a new one leaves the stages of the others as they were.
    let family: HashMap<StreamId, String> =
        world.streams.iter().map(|stream| (stream.id, stream.method_key.clone())).collect();
    let mut recent: HashMap<&str, usize> = HashMap::new();
    for (index, signal) in world.signals.iter_mut().enumerate() {
        let id = SignalId(next(index));
        let opened = signal.opened_at.0;
        let age = now.duration_since(opened);
        // What still speaks is not closed: its cause is there.
        let quiet = now.duration_since(signal.last_evidence_at.0) > hours(24 * 5);
        let (cause, found, done) = STORIES[index % STORIES.len()];
        let mut step = |word: &str, words: &str, of: Option<i64>, who: usize, after: i64| {
            let at = At((opened + hours(after)).min(now));
            signal.touched_at = at;
            word.clone_into(&mut signal.state);
            if let Some(of) = of {
                signal.cause_id = Some(CauseId(of));
            }
            world.signal_steps.push(SignalStepRow {
                signal_id: id,
                step: word.to_owned(),
                words: words.to_owned(),
                cause_id: of.map(CauseId),
                person_id: Some(person(who)),
                at,
            });
        };
        // Of the newest, each is at another stage; the first of them nobody looked at.
        let stage = if age > hours(24 * 21) && quiet {
            4
        } else {
            let own = family.get(&signal.stream_id).map_or("", String::as_str);
            // Scales and gauges were here first, together.
            let own = if matches!(own, "weighing" | "gauge" | "spectrum") { "" } else { own };
            let seen = recent.entry(own).or_default();
            *seen += 1;
            (*seen - 1) % 4
        };
        if stage >= 1 {
            step("acknowledged", "", None, index % 3, 2);
        }
        if stage >= 2 {
            step("cause_assigned", found, Some(cause), LEAD, 20);
        }
        if stage >= 3 {
            step("acted", done, None, index % 3, 26);
        }
        if stage >= 4 {
            step("closed", "The checks after it are quiet.", None, LEAD, 90);
        }
    }
}
