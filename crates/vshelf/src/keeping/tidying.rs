//! What is outdated on the shelf, with all that the disk and the system know of who uses it; and what
//! else was left behind.

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::activation::Rule;
use vshelf_core::pin;
use vshelf_core::tidy::{self, Entry, Held, Protection, Reason};
use vshelf_shelf::staging::{Leftover, bytes_in};
use vshelf_shelf::usage::{
    Process, SwitchedShell, processes_below, started_switched, switched_shells,
};
use vshelf_shelf::{Install, Shelf, journal};
use vshelf_view::words::{Count, printable, span};

use crate::activity::Activity;
use crate::calling_shell::SWITCHED;
use crate::context::Context;
use crate::definitions;
use crate::failure::{Failure, file_failure};
use crate::project;
use crate::runtime::Runtime;

/// How old a partial download is before nobody goes on with it.
const STALE: Duration = Duration::from_secs(7 * 24 * 60 * 60);

/// Who uses what is on the shelf, as far as this machine tells.
#[derive(Debug)]
pub struct Surroundings {
    shells: Vec<SwitchedShell>,
    processes: Vec<Process>,
    /// Processes with the switches that they were started with.
    started: Vec<(Process, BTreeMap<String, String>)>,
    projects: Vec<PathBuf>,
}

impl Surroundings {
    /// Looks around.
    pub fn look(context: &Context) -> Result<Surroundings, Failure> {
        let folders = context.folders()?;
        let failed = |error| file_failure(&folders.data, "read", error);
        let shells = switched_shells(folders).map_err(failed)?;
        let mut started = started_switched(folders, SWITCHED);
        // Of a shell that was switched since, the note counts, and of the calling one its variables.
        started.retain(|(process, _)| {
            let is_noted = shells.iter().any(|shell| shell.id == process.id);
            !is_noted && context.shell.id() != Some(process.id)
        });
        Ok(Surroundings {
            shells,
            started,
            processes: processes_below(&folders.data),
            projects: projects_seen(context)?,
        })
    }
}

/// A project seen on this machine, and what it asks of a runtime.
#[derive(Clone, Debug)]
pub struct ProjectWish {
    /// The file that says it.
    pub file: PathBuf,
    /// The wish.
    pub request: Request,
}

/// What the projects with these pin files ask of a runtime. One that is gone or cannot be read asks
/// for nothing.
pub fn project_wishes(runtime: &Runtime<'_>, projects: &[PathBuf]) -> Vec<ProjectWish> {
    let kinds = pin::files(runtime.name(), &runtime.definition.pins);
    let wish = |path: &PathBuf| {
        let name = path.file_name().unwrap_or_default();
        let mut same = kinds.iter().filter(|kind| name == kind.file.as_str());
        let wish = same.find_map(|kind| project::read_wish(runtime, path, kind).ok().flatten());
        wish.map(|wish| ProjectWish {
            file: path.clone(),
            request: wish.request,
        })
    };
    projects.iter().filter_map(wish).collect()
}

/// The pin files of the projects that were seen on this machine.
pub fn projects_seen(context: &Context) -> Result<Vec<PathBuf>, Failure> {
    let folders = context.folders()?;
    journal::projects(folders)
        .map_err(|error| file_failure(&journal::projects_path(folders), "read", error))
}

/// What a person says of single installs.
#[derive(Debug, Default)]
pub struct Wishes {
    /// The keys of installs to remove whether or not they are outdated.
    pub include: Vec<String>,
    /// The keys of installs to leave out this time.
    pub except: Vec<String>,
}

