//! What a runtime is: a small TOML file, data and not code.

pub mod build;
pub(crate) mod check;
pub mod json;
pub mod needs;
mod place;
mod recorded;
mod source;
pub(crate) mod words;

use std::fmt;
use std::path::Path;

use jiff::civil::Date;
use serde::{Deserialize, Serialize};

use self::build::BuildSection;
pub use self::check::DefinitionError;
use self::check::check;
pub use self::place::day;
pub use self::recorded::RecordedDefinition;
pub use self::source::{
    ArchiveLayout, Companion, IndexedArchive, Shipped, SourceDefinition, SourceKind, fingerprint,
    is_repository,
};
pub(crate) use self::words::{is_inside, is_plain_file_name, is_wrapper_file};
use self::words::{is_of_system, is_variable};
use crate::catalog::{Line, LinePolicy, Publisher};
use crate::meant::near;
use crate::packages::PackageTool;
use crate::range::Range;
use crate::selector::{is_line_name, is_name, is_publisher};
use crate::template::{Template, VersionSpellings};
use crate::version::Version;

/// A runtime: its program, its folders, and where its releases come from.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Definition {
    /// The name in selectors and folders.
    pub name: String,
    /// The name for people.
    pub title: String,
    /// The program, without a folder.
    pub program: String,
    /// The folders of an install that go on PATH, relative to it.
    #[serde(default = "bin_folder")]
    pub folders: Vec<String>,
    /// The variable that names the install's folder, where the runtime has one.
    pub home_variable: Option<String>,
    /// How the program is asked for its version.
    pub probe: Probe,
    /// How people, project files and the program spell versions, beside the spelling of the releases.
    #[serde(default)]
    pub spellings: VersionSpellings,
    /// The other runtimes that its releases need to run.
    #[serde(default)]
    pub runs_on: Vec<RunsOn>,
    /// Files in which a project can say what it requires.
    #[serde(default, rename = "requirement-files")]
    pub requirement_files: Vec<RequirementFile>,
    /// How packages are listed and installed, where the runtime has a tool for that.
    pub packages: Option<PackageTool>,
    /// How many leading numbers the releases of a line share.
    pub line_numbers: Option<usize>,
    /// How many of the newest lines are supported, where the publisher's rule is that; the others have
    /// ended.
    pub supported_lines: Option<usize>,
    /// The support life of lines, as far as no source tells it.
    #[serde(default)]
    pub lines: Vec<LineLife>,
    /// How it is built from the source archives of its releases.
    pub build: Option<BuildSection>,
    /// The publishers of the sources, the main one first; where none is listed, they are those that the
    /// sources name, in order.
    #[serde(default)]
    pub publishers: Vec<PublisherEntry>,
    /// Where releases come from. Those of one publisher stand in for each other, first to last.
    pub sources: Vec<SourceDefinition>,
}

/// How a program is asked for its version.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Probe {
    /// Its arguments.
    pub arguments: Vec<String>,
    /// The line of its answer, on standard output or else on standard error, with `{version}` in the place of
    /// the version; or a list of such lines, if builds answer differently.
    pub answer: Answers,
}

/// The lines that a program can answer to its probe.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(
    untagged,
    expecting = "a text with {version} is expected, or a list of them"
)]
pub enum Answers {
    /// One line.
    One(String),
    /// Several; the first that fits counts.
    Several(Vec<String>),
}

impl Answers {
    fn lines(&self) -> &[String] {
        match self {
            Answers::One(line) => std::slice::from_ref(line),
            Answers::Several(lines) => lines,
        }
    }
}

/// A runtime that releases of another one run on.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RunsOn {
    /// The runtime that is needed.
    pub runtime: String,
    /// The releases that need it, as a range; all if it is absent.
    pub releases: Option<Range>,
    /// The versions of it that they run on, as a range; all if it is absent.
    pub version: Option<Range>,
}

