//! What is wrong with a lock, and the way out.

use vshelf_app::Error;
use vshelf_app::error::LockDifference;
use vshelf_core::lock_file::LockProblem;
use vshelf_core::requirement::Problem;

use vshelf_view::words::listed;

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
        Error::DistrustedFile { file, .. } => {
            let folder = file.parent().unwrap_or(file).display();
            failure.say(format!(
                "If you trust it, have the files of its folder count in shelf.toml: trusted-folders = [\"{folder}\"]"
            ))
        }
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
        Error::OtherPatches { runtime, .. } => failure.run("To lock it again", renew(runtime)),
        Error::LockedOtherwise {
            locked,
            stated,
            runtime,
            ..
        } => failure
            .say(format!("Locked: {}.", locked.join(", ")))
            .say(if stated.is_empty() {
                "Its sources state no digest for it.".to_owned()
            } else {
                format!("Stated by its sources: {}.", stated.join(", "))
            })
            .say("Nothing was installed: either the lock was changed, or the publisher replaced the archive.")
            .run("To lock what the sources state now", renew(runtime)),
        Error::LockedUnstated {
            sources, runtime, ..
        } => failure
            .say(format!("Its sources are {}.", listed(sources, "and")))
            .say("A mirror of them that has the release can take their place (addresses in shelf.toml).")
            .run("To lock a release that is published", renew(runtime)),
        Error::LockedDiffers {
            selector,
            difference,
            ..
        } => match difference {
            LockDifference::Adopted => failure.run(
                "To make room for what is locked",
                format!("vshelf remove {selector}"),
            ),
            _ => failure.run(
                "To fetch it again",
                format!("vshelf install {selector} --again"),
            ),
        },
        Error::UndeclaredCompanion { runtime, .. } => failure
            .say("A lock names versions of packages, and a definition says which packages there are.")
            .run("To lock it again", renew(runtime)),
        Error::UndeclaredPackage {
            runtime, package, ..
        } => failure
            .say("A lock names versions of packages, and settings say which packages there are.")
            .say(format!(
                "To have every install get it, in shelf.toml: [packages.always] {runtime} = [\"{package}\"]"
            ))
            .run("To lock it without the package", renew(runtime)),
        _ => failure,
    }
}
