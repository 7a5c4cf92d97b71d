//! An install to be made: everything that it takes, so that it can be made on a thread of its own.

use std::path::PathBuf;

use jiff::Timestamp;
use vshelf_core::catalog::{Build, Release};
use vshelf_core::definition::SourceDefinition;
use vshelf_core::{Definition, Key};
use vshelf_shelf::Shelf;
use vshelf_shelf::store::Durability;
use vshelf_sources::Transport;
use vshelf_sources::registries::UserSettings;

use crate::error::Error;
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
    /// The key that it gets.
    pub key: Key,
    /// What is done otherwise than usual.
    pub options: JobOptions,
    /// The digest that the archive must have, where it is known from before.
    pub expected_digest: Option<String>,
    pub(super) shelf: Shelf,
    pub(super) transport: Transport,
    pub(super) registries: UserSettings,
    /// The folder of partial downloads.
    pub(super) archives: PathBuf,
    pub(super) durability: Durability,
    /// When it was asked for.
    pub(super) now: Timestamp,
    /// The command that asked for it, as the history numbers commands.
    pub(super) command: String,
}

/// What is done otherwise than usual.
#[derive(Clone, Copy, Debug, Default)]
pub struct JobOptions {
    /// It is kept even if it does not start.
    pub keep_broken: bool,
    /// It is fetched even if it is on the shelf, and replaces what is there.
    pub again: bool,
}

impl InstallJob {
    /// The job of installing a release of this runtime from the catalog that is loaded; nothing is
    /// asked or made yet.
    pub fn new(
        runtime: &Runtime<'_>,
        release: &Release,
        options: JobOptions,
    ) -> Result<InstallJob, Error> {
        let environment = runtime.environment();
        let (source, builds) = offered(runtime, release)?;
        Ok(InstallJob {
            definition: runtime.definition.clone(),
            source: source.clone(),
            key: runtime.key_for(&release.version, &release.publisher),
            release: release.clone(),
            builds,
            options,
            expected_digest: None,
            shelf: runtime.shelf.clone(),
            transport: environment.transport.clone(),
            registries: environment.registries(),
            archives: environment.folders()?.cache.join("archives"),
            durability: environment.settings()?.durability(),
            now: environment.now()?,
            command: environment.command_id()?,
        })
    }

    /// The runtime and version, for people; the publisher too where it is not the main one.
    pub fn title(&self) -> String {
        let (title, version) = (&self.definition.title, &self.release.version);
        match self.key.as_str() == version.as_str() {
            true => format!("{title} {version}"),
            false => format!("{title} {}/{version}", self.release.publisher),
        }
    }

    /// Whether it installs the same release as another.
    pub fn is_same(&self, other: &InstallJob) -> bool {
        self.key == other.key && self.definition.name == other.definition.name
    }
}

/// The source of the catalog that is loaded, and its builds of `release` for this platform, best
/// first.
pub fn offered<'r>(
    runtime: &'r Runtime<'_>,
    release: &Release,
) -> Result<(&'r SourceDefinition, Vec<Build>), Error> {
    let loaded = runtime.kept_catalog().ok_or(Error::CatalogChanged)?;
    let details = loaded
        .details(release)
        .map_err(vshelf_sources::LoadError::from)?;
    let builds = details.builds_for(&runtime.environment().platform);
    let source = runtime.loaded_source().ok_or(Error::CatalogChanged)?;
    Ok((source, builds.into_iter().cloned().collect()))
}
