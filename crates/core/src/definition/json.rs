//! The source kind `json`: paths to the releases, builds and fields in the documents of a publisher's JSON interface.
//!
//! There are two levels, releases and the builds of each. The language is limited on purpose: paths without
//! expressions, and at most one list of lines in front of the documents.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::check::{DefinitionError, check};
use super::words::is_file_inside;
use crate::catalog::DigestAlgorithm;
use crate::platform::Platform;
use crate::template::{Template, TemplateError};

/// A JSON interface of a publisher.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct JsonSource {
    /// The document: a URL or a path, which may contain `{line}`, `{page}` and words of the platforms.
    pub address: String,
    /// The document that lists the lines, if each line has its own documents.
    pub lines_from: Option<LinesFrom>,
    /// How the document is divided into pages; one document if it is absent.
    pub pages: Option<Pages>,
    /// The path to the releases: `[]`, `data.releases[]`, or `{version}` for an object whose keys are versions.
    pub releases: RowPath,
    /// The path to the builds of a release: `files[]`, `{platform}`, or `.` for the release itself.
    #[serde(default)]
    pub builds: RowPath,
    /// The field with the version; not needed if a word of each platform contains `{version}`.
    pub version: Option<FieldPath>,
    /// The field with the day of publication: a day or a time, as RFC 3339 or in digits alone.
    pub date: Option<FieldPath>,
    /// The archive: the field with its address, or an address with fields in braces.
    pub url: Template,
    /// The field with the archive's size in bytes.
    pub size: Option<FieldPath>,
    /// The place of the archive's digest.
    pub digest: DigestPlace,
    /// Fields, and the values that they have in rows that count.
    #[serde(default, rename = "where")]
    pub conditions: BTreeMap<FieldPath, Vec<Scalar>>,
    /// The platforms, and the words of the interface for each: they fill places of the address, and are the values
    /// of the fields with their names. A word with `{version}` is a pattern: it fits any version in that place.
    pub platforms: BTreeMap<Platform, BTreeMap<String, Template>>,
    /// The publisher in selectors and records.
    pub publisher: String,
}

/// The document that lists the lines.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LinesFrom {
    /// The document: a URL or a path, which may be relative to the interface's address.
    pub address: String,
    /// The field with the list of lines.
    pub path: FieldPath,
    /// The field with the list of those in long-term support.
    pub lts: Option<FieldPath>,
}

/// How a document is divided into pages. The last one is shorter than the others, empty or absent (status 404).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Pages {
    /// The number of the first page.
    #[serde(default)]
    pub first: usize,
    /// How many releases a full page has; a page with fewer is the last one.
    pub size: Option<usize>,
    /// How many pages are read at most; 50 if absent.
    pub most: Option<usize>,
}

impl Pages {
    /// How many pages are read at most.
    pub fn most(&self) -> usize {
        self.most.unwrap_or(50)
    }
}

/// The place of an archive's digest: one of the four, or a field and the list that has it if the field is empty.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct DigestPlace {
    /// The field with it.
    pub path: Option<FieldPath>,
    /// Its algorithm, `sha256` or `sha512`; its length tells it if absent.
    pub algorithm: Option<DigestAlgorithm>,
    /// The address of the file with it, `{url}.sha256`.
    pub file: Option<Template>,
    /// The field with the address of the file with it.
    pub url_at: Option<FieldPath>,
    /// The name of the checksum list beside the archive.
    pub list: Option<String>,
}

/// A value that a field can have.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub enum Scalar {
    /// A text.
    Text(String),
    /// True or false.
    Truth(bool),
    /// A whole number.
    Number(i64),
}

impl fmt::Display for Scalar {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Scalar::Text(text) => write!(f, "{text:?}"),
            Scalar::Truth(truth) => truth.fmt(f),
            Scalar::Number(number) => number.fmt(f),
        }
    }
}

/// One step on the way to rows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RowStep {
    /// The value of this key.
    Key(String),
    /// Each element of a list.
    Each,
    /// Each value of an object; its key is a field with this name.
    EachKey(String),
}

/// The way to rows: names joined by dots, `[]` for each element of a list, and `{name}` for each value of an object,
/// whose key becomes the field `name`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(
    feature = "schemas",
    derive(schemars::JsonSchema),
    schemars(with = "String")
)]
#[serde(try_from = "String", into = "String")]
pub struct RowPath {
    text: String,
    steps: Vec<RowStep>,
}

/// The most steps of a path.
const MOST_STEPS: usize = 8;

