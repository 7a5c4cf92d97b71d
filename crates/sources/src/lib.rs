//! Where releases come from: every publisher's format turned into the one catalog type of `core`,
//! over one shared transport.
//!
//! A [`Source`] fetches and normalises; [`CatalogCache`] keeps the result in a form that loads fast
//! and works offline; [`Download`] fetches an archive, whole and verified or resumable.

pub mod address;
pub mod api;
pub mod cache;
pub mod checksums;
pub mod credentials;
mod diagnosis;
pub mod digest;
pub mod document;
pub mod download;
mod found;
pub mod kept_documents;
pub mod kinds;
mod maven_settings;
pub mod merge;
pub mod mirror;
pub mod npm;
pub mod oci;
pub mod open;
pub mod registries;
pub mod signature;
pub mod transport;

pub use address::{Address, Addresses};
pub use api::{PublishedCatalog, Source, SourceError};
pub use cache::{CatalogCache, LoadError, Loaded, Origin};
pub use checksums::Archive;
pub use download::{Download, DownloadError};
pub use mirror::{Mirror, MirrorError};
pub use open::open;
pub use transport::{OnWait, Transport, TransportError};
