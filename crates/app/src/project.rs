//! The project here: the nearest folder with a file that says what it requires.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::io;
use std::path::{Path, PathBuf};
use std::rc::Rc;

use vshelf_core::Request;
use vshelf_core::definition::RequirementFile;
use vshelf_core::file_trust::Distrust;
use vshelf_core::lock_file::{LOCK_FILE, Lock, LockError, LockedRelease, line_of};
use vshelf_core::requirement::{self, Contents, Problem, Requirement, RequirementError};
use vshelf_files::action::FileAction;
use vshelf_shelf::journal::{self, SeenProject};

use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::events::{Event, Listener};
use crate::foreign_file::{self, ForeignFile};
use crate::lock_difference::check_on_shelf;
use crate::runtime::Runtime;

/// What a project requires, and the file that says it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FoundRequirement {
    /// The file.
    pub file: PathBuf,
    /// What it requires.
    pub requirement: Requirement,
}

/// Of the folders that have requirement files so many count, the nearest ones: shells look at each before
/// every prompt.
const MOST_FOLDERS: usize = 10;

/// The requirement files of a runtime that there are from this folder upward, nearest first.
pub fn requirement_files(runtime: &Runtime<'_>) -> Vec<(PathBuf, RequirementFile)> {
    let Ok(here) = runtime.environment().here() else {
        // A folder that is gone belongs to no project.
        return Vec::new();
    };
    let files = kinds_of_files(runtime);
    let mut found = Vec::new();
    let mut folders = 0;
    for folder in here.ancestors() {
        let before = found.len();
        for file in &files {
            let path = folder.join(&file.file);
            if is_file(&path) {
                found.push((path, file.clone()));
            }
        }
        folders += usize::from(found.len() > before);
        if folders == MOST_FOLDERS {
            break;
        }
    }
    found
}

/// The names of the known runtimes that a file here, or in a folder above, may require. Only files that are there are
/// looked into, and no definition that is built in is read, so that every command can ask.
pub fn mentioned_runtimes(environment: &Environment) -> Result<BTreeSet<String>, Error> {
    let mut mentioned = BTreeSet::new();
    let Ok(here) = environment.here() else {
        return Ok(mentioned);
    };
    let known = environment.requirement_file_names()?;
    let own = requirement::own_file();
    for folder in here.ancestors() {
        let mut is_there: HashMap<&str, bool> = HashMap::new();
        for (runtime, files) in &known {
            let mut files = files.iter();
            let is_mentioned = files.any(|file| {
                let found = is_there
                    .entry(file)
                    .or_insert_with(|| is_file(&folder.join(file)));
                *found
            });
            if is_mentioned {
                mentioned.insert(runtime.clone());
            }
        }
        let path = folder.join(&own.file);
        if is_file(&path)
            && let Some(contents) = requirement_contents(environment, &path, &own)?
        {
            let names = contents.runtimes().into_iter();
            let names = names.filter(|name| known.iter().any(|(runtime, _)| runtime == name));
            mentioned.extend(names.map(str::to_owned));
        }
    }
    Ok(mentioned)
}

/// Whether there is a plain file, or a link to one. A pipe or device by that name would make the command wait for
/// ever.
fn is_file(path: &Path) -> bool {
    path.metadata().is_ok_and(|found| found.is_file())
}

/// Every file in which a project can say what it requires of a runtime.
pub fn kinds_of_files(runtime: &Runtime<'_>) -> Vec<RequirementFile> {
    requirement::files(runtime.name(), &runtime.definition.requirement_files)
}

/// What a requirement file says of a runtime.
pub fn read_requirement(
    runtime: &Runtime<'_>,
    path: &Path,
    file: &RequirementFile,
) -> Result<Option<Requirement>, Error> {
    if file.is_lock() {
        let Some(contents) = lock_contents(runtime.environment(), path)? else {
            return Ok(None);
        };
        let held = held_in(runtime, path, contents.bytes())?;
        return Ok(held.map(|(locked, line)| Requirement {
            request: locked.request(runtime.names().main_publisher()),
            line,
        }));
    }
    let Some(contents) = requirement_contents(runtime.environment(), path, file)? else {
        return Ok(None);
    };
    (contents.requirement(runtime.name(), file)).map_err(|error| unusable(path, error))
}

fn unusable(path: &Path, error: RequirementError) -> Error {
    Error::Requirement {
        file: path.to_owned(),
        error,
    }
}

