//! The lock file of a project: the release that each of its requirements resolved to, and the digests that
//! its publisher's sources stated.
//!
//! A lock narrows what the sources offer and adds nothing to it, because everybody who clones a project gets
//! its lock: it holds no addresses, folders or programs. Everything in it is sorted, and each digest has its own
//! line, so that a review shows what changed.

use std::fmt::Write as _;

use serde::Deserialize;

use crate::catalog::{Catalog, Digest};
pub use crate::definition::LOCK_FILE;
use crate::install::Key;
use crate::packages::Package;
use crate::platform::Platform;
use crate::selector::{Request, Selector, is_publisher};
use crate::version::Version;

/// The format that this program writes.
const FORMAT: &str = "vivid-shelf-lock/2";

/// The format of version 0.1.0, which had addresses; they are ignored.
const FORMER_FORMAT: &str = "vivid-shelf-lock/1";

/// What begins the lines that a merge leaves where two versions of a file do not agree.
const MERGE_MARKS: [&str; 3] = ["<<<<<<< ", "=======", ">>>>>>> "];

/// A lock file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Lock {
    /// One release per runtime, in the order of the runtimes' names.
    pub releases: Vec<LockedRelease>,
}

/// The release that a requirement resolved to.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "WrittenRelease")]
pub struct LockedRelease {
    /// The runtime.
    pub runtime: String,
    /// What was required when it was locked.
    pub required: String,
    /// The version.
    pub version: Version,
    /// Its publisher.
    pub publisher: String,
    /// The archives whose digests its sources stated. Several of one platform are different forms, such as
    /// the publisher's own archive and one that was repacked.
    pub archives: Vec<LockedArchive>,
    /// Packages from a registry that complete its builds.
    pub companions: Vec<LockedCompanion>,
    /// The exact versions of packages that every new install gets, as `name@version`.
    pub packages: Vec<String>,
    /// The digests of the patches that its source gets if it is built.
    pub patches: Vec<String>,
}

/// A release as it is written.
#[derive(Deserialize)]
struct WrittenRelease {
    runtime: String,
    required: String,
    /// Version 0.1.0 put the publisher in front unless it was the main one.
    release: String,
    publisher: String,
    #[serde(default)]
    archives: Vec<LockedArchive>,
    #[serde(default)]
    companions: Vec<LockedCompanion>,
    #[serde(default)]
    packages: Vec<String>,
    #[serde(default)]
    patches: Vec<String>,
}

/// An archive of a locked release.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub struct LockedArchive {
    /// The platform it is for.
    pub platform: Platform,
    /// The digest of its bytes.
    pub digest: Digest,
    /// Its size in bytes, if a source stated it.
    #[serde(default)]
    pub size: Option<u64>,
}

/// A package that completes the builds of a locked release.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub struct LockedCompanion {
    /// Its name in the registry.
    pub package: String,
    /// Its version.
    pub version: Version,
    /// The digest of its archive.
    pub digest: Digest,
}

/// Why a text is not a lock file.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{problem}")]
pub struct LockError {
    /// The line, counted from 1.
    pub line: usize,
    /// What is wrong with it.
    pub problem: LockProblem,
}

/// What is wrong with a lock file.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LockProblem {
    /// A merge left two versions of something.
    #[error("a merge left both versions here")]
    Merge,
    /// A later program wrote it.
    #[error("its format is {0:?}, which is newer than this program")]
    Newer(String),
    /// Its format is unknown.
    #[error("its format is not {FORMAT:?}")]
    Format,
    /// Not TOML, or a value that cannot be used.
    #[error("it is not understood: {0}")]
    Syntax(String),
    /// Two releases of one runtime.
    #[error("it has two releases of {0}")]
    Twice(String),
}

/// The head of a lock file, which says how to read the rest.
#[derive(Deserialize)]
struct Head {
    format: Option<String>,
}

#[derive(Deserialize)]
struct Document {
    #[serde(default)]
    release: Vec<LockedRelease>,
}

impl Lock {
    /// Reads the text of a lock file.
    pub fn read(text: &str) -> Result<Lock, LockError> {
        let at = |line, problem| LockError { line, problem };
        let is_mark = |line: &str| MERGE_MARKS.iter().any(|mark| line.starts_with(mark));
        if let Some(index) = text.lines().position(is_mark) {
            return Err(at(index + 1, LockProblem::Merge));
        }
        let of_toml = |error: toml::de::Error| {
            let start = error.span().map_or(0, |span| span.start.min(text.len()));
            let line = 1 + text[..start].matches('\n').count();
            at(line, LockProblem::Syntax(error.message().to_owned()))
        };
        let head: Head = toml::from_str(text).map_err(of_toml)?;
        match head.format.as_deref() {
            Some(FORMAT | FORMER_FORMAT) => {}
            Some(other) if other.starts_with("vivid-shelf-lock/") => {
                return Err(at(1, LockProblem::Newer(other.to_owned())));
            }
            _ => return Err(at(1, LockProblem::Format)),
        }
        let document: Document = toml::from_str(text).map_err(of_toml)?;
        let lock = Lock {
            releases: document.release,
        };
        for (index, release) in lock.releases.iter().enumerate() {
            let line = line_of(text, &release.runtime);
            let before = &lock.releases[..index];
            if before.iter().any(|other| other.runtime == release.runtime) {
                return Err(at(line, LockProblem::Twice(release.runtime.clone())));
            }
        }
        Ok(lock)
    }

