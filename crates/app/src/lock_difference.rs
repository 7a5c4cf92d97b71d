//! Whether an install on the shelf is the one that a project's lock names.

use vshelf_core::lock_file::LockedRelease;
use vshelf_shelf::Install;

use crate::error::{Done, Error, LockDifference};
use crate::runtime::Runtime;

/// Fails if the install with the locked key is not the locked one, as far as its record tells.
pub fn check_on_shelf(runtime: &Runtime<'_>, locked: &LockedRelease) -> Done {
    let install = runtime.snapshot.install(&locked.key());
    let difference = install.and_then(|install| difference(install, locked));
    difference.map_or(Ok(()), |difference| {
        Err(differs(runtime, locked, difference))
    })
}

/// The error that the install with the locked key is not the locked one.
pub fn differs(runtime: &Runtime<'_>, locked: &LockedRelease, difference: LockDifference) -> Error {
    Error::LockedDiffers {
        title: runtime.names().title_of(&locked.key()),
        selector: runtime.names().key_as_typed(&locked.key()),
        difference,
    }
}

/// How an install differs from the locked release, as far as its record tells.
pub fn difference(install: &Install, locked: &LockedRelease) -> Option<LockDifference> {
    let record = &install.record.contents;
    if record.adopted.is_some() {
        return Some(LockDifference::Adopted);
    }
    let digest = record.digest.as_deref().unwrap_or_default();
    let mut archives = locked.archives.iter();
    let is_locked = archives.any(|archive| {
        archive.platform.is_source() == record.built.is_some()
            && archive.digest.to_string() == digest
    });
    if !is_locked {
        return Some(LockDifference::Digest(digest.to_owned()));
    }
    let patches = record.built.as_ref().map(|built| &built.patches);
    if patches.is_some_and(|patches| *patches != locked.patches) {
        return Some(LockDifference::Patches);
    }
    let differs = record.companions.iter().find(|own| {
        let mut companions = locked.companions.iter();
        let locked = companions.find(|locked| locked.package == own.package);
        locked.is_none_or(|locked| locked.digest.to_string() != own.digest)
    });
    differs.map(|own| LockDifference::Companion(own.package.clone()))
}
