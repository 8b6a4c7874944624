//! Several values on one screen, each kept as an entry of its own: settings and conditions, typed or filled in from a list.

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Redirect, Response};
use uuid::Uuid;
use vaaka_core::method::{Input, RunState, Step, listed};
use vaaka_store::entries;
use vaaka_store::ids::CheckId;

use super::ended::not_open;
use super::keep::{Outcome, keep_entry};
use super::sent::EntryForm;
use crate::auth::Address;
use crate::draw::draw_scene;
use crate::error::WebError;
use crate::forms::{PathId, Posted, new_key};
use crate::open_run::{OpenRun, load};
use crate::pages::check::input::{LocalRules, shown};
use crate::pages::check::step::Typed;
use crate::pages::people::sign_in;
use crate::paths::encode;
use crate::session::SignedIn;
use crate::shell::page;
use crate::state::AppState;

/// Longest list that is read, in characters.
const MOST_LIST: usize = 60_000;
/// What an address may carry of a list, where somebody was signed out.
const MOST_IN_ADDRESS: usize = 1_500;

/// What stands on the screen.
#[derive(Debug)]
pub struct ValuesView {
    /// What is to be done, one sentence.
    pub heading: &'static str,
    /// Where to put what, where it is read.
    pub scene: String,
    /// Whether a list may fill them in: what is read off a display is typed.
    pub may_fill: bool,
    /// The rows.
    pub rows: Vec<ValueRow>,
    /// How many are not kept yet.
    pub open: usize,
    /// The list as it was pasted.
    pub list: String,
    /// What is said of it.
    pub list_words: Option<String>,
}

/// One value.
#[derive(Debug)]
pub struct ValueRow {
    /// Key of its step.
    pub key: String,
    /// What it is called.
    pub title: String,
    /// Kind of its input.
    pub kind: &'static str,
    /// What is wanted, in words.
    pub asks: String,
    /// What to do about a condition.
    pub detail: String,
    /// Words to choose from.
    pub choices: Vec<String>,
    /// Symbol of its unit.
    pub unit: String,
    /// What the browser asks by itself.
    pub rules: LocalRules,
    /// Name of the entry.
    pub form_key: Uuid,
    /// As it was kept, and the entry.
    pub kept: Option<(String, i64)>,
    /// What was typed.
    pub text: String,
    /// Words at it.
    pub error: Option<String>,
    /// The value that the guard asks about.
    pub asked: Option<String>,
    /// Whether the work goes on here.
    pub first: bool,
}

impl ValuesView {
    /// The values that stand on one screen with a step; none where it stands alone.
    pub fn of(run: &OpenRun, step: &Step, typed: &Typed) -> Option<Self> {
        let steps = RunState::together(&run.steps, &step.key);
        if steps.is_empty() {
            return None;
        }
        let mut rows: Vec<ValueRow> =
            steps.iter().map(|step| ValueRow::of(run, step, typed)).collect();
        let wrong = rows.iter().position(|row| row.error.is_some());
        let begin =
            wrong.or_else(|| rows.iter().position(|row| row.kept.is_none() && row.text.is_empty()));
        let begin = begin.or_else(|| rows.iter().position(|row| row.kept.is_none()));
        if let Some(row) = begin.and_then(|place| rows.get_mut(place)) {
            row.first = true;
        }
        let reads = steps.iter().all(|step| step.input.measures());
        let scene = steps.iter().find(|step| reads && step.scene.is_some());
        let conditions =
            steps.iter().filter(|step| matches!(step.input, Input::Condition { .. })).count();
        Some(Self {
            heading: match conditions {
                _ if reads => "What does it show?",
                0 => "What is it set to?",
                all if all == steps.len() => "What are the conditions?",
                _ => "What is it set to, and what are the conditions?",
            },
            scene: scene.and_then(|step| step.scene.as_ref()).map(draw_scene).unwrap_or_default(),
            may_fill: !reads,
            open: rows.iter().filter(|row| row.kept.is_none()).count(),
            rows,
            list: typed.list.clone(),
            list_words: typed.list_words.clone(),
        })
    }
}

