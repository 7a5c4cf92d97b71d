//! Where a runtime's releases come from, and what is done with the archives of each place.

use std::collections::BTreeMap;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::check::{DefinitionError, check};
use super::json::JsonSource;
use super::words::{is_file_inside, is_inside, is_plain_file_name};
use crate::catalog::BuildCompanion;
use crate::platform::Platform;
use crate::range::Range;
use crate::template::{Template, VersionSpellings};
use crate::version::Version;

/// A place that releases come from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(
    feature = "schemas",
    derive(schemars::JsonSchema),
    schemars(extend("unevaluatedProperties" = false))
)]
#[serde(rename_all = "kebab-case")]
pub struct SourceDefinition {
    /// The name in output and records.
    pub name: String,
    /// Whether its builds are packed anew from those of the publisher: the days that it tells are
    /// those of the packing.
    #[serde(default)]
    pub repack: bool,
    /// Whether it is asked only if no other source of its publisher answers, or for a digest that the others do
    /// not state. Sources without this mark add up.
    #[serde(default)]
    pub fallback: bool,
    /// How it spells versions; plain versions where it says nothing.
    #[serde(default)]
    pub versions: VersionSpellings,
    /// The versions that are taken from it, as a range; all where it says nothing.
    pub only: Option<Range>,
    /// Whether its pre-releases are taken: not where their programs call themselves something else, because such an
    /// install fails its check.
    #[serde(default = "taken")]
    pub pre_releases: bool,
    /// What of its archives becomes the install.
    #[serde(flatten)]
    pub layout: ArchiveLayout,
    /// Packages that are added to every install from it, because its builds are without them.
    #[serde(default)]
    pub companions: Vec<Companion>,
    /// What it speaks.
    #[serde(flatten)]
    pub kind: SourceKind,
}

/// What of an archive becomes the install.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub struct ArchiveLayout {
    /// How many leading folders an archive's entries have that an install does not: 1 where neither
    /// this nor `folder` says it.
    pub strip_folders: Option<usize>,
    /// The folder of an archive that becomes the install; nothing else of the archive does.
    pub folder: Option<String>,
    /// A file of the install, such as `bin/javac`: the only folder of the archive that contains it becomes the
    /// install. On Windows the file may end in `.exe`.
    pub root_with: Option<String>,
    /// What does not become part of the install: names at the root of the archive or of the install,
    /// which may begin with `*`.
    #[serde(default)]
    pub leave_out: Vec<String>,
    /// Links that archives of this kind cannot hold: the link's path in the install, and that of
    /// what it leads to.
    #[serde(default)]
    pub links: BTreeMap<String, String>,
}

impl ArchiveLayout {
    /// The layout of archives whose entries have this many leading folders more than an install.
    pub fn below(folders: usize) -> ArchiveLayout {
        ArchiveLayout {
            strip_folders: Some(folders),
            ..ArchiveLayout::default()
        }
    }

    /// The path in the install of an archive's entry, both as the names on the way; nothing where it
    /// does not become part of the install.
    pub fn place<'p>(&self, names: &[&'p str]) -> Option<Vec<&'p str>> {
        let above = match &self.folder {
            Some(folder) => {
                let folders = Path::new(folder).iter().filter(|name| *name != ".");
                let begins = folders
                    .clone()
                    .eq(names.iter().take(folders.clone().count()).copied());
                begins.then(|| folders.count())?
            }
            // Which folder it is shows only when all of the archive is known.
            None if self.root_with.is_some() => 0,
            None => self.strip_folders.unwrap_or(1),
        };
        let below = names.get(above..)?;
        let left_out = |name: Option<&&str>| name.is_some_and(|name| self.leaves_out(name));
        let stays = !below.is_empty()
            && !left_out(names.first())
            && !left_out(below.first())
            && !self.links.contains_key(&below.join("/"));
        stays.then(|| below.to_vec())
    }

    fn leaves_out(&self, name: &str) -> bool {
        let mut patterns = self.leave_out.iter();
        patterns.any(|pattern| match pattern.strip_prefix('*') {
            Some(ending) => name.ends_with(ending),
            None => name == pattern,
        })
    }

    /// Fails at a value that cannot be used.
    fn check(&self) -> Result<(), DefinitionError> {
        if let Some(folder) = &self.folder {
            let good = is_file_inside(folder) && self.strip_folders.is_none();
            let expected = "a path inside the archive is expected, and no strip-folders beside it";
            check(good, "sources.folder", folder, expected)?;
        }
        if let Some(file) = &self.root_with {
            let alone = self.folder.is_none() && self.strip_folders.is_none();
            let good = is_file_inside(file) && alone && self.links.is_empty();
            let expected = "a path inside the install is expected, and no folder, strip-folders or links beside it";
            check(good, "sources.root-with", file, expected)?;
        }
        for name in &self.leave_out {
            let expected = "a name at the root is expected, which may begin with *";
            let rest = name.strip_prefix('*').unwrap_or(name);
            let good = is_plain_file_name(rest) && !rest.contains('*');
            check(good, "sources.leave-out", name, expected)?;
        }
        for path in self.links.iter().flat_map(|(link, target)| [link, target]) {
            check(is_file_inside(path), "sources.links", path, INSIDE)?;
        }
        Ok(())
    }
}

