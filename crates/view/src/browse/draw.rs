//! The view on a terminal of 80 columns and 24 rows or more.

use std::ops::Range;

use anstyle::{Ansi256Color, Effects, Style};
use unicode_width::UnicodeWidthStr;
use vshelf_core::Phase;

use super::canvas::{Area, Canvas, Line, Span, width_of};
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
    fn style(self, style: Style) -> Style {
        match self.colours {
            true => style,
            false => Style::new().effects(style.get_effects()),
        }
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

/// Draws the view in a window of so many columns and rows.
pub fn draw(size: (u16, u16), browser: &Browser, look: Appearance) -> Canvas {
    let mut canvas = Canvas::new(size.0, size.1);
    let area = canvas.area();
    if size.0 < SMALLEST.0 || size.1 < SMALLEST.1 {
        let text = format!(
            "This view needs {} columns and {} rows, and here are {} and {}. Make the window larger, or press q to leave.",
            SMALLEST.0, SMALLEST.1, size.0, size.1
        );
        canvas.write_lines(area, &wrapped(&text, area, Style::new()));
        return canvas;
    }
    let drawing = Drawing {
        browser,
        look,
        window: area.width,
    };
    let told = usize::from(area.height - ELSEWHERE);
    let edge = drawing.lower_edge(usize::from(area.width) - 2, told);
    // From above: the head, a gap, the shelf, its caption, the releases, what is told, the keys.
    let shelf = area.rows(2, SHELF);
    let caption = area.rows(shelf.bottom(), 2);
    let keys = area.rows(area.bottom() - 1, 1);
    let below = area.rows(keys.y - edge.len() as u16, edge.len() as u16);
    let middle = area.rows(caption.bottom(), below.y - caption.bottom());
    drawing.head(area, &mut canvas);
    drawing.shelf(shelf, &mut canvas);
    drawing.caption(caption, &mut canvas);
    let list = middle.columns(0, drawing.list_width());
    drawing.list(list, &mut canvas);
    let card = list.right() + 2;
    drawing.card(
        middle.columns(card, area.width.saturating_sub(card + 1)),
        &mut canvas,
    );
    canvas.write_lines(below.inset(), &edge);
    canvas.write_lines(keys.inset(), &[drawing.keys()]);
    if browser.mode == Mode::Helping {
        drawing.help(area, &mut canvas);
    }
    canvas
}

/// A text in the columns of an area.
fn wrapped(text: &str, area: Area, style: Style) -> Vec<Line> {
    let pieces = broken(text, usize::from(area.width.max(1))).into_iter();
    pieces
        .map(|piece| vec![Span::styled(piece, style)])
        .collect()
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

    fn head(&self, area: Area, canvas: &mut Canvas) {
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
        let area = area.inset();
        let title = vec![
            Span::styled(snapshot.title.clone(), self.strong()),
            Span::styled(counts, self.quiet()),
        ];
        canvas.write_lines(area, &[title]);
        let active = vec![Span::plain(printable(&snapshot.active))];
        let columns = (width_of(&active) as u16).min(area.width);
        canvas.write_lines(area.columns(area.right() - columns, columns), &[active]);
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

    fn shelf(&self, area: Area, canvas: &mut Canvas) {
        let area = area.inset();
        let shown = self.shown_spines(area.width);
        let step = self.step(area.width);
        let listed = self.browser.listed_spines();
        for at in shown.clone() {
            let x = area.x + (at - shown.start) as u16 * step;
            let stands_out = at == self.browser.spine;
            let top = area.y + u16::from(!stands_out);
            let spine = area
                .columns(x, step - 1)
                .rows(top, area.y + SHELF - 2 - top);
            let is_empty = !self.browser.filter.is_empty() && !listed.contains(&at);
            self.spine(at, spine, is_empty, canvas);
        }
        let board = area.y + SHELF - 2;
        let sign = self.look.sign("▔", "=");
        let more = |yes: bool, sign| if yes { sign } else { " " };
        for x in area.x..area.right() {
            canvas.write(x, board, sign, self.quiet());
        }
        let left = more(shown.start > 0, self.look.sign("‹", "<"));
        canvas.write(area.x - 1, board - 2, left, self.strong());
        let right = more(
            shown.end < self.browser.snapshot.spines.len(),
            self.look.sign("›", ">"),
        );
        canvas.write(area.right(), board - 2, right, self.strong());
        self.phases(area, shown, canvas);
    }

    /// A word below each run of lines in one phase.
    fn phases(&self, area: Area, shown: Range<usize>, canvas: &mut Canvas) {
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
            canvas.write(x, y, &word, self.look.phase(phase));
            at += run;
        }
    }

    /// One line as the spine of a book: its number, its code name, and a mark for each install.
    fn spine(&self, at: usize, area: Area, is_empty: bool, canvas: &mut Canvas) {
        let spine = &self.browser.snapshot.spines[at];
        let stands_out = at == self.browser.spine;
        let colour = self.look.phase(spine.phase);
        let mut style = match colour.get_fg_color() {
            Some(colour) => Style::new()
                .bg_color(Some(colour))
                .fg_color(Some(Ansi256Color(16).into())),
            None => Style::new().invert(),
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
            let is_filled =
                style.get_bg_color().is_some() || style.get_effects().contains(Effects::INVERT);
            let side = match is_filled {
                true => " ",
                false => self.look.sign("│", "|"),
            };
            let text = format!("{side}{text:^inner$}{side}");
            let bold = usize::from(y) == usize::from(stands_out);
            let style = match bold {
                true => style | Effects::BOLD,
                false => style,
            };
            canvas.write(area.x, area.y + y, &text, style);
        }
    }

    /// What stands below the shelf: the line that stands out, or the filter.
    fn caption(&self, area: Area, canvas: &mut Canvas) {
        let browser = self.browser;
        let filtering = browser.mode == Mode::Filtering;
        let line = match (
            browser.filter.is_empty() && !filtering,
            browser.snapshot.spines.get(browser.spine),
        ) {
            (true, Some(spine)) => vec![Span::styled(
                printable(&spine.about),
                self.look.phase(spine.phase),
            )],
            (true, None) => Line::new(),
            (false, _) => {
                let cursor = if filtering {
                    self.look.sign("▏", "_")
                } else {
                    ""
                };
                let count = Count(browser.listed.len(), "release");
                vec![
                    Span::styled("Filter: ", self.quiet()),
                    Span::styled(
                        format!("{}{cursor}", printable(&browser.filter)),
                        self.strong(),
                    ),
                    Span::styled(format!("   {count} of all lines"), self.quiet()),
                ]
            }
        };
        canvas.write_lines(area.inset(), &[line]);
    }

    fn list(&self, area: Area, canvas: &mut Canvas) {
        let browser = self.browser;
        let area = area.columns(area.x + 1, area.width - 1);
        if browser.listed.is_empty() {
            let text = match browser.filter.is_empty() {
                true => "Nothing of this line is published.",
                false => "Nothing matches the filter. Esc clears it.",
            };
            return canvas.write_lines(area, &wrapped(text, area, self.quiet()));
        }
        let rows = usize::from(area.height);
        let first = browser.place.saturating_sub(rows / 2);
        let first = first.min(browser.listed.len().saturating_sub(rows));
        let shown = browser.listed.iter().enumerate().skip(first).take(rows);
        for (row, (place, entry)) in shown.enumerate() {
            let entry = &browser.snapshot.entries[*entry];
            let line = self.row(entry, place == browser.place, usize::from(area.width));
            canvas.write_lines(area.rows(area.y + row as u16, 1), &[line]);
        }
        let behind = browser.listed.len() - first;
        if behind > rows || first > 0 {
            let bar = area.y + (first * rows / browser.listed.len()) as u16;
            let length = (rows * rows / browser.listed.len()).max(1) as u16;
            for y in bar..(bar + length).min(area.bottom()) {
                let sign = self.look.sign("┃", "#");
                canvas.write(area.right(), y, sign, self.quiet());
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

    fn row(&self, entry: &BrowseItem, is_chosen: bool, width: usize) -> Line {
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
            name_style = name_style.invert();
            rest = Style::new().invert();
        }
        let mark_style = match is_chosen {
            true => rest,
            false => Style::new(),
        };
        vec![
            Span::styled(self.look.sign("▌", "|"), spine),
            Span::plain(if is_chosen {
                self.look.sign("▸", ">")
            } else {
                " "
            }),
            Span::styled(format!("{name:<names$} "), name_style),
            Span::styled(date, rest),
            Span::styled(format!("{marks:<left$}"), mark_style),
        ]
    }

    fn card(&self, area: Area, canvas: &mut Canvas) {
        let Some(entry) = self.browser.chosen() else {
            return;
        };
        let title = format!("{} {}", self.browser.snapshot.title, entry.name);
        let mut lines = vec![vec![Span::styled(title, self.strong())]];
        // Without a filter, the line is described below the shelf.
        let is_described = |name: &str| name == "line" && self.browser.filter.is_empty();
        let facts = self.browser.card.iter();
        let facts = facts.filter(|(name, _)| !is_described(name));
        let names = facts.clone().map(|(name, _)| name.width()).max();
        let names = names.unwrap_or(0);
        let columns = usize::from(area.width).saturating_sub(names + 2).max(8);
        for (name, fact) in facts {
            for (index, piece) in broken(fact, columns).into_iter().enumerate() {
                let name = if index == 0 { name.as_str() } else { "" };
                lines.push(vec![
                    Span::styled(format!("{name:<names$}  "), self.quiet()),
                    Span::plain(piece),
                ]);
            }
        }
        canvas.write_lines(area, &lines);
    }

    /// What is told, asked or under way at the lower edge, in so many rows below the rule at most.
    fn lower_edge(&self, width: usize, rows: usize) -> Vec<Line> {
        let browser = self.browser;
        let rule = self.look.sign("─", "-").repeat(width);
        let mut lines = vec![vec![Span::styled(rule, self.quiet())]];
        match &browser.mode {
            Mode::Asking(question, _) => {
                let style = self.look.style(Palette::WARNING);
                let question = broken(question, width).into_iter();
                lines.extend(question.map(|piece| vec![Span::styled(piece, style)]));
                return lines;
            }
            Mode::Naming(name) => {
                let entry = browser.chosen().map(|entry| entry.name.clone());
                lines.push(vec![
                    Span::plain(format!("A label for {}: ", entry.unwrap_or_default())),
                    Span::styled(
                        format!("{}{}", printable(name), self.look.sign("▏", "_")),
                        self.strong(),
                    ),
                ]);
                return lines;
            }
            _ => {}
        }
        let mut told: Vec<Line> = Vec::new();
        for one in &browser.told {
            let (text, style) = match one {
                Message::Command(command) => (command, self.look.style(Palette::COMMAND)),
                Message::Line(text) => (text, Style::new()),
                Message::Failure(text) => (text, self.look.style(Palette::ERROR)),
            };
            let pieces = text
                .lines()
                .flat_map(|line| broken(&printable(line), width));
            told.extend(pieces.map(|piece| vec![Span::styled(piece, style)]));
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

    fn progress(&self, progress: &TransferProgress) -> Line {
        let TransferProgress {
            title,
            bytes,
            all,
            doing,
        } = progress;
        if let Some(doing) = doing {
            return vec![Span::plain(format!("{title}  {doing}"))];
        }
        let all = all.filter(|all| *all > 0);
        let done = all.map_or(0, |all| (*bytes as f64 / all as f64 * BAR as f64) as usize);
        let done = done.min(BAR);
        let came = megabytes(*bytes);
        let of = all
            .map(|all| format!(" of {}", megabytes(all)))
            .unwrap_or_default();
        vec![
            Span::plain(format!("{title}  ")),
            Span::styled(
                self.look.sign("━", "=").repeat(done),
                self.look.style(Palette::COMMAND),
            ),
            Span::styled(self.look.sign("╌", "-").repeat(BAR - done), self.quiet()),
            Span::plain(format!("  {came}{of}")),
        ]
    }

    /// The keys that do something now.
    fn keys(&self) -> Line {
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
        spans
    }

    /// All keys.
    fn help(&self, area: Area, canvas: &mut Canvas) {
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
        let place = area
            .columns(area.x + (area.width - width) / 2, width)
            .rows(area.y + (area.height - height) / 2, height);
        canvas.clear(place);
        let across = self.look.sign("─", "-").repeat(usize::from(width) - 2);
        let title = " Keys ";
        let rule = |left, right, text: &str| {
            let rest: String = across.chars().skip(text.len()).collect();
            vec![Span::plain(format!("{left}{text}{rest}{right}"))]
        };
        let side = self.look.sign("│", "|");
        let inner = usize::from(width) - 2;
        let mut lines = vec![rule(
            self.look.sign("┌", "+"),
            self.look.sign("┐", "+"),
            title,
        )];
        lines.extend(KEYS.map(|(key, what)| {
            let key = format!(" {key:<13}");
            let left = inner - key.width();
            vec![
                Span::plain(side),
                Span::styled(key, self.look.style(Palette::COMMAND)),
                Span::plain(format!("{what:<left$}{side}")),
            ]
        }));
        lines.push(rule(self.look.sign("└", "+"), self.look.sign("┘", "+"), ""));
        canvas.write_lines(place, &lines);
    }
}
