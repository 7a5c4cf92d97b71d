//! Everything that a source publishes about one runtime, normalised.
//!
//! `sources` turns what a publisher serves into this one type, whatever the publisher's own format.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};

use crate::install::Key;
use crate::platform::Platform;
use crate::version::{Version, compare_numbers, join_numbers};

/// All releases of one runtime, with their lines, channels and publishers.
#[derive(Clone, Debug, Default)]
pub struct Catalog {
    /// The runtime's name.
    pub runtime: String,
    /// When the publisher last changed it, where that is told.
    pub updated: Option<Timestamp>,
    /// Who publishes; the main one first.
    pub publishers: Vec<Publisher>,
    /// The publishers' channel names and the selectors they stand for.
    pub channels: BTreeMap<String, String>,
    /// The release lines, newest first.
    pub lines: Vec<Line>,
    /// The releases, newest first; those of the main publisher before others of the same version.
    pub releases: Vec<Release>,
    /// What makes lines of versions, as far as its publisher says.
    pub policy: LinePolicy,
}

/// What a publisher says of all lines at once.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct LinePolicy {
    /// How many leading numbers the releases of a line share; where nothing says it, the first, or the
    /// first two where the first is 0.
    pub numbers: Option<usize>,
    /// How many of the newest lines are supported; the others have ended.
    pub supported: Option<usize>,
}

impl LinePolicy {
    /// What this policy says, and where it says nothing what `other` says.
    pub fn or(self, other: LinePolicy) -> LinePolicy {
        LinePolicy {
            numbers: self.numbers.or(other.numbers),
            supported: self.supported.or(other.supported),
        }
    }

    /// The numbers that name the line of a version with these numbers.
    fn line_numbers<'v>(&self, version: &'v Version) -> &'v [u64] {
        let numbers = version.numbers();
        let shared = (self.numbers).unwrap_or(if numbers[0] == 0 { 2 } else { 1 });
        &numbers[..shared.min(numbers.len())]
    }
}

/// An organisation that publishes builds.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Publisher {
    /// The short name used in selectors.
    pub id: String,
    /// The full name.
    pub name: String,
    /// Whether selectors without a publisher mean this one.
    #[serde(default)]
    pub main: bool,
    /// The publisher whose releases it packs anew, under the same versions.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repacks: Option<String>,
    /// What there is to know about its builds, in a sentence without its period.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remark: Option<String>,
}

impl Publisher {
    /// A publisher with this name, who packs nothing anew.
    pub fn new(id: &str, name: &str, main: bool) -> Publisher {
        Publisher {
            id: id.to_owned(),
            name: name.to_owned(),
            main,
            repacks: None,
            remark: None,
        }
    }
}

/// The releases that share leading numbers and one support life.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// The shared numbers as text: `8`, `0.10`.
    pub name: String,
    /// The shared numbers.
    pub numbers: Vec<u64>,
    /// The code name, if the line has one.
    pub codename: Option<String>,
    /// The day of the first final release.
    pub start: Option<Date>,
    /// The first day of long-term support.
    pub lts: Option<Date>,
    /// The first day of maintenance.
    pub maintenance: Option<Date>,
    /// The last day of support.
    pub end: Option<Date>,
    /// Whether its publisher lists it as one in long-term support, without saying since when.
    pub long_term: bool,
    /// The source that tells these days, where one does.
    pub told_by: Option<String>,
    /// Whether a final release of the line is published.
    pub has_final: bool,
    /// What the other lines tell of its support.
    pub standing: Standing,
}

/// What the other lines of a runtime tell of one line's support.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Standing {
    /// Nothing.
    #[default]
    Unknown,
    /// It is one of the newest, which are all supported.
    Supported,
    /// It is none of the newest any more, which alone are supported.
    Dropped,
    /// A newer line had this last day of support.
    Outlived(Date),
}

/// One published version from one publisher: the part that choosing needs.
#[derive(Clone, Debug)]
pub struct Release {
    /// The version as published.
    pub version: Version,
    /// The publisher's id.
    pub publisher: Arc<str>,
    /// The day of publication.
    pub date: Option<Date>,
    /// Whether it fixes a security problem; `None` if no source says.
    pub security: Option<bool>,
    /// Why its publisher took it back, if it did.
    pub withdrawn: Option<Box<str>>,
    /// What it is built for.
    pub platforms: Arc<[Platform]>,
}

impl Release {
    /// Whether it is published as source, from which a build can be made.
    pub fn has_source(&self) -> bool {
        self.platforms.iter().any(Platform::is_source)
    }

