//! The lock file of the project: the releases that its requirements came to, found and written.

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};

use tempfile::TempDir;
use vshelf_core::admission::Narrowing;
use vshelf_core::catalog::{Build, Checksum};
use vshelf_core::definition::{SourceDefinition, SourceKind};
use vshelf_core::lock_file::{
    LOCK_FILE, Lock, LockProblem, LockedArchive, LockedCompanion, LockedRelease,
};
use vshelf_core::requirement::{Problem, project_folder};
use vshelf_core::resolve::{Choice, Scope};
use vshelf_core::{Definition, Phase, Platform, Release, Version};
use vshelf_files::action::FileAction;
use vshelf_sources::SourceError;
use vshelf_sources::checksums::ChecksumLists;
use vshelf_sources::npm::NpmRegistry;

use crate::admission::{self, refused};
use crate::conclude::{Changed, conclude};
use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::events::Listener;
use crate::example_requirement::no_requirement;
use crate::foreign_file;
use crate::install::job::{Offer, check_contradiction};
use crate::ledger;
use crate::lock_check::{check_platform, check_stated};
use crate::project::{self, FoundRequirement};
use crate::runtime::published::Extent;
use crate::runtime::{Runtime, opening};
use crate::sourcing::source_of;

/// The options of a lock.
#[derive(Clone, Debug, Default)]
pub struct LockRequest {
    /// The runtimes whose newest releases are locked, whatever the lock file holds now. An empty list stands for
    /// all runtimes of the project; with `None`, locked releases stay if they meet the requirement.
    pub renew: Option<Vec<String>>,
    /// The platforms to lock besides those that are locked already. An empty list stands for the platforms in the
    /// catalog here and those with a separate package.
    pub platforms: Vec<Platform>,
}

/// A lock file that was written, or is as it was.
#[derive(Debug)]
pub struct WrittenLock {
    /// The file.
    pub file: PathBuf,
    /// Its entries, one per runtime.
    pub entries: Vec<LockEntry>,
    /// Whether its contents changed.
    pub changed: bool,
}

/// The entry of one runtime in a lock file.
#[derive(Debug)]
pub struct LockEntry {
    /// The runtime's title.
    pub title: String,
    /// The requirement of the project, without the runtime.
    pub required: String,
    /// The release that was locked before, if it differs.
    pub before: Option<String>,
    /// The release, as a selector.
    pub release: String,
    /// The phase of its line today.
    pub phase: Option<Phase>,
    /// The platforms whose archives are locked.
    pub platforms: Vec<Platform>,
}

/// The inputs that all locks of one command share.
struct LockRun<'r> {
    asked: &'r LockRequest,
    /// The folder of catalogs for other platforms.
    catalogs: TempDir,
    listener: &'r dyn Listener,
}

/// The requirement of the project here on one runtime.
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
    let run = LockRun {
        asked,
        catalogs: tempfile::tempdir()
            .map_err(file_error(&std::env::temp_dir(), FileAction::Write))?,
        listener,
    };
    let mut written = Vec::new();
    for (folder, all) in by_folder {
        let file = folder.join(LOCK_FILE);
        let before = lock_before(environment, &file, asked)?;
        let mut after = Lock::default();
        let mut entries = Vec::new();
        for mut wanted in all {
            let known = before.release_of(wanted.runtime.name());
            let release = wanted.lock(&run, known)?;
            entries.push(wanted.entry(known, &release));
            after.put(release);
        }
        let text = after.write();
        let changed = fs::read_to_string(&file).ok().as_ref() != Some(&text);
        if changed {
            foreign_file::write(environment, &file, &text)?;
            conclude(environment, Changed::Requirements)?;
        }
        written.push(WrittenLock {
            file,
            entries,
            changed,
        });
    }
    Ok(written)
}

