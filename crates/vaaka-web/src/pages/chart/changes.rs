//! What the points of a chart have done, with how likely each explanation is.

use vaaka_core::chart::Side;
use vaaka_core::check::TemperatureEffect;
use vaaka_core::history::{Posterior, SHAPE_WINDOW, Told, ToldShape, drift_of_shape};
use vaaka_core::judgement::{drift_words, shape_words};
use vaaka_core::quantity::{decimals_for, show_float, show_signed_float};
use vaaka_core::stats::student_t;

use super::adjusted::OverAdjustments;
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
    /// What the instrument does over its adjustments.
    pub over: Option<String>,
    /// What a degree does.
    pub temperature: Option<String>,
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
        over: read.over.as_ref().map(|over| over_words(over, &read.view.stream.unit, here)),
        temperature: read
            .temperature
            .map(|effect| temperature_words(&effect, &read.view.stream.unit)),
        rests_on: if shape.points < SHAPE_WINDOW {
            format!("From the baseline and the {} checks after it; {like}.", shape.points)
        } else {
            format!("From what the baseline left and the newest {} checks; {like}.", shape.points)
        },
    })
}

/// "Over its 3 adjustments it drifts by …".
fn over_words(over: &OverAdjustments, unit: &str, here: &Here) -> String {
    let shape = &over.shape;
    let times = match over.count {
        1 => "its adjustment".to_owned(),
        count => format!("its {count} adjustments"),
    };
    let rising = shape.per_week.is_some_and(|slope| slope.median > 0.0);
    let side = if rising { Side::Above } else { Side::Below };
    match (shape.told, drift_of_shape(side, shape)) {
        (Told::Drift, Some(drift)) => {
            format!("Over {times} it drifts on: {}.", drift_words(&drift, unit, &here.zone))
        }
        (Told::Flat, _) => {
            format!("Over {times} it does not drift: without them it would stand where it stood.")
        }
        (Told::Unclear, _) => {
            format!(
                "Over {times} no drift is told: without them it would stand about where it stood."
            )
        }
        _ => {
            let words = shape_words(&ToldShape::from(shape), unit, &here.zone);
            let mut letters = words.chars();
            let first = letters.next().map(|first| first.to_lowercase().to_string());
            format!("Over {times}: {}{}", first.unwrap_or_default(), letters.as_str())
        }
    }
}

/// "A degree does +0.3 g (95 %: 0.1 to 0.5), …".
fn temperature_words(effect: &TemperatureEffect, unit: &str) -> String {
    let freedom = effect.degrees_of_freedom.unwrap_or(1_000) as f64;
    let half = student_t(0.95, freedom).unwrap_or(2.0) * effect.standard_uncertainty;
    let places = decimals_for(half);
    let show = |value: f64| show_signed_float(value, places);
    let sure = (effect.per_degree - half) * (effect.per_degree + half) > 0.0;
    format!(
        "A degree does {} {unit} (95 %: {} to {}){}, as its baseline knows it from {} to {} °C. It is taken into account when a change is looked for; no value is corrected by it.",
        show(effect.per_degree),
        show(effect.per_degree - half),
        show(effect.per_degree + half),
        if sure { "" } else { ", which is not told from nothing" },
        show_float(effect.span.0, 1),
        show_float(effect.span.1, 1),
    )
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