    /// Whether it is known that it fixes a security problem.
    pub fn fixes_security(&self) -> bool {
        self.security == Some(true)
    }
}

/// The part of a release that only installing and its card need.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Details {
    /// The archives, one for each platform.
    pub builds: Vec<Build>,
    /// Tools that come with it, and their versions.
    pub bundles: BTreeMap<String, String>,
    /// Where the publisher describes the release.
    pub notes: Option<String>,
    /// The builds that its publisher lists and that cannot be verified.
    pub not_installable: Vec<NotInstallable>,
    /// The sources that tell what is known of the release, where they are told apart.
    pub told_by: ToldBy,
}

/// A build that is published and cannot be installed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
pub struct NotInstallable {
    /// The platform that it is built for.
    pub platform: Platform,
    /// Why.
    pub why: String,
}

/// Which source tells what is known of a release.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
pub struct ToldBy {
    /// The day of publication.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// Whether it fixes a security problem.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub security: Option<String>,
    /// The tools that come with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bundles: Option<String>,
}

/// The archive of a release for one platform.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Build {
    /// What it runs on.
    pub platform: Platform,
    /// Where it lies: a URL or a path.
    pub address: String,
    /// Where else the same bytes lie.
    pub mirrors: Vec<String>,
    /// Its size in bytes, where the publisher tells.
    pub size: Option<u64>,
    /// What its bytes must add up to.
    pub checksum: Checksum,
    /// The source that offers it, where several do.
    pub source: Option<String>,
    /// The version as the source spells it, where it does so in its own way.
    pub spelled: Option<String>,
    /// Where it was packed anew from its publisher's build: the day of that, where it is known.
    pub repack: Option<Repack>,
    /// The oldest version of the platform's C library that it starts with, where that is told.
    pub oldest_libc: Option<LibcVersion>,
    /// The packages that are added to it, where the catalog has them too.
    pub companions: Vec<BuildCompanion>,
}

/// A package that is added to a build, in one version, as a catalog or a lock has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BuildCompanion {
    /// The package.
    pub package: String,
    /// Its version.
    pub version: Version,
    /// Where its archive lies: a URL or a path.
    pub address: String,
    /// What the archive's bytes add up to.
    pub digest: Digest,
    /// The folder of the install that it is unpacked into.
    pub folder: String,
    /// Links to its programs: the link's path in the install, and the program's in the package.
    #[serde(default)]
    pub programs: BTreeMap<String, String>,
}

/// That a build was packed anew by somebody else.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Repack {
    /// The day of that, where it is known.
    pub date: Option<Date>,
}

/// A version of a C library, such as 2.28.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize,
)]
pub struct LibcVersion(pub u32, pub u32);

impl fmt::Display for LibcVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.0, self.1)
    }
}

impl FromStr for LibcVersion {
    type Err = std::num::ParseIntError;

    /// Reads the first two numbers of a version.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let mut parts = text.split('.');
        let mut number = || parts.next().unwrap_or_default().parse();
        Ok(LibcVersion(number()?, number()?))
    }
}

impl Build {
    /// A build of which nothing else is known.
    pub fn new(platform: Platform, address: String, checksum: Checksum) -> Build {
        Build {
            platform,
            address,
            mirrors: Vec::new(),
            size: None,
            checksum,
            source: None,
            spelled: None,
            repack: None,
            oldest_libc: None,
            companions: Vec::new(),
        }
    }
}

/// What a publisher promises of an archive's bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Checksum {
    /// The digest itself.
    Digest(Digest),
    /// The checksum list at this address holds it, by the archive's file name.
    Listed(String),
}

impl Checksum {
    /// The digest, `None` if it has to be read from a checksum list.
    pub fn digest(&self) -> Option<&Digest> {
        match self {
            Checksum::Digest(digest) => Some(digest),
            Checksum::Listed(_) => None,
        }
    }
}

/// A digest of an archive's bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Digest {
    /// How it is computed.
    pub algorithm: DigestAlgorithm,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

/// The digests strong enough to be accepted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum DigestAlgorithm {
    /// SHA-256 (FIPS 180-4).
    Sha256,
    /// SHA-512 (FIPS 180-4).
    Sha512,
}

/// Why a text is not a digest that we accept.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DigestError {
    /// An algorithm too weak or unknown; only SHA-256 and SHA-512 are accepted.
    #[error("the digest {0:?} is not accepted; only sha256 and sha512 are")]
    Algorithm(String),
    /// Not as many hexadecimal digits as the algorithm has.
    #[error("{0:?} is not a {1} digest in hexadecimal digits")]
    Digits(String, &'static str),
}

