//! The full-screen view: lines as the spines of books on a shelf, the releases of one, the details of
//! one of these. `state` is what it knows and how keys change it; `draw` puts it on a `canvas`.

mod canvas;
mod draw;
mod state;
#[cfg(test)]
mod tests;

pub use canvas::Canvas;
pub use draw::{Appearance, SMALLEST, draw};
pub use state::{Action, BrowseItem, Browser, Message, Snapshot, Spine, TransferProgress};
