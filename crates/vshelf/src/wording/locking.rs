//! What is wrong with a lock, and the way out.

use vshelf_app::Error;
use vshelf_core::lock_file::LockProblem;
use vshelf_core::requirement::Problem;

use super::paths::shown;
use crate::failure::Failure;

/// Adds the way out of a file that does not say what is required.
pub fn unreadable(failure: Failure, problem: &Problem) -> Failure {
    match problem {
        Problem::Lock(LockProblem::Merge) => failure
            .say("Take the lines of one side and drop the marks, or lock all of it anew.")
            .run("To lock it anew", "vshelf lock --renew"),
        Problem::Lock(LockProblem::Newer(_)) => {
            failure.say("A newer vshelf wrote it; this one reads it once it is as new.")
        }
        Problem::Lock(_) => failure.run("To lock it anew", "vshelf lock --renew"),
        _ => failure.run("To write it again", "vshelf require stable"),
    }
}

/// Adds the way out of a lock that is not as it should be.
pub fn explain(failure: Failure, error: &Error) -> Failure {
    let renew = |runtime: &str| format!("vshelf lock --renew {runtime}");
    match error {
        Error::StaleLock {
            lock,
            file,
            required,
            ..
        } => failure
            .say(format!(
                "It is locked in {}, and {} requires {required}.",
                shown(lock),
                shown(file)
            ))
            .run("To lock what is required now", "vshelf lock"),
        Error::NotLocked { file, required, .. } => failure
            .say(format!("{} requires {required}.", shown(file)))
            .run("To lock it", "vshelf lock"),
        Error::NotRequired { .. } => failure.run("To see what is required here", "vshelf require"),
        Error::SystemLock { file } => failure.say(format!("{} requires it.", shown(file))),
        Error::LockedElsewhere {
            platform, runtime, ..
        } => failure.run(
            "To lock it for this platform too",
            format!("vshelf lock --renew {runtime} --platform {platform}"),
        ),
        Error::LockedSource { runtime, .. } | Error::OtherPatches { runtime, .. } => {
            failure.run("To lock it anew", renew(runtime))
        }
        _ => failure,
    }
}
