//! What use cases result in, as data: for whoever listens, and for callers.

use std::path::PathBuf;
use std::time::Duration;

use jiff::civil::Date;
use vshelf_core::packages::Package;
use vshelf_core::tidy::Protection;
use vshelf_core::{Key, Line, Phase, Pick, Request, Version};
use vshelf_shelf::Install;
use vshelf_shelf::journal::Operation;
use vshelf_shell::Dialect;

use crate::error::PackageAttempt;

/// A release that was to be installed.
#[derive(Debug)]
pub struct InstallResult {
    /// The runtime's title and the version.
    pub title: String,
    /// The phase of its line today.
    pub phase: Option<Phase>,
    /// The source that gave it.
    pub source: String,
    /// The packages that were added because every new install gets them, as `name@version`.
    pub always: Vec<String>,
    /// What was made; nothing where it was there.
    pub new: Option<NewInstall>,
    /// A newer release of its line, with the line as commands need it, if an install was enough for a requirement.
    pub newer: Option<(Version, String)>,
}

/// A release that an install would bring.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlannedInstall {
    /// The runtime's title and the version.
    pub title: String,
    /// The archive to fetch: `None` if the release is on the shelf.
    pub fetch: Option<PlannedFetch>,
}

/// The archive of a planned install.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlannedFetch {
    /// The source that has it.
    pub source: String,
    /// Its bytes, if the catalog states them.
    pub size: Option<u64>,
    /// Whether it is source code, which is built here.
    pub is_built: bool,
}

/// An install that was made.
#[derive(Debug)]
pub struct NewInstall {
    /// The install.
    pub install: Install,
    /// The bytes that came over the network.
    pub fetched: u64,
    /// How long it took.
    pub took: Duration,
    /// What its publisher left out of it, if it is a trimmed build.
    pub trimmed: Option<String>,
    /// The runtime that it was started on, if it needs one.
    pub base: Option<String>,
}

/// What is active, and the default, after an install.
#[derive(Debug)]
pub struct Conclusion {
    /// The title of the install.
    pub title: String,
    /// The title of its runtime.
    pub runtime_title: String,
    /// The selector that means exactly this install, with what commands need in front of it.
    pub selector: String,
    /// The install of another publisher that the request meant on the shelf until now, and the request.
    pub supersedes: Option<Superseded>,
    /// The selector that makes it the default, with what commands need in front of it.
    pub as_default: String,
    /// Its line, where that has ended.
    pub ended_line: Option<Line>,
    /// Today.
    pub today: Date,
    /// Whether it became the default.
    pub became_default: bool,
    /// What the default is now, and the selector that it was set as.
    pub default: DefaultState,
    /// What the calling shell uses.
    pub shell: ShellAfterInstall,
}

/// An install that a selector without a publisher meant until one of the main publisher came.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Superseded {
    /// The selector, as it was typed.
    pub request: String,
    /// The title of the install.
    pub title: String,
}

/// A default: what it is, and the selector that it was set as.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DefaultState {
    /// What it is; nothing where its install is gone, or there is none.
    pub pick: Option<Pick>,
    /// The selector that means exactly that.
    pub shown: Option<String>,
    /// The selector.
    pub selector: Option<String>,
}

/// How the calling shell becomes connected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WayToConnect {
    /// New shells are connected, and this one is by this line.
    Source(String),
    /// No shell is connected yet: by the command that does it.
    Connect,
}

/// What the calling shell uses after an install.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ShellAfterInstall {
    /// The install, which the project here requires.
    AsRequired,
    /// Something else, which the project here requires.
    RequiredOther(String),
    /// The install, because it was switched to it.
    Switched,
    /// The install, as the default.
    AsDefault,
    /// Nothing changed, because it is not connected.
    NotConnected(WayToConnect),
    /// What it was switched to before.
    StaysSwitched(String),
    /// The install, because that is first on PATH.
    Active,
    /// What answered before.
    Stays {
        /// What answers: its selector.
        answering: Option<String>,
        /// How it becomes connected, where it is not.
        to_connect: Option<WayToConnect>,
    },
}

/// What carrying one package resulted in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CarryOutcome {
    /// It would be installed.
    Planned,
    /// It was installed.
    Installed,
    /// It was there, in this version.
    AlreadyThere {
        /// The version, where the tool tells it.
        version: Option<String>,
    },
    /// It is from no registry, and stays behind.
    FromElsewhere {
        /// The folder or address that it is from.
        from: String,
    },
    /// It could not be installed.
    Failed {
        /// What the tool said.
        why: String,
    },
}

