//! The steps: kit and piece in hand, the three standards, then the piece as often as it is reconnected.

use super::keys::{Put, kit_key, piece_key};
use super::{SettingsV1, WORDS, frequencies, scene};
use crate::method::{Input, MethodError, PlanSpec, REVIEW, Step, StepKey};
use crate::quantity::{show_decimal, to_f64};
use crate::trace::{ChannelWanted, TraceWanted};

fn wanted(plan: &PlanSpec, settings: &SettingsV1) -> TraceWanted {
    let all = frequencies(plan);
    let end = |of: Option<&rust_decimal::Decimal>| of.map_or(0.0, |one| to_f64(*one));
    TraceWanted {
        axis: "frequency".into(),
        axis_unit: "GHz".into(),
        channels: vec![ChannelWanted {
            name: "reflection".into(),
            unit: String::new(),
            complex: true,
        }],
        covers: (end(all.first()), end(all.last())),
        fewest: 3,
        largest_step: Some(to_f64(settings.largest_step)),
        impedance: Some(to_f64(settings.models.impedance)),
    }
}

pub fn way(plan: &PlanSpec, settings: &SettingsV1) -> Result<Vec<Step>, MethodError> {
    let wanted = wanted(plan, settings);
    let proof = [piece_key(), StepKey::from(REVIEW)];
    let sweeps: Vec<StepKey> = Put::ALL.map(Put::key).into_iter().chain(proof.clone()).collect();
    let measured: Vec<StepKey> = std::iter::once(kit_key()).chain(sweeps.clone()).collect();
    let around = &settings.around;
    let mut way = around.before(plan, WORDS, &measured, |_| proof.to_vec())?;
    way.push(Step {
        detail: "Inspect every connector before it is mated: clean, no burr, pin depth within limits. Scan or type the tag of the kit.".into(),
        voids: sweeps,
        ..Step::plain(
            &kit_key().0,
            format!("Kit {}", settings.kit),
            "Take the kit and read its tag".into(),
            Input::Setting {
                name: "the tag of the kit".into(),
                expected: settings.kit.clone(),
                also: vec![],
                by_lead: false,
            },
        )
    });
    let step =
        show_decimal(settings.largest_step.normalize(), settings.largest_step.normalize().scale());
    let sweep = |name: String, guard_question: &str| Input::Trace {
        name,
        wanted: wanted.clone(),
        peaks: vec![],
        guard_question: guard_question.to_owned(),
    };
    for put in Put::ALL {
        let word = put.word();
        way.push(Step {
            detail: format!(
                "Hold the body and turn only the nut, to the click of the torque wrench; then hands off. Save the sweep uncorrected: frequency in GHz in steps of {step} or less with real and imaginary part, or as a Touchstone file."
            ),
            within: around.within(),
            scene: Some(scene::put_on(&format!("{word} of {}", settings.kit))),
            // Another standard makes another correction, and the piece has to prove it anew.
            voids: proof.to_vec(),
            ..Step::plain(
                &put.key().0,
                format!("Kit: {word}"),
                format!("Connect the {word} and sweep"),
                sweep(format!("the uncorrected sweep of the {word}"), "Is it the right standard, tightened to the click?"),
            )
        });
    }
    let first = plan.points.first();
    let repeats = first.map_or(1, |point| point.repeats);
    let standard = first.map_or(0, |point| point.standard);
    let tag = plan.standard(standard).map_or("", |one| one.tag.as_str());
    let again = if repeats > 1 { " Disconnect and reconnect it between sweeps." } else { "" };
    way.push(Step {
        detail: format!("It was not used for the calibration: it verifies it. Save the sweep uncorrected, as before.{again}"),
        repeats,
        standard,
        within: around.within(),
        scene: Some(scene::put_on(tag)),
        voids: vec![StepKey::from(REVIEW)],
        ..Step::plain(
            &piece_key().0,
            format!("Verify with {tag}"),
            format!("Connect {tag} and sweep"),
            sweep("the uncorrected sweep".into(), "Is it the verification standard, tightened to the click?"),
        )
    });
    way.extend(around.after());
    Ok(way)
}
