//! Who uses what is on the shelf, as far as this machine tells: shells, processes, projects, the person.

use std::collections::HashSet;
use std::fs;
use std::path::PathBuf;

use vshelf_core::tidy::Protection;
use vshelf_core::{Key, Pick};
use vshelf_shelf::Install;
use vshelf_shelf::processes::{Process, processes_below, started_switched};
use vshelf_shelf::shells::{SwitchedShell, switched_shells};
use vshelf_shelf::switches::Switches;

use crate::activity::Activity;
use crate::calling_shell::SWITCHED;
use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::project;
use crate::runtime::Runtime;

/// Who uses what is on the shelf.
#[derive(Debug)]
pub struct Holders {
    shells: Vec<SwitchedShell>,
    processes: Vec<Process>,
    /// Processes with the switches that they were started with.
    started: Vec<(Process, Switches)>,
    projects: Vec<PathBuf>,
}

impl Holders {
    /// Looks for them.
    pub fn find(environment: &Environment) -> Result<Holders, Error> {
        let layout = environment.layout()?;
        let shells = switched_shells(&layout).map_err(file_error(layout.data(), "read"))?;
        let mut started = started_switched(&layout, SWITCHED);
        // Of a shell that was switched since, the note counts, and of the calling one its variables.
        started.retain(|(process, _)| {
            let is_noted = shells.iter().any(|shell| shell.id == process.id);
            !is_noted && environment.shell.id() != Some(process.id)
        });
        Ok(Holders {
            shells,
            started,
            processes: processes_below(layout.data()),
            projects: project::seen(environment)?,
        })
    }

    /// What the projects that were seen get of a runtime, each with its requirement file.
    pub fn of_projects(&self, runtime: &Runtime<'_>) -> Vec<(Pick, PathBuf)> {
        let requirements = project::requirements_of(runtime, &self.projects).into_iter();
        let met = requirements.filter_map(|found| {
            let pick = runtime.pick_meeting(&found.requirement.request)?;
            Some((pick, found.file))
        });
        met.collect()
    }

    /// What keeps an install; `required` is what [`Holders::of_projects`] gives.
    pub fn of_install(
        &self,
        runtime: &Runtime<'_>,
        activity: &Activity,
        install: &Install,
        required: &[(Pick, PathBuf)],
    ) -> Vec<Protection> {
        let key = &install.id.key;
        let own_id = runtime.environment().shell.id();
        let mut found = Vec::new();
        if runtime.is_default(key) {
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
        let real = fs::canonicalize(&install.folder).unwrap_or_else(|_| install.folder.clone());
        let running = self
            .processes
            .iter()
            .filter(|process| process.runs_from(&real));
        let started = self.started.iter();
        let started = started.filter(|(_, switches)| is_switched(switches, runtime, key));
        let mut seen = HashSet::new();
        for process in running.chain(started.map(|(process, _)| process)) {
            if seen.insert(process.id) {
                found.push(Protection::Process {
                    id: process.id,
                    program: process.program.clone(),
                });
            }
        }
        for (label, selector) in &runtime.state.labels {
            if runtime
                .pick_of_label(selector)
                .is_some_and(|pick| pick.is(key))
            {
                let label = label.clone();
                found.push(Protection::Label { label });
            }
        }
        found.extend(runtime.state.kept.contains(key).then_some(Protection::Kept));
        let by_projects = required.iter().filter(|(pick, _)| pick.is(key));
        found.extend(by_projects.map(|(_, file)| Protection::Requirement { file: file.clone() }));
        found
    }
}

fn is_switched(switches: &Switches, runtime: &Runtime<'_>, key: &Key) -> bool {
    let pick = switches.get(runtime.name());
    pick.is_some_and(|pick| pick.is(key))
}
