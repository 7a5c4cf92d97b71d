//! `vshelf tidy`: clear away what is outdated.

use clap::Args;
use jiff::civil::Date;
use vshelf_app::keep::lines::meant;
use vshelf_app::keep::tidy::{self, TidyPlan, TidyRequest};
use vshelf_app::{Answer, Environment};
use vshelf_view::words::Count;

use super::command::{CommandArgs, RunCommand, lines, requests};
use crate::failure::{Class, Failure, Outcome};
use crate::output;
use crate::ui::Ui;
use crate::wording::advice::joined;

/// Clear away what is outdated
///
/// An install is outdated if a newer release of its line is on the shelf, if its line has ended, if its
/// publisher withdrew it, or if it is a pre-release whose final release is on the shelf; `vshelf config`
/// shows the policy. The default stays, and so does an install that is active in a shell, running,
/// labelled, or required by a project seen on this machine. The plan is shown first, and carried out if
/// you say yes; `vshelf restore` undoes it. Removed installs stay in the trash for as long as `[trash]`
/// in `shelf.toml` says.
#[derive(Debug, Args)]
pub struct Tidy {
    /// Only these lines, such as 6, marram@8 or marram; all of them if none is given
    #[arg(value_name = "LINE")]
    lines: Vec<String>,
    /// Leave these out this time; may be repeated
    #[arg(long, value_name = "SELECTOR")]
    except: Vec<String>,
    /// Delete at once what is removed, and what is in the trash
    #[arg(long)]
    for_good: bool,
    /// Only show the plan
    #[arg(long)]
    dry_run: bool,
    /// Compute phases for this day
    #[arg(long, value_name = "DATE")]
    as_of: Option<Date>,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

impl CommandArgs for Tidy {
    const NAME: &'static str = "tidy";
    const GROUP: &'static str = "Keep";
}

impl RunCommand for Tidy {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let mut meant = meant(environment, &lines(environment, &self.lines)?)?;
        for (runtime, _) in &mut meant {
            runtime.names().tell_untold(ui);
            runtime.published.judge_on(self.as_of);
        }
        let asked = TidyRequest {
            except: requests(&self.except)?,
            // What was left behind belongs to no line and to no runtime.
            leftovers: self.lines.is_empty(),
            for_good: self.for_good,
        };
        let mut plan = tidy::plan_tidy(environment, &meant, &asked)?;
        output::outdated::warn_without_catalog(ui, &plan);
        output::outdated::say_unclear(ui, &plan);
        let mut report = output::tidy::Report::of(&plan);
        let is_shown = !(self.json || ui.says_yes() && ui.is_quiet());
        if is_shown {
            output::tidy::show(ui, &plan)?;
        }
        let mut failed = 0;
        if self.is_agreed(ui, &plan)? {
            let tidied = tidy::apply(environment, &mut plan, &ui.for_events(self.json))?;
            failed = tidied.errors.len();
            if !self.json {
                output::tidy::say_tidied(ui, &plan, &tidied)?;
            }
            report.add(tidied);
        }
        if self.json {
            output::json::print(ui, &report)?;
        }
        match failed {
            0 => Ok(()),
            count => {
                let message = format!("{} could not be removed", Count(count, "install"));
                Err(Failure::new(Class::Other, message))
            }
        }
    }
}

impl Tidy {
    /// The command line that carries out the same plan without a question.
    fn carrying_out(&self) -> String {
        let mut words = vec!["vshelf".to_owned(), "tidy".to_owned(), "--yes".to_owned()];
        if self.for_good {
            words.push("--for-good".to_owned());
        }
        words.extend(
            self.except
                .iter()
                .map(|except| format!("--except={except}")),
        );
        words.extend(self.lines.iter().cloned());
        joined(&words)
    }

    /// Whether the plan is to be carried out.
    fn is_agreed(&self, ui: &Ui, plan: &TidyPlan<'_, '_>) -> Result<bool, Failure> {
        if self.dry_run || self.as_of.is_some() || plan.is_empty() {
            return Ok(false);
        }
        let answer = match self.json && !ui.says_yes() {
            true => Answer::Nobody,
            false => tidy::ask(plan, ui)?,
        };
        if answer == Answer::Nobody {
            ui.next("To carry it out", &self.carrying_out());
        }
        Ok(answer == Answer::Yes)
    }
}
