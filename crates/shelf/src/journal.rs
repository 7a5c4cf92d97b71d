//! Files that grow by a line at a time: what was done to the shelf, and which projects were seen.
//!
//! A line is written in one piece at the end of the file, which needs no lock (POSIX.1-2024, write,
//! O_APPEND). A line that is not understood, such as one that a full disk cut, is left out and told.

use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use vshelf_core::tidy::Reason;
use vshelf_core::{Key, Version};
use vshelf_files::{atomic, optional, system};

use crate::layout::Layout;
use crate::random::random_name;
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
    /// It came back from the trash.
    Restored,
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

/// How far an operation came.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// It is done.
    #[default]
    Done,
    /// It could not be done, and everything is as it was.
    GivenUp,
}

/// One line of the history: an operation, and what is needed to get the install back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "WrittenEntry")]
pub struct HistoryEntry {
    /// A random number of 128 bits in hexadecimal: what completes a command that was cut off writes an
    /// entry only if none has its id. Entries of layout 3 and older have none.
    pub id: String,
    /// When.
    pub at: Timestamp,
    /// The command that did it: all that one command did has the same number.
    pub command: String,
    /// What was done.
    pub operation: Operation,
    /// How far it came.
    #[serde(default)]
    pub outcome: Outcome,
    /// Why it was given up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
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

/// An entry as it is written. Its key is not read but derived from the record, because layout 3 left out
/// the main publisher.
#[derive(Deserialize)]
struct WrittenEntry {
    #[serde(default)]
    id: String,
    at: Timestamp,
    command: String,
    operation: Operation,
    #[serde(default)]
    outcome: Outcome,
    problem: Option<String>,
    #[serde(default)]
    reasons: Vec<Reason>,
    replaced_by: Option<Version>,
    #[serde(default)]
    packages: Vec<String>,
    record: RecordContents,
}

impl From<WrittenEntry> for HistoryEntry {
    fn from(written: WrittenEntry) -> HistoryEntry {
        HistoryEntry {
            id: written.id,
            at: written.at,
            command: written.command,
            operation: written.operation,
            outcome: written.outcome,
            problem: written.problem,
            key: written.record.id().key,
            reasons: written.reasons,
            replaced_by: written.replaced_by,
            packages: written.packages,
            record: written.record,
        }
    }
}

impl HistoryEntry {
    /// An entry with a new id about an install with this record.
    pub fn new(
        at: Timestamp,
        command: String,
        operation: Operation,
        record: RecordContents,
    ) -> HistoryEntry {
        HistoryEntry {
            id: random_name(16),
            at,
            command,
            operation,
            outcome: Outcome::Done,
            problem: None,
            key: record.id().key,
            reasons: Vec::new(),
            replaced_by: None,
            packages: Vec::new(),
            record,
        }
    }

    /// The entry about the arrival of an install with this record.
    pub(crate) fn of_arrival(record: &RecordContents) -> HistoryEntry {
        let operation = match record.adopted {
            Some(_) => Operation::Adopted,
            None => Operation::Installed,
        };
        let (at, command) = (record.installed, record.command.clone());
        HistoryEntry::new(at, command, operation, record.clone())
    }

    /// Whether an install went.
    pub fn removed(&self) -> bool {
        self.operation.removes() && self.outcome == Outcome::Done
    }

    /// What two lines about the same event have in common.
    fn identity(&self) -> String {
        if self.id.is_empty() {
            let (operation, outcome) = (self.operation, self.outcome);
            let (command, key) = (&self.command, self.key.as_str());
            format!(
                "{command} {operation:?} {outcome:?} {} {key}",
                self.record.runtime
            )
        } else {
            self.id.clone()
        }
    }
}

/// What a file of lines says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lines<T> {
    /// What its lines say, in their order.
    pub entries: Vec<T>,
    /// The numbers of the lines, from 1, that are not understood: they are damaged, or a newer program
    /// wrote them.
    pub not_understood: Vec<usize>,
}

/// Writes an entry unless the history has it already.
pub(crate) fn append_history(layout: &Layout, entry: &HistoryEntry) -> io::Result<()> {
    let path = layout.history();
    let written = optional::read(&path)?.unwrap_or_default();
    let finder = memchr::memmem::Finder::new(entry.id.as_bytes());
    let identity = entry.identity();
    // Only lines with the id are parsed, which saves time; an entry without an id is compared with all. A
    // line that a full disk cut off is not an entry, though it may have the id.
    let is_written = |line: &[u8]| {
        let parsed = || serde_json::from_slice::<HistoryEntry>(line);
        finder.find(line).is_some() && parsed().is_ok_and(|other| other.identity() == identity)
    };
    if written.split(|byte| *byte == b'\n').any(is_written) {
        return Ok(());
    }
    append(&path, entry)
}

