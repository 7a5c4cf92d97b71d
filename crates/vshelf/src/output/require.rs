//! What projects require, shown and written.

use serde::Serialize;
use vshelf_app::error::ExampleRequirement;
use vshelf_app::mistakes::Mistake;
use vshelf_app::require::{NewRequirement, Required, ShellAfterRequire};
use vshelf_app::version_files::UnreadFile;

use super::json::Item;
use super::standing::StandingReport;
use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::advice::selector_word;
use crate::wording::paths::shown;
use crate::wording::shells::say_way_to_connect;
use crate::wording::standing::{next, say_trouble};

/// What a project requires, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime.
    runtime: String,
    #[serde(flatten)]
    standing: StandingReport,
}

impl Item for Report {
    const LIST: &'static str = "requirements";
}

/// What the project here requires of each runtime, for JSON.
pub fn reports(required: &[Required<'_>]) -> Vec<Report> {
    let report = |required: &Required<'_>| Report {
        runtime: required.runtime.name().to_owned(),
        standing: StandingReport::of(&required.runtime, &required.standing),
    };
    required.iter().map(report).collect()
}

/// Says what the project here requires of each runtime. If it requires none, `examples` are what could be required.
pub fn show(ui: &Ui, required: &[Required<'_>], examples: &[ExampleRequirement]) -> Outcome {
    let concerns = |one: &&Required<'_>| one.standing.required.concerns();
    if !required.iter().any(|one| concerns(&one)) {
        ui.sentence("No project here requires a version.")?;
        for example in examples {
            let command = format!("vshelf require {}", example.selector);
            ui.next(&example.purpose(), &command);
        }
        return Ok(());
    }
    for Required { runtime, standing } in required.iter().filter(concerns) {
        let title = &runtime.definition.title;
        let Some(stated) = &standing.required.stated else {
            say_trouble(ui, runtime, standing);
            continue;
        };
        let place = format!("{}, line {}", shown(&stated.place.file), stated.place.line);
        let locked = standing.required.lock.deciding();
        let locked = locked.map(|locked| {
            let selector = runtime.names().selector_of(&locked.what.key());
            format!(", locked to {selector}")
        });
        let answer = match &standing.satisfied_by {
            Some(pick) => {
                let selector = runtime.names().selector_of_pick(pick);
                format!("; {selector} on the shelf meets it")
            }
            None if standing.missing.is_some() => "; nothing on the shelf meets it".to_owned(),
            None if standing.undecided.is_some() => {
                "; whether an install meets it is unknown without a catalog".to_owned()
            }
            None => String::new(),
        };
        ui.sentence(format!(
            "The project here requires {title} {} ({place}){}{answer}.",
            stated.what,
            locked.unwrap_or_default()
        ))?;
        if !say_trouble(ui, runtime, standing)
            && let Some((purpose, command)) = next(runtime, standing)
        {
            ui.next(&purpose, &command);
        }
    }
    Ok(())
}

/// The most runtimes for which a command is proposed.
const MOST_PROPOSED: usize = 3;

/// Says which version files here are not read, with the commands that have them read.
pub fn say_unread(ui: &Ui, unread: &[UnreadFile]) {
    for UnreadFile {
        file,
        selector,
        runtimes,
    } in unread
    {
        ui.note(format!("{} says {selector}, and is not read.", shown(file)));
        let name = file.file_name().unwrap_or_default().to_string_lossy();
        for runtime in runtimes.iter().take(MOST_PROPOSED) {
            ui.next(
                &format!("If it is for {runtime}"),
                &format!("vshelf require --read {name} {runtime}"),
            );
        }
    }
}

/// Shows the version files that are read in all projects.
pub fn show_read(ui: &Ui, files: &[(String, String)]) -> Outcome {
    if files.is_empty() {
        return ui.sentence("No version files of other programs are read.");
    }
    for (file, runtime) in files {
        ui.result(format!("{file}  {runtime}"))?;
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
        Mistake::FurtherLine { file, line } => format!(
            "{}, line {line}, does not count: the first line with a selector does",
            shown(file)
        ),
        Mistake::Distrusted { file, distrust } => {
            format!("{} does not count: {distrust}", shown(file))
        }
    }
}

/// Says what was written, and what the calling shell does about it.
pub fn say_written(ui: &Ui, written: &NewRequirement) -> Outcome {
    ui.done(format!(
        "{} now requires {}.",
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
