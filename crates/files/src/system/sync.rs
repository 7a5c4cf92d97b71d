//! Writing a whole tree to the disk.

use std::io;
use std::path::Path;

/// Writes everything of the tree's file system to the disk: one call costs less than one a file.
#[cfg(target_os = "linux")]
pub fn sync_tree(tree: &Path) -> io::Result<()> {
    Ok(rustix::fs::syncfs(std::fs::File::open(tree)?)?)
}

/// Writes every file of the tree to the disk.
#[cfg(not(target_os = "linux"))]
pub fn sync_tree(tree: &Path) -> io::Result<()> {
    #[cfg(unix)]
    use super::unix::files::{sync_file, sync_folder};
    #[cfg(windows)]
    use super::windows::files::{sync_file, sync_folder};

    for entry in std::fs::read_dir(tree)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        if kind.is_dir() {
            sync_tree(&entry.path())?;
        } else if kind.is_file() {
            sync_file(&entry.path())?;
        }
    }
    sync_folder(tree)
}
