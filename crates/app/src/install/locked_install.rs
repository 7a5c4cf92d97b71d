//! Installing what a project's lock has: from the same sources as anything else, which have to state one of the
//! locked digests.

use vshelf_core::admission::Narrowing;
use vshelf_core::catalog::Release;
use vshelf_core::lock_file::LockedRelease;
use vshelf_core::packages::Package;
use vshelf_files::action::FileAction;
use vshelf_sources::checksums::ChecksumLists;

use super::job::{InstallJob, JobOptions, Offer, offers};
use crate::admission::{self, grounds};
use crate::error::{Error, LockDifference, file_error};
use crate::events::{Event, Listener};
use crate::ledger;
use crate::lock_check;
use crate::lock_difference::{check_on_shelf, differs};
use crate::runtime::Runtime;
use crate::runtime::published::Extent;

/// The job of installing a locked release.
pub fn plan(
    runtime: &mut Runtime<'_>,
    locked: &LockedRelease,
    options: JobOptions,
    listener: &dyn Listener,
) -> Result<InstallJob, Error> {
    let host = runtime.environment().platform().clone();
    lock_check::check_platform(runtime, locked)?;
    let narrowing = Narrowing::Lock(Box::new(locked.clone()));
    let grounds = grounds(runtime, &locked.version, &locked.publisher, narrowing)?;
    admission::check(runtime, &grounds)?;
    let on_shelf = if options.again {
        None
    } else {
        locked_on_shelf(runtime, locked)?
    };
    let ledger = ledger::offered(runtime, &locked.key(), &host)?;
    let is_in_ledger = on_shelf.as_deref().is_some_and(|digest| {
        let mut offers = ledger.iter().flat_map(|(_, offers)| offers);
        offers.any(|offer| states(offer, digest))
    });
    let (release, offers) = match ledger {
        Some(stated) if is_in_ledger => stated,
        ledger => match ask(runtime, locked) {
            Ok(found) => found,
            // The sources' word, as long as they cannot be asked.
            Err(error) if error.is_of_source() => ledger.ok_or(error)?,
            Err(error) => return Err(error),
        },
    };
    // A record from before there was a ledger proves nothing: a lock may have chosen its bytes.
    if let Some(digest) = on_shelf.filter(|_| !is_in_ledger)
        && !is_stated(runtime, &release, &offers, &digest, listener)?
    {
        return Err(differs(runtime, locked, LockDifference::Unstated(digest)));
    }
    let builds = offers.iter().flat_map(|offer| &offer.builds);
    lock_check::check_declared(runtime, locked, builds)?;
    if let Some(why) = release.withdrawn.as_deref() {
        listener.tell(Event::LockedWithdrawn {
            title: &runtime.names().title_of(&locked.key()),
            why,
        });
    }
    let mut job = InstallJob::of_offers(runtime, &release, offers, grounds, options)?;
    for package in &mut job.always {
        *package = narrowed(package, locked);
    }
    Ok(job)
}

/// Fails if the install with the locked key is not the locked one. Returns the digest of its archive, or `None` if
/// it is not on the shelf.
fn locked_on_shelf(runtime: &Runtime<'_>, locked: &LockedRelease) -> Result<Option<String>, Error> {
    check_on_shelf(runtime, locked)?;
    let Some(install) = runtime.snapshot.install(&locked.key()) else {
        return Ok(None);
    };
    if let Some(manifest) = runtime.shelf.manifest(&install.id.key)? {
        let changed = manifest.compare(&install.folder);
        let changed = changed.map_err(file_error(&install.folder, FileAction::Read))?;
        if let Some(first) = changed.into_iter().next() {
            return Err(differs(
                runtime,
                locked,
                LockDifference::Changed(first.path),
            ));
        }
    }
    Ok(install.record.contents.digest.clone())
}

/// Asks the sources of the publisher for the locked release, and for more of them until one states a locked
/// digest.
fn ask(runtime: &mut Runtime<'_>, locked: &LockedRelease) -> Result<(Release, Vec<Offer>), Error> {
    runtime.published.load(Extent::Releases)?;
    let is_offline = runtime.environment().transport.is_offline();
    let mut found = offered(runtime, locked)?;
    if found.is_none() && !is_offline {
        runtime.published.load(Extent::Anew)?;
        found = offered(runtime, locked)?;
    }
    let may_state = |(_, offers): &(Release, Vec<Offer>)| {
        let locked = locked.archives_for(runtime.environment().platform());
        let digests: Vec<String> = locked
            .iter()
            .map(|archive| archive.digest.to_string())
            .collect();
        offers
            .iter()
            .any(|offer| digests.iter().any(|digest| states(offer, digest)) || has_list(offer))
    };
    if !found.as_ref().is_some_and(may_state) && !is_offline {
        runtime.published.ask_every_source_of(&locked.publisher)?;
        found = offered(runtime, locked)?.or(found);
    }
    found.ok_or_else(|| Error::LockedUnstated {
        title: runtime.names().title_of(&locked.key()),
        runtime: runtime.name().to_owned(),
        sources: lock_check::sources_of(runtime, &locked.publisher),
    })
}

/// The locked release and its offers in the loaded catalog: `None` if it is not in there.
fn offered(
    runtime: &Runtime<'_>,
    locked: &LockedRelease,
) -> Result<Option<(Release, Vec<Offer>)>, Error> {
    let catalog = runtime.published.catalog();
    let Some(release) = catalog.release(&locked.version, &locked.publisher) else {
        return Ok(None);
    };
    let offers = offers(runtime, release)?;
    Ok((!offers.is_empty()).then(|| (release.clone(), offers)))
}

/// Whether an offer states this digest.
fn states(offer: &Offer, digest: &str) -> bool {
    let mut builds = offer.builds.iter();
    builds.any(|build| (build.checksum.digest()).is_some_and(|own| own.to_string() == digest))
}

/// Whether some offer states this digest, itself or in its checksum list. The statement is written to the ledger.
fn is_stated(
    runtime: &Runtime<'_>,
    release: &Release,
    offers: &[Offer],
    digest: &str,
    listener: &dyn Listener,
) -> Result<bool, Error> {
    let environment = runtime.environment();
    let mut lists = ChecksumLists::default();
    for offer in offers {
        for build in &offer.builds {
            // An archive that its list does not have was not the one.
            let Ok((archive, _)) = lists.locate(&environment.transport, &[build]) else {
                continue;
            };
            if archive.digest.to_string() == digest {
                let now = environment.now()?;
                let statement = ledger::statement(now, release, offer, build, &archive);
                ledger::note(
                    &environment.layout()?,
                    runtime.name(),
                    &[statement],
                    listener,
                );
                return Ok(true);
            }
        }
    }
    Ok(false)
}

/// Whether an offer states digests in lists that were not fetched yet.
fn has_list(offer: &Offer) -> bool {
    let mut builds = offer.builds.iter();
    builds.any(|build| build.checksum.digest().is_none())
}

/// A package that every new install gets, in the locked version.
fn narrowed(package: &Package, locked: &LockedRelease) -> Package {
    let packages = Package::all_named(&locked.packages).into_iter();
    let mut same = packages.filter(|locked| locked.name == package.name);
    same.next().unwrap_or_else(|| package.clone())
}
