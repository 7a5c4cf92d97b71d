//! Writing into the history what was done to the shelf, and reading it.

use std::path::PathBuf;

use vshelf_core::packages::Package;
use vshelf_core::tidy::Reason;
use vshelf_core::{Pick, Version};
use vshelf_files::action::FileAction;
use vshelf_shelf::journal::{self, HistoryEntry, Lines, Operation};
use vshelf_shelf::{Install, recovery};

use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::runtime::Runtime;

/// An install that goes: what the history is to say of it.
#[derive(Clone, Debug)]
pub struct Departure {
    /// Who removes it.
    pub operation: Operation,
    /// The reasons of a clean-up.
    pub reasons: Vec<Reason>,
    /// The release that a renewal put in its place.
    pub replaced_by: Option<Version>,
    /// The packages that go with it.
    pub packages: Vec<Package>,
    /// Whether it is deleted at once, and not kept in the trash for a while.
    pub for_good: bool,
}

impl Departure {
    /// A departure without reasons of a clean-up.
    pub fn new(operation: Operation, packages: Vec<Package>) -> Departure {
        Departure {
            operation,
            reasons: Vec::new(),
            replaced_by: None,
            packages,
            for_good: false,
        }
    }

    /// The line of the history that says so.
    pub fn entry(
        self,
        environment: &Environment,
        install: &Install,
    ) -> Result<HistoryEntry, Error> {
        Ok(HistoryEntry {
            reasons: self.reasons,
            replaced_by: self.replaced_by,
            packages: self.packages.iter().map(Package::spelled).collect(),
            ..HistoryEntry::new(
                environment.now()?,
                environment.command_id()?,
                self.operation,
                install.record.contents.clone(),
            )
        })
    }
}

/// Everything that was done, oldest first, with what commands that were cut off did and did not write down.
pub fn read(environment: &Environment) -> Result<Lines<HistoryEntry>, Error> {
    let layout = environment.layout()?;
    let mut lines =
        journal::history(&layout).map_err(file_error(&layout.history(), FileAction::Read))?;
    let committed =
        recovery::committed(&layout).map_err(file_error(layout.data(), FileAction::Read))?;
    for entry in committed {
        if !lines.entries.iter().any(|other| other.id == entry.id) {
            lines.entries.push(entry);
        }
    }
    journal::order(&mut lines.entries);
    Ok(lines)
}

/// What is in the history of one runtime, or of all, newest first, each entry with its runtime where
/// that is still known.
pub struct History<'c> {
    /// The entries.
    pub entries: Vec<HistoryEntry>,
    /// The file that they stand in.
    pub file: PathBuf,
    /// The numbers of its lines that are not understood.
    pub not_understood: Vec<usize>,
    runtimes: Vec<Runtime<'c>>,
}

impl<'c> History<'c> {
    /// Reads the history; of this runtime alone where one is named.
    pub fn of(environment: &'c Environment, runtime: Option<&str>) -> Result<History<'c>, Error> {
        let layout = environment.layout()?;
        let Lines {
            mut entries,
            not_understood,
        } = read(environment)?;
        if let Some(name) = runtime {
            let runtime = Runtime::named(environment, Some(name))?;
            let name = runtime.name();
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
        Ok(History {
            entries,
            file: layout.history(),
            not_understood,
            runtimes,
        })
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
        runtime.is_some_and(|runtime| runtime.snapshot.picked(&pick).is_some())
    }
}
