//! What a shell that follows projects asks when a folder is entered: what the project here results in, whether the person
//! wants it, and whether what is missing is installed.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use vshelf_core::requirement::project_folder;
use vshelf_core::standing::Stated;
use vshelf_core::{Pick, Request, Selector};
use vshelf_files::action::FileAction;
use vshelf_shelf::journal;
use vshelf_shell::connection::Following;

use super::stamps::{Stamp, as_text, folder, write_stamp};
use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::events::{Answer, Listener, Question};
use crate::install::missing::install_missing;
use crate::project;
use crate::runtime::{Runtime, opening};

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
    /// What a requirement needs could not be installed.
    NotInstalled(Error),
    /// Only a catalog could tell whether an install meets a requirement, and none is kept.
    Undecided {
        /// The file.
        file: PathBuf,
        /// The runtime's title.
        title: String,
        /// The runtime's name.
        runtime: String,
        /// The requirement.
        request: Request,
    },
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

/// Reads every requirement file from this folder upward, and leaves a stamp for each. Where the
/// settings say so, the person is asked before a project is followed; the stamp keeps the answer.
pub fn look(listener: &dyn Listener, environment: &Environment) -> Result<Followed, Error> {
    let mut followed = Followed::default();
    let mut found: BTreeMap<PathBuf, Stamp> = BTreeMap::new();
    for mut runtime in opening::followed(environment)? {
        // The file that decides; the others are read for their stamps.
        let effective = project::required(&runtime).effective();
        let deciding = effective.map(|stated| stated.place.file);
        for (path, file) in project::requirement_files(&runtime) {
            let stamp = (found.entry(path.clone())).or_insert_with(|| Stamp::before_reading(&path));
            match project::read_requirement(&runtime, &path, &file) {
                Ok(Some(Stated { what: request, .. })) => {
                    let required = Required {
                        decides: deciding.as_ref() == Some(&path)
                            && !followed.picks.contains_key(runtime.name()),
                        file: path,
                        request,
                    };
                    follow(&mut runtime, required, stamp, &mut followed, listener)?;
                }
                Ok(None) => {}
                Err(error) => {
                    stamp.again = true;
                    followed.notices.push(Notice::Unusable(error));
                }
            }
        }
    }
    let folder = folder(environment)?;
    for (path, stamp) in found {
        // Without a stamp the shell only asks more often.
        write_stamp(&folder, &path, stamp).unwrap_or_default();
    }
    Ok(followed)
}

/// A requirement that was read.
struct Required {
    file: PathBuf,
    request: Request,
    /// Whether it is the one that counts.
    decides: bool,
}

/// Decides what the calling shell uses of a runtime because of one requirement file.
fn follow(
    runtime: &mut Runtime<'_>,
    required: Required,
    stamp: &mut Stamp,
    followed: &mut Followed,
    listener: &dyn Listener,
) -> Done {
    let environment = runtime.environment();
    let following = environment.settings()?.following;
    let Required {
        file,
        request,
        decides,
    } = &required;
    project::note(runtime, file, Some(request), listener);
    let name = runtime.name().to_owned();
    let mut pick = runtime.choosing().pick_meeting(request);
    let (mut declined, mut failed) = (false, false);
    if pick.is_none() && *decides && following == Following::Install {
        match install_required(runtime, file, request, listener) {
            Ok(answer) => {
                declined = answer == Answer::No;
                *runtime = runtime.reopened()?;
                pick = runtime.choosing().pick_meeting(request);
            }
            Err(error) => {
                failed = true;
                followed.notices.push(Notice::NotInstalled(error));
            }
        }
    }
    // A no holds until the file or the shelf changes.
    stamp.again |= (pick.is_none() && !declined) || !is_lasting(request);
    if let (Some(pick), true) = (&pick, following == Following::Ask && *decides) {
        let answer = listener.ask(&Question::FollowProject {
            file,
            title: &runtime.definition.title,
            selector: &runtime.names().selector_of_pick(pick),
        })?;
        // An answer holds until the file or the shelf changes.
        stamp.again |= answer == Answer::Nobody;
        if answer != Answer::Yes {
            return Ok(());
        }
    }
    let word = format!("{name}={}", as_text(pick.as_ref()));
    stamp.words.push(word);
    if *decides {
        match &pick {
            Some(pick) => runtime.note_use(pick),
            None if declined || failed => {}
            None => followed
                .notices
                .push(notice_without_install(runtime, required)),
        }
        followed.picks.insert(name, pick);
    }
    Ok(())
}

/// The notice of a requirement that no install is known to meet.
fn notice_without_install(runtime: &Runtime<'_>, required: Required) -> Notice {
    let title = runtime.definition.title.clone();
    let request = runtime.names().shown(&required.request);
    let file = required.file;
    if project::is_undecided(runtime, &required.request) {
        let runtime = runtime.name().to_owned();
        return Notice::Undecided {
            file,
            title,
            runtime,
            request,
        };
    }
    Notice::Unmet {
        file,
        title,
        request,
        prefix: runtime.environment().prefix(runtime.name()),
    }
}

/// Has what a requirement file needs installed, where a person agrees to it; once they did so in its folder, nobody
/// is asked again.
fn install_required(
    runtime: &Runtime<'_>,
    file: &Path,
    request: &Request,
    listener: &dyn Listener,
) -> Result<Answer, Error> {
    let environment = runtime.environment();
    let layout = environment.layout()?;
    let known = layout.installing();
    let folder = project_folder(file);
    if !journal::installs_in(&layout, folder).map_err(file_error(&known, FileAction::Read))? {
        let answer = listener.ask(&Question::InstallRequired {
            file,
            title: &runtime.definition.title,
            request,
        })?;
        if answer != Answer::Yes {
            return Ok(answer);
        }
        journal::note_installing(&layout, folder).map_err(file_error(&known, FileAction::Write))?;
    }
    let locked = project::installable(runtime)?.and_then(|(_, locked)| locked);
    install_missing(
        runtime,
        project::as_request(runtime, request.clone()),
        locked,
        listener,
    )
    .map(|()| Answer::Yes)
}

/// Whether what is required changes with the shelf alone; a word may mean another version tomorrow.
fn is_lasting(request: &Request) -> bool {
    matches!(request.selector, Selector::Version(_) | Selector::Range(_))
}
