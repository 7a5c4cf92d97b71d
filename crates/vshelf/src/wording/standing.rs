//! The standing of a runtime in the project here, in words: errors, and the next command.

use vshelf_app::{Error, Runtime, project};
use vshelf_core::diagnosis::Action;
use vshelf_core::standing::{Missing, Next, Offer, Standing};

use super::advice;
use crate::failure::Failure;
use crate::ui::Ui;

/// The purpose and text of the command that a person needs next to have what the project requires, if any. A broken
/// file has one if its error does.
pub fn next(runtime: &Runtime<'_>, standing: &Standing<Error>) -> Option<(String, String)> {
    let (purpose, command) = match standing.next()? {
        Next::Repair | Next::Lock => {
            let failure = trouble(runtime, standing)?;
            let (purpose, command) = failure.steps().next()?;
            return Some((purpose.to_owned(), command.to_owned()));
        }
        Next::LockPlatform => {
            let again = Action::LockAgain {
                runtime: Some(runtime.name().to_owned()),
                platform: Some(runtime.environment().platform().to_string()),
            };
            ("To lock it for this platform too", advice::command(&again))
        }
        Next::Install => {
            let missing = standing.missing.as_ref();
            let offered = missing.and_then(|missing| offered(runtime, missing));
            let name = offered.as_deref().unwrap_or("it");
            return Some((format!("To put {name} there"), "vshelf install".to_owned()));
        }
        Next::GetCatalog => {
            let look = Action::Catalog(runtime.name().to_owned());
            ("To get a catalog, which tells it", advice::command(&look))
        }
        Next::Look => {
            let look = Action::Catalog(runtime.name().to_owned());
            (
                "The catalog has no release that meets it. To see what there is",
                advice::command(&look),
            )
        }
    };
    Some((purpose.to_owned(), command))
}

/// The release that a catalog offers for what is missing, as a selector.
pub fn offered(runtime: &Runtime<'_>, missing: &Missing) -> Option<String> {
    match &missing.offer {
        Offer::Release(key) => Some(runtime.names().selector_of(key)),
        Offer::Unknown | Offer::Nothing => None,
    }
}

/// The error in a project's files, in words: a file that cannot be used, a lock that does not meet its
/// requirement, or an install that is not what is locked.
pub fn trouble(runtime: &Runtime<'_>, standing: &Standing<Error>) -> Option<Failure> {
    let required = &standing.required;
    let of_lock = project::lock_trouble(runtime, required);
    let error = required.unusable.as_ref().or(of_lock.as_ref());
    error.map(Failure::from_told)
}

/// Reports what is wrong with a project's files, with the commands that help. Returns whether something is.
pub fn say_trouble(ui: &Ui, runtime: &Runtime<'_>, standing: &Standing<Error>) -> bool {
    let Some(failure) = trouble(runtime, standing) else {
        return false;
    };
    if standing.required.unusable.is_some() {
        ui.warn(format!(
            "The requirement of the project here cannot be used: {}",
            failure.sentence()
        ));
    } else {
        ui.warn(failure.sentence());
    }
    for (why, command) in failure.steps() {
        ui.next(why, command);
    }
    true
}
