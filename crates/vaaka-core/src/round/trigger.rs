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
    /// So many uses since the last check.
    Uses(u32),
    /// So many hours without use or check.
    Idle(u32),
}

impl Trigger {
    /// Those without a number.
    pub const PLAIN: [Self; 6] = [
        Self::Moved,
        Self::Repaired,
        Self::TemperatureStep,
        Self::NewLot,
        Self::Program,
        Self::Doubt,
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
        plain => since.events.iter().any(|(kind, at)| kind == plain.kind() && *at > last),
    })
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
}
