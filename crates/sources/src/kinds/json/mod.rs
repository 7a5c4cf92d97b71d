//! A JSON interface of a publisher: documents by line, platform and page, with releases and the builds of each.
//!
//! Each document is asked for with what was kept of it, so that only those that changed are fetched and read again.

mod rows;
mod walk;

use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use serde_json::Value;
use vshelf_core::Platform;
use vshelf_core::catalog::{Build, Line, NotInstallable};
use vshelf_core::definition::SourceDefinition;
use vshelf_core::definition::json::{FieldPath, JsonSource, LinesFrom};
use vshelf_core::template::{Template, TemplateError};

use crate::address::Address;
use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError};
use crate::found::Found;
use crate::kept_documents::{KeptDocuments, Row, Rows, Said, SkippedRow};
use crate::transport::{Document, Transport, TransportError, Validators};

/// What documents of releases are asked for as.
const ACCEPTED: Option<&str> = Some("application/json");

/// How many documents are waited for at a time: few enough for any server.
const AT_A_TIME: usize = 4;

/// The most lines that are asked for.
const MOST_LINES: usize = 200;

/// A source that is such an interface.
pub struct Json {
    pub(crate) runtime: String,
    pub(crate) definition: SourceDefinition,
    pub(crate) source: JsonSource,
    pub(crate) platform: Platform,
}

/// A series of pages: those of one line for one platform, or all that there are.
#[derive(Clone)]
struct Series {
    address: Template,
    /// What fills the places of the address, but the page.
    words: HashMap<String, String>,
    /// What its documents can have builds for.
    platforms: Vec<Platform>,
}

impl Series {
    /// The same series for one line.
    fn of_line(&self, line: &str) -> Series {
        let mut of_line = self.clone();
        of_line.words.insert("line".to_owned(), line.to_owned());
        of_line
    }

    /// The address of a page.
    fn page(&self, number: usize) -> Result<Address, SourceError> {
        let text = self.address.filled(|place| match place {
            "page" => number.to_string(),
            place => self.words.get(place).cloned().unwrap_or_default(),
        });
        let address = Address::read(&text)?;
        if address.is_private() {
            return Ok(address);
        }
        let problem = "it is neither https nor of this machine";
        Err(SourceError::document(&address, problem))
    }
}

/// The documents that were read so far.
#[derive(Default)]
struct Gathered {
    documents: KeptDocuments,
    /// Where each document is, in the order in which their rows count.
    addresses: Vec<String>,
    /// Whether some document is not as it was kept.
    is_changed: bool,
    skipped: Vec<SkippedRow>,
}

impl Gathered {
    fn add(&mut self, other: Gathered) {
        self.documents.extend(other.documents);
        self.addresses.extend(other.addresses);
        self.is_changed |= other.is_changed;
        self.skipped.extend(other.skipped);
    }
}

impl Source for Json {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        let asking = Asking {
            json: self,
            transport,
            known,
        };
        let mut gathered = Gathered::default();
        let (lines, long_term) = match &self.source.lines_from {
            Some(from) => asking.lines(from, &mut gathered)?,
            None => (Vec::new(), Vec::new()),
        };
        asking.pages(&self.series(&lines)?, &mut gathered)?;
        if !gathered.is_changed {
            return Ok(Fetched::Unchanged);
        }
        self.publish(gathered, &long_term)
            .map(|published| Fetched::Changed(Box::new(published)))
    }
}

impl Json {
    /// The series of documents to ask for: for each line, and for each platform that the address tells apart.
    fn series(&self, lines: &[String]) -> Result<Vec<Series>, SourceError> {
        let text = &self.source.address;
        let failed = |error: TemplateError| SourceError::Document {
            address: text.clone(),
            problem: error.to_string(),
        };
        let address: Template = text.parse().map_err(failed)?;
        let is_word = |place: &str| !["line", "page"].contains(&place);
        let mut series: Vec<Series> = Vec::new();
        for (platform, words) in &self.source.platforms {
            let told = address.places().filter(|place| is_word(place));
            let told =
                told.filter_map(|place| Some((place.to_owned(), words.get(place)?.to_string())));
            let told: HashMap<_, _> = told.collect();
            // A document of one platform is of use if that runs here.
            if !told.is_empty() && !platform.runs_on(&self.platform) {
                continue;
            }
            match series.iter_mut().find(|known| known.words == told) {
                Some(known) => known.platforms.push(platform.clone()),
                None => series.push(Series {
                    address: address.clone(),
                    words: told,
                    platforms: vec![platform.clone()],
                }),
            }
        }
        if self.source.lines_from.is_some() {
            let of_lines = |one: &Series| {
                lines
                    .iter()
                    .map(|line| one.of_line(line))
                    .collect::<Vec<_>>()
            };
            series = series.iter().flat_map(of_lines).collect();
        }
        Ok(series)
    }

    /// The address of a document whose line is not filled in: what the interface is called, and what addresses are
    /// relative to.
    fn place(&self) -> Result<Address, SourceError> {
        let series = self.series(&[String::new()])?;
        let first = series.first().map(|series| series.page(0)).transpose()?;
        first.map_or_else(|| Ok(Address::read(&self.source.address)?), Ok)
    }

