//! `vshelf require`: what the project requires.

use clap::Args;
use vshelf_app::example_requirement::examples;
use vshelf_app::{Environment, mistakes, require, version_files};

use super::command::{CommandArgs, RunCommand, release};
use crate::failure::{Class, Failure, Outcome};
use crate::output::{self, json};
use crate::ui::Ui;
use crate::wording::paths::shown;

/// Show or write what the project requires
///
/// A project says what it requires in a file in its folder, read from this folder upward, nearest
/// first: vivid-shelf.toml, or the files that the runtime's definition names. `vshelf install` and
/// `vshelf switch` without a selector use that. A requirement is written into the one-line file
/// already in force here, or a new one; a manifest is only written to if --file names it.
#[derive(Debug, Args)]
pub struct Require {
    /// The version to require, such as lts, 8 or ">=6 <8"; with --read the runtime
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Write into this file of this folder, such as package.json or vivid-shelf.toml; all else in it stays
    #[arg(long, value_name = "FILE", requires = "selector")]
    file: Option<String>,
    /// Read one-line version files with this name, which other programs write, in all your projects; list them if no
    /// file is given
    #[arg(long, value_name = "FILE", num_args = 0..=1, conflicts_with_all = ["file", "json"])]
    read: Option<Option<String>>,
    /// Remove the plain file of this folder that says it; with --read, read that file no more
    #[arg(long, conflicts_with = "json")]
    remove: bool,
    /// Show it as JSON
    #[arg(long, conflicts_with = "selector")]
    json: bool,
}

impl CommandArgs for Require {
    const NAME: &'static str = "require";
    const GROUP: &'static str = "Use";
}

impl RunCommand for Require {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if let Some(file) = &self.read {
            return self.read_files(ui, environment, file.as_deref());
        }
        if let (true, Some(selector)) = (self.remove, &self.selector) {
            let message = format!("--remove takes no selector, and {selector:?} is given");
            return Err(Failure::new(Class::Usage, message)
                .run("To remove the requirement here", "vshelf require --remove"));
        }
        if let Some(selector) = &self.selector {
            let request = release(environment, selector)?;
            let written = require::write(environment, &request, self.file.as_deref(), ui)?;
            output::require::say_written(ui, &written)?;
            output::require::say_mistakes(ui, &mistakes::find(environment)?);
            return Ok(());
        }
        if self.remove {
            let file = require::remove(environment, None)?;
            return ui.done(format!("{} was removed.", shown(&file)));
        }
        let required = require::show(environment)?;
        match self.json {
            true => json::print_list(ui, &output::require::reports(&required)),
            false => {
                output::require::show(ui, &required, &examples(environment))?;
                output::require::say_mistakes(ui, &mistakes::find(environment)?);
                if required
                    .iter()
                    .all(|one| one.standing.required.stated.is_none())
                {
                    output::require::say_unread(ui, &version_files::find_unread(environment)?);
                }
                Ok(())
            }
        }
    }
}

impl Require {
    /// Lists the version files that are read in all projects, adds one or removes one.
    fn read_files(&self, ui: &Ui, environment: &Environment, file: Option<&str>) -> Outcome {
        let Some(file) = file else {
            return output::require::show_read(ui, &version_files::list(environment)?);
        };
        let Some(runtime) = &self.selector else {
            let message = format!("which runtime {file} is for is not given");
            let usage = format!("vshelf require --read {file} RUNTIME");
            return Err(Failure::new(Class::Usage, message)
                .say(format!("It is written so: {usage}."))
                .run("To see the runtimes", "vshelf runtimes"));
        };
        let runtime = runtime.trim_end_matches('@');
        if self.remove {
            version_files::forget(environment, file, runtime)?;
            return ui.done(format!("{file} is not read for {runtime} any more."));
        }
        let is_new = version_files::read(environment, file, runtime)?;
        ui.done(if is_new {
            format!("{file} is read for {runtime} in all your projects now.")
        } else {
            format!("{file} is read for {runtime} already.")
        })
    }
}
