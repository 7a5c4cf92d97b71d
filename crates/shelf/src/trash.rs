//! The trash: removed installs as they were on the shelf, until age, size or a full disk delete them.
//!
//! An entry is one folder, `<trash>/<runtime>/<key>=<time>-<random>`. Its name is never used again, so that a
//! removal never meets an older entry. Deleting one begins with a rename into `.deleting`, and putting one back
//! with a rename onto the shelf: of two commands that want the same entry, one finds nothing.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use vshelf_core::Key;
use vshelf_core::admission::Admitted;
use vshelf_files::action::FileAction;
use vshelf_files::freed::Freed;
use vshelf_files::tree::{bytes_in, remove_tree_telling};
use vshelf_files::{optional, system};

use crate::arrival::Leave;
use crate::entry_name::EntryName;
use crate::journal::HistoryEntry;
use crate::layout::Layout;
use crate::note::{self, Intent, Note};
use crate::processes::{Process, ProcessTable};
use crate::random::random_name;
use crate::record::Record;
use crate::store::{RECORD, Shelf, ShelfError, build_in, failed};

/// What becomes of an install that a process runs from, when it is to be removed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Running {
    /// It stays.
    Spared,
    /// It goes anyway.
    Ignored,
}

/// The destination of a removed install.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It is deleted.
    Deleted,
    /// It stays in the trash.
    Trashed,
}

/// An entry in the trash.
#[derive(Debug)]
pub struct Trashed {
    /// The runtime.
    pub runtime: String,
    /// The key of the install.
    pub key: Key,
    /// The history entry of its removal: `None` if that is not readable.
    pub entry: Option<HistoryEntry>,
    /// Whether its removal is completed. One that is not is not deleted.
    is_complete: bool,
    unpacked_size: u64,
    name: EntryName,
    folder: PathBuf,
    layout: Layout,
}

impl Trashed {
    fn read(layout: &Layout, runtime: &str, name: EntryName) -> io::Result<Trashed> {
        let folder = layout.trash_entry(runtime, &name);
        let removal = Note::of_removal(&folder)?;
        let is_complete = removal.is_some() && !note::is_pending(&folder);
        let record = Record::read(&folder.join(RECORD), &name.key);
        Ok(Trashed {
            runtime: runtime.to_owned(),
            key: name.key.clone(),
            entry: removal.map(|note| note.entry),
            is_complete,
            unpacked_size: record.map_or(0, |record| record.contents.unpacked_size),
            name,
            folder,
            layout: layout.clone(),
        })
    }

    /// When it was removed: `None` as long as its removal is not completed.
    pub fn since(&self) -> Option<Timestamp> {
        let entry = self.entry.as_ref().filter(|_| self.is_complete);
        entry.map(|entry| entry.at)
    }

    /// The bytes of its files as they were counted when it was installed.
    pub fn unpacked_size(&self) -> u64 {
        self.unpacked_size
    }

    /// The bytes that it takes on the disk.
    pub fn bytes(&self) -> io::Result<u64> {
        bytes_in(&self.folder)
    }

    /// Its folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The process that runs from it. A process table that cannot be read is an error.
    pub fn user(&self) -> io::Result<Option<Process>> {
        let build = build_in(&self.folder);
        if build.is_symlink() {
            return Ok(None);
        }
        Ok(ProcessTable::read()?.below(&build).into_iter().next())
    }

    /// Deletes it and returns the bytes freed, which are added to `freed` as it goes. One that a process runs
    /// from stays if that is to be spared.
    pub fn delete(self, running: Running, freed: &Freed) -> io::Result<u64> {
        if running == Running::Spared
            && let Some(process) = self.user()?
        {
            let text = format!("{} runs from it ({})", process.program, process.id);
            return Err(io::Error::new(io::ErrorKind::ResourceBusy, text));
        }
        delete_folder(&self.layout, &self.folder, freed)
    }
}

