//! Files and links that change in one step.
//!
//! What is written stands in a temporary file of the same folder until it is whole. The file is locked
//! by the process that writes it, so that one whose writer died is known as such: the next that writes
//! the same file takes its place, and [`sweep`] deletes those of a whole folder.

use std::fs::{self, File, Metadata, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use crate::optional;
use crate::system;

/// What the name of every temporary file ends with.
const SUFFIX: &str = ".vshelf-new";

/// How much of the name of what is written stands in that of its temporary file, in bytes: with all that
/// is added it stays below the 255 bytes that file systems allow.
const LONGEST_STEM: usize = 200;

/// The permissions of a new file that is its owner's alone, and of one that others read too, both
/// before the umask.
const PRIVATE: u32 = 0o600;
const SHARED: u32 = 0o666;

/// Writes `bytes` to `path` through a temporary file in the same folder, synced before the rename,
/// with the folder synced behind it. The folder is made where it is missing. A new file is its owner's
/// alone; one that was there keeps its permissions, and a link to a file stays one.
pub fn write_file(path: &Path, bytes: &[u8]) -> io::Result<()> {
    write_synced(path, bytes, PRIVATE)
}

/// Writes `bytes` to `path` as [`write_file`] does, where a new file gets the permissions that the
/// process gives to any: for what others read too.
pub fn write_shared(path: &Path, bytes: &[u8]) -> io::Result<()> {
    write_synced(path, bytes, SHARED)
}

/// Writes `bytes` to `path` as [`write_file`] does, without waiting for the disk: for what may be
/// lost.
pub fn write_quickly(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut temporary = Temporary::beside(path, PRIVATE)?;
    temporary.file.write_all(bytes)?;
    temporary.persist()
}

fn write_synced(path: &Path, bytes: &[u8], mode: u32) -> io::Result<()> {
    let mut temporary = Temporary::beside(path, mode)?;
    temporary.file.write_all(bytes)?;
    temporary.file.sync_all()?;
    let folder = folder_of(&temporary.target).to_owned();
    temporary.persist()?;
    system::sync_folder(&folder)
}

/// A file that takes the place of another when it is whole; dropped before, it is deleted.
#[derive(Debug)]
pub struct Temporary {
    file: File,
    path: PathBuf,
    target: PathBuf,
    persisted: bool,
}

impl Temporary {
    /// A new empty file beside `target`, in whose place it is to be put. The folder is made where it
    /// is missing.
    pub fn in_place_of(target: &Path) -> io::Result<Temporary> {
        Temporary::beside(target, PRIVATE)
    }

    fn beside(target: &Path, mode: u32) -> io::Result<Temporary> {
        let target = behind_link(target)?;
        fs::create_dir_all(folder_of(&target))?;
        let before = fs::metadata(&target).ok().filter(Metadata::is_file);
        let mut number = 0;
        loop {
            let path = temporary_path(&target, number);
            let mut options = OpenOptions::new();
            let options = system::with_permission_bits(&mut options, mode);
            let created = options.write(true).create_new(true).open(&path);
            let file = match created {
                Ok(file) => file,
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                    // One whose writer lives is left to it.
                    number += u32::from(!remove_abandoned(&path)?);
                    continue;
                }
                Err(error) => return Err(error),
            };
            // Another process may have taken it for abandoned before it was locked. Where nothing can
            // be locked, nothing is taken for abandoned either.
            if matches!(file.try_lock(), Err(fs::TryLockError::WouldBlock))
                || system::is_deleted(&file)?
            {
                continue;
            }
            let temporary = Temporary {
                file,
                path,
                target,
                persisted: false,
            };
            if let Some(before) = before {
                system::keep_permissions(&temporary.file, &before)?;
            }
            return Ok(temporary);
        }
    }

    /// The file, to be written.
    pub fn file(&mut self) -> &mut File {
        &mut self.file
    }

    /// Puts the file in its place.
    pub fn persist(mut self) -> io::Result<()> {
        fs::rename(&self.path, &self.target)?;
        self.persisted = true;
        Ok(())
    }
}

impl Drop for Temporary {
    fn drop(&mut self) {
        if !self.persisted {
            // What cannot be deleted now is when the same file is written next.
            fs::remove_file(&self.path).unwrap_or_default();
        }
    }
}

/// What is written instead of a link, which stays: what it leads to, there or not.
fn behind_link(target: &Path) -> io::Result<PathBuf> {
    if !target.is_symlink() {
        return Ok(target.to_owned());
    }
    match fs::canonicalize(target) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            Ok(folder_of(target).join(fs::read_link(target)?))
        }
        found => found,
    }
}

/// `.NAME.0.vshelf-new`.
fn temporary_path(target: &Path, number: u32) -> PathBuf {
    let name = target.file_name().unwrap_or_default().to_string_lossy();
    let stem = &name[..name.floor_char_boundary(LONGEST_STEM)];
    target.with_file_name(format!(".{stem}.{number}{SUFFIX}"))
}

