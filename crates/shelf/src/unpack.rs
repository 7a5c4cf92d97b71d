//! Unpacking an archive while it comes, with nothing written outside of its folder.
//!
//! Decoding runs on a thread of its own beside writing. Every entry is checked before it is
//! written: no absolute path, no `..`, no way through a link, no device, no second file of the same
//! name, and no more bytes or entries than any real build has. Links are checked once all are
//! known, since an innocent one can lead out through another.

use std::collections::{BTreeMap, HashSet};
use std::ffi::OsStr;
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead, Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{OpenOptionsExt, symlink};
use std::path::{Component, Path, PathBuf};
use std::thread;
use std::time::{Duration, SystemTime};

use flate2::bufread::MultiGzDecoder;
use liblzma::bufread::XzDecoder;
use tar::EntryType;

use crate::pipe::{PipeReader, PipeWriter, pipe};

/// What an archive may hold at the most.
#[derive(Clone, Copy, Debug)]
pub struct Bounds {
    /// Entries of any kind.
    pub entries: u64,
    /// Bytes of all files together.
    pub bytes: u64,
}

impl Default for Bounds {
    /// Ten times what the largest published builds of runtimes hold.
    fn default() -> Self {
        Bounds {
            entries: 500_000,
            bytes: 16 << 30,
        }
    }
}

/// What was unpacked.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Unpacked {
    /// Files and links.
    pub files: u64,
    /// Bytes of all files.
    pub bytes: u64,
}

/// Why an archive was not unpacked.
#[derive(Debug, thiserror::Error)]
pub enum UnpackError {
    /// Not one of the formats that builds are published in.
    #[error("it is no tar archive with gzip, xz or zstd")]
    Format,
    /// The archive ends early or its bytes make no sense.
    #[error("it cannot be unpacked")]
    Damaged(#[source] io::Error),
    /// An entry that must not be written.
    #[error("its entry {entry:?} {problem}")]
    Entry {
        /// The entry's path as it stands in the archive.
        entry: String,
        /// What is wrong with it.
        problem: &'static str,
    },
    /// More than any real build has.
    #[error("it holds more than {0}")]
    TooMuch(String),
    /// Nothing is left below the folders that are stripped.
    #[error("it holds no files below its top folder")]
    Empty,
    /// A file cannot be written here.
    #[error("{path} cannot be written")]
    Write {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
}

/// Unpacks the archive that `input` brings into the existing, empty folder `into`, without the
/// first `strip` folders of every entry.
pub fn unpack(
    input: PipeReader,
    strip: usize,
    into: &Path,
    bounds: Bounds,
) -> Result<Unpacked, UnpackError> {
    let (decoded_in, decoded_out) = pipe();
    thread::scope(|scope| {
        let decoder = scope.spawn(move || decode(input, decoded_in));
        let unpacked = unpack_tar(decoded_out, strip, into, bounds);
        match (
            decoder.join().expect("the decoder does not panic"),
            unpacked,
        ) {
            (Ok(()), result) => result,
            // The decoder knows better why bytes stopped, unless it stopped because we did.
            (Err(UnpackError::Damaged(e)), Err(error)) if is_stop(&e) => Err(error),
            (Err(error), _) => Err(error),
        }
    })
}

fn is_stop(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::BrokenPipe
}

/// Decodes by the archive's first bytes, whatever its name says.
fn decode(mut input: PipeReader, mut decoded: PipeWriter) -> Result<(), UnpackError> {
    let first = input.fill_buf().map_err(UnpackError::Damaged)?;
    if first.starts_with(&[0x1f, 0x8b]) {
        copy(&mut MultiGzDecoder::new(input), &mut decoded)?;
    } else if first.starts_with(b"\xfd7zXZ\0") {
        copy(&mut XzDecoder::new_multi_decoder(input), &mut decoded)?;
    } else if first.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]) {
        let mut decoder = zstd::Decoder::with_buffer(input).map_err(UnpackError::Damaged)?;
        copy(&mut decoder, &mut decoded)?;
    } else {
        return Err(UnpackError::Format);
    }
    decoded.finish().map_err(UnpackError::Damaged)
}

