//! Everything that a use case can fail with, typed: what the interface words, and fail-over decides
//! on.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use vshelf_core::Version;
use vshelf_core::admission::Forbidden;
use vshelf_core::catalog::LibcVersion;
use vshelf_core::definition::DefinitionError;
use vshelf_core::definition::build::LogFailure;
use vshelf_core::definition::needs::Missing;
pub use vshelf_core::diagnosis::Class;
use vshelf_core::file_trust::Distrust;
use vshelf_core::requirement::RequirementError;
use vshelf_core::resolve::ResolveError;
use vshelf_core::selector::SelectorError;
use vshelf_core::tidy::Protection;
use vshelf_core::words::{Count, listed};
use vshelf_files::action::FileAction;
use vshelf_files::shown::shown;
use vshelf_shelf::ShelfError;
use vshelf_shelf::folders::NoFolder;
use vshelf_shelf::probe::ProbeError;
use vshelf_shelf::record::RecordError;
use vshelf_shelf::unpack::UnpackError;
use vshelf_shell::UnknownShell;
use vshelf_sources::{DownloadError, LoadError, MirrorError, SourceError, TransportError};

/// What a use case without an outcome of its own gives back.
pub type Done = Result<(), Error>;

/// A line in a text, counted from 1.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextLine {
    /// Its number.
    pub number: usize,
    /// The column, counted from 1 in characters, where that is known.
    pub column: Option<usize>,
    /// What it says.
    pub text: String,
}

impl TextLine {
    /// The line that a span of `text` begins on.
    pub fn of(text: &str, span: Option<std::ops::Range<usize>>) -> TextLine {
        let known = span.map(|span| span.start.min(text.len()));
        let before = &text[..known.unwrap_or(0)];
        let number = before.matches('\n').count() + 1;
        let in_line = before.rsplit('\n').next().unwrap_or_default();
        TextLine {
            number,
            column: known.map(|_| in_line.chars().count() + 1),
            text: text.lines().nth(number - 1).unwrap_or_default().to_owned(),
        }
    }
}

/// A step of a build that failed.
#[derive(Debug)]
pub struct StepFailure {
    /// The runtime's title and the version.
    pub title: String,
    /// The step.
    pub step: String,
    /// How it ended.
    pub problem: StepProblem,
    /// The log of all steps.
    pub log: PathBuf,
    /// What that says.
    pub said: LogFailure,
}

impl std::fmt::Display for StepFailure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (title, step, problem) = (&self.title, &self.step, &self.problem);
        write!(f, "{title} was not built: the step {step} {problem}")
    }
}

/// How a step of a build failed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum StepProblem {
    /// It could not be started, or its log not be written.
    #[error("cannot be run: {0}")]
    Start(String),
    /// It ended so.
    #[error("ended with {0}")]
    Ended(String),
    /// It was stopped.
    #[error("was stopped, because the disk is nearly full")]
    DiskNearlyFull,
    /// It did not end.
    #[error("did not end within {} hours", .0.as_secs() / 3600)]
    TooLong(Duration),
}

/// What is required and missing, as a part of a sentence.
fn needed(missing: &[Missing]) -> String {
    let required = missing.iter().filter(|missing| missing.required);
    let names: Vec<&str> = required.map(|missing| missing.name.as_str()).collect();
    match names.split_last() {
        Some((last, others)) if !others.is_empty() => {
            format!("{} and {last} are missing", others.join(", "))
        }
        _ => format!("{} is missing", names.concat()),
    }
}