impl RunsOn {
    /// Whether this version of the needed runtime is one that it runs on.
    pub fn is_met_by(&self, version: &Version) -> bool {
        let range = self.version.as_ref();
        range.is_none_or(|range| range.contains(&version.to_final()))
    }
}

impl fmt::Display for RunsOn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.version {
            Some(range) => write!(f, "{} {range}", self.runtime),
            None => f.pad(&self.runtime),
        }
    }
}

/// The name of a lock file, which says what the requirements beside it came to.
pub const LOCK_FILE: &str = "vivid-shelf.lock";

/// The place of a requirement file's line that stands for any text.
pub(crate) const ANY: &str = "any";

/// A file in which a project says what it requires.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RequirementFile {
    /// The file's name.
    pub file: String,
    /// Where the selector stands in a JSON or TOML file, as keys joined by dots.
    pub value: Option<String>,
    /// The line that has the selector, or the form of `value`, with `{selector}` in its place, and `{any}` in that of a
    /// text that does not matter; a file with neither this nor `value` has one line, the selector.
    pub line: Option<Template>,
    /// What the found text means, with `{selector}` in its place, where it is not a selector itself.
    pub means: Option<Template>,
    /// How the found text is written.
    #[serde(default)]
    pub syntax: Syntax,
    /// Other implementations of the language that the file can name, such as `jruby` in `jruby-9.4`.
    #[serde(default)]
    pub others: Vec<String>,
}

/// How a requirement is written in a file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Syntax {
    /// As a selector.
    #[default]
    Selector,
    /// As version specifiers joined by commas (PEP 440).
    Specifiers,
}

impl RequirementFile {
    /// A file with one line.
    pub fn plain(file: &str) -> RequirementFile {
        RequirementFile {
            file: file.to_owned(),
            value: None,
            line: None,
            means: None,
            syntax: Syntax::Selector,
            others: Vec::new(),
        }
    }

    /// Whether its name is that of a file, without a folder, or of a build tool's wrapper below the folder.
    pub fn is_in_folder(&self) -> bool {
        let is_of_wrapper = is_inside(&self.file)
            && is_wrapper_file(Path::new(&self.file))
            && self.file.split('/').count() == 3;
        is_plain_file_name(&self.file) || is_of_wrapper
    }

    /// Whether a selector can be written into it: a lock follows what is required, and a text in another form has no
    /// selector that it came from.
    pub fn is_writable(&self) -> bool {
        let has_any = |line: &Template| line.places().any(|place| place == ANY);
        !self.is_lock()
            && self.means.is_none()
            && self.syntax == Syntax::Selector
            && !self.line.as_ref().is_some_and(has_any)
            && (self.value.is_none() || self.line.is_none())
    }

    /// Whether it has one line, the selector.
    pub fn is_plain(&self) -> bool {
        self.value.is_none() && self.line.is_none() && !self.is_lock()
    }

    /// Whether it is the lock file.
    pub fn is_lock(&self) -> bool {
        self.file == LOCK_FILE
    }
}

/// The support life of a line.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LineLife {
    /// The shared numbers: `8`, `1.23`.
    pub line: String,
    /// The code name, if the line has one.
    pub codename: Option<String>,
    /// The day of the first final release.
    #[serde(default, deserialize_with = "place::day")]
    #[cfg_attr(feature = "schemas", schemars(with = "Option<String>"))]
    pub start: Option<Date>,
    /// The first day of long-term support.
    #[serde(default, deserialize_with = "place::day")]
    #[cfg_attr(feature = "schemas", schemars(with = "Option<String>"))]
    pub lts: Option<Date>,
    /// The first day of maintenance.
    #[serde(default, deserialize_with = "place::day")]
    #[cfg_attr(feature = "schemas", schemars(with = "Option<String>"))]
    pub maintenance: Option<Date>,
    /// The last day of support.
    #[serde(default, deserialize_with = "place::day")]
    #[cfg_attr(feature = "schemas", schemars(with = "Option<String>"))]
    pub end: Option<Date>,
}

