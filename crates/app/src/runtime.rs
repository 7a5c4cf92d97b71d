//! One runtime as a use case sees it: definition, shelf, choices, and its catalog from all of its
//! sources.

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::fmt;
use std::rc::Rc;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use vshelf_core::catalog::{Details, Release};
use vshelf_core::definition::RecordedDefinition;
use vshelf_core::outlook::{self, Newer};
use vshelf_core::resolve::{self, Candidate, Choice, Explanation, ResolveError, Scope, World};
use vshelf_core::{
    Catalog, Definition, InstallId, Key, Line, Phase, Pick, Request, Selector, Version,
};
use vshelf_files::tree::bytes_in;
use vshelf_shelf::store::Untold;
use vshelf_shelf::{Install, Shelf};
use vshelf_sources::address::Address;
use vshelf_sources::{LoadError, Loaded};

use crate::daily;
use crate::definitions;
use crate::environment::Environment;
use crate::error::{Class, Done, Error, file_error};
use crate::events::{CatalogStatus, Event, Listener, Task};
use crate::snapshot::{PublishedSnapshot, ShelfSnapshot};
use crate::sourcing::{self, Ask, PassedOver};

/// A runtime and what is known of it.
#[derive(Debug)]
pub struct Runtime<'c> {
    /// What it is.
    pub definition: Definition,
    /// Its shelf.
    pub shelf: Shelf,
    /// The shelf as it was read.
    pub snapshot: Rc<ShelfSnapshot>,
    /// The day on which phases are computed.
    pub today: Date,
    environment: &'c Environment,
    published: Rc<PublishedSnapshot>,
    last_uses: OnceCell<BTreeMap<Key, Timestamp>>,
    passed_over: Vec<PassedOver>,
    undefined: Option<Arc<Error>>,
}

impl<'c> Runtime<'c> {
    /// The runtime with this name, written `marram` or `marram@`, or the one that is meant where none
    /// is named.
    pub fn named(environment: &'c Environment, name: Option<&str>) -> Result<Runtime<'c>, Error> {
        let name = match name {
            Some(name) => name.trim_end_matches('@').to_owned(),
            None => environment.choose_runtime()?,
        };
        match environment.definition(&name) {
            Ok(definition) => Runtime::open(environment, definition),
            Err(error) => Runtime::of_records(environment, &name, error),
        }
    }

    /// A runtime with installs on the shelf whose definition is gone or cannot be used, for this reason. It can
    /// be listed, switched to and removed; nothing new of it can be installed.
    fn of_records(
        environment: &'c Environment,
        name: &str,
        error: Error,
    ) -> Result<Runtime<'c>, Error> {
        let is_of_definition = matches!(
            error,
            Error::UnknownRuntime { .. } | Error::Definition { .. }
        );
        let folders = environment.folders()?;
        if !is_of_definition || !Shelf::runtimes(folders)?.iter().any(|other| other == name) {
            return Err(error);
        }
        let shelf = Shelf::of(&environment.layout()?, name);
        let snapshot = environment.snapshots().of_shelf(&shelf)?;
        if snapshot.installs.is_empty() && snapshot.untold.is_empty() {
            return Err(error);
        }
        let mut records = snapshot
            .installs
            .iter()
            .map(|install| &install.record.contents);
        let recorded = records.find_map(|record| record.definition.as_ref());
        let definition = RecordedDefinition::restore(name, recorded);
        Ok(Runtime {
            undefined: Some(Arc::new(error)),
            ..Runtime::open(environment, definition)?
        })
    }

    /// Why the definition cannot be used, if it cannot.
    pub fn undefined(&self) -> Option<&Error> {
        self.undefined.as_deref()
    }

    /// Fails if the definition cannot be used.
    fn need_definition(&self) -> Done {
        match &self.undefined {
            Some(error) => Err(Error::Undefined(Arc::clone(error))),
            None => Ok(()),
        }
    }

