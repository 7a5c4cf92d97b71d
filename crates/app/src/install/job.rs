//! An install to be made: everything that it takes, so that it can be made on a thread of its own.

use std::collections::VecDeque;
use std::num::NonZeroU16;
use std::path::PathBuf;
use std::sync::Arc;

use jiff::Timestamp;
use vshelf_core::admission::{self, Admitted, Grounds, Narrowing, Origin, Refusal};
use vshelf_core::catalog::{Build, BuildCompanion, Checksum, Release};
use vshelf_core::definition::{Companion, SourceDefinition};
use vshelf_core::packages::Package;
use vshelf_core::{Definition, Key};
use vshelf_shelf::probe::Surroundings;
use vshelf_shelf::store::Durability;
use vshelf_shelf::{Layout, Shelf};
use vshelf_sources::checksums::ChecksumLists;
use vshelf_sources::registries::UserSettings;
use vshelf_sources::{Archive, Transport};

use super::last_build::last_build;
use crate::admission::{check, grounds, refused};
use crate::base::Base;
use crate::error::{Done, Error};
use crate::events::LastBuild;
use crate::outcome::{PlannedFetch, PlannedInstall};
use crate::runtime::Runtime;
use crate::sourcing::source_of;

/// An install to be made.
#[derive(Clone, Debug)]
pub struct InstallJob {
    /// What the runtime is.
    pub definition: Arc<Definition>,
    /// The release.
    pub release: Release,
    /// The offer that it is installed from.
    pub offer: Offer,
    /// The offers of other sources of the publisher.
    others: VecDeque<Offer>,
    /// The sources whose offers came to nothing.
    tried: Vec<String>,
    /// The key that it gets.
    pub key: Key,
    /// The selector that means just it.
    selector: String,
    /// Flags that change how it is installed.
    pub options: JobOptions,
    /// The facts by which the gate judges it.
    pub(super) grounds: Grounds,
    pub(super) shelf: Shelf,
    pub(super) layout: Layout,
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
    /// Whether it was on the shelf when it was planned.
    pub(super) was_there: bool,
    /// The packages that are installed into it when it is new.
    pub always: Vec<Package>,
    /// How many jobs a build from source runs at once, if the settings say so.
    pub(super) build_jobs: Option<NonZeroU16>,
    /// The runtime that it runs on, if it needs one; known when its turn comes.
    pub(super) base: Option<Base>,
    /// What the last build of this runtime from source needed here, where this is going to be one.
    pub(super) last_build: Option<LastBuild>,
}

/// Flags that change how an install runs.
#[derive(Clone, Copy, Debug, Default)]
pub struct JobOptions {
    /// It is kept even if it does not start.
    pub keep_broken: bool,
    /// It is fetched even if it is on the shelf, and replaces what is there.
    pub again: bool,
    /// It is built from source, even where a build is published.
    pub build: bool,
}

impl InstallJob {
    /// The job of installing a release of the loaded catalog. No source is asked yet.
    pub fn new(
        runtime: &Runtime<'_>,
        release: &Release,
        narrowing: Narrowing,
        options: JobOptions,
    ) -> Result<InstallJob, Error> {
        // A denied release is refused for that, whatever its sources.
        let grounds = grounds(runtime, &release.version, &release.publisher, narrowing)?;
        check(runtime, &grounds)?;
        InstallJob::of_offers(
            runtime,
            release,
            offers(runtime, release)?,
            grounds,
            options,
        )
    }

    /// The result of the job if it succeeds.
    pub(super) fn planned(&self) -> PlannedInstall {
        let build = self.offer.builds.first();
        let is_there = self.was_there && !self.options.again;
        PlannedInstall {
            title: self.title(),
            fetch: (!is_there).then(|| PlannedFetch {
                source: self.offer.source.name.clone(),
                size: build.and_then(|build| build.size),
                is_built: build.is_some_and(|build| build.platform.is_source()),
            }),
        }
    }

