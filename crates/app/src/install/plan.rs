//! The jobs that requests become.

use std::sync::Arc;

use vshelf_core::admission::Narrowing;
use vshelf_core::lock_file::LockedRelease;
use vshelf_core::resolve::{Choice, ResolveError, Scope};
use vshelf_core::{Request, Selector};

use super::conclude::Installed;
use super::job::{InstallJob, JobOptions};
use super::locked_install;
use super::request::InstallRequest;
use crate::admission::{check, grounds};
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::Listener;
use crate::runtime::Runtime;
use crate::runtime::published::Extent;

/// Jobs, and installs that are enough.
#[derive(Debug, Default)]
pub struct Plan {
    /// The jobs, no two of them for one release.
    pub jobs: Vec<InstallJob>,
    /// The request that each job was planned for first.
    pub requests: Vec<Request>,
    /// The installs on the shelf that meet a requirement.
    pub there: Vec<Installed>,
}

/// Plans the jobs of all requests. Returns the errors of the requests that have none.
pub fn plan(
    environment: &Environment,
    asked: &InstallRequest,
    listener: &dyn Listener,
) -> (Plan, Vec<Error>) {
    let (mut plan, mut errors) = (Plan::default(), Vec::new());
    for request in &asked.requests {
        if let Err(error) = plan.add(environment, asked, request, listener) {
            errors.push(error);
        }
    }
    (plan, errors)
}

impl Plan {
    fn add(
        &mut self,
        environment: &Environment,
        asked: &InstallRequest,
        request: &Request,
        listener: &dyn Listener,
    ) -> Done {
        let mut runtime = Runtime::of_request(environment, request)?;
        let locked = locked_for(&runtime, asked, request);
        if locked.is_none()
            && let Some(there) = there(&runtime, asked, request)
        {
            self.there.push(there);
            return Ok(());
        }
        let job = match locked {
            Some(locked) => locked_install::plan(&mut runtime, locked, asked.options, listener)?,
            None => plan_job(&mut runtime, request, asked.options, listener)?,
        };
        if !self.jobs.iter().any(|other| other.is_same(&job)) {
            self.jobs.push(job);
            self.requests.push(request.clone());
        }
        Ok(())
    }
}

/// The locked release that a request asks for.
fn locked_for<'l>(
    runtime: &Runtime<'_>,
    asked: &'l InstallRequest,
    request: &Request,
) -> Option<&'l LockedRelease> {
    let is_meant = |locked: &&LockedRelease| {
        let own = locked.request();
        locked.runtime == runtime.name() && own == request.without_runtime()
    };
    asked.locked.iter().find(is_meant)
}

/// The install that meets a requirement, unless a rule forbids it, or it is to be made again or from source.
fn there(runtime: &Runtime<'_>, asked: &InstallRequest, request: &Request) -> Option<Installed> {
    if !asked.is_requirement || asked.options.again || asked.options.build {
        return None;
    }
    let pick = (runtime.choosing()).pick_meeting(&request.without_runtime())?;
    let id = &runtime.snapshot.picked(&pick)?.id;
    let grounds = grounds(runtime, &id.version, &id.publisher, Narrowing::Open);
    let is_allowed = grounds.and_then(|grounds| check(runtime, &grounds)).is_ok();
    is_allowed.then(|| Installed {
        request: request.clone(),
        definition: Arc::clone(&runtime.definition),
        key: id.key.clone(),
    })
}

/// The job that a request becomes if neither a lock nor an install meets it.
fn plan_job(
    runtime: &mut Runtime<'_>,
    request: &Request,
    options: JobOptions,
    listener: &dyn Listener,
) -> Result<InstallJob, Error> {
    load_for(runtime, request, listener)?;
    let of_source = runtime.published.catalog().publisher_of_source();
    let of_source = of_source.filter(|_| options.build).map(str::to_owned);
    let request = &Request {
        publisher: request.publisher.clone().or(of_source),
        ..request.clone()
    };
    let Choice::Version(candidate) = runtime.choosing().resolve(request, Scope::Published)? else {
        return Err(Error::SystemInstall);
    };
    let release = candidate.release.ok_or_else(|| Error::NotPublished {
        selector: request.to_string(),
    })?;
    InstallJob::new(runtime, release, Narrowing::Open, options)
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
