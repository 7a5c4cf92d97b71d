//! Catalogs kept on this machine, in a form that loads in well under a millisecond.
//!
//! One file a source, in three parts, so that a command reads no more than it needs. The outline
//! holds publishers, channels and lines, and the second part the releases, as lines of tab-separated
//! fields; the third holds the details of each release as a line of JSON, of which only those asked
//! for are read. All are covered by checksums: a damaged file, or one of another format, counts as
//! absent and is fetched anew.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use vshelf_core::catalog::{Build, Catalog, Details, Line, Publisher, Release};
use vshelf_core::definition::SourceDefinition;
use vshelf_core::{Platform, Version};

use crate::source::{Fetched, Known, PublishedCatalog, Source, SourceError};
use crate::transport::{Transport, Validators};

/// The first word of a cache file; the number changes with the form.
const FORMAT: &str = "vivid-shelf-catalog-cache/2";

/// How much of a file is read at once: enough for the outline of any catalog so far.
const FIRST_READ: usize = 8 << 10;

/// The folder of cached catalogs.
#[derive(Clone, Debug)]
pub struct CatalogCache {
    folder: PathBuf,
    fresh_for: Duration,
}

/// A catalog, and where it came from.
#[derive(Debug)]
pub struct Loaded {
    /// The catalog.
    pub catalog: Catalog,
    /// Where it came from.
    pub origin: Origin,
    file: PathBuf,
    places: Vec<DetailsPlace>,
}

/// Where a catalog came from, and when.
#[derive(Clone, Debug)]
pub struct Origin {
    /// The source's name in the definition.
    pub source: String,
    /// The address that was asked.
    pub address: String,
    /// When the source last confirmed it.
    pub confirmed: Timestamp,
    /// Why it was not confirmed now, if that was tried.
    pub not_renewed: Option<String>,
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
    /// The details of a release cannot be read back.
    #[error("{path} is damaged")]
    Damaged {
        /// The file.
        path: PathBuf,
    },
}

#[derive(Clone, Copy, Debug)]
struct DetailsPlace {
    offset: u64,
    length: usize,
    checksum: u32,
}

#[derive(Serialize, Deserialize)]
struct CachedDetails {
    builds: Vec<CachedBuild>,
    bundles: std::collections::BTreeMap<String, String>,
    notes: Option<String>,
}

#[derive(Serialize, Deserialize)]
struct CachedBuild {
    platform: Platform,
    address: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    mirrors: Vec<String>,
    size: Option<u64>,
    checksum: String,
}

impl CatalogCache {
    /// The cache in `folder`, which need not exist; what was confirmed less than `fresh_for` ago is
    /// taken without asking again.
    pub fn new(folder: PathBuf, fresh_for: Duration) -> CatalogCache {
        CatalogCache { folder, fresh_for }
    }

    fn file(&self, runtime: &str, source: &SourceDefinition) -> PathBuf {
        self.folder
            .join(format!("{runtime}-{}.catalog", source.id()))
    }

    /// The files of catalogs whose source is none of these any more; `known` has the sources of each
    /// runtime.
    pub fn unclaimed(&self, known: &[(&str, &[SourceDefinition])]) -> io::Result<Vec<PathBuf>> {
        let entries = match fs::read_dir(&self.folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(error),
        };
        let claimed: Vec<PathBuf> = known
            .iter()
            .flat_map(|(runtime, sources)| sources.iter().map(|source| self.file(runtime, source)))
            .collect();
        let mut unclaimed = Vec::new();
        for entry in entries {
            let path = entry?.path();
            let is_catalog = path.extension().is_some_and(|ending| ending == "catalog");
            if is_catalog && !claimed.contains(&path) {
                unclaimed.push(path);
            }
        }
        unclaimed.sort();
        Ok(unclaimed)
    }

