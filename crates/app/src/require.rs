//! What the project here requires: shown and written.

use std::path::{Path, PathBuf};

use vshelf_core::activation::{Place as InFile, Rule};
use vshelf_core::definition::RequirementFile;
use vshelf_core::requirement::project_folder;
use vshelf_core::resolve::Scope;
use vshelf_core::standing::{LockState, Standing};
use vshelf_core::{Request, Selector};
use vshelf_files::action::FileAction;
use vshelf_files::optional;

use crate::activity::Activity;
use crate::conclude::{Changed, conclude};
use crate::defaults::kept_as;
use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::events::Listener;
use crate::example_requirement::no_requirement;
use crate::foreign_file;
use crate::integrate::connect::way_to_connect;
use crate::manifest;
use crate::outcome::WayToConnect;
use crate::project;
use crate::runtime::published::Extent;
use crate::runtime::{Runtime, opening};
use crate::session;

/// The standing of one runtime in the project here.
pub struct Required<'c> {
    /// The runtime.
    pub runtime: Runtime<'c>,
    /// Its standing.
    pub standing: Standing<Error>,
}

/// A requirement that was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewRequirement {
    /// The file.
    pub file: PathBuf,
    /// Whether its folder is the person's home, which every folder below follows.
    pub is_home: bool,
    /// What it says.
    pub text: String,
    /// The lock beside the file, if it has a release that does not meet the requirement.
    pub stale_lock: Option<StaleLock>,
    /// What the calling shell does about it.
    pub shell: ShellAfterRequire,
}

/// A lock that does not meet what is required now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StaleLock {
    /// The lock file.
    pub file: PathBuf,
    /// The selector of the locked release.
    pub selector: String,
}

/// What the calling shell does about a requirement that was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ShellAfterRequire {
    /// Nothing on the shelf meets it yet.
    NotOnShelf,
    /// It was switched, and stays as it is.
    Switched,
    /// It follows.
    Follows,
    /// It does not follow projects.
    DoesNotFollow,
    /// It cannot follow, because it is not connected.
    NotConnected(WayToConnect),
}

/// The standing of each runtime on the shelf, and of others that the project here requires.
pub fn show(environment: &Environment) -> Result<Vec<Required<'_>>, Error> {
    let runtimes = opening::concerned(environment)?.into_iter();
    let required = runtimes.map(|runtime| Required {
        standing: Activity::with_offer(&runtime).standing,
        runtime,
    });
    Ok(required.collect())
}

/// Where a requirement is written: a file, and what kind of file it is.
struct Place {
    file: PathBuf,
    kind: RequirementFile,
}

/// The place that is written to: the named file of this folder, or else the one-line file that speaks
/// here already, or a new one in this folder.
fn place(runtime: &Runtime<'_>, typed: &Request, named: Option<&str>) -> Result<Place, Error> {
    let here = runtime.environment().here()?;
    let kinds = project::kinds_of_files(runtime);
    if let Some(named) = named {
        return named_place(runtime, &here, &kinds, named);
    }
    // A plain file that cannot be used is written again. A lock is never written to: it follows what is required.
    let required = project::required_unlocked(runtime);
    let found = match (required.stated, required.unusable) {
        (Some(found), _) => Some(found.place),
        (None, Some(Error::Requirement { file, error, .. })) => Some(InFile {
            file,
            line: error.line,
        }),
        (None, _) => None,
    };
    if let Some(InFile { file, line }) = found {
        if is_plain(runtime, &file) {
            let name = file.file_name().unwrap_or_default();
            return Ok(Place {
                kind: RequirementFile::plain(&name.to_string_lossy()),
                file,
            });
        }
        if project_folder(&file) == here {
            let mut same = kinds.iter().filter(|kind| here.join(&kind.file) == file);
            return Err(if same.any(RequirementFile::is_writable) {
                Error::RequirementInManifest {
                    file,
                    line,
                    selector: typed.to_string(),
                }
            } else {
                Error::RequirementElsewhere { file, line }
            });
        }
    }
    let plain = kinds.iter().find(|kind| kind.is_plain());
    let plain = plain.ok_or_else(|| Error::NoPlainFile {
        title: runtime.definition.title.clone(),
        selector: typed.to_string(),
    })?;
    Ok(Place {
        file: here.join(&plain.file),
        kind: plain.clone(),
    })
}

/// The named file of this folder, as the kind by which it speaks already, or else the last kind of that name.
fn named_place(
    runtime: &Runtime<'_>,
    here: &Path,
    kinds: &[RequirementFile],
    named: &str,
) -> Result<Place, Error> {
    // What only means a requirement cannot be written back, and a lock follows what is required.
    let is_named = |kind: &&RequirementFile| kind.file == named && kind.is_writable();
    let mut same = kinds.iter().filter(is_named).rev();
    let speaks = |kind: &&RequirementFile| {
        let read = project::read_requirement(runtime, &here.join(named), kind);
        read.is_ok_and(|found| found.is_some())
    };
    let speaking = same.clone().find(speaks);
    let kind = speaking
        .or_else(|| same.next())
        .ok_or_else(|| Error::NoSuchFile {
            title: runtime.definition.title.clone(),
            file: named.to_owned(),
            files: project::file_names(std::slice::from_ref(runtime)),
        })?;
    Ok(Place {
        file: here.join(named),
        kind: kind.clone(),
    })
}

