//! Packages that a person installed into an install: how a runtime's own tool lists and installs
//! them, and which of them have to be carried to another install.

use std::collections::BTreeMap;

use serde::Deserialize;

/// How packages are listed and installed: the runtime's own package tool.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackageTool {
    /// Its program, without a folder.
    pub program: String,
    /// The arguments that have it list packages.
    pub list: Vec<String>,
    /// The form of that list.
    pub listed: ListForm,
    /// The arguments that have it install, with `{package}` where `name@version` stands.
    pub install: Vec<String>,
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

/// The form of a list of packages.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ListForm {
    /// A line for each: its name, a space, its version.
    Lines,
    /// A JSON object whose `dependencies` have the packages by name, each with its `version`, and
    /// in `resolved` where it came from: what tools that speak the npm protocol print.
    Dependencies,
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
    /// As the tool is told it: `name@version`.
    pub fn spelled(&self) -> String {
        match &self.version {
            Some(version) => format!("{}@{version}", self.name),
            None => self.name.clone(),
        }
    }
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

impl PackageTool {
    /// The packages in what the tool listed, in order of their names, without those that come with
    /// the builds.
    pub fn read(&self, listed: &str) -> Result<Vec<Package>, BadList> {
        let mut packages = match self.listed {
            ListForm::Lines => read_lines(listed),
            ListForm::Dependencies => read_dependencies(listed)?,
        };
        packages.retain(|package| !self.bundled.contains(&package.name));
        packages.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(packages)
    }

    /// The arguments that install these packages, each as [`Package::spelled`] has it.
    pub fn install_arguments(&self, spelled: &[String]) -> Vec<String> {
        (self.install.iter())
            .flat_map(|argument| match argument.as_str() {
                "{package}" => spelled.to_vec(),
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
    use super::*;

    fn tool(listed: ListForm) -> PackageTool {
        PackageTool {
            program: "tussock".into(),
            list: vec!["list".into()],
            listed,
            install: vec!["add".into(), "{package}".into(), "--quietly".into()],
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
    fn arguments_have_the_packages_in_their_place() {
        let packages = [
            package("kelp", Some("1.0.0"), None),
            package("buoy", None, None),
        ];
        let spelled = packages.map(|package| package.spelled());
        let arguments = tool(ListForm::Lines).install_arguments(&spelled);
        assert_eq!(arguments, ["add", "kelp@1.0.0", "buoy", "--quietly"]);
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