    /// The release that is locked for a runtime.
    pub fn release_of(&self, runtime: &str) -> Option<&LockedRelease> {
        self.releases
            .iter()
            .find(|release| release.runtime == runtime)
    }

    /// Puts a release in the place of the one of its runtime.
    pub fn put(&mut self, release: LockedRelease) {
        self.releases
            .retain(|other| other.runtime != release.runtime);
        self.releases.push(release);
        self.releases.sort_by(|a, b| a.runtime.cmp(&b.runtime));
    }

    /// The text of the lock file: the same for the same releases, in whatever order they came.
    pub fn write(&self) -> String {
        let mut text = format!(
            "# The exact releases that this project's requirements resolve to. Written by `vshelf lock`; do not edit.\n\
             format = {FORMAT:?}\n"
        );
        for release in &self.releases {
            let plain = [
                ("runtime", &release.runtime),
                ("required", &release.required),
                ("release", &release.version.to_string()),
                ("publisher", &release.publisher),
            ];
            text += "\n[[release]]\n";
            for (key, value) in plain {
                writeln!(text, "{key} = {}", quoted(value)).expect("a text takes everything");
            }
            write_lines(&mut text, "archives", &release.archives, |archive| {
                let size = archive.size.map(|size| format!(", size = {size}"));
                format!(
                    "{{ platform = {}, digest = {}{} }}",
                    quoted(archive.platform.as_str()),
                    quoted(&archive.digest.to_string()),
                    size.unwrap_or_default(),
                )
            });
            write_lines(&mut text, "companions", &release.companions, |companion| {
                format!(
                    "{{ package = {}, version = {}, digest = {} }}",
                    quoted(&companion.package),
                    quoted(companion.version.as_str()),
                    quoted(&companion.digest.to_string()),
                )
            });
            write_lines(&mut text, "packages", &release.packages, |package| {
                quoted(package)
            });
            write_lines(&mut text, "patches", &release.patches, |digest| {
                quoted(digest)
            });
        }
        text
    }
}

fn quoted(text: &str) -> String {
    toml::Value::from(text).to_string()
}

/// The line on which the release of a runtime begins.
pub fn line_of(text: &str, runtime: &str) -> usize {
    let wanted = format!("runtime = {runtime:?}");
    let index = text.lines().position(|line| line.trim() == wanted);
    index.map_or(1, |index| index + 1)
}

/// Adds a list with one line per entry, sorted; an empty one is left out.
fn write_lines<T>(text: &mut String, key: &str, entries: &[T], line: impl Fn(&T) -> String) {
    if entries.is_empty() {
        return;
    }
    let mut lines: Vec<String> = entries.iter().map(line).collect();
    lines.sort();
    writeln!(text, "{key} = [\n  {},\n]", lines.join(",\n  ")).expect("a text takes everything");
}

impl TryFrom<WrittenRelease> for LockedRelease {
    type Error = String;

    fn try_from(written: WrittenRelease) -> Result<LockedRelease, String> {
        let WrittenRelease {
            release, publisher, ..
        } = &written;
        if !is_publisher(publisher) {
            return Err(format!("{publisher:?} is not a publisher"));
        }
        let version = match release.split_once('/') {
            Some((named, _)) if named != publisher => {
                return Err(format!("{release:?} is not a release of {publisher}"));
            }
            Some((_, version)) => version,
            None => release,
        };
        let version = version
            .parse()
            .map_err(|_| format!("{release:?} is not a release"))?;
        let is_exact = |spelled: &&String| {
            let package = Package::named(spelled);
            package.version.is_some() && package.is_plain()
        };
        if let Some(other) = written.packages.iter().find(|one| !is_exact(one)) {
            return Err(format!("{other:?} is not a package in one version"));
        }
        Ok(LockedRelease {
            version,
            runtime: written.runtime,
            required: written.required,
            publisher: written.publisher,
            archives: written.archives,
            companions: written.companions,
            packages: written.packages,
            patches: written.patches,
        })
    }
}

impl LockedRelease {
    /// Its key on the shelf.
    pub fn key(&self) -> Key {
        Key::new(&self.version, &self.publisher)
    }