    /// The source whose catalog was confirmed last, of those that have one here.
    pub fn latest<'s>(
        &self,
        runtime: &str,
        sources: &'s [SourceDefinition],
    ) -> Option<&'s SourceDefinition> {
        if let [only] = sources {
            return Some(only);
        }
        let confirmed = |source| {
            fs::metadata(self.file(runtime, source))
                .ok()?
                .modified()
                .ok()
        };
        let kept = sources
            .iter()
            .filter_map(|source| Some((confirmed(source)?, source)));
        // Of two that were confirmed at once, the first in the definition.
        kept.rev()
            .max_by_key(|(time, _)| *time)
            .map(|(_, source)| source)
    }

    /// What is kept, however old, without asking anybody.
    pub fn kept(&self, runtime: &str, source: &SourceDefinition) -> Option<Loaded> {
        let file = read_file(&self.file(runtime, source), Depth::Releases).ok()?;
        file.map(|(loaded, _)| loaded)
    }

    /// What is kept, with the releases of these lines only.
    pub fn kept_lines(
        &self,
        runtime: &str,
        source: &SourceDefinition,
        lines: &[String],
    ) -> Option<Catalog> {
        let file = read_file(&self.file(runtime, source), Depth::Lines(lines)).ok()?;
        file.map(|(loaded, _)| loaded.catalog)
    }

    /// The lines, channels and publishers of what is kept, without its releases.
    pub fn kept_outline(&self, runtime: &str, source: &SourceDefinition) -> Option<Catalog> {
        let file = read_file(&self.file(runtime, source), Depth::Outline).ok()?;
        file.map(|(loaded, _)| loaded.catalog)
    }

    /// What is kept, where that was confirmed so lately that nobody need be asked.
    pub fn fresh(
        &self,
        runtime: &str,
        source: &SourceDefinition,
        now: Timestamp,
    ) -> Option<Loaded> {
        // A clock that was set back must not make a catalog fresh for ever.
        let age = |loaded: &Loaded| now.duration_since(loaded.origin.confirmed);
        self.kept(runtime, source).filter(|loaded| {
            age(loaded) >= SignedDuration::ZERO && age(loaded).unsigned_abs() < self.fresh_for
        })
    }

    /// The catalog of `source` as it is now, or what is kept with the reason why it could not be
    /// renewed.
    pub fn renew(
        &self,
        runtime: &str,
        definition: &SourceDefinition,
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
        let known = match &kept {
            Some((loaded, validators)) => Known {
                validators: validators.clone(),
                updated: loaded.catalog.updated,
            },
            None => Known::default(),
        };
        match (source.fetch(transport, &known), kept) {
            (Ok(Fetched::Changed(published)), _) => {
                self.keep(&file, &definition.name, &published, now)
            }
            (Ok(Fetched::Unchanged), Some((mut loaded, _))) => {
                loaded.origin.confirmed = now;
                touch(&file, now).map_err(|source| LoadError::Write { path: file, source })?;
                Ok(loaded)
            }
            (Ok(Fetched::Unchanged), None) => Err(LoadError::Damaged { path: file }),
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
            fs::create_dir_all(&self.folder)?;
            let mut temporary = tempfile::NamedTempFile::new_in(&self.folder)?;
            temporary.write_all(&bytes)?;
            temporary.as_file().set_modified(now.into())?;
            temporary.persist(file)?;
            Ok(())
        };
        let failed = |source| LoadError::Write {
            path: file.to_owned(),
            source,
        };
        write().map_err(failed)?;
        match read_file(file, Depth::Releases).map_err(failed)? {
            Some((loaded, _)) => Ok(loaded),
            None => Err(LoadError::Damaged {
                path: file.to_owned(),
            }),
        }
    }
}

