//! Trees of files: how many bytes they have, and deleting them whole.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use crate::freed::Freed;
use crate::system::{bytes_of, remove_counting};

/// The bytes of the files in a tree; a file with a name elsewhere too counts nothing, nor does what
/// lies so deep that no path leads there.
pub fn bytes_in(tree: &Path) -> io::Result<u64> {
    let Some(found) = look_at(tree)? else {
        return Ok(0);
    };
    if !found.is_dir() {
        return Ok(bytes_of(&found));
    }
    let mut sum = 0;
    let mut folders = vec![tree.to_owned()];
    while let Some(folder) = folders.pop() {
        let entries = match fs::read_dir(&folder) {
            Err(error) if error.kind() == io::ErrorKind::InvalidFilename => continue,
            entries => entries?,
        };
        for entry in entries {
            let entry = entry?;
            match entry.metadata() {
                Ok(found) if found.is_dir() => folders.push(entry.path()),
                Ok(found) => sum += bytes_of(&found),
                Err(error) if error.kind() == io::ErrorKind::InvalidFilename => {}
                Err(error) => return Err(error),
            }
        }
    }
    Ok(sum)
}

/// What stands at a path itself, not what it leads to; nothing where there is nothing.
fn look_at(path: &Path) -> io::Result<Option<fs::Metadata>> {
    match path.symlink_metadata() {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        found => found.map(Some),
    }
}

/// What a link at `link` holds that leads to `target`, both relative to the root of a tree: a relative path,
/// so that the tree can be moved.
pub fn relative_target(link: &Path, target: &Path) -> PathBuf {
    let up = link
        .parent()
        .map_or(0, |folder| folder.components().count());
    let above = std::iter::repeat_n(Path::new(".."), up);
    above.chain([target]).collect()
}

/// What deleting a tree resulted in.
#[derive(Debug)]
pub struct Deleted {
    /// The bytes that were set free.
    pub freed: u64,
    /// Why something is still there, where it is: the first thing that could not be deleted.
    pub left: Option<io::Error>,
}

impl Deleted {
    /// The bytes that were set free, where nothing is left.
    pub fn whole(self) -> io::Result<u64> {
        self.left.map_or(Ok(self.freed), Err)
    }
}

/// Deletes a folder with all it holds, read-only folders too; never follows a link. What cannot be
/// deleted keeps nothing else from being.
pub fn remove_tree(folder: &Path) -> Deleted {
    remove_tree_telling(folder, &Freed::default())
}

/// The same, told to `freed` as it goes on.
pub fn remove_tree_telling(folder: &Path, freed: &Freed) -> Deleted {
    let before = freed.bytes();
    let removed = look_at(folder).and_then(|found| match found {
        Some(found) => remove_counting(folder, &found, freed),
        None => Ok(()),
    });
    Deleted {
        freed: freed.bytes() - before,
        left: removed.err(),
    }
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
        let freed = Freed::default();
        let deleted = remove_tree_telling(&folder.path().join("tree"), &freed);
        assert!(deleted.left.is_none());
        assert_eq!(deleted.freed, 4, "what is kept elsewhere frees nothing");
        assert_eq!(freed.bytes(), 4);
        assert!(outside.join("kept").exists());
        assert!(!folder.path().join("tree").exists());
    }
}
