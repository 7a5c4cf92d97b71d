//! Files: their permissions, links, names and disks.

use std::ffi::{OsStr, OsString};
use std::fs::{self, File, Metadata, OpenOptions, Permissions};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use rustix::buffer::spare_capacity;
use rustix::fs::{Access, Dir, Mode, OFlags};
use rustix::io::{Errno, retry_on_intr};

/// Has a new file get these permissions, before the umask.
pub fn with_permission_bits(options: &mut OpenOptions, bits: u32) -> &mut OpenOptions {
    options.mode(bits)
}

/// Opens a file that somebody else may have put there, without blocking on a pipe. Returns `None` for a
/// symbolic link unless `follow` is set.
pub fn open_foreign(path: &Path, follow: bool) -> io::Result<Option<File>> {
    let links = if follow {
        OFlags::empty()
    } else {
        OFlags::NOFOLLOW
    };
    let flags = OFlags::NONBLOCK | links;
    let mut options = OpenOptions::new();
    match options
        .read(true)
        .custom_flags(flags.bits() as i32)
        .open(path)
    {
        Err(error) if !follow && Errno::from_io_error(&error) == Some(Errno::LOOP) => Ok(None),
        opened => opened.map(Some),
    }
}

/// The ids of the owners of an open file and of its folder, and the folder's permission bits.
pub fn owners(file: &File, folder: &Path) -> io::Result<(u32, u32, u32)> {
    let folder = fs::metadata(folder)?;
    Ok((
        file.metadata()?.uid(),
        folder.uid(),
        permission_bits(&folder),
    ))
}

/// The id of the user whose rights this process has.
pub fn user_id() -> u32 {
    rustix::process::geteuid().as_raw()
}

/// The permissions of a file, as POSIX counts them.
pub fn permission_bits(file: &Metadata) -> u32 {
    file.permissions().mode() & 0o7777
}

/// Gives a file these permissions.
pub fn set_permission_bits(path: &Path, bits: u32) -> io::Result<()> {
    fs::set_permissions(path, Permissions::from_mode(bits))
}

/// Gives a new file the permissions of another.
pub fn keep_permissions(file: &File, of: &Metadata) -> io::Result<()> {
    file.set_permissions(Permissions::from_mode(permission_bits(of)))
}

/// Whether a file's permissions say that it can be started; nothing where they do not tell.
pub fn is_executable(file: &Metadata) -> Option<bool> {
    Some(permission_bits(file) & 0o111 != 0)
}

/// Lets everybody start a file.
pub fn make_executable(path: &Path) -> io::Result<()> {
    set_permission_bits(path, permission_bits(&fs::metadata(path)?) | 0o111)
}

/// Whether a path belongs to another user than this one.
pub fn is_owned_by_another(path: &Path) -> io::Result<bool> {
    Ok(fs::metadata(path)?.uid() != rustix::process::geteuid().as_raw())
}

/// Whether there is a folder at a path, which belongs to the administrator.
pub fn is_administrators_folder(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|found| found.is_dir() && found.uid() == 0)
}

/// Whether the system holds a file back because something downloaded it (the attribute
/// com.apple.quarantine of macOS): it is started only after somebody has let it.
#[cfg(target_os = "macos")]
pub fn is_quarantined(path: &Path) -> bool {
    let mut nothing: [u8; 0] = [];
    rustix::fs::getxattr(path, "com.apple.quarantine", &mut nothing[..]).is_ok()
}

/// There is no such mark.
#[cfg(not(target_os = "macos"))]
pub fn is_quarantined(_path: &Path) -> bool {
    false
}

/// An error where nothing can be written in a folder.
pub fn check_writable(folder: &Path) -> io::Result<()> {
    Ok(rustix::fs::access(folder, Access::WRITE_OK)?)
}

/// Makes a symbolic link.
pub fn symlink(target: &Path, link: &Path) -> io::Result<()> {
    std::os::unix::fs::symlink(target, link)
}

/// The bytes that deleting a file sets free; none where it has a name elsewhere too.
pub fn bytes_of(file: &Metadata) -> u64 {
    match file.is_file() && file.nlink() == 1 {
        true => file.len(),
        false => 0,
    }
}

/// Whether an open file has no name any more.
pub fn is_deleted(file: &File) -> io::Result<bool> {
    Ok(file.metadata()?.nlink() == 0)
}

fn identity(file: &Metadata) -> (u64, u64) {
    (file.dev(), file.ino())
}

