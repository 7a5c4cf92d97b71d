//! What the view is drawn on: cells of a terminal, each with a sign and how it looks.

use anstyle::Style;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// Part of a canvas, in columns and rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Area {
    pub(super) x: u16,
    pub(super) y: u16,
    pub(super) width: u16,
    pub(super) height: u16,
}

impl Area {
    /// The first column behind it.
    pub(super) fn right(self) -> u16 {
        self.x + self.width
    }

    /// The first row below it.
    pub(super) fn bottom(self) -> u16 {
        self.y + self.height
    }

    /// As many columns from this one on.
    pub(super) fn columns(self, x: u16, width: u16) -> Area {
        Area { x, width, ..self }
    }

    /// As many rows from this one on.
    pub(super) fn rows(self, y: u16, height: u16) -> Area {
        Area { y, height, ..self }
    }

    /// Without the first and the last column.
    pub(super) fn inset(self) -> Area {
        self.columns(self.x + 1, self.width.saturating_sub(2))
    }
}

/// Text of one look.
#[derive(Clone, Debug)]
pub(super) struct Span {
    text: String,
    style: Style,
}

impl Span {
    pub(super) fn styled(text: impl Into<String>, style: Style) -> Span {
        Span {
            text: text.into(),
            style,
        }
    }

    pub(super) fn plain(text: impl Into<String>) -> Span {
        Span::styled(text, Style::new())
    }
}

/// Text on one row.
pub(super) type Line = Vec<Span>;

/// The columns that a line takes.
pub(super) fn width_of(line: &[Span]) -> usize {
    line.iter().map(|span| span.text.width()).sum()
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Cell {
    /// One sign with what is combined with it; nothing where the one before it takes this column too.
    sign: String,
    style: Style,
}

impl Cell {
    fn blank() -> Cell {
        Cell {
            sign: " ".to_owned(),
            style: Style::new(),
        }
    }
}

/// Cells, as many as a window has.
#[derive(Clone, Debug)]
pub struct Canvas {
    width: u16,
    height: u16,
    cells: Vec<Cell>,
}

impl Canvas {
    /// A blank canvas of so many columns and rows.
    pub fn new(width: u16, height: u16) -> Canvas {
        Canvas {
            width,
            height,
            cells: vec![Cell::blank(); usize::from(width) * usize::from(height)],
        }
    }

    /// All of it.
    pub(super) fn area(&self) -> Area {
        Area {
            x: 0,
            y: 0,
            width: self.width,
            height: self.height,
        }
    }

    fn cell(&mut self, x: u16, y: u16) -> Option<&mut Cell> {
        let is_inside = x < self.width && y < self.height;
        let at = usize::from(y) * usize::from(self.width) + usize::from(x);
        is_inside.then(|| &mut self.cells[at])
    }

    /// Writes a text from a cell on, as far as the canvas goes.
    pub(super) fn write(&mut self, x: u16, y: u16, text: &str, style: Style) {
        self.write_until(self.width, (x, y), text, style);
    }

    /// Writes a text as far as a column; gives back the column behind it.
    fn write_until(&mut self, end: u16, (mut x, y): (u16, u16), text: &str, style: Style) -> u16 {
        for c in text.chars() {
            let width = c.width().unwrap_or(0) as u16;
            if width == 0 {
                // What is combined with the sign before it, or is none.
                if let Some(before) = x.checked_sub(1).and_then(|x| self.cell(x, y))
                    && !c.is_control()
                {
                    before.sign.push(c);
                }
                continue;
            }
            if x + width > end {
                break;
            }
            for covered in 0..width {
                if let Some(cell) = self.cell(x + covered, y) {
                    cell.sign.clear();
                    cell.style = style;
                }
            }
            if let Some(cell) = self.cell(x, y) {
                cell.sign.push(c);
            }
            x += width;
        }
        x
    }

    /// Writes lines into an area, from its first row on.
    pub(super) fn write_lines(&mut self, area: Area, lines: &[Line]) {
        for (y, line) in (area.y..area.bottom()).zip(lines) {
            let mut x = area.x;
            for span in line {
                x = self.write_until(area.right(), (x, y), &span.text, span.style);
            }
        }
    }

    /// Blanks an area.
    pub(super) fn clear(&mut self, area: Area) {
        for y in area.y..area.bottom() {
            for x in area.x..area.right() {
                if let Some(cell) = self.cell(x, y) {
                    *cell = Cell::blank();
                }
            }
        }
    }

    /// Each row as a terminal takes it, with escapes for how it looks; what is blank behind it is left out.
    pub fn rows(&self) -> Vec<String> {
        let rows = self.cells.chunks(usize::from(self.width.max(1)));
        rows.map(|row| {
            let blank = Cell::blank();
            let end = row.iter().rposition(|cell| *cell != blank);
            let mut text = String::new();
            let mut style = Style::new();
            for cell in &row[..end.map_or(0, |last| last + 1)] {
                if cell.style != style {
                    text += &format!("{style:#}{}", cell.style);
                    style = cell.style;
                }
                text += &cell.sign;
            }
            text + &format!("{style:#}")
        })
        .collect()
    }

    /// Each row without how it looks.
    #[cfg(test)]
    pub(super) fn texts(&self) -> Vec<String> {
        let rows = self.cells.chunks(usize::from(self.width));
        rows.map(|row| row.iter().map(|cell| cell.sign.as_str()).collect())
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signs_take_their_columns_and_no_more_than_there_are() {
        let mut canvas = Canvas::new(6, 2);
        canvas.write(1, 0, "潮e\u{301}x\u{7}yz", Style::new());
        assert_eq!(canvas.texts()[0], " 潮e\u{301}xy");
        canvas.write(4, 1, "a潮", Style::new());
        assert_eq!(canvas.texts()[1], "    a ", "half a sign is none");
        let area = canvas.area().columns(0, 2);
        canvas.write_lines(area, &[vec![Span::plain("tide")]]);
        assert!(canvas.texts()[0].starts_with("ti"));
        canvas.write(0, 9, "below", Style::new());
        canvas.clear(canvas.area());
        assert_eq!(canvas.texts(), ["      ", "      "]);
    }

    #[test]
    fn a_row_says_how_it_looks_once_and_ends_plain() {
        let mut canvas = Canvas::new(10, 1);
        let bold = Style::new().bold();
        canvas.write_lines(
            canvas.area(),
            &[vec![
                Span::styled("ti", bold),
                Span::styled("de", bold),
                Span::plain(" on"),
            ]],
        );
        assert_eq!(canvas.rows(), ["\u{1b}[1mtide\u{1b}[0m on"]);
        assert_eq!(Canvas::new(10, 1).rows(), [""]);
    }
}
