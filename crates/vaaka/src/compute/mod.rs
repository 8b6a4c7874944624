//! Computations of the core as commands: a JSON text in, a JSON text out, for people who live in a
//! shell, and for checking by other means what the application says.

mod charts;
mod coating;
mod design;
mod drawing;
mod forecasts;
mod hardness;
mod history;
mod light;
mod materials;
mod network;
mod photometry;
mod sound;
mod statistics;
mod uncertainty;
mod weighing;
mod words;

use std::io::{ErrorKind, Read, Write};

use schemars::{JsonSchema, schema_for};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};

pub use drawing::{Wanted, draw_table};

use crate::AppError;

/// A computation with a name.
pub trait Compute {
    /// What it is called on the command line.
    const NAME: &'static str;
    /// What it gives, in a line.
    const ABOUT: &'static str;
    /// What it takes.
    type Input: DeserializeOwned + JsonSchema;
    /// What it gives.
    type Output: Serialize + JsonSchema;

    /// Computes.
    ///
    /// # Errors
    /// What is wrong with the input, in a line.
    fn compute(input: Self::Input) -> Result<Self::Output, String>;
}

/// A computation as the command line sees it.
#[derive(Clone, Copy)]
pub struct Computation {
    /// Its name.
    pub name: &'static str,
    /// What it gives.
    pub about: &'static str,
    schema: fn() -> Value,
    run: fn(&str) -> Result<String, String>,
}

impl std::fmt::Debug for Computation {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Computation").field("name", &self.name).finish_non_exhaustive()
    }
}

impl Computation {
    const fn of<C: Compute>() -> Self {
        Self { name: C::NAME, about: C::ABOUT, schema: schema_of::<C>, run: run_text::<C> }
    }

    /// JSON Schema (draft 2020-12) of what it takes and of what it gives.
    #[must_use]
    pub fn schema(&self) -> Value {
        (self.schema)()
    }

    /// Reads the input, computes, and writes the output.
    ///
    /// # Errors
    /// What is wrong with the input, in a line.
    pub fn run(&self, text: &str) -> Result<String, String> {
        (self.run)(text)
    }
}

fn schema_of<C: Compute>() -> Value {
    json!({ "input": schema_for!(C::Input), "output": schema_for!(C::Output) })
}

fn run_text<C: Compute>(text: &str) -> Result<String, String> {
    if text.trim().is_empty() {
        return Err("there is no input: give a JSON object".to_owned());
    }
    if !text.trim_start().starts_with('{') {
        return Err("the input does not fit: it is no JSON object".to_owned());
    }
    let input: C::Input = serde_json::from_str(text)
        .map_err(|cause| format!("the input does not fit: {}", words::plain(&cause)))?;
    let output = serde_json::to_value(C::compute(input)?).map_err(|cause| cause.to_string())?;
    let schema = serde_json::to_value(schema_for!(C::Output)).map_err(|cause| cause.to_string())?;
    if let Some(place) = no_number(&output, &schema, &schema) {
        return Err(format!(
            "the input is too large or too small to compute with: {place} comes to no number"
        ));
    }
    serde_json::to_string_pretty(&output).map_err(|cause| cause.to_string())
}

/// Where a number stands that is none: JSON has no word for it, so that it would be written as nothing.
fn no_number(value: &Value, schema: &Value, root: &Value) -> Option<String> {
    if let Some(name) = schema["$ref"].as_str() {
        let name = name.rsplit('/').next().unwrap_or_default();
        return no_number(value, &root["$defs"][name], root);
    }
    match value {
        Value::Null => (schema["type"] == "number").then(String::new),
        Value::Array(items) => {
            items.iter().find_map(|item| no_number(item, &schema["items"], root))
        }
        Value::Object(fields) => fields.iter().find_map(|(name, field)| {
            let inside = no_number(field, &schema["properties"][name], root)?;
            Some(if inside.is_empty() { name.clone() } else { format!("{name}: {inside}") })
        }),
        _ => None,
    }
}

