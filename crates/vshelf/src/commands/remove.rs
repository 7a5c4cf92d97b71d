//! `vshelf remove`: take installs off the shelf.

use clap::Args;
use vshelf_core::Request;
use vshelf_core::activation::Rule;
use vshelf_core::resolve::Scope;
use vshelf_shelf::receipt::Adopted;
use vshelf_view::Palette;
use vshelf_view::words::{listed, megabytes};

use crate::activity::Activity;
use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::following;
use crate::runtime::Runtime;
use crate::switching;
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
        for (runtime, keys) in planned {
            for key in keys {
                remove(ui, &runtime, &key)?;
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

fn remove(ui: &Ui, runtime: &Runtime<'_>, key: &str) -> Outcome {
    let Some(install) = runtime.install(key) else {
        return Ok(());
    };
    let title = &runtime.definition.title;
    let was_default = runtime.default_key().as_deref() == Some(key);
    let name = runtime.spelled(&install.shelved);
    runtime.shelf.take_off(key)?;
    following::forget(runtime.context())?;
    let receipt = &install.receipt.contents;
    let rest = match receipt.adopted {
        Some(Adopted::Linked) => "what it was a link to stays where it is".to_owned(),
        _ => format!("{} are free again", megabytes(receipt.unpacked_size)),
    };
    let removed = styled(Palette::STRONG, format!("{title} {name}"));
    ui.result(format!("{removed} is off the shelf; {rest}."))?;
    if was_default {
        runtime.shelf.clear_default()?;
        ui.note(format!("It was the default; {title} has none now."));
        ui.next("To set one", "vshelf default SELECTOR");
    }
    let shell = &runtime.context().shell;
    if shell.switched(runtime.name()) == Some(key) && shell.can_change() {
        switching::plan_following(
            &Runtime::open(runtime.context(), runtime.definition.clone())?,
            None,
        );
        ui.note("This shell was switched to it, and follows the default again.");
    }
    Ok(())
}
