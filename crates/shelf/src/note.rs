//! Intent notes: what a command is about to do with an install, written into its folder before the rename
//! that does it.
//!
//! The rename is the commit point. Whether it happened shows in where the folder lies, so that whoever
//! takes the key's lock next knows whether to complete the work or to discard the note:
//!
//! | intent | on the shelf | in the trash |
//! |---|---|---|
//! | arriving | committed: complete | was never on the shelf: delete |
//! | leaving, leaving for good | nothing happened: discard | committed: complete |
//! | replacing | nothing happened: discard | committed: put back if nothing is on the shelf, else delete |
//! | returning | committed: complete | nothing happened: discard |

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use vshelf_core::Key;
use vshelf_files::{optional, system};

use crate::journal::HistoryEntry;
use crate::state::State;

/// The note of what is under way.
const NOTE: &str = "note.json";

/// The note of a completed removal, which stays with the entry in the trash.
const REMOVED: &str = "removed.json";

/// The move of an install that a command is about to make.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Intent {
    /// Stage to shelf.
    Arriving,
    /// Shelf to trash.
    Leaving,
    /// Shelf to trash, and deleted from there.
    LeavingForGood,
    /// Shelf to trash, because another build of the same key takes its place.
    Replacing,
    /// Trash to shelf.
    Returning,
}

/// An intent note.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Note {
    pub(crate) intent: Intent,
    /// The entry that the history gets on completion.
    pub(crate) entry: HistoryEntry,
    /// What pointed at the install; `None` if nobody noted it.
    #[serde(default)]
    pub(crate) pointers: Option<Pointers>,
}

/// What pointed at an install before it was removed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Pointers {
    /// The selector that it was the default as.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) default: Option<String>,
    /// Whether a former version left it alone in clean-ups.
    #[serde(default, skip_serializing)]
    pub(crate) kept: bool,
    /// The unfinished renewals from or to it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) renewals: Vec<(Key, Key)>,
    /// When it was last used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) last_use: Option<Timestamp>,
}

impl Pointers {
    /// What of `state` is about `key`; `default_key` is the install that the default's link leads to.
    pub(crate) fn to(
        key: &Key,
        state: &State,
        default_key: Option<&Key>,
        last_use: Option<Timestamp>,
    ) -> Pointers {
        let default = (default_key == Some(key)).then(|| state.default_selector(key));
        let renewals = state.renewals.iter();
        Pointers {
            default,
            kept: false,
            renewals: renewals
                .filter(|(from, to)| *from == key || *to == key)
                .map(|(from, to)| (from.clone(), to.clone()))
                .collect(),
            last_use,
        }
    }
}

impl Note {
    /// The pending note in a folder: `None` if there is none or it is not readable. A note is on the disk
    /// before anything is renamed, so that a damaged one announces nothing that happened.
    pub(crate) fn pending(folder: &Path) -> io::Result<Option<Note>> {
        read(&folder.join(NOTE))
    }

    /// The note of the completed removal of an entry in the trash.
    pub(crate) fn of_removal(folder: &Path) -> io::Result<Option<Note>> {
        read(&folder.join(REMOVED))
    }

    /// Writes the note into a folder, to the disk.
    pub(crate) fn write(&self, folder: &Path) -> io::Result<()> {
        let path = folder.join(NOTE);
        let written = File::create(&path).and_then(|mut file| {
            file.write_all(&serde_json::to_vec(self)?)?;
            file.sync_all()
        });
        match written {
            Ok(()) => system::sync_folder(folder),
            Err(error) => {
                // Half a note says nothing, and takes space.
                discard(folder).unwrap_or_default();
                Err(error)
            }
        }
    }

    /// Writes the note into the folder of an install that nobody sees yet.
    pub(crate) fn write_unseen(&self, folder: &Path) -> io::Result<()> {
        std::fs::write(folder.join(NOTE), serde_json::to_vec(self)?)
    }
}

/// Whether a folder has a pending note, readable or not.
pub(crate) fn is_pending(folder: &Path) -> bool {
    folder.join(NOTE).symlink_metadata().is_ok()
}

/// Whether an entry in the trash has the note of its completed removal, readable or not.
pub(crate) fn is_removed(folder: &Path) -> bool {
    folder.join(REMOVED).symlink_metadata().is_ok()
}

/// Removes the pending note.
pub(crate) fn discard(folder: &Path) -> io::Result<()> {
    optional::remove(&folder.join(NOTE)).map(drop)
}

/// Marks a removal as completed.
pub(crate) fn conclude_removal(folder: &Path, note: &Note) -> io::Result<()> {
    if is_pending(folder) {
        return std::fs::rename(folder.join(NOTE), folder.join(REMOVED));
    }
    vshelf_files::atomic::write_file(&folder.join(REMOVED), &serde_json::to_vec(note)?)
}

/// Removes the note of the removal, of an install that is back.
pub(crate) fn forget_removal(folder: &Path) -> io::Result<()> {
    optional::remove(&folder.join(REMOVED)).map(drop)
}

fn read(path: &Path) -> io::Result<Option<Note>> {
    let text = optional::read(path)?;
    Ok(text.and_then(|text| serde_json::from_slice(&text).ok()))
}
