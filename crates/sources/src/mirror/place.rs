//! Where a mirror is.

use std::fs::File;
use std::io;

use jiff::Timestamp;
use vshelf_core::catalog::Digest;
use vshelf_core::{Platform, Version};

use super::error::MirrorError;
use crate::api::PublishedCatalog;
use crate::checksums::Archive;
use crate::signature::Signer;

/// What is done to an archive: it comes, or goes on to a registry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Way {
    /// It is fetched from its source.
    Fetching,
    /// It is sent to the registry.
    Sending,
}

/// Tells how far an archive is: bytes so far, and all bytes where known.
pub type Progress<'p> = &'p mut dyn FnMut(Way, u64, Option<u64>);

/// Writes an archive; the same bytes for the same build.
pub type Pack<'p> = &'p mut dyn FnMut(&File) -> io::Result<()>;

/// How something came into a mirror.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Arrival {
    /// It was there already.
    WasThere,
    /// It was fetched and verified.
    Fetched,
    /// The registry had it in another repository.
    Linked,
    /// It was built on this machine, and packed.
    Packed,
}

/// Something in a mirror.
pub(crate) struct Stored {
    /// Its address.
    pub(crate) address: String,
    /// Its bytes.
    pub(crate) size: u64,
    pub(crate) arrival: Arrival,
}

/// A build that was taken into a mirror.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Entered {
    pub(crate) version: Version,
    pub(crate) publisher: String,
    pub(crate) platform: Platform,
}

/// What is written beside a catalog, and when.
pub struct Writing<'w> {
    /// The definition of the runtime, with the mirror as its only source.
    pub definition: &'w str,
    /// What signs the catalog.
    pub signer: Option<&'w Signer>,
    /// Now.
    pub now: Timestamp,
    /// The page for people, of the catalog as it is written.
    pub page: &'w dyn Fn(&PublishedCatalog) -> String,
    /// What a release is called where there is no publisher beside it.
    pub key_of: &'w dyn Fn(&Version, &str) -> String,
}

/// A folder or a repository with a catalog and its archives.
pub(crate) trait Place: std::fmt::Debug {
    /// Brings an archive, unless it is there; `known` is the address of one with the same digest that the
    /// catalog names.
    fn bring(
        &self,
        name: &str,
        archive: &Archive,
        known: Option<&str>,
        progress: Progress<'_>,
    ) -> Result<Stored, MirrorError>;

    /// Puts an archive there that `pack` writes, unless it is there; with its SHA-256.
    fn pack(
        &self,
        name: &str,
        pack: Pack<'_>,
        progress: Progress<'_>,
    ) -> Result<(Stored, Digest), MirrorError>;

    /// Writes the catalog, in which `entered` is new, and what is beside it.
    fn write(
        &self,
        published: &mut PublishedCatalog,
        entered: &[Entered],
        writing: &Writing<'_>,
    ) -> Result<(), MirrorError>;

    /// The definition that is there, where there is one.
    fn definition(&self) -> Result<Option<String>, MirrorError>;
}
