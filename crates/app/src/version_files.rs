//! One-line version files that a person has read in all projects, and such files here that nothing reads yet.
//!
//! Which file names a runtime's projects use is for its definition to say, or for the person: no name that belongs to
//! one other program is built in.

use std::path::{Path, PathBuf};

use vshelf_core::requirement::{self, is_version_file_name};
use vshelf_core::{Request, Selector};
use vshelf_files::optional;

use crate::conclude::{Changed, conclude};
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::foreign_file::{self, ForeignFile};
use crate::runtime::{Runtime, opening};
use crate::settings;

/// The entries at the root of a repository that say which folder that is.
const REPOSITORY: [&str; 3] = [".git", ".hg", ".jj"];

/// A version file here that nothing reads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnreadFile {
    /// The file.
    pub file: PathBuf,
    /// Its selector.
    pub selector: String,
    /// The runtimes that it may be about, the likeliest first.
    pub runtimes: Vec<String>,
}

/// The version files that are read, each with its runtime.
pub fn list(environment: &Environment) -> Result<Vec<(String, String)>, Error> {
    let files = &environment.settings()?.requirement_files;
    let files = files.iter().flat_map(|(runtime, files)| {
        let runtime = runtime.clone();
        files
            .iter()
            .map(move |file| (file.clone(), runtime.clone()))
    });
    Ok(files.collect())
}

/// Has a version file read for a runtime in all of the person's projects. Returns whether it was not read before.
pub fn read(environment: &Environment, file: &str, runtime: &str) -> Result<bool, Error> {
    let definition = environment.definition(runtime)?;
    if !is_version_file_name(file) {
        return Err(Error::NoVersionFile {
            file: file.to_owned(),
        });
    }
    let known = requirement::files(runtime, &definition.requirement_files);
    if known.iter().any(|known| known.file == file) {
        return Ok(false);
    }
    settings::add_requirement_file(&environment.folders()?.config, runtime, file)?;
    conclude(&environment.anew(), Changed::Shelf)?;
    Ok(true)
}

/// Has a version file not read any more.
pub fn forget(environment: &Environment, file: &str, runtime: &str) -> Done {
    // Settings that cannot be used are reported before they are written.
    environment.settings()?;
    if !settings::remove_requirement_file(&environment.folders()?.config, runtime, file)? {
        return Err(Error::VersionFileNotRead {
            file: file.to_owned(),
            runtime: runtime.to_owned(),
        });
    }
    conclude(&environment.anew(), Changed::Shelf)
}

/// The version files that nothing reads, in this folder and at the root of its repository. A file counts if its name is
/// that of one, its owner is trusted, and its one line is a selector.
pub fn find_unread(environment: &Environment) -> Result<Vec<UnreadFile>, Error> {
    let here = environment.here()?;
    let is_root = |folder: &&Path| REPOSITORY.iter().any(|name| folder.join(name).exists());
    let root = here.ancestors().find(is_root).filter(|root| *root != here);
    let known = environment.requirement_file_names()?;
    let mut unread = Vec::new();
    for folder in [Some(here.as_path()), root].into_iter().flatten() {
        // A folder that cannot be listed only means that nothing is proposed.
        let mut names = optional::names(folder).unwrap_or_default();
        names.retain(|name| is_version_file_name(name));
        names.retain(|name| !known.iter().any(|(_, files)| files.contains(name)));
        for name in names {
            let file = folder.join(&name);
            if let Some(request) = selector_in(environment, &file)? {
                let runtimes = runtimes_for(environment, &name, &request, &known)?;
                if !runtimes.is_empty() {
                    unread.push(UnreadFile {
                        file,
                        selector: request.to_string(),
                        runtimes,
                    });
                }
            }
        }
    }
    Ok(unread)
}

/// The selector that is the one line of a file, if it is that.
fn selector_in(environment: &Environment, file: &Path) -> Result<Option<Request>, Error> {
    if !file.metadata().is_ok_and(|found| found.is_file()) {
        return Ok(None);
    }
    match foreign_file::read(environment, file, 1 + requirement::LARGEST_VERSION_FILE) {
        Ok(ForeignFile::Contents(contents)) => Ok(requirement::version_file(contents.bytes())),
        Ok(ForeignFile::Missing | ForeignFile::Distrusted(_)) | Err(Error::File { .. }) => Ok(None),
        Err(error) => Err(error),
    }
}

/// The known runtimes that a file may be about: those that its name names, or else those in use here. A word has to mean
/// something for the runtime.
fn runtimes_for(
    environment: &Environment,
    name: &str,
    request: &Request,
    known: &[(String, Vec<String>)],
) -> Result<Vec<String>, Error> {
    let named = known.iter().map(|(runtime, _)| runtime);
    let named: Vec<String> = named
        .filter(|runtime| name.contains(runtime.as_str()))
        .cloned()
        .collect();
    let candidates = if named.is_empty() {
        environment.entered_runtimes()?
    } else {
        named
    };
    let mut runtimes = Vec::new();
    for candidate in candidates {
        if let Ok(runtime) = Runtime::named(environment, Some(&candidate))
            && can_mean(&runtime, request)
        {
            runtimes.push(candidate);
        }
    }
    if let Ok(meant) = opening::meant(environment) {
        runtimes.sort_by_key(|name| name != meant.name());
    }
    Ok(runtimes)
}

/// Whether a request can stand for something of a runtime, as far as its lines are known.
fn can_mean(runtime: &Runtime<'_>, request: &Request) -> bool {
    match &request.selector {
        Selector::Name(name) => {
            let outline = runtime.published.outline();
            outline.channel(name).is_some() || outline.line_named(name).is_some()
        }
        selector => !matches!(
            selector,
            Selector::Previous | Selector::Default | Selector::System
        ),
    }
}
