//! Recovering from commands that died: stages that nobody works in are deleted, intent notes are completed or
//! discarded, deleting goes on.
//!
//! Every command that changes the shelf begins with it, before it takes a key lock itself: no process
//! holds two. The work of running commands is left alone.

use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::Key;
use vshelf_files::action::FileAction;
use vshelf_files::freed::Freed;
use vshelf_files::lock::Lock;
use vshelf_files::system::is_mounted_within;
use vshelf_files::tree::remove_tree_telling;
use vshelf_files::{atomic, optional};

use crate::journal::HistoryEntry;
use crate::layout::Layout;
use crate::note::{self, Intent, Note};
use crate::staging::{AbandonedStage, abandoned};
use crate::store::{self, Shelf, ShelfError, ShelfLock};
use crate::trash::{delete_folder, entry_names};

/// A folder that nobody needs: the stage of a command that died, or an install that is being deleted.
#[derive(Debug)]
pub struct Abandoned {
    folder: PathBuf,
    stage: Option<AbandonedStage>,
    layout: Layout,
}

/// A leftover that cannot be deleted or looked at. It does no harm.
#[derive(Debug, thiserror::Error)]
#[error("{folder} cannot be deleted")]
pub struct Stuck {
    /// Its folder, or its lock.
    pub folder: PathBuf,
    /// Why.
    #[source]
    pub source: io::Error,
}

/// The folders that nobody needs, and those that cannot be looked at.
pub fn abandoned_folders(layout: &Layout) -> io::Result<(Vec<Abandoned>, Vec<Stuck>)> {
    let stages = abandoned(&layout.staging())?;
    let mut found: Vec<Abandoned> = (stages.stages.into_iter())
        .map(|stage| Abandoned {
            folder: stage.folder.clone(),
            stage: Some(stage),
            layout: layout.clone(),
        })
        .collect();
    let deleting = layout.deleting();
    found.extend(optional::names(&deleting)?.iter().map(|name| Abandoned {
        folder: deleting.join(name),
        stage: None,
        layout: layout.clone(),
    }));
    let stuck = stages.locked_out.into_iter();
    let stuck = stuck.map(|(folder, source)| Stuck { folder, source });
    Ok((found, stuck.collect()))
}

/// Recovers what can be recovered, and returns what cannot: a checkup and a clean-up report it.
pub fn recover(layout: &Layout) -> Vec<Stuck> {
    let mut stuck = Vec::new();
    for folder in layout.of_single_files() {
        if let Err(source) = atomic::sweep(&folder) {
            stuck.push(Stuck { folder, source });
        }
    }
    match abandoned_folders(layout) {
        Ok((found, locked_out)) => {
            for abandoned in &found {
                let folder = abandoned.folder.display();
                tracing::debug!(%folder, "deleting what a command that died left behind");
            }
            stuck.extend(locked_out);
            let deleted = found
                .into_iter()
                .map(|folder| folder.delete(&Freed::default()));
            stuck.extend(deleted.filter_map(Result::err));
        }
        Err(source) => stuck.push(Stuck {
            folder: layout.staging(),
            source,
        }),
    }
    stuck.extend(settle_all(layout).into_iter().map(|(folder, error)| Stuck {
        folder,
        source: io::Error::other(error),
    }));
    stuck
}

/// Completes or discards every note that no command is working on. Returns what failed, with the folder.
fn settle_all(layout: &Layout) -> Vec<(PathBuf, ShelfError)> {
    let mut failed = Vec::new();
    for runtime in optional::names(&layout.installs()).unwrap_or_default() {
        let shelf = Shelf::of(layout, &runtime);
        let link = shelf.default_link();
        if atomic::has_abandoned_link(&link) {
            let swept = shelf.lock_state().and_then(|_lock| {
                atomic::sweep_link(&link).map_err(store::failed(FileAction::Remove, &link))
            });
            failed.extend(swept.err().map(|error| (link, error)));
        }
    }
    for (shelf, key) in noted_installs(layout).unwrap_or_default() {
        let settled = shelf.try_lock(&key).and_then(|lock| match lock {
            Some(_lock) => shelf.settle(&key),
            None => Ok(()),
        });
        failed.extend(settled.err().map(|error| (shelf.place(&key), error)));
    }
    for (runtime, name) in entry_names(layout).unwrap_or_default() {
        let folder = layout.trash_entry(&runtime, &name);
        if note::is_removed(&folder) && !note::is_pending(&folder) {
            continue;
        }
        let shelf = Shelf::of(layout, &runtime);
        let settled = shelf.try_lock(&name.key).and_then(|lock| match lock {
            Some(_lock) => shelf.settle_entry(&name),
            None => Ok(()),
        });
        failed.extend(settled.err().map(|error| (folder, error)));
    }
    failed
}

