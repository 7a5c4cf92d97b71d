//! The catalog of one runtime: loaded from its sources, or as it is kept in the cache.

use std::rc::Rc;
use std::sync::Arc;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use vshelf_core::catalog::{Details, Release};
use vshelf_core::outlook::{self, Newer};
use vshelf_core::{Catalog, Definition, InstallId, Line, Phase, Version};
use vshelf_sources::{LoadError, Loaded};

use crate::daily;
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::{CatalogStatus, Event, Listener};
use crate::snapshot::PublishedSnapshot;
use crate::sourcing::{self, Ask, PassedOver};

/// How much of a catalog is loaded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Extent {
    /// Lines, and the releases that stand for them.
    Lines,
    /// All releases.
    Releases,
    /// All releases, as the sources have them now, however fresh what is kept is.
    Anew,
}

/// The catalog of a runtime, as far as it is loaded.
#[derive(Debug)]
pub struct Published<'c> {
    pub(super) environment: &'c Environment,
    pub(super) definition: Arc<Definition>,
    /// The day on which phases are computed.
    pub(super) today: Date,
    pub(super) snapshot: Rc<PublishedSnapshot>,
    pub(super) passed_over: Vec<PassedOver>,
    /// Why the definition cannot be used, if it cannot.
    pub(super) undefined: Option<Arc<Error>>,
}

impl Published<'_> {
    /// Computes phases as of this day, if one is given, instead of today.
    pub fn judge_on(&mut self, day: Option<Date>) {
        self.today = day.unwrap_or(self.today);
    }

    /// The catalog that is kept here, however old; nobody is asked.
    pub fn kept(&self) -> Option<&Loaded> {
        self.snapshot
            .catalog
            .get_or_init(|| self.environment.catalogs().ok()?.merged(&self.definition))
            .as_ref()
    }

    /// Loads the catalog: as it is kept if that is fresh or no source answers, or else as the sources have it now.
    pub fn load(&mut self, extent: Extent) -> Done {
        let cache = self.environment.catalogs()?;
        let now = self.environment.now()?;
        let (definition, is_offline) = (&self.definition, self.environment.transport.is_offline());
        let kept = match (extent, is_offline) {
            (Extent::Lines, true) => cache.merged_heads(definition),
            (Extent::Lines, false) => cache.fresh_heads(definition, now),
            (Extent::Releases, false) => cache.fresh_merged(definition, now),
            (Extent::Releases | Extent::Anew, true) => cache.merged(definition),
            (Extent::Anew, false) => None,
        };
        match kept {
            Some(loaded) => {
                let snapshot = match extent {
                    Extent::Lines => PublishedSnapshot::of_heads(loaded),
                    Extent::Releases | Extent::Anew => PublishedSnapshot::of_all(loaded),
                };
                let snapshots = self.environment.snapshots();
                self.snapshot = snapshots.renew_published(definition, snapshot);
                Ok(())
            }
            None if extent == Extent::Anew => self.ask_sources(Ask::Usual),
            None => self.ask_sources(Ask::Stale),
        }
    }

    /// Asks every source of this publisher, and loads what all of them offer.
    pub fn ask_every_source_of(&mut self, publisher: &str) -> Done {
        self.ask_sources(Ask::EveryOneOf(publisher))
    }

    fn ask_sources(&mut self, which: Ask<'_>) -> Done {
        if let Some(error) = &self.undefined {
            return Err(Error::Undefined(Arc::clone(error)));
        }
        let asked = sourcing::ask(self.environment, &self.definition, which)?;
        self.passed_over = asked.passed_over;
        let snapshots = self.environment.snapshots();
        let snapshot = PublishedSnapshot::of_all(asked.loaded);
        self.snapshot = snapshots.renew_published(&self.definition, snapshot);
        Ok(())
    }

    /// Loads the catalog as [`Published::load`] does, and tells how old it is.
    pub fn load_and_tell(&mut self, extent: Extent, listener: &dyn Listener) -> Result<(), Error> {
        self.load(extent)?;
        self.tell_age(listener);
        Ok(())
    }

    /// Tells how old the catalog is that is loaded.
    pub fn tell_age(&self, listener: &dyn Listener) {
        let Some(mut status) = self.age() else {
            return;
        };
        if !status.passed_over.is_empty() {
            let stamp = format!("passed-over-{}", &self.definition.name);
            // An unreadable stamp counts as absent, so the notice is shown again.
            if daily::is_due(self.environment, &stamp).unwrap_or(true) {
                daily::note(self.environment, &stamp).unwrap_or_default()
            } else {
                status.passed_over.clear()
            }
        }
        listener.tell(Event::Catalog(&status));
    }

    /// How old the catalog is that is kept here, and why.
    pub(crate) fn age(&self) -> Option<CatalogStatus> {
        let heads = || self.snapshot.heads.get()?.as_ref();
        let origin = match self.snapshot.catalog.get() {
            None => &heads().or_else(|| self.kept())?.origin,
            Some(_) => &self.kept()?.origin,
        };
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

    /// The details of a release, which lists do not show; empty if no catalog is kept.
    pub fn details(&self, release: &Release) -> Result<Details, Error> {
        let loaded = self.kept();
        let details = loaded.map(|loaded| loaded.details(release)).transpose();
        Ok(details.map_err(LoadError::from)?.unwrap_or_default())
    }

    /// The catalog that is kept, or an empty one.
    pub fn catalog(&self) -> &Catalog {
        match self.kept() {
            Some(loaded) => &loaded.catalog,
            None => self.outline(),
        }
    }

    /// The lines, channels and publishers of the catalog that is kept: all that commands about the
    /// shelf need, in a fraction of the time. The releases may be left out.
    pub fn outline(&self) -> &Catalog {
        if let Some(Some(loaded)) = self.snapshot.catalog.get() {
            return &loaded.catalog;
        }
        if let Some(Some(heads)) = self.snapshot.heads.get() {
            return &heads.catalog;
        }
        self.snapshot.outline.get_or_init(|| {
            let kept = (self.environment.catalogs().ok())
                .and_then(|cache| cache.merged_outline(&self.definition));
            kept.unwrap_or_else(|| no_catalog(&self.definition))
        })
    }

    /// The catalog that is kept, with those releases alone that stand for their lines ([`outlook::heads`]): read in a
    /// fraction of the time. It serves as the outline too, so whoever needs both asks for this first.
    pub fn heads(&self) -> &Catalog {
        let read = || {
            self.environment
                .catalogs()
                .ok()?
                .merged_heads(&self.definition)
        };
        match self.snapshot.heads.get_or_init(read) {
            Some(heads) => &heads.catalog,
            None => (self.snapshot.outline).get_or_init(|| no_catalog(&self.definition)),
        }
    }

    /// The newest release of an install's line, if the kept catalog has one that is newer than the install.
    pub fn newer_than(&self, install: &InstallId) -> Option<Newer> {
        let (version, platform) = (&install.version, self.environment.platform());
        outlook::newer(self.heads(), version, &install.publisher, platform)
    }

    /// The release line of a version, as far as the outline knows it.
    pub fn line_of(&self, version: &Version) -> Option<&Line> {
        self.outline().line_of(version)
    }

    /// The phase of a version's line today.
    pub fn phase_of(&self, version: &Version) -> Option<Phase> {
        self.line_of(version).map(|line| line.phase_on(self.today))
    }
}

fn no_catalog(definition: &Definition) -> Catalog {
    Catalog {
        runtime: definition.name.clone(),
        ..Catalog::default()
    }
}
