//! What is outdated on the shelf, with all that the disk and the system know of who uses it.

use vshelf_core::Key;
use vshelf_core::tidy::{self, Assessment, Held, Protection};

use super::holders::Holders;
use crate::activity::Activity;
use crate::error::Error;
use crate::runtime::Runtime;

/// What a person says of single installs.
#[derive(Debug, Default)]
pub struct Selection {
    /// The installs to remove whether or not they are outdated.
    pub include: Vec<Key>,
    /// The installs to leave out this time.
    pub except: Vec<Key>,
}

/// The protections of one install now.
pub fn protections_of(runtime: &Runtime<'_>, holders: &Holders, key: &Key) -> Vec<Protection> {
    let Some(install) = runtime.snapshot.install(key) else {
        return Vec::new();
    };
    let claims = holders.claims_on(runtime);
    holders.of_install(runtime, &Activity::of(runtime), install, &claims)
}

/// The plan for one runtime's shelf.
pub fn plan<'r>(
    runtime: &'r Runtime<'_>,
    holders: &Holders,
    selection: &Selection,
) -> Result<Vec<Assessment<'r>>, Error> {
    let environment = runtime.environment();
    // Read first, it serves for lines and publishers too.
    let heads = runtime.published.heads();
    let activity = Activity::of(runtime);
    let claims = holders.claims_on(runtime);
    let held = runtime
        .names()
        .installs_main_first()
        .into_iter()
        .map(|install| {
            let key = &install.id.key;
            let mut protections = holders.of_install(runtime, &activity, install, &claims);
            protections.extend(
                selection
                    .except
                    .contains(key)
                    .then_some(Protection::LeftOut),
            );
            Held {
                install: &install.id,
                bytes: install.record.contents.unpacked_size,
                used: runtime.used_on(install),
                asked: selection.include.contains(key),
                protections,
            }
        });
    Ok(tidy::plan(
        heads,
        held.collect(),
        &environment.settings()?.policy(),
        environment.platform(),
        runtime.today(),
    ))
}
