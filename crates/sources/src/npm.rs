//! A runtime whose builds are packages in a registry that speaks the npm protocol.
//!
//! One package a platform holds the builds; its metadata document lists the versions, each with a
//! tarball and its integrity (Subresource Integrity, §3.5). A further package may hold the support
//! life of the lines as a release schedule: a JSON object from line to dates.

use std::collections::{BTreeMap, HashMap};
use std::io::Read;
use std::sync::Arc;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use flate2::read::GzDecoder;
use jiff::civil::Date;
use serde::Deserialize;
use vshelf_core::catalog::{
    Build, Catalog, Details, Digest, DigestAlgorithm, Line, Publisher, Release,
};
use vshelf_core::definition::PackagedFile;
use vshelf_core::{Platform, Version};

use crate::address::Address;
use crate::digest::digest_of;
use crate::registry::UserSettings;
use crate::source::{Fetched, PublishedCatalog, Source, SourceError};
use crate::transport::{Document, Transport, Validators};

/// The largest file that is taken out of a package, in bytes.
const LARGEST_FILE: u64 = 8 << 20;

/// A source that reads packages.
pub struct NpmPackages {
    pub(crate) runtime: String,
    pub(crate) publisher: String,
    pub(crate) packages: BTreeMap<Platform, String>,
    pub(crate) schedule: Option<PackagedFile>,
    pub(crate) settings: UserSettings,
}

/// A package's metadata document, as far as it matters here.
#[derive(Deserialize)]
struct Packument {
    #[serde(rename = "dist-tags", default)]
    tags: BTreeMap<String, String>,
    versions: BTreeMap<String, PackageVersion>,
    #[serde(default)]
    time: BTreeMap<String, String>,
}

#[derive(Deserialize)]
struct PackageVersion {
    dist: Dist,
    deprecated: Option<serde_json::Value>,
}

#[derive(Deserialize)]
struct Dist {
    tarball: String,
    integrity: Option<String>,
}

#[derive(Deserialize)]
struct ScheduleEntry {
    start: Option<Date>,
    lts: Option<Date>,
    maintenance: Option<Date>,
    end: Option<Date>,
    codename: Option<String>,
}

impl Source for NpmPackages {
    fn fetch(&self, transport: &Transport, known: &Validators) -> Result<Fetched, SourceError> {
        let mut found = PublishedCatalog {
            catalog: Catalog::default(),
            details: HashMap::new(),
            address: String::new(),
            validators: Validators::default(),
        };
        let mut releases: BTreeMap<Version, Release> = BTreeMap::new();
        let publisher: Arc<str> = self.publisher.as_str().into();
        for (platform, package) in &self.packages {
            let address = self.address_of(package)?;
            // One validator fits one document: with several packages all are read anew.
            let known = match self.packages.len() {
                1 => known.clone(),
                _ => Validators::default(),
            };
            let Some((document, validators)) = packument(transport, &address, &known)? else {
                return Ok(Fetched::Unchanged);
            };
            found.validators = validators;
            found.address = address.to_string();
            for (text, entry) in document.versions {
                let Ok(version) = text.parse::<Version>() else {
                    continue;
                };
                // Versions from before integrity was published cannot be verified.
                let Some(digest) = entry.dist.integrity.as_deref().and_then(read_integrity) else {
                    continue;
                };
                let build = Build {
                    platform: platform.clone(),
                    address: address.join(&entry.dist.tarball).to_string(),
                    size: None,
                    digest,
                };
                let release = releases.entry(version.clone()).or_insert_with(|| Release {
                    version: version.clone(),
                    publisher: publisher.clone(),
                    date: document
                        .time
                        .get(&text)
                        .and_then(|time| time.get(..10)?.parse().ok()),
                    security: false,
                    withdrawn: entry.deprecated.and_then(withdrawal),
                    platforms: Arc::new([]),
                });
                release.platforms = release
                    .platforms
                    .iter()
                    .cloned()
                    .chain([platform.clone()])
                    .collect();
                let details: &mut Details = found
                    .details
                    .entry((version, publisher.clone()))
                    .or_default();
                details.builds.push(build);
            }
        }
        let publisher = Publisher {
            id: self.publisher.clone(),
            name: self.publisher.clone(),
            main: true,
        };
        found.catalog = Catalog::new(
            self.runtime.clone(),
            None,
            vec![publisher],
            BTreeMap::new(),
            self.read_schedule(transport)?,
            releases.into_values().collect(),
        );
        Ok(Fetched::Changed(Box::new(found)))
    }
}

impl NpmPackages {
    fn address_of(&self, package: &str) -> Result<Address, SourceError> {
        let registry = self.settings.npm_registry(package)?;
        // A scope's slash is part of the name, not of the path.
        Ok(Address::read(&format!(
            "{registry}{}",
            package.replace('/', "%2f")
        )))
    }

