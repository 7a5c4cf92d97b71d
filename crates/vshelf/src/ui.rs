//! The only door to the person: results on standard output, everything else on standard error.

use std::fmt::Display;
use std::io::{self, IsTerminal, Write};

use anstream::{AutoStream, ColorChoice};
use anstyle::Style;
use vshelf_view::Palette;
use vshelf_view::table::{Frame, Table};
use vshelf_view::words::printable;

use crate::failure::{Failure, Hint, Kind};

/// When to colour.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Colour {
    /// On a terminal, unless NO_COLOR is set.
    #[default]
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// The door.
#[derive(Debug)]
pub struct Ui {
    choice: ColorChoice,
    quiet: bool,
    unicode: bool,
}

impl Ui {
    /// A door as the person wants it.
    pub fn new(colour: Colour, quiet: bool) -> Ui {
        let choice = match colour {
            Colour::Auto => ColorChoice::Auto,
            Colour::Always => ColorChoice::Always,
            Colour::Never => ColorChoice::Never,
        };
        Ui {
            choice,
            quiet,
            unicode: locale_is_utf8(),
        }
    }

    /// Whether the terminal can show more than ASCII.
    pub fn is_unicode(&self) -> bool {
        self.unicode
    }

    /// Whether results go to a terminal.
    pub fn is_terminal(&self) -> bool {
        io::stdout().is_terminal()
    }

    /// Whether results are coloured.
    pub fn colours(&self) -> bool {
        AutoStream::new(io::stdout(), self.choice).current_choice() != ColorChoice::Never
    }

    /// Whether progress can be drawn.
    pub fn shows_progress(&self) -> bool {
        io::stderr().is_terminal() && !self.quiet
    }

    /// Writes a result, with a line break behind it.
    pub fn result(&self, text: impl Display) -> Result<(), Failure> {
        let mut out = AutoStream::new(io::stdout().lock(), self.choice);
        writeln!(out, "{text}")
            .and_then(|()| out.flush())
            .map_err(output_failure)
    }

    /// Writes a table as a result.
    pub fn table(&self, table: &Table) -> Result<(), Failure> {
        let text = table.render(self.frame());
        self.result(text.trim_end_matches('\n'))
    }

    /// Writes facts as a result: names in one column, what they are in the next.
    pub fn facts(&self, facts: &[(&str, String)]) -> Result<(), Failure> {
        let width = facts.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
        facts.iter().try_for_each(|(name, fact)| {
            let name = styled(Palette::HEADING, format!("{name:<width$}"));
            self.result(format!("  {name}  {fact}"))
        })
    }

    /// A spine in this style with a space behind, where rows have spines.
    pub fn spine(&self, style: Style) -> String {
        match self.frame().spine {
            Some(sign) => format!("{} ", styled(style, sign)),
            None => String::new(),
        }
    }

    /// The frame for tables on standard output.
    fn frame(&self) -> Frame {
        let terminal = self.is_terminal();
        Frame {
            width: terminal.then(terminal_width).flatten(),
            spine: terminal.then_some(if self.unicode { '▌' } else { '|' }),
            ellipsis: if self.unicode { "…" } else { "..." },
        }
    }

    /// Writes something to know, unless it should be quiet.
    pub fn note(&self, text: impl Display) {
        if !self.quiet {
            self.complain(&text.to_string());
        }
    }

    /// Writes what to type next, unless it should be quiet.
    pub fn next(&self, why: &str, command: &str) {
        let style = Palette::COMMAND;
        self.note(format!("{why}: {style}{command}{style:#}"));
    }

    /// Writes a failure with its causes and ways out, however quiet it should be.
    pub fn failure(&self, failure: &Failure) {
        let style = Palette::ERROR;
        let mut text = format!("{style}Error:{style:#} {}.", printable(&failure.message));
        for cause in &failure.causes {
            text.push_str(&format!(
                "\n  Because: {}.",
                printable(cause).trim_end_matches('.')
            ));
        }
        for hint in &failure.hints {
            match hint {
                Hint::Say(words) => text.push_str(&format!("\n  {}", printable(words))),
                Hint::Run { why, command } => {
                    let style = Palette::COMMAND;
                    let command = printable(command);
                    text.push_str(&format!("\n  {why}: {style}{command}{style:#}"));
                }
            }
        }
        self.complain(&text);
    }

    fn complain(&self, text: &str) {
        let mut err = AutoStream::new(io::stderr().lock(), self.choice);
        // Where standard error is closed there is nobody left to tell.
        writeln!(err, "{text}").unwrap_or_default();
    }
}

/// `text` in a style.
pub fn styled(style: Style, text: impl Display) -> String {
    format!("{style}{text}{style:#}")
}

fn output_failure(error: io::Error) -> Failure {
    if error.kind() == io::ErrorKind::BrokenPipe {
        // Whoever reads has read enough: end as a program that knows pipes would.
        std::process::exit(0);
    }
    Failure::new(
        Kind::Other,
        format!("the output cannot be written: {error}"),
    )
}

/// The columns of the terminal that standard output is.
fn terminal_width() -> Option<usize> {
    let size = rustix::termios::tcgetwinsize(io::stdout()).ok()?;
    (size.ws_col > 0).then_some(usize::from(size.ws_col))
}

/// Whether the locale's characters are UTF-8 (POSIX.1-2024, Base Definitions, §8.2).
fn locale_is_utf8() -> bool {
    ["LC_ALL", "LC_CTYPE", "LANG"]
        .iter()
        .filter_map(|name| std::env::var(name).ok())
        .find(|value| !value.is_empty())
        .is_some_and(|value| {
            let value = value.to_lowercase();
            value.contains("utf-8") || value.contains("utf8")
        })
}
