//! The file of one source's catalog.
//!
//! In four parts, so that a command reads no more than it needs. The outline holds publishers,
//! channels and lines, the second part the releases that stand for their lines, and the third all
//! releases, as lines of tab-separated fields; the fourth holds the details of each release as a line
//! of JSON, of which only those asked for are read. All are covered by checksums: a damaged file, or
//! one of another format, counts as absent and is fetched again.

use std::collections::HashMap;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::ptr;
use std::sync::Arc;
use std::time::SystemTime;

use jiff::Timestamp;
use jiff::civil::Date;
use memchr::memchr_iter;
use vshelf_core::catalog::{Catalog, Details, Line, LinePolicy, Publisher, Release, Standing};
use vshelf_core::{Platform, outlook};
use vshelf_files::optional;

use super::details::{DamagedDetails, DetailsPlace, details_at, write_details};
use crate::api::PublishedCatalog;
use crate::transport::Validators;

/// The first word of a cache file; the number changes with the form.
const FORMAT: &str = "vivid-shelf-catalog-cache/7";

/// How much of a file is read at once: enough for the first two parts of most catalogs so far.
const FIRST_READ: usize = 16 << 10;

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
    /// Until when it may be relied on, where its publisher says so.
    pub expires: Option<Timestamp>,
    /// Why it was not confirmed now, if that was tried.
    pub not_renewed: Option<String>,
}

impl Loaded {
    /// The builds and notes of a release of this catalog.
    pub fn details(&self, release: &Release) -> Result<Details, DamagedDetails> {
        let releases = &self.catalog.releases;
        let place = releases
            .iter()
            .position(|r| r.version == release.version && r.publisher == release.publisher)
            .and_then(|index| self.places.get(index));
        match place {
            Some(place) => {
                let details = details_at(&self.file, std::slice::from_ref(place))?;
                Ok(details.into_iter().next().unwrap_or_default())
            }
            None => Err(DamagedDetails {
                path: self.file.clone(),
            }),
        }
    }

    /// The catalog with all its details.
    pub fn published(&self) -> Result<PublishedCatalog, DamagedDetails> {
        let details = details_at(&self.file, &self.places)?;
        let keys = self.catalog.releases.iter();
        let keys = keys.map(|release| (release.version.clone(), release.publisher.clone()));
        let details = keys.zip(details).collect();
        Ok(PublishedCatalog {
            catalog: self.catalog.clone(),
            details,
            address: self.origin.address.clone(),
            expires: self.origin.expires,
            ..PublishedCatalog::default()
        })
    }
}

pub(super) fn render(name: &str, published: &PublishedCatalog) -> Vec<u8> {
    let catalog = &published.catalog;
    let mut cold = Vec::new();
    let mut placed = Vec::with_capacity(catalog.releases.len());
    for release in &catalog.releases {
        let key = (release.version.clone(), release.publisher.clone());
        let at = cold.len();
        write_details(&mut cold, published.details.get(&key));
        let text = &cold[at..];
        let place = DetailsPlace {
            offset: at as u64,
            length: text.len(),
            checksum: crc32fast::hash(text),
        };
        placed.push((release, place));
    }
    let mut heads = outlook::heads(catalog).peekable();
    let heads = (placed.iter())
        .filter(|(release, _)| heads.next_if(|head| ptr::eq(*head, *release)).is_some());
    let parts = [
        render_outline(name, published).text.into_bytes(),
        render_releases(heads),
        render_releases(placed.iter()),
    ];
    let part = |bytes: &Vec<u8>| format!(" {} {}", bytes.len(), crc32fast::hash(bytes));
    let told: String = parts.iter().map(part).collect();
    let [outline, heads, releases] = &parts;
    [
        format!("{FORMAT}{told}\n").as_bytes(),
        outline,
        heads,
        releases,
        &cold,
    ]
    .concat()
}