/// All computations, by what they belong to.
#[must_use]
pub fn all() -> Vec<Computation> {
    let mut all = statistics::all();
    all.extend(charts::all());
    all.extend(design::all());
    all.extend(uncertainty::all());
    all.extend(history::all());
    all.extend(hardness::all());
    all.extend(materials::all());
    all.extend(sound::all());
    all.extend(coating::all());
    all.extend(photometry::all());
    all.extend(light::all());
    all.extend(network::all());
    all.extend(weighing::all());
    all
}

/// What was asked on the command line.
#[derive(Debug, clap::Args)]
pub struct Asked {
    /// Which computation; its input is read from the standard input.
    name: Option<String>,
    /// List the computations.
    #[arg(long)]
    list: bool,
    /// Print the JSON Schema of its input and output, and compute nothing.
    #[arg(long)]
    schema: bool,
}

/// Computes what was asked.
///
/// # Errors
/// [`AppError::Input`] for an unknown name or an input that does not fit.
pub fn run(asked: &Asked) -> Result<(), AppError> {
    let all = all();
    let Some(name) = asked.name.as_deref().filter(|_| !asked.list) else {
        let width = all.iter().map(|one| one.name.len()).max().unwrap_or(0);
        let list: Vec<String> =
            all.iter().map(|one| format!("{:width$}  {}", one.name, one.about)).collect();
        return print(&list.join("\n"));
    };
    let found = all.iter().find(|one| one.name == name).ok_or_else(|| {
        AppError::Input(format!(
            "“{name}” is no computation: “vaaka compute --list” names them all"
        ))
    })?;
    if asked.schema {
        return print(&format!("{:#}", found.schema()));
    }
    let mut text = String::new();
    std::io::stdin()
        .read_to_string(&mut text)
        .map_err(|cause| AppError::Input(format!("the input cannot be read: {cause}")))?;
    let output = found.run(&text).map_err(|words| {
        AppError::Input(format!("{name}: {words} (“vaaka compute {name} --schema” says what fits)"))
    })?;
    print(&output)
}

/// Writes a text and a line's end. A reader that has seen enough (`| head`) is no failure.
fn print(text: &str) -> Result<(), AppError> {
    let mut out = std::io::stdout().lock();
    match writeln!(out, "{text}").and_then(|()| out.flush()) {
        Err(cause) if cause.kind() != ErrorKind::BrokenPipe => {
            Err(AppError::Input(format!("the answer cannot be written: {cause}")))
        }
        _ => Ok(()),
    }
}

/// A number that has to be positive.
fn positive(what: &str, value: f64) -> Result<f64, String> {
    if value.is_finite() && value > 0.0 {
        Ok(value)
    } else {
        Err(format!("{what} is {}: give a number above zero", shown(value)))
    }
}

/// A number in words: one with hundreds of digits by its power of ten.
fn shown(value: f64) -> String {
    vaaka_core::quantity::show_short(value)
}

/// Words of an error of the core.
fn said(error: impl std::fmt::Display) -> String {
    error.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_computation_says_what_it_takes() {
        let all = all();
        assert!(all.len() >= 18, "{}", all.len());
        for one in &all {
            let schema = one.schema();
            for side in ["input", "output"] {
                let of = &schema[side];
                assert!(of["$schema"].as_str().unwrap().contains("2020-12"), "{}", one.name);
                let fields = of["properties"].as_object().unwrap();
                assert!(!fields.is_empty(), "{}", one.name);
                for (name, field) in fields {
                    assert!(field["description"].is_string(), "{} {side} {name}", one.name);
                }
            }
            assert!(
                one.name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-')
            );
            // Bad input is one line, whatever it is.
            for bad in ["", "{", "[]", "{\"colour\": 1}", "\u{feff}{}", "null"] {
                let said = one.run(bad).unwrap_err();
                assert!(!said.contains('\n') && !said.is_empty(), "{}: {said}", one.name);
            }
        }
        let mut names: Vec<&str> = all.iter().map(|one| one.name).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), all.len(), "names are different");
    }
}
