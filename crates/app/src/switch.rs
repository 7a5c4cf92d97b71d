//! Switching the calling shell, and running one command on a version.

use vshelf_core::activation::Rule;
use vshelf_core::catalog::{Catalog, Line};
use vshelf_core::resolve::{Candidate, Choice, ResolveError, Scope};
use vshelf_core::{Key, Pick, Request, Selector, Version};

use crate::activity::Activity;
use crate::environment::Environment;
use crate::error::Error;
use crate::events::{Answer, Listener, Question};
use crate::example_requirement::no_requirement;
use crate::install::missing::install_missing;
use crate::install::request::InstallRequest;
use crate::install::run::install;
use crate::integrate::connect::require_connection;
use crate::keep::{history, packages};
use crate::project;
use crate::runtime::Runtime;
use crate::session;

/// A switch of the calling shell.
pub struct Switched<'c> {
    /// The runtime.
    pub runtime: Runtime<'c>,
    /// What was active before this.
    pub activity: Activity,
    /// What the shell uses now.
    pub pick: Pick,
    /// Whether it was switched to that before.
    pub already: bool,
    /// What is published for the same selector and newer.
    pub newer: Option<Version>,
    /// Packages of the install that was active before which this one does not have, the first time.
    pub lacking: Option<LackingPackages>,
    /// The publisher that the same selector means among what is published, if the install is of another one.
    pub usual_publisher: Option<String>,
    /// What was asked for.
    pub request: Request,
}

/// Packages that one install has and another one does not.
pub struct LackingPackages {
    /// How many.
    pub count: usize,
    /// The selector of the install that has them, with what commands need in front of it.
    pub from: String,
    /// That of the other one.
    pub to: String,
}

/// A shell that is no longer switched.
pub struct Followed<'c> {
    /// The runtime.
    pub runtime: Runtime<'c>,
    /// What was active before this.
    pub activity: Activity,
    /// Whether anything changes: it was switched, or something else answered.
    pub changes: bool,
    /// What the project here requires, where the shell follows that.
    pub required: Option<Pick>,
}

/// Switches the calling shell to what is asked for, or else to what the project here requires. What is
/// published and missing can be installed first, where there is somebody to ask.
pub fn switch<'c>(
    environment: &'c Environment,
    asked: Option<Request>,
    listener: &dyn Listener,
) -> Result<Switched<'c>, Error> {
    require_connection(environment)?;
    let request = match asked {
        Some(request) => request,
        None => required_here(environment)?,
    };
    let mut runtime = Runtime::of_request(environment, &request)?;
    if request.selector.is_moving() {
        // Its lines and its releases are looked at: both in one reading.
        runtime.published.heads();
    }
    if offer(&runtime, &request, listener)? {
        let missing = InstallRequest {
            requests: vec![request.clone()],
            ..InstallRequest::default()
        };
        install(environment, missing, listener)?;
        runtime = runtime.reopened()?;
    }
    let activity = Activity::of(&runtime);
    let choice = runtime.choosing().resolve(&request, Scope::Shelf);
    let choice = choice.map_err(|error| renewed_since(&runtime, &request).unwrap_or(error))?;
    let newer = match &choice {
        Choice::Version(chosen) => newer_published(&runtime, &request, chosen),
        Choice::System => None,
    };
    let pick = runtime.choosing().resolve_pick(&request)?;
    if pick == Pick::System {
        activity.need_system_copy(&runtime)?;
    }
    let usual_publisher = usual_publisher(&runtime, &request, &pick);
    let before = activity.active();
    let already =
        before == Some(&pick) && activity.rule() == Some(Rule::Switch) && !activity.differs();
    if !already {
        session::plan_switch(&runtime, &pick, before);
    }
    let lacking = before
        .filter(|_| !already)
        .and_then(|before| lacking(&runtime, before, &pick));
    Ok(Switched {
        runtime,
        activity,
        pick,
        already,
        newer,
        lacking,
        usual_publisher,
        request,
    })
}

