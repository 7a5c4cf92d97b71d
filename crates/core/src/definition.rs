//! What a runtime is: a small TOML file, data and not code.

use std::collections::BTreeMap;
use std::path::{Component, Path};

use serde::{Deserialize, Serialize};

use crate::packages::PackageTool;
use crate::platform::Platform;
use crate::selector::{is_name, is_publisher};

/// A runtime: its program, its folders, and where its releases come from.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Definition {
    /// The name in selectors and folders.
    pub name: String,
    /// The name for people.
    pub title: String,
    /// The program, without a folder.
    pub program: String,
    /// The folders of an install that go on PATH, relative to it.
    #[serde(default = "bin_folder")]
    pub folders: Vec<String>,
    /// The variable that names the install's folder, where the runtime has one.
    pub home_variable: Option<String>,
    /// How the program is asked for its version.
    pub probe: Probe,
    /// Files in which a project can say what it requires.
    #[serde(default, rename = "requirement-files")]
    pub requirement_files: Vec<RequirementFile>,
    /// How packages are listed and installed, where the runtime has a tool for that.
    pub packages: Option<PackageTool>,
    /// Where releases come from; the first that answers serves.
    pub sources: Vec<SourceDefinition>,
}

/// How a program is asked for its version.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Probe {
    /// Its arguments.
    pub arguments: Vec<String>,
    /// The answer's first line, with `{version}` where the version stands.
    pub answer: String,
}

/// A file in which a project says what it requires.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RequirementFile {
    /// The file's name.
    pub file: String,
    /// Where the selector stands in a JSON or TOML file, as keys joined by dots; a plain file with
    /// one line has none.
    pub value: Option<String>,
}

/// A place that releases come from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct SourceDefinition {
    /// The name in output and records.
    pub name: String,
    /// How many leading folders an archive's entries have that an install does not.
    #[serde(default = "one_folder")]
    pub strip_folders: usize,
    /// What it speaks.
    #[serde(flatten)]
    pub kind: SourceKind,
}

/// What a source speaks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", deny_unknown_fields, rename_all = "kebab-case")]
pub enum SourceKind {
    /// Our own catalog format over HTTP or from a folder.
    Catalog {
        /// The document: a URL or a path.
        address: String,
        /// Other addresses of the same document, with the same files beside it.
        #[serde(default)]
        mirrors: Vec<String>,
        /// The minisign public key that the document must be signed with.
        key: Option<String>,
    },
    /// A publisher's own release list: a JSON list of releases, and a checksum list for each.
    #[serde(rename_all = "kebab-case")]
    ReleaseList {
        /// The index: a URL or a path.
        address: String,
        /// Other addresses of the same index, with the same files beside it.
        #[serde(default)]
        mirrors: Vec<String>,
        /// The checksum list of a release, relative to the index.
        checksums: String,
        /// What the index names and serves for each platform.
        archives: BTreeMap<Platform, IndexedArchive>,
        /// The support life of the lines.
        schedule: Option<PackagedFile>,
        /// The publisher in selectors and records.
        publisher: String,
    },
    /// A package registry that speaks the npm protocol, at the address that the user configured
    /// for that ecosystem.
    Npm {
        /// The package of builds for each platform.
        packages: BTreeMap<Platform, String>,
        /// A package with the support life of the lines.
        schedule: Option<PackagedFile>,
        /// Packages that belong into every install and are not part of the builds.
        #[serde(default)]
        companions: Vec<Companion>,
        /// The publisher in selectors and records.
        publisher: String,
    },
    /// Wheels in a package index that speaks the Python simple API, at the address that the user
    /// configured for that ecosystem.
    Wheels {
        /// The package.
        package: String,
        /// The publisher in selectors and records.
        publisher: String,
    },
    /// A plain folder of archives, named by a pattern, with a checksum list.
    Folder {
        /// The folder, or the page that lists it: a path or a URL.
        address: String,
        /// Other addresses of the same folder.
        #[serde(default)]
        mirrors: Vec<String>,
        /// An archive's name, with `{version}` and, where there are several, `{platform}`.
        pattern: String,
        /// What stands for each platform in the names.
        platforms: BTreeMap<Platform, String>,
        /// The checksum list in the folder.
        checksums: String,
        /// The publisher in selectors and records.
        publisher: String,
    },
}

/// The archive for one platform in a publisher's release list.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct IndexedArchive {
    /// The word in the index that says a release is built for it.
    pub listed: String,
    /// Its names relative to the index, best first, with `{version}`; of these the first that
    /// stands in the checksum list is taken.
    pub files: Vec<String>,
}