impl DigestAlgorithm {
    /// Its name in catalogs and records.
    pub fn as_str(self) -> &'static str {
        match self {
            DigestAlgorithm::Sha256 => "sha256",
            DigestAlgorithm::Sha512 => "sha512",
        }
    }

    /// How many bytes a digest of this kind has.
    pub fn length(self) -> usize {
        match self {
            DigestAlgorithm::Sha256 => 32,
            DigestAlgorithm::Sha512 => 64,
        }
    }
}

impl FromStr for Digest {
    type Err = DigestError;

    /// Reads `sha256:…` or `sha512:…` with hexadecimal digits.
    fn from_str(text: &str) -> Result<Self, DigestError> {
        let (name, digits) = text.split_once(':').unwrap_or((text, ""));
        let algorithm = match name {
            "sha256" => DigestAlgorithm::Sha256,
            "sha512" => DigestAlgorithm::Sha512,
            _ => return Err(DigestError::Algorithm(name.to_owned())),
        };
        let bytes = hex::decode(digits);
        match bytes {
            Ok(bytes) if bytes.len() == algorithm.length() => Ok(Digest { algorithm, bytes }),
            _ => Err(DigestError::Digits(text.to_owned(), algorithm.as_str())),
        }
    }
}

impl TryFrom<String> for Digest {
    type Error = DigestError;

    fn try_from(text: String) -> Result<Digest, DigestError> {
        text.parse()
    }
}

impl From<Digest> for String {
    fn from(digest: Digest) -> String {
        digest.to_string()
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{}:{}",
            self.algorithm.as_str(),
            hex::encode(&self.bytes)
        )
    }
}

impl fmt::Display for Checksum {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Checksum::Digest(digest) => digest.fmt(f),
            Checksum::Listed(address) => write!(f, "listed in {address}"),
        }
    }
}

impl FromStr for Checksum {
    type Err = DigestError;

    /// Reads what `Display` prints.
    fn from_str(text: &str) -> Result<Self, DigestError> {
        match text.strip_prefix("listed in ") {
            Some(address) => Ok(Checksum::Listed(address.to_owned())),
            None => text.parse().map(Checksum::Digest),
        }
    }
}

impl Line {
    /// A line of which nothing is known but its number.
    ///
    /// `name` holds whole numbers joined by dots; other parts are left out.
    pub fn undated(name: &str) -> Line {
        Line {
            name: name.to_owned(),
            numbers: name
                .split('.')
                .filter_map(|part| part.parse().ok())
                .collect(),
            codename: None,
            start: None,
            lts: None,
            maintenance: None,
            end: None,
            long_term: false,
            told_by: None,
            has_final: false,
            standing: Standing::Unknown,
        }
    }

    /// Whether some day of its support is known.
    pub fn is_dated(&self) -> bool {
        [self.start, self.lts, self.maintenance, self.end]
            .iter()
            .any(Option::is_some)
    }

    /// Whether its code name is known, or that it is in long-term support.
    pub fn is_described(&self) -> bool {
        self.codename.is_some() || self.long_term
    }

    /// Takes from `other` every day, and the code name, that is not known here.
    pub fn complete(&mut self, other: &Line) {
        // Days of two sources side by side would be the life of neither.
        if !self.is_dated() {
            (self.start, self.lts) = (other.start, other.lts);
            (self.maintenance, self.end) = (other.maintenance, other.end);
            self.told_by.clone_from(&other.told_by);
        }
        if self.codename.is_none() {
            self.codename.clone_from(&other.codename);
        }
        self.long_term |= other.long_term;
    }

    /// Whether `version` is of this line.
    pub fn covers(&self, version: &Version) -> bool {
        version.numbers().starts_with(&self.numbers)
    }
}

impl Catalog {
    /// The same catalog in order, with a line for every release.
    pub fn ordered(mut self) -> Catalog {
        self.publishers.sort_by_key(|publisher| !publisher.main);
        let publishers = &self.publishers;
        let rank = |id: &str| publishers.iter().position(|p| p.id == id);
        self.releases.sort_by(|a, b| {
            (&b.version, rank(&a.publisher)).cmp(&(&a.version, rank(&b.publisher)))
        });
        self.lines.sort_by(|a, b| b.numbers.cmp(&a.numbers));
        for release in &self.releases {
            let lines = &mut self.lines;
            let index = lines
                .iter()
                .position(|line| line.covers(&release.version))
                .unwrap_or_else(|| {
                    let numbers = self.policy.line_numbers(&release.version);
                    let line = Line::undated(&join_numbers(numbers));
                    let at = lines.partition_point(|other| other.numbers > line.numbers);
                    lines.insert(at, line);
                    at
                });
            lines[index].has_final |= !release.version.is_pre_release();
        }
        self.compare_lines();
        self
    }

