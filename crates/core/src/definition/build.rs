//! How a runtime is built from the source archives of its releases.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::check::{DefinitionError, check};
use super::words::{is_file_inside, is_plain_file_name, is_variable};
use crate::catalog::Digest;
use crate::distribution::Distribution;
use crate::range::Range;
use crate::template::Template;
use crate::version::Version;

/// How a runtime is built from source.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct BuildSection {
    /// Whether what is built can be moved.
    #[serde(default)]
    pub prefix: PrefixKind,
    /// The programs that the steps start, and that have to be there.
    #[serde(default)]
    pub tools: Vec<String>,
    /// Variables that the steps have, beside a few that every step has.
    #[serde(default)]
    pub environment: BTreeMap<String, Template>,
    /// What it is built with.
    #[serde(default)]
    pub libraries: Vec<Library>,
    /// Changes of the source that are published apart from it, in the order in which they are made.
    #[serde(default)]
    pub patches: Vec<Patch>,
    /// What is replaced in files of the source before the first step.
    #[serde(default)]
    pub replace: Vec<Replacement>,
    /// The steps in order; the last one installs below `{stage}`.
    pub steps: Vec<BuildStep>,
    /// What has to work afterwards.
    #[serde(default)]
    pub checks: Vec<BuildCheck>,
    /// Lines of the log that tell that something was left out.
    #[serde(default)]
    pub left_out: Vec<LeftOut>,
    /// How many minutes it takes on a usual machine, where that is known.
    pub minutes: Option<u32>,
    /// How many megabytes it needs while it is built, where that is known.
    pub megabytes: Option<u64>,
}

/// Whether what is built can be moved.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PrefixKind {
    /// It works in its place on the shelf only.
    #[default]
    Final,
    /// It works wherever it is.
    Relocatable,
}

/// A library that a runtime is built with.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Library {
    /// Its name.
    pub name: String,
    /// What of the runtime needs it.
    #[serde(rename = "for")]
    pub needed_for: String,
    /// Whether nothing is built without it.
    #[serde(default)]
    pub required: bool,
    /// How it is found.
    pub find: Find,
    /// The package that brings it, by family of systems: `debian`, `fedora`, `alpine`, `arch`, `suse`, `macos`.
    #[serde(default)]
    pub packages: BTreeMap<String, String>,
}

/// How a library is found: by either of these.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Find {
    /// Its name for pkg-config.
    pub pkg_config: Option<String>,
    /// A header that the C compiler finds.
    pub header: Option<String>,
}

/// A change of the source that is published apart from it, in the form that `diff -u` writes (POSIX.1-2024,
/// diff), whose paths have one folder in front.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Patch {
    /// Where it is: a URL or a path.
    pub address: String,
    /// What its bytes add up to, such as `sha256:…`.
    #[cfg_attr(feature = "schemas", schemars(with = "String"))]
    pub digest: Digest,
    /// The releases that need it; all where it says nothing.
    pub releases: Option<Range>,
}

/// A text that is replaced in a file of the source.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Replacement {
    /// The file, relative to the source.
    pub file: String,
    /// The text, which has to be there.
    pub text: String,
    /// What takes its place.
    pub by: Template,
}

/// A kind of system.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum System {
    /// Linux.
    Linux,
    /// macOS.
    Macos,
}

impl System {
    /// The one that this program was built for.
    pub fn here() -> System {
        match cfg!(target_os = "macos") {
            true => System::Macos,
            false => System::Linux,
        }
    }
}

/// One step of a build.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct BuildStep {
    /// What it is called.
    pub name: String,
    /// The program (one of the tools, or `./…` of the source) and its arguments.
    pub run: Vec<Template>,
    /// The only system that it is for, where others have another step in its place.
    pub on: Option<System>,
}

/// What has to work after a build.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct BuildCheck {
    /// The program, below `{install}`, and its arguments.
    pub run: Vec<Template>,
    /// What it shows: `openssl and zlib work`.
    pub says: String,
}

/// A line of the log that tells that something was left out.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LeftOut {
    /// A text that the line holds.
    pub line: String,
    /// What is left out then.
    pub what: String,
}

/// What stands for something in the texts of a build.
const PLACES: [&str; 5] = ["prefix", "stage", "install", "jobs", "source"];
const KNOWN: &str = "{prefix}, {stage}, {install}, {source} and {jobs} can stand in it";