fn copy(from: &mut impl Read, to: &mut PipeWriter) -> Result<(), UnpackError> {
    let mut piece = vec![0; 256 << 10];
    loop {
        match from.read(&mut piece).map_err(UnpackError::Damaged)? {
            0 => return Ok(()),
            count => to
                .write_all(&piece[..count])
                .map_err(UnpackError::Damaged)?,
        }
    }
}

fn unpack_tar(
    mut input: PipeReader,
    strip: usize,
    into: &Path,
    bounds: Bounds,
) -> Result<Unpacked, UnpackError> {
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

fn bytes_to_path(bytes: &[u8]) -> PathBuf {
    PathBuf::from(OsStr::from_bytes(bytes))
}

fn refuse(entry: &Path, problem: &'static str) -> UnpackError {
    UnpackError::Entry {
        entry: entry.to_string_lossy().into_owned(),
        problem,
    }
}

/// The entry's path below the stripped folders; nothing for those folders themselves.
fn inside(full: &Path, strip: usize) -> Result<Option<PathBuf>, UnpackError> {
    if full.as_os_str().as_bytes().iter().any(u8::is_ascii_control) {
        return Err(refuse(full, "has a control character in its name"));
    }
    let mut path = PathBuf::new();
    let mut left = strip;
    for part in full.components() {
        match part {
            Component::Normal(_) if left > 0 => left -= 1,
            Component::Normal(name) => path.push(name),
            Component::CurDir => {}
            Component::RootDir | Component::Prefix(_) => {
                return Err(refuse(full, "is an absolute path"));
            }
            Component::ParentDir => return Err(refuse(full, "leads out of the archive")),
        }
    }
    Ok((!path.as_os_str().is_empty()).then_some(path))
}

/// What was written so far, by path below the root.
struct Tree<'a> {
    root: &'a Path,
    bounds: Bounds,
    entries: u64,
    unpacked: Unpacked,
    folders: HashSet<PathBuf>,
    links: BTreeMap<PathBuf, PathBuf>,
    buffer: Vec<u8>,
}

impl<'a> Tree<'a> {
    fn new(root: &'a Path, bounds: Bounds) -> Tree<'a> {
        Tree {
            root,
            bounds,
            entries: 0,
            unpacked: Unpacked::default(),
            folders: HashSet::from([PathBuf::new()]),
            links: BTreeMap::new(),
            buffer: vec![0; 256 << 10],
        }
    }

    fn count_entry(&mut self) -> Result<(), UnpackError> {
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
            io::ErrorKind::AlreadyExists => refuse(path, "stands in it twice"),
            _ => UnpackError::Write {
                path: self.root.join(path),
                source,
            },
        }
    }

