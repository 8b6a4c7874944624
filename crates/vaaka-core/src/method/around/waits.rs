//! Waits before the points; the server keeps the time.

use serde::{Deserialize, Serialize};

use crate::method::{Input, Step, StepKey, duration_words};

/// A wait before the points.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wait {
    /// What is waited for, "Let the block reach the room's temperature".
    pub what: String,
    /// Shortest wait, in seconds.
    pub minimum_seconds: u32,
    /// Longest time from its start to the last reading, in seconds.
    pub maximum_seconds: Option<u32>,
}

fn wait_key(index: usize) -> StepKey {
    StepKey(format!("wait-{}", index + 1))
}

fn wait_steps((index, wait): (usize, &Wait), measured: &[StepKey]) -> [Step; 2] {
    let start = wait_key(index);
    let over = StepKey(format!("{start}-over"));
    let seconds = |n: u32| duration_words(jiff::SignedDuration::from_secs(i64::from(n)));
    let most = wait
        .maximum_seconds
        .map(|most| format!(", and be done with the readings within {}", seconds(most)))
        .unwrap_or_default();
    let mut voids = vec![over.clone()];
    voids.extend(measured.iter().cloned());
    [
        Step {
            detail: format!(
                "At least {}{most}. The time runs on the server: go on with other checks meanwhile.",
                seconds(wait.minimum_seconds)
            ),
            voids,
            ..Step::plain(
                &start.0,
                "Start the wait".into(),
                wait.what.clone(),
                Input::WaitStart {
                    what: wait.what.clone(),
                    minimum_seconds: wait.minimum_seconds,
                    maximum_seconds: wait.maximum_seconds,
                },
            )
        },
        Step {
            detail: "Go on when the time is up; until then the other checks of the round can be started.".into(),
            ..Step::plain(
                &over.0,
                format!("Wait {}", seconds(wait.minimum_seconds)),
                format!("Waiting: {}", wait.what.to_lowercase()),
                Input::WaitOver { start, what: wait.what.clone() },
            )
        },
    ]
}

/// Start and end of each wait.
pub fn steps(waits: &[Wait], measured: &[StepKey]) -> Vec<Step> {
    waits.iter().enumerate().flat_map(|one| wait_steps(one, measured)).collect()
}

/// The wait with a longest time: it binds the readings, since material must not lie open meanwhile.
pub fn binding(waits: &[Wait]) -> Option<StepKey> {
    waits.iter().rposition(|wait| wait.maximum_seconds.is_some()).map(wait_key)
}

/// Why waits cannot stand, where they cannot.
pub fn fault(waits: &[Wait]) -> Option<String> {
    let reversed =
        |wait: &Wait| wait.maximum_seconds.is_some_and(|most| most <= wait.minimum_seconds);
    let index = waits.iter().position(reversed)?;
    Some(format!("wait {}: its longest time must exceed its shortest", index + 1))
}