    /// The lines' support life, from the newest version of the schedule's package.
    fn read_schedule(&self, transport: &Transport) -> Result<Vec<Line>, SourceError> {
        let Some(schedule) = &self.schedule else {
            return Ok(Vec::new());
        };
        let address = self.address_of(&schedule.package)?;
        let problem = |problem: String| SourceError::Document {
            address: address.to_string(),
            problem,
        };
        let Some((mut document, _)) = packument(transport, &address, &Validators::default())?
        else {
            return Err(problem(
                "nothing was asked about, and it answers \"unchanged\"".into(),
            ));
        };
        let newest = document
            .tags
            .get("latest")
            .and_then(|version| document.versions.remove(version))
            .ok_or_else(|| problem("it names no latest version".into()))?;
        let integrity = newest
            .dist
            .integrity
            .as_deref()
            .and_then(read_integrity)
            .ok_or_else(|| problem("its latest version has no integrity".into()))?;
        let tarball = address.join(&newest.dist.tarball);
        let Document::Body { bytes, .. } =
            transport.document(&tarball, &Validators::default(), None)?
        else {
            return Err(problem("its tarball did not come".into()));
        };
        if digest_of(integrity.algorithm, &bytes) != integrity {
            return Err(problem(format!("{tarball} is not what its integrity says")));
        }
        let text = file_in_tarball(&bytes, &schedule.file)
            .map_err(|e| problem(format!("{tarball}: {e}")))?
            .ok_or_else(|| problem(format!("{tarball} holds no {}", schedule.file)))?;
        let entries: BTreeMap<String, ScheduleEntry> =
            serde_json::from_str(&text).map_err(|e| problem(format!("{}: {e}", schedule.file)))?;
        Ok(entries
            .into_iter()
            .map(|(name, entry)| Line {
                codename: entry.codename.filter(|name| !name.is_empty()),
                start: entry.start,
                lts: entry.lts,
                maintenance: entry.maintenance,
                end: entry.end,
                ..Line::undated(name.trim_start_matches('v'))
            })
            .collect())
    }
}

fn packument(
    transport: &Transport,
    address: &Address,
    known: &Validators,
) -> Result<Option<(Packument, Validators)>, SourceError> {
    match transport.document(address, known, Some("application/json"))? {
        Document::Unchanged => Ok(None),
        Document::Body { bytes, validators } => match serde_json::from_slice(&bytes) {
            Ok(document) => Ok(Some((document, validators))),
            Err(error) => Err(SourceError::Document {
                address: address.to_string(),
                problem: error.to_string(),
            }),
        },
    }
}

/// The strongest digest that we accept in `sha512-… sha256-…` (Subresource Integrity, §3.5).
fn read_integrity(text: &str) -> Option<Digest> {
    let read = |algorithm: DigestAlgorithm| {
        text.split_whitespace().find_map(|entry| {
            let encoded = entry.strip_prefix(algorithm.as_str())?.strip_prefix('-')?;
            let bytes = STANDARD.decode(encoded.split('?').next()?).ok()?;
            (bytes.len() == algorithm.length()).then_some(Digest { algorithm, bytes })
        })
    };
    read(DigestAlgorithm::Sha512).or_else(|| read(DigestAlgorithm::Sha256))
}

/// Why a version is deprecated; an empty reason or `false` means it is not.
fn withdrawal(deprecated: serde_json::Value) -> Option<Box<str>> {
    match deprecated {
        serde_json::Value::String(reason) if !reason.is_empty() => Some(reason.into()),
        serde_json::Value::Bool(true) => Some("deprecated".into()),
        _ => None,
    }
}

/// The text of one file below the top folder of a gzip tarball.
fn file_in_tarball(tarball: &[u8], wanted: &str) -> std::io::Result<Option<String>> {
    let mut archive = tar::Archive::new(GzDecoder::new(tarball));
    for entry in archive.entries()? {
        let entry = entry?;
        let path = entry.path()?.into_owned();
        let below: std::path::PathBuf = path.components().skip(1).collect();
        if below == std::path::Path::new(wanted) {
            let mut text = String::new();
            entry.take(LARGEST_FILE).read_to_string(&mut text)?;
            return Ok(Some(text));
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("sha512-", 64, Some(DigestAlgorithm::Sha512))]
    #[case("sha256-", 32, Some(DigestAlgorithm::Sha256))]
    #[case("sha1-", 20, None)]
    #[case("sha512-", 20, None)]
    fn only_strong_and_whole_integrity_counts(
        #[case] prefix: &str,
        #[case] length: usize,
        #[case] expected: Option<DigestAlgorithm>,
    ) {
        let text = format!("sha1-AAAA {prefix}{}", STANDARD.encode(vec![7; length]));
        assert_eq!(
            read_integrity(&text).map(|digest| digest.algorithm),
            expected
        );
    }
}
