//! What went wrong, in words: what, which value or path, why, and what to type next.

use std::error::Error;
use std::io;
use std::path::Path;

use vshelf_core::near;
use vshelf_core::resolve::ResolveError;
use vshelf_core::selector::SelectorError;
use vshelf_shelf::ShelfError;
use vshelf_shelf::folders::NoFolder;
use vshelf_shelf::unpack::UnpackError;
use vshelf_shell::quote;
use vshelf_sources::registry::RegistryError;
use vshelf_sources::{DownloadError, LoadError, SourceError, TransportError};
use vshelf_view::words::listed;

pub use crate::exit::Kind;

/// A failure on its way to the person.
#[derive(Debug)]
pub struct Failure {
    /// Its class.
    pub kind: Kind,
    /// What went wrong, as a sentence without its period.
    pub message: String,
    /// Why, outermost first.
    pub causes: Vec<String>,
    /// The ways out.
    pub hints: Vec<Hint>,
}

/// A way out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Hint {
    /// Something to know.
    Say(String),
    /// Something to type.
    Run {
        /// What it does.
        why: String,
        /// The command.
        command: String,
    },
}

/// What a command comes to.
pub type Outcome = Result<(), Failure>;

impl Failure {
    /// A failure with nothing but its message.
    pub fn new(kind: Kind, message: impl Into<String>) -> Failure {
        Failure {
            kind,
            message: message.into(),
            causes: Vec::new(),
            hints: Vec::new(),
        }
    }

    /// A failure that `error` describes, with the errors behind it as causes.
    pub fn from_error(kind: Kind, error: &dyn Error) -> Failure {
        let mut failure = Failure::new(kind, error.to_string());
        let mut source = error.source();
        while let Some(cause) = source {
            failure.causes.push(cause.to_string());
            source = cause.source();
        }
        failure
    }

    /// Adds something to know.
    pub fn say(mut self, text: impl Into<String>) -> Failure {
        self.hints.push(Hint::Say(text.into()));
        self
    }

    /// Adds something to type.
    pub fn run(mut self, why: impl Into<String>, command: impl Into<String>) -> Failure {
        self.hints.push(Hint::Run {
            why: why.into(),
            command: command.into(),
        });
        self
    }
}

impl From<SelectorError> for Failure {
    fn from(error: SelectorError) -> Failure {
        Failure::from_error(Kind::Usage, &error)
            .say("A selector is a version (8.3.1), the beginning of one (8), a range (\">=6 <8\"), a word (lts, latest, stable, preview), a code name or a label.")
    }
}

impl From<NoFolder> for Failure {
    fn from(error: NoFolder) -> Failure {
        Failure::from_error(Kind::Disk, &error)
    }
}

impl From<ShelfError> for Failure {
    fn from(error: ShelfError) -> Failure {
        use vshelf_shelf::state::StateError;
        let failure = Failure::from_error(Kind::Disk, &error);
        match &error {
            ShelfError::File { source, .. } => failure.about_io(source),
            ShelfError::State(StateError::Damaged { path, .. }) => failure
                .say("It holds the default and the labels; the installs are not touched by moving it away.")
                .run("To begin it anew", format!("mv {0} {0}.damaged", quoted(path))),
            ShelfError::State(StateError::Newer { .. }) => failure.say("Use the newer vshelf that wrote it."),
            ShelfError::State(StateError::File { source, .. }) => failure.about_io(source),
            ShelfError::Lock(_) => failure,
        }
    }
}

/// A file that cannot be read or written, as a failure.
pub fn file_failure(path: &Path, action: &'static str, source: io::Error) -> Failure {
    ShelfError::File {
        path: path.to_owned(),
        action,
        source,
    }
    .into()
}

/// A path as it can be pasted into a shell, with `~` for the home folder.
pub fn quoted(path: &Path) -> String {
    const PLAIN: &str = "/._-+";
    match below_home(path) {
        Some(rest) if quote::is_bare(&rest, PLAIN) => format!("~/{rest}"),
        _ => quote::posix_where_needed(&path.to_string_lossy(), PLAIN),
    }
}