/// Everything in the trash, last removed first.
pub fn in_trash(layout: &Layout) -> io::Result<Vec<Trashed>> {
    let mut found = Vec::new();
    for (runtime, name) in entry_names(layout)? {
        found.push(Trashed::read(layout, &runtime, name)?);
    }
    found.sort_by_key(|trashed| std::cmp::Reverse(trashed.name.at));
    Ok(found)
}

/// The names of all entries with their runtimes.
pub(crate) fn entry_names(layout: &Layout) -> io::Result<Vec<(String, EntryName)>> {
    let trash = layout.trash();
    let mut found = Vec::new();
    for runtime in optional::names(&trash)? {
        // `.deleting` holds folders that are no longer entries.
        if runtime.starts_with('.') {
            continue;
        }
        let names = entry_names_of(layout, &runtime)?.into_iter();
        found.extend(names.map(|name| (runtime.clone(), name)));
    }
    Ok(found)
}

/// The names of the entries of one runtime.
pub(crate) fn entry_names_of(layout: &Layout, runtime: &str) -> io::Result<Vec<EntryName>> {
    let names = optional::names(&layout.trash().join(runtime))?;
    Ok(names.iter().filter_map(|name| name.parse().ok()).collect())
}

/// Deletes a folder below the data folder and returns the bytes freed: first it is renamed away, so that nobody
/// takes half of it for the whole.
pub(crate) fn delete_folder(layout: &Layout, folder: &Path, freed: &Freed) -> io::Result<u64> {
    let deleting = layout.deleting();
    fs::create_dir_all(&deleting)?;
    let doomed = deleting.join(random_name(8));
    fs::rename(folder, &doomed)?;
    remove_tree_telling(&doomed, freed).whole()
}

impl Shelf {
    /// The entry in the trash of a removal.
    pub fn trashed_by(&self, removal: &HistoryEntry) -> Result<Option<Trashed>, ShelfError> {
        let folder = self.layout.trash().join(&self.runtime);
        let names = entry_names_of(&self.layout, &self.runtime);
        let names = names
            .map_err(failed(FileAction::Read, &folder))?
            .into_iter();
        for name in names.filter(|name| name.key == removal.key) {
            let trashed = Trashed::read(&self.layout, &self.runtime, name);
            let trashed = trashed.map_err(failed(FileAction::Read, &folder))?;
            if trashed.entry.as_ref() == Some(removal) {
                return Ok(Some(trashed));
            }
        }
        Ok(None)
    }

    /// Puts an entry from the trash back on the shelf, of which the history gets `entry`. Returns whether it
    /// did: not if its key is on the shelf by now, or if the entry is gone.
    pub fn take_back(
        &self,
        admitted: &Admitted,
        trashed: &Trashed,
        entry: &HistoryEntry,
    ) -> Result<bool, ShelfError> {
        let _lock = self.lock(&trashed.key, &mut |_| {})?;
        self.settle(&trashed.key)?;
        let (folder, place) = (&trashed.folder, self.place(&trashed.key));
        if place.symlink_metadata().is_ok() {
            return Ok(false);
        }
        let removal = match Note::of_removal(folder) {
            Ok(None) => return Ok(false),
            removal => removal.map_err(failed(FileAction::Read, folder))?,
        };
        let returning = Note {
            intent: Intent::Returning,
            entry: entry.clone(),
            pointers: removal.and_then(|note| note.pointers),
        };
        let installs = self.installs_folder();
        fs::create_dir_all(&installs).map_err(failed(FileAction::Write, &installs))?;
        returning
            .write(folder)
            .map_err(failed(FileAction::Write, folder))?;
        // The commit point of a return. A clean-up may have deleted the entry meanwhile.
        match Leave::Admitted(admitted).rename(folder, &place) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(false),
            moved => moved.map_err(failed(FileAction::MoveBack, folder))?,
        }
        for changed in [Some(installs.as_path()), folder.parent()]
            .into_iter()
            .flatten()
        {
            system::sync_folder(changed).map_err(failed(FileAction::Sync, changed))?;
        }
        self.settle(&trashed.key)?;
        Ok(true)
    }
}
