//! Tar archives: each entry in its order, then the padding behind the last.

use std::io;
use std::path::Path;
use std::time::{Duration, SystemTime};

use tar::EntryType;

use super::limits::{Bounds, UnpackError, refuse};
use super::tree::{Tree, bytes_to_path, inside};
use crate::manifest::Manifest;
use crate::pipe::PipeReader;

pub(super) fn unpack_tar(
    mut input: PipeReader,
    strip: usize,
    into: &Path,
    bounds: Bounds,
) -> Result<Manifest, UnpackError> {
    let mut tree = Tree::new(into, bounds);
    let mut archive = tar::Archive::new(&mut input);
    for entry in archive.entries().map_err(UnpackError::Damaged)? {
        let mut entry = entry.map_err(UnpackError::Damaged)?;
        tree.count_entry()?;
        let kind = entry.header().entry_type();
        if kind == EntryType::XGlobalHeader {
            continue;
        }
        let full = bytes_to_path(&entry.path_bytes());
        let Some(path) = inside(&full, strip)? else {
            continue;
        };
        match kind {
            EntryType::Directory => tree.add_folder(&path)?,
            EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => {
                let header = entry.header();
                let mode = header.mode().map_err(UnpackError::Damaged)?;
                let modified = header.mtime().map_err(UnpackError::Damaged)?;
                let modified = SystemTime::UNIX_EPOCH.checked_add(Duration::from_secs(modified));
                tree.add_file(&path, mode, modified, &mut entry)?;
            }
            EntryType::Symlink | EntryType::Link => {
                let target = entry
                    .link_name_bytes()
                    .map(|bytes| bytes_to_path(&bytes))
                    .ok_or_else(|| refuse(&full, "is a link to nothing"))?;
                match kind {
                    EntryType::Symlink => tree.add_symlink(&path, &target)?,
                    _ => {
                        let target = inside(&target, strip)?
                            .ok_or_else(|| refuse(&full, "is a link to a folder"))?;
                        tree.add_hard_link(&path, &target)?;
                    }
                }
            }
            _ => return Err(refuse(&full, "is neither a file nor a folder nor a link")),
        }
    }
    // Padding behind the last entry is read too, so that the whole archive passes its digest.
    io::copy(&mut input, &mut io::sink()).map_err(UnpackError::Damaged)?;
    tree.finish()
}
