//! The timeline: release lines as bars over time, in text and as a drawing.

use anstyle::Style;
use jiff::civil::{Date, date};
use unicode_width::UnicodeWidthStr;
use vshelf_core::Phase;
use vshelf_core::timeline::Span;

use crate::markup::{escaped, span_in_words};
use crate::palette::Palette;
use crate::table::push;

/// Lines over a window of time.
#[derive(Clone, Debug)]
pub struct Timeline {
    /// The runtime's name for people.
    pub title: String,
    /// The first day shown.
    pub from: Date,
    /// The first day that is not shown any more.
    pub until: Date,
    /// The day that phases are computed for.
    pub today: Date,
    /// The lines, newest first.
    pub rows: Vec<Row>,
}

/// One line.
#[derive(Clone, Debug)]
pub struct Row {
    /// Its name, with its code name.
    pub name: String,
    /// Its phase today.
    pub phase: Phase,
    /// Its life.
    pub spans: Vec<Span>,
    /// What of it is on the shelf, and what marks that has.
    pub shelf: String,
}

/// Where a timeline is shown.
#[derive(Clone, Copy, Debug)]
pub struct Frame {
    /// The columns there are.
    pub width: usize,
    /// Whether more than ASCII can be shown.
    pub unicode: bool,
    /// Whether rows begin with a spine.
    pub spine: bool,
}

/// The fewest columns that bars are drawn in beside what is on the shelf.
const LEAST: usize = 40;

impl Timeline {
    /// How far a day is from the beginning of the window, 0, to its end, 1.
    fn place(&self, day: Date) -> f64 {
        let days = |from: Date, to: Date| f64::from((to - from).get_days());
        (days(self.from, day) / days(self.from, self.until).max(1.0)).clamp(0.0, 1.0)
    }

    fn years(&self) -> impl Iterator<Item = Date> {
        let (from, until) = (self.from, self.until);
        (from.year()..=until.year())
            .map(|year| date(year, 1, 1))
            .filter(move |day| *day >= from && *day < until)
    }

    /// The timeline as text with ANSI styles.
    pub fn render(&self, frame: Frame) -> String {
        let width = |text: fn(&Row) -> &str| self.rows.iter().map(|row| text(row).width()).max();
        let name = width(|row| &row.name).unwrap_or(0).max("line".len());
        let phase = width(|row| row.phase.as_str())
            .unwrap_or(0)
            .max("phase".len());
        let shelf = width(|row| &row.shelf).unwrap_or(0);
        let spine = if frame.spine { 2 } else { 0 };
        let taken = spine + name + 2 + phase + 2;
        // What is on the shelf stands in words below where there is no room for it.
        let room = frame.width.saturating_sub(taken);
        let beside = shelf > 0 && room >= shelf + 2 + LEAST;
        let bars = if beside {
            room - shelf - 2
        } else {
            room.max(LEAST)
        };
        let mut text = String::new();
        let mut heading = vec![' '; bars];
        for year in self.years() {
            let at = self.column(year, bars);
            // A year that has no room, or would touch the one before, is left out.
            if at + 4 <= bars && (at == 0 || heading[at - 1] == ' ') && heading[at] == ' ' {
                for (cell, digit) in heading[at..]
                    .iter_mut()
                    .zip(year.year().to_string().chars())
                {
                    *cell = digit;
                }
            }
        }
        let heading: String = heading.into_iter().collect();
        let indent = " ".repeat(spine);
        let shelf_heading = if beside { "  on the shelf" } else { "" };
        let line = format!(
            "{:<name$}  {:<phase$}  {heading}{shelf_heading}",
            "line", "phase"
        );
        text.push_str(&indent);
        push(&mut text, Palette::HEADING, line.trim_end());
        text.push('\n');
        for row in &self.rows {
            let style = Palette::phase(row.phase);
            let ended = row.phase == Phase::Ended;
            if frame.spine {
                push(&mut text, style, if frame.unicode { "▌ " } else { "| " });
            }
            let padded = format!("{}{}", row.name, " ".repeat(name - row.name.width()));
            push(
                &mut text,
                if ended {
                    Palette::QUIET
                } else {
                    Palette::STRONG
                },
                &padded,
            );
            text.push_str("  ");
            push(&mut text, style, &format!("{:<phase$}", row.phase));
            text.push_str("  ");
            self.render_bar(&mut text, row, bars, frame);
            if beside && !row.shelf.is_empty() {
                text.push_str("  ");
                text.push_str(&row.shelf);
            }
            text.truncate(text.trim_end_matches(' ').len());
            text.push('\n');
        }
        text.push_str(&indent);
        for phase in self.legend() {
            let sign = sign(phase, frame.unicode);
            push(
                &mut text,
                Palette::phase(phase),
                &sign.to_string().repeat(2),
            );
            push(&mut text, Palette::QUIET, &format!(" {phase}   "));
        }
        push(&mut text, Palette::STRONG, today_sign(frame.unicode));
        push(&mut text, Palette::QUIET, &format!(" {}", self.today));
        text.push('\n');
        if !beside {
            for row in self.rows.iter().filter(|row| !row.shelf.is_empty()) {
                text.push_str(&format!("{indent}{}: {}\n", row.name, row.shelf));
            }
        }
        text
    }

