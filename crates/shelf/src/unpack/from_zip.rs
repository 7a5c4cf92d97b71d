//! Zip archives, whose table of contents is at their end.

use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, BufReader, Read, Seek};
use std::path::Path;

use vshelf_core::definition::ArchiveLayout;
use vshelf_files::system;
use zip::ZipArchive;
use zip::result::ZipError;

use super::budget::{Budget, Budgeted};
use super::limits::{Bounds, UnpackError, refuse};
use super::tree::{Tree, inside};
use crate::manifest::Manifest;
use crate::pipe::PipeReader;

/// The longest target that a link in a zip archive may have, in bytes: PATH_MAX of Linux.
const LONGEST_TARGET: u64 = 4096;

/// The longest table of contents that is read into memory, in bytes: one of 60,000 files with names of
/// usual length is 8 MB long.
const LONGEST_CONTENTS: u64 = 12 << 20;

/// The bits of a mode that say what kind of file it is, and two of the kinds (POSIX.1-2024, cpio interchange
/// format in pax).
const KIND: u32 = 0o170_000;
const LINK: u32 = 0o120_000;
const PLAIN: u32 = 0o100_000;

/// What marks the end of an archive (APPNOTE, §4.3.16).
const END: &[u8] = b"PK\x05\x06";

/// The length of that, without the comment behind it.
const END_LENGTH: u64 = 22;

/// What stands in front of the end of an archive in the large form (APPNOTE, §4.3.15).
const LARGE_END: &[u8] = b"PK\x06\x07";
const LARGE_END_LENGTH: u64 = 20;

pub(super) fn unpack_zip(
    mut input: PipeReader,
    layout: &ArchiveLayout,
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
    let budget = Budget::default();
    budget.allow(LONGEST_CONTENTS);
    let reader = Budgeted::new(BufReader::new(&file), &budget);
    let mut archive = ZipArchive::new(reader).map_err(|error| match budget.is_spent() {
        true => UnpackError::TooMuch(format!("{LONGEST_CONTENTS} bytes in its table of contents")),
        false => damaged(error),
    })?;
    budget.lift();
    check_one_meaning(&mut archive)?;
    if !ends_behind_its_contents(&file, archive.comment().len()).map_err(UnpackError::Damaged)? {
        return Err(UnpackError::Ambiguous("two ends"));
    }
    let mut tree = Tree::new(into, bounds);
    for index in 0..archive.len() {
        let mut entry = archive.by_index(index).map_err(damaged)?;
        tree.count_entry()?;
        let full = system::path_of(entry.name_raw());
        let Some(path) = inside(&full, layout)? else {
            tree.leave_out(&full);
            continue;
        };
        // Archives from systems without permissions have none: files are then plain files.
        let mode = entry.unix_mode().unwrap_or(0o644);
        match mode & KIND {
            _ if entry.is_dir() => tree.add_folder(&path)?,
            LINK => {
                let mut target = Vec::new();
                (&mut entry)
                    .take(LONGEST_TARGET)
                    .read_to_end(&mut target)
                    .map_err(UnpackError::Damaged)?;
                tree.add_symlink(&path, &system::path_of(&target))?;
            }
            PLAIN | 0 => {
                let mode = mode | if is_wheel_script(&full) { 0o111 } else { 0 };
                tree.add_file(&path, mode, None, &mut entry)?;
            }
            _ => return Err(refuse(&full, "is neither a file nor a folder nor a link")),
        }
    }
    tree.finish(layout)
}

/// Whether a file is a script of a wheel, which is executable whatever its mode says (PyPA, "Binary distribution
/// format", `NAME.data/scripts`).
fn is_wheel_script(path: &Path) -> bool {
    let mut parts = path.iter();
    let is_data = |part: &OsStr| part.as_encoded_bytes().ends_with(b".data");
    parts.next().is_some_and(is_data) && parts.next() == Some(OsStr::new("scripts"))
}

/// Refuses what readers could see different things in: those that go by the table of contents, those that
/// go from entry to entry, and those that look for an end from the front.
fn check_one_meaning<R: Read + Seek>(archive: &mut ZipArchive<R>) -> Result<(), UnpackError> {
    let damaged = |error: ZipError| UnpackError::Damaged(error.into());
    if archive.has_duplicate_names() {
        return Err(UnpackError::Ambiguous("two entries of the same name"));
    }
    if archive.has_overlapping_entries().map_err(damaged)? {
        return Err(UnpackError::Ambiguous("entries that share their bytes"));
    }
    if archive.offset() != 0 {
        return Err(UnpackError::Ambiguous("something in front of it"));
    }
    if archive.comment().windows(END.len()).any(|part| part == END) {
        return Err(UnpackError::Ambiguous("two ends"));
    }
    archive
        .validate_header_consistency()
        .map_err(|error| match error {
            ZipError::Io(error) => UnpackError::Damaged(error),
            _ => UnpackError::Ambiguous("headers that its table of contents does not agree with"),
        })
}

/// Whether the end of an archive with a comment of this length stands right behind the table of contents
/// that it names: otherwise another end stands between.
fn ends_behind_its_contents(file: &File, comment: usize) -> io::Result<bool> {
    let end = file
        .metadata()?
        .len()
        .checked_sub(END_LENGTH + comment as u64);
    let end = end.ok_or(io::ErrorKind::UnexpectedEof)?;
    let mut record = [0; END_LENGTH as usize];
    system::read_exact_at(file, &mut record, end)?;
    let number = |at: usize| {
        let bytes = record[at..at + 4].try_into().expect("four bytes are four");
        u64::from(u32::from_le_bytes(bytes))
    };
    let (size, offset) = (number(12), number(16));
    if record.starts_with(END) && offset + size == end {
        return Ok(true);
    }
    let mut large = [0; LARGE_END.len()];
    let before = end.saturating_sub(LARGE_END_LENGTH);
    system::read_exact_at(file, &mut large, before)?;
    Ok(record.starts_with(END) && large == LARGE_END)
}
