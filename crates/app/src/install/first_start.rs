//! The first start of a program that was just unpacked: is it what was promised, and does it run
//! on this system?

use std::fs;
use std::io;
use std::path::Path;
use std::process::Command;

use vshelf_core::Version;
use vshelf_core::catalog::LibcVersion;
use vshelf_core::loader::{MissingDependency, package_command, read_complaint};
use vshelf_files::action::FileAction;
use vshelf_files::system;
use vshelf_shelf::probe::{self, ProbeError};
use vshelf_shelf::store::program_in;

use super::job::InstallJob;
use crate::error::{Error, StartFailure, file_error};

/// Starts the program in `tree` once and compares what it says with what was promised. Gives back
/// why it does not start, in one line, where the job says to keep it all the same.
pub fn first_start(job: &InstallJob, tree: &Path) -> Result<Option<String>, Error> {
    let definition = &job.definition;
    let program = program_in(tree, definition);
    let answer = match probe::ask(&program, &definition.probe.arguments, &job.surroundings()) {
        Ok(answer) => answer,
        Err(error) if job.options.keep_broken => return Ok(Some(explain(error).reason())),
        Err(_) if !program.exists() => {
            return Err(Error::NoProgram {
                title: job.title(),
                program: program.strip_prefix(tree).unwrap_or(&program).to_owned(),
                holds: names_at_top(tree)?,
            });
        }
        Err(error) => {
            let (publisher, version) = (&job.release.publisher, &job.release.version);
            return Err(Error::DoesNotStart {
                title: job.title(),
                failure: Box::new(explain(error)),
                selector: Some(format!("{}@{publisher}/{version}", definition.name)),
            });
        }
    };
    let promised = &job.release.version;
    // A registry may spell a version in its own way: 10.0.0rc1 is 10.0.0-rc.1.
    let same = |version: &str| {
        let version = version.parse::<Version>();
        version.is_ok_and(|version| version.precedence(promised).is_eq())
    };
    match answer.version(definition) {
        Some(version) if promised.as_str() == version || same(&version) => Ok(None),
        _ => Err(Error::WrongProgram {
            title: job.title(),
            answer: answer.first_line().to_owned(),
        }),
    }
}

/// The first names in a tree, folders with a slash.
fn names_at_top(tree: &Path) -> Result<Vec<String>, Error> {
    const MOST_NAMED: usize = 8;
    let read = || -> io::Result<Vec<String>> {
        let mut names = Vec::new();
        for entry in fs::read_dir(tree)? {
            let entry = entry?;
            let slash = if entry.file_type()?.is_dir() { "/" } else { "" };
            names.push(format!("{}{slash}", entry.file_name().to_string_lossy()));
        }
        names.sort();
        names.truncate(MOST_NAMED);
        Ok(names)
    };
    read().map_err(file_error(tree, FileAction::Read))
}

/// What is known of why a program does not start.
pub fn explain(error: ProbeError) -> StartFailure {
    let missing = match error.missing_interpreter() {
        Some(path) => Some(MissingDependency::Interpreter(path.display().to_string())),
        None => read_complaint(error.complaint()),
    };
    let package_command = match &missing {
        Some(MissingDependency::Library(library)) => package_for(library),
        _ => None,
    };
    let libc = match &missing {
        Some(MissingDependency::LibraryVersion { .. }) => libc_here(),
        _ => None,
    };
    StartFailure {
        is_quarantined: system::is_quarantined(error.program()),
        error,
        missing,
        package_command,
        libc,
    }
}

impl StartFailure {
    /// Why the program does not start, in one line.
    pub fn reason(&self) -> String {
        let complaint = self.error.complaint().lines().next();
        match (&self.missing, complaint, &self.error) {
            (Some(MissingDependency::Library(library)), ..) => {
                format!("it needs the library {library}, which is not on this system")
            }
            (Some(MissingDependency::LibraryVersion { library, version }), ..) => {
                format!("it needs {version}, which the {library} of this system does not have")
            }
            (Some(MissingDependency::Interpreter(path)), ..) => {
                format!("it is started by {path}, which is not on this system")
            }
            (None, Some(line), _) => line.trim().to_owned(),
            (None, None, ProbeError::Failed { status, .. }) => format!("it ends with {status}"),
            (None, None, ProbeError::Start { source, .. }) => source.to_string(),
            (None, None, ProbeError::Silent { .. }) => "it gives no answer".to_owned(),
        }
    }
}

/// The command that installs the library whose absence a program complains of, where the package is known.
pub fn missing_package(complaint: &str) -> Option<String> {
    match read_complaint(complaint)? {
        MissingDependency::Library(library) => package_for(&library),
        _ => None,
    }
}

/// The command that installs the library that a program needs, where the package is known.
fn package_for(library: &str) -> Option<String> {
    package_command(library, &os_release(), system::is_root())
}

/// What this system says of itself (os-release(5)). Without that file it is one of those that are not
/// known.
pub fn os_release() -> String {
    fs::read_to_string("/etc/os-release").unwrap_or_default()
}

/// The version of this system's GNU C library, where it has that.
pub fn glibc_here() -> Option<LibcVersion> {
    libc_here()?.strip_prefix("glibc ")?.parse().ok()
}

/// The C library of this system and its version: `glibc 2.36`.
fn libc_here() -> Option<String> {
    let output = Command::new("getconf")
        .arg("GNU_LIBC_VERSION")
        .output()
        .ok()?;
    let text = String::from_utf8(output.stdout).ok()?;
    (output.status.success() && !text.trim().is_empty()).then(|| text.trim().to_owned())
}
