//! What a person chose for one runtime: the default and the labels.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use vshelf_core::Key;
use vshelf_files::{atomic, optional};

const FORMAT: &str = "vivid-shelf-state/1";

/// The contents of a runtime's state file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    format: String,
    /// The default as it was typed.
    #[serde(default)]
    pub default: Option<String>,
    /// Labels and the selectors they are bound to.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// The keys of installs that no clean-up takes away.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub kept: BTreeSet<Key>,
}

/// Why a state file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum StateError {
    /// It cannot be read or written.
    #[error("{path} cannot be read or written")]
    File {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// It is not what this program writes.
    #[error("{path} is damaged: {problem}")]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        problem: String,
    },
    /// A newer program wrote it.
    #[error("{path} is of format {format:?}, which a newer vshelf writes")]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its format.
        format: String,
    },
}

impl Default for State {
    fn default() -> Self {
        State {
            format: FORMAT.to_owned(),
            default: None,
            labels: BTreeMap::new(),
            kept: BTreeSet::new(),
        }
    }
}

impl State {
    /// Reads the file at `path`; a missing one is an empty state.
    pub fn read(path: &Path) -> Result<State, StateError> {
        let path = || path.to_owned();
        let failed = |source| StateError::File {
            path: path(),
            source,
        };
        let Some(bytes) = optional::read(&path()).map_err(failed)? else {
            return Ok(State::default());
        };
        let state: State = serde_json::from_slice(&bytes).map_err(|error| StateError::Damaged {
            path: path(),
            problem: error.to_string(),
        })?;
        if state.format != FORMAT {
            return Err(StateError::Newer {
                path: path(),
                format: state.format,
            });
        }
        Ok(state)
    }

    /// Writes the file at `path` in one step.
    pub fn write(&self, path: &Path) -> Result<(), StateError> {
        let mut text = serde_json::to_string_pretty(self).expect("strings always serialise");
        text.push('\n');
        atomic::write_file(path, text.as_bytes()).map_err(|source| StateError::File {
            path: path.to_owned(),
            source,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::fs;

    #[test]
    fn what_is_written_reads_back_the_same() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("marram/state.json");
        assert_eq!(State::read(&path).unwrap(), State::default());
        let state = State {
            default: Some("lts".into()),
            labels: [("tide".to_owned(), "6".to_owned())].into(),
            ..State::default()
        };
        state.write(&path).unwrap();
        assert_eq!(State::read(&path).unwrap(), state);
    }

    #[rstest]
    #[case("garbage", "is damaged: expected value")]
    #[case("{}", "is damaged: missing field `format`")]
    #[case(r#"{"format":"vivid-shelf-state/2"}"#, "which a newer vshelf writes")]
    fn a_file_that_is_not_ours_is_left_alone(#[case] text: &str, #[case] message: &str) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("state.json");
        fs::write(&path, text).unwrap();
        let error = State::read(&path).unwrap_err().to_string();
        assert!(error.contains(message), "{error}");
        assert_eq!(fs::read_to_string(&path).unwrap(), text);
    }
}