impl Loaded {
    /// The builds and notes of a release of this catalog.
    pub fn details(&self, release: &Release) -> Result<Details, LoadError> {
        let damaged = || LoadError::Damaged {
            path: self.file.clone(),
        };
        let index = self
            .catalog
            .releases
            .iter()
            .position(|r| r.version == release.version && r.publisher == release.publisher)
            .ok_or_else(damaged)?;
        let place = self.places[index];
        let read = || -> io::Result<Vec<u8>> {
            let mut file = File::open(&self.file)?;
            file.seek(SeekFrom::Start(place.offset))?;
            let mut bytes = vec![0; place.length];
            file.read_exact(&mut bytes)?;
            Ok(bytes)
        };
        let bytes = read().map_err(|_| damaged())?;
        if crc32fast::hash(&bytes) != place.checksum {
            return Err(damaged());
        }
        let cached: CachedDetails = serde_json::from_slice(&bytes).map_err(|_| damaged())?;
        let builds = cached
            .builds
            .into_iter()
            .map(|build| {
                Ok(Build {
                    platform: build.platform,
                    address: build.address,
                    mirrors: build.mirrors,
                    size: build.size,
                    checksum: build.checksum.parse().map_err(|_| damaged())?,
                })
            })
            .collect::<Result<_, LoadError>>()?;
        Ok(Details {
            builds,
            bundles: cached.bundles,
            notes: cached.notes,
        })
    }
}

/// The time of confirmation is the file's own, so that confirming rewrites nothing.
fn touch(file: &Path, now: Timestamp) -> io::Result<()> {
    File::options()
        .write(true)
        .open(file)?
        .set_modified(now.into())
}

fn render(name: &str, published: &PublishedCatalog) -> Vec<u8> {
    let catalog = &published.catalog;
    let mut outline = Fields::default();
    let validators = &published.validators;
    outline.line(&[
        "origin",
        name,
        &published.address,
        validators.etag.as_deref().unwrap_or(""),
        validators.modified.as_deref().unwrap_or(""),
    ]);
    let updated = catalog.updated.map(|t| t.to_string()).unwrap_or_default();
    outline.line(&["runtime", &catalog.runtime, &updated]);
    for publisher in &catalog.publishers {
        outline.line(&[
            "publisher",
            &publisher.id,
            &publisher.name,
            flag(publisher.main),
        ]);
    }
    for (channel, selector) in &catalog.channels {
        outline.line(&["channel", channel, selector]);
    }
    let date = |date: Option<Date>| date.map(|d| d.to_string()).unwrap_or_default();
    for line in &catalog.lines {
        outline.line(&[
            "line",
            &line.name,
            line.codename.as_deref().unwrap_or(""),
            &date(line.start),
            &date(line.lts),
            &date(line.maintenance),
            &date(line.end),
            flag(line.has_final),
        ]);
    }
    let mut releases = Fields::default();
    let mut platform_sets: HashMap<&[Platform], usize> = HashMap::new();
    let mut cold = Vec::new();
    for release in &catalog.releases {
        let known_sets = platform_sets.len();
        let set = *platform_sets
            .entry(&release.platforms)
            .or_insert(known_sets);
        if set == known_sets {
            let names: Vec<&str> = release.platforms.iter().map(Platform::as_str).collect();
            releases.line(&["platforms", &names.join(" ")]);
        }
        let key = (release.version.clone(), release.publisher.clone());
        let details = published.details.get(&key).cloned().unwrap_or_default();
        let at = cold.len();
        let cached = CachedDetails {
            builds: details
                .builds
                .into_iter()
                .map(|build| CachedBuild {
                    platform: build.platform,
                    address: build.address,
                    mirrors: build.mirrors,
                    size: build.size,
                    checksum: build.checksum.to_string(),
                })
                .collect(),
            bundles: details.bundles,
            notes: details.notes,
        };
        serde_json::to_writer(&mut cold, &cached).expect("strings and numbers always serialise");
        cold.push(b'\n');
        let text = &cold[at..];
        releases.line(&[
            "release",
            release.version.as_str(),
            &release.publisher,
            &date(release.date),
            flag(release.security),
            &set.to_string(),
            &at.to_string(),
            &text.len().to_string(),
            &crc32fast::hash(text).to_string(),
            release.withdrawn.as_deref().unwrap_or(""),
            flag(release.withdrawn.is_some()),
        ]);
    }
    let (outline, releases) = (outline.text.into_bytes(), releases.text.into_bytes());
    let part = |bytes: &[u8]| format!("{} {}", bytes.len(), crc32fast::hash(bytes));
    let head = format!("{FORMAT} {} {}\n", part(&outline), part(&releases));
    [head.as_bytes(), &outline, &releases, &cold].concat()
}

