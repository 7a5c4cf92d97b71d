//! One runtime as a command sees it: definition, shelf, choices, catalog.

use std::cell::{OnceCell, RefCell};

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use vshelf_core::definition::SourceDefinition;
use vshelf_core::outlook::{self, Newer};
use vshelf_core::resolve::{
    self, Candidate, Choice, Explanation, ResolveError, Scope, Shelved, World,
};
use vshelf_core::{Catalog, Definition, Request, Version};
use vshelf_shelf::{Install, Shelf, State};
use vshelf_sources::registry::UserSettings;
use vshelf_sources::{CatalogCache, Loaded, source};

use crate::context::Context;
use crate::failure::{Failure, Kind};

/// A runtime and what is known of it.
#[derive(Debug)]
pub struct Runtime<'c> {
    /// What it is.
    pub definition: Definition,
    /// Its shelf.
    pub shelf: Shelf,
    /// Its installs, newest first.
    pub installs: Vec<Install>,
    /// Its default and labels.
    pub state: State,
    /// The day on which phases are computed.
    pub today: Date,
    context: &'c Context,
    shelved: Vec<Shelved>,
    catalog: OnceCell<Option<Loaded>>,
    outline: OnceCell<Catalog>,
    around_shelf: OnceCell<Catalog>,
    /// The place of the source whose catalog serves.
    serving: OnceCell<Option<usize>>,
    default_key: OnceCell<Option<String>>,
    passed_over: RefCell<Vec<(String, String)>>,
}

