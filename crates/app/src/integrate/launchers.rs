//! A folder of programs that follow the project, for whatever sources no start-up file.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_files::{atomic, optional, system};
use vshelf_shell::quote::posix;

use super::files::own_program;
use crate::activity::is_program;
use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::runtime::{Runtime, opening};
use vshelf_files::action::FileAction;

/// Makes the folder of launchers; gives back the folder and the names of the programs in it.
pub fn make(environment: &Environment) -> Result<(PathBuf, Vec<String>), Error> {
    let folder = environment.layout()?.launchers();
    fs::create_dir_all(&folder).map_err(file_error(&folder, FileAction::Write))?;
    Ok((folder, refresh(environment)?))
}

/// Removes the folder of launchers; gives it back where there was one.
pub fn remove(environment: &Environment) -> Result<Option<PathBuf>, Error> {
    let folder = environment.layout()?.launchers();
    let removed =
        optional::remove_folder(&folder).map_err(file_error(&folder, FileAction::Remove))?;
    Ok(removed.then_some(folder))
}

/// Brings the launchers in step with the programs on the shelf, if there is a folder of them; gives
/// back their names.
pub fn refresh(environment: &Environment) -> Result<Vec<String>, Error> {
    let folder = environment.layout()?.launchers();
    if !folder.is_dir() {
        return Ok(Vec::new());
    }
    let there = optional::names(&folder).map_err(file_error(&folder, FileAction::Read))?;
    let vshelf = own_program()?;
    let mut wanted = BTreeSet::new();
    for runtime in opening::entered(environment)? {
        let name = runtime.name();
        for program in programs(&runtime)? {
            let path = folder.join(&program);
            write_launcher(&path, &vshelf, name, &program)
                .map_err(file_error(&path, FileAction::Write))?;
            wanted.insert(program);
        }
    }
    for gone in there.iter().filter(|name| !wanted.contains(*name)) {
        let path = folder.join(gone);
        fs::remove_file(&path).map_err(file_error(&path, FileAction::Remove))?;
    }
    Ok(wanted.into_iter().collect())
}

fn write_launcher(path: &Path, vshelf: &Path, runtime: &str, program: &str) -> io::Result<()> {
    let vshelf = posix(&vshelf.to_string_lossy());
    let (runtime, program) = (posix(&format!("{runtime}@")), posix(program));
    let text = format!(
        "#!/bin/sh\n# A launcher of Vivid Shelf; what is changed here is lost.\nexec {vshelf} run --here {runtime} -- {program} \"$@\"\n"
    );
    atomic::write_file(path, text.as_bytes())?;
    system::set_permission_bits(path, 0o755)
}

/// The programs in the folders of a runtime's installs.
fn programs(runtime: &Runtime<'_>) -> Result<BTreeSet<String>, Error> {
    let mut programs = BTreeSet::from([runtime.definition.program.clone()]);
    for install in &runtime.snapshot.installs {
        for folder in &runtime.definition.folders {
            // A link to a folder that is gone has no programs.
            let folder = install.folder.join(folder);
            let found = optional::names(&folder).map_err(file_error(&folder, FileAction::Read))?;
            let found = found.into_iter();
            programs.extend(found.filter(|name| is_program(&folder.join(name))));
        }
    }
    Ok(programs)
}