    /// The phases that bars can show: that nothing is known only where that is so of a line.
    fn legend(&self) -> impl Iterator<Item = Phase> {
        let has_unknown = self.rows.iter().any(|row| row.phase == Phase::Unknown);
        let shown = move |phase: &Phase| match phase {
            Phase::Ended => false,
            Phase::Unknown => has_unknown,
            _ => true,
        };
        Phase::ALL.into_iter().filter(shown)
    }

    fn column(&self, day: Date, bars: usize) -> usize {
        ((self.place(day) * bars as f64) as usize).min(bars.saturating_sub(1))
    }

    fn render_bar(&self, text: &mut String, row: &Row, bars: usize, frame: Frame) {
        let mut cells: Vec<(char, Style)> = vec![(' ', Style::new()); bars];
        let visible = row.spans.iter().filter(|span| {
            span.from < self.until && span.until.is_none_or(|until| until > self.from)
        });
        for span in visible {
            let first = self.column(span.from, bars);
            let last = match span.until {
                // The last cell is that of the last day.
                Some(until) => self.column(until.yesterday().unwrap_or(until), bars),
                None => bars - 1,
            };
            let style = match row.phase {
                Phase::Ended => Palette::phase(Phase::Ended),
                _ => Palette::phase(span.phase),
            };
            for cell in &mut cells[first..=last.max(first)] {
                *cell = (sign(span.phase, frame.unicode), style);
            }
        }
        if self.today >= self.from && self.today < self.until {
            let sign = today_sign(frame.unicode).chars().next().unwrap_or('|');
            cells[self.column(self.today, bars)] = (sign, Palette::STRONG);
        }
        // Neighbours of one style are written together.
        for run in cells.chunk_by(|one, other| one.1 == other.1) {
            let signs: String = run.iter().map(|(sign, _)| *sign).collect();
            push(text, run[0].1, &signs);
        }
    }

    /// The timeline as an SVG (W3C Scalable Vector Graphics 1.1), which follows the reader's choice
    /// of a light or dark ground.
    pub fn render_svg(&self) -> String {
        const ROW: usize = 34;
        const BARS: usize = 640;
        // Text has no measure before it is drawn; letters are seldom wider than these.
        const LETTER: usize = 9;
        let longest = |text: fn(&Row) -> &str| {
            let widths = self.rows.iter().map(|row| text(row).width());
            LETTER * widths.max().unwrap_or(0)
        };
        let left = 40 + longest(|row| &row.name) + 110;
        let width = left + BARS + 16 + longest(|row| &row.shelf) + 24;
        let height = 92 + ROW * self.rows.len() + 44;
        let x = |day: Date| left as f64 + self.place(day) * BARS as f64;
        let mut svg = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width} {height}\" width=\"{width}\" height=\"{height}\" role=\"img\">\n"
        );
        svg.push_str(&format!(
            "<title>{}: support of its lines on {}</title>\n",
            escaped(&self.title),
            self.today
        ));
        svg.push_str(SVG_STYLE);
        svg.push_str(&format!(
            "<rect class=\"ground\" width=\"{width}\" height=\"{height}\" rx=\"8\"/>\n"
        ));
        svg.push_str(&format!(
            "<text class=\"title\" x=\"24\" y=\"38\">{}</text>\n",
            escaped(&self.title)
        ));
        let bottom = 72 + ROW * self.rows.len();
        for year in self.years() {
            let at = x(year);
            svg.push_str(&format!(
                "<line class=\"year\" x1=\"{at:.1}\" x2=\"{at:.1}\" y1=\"66\" y2=\"{bottom}\"/>\n"
            ));
            svg.push_str(&format!(
                "<text class=\"quiet\" x=\"{:.1}\" y=\"58\">{}</text>\n",
                at + 4.0,
                year.year()
            ));
        }
        for (place, row) in self.rows.iter().enumerate() {
            let y = 72 + ROW * place;
            let ended = if row.phase == Phase::Ended {
                " ended-line"
            } else {
                ""
            };
            svg.push_str(&format!("<g class=\"row{ended}\">\n"));
            svg.push_str(&format!(
                "<rect class=\"{}\" x=\"24\" y=\"{}\" width=\"5\" height=\"22\"/>\n",
                row.phase,
                y + 3
            ));
            svg.push_str(&format!(
                "<text class=\"name\" x=\"40\" y=\"{}\">{}</text>\n",
                y + 19,
                escaped(&row.name)
            ));
            svg.push_str(&format!(
                "<text class=\"{} word\" x=\"{}\" y=\"{}\">{}</text>\n",
                row.phase,
                left - 12,
                y + 19,
                row.phase
            ));
            for span in &row.spans {
                let (from, until) = (x(span.from), span.until.map_or(x(self.until), x));
                if until - from > 0.5 {
                    svg.push_str(&format!("<rect class=\"{}\" x=\"{from:.1}\" y=\"{}\" width=\"{:.1}\" height=\"16\" rx=\"2\"><title>{}</title></rect>\n", span.phase, y + 6, until - from, span_in_words(span)));
                }
            }
            svg.push_str(&format!(
                "<text class=\"shelf\" x=\"{}\" y=\"{}\">{}</text>\n</g>\n",
                left + BARS + 16,
                y + 19,
                escaped(&row.shelf)
            ));
        }
        let at = x(self.today);
        svg.push_str(&format!(
            "<line class=\"today\" x1=\"{at:.1}\" x2=\"{at:.1}\" y1=\"64\" y2=\"{bottom}\"/>\n"
        ));
        let y = bottom + 28;
        let mut legend = 40;
        for phase in self.legend() {
            svg.push_str(&format!("<rect class=\"{phase}\" x=\"{legend}\" y=\"{}\" width=\"14\" height=\"14\" rx=\"2\"/>\n", y - 12));
            svg.push_str(&format!(
                "<text class=\"quiet\" x=\"{}\" y=\"{y}\">{phase}</text>\n",
                legend + 20
            ));
            legend += 130;
        }
        svg.push_str(&format!(
            "<line class=\"today\" x1=\"{legend}\" x2=\"{legend}\" y1=\"{}\" y2=\"{}\"/>\n",
            y - 13,
            y + 3
        ));
        svg.push_str(&format!(
            "<text class=\"quiet\" x=\"{}\" y=\"{y}\">{}</text>\n</svg>\n",
            legend + 10,
            self.today
        ));
        svg
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