/// What is expected of a path in an install.
const INSIDE: &str = "a path inside the install is expected";

/// What a source speaks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
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
        /// The publisher for whom other sources can stand in for it; it names its publishers itself.
        publisher: Option<String>,
    },
    /// Our own catalog format in a repository of a registry of containers, with the archives.
    Oci {
        /// The repository: `oci://HOST/NAME`, or `oci+http://HOST/NAME` on this machine itself.
        address: String,
        /// The minisign public key that the catalog must be signed with.
        key: Option<String>,
        /// The publisher for whom other sources can stand in for it; it names its publishers itself.
        publisher: Option<String>,
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
        /// The publisher in selectors and records.
        publisher: String,
    },
    /// A package registry that speaks the npm protocol, at the address that the user configured
    /// for that ecosystem.
    Npm {
        /// The package of builds for each platform.
        packages: BTreeMap<Platform, String>,
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
        pattern: Template,
        /// What stands for each platform in the names.
        platforms: BTreeMap<Platform, String>,
        /// The checksum list in the folder.
        checksums: String,
        /// The publisher in selectors and records.
        publisher: String,
    },
    /// A publisher's page or list in which each row names an archive, by its address, and its digest.
    Table {
        /// The page or list: a path or a URL.
        address: String,
        /// Other addresses of the same document.
        #[serde(default)]
        mirrors: Vec<String>,
        /// An archive's name, with `{version}` and, where there are several, `{platform}`.
        pattern: Template,
        /// What stands for each platform in the names.
        platforms: BTreeMap<Platform, String>,
        /// The publisher in selectors and records.
        publisher: String,
    },
    /// A JSON interface of a publisher, with releases and the builds of each.
    Json(Box<JsonSource>),
    /// Archives in a Maven repository, at the address that the user's Maven client is configured for.
    #[serde(rename_all = "kebab-case")]
    Maven {
        /// The artifact: `group:name`.
        artifact: String,
        /// What tells its archives from other files of the same version.
        classifier: Option<String>,
        /// The ending of its archives, without a dot in front.
        extension: String,
        /// The releases without an accepted digest beside their archives, as a range: they are listed and cannot be installed.
        without_digests: Option<Range>,
        /// The repository, instead of that of the user's settings.
        address: Option<String>,
        /// The publisher in selectors and records.
        publisher: String,
    },
    /// What is known of a publisher's releases and lines, from documents in a package of a registry
    /// that speaks the npm protocol. It has no builds.
    Facts {
        /// The package.
        package: String,
        /// The file with the releases: a JSON list of objects with `version`, `date`, `security` and
        /// the code name of long-term support in `lts`.
        releases: Option<String>,
        /// The file with the support life of the lines: a JSON object from line to `start`, `lts`,
        /// `maintenance`, `end` and `codename`.
        lines: Option<String>,
        /// The publisher whose releases these are.
        publisher: String,
    },
}

/// The archive for one platform in a publisher's release list.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct IndexedArchive {
    /// The word in the index that says a release is built for it.
    pub listed: String,
    /// Its names relative to the index, best first, with `{version}`; of these the first that
    /// stands in the checksum list is taken.
    pub files: Vec<Template>,
}

/// A package that is added to every install, because the builds are without it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Companion {
    /// The package, in a registry that speaks the npm protocol.
    pub package: String,
    /// Which of its versions the publisher ships with which releases: a range of releases, and the
    /// range of the package's versions.
    #[serde(default)]
    pub versions: Vec<Shipped>,
    /// The name under `engines` in the package's metadata whose range has to cover a release that
    /// no entry of `versions` does.
    pub engine: Option<String>,
    /// The folder of the install that it is unpacked into.
    pub folder: String,
    /// Links to its programs: the link's path in the install, and the program's in the package.
    pub programs: BTreeMap<String, String>,
}

