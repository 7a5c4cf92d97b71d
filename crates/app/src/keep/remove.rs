//! Removing installs, with what that means for the default, the labels, projects and the shell.

use vshelf_core::activation::Rule;
use vshelf_core::packages::Package;
use vshelf_core::resolve::Scope;
use vshelf_core::tidy::Protection;
use vshelf_core::{Key, Request};
use vshelf_files::freed::Freed;
use vshelf_shelf::Install;
use vshelf_shelf::journal::{HistoryEntry, Operation};
use vshelf_shelf::record::Adopted;
use vshelf_shelf::recovery;
use vshelf_shelf::removal::Removal;
use vshelf_shelf::trash::{Fate, Running};

use super::history::Departure;
use super::holders::Holders;
use super::{packages, trash};
use crate::activity::Activity;
use crate::conclude::{Changed, conclude};
use crate::environment::Environment;
use crate::error::{Class, Done, Error, Need};
use crate::events::{Answer, Deleting, Event, Listener, Question, Task};
use crate::outcome::{Asker, Reassigned, Removed};
use crate::project;
use crate::runtime::Runtime;
use crate::session;

/// What is to be removed, and what may stand in the way.
#[derive(Clone, Debug, Default)]
pub struct RemoveRequest {
    /// What to remove.
    pub requests: Vec<Request>,
    /// Whether all are removed where a request covers several installs.
    pub every: bool,
    /// Whether what is the default, active or running is removed too.
    pub even_if_used: bool,
    /// Whether it is deleted at once, and not kept in the trash for a while.
    pub for_good: bool,
}

/// Removes what is asked for. Everything is looked at before anything is removed.
pub fn remove(environment: &Environment, asked: &RemoveRequest, listener: &dyn Listener) -> Done {
    environment.need_settings()?;
    recovery::recover(&environment.layout()?);
    let mut planned = Vec::new();
    for request in &asked.requests {
        let runtime = Runtime::of_request(environment, request)?;
        let Some(keys) = plan(&runtime, request, asked, listener)? else {
            return Ok(());
        };
        let mut going = Vec::new();
        for key in keys {
            match packages_lost(&runtime, &key, asked.even_if_used, listener)? {
                Some(packages) => going.push((key, packages)),
                None => return Ok(()),
            }
        }
        planned.push((runtime, going));
    }
    let running = match asked.even_if_used {
        true => Running::Ignored,
        false => Running::Spared,
    };
    for (runtime, going) in planned {
        for (key, packages) in going {
            // Another of these may have been the default, or what this shell used.
            let runtime = runtime.reopened()?;
            runtime.names().refuse_untold_key(&key)?;
            if runtime.snapshot.install(&key).is_some() {
                let departure = Departure {
                    for_good: asked.for_good,
                    ..Departure::new(Operation::Removed, packages)
                };
                let mut removed = remove_install(&runtime, &key, running, departure, listener)?;
                removed.reassigned = reassigned(&runtime, &key)?;
                listener.tell(Event::Removed(&removed));
            }
        }
    }
    trash::bound(environment, listener);
    Ok(())
}

/// The packages that go with an install. Where they cannot be listed, the person is asked; nothing where
/// they say no.
fn packages_lost(
    runtime: &Runtime<'_>,
    key: &Key,
    anyway: bool,
    listener: &dyn Listener,
) -> Result<Option<Vec<Package>>, Error> {
    let error = match packages::of_install(runtime, key, listener) {
        Ok(packages) => return Ok(Some(packages)),
        Err(error) => error,
    };
    let Error::PackagesUnknown { title, cause, .. } = &error else {
        return Err(error);
    };
    let why = match &**cause {
        Error::PackageTool { cause: why, .. } => format!("{cause}: {why}"),
        other => other.to_string(),
    };
    let question = Question::RemoveUnlisted { title, cause: &why };
    match anyway {
        true => {
            listener.tell(Event::LeftUndone(cause));
            Ok(Some(Vec::new()))
        }
        false => match listener.ask(&question)? {
            Answer::Yes => Ok(Some(Vec::new())),
            Answer::No => Ok(None),
            Answer::Nobody => Err(error),
        },
    }
}

/// The keys that a request means, where they may be removed; nothing where the person says no.
fn plan(
    runtime: &Runtime<'_>,
    request: &Request,
    asked: &RemoveRequest,
    listener: &dyn Listener,
) -> Result<Option<Vec<Key>>, Error> {
    let covered = runtime.choosing().covered(request, Scope::Shelf)?;
    let mut installs: Vec<_> = covered.iter().filter_map(|c| c.install).collect();
    // Of several publishers' installs of one version, the version alone names that of the main one.
    let meant = request.without_runtime().to_string();
    let mut named = installs.iter().copied();
    if !asked.every
        && let Some(named) =
            named.find(|install| runtime.names().selector_of(&install.key) == meant)
    {
        installs = vec![named];
    }
    if installs.is_empty() {
        runtime.choosing().refuse_untold(request)?;
        return Err(Error::NotAnInstall {
            selector: request.to_string(),
            class: Class::Refused,
        });
    }
    if installs.len() > 1 && !asked.every {
        let installs = installs.iter();
        return Err(Error::CoversSeveral {
            selector: request.to_string(),
            installs: installs
                .map(|id| runtime.names().selector_of(&id.key))
                .collect(),
        });
    }
    let keys = installs.iter().map(|install| install.key.clone()).collect();
    if asked.even_if_used {
        return Ok(Some(keys));
    }
    let activity = Activity::of(runtime);
    let holders = Holders::find(runtime.environment())?;
    let claims = holders.claims_on(runtime);
    for install in installs {
        let title = runtime.names().title_of(&install.key);
        let held = runtime.snapshot.install(&install.key).into_iter();
        let needed_by: Vec<Protection> = held
            .flat_map(|install| holders.of_install(runtime, &activity, install, &claims))
            // What runs from it is never asked about.
            .filter(|protection| !matches!(protection, Protection::Process { .. }))
            .collect();
        let answer = match needed_by.as_slice() {
            [] => Answer::Yes,
            needed_by => listener.ask(&Question::RemoveNeeded {
                title: &title,
                needed_by,
            })?,
        };
        match (answer, need(runtime, &activity, &install.key)) {
            (Answer::No, _) => return Ok(None),
            (Answer::Nobody, Some(by)) => {
                return Err(Error::Needed {
                    title,
                    selector: request.to_string(),
                    by,
                });
            }
            // What becomes of labels and projects is told.
            (Answer::Yes, _) | (Answer::Nobody, None) => {}
        }
    }
    Ok(Some(keys))
}

