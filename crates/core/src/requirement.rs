//! What a project requires, read out of the files in its folder.
//!
//! Four kinds of files say it: a plain file with one line, a value inside a JSON or TOML manifest, a
//! line of a certain form in any other file, and our own `vivid-shelf.toml`, which can speak for
//! several runtimes at once. A lock file says which release that came to. This module reads contents; finding the files is the caller's.

use std::borrow::Cow;
use std::cell::OnceCell;
use std::path::Path;

use crate::definition::{ANY, RequirementFile, Syntax, is_wrapper_file};
use crate::lock_file::{LOCK_FILE, LockProblem};
use crate::meant::spelling;
use crate::selector::{Request, Selector, SelectorError};
use crate::specifiers;
use crate::template::Template;

/// Our own file; its table `runtimes` holds a selector for each runtime's name.
pub const OWN_FILE: &str = "vivid-shelf.toml";

/// The folder of the project whose requirement file this is: that of the file, or the one above the folders of a build
/// tool's wrapper (`gradle/wrapper/gradle-wrapper.properties`).
pub fn project_folder(file: &Path) -> &Path {
    let folder = file.parent().unwrap_or(file);
    if is_wrapper_file(file) {
        folder.ancestors().nth(2).unwrap_or(folder)
    } else {
        folder
    }
}

/// The largest plain file that is read, in bytes.
pub const LARGEST_PLAIN: usize = 4 << 10;

/// The largest manifest that is read, in bytes.
pub const LARGEST_MANIFEST: usize = 4 << 20;

/// What a project requires of a runtime.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Requirement {
    /// What is required, without a runtime.
    pub request: Request,
    /// The line it stands on, counted from 1.
    pub line: usize,
}

/// Why a file says nothing that can be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {problem}")]
pub struct RequirementError {
    /// The line, counted from 1.
    pub line: usize,
    /// What is wrong.
    pub problem: Problem,
}

/// What is wrong with a file.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Problem {
    /// More bytes than such a file has.
    #[error("the file has more than {0} bytes")]
    TooLarge(usize),
    /// Not UTF-8, or a control character.
    #[error("it contains a byte that is not text")]
    NotText,
    /// A second line of the form that differs.
    #[error("the file says a second thing, and only one can hold")]
    SecondLine,
    /// Something that is no list of version specifiers.
    #[error("{0:?} is not a list of version specifiers of final releases, as in \">=3.11,<4\"")]
    Specifiers(String),
    /// A version of another implementation of the language.
    #[error("it is for {found}, another implementation, which is not available here")]
    OtherImplementation {
        /// The implementation.
        found: String,
    },
    /// Not JSON or not TOML.
    #[error("the file is not understood: {0}")]
    Syntax(String),
    /// A value that is no text.
    #[error("{0} is not a text")]
    NotAString(String),
    /// Something that is no selector.
    #[error(transparent)]
    Selector(SelectorError),
    /// A selector that depends on the shell or person, as `previous`.
    #[error("{0} means something else in every shell, and cannot be required")]
    Personal(String),
    /// Something that is no lock.
    #[error(transparent)]
    Lock(LockProblem),
    /// A selector for another runtime.
    #[error("it is for {found:?}, and this file is of {expected:?}")]
    OtherRuntime {
        /// The runtime in front of the selector.
        found: String,
        /// The runtime that was asked about.
        expected: String,
    },
}

/// Every file in which a project can say what it requires of `runtime`, in the order in which they
/// count within one folder: the lock file, our own, then those of the runtime's definition.
pub fn files(runtime: &str, of_definition: &[RequirementFile]) -> Vec<RequirementFile> {
    let own = RequirementFile {
        value: Some(format!("runtimes.{runtime}")),
        ..own_file()
    };
    [RequirementFile::plain(LOCK_FILE), own]
        .into_iter()
        .chain(of_definition.iter().cloned())
        .collect()
}

/// Our own file, with what it requires of all runtimes.
pub fn own_file() -> RequirementFile {
    RequirementFile {
        value: Some("runtimes".to_owned()),
        ..RequirementFile::plain(OWN_FILE)
    }
}

/// The largest version file that is proposed to be read, in bytes.
pub const LARGEST_VERSION_FILE: usize = 64;

