//! A plain folder of archives, named by a pattern, with a checksum list beside them.
//!
//! The list says both what there is and what its bytes must add up to: nothing else in the folder
//! counts, so that a web server need not show what it holds.

use std::collections::HashMap;
use std::fs;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use vshelf_core::catalog::{Build, Checksum};
use vshelf_core::definition::SourceDefinition;

use crate::address::{Address, Addresses};
use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError, fetch_document};
use crate::checksums::{entries, read_digest};
use crate::found::Found;
use crate::kinds::archive_names::ArchiveNames;
use crate::transport::Transport;

/// A source that is a folder.
pub struct ArchiveFolder {
    pub(crate) runtime: String,
    pub(crate) definition: SourceDefinition,
    /// The checksum list, and the same list in the folder's mirrors.
    pub(crate) lists: Addresses,
    pub(crate) names: ArchiveNames,
}

impl Source for ArchiveFolder {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        fetch_document(transport, &self.lists, known, None, |bytes, address| {
            self.publish(&String::from_utf8_lossy(bytes), address)
        })
    }
}

impl ArchiveFolder {
    fn publish(&self, text: &str, list: &Address) -> Result<PublishedCatalog, SourceError> {
        let mut found = Found::new(&self.definition);
        // One pass for all: looking each name up in the text would read it as often as it has lines.
        let mut digests = HashMap::new();
        for (name, hex) in entries(text) {
            if let Some(digest) = read_digest(hex) {
                digests.entry(name).or_insert(digest);
            }
        }
        for (name, _) in entries(text) {
            let Some((spelling, platform)) = self.names.read(&self.definition, name) else {
                continue;
            };
            let Some(spelled) = found.version(spelling) else {
                continue;
            };
            let digest = digests.get(name).cloned().ok_or_else(|| {
                let problem =
                    format!("{name} has a digest there that is neither sha256 nor sha512");
                SourceError::document(list, problem)
            })?;
            let archive = list.join(name)?;
            let file = match &archive {
                Address::File(path) => fs::metadata(path).ok(),
                Address::Web(_) => None,
            };
            let build = Build {
                mirrors: self.lists.mirrors_of(list, name)?,
                size: file.as_ref().map(fs::Metadata::len),
                ..Build::new(
                    platform.clone(),
                    archive.to_string(),
                    Checksum::Digest(digest),
                )
            };
            found.add(&spelled, spelling, file.as_ref().and_then(day_of), build);
        }
        if found.is_empty() && !found.has_left_out() {
            let problem = format!(
                "it lists nothing that is named {:?}",
                self.names.pattern.as_str()
            );
            return Err(SourceError::document(list, problem));
        }
        found.publish(&self.runtime, Vec::new(), list)
    }
}

/// The day on which a file was written last.
fn day_of(file: &fs::Metadata) -> Option<Date> {
    let time = Timestamp::try_from(file.modified().ok()?).ok()?;
    Some(time.to_zoned(TimeZone::UTC).date())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder(pattern: &str) -> ArchiveFolder {
        ArchiveFolder {
            runtime: "marram".to_owned(),
            definition: toml::from_str(
                "name = 'gull-point'\nkind = 'wheels'\npackage = 'marram'\npublisher = 'gull-point'",
            )
            .unwrap(),
            lists: Addresses::read(
                "http://gull.example/m/SHA256SUMS",
                &["/srv/m/SHA256SUMS".to_owned()],
            )
            .unwrap(),
            names: ArchiveNames {
                pattern: pattern.parse().unwrap(),
                platforms: [("linux-x64", "linux-x64"), ("darwin-arm64", "mac")]
                    .map(|(platform, word)| (platform.parse().unwrap(), word.to_owned()))
                    .into(),
            },
        }
    }

    fn list(names: &[&str]) -> String {
        let lines = names
            .iter()
            .map(|name| format!("{}  {name}\n", "0a".repeat(32)));
        lines.collect()
    }

    #[test]
    fn what_the_list_names_and_the_pattern_fits_is_published() {
        let folder = folder("marram-{version}-{platform}.tar.xz");
        let list = list(&[
            "marram-8.3.1-linux-x64.tar.xz",
            "marram-8.3.1-mac.tar.xz",
            "marram-10.0.0-rc.1-mac.tar.xz",
            "marram-8.3.1-windows.tar.xz",
            "marram-eight-mac.tar.xz",
            "README",
        ]);
        let read = folder.publish(&list, folder.lists.first()).unwrap();
        let found: Vec<_> = (read.catalog.releases.iter())
            .map(|release| (release.version.as_str(), release.platforms.len()))
            .collect();
        assert_eq!(found, [("10.0.0-rc.1", 1), ("8.3.1", 2)]);
        let release = &read.catalog.releases[1];
        let card = &read.details[&(release.version.clone(), release.publisher.clone())];
        let build = card.builds_for(&"linux-x64-gnu".parse().unwrap())[0];
        let name = "marram-8.3.1-linux-x64.tar.xz";
        assert_eq!(build.address, format!("http://gull.example/m/{name}"));
        assert_eq!(build.mirrors, [format!("/srv/m/{name}")]);
    }

    #[test]
    fn a_list_without_any_fitting_name_is_an_error_that_shows_the_pattern() {
        let folder = folder("sedge-{version}-{platform}.zip");
        let error = folder
            .publish(
                &list(&["marram-8.3.1-mac.tar.xz"]),
                folder.lists.iter().nth(1).unwrap(),
            )
            .unwrap_err();
        assert_eq!(
            error.to_string(),
            "/srv/m/SHA256SUMS is not a catalog: it lists nothing that is named \"sedge-{version}-{platform}.zip\""
        );
    }

    #[test]
    fn a_weak_digest_is_refused_by_the_name_of_its_file() {
        let folder = folder("marram-{version}-{platform}.tar.xz");
        let list = format!("{}  marram-8.3.1-mac.tar.xz\n", "0a".repeat(20));
        let error = folder
            .publish(&list, folder.lists.iter().nth(1).unwrap())
            .unwrap_err();
        assert!(
            error
                .to_string()
                .contains("marram-8.3.1-mac.tar.xz has a digest")
        );
    }
}
