//! What every crate above does with files and folders, done in one way: written atomically, read
//! where they exist, locked between processes, deleted as a whole tree.
//!
//! Nothing here knows of shelves or catalogs.

pub mod action;
pub mod atomic;
pub mod freed;
pub mod lock;
pub mod optional;
pub mod pieces;
pub mod shown;
pub mod system;
pub mod tree;