/// Whether a hidden file with this name can be a version file, which has a single line.
pub fn is_version_file_name(name: &str) -> bool {
    let Some(rest) = name.strip_prefix('.') else {
        return false;
    };
    let is_allowed = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "._-".contains(c);
    (1..=64).contains(&rest.len())
        && rest.starts_with(|c: char| c.is_ascii_lowercase() || c.is_ascii_digit())
        && rest.chars().all(is_allowed)
}

/// The selector of a version file with these contents: `None` if they are anything else than one line with one.
pub fn version_file(contents: &[u8]) -> Option<Request> {
    let text = std::str::from_utf8(contents).ok()?;
    if contents.len() > LARGEST_VERSION_FILE || further_line(text).is_some() {
        return None;
    }
    let (_, line) = plain_line(text).ok()??;
    line.parse().ok()
}

/// How many bytes of `file` are worth reading: one more than it may have.
pub fn limit(file: &RequirementFile) -> usize {
    1 + match file.is_plain() {
        true => LARGEST_PLAIN,
        false => LARGEST_MANIFEST,
    }
}

/// The contents of a requirement file. A manifest is parsed once for all runtimes.
#[derive(Debug, Default)]
pub struct Contents {
    bytes: Vec<u8>,
    manifest: OnceCell<Result<serde_json::Value, RequirementError>>,
}

impl From<Vec<u8>> for Contents {
    fn from(bytes: Vec<u8>) -> Contents {
        Contents {
            bytes,
            manifest: OnceCell::new(),
        }
    }
}

impl Contents {
    /// The bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// The names of the runtimes that our own file with these contents requires. A file that is not understood names
    /// none.
    pub fn runtimes(&self) -> Vec<&str> {
        let Ok(text) = text_of(&own_file(), &self.bytes) else {
            return Vec::new();
        };
        let parsed = self.manifest.get_or_init(|| parse(OWN_FILE, text));
        let named = parsed.as_ref().ok();
        let named = named.and_then(|manifest| manifest.get("runtimes")?.as_object());
        let named = named.into_iter().flat_map(serde_json::Map::keys);
        named.map(String::as_str).collect()
    }

    /// The requirement of a runtime in `file`, which has these contents: `None` if it has none.
    pub fn requirement(
        &self,
        runtime: &str,
        file: &RequirementFile,
    ) -> Result<Option<Requirement>, RequirementError> {
        let text = text_of(file, &self.bytes)?;
        let found = match (&file.value, &file.line) {
            (Some(keys), _) => {
                let parsed = self.manifest.get_or_init(|| parse(&file.file, text));
                let manifest = parsed.as_ref().map_err(RequirementError::clone)?;
                let found = value_at(runtime, manifest, keys, text)?;
                // A value of another form is about another runtime.
                match (found, &file.line) {
                    (Some((line, value)), Some(form)) => {
                        value_in_line(&value, form).map(|value| (line, value))
                    }
                    (found, _) => found,
                }
            }
            (None, Some(form)) => line_of_form(text, form)?,
            (None, None) => plain_line(text)?.map(|(line, value)| (line, value.to_owned())),
        };
        let Some((line, value)) = found else {
            return Ok(None);
        };
        let is_named = |other: &&String| {
            let rest = value.strip_prefix(other.as_str());
            rest.is_some_and(|rest| !rest.starts_with(|c: char| c.is_ascii_alphabetic()))
        };
        if let Some(other) = file.others.iter().find(is_named) {
            return Err(RequirementError {
                line,
                problem: Problem::OtherImplementation {
                    found: other.clone(),
                },
            });
        }
        let value = match file.syntax {
            Syntax::Selector => value,
            Syntax::Specifiers => specifiers::as_range(&value).ok_or(RequirementError {
                line,
                problem: Problem::Specifiers(value),
            })?,
        };
        let value = match &file.means {
            Some(means) => means.filled(|_| value.clone()),
            None => value,
        };
        required(runtime, line, &value).map(Some)
    }
}

