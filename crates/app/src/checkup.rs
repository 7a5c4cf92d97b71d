//! Is everything on the shelf sound? Findings as data, each with what fixes it.

use std::fs;
use std::path::{Path, PathBuf};

use jiff::civil::Date;
use vshelf_core::definition::needs::Needs;
use vshelf_core::resolve::Scope;
use vshelf_core::{Key, Request};
use vshelf_files::action::FileAction;
use vshelf_files::{optional, system};
use vshelf_shelf::journal::{HistoryEntry, Outcome};
use vshelf_shelf::manifest::Difference;
use vshelf_shelf::record::{Adopted, BuiltWith, RecordContents, RecordError, RecordProblem};
use vshelf_shelf::store::{Untold, program_in};
use vshelf_shelf::{Install, Shelf, probe, recovery};

use crate::activity::Activity;
use crate::admission;
use crate::base::base_of;
use crate::environment::Environment;
use crate::error::{Done, Error, StartFailure, file_error};
use crate::install::from_source::UnfinishedBuild;
use crate::install::{first_start, from_source};
use crate::integrate::connect::{self, ConnectionProblem};
use crate::keep::{history, leftovers};
use crate::ledger;
use crate::mistakes::{self, Mistake};
use crate::other_copy::OtherCopy;
use crate::project;
use crate::runtime::published::Extent;
use crate::runtime::{Runtime, opening};

/// The bytes that a large install needs, downloaded and unpacked.
const ROOM_FOR_INSTALL: u64 = 500_000_000;

/// The age in days from which a catalog that cannot be renewed is a finding.
const OLD_CATALOG: i32 = 30;

