//! The lock file of the project: the releases that its requirements came to, found and written.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use vshelf_core::catalog::{Build, BuildCompanion};
use vshelf_core::lock_file::{LOCK_FILE, Lock, LockProblem, LockedArchive, LockedRelease};
use vshelf_core::requirement::Problem;
use vshelf_core::resolve::{Choice, Scope};
use vshelf_core::{Phase, Platform, Release};
use vshelf_files::atomic;
use vshelf_sources::npm::NpmRegistry;
use vshelf_sources::{Archive, SourceError};

use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::events::Listener;
use crate::install::allowed;
use crate::project::{self, FoundRequirement};
use crate::runtime::Runtime;

/// What is to be locked.
#[derive(Clone, Debug, Default)]
pub struct LockRequest {
    /// The runtimes whose newest releases are taken, whatever is locked now: all of the project where the list
    /// is empty, none where there is no list.
    pub renew: Option<Vec<String>>,
    /// The platforms whose archives are locked; those that this one's catalog has where none is given.
    pub platforms: Vec<Platform>,
}

/// A lock file that was written, or is as it was.
#[derive(Debug)]
pub struct WrittenLock {
    /// The file.
    pub file: PathBuf,
    /// What it holds.
    pub entries: Vec<LockEntry>,
    /// Whether it is another one now.
    pub changed: bool,
}

/// What a lock file holds of one runtime.
#[derive(Debug)]
pub struct LockEntry {
    /// The runtime's title.
    pub title: String,
    /// What is required.
    pub required: String,
    /// The release that was locked before, where that is another one.
    pub before: Option<String>,
    /// The release, as a selector.
    pub release: String,
    /// The phase of its line today.
    pub phase: Option<Phase>,
    /// The platforms whose archives are locked.
    pub platforms: Vec<Platform>,
}

/// What the project here requires of one runtime.
struct Wanted<'e> {
    runtime: Runtime<'e>,
    found: FoundRequirement,
}

/// Locks what the project here requires: what is locked and still meets it stays, unless that is to be renewed.
pub fn lock(
    environment: &Environment,
    asked: &LockRequest,
    listener: &dyn Listener,
) -> Result<Vec<WrittenLock>, Error> {
    let by_folder = wanted(environment)?;
    if let Some(renew) = &asked.renew {
        let is_wanted = |name: &&String| {
            let mut all = by_folder.values().flatten();
            !all.any(|wanted| wanted.runtime.name() == name.as_str())
        };
        if let Some(name) = renew.iter().find(is_wanted) {
            return Err(Error::NotRequired { name: name.clone() });
        }
    }
    let catalogs = tempfile::tempdir().map_err(file_error(&std::env::temp_dir(), "written"))?;
    let mut written = Vec::new();
    for (folder, all) in by_folder {
        let file = folder.join(LOCK_FILE);
        let before = lock_before(&file, asked)?;
        let mut after = Lock::default();
        let mut entries = Vec::new();
        for mut wanted in all {
            let known = before.release_of(wanted.runtime.name());
            let release = match known.filter(|known| asked.keeps(&wanted, known)) {
                Some(known) => LockedRelease {
                    required: wanted.found.requirement.request.to_string(),
                    ..known.clone()
                },
                None => wanted.release(asked, known, catalogs.path(), listener)?,
            };
            entries.push(LockEntry {
                title: wanted.runtime.definition.title.clone(),
                required: release.required.clone(),
                before: (known.filter(|known| known.key() != release.key()))
                    .map(|known| wanted.runtime.selector_of(&known.key())),
                release: wanted.runtime.selector_of(&release.key()),
                phase: wanted.runtime.phase_of(&release.version),
                platforms: (release.archives.iter())
                    .map(|archive| archive.platform.clone())
                    .collect(),
            });
            after.put(release);
        }
        let text = after.write();
        let changed = fs::read_to_string(&file).ok().as_ref() != Some(&text);
        if changed {
            atomic::write_shared(&file, text.as_bytes()).map_err(file_error(&file, "written"))?;
        }
        written.push(WrittenLock {
            file,
            entries,
            changed,
        });
    }
    Ok(written)
}

/// Fails where what the project here requires is not locked, with archives for this platform.
pub fn check(environment: &Environment) -> Result<Vec<PathBuf>, Error> {
    let mut files = Vec::new();
    for (folder, all) in wanted(environment)? {
        let file = folder.join(LOCK_FILE);
        for wanted in all {
            let locked = project::locked_in(&wanted.runtime, &file)?;
            let Some(locked) = locked else {
                return Err(not_locked(&wanted.runtime, &wanted.found));
            };
            fitting_archive(&wanted.runtime, &locked)?;
        }
        files.push(file);
    }
    Ok(files)
}

/// The error that says that a requirement is not locked.
pub fn not_locked(runtime: &Runtime<'_>, found: &FoundRequirement) -> Error {
    Error::NotLocked {
        title: runtime.definition.title.clone(),
        file: found.file.clone(),
        required: found.requirement.request.to_string(),
    }
}