    /// Notes at each line what the others tell of its support.
    fn compare_lines(&mut self) {
        let mut finals = 0;
        let mut outlived: Option<Date> = None;
        for line in &mut self.lines {
            finals += usize::from(line.has_final);
            line.standing = match (self.policy.supported, outlived) {
                (Some(supported), _) if finals > supported => Standing::Dropped,
                (Some(_), _) => Standing::Supported,
                (None, Some(end)) => Standing::Outlived(end),
                (None, None) => Standing::Unknown,
            };
            outlived = outlived.into_iter().chain(line.end).min();
        }
    }

    /// The publisher that a selector means when it names none.
    pub fn main_publisher(&self) -> Option<&Publisher> {
        self.publishers.first()
    }

    /// The id of the publisher that a selector means when it names none.
    pub fn main_publisher_id(&self) -> Option<&str> {
        self.main_publisher().map(|main| main.id.as_str())
    }

    /// The id of the first publisher with releases as source, which a build on request takes: the main one may have builds
    /// alone.
    pub fn publisher_of_source(&self) -> Option<&str> {
        let has_source = |publisher: &&Publisher| {
            let mut releases = self.releases.iter();
            releases.any(|release| *release.publisher == *publisher.id && release.has_source())
        };
        Some(&self.publishers.iter().find(has_source)?.id)
    }

    /// The shortest selector that means exactly what this publisher published as this version.
    pub fn selector_for(&self, version: &Version, publisher: &str) -> String {
        Key::new(version, publisher).short_selector(self.main_publisher_id())
    }

    /// The publisher of this id, in any case of letters.
    pub fn publisher(&self, id: &str) -> Option<&Publisher> {
        self.publishers
            .iter()
            .find(|p| p.id.eq_ignore_ascii_case(id))
    }

    /// The line that covers `version`; of several, the one with the most numbers. The lines are in order, so that
    /// each length is one binary search.
    pub fn line_of(&self, version: &Version) -> Option<&Line> {
        let numbers = version.numbers();
        (1..=numbers.len()).rev().find_map(|length| {
            let wanted = &numbers[..length];
            let found = (self.lines).binary_search_by(|line| wanted.cmp(&line.numbers));
            found.ok().map(|at| &self.lines[at])
        })
    }

    /// The releases that a line covers, newest first; they stand together.
    pub fn releases_of<'c>(&'c self, line: &Line) -> impl Iterator<Item = &'c Release> + Clone {
        let compared = |release: &Release| {
            let numbers = release.version.numbers();
            compare_numbers(
                &numbers[..numbers.len().min(line.numbers.len())],
                &line.numbers,
            )
        };
        let first = self
            .releases
            .partition_point(|release| compared(release).is_gt());
        let behind = &self.releases[first..];
        let count = behind.partition_point(|release| compared(release).is_eq());
        let numbers = line.numbers.clone();
        (behind[..count].iter())
            .filter(move |release| release.version.numbers().starts_with(&numbers))
    }

    /// The line with this code name, in any case of letters.
    pub fn line_named(&self, codename: &str) -> Option<&Line> {
        self.lines.iter().find(|line| {
            line.codename
                .as_deref()
                .is_some_and(|name| name.eq_ignore_ascii_case(codename))
        })
    }

    /// The selector of the channel with this name, in any case of letters.
    pub fn channel(&self, name: &str) -> Option<(&str, &str)> {
        self.channels
            .iter()
            .find(|(channel, _)| channel.eq_ignore_ascii_case(name))
            .map(|(channel, selector)| (channel.as_str(), selector.as_str()))
    }

    /// The release of exactly this version from this publisher. The releases are in order.
    pub fn release(&self, version: &Version, publisher: &str) -> Option<&Release> {
        let first = (self.releases).partition_point(|release| release.version > *version);
        self.releases[first..]
            .iter()
            .take_while(|release| release.version == *version)
            .find(|release| &*release.publisher == publisher)
    }
}

impl Release {
    /// Whether some build runs on `host`.
    pub fn runs_on(&self, host: &Platform) -> bool {
        self.platforms.iter().any(|platform| platform.runs_on(host))
    }
}

