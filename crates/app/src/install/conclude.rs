//! What follows from installs: the default, the calling shell, and what of them is active now.

use std::sync::Arc;

use vshelf_core::resolve::Scope;
use vshelf_core::{Definition, Key, Phase, Pick, Request};

use crate::activity::Activity;
use crate::conclude::{self, Changed};
use crate::defaults::{self, kept_as};
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::{Answer, Event, Listener, Question};
use crate::integrate::connect::{connect, own_shell, way_to_connect};
use crate::integrate::files::connected_dialects;
use crate::integrate::start_up_files::start_up_file;
use crate::outcome::{Conclusion, Connected, ShellAfterInstall, Superseded};
use crate::runtime::Runtime;
use crate::session;

/// What a new install takes over at once.
#[derive(Clone, Copy, Debug, Default)]
pub struct Takeover {
    /// New shells.
    pub default: bool,
    /// This shell.
    pub switch: bool,
}

/// An install that was made or was there, for a request.
#[derive(Clone, Debug)]
pub struct Installed {
    /// The request.
    pub request: Request,
    /// The definition of its runtime.
    pub definition: Arc<Definition>,
    /// Its key.
    pub key: Key,
}

/// Sets the default and the switch as asked, and reports what is active now: of each runtime, for the first of its
/// installs. The first install of a runtime becomes its default.
pub fn conclude(
    environment: &Environment,
    installed: &[Installed],
    takeover: Takeover,
    listener: &dyn Listener,
) -> Done {
    let mut conclusions: Vec<Conclusion> = Vec::new();
    for (place, one) in installed.iter().enumerate() {
        let name = &one.definition.name;
        let mut before = installed[..place].iter();
        if !before.any(|other| other.definition.name == *name) {
            let runtime = Runtime::open(environment, Arc::clone(&one.definition))?;
            conclusions.push(conclude_one(&runtime, &one.request, &one.key, takeover)?);
        }
    }
    let of_several = installed.len() > 1;
    listener.tell(Event::Concluded {
        conclusions: &conclusions,
        of_several,
    });
    Ok(())
}

/// Sets the default and the switch for one install.
fn conclude_one(
    before: &Runtime<'_>,
    request: &Request,
    key: &Key,
    takeover: Takeover,
) -> Result<Conclusion, Error> {
    let environment = before.environment();
    let becomes_default = takeover.default || before.snapshot.default_selector().is_none();
    let activity = Activity::of(before);
    let runtime = &if becomes_default {
        defaults::point_at(before, key, &kept_as(request))?
    } else {
        before.refreshed()?
    };
    conclude::conclude(environment, Changed::Shelf)?;
    let title = runtime.names().title_of(key);
    let Some(install) = runtime.snapshot.install(key) else {
        return Err(Error::GoneMeanwhile { title });
    };
    let line = runtime.published.line_of(&install.id.version);
    let ended = line.filter(|line| line.phase_on(runtime.today()) == Phase::Ended);
    let default = defaults::state_of(runtime);
    let selector = runtime.names().key_as_typed(key);
    // A default such as 8 or lts, which stands for this install now, is set again, and not replaced by a version.
    let moved = default.selector.as_deref().filter(|selector| {
        runtime.choosing().pick_of_label(selector) == Some(Pick::Install(key.clone()))
    });
    let prefix = environment.prefix(runtime.name());
    Ok(Conclusion {
        supersedes: superseded(runtime, request, key),
        title,
        runtime_title: runtime.definition.title.clone(),
        as_default: moved.map_or_else(|| selector.clone(), |moved| format!("{prefix}{moved}")),
        selector,
        ended_line: ended.cloned(),
        today: runtime.today(),
        became_default: becomes_default,
        default,
        shell: change_shell(runtime, key, &activity, becomes_default, takeover.switch),
    })
}

/// The install of another publisher that the request meant before the install with this key was on the shelf.
fn superseded(runtime: &Runtime<'_>, request: &Request, key: &Key) -> Option<Superseded> {
    // A request that names a publisher, or cannot be resolved on the shelf, supersedes nothing.
    let now = runtime.choosing().pick_meeting(request)?;
    let covered = runtime.choosing().covered(request, Scope::Shelf).ok()?;
    let installs = covered.iter().filter_map(|candidate| candidate.install);
    let others: Vec<&Key> = (installs.map(|install| &install.key))
        .filter(|other| *other != key && request.publisher.is_none())
        .collect();
    let is_first = others
        .iter()
        .all(|other| other.publisher() != key.publisher());
    let meant = others.first().filter(|_| is_first && now.is(key))?;
    Some(Superseded {
        request: request.to_string(),
        title: runtime.names().title_of(meant),
    })
}

/// Offers to connect the person's shell if none is connected yet: without that nothing finds an install.
pub fn offer_to_connect(environment: &Environment, listener: &dyn Listener) -> Done {
    if !connected_dialects(environment)?.is_empty() {
        return Ok(());
    }
    // A shell that cannot be connected has another way, which the conclusion reports.
    let Ok(dialect) = own_shell(environment) else {
        return Ok(());
    };
    let file = start_up_file(environment, dialect)?;
    let question = Question::ConnectShell {
        dialect,
        file: &file,
    };
    if listener.ask(&question)? == Answer::Yes {
        let connected = connect(environment, dialect)?;
        listener.tell(Event::Connected(&Connected {
            // The conclusion reports how the calling shell becomes connected.
            source_line: None,
            ..connected
        }));
    }
    Ok(())
}

/// Plans what the calling shell uses, and says what that is.
fn change_shell(
    runtime: &Runtime<'_>,
    key: &Key,
    before: &Activity,
    became_default: bool,
    switch: bool,
) -> ShellAfterInstall {
    let shell = &runtime.environment().shell;
    let pick = Pick::Install(key.clone());
    if switch {
        session::plan_switch(runtime, &pick, before.active());
        return ShellAfterInstall::Switched;
    }
    let switched = shell.switched(runtime.name());
    if let (Some(required), None) = (session::followed(runtime), switched) {
        session::plan_following(runtime, None);
        return if required == pick {
            ShellAfterInstall::AsRequired
        } else {
            ShellAfterInstall::RequiredOther(runtime.names().selector_of_pick(&required))
        };
    }
    match switched {
        _ if became_default && !shell.can_change() => {
            ShellAfterInstall::NotConnected(way_to_connect(runtime.environment()))
        }
        Some(switched) if became_default => {
            let stays = before.active().unwrap_or(switched);
            ShellAfterInstall::StaysSwitched(runtime.names().selector_of_pick(stays))
        }
        None if became_default => {
            session::plan_following(runtime, None);
            ShellAfterInstall::AsDefault
        }
        _ if before.answering() == Some(&pick) => ShellAfterInstall::Active,
        _ => ShellAfterInstall::Stays {
            answering: (before.answering()).map(|pick| runtime.names().selector_of_pick(pick)),
            to_connect: match shell.dialect() {
                Some(_) => None,
                None => Some(way_to_connect(runtime.environment())),
            },
        },
    }
}
