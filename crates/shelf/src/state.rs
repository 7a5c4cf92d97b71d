//! What a person chose for one runtime: the default and the labels.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::mem;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use vshelf_core::Key;
use vshelf_files::{atomic, optional};

const FORMAT: &str = "vivid-shelf-state/2";

/// The contents of a runtime's state file.
///
/// Which install is the default is not in it but in the link that leads to it: setting the default first
/// adds a selector here and then replaces the link, which is the commit point.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    format: String,
    /// The selectors that installs were made the default as. Only that of the install that the link leads
    /// to counts.
    #[serde(default)]
    pub defaults: BTreeMap<Key, String>,
    /// The default if there is no link, such as `system`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub without_link: Option<String>,
    /// Labels and the selectors they are bound to.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// The installs that former versions marked as kept: read as labels, and written as those.
    #[serde(default, skip_serializing)]
    kept: BTreeSet<Key>,
    /// The renewals that were begun and are not finished: the install that is replaced, and its
    /// successor.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub renewals: BTreeMap<Key, Key>,
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
            defaults: BTreeMap::new(),
            without_link: None,
            labels: BTreeMap::new(),
            kept: BTreeSet::new(),
            renewals: BTreeMap::new(),
        }
    }
}

impl State {
    /// The selector that an install is the default as, if it is: its own if none was noted.
    pub fn default_selector(&self, key: &Key) -> String {
        let noted = self.defaults.get(key).cloned();
        noted.unwrap_or_else(|| key.selector())
    }

    /// Labels an install that a former version marked as kept, unless it has such a label.
    pub(crate) fn label_kept(&mut self, key: &Key) {
        let label = format!("kept-{}", key.as_str());
        self.labels.entry(label).or_insert_with(|| key.selector());
    }

    /// Reads the file at `path`: `None` if there is none.
    pub fn read(path: &Path) -> Result<Option<State>, StateError> {
        let path = || path.to_owned();
        let failed = |source| StateError::File {
            path: path(),
            source,
        };
        let Some(bytes) = optional::read(&path()).map_err(failed)? else {
            return Ok(None);
        };
        let mut state: State =
            serde_json::from_slice(&bytes).map_err(|error| StateError::Damaged {
                path: path(),
                problem: error.to_string(),
            })?;
        if state.format != FORMAT {
            return Err(StateError::Newer {
                path: path(),
                format: state.format,
            });
        }
        for key in mem::take(&mut state.kept) {
            state.label_kept(&key);
        }
        Ok(Some(state))
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
        let path = folder.path().join("state/marram.json");
        assert_eq!(State::read(&path).unwrap(), None);
        let state = State {
            without_link: Some("system".into()),
            labels: [("tide".to_owned(), "6".to_owned())].into(),
            ..State::default()
        };
        state.write(&path).unwrap();
        assert_eq!(State::read(&path).unwrap(), Some(state));
    }

    #[rstest]
    #[case("garbage", "is damaged: expected value")]
    #[case("{}", "is damaged: missing field `format`")]
    #[case(r#"{"format":"vivid-shelf-state/3"}"#, "which a newer vshelf writes")]
    fn a_file_that_is_not_ours_is_left_alone(#[case] text: &str, #[case] message: &str) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("state.json");
        fs::write(&path, text).unwrap();
        let error = State::read(&path).unwrap_err().to_string();
        assert!(error.contains(message), "{error}");
        assert_eq!(fs::read_to_string(&path).unwrap(), text);
    }
}