/// Which versions of a companion come with which releases.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Shipped {
    /// The releases.
    pub releases: Range,
    /// The versions of the package.
    pub ship: Range,
}

impl Companion {
    /// The companion of which a catalog or a lock has just one version.
    pub fn of_build(known: &BuildCompanion) -> Companion {
        Companion {
            package: known.package.clone(),
            versions: Vec::new(),
            engine: None,
            folder: known.folder.clone(),
            programs: known.programs.clone(),
        }
    }

    /// The paths in an install or in the package that it names.
    fn paths(&self) -> impl Iterator<Item = &String> {
        let programs = self
            .programs
            .iter()
            .flat_map(|(link, program)| [link, program]);
        [&self.folder].into_iter().chain(programs)
    }

    /// A path that leads out of the install or the package, where it names one.
    pub fn path_outside(&self) -> Option<&str> {
        let mut paths = self.paths().map(String::as_str);
        paths.find(|path| !is_inside(path))
    }

    /// The versions of the package that its publisher ships with this release, where that is known.
    pub fn shipped_with(&self, release: &Version) -> Option<&Range> {
        // A candidate of a release has what the release has.
        let release = release.to_final();
        let known = self.versions.iter();
        let shipped = known
            .into_iter()
            .find(|one| one.releases.contains(&release));
        shipped.map(|one| &one.ship)
    }
}

fn taken() -> bool {
    true
}

impl SourceDefinition {
    /// A source of this name and kind, of which nothing else is special.
    pub fn new(name: &str, kind: SourceKind) -> SourceDefinition {
        SourceDefinition {
            name: name.to_owned(),
            repack: false,
            fallback: false,
            versions: VersionSpellings::default(),
            only: None,
            pre_releases: true,
            layout: ArchiveLayout::default(),
            companions: Vec::new(),
            kind,
        }
    }

    /// A name for what is kept of the source: another one as soon as anything here is changed, so
    /// that nothing of another address, package or key is taken for it. `said` is what else says where
    /// the source is.
    pub fn id(&self, said: &str) -> String {
        let text = serde_json::to_string(&(self, said)).expect("texts and numbers serialise");
        format!("{}-{:016x}", self.name, fingerprint(text.as_bytes()))
    }

    /// What of its archives becomes the install, with what is usual filled in; what wheels have for
    /// their own tools does not (PEP 427, "The .dist-info directory").
    pub fn archive_layout(&self) -> ArchiveLayout {
        let mut layout = self.layout.clone();
        if layout.folder.is_none() && layout.root_with.is_none() {
            layout.strip_folders.get_or_insert(1);
        }
        if matches!(self.kind, SourceKind::Wheels { .. }) {
            layout.leave_out.push("*.dist-info".to_owned());
        }
        layout
    }

    /// Whether this version is taken from it.
    pub fn takes(&self, version: &Version) -> bool {
        (self.pre_releases || !version.is_pre_release())
            && (self.only.as_ref()).is_none_or(|only| only.contains(&version.to_final()))
    }

    /// Fails at a value that cannot be used.
    pub(super) fn check(&self) -> Result<(), DefinitionError> {
        if self.kind.is_catalog() {
            let takes_all = self.only.is_none() && self.pre_releases;
            let plain = self.versions.patterns().len() == 0 && takes_all && !self.repack;
            let expected =
                "a catalog of ours says by itself which versions it has and what was repacked";
            check(plain, "sources.name", &self.name, expected)?;
        }
        if let Some((pattern, expected)) = self.versions.fault() {
            check(false, "sources.versions", pattern.as_str(), expected)?;
        }
        let expected =
            "the address of a document or repository, or the path of a folder, is expected";
        for address in self.kind.addresses() {
            check(
                !address.trim().is_empty(),
                "sources.address",
                address,
                expected,
            )?;
        }
        self.layout.check()?;
        for companion in &self.companions {
            for path in companion.paths() {
                check(is_inside(path), "sources.companions", path, INSIDE)?;
            }
            let good = companion.engine.is_some() || !companion.versions.is_empty();
            let expected = "a table of versions or an engine has to say which version is added";
            check(
                good,
                "sources.companions.package",
                &companion.package,
                expected,
            )?;
        }
        self.kind.check()
    }
}

/// Whether a text is the address of a repository in a registry of containers, or a prefix of some.
pub fn is_repository(text: &str) -> bool {
    text.starts_with("oci://") || text.starts_with("oci+http://")
}