/// What the project here requires of the runtime that is meant.
fn required_here(environment: &Environment) -> Result<Request, Error> {
    let runtime = Runtime::named(environment, None)?;
    let required = project::required(&runtime);
    let effective = required.effective();
    match (effective, required.unusable) {
        (_, Some(error)) => Err(error),
        (Some(found), None) => Ok(found.what),
        (None, None) => Err(no_requirement(environment, &[runtime])),
    }
}

/// The packages of one install that another one does not have, unless that was said before.
fn lacking(runtime: &Runtime<'_>, from: &Pick, to: &Pick) -> Option<LackingPackages> {
    let (from, to) = (from.key()?, to.key()?);
    let count = packages::newly_lacking(runtime, from, to)?;
    Some(LackingPackages {
        count,
        from: runtime.names().key_as_typed(from),
        to: runtime.names().key_as_typed(to),
    })
}

/// The error that what this shell used before was renewed to a release that is on the shelf, if that is so.
fn renewed_since(runtime: &Runtime<'_>, request: &Request) -> Option<Error> {
    if request.selector != Selector::Previous {
        return None;
    }
    let environment = runtime.environment();
    let gone = environment.shell.previous(runtime.name())?.key()?;
    // Without a history that can be read the install is gone, and that is all that is known.
    let history = history::read(environment).ok()?;
    let mut now = gone.clone();
    for entry in history
        .entries
        .iter()
        .filter(|entry| entry.record.runtime == runtime.name())
    {
        if let Some(version) = entry.replaced_by.as_ref().filter(|_| entry.key == now) {
            now = Key::new(version, gone.publisher());
        }
    }
    runtime.snapshot.install(&now)?;
    Some(Error::RenewedSince {
        title: runtime.names().title_of(gone),
        selector: runtime.names().key_as_typed(&now),
    })
}

/// Has the calling shell follow the project here, or else the default, again.
pub fn follow<'c>(
    environment: &'c Environment,
    runtime: Option<&str>,
) -> Result<Followed<'c>, Error> {
    require_connection(environment)?;
    let runtime = Runtime::named(environment, runtime)?;
    let activity = Activity::of(&runtime);
    let switched = environment.shell.switched(runtime.name());
    // What does not answer although it should is put in front again.
    let changes = switched.is_some() || activity.differs();
    let required = match changes {
        true => session::plan_following(&runtime, switched),
        false => None,
    };
    Ok(Followed {
        changes,
        runtime,
        activity,
        required,
    })
}

/// The publisher that a request means among what is published, if an install of another one meets it on the shelf.
fn usual_publisher(runtime: &Runtime<'_>, request: &Request, pick: &Pick) -> Option<String> {
    let (key, main) = (pick.key()?, runtime.names().main_publisher()?);
    let is_other = request.publisher.is_none()
        && names_no_install(&request.selector)
        && key.publisher() != main;
    is_other.then(|| main.to_owned())
}

/// Whether a selector is resolved among releases, and stands for no install that the person chose before.
fn names_no_install(selector: &Selector) -> bool {
    !matches!(
        selector,
        Selector::System | Selector::Default | Selector::Previous | Selector::Name(_)
    )
}

/// Whether a selector means the newest release of a line.
fn means_newest_of_line(selector: &Selector, outline: &Catalog) -> bool {
    match selector {
        Selector::Version(version) => {
            let is_it = |line: &Line| line.numbers == version.numbers();
            outline.lines.iter().any(is_it)
        }
        Selector::Latest | Selector::Stable | Selector::Lts => true,
        Selector::Name(name) => outline.line_named(name).is_some(),
        _ => false,
    }
}

