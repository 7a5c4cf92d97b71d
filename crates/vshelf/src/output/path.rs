//! Where an install is, and what makes it active.

use std::path::Path;

use serde::Serialize;
use vshelf_app::session::Target;
use vshelf_app::{Activity, Runtime};
use vshelf_core::Pick;
use vshelf_shelf::store::program_in;
use vshelf_shell::quote;

use crate::failure::{Class, Failure, Outcome};
use crate::ui::Ui;

/// A form for an environment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Form {
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

impl Report {
    /// Where what is picked is; the default by its stable path where that is asked for.
    pub fn of(runtime: &Runtime<'_>, pick: &Pick, by_default: bool) -> Result<Self, Failure> {
        let (folder, program) = match pick {
            Pick::System => {
                let activity = Activity::of(runtime);
                let program = activity.need_system_copy(runtime)?;
                let folder = program.parent().and_then(Path::parent);
                (folder.unwrap_or(program).to_owned(), program.to_owned())
            }
            Pick::Install(key) => {
                let folder = match by_default {
                    true => runtime.shelf.default_link(),
                    false => runtime.shelf.install_folder(key),
                };
                return Ok(Report::at(runtime, pick, &folder));
            }
        };
        Ok(Report::new(runtime, pick, &folder, &program))
    }

    /// An install by this path.
    pub fn at(runtime: &Runtime<'_>, pick: &Pick, folder: &Path) -> Self {
        let program = program_in(folder, &runtime.definition);
        Report::new(runtime, pick, folder, &program)
    }

    fn new(runtime: &Runtime<'_>, pick: &Pick, folder: &Path, program: &Path) -> Self {
        Report {
            runtime: runtime.name().to_owned(),
            path: folder.to_string_lossy().into_owned(),
            program: program.to_string_lossy().into_owned(),
            key: pick.clone().into(),
        }
    }

    /// The folder.
    pub fn folder(&self) -> &str {
        &self.path
    }

    /// The program.
    pub fn program(&self) -> &str {
        &self.program
    }
}

/// Prints what makes an install active, in the form that is asked for.
pub fn print_environment(ui: &Ui, runtime: &Runtime<'_>, pick: &Pick, form: Form) -> Outcome {
    runtime.note_use(pick);
    let target = Target::Pick(pick.clone());
    if form == Form::Folders {
        let mut folders = target.folders(runtime).into_iter();
        return folders.try_for_each(|folder| ui.result(folder.display()));
    }
    for (name, value) in target.variables(runtime) {
        let Some(value) = value else {
            continue;
        };
        let value = value.to_str().ok_or_else(|| {
            let message = format!("{name} holds bytes that are not UTF-8, so it cannot be printed");
            Failure::new(Class::Refused, message)
        })?;
        // Such files have no common way to write a line break, nor an apostrophe.
        if form != Form::Sh && value.contains(['\n', '\'']) {
            let message =
                format!("{name} holds a line break or apostrophe, which these files cannot");
            return Err(
                Failure::new(Class::Refused, message).run("For a shell", "vshelf path --env sh")
            );
        }
        match form {
            Form::Sh => ui.result(format!("export {name}={}", quote::posix(value)))?,
            Form::Dotenv => ui.result(format!("{name}='{value}'"))?,
            Form::Variables if name != "PATH" => ui.result(format!("{name}={value}"))?,
            Form::Variables | Form::Folders => {}
        }
    }
    Ok(())
}
