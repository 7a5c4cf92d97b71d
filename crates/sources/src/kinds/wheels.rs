//! A runtime whose builds are wheels in a package index that speaks the Python simple API in its
//! JSON form (Simple repository API, PEP 691 and 700; binary distribution format, PEP 427).

use std::collections::{BTreeMap, HashSet};

use serde::Deserialize;
use serde_json::Value;
use vshelf_core::Platform;
use vshelf_core::catalog::{Build, Checksum, Digest, LibcVersion};
use vshelf_core::definition::SourceDefinition;

use crate::address::Address;
use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError};
use crate::found::Found;
use crate::registries::UserSettings;
use crate::transport::{Document, Transport};

const FORM: &str = "application/vnd.pypi.simple.v1+json";

/// A source that reads wheels.
pub struct Wheels {
    pub(crate) runtime: String,
    pub(crate) definition: SourceDefinition,
    pub(crate) package: String,
    pub(crate) settings: UserSettings,
}

#[derive(Deserialize)]
struct Project {
    files: Vec<ProjectFile>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct ProjectFile {
    filename: String,
    url: String,
    #[serde(default)]
    hashes: BTreeMap<String, String>,
    size: Option<u64>,
    #[serde(default)]
    yanked: Value,
    upload_time: Option<String>,
}

impl Source for Wheels {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        let index = self.settings.python_index()?;
        let address = Address::read(&format!("{index}{}/", normalised(&self.package)))?;
        let document = transport.document(&address, &known.validators, Some(FORM))?;
        let Document::Body { bytes, validators } = document else {
            return Ok(Fetched::Unchanged);
        };
        let project: Project = serde_json::from_slice(&bytes).map_err(|error| {
            let problem = match bytes.trim_ascii_start().first() {
                Some(b'<') => "it is a page, and the JSON form of the simple API is needed".into(),
                _ => error.to_string(),
            };
            SourceError::document(&address, problem)
        })?;
        let mut published = self.publish(project, &address)?;
        published.validators = validators;
        Ok(Fetched::Changed(Box::new(published)))
    }
}

impl Wheels {
    fn publish(
        &self,
        project: Project,
        address: &Address,
    ) -> Result<PublishedCatalog, SourceError> {
        let mut found = Found::new(&self.definition);
        // A release stands as long as one of its files does.
        let mut standing = HashSet::new();
        for file in &project.files {
            let Some((spelling, platforms)) = read_name(&file.filename) else {
                continue;
            };
            let Some(spelled) = found.version(spelling) else {
                continue;
            };
            // What cannot be verified is not offered.
            let digest = file.hashes.get("sha256").map(|hex| format!("sha256:{hex}"));
            let Some(digest) = digest.and_then(|text| text.parse::<Digest>().ok()) else {
                continue;
            };
            let time = file.upload_time.as_deref().and_then(|time| time.get(..10));
            let day = time.and_then(|time| time.parse().ok());
            let archive = address.join(&file.url)?.to_string();
            for (platform, oldest_libc) in platforms {
                let checksum = Checksum::Digest(digest.clone());
                let build = Build {
                    size: file.size,
                    oldest_libc,
                    ..Build::new(platform, archive.clone(), checksum)
                };
                found.add(&spelled, spelling, day, build);
            }
            let version = spelled.version;
            let (release, _) = found.release(&version);
            release.withdrawn = withdrawal(&file.yanked).filter(|_| !standing.contains(&version));
            if release.withdrawn.is_none() {
                standing.insert(version);
            }
        }
        found.publish(&self.runtime, Vec::new(), address)
    }
}

/// A package's name as indexes spell it (PEP 503, normalized names).
fn normalised(package: &str) -> String {
    let mut name = String::with_capacity(package.len());
    for c in package.chars() {
        match c {
            '-' | '_' | '.' if name.ends_with('-') => {}
            '-' | '_' | '.' => name.push('-'),
            c => name.push(c.to_ascii_lowercase()),
        }
    }
    name
}

fn withdrawal(yanked: &Value) -> Option<Box<str>> {
    match yanked {
        Value::String(reason) if !reason.is_empty() => Some(reason.as_str().into()),
        Value::String(_) | Value::Bool(true) => Some("yanked".into()),
        _ => None,
    }
}

/// A platform, and the oldest version of its C library that a wheel starts with.
type Tagged = (Platform, Option<LibcVersion>);

