//! What the project here resulted in, for a shell that follows it.
//!
//! The shell walks upward with builtins alone. A stamp for each requirement file says what it resulted
//! in, and has the file's own time, so that a shell sees without starting anything whether it changed.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::requirement::Requirement;
use vshelf_core::{Pick, Request, Selector};
use vshelf_files::{atomic, optional};
use vshelf_shell::connection::Following;

use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::events::{Answer, Listener, Question};
use crate::project;
use crate::runtime::Runtime;

/// What the project here resulted in.
#[derive(Debug, Default)]
pub struct Followed {
    /// What a shell is to use, by runtime; nothing where the shelf has nothing that meets the
    /// requirement.
    pub picks: BTreeMap<String, Option<Pick>>,
    /// What a person should know.
    pub notices: Vec<Notice>,
}

/// Something that a person should know when a project is entered.
#[derive(Debug)]
pub enum Notice {
    /// A requirement file cannot be used.
    Unusable(Error),
    /// Nothing on the shelf meets a requirement.
    Unmet {
        /// The file.
        file: PathBuf,
        /// The runtime's title.
        title: String,
        /// What is required.
        request: Request,
        /// What commands need in front of the selector.
        prefix: String,
    },
}

/// What one requirement file resulted in.
#[derive(Default)]
struct Stamp {
    words: Vec<String>,
    /// Whether it has to be asked for again when its folder is entered.
    again: bool,
}

/// How nothing that meets a requirement is written.
const NOTHING: &str = "?";

/// The folder of stamps.
pub fn folder(environment: &Environment) -> Result<PathBuf, Error> {
    Ok(environment.folders()?.cache.join("stamps"))
}

/// Throws all stamps away, after something that requirements depend on was changed.
pub fn forget(environment: &Environment) -> Done {
    let folder = folder(environment)?;
    let removed = optional::remove_folder(&folder);
    removed.map(drop).map_err(file_error(&folder, "removed"))
}

/// How a shell reads what it is to use.
pub fn as_text(pick: Option<&Pick>) -> String {
    pick.map_or(NOTHING, Pick::as_str).to_owned()
}

/// Reads every requirement file from this folder upward, and leaves a stamp for each. Where the
/// settings say so, the person is asked before a project is followed; the stamp keeps the answer.
pub fn look(listener: &dyn Listener, environment: &Environment) -> Result<Followed, Error> {
    let asks = environment.settings()?.following == Following::Ask;
    let mut followed = Followed::default();
    let mut found: BTreeMap<PathBuf, Stamp> = BTreeMap::new();
    for name in environment.entered_runtimes()? {
        let runtime = Runtime::named(environment, Some(&name))?;
        for (path, file) in project::requirement_files(&runtime) {
            let stamp = found.entry(path.clone()).or_default();
            let requirement = match project::read_requirement(&runtime, &path, &file) {
                Ok(Some(requirement)) => requirement,
                Ok(None) => continue,
                Err(error) => {
                    stamp.again = true;
                    followed.notices.push(Notice::Unusable(error));
                    continue;
                }
            };
            project::note(&runtime, &path, Some(&requirement.request), listener);
            let pick = runtime.pick_meeting(&requirement.request);
            stamp.again |= pick.is_none() || !is_lasting(&requirement);
            // The nearest file decides.
            let decides = !followed.picks.contains_key(&name);
            if let (Some(pick), true) = (&pick, asks && decides) {
                let answer = listener.ask(&Question::FollowProject {
                    file: &path,
                    title: &runtime.definition.title,
                    pick,
                })?;
                // An answer holds until the file or the shelf changes.
                stamp.again = answer == Answer::Nobody;
                if answer != Answer::Yes {
                    continue;
                }
            }
            stamp
                .words
                .push(format!("{name}={}", as_text(pick.as_ref())));
            if decides {
                match &pick {
                    Some(pick) => runtime.note_use(pick),
                    None => followed.notices.push(Notice::Unmet {
                        file: path.clone(),
                        title: runtime.definition.title.clone(),
                        request: requirement.request,
                        prefix: environment.prefix(&name),
                    }),
                }
                followed.picks.insert(name.clone(), pick);
            }
        }
    }
    let folder = folder(environment)?;
    for (path, stamp) in &found {
        // Without a stamp the shell only asks more often.
        write_stamp(&folder, path, stamp).unwrap_or_default();
    }
    Ok(followed)
}

/// Whether what is required changes with the shelf alone; a word may mean another version tomorrow.
fn is_lasting(requirement: &Requirement) -> bool {
    let selector = &requirement.request.selector;
    matches!(selector, Selector::Version(_) | Selector::Range(_))
}

/// One line: what the requirement file resulted in. The stamp stands where the file does, below the folder of
/// stamps, so that whatever is no name too long for the one is none for the other.
fn write_stamp(folder: &Path, file: &Path, stamp: &Stamp) -> io::Result<()> {
    let modified = fs::metadata(file)?.modified()?;
    let again = if stamp.again { "again " } else { "" };
    let path = folder.join(file.strip_prefix("/").unwrap_or(file));
    let line = format!("{again}{}\n", stamp.words.join(" "));
    atomic::write_quickly(&path, line.as_bytes())?;
    File::options()
        .write(true)
        .open(&path)?
        .set_modified(modified)
}
