//! Is everything on the shelf sound? Findings as data, each with what fixes it.

use std::path::{Path, PathBuf};

use jiff::civil::Date;
use jiff::tz::TimeZone;
use vshelf_core::resolve::Scope;
use vshelf_core::{Pick, Request};
use vshelf_files::optional;
use vshelf_shelf::manifest::Difference;
use vshelf_shelf::record::Adopted;
use vshelf_shelf::store::program_in;
use vshelf_shelf::{Install, Shelf, probe};

use crate::activity::Activity;
use crate::environment::Environment;
use crate::error::{Done, Error, StartFailure, file_error};
use crate::install::first_start;
use crate::integrate::connect::{self, ConnectionProblem};
use crate::keep::leftovers;
use crate::mistakes::{self, Mistake};
use crate::runtime::Runtime;

/// The bytes that a large install needs, downloaded and unpacked.
const ROOM_FOR_INSTALL: u64 = 500_000_000;

/// The age in days from which a catalog that cannot be renewed is a finding.
const OLD_CATALOG: i32 = 30;

/// What a checkup found.
#[derive(Debug, Default)]
pub struct Checkup {
    /// How many installs were looked at.
    pub installs: usize,
    /// What is wrong.
    pub findings: Vec<Finding>,
}

/// Something that is wrong.
#[derive(Debug)]
pub enum Finding {
    /// How shells are connected.
    Connection(ConnectionProblem),
    /// One install.
    Install(InstallFinding),
    /// The default is nothing on the shelf.
    Default {
        /// The runtime's title.
        title: String,
        /// What commands need in front of a selector.
        prefix: String,
        /// The selector that the default was set as.
        selector: String,
        /// The selector of the newest install there is.
        newest: Option<String>,
    },
    /// A label matches nothing on the shelf.
    Label {
        /// The runtime's title.
        title: String,
        /// What commands need in front of a selector.
        prefix: String,
        /// The label.
        label: String,
        /// Its selector.
        selector: String,
    },
    /// A requirement file of the project here cannot be used.
    Requirement(Error),
    /// Something in the project's files does not count.
    Mistake(Mistake),
    /// Nothing on the shelf meets what the project here requires.
    Unmet {
        /// The runtime's title.
        title: String,
        /// What is required.
        selector: String,
    },
    /// Something else is first on PATH than what should be active.
    OtherFirst {
        /// The runtime's title.
        title: String,
        /// What is first.
        program: PathBuf,
        /// What should be active.
        due: Pick,
        /// The start-up file that puts it there, where it is known.
        start_up_file: Option<PathBuf>,
    },
    /// A folder among the installs is none.
    StrayFolder(PathBuf),
    /// The catalog is old.
    OldCatalog {
        /// The runtime's name.
        runtime: String,
        /// The runtime's title.
        title: String,
        /// The day on which it was confirmed.
        confirmed: Date,
        /// Today.
        today: Date,
        /// Why it could not be renewed, where that was tried.
        not_renewed: Option<String>,
    },
    /// There is no catalog.
    NoCatalog {
        /// The runtime's name.
        runtime: String,
        /// The runtime's title.
        title: String,
        /// Why.
        error: Error,
    },
    /// Commands that were cut off left something behind.
    Leftovers {
        /// Where.
        folder: PathBuf,
        /// How many commands.
        count: usize,
        /// The bytes.
        bytes: u64,
    },
    /// There is little room for another install.
    LittleRoom {
        /// The data folder.
        folder: PathBuf,
        /// The bytes that are free.
        free: u64,
    },
}

/// Something that is wrong with one install.
#[derive(Debug)]
pub struct InstallFinding {
    /// The runtime's title and the version.
    pub title: String,
    /// The selector that means exactly it, with what commands need in front of it.
    pub selector: String,
    /// Whether it was adopted, so that no source can give it again.
    pub adopted: bool,
    /// What is wrong.
    pub problem: InstallProblem,
}

