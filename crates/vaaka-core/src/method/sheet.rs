//! The settings of a method as a sheet that a person fills in: what is asked for, and how typed
//! texts become stored settings and back. Pages draw any sheet; no page knows a family.

use std::collections::BTreeMap;

use super::limit::{LimitBand, read_bands};
use serde_json::{Map, Value, json};

use crate::quantity::TypedDecimal;

/// Texts by field name, as a form sends them. Rows are numbered: `waits.0.what`.
pub type SheetTexts = BTreeMap<String, String>;

/// A sheet.
#[derive(Debug, Clone, PartialEq)]
pub struct Sheet {
    /// Word of the stored schema.
    pub schema: &'static str,
    /// Fields under their headings.
    pub groups: Vec<SheetGroup>,
}

/// Fields that belong together.
#[derive(Debug, Clone, PartialEq)]
pub struct SheetGroup {
    /// Heading.
    pub title: &'static str,
    /// Fields.
    pub fields: Vec<SheetField>,
}

/// A field.
#[derive(Debug, Clone, PartialEq)]
pub struct SheetField {
    /// Key in the stored settings.
    pub key: &'static str,
    /// Name for people.
    pub label: &'static str,
    /// What to think of; may be empty.
    pub hint: &'static str,
    /// What is asked for.
    pub kind: SheetKind,
}

/// What a field asks for; a closed set.
#[derive(Debug, Clone, PartialEq)]
pub enum SheetKind {
    /// A number; empty is allowed where optional.
    Decimal {
        /// Whether it may be left empty.
        optional: bool,
    },
    /// A whole number of seconds, typed in minutes or seconds ("10 min", "30 s").
    Seconds {
        /// Whether it may be left empty.
        optional: bool,
    },
    /// One of several words.
    Choice(Vec<(&'static str, &'static str)>),
    /// Yes or no.
    Tick,
    /// A line of text.
    Text,
    /// Several sentences, one a line.
    Lines,
    /// A limit of an error, in one of its forms.
    Limit {
        /// Whether there may be none.
        optional: bool,
    },
    /// A limit of a condition, given or computed from the configuration; may be absent.
    Bound,
    /// Rows of fields.
    Rows(Vec<SheetField>),
}

/// Words and keys of the forms of a limit, in the order in which a list offers them.
pub const LIMIT_FORMS: [(&str, &str); 5] = [
    ("absolute", "± a value"),
    ("percent_of_reading", "± % of the reading"),
    ("percent_of_range", "± % of the range"),
    ("larger_of", "± a value or % of the reading, the larger"),
    ("configured", "± a value + so much for each …"),
];

/// Which sides of a limit hold.
pub const LIMIT_SIDES: [(&str, &str); 3] =
    [("both", "both sides"), ("upper", "upper side only"), ("lower", "lower side only")];

/// What a computed value is computed from; anything else names a configuration value.
pub const COMPUTED_FROM: [(&str, &str); 3] = [
    ("resolution", "step of the display"),
    ("span", "span of the range"),
    ("highest_point", "highest point"),
];

const MOST_ROWS: usize = 40;

type Faults = Vec<(String, String)>;

impl Sheet {
    /// Reads typed texts into settings, ready to be stored.
    ///
    /// # Errors
    /// The name of each field that cannot be read, with words for it.
    pub fn read(&self, texts: &SheetTexts) -> Result<Value, Vec<(String, String)>> {
        let mut faults = Vec::new();
        let mut settings = Map::new();
        settings.insert("schema".into(), json!(self.schema));
        for field in self.groups.iter().flat_map(|group| &group.fields) {
            settings.insert(field.key.into(), field.read(field.key, texts, &mut faults));
        }
        if faults.is_empty() { Ok(Value::Object(settings)) } else { Err(faults) }
    }

    /// The texts that stand for stored settings; what is absent stays empty.
    #[must_use]
    pub fn show(&self, settings: &Value) -> SheetTexts {
        let mut texts = SheetTexts::new();
        for field in self.groups.iter().flat_map(|group| &group.fields) {
            field.show(field.key, settings.get(field.key).unwrap_or(&Value::Null), &mut texts);
        }
        texts
    }
}

/// How many rows of a field were sent.
#[must_use]
pub fn rows_sent(name: &str, texts: &SheetTexts) -> usize {
    let prefix = format!("{name}.");
    texts
        .keys()
        .filter_map(|key| key.strip_prefix(&prefix)?.split('.').next()?.parse::<usize>().ok())
        .max()
        .map_or(0, |last| (last + 1).min(MOST_ROWS))
}

fn text<'a>(texts: &'a SheetTexts, name: &str) -> &'a str {
    texts.get(name).map_or("", |text| text.trim())
}

