//! A publisher who serves our own catalog format.

use jiff::Timestamp;

use crate::address::{Address, Addresses};
use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError, first_document};
use crate::document;
use crate::signature;
use crate::transport::{Document, Transport};

/// A source that serves our own format.
pub struct OwnCatalog {
    runtime: String,
    /// The document and its mirrors.
    addresses: Addresses,
    /// The minisign key that it has to be signed with.
    key: Option<String>,
}

impl OwnCatalog {
    /// The catalog of `runtime` at the first of `addresses` that answers, signed with `key` where
    /// there is one.
    pub fn new(runtime: &str, addresses: Addresses, key: Option<String>) -> OwnCatalog {
        OwnCatalog {
            runtime: runtime.to_owned(),
            addresses,
            key,
        }
    }

    /// A signature keeps others from changing a catalog; its time keeps them from showing an old
    /// one, in which what was withdrawn since still stands.
    fn check_age(
        &self,
        published: &PublishedCatalog,
        known: &Known,
        address: &Address,
    ) -> Result<(), SourceError> {
        let offered = published.catalog.updated.ok_or_else(|| {
            SourceError::document(address, "it is signed and does not say when it was updated")
        })?;
        match known.updated {
            Some(seen) if offered < seen => Err(SourceError::Older {
                address: address.to_string(),
                offered,
                seen,
            }),
            _ => Ok(()),
        }
    }

    /// What is signed is not relied on for longer than its publisher does.
    fn check_expiry(
        &self,
        expires: Option<Timestamp>,
        known: &Known,
        address: &Address,
    ) -> Result<(), SourceError> {
        match expires {
            Some(expires) if self.key.is_some() && expires < known.now => {
                Err(SourceError::Expired {
                    address: address.to_string(),
                    expires,
                })
            }
            _ => Ok(()),
        }
    }
}

impl Source for OwnCatalog {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        let accept = Some("application/json");
        let (given, address) =
            first_document(transport, &self.addresses, &known.validators, accept)?;
        let Document::Body { bytes, validators } = given else {
            // Whoever keeps others from the newest can say so for ever.
            self.check_expiry(known.expires, known, &address)?;
            return Ok(Fetched::Unchanged);
        };
        if let Some(key) = &self.key {
            signature::verify(transport, &address, &bytes, key)?;
        }
        let mut published = document::read(&bytes, &self.runtime, &address)
            .map_err(|problem| SourceError::document(&address, problem))?;
        if self.key.is_some() {
            self.check_age(&published, known, &address)?;
            self.check_expiry(published.expires, known, &address)?;
        }
        for build in published
            .details
            .values_mut()
            .flat_map(|card| &mut card.builds)
        {
            let archive = Address::read(&build.address)?;
            build.mirrors = (self.addresses.iter())
                .filter(|other| **other != address)
                .filter_map(|other| Some(archive.beside(&address, other)?.to_string()))
                .collect();
        }
        published.validators = validators;
        Ok(Fetched::Changed(Box::new(published)))
    }
}
