//! What an archive may hold, and why one is refused.

use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::words::listed;

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
            entries: 200_000,
            bytes: 16 << 30,
        }
    }
}

/// The most entries that an error names.
pub(super) const MOST_NAMED: usize = 4;

/// Why an archive was not unpacked.
#[derive(Debug, thiserror::Error)]
pub enum UnpackError {
    /// Not one of the formats that builds are published in.
    #[error("it is neither a tar archive with gzip, xz or zstd nor a zip archive")]
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
    /// A table of contents that readers understand differently.
    #[error("it has {0}")]
    Ambiguous(&'static str),
    /// More than any real build has.
    #[error("it holds more than {0}")]
    TooMuch(String),
    /// No file is left below the folders that are stripped, or in the folder that becomes the install.
    #[error("it has no files in the expected folder{}", holds(.0))]
    Empty(Vec<String>),
    /// The file that marks the folder of the install is in no folder of the archive.
    #[error("it has no folder with {file:?}, which marks the install{}", holds(.others))]
    NoRoot {
        /// The file, as it is in an install.
        file: String,
        /// The first files of the archive.
        others: Vec<String>,
    },
    /// The file that marks the folder of the install is in several folders of the archive.
    #[error("{} have {file:?}, and only one can be the install", listed(.folders, "and"))]
    SeveralRoots {
        /// The file, as it is in an install.
        file: String,
        /// The folders that contain it.
        folders: Vec<String>,
    },
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

/// The end of a sentence about an archive that has these folders and files instead.
fn holds(others: &[String]) -> String {
    match others {
        [] => String::new(),
        others => format!(", but {}", listed(others, "and")),
    }
}

impl UnpackError {
    /// The error of the disk, if that is the cause and not what the archive holds: names that no file can have and files
    /// where folders should be are the archive's fault.
    pub fn disk_error(&self) -> Option<&io::Error> {
        let UnpackError::Write { source, .. } = self else {
            return None;
        };
        let is_of_archive = matches!(
            source.kind(),
            io::ErrorKind::InvalidFilename
                | io::ErrorKind::InvalidInput
                | io::ErrorKind::NotADirectory
                | io::ErrorKind::IsADirectory
                | io::ErrorKind::AlreadyExists
        );
        (!is_of_archive).then_some(source)
    }
}

/// An entry that must not be written.
pub(super) fn refuse(entry: &Path, problem: &'static str) -> UnpackError {
    UnpackError::Entry {
        entry: entry.to_string_lossy().into_owned(),
        problem,
    }
}
