//! Everything that needs a database or a browser, in one binary so that it links once.
//! Run by `bin/test`, which makes the cluster.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod audit;
mod backup;
mod browser;
mod client;
mod commands;
mod compute_odd;
mod constraints;
mod demo_world;
mod documents;
mod durability;
mod hostile;
mod links;
mod long_work;
mod migrations;
mod noticed;
mod operations;
mod random_runs;
mod routes;
mod store;
mod support;
mod web_acting;
mod web_at_once;
mod web_bad_input;
mod web_cautions;
mod web_cells;
mod web_chart_edges;
mod web_chart_keep;
mod web_chart_room;
mod web_check;
mod web_countersign;
mod web_everyday;
mod web_everywhere;
mod web_gauge;
mod web_hardness;
mod web_inputs;
mod web_instruments;
mod web_moisture;
mod web_network;
mod web_one_screen;
mod web_paper;
mod web_people;
mod web_photometers;
mod web_plans;
mod web_run;
mod web_second_looks;
mod web_shifts;
mod web_standards;
mod web_standing;
mod web_tables;
mod web_thickness;
mod web_trace;
mod web_way_on;
mod web_whole_round;
