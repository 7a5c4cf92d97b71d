//! Zip archives, whose table of contents is at their end.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::Path;

use rustix::fs::{FileType, RawMode};
use zip::ZipArchive;
use zip::result::ZipError;

use super::limits::{Bounds, UnpackError, refuse};
use super::tree::{Tree, bytes_to_path, inside};
use crate::manifest::Manifest;
use crate::pipe::PipeReader;

/// The longest target that a link in a zip archive may have, in bytes: PATH_MAX of Linux.
const LONGEST_TARGET: u64 = 4096;

pub(super) fn unpack_zip(
    mut input: PipeReader,
    strip: usize,
    into: &Path,
    bounds: Bounds,
) -> Result<Manifest, UnpackError> {
    let mut spool = || -> io::Result<File> {
        let mut file = tempfile::tempfile_in(into)?;
        io::copy(&mut input, &mut file)?;
        Ok(file)
    };
    let file = spool().map_err(|source| match source.kind() {
        io::ErrorKind::BrokenPipe => UnpackError::Damaged(source),
        _ => UnpackError::Write {
            path: into.to_owned(),
            source,
        },
    })?;
    let damaged = |error: ZipError| UnpackError::Damaged(error.into());
    let mut archive = ZipArchive::new(BufReader::new(file)).map_err(damaged)?;
    if archive.has_duplicate_names() {
        return Err(UnpackError::Ambiguous("two entries of the same name"));
    }
    if archive.has_overlapping_entries().map_err(damaged)? {
        return Err(UnpackError::Ambiguous("entries that share their bytes"));
    }
    let mut tree = Tree::new(into, bounds);
    for index in 0..archive.len() {
        let mut entry = archive.by_index(index).map_err(damaged)?;
        tree.count_entry()?;
        let full = bytes_to_path(entry.name_raw());
        let Some(path) = inside(&full, strip)? else {
            continue;
        };
        // Archives from systems without permissions have none: files are then plain files.
        let mode = entry.unix_mode().unwrap_or(0o644);
        match FileType::from_raw_mode(mode as RawMode) {
            _ if entry.is_dir() => tree.add_folder(&path)?,
            FileType::Symlink => {
                let mut target = Vec::new();
                (&mut entry)
                    .take(LONGEST_TARGET)
                    .read_to_end(&mut target)
                    .map_err(UnpackError::Damaged)?;
                tree.add_symlink(&path, &bytes_to_path(&target))?;
            }
            FileType::RegularFile | FileType::Unknown => {
                tree.add_file(&path, mode, None, &mut entry)?;
            }
            _ => return Err(refuse(&full, "is neither a file nor a folder nor a link")),
        }
    }
    tree.finish()
}