/// The requirement that a value on this line states for a runtime.
fn required(runtime: &str, line: usize, value: &str) -> Result<Requirement, RequirementError> {
    let error = |line, problem| RequirementError { line, problem };
    let read = |text: &str| -> Result<Request, RequirementError> {
        text.parse().map_err(|e| error(line, Problem::Selector(e)))
    };
    let mut request = read(value)?;
    // Several programs write the runtime in front of its version, as in `ruby-3.3.8` and `go1.26.1`.
    if let (Selector::Name(name), None) = (&request.selector, &request.runtime)
        && let Some(ours) = spelling::with_runtime(name, runtime)
    {
        request = read(&ours)?;
    }
    match &request {
        Request {
            runtime: Some(found),
            ..
        } if found != runtime => {
            let (found, expected) = (found.clone(), runtime.to_owned());
            Err(error(line, Problem::OtherRuntime { found, expected }))
        }
        Request {
            selector: Selector::Previous | Selector::Default,
            ..
        } => Err(error(line, Problem::Personal(request.selector.to_string()))),
        _ => Ok(Requirement {
            request: Request {
                runtime: None,
                ..request
            },
            line,
        }),
    }
}

/// The contents of `file` as text, where they are one and not too large.
pub fn text_of<'c>(
    file: &RequirementFile,
    contents: &'c [u8],
) -> Result<&'c str, RequirementError> {
    let error = |line, problem| RequirementError { line, problem };
    if contents.len() >= limit(file) {
        return Err(error(1, Problem::TooLarge(limit(file) - 1)));
    }
    let text = std::str::from_utf8(contents).map_err(|e| {
        let before = &contents[..e.valid_up_to()];
        error(
            1 + before.iter().filter(|b| **b == b'\n').count(),
            Problem::NotText,
        )
    })?;
    Ok(text.strip_prefix('\u{feff}').unwrap_or(text))
}

/// The first line of a plain file that has something on it, without comments and white space.
fn plain_line(text: &str) -> Result<Option<(usize, &str)>, RequirementError> {
    let found = plain_lines(text).next();
    match found {
        Some((line, value)) if value.contains(|c: char| c.is_control() && c != '\t') => {
            Err(RequirementError {
                line,
                problem: Problem::NotText,
            })
        }
        found => Ok(found),
    }
}

/// The number of the second line of a plain file that has something on it, which does not count.
pub fn further_line(text: &str) -> Option<usize> {
    plain_lines(text).nth(1).map(|(line, _)| line)
}

fn plain_lines(text: &str) -> impl Iterator<Item = (usize, &str)> {
    let lines = text.lines().enumerate().map(|(index, line)| {
        let line = line.split('#').next().unwrap_or_default();
        (index + 1, line.trim())
    });
    lines.filter(|(_, line)| !line.is_empty())
}

/// The selector in the line of this form. A form that ends with a comma is one of fields, several of which can share a
/// line.
fn line_of_form(text: &str, form: &Template) -> Result<Option<(usize, String)>, RequirementError> {
    let text = without_block_comments(text);
    let mut found: Option<(usize, String)> = None;
    for (index, line) in text.lines().enumerate() {
        let value = if form.as_str().ends_with(',') {
            fields(line).find_map(|field| value_in_line(&format!("{field},"), form))
        } else {
            value_in_line(line, form)
        };
        let Some(value) = value else {
            continue;
        };
        match &found {
            Some((_, before)) if *before != value => {
                return Err(RequirementError {
                    line: index + 1,
                    problem: Problem::SecondLine,
                });
            }
            Some(_) => {}
            None => found = Some((index + 1, value)),
        }
    }
    Ok(found)
}

/// The fields of a line: its parts between commas and braces that are not in quotes.
fn fields(line: &str) -> impl Iterator<Item = &str> {
    let mut is_quoted = false;
    let is_between = move |c: char| {
        is_quoted ^= c == '"';
        !is_quoted && matches!(c, ',' | '{' | '}')
    };
    line.split(is_between).map(str::trim)
}

/// The text with spaces in the place of comments between `/*` and `*/`; lines keep their numbers.
fn without_block_comments(text: &str) -> Cow<'_, str> {
    if !text.contains("/*") {
        return Cow::Borrowed(text);
    }
    let mut rest = text;
    let mut kept = String::new();
    while let Some((before, comment)) = rest.split_once("/*") {
        kept += before;
        let (comment, behind) = comment.split_once("*/").unwrap_or((comment, ""));
        kept.extend(comment.chars().map(|c| if c == '\n' { c } else { ' ' }));
        rest = behind;
    }
    Cow::Owned(kept + rest)
}

