//! Completing what an intent note announced, or discarding the note if the rename never happened.
//!
//! Every step is idempotent and changes a value only if it is still what the note says, so that a
//! command which is cut off in the middle can be completed by the next one.

use std::fs;
use std::io;
use std::path::Path;

use vshelf_core::Key;
use vshelf_files::action::FileAction;
use vshelf_files::freed::Freed;
use vshelf_files::{optional, system};

use crate::arrival::{Leave, Returned};
use crate::entry_name::EntryName;
use crate::journal::{HistoryEntry, Operation, append_history};
use crate::note::{self, Intent, Note, Pointers};
use crate::record::Record;
use crate::store::{RECORD, Shelf, ShelfError, failed};
use crate::trash;

impl Shelf {
    /// Completes or discards what was announced of an install on the shelf, if anything was. The caller
    /// holds the key's lock.
    pub(crate) fn settle(&self, key: &Key) -> Result<(), ShelfError> {
        let place = self.place(key);
        if !note::is_pending(&place) {
            return Ok(());
        }
        let pending = Note::pending(&place).map_err(failed(FileAction::Read, &place))?;
        tracing::debug!(
            place = %place.display(),
            intent = ?pending.as_ref().map(|note| note.intent),
            "settling an install"
        );
        if let Some(pending) = pending {
            self.complete_on_shelf(key, &pending)?;
        }
        note::discard(&place).map_err(failed(FileAction::Change, &place))
    }

    /// Does what follows from an arrival or a return.
    fn complete_on_shelf(&self, key: &Key, note: &Note) -> Result<(), ShelfError> {
        match note.intent {
            Intent::Leaving | Intent::LeavingForGood | Intent::Replacing => return Ok(()),
            Intent::Arriving => {}
            Intent::Returning => {
                self.give_back(key, note.pointers.as_ref())?;
                let place = self.place(key);
                note::forget_removal(&place).map_err(failed(FileAction::Change, &place))?;
            }
        }
        self.write_history(&note.entry)
    }

    /// Points at an install again what pointed at it when it was removed: the default only if there is
    /// none now.
    fn give_back(&self, key: &Key, pointers: Option<&Pointers>) -> Result<(), ShelfError> {
        let Some(pointers) = pointers else {
            return Ok(());
        };
        if let Some(time) = pointers.last_use {
            // Only a clean-up asks for it, which sees whether it can be noted.
            self.note_use(key, time).unwrap_or_default();
        }
        if pointers.kept {
            self.change_state(|state| state.label_kept(key))?;
        }
        if let Some(selector) = &pointers.default
            && self.default_choice(&self.state()?).is_none()
        {
            self.point_default_at(key, selector)?;
        }
        Ok(())
    }

    /// Completes or discards what was announced of an entry in the trash, and names the removal of one
    /// without a note. The caller holds the key's lock.
    pub(crate) fn settle_entry(&self, name: &EntryName) -> Result<(), ShelfError> {
        let folder = self.layout.trash_entry(&self.runtime, name);
        let read = || failed(FileAction::Read, &folder);
        if !note::is_pending(&folder) {
            if note::is_removed(&folder) {
                return Ok(());
            }
            // Written on a full disk: only the entry itself tells what was removed.
            return match without_note(&folder, name).map_err(read())? {
                Some(note) => self.complete_removal(name, &note),
                None => Ok(()),
            };
        }
        let Some(pending) = Note::pending(&folder).map_err(read())? else {
            return note::discard(&folder).map_err(failed(FileAction::Change, &folder));
        };
        tracing::debug!(
            entry = %folder.display(),
            intent = ?pending.intent,
            "settling an entry in the trash"
        );
        match pending.intent {
            Intent::Arriving => self.delete_entry(name),
            Intent::Returning => {
                note::discard(&folder).map_err(failed(FileAction::Change, &folder))
            }
            Intent::Leaving | Intent::LeavingForGood => self.complete_removal(name, &pending),
            Intent::Replacing => self.complete_replacement(name),
        }
    }

    /// Settles the entries of a key whose work is under way. The caller holds the key's lock.
    pub(crate) fn settle_entries_of(&self, key: &Key) -> Result<(), ShelfError> {
        let folder = self.layout.trash().join(&self.runtime);
        let names = trash::entry_names_of(&self.layout, &self.runtime);
        let names = names
            .map_err(failed(FileAction::Read, &folder))?
            .into_iter();
        for name in names.filter(|name| name.key == *key) {
            if note::is_pending(&self.layout.trash_entry(&self.runtime, &name)) {
                self.settle_entry(&name)?;
            }
        }
        Ok(())
    }

