//! The one table that gives every error of a use case its words, its ways out and its exit code.

use std::io;

use vshelf_app::Error;
use vshelf_app::error::{DefinitionProblem, Need, PackageAttempt, Taken, TextLine, shell_names};
use vshelf_core::near;
use vshelf_core::resolve::ResolveError;
use vshelf_shelf::ShelfError;
use vshelf_shelf::layout::LayoutError;
use vshelf_shelf::state::StateError;
use vshelf_shelf::unpack::UnpackError;
use vshelf_shell::quote;
use vshelf_sources::registries::RegistryError;
use vshelf_sources::{Address, DownloadError, LoadError, MirrorError, SourceError, TransportError};
use vshelf_view::words::{Count, listed, printable};

use super::building;
use super::holders;
use super::locking;
use super::paths::{edit, quoted, shown};
use super::starting;
use crate::failure::Failure;

impl From<Error> for Failure {
    fn from(error: Error) -> Failure {
        Failure::from_told(&error)
    }
}

impl Failure {
    /// An error that a listener was told of, in words.
    pub fn from_told(error: &Error) -> Failure {
        let failure = plain(error);
        let with = |message: String| Failure {
            message,
            ..plain(error)
        };
        match error {
            Error::File { source, .. } => about_io(failure, source),
            Error::NotUtf8 { .. } => failure.say(
                "Shells and settings hold paths as text; VSHELF_DATA, VSHELF_CACHE and VSHELF_CONFIG move the shelf elsewhere.",
            ),
            Error::Today { .. } => failure.say("A date is written like 2026-11-23."),
            Error::Settings {
                file,
                problem,
                line,
            } => {
                let failure = with(format!("{} is not understood: {problem}", file.display()));
                with_line(failure, line.as_ref()).run("To edit it", edit(file))
            }
            Error::ChangedSource { file, table, name } => with(format!(
                "{} has {name:?} in [{table}], and there is no such source {}",
                shown(file),
                match *table {
                    "keys" => "whose catalog can be signed",
                    _ => "with an address",
                }
            ))
            .run("To edit it", edit(file)),
            Error::SeveralRuntimes { names } => Failure {
                runtimes: names.clone(),
                ..with(format!(
                    "no runtime is named, and there are several: {}",
                    listed(names, "and")
                ))
            },
            Error::UnknownRuntime { near, .. } => {
                meant(failure, near.as_slice()).run("To see the runtimes", "vshelf runtimes")
            }
            Error::Undefined(error) => {
                let failure = match &**error {
                    Error::UnknownRuntime { name, .. } => with(format!(
                        "the definition of {name} was removed, so nothing new of it can be installed"
                    ))
                    .run("To define it again", "vshelf runtimes --add FILE"),
                    other => Failure::from_told(other),
                };
                failure.say("What is on the shelf of it can be listed, used and removed.")
            }
            Error::Definition { file, problem, .. } => {
                let place = match file {
                    Some(file) => file.display().to_string(),
                    None => "the built-in definition".to_owned(),
                };
                let failure = with(format!("{place} is not a definition of a runtime: {problem}"));
                let failure = match problem {
                    DefinitionProblem::Text(_, line) => with_line(failure, Some(line)),
                    _ => failure,
                };
                match file {
                    Some(file) => failure.run("To edit it", edit(file)),
                    None => failure,
                }
            }
            Error::FetchedDefinition {
                problem: DefinitionProblem::Text(_, line),
                ..
            } => with_line(failure, Some(line)),
            Error::NoOwnDefinition { .. } => failure.run("To see the runtimes", "vshelf runtimes"),
            Error::Selector(_) => failure.say("A selector is a version (8.3.1), the beginning of one (8), a range (\">=6 <8\"), a word (lts, latest, stable, preview), a code name or a label."),
            Error::Resolve { prefix, error } => resolving(failure, error, prefix),
            Error::NothingActive { .. } => failure.run("To see why", "vshelf status"),
            Error::Source(error) | Error::Load(LoadError::Source(error)) => {
                of_source(failure, error)
            }
            Error::Load(LoadError::Write { source, .. }) => about_io(failure, source),
            Error::Load(LoadError::Damaged(damaged)) => {
                failure.run("To fetch it again", format!("rm {}", quoted(&damaged.path)))
            }
            Error::CatalogChanged => failure.say("Run the same command again."),
            Error::UnknownPublisher {
                publisher, known, ..
            } => {
                let near = near::words(publisher, known.iter().map(String::as_str));
                meant(failure, &near).say(format!("The publishers are {}.", listed(known, "and")))
            }
            Error::Download(error) | Error::Mirror(MirrorError::Download(error)) => {
                of_download(failure, error)
            }
            Error::Unpack { archive, source } => match source {
                UnpackError::Write { source: io, .. } => {
                    let failure = Failure {
                        causes: vec![io.to_string()],
                        ..with(source.to_string())
                    };
                    about_io(failure, io)
                }
                _ => {
                    let causes = failure.causes.get(1..).unwrap_or_default().to_vec();
                    Failure {
                        causes,
                        ..with(format!("{archive} was refused: {source}"))
                    }
                    .say("Nothing of it was kept.")
                }
            },
            Error::SystemInstall => {
                failure.run("To put it on the shelf", "vshelf adopt system")
            }
            Error::OtherDigest {
                selector,
                before,
                now,
                ..
            } => failure.because(format!("it was {before}, and is {now}")).run(
                "To install what is offered now anyway",
                format!("vshelf install {selector}"),
            ),
            Error::BuildNeeds {
                missing, command, ..
            } => building::needs(failure, missing, command.as_deref()),
            Error::BuildStep(failed) => building::step(failure, failed),
            Error::BuildCheck { last, log, .. } => building::last_lines(failure, last, log),
            Error::PublishedCheck { said, command, .. } => {
                let failure = building::quote(failure, said).say("It was not put on the shelf.");
                match command {
                    Some(command) => failure.run("To install what it misses", command),
                    None => failure,
                }
            }
            Error::NothingBuilt { log, .. } => building::last_lines(failure, &[], log),
            Error::DoesNotStart {
                title,
                failure: start,
                selector,
            } => {
                let failure = starting::explain(failure, start);
                match selector {
                    Some(selector) => failure.say(format!("{title} was not put on the shelf.")).run(
                        "To put it on the shelf anyway",
                        format!("vshelf install --keep-broken {selector}"),
                    ),
                    None => failure,
                }
            }
            Error::WrongProgram { title, .. } => {
                failure.say(format!("{title} was not put on the shelf."))
            }
            Error::Shelf(error) => of_shelf(failure, error),
            Error::InUse {
                title,
                protection,
                since_planned,
            } => {
                let why = holders::protection(protection);
                match since_planned {
                    true => with(format!("{title} stays: it is kept now ({why})")),
                    false => with(format!("{title} stays: {why}"))
                        .say("It can be removed when that process has ended."),
                }
            }
            Error::CoversSeveral { selector, installs } => with(format!(
                "{selector} covers {} installs: {}",
                installs.len(),
                listed(installs, "and")
            ))
            .say("Nothing was removed. Name one of them, or")
            .run(
                "to remove them all",
                format!("vshelf remove {selector} --every"),
            ),
            Error::Needed {
                title,
                selector,
                by,
            } => {
                let used = match by {
                    Need::Default => "the default",
                    Need::Requirement => "what the project here requires",
                    Need::ThisShell => "active in this shell",
                };
                with(format!("{title} is {used}, and was not removed"))
                    .run(
                        "To remove it anyway",
                        format!("vshelf remove {selector} --even-if-used"),
                    )
            }
            Error::NotAnInstall {
                class: vshelf_app::Class::NoMatch,
                ..
            }
            | Error::NoSuchLine { .. } => failure.run("To see what is", "vshelf list"),
            Error::UnknownLine { known, .. } => {
                failure.say(format!("Its lines: {}.", listed(known, "and")))
            }
            Error::BuiltIn { place, .. } => failure.run(
                "To replace it",
                format!(
                    "vshelf runtimes --add {} --replace",
                    quote::posix_where_needed(place, "@./_+=-:")
                ),
            ),
            Error::NoSourceAnswers { errors, .. } => {
                let told = errors.iter().map(|(source, error)| {
                    format!("{source}: {}", Failure::from_told(error).sentence())
                });
                told.fold(failure, |failure, told| {
                    failure.because(told.trim_end_matches('.'))
                })
            }
            Error::Untold { .. } => failure.run("To see what can be done", "vshelf checkup"),
            Error::PackagesUnknown {
                selector, cause, ..
            } => {
                let cause = Failure::from_told(cause).sentence();
                failure.because(cause.trim_end_matches('.')).run(
                    "To remove it with whatever it has",
                    format!("vshelf remove {selector} --even-if-used"),
                )
            }
            Error::NoPackageTool { .. } => {
                failure.run("To see the definition", "vshelf runtimes")
            }
            Error::PackageTool { cause, .. } => failure.because(cause),
            Error::PackagesFailed { count, attempt } => {
                let failure = with(format!("{} could not be installed", Count(*count, "package")));
                let commands = attempt_commands(attempt).into_iter();
                commands.fold(failure, |failure, command| {
                    failure.run("To try again", command)
                })
            }
            Error::DifferentRuntimes { .. } => {
                failure.say("Packages of one are none of the other.")
            }
            Error::NothingRemoved => failure.run("To see what was done", "vshelf history"),
            Error::NotAVersion { .. } => failure
                .say("What was removed is named by its version, such as 6.20.1.")
                .run("To see what was removed", "vshelf history"),
            Error::NeverRemoved { .. } => {
                failure.run("To see what was removed", "vshelf history")
            }
            Error::WasAdopted { from, .. } => failure.run(
                "To adopt it again, where it still is",
                format!("vshelf adopt {}", quoted(from)),
            ),
            Error::NoLongerOffered { runtime, cause, .. } => {
                let failure = match cause {
                    Some(cause) => failure.because(plain(cause).message),
                    None => failure,
                };
                failure.run("To see what is", format!("vshelf catalog {runtime}"))
            }
            Error::AdoptPublisher { .. } => failure.say("Choose another name for it with --as."),
            Error::AdoptName { text } => with(format!("--as is {text:?}, which is not a version"))
                .say("A version is written like 8.3.1."),
            Error::LinkToFile { path } => {
                with(format!("{} is not a folder, and --link needs one", shown(path)))
                    .say("Without --link an archive is unpacked.")
            }
            Error::NoRuntimeIn { path, programs } => {
                with(format!("{} holds no runtime that is known here", shown(path))).say(format!(
                    "Looked for {}, at the top and three folders down.",
                    programs.join(", ")
                ))
            }
            Error::SeveralIn { path, names } => with(format!(
                "{} holds several runtimes: {}",
                shown(path),
                names.join(", ")
            ))
            .say(format!(
                "Say which is meant: --as {}@VERSION",
                names[0]
            )),
            Error::NoVersionIn {
                path,
                answer,
                title,
            } => with(format!(
                "{} answers {answer:?}, which says no version of {title}",
                shown(path)
            ))
            .say("To name the version yourself, add --as VERSION."),
            Error::AlreadyAdopted { .. } => failure
                .say("To adopt this one beside it, add --as with another version or publisher."),
            Error::Mirror(MirrorError::File { source, .. }) => about_io(failure, source),
            Error::Mirror(MirrorError::Other { .. }) => {
                failure.say("Choose another place, or move what is there away and start over.")
            }
            Error::Mirror(MirrorError::Source(error)) => of_source(failure, error),
            Error::Mirror(MirrorError::Registry(error)) => of_transport(failure, error),
            Error::Mirror(MirrorError::NotKept { .. } | MirrorError::Busy { .. }) => {
                failure.say("Run the same command again: what is there is not sent again.")
            }
            Error::Mirror(MirrorError::Unsigned { .. }) => {
                failure.say("Clients that expect it would refuse the new one: add --sign-key FILE.")
            }
            Error::Mirror(MirrorError::Key { .. }) => failure,
            Error::OtherArchiveLayout { selectors, .. } => failure.run(
                "To write to another place",
                format!("vshelf mirror {} --to OTHER_FOLDER", selectors.join(" ")),
            ),
            Error::NotBuilt { selector, .. } => {
                failure.run("To build it", format!("vshelf install --build {selector}"))
            }
            Error::NotBuiltHere { selector, .. } => failure.run(
                "To build it here",
                format!("vshelf install --build --again {selector}"),
            ),
            Error::BuiltForItsPlace { .. } => failure.say(
                "Its definition says prefix = \"final\". Others can build it from its source, which is mirrored without --builds.",
            ),
            Error::ChangedSinceBuilt { selector, .. } => failure.run(
                "To build it again",
                format!("vshelf install --build --again {selector}"),
            ),
            Error::UnknownLabel { near, .. } => {
                meant(failure, near).run("To see the labels", "vshelf label")
            }
            Error::NotAName { .. } => failure
                .say("A label has letters, digits, '.', '_' and '-', and begins with a letter."),
            Error::NameTaken { name, by } => {
                let by = match by {
                    Taken::Keyword => "a word of its own",
                    Taken::Version => "a version",
                    Taken::Channel => "a channel",
                    Taken::CodeName => "a code name",
                };
                with(format!("{name:?} is {by}, and a label would hide it"))
                    .say("Choose another name.")
            }
            Error::Requirement { file, error } => {
                let place = format!("{}, line {}", shown(file), error.line);
                locking::unreadable(with(format!("{place}: {}", error.problem)), &error.problem)
            }
            Error::SourcesContradict { stated, .. } => {
                let [one, other] = stated;
                failure
                    .say(format!("{} states {}.", one.0, one.1))
                    .say(format!("{} states {}.", other.0, other.1))
                    .say("Nothing was installed: one of them is not what the publisher released.")
            }
            Error::UnknownRuntimeInRule {
                near, file, line, ..
            } => {
                let failure = failure.say(format!("The rule is {}, line {line}.", shown(file)));
                let failure = near.iter().fold(failure, |failure, name| {
                    failure.say(format!("Did you mean {name}?"))
                });
                failure.run("To see the names of runtimes", "vshelf runtimes")
            }
            Error::Forbidden {
                why, file, line, ..
            } => {
                let failure = why.iter().fold(failure, |failure, why| {
                    failure.say(format!("Why: {}.", printable(why.trim_end_matches('.'))))
                });
                failure.say(format!("The rule is {}, line {line}.", shown(file)))
            }
            Error::DistrustedFile { file, distrust } => locking::explain(
                with(format!("{} does not count: {distrust}", shown(file))),
                error,
            ),
            Error::StaleLock { .. }
            | Error::NotLocked { .. }
            | Error::NotRequired { .. }
            | Error::SystemLock { .. }
            | Error::LockedElsewhere { .. }
            | Error::LockedOtherwise { .. }
            | Error::LockedUnstated { .. }
            | Error::LockedDiffers { .. }
            | Error::UndeclaredCompanion { .. }
            | Error::UndeclaredPackage { .. }
            | Error::OtherPatches { .. } => locking::explain(failure, error),
            Error::NoRequirement { files } => {
                with("no selector is given, and no project here requires a version".to_owned())
                    .say(format!(
                        "Looked for {} from this folder upward.",
                        files.join(", ")
                    ))
                    .run("To require the stable release, for one", "vshelf require stable")
            }
            Error::NoPlainFile { title, selector } => with(format!(
                "the definition of {title} names no plain file in which to require a version"
            ))
            .run(
                "To write it into a file of ours",
                format!("vshelf require {} --file vivid-shelf.toml", selector_word(selector)),
            ),
            Error::NoSuchFile { files, .. } => {
                failure.say(format!("The files are {}.", listed(files, "and")))
            }
            Error::RequirementInManifest {
                file,
                line,
                selector,
            } => {
                let name = file.file_name().unwrap_or_default().to_string_lossy();
                let selector = selector_word(selector);
                with(format!(
                    "{}, line {line}, requires a version already, and is only written to when it is named",
                    shown(file)
                ))
                .run(
                    "To write it there",
                    format!("vshelf require {selector} --file {name}"),
                )
            }
            Error::Manifest { file, problem } => {
                with(format!("{} is not understood: {problem}", shown(file)))
                    .run("To edit it", edit(file))
            }
            Error::RequirementElsewhere { file, line } => with(format!(
                "{}, line {line}, says what is required here, and is not a plain file of this folder",
                shown(file)
            ))
            .run("To edit it", edit(file)),
            Error::PersonalSelector { selector } => with(format!(
                "{selector} means something else in every shell, and cannot be required"
            ))
            .say("Require a version, a range, a word such as lts, or a code name."),
            Error::NotConnected { source_line } => {
                let failure = with("this shell is not connected to the shelf, so nothing here can change its version".to_owned());
                match source_line {
                    Some(line) => failure
                        .say("New shells are connected; this one was opened before that, or does not read its start-up file.")
                        .run("To connect this shell", line),
                    None => failure.run("To connect your shells", "vshelf connect"),
                }
                .run("To run one command without a connection", "vshelf help run")
            }
            Error::UnknownShell(_) => failure
                .say(format!(
                    "Shells that can be connected: {}.",
                    listed(&shell_names(), "and")
                ))
                .run(
                    "To use a version in any shell",
                    "vshelf help run",
                ),
            Error::OwnShell { shell } if shell.is_empty() => {
                with("SHELL is not set, and what called is not a shell that can be connected".to_owned())
                    .run("To name yours", "vshelf connect --shell bash")
            }
            Error::OwnShell { shell } => with(format!(
                "SHELL is {shell:?}, which is not a shell that can be connected"
            ))
            .run("To name yours", "vshelf connect --shell bash"),
            Error::ColonInData { .. } => failure.run(
                "To put the shelf elsewhere",
                "export VSHELF_DATA=\"$HOME/shelf\"",
            ),
            Error::OnPlatform { platform, error } => {
                let failure = Failure::new(failure.kind, error.to_string());
                let failure = Failure {
                    causes: error.causes(),
                    ..failure
                };
                let failure = match &**error {
                    Error::Resolve { prefix, error } => resolving(failure, error, prefix),
                    _ => failure,
                };
                failure.say(format!("It was asked for {platform}."))
            }
            _ => failure,
        }
    }
}

