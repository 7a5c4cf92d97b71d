//! A clean-up: the plan for every runtime's shelf, the question, and carrying it out.

use vshelf_core::resolve::Scope;
use vshelf_core::tidy::{Assessment, Verdict};
use vshelf_core::{Key, Request};
use vshelf_files::action::FileAction;
use vshelf_files::freed::Freed;
use vshelf_shelf::journal::{self, Operation};
use vshelf_shelf::recovery;
use vshelf_shelf::trash::Running;

use super::history::Departure;
use super::holders::Holders;
use super::leftovers::{self, Leftover, LeftoverKind};
use super::plan::{Selection, plan, protections_of};
use super::remove::remove_install;
use super::{packages, trash};
use crate::environment::Environment;
use crate::error::{Class, Error, file_error};
use crate::events::{Answer, Deleting, Event, Listener, Question, Task};
use crate::outcome::Removed;
use crate::runtime::Runtime;

/// What a clean-up is about.
#[derive(Clone, Debug, Default)]
pub struct TidyRequest {
    /// Leave these out.
    pub except: Vec<Request>,
    /// Whether leftovers belong to it.
    pub leftovers: bool,
    /// Whether all is deleted at once, what is in the trash too.
    pub for_good: bool,
}

/// The plan of a clean-up.
pub struct TidyPlan<'r, 'c> {
    /// What is to become of each install, by runtime.
    pub runtimes: Vec<(&'r Runtime<'c>, Vec<Assessment<'r>>)>,
    /// What was left behind.
    pub leftovers: Vec<Leftover>,
    /// For how many days the trash keeps what is removed, and how many bytes of it; nothing where it is deleted.
    pub trash: Option<(u32, u64)>,
}

/// What carrying out a clean-up resulted in.
#[derive(Debug, Default)]
pub struct Tidied {
    /// The bytes that were freed.
    pub freed: u64,
    /// The bytes that are in the trash.
    pub trashed: u64,
    /// What could not be removed, and why.
    pub errors: Vec<Error>,
}

impl TidyPlan<'_, '_> {
    /// The assessments of all runtimes.
    pub fn assessments(&self) -> impl Iterator<Item = &Assessment<'_>> {
        self.runtimes.iter().flat_map(|(_, plan)| plan)
    }

    /// How many installs have this verdict.
    pub fn count(&self, verdict: Verdict) -> usize {
        let same = self.assessments().filter(|entry| entry.verdict == verdict);
        same.count()
    }

    /// The bytes of the installs that go.
    fn going(&self) -> u64 {
        let goes = self.assessments();
        let goes = goes.filter(|entry| entry.verdict == Verdict::Remove);
        goes.map(|entry| entry.bytes).sum()
    }

    /// The bytes that carrying it out moves to the trash.
    pub fn trashes(&self) -> u64 {
        let room = self.trash.map_or(0, |(_, room)| room);
        self.going().min(room)
    }

    /// The bytes that carrying it out frees.
    pub fn frees(&self) -> u64 {
        let leftovers: u64 = self.leftovers.iter().map(|leftover| leftover.bytes).sum();
        leftovers + self.going() - self.trashes()
    }

    /// Whether carrying it out would do anything.
    pub fn is_empty(&self) -> bool {
        self.count(Verdict::Remove) + self.leftovers.len() == 0
    }
}

/// Makes the plan for the runtimes and installs that are meant ([`super::lines::meant`]); nothing is changed.
pub fn plan_tidy<'r, 'c>(
    environment: &Environment,
    meant: &'r [(Runtime<'c>, Vec<Key>)],
    asked: &TidyRequest,
) -> Result<TidyPlan<'r, 'c>, Error> {
    let holders = Holders::find(environment)?;
    let mut plans = Vec::new();
    for (runtime, keys) in meant {
        let selection = Selection {
            except: keys_of(runtime, &asked.except)?,
            ..Selection::default()
        };
        let mut entries = plan(runtime, &holders, &selection)?;
        entries.retain(|entry| keys.contains(&entry.install.key));
        plans.push((runtime, entries));
    }
    let days = environment.settings()?.trash.days();
    Ok(TidyPlan {
        runtimes: plans,
        leftovers: match asked.leftovers {
            true => leftovers::find(environment, asked.for_good)?,
            false => Vec::new(),
        },
        trash: match days > 0 && !asked.for_good {
            true => Some((days, trash::room(environment)?)),
            false => None,
        },
    })
}

