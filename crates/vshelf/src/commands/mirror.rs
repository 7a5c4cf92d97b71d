//! `vshelf mirror`: catalogs and archives as files or in a registry, for networks without a way out.

use std::path::PathBuf;

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::mirror::{self, Destination, MirrorRequest};

use super::command::{CommandArgs, RunCommand, platforms, requests};
use crate::failure::{Failure, Outcome};
use crate::output;
use crate::ui::Ui;

/// Write releases as files, or to a registry of containers
///
/// The result is a separate source: a definition, a catalog, and archives that were verified when they
/// came and are verified again by each install. Releases that are there already are not fetched or sent
/// again, and stay. A folder can be served by any web server or be carried
/// on a USB drive; its index.html shows people what is in it.
#[derive(Debug, Args)]
pub struct Mirror {
    /// The releases to take, such as lts, 8.3.1 or ">=6 <8"
    #[arg(value_name = "SELECTOR", required = true)]
    selectors: Vec<String>,
    /// A folder or oci://HOST/PREFIX to write to; each runtime has its own place there
    #[arg(long, value_name = "PLACE")]
    to: String,
    /// Sign the catalog with the minisign secret key in this file; if it has a password, the
    /// variable VSHELF_KEY_PASSWORD says it
    #[arg(long, value_name = "FILE")]
    sign_key: Option<PathBuf>,
    /// Builds for this platform, such as linux-arm64-gnu; may be given several times
    #[arg(long, value_name = "PLATFORM")]
    platform: Vec<String>,
    /// Every release that a selector covers, not only the newest
    #[arg(long)]
    all: bool,
    /// For runtimes published as source, take the builds made on this machine
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
            to: Destination::read(&self.to),
            sign_key: self.sign_key,
            platforms: platforms(&self.platform)?,
            every: self.all,
            builds: self.builds,
        };
        let mirrored = mirror::mirror(environment, &asked, &output::mirror_page::page, ui)?;
        output::mirror::show(ui, &mirrored.runtimes)?;
        let failures = mirrored.errors.into_iter().map(Failure::from).collect();
        ui.end_with(failures)
    }
}