/// Lines, channels and publishers, and where the catalog comes from.
fn render_outline(name: &str, published: &PublishedCatalog) -> Fields {
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
    let time = |time: Option<Timestamp>| time.map(|t| t.to_string()).unwrap_or_default();
    outline.line(&[
        "runtime",
        &catalog.runtime,
        &time(catalog.updated),
        &time(published.expires),
    ]);
    for publisher in &catalog.publishers {
        outline.line(&[
            "publisher",
            &publisher.id,
            &publisher.name,
            flag(publisher.main),
            publisher.repacks.as_deref().unwrap_or(""),
            publisher.remark.as_deref().unwrap_or(""),
        ]);
    }
    for (channel, selector) in &catalog.channels {
        outline.line(&["channel", channel, selector]);
    }
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
            &standing(line.standing),
            line.told_by.as_deref().unwrap_or(""),
            flag(line.long_term),
        ]);
    }
    let number = |number: Option<usize>| number.map(|n| n.to_string()).unwrap_or_default();
    let policy = catalog.policy;
    outline.line(&["policy", &number(policy.numbers), &number(policy.supported)]);
    outline
}

/// Releases, and where the details of each are in the last part.
fn render_releases<'c>(releases: impl Iterator<Item = &'c (&'c Release, DetailsPlace)>) -> Vec<u8> {
    let mut text = Fields::default();
    let mut platform_sets: HashMap<&[Platform], usize> = HashMap::new();
    for (release, place) in releases {
        let known_sets = platform_sets.len();
        let set = *platform_sets
            .entry(&release.platforms)
            .or_insert(known_sets);
        if set == known_sets {
            let names: Vec<&str> = release.platforms.iter().map(Platform::as_str).collect();
            text.line(&["platforms", &names.join(" ")]);
        }
        text.line(&[
            "release",
            release.version.as_str(),
            &release.publisher,
            &date(release.date),
            answer(release.security),
            &set.to_string(),
            &place.offset.to_string(),
            &place.length.to_string(),
            &place.checksum.to_string(),
            release.withdrawn.as_deref().unwrap_or(""),
            flag(release.withdrawn.is_some()),
        ]);
    }
    text.text.into_bytes()
}

/// What the other lines tell of one, in a word.
fn standing(standing: Standing) -> String {
    match standing {
        Standing::Unknown => String::new(),
        Standing::Supported => "supported".to_owned(),
        Standing::Dropped => "dropped".to_owned(),
        Standing::Outlived(end) => end.to_string(),
    }
}

fn read_standing(text: &str) -> Standing {
    match (text, read_date(text)) {
        ("supported", _) => Standing::Supported,
        ("dropped", _) => Standing::Dropped,
        (_, Some(end)) => Standing::Outlived(end),
        (_, None) => Standing::Unknown,
    }
}

/// A day as [`read_date`] reads it.
fn date(date: Option<Date>) -> String {
    date.map(|date| date.to_string()).unwrap_or_default()
}

fn answer(known: Option<bool>) -> &'static str {
    match known {
        Some(true) => "yes",
        Some(false) => "no",
        None => "",
    }
}

/// What [`answer`] wrote; `None` for other text.
fn read_answer(text: &str) -> Option<Option<bool>> {
    match text {
        "yes" => Some(Some(true)),
        "no" => Some(Some(false)),
        "" => Some(None),
        _ => None,
    }
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
            // What turns the direction of text is in no name either.
            let clean = |c: char| match c {
                '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => ' ',
                c if c.is_control() => ' ',
                c => c,
            };
            self.text.extend(field.chars().map(clean));
        }
        self.text.push('\n');
    }
}

/// How much of a cache file is read.
#[derive(Clone, Copy)]
pub(super) enum Depth<'e> {
    Outline,
    Heads,
    Releases,
    Excerpt(&'e Excerpt<'e>),
}

/// Some releases of a catalog.
pub struct Excerpt<'e> {
    /// Which of them count by version and publisher alone. The others are not read further.
    pub is_named: &'e dyn Fn(&str, &str) -> bool,
    /// Which of those count.
    pub counts: &'e dyn Fn(&Release) -> bool,
    /// The highest number of them.
    pub most: usize,
}

/// The lengths and checksums in the first line of a cache file.
struct Head {
    outline: (usize, u32),
    heads: (usize, u32),
    releases: (usize, u32),
}

