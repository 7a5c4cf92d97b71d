//! Moving lines to their newest release: the plan, and each line's renewal as one piece of work.

use std::path::{Path, PathBuf};

use vshelf_core::admission::Narrowing;
use vshelf_core::lock_file::LOCK_FILE;
use vshelf_core::outlook::Newer;
use vshelf_core::packages::Package;
use vshelf_core::renewal::{self, Renewal};
use vshelf_core::tidy::Protection;
use vshelf_core::{InstallId, Key, Pick, Request, Selector};
use vshelf_shelf::journal::Operation;
use vshelf_shelf::recovery;
use vshelf_shelf::trash::Running;

use super::history::Departure;
use super::holders::Holders;
use super::lines::{self, LineWord};
use super::plan::{Selection, plan};
use super::remove::remove_install;
use super::{carry, packages, trash};
use crate::conclude::{Changed, conclude};
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::{Answer, Event, Listener, Question, Task};
use crate::foreign_file;
use crate::install::execute::execute_from_any;
use crate::install::job::{InstallJob, JobOptions};
use crate::locking::{self, LockRequest};
use crate::outcome::RenewalStep;
use crate::project::{self, FoundRequirement};
use crate::runtime::Runtime;
use crate::runtime::published::Extent;

/// What is done otherwise than usual.
#[derive(Clone, Copy, Debug, Default)]
pub struct RenewOptions {
    /// The old releases stay on the shelf.
    pub keep_old: bool,
    /// Requirement files that ask for the old release by its exact version ask for the new one.
    pub move_requirements: bool,
}

/// A line that has a newer release, with all that belongs to its renewal.
#[derive(Debug)]
pub struct PlannedRenewal {
    /// The line's name.
    pub line: String,
    /// The install that is replaced.
    pub from: InstallId,
    /// What is published since.
    pub to: Newer,
    /// The packages that come along, or why they are not known.
    pub packages: Result<Vec<Package>, Error>,
    /// What follows to the new release.
    pub followers: Vec<Follower>,
    /// The requirement files that ask for the old release by its exact version.
    pub exact_requirements: Vec<PathBuf>,
    /// What needs the old release still when all that follows has followed.
    pub kept_by: Vec<Protection>,
}

impl PlannedRenewal {
    /// What keeps the old release on the shelf, with these options.
    pub fn keeping(&self, options: RenewOptions) -> Vec<&Protection> {
        let moves = |protection: &Protection| match protection {
            Protection::Requirement { file } => {
                options.move_requirements && self.exact_requirements.contains(file)
            }
            _ => false,
        };
        let kept_by = self.kept_by.iter();
        kept_by.filter(|protection| !moves(protection)).collect()
    }

    /// Whether the old release goes, with these options.
    pub fn removes_old(&self, options: RenewOptions) -> bool {
        !options.keep_old && self.keeping(options).is_empty()
    }
}

/// What follows to a new release.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Follower {
    /// The default.
    Default,
    /// The calling shell.
    ThisShell,
    /// A label.
    Label(String),
}

/// Why the renewal of one line failed, and what stays.
#[derive(Debug)]
pub struct RenewalError {
    /// Why.
    pub error: Error,
    /// The title of the old release, where it stays as it was.
    pub stays: Option<String>,
    /// Whether it stays so that its packages are not lost.
    pub for_packages: bool,
}

/// The plans of the lines that are meant: those of the requests, or else all on the shelf.
pub fn plan_renewals<'c>(
    environment: &'c Environment,
    lines: &[LineWord],
    listener: &dyn Listener,
) -> Result<Vec<(Runtime<'c>, Vec<PlannedRenewal>)>, Error> {
    environment.need_settings()?;
    recovery::recover(&environment.layout()?);
    let mut plans = Vec::new();
    for (mut runtime, keys) in lines::meant(environment, lines)? {
        runtime.names().tell_untold(listener);
        runtime
            .published
            .load_and_tell(Extent::Releases, listener)?;
        let planned = plan_runtime(&runtime, &keys, listener)?;
        plans.push((runtime, planned));
    }
    Ok(plans)
}