/// The selector in one line, where that has this form; white space counts as one space, and comments as
/// nothing.
pub fn value_in_line(line: &str, form: &Template) -> Option<String> {
    let is_comment = |word: &str| word.starts_with("//") || word.starts_with('#');
    let words = line.split_whitespace().take_while(|word| !is_comment(word));
    let words = words.collect::<Vec<_>>().join(" ");
    // `{any}` is part of an address or follows a digest's sign. A selector beside it has neither slash nor sign.
    let is_beside_any = form.places().any(|place| place == ANY);
    let is_word = |place: &str, value: &str| {
        let is_part = place == ANY || !is_beside_any || !value.contains(['/', '+']);
        is_part && !value.contains(|c: char| c.is_whitespace() || c.is_control())
    };
    let values = form.values(&words, &is_word)?;
    let selector = form.places().zip(values).filter(|(place, _)| *place != ANY);
    Some(selector.map(|(_, value)| value).collect())
}

/// The values in a JSON or TOML text; the name of the file says which it is.
fn parse(file: &str, text: &str) -> Result<serde_json::Value, RequirementError> {
    let syntax = |line, problem: String| RequirementError {
        line,
        problem: Problem::Syntax(problem),
    };
    if !file.ends_with(".toml") {
        return serde_json::from_str(text).map_err(|e| syntax(e.line(), e.to_string()));
    }
    toml::from_str(text).map_err(|e: toml::de::Error| {
        let start = e.span().map_or(0, |span| span.start.min(text.len()));
        let line = 1 + text[..start].matches('\n').count();
        syntax(line, e.message().to_owned())
    })
}

/// The value at `keys` in a manifest.
fn value_at(
    runtime: &str,
    manifest: &serde_json::Value,
    keys: &str,
    text: &str,
) -> Result<Option<(usize, String)>, RequirementError> {
    let Some(value) = walk(runtime, manifest, keys) else {
        return Ok(None);
    };
    let last_key = keys.rsplit('.').next().unwrap_or(keys);
    let line = line_of(text, last_key, value.as_str().unwrap_or_default());
    match value {
        serde_json::Value::String(value) => Ok(Some((line, value.clone()))),
        _ => Err(RequirementError {
            line,
            problem: Problem::NotAString(keys.to_owned()),
        }),
    }
}

/// Follows `keys`. Below the top, an object that names something else than the runtime does not
/// count, and of a list the first object that names it does: so the OpenJS `devEngines.runtime` may
/// be one object or several.
fn walk<'v>(
    runtime: &str,
    document: &'v serde_json::Value,
    keys: &str,
) -> Option<&'v serde_json::Value> {
    let names = |value: &serde_json::Value| {
        value
            .get("name")
            .is_none_or(|name| name.as_str() == Some(runtime))
    };
    let mut at = document;
    for (depth, key) in keys.split('.').enumerate() {
        if let Some(list) = at.as_array() {
            at = list.iter().find(|item| names(item))?;
        }
        if depth > 0 && !names(at) {
            return None;
        }
        at = at.get(key)?;
    }
    Some(at)
}

