//! Folders for what is under way: installs before they are whole, installs being removed.
//!
//! Each such folder has a lock file beside it, held by the process that works in it. One whose lock
//! is free belongs to a process that died, and is swept.

use std::fs;
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags};

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

/// What a process that died left behind: nobody else can work in it while this is there.
#[derive(Debug)]
pub struct Leftover {
    folder: PathBuf,
    lock_path: PathBuf,
    _lock: Lock,
}

impl Leftover {
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
pub fn leftovers(staging: &Path) -> io::Result<Vec<Leftover>> {
    let entries = match fs::read_dir(staging) {
        Ok(entries) => entries,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let mut found = Vec::new();
    for entry in entries {
        let lock_path = entry?.path();
        if lock_path
            .extension()
            .is_none_or(|extension| extension != LOCK)
        {
            continue;
        }
        if let Some(lock) = Lock::try_acquire(&lock_path)? {
            found.push(Leftover {
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
    leftovers(staging)?
        .into_iter()
        .try_for_each(|leftover| leftover.delete().map(drop))
}

/// The bytes of the files in a tree; a file with a name elsewhere too counts nothing.
pub fn bytes_in(tree: &Path) -> io::Result<u64> {
    let found = match tree.symlink_metadata() {
        Ok(found) => found,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(0),
        Err(error) => return Err(error),
    };
    if !found.is_dir() {
        return Ok(bytes_of(&found));
    }
    fs::read_dir(tree)?.try_fold(0, |sum, entry| Ok(sum + bytes_in(&entry?.path())?))
}

fn bytes_of(file: &fs::Metadata) -> u64 {
    use std::os::unix::fs::MetadataExt;
    match file.is_file() && file.nlink() == 1 {
        true => file.len(),
        false => 0,
    }
}

/// Deletes a folder with all it holds, read-only folders too; never follows a link. Says how many
/// bytes that set free.
pub fn remove_tree(folder: &Path) -> io::Result<u64> {
    let delete = || match folder.symlink_metadata() {
        Ok(found) if found.is_dir() => {
            let handle = rustix::fs::open(folder, FOLDER, Mode::empty())?;
            let freed = empty(&handle)?;
            fs::remove_dir(folder)?;
            Ok(freed)
        }
        Ok(found) => fs::remove_file(folder).map(|()| bytes_of(&found)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(0),
        Err(error) => Err(error),
    };
    match delete() {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            make_writable(folder)?;
            delete()
        }
        result => result,
    }
}

/// How folders are opened: whatever takes a folder's place meanwhile is not followed.
const FOLDER: OFlags = OFlags::RDONLY
    .union(OFlags::DIRECTORY)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC);

/// Deletes all that a folder holds. Names are looked up in the open folder, which costs less than
/// whole paths and cannot lead elsewhere.
fn empty(folder: &OwnedFd) -> io::Result<u64> {
    let mut freed = 0;
    for entry in Dir::read_from(folder)? {
        let entry = entry?;
        let name = entry.file_name();
        if name == c"." || name == c".." {
            continue;
        }
        let found = rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW)?;
        match FileType::from_raw_mode(found.st_mode) {
            FileType::Directory => {
                freed += empty(&rustix::fs::openat(folder, name, FOLDER, Mode::empty())?)?;
                rustix::fs::unlinkat(folder, name, AtFlags::REMOVEDIR)?;
            }
            kind => {
                rustix::fs::unlinkat(folder, name, AtFlags::empty())?;
                if kind == FileType::RegularFile && found.st_nlink == 1 {
                    freed += found.st_size as u64;
                }
            }
        }
    }
    Ok(freed)
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
        sweep(&staging).unwrap();
        let stage = Stage::begin(&staging, "marram-8.3.1").unwrap();
        fs::write(stage.path().join("half"), "x").unwrap();
        let dead = staging.join("marram-6.2.0.1.0");
        fs::create_dir(&dead).unwrap();
        fs::write(staging.join("marram-6.2.0.1.0.lock"), "process 1").unwrap();
        fs::write(dead.join("half"), "seven b").unwrap();
        let found: Vec<_> = leftovers(&staging).unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!(bytes_in(found[0].folder()).unwrap(), 7);
        drop(found);
        sweep(&staging).unwrap();
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
        fs::write(outside.join("twice"), "x").unwrap();
        fs::hard_link(outside.join("twice"), folder.path().join("tree/twice")).unwrap();
        fs::write(folder.path().join("tree/once"), "four").unwrap();
        let freed = remove_tree(&folder.path().join("tree")).unwrap();
        assert_eq!(freed, 4, "what is kept elsewhere frees nothing");
        assert!(outside.join("kept").exists());
        assert!(!folder.path().join("tree").exists());
    }
}
