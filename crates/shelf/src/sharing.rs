//! One copy on the disk of what installs have in common, where the file system lets files share blocks (Btrfs, XFS): each
//! stays a file of its own, and gets blocks of its own for what is written to it. Second names of one file would share
//! on every file system, but what a package tool writes into one install would stand in the others too.

use std::collections::HashMap;
use std::fs::{File, FileTimes};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use vshelf_files::system;

use crate::manifest::Manifest;

/// The smallest file that is worth it, in bytes: blocks are shared as a whole, and most have 4096.
const LEAST: u64 = 16 << 10;

/// Has the files of a new tree share blocks with those of others that are the same, byte for byte; `others` are trees on
/// the same file system, on which that [can be](can_share), with their manifests. Gives back the bytes that are shared.
/// What fails on the way is whole all the same.
pub(crate) fn share(
    tree: &Path,
    own: &Manifest,
    others: &[(PathBuf, Manifest)],
) -> io::Result<u64> {
    let mut known: HashMap<(u64, u32), PathBuf> = HashMap::new();
    for (folder, manifest) in others {
        for file in manifest.contents().filter(|file| file.size >= LEAST) {
            known.insert((file.size, file.checksum), folder.join(file.path));
        }
    }
    let mut shared = 0;
    for file in own.contents().filter(|file| file.size >= LEAST) {
        if let Some(other) = known.get(&(file.size, file.checksum))
            && share_file(&tree.join(file.path), other)?
        {
            shared += file.size;
        }
    }
    Ok(shared)
}

/// Whether files below this folder can share blocks.
pub(crate) fn can_share(folder: &Path) -> io::Result<bool> {
    let (one, other) = (
        tempfile::tempfile_in(folder)?,
        tempfile::tempfile_in(folder)?,
    );
    Ok(system::share_blocks(&one, &other).is_ok())
}

/// Has a file share its blocks with another, if that has the same bytes.
fn share_file(path: &Path, other: &Path) -> io::Result<bool> {
    let Ok(other) = File::open(other) else {
        return Ok(false);
    };
    // Its permissions may forbid writing, as those of Go's sources do; whoever owns it may change that.
    let Ok(file) = File::options().read(true).write(true).open(path) else {
        return Ok(false);
    };
    if !are_equal(&file, &other)? {
        return Ok(false);
    }
    let modified = file.metadata()?.modified()?;
    system::share_blocks(&file, &other)?;
    file.set_times(FileTimes::new().set_modified(modified))?;
    Ok(true)
}

fn are_equal(one: &File, other: &File) -> io::Result<bool> {
    const PIECE: u64 = 256 << 10;
    let (mut first, mut second) = (Vec::new(), Vec::new());
    loop {
        first.clear();
        second.clear();
        one.take(PIECE).read_to_end(&mut first)?;
        other.take(PIECE).read_to_end(&mut second)?;
        if first != second {
            return Ok(false);
        }
        if first.is_empty() {
            return Ok(true);
        }
    }
}
