//! The project here: the nearest folder with a file that says what it requires.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::io;
use std::path::{Path, PathBuf};
use std::rc::Rc;

use vshelf_core::activation::Place;
use vshelf_core::definition::RequirementFile;
use vshelf_core::file_trust::Distrust;
use vshelf_core::lock_file::{LOCK_FILE, Lock, LockError, LockedRelease, line_of};
use vshelf_core::requirement::{
    self, Contents, Problem, Requirement, RequirementError, project_folder,
};
use vshelf_core::resolve::{Choice, Scope};
use vshelf_core::standing::{LockRules, LockState, Offer, Required, Stated, Statement};
use vshelf_core::{Key, Pick, Request, Selector};
use vshelf_files::action::FileAction;
use vshelf_shelf::journal::{self, SeenProject};

use crate::definitions;
use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::events::{Event, Listener};
use crate::foreign_file::{self, ForeignFile};
use crate::lock_difference::check_on_shelf;
use crate::runtime::Runtime;
use crate::runtime::names::stated_main_publisher;

/// A requirement, and where a project's file states it.
pub type FoundRequirement = Stated<Request>;

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

/// The judgement of the requirement files and locks of the project here on a runtime.
pub fn required(runtime: &Runtime<'_>) -> Required<Error> {
    judge(runtime, &requirement_files(runtime))
}

/// The same without lock files, which are not read.
pub fn required_unlocked(runtime: &Runtime<'_>) -> Required<Error> {
    let mut files = requirement_files(runtime);
    files.retain(|(_, kind)| !kind.is_lock());
    judge(runtime, &files)
}

/// The requirement that an install meets, and the locked release that it has to be, if a lock decides.
pub type Installable = (FoundRequirement, Option<LockedRelease>);

/// The requirement of the project here, for an install: `None` if there is none. A file that cannot be used is an error,
/// and so is a lock that does not meet the requirement beside it, or that an install on the shelf contradicts.
pub fn installable(runtime: &Runtime<'_>) -> Result<Option<Installable>, Error> {
    let required = required(runtime);
    let effective = required.effective();
    if let Some(error) = lock_trouble(runtime, &required) {
        return Err(error);
    }
    let locked = required.lock.deciding().map(|locked| locked.what.clone());
    match required.unusable {
        Some(error) => Err(error),
        None => Ok(effective.map(|found| (found, locked))),
    }
}

/// Whether only a catalog could tell if an install meets a request, and none is kept.
pub fn is_undecided(runtime: &Runtime<'_>, request: &Request) -> bool {
    let needs_catalog = matches!(
        request.selector,
        Selector::Lts | Selector::Stable | Selector::Preview | Selector::Name(_)
    );
    needs_catalog && runtime.lacks_catalog()
}

/// The release of the kept catalog that meets a request. A catalog that was not confirmed today cannot say that there is
/// none.
pub fn offer(runtime: &Runtime<'_>, request: &Request) -> Offer {
    let Some(age) = runtime.published.age() else {
        return Offer::Unknown;
    };
    match runtime.choosing().resolve(request, Scope::Published) {
        Ok(Choice::Version(release)) => {
            Offer::Release(Key::new(release.version, release.publisher))
        }
        Err(_) if age.confirmed == age.today => Offer::Nothing,
        Ok(Choice::System) | Err(_) => Offer::Unknown,
    }
}

/// The error that the lock beside a requirement does not meet it, or that an install is not what is locked, if so.
pub fn lock_trouble(runtime: &Runtime<'_>, required: &Required<Error>) -> Option<Error> {
    match (&required.lock, &required.stated) {
        (LockState::Stale(lock), Some(stated)) => Some(Error::StaleLock {
            lock: lock.place.file.clone(),
            title: runtime.names().title_of(&lock.what.key()),
            file: stated.place.file.clone(),
            required: stated.what.to_string(),
        }),
        (LockState::Differs(lock), _) => check_on_shelf(runtime, &lock.what).err(),
        _ => None,
    }
}

