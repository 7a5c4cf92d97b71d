//! The files that start-up files source, kept in step with the program.

use std::fs;
use std::path::{Path, PathBuf};

use vshelf_files::{atomic, optional};
use vshelf_shell::connection::{self, Places};
use vshelf_shell::{Dialect, quote, start_up};

use super::stamps;
use crate::environment::Environment;
use crate::error::{Error, file_error};
use vshelf_files::action::FileAction;

/// The file that a shell's start-up file sources.
pub fn integration_path(environment: &Environment, dialect: Dialect) -> Result<PathBuf, Error> {
    let folder = environment.layout()?.connect();
    Ok(folder.join(connection::integration_file(dialect)))
}

/// The shells whose integrations are there.
pub fn connected_dialects(environment: &Environment) -> Result<Vec<Dialect>, Error> {
    let mut connected = Vec::new();
    for dialect in Dialect::ALL {
        if integration_path(environment, dialect)?.exists() {
            connected.push(dialect);
        }
    }
    Ok(connected)
}

/// The file of functions that the integration reads when one is needed, where it has one beside it.
pub fn functions_path(
    environment: &Environment,
    dialect: Dialect,
) -> Result<Option<PathBuf>, Error> {
    let folder = environment.layout()?.connect();
    Ok(connection::functions_file(dialect).map(|file| folder.join(file)))
}

/// The line that connects an open shell.
pub fn source_line(environment: &Environment, dialect: Dialect) -> Result<String, Error> {
    let path = integration_path(environment, dialect)?;
    let quoted = match dialect {
        // Beginning with ~ where that will do.
        Dialect::Bash
        | Dialect::Zsh
        | Dialect::Fish
        | Dialect::Sh
        | Dialect::Ksh
        | Dialect::Mksh => quote::path(&path, environment.variables().home().as_deref()),
        _ => dialect.quote(&path.to_string_lossy()),
    };
    Ok(start_up::source_line(dialect, &quoted))
}

/// The integration's text for this program and this shelf.
pub fn integration_text(environment: &Environment, dialect: Dialect) -> Result<String, Error> {
    let program = own_program()?;
    let data = &environment.folders()?.data;
    if data.to_string_lossy().contains(':') {
        return Err(Error::ColonInData { data: data.clone() });
    }
    let places = Places {
        data,
        program: &program,
        stamps: &stamps::folder(environment)?,
    };
    Ok(connection::render_integration(dialect, places))
}

/// The integration in one piece, the functions first: it then has no need to look for them.
pub fn whole_text(environment: &Environment, dialect: Dialect) -> Result<String, Error> {
    let functions = match dialect {
        // It runs the parts of the file beside it, or reads them in a place of their own.
        Dialect::Tcsh | Dialect::Elvish => String::new(),
        _ => connection::render_functions(dialect),
    };
    Ok(functions + &integration_text(environment, dialect)?)
}

/// The path of this program.
pub fn own_program() -> Result<PathBuf, Error> {
    std::env::current_exe()
        .or_else(|source| program_as_started().ok_or(Error::OwnProgram { source }))
}

/// The path of this program by how it was started, for a system that does not say what runs: one without `/proc`.
fn program_as_started() -> Option<PathBuf> {
    let name = std::env::args_os().next()?;
    let path = std::env::var_os("PATH").unwrap_or_default();
    let is_path = Path::new(&name).components().count() > 1;
    let mut candidates = match is_path {
        true => vec![PathBuf::from(&name)],
        false => std::env::split_paths(&path)
            .map(|folder| folder.join(&name))
            .collect(),
    };
    candidates.retain(|candidate| candidate.is_file());
    fs::canonicalize(candidates.first()?).ok()
}

/// Writes a file unless it has this text; says whether it did not.
pub fn write_if_other(path: &Path, text: &str) -> Result<bool, Error> {
    let before = optional::read_text(path).map_err(file_error(path, FileAction::Read))?;
    if before.as_deref() == Some(text) {
        return Ok(false);
    }
    atomic::write_file(path, text.as_bytes()).map_err(file_error(path, FileAction::Write))?;
    Ok(true)
}
