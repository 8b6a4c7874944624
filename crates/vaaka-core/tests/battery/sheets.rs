//! Random texts for any sheet, and what holds of them.

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rstest::rstest;
use serde_json::Value;
use vaaka_core::method::{
    COMPUTED_FROM, LIMIT_FORMS, LIMIT_SIDES, Sheet, SheetField, SheetKind, SheetTexts, all,
};

/// Words that somebody could type, with the marks that break naive readers.
const WORDS: [&str; 10] = [
    "°C = C; °F = F = Fahrenheit",
    "low; high",
    "slow",
    "the filter",
    "2,50",
    "“quoted”",
    "a < b & c > d",
    "µm and °C",
    "ein Wort mit ß",
    "1;2;3",
];

fn one_of<'a>(words: &[&'a str], random: &mut ChaCha8Rng) -> &'a str {
    words[random.random_range(0..words.len())]
}

fn amount(random: &mut ChaCha8Rng) -> String {
    let value = f64::from(random.random_range(1..400)) / 100.0;
    // Either decimal mark is read.
    let text = format!("{value:.2}");
    if random.random_bool(0.5) { text.replace('.', ",") } else { text }
}

fn computed_from(random: &mut ChaCha8Rng) -> String {
    one_of(&COMPUTED_FROM.map(|(word, _)| word), random).to_owned()
}

/// Types something into a field, as a person could who reads its hint.
fn fill(field: &SheetField, name: &str, texts: &mut SheetTexts, random: &mut ChaCha8Rng) {
    let left_empty = random.random_bool(0.3);
    let mut put = |suffix: &str, text: String| {
        texts.insert(format!("{name}{suffix}"), text);
    };
    match &field.kind {
        SheetKind::Decimal { optional } => {
            put("", if *optional && left_empty { String::new() } else { amount(random) });
        }
        SheetKind::Seconds { optional } => {
            let times = ["0 s", "30 s", "45", "10 min", "1,5 h"];
            let text = if *optional && left_empty { "" } else { one_of(&times, random) };
            put("", text.to_owned());
        }
        SheetKind::Choice(words) => {
            let words: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
            put("", one_of(&words, random).to_owned());
        }
        SheetKind::Tick => put("", if left_empty { String::new() } else { "on".to_owned() }),
        SheetKind::Text => put("", one_of(&WORDS, random).to_owned()),
        SheetKind::Lines => {
            let lines: Vec<&str> =
                (0..random.random_range(0..4)).map(|_| one_of(&WORDS, random)).collect();
            put("", lines.join("\n"));
        }
        SheetKind::Limit { optional } => {
            let form = match *optional && left_empty {
                true => "",
                // A configured limit needs a configuration that a random instrument may lack.
                false => one_of(&LIMIT_FORMS.map(|(word, _)| word), random),
            };
            put(".form", form.to_owned());
            put(".half_width", amount(random));
            put(".percent", amount(random));
            put(".per", amount(random));
            put(".of", computed_from(random));
            put(".side", one_of(&LIMIT_SIDES.map(|(word, _)| word), random).to_owned());
        }
        SheetKind::Bound => match random.random_range(0..3) {
            0 => put("", String::new()),
            1 => put("", amount(random)),
            _ => {
                put("", amount(random));
                put(".per", amount(random));
                put(".of", computed_from(random));
            }
        },
        SheetKind::Rows(fields) => {
            for row in 0..random.random_range(0..3) {
                for field in fields {
                    fill(field, &format!("{name}.{row}.{}", field.key), texts, random);
                }
            }
        }
    }
}

fn fields(sheet: &Sheet) -> impl Iterator<Item = &SheetField> {
    sheet.groups.iter().flat_map(|group| &group.fields)
}

/// Texts for every field of a sheet.
pub fn texts(sheet: &Sheet, random: &mut ChaCha8Rng) -> SheetTexts {
    let mut texts = SheetTexts::new();
    for field in fields(sheet) {
        fill(field, field.key, &mut texts, random);
    }
    texts
}

