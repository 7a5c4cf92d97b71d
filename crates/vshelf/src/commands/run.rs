//! `vshelf run`: one command on a version, without switching.

use std::os::unix::process::CommandExt;
use std::process::Command;

use clap::Args;
use vshelf_core::Request;

use crate::calling_shell::{EVALUATE, SHELL};
use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::switching::Target;
use crate::ui::Ui;

/// Run one command on a version, without switching
///
/// The command, and whatever it starts, finds that version first on PATH. It needs no connected
/// shell, and ends as the command does.
#[derive(Debug, Args)]
pub struct Run {
    /// A version on the shelf, as in 8, lts or a label
    #[arg(value_name = "SELECTOR")]
    selector: String,
    /// The command and its arguments
    #[arg(value_name = "COMMAND", last = true, required = true)]
    command: Vec<std::ffi::OsString>,
}

impl CommandArgs for Run {
    const NAME: &'static str = "run";
    const GROUP: &'static str = "Use";

    fn run(self, _: &Ui, context: &Context) -> Outcome {
        let request: Request = self.selector.parse()?;
        let runtime = context.runtime_for(&request)?;
        let key = runtime.resolve_key(&request)?;
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