/// The release that a lock file has for a runtime; nothing where nothing beside it requires the runtime any
/// more. One that does not meet what is required is an error.
pub fn locked_in(runtime: &Runtime<'_>, path: &Path) -> Result<Option<LockedRelease>, Error> {
    let Some(contents) = lock_contents(runtime.environment(), path)? else {
        return Ok(None);
    };
    Ok(held_in(runtime, path, contents.bytes())?.map(|(locked, _)| locked))
}

/// The release that these contents of a lock file have for a runtime, and the line on which it begins.
fn held_in(
    runtime: &Runtime<'_>,
    path: &Path,
    contents: &[u8],
) -> Result<Option<(LockedRelease, usize)>, Error> {
    let (lock, text) = parse_lock(path, contents)?;
    let Some(locked) = lock.release_of(runtime.name()) else {
        return Ok(None);
    };
    let folder = path.parent().unwrap_or(path);
    let Some(required) = required_in(runtime, folder)? else {
        return Ok(None);
    };
    let request = &required.requirement.request;
    if !locked.meets(
        request,
        runtime.names().main_publisher(),
        runtime.published.outline(),
    ) {
        return Err(Error::StaleLock {
            lock: path.to_owned(),
            title: runtime.names().title_of(&locked.key()),
            file: required.file,
            required: required.requirement.request.to_string(),
        });
    }
    check_on_shelf(runtime, locked)?;
    Ok(Some((locked.clone(), line_of(text, runtime.name()))))
}

/// What a lock file holds; nothing where there is none.
pub fn read_lock(environment: &Environment, path: &Path) -> Result<Option<Lock>, Error> {
    let contents = lock_contents(environment, path)?;
    let lock = contents.map(|contents| Ok(parse_lock(path, contents.bytes())?.0));
    lock.transpose()
}

/// The contents of a lock file, or `None` if there is none. One that cannot be read or does not count is an
/// error: taken for absent, it would let anything be installed in place of what it locks.
fn lock_contents(environment: &Environment, path: &Path) -> Result<Option<Rc<Contents>>, Error> {
    let limit = requirement::limit(&RequirementFile::plain(LOCK_FILE));
    match foreign_file::read(environment, path, limit)? {
        ForeignFile::Missing => Ok(None),
        ForeignFile::Contents(contents) => Ok(Some(contents)),
        ForeignFile::Distrusted(distrust) => Err(Error::DistrustedFile {
            file: path.to_owned(),
            distrust,
        }),
    }
}

/// The contents of a requirement file, or `None` if it went away, is not readable or does not count.
fn requirement_contents(
    environment: &Environment,
    path: &Path,
    file: &RequirementFile,
) -> Result<Option<Rc<Contents>>, Error> {
    match foreign_file::read(environment, path, requirement::limit(file)) {
        Ok(ForeignFile::Contents(contents)) => Ok(Some(contents)),
        Ok(ForeignFile::Missing | ForeignFile::Distrusted(_)) => Ok(None),
        Err(Error::File { source, .. }) if source.kind() == io::ErrorKind::PermissionDenied => {
            Ok(None)
        }
        Err(error) => Err(error),
    }
}

/// The requirement files here that do not count, each with the reason.
pub fn distrusted(runtime: &Runtime<'_>) -> Result<Vec<(PathBuf, Distrust)>, Error> {
    let mut distrusted = Vec::new();
    for (path, file) in requirement_files(runtime) {
        let limit = requirement::limit(&file);
        if let ForeignFile::Distrusted(distrust) =
            foreign_file::read(runtime.environment(), &path, limit)?
        {
            distrusted.push((path, distrust));
        }
    }
    Ok(distrusted)
}

fn parse_lock<'c>(path: &Path, contents: &'c [u8]) -> Result<(Lock, &'c str), Error> {
    let kind = RequirementFile::plain(LOCK_FILE);
    let text = requirement::text_of(&kind, contents).map_err(|error| unusable(path, error))?;
    let lock = Lock::read(text).map_err(|LockError { line, problem }| {
        let problem = Problem::Lock(problem);
        unusable(path, RequirementError { line, problem })
    })?;
    Ok((lock, text))
}

/// What the files of one folder require of a runtime, whatever its lock says.
pub fn required_in(
    runtime: &Runtime<'_>,
    folder: &Path,
) -> Result<Option<FoundRequirement>, Error> {
    let kinds = kinds_of_files(runtime).into_iter();
    let files = kinds.filter(|kind| !kind.is_lock());
    let files = files.map(|kind| (folder.join(&kind.file), kind));
    first_requirement(runtime, files)
}