/// The archive of a locked release that is for this platform: a build before a source.
pub fn fitting_archive<'l>(
    runtime: &Runtime<'_>,
    locked: &'l LockedRelease,
) -> Result<&'l LockedArchive, Error> {
    let host = runtime.environment().platform();
    let fitting = locked
        .archives
        .iter()
        .filter(|archive| archive.platform.runs_on(host));
    let best = fitting.min_by_key(|archive| archive.platform.order_on(host));
    best.ok_or_else(|| Error::LockedElsewhere {
        title: runtime.title_of(&locked.key()),
        platform: host.to_string(),
        runtime: runtime.name().to_owned(),
    })
}

/// What the project here requires, by the folder that says it.
fn wanted(environment: &Environment) -> Result<BTreeMap<PathBuf, Vec<Wanted<'_>>>, Error> {
    let mut by_folder: BTreeMap<PathBuf, Vec<Wanted<'_>>> = BTreeMap::new();
    let mut known = Vec::new();
    let (defined, broken) = Runtime::defined(environment)?;
    for runtime in defined {
        match project::find_unlocked_requirement(&runtime)? {
            Some(found) => {
                let folder = found.file.parent().unwrap_or(Path::new("/")).to_owned();
                by_folder
                    .entry(folder)
                    .or_default()
                    .push(Wanted { runtime, found });
            }
            None => known.push(runtime),
        }
    }
    if by_folder.is_empty() {
        return Err(broken.unwrap_or_else(|| project::no_requirement(&known)));
    }
    Ok(by_folder)
}

/// What a lock file held. Where all is locked anew, one that cannot be read is replaced, but for what a newer
/// program wrote.
fn lock_before(file: &Path, asked: &LockRequest) -> Result<Lock, Error> {
    let anew = asked.renew.as_ref().is_some_and(Vec::is_empty);
    let is_replaced = |error: &Error| {
        let Error::Requirement { error, .. } = error else {
            return false;
        };
        let problem = &error.problem;
        anew && matches!(problem, Problem::Lock(problem) if !matches!(problem, LockProblem::Newer(_)))
    };
    match project::read_lock(file) {
        Err(error) if is_replaced(&error) => Ok(Lock::default()),
        read => Ok(read?.unwrap_or_default()),
    }
}

impl LockRequest {
    /// Whether what is locked stays.
    fn keeps(&self, wanted: &Wanted<'_>, locked: &LockedRelease) -> bool {
        let renew = self.renew.as_ref();
        let name = wanted.runtime.name();
        let is_renewed =
            renew.is_some_and(|all| all.is_empty() || all.iter().any(|renewed| renewed == name));
        let has = |platform: &Platform| {
            let mut archives = locked.archives.iter();
            archives.any(|archive| archive.platform.runs_on(platform))
        };
        !is_renewed
            && locked.meets(
                &wanted.found.requirement.request,
                wanted.runtime.main_publisher(),
            )
            && self.platforms.iter().all(has)
    }
}

