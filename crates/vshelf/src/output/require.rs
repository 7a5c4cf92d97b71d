//! What projects require, shown and written.

use serde::Serialize;
use vshelf_app::require::{NewRequirement, Required, ShellAfterRequire};
use vshelf_core::Pick;

use super::json::Item;
use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::paths::shown;

/// What a project requires, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime.
    runtime: String,
    /// The selector; null where the project requires nothing.
    selector: Option<String>,
    /// The file that says it.
    file: Option<String>,
    /// The line in that file.
    line_number: Option<usize>,
    /// The key on the shelf that meets it.
    met_by: Option<String>,
}

impl Item for Report {
    const LIST: &'static str = "requirements";
}

/// What the project here requires of each runtime, for JSON.
pub fn reports(required: &[Required<'_>]) -> Vec<Report> {
    let report = |required: &Required<'_>| {
        let found = required.found.as_ref();
        Report {
            runtime: required.runtime.name().to_owned(),
            selector: found.map(|found| found.requirement.request.to_string()),
            file: found.map(|found| found.file.to_string_lossy().into_owned()),
            line_number: found.map(|found| found.requirement.line),
            met_by: required.met_by.as_ref().map(Pick::to_string),
        }
    };
    required.iter().map(report).collect()
}

/// Says what the project here requires of each runtime.
pub fn show(ui: &Ui, required: &[Required<'_>]) -> Outcome {
    if required.is_empty() {
        return ui.sentence("No project here requires a version.");
    }
    for required in required {
        let title = &required.runtime.definition.title;
        let Some(found) = &required.found else {
            ui.sentence(format!("No project here requires a version of {title}."))?;
            ui.next("To write one", "vshelf require SELECTOR");
            continue;
        };
        let wanted = &found.requirement.request;
        let place = format!("{}, line {}", shown(&found.file), found.requirement.line);
        match &required.met_by {
            Some(pick) => ui.sentence(format!(
                "The project here requires {title} {wanted} ({place}); {pick} on the shelf meets it."
            ))?,
            None => {
                ui.sentence(format!(
                    "The project here requires {title} {wanted} ({place}); nothing on the shelf meets it."
                ))?;
                ui.next("To put it there", "vshelf install");
            }
        }
    }
    Ok(())
}

/// Says what was written, and what the calling shell does about it.
pub fn say_written(ui: &Ui, written: &NewRequirement) -> Outcome {
    ui.done(format!(
        "{} says {} now.",
        shown(&written.file),
        written.text
    ))?;
    match written.shell {
        ShellAfterRequire::NotOnShelf => ui.next(
            "Nothing on the shelf meets it; to install it",
            "vshelf install",
        ),
        ShellAfterRequire::Switched => ui.next(
            "This shell was switched; to follow the project here",
            "vshelf switch --follow",
        ),
        ShellAfterRequire::Follows => {}
        ShellAfterRequire::DoesNotFollow => ui.next("To use it in this shell", "vshelf switch"),
    }
    Ok(())
}
