//! What makes a check due beside the calendar: a clock alone misses the knock at ten past six.

use jiff::{SignedDuration, Timestamp};

/// An occasion after which a check is due, whatever the calendar says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trigger {
    /// It was moved.
    Moved,
    /// It was repaired.
    Repaired,
    /// A large step of temperature.
    TemperatureStep,
    /// A new lot of the standard.
    NewLot,
    /// Its program was changed.
    Program,
    /// Somebody doubts it.
    Doubt,
    /// A drift that is told may take it outside before its next check.
    Forecast,
    /// So many uses since the last check.
    Uses(u32),
    /// So many hours without use or check.
    Idle(u32),
}

impl Trigger {
    /// Those without a number.
    pub const PLAIN: [Self; 7] = [
        Self::Moved,
        Self::Repaired,
        Self::TemperatureStep,
        Self::NewLot,
        Self::Program,
        Self::Doubt,
        Self::Forecast,
    ];

    /// The word that stands for it in the store; it is also the kind of the event.
    #[must_use]
    pub fn word(self) -> String {
        match self {
            Self::Uses(count) => format!("uses:{count}"),
            Self::Idle(hours) => format!("idle:{hours}"),
            plain => plain.kind().to_owned(),
        }
    }

    /// Kind of the event that is this occasion.
    #[must_use]
    pub fn kind(self) -> &'static str {
        match self {
            Self::Moved => "moved",
            Self::Repaired => "repaired",
            Self::TemperatureStep => "temperature_step",
            Self::NewLot => "new_lot",
            Self::Program => "program",
            Self::Doubt => "doubt",
            Self::Forecast => "forecast",
            Self::Uses(_) => "uses",
            Self::Idle(_) => "idle",
        }
    }

    /// In words.
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Self::Moved => "after a move".into(),
            Self::Repaired => "after a repair".into(),
            Self::TemperatureStep => "after a step of temperature".into(),
            Self::NewLot => "with a new lot of its standard".into(),
            Self::Program => "after a change of its program".into(),
            Self::Doubt => "when somebody doubts it".into(),
            Self::Forecast => "while a drift may take it outside before its next check".into(),
            Self::Uses(count) => format!("after {count} uses"),
            Self::Idle(hours) => format!("after {hours} hours of idle time"),
        }
    }
}

impl std::str::FromStr for Trigger {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        if let Some(plain) = Self::PLAIN.into_iter().find(|trigger| trigger.kind() == text) {
            return Ok(plain);
        }
        let unknown = || format!("“{text}” is no occasion for a check");
        let (kind, number) = text.split_once(':').ok_or_else(unknown)?;
        let number = number.parse::<u32>().ok().filter(|n| *n > 0).ok_or_else(unknown)?;
        match kind {
            "uses" => Ok(Self::Uses(number)),
            "idle" => Ok(Self::Idle(number)),
            _ => Err(unknown()),
        }
    }
}

/// What is known of an instrument since its last concluded as-found check.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SinceCheck {
    /// When that was; none before the first.
    pub last: Option<Timestamp>,
    /// Kinds of the events since, with when.
    pub events: Vec<(String, Timestamp)>,
    /// Uses since.
    pub uses: u32,
    /// The newest use.
    pub last_use: Option<Timestamp>,
    /// Whether the lot in use of its standard is another than then.
    pub new_lot: bool,
    /// The first moment at which that check's verdict says a drift may take it outside; none where none is told.
    pub may_fail_from: Option<Timestamp>,
}

/// A shift, as far as a forecast goes: so long before it may be outside it is looked at, and not more often than this.
const SHIFT: SignedDuration = SignedDuration::from_hours(8);

/// When a forecast that was told at a check asks for the next one: in the shift before it may be outside, and a shift after
/// that check at the soonest.
fn asks_at(last: Timestamp, may_fail_from: Timestamp) -> Option<Timestamp> {
    let before = may_fail_from.checked_sub(SHIFT).unwrap_or(may_fail_from);
    Some(before.max(last.checked_add(SHIFT).ok()?))
}

