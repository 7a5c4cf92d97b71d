//! The table of errors: the class of each, which is its exit status, and the advice that goes with it.

use std::error::Error as StdError;
use std::path::{Path, PathBuf};

use vshelf_core::diagnosis::{Action, Class, Diagnosis, InstallHow, OptionHint, RemoveHow};
use vshelf_core::loader::MissingDependency;
use vshelf_core::lock_file::LockProblem;
use vshelf_core::requirement::Problem;
use vshelf_core::words::{listed, printable, with_causes};
use vshelf_files::shown::shown;
use vshelf_sources::{LoadError, SourceError};

use crate::error::{
    DefinitionProblem, Error, LockDifference, PackageAttempt, StartFailure, TextLine, shell_names,
};
use crate::step_failure::{build_needs, last_lines, quoted_lines, step};

impl Error {
    /// Its class and the advice against it.
    #[expect(clippy::too_many_lines, reason = "one table")]
    pub fn diagnosis(&self) -> Diagnosis {
        match self {
            // The surroundings.
            Error::NoFolder(_) | Error::NoHome => Class::Disk.alone(),
            Error::File { source, .. } => Class::Disk.alone().of_io(source),
            Error::NotUtf8 { .. } => Class::Disk.note(
                "Shells and settings hold paths as text; VSHELF_DATA, VSHELF_CACHE and VSHELF_CONFIG move the shelf elsewhere.",
            ),
            Error::Today { .. } => Class::Usage.note("A date is written like 2026-11-23."),
            Error::Settings { file, line, .. } => Class::Disk
                .alone()
                .notes(line.as_ref().map(TextLine::sentence))
                .step("To edit it", Action::Edit(file.clone())),
            Error::ChangedSource { file, .. } => {
                Class::Disk.step("To edit it", Action::Edit(file.clone()))
            }
            Error::OwnProgram { .. } | Error::HandOver { .. } | Error::Listener { .. } => {
                Class::Other.alone()
            }

            // Runtimes and definitions.
            Error::SeveralRuntimes { .. } => Class::Usage.alone(),
            Error::UnknownRuntime { near, .. } => Class::NoMatch
                .alone()
                .meant(near.as_slice())
                .step("To see the runtimes", Action::Runtimes),
            Error::Undefined(error) => {
                let diagnosis = match &**error {
                    Error::UnknownRuntime { .. } => {
                        Class::NoMatch.step("To define it again", Action::Define)
                    }
                    other => other.diagnosis(),
                };
                diagnosis.note("Its installs can still be listed, used and removed.")
            }
            Error::Definition { file, problem, .. } => {
                let edit = file.clone().map(Action::Edit);
                (Class::Disk.alone())
                    .notes(problem.sentence())
                    .step_if("To edit it", edit)
            }
            Error::FetchedDefinition { problem, .. } => {
                Class::Source.alone().notes(problem.sentence())
            }
            Error::NoDocument { .. }
            | Error::NoSource { .. }
            | Error::UndefinedSource { .. }
            | Error::NotOffered { .. } => Class::Source.alone(),
            Error::BuiltIn { place, .. } => {
                Class::Refused.step("To replace it", Action::Redefine(place.clone()))
            }
            Error::NoVersionFile { .. } => Class::Usage.alone(),
            Error::VersionFileNotRead { .. } => {
                Class::NoMatch.step("To see which files are read", Action::VersionFiles)
            }
            Error::NoOwnDefinition { .. } => {
                Class::NoMatch.step("To see the runtimes", Action::Runtimes)
            }

            // Choosing.
            Error::Selector(_) => Class::Usage.note("A selector is a version (8.3.1), the beginning of one (8), a range (\">=6 <8\"), a word (lts, latest, stable, preview), a code name or a label."),
            Error::Resolve { prefix, error } => error.diagnosis(prefix),
            Error::NoSystemCopy { .. } | Error::NotPublished { .. } => Class::NoMatch.alone(),
            Error::RenewedSince { selector, .. } => {
                Class::NoMatch.step("To switch to that", Action::Switch(selector.clone()))
            }
            Error::NothingActive { .. } => Class::NoMatch.step("To see why", Action::Status),
            Error::NotAnInstall { class, .. } if *class == Class::NoMatch => {
                class.step("To see what is", Action::List)
            }
            Error::NotAnInstall { class, .. } => class.alone(),
            Error::Untold { .. } => Class::Disk.step("To see what can be done", Action::CheckUp),
            Error::PackagesUnknown {
                selector, cause, ..
            } => Class::Refused
                .alone()
                .because(cause.sentence())
                .step("To remove it with whatever it has", Action::Remove(selector.clone(), RemoveHow::EvenIfUsed)),

            // Catalogs and sources.
            Error::Source(error) => error.diagnosis(),
            Error::Load(error) => error.diagnosis(),
            Error::CatalogChanged { .. } => Class::Source.note("Run the same command again."),
            Error::NoSourceAnswers { runtime, errors, .. } => {
                let first = errors.first().map(|(_, error)| error.class());
                let causes = errors
                    .iter()
                    .map(|(source, error)| format!("{source}: {}", error.sentence()));
                let diagnosis = first.unwrap_or(Class::Source).alone();
                let diagnosis = causes.fold(diagnosis, Diagnosis::because);
                match errors.iter().find(|(_, error)| error.is_unreachable()) {
                    Some((source, error)) => diagnosis.advised_as(error.diagnosis()).note(format!(
                        "A mirror of it can take its place, in shelf.toml: [addresses] \"{runtime}.{source}\" = \"URL\"",
                    )).step("To put a build that you have on the shelf", Action::Adopt(PathBuf::from("PATH"))),
                    None => diagnosis,
                }
            }
            Error::UnknownPublisher {
                publisher, known, ..
            } => Class::NoMatch.alone().publishers(publisher, None, known),

            // Installing.
            Error::Download(error) => error.diagnosis(),
            Error::Unpack { error, .. } => match error.disk_error() {
                Some(io) => Class::Disk.alone().because(io.to_string()).of_io(io),
                None => causes_of(error)
                    .into_iter()
                    .fold(Class::Verification.alone(), Diagnosis::because)
                    .note("Nothing of it was kept."),
            },
            Error::SystemInstall => {
                Class::Refused.step("To put it on the shelf", Action::AdoptSystem)
            }
            Error::OtherDigest {
                selector,
                before,
                now,
                ..
            } => Class::Verification
                .alone()
                .because(format!("it was {before}, and is {now}"))
                .step("To install what is offered now anyway", Action::install(selector)),
            Error::DoesNotStart {
                title,
                failure,
                selector,
            } => match selector {
                Some(selector) => failure
                    .diagnosis()
                    .note(format!("{title} was not put on the shelf."))
                    .step("To put it on the shelf anyway", Action::Install(selector.clone(), InstallHow::KeepBroken)),
                None => failure.diagnosis(),
            },
            Error::NoProgram { title, holds, .. } => Class::Verification
                .note(format!("At its top are {}.", listed(holds, "and")))
                .note("The folders and the program in the definition say where the program is.")
                .note(format!("{title} was not put on the shelf.")),
            Error::OlderLibc { .. } | Error::NothingToReplace { .. } => {
                Class::Verification.alone()
            }
            Error::NothingToBuild { .. } => Class::NoMatch.alone(),
            Error::NotALine { .. } => Class::Refused.alone(),
            Error::NoBase { runtime, .. } => {
                Class::NoMatch.step("To see what there is", Action::Catalog(runtime.clone()))
            }
            Error::BuildNeeds {
                missing, command, ..
            } => build_needs(missing, command.as_deref()),
            Error::BuildPlace { .. } => Class::Refused.alone(),
            Error::BuildStep(failed) => step(failed),
            Error::NothingBuilt { log, .. } => last_lines(&[], log),
            Error::BuildCheck { last, log, .. } => last_lines(last, log),
            Error::PublishedCheck { said, command, .. } => {
                let install = command.clone().map(Action::Line);
                (Class::Verification.alone())
                    .notes(quoted_lines(said))
                    .note("It was not put on the shelf.")
                    .step_if("To install what it misses", install)
            }
            Error::WrongProgram { title, .. } => {
                Class::Verification.note(format!("{title} was not put on the shelf."))
            }

            // The shelf.
            Error::Shelf(error) => error.diagnosis(),
            Error::GoneMeanwhile { .. } => Class::NoMatch.alone(),
            Error::InUse { since_planned, .. } if *since_planned => Class::Refused.alone(),
            Error::InUse { .. } => {
                Class::Refused.note("It can be removed when that process has ended.")
            }
            Error::CoversSeveral { selector, .. } => Class::Refused
                .note("Nothing was removed. Name one of them.")
                .step("To remove all of them", Action::Remove(selector.clone(), RemoveHow::Every)),
            Error::Needed { selector, .. } => {
                Class::Refused.step("To remove it anyway", Action::Remove(selector.clone(), RemoveHow::EvenIfUsed))
            }
            Error::NoSuchLine { .. } => Class::NoMatch.step("To see what is", Action::List),
            Error::UnknownLine { known, .. } => {
                Class::NoMatch.note(format!("Its lines: {}.", listed(known, "and")))
            }

            // Packages.
            Error::NoPackageTool { .. } => {
                Class::Refused.step("To see the definition", Action::Runtimes)
            }
            Error::PackageTool { cause, .. } => Class::Other.alone().because(cause),
            Error::PackagesFailed { attempt, .. } => (attempt.actions().into_iter())
                .fold(Class::Other.alone(), |diagnosis, action| {
                    diagnosis.step("To try again", action)
                }),
            Error::DifferentRuntimes { .. } => {
                Class::Usage.note("Packages of one cannot be installed in the other.")
            }
            Error::SameInstall { .. } => Class::Usage.alone(),

            // Restoring.
            Error::NothingRemoved => Class::NoMatch.step("To see what was done", Action::History),
            Error::NotAVersion { .. } => Class::Usage
                .note("A removed install is named by its version, such as 6.20.1.")
                .step("To see what was removed", Action::History),
            Error::NeverRemoved { .. } => {
                Class::NoMatch.step("To see what was removed", Action::History)
            }
            Error::WasAdopted { from, .. } => Class::NoMatch.step(
                "To adopt it again, where it still is",
                Action::Adopt(from.clone()),
            ),
            Error::NoLongerOffered { runtime, cause, .. } => {
                let cause = cause.as_ref().map(ToString::to_string);
                cause
                    .into_iter()
                    .fold(Class::NoMatch.alone(), Diagnosis::because)
                    .step("To see what is", Action::Catalog(runtime.clone()))
            }

            // Adopting.
            Error::AdoptName { .. } => Class::Usage.note("A version is written like 8.3.1."),
            Error::AdoptPublisher { .. } => Class::Usage.option(OptionHint::AdoptAs),
            Error::LinkToFile { .. } => Class::Usage.option(OptionHint::AdoptWithoutLink),
            Error::NoRuntimeIn { programs, .. } => Class::NoMatch.note(format!(
                "Looked for {}, at the top and three folders down.",
                programs.join(", ")
            )),
            Error::SeveralIn { names, .. } => {
                Class::Usage.option(OptionHint::AdoptRuntime(names[0].clone()))
            }
            Error::NoVersionIn { .. } => Class::Verification.option(OptionHint::AdoptVersion),
            Error::AlreadyAdopted { .. } => Class::Refused.option(OptionHint::AdoptBeside),

            // Mirrors.
            Error::Mirror(error) => error.diagnosis(),
            Error::SystemMirror => Class::Refused.alone(),
            Error::OtherArchiveLayout { selectors, .. } => Class::Refused.step(
                "To write to another place",
                Action::MirrorElsewhere(selectors.clone()),
            ),
            Error::NotBuilt { selector, .. } => {
                Class::Refused.step("To build it", Action::Install(selector.clone(), InstallHow::Build))
            }
            Error::NotBuiltHere { selector, .. } => {
                Class::Refused.step("To build it here", Action::Install(selector.clone(), InstallHow::BuildAgain))
            }
            Error::BuiltForItsPlace { .. } => Class::Refused.option(OptionHint::MirrorWithoutBuilds),
            Error::ChangedSinceBuilt { selector, .. } => {
                Class::Refused.step("To build it again", Action::Install(selector.clone(), InstallHow::BuildAgain))
            }
            Error::OnPlatform { platform, error } => error
                .causes()
                .into_iter()
                .fold(error.diagnosis(), Diagnosis::because)
                .note(format!("It was asked for {platform}.")),

            // Labels, defaults, requirements.
            Error::UnknownLabel { near, .. } => Class::NoMatch
                .alone()
                .meant(near)
                .step("To see the labels", Action::Labels),
            Error::LabelCircle { .. } => Class::Refused.alone(),
            Error::NotAName { .. } => Class::Usage
                .note("A label has letters, digits, '.', '_' and '-', and begins with a letter."),
            Error::NameTaken { .. } => Class::Refused.note("Choose another name."),
            Error::Requirement {
                file,
                error,
                rewrite,
            } => unreadable(file, &error.problem, rewrite.as_deref()),
            Error::NoRequirement { files, examples } => {
                let looked = format!("Looked for {} from this folder upward.", files.join(", "));
                examples.iter().fold(Class::Usage.note(looked), |diagnosis, example| {
                    diagnosis.step(example.purpose(), require(&example.selector, None))
                })
            }
            Error::NoPlainFile { selector, .. } => Class::Refused.step(
                "To write it into a file of ours",
                require(selector, Some("vivid-shelf.toml")),
            ),
            Error::NoSuchFile { files, .. } => {
                Class::Usage.note(match files.as_slice() {
                    [file] => format!("The only such file is {file}."),
                    _ => format!("The files are {}.", listed(files, "and")),
                })
            }
            Error::RequirementInManifest { file, selector, .. } => {
                let name = file.file_name().unwrap_or_default().to_string_lossy();
                Class::Refused.step("To write it there", require(selector, Some(&name)))
            }
            Error::Manifest { file, .. } | Error::RequirementElsewhere { file, .. } => {
                Class::Refused.step("To edit it", Action::Edit(file.clone()))
            }
            Error::PersonalSelector { .. } => Class::Refused
                .note("Require a version, a range, a word such as lts, or a code name."),

            // Rules and locks.
            Error::UnknownRuntimeInRule {
                near, file, line, ..
            } => Class::Disk
                .note(rule_is(file, *line))
                .notes(near.iter().map(|name| format!("Did you mean {name}?")))
                .step("To see the names of runtimes", Action::Runtimes),
            Error::Forbidden {
                why, file, line, ..
            } => {
                let why = why.iter().map(|why| {
                    let why = printable(why.trim_end_matches('.'));
                    format!("Why: {why}.")
                });
                Class::Refused.alone().notes(why).note(rule_is(file, *line))
            }
            Error::DistrustedFile { file, .. } => {
                let folder = file.parent().unwrap_or(file).display();
                Class::Refused.note(format!(
                    "If you trust it, have the files of its folder count in shelf.toml: trusted-folders = [\"{folder}\"]"
                ))
            }
            Error::StaleLock {
                lock,
                file,
                required,
                ..
            } => Class::Refused
                .note(format!(
                    "It is locked in {}, and {} requires {required}.",
                    shown(lock),
                    shown(file)
                ))
                .step("To lock what is required now", Action::Lock),
            Error::NotLocked { file, required, .. } => Class::Refused
                .note(format!("{} requires {required}.", shown(file)))
                .step("To lock it", Action::Lock),
            Error::NotRequired { .. } => {
                Class::NoMatch.step("To see what is required here", Action::Required)
            }
            Error::SystemLock { file } => {
                Class::Refused.note(format!("{} requires it.", shown(file)))
            }
            Error::LockedElsewhere {
                platform, runtime, ..
            } => Class::Refused.step(
                "To lock it for this platform too",
                Action::LockAgain {
                    runtime: Some(runtime.clone()),
                    platform: Some(platform.clone()),
                },
            ),
            Error::LockedOtherwise {
                locked,
                stated,
                runtime,
                ..
            } => Class::Verification
                .note(format!("Locked: {}.", locked.join(", ")))
                .note(if stated.is_empty() { "Its sources state no digest for it.".to_owned() } else { format!("Stated by its sources: {}.", stated.join(", ")) })
                .note("Nothing was installed: either the lock was changed, or the publisher replaced the archive.")
                .step("To lock what the sources state now", Action::lock_again(runtime)),
            Error::LockedUnstated {
                sources, runtime, ..
            } => Class::Verification
                .note(format!("Its sources are {}.", listed(sources, "and")))
                .note("A mirror of them that has the release can take their place (addresses in shelf.toml).")
                .step("To lock a release that is published", Action::lock_again(runtime)),
            Error::LockedDiffers {
                selector,
                difference: LockDifference::Adopted,
                ..
            } => Class::Refused.step(
                "To make room for what is locked",
                Action::Remove(selector.clone(), RemoveHow::Usual),
            ),
            Error::LockedDiffers { selector, .. } => {
                Class::Refused.step("To fetch it again", Action::Install(selector.clone(), InstallHow::Again))
            }
            Error::UndeclaredCompanion { runtime, .. } => Class::Verification
                .note("A lock names versions of packages, and a definition says which packages there are.")
                .step("To lock it again", Action::lock_again(runtime)),
            Error::UndeclaredPackage {
                runtime, package, ..
            } => Class::Verification
                .note("A lock names versions of packages, and settings say which packages there are.")
                .note(format!(
                    "To have every install get it, in shelf.toml: [packages.always] {runtime} = [\"{package}\"]"
                ))
                .step("To lock it without the package", Action::lock_again(runtime)),
            Error::SourcesContradict { stated, .. } => Class::Verification
                .alone()
                .notes(stated.iter().map(|(source, digest)| format!("{source} states {digest}.")))
                .note("Nothing was installed: one of them is not what the publisher released."),
            Error::OtherPatches { runtime, .. } => {
                Class::Verification.step("To lock it again", Action::lock_again(runtime))
            }

            // Shells.
            Error::NotConnected { source_line } => {
                let diagnosis = match source_line {
                    Some(line) => Class::Refused
                        .note("New shells are connected; this one was opened before that, or does not read its start-up file.")
                        .step("To connect this shell", Action::Line(line.clone())),
                    None => Class::Refused.step("To connect your shells", Action::Connect(None)),
                };
                diagnosis.step(
                    "To run one command without a connection",
                    Action::HelpOnRunning,
                )
            }
            Error::UnknownShell(_) => Class::Usage
                .note(format!(
                    "Shells that can be connected: {}.",
                    listed(&shell_names(), "and")
                ))
                .step("To use a version in any shell", Action::HelpOnRunning),
            Error::OwnShell { .. } => {
                Class::Usage.step("To name yours", Action::Connect(Some("bash")))
            }
            Error::NoSessionManager => {
                Class::Refused.step("To have programs that a desktop can find", Action::Launchers)
            }
            Error::ColonInData { .. } | Error::SpecialInData { .. } => {
                Class::Refused.step("To put the shelf elsewhere", Action::MoveData)
            }
        }
    }