fn number(name: &str, texts: &SheetTexts, optional: bool, faults: &mut Faults) -> Value {
    let typed = text(texts, name);
    if typed.is_empty() && optional {
        return Value::Null;
    }
    match TypedDecimal::parse(typed) {
        Ok(read) => json!(read.value),
        Err(error) => {
            faults.push((name.to_owned(), error.to_string().replace("the display shows", "it is")));
            Value::Null
        }
    }
}

/// "10 min", "30 s", "1.5 h", or seconds alone.
fn seconds(name: &str, texts: &SheetTexts, optional: bool, faults: &mut Faults) -> Value {
    let typed = text(texts, name).to_lowercase();
    if typed.is_empty() {
        if optional {
            return Value::Null;
        }
        faults.push((name.to_owned(), "Give a time, for example “10 min” or “30 s”.".into()));
        return Value::Null;
    }
    let split = typed.find(|c: char| c.is_alphabetic()).unwrap_or(typed.len());
    let (number, unit) = typed.split_at(split);
    let factor = match unit.trim() {
        "" | "s" | "sec" => Some(1),
        "min" | "m" => Some(60),
        "h" => Some(3_600),
        _ => None,
    };
    let value = TypedDecimal::parse(number).ok().map(|read| read.value);
    let whole = factor.zip(value).and_then(|(factor, value)| {
        let all = value * rust_decimal::Decimal::from(factor);
        u32::try_from(all.round()).ok().filter(|seconds| *seconds <= 30 * 86_400)
    });
    match whole {
        Some(whole) => json!(whole),
        None => {
            let words =
                "This is no time from 0 s to 30 days. Type it like “10 min”, “30 s” or “1.5 h”.";
            faults.push((name.to_owned(), words.into()));
            Value::Null
        }
    }
}

fn show_seconds(value: &Value) -> String {
    match value.as_u64() {
        None => String::new(),
        Some(seconds) if seconds > 0 && seconds % 3_600 == 0 => format!("{} h", seconds / 3_600),
        Some(seconds) if seconds > 0 && seconds % 60 == 0 => format!("{} min", seconds / 60),
        Some(seconds) => format!("{seconds} s"),
    }
}

fn computed_from(name: &str, texts: &SheetTexts, faults: &mut Faults) -> Value {
    match text(texts, name) {
        "" => {
            faults.push((name.to_owned(), "Say what it is computed from.".into()));
            Value::Null
        }
        known if COMPUTED_FROM.iter().any(|(word, _)| *word == known) => json!(known),
        other => json!({ "configuration": other }),
    }
}

fn show_from(value: &Value) -> String {
    match value {
        Value::String(word) => word.clone(),
        other => shown(other.get("configuration").unwrap_or(&Value::Null)),
    }
}

