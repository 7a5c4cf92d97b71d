//! `vshelf remove`: remove installs from the shelf.

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::keep::remove::{self, RemoveRequest};

use super::command::{CommandArgs, RunCommand, requests};
use crate::failure::Outcome;
use crate::ui::Ui;

/// Remove installs from the shelf
///
/// An install that something needs (the default, this shell, a label, a project) is only removed if you say
/// so: on a terminal you are asked, and elsewhere the default and the active install stay without --yes.
#[derive(Debug, Args)]
pub struct Remove {
    /// Versions on the shelf, such as 6.20.2 or dunefield/8
    #[arg(value_name = "SELECTOR", required = true)]
    selectors: Vec<String>,
    /// If a selector covers several installs, remove them all
    #[arg(long)]
    all: bool,
    /// Remove it even if it is needed, or a process runs from it
    #[arg(long)]
    even_if_used: bool,
    /// Delete it at once, and keep nothing of it in the trash
    #[arg(long)]
    for_good: bool,
}

impl CommandArgs for Remove {
    const NAME: &'static str = "remove";
    const GROUP: &'static str = "Keep";
}

impl RunCommand for Remove {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let asked = RemoveRequest {
            requests: requests(&self.selectors)?,
            every: self.all,
            even_if_used: self.even_if_used,
            for_good: self.for_good,
        };
        Ok(remove::remove(environment, &asked, ui)?)
    }
}
