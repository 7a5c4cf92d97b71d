//! What belongs into an install and is no part of its build: packages that come from a registry.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::definition::{ArchiveLayout, Companion};
use vshelf_files::action::FileAction;
use vshelf_files::system;
use vshelf_files::tree::relative_target;
use vshelf_shelf::Manifest;
use vshelf_shelf::record::CompanionRecord;
use vshelf_sources::npm::{FittingCompanion, NpmRegistry};
use vshelf_sources::{Archive, SourceError};

use super::job::InstallJob;
use super::transfer::{self, TransferReport, transfer};
use crate::error::{Error, file_error};
use crate::events::{Event, Listener, TransferState};

/// A companion that was added.
pub struct Added {
    /// The bytes that came over the network.
    pub fetched: u64,
    /// What it consists of, links to its programs included.
    pub manifest: Manifest,
    /// Where it came from.
    pub record: CompanionRecord,
}

/// Adds a companion to an unpacked build; nothing where the build has it already, or where no
/// version of it fits.
pub fn add(
    job: &InstallJob,
    companion: &Companion,
    tree: &Path,
    listener: &dyn Listener,
) -> Result<Option<Added>, Error> {
    let folder = tree.join(&companion.folder);
    if folder.symlink_metadata().is_ok() {
        return Ok(None);
    }
    let Some(found) = fitting(job, companion)? else {
        listener.tell(Event::NoCompanion {
            package: &companion.package,
            title: &job.title(),
        });
        return Ok(None);
    };
    fs::create_dir_all(&folder).map_err(file_error(&folder, FileAction::Write))?;
    let title = format!("{} {}", companion.package, found.version);
    let report = TransferReport::begin(listener, title, None);
    let unpacked = transfer(
        job,
        found.archive,
        &ArchiveLayout::below(1),
        &folder,
        &report,
    )?;
    report.tell(TransferState::Dismissed);
    transfer::forget(job, &unpacked.archive);
    let mut links = Vec::new();
    for (link, program) in &companion.programs {
        // Not every version of a package has every program.
        if folder.join(program).exists() {
            let target = link_program(tree, &companion.folder, Path::new(link), program)?;
            links.push((Path::new(link), target));
        }
    }
    // Only now is it known which of its files are programs.
    let own = Manifest::of(&folder).map_err(file_error(&folder, FileAction::Read))?;
    let mut manifest = Manifest::default().with(&own, Path::new(&companion.folder));
    for (link, target) in &links {
        manifest = manifest.with_link(link, target);
    }
    Ok(Some(Added {
        fetched: unpacked.fetched,
        manifest,
        record: CompanionRecord {
            package: companion.package.clone(),
            version: found.version,
            address: unpacked.archive.addresses.first().to_string(),
            digest: unpacked.archive.digest.to_string(),
        },
    }))
}

/// The version of a companion that belongs to the release: that of the lock, of the source's catalog, or else the
/// newest that fits. `None` if there is none, or if the lock names none.
fn fitting(job: &InstallJob, companion: &Companion) -> Result<Option<FittingCompanion>, Error> {
    let package = &companion.package;
    let mut known = job.known_companions();
    let known = match known.find(|known| known.package == *package) {
        Some(known) => Some(FittingCompanion {
            version: known.version.clone(),
            archive: Archive::with_digest(&known.address, known.digest.clone())?,
        }),
        None => None,
    };
    let registry = NpmRegistry::new(job.registries.clone());
    let Some(lock) = job.grounds.lock() else {
        return match known {
            Some(known) => Ok(Some(known)),
            None => match registry.fitting(&job.transport, companion, &job.release.version) {
                Err(SourceError::NoCompanion { .. }) => Ok(None),
                found => Ok(Some(found?)),
            },
        };
    };
    let mut locked = lock.companions.iter();
    let Some(locked) = locked.find(|locked| locked.package == *package) else {
        return Ok(None);
    };
    let archive = match known.filter(|known| known.version == locked.version) {
        Some(known) => Some(known.archive),
        None => registry.exact(&job.transport, package, &locked.version)?,
    };
    match archive {
        Some(archive) if archive.digest == locked.digest => Ok(Some(FittingCompanion {
            version: locked.version.clone(),
            archive,
        })),
        other => Err(Error::LockedOtherwise {
            title: format!(
                "{package} {}, which belongs to {},",
                locked.version,
                job.title()
            ),
            runtime: job.definition.name.clone(),
            locked: vec![locked.digest.to_string()],
            stated: other
                .map(|archive| archive.digest.to_string())
                .into_iter()
                .collect(),
        }),
    }
}

/// Makes `link` in the tree lead to a program of a package in `folder`.
fn link_program(tree: &Path, folder: &str, link: &Path, program: &str) -> Result<PathBuf, Error> {
    let path = tree.join(folder).join(program);
    system::make_executable(&path).map_err(file_error(&path, FileAction::MakeProgram))?;
    let target = relative_target(link, &Path::new(folder).join(program));
    let place = tree.join(link);
    if let Some(parent) = place.parent() {
        fs::create_dir_all(parent).map_err(file_error(&place, FileAction::Write))?;
    }
    match system::symlink(&target, &place) {
        Err(error) if error.kind() != io::ErrorKind::AlreadyExists => {
            Err(file_error(&place, FileAction::Write)(error))
        }
        _ => Ok(target),
    }
}
