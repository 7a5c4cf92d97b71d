//! What every source does: fetch a publisher's documents and give back one catalog.

use std::collections::HashMap;
use std::sync::Arc;

use vshelf_core::catalog::{Catalog, Details};
use vshelf_core::definition::{SourceDefinition, SourceKind};
use vshelf_core::{Platform, Version};

use crate::document::OwnCatalog;
use crate::npm::NpmPackages;
use crate::registry::{RegistryError, UserSettings};
use crate::transport::{Transport, TransportError, Validators};

/// A place that releases come from.
pub trait Source {
    /// Fetches and normalises, unless nothing changed since `known`.
    fn fetch(&self, transport: &Transport, known: &Validators) -> Result<Fetched, SourceError>;
}

/// What a source gave.
pub enum Fetched {
    /// Nothing changed.
    Unchanged,
    /// The catalog as it is now.
    Changed(Box<PublishedCatalog>),
}

/// A catalog with all its details, fresh from a source.
#[derive(Debug)]
pub struct PublishedCatalog {
    /// Lines and releases.
    pub catalog: Catalog,
    /// Builds and notes, by version and publisher.
    pub details: HashMap<(Version, Arc<str>), Details>,
    /// The address that was asked.
    pub address: String,
    /// What to ask with next time.
    pub validators: Validators,
}

/// Why a source gave no catalog.
#[derive(Debug, thiserror::Error)]
pub enum SourceError {
    /// It does not answer.
    #[error(transparent)]
    Transport(#[from] TransportError),
    /// It answers something else than a catalog.
    #[error("{address} is not a catalog: {problem}")]
    Document {
        /// What was read.
        address: String,
        /// What is wrong with it.
        problem: String,
    },
    /// The address of its registry is not known.
    #[error(transparent)]
    Registry(#[from] RegistryError),
}

/// The source that `definition` describes, for the runtime of this name.
pub fn open(
    runtime: &str,
    definition: &SourceDefinition,
    platform: &Platform,
    settings: &UserSettings,
) -> Box<dyn Source> {
    match &definition.kind {
        SourceKind::Catalog { address } => Box::new(OwnCatalog::new(runtime, address)),
        SourceKind::Npm {
            packages,
            schedule,
            publisher,
        } => Box::new(NpmPackages {
            runtime: runtime.to_owned(),
            publisher: publisher.clone(),
            packages: packages
                .iter()
                .filter(|(built_for, _)| built_for.runs_on(platform))
                .map(|(built_for, package)| (built_for.clone(), package.clone()))
                .collect(),
            schedule: schedule.clone(),
            settings: settings.clone(),
        }),
    }
}