/// The first occasion that makes the check due now, if one does. The calendar is not asked here.
#[must_use]
pub fn triggered(triggers: &[Trigger], since: &SinceCheck, now: Timestamp) -> Option<Trigger> {
    // Before the first check the calendar has it due anyway.
    let last = since.last?;
    triggers.iter().copied().find(|trigger| match trigger {
        Trigger::Uses(most) => since.uses >= *most,
        Trigger::Idle(hours) => {
            let seen = since.last_use.map_or(last, |used| used.max(last));
            now.duration_since(seen) >= SignedDuration::from_hours(i64::from(*hours))
        }
        Trigger::NewLot => since.new_lot,
        Trigger::Forecast => {
            let asks = since.may_fail_from.and_then(|from| asks_at(last, from));
            asks.is_some_and(|at| at <= now)
        }
        plain => since.events.iter().any(|(kind, at)| kind == plain.kind() && *at > last),
    })
}

/// What a check told of a drift.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MayFail {
    /// When the check was opened.
    pub told_at: Timestamp,
    /// From when on it may be outside.
    pub from: Timestamp,
    /// When something else moved the level: from then on it speaks of nothing.
    pub until: Option<Timestamp>,
}

/// What happened to an instrument, for looking back over its occasions. Nothing needs an order.
#[derive(Debug, Clone, Copy)]
pub struct OccasionInput<'a> {
    /// The occasions that its plan names.
    pub triggers: &'a [Trigger],
    /// Events, by kind.
    pub events: &'a [(String, Timestamp)],
    /// Uses: how many, when.
    pub uses: &'a [(u32, Timestamp)],
    /// When lots of its standard were put in use.
    pub lots: &'a [Timestamp],
    /// Concluded as-found checks, by when they were opened.
    pub checks: &'a [Timestamp],
    /// What those of them told that told a drift.
    pub forecasts: &'a [MayFail],
    /// Now.
    pub now: Timestamp,
}

/// A check that fell due out of turn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Occasion {
    /// Why.
    pub trigger: Trigger,
    /// When it fell due.
    pub at: Timestamp,
    /// The check that answered it; none while it waits.
    pub answered: Option<Timestamp>,
}