/// Why a use case failed.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "each message says what its values are")]
pub enum Error {
    // The surroundings.
    #[error(transparent)]
    NoFolder(#[from] NoFolder),
    #[error("{path} cannot be {action}")]
    File {
        path: PathBuf,
        action: FileAction,
        source: io::Error,
    },
    #[error("{folder} is not written in UTF-8")]
    NotUtf8 { folder: PathBuf },
    #[error("VSHELF_TODAY is {text:?}, which is not a date")]
    Today { text: String },
    #[error("{file} is not understood: {problem}")]
    Settings {
        file: PathBuf,
        problem: String,
        line: Option<TextLine>,
    },
    #[error("{} has {name:?} in [{table}], and there is no such source {}", shown(file), table.whose())]
    ChangedSource {
        file: PathBuf,
        table: SourceTable,
        name: String,
    },
    #[error("the location of this program is not known")]
    OwnProgram { source: io::Error },

    // Runtimes and definitions.
    #[error("no runtime is named, and there are several: {}", listed(names, "and"))]
    SeveralRuntimes { names: Vec<String> },
    #[error("{name:?} is not a known runtime")]
    UnknownRuntime { name: String, near: Option<String> },
    /// Something needs a definition that is gone or cannot be used; its installs can still be used.
    #[error("{}", undefined(.0))]
    Undefined(Arc<Error>),
    #[error("{} is not a definition of a runtime: {problem}", place_of(file.as_deref()))]
    Definition {
        name: String,
        /// Its file; nothing for a built-in definition.
        file: Option<PathBuf>,
        problem: DefinitionProblem,
    },
    #[error("{address} is not a definition of a runtime: {problem}")]
    FetchedDefinition {
        address: String,
        problem: DefinitionProblem,
    },
    #[error("{address} gives nothing")]
    NoDocument { address: String },
    #[error("{title} is built in, and its definition was not replaced")]
    BuiltIn {
        title: String,
        /// Where the other definition is.
        place: String,
    },
    #[error("you have no definition of {name:?}")]
    NoOwnDefinition { name: String },
    #[error(
        "{file:?} cannot be read in projects: the name of such a file begins with a period and has only small letters, digits, '.', '_' and '-'"
    )]
    NoVersionFile { file: String },
    #[error("{file} is not read for {runtime} by your settings")]
    VersionFileNotRead { file: String, runtime: String },

    // Choosing.
    #[error(transparent)]
    Selector(#[from] SelectorError),
    #[error("{error}")]
    Resolve {
        /// What commands need in front of a selector of this runtime.
        prefix: String,
        error: Box<ResolveError>,
    },
    #[error("there is no {program} on PATH besides the shelf's")]
    NoSystemCopy { program: String },
    #[error("no version of {title} is active here")]
    NothingActive { title: String },
    #[error("{title} was renewed to {selector}")]
    RenewedSince {
        /// The install that is gone.
        title: String,
        /// What means the install in its place.
        selector: String,
    },
    #[error("{selector} is not an install on the shelf")]
    NotAnInstall { selector: String, class: Class },
    #[error("{selector} is not published")]
    NotPublished { selector: String },
    #[error("{title} is on the shelf, but {error}")]
    Untold {
        title: String,
        /// What means exactly it, with what commands need in front of it.
        selector: String,
        error: RecordError,
    },
    #[error("the packages in {title} cannot be listed, so it stays")]
    PackagesUnknown {
        title: String,
        /// What means exactly it, with what commands need in front of it.
        selector: String,
        cause: Box<Error>,
    },

    // Catalogs and sources.
    #[error(transparent)]
    Source(#[from] SourceError),
    #[error(transparent)]
    Load(#[from] LoadError),
    #[error("the catalog of {title} changed while it was read")]
    CatalogChanged { title: String },
    #[error("the catalog of {title} has builds of {name:?}, which is no source of its definition")]
    UndefinedSource { title: String, name: String },
    #[error("no source offers {title} for this platform")]
    NotOffered { title: String },
    #[error("{runtime} has no source")]
    NoSource { runtime: String },
    #[error("{}", none_answers(title, errors))]
    NoSourceAnswers {
        runtime: String,
        title: String,
        /// Each that was asked, and why it gave nothing.
        errors: Vec<(String, Error)>,
    },
    #[error("{publisher:?} is not a publisher of {runtime}")]
    UnknownPublisher {
        publisher: String,
        runtime: String,
        known: Vec<String>,
    },

    // Installing.
    #[error(transparent)]
    Download(#[from] DownloadError),
    #[error("{}", refused_archive(archive, error))]
    Unpack { archive: String, error: UnpackError },
    #[error("system is the copy that is there already, and cannot be installed")]
    SystemInstall,
    #[error("{title} is now offered with a different digest")]
    OtherDigest {
        title: String,
        selector: String,
        before: String,
        now: String,
    },
    #[error("{title} has no {}", program.display())]
    NoProgram {
        title: String,
        /// The program, relative to the install.
        program: PathBuf,
        /// The names at the top of the install.
        holds: Vec<String>,
    },
    #[error("{title} does not start")]
    DoesNotStart {
        title: String,
        failure: Box<StartFailure>,
        /// The selector with which it can be kept all the same, where it was being installed.
        selector: Option<String>,
    },
    #[error("{title} needs glibc {needed} or newer, and this system has glibc {here}")]
    OlderLibc {
        title: String,
        needed: LibcVersion,
        here: LibcVersion,
    },
    #[error("{title} is not published as source")]
    NothingToBuild { title: String },
    /// A selector that names no line by its numbers.
    #[error("{selector:?} does not name a line by its numbers, such as 8 or 1.23")]
    NotALine { selector: String },
    /// The runtime that an install runs on is not here, or only in versions that it does not run on.
    #[error("{title} runs on {needs}, and there is none here")]
    NoBase {
        /// The runtime's title and the version.
        title: String,
        /// The runtime that is needed, and the versions of it.
        needs: String,
        /// The name of that runtime.
        runtime: String,
    },
    #[error("{title} cannot be built here: {}", needed(missing))]
    BuildNeeds {
        title: String,
        missing: Vec<Missing>,
        /// What installs it, where that is known.
        command: Option<String>,
    },
    #[error("{title} cannot be built for {place}: its own build does not take {bad:?} in a path")]
    BuildPlace {
        title: String,
        place: PathBuf,
        bad: char,
    },
    #[error("{file} does not hold {text:?}, which is to be replaced before it is built")]
    NothingToReplace { file: String, text: String },
    #[error("{0}")]
    BuildStep(Box<StepFailure>),
    #[error("{title} was built, and left nothing at {place}")]
    NothingBuilt {
        title: String,
        place: PathBuf,
        log: PathBuf,
    },
    #[error("{title} was built, and does not pass its check: {says}")]
    BuildCheck {
        title: String,
        /// What should work.
        says: String,
        /// The last lines of the log.
        last: Vec<String>,
        log: PathBuf,
    },
    #[error("{title} does not pass its check here: {says}")]
    PublishedCheck {
        title: String,
        /// What should work.
        says: String,
        /// The last lines that it wrote.
        said: Vec<String>,
        /// The command that installs the library that it misses, where that is known.
        command: Option<String>,
    },
    #[error("{title} says of itself that it is {answer:?}")]
    WrongProgram { title: String, answer: String },

    // The shelf.
    #[error(transparent)]
    Shelf(#[from] ShelfError),
    #[error("{title} is not on the shelf any more")]
    GoneMeanwhile { title: String },
    #[error("{title} stays")]
    InUse {
        title: String,
        protection: Protection,
        /// Whether it came to be used since the plan was made.
        since_planned: bool,
    },
    #[error("{selector} covers {} installs: {}", installs.len(), listed(installs, "and"))]
    CoversSeveral {
        selector: String,
        installs: Vec<String>,
    },
    #[error("{title} is {by}, and was not removed")]
    Needed {
        title: String,
        selector: String,
        by: Need,
    },
    #[error("nothing on the shelf is of the line {line:?}")]
    NoSuchLine { line: String },
    #[error("{title} has no line {line:?}")]
    UnknownLine {
        title: String,
        line: String,
        known: Vec<String>,
    },

    // Packages.
    #[error("the definition of {title} names no package tool")]
    NoPackageTool { title: String },
    #[error("{tool} of {install} {problem}")]
    PackageTool {
        tool: String,
        install: String,
        problem: ToolProblem,
        cause: String,
    },
    #[error("{} could not be installed", Count(*count, "package"))]
    PackagesFailed {
        count: usize,
        attempt: PackageAttempt,
    },
    #[error("{from} and {to} are different runtimes")]
    DifferentRuntimes { from: String, to: String },
    #[error("both selectors mean {selector}")]
    SameInstall { selector: String },

    // Restoring.
    #[error("nothing was removed that could be restored")]
    NothingRemoved,
    #[error("{selector} is not a version")]
    NotAVersion { selector: String },
    #[error("no {selector} was removed")]
    NeverRemoved { selector: String },
    #[error("{title} was adopted, and no source offers it")]
    WasAdopted { title: String, from: PathBuf },
    #[error("{title} is no longer offered by {source_name}")]
    NoLongerOffered {
        title: String,
        runtime: String,
        source_name: String,
        cause: Option<Box<Error>>,
    },

    // Adopting.
    #[error("{text:?} is not a version")]
    AdoptName { text: String },
    #[error("{publisher:?} cannot be a publisher, because a digit follows its '-'")]
    AdoptPublisher { publisher: String },
    #[error("{} is not a folder, and a link needs one", shown(path))]
    LinkToFile { path: PathBuf },
    #[error("{} holds no runtime that is known here", shown(path))]
    NoRuntimeIn {
        path: PathBuf,
        programs: Vec<String>,
    },
    #[error("{} holds several runtimes: {}", shown(path), names.join(", "))]
    SeveralIn { path: PathBuf, names: Vec<String> },
    #[error("{} answers {answer:?}, which says no version of {title}", shown(path))]
    NoVersionIn {
        path: PathBuf,
        answer: String,
        title: String,
    },
    #[error("{title} {publisher}/{version} is already installed")]
    AlreadyAdopted {
        title: String,
        publisher: String,
        version: Version,
    },

    // Mirrors.
    #[error(transparent)]
    Mirror(#[from] MirrorError),
    #[error("system is the copy on this machine, and nobody publishes it")]
    SystemMirror,
    #[error("the archives of {source_name} are laid out otherwise than those in {place}")]
    OtherArchiveLayout {
        source_name: String,
        place: String,
        selectors: Vec<String>,
    },
    #[error("{title} is not on the shelf, so that there is no build of it to share")]
    NotBuilt { title: String, selector: String },
    #[error("{title} was not built here, so that there is no build of it to share")]
    NotBuiltHere { title: String, selector: String },
    #[error("{title} was built for its place on this shelf, and works nowhere else")]
    BuiltForItsPlace { title: String },
    #[error("{title} is not as it was built any more: {path} changed")]
    ChangedSinceBuilt {
        title: String,
        path: PathBuf,
        selector: String,
    },
    #[error("{error}")]
    OnPlatform { platform: String, error: Box<Error> },

    // Labels, defaults, requirements.
    #[error("there is no label {name:?}")]
    UnknownLabel { name: String, near: Vec<String> },
    #[error("the label {name:?} would lead back to itself")]
    LabelCircle { name: String },
    #[error("{name:?} is not a name")]
    NotAName { name: String },
    #[error("{name:?} is {by}, and a label would hide it")]
    NameTaken { name: String, by: Taken },
    #[error("{}, line {}: {}", shown(file), error.line, error.problem)]
    Requirement {
        file: PathBuf,
        error: RequirementError,
        /// The selector that writes the file again: `None` if it holds more than a selector.
        rewrite: Option<String>,
    },
    #[error("no project here requires a version")]
    NoRequirement {
        /// The names of the files that were looked for.
        files: Vec<String>,
        examples: Vec<ExampleRequirement>,
    },
    #[error("{title} may not be installed: {what}")]
    Forbidden {
        title: String,
        what: Forbidden,
        /// Why there is such a rule.
        why: Option<String>,
        /// The file that has the rule.
        file: PathBuf,
        line: usize,
    },
    #[error("{} does not count: {distrust}", shown(file))]
    DistrustedFile { file: PathBuf, distrust: Distrust },
    #[error("{title} is locked, and is not what is required now")]
    StaleLock {
        lock: PathBuf,
        title: String,
        /// The file that requires something else.
        file: PathBuf,
        required: String,
    },
    #[error("{title} is required, and not locked")]
    NotLocked {
        title: String,
        /// The file that requires it.
        file: PathBuf,
        required: String,
    },
    #[error("nothing here requires {name}, so there is nothing to lock")]
    NotRequired { name: String },
    #[error("system is the copy on this machine, and another one elsewhere: it cannot be locked")]
    SystemLock { file: PathBuf },
    #[error("{title} is locked without an archive for {platform}")]
    LockedElsewhere {
        title: String,
        platform: String,
        runtime: String,
    },
    #[error("{title} is locked with a digest that no source states")]
    LockedOtherwise {
        title: String,
        runtime: String,
        /// The digests that are locked for this platform.
        locked: Vec<String>,
        /// The digests that sources state; empty if they have no such archive.
        stated: Vec<String>,
    },
    #[error("{title} is locked, and no source has it")]
    LockedUnstated {
        title: String,
        runtime: String,
        /// The sources of its publisher.
        sources: Vec<String>,
    },
    #[error("{title} is on the shelf, and is not what is locked: {difference}")]
    LockedDiffers {
        title: String,
        /// The selector of the install, as commands need it.
        selector: String,
        difference: LockDifference,
    },
    #[error(
        "{title} is locked with the package {package}, which neither its definition nor its catalog has"
    )]
    UndeclaredCompanion {
        title: String,
        package: String,
        runtime: String,
    },
    #[error(
        "{title} is locked with the package {package}, which no setting here has every install get"
    )]
    UndeclaredPackage {
        title: String,
        package: String,
        runtime: String,
    },
    #[error("two sources of {title} state different digests for {file}")]
    SourcesContradict {
        title: String,
        file: String,
        /// Each source, and what it states.
        stated: [(String, String); 2],
    },
    #[error("a rule is about {name}, and no runtime has that name")]
    UnknownRuntimeInRule {
        name: String,
        near: Vec<String>,
        file: PathBuf,
        line: usize,
    },
    #[error("{title} is locked with other patches than those of its definition")]
    OtherPatches { title: String, runtime: String },
    #[error("the definition of {title} names no plain file in which to require a version")]
    NoPlainFile { title: String, selector: String },
    #[error("{file:?} is not a file in which to require a version of {title}")]
    NoSuchFile {
        title: String,
        file: String,
        /// The files there are.
        files: Vec<String>,
    },
    #[error(
        "{}, line {line}, requires a version already, and is only written to when it is named",
        shown(file)
    )]
    RequirementInManifest {
        file: PathBuf,
        line: usize,
        /// What was to be required.
        selector: String,
    },
    #[error("{} is not understood: {problem}", shown(file))]
    Manifest { file: PathBuf, problem: String },
    #[error(
        "{}, line {line}, says what is required here, and is not a plain file of this folder",
        shown(file)
    )]
    RequirementElsewhere {
        /// The file that says what is required here.
        file: PathBuf,
        /// Its line.
        line: usize,
    },
    #[error("{selector} means something else in every shell, and cannot be required")]
    PersonalSelector { selector: String },

    // Shells.
    #[error("this shell is not connected to the shelf, so nothing here can change its version")]
    NotConnected {
        /// The line that connects it, where its integration is written already.
        source_line: Option<String>,
    },
    #[error(transparent)]
    UnknownShell(#[from] UnknownShell),
    #[error("{}", own_shell(shell))]
    OwnShell { shell: String },
    #[error("HOME is not set, so there is no start-up file")]
    NoHome,
    #[error("{data} holds a colon, which no folder on PATH can")]
    ColonInData { data: PathBuf },
    #[error("{data} holds a character that the environment of a session cannot")]
    SpecialInData { data: PathBuf },
    #[error("no systemd of your session runs here, which alone reads environment.d")]
    NoSessionManager,
    #[error("the shell does not take its changes")]
    HandOver { source: io::Error },
    #[error("the listener failed")]
    Listener {
        #[source]
        source: io::Error,
    },
}

