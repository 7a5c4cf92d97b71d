//! Writing into the history what was done to the shelf, and reading it.

use vshelf_core::packages::Package;
use vshelf_core::tidy::Reason;
use vshelf_core::{Pick, Version};
use vshelf_shelf::Install;
use vshelf_shelf::journal::{self, HistoryEntry, Operation};

use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::runtime::Runtime;

/// Why an install was removed.
#[derive(Clone, Debug, Default)]
pub struct Why {
    /// The reasons of a clean-up.
    pub reasons: Vec<Reason>,
    /// The release that a renewal put in its place.
    pub replaced_by: Option<Version>,
}

/// Notes what was done to an install.
pub fn note(environment: &Environment, operation: Operation, install: &Install) -> Done {
    note_removal(environment, operation, Why::default(), install, &[])
}

/// Notes that an install with these packages was removed.
pub fn note_removal(
    environment: &Environment,
    operation: Operation,
    why: Why,
    install: &Install,
    packages: &[Package],
) -> Done {
    let layout = environment.layout()?;
    let entry = HistoryEntry {
        at: environment.now()?,
        command: environment.command_id()?,
        operation,
        key: install.id.key.clone(),
        reasons: why.reasons,
        replaced_by: why.replaced_by,
        packages: packages.iter().map(Package::spelled).collect(),
        record: install.record.contents.clone(),
    };
    journal::append_history(&layout, &entry).map_err(file_error(&layout.history(), "written"))
}

/// Everything that was done, oldest first.
pub fn read(environment: &Environment) -> Result<Vec<HistoryEntry>, Error> {
    let layout = environment.layout()?;
    journal::history(&layout).map_err(file_error(&layout.history(), "read"))
}

/// What is in the history of one runtime, or of all, newest first, each entry with its runtime where
/// that is still known.
pub struct History<'c> {
    /// The entries.
    pub entries: Vec<HistoryEntry>,
    runtimes: Vec<Runtime<'c>>,
}

impl<'c> History<'c> {
    /// Reads the history; of this runtime alone where one is named.
    pub fn of(environment: &'c Environment, runtime: Option<&str>) -> Result<History<'c>, Error> {
        let mut entries = read(environment)?;
        if let Some(name) = runtime {
            let name = environment.definition(name.trim_end_matches('@'))?.name;
            entries.retain(|entry| entry.record.runtime == name);
        }
        entries.reverse();
        let mut names: Vec<&str> = (entries.iter())
            .map(|entry| entry.record.runtime.as_str())
            .collect();
        names.sort_unstable();
        names.dedup();
        // Of a runtime whose definition is gone there is still a history.
        let known = names
            .iter()
            .map(|name| Runtime::named(environment, Some(name)));
        let runtimes = known.filter_map(Result::ok).collect();
        Ok(History { entries, runtimes })
    }

    /// The runtime of an entry, where it is still known.
    pub fn runtime_of(&self, entry: &HistoryEntry) -> Option<&Runtime<'c>> {
        let mut runtimes = self.runtimes.iter();
        runtimes.find(|runtime| runtime.name() == entry.record.runtime)
    }

    /// Whether an install with an entry's key is on the shelf now.
    pub fn is_on_shelf(&self, entry: &HistoryEntry) -> bool {
        let pick = Pick::Install(entry.key.clone());
        let runtime = self.runtime_of(entry);
        runtime.is_some_and(|runtime| runtime.picked(&pick).is_some())
    }
}
