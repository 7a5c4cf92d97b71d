//! The meaning of errors for scripts and people: classes and advice.
//!
//! Every crate has one table, `diagnosis`, for its errors. Advice is data: the interface renders actions as commands.

use std::io;
use std::path::PathBuf;

use crate::meant::near;
use crate::words::listed;

/// The classes of failure that a script can tell apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Class {
    /// Something that should work did not.
    Other,
    /// The request cannot be understood.
    Usage,
    /// No such name or version.
    NoMatch,
    /// A source does not answer, or its answer cannot be used.
    Source,
    /// Bytes differ from the promised ones, and were not kept.
    Verification,
    /// The shelf, the cache or the settings cannot be read or written.
    Disk,
    /// Refused until something else is said or done first.
    Refused,
}

/// One piece of advice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Advice {
    /// A sentence that helps.
    Note(String),
    /// Something to do.
    Step {
        /// The purpose, such as "To see the labels".
        purpose: String,
        /// The action that serves it.
        action: Action,
    },
    /// A hint about an option of the command that failed.
    Option(OptionHint),
}

/// Options that help, of the command that failed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OptionHint {
    /// Adopting under another publisher's name.
    AdoptAs,
    /// Adopting beside the install that has the name.
    AdoptBeside,
    /// Adopting as this runtime.
    AdoptRuntime(String),
    /// Adopting as a version that the person names.
    AdoptVersion,
    /// Unpacking an archive instead of linking to it.
    AdoptWithoutLink,
    /// Asking servers again.
    AskServers,
    /// Mirroring the source, without the builds that were made here.
    MirrorWithoutBuilds,
    /// Signing a catalog.
    SignKey,
}

/// An action of advice. Selectors have the runtime in front of them if commands need it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// Adopts the copy on this machine.
    AdoptSystem,
    /// Adopts a folder or archive.
    Adopt(PathBuf),
    /// Lists a part of the catalog: a runtime's prefix, a line or a version; all of it if empty.
    Catalog(String),
    /// Examines this machine.
    CheckUp,
    /// Connects shells: the named one, or all.
    Connect(Option<&'static str>),
    /// Adds the definition of a runtime.
    Define,
    /// Puts a definition from this place in the place of the built-in one.
    Redefine(String),
    /// Deletes a file.
    Delete(PathBuf),
    /// Edits a file.
    Edit(PathBuf),
    /// Shows the help of running a version without a connected shell.
    HelpOnRunning,
    /// Lists what was done.
    History,
    /// Installs a selector.
    Install(String, InstallHow),
    /// Makes the folder of launchers.
    Launchers,
    /// Lists the labels.
    Labels,
    /// Lists the version files that are read in all projects.
    VersionFiles,
    /// Runs a line of another program in a shell.
    Line(String),
    /// Lists the shelf.
    List,
    /// Locks what is required here.
    Lock,
    /// Replaces the locked release of a runtime, or of all; for another platform too, if one is given.
    LockAgain {
        /// The runtime.
        runtime: Option<String>,
        /// The other platform.
        platform: Option<String>,
    },
    /// Writes a mirror of these selectors to another place.
    MirrorElsewhere(Vec<String>),
    /// Moves the data folder elsewhere.
    MoveData,
    /// Shows a text file.
    Read(PathBuf),
    /// Removes a selector from the shelf.
    Remove(String, RemoveHow),
    /// Shows what is required here.
    Required,
    /// Requires a selector, in the named file or in the usual one.
    Require {
        /// The selector.
        selector: String,
        /// The file's name.
        file: Option<String>,
    },
    /// Runs a program of an install.
    Run {
        /// The selector of the install.
        selector: String,
        /// The program and its arguments.
        words: Vec<String>,
    },
    /// Lists the runtimes.
    Runtimes,
    /// Renames a file or folder to this name plus a suffix.
    SetAside(PathBuf, &'static str),
    /// Shows what is active here.
    Status,
    /// Switches the calling shell to a selector.
    Switch(String),
}

/// How an install is advised to run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InstallHow {
    /// As usual.
    Usual,
    /// In the place of the install on the shelf.
    Again,
    /// From source.
    Build,
    /// From source, in the place of the install on the shelf.
    BuildAgain,
    /// Even if it does not start.
    KeepBroken,
}