    /// Makes the folder and those above it; the way there must not lead through a link or file.
    fn add_folder(&mut self, path: &Path) -> Result<(), UnpackError> {
        if self.folders.contains(path) {
            return Ok(());
        }
        if self.links.contains_key(path) {
            return Err(refuse(path, "leads through a link"));
        }
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

    fn add_file(
        &mut self,
        path: &Path,
        mode: u32,
        modified: u64,
        contents: &mut impl Read,
    ) -> Result<(), UnpackError> {
        self.add_parent(path)?;
        // Neither set-user-id bits nor files that their owner cannot remove belong on a shelf.
        let mode = (mode & 0o755) | 0o600;
        let mut file: File = OpenOptions::new()
            .write(true)
            .create_new(true)
            .mode(mode)
            .open(self.root.join(path))
            .map_err(|e| self.write_error(path, e))?;
        loop {
            let count = contents
                .read(&mut self.buffer)
                .map_err(UnpackError::Damaged)?;
            if count == 0 {
                break;
            }
            self.unpacked.bytes += count as u64;
            if self.unpacked.bytes > self.bounds.bytes {
                return Err(UnpackError::TooMuch(format!("{} bytes", self.bounds.bytes)));
            }
            file.write_all(&self.buffer[..count])
                .map_err(|e| self.write_error(path, e))?;
        }
        if let Some(time) = SystemTime::UNIX_EPOCH.checked_add(Duration::from_secs(modified)) {
            file.set_modified(time)
                .map_err(|e| self.write_error(path, e))?;
        }
        self.unpacked.files += 1;
        Ok(())
    }

    fn add_symlink(&mut self, path: &Path, target: &Path) -> Result<(), UnpackError> {
        self.add_parent(path)?;
        if target.is_absolute() {
            return Err(refuse(path, "is a link to an absolute path"));
        }
        symlink(target, self.root.join(path)).map_err(|e| self.write_error(path, e))?;
        self.links.insert(path.to_owned(), target.to_owned());
        self.unpacked.files += 1;
        Ok(())
    }

    fn add_hard_link(&mut self, path: &Path, target: &Path) -> Result<(), UnpackError> {
        self.add_parent(path)?;
        let through_link = target.ancestors().any(|part| self.links.contains_key(part));
        if through_link || self.folders.contains(target) {
            return Err(refuse(path, "is a hard link to something else than a file"));
        }
        fs::hard_link(self.root.join(target), self.root.join(path))
            .map_err(|e| self.write_error(path, e))?;
        self.unpacked.files += 1;
        Ok(())
    }

    fn finish(self) -> Result<Unpacked, UnpackError> {
        for link in self.links.keys() {
            if !self.stays_inside(link) {
                return Err(refuse(link, "is a link out of the archive"));
            }
        }
        match self.unpacked.files {
            0 => Err(UnpackError::Empty),
            _ => Ok(self.unpacked),
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
    use flate2::Compression;
    use flate2::write::GzEncoder;
    use rstest::rstest;
    use tar::{Builder, Header};

    type Entries<'a> = &'a [(EntryType, &'a str, &'a str)];

    const DIR: EntryType = EntryType::Directory;
    const FILE: EntryType = EntryType::Regular;
    const SYM: EntryType = EntryType::Symlink;
    const HARD: EntryType = EntryType::Link;

    /// A tarball of these entries: kind, path, and contents or link target. Names are written raw,
    /// as the builder of the tar crate refuses hostile ones.
    fn tarball(entries: Entries<'_>) -> Vec<u8> {
        let mut builder = Builder::new(Vec::new());
        for (kind, path, data) in entries {
            let mut header = Header::new_ustar();
            header.as_mut_bytes()[..path.len()].copy_from_slice(path.as_bytes());
            header.set_entry_type(*kind);
            header.set_mode(0o755);
            header.set_mtime(1_700_000_000);
            let contents: &[u8] = match *kind {
                FILE => data.as_bytes(),
                _ => b"",
            };
            if matches!(*kind, SYM | HARD) {
                header.as_mut_bytes()[157..157 + data.len()].copy_from_slice(data.as_bytes());
            }
            header.set_size(contents.len() as u64);
            header.set_cksum();
            builder.append(&header, contents).unwrap();
        }
        builder.into_inner().unwrap()
    }

    fn gzip(bytes: &[u8]) -> Vec<u8> {
        let mut encoder = GzEncoder::new(Vec::new(), Compression::fast());
        encoder.write_all(bytes).unwrap();
        encoder.finish().unwrap()
    }

    fn feed(bytes: Vec<u8>, into: &Path, bounds: Bounds) -> Result<Unpacked, UnpackError> {
        let (mut writer, reader) = pipe();
        thread::scope(|scope| {
            scope.spawn(move || writer.write_all(&bytes).and_then(|()| writer.finish()));
            unpack(reader, 1, into, bounds)
        })
    }

    #[test]
    fn files_folders_and_links_come_out_as_they_went_in() {
        let archive = tarball(&[
            (DIR, "marram-8/", ""),
            (FILE, "marram-8/bin/marram", "#!/bin/sh\n"),
            (SYM, "marram-8/bin/m", "marram"),
            (SYM, "marram-8/lib/up", "../bin/m"),
            (HARD, "marram-8/bin/twin", "marram-8/bin/marram"),
        ]);
        let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 1);
        xz.write_all(&archive).unwrap();
        let zstd = zstd::encode_all(archive.as_slice(), 1).unwrap();
        for compressed in [gzip(&archive), xz.finish().unwrap(), zstd] {
            let folder = tempfile::tempdir().unwrap();
            let root = folder.path();
            let unpacked = feed(compressed, root, Bounds::default()).unwrap();
            assert_eq!(
                unpacked,
                Unpacked {
                    files: 4,
                    bytes: 10
                }
            );
            assert_eq!(
                fs::read_to_string(root.join("lib/up")).unwrap(),
                "#!/bin/sh\n"
            );
            assert_eq!(
                fs::read_to_string(root.join("bin/twin")).unwrap(),
                "#!/bin/sh\n"
            );
            let meta = fs::metadata(root.join("bin/marram")).unwrap();
            assert!(!meta.permissions().readonly());
            let modified = meta.modified().unwrap();
            assert_eq!(
                modified,
                SystemTime::UNIX_EPOCH + Duration::from_secs(1_700_000_000)
            );
        }
    }

    #[rstest]
    #[case(&[(FILE, "/etc/passwd", "x")], "is an absolute path")]
    #[case(&[(FILE, "m/../../evil", "x")], "leads out of the archive")]
    #[case(&[(FILE, "m/ev\nil", "x")], "has a control character in its name")]
    #[case(&[(SYM, "m/link", "/etc")], "is a link to an absolute path")]
    #[case(&[(SYM, "m/link", "../evil")], "is a link out of the archive")]
    #[case(&[(SYM, "m/a/b/c/up", "../../.."), (SYM, "m/out", "a/b/c/up/..")], "is a link out of the archive")]
    #[case(&[(SYM, "m/link", "lib"), (FILE, "m/link/evil", "x")], "leads through a link")]
    #[case(&[(SYM, "m/link", "lib"), (DIR, "m/link/evil", "")], "leads through a link")]
    #[case(&[(SYM, "m/link", "lib"), (FILE, "m/link", "x")], "stands in it twice")]
    #[case(&[(FILE, "m/a", "x"), (FILE, "m/a", "y")], "stands in it twice")]
    #[case(&[(FILE, "m/a", "x"), (FILE, "m/a/b", "y")], "stands in it twice")]
    #[case(&[(SYM, "m/a", "b"), (HARD, "m/c", "m/a")], "is a hard link to something else than a file")]
    #[case(&[(HARD, "m/c", "../../etc/passwd")], "leads out of the archive")]
    #[case(&[(EntryType::Char, "m/null", "")], "is neither a file nor a folder nor a link")]
    #[case(&[(EntryType::Fifo, "m/fifo", "")], "is neither a file nor a folder nor a link")]
    fn hostile_entries_are_refused(#[case] entries: Entries<'_>, #[case] problem: &str) {
        let outside = tempfile::tempdir().unwrap();
        let root = outside.path().join("tree");
        fs::create_dir(&root).unwrap();
        let error = feed(gzip(&tarball(entries)), &root, Bounds::default()).unwrap_err();
        assert!(error.to_string().ends_with(problem), "{error}");
        assert_eq!(
            fs::read_dir(outside.path()).unwrap().count(),
            1,
            "nothing outside"
        );
    }

    #[test]
    fn bombs_stop_at_the_bounds() {
        let folder = tempfile::tempdir().unwrap();
        let bounds = Bounds {
            entries: 3,
            bytes: 1000,
        };
        let zeros = "0".repeat(2000);
        let large = tarball(&[(FILE, "m/a", &zeros)]);
        let error = feed(gzip(&large), folder.path(), bounds).unwrap_err();
        assert_eq!(error.to_string(), "it holds more than 1000 bytes");
        let many = tarball(&[
            (DIR, "m/b", ""),
            (DIR, "m/c", ""),
            (DIR, "m/d", ""),
            (DIR, "m/e", ""),
        ]);
        let error = feed(gzip(&many), folder.path(), bounds).unwrap_err();
        assert_eq!(error.to_string(), "it holds more than 3 entries");
    }

    #[test]
    fn what_is_no_archive_or_ends_early_is_an_error() {
        let folder = tempfile::tempdir().unwrap();
        let page = b"<html>sign in first</html>".to_vec();
        let error = feed(page, folder.path(), Bounds::default()).unwrap_err();
        assert_eq!(
            error.to_string(),
            "it is no tar archive with gzip, xz or zstd"
        );
        let zeros = "0".repeat(9000);
        let mut cut = gzip(&tarball(&[(FILE, "m/a", &zeros)]));
        cut.truncate(cut.len() / 2);
        let error = feed(cut, folder.path(), Bounds::default()).unwrap_err();
        assert_eq!(error.to_string(), "it cannot be unpacked");
        let error = feed(
            gzip(&tarball(&[(DIR, "m/", "")])),
            folder.path(),
            Bounds::default(),
        );
        assert_eq!(
            error.unwrap_err().to_string(),
            "it holds no files below its top folder"
        );
    }
}
