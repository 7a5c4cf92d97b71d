//! What every source does: fetch a publisher's documents and give back one catalog.
//!
//! The kinds of sources (`kinds`) implement it, and `open` is the only one that knows them all.

use std::collections::HashMap;
use std::sync::Arc;

use jiff::Timestamp;
use vshelf_core::Version;
use vshelf_core::catalog::{Build, Catalog, Details};
use vshelf_core::selector::{is_line_name, is_name};

use crate::address::{Address, AddressError, Addresses};
use crate::kept_documents::{KeptDocuments, SkippedRow};
use crate::registries::RegistryError;
use crate::transport::{Document, Transport, TransportError, Validators};

/// A place that releases come from.
pub trait Source {
    /// Fetches and normalises, unless nothing changed since `known`.
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError>;
}

/// What is known of a source from the last time.
#[derive(Clone, Debug)]
pub struct Known {
    /// What to ask with whether anything changed.
    pub validators: Validators,
    /// When the newest catalog was made that was seen.
    pub updated: Option<Timestamp>,
    /// Until when what is kept may be relied on, where its publisher says so.
    pub expires: Option<Timestamp>,
    /// What its documents said, if it has several.
    pub documents: KeptDocuments,
    /// Now.
    pub now: Timestamp,
}

impl Known {
    /// That nothing is known of a source.
    pub fn nothing(now: Timestamp) -> Known {
        Known {
            validators: Validators::default(),
            updated: None,
            expires: None,
            documents: KeptDocuments::default(),
            now,
        }
    }
}

/// What a source gave.
pub enum Fetched {
    /// Nothing changed.
    Unchanged,
    /// The catalog as it is now.
    Changed(Box<PublishedCatalog>),
}

/// A catalog with all its details, fresh from a source.
#[derive(Clone, Debug, Default)]
pub struct PublishedCatalog {
    /// Lines and releases.
    pub catalog: Catalog,
    /// Builds and notes, by version and publisher.
    pub details: HashMap<(Version, Arc<str>), Details>,
    /// The address that was asked.
    pub address: String,
    /// What to ask with next time.
    pub validators: Validators,
    /// Until when it may be relied on, where its publisher says so.
    pub expires: Option<Timestamp>,
    /// How the source spells what is no version that is taken from it.
    pub left_out: Vec<String>,
    /// The patterns for spellings of which none has read anything.
    pub unused_patterns: Vec<String>,
    /// The rows of its documents that do not count, and why.
    pub skipped: Vec<SkippedRow>,
    /// What each of its documents says, if it has several.
    pub documents: KeptDocuments,
}

impl PublishedCatalog {
    /// Every build of it.
    pub fn builds(&self) -> impl Iterator<Item = &Build> {
        self.details.values().flat_map(|card| &card.builds)
    }

    /// Every build of it, to be changed.
    pub(crate) fn builds_mut(&mut self) -> impl Iterator<Item = &mut Build> {
        let cards = self.details.values_mut();
        cards.flat_map(|card| &mut card.builds)
    }

    /// A catalog that `address` gave, with nothing to ask with.
    ///
    /// Names of channels and lines that nobody could type or safely see are left out.
    pub(crate) fn new(
        mut catalog: Catalog,
        details: HashMap<(Version, Arc<str>), Details>,
        address: &Address,
    ) -> PublishedCatalog {
        catalog.channels.retain(|name, _| is_name(name));
        catalog.lines.retain(|line| is_line_name(&line.name));
        for line in &mut catalog.lines {
            line.codename = line.codename.take().filter(|name| is_line_name(name));
        }
        PublishedCatalog {
            catalog,
            details,
            address: address.to_string(),
            ..PublishedCatalog::default()
        }
    }
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
    /// The catalog is not signed as the definition asks.
    #[error("the signature of {address} is refused: {problem}")]
    Signature {
        /// What should be signed.
        address: String,
        /// What is wrong.
        problem: String,
    },
    /// The catalog is signed, and older than one that was seen.
    #[error("{address} is of {offered}, and one of {seen} was seen before")]
    Older {
        /// What was read.
        address: String,
        /// When it was made.
        offered: Timestamp,
        /// When the one seen before was made.
        seen: Timestamp,
    },
    /// The catalog is signed, and its publisher relies on it no longer.
    #[error("{address} was to be relied on until {expires}")]
    Expired {
        /// What was read.
        address: String,
        /// Until when.
        expires: Timestamp,
    },
    /// The archive does not stand in its checksum list.
    #[error("{address} does not list {name}")]
    NotListed {
        /// The list.
        address: String,
        /// The archive.
        name: String,
    },
    /// No file with a digest lies beside an archive.
    #[error("{archive} has no sha512 or sha256 digest beside it, so that it cannot be verified")]
    NoDigest {
        /// The archive.
        archive: String,
    },
    /// No version of a companion fits a release.
    #[error("no version of {address} says that it runs on {release}")]
    NoCompanion {
        /// The companion's package.
        address: String,
        /// The release.
        release: Version,
    },
    /// The address of its registry is not known.
    #[error(transparent)]
    Registry(#[from] RegistryError),
    /// An address in the definition or in a document cannot be read.
    #[error(transparent)]
    Address(#[from] AddressError),
}

impl SourceError {
    pub(crate) fn document(address: &Address, problem: impl Into<String>) -> SourceError {
        SourceError::Document {
            address: address.to_string(),
            problem: problem.into(),
        }
    }

    /// Whether a server has no such document.
    pub(crate) fn is_absent(&self) -> bool {
        matches!(
            self,
            SourceError::Transport(TransportError::Status { status: 404, .. })
        )
    }

    /// A server that says "unchanged" although nothing was asked about.
    pub(crate) fn unasked(address: &Address) -> SourceError {
        let problem = "nothing was asked about, and it answers \"unchanged\"";
        SourceError::document(address, problem)
    }
}

/// What one document says, which `publish` makes a catalog of; nothing new where it is as it was.
pub(crate) fn fetch_document(
    transport: &Transport,
    addresses: &Addresses,
    known: &Known,
    accept: Option<&str>,
    publish: impl FnOnce(&[u8], &Address) -> Result<PublishedCatalog, SourceError>,
) -> Result<Fetched, SourceError> {
    let (document, address) = first_document(transport, addresses, &known.validators, accept)?;
    let Document::Body { bytes, validators } = document else {
        return Ok(Fetched::Unchanged);
    };
    let published = publish(&bytes, &address)?;
    Ok(Fetched::Changed(Box::new(PublishedCatalog {
        validators,
        ..published
    })))
}

/// The document at the first of `addresses` that gives it, and that address.
///
/// One that does not answer is asked again only where no other follows.
pub(crate) fn first_document(
    transport: &Transport,
    addresses: &Addresses,
    known: &Validators,
    accept: Option<&str>,
) -> Result<(Document, Address), TransportError> {
    let hurried = transport.hurried();
    let mut left = addresses.count();
    let mut asked = addresses.iter();
    loop {
        let address = asked.next().unwrap_or(addresses.first());
        left -= 1;
        let transport = if left == 0 { transport } else { &hurried };
        match transport.document(address, known, accept) {
            Err(_) if left > 0 => {}
            result => return Ok((result?, address.clone())),
        }
    }
}
