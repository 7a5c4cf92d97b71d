//! Where releases come from: every publisher's format turned into the one catalog type of `core`,
//! over one shared transport.
//!
//! A [`Source`] fetches and normalises; [`CatalogCache`] keeps the result in a form that loads fast
//! and works offline; [`Download`] brings an archive, whole and verified or resumable.

pub mod address;
pub mod cache;
pub mod digest;
pub mod document;
pub mod download;
pub mod npm;
pub mod registry;
pub mod source;
pub mod transport;

pub use address::Address;
pub use cache::{CatalogCache, LoadError, Loaded, Origin};
pub use download::{Download, DownloadError};
pub use source::{PublishedCatalog, Source, SourceError};
pub use transport::{Transport, TransportError};
