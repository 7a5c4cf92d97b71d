//! Where an install came from and what was verified of it.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use vshelf_core::Version;
use vshelf_core::resolve::Shelved;

use crate::atomic;

const FORMAT: &str = "vivid-shelf-receipt/1";

/// The receipt of one install.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Receipt {
    /// The form of this file.
    format: String,
    /// What was installed.
    #[serde(flatten)]
    pub contents: ReceiptContents,
}

/// What a receipt says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReceiptContents {
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
    pub companions: Vec<CompanionReceipt>,
    /// How it was adopted, where it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adopted: Option<Adopted>,
    /// Why it did not start, where it was kept all the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub broken: Option<String>,
}

/// What came from elsewhere to belong to an install.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CompanionReceipt {
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

impl ReceiptContents {
    /// The install under `key` as choosing sees it.
    pub fn shelved(&self, key: &str) -> Shelved {
        Shelved {
            key: key.to_owned(),
            version: self.version.clone(),
            publisher: self.publisher.clone(),
        }
    }
}

impl Receipt {
    /// A receipt with these contents.
    pub fn new(contents: ReceiptContents) -> Receipt {
        Receipt {
            format: FORMAT.to_owned(),
            contents,
        }
    }

    /// Reads the receipt at `path`; nothing where there is none that this program understands.
    pub fn read(path: &Path) -> io::Result<Option<Receipt>> {
        match fs::read(path) {
            Ok(bytes) => Ok(serde_json::from_slice(&bytes)
                .ok()
                .filter(|receipt: &Receipt| receipt.format == FORMAT)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Writes the receipt to `path` in one step.
    pub fn write(&self, path: &Path) -> io::Result<()> {
        let mut text = serde_json::to_string_pretty(self).expect("strings and numbers serialise");
        text.push('\n');
        atomic::write_file(path, text.as_bytes())
    }
}

/// The path of the receipt for `key` below a runtime's folder.
pub(crate) fn receipt_path(runtime_folder: &Path, key: &str) -> PathBuf {
    runtime_folder.join("receipts").join(format!("{key}.json"))
}

/// The path of the manifest for `key` below a runtime's folder.
pub(crate) fn manifest_path(runtime_folder: &Path, key: &str) -> PathBuf {
    runtime_folder.join("receipts").join(format!("{key}.files"))
}
