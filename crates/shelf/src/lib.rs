//! One user's folder of installs: layout, records, locks and the install transaction.
//!
//! Whatever is visible below `<data>/shelf` is whole and was verified. New installs
//! are built in `staging` and renamed into place; removed ones are renamed away before they are
//! deleted. Both are swept by the next command if this process dies in between.

pub mod adoption;
pub mod folders;
pub mod journal;
pub mod layout;
pub mod manifest;
pub mod pipe;
pub mod probe;
pub mod processes;
pub mod record;
pub mod shells;
pub mod staging;
pub mod state;
pub mod store;
pub mod switches;
pub mod unpack;

pub use folders::Folders;
pub use layout::Layout;
pub use manifest::Manifest;
pub use record::Record;
pub use state::State;
pub use store::{Install, Shelf, ShelfError};