/// An error in its own words, with those behind it as causes.
fn plain(error: &Error) -> Failure {
    Failure {
        causes: error.causes(),
        ..Failure::new(error.class().into(), error.to_string())
    }
}

fn with_line(failure: Failure, line: Option<&TextLine>) -> Failure {
    match line {
        Some(line) => {
            let column = line.column.map(|column| format!(", column {column}"));
            let column = column.unwrap_or_default();
            failure.say(format!(
                "Line {}{column}: {}",
                line.number,
                line.text.trim()
            ))
        }
        None => failure,
    }
}

/// Adds what was probably meant.
fn meant<T: std::fmt::Display>(failure: Failure, near: &[T]) -> Failure {
    match near {
        [] => failure,
        _ => failure.say(format!("Did you mean {}?", listed(near, "or"))),
    }
}

/// The commands that install packages by hand.
pub fn attempt_commands(attempt: &PackageAttempt) -> Vec<String> {
    let command = |arguments: &Vec<String>| {
        let words = arguments
            .iter()
            .map(|word| quote::posix_where_needed(word, "@./_+=-"));
        let words = words.collect::<Vec<_>>().join(" ");
        format!(
            "vshelf run {}{} -- {} {words}",
            attempt.prefix, attempt.selector, attempt.tool
        )
    };
    attempt.calls.iter().map(command).collect()
}

