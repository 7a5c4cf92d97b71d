//! `vshelf mirror`: catalogs and archives as files, for networks without a way out.

use std::path::PathBuf;

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::mirror::{self, MirrorRequest};

use super::command::{CommandArgs, RunCommand, platforms, requests};
use crate::failure::{Failure, Outcome};
use crate::output;
use crate::ui::Ui;

/// Write releases as files, for a web server or a USB drive
///
/// What stands in the folder then is a source of its own: a definition, a catalog, and archives that
/// were verified when they came and are verified again where they are installed. What is there
/// already is not fetched again, and stays.
#[derive(Debug, Args)]
pub struct Mirror {
    /// What to take, such as lts, 8.3.1 or ">=6 <8"
    #[arg(value_name = "SELECTOR", required = true)]
    selectors: Vec<String>,
    /// The folder to write to; each runtime has one of its own in it
    #[arg(long, value_name = "FOLDER")]
    to: PathBuf,
    /// Builds for this platform, such as linux-arm64-gnu; may be given several times
    #[arg(long, value_name = "PLATFORM")]
    platform: Vec<String>,
    /// Every release that a selector covers, not only the newest
    #[arg(long)]
    every: bool,
    /// Of what comes as source, the builds that were made of it here, for this platform
    #[arg(long, conflicts_with = "platform")]
    builds: bool,
}

impl CommandArgs for Mirror {
    const NAME: &'static str = "mirror";
    const GROUP: &'static str = "Keep";
}

impl RunCommand for Mirror {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let asked = MirrorRequest {
            requests: requests(&self.selectors)?,
            folder: self.to,
            platforms: platforms(&self.platform)?,
            every: self.every,
            builds: self.builds,
        };
        let mirrored = mirror::mirror(environment, &asked, ui)?;
        output::mirror::show(ui, &mirrored.runtimes)?;
        let failures = mirrored.errors.into_iter().map(Failure::from).collect();
        ui.end_with(failures)
    }
}
