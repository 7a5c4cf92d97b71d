//! `vshelf path`: the folder of an install, for scripts and editors.

use clap::Args;
use vshelf_app::switch::{self, RunTarget};
use vshelf_app::{Environment, Error, Runtime, line_links};
use vshelf_core::Selector;

use super::command::{CommandArgs, RunCommand, request, runtime_alone};
use crate::failure::{Failure, Outcome};
use crate::output::json;
use crate::output::path::{self, Form};
use crate::ui::Ui;

/// Print the folder of an install, for scripts and editors
///
/// Without a selector it is that of what is active here. `vshelf path default` prints a path
/// that stays the same whatever the default is.
#[derive(Debug, Args)]
pub struct Path {
    /// A version on the shelf, such as 8, lts or default; a runtime's name alone is what is active of it
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Print a path that stays the same: a link to the newest install of a line, such as 17
    #[arg(long, requires = "selector", conflicts_with = "env")]
    line: bool,
    /// Print the path of the program instead
    #[arg(long)]
    program: bool,
    /// Print what makes it active, for a job or a file that programs read their environment from
    #[arg(long, value_name = "FORM", value_enum, conflicts_with = "program")]
    env: Option<Form>,
    /// Show it as JSON
    #[arg(long, conflicts_with_all = ["program", "env"])]
    json: bool,
}

impl CommandArgs for Path {
    const NAME: &'static str = "path";
    const GROUP: &'static str = "See";
}

impl RunCommand for Path {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let target = self.target(environment)?;
        if self.line {
            return self.print_line(ui, environment, target);
        }
        let asks_default = matches!(
            &target,
            RunTarget::Selected(request) if request.selector == Selector::Default
        );
        let (runtime, pick) = switch::choose(environment, &target)?;
        if let Some(form) = self.env {
            return path::print_environment(ui, &runtime, &pick, form);
        }
        self.print(ui, &path::Report::of(&runtime, &pick, asks_default)?)
    }
}

impl Path {
    fn print(&self, ui: &Ui, place: &path::Report) -> Outcome {
        match (self.json, self.program) {
            (true, _) => json::print(ui, place),
            (false, true) => ui.result(place.program()),
            (false, false) => ui.result(place.folder()),
        }
    }

    /// Prints where the link to a line is.
    fn print_line(&self, ui: &Ui, environment: &Environment, target: RunTarget) -> Outcome {
        let RunTarget::Selected(request) = target else {
            return Err(Error::NotALine {
                selector: self.selector.clone().unwrap_or_default(),
            }
            .into());
        };
        let runtime = Runtime::of_request(environment, &request)?;
        let (link, pick) = line_links::link(&runtime, &request)?;
        self.print(ui, &path::Report::at(&runtime, &pick, &link))
    }

    /// What is asked for; a runtime's name alone is what is active of it.
    fn target(&self, environment: &Environment) -> Result<RunTarget, Failure> {
        let Some(typed) = &self.selector else {
            return Ok(RunTarget::Active(None));
        };
        Ok(match runtime_alone(environment, typed)? {
            Some(runtime) => RunTarget::Active(Some(runtime)),
            None => RunTarget::Selected(request(typed)?),
        })
    }
}