/// Fails if a requirement of the project here is not locked for this platform, or if a lock contradicts what
/// sources state. They are asked if nothing is known here.
pub fn check(environment: &Environment) -> Result<Vec<PathBuf>, Error> {
    let mut files = Vec::new();
    for (folder, all) in wanted(environment)? {
        let file = folder.join(LOCK_FILE);
        for mut wanted in all {
            let Some((_, Some(locked))) = project::installable(&wanted.runtime)? else {
                return Err(not_locked(&wanted.runtime, &wanted.found));
            };
            check_platform(&wanted.runtime, &locked)?;
            check_stated(&mut wanted.runtime, &locked)?;
        }
        files.push(file);
    }
    Ok(files)
}

/// The error that says that a requirement is not locked.
pub fn not_locked(runtime: &Runtime<'_>, found: &FoundRequirement) -> Error {
    Error::NotLocked {
        title: runtime.definition.title.clone(),
        file: found.place.file.clone(),
        required: found.what.to_string(),
    }
}

/// The requirements of the project here, by the folder of the file that states them.
fn wanted(environment: &Environment) -> Result<BTreeMap<PathBuf, Vec<Wanted<'_>>>, Error> {
    let mut by_folder: BTreeMap<PathBuf, Vec<Wanted<'_>>> = BTreeMap::new();
    let mut known = Vec::new();
    let (defined, broken) = opening::defined(environment)?;
    for runtime in defined {
        match project::required_unlocked(&runtime).into_stated()? {
            Some(found) => {
                let file = &found.place.file;
                let folder = project_folder(file).to_owned();
                by_folder
                    .entry(folder)
                    .or_default()
                    .push(Wanted { runtime, found });
            }
            None => known.push(runtime),
        }
    }
    if by_folder.is_empty() {
        return Err(broken.unwrap_or_else(|| no_requirement(environment, &known)));
    }
    Ok(by_folder)
}

/// The lock before this command. If every runtime is renewed, a file that cannot be read counts as empty, unless a
/// newer program wrote it.
fn lock_before(environment: &Environment, file: &Path, asked: &LockRequest) -> Result<Lock, Error> {
    let anew = asked.renew.as_ref().is_some_and(Vec::is_empty);
    let is_replaced = |error: &Error| {
        let Error::Requirement { error, .. } = error else {
            return false;
        };
        let problem = &error.problem;
        anew && matches!(problem, Problem::Lock(problem) if !matches!(problem, LockProblem::Newer(_)))
    };
    match project::read_lock(environment, file) {
        Err(error) if is_replaced(&error) => Ok(Lock::default()),
        read => Ok(read?.unwrap_or_default()),
    }
}

impl LockRequest {
    /// Whether the locked release stays.
    fn keeps(&self, wanted: &Wanted<'_>, locked: &LockedRelease) -> bool {
        let renew = self.renew.as_ref();
        let name = wanted.runtime.name();
        let is_renewed =
            renew.is_some_and(|all| all.is_empty() || all.iter().any(|renewed| renewed == name));
        let main = wanted.runtime.names().main_publisher();
        let request = &wanted.found.what;
        !is_renewed && locked.meets(request, main, wanted.runtime.published.outline())
    }

    /// Whether a lock has archives for every platform that is asked for.
    fn is_covered_by(&self, locked: &LockedRelease) -> bool {
        let has = |platform: &Platform| !locked.archives_for(platform).is_empty();
        self.platforms.iter().all(has)
    }
}