/// What is published for a moving selector and newer than what was chosen from the shelf.
fn newer_published(
    runtime: &Runtime<'_>,
    request: &Request,
    chosen: &Candidate<'_>,
) -> Option<Version> {
    if !request.selector.is_moving() {
        return None;
    }
    let of_line = if means_newest_of_line(&request.selector, runtime.published.outline()) {
        runtime.choosing().newest_of_line(request)
    } else {
        None
    };
    let newest = of_line.or_else(
        || match runtime.choosing().resolve(request, Scope::Published) {
            Ok(Choice::Version(newest)) => Some(newest.version.clone()),
            _ => None,
        },
    );
    newest.filter(|newest| newest > chosen.version)
}

/// Offers to install what is published and not on the shelf.
fn offer(runtime: &Runtime<'_>, request: &Request, listener: &dyn Listener) -> Result<bool, Error> {
    let missing = runtime.choosing().explain(request, Scope::Shelf).outcome;
    let Err(ResolveError::NotOnShelf {
        published: Some((_, version)),
        ..
    }) = missing
    else {
        return Ok(false);
    };
    let answer = listener.ask(&Question::InstallMissing {
        title: &runtime.definition.title,
        version: &version,
    })?;
    Ok(answer == Answer::Yes)
}

/// What is meant: what is asked for on the shelf, or what is active here.
pub fn choose<'c>(
    environment: &'c Environment,
    asked: &RunTarget,
) -> Result<(Runtime<'c>, Pick), Error> {
    match asked {
        RunTarget::Active(name) => {
            let runtime = Runtime::named(environment, name.as_deref())?;
            let pick = active(&runtime)?;
            Ok((runtime, pick))
        }
        RunTarget::Selected(request) => {
            let runtime = Runtime::of_request(environment, request)?;
            let pick = runtime.choosing().resolve_pick(request)?;
            Ok((runtime, pick))
        }
    }
}

/// What one command is to run on, which is noted as a use of it.
pub fn choose_for_run<'c>(
    environment: &'c Environment,
    asked: &RunTarget,
) -> Result<(Runtime<'c>, Pick), Error> {
    let (runtime, pick) = choose(environment, asked)?;
    runtime.note_use(&pick);
    Ok((runtime, pick))
}

/// Installs what is asked for, or what the project here requires, where it is missing and nothing else was
/// chosen for this shell. Says what was installed.
pub fn install_for_run(
    environment: &Environment,
    asked: &RunTarget,
    listener: &dyn Listener,
) -> Result<Option<String>, Error> {
    let (runtime, request, locked) = match asked {
        RunTarget::Selected(request) => {
            let runtime = Runtime::of_request(environment, request)?;
            (runtime, request.clone(), None)
        }
        RunTarget::Active(name) => {
            let runtime = Runtime::named(environment, name.as_deref())?;
            let is_switched = environment.shell.switched(runtime.name()).is_some();
            if is_switched {
                return Ok(None);
            }
            let Some((found, locked)) = project::installable(&runtime)? else {
                return Ok(None);
            };
            let request = project::as_request(&runtime, found.what);
            (runtime, request, locked)
        }
    };
    if runtime.choosing().pick_meeting(&request).is_some() {
        return Ok(None);
    }
    install_missing(&runtime, request.clone(), locked, listener)?;
    let runtime = runtime.reopened()?;
    let pick = runtime.choosing().resolve_pick(&request)?;
    Ok(Some(format!(
        "{} {}",
        runtime.definition.title,
        runtime.names().selector_of_pick(&pick)
    )))
}

/// What a command is to run on.
#[derive(Clone, Debug)]
pub enum RunTarget {
    /// What is active here of the runtime with this name.
    Active(Option<String>),
    /// What a request stands for on the shelf.
    Selected(Request),
}

/// What is active here, or an error.
pub fn active(runtime: &Runtime<'_>) -> Result<Pick, Error> {
    let active = Activity::of(runtime).active().cloned();
    active.ok_or_else(|| Error::NothingActive {
        title: runtime.definition.title.clone(),
    })
}
