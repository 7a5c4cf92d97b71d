//! An install to be made: everything that it takes, so that it can be made on a thread of its own.

use std::collections::VecDeque;
use std::num::NonZeroU16;
use std::path::PathBuf;
use std::sync::Arc;

use jiff::Timestamp;
use vshelf_core::catalog::{Build, BuildCompanion, Checksum, Release, Repack};
use vshelf_core::definition::{Companion, SourceDefinition};
use vshelf_core::lock_file::LockedRelease;
use vshelf_core::packages::Package;
use vshelf_core::{Definition, Key};
use vshelf_shelf::Shelf;
use vshelf_shelf::store::Durability;
use vshelf_sources::registries::UserSettings;
use vshelf_sources::{Archive, Transport};

use super::allowed;
use super::last_build::last_build;
use crate::error::Error;
use crate::events::LastBuild;
use crate::locking;
use crate::runtime::Runtime;

/// An install to be made.
#[derive(Clone, Debug)]
pub struct InstallJob {
    /// What the runtime is.
    pub definition: Definition,
    /// The source that has the release.
    pub source: SourceDefinition,
    /// The release.
    pub release: Release,
    /// Its builds for this platform, best first.
    pub builds: Vec<Build>,
    /// What other sources of the publisher offer of it.
    others: VecDeque<Offer>,
    /// The sources whose offers came to nothing.
    tried: Vec<String>,
    /// The key that it gets.
    pub key: Key,
    /// The selector that means just it.
    selector: String,
    /// What is done otherwise than usual.
    pub options: JobOptions,
    /// The digest that the archive must have, where it is known from before.
    pub expected_digest: Option<String>,
    pub(super) shelf: Shelf,
    pub(super) transport: Transport,
    pub(super) registries: UserSettings,
    /// The folder of partial downloads.
    pub(super) archives: PathBuf,
    /// Where builds from source are under way.
    pub(super) builds_folder: PathBuf,
    pub(super) durability: Durability,
    /// When it was asked for.
    pub(super) now: Timestamp,
    /// The command that asked for it, as the history numbers commands.
    pub(super) command: String,
    /// Whether it is still made as a lock says, and no source was asked for it yet.
    pub(super) is_as_locked: bool,
    /// The packages of registries that a lock has for it.
    pub(super) locked_companions: Vec<BuildCompanion>,
    /// The packages that are installed into it when it is new.
    pub always: Vec<Package>,
    /// What the last build of this runtime from source needed here, where this is going to be one.
    pub(super) last_build: Option<LastBuild>,
}

/// What is done otherwise than usual.
#[derive(Clone, Copy, Debug, Default)]
pub struct JobOptions {
    /// It is kept even if it does not start.
    pub keep_broken: bool,
    /// It is fetched even if it is on the shelf, and replaces what is there.
    pub again: bool,
    /// It is built from source, even where a build is published.
    pub build: bool,
    /// How many things a build from source does at a time, where cores and memory do not decide.
    pub jobs: Option<NonZeroU16>,
}

impl InstallJob {
    /// The job of installing a release of this runtime from the catalog that is loaded; nothing is
    /// asked or made yet.
    pub fn new(
        runtime: &Runtime<'_>,
        release: &Release,
        options: JobOptions,
    ) -> Result<InstallJob, Error> {
        allowed::check_version(runtime, &release.version)?;
        let mut offers = VecDeque::from(offers(runtime, release)?);
        if options.build {
            for offer in &mut offers {
                offer.builds.retain(|build| build.platform.is_source());
            }
            offers.retain(|offer| !offer.builds.is_empty());
        }
        let first = offers.pop_front();
        let Offer { source, builds } = first.ok_or_else(|| match options.build {
            true => Error::NothingToBuild {
                title: format!("{} {}", runtime.definition.title, release.version),
            },
            false => Error::CatalogChanged,
        })?;
        let job = InstallJob::of(runtime, release, options, Offer { source, builds }, offers)?;
        Ok(job.with_companions_of_catalog())
    }