impl Wanted<'_> {
    /// The release to lock: the one that is locked, if it stays and has all archives that are asked for.
    fn lock(
        &mut self,
        run: &LockRun<'_>,
        before: Option<&LockedRelease>,
    ) -> Result<LockedRelease, Error> {
        let kept = before.filter(|before| run.asked.keeps(self, before));
        match kept.filter(|kept| run.asked.is_covered_by(kept)) {
            Some(kept) => {
                check_stated(&mut self.runtime, kept)?;
                Ok(LockedRelease {
                    required: self.found.what.to_string(),
                    ..kept.clone()
                })
            }
            None => self.release(run, before, kept),
        }
    }

    /// The report on a locked release.
    fn entry(&self, before: Option<&LockedRelease>, release: &LockedRelease) -> LockEntry {
        let names = self.runtime.names();
        let replaced = before.filter(|before| before.key() != release.key());
        LockEntry {
            title: self.runtime.definition.title.clone(),
            required: release.required.clone(),
            before: replaced.map(|before| names.selector_of(&before.key())),
            release: names.selector_of(&release.key()),
            phase: self.runtime.published.phase_of(&release.version),
            platforms: (release.archives.iter())
                .map(|archive| archive.platform.clone())
                .collect(),
        }
    }

    /// The release that the requirement resolves to now, or the one that was locked `before` if it is kept, with
    /// the archives of every platform: those that were locked, and those that are asked for or, if none is, all
    /// that the publisher serves.
    fn release(
        &mut self,
        run: &LockRun<'_>,
        before: Option<&LockedRelease>,
        kept: Option<&LockedRelease>,
    ) -> Result<LockedRelease, Error> {
        self.runtime
            .published
            .load_and_tell(Extent::Anew, run.listener)?;
        let (version, publisher) = self.choose(kept)?;
        // Every form of an archive is locked whose source answers. The others were asked already.
        let mut sources = self.runtime.definition.sources.iter();
        if sources.any(|source| source.fallback) {
            self.runtime.published.ask_every_source_of(&publisher)?;
        }
        let catalog = self.runtime.published.catalog();
        let release = catalog.release(&version, &publisher);
        let release = release.ok_or_else(|| Error::CatalogChanged {
            title: self.runtime.definition.title.clone(),
        })?;
        let archives = self.archives(run, before, release)?;
        Ok(LockedRelease {
            runtime: self.runtime.name().to_owned(),
            required: self.found.what.to_string(),
            companions: self.companions(release)?,
            packages: self.packages()?,
            patches: self.patches(&version, &archives),
            publisher,
            version,
            archives,
        })
    }

    /// The version and publisher of the locked release that is kept, or else of the one that the requirement resolves
    /// to now.
    fn choose(&self, kept: Option<&LockedRelease>) -> Result<(Version, String), Error> {
        let request = match kept {
            Some(kept) => kept.request(),
            None => project::as_request(&self.runtime, self.found.what.clone()),
        };
        let choosing = self.runtime.choosing();
        let Choice::Version(chosen) = choosing.resolve(&request, Scope::Published)? else {
            return Err(Error::SystemLock {
                file: self.found.place.file.clone(),
            });
        };
        let release = chosen.release.ok_or_else(|| Error::NotPublished {
            selector: request.to_string(),
        })?;
        admission::check_release(&self.runtime, release)?;
        Ok((release.version.clone(), release.publisher.to_string()))
    }

    /// The archives of a release for every platform to lock.
    fn archives(
        &self,
        run: &LockRun<'_>,
        before: Option<&LockedRelease>,
        release: &Release,
    ) -> Result<Vec<LockedArchive>, Error> {
        let found = archives_of(&self.runtime, release, run.listener)?;
        let platforms = self.platforms(run.asked, before, &release.publisher);
        let is_asked = |archive: &LockedArchive| {
            let runs_on = |platform: &Platform| archive.platform.runs_on(platform);
            run.asked.platforms.is_empty() || platforms.iter().any(runs_on)
        };
        let mut archives: Vec<LockedArchive> = found.into_iter().filter(is_asked).collect();
        let was_locked = |platform: &Platform| {
            let mut archives = before.into_iter().flat_map(|before| &before.archives);
            archives.any(|archive| archive.platform == *platform)
        };
        for platform in &platforms {
            let mut known = archives.iter();
            if known.any(|archive| archive.platform.runs_on(platform)) {
                continue;
            }
            match self.archives_on(run, platform, release) {
                Ok(found) => archives.extend(found),
                // The publisher may serve other releases for it.
                Err(_) if !run.asked.platforms.contains(platform) && !was_locked(platform) => {}
                Err(error) => {
                    return Err(Error::OnPlatform {
                        platform: platform.to_string(),
                        error: Box::new(error),
                    });
                }
            }
        }
        archives.sort_by(|a, b| {
            let order = a.platform.as_str().cmp(b.platform.as_str());
            order.then_with(|| a.digest.to_string().cmp(&b.digest.to_string()))
        });
        archives.dedup_by(|a, b| a.platform == b.platform && a.digest == b.digest);
        if archives.is_empty() {
            Err(Error::NotPublished {
                selector: release.version.to_string(),
            })
        } else {
            Ok(archives)
        }
    }

    /// The platforms to lock: those that are asked for and those that were locked before, or, if none is asked for, all
    /// with a separate package. Those in the catalog here need not be among them.
    fn platforms(
        &self,
        asked: &LockRequest,
        before: Option<&LockedRelease>,
        publisher: &str,
    ) -> Vec<Platform> {
        let mut platforms = asked.platforms.clone();
        let before = before.into_iter().flat_map(|before| &before.archives);
        platforms.extend(before.map(|archive| archive.platform.clone()));
        if asked.platforms.is_empty() {
            platforms.extend(self.platforms_of_packages(publisher));
        }
        let mut seen = HashSet::new();
        platforms.retain(|platform| seen.insert(platform.as_str().to_owned()));
        platforms
    }

    /// The platforms of the packages that a publisher's sources have one of for each platform. The catalog here
    /// has only those for this one.
    fn platforms_of_packages(&self, publisher: &str) -> Vec<Platform> {
        let kinds = self
            .runtime
            .definition
            .sources
            .iter()
            .map(|source| &source.kind);
        let mut platforms: Vec<Platform> = kinds
            .filter_map(|kind| match kind {
                SourceKind::Npm {
                    packages,
                    publisher: own,
                } if own == publisher => Some(packages.keys().cloned()),
                _ => None,
            })
            .flatten()
            .collect();
        platforms.sort_by(|a, b| a.as_str().cmp(b.as_str()));
        platforms.dedup();
        platforms
    }

    /// The archives of a release for a platform whose packages the catalog here does not have.
    fn archives_on(
        &self,
        run: &LockRun<'_>,
        platform: &Platform,
        release: &Release,
    ) -> Result<Vec<LockedArchive>, Error> {
        let (version, publisher) = (&release.version, &*release.publisher);
        let catalogs = run.catalogs.path().join(platform.as_str());
        let environment = self.runtime.environment();
        let environment = environment.on_platform(platform.clone(), catalogs);
        let mut definition = Definition::clone(&self.runtime.definition);
        definition.sources.retain(|source| {
            matches!(&source.kind, SourceKind::Npm { packages, publisher: own }
                if own == publisher && packages.keys().any(|one| one.runs_on(platform)))
        });
        let not_published = || Error::NotPublished {
            selector: version.to_string(),
        };
        if definition.sources.is_empty() {
            return Err(not_published());
        }
        let mut elsewhere = Runtime::open(&environment, definition)?;
        elsewhere.published.ask_every_source_of(publisher)?;
        let release = elsewhere.published.catalog().release(version, publisher);
        let release = release.ok_or_else(not_published)?;
        let mut found = archives_of(&elsewhere, release, run.listener)?;
        found.retain(|archive| archive.platform.runs_on(platform));
        Ok(found)
    }

    /// The packages from a registry that complete builds of the release, each in the version that an install would
    /// get now.
    fn companions(&self, release: &Release) -> Result<Vec<LockedCompanion>, Error> {
        let environment = self.runtime.environment();
        let registry = NpmRegistry::new(environment.registries());
        let details = self.runtime.published.details(release)?;
        let mut locked: Vec<LockedCompanion> = Vec::new();
        for known in details.builds.iter().flat_map(|build| &build.companions) {
            let companion = LockedCompanion {
                package: known.package.clone(),
                version: known.version.clone(),
                digest: known.digest.clone(),
            };
            if !locked.contains(&companion) {
                locked.push(companion);
            }
        }
        let has_builds = |source: &&SourceDefinition| {
            let mut builds = details.builds.iter();
            builds.any(|build| build.source.as_ref() == Some(&source.name))
        };
        let sources = self.runtime.definition.sources.iter().filter(has_builds);
        for companion in sources.flat_map(|source| &source.companions) {
            if locked
                .iter()
                .any(|known| known.package == companion.package)
            {
                continue;
            }
            match registry.fitting(&environment.transport, companion, &release.version) {
                Ok(found) => locked.push(LockedCompanion {
                    package: companion.package.clone(),
                    version: found.version,
                    digest: found.archive.digest,
                }),
                // Such a release is installed without it.
                Err(SourceError::NoCompanion { .. }) => {}
                Err(error) => return Err(error.into()),
            }
        }
        Ok(locked)
    }

    /// The exact versions of the packages that every new install gets by the company's settings. A person's own
    /// are not the project's.
    fn packages(&self) -> Result<Vec<String>, Error> {
        let settings = self.runtime.environment().settings()?;
        let packages = settings.company_packages(self.runtime.name()).into_iter();
        let exact = packages.filter(|package| package.version.is_some());
        Ok(exact.map(|package| package.spelled()).collect())
    }

    /// The digests of the patches that a source among these archives gets.
    fn patches(&self, version: &Version, archives: &[LockedArchive]) -> Vec<String> {
        let is_source = archives.iter().any(|archive| archive.platform.is_source());
        let section = self.runtime.definition.build.as_ref().filter(|_| is_source);
        let digests = section.map(|section| section.patch_digests(version));
        digests.unwrap_or_default()
    }
}

