//! The hook files on the disk, kept in step with the program and the shelf.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::Definition;
use vshelf_shelf::atomic;
use vshelf_shell::Dialect;
use vshelf_shell::hook::{self, Places};
use vshelf_shell::start_up;

use crate::commands::launchers;
use crate::context::Context;
use crate::failure::{Failure, Kind, file_failure, quoted};
use crate::following;

/// The folder of hook files.
pub fn folder(context: &Context) -> Result<PathBuf, Failure> {
    Ok(context.folders()?.data.join("hooks"))
}

/// The hook file that a shell's start-up file sources.
pub fn hook_path(context: &Context, dialect: Dialect) -> Result<PathBuf, Failure> {
    Ok(folder(context)?.join(hook::hook_file(dialect)))
}

/// The file of functions that the hook reads when one is needed, where it has one beside it.
pub fn functions_path(context: &Context, dialect: Dialect) -> Result<Option<PathBuf>, Failure> {
    let folder = folder(context)?;
    Ok(hook::functions_file(dialect).map(|file| folder.join(file)))
}

/// The line that connects an open shell to the hook.
pub fn source_line(context: &Context, dialect: Dialect) -> Result<String, Failure> {
    let hook = hook_path(context, dialect)?;
    let quoted = match dialect {
        // Beginning with ~ where that will do.
        Dialect::Bash
        | Dialect::Zsh
        | Dialect::Fish
        | Dialect::Sh
        | Dialect::Ksh
        | Dialect::Mksh => quoted(&hook),
        _ => dialect.quote(&hook.to_string_lossy()),
    };
    Ok(start_up::source_line(dialect, &quoted))
}

/// The hook's text for this program and this shelf.
pub fn hook_text(context: &Context, dialect: Dialect) -> Result<String, Failure> {
    let program = std::env::current_exe().map_err(|error| {
        Failure::new(
            Kind::Other,
            format!("the place of this program is not known: {error}"),
        )
    })?;
    let data = &context.folders()?.data;
    if data.to_string_lossy().contains(':') {
        return Err(Failure::new(
            Kind::Refused,
            format!(
                "{} holds a colon, which no folder on PATH can",
                data.display()
            ),
        )
        .run(
            "To put the shelf elsewhere",
            "export VSHELF_DATA=\"$HOME/shelf\"",
        ));
    }
    let places = Places {
        data,
        program: &program,
        stamps: &following::stamps(context)?,
    };
    Ok(hook::render_hook(dialect, places))
}

/// Writes the hook of a shell; says whether that changed anything.
pub fn write_hook(context: &Context, dialect: Dialect) -> Result<bool, Failure> {
    let text = hook_text(context, dialect)?;
    let other_functions = match functions_path(context, dialect)? {
        Some(functions) => write_if_other(&functions, &hook::render_functions(dialect))?,
        None => false,
    };
    let other_hook = write_if_other(&hook_path(context, dialect)?, &text)?;
    refresh_runtimes(context)?;
    Ok(other_functions || other_hook)
}

/// Brings the lists of runtimes that new shells enter up to date, for the shells that have a hook.
pub fn refresh_runtimes(context: &Context) -> Result<(), Failure> {
    let names = following::entered_runtimes(context)?;
    let definitions: Vec<Definition> = names
        .iter()
        .map(|name| context.definition(name))
        .collect::<Result<_, _>>()?;
    let following = context.settings()?.following;
    // Whatever pin files came to may be otherwise now.
    following::forget(context)?;
    launchers::refresh(context)?;
    for dialect in Dialect::ALL {
        if hook_path(context, dialect)?.exists() {
            let file = folder(context)?.join(hook::runtimes_file(dialect));
            let text =
                hook::render_runtimes(dialect, &definitions, following, &context.folders()?.data);
            write_if_other(&file, &text)?;
        }
    }
    Ok(())
}

fn write_if_other(path: &Path, text: &str) -> Result<bool, Failure> {
    match fs::read_to_string(path) {
        Ok(before) if before == text => return Ok(false),
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            return Err(file_failure(path, "read", error));
        }
        _ => {}
    }
    atomic::write_file(path, text.as_bytes()).map_err(|e| file_failure(path, "written", e))?;
    Ok(true)
}