/// Whether an open file is the one that stands at `path`.
pub fn stands_at(file: &File, path: &Path) -> io::Result<bool> {
    let own = identity(&file.metadata()?);
    Ok(fs::metadata(path).is_ok_and(|there| identity(&there) == own))
}

/// Whether two paths, themselves and not what they lead to, are names of one file.
pub fn are_same(one: &Path, other: &Path) -> io::Result<bool> {
    let found = (fs::symlink_metadata(one)?, fs::symlink_metadata(other)?);
    Ok(identity(&found.0) == identity(&found.1))
}

/// What tells whether two paths lead to one file: its device and number.
pub type FileIdentity = (u64, u64);

/// Which file a path leads to.
pub fn identity_of(_path: &Path, found: &Metadata) -> FileIdentity {
    identity(found)
}

/// The names of a folder's entries in no order. The C library would have memory mapped and unmapped for it.
pub fn names(folder: &Path) -> io::Result<Vec<OsString>> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let entries = Dir::new(rustix::fs::open(folder, flags, Mode::empty())?)?;
    let names =
        entries.map(|entry| Ok(OsStr::from_bytes(entry?.file_name().to_bytes()).to_owned()));
    names
        .filter(|name| !name.as_ref().is_ok_and(|name| name == "." || name == ".."))
        .collect()
}

/// The bytes of a file, asked for by so many at a time: as a whole where it has fewer. The system is not asked for a
/// size, which it does not know of its own files (proc(5)).
pub fn read_by(piece: usize, file: &Path) -> io::Result<Vec<u8>> {
    let file = rustix::fs::open(file, OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty())?;
    let mut bytes = Vec::with_capacity(piece);
    while retry_on_intr(|| rustix::io::read(&file, spare_capacity(&mut bytes)))? > 0 {
        bytes.reserve(1);
    }
    Ok(bytes)
}

/// Fills `bytes` with those of a file from `offset` on.
pub fn read_exact_at(file: &File, bytes: &mut [u8], offset: u64) -> io::Result<()> {
    file.read_exact_at(bytes, offset)
}

/// The path that these bytes name.
pub fn path_of(bytes: &[u8]) -> PathBuf {
    PathBuf::from(OsStr::from_bytes(bytes))
}

/// Has a file share all blocks of another on the same file system, whose bytes it has then. An error says that the file
/// system cannot.
#[cfg(target_os = "linux")]
pub fn share_blocks(file: &File, with: &File) -> io::Result<()> {
    Ok(rustix::fs::ioctl_ficlone(file, with)?)
}

/// Has a file share all blocks of another: only Linux is asked for that.
#[cfg(not(target_os = "linux"))]
pub fn share_blocks(_file: &File, _with: &File) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Has two paths of one file system change places in one step. An error of kind `Unsupported` says
/// that this file system cannot.
#[cfg(any(target_os = "linux", target_os = "macos"))]
pub fn exchange(one: &Path, other: &Path) -> io::Result<()> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    match renameat_with(CWD, one, CWD, other, RenameFlags::EXCHANGE) {
        Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => Err(io::ErrorKind::Unsupported.into()),
        result => Ok(result?),
    }
}

/// No file system of these systems is asked.
#[cfg(not(any(target_os = "linux", target_os = "macos")))]
pub fn exchange(_: &Path, _: &Path) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Makes the names in `folder` survive a power cut.
pub fn sync_folder(folder: &Path) -> io::Result<()> {
    File::open(folder)?.sync_all()
}

/// Writes a file to the disk.
#[cfg(not(target_os = "linux"))]
pub fn sync_file(path: &Path) -> io::Result<()> {
    File::open(path)?.sync_all()
}

/// The bytes that this user can still write on the disk of a folder.
pub fn free_bytes(folder: &Path) -> io::Result<u64> {
    let disk = rustix::fs::statvfs(folder)?;
    Ok(disk.f_bavail * disk.f_frsize)
}

/// The size of the disk of a folder in bytes.
pub fn disk_bytes(folder: &Path) -> io::Result<u64> {
    let disk = rustix::fs::statvfs(folder)?;
    Ok(disk.f_blocks * disk.f_frsize)
}

/// The folder that a path's file system is mounted at, as the numbers of devices tell (POSIX.1-2024,
/// sys/stat.h, st_dev).
pub fn mount_of(path: &Path) -> PathBuf {
    let device = |path: &Path| path.metadata().ok().map(|found| found.dev());
    let mut at = path.to_owned();
    while let Some(parent) = at.parent().map(Path::to_owned) {
        if device(&at).is_some() && device(&at) != device(&parent) {
            break;
        }
        at = parent;
    }
    at
}
