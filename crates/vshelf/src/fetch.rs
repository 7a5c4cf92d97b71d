//! Bringing builds onto the shelf, several at a time: download, digest and unpacking at once, then
//! what belongs to them, then the first start.

use std::collections::VecDeque;
use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::thread;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use vshelf_core::Definition;
use vshelf_core::catalog::{Build, Release};
use vshelf_core::definition::{Companion, SourceDefinition};
use vshelf_shelf::pipe::pipe;
use vshelf_shelf::receipt::{CompanionReceipt, ReceiptContents};
use vshelf_shelf::shelf::Durability;
use vshelf_shelf::unpack::{Bounds, unpack};
use vshelf_shelf::{Install, Manifest, Shelf};
use vshelf_sources::npm::NpmRegistry;
use vshelf_sources::registry::UserSettings;
use vshelf_sources::transport::Transport;
use vshelf_sources::{Archive, Download, DownloadError, SourceError};

use crate::failure::{Failure, Kind, file_failure};
use crate::first_start::first_start;
use crate::progress::{Bar, Progress};
use crate::runtime::Runtime;
use crate::ui::Ui;

/// How many installs are made at a time: two keep the cores busy, and a third uses the time that
/// they wait for the network.
const AT_A_TIME: usize = 3;

/// An install to be made: all that it takes, so that it can be made on a thread of its own.
#[derive(Clone, Debug)]
pub struct Order {
    /// What the runtime is.
    pub definition: Definition,
    /// The source that has it.
    pub source: SourceDefinition,
    /// The release.
    pub release: Release,
    /// Its builds for this platform, best first.
    pub builds: Vec<Build>,
    /// The key that it gets.
    pub key: String,
    /// What is done otherwise than usual.
    pub exceptions: Exceptions,
    /// The digest that the archive must have, where it is known from before.
    pub expected: Option<String>,
    shelf: Shelf,
    transport: Transport,
    /// The folder of downloads under way.
    archives: PathBuf,
    durability: Durability,
    /// When it was asked for.
    now: Timestamp,
}

/// What is done otherwise than usual.
#[derive(Clone, Copy, Debug, Default)]
pub struct Exceptions {
    /// It is kept even if it does not start.
    pub keep_broken: bool,
    /// It is fetched even if it is on the shelf, and takes the place of what is there.
    pub anew: bool,
}

/// What came of an order.
#[derive(Debug)]
pub enum Brought {
    /// It is new on the shelf.
    New {
        /// The install.
        install: Box<Install>,
        /// The bytes that came over the network.
        came: u64,
        /// How long it took.
        took: Duration,
    },
    /// It was there already.
    Already,
}

impl Order {
    /// An order for a release of this runtime; nothing is asked or made yet.
    pub fn new(
        runtime: &Runtime<'_>,
        source: &SourceDefinition,
        release: &Release,
        builds: Vec<Build>,
        exceptions: Exceptions,
    ) -> Result<Order, Failure> {
        let context = runtime.context();
        Ok(Order {
            definition: runtime.definition.clone(),
            source: source.clone(),
            key: runtime.key_for(release.version.as_str(), &release.publisher),
            release: release.clone(),
            builds,
            exceptions,
            expected: None,
            shelf: runtime.shelf.clone(),
            transport: context.transport.clone(),
            archives: context.folders()?.cache.join("archives"),
            durability: context.settings()?.durability(),
            now: context.now()?,
        })
    }

    /// The runtime and version, for people; the publisher too where it is not the main one.
    pub fn title(&self) -> String {
        let (title, version) = (&self.definition.title, &self.release.version);
        match self.key == version.as_str() {
            true => format!("{title} {version}"),
            false => format!("{title} {}/{version}", self.release.publisher),
        }
    }

    /// Brings the release onto the shelf, unless it is there.
    fn carry_out(&self, ui: &Ui, progress: &Progress) -> Result<Brought, Failure> {
        if self.is_done()? {
            return Ok(Brought::Already);
        }
        let _lock = self.shelf.lock(&self.key, &mut |holder| {
            progress.note(
                ui,
                &format!(
                    "Another command ({holder}) is at work on {}; waiting for it.",
                    self.key
                ),
            );
        })?;
        if self.is_done()? {
            return Ok(Brought::Already);
        }
        let archive = Archive::settle(&self.transport, &self.builds.iter().collect::<Vec<_>>())?;
        self.check_expected(&archive)?;
        let bar = progress.begin(ui, &self.title(), archive.size);
        let brought = self.make(ui, progress, archive, &bar);
        let how = if brought.is_ok() { "done" } else { "failed" };
        bar.end(progress, how);
        brought
    }