/// A package that belongs into every install and comes from elsewhere.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Companion {
    /// The package.
    pub package: String,
    /// The name under `engines` in the package's metadata whose range has to cover the release.
    pub engine: String,
    /// The folder of the install that it is unpacked into.
    pub folder: String,
    /// Links to its programs: the link's path in the install, and the program's in the package.
    pub programs: BTreeMap<String, String>,
}

/// A file inside a package of the registry that speaks the npm protocol.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackagedFile {
    /// The package.
    pub package: String,
    /// The file's path in it, below its top folder.
    pub file: String,
}

impl SourceDefinition {
    /// A name for what is kept of the source: another one as soon as anything here is changed, so
    /// that nothing of another address, package or key is taken for it. `said` is what else says where
    /// the source is.
    pub fn id(&self, said: &str) -> String {
        let text = serde_json::to_string(&(self, said)).expect("texts and numbers serialise");
        format!("{}-{:016x}", self.name, fingerprint(text.as_bytes()))
    }
}

/// A short name for bytes that is the same whatever built this program: FNV-1a with 64 bits
/// (draft-eastlake-fnv, §2). It keeps different things apart, and guards against nobody.
pub fn fingerprint(bytes: &[u8]) -> u64 {
    let step = |hash: u64, byte: &u8| (hash ^ u64::from(*byte)).wrapping_mul(0x100_0000_01b3);
    bytes.iter().fold(0xcbf2_9ce4_8422_2325, step)
}

impl SourceKind {
    /// The publisher that all of its releases have; a catalog of ours names its publishers itself.
    pub fn publisher(&self) -> Option<&str> {
        match self {
            SourceKind::Catalog { .. } => None,
            SourceKind::ReleaseList { publisher, .. }
            | SourceKind::Npm { publisher, .. }
            | SourceKind::Wheels { publisher, .. }
            | SourceKind::Folder { publisher, .. } => Some(publisher),
        }
    }

    /// Whether it is read from a folder of this machine.
    pub fn is_local(&self) -> bool {
        let is_web = |address: &str| {
            let schemes = ["http://", "https://"];
            schemes.iter().any(|scheme| address.starts_with(scheme))
        };
        let first = self.addresses().next();
        first.is_some_and(|address| !is_web(address))
    }

    /// Every address that it names, the one to ask first in front.
    pub fn addresses(&self) -> impl Iterator<Item = &str> {
        let (first, others): (Option<&String>, &[String]) = match self {
            SourceKind::Catalog {
                address, mirrors, ..
            }
            | SourceKind::ReleaseList {
                address, mirrors, ..
            }
            | SourceKind::Folder {
                address, mirrors, ..
            } => (Some(address), mirrors),
            SourceKind::Npm { .. } | SourceKind::Wheels { .. } => (None, &[]),
        };
        first.into_iter().chain(others).map(String::as_str)
    }

    /// The packages that belong into every install from it.
    pub fn companions(&self) -> &[Companion] {
        match self {
            SourceKind::Npm { companions, .. } => companions,
            _ => &[],
        }
    }

    /// Has it read from `address` instead; says whether it is of a kind that has an address.
    pub fn move_to(&mut self, address: &str) -> bool {
        match self {
            SourceKind::Catalog { address: at, .. }
            | SourceKind::ReleaseList { address: at, .. }
            | SourceKind::Folder { address: at, .. } => {
                address.clone_into(at);
                true
            }
            SourceKind::Npm { .. } | SourceKind::Wheels { .. } => false,
        }
    }

    /// Calls `check` with every key and value that names a file, and what is expected of it.
    fn check_files(&self, check: &mut Check<'_>) -> Result<(), DefinitionError> {
        const VERSIONED: &str = "a relative path with {version} is expected";
        let versioned = |text: &str| text.contains("{version}") && is_file_inside(text);
        match self {
            SourceKind::Catalog { .. } | SourceKind::Wheels { .. } => Ok(()),
            SourceKind::ReleaseList {
                checksums,
                archives,
                ..
            } => {
                let good = is_file_inside(checksums);
                check(good, "checksums", checksums, "a relative path is expected")?;
                for file in archives.values().flat_map(|archive| &archive.files) {
                    check(versioned(file), "archives.files", file, VERSIONED)?;
                }
                Ok(())
            }
            SourceKind::Npm { companions, .. } => {
                for companion in companions {
                    let names = [&companion.folder];
                    let programs = companion.programs.iter().flat_map(|(k, v)| [k, v]);
                    for path in names.into_iter().chain(programs) {
                        let expected = "a path inside the install is expected";
                        check(is_inside(path), "companions", path, expected)?;
                    }
                }
                Ok(())
            }
            SourceKind::Folder {
                pattern,
                platforms,
                checksums,
                ..
            } => {
                let good = pattern.matches("{version}").count() == 1
                    && pattern.matches("{platform}").count() <= 1
                    && is_plain_file_name(pattern);
                let expected = "a file's name with {version} once is expected";
                check(good, "pattern", pattern, expected)?;
                let good = is_plain_file_name(checksums);
                let expected = "a file's name without a folder is expected";
                check(good, "checksums", checksums, expected)?;
                let good = !platforms.is_empty()
                    && (platforms.len() == 1 || pattern.contains("{platform}"));
                let expected = "with several platforms, the pattern needs {platform}";
                check(good, "pattern", pattern, expected)
            }
        }
    }
}

