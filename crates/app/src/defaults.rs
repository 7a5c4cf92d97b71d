//! What new shells and desktop programs get.

use vshelf_core::resolve::{Choice, Scope};
use vshelf_core::{Key, Pick, Request};
use vshelf_shelf::State;

use crate::conclude::{Changed, conclude};
use crate::environment::Environment;
use crate::error::{Class, Error};
use crate::integrate::connect::way_to_connect;
use crate::outcome::DefaultState;
use crate::outcome::WayToConnect;
use crate::runtime::Runtime;
use crate::session;

/// A default that was set.
#[derive(Debug)]
pub struct NewDefault {
    /// The runtime's title.
    pub title: String,
    /// What the default is.
    pub pick: Pick,
    /// The selector that means exactly that.
    pub shown: String,
    /// The selector that it was set as.
    pub selector: String,
    /// What the calling shell uses.
    pub shell: ShellAfterDefault,
}

/// What the calling shell uses after the default was set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ShellAfterDefault {
    /// What it was switched to.
    StaysSwitched(String),
    /// What the project here requires.
    StaysAsRequired(String),
    /// The default.
    Follows,
    /// What it used before, because it is not connected.
    NotConnected(WayToConnect),
}

/// The selector by which a default or label is remembered: what was typed, without the runtime.
pub fn kept_as(request: &Request) -> String {
    request.without_runtime().to_string()
}

/// The default of a runtime.
pub fn state_of(runtime: &Runtime<'_>) -> DefaultState {
    DefaultState {
        pick: runtime.snapshot.default_pick().cloned(),
        shown: (runtime.snapshot.default_pick()).map(|pick| runtime.names().selector_of_pick(pick)),
        selector: runtime.snapshot.default_selector().map(str::to_owned),
    }
}

/// Makes an install the default, remembered as `selector`. Returns the runtime with that default.
pub fn point_at<'c>(
    runtime: &Runtime<'c>,
    key: &Key,
    selector: &str,
) -> Result<Runtime<'c>, Error> {
    let state = runtime.shelf.set_default(key, selector)?;
    renewed(runtime, state)
}

/// The runtime with the state that was just written.
fn renewed<'c>(runtime: &Runtime<'c>, state: State) -> Result<Runtime<'c>, Error> {
    let (shelf, snapshots) = (&runtime.shelf, runtime.environment().snapshots());
    snapshots.renew_shelf(shelf, runtime.snapshot.with_state(shelf, state));
    runtime.refreshed()
}

/// Sets the default of the runtime that `request` means, among what is on the shelf.
pub fn set(environment: &Environment, request: &Request) -> Result<NewDefault, Error> {
    let before = Runtime::of_request(environment, request)?;
    let selector = kept_as(request);
    let (runtime, pick) = match before.choosing().resolve(request, Scope::Shelf)? {
        Choice::System => {
            let selector = Pick::System.as_str().to_owned();
            let state = before.shelf.clear_default(Some(&selector))?;
            (renewed(&before, state)?, Pick::System)
        }
        choice @ Choice::Version(_) => {
            let not_there = || Error::NotAnInstall {
                selector: selector.clone(),
                class: Class::NoMatch,
            };
            let pick = choice.pick().ok_or_else(not_there)?;
            let key = pick.key().ok_or_else(not_there)?;
            (point_at(&before, key, &selector)?, pick)
        }
    };
    conclude(environment, Changed::Shelf)?;
    let shell = &environment.shell;
    let after = match shell.switched(runtime.name()) {
        Some(switched) => {
            ShellAfterDefault::StaysSwitched(runtime.names().selector_of_pick(switched))
        }
        None if shell.can_change() => match session::plan_following(&runtime, None) {
            Some(required) => {
                ShellAfterDefault::StaysAsRequired(runtime.names().selector_of_pick(&required))
            }
            None => ShellAfterDefault::Follows,
        },
        None => ShellAfterDefault::NotConnected(way_to_connect(environment)),
    };
    Ok(NewDefault {
        title: runtime.definition.title.clone(),
        shown: runtime.names().selector_of_pick(&pick),
        pick,
        selector,
        shell: after,
    })
}