/// How an install differs from what is locked.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LockDifference {
    /// It was adopted.
    #[error("it was adopted")]
    Adopted,
    /// Its archive had another digest.
    #[error("its archive was {0}")]
    Digest(String),
    /// No source has stated the digest of its archive.
    #[error("no source states its archive, {0}")]
    Unstated(String),
    /// Its source got other patches.
    #[error("its source got other patches")]
    Patches,
    /// It came with another version of a package, or the lock does not have the package.
    #[error("it has another {0}")]
    Companion(String),
    /// A file was changed since.
    #[error("{0} was changed")]
    Changed(PathBuf),
}

/// A requirement that could be written here.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExampleRequirement {
    /// The title of the runtime; `None` for the main one, if nothing here tells which one is meant.
    pub title: Option<String>,
    /// The selector, as `vshelf require` takes it.
    pub selector: String,
}

impl ExampleRequirement {
    /// What requiring it is for, in front of the command.
    pub fn purpose(&self) -> String {
        match &self.title {
            Some(title) => format!("For example, to require the stable release of {title}"),
            None => "For example, to require the stable release".to_owned(),
        }
    }
}

/// What is wrong with a definition.
#[derive(Debug)]
pub enum DefinitionProblem {
    /// Its text.
    Text(DefinitionError, TextLine),
    /// It has this name, and its file another.
    OtherName(String),
    /// It is not TOML.
    Syntax(String),
}

