//! The lock file of a project: the release that each of its requirements came to, and its bytes.
//!
//! It stands beside the files that say what is required. Everything in it is sorted, and an archive has a line
//! of its own, so that two versions of it differ in the lines that changed.

use std::fmt::Write as _;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer};

use crate::catalog::{BuildCompanion, Digest};
use crate::definition::Companion;
pub use crate::definition::LOCK_FILE;
use crate::install::Key;
use crate::platform::Platform;
use crate::selector::{Request, Selector};
use crate::version::Version;

/// The form of a lock file; the number changes with it.
const FORMAT: &str = "vivid-shelf-lock/1";

/// What begins the lines that a merge leaves where two versions of a file do not agree.
const MERGE_MARKS: [&str; 3] = ["<<<<<<< ", "=======", ">>>>>>> "];

/// A lock file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Lock {
    /// One release a runtime, in the order of their names.
    pub releases: Vec<LockedRelease>,
}

/// The release that a requirement came to.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct LockedRelease {
    /// The runtime.
    pub runtime: String,
    /// What was required when it was locked.
    pub required: String,
    /// The version. Version 0.1.0 wrote it as a selector, with the publisher in front unless that was
    /// the main one.
    #[serde(rename = "release", deserialize_with = "read_release")]
    pub version: Version,
    /// Its publisher.
    pub publisher: String,
    /// Its archives, in the order of their platforms.
    pub archives: Vec<LockedArchive>,
    /// Packages of registries that belong to every install of it.
    #[serde(default)]
    pub companions: Vec<BuildCompanion>,
    /// Packages that are installed into it, as `name@version`.
    #[serde(default)]
    pub packages: Vec<String>,
    /// The digests of the patches of its source, where it is built from that.
    #[serde(default)]
    pub patches: Vec<String>,
}

/// An archive of a locked release.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct LockedArchive {
    /// What it is for.
    pub platform: Platform,
    /// What its bytes add up to.
    pub digest: Digest,
    /// Its size in bytes, where that is known.
    #[serde(default)]
    pub size: Option<u64>,
    /// The source that had it.
    pub source: String,
    /// Where it was.
    pub address: String,
}

