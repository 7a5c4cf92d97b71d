//! Packages that a person installed into an install: how a runtime's own tool lists and installs
//! them, and which of them have to be carried to another install.

use std::collections::BTreeMap;

use serde::Deserialize;
use serde_json::Value;

use crate::definition::check::{DefinitionError, check};
use crate::definition::words::{is_inside, is_plain_file_name};
use crate::template::Template;
use crate::version::Version;

/// How packages are listed and installed: the runtime's own package tool.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackageTool {
    /// Its program, without a folder.
    pub program: String,
    /// The arguments that have it list packages.
    pub list: Vec<String>,
    /// The form of that list.
    pub listed: ListForm,
    /// The files or folders of an install that show a package, with `{name}`, `{version}`, `{scope}` and
    /// `{any}` in their names. Where they are given, packages are read from there, and the tool is not
    /// started. A JSON file tells the version that its name does not.
    #[serde(default)]
    pub found: Vec<Template>,
    /// The arguments that have it install, with `{package}` where a package stands.
    pub install: Vec<String>,
    /// How it is told a package in one version, with `{name}` and `{version}` in their places;
    /// `{name}@{version}` where this says nothing.
    pub exact: Option<Template>,
    /// Whether it takes several packages in the place of `{package}`.
    #[serde(default)]
    pub several: bool,
    /// Packages that come with the builds, and are not carried.
    #[serde(default)]
    pub bundled: Vec<String>,
    /// Variables that it needs, with `{install}` where the install's folder stands.
    #[serde(default)]
    pub environment: BTreeMap<String, String>,
}

/// The form of a list of packages: `lines`, `dependencies`, or a line with `{name}` and `{version}`.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(
    feature = "schemas",
    derive(schemars::JsonSchema),
    schemars(with = "String")
)]
#[serde(try_from = "String")]
pub enum ListForm {
    /// A line for each: its name, a space, its version.
    Lines,
    /// A JSON object whose `dependencies` have the packages by name, each with its `version`, and
    /// in `resolved` where it came from: what tools that speak the npm protocol print.
    Dependencies,
    /// A line of this form for each; others say nothing.
    Pattern(Template),
}

impl TryFrom<String> for ListForm {
    type Error = crate::template::TemplateError;

    fn try_from(text: String) -> Result<ListForm, Self::Error> {
        Ok(match text.as_str() {
            "lines" => ListForm::Lines,
            "dependencies" => ListForm::Dependencies,
            _ => ListForm::Pattern(text.parse()?),
        })
    }
}

/// A package in an install.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct Package {
    /// Its name.
    pub name: String,
    /// Its version, where it has one.
    pub version: Option<String>,
    /// The folder or address that it came from, where it is from no registry.
    pub elsewhere: Option<String>,
}

impl Package {
    /// The package that is spelled so: a name, or `name@version`.
    pub fn named(spelled: &str) -> Package {
        // What begins with the sign has a scope.
        let at = spelled
            .get(1..)
            .and_then(|rest| rest.rfind('@'))
            .map(|at| at + 1);
        Package {
            name: spelled[..at.unwrap_or(spelled.len())].to_owned(),
            version: at.map(|at| spelled[at + 1..].to_owned()),
            elsewhere: None,
        }
    }

    /// The packages that are spelled so.
    pub fn all_named(spelled: &[String]) -> Vec<Package> {
        spelled.iter().map(|one| Package::named(one)).collect()
    }

    /// Whether its name and version can only be a name and a version: nothing that a package tool takes for
    /// an option, an address or a path.
    pub fn is_plain(&self) -> bool {
        let (scope, name) = match self.name.strip_prefix('@') {
            Some(scoped) => match scoped.split_once('/') {
                Some((scope, name)) => (Some(scope), name),
                None => return false,
            },
            None => (None, self.name.as_str()),
        };
        let is_word = |text: &str| {
            text.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_')
                && text
                    .chars()
                    .all(|c| c.is_ascii_alphanumeric() || "-._~".contains(c))
        };
        is_word(name)
            && scope.is_none_or(is_word)
            && self.version.as_deref().is_none_or(is_exact_version)
    }

    /// As a person spells it: `name@version`.
    pub fn spelled(&self) -> String {
        match &self.version {
            Some(version) => format!("{}@{version}", self.name),
            None => self.name.clone(),
        }
    }
}

/// Whether a text is one version of a package, and neither a range nor a tag: `1.4.2`, `v2.0.0-rc.1`,
/// `1!2.0.post1`.
fn is_exact_version(text: &str) -> bool {
    let numbers = text.strip_prefix('v').unwrap_or(text);
    numbers.starts_with(|c: char| c.is_ascii_digit())
        && numbers
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || "-+._!".contains(c))
}