/// Every occasion so far, oldest first, with the check that answered it. What happens again before
/// that check is the same occasion. As in [`triggered`], nothing counts before the first check.
#[must_use]
pub fn occasions(input: OccasionInput<'_>) -> Vec<Occasion> {
    let mut checks: Vec<Timestamp> =
        input.checks.iter().copied().filter(|at| *at <= input.now).collect();
    checks.sort_unstable();
    let mut found = Vec::new();
    for (index, last) in checks.iter().enumerate() {
        let next = checks.get(index + 1).copied();
        // What happened after this check and up to the next, which answers it.
        let end = next.unwrap_or(input.now);
        let inside = |at: &Timestamp| *at > *last && *at <= end;
        let mut uses: Vec<(u32, Timestamp)> =
            input.uses.iter().copied().filter(|(_, at)| inside(at)).collect();
        uses.sort_unstable_by_key(|(_, at)| *at);
        for trigger in input.triggers {
            let at = match trigger {
                Trigger::Uses(most) => {
                    let mut sum = 0_u64;
                    uses.iter().find_map(|(count, at)| {
                        sum += u64::from(*count);
                        (sum >= u64::from(*most)).then_some(*at)
                    })
                }
                Trigger::Idle(hours) => {
                    let idle = SignedDuration::from_hours(i64::from(*hours));
                    let seen = std::iter::once(*last).chain(uses.iter().map(|(_, at)| *at));
                    let until = uses.iter().map(|(_, at)| *at).chain([end]);
                    seen.zip(until)
                        .find(|(seen, until)| until.duration_since(*seen) >= idle)
                        .and_then(|(seen, _)| seen.checked_add(idle).ok())
                }
                Trigger::Forecast => {
                    input.forecasts.iter().find(|told| told.told_at == *last).and_then(|told| {
                        let at = asks_at(*last, told.from)?;
                        let stands = told.until.is_none_or(|until| at < until);
                        (stands && at <= end).then_some(at)
                    })
                }
                Trigger::NewLot => input.lots.iter().copied().filter(|at| inside(at)).min(),
                plain => input
                    .events
                    .iter()
                    .filter(|(kind, at)| kind == plain.kind() && inside(at))
                    .map(|(_, at)| *at)
                    .min(),
            };
            found.extend(at.map(|at| Occasion { trigger: *trigger, at, answered: next }));
        }
    }
    found.sort_by_key(|occasion| occasion.at);
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn at(hour: i64) -> Timestamp {
        Timestamp::from_second(hour * 3600).unwrap()
    }

    fn since() -> SinceCheck {
        SinceCheck { last: Some(at(10)), ..SinceCheck::default() }
    }

    #[rstest]
    #[case(&[Trigger::Moved], SinceCheck { events: vec![("moved".into(), at(11))], ..since() }, Some(Trigger::Moved))]
    // Moved before its last check: that check has seen it.
    #[case(&[Trigger::Moved], SinceCheck { events: vec![("moved".into(), at(9))], ..since() }, None)]
    #[case(&[Trigger::Repaired], SinceCheck { events: vec![("moved".into(), at(11))], ..since() }, None)]
    #[case(&[Trigger::Uses(200)], SinceCheck { uses: 199, ..since() }, None)]
    #[case(&[Trigger::Uses(200)], SinceCheck { uses: 200, ..since() }, Some(Trigger::Uses(200)))]
    #[case(&[Trigger::Idle(10)], since(), Some(Trigger::Idle(10)))]
    #[case(&[Trigger::Idle(10)], SinceCheck { last_use: Some(at(19)), ..since() }, None)]
    #[case(&[Trigger::NewLot], SinceCheck { new_lot: true, ..since() }, Some(Trigger::NewLot))]
    #[case(&[Trigger::Doubt, Trigger::Idle(1)], since(), Some(Trigger::Idle(1)))]
    // It is 20 o'clock: in the shift before it may be outside, not earlier, and a shift after its last check.
    #[case(&[Trigger::Forecast], SinceCheck { may_fail_from: Some(at(28)), ..since() }, Some(Trigger::Forecast))]
    #[case(&[Trigger::Forecast], SinceCheck { may_fail_from: Some(at(29)), ..since() }, None)]
    #[case(&[Trigger::Forecast], SinceCheck { may_fail_from: Some(at(1)), ..since() }, Some(Trigger::Forecast))]
    #[case(&[Trigger::Forecast], SinceCheck { last: Some(at(13)), may_fail_from: Some(at(1)), ..since() }, None)]
    #[case(&[Trigger::Forecast], since(), None)]
    #[case(&[Trigger::Idle(1)], SinceCheck::default(), None)]
    #[case(&[], since(), None)]
    fn occasions(
        #[case] triggers: &[Trigger],
        #[case] since: SinceCheck,
        #[case] expected: Option<Trigger>,
    ) {
        assert_eq!(triggered(triggers, &since, at(20)), expected);
    }

    #[test]
    fn words_go_there_and_back() {
        for trigger in Trigger::PLAIN.into_iter().chain([Trigger::Uses(200), Trigger::Idle(48)]) {
            assert_eq!(trigger.word().parse(), Ok(trigger));
            assert!(!trigger.words().is_empty());
        }
        for bad in ["uses:0", "uses", "idle:-1", "idle:x", "later:3", ""] {
            assert!(bad.parse::<Trigger>().is_err(), "{bad}");
        }
    }

    fn look<'a>(triggers: &'a [Trigger], checks: &'a [Timestamp], now: i64) -> OccasionInput<'a> {
        let (events, uses, lots, forecasts) = (&[], &[], &[], &[]);
        OccasionInput { triggers, events, uses, lots, checks, forecasts, now: at(now) }
    }

    #[test]
    fn an_occasion_is_answered_by_the_next_check() {
        let events = [("moved", 3), ("moved", 12), ("moved", 13), ("doubt", 25)]
            .map(|(kind, hour)| (kind.to_owned(), at(hour)));
        let checks = [at(20), at(10)];
        let triggers = [Trigger::Moved, Trigger::Doubt];
        let found =
            super::occasions(OccasionInput { events: &events, ..look(&triggers, &checks, 30) });
        assert_eq!(
            found,
            [
                Occasion { trigger: Trigger::Moved, at: at(12), answered: Some(at(20)) },
                Occasion { trigger: Trigger::Doubt, at: at(25), answered: None },
            ]
        );
    }

    #[test]
    fn uses_and_idle_time_are_counted_from_check_to_check() {
        let uses = [(60, at(11)), (50, at(12)), (99, at(21)), (1, at(29))];
        let checks = [at(10), at(20)];
        let triggers = [Trigger::Uses(100), Trigger::Idle(8)];
        let found = super::occasions(OccasionInput { uses: &uses, ..look(&triggers, &checks, 30) });
        assert_eq!(
            found,
            [
                Occasion { trigger: Trigger::Uses(100), at: at(12), answered: Some(at(20)) },
                // From the use at 12 to the check at 20, and from that at 21 to the one at 29, which
                // is also the hundredth.
                Occasion { trigger: Trigger::Idle(8), at: at(20), answered: Some(at(20)) },
                Occasion { trigger: Trigger::Uses(100), at: at(29), answered: None },
                Occasion { trigger: Trigger::Idle(8), at: at(29), answered: None },
            ]
        );
    }

    /// What the round asks and what the evidence says are the same: at any moment something waits by
    /// the one exactly when an occasion is unanswered by the other. Idle time is the exception: on
    /// the round a use ends it.
    #[test]
    fn looking_back_agrees_with_looking_now() {
        use rand::{Rng, SeedableRng};
        let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(9);
        let mut waiting = 0;
        for _ in 0..2_000 {
            let mut hours = |most: usize| -> Vec<Timestamp> {
                let count = random.random_range(0..=most);
                (0..count).map(|_| at(random.random_range(0..50))).collect()
            };
            let (checks, lots) = (hours(4), hours(2));
            let events: Vec<(String, Timestamp)> =
                hours(3).into_iter().map(|at| ("moved".to_owned(), at)).collect();
            let uses: Vec<(u32, Timestamp)> =
                hours(5).into_iter().map(|at| (random.random_range(1..40), at)).collect();
            let now = at(50);
            let last = checks.iter().max().copied();
            let forecasts: Vec<MayFail> = checks
                .iter()
                .map(|told| (*told, random.random_range(0..160)))
                .filter(|(_, hour)| *hour < 80)
                .map(|(told_at, hour)| MayFail { told_at, from: at(hour), until: None })
                .collect();
            let of_last = forecasts.iter().find(|told| Some(told.told_at) == last);
            let since = SinceCheck {
                may_fail_from: of_last.map(|told| told.from),
                last,
                events: events.iter().filter(|(_, at)| Some(*at) > last).cloned().collect(),
                uses: uses.iter().filter(|(_, at)| Some(*at) > last).map(|(n, _)| n).sum(),
                last_use: uses.iter().map(|(_, at)| *at).filter(|at| Some(*at) > last).max(),
                new_lot: lots.iter().any(|at| Some(*at) > last),
            };
            for trigger in [Trigger::Moved, Trigger::NewLot, Trigger::Uses(50), Trigger::Forecast] {
                let input = OccasionInput {
                    triggers: &[trigger],
                    events: &events,
                    uses: &uses,
                    lots: &lots,
                    checks: &checks,
                    forecasts: &forecasts,
                    now,
                };
                let open =
                    super::occasions(input).iter().any(|occasion| occasion.answered.is_none());
                assert_eq!(open, triggered(&[trigger], &since, now).is_some(), "{input:?}");
                waiting += usize::from(open);
            }
        }
        assert!(waiting > 500, "{waiting}");
    }
}
