//! The round's ribbon: where the hands are, along the shift.

use super::Svg;

/// A stretch of work.
#[derive(Debug, Clone, PartialEq)]
pub struct RibbonBlock {
    /// Lane.
    pub lane: usize,
    /// Start and end as minutes of the ribbon.
    pub from: f64,
    /// End.
    pub to: f64,
    /// Short label.
    pub label: String,
    /// Done already.
    pub done: bool,
}

/// What the ribbon shows.
#[derive(Debug, Clone, PartialEq)]
pub struct Ribbon {
    /// Sentence.
    pub description: String,
    /// Names of the lanes.
    pub lanes: Vec<String>,
    /// Length in minutes.
    pub minutes: f64,
    /// Marks of time: minute and words.
    pub times: Vec<(f64, String)>,
    /// Where now is.
    pub now: f64,
    /// Work.
    pub blocks: Vec<RibbonBlock>,
}

const WIDTH: f64 = 1232.0;
const LEFT: f64 = 130.0;
const RIGHT: f64 = 24.0;
const TOP: f64 = 26.0;
const LANE: f64 = 25.0;

impl Ribbon {
    fn x(&self, minute: f64) -> f64 {
        LEFT + (minute / self.minutes.max(1.0)).clamp(0.0, 1.0) * (WIDTH - LEFT - RIGHT)
    }

    /// Draws it.
    pub fn draw(&self) -> String {
        let bottom = TOP + LANE * self.lanes.len() as f64;
        let mut svg = Svg::begin("ribbon", WIDTH, bottom + 18.0, &self.description);
        for (minute, words) in &self.times {
            let x = self.x(*minute);
            svg.line("ribbon-grid", (x, TOP - 6.0), (x, bottom));
            svg.words("ribbon-time", (x, 14.0), "middle", words);
        }
        for (index, lane) in self.lanes.iter().enumerate() {
            svg.words("ribbon-lane", (14.0, TOP + LANE * index as f64 + 16.0), "start", lane);
        }
        for block in &self.blocks {
            let (left, right) = (self.x(block.from), self.x(block.to));
            let y = TOP + LANE * block.lane as f64 + 4.0;
            let class = if block.done { "ribbon-block done" } else { "ribbon-block" };
            let width = (right - left - 1.5).max(3.0);
            svg.rect(class, (left, y), (width, 16.0), 3.0);
            // About seven units a letter; what does not fit in a block that is done stands after it.
            if block.done && width <= 7.2 * block.label.chars().count() as f64 + 8.0 {
                svg.words("ribbon-label done", (right + 2.0, y + 12.0), "start", &block.label);
            } else if width > 7.2 * block.label.chars().count() as f64 + 8.0 {
                let class = if block.done { "ribbon-label done" } else { "ribbon-label" };
                svg.words(class, (left + 5.0, y + 12.0), "start", &block.label);
            }
        }
        let now = self.x(self.now);
        svg.line("ribbon-now", (now, TOP - 8.0), (now, bottom + 2.0));
        svg.words("ribbon-now-words", (now, bottom + 14.0), "middle", "now");
        svg.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_that_do_not_fit_are_left_out() {
        let block = |from, to| RibbonBlock { lane: 0, from, to, label: "R-02".into(), done: false };
        let ribbon = |blocks| Ribbon {
            description: "the round".into(),
            lanes: vec!["Resin kitchen".into()],
            minutes: 60.0,
            times: vec![(0.0, "22:00".into())],
            now: 10.0,
            blocks,
        };
        assert!(ribbon(vec![block(0.0, 6.0)]).draw().contains("R-02"));
        assert!(!ribbon(vec![block(0.0, 1.0)]).draw().contains("R-02"));
    }
}
