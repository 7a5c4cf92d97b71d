//! What follows from every change of the shelf: the lists of runtimes that new shells enter, the
//! stamps, the launchers.

use vshelf_shell::connection::{self, Entered};

use super::files::{connected_dialects, write_if_other};
use super::{launchers, stamps};
use crate::environment::Environment;
use crate::error::Done;
use crate::runtime::{Runtime, opening};

/// Brings all of it up to date, for the shells that are connected.
pub fn refresh(environment: &Environment) -> Done {
    // What requirement files resulted in may be otherwise now.
    stamps::forget(environment)?;
    launchers::refresh(environment)?;
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
