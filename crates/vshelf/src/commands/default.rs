//! `vshelf default`: what new shells and desktop programs get.

use clap::Args;
use vshelf_app::runtime::opening;
use vshelf_app::{Environment, defaults};

use super::command::{CommandArgs, RunCommand, release};
use crate::failure::Outcome;
use crate::output::default;
use crate::ui::Ui;

/// Show or set what new shells get
///
/// The default is stored as you type it: `vshelf default lts` stays lts. Shells that were switched
/// stay as they are; all others follow at once.
#[derive(Debug, Args)]
pub struct Default {
    /// A version on the shelf, such as 8, lts or a label; system is the system's own copy
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Show it as JSON
    #[arg(long, conflicts_with = "selector")]
    json: bool,
}

impl CommandArgs for Default {
    const NAME: &'static str = "default";
    const GROUP: &'static str = "Use";
}

impl RunCommand for Default {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        match self.selector {
            Some(selector) => {
                let set = defaults::set(environment, &release(environment, &selector)?)?;
                default::say_set(ui, &set)
            }
            None => {
                let runtimes = opening::shown(environment, None)?;
                default::show(ui, &runtimes, self.json)
            }
        }
    }
}
