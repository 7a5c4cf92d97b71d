//! Deleting a tree of files: whatever it holds and however deep it is, and nothing else.

use std::ffi::CStr;
use std::fs;
use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;

use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode, OFlags, RawMode};
use rustix::io::Errno;

use super::files::bytes_of;
use crate::freed::Freed;

/// The levels of folders that deleting goes down, with open folders for each; what lies deeper is moved
/// up first, so that no depth needs more descriptors or stack than this.
const LEVELS: usize = 12;

/// Deletes a folder with all it holds, or a file, as it was found there, and adds what that sets free to `freed`.
pub fn remove_counting(folder: &Path, found: &fs::Metadata, freed: &Freed) -> io::Result<()> {
    if !found.is_dir() {
        fs::remove_file(folder)?;
        freed.add(bytes_of(found));
        return Ok(());
    }
    let handle = open_folder(CWD, folder)?;
    let mut deletion = Deletion {
        top: &handle,
        freed,
        moved: 0,
        left: None,
    };
    loop {
        let before = deletion.moved;
        deletion.empty(&handle, 1)?;
        if deletion.moved == before {
            break;
        }
        deletion.left = None;
    }
    match deletion.left {
        Some(error) => Err(error),
        None => fs::remove_dir(folder),
    }
}

/// A tree that is being deleted.
struct Deletion<'t> {
    /// The tree's own folder, to which deep ones are moved.
    top: &'t OwnedFd,
    freed: &'t Freed,
    moved: u32,
    /// Why something could not be deleted.
    left: Option<io::Error>,
}

impl Deletion<'_> {
    /// Deletes all that a folder of this level holds. Names are looked up in the open folder, which
    /// costs less than whole paths and cannot lead elsewhere.
    fn empty(&mut self, folder: &OwnedFd, level: usize) -> io::Result<()> {
        for entry in Dir::read_from(folder)? {
            let entry = entry?;
            let name = entry.file_name();
            if name != c"."
                && name != c".."
                && let Err(error) = self.delete(folder, name, level)
            {
                let text = format!("{}: {error}", name.to_string_lossy());
                let named = io::Error::new(error.kind(), text);
                self.left.get_or_insert(named);
            }
        }
        Ok(())
    }

    fn delete(&mut self, folder: &OwnedFd, name: &CStr, level: usize) -> io::Result<()> {
        let stat = || rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW);
        let found = permitted(folder, stat)?;
        let kind = FileType::from_raw_mode(found.st_mode as RawMode);
        if kind != FileType::Directory {
            permitted(folder, || {
                rustix::fs::unlinkat(folder, name, AtFlags::empty())
            })?;
            if kind == FileType::RegularFile && found.st_nlink == 1 {
                self.freed.add(found.st_size as u64);
            }
        } else if level == LEVELS {
            self.move_up(folder, name)?;
        } else {
            let below = open_folder(folder, name)?;
            if is_mounted(folder, name)? {
                return Err(mounted());
            }
            self.empty(&below, level + 1)?;
            let removed = permitted(folder, || {
                rustix::fs::unlinkat(folder, name, AtFlags::REMOVEDIR)
            });
            // What keeps it full is told already.
            if self.left.is_none() {
                removed?;
            }
        }
        Ok(())
    }

    /// Moves a folder to the top of the tree, under a name that nothing there has.
    fn move_up(&mut self, folder: &OwnedFd, name: &CStr) -> io::Result<()> {
        // Whoever moves a folder elsewhere needs to write in it.
        rustix::fs::fchmod(open_folder(folder, name)?, Mode::RWXU)?;
        loop {
            self.moved += 1;
            let new = format!(".deep-{}", self.moved);
            match permitted(folder, || {
                rustix::fs::renameat(folder, name, self.top, new.as_str())
            }) {
                Err(Errno::NOTEMPTY | Errno::EXIST | Errno::NOTDIR) => {}
                result => return Ok(result?),
            }
        }
    }
}

/// That something is mounted where something was to be deleted.
pub fn mounted() -> io::Error {
    io::Error::new(
        io::ErrorKind::ResourceBusy,
        "a file system is mounted there",
    )
}

/// Whether something is mounted at a folder or below it, as the table of mounts says
/// (proc_pid_mountinfo(5)). Without that table, the folder and what it holds directly are looked at.
#[cfg(target_os = "linux")]
pub fn is_mounted_within(folder: &Path) -> io::Result<bool> {
    use std::os::unix::ffi::OsStrExt;

    let real = fs::canonicalize(folder)?;
    let table = super::files::read_by(16 << 10, Path::new("/proc/self/mountinfo"));
    let Ok(table) = table else {
        return is_mounted_nearby(&real);
    };
    let mut mounts = table.split(|byte| *byte == b'\n').filter_map(|line| {
        // The fifth field is the mount point, in which white space and backslashes are octal escapes.
        let field = line.split(|byte| *byte == b' ').nth(4)?;
        Some(unescaped(field))
    });
    Ok(mounts.any(|at| Path::new(std::ffi::OsStr::from_bytes(&at)).starts_with(&real)))
}