fn flag(set: bool) -> &'static str {
    if set { "yes" } else { "" }
}

/// Lines of tab-separated fields; tabs and line breaks inside a field become spaces.
#[derive(Default)]
struct Fields {
    text: String,
}

impl Fields {
    fn line(&mut self, fields: &[&str]) {
        for (index, field) in fields.iter().enumerate() {
            if index > 0 {
                self.text.push('\t');
            }
            let clean = |c: char| if c.is_control() { ' ' } else { c };
            self.text.extend(field.chars().map(clean));
        }
        self.text.push('\n');
    }
}

/// How much of a cache file is read.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Depth<'a> {
    Outline,
    Lines(&'a [String]),
    Releases,
}

impl Depth<'_> {
    /// Whether a line of the second part is worth taking apart.
    fn wants(self, text: &str) -> bool {
        let (Depth::Lines(lines), Some(release)) = (self, text.strip_prefix("release\t")) else {
            return true;
        };
        lines.iter().any(|line| {
            let rest = release.strip_prefix(line.as_str());
            rest.is_some_and(|rest| !rest.starts_with(|c: char| c.is_ascii_digit()))
        })
    }
}

/// The lengths and checksums in the first line of a cache file.
struct Head {
    outline: (usize, u32),
    releases: (usize, u32),
}

/// Reads a cache file; nothing where it is absent, damaged or of another format.
fn read_file(path: &Path, depth: Depth<'_>) -> io::Result<Option<(Loaded, Validators)>> {
    let mut file = match File::open(path) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(error),
    };
    let modified = file.metadata()?.modified()?;
    let mut bytes = Vec::with_capacity(FIRST_READ);
    (&mut file)
        .take(FIRST_READ as u64)
        .read_to_end(&mut bytes)?;
    let Some((head_length, head)) = read_head(&bytes) else {
        return Ok(None);
    };
    let outline_end = head_length + head.outline.0;
    let releases_end = outline_end + head.releases.0;
    let wanted = match depth {
        Depth::Outline => outline_end,
        Depth::Lines(_) | Depth::Releases => releases_end,
    };
    if let Some(missing) = wanted.checked_sub(bytes.len()) {
        // A length is only believed as far as the file has bytes for it.
        file.take(missing as u64).read_to_end(&mut bytes)?;
    }
    let part = |start: usize, (length, checksum): (usize, u32)| {
        let part = bytes.get(start..start + length)?;
        (crc32fast::hash(part) == checksum).then_some(part)
    };
    let Some(outline) = part(head_length, head.outline) else {
        return Ok(None);
    };
    let releases = match depth {
        Depth::Outline => Some(&[] as &[u8]),
        Depth::Lines(_) | Depth::Releases => part(outline_end, head.releases),
    };
    let texts = releases.and_then(|releases| {
        Some((
            std::str::from_utf8(outline).ok()?,
            std::str::from_utf8(releases).ok()?,
        ))
    });
    Ok(texts.and_then(|(outline, releases)| {
        read_lines(
            outline
                .lines()
                .chain(releases.lines().filter(|line| depth.wants(line))),
            releases_end as u64,
            path,
            modified,
        )
    }))
}

fn read_head(bytes: &[u8]) -> Option<(usize, Head)> {
    let end = bytes.iter().take(100).position(|b| *b == b'\n')?;
    let head = std::str::from_utf8(&bytes[..end]).ok()?;
    let mut words = head.strip_prefix(FORMAT)?.split_whitespace();
    let mut part = || Some((words.next()?.parse().ok()?, words.next()?.parse().ok()?));
    let head = Head {
        outline: part()?,
        releases: part()?,
    };
    Some((end + 1, head))
}

