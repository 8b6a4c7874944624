//! How right forecasts were: each that was told of a first check outside, held against what came of it.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// A forecast that was told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToldForecast {
    /// At which check.
    pub told_at: Timestamp,
    /// Lower end of its 95 % interval.
    pub earliest: Timestamp,
    /// Its middle; none where that was told to lie beyond a year.
    pub median: Option<Timestamp>,
    /// Upper end; none where that was told to lie beyond a year.
    pub latest: Option<Timestamp>,
}

/// What followed.
#[derive(Debug, Clone, Copy)]
pub struct Followed<'a> {
    /// The checks of its chart, by rising time, and whether each was outside its limits.
    pub checks: &'a [(Timestamp, bool)],
    /// When something else moved the level (an adjustment, a repair, another certificate): from then on the forecast spoke
    /// of nothing any more.
    pub ended_at: Option<Timestamp>,
}

/// What came of a forecast.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "outcome")]
pub enum Outcome {
    /// The first check outside came within its interval.
    Held {
        /// When.
        at: Timestamp,
    },
    /// It came before the interval.
    TooLate {
        /// When.
        at: Timestamp,
    },
    /// The interval passed and every check was inside.
    TooEarly,
    /// The level was moved before it could be seen: an adjustment, most often.
    Overtaken,
    /// Its time is not over.
    Open,
}

impl Outcome {
    /// Whether its interval held what came; none where that is not known.
    #[must_use]
    pub fn held(self) -> Option<bool> {
        match self {
            Self::Held { .. } => Some(true),
            Self::TooLate { .. } | Self::TooEarly => Some(false),
            Self::Overtaken | Self::Open => None,
        }
    }
}

/// What came of a forecast. Between two checks nobody looked: the first one outside is taken to have come about somewhere
/// after the check before it, and an interval that meets that stretch has held it. It has failed too early only once a check
/// at or after its end was still inside.
#[must_use]
pub fn outcome_of(told: &ToldForecast, followed: &Followed<'_>) -> Outcome {
    let after = followed
        .checks
        .iter()
        .filter(|(at, _)| *at > told.told_at)
        .take_while(|(at, _)| followed.ended_at.is_none_or(|ended| *at < ended));
    let mut inside_at = told.told_at;
    for (at, outside) in after {
        let passed = told.latest.is_some_and(|latest| inside_at >= latest);
        match (*outside, passed) {
            (_, true) => return Outcome::TooEarly,
            (true, _) if *at < told.earliest => return Outcome::TooLate { at: *at },
            (true, _) => return Outcome::Held { at: *at },
            (false, _) => inside_at = *at,
        }
    }
    if told.latest.is_some_and(|latest| inside_at >= latest) {
        return Outcome::TooEarly;
    }
    if followed.ended_at.is_some() { Outcome::Overtaken } else { Outcome::Open }
}

/// Many forecasts together.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct ForecastScore {
    /// Forecasts that were told.
    pub told: usize,
    /// Those whose outcome is known.
    pub known: usize,
    /// Those of them whose interval held it.
    pub held: usize,
    /// It came before the interval.
    pub too_late: usize,
    /// The interval passed, and it had not come.
    pub too_early: usize,
    /// The level was moved first.
    pub overtaken: usize,
    /// Their time is not over.
    pub open: usize,
    /// Width of the intervals that have an end, in days: median. How sharp they are.
    pub width_days: Option<f64>,
    /// Intervals without an end.
    pub open_ended: usize,
    /// Time from the forecast to the first check outside, in days: median, of those that held it or came too late.
    pub lead_days: Option<f64>,
    /// Predicted by true time to it: median of the same, where a middle was told.
    pub ratio: Option<f64>,
}

impl ForecastScore {
    /// Counts them up.
    #[must_use]
    pub fn of(all: &[(ToldForecast, Outcome)]) -> Self {
        const DAY: f64 = 86_400.0;
        let days = |span: SignedDuration| span.as_secs_f64() / DAY;
        let count = |is: fn(&Outcome) -> bool| all.iter().filter(|(_, one)| is(one)).count();
        let (mut widths, mut leads, mut ratios) = (vec![], vec![], vec![]);
        for (told, outcome) in all {
            widths.extend(told.latest.map(|latest| days(latest.duration_since(told.earliest))));
            let (Outcome::Held { at } | Outcome::TooLate { at }) = outcome else { continue };
            let truly = days(at.duration_since(told.told_at));
            leads.push(truly);
            let predicted = told.median.map(|median| days(median.duration_since(told.told_at)));
            ratios.extend(predicted.filter(|_| truly > 0.0).map(|predicted| predicted / truly));
        }
        let held = count(|one| matches!(one, Outcome::Held { .. }));
        let too_late = count(|one| matches!(one, Outcome::TooLate { .. }));
        let too_early = count(|one| matches!(one, Outcome::TooEarly));
        let median =
            |mut values: Vec<f64>| (!values.is_empty()).then(|| crate::stats::median(&mut values));
        Self {
            told: all.len(),
            known: held + too_late + too_early,
            held,
            too_late,
            too_early,
            overtaken: count(|one| matches!(one, Outcome::Overtaken)),
            open: count(|one| matches!(one, Outcome::Open)),
            open_ended: all.iter().filter(|(told, _)| told.latest.is_none()).count(),
            width_days: median(widths),
            lead_days: median(leads),
            ratio: median(ratios),
        }
    }