    /// Whether what is offered now is what was offered before.
    fn check_expected(&self, archive: &Archive) -> Result<(), Failure> {
        let now = archive.digest.to_string();
        match &self.expected {
            Some(before) if *before != now => {
                let message = format!(
                    "{} is offered with another digest than before",
                    self.title()
                );
                let mut failure = Failure::new(Kind::Verification, message);
                failure
                    .causes
                    .push(format!("it was {before}, and is {now}"));
                let selector = format!("{}@{}", self.definition.name, self.release.version);
                Err(failure.run(
                    "To install what is offered now all the same",
                    format!("vshelf install {selector}"),
                ))
            }
            _ => Ok(()),
        }
    }

    /// Makes the install in a stage, and puts it on the shelf when it is whole.
    fn make(
        &self,
        ui: &Ui,
        progress: &Progress,
        archive: Archive,
        bar: &Bar<'_>,
    ) -> Result<Brought, Failure> {
        let begun = Instant::now();
        let stage = self.shelf.stage(&self.key)?;
        let tree = stage.path().join("tree");
        fs::create_dir(&tree).map_err(|e| file_failure(&tree, "written", e))?;
        let taken = self.take(archive, self.source.strip_folders, &tree, bar)?;
        let (mut came, mut manifest) = (taken.came, taken.manifest);
        let mut companions = Vec::new();
        for companion in self.source.kind.companions() {
            if let Some(joined) = self.join(ui, progress, companion, &tree)? {
                came += joined.came;
                manifest = manifest.with(&joined.manifest, Path::new(""));
                companions.push(joined.receipt);
            }
        }
        bar.now("starting it once");
        let broken = first_start(self, &tree)?;
        bar.now("writing it to the disk");
        let address = &taken.archive.addresses[0];
        let contents = ReceiptContents {
            runtime: self.definition.name.clone(),
            version: self.release.version.clone(),
            publisher: self.release.publisher.to_string(),
            source: self.source.name.clone(),
            platform: (self.builds.iter())
                .find(|build| build.address == address.to_string())
                .map_or_else(String::new, |build| build.platform.to_string()),
            address: address.to_string(),
            digest: Some(taken.archive.digest.to_string()),
            archive_size: taken.archive.size,
            unpacked_size: manifest.bytes(),
            files: manifest.files(),
            installed: self.now,
            companions,
            adopted: None,
            broken,
        };
        let install =
            (self.shelf).shelve(&self.key, &tree, contents, &manifest, self.durability)?;
        Ok(Brought::New {
            install: Box::new(install),
            came,
            took: begun.elapsed(),
        })
    }

    fn is_done(&self) -> Result<bool, Failure> {
        if self.exceptions.anew || self.shelf.install(&self.key)?.is_none() {
            return Ok(false);
        }
        // It may have been put there by a process that died before it cleaned up.
        self.shelf.sweep()?;
        Ok(true)
    }

    /// Downloads an archive and unpacks it into `tree`, in one pass over the bytes: this thread
    /// writes while others download and decode.
    fn take(
        &self,
        archive: Archive,
        strip_folders: usize,
        tree: &Path,
        bar: &Bar<'_>,
    ) -> Result<Taken, Failure> {
        let partial = self.partial_file(&archive)?;
        let download = Download { archive, partial };
        let (mut writer, reader) = pipe();
        let (downloaded, unpacked) = thread::scope(|scope| {
            let downloading = scope.spawn(|| {
                let mut sink = |piece: &[u8]| writer.write_all(piece);
                let mut on_progress = |bytes, all| bar.at(bytes, all);
                let came = download.run(&self.transport, &mut sink, &mut on_progress)?;
                // Only a verified archive ends; a wrong one breaks off, and unpacking fails with it.
                writer.finish().map_err(DownloadError::Sink)?;
                Ok(came)
            });
            let unpacked = unpack(reader, strip_folders, tree, Bounds::default());
            let downloaded: Result<u64, DownloadError> =
                downloading.join().expect("the download does not panic");
            (downloaded, unpacked)
        });
        match (downloaded, unpacked) {
            (Ok(came), Ok(manifest)) => Ok(Taken {
                came,
                manifest,
                archive: download.archive,
            }),
            // When unpacking stops first, the download only notices that nobody listens.
            (Err(DownloadError::Sink(_)) | Ok(_), Err(error)) => {
                let address = download.archive.addresses[0].to_string();
                Err(Failure::unpacking(&address, &error))
            }
            (Err(error), _) => Err(error.into()),
        }
    }

    /// The file that keeps what came of an archive so far. Its digest makes sure that only the same
    /// bytes are gone on with, and its key that only the holder of that key's lock writes to it.
    fn partial_file(&self, archive: &Archive) -> Result<PathBuf, Failure> {
        let folder = &self.archives;
        fs::create_dir_all(folder).map_err(|e| file_failure(folder, "written", e))?;
        let digest = archive.digest.to_string().replace(':', "-");
        let (runtime, key) = (&self.definition.name, &self.key);
        Ok(folder.join(format!("{runtime}-{key}-{digest}.partial")))
    }