    /// The runtime that is meant where none is named; nobody is asked.
    pub fn meant(environment: &'c Environment) -> Result<Runtime<'c>, Error> {
        Runtime::named(environment, Some(&environment.meant_runtime()?))
    }

    /// The runtime that a request means.
    pub fn of_request(
        environment: &'c Environment,
        request: &Request,
    ) -> Result<Runtime<'c>, Error> {
        Runtime::named(environment, request.runtime.as_deref())
    }

    /// The request that is meant by one which is only the name of a runtime: its stable release, unless
    /// something of the runtime that is meant anyway has that name.
    pub fn read_name(environment: &Environment, request: Request) -> Result<Request, Error> {
        let name = match &request.selector {
            Selector::Name(name) if request.runtime.is_none() => name,
            _ => return Ok(request),
        };
        if !definitions::names(environment.folders()?)?.contains(name) {
            return Ok(request);
        }
        let is_taken = Runtime::meant(environment).is_ok_and(|meant| {
            let outline = meant.outline();
            let labels = &meant.snapshot.state.labels;
            labels.contains_key(name)
                || outline.channel(name).is_some()
                || outline.line_named(name).is_some()
        });
        Ok(match is_taken {
            true => request,
            false => Request {
                runtime: Some(name.clone()),
                publisher: request.publisher,
                selector: Selector::Stable,
            },
        })
    }

