//! One runtime as a use case sees it: its definition, its shelf, and what is published of it.

pub mod choosing;
pub mod names;
pub mod opening;
pub mod published;

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::rc::Rc;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use vshelf_core::definition::RecordedDefinition;
use vshelf_core::{Definition, Key, Pick, Request};
use vshelf_shelf::{Install, Shelf};
use vshelf_sources::address::Address;

use crate::environment::Environment;
use crate::error::Error;
use crate::snapshot::ShelfSnapshot;

use choosing::Choosing;
use names::Names;
use published::Published;

/// A runtime and what is known of it.
#[derive(Debug)]
pub struct Runtime<'c> {
    /// Its definition.
    pub definition: Arc<Definition>,
    /// Its shelf.
    pub shelf: Shelf,
    /// The shelf as it was read.
    pub snapshot: Rc<ShelfSnapshot>,
    /// The catalog.
    pub published: Published<'c>,
    environment: &'c Environment,
    last_uses: OnceCell<BTreeMap<Key, Timestamp>>,
}

impl<'c> Runtime<'c> {
    /// The runtime with this name, written `marram` or `marram@`, or the one that is meant if no name is
    /// given.
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
        let mut runtime = Runtime::open(environment, definition)?;
        runtime.published.undefined = Some(Arc::new(error));
        Ok(runtime)
    }

    /// Why the definition cannot be used, if it cannot.
    pub fn undefined(&self) -> Option<&Error> {
        self.published.undefined.as_deref()
    }

    /// The runtime that a request means.
    pub fn of_request(
        environment: &'c Environment,
        request: &Request,
    ) -> Result<Runtime<'c>, Error> {
        Runtime::named(environment, request.runtime.as_deref())
    }

    /// The runtime with its shelf read again.
    pub fn reopened(&self) -> Result<Runtime<'c>, Error> {
        self.environment.snapshots().forget_shelf(self.name());
        self.refreshed()
    }

    /// The runtime with the last snapshot of its shelf, which is read again only if this process changed the shelf.
    pub fn refreshed(&self) -> Result<Runtime<'c>, Error> {
        let mut refreshed = Runtime::open(self.environment, Arc::clone(&self.definition))?;
        refreshed.published.undefined = self.published.undefined.clone();
        Ok(refreshed)
    }

    /// Reads the runtime's shelf; its catalog is read when something needs it.
    pub fn open(
        environment: &'c Environment,
        definition: impl Into<Arc<Definition>>,
    ) -> Result<Runtime<'c>, Error> {
        let definition = definition.into();
        let shelf = Shelf::of(&environment.layout()?, &definition.name);
        for text in definition
            .sources
            .iter()
            .flat_map(|source| source.kind.addresses())
        {
            // A request to an unreadable address reports it.
            if text.contains('@')
                && let Ok(address) = Address::read(text)
            {
                environment.transport.learn(&address);
            }
        }
        let snapshots = environment.snapshots();
        Ok(Runtime {
            snapshot: snapshots.of_shelf(&shelf)?,
            published: Published {
                snapshot: snapshots.of_published(&definition),
                definition: Arc::clone(&definition),
                environment,
                today: environment.today()?,
                passed_over: Vec::new(),
                undefined: None,
            },
            definition,
            shelf,
            environment,
            last_uses: OnceCell::new(),
        })
    }

    /// The runtime's name.
    pub fn name(&self) -> &str {
        &self.definition.name
    }

    /// Whether installs are judged without a catalog although the definition names sources of one: then
    /// neither newer releases nor the ends of lines are known.
    pub fn lacks_catalog(&self) -> bool {
        let could_have = self.published.undefined.is_none() && !self.definition.sources.is_empty();
        could_have
            && !self.snapshot.installs.is_empty()
            && self.published.outline().publishers.is_empty()
    }

    /// Notes that what is picked is used now.
    pub fn note_use(&self, pick: &Pick) {
        if let (Ok(now), Some(install)) = (self.environment.now(), self.snapshot.picked(pick)) {
            // Without the note, a clean-up only knows less.
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

    /// The day on which phases are computed.
    pub fn today(&self) -> Date {
        self.published.today
    }

    /// The surroundings.
    pub fn environment(&self) -> &'c Environment {
        self.environment
    }

    /// Resolves requests.
    pub fn choosing(&self) -> Choosing<'_> {
        Choosing {
            names: self.names(),
        }
    }

    /// Names installs.
    pub fn names(&self) -> Names<'_> {
        Names {
            published: &self.published,
            shelf: &self.snapshot,
        }
    }
}