/// What a checkup found.
#[derive(Debug, Default)]
pub struct Checkup {
    /// How many installs were looked at.
    pub installs: usize,
    /// Whether no source was asked.
    pub offline: bool,
    /// Whether it ran as the administrator, to whom everything that is installed belongs then.
    pub as_root: bool,
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
    /// Another copy answers in this shell than the one that should be active.
    Differs {
        /// The runtime's title.
        title: String,
        /// What should be active.
        due: String,
        /// Why.
        other_copy: OtherCopy,
        /// The selector that puts it in front, with what commands need in front of it.
        selector: String,
    },
    /// A folder among the installs is none.
    StrayFolder(PathBuf),
    /// Something is on the shelf whose record tells nothing.
    Untold {
        /// Its title.
        title: String,
        /// The selector that means exactly it, with what commands need in front of it.
        selector: String,
        /// What is wrong with its record.
        error: RecordError,
        /// Whether the history has what the record said.
        in_history: bool,
    },
    /// The default's link leads to nothing on the shelf.
    DefaultLink {
        /// The link.
        link: PathBuf,
    },
    /// A command that moved this install was cut off before it was done.
    Pending(PathBuf),
    /// What a command that was cut off left behind cannot be deleted, and is in nobody's way.
    Stuck {
        /// Where it is.
        folder: PathBuf,
        /// Why.
        cause: String,
    },
    /// The home folder belongs to somebody else.
    OtherHome {
        /// The home folder.
        home: PathBuf,
    },
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
    /// A build from source is not finished, and a clean-up deletes it.
    UnfinishedBuild(UnfinishedBuild),
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

/// How a library differs from the one that something was built with.
#[derive(Debug)]
pub enum LibraryChange {
    /// It is not there any more.
    Missing(String),
    /// It has another version.
    Other {
        /// Its name.
        name: String,
        /// Its version then, where that was known.
        before: Option<String>,
        /// Its version now, where that is known.
        now: Option<String>,
    },
}

/// What is wrong with an install.
#[derive(Debug)]
pub enum InstallProblem {
    /// Its archive had another digest than its sources state.
    OtherwiseStated {
        /// The digest of its archive.
        digest: String,
        /// What its sources state for the platform.
        stated: Vec<String>,
    },
    /// The folder that it is a link to is gone.
    LinkGone(PathBuf),
    /// Files differ from what was unpacked.
    Changed {
        /// Which, and how they changed.
        differences: Vec<Difference>,
        /// How many files it has.
        files: u64,
    },
    /// It was built for this folder, and is in another one.
    BuiltForElsewhere(PathBuf),
    /// It passed this check when it was built, and does not now.
    CheckFails {
        /// What the check says.
        says: String,
        /// What it was built with that is another now, or missing.
        libraries: Vec<LibraryChange>,
        /// The command that installs what is missing, where that is known.
        install_command: Option<String>,
    },
    /// Its program does not start.
    DoesNotStart(StartFailure),
    /// The runtime that it runs on is not here.
    NoBase {
        /// The runtime, and the versions of it that it runs on.
        needs: String,
    },
}

/// Checks the installs that these requests cover, or else everything. What is wrong with the calling
/// shell alone is looked for where a person asks: a script may well run in a shell that is not
/// connected.
pub fn check(
    environment: &Environment,
    requests: &[Request],
    asked_by_person: bool,
) -> Result<Checkup, Error> {
    let mut checkup = Checkup {
        offline: environment.transport.is_offline(),
        as_root: system::is_root(),
        ..Checkup::default()
    };
    if requests.is_empty() {
        checkup.look_at_home(environment);
        let problem = connect::problem(environment, asked_by_person)?;
        checkup.findings.extend(problem.map(Finding::Connection));
        let history = history::read(environment)?.entries;
        let on_shelf = Shelf::runtimes(environment.folders()?)?;
        for name in &on_shelf {
            let mut runtime = Runtime::named(environment, Some(name))?;
            for install in &runtime.snapshot.installs {
                checkup.look_at_install(&runtime, install)?;
            }
            checkup.look_at_records(&runtime, &history);
            checkup.look_at_choices(&runtime);
            checkup.look_at_activity(&runtime);
            checkup.look_at_folders(&runtime)?;
            checkup.look_at_sources(&mut runtime);
        }
        for runtime in opening::required_beside(environment, &on_shelf)? {
            checkup.look_at_activity(&runtime);
        }
        let mistakes = mistakes::find(environment)?.into_iter();
        checkup.findings.extend(mistakes.map(Finding::Mistake));
        checkup.look_at_leftovers(environment)?;
        checkup.look_at_disk(environment)?;
    }
    for request in requests {
        let runtime = Runtime::of_request(environment, request)?;
        for candidate in runtime.choosing().covered(request, Scope::Shelf)? {
            let key = candidate.install.map(|install| &install.key);
            if let Some(install) = key.and_then(|key| runtime.snapshot.install(key)) {
                checkup.look_at_install(&runtime, install)?;
            }
        }
    }
    Ok(checkup)
}

/// Fixes what can be fixed without taking anything away: finishes what was cut off, writes records
/// again that the history has, removes links of defaults that lead to nothing.
pub fn fix(environment: &Environment) -> Done {
    recovery::recover(&environment.layout()?);
    let history = history::read(environment)?.entries;
    for name in Shelf::runtimes(environment.folders()?)? {
        let runtime = Runtime::named(environment, Some(&name))?;
        for untold in &runtime.snapshot.untold {
            if let Some(record) = record_in_history(&runtime, untold, &history) {
                let admitted = admission::admit_former(&runtime, record)?;
                runtime.shelf.write_record(&admitted, record.clone())?;
            }
        }
        if runtime.shelf.has_dangling_default() {
            runtime.shelf.clear_default(None)?;
        }
    }
    Ok(())
}

/// What the record of something on the shelf said, where that is lost and the history has it. One that
/// a newer program wrote is left to that.
fn record_in_history<'h>(
    runtime: &Runtime<'_>,
    untold: &Untold,
    history: &'h [HistoryEntry],
) -> Option<&'h RecordContents> {
    let is_lost = matches!(
        untold.error.problem,
        RecordProblem::Missing | RecordProblem::Damaged(_)
    );
    let is_same = |entry: &&HistoryEntry| {
        entry.key == untold.key
            && entry.record.runtime == runtime.name()
            && entry.outcome == Outcome::Done
    };
    let last = history.iter().rev().find(is_same)?;
    (is_lost && !last.operation.removes()).then_some(&last.record)
}

