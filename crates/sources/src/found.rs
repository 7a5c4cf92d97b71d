//! The releases of a source that has one publisher and no document of ours, as they are found.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use jiff::civil::Date;
use vshelf_core::catalog::{Build, Catalog, Details, Line, Publisher, Release, Repack};
use vshelf_core::definition::SourceDefinition;
use vshelf_core::template::SpelledVersion;
use vshelf_core::{Platform, Version};

use crate::address::Address;
use crate::api::{PublishedCatalog, SourceError};

/// The releases of a source, as they are found.
pub(crate) struct Found<'d> {
    definition: &'d SourceDefinition,
    publisher: Arc<str>,
    releases: BTreeMap<Version, Release>,
    details: HashMap<(Version, Arc<str>), Details>,
    /// How often each build was packed.
    repacks: HashMap<(Version, Platform), u64>,
    /// Spellings that mean no version that is taken.
    left_out: Vec<String>,
    /// Which patterns of the definition have read something.
    used: Vec<bool>,
}

impl<'d> Found<'d> {
    /// Nothing yet, from the source with this definition.
    pub(crate) fn new(definition: &'d SourceDefinition) -> Found<'d> {
        Found {
            definition,
            publisher: definition.kind.publisher().unwrap_or_default().into(),
            releases: BTreeMap::new(),
            details: HashMap::new(),
            repacks: HashMap::new(),
            left_out: Vec::new(),
            used: vec![false; definition.versions.patterns().len()],
        }
    }

    /// The version that the source means by this spelling; nothing where it is none that is taken.
    pub(crate) fn version(&mut self, spelling: &str) -> Option<SpelledVersion> {
        let read = self.definition.versions.read(spelling);
        let taken = read.filter(|read| self.definition.takes(&read.version));
        match &taken {
            Some(read) => {
                if let Some(used) = self.used.get_mut(read.pattern) {
                    *used = true;
                }
            }
            None if self.left_out.iter().any(|known| known == spelling) => {}
            None => self.left_out.push(spelling.to_owned()),
        }
        taken
    }

    /// The release of this version and its details, new where it was not found before.
    pub(crate) fn release(&mut self, version: &Version) -> (&mut Release, &mut Details) {
        let publisher = &self.publisher;
        let release = (self.releases.entry(version.clone())).or_insert_with(|| Release {
            version: version.clone(),
            publisher: publisher.clone(),
            date: None,
            security: None,
            withdrawn: None,
            platforms: Arc::new([]),
        });
        let key = (version.clone(), publisher.clone());
        (release, self.details.entry(key).or_default())
    }

    /// Adds a build of what was spelled so, which the source dates to this day. Of a version that was
    /// packed several times, the last counts.
    pub(crate) fn add(
        &mut self,
        spelled: &SpelledVersion,
        spelling: &str,
        day: Option<Date>,
        build: Build,
    ) {
        let version = &spelled.version;
        let key = (version.clone(), build.platform.clone());
        let newest = self.repacks.entry(key).or_insert(spelled.repack);
        if spelled.repack < *newest {
            return;
        }
        let replaces = spelled.repack > *newest;
        *newest = spelled.repack;
        let is_repack = self.definition.repack;
        let (release, card) = self.release(version);
        if replaces {
            card.builds.retain(|other| other.platform != build.platform);
        }
        if !is_repack {
            release.date = release.date.into_iter().chain(day).min();
        }
        card.builds.push(Build {
            spelled: (spelling != version.as_str()).then(|| spelling.to_owned()),
            repack: is_repack.then_some(Repack { date: day }),
            ..build
        });
    }

    /// Whether nothing was found.
    pub(crate) fn is_empty(&self) -> bool {
        self.releases.is_empty()
    }

    /// Whether something was found that is not taken.
    pub(crate) fn has_left_out(&self) -> bool {
        !self.left_out.is_empty()
    }

    /// All of it as one catalog, which `address` gave.
    pub(crate) fn publish(
        mut self,
        runtime: &str,
        lines: Vec<Line>,
        address: &Address,
    ) -> Result<PublishedCatalog, SourceError> {
        if self.is_empty() && !self.left_out.is_empty() {
            let problem = format!(
                "none of its {} versions, such as {:?}, is spelled and taken as the definition says",
                self.left_out.len(),
                self.left_out[0]
            );
            return Err(SourceError::document(address, problem));
        }
        for release in self.releases.values_mut() {
            let key = (release.version.clone(), release.publisher.clone());
            let builds = self
                .details
                .get(&key)
                .into_iter()
                .flat_map(|card| &card.builds);
            let mut platforms: Vec<Platform> = builds.map(|b| b.platform.clone()).collect();
            platforms.dedup();
            release.platforms = platforms.into();
        }
        let publisher = Publisher::new(&self.publisher, &self.publisher, true);
        let catalog = Catalog {
            runtime: runtime.to_owned(),
            publishers: vec![publisher],
            lines,
            releases: self.releases.into_values().collect(),
            ..Catalog::default()
        };
        let patterns = self.definition.versions.patterns();
        let unused = patterns.zip(&self.used).filter(|(_, used)| !**used);
        let unused = unused.map(|(pattern, _)| pattern.to_string()).collect();
        Ok(PublishedCatalog {
            left_out: self.left_out,
            unused_patterns: unused,
            ..PublishedCatalog::new(catalog.ordered(), self.details, address)
        })
    }
}

/// The line of a version that a source calls by this code name, new where it was not told of before.
pub(crate) fn named_line<'l>(
    lines: &'l mut Vec<Line>,
    version: &Version,
    codename: &str,
) -> &'l mut Line {
    let known = lines.iter().position(|line| line.covers(version));
    let at = known.unwrap_or_else(|| {
        lines.push(Line::undated(&version.numbers()[0].to_string()));
        lines.len() - 1
    });
    let line = &mut lines[at];
    line.codename.get_or_insert_with(|| codename.to_owned());
    line
}
