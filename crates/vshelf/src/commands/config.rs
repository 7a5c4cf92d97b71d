//! `vshelf config`: the settings in force, and where each comes from.

use clap::Args;
use vshelf_app::Environment;

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::output::{config, json};
use crate::ui::Ui;

/// Show the settings in force, and where each comes from
///
/// Settings are in shelf.toml in the config folder; those that it leaves out have a default. The
/// folders come from the environment or the platform.
#[derive(Debug, Args)]
pub struct Config {
    /// Show them as JSON
    #[arg(long)]
    json: bool,
}

impl CommandArgs for Config {
    const NAME: &'static str = "config";
    const GROUP: &'static str = "See";
}

impl RunCommand for Config {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let reports = config::reports(environment)?;
        match self.json {
            true => json::print_list(ui, &reports),
            false => config::show(ui, environment, &reports),
        }
    }
}