/// The installs with a pending note.
fn noted_installs(layout: &Layout) -> io::Result<Vec<(Shelf, Key)>> {
    let mut found = Vec::new();
    for runtime in optional::names(&layout.installs())? {
        let shelf = Shelf::of(layout, &runtime);
        for name in optional::names(&layout.installs_of(&runtime))? {
            let key = name.parse::<Key>().ok();
            found.extend(
                key.filter(|key| note::is_pending(&shelf.place(key)))
                    .map(|key| (shelf.clone(), key)),
            );
        }
    }
    Ok(found)
}

/// The folders of installs and of entries in the trash that a command was cut off from completing, or is
/// working on now.
pub fn pending(layout: &Layout) -> io::Result<Vec<PathBuf>> {
    let noted = noted_installs(layout)?.into_iter();
    let mut pending: Vec<PathBuf> = noted.map(|(shelf, key)| shelf.place(&key)).collect();
    let entries = entry_names(layout)?.into_iter();
    let entries = entries.map(|(runtime, name)| layout.trash_entry(&runtime, &name));
    pending.extend(entries.filter(|folder| !note::is_removed(folder) || note::is_pending(folder)));
    Ok(pending)
}

/// The entries that the history gets when committed work that was cut off is completed.
pub fn committed(layout: &Layout) -> io::Result<Vec<HistoryEntry>> {
    let mut committed = Vec::new();
    for (shelf, key) in noted_installs(layout)? {
        let note = Note::pending(&shelf.place(&key))?;
        let note = note.filter(|note| matches!(note.intent, Intent::Arriving | Intent::Returning));
        committed.extend(note.map(|note| note.entry));
    }
    for (runtime, name) in entry_names(layout)? {
        let note = Note::pending(&layout.trash_entry(&runtime, &name))?;
        let note =
            note.filter(|note| matches!(note.intent, Intent::Leaving | Intent::LeavingForGood));
        committed.extend(note.map(|note| note.entry));
    }
    Ok(committed)
}

impl Abandoned {
    /// Its folder, which may be gone.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Deletes it and returns the bytes freed, which are added to `freed` as it goes.
    pub fn delete(self, freed: &Freed) -> Result<u64, Stuck> {
        let deleted = match self.stage {
            // Its owner may live on another machine that shares the home: publishing it finds nothing then.
            Some(stage) if !is_mounted_within(&self.folder).unwrap_or(false) => {
                absent_is_done(delete_folder(&self.layout, &self.folder, freed))
                    .and_then(|bytes| stage.end().map(|()| bytes))
            }
            // A mount would move along.
            _ => remove_tree_telling(&self.folder, freed).whole(),
        };
        deleted.map_err(|source| Stuck {
            folder: self.folder,
            source,
        })
    }
}

fn absent_is_done(deleted: io::Result<u64>) -> io::Result<u64> {
    match deleted {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(0),
        deleted => deleted,
    }
}

impl Shelf {
    /// The key's lock, unless another command holds it.
    fn try_lock(&self, key: &Key) -> Result<Option<ShelfLock>, ShelfError> {
        let path = self.lock_path(key);
        let lock = Lock::try_acquire(&path).map_err(store::failed(FileAction::Lock, &path))?;
        Ok(lock.map(|lock| ShelfLock::new(lock, &self.layout)))
    }
}

#[cfg(test)]
mod tests {
    use std::time::{Duration, Instant};
    use std::{fs, thread};

    use super::*;
    use crate::folders::Folders;
    use crate::staging::Stage;
    use vshelf_files::tree::bytes_in;

    #[test]
    fn only_abandoned_stages_are_deleted() {
        let home = tempfile::tempdir().unwrap();
        let layout = Layout::of(&Folders::below(home.path()));
        let staging = layout.staging();
        assert!(recover(&layout).is_empty());
        let stage = Stage::begin(&staging, "marram-8.3.1").unwrap();
        fs::write(stage.path().join("half"), "x").unwrap();
        let dead = staging.join("marram-6.2.0.1.0");
        fs::create_dir(&dead).unwrap();
        fs::write(staging.join("marram-6.2.0.1.0.lock"), "process 1").unwrap();
        fs::write(dead.join("half"), "seven b").unwrap();
        let (found, _) = abandoned_folders(&layout).unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!(bytes_in(found[0].folder()).unwrap(), 7);
        assert!(
            abandoned_folders(&layout).unwrap().0.is_empty(),
            "it is held"
        );
        drop(found);
        // A child that another test starts holds the lock too, until it has become the other program.
        let deadline = Instant::now() + Duration::from_secs(10);
        let released = loop {
            let (found, _) = abandoned_folders(&layout).unwrap();
            if !found.is_empty() || Instant::now() > deadline {
                break found;
            }
            thread::sleep(Duration::from_millis(1));
        };
        for one in released {
            assert_eq!(one.delete(&Freed::default()).unwrap(), 7);
        }
        assert!(stage.path().join("half").exists() && !dead.exists());
        drop(stage);
        assert_eq!(fs::read_dir(&staging).unwrap().count(), 0);
    }
}
