//! The frame around every page as it is drawn, and the page that says what is wrong.

use askama::Template;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Response};

use crate::assets;

/// The frame around every page.
#[derive(Debug, Clone)]
pub struct Shell {
    /// Where the static files lie.
    pub assets: String,
    /// auto, light or dark.
    pub look: &'static str,
    /// Which entry of the navigation is current.
    pub section: &'static str,
    /// Who is signed in.
    pub person: Option<ShellPerson>,
    /// "Night shift" and its times.
    pub shift: Option<(String, String)>,
    /// Waits that run in open checks, the next one first.
    pub timers: Vec<Timer>,
    /// Notices that nobody took up yet.
    pub notices: i64,
}

/// A wait as the frame of every page shows it.
#[derive(Debug, Clone)]
pub struct Timer {
    /// Path of its check.
    pub path: String,
    /// Tag of the instrument.
    pub tag: String,
    /// "running", "ready", "bound" or "late".
    pub state: &'static str,
    /// Seconds until that changes.
    pub left: i64,
    /// The same in words.
    pub words: String,
    /// "ready at 22:46", "readings by 22:59".
    pub when: String,
}

/// The person in the frame.
#[derive(Debug, Clone)]
pub struct ShellPerson {
    /// Name.
    pub name: String,
    /// Role.
    pub role: String,
    /// Token for the forms of the frame.
    pub form_token: String,
    /// Id, so that what the browser holds is kept in nobody else's name.
    pub id: i64,
    /// The page, to come back to it after a switch of person.
    pub path: String,
    /// Others who signed in on this device.
    pub neighbours: Vec<String>,
    /// Tables are written for spreadsheets in this browser.
    pub spreadsheets: bool,
}

impl Shell {
    /// The frame for nobody.
    pub fn plain(look: &'static str) -> Self {
        Self {
            assets: assets::base(),
            look,
            section: "",
            person: None,
            shift: None,
            timers: vec![],
            notices: 0,
        }
    }

    /// Token for the forms of the page; empty when nobody is signed in.
    pub fn form_token(&self) -> &str {
        self.person.as_ref().map_or("", |person| person.form_token.as_str())
    }

    /// Whether this person runs checks; what does not work is not drawn.
    pub fn may_check(&self) -> bool {
        self.person
            .as_ref()
            .is_some_and(|person| matches!(person.role.as_str(), "technician" | "lead"))
    }

    /// Whether this person decides as a lead.
    pub fn may_lead(&self) -> bool {
        self.person.as_ref().is_some_and(|person| person.role == "lead")
    }

    /// Whether this person looks after people.
    pub fn may_administer(&self) -> bool {
        self.person.as_ref().is_some_and(|person| person.role == "administrator")
    }
}

/// A page that says what is wrong and what to do.
#[derive(Debug, Template)]
#[template(path = "problem.html")]
struct ProblemPage {
    shell: Shell,
    title: String,
    words: String,
}

/// What is wrong and what to do.
#[derive(Debug, Clone)]
pub struct Problem {
    /// Heading.
    pub title: String,
    /// What to do.
    pub words: String,
}

impl Problem {
    /// The page, with its status.
    pub fn into_response_with(self, status: StatusCode) -> Response {
        let template =
            ProblemPage { shell: Shell::plain("auto"), title: self.title, words: self.words };
        match template.render() {
            Ok(text) => (status, Html(text)).into_response(),
            Err(_) => status.into_response(),
        }
    }
}
