//! Where a peak of a trace lies.
//!
//! Two definitions are in use and differ where a peak is not symmetric, so that a plan states one: the vertex of a
//! parabola by least squares through the top of the peak, or the centroid of what stands above half of its height.
//! Both are what instrument makers call "peak"; common practice, no published source for a preference.

use thiserror::Error;

/// Whether a peak stands up or hangs down (transmittance).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Extreme {
    /// It stands up.
    Highest,
    /// It hangs down.
    Lowest,
}

/// What is taken for its position.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PositionBy {
    /// Vertex of a parabola through its top tenth, five points at least.
    Parabola,
    /// Centroid of what stands above half of its height.
    Centroid,
}

/// How a peak is looked for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Search {
    /// Where it is expected, in the unit of the axis.
    pub centre: f64,
    /// How far to either side it is looked for.
    pub half_width: f64,
    /// Which way it stands.
    pub extreme: Extreme,
    /// What is taken for its position.
    pub by: PositionBy,
    /// How far its top stands off its feet at least, in the unit of the channel.
    pub least: f64,
}

/// A peak that was found.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Peak {
    /// Its position, in the unit of the axis.
    pub position: f64,
    /// The value of the trace at its top point.
    pub height: f64,
    /// How far its top stands off the higher of its two feet inside the window, in the unit of the channel.
    pub prominence: f64,
    /// Step of the axis at its top.
    pub step: f64,
    /// How many points its position rests on.
    pub points: usize,
}

/// Why there is no peak.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum PeakFault {
    /// Fewer than five points in the window.
    #[error("there are fewer than five points around it")]
    TooFew,
    /// The extreme lies at an end of the window: the trace only rises or falls there.
    #[error("the trace only rises or falls there")]
    AtTheEdge,
    /// It does not stand out of the noise, or by less than a peak of this standard does.
    #[error("nothing there stands out of the noise")]
    InTheNoise,
}

/// Standard deviation of the noise of a trace: of its fourth differences, which a smooth curve hardly has, by their
/// median absolute value (0.6745 σ for normal noise) over √70, what five independent values with weights 1, −4, 6, −4, 1
/// have. Zero for a trace of fewer than five points; too small for one that the instrument has smoothed.
#[must_use]
pub fn noise_of(values: &[f64]) -> f64 {
    let mut bends: Vec<f64> = values
        .windows(5)
        .map(|v| (v[0] - 4.0 * v[1] + 6.0 * v[2] - 4.0 * v[3] + v[4]).abs())
        .collect();
    if bends.is_empty() {
        return 0.0;
    }
    let middle = bends.len() / 2;
    let (_, median, _) = bends.select_nth_unstable_by(middle, f64::total_cmp);
    *median / 0.674_489_75 / 70.0_f64.sqrt()
}

/// Finds a peak of a trace; `axis` rises.
///
/// # Errors
/// [`PeakFault`] when there is none: what only rises or falls, and the highest point of mere noise, are no peak.
pub fn find_peak((axis, values): (&[f64], &[f64]), search: Search) -> Result<Peak, PeakFault> {
    let begin = axis.partition_point(|x| *x < search.centre - search.half_width);
    let end = axis.partition_point(|x| *x <= search.centre + search.half_width);
    if end < begin + 5 || values.len() != axis.len() {
        return Err(PeakFault::TooFew);
    }
    let sign = if search.extreme == Extreme::Highest { 1.0 } else { -1.0 };
    let x = &axis[begin..end];
    let y: Vec<f64> = values[begin..end].iter().map(|value| sign * value).collect();
    // Of equal tops the middle one: a flat top has no side.
    let most = y.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let first = y.iter().position(|value| *value >= most).unwrap_or(0);
    let last = y.iter().rposition(|value| *value >= most).unwrap_or(0);
    let top = usize::midpoint(first, last);
    if first == 0 || last == y.len() - 1 {
        return Err(PeakFault::AtTheEdge);
    }
    let least = |part: &[f64]| part.iter().copied().fold(f64::INFINITY, f64::min);
    let prominence = most - least(&y[..top]).max(least(&y[top..]));
    // Of a window full of noise the extremes lie about six of its standard deviations apart.
    if prominence <= 10.0 * noise_of(values) || prominence < search.least || prominence <= 0.0 {
        return Err(PeakFault::InTheNoise);
    }
    let (position, points) = match search.by {
        PositionBy::Parabola => parabola(x, &y, top, most - 0.1 * prominence)?,
        PositionBy::Centroid => centroid(x, &y, top, most - 0.5 * prominence)?,
    };
    let step = (x[top + 1] - x[top - 1]) / 2.0;
    Ok(Peak { position, height: sign * most, prominence, step, points })
}