impl<'c> Runtime<'c> {
    /// Reads the runtime's shelf; its catalog is read when something needs it.
    pub fn open(context: &'c Context, definition: Definition) -> Result<Runtime<'c>, Failure> {
        let shelf = Shelf::new(context.folders()?, &definition.name);
        let installs = shelf.installs()?;
        Ok(Runtime {
            shelved: installs
                .iter()
                .map(|install| install.shelved.clone())
                .collect(),
            state: shelf.state()?,
            today: context.today()?,
            catalog: OnceCell::new(),
            shelf,
            installs,
            definition,
            outline: OnceCell::new(),
            around_shelf: OnceCell::new(),
            serving: OnceCell::new(),
            default_key: OnceCell::new(),
            passed_over: RefCell::default(),
            context,
        })
    }

    /// The runtime's name.
    pub fn name(&self) -> &str {
        &self.definition.name
    }

    /// The catalog that is kept here, however old; nobody is asked.
    pub fn kept_catalog(&self) -> Option<&Loaded> {
        self.catalog
            .get_or_init(|| {
                let cache = self.context.catalogs().ok()?;
                cache.kept(self.name(), self.serving()?)
            })
            .as_ref()
    }

    /// The source whose catalog is loaded.
    pub fn loaded_source(&self) -> Option<&SourceDefinition> {
        let origin = &self.kept_catalog()?.origin;
        let mut sources = self.definition.sources.iter();
        sources.find(|source| source.name == origin.source)
    }

    /// The source whose catalog is kept here and was confirmed last.
    fn serving(&self) -> Option<&SourceDefinition> {
        let sources = &self.definition.sources;
        let place = self.serving.get_or_init(|| {
            let cache = self.context.catalogs().ok()?;
            let latest = cache.latest(self.name(), sources)?;
            sources.iter().position(|source| source == latest)
        });
        sources.get((*place)?)
    }

    /// The catalog as its source has it now, or as it is kept where that is fresh or no source
    /// answers. Sources are asked in order; the first that answers serves.
    pub fn load_catalog(&mut self, ask_anyway: bool) -> Result<&Loaded, Failure> {
        let cache = self.context.catalogs()?;
        let now = self.context.now()?;
        let asks_nobody = self.context.transport.is_offline();
        let kept = match (self.serving(), ask_anyway) {
            (Some(source), _) if asks_nobody => cache.kept(self.name(), source),
            (Some(source), false) => cache.fresh(self.name(), source, now),
            _ => None,
        };
        let loaded = match kept {
            Some(loaded) => loaded,
            None => self.ask_sources(&cache, 0, now)?,
        };
        self.catalog = OnceCell::from(Some(loaded));
        self.serving = OnceCell::new();
        self.kept_catalog().ok_or_else(|| {
            let message = format!("the catalog of {} changed while it was read", self.name());
            Failure::new(Kind::Source, message).say("Give the same command again.")
        })
    }

    /// Loads the catalog of the first source behind the one named `source` that answers; says
    /// whether there is one.
    pub fn load_catalog_behind(&mut self, source: &str) -> Result<bool, Failure> {
        let sources = &self.definition.sources;
        let at = sources.iter().position(|known| known.name == source);
        let behind = at.map_or(sources.len(), |at| at + 1);
        if behind == sources.len() {
            return Ok(false);
        }
        let now = self.context.now()?;
        let loaded = self.ask_sources(&self.context.catalogs()?, behind, now)?;
        self.catalog = OnceCell::from(Some(loaded));
        self.serving = OnceCell::new();
        Ok(true)
    }

    fn pass_over(&self, source: &str, reason: &str) {
        let mut passed_over = self.passed_over.borrow_mut();
        passed_over.push((source.to_owned(), reason.to_owned()));
    }

    /// The sources that were asked in vain before the one that serves, and why.
    pub fn passed_over(&self) -> Vec<(String, String)> {
        self.passed_over.borrow().clone()
    }

    /// Asks the sources from the one at `first` on. Where none answers, the first that has a
    /// catalog here serves, with the reason why it could not be renewed.
    fn ask_sources(
        &self,
        cache: &CatalogCache,
        first: usize,
        now: Timestamp,
    ) -> Result<Loaded, Failure> {
        let settings = UserSettings::of_this_user();
        let transport = &self.context.transport;
        let hurried = transport.hurried();
        let sources = &self.definition.sources[first..];
        let mut old = None;
        let mut first_error = None;
        for (index, definition) in sources.iter().enumerate() {
            let source = source::open(self.name(), definition, &self.context.platform, &settings);
            // One that does not answer is asked again only where no other follows.
            let transport = match index + 1 == sources.len() {
                true => transport,
                false => &hurried,
            };
            match cache.renew(self.name(), definition, source.as_ref(), transport, now) {
                Ok(loaded) => match &loaded.origin.not_renewed {
                    None => return Ok(loaded),
                    Some(reason) => {
                        self.pass_over(&definition.name, reason);
                        old = old.or(Some(loaded));
                    }
                },
                Err(error) => {
                    self.pass_over(&definition.name, &error.to_string());
                    first_error = first_error.or(Some(error));
                }
            }
        }
        match (old, first_error) {
            (Some(loaded), _) => Ok(loaded),
            (None, Some(error)) => Err(error.into()),
            (None, None) => Err(Failure::new(
                Kind::Source,
                format!("{} has no source", self.name()),
            )),
        }
    }

    /// The catalog that is kept, or an empty one.
    pub fn catalog(&self) -> &Catalog {
        match self.kept_catalog() {
            Some(loaded) => &loaded.catalog,
            None => self.outline(),
        }
    }

    /// The lines, channels and publishers of the catalog that is kept: all that commands about the
    /// shelf need, in a fraction of the time. The releases may be left out.
    pub fn outline(&self) -> &Catalog {
        if let Some(Some(loaded)) = self.catalog.get() {
            return &loaded.catalog;
        }
        self.outline.get_or_init(|| {
            let kept = (self.context.catalogs().ok())
                .and_then(|cache| cache.kept_outline(self.name(), self.serving()?));
            kept.unwrap_or_else(|| Catalog {
                runtime: self.definition.name.clone(),
                ..Catalog::default()
            })
        })
    }

    /// The catalog that is kept, with the releases of the lines on the shelf only: read in a
    /// fraction of the time.
    pub fn around_shelf(&self) -> &Catalog {
        self.around_shelf.get_or_init(|| {
            let cache = self.context.catalogs().ok();
            let line_of = |install: &Shelved| self.outline().line_of(&install.version);
            let lines: Vec<String> = (self.shelved.iter())
                .filter_map(line_of)
                .map(|line| line.name.clone())
                .collect();
            let kept =
                cache.and_then(|cache| cache.kept_lines(self.name(), self.serving()?, &lines));
            kept.unwrap_or_default()
        })
    }

    /// What came out since an install in its line, as far as the catalog that is kept knows.
    pub fn newer_than(&self, install: &Shelved) -> Option<Newer> {
        let (version, platform) = (&install.version, &self.context.platform);
        outlook::newer(self.around_shelf(), version, &install.publisher, platform)
    }

    /// What `request` stands for among what is published of the lines on the shelf.
    pub fn published_around_shelf(&self, request: &Request) -> Option<Version> {
        let world = World {
            catalog: self.around_shelf(),
            ..self.world(Scope::Shelf)
        };
        match resolve::resolve(&world, request, Scope::Published).outcome {
            Ok(Choice::Version(chosen)) => Some(chosen.version.clone()),
            _ => None,
        }
    }

    /// All that choosing among what `scope` says depends on.
    pub fn world(&self, scope: Scope) -> World<'_> {
        World {
            catalog: match scope {
                Scope::Published => self.catalog(),
                Scope::Shelf => self.outline(),
            },
            shelf: &self.shelved,
            labels: &self.state.labels,
            default: self.state.default.as_deref(),
            default_key: match scope {
                Scope::Published => None,
                Scope::Shelf => self.known_default_key(),
            },
            previous: self.context.shell.previous(self.name()),
            platform: &self.context.platform,
            today: self.today,
        }
    }

