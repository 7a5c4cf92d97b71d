//! A publisher's page or list in which each row names an archive, by its address, and its digest.
//!
//! A row is a line of a text, a `tr` element of a page (HTML, "The tr element"), or an object of a JSON
//! document (RFC 8259, §4). Of its words, the first whose file name fits the pattern is the archive's
//! address, the first that has the length of an accepted digest is the digest, and the first day is the
//! day of the release.

use std::collections::HashSet;

use jiff::civil::Date;
use serde_json::Value;
use vshelf_core::catalog::{Build, Checksum, Digest};
use vshelf_core::definition::SourceDefinition;

use crate::address::{Address, Addresses};
use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError, fetch_document};
use crate::checksums::read_digest;
use crate::found::Found;
use crate::kinds::archive_names::ArchiveNames;
use crate::transport::Transport;

/// A source that is such a page or list.
pub struct Table {
    pub(crate) runtime: String,
    pub(crate) definition: SourceDefinition,
    /// The document and its mirrors.
    pub(crate) addresses: Addresses,
    pub(crate) names: ArchiveNames,
}

impl Source for Table {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        fetch_document(transport, &self.addresses, known, None, |bytes, address| {
            self.publish(&String::from_utf8_lossy(bytes), address)
        })
    }
}

impl Table {
    fn publish(&self, text: &str, address: &Address) -> Result<PublishedCatalog, SourceError> {
        let mut found = Found::new(&self.definition);
        let mut named = HashSet::new();
        for row in rows(text) {
            let archive = row.iter().find_map(|word| {
                let name = word.rsplit('/').next().unwrap_or(word);
                let (spelling, platform) = self.names.read(&self.definition, name)?;
                Some((word, name, spelling, platform))
            });
            let (Some((word, name, spelling, platform)), Some(digest)) = (archive, digest_in(&row))
            else {
                continue;
            };
            if !named.insert(name.to_owned()) {
                continue;
            }
            let Some(spelled) = found.version(spelling) else {
                continue;
            };
            let archive = address.join(word)?;
            let build = Build {
                mirrors: self.mirrors_of(address, &archive, word)?,
                ..Build::new(
                    platform.clone(),
                    archive.to_string(),
                    Checksum::Digest(digest),
                )
            };
            let day = row.iter().find_map(|word| day_in(word));
            found.add(&spelled, spelling, day, build);
        }
        if found.is_empty() && !found.has_left_out() {
            let problem = format!(
                "no row of it names a file such as {:?} together with its sha256 or sha512 digest",
                self.names.pattern.as_str()
            );
            return Err(SourceError::document(address, problem));
        }
        found.publish(&self.runtime, Vec::new(), address)
    }

    /// Where an archive is in the mirrors, if it lies at or below the folder of the document.
    fn mirrors_of(
        &self,
        document: &Address,
        archive: &Address,
        word: &str,
    ) -> Result<Vec<String>, SourceError> {
        let folder = document.join(".")?.to_string();
        let whole = archive.to_string();
        match whole.strip_prefix(&folder) {
            Some(below) => Ok(self.addresses.mirrors_of(document, below)?),
            None if whole == word => Ok(Vec::new()),
            None => Ok(self.addresses.mirrors_of(document, word)?),
        }
    }
}

/// The words of each row.
fn rows(text: &str) -> Vec<Vec<String>> {
    let start = text.trim_start();
    if start.starts_with(['[', '{'])
        && let Ok(value) = serde_json::from_str::<Value>(start)
    {
        let mut rows = Vec::new();
        rows_of_json(&value, &mut rows);
        return rows;
    }
    let pieces: Vec<&str> = match start.starts_with('<') {
        true => elements(start).collect(),
        false => start.lines().collect(),
    };
    let words = |piece: &str| {
        piece
            .split(|c: char| c.is_whitespace() || "\"'<>=,;|".contains(c))
            .filter(|word| !word.is_empty())
            .map(str::to_owned)
            .collect()
    };
    pieces.into_iter().map(words).collect()
}

/// What stands between one beginning of a row and the next.
fn elements(page: &str) -> impl Iterator<Item = &str> {
    let begins = |at: &usize| {
        let tag = page.get(*at..*at + 3);
        tag.is_some_and(|tag| tag.eq_ignore_ascii_case("<tr"))
    };
    let mut places: Vec<usize> = (0..page.len()).filter(begins).collect();
    places.push(page.len());
    let pairs: Vec<(usize, usize)> = places.windows(2).map(|pair| (pair[0], pair[1])).collect();
    pairs.into_iter().map(|(from, to)| &page[from..to])
}

/// The texts of each object, whatever it is part of.
fn rows_of_json(value: &Value, rows: &mut Vec<Vec<String>>) {
    let texts = |value: &Value| value.as_str().map(str::to_owned);
    match value {
        Value::Array(values) => values.iter().for_each(|value| rows_of_json(value, rows)),
        Value::Object(values) => {
            rows.push(values.values().filter_map(texts).collect());
            values.values().for_each(|value| rows_of_json(value, rows));
        }
        _ => {}
    }
}

/// The digest in a row.
fn digest_in(row: &[String]) -> Option<Digest> {
    row.iter().find_map(|word| read_digest(word))
}