/// Turns a value that is not good into an error.
type Check<'c> =
    dyn FnMut(bool, &'static str, &str, &'static str) -> Result<(), DefinitionError> + 'c;

fn bin_folder() -> Vec<String> {
    vec!["bin".to_owned()]
}

fn one_folder() -> usize {
    1
}

/// Why a text is not a definition.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DefinitionError {
    /// Not TOML, or not with these keys.
    #[error("{0}")]
    Syntax(toml::de::Error),
    /// A value that cannot be used.
    #[error("{key} is {value:?}: {expected}")]
    Value {
        /// The key.
        key: &'static str,
        /// Its value.
        value: String,
        /// What it should be.
        expected: &'static str,
    },
}

impl Definition {
    /// Reads a definition from the text of its file and checks every value that becomes part of a
    /// path, a command or shell code.
    pub fn read(text: &str) -> Result<Definition, DefinitionError> {
        let definition: Definition = toml::from_str(text).map_err(DefinitionError::Syntax)?;
        let mut check = |good: bool, key, value: &str, expected| match good {
            true => Ok(()),
            false => Err(DefinitionError::Value {
                key,
                value: value.to_owned(),
                expected,
            }),
        };
        let lower_name = |text: &str| {
            is_name(text) && !text.contains(|c: char| c.is_ascii_uppercase() || c == '.')
        };
        check(
            lower_name(&definition.name),
            "name",
            &definition.name,
            "a name has small letters, digits, '_' and '-'",
        )?;
        check(
            is_plain_file_name(&definition.program),
            "program",
            &definition.program,
            "a program's name without a folder is expected",
        )?;
        for folder in &definition.folders {
            check(
                is_inside(folder),
                "folders",
                folder,
                "a folder inside the install is expected",
            )?;
        }
        for requirement in &definition.requirement_files {
            check(
                is_plain_file_name(&requirement.file),
                "requirement-files.file",
                &requirement.file,
                "a file's name without a folder is expected",
            )?;
        }
        if let Some(variable) = &definition.home_variable {
            check(
                is_variable(variable) && !is_of_system(variable),
                "home-variable",
                variable,
                "a variable of the runtime's own has capital letters, digits and '_', and is not one that the system, its loader, a shell or vshelf reads",
            )?;
        }
        check(
            definition.probe.answer.matches("{version}").count() == 1,
            "probe.answer",
            &definition.probe.answer,
            "it holds {version} once",
        )?;
        if let Some(tool) = &definition.packages {
            check(
                is_plain_file_name(&tool.program),
                "packages.program",
                &tool.program,
                "a program's name without a folder is expected",
            )?;
            let places = tool.install.iter().filter(|word| *word == "{package}");
            check(
                places.count() == 1,
                "packages.install",
                &tool.install.join(" "),
                "one argument is {package}",
            )?;
        }
        for source in &definition.sources {
            check(
                lower_name(&source.name),
                "sources.name",
                &source.name,
                "a name has small letters, digits, '_' and '-'",
            )?;
            if let Some(publisher) = source.kind.publisher() {
                check(
                    lower_name(publisher) && is_publisher(publisher),
                    "sources.publisher",
                    publisher,
                    "a name has small letters, digits, '_' and '-'",
                )?;
            }
            source.kind.check_files(&mut check)?;
        }
        check(
            !definition.sources.is_empty(),
            "sources",
            "[]",
            "at least one source is needed",
        )?;
        Ok(definition)
    }

    /// The version in what the program answered to its probe, where the answer has the right form.
    ///
    /// The version ends at what stands behind it in the definition, or else at a space: programs
    /// often name their build there.
    pub fn version_in<'t>(&self, answer: &'t str) -> Option<&'t str> {
        let (before, behind) = self.probe.answer.split_once("{version}")?;
        let rest = answer.lines().next()?.trim().strip_prefix(before)?;
        match behind.is_empty() {
            true => rest.split_whitespace().next(),
            false => Some(rest.split_once(behind)?.0),
        }
    }
}

