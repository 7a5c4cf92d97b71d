//! `vshelf run`: one command on a version, without switching.

use std::ffi::OsString;
use std::io;
use std::os::unix::process::CommandExt;
use std::process::Command;

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::base::base_of_pick;
use vshelf_app::calling_shell::{ACTIVE, EVALUATE, SHELL};
use vshelf_app::events::{Event, Listener};
use vshelf_app::session::Target;
use vshelf_app::switch::{RunTarget, choose_for_run, install_for_run};

use super::command::{CommandArgs, RunCommand, release};
use crate::failure::{Class, Failure, Outcome};
use crate::ui::Ui;

/// Run one command on a version, without switching
///
/// The command, and whatever it starts, finds that version first on PATH. It needs no connected
/// shell, and exits with the command's status. With --yes, a version that is not on the shelf is
/// installed first.
#[derive(Debug, Args)]
pub struct Run {
    /// A version on the shelf, such as 8, lts or a label; with --here a runtime, such as marram@
    #[arg(value_name = "SELECTOR", required_unless_present = "here")]
    selector: Option<String>,
    /// Run it on the active version: the one that the project requires, else the default
    #[arg(long)]
    here: bool,
    /// The command and its arguments
    #[arg(value_name = "COMMAND", last = true, required = true)]
    command: Vec<OsString>,
}

impl CommandArgs for Run {
    const NAME: &'static str = "run";
    const GROUP: &'static str = "Use";
}

impl RunCommand for Run {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let target = match self.here {
            true => RunTarget::Active(self.selector),
            false => RunTarget::Selected(release(environment, &self.selector.unwrap_or_default())?),
        };
        if ui.says_yes() {
            // What the command writes is all that stands among the results.
            let installed = install_for_run(environment, &target, &ui.for_events(true))?;
            if let Some(title) = installed {
                ui.note(format!("{title} is installed."));
            }
        }
        let (runtime, pick) = choose_for_run(environment, &target)?;
        let mut command = Command::new(&self.command[0]);
        command
            .args(&self.command[1..])
            .env_remove(ACTIVE)
            .env_remove(SHELL)
            .env_remove(EVALUATE);
        let base = base_of_pick(&runtime, &pick);
        if let Err(error) = &base {
            ui.tell(Event::LeftUndone(error));
        }
        let base = base.ok().flatten();
        let target = Target::Pick(pick.clone());
        for (name, value) in target.variables_on(&runtime, base.as_ref()) {
            match value {
                Some(value) => command.env(name, value),
                None => command.env_remove(name),
            };
        }
        let error = command.exec();
        let name = self.command[0].to_string_lossy();
        Err(match error.kind() {
            io::ErrorKind::NotFound => Failure::new(
                Class::NoMatch,
                format!(
                    "there is no command {name:?} to run on {}",
                    runtime.names().selector_of_pick(&pick)
                ),
            ),
            _ => Failure::new(Class::Other, format!("{name:?} cannot be run: {error}")),
        })
    }
}
