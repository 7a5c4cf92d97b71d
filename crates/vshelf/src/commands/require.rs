//! `vshelf require`: what the project requires.

use clap::Args;
use vshelf_app::{Environment, require};

use super::command::{CommandArgs, RunCommand, release};
use crate::failure::Outcome;
use crate::output::{self, json};
use crate::ui::Ui;
use crate::wording::paths::shown;

/// Show or write what the project requires
///
/// A project says what it requires in a file in its folder, read from this folder upward, nearest
/// first: vivid-shelf.toml, or the files that the runtime's definition names. `vshelf install` and
/// `vshelf switch` without a selector use that.
#[derive(Debug, Args)]
pub struct Require {
    /// What the project requires, such as lts, 8 or ">=6 <8"
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Write the release that it stands for now
    #[arg(long, requires = "selector")]
    exact: bool,
    /// Remove the plain file of this folder that says it
    #[arg(long, conflicts_with_all = ["selector", "json"])]
    remove: bool,
    /// Show it as JSON
    #[arg(long, conflicts_with = "selector")]
    json: bool,
}

impl CommandArgs for Require {
    const NAME: &'static str = "require";
    const GROUP: &'static str = "Use";
}

impl RunCommand for Require {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if let Some(selector) = &self.selector {
            let written =
                require::write(environment, &release(environment, selector)?, self.exact)?;
            return output::require::say_written(ui, &written);
        }
        if self.remove {
            let file = require::remove(environment, None)?;
            return ui.done(format!("{} was removed.", shown(&file)));
        }
        let required = require::show(environment)?;
        match self.json {
            true => json::print_list(ui, &output::require::reports(&required)),
            false => output::require::show(ui, &required),
        }
    }
}