/// Why the program of an install does not start; `None` if it does.
fn start(runtime: &Runtime<'_>, install: &Install) -> Result<Option<InstallProblem>, Error> {
    let definition = &runtime.definition;
    let base = match base_of(runtime.environment(), definition, &install.id.version) {
        Ok(base) => base,
        Err(Error::NoBase { needs, .. }) => return Ok(Some(InstallProblem::NoBase { needs })),
        Err(error) => return Err(error),
    };
    let surroundings = base.map(|base| base.surroundings).unwrap_or_default();
    let program = program_in(&install.folder, definition);
    let answer = probe::ask(&program, &definition.probe.arguments, &surroundings);
    let failure = answer.err().map(first_start::explain);
    Ok(failure.map(InstallProblem::DoesNotStart))
}

/// The problem of an install whose archive had another digest than its sources state. Without a statement about
/// its platform nothing is known.
fn otherwise_stated(
    runtime: &Runtime<'_>,
    install: &Install,
) -> Result<Option<InstallProblem>, Error> {
    let record = &install.record.contents;
    let Some(digest) = record.digest.as_ref().filter(|_| record.adopted.is_none()) else {
        return Ok(None);
    };
    let stated = ledger::stated(runtime, &install.id.key)?;
    let of_platform = stated
        .iter()
        .filter(|statement| statement.platform.as_str() == record.platform);
    let stated: Vec<String> = of_platform
        .map(|statement| statement.digest.to_string())
        .collect();
    Ok(
        (!stated.is_empty() && !stated.contains(digest)).then(|| InstallProblem::OtherwiseStated {
            digest: digest.clone(),
            stated,
        }),
    )
}

/// Whether two paths lead to one folder.
fn is_same_folder(one: &Path, other: &Path) -> bool {
    let real = |path: &Path| fs::canonicalize(path).ok();
    one == other || real(one).is_some_and(|real_one| real(other) == Some(real_one))
}

/// What of these libraries is another now, or missing.
fn library_changes(before: &[BuiltWith], now: &Needs) -> Vec<LibraryChange> {
    let change = |built: &BuiltWith| match now.found.iter().find(|found| found.name == built.name) {
        Some(found) if found.version == built.version => None,
        Some(found) => Some(LibraryChange::Other {
            name: built.name.clone(),
            before: built.version.clone(),
            now: found.version.clone(),
        }),
        None => Some(LibraryChange::Missing(built.name.clone())),
    };
    before.iter().filter_map(change).collect()
}