/// The higher, the more there is to come: told apart without any colour.
fn sign(phase: Phase, unicode: bool) -> char {
    match (phase, unicode) {
        (Phase::Preview, true) => '▂',
        (Phase::Current, true) => '▅',
        (Phase::Lts, true) => '█',
        (Phase::Maintenance, true) => '▃',
        (Phase::Preview, false) => '.',
        (Phase::Current, false) => '-',
        (Phase::Lts, false) => '#',
        (Phase::Maintenance, false) => '=',
        (Phase::Ended, _) => ' ',
        (Phase::Unknown, true) => '░',
        (Phase::Unknown, false) => '?',
    }
}

fn today_sign(unicode: bool) -> &'static str {
    if unicode { "┃" } else { "|" }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn timeline() -> Timeline {
        let span = |phase, from: Date, until: Option<Date>| Span { phase, from, until };
        let (start, lts, end) = (date(2025, 4, 1), date(2026, 1, 1), date(2028, 1, 1));
        let rows = vec![
            Row {
                name: "8 Eel<grass".into(),
                phase: Phase::Lts,
                spans: vec![
                    span(Phase::Current, start, Some(lts)),
                    span(Phase::Lts, lts, None),
                ],
                shelf: "8.3.1 default".into(),
            },
            Row {
                name: "4".into(),
                phase: Phase::Ended,
                spans: vec![span(
                    Phase::Maintenance,
                    date(2020, 1, 1),
                    Some(date(2024, 7, 1)),
                )],
                shelf: String::new(),
            },
        ];
        Timeline {
            title: "Marram".into(),
            from: date(2024, 1, 1),
            until: end,
            today: date(2026, 11, 23),
            rows,
        }
    }

    #[test]
    fn bars_fill_the_width_that_there_is() {
        let frame = Frame {
            width: 80,
            unicode: false,
            spine: false,
        };
        let plain = without_styles(&timeline().render(frame));
        let expected = "\
line         phase  2024       2025       2026       2027          on the shelf
8 Eel<grass  lts                  --------##########|############  8.3.1 default
4            ended  ======                          |
.. preview   -- current   ## lts   == maintenance   | 2026-11-23
";
        assert_eq!(plain, expected);
        for line in plain.lines() {
            assert!(line.width() <= 80, "{line}");
        }
    }

    #[test]
    fn a_narrow_terminal_has_the_shelf_below() {
        let frame = Frame {
            width: 50,
            unicode: true,
            spine: true,
        };
        let plain = without_styles(&timeline().render(frame));
        assert!(plain.contains("▌ 8 Eel<grass  lts"), "{plain}");
        assert!(
            plain.ends_with("\n  8 Eel<grass: 8.3.1 default\n"),
            "{plain}"
        );
    }

    #[test]
    fn the_drawing_is_escaped_and_has_every_row() {
        let svg = timeline().render_svg();
        assert!(svg.contains(">8 Eel&lt;grass</text>"), "{svg}");
        assert_eq!(svg.matches("<g class=\"row").count(), 2);
        assert_eq!(svg.matches("<g").count(), svg.matches("</g>").count());
        assert!(svg.contains("lts from 2026-01-01</title>"), "{svg}");
    }

    /// The text without its styles.
    fn without_styles(text: &str) -> String {
        let mut plain = String::new();
        let mut parts = text.split('\u{1b}');
        plain.push_str(parts.next().unwrap_or_default());
        for part in parts {
            plain.push_str(part.split_once('m').map_or("", |(_, rest)| rest));
        }
        plain
    }
}
