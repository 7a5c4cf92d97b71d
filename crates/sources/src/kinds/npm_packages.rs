//! A runtime whose builds are packages in a registry that speaks the npm protocol.
//!
//! One package a platform holds the builds; its metadata document lists the versions, each with a
//! tarball and its integrity. A further package may hold the support life of the lines.

use std::collections::BTreeMap;

use vshelf_core::catalog::{Build, Checksum};
use vshelf_core::definition::PackagedFile;
use vshelf_core::{Platform, Version};

use crate::api::{Fetched, Found, Known, PublishedCatalog, Source, SourceError};
use crate::npm::{NpmRegistry, WHOLE, packument, withdrawal};
use crate::schedule::read_schedule;
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
        let mut found = Found::new(&self.publisher);
        for (platform, package) in &self.packages {
            let address = self.registry.address_of(package)?;
            // One validator fits one document: with several packages all are read again.
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
                let (release, card) = found.release(&version);
                let time = document.time.get(&text).and_then(|time| time.get(..10));
                release.date = time.and_then(|time| time.parse().ok());
                release.withdrawn = withdrawal(entry.deprecated);
                card.builds.push(Build {
                    platform: platform.clone(),
                    address: address.join(&entry.dist.tarball)?.to_string(),
                    mirrors: Vec::new(),
                    size: None,
                    checksum: Checksum::Digest(digest),
                });
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
        Ok(Fetched::Changed(Box::new(PublishedCatalog {
            validators,
            ..found.publish(&self.runtime, schedule, &address)
        })))
    }
}
