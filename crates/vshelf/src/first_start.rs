//! The first start of a program that was just unpacked: is it what was promised, and does it run
//! on this system?

use std::fs;
use std::path::Path;
use std::process::Command;

use vshelf_core::Version;
use vshelf_core::loading::{Lack, package_command, read_complaint};
use vshelf_shelf::probe::{self, ProbeError};
use vshelf_shelf::shelf::program_in;

use crate::failure::{Failure, Kind};
use crate::fetch::Order;

/// Starts the program in `tree` once and compares what it says with what was promised. Gives back
/// why it does not start, where the order says to keep it all the same.
pub fn first_start(order: &Order, tree: &Path) -> Result<Option<String>, Failure> {
    let (definition, title) = (&order.definition, order.title());
    let program = program_in(tree, definition);
    let answer = match probe::ask(&program, &definition.probe.arguments) {
        Ok(answer) => answer,
        Err(error) if order.exceptions.keep_broken => return Ok(Some(reason(&error))),
        Err(error) => {
            let failure = explain(&title, &error).say(format!("{title} was not put on the shelf."));
            let selector = format!(
                "{}@{}/{}",
                definition.name, order.release.publisher, order.release.version
            );
            return Err(failure.run(
                "To put it there all the same",
                format!("vshelf install --keep-broken {selector}"),
            ));
        }
    };
    let promised = &order.release.version;
    // A registry may spell a version in its own way: 10.0.0rc1 is 10.0.0-rc.1.
    let same = |version: &str| {
        let version = version.parse::<Version>();
        version.is_ok_and(|version| version.precedence(promised).is_eq())
    };
    match definition.version_in(&answer.output) {
        Some(version) if promised.as_str() == version || same(version) => Ok(None),
        _ => {
            let said = answer.output.lines().next().unwrap_or_default();
            let message = format!("{title} says of itself that it is {said:?}");
            Err(Failure::new(Kind::Verification, message)
                .say(format!("{title} was not put on the shelf.")))
        }
    }
}

/// Why a program does not start, in one line.
pub fn reason(error: &ProbeError) -> String {
    let complaint = error.complaint().lines().next();
    match (lack(error), complaint, error) {
        (Some(lack), _, _) => in_words(&lack),
        (None, Some(line), _) => line.trim().to_owned(),
        (None, None, ProbeError::Failed { status, .. }) => format!("it ends with {status}"),
        (None, None, ProbeError::Start { source, .. }) => source.to_string(),
        (None, None, ProbeError::Silent { .. }) => "it gives no answer".to_owned(),
    }
}

/// The command that installs the library that a program lacks, where the package is known.
fn package_for(library: &str) -> Option<String> {
    // Without that file the system is one of those that are not known.
    let system = fs::read_to_string("/etc/os-release").unwrap_or_default();
    package_command(library, &system)
}

/// What has a program start again: the package that it lacks, or else `otherwise`; nothing where
/// it can never start on this system.
pub fn mend(error: &ProbeError, otherwise: String) -> Option<String> {
    match lack(error) {
        Some(Lack::Library(library)) => package_for(&library),
        Some(Lack::LibraryVersion { .. } | Lack::Interpreter(_)) => None,
        None => Some(otherwise),
    }
}

/// A program that does not start, with what it lacks and the package that usually brings it.
pub fn explain(title: &str, error: &ProbeError) -> Failure {
    let failure = Failure::new(Kind::Verification, format!("{title} does not start"));
    let mut failure = match lack(error) {
        Some(Lack::Library(library)) => {
            let failure = because(failure, in_words(&Lack::Library(library.clone())));
            match package_for(&library) {
                Some(command) => failure.run("The package that usually brings it", command),
                None => failure.say(format!("Install the package that brings {library}.")),
            }
        }
        Some(lack @ Lack::LibraryVersion { .. }) => {
            let failure = because(failure, in_words(&lack));
            let here = match libc_here() {
                Some(here) => format!("This system has {here}: the build is for newer ones."),
                None => "The build is for newer systems than this one.".to_owned(),
            };
            failure.say(format!(
                "{here} An older release, or one from another publisher, may run here."
            ))
        }
        Some(lack @ Lack::Interpreter(_)) => because(failure, in_words(&lack))
            .say("The build is for systems with another C library."),
        None => because(failure, reason(error)),
    };
    // What the loader says of versions has details for those who know more.
    let versions = matches!(lack(error), Some(Lack::LibraryVersion { .. }));
    if let (Some(line), true) = (error.complaint().lines().next(), versions) {
        failure.causes.push(line.to_owned());
    }
    failure
}

fn because(mut failure: Failure, cause: String) -> Failure {
    failure.causes.push(cause);
    failure
}

fn lack(error: &ProbeError) -> Option<Lack> {
    match error.missing_interpreter() {
        Some(path) => Some(Lack::Interpreter(path.display().to_string())),
        None => read_complaint(error.complaint()),
    }
}

fn in_words(lack: &Lack) -> String {
    match lack {
        Lack::Library(library) => {
            format!("it needs the library {library}, which is not on this system")
        }
        Lack::LibraryVersion { library, version } => {
            format!("it needs {version}, which the {library} of this system does not have")
        }
        Lack::Interpreter(path) => format!("it is started by {path}, which is not on this system"),
    }
}

/// The C library of this system and its version, as `glibc 2.36`.
fn libc_here() -> Option<String> {
    let output = Command::new("getconf")
        .arg("GNU_LIBC_VERSION")
        .output()
        .ok()?;
    let text = String::from_utf8(output.stdout).ok()?;
    (output.status.success() && !text.trim().is_empty()).then(|| text.trim().to_owned())
}