/// Adds what helps against a full disk or missing rights.
fn about_io(failure: Failure, error: &io::Error) -> Failure {
    match error.kind() {
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
            failure.say("The disk is full; nothing was changed. Make room and try again.")
        }
        io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => failure.say(
            "The folder cannot be written by you; VSHELF_DATA, VSHELF_CACHE and VSHELF_CONFIG move the shelf elsewhere.",
        ),
        _ => failure,
    }
}

fn of_shelf(failure: Failure, error: &ShelfError) -> Failure {
    match error {
        ShelfError::File { source, .. }
        | ShelfError::State(StateError::File { source, .. })
        | ShelfError::Layout(LayoutError::File { source, .. }) => about_io(failure, source),
        ShelfError::State(StateError::Damaged { path, .. }) => failure
            .say("It holds the default and the labels; the installs are not touched by moving it away.")
            .run("To set it aside and start over", format!("mv {0} {0}.damaged", quoted(path))),
        ShelfError::State(StateError::Newer { .. }) | ShelfError::Layout(LayoutError::Newer { .. }) => {
            failure.say("Use the newer vshelf that wrote it.")
        }
        ShelfError::Layout(LayoutError::Older { data }) => failure
            .say("That layout was never published and is not read; its installs can be made again.")
            .run("To move it aside", format!("mv {0} {0}.older", quoted(data))),
        ShelfError::Layout(LayoutError::Migration { source, .. }) => {
            about_io(failure, source).say("Nothing is lost; the next command resumes.")
        }
        ShelfError::OtherDisk { .. } => failure.say(
            "Removing is one rename, which needs both on one file system: something is mounted there, or it is in a lower layer of an overlay. Nothing was changed.",
        ),
        ShelfError::Record(_) => failure.run("To see what can be done", "vshelf checkup"),
        ShelfError::Lock(_) | ShelfError::Gone { .. } => failure,
    }
}

