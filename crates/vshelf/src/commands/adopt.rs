//! `vshelf adopt`: put on the shelf what is on this machine already.

use std::path::PathBuf;

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::adopt::{self, AdoptRequest, Name};

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::ui::Ui;

/// Put a folder or archive from elsewhere on the shelf
///
/// A folder is copied, or linked with --link; an archive is unpacked. The program is asked which
/// version it is. From then on it is an install like any other, from the publisher "adopted".
#[derive(Debug, Args)]
pub struct Adopt {
    /// A folder, an archive, or system for the copy that is on PATH already
    #[arg(value_name = "PATH")]
    path: PathBuf,
    /// What to call it, such as 8.3.1 or gull-point/8.3.1; also says the runtime, such as marram@8.3.1
    #[arg(long, value_name = "VERSION")]
    r#as: Option<String>,
    /// Leave the folder where it is, and only put a link on the shelf
    #[arg(long)]
    link: bool,
}

impl CommandArgs for Adopt {
    const NAME: &'static str = "adopt";
    const GROUP: &'static str = "Keep";
}

impl RunCommand for Adopt {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let name = self.r#as.as_deref().map(Name::read).transpose()?;
        let asked = AdoptRequest {
            path: self.path,
            name: name.unwrap_or_default(),
            link: self.link,
        };
        Ok(adopt::adopt(environment, asked, ui)?)
    }
}
