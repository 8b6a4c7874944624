//! Reading.

use std::collections::HashMap;

use super::{JcampError, Spectrum};
use crate::TableError;
use crate::table_in::decode;

/// Most points that are read.
const MOST: usize = 2_000_000;
/// How far the x of a line may lie from where it should, in steps of x: some programs round it.
const X_OFF: f64 = 0.6;

/// Whether a file begins as these files do.
#[must_use]
pub fn is_spectrum_file(bytes: &[u8]) -> bool {
    let Ok(text) = decode(bytes) else { return false };
    let first =
        text.lines().map(str::trim).find(|line| !line.is_empty() && !line.starts_with("$$"));
    first.and_then(|line| line.strip_prefix("##")).is_some_and(|rest| label(rest).0 == "TITLE")
}

/// A label without what does not count in it, and its value.
fn label(text: &str) -> (String, &str) {
    let (name, value) = text.split_once('=').unwrap_or((text, ""));
    let plain = name.chars().filter(|c| !matches!(c, ' ' | '-' | '_' | '/'));
    (plain.flat_map(char::to_uppercase).collect(), value.trim())
}

struct Labels(HashMap<String, (usize, String)>);

impl Labels {
    fn number(&self, name: &'static str) -> Result<Option<f64>, JcampError> {
        let Some((line, text)) = self.0.get(name) else { return Ok(None) };
        match text.parse::<f64>() {
            Ok(value) if value.is_finite() => Ok(Some(value)),
            _ => Err(JcampError::Label { line: *line, label: name.into(), text: text.clone() }),
        }
    }

    fn needed(&self, name: &'static str) -> Result<f64, JcampError> {
        self.number(name)?.ok_or(JcampError::Missing { label: name })
    }

    fn text(&self, name: &str) -> String {
        self.0.get(name).map(|(_, text)| text.clone()).unwrap_or_default()
    }
}

/// Reads the spectrum of a file.
///
/// # Errors
/// [`JcampError`] with the line.
pub fn read_jcamp(bytes: &[u8]) -> Result<Spectrum, JcampError> {
    let text = match decode(bytes) {
        Err(TableError::Empty) => return Err(JcampError::NoData),
        other => other?,
    };
    let mut labels = Labels(HashMap::new());
    let mut data: Option<(bool, Vec<(usize, String)>)> = None;
    let mut inside = false;
    for (line, text) in (1..).zip(text.lines()) {
        let body = text.split("$$").next().unwrap_or_default().trim();
        if body.is_empty() {
            continue;
        }
        let Some(rest) = body.strip_prefix("##") else {
            if let (true, Some((_, lines))) = (inside, data.as_mut()) {
                lines.push((line, body.to_owned()));
            }
            continue;
        };
        inside = false;
        let (name, value) = label(rest);
        match name.as_str() {
            "END" => {}
            "XYDATA" | "XYPOINTS" | "PEAKTABLE" | "DATATABLE" => {
                if data.is_some() {
                    return Err(JcampError::Several { line });
                }
                let form: String = value.chars().filter(|c| !c.is_whitespace()).collect();
                let packed = match (name.as_str(), form.to_uppercase().as_str()) {
                    ("XYDATA", "(X++(Y..Y))") => true,
                    ("XYPOINTS" | "PEAKTABLE", "(XY..XY)") => false,
                    _ => return Err(JcampError::Form { line, form: format!("{name}={form}") }),
                };
                data = Some((packed, vec![]));
                inside = true;
            }
            "NTUPLES" => return Err(JcampError::Form { line, form: name }),
            _ => {
                // Of a label that stands twice the first one holds; a title of a second block is no second spectrum yet.
                labels.0.entry(name).or_insert((line, value.to_owned()));
            }
        }
    }
    let Some((packed, lines)) = data else { return Err(JcampError::NoData) };
    let y_factor = labels.number("YFACTOR")?.unwrap_or(1.0);
    let x_factor = labels.number("XFACTOR")?.unwrap_or(1.0);
    let (x, y) = if packed { over_x(&lines, &labels, x_factor)? } else { pairs(&lines, x_factor)? };
    if let Some(wanted) = labels.number("NPOINTS")?
        && wanted != y.len() as f64
    {
        return Err(JcampError::Count { wanted: wanted.max(0.0) as usize, found: y.len() });
    }
    if y.is_empty() {
        return Err(JcampError::NoData);
    }
    Ok(Spectrum {
        title: labels.text("TITLE"),
        x_unit: labels.text("XUNITS"),
        y_unit: labels.text("YUNITS"),
        x,
        y: y.into_iter().map(|value| value * y_factor).collect(),
    })
}

fn pairs(lines: &[(usize, String)], factor: f64) -> Result<(Vec<f64>, Vec<f64>), JcampError> {
    let (mut x, mut y) = (vec![], vec![]);
    for (line, text) in lines {
        let mut numbers = vec![];
        for word in text
            .split(|c: char| c.is_whitespace() || c == ',' || c == ';')
            .filter(|word| !word.is_empty())
        {
            if word == "?" {
                return Err(JcampError::NotMeasured { line: *line });
            }
            match word.parse::<f64>() {
                Ok(value) if value.is_finite() => numbers.push(value),
                _ => return Err(JcampError::NoNumber { line: *line, text: word.to_owned() }),
            }
        }
        if numbers.len() % 2 == 1 {
            return Err(JcampError::NoNumber { line: *line, text: text.clone() });
        }
        for pair in numbers.chunks_exact(2) {
            x.push(pair[0] * factor);
            y.push(pair[1]);
        }
    }
    Ok((x, y))
}

