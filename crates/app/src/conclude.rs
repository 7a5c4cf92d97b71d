//! What follows from every change: the one place that refreshes stamps, launchers, and the runtimes that shells enter.

use vshelf_shell::connection::{self, Entered};

use crate::environment::Environment;
use crate::error::Done;
use crate::integrate::files::{connected_dialects, write_if_other};
use crate::integrate::{launchers, stamps};
use crate::runtime::{Runtime, opening};

/// The kind of change that a command made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Changed {
    /// What requirements result in, such as a requirement file, a label, or an install that is no default.
    Requirements,
    /// The shelf or a default, which shells and launchers enter.
    Shelf,
}

/// Refreshes everything that depends on what was changed.
pub fn conclude(environment: &Environment, changed: Changed) -> Done {
    // A shell may tell times apart by whole seconds, and must not miss what was just written.
    stamps::forget(environment)?;
    match changed {
        Changed::Requirements => Ok(()),
        Changed::Shelf => {
            launchers::refresh(environment)?;
            refresh_entered(environment)
        }
    }
}

/// Writes the runtimes that new shells enter, for each kind of shell that is connected.
fn refresh_entered(environment: &Environment) -> Done {
    let connected = connected_dialects(environment)?;
    if connected.is_empty() {
        return Ok(());
    }
    let runtimes = opening::entered(environment)?.into_iter();
    let runtimes: Vec<Entered> = runtimes.map(entered).collect();
    let following = environment.settings()?.following;
    let layout = environment.layout()?;
    for dialect in connected {
        let file = layout.connect().join(connection::runtimes_file(dialect));
        let text = connection::render_runtimes(dialect, &runtimes, following, layout.data());
        write_if_other(&file, &text)?;
    }
    Ok(())
}

fn entered(runtime: Runtime<'_>) -> Entered {
    let default = runtime.snapshot.default_pick().cloned();
    let shown = default
        .as_ref()
        .map(|pick| runtime.names().selector_of_pick(pick));
    Entered {
        shown: shown.unwrap_or_default(),
        publisher: runtime
            .names()
            .main_publisher()
            .unwrap_or_default()
            .to_owned(),
        definition: runtime.definition,
        default,
    }
}
