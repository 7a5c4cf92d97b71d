//! A runtime whose builds are packages in a registry that speaks the npm protocol.
//!
//! One package a platform holds the builds; its metadata document lists the versions, each with a
//! tarball and its integrity.

use std::collections::BTreeMap;

use vshelf_core::Platform;
use vshelf_core::catalog::{Build, Checksum};
use vshelf_core::definition::SourceDefinition;

use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError};
use crate::found::Found;
use crate::npm::{NpmRegistry, WHOLE, packument, withdrawal};
use crate::transport::{Transport, Validators};

/// A source that reads packages.
pub struct NpmPackages {
    pub(crate) runtime: String,
    pub(crate) definition: SourceDefinition,
    pub(crate) packages: BTreeMap<Platform, String>,
    pub(crate) registry: NpmRegistry,
}

impl Source for NpmPackages {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        let mut validators = Validators::default();
        let mut asked = None;
        let mut found = Found::new(&self.definition);
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
                let Some(spelled) = found.version(&text) else {
                    continue;
                };
                // What cannot be verified is not offered.
                let Some(digest) = entry.dist.digest() else {
                    continue;
                };
                let time = document.time.get(&text).and_then(|time| time.get(..10));
                let day = time.and_then(|time| time.parse().ok());
                let archive = address.join(&entry.dist.tarball)?.to_string();
                let checksum = Checksum::Digest(digest);
                found.add(
                    &spelled,
                    &text,
                    day,
                    Build::new(platform.clone(), archive, checksum),
                );
                let (release, _) = found.release(&spelled.version);
                release.withdrawn = withdrawal(entry.deprecated);
            }
            asked = Some(address);
        }
        let address = match asked {
            Some(address) => address,
            None => self.registry.address_of(&self.runtime)?,
        };
        Ok(Fetched::Changed(Box::new(PublishedCatalog {
            validators,
            ..found.publish(&self.runtime, Vec::new(), &address)?
        })))
    }
}
