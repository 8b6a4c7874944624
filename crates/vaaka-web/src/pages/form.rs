//! One page for every form of the registers.

use std::collections::BTreeMap;

use askama::Template;
use axum::http::StatusCode;
use axum::response::Response;

use crate::error::WebError;
use crate::fields::{Fields, Group, Look, Table};
use crate::session::SignedIn;
use crate::shell::{Here, Shell, page};

/// What of a long form stands folded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Folds {
    /// Nothing.
    Nothing,
    /// Tables in which nothing stands.
    Empty,
    /// Those, and what already says something, behind a line that tells what.
    Told,
}

/// A form and what stands around it.
#[derive(Debug, Template)]
#[template(path = "form.html")]
pub struct FormPage {
    shell: Shell,
    heading: String,
    intro: String,
    action: String,
    back: String,
    button: &'static str,
    groups: Vec<Group>,
    tables: Vec<Table>,
    tables_after: usize,
    folds: Folds,
    hidden: Vec<(String, String)>,
    upload: bool,
    error: Option<String>,
    second: Option<(&'static str, &'static str)>,
    tried: Option<Tried>,
}

/// What came of trying what stands in a form.
#[derive(Debug, Clone)]
pub struct Tried {
    /// What came, as it came.
    pub came: Option<String>,
    /// What was read out of it, by name.
    pub lines: Vec<(String, String)>,
    /// What that means.
    pub words: String,
}

/// What makes a form.
#[derive(Debug, Clone)]
pub struct Form {
    /// Section of the navigation.
    pub section: &'static str,
    /// Heading.
    pub heading: String,
    /// What it is for; may be empty.
    pub intro: String,
    /// Where it is sent.
    pub action: String,
    /// Where to go back to.
    pub back: String,
    /// Words on its button.
    pub button: &'static str,
    /// Fields.
    pub groups: Vec<Group>,
    /// Tables of fields.
    pub tables: Vec<Table>,
    /// After how many groups the tables stand; after all where it is more than there are.
    pub tables_after: usize,
    /// What of it stands folded.
    pub folds: Folds,
    /// Fields that are not shown.
    pub hidden: Vec<(String, String)>,
    /// A second button, by its name and words.
    pub second: Option<(&'static str, &'static str)>,
    /// What came of trying what stands there.
    pub tried: Option<Tried>,
}

impl Form {
    /// A form of a section with its heading, address and button.
    pub fn new(
        section: &'static str,
        heading: impl Into<String>,
        action: impl Into<String>,
        back: impl Into<String>,
        button: &'static str,
    ) -> Self {
        Self {
            section,
            heading: heading.into(),
            intro: String::new(),
            action: action.into(),
            back: back.into(),
            button,
            groups: vec![],
            tables: vec![],
            tables_after: usize::MAX,
            folds: Folds::Nothing,
            hidden: vec![],
            second: None,
            tried: None,
        }
    }

    /// Draws it with what was typed; 422 when something is wrong with it.
    pub fn draw(
        mut self,
        signed: &SignedIn,
        here: &Here,
        typed: &Fields,
        faults: &BTreeMap<String, String>,
    ) -> Result<Response, WebError> {
        for group in &mut self.groups {
            group.fill(typed, faults);
        }
        for table in &mut self.tables {
            table.fill(typed, faults);
        }
        let known: Vec<&str> = self
            .groups
            .iter()
            .flat_map(|group| &group.fields)
            .chain(self.tables.iter().flat_map(|table| table.rows.iter().flatten()))
            .map(|field| field.name.as_str())
            .chain(self.tables.iter().map(|table| table.name.as_str()))
            .collect();
        // What belongs to no field stands above the form.
        let error = faults
            .iter()
            .find(|(name, _)| !known.contains(&name.as_str()))
            .map(|(_, words)| words.clone());
        let upload = self.groups.iter().flat_map(|g| &g.fields).any(|f| f.look == Look::File);
        let status =
            if faults.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
        let template = FormPage {
            shell: Shell::new(signed, self.section, here),
            heading: self.heading,
            intro: self.intro,
            action: self.action,
            back: self.back,
            button: self.button,
            tables_after: self.tables_after.min(self.groups.len()),
            groups: self.groups,
            tables: self.tables,
            folds: self.folds,
            hidden: self.hidden,
            upload,
            error,
            second: self.second,
            tried: self.tried,
        };
        page(status, &template)
    }
}

/// Words that belong to the whole form.
pub fn whole(words: impl Into<String>) -> BTreeMap<String, String> {
    BTreeMap::from([("*".to_owned(), words.into())])
}