    /// Does what follows from a removal: nothing points at the install any more, the history says so.
    pub(crate) fn complete_removal(&self, name: &EntryName, note: &Note) -> Result<(), ShelfError> {
        self.release(&name.key, note)?;
        if note.intent == Intent::LeavingForGood {
            return self.delete_entry(name);
        }
        let folder = self.layout.trash_entry(&self.runtime, name);
        note::conclude_removal(&folder, note).map_err(failed(FileAction::Write, &folder))
    }

    /// Takes out of the shelf's files what points at a removed install, and writes the history.
    pub(crate) fn release(&self, key: &Key, note: &Note) -> Result<(), ShelfError> {
        // It may have been installed again meanwhile, and be the default again.
        if self.place(key).symlink_metadata().is_err() {
            self.forget(key, note.pointers.as_ref())?;
            let last_use = self.layout.last_use(&self.runtime, key);
            optional::remove(&last_use).map_err(failed(FileAction::Remove, &last_use))?;
        }
        self.write_history(&note.entry)
    }

    /// Puts an install back whose successor did not come, or deletes it.
    fn complete_replacement(&self, name: &EntryName) -> Result<(), ShelfError> {
        let folder = self.layout.trash_entry(&self.runtime, name);
        let place = self.place(&name.key);
        if place.symlink_metadata().is_ok() {
            return self.delete_entry(name);
        }
        self.put_back(&folder, &name.key)
    }

    /// Moves an install back whose removal or replacement did not come about, and discards the note.
    pub(crate) fn put_back(&self, folder: &Path, key: &Key) -> Result<(), ShelfError> {
        let place = self.place(key);
        let leave = Leave::Returned(Returned::by_recovery());
        (leave.rename(folder, &place)).map_err(failed(FileAction::MoveBack, folder))?;
        note::discard(&place).map_err(failed(FileAction::Change, &place))
    }

    /// Deletes an entry in the trash.
    fn delete_entry(&self, name: &EntryName) -> Result<(), ShelfError> {
        let folder = self.layout.trash_entry(&self.runtime, name);
        let deleted = trash::delete_folder(&self.layout, &folder, &Freed::default());
        deleted
            .map(drop)
            .map_err(failed(FileAction::Delete, &folder))
    }

    /// Takes out of the state what is as the note says, and the links to the install.
    fn forget(&self, key: &Key, pointers: Option<&Pointers>) -> Result<(), ShelfError> {
        let _lock = self.lock_state()?;
        let before = self.state()?;
        let mut state = before.clone();
        let leads_to_it = self.key_of_link().as_ref() == Some(key);
        if leads_to_it {
            state.without_link = None;
        }
        state.defaults.remove(key);
        state.renewals.retain(|from, to| {
            let is_about_it = from == key || to == key;
            let is_noted = pointers.is_none_or(|pointers| {
                let mut noted = pointers.renewals.iter();
                noted.any(|(noted_from, noted_to)| (noted_from, noted_to) == (from, to))
            });
            !(is_about_it && is_noted)
        });
        if state != before {
            state.write(&self.layout.state(&self.runtime))?;
        }
        if leads_to_it {
            self.point_default(None)?;
        }
        let installs = self.installs_folder();
        remove_former_names(&installs, key).map_err(failed(FileAction::Change, &installs))
    }

    pub(crate) fn write_history(&self, entry: &HistoryEntry) -> Result<(), ShelfError> {
        let history = self.layout.history();
        append_history(&self.layout, entry).map_err(failed(FileAction::Write, &history))
    }
}

/// The note that an entry without one would have, from its record: `None` if that is not readable either.
fn without_note(folder: &Path, name: &EntryName) -> io::Result<Option<Note>> {
    let Ok(record) = Record::read(&folder.join(RECORD), &name.key) else {
        return Ok(None);
    };
    let command = name.to_string();
    let entry = HistoryEntry::new(name.at, command, Operation::Removed, record.contents);
    Ok(Some(Note {
        intent: Intent::Leaving,
        entry,
        pointers: None,
    }))
}

/// Removes the links that stand for an install under the names that layout 3 gave it.
fn remove_former_names(installs: &Path, key: &Key) -> io::Result<()> {
    for name in optional::names(installs)? {
        let link = installs.join(name);
        if fs::read_link(&link).is_ok_and(|target| target == Path::new(key.as_str())) {
            optional::remove(&link)?;
        }
    }
    system::sync_folder(installs)
}