impl ValueRow {
    fn of(run: &OpenRun, step: &Step, typed: &Typed) -> Self {
        let look = shown(step);
        let standing = run.entries.standing.iter().find(|one| one.reading.step_key == step.key.0);
        let (text, error) = typed.values.get(&step.key.0).cloned().unwrap_or_default();
        Self {
            key: step.key.0.clone(),
            title: step.title.clone(),
            kind: step.input.kind(),
            asks: match &step.input {
                // Its neighbours say already that it is read on the instrument.
                Input::Setting { .. } => look.asks.replacen("what it shows; it ", "", 1).replacen(
                    &look.rules.wanted,
                    &look.rules.wanted.replace(' ', "\u{a0}"),
                    1,
                ),
                _ => look.asks,
            },
            detail: match &step.input {
                Input::Condition { .. } => step.detail.clone(),
                Input::Reading { unit, resolution, .. } => {
                    format!("in steps of {resolution} {unit}")
                }
                _ => String::new(),
            },
            choices: look.choices,
            unit: step.input.unit().unwrap_or_default().to_owned(),
            rules: look.rules,
            form_key: new_key(),
            kept: standing.map(|one| {
                let (typed, unit) = (&one.reading.typed, step.input.unit().unwrap_or_default());
                // The unit may have been typed along.
                let whole = match typed.ends_with(unit) {
                    true => typed.clone(),
                    false => format!("{typed} {unit}"),
                };
                (whole, one.reading.id.0)
            }),
            text,
            error,
            asked: typed.asked_there.get(&step.key.0).cloned(),
            first: false,
        }
    }
}

/// What was sent: the rows in their order, and whether they are to be filled in from a list.
#[derive(Debug, Default)]
struct SentValues {
    form_token: String,
    rows: Vec<EntryForm>,
    list: String,
    fill: bool,
}

impl SentValues {
    /// A row begins with the step that it is for; key and text follow it.
    fn of(pairs: Vec<(String, String)>) -> Self {
        let mut sent = Self::default();
        for (name, value) in pairs {
            match (name.as_str(), sent.rows.last_mut()) {
                ("form_token", _) => sent.form_token = value,
                ("list", _) => sent.list = value.chars().take(MOST_LIST).collect(),
                ("fill", _) => sent.fill = true,
                ("step", _) => {
                    // Two rows without names of their own would be taken for one entry.
                    let row = EntryForm {
                        step: value,
                        repeat: 1,
                        key: new_key(),
                        ..EntryForm::default()
                    };
                    sent.rows.push(row);
                }
                ("key", Some(row)) => row.key = value.parse().unwrap_or(row.key),
                ("typed", Some(row)) => row.typed = value,
                ("confirm_far", Some(row)) => row.confirm_far = Some(value),
                _ => {}
            }
        }
        for row in &mut sent.rows {
            row.form_token.clone_from(&sent.form_token);
        }
        sent
    }

    fn as_typed(&self) -> Typed {
        let values = self.rows.iter().map(|row| (row.step.clone(), (row.typed.clone(), None)));
        Typed { values: values.collect(), list: self.list.clone(), ..Typed::default() }
    }
}

