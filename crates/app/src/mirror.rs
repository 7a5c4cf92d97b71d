//! Releases in another place, as files or in a registry of containers: a definition, a catalog and the archives.

use std::collections::{BTreeMap, HashSet};
use std::fmt;
use std::fs::File;
use std::path::{Path, PathBuf};

use toml_edit::{ArrayOfTables, DocumentMut, Item, Table};
use vshelf_core::catalog::Details;
use vshelf_core::definition::{ArchiveLayout, is_repository};
use vshelf_core::resolve::{Choice, Scope};
use vshelf_core::{Definition, Key, Phase, Platform, Release, Request};
use vshelf_files::action::FileAction;
use vshelf_shelf::packing::pack;
pub use vshelf_sources::PublishedCatalog;
pub use vshelf_sources::mirror::Arrival;
use vshelf_sources::mirror::{DOCUMENT, Mirror, Way, Writing};
use vshelf_sources::npm::NpmRegistry;
use vshelf_sources::oci::Repository;
use vshelf_sources::signature::Signer;
use vshelf_sources::{Archive, MirrorError, SourceError};

use crate::admission;
use crate::definitions;
use crate::environment::Environment;
use crate::error::{DefinitionProblem, Done, Error, file_error};
use crate::events::{Listener, TransferState};
use crate::install::first_start::glibc_here;
use crate::install::job::{Offer, offers};
use crate::install::transfer::TransferReport;
use crate::runtime::Runtime;
use crate::runtime::published::Extent;

/// What is to be mirrored.
#[derive(Clone, Debug)]
pub struct MirrorRequest {
    /// The releases.
    pub requests: Vec<Request>,
    /// Where they go.
    pub to: Destination,
    /// The file of the key that the catalog is signed with.
    pub sign_key: Option<PathBuf>,
    /// The platforms whose builds are taken; none for this one.
    pub platforms: Vec<Platform>,
    /// Whether every release that a request covers is taken, not only the newest.
    pub every: bool,
    /// Whether what was built here from source is shared as a build, in the place of the source.
    pub builds: bool,
}

/// The page for people of a runtime's mirror: of the catalog as it is written, and of the key that it is signed with.
pub type PageOf<'p> = &'p dyn Fn(&Runtime<'_>, &PublishedCatalog, Option<&str>) -> String;

/// Where a mirror is written to; each runtime has a place of its own below it.
#[derive(Clone, Debug)]
pub enum Destination {
    /// A folder.
    Folder(PathBuf),
    /// A prefix of a registry's repositories, such as `oci://gull.example/runtimes`.
    Registry(String),
}

impl Destination {
    /// Reads a path or the address of a registry.
    pub fn read(text: &str) -> Destination {
        match is_repository(text) {
            true => Destination::Registry(text.to_owned()),
            false => Destination::Folder(PathBuf::from(text)),
        }
    }
}

/// The place of one runtime's mirror.
#[derive(Clone, Debug)]
enum Place {
    Folder(PathBuf),
    Registry(Repository),
}

impl Place {
    fn of(destination: &Destination, runtime: &str) -> Result<Place, Error> {
        Ok(match destination {
            Destination::Folder(folder) => Place::Folder(folder.join(runtime)),
            Destination::Registry(prefix) => {
                let repository = Repository::below(prefix, runtime);
                Place::Registry(repository.map_err(SourceError::from)?)
            }
        })
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Folder(folder) => folder.display().fmt(f),
            Place::Registry(repository) => repository.fmt(f),
        }
    }
}

/// What mirroring one runtime resulted in.
#[derive(Debug)]
pub struct MirroredRuntime {
    /// The runtime's title.
    pub title: String,
    /// Its folder or repository.
    pub place: String,
    /// Where its definition is read from: a file beside the catalog, or the repository.
    pub definition: String,
    /// Whether it is in a registry.
    pub is_in_registry: bool,
    /// The public key that its catalog is signed with now.
    pub key: Option<String>,
    /// What was asked for, each build.
    pub builds: Vec<MirroredBuild>,
    /// How many releases the mirror has, in how many archives, of how many bytes.
    pub holds: (usize, usize, u64),
    /// Whether there is a signature of the catalog before, and none of this one.
    pub has_old_signature: bool,
}

