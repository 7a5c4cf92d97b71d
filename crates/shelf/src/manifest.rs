//! What an install consists of: every file and link as it was unpacked, to find out later what
//! changed.
//!
//! Sizes and CRC-32 checksums find damage and edits. Whoever wants to hide a change can also change
//! the manifest: what guards against that is the archive's digest, before anything is unpacked.

use std::fmt::Write as _;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use vshelf_files::{optional, system};

/// The first line of a manifest's file; the number changes with the form.
const FORMAT: &str = "vivid-shelf-manifest/1";

/// Every file and link of an install, as lines of tab-separated fields.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Manifest {
    text: String,
    files: u64,
    bytes: u64,
}

/// A file of an install that is not as it was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// Its path below the install's folder.
    pub path: PathBuf,
    /// How it changed.
    pub change: Change,
}

/// How a file changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// It is gone.
    Missing,
    /// It has other contents.
    Contents,
    /// It can no longer be started, or can now be.
    Executable,
    /// It is a link that leads elsewhere, or no longer a link or file.
    Kind,
}

/// What a file of an install has in it.
pub(crate) struct FileContents<'m> {
    /// Its bytes.
    pub(crate) size: u64,
    /// Their CRC-32.
    pub(crate) checksum: u32,
    /// Its path below the install's folder.
    pub(crate) path: &'m Path,
}

/// A manifest under way.
#[derive(Debug, Default)]
pub(crate) struct ManifestWriter {
    text: String,
    files: u64,
    bytes: u64,
}

impl ManifestWriter {
    pub(crate) fn add_file(&mut self, path: &Path, executable: bool, size: u64, checksum: u32) {
        let kind = if executable { "program" } else { "file" };
        self.bytes += size;
        self.add(format_args!("{kind}\t{size}\t{checksum:08x}"), path);
    }

    pub(crate) fn add_link(&mut self, path: &Path, target: &Path) {
        self.add(format_args!("link\t{}", target.display()), path);
    }

    /// A second name of a file.
    pub(crate) fn add_twin(&mut self, path: &Path, target: &Path) {
        self.add(format_args!("twin\t{}", target.display()), path);
    }

    fn add(&mut self, what: std::fmt::Arguments<'_>, path: &Path) {
        self.files += 1;
        writeln!(self.text, "{what}\t{}", path.display()).expect("a text takes everything");
    }

    pub(crate) fn finish(self) -> Manifest {
        Manifest {
            text: self.text,
            files: self.files,
            bytes: self.bytes,
        }
    }
}

/// Why a file is no manifest.
fn damaged() -> io::Error {
    io::Error::new(
        io::ErrorKind::InvalidData,
        "it is not a manifest of this program",
    )
}

impl Manifest {
    /// How many files and links there are.
    pub fn files(&self) -> u64 {
        self.files
    }

    /// The bytes of all files.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// The path of each file and link, below the install's folder.
    pub fn paths(&self) -> impl Iterator<Item = &Path> {
        let paths = self
            .text
            .lines()
            .filter_map(|line| line.rsplit('\t').next());
        paths.map(Path::new)
    }

