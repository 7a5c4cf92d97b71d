//! What follows from an install: the default, the calling shell, and what of it is active now.

use std::sync::Arc;

use vshelf_core::{Key, Phase, Pick, Request};

use super::job::InstallJob;
use crate::activity::Activity;
use crate::defaults::{self, kept_as};
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::{Event, Listener};
use crate::integrate::connect::way_to_connect;
use crate::integrate::refresh::refresh;
use crate::outcome::{Conclusion, SeveralConclusion, ShellAfterInstall};
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

/// Sets the default and the switch as asked, and tells what is active now. The first install of a
/// runtime becomes its default.
pub fn conclude(
    before: &Runtime<'_>,
    request: &Request,
    key: &Key,
    takeover: Takeover,
    listener: &dyn Listener,
) -> Done {
    let environment = before.environment();
    let becomes_default = takeover.default || before.snapshot.default_selector().is_none();
    let activity = Activity::of(before);
    if becomes_default {
        before.shelf.set_default(key, &kept_as(request))?;
    }
    refresh(environment)?;
    let runtime = &Runtime::open(environment, Arc::clone(&before.definition))?;
    let gone = || Error::GoneMeanwhile {
        title: runtime.names().title_of(key),
    };
    let install = runtime.snapshot.install(key).ok_or_else(gone)?;
    let line = runtime.published.line_of(&install.id.version);
    let ended = line.filter(|line| line.phase_on(runtime.today()) == Phase::Ended);
    let conclusion = Conclusion {
        selector: runtime.names().key_as_typed(&install.id.key),
        ended_line: ended.cloned(),
        today: runtime.today(),
        became_default: becomes_default,
        default: defaults::state_of(runtime),
        shell: change_shell(runtime, key, &activity, becomes_default, takeover.switch),
    };
    listener.tell(Event::Concluded(&conclusion));
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

/// Makes the first of several installs the default of each runtime that has none, and tells what the
/// defaults are. Each request comes with the job that it became.
pub fn conclude_several(
    environment: &Environment,
    installed: &[(Request, &InstallJob)],
    listener: &dyn Listener,
) -> Done {
    let mut seen: Vec<&str> = Vec::new();
    for (request, job) in installed {
        let name = job.definition.name.as_str();
        if seen.contains(&name) {
            continue;
        }
        seen.push(name);
        let before = Runtime::open(environment, Arc::clone(&job.definition))?;
        let has_none = before.snapshot.default_selector().is_none();
        if has_none {
            before.shelf.set_default(&job.key, &kept_as(request))?;
        }
        let runtime = Runtime::open(environment, Arc::clone(&before.definition))?;
        let install = runtime.snapshot.install(&job.key);
        let install = install.filter(|_| environment.shell.can_change());
        listener.tell(Event::ConcludedSeveral(&SeveralConclusion {
            title: runtime.definition.title.clone(),
            new_default: has_none.then(|| job.title()),
            default: defaults::state_of(&runtime),
            switchable: install.map(|install| runtime.names().key_as_typed(&install.id.key)),
        }));
    }
    refresh(environment)
}