    /// The catalog of all documents.
    fn publish(
        &self,
        gathered: Gathered,
        long_term: &[String],
    ) -> Result<PublishedCatalog, SourceError> {
        let mut found = Found::new(&self.definition);
        let mut skipped = gathered.skipped.clone();
        let rows = unique_rows(&gathered, &mut skipped);
        let mut refused = Vec::new();
        for (row, conflict) in rows {
            let why = conflict.or_else(|| add_row(&mut found, row));
            refused.extend(why.map(|why| (row, why)));
        }
        for (row, why) in refused {
            skipped.push(refuse(&mut found, row, why));
        }
        let lines = long_term.iter().map(|name| Line {
            long_term: true,
            ..Line::undated(name)
        });
        let address = self.place()?;
        if found.is_empty() && !found.has_left_out() && !skipped.is_empty() {
            let SkippedRow {
                row,
                field,
                problem,
            } = &skipped[0];
            let problem = format!("it has no row that counts; of {row}, {field} {problem}");
            return Err(SourceError::document(&address, problem));
        }
        let published = found.publish(&self.runtime, lines.collect(), &address)?;
        Ok(PublishedCatalog {
            skipped,
            documents: gathered.documents,
            ..published
        })
    }
}

/// The first row of each build in the order of the documents, with the reason why it cannot be verified if another row
/// contradicts it. Adds the other rows to `skipped`.
fn unique_rows<'g>(
    gathered: &'g Gathered,
    skipped: &mut Vec<SkippedRow>,
) -> Vec<(&'g Row, Option<String>)> {
    let documents = gathered
        .addresses
        .iter()
        .filter_map(|address| gathered.documents.said(address));
    let mut rows: Vec<(&Row, Option<String>)> = Vec::new();
    let mut places: HashMap<(&str, &Platform), usize> = HashMap::new();
    for said in documents {
        let Said::Rows(of_document) = said else {
            continue;
        };
        skipped.extend(of_document.skipped.iter().cloned());
        for row in &of_document.builds {
            let place = *places
                .entry((&row.spelling, &row.platform))
                .or_insert(rows.len());
            let Some((first, conflict)) = rows.get_mut(place) else {
                rows.push((row, None));
                continue;
            };
            if first.address == row.address && first.checksum != row.checksum {
                *conflict = Some("two rows state different digests".to_owned());
            }
            skipped.push(SkippedRow {
                row: row.spelling.clone(),
                field: "version".to_owned(),
                problem: format!(
                    "is of another row for {} too; the first counts",
                    row.platform
                ),
            });
        }
    }
    rows
}

/// Notes a build that cannot be verified. Its release is listed.
fn refuse(found: &mut Found<'_>, row: &Row, why: String) -> SkippedRow {
    if let Some(spelled) = found.version(&row.spelling) {
        let (release, card) = found.release(&spelled.version);
        release.date = release.date.or(row.day);
        card.not_installable.push(NotInstallable {
            platform: row.platform.clone(),
            why: why.clone(),
        });
    }
    SkippedRow {
        row: row.spelling.clone(),
        field: "digest".to_owned(),
        problem: format!("is not known, so that the build cannot be verified: {why}"),
    }
}

/// Adds the build of a row, or says why it cannot be verified.
fn add_row(found: &mut Found<'_>, row: &Row) -> Option<String> {
    let checksum = match &row.checksum {
        Ok(checksum) => checksum.parse(),
        Err(why) => return Some(why.clone()),
    };
    let spelled = found.version(&row.spelling)?;
    match checksum {
        Ok(checksum) => {
            let build = Build {
                size: row.size,
                ..Build::new(row.platform.clone(), row.address.clone(), checksum)
            };
            found.add(&spelled, &row.spelling, row.day, build);
            None
        }
        Err(error) => Some(error.to_string()),
    }
}

/// Asks for the documents of a source.
struct Asking<'a> {
    json: &'a Json,
    transport: &'a Transport,
    known: &'a Known,
}