/// Fills in what a list says of the values that are not kept yet. What was typed stays where the list says nothing.
pub(super) fn fill_in(run: &OpenRun, list: &str, typed: &mut Typed) {
    let Some((step, _)) = run.run.next(&run.steps) else { return };
    let open: Vec<&Step> = RunState::together(&run.steps, &step.key)
        .iter()
        .filter(|step| run.run.of_step(&step.key).next().is_none())
        .collect();
    let names: Vec<&str> = open.iter().map(|step| step.title.as_str()).collect();
    let found = listed(list, &names);
    let mut missing = Vec::new();
    for (step, value) in open.iter().zip(found.values) {
        match value {
            Some(value) => {
                typed.values.insert(step.key.0.clone(), (as_offered(step, value), None));
            }
            None => missing.push(step.title.as_str()),
        }
    }
    let filled = open.len() - missing.len();
    let mut words = match filled {
        0 => "Nothing could be filled in.".to_owned(),
        all if all == open.len() => {
            "All are filled in, and nothing is kept yet. Compare them with the instrument, then keep them.".to_owned()
        }
        some => format!(
            "{some} of {} are filled in, and nothing is kept yet. Compare them with the instrument, and type the others.",
            open.len()
        ),
    };
    if !found.twice.is_empty() {
        words.push_str(&format!(" Told twice and differently: {}.", found.twice.join(", ")));
    }
    missing.retain(|name| !found.twice.iter().any(|twice| twice == name));
    if !missing.is_empty() {
        words.push_str(&format!(" Not in the list: {}.", missing.join(", ")));
    }
    match found.others + found.unread {
        0 => {}
        1 => words.push_str(" One line is of something else."),
        more => words.push_str(&format!(" {more} lines are of something else.")),
    }
    typed.list = list.to_owned();
    typed.list_words = Some(words);
}

/// The words about the whole screen with everything that was typed on it: the page that follows may show no field for it.
fn with_all_typed(notice: &str, view: &OpenRun, rows: &[EntryForm]) -> String {
    let words = notice.split(" What you typed").next().unwrap_or(notice);
    let title =
        |key: &str| view.steps.iter().find(|step| step.key.0 == key).map(|step| &step.title);
    let typed = rows.iter().filter(|row| !row.typed.trim().is_empty());
    let typed: Vec<String> = typed
        .filter_map(|row| Some(format!("{} {}", title(&row.step)?, row.typed.trim())))
        .collect();
    match typed.is_empty() {
        true => words.to_owned(),
        false => format!("{words} What you typed: {}.", typed.join("; ")),
    }
}

/// One of the words that are offered, where the list writes it in one of its ways.
fn as_offered(step: &Step, value: String) -> String {
    let Input::Choice { words, .. } = &step.input else { return value };
    let plain = |text: &str| text.split_whitespace().collect::<String>().to_lowercase();
    let same = |way: &String| plain(way) == plain(&value);
    let found = words.iter().find(|one| same(&one.word) || one.also.iter().any(same));
    found.map_or(value, |one| one.word.clone())
}

