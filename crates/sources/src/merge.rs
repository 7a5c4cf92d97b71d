//! One catalog of a runtime from those of its sources.
//!
//! Sources add up: each offers its releases. Facts about a release or a line come from the first source that has
//! them, whichever source delivers the bytes.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

use vshelf_core::catalog::{Catalog, Details, Line, Publisher, Release};
use vshelf_core::definition::{Definition, SourceDefinition};
use vshelf_core::{Platform, Version};

use crate::api::PublishedCatalog;

/// The catalog of one source.
#[derive(Debug)]
pub struct Part<'d> {
    /// The source.
    pub source: &'d SourceDefinition,
    /// What it publishes.
    pub published: PublishedCatalog,
    /// Whether it offers its releases. A fallback that is not needed adds only what it knows, and its builds of
    /// releases that others offer.
    pub offers: bool,
}

/// A release under way.
struct Merged {
    release: Release,
    details: Details,
}

type Key = (Version, Arc<str>);

/// One catalog from those of the sources of `definition`, in the definition's order.
pub fn merge(definition: &Definition, parts: &[Part<'_>]) -> PublishedCatalog {
    let mut releases: HashMap<Key, Merged> = HashMap::new();
    let with_builds = || parts.iter().filter(|part| part.source.kind.has_builds());
    let offering = with_builds().filter(|part| part.offers);
    let others = with_builds().filter(|part| !part.offers);
    // Sources are of use where it is told how they are built.
    let can_build = definition.build.is_some();
    for part in offering {
        add_releases(&mut releases, part, can_build);
    }
    for part in others {
        add_builds(&mut releases, part, can_build);
    }
    for part in parts {
        add_knowledge(&mut releases, part);
    }
    let publishers = publishers(definition, parts);
    copy_to_repacks(&mut releases, &publishers);
    let mut catalog = Catalog {
        runtime: definition.name.clone(),
        publishers,
        policy: definition.line_policy(),
        lines: lines(definition, parts),
        ..Catalog::default()
    };
    for part in parts {
        let of_part = &part.published.catalog;
        catalog.policy = catalog.policy.or(of_part.policy);
        catalog.updated = catalog.updated.max(of_part.updated);
        for (channel, selector) in &of_part.channels {
            let known = catalog.channels.entry(channel.clone());
            known.or_insert_with(|| selector.clone());
        }
    }
    let mut details = HashMap::with_capacity(releases.len());
    for (key, merged) in releases {
        catalog.releases.push(merged.release);
        details.insert(key, merged.details);
    }
    PublishedCatalog {
        catalog: catalog.ordered(),
        details,
        expires: parts.iter().filter_map(|part| part.published.expires).min(),
        ..PublishedCatalog::default()
    }
}

/// The releases that a part offers; one that is there already gets further builds.
fn add_releases(releases: &mut HashMap<Key, Merged>, part: &Part<'_>, can_build: bool) {
    for release in &part.published.catalog.releases {
        let key = (release.version.clone(), release.publisher.clone());
        if let Entry::Vacant(vacant) = releases.entry(key) {
            vacant.insert(Merged {
                release: Release {
                    date: None,
                    security: None,
                    platforms: Arc::new([]),
                    ..release.clone()
                },
                details: Details::default(),
            });
        }
    }
    add_builds(releases, part, can_build);
}

/// The builds that a part has of what is offered, behind those of others.
fn add_builds(releases: &mut HashMap<Key, Merged>, part: &Part<'_>, can_build: bool) {
    for (key, details) in &part.published.details {
        let Some(merged) = releases.get_mut(key) else {
            continue;
        };
        let mut builds = details.builds.clone();
        builds.retain(|build| can_build || !build.platform.is_source());
        for build in &mut builds {
            build.source = Some(part.source.name.clone());
        }
        let mut platforms: Vec<Platform> = merged.release.platforms.to_vec();
        for build in &builds {
            if !platforms.contains(&build.platform) {
                platforms.push(build.platform.clone());
            }
        }
        merged.release.platforms = platforms.into();
        merged.details.builds.append(&mut builds);
        let not_installable = details.not_installable.iter().cloned();
        merged.details.not_installable.extend(not_installable);
    }
}

/// What a part knows of releases that are there, as far as nobody before it knew it.
fn add_knowledge(releases: &mut HashMap<Key, Merged>, part: &Part<'_>) {
    let name = || Some(part.source.name.clone());
    for release in &part.published.catalog.releases {
        let key = (release.version.clone(), release.publisher.clone());
        let Some(merged) = releases.get_mut(&key) else {
            continue;
        };
        let told_by = &mut merged.details.told_by;
        if merged.release.withdrawn.is_none() {
            merged.release.withdrawn.clone_from(&release.withdrawn);
        }
        if merged.release.date.is_none() && release.date.is_some() {
            merged.release.date = release.date;
            told_by.date = name();
        }
        if merged.release.security.is_none() && release.security.is_some() {
            merged.release.security = release.security;
            told_by.security = name();
        }
        let Some(known) = part.published.details.get(&key) else {
            continue;
        };
        if merged.details.bundles.is_empty() && !known.bundles.is_empty() {
            merged.details.bundles.clone_from(&known.bundles);
            merged.details.told_by.bundles = name();
        }
        if merged.details.notes.is_none() {
            merged.details.notes.clone_from(&known.notes);
        }
    }
}

/// What is known of a publisher's release is known of those who pack it anew.
fn copy_to_repacks(releases: &mut HashMap<Key, Merged>, publishers: &[Publisher]) {
    for publisher in publishers {
        let Some(original) = &publisher.repacks else {
            continue;
        };
        let id: Arc<str> = publisher.id.as_str().into();
        let original: Arc<str> = original.as_str().into();
        let versions: Vec<Version> = (releases.keys())
            .filter(|(_, publisher)| *publisher == id)
            .map(|(version, _)| version.clone())
            .collect();
        for version in versions {
            let Some(known) = releases.get(&(version.clone(), original.clone())) else {
                continue;
            };
            let (date, security) = (known.release.date, known.release.security);
            let (withdrawn, notes) = (known.release.withdrawn.clone(), known.details.notes.clone());
            let told_by = known.details.told_by.clone();
            let Some(repacked) = releases.get_mut(&(version, id.clone())) else {
                continue;
            };
            if repacked.release.date.is_none() {
                repacked.release.date = date;
                repacked.details.told_by.date = told_by.date;
            }
            if repacked.release.security.is_none() {
                repacked.release.security = security;
                repacked.details.told_by.security = told_by.security;
            }
            repacked.release.withdrawn = repacked.release.withdrawn.take().or(withdrawn);
            repacked.details.notes = repacked.details.notes.take().or(notes);
        }
    }
}

/// The publishers, the main one first: those that the definition names, with what the parts say of them,
/// and those that only parts name.
fn publishers(definition: &Definition, parts: &[Part<'_>]) -> Vec<Publisher> {
    let mut named = definition.named_publishers();
    let mut of_catalogs = Vec::new();
    for part in parts {
        for publisher in &part.published.catalog.publishers {
            // A source that has one publisher only knows its id.
            if !part.source.kind.is_catalog() {
                continue;
            }
            match named.iter_mut().find(|known| known.id == publisher.id) {
                Some(known) if known.name == known.id => {
                    known.name.clone_from(&publisher.name);
                    known.remark = known.remark.take().or_else(|| publisher.remark.clone());
                }
                Some(_) => {}
                None if of_catalogs
                    .iter()
                    .any(|known: &Publisher| known.id == publisher.id) => {}
                None => of_catalogs.push(publisher.clone()),
            }
        }
    }
    // A definition that lists its publishers, or begins with one that is named, says who is the main one.
    let begins_with_catalog = definition.publishers.is_empty()
        && definition
            .sources
            .iter()
            .find(|source| source.kind.has_builds())
            .is_some_and(|source| source.kind.publisher().is_none());
    let mut publishers = match begins_with_catalog {
        true => [of_catalogs, named].concat(),
        false => [named, of_catalogs].concat(),
    };
    for (place, publisher) in publishers.iter_mut().enumerate() {
        publisher.main = place == 0;
    }
    publishers
}

/// The lines that are told, each with who dates it: those of the parts in their order, then those of the
/// definition.
fn lines(definition: &Definition, parts: &[Part<'_>]) -> Vec<Line> {
    let mut lines: Vec<Line> = Vec::new();
    let offering = parts.iter().filter(|part| part.offers);
    let others = parts.iter().filter(|part| !part.offers);
    let told = offering.chain(others).flat_map(|part| {
        // A line of which only a source's releases tell is made anew from all releases.
        let of_document = part.source.kind.is_catalog();
        let lines = part.published.catalog.lines.iter();
        let told = lines.filter(move |line| of_document || line.is_dated() || line.is_described());
        told.map(|line| Line {
            told_by: line.is_dated().then(|| part.source.name.clone()),
            ..line.clone()
        })
    });
    let own = definition.told_lines().into_iter().map(|line| Line {
        told_by: Some(DEFINITION.to_owned()),
        ..line
    });
    for line in told.chain(own) {
        // Whether anything final is there is seen anew from the releases.
        let line = Line {
            has_final: false,
            ..line
        };
        match lines.iter_mut().find(|known| known.numbers == line.numbers) {
            Some(known) => known.complete(&line),
            None => lines.push(line),
        }
    }
    // A line of which no source has a release any more, and that nobody dates, is none.
    let has_release = |line: &Line| {
        parts.iter().any(|part| {
            let releases = &part.published.catalog.releases;
            part.source.kind.has_builds()
                && releases.iter().any(|release| line.covers(&release.version))
        })
    };
    lines.retain(|line| line.is_dated() || has_release(line));
    lines
}

/// Who is named where the definition itself tells something.
pub const DEFINITION: &str = "definition";

#[cfg(test)]
mod tests {
    use super::*;
    use crate::address::Address;
    use jiff::civil::Date;
    use vshelf_core::catalog::{Build, Checksum};

    const DEFINITION_TEXT: &str = r#"
        name = "orache"
        title = "Orache"
        program = "orache"
        line-numbers = 2
        probe = { arguments = ["--version"], answer = "orache {version}" }
        lines = [{ line = "2.6", start = "2026-01-10", end = "2027-01-09" }]
        publishers = [
          { id = "saltmarsh", name = "Saltmarsh Foundation" },
          { id = "dunefield", name = "Dunefield Builds", repacks = "saltmarsh" },
        ]
        [[sources]]
        name = "list"
        kind = "wheels"
        publisher = "saltmarsh"
        package = "orache"
        [[sources]]
        name = "packages"
        kind = "wheels"
        publisher = "saltmarsh"
        package = "orache-packed"
        repack = true
        [[sources]]
        name = "trimmed"
        kind = "wheels"
        publisher = "dunefield"
        package = "orache-trimmed"
        repack = true
        [[sources]]
        name = "facts"
        kind = "facts"
        publisher = "saltmarsh"
        package = "orache-facts"
        releases = "r.json"
    "#;

    fn day(text: &str) -> Option<Date> {
        text.parse().ok()
    }

    /// A part of the source with this name: releases of one publisher, each with its day and whether it
    /// fixes a security problem.
    fn part<'d>(
        definition: &'d Definition,
        name: &str,
        offers: bool,
        releases: &[(&str, &str, Option<bool>)],
    ) -> Part<'d> {
        let source = definition
            .sources
            .iter()
            .find(|source| source.name == name)
            .unwrap();
        let publisher: Arc<str> = source.kind.publisher().unwrap().into();
        let mut catalog = Catalog {
            publishers: vec![Publisher::new(&publisher, &publisher, true)],
            ..Catalog::default()
        };
        let mut details = HashMap::new();
        for (version, date, security) in releases {
            let version: Version = version.parse().unwrap();
            let checksum: Checksum = format!("sha256:{}", "0a".repeat(32)).parse().unwrap();
            let platform: Platform = "linux-x64-gnu".parse().unwrap();
            let build = Build::new(platform.clone(), format!("/{name}/{version}"), checksum);
            catalog.releases.push(Release {
                version: version.clone(),
                publisher: publisher.clone(),
                date: day(date),
                security: *security,
                withdrawn: None,
                platforms: Arc::new([platform]),
            });
            let card = Details {
                builds: if source.kind.has_builds() {
                    vec![build]
                } else {
                    Vec::new()
                },
                ..Details::default()
            };
            details.insert((version, publisher.clone()), card);
        }
        let address = Address::read("/catalog").unwrap();
        Part {
            source,
            published: PublishedCatalog::new(catalog.ordered(), details, &address),
            offers,
        }
    }

    fn told(merged: &PublishedCatalog) -> Vec<String> {
        let releases = merged.catalog.releases.iter().map(|release| {
            let details = &merged.details[&(release.version.clone(), release.publisher.clone())];
            let sources = details
                .builds
                .iter()
                .filter_map(|build| build.source.as_deref());
            let sources: Vec<&str> = sources.collect();
            let date = release.date.map_or("undated".to_owned(), |date| {
                format!(
                    "{date} by {}",
                    details.told_by.date.as_deref().unwrap_or("nobody")
                )
            });
            let security = match release.security {
                Some(true) => ", security",
                Some(false) => ", no security",
                None => "",
            };
            let (publisher, version) = (&release.publisher, &release.version);
            format!(
                "{publisher}/{version} from {}, {date}{security}",
                sources.join("+")
            )
        });
        releases.collect()
    }

    #[test]
    fn what_is_known_comes_from_whoever_knows_it_and_bytes_from_whoever_has_them() {
        let definition = Definition::read(DEFINITION_TEXT).unwrap();
        let parts = [
            part(
                &definition,
                "packages",
                true,
                &[("2.6.3", "", None), ("2.6.2", "", None)],
            ),
            part(
                &definition,
                "trimmed",
                true,
                &[("2.6.3", "", Some(false)), ("2.5.9", "", None)],
            ),
            part(
                &definition,
                "facts",
                true,
                &[
                    ("2.6.3", "2026-10-14", Some(true)),
                    ("2.7.0", "2026-11-01", Some(false)),
                ],
            ),
        ];
        let merged = merge(&definition, &parts);
        assert_eq!(
            told(&merged),
            [
                "saltmarsh/2.6.3 from packages, 2026-10-14 by facts, security",
                "dunefield/2.6.3 from trimmed, 2026-10-14 by facts, no security",
                "saltmarsh/2.6.2 from packages, undated",
                "dunefield/2.5.9 from trimmed, undated",
            ]
        );
        assert_eq!(
            merged.catalog.main_publisher().unwrap().name,
            "Saltmarsh Foundation"
        );
        let lines: Vec<_> = merged
            .catalog
            .lines
            .iter()
            .map(|line| (&*line.name, line.told_by.as_deref()))
            .collect();
        assert_eq!(lines, [("2.6", Some("definition")), ("2.5", None)]);
    }

    #[test]
    fn sources_that_do_not_answer_know_and_help_and_offer_nothing() {
        let definition = Definition::read(DEFINITION_TEXT).unwrap();
        let parts = [
            part(
                &definition,
                "list",
                false,
                &[
                    ("2.7.0", "2026-11-01", Some(false)),
                    ("2.6.3", "2026-10-14", Some(true)),
                ],
            ),
            part(&definition, "packages", true, &[("2.6.3", "", None)]),
        ];
        assert_eq!(
            told(&merge(&definition, &parts)),
            ["saltmarsh/2.6.3 from packages+list, 2026-10-14 by list, security"]
        );
    }
}
