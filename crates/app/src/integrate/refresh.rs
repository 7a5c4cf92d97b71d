//! What follows from every change of the shelf: the lists of runtimes that new shells enter, the
//! stamps, the launchers.

use vshelf_core::Definition;
use vshelf_shell::Dialect;
use vshelf_shell::connection;

use super::files::{integration_path, write_if_other};
use super::{launchers, stamps};
use crate::environment::Environment;
use crate::error::Done;

/// Brings all of it up to date, for the shells that are connected.
pub fn refresh(environment: &Environment) -> Done {
    let definitions: Vec<Definition> = (environment.entered_runtimes()?.iter())
        .map(|name| environment.definition(name))
        .collect::<Result<_, _>>()?;
    let following = environment.settings()?.following;
    // What requirement files resulted in may be otherwise now.
    stamps::forget(environment)?;
    launchers::refresh(environment)?;
    let layout = environment.layout()?;
    for dialect in Dialect::ALL {
        if integration_path(environment, dialect)?.exists() {
            let file = layout.connect().join(connection::runtimes_file(dialect));
            let text = connection::render_runtimes(dialect, &definitions, following, layout.data());
            write_if_other(&file, &text)?;
        }
    }
    Ok(())
}
