//! Where an install came from and what was verified of it.

use std::borrow::Cow;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use vshelf_core::admission::Admitted;
use vshelf_core::definition::RecordedDefinition;
use vshelf_core::{InstallId, Key, Version};
use vshelf_files::{atomic, optional};

/// The form that this program reads and writes.
const FORMAT: &str = "vivid-shelf-record/1";

/// What stands in front of the number of every form.
const FAMILY: &str = "vivid-shelf-record/";

/// The record of one install.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Record {
    /// What was installed.
    pub contents: RecordContents,
}

/// The file of a record. It is only written so: reading it in one piece takes three times as long.
#[derive(Serialize)]
struct File<'r> {
    /// The form of this file.
    format: &'static str,
    #[serde(flatten)]
    contents: &'r RecordContents,
}

/// What a record says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecordContents {
    /// The runtime.
    pub runtime: String,
    /// The version as published.
    pub version: Version,
    /// The publisher's id.
    pub publisher: String,
    /// The source's name in the definition.
    pub source: String,
    /// The address of the archive.
    pub address: String,
    /// The platform of the build.
    pub platform: String,
    /// The version as the source spells it, where it does so in its own way.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spelled: Option<String>,
    /// Whether somebody else than the publisher packed it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub repack: bool,
    /// The digest that the archive was verified against, or found to have; a folder has none.
    pub digest: Option<String>,
    /// The archive's size in bytes, where the catalog tells it or it is at hand.
    pub archive_size: Option<u64>,
    /// The bytes of all unpacked files.
    pub unpacked_size: u64,
    /// Of those the bytes for which it shared blocks with other installs when it came.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub shared_size: u64,
    /// How many files and links were unpacked.
    pub files: u64,
    /// When it was installed.
    pub installed: Timestamp,
    /// The command that did it, as the history numbers commands.
    #[serde(default)]
    pub command: String,
    /// The part of its definition that using it needs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub definition: Option<RecordedDefinition>,
    /// What came from elsewhere to belong to it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub companions: Vec<CompanionRecord>,
    /// How it was built, where it came as source.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub built: Option<Built>,
    /// How it was adopted, where it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adopted: Option<Adopted>,
    /// Why it did not start, where it was kept all the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub broken: Option<String>,
}

/// What came from elsewhere to belong to an install.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CompanionRecord {
    /// Its package.
    pub package: String,
    /// Its version.
    pub version: Version,
    /// The address of its archive.
    pub address: String,
    /// The digest that the archive was verified against.
    pub digest: String,
}

/// How an install was built from source.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Built {
    /// What the C compiler calls itself.
    pub compiler: Option<String>,
    /// The digests of the patches that its source got.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub patches: Vec<String>,
    /// The calls of its steps, as they were run.
    #[serde(default)]
    pub steps: Vec<String>,
    /// The libraries that it was built with.
    pub libraries: Vec<BuiltWith>,
    /// What was left out, as the log tells.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<String>,
    /// How long its steps took, in milliseconds.
    pub took_ms: u64,
    /// The bytes that it took on disk when they were done.
    #[serde(default)]
    pub space: Option<u64>,
    /// The folder that it was built for, unless it works wherever it is.
    pub place: Option<PathBuf>,
}

/// A library that an install was built with.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BuiltWith {
    /// Its name.
    pub name: String,
    /// Its version, where that was known.
    pub version: Option<String>,
}

/// How something from elsewhere came onto the shelf.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Adopted {
    /// All of it was copied or unpacked.
    Copied,
    /// It stays where it was, and the shelf has a link.
    Linked,
}

#[allow(
    clippy::trivially_copy_pass_by_ref,
    reason = "serde gives what it asks about by reference"
)]
fn is_zero(bytes: &u64) -> bool {
    *bytes == 0
}

impl RecordContents {
    /// The same record of what the gate admitted, which says what it is and where it comes from.
    pub(crate) fn of_admitted(self, admitted: &Admitted) -> RecordContents {
        let digest = admitted.digest().map(str::to_owned);
        let source = admitted.source().map(str::to_owned);
        let key = admitted.key();
        RecordContents {
            runtime: admitted.runtime().to_owned(),
            version: admitted.version().clone(),
            publisher: key.publisher().to_owned(),
            source: source.unwrap_or(self.source),
            digest: digest.or(self.digest),
            ..self
        }
    }

    /// The install as choosing sees it.
    pub fn id(&self) -> InstallId {
        InstallId::new(self.version.clone(), &self.publisher)
    }
}

impl Record {
    /// A record with these contents.
    pub fn new(contents: RecordContents) -> Record {
        Record { contents }
    }

