//! What holds of the rules of the job, against published tables, reference libraries, and each other. One program, since
//! each of them is linked and run by itself.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

mod assay;
mod budgets;
mod chart_fold;
mod coating;
mod culprits;
mod detection;
mod estimated_limits;
mod funnel;
mod gauge;
mod hardness;
mod judging_properties;
mod moisture;
mod multirules;
mod network;
mod peaks;
mod photometry;
mod plans;
mod policies;
mod reference_values;
mod reflection;
mod run_lengths;
mod segment_shapes;
mod shape_worlds;
mod shapes;
mod study_properties;
mod ultrasonic;
mod weighing;
mod words;
