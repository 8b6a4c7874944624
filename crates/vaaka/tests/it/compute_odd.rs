//! Every computation fed with what its own schema allows and nobody means: a word of one line or numbers that are
//! numbers, in a reasonable time, and never a panic.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Map, Value, json};
use vaaka::compute::{Computation, all};

/// Inputs of each computation.
const TRIES: u64 = 100;
/// No single input may keep somebody at a shell waiting longer, on the slowest machine that runs the tests.
const PATIENCE: Duration = Duration::from_secs(60);

const NUMBERS: [f64; 18] = [
    0.0,
    -0.0,
    1.0,
    -1.0,
    0.5,
    2.0,
    3.0,
    10.0,
    0.05,
    0.95,
    0.999_999_999,
    1e-320,
    1e-300,
    1e9,
    1e300,
    -1e300,
    f64::MAX,
    f64::MIN,
];
const WHOLE: [i64; 12] = [0, 1, 2, 3, 5, 8, 20, 100, 1_000, -1, i32::MAX as i64, i64::MAX];
const WORDS: [&str; 12] = [
    "",
    " ",
    "g",
    "kg",
    "mm",
    "1,5",
    "1e5",
    "NaN",
    "2026-11-24T10:00:00Z",
    "2026-11-24",
    "both",
    "\u{202e}x",
];
const RULES: [&str; 7] =
    ["beyond_limits", "ewma", "cusum", "beyond3", "two_of_three", "nine_on_a_side", "six_trending"];

fn pick<'a, T>(rng: &mut ChaCha8Rng, from: &'a [T]) -> &'a T {
    &from[rng.random_range(0..from.len())]
}

/// What a schema stands for, where it only names another.
fn resolved<'a>(schema: &'a Value, root: &'a Value) -> &'a Value {
    match schema["$ref"].as_str() {
        Some(name) => {
            let name = name.rsplit('/').next().unwrap();
            resolved(&root["$defs"][name], root)
        }
        None => schema,
    }
}

fn choices(schema: &Value) -> Option<&Vec<Value>> {
    schema["anyOf"].as_array().or(schema["oneOf"].as_array())
}

/// Something that a schema allows; something mild may even be computed.
fn made(schema: &Value, root: &Value, mild: bool, rng: &mut ChaCha8Rng) -> Value {
    let schema = resolved(schema, root);
    if let Some(one) = schema.get("const") {
        return one.clone();
    }
    if let Some(any) = schema["enum"].as_array() {
        return pick(rng, any).clone();
    }
    if let Some(any) = choices(schema) {
        return made(pick(rng, any), root, mild, rng);
    }
    let kind = match &schema["type"] {
        Value::Array(any) => pick(rng, any).as_str().unwrap_or("null").to_owned(),
        one => one.as_str().unwrap_or("null").to_owned(),
    };
    match kind.as_str() {
        "object" => {
            let mut fields = Map::new();
            let required = schema["required"].as_array().cloned().unwrap_or_default();
            for (name, field) in schema["properties"].as_object().into_iter().flatten() {
                let must = required.iter().any(|one| one == name);
                if must || rng.random_bool(0.5) {
                    fields.insert(name.clone(), made(field, root, mild, rng));
                }
            }
            Value::Object(fields)
        }
        "array" => {
            if mild && schema["items"]["type"] == "string" {
                // Rules by their words, or moments that follow each other.
                return if rng.random_bool(0.5) {
                    RULES.iter().filter(|_| rng.random_bool(0.4)).map(|rule| json!(rule)).collect()
                } else {
                    (1..=25).map(|day| json!(format!("2026-10-{day:02}T06:10:00Z"))).collect()
                };
            }
            if let Some(parts) = schema["prefixItems"].as_array() {
                return parts.iter().map(|part| made(part, root, mild, rng)).collect();
            }
            let lengths: &[usize] = if mild { &[2, 8, 25, 25] } else { &[0, 1, 2, 3, 8, 25, 60] };
            let many = *pick(rng, lengths);
            // Often all alike, or of a narrow kind: series that are nearly fine come further.
            let alike = rng
                .random_bool(if mild { 0.0 } else { 0.3 })
                .then(|| made(&schema["items"], root, mild, rng));
            let narrow =
                rng.random_bool(0.5) && resolved(&schema["items"], root)["type"] == "number";
            (0..many)
                .map(|_| match &alike {
                    Some(one) => one.clone(),
                    None if narrow => json!(f64::from(rng.random_range(-40_i32..40)) / 8.0),
                    None => made(&schema["items"], root, mild, rng),
                })
                .collect()
        }
        "number" => {
            let number = if mild {
                f64::from(rng.random_range(5_i32..400)) / 100.0
            } else if rng.random_bool(0.5) {
                f64::from(rng.random_range(-100_i32..400)) / 100.0
            } else {
                *pick(rng, &NUMBERS)
            };
            json!(number)
        }
        "integer" => json!(pick(rng, if mild { &WHOLE[1..8] } else { &WHOLE })),
        "string" => json!(pick(rng, if mild { &WORDS[2..6] } else { &WORDS })),
        "boolean" => json!(rng.random_bool(0.5)),
        _ => Value::Null,
    }
}

