//! Who uses what is on the shelf, as far as this machine tells: shells, processes, projects, the person.

use std::collections::HashSet;
use std::fs;
use std::io;
use std::path::PathBuf;

use vshelf_core::tidy::{Protection, Witness};
use vshelf_core::{Key, Pick, Request};
use vshelf_shelf::Install;
use vshelf_shelf::journal::{self, Presence, SeenProject};
use vshelf_shelf::processes::{Process, ProcessTable};
use vshelf_shelf::shells::{SwitchedShell, check_notes, switched_shells};
use vshelf_shelf::switches::Switches;

use crate::activity::Activity;
use crate::calling_shell::SWITCHED;
use crate::environment::Environment;
use crate::error::Error;
use crate::project;
use crate::runtime::Runtime;

/// Who uses what is on the shelf.
#[derive(Debug)]
pub struct Holders {
    shells: Vec<SwitchedShell>,
    processes: Vec<Process>,
    /// Processes with the switches that they were started with.
    started: Vec<(Process, Switches)>,
    projects: Vec<SeenProject>,
    /// The files of the projects that are there, in order.
    here: Vec<PathBuf>,
    /// The projects that are on a drive or a share which is away.
    away: Vec<SeenProject>,
    /// What cannot be told of any install: each keeps all.
    unclear: Vec<Protection>,
}

/// What keeps installs of a runtime by what is asked of the runtime as a whole: what each names, or nothing where
/// that may be anything.
pub type Claims = Vec<(Option<Pick>, Protection)>;

impl Holders {
    /// Looks for them. Where a witness cannot be read, that keeps everything.
    pub fn find(environment: &Environment) -> Result<Holders, Error> {
        let layout = environment.layout()?;
        let mut unclear = Vec::new();
        let shells = check_notes(&layout).and_then(|()| switched_shells(&layout));
        let shells = told(shells, Witness::Shells, &mut unclear);
        let table = ProcessTable::read().map(|table| {
            let started = table.started_switched(&layout, SWITCHED);
            (started, table.below(layout.data()))
        });
        let (mut started, processes) = told(table, Witness::Processes, &mut unclear);
        // Of a shell that was switched since, the note counts, and of the calling one its variables.
        started.retain(|(process, _)| {
            let is_noted = shells.iter().any(|shell| shell.id == process.id);
            !is_noted && environment.shell.id() != Some(process.id)
        });
        let projects = match journal::projects(&layout) {
            Ok(lines) => {
                unclear.extend(lines.not_understood.first().map(|line| {
                    let file = layout.projects();
                    let name = file.file_name().unwrap_or_default().to_string_lossy();
                    Protection::Unclear {
                        what: Witness::Projects,
                        cause: format!("line {line} of {name} is not understood"),
                    }
                }));
                lines.entries
            }
            failed => told(
                failed.map(|lines| lines.entries),
                Witness::Projects,
                &mut unclear,
            ),
        };
        let mut here = Vec::new();
        let mut away = Vec::new();
        for seen in &projects {
            match seen.presence() {
                Presence::Gone => {}
                Presence::Here => here.push(seen.file.clone()),
                Presence::Away => away.push(seen.clone()),
            }
        }
        here.sort();
        here.dedup();
        Ok(Holders {
            shells,
            started,
            processes,
            projects,
            here,
            away,
            unclear,
        })
    }

    /// What keeps installs of a runtime because of the projects that were seen, or because nobody can tell.
    pub fn claims_on(&self, runtime: &Runtime<'_>) -> Claims {
        let of_it = |seen: &&SeenProject| seen.runtime == runtime.name();
        let away = self.away.iter().filter(of_it);
        let mut claims: Claims = away
            .filter_map(|seen| last_required(runtime, seen))
            .collect();
        let read = project::read_projects(runtime, &self.here);
        let satisfied = project::satisfied(runtime, read.found).into_iter();
        claims.extend(satisfied.map(|(pick, file)| (Some(pick), Protection::Requirement { file })));
        // A file that cannot be understood now requires what it did before.
        for file in read.not_understood {
            let mut last = self.projects.iter().filter(of_it);
            let last = last.find(|seen| seen.file == file);
            let last = last.and_then(|seen| last_required(runtime, seen));
            claims.extend(last.map(|(pick, _)| (pick, Protection::Requirement { file })));
        }
        let unclear_things = self.unclear.iter().cloned();
        claims.extend(unclear_things.map(|protection| (None, protection)));
        if let Err(error) = runtime.shelf.check_last_uses() {
            claims.push((None, unclear(Witness::LastUses, &error)));
        }
        claims
    }