/// Packages that were carried from one install to another.
#[derive(Debug)]
pub struct CarryReport {
    /// The runtime's title.
    pub title: String,
    /// The install that has them.
    pub from: Key,
    /// Its selector.
    pub from_selector: String,
    /// The install that was to have them.
    pub to: Key,
    /// Its selector.
    pub to_selector: String,
    /// Each of them.
    pub packages: Vec<(Package, CarryOutcome)>,
}

/// An install that was removed.
#[derive(Debug)]
pub struct Removed {
    /// The runtime's title and the version.
    pub title: String,
    /// The runtime's title.
    pub runtime_title: String,
    /// Who removed it.
    pub operation: Operation,
    /// Whether it was only a link to a folder that stays.
    pub linked: bool,
    /// The bytes that were freed.
    pub freed: u64,
    /// Where it is in the trash, its bytes and the last day on which it is there.
    pub trashed: Option<(u64, Date)>,
    /// The packages that went with it, as `name@version`.
    pub packages: Vec<String>,
    /// Whether it was the default, and there is none now.
    pub was_default: bool,
    /// The selector of the newest install of the runtime that stays.
    pub newest_left: Option<String>,
    /// Whether the calling shell was switched to it, and follows the default again.
    pub shell_follows_again: bool,
    /// The labels and projects that asked for it, and what they find now.
    pub reassigned: Vec<Reassigned>,
}

/// What asked for something that was removed.
#[derive(Debug)]
pub struct Reassigned {
    /// Who asks.
    pub who: Asker,
    /// What it asks for.
    pub request: Request,
    /// What it finds now.
    pub now: Option<String>,
}

/// Who asks for an install by a selector.
#[derive(Debug)]
pub enum Asker {
    /// A label, and the selector that it is bound to.
    Label(String, String),
    /// A project, by its requirement file.
    Project(PathBuf),
}

/// One step of a renewal.
#[derive(Debug)]
pub enum RenewalStep {
    /// The new release is on the shelf.
    Installed {
        /// Its title.
        title: String,
    },
    /// It is the default, set as this selector.
    Default {
        /// The selector.
        selector: String,
    },
    /// The calling shell uses it.
    ThisShell,
    /// A label stands for it.
    Label {
        /// The label.
        label: String,
    },
    /// A project requires the new version.
    RequirementMoved {
        /// Its file.
        file: PathBuf,
        /// The version.
        version: Version,
    },
    /// A lock has it.
    Locked {
        /// The lock file.
        file: PathBuf,
        /// The release.
        release: String,
    },
    /// A requirement file holds more than a version, and is the person's to edit.
    RequirementLeft {
        /// The file.
        file: PathBuf,
    },
    /// The old release stays on the shelf, because something needs it, or as was asked.
    OldStays {
        /// Its title.
        title: String,
        /// What needs it.
        why: Option<Protection>,
    },
}

/// The packages of an install that was made again without them.
#[derive(Debug)]
pub struct PackagesLost {
    /// Its title.
    pub title: String,
    /// The packages that it had, as `name@version`.
    pub packages: Vec<String>,
    /// What installs those.
    pub attempt: Option<PackageAttempt>,
}

/// An install that was restored.
#[derive(Debug)]
pub struct Restored {
    /// Its title.
    pub title: String,
    /// Whether it came from the trash, as it was, and not from its source.
    pub from_trash: bool,
    /// Whether it became the default, because there was none.
    pub became_default: bool,
    /// The packages that it had, as `name@version`.
    pub packages: Vec<String>,
    /// What installs those.
    pub attempt: Option<PackageAttempt>,
}

/// What connecting a shell changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Connected {
    /// The shell.
    pub dialect: Dialect,
    /// Its start-up file.
    pub start_up_file: PathBuf,
    /// The lines that were written into the start-up file; nothing where they were there.
    pub new_lines: Option<String>,
    /// The start-up file of login shells if it has a block too, and whether that is new.
    pub login: Option<(PathBuf, bool)>,
    /// Whether the integration was written again.
    pub renewed: bool,
    /// The line that connects the calling shell, where it is not connected.
    pub source_line: Option<String>,
    /// The line that starts zsh's completion system, where the start-up file does not name it.
    pub completion_line: Option<&'static str>,
}
