//! The view on a terminal of 80 columns and 24 rows or more.

use std::ops::Range;

use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph, Widget, Wrap};
use unicode_width::UnicodeWidthStr;
use vshelf_core::Phase;

use super::state::{BrowseItem, Browser, Message, Mode, TransferProgress};
use crate::Palette;
use crate::words::{Count, broken, megabytes, printable};

/// The columns and rows that the view needs.
pub const SMALLEST: (u16, u16) = (80, 24);

/// Columns from one spine to the next, a gap among them, at least and at most.
const STEPS: (u16, u16) = (8, 14);

/// Rows of the shelf: the tallest spine, the board, and the phases below it.
const SHELF: u16 = 7;

/// Columns of the window from which on the list has days.
const DATED: u16 = 104;

/// Columns of a day, with the room behind it.
const DAY: usize = 12;

/// Columns that the card gets whatever the list needs.
const CARD: u16 = 44;

/// Rows that all but what is told at the lower edge needs.
const ELSEWHERE: u16 = 19;

/// Columns of the bar of a download.
const BAR: usize = 24;

/// What the terminal can show.
#[derive(Clone, Copy, Debug)]
pub struct Appearance {
    /// Colours.
    pub colours: bool,
    /// More than ASCII.
    pub unicode: bool,
}

impl Appearance {
    fn style(self, style: anstyle::Style) -> Style {
        let mut drawn = Style::new();
        if let Some(colour) = style.get_fg_color().filter(|_| self.colours) {
            drawn = drawn.fg(match colour {
                anstyle::Color::Ansi256(index) => Color::Indexed(index.0),
                anstyle::Color::Ansi(colour) => Color::Indexed(colour as u8),
                anstyle::Color::Rgb(rgb) => Color::Rgb(rgb.0, rgb.1, rgb.2),
            });
        }
        let effects = style.get_effects();
        for (effect, modifier) in [
            (anstyle::Effects::BOLD, Modifier::BOLD),
            (anstyle::Effects::DIMMED, Modifier::DIM),
            (anstyle::Effects::UNDERLINE, Modifier::UNDERLINED),
        ] {
            if effects.contains(effect) {
                drawn = drawn.add_modifier(modifier);
            }
        }
        drawn
    }

    fn phase(self, phase: Phase) -> Style {
        self.style(Palette::phase(phase))
    }

    /// One sign, or its place in ASCII.
    fn sign(self, sign: &'static str, ascii: &'static str) -> &'static str {
        if self.unicode { sign } else { ascii }
    }

    /// `text` in as many columns as there are.
    fn cut(self, text: &str, columns: usize) -> String {
        if text.width() <= columns {
            return text.to_owned();
        }
        let end = self.sign("…", ".");
        let mut cut = String::new();
        for c in text.chars() {
            if cut.width() + end.width() + c.to_string().width() > columns {
                break;
            }
            cut.push(c);
        }
        if columns == 0 { cut } else { cut + end }
    }
}

/// Draws the view.
pub fn draw(frame: &mut Frame<'_>, browser: &Browser, look: Appearance) {
    let area = frame.area();
    if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
        let text = format!(
            "This view needs {} columns and {} rows, and here are {} and {}. Make the window larger, or press q to leave.",
            SMALLEST.0, SMALLEST.1, area.width, area.height
        );
        let text = Paragraph::new(text).wrap(Wrap { trim: true });
        return frame.render_widget(text, area);
    }
    let drawing = Drawing {
        browser,
        look,
        window: area.width,
    };
    let told = usize::from(area.height - ELSEWHERE);
    let edge = drawing.lower_edge(usize::from(area.width) - 2, told);
    let rows = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(1),
        Constraint::Length(SHELF),
        Constraint::Length(2),
        Constraint::Min(6),
        Constraint::Length(edge.len() as u16),
        Constraint::Length(1),
    ])
    .split(area);
    let buffer = frame.buffer_mut();
    drawing.head(rows[0], buffer);
    drawing.shelf(rows[2], buffer);
    drawing.caption(rows[3], buffer);
    let columns = Layout::horizontal([
        Constraint::Length(drawing.list_width()),
        Constraint::Length(2),
        Constraint::Min(20),
        Constraint::Length(1),
    ])
    .split(rows[4]);
    drawing.list(columns[0], buffer);
    drawing.card(columns[2], buffer);
    Paragraph::new(edge).render(inset(rows[5]), buffer);
    Paragraph::new(drawing.keys()).render(inset(rows[6]), buffer);
    if browser.mode == Mode::Helping {
        drawing.help(area, buffer);
    }
}

