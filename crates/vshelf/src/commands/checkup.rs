//! `vshelf checkup`: is everything on the shelf sound? Each finding with what fixes it.

use clap::Args;
use vshelf_app::{Environment, checkup};
use vshelf_view::words::Count;

use super::command::{CommandArgs, RunCommand, requests};
use crate::failure::{Class, Failure, Outcome};
use crate::output;
use crate::ui::Ui;

/// Check that everything is connected and sound
///
/// The shell and its start-up file; what is on PATH; what the default, the labels and the project
/// here stand for; the sources; the disk. Of installs, every file is compared with what was unpacked,
/// and every program is started once; files that came later, such as packages, are not reported. Each
/// finding comes with the command that fixes it. Exits with status 1 if something is wrong.
#[derive(Debug, Args)]
pub struct Checkup {
    /// Only these installs, such as 8 or lts; all of them if none is given
    #[arg(value_name = "SELECTOR")]
    selectors: Vec<String>,
    /// Fix what can be fixed without taking anything away, then check
    ///
    /// Finishes what commands that were cut off had begun, writes damaged records again from the
    /// history, and points the links of defaults where they should lead.
    #[arg(long, conflicts_with = "selectors")]
    fix: bool,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

impl CommandArgs for Checkup {
    const NAME: &'static str = "checkup";
    const GROUP: &'static str = "See";
}

impl RunCommand for Checkup {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let requests = requests(&self.selectors)?;
        if self.fix {
            checkup::fix(environment)?;
        }
        let checkup = checkup::check(environment, &requests, ui.can_ask())?;
        let count = checkup.findings.len();
        let report = output::checkup::Report::of(checkup);
        match self.json {
            true => output::json::print(ui, &report)?,
            false => report.show(ui)?,
        }
        match count {
            0 => Ok(()),
            count => Err(Failure::new(
                Class::Other,
                format!("the checkup has {}", Count(count, "finding")),
            )),
        }
    }
}
