//! The block from the side: its steps, and the probe on one of them.

use crate::method::{PlanSpec, Primitive, Scene, SpotState};
use crate::quantity::to_f64;

/// Left edge, floor, width, and greatest height of the block.
const BLOCK: (f64, f64, f64, f64) = (60.0, 196.0, 580.0, 96.0);
/// Least height of a step, so that a thin one is seen.
const LEAST: f64 = 20.0;

/// The probe on the step at a place of the plan.
pub fn on_step(plan: &PlanSpec, here: usize, words: &str, proves: bool) -> Scene {
    let (left, floor, width, highest) = BLOCK;
    let mut steps: Vec<usize> = (0..plan.points.len()).collect();
    let thickness = |index: usize| to_f64(plan.points[index].nominal);
    steps.sort_by(|a, b| thickness(*a).total_cmp(&thickness(*b)));
    steps.dedup_by(|a, b| thickness(*a) == thickness(*b));
    let most = steps.iter().map(|index| thickness(*index)).fold(0.0, f64::max);
    let each = width / steps.len().max(1) as f64;
    let mut primitives = vec![];
    for (place, index) in steps.iter().enumerate() {
        // By the root, so that one of two millimetres is told from one of three beside one of fifty.
        let share = if most > 0.0 { (thickness(*index) / most).max(0.0).sqrt() } else { 1.0 };
        let height = LEAST + (highest - LEAST) * share;
        let x = left + each * place as f64;
        primitives.push(Primitive::Plate {
            x,
            y: floor - height,
            width: each,
            height,
            corner: 0.0,
        });
        let middle = x + each / 2.0;
        if thickness(*index) == thickness(here) {
            let top = floor - height;
            primitives.push(Primitive::Plate {
                x: middle - 20.0,
                y: top - 44.0,
                width: 40.0,
                height: 40.0,
                corner: 5.0,
            });
            primitives
                .push(Primitive::Line { from: (middle, top - 44.0), to: (middle, top - 74.0) });
            // There and back.
            primitives
                .push(Primitive::Line { from: (middle - 7.0, top), to: (middle, floor - 2.0) });
            primitives
                .push(Primitive::Line { from: (middle, floor - 2.0), to: (middle + 7.0, top) });
            primitives.push(Primitive::Heading {
                x: middle + if place * 2 < steps.len() { 90.0 } else { -90.0 },
                y: top - 52.0,
                text: words.to_owned(),
            });
        } else {
            primitives.push(Primitive::Spot {
                x: middle,
                y: floor - height - 10.0,
                radius: 5.0,
                state: SpotState::Idle,
                label: String::new(),
            });
        }
    }
    let proof = if proves { " It was not used to set the gauge: this step proves it." } else { "" };
    Scene {
        description: format!(
            "The step block from the side, thin to thick; the probe stands on the step of {words}, a drop of couplant under it.{proof}"
        ),
        primitives,
    }
}
