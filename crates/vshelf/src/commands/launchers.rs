//! `vshelf launchers`: a folder of programs that follow the project, for whatever sources no start-up
//! file.

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::integrate::launchers;

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::paths::{quoted, shown};

/// Make a folder of launchers for editors and desktop programs
///
/// A launcher has the name of a runtime's program. Started in a project's folder it runs the version
/// that the project requires, else the default. Put the folder on the PATH of programs that never run a
/// shell's start-up file; connected shells do not need it. Every start costs a few milliseconds.
#[derive(Debug, Args)]
pub struct Launchers {
    /// Remove the folder
    #[arg(long)]
    remove: bool,
}

impl CommandArgs for Launchers {
    const NAME: &'static str = "launchers";
    const GROUP: &'static str = "Connect";
}

impl RunCommand for Launchers {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if self.remove {
            return ui.done(match launchers::remove(environment)? {
                Some(folder) => format!("{} was removed.", shown(&folder)),
                None => "There are no launchers; nothing was changed.".to_owned(),
            });
        }
        let (folder, names) = launchers::make(environment)?;
        ui.done(format!(
            "{} launch what the project requires: {}",
            shown(&folder),
            names.join(", ")
        ))?;
        ui.next(
            "To put them first on PATH",
            &format!("PATH={}:$PATH", quoted(&folder)),
        );
        Ok(())
    }
}