/// One build of a mirror.
#[derive(Debug)]
pub struct MirroredBuild {
    /// The runtime's title and the version.
    pub title: String,
    /// The phase of its line today.
    pub phase: Option<Phase>,
    /// The platform.
    pub platform: Platform,
    /// The bytes of its archive, where they are known.
    pub size: Option<u64>,
    /// How it came into the mirror.
    pub arrival: Arrival,
}

/// What mirroring resulted in.
#[derive(Debug, Default)]
pub struct Mirrored {
    /// Each runtime that has something in the mirror.
    pub runtimes: Vec<MirroredRuntime>,
    /// What failed; everything else was done.
    pub errors: Vec<Error>,
}

/// Makes or brings up to date the mirrors that are asked for.
pub fn mirror(
    environment: &Environment,
    asked: &MirrorRequest,
    page: PageOf<'_>,
    listener: &dyn Listener,
) -> Result<Mirrored, Error> {
    let mut by_runtime: BTreeMap<String, Vec<Request>> = BTreeMap::new();
    for request in &asked.requests {
        let name = Runtime::of_request(environment, request)?.name().to_owned();
        by_runtime.entry(name).or_default().push(request.clone());
    }
    let signer = asked
        .sign_key
        .as_deref()
        .map(|file| signer(environment, file));
    let signer = signer.transpose()?;
    let mut mirrored = Mirrored::default();
    for (name, requests) in &by_runtime {
        let mut work = Work {
            environment,
            asked,
            name,
            place: Place::of(&asked.to, name)?,
            signer: signer.as_ref(),
            builds: Vec::new(),
            layout: None,
            errors: &mut mirrored.errors,
            page,
            listener,
        };
        let runtime = work.mirror(requests)?;
        mirrored.runtimes.extend(runtime);
    }
    Ok(mirrored)
}

/// The key in a file, whose password a variable may say.
fn signer(environment: &Environment, file: &Path) -> Result<Signer, Error> {
    let password = environment.variables().text("VSHELF_KEY_PASSWORD");
    let password = Some(password).filter(|password| !password.is_empty());
    let signer = Signer::read(file, password);
    Ok(signer.map_err(|problem| MirrorError::Key {
        path: file.to_owned(),
        problem,
    })?)
}

/// The mirror of one runtime, under way.
struct Work<'w> {
    environment: &'w Environment,
    asked: &'w MirrorRequest,
    name: &'w str,
    place: Place,
    signer: Option<&'w Signer>,
    builds: Vec<MirroredBuild>,
    /// What of the archives becomes an install: the same for a whole mirror.
    layout: Option<ArchiveLayout>,
    errors: &'w mut Vec<Error>,
    page: PageOf<'w>,
    listener: &'w dyn Listener,
}

