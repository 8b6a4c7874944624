//! Reading.

use num_complex::Complex;

use super::write::NumberFormat;
use super::{MOST_PORTS, Touchstone, TouchstoneError};
use crate::TableError;
use crate::table_in::decode;

/// What the option line says.
#[derive(Debug, Clone)]
struct Options {
    scale: f64,
    format: NumberFormat,
    references: Vec<f64>,
}

/// How a matrix stands in the file.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Matrix {
    Full,
    Lower,
    Upper,
}

/// What version 2 says in its keywords.
#[derive(Debug, Clone)]
struct Keywords {
    ports: Option<usize>,
    first_column_first: Option<bool>,
    count: Option<usize>,
    references: Option<Vec<f64>>,
    matrix: Matrix,
}

/// A number with its line, and whether it begins that line.
type Number = (f64, usize, bool);

/// Whether a file begins as these files do: behind comments with a line of options, or with its version.
#[must_use]
pub fn is_touchstone(bytes: &[u8]) -> bool {
    let Ok(text) = decode(bytes) else { return false };
    let first = text.lines().map(str::trim).find(|line| !line.is_empty() && !line.starts_with('!'));
    first.is_some_and(|line| {
        line.to_lowercase().starts_with("[version]")
            || line.strip_prefix('#').is_some_and(|rest| {
                let known =
                    ["hz", "khz", "mhz", "ghz", "s", "y", "z", "h", "g", "ri", "ma", "db", "r"];
                let words: Vec<String> = rest.split_whitespace().map(str::to_lowercase).collect();
                words.iter().filter(|word| known.contains(&word.as_str())).count() >= 2
            })
    })
}

/// Reads a file. `ports` is what its name says (.s2p); files of version 1 without that are asked by their lines.
///
/// # Errors
/// [`TouchstoneError`] with the line.
pub fn read_touchstone(bytes: &[u8], ports: Option<usize>) -> Result<Touchstone, TouchstoneError> {
    let text = match decode(bytes) {
        Err(TableError::Empty) => return Err(TouchstoneError::NoNumbers),
        other => other?,
    };
    let mut comments = vec![];
    let mut options: Option<Options> = None;
    let mut version_2 = false;
    let mut keywords = Keywords {
        ports: None,
        first_column_first: None,
        count: None,
        references: None,
        matrix: Matrix::Full,
    };
    let mut numbers: Vec<Number> = vec![];
    let (mut noise, mut passing_over, mut information, mut more_references) =
        (false, false, false, 0);
    for (line, text) in (1..).zip(text.lines()) {
        let (body, comment) = match text.split_once('!') {
            Some((body, comment)) => (body.trim(), Some(comment.trim())),
            None => (text.trim(), None),
        };
        comments.extend(comment.filter(|words| !words.is_empty()).map(str::to_owned));
        if body.is_empty() {
            continue;
        }
        if let Some(rest) = body.strip_prefix('[') {
            let (key, value) = rest.split_once(']').unwrap_or((rest, ""));
            more_references = 0;
            let key = key.trim().to_lowercase();
            // What somebody notes in between has keywords of its own.
            if information && key != "end information" {
                continue;
            }
            match key.as_str() {
                "begin information" => information = true,
                "end information" => information = false,
                "noise data" => (noise, passing_over) = (true, true),
                "end" => break,
                "network data" => passing_over = false,
                "version" => version_2 = value.trim().starts_with('2'),
                key => more_references = keyword(&mut keywords, key, value.trim(), line)?,
            }
            continue;
        }
        if information || passing_over {
            continue;
        }
        if let Some(rest) = body.strip_prefix('#') {
            // Of several lines of options the first one holds.
            if options.is_none() {
                options = Some(option_line(rest, line)?);
            }
            continue;
        }
        if more_references > 0 {
            let own = impedances(body, line)?;
            more_references = more_references.saturating_sub(own.len());
            keywords.references.get_or_insert_default().extend(own);
            continue;
        }
        if options.is_none() {
            return Err(TouchstoneError::NoOptions { line });
        }
        for (place, word) in body.split_whitespace().enumerate() {
            let value = number(word, line)?;
            numbers.push((value, line, place == 0));
        }
    }
    let Some(options) = options.filter(|_| !numbers.is_empty()) else {
        return Err(TouchstoneError::NoNumbers);
    };
    if version_2 {
        let network = of_version_2(&numbers, &options, &keywords, comments)?;
        return Ok(Touchstone { noise, ..network });
    }
    let ports = match ports {
        Some(ports) => ports,
        None => ports_by_lines(&numbers),
    };
    let count = 1 + 2 * ports * ports;
    let found = gathered(&numbers, ports, count, true)?;
    let noise = noise || found.1;
    let parameters = found
        .0
        .iter()
        .map(|row| ordered(&complex(&row.1[1..], options.format), ports, ports == 2))
        .collect();
    let frequencies: Vec<f64> = found.0.iter().map(|row| row.1[0] * options.scale).collect();
    let references = spread(&options.references, ports, 1)?;
    Ok(Touchstone { ports, frequencies, references, parameters, comments, noise })
}

