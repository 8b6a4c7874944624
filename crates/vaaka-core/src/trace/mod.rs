//! Traces: one or several quantities over a rising axis, as an instrument measures them in one go.

mod peak;

pub use peak::{Extreme, Peak, PeakFault, PositionBy, Search, find_peak, noise_of};

use sha2::{Digest, Sha256};
use thiserror::Error;

/// Most points that a trace has.
pub const MOST_POINTS: usize = 200_001;
/// Most columns that a trace has, its axis among them.
pub const MOST_COLUMNS: usize = 33;

/// What belongs to one column of a trace.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Channel {
    /// What it is, "absorbance".
    pub name: String,
    /// Symbol of its unit; empty for a plain number.
    pub unit: String,
    /// Values, or real parts.
    pub re: Vec<f64>,
    /// Imaginary parts of a complex quantity.
    pub im: Option<Vec<f64>>,
}

/// A trace: an axis that rises from point to point, and as many values a channel. All are finite.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Trace {
    /// The axis.
    pub axis: Vec<f64>,
    /// Symbol of its unit.
    pub axis_unit: String,
    /// The channels.
    pub channels: Vec<Channel>,
}

/// A channel that is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChannelWanted {
    /// What it is.
    pub name: String,
    /// Symbol of its unit; empty for a plain number.
    pub unit: String,
    /// Whether it is complex: two columns.
    pub complex: bool,
}

/// What is asked of a trace.
#[derive(Debug, Clone, PartialEq)]
pub struct TraceWanted {
    /// What its axis is, "wavelength".
    pub axis: String,
    /// Symbol of the unit of the axis.
    pub axis_unit: String,
    /// The channels, in the order of the columns.
    pub channels: Vec<ChannelWanted>,
    /// What it must cover, from and to.
    pub covers: (f64, f64),
    /// Fewest points.
    pub fewest: usize,
    /// Longest step of the axis, where it matters.
    pub largest_step: Option<f64>,
    /// Reference impedance of a network in Ω, where its file says one.
    pub impedance: Option<f64>,
}

impl TraceWanted {
    /// How many columns its file has.
    #[must_use]
    pub fn columns(&self) -> usize {
        1 + self.channels.iter().map(|one| if one.complex { 2 } else { 1 }).sum::<usize>()
    }

    /// "wavelength in nm and absorbance": what the file holds, in words.
    #[must_use]
    pub fn words(&self) -> String {
        let one = |name: &str, unit: &str| {
            if unit.is_empty() { name.to_owned() } else { format!("{name} in {unit}") }
        };
        let mut parts = vec![one(&self.axis, &self.axis_unit)];
        parts.extend(self.channels.iter().map(|channel| {
            let words = one(&channel.name, &channel.unit);
            if channel.complex { format!("{words} (real, imaginary)") } else { words }
        }));
        let last = parts.pop().unwrap_or_default();
        if parts.is_empty() { last } else { format!("{} and {last}", parts.join(", ")) }
    }
}

/// Columns of numbers as they stand in a file.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Table {
    /// What stands over them; empty where nothing does.
    pub heads: Vec<String>,
    /// The columns, of one length.
    pub columns: Vec<Vec<f64>>,
    /// Line of each row in the file.
    pub lines: Vec<usize>,
}

/// Why columns of numbers are not the trace that is asked for. The words say what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TraceFault {
    /// Too many or too few columns.
    #[error("This file has {found} columns; {wanted} are wanted: {words}. Export just these.")]
    Columns {
        /// What it has.
        found: usize,
        /// What is wanted.
        wanted: usize,
        /// The columns in words.
        words: String,
    },
    /// Another unit stands over the axis.
    #[error(
        "The file says that the first column is in {found}; {wanted} is wanted. Export it in {wanted}."
    )]
    Unit {
        /// What stands there.
        found: String,
        /// What is wanted.
        wanted: String,
    },
    /// Too few points.
    #[error("This file has {found} points; {fewest} are the fewest. Measure with smaller steps.")]
    TooFew {
        /// Points.
        found: usize,
        /// Fewest.
        fewest: usize,
    },
    /// The axis does not go one way.
    #[error(
        "Line {line}: the {axis} goes back, or stands still. One scan is wanted, from one end to the other; two scans in one file are two traces."
    )]
    Turns {
        /// Line.
        line: usize,
        /// Name of the axis.
        axis: String,
    },
    /// Points are missing.
    #[error(
        "Points are missing before line {line}: the step there is {times} times those beside it. Measure it again in one go."
    )]
    Gap {
        /// Line after the gap.
        line: usize,
        /// How much longer the step is.
        times: String,
    },
    /// Its steps are too long.
    #[error(
        "The steps of this trace are up to {found} {unit} long; {wanted} {unit} is the longest. Set the step and measure again."
    )]
    Coarse {
        /// Longest step.
        found: String,
        /// Longest that will do.
        wanted: String,
        /// Unit of the axis.
        unit: String,
    },
    /// It does not cover what is wanted.
    #[error(
        "The trace goes from {from} to {to} {unit}; {wanted} is wanted. Set the range and measure again."
    )]
    Short {
        /// First point.
        from: String,
        /// Last point.
        to: String,
        /// Unit of the axis.
        unit: String,
        /// What is wanted.
        wanted: String,
    },
}

