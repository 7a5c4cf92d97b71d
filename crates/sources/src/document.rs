//! Our own catalog format, version 1 (`docs/catalog-format.md`).

use std::collections::{BTreeMap, HashMap};
use std::fmt;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use vshelf_core::catalog::{
    Build, BuildCompanion, Catalog, Checksum, Details, Digest, DigestError, LibcVersion, Line,
    LinePolicy, Publisher, Release, Repack,
};
use vshelf_core::definition::Companion;
use vshelf_core::selector::{is_line_name, is_name, is_publisher};
use vshelf_core::{Platform, Request, Selector, Version};

use crate::address::Address;
use crate::api::PublishedCatalog;

/// The format that this program reads; another number behind the slash is refused by name.
pub const FORMAT: &str = "vivid-shelf-catalog/1";

#[derive(Serialize, Deserialize)]
struct CatalogDocument {
    #[serde(default)]
    format: String,
    runtime: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    updated: Option<Timestamp>,
    #[serde(skip_serializing_if = "Option::is_none")]
    expires: Option<Timestamp>,
    publishers: Vec<Publisher>,
    #[serde(default)]
    channels: BTreeMap<String, String>,
    #[serde(rename = "line-numbers", skip_serializing_if = "Option::is_none")]
    line_numbers: Option<usize>,
    #[serde(rename = "supported-lines", skip_serializing_if = "Option::is_none")]
    supported_lines: Option<usize>,
    #[serde(default)]
    lines: Vec<LineEntry>,
    releases: Vec<ReleaseEntry>,
}

#[derive(Serialize, Deserialize)]
struct LineEntry {
    line: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    codename: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    start: Option<Date>,
    #[serde(skip_serializing_if = "Option::is_none")]
    lts: Option<Date>,
    #[serde(skip_serializing_if = "Option::is_none")]
    maintenance: Option<Date>,
    #[serde(skip_serializing_if = "Option::is_none")]
    end: Option<Date>,
    #[serde(default, rename = "long-term", skip_serializing_if = "is_false")]
    long_term: bool,
}

fn is_false(truth: &bool) -> bool {
    !truth
}

#[derive(Serialize, Deserialize)]
struct ReleaseEntry {
    version: Version,
    publisher: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    date: Option<Date>,
    #[serde(skip_serializing_if = "Option::is_none")]
    security: Option<bool>,
    #[serde(skip_serializing_if = "Option::is_none")]
    withdrawn: Option<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    bundles: BTreeMap<String, String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    notes: Option<String>,
    #[serde(default)]
    builds: Vec<BuildEntry>,
}

#[derive(Serialize, Deserialize)]
struct BuildEntry {
    platform: Platform,
    file: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    size: Option<u64>,
    digest: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    repack: Option<Repack>,
    #[serde(rename = "oldest-libc", skip_serializing_if = "Option::is_none")]
    oldest_libc: Option<LibcVersion>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    companions: Vec<CompanionEntry>,
}

#[derive(Serialize, Deserialize)]
struct CompanionEntry {
    package: String,
    version: Version,
    file: String,
    digest: String,
    folder: String,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    programs: BTreeMap<String, String>,
}

/// Reads a document of ours, which `address` gave, as the catalog of `runtime`; the error says what is
/// wrong with it.
pub fn read(bytes: &[u8], runtime: &str, address: &Address) -> Result<PublishedCatalog, String> {
    let document = read_checked(bytes, runtime)?;
    let mut details = HashMap::new();
    let mut releases = Vec::with_capacity(document.releases.len());
    for entry in document.releases {
        if !document.publishers.iter().any(|p| p.id == entry.publisher) {
            return Err(format!(
                "{} is from {:?}, which is not among the publishers",
                entry.version, entry.publisher
            ));
        }
        let version = &entry.version;
        let builds = (entry.builds.into_iter())
            .map(|build| read_build(build, address, version))
            .collect::<Result<Vec<_>, String>>()?;
        let publisher: Arc<str> = entry.publisher.into();
        releases.push(Release {
            version: entry.version.clone(),
            publisher: publisher.clone(),
            date: entry.date,
            security: entry.security,
            withdrawn: entry.withdrawn.map(Into::into),
            platforms: builds.iter().map(|build| build.platform.clone()).collect(),
        });
        let card = Details {
            builds,
            bundles: entry.bundles,
            notes: entry.notes,
            ..Details::default()
        };
        if details
            .insert((entry.version.clone(), publisher), card)
            .is_some()
        {
            return Err(format!("{} stands in it twice", entry.version));
        }
    }
    let lines = document.lines.into_iter().map(read_line).collect();
    let catalog = Catalog {
        runtime: document.runtime,
        updated: document.updated,
        publishers: document.publishers,
        channels: document.channels,
        lines,
        releases,
        policy: LinePolicy {
            numbers: document.line_numbers,
            supported: document.supported_lines,
        },
    }
    .ordered();
    Ok(PublishedCatalog {
        expires: document.expires,
        ..PublishedCatalog::new(catalog, details, address)
    })
}

