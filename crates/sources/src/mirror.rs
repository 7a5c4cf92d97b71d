//! A static tree of a catalog of ours with its archives, which any web server or folder can serve.
//!
//! `<folder>/catalog.json` names files below `<folder>/files/`. What is there already and is as the
//! catalog promises is not fetched again; a document takes the place of the one before at once, and
//! only names what is there.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use vshelf_core::Platform;
use vshelf_core::catalog::{
    Build, BuildCompanion, Catalog, Checksum, Details, DigestAlgorithm, LibcVersion, Release,
    Repack,
};
use vshelf_core::definition::Companion;
use vshelf_files::{atomic, optional};

use crate::address::Address;
use crate::api::PublishedCatalog;
use crate::checksums::Archive;
use crate::digest::digest_of_file;
use crate::document;
use crate::download::{Download, DownloadError, Progress};
use crate::npm::FittingCompanion;
use crate::transport::Transport;

/// The name of the document in the tree.
pub const DOCUMENT: &str = "catalog.json";

/// A tree that is made or brought up to date.
#[derive(Debug)]
pub struct Mirror {
    folder: PathBuf,
    published: PublishedCatalog,
    /// Held as long as this is: two that work on one tree would forget what the other added.
    _lock: File,
}

/// Why a tree cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum MirrorError {
    /// A file of it cannot be read or written.
    #[error("{path} cannot be written")]
    File {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// What stands there is no catalog of this runtime.
    #[error("{path} is not a catalog that can be extended: {problem}")]
    Other {
        /// The document.
        path: PathBuf,
        /// What is wrong with it.
        problem: String,
    },
    /// An archive does not come.
    #[error(transparent)]
    Download(#[from] DownloadError),
}

fn failed(path: &Path) -> impl FnOnce(io::Error) -> MirrorError {
    let path = path.to_owned();
    |source| MirrorError::File { path, source }
}

impl Mirror {
    /// The tree of `runtime` in `folder`, with what it holds already; waits for whoever works on it.
    pub fn open(folder: &Path, runtime: &str) -> Result<Mirror, MirrorError> {
        fs::create_dir_all(folder).map_err(failed(folder))?;
        let place = folder.join(".lock");
        let lock = File::create(&place).map_err(failed(&place))?;
        lock.lock().map_err(failed(&place))?;
        let path = folder.join(DOCUMENT);
        let address = Address::File(path.clone());
        let published = match optional::read(&path).map_err(failed(&path))? {
            Some(bytes) => document::read(&bytes, runtime, &address)
                .map_err(|problem| MirrorError::Other { path, problem })?,
            None => {
                let catalog = Catalog {
                    runtime: runtime.to_owned(),
                    ..Catalog::default()
                };
                PublishedCatalog::new(catalog, Default::default(), &address)
            }
        };
        Ok(Mirror {
            folder: folder.to_owned(),
            published,
            _lock: lock,
        })
    }

    /// Takes over what a source says of lines, publishers and channels, and of the releases that
    /// are in the tree: one may have been withdrawn since.
    pub fn take_over(&mut self, catalog: &Catalog) {
        let own = &mut self.published.catalog;
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

    /// Brings the archive of a release for one platform into the tree, unless it is there. Gives
    /// back the bytes that came.
    pub fn bring(
        &mut self,
        transport: &Transport,
        release: &Release,
        details: &Details,
        build: &Build,
        archive: Archive,
        progress: Progress<'_>,
    ) -> Result<u64, MirrorError> {
        let name = file_name(&self.published.catalog.runtime, release, build, &archive);
        let path = self.folder.join("files").join(&name);
        let parent = path.parent().unwrap_or(&self.folder);
        fs::create_dir_all(parent).map_err(failed(parent))?;
        let mut came = 0;
        if !is_whole(&path, &archive).map_err(failed(&path))? {
            came = download(transport, &archive, &path, progress)?;
        }
        let size = fs::metadata(&path).map_err(failed(&path))?.len();
        let build = Build {
            size: Some(size),
            repack: build.repack,
            oldest_libc: build.oldest_libc,
            companions: build.companions.clone(),
            ..Build::new(
                build.platform.clone(),
                path.to_string_lossy().into_owned(),
                Checksum::Digest(archive.digest),
            )
        };
        self.enter(release, details, build);
        Ok(came)
    }

    /// Brings a package that is added to builds into the tree, unless it is there: what a build of the tree says
    /// of it.
    pub fn bring_companion(
        &self,
        transport: &Transport,
        companion: &Companion,
        found: FittingCompanion,
    ) -> Result<BuildCompanion, MirrorError> {
        let name = companion.package.trim_start_matches('@').replace('/', "-");
        let name = format!("packages/{name}-{}.tgz", found.version);
        let path = self.folder.join("files").join(name);
        let parent = path.parent().unwrap_or(&self.folder);
        fs::create_dir_all(parent).map_err(failed(parent))?;
        if !is_whole(&path, &found.archive).map_err(failed(&path))? {
            download(transport, &found.archive, &path, &mut |_, _| {})?;
        }
        Ok(BuildCompanion {
            package: companion.package.clone(),
            version: found.version,
            address: path.to_string_lossy().into_owned(),
            digest: found.archive.digest,
            folder: companion.folder.clone(),
            programs: companion.programs.clone(),
        })
    }

    /// Puts a build that was made on this machine into the tree; `pack` writes its archive, the same bytes for
    /// the same build. Says how large that is, and whether it was there already.
    pub fn pack(
        &mut self,
        release: &Release,
        details: &Details,
        platform: &Platform,
        oldest_libc: Option<LibcVersion>,
        pack: &mut dyn FnMut(&File) -> io::Result<()>,
    ) -> Result<(u64, bool), MirrorError> {
        let name = name_with(
            &self.published.catalog.runtime,
            release,
            platform,
            ".tar.zst",
        );
        let path = self.folder.join("files").join(name);
        let parent = path.parent().unwrap_or(&self.folder);
        fs::create_dir_all(parent).map_err(failed(parent))?;
        let mut half = tempfile::Builder::new()
            .permissions(fs::Permissions::from_mode(0o644))
            .tempfile_in(parent)
            .map_err(failed(parent))?;
        pack(half.as_file_mut()).map_err(failed(half.path()))?;
        let digest_of =
            |path: &Path| digest_of_file(DigestAlgorithm::Sha256, path).map_err(failed(path));
        let digest = digest_of(half.path())?;
        let is_there = path.exists() && digest_of(&path)? == digest;
        if !is_there {
            let kept = half.as_file().sync_all().map_err(failed(&path));
            kept?;
            half.persist(&path)
                .map_err(|error| failed(&path)(error.error))?;
        }
        let size = fs::metadata(&path).map_err(failed(&path))?.len();
        let build = Build {
            size: Some(size),
            // It is the publisher's release, and not the publisher's build.
            repack: Some(Repack { date: None }),
            oldest_libc,
            ..Build::new(
                platform.clone(),
                path.to_string_lossy().into_owned(),
                Checksum::Digest(digest),
            )
        };
        self.enter(release, details, build);
        Ok((size, is_there))
    }

    fn enter(&mut self, release: &Release, details: &Details, build: Build) {
        let catalog = &mut self.published.catalog;
        if catalog
            .release(&release.version, &release.publisher)
            .is_none()
        {
            catalog.releases.push(Release {
                platforms: Arc::new([]),
                ..release.clone()
            });
        }
        let key = (release.version.clone(), release.publisher.clone());
        let card = self.published.details.entry(key).or_default();
        card.bundles.clone_from(&details.bundles);
        card.notes.clone_from(&details.notes);
        card.builds.retain(|other| other.platform != build.platform);
        card.builds.push(build);
    }

    /// Writes the document, made at `now`.
    pub fn write(&mut self, now: Timestamp) -> Result<(), MirrorError> {
        self.published.catalog.updated = Some(now);
        for card in self.published.details.values_mut() {
            for build in &mut card.builds {
                build.address = relative(&self.folder, &build.address);
                for companion in &mut build.companions {
                    companion.address = relative(&self.folder, &companion.address);
                }
            }
        }
        self.write_file(DOCUMENT, &document::write(&self.published))
    }

    /// Writes a file beside the document, at once and with the permissions of any new file: others
    /// read it, such as a web server.
    pub fn write_file(&self, name: &str, text: &str) -> Result<(), MirrorError> {
        let path = self.folder.join(name);
        atomic::write_shared(&path, text.as_bytes()).map_err(failed(&path))
    }

    /// How many releases and archives the tree has, and their bytes.
    pub fn holds(&self) -> (usize, usize, u64) {
        let builds = || {
            self.published
                .details
                .values()
                .flat_map(|card| &card.builds)
        };
        let bytes = builds().filter_map(|build| build.size).sum();
        (self.published.details.len(), builds().count(), bytes)
    }
}

/// A file of the tree in `folder`, as the document names it.
fn relative(folder: &Path, address: &str) -> String {
    let below = Path::new(address).strip_prefix(folder);
    below.map_or_else(
        |_| address.to_owned(),
        |below| below.to_string_lossy().into_owned(),
    )
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

/// Whether a file is there and has the bytes that are promised.
fn is_whole(path: &Path, archive: &Archive) -> io::Result<bool> {
    match fs::metadata(path) {
        Ok(found) if archive.size.is_none_or(|size| size == found.len()) => {
            Ok(digest_of_file(archive.digest.algorithm, path)? == archive.digest)
        }
        Ok(_) => Ok(false),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
        Err(error) => Err(error),
    }
}

/// Brings an archive to `path`; what is there of it is continued.
fn download(
    transport: &Transport,
    archive: &Archive,
    path: &Path,
    progress: Progress<'_>,
) -> Result<u64, MirrorError> {
    let beside = |end: &str| {
        let mut name = path.as_os_str().to_owned();
        name.push(end);
        PathBuf::from(name)
    };
    let (partial, half) = (beside(".partial"), beside(".new"));
    let mut file = File::create(&half).map_err(failed(&half))?;
    let download = Download {
        archive: archive.clone(),
        partial,
    };
    let came = download.run(transport, &mut |piece| file.write_all(piece), progress);
    if came.is_err() {
        // The partial file has what is worth keeping.
        fs::remove_file(&half).map_err(failed(&half))?;
    }
    let came = came?;
    (file.sync_all().and_then(|()| fs::rename(&half, path))).map_err(failed(path))?;
    Ok(came)
}
