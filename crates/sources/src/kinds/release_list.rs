//! A publisher's own release list: a JSON list of releases, newest first, as Node.js serves it.
//!
//! Each entry names a version, its day, the platforms that it is built for, the code name of its
//! long-term support or `false`, whether it fixes a security problem, and the versions of what it
//! brings. A checksum list for each release stands beside its archives.

use std::collections::BTreeMap;

use jiff::civil::Date;
use serde::Deserialize;
use serde_json::Value;
use vshelf_core::Platform;
use vshelf_core::catalog::{Build, Checksum};
use vshelf_core::definition::{IndexedArchive, SourceDefinition};

use crate::address::{Address, Addresses};
use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError, fetch_document};
use crate::found::{Found, named_line};
use crate::transport::Transport;

/// A source that serves such an index.
pub struct ReleaseList {
    pub(crate) runtime: String,
    pub(crate) definition: SourceDefinition,
    /// The index and its mirrors.
    pub(crate) addresses: Addresses,
    pub(crate) checksums: String,
    pub(crate) archives: BTreeMap<Platform, IndexedArchive>,
}

#[derive(Deserialize)]
struct IndexedRelease {
    version: String,
    date: Option<Date>,
    #[serde(default)]
    files: Vec<String>,
    #[serde(default)]
    lts: Value,
    security: Option<bool>,
    /// The versions of what it brings, by name.
    #[serde(flatten)]
    rest: BTreeMap<String, Value>,
}

impl Source for ReleaseList {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        let accept = Some("application/json");
        fetch_document(
            transport,
            &self.addresses,
            known,
            accept,
            |bytes, address| {
                let entries: Vec<IndexedRelease> = serde_json::from_slice(bytes)
                    .map_err(|e| SourceError::document(address, e.to_string()))?;
                self.publish(&entries, address)
            },
        )
    }
}

impl ReleaseList {
    fn publish(
        &self,
        entries: &[IndexedRelease],
        address: &Address,
    ) -> Result<PublishedCatalog, SourceError> {
        let mut lines = Vec::new();
        let mut found = Found::new(&self.definition);
        for entry in entries {
            let spelling = entry.version.trim_start_matches('v');
            let Some(spelled) = found.version(spelling) else {
                continue;
            };
            if let Some(codename) = entry.lts.as_str() {
                // Long-term support began with the first release that has the name.
                let line = named_line(&mut lines, &spelled.version, codename);
                line.lts = line.lts.into_iter().chain(entry.date).min();
            }
            for build in self.builds(spelling, entry, address)? {
                found.add(&spelled, spelling, entry.date, build);
            }
            let (release, card) = found.release(&spelled.version);
            release.date = entry.date;
            release.security = entry.security;
            card.bundles = (entry.rest.iter())
                .filter_map(|(name, value)| Some((name.clone(), value.as_str()?.to_owned())))
                .collect();
        }
        found.publish(&self.runtime, lines, address)
    }

    fn builds(
        &self,
        spelling: &str,
        entry: &IndexedRelease,
        address: &Address,
    ) -> Result<Vec<Build>, SourceError> {
        let list = address.join(&self.checksums.replace("{version}", spelling))?;
        let mut builds = Vec::new();
        for (platform, archive) in &self.archives {
            if !entry.files.contains(&archive.listed) {
                continue;
            }
            for file in &archive.files {
                let file = file.filled(|_| spelling.to_owned());
                let checksum = Checksum::Listed(list.to_string());
                builds.push(Build {
                    mirrors: self.addresses.mirrors_of(address, &file)?,
                    ..Build::new(platform.clone(), address.join(&file)?.to_string(), checksum)
                });
            }
        }
        Ok(builds)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use vshelf_core::Phase;

    const INDEX: &str = r#"[
        {"version":"v10.0.0-rc.1","date":"2026-11-01","files":["linux-x64"],"lts":false,"security":false},
        {"version":"v8.3.1","date":"2026-10-14","files":["src","linux-x64","osx-arm64-tar"],
         "tussock":"3.2.0","lts":"Eelgrass","security":true},
        {"version":"v8.1.0","date":"2025-10-21","files":["src"],"lts":"Eelgrass","security":false},
        {"version":"v8.0.0","date":"2025-04-15","files":[],"lts":false},
        {"version":"nightly","date":"2025-04-15","files":[],"lts":false}]"#;

    fn source() -> ReleaseList {
        let archive = |listed: &str, suffix: &str| IndexedArchive {
            listed: listed.to_owned(),
            files: ["tar.xz", "tar.gz"]
                .map(|format| format!("v{{version}}/marram-v{{version}}-{suffix}.{format}"))
                .map(|file| file.parse().unwrap())
                .to_vec(),
        };
        ReleaseList {
            runtime: "marram".to_owned(),
            definition: toml::from_str(
                "name = 'saltmarsh'\nkind = 'wheels'\npackage = 'marram'\npublisher = 'saltmarsh'",
            )
            .unwrap(),
            addresses: Addresses::read(
                "http://gull.example/m/index.json",
                &["/srv/m/index.json".to_owned()],
            )
            .unwrap(),
            checksums: "v{version}/SHASUMS256.txt".to_owned(),
            archives: [
                (
                    "linux-x64-gnu".parse().unwrap(),
                    archive("linux-x64", "linux-x64"),
                ),
                (
                    "darwin-arm64".parse().unwrap(),
                    archive("osx-arm64-tar", "darwin-arm64"),
                ),
            ]
            .into(),
        }
    }

    fn published() -> PublishedCatalog {
        let entries: Vec<IndexedRelease> = serde_json::from_str(INDEX).unwrap();
        let source = source();
        let address = source.addresses.first();
        source.publish(&entries, address).unwrap()
    }

    #[test]
    fn an_index_becomes_a_catalog() {
        let read = published();
        let versions: Vec<_> = (read.catalog.releases.iter())
            .map(|release| (release.version.as_str(), release.security))
            .collect();
        let expected = [
            ("10.0.0-rc.1", Some(false)),
            ("8.3.1", Some(true)),
            ("8.1.0", Some(false)),
            ("8.0.0", None),
        ];
        assert_eq!(versions, expected);
        let release = &read.catalog.releases[1];
        assert_eq!(release.platforms.len(), 2);
        let card = &read.details[&(release.version.clone(), release.publisher.clone())];
        assert_eq!(
            card.bundles,
            [("tussock".to_owned(), "3.2.0".to_owned())].into()
        );
        let builds = card.builds_for(&"linux-x64-gnu".parse().unwrap());
        let told: Vec<_> = builds.iter().map(|build| build.address.as_str()).collect();
        assert_eq!(
            told,
            [
                "http://gull.example/m/v8.3.1/marram-v8.3.1-linux-x64.tar.xz",
                "http://gull.example/m/v8.3.1/marram-v8.3.1-linux-x64.tar.gz"
            ]
        );
        assert_eq!(
            builds[0].mirrors,
            ["/srv/m/v8.3.1/marram-v8.3.1-linux-x64.tar.xz"]
        );
        let list = "http://gull.example/m/v8.3.1/SHASUMS256.txt".to_owned();
        assert_eq!(builds[0].checksum, Checksum::Listed(list));
    }

    #[test]
    fn the_days_of_releases_tell_when_long_term_support_began() {
        let read = published();
        let line = read.catalog.line_named("eelgrass").unwrap();
        assert_eq!(line.lts, "2025-10-21".parse().ok());
        assert_eq!(line.phase_on("2026-11-23".parse().unwrap()), Phase::Lts);
    }
}