/// Everything that was done, in the order of time.
pub fn history(layout: &Layout) -> io::Result<Lines<HistoryEntry>> {
    let mut lines: Lines<HistoryEntry> = read(&layout.history())?;
    let mut seen = HashSet::new();
    lines.entries.retain(|entry| seen.insert(entry.identity()));
    order(&mut lines.entries);
    Ok(lines)
}

/// Puts entries in the order of time: what completed a command that was cut off wrote them late, and
/// installs that one command makes side by side end in any order.
pub fn order(entries: &mut [HistoryEntry]) {
    entries.sort_by_key(|entry| entry.at);
    let same_command =
        |a: &HistoryEntry, b: &HistoryEntry| (a.at, &a.command) == (b.at, &b.command);
    for together in entries.chunk_by_mut(same_command) {
        together.sort_by(|a, b| b.record.version.cmp(&a.record.version));
    }
}

/// A project that was seen on this machine: what a file of it required of a runtime when it was read
/// last.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenProject {
    /// The requirement file.
    pub file: PathBuf,
    /// The runtime.
    pub runtime: String,
    /// What was required of it, as a selector; nothing where the file could not be read.
    pub selector: Option<String>,
    /// The folder that the file system was mounted at.
    pub mounted_at: PathBuf,
}

/// Where a project's requirement file is now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Presence {
    /// It is there.
    Here,
    /// It is gone.
    Gone,
    /// Nobody can tell: its drive is not mounted, or its folder cannot be read.
    Away,
}

impl SeenProject {
    /// What is known of a requirement file that was just read.
    pub fn new(file: &Path, runtime: &str, selector: Option<String>) -> SeenProject {
        SeenProject {
            file: file.to_owned(),
            runtime: runtime.to_owned(),
            selector,
            mounted_at: system::mount_of(file),
        }
    }

    /// Where the requirement file is now.
    pub fn presence(&self) -> Presence {
        match self.file.metadata() {
            Ok(_) => Presence::Here,
            Err(error) => match error.kind() {
                io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => {
                    match system::mount_of(&self.mounted_at) == self.mounted_at {
                        true => Presence::Gone,
                        false => Presence::Away,
                    }
                }
                _ => Presence::Away,
            },
        }
    }
}

/// Writes down that a project was seen, unless that is known.
pub fn note_project(layout: &Layout, seen: &SeenProject) -> io::Result<()> {
    if projects(layout)?.entries.contains(seen) {
        return Ok(());
    }
    append(&layout.projects(), seen)
}

/// The projects that were seen, whether or not they are still there: the last note of each file and
/// runtime.
pub fn projects(layout: &Layout) -> io::Result<Lines<SeenProject>> {
    let mut lines: Lines<SeenProject> = read(&layout.projects())?;
    let mut last: Vec<SeenProject> = Vec::new();
    let mut places = HashMap::new();
    for seen in lines.entries {
        match places.entry((seen.file.clone(), seen.runtime.clone())) {
            Entry::Occupied(place) => last[*place.get()] = seen,
            Entry::Vacant(place) => {
                place.insert(last.len());
                last.push(seen);
            }
        }
    }
    lines.entries = last;
    Ok(lines)
}

/// A folder in which what its projects require is installed without asking again.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct InstallingFolder {
    folder: PathBuf,
}

/// Writes down that a person had what is required in a folder installed.
pub fn note_installing(layout: &Layout, folder: &Path) -> io::Result<()> {
    let folder = folder.to_owned();
    append(&layout.installing(), &InstallingFolder { folder })
}

/// Whether a person had what is required in this folder installed before.
pub fn installs_in(layout: &Layout, folder: &Path) -> io::Result<bool> {
    let known: Lines<InstallingFolder> = read(&layout.installing())?;
    Ok(known.entries.iter().any(|known| known.folder == folder))
}

/// Forgets the projects that are gone; says how many. Lines that are not understood stay.
pub fn forget_gone_projects(layout: &Layout) -> io::Result<usize> {
    let seen = projects(layout)?;
    if !seen.not_understood.is_empty() {
        return Ok(0);
    }
    let (gone, stay): (Vec<_>, Vec<_>) =
        (seen.entries.into_iter()).partition(|project| project.presence() == Presence::Gone);
    if gone.is_empty() {
        return Ok(0);
    }
    let text = stay.iter().map(line).collect::<io::Result<String>>()?;
    atomic::write_file(&layout.projects(), text.as_bytes())?;
    Ok(gone.len())
}

fn line(entry: &impl Serialize) -> io::Result<String> {
    Ok(serde_json::to_string(entry)? + "\n")
}

pub(crate) fn append(path: &Path, entry: &impl Serialize) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    let mut options = File::options();
    let options = system::with_permission_bits(&mut options, 0o600);
    let mut file = options.create(true).append(true).open(path)?;
    // A line that was cut is ended, so that this one stands alone.
    let mut text = String::new();
    if !ends_with_a_line(path)? {
        text.push('\n');
    }
    text.push_str(&line(entry)?);
    file.write_all(text.as_bytes())
}

