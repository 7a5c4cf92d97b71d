//! Requests to install: typed by a person, or derived from what the project here requires.

use vshelf_core::Request;
use vshelf_core::lock_file::LockedRelease;
use vshelf_core::standing::Stated;

use super::conclude::Takeover;
use super::job::JobOptions;
use crate::environment::Environment;
use crate::error::Error;
use crate::events::{Event, Listener};
use crate::example_requirement::no_requirement;
use crate::locking;
use crate::project;
use crate::runtime::{Runtime, opening};

/// A request to install releases.
#[derive(Debug, Default)]
pub struct InstallRequest {
    /// The releases to install.
    pub requests: Vec<Request>,
    /// Whether an install that meets a request is enough: a requirement asks for no newer release.
    pub is_requirement: bool,
    /// The releases that a lock has for requests of exactly them.
    pub locked: Vec<LockedRelease>,
    /// The default and shell that the install takes over; only with one request.
    pub takeover: Takeover,
    /// The errors of requirements that cannot be used. They stop no other, and the install fails in the end.
    pub unusable: Vec<Error>,
    /// The install whose packages come along; only with one request.
    pub carry_from: Option<Request>,
    /// Flags that change how each install runs.
    pub options: JobOptions,
}

impl InstallRequest {
    /// Adds a request, with the release that a lock has for it.
    pub(super) fn add(&mut self, request: Request, locked: Option<LockedRelease>) {
        self.locked.extend(locked);
        self.requests.push(request);
    }
}

/// The releases that the project here requires, of every runtime that one of its files names.
pub fn required(
    environment: &Environment,
    locked_only: bool,
    listener: &dyn Listener,
) -> Result<InstallRequest, Error> {
    let mut required = InstallRequest {
        is_requirement: true,
        ..InstallRequest::default()
    };
    let (defined, broken) = opening::defined(environment)?;
    for runtime in defined {
        let (found, locked) = match project::installable(&runtime) {
            Ok(Some(installable)) => installable,
            Ok(None) => continue,
            Err(error) => {
                required.unusable.push(error);
                continue;
            }
        };
        if locked_only && locked.is_none() {
            return Err(locking::not_locked(&runtime, &found));
        }
        let Stated { place, what } = found;
        listener.tell(Event::RequirementFound {
            file: &place.file,
            title: &runtime.definition.title,
            request: &runtime.names().shown(&what),
        });
        project::note(&runtime, &place.file, Some(&what), listener);
        required.add(project::as_request(&runtime, what), locked);
    }
    if required.requests.is_empty() && !required.unusable.is_empty() {
        return Err(required.unusable.swap_remove(0));
    }
    if let (true, Some(broken)) = (required.requests.is_empty(), broken) {
        return Err(broken);
    }
    if required.requests.is_empty() {
        let meant = match opening::meant(environment) {
            Ok(meant) => vec![meant],
            Err(Error::SeveralRuntimes { names }) => {
                let known = names
                    .iter()
                    .map(|name| Runtime::named(environment, Some(name)));
                known.collect::<Result<_, _>>()?
            }
            Err(error) => return Err(error),
        };
        return Err(no_requirement(environment, &meant));
    }
    Ok(required)
}
