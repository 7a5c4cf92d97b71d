//! The use case: requests become jobs, jobs become installs, and the shell and default follow.

use std::sync::Arc;

use vshelf_core::packages::Package;

use super::conclude::{Installed, conclude, offer_to_connect};
use super::execute::execute_from_any;
use super::job::InstallJob;
use super::plan::plan;
use super::request::InstallRequest;
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::{Event, Listener};
use crate::keep::{carry, packages};
use crate::outcome::{CarryOutcome, InstallResult, NewInstall, PackagesLost, PlannedInstall};
use crate::runtime::Runtime;

/// Installs what is asked for. Several are fetched at the same time, and one that fails stops no
/// other: all failures are told, and the first is given back.
pub fn install(environment: &Environment, asked: InstallRequest, listener: &dyn Listener) -> Done {
    environment.need_settings()?;
    // Looked for before anything is fetched.
    let carry_from = match &asked.carry_from {
        Some(from) => Some(carry::find_install(environment, from)?.1),
        None => None,
    };
    let (mut plan, errors) = plan(environment, &asked, listener);
    let mut errors: Vec<Error> = asked.unusable.into_iter().chain(errors).collect();
    let mut had_packages = Vec::new();
    for job in &plan.jobs {
        had_packages.push(if job.options.again {
            packages_before(environment, job, listener)?
        } else {
            Vec::new()
        });
    }
    let executed = execute_from_any(environment, &mut plan.jobs, listener);
    let (mut results, mut installed) = (Vec::new(), Vec::new());
    for there in plan.there {
        results.push(result_of_there(environment, &there)?);
        installed.push(there);
    }
    let planned = plan.requests.into_iter().zip(&plan.jobs).zip(&had_packages);
    for (((request, job), packages), result) in planned.zip(executed) {
        match result {
            Ok(new) => {
                results.push(result_of(environment, job, new, listener)?);
                tell_packages_lost(environment, job, packages, listener)?;
                installed.push(Installed {
                    request,
                    definition: Arc::clone(&job.definition),
                    key: job.key.clone(),
                });
            }
            Err(error) => errors.push(error),
        }
    }
    if !results.is_empty() {
        listener.tell(Event::Installed(&results));
        if results.iter().any(|result| result.new.is_some()) {
            offer_to_connect(environment, listener)?;
        }
        conclude(environment, &installed, asked.takeover, listener)?;
        if let (Some(from), [only]) = (&carry_from, &installed[..]) {
            let runtime = Runtime::open(environment, Arc::clone(&only.definition))?;
            carry::carry(&runtime, from, &only.key, listener)?;
        }
    }
    first_of(errors, listener)
}

/// Reports what an install would bring. Sources are asked for their catalogs, and nothing on the shelf is changed.
pub fn preview(environment: &Environment, asked: InstallRequest, listener: &dyn Listener) -> Done {
    environment.need_settings()?;
    let (plan, errors) = plan(environment, &asked, listener);
    let there = plan.there.iter().map(|there| {
        let runtime = Runtime::open(environment, Arc::clone(&there.definition))?;
        Ok(PlannedInstall {
            title: runtime.names().title_of(&there.key),
            fetch: None,
        })
    });
    let jobs = plan.jobs.iter().map(|job| Ok(job.planned()));
    let planned = there.chain(jobs).collect::<Result<Vec<_>, Error>>()?;
    listener.tell(Event::InstallsPlanned(&planned));
    first_of(asked.unusable.into_iter().chain(errors), listener)
}

/// The result of a requirement that an install meets already.
fn result_of_there(environment: &Environment, there: &Installed) -> Result<InstallResult, Error> {
    let runtime = Runtime::open(environment, Arc::clone(&there.definition))?;
    let title = runtime.names().title_of(&there.key);
    let Some(install) = runtime.snapshot.install(&there.key) else {
        return Err(Error::GoneMeanwhile { title });
    };
    let version = &install.id.version;
    let newer = runtime.published.newer_than(&install.id);
    Ok(InstallResult {
        title,
        phase: runtime.published.phase_of(version),
        source: install.record.contents.source.clone(),
        always: Vec::new(),
        new: None,
        newer: newer
            .zip(runtime.published.line_of(version))
            .map(|(newer, line)| {
                let line = runtime.names().as_typed(&line.name);
                (newer.version, line)
            }),
    })
}

/// The result of a job, with the packages that every new install gets.
fn result_of(
    environment: &Environment,
    job: &InstallJob,
    new: Option<NewInstall>,
    listener: &dyn Listener,
) -> Result<InstallResult, Error> {
    let runtime = Runtime::open(environment, Arc::clone(&job.definition))?;
    Ok(InstallResult {
        title: job.title(),
        phase: runtime.published.phase_of(&job.release.version),
        source: job.offer.source.name.clone(),
        always: match new {
            Some(_) => add_always(&runtime, job, listener),
            None => Vec::new(),
        },
        new,
        newer: None,
    })
}

/// Reports the packages of an install that was made again without them.
fn tell_packages_lost(
    environment: &Environment,
    job: &InstallJob,
    packages: &[String],
    listener: &dyn Listener,
) -> Done {
    if !packages.is_empty() {
        let runtime = Runtime::open(environment, Arc::clone(&job.definition))?;
        listener.tell(Event::PackagesLost(&PackagesLost {
            title: job.title(),
            packages: packages.to_vec(),
            attempt: packages::attempt(&runtime, &job.key, &Package::all_named(packages)),
        }));
    }
    Ok(())
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
fn first_of(errors: impl IntoIterator<Item = Error>, listener: &dyn Listener) -> Done {
    let mut errors = errors.into_iter();
    let first = errors.next();
    for error in errors {
        listener.tell(Event::Failed(&error));
    }
    first.map_or(Ok(()), Err)
}
