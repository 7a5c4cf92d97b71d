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
use vshelf_shell::connection::Following;

use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::runtime::Runtime;

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

/// The first word of a stamp whose file is asked for again when its folder is entered.
const AGAIN: &str = "again";

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

/// The stamp of a file. It is where the file is, below the folder of stamps, so that a name short
/// enough for one is short enough for the other.
fn stamp_of(folder: &Path, file: &Path) -> PathBuf {
    folder.join(file.strip_prefix("/").unwrap_or(file))
}

/// Writes one line: what the requirement file resulted in.
pub(super) fn write_stamp(folder: &Path, file: &Path, stamp: Stamp) -> io::Result<()> {
    let modified = stamp.modified?;
    let again = stamp.again.then_some(AGAIN);
    let words: Vec<&str> = (again.into_iter())
        .chain(stamp.words.iter().map(String::as_str))
        .collect();
    let path = stamp_of(folder, file);
    let line = format!("{}\n", words.join(" "));
    atomic::write_quickly(&path, line.as_bytes())?;
    File::options()
        .write(true)
        .open(&path)?
        .set_modified(modified)
}

/// Whether the person said no when a shell asked whether to follow this requirement file, and the file has not changed
/// since: a stamp of its time without a word for the runtime, and none that says to ask again.
pub fn is_declined(runtime: &Runtime<'_>, file: &Path) -> bool {
    let environment = runtime.environment();
    let asks = environment
        .settings()
        .is_ok_and(|settings| settings.following == Following::Ask);
    let read = || -> io::Result<bool> {
        let folder = folder(environment).map_err(io::Error::other)?;
        let stamp = stamp_of(&folder, file);
        let is_current = fs::metadata(&stamp)?.modified()? == fs::metadata(file)?.modified()?;
        let text = fs::read_to_string(&stamp)?;
        let mut words = text.split_whitespace();
        let settled = |word: &str| {
            let name = word.split_once('=').map(|(name, _)| name);
            word == AGAIN || name == Some(runtime.name())
        };
        Ok(is_current && !words.any(settled))
    };
    // Without a stamp nobody was asked.
    asks && read().unwrap_or_default()
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