impl Checkup {
    /// Whether an install is as it was unpacked, and starts.
    fn look_at_install(&mut self, runtime: &Runtime<'_>, install: &Install) -> Done {
        self.installs += 1;
        let record = &install.record.contents;
        let finding = |problem| {
            Finding::Install(InstallFinding {
                title: runtime.names().title_of(&install.id.key),
                selector: runtime.names().key_as_typed(&install.id.key),
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
        if let Some(problem) = otherwise_stated(runtime, install)? {
            self.findings.push(finding(problem));
        }
        if let Some(manifest) = runtime.shelf.manifest(&install.id.key)? {
            let differences = manifest.compare(&install.folder);
            let differences = differences.map_err(file_error(&install.folder, FileAction::Read))?;
            if !differences.is_empty() {
                self.findings.push(finding(InstallProblem::Changed {
                    differences,
                    files: manifest.files(),
                }));
            }
        }
        let place = record.built.as_ref().and_then(|built| built.place.as_ref());
        if let Some(place) = place.filter(|place| !is_same_folder(place, &install.folder)) {
            let problem = InstallProblem::BuiltForElsewhere(place.clone());
            self.findings.push(finding(problem));
            return Ok(());
        }
        // How its program is asked is in the definition.
        if runtime.undefined().is_some() {
            return Ok(());
        }
        if let Some(problem) = start(runtime, install)? {
            self.findings.push(finding(problem));
            return Ok(());
        }
        let build = runtime.definition.build.as_ref();
        let Some((built, section)) = record.built.as_ref().zip(build) else {
            return Ok(());
        };
        if let Some(failing) = from_source::failing_check(section, &install.folder)? {
            let needs = from_source::look_for(section);
            self.findings.push(finding(InstallProblem::CheckFails {
                says: failing.check.says.clone(),
                libraries: library_changes(&built.libraries, &needs),
                install_command: from_source::install_command(&needs),
            }));
        }
        Ok(())
    }

    /// Whether the home folder is this user's own.
    fn look_at_home(&mut self, environment: &Environment) {
        let Some(home) = environment.variables().home() else {
            return;
        };
        if system::is_owned_by_another(&home).unwrap_or(false) {
            self.findings.push(Finding::OtherHome { home });
        }
    }

    /// Whether every record tells what it is a record of.
    fn look_at_records(&mut self, runtime: &Runtime<'_>, history: &[HistoryEntry]) {
        for untold in &runtime.snapshot.untold {
            self.findings.push(Finding::Untold {
                title: runtime.names().title_of(&untold.key),
                selector: runtime.names().key_as_typed(&untold.key),
                error: untold.error.clone(),
                in_history: record_in_history(runtime, untold, history).is_some(),
            });
        }
    }

    /// Whether the default and the labels stand for something on the shelf.
    fn look_at_choices(&mut self, runtime: &Runtime<'_>) {
        let prefix = runtime.environment().prefix(runtime.name());
        let title = &runtime.definition.title;
        if runtime.shelf.has_dangling_default() {
            let link = runtime.shelf.default_link();
            self.findings.push(Finding::DefaultLink { link });
        }
        let default = runtime.shelf.default_choice(&runtime.snapshot.state);
        let key = default.as_ref().and_then(|default| default.key.as_ref());
        let is_untold = |key: &Key| {
            runtime
                .snapshot
                .untold
                .iter()
                .any(|untold| untold.key == *key)
        };
        if let (Some(default), None) = (&default, runtime.snapshot.default_pick())
            && !key.is_some_and(is_untold)
        {
            self.findings.push(Finding::Default {
                title: title.clone(),
                prefix: prefix.clone(),
                selector: default.selector.clone(),
                newest: runtime.names().newest_on_shelf(),
            });
        }
        for (label, selector) in &runtime.snapshot.state.labels {
            if runtime.choosing().pick_of_label(selector).is_none() {
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
        let mut activity = Activity::of(runtime);
        let title = &runtime.definition.title;
        let lock_trouble = project::lock_trouble(runtime, &activity.standing.required);
        let unusable = activity.standing.required.unusable.take();
        let others = project::unusable_files(runtime);
        for error in unusable.into_iter().chain(lock_trouble).chain(others) {
            // One file can state requirements of several runtimes.
            let text = error.to_string();
            let is_same = |finding: &Finding| matches!(finding, Finding::Requirement(known) if known.to_string() == text);
            if !self.findings.iter().any(is_same) {
                self.findings.push(Finding::Requirement(error));
            }
        }
        if let Some(claim) = activity
            .requirement()
            .filter(|_| activity.standing.missing.is_some())
        {
            self.findings.push(Finding::Unmet {
                title: title.clone(),
                selector: claim.selector.clone(),
            });
        }
        // What answers in a shell that is not connected says nothing of those that are.
        if let (Some(other_copy), Some(due)) =
            (OtherCopy::of(runtime, &activity), activity.active())
        {
            self.findings.push(Finding::Differs {
                title: title.clone(),
                selector: runtime
                    .names()
                    .as_typed(runtime.names().selector_of_pick(due)),
                due: runtime.names().selector_of_pick(due),
                other_copy,
            });
        }
    }

    /// Whether every folder among the installs is one.
    fn look_at_folders(&mut self, runtime: &Runtime<'_>) -> Done {
        let folder = runtime.shelf.installs_folder();
        let entries = optional::entries(&folder).map_err(file_error(&folder, FileAction::Read))?;
        for entry in entries {
            let name = entry.file_name();
            let key = name.to_str().and_then(|name| runtime.shelf.key_named(name));
            let mut installs = runtime
                .snapshot
                .installs
                .iter()
                .map(|install| &install.id.key);
            let mut untold = runtime.snapshot.untold.iter().map(|untold| &untold.key);
            let is_known =
                |key: Key| installs.any(|own| *own == key) || untold.any(|own| *own == key);
            if !key.is_some_and(is_known) {
                self.findings.push(Finding::StrayFolder(entry.path()));
            }
        }
        Ok(())
    }

    /// Whether some source answers, and how old what is known is.
    fn look_at_sources(&mut self, runtime: &mut Runtime<'_>) {
        let (name, title) = (runtime.name().to_owned(), runtime.definition.title.clone());
        let today = runtime.today();
        let offline = runtime.environment().transport.is_offline();
        let extent = if offline {
            Extent::Releases
        } else {
            Extent::Anew
        };
        if let Err(error) = runtime.published.load(extent) {
            self.findings.push(Finding::NoCatalog {
                runtime: name,
                title,
                error,
            });
        } else if let Some(status) = runtime.published.age() {
            let is_old = (today - status.confirmed).get_days() > OLD_CATALOG;
            if status.not_renewed.is_some() || is_old {
                self.findings.push(Finding::OldCatalog {
                    runtime: name,
                    title,
                    confirmed: status.confirmed,
                    today,
                    not_renewed: status.not_renewed,
                });
            }
        }
    }

    /// Whether commands that were cut off left something behind.
    fn look_at_leftovers(&mut self, environment: &Environment) -> Done {
        let (leftovers, stuck) = leftovers::unfinished(environment)?;
        for stuck in stuck {
            self.findings.push(Finding::Stuck {
                folder: stuck.folder,
                cause: stuck.source.to_string(),
            });
        }
        let layout = environment.layout()?;
        let pending =
            recovery::pending(&layout).map_err(file_error(layout.data(), FileAction::Read))?;
        self.findings
            .extend(pending.into_iter().map(Finding::Pending));
        let builds = leftovers::unfinished_builds(environment)?.into_iter();
        self.findings.extend(builds.map(Finding::UnfinishedBuild));
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
        let Ok(free) = system::free_bytes(folder) else {
            // A shelf that does not exist yet is on no disk.
            return Ok(());
        };
        if free < ROOM_FOR_INSTALL {
            self.findings.push(Finding::LittleRoom {
                folder: folder.clone(),
                free,
            });
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use vshelf_core::definition::needs::FoundLibrary;

    use super::*;

    #[rstest]
    #[case(Some("1.2"), Some(Some("1.2")), None)]
    #[case(None, Some(None), None)]
    #[case(Some("1.2"), Some(Some("1.3")), Some("Other(1.2, 1.3)"))]
    #[case(Some("1.2"), None, Some("Missing"))]
    fn a_library_is_the_one_that_something_was_built_with(
        #[case] before: Option<&str>,
        #[case] now: Option<Option<&str>>,
        #[case] change: Option<&str>,
    ) {
        let name = || "kelp".to_owned();
        let before = BuiltWith {
            name: name(),
            version: before.map(str::to_owned),
        };
        let found = now.map(|version| FoundLibrary {
            name: name(),
            version: version.map(str::to_owned),
        });
        let needs = Needs {
            found: found.into_iter().collect(),
            ..Needs::default()
        };
        let changes = library_changes(&[before], &needs);
        let told = changes.first().map(|change| match change {
            LibraryChange::Missing(_) => "Missing".to_owned(),
            LibraryChange::Other { before, now, .. } => format!(
                "Other({}, {})",
                before.as_deref().unwrap_or_default(),
                now.as_deref().unwrap_or_default()
            ),
        });
        assert_eq!(told.as_deref(), change);
    }
}
