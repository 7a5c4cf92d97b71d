//! Folders for what is under way: installs before they are whole, installs being removed.
//!
//! Each such folder has a lock file beside it, held by the process that works in it. One whose lock
//! is free belongs to a process that died, and is swept.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use crate::lock::Lock;

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

/// Deletes what processes that died left below `staging`; says how many folders went.
pub fn sweep(staging: &Path) -> io::Result<usize> {
    let entries = match fs::read_dir(staging) {
        Ok(entries) => entries,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(0),
        Err(error) => return Err(error),
    };
    let mut swept = 0;
    for entry in entries {
        let path = entry?.path();
        if path.extension().is_none_or(|extension| extension != LOCK) {
            continue;
        }
        if let Some(_lock) = Lock::try_acquire(&path)? {
            let folder = path.with_extension("");
            if folder.symlink_metadata().is_ok() {
                remove_tree(&folder)?;
                swept += 1;
            }
            fs::remove_file(&path)?;
        }
    }
    Ok(swept)
}

/// Deletes a folder with all it holds, read-only folders too; never follows a link.
pub fn remove_tree(folder: &Path) -> io::Result<()> {
    match fs::remove_dir_all(folder) {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            make_writable(folder)?;
            fs::remove_dir_all(folder)
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        result => result,
    }
}

fn make_writable(folder: &Path) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    if !folder.symlink_metadata()?.is_dir() {
        return Ok(());
    }
    fs::set_permissions(folder, fs::Permissions::from_mode(0o700))?;
    for entry in fs::read_dir(folder)? {
        make_writable(&entry?.path())?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt, symlink};

    #[test]
    fn only_what_nobody_works_in_is_swept() {
        let folder = tempfile::tempdir().unwrap();
        let staging = folder.path().join("staging");
        assert_eq!(sweep(&staging).unwrap(), 0);
        let stage = Stage::begin(&staging, "marram-8.3.1").unwrap();
        fs::write(stage.path().join("half"), "x").unwrap();
        let dead = staging.join("marram-6.2.0.1.0");
        fs::create_dir(&dead).unwrap();
        fs::write(staging.join("marram-6.2.0.1.0.lock"), "process 1").unwrap();
        assert_eq!(sweep(&staging).unwrap(), 1);
        assert!(stage.path().join("half").exists() && !dead.exists());
        drop(stage);
        assert_eq!(fs::read_dir(&staging).unwrap().count(), 0);
    }

    #[test]
    fn deleting_a_tree_follows_no_link() {
        let folder = tempfile::tempdir().unwrap();
        let outside = folder.path().join("outside");
        fs::create_dir(&outside).unwrap();
        fs::write(outside.join("kept"), "x").unwrap();
        let tree = folder.path().join("tree/locked");
        fs::create_dir_all(&tree).unwrap();
        symlink(&outside, tree.join("link")).unwrap();
        fs::set_permissions(&tree, fs::Permissions::from_mode(0o500)).unwrap();
        remove_tree(&folder.path().join("tree")).unwrap();
        assert!(outside.join("kept").exists());
        assert!(!folder.path().join("tree").exists());
    }
}
