//! Asking the sources of a runtime, and merging their answers into one catalog.
//!
//! Sources add up, those of one publisher and those of several, and what any of them knows is known. A fallback is
//! asked only if no other source of its publisher answers.

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use vshelf_core::Definition;
use vshelf_core::catalog::Build;
use vshelf_core::definition::SourceDefinition;
use vshelf_sources::merge::Part;
use vshelf_sources::{CatalogCache, LoadError, Loaded};

use crate::environment::Environment;
use crate::error::Error;

/// A source that was asked and did not answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PassedOver {
    /// The source.
    pub source: String,
    /// Why.
    pub reason: String,
    /// What takes its place.
    pub instead: Instead,
}

/// What takes the place of a source that does not answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Instead {
    /// Another source of the same publisher.
    Source(String),
    /// What it said on this day.
    Kept(Date),
    /// Nothing: its builds are not seen, or what it knows is not known.
    Nothing {
        /// Whether it has builds.
        has_builds: bool,
    },
}

/// What the sources of a runtime said.
pub struct Asked {
    /// The catalog of it all.
    pub loaded: Loaded,
    /// Those that did not answer.
    pub passed_over: Vec<PassedOver>,
}

/// Which sources are asked.
#[derive(Clone, Copy, Debug)]
pub enum Ask<'a> {
    /// Those without a fresh catalog in the cache.
    Stale,
    /// All but the fallbacks that are not needed.
    Usual,
    /// Every source of this publisher, fallbacks included. For the others the cache is enough.
    EveryOneOf(&'a str),
}

/// Asks the sources of a runtime.
pub fn ask(
    environment: &Environment,
    definition: &Definition,
    ask: Ask<'_>,
) -> Result<Asked, Error> {
    let asking = Asking {
        environment,
        definition,
        cache: environment.catalogs()?,
        now: environment.now()?,
        ask,
    };
    asking.run()
}

struct Asking<'a> {
    environment: &'a Environment,
    definition: &'a Definition,
    cache: &'a CatalogCache,
    now: Timestamp,
    ask: Ask<'a>,
}

/// One source, and its catalog.
struct Consulted<'a> {
    definition: &'a SourceDefinition,
    loaded: Option<Loaded>,
    /// Whether its releases are offered.
    offers: bool,
    /// Whether it answered, or its catalog in the cache is fresh.
    is_current: bool,
}

/// Why a source gave nothing new.
struct Silence<'a> {
    source: &'a SourceDefinition,
    reason: String,
    /// The whole of it, where nothing is kept of the source either.
    error: Option<Error>,
}

impl<'a> Asking<'a> {
    fn run(&self) -> Result<Asked, Error> {
        let mut passed_over = Vec::new();
        let mut errors = Vec::new();
        let mut all = Vec::new();
        for group in self.groups() {
            let (consulted, silent) = self.consult_group(group);
            for silence in silent {
                let source = silence.source.name.clone();
                passed_over.push(PassedOver {
                    source: source.clone(),
                    reason: silence.reason,
                    instead: instead_of(silence.source, &consulted),
                });
                errors.extend(silence.error.map(|error| (source, error)));
            }
            all.extend(consulted);
        }
        let has_builds = |one: &Consulted<'_>| one.offers && one.definition.kind.has_builds();
        if !all.iter().any(has_builds) {
            return Err(self.no_catalog(errors));
        }
        self.merge(all, passed_over)
    }

    fn no_catalog(&self, mut errors: Vec<(String, Error)>) -> Error {
        match errors.len() {
            0 => Error::NoSource {
                runtime: self.definition.name.clone(),
            },
            1 if !errors[0].1.is_unreachable() => errors.remove(0).1,
            _ => Error::NoSourceAnswers {
                runtime: self.definition.name.clone(),
                title: self.definition.title.clone(),
                errors,
            },
        }
    }