fn of_transport(failure: Failure, error: &TransportError) -> Failure {
    match error {
        TransportError::Offline(_) => failure.say("Leave --offline out to ask for it."),
        TransportError::Status {
            status: 404,
            address,
            ..
        } if address.is_of_registry() => {
            failure.say("Nothing was published there yet, or under another name.")
        }
        TransportError::Status { status: 404, .. } => {
            failure.say("It may have moved; the source's address is in the runtime's definition.")
        }
        TransportError::Unknown { address, sent, .. } => match sent {
            Some(file) => failure.say(format!(
                "It does not accept what {} has for it.",
                shown(file)
            )),
            None if address.is_of_registry() => failure.say(format!(
                "Nothing is known for it here: {} under \"auths\" in ~/.config/containers/auth.json says who asks.",
                registry_entry(address)
            )),
            None => failure.say(format!(
                "Nothing is known for it here: a line such as {} in ~/.npmrc, or a machine in ~/.netrc, says who asks.",
                npm_line(address)
            )),
        },
        TransportError::Refused { sent, .. } => {
            let whose = match sent {
                Some(file) => format!("It was asked with what {} has for it", shown(file)),
                None => "It was asked without saying who asks".to_owned(),
            };
            failure.say(format!("{whose}; whoever runs it decides who may have it."))
        }
        TransportError::Unprotected { .. } => {
            failure.say("A name and password go over https alone, or to this machine itself.")
        }
        TransportError::Settings(_) => failure,
        TransportError::Unreachable { .. } | TransportError::BrokenOff { .. } => failure
            .say("Check the connection and the proxy settings, then run the same command again."),
        TransportError::Status { .. } => failure.say("The server has a problem; try again later."),
        _ => failure,
    }
}