impl Asking<'_> {
    /// The contents of the document at `address`, which are parsed by `read` if it changed, and added to `gathered`. `None`
    /// for an absent document (status 404) if `may_be_absent`.
    fn said(
        &self,
        address: &Address,
        may_be_absent: bool,
        gathered: &mut Gathered,
        read: impl FnOnce(&[u8]) -> Result<Said, SourceError>,
    ) -> Result<Option<Said>, SourceError> {
        let name = address.to_string();
        let validators = self.known.documents.validators(&name);
        let kept = self.known.documents.said(&name);
        // Without kept contents the document has to come as a whole.
        let asked = if kept.is_some() {
            &validators
        } else {
            &Validators::default()
        };
        let (said, validators) = match self.transport.document(address, asked, ACCEPTED) {
            Ok(Document::Unchanged) => match kept {
                Some(kept) => (kept.clone(), validators),
                None => return Err(SourceError::unasked(address)),
            },
            Ok(Document::Body { bytes, validators }) => (read(&bytes)?, validators),
            Err(TransportError::Status { status: 404, .. }) if may_be_absent => {
                gathered.is_changed |= kept.is_some();
                return Ok(None);
            }
            Err(error) => return Err(error.into()),
        };
        gathered.is_changed |= kept != Some(&said);
        gathered
            .documents
            .keep(name.clone(), validators, said.clone());
        gathered.addresses.push(name);
        Ok(Some(said))
    }

    /// The lines whose releases are taken, and those in long-term support.
    fn lines(
        &self,
        from: &LinesFrom,
        gathered: &mut Gathered,
    ) -> Result<(Vec<String>, Vec<String>), SourceError> {
        let address = self.json.place()?.join(&from.address)?;
        let said = self.said(&address, false, gathered, |bytes| {
            read_lines(from, &address, bytes)
        })?;
        let Some(Said::Lines {
            mut lines,
            long_term,
        }) = said
        else {
            return Err(SourceError::document(&address, "it lists no lines"));
        };
        let is_taken = |line: &String| {
            let version = line.parse().ok();
            version.is_some_and(|version| self.json.definition.takes(&version))
        };
        lines.retain(is_taken);
        lines.truncate(MOST_LINES);
        Ok((lines, long_term))
    }

    /// Asks for the pages of every series, several at a time.
    fn pages(&self, series: &[Series], gathered: &mut Gathered) -> Result<(), SourceError> {
        let next = AtomicUsize::new(0);
        let results: Vec<Mutex<Option<Result<Gathered, SourceError>>>> =
            series.iter().map(|_| Mutex::new(None)).collect();
        thread::scope(|scope| {
            for _ in 0..AT_A_TIME.min(series.len()) {
                scope.spawn(|| {
                    loop {
                        let at = next.fetch_add(1, Ordering::Relaxed);
                        let Some(one) = series.get(at) else {
                            return;
                        };
                        let result = self.pages_of(one);
                        if result.is_err() {
                            // Without one of them the others are of no use.
                            next.store(series.len(), Ordering::Relaxed);
                        }
                        *results[at].lock().expect("nothing panics in here") = Some(result);
                    }
                });
            }
        });
        let results = results
            .into_iter()
            .map(|one| one.into_inner().expect("nothing panics in here"));
        // An error tells why what comes behind it was not asked for.
        for result in results.flatten() {
            gathered.add(result?);
        }
        Ok(())
    }

    /// The pages of a series, to the last one.
    fn pages_of(&self, series: &Series) -> Result<Gathered, SourceError> {
        let mut gathered = Gathered::default();
        let source = &self.json.source;
        let (first, most) = match &source.pages {
            Some(pages) => (pages.first, pages.most()),
            None => (0, 1),
        };
        let has_line = series.words.contains_key("line");
        let mut before = None;
        for number in first..first + most {
            let address = series.page(number)?;
            let may_be_absent = has_line || number > first;
            let read = |bytes: &[u8]| {
                let rows = rows::read(source, &series.platforms, &address, bytes);
                rows.map(Said::Rows)
                    .map_err(|error| SourceError::document(&address, error.to_string()))
            };
            let said = self.said(&address, may_be_absent, &mut gathered, read)?;
            let Some(Said::Rows(rows)) = said else {
                return Ok(gathered);
            };
            if self.is_last(&rows) {
                return Ok(gathered);
            }
            if before.as_ref() == Some(&rows) {
                let problem = format!("page {number} is the same as the one before it");
                return Err(SourceError::document(&address, problem));
            }
            before = Some(rows);
        }
        if source.pages.is_some() {
            gathered.skipped.push(SkippedRow {
                row: series.page(first + most)?.to_string(),
                field: "pages".to_owned(),
                problem: format!("are more than {most}; what follows is not read"),
            });
        }
        Ok(gathered)
    }

    /// Whether no page follows that with these rows.
    fn is_last(&self, rows: &Rows) -> bool {
        let full = self.json.source.pages.as_ref().and_then(|pages| pages.size);
        rows.releases < full.unwrap_or(1)
    }
}

/// The lines in the document that lists them.
fn read_lines(from: &LinesFrom, address: &Address, bytes: &[u8]) -> Result<Said, SourceError> {
    let problem = |problem: String| SourceError::document(address, problem);
    let value: Value = serde_json::from_slice(bytes).map_err(|error| problem(error.to_string()))?;
    let list = |field: &FieldPath| -> Result<Vec<String>, SourceError> {
        let list = value.pointer(field.pointer()).and_then(Value::as_array);
        let list = list.ok_or_else(|| problem(format!("its {field} is not a list")))?;
        let names = list.iter().filter_map(|line| match line {
            Value::String(name) => Some(name.clone()),
            Value::Number(number) => Some(number.to_string()),
            _ => None,
        });
        Ok(names.collect())
    };
    Ok(Said::Lines {
        lines: list(&from.path)?,
        long_term: from.lts.as_ref().map(list).transpose()?.unwrap_or_default(),
    })
}

#[cfg(test)]
mod tests;