/// A project's requirement as a request that names its runtime.
pub fn as_request(runtime: &Runtime<'_>, required: Request) -> Request {
    Request {
        runtime: Some(runtime.name().to_owned()),
        ..required
    }
}

/// The judgement of files, nearest first; only those are read on which it depends.
fn judge(runtime: &Runtime<'_>, files: &[(PathBuf, RequirementFile)]) -> Required<Error> {
    let folders = files.chunk_by(|(a, _), (b, _)| project_folder(a) == project_folder(b));
    let folders = folders.map(|files| statements(runtime, files));
    with_rules(runtime, |rules| Required::judge(folders, rules))
}

fn with_rules<T>(runtime: &Runtime<'_>, judge: impl FnOnce(LockRules<'_>) -> T) -> T {
    let meets = |locked: &LockedRelease, request: &Request| {
        locked.meets(
            request,
            stated_main_publisher(&runtime.published),
            runtime.published.outline(),
        )
    };
    let is_for_platform = |locked: &LockedRelease| {
        let host = runtime.environment().platform();
        !locked.archives_for(host).is_empty()
    };
    let is_other_install = |locked: &LockedRelease| check_on_shelf(runtime, locked).is_err();
    judge(LockRules {
        meets: &meets,
        is_for_platform: &is_for_platform,
        is_other_install: &is_other_install,
    })
}

fn statements<'s>(
    runtime: &'s Runtime<'_>,
    files: &'s [(PathBuf, RequirementFile)],
) -> impl Iterator<Item = Statement<Error>> + 's {
    files
        .iter()
        .filter_map(|(path, kind)| statement(runtime, path, kind))
}

/// The statement of one file on a runtime: `None` if it makes none.
fn statement(
    runtime: &Runtime<'_>,
    path: &Path,
    kind: &RequirementFile,
) -> Option<Statement<Error>> {
    match read_statement(runtime, path, kind) {
        Ok(statement) => statement,
        Err(error) if kind.is_lock() => Some(Statement::UnusableLock(error)),
        Err(error) => Some(Statement::Unusable(error)),
    }
}

fn read_statement(
    runtime: &Runtime<'_>,
    path: &Path,
    kind: &RequirementFile,
) -> Result<Option<Statement<Error>>, Error> {
    let place = |line| Place {
        file: path.to_owned(),
        line,
    };
    if kind.is_lock() {
        let Some(contents) = lock_contents(runtime.environment(), path)? else {
            return Ok(None);
        };
        let (lock, text) = parse_lock(path, contents.bytes())?;
        return Ok(lock.release_of(runtime.name()).map(|locked| {
            Statement::Locks(Stated {
                place: place(line_of(text, runtime.name())),
                what: locked.clone(),
            })
        }));
    }
    let Some(contents) = requirement_contents(runtime.environment(), path, kind)? else {
        return Ok(None);
    };
    let found = match contents.requirement(runtime.name(), kind) {
        Ok(found) => found,
        // The definition of the other implementation reads the file.
        Err(RequirementError {
            problem: Problem::OtherImplementation { found },
            ..
        }) if definitions::names(runtime.environment().folders()?)?.contains(&found) => None,
        Err(error) => {
            return Err(Error::Requirement {
                file: path.to_owned(),
                error,
                rewrite: kind.is_plain().then(|| {
                    let prefix = runtime.environment().prefix(runtime.name());
                    format!("{prefix}stable")
                }),
            });
        }
    };
    Ok(found.map(|Requirement { request, line }| {
        Statement::Requires(Stated {
            place: place(line),
            what: request,
        })
    }))
}