/// A path as people read it, with `~` for the home folder.
pub fn shown(path: &Path) -> String {
    match below_home(path) {
        Some(rest) => format!("~/{rest}"),
        None => path.display().to_string(),
    }
}

fn below_home(path: &Path) -> Option<String> {
    let home = std::env::home_dir().filter(|home| home.is_absolute())?;
    Some(path.strip_prefix(home).ok()?.to_string_lossy().into_owned())
}

impl Failure {
    /// Adds what helps against a full disk or missing rights.
    pub fn about_io(self, error: &io::Error) -> Failure {
        match error.kind() {
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
                self.say("The disk is full; nothing was changed. Make room and try again.")
            }
            io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => self.say(
                "The folder cannot be written by you; VSHELF_DATA, VSHELF_CACHE and VSHELF_CONFIG move the shelf elsewhere.",
            ),
            _ => self,
        }
    }
}

impl From<TransportError> for Failure {
    fn from(error: TransportError) -> Failure {
        let failure = Failure::from_error(Kind::Source, &error);
        match &error {
            TransportError::Offline(_) => failure.say("Leave --offline out to ask for it."),
            TransportError::Status { status: 404, .. } => failure
                .say("It may have moved; the source's address stands in the runtime's definition."),
            TransportError::Status {
                status: 401 | 403, ..
            } => failure
                .say("The server has it, and does not give it to everybody; ask whoever runs it."),
            TransportError::Unreachable { .. } | TransportError::BrokenOff { .. } => failure.say(
                "Check the connection and the proxy settings, then give the same command again.",
            ),
            TransportError::Status { .. } => {
                failure.say("The server has a problem; try again later.")
            }
            _ => failure,
        }
    }
}

impl From<SourceError> for Failure {
    fn from(error: SourceError) -> Failure {
        match error {
            SourceError::Transport(error) => error.into(),
            SourceError::Registry(error) => {
                let hint = match error {
                    RegistryError::PythonNotConfigured => {
                        "Set PIP_INDEX_URL, or index-url in pip.conf, to your index's address."
                    }
                    _ => "Set npm_config_registry, or registry= in ~/.npmrc, to your registry's address.",
                };
                Failure::from_error(Kind::Source, &error).say(hint)
            }
            SourceError::Signature { .. } => Failure::from_error(Kind::Verification, &error)
                .say("Nothing of it was kept. If the publisher changed the key, change it in the definition."),
            SourceError::Older { .. } => Failure::from_error(Kind::Verification, &error)
                .say("Nothing of it was kept: an old catalog may hide what was withdrawn since."),
            other => Failure::from_error(Kind::Source, &other),
        }
    }
}

impl From<LoadError> for Failure {
    fn from(error: LoadError) -> Failure {
        match error {
            LoadError::Source(error) => error.into(),
            LoadError::Write { ref source, .. } => {
                Failure::from_error(Kind::Disk, &error).about_io(source)
            }
            LoadError::Damaged { ref path } => Failure::from_error(Kind::Disk, &error)
                .run("To fetch it anew", format!("rm {}", quoted(path))),
        }
    }
}

impl From<DownloadError> for Failure {
    fn from(error: DownloadError) -> Failure {
        match error {
            DownloadError::Transport(error) => error.into(),
            DownloadError::Digest {
                ref expected,
                ref found,
                ..
            } => Failure::from_error(Kind::Verification, &error)
                .say(format!("Promised: {expected}"))
                .say(format!("Found:    {found}"))
                .say("Nothing of it was kept. Try again; if it stays so, tell the publisher."),
            DownloadError::Size { .. } => Failure::from_error(Kind::Verification, &error)
                .say("Nothing of it was kept. Try again; if it stays so, tell the publisher."),
            DownloadError::Partial { ref source, .. } => {
                Failure::from_error(Kind::Disk, &error).about_io(source)
            }
            DownloadError::Sink(_) => Failure::from_error(Kind::Other, &error),
        }
    }
}

impl Failure {
    /// An archive at `address` that was not unpacked.
    pub fn unpacking(address: &str, error: &UnpackError) -> Failure {
        let failure = Failure::from_error(Kind::Verification, error);
        match error {
            UnpackError::Write { source, .. } => Failure {
                kind: Kind::Disk,
                ..failure
            }
            .about_io(source),
            _ => Failure {
                message: format!("{address} was refused: {error}"),
                ..failure
            }
            .say("Nothing of it was kept."),
        }
    }

