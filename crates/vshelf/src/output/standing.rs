//! The standing of a runtime in the project here, as JSON: a part of several reports.

use serde::Serialize;
use vshelf_app::{Error, Runtime};
use vshelf_core::standing::Standing;

use crate::wording::standing::{next, offered, trouble};

/// The requirement of a project on a runtime, and its state.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StandingReport {
    /// The selector that the project requires, whatever a lock says; null if it requires nothing, or if that is unknown.
    selector: Option<String>,
    /// The file that states it.
    file: Option<String>,
    /// The line in that file.
    line_number: Option<usize>,
    /// The state of the lock beside it: `none`, `fits`, `stale`, `other-platform`, `differs` or
    /// `ignored`.
    lock: String,
    /// The selector of the locked release, if that decides.
    locked: Option<String>,
    /// The key on the shelf that meets it, or `system`.
    met_by: Option<String>,
    /// The selector that nothing on the shelf meets.
    missing: Option<String>,
    /// The selector of which only a catalog could tell whether an install meets it, if none is kept.
    undecided: Option<String>,
    /// The release that an install would bring, as a selector: null if nothing is missing, if the kept catalog has no
    /// such release, or if no catalog is kept.
    offered: Option<String>,
    /// Why the project's files or its lock cannot be used.
    error: Option<String>,
    /// The command that helps.
    next: Option<String>,
}

impl StandingReport {
    /// The report on a runtime.
    pub fn of(runtime: &Runtime<'_>, standing: &Standing<Error>) -> StandingReport {
        let required = &standing.required;
        let stated = required.stated.as_ref();
        let locked = required.lock.deciding();
        let missing = standing.missing.as_ref();
        StandingReport {
            selector: stated.map(|stated| stated.what.to_string()),
            file: stated.map(|stated| stated.place.file.to_string_lossy().into_owned()),
            line_number: stated.map(|stated| stated.place.line),
            lock: required.lock.word().to_owned(),
            locked: locked.map(|locked| runtime.names().selector_of(&locked.what.key())),
            met_by: standing.satisfied_by.clone().map(String::from),
            missing: missing.map(|missing| runtime.names().shown(&missing.request).to_string()),
            undecided: (standing.undecided.as_ref())
                .map(|request| runtime.names().shown(request).to_string()),
            offered: missing.and_then(|missing| offered(runtime, missing)),
            error: trouble(runtime, standing).map(|failure| failure.sentence()),
            next: next(runtime, standing).map(|(_, command)| command),
        }
    }
}