/// Why a text is no lock file.
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
    /// It has no format that is known.
    #[error("its format is not {FORMAT:?}")]
    Format,
    /// Not TOML, or a value that cannot be used.
    #[error("it is not understood: {0}")]
    Syntax(String),
    /// Two releases of one runtime.
    #[error("it has two releases of {0}")]
    Twice(String),
    /// A path that leads out of an install.
    #[error("{0:?} leads out of the install")]
    Outside(String),
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
            Some(FORMAT) => {}
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
            let outside = release.companions.iter().find_map(|companion| {
                let known = Companion::of_build(companion);
                known.path_outside().map(str::to_owned)
            });
            if let Some(path) = outside {
                return Err(at(line, LockProblem::Outside(path)));
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
            "# What the requirements of this project came to. `vshelf lock` writes it, and nobody by hand.\n\
             format = {FORMAT:?}\n"
        );
        for release in &self.releases {
            let quoted = |text: &str| toml::Value::from(text).to_string();
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
                let size = archive.size.map(|size| format!("size = {size}, "));
                format!(
                    "{{ platform = {}, digest = {}, {}source = {}, address = {} }}",
                    quoted(archive.platform.as_str()),
                    quoted(&archive.digest.to_string()),
                    size.unwrap_or_default(),
                    quoted(&archive.source),
                    quoted(&archive.address),
                )
            });
            write_lines(&mut text, "companions", &release.companions, |companion| {
                let programs = companion.programs.iter();
                let programs = programs
                    .map(|(link, program)| format!("{} = {}", quoted(link), quoted(program)));
                format!(
                    "{{ package = {}, version = {}, digest = {}, address = {}, folder = {}, programs = {{ {} }} }}",
                    quoted(&companion.package),
                    quoted(companion.version.as_str()),
                    quoted(&companion.digest.to_string()),
                    quoted(&companion.address),
                    quoted(&companion.folder),
                    programs.collect::<Vec<_>>().join(", "),
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

/// The line on which the release of a runtime begins.
pub fn line_of(text: &str, runtime: &str) -> usize {
    let wanted = format!("runtime = {runtime:?}");
    let index = text.lines().position(|line| line.trim() == wanted);
    index.map_or(1, |index| index + 1)
}

/// Adds a list with a line an entry, in the order of the lines; nothing where it is empty.
fn write_lines<T>(text: &mut String, key: &str, entries: &[T], line: impl Fn(&T) -> String) {
    if entries.is_empty() {
        return;
    }
    let mut lines: Vec<String> = entries.iter().map(line).collect();
    lines.sort();
    writeln!(text, "{key} = [\n  {},\n]", lines.join(",\n  ")).expect("a text takes everything");
}

/// Reads the version from a selector.
fn read_release<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Version, D::Error> {
    let text = String::deserialize(deserializer)?;
    let version = text.rsplit('/').next().and_then(|text| text.parse().ok());
    version.ok_or_else(|| D::Error::custom(format!("{text:?} is not a release")))
}

impl LockedRelease {
    /// Its key on the shelf.
    pub fn key(&self) -> Key {
        Key::new(&self.version, &self.publisher)
    }

    /// The selector that means exactly this release where `main` is the publisher that a selector means
    /// if it names none.
    pub fn request(&self, main: Option<&str>) -> Request {
        Request {
            runtime: None,
            publisher: (main != Some(&self.publisher)).then(|| self.publisher.clone()),
            selector: Selector::Version(self.version.clone()),
        }
    }

    /// Whether it is what this requirement asks for: what it was locked for, or a version or range that
    /// contains it. A requirement that names no publisher means the `main` one.
    pub fn meets(&self, required: &Request, main: Option<&str>) -> bool {
        if required.to_string() == self.required {
            return true;
        }
        let publisher = required.publisher.as_deref().or(main);
        publisher.is_none_or(|publisher| publisher == self.publisher)
            && match &required.selector {
                Selector::Version(wanted) => self.version.begins_with(wanted),
                Selector::Range(range) => range.contains(&self.version),
                _ => false,
            }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn lock() -> Lock {
        let digest = |byte: &str| format!("sha256:{}", byte.repeat(32)).parse().unwrap();
        let archive = |platform: &str, byte: &str| LockedArchive {
            platform: platform.parse().unwrap(),
            digest: digest(byte),
            size: (byte == "0a").then_some(7),
            source: "gull-point".into(),
            address: format!("https://gull.example/m/marram-8.3.1-{platform}.tar.xz"),
        };
        let marram = LockedRelease {
            runtime: "marram".into(),
            required: "lts".into(),
            version: "8.3.1".parse().unwrap(),
            publisher: "saltmarsh".into(),
            archives: vec![archive("linux-x64", "0a"), archive("darwin-arm64", "0b")],
            companions: vec![BuildCompanion {
                package: "tussock".into(),
                version: "3.2.0".parse().unwrap(),
                digest: digest("0c"),
                address: "https://gull.example/t/tussock-3.2.0.tgz".into(),
                folder: "lib/tussock".into(),
                programs: [("bin/tussock".into(), "bin/tussock.sh".into())].into(),
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
        assert!(archives[1].contains("size = 7, source = \"gull-point\", address = "));
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
    #[case("lts", true)]
    #[case("8", true)]
    #[case("8.3.1", true)]
    #[case(">=6 <9", true)]
    #[case("saltmarsh/8", true)]
    #[case("9", false)]
    #[case("8.3.2", false)]
    #[case("stable", false)]
    #[case("eelgrass", false)]
    #[case("dunefield/8", false)]
    fn a_locked_release_meets_what_it_was_locked_for_and_ranges_that_have_it(
        #[case] required: &str,
        #[case] expected: bool,
    ) {
        let lock = lock();
        let release = lock.release_of("marram").unwrap();
        let required = required.parse().unwrap();
        assert_eq!(release.meets(&required, Some("saltmarsh")), expected);
    }

    #[rstest]
    #[case(
        "[[release]]",
        "<<<<<<< ours\n[[release]]",
        4,
        "a merge left both versions here"
    )]
    #[case(
        "lock/1",
        "lock/2",
        1,
        "its format is \"vivid-shelf-lock/2\", which is newer than this program"
    )]
    #[case(
        "vivid-shelf-lock/1",
        "tides",
        1,
        "its format is not \"vivid-shelf-lock/1\""
    )]
    #[case("sha256:0b", "sha256:zz", 10, "it is not understood: ")]
    #[case("sha256:0b", "sha256:0", 10, "it is not understood: ")]
    #[case("\"orache\"", "\"marram\"", 5, "it has two releases of marram")]
    #[case(
        "\"bin/tussock\"",
        "\"../tussock\"",
        5,
        "\"../tussock\" leads out of the install"
    )]
    #[case(
        "\"8.3.1\"",
        "\"tides\"",
        7,
        "it is not understood: \"tides\" is not a release"
    )]
    #[case(
        "publisher = \"saltmarsh\"\n",
        "",
        4,
        "it is not understood: missing field `publisher`"
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
