//! Where an install came from and what was verified of it.

use std::io;
use std::path::Path;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use vshelf_core::{InstallId, Key, Version};
use vshelf_files::{atomic, optional};

const FORMAT: &str = "vivid-shelf-record/1";

/// The record of one install.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Record {
    /// The form of this file.
    format: String,
    /// What was installed.
    #[serde(flatten)]
    pub contents: RecordContents,
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
    /// The digest that the archive was verified against, or found to have; a folder has none.
    pub digest: Option<String>,
    /// The archive's size in bytes, where the catalog tells it or it is at hand.
    pub archive_size: Option<u64>,
    /// The bytes of all unpacked files.
    pub unpacked_size: u64,
    /// How many files and links were unpacked.
    pub files: u64,
    /// When it was installed.
    pub installed: Timestamp,
    /// What came from elsewhere to belong to it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub companions: Vec<CompanionRecord>,
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

/// How something from elsewhere came onto the shelf.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Adopted {
    /// All of it was copied or unpacked.
    Copied,
    /// It stays where it was, and the shelf has a link.
    Linked,
}

impl RecordContents {
    /// The install under `key` as choosing sees it.
    pub fn id(&self, key: &Key) -> InstallId {
        InstallId {
            key: key.clone(),
            version: self.version.clone(),
            publisher: self.publisher.clone(),
        }
    }
}

impl Record {
    /// A record with these contents.
    pub fn new(contents: RecordContents) -> Record {
        Record {
            format: FORMAT.to_owned(),
            contents,
        }
    }

    /// Reads the record at `path`; nothing where there is none that this program understands.
    pub fn read(path: &Path) -> io::Result<Option<Record>> {
        let bytes = optional::read(path)?;
        let record = bytes.and_then(|bytes| serde_json::from_slice(&bytes).ok());
        Ok(record.filter(|record: &Record| record.format == FORMAT))
    }

    /// Writes the record to `path` in one step.
    pub fn write(&self, path: &Path) -> io::Result<()> {
        let mut text = serde_json::to_string_pretty(self).expect("strings and numbers serialise");
        text.push('\n');
        atomic::write_file(path, text.as_bytes())
    }
}