/// Whether a requirement file is one of a single line.
fn is_plain(runtime: &Runtime<'_>, file: &Path) -> bool {
    let files = project::requirement_files(runtime);
    let mut same = files.iter().filter(|(path, _)| path == file);
    same.any(|(_, kind)| kind.is_plain())
}

/// The text of the file at a place with what is required there.
fn text_with(place: &Place, required: &str) -> Result<String, Error> {
    if place.kind.is_plain() {
        return Ok(format!("{required}\n"));
    }
    let text =
        optional::read_text(&place.file).map_err(file_error(&place.file, FileAction::Read))?;
    let name = place.file.to_string_lossy();
    let text = text.unwrap_or_default();
    let written = match (&place.kind.value, &place.kind.line) {
        (Some(keys), _) => manifest::with_value(&name, &text, keys, required),
        (None, Some(form)) => Ok(manifest::with_line(&text, form, required)),
        (None, None) => Ok(text),
    };
    written.map_err(|problem| Error::Manifest {
        file: place.file.clone(),
        problem,
    })
}

/// Writes what the project here requires, into the named file if one is named.
pub fn write(
    environment: &Environment,
    typed: &Request,
    named: Option<&str>,
    listener: &dyn Listener,
) -> Result<NewRequirement, Error> {
    let mut runtime = Runtime::of_request(environment, typed)?;
    let request = without_label(&runtime, typed)?;
    let place = place(&runtime, typed, named)?;
    if matches!(request.selector, Selector::Previous | Selector::Default) {
        return Err(Error::PersonalSelector {
            selector: typed.to_string(),
        });
    }
    // What is on the shelf is enough to check a requirement by; else the catalog is asked.
    let on_shelf = runtime
        .choosing()
        .explain(&request, Scope::Shelf)
        .outcome
        .is_ok();
    if !on_shelf {
        runtime.published.load(Extent::Releases)?;
        runtime.choosing().resolve(&request, Scope::Published)?;
    }
    let text = kept_as(&request);
    let rule = Activity::of(&runtime).rule();
    let contents = text_with(&place, &text)?;
    let path = place.file;
    foreign_file::write(environment, &path, &contents)?;
    project::note(&runtime, &path, Some(&request), listener);
    conclude(environment, Changed::Requirements)?;
    let connected = environment.shell.dialect().is_some();
    let follows = session::follows_projects(environment)?;
    let shell = match rule {
        _ if !on_shelf => ShellAfterRequire::NotOnShelf,
        Some(Rule::Switch) if connected => ShellAfterRequire::Switched,
        _ if !connected => ShellAfterRequire::NotConnected(way_to_connect(environment)),
        _ if follows => ShellAfterRequire::Follows,
        _ => ShellAfterRequire::DoesNotFollow,
    };
    let home = environment.variables().home();
    let stale_lock = match project::required(&runtime).lock {
        LockState::Stale(lock) => Some(StaleLock {
            selector: runtime.names().selector_of(&lock.what.key()),
            file: lock.place.file,
        }),
        _ => None,
    };
    Ok(NewRequirement {
        stale_lock,
        is_home: home.is_some_and(|home| path.parent() == Some(home.as_path())),
        file: path,
        text,
        shell,
    })
}

/// Removes the plain file of this folder that says what is required of a runtime; gives back the file.
/// What stands in another folder, or among other things in a file, is the person's to edit.
pub fn remove(environment: &Environment, runtime: Option<&str>) -> Result<PathBuf, Error> {
    let runtime = Runtime::named(environment, runtime)?;
    let Some(found) = project::required_unlocked(&runtime).into_stated()? else {
        return Err(no_requirement(environment, &[runtime]));
    };
    let found = found.place;
    let here = environment.here()?;
    if !is_plain(&runtime, &found.file) || project_folder(&found.file) != here {
        return Err(Error::RequirementElsewhere {
            file: found.file,
            line: found.line,
        });
    }
    foreign_file::remove(environment, &found.file)?;
    conclude(environment, Changed::Requirements)?;
    Ok(found.file)
}

/// What a label stands for in its stead: others who work on the project do not have it.
fn without_label(runtime: &Runtime<'_>, typed: &Request) -> Result<Request, Error> {
    let Selector::Name(name) = &typed.selector else {
        return Ok(typed.clone());
    };
    let mut labels = runtime.snapshot.state.labels.iter();
    match labels.find(|(label, _)| label.eq_ignore_ascii_case(name)) {
        Some((_, selector)) => Ok(selector.parse()?),
        None => Ok(typed.clone()),
    }
}