/// What is wrong with an install.
#[derive(Debug)]
pub enum InstallProblem {
    /// The folder that it is a link to is gone.
    LinkGone(PathBuf),
    /// Files differ from what was unpacked.
    Changed {
        /// Which, and how they changed.
        differences: Vec<Difference>,
        /// How many files it has.
        files: u64,
    },
    /// Its program does not start.
    DoesNotStart(StartFailure),
}

/// Checks the installs that these requests cover, or else everything. What is wrong with the calling
/// shell alone is looked for where a person asks: a script may well run in a shell that is not
/// connected.
pub fn check(
    environment: &Environment,
    requests: &[Request],
    asked_by_person: bool,
) -> Result<Checkup, Error> {
    let mut checkup = Checkup::default();
    if requests.is_empty() {
        let problem = connect::problem(environment, asked_by_person)?;
        checkup.findings.extend(problem.map(Finding::Connection));
        for name in Shelf::runtimes(environment.folders()?)? {
            let mut runtime = Runtime::named(environment, Some(&name))?;
            for install in &runtime.installs {
                checkup.look_at_install(&runtime, install)?;
            }
            checkup.look_at_choices(&runtime);
            checkup.look_at_activity(&runtime);
            checkup.look_at_folders(&runtime)?;
            checkup.look_at_sources(&mut runtime);
        }
        let mistakes = mistakes::find(environment)?.into_iter();
        checkup.findings.extend(mistakes.map(Finding::Mistake));
        checkup.look_at_leftovers(environment)?;
        checkup.look_at_disk(environment)?;
    }
    for request in requests {
        let runtime = Runtime::of_request(environment, request)?;
        for candidate in runtime.covered(request, Scope::Shelf)? {
            let key = candidate.install.map(|install| &install.key);
            if let Some(install) = key.and_then(|key| runtime.install(key)) {
                checkup.look_at_install(&runtime, install)?;
            }
        }
    }
    Ok(checkup)
}

impl Checkup {
    /// Whether an install is as it was unpacked, and starts.
    fn look_at_install(&mut self, runtime: &Runtime<'_>, install: &Install) -> Done {
        self.installs += 1;
        let record = &install.record.contents;
        let prefix = runtime.environment().prefix(runtime.name());
        let finding = |problem| {
            Finding::Install(InstallFinding {
                title: runtime.display_name(&install.id),
                selector: format!("{prefix}{}", install.id.key),
                adopted: record.adopted.is_some(),
                problem,
            })
        };
        if record.adopted == Some(Adopted::Linked) && !install.folder.exists() {
            let target = PathBuf::from(&record.address);
            self.findings
                .push(finding(InstallProblem::LinkGone(target)));
            return Ok(());
        }
        if let Some(manifest) = runtime.shelf.manifest(&install.id.key)? {
            let differences = manifest.compare(&install.folder);
            let differences = differences.map_err(file_error(&install.folder, "read"))?;
            if !differences.is_empty() {
                self.findings.push(finding(InstallProblem::Changed {
                    differences,
                    files: manifest.files(),
                }));
            }
        }
        let definition = &runtime.definition;
        let program = program_in(&install.folder, definition);
        if let Err(error) = probe::ask(&program, &definition.probe.arguments) {
            let failure = first_start::explain(error);
            self.findings
                .push(finding(InstallProblem::DoesNotStart(failure)));
        }
        Ok(())
    }

    /// Whether the default and the labels stand for something on the shelf.
    fn look_at_choices(&mut self, runtime: &Runtime<'_>) {
        let prefix = runtime.environment().prefix(runtime.name());
        let title = &runtime.definition.title;
        if let (Some(selector), None) = (&runtime.state.default, runtime.default_pick()) {
            self.findings.push(Finding::Default {
                title: title.clone(),
                prefix: prefix.clone(),
                selector: selector.clone(),
                newest: runtime.newest_on_shelf(),
            });
        }
        for (label, selector) in &runtime.state.labels {
            if runtime.pick_of_label(selector).is_none() {
                self.findings.push(Finding::Label {
                    title: title.clone(),
                    prefix: prefix.clone(),
                    label: label.clone(),
                    selector: selector.clone(),
                });
            }
        }
    }