impl std::fmt::Display for DefinitionProblem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            DefinitionProblem::Text(DefinitionError::Syntax(error), _) => {
                f.write_str(error.message())
            }
            DefinitionProblem::Text(error, _) => error.fmt(f),
            DefinitionProblem::OtherName(name) => write!(f, "it is named {name:?}"),
            DefinitionProblem::Syntax(problem) => f.write_str(problem),
        }
    }
}

/// Why a program does not start.
#[derive(Debug)]
pub struct StartFailure {
    /// What happened.
    pub error: ProbeError,
    /// What it needs and this system does not have, where that is known.
    pub missing: Option<vshelf_core::loader::MissingDependency>,
    /// The command that installs what is missing, where its package is known.
    pub package_command: Option<String>,
    /// The C library of this system, where a newer one is missing.
    pub libc: Option<String>,
    /// Whether macOS holds the program back, because something downloaded it.
    pub is_quarantined: bool,
}

/// Packages that a tool did not install.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PackageAttempt {
    /// What commands need in front of the selector.
    pub prefix: String,
    /// The selector of the install.
    pub selector: String,
    /// The package tool.
    pub tool: String,
    /// The arguments of each call that would install them.
    pub calls: Vec<Vec<String>>,
}

/// A failure of a package tool.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ToolProblem {
    /// It cannot be started.
    #[error("cannot be started")]
    Start,
    /// It does not list its packages.
    #[error("does not list its packages")]
    List,
}