fn read_lines<'a>(
    lines: impl Iterator<Item = &'a str>,
    cold_start: u64,
    path: &Path,
    modified: std::time::SystemTime,
) -> Option<(Loaded, Validators)> {
    let mut catalog = Catalog::default();
    let mut origin = None;
    let mut validators = Validators::default();
    let mut places = Vec::new();
    let mut platform_sets: Vec<Arc<[Platform]>> = Vec::new();
    let mut publishers: Vec<Arc<str>> = Vec::new();
    for line in lines {
        let mut rest = Some(line);
        let mut next = || next_field(&mut rest);
        match next()? {
            "origin" => {
                origin = Some((next()?.to_owned(), next()?.to_owned()));
                let optional = |text: &str| (!text.is_empty()).then(|| text.to_owned());
                validators.etag = optional(next()?);
                validators.modified = optional(next()?);
            }
            "runtime" => {
                catalog.runtime = next()?.to_owned();
                catalog.updated = next()?.parse().ok();
            }
            "publisher" => {
                let (id, name, main) = (next()?, next()?, next()?);
                publishers.push(id.into());
                catalog.publishers.push(Publisher {
                    id: id.to_owned(),
                    name: name.to_owned(),
                    main: !main.is_empty(),
                });
            }
            "channel" => {
                catalog
                    .channels
                    .insert(next()?.to_owned(), next()?.to_owned());
            }
            "line" => {
                let (name, codename) = (next()?, next()?);
                catalog.lines.push(Line {
                    codename: (!codename.is_empty()).then(|| codename.to_owned()),
                    start: read_date(next()?),
                    lts: read_date(next()?),
                    maintenance: read_date(next()?),
                    end: read_date(next()?),
                    has_final: !next()?.is_empty(),
                    ..Line::undated(name)
                });
            }
            "platforms" => {
                let platforms: Result<Arc<[Platform]>, _> =
                    next()?.split_whitespace().map(str::parse).collect();
                platform_sets.push(platforms.ok()?);
            }
            "release" => {
                let version: Version = next()?.parse().ok()?;
                let publisher = next()?;
                let publisher = publishers
                    .iter()
                    .find(|known| &***known == publisher)
                    .cloned()
                    .unwrap_or_else(|| publisher.into());
                let date = read_date(next()?);
                let security = !next()?.is_empty();
                let platforms = platform_sets.get(next()?.parse::<usize>().ok()?)?.clone();
                places.push(DetailsPlace {
                    offset: cold_start + next()?.parse::<u64>().ok()?,
                    length: next()?.parse().ok()?,
                    checksum: next()?.parse().ok()?,
                });
                let reason = next()?;
                let withdrawn = !next()?.is_empty();
                catalog.releases.push(Release {
                    version,
                    publisher,
                    date,
                    security,
                    withdrawn: withdrawn.then(|| reason.into()),
                    platforms,
                });
            }
            _ => {}
        }
    }
    let (source, address) = origin?;
    let origin = Origin {
        source,
        address,
        confirmed: Timestamp::try_from(modified).ok()?,
        not_renewed: None,
    };
    let loaded = Loaded {
        catalog,
        origin,
        file: path.to_owned(),
        places,
    };
    Some((loaded, validators))
}

/// The next field of a line. Most have a few bytes, for which the general search costs more than
/// looking at each.
fn next_field<'a>(rest: &mut Option<&'a str>) -> Option<&'a str> {
    let text = (*rest)?;
    let Some(end) = text.bytes().position(|byte| byte == b'\t') else {
        return rest.take();
    };
    *rest = Some(&text[end + 1..]);
    Some(&text[..end])
}

