//! Releases with a catalog of ours in another place: as files that any web server or folder can serve, or in a
//! registry of containers.

mod contents;
mod error;
mod folder;
mod place;
mod registry;

use std::path::Path;

use vshelf_core::Platform;
use vshelf_core::catalog::{
    Build, BuildCompanion, Catalog, Checksum, Details, LibcVersion, Release, Repack,
};
use vshelf_core::definition::Companion;

use self::contents::empty;
pub use self::error::MirrorError;
pub use self::folder::DOCUMENT;
use self::folder::Folder;
pub use self::place::{Arrival, Way, Writing};
use self::place::{Entered, Pack, Place, Progress, Stored};
use self::registry::Registry;
use crate::api::PublishedCatalog;
use crate::checksums::Archive;
use crate::npm::FittingCompanion;
use crate::oci::Repository;
use crate::transport::Transport;

/// A mirror that is made or brought up to date.
#[derive(Debug)]
pub struct Mirror {
    place: Box<dyn Place>,
    published: PublishedCatalog,
    entered: Vec<Entered>,
}

impl Mirror {
    /// The mirror of `runtime` in `folder`, with what it holds already; waits for whoever works on it.
    pub fn in_folder(
        transport: &Transport,
        folder: &Path,
        runtime: &str,
    ) -> Result<Mirror, MirrorError> {
        let (place, published) = Folder::open(transport, folder, runtime)?;
        Ok(Mirror {
            published: published.unwrap_or_else(|| empty(runtime)),
            place: Box::new(place),
            entered: Vec::new(),
        })
    }

    /// The mirror of `runtime` in a repository, with what it holds already. Archives are on their way in
    /// `staging`, a folder; `signs` says whether what is written is going to be signed.
    pub fn in_registry(
        transport: &Transport,
        repository: Repository,
        staging: &Path,
        runtime: &str,
        signs: bool,
    ) -> Result<Mirror, MirrorError> {
        let (place, published) = Registry::open(transport, repository, staging, runtime, signs)?;
        Ok(Mirror {
            published: published.unwrap_or_else(|| empty(runtime)),
            place: Box::new(place),
            entered: Vec::new(),
        })
    }

    /// Takes over what a source says of lines, publishers and channels, and of the releases that
    /// are in the mirror: one may have been withdrawn since.
    pub fn take_over(&mut self, catalog: &Catalog) {
        contents::take_over(&mut self.published, catalog);
    }

    /// Brings the archive of a release for one platform into the mirror, unless it is there. Says how it came.
    pub fn bring(
        &mut self,
        (release, details): (&Release, &Details),
        build: &Build,
        archive: Archive,
        progress: Progress<'_>,
    ) -> Result<Arrival, MirrorError> {
        let name = file_name(&self.published.catalog.runtime, release, build, &archive);
        let known = self.address_of(&archive);
        let stored = self
            .place
            .bring(&name, &archive, known.as_deref(), progress)?;
        let Stored { arrival, .. } = stored;
        let build = Build {
            size: Some(stored.size),
            repack: build.repack,
            oldest_libc: build.oldest_libc,
            companions: build.companions.clone(),
            ..Build::new(
                build.platform.clone(),
                stored.address,
                Checksum::Digest(archive.digest),
            )
        };
        self.enter(release, details, build);
        Ok(arrival)
    }

    /// The address of an archive with the same digest that the catalog names.
    fn address_of(&self, archive: &Archive) -> Option<String> {
        let mut builds = self.published.builds();
        let same = builds.find(|build| build.checksum.digest() == Some(&archive.digest));
        same.map(|build| build.address.clone())
    }

    /// Brings a package that is added to builds into the mirror, unless it is there: what a build of the mirror
    /// says of it.
    pub fn bring_companion(
        &self,
        companion: &Companion,
        found: FittingCompanion,
    ) -> Result<BuildCompanion, MirrorError> {
        let name = companion.package.trim_start_matches('@').replace('/', "-");
        let name = format!("packages/{name}-{}.tgz", found.version);
        let builds = self.published.builds();
        let mut known = builds.flat_map(|build| &build.companions);
        let known = known.find(|known| known.digest == found.archive.digest);
        let known = known.map(|known| known.address.as_str());
        let stored = self
            .place
            .bring(&name, &found.archive, known, &mut |_, _, _| {})?;
        Ok(BuildCompanion {
            package: companion.package.clone(),
            version: found.version,
            address: stored.address,
            digest: found.archive.digest,
            folder: companion.folder.clone(),
            programs: companion.programs.clone(),
        })
    }

    /// Puts a build that was made on this machine into the mirror; `pack` writes its archive, the same bytes for
    /// the same build. Says how large that is, and how it came.
    pub fn pack(
        &mut self,
        (release, details): (&Release, &Details),
        platform: &Platform,
        oldest_libc: Option<LibcVersion>,
        pack: Pack<'_>,
    ) -> Result<(u64, Arrival), MirrorError> {
        let name = name_with(
            &self.published.catalog.runtime,
            release,
            platform,
            ".tar.zst",
        );
        let (stored, digest) = self.place.pack(&name, pack, &mut |_, _, _| {})?;
        let build = Build {
            size: Some(stored.size),
            // It is the publisher's release, and not the publisher's build.
            repack: Some(Repack { date: None }),
            oldest_libc,
            ..Build::new(platform.clone(), stored.address, Checksum::Digest(digest))
        };
        self.enter(release, details, build);
        Ok((stored.size, stored.arrival))
    }

    fn enter(&mut self, release: &Release, details: &Details, build: Build) {
        self.entered.push(Entered {
            version: release.version.clone(),
            publisher: release.publisher.to_string(),
            platform: build.platform.clone(),
        });
        contents::enter(&mut self.published, release, details, build);
    }

    /// Writes the catalog and what is beside it.
    pub fn write(&mut self, writing: &Writing<'_>) -> Result<(), MirrorError> {
        let published = &mut self.published;
        self.place.write(published, &self.entered, writing)
    }

    /// The definition that the mirror has, where it has one.
    pub fn definition(&self) -> Result<Option<String>, MirrorError> {
        self.place.definition()
    }

    /// How many releases and archives the mirror has, and their bytes.
    pub fn holds(&self) -> (usize, usize, u64) {
        let builds = || self.published.builds();
        let bytes = builds().filter_map(|build| build.size).sum();
        (self.published.details.len(), builds().count(), bytes)
    }
}

/// The name of an archive below `files`.
fn file_name(runtime: &str, release: &Release, build: &Build, archive: &Archive) -> String {
    const ENDS: [&str; 7] = [
        ".tar.gz", ".tgz", ".tar.xz", ".txz", ".tar.zst", ".zip", ".whl",
    ];
    let own = archive.addresses.first().file_name();
    // What it is stands in its first bytes; the name is for people.
    let end = ENDS.iter().find(|end| own.ends_with(*end)).unwrap_or(&"");
    name_with(runtime, release, &build.platform, end)
}

/// The name of an archive for a platform, with this end, below `files`.
fn name_with(runtime: &str, release: &Release, platform: &Platform, end: &str) -> String {
    let (publisher, version) = (&release.publisher, &release.version);
    format!("{publisher}/{runtime}-{version}-{platform}{end}")
}
