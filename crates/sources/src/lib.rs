//! Where releases come from: every publisher's format turned into the one catalog type of `core`,
//! over one shared transport.
//!
//! A [`Source`] fetches and normalises; [`CatalogCache`] keeps the result in a form that loads fast
//! and works offline; [`Download`] brings an archive, whole and verified or resumable.

pub mod address;
pub mod cache;
pub mod checksums;
pub mod digest;
pub mod document;
pub mod download;
pub mod folder;
pub mod mirror;
pub mod npm;
pub mod npm_packages;
pub mod registry;
pub mod release_index;
mod schedule;
mod signature;
pub mod source;
pub mod transport;
pub mod wheels;

pub use address::Address;
pub use cache::{CatalogCache, LoadError, Loaded, Origin};
pub use checksums::Archive;
pub use download::{Download, DownloadError};
pub use mirror::{Mirror, MirrorError};
pub use source::{PublishedCatalog, Source, SourceError};
pub use transport::{Transport, TransportError};