/// Who needs an install that is to be removed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Need {
    /// It is the default.
    #[error("the default")]
    Default,
    /// The project here requires it.
    #[error("what the project here requires")]
    Requirement,
    /// It is active in the calling shell.
    #[error("active in this shell")]
    ThisShell,
}

/// What has a name already.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Taken {
    /// A word of selectors.
    #[error("a keyword")]
    Keyword,
    /// A version.
    #[error("a version")]
    Version,
    /// A channel.
    #[error("a channel")]
    Channel,
    /// A code name.
    #[error("a code name")]
    CodeName,
}

/// A table of `shelf.toml` that is about sources.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SourceTable {
    /// Other addresses.
    #[error("addresses")]
    Addresses,
    /// Keys of signed catalogs.
    #[error("keys")]
    Keys,
}

impl SourceTable {
    /// Which sources the table can name.
    fn whose(self) -> &'static str {
        match self {
            SourceTable::Addresses => "with an address",
            SourceTable::Keys => "whose catalog can be signed",
        }
    }
}

fn undefined(error: &Error) -> String {
    match error {
        Error::UnknownRuntime { name, .. } => {
            format!("the definition of {name} was removed, so nothing new of it can be installed")
        }
        other => other.to_string(),
    }
}

fn place_of(definition: Option<&Path>) -> String {
    match definition {
        Some(file) => file.display().to_string(),
        None => "the built-in definition".to_owned(),
    }
}

fn refused_archive(archive: &str, error: &UnpackError) -> String {
    match error.disk_error() {
        Some(_) => error.to_string(),
        None => format!("{archive} was refused: {error}"),
    }
}

fn own_shell(shell: &str) -> String {
    match shell {
        "" => "SHELL is not set, and what called is not a shell that can be connected".to_owned(),
        shell => format!("SHELL is {shell:?}, which is not a shell that can be connected"),
    }
}

/// A failure of a file.
pub fn file_error(path: &Path, action: FileAction) -> impl FnOnce(io::Error) -> Error {
    let path = path.to_owned();
    move |source| Error::File {
        path,
        action,
        source,
    }
}

impl From<TransportError> for Error {
    fn from(error: TransportError) -> Error {
        Error::Source(error.into())
    }
}

/// The names of the shells that can be connected.
pub fn shell_names() -> Vec<&'static str> {
    vshelf_shell::Dialect::ALL
        .iter()
        .map(|dialect| dialect.name())
        .collect()
}

/// The message of `NoSourceAnswers`.
fn none_answers(title: &str, errors: &[(String, Error)]) -> String {
    match errors {
        [(source, _)] => format!("{source}, the source of {title}, does not answer"),
        _ => format!("no source of {title} answers"),
    }
}
