//! Defaults, shown and set.

use crate::wording::shells::{say_way_to_connect, say_way_to_default};
use serde::Serialize;
use vshelf_app::Runtime;
use vshelf_app::defaults::{NewDefault, ShellAfterDefault};
use vshelf_core::{Key, Pick};
use vshelf_view::Palette;

use super::json::{self, Item};
use crate::failure::Outcome;
use crate::ui::{Ui, styled};

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

impl Item for Report {
    const LIST: &'static str = "defaults";
}

/// Shows the defaults of these runtimes.
pub fn show(ui: &Ui, runtimes: &[Runtime<'_>], as_json: bool) -> Outcome {
    if as_json {
        let reports: Vec<Report> = runtimes.iter().map(report).collect();
        return json::print_list(ui, &reports);
    }
    if runtimes.is_empty() {
        return ui.empty_shelf();
    }
    for runtime in runtimes {
        let title = &runtime.definition.title;
        match (
            runtime.snapshot.default_selector(),
            runtime.snapshot.default_pick(),
        ) {
            (Some(selector), Some(pick)) if *selector == runtime.names().selector_of_pick(pick) => {
                ui.sentence(format!("{title}: {selector} is the default."))?;
            }
            (Some(selector), Some(pick)) => {
                ui.sentence(format!(
                    "{title}: {} is the default, set as {selector}.",
                    runtime.names().selector_of_pick(pick)
                ))?;
            }
            (Some(selector), None) => {
                ui.sentence(format!(
                    "{title}: the default is {selector}, and its install is gone."
                ))?;
                say_way_to_default(ui, runtime);
            }
            (None, _) => {
                ui.sentence(format!("{title}: no default is set."))?;
                say_way_to_default(ui, runtime);
            }
        }
    }
    Ok(())
}

fn report(runtime: &Runtime<'_>) -> Report {
    let key = runtime.snapshot.default_pick().and_then(Pick::key);
    Report {
        runtime: runtime.name().to_owned(),
        selector: runtime.snapshot.default_selector().map(str::to_owned),
        key: key.map(Key::selector),
        path: key.map(|_| runtime.shelf.default_link().to_string_lossy().into_owned()),
    }
}

/// Says what the default is now, and what the calling shell does.
pub fn say_set(ui: &Ui, set: &NewDefault) -> Outcome {
    let (named, as_typed) = match &set.pick {
        Pick::System => ("The system's own copy", String::new()),
        Pick::Install(_) if set.selector == set.shown => (set.shown.as_str(), String::new()),
        Pick::Install(_) => (set.shown.as_str(), format!(", set as {}", set.selector)),
    };
    ui.done(format!(
        "{} is the default of {} now{as_typed}.",
        styled(Palette::STRONG, named),
        set.title
    ))?;
    match &set.shell {
        ShellAfterDefault::StaysSwitched(switched) => {
            ui.note(format!(
                "Shells that follow the default have it at once. This one stays on {switched}, which it was switched to."
            ));
            ui.next("To follow the default here", "vshelf switch --follow");
        }
        ShellAfterDefault::StaysAsRequired(required) => ui.note(format!(
            "Shells that follow the default have it at once. This one stays on {required}, as the project here requires."
        )),
        ShellAfterDefault::Follows => {
            ui.note("This shell and all others that follow the default have it at once.");
        }
        ShellAfterDefault::NotConnected(way) => {
            ui.note("Connected shells that follow the default have it at once.");
            say_way_to_connect(ui, way);
        }
    }
    Ok(())
}