/// A publisher of a runtime.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PublisherEntry {
    /// The short name in selectors and records.
    pub id: String,
    /// The full name; the id where it is not given.
    pub name: Option<String>,
    /// The publisher whose releases it packs anew, under the same versions: what is known of those is
    /// known of these.
    pub repacks: Option<String>,
    /// What there is to know about its builds, in a sentence without its period.
    pub remark: Option<String>,
    /// Whether its builds lack parts that the builds of others have.
    #[serde(default)]
    pub trimmed: bool,
}

/// Whether `text` is a name in small letters.
fn lower_name(text: &str) -> bool {
    is_name(text) && !text.contains(|c: char| c.is_ascii_uppercase() || c == '.')
}

/// The first of these that comes a second time.
fn first_twice<'t>(mut texts: impl Iterator<Item = &'t str> + Clone) -> Option<&'t str> {
    let all = texts.clone();
    texts.find(|text| all.clone().filter(|other| other == text).count() > 1)
}

fn bin_folder() -> Vec<String> {
    vec!["bin".to_owned()]
}

impl Definition {
    /// Reads a definition from the text of its file and checks every value that becomes part of a
    /// path, a command or shell code.
    pub fn read(text: &str) -> Result<Definition, DefinitionError> {
        let definition: Definition = toml::from_str(text).map_err(DefinitionError::Syntax)?;
        check(
            lower_name(&definition.name),
            "name",
            &definition.name,
            "a name has small letters, digits, '_' and '-'",
        )?;
        check(
            is_plain_file_name(&definition.program),
            "program",
            &definition.program,
            "a program's name without a folder is expected",
        )?;
        for folder in &definition.folders {
            check(
                is_inside(folder),
                "folders",
                folder,
                "a folder inside the install is expected",
            )?;
        }
        for needed in &definition.runs_on {
            let other = lower_name(&needed.runtime) && needed.runtime != definition.name;
            let expected = "the name of another runtime is expected";
            check(other, "runs-on.runtime", &needed.runtime, expected)?;
        }
        definition.check_requirement_files()?;
        if let Some(variable) = &definition.home_variable {
            check(
                is_variable(variable) && !is_of_system(variable),
                "home-variable",
                variable,
                "a variable of the runtime's own has capital letters, digits and '_', and is not one that the system, its loader, a shell or vshelf reads",
            )?;
        }
        definition.check_probe()?;
        if let Some(tool) = &definition.packages {
            tool.check()?;
        }
        for (key, count) in [
            ("line-numbers", definition.line_numbers),
            ("supported-lines", definition.supported_lines),
        ] {
            let expected = "a number from 1 to 9 is expected";
            let good = count.is_none_or(|count| (1..=9).contains(&count));
            check(good, key, &count.unwrap_or_default().to_string(), expected)?;
        }
        definition.check_lines()?;
        if let Some(build) = &definition.build {
            build.check()?;
        }
        definition.check_publishers()?;
        definition.check_sources()?;
        Ok(definition)
    }

    fn check_probe(&self) -> Result<(), DefinitionError> {
        let expected = "a line of the answer is expected";
        let lines = self.probe.answer.lines();
        check(!lines.is_empty(), "probe.answer", "[]", expected)?;
        for line in lines {
            let good = line.matches("{version}").count() == 1;
            check(good, "probe.answer", line, "it holds {version} once")?;
        }
        match self.spellings.fault() {
            Some((pattern, expected)) => check(false, "spellings", pattern.as_str(), expected),
            None => Ok(()),
        }
    }

    fn check_requirement_files(&self) -> Result<(), DefinitionError> {
        for requirement in &self.requirement_files {
            check(
                requirement.is_in_folder(),
                "requirement-files.file",
                &requirement.file,
                "a file's name without a folder is expected",
            )?;
            let expected = "it holds {selector} once, and a line may hold {any}";
            let templates = [(&requirement.line, &[ANY][..]), (&requirement.means, &[])];
            for (template, others) in templates {
                let Some(template) = template else {
                    continue;
                };
                let good = template.has_places("selector", others);
                check(good, "requirement-files.line", template.as_str(), expected)?;
            }
        }
        Ok(())
    }

