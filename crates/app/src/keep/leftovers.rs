//! What was left behind: by commands that were cut off, by downloads that nobody goes on with, by
//! sources that are no longer defined.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use serde::Serialize;
use vshelf_files::action::FileAction;
use vshelf_files::freed::Freed;
use vshelf_files::lock::Lock;
use vshelf_files::optional;
use vshelf_files::tree::{bytes_in, remove_tree_telling};
use vshelf_shelf::recovery::{self, Abandoned, Stuck};
use vshelf_shelf::trash::{Running, Trashed};

use super::trash;
use crate::definitions;
use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::install::from_source::{self, UnfinishedBuild};

/// How old a partial download is before nobody goes on with it.
const STALE: Duration = Duration::from_secs(7 * 24 * 60 * 60);

/// What commands can leave behind.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum LeftoverKind {
    /// The stage of a command that was cut off.
    UnfinishedCommand,
    /// A download that nobody goes on with.
    PartialDownload,
    /// A catalog of a source that is no longer defined.
    UnknownCatalog,
    /// A build from source that failed or was interrupted.
    UnfinishedBuild,
    /// A removed install in the trash.
    RemovedInstall,
}

impl LeftoverKind {
    /// Every kind, in the order in which they are told.
    pub const ALL: [LeftoverKind; 5] = [
        LeftoverKind::UnfinishedCommand,
        LeftoverKind::PartialDownload,
        LeftoverKind::UnknownCatalog,
        LeftoverKind::UnfinishedBuild,
        LeftoverKind::RemovedInstall,
    ];
}

/// Something that commands left behind and nobody needs.
#[derive(Debug)]
pub struct Leftover {
    /// What it is.
    pub kind: LeftoverKind,
    /// Its bytes.
    pub bytes: u64,
    place: Place,
}

#[derive(Debug)]
enum Place {
    Abandoned(Abandoned),
    File(PathBuf),
    /// A build, which nobody goes on with while the lock is held.
    Build(PathBuf, Lock),
    Trash(Box<Trashed>),
}

impl Leftover {
    fn abandoned(abandoned: Abandoned) -> Leftover {
        Leftover {
            kind: LeftoverKind::UnfinishedCommand,
            // What cannot be read is told when it cannot be deleted.
            bytes: bytes_in(abandoned.folder()).unwrap_or_default(),
            place: Place::Abandoned(abandoned),
        }
    }

    fn file(kind: LeftoverKind, path: PathBuf) -> Result<Leftover, Error> {
        Ok(Leftover {
            kind,
            bytes: bytes_in(&path).map_err(file_error(&path, FileAction::Read))?,
            place: Place::File(path),
        })
    }

    fn trashed(trashed: Trashed) -> Result<Leftover, Error> {
        let bytes = trashed.bytes();
        Ok(Leftover {
            kind: LeftoverKind::RemovedInstall,
            bytes: bytes.map_err(file_error(trashed.folder(), FileAction::Read))?,
            place: Place::Trash(Box::new(trashed)),
        })
    }

    fn build((folder, lock): (PathBuf, Lock)) -> Result<Leftover, Error> {
        Ok(Leftover {
            kind: LeftoverKind::UnfinishedBuild,
            bytes: bytes_in(&folder).map_err(file_error(&folder, FileAction::Read))?,
            place: Place::Build(folder, lock),
        })
    }

    /// Deletes it, tells `freed` as that goes on where it takes long, and says how many bytes it freed.
    pub fn delete(self, freed: &Freed) -> Result<u64, Error> {
        match self.place {
            Place::Abandoned(abandoned) => abandoned
                .delete(freed)
                .map_err(|stuck| file_error(&stuck.folder, FileAction::Delete)(stuck.source)),
            Place::File(path) => {
                optional::remove(&path).map_err(file_error(&path, FileAction::Delete))?;
                Ok(self.bytes)
            }
            Place::Trash(trashed) => trash::delete(*trashed, Running::Spared, freed),
            Place::Build(folder, lock) => {
                let deleted = remove_tree_telling(&folder, freed).whole();
                drop(lock);
                deleted.map_err(file_error(&folder, FileAction::Delete))
            }
        }
    }
}

