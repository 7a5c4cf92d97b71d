//! The use case: requests become jobs, jobs become installs, and the shell and default follow.

use std::path::Path;
use std::sync::Arc;

use vshelf_core::admission::Narrowing;
use vshelf_core::lock_file::{LOCK_FILE, LockedRelease};
use vshelf_core::packages::Package;
use vshelf_core::resolve::{Choice, ResolveError, Scope};
use vshelf_core::{Request, Selector};

use super::conclude::{Takeover, conclude, conclude_several};
use super::execute::execute_from_any;
use super::job::{InstallJob, JobOptions};
use super::locked_install;
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::{Answer, Event, Listener, Question};
use crate::integrate::connect::{connect, own_shell, start_up_file};
use crate::integrate::files::connected_dialects;
use crate::keep::{carry, packages};
use crate::locking;
use crate::outcome::{CarryOutcome, Connected, InstallResult, PackagesLost};
use crate::project;
use crate::runtime::{Runtime, opening};

/// What is to be installed, and how.
#[derive(Clone, Debug, Default)]
pub struct InstallRequest {
    /// What to install.
    pub requests: Vec<Request>,
    /// The releases that a lock has for requests of exactly them.
    pub locked: Vec<LockedRelease>,
    /// What the install takes over; only with one request.
    pub takeover: Takeover,
    /// The install whose packages come along; only with one request.
    pub carry_from: Option<Request>,
    /// What is done otherwise than usual.
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

/// Installs what is asked for. Several are fetched at the same time, and one that fails stops no
/// other: all failures are told, and the first is given back.
pub fn install(environment: &Environment, asked: &InstallRequest, listener: &dyn Listener) -> Done {
    environment.need_settings()?;
    // Looked for before anything is fetched.
    let carry_from = match &asked.carry_from {
        Some(from) => Some(carry::find_install(environment, from)?.1),
        None => None,
    };
    let mut jobs: Vec<InstallJob> = Vec::new();
    // Of several requests for one release there is one job.
    let mut planned: Vec<(Request, usize)> = Vec::new();
    let mut errors = Vec::new();
    for request in &asked.requests {
        match plan(environment, asked, request, listener) {
            Ok(job) => {
                let known = jobs.iter().position(|other| other.is_same(&job));
                let place = known.unwrap_or_else(|| {
                    jobs.push(job);
                    jobs.len() - 1
                });
                planned.push((request.clone(), place));
            }
            Err(error) => errors.push(error),
        }
    }
    let mut had_packages = Vec::new();
    for job in jobs.iter().filter(|job| job.options.again) {
        had_packages.push(packages_before(environment, job, listener)?);
    }
    let mut results = Vec::new();
    let executed = execute_from_any(environment, &mut jobs, listener);
    for (place, result) in executed.into_iter().enumerate() {
        match result {
            Ok(new) => {
                let job = &jobs[place];
                let runtime = Runtime::open(environment, Arc::clone(&job.definition))?;
                let is_new = new.is_some();
                results.push(InstallResult {
                    title: job.title(),
                    phase: runtime.published.phase_of(&job.release.version),
                    source: job.offer.source.name.clone(),
                    always: match is_new {
                        true => add_always(&runtime, job, listener),
                        false => Vec::new(),
                    },
                    new,
                });
            }
            Err(error) => {
                planned.retain(|(_, job)| *job != place);
                errors.push(error);
            }
        }
    }
    for (job, packages) in jobs.iter().zip(&had_packages) {
        let is_new = |(_, place): &(Request, usize)| jobs[*place].is_same(job);
        if !packages.is_empty() && planned.iter().any(is_new) {
            let runtime = Runtime::open(environment, Arc::clone(&job.definition))?;
            listener.tell(Event::PackagesLost(&PackagesLost {
                title: job.title(),
                packages: packages.clone(),
                attempt: packages::attempt(&runtime, &job.key, &Package::all_named(packages)),
            }));
        }
    }
    let is_any_new = results.iter().any(|result| result.new.is_some());
    match (&planned[..], &results[..]) {
        ([(request, place)], [result]) if asked.requests.len() == 1 => {
            let job = &jobs[*place];
            listener.tell(Event::Installed(result));
            if is_any_new && let Some(connected) = offer_to_connect(environment, listener)? {
                // How the calling shell becomes connected follows.
                listener.tell(Event::Connected(&Connected {
                    source_line: None,
                    ..connected
                }));
            }
            let runtime = Runtime::open(environment, Arc::clone(&job.definition))?;
            conclude(&runtime, request, &job.key, asked.takeover, listener)?;
            if let Some(from) = &carry_from {
                carry::carry(&runtime.reopened()?, from, &job.key, listener)?;
            }
        }
        (_, []) => {}
        _ => {
            listener.tell(Event::InstalledSeveral(&results));
            if is_any_new && let Some(connected) = offer_to_connect(environment, listener)? {
                listener.tell(Event::Connected(&connected));
            }
            let installed: Vec<(Request, &InstallJob)> = planned
                .into_iter()
                .map(|(request, place)| (request, &jobs[place]))
                .collect();
            conclude_several(environment, &installed, listener)?;
        }
    }
    first_of(errors, listener)
}

/// Offers to connect the person's shell where none is connected yet: without that nothing finds an install. Says what
/// it changed where that is wanted.
fn offer_to_connect(
    environment: &Environment,
    listener: &dyn Listener,
) -> Result<Option<Connected>, Error> {
    if !connected_dialects(environment)?.is_empty() {
        return Ok(None);
    }
    // For a shell that cannot be connected there is another way, which is told.
    let Ok(dialect) = own_shell(environment) else {
        return Ok(None);
    };
    let file = start_up_file(environment, dialect)?;
    let question = Question::ConnectShell {
        dialect,
        file: &file,
    };
    match listener.ask(&question)? {
        Answer::Yes => connect(environment, dialect).map(Some),
        Answer::No | Answer::Nobody => Ok(None),
    }
}

/// The packages, as `name@version`, in the install that a job makes again. That they cannot be listed is
/// told: what is wrong with the install may be why.
fn packages_before(
    environment: &Environment,
    job: &InstallJob,
    listener: &dyn Listener,
) -> Result<Vec<String>, Error> {
    let runtime = Runtime::open(environment, Arc::clone(&job.definition))?;
    match packages::of_install(&runtime, &job.key, listener) {
        Ok(packages) => Ok(packages.iter().map(Package::spelled).collect()),
        Err(Error::PackagesUnknown { cause, .. }) => {
            listener.tell(Event::LeftUndone(&cause));
            Ok(Vec::new())
        }
        Err(error) => Err(error),
    }
}

/// Adds the packages that every new install gets. That one is not added is told, and undoes nothing.
fn add_always(runtime: &Runtime<'_>, job: &InstallJob, listener: &dyn Listener) -> Vec<String> {
    let key = &job.key;
    let added = match packages::install_always(runtime, key, &job.always, listener) {
        Ok(added) => added,
        Err(error) => {
            listener.tell(Event::LeftUndone(&error));
            return Vec::new();
        }
    };
    let failed = packages::failed(&added);
    if let Some(attempt) = packages::attempt(runtime, key, &failed).filter(|_| !failed.is_empty()) {
        listener.tell(Event::LeftUndone(&Error::PackagesFailed {
            count: failed.len(),
            attempt,
        }));
    }
    let is_there = |(_, outcome): &&(Package, CarryOutcome)| *outcome == CarryOutcome::Installed;
    added
        .iter()
        .filter(is_there)
        .map(|(package, _)| package.spelled())
        .collect()
}

/// Tells all errors but the first, which decides how the use case ends.
fn first_of(errors: Vec<Error>, listener: &dyn Listener) -> Done {
    let mut errors = errors.into_iter();
    let first = errors.next();
    for error in errors {
        listener.tell(Event::Failed(&error));
    }
    first.map_or(Ok(()), Err)
}

/// The job that a request becomes.
fn plan(
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
    runtime.published.load(false)?;
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
        runtime.published.load(true)?;
    }
    runtime.published.tell_age(listener);
    Ok(())
}

/// What the project here requires: of every runtime that one of its files speaks for.
pub fn required(
    environment: &Environment,
    locked_only: bool,
    listener: &dyn Listener,
) -> Result<InstallRequest, Error> {
    let mut required = InstallRequest::default();
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
        let meant = match Runtime::meant(environment) {
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