    /// Reads the record at `path`, of the install with this key.
    pub fn read(path: &Path, key: &Key) -> Result<Record, RecordError> {
        let problem = match optional::read(path) {
            Ok(Some(bytes)) => match form_of(&bytes) {
                Ok(form) if form.format == FORMAT => match serde_json::from_slice(&bytes) {
                    Ok(contents) => {
                        let record = Record { contents };
                        let own = record.contents.id().key;
                        if own == *key {
                            return Ok(record);
                        }
                        RecordProblem::OfAnother(own.selector())
                    }
                    Err(error) => RecordProblem::Damaged(error.to_string()),
                },
                Ok(form) if form.format.starts_with(FAMILY) => {
                    RecordProblem::Newer(form.format.into_owned())
                }
                Ok(form) => RecordProblem::Damaged(format!("it is of format {:?}", form.format)),
                Err(error) => RecordProblem::Damaged(error.to_string()),
            },
            Ok(None) => RecordProblem::Missing,
            Err(error) => RecordProblem::Unreadable(error.to_string()),
        };
        Err(RecordError {
            path: path.to_owned(),
            problem,
        })
    }

    /// The record at `path`, of any install: `None` if it is not readable.
    pub(crate) fn read_any(path: &Path) -> Option<RecordContents> {
        let bytes = optional::read(path).ok()??;
        let form = form_of(&bytes).ok()?;
        let is_known = form.format == FORMAT;
        serde_json::from_slice(&bytes).ok().filter(|_| is_known)
    }

    /// Writes the record to `path`, in a folder that nobody sees yet.
    pub(crate) fn write(&self, path: &Path) -> io::Result<()> {
        fs::write(path, self.text())
    }

    /// Writes the record to `path` in the place of another, in one step.
    pub(crate) fn replace(&self, path: &Path) -> io::Result<()> {
        atomic::write_file(path, self.text().as_bytes())
    }

    fn text(&self) -> String {
        let file = File {
            format: FORMAT,
            contents: &self.contents,
        };
        let mut text = serde_json::to_string_pretty(&file).expect("strings and numbers serialise");
        text.push('\n');
        text
    }
}

/// The form of a record's file, whatever else is in it.
#[derive(Deserialize)]
struct Form<'b> {
    #[serde(borrow)]
    format: Cow<'b, str>,
}

/// The form of a record, told by its beginning where that is as this program writes it: the rest is read anyway.
fn form_of(bytes: &[u8]) -> serde_json::Result<Form<'_>> {
    let rest = bytes.strip_prefix(b"{\n  \"format\": \"");
    match rest.and_then(|rest| rest.strip_prefix(FORMAT.as_bytes())) {
        Some([b'"', b',', ..]) => Ok(Form {
            format: FORMAT.into(),
        }),
        _ => serde_json::from_slice(bytes),
    }
}

/// A record that tells nothing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{path} {problem}")]
pub struct RecordError {
    /// The record's file.
    pub path: PathBuf,
    /// Why.
    pub problem: RecordProblem,
}

/// Why a record tells nothing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RecordProblem {
    /// There is none.
    #[error("is missing")]
    Missing,
    /// The system does not let it be read, for this reason.
    #[error("cannot be read: {0}")]
    Unreadable(String),
    /// It is not what this program writes.
    #[error("is damaged: {0}")]
    Damaged(String),
    /// It is the record of another install, with this selector.
    #[error("is that of {0}")]
    OfAnother(String),
    /// A newer program wrote it, in this format.
    #[error("is of format {0:?}, which a newer vshelf writes")]
    Newer(String),
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(None, "is missing")]
    #[case(Some("garbage"), "is damaged: expected value at line 1 column 1")]
    #[case(
        Some(r#"{"format":"vivid-shelf-record/1"}"#),
        "is damaged: missing field `runtime` at line 1 column 33"
    )]
    #[case(
        Some(r#"{"format":"vivid-shelf-record/2","form":8}"#),
        "is of format \"vivid-shelf-record/2\", which a newer vshelf writes"
    )]
    #[case(Some(r#"{"format":"lamp"}"#), "is damaged: it is of format \"lamp\"")]
    fn a_record_that_tells_nothing_says_why(#[case] text: Option<&str>, #[case] problem: &str) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("record.json");
        if let Some(text) = text {
            fs::write(&path, text).unwrap();
        }
        let error = Record::read(&path, &"saltmarsh/8.3.1".parse().unwrap()).unwrap_err();
        assert_eq!(error.problem.to_string(), problem);
    }
}