/// What there is to renew among the lines of these installs.
fn plan_runtime(
    runtime: &Runtime<'_>,
    keys: &[Key],
    listener: &dyn Listener,
) -> Result<Vec<PlannedRenewal>, Error> {
    let environment = runtime.environment();
    let all: Vec<InstallId> = runtime
        .snapshot
        .installs
        .iter()
        .map(|i| i.id.clone())
        .collect();
    let catalog = runtime.published.catalog();
    let lines: Vec<&str> = (all.iter())
        .filter(|install| keys.contains(&install.key))
        .filter_map(|install| Some(catalog.line_of(&install.version)?.name.as_str()))
        .collect();
    let requirements = project::requirements_of(runtime, &project::seen(environment)?);
    let standing = standing(runtime);
    // A renewal that was cut off is gone on with.
    let begun = runtime.snapshot.state.renewals.keys().cloned();
    let standing_for = standing.iter().map(|(_, key)| key.clone());
    let followed: Vec<Key> = begun.chain(standing_for).collect();
    let renewals = renewal::plan(catalog, &all, &followed, environment.platform());
    // What stands in a line with a record that tells nothing may be its newest release.
    let unknown: Vec<&str> = (runtime.snapshot.untold.iter())
        .filter_map(|untold| Some(catalog.line_of(&untold.key.version()?)?.name.as_str()))
        .collect();
    let meant = renewals
        .into_iter()
        .filter(|renewal| lines.contains(&renewal.line) && !unknown.contains(&renewal.line));
    let assessed = plan(runtime, &Holders::find(environment)?, &Selection::default())?;
    let planned = meant.map(|renewal| {
        let followers = followers(&standing, &renewal.members);
        let entry = assessed.iter();
        let entry = entry.filter(|entry| entry.install.key == renewal.from.key);
        let kept_by = entry.flat_map(|entry| entry.protections.clone());
        let stays = |protection: &Protection| {
            !follows(runtime, &renewal, protection, &followers, &requirements)
        };
        PlannedRenewal {
            line: renewal.line.to_owned(),
            from: renewal.from.clone(),
            packages: match runtime.definition.packages {
                Some(_) => {
                    let title = runtime.names().title_of(&renewal.from.key);
                    let list = || packages::list(runtime, &renewal.from.key);
                    Task::ListingPackages(&title).during(listener, list)
                }
                None => Ok(Vec::new()),
            },
            kept_by: kept_by.filter(stays).collect(),
            exact_requirements: exact_requirements(runtime, &requirements, renewal.from),
            to: renewal.to.clone(),
            followers,
        }
    });
    Ok(planned.collect())
}

/// Whether what keeps the old release is met by the new one.
fn follows(
    runtime: &Runtime<'_>,
    renewal: &Renewal<'_>,
    protection: &Protection,
    followers: &[Follower],
    requirements: &[FoundRequirement],
) -> bool {
    match protection {
        Protection::Default => followers.contains(&Follower::Default),
        Protection::ThisShell => followers.contains(&Follower::ThisShell),
        Protection::Label { label } => followers.contains(&Follower::Label(label.clone())),
        Protection::Requirement { file } => {
            let mut found = requirements
                .iter()
                .filter(|found| found.place.file == *file);
            found.all(|found| (runtime.choosing()).covers(&found.what, &renewal.to.version))
        }
        Protection::RenewalUnfinished { .. } => true,
        _ => false,
    }
}

/// What can follow, each with the key that it stands for now.
fn standing(runtime: &Runtime<'_>) -> Vec<(Follower, Key)> {
    let mut standing: Vec<(Follower, &Pick)> = Vec::new();
    standing.extend(
        runtime
            .snapshot
            .default_pick()
            .map(|pick| (Follower::Default, pick)),
    );
    let shell = &runtime.environment().shell;
    let switched = shell.switched(runtime.name());
    standing.extend(
        switched
            .filter(|_| shell.can_change())
            .map(|pick| (Follower::ThisShell, pick)),
    );
    let mut keys: Vec<(Follower, Key)> = standing
        .into_iter()
        .filter_map(|(follower, pick)| Some((follower, pick.key()?.clone())))
        .collect();
    for (label, selector) in &runtime.snapshot.state.labels {
        // A label on an exact release stays on it.
        let request: Option<Request> = selector.parse().ok();
        if !request.is_some_and(|request| request.selector.is_moving()) {
            continue;
        }
        if let Some(Pick::Install(key)) = runtime.choosing().pick_of_label(selector) {
            keys.push((Follower::Label(label.clone()), key));
        }
    }
    keys
}

/// What stands for one of these installs of a line.
fn followers(standing: &[(Follower, Key)], members: &[&InstallId]) -> Vec<Follower> {
    let of_line = |key: &Key| members.iter().any(|member| member.key == *key);
    let following = standing.iter().filter(|(_, key)| of_line(key));
    following.map(|(follower, _)| follower.clone()).collect()
}

/// The requirement files that ask for exactly this version.
fn exact_requirements(
    runtime: &Runtime<'_>,
    requirements: &[FoundRequirement],
    from: &InstallId,
) -> Vec<PathBuf> {
    let is_exact = |found: &&FoundRequirement| match &found.what.selector {
        Selector::Version(version) => *version == from.version,
        _ => false,
    };
    let mut files: Vec<PathBuf> = Vec::new();
    for found in requirements.iter().filter(is_exact) {
        let file = &found.place.file;
        // A lock stands for what is required beside it, which may be exact as well.
        let beside = if file.ends_with(LOCK_FILE) {
            project::required_in(runtime, file.parent().unwrap_or(file))
        } else {
            Ok(None)
        };
        let beside = beside.unwrap_or_default().filter(|found| is_exact(&found));
        for file in [Some(file.clone()), beside.map(|found| found.place.file)] {
            files.extend(file.filter(|file| !files.contains(file)));
        }
    }
    files
}