fn inset(area: Rect) -> Rect {
    Rect {
        x: area.x + 1,
        width: area.width.saturating_sub(2),
        ..area
    }
}

/// The marks and remarks of a release.
fn marks_of(entry: &BrowseItem) -> String {
    let on_shelf = (entry.on_shelf && entry.marks.is_empty()).then_some("on the shelf");
    let marks = entry.marks.iter().map(String::as_str).chain(on_shelf);
    let marks = marks.chain(entry.remarks.iter().map(String::as_str));
    printable(&marks.collect::<Vec<_>>().join(", "))
}

/// What is drawn, and with what.
struct Drawing<'b> {
    browser: &'b Browser,
    look: Appearance,
    /// The columns of the window.
    window: u16,
}

impl Drawing<'_> {
    fn quiet(&self) -> Style {
        self.look.style(Palette::QUIET)
    }

    fn strong(&self) -> Style {
        self.look.style(Palette::STRONG)
    }

    fn head(&self, area: Rect, buffer: &mut Buffer) {
        let snapshot = &self.browser.snapshot;
        let on_shelf = snapshot
            .entries
            .iter()
            .filter(|entry| entry.on_shelf)
            .count();
        let counts = format!(
            "   {} in {}, {on_shelf} on the shelf",
            Count(snapshot.entries.len(), "release"),
            Count(snapshot.spines.len(), "line"),
        );
        let title = Line::from(vec![
            Span::styled(snapshot.title.clone(), self.strong()),
            Span::styled(counts, self.quiet()),
        ]);
        Paragraph::new(title).render(inset(area), buffer);
        let active = Line::from(printable(&snapshot.active)).right_aligned();
        Paragraph::new(active).render(inset(area), buffer);
    }

    /// Columns from one spine to the next: as many as there are when all are to be seen.
    fn step(&self, width: u16) -> u16 {
        let spines = self.browser.snapshot.spines.len().clamp(1, 100) as u16;
        ((width + 1) / spines).clamp(STEPS.0, STEPS.1)
    }

    /// The lines that are drawn: as many as fit, the one that stands out among them.
    fn shown_spines(&self, width: u16) -> Range<usize> {
        let fit = usize::from((width + 1) / self.step(width));
        let all = self.browser.snapshot.spines.len();
        let first = self.browser.spine.saturating_sub(fit / 2);
        let first = first.min(all.saturating_sub(fit));
        first..(first + fit).min(all)
    }

    fn shelf(&self, area: Rect, buffer: &mut Buffer) {
        let area = inset(area);
        let shown = self.shown_spines(area.width);
        let step = self.step(area.width);
        let listed = self.browser.listed_spines();
        for at in shown.clone() {
            let x = area.x + (at - shown.start) as u16 * step;
            let stands_out = at == self.browser.spine;
            let top = area.y + u16::from(!stands_out);
            let spine = Rect::new(x, top, step - 1, area.y + SHELF - 2 - top);
            let is_empty = !self.browser.filter.is_empty() && !listed.contains(&at);
            self.spine(at, spine, is_empty, buffer);
        }
        let board = area.y + SHELF - 2;
        let sign = self.look.sign("▔", "=");
        let more = |yes: bool, sign| if yes { sign } else { " " };
        for x in area.x..area.right() {
            buffer.set_string(x, board, sign, self.quiet());
        }
        let left = more(shown.start > 0, self.look.sign("‹", "<"));
        buffer.set_string(area.x - 1, board - 2, left, self.strong());
        let right = more(
            shown.end < self.browser.snapshot.spines.len(),
            self.look.sign("›", ">"),
        );
        buffer.set_string(area.right(), board - 2, right, self.strong());
        self.phases(area, shown, buffer);
    }

    /// A word below each run of lines in one phase.
    fn phases(&self, area: Rect, shown: Range<usize>, buffer: &mut Buffer) {
        let spines = &self.browser.snapshot.spines;
        let step = self.step(area.width);
        let mut at = shown.start;
        while at < shown.end {
            let phase = spines[at].phase;
            let run = spines[at..shown.end].iter();
            let run = run.take_while(|spine| spine.phase == phase).count();
            let x = area.x + (at - shown.start) as u16 * step;
            let columns = run * usize::from(step) - 1;
            let word = self.look.cut(phase.as_str(), columns);
            let y = area.y + SHELF - 1;
            buffer.set_string(x, y, word, self.look.phase(phase));
            at += run;
        }
    }

    /// One line as the spine of a book: its number, its code name, and a mark for each install.
    fn spine(&self, at: usize, area: Rect, is_empty: bool, buffer: &mut Buffer) {
        let spine = &self.browser.snapshot.spines[at];
        let stands_out = at == self.browser.spine;
        let colour = self.look.phase(spine.phase);
        let mut style = match colour.fg {
            Some(colour) => Style::new().bg(colour).fg(Color::Indexed(16)),
            None => Style::new().add_modifier(Modifier::REVERSED),
        };
        if is_empty || (!self.look.colours && !stands_out) {
            // Nothing of it is listed; or, without colours, it is a book among others.
            style = if is_empty { self.quiet() } else { Style::new() };
        }
        let installs = (self.browser.snapshot.entries.iter())
            .filter(|entry| entry.spine == Some(at) && entry.on_shelf)
            .count();
        let inner = usize::from(area.width) - 2;
        let many = self.look.sign("■", "*");
        let installs = match installs {
            0..=3 => vec![many; installs].join(" "),
            more => format!("{more} {many}"),
        };
        let codename = self.look.cut(&printable(&spine.codename), inner);
        let rows = [String::new(), printable(&spine.name), codename, installs];
        for y in 0..area.height {
            let text = match stands_out {
                true => rows.get(usize::from(y)),
                false => rows.get(usize::from(y) + 1),
            };
            let text = text.map(String::as_str).unwrap_or_default();
            let side = if style.bg.is_some() || style.add_modifier.contains(Modifier::REVERSED) {
                " "
            } else {
                self.look.sign("│", "|")
            };
            let text = format!("{side}{text:^inner$}{side}");
            let bold = usize::from(y) == usize::from(stands_out);
            let style = match bold {
                true => style.add_modifier(Modifier::BOLD),
                false => style,
            };
            buffer.set_string(area.x, area.y + y, text, style);
        }
    }

    /// What stands below the shelf: the line that stands out, or the filter.
    fn caption(&self, area: Rect, buffer: &mut Buffer) {
        let browser = self.browser;
        let filtering = browser.mode == Mode::Filtering;
        let line = match (
            browser.filter.is_empty() && !filtering,
            browser.snapshot.spines.get(browser.spine),
        ) {
            (true, Some(spine)) => Line::from(vec![Span::styled(
                printable(&spine.about),
                self.look.phase(spine.phase),
            )]),
            (true, None) => Line::from(""),
            (false, _) => {
                let cursor = if filtering {
                    self.look.sign("▏", "_")
                } else {
                    ""
                };
                let count = Count(browser.listed.len(), "release");
                Line::from(vec![
                    Span::styled("Filter: ", self.quiet()),
                    Span::styled(
                        format!("{}{cursor}", printable(&browser.filter)),
                        self.strong(),
                    ),
                    Span::styled(format!("   {count} of all lines"), self.quiet()),
                ])
            }
        };
        Paragraph::new(line).render(inset(area), buffer);
    }

    fn list(&self, area: Rect, buffer: &mut Buffer) {
        let browser = self.browser;
        let area = Rect {
            x: area.x + 1,
            width: area.width - 1,
            ..area
        };
        if browser.listed.is_empty() {
            let text = match browser.filter.is_empty() {
                true => "Nothing of this line is published.",
                false => "Nothing matches the filter. Esc clears it.",
            };
            let text = Paragraph::new(text).wrap(Wrap { trim: true });
            return text.style(self.quiet()).render(area, buffer);
        }
        let rows = usize::from(area.height);
        let first = browser.place.saturating_sub(rows / 2);
        let first = first.min(browser.listed.len().saturating_sub(rows));
        let shown = browser.listed.iter().enumerate().skip(first).take(rows);
        for (row, (place, entry)) in shown.enumerate() {
            let entry = &browser.snapshot.entries[*entry];
            let line = self.row(entry, place == browser.place, usize::from(area.width));
            buffer.set_line(area.x, area.y + row as u16, &line, area.width);
        }
        let behind = browser.listed.len() - first;
        if behind > rows || first > 0 {
            let bar = area.y + (first * rows / browser.listed.len()) as u16;
            let length = (rows * rows / browser.listed.len()).max(1) as u16;
            for y in bar..(bar + length).min(area.bottom()) {
                let sign = self.look.sign("┃", "#");
                buffer.set_string(area.right(), y, sign, self.quiet());
            }
        }
    }

    /// Columns of the list: what its rows need, as far as the card has room beside it.
    fn list_width(&self) -> u16 {
        let window = self.window;
        let least = (window * 9 / 20).max(38);
        let most = window.saturating_sub(CARD).max(least);
        let marks = self.entries().map(|entry| marks_of(entry).width());
        let date = if self.has_days() { DAY } else { 0 };
        let needed = 4 + self.name_width() + date + marks.max().unwrap_or(0);
        u16::try_from(needed).unwrap_or(most).clamp(least, most)
    }

    /// Whether the list has days; where there is little room the card alone says them.
    fn has_days(&self) -> bool {
        self.window >= DATED
    }

    fn entries(&self) -> impl Iterator<Item = &BrowseItem> {
        let browser = self.browser;
        let listed = browser.listed.iter();
        listed.map(|entry| &browser.snapshot.entries[*entry])
    }

    /// Columns of the names in the list.
    fn name_width(&self) -> usize {
        let widest = self.entries().map(|entry| entry.name.width()).max();
        widest.unwrap_or(0).clamp(16, 24)
    }

    fn row(&self, entry: &BrowseItem, is_chosen: bool, width: usize) -> Line<'static> {
        let phase = entry
            .spine
            .map(|spine| self.browser.snapshot.spines[spine].phase);
        let spine = phase.map_or(self.quiet(), |phase| self.look.phase(phase));
        let names = self.name_width();
        let date = match (entry.date, self.has_days()) {
            (Some(date), true) => format!("{date}  "),
            (None, true) => " ".repeat(DAY),
            (_, false) => String::new(),
        };
        let name = self.look.cut(&entry.name, names);
        let left = width.saturating_sub(2 + names + 1 + date.width());
        let marks = self.look.cut(&marks_of(entry), left);
        let mut name_style = match entry.on_shelf {
            true => self.strong(),
            false => Style::new(),
        };
        let mut rest = self.quiet();
        if is_chosen {
            name_style = name_style.add_modifier(Modifier::REVERSED);
            rest = Style::new().add_modifier(Modifier::REVERSED);
        }
        let mark_style = match is_chosen {
            true => rest,
            false => Style::new(),
        };
        Line::from(vec![
            Span::styled(self.look.sign("▌", "|"), spine),
            Span::raw(if is_chosen {
                self.look.sign("▸", ">")
            } else {
                " "
            }),
            Span::styled(format!("{name:<names$} "), name_style),
            Span::styled(date, rest),
            Span::styled(format!("{marks:<left$}"), mark_style),
        ])
    }

    fn card(&self, area: Rect, buffer: &mut Buffer) {
        let Some(entry) = self.browser.chosen() else {
            return;
        };
        let title = format!("{} {}", self.browser.snapshot.title, entry.name);
        let mut lines = vec![Line::styled(title, self.strong())];
        let names = self.browser.card.iter().map(|(name, _)| name.width()).max();
        let names = names.unwrap_or(0);
        let columns = usize::from(area.width).saturating_sub(names + 2).max(8);
        for (name, fact) in &self.browser.card {
            for (index, piece) in broken(fact, columns).into_iter().enumerate() {
                let name = if index == 0 { name.as_str() } else { "" };
                lines.push(Line::from(vec![
                    Span::styled(format!("{name:<names$}  "), self.quiet()),
                    Span::raw(piece),
                ]));
            }
        }
        Paragraph::new(lines).render(area, buffer);
    }

    /// What is told, asked or under way at the lower edge, in so many rows below the rule at most.
    fn lower_edge(&self, width: usize, rows: usize) -> Vec<Line<'static>> {
        let browser = self.browser;
        let rule = self.look.sign("─", "-").repeat(width);
        let mut lines = vec![Line::styled(rule, self.quiet())];
        match &browser.mode {
            Mode::Asking(question, _) => {
                let style = self.look.style(Palette::WARNING);
                let question = broken(question, width).into_iter();
                lines.extend(question.map(|piece| Line::styled(piece, style)));
                return lines;
            }
            Mode::Naming(name) => {
                let entry = browser.chosen().map(|entry| entry.name.clone());
                lines.push(Line::from(vec![
                    Span::raw(format!("A label for {}: ", entry.unwrap_or_default())),
                    Span::styled(
                        format!("{}{}", printable(name), self.look.sign("▏", "_")),
                        self.strong(),
                    ),
                ]));
                return lines;
            }
            _ => {}
        }
        let mut told: Vec<Line<'static>> = Vec::new();
        for one in &browser.told {
            let (text, style) = match one {
                Message::Command(command) => (command, self.look.style(Palette::COMMAND)),
                Message::Line(text) => (text, Style::new()),
                Message::Failure(text) => (text, self.look.style(Palette::ERROR)),
            };
            let pieces = text
                .lines()
                .flat_map(|line| broken(&printable(line), width));
            told.extend(pieces.map(|piece| Line::styled(piece, style)));
        }
        if let Some(progress) = &browser.progress {
            told.push(self.progress(progress));
        }
        // The command stays to be seen above what it said last, or how a failure begins.
        let beyond = told.len().saturating_sub(rows);
        match browser
            .told
            .iter()
            .any(|one| matches!(one, Message::Failure(_)))
        {
            true => told.truncate(rows),
            false if beyond > 0 => drop(told.drain(1..=beyond)),
            false => {}
        }
        lines.extend(told);
        lines
    }

    fn progress(&self, progress: &TransferProgress) -> Line<'static> {
        let TransferProgress {
            title,
            bytes,
            all,
            doing,
        } = progress;
        if let Some(doing) = doing {
            return Line::from(format!("{title}  {doing}"));
        }
        let all = all.filter(|all| *all > 0);
        let done = all.map_or(0, |all| (*bytes as f64 / all as f64 * BAR as f64) as usize);
        let done = done.min(BAR);
        let came = megabytes(*bytes);
        let of = all
            .map(|all| format!(" of {}", megabytes(all)))
            .unwrap_or_default();
        Line::from(vec![
            Span::raw(format!("{title}  ")),
            Span::styled(
                self.look.sign("━", "=").repeat(done),
                self.look.style(Palette::COMMAND),
            ),
            Span::styled(self.look.sign("╌", "-").repeat(BAR - done), self.quiet()),
            Span::raw(format!("  {came}{of}")),
        ])
    }

    /// The keys that do something now.
    fn keys(&self) -> Line<'static> {
        let browser = self.browser;
        let (arrows, along) = match self.look.unicode {
            true => ("←→↑↓", "↑↓"),
            false => ("arrows", "up/down"),
        };
        let keys: Vec<(&str, &str)> = match &browser.mode {
            Mode::Asking(..) => vec![("y", "yes"), ("n", "no")],
            Mode::Naming(_) => vec![("Enter", "set the label"), ("Esc", "leave it")],
            Mode::Filtering => vec![
                ("Enter", "choose among these"),
                (along, "release"),
                ("Esc", "clear the filter"),
            ],
            Mode::Helping => vec![("any key", "back")],
            Mode::Looking => {
                let mut keys = vec![(arrows, "move")];
                match browser.chosen() {
                    _ if browser.busy => {}
                    Some(entry) if entry.on_shelf => keys.extend([
                        ("s", "switch"),
                        ("d", "default"),
                        ("l", "label"),
                        ("r", "remove"),
                    ]),
                    Some(entry) if entry.refused.is_none() => keys.push(("i", "install")),
                    _ => {}
                }
                keys.extend([("/", "filter"), ("?", "keys"), ("q", "leave")]);
                keys
            }
        };
        let mut spans = Vec::new();
        for (key, what) in keys {
            spans.push(Span::styled(
                key.to_owned(),
                self.look.style(Palette::COMMAND),
            ));
            spans.push(Span::styled(format!(" {what}  "), self.quiet()));
        }
        Line::from(spans)
    }

    /// All keys.
    fn help(&self, area: Rect, buffer: &mut Buffer) {
        const KEYS: [(&str, &str); 13] = [
            ("left, right", "another line"),
            ("up, down", "another release; PgUp, PgDn, Home and End too"),
            (
                "/ or a digit",
                "filter as you type: version, code name, phase, mark",
            ),
            ("Esc", "clear the filter, or leave"),
            ("Enter", "use what is on the shelf here, or install it"),
            ("i", "install: fetch, verify, unpack"),
            ("s", "switch this shell to it"),
            ("d", "make it the default of new shells"),
            ("l", "give it a label of your own"),
            ("r", "remove it from the shelf; you are asked"),
            ("q", "leave"),
            ("Ctrl-C", "leave at once; the shell stays as it was"),
            ("", "Each key runs the command that is shown below."),
        ];
        let width = 70;
        let height = KEYS.len() as u16 + 2;
        let place = Rect::new(
            area.x + (area.width - width) / 2,
            area.y + (area.height - height) / 2,
            width,
            height,
        );
        Clear.render(place, buffer);
        let block = ratatui::widgets::Block::bordered()
            .title(" Keys ")
            .border_set(match self.look.unicode {
                true => ratatui::symbols::border::PLAIN,
                false => ASCII,
            });
        let lines = KEYS.map(|(key, what)| {
            Line::from(vec![
                Span::styled(format!(" {key:<13}"), self.look.style(Palette::COMMAND)),
                Span::raw(what),
            ])
        });
        Paragraph::new(lines.to_vec())
            .block(block)
            .render(place, buffer);
    }
}

/// A border for terminals without more signs.
const ASCII: ratatui::symbols::border::Set<'static> = ratatui::symbols::border::Set {
    top_left: "+",
    top_right: "+",
    bottom_left: "+",
    bottom_right: "+",
    vertical_left: "|",
    vertical_right: "|",
    horizontal_top: "-",
    horizontal_bottom: "-",
};
