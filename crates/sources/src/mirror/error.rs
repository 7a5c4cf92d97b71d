//! Why releases cannot be published.

use std::io;
use std::path::{Path, PathBuf};

use crate::api::SourceError;
use crate::download::DownloadError;
use crate::transport::TransportError;

/// Why a mirror cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum MirrorError {
    /// A file of it cannot be read or written.
    #[error("{path} cannot be written")]
    File {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// What stands there is no catalog of this runtime.
    #[error("{place} is not a catalog that can be extended: {problem}")]
    Other {
        /// The document.
        place: String,
        /// What is wrong with it.
        problem: String,
    },
    /// An archive does not come.
    #[error(transparent)]
    Download(#[from] DownloadError),
    /// What the registry has cannot be read.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// A registry does not do what it is asked.
    #[error(transparent)]
    Registry(#[from] TransportError),
    /// A registry takes bytes in and does not have them then.
    #[error("{place} does not keep what is sent: {problem}")]
    NotKept {
        /// The repository.
        place: String,
        /// What is wrong.
        problem: String,
    },
    /// The catalog that is there is signed, and the new one would not be.
    #[error("the catalog of {place} is signed, and there is no key to sign it with again")]
    Unsigned {
        /// The repository.
        place: String,
    },
    /// Others publish in the same repository all the time.
    #[error("{place} changes as often as it is written: others publish there")]
    Busy {
        /// The repository.
        place: String,
    },
    /// The key that the catalog is to be signed with cannot be used.
    #[error("{path} is no key that signs: {problem}")]
    Key {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        problem: String,
    },
}

/// The error of a file.
pub(super) fn failed(path: &Path) -> impl FnOnce(io::Error) -> MirrorError {
    let path = path.to_owned();
    |source| MirrorError::File { path, source }
}