/// How a removal is advised to run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RemoveHow {
    /// As usual.
    Usual,
    /// Of all installs that the selector covers.
    Every,
    /// Even if the install is in use.
    EvenIfUsed,
}

/// An error's class, further causes, and advice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnosis {
    /// The class.
    pub class: Class,
    /// Causes beside the sources of the error, as parts of sentences.
    pub causes: Vec<String>,
    /// The advice, most important first.
    pub advice: Vec<Advice>,
}

impl From<Class> for Diagnosis {
    fn from(class: Class) -> Diagnosis {
        Diagnosis {
            class,
            causes: Vec::new(),
            advice: Vec::new(),
        }
    }
}

impl Diagnosis {
    /// Adds a cause.
    pub fn because(mut self, cause: impl Into<String>) -> Diagnosis {
        self.causes.push(cause.into());
        self
    }

    /// Adds the advice of another diagnosis.
    pub fn advised_as(mut self, other: Diagnosis) -> Diagnosis {
        self.advice.extend(other.advice);
        self
    }

    /// Adds a sentence.
    pub fn note(mut self, sentence: impl Into<String>) -> Diagnosis {
        self.advice.push(Advice::Note(sentence.into()));
        self
    }

    /// Adds sentences.
    pub fn notes(self, sentences: impl IntoIterator<Item = String>) -> Diagnosis {
        sentences.into_iter().fold(self, Diagnosis::note)
    }

    /// Adds an action.
    pub fn step(mut self, purpose: impl Into<String>, action: Action) -> Diagnosis {
        let purpose = purpose.into();
        self.advice.push(Advice::Step { purpose, action });
        self
    }

    /// Adds an action, if there is one.
    pub fn step_if(self, purpose: &str, action: Option<Action>) -> Diagnosis {
        match action {
            Some(action) => self.step(purpose, action),
            None => self,
        }
    }

    /// Adds a hint about an option.
    pub fn option(mut self, hint: OptionHint) -> Diagnosis {
        self.advice.push(Advice::Option(hint));
        self
    }

    /// Adds the names that were probably meant.
    pub fn meant<T: std::fmt::Display>(self, near: &[T]) -> Diagnosis {
        match near {
            [] => self,
            _ => self.note(format!("Did you mean {}?", listed(near, "or"))),
        }
    }

    /// Adds the publishers, and what was probably meant: the known code name behind the unknown publisher, or else the
    /// publishers nearest to it.
    pub fn publishers(self, typed: &str, codename: Option<&str>, known: &[String]) -> Diagnosis {
        let near = match codename {
            Some(codename) => vec![codename.to_owned()],
            None => near::words(typed, known.iter().map(String::as_str)),
        };
        let publishers = listed(known, "and");
        self.meant(&near)
            .note(format!("The publishers are {publishers}."))
    }

    /// Adds what helps against a full disk or missing permissions.
    pub fn of_io(self, error: &io::Error) -> Diagnosis {
        match error.kind() {
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
                self.note("The disk is full; nothing was changed. Make room and try again.")
            }
            io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => self.note(
                "The folder cannot be written by you; VSHELF_DATA, VSHELF_CACHE and VSHELF_CONFIG move the shelf elsewhere.",
            ),
            _ => self,
        }
    }
}

impl Class {
    /// A diagnosis with this sentence.
    pub fn note(self, sentence: impl Into<String>) -> Diagnosis {
        Diagnosis::from(self).note(sentence)
    }

    /// A diagnosis with this action.
    pub fn step(self, purpose: impl Into<String>, action: Action) -> Diagnosis {
        Diagnosis::from(self).step(purpose, action)
    }

    /// A diagnosis with this hint about an option.
    pub fn option(self, hint: OptionHint) -> Diagnosis {
        Diagnosis::from(self).option(hint)
    }

    /// A diagnosis without advice.
    pub fn alone(self) -> Diagnosis {
        self.into()
    }
}

impl Action {
    /// Installs a selector as usual.
    pub fn install(selector: impl Into<String>) -> Action {
        Action::Install(selector.into(), InstallHow::Usual)
    }

    /// Locks the runtime again.
    pub fn lock_again(runtime: &str) -> Action {
        Action::LockAgain {
            runtime: Some(runtime.to_owned()),
            platform: None,
        }
    }
}
