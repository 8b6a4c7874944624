//! Forms as data: what is asked for, what was typed, what is wrong with it. Every register page
//! is made of these, so that a refused form always comes back as it was typed, with the words at
//! each field.

use std::collections::BTreeMap;

use axum::extract::{FromRequest, Request};
use jiff::civil::Date;
use rust_decimal::Decimal;
use vaaka_core::quantity::TypedDecimal;

use crate::error::WebError;

/// What a form sent, by name; several values of one name are joined by line ends.
#[derive(Debug, Clone, Default)]
pub struct Fields(pub BTreeMap<String, String>);

impl<S: Send + Sync> FromRequest<S> for Fields {
    type Rejection = WebError;

    async fn from_request(request: Request, state: &S) -> Result<Self, WebError> {
        let request = crate::forms::without_nul(request).await?;
        let pairs = axum::extract::Form::<Vec<(String, String)>>::from_request(request, state)
            .await
            .map_err(|cause| WebError::BadForm(cause.to_string()))?;
        let mut fields = BTreeMap::new();
        for (name, value) in pairs.0 {
            fields
                .entry(name)
                .and_modify(|known: &mut String| {
                    known.push('\n');
                    known.push_str(&value);
                })
                .or_insert(value);
        }
        Ok(Self(fields))
    }
}

impl Fields {
    /// What was typed in a field, trimmed; empty where it was not sent.
    pub fn get(&self, name: &str) -> &str {
        self.0.get(name).map_or("", |text| text.trim())
    }

    /// Puts a text into a field, for a form that is filled in from a record.
    #[must_use]
    pub fn with(mut self, name: &str, text: impl Into<String>) -> Self {
        self.0.insert(name.to_owned(), text.into());
        self
    }

    /// What was typed, to be kept and drawn again later; the token is nobody else's.
    pub fn to_json(&self) -> serde_json::Value {
        let kept = self.0.iter().filter(|(name, _)| *name != "form_token");
        kept.map(|(name, text)| (name.clone(), serde_json::Value::from(text.clone()))).collect()
    }

    /// Reads back what [`Self::to_json`] wrote; what is no text is left out.
    pub fn from_json(kept: &serde_json::Value) -> Self {
        let fields = kept.as_object().into_iter().flatten();
        Self(
            fields
                .filter_map(|(name, text)| Some((name.clone(), text.as_str()?.to_owned())))
                .collect(),
        )
    }

    /// The token of the form.
    pub fn token(&self) -> &str {
        self.get("form_token")
    }
}

/// A form among several of a page that was refused: the page comes back with the words at the form and with what
/// was typed in it.
#[derive(Debug, Clone, Default)]
pub struct Refusal {
    form: String,
    field: &'static str,
    typed: Fields,
    words: String,
}

impl Refusal {
    /// The form, the field that the words are about, what was typed, and the words.
    pub fn of(
        form: impl Into<String>,
        field: &'static str,
        typed: Fields,
        words: impl Into<String>,
    ) -> Self {
        Self { form: form.into(), field, typed, words: words.into() }
    }

    /// Whether nothing was refused.
    pub fn is_none(&self) -> bool {
        self.words.is_empty()
    }

    /// The words, if it is this form.
    pub fn at(&self, form: &str) -> Option<&str> {
        (!self.words.is_empty() && self.form == form).then_some(self.words.as_str())
    }

    /// The words, if their form is none of those that the page shows: then they stand at its head.
    pub fn elsewhere(&self, shown: &[&str]) -> Option<String> {
        let lost = !self.words.is_empty() && !shown.contains(&self.form.as_str());
        lost.then(|| self.words.clone())
    }

    /// Whether the words are about this field of this form.
    pub fn is_about(&self, form: &str, field: &str) -> bool {
        self.at(form).is_some() && self.field == field
    }

    /// What was typed in a field of this form; empty if it is another.
    pub fn typed(&self, form: &str, field: &str) -> &str {
        if self.at(form).is_some() { self.typed.get(field) } else { "" }
    }

    /// What was typed, or what usually stands there.
    pub fn typed_or<'a>(&'a self, form: &str, field: &str, usual: &'a str) -> &'a str {
        if self.at(form).is_some() { self.typed.get(field) } else { usual }
    }
}