/// The line of the npm client's settings that has a token for the server of an address.
fn npm_line(address: &Address) -> String {
    format!("//{}/:_authToken=TOKEN", address.server())
}

/// The entry of the containers' file that has the name and password for the server of an address.
fn registry_entry(address: &Address) -> String {
    let server = address.server();
    format!(r#""{server}": {{ "auth": "NAME:PASSWORD as base64" }}"#)
}

fn of_source(failure: Failure, error: &SourceError) -> Failure {
    match error {
        SourceError::Transport(error) => of_transport(failure, error),
        SourceError::Registry(RegistryError::PythonNotConfigured) => failure
            .say("Set PIP_INDEX_URL, or index-url in pip.conf, to your index's address."),
        SourceError::Registry(_) => failure
            .say("Set npm_config_registry, or registry= in ~/.npmrc, to your registry's address."),
        SourceError::Signature { .. } => failure
            .say("Nothing of it was kept. If the publisher changed the key, change it in the definition."),
        SourceError::Older { .. } => failure
            .say("Nothing of it was kept: an old catalog may hide what was withdrawn since."),
        _ => failure,
    }
}

fn of_download(failure: Failure, error: &DownloadError) -> Failure {
    const KEPT: &str = "Nothing of it was kept. Try again; if it stays so, tell the publisher.";
    match error {
        DownloadError::Transport(error) => of_transport(failure, error),
        DownloadError::Digest {
            expected, found, ..
        } => failure
            .say(format!("Promised: {expected}"))
            .say(format!("Found:    {found}"))
            .say(KEPT),
        DownloadError::Size { .. } => failure.say(KEPT),
        DownloadError::Partial { source, .. } => about_io(failure, source),
        DownloadError::Sink(_) => failure,
    }
}

/// A selector that stands for nothing; `prefix` is the runtime in front of selectors, where commands
/// need one.
fn resolving(failure: Failure, error: &ResolveError, prefix: &str) -> Failure {
    let catalog = |of: &str| format!("vshelf catalog {prefix}{of}").trim_end().to_owned();
    match error {
        ResolveError::UnknownName { near, .. } => {
            meant(failure, near).run("To see the lines, code names and channels", catalog(""))
        }
        ResolveError::UnknownPublisher {
            publisher, known, ..
        } => {
            let near = near::words(publisher, known.iter().map(String::as_str));
            meant(failure, &near).say(format!("The publishers are {}.", listed(known, "and")))
        }
        ResolveError::NotPublished { near, .. } => {
            let line = near.first().map(|v| v.numbers()[0].to_string());
            meant(failure, near).run("To list what there is", catalog(&line.unwrap_or_default()))
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
                    let publisher = publisher.as_ref().map(|p| format!("{p}/"));
                    failure.run(
                        format!("{version} is published; to put it there"),
                        format!(
                            "vshelf install {prefix}{}{version}",
                            publisher.unwrap_or_default()
                        ),
                    )
                }
                None => meant(failure, near),
            };
            failure.run("To see what is there", "vshelf list")
        }
        ResolveError::NoLtsLine { .. } => {
            failure.run("To see the lines and their phases", catalog(""))
        }
        ResolveError::NoDefault => {
            failure.run("To see what there is to choose from", "vshelf list")
        }
        ResolveError::NoPrevious => failure.run("To see what is there", "vshelf list"),
        ResolveError::BadSelector { .. } | ResolveError::Circle(_) => failure,
    }
}

/// A selector as a shell is given it.
pub fn selector_word(selector: &str) -> String {
    quote::posix_where_needed(selector, "@./-_^~+")
}
