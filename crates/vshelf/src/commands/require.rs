//! `vshelf require`: what the project requires.

use clap::Args;
use vshelf_app::{Environment, mistakes, require};

use super::command::{CommandArgs, RunCommand, release};
use crate::failure::Outcome;
use crate::output::{self, json};
use crate::ui::Ui;
use crate::wording::paths::shown;

/// Show or write what the project requires
///
/// A project says what it requires in a file in its folder, read from this folder upward, nearest
/// first: vivid-shelf.toml, or the files that the runtime's definition names. `vshelf install` and
/// `vshelf switch` without a selector use that. A requirement is written into the file with just one line
/// that speaks here already, or a new one; a manifest is only written to when --file names it.
#[derive(Debug, Args)]
pub struct Require {
    /// What the project requires, such as lts, 8 or ">=6 <8"
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Write the release that it stands for now
    #[arg(long, requires = "selector")]
    exact: bool,
    /// Write into this file of this folder, such as package.json or vivid-shelf.toml; all else in it stays
    #[arg(long, value_name = "FILE", requires = "selector")]
    file: Option<String>,
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
            let request = release(environment, selector)?;
            let written =
                require::write(environment, &request, self.exact, self.file.as_deref(), ui)?;
            output::require::say_written(ui, &written)?;
            output::require::say_mistakes(ui, &mistakes::find(environment)?);
            return Ok(());
        }
        if self.remove {
            let file = require::remove(environment, None)?;
            return ui.done(format!("{} was removed.", shown(&file)));
        }
        let required = require::show(environment)?;
        match self.json {
            true => json::print_list(ui, &output::require::reports(&required)),
            false => {
                output::require::show(ui, &required)?;
                output::require::say_mistakes(ui, &mistakes::find(environment)?);
                Ok(())
            }
        }
    }
}