/// The day that a word is or begins with: `2026-10-14`, `2026-10-14T09:00:00Z`.
fn day_in(word: &str) -> Option<Date> {
    let (day, rest) = word.split_at_checked("2026-10-14".len())?;
    let whole = rest.is_empty() || rest.starts_with('T');
    let dashes = day.bytes().filter(|byte| *byte == b'-').count() == 2;
    (whole && dashes).then(|| day.parse().ok()).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const SHA1: &str = "0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b";

    fn table(pattern: &str) -> Table {
        Table {
            runtime: "orache".to_owned(),
            definition: toml::from_str(
                "name = 'gull-point'\nkind = 'wheels'\npackage = 'orache'\npublisher = 'gull-point'",
            )
            .unwrap(),
            addresses: Addresses::read(
                "https://gull.example/o/index.txt",
                &["/srv/o/index.txt".to_owned()],
            )
            .unwrap(),
            names: ArchiveNames {
                pattern: pattern.parse().unwrap(),
                platforms: [("source".parse().unwrap(), "source".to_owned())].into(),
            },
        }
    }

    fn read(text: &str) -> Result<PublishedCatalog, SourceError> {
        let table = table("orache-{version}.tar.xz");
        table.publish(text, table.addresses.first())
    }

    /// The version, day, address and mirrors of each release.
    fn told(published: &PublishedCatalog) -> Vec<String> {
        let releases = published.catalog.releases.iter().map(|release| {
            let key = (release.version.clone(), release.publisher.clone());
            let build = &published.details[&key].builds[0];
            let day = release.date.map_or("-".to_owned(), |day| day.to_string());
            let (version, mirrors) = (&release.version, build.mirrors.join(" "));
            format!("{version} {day} {} [{mirrors}]", build.address)
        });
        releases.collect()
    }

    #[test]
    fn a_list_with_columns_is_read() {
        let (sha256, sha512) = ("0a".repeat(32), "0c".repeat(64));
        let text = format!(
            "name\turl\tsha1\tsha256\tsha512\n\
             orache-2.5.3\thttps://gull.example/o/2.5/orache-2.5.3.tar.gz\t{SHA1}\t{sha256}\t{sha512}\n\
             orache-2.5.3\thttps://gull.example/o/2.5/orache-2.5.3.tar.xz\t{SHA1}\t{sha256}\t{sha512}\n\
             orache-2.6.0-rc1\thttps://files.example/orache-2.6.0-rc1.tar.xz\t{SHA1}\t{sha256}\t{sha512}\n\
             orache-1.0.0\thttps://gull.example/o/orache-1.0.0.tar.xz\t{SHA1}\t\t\n"
        );
        let expected = [
            "2.6.0-rc1 - https://files.example/orache-2.6.0-rc1.tar.xz []",
            "2.5.3 - https://gull.example/o/2.5/orache-2.5.3.tar.xz [/srv/o/2.5/orache-2.5.3.tar.xz]",
        ];
        assert_eq!(told(&read(&text).unwrap()), expected);
    }

    #[test]
    fn a_page_is_read_by_its_rows() {
        let digest = "0a".repeat(32);
        let row = |name: &str, day: &str| {
            format!(
                "<TR CLASS=\"a\"><TD><A HREF=\"{name}\">{name}</A></TD><td>{day}<td>{digest}</tr>\n"
            )
        };
        let rows = row("orache-2.5.3.tar.xz", "2026-03-12") + &row("sand-1.tar.xz", "2026-03-12");
        let again = row("orache-2.5.3.tar.xz", "2020-01-01");
        let page = format!("<!DOCTYPE html>\n<table>{rows}</table><table>{again}</table>é");
        let expected = [
            "2.5.3 2026-03-12 https://gull.example/o/orache-2.5.3.tar.xz [/srv/o/orache-2.5.3.tar.xz]",
        ];
        assert_eq!(told(&read(&page).unwrap()), expected);
    }

    #[test]
    fn a_document_of_objects_is_read() {
        let digest = "0a".repeat(32);
        let text = format!(
            r#"{{"files": [{{"url": "https://gull.example/o/orache-2.5.3.tar.xz", "size": 7, "md5_sum": "",
               "sha256_sum": "{digest}", "made": "2026-03-12T09:00:00Z"}},
               {{"url": "https://gull.example/o/orache-2.5.2.tar.xz"}}]}}"#
        );
        let expected = [
            "2.5.3 2026-03-12 https://gull.example/o/orache-2.5.3.tar.xz [/srv/o/orache-2.5.3.tar.xz]",
        ];
        assert_eq!(told(&read(&text).unwrap()), expected);
    }

    #[rstest]
    #[case::nothing("")]
    #[case::another_name("sand-1.tar.xz 0a0a")]
    #[case::a_weak_digest(&format!("orache-2.5.3.tar.xz {SHA1}"))]
    #[case::half_a_document("[{\"url\": ")]
    fn what_has_no_such_row_is_no_table(#[case] text: &str) {
        let error = read(text).unwrap_err().to_string();
        let problem = "no row of it names a file such as \"orache-{version}.tar.xz\" together with its sha256 or sha512 digest";
        assert!(error.contains(problem), "{error}");
    }
}
