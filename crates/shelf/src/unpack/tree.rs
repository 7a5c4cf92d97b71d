//! Writing an archive's entries into a folder, each checked before it is written.

use std::collections::{BTreeMap, HashSet};
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::path::{Component, Path, PathBuf};
use std::time::SystemTime;

use vshelf_core::definition::ArchiveLayout;
use vshelf_files::pieces::PIECE;
use vshelf_files::tree::relative_target;
use vshelf_files::{optional, system};

use super::limits::{Bounds, MOST_NAMED, UnpackError, refuse};
use super::root;
use crate::manifest::{Manifest, ManifestWriter};

/// The longest path that an entry may have, in bytes, and the most folders that it may lie in. No build
/// comes near; deeper ones are hard to delete, and longer ones to name.
const LONGEST_PATH: usize = 1024;
pub(crate) const DEEPEST: usize = 128;

/// What the paths of all entries may have together, in bytes: they are kept in memory.
const ALL_PATHS: u64 = 12 << 20;

/// The entry's path in the install; nothing where it does not become part of that.
pub(super) fn inside(full: &Path, layout: &ArchiveLayout) -> Result<Option<PathBuf>, UnpackError> {
    check_text(full, full)?;
    if full.as_os_str().len() > LONGEST_PATH {
        return Err(refuse(full, "has a path of more than 1,024 bytes"));
    }
    if full.components().count() > DEEPEST + 1 {
        return Err(refuse(full, "lies more than 128 folders deep"));
    }
    let mut names = Vec::new();
    for part in full.components() {
        match part {
            Component::Normal(name) => names.extend(name.to_str()),
            Component::CurDir => {}
            Component::RootDir | Component::Prefix(_) => {
                return Err(refuse(full, "is an absolute path"));
            }
            Component::ParentDir => return Err(refuse(full, "leads out of the archive")),
        }
    }
    Ok(layout.place(&names).map(|names| names.iter().collect()))
}

/// A name that lists cannot show or settings files cannot hold is in no real build.
fn check_text(entry: &Path, text: &Path) -> Result<(), UnpackError> {
    match text.to_str() {
        None => Err(refuse(entry, "has a name that is not UTF-8")),
        Some(text) if text.contains(|c: char| c.is_ascii_control()) => {
            Err(refuse(entry, "has a control character in its name"))
        }
        Some(_) => Ok(()),
    }
}

/// Whether making a hard link failed because this file system has none, or no more of this file
/// (link(2)).
fn has_no_hard_links(error: &io::Error) -> bool {
    use io::ErrorKind::{PermissionDenied, TooManyLinks, Unsupported};
    matches!(error.kind(), PermissionDenied | TooManyLinks | Unsupported)
}

/// What was written so far, by path below the root.
pub(super) struct Tree<'a> {
    root: &'a Path,
    bounds: Bounds,
    entries: u64,
    bytes: u64,
    path_bytes: u64,
    manifest: ManifestWriter,
    folders: HashSet<PathBuf>,
    links: BTreeMap<PathBuf, PathBuf>,
    /// The first entries that are no part of the install, for the error if none is.
    left_out: Vec<String>,
    buffer: Vec<u8>,
}