impl Details {
    /// The builds for `host`, best first: those made for exactly it before those that fit as well, and
    /// sources last.
    pub fn builds_for(&self, host: &Platform) -> Vec<&Build> {
        let mut builds: Vec<&Build> = (self.builds.iter())
            .filter(|build| build.platform.runs_on(host))
            .collect();
        builds.sort_by_key(|build| build.platform.order_on(host));
        builds
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn release(version: &str, publisher: &str) -> Release {
        Release {
            version: version.parse().unwrap(),
            publisher: publisher.into(),
            date: None,
            security: None,
            withdrawn: None,
            platforms: Arc::new([]),
        }
    }

    #[test]
    fn a_catalog_is_in_order_and_every_release_has_a_line() {
        let publisher = |id: &str, main| Publisher::new(id, id, main);
        let catalog = Catalog {
            publishers: vec![publisher("dunefield", false), publisher("saltmarsh", true)],
            lines: vec![Line::undated("6")],
            releases: ["0.10.1", "6.2.0", "6.20.0", "10.0.0-rc.1"]
                .iter()
                .map(|v| release(v, "saltmarsh"))
                .chain([release("6.2.0", "dunefield")])
                .collect(),
            ..Catalog::default()
        }
        .ordered();
        let order: Vec<String> = catalog
            .releases
            .iter()
            .map(|r| format!("{}/{}", r.publisher, r.version))
            .collect();
        assert_eq!(
            order,
            [
                "saltmarsh/10.0.0-rc.1",
                "saltmarsh/6.20.0",
                "saltmarsh/6.2.0",
                "dunefield/6.2.0",
                "saltmarsh/0.10.1"
            ]
        );
        let lines: Vec<_> = catalog
            .lines
            .iter()
            .map(|l| (&*l.name, l.has_final))
            .collect();
        assert_eq!(lines, [("10", false), ("6", true), ("0.10", true)]);
        assert_eq!(catalog.main_publisher().unwrap().id, "saltmarsh");
        for line in catalog
            .lines
            .iter()
            .chain(&[Line::undated("7"), Line::undated("6.2")])
        {
            let all = catalog.releases.iter();
            let covered: Vec<_> = all
                .filter(|r| line.covers(&r.version))
                .map(|r| &r.version)
                .collect();
            let found: Vec<_> = catalog.releases_of(line).map(|r| &r.version).collect();
            assert_eq!(found, covered, "{}", line.name);
        }
    }

    /// The lines of what this policy makes of these versions, with what the others tell of each; the
    /// line `1.9` ended on a known day.
    fn standings(policy: LinePolicy) -> Vec<(String, Standing)> {
        let ended = Line {
            end: "2026-03-31".parse().ok(),
            ..Line::undated("1.9")
        };
        let versions = ["1.8.3", "1.9.1", "1.10.0", "1.11.2", "1.12.0-rc.1"];
        let catalog = Catalog {
            lines: vec![ended],
            releases: versions.map(|v| release(v, "saltmarsh")).into(),
            policy,
            ..Catalog::default()
        };
        let lines = catalog.ordered().lines.into_iter();
        lines.map(|line| (line.name, line.standing)).collect()
    }

    #[test]
    fn a_policy_tells_how_wide_lines_are_and_how_many_are_supported() {
        let two = LinePolicy {
            numbers: Some(2),
            supported: None,
        };
        let told = |name: &str, standing| (name.to_owned(), standing);
        let end = "2026-03-31".parse().unwrap();
        assert_eq!(
            standings(two),
            [
                told("1.12", Standing::Unknown),
                told("1.11", Standing::Unknown),
                told("1.10", Standing::Unknown),
                told("1.9", Standing::Unknown),
                told("1.8", Standing::Outlived(end)),
            ]
        );
        let newest_two = LinePolicy {
            supported: Some(2),
            ..two
        };
        assert_eq!(
            standings(newest_two),
            [
                told("1.12", Standing::Supported),
                told("1.11", Standing::Supported),
                told("1.10", Standing::Supported),
                told("1.9", Standing::Dropped),
                told("1.8", Standing::Dropped),
            ]
        );
        // A version that is no longer than its line's name has the line that is left.
        assert_eq!(standings(LinePolicy::default())[0].0, "1.9");
    }

    #[rstest]
    #[case("sha1:da39a3ee5e6b4b0d3255bfef95601890afd80709")]
    #[case("md5:d41d8cd98f00b204e9800998ecf8427e")]
    #[case("sha256:00")]
    #[case("sha256:zz")]
    #[case("sha512")]
    fn weak_and_broken_digests_are_refused(#[case] text: &str) {
        assert!(text.parse::<Digest>().is_err());
    }

    #[test]
    fn a_digest_prints_as_it_was_read() {
        let text = format!("sha256:{}", "0af9".repeat(16));
        assert_eq!(text.parse::<Digest>().unwrap().to_string(), text);
    }
}