    fn check_lines(&self) -> Result<(), DefinitionError> {
        for life in &self.lines {
            let numbers = life.line.split('.').all(|part| part.parse::<u64>().is_ok());
            let expected = "the numbers of a line are expected, such as 8 or 1.23";
            check(numbers, "lines.line", &life.line, expected)?;
            let codename = life.codename.as_deref().unwrap_or("none");
            let expected = "letters, digits and what joins words are expected";
            check(is_line_name(codename), "lines.codename", codename, expected)?;
        }
        Ok(())
    }

    fn check_sources(&self) -> Result<(), DefinitionError> {
        for source in &self.sources {
            check(
                lower_name(&source.name),
                "sources.name",
                &source.name,
                "a name has small letters, digits, '_' and '-'",
            )?;
            source.check()?;
        }
        let names = self.sources.iter().map(|source| &*source.name);
        if let Some(twice) = first_twice(names) {
            check(false, "sources.name", twice, "another source has this name")?;
        }
        check(
            !self.sources.is_empty(),
            "sources",
            "[]",
            "at least one source is needed",
        )?;
        let has_builds = |source: &SourceDefinition| source.kind.has_builds();
        check(
            self.sources.iter().any(has_builds),
            "sources.kind",
            "facts",
            "a source with builds is needed beside it",
        )?;
        Ok(())
    }

    /// The runtime that a release needs; `None` if it needs no other one.
    pub fn runs_on(&self, release: &Version) -> Option<&RunsOn> {
        let release = release.to_final();
        let covers = |one: &&RunsOn| {
            one.releases
                .as_ref()
                .is_none_or(|range| range.contains(&release))
        };
        self.runs_on.iter().find(covers)
    }

    /// The source with this name.
    pub fn source(&self, name: &str) -> Option<&SourceDefinition> {
        self.sources.iter().find(|source| source.name == name)
    }

    /// A definition as JSON, which is known to be a good one.
    pub fn of_json(text: &str) -> Result<Definition, serde_json::Error> {
        serde_json::from_str(text)
    }

    /// Fails at a publisher that cannot be one.
    fn check_publishers(&self) -> Result<(), DefinitionError> {
        const NAME: &str =
            "a name has small letters, digits, '_' and '-', and no digit follows a '-'";
        let good = |id: &str| lower_name(id) && is_publisher(id);
        let ids = || self.publishers.iter().map(|entry| &*entry.id);
        if let Some(twice) = first_twice(ids()) {
            check(
                false,
                "publishers.id",
                twice,
                "another publisher has this id",
            )?;
        }
        for entry in &self.publishers {
            check(good(&entry.id), "publishers.id", &entry.id, NAME)?;
            if let Some(repacks) = &entry.repacks {
                check(
                    ids().any(|id| id == repacks) && *repacks != entry.id,
                    "publishers.repacks",
                    repacks,
                    "another publisher of the list is expected",
                )?;
            }
        }
        for id in self
            .sources
            .iter()
            .filter_map(|source| source.kind.publisher())
        {
            check(good(id), "sources.publisher", id, NAME)?;
            if !self.publishers.is_empty() && ids().all(|known| known != id) {
                let near = near::words(id, ids()).into_iter().next();
                let known: Vec<&str> = ids().collect();
                let known = near.unwrap_or_else(|| known.join(" or "));
                let expected = format!("one of the publishers is expected, such as {known}");
                check(false, "sources.publisher", id, &expected)?;
            }
        }
        Ok(())
    }

    /// The remark about a publisher's trimmed builds; `None` if its builds are complete.
    pub fn trimmed_by(&self, publisher: &str) -> Option<&str> {
        let mut entries = self.publishers.iter();
        let trimmed = entries.find(|entry| entry.id == publisher && entry.trimmed)?;
        Some(trimmed.remark.as_deref().unwrap_or("a trimmed build"))
    }

