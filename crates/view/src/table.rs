//! The one table style: a spine in the colour of the phase, then columns two spaces apart.

use std::fmt::Write;

use anstyle::Style;
use unicode_width::UnicodeWidthStr;

use crate::words::broken;

/// A piece of text with a style.
#[derive(Clone, Debug, Default)]
pub struct Cell {
    text: String,
    /// What stands there where the table is too wide otherwise.
    short: Option<String>,
    style: Style,
}

/// How a column stands.
#[derive(Clone, Copy, Debug)]
pub struct Column {
    /// Its heading.
    pub heading: &'static str,
    /// Whether its cells end in line rather than begin.
    pub right: bool,
    /// Whether its text goes on below where the table is wider than the terminal: the last column
    /// may.
    pub gives_way: bool,
    /// Whether it is left out if the table is wider than the terminal.
    pub is_optional: bool,
}

/// Where a table is shown.
#[derive(Clone, Copy, Debug)]
pub struct Frame {
    /// The columns of the terminal; none where the output is no terminal.
    pub width: Option<usize>,
    /// The spine's character; none where rows have no spine.
    pub spine: Option<char>,
}

/// What a last column that gives way has at least; with less room a longer text stands below its row.
const BESIDE: usize = 18;

/// How a table is laid out in a frame.
struct Layout {
    frame: Frame,
    /// The columns' widths; zero for one that is left out.
    widths: Vec<usize>,
    /// Whether short texts are taken.
    short: bool,
    /// Where the last column's text begins, and how wide it is, where it does not fit into its row.
    below: Option<(usize, usize)>,
}

/// Rows of cells under headings.
#[derive(Clone, Debug)]
pub struct Table {
    columns: Vec<Column>,
    rows: Vec<(Style, Vec<Cell>)>,
    heading_style: Style,
}

impl Cell {
    /// Text in this style.
    pub fn new(text: impl Into<String>, style: Style) -> Cell {
        Cell {
            text: text.into(),
            short: None,
            style,
        }
    }

    /// With other text where the table is too wide otherwise.
    pub fn or(mut self, short: impl Into<String>) -> Cell {
        self.short = Some(short.into());
        self
    }

    fn text(&self, short: bool) -> &str {
        match &self.short {
            Some(text) if short => text,
            _ => &self.text,
        }
    }
}

impl<T: Into<String>> From<T> for Cell {
    fn from(text: T) -> Cell {
        Cell::new(text, Style::new())
    }
}

impl Column {
    /// A column whose cells begin in line.
    pub const fn left(heading: &'static str) -> Column {
        Column {
            heading,
            right: false,
            gives_way: false,
            is_optional: false,
        }
    }

    /// A column whose cells end in line: for numbers.
    pub const fn right(heading: &'static str) -> Column {
        Column {
            heading,
            right: true,
            gives_way: false,
            is_optional: false,
        }
    }

    /// The same column, left out if the table is wider than the terminal; of several the last is left out first.
    pub const fn optional(self) -> Column {
        Column {
            is_optional: true,
            ..self
        }
    }

    /// A last column whose text goes on below where the terminal is too narrow.
    pub const fn yielding(heading: &'static str) -> Column {
        Column {
            heading,
            right: false,
            gives_way: true,
            is_optional: false,
        }
    }
}

impl Table {
    /// An empty table.
    pub fn new(columns: &[Column], heading_style: Style) -> Table {
        Table {
            columns: columns.to_vec(),
            rows: Vec::new(),
            heading_style,
        }
    }

    /// Adds a row whose spine has this style.
    pub fn row(&mut self, spine: Style, cells: impl IntoIterator<Item = Cell>) {
        self.rows.push((spine, cells.into_iter().collect()));
    }

