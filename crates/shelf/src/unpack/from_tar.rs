//! Tar archives: each entry in its order, then the padding behind the last.

use std::io::{self, Read};
use std::path::Path;
use std::time::{Duration, SystemTime};

use tar::{Entry, EntryType};
use vshelf_core::definition::ArchiveLayout;
use vshelf_files::system;

use super::budget::{Budget, Budgeted};
use super::limits::{Bounds, UnpackError, refuse};
use super::tree::{Tree, inside};
use crate::manifest::Manifest;
use crate::pipe::PipeReader;

/// What the headers of one entry may hold, long names and other extensions included, in bytes.
const LONGEST_HEADERS: u64 = 1 << 20;

/// What may stand behind the last entry, in bytes. Archives are padded to a multiple of what a tape wrote
/// at a time, which is 10 KiB as a rule (GNU tar manual, "Blocking Factor").
const LONGEST_PADDING: u64 = 1 << 20;

/// What begins the names of extensions that describe a file with holes (GNU tar manual, "PAX Format").
const SPARSE: &str = "GNU.sparse.";

pub(super) fn unpack_tar(
    input: PipeReader,
    layout: &ArchiveLayout,
    into: &Path,
    bounds: Bounds,
) -> Result<Manifest, UnpackError> {
    let budget = Budget::default();
    let mut input = Budgeted::new(input, &budget);
    let mut tree = Tree::new(into, bounds);
    let mut archive = tar::Archive::new(&mut input);
    let headers = |error| match budget.is_spent() {
        true => UnpackError::TooMuch(format!(
            "{LONGEST_HEADERS} bytes in the headers of an entry"
        )),
        false => UnpackError::Damaged(error),
    };
    let mut entries = archive.entries().map_err(UnpackError::Damaged)?;
    loop {
        budget.allow(LONGEST_HEADERS);
        let Some(entry) = entries.next() else {
            break;
        };
        let mut entry = entry.map_err(headers)?;
        budget.lift();
        tree.count_entry()?;
        add_entry(&mut tree, &mut entry, layout)?;
        // What is not written is counted too: decoding it takes its time.
        tree.pass_over(&mut entry)?;
    }
    // Padding behind the last entry is read too, so that the whole archive passes its digest.
    budget.lift();
    let mut behind = (&mut input).take(LONGEST_PADDING + 1);
    let padding = io::copy(&mut behind, &mut io::sink());
    match padding.map_err(UnpackError::Damaged)? {
        0..=LONGEST_PADDING => tree.finish(layout),
        _ => Err(UnpackError::TooMuch(format!(
            "{LONGEST_PADDING} bytes behind its last entry"
        ))),
    }
}

fn add_entry(
    tree: &mut Tree<'_>,
    entry: &mut Entry<'_, impl Read>,
    layout: &ArchiveLayout,
) -> Result<(), UnpackError> {
    let kind = entry.header().entry_type();
    if kind == EntryType::XGlobalHeader {
        return Ok(());
    }
    let full = system::path_of(&entry.path_bytes());
    if has_holes(entry)? {
        return Err(refuse(&full, "has holes in a form that is not read"));
    }
    let Some(path) = inside(&full, layout)? else {
        tree.leave_out(&full);
        return Ok(());
    };
    match kind {
        EntryType::Directory => tree.add_folder(&path),
        EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => {
            let header = entry.header();
            let mode = header.mode().map_err(UnpackError::Damaged)?;
            let modified = header.mtime().map_err(UnpackError::Damaged)?;
            let modified = SystemTime::UNIX_EPOCH.checked_add(Duration::from_secs(modified));
            tree.add_file(&path, mode, modified, entry)
        }
        EntryType::Symlink | EntryType::Link => {
            let target = entry
                .link_name_bytes()
                .map(|bytes| system::path_of(&bytes))
                .ok_or_else(|| refuse(&full, "is a link to nothing"))?;
            if kind == EntryType::Symlink {
                return tree.add_symlink(&path, &target);
            }
            let target = inside(&target, layout)?;
            let target = target.ok_or_else(|| refuse(&full, "is a link to a folder"))?;
            tree.add_hard_link(&path, &target)
        }
        _ => Err(refuse(&full, "is neither a file nor a folder nor a link")),
    }
}

/// Whether an entry's extensions say that its contents leave out holes, which would come out as a file of
/// another name with other contents.
fn has_holes(entry: &mut Entry<'_, impl Read>) -> Result<bool, UnpackError> {
    let extensions = entry.pax_extensions().map_err(UnpackError::Damaged)?;
    for extension in extensions.into_iter().flatten() {
        let extension = extension.map_err(UnpackError::Damaged)?;
        if extension.key().is_ok_and(|key| key.starts_with(SPARSE)) {
            return Ok(true);
        }
    }
    Ok(false)
}