    /// The job of installing a release from the best of these offers. Offers with an accepted digest come first.
    pub fn of_offers(
        runtime: &Runtime<'_>,
        release: &Release,
        offers: Vec<Offer>,
        grounds: Grounds,
        options: JobOptions,
    ) -> Result<InstallJob, Error> {
        let mut others = in_order(offers, &grounds, options);
        let offer = others.pop_front().ok_or_else(|| {
            let title = format!("{} {}", runtime.definition.title, release.version);
            if options.build {
                Error::NothingToBuild { title }
            } else {
                Error::NotOffered { title }
            }
        })?;
        let environment = runtime.environment();
        let is_source = offer.builds.iter().any(|build| build.platform.is_source());
        let last_build = if is_source {
            last_build(runtime)?
        } else {
            None
        };
        Ok(InstallJob {
            definition: Arc::clone(&runtime.definition),
            offer,
            others,
            tried: Vec::new(),
            was_there: runtime.snapshot.install(&grounds.key()).is_some(),
            key: grounds.key(),
            selector: runtime
                .names()
                .selector_for(&release.version, &release.publisher),
            release: release.clone(),
            options,
            grounds,
            shelf: runtime.shelf.clone(),
            layout: environment.layout()?,
            transport: environment.transport.clone(),
            registries: environment.registries(),
            archives: environment.folders()?.cache.join("archives"),
            builds_folder: environment.layout()?.builds(),
            durability: environment.settings()?.durability(),
            now: environment.now()?,
            command: environment.command_id()?,
            build_jobs: environment.settings()?.build_jobs,
            always: environment.settings()?.always_packages(runtime.name()),
            base: None,
            last_build,
        })
    }

    /// What its program needs around it.
    pub(super) fn surroundings(&self) -> Surroundings {
        self.base
            .as_ref()
            .map(|base| base.surroundings.clone())
            .unwrap_or_default()
    }

    /// Locates the archive of the first build that the gate admits. The error is about the first build that
    /// it does not.
    pub fn locate(&self, builds: &[&Build]) -> Result<(Archive, Admitted), Error> {
        let mut lists = ChecksumLists::default();
        if self.grounds.accepted().is_none() {
            let (archive, _) = lists.locate(&self.transport, builds)?;
            let admitted = self.admit(&archive)?;
            return Ok((archive, admitted));
        }
        let mut first_error = None;
        for build in builds {
            let located = lists.locate(&self.transport, &[build]).map_err(Error::from);
            let admitted = located.and_then(|(archive, _)| {
                self.check_patches(build)?;
                Ok((self.admit(&archive)?, archive))
            });
            match admitted {
                Ok((admitted, archive)) => return Ok((archive, admitted)),
                // A digest that is not accepted says more than an archive that does not exist.
                Err(error) if matches!(error, Error::LockedOtherwise { .. }) => {
                    first_error = Some(error);
                }
                Err(error) => first_error = first_error.or(Some(error)),
            }
        }
        Err(first_error.unwrap_or_else(|| Error::NotOffered {
            title: self.title(),
        }))
    }

    /// Fails if a build from source would get other patches than those that are locked.
    fn check_patches(&self, build: &Build) -> Done {
        let section = self.definition.build.as_ref();
        let now = section.map(|section| section.patch_digests(&self.release.version));
        match self.grounds.lock() {
            Some(locked)
                if build.platform.is_source() && now.unwrap_or_default() != locked.patches =>
            {
                Err(Error::OtherPatches {
                    title: self.title(),
                    runtime: self.definition.name.clone(),
                })
            }
            _ => Ok(()),
        }
    }

    fn admit(&self, archive: &Archive) -> Result<Admitted, Error> {
        let admitted = self.grounds.admit(Origin::Source {
            source: &self.offer.source,
            stated: &archive.digest,
        });
        tracing::debug!(
            key = %self.key.as_str(),
            source = %self.offer.source.name,
            digest = %archive.digest,
            is_admitted = admitted.is_ok(),
            "judged an archive"
        );
        admitted.map_err(|refusal| self.refused(refusal))
    }

    /// The error of a refusal by the gate.
    pub fn refused(&self, refusal: Refusal) -> Error {
        refused(&self.definition.title, &self.grounds, refusal)
    }

    /// The packages from a registry that complete the builds of the offer: those that the source's definition
    /// declares, then those that its catalog has.
    pub fn companions(&self) -> Vec<Companion> {
        let mut declared = self.offer.source.companions.clone();
        for known in self.known_companions() {
            if !declared.iter().any(|one| one.package == known.package) {
                declared.push(Companion::of_build(known));
            }
        }
        declared
    }

    /// The packages that the source's catalog has for its builds, in one version each.
    pub(super) fn known_companions(&self) -> impl Iterator<Item = &BuildCompanion> {
        self.offer.builds.iter().flat_map(|build| &build.companions)
    }

    /// The build that an archive is of.
    pub fn build_of(&self, archive: &Archive) -> Option<&Build> {
        let address = archive.addresses.first().to_string();
        self.offer
            .builds
            .iter()
            .find(|build| build.address == address)
    }

    /// Turns to the next offer, preferably one of the same bytes. Returns whether there is any.
    pub fn turn_to_next(&mut self) -> bool {
        let is_same = |offer: &Offer| {
            let same = |build: &Build| has_digest(&offer.builds, &build.checksum.to_string());
            self.offer.builds.iter().any(same)
        };
        let place = self.others.iter().position(is_same).unwrap_or(0);
        self.turn_to(place)
    }

