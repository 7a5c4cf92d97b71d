//! `vshelf list`: what is on the shelf.

use clap::Args;
use jiff::civil::Date;
use vshelf_app::Environment;
use vshelf_app::runtime::opening;

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::output::json;
use crate::output::list;
use crate::ui::Ui;

/// List what is on the shelf
///
/// Newest first, with the phase and end of support of each line, and marks in words: this shell,
/// default, labels.
#[derive(Debug, Args)]
pub struct List {
    /// Only this runtime
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Measure the sizes on the disk, with the packages that came later, and list the largest first
    #[arg(long)]
    size: bool,
    /// Compute phases for this day
    #[arg(long, value_name = "DATE")]
    as_of: Option<Date>,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

impl CommandArgs for List {
    const NAME: &'static str = "list";
    const GROUP: &'static str = "See";
}

impl RunCommand for List {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let mut runtimes = opening::shown(environment, self.runtime.as_deref())?;
        for runtime in &runtimes {
            runtime.names().tell_untold(ui);
        }
        for runtime in &mut runtimes {
            runtime.published.judge_on(self.as_of);
        }
        let listed = runtimes.iter();
        let listed = listed.map(|runtime| list::Listed::of(runtime, self.size));
        let listed = listed.collect::<Result<Vec<_>, _>>()?;
        match self.json {
            true => json::print_list(ui, &list::reports(listed)),
            false => list::show(ui, &listed),
        }
    }
}
