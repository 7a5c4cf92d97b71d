//! A process, as every system tells of it.

use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How many words of a command line are looked at: an interpreter, its options, a program.
const WORDS: usize = 4;

/// How often it is looked for processes that were started meanwhile, and how long is waited in between.
pub(super) const ROUNDS: usize = 50;
pub(super) const BETWEEN: Duration = Duration::from_millis(10);

/// A process that is running.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Process {
    /// Its process id.
    pub id: u32,
    /// Its program's name.
    pub program: String,
    /// The program, and what of its command line is a path to something that is there.
    pub(super) paths: Vec<PathBuf>,
}

impl Process {
    /// The process with this program and command line, where it runs something below `folder`, or `real`, which is
    /// the same.
    pub(super) fn below<'w>(
        id: u32,
        program: PathBuf,
        words: impl Iterator<Item = &'w OsStr>,
        folder: &Path,
        real: &Path,
    ) -> Option<Process> {
        let mut paths = vec![program];
        for path in words.take(WORDS).map(Path::new) {
            // Through the default's link too.
            if path.starts_with(folder) || path.starts_with(real) {
                paths.extend(fs::canonicalize(path).ok());
            }
        }
        paths.retain(|path| path.starts_with(real));
        let name = paths.first()?.file_name()?.to_string_lossy().into_owned();
        Some(Process {
            id,
            program: name,
            paths,
        })
    }

    /// Whether it runs a program from this folder, which is a real path.
    pub fn runs_from(&self, folder: &Path) -> bool {
        self.paths.iter().any(|path| path.starts_with(folder))
    }
}
