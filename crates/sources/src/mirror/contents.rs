//! What a mirror's catalog says, as it grows.

use std::sync::Arc;

use vshelf_core::catalog::{Build, Catalog, Details, Release};

use super::place::Entered;
use crate::address::Address;
use crate::api::PublishedCatalog;

/// A catalog of nothing yet.
pub(super) fn empty(runtime: &str) -> PublishedCatalog {
    let catalog = Catalog {
        runtime: runtime.to_owned(),
        ..Catalog::default()
    };
    let address = Address::File("catalog.json".into());
    PublishedCatalog::new(catalog, Default::default(), &address)
}

/// Every build of a catalog, and what release it is of.
pub(super) fn entries(published: &PublishedCatalog) -> impl Iterator<Item = Entered> {
    let cards = published.details.iter();
    cards.flat_map(|((version, publisher), card)| {
        card.builds.iter().map(move |build| Entered {
            version: version.clone(),
            publisher: publisher.to_string(),
            platform: build.platform.clone(),
        })
    })
}

/// Takes over what another catalog says of lines, publishers and channels, and of the releases that are here:
/// one may have been withdrawn since.
pub(super) fn take_over(published: &mut PublishedCatalog, catalog: &Catalog) {
    let own = &mut published.catalog;
    own.channels.clone_from(&catalog.channels);
    own.lines.clone_from(&catalog.lines);
    own.policy = catalog.policy;
    for publisher in &catalog.publishers {
        own.publishers.retain(|known| known.id != publisher.id);
        own.publishers.push(publisher.clone());
    }
    for release in &mut own.releases {
        if let Some(now) = catalog.release(&release.version, &release.publisher) {
            release.date = now.date;
            release.security = now.security;
            release.withdrawn.clone_from(&now.withdrawn);
        }
    }
}

/// Has a build of a release in the catalog, in the place of one for the same platform.
pub(super) fn enter(
    published: &mut PublishedCatalog,
    release: &Release,
    details: &Details,
    build: Build,
) {
    let catalog = &mut published.catalog;
    if catalog
        .release(&release.version, &release.publisher)
        .is_none()
    {
        let releases = &mut catalog.releases;
        let place = releases.partition_point(|other| other.version > release.version);
        releases.insert(
            place,
            Release {
                platforms: Arc::new([]),
                ..release.clone()
            },
        );
    }
    let key = (release.version.clone(), release.publisher.clone());
    let card = published.details.entry(key).or_default();
    card.bundles.clone_from(&details.bundles);
    card.notes.clone_from(&details.notes);
    card.builds.retain(|other| other.platform != build.platform);
    card.builds.push(build);
}

/// Has every build of another catalog that `which` picks.
pub(super) fn enter_from(
    published: &mut PublishedCatalog,
    other: &PublishedCatalog,
    which: impl Fn(&Entered) -> bool,
) {
    for entry in entries(other).filter(|entry| which(entry)) {
        let Some((release, details, build)) = find(other, &entry) else {
            continue;
        };
        enter(published, release, details, build.clone());
    }
}

/// A build in a catalog, and its release.
pub(super) fn find<'p>(
    published: &'p PublishedCatalog,
    entry: &Entered,
) -> Option<(&'p Release, &'p Details, &'p Build)> {
    let releases = &published.catalog.releases;
    let release = releases
        .iter()
        .find(|known| known.version == entry.version && *known.publisher == *entry.publisher)?;
    let key = (release.version.clone(), release.publisher.clone());
    let details = published.details.get(&key)?;
    let build = details
        .builds
        .iter()
        .find(|build| build.platform == entry.platform)?;
    Some((release, details, build))
}

/// Leaves out the builds that `stays` does not want, and releases that have none then.
pub(super) fn retain(published: &mut PublishedCatalog, stays: impl Fn(&Entered) -> bool) {
    for ((version, publisher), card) in &mut published.details {
        card.builds.retain(|build| {
            stays(&Entered {
                version: version.clone(),
                publisher: publisher.to_string(),
                platform: build.platform.clone(),
            })
        });
    }
    published.details.retain(|_, card| !card.builds.is_empty());
    let details = &published.details;
    published.catalog.releases.retain(|release| {
        details.contains_key(&(release.version.clone(), release.publisher.clone()))
    });
}
