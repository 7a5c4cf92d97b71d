//! From a document to its rows: which builds it has, and why others do not count.

use jiff::civil::Date;
use serde_json::Value;
use vshelf_core::Platform;
use vshelf_core::catalog::Checksum;
use vshelf_core::definition::json::{DigestPlace, FieldPath, JsonSource, PathError, Scalar};

use super::walk::{Keys, walk, walk_value};
use crate::address::Address;
use crate::checksums::read_digest;
use crate::kept_documents::{Row, Rows, SkippedRow};

/// The most builds that are read of a document: more than any publisher has on one page.
const MOST_BUILDS: usize = 20_000;

/// The longest text of a field that is shown, in characters.
const LONGEST_SHOWN: usize = 80;

/// The rows of a document at `address`, which is about these platforms; the error says what its shape lacks.
pub(super) fn read(
    source: &JsonSource,
    platforms: &[Platform],
    address: &Address,
    bytes: &[u8],
) -> Result<Rows, serde_json::Error> {
    let mut rows = Rows::default();
    walk(bytes, source.releases.steps(), &mut |keys, release| {
        rows.releases += 1;
        let reader = Reader {
            source,
            platforms,
            address,
            number: rows.releases,
            release: &release,
        };
        reader.add_builds(keys, &mut rows);
    })?;
    Ok(rows)
}

/// Why a row does not count: the field, and what is wrong with it.
struct Problem(String, String);

impl Problem {
    fn of(field: &FieldPath, problem: impl Into<String>) -> Problem {
        Problem(field.to_string(), problem.into())
    }
}

/// Reads the builds of one release.
struct Reader<'r> {
    source: &'r JsonSource,
    platforms: &'r [Platform],
    address: &'r Address,
    /// The place of the release in its document, counted from 1.
    number: usize,
    release: &'r Value,
}

/// One build: what is known of it, from the inside outwards.
struct Fields<'r> {
    build: &'r Value,
    release: &'r Value,
    keys: &'r Keys,
}

impl<'r> Fields<'r> {
    /// The value of a field: the build's own, or else that of its release, or else a key on its way.
    fn value(&self, field: &FieldPath) -> Option<&'r Value> {
        let found = [self.build, self.release].into_iter();
        found
            .filter_map(|value| value.pointer(field.pointer()))
            .find(|value| !value.is_null())
    }

    /// The value as a text.
    fn text(&self, field: &FieldPath) -> Result<String, Problem> {
        match self.value(field) {
            Some(Value::String(text)) => Ok(text.clone()),
            Some(Value::Number(number)) => Ok(number.to_string()),
            Some(other) => Err(Problem::of(
                field,
                format!("is {}, not a text", kind(other)),
            )),
            None => {
                let key = self.keys.iter().find(|(name, _)| name == field.as_str());
                let key = key.map(|(_, key)| key.clone());
                key.ok_or_else(|| Problem::of(field, "is missing"))
            }
        }
    }

    /// Whether the value is one of these.
    fn is_one_of(&self, field: &FieldPath, values: &[Scalar]) -> bool {
        match self.value(field) {
            Some(Value::Bool(truth)) => values.contains(&Scalar::Truth(*truth)),
            Some(Value::Number(number)) => {
                (number.as_i64()).is_some_and(|number| values.contains(&Scalar::Number(number)))
            }
            _ => (self.text(field)).is_ok_and(|text| values.contains(&Scalar::Text(text))),
        }
    }
}

fn kind(value: &Value) -> &'static str {
    match value {
        Value::Null => "null",
        Value::Bool(_) => "true or false",
        Value::Number(_) => "a number",
        Value::String(_) => "a text",
        Value::Array(_) => "a list",
        Value::Object(_) => "an object",
    }
}

/// The beginning of a text from a server, as it may be shown.
fn quoted(text: &str) -> String {
    let plain: String = text.chars().take(LONGEST_SHOWN).collect();
    format!("{plain:?}")
}

