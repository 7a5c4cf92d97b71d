//! `vshelf launchers`: a folder of programs that follow the project, for whatever runs no hook.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use clap::Args;
use vshelf_shelf::atomic;
use vshelf_shell::quote::posix;

use crate::activity::is_program;
use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome, file_failure, quoted, shown};
use crate::following::entered_runtimes;
use crate::runtime::Runtime;
use crate::switching::LAUNCHERS;
use crate::ui::Ui;

/// Make a folder of launchers for editors and desktop programs
///
/// A launcher has the name of a runtime's program. Started in a project's folder it runs the version
/// that the project wants, else the default. Put the folder on the PATH of programs that never run a
/// shell's start-up file; connected shells need it not. Every start costs a few milliseconds.
#[derive(Debug, Args)]
pub struct Launchers {
    /// Take the folder away again
    #[arg(long)]
    drop: bool,
}

impl CommandArgs for Launchers {
    const NAME: &'static str = "launchers";
    const GROUP: &'static str = "Connect";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let folder = folder(context)?;
        if self.drop {
            return match fs::remove_dir_all(&folder) {
                Ok(()) => ui.result(format!("{} is gone.", shown(&folder))),
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    ui.result("There are no launchers; nothing was changed.")
                }
                Err(error) => Err(file_failure(&folder, "removed", error)),
            };
        }
        fs::create_dir_all(&folder).map_err(|e| file_failure(&folder, "written", e))?;
        let names = refresh(context)?;
        ui.result(format!(
            "{} launch what the project wants: {}",
            shown(&folder),
            names.join(", ")
        ))?;
        ui.next(
            "To have a program find them first",
            &format!("PATH={}:$PATH", quoted(&folder)),
        );
        Ok(())
    }
}

/// The folder of launchers.
pub fn folder(context: &Context) -> Result<PathBuf, Failure> {
    Ok(context.folders()?.data.join(LAUNCHERS))
}

/// Brings the launchers in step with the programs on the shelf, if there is a folder of them; gives
/// back their names.
pub fn refresh(context: &Context) -> Result<Vec<String>, Failure> {
    let folder = folder(context)?;
    let there = match names_in(&folder) {
        Ok(there) => there,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(file_failure(&folder, "read", error)),
    };
    let vshelf = std::env::current_exe().map_err(|error| {
        let message = format!("the place of this program is not known: {error}");
        Failure::new(Kind::Other, message)
    })?;
    let mut wanted = BTreeSet::new();
    for name in entered_runtimes(context)? {
        let runtime = context.runtime(Some(&name))?;
        for program in programs(&runtime)? {
            let path = folder.join(&program);
            write_launcher(&path, &vshelf, &name, &program)
                .map_err(|error| file_failure(&path, "written", error))?;
            wanted.insert(program);
        }
    }
    for gone in there.difference(&wanted) {
        let path = folder.join(gone);
        fs::remove_file(&path).map_err(|error| file_failure(&path, "removed", error))?;
    }
    Ok(wanted.into_iter().collect())
}

fn write_launcher(path: &Path, vshelf: &Path, runtime: &str, program: &str) -> io::Result<()> {
    let vshelf = posix(&vshelf.to_string_lossy());
    let (runtime, program) = (posix(&format!("{runtime}@")), posix(program));
    let text = format!(
        "#!/bin/sh\n# Made by `vshelf launchers`; what is changed here is lost.\nexec {vshelf} run --here {runtime} -- {program} \"$@\"\n"
    );
    atomic::write_file(path, text.as_bytes())?;
    fs::set_permissions(path, fs::Permissions::from_mode(0o755))
}

/// The programs in the folders of a runtime's installs.
fn programs(runtime: &Runtime<'_>) -> Result<BTreeSet<String>, Failure> {
    let mut programs = BTreeSet::from([runtime.definition.program.clone()]);
    for install in &runtime.installs {
        for folder in &runtime.definition.folders {
            let folder = install.folder.join(folder);
            let found = match names_in(&folder) {
                Ok(found) => found,
                // A link to a folder that is gone has no programs.
                Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
                Err(error) => return Err(file_failure(&folder, "read", error)),
            };
            programs.extend(
                found
                    .into_iter()
                    .filter(|name| is_program(&folder.join(name))),
            );
        }
    }
    Ok(programs)
}

fn names_in(folder: &Path) -> io::Result<BTreeSet<String>> {
    let names = fs::read_dir(folder)?.filter_map(|entry| match entry {
        Ok(entry) => entry.file_name().into_string().ok().map(Ok),
        Err(error) => Some(Err(error)),
    });
    names.collect()
}
