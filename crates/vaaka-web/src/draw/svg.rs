//! A small writer of SVG: every text is escaped, every number is short.

use std::fmt::Write;

/// An SVG under way.
#[derive(Debug)]
pub struct Svg {
    text: String,
}

/// Escapes text for XML.
pub fn escape(text: &str) -> String {
    let mut escaped = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '&' => escaped.push_str("&amp;"),
            '<' => escaped.push_str("&lt;"),
            '>' => escaped.push_str("&gt;"),
            '"' => escaped.push_str("&quot;"),
            '\'' => escaped.push_str("&#39;"),
            other => escaped.push(other),
        }
    }
    escaped
}

/// A coordinate with one decimal, which is finer than any screen; never an exponent or NaN.
pub fn number(value: f64) -> String {
    if !value.is_finite() {
        return "0".to_owned();
    }
    let text = format!("{value:.1}");
    text.strip_suffix(".0").map(str::to_owned).unwrap_or(text)
}

impl Svg {
    /// Begins a drawing that stands for a sentence.
    pub fn begin(class: &str, width: f64, height: f64, description: &str) -> Self {
        let mut text = String::with_capacity(2048);
        let _ = write!(
            text,
            "<svg class=\"{}\" viewBox=\"0 0 {} {}\" role=\"img\" aria-label=\"{}\" xmlns=\"http://www.w3.org/2000/svg\">",
            escape(class),
            number(width),
            number(height),
            escape(description)
        );
        Self { text }
    }

    /// Adds a shape: its name, its class and its attributes in pairs.
    pub fn shape(&mut self, name: &str, class: &str, attributes: &[(&str, f64)]) -> &mut Self {
        let _ = write!(self.text, "<{name} class=\"{}\"", escape(class));
        for (key, value) in attributes {
            let _ = write!(self.text, " {key}=\"{}\"", number(*value));
        }
        self.text.push_str("/>");
        self
    }

    /// Adds a line.
    pub fn line(&mut self, class: &str, from: (f64, f64), to: (f64, f64)) -> &mut Self {
        self.shape("line", class, &[("x1", from.0), ("y1", from.1), ("x2", to.0), ("y2", to.1)])
    }

    /// Adds a rectangle.
    pub fn rect(
        &mut self,
        class: &str,
        corner: (f64, f64),
        size: (f64, f64),
        round: f64,
    ) -> &mut Self {
        self.shape(
            "rect",
            class,
            &[
                ("x", corner.0),
                ("y", corner.1),
                ("width", size.0.max(0.0)),
                ("height", size.1.max(0.0)),
                ("rx", round),
            ],
        )
    }

    /// Adds a circle.
    pub fn circle(&mut self, class: &str, center: (f64, f64), radius: f64) -> &mut Self {
        self.shape("circle", class, &[("cx", center.0), ("cy", center.1), ("r", radius)])
    }

    /// Adds a closed outline or an open line through points.
    pub fn path(&mut self, class: &str, points: &[(f64, f64)], closed: bool) -> &mut Self {
        let mut way = String::with_capacity(points.len() * 12);
        for (index, (x, y)) in points.iter().enumerate() {
            way.push(if index == 0 { 'M' } else { 'L' });
            let _ = write!(way, "{} {}", number(*x), number(*y));
        }
        if closed {
            way.push('Z');
        }
        let _ = write!(self.text, "<path class=\"{}\" d=\"{way}\"/>", escape(class));
        self
    }

    /// Adds an outline whose way is written already, from numbers only.
    pub fn raw_path(&mut self, class: &str, way: &str) -> &mut Self {
        let _ = write!(self.text, "<path class=\"{}\" d=\"{}\"/>", escape(class), escape(way));
        self
    }

    /// Adds words; `anchor` is start, middle or end.
    pub fn words(&mut self, class: &str, at: (f64, f64), anchor: &str, text: &str) -> &mut Self {
        let _ = write!(
            self.text,
            "<text class=\"{}\" x=\"{}\" y=\"{}\" text-anchor=\"{anchor}\">{}</text>",
            escape(class),
            number(at.0),
            number(at.1),
            escape(text)
        );
        self
    }

    /// Opens a group with a class and data attributes for scripts.
    pub fn open(&mut self, class: &str, data: &[(&str, &str)]) -> &mut Self {
        let _ = write!(self.text, "<g class=\"{}\"", escape(class));
        for (key, value) in data {
            let _ = write!(self.text, " data-{key}=\"{}\"", escape(value));
        }
        self.text.push('>');
        self
    }

    /// Closes the group.
    pub fn close(&mut self) -> &mut Self {
        self.text.push_str("</g>");
        self
    }

    /// A mark in the shape of its state: round in control, triangle for a signal, square outside
    /// tolerance.
    pub fn mark(&mut self, state: &str, (x, y): (f64, f64), size: f64) -> &mut Self {
        let class = format!("mark {state}");
        match state {
            "out" => self.rect(&class, (x - size, y - size), (2.0 * size, 2.0 * size), 0.0),
            "signal" => {
                let h = 1.2 * size;
                self.path(&class, &[(x - h, y + size), (x, y - h), (x + h, y + size)], true)
            }
            _ => self.circle(&class, (x, y), size),
        }
    }

    /// Ends the drawing.
    pub fn end(mut self) -> String {
        self.text.push_str("</svg>");
        self.text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_cannot_break_out() {
        let mut svg = Svg::begin("a", 10.0, 10.0, "\"><script>");
        svg.words("b", (0.0, f64::NAN), "start", "<b> & 'c'");
        let text = svg.end();
        assert!(!text.contains("<script>") && !text.contains("<b>"), "{text}");
        assert!(text.contains("&lt;b&gt; &amp; &#39;c&#39;"));
        assert!(!text.contains("NaN"));
    }

    #[test]
    fn numbers_are_short() {
        assert_eq!(number(12.04), "12");
        assert_eq!(number(-0.56), "-0.6");
        assert_eq!(number(1e9), "1000000000");
    }
}