/// A text without control characters and without those that turn the direction of writing, which
/// could make a record read otherwise than it was typed. Line ends stay.
pub fn clean(text: &str) -> String {
    text.trim()
        .chars()
        .filter(|c| *c == '\n' || !c.is_control())
        .filter(|c| !matches!(*c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}'))
        .collect()
}

/// A sentence on one line. Too long is refused in words and never cut: what somebody signs with their name stays
/// as they typed it.
///
/// # Errors
/// What to say, where it has more than `most` characters.
pub fn sentence(text: &str, most: usize) -> Result<String, String> {
    let text = clean(text).replace('\n', " ");
    not_longer(&text, most).map(|()| text)
}

/// Whether a text has at most `most` characters.
///
/// # Errors
/// What to say, where it has more.
pub fn not_longer(text: &str, most: usize) -> Result<(), String> {
    let long = text.chars().count();
    if long > most {
        return Err(format!("This has {long} characters; {most} are the most."));
    }
    Ok(())
}

/// What to say where a day cannot be read.
pub const DAY_WORDS: &str =
    "Type a day as year-month-day, for example 2027-03-14, or as 14.3.2027.";

/// A day as people type it: year-month-day (ISO 8601), or day.month.year with points. With strokes it could be two days, so
/// that it is none.
pub fn read_day(text: &str) -> Option<Date> {
    let text = text.trim();
    let parts: Vec<&str> = text.split('.').map(str::trim).collect();
    let number = |text: &str| text.parse::<i16>().ok();
    let found = match parts.as_slice() {
        [day, month, year] if year.len() == 4 => {
            let (day, month) =
                (i8::try_from(number(day)?).ok()?, i8::try_from(number(month)?).ok()?);
            Date::new(number(year)?, month, day).ok()
        }
        _ => text.parse::<Date>().ok(),
    };
    found.filter(|day| (1990..=2100).contains(&day.year()))
}

/// Reads fields one by one, and gathers what is wrong with them.
#[derive(Debug)]
pub struct Reader<'a> {
    fields: &'a Fields,
    /// Words by field.
    pub faults: BTreeMap<String, String>,
}

impl<'a> Reader<'a> {
    /// A reader of what was sent.
    pub fn of(fields: &'a Fields) -> Self {
        Self { fields, faults: BTreeMap::new() }
    }

    /// Says what is wrong with a field; the first words stay.
    pub fn fault(&mut self, name: &str, words: impl Into<String>) {
        self.faults.entry(name.to_owned()).or_insert_with(|| words.into());
    }

    /// A text of at most `most` characters; empty is fine.
    pub fn text(&mut self, name: &str, most: usize) -> String {
        let text = clean(self.fields.get(name));
        if let Err(words) = not_longer(&text, most) {
            self.fault(name, words);
        }
        text
    }

    /// A [`sentence`] of at most `most` characters; empty is fine.
    pub fn sentence(&mut self, name: &str, most: usize) -> String {
        self.text(name, most).replace('\n', " ")
    }

    /// A text that must be there.
    pub fn required(&mut self, name: &str, most: usize, words: &str) -> String {
        let text = self.text(name, most);
        if text.is_empty() {
            self.fault(name, words);
        }
        text
    }

    /// A tag: letters, digits, points, dashes and underlines, since it stands in addresses and on
    /// labels.
    pub fn tag(&mut self, name: &str) -> String {
        let tag = self.required(name, 30, "Give it a tag, as it will stand on its label.");
        let fine = tag.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_'))
            && tag.chars().next().is_none_or(|c| c.is_ascii_alphanumeric());
        if !fine {
            self.fault(name, "A tag has letters A to Z, digits, points, dashes and underlines only, and begins with a letter or digit.");
        }
        tag
    }

    /// A number; none where nothing is typed.
    pub fn decimal(&mut self, name: &str) -> Option<Decimal> {
        let typed = self.fields.get(name);
        if typed.is_empty() {
            return None;
        }
        match TypedDecimal::parse(typed) {
            Ok(read) => Some(read.value),
            Err(error) => {
                self.fault(name, error.to_string());
                None
            }
        }
    }

    /// A number that must be there.
    pub fn number(&mut self, name: &str) -> Decimal {
        let found = self.decimal(name);
        if found.is_none() {
            self.fault(name, "Type a number, digits with one comma or point.");
        }
        found.unwrap_or_default()
    }

