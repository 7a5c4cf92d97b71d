//! What projects require, shown and written.

use serde::Serialize;
use vshelf_app::mistakes::Mistake;
use vshelf_app::require::{NewRequirement, Required, ShellAfterRequire};

use super::json::Item;
use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::advice::selector_word;
use crate::wording::paths::shown;
use crate::wording::shells::say_way_to_connect;

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
            met_by: required.met_by.clone().map(String::from),
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
            ui.next(
                "To require its stable release, for one",
                "vshelf require stable",
            );
            continue;
        };
        let wanted = &found.requirement.request;
        let place = format!("{}, line {}", shown(&found.file), found.requirement.line);
        match &required.met_by {
            Some(pick) => ui.sentence(format!(
                "The project here requires {title} {wanted} ({place}); {} on the shelf meets it.",
                required.runtime.names().selector_of_pick(pick)
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

/// Says what in the project's files does not count.
pub fn say_mistakes(ui: &Ui, mistakes: &[Mistake]) {
    for mistake in mistakes {
        let text = in_words(mistake);
        let end = if text.ends_with('?') { "" } else { "." };
        ui.warn(format!("{text}{end}"));
    }
}

/// A mistake in a project's files, as a sentence without its period.
pub fn in_words(mistake: &Mistake) -> String {
    match mistake {
        Mistake::UnknownKey {
            file,
            line,
            key,
            near,
        } => {
            let near = near.as_ref().map(|near| format!("; did you mean {near}?"));
            let near = near.unwrap_or_default();
            format!(
                "{}, line {line}: {key:?} is unknown and does not count{near}",
                shown(file)
            )
        }
        Mistake::Disagreement {
            title,
            counts,
            other,
        } => {
            let (file, required) = (shown(&counts.0), &counts.1);
            let (other, not_required) = (shown(&other.0), &other.1);
            format!(
                "{file} requires {title} {required}, and takes precedence over {other}, which requires {not_required}"
            )
        }
        Mistake::Distrusted { file, distrust } => {
            format!("{} does not count: {distrust}", shown(file))
        }
    }
}

/// Says what was written, and what the calling shell does about it.
pub fn say_written(ui: &Ui, written: &NewRequirement) -> Outcome {
    ui.done(format!(
        "{} says {} now.",
        shown(&written.file),
        written.text
    ))?;
    if let Some(stale) = &written.stale_lock {
        ui.warn(format!(
            "{} still has {}, which does not meet that.",
            shown(&stale.file),
            stale.selector
        ));
        ui.next("To bring it up to date", "vshelf lock");
        return Ok(());
    }
    if written.is_home {
        ui.warn(
            "This is your home folder: every folder below that has no file of its own follows it.",
        );
        if written.shell != ShellAfterRequire::NotOnShelf {
            let selector = selector_word(&written.text);
            ui.next(
                "To choose a version for new shells instead",
                &format!("vshelf default {selector}"),
            );
        }
    }
    match &written.shell {
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
        ShellAfterRequire::NotConnected(way) => say_way_to_connect(ui, way),
    }
    Ok(())
}