/// The plan for one runtime's shelf.
pub fn plan<'r>(
    runtime: &'r Runtime<'_>,
    surroundings: &Surroundings,
    wishes: &Wishes,
) -> Result<Vec<Entry<'r>>, Failure> {
    let context = runtime.context();
    let activity = Activity::of(runtime);
    let pins = project_wishes(runtime, &surroundings.projects);
    let pins: Vec<(String, PathBuf)> = (pins.into_iter())
        .filter_map(|wish| Some((runtime.key_meeting(&wish.request)?, wish.file)))
        .collect();
    let held = runtime.installs.iter().map(|install| {
        let key = &install.shelved.key;
        let mut protections = protections(runtime, surroundings, &activity, install);
        let here = pins.iter().filter(|(met_by, _)| met_by == key);
        protections.extend(here.map(|(_, file)| Protection::Pin { file: file.clone() }));
        protections.extend(wishes.except.contains(key).then_some(Protection::LeftOut));
        Held {
            install: &install.shelved,
            bytes: install.receipt.contents.unpacked_size,
            used: runtime.used_on(install),
            asked: wishes.include.contains(key),
            protections,
        }
    });
    Ok(tidy::plan(
        runtime.around_shelf(),
        held.collect(),
        &context.settings()?.policy(),
        &context.platform,
        runtime.today,
    ))
}

/// What keeps an install, but for the pins of projects.
fn protections(
    runtime: &Runtime<'_>,
    surroundings: &Surroundings,
    activity: &Activity,
    install: &Install,
) -> Vec<Protection> {
    let key = install.shelved.key.as_str();
    let own_id = runtime.context().shell.id();
    let mut found = Vec::new();
    if runtime.default_key().as_deref() == Some(key) {
        found.push(Protection::Default);
    }
    if activity.active_key() == Some(key) && activity.rule() == Some(Rule::Switch) {
        found.push(Protection::ThisShell);
    }
    for shell in &surroundings.shells {
        let switched = shell.keys.get(runtime.name()).map(String::as_str) == Some(key);
        if switched && Some(shell.id) != own_id {
            found.push(Protection::Shell { id: shell.id });
        }
    }
    let real = fs::canonicalize(&install.folder).unwrap_or_else(|_| install.folder.clone());
    let started = surroundings
        .started
        .iter()
        .filter(|(_, switches)| switches.get(runtime.name()).map(String::as_str) == Some(key));
    let running = (surroundings.processes.iter()).filter(|process| process.runs_from(&real));
    let mut seen = HashSet::new();
    for process in running.chain(started.map(|(process, _)| process)) {
        if seen.insert(process.id) {
            found.push(Protection::Process {
                id: process.id,
                program: process.program.clone(),
            });
        }
    }
    for (label, selector) in &runtime.state.labels {
        if runtime.key_of_label(selector).as_deref() == Some(key) {
            let label = label.clone();
            found.push(Protection::Label { label });
        }
    }
    found.extend((runtime.state.kept.contains(key)).then_some(Protection::Kept));
    found
}

/// A reason as part of a sentence.
pub fn reason_in_words(reason: &Reason, runtime: &Runtime<'_>) -> String {
    match reason {
        Reason::Superseded { by } => format!("superseded by {by}"),
        Reason::Ended { end } => {
            let ago = span(*end, runtime.today);
            format!("support ended on {end}, {ago} ago")
        }
        Reason::Withdrawn { why } => format!("withdrawn: {}", printable(why)),
        Reason::FinalOut { version } => format!("{version} is final"),
        Reason::Idle { days } => format!("not used for {days} days"),
        Reason::Asked => "named by you".to_owned(),
    }
}

/// A protection as part of a sentence.
pub fn protection_in_words(protection: &Protection) -> String {
    match protection {
        Protection::Default => "default".to_owned(),
        Protection::ThisShell => "this shell".to_owned(),
        Protection::Shell { id } => format!("shell {id}"),
        Protection::Process { id, program } => format!("{} runs ({id})", printable(program)),
        Protection::Pin { file } => format!("pinned by {}", project::name(file)),
        Protection::Label { label } => format!("label {label}"),
        Protection::Kept => "kept by you".to_owned(),
        Protection::LeftOut => "left out".to_owned(),
    }
}

