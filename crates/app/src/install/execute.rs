//! Carrying out jobs, several at a time: download, digest and unpacking at once, then what belongs to
//! them, then the first start. What a source does not give after all, the next one is asked for.

use std::collections::{BTreeMap, VecDeque};
use std::fs;
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Instant;

use vshelf_core::admission::Admitted;
use vshelf_core::catalog::Build;
use vshelf_core::definition::RecordedDefinition;
use vshelf_files::action::FileAction;
use vshelf_files::tree::remove_tree;
use vshelf_shelf::record::{CompanionRecord, RecordContents};
use vshelf_shelf::{Staged, recovery};
use vshelf_sources::Archive;

use super::companions;
use super::first_start::{self, first_start};
use super::from_source::{self, Made, Recipe};
use super::job::{InstallJob, offers};
use super::transfer::{self, TransferReport, transfer};
use crate::base::base_of;
use crate::environment::Environment;
use crate::error::{Class, Error, file_error};
use crate::events::{Event, Listener, TransferState};
use crate::ledger;
use crate::lock_difference::difference;
use crate::outcome::NewInstall;
use crate::runtime::Runtime;

/// How many installs are made at a time: two keep the cores busy, and a third uses the time that
/// they wait for the network.
const AT_A_TIME: usize = 3;

/// What a job results in: the new install, or nothing where it was there already.
pub type JobResult = Result<Option<NewInstall>, Error>;

/// Carries out the jobs as they are. One that fails stops no other.
pub fn execute(
    environment: &Environment,
    jobs: &[InstallJob],
    listener: &dyn Listener,
) -> Vec<JobResult> {
    if let Ok(layout) = environment.layout() {
        recovery::recover(&layout);
    }
    // What runs on another runtime comes behind it, which may be installed by the same command.
    let needs_base = |job: &InstallJob| job.definition.runs_on(&job.release.version).is_some();
    let (with_base, alone): (Vec<usize>, Vec<usize>) =
        (0..jobs.len()).partition(|place| needs_base(&jobs[*place]));
    if with_base.is_empty() {
        return execute_at_once(jobs, listener);
    }
    let mut results: BTreeMap<usize, JobResult> = BTreeMap::new();
    let first: Vec<InstallJob> = alone.iter().map(|place| jobs[*place].clone()).collect();
    results.extend(alone.into_iter().zip(execute_at_once(&first, listener)));
    let mut then = Vec::new();
    for place in with_base {
        let mut job = jobs[place].clone();
        match base_of(environment, &job.definition, &job.release.version) {
            Ok(base) => {
                job.base = base;
                then.push((place, job));
            }
            Err(error) => {
                results.insert(place, Err(error));
            }
        }
    }
    let (places, then): (Vec<usize>, Vec<InstallJob>) = then.into_iter().unzip();
    results.extend(places.into_iter().zip(execute_at_once(&then, listener)));
    results.into_values().collect()
}

/// Carries out the jobs. What a source does not give after all, the next source of the runtime is
/// asked for; the jobs say then which one gave it.
pub fn execute_from_any(
    environment: &Environment,
    jobs: &mut [InstallJob],
    listener: &dyn Listener,
) -> Vec<JobResult> {
    let mut results = execute(environment, jobs, listener);
    loop {
        let mut again = Vec::new();
        for (place, result) in results.iter().enumerate() {
            if let Err(error) = result
                && may_be_elsewhere(error)
                && let Some(elsewhere) = job_elsewhere(environment, &jobs[place])
            {
                listener.tell(Event::SourceFailed {
                    source: &jobs[place].offer.source.name,
                    next: &elsewhere.offer.source.name,
                    title: &elsewhere.title(),
                    error,
                });
                jobs[place] = elsewhere;
                again.push(place);
            }
        }
        if again.is_empty() {
            return results;
        }
        let left: Vec<InstallJob> = again.iter().map(|place| jobs[*place].clone()).collect();
        let renewed = execute(environment, &left, listener);
        for (place, result) in again.into_iter().zip(renewed) {
            results[place] = result;
        }
    }
}

/// Whether another source of the publisher may have what this one does not: the archive, one that starts here,
/// or one with an accepted digest.
fn may_be_elsewhere(error: &Error) -> bool {
    error.is_of_source()
        || matches!(
            error,
            Error::OlderLibc { .. } | Error::LockedOtherwise { .. }
        )
}