fn number(word: &str, line: usize) -> Result<f64, TouchstoneError> {
    // Some write the exponent as Fortran does.
    let plain = word.replace(['d', 'D'], "e");
    match plain.parse::<f64>() {
        Ok(value) if value.is_finite() => Ok(value),
        _ => Err(TouchstoneError::NoNumber { line, text: word.to_owned() }),
    }
}

fn impedances(text: &str, line: usize) -> Result<Vec<f64>, TouchstoneError> {
    let all: Vec<f64> =
        text.split_whitespace().map(|word| number(word, line)).collect::<Result<_, _>>()?;
    if all.iter().all(|one| *one > 0.0) {
        Ok(all)
    } else {
        Err(TouchstoneError::Reference { line })
    }
}

fn option_line(text: &str, line: usize) -> Result<Options, TouchstoneError> {
    let mut options =
        Options { scale: 1e9, format: NumberFormat::MagnitudeAngle, references: vec![50.0] };
    let mut words = text.split_whitespace().peekable();
    while let Some(word) = words.next() {
        match word.to_lowercase().as_str() {
            "hz" => options.scale = 1.0,
            "khz" => options.scale = 1e3,
            "mhz" => options.scale = 1e6,
            "ghz" => options.scale = 1e9,
            "s" => {}
            "ri" => options.format = NumberFormat::RealImaginary,
            "ma" => options.format = NumberFormat::MagnitudeAngle,
            "db" => options.format = NumberFormat::DecibelAngle,
            "r" => {
                // Version 1.1 has one for all ports; many programs write one for each.
                options.references = vec![];
                while let Some(one) = words.next_if(|word| word.parse::<f64>().is_ok()) {
                    options.references.extend(impedances(one, line)?);
                }
                if options.references.is_empty() {
                    return Err(TouchstoneError::Reference { line });
                }
            }
            "y" | "z" | "h" | "g" => {
                return Err(TouchstoneError::Parameters { line, text: word.to_uppercase() });
            }
            _ => return Err(TouchstoneError::Option { line, text: word.to_owned() }),
        }
    }
    Ok(options)
}

/// A keyword of version 2 with its value; how many impedances may still follow on the next lines.
fn keyword(
    keywords: &mut Keywords,
    key: &str,
    value: &str,
    line: usize,
) -> Result<usize, TouchstoneError> {
    let odd =
        || TouchstoneError::Keyword { line, text: format!("[{key}] {value}").trim().to_owned() };
    match key {
        "number of ports" => keywords.ports = Some(value.parse().map_err(|_| odd())?),
        "two-port data order" | "two-port order" => {
            keywords.first_column_first = Some(match value {
                "21_12" => true,
                "12_21" => false,
                _ => return Err(odd()),
            });
        }
        "number of frequencies" => keywords.count = Some(value.parse().map_err(|_| odd())?),
        "number of noise frequencies" => {}
        "reference" => {
            let own = impedances(value, line)?;
            let left = keywords.ports.unwrap_or(MOST_PORTS).saturating_sub(own.len());
            keywords.references = Some(own);
            return Ok(left);
        }
        "matrix format" => {
            keywords.matrix = match value.to_lowercase().as_str() {
                "full" => Matrix::Full,
                "lower" => Matrix::Lower,
                "upper" => Matrix::Upper,
                _ => return Err(odd()),
            };
        }
        _ => return Err(odd()),
    }
    Ok(0)
}

/// By the lines of the first frequency: three numbers are one port, nine two; more lines of an even count are rows of a matrix.
fn ports_by_lines(numbers: &[Number]) -> usize {
    let mut lines: Vec<usize> = vec![];
    for (_, _, begins) in numbers {
        if *begins {
            lines.push(0);
        }
        if let Some(last) = lines.last_mut() {
            *last += 1;
        }
    }
    match lines.first().copied().unwrap_or(0) {
        3 => 1,
        // A row of four ports or more has nine with the frequency, and an even count on the next line.
        9 if lines.get(1).is_none_or(|next| next % 2 == 1) => 2,
        _ => {
            let rest = lines.iter().skip(1).take_while(|count| *count % 2 == 0).sum::<usize>();
            let whole = (lines.first().copied().unwrap_or(1) - 1 + rest) / 2;
            (1..=MOST_PORTS).find(|ports| ports * ports >= whole).unwrap_or(MOST_PORTS)
        }
    }
}

type Rows = Vec<(usize, Vec<f64>)>;