fn shown(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

impl SheetField {
    /// A field of its own.
    #[must_use]
    pub fn new(key: &'static str, label: &'static str, kind: SheetKind) -> Self {
        Self { key, label, hint: "", kind }
    }

    /// The same with a hint.
    #[must_use]
    pub fn hint(self, hint: &'static str) -> Self {
        Self { hint, ..self }
    }

    fn read(&self, name: &str, texts: &SheetTexts, faults: &mut Faults) -> Value {
        match &self.kind {
            SheetKind::Decimal { optional } => number(name, texts, *optional, faults),
            SheetKind::Seconds { optional } => seconds(name, texts, *optional, faults),
            SheetKind::Choice(words) => {
                let typed = text(texts, name);
                if words.iter().any(|(word, _)| *word == typed) {
                    return json!(typed);
                }
                faults.push((name.to_owned(), "Choose one of these.".into()));
                Value::Null
            }
            SheetKind::Tick => json!(!text(texts, name).is_empty()),
            SheetKind::Text => json!(text(texts, name)),
            SheetKind::Lines => {
                let lines: Vec<&str> = text(texts, name)
                    .lines()
                    .map(str::trim)
                    .filter(|line| !line.is_empty())
                    .collect();
                if lines.len() > MOST_ROWS {
                    faults.push((
                        name.to_owned(),
                        format!("At most {MOST_ROWS} lines; nobody reads more."),
                    ));
                }
                json!(lines)
            }
            SheetKind::Limit { optional } => read_limit(name, texts, *optional, faults),
            SheetKind::Bound => read_bound(name, texts, faults),
            SheetKind::Rows(fields) => {
                let rows = (0..rows_sent(name, texts))
                    .filter(|row| {
                        // A row of which nothing is filled in is no row.
                        let prefix = format!("{name}.{row}.");
                        texts.iter().any(|(key, text)| {
                            key.starts_with(&prefix)
                                && !key.ends_with(".kind")
                                && !text.trim().is_empty()
                        })
                    })
                    .map(|row| {
                        let mut map = Map::new();
                        for field in fields {
                            let name = format!("{name}.{row}.{}", field.key);
                            map.insert(field.key.into(), field.read(&name, texts, faults));
                        }
                        Value::Object(map)
                    })
                    .collect();
                Value::Array(rows)
            }
        }
    }

    fn show(&self, name: &str, value: &Value, texts: &mut SheetTexts) {
        let mut put = |suffix: &str, text: String| texts.insert(format!("{name}{suffix}"), text);
        match &self.kind {
            SheetKind::Decimal { .. } | SheetKind::Choice(_) | SheetKind::Text => {
                put("", shown(value));
            }
            SheetKind::Seconds { .. } => {
                put("", show_seconds(value));
            }
            SheetKind::Tick => {
                put("", if value.as_bool() == Some(true) { "on".into() } else { String::new() });
            }
            SheetKind::Lines => {
                let lines = value.as_array().map(Vec::as_slice).unwrap_or_default();
                put("", lines.iter().map(shown).collect::<Vec<_>>().join("\n"));
            }
            SheetKind::Limit { .. } => {
                for (key, suffix) in [
                    ("form", ".form"),
                    ("half_width", ".half_width"),
                    ("percent", ".percent"),
                    ("per", ".per"),
                    ("side", ".side"),
                    ("target", ".target"),
                ] {
                    put(suffix, shown(value.get(key).unwrap_or(&Value::Null)));
                }
                put(".of", show_from(value.get("of").unwrap_or(&Value::Null)));
                let bands = value.get("bands").cloned().unwrap_or_default();
                let bands: Vec<LimitBand> = serde_json::from_value(bands).unwrap_or_default();
                let bands: Vec<String> = bands.iter().map(ToString::to_string).collect();
                put(".bands", bands.join("; "));
            }
            SheetKind::Bound => match value {
                Value::Object(map) => {
                    put("", shown(map.get("base").unwrap_or(&Value::Null)));
                    put(".per", shown(map.get("per").unwrap_or(&Value::Null)));
                    put(".of", show_from(map.get("of").unwrap_or(&Value::Null)));
                }
                plain => {
                    put("", shown(plain));
                }
            },
            SheetKind::Rows(fields) => {
                for (row, value) in value.as_array().into_iter().flatten().enumerate() {
                    for field in fields {
                        let name = format!("{name}.{row}.{}", field.key);
                        field.show(&name, value.get(field.key).unwrap_or(&Value::Null), texts);
                    }
                }
            }
        }
    }
}

fn read_limit(name: &str, texts: &SheetTexts, optional: bool, faults: &mut Faults) -> Value {
    let part = |suffix: &str| format!("{name}.{suffix}");
    let form = text(texts, &part("form"));
    if form.is_empty() {
        if !optional {
            faults.push((part("form"), "Choose the form of the limit.".into()));
        }
        return Value::Null;
    }
    let (value, percent) = match form {
        "absolute" | "configured" => (true, false),
        "percent_of_reading" | "percent_of_range" => (false, true),
        "larger_of" => (true, true),
        _ => {
            faults.push((part("form"), "Choose one of these forms.".into()));
            return Value::Null;
        }
    };
    let mut limit = Map::new();
    limit.insert("form".into(), json!(form));
    if value {
        limit.insert("half_width".into(), number(&part("half_width"), texts, false, faults));
    }
    if percent {
        limit.insert("percent".into(), number(&part("percent"), texts, false, faults));
    }
    if form == "configured" {
        limit.insert("per".into(), number(&part("per"), texts, false, faults));
        limit.insert("of".into(), computed_from(&part("of"), texts, faults));
    }
    let side = text(texts, &part("side"));
    let side = if side.is_empty() { "both" } else { side };
    if LIMIT_SIDES.iter().any(|(word, _)| *word == side) {
        limit.insert("side".into(), json!(side));
    } else {
        faults.push((part("side"), "Choose one of these.".into()));
    }
    let target = number(&part("target"), texts, true, faults);
    if !target.is_null() {
        limit.insert("target".into(), target);
    }
    match read_bands(text(texts, &part("bands"))) {
        Ok(bands) if bands.is_empty() => {}
        Ok(bands) => {
            limit.insert("bands".into(), json!(bands));
        }
        Err(words) => faults.push((part("bands"), words)),
    }
    Value::Object(limit)
}

fn read_bound(name: &str, texts: &SheetTexts, faults: &mut Faults) -> Value {
    let (per, of) = (format!("{name}.per"), format!("{name}.of"));
    if text(texts, &per).is_empty() && text(texts, &of).is_empty() {
        return number(name, texts, true, faults);
    }
    json!({
        "base": number(name, texts, false, faults),
        "per": number(&per, texts, false, faults),
        "of": computed_from(&of, texts, faults),
    })
}