    /// Its class, which decides the exit status.
    pub fn class(&self) -> Class {
        self.diagnosis().class
    }

    /// Whether the server of a source gives no answer.
    pub fn is_unreachable(&self) -> bool {
        match self {
            Error::Load(LoadError::Source(SourceError::Transport(error))) => error.is_unreachable(),
            _ => false,
        }
    }

    /// Whether another source may give what this one did not.
    pub fn is_of_source(&self) -> bool {
        self.class() == Class::Source
    }

    /// The messages of the errors behind it, outermost first.
    pub fn causes(&self) -> Vec<String> {
        causes_of(self)
    }

    /// The message with all causes, as a sentence without its period.
    fn sentence(&self) -> String {
        let causes = self.causes().into_iter().chain(self.diagnosis().causes);
        let sentence = with_causes(&self.to_string(), causes);
        sentence.trim_end_matches('.').to_owned()
    }
}

/// The messages of the errors behind an error, outermost first.
fn causes_of(error: &dyn StdError) -> Vec<String> {
    let mut causes = Vec::new();
    let mut source = error.source();
    while let Some(cause) = source {
        causes.push(cause.to_string());
        source = cause.source();
    }
    causes
}

/// What helps against a file that does not say what is required.
fn unreadable(file: &Path, problem: &Problem, rewrite: Option<&str>) -> Diagnosis {
    let all_again = Action::LockAgain {
        runtime: None,
        platform: None,
    };
    match problem {
        Problem::Lock(LockProblem::Merge) => Class::NoMatch
            .note("Take the lines of one side and drop the marks, or lock all of it again.")
            .step("To lock it again", all_again),
        Problem::Lock(LockProblem::Newer(_)) => {
            Class::NoMatch.note("Use the newer version of this program that wrote it.")
        }
        Problem::Lock(_) => Class::NoMatch.step("To lock it again", all_again),
        _ => match rewrite {
            Some(selector) => Class::NoMatch.step("To write it again", require(selector, None)),
            None => Class::NoMatch.step("To edit it", Action::Edit(file.to_owned())),
        },
    }
}