    /// The request that means exactly this release. It names the publisher, so that no other one's release meets it.
    pub fn request(&self) -> Request {
        Request {
            runtime: None,
            publisher: Some(self.publisher.clone()),
            selector: Selector::Version(self.version.clone()),
        }
    }

    /// Whether it meets a requirement. Versions and ranges are compared. A word has to be the one that was
    /// locked, and one that the release could have stood for then, as far as `catalog` knows its line. A
    /// requirement that names no publisher means the `main` one.
    pub fn meets(&self, required: &Request, main: Option<&str>, catalog: &Catalog) -> bool {
        let publisher = required.publisher.as_deref().or(main);
        if publisher.is_some_and(|publisher| publisher != self.publisher) {
            return false;
        }
        match &required.selector {
            Selector::Version(wanted) => self.version.begins_with(wanted),
            Selector::Range(range) => range.contains(&self.version),
            word => required.to_string() == self.required && self.could_be(word, catalog),
        }
    }

    /// Whether a word could have stood for it on some day. A word that the catalog does not know may be a
    /// channel or code name of later.
    fn could_be(&self, word: &Selector, catalog: &Catalog) -> bool {
        let line = catalog.line_of(&self.version);
        match word {
            Selector::Latest | Selector::Stable => !self.version.is_pre_release(),
            Selector::Lts => line.is_none_or(|line| line.lts.is_some()),
            Selector::Name(name) => match catalog.line_named(name) {
                Some(named) => named.covers(&self.version),
                None => true,
            },
            _ => true,
        }
    }

    /// The digests that are locked for builds of this platform, best first.
    pub fn archives_for(&self, host: &Platform) -> Vec<&LockedArchive> {
        let archives = self.archives.iter();
        let mut fitting: Vec<&LockedArchive> = archives
            .filter(|archive| archive.platform.runs_on(host))
            .collect();
        fitting.sort_by_key(|archive| archive.platform.order_on(host));
        fitting
    }