/// Deletes the temporary file at `path` if the process that wrote it is gone; says whether that file is
/// there no more.
fn remove_abandoned(path: &Path) -> io::Result<bool> {
    let Some(file) = optional::open(path)? else {
        return Ok(true);
    };
    if file.try_lock().is_err() {
        return Ok(false);
    }
    // Its writer may have put it in its place before it was locked here: by now the file at `path` is another's.
    if system::stands_at(&file, path)? {
        optional::remove(path)?;
    }
    Ok(true)
}

/// Deletes the temporary files in `folder` whose writers are gone.
pub fn sweep(folder: &Path) -> io::Result<()> {
    for entry in optional::entries(folder)? {
        let name = entry.file_name();
        if !name.as_encoded_bytes().ends_with(SUFFIX.as_bytes()) {
            continue;
        }
        // A link cannot be locked: who writes one holds a lock of their own.
        if entry.file_type()?.is_file() {
            remove_abandoned(&entry.path())?;
        }
    }
    Ok(())
}

/// Makes `link` point at `target`, whatever it pointed at before, without a moment of absence. Whoever
/// calls it holds a lock that keeps others from doing the same.
pub fn point_link(link: &Path, target: &Path) -> io::Result<()> {
    let folder = folder_of(link);
    fs::create_dir_all(folder)?;
    let temporary = temporary_path(link, 0);
    optional::remove(&temporary)?;
    system::symlink(target, &temporary)?;
    fs::rename(&temporary, link)?;
    system::sync_folder(folder)
}

/// Whether a process that died in [`point_link`] left its temporary link.
pub fn has_abandoned_link(link: &Path) -> bool {
    temporary_path(link, 0).is_symlink()
}

/// Removes what [`has_abandoned_link`] sees. The caller holds the lock that [`point_link`] needs.
pub fn sweep_link(link: &Path) -> io::Result<()> {
    optional::remove(&temporary_path(link, 0)).map(drop)
}

fn folder_of(path: &Path) -> &Path {
    // A name alone is in this folder.
    let parent = path
        .parent()
        .filter(|folder| !folder.as_os_str().is_empty());
    parent.unwrap_or(Path::new("."))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};

    use super::*;

    fn names(folder: &Path) -> Vec<String> {
        optional::names(folder).unwrap()
    }

    #[test]
    fn what_a_dead_writer_left_goes_and_what_a_living_one_writes_stays() {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("board");
        let left = folder.path().join(".board.0.vshelf-new");
        fs::write(&left, "half").unwrap();
        write_file(&target, b"whole").unwrap();
        assert_eq!(names(folder.path()), ["board"]);
        let living = Temporary::in_place_of(&target).unwrap();
        write_quickly(&target, b"other").unwrap();
        fs::write(folder.path().join(".rota.0.vshelf-new"), "half").unwrap();
        sweep(folder.path()).unwrap();
        assert_eq!(names(folder.path()), [".board.0.vshelf-new", "board"]);
        drop(living);
        assert_eq!(names(folder.path()), ["board"]);
        assert_eq!(fs::read_to_string(&target).unwrap(), "other");
    }

    #[test]
    fn several_writers_of_one_file_do_not_take_each_others_temporary_file() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("format");
        std::thread::scope(|scope| {
            for _ in 0..8 {
                scope.spawn(|| {
                    for _ in 0..100 {
                        write_quickly(&path, b"whole").unwrap();
                    }
                });
            }
        });
        assert_eq!(names(folder.path()), ["format"]);
        assert_eq!(fs::read_to_string(&path).unwrap(), "whole");
    }

    #[test]
    fn permissions_and_links_stay() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("start-up");
        let link = folder.path().join("link");
        fs::write(&file, "old").unwrap();
        fs::set_permissions(&file, PermissionsExt::from_mode(0o640)).unwrap();
        symlink("start-up", &link).unwrap();
        write_file(&link, b"new").unwrap();
        assert!(link.is_symlink());
        assert_eq!(fs::read_to_string(&file).unwrap(), "new");
        assert_eq!(fs::metadata(&file).unwrap().mode() & 0o777, 0o640);
        // One that leads nowhere yet leads to what is written.
        let ahead = folder.path().join("ahead");
        symlink("later", &ahead).unwrap();
        write_file(&ahead, b"new").unwrap();
        assert!(ahead.is_symlink() && folder.path().join("later").is_file());
        write_file(&folder.path().join("own"), b"x").unwrap();
        let own = fs::metadata(folder.path().join("own")).unwrap();
        assert_eq!(own.mode() & 0o777, 0o600);
    }

    #[test]
    fn the_longest_name_can_be_written() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("x".repeat(255));
        write_file(&file, b"whole").unwrap();
        assert_eq!(fs::read_to_string(&file).unwrap(), "whole");
    }
}