    /// Has it get the packages that the catalog itself has for its builds, in these versions.
    fn with_companions_of_catalog(mut self) -> InstallJob {
        let known = self.builds.iter().flat_map(|build| &build.companions);
        self.locked_companions = known.cloned().collect();
        self.with_locked_companions()
    }

    /// Has it get each package that is locked, whatever its source says.
    fn with_locked_companions(mut self) -> InstallJob {
        for locked in &self.locked_companions {
            let mut known = self.source.companions.iter();
            if !known.any(|known| known.package == locked.package) {
                self.source.companions.push(Companion::of_build(locked));
            }
        }
        self
    }

    /// The job of installing a locked release: from where it was when it was locked, and with the digest that
    /// it had.
    pub fn locked(
        runtime: &Runtime<'_>,
        locked: &LockedRelease,
        options: JobOptions,
    ) -> Result<InstallJob, Error> {
        let archive = locking::fitting_archive(runtime, locked)?;
        if archive.platform.is_source() {
            locking::check_patches(runtime, locked)?;
        }
        let source = runtime.definition.source(&archive.source);
        let source = source.ok_or_else(|| Error::LockedSource {
            title: runtime.title_of(&locked.key()),
            source_name: archive.source.clone(),
            runtime: runtime.name().to_owned(),
        })?;
        let build = Build {
            size: archive.size,
            source: Some(archive.source.clone()),
            repack: source.repack.then_some(Repack { date: None }),
            ..Build::new(
                archive.platform.clone(),
                archive.address.clone(),
                Checksum::Digest(archive.digest.clone()),
            )
        };
        let release = Release {
            version: locked.version.clone(),
            publisher: locked.publisher.as_str().into(),
            date: None,
            security: false,
            withdrawn: None,
            platforms: Arc::new([archive.platform.clone()]),
        };
        allowed::check_version(runtime, &release.version)?;
        allowed::check_source(runtime, &release, source)?;
        let offer = Offer {
            source: source.clone(),
            builds: vec![build],
        };
        let job = InstallJob::of(runtime, &release, options, offer, VecDeque::new())?;
        let job = InstallJob {
            expected_digest: Some(archive.digest.to_string()),
            is_as_locked: true,
            locked_companions: locked.companions.clone(),
            always: Package::all_named(&locked.packages),
            ..job
        };
        Ok(job.with_locked_companions())
    }

    /// The job of installing a release from this offer, or else from one of the others.
    fn of(
        runtime: &Runtime<'_>,
        release: &Release,
        options: JobOptions,
        Offer { source, builds }: Offer,
        others: VecDeque<Offer>,
    ) -> Result<InstallJob, Error> {
        let environment = runtime.environment();
        let is_source = builds.iter().any(|build| build.platform.is_source());
        let last_build = match is_source {
            true => last_build(runtime)?,
            false => None,
        };
        Ok(InstallJob {
            definition: runtime.definition.clone(),
            source,
            others,
            tried: Vec::new(),
            key: Key::new(&release.version, &release.publisher),
            selector: runtime.selector_for(&release.version, &release.publisher),
            release: release.clone(),
            builds,
            options,
            expected_digest: None,
            shelf: runtime.shelf.clone(),
            transport: environment.transport.clone(),
            registries: environment.registries(),
            archives: environment.folders()?.cache.join("archives"),
            builds_folder: environment.layout()?.builds(),
            durability: environment.settings()?.durability(),
            now: environment.now()?,
            command: environment.command_id()?,
            is_as_locked: false,
            locked_companions: Vec::new(),
            always: environment.settings()?.always_packages(runtime.name()),
            last_build,
        })
    }

    /// The build that an archive is of.
    pub fn build_of(&self, archive: &Archive) -> Option<&Build> {
        let address = archive.addresses.first().to_string();
        self.builds.iter().find(|build| build.address == address)
    }