/// A list that is not understood.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("its list of packages is not understood: {0}")]
pub struct BadList(String);

#[derive(Deserialize)]
struct Listed {
    #[serde(default)]
    dependencies: BTreeMap<String, Dependency>,
}

#[derive(Deserialize)]
struct Dependency {
    version: Option<String>,
    resolved: Option<String>,
    #[serde(default)]
    missing: bool,
}

/// What the names on the way to a package told.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FoundName {
    /// The package's name.
    pub name: String,
    /// What stands in front of it, where packages have that.
    pub scope: Option<String>,
    /// Its version.
    pub version: Option<String>,
}

impl FoundName {
    /// Reads the name of one file or folder, which `template` describes; what was told before is kept.
    /// Nothing where the name does not fit.
    pub fn read(&self, template: &Template, name: &str) -> Option<FoundName> {
        let mut found = self.clone();
        for (place, value) in template.places().zip(template.values(name, &allows)?) {
            match place {
                "name" => value.clone_into(&mut found.name),
                "version" => found.version = Some(value.to_owned()),
                "scope" => found.scope = Some(value.to_owned()),
                _ => {}
            }
        }
        Some(found)
    }

    /// The package, with what its manifest says where it has one; a link leads `elsewhere`.
    pub fn package(self, manifest: Option<&[u8]>, elsewhere: Option<String>) -> Package {
        let manifest: Value = manifest
            .and_then(|bytes| serde_json::from_slice(bytes).ok())
            .unwrap_or_default();
        let text = |key: &str| manifest.get(key)?.as_str().map(str::to_owned);
        // Older tools note there where a package came from.
        let noted = text("_resolved").filter(|from| !from.starts_with("http"));
        Package {
            name: match self.scope {
                Some(scope) => format!("@{scope}/{}", self.name),
                None => self.name,
            },
            version: self.version.or_else(|| text("version")),
            elsewhere: elsewhere.or(noted),
        }
    }
}

/// Whether a value can stand in a place of a list or of a file's name.
fn allows(place: &str, value: &str) -> bool {
    match place {
        "version" => value.parse::<Version>().is_ok(),
        // What is hidden, or of a scope, is no package itself.
        "name" | "scope" => !value.starts_with(['.', '@']) && !value.contains(char::is_whitespace),
        _ => true,
    }
}

impl PackageTool {
    /// Fails at a value that cannot be used.
    pub(crate) fn check(&self) -> Result<(), DefinitionError> {
        let expected = "a program's name without a folder is expected";
        let good = is_plain_file_name(&self.program);
        check(good, "packages.program", &self.program, expected)?;
        let places = self.install.iter().filter(|word| *word == "{package}");
        let good = places.count() == 1;
        let arguments = self.install.join(" ");
        check(
            good,
            "packages.install",
            &arguments,
            "one argument is {package}",
        )?;
        if let ListForm::Pattern(form) = &self.listed {
            let good = form.has_places("name", &["version"]);
            let expected = "lines, dependencies, or a line with {name} and {version} is expected";
            check(good, "packages.listed", form.as_str(), expected)?;
        }
        if let Some(form) = &self.exact {
            let good = form.has_places("name", &["version"]) && form.as_str().contains("{version}");
            let expected = "{name} and {version} are expected, once each";
            check(good, "packages.exact", form.as_str(), expected)?;
        }
        for form in &self.found {
            // What counts for nothing may stand in it several times.
            let count = |place: &str| form.places().filter(|other| *other == place).count();
            let known = ["name", "version", "scope", "any"];
            let good = !form.is_ambiguous()
                && count("name") == 1
                && count("version") <= 1
                && count("scope") <= 1
                && form.places().all(|place| known.contains(&place))
                && is_inside(form.as_str());
            let expected = "a path inside the install with {name} once is expected";
            check(good, "packages.found", form.as_str(), expected)?;
        }
        Ok(())
    }

    /// The packages in what the tool listed, in order of their names, without those that come with
    /// the builds.
    pub fn read(&self, listed: &str) -> Result<Vec<Package>, BadList> {
        let mut packages = match &self.listed {
            ListForm::Lines => read_lines(listed),
            ListForm::Dependencies => read_dependencies(listed)?,
            ListForm::Pattern(form) => read_form(listed, form),
        };
        self.order(&mut packages);
        Ok(packages)
    }

    /// Leaves out what comes with the builds, and puts the others in the order of their names.
    pub fn order(&self, packages: &mut Vec<Package>) {
        packages.retain(|package| !self.bundled.contains(&package.name));
        packages.sort_by(|a, b| a.name.cmp(&b.name));
    }