    /// The sources of each publisher in their order; those that name their publishers themselves are
    /// together, and each that only knows is alone.
    fn groups(&self) -> Vec<Vec<&'a SourceDefinition>> {
        let mut groups: Vec<(Option<&str>, Vec<&SourceDefinition>)> = Vec::new();
        for source in &self.definition.sources {
            let publisher = source.kind.publisher();
            let known = groups.iter_mut().find(|(id, sources)| {
                *id == publisher && sources[0].kind.has_builds() && source.kind.has_builds()
            });
            match known {
                Some((_, sources)) => sources.push(source),
                None => groups.push((publisher, vec![source])),
            }
        }
        groups.into_iter().map(|(_, sources)| sources).collect()
    }

    /// Asks the sources of one publisher, and its fallbacks if no other source is current. The cached catalog of a
    /// source serves if it does not answer.
    fn consult_group(
        &self,
        group: Vec<&'a SourceDefinition>,
    ) -> (Vec<Consulted<'a>>, Vec<Silence<'a>>) {
        let every_one = self.asks_every_one(group[0]);
        let mut consulted: Vec<Consulted<'_>> = Vec::new();
        let mut silent = Vec::new();
        let last = group.len() - 1;
        let (usual, fallbacks): (Vec<_>, Vec<_>) =
            group.into_iter().partition(|source| !source.fallback);
        for (place, definition) in usual.into_iter().chain(fallbacks).enumerate() {
            let is_needed =
                !definition.fallback || every_one || !consulted.iter().any(|one| one.is_current);
            let (one, silence) = if is_needed {
                self.consult(definition, every_one, place == last)
            } else {
                (self.kept(definition), None)
            };
            consulted.push(one);
            silent.extend(silence);
        }
        (consulted, silent)
    }

    /// A source that is not needed, with its cached catalog.
    fn kept(&self, definition: &'a SourceDefinition) -> Consulted<'a> {
        Consulted {
            definition,
            loaded: self.cache.kept(&self.definition.name, definition),
            offers: false,
            is_current: false,
        }
    }

    /// Whether every source of this one's publisher is asked.
    fn asks_every_one(&self, source: &SourceDefinition) -> bool {
        match self.ask {
            Ask::EveryOneOf(publisher) => {
                let own = source.kind.publisher();
                source.kind.has_builds() && own.is_none_or(|id| id == publisher)
            }
            Ask::Stale | Ask::Usual => false,
        }
    }

    /// Asks one source, unless its catalog in the cache is fresh and that is enough.
    fn consult(
        &self,
        source: &'a SourceDefinition,
        anyway: bool,
        is_last: bool,
    ) -> (Consulted<'a>, Option<Silence<'a>>) {
        let name = &self.definition.name;
        let may_be_kept = !anyway && !matches!(self.ask, Ask::Usual);
        let fresh = || self.cache.fresh(name, source, self.now);
        if let Some(fresh) = may_be_kept.then(fresh).flatten() {
            let consulted = Consulted {
                definition: source,
                loaded: Some(fresh),
                offers: true,
                is_current: true,
            };
            return (consulted, None);
        }
        let silence = |reason: String, error: Option<Error>| Silence {
            source,
            reason,
            error,
        };
        let (loaded, silence) = match self.renew(source, is_last) {
            Ok(loaded) => {
                let reason = loaded.origin.not_renewed.clone();
                (Some(loaded), reason.map(|reason| silence(reason, None)))
            }
            Err(error) => (None, Some(silence(error.to_string(), Some(error)))),
        };
        tracing::debug!(
            runtime = %name,
            source = %source.name,
            answered = silence.is_none(),
            has_catalog = loaded.is_some(),
            "asked a source"
        );
        let consulted = Consulted {
            definition: source,
            offers: loaded.is_some(),
            is_current: silence.is_none(),
            loaded,
        };
        (consulted, silence)
    }

    fn renew(&self, source: &SourceDefinition, is_last: bool) -> Result<Loaded, Error> {
        let (name, transport) = (&self.definition.name, &self.environment.transport);
        let hurried = transport.hurried();
        // One that does not answer is asked again only where no other follows.
        let transport = if is_last { transport } else { &hurried };
        let (platform, settings) = (self.environment.platform(), self.environment.registries());
        let opened =
            vshelf_sources::open(name, source, platform, &settings).map_err(LoadError::from)?;
        Ok(self
            .cache
            .renew((name, source), opened.as_ref(), transport, self.now)?)
    }

    /// One catalog of what was said; it is as old as the oldest that is offered.
    fn merge(&self, all: Vec<Consulted<'a>>, passed_over: Vec<PassedOver>) -> Result<Asked, Error> {
        let offers = |one: &&Consulted<'_>| one.offers && one.definition.kind.has_builds();
        let offering: Vec<&Loaded> = all
            .iter()
            .filter(offers)
            .filter_map(|one| one.loaded.as_ref())
            .collect();
        // An old catalog of a silent source does not make the answers of the others older.
        let current = all.iter().filter(|one| one.is_current && offers(one));
        let current = current.filter_map(|one| one.loaded.as_ref());
        let confirmed = |loaded: &Loaded| loaded.origin.confirmed;
        let confirmed = (current.map(confirmed).min())
            .or_else(|| offering.iter().map(|loaded| confirmed(loaded)).min());
        let reason = |loaded: &&Loaded| loaded.origin.not_renewed.clone();
        // Where one of them answered, the others are told as passed over.
        let reasons: Option<Vec<String>> = offering.iter().map(reason).collect();
        let not_renewed = reasons.and_then(|reasons| reasons.into_iter().next());
        let mut parts = Vec::new();
        for one in &all {
            let Some(loaded) = &one.loaded else {
                continue;
            };
            match loaded.published() {
                Ok(published) => parts.push(Part {
                    source: one.definition,
                    published,
                    offers: one.offers,
                }),
                Err(error) if one.offers => return Err(LoadError::from(error).into()),
                // What only helps is done without.
                Err(_) => {}
            }
        }
        let confirmed = confirmed.unwrap_or(self.now);
        let mut loaded = self.cache.merge(self.definition, &parts, confirmed)?;
        loaded.origin.not_renewed = not_renewed;
        Ok(Asked {
            loaded,
            passed_over,
        })
    }
}

/// What takes the place of a source, of those that were consulted with it.
fn instead_of(source: &SourceDefinition, consulted: &[Consulted<'_>]) -> Instead {
    let own = consulted
        .iter()
        .find(|one| one.definition.name == source.name);
    let own = own
        .filter(|own| own.offers)
        .and_then(|own| own.loaded.as_ref());
    if let Some(loaded) = own {
        return Instead::Kept(loaded.origin.confirmed.to_zoned(TimeZone::UTC).date());
    }
    match consulted.iter().find(|one| one.offers) {
        Some(one) => Instead::Source(one.definition.name.clone()),
        None => Instead::Nothing {
            has_builds: source.kind.has_builds(),
        },
    }
}

/// The source of a build in a catalog of this definition.
pub fn source_of<'d>(
    definition: &'d Definition,
    build: &Build,
) -> Result<&'d SourceDefinition, Error> {
    let name = build.source.as_deref();
    let source = name.and_then(|name| definition.source(name));
    source.ok_or_else(|| Error::UndefinedSource {
        title: definition.title.clone(),
        name: name.unwrap_or_default().to_owned(),
    })
}
