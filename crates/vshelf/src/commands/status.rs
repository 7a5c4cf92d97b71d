//! `vshelf status`: what is active here, and why.

use clap::Args;
use vshelf_app::runtime::opening;
use vshelf_app::{Environment, concerns, version_files};

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::output::require::say_unread;
use crate::output::{json, status};
use crate::ui::Ui;
use crate::wording;

/// Say which version is active here, and why
///
/// It names the rule that holds (a switch of this shell, what the project requires, the default, the
/// system's own copy), what that overrode, and every copy on PATH.
#[derive(Debug, Args)]
pub struct Status {
    /// Only this runtime
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Only the name and version, for a prompt or a script
    #[arg(long, conflicts_with = "json")]
    short: bool,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

impl CommandArgs for Status {
    const NAME: &'static str = "status";
    const GROUP: &'static str = "See";
}

impl RunCommand for Status {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let runtimes = match self.runtime.as_deref() {
            Some(name) => opening::shown(environment, Some(name))?,
            None => opening::concerned(environment)?,
        };
        for runtime in &runtimes {
            runtime.names().tell_untold(ui);
        }
        if self.json {
            let reports: Vec<_> = runtimes.iter().map(status::report).collect();
            return json::print_list(ui, &reports);
        }
        if self.short {
            return status::show_short(ui, &runtimes);
        }
        let requires = status::show(ui, &runtimes)?;
        if !requires && self.runtime.is_none() {
            say_unread(ui, &version_files::find_unread(environment)?);
        }
        // Who is not told must be told tomorrow.
        if !ui.is_quiet()
            && let Some(reminder) = concerns::remind(environment, &runtimes)?
        {
            wording::concerns::say_reminder(ui, reminder);
        }
        Ok(())
    }
}