/// A text that is no path.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a path; one looks like {1}")]
pub struct PathError(String, &'static str);

impl Default for RowPath {
    /// The way that leads no further.
    fn default() -> RowPath {
        RowPath {
            text: ".".to_owned(),
            steps: Vec::new(),
        }
    }
}

impl RowPath {
    /// The path as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Its steps, from the outside inwards.
    pub fn steps(&self) -> &[RowStep] {
        &self.steps
    }

    /// The names that its keys have as fields.
    pub fn key_names(&self) -> impl Iterator<Item = &str> {
        self.steps.iter().filter_map(|step| match step {
            RowStep::EachKey(name) => Some(name.as_str()),
            RowStep::Key(_) | RowStep::Each => None,
        })
    }
}

impl FromStr for RowPath {
    type Err = PathError;

    fn from_str(text: &str) -> Result<RowPath, PathError> {
        let error = || PathError(text.to_owned(), "data.releases[] or {version}");
        let mut steps = Vec::new();
        for part in text.split('.').filter(|_| text != ".") {
            let (name, is_list) = match part.strip_suffix("[]") {
                Some(name) => (name, true),
                None => (part, false),
            };
            let key = name
                .strip_prefix('{')
                .and_then(|name| name.strip_suffix('}'));
            match key {
                Some(key) if is_key(key) => steps.push(RowStep::EachKey(key.to_owned())),
                None if is_key(name) => steps.push(RowStep::Key(name.to_owned())),
                // The document itself is the list.
                None if text == "[]" => {}
                _ => return Err(error()),
            }
            if is_list {
                steps.push(RowStep::Each);
            }
        }
        if steps.len() > MOST_STEPS {
            return Err(error());
        }
        Ok(RowPath {
            text: text.to_owned(),
            steps,
        })
    }
}

impl TryFrom<String> for RowPath {
    type Error = PathError;

    fn try_from(text: String) -> Result<RowPath, PathError> {
        text.parse()
    }
}

impl From<RowPath> for String {
    fn from(path: RowPath) -> String {
        path.text
    }
}

/// The way to a field of a row: names joined by dots, and `[0]` for an element of a list.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(
    feature = "schemas",
    derive(schemars::JsonSchema),
    schemars(with = "String")
)]
#[serde(try_from = "String", into = "String")]
pub struct FieldPath {
    text: String,
    /// Names and indexes, as a JSON pointer (RFC 6901) has them.
    pointer: String,
}

impl FieldPath {
    /// The path as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The path as a JSON pointer (RFC 6901).
    pub fn pointer(&self) -> &str {
        &self.pointer
    }
}

impl FromStr for FieldPath {
    type Err = PathError;

    fn from_str(text: &str) -> Result<FieldPath, PathError> {
        let error = || PathError(text.to_owned(), "package.checksum or result[0].link");
        let mut pointer = String::new();
        let parts: Vec<&str> = text.split('.').collect();
        for part in &parts {
            let (name, index) = match part.strip_suffix(']').and_then(|part| part.split_once('[')) {
                Some((name, index)) => (name, Some(index)),
                None => (*part, None),
            };
            let is_index = |text: &str| text.parse::<usize>().is_ok();
            if !is_key(name) || !index.is_none_or(is_index) {
                return Err(error());
            }
            pointer.push('/');
            pointer.push_str(name);
            if let Some(index) = index {
                pointer.push('/');
                pointer.push_str(index);
            }
        }
        if parts.len() > MOST_STEPS {
            return Err(error());
        }
        Ok(FieldPath {
            text: text.to_owned(),
            pointer,
        })
    }
}

impl TryFrom<String> for FieldPath {
    type Error = PathError;

    fn try_from(text: String) -> Result<FieldPath, PathError> {
        text.parse()
    }
}

impl From<FieldPath> for String {
    fn from(path: FieldPath) -> String {
        path.text
    }
}

impl fmt::Display for FieldPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

/// Whether `text` can be the name of a field.
fn is_key(text: &str) -> bool {
    !text.is_empty() && (text.chars()).all(|c| c.is_ascii_alphanumeric() || "_-@$".contains(c))
}

