//! `vshelf renew`: move lines to their newest release.

use clap::Args;
use vshelf_app::keep::renew::{self, RenewOptions, apply, plan_renewals};
use vshelf_app::{Answer, Environment};

use super::command::{CommandArgs, RunCommand, lines};
use crate::failure::Outcome;
use crate::output;
use crate::ui::Ui;

/// Move the lines on the shelf to their newest release
///
/// The plan is shown first. Then, line by line: the newest release comes onto the shelf, the packages
/// come along, the default, this shell and moving labels follow, and the old release goes unless
/// something still needs it. If a step fails, the old release stays as it was.
#[derive(Debug, Args)]
pub struct Renew {
    /// Only these lines, such as 6, marram@8 or marram; all of them if none is given
    #[arg(value_name = "LINE")]
    lines: Vec<String>,
    /// Leave the old releases on the shelf
    #[arg(long)]
    keep_old: bool,
    /// Write the new version into projects that ask for the old one by its exact version
    #[arg(long)]
    requirements: bool,
    /// Only show the plan
    #[arg(long)]
    dry_run: bool,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

impl CommandArgs for Renew {
    const NAME: &'static str = "renew";
    const GROUP: &'static str = "Keep";
}

impl RunCommand for Renew {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let plans = plan_renewals(environment, &lines(environment, &self.lines)?, ui)?;
        if self.json {
            return output::json::print_list(ui, &output::renew::reports(&plans));
        }
        if plans
            .iter()
            .all(|(runtime, _)| runtime.snapshot.installs.is_empty())
        {
            return ui.empty_shelf();
        }
        let lines = plans.iter().map(|(_, plan)| plan.len()).sum();
        if lines == 0 {
            return ui.sentence("Every line on the shelf has its newest release.");
        }
        let options = RenewOptions {
            keep_old: self.keep_old,
            move_requirements: self.requirements,
        };
        let planned = plans.iter().flat_map(|(_, plan)| plan);
        let removals = planned
            .filter(|planned| planned.removes_old(options))
            .count();
        if !(ui.says_yes() && ui.is_quiet()) {
            output::renew::show(ui, &plans, options)?;
        }
        if self.dry_run {
            return Ok(());
        }
        match renew::ask(lines, removals, ui)? {
            Answer::Yes => {}
            Answer::No => return Ok(()),
            Answer::Nobody => {
                ui.next("To carry it out", "vshelf renew --yes");
                return Ok(());
            }
        }
        let errors = apply(environment, &plans, options, ui)?;
        if removals > 0 && errors.is_empty() {
            ui.next("To get the old releases back", "vshelf restore");
        }
        ui.end_with(errors.into_iter().map(output::renew::failure).collect())
    }
}
