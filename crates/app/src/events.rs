//! What happens while a use case is at work, and what it has to ask: both as data.

use std::path::Path;
use std::time::Duration;

use jiff::civil::Date;
use vshelf_core::definition::build::BuildSection;
use vshelf_core::definition::needs::Needs;
use vshelf_core::packages::Package;
use vshelf_core::tidy::Protection;
use vshelf_core::{Request, Version};
use vshelf_files::freed::Freed;
use vshelf_shell::Dialect;

use crate::error::Error;
use crate::outcome::{
    CarryReport, Conclusion, Connected, InstallResult, PackagesLost, PlannedInstall, Removed,
    RenewalStep, Restored,
};
use crate::sourcing::PassedOver;

/// Whoever listens to a use case: a terminal, the full-screen view, a test. Installs run on several
/// threads, and all of them tell.
pub trait Listener: Sync {
    /// Something happened.
    fn tell(&self, event: Event<'_>);

    /// Something is the person's to decide.
    fn ask(&self, question: &Question<'_>) -> Result<Answer, Error>;
}

/// Something that happened.
#[derive(Debug)]
pub enum Event<'e> {
    /// A catalog was loaded.
    Catalog(&'e CatalogStatus),
    /// A project's file was found to require this.
    RequirementFound {
        /// The file.
        file: &'e Path,
        /// The runtime's title.
        title: &'e str,
        /// What is required.
        request: &'e Request,
    },
    /// A locked release that is going to be installed was withdrawn by its publisher.
    LockedWithdrawn {
        /// The runtime's title and the version.
        title: &'e str,
        /// Why.
        why: &'e str,
    },
    /// Another command works on the same install.
    Waiting {
        /// The runtime's title and the install's selector.
        title: &'e str,
        /// Who works on it.
        holder: &'e str,
    },
    /// Something begins that may take a while.
    TaskBegins(Task<'e>),
    /// It ended.
    TaskEnds,
    /// So many transfers begin.
    TransfersBegin {
        /// How many.
        count: usize,
        /// The length of their longest title, in characters.
        longest_title: usize,
        /// The folder that keeps what has come of each.
        archives: &'e Path,
        /// The folder that keeps builds from source.
        builds: &'e Path,
    },
    /// One of them went on.
    Transfer {
        /// What tells it from others under way.
        id: usize,
        /// What is transferred.
        title: &'e str,
        /// How far it is.
        state: TransferState,
    },
    /// A release is going to be built from source.
    BuildBegins(&'e BuildPlan<'e>),
    /// How far a build is.
    Building {
        /// The runtime's title and the version.
        title: &'e str,
        /// The step, counted from 1.
        step: usize,
        /// How many steps there are.
        count: usize,
        /// What the step is called.
        name: &'e str,
        /// How long the step has taken so far.
        elapsed: Duration,
        /// The lines that it wrote since it was told last.
        lines: &'e [String],
    },
    /// The steps of a build ended, or one of them failed.
    BuildEnds {
        /// The runtime's title and the version.
        title: &'e str,
    },
    /// All of them ended.
    TransfersEnd,
    /// No version of a companion runs on a release.
    NoCompanion {
        /// The companion's package.
        package: &'e str,
        /// The release's title.
        title: &'e str,
    },
    /// A source did not give what it offers, and the next one is asked.
    SourceFailed {
        /// The source.
        source: &'e str,
        /// The source that is asked instead.
        next: &'e str,
        /// What it did not give.
        title: &'e str,
        /// Why.
        error: &'e Error,
    },
    /// Installs were made, or were there.
    Installed(&'e [InstallResult]),
    /// The releases that an install would bring; nothing was changed.
    InstallsPlanned(&'e [PlannedInstall]),
    /// An install was made again, without the packages that were in it.
    PackagesLost(&'e PackagesLost),
    /// A shell was connected on the way.
    Connected(&'e Connected),
    /// The active versions and defaults after installs.
    Concluded {
        /// One conclusion per runtime.
        conclusions: &'e [Conclusion],
        /// Whether there were several installs.
        of_several: bool,
    },
    /// A folder or archive was adopted.
    Adopted {
        /// The runtime's title and the version.
        title: &'e str,
        /// Whether only a link to it is on the shelf.
        linked: bool,
        /// Where it is, or came from.
        from: &'e Path,
    },
    /// A package tool is about to install these.
    InstallingPackages(&'e [&'e Package]),
    /// Packages were carried.
    Carried(&'e CarryReport),
    /// An install was removed.
    Removed(&'e Removed),
    /// One step of a renewal was done.
    Renewal(&'e RenewalStep),
    /// An install was restored.
    Restored(&'e Restored),
    /// An install that is to be restored is there.
    NotGone {
        /// Its title.
        title: &'e str,
    },
    /// One of several things failed; the others go on.
    Failed(&'e Error),
    /// Something that belongs to what was asked could not be done; all else was.
    LeftUndone(&'e Error),
}

/// Something that may take a while.
#[derive(Clone, Debug)]
pub enum Task<'t> {
    /// The package tool of this install is asked for its packages.
    ListingPackages(&'t str),
    /// This install is removed.
    Removing(&'t str, Deleting),
    /// What commands left behind is removed.
    RemovingLeftovers(Deleting),
}

/// How far deleting is: it frees so many bytes in all, and has freed so many.
#[derive(Clone, Debug)]
pub struct Deleting {
    /// The bytes in all.
    pub bytes: u64,
    /// The bytes so far.
    pub freed: Freed,
}

impl Deleting {
    /// Does the work of deleting so many bytes as the task that `task` makes of it, and tells how far it is.
    pub fn during<'t, T>(
        bytes: u64,
        task: impl FnOnce(Deleting) -> Task<'t>,
        listener: &dyn Listener,
        work: impl FnOnce(&Freed) -> T,
    ) -> T {
        let freed = Freed::default();
        let deleting = Deleting {
            bytes,
            freed: freed.clone(),
        };
        task(deleting).during(listener, || work(&freed))
    }
}

impl Task<'_> {
    /// Does the work of it, and tells of its begin and end.
    pub fn during<T>(self, listener: &dyn Listener, work: impl FnOnce() -> T) -> T {
        listener.tell(Event::TaskBegins(self));
        let done = work();
        listener.tell(Event::TaskEnds);
        done
    }
}

/// How far a transfer is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TransferState {
    /// It begins; the bytes of all of it are known, or not.
    Started(Option<u64>),
    /// It is here, and so many bytes of so many have been sent on to a registry.
    Sending(u64, u64),
    /// So many bytes are here, of so many where that is known.
    Bytes(u64, Option<u64>),
    /// All bytes are here, and the program is started once.
    StartingOnce,
    /// All bytes are here, and they are written to the disk.
    Saving,
    /// It ended well, or not.
    Ended(bool),
    /// It ended, and is of no further interest.
    Dismissed,
}

/// How old a catalog is, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CatalogStatus {
    /// The runtime's title.
    pub title: String,
    /// The day on which its source confirmed it.
    pub confirmed: Date,
    /// Today.
    pub today: Date,
    /// Why it could not be renewed now, where that was tried.
    pub not_renewed: Option<String>,
    /// Whether the network must not be asked.
    pub offline: bool,
    /// The sources that were asked and did not answer.
    pub passed_over: Vec<PassedOver>,
}

/// Something that is the person's to decide.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Question<'q> {
    /// Whether to install what is published and not on the shelf.
    InstallMissing {
        /// The runtime's title.
        title: &'q str,
        /// The version.
        version: &'q Version,
    },
    /// Whether to install what the project requires, now and whenever something is missing there.
    InstallRequired {
        /// The file that requires it.
        file: &'q Path,
        /// The runtime's title.
        title: &'q str,
        /// What it requires.
        request: &'q Request,
    },
    /// Whether to connect the person's shell, where none is connected yet.
    ConnectShell {
        /// The shell.
        dialect: Dialect,
        /// The start-up file that gets a block.
        file: &'q Path,
    },
    /// Whether this shell is to use what the project requires.
    FollowProject {
        /// The file that requires it.
        file: &'q Path,
        /// The runtime's title.
        title: &'q str,
        /// The selector of what would be used.
        selector: &'q str,
    },
    /// Whether to remove an install that something needs.
    RemoveNeeded {
        /// The install's title.
        title: &'q str,
        /// What needs it.
        needed_by: &'q [Protection],
    },
    /// Whether to remove an install with packages that nobody can name.
    RemoveUnlisted {
        /// The install's title.
        title: &'q str,
        /// Why its packages cannot be listed.
        cause: &'q str,
    },
    /// Whether to carry out the plan of a clean-up.
    Tidy {
        /// How many installs it removes.
        installs: usize,
        /// How many leftovers of commands it removes.
        leftovers: usize,
        /// Whether it empties the trash.
        empties_trash: bool,
    },
    /// Whether a definition takes the place of the one that is built in.
    ReplaceBuiltIn {
        /// The runtime's title.
        title: &'q str,
        /// Where the definition comes from.
        place: &'q str,
    },
    /// Whether to fetch the newest release of a runtime only to see whether it can be installed.
    TryRelease {
        /// The runtime's title.
        title: &'q str,
    },
    /// Whether to carry out a renewal.
    Renew {
        /// How many lines it renews.
        lines: usize,
        /// How many installs it removes.
        removals: usize,
    },
}

/// The person's answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// Yes.
    Yes,
    /// No.
    No,
    /// There is nobody to ask.
    Nobody,
}

/// What a build from source needed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LastBuild {
    /// How long its steps took.
    pub took: Duration,
    /// The bytes that it took on disk, where that was noted.
    pub space: Option<u64>,
}

/// What a build is going to be.
#[derive(Debug)]
pub struct BuildPlan<'p> {
    /// The runtime's title and the version.
    pub title: &'p str,
    /// How it is built.
    pub section: &'p BuildSection,
    /// What it is built with.
    pub needs: &'p Needs,
    /// What a release of this runtime needed last time, where one was built here.
    pub last_time: Option<LastBuild>,
    /// Whether it goes on from where an earlier attempt was interrupted.
    pub goes_on: bool,
    /// The file that its steps write to.
    pub log: &'p Path,
}