    /// The arguments that install these packages.
    pub fn install_arguments(&self, packages: &[&Package]) -> Vec<String> {
        let spelled = |package: &&Package| match (&self.exact, &package.version) {
            (Some(exact), Some(version)) => exact.filled(|place| match place {
                "name" => package.name.clone(),
                _ => version.clone(),
            }),
            _ => package.spelled(),
        };
        (self.install.iter())
            .flat_map(|argument| match argument.as_str() {
                "{package}" => packages.iter().map(spelled).collect(),
                plain => vec![plain.to_owned()],
            })
            .collect()
    }
}

fn read_lines(listed: &str) -> Vec<Package> {
    let lines = listed.lines().filter_map(|line| {
        let mut words = line.split_whitespace();
        Some(Package {
            name: words.next()?.to_owned(),
            version: words.next().map(str::to_owned),
            elsewhere: None,
        })
    });
    lines.collect()
}

fn read_form(listed: &str, form: &Template) -> Vec<Package> {
    let lines = listed.lines().filter_map(|line| {
        let found = FoundName::default().read(form, line.trim())?;
        Some(found.package(None, None))
    });
    lines.collect()
}

fn read_dependencies(listed: &str) -> Result<Vec<Package>, BadList> {
    let listed: Listed =
        serde_json::from_str(listed).map_err(|error| BadList(error.to_string()))?;
    let there = (listed.dependencies.into_iter()).filter(|(_, found)| !found.missing);
    let packages = there.map(|(name, found)| Package {
        name,
        version: found.version,
        // Only what is at a registry can be fetched from it again.
        elsewhere: (found.resolved).filter(|from| !from.starts_with("http")),
    });
    Ok(packages.collect())
}

/// What has to be done with a package of one install, to have it in another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PackageAction {
    /// It has to be installed there.
    Install,
    /// It is there, in this version.
    AlreadyThere(Option<String>),
    /// It came from elsewhere than a registry, and stays behind.
    FromElsewhere(String),
}

