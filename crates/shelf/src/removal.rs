//! Removing an install: one rename into the trash, before which nothing visible changes and after which the
//! removal is only ever completed.

use std::fs;
use std::io;
use std::path::Path;

use vshelf_core::Key;
use vshelf_files::action::FileAction;
use vshelf_files::freed::Freed;
use vshelf_files::system::{self, is_mounted_within, mounted};

use crate::entry_name::EntryName;
use crate::journal::{HistoryEntry, Outcome};
use crate::note::{self, Intent, Note, Pointers};
use crate::processes::{Process, ProcessTable};
use crate::state::StateError;
use crate::store::{Shelf, ShelfError, build_in, failed};
use crate::trash::{self, Fate, Running};

/// The outcome of a removal.
#[derive(Debug)]
pub enum Removal {
    /// It is removed.
    Done {
        /// Whether it is in the trash.
        fate: Fate,
        /// The bytes that were freed.
        freed: u64,
        /// The steps that failed: the next command that changes the shelf completes them.
        failures: Vec<ShelfError>,
    },
    /// It stays where it was, because this process runs from it.
    Spared(Process),
}

impl Shelf {
    /// Removes the install with this key, of which the history gets this entry. What deleting frees is added
    /// to `freed` as it goes. Of an adopted folder only the link is removed.
    pub fn remove(
        &self,
        key: &Key,
        (running, fate): (Running, Fate),
        entry: &HistoryEntry,
        freed: &Freed,
    ) -> Result<Removal, ShelfError> {
        self.layout.claim()?;
        let _lock = self.lock(key, &mut |_| {})?;
        self.settle(key)?;
        let place = self.place(key);
        self.check_movable(&place)?;
        if let Some(process) = user_of(&place, running)? {
            return Ok(Removal::Spared(process));
        }
        let note = self.note_removal(key, fate, entry)?;
        let name = EntryName::new(key, entry.at);
        let folder = self.layout.trash_entry(&self.runtime, &name);
        if let Err(error) = self.retire(key, &folder) {
            // The next command that changes the install discards it.
            note::discard(&place).unwrap_or_default();
            self.give_up(entry, &error);
            return Err(error);
        }
        // A program that was started after the first look keeps running from its old place.
        match user_of(&folder, running) {
            Ok(None) => {}
            found => {
                self.put_back(&folder, key)?;
                let process = found?.expect("there is none only if nothing was found");
                return Ok(Removal::Spared(process));
            }
        }
        let (bytes, failure) = match fate {
            Fate::Trashed => (Ok(0), self.complete_removal(&name, &note)),
            Fate::Deleted => self.delete_retired(&name, &note, freed),
        };
        let mut failures: Vec<ShelfError> = failure.err().into_iter().collect();
        let freed = bytes.unwrap_or_else(|error| {
            failures.push(error);
            0
        });
        Ok(Removal::Done {
            fate,
            freed,
            failures,
        })
    }

    /// Completes a removal for good: the bytes that were freed, and what is left to do.
    fn delete_retired(
        &self,
        name: &EntryName,
        note: &Note,
        freed: &Freed,
    ) -> (Result<u64, ShelfError>, Result<(), ShelfError>) {
        let released = self.release(&name.key, note);
        // On a full disk, deleting makes the room for what has to be written. Any other failure leaves the
        // entry to the next command, because it alone tells what was removed.
        let is_full = released.as_ref().is_err_and(is_full);
        if released.is_err() && !is_full {
            return (Ok(0), released);
        }
        let folder = self.layout.trash_entry(&self.runtime, name);
        let deleted = trash::delete_folder(&self.layout, &folder, freed);
        let released = if is_full {
            self.release(&name.key, note)
        } else {
            released
        };
        (
            deleted.map_err(failed(FileAction::Delete, &folder)),
            released,
        )
    }

    /// Fails if an install cannot leave its place in one step.
    pub(crate) fn check_movable(&self, place: &Path) -> Result<(), ShelfError> {
        match is_mounted_within(place) {
            Ok(false) => {}
            Ok(true) => return Err(failed(FileAction::Remove, &build_in(place))(mounted())),
            Err(error) => return Err(failed(FileAction::Remove, place)(error)),
        }
        // Moving a folder changes the entry for its parent in it.
        let found = fs::metadata(place).map_err(failed(FileAction::Remove, place))?;
        let bits = system::permission_bits(&found);
        if bits & 0o200 == 0 {
            let writable = system::set_permission_bits(place, bits | 0o700);
            writable.map_err(failed(FileAction::Remove, place))?;
        }
        Ok(())
    }

    /// Writes the note of a removal into the install. A full disk alone is no reason not to go on: the entry
    /// in the trash tells enough.
    fn note_removal(
        &self,
        key: &Key,
        fate: Fate,
        entry: &HistoryEntry,
    ) -> Result<Note, ShelfError> {
        let place = self.place(key);
        let last_use = self.last_uses().remove(key);
        let note = Note {
            intent: match fate {
                Fate::Trashed => Intent::Leaving,
                Fate::Deleted => Intent::LeavingForGood,
            },
            entry: entry.clone(),
            pointers: Some(Pointers::to(
                key,
                &self.state()?,
                self.key_of_link().as_ref(),
                last_use,
            )),
        };
        match note
            .write(&place)
            .map_err(failed(FileAction::Write, &place))
        {
            Err(error) if !is_full(&error) => Err(error),
            _ => Ok(note),
        }
    }

    /// Moves an install to its place in the trash: the commit point of every removal.
    pub(crate) fn retire(&self, key: &Key, folder: &Path) -> Result<(), ShelfError> {
        let place = self.place(key);
        let trash = folder.parent().unwrap_or(folder);
        fs::create_dir_all(trash).map_err(failed(FileAction::Write, trash))?;
        fs::rename(&place, folder).map_err(|error| match error.kind() {
            io::ErrorKind::CrossesDevices => ShelfError::OtherDisk {
                path: place.clone(),
            },
            _ => failed(FileAction::MoveToTrash, &place)(error),
        })?;
        let installs = self.installs_folder();
        for changed in [installs.as_path(), trash] {
            system::sync_folder(changed).map_err(failed(FileAction::Sync, changed))?;
        }
        Ok(())
    }

    /// Writes into the history why a removal was not done.
    fn give_up(&self, entry: &HistoryEntry, error: &ShelfError) {
        let problem =
            std::error::Error::source(error).map_or_else(|| error.to_string(), ToString::to_string);
        let given_up = HistoryEntry {
            outcome: Outcome::GivenUp,
            problem: Some(problem),
            ..entry.clone()
        };
        // Nothing was done that the history would have to tell; the error itself is shown anyway.
        self.write_history(&given_up).unwrap_or_default();
    }
}

/// The process that keeps an install from being removed. A process table that cannot be read is an error.
fn user_of(install: &Path, running: Running) -> Result<Option<Process>, ShelfError> {
    let build = build_in(install);
    // What runs from an adopted folder goes on running from there.
    if running == Running::Ignored || build.is_symlink() {
        return Ok(None);
    }
    let table = ProcessTable::read().map_err(failed(FileAction::CheckUnused, &build))?;
    Ok(table.below(&build).into_iter().next())
}

/// Whether something failed for want of space.
fn is_full(error: &ShelfError) -> bool {
    let (ShelfError::File { source, .. } | ShelfError::State(StateError::File { source, .. })) =
        error
    else {
        return false;
    };
    matches!(
        source.kind(),
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded
    )
}