fn ends_with_a_line(path: &Path) -> io::Result<bool> {
    let file = File::open(path)?;
    let length = file.metadata()?.len();
    let mut last = [b'\n'];
    if length > 0 {
        system::read_exact_at(&file, &mut last, length - 1)?;
    }
    Ok(last == *b"\n")
}

pub(crate) fn read<T: DeserializeOwned>(path: &Path) -> io::Result<Lines<T>> {
    let text = optional::read(path)?.unwrap_or_default();
    let mut lines = Lines {
        entries: Vec::new(),
        not_understood: Vec::new(),
    };
    for (index, line) in text.split(|byte| *byte == b'\n').enumerate() {
        match serde_json::from_slice(line) {
            Ok(entry) => lines.entries.push(entry),
            Err(_) if line.is_empty() => {}
            Err(_) => lines.not_understood.push(index + 1),
        }
    }
    Ok(lines)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::folders::Folders;

    fn below(home: &Path) -> Layout {
        Layout::of(&Folders::below(home))
    }

    fn seen(file: &Path, selector: &str) -> SeenProject {
        SeenProject::new(file, "marram", Some(selector.to_owned()))
    }

    #[test]
    fn projects_are_noted_once_and_forgotten_when_gone() {
        let home = tempfile::tempdir().unwrap();
        let layout = below(home.path());
        let file = home.path().join("buoy\napi/.marram-version");
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(&file, "8").unwrap();
        let gone = home.path().join("old/.marram-version");
        let notes = [seen(&file, "6"), seen(&gone, "6"), seen(&file, "8")];
        for note in notes.iter().chain(&notes[1..]) {
            note_project(&layout, note).unwrap();
        }
        let [_, old, new] = notes;
        assert_eq!(projects(&layout).unwrap().entries, [new.clone(), old]);
        assert_eq!(forget_gone_projects(&layout).unwrap(), 1);
        assert_eq!(forget_gone_projects(&layout).unwrap(), 0);
        assert_eq!(projects(&layout).unwrap().entries, [new]);
    }

    /// An entry of layout 3, which has no id, about an install of this version.
    fn former_entry(version: &str) -> HistoryEntry {
        let record = serde_json::json!({
            "runtime": "marram", "version": version, "publisher": "saltmarsh", "source": "stand-in",
            "address": "archives/marram.tar.xz", "platform": "linux-x64", "archive_size": 1,
            "unpacked_size": 1, "files": 1, "installed": "2026-11-23T12:00:00Z", "command": "1",
        });
        let entry = serde_json::json!({
            "at": "2026-11-23T12:00:00Z", "command": "1", "operation": "removed", "record": record,
        });
        serde_json::from_value(entry).unwrap()
    }

    #[test]
    fn an_entry_without_an_id_is_written_once_beside_others() {
        let home = tempfile::tempdir().unwrap();
        let layout = below(home.path());
        let entries = ["8.3.1", "6.20.2"].map(former_entry);
        for entry in entries.iter().chain(&entries) {
            append_history(&layout, entry).unwrap();
        }
        assert_eq!(history(&layout).unwrap().entries, entries);
        let text = fs::read_to_string(layout.history()).unwrap();
        assert_eq!(text.lines().count(), 2);
    }

    #[test]
    fn a_project_whose_drive_is_away_is_not_gone() {
        let home = tempfile::tempdir().unwrap();
        let layout = below(home.path());
        let drive = home.path().join("drive");
        fs::create_dir(&drive).unwrap();
        let away = SeenProject {
            mounted_at: drive.clone(),
            ..seen(&drive.join("logbook/.marram-version"), "6")
        };
        assert_eq!(away.presence(), Presence::Away);
        note_project(&layout, &away).unwrap();
        assert_eq!(forget_gone_projects(&layout).unwrap(), 0);
        assert_eq!(projects(&layout).unwrap().entries, [away]);
    }

    #[test]
    fn a_cut_line_costs_itself_alone_and_is_told() {
        let home = tempfile::tempdir().unwrap();
        let layout = below(home.path());
        note_project(&layout, &seen(Path::new("/one"), "6")).unwrap();
        let path = layout.projects();
        let mut text = fs::read_to_string(&path).unwrap();
        text.push_str("{\"file\":\"/tw");
        fs::write(&path, &text).unwrap();
        note_project(&layout, &seen(Path::new("/three"), "6")).unwrap();
        let lines = projects(&layout).unwrap();
        let files: Vec<_> = lines.entries.iter().map(|seen| &seen.file).collect();
        assert_eq!(files, [Path::new("/one"), Path::new("/three")]);
        assert_eq!(lines.not_understood, [2]);
        assert_eq!(
            forget_gone_projects(&layout).unwrap(),
            0,
            "nothing is thrown away"
        );
        assert!(fs::read_to_string(&path).unwrap().starts_with(&text));
    }
}