impl Work<'_> {
    /// Makes or brings up to date the runtime's mirror; nothing where nothing is in it.
    fn mirror(&mut self, requests: &[Request]) -> Result<Option<MirroredRuntime>, Error> {
        let mut tree = self.open()?;
        let catalogs = tempfile::tempdir();
        let catalogs = catalogs.map_err(file_error(&std::env::temp_dir(), FileAction::Write))?;
        let own = [self.environment.platform().clone()];
        let platforms: &[Platform] = match self.asked.platforms.is_empty() {
            true => &own,
            false => &self.asked.platforms,
        };
        let mut title = String::new();
        for platform in platforms {
            title = self.collect(platform, requests, catalogs.path(), &mut tree)?;
        }
        let holds = tree.holds();
        if holds.0 == 0 {
            return Ok(None);
        }
        let layout = self.layout.take().unwrap_or_default();
        let key = self.signer.map(Signer::public_key);
        let text = definition_beside(
            self.environment,
            self.name,
            &layout,
            &self.place,
            key.as_deref(),
        )?;
        let runtime = Runtime::named(self.environment, Some(self.name))?;
        tree.write(&Writing {
            definition: &text,
            signer: self.signer,
            now: self.environment.now()?,
            page: &|published| (self.page)(&runtime, published, key.as_deref()),
            key_of: &|version, publisher| Key::new(version, publisher).as_str().to_owned(),
        })?;
        let (definition, has_signature) = self.definition();
        Ok(Some(MirroredRuntime {
            title,
            definition,
            builds: std::mem::take(&mut self.builds),
            holds: tree.holds(),
            has_old_signature: has_signature && key.is_none(),
            key,
            is_in_registry: matches!(self.place, Place::Registry(_)),
            place: self.place.to_string(),
        }))
    }

    /// Brings the archives for one platform. Returns the runtime's title.
    fn collect(
        &mut self,
        platform: &Platform,
        requests: &[Request],
        catalogs: &Path,
        tree: &mut Mirror,
    ) -> Result<String, Error> {
        let elsewhere;
        let on_platform = if *platform == *self.environment.platform() {
            self.environment
        } else {
            let catalogs = catalogs.join(platform.as_str());
            elsewhere = self.environment.on_platform(platform.clone(), catalogs);
            &elsewhere
        };
        let mut runtime = Runtime::named(on_platform, Some(self.name))?;
        runtime
            .published
            .load_and_tell(Extent::Anew, self.listener)?;
        tree.take_over(runtime.published.catalog());
        for release in self.wanted(&runtime, requests, platform) {
            match self.fetch(&runtime, release, tree) {
                Ok(build) => self.builds.push(build),
                Err(error) => self.errors.push(error),
            }
        }
        Ok(runtime.definition.title.clone())
    }

    fn open(&self) -> Result<Mirror, Error> {
        let mirror = match &self.place {
            Place::Folder(folder) => {
                Mirror::in_folder(&self.environment.transport, folder, self.name)?
            }
            Place::Registry(repository) => {
                let staging = self.environment.folders()?.cache.join("publishing");
                let staging = staging.join(self.name);
                let (transport, signs) = (&self.environment.transport, self.signer.is_some());
                Mirror::in_registry(transport, repository.clone(), &staging, self.name, signs)?
            }
        };
        Ok(mirror)
    }

    /// The place of the definition beside the mirror, and whether its catalog has a signature beside it.
    fn definition(&self) -> (String, bool) {
        match &self.place {
            Place::Folder(folder) => {
                let signature = folder.join(format!("{DOCUMENT}.minisig"));
                let definition = folder.join(format!("{}.toml", self.name));
                (definition.display().to_string(), signature.exists())
            }
            Place::Registry(repository) => (repository.to_string(), false),
        }
    }

    /// Notes which layout the archives of a source have: they share one in a mirror.
    fn check_layout(&mut self, tree: &Mirror, source: &str, layout: ArchiveLayout) -> Done {
        let known = match &self.layout {
            Some(layout) => Some(layout.clone()),
            None => layout_in(tree.definition()?),
        };
        match known {
            Some(known) if known != layout => Err(Error::OtherArchiveLayout {
                source_name: source.to_owned(),
                place: self.place.to_string(),
                selectors: self.asked.requests.iter().map(Request::to_string).collect(),
            }),
            _ => {
                self.layout = Some(layout);
                Ok(())
            }
        }
    }

    /// The releases that the requests mean on the runtime's platform, each once.
    fn wanted<'r>(
        &mut self,
        runtime: &'r Runtime<'_>,
        requests: &[Request],
        platform: &Platform,
    ) -> Vec<&'r Release> {
        let mut wanted: Vec<&Release> = Vec::new();
        for request in requests {
            match self.covered(runtime, request) {
                Ok(more) => wanted.extend(more),
                Err(error) => self.errors.push(Error::OnPlatform {
                    platform: platform.to_string(),
                    error: Box::new(error),
                }),
            }
        }
        let mut seen = HashSet::new();
        wanted.retain(|release| seen.insert((&release.version, &release.publisher)));
        wanted
    }

    fn covered<'r>(
        &self,
        runtime: &'r Runtime<'_>,
        request: &Request,
    ) -> Result<Vec<&'r Release>, Error> {
        if !self.asked.every {
            return match runtime.choosing().resolve(request, Scope::Published)? {
                Choice::Version(candidate) => Ok(candidate.release.into_iter().collect()),
                Choice::System => Err(Error::SystemMirror),
            };
        }
        let platform = runtime.environment().platform();
        let covered = runtime.choosing().covered(request, Scope::Published)?;
        let releases = covered.iter().filter_map(|candidate| candidate.release);
        Ok(releases
            .filter(|release| release.withdrawn.is_none() && release.runs_on(platform))
            .collect())
    }

    /// Fetches the archive of a release for the runtime's platform.
    fn fetch(
        &mut self,
        runtime: &Runtime<'_>,
        release: &Release,
        tree: &mut Mirror,
    ) -> Result<MirroredBuild, Error> {
        let environment = runtime.environment();
        let (transport, platform) = (&environment.transport, environment.platform());
        admission::check_release(runtime, release)?;
        let details = runtime.published.details(release)?;
        let offers = offers(runtime, release)?;
        let Offer { source, builds, .. } = offers.first().ok_or_else(|| Error::NotOffered {
            title: format!("{} {}", runtime.definition.title, release.version),
        })?;
        let is_source = builds.iter().all(|build| build.platform.is_source());
        if self.asked.builds && is_source {
            self.check_layout(tree, &source.name, ArchiveLayout::below(1))?;
            return share_build(runtime, release, &details, tree);
        }
        self.check_layout(tree, &source.name, source.archive_layout())?;
        let selector = runtime
            .names()
            .selector_for(&release.version, &release.publisher);
        let title = format!("{} {selector}", runtime.definition.title);
        let (archive, build) = Archive::locate(transport, &builds.iter().collect::<Vec<_>>())?;
        let size = archive.size;
        let mut reports = BothWays {
            listener: self.listener,
            title: format!("{title} for {platform}"),
            size,
            current: None,
        };
        let mut progress = |way, bytes, all| reports.tell(way, bytes, all);
        let mut build = build.clone();
        let registry = NpmRegistry::new(environment.registries());
        for companion in &source.companions {
            // Such a release is installed without it, from its own source as well.
            match registry.fitting(transport, companion, &release.version) {
                Err(SourceError::NoCompanion { .. }) => {}
                found => {
                    let brought = tree.bring_companion(companion, found?)?;
                    build.companions.push(brought);
                }
            }
        }
        let fetched = tree.bring((release, &details), &build, archive, &mut progress);
        reports.end();
        Ok(MirroredBuild {
            arrival: fetched?,
            phase: runtime.published.phase_of(&release.version),
            platform: build.platform.clone(),
            title,
            size,
        })
    }
}