/// How a wheel's name spells its version, and its platforms:
/// `{name}-{version}(-{build})?-{python}-{abi}-{tags}` (PEP 427, file name convention).
fn read_name(name: &str) -> Option<(&str, Vec<Tagged>)> {
    let parts: Vec<&str> = name.strip_suffix(".whl")?.split('-').collect();
    if !(5..=6).contains(&parts.len()) {
        return None;
    }
    let mut platforms: Vec<Tagged> = Vec::new();
    for tag in parts[parts.len() - 1].split('.') {
        for platform in platforms_of(tag) {
            let libc = oldest_libc(tag);
            // Of two tags for one platform, the older system is enough.
            match platforms.iter_mut().find(|(known, _)| *known == platform) {
                Some((_, known)) => *known = (*known).min(libc),
                None => platforms.push((platform, libc)),
            }
        }
    }
    (!platforms.is_empty()).then_some((parts[1], platforms))
}

/// The oldest C library that a tag promises to start with: `manylinux_2_28_x86_64` (PEP 600) and its
/// older names (PEP 513, 571, 599), `musllinux_1_2_x86_64` (PEP 656).
fn oldest_libc(tag: &str) -> Option<LibcVersion> {
    for (older, version) in [
        ("manylinux1_", LibcVersion(2, 5)),
        ("manylinux2010_", LibcVersion(2, 12)),
        ("manylinux2014_", LibcVersion(2, 17)),
    ] {
        if tag.starts_with(older) {
            return Some(version);
        }
    }
    let rest = (tag.strip_prefix("manylinux_")).or_else(|| tag.strip_prefix("musllinux_"))?;
    let mut numbers = rest.split('_').map(str::parse);
    Some(LibcVersion(numbers.next()?.ok()?, numbers.next()?.ok()?))
}

