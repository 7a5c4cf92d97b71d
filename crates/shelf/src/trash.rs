//! The trash: installs that were removed and can come back at once, each as it stood on the shelf, with the line of the
//! history that tells of its removal beside it.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use vshelf_core::Key;
use vshelf_files::freed::Freed;
use vshelf_files::tree::{bytes_in, remove_tree, remove_tree_telling};
use vshelf_files::{optional, system};

use crate::journal::{HistoryEntry, append_history};
use crate::layout::Layout;
use crate::store::{Shelf, ShelfError, failed};
use crate::unfinished::{build_in, forget_leaving, leaving};

/// Where an install goes that is removed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It is deleted.
    Deleted,
    /// It goes into the trash, and is deleted where it cannot.
    Trashed,
}

/// An install in the trash.
#[derive(Debug)]
pub struct Trashed {
    /// The runtime.
    pub runtime: String,
    /// Its key.
    pub key: Key,
    /// What the history says of its removal; nothing where that cannot be read.
    pub entry: Option<HistoryEntry>,
    folder: PathBuf,
}

impl Trashed {
    /// When it was removed; where nobody knows, long ago.
    pub fn since(&self) -> Timestamp {
        self.entry.as_ref().map_or(Timestamp::MIN, |entry| entry.at)
    }

    /// The bytes of its files as they were counted when it was installed.
    pub fn unpacked_size(&self) -> u64 {
        let entry = self.entry.as_ref();
        entry.map_or(0, |entry| entry.record.unpacked_size)
    }

    /// The bytes that it takes on the disk.
    pub fn bytes(&self) -> io::Result<u64> {
        bytes_in(&self.folder)
    }

    /// Where it stands.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Deletes it, tells `freed` as that goes on, and says how many bytes it freed.
    pub fn delete(self, freed: &Freed) -> io::Result<u64> {
        remove_tree_telling(&self.folder, freed).whole()
    }
}

/// What is in the trash, removed last first.
pub fn in_trash(layout: &Layout) -> io::Result<Vec<Trashed>> {
    let trash = layout.trash();
    let mut found = Vec::new();
    for runtime in optional::names(&trash)? {
        let names = optional::names(&trash.join(&runtime))?;
        let keys = names.iter().filter_map(|name| name.parse().ok());
        found.extend(keys.map(|key| trashed(layout, &runtime, key)));
    }
    found.sort_by_key(|trashed| std::cmp::Reverse(trashed.since()));
    Ok(found)
}

/// What is in the trash under a key, if anything is.
fn trashed(layout: &Layout, runtime: &str, key: Key) -> Trashed {
    let folder = layout.trash().join(runtime).join(key.as_str());
    Trashed {
        runtime: runtime.to_owned(),
        key,
        entry: leaving(&folder).unwrap_or_default(),
        folder,
    }
}

/// Moves an install that is being removed from its stage into the trash, where it takes the place of an older one with
/// its key. It is not moved without the line that tells of its removal, nor where it is a link to a folder elsewhere.
pub(crate) fn accept(layout: &Layout, runtime: &str, key: &Key, stage: &Path) -> io::Result<Fate> {
    if leaving(stage)?.is_none() || build_in(stage).is_symlink() {
        return Ok(Fate::Deleted);
    }
    let runtime = layout.trash().join(runtime);
    let folder = runtime.join(key.as_str());
    remove_tree(&folder).whole()?;
    fs::create_dir_all(runtime)?;
    fs::rename(stage, folder)?;
    Ok(Fate::Trashed)
}

impl Shelf {
    /// What is in the trash of this removal.
    pub fn trashed_by(&self, removal: &HistoryEntry) -> Option<Trashed> {
        let trashed = trashed(&self.layout, &self.runtime, removal.key.clone());
        (trashed.entry.as_ref() == Some(removal)).then_some(trashed)
    }

    /// Puts an install from the trash back where it stood, of which the history is to have this entry. Says whether it
    /// did: not where another stands there by now.
    pub fn take_back(&self, trashed: &Trashed, entry: &HistoryEntry) -> Result<bool, ShelfError> {
        let _lock = self.lock(&trashed.key, &mut |_| {})?;
        let place = self.place(&trashed.key);
        if place.symlink_metadata().is_ok() {
            return Ok(false);
        }
        let installs = self.installs_folder();
        fs::create_dir_all(&installs).map_err(failed("written", &installs))?;
        fs::rename(&trashed.folder, &place).map_err(failed("moved back", &trashed.folder))?;
        system::sync_folder(&installs).map_err(failed("written", &installs))?;
        forget_leaving(&place).map_err(failed("changed", &place))?;
        let history = self.layout.history();
        append_history(&self.layout, entry).map_err(failed("written", &history))?;
        Ok(true)
    }
}