impl JsonSource {
    /// Fails at a value that cannot be used.
    pub(super) fn check(&self) -> Result<(), DefinitionError> {
        self.check_address()?;
        self.digest.check()?;
        let expected = "a field, or an address with fields in braces, is expected";
        let text = self.url.as_str();
        let mut fields = self.url_fields();
        let good = fields.all(|field| field.is_ok());
        check(good, "sources.url", text, expected)?;
        let good = !self.platforms.is_empty();
        let expected = "the platforms of the builds are needed";
        check(good, "sources.platforms", "{}", expected)?;
        for word in self.platforms.values().flat_map(BTreeMap::values) {
            let good = word.places().next().is_none() || word.has_places("version", &[]);
            let expected = "a word may contain {version} once";
            check(good, "sources.platforms", word.as_str(), expected)?;
        }
        let has_version = |words: &BTreeMap<String, Template>| {
            words.values().any(|word| word.places().next().is_some())
        };
        let good = self.version.is_some() || self.platforms.values().all(has_version);
        let expected =
            "the field with the version is needed, or {version} in a word of each platform";
        check(good, "sources.version", "", expected)?;
        if let Some(pages) = &self.pages {
            let most = pages.most();
            let expected = "a number from 1 to 1000 is expected";
            let good = (1..=1000).contains(&most);
            check(good, "sources.pages.most", &most.to_string(), expected)?;
        }
        Ok(())
    }

    /// The fields that make the address of an archive.
    pub fn url_fields(&self) -> impl Iterator<Item = Result<FieldPath, PathError>> {
        let alone = (self.url.places().next().is_none()).then(|| self.url.as_str());
        let places = self.url.places().chain(alone);
        places.map(str::parse)
    }

    fn check_address(&self) -> Result<(), DefinitionError> {
        let template: Result<Template, TemplateError> = self.address.parse();
        let Ok(template) = template else {
            let expected = "each brace in it has a partner";
            return check(false, "sources.address", &self.address, expected);
        };
        let places = || template.places();
        let count = |name: &str| places().filter(|place| *place == name).count();
        let text = &self.address;
        let field = "sources.address";
        let expected = "{line} is in it exactly if there is lines-from";
        let good = count("line") == usize::from(self.lines_from.is_some());
        check(good, field, text, expected)?;
        let expected = "{page} is in it exactly if there is pages";
        let good = count("page") == usize::from(self.pages.is_some());
        check(good, field, text, expected)?;
        let is_word = |place: &str| {
            self.platforms
                .values()
                .all(|words| words.contains_key(place))
        };
        let expected = "each place in it is line, page or a word of every platform";
        let mut others = places().filter(|place| !["line", "page"].contains(place));
        check(others.all(is_word), field, text, expected)
    }
}

impl DigestPlace {
    fn check(&self) -> Result<(), DefinitionError> {
        let field = "sources.digest";
        let places = [
            self.path.is_some(),
            self.file.is_some(),
            self.url_at.is_some(),
            self.list.is_some(),
        ];
        let count = places.iter().filter(|given| **given).count();
        let good = count == 1 || (count == 2 && self.path.is_some() && self.list.is_some());
        let expected = "one of path, file, url-at and list is expected, or path and list";
        check(good, field, "digest", expected)?;
        if let Some(file) = &self.file {
            let good = file.has_places("url", &[]);
            check(good, field, file.as_str(), "it holds {url} once")?;
        }
        if let Some(list) = &self.list {
            check(
                is_file_inside(list),
                field,
                list,
                "a relative path is expected",
            )?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("[]", Some(1))]
    #[case(".", Some(0))]
    #[case("data.releases[]", Some(3))]
    #[case("{version}", Some(1))]
    #[case("{version}.{platform}", Some(2))]
    #[case("..releases", None)]
    #[case("releases[*]", None)]
    #[case("releases[?(@.lts)]", None)]
    #[case("a.b.c.d.e.f.g.h.i", None)]
    #[case("", None)]
    fn the_way_to_rows_has_names_lists_and_keys(#[case] text: &str, #[case] steps: Option<usize>) {
        let read = text.parse::<RowPath>().ok();
        assert_eq!(read.map(|path| path.steps().len()), steps);
    }

    #[rstest]
    #[case("package.checksum", Some("/package/checksum"))]
    #[case("result[0].link", Some("/result/0/link"))]
    #[case("size", Some("/size"))]
    #[case("../size", None)]
    #[case("size + 1", None)]
    #[case("result[]", None)]
    #[case("", None)]
    fn a_field_is_named_from_its_row_inwards(#[case] text: &str, #[case] pointer: Option<&str>) {
        let read = text.parse::<FieldPath>().ok();
        assert_eq!(read.as_ref().map(FieldPath::pointer), pointer);
    }
}