/// A date as it was printed; the general parser is several times slower.
fn read_date(text: &str) -> Option<Date> {
    let year = text.get(..4)?.parse().ok()?;
    let month = text.get(5..7)?.parse().ok()?;
    let day = text.get(8..10)?.parse().ok()?;
    Date::new(year, month, day).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::cell::Cell;
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
            security: true,
            withdrawn: withdrawn.map(Into::into),
            platforms: Arc::new(["linux-x64".parse().unwrap()]),
        };
        let publisher = Publisher {
            id: "saltmarsh".into(),
            name: "Saltmarsh\tFoundation".into(),
            main: true,
        };
        let catalog = Catalog::new(
            "marram".into(),
            None,
            vec![publisher],
            [("stable".to_owned(), "8".to_owned())].into(),
            vec![Line {
                codename: Some("Eelgrass".into()),
                end: "2029-04-30".parse().ok(),
                ..Line::undated("8")
            }],
            vec![
                release("8.3.1", None),
                release("8.3.0", Some("breaks the bell")),
            ],
        );
        let build = Build {
            platform: "linux-x64".parse().unwrap(),
            address: "http://gull.example/m.tar.gz".into(),
            mirrors: vec!["/srv/m.tar.gz".into()],
            size: Some(7),
            checksum: format!("sha256:{}", "0a".repeat(32)).parse().unwrap(),
        };
        let details = Details {
            builds: vec![build],
            bundles: [("tussock".to_owned(), "3.2.0".to_owned())].into(),
            notes: None,
        };
        PublishedCatalog {
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

    fn failure() -> SourceError {
        SourceError::Document {
            address: "http://gull.example/catalog.json".into(),
            problem: "empty".into(),
        }
    }

    fn demo() -> SourceDefinition {
        SourceDefinition {
            name: "demo".to_owned(),
            strip_folders: 1,
            kind: SourceKind::Wheels {
                package: "marram".to_owned(),
                publisher: "saltmarsh".to_owned(),
            },
        }
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
            None => cache.renew("marram", &demo(), &source, &Transport::default(), now),
        }
    }

    #[test]
    fn a_catalog_comes_back_as_it_was_kept() {
        let folder = tempfile::tempdir().unwrap();
        let cache = CatalogCache::new(folder.path().join("catalogs"), Duration::from_secs(3600));
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
        let outline = cache.kept_outline("marram", &demo()).unwrap();
        assert_eq!(outline.lines, kept.catalog.lines);
        assert!(outline.releases.is_empty());
        let of = |line: &str| {
            cache
                .kept_lines("marram", &demo(), &[line.to_owned()])
                .unwrap()
        };
        assert_eq!((of("8").releases.len(), of("80").releases.len()), (2, 0));
        // Fresh: nobody is asked (the script is empty and would panic).
        load(&cache, vec![], now).unwrap();
    }

    #[test]
    fn an_old_catalog_serves_where_the_source_fails() {
        let folder = tempfile::tempdir().unwrap();
        let cache = CatalogCache::new(folder.path().to_owned(), Duration::from_secs(3600));
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
    fn the_source_that_was_confirmed_last_serves() {
        let folder = tempfile::tempdir().unwrap();
        let cache = CatalogCache::new(folder.path().to_owned(), Duration::from_secs(3600));
        let mut other = demo();
        other.name = "other".to_owned();
        let sources = [demo(), other];
        assert_eq!(cache.latest("marram", &sources), None);
        let now = Timestamp::now();
        for (source, time, latest) in [
            (&sources[1], now, 1),
            (&sources[0], now, 0),
            (&sources[1], now + SignedDuration::from_mins(1), 1),
        ] {
            let file = cache.file("marram", source);
            cache.keep(&file, &source.name, &published(), time).unwrap();
            assert_eq!(cache.latest("marram", &sources), Some(&sources[latest]));
        }
    }

    #[test]
    fn a_damaged_file_is_fetched_anew_and_never_trusted() {
        let folder = tempfile::tempdir().unwrap();
        let cache = CatalogCache::new(folder.path().to_owned(), Duration::from_secs(3600));
        let now = Timestamp::now();
        let changed = || vec![Ok(Fetched::Changed(Box::new(published())))];
        load(&cache, changed(), now).unwrap();
        let file = cache.file("marram", &demo());
        let whole = fs::read(&file).unwrap();
        for at in [0, 40, whole.len() / 3] {
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