/// Reports of an archive that is fetched and then sent on, one after the other.
struct BothWays<'l> {
    listener: &'l dyn Listener,
    title: String,
    /// The bytes to fetch, if the catalog states them.
    size: Option<u64>,
    current: Option<(Way, TransferReport<'l>)>,
}

impl BothWays<'_> {
    fn tell(&mut self, way: Way, bytes: u64, all: Option<u64>) {
        if (self.current.as_ref()).is_none_or(|(known, _)| *known != way) {
            self.end();
            let title = self.title.clone();
            let began = match (way, all) {
                (Way::Sending, Some(all)) => TransferReport::sending(self.listener, title, all),
                _ => TransferReport::begin(self.listener, title, self.size),
            };
            self.current = Some((way, began));
        }
        match (&self.current, way, all) {
            (Some((_, report)), Way::Sending, Some(all)) if bytes > 0 => {
                report.tell(TransferState::Sending(bytes, all));
            }
            (Some((_, report)), Way::Fetching, _) => report.tell(TransferState::Bytes(bytes, all)),
            _ => {}
        }
    }

    fn end(&mut self) {
        if let Some((_, report)) = self.current.take() {
            report.tell(TransferState::Dismissed);
        }
    }
}

/// Packs what was built of a release on this machine into a mirror.
fn share_build(
    runtime: &Runtime<'_>,
    release: &Release,
    details: &Details,
    tree: &mut Mirror,
) -> Result<MirroredBuild, Error> {
    let platform = runtime.environment().platform();
    let key = Key::new(&release.version, &release.publisher);
    let selector = runtime.names().key_as_typed(&key);
    let title = format!("{} {}", runtime.definition.title, release.version);
    let Some(install) = runtime.snapshot.install(&key) else {
        return Err(Error::NotBuilt { title, selector });
    };
    let Some(built) = &install.record.contents.built else {
        return Err(Error::NotBuiltHere { title, selector });
    };
    if built.place.is_some() {
        return Err(Error::BuiltForItsPlace { title });
    }
    let manifest = runtime.shelf.manifest(&key)?.unwrap_or_default();
    let folder = &install.folder;
    let differences = manifest
        .compare(folder)
        .map_err(file_error(folder, FileAction::Read))?;
    if let Some(difference) = differences.into_iter().next() {
        return Err(Error::ChangedSinceBuilt {
            title,
            path: difference.path,
            selector,
        });
    }
    let root = format!("{}-{}", runtime.name(), release.version);
    // What was linked with this C library starts with no older one, as far as anybody knows.
    let oldest_libc = glibc_here().filter(|_| platform.libc() == Some("gnu"));
    let mut write = |file: &File| pack(folder, &manifest, &root, file);
    let (size, arrival) = tree.pack((release, details), platform, oldest_libc, &mut write)?;
    Ok(MirroredBuild {
        title: format!(
            "{} {}",
            runtime.definition.title,
            runtime
                .names()
                .selector_for(&release.version, &release.publisher)
        ),
        phase: runtime.published.phase_of(&release.version),
        platform: platform.clone(),
        size: Some(size),
        arrival,
    })
}