/// The archives of a release in the loaded catalog, on every platform, in each form that a source states a digest
/// for. The statements are written to the ledger.
fn archives_of(
    runtime: &Runtime<'_>,
    release: &Release,
    listener: &dyn Listener,
) -> Result<Vec<LockedArchive>, Error> {
    let environment = runtime.environment();
    let (version, publisher) = (&release.version, &release.publisher);
    let grounds = admission::grounds(runtime, version, publisher, Narrowing::Open)?;
    let details = runtime.published.details(release)?;
    let mut lists = ChecksumLists::default();
    let mut located: Vec<Build> = Vec::new();
    let mut statements = Vec::new();
    let mut failure = None;
    for build in &details.builds {
        let source = source_of(&runtime.definition, build)?;
        let is_same =
            |other: &Build| (&other.platform, &other.source) == (&build.platform, &build.source);
        if located.iter().any(is_same) {
            continue;
        }
        if let Err(refusal) = grounds.check_source(source) {
            let error = refused(&runtime.definition.title, &grounds, refusal);
            failure = failure.or(Some(error));
            continue;
        }
        // Builds that share a list are alternatives.
        let builds: Vec<&Build> = details
            .builds
            .iter()
            .filter(|other| is_same(other))
            .collect();
        match lists.locate(&environment.transport, &builds) {
            Ok((archive, build)) => {
                let offer = Offer::of(runtime, source, Vec::new())?;
                let now = environment.now()?;
                statements.push(ledger::statement(now, release, &offer, build, &archive));
                located.push(Build {
                    checksum: Checksum::Digest(archive.digest),
                    ..build.clone()
                });
            }
            Err(error) => failure = failure.or(Some(error.into())),
        }
    }
    check_contradiction(runtime, release, &located)?;
    ledger::note(
        &environment.layout()?,
        runtime.name(),
        &statements,
        listener,
    );
    match failure {
        Some(error) if located.is_empty() => Err(error),
        _ => Ok(statements
            .into_iter()
            .map(|statement| LockedArchive {
                platform: statement.platform,
                digest: statement.digest,
                size: statement.size,
            })
            .collect()),
    }
}
