//! The timeline as a drawing: an SVG (W3C Scalable Vector Graphics 1.1), which follows the reader's choice of a light or
//! dark ground.

use std::fmt::Write;

use jiff::civil::Date;
use unicode_width::UnicodeWidthStr;
use vshelf_core::Phase;

use crate::markup::{escaped, span_in_words};
use crate::timeline::{Row, Timeline};

/// The height of a row, in pixels.
const ROW: usize = 34;
/// The width of all bars, in pixels.
const BARS: usize = 640;
/// The pixels of a letter: text has no measure before it is drawn, and letters are seldom wider than these.
const LETTER: usize = 9;
/// The top of the first row, in pixels.
const TOP: usize = 72;

/// A drawing in the making, with its measures in pixels.
struct Drawing<'t> {
    timeline: &'t Timeline,
    /// The left end of the bars.
    left: usize,
    /// The lower end of the bars.
    bottom: usize,
    text: String,
}

impl Timeline {
    /// The timeline as an SVG document.
    pub fn render_svg(&self) -> String {
        let longest = |text: fn(&Row) -> &str| {
            let widths = self.rows.iter().map(|row| text(row).width());
            LETTER * widths.max().unwrap_or(0)
        };
        let mut drawing = Drawing {
            timeline: self,
            left: 40 + longest(|row| &row.name) + 110,
            bottom: TOP + ROW * self.rows.len(),
            text: String::new(),
        };
        drawing.begin(longest(|row| &row.shelf));
        drawing.draw_years();
        for (place, row) in self.rows.iter().enumerate() {
            drawing.draw_row(TOP + ROW * place, row);
        }
        drawing.draw_today();
        drawing.draw_legend();
        drawing.text
    }
}

impl Drawing<'_> {
    fn put(&mut self, line: std::fmt::Arguments<'_>) {
        // Writing to a text cannot fail.
        self.text.write_fmt(line).unwrap_or_default();
        self.text.push('\n');
    }

    fn x(&self, day: Date) -> f64 {
        self.left as f64 + self.timeline.place(day) * BARS as f64
    }

    fn begin(&mut self, shelf: usize) {
        let width = self.left + BARS + 16 + shelf + 24;
        let height = self.bottom + 64;
        let title = escaped(&self.timeline.title);
        let today = self.timeline.today;
        self.put(format_args!("<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width} {height}\" width=\"{width}\" height=\"{height}\" role=\"img\">"));
        self.put(format_args!(
            "<title>{title}: support of its lines on {today}</title>"
        ));
        self.text.push_str(SVG_STYLE);
        self.put(format_args!(
            "<rect class=\"ground\" width=\"{width}\" height=\"{height}\" rx=\"8\"/>"
        ));
        self.put(format_args!(
            "<text class=\"title\" x=\"24\" y=\"38\">{title}</text>"
        ));
    }

    fn draw_years(&mut self) {
        let bottom = self.bottom;
        for year in self.timeline.years() {
            let at = self.x(year);
            self.put(format_args!(
                "<line class=\"year\" x1=\"{at:.1}\" x2=\"{at:.1}\" y1=\"66\" y2=\"{bottom}\"/>"
            ));
            self.put(format_args!(
                "<text class=\"quiet\" x=\"{:.1}\" y=\"58\">{}</text>",
                at + 4.0,
                year.year()
            ));
        }
    }

    fn draw_row(&mut self, y: usize, row: &Row) {
        let ended = match row.phase {
            Phase::Ended => " ended-line",
            _ => "",
        };
        let (phase, base) = (row.phase, y + 19);
        self.put(format_args!("<g class=\"row{ended}\">"));
        self.put(format_args!(
            "<rect class=\"{phase}\" x=\"24\" y=\"{}\" width=\"5\" height=\"22\"/>",
            y + 3
        ));
        self.put(format_args!(
            "<text class=\"name\" x=\"40\" y=\"{base}\">{}</text>",
            escaped(&row.name)
        ));
        self.put(format_args!(
            "<text class=\"{phase} word\" x=\"{}\" y=\"{base}\">{phase}</text>",
            self.left - 12
        ));
        for span in &row.spans {
            let from = self.x(span.from);
            let width = self.x(span.until.unwrap_or(self.timeline.until)) - from;
            if width > 0.5 {
                self.put(format_args!("<rect class=\"{}\" x=\"{from:.1}\" y=\"{}\" width=\"{width:.1}\" height=\"16\" rx=\"2\"><title>{}</title></rect>", span.phase, y + 6, span_in_words(span)));
            }
        }
        let beside = self.left + BARS + 16;
        self.put(format_args!(
            "<text class=\"shelf\" x=\"{beside}\" y=\"{base}\">{}</text>",
            escaped(&row.shelf)
        ));
        self.put(format_args!("</g>"));
    }

    fn draw_today(&mut self) {
        let (at, bottom) = (self.x(self.timeline.today), self.bottom);
        self.put(format_args!(
            "<line class=\"today\" x1=\"{at:.1}\" x2=\"{at:.1}\" y1=\"64\" y2=\"{bottom}\"/>"
        ));
    }

    fn draw_legend(&mut self) {
        let y = self.bottom + 28;
        let mut x = 40;
        for phase in self.timeline.legend() {
            self.put(format_args!(
                "<rect class=\"{phase}\" x=\"{x}\" y=\"{}\" width=\"14\" height=\"14\" rx=\"2\"/>",
                y - 12
            ));
            self.put(format_args!(
                "<text class=\"quiet\" x=\"{}\" y=\"{y}\">{phase}</text>",
                x + 20
            ));
            x += 130;
        }
        self.put(format_args!(
            "<line class=\"today\" x1=\"{x}\" x2=\"{x}\" y1=\"{}\" y2=\"{}\"/>",
            y - 13,
            y + 3
        ));
        self.put(format_args!(
            "<text class=\"quiet\" x=\"{}\" y=\"{y}\">{}</text>",
            x + 10,
            self.timeline.today
        ));
        self.put(format_args!("</svg>"));
    }
}