    /// The files, without links and second names.
    pub(crate) fn contents(&self) -> impl Iterator<Item = FileContents<'_>> {
        self.text.lines().filter_map(|line| {
            let mut fields = line.split('\t');
            match fields.next()? {
                "file" | "program" => Some(FileContents {
                    size: fields.next()?.parse().ok()?,
                    checksum: u32::from_str_radix(fields.next()?, 16).ok()?,
                    path: Path::new(fields.next()?),
                }),
                _ => None,
            }
        })
    }

    /// This one with what `other` has, whose paths are below `folder`.
    pub fn with(mut self, other: &Manifest, folder: &Path) -> Manifest {
        for line in other.text.lines() {
            let (what, path) = line.rsplit_once('\t').unwrap_or(("", line));
            let moved = |path: &str| folder.join(path).display().to_string();
            // The first name of a twin is a path in the tree as well.
            let what = match what.strip_prefix("twin\t") {
                Some(target) => format!("twin\t{}", moved(target)),
                None => what.to_owned(),
            };
            writeln!(self.text, "{what}\t{}", moved(path)).expect("a text takes everything");
        }
        self.files += other.files;
        self.bytes += other.bytes;
        self
    }

    /// The manifest of `folder` alone, with paths relative to it. Fails at a hard link to a file outside of it.
    pub(crate) fn below(&self, folder: &Path) -> Result<Manifest, PathBuf> {
        let mut writer = ManifestWriter::default();
        for line in self.text.lines() {
            let (what, path) = line.rsplit_once('\t').unwrap_or(("", line));
            let Ok(path) = Path::new(path).strip_prefix(folder) else {
                continue;
            };
            match what.split_once('\t') {
                Some(("twin", target)) => {
                    let target = Path::new(target).strip_prefix(folder);
                    writer.add_twin(path, target.map_err(|_| path.to_owned())?);
                }
                Some(("file" | "program", size)) => {
                    let size = size.split('\t').next().and_then(|size| size.parse().ok());
                    writer.bytes += size.unwrap_or(0);
                    writer.add(format_args!("{what}"), path);
                }
                _ => writer.add(format_args!("{what}"), path),
            }
        }
        Ok(writer.finish())
    }

    /// This one with one link more.
    pub fn with_link(self, path: &Path, target: &Path) -> Manifest {
        let mut link = ManifestWriter::default();
        link.add_link(path, target);
        self.with(&link.finish(), Path::new(""))
    }

    /// The manifest of a tree that stands on the disk already.
    pub fn of(tree: &Path) -> io::Result<Manifest> {
        let mut writer = ManifestWriter::default();
        add_folder(&mut writer, tree, Path::new(""))?;
        Ok(writer.finish())
    }

    /// Reads the manifest in the file at `path`; nothing where there is none.
    pub fn read(path: &Path) -> io::Result<Option<Manifest>> {
        let Some(text) = optional::read_text(path)? else {
            return Ok(None);
        };
        let (first, text) = text.split_once('\n').ok_or_else(damaged)?;
        let [FORMAT, files, bytes] = first.split(' ').collect::<Vec<_>>()[..] else {
            return Err(damaged());
        };
        let number = |text: &str| text.parse().map_err(|_| damaged());
        let (files, bytes) = (number(files)?, number(bytes)?);
        let text = text.to_owned();
        Ok(Some(Manifest { text, files, bytes }))
    }

    /// Writes it to the file at `path`, in a folder that nobody sees yet.
    pub(crate) fn write(&self, path: &Path) -> io::Result<()> {
        let text = format!("{FORMAT} {} {}\n{}", self.files, self.bytes, self.text);
        fs::write(path, text)
    }

    /// What is not in `tree` as it was. Files that came later are no difference: packages are
    /// installed into a runtime.
    pub fn compare(&self, tree: &Path) -> io::Result<Vec<Difference>> {
        let mut differences = Vec::new();
        for line in self.text.lines() {
            let fields: Vec<&str> = line.split('\t').collect();
            let path = fields.last().ok_or_else(damaged)?;
            let change = match find_change(&fields, tree, &tree.join(path)) {
                Err(error) if error.kind() == io::ErrorKind::NotFound => Some(Change::Missing),
                result => result?,
            };
            differences.extend(change.map(|change| Difference {
                path: PathBuf::from(path),
                change,
            }));
        }
        Ok(differences)
    }
}

fn find_change(fields: &[&str], tree: &Path, path: &Path) -> io::Result<Option<Change>> {
    let found = fs::symlink_metadata(path)?;
    Ok(match fields {
        ["link", target, _] => match found.is_symlink() {
            true => (fs::read_link(path)? != Path::new(target)).then_some(Change::Kind),
            false => Some(Change::Kind),
        },
        ["twin", target, _] => {
            (!system::are_same(path, &tree.join(target))?).then_some(Change::Kind)
        }
        [kind @ ("file" | "program"), size, checksum, _] => {
            let size: u64 = size.parse().map_err(|_| damaged())?;
            let checksum = u32::from_str_radix(checksum, 16).map_err(|_| damaged())?;
            if !found.is_file() {
                Some(Change::Kind)
            } else if found.len() != size || checksum_of(path)? != checksum {
                Some(Change::Contents)
            } else {
                let can_start = system::is_executable(&found);
                can_start
                    .is_some_and(|can_start| can_start != (*kind == "program"))
                    .then_some(Change::Executable)
            }
        }
        _ => return Err(damaged()),
    })
}