    /// Whether an archive with this digest is locked for a platform.
    pub fn has_digest(&self, platform: &Platform, digest: &str) -> bool {
        let mut archives = self.archives.iter();
        archives
            .any(|archive| archive.platform == *platform && archive.digest.to_string() == digest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::Line;
    use rstest::rstest;

    fn lock() -> Lock {
        let digest = |byte: &str| format!("sha256:{}", byte.repeat(32)).parse().unwrap();
        let archive = |platform: &str, byte: &str| LockedArchive {
            platform: platform.parse().unwrap(),
            digest: digest(byte),
            size: (byte == "0a").then_some(7),
        };
        let marram = LockedRelease {
            runtime: "marram".into(),
            required: "lts".into(),
            version: "8.3.1".parse().unwrap(),
            publisher: "saltmarsh".into(),
            archives: vec![archive("linux-x64", "0a"), archive("darwin-arm64", "0b")],
            companions: vec![LockedCompanion {
                package: "tussock".into(),
                version: "3.2.0".parse().unwrap(),
                digest: digest("0c"),
            }],
            packages: vec!["kelp@1.4.2".into()],
            patches: Vec::new(),
        };
        let orache = LockedRelease {
            runtime: "orache".into(),
            required: "dunefield/2.6".into(),
            version: "2.6.3".parse().unwrap(),
            publisher: "dunefield".into(),
            archives: vec![archive("source", "0d")],
            companions: Vec::new(),
            packages: Vec::new(),
            patches: vec![format!("sha256:{}", "0e".repeat(32))],
        };
        let mut lock = Lock::default();
        lock.put(orache);
        lock.put(marram);
        lock
    }

    #[test]
    fn what_is_written_reads_as_it_was_and_writes_the_same() {
        let text = lock().write();
        let read = Lock::read(&text).unwrap();
        assert_eq!(read.write(), text);
        assert_eq!(read.releases.len(), 2);
        assert_eq!(read.release_of("orache"), lock().release_of("orache"));
        // An archive has a line of its own, and lines are sorted.
        let archives: Vec<&str> = text
            .lines()
            .filter(|line| line.contains("platform"))
            .collect();
        assert!(archives[0].starts_with("  { platform = \"darwin-arm64\", digest = \"sha256:0b0b"));
        assert!(archives[1].ends_with("0a\", size = 7 },"));
        assert_eq!(
            line_of(&text, "orache"),
            1 + text
                .lines()
                .position(|line| line == "runtime = \"orache\"")
                .unwrap()
        );
        // What is put a second time takes the place of the first.
        let mut again = read.clone();
        again.put(read.releases[0].clone());
        assert_eq!(again, read);
    }

    #[rstest]
    #[case("lts", "lts", true)]
    #[case("lts", "8", true)]
    #[case("lts", "8.3.1", true)]
    #[case("9", "9", false)]
    #[case(">=9", ">=9", false)]
    #[case("lts", ">=6 <9", true)]
    #[case("lts", "saltmarsh/8", true)]
    #[case("lts", "9", false)]
    #[case("lts", "8.3.2", false)]
    #[case("lts", "stable", false)]
    #[case("stable", "stable", true)]
    #[case("eelgrass", "eelgrass", true)]
    #[case("samphire", "samphire", false)]
    #[case("tides", "tides", true)]
    #[case("lts", "eelgrass", false)]
    #[case("lts", "dunefield/8", false)]
    #[case("dunefield/8", "dunefield/8", false)]
    fn a_locked_release_meets_what_it_can_stand_for(
        #[case] locked_for: &str,
        #[case] required: &str,
        #[case] expected: bool,
    ) {
        let named = |line: &str, codename: &str| Line {
            codename: Some(codename.to_owned()),
            ..Line::undated(line)
        };
        let catalog = Catalog {
            lines: vec![
                Line {
                    lts: "2026-10-27".parse().ok(),
                    ..named("8", "Eelgrass")
                },
                named("6", "Samphire"),
            ],
            ..Catalog::default()
        };
        let release = LockedRelease {
            required: locked_for.to_owned(),
            ..lock().release_of("marram").unwrap().clone()
        };
        let required = required.parse().unwrap();
        assert_eq!(
            release.meets(&required, Some("saltmarsh"), &catalog),
            expected
        );
        let short_lived = LockedRelease {
            version: "6.1.0".parse().unwrap(),
            ..release
        };
        assert!(!short_lived.meets(&"lts".parse().unwrap(), None, &catalog));
    }

    #[test]
    fn the_addresses_of_version_0_1_0_are_ignored() {
        let text = format!(
            "format = \"vivid-shelf-lock/1\"\n[[release]]\nruntime = \"marram\"\nrequired = \"8\"\n\
             release = \"dunefield/8.3.1\"\npublisher = \"dunefield\"\narchives = [\n\
             {{ platform = \"linux-x64\", digest = \"sha256:{0}\", source = \"s\", address = \"/m.tgz\" }} ]\n\
             companions = [{{ package = \"t\", version = \"1.0.0\", digest = \"sha256:{0}\", \
             address = \"/t.tgz\", folder = \"..\", programs = {{ }} }}]\n",
            "0a".repeat(32)
        );
        let written = Lock::read(&text).unwrap().write();
        assert!(
            written.contains("release = \"8.3.1\"\npublisher = \"dunefield\""),
            "{written}"
        );
        for gone in ["address", "folder", "source", "lock/1"] {
            assert!(!written.contains(gone), "{gone}: {written}");
        }
    }

    #[rstest]
    #[case(
        "[[release]]",
        "<<<<<<< ours\n[[release]]",
        4,
        "a merge left both versions here"
    )]
    #[case(
        "lock/2",
        "lock/3",
        1,
        "its format is \"vivid-shelf-lock/3\", which is newer than this program"
    )]
    #[case(
        "vivid-shelf-lock/2",
        "tides",
        1,
        "its format is not \"vivid-shelf-lock/2\""
    )]
    #[case("sha256:0b", "sha256:zz", 10, "it is not understood: ")]
    #[case("sha256:0b", "sha256:0", 10, "it is not understood: ")]
    #[case("\"orache\"", "\"marram\"", 5, "it has two releases of marram")]
    #[case(
        "\"8.3.1\"",
        "\"tides\"",
        4,
        "it is not understood: \"tides\" is not a release"
    )]
    #[case(
        "\"8.3.1\"",
        "\"dunefield/8.3.1\"",
        4,
        "it is not understood: \"dunefield/8.3.1\" is not a release of saltmarsh"
    )]
    #[case(
        "\"saltmarsh\"",
        "\"../saltmarsh\"",
        4,
        "it is not understood: \"../saltmarsh\" is not a publisher"
    )]
    #[case(
        "publisher = \"saltmarsh\"\n",
        "",
        4,
        "it is not understood: missing field `publisher`"
    )]
    #[case(
        "\"kelp@1.4.2\"",
        "\"--registry=https://gull.example\"",
        4,
        "it is not understood: \"--registry=https://gull.example\" is not a package in one version"
    )]
    #[case(
        "\"kelp@1.4.2\"",
        "\"kelp\"",
        4,
        "it is not understood: \"kelp\" is not a package in one version"
    )]
    fn what_is_wrong_is_told_with_its_line(
        #[case] good: &str,
        #[case] bad: &str,
        #[case] line: usize,
        #[case] problem: &str,
    ) {
        let error = Lock::read(&lock().write().replacen(good, bad, 1)).unwrap_err();
        assert!(error.to_string().starts_with(problem), "{error}");
        assert_eq!(error.line, line, "{error}");
    }
}
