//! Folders for installs that are not on the shelf yet.
//!
//! Each such folder has a lock file beside it, held by the process that works in it. One whose lock
//! is free belongs to a process that died, and is deleted by the next command that changes the shelf.
//! Nothing that was ever on the shelf is put here.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_files::lock::Lock;
use vshelf_files::optional;
use vshelf_files::tree::remove_tree;

use crate::random::random_name;

const LOCK: &str = "lock";

/// The most names that are tried for a stage.
const MOST_ATTEMPTS: usize = 100;

/// One folder under way; dropped before it is done, it is deleted.
#[derive(Debug)]
pub struct Stage {
    folder: PathBuf,
    lock_path: PathBuf,
    lock: Option<Lock>,
}

impl Stage {
    /// A new folder below `staging`, named after `purpose` and a random number, because another machine
    /// that shares the home has processes with the same ids.
    pub fn begin(staging: &Path, purpose: &str) -> io::Result<Stage> {
        // A command that looks for abandoned stages can hold a lock file before its maker does.
        for _ in 0..MOST_ATTEMPTS {
            let name = format!("{purpose}.{}", random_name(8));
            let lock_path = staging.join(format!("{name}.{LOCK}"));
            let folder = staging.join(name);
            let lock = Lock::try_acquire(&lock_path)?;
            if lock.is_some() {
                fs::create_dir(&folder)?;
                return Ok(Stage {
                    folder,
                    lock_path,
                    lock,
                });
            }
        }
        Err(io::ErrorKind::ResourceBusy.into())
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.folder
    }
}

impl Drop for Stage {
    fn drop(&mut self) {
        // Whatever cannot be deleted now is swept by a later command.
        if self.lock.is_some() && remove_tree(&self.folder).left.is_none() {
            fs::remove_file(&self.lock_path).unwrap_or_default();
        }
    }
}

/// The stage of a process that died: nobody else can work in it while this is there.
#[derive(Debug)]
pub(crate) struct AbandonedStage {
    pub(crate) folder: PathBuf,
    lock_path: PathBuf,
    _lock: Lock,
}

impl AbandonedStage {
    /// Ends it, once its folder is gone.
    pub(crate) fn end(self) -> io::Result<()> {
        optional::remove(&self.lock_path).map(drop)
    }
}

/// What processes that died left below a folder of stages.
pub(crate) struct Abandoned {
    /// Their stages.
    pub(crate) stages: Vec<AbandonedStage>,
    /// The locks that cannot be looked at, and why.
    pub(crate) locked_out: Vec<(PathBuf, io::Error)>,
}

/// Takes over the stages below `staging` in which processes died.
pub(crate) fn abandoned(staging: &Path) -> io::Result<Abandoned> {
    let mut found = Abandoned {
        stages: Vec::new(),
        locked_out: Vec::new(),
    };
    for entry in optional::entries(staging)? {
        let path = entry.path();
        let is_lock = path.extension().is_some_and(|extension| extension == LOCK);
        let lock_path = match is_lock {
            true => path,
            // A folder without a lock was left by a program that did not know better.
            false => {
                let mut name = path.into_os_string();
                name.push(".");
                name.push(LOCK);
                let lock_path = PathBuf::from(name);
                if lock_path.exists() {
                    continue;
                }
                lock_path
            }
        };
        match Lock::try_acquire(&lock_path) {
            Ok(Some(lock)) => found.stages.push(AbandonedStage {
                folder: lock_path.with_extension(""),
                lock_path,
                _lock: lock,
            }),
            Ok(None) => {}
            Err(error) => found.locked_out.push((lock_path, error)),
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicBool, Ordering};
    use std::thread;

    #[test]
    fn a_stage_begins_while_others_look_for_abandoned_ones() {
        let staging = tempfile::tempdir().unwrap();
        let is_done = AtomicBool::new(false);
        thread::scope(|scope| {
            scope.spawn(|| {
                while !is_done.load(Ordering::Relaxed) {
                    let found = abandoned(staging.path()).unwrap();
                    found
                        .stages
                        .into_iter()
                        .for_each(|stage| stage.end().unwrap());
                }
            });
            let begun = (0..1000).try_for_each(|_| Stage::begin(staging.path(), "8.3.1").map(drop));
            is_done.store(true, Ordering::Relaxed);
            begun.unwrap();
        });
    }
}