/// What commands that were cut off left behind, and what of that cannot even be looked at.
pub fn unfinished(environment: &Environment) -> Result<(Vec<Leftover>, Vec<Stuck>), Error> {
    let layout = environment.layout()?;
    let (abandoned, stuck) = recovery::abandoned_folders(&layout)
        .map_err(file_error(&layout.staging(), FileAction::Read))?;
    let leftovers = abandoned.into_iter().map(Leftover::abandoned);
    Ok((leftovers.collect(), stuck))
}

/// The builds from source that failed or were interrupted; the same install resumes them.
pub fn unfinished_builds(environment: &Environment) -> Result<Vec<UnfinishedBuild>, Error> {
    let idle = idle_builds(environment)?.into_iter();
    Ok(idle
        .filter_map(|(folder, _lock)| from_source::unfinished_build(&folder))
        .collect())
}

/// The folders of builds that nobody works on, each with its lock.
fn idle_builds(environment: &Environment) -> Result<Vec<(PathBuf, Lock)>, Error> {
    let builds = environment.layout()?.builds();
    let mut idle = Vec::new();
    for entry in optional::entries(&builds).map_err(file_error(&builds, FileAction::Read))? {
        let folder = entry.path();
        if folder.is_dir() {
            let lock = Lock::try_acquire(&from_source::lock_of(&folder));
            let lock = lock.map_err(file_error(&folder, FileAction::Read))?;
            idle.extend(lock.map(|lock| (folder, lock)));
        }
    }
    Ok(idle)
}

/// Everything that was left behind; of the trash what is overdue, or all of it.
pub fn find(environment: &Environment, all_trash: bool) -> Result<Vec<Leftover>, Error> {
    let folders = environment.folders()?;
    let (mut found, _) = unfinished(environment)?;
    let archives = folders.cache.join("archives");
    for entry in optional::entries(&archives).map_err(file_error(&archives, FileAction::Read))? {
        if is_stale(&entry.path()) {
            found.push(Leftover::file(LeftoverKind::PartialDownload, entry.path())?);
        }
    }
    for build in idle_builds(environment)? {
        found.push(Leftover::build(build)?);
    }
    for path in unclaimed_catalogs(environment)? {
        found.push(Leftover::file(LeftoverKind::UnknownCatalog, path)?);
    }
    let trashed = match all_trash {
        true => trash::all(environment)?,
        false => trash::overdue(environment)?,
    };
    for trashed in trashed {
        found.push(Leftover::trashed(trashed)?);
    }
    Ok(found)
}

/// The files of catalogs of sources that are no longer defined.
fn unclaimed_catalogs(environment: &Environment) -> Result<Vec<PathBuf>, Error> {
    let folders = environment.folders()?;
    let (catalogs, folder) = (environment.catalogs()?, folders.cache.join("catalogs"));
    let names = catalogs.kept_of(definitions::names(folders)?);
    let names = names
        .map_err(file_error(&folder, FileAction::Read))?
        .into_iter();
    let definitions = names.map(|name| environment.definition(&name));
    let definitions = match definitions.collect::<Result<Vec<_>, _>>() {
        // Nobody knows which catalogs a broken definition claims.
        Err(Error::Definition { .. }) => return Ok(Vec::new()),
        definitions => definitions?,
    };
    let unclaimed = catalogs.unclaimed(&definitions);
    unclaimed.map_err(file_error(&folder, FileAction::Read))
}

/// Whether a file was not written to for long, by the clock that files have their times from.
fn is_stale(path: &Path) -> bool {
    let modified = fs::metadata(path).and_then(|found| found.modified());
    let age = modified.map(|modified| SystemTime::now().duration_since(modified));
    age.is_ok_and(|age| age.is_ok_and(|age| age > STALE))
}