/// Reads a cache file; nothing where it is absent, damaged or of another format.
pub(super) fn read_file(path: &Path, depth: Depth<'_>) -> io::Result<Option<(Loaded, Validators)>> {
    let Some(mut file) = optional::open(path)? else {
        return Ok(None);
    };
    let metadata = file.metadata()?;
    let mut bytes = Vec::with_capacity(FIRST_READ);
    (&mut file)
        .take(FIRST_READ as u64)
        .read_to_end(&mut bytes)?;
    let Some((head_length, head)) = read_head(&bytes) else {
        return Ok(None);
    };
    let outline_end = head_length + head.outline.0;
    let heads_end = outline_end + head.heads.0;
    let releases_end = heads_end + head.releases.0;
    let (start, told, wanted) = match depth {
        Depth::Outline => (outline_end, (0, crc32fast::hash(&[])), outline_end),
        Depth::Heads => (outline_end, head.heads, heads_end),
        Depth::Releases | Depth::Excerpt(_) => (heads_end, head.releases, releases_end),
    };
    // A length is only believed as far as the file has bytes for it.
    if wanted as u64 > metadata.len() {
        return Ok(None);
    }
    if let Some(missing) = wanted.checked_sub(bytes.len()) {
        bytes.reserve_exact(missing);
        file.take(missing as u64).read_to_end(&mut bytes)?;
    }
    let part = |start: usize, (length, checksum): (usize, u32)| {
        let part = bytes.get(start..start + length)?;
        (crc32fast::hash(part) == checksum).then_some(part)
    };
    let text = |start, told| std::str::from_utf8(part(start, told)?).ok();
    let texts = text(head_length, head.outline).zip(text(start, told));
    let modified = metadata.modified()?;
    Ok(texts.and_then(|(outline, releases)| {
        let mut reading = Reading::default();
        reading.outline(outline)?;
        reading.releases(releases, releases_end as u64, depth)?;
        reading.finish(path, modified)
    }))
}

fn read_head(bytes: &[u8]) -> Option<(usize, Head)> {
    let end = bytes.iter().take(100).position(|b| *b == b'\n')?;
    let head = std::str::from_utf8(&bytes[..end]).ok()?;
    let mut words = head.strip_prefix(FORMAT)?.split_whitespace();
    let mut part = || Some((words.next()?.parse().ok()?, words.next()?.parse().ok()?));
    let head = Head {
        outline: part()?,
        heads: part()?,
        releases: part()?,
    };
    Some((end + 1, head))
}

/// What has been read of a cache file so far.
#[derive(Default)]
struct Reading {
    catalog: Catalog,
    /// The source's name and the address that was asked.
    origin: Option<(String, String)>,
    expires: Option<Timestamp>,
    validators: Validators,
    places: Vec<DetailsPlace>,
}

impl Reading {
    /// Takes the first part apart; nothing where it cannot be understood.
    fn outline(&mut self, text: &str) -> Option<()> {
        let catalog = &mut self.catalog;
        let optional = |text: &str| (!text.is_empty()).then(|| text.to_owned());
        for line in text.lines() {
            let mut rest = Some(line);
            let mut next = || next_field(&mut rest);
            match next()? {
                "origin" => {
                    self.origin = Some((next()?.to_owned(), next()?.to_owned()));
                    self.validators.etag = optional(next()?);
                    self.validators.modified = optional(next()?);
                }
                "runtime" => {
                    catalog.runtime = next()?.to_owned();
                    catalog.updated = next()?.parse().ok();
                    self.expires = next()?.parse().ok();
                }
                "publisher" => {
                    let (id, name, main) = (next()?, next()?, next()?);
                    catalog.publishers.push(Publisher {
                        repacks: optional(next()?),
                        remark: optional(next()?),
                        ..Publisher::new(id, name, !main.is_empty())
                    });
                }
                "channel" => {
                    let channel = next()?.to_owned();
                    catalog.channels.insert(channel, next()?.to_owned());
                }
                "line" => {
                    let (name, codename) = (next()?, next()?);
                    catalog.lines.push(Line {
                        codename: optional(codename),
                        start: read_date(next()?),
                        lts: read_date(next()?),
                        maintenance: read_date(next()?),
                        end: read_date(next()?),
                        has_final: !next()?.is_empty(),
                        standing: read_standing(next()?),
                        told_by: optional(next()?),
                        long_term: !next()?.is_empty(),
                        ..Line::undated(name)
                    });
                }
                "policy" => {
                    catalog.policy = LinePolicy {
                        numbers: next()?.parse().ok(),
                        supported: next()?.parse().ok(),
                    };
                }
                _ => {}
            }
        }
        Some(())
    }