    /// Whether what should be active answers, and what the project here requires is there.
    fn look_at_activity(&mut self, runtime: &Runtime<'_>) {
        let environment = runtime.environment();
        let mut activity = Activity::of(runtime);
        let title = &runtime.definition.title;
        if let Some(error) = activity.requirement_error.take() {
            self.findings.push(Finding::Requirement(error));
        }
        if let Some(claim) = activity
            .requirement()
            .filter(|claim| claim.met_by.is_none())
        {
            self.findings.push(Finding::Unmet {
                title: title.clone(),
                selector: claim.selector.clone(),
            });
        }
        // What answers in a shell that is not connected says nothing of those that are.
        if environment.shell.dialect().is_some()
            && let (Some(copy), Some(due)) = (activity.copies.first(), activity.active())
            && activity.differs()
        {
            let file = connect::own_shell(environment)
                .and_then(|dialect| connect::start_up_file(environment, dialect));
            self.findings.push(Finding::OtherFirst {
                title: title.clone(),
                program: copy.program.clone(),
                due: due.clone(),
                start_up_file: file.ok(),
            });
        }
    }

    /// Whether every folder among the installs is one.
    fn look_at_folders(&mut self, runtime: &Runtime<'_>) -> Done {
        let folder = runtime.shelf.installs_folder();
        let entries = optional::entries(&folder).map_err(file_error(&folder, "read"))?;
        for entry in entries {
            let name = entry.file_name();
            let is_install = |install: &Install| Path::new(install.id.key.as_str()) == name;
            if !runtime.installs.iter().any(is_install) {
                self.findings.push(Finding::StrayFolder(entry.path()));
            }
        }
        Ok(())
    }

    /// Whether some source answers, and how old what is known is.
    fn look_at_sources(&mut self, runtime: &mut Runtime<'_>) {
        let (name, title) = (runtime.name().to_owned(), runtime.definition.title.clone());
        let today = runtime.today;
        let offline = runtime.environment().transport.is_offline();
        match runtime.load_catalog(!offline) {
            Ok(loaded) => {
                let confirmed = loaded.origin.confirmed.to_zoned(TimeZone::UTC).date();
                let not_renewed = loaded.origin.not_renewed.clone();
                let is_old = (today - confirmed).get_days() > OLD_CATALOG;
                if not_renewed.is_some() || is_old {
                    self.findings.push(Finding::OldCatalog {
                        runtime: name,
                        title,
                        confirmed,
                        today,
                        not_renewed,
                    });
                }
            }
            Err(error) => self.findings.push(Finding::NoCatalog {
                runtime: name,
                title,
                error,
            }),
        }
    }

    /// Whether commands that were cut off left something behind.
    fn look_at_leftovers(&mut self, environment: &Environment) -> Done {
        let leftovers = leftovers::unfinished(environment)?;
        if !leftovers.is_empty() {
            self.findings.push(Finding::Leftovers {
                folder: environment.layout()?.staging(),
                count: leftovers.len(),
                bytes: leftovers.iter().map(|leftover| leftover.bytes).sum(),
            });
        }
        Ok(())
    }

    /// Whether there is room for another install.
    fn look_at_disk(&mut self, environment: &Environment) -> Done {
        let folder = &environment.folders()?.data;
        let Ok(disk) = rustix::fs::statvfs(folder) else {
            // A shelf that does not exist yet is on no disk.
            return Ok(());
        };
        let free = disk.f_bavail * disk.f_frsize;
        if free < ROOM_FOR_INSTALL {
            self.findings.push(Finding::LittleRoom {
                folder: folder.clone(),
                free,
            });
        }
        Ok(())
    }
}
