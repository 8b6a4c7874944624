//! The audit trail of what the mill did.

use jiff::Timestamp;
use vaaka_store::audit::{AuditEntry, Happening, chain};
use vaaka_store::ids::{CheckId, PersonId};

use super::World;

/// Appends to a check's chain. The checks of the generator follow each other, so that the
/// newest entry of a chain, if any, is among the last few.
pub fn audit(
    world: &mut World,
    id: CheckId,
    at: Timestamp,
    who: PersonId,
    action: &str,
    detail: serde_json::Value,
) {
    let chain = chain(id);
    let previous = world
        .audit
        .last()
        .filter(|entry| entry.chain == chain)
        .map(|entry| (entry.sequence, entry.hash.clone()));
    let entry = AuditEntry::following(
        previous.as_ref().map(|(sequence, hash)| (*sequence, hash.as_slice())),
        &Happening { chain: &chain, at, person: Some(who), action, detail },
    );
    world.audit.push(entry);
}