/// How a number was packed.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Packing {
    Value,
    Difference,
    Again,
}

/// Sign and first digit of a packed number, as it stands for itself.
fn pseudo(c: char) -> Option<(Packing, char, bool)> {
    let of = |first: char, zero: u8| char::from(zero + (c as u8 - first as u8));
    Some(match c {
        '@' => (Packing::Value, '0', false),
        'A'..='I' => (Packing::Value, of('A', b'1'), false),
        'a'..='i' => (Packing::Value, of('a', b'1'), true),
        '%' => (Packing::Difference, '0', false),
        'J'..='R' => (Packing::Difference, of('J', b'1'), false),
        'j'..='r' => (Packing::Difference, of('j', b'1'), true),
        'S'..='Z' => (Packing::Again, of('S', b'1'), false),
        's' => (Packing::Again, '9', false),
        _ => return None,
    })
}

/// The numbers of a line, the x first.
fn numbers_of(line: usize, text: &str) -> Result<Vec<(Packing, f64)>, JcampError> {
    let mut found: Vec<(Packing, f64)> = vec![];
    let mut own: Option<(Packing, String)> = None;
    let mut done = |own: &mut Option<(Packing, String)>| -> Result<(), JcampError> {
        if let Some((packing, text)) = own.take() {
            match text.parse::<f64>() {
                Ok(value) if value.is_finite() => found.push((packing, value)),
                _ => return Err(JcampError::NoNumber { line, text }),
            }
        }
        Ok(())
    };
    let mut before = ' ';
    for c in text.chars() {
        if let Some((packing, digit, negative)) =
            pseudo(c).filter(|_| !is_exponent(c, before, &own))
        {
            done(&mut own)?;
            let sign = if negative { "-" } else { "" };
            own = Some((packing, format!("{sign}{digit}")));
        } else {
            match c {
                ' ' | '\t' | ',' => done(&mut own)?,
                '?' => return Err(JcampError::NotMeasured { line }),
                '+' | '-' if !matches!(before, 'e' | 'E') => {
                    done(&mut own)?;
                    own = Some((Packing::Value, c.to_string()));
                }
                _ => own.get_or_insert((Packing::Value, String::new())).1.push(c),
            }
        }
        before = c;
    }
    done(&mut own)?;
    Ok(found)
}

/// An E behind digits with a sign or digit to come is an exponent in plain numbers: packed files hold whole numbers, and there it is
/// a 5. A number with a decimal point is plain.
fn is_exponent(c: char, before: char, own: &Option<(Packing, String)>) -> bool {
    matches!(c, 'e' | 'E')
        && before.is_ascii_digit()
        && own
            .as_ref()
            .is_some_and(|(packing, text)| *packing == Packing::Value && text.contains('.'))
}

fn over_x(
    lines: &[(usize, String)],
    labels: &Labels,
    x_factor: f64,
) -> Result<(Vec<f64>, Vec<f64>), JcampError> {
    let (first, last) = (labels.needed("FIRSTX")?, labels.needed("LASTX")?);
    let wanted = labels.needed("NPOINTS")?;
    let step = if wanted > 1.0 { (last - first) / (wanted - 1.0) } else { 0.0 };
    let mut y: Vec<f64> = vec![];
    // Whether the line before ended with a difference: then its last value is said once more.
    let mut repeats = false;
    for (line, text) in lines {
        let line = *line;
        let numbers = numbers_of(line, text)?;
        let Some(((_, x), values)) = numbers.split_first() else { continue };
        let place = y.len().saturating_sub(usize::from(repeats));
        let wanted = first + step * place as f64;
        if step != 0.0 && ((x * x_factor - wanted) / step).abs() > X_OFF {
            let (found, wanted) = ((x * x_factor).to_string(), wanted.to_string());
            return Err(JcampError::XCheck { line, found, wanted });
        }
        let mut newest: Option<(Packing, f64)> = None;
        for (nth, (packing, value)) in values.iter().enumerate() {
            match packing {
                Packing::Value if nth == 0 && repeats => {
                    if y.last().is_some_and(|last| (last - value).abs() > 0.5) {
                        return Err(JcampError::YCheck { line });
                    }
                    newest = Some((Packing::Value, *value));
                }
                Packing::Value => {
                    y.push(*value);
                    newest = Some((Packing::Value, *value));
                }
                Packing::Difference => {
                    let Some(last) = y.last().copied() else {
                        return Err(JcampError::NoNumber { line, text: text.clone() });
                    };
                    y.push(last + value);
                    newest = Some((Packing::Difference, *value));
                }
                // What stood before so many times, the first included.
                Packing::Again => {
                    let Some((packing, of)) = newest else {
                        return Err(JcampError::NoNumber { line, text: text.clone() });
                    };
                    if y.len() as f64 + value > MOST as f64 {
                        return Err(JcampError::NoNumber { line, text: text.clone() });
                    }
                    for _ in 1..*value as usize {
                        let last = y.last().copied().unwrap_or_default();
                        y.push(if packing == Packing::Difference { last + of } else { last });
                    }
                }
            }
        }
        repeats = newest.is_some_and(|(packing, _)| packing == Packing::Difference);
    }
    let x = (0..y.len()).map(|place| first + step * place as f64).collect();
    Ok((x, y))
}
