//! The protocol of package registries as the npm registry speaks it: metadata documents, tarballs
//! and their integrity (Subresource Integrity, §3.5).

use std::collections::BTreeMap;
use std::io::Read;
use std::path::{Path, PathBuf};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use flate2::read::GzDecoder;
use serde::Deserialize;
use serde_json::Value;
use vshelf_core::Version;
use vshelf_core::catalog::{Digest, DigestAlgorithm};
use vshelf_core::definition::Companion;
use vshelf_core::range::Range;

use crate::address::Address;
use crate::api::SourceError;
use crate::checksums::Archive;
use crate::digest::digest_of;
use crate::registries::UserSettings;
use crate::transport::{Document, Transport, Validators};

/// The largest file that is taken out of a package, in bytes.
const LARGEST_FILE: u64 = 8 << 20;

/// The whole metadata document.
pub(crate) const WHOLE: &str = "application/json";

/// The part of it that installing needs, a fraction of the size; a registry that does not know it
/// sends the whole.
const FOR_INSTALLING: &str = "application/vnd.npm.install-v1+json, application/json;q=0.8";

/// The registry that this user's settings lead to.
#[derive(Clone, Debug, Default)]
pub struct NpmRegistry {
    settings: UserSettings,
}

/// A package's metadata document, as far as it matters here.
#[derive(Deserialize)]
pub(crate) struct Packument {
    #[serde(rename = "dist-tags", default)]
    pub(crate) tags: BTreeMap<String, String>,
    pub(crate) versions: BTreeMap<String, PackageVersion>,
    #[serde(default)]
    pub(crate) time: BTreeMap<String, String>,
}

#[derive(Deserialize)]
pub(crate) struct PackageVersion {
    pub(crate) dist: Dist,
    pub(crate) deprecated: Option<Value>,
    /// What it runs on; very old packages have a list here, which says nothing.
    #[serde(default)]
    engines: Value,
}

#[derive(Deserialize)]
pub(crate) struct Dist {
    pub(crate) tarball: String,
    integrity: Option<String>,
}

impl Dist {
    /// Its strongest digest; versions from before integrity was published have none.
    pub(crate) fn digest(&self) -> Option<Digest> {
        self.integrity.as_deref().and_then(read_integrity)
    }
}

/// The release of a companion that fits an install.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FittingCompanion {
    /// Its version.
    pub version: Version,
    /// Its archive.
    pub archive: Archive,
}

impl NpmRegistry {
    /// The registry that `settings` lead to.
    pub fn new(settings: UserSettings) -> NpmRegistry {
        NpmRegistry { settings }
    }

    /// The address of a package's metadata document.
    pub(crate) fn address_of(&self, package: &str) -> Result<Address, SourceError> {
        let registry = self.settings.npm_registry(package)?;
        // A scope's slash is part of the name, not of the path.
        let name = package.replace('/', "%2f");
        Ok(Address::read(&format!("{registry}{name}"))?)
    }

    /// These files of the newest version of a package, and where they came from; `address` gave its
    /// metadata document.
    pub(crate) fn packaged_files(
        &self,
        transport: &Transport,
        mut document: Packument,
        address: &Address,
        names: &[&str],
    ) -> Result<(Vec<String>, Address), SourceError> {
        let problem = |problem: &str| SourceError::document(address, problem.to_owned());
        let newest = document
            .tags
            .get("latest")
            .and_then(|version| document.versions.remove(version))
            .ok_or_else(|| problem("it names no latest version"))?;
        let integrity =
            (newest.dist.digest()).ok_or_else(|| problem("its latest version has no integrity"))?;
        let tarball = address.join(&newest.dist.tarball)?;
        let Document::Body { bytes, .. } =
            transport.document(&tarball, &Validators::default(), None)?
        else {
            return Err(SourceError::unasked(&tarball));
        };
        let problem = |problem: String| SourceError::document(&tarball, problem);
        if digest_of(integrity.algorithm, &bytes) != integrity {
            return Err(problem("it is not what its integrity says".to_owned()));
        }
        let text = |name: &&str| {
            file_in_tarball(&bytes, name)
                .map_err(|e| problem(e.to_string()))?
                .ok_or_else(|| problem(format!("it holds no {name}")))
        };
        let texts = names.iter().map(text).collect::<Result<_, _>>()?;
        Ok((texts, tarball))
    }

    /// One version of a package, with the digest that the registry states: `None` if it has no such version, or
    /// states no digest for it.
    pub fn exact(
        &self,
        transport: &Transport,
        package: &str,
        version: &Version,
    ) -> Result<Option<Archive>, SourceError> {
        let address = self.address_of(package)?;
        let document = known_to_be_new(transport, &address, FOR_INSTALLING)?;
        let entry = document.versions.get(version.as_str());
        Ok(entry.and_then(|entry| archive_of(entry, &address)))
    }

    /// The newest final version of a companion of those that its publisher ships with `release`, or, where
    /// that is not known, that says it runs on it.
    pub fn fitting(
        &self,
        transport: &Transport,
        companion: &Companion,
        release: &Version,
    ) -> Result<FittingCompanion, SourceError> {
        let address = self.address_of(&companion.package)?;
        let document = known_to_be_new(transport, &address, FOR_INSTALLING)?;
        newest_fitting(document, companion, release, &address).ok_or_else(|| {
            SourceError::NoCompanion {
                address: address.to_string(),
                release: release.clone(),
            }
        })
    }
}

