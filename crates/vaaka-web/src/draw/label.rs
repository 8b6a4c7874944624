//! The label on an instrument: tag, whether it may be used, last check, next due, by whom, and a
//! code that leads to its page.

use qrcode::{EcLevel, QrCode};

use super::Svg;

/// What a label says.
#[derive(Debug, Clone, PartialEq)]
pub struct Label {
    /// Tag.
    pub tag: String,
    /// Name.
    pub name: String,
    /// May it be used: a word or two, in capitals on the label.
    pub state: String,
    /// "ok", "signal" or "out": the shape beside the words.
    pub mark: &'static str,
    /// What it may be used for, where restricted.
    pub only: String,
    /// Lines: last, next due, by whom.
    pub lines: Vec<(String, String)>,
    /// What the code holds.
    pub address: String,
}

const WIDTH: f64 = 360.0;
const HEIGHT: f64 = 170.0;
const CODE: f64 = 118.0;

fn short(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    let mut cut: String = text.chars().take(most.saturating_sub(1)).collect();
    cut.push('…');
    cut
}

impl Label {
    /// Draws it.
    pub fn draw(&self) -> String {
        let description = format!("Label of {}: {}", self.tag, self.state);
        let mut svg = Svg::begin("label", WIDTH, HEIGHT, &description);
        svg.rect("label-edge", (1.0, 1.0), (WIDTH - 2.0, HEIGHT - 2.0), 8.0);
        svg.words("label-tag", (16.0, 36.0), "start", &short(&self.tag, 14));
        svg.words("label-name", (16.0, 56.0), "start", &short(&self.name, 26));
        svg.mark(self.mark, (24.0, 79.0), 7.0);
        svg.words("label-state", (40.0, 85.0), "start", &short(&self.state, 19));
        let mut y = 104.0;
        if !self.only.is_empty() {
            svg.words("label-line", (16.0, y), "start", &short(&self.only, 29));
            y += 18.0;
        }
        for (name, words) in self.lines.iter().take(3) {
            svg.words("label-line", (16.0, y), "start", &short(&format!("{name} {words}"), 29));
            y += 18.0;
        }
        self.code(&mut svg);
        svg.end()
    }

    /// The code, dark modules as squares. A text too long for one leaves the place empty.
    fn code(&self, svg: &mut Svg) {
        let Ok(code) = QrCode::with_error_correction_level(&self.address, EcLevel::M) else {
            return;
        };
        let across = code.width();
        let module = CODE / across as f64;
        let (left, top) = (WIDTH - CODE - 16.0, 26.0);
        svg.rect("code-ground", (left - 8.0, top - 8.0), (CODE + 16.0, CODE + 16.0), 0.0);
        let mut way = String::new();
        for (index, color) in code.to_colors().iter().enumerate() {
            if *color == qrcode::Color::Dark {
                let (x, y) = ((index % across) as f64, (index / across) as f64);
                way.push_str(&format!(
                    "M{:.2} {:.2}h{module:.2}v{module:.2}h-{module:.2}z",
                    left + x * module,
                    top + y * module,
                ));
            }
        }
        svg.raw_path("code-dark", &way);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_label_has_its_words_and_its_code() {
        let label = Label {
            tag: "R-02".into(),
            name: "Tank scale & a very long name that does not fit".into(),
            state: "In service".into(),
            mark: "ok",
            only: String::new(),
            lines: vec![("last".into(), "24 Nov 2026".into())],
            address: "http://127.0.0.1:8300/instruments/R-02".into(),
        };
        let text = label.draw();
        assert!(text.contains("R-02") && text.contains("last 24 Nov 2026"));
        assert!(text.contains("&amp;") && text.contains('…'));
        // A code of this length has at least 29 modules across, near half of them dark.
        assert!(text.matches('z').count() > 300, "{}", text.matches('z').count());
        let long = Label { address: "x".repeat(9000), ..label };
        assert!(!long.draw().contains("code-dark"));
    }
}
