//! A publisher who serves our own catalog format, as files or in a registry of containers.

use jiff::Timestamp;

use crate::address::{Address, Addresses};
use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError, first_document};
use crate::document;
use crate::oci::{self, Repository};
use crate::signature;
use crate::transport::{Document, Transport, Validators};

/// A source that serves our own format.
pub struct OwnCatalog {
    runtime: String,
    place: Place,
    /// The minisign key that it has to be signed with.
    key: Option<String>,
}

/// Where a catalog is.
pub enum Place {
    /// The document and its mirrors: the first that answers counts.
    Files(Addresses),
    /// The repository of a registry.
    Repository(Repository),
}

/// The document as it was given.
struct GivenCatalog {
    bytes: Vec<u8>,
    address: Address,
    validators: Validators,
}

impl OwnCatalog {
    /// The catalog of `runtime` at a place, signed with `key` where there is one.
    pub fn new(runtime: &str, place: Place, key: Option<String>) -> OwnCatalog {
        OwnCatalog {
            runtime: runtime.to_owned(),
            place,
            key,
        }
    }

    /// The document, whose signature is good; nothing where it is as it was.
    fn given(
        &self,
        transport: &Transport,
        known: &Known,
    ) -> Result<Option<GivenCatalog>, SourceError> {
        let (given, address) = match &self.place {
            Place::Files(addresses) => {
                let accept = Some("application/json");
                let (document, address) =
                    first_document(transport, addresses, &known.validators, accept)?;
                let given = match document {
                    Document::Unchanged => None,
                    Document::Body { bytes, validators } => {
                        if let Some(key) = &self.key {
                            let signature = signature::beside(transport, &address)?;
                            signature::verify(&address, &bytes, &signature, key)?;
                        }
                        Some((bytes, validators))
                    }
                };
                (given, address)
            }
            Place::Repository(repository) => {
                let address = repository.catalog_address();
                let given = oci::catalog(transport, repository, &known.validators)?;
                if let (Some(given), Some(key)) = (&given, &self.key) {
                    let signature = given.signature.as_deref().unwrap_or_default();
                    signature::verify(&address, &given.bytes, signature, key)?;
                }
                let given = given.map(|given| (given.bytes, given.validators));
                (given, address)
            }
        };
        let Some((bytes, validators)) = given else {
            // Whoever keeps others from the newest can say so for ever.
            self.check_expiry(known.expires, known, &address)?;
            return Ok(None);
        };
        Ok(Some(GivenCatalog {
            bytes,
            address,
            validators,
        }))
    }

    /// The other addresses of an archive whose catalog is at `address`.
    fn mirrors(&self, archive: &Address, address: &Address) -> Vec<String> {
        let Place::Files(addresses) = &self.place else {
            return Vec::new();
        };
        let others = addresses.iter().filter(|other| *other != address);
        others
            .filter_map(|other| Some(archive.beside(address, other)?.to_string()))
            .collect()
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
        let Some(given) = self.given(transport, known)? else {
            return Ok(Fetched::Unchanged);
        };
        let GivenCatalog {
            bytes,
            address,
            validators,
        } = given;
        let mut published = document::read(&bytes, &self.runtime, &address)
            .map_err(|problem| SourceError::document(&address, problem))?;
        if self.key.is_some() {
            self.check_age(&published, known, &address)?;
            self.check_expiry(published.expires, known, &address)?;
        }
        for build in published.builds_mut() {
            let archive = Address::read(&build.address)?;
            build.mirrors = self.mirrors(&archive, &address);
        }
        published.validators = validators;
        Ok(Fetched::Changed(Box::new(published)))
    }
}
