//! The palette: styles by meaning, chosen to stay apart for readers with any common colour vision
//! and readable on dark and light grounds. Meaning never hangs on colour alone.

use anstyle::{Ansi256Color, AnsiColor, Style};
use vshelf_core::Phase;

/// Styles by meaning.
#[derive(Clone, Copy, Debug, Default)]
pub struct Palette;

const fn colour(index: u8) -> Style {
    Style::new().fg_color(Some(anstyle::Color::Ansi256(Ansi256Color(index))))
}

impl Palette {
    /// The heading of a table or section.
    pub const HEADING: Style = Style::new().dimmed();
    /// What the eye should find first.
    pub const STRONG: Style = Style::new().bold();
    /// What only matters on a second look.
    pub const QUIET: Style = Style::new().dimmed();
    /// Text meant for copying: commands.
    pub const COMMAND: Style = colour(38).bold();
    /// Paths and addresses.
    pub const PATH: Style = Style::new().underline();
    /// Something that went well.
    pub const GOOD: Style = colour(36).bold();
    /// Something to look at.
    pub const WARNING: Style = colour(172).bold();
    /// Something that went wrong.
    pub const ERROR: Style = Style::new()
        .bold()
        .fg_color(Some(anstyle::Color::Ansi(AnsiColor::Red)));

    /// The colour of a line's phase, for spines and words.
    pub const fn phase(phase: Phase) -> Style {
        match phase {
            Phase::Preview => colour(134),
            Phase::Current => colour(33),
            Phase::Lts => colour(36),
            Phase::Maintenance => colour(172),
            Phase::Ended => colour(244),
        }
    }
}