/// Asks whether to carry out a plan.
pub fn ask(plan: &TidyPlan<'_, '_>, listener: &dyn Listener) -> Result<Answer, Error> {
    let is_trash = |leftover: &&Leftover| leftover.kind == LeftoverKind::RemovedInstall;
    let in_trash = plan.leftovers.iter().filter(is_trash).count();
    listener.ask(&Question::Tidy {
        installs: plan.count(Verdict::Remove),
        leftovers: plan.leftovers.len() - in_trash,
        empties_trash: in_trash > 0,
    })
}

/// Carries the plan out; takes its leftovers.
pub fn apply(
    environment: &Environment,
    plan: &mut TidyPlan<'_, '_>,
    listener: &dyn Listener,
) -> Result<Tidied, Error> {
    let mut tidied = Tidied::default();
    environment.need_settings()?;
    recovery::recover(&environment.layout()?);
    for (runtime, entries) in &plan.runtimes {
        for entry in entries
            .iter()
            .filter(|entry| entry.verdict == Verdict::Remove)
        {
            let for_good = plan.trash.is_none();
            match remove_still_outdated(runtime, entry, for_good, listener) {
                Ok(removed) => {
                    tidied.freed += removed.freed;
                    tidied.trashed += removed.trashed.map_or(0, |(bytes, _)| bytes);
                }
                Err(error) => {
                    listener.tell(Event::Failed(&error));
                    tidied.errors.push(error);
                }
            }
        }
    }
    for leftover in plan.leftovers.drain(..) {
        let bytes = leftover.bytes;
        let delete = |freed: &Freed| leftover.delete(freed);
        match Deleting::during(bytes, Task::RemovingLeftovers, listener, delete) {
            Ok(freed) => tidied.freed += freed,
            // It is in nobody's way.
            Err(error) => listener.tell(Event::LeftUndone(&error)),
        }
    }
    trash::bound(environment, listener);
    let layout = environment.layout()?;
    journal::forget_gone_projects(&layout)
        .map_err(file_error(&layout.projects(), FileAction::Write))?;
    Ok(tidied)
}

/// Removes what the plan removes, unless something came to keep it since the plan was made.
fn remove_still_outdated(
    runtime: &Runtime<'_>,
    entry: &Assessment<'_>,
    for_good: bool,
    listener: &dyn Listener,
) -> Result<Removed, Error> {
    let key = &entry.install.key;
    let now = runtime.reopened()?;
    let holders = Holders::find(runtime.environment())?;
    if let Some(protection) = protections_of(&now, &holders, key).into_iter().next() {
        return Err(Error::InUse {
            title: runtime.names().title_of(key),
            protection,
            since_planned: true,
        });
    }
    let packages = packages::of_install(&now, key, listener)?;
    let departure = Departure {
        reasons: entry.reasons.clone(),
        for_good,
        ..Departure::new(Operation::Tidied, packages)
    };
    let removed = remove_install(&now, key, Running::Spared, departure, listener)?;
    listener.tell(Event::Removed(&removed));
    Ok(removed)
}

/// The keys of this runtime that requests cover on the shelf; requests for other runtimes are passed
/// over.
fn keys_of(runtime: &Runtime<'_>, requests: &[Request]) -> Result<Vec<Key>, Error> {
    let environment = runtime.environment();
    let mut keys = Vec::new();
    for request in requests {
        if Runtime::of_request(environment, request)?.name() != runtime.name() {
            continue;
        }
        let covered = runtime.choosing().covered(request, Scope::Shelf)?;
        let before = keys.len();
        keys.extend((covered.iter()).filter_map(|candidate| Some(candidate.install?.key.clone())));
        if keys.len() == before {
            runtime.choosing().refuse_untold(request)?;
            return Err(Error::NotAnInstall {
                selector: request.to_string(),
                class: Class::NoMatch,
            });
        }
    }
    Ok(keys)
}
