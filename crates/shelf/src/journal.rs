//! Files that grow by a line at a time: what was done to the shelf, and which projects were seen.
//!
//! A line is written in one piece at the end of the file, which needs no lock (POSIX.1-2024, write,
//! O_APPEND). A line that is not understood, such as one that a full disk cut, is left out.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use vshelf_core::tidy::Reason;
use vshelf_core::{Key, Version};
use vshelf_files::{atomic, optional};

use crate::layout::Layout;
use crate::record::RecordContents;

/// What was done to an install.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Operation {
    /// It was fetched and put on the shelf.
    Installed,
    /// It was put on the shelf from elsewhere on this machine.
    Adopted,
    /// It was removed.
    Removed,
    /// It was removed by a clean-up.
    Tidied,
    /// It was removed because a newer one replaced it.
    Renewed,
}

impl Operation {
    /// Whether it removed the install.
    pub fn removes(self) -> bool {
        matches!(
            self,
            Operation::Removed | Operation::Tidied | Operation::Renewed
        )
    }
}

/// One line of the history: an operation, and what is needed to get the install back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct HistoryEntry {
    /// When.
    pub at: Timestamp,
    /// The command that did it: all that one command did has the same number.
    pub command: String,
    /// What was done.
    pub operation: Operation,
    /// The install's key.
    pub key: Key,
    /// Why, where a clean-up did it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub reasons: Vec<Reason>,
    /// The release that a renewal put in its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub replaced_by: Option<Version>,
    /// The packages that went with it, as `name@version`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub packages: Vec<String>,
    /// Its record.
    pub record: RecordContents,
}

/// Writes down what was done.
pub fn append_history(layout: &Layout, event: &HistoryEntry) -> io::Result<()> {
    append(&layout.history(), event)
}

/// Everything that was done, oldest first.
pub fn history(layout: &Layout) -> io::Result<Vec<HistoryEntry>> {
    read(&layout.history())
}

/// A project that was seen on this machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Seen {
    file: PathBuf,
}

/// Writes down that a project's requirement file was seen, unless that is known.
pub fn note_project(layout: &Layout, file: &Path) -> io::Result<()> {
    if projects(layout)?.iter().any(|known| known == file) {
        return Ok(());
    }
    let seen = Seen {
        file: file.to_owned(),
    };
    append(&layout.projects(), &seen)
}

/// The requirement files that were seen, whether or not they are still there.
pub fn projects(layout: &Layout) -> io::Result<Vec<PathBuf>> {
    let seen: Vec<Seen> = read(&layout.projects())?;
    Ok(seen.into_iter().map(|seen| seen.file).collect())
}

/// Forgets the requirement files that are gone; says how many.
pub fn forget_gone_projects(layout: &Layout) -> io::Result<usize> {
    let seen = projects(layout)?;
    let (here, gone): (Vec<PathBuf>, Vec<PathBuf>) =
        seen.into_iter().partition(|file| file.exists());
    if gone.is_empty() {
        return Ok(0);
    }
    let lines = here.into_iter().map(|file| line(&Seen { file }));
    let text = lines.collect::<io::Result<String>>()?;
    atomic::write_file(&layout.projects(), text.as_bytes())?;
    Ok(gone.len())
}

fn line(entry: &impl Serialize) -> io::Result<String> {
    Ok(serde_json::to_string(entry)? + "\n")
}

fn append(path: &Path, entry: &impl Serialize) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    let mut file = File::options().create(true).append(true).open(path)?;
    // A line that was cut is ended, so that this one stands alone.
    let mut text = String::new();
    if !ends_with_a_line(path)? {
        text.push('\n');
    }
    text.push_str(&line(entry)?);
    file.write_all(text.as_bytes())
}

fn ends_with_a_line(path: &Path) -> io::Result<bool> {
    use std::os::unix::fs::FileExt;
    let file = File::open(path)?;
    let length = file.metadata()?.len();
    let mut last = [b'\n'];
    if length > 0 {
        file.read_exact_at(&mut last, length - 1)?;
    }
    Ok(last == *b"\n")
}

fn read<T: DeserializeOwned>(path: &Path) -> io::Result<Vec<T>> {
    let text = optional::read(path)?.unwrap_or_default();
    let lines = text.split(|byte| *byte == b'\n');
    Ok(lines
        .filter_map(|line| serde_json::from_slice(line).ok())
        .collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::folders::Folders;

    fn below(home: &Path) -> Layout {
        Layout::of(&Folders::below(home))
    }

    #[test]
    fn projects_are_noted_once_and_forgotten_when_gone() {
        let home = tempfile::tempdir().unwrap();
        let layout = below(home.path());
        let file = home.path().join("buoy\napi/.marram-version");
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(&file, "8").unwrap();
        let gone = home.path().join("old/.marram-version");
        for seen in [&file, &gone, &file] {
            note_project(&layout, seen).unwrap();
        }
        assert_eq!(projects(&layout).unwrap(), [file.clone(), gone]);
        assert_eq!(forget_gone_projects(&layout).unwrap(), 1);
        assert_eq!(forget_gone_projects(&layout).unwrap(), 0);
        assert_eq!(projects(&layout).unwrap(), [file]);
    }

    #[test]
    fn a_cut_line_costs_itself_alone() {
        let home = tempfile::tempdir().unwrap();
        let layout = below(home.path());
        note_project(&layout, Path::new("/one")).unwrap();
        let path = layout.projects();
        let mut text = fs::read_to_string(&path).unwrap();
        text.push_str("{\"file\":\"/tw");
        fs::write(&path, text).unwrap();
        note_project(&layout, Path::new("/three")).unwrap();
        let seen = projects(&layout).unwrap();
        assert_eq!(seen, [Path::new("/one"), Path::new("/three")]);
    }
}