/// Keeps every value that is right as an entry of its own, and shows the others again, each with its words; or fills them in
/// from a list and keeps nothing.
pub async fn keep(
    signed: Option<SignedIn>,
    State(state): State<AppState>,
    headers: HeaderMap,
    address: Address,
    PathId(id): PathId,
    Posted(pairs): Posted<Vec<(String, String)>>,
) -> Result<Response, WebError> {
    let sent = SentValues::of(pairs);
    let Some(signed) = signed else {
        let typed = sent.rows.iter().filter(|row| !row.typed.trim().is_empty());
        let lines: Vec<String> =
            typed.map(|row| format!("{}={}", row.step, row.typed.replace('\n', " "))).collect();
        let list = encode(&lines.join("\n"));
        let (next, notice) = match list.len() {
            1..=MOST_IN_ADDRESS => (
                format!("/checks/{id}?values={list}"),
                "You were signed out, so nothing of this is kept yet. Sign in and it is there again.",
            ),
            _ => (
                format!("/checks/{id}"),
                "You were signed out, so nothing of this is kept. Sign in, and type it again.",
            ),
        };
        return sign_in::ask_again(&state, &headers, next, notice.into());
    };
    signed.check_form(&sent.form_token)?;
    signed.may_check()?;
    let mut typed = sent.as_typed();
    let mut next = format!("/checks/{id}");
    let mut all_kept = !sent.rows.is_empty();
    if !sent.fill {
        // What is left empty is left open; where all of it is, each says what it asks for.
        let typed_any = sent.rows.iter().any(|row| !row.typed.trim().is_empty());
        for row in sent.rows.iter().filter(|row| !typed_any || !row.typed.trim().is_empty()) {
            match keep_entry(&signed, (&state, &address), id, row).await? {
                (Outcome::Goto(path), _) => next = path,
                (Outcome::Moved(path, _), None) if path.ends_with("/verdict") => {
                    return Ok(Redirect::to(&path).into_response());
                }
                (Outcome::Moved(_, words), _) => {
                    all_kept = false;
                    typed.notice = Some(words);
                }
                (Outcome::Again(refused), _) => {
                    all_kept = false;
                    let words = [refused.error, refused.added_error, refused.reason_error];
                    let words = words.into_iter().flatten().next();
                    typed.notice = refused.notice.or(typed.notice);
                    if refused.may_confirm {
                        typed.asked_there.insert(row.step.clone(), refused.asked);
                    }
                    typed.values.insert(row.step.clone(), (row.typed.clone(), words));
                }
            }
        }
        if all_kept {
            return Ok(Redirect::to(&next).into_response());
        }
    }
    let mut connection = state.store.connection().await?;
    let now = entries::check_now(&connection, CheckId(id)).await?;
    if let Some(next) = not_open(&now.check)? {
        return Ok(Redirect::to(&next).into_response());
    }
    let view = load(&state, &mut connection, now).await?;
    if let Some(notice) = &mut typed.notice {
        *notice = with_all_typed(notice, &view, &sent.rows);
    }
    let status = match sent.fill {
        true => {
            fill_in(&view, &sent.list, &mut typed);
            StatusCode::OK
        }
        false => StatusCode::UNPROCESSABLE_ENTITY,
    };
    page(status, &view.page(&state, &mut connection, &signed, None, typed).await?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_core::method::ChoiceWord;

    fn sent(pairs: &[(&str, &str)]) -> SentValues {
        SentValues::of(
            pairs.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect(),
        )
    }

    #[test]
    fn a_row_begins_with_its_step() {
        let key = Uuid::from_u128(7);
        let found = sent(&[
            ("typed", "of no row"),
            ("form_token", "t"),
            ("step", "setting-1"),
            ("key", &key.to_string()),
            ("typed", "2 GHz"),
            ("step", "setting-2"),
            ("key", "no key"),
            ("typed", ""),
            ("list", "a = b"),
        ]);
        let rows: Vec<(&str, Uuid, &str)> =
            found.rows.iter().map(|row| (row.step.as_str(), row.key, row.typed.as_str())).collect();
        assert_eq!(rows[0], ("setting-1", key, "2 GHz"));
        assert_eq!((rows.len(), rows[1].0, rows[1].2), (2, "setting-2", ""));
        assert!(rows[1].1 != key && !rows[1].1.is_nil(), "a name of its own: {rows:?}");
        assert!(found.rows.iter().all(|row| row.form_token == "t" && row.repeat == 1));
        assert_eq!((found.list.as_str(), found.fill), ("a = b", false));
        assert_eq!(found.as_typed().values["setting-1"], ("2 GHz".to_owned(), None));
    }

    #[test]
    fn a_long_list_is_cut_and_a_press_of_its_button_is_seen() {
        let found = sent(&[("list", &"é".repeat(MOST_LIST + 5)), ("fill", "yes")]);
        assert_eq!((found.list.chars().count(), found.fill), (MOST_LIST, true));
    }

    /// A list may write a word in any of its ways; what is offered stands in the field.
    #[test]
    fn a_word_is_filled_in_as_it_is_offered() {
        let word = |word: &str, also: &[&str]| ChoiceWord {
            word: word.into(),
            also: also.iter().map(|one| (*one).to_owned()).collect(),
        };
        let words = vec![word("linear", &["LIN"]), word("logarithmic", &["log"])];
        let choice = Input::Choice { name: "the sweep".into(), words };
        let step = Step::plain("setting-1", "Sweep".into(), String::new(), choice);
        for (typed, offered) in [(" L i n ", "linear"), ("LOG", "logarithmic"), ("list", "list")] {
            assert_eq!(as_offered(&step, typed.to_owned()), offered);
        }
        let text = Step::plain("a", "A".into(), String::new(), Input::Text { name: "a".into() });
        assert_eq!(as_offered(&text, "LIN".into()), "LIN");
    }
}