/// What has to be done with each package of `from`, so that an install that has those of `to` has
/// them too.
pub fn plan<'p>(from: &'p [Package], to: &[Package]) -> Vec<(&'p Package, PackageAction)> {
    let action = |package: &Package| {
        if let Some(there) = to.iter().find(|other| other.name == package.name) {
            return PackageAction::AlreadyThere(there.version.clone());
        }
        match &package.elsewhere {
            Some(from) => PackageAction::FromElsewhere(from.clone()),
            None => PackageAction::Install,
        }
    };
    from.iter()
        .map(|package| (package, action(package)))
        .collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn tool(listed: ListForm) -> PackageTool {
        PackageTool {
            program: "tussock".into(),
            list: vec!["list".into()],
            listed,
            found: Vec::new(),
            install: vec!["add".into(), "{package}".into(), "--quietly".into()],
            exact: None,
            several: false,
            bundled: vec!["npm".into()],
            environment: BTreeMap::new(),
        }
    }

    fn package(name: &str, version: Option<&str>, elsewhere: Option<&str>) -> Package {
        Package {
            name: name.into(),
            version: version.map(Into::into),
            elsewhere: elsewhere.map(Into::into),
        }
    }

    #[test]
    fn lists_are_read_in_both_forms() {
        let lines = tool(ListForm::Lines).read("tide-tables 2.1.0\nnpm 3\n\nbuoy\n");
        let expected = [
            package("buoy", None, None),
            package("tide-tables", Some("2.1.0"), None),
        ];
        assert_eq!(lines.unwrap(), expected);
        let json = r#"{ "name": "lib", "dependencies": {
            "npm": { "version": "10.9.0" },
            "tide-tables": { "version": "2.1.0", "overridden": false },
            "buoy": { "version": "0.1.0", "resolved": "file:../../buoy" },
            "kelp": { "version": "1.0.0", "resolved": "https://registry.example/kelp.tgz" },
            "gone": { "missing": true } } }"#;
        let expected = [
            package("buoy", Some("0.1.0"), Some("file:../../buoy")),
            package("kelp", Some("1.0.0"), None),
            package("tide-tables", Some("2.1.0"), None),
        ];
        let read = tool(ListForm::Dependencies);
        assert_eq!(read.read(json).unwrap(), expected);
        assert_eq!(read.read("{}").unwrap(), []);
        let error = read.read("npm error").unwrap_err().to_string();
        assert!(
            error.starts_with("its list of packages is not understood: "),
            "{error}"
        );
    }

    #[test]
    fn lists_of_any_form_are_read() {
        let form = |text: &str| tool(ListForm::try_from(text.to_owned()).unwrap());
        let gems = form("{name} ({version})").read(
            "\n*** LOCAL PACKAGES ***\n\nbell (default: 3.1.3)\nkelp (1.0.0)\nkelp-net (0.3.2)\n",
        );
        let expected = [
            package("kelp", Some("1.0.0"), None),
            package("kelp-net", Some("0.3.2"), None),
        ];
        assert_eq!(gems.unwrap(), expected);
        assert_eq!(form("{name}:{version}").read("npm:3.0").unwrap(), []);
    }

    #[test]
    fn names_in_an_install_tell_its_packages() {
        let template = |text: &str| text.parse::<Template>().unwrap();
        let nothing = FoundName::default();
        let found = nothing.read(
            &template("{name}-{version}.dist-info"),
            "kelp-1.0.0.dist-info",
        );
        let package_of =
            |found: FoundName, manifest: &str| found.package(Some(manifest.as_bytes()), None);
        assert_eq!(
            package_of(found.unwrap(), ""),
            package("kelp", Some("1.0.0"), None)
        );
        let scope = nothing.read(&template("@{scope}"), "@gull-point").unwrap();
        let found = scope.read(&template("{name}"), "kelp").unwrap();
        let noted = r#"{ "version": "1.0.0", "_resolved": "file:../kelp" }"#;
        assert_eq!(
            package_of(found, noted),
            package("@gull-point/kelp", Some("1.0.0"), Some("file:../kelp"))
        );
        assert_eq!(nothing.read(&template("{name}"), ".bin"), None);
        assert_eq!(nothing.read(&template("{name}"), "@gull-point"), None);
    }

    #[rstest]
    #[case("kelp", true)]
    #[case("kelp@1.4.2", true)]
    #[case("@gull/kelp@v2.0.0-rc.1+3", true)]
    #[case("tide_tables@1!2.0.post1", true)]
    #[case("_private", true)]
    #[case("--registry=https://gull.example", false)]
    #[case("-g", false)]
    #[case("git+https://gull.example/kelp", false)]
    #[case("gull/kelp", false)]
    #[case("../kelp", false)]
    #[case("./kelp.tgz", false)]
    #[case("/srv/kelp.tgz", false)]
    #[case("@gull", false)]
    #[case("@gull/", false)]
    #[case("@-gull/kelp", false)]
    #[case("kelp@latest", false)]
    #[case("kelp@^1.4", false)]
    #[case("kelp@https://gull.example/kelp.tgz", false)]
    #[case("kelp@file:../kelp", false)]
    #[case("kelp@", false)]
    #[case("kelp @1.0", false)]
    #[case("kelp\n--global", false)]
    #[case("", false)]
    fn a_plain_package_is_a_name_and_one_version(#[case] spelled: &str, #[case] expected: bool) {
        assert_eq!(Package::named(spelled).is_plain(), expected);
    }

    #[test]
    fn arguments_have_the_packages_in_their_place() {
        let packages = [
            package("kelp", Some("1.0.0"), None),
            package("buoy", None, None),
        ];
        for text in ["kelp", "kelp@1.0.0", "@gull/kelp", "@gull/kelp@^1"] {
            assert_eq!(Package::named(text).spelled(), text);
        }
        assert_eq!(Package::named("@gull/kelp@^1").name, "@gull/kelp");
        let all: Vec<&Package> = packages.iter().collect();
        let mut tool = tool(ListForm::Lines);
        let arguments = tool.install_arguments(&all);
        assert_eq!(arguments, ["add", "kelp@1.0.0", "buoy", "--quietly"]);
        tool.exact = "{name}=={version}".parse().ok();
        let arguments = tool.install_arguments(&all);
        assert_eq!(arguments, ["add", "kelp==1.0.0", "buoy", "--quietly"]);
    }

    #[test]
    fn only_what_is_missing_is_installed() {
        let from = [
            package("buoy", Some("0.1.0"), Some("file:../buoy")),
            package("kelp", Some("1.0.0"), None),
            package("sand", Some("1.0.0"), None),
        ];
        let to = [package("sand", Some("2.0.0"), None)];
        let actions: Vec<PackageAction> = plan(&from, &to)
            .into_iter()
            .map(|(_, action)| action)
            .collect();
        let expected = [
            PackageAction::FromElsewhere("file:../buoy".into()),
            PackageAction::Install,
            PackageAction::AlreadyThere(Some("2.0.0".into())),
        ];
        assert_eq!(actions, expected);
    }
}