impl StartFailure {
    /// Why the program does not start, what it needs, and the package that usually brings it.
    fn diagnosis(&self) -> Diagnosis {
        let diagnosis = Class::Verification.alone().because(self.reason());
        match &self.missing {
            Some(MissingDependency::Library(library)) => match &self.package_command {
                Some(command) => diagnosis.step(
                    "The package that usually brings it",
                    Action::Line(command.clone()),
                ),
                None => diagnosis.note(format!("Install the package that brings {library}.")),
            },
            Some(MissingDependency::LibraryVersion { .. }) => {
                let here = match &self.libc {
                    Some(here) => format!("This system has {here}: the build is for newer ones."),
                    None => "The build is for newer systems than this one.".to_owned(),
                };
                // The loader's own words name the version that is missing.
                let complaint = self.error.complaint();
                (complaint.lines().take(1))
                    .fold(diagnosis, Diagnosis::because)
                    .note(format!(
                        "{here} An older release, or one from another publisher, may run here."
                    ))
            }
            Some(MissingDependency::Interpreter(_)) => {
                diagnosis.note("The build is for systems with another C library.")
            }
            None if self.is_quarantined => diagnosis.note(
                "macOS holds it in quarantine, because something downloaded it. If you trust it, release what it \
                 came from: xattr -dr com.apple.quarantine, with that folder.",
            ),
            None => diagnosis,
        }
    }
}

impl PackageAttempt {
    /// The calls of the package tool that install the packages by hand.
    pub fn actions(&self) -> Vec<Action> {
        let call = |arguments: &Vec<String>| Action::Run {
            selector: format!("{}{}", self.prefix, self.selector),
            words: [std::slice::from_ref(&self.tool), arguments].concat(),
        };
        self.calls.iter().map(call).collect()
    }
}

impl TextLine {
    /// The line with its number, as a sentence.
    fn sentence(&self) -> String {
        let column = self.column.map(|column| format!(", column {column}"));
        let column = column.unwrap_or_default();
        format!("Line {}{column}: {}", self.number, self.text.trim())
    }
}

impl DefinitionProblem {
    fn sentence(&self) -> Option<String> {
        match self {
            DefinitionProblem::Text(_, line) => Some(line.sentence()),
            DefinitionProblem::OtherName(_) | DefinitionProblem::Syntax(_) => None,
        }
    }
}

fn rule_is(file: &Path, line: usize) -> String {
    format!("The rule is {}, line {line}.", shown(file))
}

fn require(selector: &str, file: Option<&str>) -> Action {
    Action::Require {
        selector: selector.to_owned(),
        file: file.map(str::to_owned),
    }
}
