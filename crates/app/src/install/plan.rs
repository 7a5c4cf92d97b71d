//! The jobs that requests become.

use vshelf_core::admission::Narrowing;
use vshelf_core::lock_file::LockedRelease;
use vshelf_core::resolve::{Choice, ResolveError, Scope};
use vshelf_core::{Request, Selector};

use super::job::InstallJob;
use super::locked_install;
use super::request::InstallRequest;
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::Listener;
use crate::runtime::Runtime;
use crate::runtime::published::Extent;

/// Jobs, each with the request that it was planned for first.
#[derive(Debug, Default)]
pub struct Plan {
    /// The jobs, no two of them for one release.
    pub jobs: Vec<InstallJob>,
    /// The request of each job.
    pub requests: Vec<Request>,
}

/// Plans the jobs of all requests. Returns the errors of the requests that have none.
pub fn plan(
    environment: &Environment,
    asked: &InstallRequest,
    listener: &dyn Listener,
) -> (Plan, Vec<Error>) {
    let (mut plan, mut errors) = (Plan::default(), Vec::new());
    for request in &asked.requests {
        match plan_job(environment, asked, request, listener) {
            Ok(job) if plan.jobs.iter().any(|other| other.is_same(&job)) => {}
            Ok(job) => {
                plan.jobs.push(job);
                plan.requests.push(request.clone());
            }
            Err(error) => errors.push(error),
        }
    }
    (plan, errors)
}

/// The job that a request becomes.
fn plan_job(
    environment: &Environment,
    asked: &InstallRequest,
    request: &Request,
    listener: &dyn Listener,
) -> Result<InstallJob, Error> {
    let options = asked.options;
    let mut runtime = Runtime::of_request(environment, request)?;
    let is_meant = |locked: &&LockedRelease| {
        let own = locked.request(runtime.names().main_publisher());
        locked.runtime == runtime.name() && own == request.without_runtime()
    };
    if let Some(locked) = asked.locked.iter().find(is_meant) {
        return locked_install::plan(&mut runtime, locked, options, listener);
    }
    load_for(&mut runtime, request, listener)?;
    let Choice::Version(candidate) = runtime.choosing().resolve(request, Scope::Published)? else {
        return Err(Error::SystemInstall);
    };
    let release = candidate.release.ok_or_else(|| Error::NotPublished {
        selector: request.to_string(),
    })?;
    InstallJob::new(&runtime, release, Narrowing::Open, options)
}

/// Loads the catalog, and asks the source again where what is kept does not have what is asked for.
fn load_for(runtime: &mut Runtime<'_>, request: &Request, listener: &dyn Listener) -> Done {
    runtime.published.load(Extent::Releases)?;
    let missing = matches!(
        runtime
            .choosing()
            .explain(request, Scope::Published)
            .outcome,
        Err(ResolveError::NotPublished { .. } | ResolveError::UnknownName { .. })
    );
    let worth_asking = matches!(
        request.selector,
        Selector::Version(_) | Selector::Range(_) | Selector::Name(_)
    );
    if missing && worth_asking && !runtime.environment().transport.is_offline() {
        runtime.published.load(Extent::Anew)?;
    }
    runtime.published.tell_age(listener);
    Ok(())
}
