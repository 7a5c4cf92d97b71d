//! Why a connected shell runs another copy than the one that should be active there.

use std::path::{Path, PathBuf};

use vshelf_core::activation::Rule;

use crate::activity::Activity;
use crate::integrate::connect;
use crate::runtime::Runtime;

/// Why a connected shell runs another copy than the one that should be active there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OtherCopy {
    /// Nothing of the runtime's is on PATH: it came onto the shelf after the shell was opened, or PATH
    /// was set anew since.
    NotEntered,
    /// The shell has not followed the project yet.
    NotFollowed,
    /// Another runtime of the shelf has a program of the same name, and is in front.
    OtherRuntime {
        /// Its name.
        name: String,
        /// Its program.
        program: PathBuf,
    },
    /// Another program of the same name is in front.
    InFront {
        /// The program.
        program: PathBuf,
        /// The start-up file that puts it there in each new shell, where it says so.
        start_up_file: Option<PathBuf>,
    },
}

impl OtherCopy {
    /// Why it is so in the calling shell; nothing where the right copy answers or the shell is not
    /// connected.
    pub fn of(runtime: &Runtime<'_>, activity: &Activity) -> Option<OtherCopy> {
        let environment = runtime.environment();
        environment.shell.dialect()?;
        if !activity.differs() {
            return None;
        }
        let on_path = (std::env::split_paths(environment.shell.path()))
            .any(|entry| runtime.shelf.holds(&entry));
        let first = activity.copies.first();
        let Some(copy) = first.filter(|copy| !runtime.shelf.holds(&copy.program)) else {
            return Some(
                match on_path && activity.rule() == Some(Rule::Requirement) {
                    true => OtherCopy::NotFollowed,
                    false => OtherCopy::NotEntered,
                },
            );
        };
        if !on_path {
            return Some(OtherCopy::NotEntered);
        }
        let program = copy.program.clone();
        if let Some(name) = other_runtime(runtime, &program) {
            return Some(OtherCopy::OtherRuntime { name, program });
        }
        let folder = program.parent().unwrap_or(Path::new("/"));
        Some(OtherCopy::InFront {
            start_up_file: connect::start_up_file_naming(environment, folder),
            program,
        })
    }
}

/// The runtime of this shelf that a program belongs to.
fn other_runtime(runtime: &Runtime<'_>, program: &Path) -> Option<String> {
    let layout = runtime.environment().layout().ok()?;
    let below = [layout.installs(), layout.defaults()]
        .into_iter()
        .find_map(|folder| program.strip_prefix(folder).ok().map(Path::to_owned))?;
    Some(below.iter().next()?.to_str()?.to_owned())
}