fn archive_of(entry: &PackageVersion, address: &Address) -> Option<Archive> {
    Some(Archive {
        addresses: address.join(&entry.dist.tarball).ok()?.into(),
        digest: entry.dist.digest()?,
        size: None,
    })
}

fn newest_fitting(
    document: Packument,
    companion: &Companion,
    release: &Version,
    address: &Address,
) -> Option<FittingCompanion> {
    let shipped = companion.shipped_with(release);
    let runs = |entry: &PackageVersion| {
        let engine = companion.engine.as_ref();
        let range = engine.and_then(|engine| entry.engines.get(engine)?.as_str());
        range.is_some_and(|range| {
            // A range covers a pre-release only where it names one; what runs on the final version
            // is meant to run on it as well.
            (range.parse::<Range>()).is_ok_and(|range| range.contains(&release.to_final()))
        })
    };
    let fits = |version: &Version, entry: &PackageVersion| match shipped {
        Some(range) => range.contains(version),
        None => runs(entry),
    };
    (document.versions.into_iter())
        .filter_map(|(text, entry)| {
            let version: Version = text.parse().ok()?;
            // What a publisher ships stays what it ships, whatever was said of it later.
            let withdrawn = shipped.is_none() && withdrawal(entry.deprecated.clone()).is_some();
            let sound = !version.is_pre_release() && !withdrawn;
            let archive = archive_of(&entry, address)?;
            (sound && fits(&version, &entry)).then_some(FittingCompanion { version, archive })
        })
        .max_by(|a, b| a.version.cmp(&b.version))
}

/// A metadata document, unless it is still what `known` describes.
pub(crate) fn packument(
    transport: &Transport,
    address: &Address,
    known: &Validators,
    form: &str,
) -> Result<Option<(Packument, Validators)>, SourceError> {
    match transport.document(address, known, Some(form))? {
        Document::Unchanged => Ok(None),
        Document::Body { bytes, validators } => serde_json::from_slice(&bytes)
            .map(|document| Some((document, validators)))
            .map_err(|error| SourceError::document(address, error.to_string())),
    }
}

fn known_to_be_new(
    transport: &Transport,
    address: &Address,
    form: &str,
) -> Result<Packument, SourceError> {
    packument(transport, address, &Validators::default(), form)?
        .map(|(document, _)| document)
        .ok_or_else(|| SourceError::unasked(address))
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
pub(crate) fn withdrawal(deprecated: Option<Value>) -> Option<Box<str>> {
    match deprecated? {
        Value::String(reason) if !reason.is_empty() => Some(reason.into()),
        Value::Bool(true) => Some("deprecated".into()),
        _ => None,
    }
}

/// The text of one file below the top folder of a gzip tarball.
fn file_in_tarball(tarball: &[u8], wanted: &str) -> std::io::Result<Option<String>> {
    let mut archive = tar::Archive::new(GzDecoder::new(tarball));
    for entry in archive.entries()? {
        let entry = entry?;
        let path = entry.path()?.into_owned();
        let below: PathBuf = path.components().skip(1).collect();
        if below == Path::new(wanted) {
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
    use vshelf_core::definition::Shipped;

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

    #[rstest]
    #[case("4.2.0", Some("2.4.0"))]
    // What is shipped with a line takes precedence over what says that it runs on it.
    #[case("6.2.0", Some("1.0.0"))]
    #[case("8.3.1", Some("3.2.0"))]
    #[case("10.0.0-rc.1", Some("3.2.0"))]
    #[case("3.0.0", None)]
    fn a_companion_fits_when_its_range_covers_the_release(
        #[case] release: &str,
        #[case] expected: Option<&str>,
    ) {
        let integrity = format!("sha512-{}", STANDARD.encode([7; 64]));
        let version = |engines: &str, more: &str| {
            format!(
                r#"{{ "dist": {{ "tarball": "t.tgz", "integrity": "{integrity}" }}, "engines": {engines} {more} }}"#
            )
        };
        let text = format!(
            r#"{{ "versions": {{ "1.0.0": {}, "2.4.0": {}, "3.2.0": {}, "3.3.0": {}, "4.0.0-beta.1": {} }} }}"#,
            version(r#"["marram"]"#, ""),
            version(r#"{ "marram": ">=4" }"#, ""),
            version(r#"{ "marram": "^8.1 || >=10" }"#, ""),
            version(
                r#"{ "marram": ">=8" }"#,
                r#", "deprecated": "breaks the bell""#
            ),
            version(r#"{ "marram": ">=4" }"#, ""),
        );
        let companion = Companion {
            package: "tussock".to_owned(),
            versions: vec![Shipped {
                releases: "6".parse().unwrap(),
                ship: "1".parse().unwrap(),
            }],
            engine: Some("marram".to_owned()),
            folder: "lib/tussock".to_owned(),
            programs: BTreeMap::new(),
        };
        let found = newest_fitting(
            serde_json::from_str(&text).unwrap(),
            &companion,
            &release.parse().unwrap(),
            &Address::read("http://gull.example/tussock").unwrap(),
        );
        let version = found.map(|companion| companion.version.to_string());
        assert_eq!(version.as_deref(), expected);
    }
}