    /// A whole number between two bounds; none where nothing is typed.
    pub fn whole(&mut self, name: &str, least: i32, most: i32) -> Option<i32> {
        let typed = self.fields.get(name);
        if typed.is_empty() {
            return None;
        }
        let found = typed.parse::<i32>().ok().filter(|found| (least..=most).contains(found));
        if found.is_none() {
            self.fault(name, format!("Type a whole number from {least} to {most}."));
        }
        found
    }

    /// A day; none where nothing is typed.
    pub fn day(&mut self, name: &str) -> Option<Date> {
        let typed = self.fields.get(name);
        if typed.is_empty() {
            return None;
        }
        let found = read_day(typed);
        if found.is_none() {
            self.fault(name, DAY_WORDS);
        }
        found
    }

    /// A day that must be there.
    pub fn required_day(&mut self, name: &str) -> Date {
        let found = self.day(name);
        if found.is_none() {
            self.fault(name, DAY_WORDS);
        }
        found.unwrap_or(jiff::civil::date(2000, 1, 1))
    }

    /// One of several words.
    pub fn choice<T>(&mut self, name: &str, read: impl Fn(&str) -> Option<T>) -> Option<T> {
        let found = read(self.fields.get(name));
        if found.is_none() {
            self.fault(name, "Choose one of these.");
        }
        found
    }

    /// What stands in a field, as it was typed.
    pub fn typed(&self, name: &str) -> &str {
        self.fields.get(name)
    }

    /// Whether a box was ticked.
    pub fn ticked(&self, name: &str) -> bool {
        !self.fields.get(name).is_empty()
    }

    /// Whether all could be read.
    pub fn is_fine(&self) -> bool {
        self.faults.is_empty()
    }
}

/// How a field is drawn.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Look {
    /// A line of text.
    Line,
    /// A number.
    Number,
    /// A day.
    Day,
    /// Several lines.
    Lines,
    /// A list to choose from: word, words.
    Choice(Vec<(String, String)>),
    /// A box to tick.
    Tick,
    /// A password.
    Password,
    /// A picture or document; the form that holds it is sent in parts.
    File,
}

/// A field on a page.
#[derive(Debug, Clone)]
pub struct Field {
    /// Name.
    pub name: String,
    /// Label.
    pub label: String,
    /// How it is drawn.
    pub look: Look,
    /// What stands in it.
    pub value: String,
    /// What to think of.
    pub hint: String,
    /// Words at it.
    pub error: Option<String>,
    /// Most characters.
    pub most: usize,
    /// Another field and its values, one of which it needs to mean anything: "rule=a|b". Without scripts it is always shown.
    pub needs: String,
}

impl Field {
    /// A field.
    pub fn new(name: impl Into<String>, label: impl Into<String>, look: Look) -> Self {
        Self {
            name: name.into(),
            label: label.into(),
            look,
            value: String::new(),
            hint: String::new(),
            error: None,
            most: 200,
            needs: String::new(),
        }
    }

    /// Means something only where another field of the form has one of these values.
    #[must_use]
    pub fn needs(self, other: &str, values: &[&str]) -> Self {
        Self { needs: format!("{other}={}", values.join("|")), ..self }
    }

    /// What it says in short; nothing where it says nothing.
    fn in_short(&self) -> Option<&str> {
        let value = self.value.lines().next().unwrap_or_default().trim();
        match &self.look {
            _ if value.is_empty() => None,
            Look::Tick => Some(&self.label),
            Look::Choice(choices) => {
                choices.iter().find(|(key, _)| *key == value).map(|(_, words)| words.as_str())
            }
            _ => Some(value),
        }
    }

    /// With a hint.
    #[must_use]
    pub fn hint(self, hint: impl Into<String>) -> Self {
        Self { hint: hint.into(), ..self }
    }

    /// Id of the element, without characters that mean something to selectors.
    pub fn id(&self) -> String {
        format!("f-{}", self.name.replace('.', "-"))
    }

    /// Kind of the field as the template asks for it.
    pub fn kind(&self) -> &'static str {
        match self.look {
            Look::Line => "line",
            Look::Number => "number",
            Look::Day => "day",
            Look::Lines => "lines",
            Look::Choice(_) => "choice",
            Look::Tick => "tick",
            Look::Password => "password",
            Look::File => "file",
        }
    }

    /// The list of a choice.
    pub fn choices(&self) -> &[(String, String)] {
        match &self.look {
            Look::Choice(list) => list,
            _ => &[],
        }
    }
}