/// What commands can leave behind.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum LeavingKind {
    /// The stage of a command that was cut off.
    UnfinishedCommand,
    /// A download that nobody goes on with.
    PartialDownload,
    /// A catalog of a source that is no longer defined.
    UnknownCatalog,
}

impl LeavingKind {
    /// Every kind, in the order in which they are told.
    pub const ALL: [LeavingKind; 3] = [
        LeavingKind::UnfinishedCommand,
        LeavingKind::PartialDownload,
        LeavingKind::UnknownCatalog,
    ];

    /// So many of it, in words.
    pub fn counted(self, count: usize) -> String {
        match self {
            LeavingKind::UnfinishedCommand => Count(count, "unfinished command").to_string(),
            LeavingKind::PartialDownload => Count(count, "partial download").to_string(),
            LeavingKind::UnknownCatalog => {
                format!("{} of sources that are gone", Count(count, "catalog"))
            }
        }
    }
}

/// Something that commands left behind and nobody needs.
#[derive(Debug)]
pub struct Leaving {
    /// What it is.
    pub kind: LeavingKind,
    /// Its bytes.
    pub bytes: u64,
    place: Place,
}

#[derive(Debug)]
enum Place {
    Stage(Leftover),
    File(PathBuf),
}

impl Leaving {
    /// Deletes it, and says how many bytes that set free.
    pub fn delete(self) -> Result<u64, Failure> {
        let path = match &self.place {
            Place::Stage(leftover) => leftover.folder().to_owned(),
            Place::File(path) => path.clone(),
        };
        let deleted = match self.place {
            Place::Stage(leftover) => leftover.delete(),
            Place::File(path) => match fs::remove_file(path) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
                _ => Ok(self.bytes),
            },
        };
        deleted.map_err(|error| file_failure(&path, "deleted", error))
    }
}

/// What was left behind: by commands that were cut off, by downloads that nobody goes on with, by
/// sources that are no longer defined.
pub fn leavings(context: &Context) -> Result<Vec<Leaving>, Failure> {
    let folders = context.folders()?;
    let mut found = Vec::new();
    for leftover in Shelf::leftovers(folders)? {
        let folder = leftover.folder();
        found.push(Leaving {
            kind: LeavingKind::UnfinishedCommand,
            bytes: bytes_in(folder).map_err(|error| file_failure(folder, "read", error))?,
            place: Place::Stage(leftover),
        });
    }
    let archives = folders.cache.join("archives");
    for path in files_in(&archives).map_err(|error| file_failure(&archives, "read", error))? {
        if is_stale(&path) {
            found.push(file(LeavingKind::PartialDownload, path)?);
        }
    }
    let definitions = (definitions::names(&folders.config)?.iter())
        .map(|name| context.definition(name))
        .collect::<Result<Vec<_>, _>>()?;
    let known: Vec<_> = (definitions.iter())
        .map(|definition| (definition.name.as_str(), &definition.sources[..]))
        .collect();
    let cache = folders.cache.join("catalogs");
    let unclaimed = context.catalogs()?.unclaimed(&known);
    for path in unclaimed.map_err(|error| file_failure(&cache, "read", error))? {
        found.push(file(LeavingKind::UnknownCatalog, path)?);
    }
    Ok(found)
}

fn file(kind: LeavingKind, path: PathBuf) -> Result<Leaving, Failure> {
    let bytes = bytes_in(&path).map_err(|error| file_failure(&path, "read", error))?;
    Ok(Leaving {
        kind,
        bytes,
        place: Place::File(path),
    })
}

fn files_in(folder: &Path) -> io::Result<Vec<PathBuf>> {
    match fs::read_dir(folder) {
        Ok(entries) => entries.map(|entry| Ok(entry?.path())).collect(),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
        Err(error) => Err(error),
    }
}

fn is_stale(path: &Path) -> bool {
    let modified = fs::metadata(path).and_then(|found| found.modified());
    let age = modified.map(|modified| SystemTime::now().duration_since(modified));
    age.is_ok_and(|age| age.is_ok_and(|age| age > STALE))
}