/// What is stored is shown, and what is shown reads back to the same: else opening a plan and
/// saving it would change it.
#[test]
fn what_a_sheet_shows_reads_back_to_what_is_stored() {
    for method in all() {
        let sheet = method.sheet();
        for seed in 0..400 {
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let typed = texts(&sheet, &mut random);
            let stored = sheet.read(&typed).unwrap_or_else(|faults| {
                panic!("{} {seed}: {faults:?}\n{typed:#?}", method.key());
            });
            let shown = sheet.show(&stored);
            assert_eq!(sheet.read(&shown).unwrap(), stored, "{} {seed}", method.key());
            assert_eq!(sheet.show(&sheet.read(&shown).unwrap()), shown, "{} {seed}", method.key());
        }
    }
}

/// Keys are what is stored: two fields of one would overwrite each other, and a page draws a label
/// for each.
#[test]
fn fields_have_keys_of_their_own_and_labels() {
    fn walk(fields: &[&SheetField], method: &str) {
        let mut keys: Vec<&str> = fields.iter().map(|field| field.key).collect();
        keys.sort_unstable();
        keys.dedup();
        assert_eq!(keys.len(), fields.len(), "{method}: {keys:?}");
        for field in fields {
            assert!(!field.label.is_empty(), "{method}: {}", field.key);
            assert!(field.key != "schema" && !field.key.contains('.'), "{method}: {}", field.key);
            if let SheetKind::Rows(inner) = &field.kind {
                walk(&inner.iter().collect::<Vec<_>>(), method);
            }
            if let SheetKind::Choice(words) = &field.kind {
                assert!(words.len() > 1, "{method}: {} is no choice", field.key);
            }
        }
    }
    for method in all() {
        let sheet = method.sheet();
        walk(&fields(&sheet).collect::<Vec<_>>(), method.key());
        assert!(
            sheet.groups.iter().all(|group| !group.title.is_empty() && !group.fields.is_empty())
        );
    }
}

/// Every field by itself: what is typed wrongly is named at that field and nowhere else, and in
/// words that say what to do.
#[rstest]
#[case("")]
#[case("a while")]
#[case("<script>alert(1)</script>")]
#[case("1..2")]
#[case("−")]
#[case("1e400")]
#[case("99999999999999999999999999999999999999")]
#[case("\u{0}")]
fn odd_texts_are_named_at_their_field_or_taken_as_they_are(#[case] odd: &str) {
    for method in all() {
        let sheet = method.sheet();
        let mut random = ChaCha8Rng::seed_from_u64(7);
        let sound = texts(&sheet, &mut random);
        for name in sound.keys() {
            let mut typed = sound.clone();
            typed.insert(name.clone(), odd.to_owned());
            match sheet.read(&typed) {
                Ok(stored) => {
                    // Taken as a text or left out as optional: then it shows again as that.
                    let shown = sheet.show(&stored);
                    assert_eq!(sheet.read(&shown).unwrap(), stored, "{}: {name}", method.key());
                }
                Err(faults) => {
                    let root = |name: &str| name.split('.').next().unwrap().to_owned();
                    for (place, words) in &faults {
                        assert_eq!(root(place), root(name), "{}: {words}", method.key());
                        assert!(words.ends_with('.') && words.len() > 10, "{words}");
                    }
                }
            }
        }
    }
}

/// A stored form that another version of the program wrote, or that was cut, is refused in words
/// and never taken for something else.
#[test]
fn settings_that_are_not_of_the_method_are_refused_in_words() {
    for method in all() {
        let mut random = ChaCha8Rng::seed_from_u64(3);
        let plan = super::plans::plan(method, &mut random);
        let Value::Object(sound) = plan.settings.clone() else { panic!("settings are an object") };
        let mut broken: Vec<Value> =
            vec![Value::Null, Value::String("x".into()), serde_json::json!({})];
        for key in sound.keys() {
            let mut without = sound.clone();
            without.remove(key);
            let mut other = sound.clone();
            other.insert(key.clone(), serde_json::json!({ "of": ["another", "shape"] }));
            broken.push(Value::Object(other));
            if key == "schema" {
                broken.push(Value::Object(without));
            }
        }
        let mut newer = sound.clone();
        newer.insert("schema".into(), serde_json::json!(format!("{}-99", method.key())));
        broken.push(Value::Object(newer));
        for settings in broken {
            let plan = vaaka_core::method::PlanSpec { settings, ..plan.clone() };
            let error = method.way(&plan).expect_err(&plan.settings.to_string());
            assert!(error.to_string().contains("do not fit the method"), "{error}");
        }
    }
}
