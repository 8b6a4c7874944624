//! The last months of an instrument on one strip: its checks in three rows by what came of them,
//! adjustments and other events, and the times on hold.

use super::Svg;

/// The strip.
#[derive(Debug, Clone, PartialEq)]
pub struct HistoryStrip {
    /// Sentence.
    pub description: String,
    /// First moment, seconds.
    pub from: f64,
    /// Last moment.
    pub to: f64,
    /// Checks: when, and "ok", "signal", "out" or "void".
    pub checks: Vec<(f64, &'static str)>,
    /// Events that affect measurement: when and what.
    pub events: Vec<(f64, String)>,
    /// Times in which it was not in service: from, to, what.
    pub away: Vec<(f64, f64, String)>,
    /// Marks of time.
    pub times: Vec<(f64, String)>,
}

const WIDTH: f64 = 860.0;
const HEIGHT: f64 = 136.0;
const LEFT: f64 = 96.0;
const ROWS: [(&str, &str, f64); 3] =
    [("out", "outside", 32.0), ("signal", "signal", 56.0), ("ok", "inside", 80.0)];
const TOP: f64 = 20.0;
const BOTTOM: f64 = 92.0;

impl HistoryStrip {
    fn x(&self, at: f64) -> f64 {
        let share = (at - self.from) / (self.to - self.from).max(1.0);
        LEFT + share.clamp(0.0, 1.0) * (WIDTH - LEFT - 8.0)
    }

    /// Draws it.
    pub fn draw(&self) -> String {
        let mut svg = Svg::begin("history", WIDTH, HEIGHT, &self.description);
        for (from, to, words) in &self.away {
            let (left, right) = (self.x(*from), self.x(*to));
            svg.rect("away", (left, TOP), ((right - left).max(2.0), BOTTOM - TOP), 0.0);
            if right - left > 7.0 * words.chars().count() as f64 {
                svg.words("history-words", (left + 4.0, TOP - 4.0), "start", words);
            }
        }
        for (_, words, y) in ROWS {
            svg.line("chart-grid", (LEFT, y), (WIDTH - 8.0, y));
            svg.words("history-words", (LEFT - 10.0, y + 4.0), "end", words);
        }
        for (at, words) in &self.times {
            let x = self.x(*at);
            svg.line("chart-grid", (x, TOP), (x, BOTTOM));
            svg.words("history-words", (x, BOTTOM + 18.0), "middle", words);
        }
        let mut taken = f64::NEG_INFINITY;
        for (at, words) in &self.events {
            let x = self.x(*at);
            svg.line("event", (x, TOP - 12.0), (x, BOTTOM + 22.0));
            let short: String = words.chars().take(34).collect();
            let length = 6.4 * short.chars().count() as f64;
            let from = if x + length > WIDTH { x - 5.0 - length } else { x + 5.0 };
            if from > taken {
                svg.words("history-words", (from, BOTTOM + 38.0), "start", &short);
                taken = from + length + 8.0;
            }
        }
        for (at, state) in &self.checks {
            let x = self.x(*at);
            match ROWS.iter().find(|(own, _, _)| own == state) {
                Some((_, _, y)) if *state == "ok" => {
                    svg.line("history-ok", (x, y - 5.0), (x, y + 5.0));
                }
                Some((_, _, y)) => {
                    svg.mark(state, (x, *y), 4.0);
                }
                None => {}
            }
        }
        svg.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_row_by_its_shape_and_nothing_without_time() {
        let strip = HistoryStrip {
            description: "a".into(),
            from: 0.0,
            to: 100.0,
            checks: vec![(1.0, "ok"), (2.0, "signal"), (3.0, "out"), (4.0, "void")],
            events: vec![(50.0, "adjusted".into()), (50.5, "moved".into()), (99.0, "x".repeat(80))],
            away: vec![(60.0, 90.0, "on hold".into())],
            times: vec![(10.0, "1 Nov".into())],
        };
        let text = strip.draw();
        assert_eq!(text.matches("history-ok").count(), 1);
        assert_eq!(text.matches("mark signal").count(), 1);
        assert_eq!(text.matches("mark out").count(), 1);
        // Words that would run into each other are left to the list below.
        assert!(text.contains("adjusted") && !text.contains("moved"), "{text}");
        let empty = HistoryStrip { to: 0.0, checks: vec![(0.0, "ok")], ..strip };
        assert!(!empty.draw().contains("NaN"));
    }
}
