//! The heart of Vivid Shelf: what versions, selectors, catalogs and lifecycles are, and how a name
//! becomes a release.
//!
//! This crate is pure. It reads no disk, no network, no clock, no terminal and no environment;
//! dates, file contents and settings come in as arguments, and everything a command explains comes
//! out as data. The crates above it supply the world and word the results.

pub mod activation;
pub mod admission;
pub mod catalog;
pub mod definition;
pub mod diagnosis;
pub mod distribution;
pub mod file_trust;
pub mod install;
pub mod lifecycle;
pub mod loader;
pub mod lock_file;
pub mod meant;
pub mod outlook;
pub mod packages;
pub mod platform;
pub mod range;
pub mod renewal;
pub mod requirement;
pub mod resolve;
pub mod rules;
pub mod selector;
pub mod specifiers;
pub mod standing;
pub mod template;
pub mod tidy;
pub mod timeline;
pub mod unresolved;
pub mod version;
pub mod words;

pub use catalog::{Catalog, Line, Publisher, Release};
pub use definition::Definition;
pub use install::{InstallId, Key, Pick};
pub use lifecycle::Phase;
pub use platform::Platform;
pub use range::Range;
pub use selector::{Request, Selector};
pub use version::Version;
