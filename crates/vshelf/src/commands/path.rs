//! `vshelf path`: the folder of an install, for scripts and editors.

use clap::Args;
use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::selector::Selector;
use vshelf_shell::quote;

use crate::activity::Activity;
use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::runtime::Runtime;
use crate::switching::Target;
use crate::ui::Ui;

/// Print the folder of an install, for scripts and editors
///
/// Without a selector it is that of what is active here. `vshelf path default` prints a path
/// that stays the same whatever the default is.
#[derive(Debug, Args)]
pub struct Path {
    /// A version on the shelf, as in 8, lts or default
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Print the path of the program instead
    #[arg(long)]
    program: bool,
    /// Print what makes it active, for a job or a file that programs read their environment from
    #[arg(long, value_name = "FORM", value_enum, conflicts_with = "program")]
    env: Option<Form>,
    /// Print both as JSON
    #[arg(long, conflicts_with_all = ["program", "env"])]
    json: bool,
}

/// A form for an environment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
enum Form {
    /// Commands for a POSIX shell to evaluate
    Sh,
    /// Lines for a .env file: NAME='VALUE', PATH included
    Dotenv,
    /// The folders for PATH, a line each: what build services append to their list of folders
    Folders,
    /// The other variables, as NAME=VALUE: what build services append to their list of variables
    Variables,
}

/// Where an install is, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// The key on the shelf, or `system`.
    key: String,
    /// The folder.
    path: String,
    /// The program.
    program: String,
}

impl CommandArgs for Path {
    const NAME: &'static str = "path";
    const GROUP: &'static str = "See";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let request: Option<Request> = self.selector.as_deref().map(str::parse).transpose()?;
        let runtime = context.runtime(request.as_ref().and_then(|r| r.runtime.as_deref()))?;
        let activity = Activity::of(&runtime);
        let key = match &request {
            None => activity.active_key().map(str::to_owned).ok_or_else(|| {
                Failure::new(
                    Kind::NoMatch,
                    format!("no {} is active here", runtime.definition.title),
                )
                .run("To see why", "vshelf status")
            })?,
            Some(request) => runtime.resolve_key(request)?,
        };
        if let Some(form) = self.env {
            return show_environment(ui, &runtime, &key, form);
        }
        let asks_default = request.is_some_and(|r| r.selector == Selector::Default);
        let (folder, program) = match key.as_str() {
            "system" => {
                let program = activity.need_system_copy(&runtime)?;
                let folder = program
                    .parent()
                    .and_then(std::path::Path::parent)
                    .unwrap_or(program);
                (folder.to_owned(), program.to_owned())
            }
            key => {
                let folder = match asks_default {
                    true => runtime.shelf.default_link(),
                    false => runtime.shelf.install_folder(key),
                };
                let program = vshelf_shelf::shelf::program_in(&folder, &runtime.definition);
                (folder, program)
            }
        };
        if self.json {
            return super::print_json(
                ui,
                &Report {
                    runtime: runtime.name().to_owned(),
                    path: folder.to_string_lossy().into_owned(),
                    program: program.to_string_lossy().into_owned(),
                    key,
                },
            );
        }
        ui.result(if self.program {
            program.display()
        } else {
            folder.display()
        })
    }
}

/// Prints what makes an install active, in the form that is asked for.
fn show_environment(ui: &Ui, runtime: &Runtime<'_>, key: &str, form: Form) -> Outcome {
    runtime.note_use(key);
    let target = Target::of_key(key);
    if form == Form::Folders {
        let mut folders = target.folders(runtime).into_iter();
        return folders.try_for_each(|folder| ui.result(folder.display()));
    }
    for (name, value) in target.variables(runtime) {
        let Some(value) = value else {
            continue;
        };
        // Such files have no common way to write a line break, nor an apostrophe.
        if form != Form::Sh && value.contains(['\n', '\'']) {
            let message =
                format!("{name} holds a line break or apostrophe, which these files cannot");
            return Err(
                Failure::new(Kind::Refused, message).run("For a shell", "vshelf path --env sh")
            );
        }
        match form {
            Form::Sh => ui.result(format!("export {name}={}", quote::posix(&value)))?,
            Form::Dotenv => ui.result(format!("{name}='{value}'"))?,
            Form::Variables if name != "PATH" => ui.result(format!("{name}={value}"))?,
            Form::Variables | Form::Folders => {}
        }
    }
    Ok(())
}