    /// Share of the known ones that held, with its 95 % interval of Clopper and Pearson (1934), *Biometrika* 26, 404: ends at
    /// the quantiles of beta distributions. None before any is known.
    #[must_use]
    pub fn coverage(&self) -> Option<(f64, f64, f64)> {
        use statrs::distribution::{Beta, ContinuousCDF};
        if self.known == 0 {
            return None;
        }
        let (held, known) = (self.held as f64, self.known as f64);
        let end = |a: f64, b: f64, p: f64| Beta::new(a, b).map(|beta| beta.inverse_cdf(p)).ok();
        let low = if self.held == 0 { 0.0 } else { end(held, known - held + 1.0, 0.025)? };
        let high =
            if self.held == self.known { 1.0 } else { end(held + 1.0, known - held, 0.975)? };
        Some((held / known, low, high))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn at(hour: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + hour * 3600).unwrap()
    }

    fn told(latest: Option<i64>) -> ToldForecast {
        ToldForecast {
            told_at: at(0),
            earliest: at(20),
            median: Some(at(30)),
            latest: latest.map(at),
        }
    }

    #[rstest]
    // Inside the interval; before it; at its very beginning.
    #[case(&[(8, false), (16, false), (24, true)], None, Outcome::Held { at: at(24) })]
    #[case(&[(8, false), (16, true)], None, Outcome::TooLate { at: at(16) })]
    #[case(&[(16, false), (20, true)], None, Outcome::Held { at: at(20) })]
    // Nobody looked between 32 and 90: it may have come before 40.
    #[case(&[(32, false), (90, true)], None, Outcome::Held { at: at(90) })]
    #[case(&[(32, false), (40, false), (48, true)], None, Outcome::TooEarly)]
    #[case(&[(32, false), (40, false)], None, Outcome::TooEarly)]
    #[case(&[(32, false)], None, Outcome::Open)]
    #[case(&[], None, Outcome::Open)]
    // Adjusted first; adjusted only after it was seen; adjusted after its time was over.
    #[case(&[(8, false), (24, true)], Some(10), Outcome::Overtaken)]
    #[case(&[(8, false), (24, true)], Some(25), Outcome::Held { at: at(24) })]
    #[case(&[(41, false)], Some(50), Outcome::TooEarly)]
    // What was before it says nothing.
    #[case(&[(-8, true), (0, true), (8, false)], None, Outcome::Open)]
    fn what_came(
        #[case] checks: &[(i64, bool)],
        #[case] ended: Option<i64>,
        #[case] expected: Outcome,
    ) {
        let checks: Vec<(Timestamp, bool)> =
            checks.iter().map(|(hour, outside)| (at(*hour), *outside)).collect();
        let followed = Followed { checks: &checks, ended_at: ended.map(at) };
        assert_eq!(outcome_of(&told(Some(40)), &followed), expected);
    }

    #[test]
    fn without_an_end_it_is_never_too_early() {
        let checks = [(at(9_000), false)];
        let followed = Followed { checks: &checks, ended_at: None };
        assert_eq!(outcome_of(&told(None), &followed), Outcome::Open);
    }

    #[test]
    fn counted_up() {
        let one = told(Some(68));
        let all = [
            (one, Outcome::Held { at: at(24) }),
            (one, Outcome::Held { at: at(60) }),
            (one, Outcome::TooLate { at: at(12) }),
            (told(None), Outcome::Open),
            (one, Outcome::Overtaken),
            (one, Outcome::TooEarly),
        ];
        let found = ForecastScore::of(&all);
        assert_eq!((found.told, found.known, found.held, found.open_ended), (6, 4, 2, 1));
        assert_eq!((found.too_late, found.too_early, found.overtaken, found.open), (1, 1, 1, 1));
        assert_eq!((found.width_days, found.lead_days), (Some(2.0), Some(1.0)));
        // 30/24, 30/60, 30/12.
        assert_eq!(found.ratio, Some(1.25));
        let (share, low, high) = found.coverage().unwrap();
        // Clopper and Pearson of 2 of 4: 6.8 to 93.2 % (SciPy 1.17, binomtest(2, 4).proportion_ci()).
        assert!((share - 0.5).abs() < 1e-12);
        assert!((low - 0.067_586).abs() < 1e-5 && (high - 0.932_414).abs() < 1e-5, "{low} {high}");
        assert_eq!(ForecastScore::of(&[]).coverage(), None);
        let (_, low, high) =
            ForecastScore { known: 19, held: 19, ..ForecastScore::default() }.coverage().unwrap();
        // 0.025^(1/19).
        assert!((low - 0.025_f64.powf(1.0 / 19.0)).abs() < 1e-9 && high == 1.0, "{low}");
    }
}
