//! The default in programs that are started from the desktop, through the environment of the person's session.
//!
//! systemd reads `environment.d` of the person's configuration folder when a session begins (environment.d(5)). Nothing
//! else of a desktop session is common to all desktops.

use std::fmt::Write;
use std::path::{Path, PathBuf};

use vshelf_core::Pick;
use vshelf_files::action::FileAction;
use vshelf_files::optional;

use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::integrate::files::write_if_other;
use crate::runtime::{Runtime, opening};

/// The name of the file: behind those of the system, whose names begin with lower numbers.
const NAME: &str = "60-vivid-shelf.conf";

/// Characters that mean something in PATH, or in values there (environment.d(5)).
const SPECIAL: [char; 7] = [':', '$', '"', '\'', '\\', '`', '\n'];

/// The file, in the person's configuration folder. It need not exist.
pub fn file(environment: &Environment) -> Result<PathBuf, Error> {
    let variables = environment.variables();
    // A relative path is to be ignored (XDG Base Directory Specification).
    let configured = variables.get("XDG_CONFIG_HOME").map(PathBuf::from);
    let configuration = match configured.filter(|folder| folder.is_absolute()) {
        Some(folder) => folder,
        None => variables.home().ok_or(Error::NoHome)?.join(".config"),
    };
    Ok(configuration.join("environment.d").join(NAME))
}

/// Gives the defaults to programs of the desktop from the next session on. Returns whether the file changed.
pub fn connect(environment: &Environment) -> Result<bool, Error> {
    let runtime_folder = environment.variables().text("XDG_RUNTIME_DIR");
    if runtime_folder.is_empty() || !Path::new(runtime_folder).join("systemd").is_dir() {
        return Err(Error::NoSessionManager);
    }
    write(environment)
}

/// Removes the file. Returns it if there was one.
pub fn disconnect(environment: &Environment) -> Result<Option<PathBuf>, Error> {
    let file = file(environment)?;
    let removed = optional::remove(&file).map_err(file_error(&file, FileAction::Remove))?;
    Ok(removed.then_some(file))
}

/// Brings the file in step with the defaults, if there is one.
pub fn refresh(environment: &Environment) -> Done {
    // Without a home folder nothing was ever written.
    let exists = file(environment).is_ok_and(|file| file.exists());
    if exists {
        write(environment)?;
    }
    Ok(())
}

fn write(environment: &Environment) -> Result<bool, Error> {
    let file = file(environment)?;
    let runtimes = opening::entered(environment)?;
    let is_install = |runtime: &&Runtime<'_>| {
        (runtime.snapshot.default_pick()).is_some_and(|pick| *pick != Pick::System)
    };
    let text = text(runtimes.iter().filter(is_install))?;
    write_if_other(&file, &text)
}

/// The variables: the folders of the defaults in front of PATH, and the home folder of each runtime that has one.
fn text<'r, 'c: 'r>(runtimes: impl Iterator<Item = &'r Runtime<'c>>) -> Result<String, Error> {
    let mut text = "# A file of Vivid Shelf; what is changed here is lost.\n".to_owned();
    let mut path = String::new();
    for runtime in runtimes {
        let link = runtime.shelf.default_link();
        if link.to_string_lossy().contains(SPECIAL) || link.to_str().is_none() {
            return Err(Error::SpecialInData { data: link });
        }
        for folder in &runtime.definition.folders {
            write!(path, "{}:", link.join(folder).display()).expect("a text takes all");
        }
        if let Some(name) = &runtime.definition.home_variable {
            writeln!(text, "{name}=\"{}\"", link.display()).expect("a text takes all");
        }
    }
    if !path.is_empty() {
        writeln!(text, "PATH=\"{path}$PATH\"").expect("a text takes all");
    }
    Ok(text)
}