/// The platforms that a platform tag stands for (platform compatibility tags: manylinux, PEP 600;
/// musllinux, PEP 656).
fn platforms_of(tag: &str) -> Vec<Platform> {
    let arches = |word: &str| match word {
        "x86_64" | "amd64" => vec!["x64"],
        "aarch64" | "arm64" => vec!["arm64"],
        "i686" | "i386" | "win32" => vec!["x86"],
        "armv7l" => vec!["armv7"],
        "ppc64le" => vec!["ppc64le"],
        "s390x" => vec!["s390x"],
        "riscv64" => vec!["riscv64"],
        "universal2" => vec!["x64", "arm64"],
        _ => vec![],
    };
    // The processor is what stands last, and some of their names hold a `_`.
    let known = [
        "x86_64", "amd64", "aarch64", "arm64", "i686", "armv7l", "ppc64le", "s390x",
    ];
    let others = ["riscv64", "universal2", "win32"];
    let arch = known
        .iter()
        .chain(&others)
        .find(|arch| tag.ends_with(**arch));
    let (os, libc) = match tag.split(['_', '-']).next().unwrap_or_default() {
        "any" => return "any".parse().into_iter().collect(),
        word if word.starts_with("manylinux") => ("linux", "-gnu"),
        "musllinux" => ("linux", "-musl"),
        "linux" => ("linux", "-gnu"),
        "macosx" => ("darwin", ""),
        "win" | "win32" => ("windows", ""),
        _ => return Vec::new(),
    };
    arches(arch.unwrap_or(&""))
        .into_iter()
        .filter_map(|arch| format!("{os}-{arch}{libc}").parse().ok())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("marram-8.3.1-py3-none-manylinux_2_27_x86_64.whl", "8.3.1", &["linux-x64-gnu"])]
    #[case("marram-8.3.1-1-py2.py3-none-manylinux_2_12_x86_64.manylinux2010_x86_64.musllinux_1_1_x86_64.whl", "8.3.1", &["linux-x64-gnu", "linux-x64-musl"])]
    #[case("marram-10.0.0rc1-py3-none-macosx_11_0_universal2.whl", "10.0.0rc1", &["darwin-x64", "darwin-arm64"])]
    #[case("marram-8.3.1-py3-none-macosx_11_0_arm64.whl", "8.3.1", &["darwin-arm64"])]
    #[case("marram-8.3.1-py3-none-win32.whl", "8.3.1", &["windows-x86"])]
    #[case("marram-8.3.1-py3-none-win_amd64.whl", "8.3.1", &["windows-x64"])]
    #[case("marram-8.3.1-py3-none-manylinux2014_aarch64.whl", "8.3.1", &["linux-arm64-gnu"])]
    #[case("marram-8.3.1-py3-none-any.whl", "8.3.1", &["any"])]
    fn names_tell_version_and_platforms(
        #[case] name: &str,
        #[case] version: &str,
        #[case] platforms: &[&str],
    ) {
        let (found, built_for) = read_name(name).unwrap();
        assert_eq!(found, version);
        let built_for: Vec<&str> = built_for
            .iter()
            .map(|(platform, _)| platform.as_str())
            .collect();
        assert_eq!(built_for, platforms);
    }

    #[rstest]
    #[case("marram-8.3.1-py3-none-manylinux_2_28_x86_64.whl", Some("2.28"))]
    #[case(
        "marram-8.3.1-py3-none-manylinux_2_17_x86_64.manylinux2014_x86_64.whl",
        Some("2.17")
    )]
    #[case("marram-8.3.1-py3-none-manylinux1_x86_64.whl", Some("2.5"))]
    #[case("marram-8.3.1-py3-none-musllinux_1_2_x86_64.whl", Some("1.2"))]
    #[case("marram-8.3.1-py3-none-macosx_11_0_arm64.whl", None)]
    fn a_tag_tells_the_oldest_c_library(#[case] name: &str, #[case] expected: Option<&str>) {
        let (_, platforms) = read_name(name).unwrap();
        let told = platforms[0].1.map(|version| version.to_string());
        assert_eq!(told.as_deref(), expected);
    }

    #[rstest]
    fn other_names_are_left_out(
        #[values(
            "marram-8.3.1.tar.gz",
            "marram-8.3.1-py3-none-plan9_x86_64.whl",
            "marram-8.3.1-py3-none-linux_alpha.whl",
            "marram.whl"
        )]
        name: &str,
    ) {
        assert!(read_name(name).is_none());
    }

    #[test]
    fn a_project_becomes_a_catalog() {
        let hash = "0a".repeat(32);
        let file = |name: &str, more: &str| {
            format!(
                r#"{{ "filename": "{name}", "url": "../../f/{name}", "hashes": {{ "sha256": "{hash}" }}, "size": 7 {more} }}"#
            )
        };
        let text = format!(
            r#"{{ "meta": {{ "api-version": "1.1" }}, "name": "marram", "files": [{}] }}"#,
            [
                file("marram-8.3.1-py3-none-manylinux_2_27_x86_64.whl", r#", "upload-time": "2026-10-15T15:31:44Z", "yanked": "half""#),
                file("marram-8.3.1-py3-none-macosx_11_0_arm64.whl", r#", "upload-time": "2026-10-14T15:31:44Z", "yanked": false"#),
                file("marram-8.3.0-py3-none-any.whl", r#", "yanked": "breaks the bell""#),
                file("marram-8.3.1.tar.gz", ""),
                r#"{ "filename": "marram-8.2.0-py3-none-any.whl", "url": "x", "hashes": { "md5": "0a" } }"#.to_owned(),
            ]
            .join(", ")
        );
        let wheels = Wheels {
            runtime: "marram".to_owned(),
            definition: toml::from_str(
                "name = 'wheels'\nkind = 'wheels'\npackage = 'marram'\npublisher = 'saltmarsh'",
            )
            .unwrap(),
            package: "Marram_Builds".to_owned(),
            settings: UserSettings::default(),
        };
        let address = Address::read("http://gull.example/simple/marram/").unwrap();
        let read = wheels
            .publish(serde_json::from_str(&text).unwrap(), &address)
            .unwrap();
        let found: Vec<_> = (read.catalog.releases.iter())
            .map(|release| {
                let day = release.date.map(|date| date.to_string());
                (release.version.as_str(), day, release.withdrawn.as_deref())
            })
            .collect();
        let day = Some("2026-10-14".to_owned());
        assert_eq!(
            found,
            [
                ("8.3.1", day, None),
                ("8.3.0", None, Some("breaks the bell"))
            ]
        );
        let release = &read.catalog.releases[1];
        let card = &read.details[&(release.version.clone(), release.publisher.clone())];
        assert_eq!(
            card.builds[0].address,
            "http://gull.example/f/marram-8.3.0-py3-none-any.whl"
        );
    }

    #[test]
    fn package_names_are_normalised() {
        assert_eq!(normalised("Marram__Builds.x"), "marram-builds-x");
    }
}