    /// How `request` becomes a choice.
    pub fn explain(&self, request: &Request, scope: Scope) -> Explanation<'_> {
        let explanation = resolve::resolve(&self.world(scope), request, scope);
        match explanation.outcome {
            // What is not on the shelf may be published; only the whole catalog tells.
            Err(ResolveError::NotOnShelf { .. } | ResolveError::UnknownPublisher { .. }) => {
                resolve::resolve(&self.world(Scope::Published), request, scope)
            }
            _ => explanation,
        }
    }

    /// What `request` stands for.
    pub fn resolve(&self, request: &Request, scope: Scope) -> Result<Choice<'_>, Failure> {
        self.explain(request, scope)
            .outcome
            .map_err(|error| self.failure(&error))
    }

    /// The key on the shelf that `request` stands for, or `system`.
    pub fn resolve_key(&self, request: &Request) -> Result<String, Failure> {
        let choice = self.resolve(request, Scope::Shelf)?;
        Ok(choice.key().unwrap_or_default().to_owned())
    }

    /// The key on the shelf that meets `request`, or `system`; nothing where none does.
    pub fn key_meeting(&self, request: &Request) -> Option<String> {
        let outcome = resolve::resolve(&self.world(Scope::Shelf), request, Scope::Shelf).outcome;
        Some(outcome.ok()?.key()?.to_owned())
    }

    /// All that `request` covers among what `scope` says.
    pub fn covered(&self, request: &Request, scope: Scope) -> Result<Vec<Candidate<'_>>, Failure> {
        let world = World {
            default_key: self.world(scope).default_key,
            ..self.world(Scope::Published)
        };
        resolve::covered(&world, request, scope).map_err(|error| self.failure(&error))
    }

    /// Everything that is published.
    pub fn published(&self) -> Vec<Candidate<'_>> {
        resolve::candidates(&self.world(Scope::Published), Scope::Published)
    }

    /// A failure to resolve, in words.
    pub fn failure(&self, error: &ResolveError) -> Failure {
        let prefix = self.context.prefix(self.name()).unwrap_or_default();
        Failure::resolving(error, &prefix)
    }

    /// The install with this key.
    pub fn install(&self, key: &str) -> Option<&Install> {
        self.installs
            .iter()
            .find(|install| install.shelved.key == key)
    }

    /// The key for a version of a publisher: the version alone where it is the main publisher.
    pub fn key_for(&self, version: &str, publisher: &str) -> String {
        match self.is_main(publisher) {
            true => version.to_owned(),
            false => format!("{publisher}-{version}"),
        }
    }

    /// Whether selectors without a publisher mean this one.
    fn is_main(&self, publisher: &str) -> bool {
        let main = self.outline().main_publisher();
        main.is_none_or(|main| main.id == publisher)
    }

    /// The selector that means exactly what this publisher published as this version.
    pub fn selector_for(&self, version: &Version, publisher: &str) -> String {
        match self.is_main(publisher) {
            true => version.to_string(),
            false => format!("{publisher}/{version}"),
        }
    }

    /// An install as a selector that means exactly it: the version, with its publisher where that
    /// is not the main one.
    pub fn spelled(&self, install: &Shelved) -> String {
        match install.key == install.version.as_str() {
            true => install.version.to_string(),
            false => format!("{}/{}", install.publisher, install.version),
        }
    }

    /// Notes that the install with this key, or `system`, is used now.
    pub fn note_use(&self, key: &str) {
        if let (Ok(now), Some(_)) = (self.context.now(), self.install(key)) {
            // Where that cannot be noted, a clean-up only knows less.
            self.shelf.note_use(key, now).unwrap_or_default();
        }
    }

    /// The day on which an install was used last, or else put on the shelf.
    pub fn used_on(&self, install: &Install) -> Date {
        let installed = install.receipt.contents.installed;
        let used = self.shelf.last_use(&install.shelved.key);
        let last = used.unwrap_or(installed);
        last.to_zoned(TimeZone::UTC).date()
    }

    /// An install as people call it: `Marram 8.3.1`.
    pub fn called(&self, install: &Shelved) -> String {
        format!("{} {}", self.definition.title, self.spelled(install))
    }

    /// The key of the default, or `system`, as the link and the state said when it was first asked.
    pub fn default_key(&self) -> Option<String> {
        self.known_default_key().map(str::to_owned)
    }

    fn known_default_key(&self) -> Option<&str> {
        let found = self
            .default_key
            .get_or_init(|| match self.state.default.as_deref() {
                Some("system") => Some("system".to_owned()),
                _ => (self.shelf.default_key()).filter(|key| self.install(key).is_some()),
            });
        found.as_deref()
    }

    /// The context.
    pub fn context(&self) -> &'c Context {
        self.context
    }
}
