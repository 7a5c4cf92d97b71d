//! The ledger of what sources stated: for each archive that was installed or locked, its digest, the source,
//! and when.
//!
//! It is the sources' word if they cannot be asked, and what records and locks are compared with. Only the
//! answers of sources are written to it. A statement counts while the definition of its source, its key included, is
//! unchanged.

use std::io;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use vshelf_core::Version;
use vshelf_core::catalog::{Build, BuildCompanion, Checksum, Digest, Repack};
use vshelf_core::{Key, Platform};

use crate::journal::{self, Lines};
use crate::layout::Layout;

/// One archive, as a source stated it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Statement {
    /// When the source stated it.
    pub at: Timestamp,
    /// The version.
    pub version: Version,
    /// The publisher's id.
    pub publisher: String,
    /// The platform of the archive.
    pub platform: Platform,
    /// The source's name in the definition.
    pub source: String,
    /// What identifies the source: another text as soon as its definition changes.
    pub source_id: String,
    /// The minisign key that the statement was signed with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signed_by: Option<String>,
    /// The address of the archive.
    pub address: String,
    /// Other addresses of the same bytes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mirrors: Vec<String>,
    /// The digest of its bytes.
    pub digest: Digest,
    /// Its size in bytes, if it was stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// The version as the source spells it, if that differs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spelled: Option<String>,
    /// Whether and when somebody else than the publisher packed it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repack: Option<Repack>,
    /// The packages that the source adds to it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub companions: Vec<BuildCompanion>,
}

impl Statement {
    /// The key of the install that the archive becomes.
    pub fn key(&self) -> Key {
        Key::new(&self.version, &self.publisher)
    }

    /// The build that it states.
    pub fn build(&self) -> Build {
        Build {
            mirrors: self.mirrors.clone(),
            size: self.size,
            source: Some(self.source.clone()),
            spelled: self.spelled.clone(),
            repack: self.repack,
            companions: self.companions.clone(),
            ..Build::new(
                self.platform.clone(),
                self.address.clone(),
                Checksum::Digest(self.digest.clone()),
            )
        }
    }

    /// Whether it states the same as another, at whatever time.
    fn says_the_same(&self, other: &Statement) -> bool {
        let at = self.at;
        *self
            == Statement {
                at,
                ..other.clone()
            }
    }
}

/// All statements about a runtime, oldest first. Lines that are not understood are left out.
pub fn statements(layout: &Layout, runtime: &str) -> io::Result<Vec<Statement>> {
    let lines: Lines<Statement> = journal::read(&layout.statements(runtime))?;
    Ok(lines.entries)
}

/// Writes down what sources stated about a runtime, unless the ledger has it already.
pub fn note_statements(layout: &Layout, runtime: &str, stated: &[Statement]) -> io::Result<()> {
    let known = statements(layout, runtime)?;
    let is_new = |statement: &&Statement| !known.iter().any(|old| old.says_the_same(statement));
    for statement in stated.iter().filter(is_new) {
        journal::append(&layout.statements(runtime), statement)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::folders::Folders;

    #[test]
    fn a_statement_is_written_once_and_reads_as_it_was() {
        let home = tempfile::tempdir().unwrap();
        let layout = Layout::of(&Folders::below(home.path()));
        let statement = |at: &str, byte: &str| Statement {
            at: at.parse().unwrap(),
            version: "8.3.1".parse().unwrap(),
            publisher: "saltmarsh".into(),
            platform: "linux-x64-gnu".parse().unwrap(),
            source: "depot".into(),
            source_id: "depot-1".into(),
            signed_by: None,
            address: "https://gull.example/m.tgz".into(),
            mirrors: Vec::new(),
            digest: format!("sha256:{}", byte.repeat(32)).parse().unwrap(),
            size: Some(7),
            spelled: None,
            repack: None,
            companions: Vec::new(),
        };
        let (first, later) = ("2026-11-23T10:00:00Z", "2026-11-24T10:00:00Z");
        let old = statement(first, "0a");
        note_statements(&layout, "marram", std::slice::from_ref(&old)).unwrap();
        let both = [statement(later, "0a"), statement(later, "0b")];
        note_statements(&layout, "marram", &both).unwrap();
        let known = statements(&layout, "marram").unwrap();
        assert_eq!(known, [old, statement(later, "0b")]);
        assert_eq!(
            known[0].build().checksum.to_string(),
            known[0].digest.to_string()
        );
        assert_eq!(statements(&layout, "orache").unwrap(), []);
    }
}