/// The same job from the next source that offers it, where one does. Those that were not asked yet are
/// asked last.
fn job_elsewhere(environment: &Environment, job: &InstallJob) -> Option<InstallJob> {
    let mut elsewhere = job.clone();
    if elsewhere.turn_to_next() {
        return Some(elsewhere);
    }
    let mut runtime = Runtime::open(environment, Arc::clone(&job.definition)).ok()?;
    let (version, publisher) = (&job.release.version, &job.release.publisher);
    // Whatever is wrong with a further source, the failure of the first is what is told.
    runtime.published.ask_every_source_of(publisher).ok()?;
    let release = runtime.published.catalog().release(version, publisher)?;
    elsewhere.take_over(offers(&runtime, release).ok()?);
    elsewhere.turn_to_next().then_some(elsewhere)
}

/// Carries out all jobs, some at a time, and gives back their results in their order.
fn execute_at_once(jobs: &[InstallJob], listener: &dyn Listener) -> Vec<JobResult> {
    let titles = jobs.iter().map(|job| job.title().chars().count());
    let Some(first) = jobs.first() else {
        return Vec::new();
    };
    listener.tell(Event::TransfersBegin {
        count: jobs.len(),
        longest_title: titles.max().unwrap_or(0),
        archives: &first.archives,
        builds: &first.builds_folder,
    });
    let waiting: Mutex<VecDeque<usize>> = Mutex::new((0..jobs.len()).collect());
    let next = || waiting.lock().expect("no worker panics").pop_front();
    let mut results: Vec<(usize, JobResult)> = thread::scope(|scope| {
        let work = || {
            let mut done = Vec::new();
            while let Some(index) = next() {
                done.push((index, execute_one(&jobs[index], listener)));
            }
            done
        };
        let workers: Vec<_> = (0..jobs.len().min(AT_A_TIME))
            .map(|_| scope.spawn(work))
            .collect();
        workers
            .into_iter()
            .flat_map(|worker| worker.join().expect("no worker panics"))
            .collect()
    });
    listener.tell(Event::TransfersEnd);
    results.sort_by_key(|(index, _)| *index);
    results.into_iter().map(|(_, result)| result).collect()
}

/// Installs the release, unless it is there.
fn execute_one(job: &InstallJob, listener: &dyn Listener) -> JobResult {
    if job.was_there && !job.options.again {
        return Ok(None);
    }
    let _lock = job.shelf.lock(&job.key, &mut |holder| {
        listener.tell(Event::Waiting {
            title: &job.title(),
            holder,
        });
    })?;
    if is_done(job)? {
        return Ok(None);
    }
    let builds = startable(job)?;
    let (archive, admitted) = job.locate(&builds)?;
    let build = job.build_of(&archive);
    if let Some(build) = build {
        let statement = ledger::statement(job.now, &job.release, &job.offer, build, &archive);
        ledger::note(&job.layout, &job.definition.name, &[statement], listener);
    }
    // What a build needs is looked for before anything is fetched.
    let recipe = Recipe::of(job, build)?;
    let report = TransferReport::begin(listener, job.title(), archive.size);
    let fetched = archive.clone();
    let made = make(job, &admitted, archive, recipe.as_ref(), &report);
    // An archive that is refused is refused again; one that could not be installed for another reason is
    // not fetched again.
    if made
        .as_ref()
        .err()
        .is_none_or(|error| error.class() == Class::Verification)
    {
        transfer::forget(job, &fetched);
    }
    report.tell(TransferState::Ended(made.is_ok()));
    made.map(Some)
}

/// Whether the install is there already. Under a lock, it has to be one with a locked digest.
fn is_done(job: &InstallJob) -> Result<bool, Error> {
    if job.options.again {
        return Ok(false);
    }
    let Some(install) = job.shelf.install(&job.key)? else {
        return Ok(false);
    };
    match job.grounds.lock() {
        Some(locked) => match difference(&install, locked) {
            Some(difference) => Err(Error::LockedDiffers {
                title: job.title(),
                selector: format!("{}@{}", job.definition.name, job.selector()),
                difference,
            }),
            None => Ok(true),
        },
        None => Ok(true),
    }
}

