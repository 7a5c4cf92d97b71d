//! Builds from source: what is going to happen, and why one failed.

use std::path::Path;

use vshelf_app::error::StepFailure;
use vshelf_app::events::{BuildPlan, LastBuild};
use vshelf_core::definition::build::{BuildSection, KnownCause, System};
use vshelf_core::definition::needs::{Missing, Needs};
use vshelf_view::words::{Count, lasted, listed, megabytes, printable};

use super::paths::{quoted, shown};
use crate::failure::Failure;
use crate::ui::Ui;

/// Says what a build is going to be.
pub fn say_plan(ui: &Ui, plan: &BuildPlan<'_>) {
    let begins = match plan.goes_on {
        true => "goes on being built from source",
        false => "is built from source",
    };
    let head = format!("{} {begins}", plan.title);
    for sentence in sentences(&head, plan.section, plan.needs, plan.last_time) {
        ui.note_above_bars(&sentence);
    }
}

/// What a build is going to be, in sentences: its steps, what it takes, what it is built with, and what is
/// missing. `head` is what the first one begins with.
pub fn sentences(
    head: &str,
    section: &BuildSection,
    needs: &Needs,
    last_time: Option<LastBuild>,
) -> Vec<String> {
    let steps: Vec<&str> = (section.steps_on(System::here()))
        .map(|step| step.name.as_str())
        .collect();
    let mut text = format!("{head}: {}", listed(&steps, "and"));
    match (last_time, section.minutes) {
        (Some(last), _) => text += &format!("; that took {} here last time", lasted(last.took)),
        (None, Some(minutes)) => {
            text += &format!("; that takes about {}", Count(minutes as usize, "minute"));
        }
        (None, None) => {}
    }
    let space = match (last_time.and_then(|last| last.space), section.megabytes) {
        (Some(bytes), _) => Some(megabytes(bytes)),
        (None, known) => known.map(|known| format!("{known} MB")),
    };
    if let Some(space) = space {
        text += &format!(", and {space} on disk meanwhile");
    }
    let mut sentences = vec![text + "."];
    let found = needs.found.iter().map(|found| match &found.version {
        Some(version) => format!("{} {version}", found.name),
        None => found.name.clone(),
    });
    let found: Vec<String> = found.collect();
    if !found.is_empty() {
        sentences.push(format!("It is built with {}.", listed(&found, "and")));
    }
    sentences.extend(needs.missing.iter().map(in_words));
    sentences
}

/// What is missing, and what it is for.
fn in_words(missing: &Missing) -> String {
    let package = missing
        .package
        .as_ref()
        .map(|package| format!(" (package {package})"));
    let rank = if missing.required {
        ""
    } else {
        " and optional"
    };
    format!(
        "{} is missing{rank}{}: it is for {}.",
        missing.name,
        package.unwrap_or_default(),
        missing.needed_for
    )
}

/// Adds what a build needs and does not find, and what installs it.
pub fn needs(failure: Failure, missing: &[Missing], command: Option<&str>) -> Failure {
    let failure = missing
        .iter()
        .fold(failure, |failure, missing| failure.say(in_words(missing)));
    match command {
        Some(command) => failure.run("To install what is missing", command),
        None => failure,
    }
}

/// Adds what the log of a failed step says.
pub fn step(failure: Failure, failed: &StepFailure) -> Failure {
    let said = &failed.said;
    let lines = if said.around.is_empty() {
        &said.last
    } else {
        &said.around
    };
    let failure = quote(failure, lines);
    let failure = match &said.cause {
        Some(KnownCause::MissingHeader(header)) => failure.say(format!(
            "The header {header} is missing: install the library that brings it."
        )),
        Some(KnownCause::MissingProgram(program)) => {
            failure.say(format!("The program {program} is missing: install it."))
        }
        Some(KnownCause::OutOfMemory) => failure.say("There was not enough memory."),
        Some(KnownCause::NoSpace) => failure.say("There was no space left on the disk."),
        None => failure,
    };
    log(failure, &failed.log)
}

/// Adds the last lines of a log.
pub fn last_lines(failure: Failure, lines: &[String], file: &Path) -> Failure {
    log(quote(failure, lines), file)
}

/// Adds lines of what a program wrote.
pub fn quote(failure: Failure, lines: &[String]) -> Failure {
    lines.iter().fold(failure, |failure, line| {
        failure.say(format!("| {}", printable(line)))
    })
}

fn log(failure: Failure, file: &Path) -> Failure {
    failure
        .say(format!(
            "The log is {}. Nothing was put on the shelf; the same command goes on from here.",
            shown(file)
        ))
        .run("To read the log", format!("less {}", quoted(file)))
}