impl Wanted<'_> {
    /// The release that the requirement comes to now, with its archives.
    fn release(
        &mut self,
        asked: &LockRequest,
        before: Option<&LockedRelease>,
        catalogs: &Path,
        listener: &dyn Listener,
    ) -> Result<LockedRelease, Error> {
        self.runtime.load_and_tell(true, listener)?;
        let request = &self.found.requirement.request;
        let Choice::Version(chosen) = self.runtime.resolve(request, Scope::Published)? else {
            return Err(Error::SystemLock {
                file: self.found.file.clone(),
            });
        };
        let release = chosen.release.ok_or(Error::CatalogChanged)?;
        allowed::check_version(&self.runtime, &release.version)?;
        let mut archives = Vec::new();
        let mut platforms = asked.platforms.clone();
        if platforms.is_empty() {
            archives = archives_of(&self.runtime, release)?;
            // What was locked for another machine stays locked for it.
            let has = |platform: &Platform| {
                let mut all = archives.iter();
                all.any(|archive| archive.platform.runs_on(platform))
            };
            let known = before.into_iter().flat_map(|before| &before.archives);
            let known = known.map(|archive| archive.platform.clone());
            platforms.extend(known.filter(|platform| !has(platform)));
        }
        for platform in &platforms {
            let environment = self
                .runtime
                .environment()
                .on_platform(platform.clone(), catalogs.join(platform.as_str()));
            let mut elsewhere = Runtime::named(&environment, Some(self.runtime.name()))?;
            elsewhere.load_and_tell(true, listener)?;
            let on_platform = |error: Error| Error::OnPlatform {
                platform: platform.to_string(),
                error: Box::new(error),
            };
            let same = elsewhere
                .catalog()
                .release(&release.version, &release.publisher);
            let not_published = || Error::NotPublished {
                selector: release.version.to_string(),
            };
            let same = same.ok_or_else(|| on_platform(not_published()))?;
            let mut found = archives_of(&elsewhere, same).map_err(on_platform)?;
            found.retain(|archive| archive.platform.runs_on(platform));
            if found.is_empty() {
                return Err(on_platform(not_published()));
            }
            archives.extend(found);
        }
        archives.sort_by(|a, b| a.platform.as_str().cmp(b.platform.as_str()));
        archives.dedup_by(|a, b| a.platform == b.platform);
        Ok(LockedRelease {
            runtime: self.runtime.name().to_owned(),
            required: request.to_string(),
            version: release.version.clone(),
            publisher: release.publisher.to_string(),
            companions: self.companions(release, &archives)?,
            packages: self.packages()?,
            patches: self.patches(release, &archives),
            archives,
        })
    }

    /// The packages that belong to every install from the source of these archives.
    fn companions(
        &self,
        release: &Release,
        archives: &[LockedArchive],
    ) -> Result<Vec<BuildCompanion>, Error> {
        let environment = self.runtime.environment();
        let registry = NpmRegistry::new(environment.registries());
        let has_archives = |source: &str| archives.iter().any(|archive| archive.source == source);
        let sources = self.runtime.definition.sources.iter();
        // What a catalog has itself is not looked for elsewhere.
        let details = self.runtime.details(release)?;
        let of_catalog = details.builds.iter().flat_map(|build| &build.companions);
        let mut locked: Vec<BuildCompanion> = of_catalog.cloned().collect();
        locked.dedup();
        for companion in sources
            .filter(|source| has_archives(&source.name))
            .flat_map(|source| &source.companions)
        {
            match registry.fitting(&environment.transport, companion, &release.version) {
                Ok(found) => locked.push(BuildCompanion {
                    package: companion.package.clone(),
                    version: found.version,
                    digest: found.archive.digest.clone(),
                    address: found.archive.addresses.first().to_string(),
                    folder: companion.folder.clone(),
                    programs: companion.programs.clone(),
                }),
                // Such a release is installed without it, and that is told then.
                Err(SourceError::NoCompanion { .. }) => {}
                Err(error) => return Err(error.into()),
            }
        }
        Ok(locked)
    }

    /// The packages that every new install gets.
    fn packages(&self) -> Result<Vec<String>, Error> {
        let settings = self.runtime.environment().settings()?;
        let always = settings.always_packages(self.runtime.name());
        Ok(always.iter().map(|package| package.spelled()).collect())
    }

    /// The digests of the patches that a source among these archives gets.
    fn patches(&self, release: &Release, archives: &[LockedArchive]) -> Vec<String> {
        let is_source = archives.iter().any(|archive| archive.platform.is_source());
        let section = self.runtime.definition.build.as_ref().filter(|_| is_source);
        let digests = section.map(|section| section.patch_digests(&release.version));
        digests.unwrap_or_default()
    }
}

/// The archive of a release for each platform that the catalog has it for, from the first source that knows it.
fn archives_of(runtime: &Runtime<'_>, release: &Release) -> Result<Vec<LockedArchive>, Error> {
    let transport = &runtime.environment().transport;
    let details = runtime.details(release)?;
    let mut archives: Vec<LockedArchive> = Vec::new();
    let mut failure = None;
    for build in &details.builds {
        let name = build.source.as_deref();
        let source = name.and_then(|name| runtime.definition.source(name));
        let source = source.ok_or(Error::CatalogChanged)?;
        if archives
            .iter()
            .any(|known| known.platform == build.platform)
        {
            continue;
        }
        if let Err(error) = allowed::check_source(runtime, release, source) {
            failure = failure.or(Some(error));
            continue;
        }
        // Those of one list stand in for each other.
        let same =
            |other: &&Build| (&other.platform, &other.source) == (&build.platform, &build.source);
        let builds: Vec<&Build> = details.builds.iter().filter(same).collect();
        match Archive::locate(transport, &builds) {
            Ok(archive) => archives.push(LockedArchive {
                platform: build.platform.clone(),
                digest: archive.digest,
                size: archive.size,
                source: build.source.clone().unwrap_or_default(),
                address: archive.addresses.first().to_string(),
            }),
            Err(error) => failure = failure.or(Some(error.into())),
        }
    }
    match failure {
        Some(error) if archives.is_empty() => Err(error),
        _ => Ok(archives),
    }
}

/// Fails where a lock's patches are not those of the definition.
pub fn check_patches(runtime: &Runtime<'_>, locked: &LockedRelease) -> Done {
    let section = runtime.definition.build.as_ref();
    let now = section.map(|section| section.patch_digests(&locked.version));
    match now.unwrap_or_default() == locked.patches {
        true => Ok(()),
        false => Err(Error::OtherPatches {
            title: runtime.title_of(&locked.key()),
            runtime: runtime.name().to_owned(),
        }),
    }
}
