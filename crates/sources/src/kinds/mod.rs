//! The kinds of sources, one file each: a publisher's documents read, a catalog given back.

pub mod archive_names;
pub mod facts;
pub mod folder;
pub mod json;
pub mod maven;
pub mod npm_packages;
pub mod own_catalog;
pub mod release_list;
pub mod table;
pub mod wheels;
