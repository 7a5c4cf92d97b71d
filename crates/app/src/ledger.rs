//! The ledger of what sources stated, as far as it counts today: its sources are defined as they were then.

use jiff::Timestamp;
use vshelf_core::catalog::{Build, Release};
use vshelf_core::{Key, Platform};
use vshelf_files::action::FileAction;
use vshelf_shelf::Layout;
use vshelf_shelf::statements::{self, Statement};
use vshelf_sources::Archive;

use crate::error::{Error, file_error};
use crate::events::{Event, Listener};
use crate::install::job::Offer;
use crate::runtime::Runtime;

/// The statement that a located archive stands for.
pub fn statement(
    at: Timestamp,
    release: &Release,
    offer: &Offer,
    build: &Build,
    archive: &Archive,
) -> Statement {
    Statement {
        at,
        version: release.version.clone(),
        publisher: release.publisher.to_string(),
        platform: build.platform.clone(),
        source: offer.source.name.clone(),
        source_id: offer.source_id.clone(),
        signed_by: offer.source.kind.key().map(str::to_owned),
        address: build.address.clone(),
        mirrors: build.mirrors.clone(),
        digest: archive.digest.clone(),
        size: build.size,
        spelled: build.spelled.clone(),
        repack: build.repack,
        companions: build.companions.clone(),
    }
}

/// The statements of a runtime's sources about a release, on any platform.
pub fn stated(runtime: &Runtime<'_>, key: &Key) -> Result<Vec<Statement>, Error> {
    let environment = runtime.environment();
    let layout = environment.layout()?;
    let cache = environment.catalogs()?;
    let mut stated = statements::statements(&layout, runtime.name()).map_err(file_error(
        &layout.statements(runtime.name()),
        FileAction::Read,
    ))?;
    stated.retain(|statement| {
        let source = runtime.definition.source(&statement.source);
        let is_as_it_was = source.is_some_and(|source| cache.id_of(source) == statement.source_id);
        is_as_it_was && statement.key() == *key
    });
    Ok(stated)
}

/// The release with this key and its offers for a platform, from the ledger alone: `None` if it states
/// nothing for that platform.
pub fn offered(
    runtime: &Runtime<'_>,
    key: &Key,
    host: &Platform,
) -> Result<Option<(Release, Vec<Offer>)>, Error> {
    let mut stated = stated(runtime, key)?;
    stated.retain(|statement| statement.platform.runs_on(host));
    stated.sort_by_key(|statement| statement.platform.order_on(host));
    let Some(first) = stated.first() else {
        return Ok(None);
    };
    let release = Release {
        version: first.version.clone(),
        publisher: first.publisher.as_str().into(),
        date: None,
        security: None,
        withdrawn: None,
        platforms: stated
            .iter()
            .map(|statement| statement.platform.clone())
            .collect(),
    };
    let mut offers = Vec::new();
    for source in &runtime.definition.sources {
        let of_source = stated
            .iter()
            .filter(|statement| statement.source == source.name);
        let builds: Vec<Build> = of_source.map(Statement::build).collect();
        if !builds.is_empty() {
            offers.push(Offer::of(runtime, source, builds)?);
        }
    }
    Ok(Some((release, offers)))
}

/// Writes the statements of a runtime's sources to its ledger. A failure is only told: a lock or an install is as
/// sound without them, and later commands ask the sources again.
pub fn note(layout: &Layout, runtime: &str, statements: &[Statement], listener: &dyn Listener) {
    if let Err(error) = statements::note_statements(layout, runtime, statements) {
        let path = layout.statements(runtime);
        listener.tell(Event::LeftUndone(&file_error(&path, FileAction::Write)(
            error,
        )));
    }
}
