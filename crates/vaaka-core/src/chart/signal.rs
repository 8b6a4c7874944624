//! What is one signal: same segment and side until eight quiet points have followed.

use serde::{Deserialize, Serialize};

use super::{Firing, Side};

/// Quiet points after which a further firing on the same side is a new signal.
pub const QUIET_POINTS: u64 = 8;

/// A signal that still gathers evidence.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct OpenSignal {
    /// Ordinal of the point that opened it.
    pub opened_at: u64,
    /// Ordinal of the last point that added evidence.
    pub last_evidence: u64,
}

/// What a point did to the signals of its segment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum SignalChange {
    /// A new signal.
    Opened {
        /// Its side; none for patterns without one.
        side: Option<Side>,
    },
    /// More evidence for the signal opened at `opened_at`.
    Evidence {
        /// The signal's side.
        side: Option<Side>,
        /// Ordinal of the point that opened it.
        opened_at: u64,
    },
}

/// Groups firings into signals.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SignalTracker {
    above: Option<OpenSignal>,
    below: Option<OpenSignal>,
    sideless: Option<OpenSignal>,
}

impl SignalTracker {
    /// Takes the raising firings of one point and says what they change.
    pub fn push(&mut self, ordinal: u64, firings: &[Firing]) -> Vec<SignalChange> {
        let mut changes = Vec::new();
        if firings.is_empty() {
            return changes;
        }
        for side in [Some(Side::Above), Some(Side::Below), None] {
            if !firings.iter().any(|firing| firing.side == side) {
                continue;
            }
            let slot = match side {
                Some(Side::Above) => &mut self.above,
                Some(Side::Below) => &mut self.below,
                None => &mut self.sideless,
            };
            match slot {
                Some(open) if ordinal - open.last_evidence <= QUIET_POINTS => {
                    open.last_evidence = ordinal;
                    changes.push(SignalChange::Evidence { side, opened_at: open.opened_at });
                }
                _ => {
                    *slot = Some(OpenSignal { opened_at: ordinal, last_evidence: ordinal });
                    changes.push(SignalChange::Opened { side });
                }
            }
        }
        changes
    }

    /// The signal on a side that has not yet gone quiet at `ordinal`.
    #[must_use]
    pub fn active(&self, side: Side, ordinal: u64) -> Option<OpenSignal> {
        let slot = match side {
            Side::Above => self.above,
            Side::Below => self.below,
        };
        slot.filter(|open| ordinal.saturating_sub(open.last_evidence) < QUIET_POINTS)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::chart::Criterion;

    fn firing(side: Side) -> Vec<Firing> {
        vec![Firing {
            criterion: Criterion::BeyondLimits,
            side: Some(side),
            points: vec![],
            shift: None,
        }]
    }

    #[test]
    fn eight_quiet_points_end_a_signal() {
        let mut tracker = SignalTracker::default();
        let above = firing(Side::Above);
        assert_eq!(tracker.push(10, &above), [SignalChange::Opened { side: Some(Side::Above) }]);
        // Seven quiet points (11 to 17) lie between: still the same signal.
        assert_eq!(
            tracker.push(18, &above),
            [SignalChange::Evidence { side: Some(Side::Above), opened_at: 10 }]
        );
        // Eight quiet points (19 to 26): a new one.
        assert_eq!(tracker.push(27, &above), [SignalChange::Opened { side: Some(Side::Above) }]);
    }

    #[test]
    fn the_other_side_is_another_signal() {
        let mut tracker = SignalTracker::default();
        tracker.push(0, &firing(Side::Above));
        assert_eq!(
            tracker.push(1, &firing(Side::Below)),
            [SignalChange::Opened { side: Some(Side::Below) }]
        );
        assert!(tracker.active(Side::Above, 7).is_some());
        assert!(tracker.active(Side::Above, 8).is_none());
    }
}
