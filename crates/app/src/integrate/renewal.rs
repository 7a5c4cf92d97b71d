//! What shells source, written by `vshelf connect`, and anew without being asked where the program was replaced.

use std::fs::{self, File};
use std::io;
use std::path::Path;

use vshelf_files::{atomic, optional};
use vshelf_shell::{Dialect, connection};

use super::files::{
    connected_dialects, functions_path, integration_path, integration_text, own_program,
    write_if_other,
};
use crate::conclude::{Changed, conclude};
use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use vshelf_files::action::FileAction;

/// Writes the files of every connected shell anew where this program is not the one that wrote them last.
/// Open shells keep what they have read, which any version answers.
pub fn renew_where_other(environment: &Environment) -> Done {
    let stamp = environment.layout()?.program_stamp();
    if has_time_of(&stamp, &own_program()?).map_err(file_error(&stamp, FileAction::Read))? {
        return Ok(());
    }
    write_integrations(environment, None).map(drop)
}

/// Writes the integrations of the shells that have one, and of `added`. Returns whether a file that shells of `added`
/// source changed.
pub fn write_integrations(
    environment: &Environment,
    added: Option<Dialect>,
) -> Result<bool, Error> {
    let layout = environment.layout()?;
    layout.claim().map_err(vshelf_shelf::ShelfError::from)?;
    let runtimes_text = || {
        let file = added.map(|dialect| layout.connect().join(connection::runtimes_file(dialect)));
        let text = file
            .map(|file| optional::read_text(&file).map_err(file_error(&file, FileAction::Read)));
        text.transpose()
    };
    let runtimes_before = runtimes_text()?;
    let is_rewritten = match added {
        Some(dialect) => write_integration(environment, dialect)?,
        None => false,
    };
    for dialect in connected_dialects(environment)? {
        write_integration(environment, dialect)?;
    }
    conclude(environment, Changed::Shelf)?;
    let changed = is_rewritten || runtimes_text()? != runtimes_before;
    let stamp = layout.program_stamp();
    write_stamp(&stamp, &own_program()?).map_err(file_error(&stamp, FileAction::Write))?;
    Ok(changed)
}

fn write_integration(environment: &Environment, dialect: Dialect) -> Result<bool, Error> {
    let text = integration_text(environment, dialect)?;
    let other_functions = match functions_path(environment, dialect)? {
        Some(functions) => write_if_other(&functions, &connection::render_functions(dialect))?,
        None => false,
    };
    let other_text = write_if_other(&integration_path(environment, dialect)?, &text)?;
    Ok(other_functions || other_text)
}

/// The stamp has the time of the program that wrote what shells source; they compare the two.
fn write_stamp(stamp: &Path, program: &Path) -> io::Result<()> {
    if has_time_of(stamp, program)? {
        return Ok(());
    }
    let modified = fs::metadata(program)?.modified()?;
    atomic::write_quickly(stamp, b"")?;
    let stamp = File::options().write(true).open(stamp)?;
    stamp.set_modified(modified)
}

fn has_time_of(stamp: &Path, program: &Path) -> io::Result<bool> {
    let Some(stamp) = optional::metadata(stamp)? else {
        return Ok(false);
    };
    Ok(stamp.modified()? == fs::metadata(program)?.modified()?)
}
