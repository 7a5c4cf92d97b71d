//! `vshelf hook`: print the integration for a shell.

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::integrate::stamps::{self, Followed, as_text};
use vshelf_app::integrate::{connect, files};
use vshelf_shell::Dialect;
use vshelf_view::words::printable;

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::shells::notice;

/// Print the integration for a shell
///
/// `vshelf setup` writes the same text to files that your shell sources. Print it to read it, or to
/// connect a shell that setup does not reach.
#[derive(Debug, Args)]
pub struct Hook {
    /// The shell: bash, zsh, fish, sh (dash, ash), ksh, mksh, elvish, tcsh, xonsh, nu or powershell
    #[arg(value_name = "SHELL")]
    shell: String,
    /// What the project here wants, as the hook asks for it: keys by runtime, then what to know
    #[arg(long)]
    here: bool,
}

impl CommandArgs for Hook {
    const NAME: &'static str = "hook";
    const GROUP: &'static str = "Connect";
}

impl RunCommand for Hook {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let dialect = connect::read_shell(&self.shell)?;
        match self.here {
            true => show_followed(ui, stamps::look(ui, environment)?, dialect),
            false => ui.result(files::whole_text(environment, dialect)?.trim_end()),
        }
    }
}

/// Prints what a shell is to use, in one line, and then what a person should know.
fn show_followed(ui: &Ui, followed: Followed, dialect: Dialect) -> Outcome {
    let pairs = followed.picks.iter();
    let pairs = pairs.map(|(name, pick)| format!("{name}={}", as_text(pick.as_ref())));
    let pairs = pairs.collect::<Vec<_>>().join(" ");
    ui.result(match dialect {
        // It drops a line that is empty, and would take the next one for the first.
        Dialect::Tcsh if pairs.is_empty() => "-",
        _ => &pairs,
    })?;
    let mut notices = followed.notices.into_iter();
    notices.try_for_each(|told| ui.result(printable(&notice(told))))
}
