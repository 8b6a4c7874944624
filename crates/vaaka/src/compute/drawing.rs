//! A chart of a table, drawn into a file, for people who live in a spreadsheet.

use jiff::Timestamp;
use rust_decimal::prelude::ToPrimitive;
use vaaka_core::chart::{
    ChartDesign, ChartPoint, DEFAULT_OUTER_MULTIPLIER, evaluate, study_baseline,
};
use vaaka_core::quantity::{TypedDecimal, decimals_for, show_signed_float};
use vaaka_formats::{Grid, read_table};
use vaaka_web::{ChartDrawing, ChartSegment, DrawnPoint, stand_alone};

use super::charts::{SHIFT, at};

/// Most lines of a table.
const MOST: usize = 100_000;

/// What is drawn, beside the table itself.
#[derive(Debug, Clone, Copy, Default)]
pub struct Wanted {
    /// How many of the first points make the limits; all where none is said.
    pub baseline: Option<usize>,
    /// Tolerance, lower and upper.
    pub tolerance: (Option<f64>, Option<f64>),
}

fn column(grid: &Grid, names: &[&str]) -> Option<usize> {
    grid.heads.iter().position(|head| names.contains(&head.to_lowercase().as_str()))
}

/// Draws the individuals chart of a table with a column “value” (or “error”) and, if it has one, a column
/// “measured_at” (or “at”, “time”); gives the drawing and a line of what it says.
///
/// # Errors
/// What is wrong with the table, in a line.
pub fn draw_table(bytes: &[u8], wanted: Wanted) -> Result<(String, String), String> {
    let (points, decimals, has_times) = points_of(bytes)?;
    let count = wanted.baseline.unwrap_or(points.len()).min(points.len());
    let baseline: Vec<f64> = points[..count].iter().map(|point| point.value).collect();
    let study = study_baseline(&[&baseline], DEFAULT_OUTER_MULTIPLIER, 0.0)
        .map_err(|error| error.to_string())?;
    let design = ChartDesign::from_limits(&study.limits);
    // The usual distance of its points, so that a gap is a gap.
    let mut gaps: Vec<_> = points
        .windows(2)
        .map(|pair| pair[1].measured_at.duration_since(pair[0].measured_at))
        .collect();
    gaps.sort_unstable();
    let interval =
        gaps.get(gaps.len() / 2).copied().filter(|gap| gap.is_positive()).unwrap_or(SHIFT);
    let (_, evaluations) = evaluate(&design, interval, &points);
    let seconds = |at: Timestamp| at.as_millisecond() as f64 / 1000.0;
    let signals = evaluations.iter().filter(|one| !one.firings().is_empty()).count();
    let within = |value: f64| {
        wanted.tolerance.0.is_none_or(|lower| value >= lower)
            && wanted.tolerance.1.is_none_or(|upper| value <= upper)
    };
    let drawn: Vec<DrawnPoint> = points
        .iter()
        .zip(&evaluations)
        .enumerate()
        .map(|(index, (point, one))| DrawnPoint {
            at: seconds(point.measured_at),
            value: point.value,
            state: match (within(point.value), one.firings().is_empty()) {
                (false, _) => "out",
                (true, false) => "signal",
                (true, true) => "ok",
            },
            hollow: false,
            excluded: false,
            commented: false,
            joined: index > 0
                && point.measured_at.duration_since(points[index - 1].measured_at)
                    <= interval.saturating_mul(3),
            ewma: Some(one.ewma),
            ewma_limits: Some((one.center_line, one.ewma_half_width)),
            check: index as i64 + 1,
            label: format!("{}: {}", point.measured_at, show_signed_float(point.value, decimals)),
        })
        .collect();
    let (from, to) = match (points.first(), points.last()) {
        (Some(first), Some(last)) => (seconds(first.measured_at), seconds(last.measured_at)),
        _ => (0.0, 1.0),
    };
    let limits = &study.limits;
    let segment = ChartSegment {
        from,
        to,
        control: Some((limits.lower_control_limit, limits.center_line, limits.upper_control_limit)),
        provisional: false,
        tolerance: wanted.tolerance,
    };
    let places = decimals_for(limits.half_width()).max(decimals);
    let show = |value: f64| show_signed_float(value, places);
    let said = format!(
        "{} points, limits {} to {} about {} from {count} of them, {signals} with a signal",
        points.len(),
        show(limits.lower_control_limit),
        show(limits.upper_control_limit),
        show(limits.center_line),
    );
    let times = match has_times {
        false => vec![],
        true => (0..6)
            .map(|step| from + (to - from) * f64::from(step) / 5.0)
            .filter_map(|at| {
                let moment = Timestamp::from_second(at as i64).ok()?;
                Some((at, moment.strftime("%Y-%m-%d").to_string()))
            })
            .collect(),
    };
    let drawing = ChartDrawing {
        signed: true,
        description: format!("Control chart. {said}"),
        from,
        to,
        times,
        segments: vec![segment],
        points: drawn,
        earlier: vec![],
        events: vec![],
        onset: None,
        forecast: None,
        condensed: vec![],
        flagged: vec![],
        statistical: true,
        panes: vec![],
        decimals,
        unit: String::new(),
    };
    Ok((stand_alone(&drawing.draw()), said))
}
/// The points of a table by their times, the most decimals that one of them has, and whether the table tells times.
fn points_of(bytes: &[u8]) -> Result<(Vec<ChartPoint>, u32, bool), String> {
    let grid = read_table(bytes, MOST).map_err(|error| error.to_string())?;
    let value =
        column(&grid, &["value", "error", "deviation"]).or((grid.heads.len() == 1).then_some(0));
    let value = value.ok_or("no column is called “value” or “error”: name one so")?;
    let time = column(&grid, &["measured_at", "measured at", "at", "time"]);
    let (mut points, mut decimals) = (Vec::new(), 0);
    for (index, line) in grid.lines.iter().enumerate() {
        let typed = TypedDecimal::parse(line.cell(value))
            .map_err(|error| format!("line {}: {error}", line.number))?;
        decimals = decimals.max(typed.value.scale());
        let measured_at = match time {
            None => at(index),
            Some(time) => line.cell(time).parse::<Timestamp>().map_err(|_| {
                let cell = line.cell(time);
                format!(
                    "line {}: “{cell}” is no time: write it like 2026-11-24T20:34:00Z",
                    line.number
                )
            })?,
        };
        points.push(ChartPoint::new(measured_at, typed.value.to_f64().unwrap_or(f64::NAN)));
    }
    points.sort_by_key(|point| point.measured_at);
    Ok((points, decimals, time.is_some()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_spreadsheet_becomes_a_chart() {
        let mut table = String::from("measured_at;value\n");
        for day in 1..=28 {
            let value = if day == 27 { "9,5".to_owned() } else { format!("{},1", day % 3) };
            table.push_str(&format!("2026-02-{day:02}T06:00:00Z;{value}\n"));
        }
        let wanted = Wanted { baseline: Some(25), tolerance: (Some(-5.0), Some(5.0)) };
        let (svg, said) = draw_table(table.as_bytes(), wanted).unwrap();
        assert!(said.starts_with("28 points, limits "), "{said}");
        assert!(svg.starts_with("<svg ") && svg.contains("<style>") && !svg.contains("var("));
        assert_eq!(svg.matches("class=\"point\"").count(), 28);
        assert_eq!(svg.matches("mark out").count(), 1);
    }

    #[test]
    fn bad_tables_are_said() {
        for (table, said) in [
            ("", "nothing in this file"),
            ("a;b\n1;2\n", "no column is called"),
            ("value\n1\nx\n", "line 3: "),
            ("at;value\nsoon;1\n", "line 2: “soon” is no time"),
            ("value\n1\n2\n", "2 shifts are in this baseline"),
        ] {
            let found = draw_table(table.as_bytes(), Wanted::default()).unwrap_err();
            assert!(found.contains(said), "{found}");
        }
    }
}