/// The points around the top that stand above a level, without a break.
fn above(y: &[f64], top: usize, level: f64) -> (usize, usize) {
    let begin = y[..top].iter().rposition(|value| *value < level).map_or(0, |below| below + 1);
    let end = y[top..].iter().position(|value| *value < level).map_or(y.len(), |below| top + below);
    (begin, end)
}

/// Vertex −b/2c of y = a + b·u + c·u² by least squares; u is counted from the top, in half-widths, so that the normal
/// equations are well conditioned wherever the axis begins.
fn parabola(x: &[f64], y: &[f64], top: usize, level: f64) -> Result<(f64, usize), PeakFault> {
    let (mut begin, mut end) = above(y, top, level);
    while end - begin < 5 {
        let room = (begin > 0, end < y.len());
        if !room.0 && !room.1 {
            return Err(PeakFault::TooFew);
        }
        begin -= usize::from(room.0);
        end += usize::from(room.1);
    }
    let scale = (x[end - 1] - x[begin]) / 2.0;
    let mut sums = [0.0; 5];
    let mut right = [0.0; 3];
    for index in begin..end {
        let u = (x[index] - x[top]) / scale;
        // Values are counted from the top, too: what matters is how they fall from it.
        let v = y[index] - y[top];
        let mut power = 1.0;
        for (order, sum) in sums.iter_mut().enumerate() {
            *sum += power;
            if order < 3 {
                right[order] += power * v;
            }
            power *= u;
        }
    }
    let [s0, s1, s2, s3, s4] = sums;
    let [t0, t1, t2] = right;
    // Cramer's rule for b and c; the common determinant drops out of −b/2c.
    let b = s0 * (t1 * s4 - s3 * t2) - t0 * (s1 * s4 - s3 * s2) + s2 * (s1 * t2 - t1 * s2);
    let c = s0 * (s2 * t2 - t1 * s3) - s1 * (s1 * t2 - t1 * s2) + t0 * (s1 * s3 - s2 * s2);
    let vertex = -b / (2.0 * c);
    // A parabola that opens the other way, or turns outside of the points, describes no top.
    let u = |index: usize| (x[index] - x[top]) / scale;
    let inside = vertex >= u(begin) && vertex <= u(end - 1);
    // The common determinant is positive, so that c has the sign of its own.
    if c >= 0.0 || !inside {
        return Err(PeakFault::InTheNoise);
    }
    Ok((x[top] + vertex * scale, end - begin))
}

