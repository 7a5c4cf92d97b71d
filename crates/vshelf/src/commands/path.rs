//! `vshelf path`: the folder of an install, for scripts and editors.

use clap::Args;
use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::selector::Selector;

use crate::activity::Activity;
use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
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
    /// Print both as JSON
    #[arg(long, conflicts_with = "program")]
    json: bool,
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
