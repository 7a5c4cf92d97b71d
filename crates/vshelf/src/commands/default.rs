//! `vshelf default`: what new shells and desktop programs get.

use clap::Args;
use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::resolve::{Choice, Scope};
use vshelf_view::Palette;

use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::Outcome;
use crate::hooks;
use crate::runtime::Runtime;
use crate::switching;
use crate::ui::{Ui, styled};

/// Show or set what new shells get
///
/// The default is kept as you type it: `vshelf default lts` stays lts. Shells that were switched
/// stay as they are; all others follow at once.
#[derive(Debug, Args)]
pub struct Default {
    /// A version on the shelf, as in 8, lts or a label; system is the system's own copy
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Show it as JSON
    #[arg(long, conflicts_with = "selector")]
    json: bool,
}

/// One runtime's default, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// The default as it was typed.
    selector: Option<String>,
    /// The key of the install; null for none, or for a copy that is not on the shelf.
    key: Option<String>,
    /// The stable path of the default.
    path: Option<String>,
}

impl CommandArgs for Default {
    const NAME: &'static str = "default";
    const GROUP: &'static str = "Use";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        match self.selector {
            Some(selector) => set(ui, context, &selector),
            None => show(ui, context, self.json),
        }
    }
}

/// The selector by which a default is remembered: what was typed, without the runtime.
pub fn kept_as(request: &Request) -> String {
    let kept = Request {
        runtime: None,
        ..request.clone()
    };
    kept.to_string()
}

fn show(ui: &Ui, context: &Context, json: bool) -> Outcome {
    let runtimes = context.shown_runtimes(None)?;
    if json {
        let reports: Vec<Report> = runtimes.iter().map(report).collect();
        return super::print_json(ui, &reports);
    }
    for runtime in &runtimes {
        let title = &runtime.definition.title;
        match (&runtime.state.default, runtime.default_key()) {
            (Some(selector), Some(key)) if *selector == key => {
                ui.result(format!("{title}: {key} is the default."))?;
            }
            (Some(selector), Some(key)) => {
                ui.result(format!(
                    "{title}: {key} is the default, kept as {selector}."
                ))?;
            }
            (Some(selector), None) => {
                ui.result(format!(
                    "{title}: the default is {selector}, and its install is gone."
                ))?;
                ui.next("To set another", "vshelf default SELECTOR");
            }
            (None, _) => {
                ui.result(format!("{title}: no default is set."))?;
                ui.next("To set one", "vshelf default SELECTOR");
            }
        }
    }
    Ok(())
}

fn report(runtime: &Runtime<'_>) -> Report {
    Report {
        runtime: runtime.name().to_owned(),
        selector: runtime.state.default.clone(),
        key: runtime.default_key(),
        path: runtime
            .default_key()
            .map(|_| runtime.shelf.default_link().to_string_lossy().into_owned()),
    }
}

fn set(ui: &Ui, context: &Context, selector: &str) -> Outcome {
    let request: Request = selector.parse()?;
    let runtime = context.runtime_for(&request)?;
    let title = &runtime.definition.title;
    let kept = kept_as(&request);
    let named = match runtime.resolve(&request, Scope::Shelf)? {
        Choice::System => {
            runtime.shelf.clear_default()?;
            runtime
                .shelf
                .change_state(|state| state.default = Some("system".to_owned()))?;
            "The system's own copy".to_owned()
        }
        Choice::Version(candidate) => {
            let key = candidate.install.map_or("", |install| &install.key);
            runtime.shelf.set_default(key, &kept)?;
            key.to_owned()
        }
    };
    let as_typed = match kept == named || kept == "system" {
        true => String::new(),
        false => format!(", kept as {kept}"),
    };
    ui.result(format!(
        "{} is the default of {title} now{as_typed}.",
        styled(Palette::GOOD, &named)
    ))?;
    hooks::refresh_runtimes(context)?;
    let runtime = Runtime::open(context, runtime.definition.clone())?;
    match context.shell.switched(runtime.name()) {
        Some(switched) => {
            ui.note(format!(
                "Shells that follow the default have it at once. This one stays on {switched}, which it was switched to."
            ));
            ui.next("To follow the default here", "vshelf switch --off");
        }
        None if context.shell.can_change() => {
            if let Some(wanted) = switching::plan_following(&runtime, None) {
                ui.note(format!(
                    "Shells that follow the default have it at once. This one stays on {wanted}, as the project here wants."
                ));
                return Ok(());
            }
            ui.note("This shell and all others that follow the default have it at once.");
        }
        None => {
            ui.note("Connected shells that follow the default have it at once; this one is not connected.");
            ui.next("To connect your shells", "vshelf setup");
        }
    }
    Ok(())
}
