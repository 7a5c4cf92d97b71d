//! Where everything is in the data folder, and the number of that layout.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use vshelf_core::Key;
use vshelf_files::{atomic, optional};

use crate::entry_name::EntryName;
use crate::folders::Folders;

/// The layout that this program reads and writes, as `<data>/format` names it.
const FORMAT: &str = "vivid-shelf-data/4";

/// The layout that is migrated to this one.
const FORMER: &str = "vivid-shelf-data/3";

/// The contents of the file during the migration: older programs refuse it.
const MIGRATING: &str = "vivid-shelf-data/4 from 3";

/// What stands in front of the number of every layout.
const FAMILY: &str = "vivid-shelf-data/";

/// The paths below one data folder.
#[derive(Clone, Debug)]
pub struct Layout {
    data: PathBuf,
    /// How often this process has changed what is in there, or may have waited until another did. Clones share it.
    changes: Arc<AtomicU64>,
    /// Whether its format was found to be this one. Clones share it.
    is_claimed: Arc<AtomicBool>,
}

/// How a data folder is laid out that this program can use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LayoutState {
    /// As this program does it.
    Current,
    /// As the version before did it.
    Former,
    /// Partly migrated by a command that was cut off.
    Migrating,
}

/// Why a data folder cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum LayoutError {
    /// The file that names the layout cannot be read or written.
    #[error("{path} cannot be used")]
    File {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// A program from before this layout wrote it.
    #[error("{data} is laid out as an older vshelf did it")]
    Older {
        /// The data folder.
        data: PathBuf,
    },
    /// It could not be brought to this layout. Nothing is lost: the next command resumes.
    #[error("{data} cannot be brought to the layout of this vshelf")]
    Migration {
        /// The data folder.
        data: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// A newer program wrote it, or another one.
    #[error("{data} is of format {format:?}, and this vshelf reads {FORMAT:?}")]
    Newer {
        /// The data folder.
        data: PathBuf,
        /// What its `format` file says.
        format: String,
    },
}

impl Layout {
    /// The layout of the data folder of `folders`; nothing is read.
    pub fn of(folders: &Folders) -> Layout {
        Layout {
            data: folders.data.clone(),
            changes: Arc::default(),
            is_claimed: Arc::default(),
        }
    }

    /// How the data folder is laid out; an empty one counts as current.
    pub fn condition(&self) -> Result<LayoutState, LayoutError> {
        match self.read_format()?.as_deref() {
            Some(FORMAT) => {
                self.is_claimed.store(true, Ordering::Release);
                Ok(LayoutState::Current)
            }
            Some(FORMER) => Ok(LayoutState::Former),
            Some(MIGRATING) => Ok(LayoutState::Migrating),
            Some(format) => Err(self.refuse(format.to_owned())),
            None if self.has_installs_of_layout_1()? => Err(LayoutError::Older {
                data: self.data.clone(),
            }),
            None => Ok(LayoutState::Current),
        }
    }

    /// Names the layout, where nothing does yet: called before anything is written that lasts.
    pub fn claim(&self) -> Result<(), LayoutError> {
        if self.is_claimed.load(Ordering::Acquire) {
            return Ok(());
        }
        match self.read_format()? {
            Some(_) => self.condition().map(drop),
            None => (self.write_format(FORMAT)).map_err(|source| self.unusable(source)),
        }
    }

    /// Has older programs refuse the folder from now on.
    pub(crate) fn begin_migration(&self) -> io::Result<()> {
        self.write_format(MIGRATING)
    }

    /// Names the layout once everything is as it should be.
    pub(crate) fn end_migration(&self) -> io::Result<()> {
        self.write_format(FORMAT)
    }

    fn write_format(&self, format: &str) -> io::Result<()> {
        atomic::write_file(&self.format_file(), format!("{format}\n").as_bytes())
    }

    fn refuse(&self, format: String) -> LayoutError {
        let data = self.data.clone();
        let number = format
            .strip_prefix(FAMILY)
            .and_then(|n| n.parse::<u32>().ok());
        match number {
            Some(0..=2) => LayoutError::Older { data },
            _ => LayoutError::Newer { data, format },
        }
    }

    fn read_format(&self) -> Result<Option<String>, LayoutError> {
        let text = optional::read_text(&self.format_file());
        let text = text.map_err(|source| self.unusable(source))?;
        Ok(text.map(|text| text.trim().to_owned()))
    }

    /// The first layout had no number; a folder a runtime, with one of installs in it.
    fn has_installs_of_layout_1(&self) -> Result<bool, LayoutError> {
        let entries = optional::entries(&self.data).map_err(|source| self.unusable(source))?;
        let is_runtime = |path: PathBuf| path.join("installs").is_dir();
        Ok(entries.into_iter().any(|entry| is_runtime(entry.path())))
    }

    fn unusable(&self, source: io::Error) -> LayoutError {
        LayoutError::File {
            path: self.format_file(),
            source,
        }
    }

    fn format_file(&self) -> PathBuf {
        self.data.join("format")
    }

    /// The folder with a folder of installs for each runtime.
    pub fn installs(&self) -> PathBuf {
        self.data.join("shelf")
    }

    /// The folder of a runtime's installs.
    pub fn installs_of(&self, runtime: &str) -> PathBuf {
        self.installs().join(runtime)
    }

    /// The folder with a link to the default of each runtime.
    pub fn defaults(&self) -> PathBuf {
        self.data.join("default")
    }

    /// The link to a runtime's default: the path that stays the same.
    pub fn default_of(&self, runtime: &str) -> PathBuf {
        self.defaults().join(runtime)
    }

    /// The folder of the links to the newest installs of a runtime's lines: paths that stay the same.
    pub fn lines_of(&self, runtime: &str) -> PathBuf {
        self.lines().join(runtime)
    }

    /// The folder of such links of all runtimes.
    pub fn lines(&self) -> PathBuf {
        self.data.join("lines")
    }

    /// The folder of an install: its build, its record and the list of its files, which become visible
    /// and go together.
    pub fn install(&self, runtime: &str, key: &Key) -> PathBuf {
        self.installs_of(runtime).join(key.as_str())
    }

    /// The folder of every runtime's state.
    pub fn states(&self) -> PathBuf {
        self.data.join("state")
    }

    /// A runtime's default, labels and what is kept.
    pub fn state(&self, runtime: &str) -> PathBuf {
        self.states().join(format!("{runtime}.json"))
    }

    /// The lock of what is named `name` of a runtime.
    pub fn lock(&self, runtime: &str, name: &str) -> PathBuf {
        self.data.join("locks").join(runtime).join(name)
    }

    /// The file whose time is that of an install's last use.
    pub fn last_use(&self, runtime: &str, key: &Key) -> PathBuf {
        self.last_uses(runtime).join(key.as_str())
    }

    /// The folder of the last uses of a runtime's installs.
    pub fn last_uses(&self, runtime: &str) -> PathBuf {
        self.data.join("used").join(runtime)
    }

    /// The folder of what running shells were switched to.
    pub fn shells(&self) -> PathBuf {
        self.data.join("shells")
    }

    /// The folder of builds from source that are under way, or were interrupted.
    pub fn builds(&self) -> PathBuf {
        self.data.join("builds")
    }

    /// The folder for installs and removals under way.
    pub fn staging(&self) -> PathBuf {
        self.data.join("staging")
    }

    /// The folder for installs that were removed and can come back.
    pub fn trash(&self) -> PathBuf {
        self.data.join("trash")
    }

    /// An entry in the trash of a runtime.
    pub(crate) fn trash_entry(&self, runtime: &str, name: &EntryName) -> PathBuf {
        self.trash().join(runtime).join(name.to_string())
    }

    /// The folder of what is being deleted.
    pub(crate) fn deleting(&self) -> PathBuf {
        self.trash().join(".deleting")
    }

    /// The file of what was done to the shelf.
    pub fn history(&self) -> PathBuf {
        self.data.join("history.jsonl")
    }

    /// The file of the requirement files that were seen.
    pub fn projects(&self) -> PathBuf {
        self.data.join("projects.jsonl")
    }

    /// The file of the folders in which what projects require is installed without asking again.
    pub fn installing(&self) -> PathBuf {
        self.data.join("installing.jsonl")
    }

    /// What has the time of the program that wrote what start-up files source.
    pub fn program_stamp(&self) -> PathBuf {
        self.connect().join("program")
    }

    /// The folder of what start-up files source.
    pub fn connect(&self) -> PathBuf {
        self.data.join("connect")
    }

    /// The file of what sources stated about a runtime.
    pub fn statements(&self, runtime: &str) -> PathBuf {
        self.data
            .join("statements")
            .join(format!("{runtime}.jsonl"))
    }

    /// The folder that keeps of which time the newest signed catalogs were.
    pub fn signed_catalogs(&self) -> PathBuf {
        self.data.join("signed")
    }

    /// The folder of launchers.
    pub fn launchers(&self) -> PathBuf {
        self.data.join("launchers")
    }

    /// The folders in which files are written one at a time.
    pub fn of_single_files(&self) -> [PathBuf; 5] {
        [
            self.data.clone(),
            self.states(),
            self.shells(),
            self.connect(),
            self.launchers(),
        ]
    }

    /// How often this process has changed what is in there: what was read before may be another now.
    pub fn changes(&self) -> u64 {
        self.changes.load(Ordering::Acquire)
    }

    /// Notes that what was read before may be another now.
    pub(crate) fn note_change(&self) {
        self.changes.fetch_add(1, Ordering::AcqRel);
    }

    /// The data folder itself.
    pub fn data(&self) -> &Path {
        &self.data
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::fs;

    fn layout(home: &Path) -> Layout {
        Layout::of(&Folders::below(home))
    }

    #[test]
    fn an_empty_folder_is_claimed_and_then_ours() {
        let home = tempfile::tempdir().unwrap();
        let layout = layout(home.path());
        assert_eq!(layout.condition().unwrap(), LayoutState::Current);
        assert!(!layout.data().exists(), "looking writes nothing");
        for _ in 0..2 {
            layout.claim().unwrap();
            assert_eq!(layout.condition().unwrap(), LayoutState::Current);
        }
        let text = fs::read_to_string(layout.data().join("format")).unwrap();
        assert_eq!(text, format!("{FORMAT}\n"));
    }

    #[rstest]
    #[case("vivid-shelf-data/5", "is of format \"vivid-shelf-data/5\"")]
    #[case("garbage", "is of format \"garbage\"")]
    #[case("vivid-shelf-data/2", "is laid out as an older vshelf did it")]
    fn another_layout_is_refused_by_name(#[case] format: &str, #[case] message: &str) {
        let home = tempfile::tempdir().unwrap();
        let layout = layout(home.path());
        fs::create_dir_all(layout.data()).unwrap();
        fs::write(layout.data().join("format"), format).unwrap();
        for error in [layout.condition().unwrap_err(), layout.claim().unwrap_err()] {
            assert!(error.to_string().contains(message), "{error}");
        }
    }

    #[test]
    fn the_first_layout_is_known_by_its_folders() {
        let home = tempfile::tempdir().unwrap();
        let layout = layout(home.path());
        fs::create_dir_all(layout.data().join("marram/installs")).unwrap();
        assert!(matches!(layout.condition(), Err(LayoutError::Older { .. })));
    }
}
