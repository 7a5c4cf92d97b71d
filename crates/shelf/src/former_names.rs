//! The names that layout 3 gave to installs: those of the main publisher's were the version alone.

use std::fs;

use vshelf_core::Key;

use crate::layout::Layout;

/// The key of an install that layout 3 called `former`, through the link that the migration left there.
pub(crate) fn key_of_former(layout: &Layout, runtime: &str, former: &str) -> Option<Key> {
    let name = former.replacen('/', "-", 1);
    let link = fs::read_link(layout.installs_of(runtime).join(&name)).ok();
    let target = link.and_then(|target| target.to_str()?.parse().ok());
    target.or_else(|| name.parse().ok())
}
