//! `vshelf pin`: the project's wish.

use std::path::Path;

use clap::Args;
use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::activation::Rule;
use vshelf_core::pin as pins;
use vshelf_core::resolve::{Choice, Scope};
use vshelf_core::selector::Selector;
use vshelf_shelf::atomic;
use vshelf_shell::hook::Following;

use crate::activity::Activity;
use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::file_failure;
use crate::failure::{Failure, Kind, Outcome, shown};
use crate::following;
use crate::project;
use crate::runtime::Runtime;
use crate::ui::Ui;

/// Show or write the project's wish
///
/// A project says what it wants in a file in its folder, read from this folder upward, nearest
/// first: vivid-shelf.toml, or the files that the runtime's definition names. `vshelf install` and
/// `vshelf switch` without a selector take that wish.
#[derive(Debug, Args)]
pub struct Pin {
    /// What the project wants, as in lts, 8 or ">=6 <8"
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Write the release that it stands for now
    #[arg(long, requires = "selector")]
    exact: bool,
    /// Show it as JSON
    #[arg(long, conflicts_with = "selector")]
    json: bool,
}

/// A project's wish, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime.
    runtime: String,
    /// The selector; null where the project has no wish.
    wanted: Option<String>,
    /// The file that says it.
    file: Option<String>,
    /// The line in that file.
    line: Option<usize>,
    /// The key on the shelf that meets it.
    met_by: Option<String>,
}

impl CommandArgs for Pin {
    const NAME: &'static str = "pin";
    const GROUP: &'static str = "Use";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        match &self.selector {
            Some(selector) => write(ui, context, selector, self.exact),
            None => show(ui, context, self.json),
        }
    }
}

fn show(ui: &Ui, context: &Context, json: bool) -> Outcome {
    let runtimes = context.shown_runtimes(None)?;
    let mut found = Vec::new();
    for runtime in &runtimes {
        let wish = project::find_wish(runtime)?;
        let met_by = wish
            .as_ref()
            .and_then(|found| runtime.key_meeting(&found.wish.request));
        found.push((runtime, wish, met_by));
    }
    if json {
        let reports: Vec<Report> = found
            .into_iter()
            .map(|(runtime, wish, met_by)| Report {
                runtime: runtime.name().to_owned(),
                wanted: wish.as_ref().map(|found| found.wish.request.to_string()),
                file: wish
                    .as_ref()
                    .map(|found| found.file.to_string_lossy().into_owned()),
                line: wish.as_ref().map(|found| found.wish.line),
                met_by,
            })
            .collect();
        return super::print_json(ui, &reports);
    }
    for (runtime, wish, met_by) in &found {
        let title = &runtime.definition.title;
        let Some(found) = wish else {
            ui.result(format!("No project here wants a version of {title}."))?;
            ui.next("To write one's wish", "vshelf pin SELECTOR");
            continue;
        };
        let wanted = &found.wish.request;
        let place = format!("{}, line {}", shown(&found.file), found.wish.line);
        match met_by {
            Some(key) => ui.result(format!(
                "The project here wants {title} {wanted} ({place}); {key} on the shelf meets it."
            ))?,
            None => {
                ui.result(format!("The project here wants {title} {wanted} ({place}); nothing on the shelf meets it."))?;
                ui.next("To put it there", "vshelf install");
            }
        }
    }
    Ok(())
}

/// What a label stands for in its stead: others who work on the project do not have it.
fn without_label(runtime: &Runtime<'_>, typed: Request) -> Result<Request, Failure> {
    let Selector::Name(name) = &typed.selector else {
        return Ok(typed);
    };
    let labels = &runtime.state.labels;
    match labels
        .iter()
        .find(|(label, _)| label.eq_ignore_ascii_case(name))
    {
        Some((_, selector)) => Ok(selector.parse()?),
        None => Ok(typed),
    }
}

fn write(ui: &Ui, context: &Context, selector: &str, exact: bool) -> Outcome {
    let typed: Request = selector.parse()?;
    let mut runtime = context.runtime_for(&typed)?;
    let request = without_label(&runtime, typed)?;
    let files = pins::files(runtime.name(), &runtime.definition.pins);
    let Some(file) = project::plain_file(&files) else {
        return Err(Failure::new(
            Kind::Refused,
            format!(
                "the definition of {} names no plain file for pins",
                runtime.definition.title
            ),
        )
        .say(format!(
            "Write it into {}: [runtimes] {} = \"{selector}\"",
            pins::OWN_FILE,
            runtime.name()
        )));
    };
    if matches!(request.selector, Selector::Previous | Selector::Default) {
        return Err(Failure::new(
            Kind::Refused,
            format!("{selector} depends on who asks, and cannot be a project's wish"),
        )
        .say("Pin a version, a range, a word such as lts, or a code name."));
    }
    // What is on the shelf is enough to check a wish by; else the catalog is asked.
    let on_shelf = runtime.explain(&request, Scope::Shelf).outcome.is_ok();
    if !on_shelf {
        runtime.load_catalog(false)?;
    }
    let scope = if on_shelf && !exact {
        Scope::Shelf
    } else {
        Scope::Published
    };
    let choice = match runtime.resolve(&request, scope) {
        Err(_) if on_shelf => runtime.resolve(&request, Scope::Shelf)?,
        result => result?,
    };
    let text = match (&choice, exact) {
        (Choice::Version(chosen), true) => {
            let publisher = request
                .publisher
                .as_ref()
                .map(|p| format!("{p}/"))
                .unwrap_or_default();
            format!("{publisher}{}", chosen.version)
        }
        _ => super::default::kept_as(&request),
    };
    let here = std::env::current_dir().map_err(|e| file_failure(Path::new("."), "read", e))?;
    let path = here.join(&file.file);
    let activity = Activity::of(&runtime);
    atomic::write_file(&path, format!("{text}\n").as_bytes())
        .map_err(|e| file_failure(&path, "written", e))?;
    ui.result(format!("{} says {text} now.", shown(&path)))?;
    project::note(context, &path);
    // A shell may tell times apart by whole seconds, and must not miss what was just written.
    following::forget(context)?;
    let follows = context.settings()?.following != Following::Off;
    let connected = context.shell.dialect().is_some();
    match activity.rule() {
        _ if !on_shelf => ui.next(
            "Nothing on the shelf meets it; to install it",
            "vshelf install",
        ),
        Some(Rule::Switch) if connected => {
            ui.next(
                "This shell was switched; to follow the project here",
                "vshelf switch --off",
            );
        }
        _ if connected && follows => {}
        _ => ui.next("To use it in this shell", "vshelf switch"),
    }
    Ok(())
}