impl BuildSection {
    /// Fails at a value that cannot be used.
    pub(super) fn check(&self) -> Result<(), DefinitionError> {
        let known = |template: &Template| template.places().all(|place| PLACES.contains(&place));
        for tool in &self.tools {
            let expected = "a program's name without a folder is expected";
            check(is_plain_file_name(tool), "build.tools", tool, expected)?;
        }
        for (name, value) in &self.environment {
            let expected = "a variable's name in capital letters is expected";
            check(is_variable(name), "build.environment", name, expected)?;
            check(known(value), "build.environment", value.as_str(), KNOWN)?;
        }
        for library in &self.libraries {
            let found = library.find.pkg_config.is_some() || library.find.header.is_some();
            let expected = "pkg-config or a header has to say how it is found";
            check(found, "build.libraries.name", &library.name, expected)?;
            for family in library.packages.keys() {
                let good = Distribution::NAMES.contains(&family.as_str());
                let expected = format!("one of {} is expected", Distribution::NAMES.join(", "));
                check(good, "build.libraries.packages", family, &expected)?;
            }
        }
        for replacement in &self.replace {
            let expected = "a path inside the source is expected";
            let file = &replacement.file;
            check(is_file_inside(file), "build.replace.file", file, expected)?;
            check(
                known(&replacement.by),
                "build.replace.by",
                replacement.by.as_str(),
                KNOWN,
            )?;
        }
        self.check_steps()
    }

    fn check_steps(&self) -> Result<(), DefinitionError> {
        let known = |template: &Template| template.places().all(|place| PLACES.contains(&place));
        for system in [System::Linux, System::Macos] {
            let expected = "at least one step is needed on every system";
            let good = self.steps_on(system).next().is_some();
            check(good, "build.steps", "[]", expected)?;
        }
        for step in &self.steps {
            for argument in &step.run {
                check(known(argument), "build.steps.run", argument.as_str(), KNOWN)?;
            }
            let program = step.run.first().map_or("", Template::as_str);
            let own = program.strip_prefix("./").is_some_and(is_file_inside);
            let good = own || self.tools.iter().any(|tool| tool == program);
            let expected = "one of the tools, or ./ and a program of the source, is expected";
            check(good, "build.steps.run", program, expected)?;
        }
        for one in &self.checks {
            let program = one.run.first().map_or("", Template::as_str);
            let inside = program
                .strip_prefix("{install}/")
                .is_some_and(is_file_inside);
            let expected = "a program below {install} is expected";
            check(inside, "build.checks.run", program, expected)?;
            // They run again whenever the install is checked, and the rest of the build is gone then.
            for argument in &one.run {
                check(
                    argument.places().all(|place| place == "install"),
                    "build.checks.run",
                    argument.as_str(),
                    "{install} alone can stand in it",
                )?;
            }
        }
        Ok(())
    }

    /// The steps on one kind of system, in order.
    pub fn steps_on(&self, system: System) -> impl Iterator<Item = &BuildStep> {
        let is_for = move |step: &&BuildStep| step.on.is_none_or(|on| on == system);
        self.steps.iter().filter(is_for)
    }

    /// The patches that a release needs.
    pub fn patches_of(&self, release: &Version) -> impl Iterator<Item = &Patch> {
        let release = release.to_final();
        let needs = move |patch: &&Patch| {
            (patch.releases.as_ref()).is_none_or(|releases| releases.contains(&release))
        };
        self.patches.iter().filter(needs)
    }

    /// The digests of the patches that a release needs.
    pub fn patch_digests(&self, release: &Version) -> Vec<String> {
        let patches = self.patches_of(release);
        patches.map(|patch| patch.digest.to_string()).collect()
    }

    /// What is left out, as the lines of a log tell, each once and in order.
    pub fn left_out_in(&self, log: &str) -> Vec<&str> {
        let mut found: Vec<&str> = Vec::new();
        for line in log.lines() {
            for known in &self.left_out {
                if line.contains(&known.line) && !found.contains(&known.what.as_str()) {
                    found.push(&known.what);
                }
            }
        }
        found
    }
}

/// What a failed build's log says first, with the lines around it, and where the cause is a known one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogFailure {
    /// The first error and the lines around it.
    pub around: Vec<String>,
    /// The last lines.
    pub last: Vec<String>,
    /// The cause, where it is a known one.
    pub cause: Option<KnownCause>,
}

/// A cause that logs tell of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KnownCause {
    /// A header that the compiler does not find.
    MissingHeader(String),
    /// A program that is not there.
    MissingProgram(String),
    /// There was not enough memory.
    OutOfMemory,
    /// There was no space left.
    NoSpace,
}

/// How many lines stand on both sides of the first error.
const AROUND: usize = 5;

/// How many lines at the end of a log are shown.
const LAST: usize = 5;

impl LogFailure {
    /// Reads a log.
    pub fn read(log: &str) -> LogFailure {
        let lines: Vec<&str> = log.lines().collect();
        let is_error = |line: &str| {
            let line = line.to_lowercase();
            line.contains("error:")
                || line.contains("error -")
                || line.contains("not found")
                || line.contains("no such file")
                || line.contains("cannot find")
        };
        let owned = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
        let around = lines
            .iter()
            .position(|line| is_error(line))
            .map(|at| owned(&lines[at.saturating_sub(AROUND)..(at + AROUND + 1).min(lines.len())]));
        LogFailure {
            around: around.unwrap_or_default(),
            last: owned(&lines[lines.len().saturating_sub(LAST)..]),
            cause: lines.iter().find_map(|line| cause_in(line)),
        }
    }
}

