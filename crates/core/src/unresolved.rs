//! Advice against requests that cannot be resolved.

use crate::diagnosis::{Action, Class, Diagnosis};
use crate::resolve::{ResolveError, Scope};
use crate::words::listed;

impl ResolveError {
    /// The class of the error and the advice against it. `prefix` is the runtime in front of selectors, if commands
    /// need one.
    #[expect(clippy::too_many_lines, reason = "one table")]
    pub fn diagnosis(&self, prefix: &str) -> Diagnosis {
        let catalog = |of: &str| Action::Catalog(format!("{prefix}{of}"));
        match self {
            ResolveError::UnknownName { near, scope, .. } => {
                let diagnosis = Class::NoMatch.alone().meant(near);
                let diagnosis = match scope {
                    Scope::Published => {
                        diagnosis.step("To see the lines, code names and channels", catalog(""))
                    }
                    Scope::Shelf => diagnosis.step("To see what is on the shelf", Action::List),
                };
                diagnosis.step("To see the runtimes that are known", Action::Runtimes)
            }
            ResolveError::UnknownPublisher {
                publisher,
                codename,
                known,
                ..
            } => (Class::NoMatch.alone()).publishers(publisher, codename.as_deref(), known),
            ResolveError::NotPublished { near, .. } => {
                let line = near.first().map(|version| version.numbers()[0].to_string());
                (Class::NoMatch.alone().meant(near))
                    .step("To list what there is", catalog(&line.unwrap_or_default()))
            }
            ResolveError::OtherPublisher {
                version, others, ..
            }
            | ResolveError::UnknownMain {
                version, others, ..
            } => {
                let other = others.first().map_or("", String::as_str);
                Class::NoMatch
                    .note(format!("It is published by {}.", listed(others, "and")))
                    .step(
                        "To take that one",
                        Action::install(format!("{prefix}{other}/{version}")),
                    )
            }
            ResolveError::OtherPlatform {
                version,
                platforms,
                elsewhere,
                ..
            } => {
                let built_for = format!("It is built for {}.", listed(platforms, "and"));
                let diagnosis = Class::NoMatch.note(built_for);
                match elsewhere {
                    Some(publisher) => diagnosis.step(
                        format!("{publisher} builds it for this platform"),
                        Action::install(format!("{prefix}{publisher}/{version}")),
                    ),
                    None => diagnosis.step(
                        "To see the versions around it",
                        catalog(&version.numbers()[0].to_string()),
                    ),
                }
            }
            ResolveError::NotInstallable { version, .. } => {
                (Class::NoMatch.alone()).step("To see why", catalog(version.as_str()))
            }
            ResolveError::Withdrawn {
                version, instead, ..
            } => {
                let instead = instead.as_ref();
                let install = instead.map(|instead| Action::install(format!("{prefix}{instead}")));
                (Class::NoMatch.alone())
                    .step_if(
                        "The newest release of its line that is not withdrawn",
                        install,
                    )
                    .step("To see its card", catalog(version.as_str()))
            }
            ResolveError::NotOnShelf {
                published, near, ..
            } => {
                let diagnosis = match published {
                    Some((publisher, version)) => {
                        let publisher = publisher.as_ref().map(|name| format!("{name}/"));
                        let publisher = publisher.unwrap_or_default();
                        Class::NoMatch.step(
                            format!("{version} is published; to put it there"),
                            Action::install(format!("{prefix}{publisher}{version}")),
                        )
                    }
                    None => Class::NoMatch.alone().meant(near),
                };
                diagnosis.step("To see what is there", Action::List)
            }
            ResolveError::NoLtsLine { .. } => {
                Class::NoMatch.step("To see the lines and their phases", catalog(""))
            }
            ResolveError::NoDefault => {
                Class::NoMatch.step("To see what there is to choose from", Action::List)
            }
            ResolveError::NoPrevious => Class::NoMatch.step("To see what is there", Action::List),
            ResolveError::BadSelector { .. } | ResolveError::Circle(_) => Class::NoMatch.alone(),
        }
    }
}