/// A short name for bytes that is the same whatever built this program: FNV-1a with 64 bits
/// (draft-eastlake-fnv, §2). It keeps different things apart, and guards against nobody.
pub fn fingerprint(bytes: &[u8]) -> u64 {
    let step = |hash: u64, byte: &u8| (hash ^ u64::from(*byte)).wrapping_mul(0x100_0000_01b3);
    bytes.iter().fold(0xcbf2_9ce4_8422_2325, step)
}

impl SourceKind {
    /// The publisher of its releases; a catalog of ours names its publishers itself, and may have none here.
    pub fn publisher(&self) -> Option<&str> {
        match self {
            SourceKind::Catalog { publisher, .. } | SourceKind::Oci { publisher, .. } => {
                publisher.as_deref()
            }
            SourceKind::ReleaseList { publisher, .. }
            | SourceKind::Npm { publisher, .. }
            | SourceKind::Wheels { publisher, .. }
            | SourceKind::Folder { publisher, .. }
            | SourceKind::Table { publisher, .. }
            | SourceKind::Maven { publisher, .. }
            | SourceKind::Facts { publisher, .. } => Some(publisher),
            SourceKind::Json(source) => Some(&source.publisher),
        }
    }

    /// Whether it is a catalog of ours, which tells publishers, lines and channels.
    pub fn is_catalog(&self) -> bool {
        matches!(self, SourceKind::Catalog { .. } | SourceKind::Oci { .. })
    }

    /// The minisign public key that what it says must be signed with, where there is one.
    pub fn key(&self) -> Option<&str> {
        match self {
            SourceKind::Catalog { key, .. } | SourceKind::Oci { key, .. } => key.as_deref(),
            _ => None,
        }
    }

    /// Whether it has builds, and not only what is known of them.
    pub fn has_builds(&self) -> bool {
        !matches!(self, SourceKind::Facts { .. })
    }

    /// Whether it is read from a folder of this machine.
    pub fn is_local(&self) -> bool {
        let is_web = |address: &str| {
            let schemes = ["http://", "https://"];
            is_repository(address) || schemes.iter().any(|scheme| address.starts_with(scheme))
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
            }
            | SourceKind::Table {
                address, mirrors, ..
            } => (Some(address), mirrors),
            SourceKind::Oci { address, .. } => (Some(address), &[]),
            SourceKind::Json(source) => (Some(&source.address), &[]),
            SourceKind::Maven { address, .. } => (address.as_ref(), &[]),
            SourceKind::Npm { .. } | SourceKind::Wheels { .. } | SourceKind::Facts { .. } => {
                (None, &[])
            }
        };
        first.into_iter().chain(others).map(String::as_str)
    }

    /// Has it read from `address` instead; says whether it is of a kind that has an address.
    pub fn move_to(&mut self, address: &str) -> bool {
        match self {
            SourceKind::Catalog { address: at, .. }
            | SourceKind::Oci { address: at, .. }
            | SourceKind::ReleaseList { address: at, .. }
            | SourceKind::Folder { address: at, .. }
            | SourceKind::Table { address: at, .. } => {
                address.clone_into(at);
                true
            }
            SourceKind::Json(source) => {
                address.clone_into(&mut source.address);
                true
            }
            SourceKind::Maven { address: at, .. } => {
                *at = Some(address.to_owned());
                true
            }
            SourceKind::Npm { .. } | SourceKind::Wheels { .. } | SourceKind::Facts { .. } => false,
        }
    }

    /// Has what it says be signed with this key; says whether it is of a kind that can be signed.
    pub fn sign_with(&mut self, public: &str) -> bool {
        match self {
            SourceKind::Catalog { key, .. } | SourceKind::Oci { key, .. } => {
                *key = Some(public.to_owned());
                true
            }
            _ => false,
        }
    }

    /// Fails at a value that names no file where one is expected.
    fn check(&self) -> Result<(), DefinitionError> {
        match self {
            SourceKind::Catalog { .. } | SourceKind::Wheels { .. } | SourceKind::Npm { .. } => {
                Ok(())
            }
            SourceKind::Oci { address, .. } => {
                let expected = "a repository such as oci://HOST/NAME is expected";
                check(is_repository(address), "sources.address", address, expected)
            }
            SourceKind::ReleaseList {
                checksums,
                archives,
                ..
            } => check_release_list(checksums, archives),
            SourceKind::Folder {
                pattern,
                platforms,
                checksums,
                ..
            } => {
                let good = is_plain_file_name(checksums);
                let expected = "a file's name without a folder is expected";
                check(good, "sources.checksums", checksums, expected)?;
                check_archive_names(pattern, platforms)
            }
            SourceKind::Table {
                pattern, platforms, ..
            } => check_archive_names(pattern, platforms),
            SourceKind::Json(source) => source.check(),
            SourceKind::Maven {
                artifact,
                classifier,
                extension,
                ..
            } => check_artifact(artifact, classifier.as_deref(), extension),
            SourceKind::Facts {
                package,
                releases,
                lines,
                ..
            } => {
                let good = releases.is_some() || lines.is_some();
                let expected = "the file of its releases or of its lines is needed";
                check(good, "sources.package", package, expected)
            }
        }
    }
}

