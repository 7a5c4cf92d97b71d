//! `vshelf pin`: what the project requires.

use clap::Args;
use vshelf_app::{Environment, require};

use super::command::{CommandArgs, RunCommand, request};
use crate::failure::Outcome;
use crate::output::{json, pin};
use crate::ui::Ui;

/// Show or write the project's wish
///
/// A project says what it wants in a file in its folder, read from this folder upward, nearest
/// first: vivid-shelf.toml, or the files that the runtime's definition names. `vshelf install` and
/// `vshelf switch` without a selector take that wish.
#[derive(Debug, Args)]
pub struct Pin {
    /// What the project wants, as in lts, 8 or ">=6 <8"
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Write the release that it stands for now
    #[arg(long, requires = "selector")]
    exact: bool,
    /// Show it as JSON
    #[arg(long, conflicts_with = "selector")]
    json: bool,
}

impl CommandArgs for Pin {
    const NAME: &'static str = "pin";
    const GROUP: &'static str = "Use";
}

impl RunCommand for Pin {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if let Some(selector) = &self.selector {
            let written = require::write(environment, &request(selector)?, self.exact)?;
            return pin::say_written(ui, &written);
        }
        let required = require::show(environment)?;
        match self.json {
            true => json::print(ui, &pin::reports(&required)),
            false => pin::show(ui, &required),
        }
    }
}