    /// Whether there are no rows.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// The table as text with ANSI styles; columns without any text are left out. What does not fit
    /// goes on below: nothing is cut.
    pub fn render(&self, frame: Frame) -> String {
        let layout = self.lay_out(frame);
        let headings = self.columns.iter();
        let headings: Vec<Cell> = headings
            .map(|column| Cell::new(column.heading, self.heading_style))
            .collect();
        let mut text = String::new();
        self.render_row(&mut text, None, &headings, &layout);
        for (spine, cells) in &self.rows {
            self.render_row(&mut text, Some(*spine), cells, &layout);
        }
        text
    }

    fn lay_out(&self, frame: Frame) -> Layout {
        let spine = if frame.spine.is_some() { 2 } else { 0 };
        let width_of = |widths: &[usize]| {
            let shown = widths.iter().filter(|width| **width > 0).count();
            spine + widths.iter().sum::<usize>() + 2 * shown.saturating_sub(1)
        };
        let mut layout = Layout {
            frame,
            widths: self.widths(false),
            short: false,
            below: None,
        };
        let Some(available) = frame.width else {
            return layout;
        };
        if width_of(&layout.widths) > available {
            layout.widths = self.widths(true);
            layout.short = true;
        }
        self.leave_out(&mut layout.widths, |widths| width_of(widths) > available);
        let missing = width_of(&layout.widths).saturating_sub(available);
        let gives_way = self.columns.last().is_some_and(|column| column.gives_way);
        if let Some(last) = layout
            .widths
            .last_mut()
            .filter(|_| gives_way && missing > 0)
        {
            match last.checked_sub(missing) {
                Some(rest) if rest >= BESIDE => *last = rest,
                beside => {
                    // What is short enough still stands in its row.
                    let heading = self.columns.last().map_or(0, |last| last.heading.width());
                    *last = beside.filter(|beside| *beside >= heading).unwrap_or(0);
                    let indent = layout.widths.first().map_or(0, |first| first + 2);
                    let rest = available.saturating_sub(spine + indent).max(BESIDE);
                    layout.below = Some((indent, rest));
                }
            }
        }
        layout
    }

    /// Leaves out optional columns while the others, with the least width of a yielding one, are too wide.
    fn leave_out(&self, widths: &mut [usize], is_too_wide: impl Fn(&[usize]) -> bool) {
        let gives_way = self.columns.last().is_some_and(|column| column.gives_way);
        let least = |widths: &[usize]| {
            let mut least = widths.to_vec();
            if let Some(last) = least.last_mut().filter(|_| gives_way) {
                *last = (*last).min(BESIDE);
            }
            least
        };
        for (index, column) in self.columns.iter().enumerate().rev() {
            if column.is_optional && is_too_wide(&least(widths)) {
                widths[index] = 0;
            }
        }
    }

    /// What each column needs; nothing where it has no text.
    fn widths(&self, short: bool) -> Vec<usize> {
        let columns = self.columns.iter().enumerate();
        let widths = columns.map(|(index, column)| {
            let cells = self.rows.iter().filter_map(|(_, cells)| cells.get(index));
            match cells
                .map(|cell| cell.text(short).width())
                .max()
                .unwrap_or(0)
            {
                0 => 0,
                width => width.max(column.heading.width()),
            }
        });
        widths.collect()
    }

    fn render_row(&self, text: &mut String, spine: Option<Style>, cells: &[Cell], layout: &Layout) {
        let mut line = String::new();
        let begin = |line: &mut String| match (layout.frame.spine, spine) {
            (Some(sign), Some(style)) => push(line, style, &format!("{sign} ")),
            (Some(_), None) => line.push_str("  "),
            (None, _) => {}
        };
        begin(&mut line);
        let mut first = true;
        let mut column_at = 0;
        let mut rest: (usize, Style, Vec<String>) = Default::default();
        for ((cell, width), column) in cells.iter().zip(&layout.widths).zip(&self.columns) {
            if *width == 0 {
                continue;
            }
            if !first {
                line.push_str("  ");
                column_at += 2;
            }
            first = false;
            let mut shown = cell.text(layout.short).to_owned();
            if column.gives_way && shown.width() > *width && layout.below.is_some() {
                shown.clear();
            } else if column.gives_way && shown.width() > *width {
                let mut pieces = broken(&shown, *width).into_iter();
                shown = pieces.next().unwrap_or_default();
                rest = (column_at, cell.style, pieces.collect());
            }
            let padding = " ".repeat(width.saturating_sub(shown.width()));
            if column.right {
                line.push_str(&padding);
            }
            push(&mut line, cell.style, &shown);
            if !column.right {
                line.push_str(&padding);
            }
            column_at += width;
        }
        if let (Some((indent, width)), Some(cell), Some(_)) = (layout.below, cells.last(), spine)
            && cell.text(true).width() > layout.widths.last().copied().unwrap_or(0)
        {
            rest = (indent, cell.style, broken(cell.text(true), width));
        }
        text.push_str(line.trim_end());
        text.push('\n');
        let (indent, style, pieces) = rest;
        for piece in pieces {
            let mut line = String::new();
            begin(&mut line);
            line.push_str(&" ".repeat(indent));
            push(&mut line, style, &piece);
            text.push_str(&line);
            text.push('\n');
        }
    }
}