/// Reads a document whose format, runtime and names are right.
fn read_checked(bytes: &[u8], runtime: &str) -> Result<CatalogDocument, String> {
    #[derive(Deserialize)]
    struct Head {
        format: String,
    }
    if bytes.trim_ascii_start().first() != Some(&b'{') {
        return Err("it is not a JSON object".to_owned());
    }
    let head: Head = serde_json::from_slice(bytes).map_err(|e| e.to_string())?;
    if head.format != FORMAT {
        return Err(format!(
            "its format is {:?}, and this program reads {FORMAT:?}",
            head.format
        ));
    }
    let document: CatalogDocument = serde_json::from_slice(bytes).map_err(|e| e.to_string())?;
    if document.runtime != runtime {
        return Err(format!(
            "it is of {:?}, not of {runtime:?}",
            document.runtime
        ));
    }
    if let Some(bad) = document.publishers.iter().find(|p| !is_publisher(&p.id)) {
        return Err(format!("{:?} is not a valid name for a publisher", bad.id));
    }
    check_names(&document)?;
    Ok(document)
}

fn read_build(build: BuildEntry, address: &Address, version: &Version) -> Result<Build, String> {
    let unreadable = |error: String| format!("{version} for {}: {error}", build.platform);
    let digest: Digest =
        (build.digest.parse()).map_err(|e: DigestError| unreadable(e.to_string()))?;
    let archive = (address.join(&build.file)).map_err(|e| unreadable(e.to_string()))?;
    let checksum = Checksum::Digest(digest);
    let companions = build.companions.into_iter();
    let companions = companions.map(|entry| read_companion(entry, address));
    Ok(Build {
        size: build.size,
        repack: build.repack,
        oldest_libc: build.oldest_libc,
        companions: companions.collect::<Result<_, _>>()?,
        ..Build::new(build.platform, archive.to_string(), checksum)
    })
}

/// Refuses names that nobody could type or safely see.
fn check_names(document: &CatalogDocument) -> Result<(), String> {
    for (channel, selector) in &document.channels {
        if !is_name(channel) {
            return Err(format!("{channel:?} is not a valid name for a channel"));
        }
        let selector_of = |text: &str| text.parse::<Request>().map(|request| request.selector);
        let is_one = match selector_of(selector) {
            Ok(Selector::Version(_) | Selector::Range(_)) => true,
            Ok(Selector::Name(name)) => is_line_name(&name),
            Ok(_) | Err(_) => false,
        };
        if !is_one {
            return Err(format!(
                "its channel {channel} is {selector:?}, which is no version"
            ));
        }
    }
    for line in &document.lines {
        let names = [Some(&line.line), line.codename.as_ref()];
        if let Some(name) = names.into_iter().flatten().find(|name| !is_line_name(name)) {
            return Err(format!("{name:?} is not a valid name for a line"));
        }
    }
    Ok(())
}

/// The document of a catalog whose builds name their files and digests; one whose digest stands in
/// a list is left out.
pub(crate) fn write(published: &PublishedCatalog) -> String {
    let PublishedCatalog {
        catalog, details, ..
    } = published;
    let lines = catalog.lines.iter().map(|line| LineEntry {
        line: line.name.clone(),
        codename: line.codename.clone(),
        start: line.start,
        lts: line.lts,
        maintenance: line.maintenance,
        end: line.end,
        long_term: line.long_term,
    });
    let releases = catalog.releases.iter().map(|release| {
        let key = (release.version.clone(), release.publisher.clone());
        let card = details.get(&key).cloned().unwrap_or_default();
        let builds = card.builds.into_iter().filter_map(|build| {
            let digest = build.checksum.digest()?;
            Some(BuildEntry {
                platform: build.platform,
                file: build.address,
                size: build.size,
                digest: digest.to_string(),
                repack: build.repack,
                oldest_libc: build.oldest_libc,
                companions: build.companions.into_iter().map(companion_entry).collect(),
            })
        });
        ReleaseEntry {
            version: release.version.clone(),
            publisher: release.publisher.to_string(),
            date: release.date,
            security: release.security,
            withdrawn: release.withdrawn.as_deref().map(str::to_owned),
            bundles: card.bundles,
            notes: card.notes,
            builds: builds.collect(),
        }
    });
    let document = CatalogDocument {
        format: FORMAT.to_owned(),
        runtime: catalog.runtime.clone(),
        updated: catalog.updated,
        expires: published.expires,
        publishers: catalog.publishers.clone(),
        channels: catalog.channels.clone(),
        line_numbers: catalog.policy.numbers,
        supported_lines: catalog.policy.supported,
        lines: lines.collect(),
        releases: releases.collect(),
    };
    let text = serde_json::to_string_pretty(&document);
    text.expect("texts, numbers and lists of them can be written") + "\n"
}

