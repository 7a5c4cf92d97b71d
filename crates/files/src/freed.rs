//! How far deleting is.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// The bytes that deleting has set free so far, to be looked at by others while it goes on.
#[derive(Clone, Debug, Default)]
pub struct Freed(Arc<AtomicU64>);

impl Freed {
    /// So many.
    pub fn bytes(&self) -> u64 {
        self.0.load(Ordering::Relaxed)
    }

    pub(crate) fn add(&self, bytes: u64) {
        self.0.fetch_add(bytes, Ordering::Relaxed);
    }
}