/// Who needs the install with this key.
fn need(runtime: &Runtime<'_>, activity: &Activity, key: &Key) -> Option<Need> {
    match activity.rule() {
        _ if runtime.snapshot.is_default(key) => Some(Need::Default),
        _ if !activity.is_active(key) => None,
        Some(Rule::Requirement) => Some(Need::Requirement),
        _ => Some(Need::ThisShell),
    }
}

/// Removes the install with this key, and brings the calling shell in order.
pub fn remove_install(
    runtime: &Runtime<'_>,
    key: &Key,
    running: Running,
    departure: Departure,
    listener: &dyn Listener,
) -> Result<Removed, Error> {
    let environment = runtime.environment();
    let gone = || Error::GoneMeanwhile {
        title: runtime.names().title_of(key),
    };
    let install = runtime.snapshot.install(key).ok_or_else(gone)?;
    let title = runtime.names().title_of(&install.id.key);
    let was_default = runtime.snapshot.is_default(key);
    let fate = match departure.for_good {
        true => Fate::Deleted,
        false => trash::fate(environment, install)?,
    };
    let entry = departure.entry(environment, install)?;
    let (fate, freed) = delete(runtime, install, (running, fate), &entry, listener)?;
    let changed = if was_default {
        Changed::Shelf
    } else {
        Changed::Requirements
    };
    conclude(environment, changed)?;
    let shell = &environment.shell;
    let switched = shell.will_be_switched(runtime.name());
    let follows_again = switched.is_some_and(|pick| pick.is(key)) && shell.can_change();
    if follows_again {
        session::plan_following(&runtime.reopened()?, None);
    }
    Ok(Removed {
        title,
        runtime_title: runtime.definition.title.clone(),
        operation: entry.operation,
        linked: install.record.contents.adopted == Some(Adopted::Linked),
        freed,
        trashed: match fate {
            Fate::Trashed => Some((entry.record.unpacked_size, trash::kept_until(environment)?)),
            Fate::Deleted => None,
        },
        packages: entry.packages,
        was_default,
        newest_left: runtime.names().newest_besides(Some(key)),
        shell_follows_again: follows_again,
        reassigned: Vec::new(),
    })
}

/// Moves an install to the trash or deletes it. Returns its fate and the number of freed bytes.
fn delete(
    runtime: &Runtime<'_>,
    install: &Install,
    how: (Running, Fate),
    entry: &HistoryEntry,
    listener: &dyn Listener,
) -> Result<(Fate, u64), Error> {
    let key = &install.id.key;
    let title = runtime.names().title_of(key);
    let bytes = install.record.contents.unpacked_size;
    let task = |deleting| Task::Removing(&title, deleting);
    let remove = |freed: &Freed| (runtime.shelf).remove(key, how, entry, freed);
    match Deleting::during(bytes, task, listener, remove)? {
        Removal::Done {
            fate,
            freed,
            failures,
        } => {
            for failure in failures {
                listener.tell(Event::LeftUndone(&failure.into()));
            }
            Ok((fate, freed))
        }
        Removal::Spared(process) => Err(Error::InUse {
            title,
            protection: Protection::Process {
                id: process.id,
                program: process.program,
            },
            since_planned: false,
        }),
    }
}

/// The labels and projects that asked for what was removed, and what they find now.
fn reassigned(before: &Runtime<'_>, key: &Key) -> Result<Vec<Reassigned>, Error> {
    let now = before.reopened()?;
    let mut asked: Vec<(Asker, Request)> = Vec::new();
    for (label, selector) in &before.snapshot.state.labels {
        let request = selector.parse()?;
        asked.push((Asker::Label(label.clone(), selector.clone()), request));
    }
    let projects = project::seen(before.environment())?;
    for found in project::requirements_of(before, &projects) {
        asked.push((Asker::Project(found.place.file), found.what));
    }
    asked.retain(|(_, request)| {
        let pick = before.choosing().pick_meeting(request);
        pick.is_some_and(|pick| pick.is(key))
    });
    let told = asked.into_iter().map(|(who, request)| Reassigned {
        who,
        now: (now.choosing().pick_meeting(&request))
            .map(|pick| now.names().selector_of_pick(&pick)),
        request,
    });
    Ok(told.collect())
}
