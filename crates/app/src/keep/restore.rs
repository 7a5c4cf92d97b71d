//! Restoring what was removed: out of the trash, or else the same build, from the source that it came from.

use std::path::PathBuf;
use std::sync::Arc;

use vshelf_core::admission::Narrowing;
use vshelf_core::packages::Package;
use vshelf_core::{Key, Request, Selector};
use vshelf_shelf::journal::HistoryEntry;
use vshelf_shelf::recovery;

use super::{history, packages, trash};
use crate::admission;
use crate::conclude::{Changed, conclude};
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::{Event, Listener};
use crate::install::execute::execute;
use crate::install::job::{InstallJob, JobOptions};
use crate::outcome::Restored;
use crate::runtime::Runtime;
use crate::runtime::published::Extent;

/// Restores what the requests name, or else everything that the last command which removed anything
/// removed. All failures are told but the last, which is given back.
pub fn restore(environment: &Environment, requests: &[Request], listener: &dyn Listener) -> Done {
    environment.need_settings()?;
    recovery::recover(&environment.layout()?);
    let mut gone = history::read(environment)?.entries;
    gone.retain(HistoryEntry::removed);
    let wanted = match requests {
        [] => last(&gone)?,
        requests => (requests.iter())
            .map(|request| find(environment, &gone, request))
            .collect::<Result<_, _>>()?,
    };
    let mut jobs = Vec::new();
    let mut entries = Vec::new();
    let mut errors = Vec::new();
    for entry in wanted {
        let runtime = Runtime::named(environment, Some(&entry.record.runtime))?;
        if let Some(install) = runtime.snapshot.install(&entry.key) {
            listener.tell(Event::NotGone {
                title: &runtime.names().title_of(&install.id.key),
            });
            continue;
        }
        let admitted = match admission::admit_former(&runtime, &entry.record) {
            Ok(admitted) => admitted,
            Err(error) => {
                errors.push(error);
                continue;
            }
        };
        if trash::take_back(&runtime, &admitted, entry)? {
            listener.tell(Event::Restored(&Restored {
                title: runtime.names().title_of(&entry.key),
                from_trash: true,
                became_default: runtime.reopened()?.snapshot.is_default(&entry.key),
                packages: Vec::new(),
                attempt: None,
            }));
            continue;
        }
        match plan(runtime, entry) {
            Ok(job) => {
                jobs.push(job);
                entries.push(entry);
            }
            Err(error) => errors.push(error),
        }
    }
    let results = execute(environment, &jobs, listener);
    for ((job, entry), result) in jobs.iter().zip(entries).zip(results) {
        match result {
            Ok(_) => finish(environment, job, entry, listener)?,
            Err(error) => errors.push(error),
        }
    }
    conclude(environment, Changed::Shelf)?;
    let last = errors.pop();
    for error in &errors {
        listener.tell(Event::Failed(error));
    }
    last.map_or(Ok(()), Err)
}

/// Everything that the last command removed which removed anything.
fn last(gone: &[HistoryEntry]) -> Result<Vec<&HistoryEntry>, Error> {
    let newest = gone.last().ok_or(Error::NothingRemoved)?;
    let same = gone.iter().filter(|entry| entry.command == newest.command);
    Ok(same.collect())
}

/// The newest removal of what a request names: a version, or the beginning of one.
fn find<'e>(
    environment: &Environment,
    gone: &'e [HistoryEntry],
    request: &Request,
) -> Result<&'e HistoryEntry, Error> {
    let selector = request.to_string();
    let Selector::Version(version) = &request.selector else {
        return Err(Error::NotAVersion { selector });
    };
    let runtime = Runtime::of_request(environment, request)?;
    let is_meant = |entry: &&HistoryEntry| {
        let record = &entry.record;
        record.runtime == runtime.name()
            && record.version.begins_with(version)
            && (request.publisher.as_ref()).is_none_or(|name| *name == record.publisher)
    };
    let found = gone.iter().rev().find(is_meant);
    found.ok_or(Error::NeverRemoved { selector })
}

/// The job of installing the very build that an entry is about.
fn plan(mut runtime: Runtime<'_>, entry: &HistoryEntry) -> Result<InstallJob, Error> {
    let record = &entry.record;
    let title = runtime.names().title_of(&entry.key);
    if record.adopted.is_some() {
        return Err(Error::WasAdopted {
            title,
            from: PathBuf::from(&record.address),
        });
    }
    let no_longer = |cause: Option<Error>| Error::NoLongerOffered {
        title: title.clone(),
        runtime: record.runtime.clone(),
        source_name: record.source.clone(),
        cause: cause.map(Box::new),
    };
    let load = runtime.published.load(Extent::Releases);
    load.map_err(|error| no_longer(Some(error)))?;
    let options = JobOptions {
        keep_broken: record.broken.is_some(),
        build: record.built.is_some(),
        ..JobOptions::default()
    };
    let (source, digest) = (&record.source, record.digest.as_deref());
    let job_of = |runtime: &Runtime<'_>| -> Result<Option<InstallJob>, Error> {
        let release = runtime
            .published
            .catalog()
            .release(&record.version, &record.publisher);
        let Some(release) = release else {
            return Ok(None);
        };
        let narrowing = digest.map_or(Narrowing::Open, |digest| Narrowing::Same(digest.to_owned()));
        let mut job = InstallJob::new(runtime, release, narrowing, options)?;
        Ok(job.turn_to_source(source, digest).then_some(job))
    };
    let job = match job_of(&runtime)? {
        Some(job) => Some(job),
        // The source that it came from may be one that is not asked usually.
        None => {
            let asked = runtime.published.ask_every_source_of(&record.publisher);
            asked.map_err(|error| no_longer(Some(error)))?;
            job_of(&runtime)?
        }
    };
    job.ok_or_else(|| no_longer(None))
}

/// Makes an install the default where there is none; says whether it did.
fn set_missing_default(runtime: &Runtime<'_>, key: &Key) -> Result<bool, Error> {
    let missing = runtime.snapshot.default_selector().is_none();
    if missing {
        (runtime.shelf).set_default(key, &runtime.names().selector_of(key))?;
    }
    Ok(missing)
}

/// Tells what was restored, and what belonged to it.
fn finish(
    environment: &Environment,
    job: &InstallJob,
    entry: &HistoryEntry,
    listener: &dyn Listener,
) -> Done {
    let runtime = Runtime::open(environment, Arc::clone(&job.definition))?;
    let became_default = set_missing_default(&runtime, &job.key)?;
    let attempt = match entry.packages.is_empty() {
        true => None,
        false => packages::attempt(&runtime, &job.key, &Package::all_named(&entry.packages)),
    };
    listener.tell(Event::Restored(&Restored {
        title: job.title(),
        from_trash: false,
        became_default,
        packages: entry.packages.clone(),
        attempt,
    }));
    Ok(())
}