    /// Brings what belongs to the build and comes from elsewhere; nothing where the build has it
    /// already, or where no version of it fits.
    fn join(
        &self,
        ui: &Ui,
        progress: &Progress,
        companion: &Companion,
        tree: &Path,
    ) -> Result<Option<Joined>, Failure> {
        let folder = tree.join(&companion.folder);
        if folder.symlink_metadata().is_ok() {
            return Ok(None);
        }
        let registry = NpmRegistry::new(UserSettings::of_this_user());
        let found = match registry.fitting(&self.transport, companion, &self.release.version) {
            Ok(found) => found,
            Err(SourceError::NoCompanion { .. }) => {
                let package = &companion.package;
                let title = self.title();
                progress.note(
                    ui,
                    &format!("No {package} says that it runs on {title}; it comes without."),
                );
                return Ok(None);
            }
            Err(error) => return Err(error.into()),
        };
        fs::create_dir_all(&folder).map_err(|e| file_failure(&folder, "written", e))?;
        let bar = progress.begin(
            ui,
            &format!("{} {}", companion.package, found.version),
            None,
        );
        let taken = self.take(found.archive, 1, &folder, &bar)?;
        bar.leave();
        let mut links = Vec::new();
        for (link, program) in &companion.programs {
            // Not every version of a package has every program.
            if folder.join(program).exists() {
                let target = link_program(tree, &companion.folder, Path::new(link), program)?;
                links.push((Path::new(link), target));
            }
        }
        // Only now is it known which of its files are programs.
        let own = Manifest::of(&folder).map_err(|e| file_failure(&folder, "read", e))?;
        let mut manifest = Manifest::default().with(&own, Path::new(&companion.folder));
        for (link, target) in &links {
            manifest = manifest.with_link(link, target);
        }
        Ok(Some(Joined {
            came: taken.came,
            manifest,
            receipt: CompanionReceipt {
                package: companion.package.clone(),
                version: found.version,
                address: taken.archive.addresses[0].to_string(),
                digest: taken.archive.digest.to_string(),
            },
        }))
    }
}

/// An archive that was unpacked.
struct Taken {
    came: u64,
    manifest: Manifest,
    archive: Archive,
}

/// A companion that was unpacked.
struct Joined {
    came: u64,
    manifest: Manifest,
    receipt: CompanionReceipt,
}

/// Makes `link` in the tree lead to a program of a package in `folder`; the target is relative, so
/// that the tree can be moved.
fn link_program(tree: &Path, folder: &str, link: &Path, program: &str) -> Result<PathBuf, Failure> {
    let path = tree.join(folder).join(program);
    let failed = |e| file_failure(&path, "made a program", e);
    let mut permissions = fs::metadata(&path).map_err(failed)?.permissions();
    permissions.set_mode(permissions.mode() | 0o111);
    fs::set_permissions(&path, permissions).map_err(failed)?;
    let up = link
        .parent()
        .map_or(0, |parent| parent.components().count());
    let target: PathBuf = (0..up).map(|_| "..").chain([folder, program]).collect();
    let place = tree.join(link);
    let failed = |e| file_failure(&place, "written", e);
    if let Some(parent) = place.parent() {
        fs::create_dir_all(parent).map_err(failed)?;
    }
    match symlink(&target, &place) {
        Err(error) if error.kind() != io::ErrorKind::AlreadyExists => Err(failed(error)),
        _ => Ok(target),
    }
}

/// Carries out all orders, some at a time, and gives back what came of each, in their order. One
/// that fails stops no other.
pub fn bring(ui: &Ui, orders: &[Order]) -> Vec<Result<Brought, Failure>> {
    let longest = orders
        .iter()
        .map(|order| order.title().chars().count())
        .max();
    let progress = Progress::new(ui, orders.len() > 1, longest.unwrap_or(0));
    let waiting: Mutex<VecDeque<usize>> = Mutex::new((0..orders.len()).collect());
    let next = || waiting.lock().expect("no worker panics").pop_front();
    let mut results: Vec<(usize, Result<Brought, Failure>)> = thread::scope(|scope| {
        let work = || {
            let mut done = Vec::new();
            while let Some(index) = next() {
                done.push((index, orders[index].carry_out(ui, &progress)));
            }
            done
        };
        let workers: Vec<_> = (0..orders.len().min(AT_A_TIME))
            .map(|_| scope.spawn(work))
            .collect();
        workers
            .into_iter()
            .flat_map(|worker| worker.join().expect("no worker panics"))
            .collect()
    });
    progress.end();
    results.sort_by_key(|(index, _)| *index);
    results.into_iter().map(|(_, result)| result).collect()
}
