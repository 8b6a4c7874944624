//! What proposed limits would have done in the past.

use jiff::{SignedDuration, Timestamp};

use super::StudyPoint;
use crate::chart::{ChartDesign, ChartPoint, ChartState, QUIET_POINTS, Side, SignalChange};

/// A known fault: a failed check, an adjustment, a repair.
#[derive(Debug, Clone, PartialEq)]
pub struct Fault {
    /// When.
    pub at: Timestamp,
    /// What, in a few words.
    pub words: String,
}

/// A stretch of the past under one design.
#[derive(Debug, Clone, PartialEq)]
pub struct BackTestSegment {
    /// Design; a segment after an adjustment begins with a provisional level.
    pub design: ChartDesign,
    /// Its points, oldest first.
    pub points: Vec<StudyPoint>,
}

/// A signal that would have been raised.
#[derive(Debug, Clone, PartialEq)]
pub struct RaisedSignal {
    /// When it would have been opened.
    pub at: Timestamp,
    /// Its side.
    pub side: Option<Side>,
    /// The known fault that it came before: place in the list of faults, and how many checks before.
    pub before: Option<(usize, usize)>,
}

/// What would have been.
#[derive(Debug, Clone, PartialEq)]
pub struct BackTest {
    /// Points looked at.
    pub points: usize,
    /// Signals.
    pub signals: Vec<RaisedSignal>,
    /// Known faults in that time.
    pub faults: usize,
    /// Of them, those that a signal came before.
    pub seen: usize,
}

impl BackTest {
    /// Signals that came before a known fault.
    #[must_use]
    pub fn before_faults(&self) -> usize {
        self.signals.iter().filter(|signal| signal.before.is_some()).count()
    }

    /// The sentence that a lead wants: "would have signalled 7 times, 5 of them before the known faults".
    #[must_use]
    pub fn words(&self) -> String {
        let times = |count: usize| match count {
            1 => "once".to_owned(),
            2 => "twice".to_owned(),
            n => format!("{n} times"),
        };
        let signals = self.signals.len();
        if signals == 0 {
            return match self.faults {
                0 => format!(
                    "Over {} checks it would not have signalled at all, and no fault is known in that time.",
                    self.points
                ),
                n => format!(
                    "Over {} checks it would not have signalled at all, although {n} known faults lie in that time.",
                    self.points
                ),
            };
        }
        let head =
            format!("Over {} checks it would have signalled {}", self.points, times(signals));
        match (self.before_faults(), self.faults) {
            (_, 0) => format!(
                "{head}; no fault is known in that time, so that each was for nothing, or its cause was never noted."
            ),
            (0, n) => format!("{head}, none of them before one of the {n} known faults."),
            (before, n) => format!(
                "{head}, {before} of them before known faults: {} of {n} would have been announced.",
                self.seen
            ),
        }
    }
}

/// Runs proposed designs over the past. A signal came before a fault when the fault follows in the same
/// segment, or ends it, and the signal was still gathering evidence within the last quiet points before it.
#[must_use]
pub fn back_test(
    segments: &[BackTestSegment],
    faults: &[Fault],
    interval: SignedDuration,
) -> BackTest {
    let mut signals: Vec<RaisedSignal> = Vec::new();
    let mut seen = vec![false; faults.len()];
    let mut points = 0;
    for (index, segment) in segments.iter().enumerate() {
        points += segment.points.len();
        let next = segments
            .get(index + 1)
            .and_then(|next| next.points.first())
            .map_or(Timestamp::MAX, |point| point.measured_at);
        let mut state = ChartState::new(interval);
        // Opened at which point, evidence at which points, and on which side.
        let mut open: Vec<(u64, Vec<u64>, Option<Side>)> = Vec::new();
        for point in &segment.points {
            let evaluation = state.push(
                &segment.design,
                &ChartPoint {
                    excluded: point.excluded,
                    readings: point.readings,
                    scatter: point.scatter,
                    ..ChartPoint::new(point.measured_at, point.value)
                },
            );
            for change in evaluation.changes() {
                match change {
                    SignalChange::Opened { side } => {
                        open.push((evaluation.ordinal, vec![evaluation.ordinal], *side));
                    }
                    SignalChange::Evidence { side, opened_at } => {
                        if let Some(own) =
                            open.iter_mut().find(|(at, _, of)| at == opened_at && of == side)
                        {
                            own.1.push(evaluation.ordinal);
                        }
                    }
                }
            }
        }
        let at = |ordinal: u64| segment.points[ordinal as usize].measured_at;
        for (opened, evidence, side) in open {
            let before = faults.iter().enumerate().find_map(|(which, fault)| {
                if fault.at <= at(opened) || fault.at > next {
                    return None;
                }
                let places = segment.points.iter().take_while(|p| p.measured_at < fault.at).count();
                let last = evidence.iter().rev().find(|ordinal| at(**ordinal) < fault.at)?;
                let quiet = (places as u64).saturating_sub(last + 1);
                (quiet <= QUIET_POINTS).then(|| (which, places - opened as usize))
            });
            if let Some((which, _)) = before {
                seen[which] = true;
            }
            signals.push(RaisedSignal { at: at(opened), side, before });
        }
    }
    signals.sort_by_key(|signal| signal.at);
    BackTest {
        points,
        signals,
        faults: faults.len(),
        seen: seen.into_iter().filter(|seen| *seen).count(),
    }
}
