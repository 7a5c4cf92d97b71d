//! Files and links that change in one step.

use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::symlink;
use std::path::Path;

use tempfile::{Builder, NamedTempFile};

/// Writes `bytes` to `path` through a temporary file in the same folder, synced before the rename,
/// with the folder synced behind it. The folder is made where it is missing.
pub fn write_file(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let folder = folder_of(path);
    fs::create_dir_all(folder)?;
    let mut temporary = NamedTempFile::new_in(folder)?;
    temporary.write_all(bytes)?;
    temporary.as_file().sync_all()?;
    temporary.persist(path)?;
    sync_folder(folder)
}

/// Writes `bytes` to `path` as [`write_file`] does, without waiting for the disk: for what may be
/// lost.
pub fn write_quickly(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let folder = folder_of(path);
    fs::create_dir_all(folder)?;
    let mut temporary = NamedTempFile::new_in(folder)?;
    temporary.write_all(bytes)?;
    temporary.persist(path)?;
    Ok(())
}

/// Writes `bytes` to `path` as [`write_file`] does, with the permissions that the process gives to any
/// new file: for what others read too.
pub fn write_shared(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let folder = folder_of(path);
    fs::create_dir_all(folder)?;
    // A temporary file is its owner's alone; a file made in the usual way asks the umask.
    let temporary = Builder::new().make_in(folder, |path| {
        fs::File::options().write(true).create_new(true).open(path)
    })?;
    temporary.as_file().write_all(bytes)?;
    temporary.as_file().sync_all()?;
    temporary.persist(path)?;
    sync_folder(folder)
}

/// Has two paths of one file system change places in one step.
#[cfg(target_os = "linux")]
pub fn exchange(one: &Path, other: &Path) -> io::Result<()> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    match renameat_with(CWD, one, CWD, other, RenameFlags::EXCHANGE) {
        // Not every file system can.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => exchange_in_steps(one, other),
        result => Ok(result?),
    }
}

/// Has two paths of one file system change places.
#[cfg(not(target_os = "linux"))]
pub fn exchange(one: &Path, other: &Path) -> io::Result<()> {
    exchange_in_steps(one, other)
}

/// In three steps: a process that dies in between leaves `other` missing.
fn exchange_in_steps(one: &Path, other: &Path) -> io::Result<()> {
    let aside = one.with_extension("aside");
    fs::rename(other, &aside)?;
    fs::rename(one, other)?;
    fs::rename(aside, one)
}

/// Makes `link` point at `target`, whatever it pointed at before, without a moment of absence.
pub fn point_link(link: &Path, target: &Path) -> io::Result<()> {
    let folder = folder_of(link);
    fs::create_dir_all(folder)?;
    let temporary = Builder::new().make_in(folder, |path| symlink(target, path))?;
    temporary.persist(link)?;
    sync_folder(folder)
}

/// Makes the names in `folder` survive a power cut.
pub fn sync_folder(folder: &Path) -> io::Result<()> {
    fs::File::open(folder)?.sync_all()
}

fn folder_of(path: &Path) -> &Path {
    // A name alone is in this folder.
    let parent = path
        .parent()
        .filter(|folder| !folder.as_os_str().is_empty());
    parent.unwrap_or(Path::new("."))
}