    /// Makes this publisher the main one; says whether it can be one. Catalogs of ours name publishers themselves.
    pub fn prefer(&mut self, publisher: &str) -> bool {
        let mut named: Vec<PublisherEntry> = self.publishers.clone();
        let of_sources = (self.sources.iter()).filter_map(|source| source.kind.publisher());
        let has_catalog = self.sources.iter().any(|source| source.kind.is_catalog());
        let of_catalog = (has_catalog && is_publisher(publisher)).then_some(publisher);
        for id in of_sources.chain(of_catalog) {
            if named.iter().all(|entry| entry.id != id) {
                named.push(PublisherEntry {
                    id: id.to_owned(),
                    name: None,
                    repacks: None,
                    remark: None,
                    trimmed: false,
                });
            }
        }
        let Some(place) = named.iter().position(|entry| entry.id == publisher) else {
            return false;
        };
        named[..=place].rotate_right(1);
        self.publishers = named;
        true
    }

    /// The publishers that the definition names, the main one first.
    pub fn named_publishers(&self) -> Vec<Publisher> {
        let entries = self.publishers.iter().map(|entry| Publisher {
            repacks: entry.repacks.clone(),
            remark: entry.remark.clone(),
            ..Publisher::new(&entry.id, entry.name.as_deref().unwrap_or(&entry.id), false)
        });
        let mut named: Vec<Publisher> = entries.collect();
        for id in self
            .sources
            .iter()
            .filter_map(|source| source.kind.publisher())
        {
            if named.iter().all(|publisher| publisher.id != id) {
                named.push(Publisher::new(id, id, false));
            }
        }
        named
    }

    /// What the definition says of all lines at once.
    pub fn line_policy(&self) -> LinePolicy {
        LinePolicy {
            numbers: self.line_numbers,
            supported: self.supported_lines,
        }
    }

    /// The lines whose support life the definition tells.
    pub fn told_lines(&self) -> Vec<Line> {
        let told = self.lines.iter().map(|life| Line {
            codename: life.codename.clone(),
            start: life.start,
            lts: life.lts,
            maintenance: life.maintenance,
            end: life.end,
            ..Line::undated(&life.line)
        });
        told.collect()
    }

    /// The version in what the program answered to its probe, if one of the first lines has the right
    /// form: some programs tell which of their settings count before they answer.
    ///
    /// The version ends at what stands behind it in the definition, or else at a space: programs
    /// often name their build there. One that is spelled differently than the releases is given as they are.
    pub fn version_in(&self, answer: &str) -> Option<String> {
        let forms = self.probe.answer.lines().iter();
        let found = forms
            .into_iter()
            .find_map(|form| text_of_form(form, answer))?;
        let rewritten = self.spellings.rewritten(found);
        Some(rewritten.map_or_else(|| found.to_owned(), |version| version.to_string()))
    }
}