    /// A selector that stands for nothing; `prefix` is the runtime in front of selectors, where
    /// commands need one.
    pub fn resolving(error: &ResolveError, prefix: &str) -> Failure {
        let failure = Failure::from_error(Kind::NoMatch, error);
        let catalog = |of: &str| format!("vshelf catalog {prefix}{of}");
        match error {
            ResolveError::UnknownName { near, .. } => failure.meant(near).run(
                "To see the lines, code names and channels",
                format!("vshelf catalog {prefix}").trim_end().to_owned(),
            ),
            ResolveError::UnknownPublisher {
                publisher, known, ..
            } => {
                let near = near::words(publisher, known.iter().map(String::as_str));
                failure
                    .meant(&near)
                    .say(format!("The publishers are {}.", listed(known, "and")))
            }
            ResolveError::NotPublished { near, .. } => {
                let line = near
                    .first()
                    .map(|v| v.numbers()[0].to_string())
                    .unwrap_or_default();
                failure.meant(near).run(
                    "To list what there is",
                    catalog(&line).trim_end().to_owned(),
                )
            }
            ResolveError::OtherPublisher {
                version, others, ..
            } => {
                let other = others.first().map_or("", String::as_str);
                failure
                    .say(format!("It is published by {}.", listed(others, "and")))
                    .run(
                        "To take that one",
                        format!("vshelf install {prefix}{other}/{version}"),
                    )
            }
            ResolveError::OtherPlatform {
                version,
                platforms,
                elsewhere,
                ..
            } => {
                let failure = failure.say(format!("It is built for {}.", listed(platforms, "and")));
                match elsewhere {
                    Some(publisher) => failure.run(
                        format!("{publisher} builds it for this platform"),
                        format!("vshelf install {prefix}{publisher}/{version}"),
                    ),
                    None => failure.run(
                        "To see the versions around it",
                        catalog(&version.numbers()[0].to_string()),
                    ),
                }
            }
            ResolveError::Withdrawn {
                version, instead, ..
            } => {
                let failure = match instead {
                    Some(instead) => failure.run(
                        "The newest of its line that stands",
                        format!("vshelf install {prefix}{instead}"),
                    ),
                    None => failure,
                };
                failure.run("To see its card", catalog(version.as_str()))
            }
            ResolveError::NotOnShelf {
                published, near, ..
            } => {
                let failure = match published {
                    Some((publisher, version)) => {
                        let publisher = publisher
                            .as_ref()
                            .map(|p| format!("{p}/"))
                            .unwrap_or_default();
                        failure.run(
                            format!("{version} is published; to put it there"),
                            format!("vshelf install {prefix}{publisher}{version}"),
                        )
                    }
                    None => failure.meant(near),
                };
                failure.run("To see what is there", "vshelf list")
            }
            ResolveError::NoLtsLine { .. } => failure.run(
                "To see the lines and their phases",
                format!("vshelf catalog {prefix}").trim_end().to_owned(),
            ),
            ResolveError::NoDefault => {
                failure.run("To set one", format!("vshelf default {prefix}SELECTOR"))
            }
            ResolveError::NoPrevious => failure.run("To see what is there", "vshelf list"),
            ResolveError::BadSelector { .. } | ResolveError::Circle(_) => failure,
        }
    }

    /// Adds what was probably meant.
    pub fn meant<T: std::fmt::Display>(self, near: &[T]) -> Failure {
        match near {
            [] => self,
            _ => self.say(format!("Did you mean {}?", listed(near, "or"))),
        }
    }
}

/// The line that a span of a text begins on, with its number.
pub fn place_in(text: &str, span: Option<std::ops::Range<usize>>) -> String {
    let start = span.map_or(0, |span| span.start.min(text.len()));
    let number = text[..start].matches('\n').count() + 1;
    format!(
        "Line {number}: {}",
        text.lines().nth(number - 1).unwrap_or("")
    )
}
