//! A program that does not start: why, and what helps.

use vshelf_app::error::StartFailure;
use vshelf_core::loader::MissingDependency;

use crate::failure::Failure;

/// Adds why the program does not start, with what it needs and the package that usually brings it.
pub fn explain(failure: Failure, start: &StartFailure) -> Failure {
    let failure = failure.because(start.reason());
    match &start.missing {
        Some(MissingDependency::Library(library)) => match &start.package_command {
            Some(command) => failure.run("The package that usually brings it", command),
            None => failure.say(format!("Install the package that brings {library}.")),
        },
        Some(MissingDependency::LibraryVersion { .. }) => {
            // What the loader says of versions has details for those who know more.
            let failure = match start.error.complaint().lines().next() {
                Some(line) => failure.because(line),
                None => failure,
            };
            let here = match &start.libc {
                Some(here) => format!("This system has {here}: the build is for newer ones."),
                None => "The build is for newer systems than this one.".to_owned(),
            };
            failure.say(format!(
                "{here} An older release, or one from another publisher, may run here."
            ))
        }
        Some(MissingDependency::Interpreter(_)) => {
            failure.say("The build is for systems with another C library.")
        }
        None if start.is_quarantined => failure.say(
            "macOS holds it in quarantine, because something downloaded it. If you trust it, release what it \
             came from: xattr -dr com.apple.quarantine, with that folder.",
        ),
        None => failure,
    }
}
