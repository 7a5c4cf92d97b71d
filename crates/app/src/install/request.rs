//! Requests to install: typed by a person, or derived from what the project here requires.

use std::path::Path;

use vshelf_core::Request;
use vshelf_core::lock_file::{LOCK_FILE, LockedRelease};

use super::conclude::Takeover;
use super::job::JobOptions;
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::{Event, Listener};
use crate::locking;
use crate::project;
use crate::runtime::{Runtime, opening};

/// A request to install releases.
#[derive(Clone, Debug, Default)]
pub struct InstallRequest {
    /// The releases to install.
    pub requests: Vec<Request>,
    /// Whether an install that meets a request is enough: a requirement asks for no newer release.
    pub is_requirement: bool,
    /// The releases that a lock has for requests of exactly them.
    pub locked: Vec<LockedRelease>,
    /// The default and shell that the install takes over; only with one request.
    pub takeover: Takeover,
    /// The install whose packages come along; only with one request.
    pub carry_from: Option<Request>,
    /// Flags that change how each install runs.
    pub options: JobOptions,
}

impl InstallRequest {
    /// Adds what a file requires of a runtime; what a lock has, as it is locked.
    pub(super) fn add_required(
        &mut self,
        runtime: &Runtime<'_>,
        file: &Path,
        request: Request,
    ) -> Done {
        if file.ends_with(LOCK_FILE) {
            self.locked.extend(project::locked_in(runtime, file)?);
        }
        self.requests.push(Request {
            runtime: Some(runtime.name().to_owned()),
            ..request
        });
        Ok(())
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
        if let Some(found) = project::find_requirement(&runtime)? {
            if locked_only && !found.file.ends_with(LOCK_FILE) {
                return Err(locking::not_locked(&runtime, &found));
            }
            let request = found.requirement.request;
            listener.tell(Event::RequirementFound {
                file: &found.file,
                title: &runtime.definition.title,
                request: &request,
            });
            project::note(&runtime, &found.file, Some(&request), listener);
            required.add_required(&runtime, &found.file, request)?;
        }
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
        return Err(project::no_requirement(&meant));
    }
    Ok(required)
}
