//! `vshelf switch`: this shell, now.

use clap::Args;
use vshelf_core::activation::Rule;
use vshelf_core::resolve::{Candidate, Choice, ResolveError, Scope};
use vshelf_core::selector::Selector;
use vshelf_core::{Request, Version};
use vshelf_shell::Dialect;

use crate::activity::Activity;
use crate::commands::setup::own_shell;
use crate::commands::{CommandArgs, install};
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome, shown};
use crate::hooks;
use crate::project;
use crate::runtime::Runtime;
use crate::switching;
use crate::ui::Ui;

/// Use another version in this shell, now
///
/// The choice holds for this shell and what it starts, until `vshelf switch --off`. New shells
/// get the default.
#[derive(Debug, Args)]
pub struct Switch {
    /// A version on the shelf, as in 8, lts or a label; - is the one before, system the system's own
    /// copy, nothing what the project here wants
    #[arg(value_name = "SELECTOR", allow_hyphen_values = true)]
    selector: Option<String>,
    /// Follow the default again (of the runtime in SELECTOR, as in marram@, if one is given)
    #[arg(long)]
    off: bool,
}

impl CommandArgs for Switch {
    const NAME: &'static str = "switch";
    const GROUP: &'static str = "Use";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        require_connection(context)?;
        if self.off {
            return off(ui, &context.runtime(self.selector.as_deref())?);
        }
        let request: Request = match &self.selector {
            Some(selector) => selector.parse()?,
            None => project::need_wish(&context.runtime(None)?)?.wish.request,
        };
        let mut runtime = context.runtime_for(&request)?;
        if offer(ui, &runtime, &request)? {
            install::bring(ui, context, &request)?;
            runtime = context.runtime_for(&request)?;
        }
        let activity = Activity::of(&runtime);
        let choice = runtime.resolve(&request, Scope::Shelf)?;
        let key = choice.key().unwrap_or_default();
        if key == "system" {
            activity.need_system_copy(&runtime)?;
        }
        let before = activity.active_key();
        let named = called(&runtime, key, &activity);
        let already = before == Some(key) && activity.rule() == Some(Rule::Switch);
        if already {
            ui.result(format!("This shell uses {named} already."))?;
        } else {
            switching::plan_switch(&runtime, key, before);
            let was = match before {
                Some(before) if before != key => {
                    format!(", and no longer {}", called(&runtime, before, &activity))
                }
                _ => String::new(),
            };
            ui.result(format!("This shell uses {named} now{was}."))?;
        }
        if let Choice::Version(chosen) = &choice
            && let Some(newer) = newer_published(&runtime, &request, chosen)
        {
            let prefix = context.prefix(runtime.name())?;
            ui.next(
                &format!("{newer} is published for {}; to get it", request.selector),
                &format!("vshelf install {prefix}{newer} --switch"),
            );
        }
        match runtime.state.default.as_deref() {
            Some(default) if !already && runtime.default_key().as_deref() != Some(key) => {
                ui.note(format!("New shells still get the default, {default}."));
            }
            _ => {}
        }
        Ok(())
    }
}

/// What is published for a moving selector and newer than what was chosen from the shelf.
fn newer_published(
    runtime: &Runtime<'_>,
    request: &Request,
    chosen: &Candidate<'_>,
) -> Option<Version> {
    let newest = match &request.selector {
        selector if !selector.is_moving() => None,
        // These stay within a line, and so among the lines on the shelf.
        Selector::Version(_) | Selector::Lts | Selector::Name(_) => {
            runtime.published_around_shelf(request)
        }
        _ => match runtime.resolve(request, Scope::Published) {
            Ok(Choice::Version(newest)) => Some(newest.version.clone()),
            _ => None,
        },
    };
    newest.filter(|newest| newest > chosen.version)
}

/// Offers to install what is published and not on the shelf, where there is somebody to ask.
fn offer(ui: &Ui, runtime: &Runtime<'_>, request: &Request) -> Result<bool, Failure> {
    if !ui.can_ask() {
        return Ok(false);
    }
    let missing = runtime.explain(request, Scope::Shelf).outcome;
    let Err(ResolveError::NotOnShelf {
        published: Some((_, version)),
        ..
    }) = missing
    else {
        return Ok(false);
    };
    let title = &runtime.definition.title;
    ui.ask(&format!(
        "{title} {version} is published, but not on the shelf. Install it now?"
    ))
}

fn off(ui: &Ui, runtime: &Runtime<'_>) -> Outcome {
    let title = &runtime.definition.title;
    let activity = Activity::of(runtime);
    let Some(switched) = runtime.context().shell.switched(runtime.name()) else {
        return ui.result(format!(
            "This shell is not switched; it follows the default of {title} already."
        ));
    };
    if let Some(key) = switching::plan_following(runtime, Some(switched)) {
        return ui.result(format!(
            "This shell follows the project here again: {}.",
            called(runtime, &key, &activity)
        ));
    }
    match runtime.default_key() {
        Some(key) => ui.result(format!(
            "This shell follows the default of {title} again: {}.",
            called(runtime, &key, &activity)
        )),
        None => {
            ui.result(format!(
                "This shell is no longer switched, and {title} has no default."
            ))?;
            ui.next("To set one", "vshelf default SELECTOR");
            Ok(())
        }
    }
}

/// What an install or the system's copy is called in sentences.
fn called(runtime: &Runtime<'_>, key: &str, activity: &Activity) -> String {
    let title = &runtime.definition.title;
    match (key, activity.system_copy()) {
        ("system", Some(program)) => format!("the system's own {title} ({})", shown(program)),
        ("system", None) => format!("the system's own {title}"),
        _ => {
            let install = runtime.install(key);
            let name = install.map_or(key.to_owned(), |i| runtime.spelled(&i.shelved));
            format!("{title} {name}")
        }
    }
}

/// Fails with the way to connect where this command cannot change the shell that called it.
pub fn require_connection(context: &Context) -> Outcome {
    if context.shell.can_change() {
        return Ok(());
    }
    let failure = Failure::new(
        Kind::Refused,
        "this shell is not connected to the shelf, so nothing here can change its version",
    );
    let dialect = own_shell().unwrap_or(Dialect::Bash);
    let hook = hooks::hook_path(context, dialect)?;
    Err(match hook.exists() {
        true => failure
            .say("The hook is set up; this shell was opened before that, or does not read its start-up file.")
            .run("To connect this shell", hooks::source_line(context, dialect)?),
        false => failure.run("To connect your shells", "vshelf setup"),
    }
    .run("To run one command without a connection", "vshelf run SELECTOR -- COMMAND"))
}