pub(crate) fn push(line: &mut String, style: Style, text: &str) {
    if style == Style::new() || text.is_empty() {
        line.push_str(text);
    } else {
        write!(line, "{style}{text}{style:#}").expect("writing to a string does not fail");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAIN: Frame = Frame {
        width: None,
        spine: None,
    };

    fn table() -> Table {
        let columns = [
            Column::left("version"),
            Column::right("size"),
            Column::left("label"),
            Column::yielding("notes"),
        ];
        let mut table = Table::new(&columns, Style::new());
        let row = |cells: [&str; 4]| cells.map(Cell::from);
        table.row(
            Style::new(),
            row(["8.3.1", "2.1 MB", "", "default, required by tide-board"]),
        );
        table.row(Style::new(), row(["6.20.0", "12.0 MB", "", ""]));
        table
    }

    #[test]
    fn columns_stand_in_line_and_empty_ones_are_left_out() {
        assert_eq!(
            table().render(PLAIN),
            "version     size  notes\n\
             8.3.1     2.1 MB  default, required by tide-board\n\
             6.20.0   12.0 MB\n"
        );
    }

    fn narrow(width: usize) -> Frame {
        Frame {
            width: Some(width),
            spine: Some('|'),
        }
    }

    #[test]
    fn what_is_too_long_goes_on_below() {
        assert_eq!(
            table().render(narrow(42)),
            "  version     size  notes\n\
             | 8.3.1     2.1 MB  default, required by\n\
             |                   tide-board\n\
             | 6.20.0   12.0 MB\n"
        );
        // With too little room beside, all of a longer text does.
        assert_eq!(
            table().render(narrow(30)),
            "  version     size  notes\n\
             | 8.3.1     2.1 MB\n\
             |          default, required\n\
             |          by tide-board\n\
             | 6.20.0   12.0 MB\n"
        );
    }

    #[test]
    fn optional_columns_are_left_out_only_if_they_do_not_fit() {
        let mut table = table();
        table.columns[1] = table.columns[1].optional();
        assert_eq!(table.render(PLAIN), self::table().render(PLAIN));
        assert_eq!(table.render(narrow(42)), self::table().render(narrow(42)));
        assert_eq!(
            table.render(narrow(30)),
            "  version  notes\n\
             | 8.3.1    default, required\n\
             |          by tide-board\n\
             | 6.20.0\n"
        );
    }

    #[test]
    fn shorter_texts_stand_in_before_anything_goes_on_below() {
        let columns = [
            Column::left("line"),
            Column::left("ends"),
            Column::yielding("marks"),
        ];
        let mut table = Table::new(&columns, Style::new());
        let ends = Cell::from("2026-12-28, in 5 weeks").or("2026-12-28");
        table.row(Style::new(), ["6".into(), ends, "default, board".into()]);
        assert!(table.render(narrow(46)).contains("in 5 weeks"));
        assert_eq!(
            table.render(narrow(45)),
            "  line  ends        marks\n| 6     2026-12-28  default, board\n"
        );
    }
}