/// The colours are those of the palette on both grounds.
const SVG_STYLE: &str = "<style>
svg { font: 15px system-ui, sans-serif; }
.ground { fill: #ffffff; } text { fill: #1b2128; } .quiet { fill: #5c6670; }
.title { font-weight: 700; font-size: 20px; } .name { font-weight: 600; } .word { text-anchor: end; font-size: 13px; }
.year { stroke: #d9dee3; } .today { stroke: #1b2128; stroke-width: 2; }
.preview { fill: #a855c8; } .current { fill: #0b76e0; } .lts { fill: #00916f; } .maintenance { fill: #bd6f00; } .ended { fill: #7d868f; } .unknown { fill: #5f5f87; }
.ended-line rect { fill: #7d868f; opacity: .55; } .ended-line text { fill: #5c6670; }
@media (prefers-color-scheme: dark) {
.ground { fill: #11151a; } text { fill: #d7dce2; } .quiet { fill: #98a2ad; }
.year { stroke: #2b323a; } .today { stroke: #ffffff; }
.preview { fill: #c58be0; } .current { fill: #4da3ff; } .lts { fill: #19b58f; } .maintenance { fill: #e0952b; } .ended { fill: #8b949e; } .unknown { fill: #8a8ab5; }
.ended-line text { fill: #98a2ad; }
}
</style>
";

#[cfg(test)]
mod tests {
    use crate::timeline::tests::timeline;

    #[test]
    fn the_drawing_is_escaped_and_has_every_row() {
        let svg = timeline().render_svg();
        assert!(svg.contains(">8 Eel&lt;grass</text>"), "{svg}");
        assert_eq!(svg.matches("<g class=\"row").count(), 2);
        assert_eq!(svg.matches("<g").count(), svg.matches("</g>").count());
        assert!(svg.contains("lts from 2026-01-01</title>"), "{svg}");
    }
}
