//! Catalogs kept on this machine, in a form that loads in well under a millisecond.
//!
//! Here is the policy: which file is a source's, when what is kept is fresh, what is done where a
//! source does not answer. `format` reads and writes the files, `details` their third part.

mod details;
mod format;

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use vshelf_core::Catalog;
use vshelf_core::definition::{Definition, SourceDefinition, SourceKind, fingerprint};
use vshelf_files::atomic::Temporary;
use vshelf_files::{atomic, optional};

pub use details::DamagedDetails;
pub use format::{Excerpt, Loaded, Origin};

use self::format::{Depth, read_file, render};
use crate::address::Address;
use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError};
use crate::kept_documents::KeptDocuments;
use crate::merge::{Part, merge};
use crate::registries::{Ecosystem, RegistryError, UserSettings};
use crate::transport::{Transport, Validators};

/// The folder of cached catalogs.
#[derive(Clone, Debug)]
pub struct CatalogCache {
    folder: PathBuf,
    fresh_for: Duration,
    settings: UserSettings,
    seen: PathBuf,
    /// What the settings said of where packages are, by a name for each ecosystem and scope: every look at the catalog
    /// of a runtime needs it, and it is in several files.
    said: Arc<Mutex<HashMap<String, String>>>,
}

/// Why there is no catalog.
#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    /// The source does not give it, and none is kept.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// The cache cannot be written.
    #[error("{path} cannot be written")]
    Write {
        /// The file or folder.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// What is kept of signed catalogs cannot be read.
    #[error("{path} cannot be read")]
    Seen {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// The details of a release cannot be read back.
    #[error(transparent)]
    Damaged(#[from] DamagedDetails),
}

impl CatalogCache {
    /// The cache in `folder`, which need not exist; what was confirmed less than `fresh_for` ago is
    /// taken without asking again. `settings` say where registries are, and the folder `seen` keeps of
    /// which time the newest signed catalogs were, which is no cache: whoever empties that must not be
    /// shown an older one.
    pub fn new(
        folder: PathBuf,
        fresh_for: Duration,
        settings: UserSettings,
        seen: PathBuf,
    ) -> CatalogCache {
        CatalogCache {
            folder,
            fresh_for,
            settings,
            seen,
            said: Arc::default(),
        }
    }

    fn file(&self, runtime: &str, source: &SourceDefinition) -> PathBuf {
        let id = self.id_of(source);
        self.folder.join(format!("{runtime}-{id}.catalog"))
    }

    /// What identifies a source: another text as soon as its definition, or where the person's settings say
    /// that it is, changes.
    pub fn id_of(&self, source: &SourceDefinition) -> String {
        source.id(&self.said_of(source))
    }

    /// What the person's settings say of where a source is, which its definition leaves to them.
    fn said_of(&self, source: &SourceDefinition) -> String {
        let once = |key: String, ask: &dyn Fn() -> Result<String, RegistryError>| {
            let mut known = self.said.lock().expect("nothing panics in here");
            // Whoever asks the source is told what is wrong.
            let read = || ask().unwrap_or_else(|error| error.to_string());
            known.entry(key).or_insert_with(read).clone()
        };
        let said = |ecosystem: Ecosystem, package: &str| {
            let scope = ecosystem.scope_of(package).unwrap_or_default();
            let ask = || self.settings.said_of(ecosystem, package);
            once(format!("{ecosystem:?} {scope}"), &ask)
        };
        match &source.kind {
            SourceKind::Npm { packages, .. } => {
                let mut places: Vec<String> = (packages.values())
                    .map(|package| said(Ecosystem::Npm, package))
                    .collect();
                places.dedup();
                places.join(" ")
            }
            SourceKind::Wheels { package, .. } => said(Ecosystem::Python, package),
            SourceKind::Facts { package, .. } => said(Ecosystem::Npm, package),
            SourceKind::Maven { address: None, .. } => {
                once("Maven".to_owned(), &|| self.settings.maven_said())
            }
            SourceKind::Catalog { .. }
            | SourceKind::Oci { .. }
            | SourceKind::ReleaseList { .. }
            | SourceKind::Folder { .. }
            | SourceKind::Table { .. }
            | SourceKind::Maven { .. }
            | SourceKind::Json(_) => String::new(),
        }
    }

    /// The file that keeps of which time the newest catalog was that this key signed; nothing where
    /// none has to be signed.
    fn seen_file(&self, runtime: &str, source: &SourceDefinition) -> Option<PathBuf> {
        let key = source.kind.key()?;
        let signer = fingerprint(key.as_bytes());
        Some(self.seen.join(format!("{runtime}-{signer:016x}")))
    }

    /// Of which time the newest signed catalog was. A file that says anything else is an error: taken for
    /// none, it would let an older catalog pass.
    fn seen(&self, file: Option<&Path>) -> io::Result<Option<Timestamp>> {
        let text = file.map(optional::read_text).transpose()?.flatten();
        let time = text.map(|text| text.trim().parse());
        time.transpose()
            .map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))
    }

    /// The file of what the sources of a runtime say together: another one as soon as its definition
    /// says anything else about them.
    fn merged_file(&self, definition: &Definition) -> PathBuf {
        let sources = definition.sources.iter();
        let ids: Vec<String> = sources.map(|source| self.id_of(source)).collect();
        let said = serde_json::to_string(&(
            ids,
            &definition.publishers,
            &definition.lines,
            definition.line_numbers,
            definition.supported_lines,
        ));
        let said = said.expect("texts and numbers serialise");
        let name = &definition.name;
        self.folder.join(format!(
            "{name}-{:016x}.catalog",
            fingerprint(said.as_bytes())
        ))
    }

    /// Which of these runtimes catalogs may be kept of, by the names of the files.
    pub fn kept_of(&self, mut runtimes: Vec<String>) -> io::Result<Vec<String>> {
        let files = optional::names(&self.folder)?;
        let is_of = |runtime: &str, file: &String| {
            let rest = file.strip_prefix(runtime);
            rest.is_some_and(|rest| rest.starts_with('-'))
        };
        runtimes.retain(|runtime| files.iter().any(|file| is_of(runtime, file)));
        Ok(runtimes)
    }

    /// The files of catalogs that belong to none of these definitions any more. Definitions of which
    /// [`CatalogCache::kept_of`] knows nothing need not be among them.
    pub fn unclaimed(&self, known: &[Arc<Definition>]) -> io::Result<Vec<PathBuf>> {
        let files_of = |definition: &Arc<Definition>| {
            let sources = definition.sources.iter();
            let of_sources = sources.map(|source| self.file(&definition.name, source));
            let merged = std::iter::once(self.merged_file(definition));
            of_sources.chain(merged).collect::<Vec<_>>()
        };
        let claimed: Vec<PathBuf> = known.iter().flat_map(files_of).collect();
        let mut unclaimed = Vec::new();
        for entry in optional::entries(&self.folder)? {
            let path = entry.path();
            let is_of_catalog = (path.extension())
                .is_some_and(|ending| ending == "catalog" || ending == "documents");
            if is_of_catalog && !claimed.contains(&path.with_extension("catalog")) {
                unclaimed.push(path);
            }
        }
        unclaimed.sort();
        Ok(unclaimed)
    }

    /// What the sources of a runtime said together, however old that is; nobody is asked.
    pub fn merged(&self, definition: &Definition) -> Option<Loaded> {
        self.read_merged(definition, Depth::Releases)
    }

    /// The same, with those releases alone that stand for their lines ([`outlook::heads`]).
    ///
    /// [`outlook::heads`]: vshelf_core::outlook::heads
    pub fn merged_heads(&self, definition: &Definition) -> Option<Loaded> {
        self.read_merged(definition, Depth::Heads)
    }

    /// The lines, channels and publishers of it, without its releases.
    pub fn merged_outline(&self, definition: &Definition) -> Option<Catalog> {
        let loaded = self.read_merged(definition, Depth::Outline);
        loaded.map(|loaded| loaded.catalog)
    }

    /// The same, with some releases alone.
    pub fn merged_excerpt(
        &self,
        definition: &Definition,
        excerpt: &Excerpt<'_>,
    ) -> Option<Catalog> {
        let loaded = self.read_merged(definition, Depth::Excerpt(excerpt));
        loaded.map(|loaded| loaded.catalog)
    }

    fn read_merged(&self, definition: &Definition, depth: Depth<'_>) -> Option<Loaded> {
        let file = read_file(&self.merged_file(definition), depth).ok()?;
        file.map(|(loaded, _)| loaded)
    }

    /// What the sources of a runtime said together, where that was so lately that none of them need be
    /// asked.
    pub fn fresh_merged(&self, definition: &Definition, now: Timestamp) -> Option<Loaded> {
        self.read_fresh(definition, now, Depth::Releases)
    }

    /// The same, with those releases alone that stand for their lines.
    pub fn fresh_heads(&self, definition: &Definition, now: Timestamp) -> Option<Loaded> {
        self.read_fresh(definition, now, Depth::Heads)
    }

    fn read_fresh(
        &self,
        definition: &Definition,
        now: Timestamp,
        depth: Depth<'_>,
    ) -> Option<Loaded> {
        let mut sources = definition.sources.iter();
        let is_unchanged = |source| self.is_unchanged(&definition.name, source);
        let is_unchanged = sources.all(is_unchanged);
        let merged = is_unchanged.then(|| self.read_merged(definition, depth))?;
        merged.filter(|loaded| self.is_fresh(loaded, now))
    }

    /// Whether a source is on another machine, or its document on this one is the file that was read. Changes to it
    /// show at once.
    fn is_unchanged(&self, runtime: &str, source: &SourceDefinition) -> bool {
        if !source.kind.is_local() {
            return true;
        }
        let kept = read_file(&self.file(runtime, source), Depth::Outline);
        let Ok(Some((_, kept))) = kept else {
            return false;
        };
        let document = local_document(&source.kind).and_then(|path| fs::metadata(path).ok());
        let now = document.map(|document| Validators::of_file(&document));
        kept.etag.is_some() && now.is_some_and(|now| now == kept)
    }

    /// Keeps what these parts say together as said at `now`, and gives it back loaded.
    pub fn merge(
        &self,
        definition: &Definition,
        parts: &[Part<'_>],
        now: Timestamp,
    ) -> Result<Loaded, LoadError> {
        let offering = parts
            .iter()
            .filter(|part| part.offers && part.source.kind.has_builds());
        let names: Vec<&str> = offering.map(|part| part.source.name.as_str()).collect();
        let merged = merge(definition, parts);
        self.keep(
            &self.merged_file(definition),
            &names.join(" "),
            &merged,
            now,
        )
    }

    /// What is kept, however old, without asking anybody.
    pub fn kept(&self, runtime: &str, source: &SourceDefinition) -> Option<Loaded> {
        let file = read_file(&self.file(runtime, source), Depth::Releases).ok()?;
        file.map(|(loaded, _)| loaded)
    }

    /// What is kept, where that was confirmed so lately that nobody need be asked.
    pub fn fresh(
        &self,
        runtime: &str,
        source: &SourceDefinition,
        now: Timestamp,
    ) -> Option<Loaded> {
        if !self.is_unchanged(runtime, source) {
            return None;
        }
        self.kept(runtime, source)
            .filter(|loaded| self.is_fresh(loaded, now))
    }

    /// How long a catalog that was confirmed then counts as fresh: shorter than is allowed by up to a quarter,
    /// by another part for each machine and each time. So machines that asked together do not ask together
    /// again and again.
    fn fresh_since(&self, confirmed: Timestamp) -> Duration {
        let folder = self.folder.to_string_lossy();
        let seed = fingerprint(format!("{folder} {}", confirmed.as_nanosecond()).as_bytes());
        // Its low bits are the best mixed.
        let part = (seed % 1000) as u32;
        self.fresh_for - self.fresh_for / 4 * part / 1000
    }

    fn is_fresh(&self, loaded: &Loaded, now: Timestamp) -> bool {
        // A clock that was set back must not make a catalog fresh for ever.
        let age = now.duration_since(loaded.origin.confirmed);
        age >= SignedDuration::ZERO
            && age.unsigned_abs() < self.fresh_since(loaded.origin.confirmed)
            && loaded.origin.expires.is_none_or(|expires| now <= expires)
    }

    /// The catalog of `source`, which is defined so in this runtime, as it is now, or what is kept with the reason why it could not be
    /// renewed.
    pub fn renew(
        &self,
        (runtime, definition): (&str, &SourceDefinition),
        source: &dyn Source,
        transport: &Transport,
        now: Timestamp,
    ) -> Result<Loaded, LoadError> {
        let file = self.file(runtime, definition);
        let kept = read_file(&file, Depth::Releases).ok().flatten();
        let kept = match kept {
            Some((loaded, _)) if transport.is_offline() => return Ok(loaded),
            kept => kept,
        };
        let seen_file = self.seen_file(runtime, definition);
        let seen = self.seen(seen_file.as_deref());
        let seen = seen.map_err(|source| LoadError::Seen {
            path: seen_file.clone().unwrap_or_default(),
            source,
        })?;
        let known = match &kept {
            Some((loaded, validators)) => Known {
                validators: validators.clone(),
                updated: loaded.catalog.updated.max(seen),
                expires: loaded.origin.expires,
                documents: KeptDocuments::read(&documents_of(&file)),
                now,
            },
            None => Known {
                updated: seen,
                ..Known::nothing(now)
            },
        };
        match (source.fetch(transport, &known), kept) {
            (Ok(Fetched::Changed(published)), _) => {
                if let (Some(file), Some(updated)) = (&seen_file, published.catalog.updated) {
                    atomic::write_file(file, updated.to_string().as_bytes()).map_err(|source| {
                        LoadError::Write {
                            path: file.clone(),
                            source,
                        }
                    })?;
                }
                let documents = documents_of(&file);
                let kept = published.documents.write(&documents);
                kept.map_err(|source| LoadError::Write {
                    path: documents,
                    source,
                })?;
                self.keep(&file, &definition.name, &published, now)
            }
            (Ok(Fetched::Unchanged), Some((mut loaded, _))) => {
                loaded.origin.confirmed = now;
                touch(&file, now).map_err(|source| LoadError::Write { path: file, source })?;
                Ok(loaded)
            }
            (Ok(Fetched::Unchanged), None) => Err(DamagedDetails { path: file }.into()),
            (Err(error), Some((mut loaded, _))) => {
                loaded.origin.not_renewed = Some(error.to_string());
                Ok(loaded)
            }
            (Err(error), None) => Err(error.into()),
        }
    }

    /// Writes a catalog to its file, by rename, and gives it back loaded.
    fn keep(
        &self,
        file: &Path,
        name: &str,
        published: &PublishedCatalog,
        now: Timestamp,
    ) -> Result<Loaded, LoadError> {
        let bytes = render(name, published);
        let write = || -> io::Result<()> {
            let mut temporary = Temporary::in_place_of(file)?;
            temporary.file().write_all(&bytes)?;
            temporary.file().set_modified(now.into())?;
            temporary.persist()
        };
        let failed = |source| LoadError::Write {
            path: file.to_owned(),
            source,
        };
        write().map_err(failed)?;
        match read_file(file, Depth::Releases).map_err(failed)? {
            Some((loaded, _)) => Ok(loaded),
            None => Err(DamagedDetails {
                path: file.to_owned(),
            }
            .into()),
        }
    }
}

/// The file on this machine that a source reads first.
fn local_document(kind: &SourceKind) -> Option<PathBuf> {
    let address = Address::read(kind.addresses().next()?).ok()?;
    let document = match kind {
        SourceKind::Folder { checksums, .. } => address.below(checksums).ok()?,
        _ => address,
    };
    match document {
        Address::File(path) => Some(path),
        Address::Web(_) => None,
    }
}

/// The file with what each document of a source says, beside that with its catalog.
fn documents_of(catalog: &Path) -> PathBuf {
    catalog.with_extension("documents")
}

/// The time of confirmation is the file's own, so that confirming rewrites nothing.
fn touch(file: &Path, now: Timestamp) -> io::Result<()> {
    File::options()
        .write(true)
        .open(file)?
        .set_modified(now.into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::transport::Validators;
    use std::cell::Cell;
    use std::fs;
    use vshelf_core::catalog::{Build, Details, LibcVersion, Line, Publisher, Release};
    use vshelf_core::definition::SourceKind;

    struct Scripted {
        answers: Cell<Vec<Result<Fetched, SourceError>>>,
    }

    impl Source for Scripted {
        fn fetch(&self, _: &Transport, _: &Known) -> Result<Fetched, SourceError> {
            let mut answers = self.answers.take();
            let answer = answers.remove(0);
            self.answers.set(answers);
            answer
        }
    }

    fn published() -> PublishedCatalog {
        let release = |version: &str, withdrawn: Option<&str>| Release {
            version: version.parse().unwrap(),
            publisher: "saltmarsh".into(),
            date: "2026-10-14".parse().ok(),
            security: Some(true),
            withdrawn: withdrawn.map(Into::into),
            platforms: Arc::new(["linux-x64".parse().unwrap()]),
        };
        let publisher = Publisher::new("saltmarsh", "Saltmarsh\tFoundation", true);
        let catalog = Catalog {
            runtime: "marram".into(),
            publishers: vec![publisher],
            channels: [("stable".to_owned(), "8".to_owned())].into(),
            lines: vec![Line {
                codename: Some("Eelgrass".into()),
                end: "2029-04-30".parse().ok(),
                ..Line::undated("8")
            }],
            releases: vec![
                release("8.3.1", None),
                release("8.3.0", Some("breaks the bell")),
            ],
            ..Catalog::default()
        }
        .ordered();
        let checksum = format!("sha256:{}", "0a".repeat(32)).parse().unwrap();
        let address = "http://gull.example/m.tar.gz".to_owned();
        let build = Build {
            mirrors: vec!["/srv/m.tar.gz".into()],
            size: Some(7),
            oldest_libc: Some(LibcVersion(2, 28)),
            ..Build::new("linux-x64".parse().unwrap(), address, checksum)
        };
        let details = Details {
            builds: vec![build],
            bundles: [("tussock".to_owned(), "3.2.0".to_owned())].into(),
            ..Details::default()
        };
        PublishedCatalog {
            expires: None,
            left_out: Vec::new(),
            unused_patterns: Vec::new(),
            skipped: Vec::new(),
            documents: KeptDocuments::default(),
            details: [(("8.3.1".parse().unwrap(), "saltmarsh".into()), details)].into(),
            catalog,
            address: "http://gull.example/catalog.json".into(),
            validators: Validators {
                etag: Some("\"a\"".into()),
                modified: None,
            },
        }
    }

    impl PublishedCatalog {
        fn build(&self) -> Build {
            self.details.values().next().unwrap().builds[0].clone()
        }
    }

    fn cache_in(home: &Path) -> CatalogCache {
        CatalogCache::new(
            home.join("catalogs"),
            Duration::from_secs(3600),
            UserSettings::default(),
            home.join("signed"),
        )
    }

    fn failure() -> SourceError {
        SourceError::Document {
            address: "http://gull.example/catalog.json".into(),
            problem: "empty".into(),
        }
    }

    fn demo() -> SourceDefinition {
        let kind = SourceKind::Wheels {
            package: "marram".to_owned(),
            publisher: "saltmarsh".to_owned(),
        };
        SourceDefinition::new("demo", kind)
    }

    fn definition() -> Definition {
        let text = r#"
            name = "marram"
            title = "Marram"
            program = "marram"
            probe = { arguments = ["--version"], answer = "marram {version}" }
            [[sources]]
            name = "demo"
            kind = "wheels"
            package = "marram"
            publisher = "saltmarsh"
        "#;
        Definition::read(text).unwrap()
    }

    /// Two thousand machines are started in the same minute and look at their catalogs every five minutes.
    #[test]
    fn machines_that_asked_together_do_not_ask_together_for_ever() {
        let start: Timestamp = "2026-11-23T09:00:00Z".parse().unwrap();
        let mut asked = vec![0; 8 * 12];
        for machine in 0..2000_i64 {
            let folder = PathBuf::from(format!("/home/gull-{machine}/.cache"));
            let cache = CatalogCache::new(
                folder,
                Duration::from_secs(3600),
                UserSettings::default(),
                PathBuf::new(),
            );
            // Each within a second of the other, and each looks at another second of five minutes.
            let mut confirmed = start + SignedDuration::from_micros(machine * 500);
            for look in 1..asked.len() as i64 {
                let now = start + SignedDuration::from_secs(look * 300 + machine % 300);
                let age = now.duration_since(confirmed).unsigned_abs();
                assert!(age < Duration::from_secs(3600 + 300));
                if age >= cache.fresh_since(confirmed) {
                    confirmed = now;
                    asked[look as usize] += 1;
                }
            }
        }
        // The first time again they ask within a quarter of an hour, and each time within a longer one.
        let most = |looks: &[i32]| looks.iter().max().copied().unwrap();
        assert!(most(&asked) < 2000 * 2 / 5, "{asked:?}");
        assert!(most(&asked[84..]) < 2000 / 5, "{asked:?}");
        let hours: Vec<i32> = asked
            .windows(12)
            .skip(36)
            .map(|hour| hour.iter().sum())
            .collect();
        assert!(
            hours.iter().all(|hour| (1800..=2800).contains(hour)),
            "{hours:?}"
        );
    }

    /// What is fresh, or else what the source's next answer makes of it.
    fn load(
        cache: &CatalogCache,
        answers: Vec<Result<Fetched, SourceError>>,
        now: Timestamp,
    ) -> Result<Loaded, LoadError> {
        let source = Scripted {
            answers: Cell::new(answers),
        };
        match cache.fresh("marram", &demo(), now) {
            Some(loaded) => Ok(loaded),
            None => cache.renew(("marram", &demo()), &source, &Transport::default(), now),
        }
    }

    #[test]
    fn a_catalog_comes_back_as_it_was_kept() {
        let folder = tempfile::tempdir().unwrap();
        let cache = cache_in(folder.path());
        let now = Timestamp::now();
        let fresh = load(
            &cache,
            vec![Ok(Fetched::Changed(Box::new(published())))],
            now,
        )
        .unwrap();
        let kept = cache.kept("marram", &demo()).unwrap();
        for loaded in [&fresh, &kept] {
            let line = &loaded.catalog.lines[0];
            assert_eq!(line.codename.as_deref(), Some("Eelgrass"));
            assert_eq!(line.end, "2029-04-30".parse().ok());
            let releases = &loaded.catalog.releases;
            assert_eq!(releases[1].withdrawn.as_deref(), Some("breaks the bell"));
            assert_eq!(releases[0].date, "2026-10-14".parse().ok());
            let details = loaded.details(&releases[0]).unwrap();
            assert_eq!(details.builds[0], published().build());
            assert_eq!(details.bundles["tussock"], "3.2.0");
            assert_eq!(loaded.catalog.channel("STABLE"), Some(("stable", "8")));
        }
        // Fresh: nobody is asked (the script is empty and would panic).
        load(&cache, vec![], now).unwrap();
    }

    #[test]
    fn an_old_catalog_serves_where_the_source_fails() {
        let folder = tempfile::tempdir().unwrap();
        let cache = cache_in(folder.path());
        let now = Timestamp::now();
        load(
            &cache,
            vec![Ok(Fetched::Changed(Box::new(published())))],
            now,
        )
        .unwrap();
        let later = now + SignedDuration::from_hours(72);
        let stale = load(&cache, vec![Err(failure())], later).unwrap();
        assert!(
            stale
                .origin
                .not_renewed
                .unwrap()
                .contains("is not a catalog: empty")
        );
        assert!(stale.origin.confirmed < later - SignedDuration::from_hours(71));
        let confirmed = load(&cache, vec![Ok(Fetched::Unchanged)], later).unwrap();
        assert_eq!(confirmed.origin.not_renewed, None);
        load(&cache, vec![], later).unwrap();
        // A clock that jumped back does not make it fresh for ever.
        let earlier = now - SignedDuration::from_hours(72);
        let answer = vec![Ok(Fetched::Changed(Box::new(published())))];
        assert_eq!(
            load(&cache, answer, earlier).unwrap().origin.confirmed,
            earlier
        );
    }

    #[test]
    fn what_sources_say_together_is_kept_beside_them() {
        let folder = tempfile::tempdir().unwrap();
        let cache = cache_in(folder.path());
        let now = Timestamp::now();
        let definition = definition();
        assert!(cache.merged(&definition).is_none());
        let part = Part {
            source: &definition.sources[0],
            published: published(),
            offers: true,
        };
        let merged = cache.merge(&definition, &[part], now).unwrap();
        assert_eq!(merged.origin.source, "demo");
        let details = merged.details(&merged.catalog.releases[0]).unwrap();
        let build = Build {
            source: Some("demo".to_owned()),
            ..published().build()
        };
        assert_eq!(details.builds, [build]);
        let outline = cache.merged_outline(&definition).unwrap();
        assert_eq!(outline.lines, merged.catalog.lines);
        assert!(outline.releases.is_empty());
        let heads = cache.merged_heads(&definition).unwrap().catalog;
        assert_eq!(heads.lines, merged.catalog.lines);
        let versions = heads.releases.iter().map(|head| head.version.as_str());
        assert_eq!(versions.collect::<Vec<_>>(), ["8.3.1", "8.3.0"]);
        assert!(cache.fresh_merged(&definition, now).is_some());
        let later = now + SignedDuration::from_hours(2);
        assert!(cache.fresh_merged(&definition, later).is_none());
        // Another definition has nothing kept, and the file is known to belong to nobody.
        let mut other = definition.clone();
        other.line_numbers = Some(2);
        assert!(cache.merged(&other).is_none());
        let runtimes = ["mar", "marram", "sedge"].map(str::to_owned);
        assert_eq!(cache.kept_of(runtimes.into()).unwrap(), ["marram"]);
        assert_eq!(
            cache.unclaimed(&[definition.into()]).unwrap(),
            [] as [PathBuf; 0]
        );
        assert_eq!(cache.unclaimed(&[other.into()]).unwrap().len(), 1);
    }

    #[test]
    fn a_damaged_file_is_fetched_anew_and_never_trusted() {
        let folder = tempfile::tempdir().unwrap();
        let cache = cache_in(folder.path());
        let now = Timestamp::now();
        let changed = || vec![Ok(Fetched::Changed(Box::new(published())))];
        load(&cache, changed(), now).unwrap();
        let file = cache.file("marram", &demo());
        let whole = fs::read(&file).unwrap();
        let releases = String::from_utf8_lossy(&whole).rfind("release\t");
        for at in [0, 60, releases.unwrap()] {
            let mut damaged = whole.clone();
            damaged[at] ^= 1;
            fs::write(&file, &damaged).unwrap();
            assert!(cache.kept("marram", &demo()).is_none(), "byte {at}");
            load(&cache, changed(), now).unwrap();
        }
        fs::write(&file, &whole[..whole.len() / 4]).unwrap();
        assert!(cache.kept("marram", &demo()).is_none());
        let mut damaged = whole.clone();
        let last = damaged.len() - 3;
        damaged[last - 40..last].fill(b'x');
        fs::write(&file, &damaged).unwrap();
        let loaded = cache.kept("marram", &demo()).unwrap();
        let broken = loaded
            .catalog
            .releases
            .iter()
            .any(|r| loaded.details(r).is_err());
        assert!(broken, "damaged details are found out when they are read");
    }
}