/// The builds that start with this system's C library, as far as that can be told before they are there.
fn startable(job: &InstallJob) -> Result<Vec<&Build>, Error> {
    let needed = job
        .offer
        .builds
        .iter()
        .filter_map(|build| build.oldest_libc)
        .min();
    let Some((needed, here)) = needed.zip(first_start::glibc_here()) else {
        return Ok(job.offer.builds.iter().collect());
    };
    let starts = |build: &&Build| {
        let is_glibc = build.platform.libc() == Some("gnu");
        !is_glibc || build.oldest_libc.is_none_or(|oldest| oldest <= here)
    };
    let startable: Vec<&Build> = job.offer.builds.iter().filter(starts).collect();
    match startable.is_empty() {
        true => Err(Error::OlderLibc {
            title: job.title(),
            needed,
            here,
        }),
        false => Ok(startable),
    }
}

/// Makes the install in a stage, and publishes it on the shelf when it is whole.
fn make(
    job: &InstallJob,
    admitted: &Admitted,
    archive: Archive,
    recipe: Option<&Recipe<'_>>,
    report: &TransferReport<'_>,
) -> Result<NewInstall, Error> {
    let begun = Instant::now();
    let stage = job.shelf.stage(job.key.as_str())?;
    let tree = stage.path().join("tree");
    fs::create_dir(&tree).map_err(file_error(&tree, FileAction::Write))?;
    let mut made = match recipe {
        Some(recipe) => from_source::build(job, recipe, archive, &tree, report)?,
        None => unpack(job, archive, &tree, report)?,
    };
    let companions = add_companions(job, &mut made, &tree, report.listener())?;
    report.tell(TransferState::StartingOnce);
    let broken = first_start(job, &tree)?;
    if made.built.is_none() && broken.is_none() && !job.options.keep_broken {
        from_source::check_published(job, &tree)?;
    }
    report.tell(TransferState::Saving);
    let log = made.work.as_deref().map(from_source::log_of);
    let staged = Staged {
        tree: &tree,
        contents: RecordContents {
            companions,
            broken,
            ..contents(job, &made)
        },
        manifest: &made.manifest,
        log: log.as_deref(),
    };
    let install = (job.shelf).publish(&stage, admitted, staged, job.durability)?;
    if let Some(work) = made.work {
        // A clean-up shows leftovers that cannot be deleted now.
        if remove_tree(&work).left.is_none() {
            fs::remove_file(from_source::lock_of(&work)).unwrap_or_default();
        }
    }
    Ok(NewInstall {
        install,
        fetched: made.fetched,
        took: begun.elapsed(),
        trimmed: (job.definition.trimmed_by(&job.release.publisher)).map(str::to_owned),
        base: job.base.as_ref().map(|base| base.title.clone()),
    })
}

/// Fetches and unpacks a build that is published.
fn unpack(
    job: &InstallJob,
    archive: Archive,
    tree: &Path,
    report: &TransferReport<'_>,
) -> Result<Made, Error> {
    let layout = job.offer.source.archive_layout();
    let unpacked = transfer(job, archive, &layout, tree, report)?;
    Ok(Made {
        fetched: unpacked.fetched,
        manifest: unpacked.manifest,
        archive: unpacked.archive,
        built: None,
        work: None,
    })
}

/// Adds the packages that complete the build.
fn add_companions(
    job: &InstallJob,
    made: &mut Made,
    tree: &Path,
    listener: &dyn Listener,
) -> Result<Vec<CompanionRecord>, Error> {
    let mut companions = Vec::new();
    for companion in job.companions() {
        if let Some(added) = companions::add(job, &companion, tree, listener)? {
            made.fetched += added.fetched;
            let manifest = std::mem::take(&mut made.manifest);
            made.manifest = manifest.with(&added.manifest, Path::new(""));
            companions.push(added.record);
        }
    }
    Ok(companions)
}

/// The contents of the record of an install, without companions and start failures.
fn contents(job: &InstallJob, made: &Made) -> RecordContents {
    let build = job.build_of(&made.archive);
    RecordContents {
        runtime: job.definition.name.clone(),
        version: job.release.version.clone(),
        publisher: job.release.publisher.to_string(),
        source: job.offer.source.name.clone(),
        platform: build.map_or_else(String::new, |build| build.platform.to_string()),
        spelled: build.and_then(|build| build.spelled.clone()),
        repack: build.is_some_and(|build| build.repack.is_some()),
        address: made.archive.addresses.first().to_string(),
        digest: Some(made.archive.digest.to_string()),
        archive_size: made.archive.size,
        unpacked_size: made.manifest.bytes(),
        shared_size: 0,
        files: made.manifest.files(),
        installed: job.now,
        command: job.command.clone(),
        definition: Some(RecordedDefinition::of(&job.definition)),
        companions: Vec::new(),
        built: made.built.clone(),
        adopted: None,
        broken: None,
    }
}