/// A package that is added to a build. What it names in the install stays in it.
fn read_companion(entry: CompanionEntry, address: &Address) -> Result<BuildCompanion, String> {
    let problem = |problem: &dyn fmt::Display| format!("the package {}: {problem}", entry.package);
    let known = BuildCompanion {
        digest: entry.digest.parse().map_err(|e: DigestError| problem(&e))?,
        address: (address.join(&entry.file))
            .map_err(|e| problem(&e))?
            .to_string(),
        package: entry.package.clone(),
        version: entry.version,
        folder: entry.folder,
        programs: entry.programs,
    };
    match Companion::of_build(&known).path_outside() {
        Some(path) => Err(problem(&format!("{path:?} leads out of the install"))),
        None => Ok(known),
    }
}

fn companion_entry(companion: BuildCompanion) -> CompanionEntry {
    CompanionEntry {
        package: companion.package,
        version: companion.version,
        file: companion.address,
        digest: companion.digest.to_string(),
        folder: companion.folder,
        programs: companion.programs,
    }
}

fn read_line(entry: LineEntry) -> Line {
    Line {
        codename: entry.codename,
        start: entry.start,
        lts: entry.lts,
        maintenance: entry.maintenance,
        end: entry.end,
        long_term: entry.long_term,
        ..Line::undated(&entry.line)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const DIGEST: &str = "sha256:0af90af90af90af90af90af90af90af90af90af90af90af90af90af90af90af9";

    fn document() -> String {
        format!(
            r#"{{ "format": "vivid-shelf-catalog/1", "runtime": "marram", "later": [1],
              "publishers": [{{ "id": "saltmarsh", "name": "Saltmarsh Foundation", "main": true }}],
              "channels": {{ "stable": "8" }},
              "lines": [{{ "line": "8", "codename": "Eelgrass", "end": "2029-04-30" }}],
              "releases": [{{ "version": "8.3.1", "publisher": "saltmarsh", "date": "2026-10-14",
                "security": true, "bundles": {{ "tussock": "3.2.0" }},
                "builds": [{{ "platform": "linux-x64", "file": "m.tar.gz", "size": 7, "digest": "{DIGEST}" }}] }}] }}"#
        )
    }

    #[test]
    fn reads_a_catalog_and_ignores_what_it_does_not_know() {
        let address = Address::read("http://gull.example/m/catalog.json").unwrap();
        let read = read(document().as_bytes(), "marram", &address).unwrap();
        let release = &read.catalog.releases[0];
        assert_eq!((release.security, &release.withdrawn), (Some(true), &None));
        assert_eq!(read.catalog.line_named("eelgrass").unwrap().name, "8");
        let details = &read.details[&(release.version.clone(), release.publisher.clone())];
        assert_eq!(details.builds[0].address, "http://gull.example/m/m.tar.gz");
        assert_eq!(details.bundles["tussock"], "3.2.0");
    }

    #[test]
    fn what_is_written_reads_as_it_was() {
        let address = Address::read("/m/catalog.json").unwrap();
        let before = read(document().as_bytes(), "marram", &address).unwrap();
        let text = write(&before);
        let again = read(text.as_bytes(), "marram", &address).unwrap();
        assert_eq!(write(&again), text);
        assert_eq!(again.details, before.details);
        assert_eq!(again.catalog.lines, before.catalog.lines);
        assert_eq!(again.catalog.channels, before.catalog.channels);
        assert_eq!(again.catalog.releases[0].security, Some(true));
    }

    #[rstest]
    #[case("catalog/1", "catalog/2", "its format is \"vivid-shelf-catalog/2\"")]
    #[case("\"marram\"", "\"sedge\"", "it is of \"sedge\", not of \"marram\"")]
    #[case(
        "sha256:0a",
        "sha1:0a",
        "8.3.1 for linux-x64: the digest \"sha1\" is not accepted"
    )]
    #[case(
        "\"publisher\": \"saltmarsh\"",
        "\"publisher\": \"gulls\"",
        "not among the publishers"
    )]
    #[case("\"8.3.1\"", "\"eight\"", "a version begins with a number")]
    #[case(
        "\"id\": \"saltmarsh\"",
        "\"id\": \"../x\"",
        "not a valid name for a publisher"
    )]
    #[case("{ \"format\"", "[ \"format\"", "it is not a JSON object")]
    #[case("\"format\":", "\"format\"", "line 1 column")]
    fn says_what_is_wrong(#[case] good: &str, #[case] bad: &str, #[case] problem: &str) {
        let text = document().replacen(good, bad, 1);
        let address = Address::read("c.json").unwrap();
        let error = read(text.as_bytes(), "marram", &address).unwrap_err();
        assert!(error.contains(problem), "{error}");
    }
}
