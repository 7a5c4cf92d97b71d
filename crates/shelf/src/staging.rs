//! Folders for what is under way: installs before they are whole, installs being removed.
//!
//! Each such folder has a lock file beside it, held by the process that works in it. One whose lock
//! is free belongs to a process that died, and is swept.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_files::lock::Lock;
use vshelf_files::optional;
use vshelf_files::tree::remove_tree;

const LOCK: &str = "lock";

/// One folder under way; dropped before it is done, it is deleted.
#[derive(Debug)]
pub struct Stage {
    folder: PathBuf,
    lock_path: PathBuf,
    _lock: Lock,
}

impl Stage {
    /// A new folder below `staging`, named after `purpose`.
    pub fn begin(staging: &Path, purpose: &str) -> io::Result<Stage> {
        let mut attempt = 0;
        loop {
            let name = format!("{purpose}.{}.{attempt}", std::process::id());
            let lock_path = staging.join(format!("{name}.{LOCK}"));
            let folder = staging.join(name);
            attempt += 1;
            let Some(lock) = Lock::try_acquire(&lock_path)? else {
                continue;
            };
            match fs::create_dir(&folder) {
                Ok(()) => {
                    return Ok(Stage {
                        folder,
                        lock_path,
                        _lock: lock,
                    });
                }
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => continue,
                Err(error) => return Err(error),
            }
        }
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        &self.folder
    }
}

impl Drop for Stage {
    fn drop(&mut self) {
        // Whatever cannot be deleted now is swept by a later command.
        if remove_tree(&self.folder).is_ok() {
            fs::remove_file(&self.lock_path).unwrap_or_default();
        }
    }
}

/// What a process that died left behind: nobody else can work in it while this is there.
#[derive(Debug)]
pub struct AbandonedStage {
    folder: PathBuf,
    lock_path: PathBuf,
    _lock: Lock,
}

impl AbandonedStage {
    /// Its folder, which may be gone.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Deletes it, and says how many bytes that set free.
    pub fn delete(self) -> io::Result<u64> {
        let freed = remove_tree(&self.folder)?;
        fs::remove_file(&self.lock_path)?;
        Ok(freed)
    }
}

/// What processes that died left below `staging`.
pub fn abandoned(staging: &Path) -> io::Result<Vec<AbandonedStage>> {
    let mut found = Vec::new();
    for entry in optional::entries(staging)? {
        let lock_path = entry.path();
        if lock_path
            .extension()
            .is_none_or(|extension| extension != LOCK)
        {
            continue;
        }
        if let Some(lock) = Lock::try_acquire(&lock_path)? {
            found.push(AbandonedStage {
                folder: lock_path.with_extension(""),
                lock_path,
                _lock: lock,
            });
        }
    }
    Ok(found)
}

/// Deletes what processes that died left below `staging`.
pub fn sweep(staging: &Path) -> io::Result<()> {
    abandoned(staging)?
        .into_iter()
        .try_for_each(|stage| stage.delete().map(drop))
}

#[cfg(test)]
mod tests {
    use super::*;
    use vshelf_files::tree::bytes_in;

    #[test]
    fn only_what_nobody_works_in_is_swept() {
        let folder = tempfile::tempdir().unwrap();
        let staging = folder.path().join("staging");
        sweep(&staging).unwrap();
        let stage = Stage::begin(&staging, "marram-8.3.1").unwrap();
        fs::write(stage.path().join("half"), "x").unwrap();
        let dead = staging.join("marram-6.2.0.1.0");
        fs::create_dir(&dead).unwrap();
        fs::write(staging.join("marram-6.2.0.1.0.lock"), "process 1").unwrap();
        fs::write(dead.join("half"), "seven b").unwrap();
        let found: Vec<_> = abandoned(&staging).unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!(bytes_in(found[0].folder()).unwrap(), 7);
        drop(found);
        sweep(&staging).unwrap();
        assert!(stage.path().join("half").exists() && !dead.exists());
        drop(stage);
        assert_eq!(fs::read_dir(&staging).unwrap().count(), 0);
    }
}
