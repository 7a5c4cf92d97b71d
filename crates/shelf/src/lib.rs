//! One user's folder of installs: layout, records, locks and the install transaction.
//!
//! Whatever is visible below `<data>/shelf` is whole and was verified: a build, its record and the list
//! of its files are one folder. Three transitions move such a folder, each by one rename that is its
//! commit point: *publish* from `staging` to the shelf, *retire* from the shelf to the trash, *return*
//! from the trash to the shelf. An intent note in the folder says before the rename what is about to
//! happen; if the process dies, the next command that changes the shelf reads it and completes or
//! discards the work (`note`). Only what is in the trash is ever deleted.

pub mod adoption;
mod arrival;
mod completion;
mod diagnosis;
mod entry_name;
pub mod folders;
mod former_names;
pub mod journal;
pub mod layout;
pub mod manifest;
pub mod migration;
mod note;
pub mod packing;
pub mod pipe;
pub mod probe;
pub mod processes;
mod random;
pub mod record;
pub mod recovery;
pub mod removal;
mod sharing;
pub mod shells;
pub mod staging;
pub mod state;
pub mod statements;
pub mod store;
pub mod switches;
pub mod trash;
pub mod unpack;

pub use folders::Folders;
pub use layout::Layout;
pub use manifest::Manifest;
pub use record::Record;
pub use state::State;
pub use store::{Install, Shelf, ShelfError, Staged};