/// The layout of the archives that a mirror has already, where its definition says so.
fn layout_in(definition: Option<String>) -> Option<ArchiveLayout> {
    let known = Definition::read(&definition?).ok()?;
    Some(known.sources.first()?.archive_layout())
}

/// The runtime's definition with the mirror as its only source.
fn definition_beside(
    environment: &Environment,
    name: &str,
    layout: &ArchiveLayout,
    place: &Place,
    signed_with: Option<&str>,
) -> Result<String, Error> {
    let (text, file) = definitions::text(environment.folders()?, name)?;
    let mut document: DocumentMut =
        text.parse()
            .map_err(|error: toml_edit::TomlError| Error::Definition {
                name: name.to_owned(),
                file,
                problem: DefinitionProblem::Syntax(error.message().to_owned()),
            })?;
    if let Some(mut first) = document.as_table_mut().key_mut("name") {
        let decor = first.leaf_decor_mut();
        decor.set_prefix(
            "# A mirror of Vivid Shelf; the catalog and its archives are beside this.\n",
        );
    }
    let mut source = Table::new();
    let (kind, address) = match place {
        Place::Folder(_) => ("catalog", DOCUMENT.to_owned()),
        Place::Registry(repository) => ("oci", repository.to_string()),
    };
    for (key, value) in [
        ("name", Some("mirror")),
        ("kind", Some(kind)),
        ("address", Some(&*address)),
        ("key", signed_with),
    ] {
        if let Some(value) = value {
            source.insert(key, toml_edit::value(value));
        }
    }
    if let Some(folders) = layout.strip_folders {
        source.insert("strip-folders", toml_edit::value(folders as i64));
    }
    if let Some(folder) = &layout.folder {
        source.insert("folder", toml_edit::value(folder));
    }
    if let Some(file) = &layout.root_with {
        source.insert("root-with", toml_edit::value(file));
    }
    if !layout.leave_out.is_empty() {
        let names: toml_edit::Array = layout.leave_out.iter().collect();
        source.insert("leave-out", toml_edit::value(names));
    }
    if !layout.links.is_empty() {
        let links: toml_edit::InlineTable = layout.links.iter().collect();
        source.insert("links", toml_edit::value(links));
    }
    let mut sources = ArrayOfTables::new();
    sources.push(source);
    document.insert("sources", Item::ArrayOfTables(sources));
    Ok(document.to_string())
}