/// A number with no more digits than it needs.
fn plain(value: f64) -> String {
    let text = format!("{value:.6}");
    let text =
        if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

/// Units in which axes are measured, as people write them. What else stands in brackets or behind a comma ("corrected",
/// "raw") is no unit.
const AXIS_UNITS: [&str; 22] = [
    "nm", "µm", "um", "mm", "m", "in", "Å", "cm-1", "cm⁻¹", "1/cm", "eV", "Hz", "kHz", "MHz",
    "GHz", "THz", "s", "ms", "µs", "us", "°C", "dBm",
];

/// A unit as people write it over a column: in brackets, or behind a slash or comma; one that axes are measured in.
fn unit_over(head: &str) -> Option<String> {
    let head = head.trim();
    let inside = |open: char, close: char| {
        let rest = &head[head.rfind(open)? + open.len_utf8()..];
        Some(rest[..rest.find(close)?].trim().to_owned())
    };
    let behind = |mark: char| head.split_once(mark).map(|(_, unit)| unit.trim().to_owned());
    inside('[', ']')
        .or_else(|| inside('(', ')'))
        .or_else(|| behind('/'))
        .or_else(|| behind(','))
        .filter(|unit| AXIS_UNITS.iter().any(|known| same_unit(known, unit)))
}

fn same_unit(one: &str, other: &str) -> bool {
    let plain =
        |text: &str| text.replace('\u{3bc}', "\u{b5}").split_whitespace().collect::<String>();
    // Units differ in their case (mS, MS), but nobody means a nanometre's case.
    plain(one) == plain(other) || plain(one).to_lowercase() == plain(other).to_lowercase()
}

impl Trace {
    /// The trace that is asked for, out of the columns of a file. One that falls from end to end is turned round: spectra
    /// are often scanned from the long wavelengths down.
    ///
    /// # Errors
    /// [`TraceFault`].
    pub fn take(wanted: &TraceWanted, table: &Table) -> Result<Self, TraceFault> {
        if table.columns.len() != wanted.columns() {
            return Err(TraceFault::Columns {
                found: table.columns.len(),
                wanted: wanted.columns(),
                words: wanted.words(),
            });
        }
        if let Some(found) = table.heads.first().and_then(|head| unit_over(head))
            && !wanted.axis_unit.is_empty()
            && !same_unit(&found, &wanted.axis_unit)
        {
            return Err(TraceFault::Unit { found, wanted: wanted.axis_unit.clone() });
        }
        let mut columns = table.columns.clone();
        let points = columns[0].len();
        if points < wanted.fewest.max(2) {
            return Err(TraceFault::TooFew { found: points, fewest: wanted.fewest.max(2) });
        }
        let line = |row: usize| table.lines.get(row).copied().unwrap_or(row + 1);
        one_way(&columns[0])
            .map_err(|row| TraceFault::Turns { line: line(row), axis: wanted.axis.clone() })?;
        if let Some((row, times)) = gap_in(&columns[0]) {
            return Err(TraceFault::Gap { line: line(row), times: format!("{times:.1}") });
        }
        if columns[0][0] > columns[0][points - 1] {
            columns.iter_mut().for_each(|column| column.reverse());
        }
        let mut columns = columns.into_iter();
        let axis = columns.next().unwrap_or_default();
        let (from, to) = (axis[0], axis[points - 1]);
        let (least, most) = wanted.covers;
        if from > least || to < most {
            return Err(TraceFault::Short {
                from: plain(from),
                to: plain(to),
                unit: wanted.axis_unit.clone(),
                wanted: format!("{} to {}", plain(least), plain(most)),
            });
        }
        let longest = axis.windows(2).map(|pair| pair[1] - pair[0]).fold(0.0, f64::max);
        // Axes are written with a few digits: a step may come out longer than it was set by the last of them.
        if let Some(most) = wanted.largest_step.filter(|most| longest > most * 1.01) {
            return Err(TraceFault::Coarse {
                found: plain(longest),
                wanted: plain(most),
                unit: wanted.axis_unit.clone(),
            });
        }
        let channels = wanted.channels.iter().map(|channel| Channel {
            name: channel.name.clone(),
            unit: channel.unit.clone(),
            re: columns.next().unwrap_or_default(),
            im: channel.complex.then(|| columns.next().unwrap_or_default()),
        });
        let channels = channels.collect();
        Ok(Self { axis, axis_unit: wanted.axis_unit.clone(), channels })
    }

    /// Points of each channel.
    #[must_use]
    pub fn len(&self) -> usize {
        self.axis.len()
    }

    /// Whether it has no points.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.axis.is_empty()
    }

    /// SHA-256 over its numbers, as 64 hexadecimal digits: the count of points and channels, then the axis and of each
    /// channel the values, real parts before imaginary ones, each as the eight bytes of IEEE 754, the highest first. Names
    /// and units are the plan's.
    #[must_use]
    pub fn digest(&self) -> String {
        let mut hash = Sha256::new();
        let count = |n: usize| (n as u64).to_be_bytes();
        hash.update(count(self.len()));
        hash.update(count(self.channels.len()));
        let mut take = |values: &[f64]| {
            for value in values {
                // Both zeros are one number.
                hash.update((value + 0.0).to_be_bytes());
            }
        };
        take(&self.axis);
        for channel in &self.channels {
            take(&channel.re);
            if let Some(im) = &channel.im {
                take(im);
            }
        }
        hash.finalize().iter().map(|byte| format!("{byte:02x}")).collect()
    }
}