impl<'a> Tree<'a> {
    pub(super) fn new(root: &'a Path, bounds: Bounds) -> Tree<'a> {
        Tree {
            root,
            bounds,
            entries: 0,
            bytes: 0,
            path_bytes: 0,
            manifest: ManifestWriter::default(),
            folders: HashSet::from([PathBuf::new()]),
            links: BTreeMap::new(),
            left_out: Vec::new(),
            buffer: vec![0; PIECE],
        }
    }

    /// Notes an entry that is no part of the install.
    pub(super) fn leave_out(&mut self, full: &Path) {
        if self.left_out.len() < MOST_NAMED {
            self.left_out.push(full.display().to_string());
        }
    }

    /// Reads and counts what is left of an entry.
    pub(super) fn pass_over(&mut self, contents: &mut impl Read) -> Result<(), UnpackError> {
        while self.read_piece(contents)? > 0 {}
        Ok(())
    }

    /// Reads the next piece of an entry into the one buffer for all files, since most builds have
    /// thousands of small ones, and counts it; says how long it is.
    fn read_piece(&mut self, contents: &mut impl Read) -> Result<usize, UnpackError> {
        let count = contents
            .read(&mut self.buffer)
            .map_err(UnpackError::Damaged)?;
        self.bytes += count as u64;
        match self.bytes > self.bounds.bytes {
            true => Err(UnpackError::TooMuch(format!("{} bytes", self.bounds.bytes))),
            false => Ok(count),
        }
    }

    /// Counts what is kept of a path in memory.
    fn count_path(&mut self, path: &Path) -> Result<(), UnpackError> {
        self.path_bytes += path.as_os_str().len() as u64;
        match self.path_bytes > ALL_PATHS {
            true => Err(UnpackError::TooMuch(format!("{ALL_PATHS} bytes of paths"))),
            false => Ok(()),
        }
    }

    pub(super) fn count_entry(&mut self) -> Result<(), UnpackError> {
        self.entries += 1;
        if self.entries > self.bounds.entries {
            return Err(UnpackError::TooMuch(format!(
                "{} entries",
                self.bounds.entries
            )));
        }
        Ok(())
    }

    fn write_error(&self, path: &Path, source: io::Error) -> UnpackError {
        match source.kind() {
            io::ErrorKind::AlreadyExists if self.has_other_case(path) => refuse(
                path,
                "differs from another entry in upper and lower case alone, which this file system does not tell apart",
            ),
            io::ErrorKind::AlreadyExists => refuse(path, "stands in it twice"),
            _ => UnpackError::Write {
                path: self.root.join(path),
                source,
            },
        }
    }

    /// Whether what stands in the place of `path` has its name in other letters, upper for lower case.
    fn has_other_case(&self, path: &Path) -> bool {
        let place = self.root.join(path);
        let folder = place.parent().unwrap_or(self.root);
        let names = optional::names(folder).unwrap_or_default();
        let own = path.file_name().unwrap_or_default().to_string_lossy();
        !names.iter().any(|name| **name == own)
            && names
                .iter()
                .any(|name| name.to_lowercase() == own.to_lowercase())
    }

    /// Makes the folder and those above it; the way there must not lead through a link or file.
    pub(super) fn add_folder(&mut self, path: &Path) -> Result<(), UnpackError> {
        if self.folders.contains(path) {
            return Ok(());
        }
        if self.links.contains_key(path) {
            return Err(refuse(path, "leads through a link"));
        }
        self.count_path(path)?;
        if let Some(above) = path.parent() {
            self.add_folder(above)?;
        }
        fs::create_dir(self.root.join(path)).map_err(|e| self.write_error(path, e))?;
        self.folders.insert(path.to_owned());
        Ok(())
    }

    fn add_parent(&mut self, path: &Path) -> Result<(), UnpackError> {
        self.add_folder(path.parent().unwrap_or(Path::new("")))
    }

    pub(super) fn add_file(
        &mut self,
        path: &Path,
        mode: u32,
        modified: Option<SystemTime>,
        contents: &mut impl Read,
    ) -> Result<(), UnpackError> {
        self.count_path(path)?;
        self.add_parent(path)?;
        // Neither set-user-id bits nor files that their owner cannot remove belong on a shelf.
        let mode = (mode & 0o755) | 0o600;
        let mut options = OpenOptions::new();
        let mut file = system::with_permission_bits(&mut options, mode)
            .write(true)
            .create_new(true)
            .open(self.root.join(path))
            .map_err(|e| self.write_error(path, e))?;
        let mut checksum = crc32fast::Hasher::new();
        let before = self.bytes;
        loop {
            let count = self.read_piece(contents)?;
            if count == 0 {
                break;
            }
            checksum.update(&self.buffer[..count]);
            file.write_all(&self.buffer[..count])
                .map_err(|e| self.write_error(path, e))?;
        }
        if let Some(time) = modified {
            file.set_modified(time)
                .map_err(|e| self.write_error(path, e))?;
        }
        let size = self.bytes - before;
        self.manifest
            .add_file(path, mode & 0o111 != 0, size, checksum.finalize());
        Ok(())
    }

    pub(super) fn add_symlink(&mut self, path: &Path, target: &Path) -> Result<(), UnpackError> {
        self.count_path(path)?;
        self.count_path(target)?;
        self.add_parent(path)?;
        check_text(path, target)?;
        if target.is_absolute() {
            return Err(refuse(path, "is a link to an absolute path"));
        }
        system::symlink(target, &self.root.join(path)).map_err(|e| self.write_error(path, e))?;
        self.links.insert(path.to_owned(), target.to_owned());
        self.manifest.add_link(path, target);
        Ok(())
    }

    pub(super) fn add_hard_link(&mut self, path: &Path, target: &Path) -> Result<(), UnpackError> {
        self.count_path(path)?;
        self.add_parent(path)?;
        let through_link = target.ancestors().any(|part| self.links.contains_key(part));
        if through_link || self.folders.contains(target) {
            return Err(refuse(path, "is a hard link to something else than a file"));
        }
        let linked = fs::hard_link(self.root.join(target), self.root.join(path));
        match linked {
            Ok(()) => {
                self.manifest.add_twin(path, target);
                Ok(())
            }
            Err(error) if has_no_hard_links(&error) => self.add_copy(path, target),
            Err(error) => Err(self.write_error(path, error)),
        }
    }

    /// A second file with the same contents, where the file system does not give one two names.
    fn add_copy(&mut self, path: &Path, target: &Path) -> Result<(), UnpackError> {
        let mut original =
            File::open(self.root.join(target)).map_err(|e| self.write_error(target, e))?;
        let found = original
            .metadata()
            .map_err(|e| self.write_error(target, e))?;
        let (mode, modified) = (system::permission_bits(&found), found.modified().ok());
        self.add_file(path, mode, modified, &mut original)
    }

    /// Adds the links that the archive could not hold, as far as what they lead to is there.
    fn add_links(&mut self, layout: &ArchiveLayout) -> Result<(), UnpackError> {
        for (link, target) in &layout.links {
            let (link, target) = (Path::new(link), Path::new(target));
            if !self.root.join(target).exists() {
                continue;
            }
            self.add_symlink(link, &relative_target(link, target))?;
        }
        Ok(())
    }

    /// Adds what the archive could not hold, and checks where the links lead, now that all are known.
    pub(super) fn finish(mut self, layout: &ArchiveLayout) -> Result<Manifest, UnpackError> {
        self.add_links(layout)?;
        let mut manifest = std::mem::take(&mut self.manifest).finish();
        if let Some(file) = layout.root_with.as_ref().filter(|_| manifest.files() > 0) {
            let folder = root::find(&manifest, file)?;
            manifest = (manifest.below(&folder)).map_err(|path| {
                refuse(
                    &path,
                    "is a hard link to a file that does not become part of the install",
                )
            })?;
            self.links = root::links_below(&self.links, &folder);
            root::raise(self.root, &folder)?;
        }
        for link in self.links.keys() {
            if !self.stays_inside(link) {
                return Err(refuse(link, "is a link out of the archive"));
            }
        }
        match manifest.files() {
            0 => Err(UnpackError::Empty(self.left_out)),
            _ => Ok(manifest),
        }
    }

    /// Follows a link as the system would, through every other link, and says whether it stays
    /// below the root all the way.
    fn stays_inside(&self, link: &Path) -> bool {
        /// As many links as Linux follows before it gives up (path_resolution(7)).
        const MOST_LINKS: usize = 40;
        let mut at = PathBuf::new();
        let mut ahead: Vec<PathBuf> = vec![link.to_owned()];
        let mut followed = 0;
        while let Some(path) = ahead.pop() {
            let mut parts = path.components();
            let Some(part) = parts.next() else {
                continue;
            };
            let rest = parts.as_path().to_owned();
            if !rest.as_os_str().is_empty() {
                ahead.push(rest);
            }
            match part {
                Component::Normal(name) => at.push(name),
                Component::CurDir => {}
                Component::ParentDir => {
                    if !at.pop() {
                        return false;
                    }
                }
                Component::RootDir | Component::Prefix(_) => return false,
            }
            if let Some(target) = self.links.get(&at) {
                followed += 1;
                if followed > MOST_LINKS {
                    return true;
                }
                at.pop();
                ahead.push(target.clone());
            }
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_there_already_is_told_from_what_differs_in_case() {
        let root = tempfile::tempdir().unwrap();
        fs::create_dir(root.path().join("Share")).unwrap();
        let tree = Tree::new(root.path(), Bounds::default());
        let refusal = |path: &str| {
            let error = io::ErrorKind::AlreadyExists.into();
            tree.write_error(Path::new(path), error).to_string()
        };
        assert!(refusal("Share").ends_with("stands in it twice"));
        assert!(refusal("share").contains("upper and lower case alone"));
    }
}