impl Reader<'_> {
    fn add_builds(&self, keys: &Keys, rows: &mut Rows) {
        let mut keys = keys.clone();
        let mut too_many = false;
        let walked = walk_value(
            self.release,
            self.source.builds.steps(),
            &mut keys,
            &mut |keys, build| {
                if rows.builds.len() + rows.skipped.len() >= MOST_BUILDS {
                    too_many = true;
                    return;
                }
                let fields = Fields {
                    build,
                    release: self.release,
                    keys,
                };
                match self.build(&fields) {
                    Ok(row) => rows.builds.push(row),
                    Err(problem) => rows.skipped.push(self.skipped(&fields, problem)),
                }
            },
        );
        let fields = Fields {
            build: self.release,
            release: self.release,
            keys: &keys,
        };
        let builds = || self.source.builds.as_str().to_owned();
        if let Err(problem) = walked {
            let problem = Problem(builds(), problem.to_owned());
            rows.skipped.push(self.skipped(&fields, problem));
        }
        if too_many && rows.skipped.last().is_none_or(|last| last.row != "others") {
            rows.skipped.push(SkippedRow {
                row: "others".to_owned(),
                field: builds(),
                problem: format!("has more than {MOST_BUILDS} builds"),
            });
        }
    }

    fn skipped(&self, fields: &Fields<'_>, Problem(field, problem): Problem) -> SkippedRow {
        let mut words = self.source.platforms.values().flatten();
        let pattern = words.find(|(_, word)| word.places().next().is_some());
        let in_pattern = pattern.and_then(|(name, _)| name.parse().ok());
        let version = self.source.version.clone().or(in_pattern);
        let version = version.and_then(|field| fields.text(&field).ok());
        let named = |version: String| version.chars().take(LONGEST_SHOWN).collect();
        SkippedRow {
            row: version.map_or_else(|| format!("row {}", self.number), named),
            field,
            problem,
        }
    }

    fn build(&self, fields: &Fields<'_>) -> Result<Row, Problem> {
        for (field, values) in &self.source.conditions {
            if !fields.is_one_of(field, values) {
                let found = match fields.value(field) {
                    Some(Value::Bool(truth)) => truth.to_string(),
                    _ => quoted(&fields.text(field)?),
                };
                return Err(Problem::of(field, format!("is {found}")));
            }
        }
        let (platform, in_word) = self.platform(fields)?;
        let spelling = match (&self.source.version, in_word) {
            (Some(field), _) => fields.text(field)?,
            (None, Some(version)) => version,
            (None, None) => return Err(Problem("version".to_owned(), "is missing".to_owned())),
        };
        let address = self.archive(fields)?;
        Ok(Row {
            checksum: self
                .checksum(fields, &address)
                .map(|checksum| checksum.to_string()),
            size: self
                .source
                .size
                .as_ref()
                .and_then(|field| fields.text(field).ok()?.parse().ok()),
            day: self.day(fields),
            spelling,
            platform,
            address: address.to_string(),
        })
    }

    /// The platform whose words the row has, and the version in them. A word that fills a place of the address need not be
    /// in the row too.
    fn platform(&self, fields: &Fields<'_>) -> Result<(Platform, Option<String>), Problem> {
        let mut first = None;
        for platform in self.platforms {
            match self.words_of(platform, fields) {
                Ok(version) => return Ok((platform.clone(), version)),
                Err(problem) => first = first.or(Some(problem)),
            }
        }
        Err(first.unwrap_or_else(|| Problem("platforms".to_owned(), "are none".to_owned())))
    }

    /// The version in the words of a platform, if the row has these words.
    fn words_of(
        &self,
        platform: &Platform,
        fields: &Fields<'_>,
    ) -> Result<Option<String>, Problem> {
        let mut version = None;
        for (name, word) in &self.source.platforms[platform] {
            let field: FieldPath = name
                .parse()
                .map_err(|error: PathError| Problem(name.clone(), error.to_string()))?;
            let is_in_address = self.source.address.contains(&format!("{{{name}}}"));
            let found = match fields.text(&field) {
                Err(_) if is_in_address => continue,
                found => found?,
            };
            let is_pattern = word.places().next().is_some();
            match word.values(&found, &|_, text| !text.contains('/')) {
                Some(values) => version = version.or(values.first().map(|text| (*text).to_owned())),
                None if is_pattern => return Err(Problem::of(&field, "fits no platform")),
                None => return Err(Problem::of(&field, format!("is {}", quoted(&found)))),
            }
        }
        Ok(version)
    }

    fn archive(&self, fields: &Fields<'_>) -> Result<Address, Problem> {
        let mut named = String::new();
        for field in self.source.url_fields().flatten() {
            fields.text(&field)?;
            named = field.to_string();
        }
        let text_of = |name: &str| {
            let field = name.parse().ok();
            field
                .and_then(|field| fields.text(&field).ok())
                .unwrap_or_default()
        };
        let url = &self.source.url;
        let text = match url.places().next() {
            None => text_of(url.as_str()),
            Some(_) => url.filled(text_of),
        };
        let problem = |problem: String| Problem(named.clone(), problem);
        let address = (self.address.join(&text)).map_err(|error| problem(error.to_string()))?;
        if address.is_private() {
            return Ok(address);
        }
        let text = quoted(&text);
        Err(problem(format!("is {text}, which is not encrypted")))
    }

    /// The digest of the archive or the address of its list, or the reason why both are missing.
    fn checksum(&self, fields: &Fields<'_>, archive: &Address) -> Result<Checksum, String> {
        let DigestPlace {
            path,
            algorithm,
            file,
            url_at,
            list,
        } = &self.source.digest;
        let missing = |Problem(field, problem): Problem| format!("its {field} {problem}");
        // Older rows may have none in their field, and a list beside their archives.
        let in_field = path
            .as_ref()
            .filter(|field| list.is_none() || fields.text(field).is_ok());
        if let Some(field) = in_field {
            let text = fields.text(field).map_err(missing)?;
            let digits = text.rsplit_once(':').map_or(&*text, |(_, digits)| digits);
            let digest = read_digest(digits).filter(|digest| {
                let named = text.split_once(':').map(|(named, _)| named);
                algorithm.is_none_or(|algorithm| digest.algorithm == algorithm)
                    && named.is_none_or(|named| named == digest.algorithm.as_str())
            });
            let expected = algorithm.map_or("sha256 or sha512", |algorithm| algorithm.as_str());
            let none = || {
                if text.is_empty() {
                    return format!("its {field} is empty");
                }
                format!(
                    "its {field} is {}, which is no {expected} digest",
                    quoted(&text)
                )
            };
            return digest.map(Checksum::Digest).ok_or_else(none);
        }
        let (reference, named) = match (file, url_at, list) {
            (Some(file), ..) => (file.filled(|_| archive.to_string()), "file".to_owned()),
            (_, Some(field), _) => (fields.text(field).map_err(missing)?, field.to_string()),
            (.., list) => (list.clone().unwrap_or_default(), "list".to_owned()),
        };
        let listed = archive.join(&reference);
        let listed = listed.map_err(|error| format!("its {named} is no address: {error}"))?;
        if listed.is_private() {
            return Ok(Checksum::Listed(listed.to_string()));
        }
        let text = quoted(&reference);
        Err(format!("its {named} is {text}, which is not encrypted"))
    }

    fn day(&self, fields: &Fields<'_>) -> Option<Date> {
        day_in(&fields.text(self.source.date.as_ref()?).ok()?)
    }
}

/// The day that a text begins with: `2026-10-14`, `2026-10-14T09:00:00Z` or `20261014090000+0000`.
fn day_in(text: &str) -> Option<Date> {
    let digits: String = text.chars().filter(|c| *c != '-').take(8).collect();
    let is_day = digits.len() == 8 && digits.bytes().all(|byte| byte.is_ascii_digit());
    is_day.then(|| digits.parse().ok()).flatten()
}
