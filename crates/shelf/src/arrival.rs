//! The only renames that put a folder on the shelf, and what they need.

use std::fs;
use std::io;
use std::path::Path;

use vshelf_core::admission::Admitted;
use vshelf_files::system;

/// Leave to put a folder on the shelf.
#[derive(Debug)]
pub(crate) enum Leave<'a> {
    /// The gate admitted it.
    Admitted(&'a Admitted),
    /// It was on the shelf, and goes back to its place.
    Returned(Returned),
}

/// A former install that goes back to its place.
#[derive(Debug)]
pub(crate) struct Returned(());

impl Returned {
    /// Only what completes or undoes a removal has a reason to make one; a structure test sees to it.
    pub(crate) fn by_recovery() -> Returned {
        Returned(())
    }
}

impl Leave<'_> {
    /// Renames a folder to its place on the shelf, which is free.
    pub(crate) fn rename(&self, folder: &Path, place: &Path) -> io::Result<()> {
        self.check(place)?;
        fs::rename(folder, place)
    }

    /// Has a folder and the install at `place` change places.
    pub(crate) fn exchange(&self, folder: &Path, place: &Path) -> io::Result<()> {
        self.check(place)?;
        system::exchange(folder, place)
    }

    /// Fails if the gate admitted something else than what belongs to a place.
    fn check(&self, place: &Path) -> io::Result<()> {
        let Leave::Admitted(admitted) = self else {
            return Ok(());
        };
        let own = Path::new(admitted.runtime()).join(admitted.key().as_str());
        if place.ends_with(own) {
            return Ok(());
        }
        let text = format!("only {} was admitted", admitted.key().selector());
        Err(io::Error::new(io::ErrorKind::PermissionDenied, text))
    }
}
