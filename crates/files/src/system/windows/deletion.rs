//! Deleting a tree of files.

use std::fs;
use std::io;
use std::path::Path;

use super::files::bytes_of;
use crate::freed::Freed;

/// Deletes a folder with all it holds, or a file, as it was found there, and adds what that sets free to `freed`.
/// What cannot be deleted keeps nothing else from being; the first such thing is the error.
pub fn remove_counting(folder: &Path, found: &fs::Metadata, freed: &Freed) -> io::Result<()> {
    if !found.is_dir() {
        return remove_file(folder, found, freed);
    }
    let mut left = None;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let path = entry.path();
        let removed = entry
            .metadata()
            .and_then(|found| remove_counting(&path, &found, freed));
        if let Err(error) = removed {
            let text = format!("{}: {error}", path.display());
            left.get_or_insert(io::Error::new(error.kind(), text));
        }
    }
    match left {
        Some(error) => Err(error),
        None => fs::remove_dir(folder),
    }
}

/// Deletes a file or link, read-only ones too.
fn remove_file(path: &Path, found: &fs::Metadata, freed: &Freed) -> io::Result<()> {
    let remove = || match found.is_symlink() && path.is_dir() {
        true => fs::remove_dir(path),
        false => fs::remove_file(path),
    };
    if let Err(error) = remove() {
        let mut permissions = found.permissions();
        if !permissions.readonly() {
            return Err(error);
        }
        #[expect(
            clippy::permissions_set_readonly_false,
            reason = "the only permission that a file has here"
        )]
        permissions.set_readonly(false);
        fs::set_permissions(path, permissions)?;
        remove()?;
    }
    freed.add(bytes_of(found));
    Ok(())
}

/// Whether another disk is mounted at a folder.
pub fn is_mounted_within(folder: &Path) -> io::Result<bool> {
    let link = folder.symlink_metadata()?;
    Ok(link.is_symlink())
}

/// That something is mounted where something was to be deleted.
pub fn mounted() -> io::Error {
    io::Error::new(
        io::ErrorKind::ResourceBusy,
        "a file system is mounted there",
    )
}
