//! Catalogs and builds in a registry of containers: the repository `PREFIX/RUNTIME` has a tag for each build
//! (`8.3.1.linux-x64-gnu`), an index of builds for each release (`8.3.1`) for other tools, and the catalog as
//! `catalog`, which is all that is read to install from it.

mod catalog;
pub(crate) mod manifest;
mod push;
mod repository;

pub(crate) use self::catalog::{CatalogArtifact, catalog, packed};
pub(crate) use self::push::Writer;
pub(crate) use self::repository::CATALOG_TAG;
pub use self::repository::Repository;