fn cause_in(line: &str) -> Option<KnownCause> {
    let before = |end: &str| {
        line.strip_suffix(end)?
            .rsplit([' ', ':'])
            .find(|word| !word.is_empty())
    };
    if line.contains("fatal error:")
        && let Some(header) = before(": No such file or directory")
    {
        return Some(KnownCause::MissingHeader(header.to_owned()));
    }
    if line.contains("No space left on device") {
        return Some(KnownCause::NoSpace);
    }
    if line.contains("virtual memory exhausted")
        || line.contains("Cannot allocate memory")
        || line.contains("Killed signal terminated program")
    {
        return Some(KnownCause::OutOfMemory);
    }
    let program = before(": command not found").or_else(|| before(": not found"))?;
    Some(KnownCause::MissingProgram(program.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const BUILD: &str = r#"
        tools = ["cc", "make"]
        environment = { CFLAGS = "-O2" }
        replace = [{ file = "src/conf.h", text = "/usr/local", by = "{prefix}" }]
        checks = [{ run = ["{install}/bin/orache", "-version"], says = "it starts" }]
        left-out = [{ line = "checking for kelp... no", what = "kelp" }]
        steps = [
          { name = "configure", run = ["./configure", "--prefix={prefix}"] },
          { name = "build", run = ["make", "-j{jobs}"] },
          { name = "install", run = ["make", "install", "DESTDIR={stage}"] },
        ]
        [[libraries]]
        name = "kelp"
        for = "packages"
        find = { header = "kelp.h" }
        packages = { debian = "kelp-dev" }
    "#;

    fn checked(text: &str) -> Result<BuildSection, String> {
        let section: BuildSection = toml::from_str(text).map_err(|e| e.to_string())?;
        section.check().map_err(|error| error.to_string())?;
        Ok(section)
    }

    #[test]
    fn a_step_can_be_for_one_system() {
        let text = BUILD.replacen("name = \"build\",", "name = \"build\", on = \"macos\",", 1);
        let section = checked(&text).unwrap();
        let names = |system| {
            let steps = section.steps_on(system).map(|step| step.name.as_str());
            steps.collect::<Vec<_>>()
        };
        assert_eq!(names(System::Linux), ["configure", "install"]);
        assert_eq!(names(System::Macos), ["configure", "build", "install"]);
    }

    #[test]
    fn a_build_is_read_and_its_log_tells_what_was_left_out() {
        let section = checked(BUILD).unwrap();
        assert_eq!(section.prefix, PrefixKind::Final);
        let log = "checking for cc... yes\nchecking for kelp... no\nchecking for kelp... no\n";
        assert_eq!(section.left_out_in(log), ["kelp"]);
    }

    #[rstest]
    #[case("\"./configure\"", "\"/bin/sh\"", "one of the tools, or ./")]
    #[case("\"./configure\"", "\"./../x\"", "one of the tools, or ./")]
    #[case("[\"make\", \"-j{jobs}\"]", "[\"ninja\"]", "one of the tools, or ./")]
    #[case("{jobs}", "{cores}", "can stand in it")]
    #[case("{install}/bin", "/usr/bin", "a program below {install} is expected")]
    #[case("src/conf.h", "../conf.h", "a path inside the source is expected")]
    #[case("header = \"kelp.h\"", "", "pkg-config or a header has to say")]
    #[case("debian =", "devuan =", "one of debian, fedora")]
    #[case("CFLAGS", "cflags", "a variable's name in capital letters")]
    fn what_would_break_out_is_refused(#[case] good: &str, #[case] bad: &str, #[case] told: &str) {
        let error = checked(&BUILD.replacen(good, bad, 1)).unwrap_err();
        assert!(error.contains(told), "{error}");
    }

    #[rstest]
    #[case("a.c:3:10: fatal error: kelp/kelp.h: No such file or directory", Some(KnownCause::MissingHeader("kelp/kelp.h".into())))]
    #[case("/bin/sh: 1: gperf: not found", Some(KnownCause::MissingProgram("gperf".into())))]
    #[case(
        "cc: fatal error: Killed signal terminated program cc1",
        Some(KnownCause::OutOfMemory)
    )]
    #[case("a.c:1: write: No space left on device", Some(KnownCause::NoSpace))]
    #[case("checking for kelp... not found", None)]
    #[case("all is well", None)]
    fn a_log_names_known_causes(#[case] line: &str, #[case] expected: Option<KnownCause>) {
        let log = format!("one\ntwo\n{line}\nfour\n");
        assert_eq!(LogFailure::read(&log).cause, expected);
    }

    #[test]
    fn the_first_error_is_shown_with_the_lines_around_it() {
        let mut log: String = (1..=20).map(|n| format!("line {n}\n")).collect();
        log += "bell.c:3: error: no bell\n";
        log += &(21..=40).map(|n| format!("line {n}\n")).collect::<String>();
        let failure = LogFailure::read(&log);
        assert_eq!(failure.around.len(), 11);
        assert_eq!(failure.around[5], "bell.c:3: error: no bell");
        assert_eq!(failure.last.last().unwrap(), "line 40");
    }
}