fn checksum_of(path: &Path) -> io::Result<u32> {
    let mut file = File::open(path)?;
    let mut checksum = crc32fast::Hasher::new();
    let mut piece = vec![0; 256 << 10];
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(checksum.finalize()),
            count => checksum.update(&piece[..count]),
        }
    }
}

fn add_folder(writer: &mut ManifestWriter, tree: &Path, below: &Path) -> io::Result<()> {
    let mut entries: Vec<_> = fs::read_dir(tree.join(below))?.collect::<io::Result<_>>()?;
    entries.sort_by_key(fs::DirEntry::file_name);
    for entry in entries {
        let path = below.join(entry.file_name());
        let file = entry.metadata()?;
        // A name that a line cannot hold is left out: nothing can be said of it later.
        let holds = |path: &Path| {
            path.to_str()
                .is_some_and(|text| !text.contains(['\t', '\n', '\r']))
        };
        if !holds(&path) {
            continue;
        }
        if file.is_dir() {
            add_folder(writer, tree, &path)?;
        } else if file.is_symlink() {
            let target = fs::read_link(entry.path())?;
            if holds(&target) {
                writer.add_link(&path, &target);
            }
        } else if file.is_file() {
            let checksum = checksum_of(&entry.path())?;
            let can_start = system::is_executable(&file).unwrap_or(false);
            writer.add_file(&path, can_start, file.len(), checksum);
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::os::unix::fs::{PermissionsExt, symlink};

    fn tree() -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        fs::create_dir_all(root.join("bin")).unwrap();
        fs::write(root.join("bin/marram"), "#!/bin/sh\n").unwrap();
        fs::set_permissions(root.join("bin/marram"), PermissionsExt::from_mode(0o755)).unwrap();
        fs::write(root.join("read me"), "the bell\n").unwrap();
        symlink("marram", root.join("bin/m")).unwrap();
        folder
    }

    #[test]
    fn an_untouched_tree_has_no_differences_and_new_files_are_none() {
        let folder = tree();
        let manifest = Manifest::of(folder.path()).unwrap();
        assert_eq!((manifest.files(), manifest.bytes()), (3, 19));
        fs::write(folder.path().join("bin/tussock"), "new").unwrap();
        assert_eq!(manifest.compare(folder.path()).unwrap(), []);
        let file = folder.path().join("manifest");
        manifest.write(&file).unwrap();
        assert_eq!(Manifest::read(&file).unwrap(), Some(manifest));
    }

    #[rstest]
    #[case("rm 'read me'", "read me", Change::Missing)]
    #[case("echo 'the hull' > 'read me'", "read me", Change::Contents)]
    #[case("echo more >> 'read me'", "read me", Change::Contents)]
    #[case("chmod 644 bin/marram", "bin/marram", Change::Executable)]
    #[case("chmod 755 'read me'", "read me", Change::Executable)]
    #[case("ln -sfn tussock bin/m", "bin/m", Change::Kind)]
    #[case("rm bin/m; cp bin/marram bin/m", "bin/m", Change::Kind)]
    #[case("rm 'read me'; mkdir 'read me'", "read me", Change::Kind)]
    fn what_changed_is_named(#[case] script: &str, #[case] path: &str, #[case] change: Change) {
        let folder = tree();
        let manifest = Manifest::of(folder.path()).unwrap();
        let status = std::process::Command::new("sh")
            .args(["-ec", script])
            .current_dir(folder.path())
            .status();
        assert!(status.unwrap().success());
        let path = PathBuf::from(path);
        assert_eq!(
            manifest.compare(folder.path()).unwrap(),
            [Difference { path, change }]
        );
    }

    #[rstest]
    #[case("")]
    #[case("vivid-shelf-manifest/2 1 1\n")]
    #[case("vivid-shelf-manifest/1 one 1\n")]
    fn another_form_is_no_manifest(#[case] text: &str) {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("manifest");
        fs::write(&file, text).unwrap();
        assert!(Manifest::read(&file).is_err());
        assert_eq!(Manifest::read(&folder.path().join("none")).unwrap(), None);
    }
}