    /// The runtime with this name; where none is named all on the shelf, or else the one that is
    /// meant. None at all where the shelf is empty and several could be.
    pub fn shown(
        environment: &'c Environment,
        name: Option<&str>,
    ) -> Result<Vec<Runtime<'c>>, Error> {
        if name.is_some() {
            return Ok(vec![Runtime::named(environment, name)?]);
        }
        let on_shelf = Shelf::runtimes(environment.folders()?)?;
        if on_shelf.is_empty() {
            return match Runtime::meant(environment) {
                Ok(meant) => Ok(vec![meant]),
                Err(Error::SeveralRuntimes { .. }) => Ok(Vec::new()),
                Err(error) => Err(error),
            };
        }
        on_shelf
            .iter()
            .map(|name| Runtime::named(environment, Some(name)))
            .collect()
    }

    /// Every runtime with a definition that can be used, and the first error of another one. A definition that
    /// is broken stops nothing that is about other runtimes.
    pub fn defined(
        environment: &'c Environment,
    ) -> Result<(Vec<Runtime<'c>>, Option<Error>), Error> {
        let mut defined = Vec::new();
        let mut broken = None;
        for name in definitions::names(environment.folders()?)? {
            match environment.definition(&name) {
                Ok(definition) => defined.push(Runtime::open(environment, definition)?),
                Err(error @ Error::Definition { .. }) => broken = broken.or(Some(error)),
                Err(error) => return Err(error),
            }
        }
        Ok((defined, broken))
    }

    /// The runtimes that shells enter: those on the shelf, and the main one.
    pub fn entered(environment: &'c Environment) -> Result<Vec<Runtime<'c>>, Error> {
        let mut entered = Vec::new();
        for name in environment.entered_runtimes()? {
            match Runtime::named(environment, Some(&name)) {
                Ok(runtime) => entered.push(runtime),
                // Commands about this runtime report it.
                Err(Error::UnknownRuntime { .. } | Error::Definition { .. }) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(entered)
    }

    /// The runtime with its shelf read again.
    pub fn reopened(&self) -> Result<Runtime<'c>, Error> {
        self.environment.snapshots().forget_shelf(self.name());
        Ok(Runtime {
            undefined: self.undefined.clone(),
            ..Runtime::open(self.environment, self.definition.clone())?
        })
    }

    /// Reads the runtime's shelf; its catalog is read when something needs it.
    pub fn open(
        environment: &'c Environment,
        definition: Definition,
    ) -> Result<Runtime<'c>, Error> {
        let shelf = Shelf::of(&environment.layout()?, &definition.name);
        for text in definition
            .sources
            .iter()
            .flat_map(|source| source.kind.addresses())
        {
            // One that cannot be read is told by whoever asks it.
            if text.contains('@')
                && let Ok(address) = Address::read(text)
            {
                environment.transport.learn(&address);
            }
        }
        let snapshots = environment.snapshots();
        Ok(Runtime {
            snapshot: snapshots.of_shelf(&shelf)?,
            published: snapshots.of_published(&definition),
            today: environment.today()?,
            shelf,
            definition,
            last_uses: OnceCell::new(),
            passed_over: Vec::new(),
            undefined: None,
            environment,
        })
    }

    /// The runtime's name.
    pub fn name(&self) -> &str {
        &self.definition.name
    }

    /// The catalog that is kept here, however old; nobody is asked.
    pub fn kept_catalog(&self) -> Option<&Loaded> {
        self.published
            .catalog
            .get_or_init(|| self.environment.catalogs().ok()?.merged(&self.definition))
            .as_ref()
    }

    /// The catalog as its sources have it now, or as it is kept where that is fresh or no source
    /// answers.
    pub fn load_catalog(&mut self, ask_anyway: bool) -> Result<&Loaded, Error> {
        let cache = self.environment.catalogs()?;
        let now = self.environment.now()?;
        let asks_nobody = self.environment.transport.is_offline();
        let kept = match (asks_nobody, ask_anyway) {
            (true, _) => cache.merged(&self.definition),
            (false, false) => cache.fresh_merged(&self.definition, now),
            (false, true) => None,
        };
        match kept {
            Some(loaded) => {
                let snapshots = self.environment.snapshots();
                self.published = snapshots.renew_published(&self.definition, loaded);
            }
            None if ask_anyway => self.ask_sources(Ask::Usual)?,
            None => self.ask_sources(Ask::Stale)?,
        }
        self.kept_catalog().ok_or(Error::CatalogChanged)
    }

    /// Asks every source of this publisher, and loads what all of them offer.
    pub fn ask_every_source_of(&mut self, publisher: &str) -> Done {
        self.ask_sources(Ask::EveryOneOf(publisher))
    }

    fn ask_sources(&mut self, which: Ask<'_>) -> Done {
        self.need_definition()?;
        let asked = sourcing::ask(self.environment, &self.definition, which)?;
        self.passed_over = asked.passed_over;
        let snapshots = self.environment.snapshots();
        self.published = snapshots.renew_published(&self.definition, asked.loaded);
        Ok(())
    }

    /// Loads the catalog as [`Runtime::load_catalog`] does, and tells how old it is.
    pub fn load_and_tell(
        &mut self,
        ask_anyway: bool,
        listener: &dyn Listener,
    ) -> Result<(), Error> {
        let title = self.definition.title.clone();
        let load = || self.load_catalog(ask_anyway).map(drop);
        Task::LoadingCatalog(&title).during(listener, load)?;
        self.tell_catalog(listener);
        Ok(())
    }

    /// Tells how old the catalog is that is loaded.
    pub fn tell_catalog(&self, listener: &dyn Listener) {
        let Some(mut status) = self.catalog_status() else {
            return;
        };
        if !status.passed_over.is_empty() {
            let stamp = format!("passed-over-{}", self.name());
            // Where it cannot be read whether that was said, it is said.
            match daily::is_due(self.environment, &stamp).unwrap_or(true) {
                true => daily::note(self.environment, &stamp).unwrap_or_default(),
                false => status.passed_over.clear(),
            }
        }
        listener.tell(Event::Catalog(&status));
    }

    /// How old the catalog is that is kept here, and why.
    fn catalog_status(&self) -> Option<CatalogStatus> {
        let origin = &self.kept_catalog()?.origin;
        let today = self.environment.today().unwrap_or(self.today);
        Some(CatalogStatus {
            title: self.definition.title.clone(),
            confirmed: origin.confirmed.to_zoned(TimeZone::UTC).date(),
            today,
            not_renewed: origin.not_renewed.clone(),
            offline: self.environment.transport.is_offline(),
            passed_over: self.passed_over.clone(),
        })
    }

    /// What the catalog says of a release beyond what lists show; nothing where none is kept.
    pub fn details(&self, release: &Release) -> Result<Details, Error> {
        let loaded = self.kept_catalog();
        let details = loaded.map(|loaded| loaded.details(release)).transpose();
        Ok(details.map_err(LoadError::from)?.unwrap_or_default())
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
        if let Some(Some(loaded)) = self.published.catalog.get() {
            return &loaded.catalog;
        }
        if let Some(heads) = self.published.heads.get() {
            return heads;
        }
        self.published.outline.get_or_init(|| {
            let kept = (self.environment.catalogs().ok())
                .and_then(|cache| cache.merged_outline(&self.definition));
            kept.unwrap_or_else(|| self.no_catalog())
        })
    }

    /// The catalog that is kept, with those releases alone that stand for their lines ([`outlook::heads`]): read in a
    /// fraction of the time. It serves as the outline too, so whoever needs both asks for this first.
    pub fn heads(&self) -> &Catalog {
        self.published.heads.get_or_init(|| {
            let cache = self.environment.catalogs().ok();
            let kept = cache.and_then(|cache| cache.merged_heads(&self.definition));
            kept.unwrap_or_else(|| self.no_catalog())
        })
    }

    /// Whether installs are judged without a catalog although the definition names sources of one: then
    /// neither newer releases nor the ends of lines are known.
    pub fn lacks_catalog(&self) -> bool {
        let could_have = self.undefined.is_none() && !self.definition.sources.is_empty();
        could_have && !self.snapshot.installs.is_empty() && self.heads().publishers.is_empty()
    }

    fn no_catalog(&self) -> Catalog {
        Catalog {
            runtime: self.definition.name.clone(),
            ..Catalog::default()
        }
    }

    /// What came out since an install in its line, as far as the catalog that is kept knows.
    pub fn newer_than(&self, install: &InstallId) -> Option<Newer> {
        let (version, platform) = (&install.version, self.environment.platform());
        outlook::newer(self.heads(), version, &install.publisher, platform)
    }

    /// What `request`, which means the newest of a line, stands for among what is published.
    pub fn newest_of_line(&self, request: &Request) -> Option<Version> {
        let world = World {
            catalog: self.heads(),
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
            shelf: &self.snapshot.ids,
            labels: &self.snapshot.state.labels,
            default: self.default_selector(),
            default_pick: match scope {
                Scope::Published => None,
                Scope::Shelf => self.default_pick(),
            },
            previous: self.environment.shell.previous(self.name()),
            platform: self.environment.platform(),
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
    pub fn resolve(&self, request: &Request, scope: Scope) -> Result<Choice<'_>, Error> {
        let outcome = self.explain(request, scope).outcome;
        outcome.map_err(|error| self.unmet(request, scope, error))
    }

    /// Why a request stands for nothing: the record of what it means may tell nothing.
    fn unmet(&self, request: &Request, scope: Scope, error: ResolveError) -> Error {
        match self.untold_meant(request) {
            Some(untold) if scope == Scope::Shelf => self.untold_error(untold),
            _ => self.unresolved(error),
        }
    }

    /// What a request means of that whose record tells nothing.
    fn untold_meant(&self, request: &Request) -> Option<&Untold> {
        let Selector::Version(version) = &request.selector else {
            return None;
        };
        let means = |untold: &&Untold| {
            let publisher = request.publisher.as_deref().or(self.main_publisher());
            publisher.is_none_or(|publisher| publisher == untold.key.publisher())
                && (untold.key.version()).is_some_and(|known| known.begins_with(version))
        };
        self.snapshot.untold.iter().find(means)
    }

    /// An error where a request means something whose record tells nothing.
    pub fn refuse_untold(&self, request: &Request) -> Done {
        let untold = self.untold_meant(request);
        untold.map_or(Ok(()), |untold| Err(self.untold_error(untold)))
    }

    /// An error where the record of what has this key tells nothing.
    pub fn refuse_untold_key(&self, key: &Key) -> Done {
        let untold = self
            .snapshot
            .untold
            .iter()
            .find(|untold| untold.key == *key);
        untold.map_or(Ok(()), |untold| Err(self.untold_error(untold)))
    }

    fn untold_error(&self, untold: &Untold) -> Error {
        Error::Untold {
            title: self.title_of(&untold.key),
            selector: self.key_as_typed(&untold.key),
            error: untold.error.clone(),
        }
    }

    /// Tells what is on the shelves of these runtimes with a record that tells nothing.
    pub fn tell_untold(runtimes: &[Runtime<'_>], listener: &dyn Listener) {
        for runtime in runtimes {
            for untold in &runtime.snapshot.untold {
                listener.tell(Event::LeftUndone(&runtime.untold_error(untold)));
            }
        }
    }

    /// What `request` stands for on the shelf.
    pub fn resolve_pick(&self, request: &Request) -> Result<Pick, Error> {
        let choice = self.resolve(request, Scope::Shelf)?;
        choice.pick().ok_or_else(|| Error::NotAnInstall {
            selector: request.to_string(),
            class: Class::NoMatch,
        })
    }

    /// What on the shelf meets `request`; nothing where nothing does.
    pub fn pick_meeting(&self, request: &Request) -> Option<Pick> {
        resolve::pick(&self.world(Scope::Shelf), request)
    }

    /// What on the shelf a label's selector stands for.
    pub fn pick_of_label(&self, selector: &str) -> Option<Pick> {
        self.pick_meeting(&selector.parse().ok()?)
    }

    /// All that `request` covers among what `scope` says.
    pub fn covered(&self, request: &Request, scope: Scope) -> Result<Vec<Candidate<'_>>, Error> {
        let world = World {
            default_pick: self.world(scope).default_pick,
            ..self.world(Scope::Published)
        };
        let covered = resolve::covered(&world, request, scope);
        covered.map_err(|error| self.unmet(request, scope, error))
    }

    /// Everything that is published.
    pub fn published(&self) -> Vec<Candidate<'_>> {
        resolve::candidates(&self.world(Scope::Published), Scope::Published)
    }

    /// A failure to resolve a selector of this runtime.
    pub fn unresolved(&self, error: ResolveError) -> Error {
        Error::Resolve {
            prefix: self.environment.prefix(self.name()),
            error: Box::new(error),
        }
    }

    /// The install with this key.
    pub fn install(&self, key: &Key) -> Option<&Install> {
        self.snapshot
            .installs
            .iter()
            .find(|install| install.id.key == *key)
    }

    /// The installs, newest first; of one version, that of the main publisher comes first.
    pub fn installs_main_first(&self) -> Vec<&Install> {
        let main = self.main_publisher();
        let mut installs: Vec<&Install> = self.snapshot.installs.iter().collect();
        installs.sort_by(|a, b| {
            let is_other = |install: &Install| main != Some(&install.id.publisher);
            let newest_first = b.id.version.cmp(&a.id.version);
            newest_first.then_with(|| is_other(a).cmp(&is_other(b)))
        });
        installs
    }

    /// The install that is picked, unless that is the system's copy.
    pub fn picked(&self, pick: &Pick) -> Option<&Install> {
        self.install(pick.key()?)
    }

    /// Whether what is picked is there; `system_copy` says whether the system has a copy.
    pub fn has(&self, pick: &Pick, system_copy: bool) -> bool {
        match pick {
            Pick::System => system_copy,
            Pick::Install(key) => self.install(key).is_some(),
        }
    }

    /// The publisher that a selector means if it names none: as the catalog says, or else the definition's
    /// first source. If neither is known, that of the installs, as long as they are all of one.
    pub fn main_publisher(&self) -> Option<&str> {
        if let Some(main) = self.outline().main_publisher_id() {
            return Some(main);
        }
        let first_source = self.definition.sources.first();
        if let Some(publisher) = first_source.and_then(|source| source.kind.publisher()) {
            return Some(publisher);
        }
        let published = self
            .snapshot
            .installs
            .iter()
            .map(|install| &install.record.contents);
        let mut published = published
            .filter(|record| record.adopted.is_none())
            .map(|record| record.publisher.as_str());
        let first = published.next()?;
        published.all(|other| other == first).then_some(first)
    }

    /// The shortest selector that means exactly the install with this key.
    pub fn selector_of(&self, key: &Key) -> String {
        key.short_selector(self.main_publisher())
    }

    /// The shortest selector that means exactly what is picked.
    pub fn selector_of_pick(&self, pick: &Pick) -> String {
        pick.short_selector(self.main_publisher())
    }

    /// The selector that means exactly what this publisher published as this version.
    pub fn selector_for(&self, version: &Version, publisher: &str) -> String {
        self.selector_of(&Key::new(version, publisher))
    }

    /// Whether a request covers this version among what is published.
    pub fn covers(&self, request: &Request, version: &Version) -> bool {
        let covered = self.covered(request, Scope::Published).unwrap_or_default();
        covered.iter().any(|one| one.version == version)
    }

    /// A selector of this runtime as commands need it: with the runtime where another could be meant.
    pub fn as_typed(&self, selector: impl fmt::Display) -> String {
        format!("{}{selector}", self.environment.prefix(self.name()))
    }

    /// The selector of an install, as commands need it.
    pub fn key_as_typed(&self, key: &Key) -> String {
        self.as_typed(self.selector_of(key))
    }

    /// The selector of the newest install, as commands need it; nothing where none is on the shelf.
    pub fn newest_on_shelf(&self) -> Option<String> {
        self.newest_besides(None)
    }

    /// The selector of the newest install besides the one with this key.
    pub fn newest_besides(&self, key: Option<&Key>) -> Option<String> {
        let installs = self.installs_main_first().into_iter();
        let mut others = installs.filter(|install| Some(&install.id.key) != key);
        others
            .next()
            .map(|install| self.key_as_typed(&install.id.key))
    }

    /// Notes that what is picked is used now.
    pub fn note_use(&self, pick: &Pick) {
        if let (Ok(now), Some(install)) = (self.environment.now(), self.picked(pick)) {
            // Where that cannot be noted, a clean-up only knows less.
            self.shelf
                .note_use(&install.id.key, now)
                .unwrap_or_default();
        }
    }

    /// The day on which an install was used last, or else put on the shelf.
    pub fn used_on(&self, install: &Install) -> Date {
        let installed = install.record.contents.installed;
        let last_uses = self.last_uses.get_or_init(|| self.shelf.last_uses());
        let last = last_uses.get(&install.id.key).unwrap_or(&installed);
        last.to_zoned(TimeZone::UTC).date()
    }

    /// The bytes of an install on the disk, with the packages that came later. Of a link to an
    /// adopted folder only the link is on the shelf.
    pub fn size_on_disk(&self, install: &Install) -> Result<u64, Error> {
        bytes_in(&install.folder).map_err(file_error(&install.folder, "read"))
    }

    /// An install as people call it: `Marram 8.3.1`.
    pub fn title_of(&self, key: &Key) -> String {
        format!("{} {}", self.definition.title, self.selector_of(key))
    }

    /// The selector that the default was set as.
    pub fn default_selector(&self) -> Option<&str> {
        let default = self.snapshot.default.as_ref()?;
        Some(&default.selector)
    }

    /// The default: `None` if none is set, or if its build cannot be used.
    pub fn default_pick(&self) -> Option<&Pick> {
        self.snapshot.default_pick()
    }

    /// Whether the install with this key is the default.
    pub fn is_default(&self, key: &Key) -> bool {
        self.default_pick().is_some_and(|pick| pick.is(key))
    }

    /// The release line of a version, as far as the outline knows it.
    pub fn line_of(&self, version: &Version) -> Option<&Line> {
        self.outline().line_of(version)
    }

    /// The installs of a line.
    pub fn installs_of(&self, line: &Line) -> impl Iterator<Item = &Install> {
        let installs = self.installs_main_first().into_iter();
        installs.filter(|install| line.covers(&install.id.version))
    }

    /// The phase of a version's line today.
    pub fn phase_of(&self, version: &Version) -> Option<Phase> {
        self.line_of(version).map(|line| line.phase_on(self.today))
    }

    /// The surroundings.
    pub fn environment(&self) -> &'c Environment {
        self.environment
    }
}
