//! The timeline: release lines as bars over time, in text.

use anstyle::Style;
use jiff::civil::{Date, date};
use unicode_width::UnicodeWidthStr;
use vshelf_core::Phase;
use vshelf_core::timeline::Span;

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

impl Frame {
    /// The columns that the spine takes.
    fn indent(self) -> usize {
        if self.spine { 2 } else { 0 }
    }
}

/// The widths of the columns.
struct Columns {
    frame: Frame,
    name: usize,
    phase: usize,
    bars: usize,
    /// Whether what is on the shelf has a column; if there is no room for one, it follows in words.
    beside: bool,
}

/// The fewest columns that bars are drawn in beside what is on the shelf.
const LEAST: usize = 40;

impl Timeline {
    /// How far a day is from the beginning of the window, 0, to its end, 1.
    pub(crate) fn place(&self, day: Date) -> f64 {
        let days = |from: Date, to: Date| f64::from((to - from).get_days());
        (days(self.from, day) / days(self.from, self.until).max(1.0)).clamp(0.0, 1.0)
    }

    pub(crate) fn years(&self) -> impl Iterator<Item = Date> {
        let (from, until) = (self.from, self.until);
        (from.year()..=until.year())
            .map(|year| date(year, 1, 1))
            .filter(move |day| *day >= from && *day < until)
    }

    /// The timeline as text with ANSI styles.
    pub fn render(&self, frame: Frame) -> String {
        let columns = self.columns_in(frame);
        let mut text = String::new();
        self.render_heading(&mut text, &columns);
        for row in &self.rows {
            self.render_row(&mut text, row, &columns);
        }
        let indent = " ".repeat(frame.indent());
        text.push_str(&indent);
        self.render_legend(&mut text, frame.unicode);
        if !columns.beside {
            for row in self.rows.iter().filter(|row| !row.shelf.is_empty()) {
                text.push_str(&format!("{indent}{}: {}\n", row.name, row.shelf));
            }
        }
        text
    }

    fn columns_in(&self, frame: Frame) -> Columns {
        let width = |text: fn(&Row) -> &str| {
            let widths = self.rows.iter().map(|row| text(row).width());
            widths.max().unwrap_or(0)
        };
        let name = width(|row| &row.name).max("line".len());
        let phase = width(|row| row.phase.as_str()).max("phase".len());
        let shelf = width(|row| &row.shelf);
        let taken = frame.indent() + name + 2 + phase + 2;
        let room = frame.width.saturating_sub(taken);
        let beside = shelf > 0 && room >= shelf + 2 + LEAST;
        let bars = if beside {
            room - shelf - 2
        } else {
            room.max(LEAST)
        };
        Columns {
            frame,
            name,
            phase,
            bars,
            beside,
        }
    }

    fn render_heading(&self, text: &mut String, columns: &Columns) {
        let Columns {
            name, phase, bars, ..
        } = *columns;
        let mut years = vec![' '; bars];
        for year in self.years() {
            let at = self.column(year, bars);
            // A year that has no room, or would touch the one before, is left out.
            if at + 4 <= bars && (at == 0 || years[at - 1] == ' ') && years[at] == ' ' {
                let digits = year.year().to_string();
                for (cell, digit) in years[at..].iter_mut().zip(digits.chars()) {
                    *cell = digit;
                }
            }
        }
        let years: String = years.into_iter().collect();
        let shelf = if columns.beside { "  on the shelf" } else { "" };
        let line = format!("{:<name$}  {:<phase$}  {years}{shelf}", "line", "phase");
        text.push_str(&" ".repeat(columns.frame.indent()));
        push(text, Palette::HEADING, line.trim_end());
        text.push('\n');
    }

    fn render_row(&self, text: &mut String, row: &Row, columns: &Columns) {
        let (frame, phase) = (columns.frame, columns.phase);
        let style = Palette::phase(row.phase);
        if frame.spine {
            push(text, style, if frame.unicode { "▌ " } else { "| " });
        }
        let padding = " ".repeat(columns.name - row.name.width());
        let name_style = match row.phase {
            Phase::Ended => Palette::QUIET,
            _ => Palette::STRONG,
        };
        push(text, name_style, &format!("{}{padding}", row.name));
        text.push_str("  ");
        push(text, style, &format!("{:<phase$}", row.phase));
        text.push_str("  ");
        self.render_bar(text, row, columns.bars, frame);
        if columns.beside && !row.shelf.is_empty() {
            text.push_str("  ");
            text.push_str(&row.shelf);
        }
        text.truncate(text.trim_end_matches(' ').len());
        text.push('\n');
    }

    fn render_legend(&self, text: &mut String, unicode: bool) {
        for phase in self.legend() {
            let signs = sign(phase, unicode).to_string().repeat(2);
            push(text, Palette::phase(phase), &signs);
            push(text, Palette::QUIET, &format!(" {phase}   "));
        }
        push(text, Palette::STRONG, today_sign(unicode));
        push(text, Palette::QUIET, &format!(" {}", self.today));
        text.push('\n');
    }

    /// The phases that bars can show: that nothing is known only where that is so of a line.
    pub(crate) fn legend(&self) -> impl Iterator<Item = Phase> {
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
}

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
pub(crate) mod tests {
    use super::*;

    pub(crate) fn timeline() -> Timeline {
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