/// The text in the place of `{version}` in one of the first lines of `answer`.
fn text_of_form<'t>(form: &str, answer: &'t str) -> Option<&'t str> {
    const FIRST_LINES: usize = 4;
    let (before, behind) = form.split_once("{version}")?;
    answer.lines().take(FIRST_LINES).find_map(|line| {
        let rest = line.trim().strip_prefix(before)?;
        if behind.is_empty() {
            rest.split_whitespace().next()
        } else {
            Some(rest.split_once(behind)?.0)
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const MARRAM: &str = r#"
        name = "marram"
        title = "Marram"
        program = "marram"
        home-variable = "MARRAM_HOME"
        probe = { arguments = ["--version"], answer = "marram {version}" }
        requirement-files = [{ file = ".marram-version" }]

        [[sources]]
        name = "saltmarsh"
        kind = "catalog"
        address = "catalog.json"
    "#;

    #[test]
    fn reads_a_definition_and_fills_in_what_is_usual() {
        let definition = Definition::read(MARRAM).unwrap();
        assert_eq!(definition.folders, ["bin"]);
        assert_eq!(definition.sources[0].layout, ArchiveLayout::default());
        let told = |answer: &str| definition.version_in(answer);
        for answer in [
            "marram 8.3.1\nmore",
            "marram 8.3.1 (linux, release)",
            "read settings from MARRAM_OPTIONS\nmarram 8.3.1\n",
        ] {
            assert_eq!(told(answer).as_deref(), Some("8.3.1"));
        }
        assert_eq!(told("tussock 8.3.1"), None);
    }

    #[rstest]
    #[case("sedge version 2.8.0_41", Some("8.0.41"))]
    #[case("dune sedge 9.1.2 (long)", Some("9.1.2"))]
    #[case("gull sedge 9.1.2", None)]
    fn builds_can_answer_differently_and_spell_versions_in_their_own_way(
        #[case] answer: &str,
        #[case] expected: Option<&str>,
    ) {
        let text = MARRAM.replace(
            r#"answer = "marram {version}" }"#,
            r#"answer = ["sedge version {version}", "dune sedge {version} ("] }
               spellings = [{ spelled = "2.{line}.0_{update}", means = "{line}.0.{update}" }]"#,
        );
        let definition = Definition::read(&text).unwrap();
        assert_eq!(definition.version_in(answer).as_deref(), expected);
    }

    #[rstest]
    #[case("name = \"marram\"", "name = \"../marram\"", "name is")]
    #[case("program = \"marram\"", "program = \"/bin/sh\"", "program is")]
    #[case("\"MARRAM_HOME\"", "\"PATH\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"IFS\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"LD_PRELOAD\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"BASH_ENV\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"VSHELF_DATA\"", "home-variable is")]
    #[case("\"MARRAM_HOME\"", "\"A;B\"", "home-variable is")]
    #[case("\".marram-version\"", "\"../pin\"", "requirement-files.file is")]
    #[case("{version}", "nothing", "probe.answer is")]
    #[case(
        "kind = \"catalog\"",
        "kind = \"carrier-pigeon\"",
        "unknown variant `carrier-pigeon`"
    )]
    #[case("\"saltmarsh\"", "\"../saltmarsh\"", "sources.name is")]
    #[case("title =", "titel =", "unknown field `titel`")]
    #[case("address =", "adress =", "unknown field `adress`")]
    fn refuses_values_that_would_break_out(
        #[case] good: &str,
        #[case] bad: &str,
        #[case] message: &str,
    ) {
        let error = Definition::read(&MARRAM.replacen(good, bad, 1))
            .unwrap_err()
            .to_string();
        assert!(error.contains(message), "{error}");
    }

    /// A definition of lines with two numbers from two publishers.
    const ORACHE: &str = r#"
        name = "orache"
        title = "Orache"
        program = "orache"
        line-numbers = 2
        probe = { arguments = ["-version"], answer = 'orache version "{version}"' }
        requirement-files = [{ file = "tide.mod", line = "orache {selector}" }]
        lines = [{ line = "2.6", start = 2026-01-10, end = "2027-01-09" }]
        publishers = [
          { id = "saltmarsh", name = "Saltmarsh Foundation" },
          { id = "dunefield", repacks = "saltmarsh", remark = "a trimmed runtime" },
        ]

        [[sources]]
        name = "dunefield"
        kind = "wheels"
        publisher = "dunefield"
        package = "orache-bin"
        repack = true
        versions = ["{3}.{repack}", "{version}"]
        only = ">=2"
        folder = "orache_bin/runtime"
        leave-out = ["__init__.py", "*.dist-info"]
        links = { "bin/reed" = "lib/reed/reed" }

        [[sources.companions]]
        package = "reed"
        versions = [{ releases = "2.6", ship = "3.1" }]
        folder = "lib/reed"
        programs = { "bin/reed" = "reed" }
    "#;

    #[test]
    fn publishers_lines_and_spellings_are_read() {
        let definition = Definition::read(ORACHE).unwrap();
        let named = definition.named_publishers();
        let told: Vec<_> = named
            .iter()
            .map(|p| (&*p.id, &*p.name, p.repacks.as_deref()))
            .collect();
        assert_eq!(
            told,
            [
                ("saltmarsh", "Saltmarsh Foundation", None),
                ("dunefield", "dunefield", Some("saltmarsh"))
            ]
        );
        let line = &definition.told_lines()[0];
        assert_eq!(
            (&*line.name, line.numbers.as_slice()),
            ("2.6", [2, 6].as_slice())
        );
        assert_eq!(
            (line.start, line.end),
            ("2026-01-10".parse().ok(), "2027-01-09".parse().ok())
        );
        let source = &definition.sources[0];
        assert_eq!(source.versions.read("2.6.3.2").unwrap().repack, 2);
        assert!(source.takes(&"2.6.0-rc.1".parse().unwrap()));
        assert!(!source.takes(&"0.0.0".parse().unwrap()));
        let finals_only = ORACHE.replace("only =", "pre-releases = false\n        only =");
        let source = &Definition::read(&finals_only).unwrap().sources[0];
        assert!(!source.takes(&"2.6.0-rc.1".parse().unwrap()));
        assert!(source.takes(&"2.6.0".parse().unwrap()));
        let companion = &source.companions[0];
        let shipped = |release: &str| companion.shipped_with(&release.parse().unwrap());
        assert_eq!(
            shipped("2.6.0-rc.1").map(|range| range.as_str()),
            Some("3.1")
        );
        assert_eq!(shipped("2.7.0"), None);
    }

    #[rstest]
    #[case(
        "id = \"dunefield\"",
        "id = \"saltmarsh\"",
        "saltmarsh\", name",
        "another publisher has this id"
    )]
    #[case(
        "publisher = \"dunefield\"",
        "publisher = \"dunefeld\"",
        "dunefeld\"\n        package",
        "one of the publishers is expected, such as dunefield"
    )]
    #[case(
        "repacks = \"saltmarsh\"",
        "repacks = \"gulls\"",
        "gulls\", remark",
        "another publisher of the list is expected"
    )]
    #[case(
        "\"{version}\"]",
        "\"{3}.{repack}\"]",
        "{3}.{repack}\", \"{3}",
        "one in front of it fits all that it fits"
    )]
    #[case(
        "versions = [{ releases = \"2.6\", ship = \"3.1\" }]",
        "",
        "reed\"",
        "a table of versions or an engine has to say which version is added"
    )]
    #[case(
        "links = { \"bin/reed\"",
        "links = { \"../reed\"",
        "../reed\" =",
        "a path inside the install is expected"
    )]
    #[case(
        "folder = \"orache_bin/runtime\"",
        "folder = \"x\"\nstrip-folders = 1",
        "x\"\nstrip",
        "no strip-folders beside it"
    )]
    #[case(
        "line = \"orache {selector}\"",
        "line = \"orache\"",
        "orache\" }]",
        "it holds {selector} once, and a line may hold {any}"
    )]
    #[case(
        "line = \"2.6\"",
        "line = \"2.x\"",
        "2.x\", start",
        "the numbers of a line are expected"
    )]
    #[case(
        "line-numbers = 2",
        "line-numbers = 0",
        "0\n        probe",
        "a number from 1 to 9 is expected"
    )]
    #[case("only =", "onyl =", "onyl =", "unknown field `onyl`")]
    #[case("2026-01-10", "2026-13-10", "2026-13-10", "")]
    #[case(
        "\"2027-01-09\"",
        "\"soon\"",
        "soon",
        "soon is not a day; one looks like 2026-10-14"
    )]
    fn an_error_says_where_it_is(
        #[case] good: &str,
        #[case] bad: &str,
        #[case] at: &str,
        #[case] message: &str,
    ) {
        let text = ORACHE.replacen(good, bad, 1);
        let error = Definition::read(&text).unwrap_err();
        assert!(error.to_string().contains(message), "{error}");
        let place = error.place_in(&text).unwrap();
        let found = text[place..].trim_start_matches(['"', '\'']);
        assert!(found.starts_with(at), "{error} at {found:.60}");
    }
}
