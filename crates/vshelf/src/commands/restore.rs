//! `vshelf restore`: get back what was removed.

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::keep::restore;

use super::command::{CommandArgs, RunCommand, requests};
use crate::failure::Outcome;
use crate::ui::Ui;

/// Get back what was removed
///
/// Without a selector, everything that the last removal, clean-up or renewal took. Installs in the trash
/// come back at once, with their packages. Other installs are fetched again from their source, with the
/// same publisher and digest; if that is no longer offered, the command says so. Their packages are named,
/// with the command that brings them.
#[derive(Debug, Args)]
pub struct Restore {
    /// Versions in the history, such as 6.20.1 or marram@6.20; what was removed last if none is given
    #[arg(value_name = "SELECTOR")]
    selectors: Vec<String>,
}

impl CommandArgs for Restore {
    const NAME: &'static str = "restore";
    const GROUP: &'static str = "Keep";
}

impl RunCommand for Restore {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        Ok(restore::restore(
            environment,
            &requests(&self.selectors)?,
            ui,
        )?)
    }
}
