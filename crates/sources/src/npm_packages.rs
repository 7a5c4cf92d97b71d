//! A runtime whose builds are packages in a registry that speaks the npm protocol.
//!
//! One package a platform holds the builds; its metadata document lists the versions, each with a
//! tarball and its integrity. A further package may hold the support life of the lines.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use vshelf_core::catalog::{Build, Catalog, Checksum, Details, Publisher, Release};
use vshelf_core::definition::PackagedFile;
use vshelf_core::{Platform, Version};

use crate::npm::{NpmRegistry, WHOLE, packument, withdrawal};
use crate::schedule::read_schedule;
use crate::source::{Fetched, Known, PublishedCatalog, Source, SourceError};
use crate::transport::{Transport, Validators};

/// A source that reads packages.
pub struct NpmPackages {
    pub(crate) runtime: String,
    pub(crate) publisher: String,
    pub(crate) packages: BTreeMap<Platform, String>,
    pub(crate) schedule: Option<PackagedFile>,
    pub(crate) registry: NpmRegistry,
}

impl Source for NpmPackages {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        let mut validators = Validators::default();
        let mut asked = None;
        let mut releases: BTreeMap<Version, Release> = BTreeMap::new();
        let mut details: HashMap<(Version, Arc<str>), Details> = HashMap::new();
        let publisher: Arc<str> = self.publisher.as_str().into();
        for (platform, package) in &self.packages {
            let address = self.registry.address_of(package)?;
            // One validator fits one document: with several packages all are read anew.
            let known = match self.packages.len() {
                1 => known.validators.clone(),
                _ => Validators::default(),
            };
            let Some((document, new)) = packument(transport, &address, &known, WHOLE)? else {
                return Ok(Fetched::Unchanged);
            };
            validators = new;
            for (text, entry) in document.versions {
                let Ok(version) = text.parse::<Version>() else {
                    continue;
                };
                // What cannot be verified is not offered.
                let Some(digest) = entry.dist.digest() else {
                    continue;
                };
                let build = Build {
                    platform: platform.clone(),
                    address: address.join(&entry.dist.tarball).to_string(),
                    mirrors: Vec::new(),
                    size: None,
                    checksum: Checksum::Digest(digest),
                };
                let release = releases.entry(version.clone()).or_insert_with(|| Release {
                    version: version.clone(),
                    publisher: publisher.clone(),
                    date: document
                        .time
                        .get(&text)
                        .and_then(|time| time.get(..10)?.parse().ok()),
                    security: false,
                    withdrawn: withdrawal(entry.deprecated),
                    platforms: Arc::new([]),
                });
                let platforms = release.platforms.iter().cloned();
                release.platforms = platforms.chain([platform.clone()]).collect();
                let card = details.entry((version, publisher.clone())).or_default();
                card.builds.push(build);
            }
            asked = Some(address);
        }
        let address = match asked {
            Some(address) => address,
            None => self.registry.address_of(&self.runtime)?,
        };
        let schedule = match &self.schedule {
            Some(file) => read_schedule(transport, &self.registry, file)?,
            None => Vec::new(),
        };
        let catalog = Catalog::new(
            self.runtime.clone(),
            None,
            vec![Publisher {
                id: self.publisher.clone(),
                name: self.publisher.clone(),
                main: true,
            }],
            BTreeMap::new(),
            schedule,
            releases.into_values().collect(),
        );
        Ok(Fetched::Changed(Box::new(PublishedCatalog {
            validators,
            ..PublishedCatalog::new(catalog, details, &address)
        })))
    }
}
