//! What the project here resulted in, for a shell that follows it.
//!
//! The shell walks upward with builtins alone. A stamp for each requirement file says what it resulted
//! in, and has the file's own time, so that a shell sees without starting anything whether it changed.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use vshelf_core::Pick;
use vshelf_files::action::FileAction;
use vshelf_files::{atomic, optional};

use crate::environment::Environment;
use crate::error::{Done, Error, file_error};

/// What one requirement file resulted in.
pub(super) struct Stamp {
    /// The file's time from before it was read: a change in between makes the stamp stale.
    modified: io::Result<SystemTime>,
    pub(super) words: Vec<String>,
    /// Whether it has to be asked for again when its folder is entered.
    pub(super) again: bool,
}

impl Stamp {
    /// A stamp of a file that is about to be read.
    pub(super) fn before_reading(file: &Path) -> Stamp {
        Stamp {
            modified: fs::metadata(file).and_then(|found| found.modified()),
            words: Vec::new(),
            again: false,
        }
    }
}

/// How nothing that meets a requirement is written.
const NOTHING: &str = "?";

/// The folder of stamps.
pub fn folder(environment: &Environment) -> Result<PathBuf, Error> {
    Ok(environment.folders()?.cache.join("stamps"))
}

/// Throws all stamps away, after something that requirements depend on was changed.
pub fn forget(environment: &Environment) -> Done {
    let folder = folder(environment)?;
    let removed = optional::remove_folder(&folder);
    removed
        .map(drop)
        .map_err(file_error(&folder, FileAction::Remove))
}

/// How a shell reads what it is to use.
pub fn as_text(pick: Option<&Pick>) -> String {
    pick.map_or(NOTHING, Pick::as_str).to_owned()
}

/// One line: what the requirement file resulted in. The stamp stands where the file does, below the folder of
/// stamps, so that whatever is no name too long for the one is none for the other.
pub(super) fn write_stamp(folder: &Path, file: &Path, stamp: Stamp) -> io::Result<()> {
    let modified = stamp.modified?;
    let again = if stamp.again { "again " } else { "" };
    let path = folder.join(file.strip_prefix("/").unwrap_or(file));
    let line = format!("{again}{}\n", stamp.words.join(" "));
    atomic::write_quickly(&path, line.as_bytes())?;
    File::options()
        .write(true)
        .open(&path)?
        .set_modified(modified)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn a_file_that_changes_while_it_is_read_has_a_stale_stamp() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join(".marram-version");
        fs::write(&file, "6\n").unwrap();
        let stamp = Stamp::before_reading(&file);
        let later = SystemTime::now() + Duration::from_secs(9);
        fs::write(&file, "8\n").unwrap();
        let changed = File::options().write(true).open(&file).unwrap();
        changed.set_modified(later).unwrap();
        let stamps = folder.path().join("stamps");
        write_stamp(&stamps, &file, stamp).unwrap();
        let written = stamps.join(file.strip_prefix("/").unwrap());
        assert!(fs::metadata(written).unwrap().modified().unwrap() < later);
    }
}