    /// Takes the second or third part apart, whose details begin at `cold_start` of the file; nothing
    /// where it cannot be understood.
    fn releases(&mut self, text: &str, cold_start: u64, depth: Depth<'_>) -> Option<()> {
        let excerpt = match depth {
            Depth::Excerpt(excerpt) => Some(excerpt),
            _ => None,
        };
        if excerpt.is_none() {
            let count = memchr_iter(b'\n', text.as_bytes()).count();
            self.catalog.releases.reserve(count);
            self.places.reserve(count);
        }
        let known = self.catalog.publishers.iter();
        let mut shared = Shared {
            publishers: known.map(|known| known.id.as_str().into()).collect(),
            platform_sets: Vec::new(),
        };
        for line in lines_of(text) {
            let mut rest = Some(line);
            match next_field(&mut rest)? {
                "platforms" => {
                    let platforms = next_field(&mut rest)?.split_whitespace();
                    let platforms: Result<Arc<[Platform]>, _> = platforms.map(str::parse).collect();
                    shared.platform_sets.push(platforms.ok()?);
                }
                "release" => {
                    let key = (next_field(&mut rest)?, next_field(&mut rest)?);
                    if excerpt.is_some_and(|excerpt| !(excerpt.is_named)(key.0, key.1)) {
                        continue;
                    }
                    let (release, mut place) = shared.release(key, rest)?;
                    place.offset += cold_start;
                    if excerpt.is_none_or(|excerpt| (excerpt.counts)(&release)) {
                        self.places.push(place);
                        self.catalog.releases.push(release);
                    }
                    if excerpt.is_some_and(|all| self.catalog.releases.len() == all.most) {
                        break;
                    }
                }
                _ => {}
            }
        }
        Some(())
    }

    /// What was read, of a file that was written at `modified`; nothing where it does not say where
    /// it came from.
    fn finish(self, path: &Path, modified: SystemTime) -> Option<(Loaded, Validators)> {
        let (source, address) = self.origin?;
        let origin = Origin {
            source,
            address,
            confirmed: Timestamp::try_from(modified).ok()?,
            expires: self.expires,
            not_renewed: None,
        };
        let loaded = Loaded {
            catalog: self.catalog,
            origin,
            file: path.to_owned(),
            places: self.places,
        };
        Some((loaded, self.validators))
    }
}

/// The lines of a text each of which ends in a line break, found faster than [`str::lines`] does.
fn lines_of(text: &str) -> impl Iterator<Item = &str> {
    memchr_iter(b'\n', text.as_bytes()).scan(0, |start, end| {
        let line = &text[*start..end];
        *start = end + 1;
        Some(line)
    })
}

/// What releases have in common.
struct Shared {
    publishers: Vec<Arc<str>>,
    platform_sets: Vec<Arc<[Platform]>>,
}

impl Shared {
    /// The release in the fields behind its version and publisher, and where its details are in their part.
    fn release(
        &self,
        (version, publisher): (&str, &str),
        mut rest: Option<&str>,
    ) -> Option<(Release, DetailsPlace)> {
        let mut next = || next_field(&mut rest);
        let mut publishers = self.publishers.iter();
        let known = publishers.find(|known| &***known == publisher);
        let date = read_date(next()?);
        let security = read_answer(next()?)?;
        let platforms = self.platform_sets.get(next()?.parse::<usize>().ok()?)?;
        let place = DetailsPlace {
            offset: next()?.parse().ok()?,
            length: next()?.parse().ok()?,
            checksum: next()?.parse().ok()?,
        };
        let reason = next()?;
        let withdrawn = !next()?.is_empty();
        let release = Release {
            version: version.parse().ok()?,
            publisher: known.cloned().unwrap_or_else(|| publisher.into()),
            date,
            security,
            withdrawn: withdrawn.then(|| reason.into()),
            platforms: platforms.clone(),
        };
        Some((release, place))
    }
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
