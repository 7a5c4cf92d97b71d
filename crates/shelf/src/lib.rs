//! One user's folder of installs: layout, receipts, locks and the install transaction.
//!
//! Whatever is visible below a runtime's `installs` folder is whole and was verified. New installs
//! are built in `staging` and renamed into place; removed ones are renamed away before they are
//! deleted. Both are swept by the next command if this process dies in between.

pub mod adoption;
pub mod atomic;
pub mod folders;
pub mod journal;
pub mod lock;
pub mod manifest;
pub mod pipe;
pub mod probe;
pub mod receipt;
pub mod shelf;
pub mod staging;
pub mod state;
mod tree;
pub mod unpack;
pub mod usage;

pub use folders::Folders;
pub use manifest::Manifest;
pub use receipt::Receipt;
pub use shelf::{Install, Shelf, ShelfError};
pub use state::State;