fn is_plain_file_name(text: &str) -> bool {
    let mut parts = Path::new(text).components();
    matches!(
        (parts.next(), parts.next()),
        (Some(Component::Normal(_)), None)
    ) && !text.contains(|c: char| c.is_control() || c == '/')
}

fn is_inside(folder: &str) -> bool {
    !folder.contains(|c: char| c.is_control() || c == ':')
        && Path::new(folder)
            .components()
            .all(|part| matches!(part, Component::Normal(_) | Component::CurDir))
}

/// Whether a path relative to a document stays below its folder; it may hold `{version}`.
fn is_file_inside(path: &str) -> bool {
    is_inside(path) && !path.is_empty()
}

fn is_variable(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_uppercase())
        && text
            .chars()
            .all(|c| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_')
}

/// Whether a variable is read by every program or shell, so that setting it would change more than one
/// runtime: POSIX.1-2024 (Base Definitions, §8), ld.so(8), the manuals of the shells.
fn is_of_system(variable: &str) -> bool {
    const NAMES: [&str; 35] = [
        "PATH",
        "HOME",
        "IFS",
        "ENV",
        "SHELL",
        "USER",
        "LOGNAME",
        "PWD",
        "OLDPWD",
        "CDPATH",
        "TERM",
        "TMPDIR",
        "LANG",
        "LANGUAGE",
        "NLSPATH",
        "MANPATH",
        "INFOPATH",
        "TZ",
        "EDITOR",
        "VISUAL",
        "PAGER",
        "FPATH",
        "ZDOTDIR",
        "SHELLOPTS",
        "BASHOPTS",
        "HOSTNAME",
        "DISPLAY",
        "MAIL",
        "OPTIND",
        "UID",
        "EUID",
        "PPID",
        "RANDOM",
        "SECONDS",
        "COLUMNS",
    ];
    const FAMILIES: [&str; 13] = [
        "LD_", "DYLD_", "LC_", "BASH_", "ZSH_", "FISH_", "KSH_", "PS", "PROMPT", "XDG_", "VSHELF_",
        "MALLOC_", "GLIBC_",
    ];
    NAMES.contains(&variable) || FAMILIES.iter().any(|family| variable.starts_with(family))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const MARRAM: &str = r#"
        name = "marram"
        title = "Marram"
        program = "marram"
        home-variable = "MARRAM_HOME"
        probe = { arguments = ["--version"], answer = "marram {version}" }
        requirement-files = [{ file = ".marram-version" }]

        [[sources]]
        name = "saltmarsh"
        kind = "catalog"
        address = "catalog.json"
    "#;

    #[test]
    fn reads_a_definition_and_fills_in_what_is_usual() {
        let definition = Definition::read(MARRAM).unwrap();
        assert_eq!(definition.folders, ["bin"]);
        assert_eq!(definition.sources[0].strip_folders, 1);
        assert_eq!(definition.version_in("marram 8.3.1\nmore"), Some("8.3.1"));
        assert_eq!(
            definition.version_in("marram 8.3.1 (linux, release)"),
            Some("8.3.1")
        );
        assert_eq!(definition.version_in("tussock 8.3.1"), None);
    }

    #[rstest]
    #[case("name = \"marram\"", "name = \"../marram\"", "name is")]
    #[case("program = \"marram\"", "program = \"/bin/sh\"", "program is")]
    #[case("\"MARRAM_HOME\"", "\"PATH\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"IFS\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"LD_PRELOAD\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"BASH_ENV\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"VSHELF_DATA\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"A;B\"", "home-variable is")]
    #[case("\".marram-version\"", "\"../pin\"", "requirement-files.file is")]
    #[case("{version}", "nothing", "probe.answer is")]
    #[case(
        "kind = \"catalog\"",
        "kind = \"carrier-pigeon\"",
        "unknown variant `carrier-pigeon`"
    )]
    #[case("\"saltmarsh\"", "\"../saltmarsh\"", "sources.name is")]
    #[case("title =", "titel =", "unknown field `titel`")]
    #[case("address =", "adress =", "unknown field `adress`")]
    fn refuses_values_that_would_break_out(
        #[case] good: &str,
        #[case] bad: &str,
        #[case] message: &str,
    ) {
        let error = Definition::read(&MARRAM.replacen(good, bad, 1))
            .unwrap_err()
            .to_string();
        assert!(error.contains(message), "{error}");
    }
}
