//! The rows of each document of a source, kept so that only changed documents are fetched and read again.

use std::collections::BTreeMap;
use std::io;
use std::path::Path;

use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use vshelf_core::Platform;
use vshelf_files::{atomic, optional};

use crate::transport::Validators;

/// The documents of a source, by address.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptDocuments(BTreeMap<String, KeptDocument>);

/// A document's contents and validators.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct KeptDocument {
    validators: Validators,
    pub(crate) said: Said,
}

/// The contents of a document.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) enum Said {
    /// Which lines there are, and those in long-term support.
    Lines {
        lines: Vec<String>,
        long_term: Vec<String>,
    },
    /// Rows.
    Rows(Rows),
}

/// The rows of a document.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Rows {
    /// How many releases the document has, whether or not they count.
    pub(crate) releases: usize,
    pub(crate) builds: Vec<Row>,
    pub(crate) skipped: Vec<SkippedRow>,
}

/// A build as a row describes it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Row {
    /// The version as it is spelled there.
    pub(crate) spelling: String,
    pub(crate) day: Option<Date>,
    pub(crate) platform: Platform,
    pub(crate) address: String,
    /// In bytes.
    pub(crate) size: Option<u64>,
    /// The digest or the address of its list, or the reason why both are missing.
    pub(crate) checksum: Result<String, String>,
}

/// A row that does not count.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SkippedRow {
    /// Its version, or else its number in its document.
    pub row: String,
    /// The field that decides it.
    pub field: String,
    /// The problem with it, as the end of a sentence.
    pub problem: String,
}

impl KeptDocuments {
    /// Reads `file`. An absent or damaged file counts as empty, so that every document is fetched again.
    pub(crate) fn read(file: &Path) -> KeptDocuments {
        let bytes = optional::read(file).ok().flatten();
        let kept = bytes.and_then(|bytes| serde_json::from_slice(&bytes).ok());
        kept.unwrap_or_default()
    }

    /// Writes them to `file`, which is removed if there are none.
    pub(crate) fn write(&self, file: &Path) -> io::Result<()> {
        if self.0.is_empty() {
            return optional::remove(file).map(drop);
        }
        let text = serde_json::to_vec(self).expect("texts and numbers serialise");
        atomic::write_file(file, &text)
    }

    /// The validators of the document at `address`.
    pub(crate) fn validators(&self, address: &str) -> Validators {
        let kept = self.0.get(address);
        kept.map(|kept| kept.validators.clone()).unwrap_or_default()
    }

    /// The contents of the document at `address`.
    pub(crate) fn said(&self, address: &str) -> Option<&Said> {
        Some(&self.0.get(address)?.said)
    }

    /// Keeps the document at `address`.
    pub(crate) fn keep(&mut self, address: String, validators: Validators, said: Said) {
        self.0.insert(address, KeptDocument { validators, said });
    }

    /// Adds the documents of `other`.
    pub(crate) fn extend(&mut self, other: KeptDocuments) {
        self.0.extend(other.0);
    }
}
