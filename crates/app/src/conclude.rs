//! What follows from every change: the one place that refreshes stamps, launchers, the session's environment, and the
//! runtimes that shells enter.

use vshelf_core::lock_file::LOCK_FILE;
use vshelf_core::requirement::OWN_FILE;
use vshelf_shell::connection::{self, Entered, Following};

use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::integrate::files::{connected_dialects, write_if_other};
use crate::integrate::{desktop, launchers, stamps};
use crate::line_links;
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
    line_links::refresh(environment)?;
    match changed {
        Changed::Requirements => Ok(()),
        Changed::Shelf => {
            launchers::refresh(environment)?;
            desktop::refresh(environment)?;
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
    let watched = match following {
        Following::Off => Vec::new(),
        _ => watched_files(environment)?,
    };
    let layout = environment.layout()?;
    for dialect in connected {
        let file = layout.connect().join(connection::runtimes_file(dialect));
        let text =
            connection::render_runtimes(dialect, &runtimes, &watched, following, layout.data());
        write_if_other(&file, &text)?;
    }
    Ok(())
}

/// The names of the files in which a project can require any known runtime, which need not be on the shelf.
fn watched_files(environment: &Environment) -> Result<Vec<String>, Error> {
    let mut watched = vec![LOCK_FILE.to_owned(), OWN_FILE.to_owned()];
    let known = environment.requirement_file_names()?;
    for file in known.into_iter().flat_map(|(_, files)| files) {
        if !watched.contains(&file) {
            watched.push(file);
        }
    }
    Ok(watched)
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
