//! Comparing a lock with what definitions, settings and sources say: it may only narrow that.

use vshelf_core::Platform;
use vshelf_core::catalog::Build;
use vshelf_core::lock_file::LockedRelease;
use vshelf_core::packages::Package;

use crate::error::{Done, Error};
use crate::ledger;
use crate::runtime::Runtime;
use crate::runtime::published::Extent;

/// Fails if a lock has no archive for this platform.
pub fn check_platform(runtime: &Runtime<'_>, locked: &LockedRelease) -> Done {
    let host = runtime.environment().platform();
    if locked.archives_for(host).is_empty() {
        return Err(Error::LockedElsewhere {
            title: runtime.names().title_of(&locked.key()),
            platform: host.to_string(),
            runtime: runtime.name().to_owned(),
        });
    }
    Ok(())
}

/// Fails if a lock has a package that neither the definition nor the catalog adds to the builds of the release, or
/// one that no setting here has every install get.
pub fn check_declared<'b>(
    runtime: &Runtime<'_>,
    locked: &LockedRelease,
    builds: impl Iterator<Item = &'b Build>,
) -> Done {
    let title = || runtime.names().title_of(&locked.key());
    let of_definition = runtime.definition.sources.iter();
    let of_definition = of_definition.flat_map(|source| &source.companions);
    let of_catalog = builds.flat_map(|build| &build.companions);
    let declared: Vec<&String> = of_definition
        .map(|companion| &companion.package)
        .chain(of_catalog.map(|companion| &companion.package))
        .collect();
    let mut companions = locked.companions.iter();
    if let Some(other) = companions.find(|one| !declared.contains(&&one.package)) {
        return Err(Error::UndeclaredCompanion {
            title: title(),
            package: other.package.clone(),
            runtime: runtime.name().to_owned(),
        });
    }
    let settings = runtime.environment().settings()?;
    let always = settings.always_packages(runtime.name());
    let packages = Package::all_named(&locked.packages);
    let is_declared = |package: &&Package| always.iter().any(|one| one.name == package.name);
    match packages.iter().find(|package| !is_declared(package)) {
        Some(package) => Err(Error::UndeclaredPackage {
            title: title(),
            package: package.name.clone(),
            runtime: runtime.name().to_owned(),
        }),
        None => Ok(()),
    }
}

/// The names of the sources that have builds of a publisher, as rules name them.
pub fn sources_of(runtime: &Runtime<'_>, publisher: &str) -> Vec<String> {
    let sources = runtime.definition.sources.iter();
    let of_publisher = sources.filter(|source| {
        source.kind.has_builds() && source.kind.publisher().is_none_or(|id| id == publisher)
    });
    of_publisher
        .map(|source| format!("{}.{}", runtime.name(), source.name))
        .collect()
}

/// Fails if a lock contradicts what sources stated about its release: in the ledger, in the catalog that is kept
/// here, or, if neither knows the release, now.
pub fn check_stated(runtime: &mut Runtime<'_>, locked: &LockedRelease) -> Done {
    let release = |runtime: &Runtime<'_>| {
        let catalog = runtime.published.catalog();
        catalog.release(&locked.version, &locked.publisher).cloned()
    };
    let mut found = release(runtime);
    let ledger = ledger::stated(runtime, &locked.key())?;
    if found.is_none() && ledger.is_empty() && !runtime.environment().transport.is_offline() {
        runtime.published.load(Extent::Releases)?;
        found = release(runtime);
    }
    if found.is_none() && ledger.is_empty() {
        return Err(Error::LockedUnstated {
            title: runtime.names().title_of(&locked.key()),
            runtime: runtime.name().to_owned(),
            sources: sources_of(runtime, &locked.publisher),
        });
    }
    let mut stated: Vec<(Platform, String)> = (ledger.iter())
        .map(|statement| (statement.platform.clone(), statement.digest.to_string()))
        .collect();
    if let Some(release) = &found {
        let details = runtime.published.details(release)?;
        check_declared(runtime, locked, details.builds.iter())?;
        stated.extend(details.builds.iter().filter_map(|build| {
            // A checksum list is only fetched for an install.
            let digest = build.checksum.digest()?;
            Some((build.platform.clone(), digest.to_string()))
        }));
    }
    for archive in &locked.archives {
        let of_platform = stated
            .iter()
            .filter(|(platform, _)| *platform == archive.platform);
        let digests: Vec<String> = of_platform.map(|(_, digest)| digest.clone()).collect();
        // Of one platform, one form of the archive is enough: other sources may state the others.
        let is_stated = |digest: &String| locked.has_digest(&archive.platform, digest);
        if !digests.is_empty() && !digests.iter().any(is_stated) {
            return Err(Error::LockedOtherwise {
                title: format!(
                    "{} for {}",
                    runtime.names().title_of(&locked.key()),
                    archive.platform
                ),
                runtime: runtime.name().to_owned(),
                locked: vec![archive.digest.to_string()],
                stated: digests,
            });
        }
    }
    Ok(())
}
