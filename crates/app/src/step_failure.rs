//! Advice against failing builds from source.

use std::path::Path;

use vshelf_core::definition::build::KnownCause;
use vshelf_core::definition::needs::Missing;
use vshelf_core::diagnosis::{Action, Class, Diagnosis};
use vshelf_core::words::printable;
use vshelf_files::shown::shown;

use crate::error::StepFailure;

/// The missing requirements of a build, and the command that installs them.
pub(crate) fn build_needs(missing: &[Missing], command: Option<&str>) -> Diagnosis {
    let install = command.map(|command| Action::Line(command.to_owned()));
    (Class::Refused.alone())
        .notes(missing.iter().map(Missing::sentence))
        .step_if("To install what is missing", install)
}

/// The lines of its log that say why a step failed.
pub(crate) fn step(failed: &StepFailure) -> Diagnosis {
    let said = &failed.said;
    let lines = if said.around.is_empty() {
        &said.last
    } else {
        &said.around
    };
    let cause = said.cause.as_ref().map(|cause| match cause {
        KnownCause::MissingHeader(header) => {
            format!("The header {header} is missing: install the library that brings it.")
        }
        KnownCause::MissingProgram(program) => {
            format!("The program {program} is missing: install it.")
        }
        KnownCause::OutOfMemory => "There was not enough memory.".to_owned(),
        KnownCause::NoSpace => "There was no space left on the disk.".to_owned(),
    });
    let diagnosis = (Class::Verification.alone()).notes(quoted_lines(lines));
    with_log(diagnosis.notes(cause), &failed.log)
}

/// The last lines of a log.
pub(crate) fn last_lines(lines: &[String], log: &Path) -> Diagnosis {
    with_log(Class::Verification.alone().notes(quoted_lines(lines)), log)
}

/// Lines that a program wrote.
pub(crate) fn quoted_lines(lines: &[String]) -> impl Iterator<Item = String> {
    lines.iter().map(|line| format!("| {}", printable(line)))
}

fn with_log(diagnosis: Diagnosis, log: &Path) -> Diagnosis {
    diagnosis
        .note(format!(
            "The log is {}. Nothing was put on the shelf; the same command goes on from here.",
            shown(log)
        ))
        .step("To read the log", Action::Read(log.to_owned()))
}