/// A list of choices from words.
pub fn choices<'a>(list: impl IntoIterator<Item = (&'a str, &'a str)>) -> Look {
    Look::Choice(
        list.into_iter().map(|(word, words)| (word.to_owned(), words.to_owned())).collect(),
    )
}

/// Fields that belong together.
#[derive(Debug, Clone)]
pub struct Group {
    /// Heading; may be empty.
    pub title: String,
    /// Fields.
    pub fields: Vec<Field>,
}

impl Group {
    /// A group.
    pub fn new(title: &str, fields: Vec<Field>) -> Self {
        Self { title: title.to_owned(), fields }
    }

    /// What it says in one line, where it says anything: a long form folds it behind that.
    pub fn in_short(&self) -> String {
        const MOST: usize = 120;
        let parts: Vec<&str> = self.fields.iter().filter_map(Field::in_short).collect();
        let text = parts.join(" · ");
        match text.char_indices().nth(MOST) {
            Some((at, _)) => format!("{} …", text[..at].trim_end()),
            None => text,
        }
    }

    /// Whether it is nothing but boxes to tick: none of them is an answer, too.
    fn only_ticks(&self) -> bool {
        self.fields.iter().all(|field| field.look == Look::Tick)
    }

    /// Whether a long form folds it: what says something stands in its heading, and what is still to be filled in is open.
    pub fn folds(&self) -> bool {
        !self.title.is_empty() && (self.only_ticks() || !self.in_short().is_empty())
    }

    /// Whether something is wrong with one of its fields.
    pub fn any_error(&self) -> bool {
        self.fields.iter().any(|field| field.error.is_some())
    }

    /// Fills in what was typed and the words at each field.
    pub fn fill(&mut self, typed: &Fields, faults: &BTreeMap<String, String>) {
        for field in &mut self.fields {
            field.value = typed.0.get(&field.name).cloned().unwrap_or_default();
            field.error = faults.get(&field.name).cloned();
            if field.look == Look::Password {
                // A password never comes back in a page.
                field.value = String::new();
            }
        }
    }
}

/// Rows of fields under common heads; the rows are numbered in the fields' names: `points.0.nominal`.
#[derive(Debug, Clone)]
pub struct Table {
    /// Heading.
    pub title: String,
    /// Prefix of the names.
    pub name: String,
    /// What each column is.
    pub heads: Vec<String>,
    /// Rows.
    pub rows: Vec<Vec<Field>>,
    /// What each row is; empty where rows are alike and more can be added.
    pub row_titles: Vec<String>,
    /// What to think of; may be empty.
    pub hint: String,
    /// Words that belong to the table as a whole.
    pub error: Option<String>,
    /// Whether more rows were asked for just now.
    pub asked: bool,
}

impl Table {
    /// A table with the rows that were sent and some empty ones; `columns` makes one row.
    pub fn new(
        title: &str,
        name: &str,
        typed: &Fields,
        spare: usize,
        columns: impl Fn() -> Vec<(&'static str, &'static str, Look)>,
    ) -> Self {
        let filled = rows_filled(typed, name);
        let heads = columns().iter().map(|(_, label, _)| (*label).to_owned()).collect();
        let rows = (0..(filled + spare).min(MOST_ROWS))
            .map(|row| {
                columns()
                    .into_iter()
                    .map(|(key, label, look)| {
                        let field = format!("{name}.{row}.{key}");
                        Field::new(field, format!("{label}, row {}", row + 1), look)
                    })
                    .collect()
            })
            .collect();
        let (title, name) = (title.to_owned(), name.to_owned());
        let asked = typed.get("more") == name;
        Self {
            title,
            name,
            heads,
            rows,
            row_titles: vec![],
            hint: String::new(),
            error: None,
            asked,
        }
    }

    /// Whether a long form folds it: nothing stands in it.
    pub fn folds(&self) -> bool {
        self.row_titles.is_empty()
            && !self.asked
            && self.error.is_none()
            && !self.rows.iter().flatten().any(|field| field.error.is_some())
            && self.rows_with_words() == 0
    }

    /// How many rows hold more than what a fresh row begins with.
    fn rows_with_words(&self) -> usize {
        let says = |field: &Field| {
            !matches!(field.look, Look::Choice(_)) && !field.value.trim().is_empty()
        };
        self.rows.iter().filter(|row| row.iter().any(says)).count()
    }