/// Whether it rises or falls from end to end; else the row at which it does not.
fn one_way(axis: &[f64]) -> Result<(), usize> {
    let rises = axis.len() < 2 || axis[axis.len() - 1] > axis[0];
    let good = |pair: &[f64]| if rises { pair[1] > pair[0] } else { pair[1] < pair[0] };
    match axis.windows(2).position(|pair| !good(pair)) {
        Some(at) => Err(at + 1),
        None => Ok(()),
    }
}

/// A step that is longer than both beside it by more than half: points are missing there. Sections of different steps, and
/// logarithmic axes, have none.
fn gap_in(axis: &[f64]) -> Option<(usize, f64)> {
    let steps: Vec<f64> = axis.windows(2).map(|pair| (pair[1] - pair[0]).abs()).collect();
    if steps.len() < 3 {
        return None;
    }
    (0..steps.len()).find_map(|at| {
        let before = at.checked_sub(1).map_or(0.0, |before| steps[before]);
        let after = steps.get(at + 1).copied().unwrap_or(0.0);
        let beside = before.max(after);
        (steps[at] > 1.5 * beside).then(|| (at + 1, steps[at] / beside))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn wanted() -> TraceWanted {
        TraceWanted {
            axis: "wavelength".into(),
            axis_unit: "nm".into(),
            channels: vec![ChannelWanted {
                name: "absorbance".into(),
                unit: String::new(),
                complex: false,
            }],
            covers: (400.0, 402.0),
            fewest: 3,
            largest_step: Some(1.0),
            impedance: None,
        }
    }

    fn table(axis: &[f64]) -> Table {
        Table {
            heads: vec!["Wavelength (nm)".into(), "A".into()],
            columns: vec![axis.to_vec(), axis.iter().map(|x| x / 1000.0).collect()],
            lines: (0..axis.len()).map(|row| row + 2).collect(),
        }
    }

    #[test]
    fn a_falling_scan_is_turned_round() {
        let rising = Trace::take(&wanted(), &table(&[400.0, 401.0, 402.0])).unwrap();
        let falling = Trace::take(&wanted(), &table(&[402.0, 401.0, 400.0])).unwrap();
        assert_eq!(rising, falling);
        assert_eq!(rising.channels[0].re, [0.4, 0.401, 0.402]);
        assert_eq!((rising.len(), rising.is_empty()), (3, false));
    }

    #[rstest]
    #[case::turns(&[400.0, 401.0, 402.0, 401.5], "Line 5: the wavelength goes back")]
    #[case::stands(&[400.0, 401.0, 401.0, 402.0], "Line 4")]
    #[case::twice(&[400.0, 401.0, 402.0, 400.0, 401.0, 402.0], "Line 5")]
    #[case::gap(&[400.0, 400.5, 401.5, 402.0], "Points are missing before line 4: the step there is 2.0 times")]
    #[case::gap_at_the_end(&[400.0, 400.2, 400.4, 402.0], "before line 5")]
    #[case::gap_falling(&[402.0, 401.9, 401.8, 400.3, 400.2, 400.0], "before line 5")]
    #[case::few(&[400.0, 402.0], "has 2 points; 3 are the fewest")]
    #[case::coarse(&[399.0, 400.5, 402.0, 403.5], "up to 1.5 nm long; 1 nm is the longest")]
    #[case::short(&[400.5, 401.0, 401.5], "from 400.5 to 401.5 nm; 400 to 402 is wanted")]
    fn refused(#[case] axis: &[f64], #[case] words: &str) {
        let error = Trace::take(&wanted(), &table(axis)).unwrap_err().to_string();
        assert!(error.contains(words), "{error}");
    }

    /// Sections, logarithmic sweeps and axes that are written with few digits have no gap.
    #[rstest]
    #[case::sections(vec![400.0, 400.1, 400.2, 400.3, 401.0, 402.0, 403.0])]
    #[case::logarithmic((0..40).map(|n| 399.0 * 1.3f64.powi(n)).collect())]
    #[case::thirds((0..10).map(|n| (100.0 * (400.0 + f64::from(n) / 3.0)).round() / 100.0).collect())]
    fn uneven_and_whole(#[case] axis: Vec<f64>) {
        Trace::take(
            &TraceWanted { covers: (400.0, 402.0), largest_step: None, ..wanted() },
            &table(&axis),
        )
        .unwrap();
    }

    #[rstest]
    #[case("Wavelength [nm]", true)]
    #[case("wl / NM", true)]
    #[case("Wavelength, nm", true)]
    #[case("Wavelength", true)]
    #[case("Wavelength, corrected", true)]
    #[case("Wavelength (raw)", true)]
    #[case("Wavenumber / cm⁻¹", false)]
    #[case("", true)]
    #[case("Wavenumber (cm-1)", false)]
    #[case("wl [µm]", false)]
    fn another_unit_is_refused(#[case] head: &str, #[case] good: bool) {
        let mut table = table(&[400.0, 401.0, 402.0]);
        table.heads[0] = head.into();
        assert_eq!(Trace::take(&wanted(), &table).is_ok(), good, "{head}");
        table.heads.clear();
        assert!(Trace::take(&wanted(), &table).is_ok());
    }

    #[test]
    fn columns_are_counted_and_named() {
        let complex = TraceWanted {
            channels: vec![
                ChannelWanted { name: "S11".into(), unit: String::new(), complex: true },
                ChannelWanted { name: "level".into(), unit: "dBm".into(), complex: false },
            ],
            ..wanted()
        };
        assert_eq!(complex.words(), "wavelength in nm, S11 (real, imaginary) and level in dBm");
        let two = table(&[400.0, 401.0, 402.0]);
        let error = Trace::take(&complex, &two).unwrap_err().to_string();
        assert!(error.starts_with("This file has 2 columns; 4 are wanted: wavelength"), "{error}");
        let mut four = two.clone();
        four.columns.extend([vec![1.0, 2.0, 3.0], vec![4.0, 5.0, 6.0]]);
        let taken = Trace::take(&complex, &four).unwrap();
        assert_eq!(taken.channels[0].im.as_deref(), Some([1.0, 2.0, 3.0].as_slice()));
        assert_eq!(taken.channels[1].re, [4.0, 5.0, 6.0]);
    }

    /// Python: hashlib.sha256(struct.pack(">QQ3d3d", 3, 1, 400, 401, 402, .4, .401, .402)).hexdigest()
    #[test]
    fn the_digest_is_of_the_numbers() {
        let trace = Trace::take(&wanted(), &table(&[400.0, 401.0, 402.0])).unwrap();
        assert_eq!(trace.digest(), DIGEST);
        let mut other = trace.clone();
        other.channels[0].re[2] += 1e-12;
        assert_ne!(other.digest(), trace.digest());
        let mut complex = trace.clone();
        complex.channels[0].im = Some(vec![0.0; 3]);
        assert_ne!(complex.digest(), trace.digest());
        let zero = |zero: f64| Trace { axis: vec![zero, 1.0], ..Trace::default() };
        assert_eq!(zero(0.0).digest(), zero(-0.0).digest());
    }

    const DIGEST: &str = "5d2823abe260addd3bb1815f50f474a8c9b8ea0bcc466a35e9297b29ef4e07f3";
}
