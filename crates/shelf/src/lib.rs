//! One user's folder of installs: layout, records, locks and the install transaction.
//!
//! Whatever is visible below `<data>/shelf` is whole and was verified: a build, its record and the list
//! of its files are one folder, which is made in `staging` and renamed into place, and renamed away
//! before it is deleted. If this process dies in between, the next command that changes the shelf
//! finishes it.

pub mod adoption;
pub mod folders;
pub mod journal;
pub mod layout;
pub mod manifest;
pub mod packing;
pub mod pipe;
pub mod probe;
pub mod processes;
pub mod record;
pub mod removal;
mod sharing;
pub mod shells;
pub mod staging;
pub mod state;
pub mod store;
pub mod switches;
pub mod trash;
pub mod unfinished;
pub mod unpack;

pub use folders::Folders;
pub use layout::Layout;
pub use manifest::Manifest;
pub use record::Record;
pub use state::State;
pub use store::{Install, Shelf, ShelfError, Staged};
