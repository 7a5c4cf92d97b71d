//! A process, as every system tells of it.

use std::path::{Path, PathBuf};

/// How many words of a command line are looked at: an interpreter, its options, a program.
pub(super) const WORDS: usize = 4;

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
    /// Whether it runs a program from this folder, which is a real path.
    pub fn runs_from(&self, folder: &Path) -> bool {
        self.paths.iter().any(|path| path.starts_with(folder))
    }
}