    /// Turns to the next offer: one of the same bytes where there is one. Says whether there is any.
    pub fn turn_to_next(&mut self) -> bool {
        let is_same = |offer: &Offer| {
            let same = |build: &Build| has_digest(&offer.builds, &build.checksum.to_string());
            self.builds.iter().any(same)
        };
        let place = self.others.iter().position(is_same).unwrap_or(0);
        self.turn_to(place)
    }

    /// Turns to the offer of the source with this name, or, where there is none, to one of these bytes;
    /// says whether there is one.
    pub fn turn_to_source(&mut self, source: &str, digest: Option<&str>) -> bool {
        let has = |builds: &[Build]| digest.is_some_and(|digest| has_digest(builds, digest));
        if self.source.name == source {
            return true;
        }
        let named = self
            .others
            .iter()
            .position(|offer| offer.source.name == source);
        if named.is_none() && has(&self.builds) {
            return true;
        }
        let same = || self.others.iter().position(|offer| has(&offer.builds));
        match named.or_else(same) {
            Some(place) => self.turn_to(place),
            None => false,
        }
    }

    fn turn_to(&mut self, place: usize) -> bool {
        let Some(next) = self.others.remove(place) else {
            return false;
        };
        let before = std::mem::replace(&mut self.source, next.source);
        if !std::mem::take(&mut self.is_as_locked) {
            self.tried.push(before.name);
        }
        self.builds = next.builds;
        true
    }

    /// Takes over what is offered of its release by sources that were not tried yet.
    pub fn take_over(&mut self, offers: Vec<Offer>) {
        // Where a lock's address does not answer, its source may have the same bytes elsewhere by now.
        let is_new = |offer: &Offer| {
            let is_current = !self.is_as_locked && offer.source.name == self.source.name;
            !is_current && !self.tried.contains(&offer.source.name)
        };
        self.others = offers.into_iter().filter(is_new).collect();
    }

    /// The runtime and version, for people; the publisher too where it is not the main one.
    pub fn title(&self) -> String {
        format!("{} {}", self.definition.title, self.selector)
    }

    /// Whether it installs the same release as another.
    pub fn is_same(&self, other: &InstallJob) -> bool {
        self.key == other.key && self.definition.name == other.definition.name
    }
}

/// What one source offers of a release for this platform.
#[derive(Clone, Debug)]
pub struct Offer {
    /// The source.
    pub source: SourceDefinition,
    /// Its builds, best first.
    pub builds: Vec<Build>,
}

/// Whether one of these builds has this digest.
fn has_digest(builds: &[Build], digest: &str) -> bool {
    builds
        .iter()
        .any(|build| build.checksum.to_string() == digest)
}

/// What the sources of the catalog that is loaded offer of `release` for this platform, best first.
pub fn offers(runtime: &Runtime<'_>, release: &Release) -> Result<Vec<Offer>, Error> {
    let details = runtime.details(release)?;
    let mut offers: Vec<Offer> = Vec::new();
    for build in details.builds_for(runtime.environment().platform()) {
        let known = offers
            .iter_mut()
            .find(|offer| Some(&offer.source.name) == build.source.as_ref());
        if let Some(offer) = known {
            offer.builds.push(build.clone());
            continue;
        }
        let name = build.source.as_deref();
        let source = name.and_then(|name| runtime.definition.source(name));
        offers.push(Offer {
            source: source.ok_or(Error::CatalogChanged)?.clone(),
            builds: vec![build.clone()],
        });
    }
    let mut refused = None;
    offers.retain(|offer| {
        let checked = allowed::check_source(runtime, release, &offer.source);
        let is_allowed = checked.is_ok();
        refused = refused.take().or(checked.err());
        is_allowed
    });
    match refused {
        Some(error) if offers.is_empty() => Err(error),
        _ => Ok(offers),
    }
}