/// Σ∫x·(y − level) over Σ∫(y − level) between the two places where straight lines between points cross the level.
fn centroid(x: &[f64], y: &[f64], top: usize, level: f64) -> Result<(f64, usize), PeakFault> {
    let (begin, end) = above(y, top, level);
    // The feet lie inside the window, so that the level is crossed on both sides.
    if begin == 0 || end == y.len() {
        return Err(PeakFault::AtTheEdge);
    }
    let crossing = |below: usize, above: usize| {
        let share = (level - y[below]) / (y[above] - y[below]);
        x[below] + share * (x[above] - x[below])
    };
    let mut outline = vec![(crossing(begin - 1, begin), 0.0)];
    outline.extend((begin..end).map(|index| (x[index], y[index] - level)));
    outline.push((crossing(end, end - 1), 0.0));
    let (mut area, mut moment) = (0.0, 0.0);
    for pair in outline.windows(2) {
        let ((x0, y0), (x1, y1)) = (pair[0], pair[1]);
        // A trapezium: its area, and the moment of a straight line about the top.
        let width = x1 - x0;
        let (u0, u1) = (x0 - x[top], x1 - x[top]);
        area += width * (y0 + y1) / 2.0;
        moment += width * (u0 * (2.0 * y0 + y1) + u1 * (y0 + 2.0 * y1)) / 6.0;
    }
    if area <= 0.0 {
        return Err(PeakFault::InTheNoise);
    }
    Ok((x[top] + moment / area, end - begin))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};
    use rand_chacha::ChaCha8Rng;
    use rstest::rstest;

    const SEARCH: Search = Search {
        centre: 500.0,
        half_width: 8.0,
        extreme: Extreme::Highest,
        by: PositionBy::Parabola,
        least: 0.0,
    };

    fn axis(step: f64) -> Vec<f64> {
        (0..).map(|n| 480.0 + f64::from(n) * step).take_while(|x| *x <= 520.0).collect()
    }

    fn band(axis: &[f64], at: f64) -> Vec<f64> {
        axis.iter().map(|x| (-((x - at) / 3.0).powi(2)).exp()).collect()
    }

    /// A parabola is found to the last digits, wherever its axis begins and however it hangs.
    #[rstest]
    #[case(500.37, 1.0)]
    #[case(499.9, 0.1)]
    fn the_vertex_of_a_parabola(#[case] at: f64, #[case] step: f64) {
        let axis = axis(step);
        let values: Vec<f64> = axis.iter().map(|x| 3.0 - (x - at).powi(2) / 50.0).collect();
        let hanging: Vec<f64> = values.iter().map(|value| -value).collect();
        for (values, extreme) in [(&values, Extreme::Highest), (&hanging, Extreme::Lowest)] {
            let peak = find_peak((&axis, values), Search { extreme, ..SEARCH }).unwrap();
            assert!((peak.position - at).abs() < 1e-9, "{peak:?}");
            assert!((peak.step - step).abs() < 1e-9 && peak.points >= 5);
            assert!(peak.height.abs() > 2.9);
        }
    }

    /// A symmetric band has its vertex and its centroid at one place; both are independent of a level put under it.
    #[rstest]
    fn both_agree_on_a_symmetric_band(
        #[values(0.1, 0.5, 1.0)] step: f64,
        #[values(499.2, 500.0, 501.33)] at: f64,
        #[values(0.0, -4.0, 1e4)] level: f64,
    ) {
        let axis = axis(step);
        let values: Vec<f64> = band(&axis, at).iter().map(|value| value + level).collect();
        for by in [PositionBy::Parabola, PositionBy::Centroid] {
            let peak = find_peak((&axis, &values), Search { by, ..SEARCH }).unwrap();
            // Five or six points around a top do not lie about it evenly: a twentieth of a step.
            assert!((peak.position - at).abs() < 0.06 * step, "{by:?} {peak:?}");
            assert!((peak.prominence - 1.0).abs() < 0.05, "{peak:?}");
        }
    }

    #[test]
    fn no_peak_is_made_of_nothing() {
        let axis = axis(0.5);
        let find = |values: &[f64]| find_peak((&axis, values), SEARCH).unwrap_err();
        let rising: Vec<f64> = axis.clone();
        assert_eq!(find(&rising), PeakFault::AtTheEdge);
        assert_eq!(find(&vec![2.0; axis.len()]), PeakFault::AtTheEdge);
        // The band lies outside of the window: its foot only falls there.
        assert_eq!(find(&band(&axis, 489.0)), PeakFault::AtTheEdge);
        let mut random = ChaCha8Rng::seed_from_u64(5);
        for _ in 0..200 {
            let noise: Vec<f64> = axis.iter().map(|_| random.random_range(-1.0..1.0)).collect();
            let fault = find(&noise);
            assert!(matches!(fault, PeakFault::InTheNoise | PeakFault::AtTheEdge), "{fault:?}");
        }
        let four = [498.0, 499.0, 500.0, 501.0];
        let few = find_peak((&four, &[0.0, 1.0, 1.0, 0.0]), SEARCH).unwrap_err();
        assert_eq!(few, PeakFault::TooFew);
        let uneven = find_peak((&axis, &[1.0]), SEARCH).unwrap_err();
        assert_eq!(uneven, PeakFault::TooFew);
        assert!(few.to_string().contains("five points"));
        // Smoothed noise has a smooth top: what a peak of the standard has at least is the plan's to say.
        let low: Vec<f64> = band(&axis, 500.0).iter().map(|value| value / 1000.0).collect();
        assert!(find_peak((&axis, &low), SEARCH).is_ok());
        let search = Search { least: 0.05, ..SEARCH };
        assert_eq!(find_peak((&axis, &low), search).unwrap_err(), PeakFault::InTheNoise);
    }

    /// A top that is cut off (the detector can show no more) lies in the middle of what was cut.
    #[test]
    fn a_flat_top_has_no_side() {
        let axis = axis(0.5);
        let cut: Vec<f64> = band(&axis, 500.3).iter().map(|value| value.min(0.8)).collect();
        for by in [PositionBy::Parabola, PositionBy::Centroid] {
            let peak = find_peak((&axis, &cut), Search { by, ..SEARCH }).unwrap();
            assert!((peak.position - 500.3).abs() < 0.3, "{by:?} {peak:?}");
        }
    }

    /// The estimate of noise is that of the noise, on a band, too: to a tenth in the mean of many.
    #[test]
    fn noise_is_told_from_the_curve() {
        let axis = axis(0.1);
        let mut random = ChaCha8Rng::seed_from_u64(6);
        let mut sum = 0.0;
        for _ in 0..40 {
            let values: Vec<f64> = band(&axis, 500.0)
                .iter()
                .map(|value| {
                    // Twelve uniform numbers less six: nearly normal with a standard deviation of one.
                    let normal: f64 =
                        (0..12).map(|_| random.random_range(0.0..1.0)).sum::<f64>() - 6.0;
                    value + 0.01 * normal
                })
                .collect();
            sum += noise_of(&values);
        }
        assert!((sum / 40.0 - 0.01).abs() < 0.001, "{sum}");
        assert!(noise_of(&[1.0, 2.0]).abs() < f64::EPSILON);
    }
}