/// Asks whether to carry out the plans of so many lines, which remove so many installs.
pub fn ask(lines: usize, removals: usize, listener: &dyn Listener) -> Result<Answer, Error> {
    listener.ask(&Question::Renew { lines, removals })
}

/// Carries the plans out, line by line; gives back what failed.
pub fn apply(
    environment: &Environment,
    plans: &[(Runtime<'_>, Vec<PlannedRenewal>)],
    options: RenewOptions,
    listener: &dyn Listener,
) -> Result<Vec<RenewalError>, Error> {
    let mut errors = Vec::new();
    for (runtime, plan) in plans {
        for planned in plan {
            if let Err(error) = renew(runtime, planned, options, listener) {
                errors.push(error);
            }
        }
    }
    trash::bound(environment, listener);
    conclude(environment, Changed::Shelf)?;
    Ok(errors)
}

/// Renews one line. Where a step fails, the old release stays.
fn renew(
    runtime: &Runtime<'_>,
    planned: &PlannedRenewal,
    options: RenewOptions,
    listener: &dyn Listener,
) -> Result<(), RenewalError> {
    let old = runtime.names().title_of(&planned.from.key);
    let failed = |stays: bool, for_packages: bool| {
        let stays = stays.then(|| old.clone());
        move |error| RenewalError {
            error,
            stays,
            for_packages,
        }
    };
    begin(runtime, planned).map_err(failed(true, false))?;
    let job = install_new(runtime, planned, listener).map_err(|error| {
        // Nothing was changed that would have to be gone on with.
        end(runtime, planned).unwrap_or_default();
        failed(true, false)(error)
    })?;
    let new = runtime.reopened().map_err(failed(false, false))?;
    carry_packages(&new, planned, &job.key, listener).map_err(failed(true, true))?;
    let finish = || -> Done {
        follow(&new, planned, &job.key, listener)?;
        if options.move_requirements {
            move_requirements(runtime, planned, listener)?;
        }
        match options.keep_old {
            true => {
                end(runtime, planned)?;
                let step = RenewalStep::OldStays {
                    title: old.clone(),
                    why: None,
                };
                listener.tell(Event::Renewal(&step));
                Ok(())
            }
            false => remove_old(&runtime.reopened()?, planned, listener),
        }
    };
    finish().map_err(failed(false, false))
}

/// Notes that the renewal is under way, so that it is gone on with where it is cut off.
fn begin(runtime: &Runtime<'_>, planned: &PlannedRenewal) -> Done {
    let from = planned.from.key.clone();
    let to = Key::new(&planned.to.version, &planned.from.publisher);
    (runtime.shelf).change_state(|state| drop(state.renewals.insert(from, to)))?;
    Ok(())
}

/// Notes that the renewal is finished, where the old release stays; one that goes takes the note with it.
fn end(runtime: &Runtime<'_>, planned: &PlannedRenewal) -> Done {
    (runtime.shelf).change_state(|state| drop(state.renewals.remove(&planned.from.key)))?;
    Ok(())
}

fn install_new(
    runtime: &Runtime<'_>,
    planned: &PlannedRenewal,
    listener: &dyn Listener,
) -> Result<InstallJob, Error> {
    let release = (runtime.published.catalog())
        .release(&planned.to.version, &planned.from.publisher)
        .ok_or_else(|| Error::NotPublished {
            selector: planned.to.version.to_string(),
        })?;
    let mut jobs = [InstallJob::new(
        runtime,
        release,
        Narrowing::Open,
        JobOptions::default(),
    )?];
    let results = execute_from_any(runtime.environment(), &mut jobs, listener);
    results
        .into_iter()
        .try_for_each(|result| result.map(drop))?;
    let [job] = jobs;
    let step = RenewalStep::Installed { title: job.title() };
    listener.tell(Event::Renewal(&step));
    Ok(job)
}

fn carry_packages(
    runtime: &Runtime<'_>,
    planned: &PlannedRenewal,
    key: &Key,
    listener: &dyn Listener,
) -> Done {
    match &planned.packages {
        Ok(packages) if packages.is_empty() => Ok(()),
        // Asked again: what kept the tool from answering may have passed.
        _ => carry::carry(runtime, &planned.from.key, key, listener),
    }
}

/// Has the default, the labels and this shell follow to the new release.
fn follow(
    runtime: &Runtime<'_>,
    planned: &PlannedRenewal,
    key: &Key,
    listener: &dyn Listener,
) -> Done {
    let pick = Pick::Install(key.clone());
    // What a selector such as 8 or lts stands for moves by itself; an exact version does not.
    let moved = |selector: &str| match runtime.choosing().pick_of_label(selector) {
        Some(now) if now == pick => selector.to_owned(),
        _ => runtime.names().selector_of(key),
    };
    for follower in &planned.followers {
        let step = match follower {
            Follower::Default => {
                let selector = moved(runtime.snapshot.default_selector().unwrap_or_default());
                runtime.shelf.set_default(key, &selector)?;
                RenewalStep::Default { selector }
            }
            Follower::ThisShell => {
                // The shell is on the same line as before, so what it used before that stays.
                crate::session::plan_switch(runtime, &pick, None);
                RenewalStep::ThisShell
            }
            Follower::Label(label) => {
                let before = runtime
                    .snapshot
                    .state
                    .labels
                    .get(label)
                    .cloned()
                    .unwrap_or_default();
                let selector = moved(&before);
                if selector != before {
                    runtime.shelf.change_state(|state| {
                        state.labels.insert(label.clone(), selector.clone());
                    })?;
                }
                RenewalStep::Label {
                    label: label.clone(),
                }
            }
        };
        listener.tell(Event::Renewal(&step));
    }
    Ok(())
}

/// Writes the new version into the plain requirement files that ask for the old one.
fn move_requirements(
    runtime: &Runtime<'_>,
    planned: &PlannedRenewal,
    listener: &dyn Listener,
) -> Done {
    let files = project::kinds_of_files(runtime);
    let is_lock = |path: &&PathBuf| path.ends_with(LOCK_FILE);
    let (locks, others): (Vec<&PathBuf>, Vec<&PathBuf>) =
        planned.exact_requirements.iter().partition(is_lock);
    for path in others {
        let name = path.file_name().unwrap_or_default();
        let plain = files
            .iter()
            .any(|file| file.is_plain() && name == file.file.as_str());
        let file = path.clone();
        let step = match plain {
            true => {
                let text = format!("{}\n", planned.to.version);
                foreign_file::write(runtime.environment(), path, &text)?;
                let version = planned.to.version.clone();
                RenewalStep::RequirementMoved { file, version }
            }
            false => RenewalStep::RequirementLeft { file },
        };
        listener.tell(Event::Renewal(&step));
    }
    // What they require may have moved just now.
    for lock in locks {
        renew_lock(runtime, lock, listener)?;
    }
    Ok(())
}

/// Locks anew what a project requires of the runtime.
fn renew_lock(runtime: &Runtime<'_>, file: &Path, listener: &dyn Listener) -> Done {
    let here = runtime.environment();
    let folder = file.parent().unwrap_or(file).to_owned();
    let there = Environment::in_shell(here.shell.clone(), here.transport.is_offline());
    let renewed = LockRequest {
        renew: Some(vec![runtime.name().to_owned()]),
        platforms: Vec::new(),
    };
    for written in locking::lock(&there.in_folder(folder), &renewed, listener)? {
        let mut entries = written.entries.iter();
        if let Some(entry) = entries.find(|entry| entry.title == runtime.definition.title) {
            listener.tell(Event::Renewal(&RenewalStep::Locked {
                file: written.file.clone(),
                release: entry.release.clone(),
            }));
        }
    }
    Ok(())
}

/// Removes the old release, unless something still needs it.
fn remove_old(runtime: &Runtime<'_>, planned: &PlannedRenewal, listener: &dyn Listener) -> Done {
    let key = &planned.from.key;
    let selection = Selection {
        include: vec![key.clone()],
        except: Vec::new(),
    };
    let assessed = plan(runtime, &Holders::find(runtime.environment())?, &selection)?;
    let entry = assessed.iter().find(|entry| entry.install.key == *key);
    let needs = |protection: &&Protection| match protection {
        // The environment of this command is still that of the shell before it follows.
        Protection::ThisShell => !planned.followers.contains(&Follower::ThisShell),
        Protection::RenewalUnfinished { .. } => false,
        _ => true,
    };
    if let Some(protection) = entry.and_then(|entry| entry.protections.iter().find(needs)) {
        end(runtime, planned)?;
        let step = RenewalStep::OldStays {
            title: runtime.names().title_of(&planned.from.key),
            why: Some(protection.clone()),
        };
        listener.tell(Event::Renewal(&step));
        return Ok(());
    }
    let packages = packages::of_install(runtime, key, listener)?;
    let departure = Departure {
        replaced_by: Some(planned.to.version.clone()),
        ..Departure::new(Operation::Renewed, packages)
    };
    let removed = remove_install(runtime, key, Running::Spared, departure, listener)?;
    listener.tell(Event::Removed(&removed));
    Ok(())
}