/// The requirement of one file, whatever others say: `None` if it says nothing, or if it is a lock whose folder
/// requires nothing. A stale lock is an error.
pub fn read_requirement(
    runtime: &Runtime<'_>,
    path: &Path,
    kind: &RequirementFile,
) -> Result<Option<FoundRequirement>, Error> {
    let lock = match statement(runtime, path, kind) {
        None => return Ok(None),
        Some(Statement::Requires(found)) => return Ok(Some(found)),
        Some(Statement::Unusable(error)) => return Err(error),
        Some(lock @ (Statement::Locks(_) | Statement::UnusableLock(_))) => lock,
    };
    let beside = files_in(runtime, project_folder(path));
    let statements = std::iter::once(lock).chain(statements(runtime, &beside));
    let required = with_rules(runtime, |rules| Required::of_folder(statements, rules));
    if let Some(error) = lock_trouble(runtime, &required) {
        return Err(error);
    }
    match required.unusable {
        Some(error) => Err(error),
        None if required.stated.is_none() => Ok(None),
        None => Ok(required.effective()),
    }
}

/// The errors of all requirement files of a runtime here that cannot be used, also of those behind the file that
/// decides. Locks are judged with the requirement beside them.
pub fn unusable_files(runtime: &Runtime<'_>) -> Vec<Error> {
    let files = requirement_files(runtime).into_iter();
    let files = files.filter(|(_, kind)| !kind.is_lock());
    let errors = files.filter_map(|(path, kind)| match statement(runtime, &path, &kind) {
        Some(Statement::Unusable(error)) => Some(error),
        _ => None,
    });
    errors.collect()
}

fn unusable_lock(path: &Path, error: RequirementError) -> Error {
    Error::Requirement {
        file: path.to_owned(),
        error,
        rewrite: None,
    }
}

/// The line of a plain requirement file that does not count because another one comes before it.
pub fn further_line(
    runtime: &Runtime<'_>,
    path: &Path,
    kind: &RequirementFile,
) -> Result<Option<usize>, Error> {
    if !kind.is_plain() {
        return Ok(None);
    }
    let contents = requirement_contents(runtime.environment(), path, kind)?;
    let text = contents
        .as_ref()
        .and_then(|contents| requirement::text_of(kind, contents.bytes()).ok());
    Ok(text.and_then(requirement::further_line))
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
    let text = requirement::text_of(&kind, contents).map_err(|error| unusable_lock(path, error))?;
    let lock = Lock::read(text).map_err(|LockError { line, problem }| {
        let problem = Problem::Lock(problem);
        unusable_lock(path, RequirementError { line, problem })
    })?;
    Ok((lock, text))
}

/// The files of one folder in which it can require a runtime, without its lock.
fn files_in(runtime: &Runtime<'_>, folder: &Path) -> Vec<(PathBuf, RequirementFile)> {
    let kinds = kinds_of_files(runtime).into_iter();
    let kinds = kinds.filter(|kind| !kind.is_lock());
    kinds.map(|kind| (folder.join(&kind.file), kind)).collect()
}

/// The requirement of the files of one folder, whatever its lock says.
pub fn required_in(
    runtime: &Runtime<'_>,
    folder: &Path,
) -> Result<Option<FoundRequirement>, Error> {
    judge(runtime, &files_in(runtime, folder)).into_stated()
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
                Ok(Some(found)) => {
                    read.found.push(found);
                    break;
                }
                Ok(None) => {}
                Err(_) => read.not_understood.push(path.clone()),
            }
        }
    }
    read
}

/// The picks that satisfy the requirements of the projects seen on this machine, each with its requirement file.
pub fn required_by_projects(runtime: &Runtime<'_>) -> Result<Vec<(Pick, PathBuf)>, Error> {
    let seen = seen(runtime.environment())?;
    Ok(satisfied(runtime, requirements_of(runtime, &seen)))
}

/// The picks that satisfy these requirements, each with its requirement file. Requirements that nothing satisfies are
/// left out.
pub fn satisfied(runtime: &Runtime<'_>, found: Vec<FoundRequirement>) -> Vec<(Pick, PathBuf)> {
    // Most projects require one of few things.
    let mut picks: HashMap<String, Option<Pick>> = HashMap::new();
    let met = found.into_iter().filter_map(|found| {
        let pick = picks.entry(found.what.to_string());
        let pick = pick.or_insert_with(|| runtime.choosing().pick_meeting(&found.what));
        Some((pick.clone()?, found.place.file))
    });
    met.collect()
}