/// Where an answer is not what its schema says. A number that is none is written as null.
fn misfit(value: &Value, schema: &Value, root: &Value, at: &str) -> Option<String> {
    let schema = resolved(schema, root);
    if let Some(any) = choices(schema) {
        let fits = any.iter().any(|one| misfit(value, one, root, at).is_none());
        return (!fits).then(|| format!("{at} is {value}"));
    }
    let allows = |kind: &str| match &schema["type"] {
        Value::Array(any) => any.iter().any(|one| one == kind),
        Value::String(one) => one == kind,
        _ => true,
    };
    let fine = match value {
        Value::Null => allows("null"),
        Value::Bool(_) => allows("boolean"),
        Value::Number(n) => allows("number") || (n.is_i64() || n.is_u64()) && allows("integer"),
        Value::String(_) => allows("string"),
        Value::Array(_) => allows("array"),
        Value::Object(_) => allows("object"),
    };
    if !fine {
        return Some(format!("{at} is {value}"));
    }
    match value {
        Value::Array(items) if !schema["items"].is_null() => {
            items.iter().enumerate().find_map(|(place, item)| {
                misfit(item, &schema["items"], root, &format!("{at}.{place}"))
            })
        }
        Value::Object(fields) => fields.iter().find_map(|(name, field)| {
            let of = schema["properties"].get(name)?;
            misfit(field, of, root, &format!("{at}.{name}"))
        }),
        _ => None,
    }
}

/// Feeds one computation; every fault with the input that shows it.
fn fed(one: Computation, place: u64) -> Vec<String> {
    let schema = one.schema();
    let mut faults = Vec::new();
    let (mut answers, mut refusals) = (0, 0);
    for seed in 0..TRIES {
        let mut rng = ChaCha8Rng::seed_from_u64(1_000 * place + seed);
        // What only fits together shows an example, and an example is answered.
        let example = &schema["input"]["examples"][0];
        let input = match seed == 0 && example.is_object() {
            true => example.to_string(),
            false => made(&schema["input"], &schema["input"], seed % 2 == 0, &mut rng).to_string(),
        };
        let short: String = input.chars().take(700).collect();
        let (send, receive) = channel();
        let text = input.clone();
        std::thread::spawn(move || {
            let _ = send.send(catch_unwind(AssertUnwindSafe(|| one.run(&text))));
        });
        match receive.recv_timeout(PATIENCE) {
            Ok(Ok(Ok(output))) => {
                answers += 1;
                let output: Value = serde_json::from_str(&output).unwrap();
                if let Some(words) = misfit(&output, &schema["output"], &schema["output"], "it") {
                    faults.push(format!("{}: {words} of {short}", one.name));
                }
            }
            Ok(Ok(Err(words))) => {
                refusals += 1;
                if words.contains('\n') || words.trim().is_empty() || words.len() > 400 {
                    faults.push(format!("{}: says “{words}” of {short}", one.name));
                }
            }
            Ok(Err(_)) => faults.push(format!("{} panics at {short}", one.name)),
            Err(RecvTimeoutError::Timeout) => {
                faults.push(format!("{} does not end with {short}", one.name));
                return faults;
            }
            Err(RecvTimeoutError::Disconnected) => faults.push(format!("{} died", one.name)),
        }
    }
    if answers == 0 || refusals == 0 {
        faults.push(format!("{}: {answers} answers, {refusals} refusals", one.name));
    }
    faults
}

#[test]
fn odd_input_gets_words_or_numbers() {
    let faults: Vec<String> =
        all().into_iter().zip(1..).flat_map(|(one, place)| fed(one, place)).collect();
    assert!(faults.is_empty(), "{} faults: {faults:#?}", faults.len());
}
