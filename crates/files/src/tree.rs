//! Trees of files: how many bytes they have, and deleting them whole.

use std::fs;
use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;

use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags, RawMode};

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
        match FileType::from_raw_mode(found.st_mode as RawMode) {
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
