//! The one table style: a spine in the colour of the phase, then columns two spaces apart.

use std::fmt::Write;

use anstyle::Style;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// A piece of text with a style.
#[derive(Clone, Debug, Default)]
pub struct Cell {
    text: String,
    style: Style,
}

/// How a column stands.
#[derive(Clone, Copy, Debug)]
pub struct Column {
    /// Its heading.
    pub heading: &'static str,
    /// Whether its cells end in line rather than begin.
    pub right: bool,
    /// Whether it may be cut when the table is wider than the terminal.
    pub gives_way: bool,
}

/// Where a table is shown.
#[derive(Clone, Copy, Debug)]
pub struct Frame {
    /// The columns of the terminal; none where the output is no terminal.
    pub width: Option<usize>,
    /// The spine's character; none where rows have no spine.
    pub spine: Option<char>,
    /// The sign for cut text.
    pub ellipsis: &'static str,
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
            style,
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
        }
    }

    /// A column whose cells end in line: for numbers.
    pub const fn right(heading: &'static str) -> Column {
        Column {
            heading,
            right: true,
            gives_way: false,
        }
    }

    /// A column that is cut where the terminal is too narrow.
    pub const fn yielding(heading: &'static str) -> Column {
        Column {
            heading,
            right: false,
            gives_way: true,
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

    /// The table as text with ANSI styles; columns without any text are left out.
    pub fn render(&self, frame: Frame) -> String {
        let mut widths: Vec<usize> = (0..self.columns.len())
            .map(|index| {
                self.rows
                    .iter()
                    .filter_map(|(_, cells)| cells.get(index))
                    .map(|cell| cell.text.width())
                    .max()
                    .unwrap_or(0)
            })
            .collect();
        for (width, column) in widths.iter_mut().zip(&self.columns) {
            if *width > 0 {
                *width = (*width).max(column.heading.width());
            }
        }
        self.fit(&mut widths, frame);
        let headings: Vec<Cell> = self
            .columns
            .iter()
            .map(|column| Cell::new(column.heading, self.heading_style))
            .collect();
        let mut text = String::new();
        self.render_row(&mut text, frame, None, &headings, &widths);
        for (spine, cells) in &self.rows {
            self.render_row(&mut text, frame, Some(*spine), cells, &widths);
        }
        text
    }

    /// Takes from the columns that give way what the terminal does not have.
    fn fit(&self, widths: &mut [usize], frame: Frame) {
        let Some(available) = frame.width else {
            return;
        };
        let spine = if frame.spine.is_some() { 2 } else { 0 };
        let shown = widths.iter().filter(|width| **width > 0).count();
        let needed = spine + widths.iter().sum::<usize>() + 2 * shown.saturating_sub(1);
        let mut missing = needed.saturating_sub(available);
        for (width, column) in widths.iter_mut().zip(&self.columns).rev() {
            if column.gives_way && missing > 0 {
                let least = column.heading.width().max(8).min(*width);
                let given = missing.min(*width - least);
                *width -= given;
                missing -= given;
            }
        }
    }

    fn render_row(
        &self,
        text: &mut String,
        frame: Frame,
        spine: Option<Style>,
        cells: &[Cell],
        widths: &[usize],
    ) {
        let mut line = String::new();
        match (frame.spine, spine) {
            (Some(sign), Some(style)) => push(&mut line, style, &format!("{sign} ")),
            (Some(_), None) => line.push_str("  "),
            (None, _) => {}
        }
        let mut first = true;
        for ((cell, width), column) in cells.iter().zip(widths).zip(&self.columns) {
            if *width == 0 {
                continue;
            }
            if !first {
                line.push_str("  ");
            }
            first = false;
            let shown = cut(&cell.text, *width, frame.ellipsis);
            let padding = " ".repeat(width.saturating_sub(shown.width()));
            if column.right {
                line.push_str(&padding);
            }
            push(&mut line, cell.style, &shown);
            if !column.right {
                line.push_str(&padding);
            }
        }
        text.push_str(line.trim_end());
        text.push('\n');
    }
}

pub(crate) fn push(line: &mut String, style: Style, text: &str) {
    if style == Style::new() || text.is_empty() {
        line.push_str(text);
    } else {
        write!(line, "{style}{text}{style:#}").expect("writing to a string does not fail");
    }
}

/// The text in at most `width` columns.
fn cut(text: &str, width: usize, ellipsis: &str) -> String {
    if text.width() <= width {
        return text.to_owned();
    }
    let room = width.saturating_sub(ellipsis.width());
    let mut used = 0;
    let mut short: String = text
        .chars()
        .take_while(|c| {
            used += c.width().unwrap_or(0);
            used <= room
        })
        .collect();
    short.truncate(short.trim_end().len());
    short + ellipsis
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAIN: Frame = Frame {
        width: None,
        spine: None,
        ellipsis: "...",
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
            row(["8.3.1", "2.1 MB", "", "default, pinned by tide-board"]),
        );
        table.row(Style::new(), row(["6.20.0", "12.0 MB", "", ""]));
        table
    }

    #[test]
    fn columns_stand_in_line_and_empty_ones_are_left_out() {
        assert_eq!(
            table().render(PLAIN),
            "version     size  notes\n\
             8.3.1     2.1 MB  default, pinned by tide-board\n\
             6.20.0   12.0 MB\n"
        );
    }

    #[test]
    fn a_narrow_terminal_cuts_only_what_gives_way() {
        let frame = Frame {
            width: Some(36),
            spine: Some('|'),
            ..PLAIN
        };
        assert_eq!(
            table().render(frame),
            "  version     size  notes\n\
             | 8.3.1     2.1 MB  default, pinn...\n\
             | 6.20.0   12.0 MB\n"
        );
    }
}