/// The line on which `key` has `value`; the first line where none does.
fn line_of(text: &str, key: &str, value: &str) -> usize {
    text.lines()
        .position(|line| {
            line.find(key)
                .is_some_and(|at| line[at + key.len()..].contains(value))
        })
        .map_or(1, |index| index + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn read(
        runtime: &str,
        file: &RequirementFile,
        contents: &[u8],
    ) -> Result<Option<Requirement>, RequirementError> {
        Contents::from(contents.to_vec()).requirement(runtime, file)
    }

    fn plain() -> RequirementFile {
        RequirementFile::plain(".marram-version")
    }

    fn json(keys: &str) -> RequirementFile {
        RequirementFile {
            value: Some(keys.into()),
            ..RequirementFile::plain("package.json")
        }
    }

    #[rstest]
    #[case(b"8.3.1", "8.3.1", 1)]
    #[case(b"v8.3.1\r\n", "8.3.1", 1)]
    #[case(
        b"\xef\xbb\xbf# the board's own\n\n  lts  # until spring\n\n",
        "lts",
        3
    )]
    #[case(b">=6 <8\n", ">=6 <8", 1)]
    #[case(b"marram@dunefield/8", "dunefield/8", 1)]
    #[case(b"Eelgrass", "Eelgrass", 1)]
    #[case(b"marram-8.3.1", "8.3.1", 1)]
    #[case(b"marram8.3", "8.3", 1)]
    #[case(b"marrams-8", "marrams-8", 1)]
    #[case(b"8\n# later\n9\n", "8", 1)]
    fn a_plain_file_holds_one_selector(
        #[case] contents: &[u8],
        #[case] wanted: &str,
        #[case] line: usize,
    ) {
        let requirement = read("marram", &plain(), contents).unwrap().unwrap();
        assert_eq!(
            (requirement.request.to_string().as_str(), requirement.line),
            (wanted, line)
        );
    }

    #[rstest]
    #[case(
        "distributionUrl=https\\://reed.example/reed-2/reed-3.1.0-bin.zip",
        Some("3.1.0")
    )]
    #[case("distributionUrl=https\\://reed.example/reed-3.1.0-all.zip", None)]
    #[case("# distributionUrl=https\\://reed.example/reed-3.1.0-bin.zip", None)]
    #[case("distributionUrl=", None)]
    fn the_file_of_a_wrapper_says_a_version_and_no_address(
        #[case] text: &str,
        #[case] wanted: Option<&str>,
    ) {
        let file = RequirementFile {
            line: Some(
                "distributionUrl={any}/reed-{selector}-bin.zip"
                    .parse()
                    .unwrap(),
            ),
            ..RequirementFile::plain("reed/wrapper/reed-wrapper.properties")
        };
        let found = read("reed", &file, text.as_bytes()).unwrap();
        let found = found.map(|found| found.request.to_string());
        assert_eq!(found.as_deref(), wanted);
        assert!(!file.is_writable() && file.is_in_folder());
    }

    #[rstest]
    #[case("reed@3.1.0", Some("3.1.0"))]
    #[case("reed@3.1.0+sha512.0a0b", Some("3.1.0"))]
    #[case("sedge@2.0.0", None)]
    #[case("reed", None)]
    fn a_value_of_the_form_of_another_runtime_is_no_requirement(
        #[case] value: &str,
        #[case] wanted: Option<&str>,
    ) {
        let contents = format!("{{ \"packageManager\": \"{value}\" }}");
        let forms = ["reed@{selector}+{any}", "reed@{selector}"];
        let found = forms.iter().find_map(|form| {
            let file = RequirementFile {
                line: Some(form.parse().unwrap()),
                ..json("packageManager")
            };
            assert!(!file.is_writable());
            read("reed", &file, contents.as_bytes()).unwrap()
        });
        let found = found.map(|found| found.request.to_string());
        assert_eq!(found.as_deref(), wanted);
    }

    #[rstest]
    #[case("/b/reed/wrapper/reed-wrapper.properties", "/b")]
    #[case("/b/wrapper/reed.properties", "/b/wrapper")]
    #[case("/b/.reed-version", "/b")]
    fn a_requirement_file_belongs_to_a_folder(#[case] file: &str, #[case] folder: &str) {
        assert_eq!(project_folder(Path::new(file)), Path::new(folder));
    }

    #[rstest]
    #[case(b"")]
    #[case(b"\n# nothing yet\n")]
    fn a_file_can_say_nothing(#[case] contents: &[u8]) {
        assert_eq!(read("marram", &plain(), contents), Ok(None));
    }

    #[rstest]
    #[case(b"8..1", 1, "\"8..1\" is not a version")]
    #[case(b"../../etc/passwd", 1, "\"..\" is not a name")]
    #[case(b"$(touch pwned)", 1, "\"$(touch pwned)\" is not a")]
    #[case(b"8\x1b[2J", 1, "it contains a byte that is not text")]
    #[case(b"# fine\n8\xff", 2, "it contains a byte that is not text")]
    #[case(b"previous", 1, "previous means something else in every shell")]
    #[case(b"sedge@8", 1, "it is for \"sedge\", and this file is of \"marram\"")]
    fn garbage_is_refused_with_its_line(
        #[case] contents: &[u8],
        #[case] line: usize,
        #[case] problem: &str,
    ) {
        let error = read("marram", &plain(), contents).unwrap_err();
        assert_eq!(error.line, line);
        assert!(error.problem.to_string().starts_with(problem), "{error}");
    }

    #[rstest]
    #[case(".beach-version", true)]
    #[case(".b", true)]
    #[case("beach", false)]
    #[case(".", false)]
    #[case("..", false)]
    #[case(".Beach", false)]
    #[case(".-x", false)]
    #[case(".a/b", false)]
    fn names_of_version_files_are_hidden_and_plain(#[case] name: &str, #[case] is_one: bool) {
        assert_eq!(is_version_file_name(name), is_one);
        assert!(!is_version_file_name(&format!(".{}", "a".repeat(65))));
    }

    #[rstest]
    #[case(b"20.11.0\n", Some("20.11.0"))]
    #[case(b"v20\n", Some("20"))]
    #[case(b"tides/eelgrass", Some("tides/eelgrass"))]
    #[case(b"20\n22\n", None)]
    #[case(b"[core]\n", None)]
    #[case(b"", None)]
    #[case(&[b'8'; 65], None)]
    fn a_version_file_is_one_selector(#[case] contents: &[u8], #[case] selector: Option<&str>) {
        let found = version_file(contents).map(|request| request.to_string());
        assert_eq!(found.as_deref(), selector);
    }

    #[rstest]
    #[case("8\n9\n", Some(2))]
    #[case("# 9\n\n8 # now\n# 7\n", None)]
    #[case("8\n\n6\n4\n", Some(3))]
    fn further_lines_of_a_plain_file_are_found(#[case] text: &str, #[case] line: Option<usize>) {
        assert_eq!(further_line(text), line);
    }

    #[test]
    fn a_huge_file_is_not_looked_into() {
        let contents = vec![b'8'; LARGEST_PLAIN + 1];
        let error = read("marram", &plain(), &contents).unwrap_err();
        assert_eq!(error.problem, Problem::TooLarge(LARGEST_PLAIN));
    }

    #[rstest]
    #[case(
        "engines.marram",
        r#"{"name":"x","engines":{"marram":"^8.1"}}"#,
        Some("^8.1")
    )]
    #[case("engines.marram", r#"{"engines":{"sedge":"1"}}"#, None)]
    #[case("engines.marram", r#"{}"#, None)]
    #[case(
        "devEngines.runtime.version",
        r#"{"name":"tide-board","devEngines":{"runtime":{"name":"marram","version":">=6 <8"}}}"#,
        Some(">=6 <8")
    )]
    #[case("devEngines.runtime.version", r#"{"devEngines":{"runtime":[{"name":"sedge","version":"1"},{"name":"marram","version":"8"}]}}"#, Some("8"))]
    #[case(
        "devEngines.runtime.version",
        r#"{"devEngines":{"runtime":{"name":"sedge","version":"1"}}}"#,
        None
    )]
    fn a_manifest_holds_a_value(
        #[case] keys: &str,
        #[case] text: &str,
        #[case] wanted: Option<&str>,
    ) {
        let requirement = read("marram", &json(keys), text.as_bytes()).unwrap();
        assert_eq!(
            requirement.map(|w| w.request.to_string()).as_deref(),
            wanted
        );
    }

    #[test]
    fn a_manifest_names_the_line_of_what_is_wrong() {
        let file = json("engines.marram");
        let text =
            b"{\n  \"name\": \"buoy-api\",\n  \"engines\": {\n    \"marram\": \"8..\"\n  }\n}";
        assert_eq!(read("marram", &file, text).unwrap_err().line, 4);
        assert_eq!(read("marram", &file, b"{\n  oops").unwrap_err().line, 2);
        let error = read("marram", &file, b"{\"engines\":{\"marram\":8}}").unwrap_err();
        assert_eq!(error.problem, Problem::NotAString("engines.marram".into()));
    }

    #[rstest]
    #[case("jruby-9.4.8.0")]
    #[case("jruby")]
    #[case("truffleruby-24.1")]
    fn another_implementation_is_named(#[case] text: &str) {
        let file = RequirementFile {
            others: vec!["jruby".to_owned(), "truffleruby".to_owned()],
            ..RequirementFile::plain(".ruby-version")
        };
        let error = read("ruby", &file, text.as_bytes()).unwrap_err();
        assert!(
            matches!(&error.problem, Problem::OtherImplementation { found } if text.starts_with(found))
        );
        assert!(read("ruby", &file, b"ruby-3.3.8").unwrap().is_some());
    }

    #[test]
    fn specifiers_are_read_if_the_definition_says_so() {
        let file = RequirementFile {
            value: Some("project.requires-python".to_owned()),
            syntax: Syntax::Specifiers,
            ..RequirementFile::plain("pyproject.toml")
        };
        let required = |text: &str| {
            let text = format!("[project]\nrequires-python = {text:?}\n");
            read("python", &file, text.as_bytes())
        };
        let found = required(">=3.11,<4").unwrap().unwrap();
        assert_eq!(
            (found.request.to_string(), found.line),
            (">=3.11.0 <4.0.0".to_owned(), 2)
        );
        let error = required("^3.11").unwrap_err();
        assert_eq!(
            (error.line, error.problem),
            (2, Problem::Specifiers("^3.11".to_owned()))
        );
    }

    #[rstest]
    #[case("go 1.21\n", Some(1))]
    #[case("/* the tides\n go 1.20 */\ngo 1.21\n", Some(3))]
    #[case("module x /* y */ \n/* go 1.19 */ go 1.21 // go 1.18\n", Some(2))]
    #[case("/* go 1.21\n", None)]
    fn block_comments_do_not_count(#[case] text: &str, #[case] line: Option<usize>) {
        let file = RequirementFile {
            line: Some("go {selector}".parse().unwrap()),
            ..RequirementFile::plain("go.mod")
        };
        let found = read("go", &file, text.as_bytes()).unwrap();
        let found = found.map(|found| (found.request.to_string(), found.line));
        assert_eq!(found, line.map(|line| ("1.21".to_owned(), line)));
    }

    #[rstest]
    #[case(".{\n    .minimum_zig_version = \"0.14.0\",\n}", 2)]
    #[case(
        ".{ .name = .tide, .minimum_zig_version = \"0.14.0\", .paths = .{\"\"} }",
        1
    )]
    #[case(
        ".{ .name = \"a, .minimum_zig_version = 1\", .minimum_zig_version = \"0.14.0\" }",
        1
    )]
    fn fields_can_share_a_line(#[case] text: &str, #[case] line: usize) {
        let file = RequirementFile {
            line: Some(".minimum_zig_version = \"{selector}\",".parse().unwrap()),
            ..RequirementFile::plain("build.zig.zon")
        };
        let found = read("zig", &file, text.as_bytes()).unwrap().unwrap();
        assert_eq!(
            (found.request.to_string(), found.line),
            ("0.14.0".to_owned(), line)
        );
    }

    /// What a file of lines such as `tide MODULE`, `orache 2.6` requires.
    fn in_lines(text: &str, means: Option<&str>) -> Result<Option<(String, usize)>, String> {
        let file = RequirementFile {
            line: Some("orache {selector}".parse().unwrap()),
            means: means.map(|means| means.parse().unwrap()),
            ..RequirementFile::plain("tide.mod")
        };
        let read = read("orache", &file, text.as_bytes()).map_err(|error| error.to_string())?;
        Ok(read.map(|found| (found.request.to_string(), found.line)))
    }

    #[rstest]
    #[case("tide buoy\n\norache   2.6 // for now\n", None, Some(("2.6", 3)))]
    #[case("orache 2.6\norache 2.6\n", None, Some(("2.6", 1)))]
    #[case("orache 2.6\n", Some(">={selector}"), Some((">=2.6", 1)))]
    #[case("orache\norache two words\n// orache 2.6\n", None, None)]
    fn a_line_of_a_form_has_the_selector(
        #[case] text: &str,
        #[case] means: Option<&str>,
        #[case] expected: Option<(&str, usize)>,
    ) {
        let expected = expected.map(|(selector, line)| (selector.to_owned(), line));
        assert_eq!(in_lines(text, means), Ok(expected));
    }

    #[test]
    fn two_lines_that_fit_and_differ_are_an_error() {
        let error = in_lines("orache 2.6\n\norache 2.7\n", None).unwrap_err();
        assert_eq!(
            error,
            "line 3: the file says a second thing, and only one can hold"
        );
    }

    #[test]
    fn our_own_file_speaks_for_several_runtimes() {
        let files = files("marram", &[plain()]);
        let names: Vec<&str> = files.iter().map(|file| file.file.as_str()).collect();
        assert_eq!(names, [LOCK_FILE, OWN_FILE, ".marram-version"]);
        let text = b"[runtimes]\nnode = \"20\"\nmarram = \"lts\"\n";
        let requirement = read("marram", &files[1], text).unwrap().unwrap();
        assert_eq!(
            (requirement.request.selector, requirement.line),
            (Selector::Lts, 3)
        );
        assert_eq!(
            read("marram", &files[1], b"[runtimes\n").unwrap_err().line,
            1
        );
    }
}