    /// What keeps an install; `claims` is what [`Holders::claims_on`] gives.
    pub fn of_install(
        &self,
        runtime: &Runtime<'_>,
        activity: &Activity,
        install: &Install,
        claims: &Claims,
    ) -> Vec<Protection> {
        let key = &install.id.key;
        let own_id = runtime.environment().shell.id();
        let mut found = Vec::new();
        if runtime.snapshot.is_default(key) {
            found.push(Protection::Default);
        }
        if activity.is_switched_to(key) {
            found.push(Protection::ThisShell);
        }
        for shell in &self.shells {
            if is_switched(&shell.switches, runtime, key) && Some(shell.id) != own_id {
                found.push(Protection::Shell { id: shell.id });
            }
        }
        let mut running = Vec::new();
        if !self.processes.is_empty() {
            let real = fs::canonicalize(&install.folder);
            let real = real.unwrap_or_else(|_| install.folder.clone());
            let from_it = self.processes.iter();
            running.extend(from_it.filter(|process| process.runs_from(&real)));
        }
        let started = self.started.iter();
        let started = started.filter(|(_, switches)| is_switched(switches, runtime, key));
        let mut seen = HashSet::new();
        for process in running
            .into_iter()
            .chain(started.map(|(process, _)| process))
        {
            if seen.insert(process.id) {
                found.push(Protection::Process {
                    id: process.id,
                    program: process.program.clone(),
                });
            }
        }
        for (label, selector) in &runtime.snapshot.state.labels {
            if runtime
                .choosing()
                .pick_of_label(selector)
                .is_some_and(|pick| pick.is(key))
            {
                let label = label.clone();
                found.push(Protection::Label { label });
            }
        }
        let successor = runtime.snapshot.state.renewals.get(key).cloned();
        found.extend(successor.map(|successor| Protection::RenewalUnfinished { successor }));
        let of_it = claims.iter();
        let of_it = of_it.filter(|(pick, _)| pick.as_ref().is_none_or(|p| p.is(key)));
        found.extend(of_it.map(|(_, protection)| protection.clone()));
        found
    }
}

fn unclear(what: Witness, error: &io::Error) -> Protection {
    Protection::Unclear {
        what,
        cause: error.to_string(),
    }
}

/// What a witness tells; nothing, and that it is unclear, where it cannot be read.
fn told<T: Default>(
    result: io::Result<T>,
    witness: Witness,
    unclear_things: &mut Vec<Protection>,
) -> T {
    result.unwrap_or_else(|error| {
        unclear_things.push(unclear(witness, &error));
        T::default()
    })
}

/// What a project got by the note that was made when its file was read last.
fn last_required(runtime: &Runtime<'_>, seen: &SeenProject) -> Option<(Option<Pick>, Protection)> {
    let away = Protection::ProjectAway {
        file: seen.file.clone(),
    };
    let request = seen.selector.as_deref().map(str::parse::<Request>);
    match request {
        Some(Ok(request)) => {
            let pick = runtime.choosing().pick_meeting(&request)?;
            Some((Some(pick), away))
        }
        // It may require anything.
        Some(Err(_)) | None => Some((None, away)),
    }
}

fn is_switched(switches: &Switches, runtime: &Runtime<'_>, key: &Key) -> bool {
    let pick = switches.get(runtime.name());
    pick.is_some_and(|pick| pick.is(key))
}
