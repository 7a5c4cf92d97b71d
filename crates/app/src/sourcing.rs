//! Asking the sources of a runtime, and making one catalog of what they say.
//!
//! Sources of one publisher stand in for each other: the first that answers offers its releases. Those
//! of several publishers are offered side by side, and what any of them knows is known.

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use vshelf_core::Definition;
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
    /// Those of which nothing fresh is kept.
    Stale,
    /// The first of each publisher, and where it does not answer the next.
    First,
    /// Every source of this publisher, and of the others what is kept.
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

/// One source, and what is had of it.
struct Consulted<'a> {
    definition: &'a SourceDefinition,
    loaded: Option<Loaded>,
    offers: bool,
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
            1 => errors.remove(0).1,
            _ => Error::NoSourceAnswers {
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

    /// Asks the sources of one publisher until one answers, or all where all are meant; of what is not
    /// asked there is what is kept.
    fn consult_group(
        &self,
        group: Vec<&'a SourceDefinition>,
    ) -> (Vec<Consulted<'a>>, Vec<Silence<'a>>) {
        let name = &self.definition.name;
        let every_one = self.asks_every_one(group[0]);
        let may_be_kept = !every_one && !matches!(self.ask, Ask::First);
        let is_fresh = |source: &&SourceDefinition| {
            may_be_kept && self.cache.fresh(name, source, self.now).is_some()
        };
        let mut answered = group.iter().position(is_fresh);
        let asks_nobody = answered.is_some();
        let mut consulted = Vec::new();
        let mut silent = Vec::new();
        let last = group.len() - 1;
        for (place, definition) in group.into_iter().enumerate() {
            if asks_nobody || (answered.is_some() && !every_one) {
                consulted.push(Consulted {
                    definition,
                    loaded: self.cache.kept(name, definition),
                    offers: asks_nobody && answered == Some(place),
                });
                continue;
            }
            let (one, silence) = self.consult(definition, place == last);
            if one.offers {
                answered = Some(place);
            }
            consulted.push(one);
            silent.extend(silence);
        }
        // Where none answers, the first that said something before serves.
        let said_before = consulted.iter_mut().find(|one| one.loaded.is_some());
        if let Some(first) = said_before.filter(|_| answered.is_none()) {
            first.offers = true;
        }
        (consulted, silent)
    }

    /// Whether every source of this one's publisher is asked.
    fn asks_every_one(&self, source: &SourceDefinition) -> bool {
        match self.ask {
            Ask::EveryOneOf(publisher) => {
                let own = source.kind.publisher();
                source.kind.has_builds() && own.is_none_or(|id| id == publisher)
            }
            Ask::Stale | Ask::First => false,
        }
    }

    /// Asks one source.
    fn consult(
        &self,
        source: &'a SourceDefinition,
        is_last: bool,
    ) -> (Consulted<'a>, Option<Silence<'a>>) {
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
        let consulted = Consulted {
            definition: source,
            loaded,
            offers: silence.is_none(),
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
            .renew(name, source, opened.as_ref(), transport, self.now)?)
    }

    /// One catalog of what was said; it is as old as the oldest that is offered.
    fn merge(&self, all: Vec<Consulted<'a>>, passed_over: Vec<PassedOver>) -> Result<Asked, Error> {
        let offers = |one: &&Consulted<'_>| one.offers && one.definition.kind.has_builds();
        let offering: Vec<&Loaded> = all
            .iter()
            .filter(offers)
            .filter_map(|one| one.loaded.as_ref())
            .collect();
        let confirmed = offering.iter().map(|loaded| loaded.origin.confirmed).min();
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
    match consulted.iter().find(|one| one.offers) {
        Some(one) if one.definition.name != source.name => {
            Instead::Source(one.definition.name.clone())
        }
        Some(Consulted {
            loaded: Some(loaded),
            ..
        }) => Instead::Kept(loaded.origin.confirmed.to_zoned(TimeZone::UTC).date()),
        _ => Instead::Nothing {
            has_builds: source.kind.has_builds(),
        },
    }
}
