//! Files: their links, names and disks. Permissions are no bits here, so that they are what new files get.

use std::ffi::OsString;
use std::fs::{self, File, Metadata, OpenOptions};
use std::io;
use std::os::windows::ffi::OsStringExt;
use std::os::windows::fs::{FileExt, symlink_dir, symlink_file};
use std::path::{Component, Path, PathBuf};

use same_file::Handle;
use sysinfo::Disks;

/// A new file gets the permissions of its folder.
pub fn with_permission_bits(options: &mut OpenOptions, _bits: u32) -> &mut OpenOptions {
    options
}

/// Opens a file that somebody else may have put there. Returns `None` for a symbolic link unless `follow`
/// is set.
pub fn open_foreign(path: &Path, follow: bool) -> io::Result<Option<File>> {
    if !follow && path.is_symlink() {
        return Ok(None);
    }
    File::open(path).map(Some)
}

/// Access is in lists that name nobody by number: every file counts as this user's own.
pub fn owners(_file: &File, _folder: &Path) -> io::Result<(u32, u32, u32)> {
    Ok((user_id(), user_id(), 0o755))
}

/// The id of the user whose rights this process has.
pub fn user_id() -> u32 {
    1
}

/// What a file would be elsewhere.
pub fn permission_bits(file: &Metadata) -> u32 {
    match file.permissions().readonly() {
        true => 0o555,
        false => 0o755,
    }
}

/// Files keep the permissions of their folder.
pub fn set_permission_bits(_path: &Path, _bits: u32) -> io::Result<()> {
    Ok(())
}

/// Gives a new file the permissions of another.
pub fn keep_permissions(file: &File, of: &Metadata) -> io::Result<()> {
    file.set_permissions(of.permissions())
}

/// It is a name's ending that says what can be started.
pub fn is_executable(_file: &Metadata) -> Option<bool> {
    None
}

/// Nothing is needed.
pub fn make_executable(path: &Path) -> io::Result<()> {
    fs::metadata(path).map(drop)
}

/// Owners are not told apart.
pub fn is_owned_by_another(path: &Path) -> io::Result<bool> {
    fs::metadata(path).map(|_| false)
}

/// The folder of a company has no fixed place here.
pub fn is_administrators_folder(_path: &Path) -> bool {
    false
}

/// There is no such mark.
pub fn is_quarantined(_path: &Path) -> bool {
    false
}

/// Only writing tells whether one may.
pub fn check_writable(_folder: &Path) -> io::Result<()> {
    Ok(())
}

/// Makes a symbolic link, which needs the right to do so (developer mode).
pub fn symlink(target: &Path, link: &Path) -> io::Result<()> {
    let from = link.parent().unwrap_or(Path::new(""));
    match from.join(target).is_dir() {
        true => symlink_dir(target, link),
        false => symlink_file(target, link),
    }
}

/// The bytes that deleting a file sets free, as if it had no other name.
pub fn bytes_of(file: &Metadata) -> u64 {
    match file.is_file() {
        true => file.len(),
        false => 0,
    }
}

/// A file that is open keeps its name.
pub fn is_deleted(_file: &File) -> io::Result<bool> {
    Ok(false)
}

/// Whether an open file is the one that stands at `path`.
pub fn stands_at(file: &File, path: &Path) -> io::Result<bool> {
    let own = Handle::from_file(file.try_clone()?)?;
    Ok(Handle::from_path(path).is_ok_and(|there| there == own))
}

/// Whether two paths, themselves and not what they lead to, are names of one file.
pub fn are_same(one: &Path, other: &Path) -> io::Result<bool> {
    match one.is_symlink() || other.is_symlink() {
        true => Ok(false),
        false => same_file::is_same_file(one, other),
    }
}

/// What tells whether two paths lead to one file: its path without links.
pub type FileIdentity = PathBuf;

/// Which file a path leads to.
pub fn identity_of(path: &Path, _found: &Metadata) -> FileIdentity {
    fs::canonicalize(path).unwrap_or_else(|_| path.to_owned())
}

/// The names of a folder's entries in no order.
pub fn names(folder: &Path) -> io::Result<Vec<OsString>> {
    fs::read_dir(folder)?
        .map(|entry| Ok(entry?.file_name()))
        .collect()
}

/// The bytes of a file; the system knows how many.
pub fn read_by(_piece: usize, file: &Path) -> io::Result<Vec<u8>> {
    fs::read(file)
}

/// Has a file share all blocks of another: not here.
pub fn share_blocks(_file: &File, _with: &File) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Fills `bytes` with those of a file from `offset` on.
pub fn read_exact_at(file: &File, bytes: &mut [u8], offset: u64) -> io::Result<()> {
    let mut filled = 0;
    while filled < bytes.len() {
        match file.seek_read(&mut bytes[filled..], offset + filled as u64)? {
            0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            count => filled += count,
        }
    }
    Ok(())
}

/// The path that these bytes name; what is no text becomes a path that is none either.
pub fn path_of(bytes: &[u8]) -> PathBuf {
    /// The first of the code units that stand for nothing alone (Unicode, chapter 23.6, surrogates).
    const NOTHING: u16 = 0xD800;
    match std::str::from_utf8(bytes) {
        Ok(text) => PathBuf::from(text),
        Err(_) => {
            let units: Vec<u16> = bytes
                .iter()
                .map(|byte| NOTHING + u16::from(*byte))
                .collect();
            PathBuf::from(OsString::from_wide(&units))
        }
    }
}

/// No file system is asked.
pub fn exchange(_one: &Path, _other: &Path) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Names are written by the file system's own journal.
pub fn sync_folder(_folder: &Path) -> io::Result<()> {
    Ok(())
}

/// Writes a file to the disk, where it may be written.
pub fn sync_file(path: &Path) -> io::Result<()> {
    match fs::metadata(path)?.permissions().readonly() {
        true => Ok(()),
        false => OpenOptions::new().write(true).open(path)?.sync_all(),
    }
}

/// The bytes that this user can still write on the disk of a folder.
pub fn free_bytes(folder: &Path) -> io::Result<u64> {
    on_disk_of(folder, sysinfo::Disk::available_space)
}

/// The size of the disk of a folder in bytes.
pub fn disk_bytes(folder: &Path) -> io::Result<u64> {
    on_disk_of(folder, sysinfo::Disk::total_space)
}

fn on_disk_of(folder: &Path, look: impl Fn(&sysinfo::Disk) -> u64) -> io::Result<u64> {
    let folder = fs::canonicalize(folder)?;
    let disks = Disks::new_with_refreshed_list();
    let holding = disks
        .iter()
        .filter(|disk| folder.starts_with(disk.mount_point()));
    let nearest = holding.max_by_key(|disk| disk.mount_point().as_os_str().len());
    nearest
        .map(look)
        .ok_or_else(|| io::ErrorKind::NotFound.into())
}

/// The drive or share that a path is on.
pub fn mount_of(path: &Path) -> PathBuf {
    let drive = path
        .components()
        .take_while(|part| matches!(part, Component::Prefix(_) | Component::RootDir));
    drive.collect()
}