/// Replaces `\ooo` by the byte with that octal number.
#[cfg(target_os = "linux")]
fn unescaped(field: &[u8]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(field.len());
    let mut rest = field;
    while let Some((first, behind)) = rest.split_first() {
        let digits = behind.get(..3).filter(|_| *first == b'\\');
        let octal = digits.and_then(|digits| {
            let text = std::str::from_utf8(digits).ok()?;
            u8::from_str_radix(text, 8).ok()
        });
        match octal {
            Some(byte) => {
                bytes.push(byte);
                rest = &behind[3..];
            }
            None => {
                bytes.push(*first);
                rest = behind;
            }
        }
    }
    bytes
}

/// Whether another file system is mounted at a folder or in it. Other systems are not asked about what is
/// further down.
#[cfg(not(target_os = "linux"))]
pub fn is_mounted_within(folder: &Path) -> io::Result<bool> {
    is_mounted_nearby(folder)
}

/// Whether something is mounted at a folder or at what it holds directly.
fn is_mounted_nearby(folder: &Path) -> io::Result<bool> {
    let (Some(parent), Some(name)) = (folder.parent(), folder.file_name()) else {
        return Ok(true);
    };
    if is_mounted(&open_folder(CWD, parent)?, name)? {
        return Ok(true);
    }
    let opened = open_folder(CWD, folder)?;
    for name in super::files::names(folder)? {
        if is_mounted(&opened, name.as_os_str())? {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Looked up without crossing a mount (openat2(2)), which is the only way to see one of the same file
/// system; a system without that shows others by their device.
fn is_mounted(parent: &OwnedFd, name: impl rustix::path::Arg + Copy) -> io::Result<bool> {
    #[cfg(target_os = "linux")]
    {
        use rustix::fs::{ResolveFlags, openat2};
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        match openat2(parent, name, flags, Mode::empty(), ResolveFlags::NO_XDEV) {
            Err(Errno::XDEV) => return Ok(true),
            Err(Errno::NOSYS | Errno::PERM) => {}
            opened => return Ok(opened.map(|_| false)?),
        }
    }
    let device = rustix::fs::statat(parent, name, AtFlags::SYMLINK_NOFOLLOW)?.st_dev;
    Ok(device != rustix::fs::fstat(parent)?.st_dev)
}

/// Opens a folder for reading, with all permissions that its owner can have. Whatever takes its place
/// meanwhile is not followed.
fn open_folder(
    parent: impl std::os::fd::AsFd,
    name: impl rustix::path::Arg + Copy,
) -> io::Result<OwnedFd> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let open = || rustix::fs::openat(&parent, name, flags, Mode::empty());
    let folder = match open() {
        Err(Errno::ACCESS) => {
            rustix::fs::chmodat(&parent, name, Mode::RWXU, AtFlags::empty())?;
            open()?
        }
        opened => opened?,
    };
    Ok(folder)
}

/// Does something in a folder; where its permissions forbid it, with those that its owner can have.
fn permitted<T>(folder: &OwnedFd, act: impl Fn() -> Result<T, Errno>) -> Result<T, Errno> {
    match act() {
        Err(Errno::ACCESS) => {
            rustix::fs::fchmod(folder, Mode::RWXU)?;
            act()
        }
        result => result,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Makes `levels` folders inside one another, which no path could reach.
    fn nest(folder: &Path, levels: usize) -> io::Result<()> {
        let mut at = open_folder(CWD, folder)?;
        for level in 0..levels {
            rustix::fs::mkdirat(&at, "deeper", Mode::RWXU)?;
            at = open_folder(&at, "deeper")?;
            if level % 100 == 0 {
                let flags = OFlags::CREATE | OFlags::WRONLY;
                drop(rustix::fs::openat(&at, "leaf", flags, Mode::RUSR)?);
            }
        }
        Ok(())
    }

    #[test]
    fn any_depth_is_deleted_with_few_descriptors() {
        let folder = tempfile::tempdir().unwrap();
        let tree = folder.path().join("tree");
        fs::create_dir(&tree).unwrap();
        // A name that is taken where deep folders are moved to.
        fs::create_dir_all(tree.join(".deep-1/full")).unwrap();
        fs::write(tree.join("one"), "12345").unwrap();
        nest(&tree, 2_000).unwrap();
        let freed = Freed::default();
        let found = tree.symlink_metadata().unwrap();
        remove_counting(&tree, &found, &freed).unwrap();
        assert_eq!(freed.bytes(), 5);
        assert!(!tree.exists());
    }
}