/// Numbers by frequency. Where noise data may follow, a frequency that is not above the one before begins them.
fn gathered(
    numbers: &[Number],
    ports: usize,
    count: usize,
    noise_may_follow: bool,
) -> Result<(Rows, bool), TouchstoneError> {
    if !(1..=MOST_PORTS).contains(&ports) {
        return Err(TouchstoneError::Ports { found: ports });
    }
    let mut rows: Rows = vec![];
    let mut at = 0;
    while at < numbers.len() {
        let (frequency, line, begins) = numbers[at];
        if let Some((_, before)) = rows.last() {
            if frequency <= before[0] {
                // Noise has five numbers a line (version 1, two ports).
                let width =
                    numbers[at + 1..].iter().take_while(|(_, _, begins)| !begins).count() + 1;
                if noise_may_follow && ports == 2 && begins && width == 5 {
                    return Ok((rows, true));
                }
                return Err(TouchstoneError::Falls { line });
            }
        } else if frequency < 0.0 {
            return Err(TouchstoneError::Negative { line });
        }
        let end = (at + count).min(numbers.len());
        let row = &numbers[at..end];
        // A frequency begins a line; what is left over of the one before does not.
        let next_begins = numbers.get(end).is_none_or(|(_, _, begins)| *begins);
        if row.len() < count || !begins || !next_begins {
            let found = numbers[at..].iter().take_while(|one| one.1 == line).count();
            let found = if row.len() < count { row.len() } else { found };
            return Err(TouchstoneError::Uneven { line, found, wanted: count, ports });
        }
        rows.push((line, row.iter().map(|one| one.0).collect()));
        at = end;
    }
    Ok((rows, false))
}

fn complex(pairs: &[f64], format: NumberFormat) -> Vec<Complex<f64>> {
    pairs.chunks_exact(2).map(|pair| format.complex(pair[0], pair[1])).collect()
}

/// By rows; the files of two ports of version 1 go by columns.
fn ordered(values: &[Complex<f64>], ports: usize, by_columns: bool) -> Vec<Complex<f64>> {
    match (ports, by_columns, values) {
        (2, true, [s11, s21, s12, s22]) => vec![*s11, *s12, *s21, *s22],
        _ => values.to_vec(),
    }
}

/// One impedance for all ports, or one for each.
fn spread(references: &[f64], ports: usize, line: usize) -> Result<Vec<f64>, TouchstoneError> {
    match references {
        [one] => Ok(vec![*one; ports]),
        all if all.len() == ports => Ok(all.to_vec()),
        _ => Err(TouchstoneError::Reference { line }),
    }
}

fn of_version_2(
    numbers: &[Number],
    options: &Options,
    keywords: &Keywords,
    comments: Vec<String>,
) -> Result<Touchstone, TouchstoneError> {
    let ports = keywords.ports.ok_or(TouchstoneError::Missing { what: "number of ports" })?;
    if !(1..=MOST_PORTS).contains(&ports) {
        return Err(TouchstoneError::Ports { found: ports });
    }
    let wanted =
        keywords.count.ok_or(TouchstoneError::Missing { what: "number of frequencies" })?;
    let by_columns = match (ports, keywords.first_column_first) {
        (2, None) => return Err(TouchstoneError::Missing { what: "order of two-port data" }),
        (_, order) => order.unwrap_or(false),
    };
    let values = match keywords.matrix {
        Matrix::Full => ports * ports,
        Matrix::Lower | Matrix::Upper => ports * (ports + 1) / 2,
    };
    let (rows, _) = gathered(numbers, ports, 1 + 2 * values, false)?;
    if rows.len() != wanted {
        return Err(TouchstoneError::Count { wanted, found: rows.len() });
    }
    let parameters = rows
        .iter()
        .map(|(_, row)| {
            let own = complex(&row[1..], options.format);
            match keywords.matrix {
                Matrix::Full => ordered(&own, ports, by_columns),
                triangle => whole(&own, ports, triangle),
            }
        })
        .collect();
    let references =
        spread(keywords.references.as_deref().unwrap_or(&options.references), ports, 1)?;
    let frequencies = rows.iter().map(|(_, row)| row[0] * options.scale).collect();
    Ok(Touchstone { ports, frequencies, references, parameters, comments, noise: false })
}

/// A symmetric matrix from one of its triangles, which stands row by row.
fn whole(values: &[Complex<f64>], ports: usize, triangle: Matrix) -> Vec<Complex<f64>> {
    let mut all = vec![Complex::new(0.0, 0.0); ports * ports];
    let places = (0..ports).flat_map(|row| match triangle {
        Matrix::Upper => (row..ports).map(|column| (row, column)).collect::<Vec<_>>(),
        Matrix::Lower | Matrix::Full => (0..=row).map(|column| (row, column)).collect(),
    });
    for ((row, column), value) in places.zip(values) {
        all[row * ports + column] = *value;
        all[column * ports + row] = *value;
    }
    all
}
