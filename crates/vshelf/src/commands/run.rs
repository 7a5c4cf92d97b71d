//! `vshelf run`: one command on a version, without switching.

use std::os::unix::process::CommandExt;
use std::process::Command;

use clap::Args;
use vshelf_core::Request;

use crate::activity::Activity;
use crate::calling_shell::{EVALUATE, SHELL};
use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::runtime::Runtime;
use crate::switching::Target;
use crate::ui::Ui;

/// Run one command on a version, without switching
///
/// The command, and whatever it starts, finds that version first on PATH. It needs no connected
/// shell, and ends as the command does.
#[derive(Debug, Args)]
pub struct Run {
    /// A version on the shelf, as in 8, lts or a label; with --here a runtime, as in marram@
    #[arg(value_name = "SELECTOR", required_unless_present = "here")]
    selector: Option<String>,
    /// What is active here: what the project wants, else the default
    #[arg(long)]
    here: bool,
    /// The command and its arguments
    #[arg(value_name = "COMMAND", last = true, required = true)]
    command: Vec<std::ffi::OsString>,
}

impl CommandArgs for Run {
    const NAME: &'static str = "run";
    const GROUP: &'static str = "Use";

    fn run(self, _: &Ui, context: &Context) -> Outcome {
        let (runtime, key) = self.choose(context)?;
        runtime.note_use(&key);
        let mut command = Command::new(&self.command[0]);
        command
            .args(&self.command[1..])
            .env_remove(SHELL)
            .env_remove(EVALUATE);
        for (name, value) in Target::of_key(&key).variables(&runtime) {
            match value {
                Some(value) => command.env(name, value),
                None => command.env_remove(name),
            };
        }
        let error = command.exec();
        let name = self.command[0].to_string_lossy();
        Err(match error.kind() {
            std::io::ErrorKind::NotFound => Failure::new(
                Kind::NoMatch,
                format!("there is no command {name:?} to run on {key}"),
            ),
            _ => Failure::new(Kind::Other, format!("{name:?} cannot be run: {error}")),
        })
    }
}

impl Run {
    /// The runtime and the key that the command is run on.
    fn choose<'c>(&self, context: &'c Context) -> Result<(Runtime<'c>, String), Failure> {
        if self.here {
            let runtime = context.runtime(self.selector.as_deref())?;
            let key = Activity::of(&runtime).active_key().map(str::to_owned);
            let title = &runtime.definition.title;
            let key = key.ok_or_else(|| {
                Failure::new(Kind::NoMatch, format!("no {title} is active here"))
                    .run("To see why", "vshelf status")
            })?;
            return Ok((runtime, key));
        }
        let request: Request = self.selector.as_deref().unwrap_or_default().parse()?;
        let runtime = context.runtime_for(&request)?;
        let key = runtime.resolve_key(&request)?;
        Ok((runtime, key))
    }
}