/// Fails at a checksum list or an archive of a release list that is no relative path.
fn check_release_list(
    checksums: &str,
    archives: &BTreeMap<Platform, IndexedArchive>,
) -> Result<(), DefinitionError> {
    let versioned = |text: &Template| {
        text.places().next().is_some()
            && text.places().all(|place| place == "version")
            && is_file_inside(text.as_str())
    };
    let expected = "a relative path is expected";
    check(
        is_file_inside(checksums),
        "sources.checksums",
        checksums,
        expected,
    )?;
    let expected = "a relative path with {version} is expected";
    for file in archives.values().flat_map(|archive| &archive.files) {
        check(
            versioned(file),
            "sources.archives.files",
            file.as_str(),
            expected,
        )?;
    }
    Ok(())
}

/// Fails at what names no artifact of a Maven repository.
fn check_artifact(
    artifact: &str,
    classifier: Option<&str>,
    extension: &str,
) -> Result<(), DefinitionError> {
    let is_part = |text: &str| is_plain_file_name(text) && !text.starts_with('.');
    let parts = artifact.split_once(':');
    let good = parts.is_some_and(|(group, name)| is_part(group) && is_part(name));
    let expected = "a group and a name are expected, such as org.example:board";
    check(good, "sources.artifact", artifact, expected)?;
    let expected = "letters, digits, '.', '_' and '-' are expected";
    for (key, text) in [
        ("sources.classifier", classifier.unwrap_or("bin")),
        ("sources.extension", extension),
    ] {
        check(is_part(text), key, text, expected)?;
    }
    Ok(())
}

/// Fails at a pattern that tells no version, or not which of several platforms a name is for.
fn check_archive_names(
    pattern: &Template,
    platforms: &BTreeMap<Platform, String>,
) -> Result<(), DefinitionError> {
    let good = pattern.has_places("version", &["platform"]) && is_plain_file_name(pattern.as_str());
    let expected = "a file's name with {version} once is expected";
    check(good, "sources.pattern", pattern.as_str(), expected)?;
    let names_platform = pattern.places().any(|place| place == "platform");
    let good = !platforms.is_empty() && (platforms.len() == 1 || names_platform);
    let expected = "with several platforms, the pattern needs {platform}";
    check(good, "sources.pattern", pattern.as_str(), expected)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(r#""#, "orache/bin/orache", Some("bin/orache"))]
    #[case(r#""#, "orache", None)]
    #[case(r#"strip-folders = 0"#, "bin/orache", Some("bin/orache"))]
    #[case(
        r#"folder = "orache_bin/runtime""#,
        "orache_bin/runtime/bin/orache",
        Some("bin/orache")
    )]
    #[case(r#"folder = "orache_bin/runtime""#, "orache_bin/__init__.py", None)]
    #[case(r#"folder = "orache_bin/runtime""#, "orache_bin/runtime", None)]
    #[case(r#"links = { "bin/reed" = "lib/reed" }"#, "orache/bin/reed", None)]
    #[case(
        r#"leave-out = ["*.dist-info", "__init__.py"]"#,
        "orache-2.6.dist-info/RECORD",
        None
    )]
    #[case(
        r#"leave-out = ["*.dist-info", "__init__.py"]"#,
        "orache/__init__.py",
        None
    )]
    #[case(
        r#"leave-out = ["*.dist-info", "__init__.py"]"#,
        "orache/lib/__init__.py",
        Some("lib/__init__.py")
    )]
    fn a_layout_says_what_becomes_the_install(
        #[case] layout: &str,
        #[case] entry: &str,
        #[case] expected: Option<&str>,
    ) {
        let layout: ArchiveLayout = toml::from_str(layout).unwrap();
        let names: Vec<&str> = entry.split('/').collect();
        let place = layout.place(&names).map(|names| names.join("/"));
        assert_eq!(place.as_deref(), expected);
    }
}
