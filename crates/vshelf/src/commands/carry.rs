//! `vshelf carry`: bring packages along from one install to another.

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::keep::carry;

use super::command::{CommandArgs, RunCommand, request};
use crate::failure::Outcome;
use crate::output;
use crate::ui::Ui;

/// Bring packages along from one install to another
///
/// The packages that you installed into one version are installed into another, in the same
/// versions, by the runtime's own package tool. Packages that came with the build are
/// left out, and packages that are there already stay as they are. One that fails does not stop the others.
#[derive(Debug, Args)]
pub struct Carry {
    /// The version that has the packages
    #[arg(value_name = "FROM")]
    from: String,
    /// The version that is to have them
    #[arg(value_name = "TO")]
    to: String,
    /// Only show what would be brought
    #[arg(long)]
    dry_run: bool,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

impl CommandArgs for Carry {
    const NAME: &'static str = "carry";
    const GROUP: &'static str = "Keep";
}

impl RunCommand for Carry {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let (from, to) = (request(&self.from)?, request(&self.to)?);
        let (report, checked) = carry::carry_between(
            environment,
            &from,
            &to,
            self.dry_run,
            &ui.for_events(self.json),
        )?;
        if self.json {
            output::carry::print(ui, &report)?;
        }
        Ok(checked?)
    }
}
