//! `vshelf history`: what was done to the shelf.

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::keep::history;

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::output;
use crate::ui::Ui;

/// List what was done to the shelf
///
/// Every install, adoption, removal, clean-up and renewal, newest first, with why it was done and the
/// packages that went. `vshelf restore` gets back what was removed.
#[derive(Debug, Args)]
pub struct History {
    /// Only this runtime
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

impl CommandArgs for History {
    const NAME: &'static str = "history";
    const GROUP: &'static str = "See";
}

impl RunCommand for History {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let history = history::History::of(environment, self.runtime.as_deref())?;
        match self.json {
            true => output::history::print(ui, &history),
            false => output::history::show(ui, &history),
        }
    }
}