/// What the project here requires: that of the nearest folder, from this one upward, in which a file
/// says something.
pub fn find_requirement(runtime: &Runtime<'_>) -> Result<Option<FoundRequirement>, Error> {
    first_requirement(runtime, requirement_files(runtime))
}

/// What the project here requires, whatever its lock says.
pub fn find_unlocked_requirement(runtime: &Runtime<'_>) -> Result<Option<FoundRequirement>, Error> {
    let files = requirement_files(runtime).into_iter();
    first_requirement(runtime, files.filter(|(_, kind)| !kind.is_lock()))
}

/// What the first of these files that says something requires.
fn first_requirement(
    runtime: &Runtime<'_>,
    files: impl IntoIterator<Item = (PathBuf, RequirementFile)>,
) -> Result<Option<FoundRequirement>, Error> {
    for (file, kind) in files {
        if let Some(requirement) = read_requirement(runtime, &file, &kind)? {
            return Ok(Some(FoundRequirement { file, requirement }));
        }
    }
    Ok(None)
}

/// What the project here requires, or an error where nothing does.
pub fn need_requirement(runtime: &Runtime<'_>) -> Result<FoundRequirement, Error> {
    find_requirement(runtime)?.ok_or_else(|| no_requirement(std::slice::from_ref(runtime)))
}

/// That no file here says what the project requires of any of these runtimes.
pub fn no_requirement(runtimes: &[Runtime<'_>]) -> Error {
    let files = file_names(runtimes);
    Error::NoRequirement { files }
}

/// The names of the files in which a project can say what it requires of any of these runtimes.
pub fn file_names(runtimes: &[Runtime<'_>]) -> Vec<String> {
    let mut files: Vec<String> = Vec::new();
    for kind in runtimes.iter().flat_map(kinds_of_files) {
        if !kind.is_lock() && !files.contains(&kind.file) {
            files.push(kind.file);
        }
    }
    files
}

/// Notes that a project's requirement file was seen on this machine: it keeps what it requires. What
/// cannot be noted is told.
pub fn note(
    runtime: &Runtime<'_>,
    file: &Path,
    request: Option<&Request>,
    listener: &dyn Listener,
) {
    let selector = request.map(|request| request.without_runtime().to_string());
    let seen = SeenProject::new(file, runtime.name(), selector);
    let noted = runtime.environment().layout().and_then(|layout| {
        let noted = journal::note_project(&layout, &seen);
        noted.map_err(file_error(&layout.projects(), FileAction::Write))
    });
    if let Err(error) = noted {
        listener.tell(Event::LeftUndone(&error));
    }
}

/// The requirement files of the projects that were seen on this machine.
pub fn seen(environment: &Environment) -> Result<Vec<PathBuf>, Error> {
    let layout = environment.layout()?;
    let lines =
        journal::projects(&layout).map_err(file_error(&layout.projects(), FileAction::Read))?;
    let mut files: Vec<PathBuf> = Vec::new();
    let mut told = HashSet::new();
    for project in lines.entries {
        if told.insert(project.file.clone()) {
            files.push(project.file);
        }
    }
    Ok(files)
}

/// What the projects with these requirement files require of a runtime, each with its file. One that
/// is gone or cannot be read requires nothing.
pub fn requirements_of(runtime: &Runtime<'_>, projects: &[PathBuf]) -> Vec<FoundRequirement> {
    read_projects(runtime, projects).found
}

/// What the requirement files of projects say of a runtime.
#[derive(Debug, Default)]
pub struct ReadProjects {
    /// What each requires that says something.
    pub found: Vec<FoundRequirement>,
    /// The files that are there and cannot be understood.
    pub not_understood: Vec<PathBuf>,
}

/// Reads the requirement files of projects that were seen.
pub fn read_projects(runtime: &Runtime<'_>, projects: &[PathBuf]) -> ReadProjects {
    let kinds = kinds_of_files(runtime);
    let mut read = ReadProjects::default();
    for path in projects {
        let name = path.file_name().unwrap_or_default();
        for kind in kinds.iter().filter(|kind| name == kind.file.as_str()) {
            match read_requirement(runtime, path, kind) {
                Ok(Some(requirement)) => {
                    let file = path.clone();
                    read.found.push(FoundRequirement { file, requirement });
                    break;
                }
                Ok(None) => {}
                Err(_) => read.not_understood.push(path.clone()),
            }
        }
    }
    read
}