    /// Turns to the offer of the source with this name, or else to one of these bytes. Returns whether there
    /// is one.
    pub fn turn_to_source(&mut self, source: &str, digest: Option<&str>) -> bool {
        let has = |builds: &[Build]| digest.is_some_and(|digest| has_digest(builds, digest));
        if self.offer.source.name == source {
            return true;
        }
        let named = self
            .others
            .iter()
            .position(|offer| offer.source.name == source);
        if named.is_none() && has(&self.offer.builds) {
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
        let before = std::mem::replace(&mut self.offer, next);
        self.tried.push(before.source.name);
        true
    }

    /// Takes over the offers of sources that were not tried yet.
    pub fn take_over(&mut self, offers: Vec<Offer>) {
        let current = &self.offer.source.name;
        let is_new = |offer: &Offer| {
            let name = &offer.source.name;
            name != current && !self.tried.contains(name)
        };
        self.others = offers.into_iter().filter(is_new).collect();
    }

    /// The selector that means just its release.
    pub fn selector(&self) -> &str {
        &self.selector
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
    /// What identifies the source while its definition is unchanged.
    pub source_id: String,
    /// Its builds, best first.
    pub builds: Vec<Build>,
}

impl Offer {
    /// The offer of a source.
    pub fn of(
        runtime: &Runtime<'_>,
        source: &SourceDefinition,
        builds: Vec<Build>,
    ) -> Result<Offer, Error> {
        Ok(Offer {
            source_id: runtime.environment().catalogs()?.id_of(source),
            source: source.clone(),
            builds,
        })
    }
}

/// The offers that can be installed with these options, those with an accepted digest first.
fn in_order(mut offers: Vec<Offer>, grounds: &Grounds, options: JobOptions) -> VecDeque<Offer> {
    if options.build {
        for offer in &mut offers {
            offer.builds.retain(|build| build.platform.is_source());
        }
        offers.retain(|offer| !offer.builds.is_empty());
    }
    if let Some(accepted) = grounds.accepted() {
        let is_accepted = |offer: &Offer| {
            let mut accepted = accepted.iter();
            accepted.any(|digest| has_digest(&offer.builds, digest))
        };
        offers.sort_by_key(|offer| !is_accepted(offer));
    }
    offers.into()
}

/// Whether one of these builds has this digest.
fn has_digest(builds: &[Build], digest: &str) -> bool {
    builds
        .iter()
        .any(|build| build.checksum.to_string() == digest)
}

/// The offers of a release for this platform in the loaded catalog, best first. A source that a rule forbids has no
/// offer. It is an error if rules forbid all sources, or if two sources contradict each other about a file.
pub fn offers(runtime: &Runtime<'_>, release: &Release) -> Result<Vec<Offer>, Error> {
    let details = runtime.published.details(release)?;
    let mut offers: Vec<Offer> = Vec::new();
    for build in details.builds_for(runtime.environment().platform()) {
        let known = offers
            .iter_mut()
            .find(|offer| Some(&offer.source.name) == build.source.as_ref());
        if let Some(offer) = known {
            offer.builds.push(build.clone());
            continue;
        }
        let source = source_of(&runtime.definition, build)?;
        offers.push(Offer::of(runtime, source, vec![build.clone()])?);
    }
    let grounds = grounds(
        runtime,
        &release.version,
        &release.publisher,
        Narrowing::Open,
    )?;
    let mut refusal = None;
    offers.retain(|offer| match grounds.check_source(&offer.source) {
        Ok(()) => true,
        Err(error) => {
            refusal = refusal.take().or(Some(error));
            false
        }
    });
    if let Some(refusal) = refusal.filter(|_| offers.is_empty()) {
        return Err(refused(&runtime.definition.title, &grounds, refusal));
    }
    let builds = offers.iter().flat_map(|offer| &offer.builds).cloned();
    check_contradiction(runtime, release, &builds.collect::<Vec<_>>())?;
    Ok(offers)
}

/// Fails if two sources state different digests for one file of a release.
pub fn check_contradiction(runtime: &Runtime<'_>, release: &Release, builds: &[Build]) -> Done {
    let Some((one, other)) = admission::contradiction(builds) else {
        return Ok(());
    };
    let stated = |build: &Build| {
        let digest = match &build.checksum {
            Checksum::Digest(digest) => digest.to_string(),
            Checksum::Listed(list) => list.clone(),
        };
        (build.source.clone().unwrap_or_default(), digest)
    };
    Err(Error::SourcesContradict {
        title: format!("{} {}", runtime.definition.title, release.version),
        file: admission::file_name(&one.address).to_owned(),
        stated: [stated(one), stated(other)],
    })
}
