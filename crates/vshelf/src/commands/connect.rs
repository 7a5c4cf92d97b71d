//! `vshelf connect`: connect the shell.

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::integrate::connect::{self, disconnect};
use vshelf_app::integrate::desktop;
use vshelf_app::integrate::entering::{self, Followed};
use vshelf_app::integrate::files;
use vshelf_app::integrate::leaving::remains;
use vshelf_app::integrate::stamps::as_text;
use vshelf_shell::Dialect;

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::output::connect as output;
use crate::ui::Ui;
use crate::wording::paths::shown;
use crate::wording::shells::{notice, say_connected};

/// Connect your shell to the shelf
///
/// It writes a file that your shell sources, and one guarded block into your shell's start-up file, and
/// is safe to repeat. The block sources that file and starts no program.
#[derive(Debug, Args)]
pub struct Connect {
    /// The shell to connect, if it is not the one in SHELL: bash, zsh, fish, sh (dash, ash), ksh, mksh,
    /// elvish, tcsh, xonsh, nu or powershell
    #[arg(value_name = "SHELL")]
    shell: Option<String>,
    /// Only print what a shell sources: to read it, or to connect a shell in another way
    #[arg(long, value_name = "SHELL", conflicts_with = "shell")]
    print: Option<String>,
    /// Give the default to programs started from the desktop, through systemd's environment.d
    #[arg(long, conflicts_with_all = ["shell", "print"])]
    desktop: bool,
    /// Take all of that back, or with SHELL or --desktop only that part, and say what stays where
    #[arg(long, conflicts_with = "print")]
    remove: bool,
    /// What a connected shell asks: what to use here, in one line, and then what a person should know
    #[arg(long, value_name = "SHELL", hide = true, conflicts_with_all = ["shell", "print", "desktop", "remove"])]
    look: Option<String>,
}

impl CommandArgs for Connect {
    const NAME: &'static str = "connect";
    const GROUP: &'static str = "Connect";
}

impl RunCommand for Connect {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if let Some(shell) = &self.look {
            let dialect = connect::read_shell(shell)?;
            // The shell reads what stands among the results.
            let followed = entering::look(&ui.for_events(true), environment)?;
            return show_followed(ui, followed, dialect);
        }
        if let Some(shell) = &self.print {
            let dialect = connect::read_shell(shell)?;
            return ui.result(files::whole_text(environment, dialect)?.trim_end());
        }
        if self.desktop {
            return connect_desktop(ui, environment, self.remove);
        }
        let dialect = match &self.shell {
            Some(shell) => connect::read_shell(shell)?,
            None => connect::own_shell(environment)?,
        };
        if self.remove {
            let (file, was_connected) = disconnect(environment, dialect)?;
            let (file, name) = (shown(&file), dialect.name());
            ui.done(match was_connected {
                true => format!("{file} no longer connects {name} to the shelf."),
                false => format!("{file} has no Vivid Shelf block; nothing was changed."),
            })?;
            if self.shell.is_none()
                && let Some(file) = desktop::disconnect(environment)?
            {
                output::say_without_desktop(ui, &file)?;
            }
            return output::say_remains(ui, &remains(environment)?);
        }
        say_connected(ui, &connect::connect(environment, dialect)?)
    }
}

/// Gives the default to programs of the desktop, or takes it away from them.
fn connect_desktop(ui: &Ui, environment: &Environment, remove: bool) -> Outcome {
    if !remove {
        let is_changed = desktop::connect(environment)?;
        return output::say_desktop(ui, &desktop::file(environment)?, is_changed);
    }
    match desktop::disconnect(environment)? {
        Some(file) => output::say_without_desktop(ui, &file)?,
        None => ui.done("Programs of the desktop do not get the default; nothing was changed.")?,
    }
    output::say_remains(ui, &remains(environment)?)
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
    let columns = ui.columns_of_notes();
    let mut notices = followed.notices.into_iter();
    notices.try_for_each(|told| ui.result(notice(told, columns)))
}
