//! The start-up files of shells: found, read and written.

use std::fs;
use std::path::{Path, PathBuf};

use vshelf_files::action::FileAction;
use vshelf_files::{atomic, optional};
use vshelf_shell::{Dialect, start_up};

use crate::environment::Environment;
use crate::error::{Done, Error, file_error};

/// The start-up file of a shell, through every link, so that a link stays one.
pub fn start_up_file(environment: &Environment, dialect: Dialect) -> Result<PathBuf, Error> {
    let variables = environment.variables();
    let home = variables.home().ok_or(Error::NoHome)?;
    let variable = |name: &str| variables.get(name).map(Into::into);
    let file = start_up::start_up_file(dialect, &home, variable);
    Ok(through_links(&file))
}

/// The file that a path leads to; the path itself if nothing is there.
pub fn through_links(file: &Path) -> PathBuf {
    fs::canonicalize(file).unwrap_or_else(|_| file.to_owned())
}

/// The text of a file, or an empty text if there is no file.
pub fn read_or_empty(file: &Path) -> Result<String, Error> {
    let text = optional::read_text(file).map_err(file_error(file, FileAction::Read))?;
    Ok(text.unwrap_or_default())
}

/// Writes a start-up file in one step; a new one is like any file of the person's.
pub fn write_start_up_file(file: &Path, text: &str) -> Done {
    atomic::write_shared(file, text.as_bytes()).map_err(file_error(file, FileAction::Write))
}
