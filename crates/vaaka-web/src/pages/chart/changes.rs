//! What the points of a chart have done, with how likely each explanation is.

use vaaka_core::history::{Posterior, SHAPE_WINDOW, Told, ToldShape};
use vaaka_core::judgement::shape_words;

use super::read::Read;
use crate::shell::Here;

/// One explanation.
#[derive(Debug)]
pub(super) struct Odds {
    pub name: &'static str,
    /// "94 %", "under 1 %".
    pub share: String,
    /// Length of its bar, in per cent.
    pub length: u32,
    pub told: bool,
}

/// The card beside the chart.
#[derive(Debug)]
pub(super) struct Changes {
    pub words: String,
    pub odds: Vec<Odds>,
    /// What would take it back.
    pub taken_back: Option<String>,
    /// How many checks were looked at, and how much they resemble each other.
    pub rests_on: String,
}

/// What the points say; nothing before there are limits.
pub(super) fn changes(read: &Read, here: &Here) -> Option<Changes> {
    let (shape, taken_back) = read.shape.as_ref()?;
    let Posterior { flat, step, drift, stopped, knock } = shape.posterior;
    let told = |of: Told| shape.told == of;
    let odds = [
        ("no change", flat, told(Told::Flat)),
        ("a step", step, told(Told::Step)),
        ("a drift", drift, told(Told::Drift)),
        ("a drift that stopped", stopped, told(Told::Stopped)),
        ("a passing knock", knock, told(Told::Knock)),
    ];
    let odds = odds.map(|(name, share, told)| Odds {
        name,
        share: percent(share),
        length: (100.0 * share).round() as u32,
        told,
    });
    let taken_back = told(Told::Drift).then(|| match taken_back {
        Some(checks) => {
            format!("{checks} more checks at the level of now would take the drift back.")
        }
        None => "Even 64 more checks at the level of now would not take the drift back.".to_owned(),
    });
    let said = shape_words(&ToldShape::from(shape), &read.view.stream.unit, &here.zone);
    let quiet = !read.standing.is_signal() && !read.standing.is_bad();
    let like = if shape.autocorrelation < 0.05 {
        "neighbouring checks do not resemble each other".to_owned()
    } else {
        format!("neighbouring checks resemble each other (ρ about {:.1})", shape.autocorrelation)
    };
    Some(Changes {
        words: match (&read.drift, shape.told) {
            // Since when and how fast stands above.
            (Some(_), Told::Drift) => "The level drifts, as told above.".to_owned(),
            // What was told above was told by the last check: a point left out or an event noted since speaks here first.
            (Some(_), _) => {
                format!("{said} The last check still told a drift; the next one says anew.")
            }
            (None, told) if told.is_change() && quiet => {
                format!("{said} No rule has raised a signal of it.")
            }
            (None, _) => said,
        },
        odds: odds.into(),
        taken_back,
        rests_on: if shape.points < SHAPE_WINDOW {
            format!("From the baseline and the {} checks after it; {like}.", shape.points)
        } else {
            format!("From what the baseline left and the newest {} checks; {like}.", shape.points)
        },
    })
}

/// A probability, never told as sure.
pub(in crate::pages) fn percent(share: f64) -> String {
    match 100.0 * share {
        under if under < 1.0 => "under 1 %".to_owned(),
        over if over > 99.0 => "over 99 %".to_owned(),
        share => format!("{share:.0} %"),
    }
}

#[cfg(test)]
mod tests {
    use super::percent;

    #[test]
    fn nothing_is_told_as_sure() {
        let told = [0.0, 0.004, 0.011, 0.5, 0.986, 0.994, 1.0].map(percent);
        assert_eq!(
            told,
            ["under 1 %", "under 1 %", "1 %", "50 %", "99 %", "over 99 %", "over 99 %"]
        );
    }
}
