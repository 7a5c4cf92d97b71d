//! `vshelf remove`: take installs off the shelf.

use clap::Args;
use vshelf_core::Request;
use vshelf_core::activation::Rule;
use vshelf_core::resolve::Scope;
use vshelf_shelf::journal::Deed;
use vshelf_shelf::receipt::Adopted;
use vshelf_shelf::shelf::Running;
use vshelf_view::Palette;
use vshelf_view::words::{listed, megabytes};

use crate::activity::Activity;
use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::keeping::record::Done;
use crate::keeping::removal;
use crate::keeping::tidying::{project_wishes, projects_seen};
use crate::project;
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// Take installs off the shelf
///
/// What is the default, or active in this shell, is only removed when you say so.
#[derive(Debug, Args)]
pub struct Remove {
    /// Versions on the shelf, as in 6.20.2 or dunefield/8
    #[arg(value_name = "SELECTOR", required = true)]
    selectors: Vec<String>,
    /// Where a selector covers several installs, remove them all
    #[arg(long)]
    every: bool,
    /// Remove it even if it is the default or active here
    #[arg(long)]
    even_if_used: bool,
}

impl CommandArgs for Remove {
    const NAME: &'static str = "remove";
    const GROUP: &'static str = "Keep";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        // Everything is looked at before anything is removed.
        let mut planned: Vec<(Runtime<'_>, Vec<String>)> = Vec::new();
        for selector in &self.selectors {
            let request: Request = selector.parse()?;
            let runtime = context.runtime_for(&request)?;
            let keys = self.plan(&runtime, &request)?;
            planned.push((runtime, keys));
        }
        let running = match self.even_if_used {
            true => Running::Ignored,
            false => Running::Spared,
        };
        for (runtime, keys) in planned {
            for key in keys {
                // Another of these may have been the default, or what this shell used.
                let runtime = Runtime::open(context, runtime.definition.clone())?;
                remove(ui, &runtime, &key, running)?;
            }
        }
        Ok(())
    }
}

impl Remove {
    /// The keys that a request means, where they may be removed.
    fn plan(&self, runtime: &Runtime<'_>, request: &Request) -> Result<Vec<String>, Failure> {
        let covered = runtime.covered(request, Scope::Shelf)?;
        let installs: Vec<_> = covered.iter().filter_map(|c| c.install).collect();
        let spelled: Vec<String> = installs
            .iter()
            .map(|install| runtime.spelled(install))
            .collect();
        if installs.is_empty() {
            return Err(Failure::new(
                Kind::Refused,
                format!("{request} is not an install on the shelf"),
            ));
        }
        if installs.len() > 1 && !self.every {
            return Err(Failure::new(
                Kind::Refused,
                format!(
                    "{request} covers {} installs: {}",
                    installs.len(),
                    listed(&spelled, "and")
                ),
            )
            .say("Nothing was removed. Name one of them, or")
            .run(
                "to remove them all",
                format!("vshelf remove {request} --every"),
            ));
        }
        let activity = Activity::of(runtime);
        for (install, name) in installs.iter().zip(&spelled) {
            let key = install.key.as_str();
            let used = match () {
                () if runtime.default_key().as_deref() == Some(key) => "the default",
                () if activity.active_key() != Some(key) => continue,
                () if activity.rule() == Some(Rule::Pin) => "what the project here wants",
                () => "active in this shell",
            };
            if !self.even_if_used {
                return Err(Failure::new(
                    Kind::Refused,
                    format!(
                        "{} {name} is {used}, and was not removed",
                        runtime.definition.title
                    ),
                )
                .run("To make another one the default", "vshelf default SELECTOR")
                .run(
                    "To remove it all the same",
                    format!("vshelf remove {request} --even-if-used"),
                ));
            }
        }
        Ok(installs.iter().map(|install| install.key.clone()).collect())
    }
}

fn remove(ui: &Ui, runtime: &Runtime<'_>, key: &str, running: Running) -> Outcome {
    let Some(install) = runtime.install(key) else {
        return Ok(());
    };
    let removed = styled(Palette::STRONG, runtime.called(&install.shelved));
    let freed = removal::take_off(ui, runtime, key, Done::plain(Deed::Removed), running)?;
    let rest = match install.receipt.contents.adopted {
        Some(Adopted::Linked) => "what it was a link to stays where it is".to_owned(),
        _ => format!("{} are free again", megabytes(freed)),
    };
    ui.result(format!("{removed} is off the shelf; {rest}."))?;
    say_left_alone(ui, runtime, key)
}

/// Says what labels and projects that asked for what was removed stand for now.
fn say_left_alone(ui: &Ui, before: &Runtime<'_>, key: &str) -> Outcome {
    let context = before.context();
    let now = Runtime::open(context, before.definition.clone())?;
    let mut asked: Vec<(String, Request)> = Vec::new();
    for (label, selector) in &before.state.labels {
        asked.push((
            format!("The label {label} ({selector}) stands for"),
            selector.parse()?,
        ));
    }
    for wish in project_wishes(before, &projects_seen(context)?) {
        let name = project::name(&wish.file);
        asked.push((
            format!("{name} asks for {}, and finds", wish.request),
            wish.request,
        ));
    }
    for (who, request) in asked {
        if before.key_meeting(&request).as_deref() == Some(key) {
            ui.note(match now.key_meeting(&request) {
                Some(other) => format!("{who} {other} now."),
                None => format!("{who} nothing on the shelf now."),
            });
        }
    }
    Ok(())
}