    /// What a row is, where rows are not alike.
    pub fn row_title(&self, index: &usize) -> Option<&String> {
        self.row_titles.get(*index)
    }

    /// Fills in what was typed and the words at each field.
    pub fn fill(&mut self, typed: &Fields, faults: &BTreeMap<String, String>) {
        for field in self.rows.iter_mut().flatten() {
            field.value = typed.0.get(&field.name).cloned().unwrap_or_default();
            field.error = faults.get(&field.name).cloned();
        }
        self.error = faults.get(&self.name).cloned();
    }
}

/// Most rows of a table.
pub const MOST_ROWS: usize = 40;

/// How many rows of a table hold anything: up to the last one that does.
pub fn rows_filled(typed: &Fields, name: &str) -> usize {
    let prefix = format!("{name}.");
    typed
        .0
        .iter()
        .filter(|(_, text)| !text.trim().is_empty())
        .filter_map(|(key, _)| key.strip_prefix(&prefix)?.split('.').next()?.parse::<usize>().ok())
        .max()
        .map_or(0, |last| (last + 1).min(MOST_ROWS))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use rstest::rstest;

    #[rstest]
    #[case("2027-03-14", Some(date(2027, 3, 14)))]
    #[case("14.3.2027", Some(date(2027, 3, 14)))]
    #[case(" 04.03.2027 ", Some(date(2027, 3, 4)))]
    #[case("14. 3. 2027", Some(date(2027, 3, 14)))]
    // With strokes it could be two days; two figures could be two centuries.
    #[case("03/04/2027", None)]
    #[case("14.3.27", None)]
    #[case("31.11.2026", None)]
    #[case("2027-02-29", None)]
    #[case("1889-01-01", None)]
    #[case("14.3", None)]
    #[case("", None)]
    fn days(#[case] text: &str, #[case] day: Option<Date>) {
        assert_eq!(read_day(text), day);
    }

    fn typed(text: &str) -> Fields {
        Fields::default().with("x", text)
    }

    #[rstest]
    #[case("R-02", true)]
    #[case("a.b_c-9", true)]
    #[case("", false)]
    #[case("R 02", false)]
    #[case("<b>", false)]
    #[case("../etc", false)]
    #[case("-R", false)]
    #[case("ÄÖ-1", false)]
    #[case("a/b", false)]
    #[case("1234567890123456789012345678901", false)]
    fn tags_stand_in_addresses_and_on_labels(#[case] text: &str, #[case] fine: bool) {
        let fields = typed(text);
        let mut reader = Reader::of(&fields);
        reader.tag("x");
        assert_eq!(reader.is_fine(), fine, "{:?}", reader.faults);
    }

    #[rstest]
    #[case("12,50", true)]
    #[case("", true)]
    #[case("1e5", false)]
    #[case("twelve", false)]
    fn numbers_are_read_exactly_or_refused(#[case] text: &str, #[case] fine: bool) {
        let fields = typed(text);
        let mut reader = Reader::of(&fields);
        reader.decimal("x");
        assert_eq!(reader.is_fine(), fine);
    }

    #[rstest]
    #[case("2027-02-28", true)]
    #[case("2027-02-29", false)]
    #[case("28.2.2027", true)]
    #[case("28/2/2027", false)]
    #[case("0001-01-01", false)]
    #[case("", false)]
    fn days_exist(#[case] text: &str, #[case] fine: bool) {
        let fields = typed(text);
        let mut reader = Reader::of(&fields);
        reader.required_day("x");
        assert_eq!(reader.is_fine(), fine);
    }

    #[test]
    fn texts_lose_what_would_make_them_read_otherwise() {
        assert_eq!(clean(" a\u{202e}b\u{0}c\n d "), "abc\n d");
        let fields = typed(&"ä".repeat(41));
        let mut reader = Reader::of(&fields);
        reader.text("x", 40);
        assert!(reader.faults["x"].contains("41 characters"));
        assert_eq!(Reader::of(&typed(&"ä".repeat(40))).text("x", 40).chars().count(), 40);
    }

    #[test]
    fn a_password_never_comes_back() {
        let mut group = Group::new("", vec![Field::new("x", "Password", Look::Password)]);
        group.fill(&typed("secret"), &BTreeMap::new());
        assert_eq!(group.fields[0].value, "");
    }
}
