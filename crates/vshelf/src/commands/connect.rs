//! `vshelf connect`: connect the shell.

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::integrate::connect::{self, disconnect};
use vshelf_app::integrate::entering::{self, Followed};
use vshelf_app::integrate::files;
use vshelf_app::integrate::leaving::{Kept, Remains, remains};
use vshelf_app::integrate::stamps::as_text;
use vshelf_shell::Dialect;
use vshelf_view::words::{megabytes, printable};
use vshelf_view::{Column, Palette, Table};

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::paths::{quoted, shown};
use crate::wording::shells::{notice, say_connected};

/// Connect your shell to the shelf
///
/// It writes a file that your shell sources, and one guarded block into your shell's start-up file, and
/// is safe to repeat. The block sources that file and starts no program.
#[derive(Debug, Args)]
pub struct Connect {
    /// The shell to connect, if it is not the one in SHELL: bash, zsh, fish, sh (dash, ash), ksh, mksh,
    /// elvish, tcsh, xonsh, nu or powershell
    #[arg(long, value_name = "SHELL")]
    shell: Option<String>,
    /// Only print what a shell sources: to read it, or to connect a shell in another way
    #[arg(long, value_name = "SHELL", conflicts_with = "shell")]
    print: Option<String>,
    /// Take the block out of the start-up file again, and say what stays where
    #[arg(long, conflicts_with = "print")]
    remove: bool,
    /// What a connected shell asks: what to use here, in one line, and then what a person should know
    #[arg(long, value_name = "SHELL", hide = true, conflicts_with_all = ["shell", "print", "remove"])]
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
            return say_remains(ui, &remains(environment)?);
        }
        say_connected(ui, &connect::connect(environment, dialect)?)
    }
}

/// Says what is left of the program, and how the rest of it goes.
fn say_remains(ui: &Ui, remains: &Remains) -> Outcome {
    for (dialect, file) in &remains.connected {
        let name = dialect.name();
        ui.next(
            &format!(
                "{name} stays connected, through {}. To take that out too",
                shown(file)
            ),
            &format!("vshelf connect --shell {name} --remove"),
        );
    }
    let mut table = Table::new(
        &[
            Column::left("stays"),
            Column::right("size"),
            Column::left(""),
        ],
        Palette::HEADING,
    );
    for (folder, kept, bytes) in &remains.folders {
        let kept = match kept {
            Kept::Installs => "what is on the shelf",
            Kept::Catalogs => "catalogs, which can be fetched again",
            Kept::Settings => "settings and definitions of your own",
        };
        let cells = [shown(folder).into(), megabytes(*bytes).into(), kept.into()];
        table.row(Palette::QUIET, cells);
    }
    if remains.folders.is_empty() {
        return Ok(());
    }
    ui.done_table(&table)?;
    if remains.connected.is_empty() {
        let folders = remains.folders.iter().map(|(folder, ..)| quoted(folder));
        let folders = folders.collect::<Vec<_>>().join(" ");
        ui.next("To remove all of it for good", &format!("rm -rf {folders}"));
    }
    Ok(())
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
