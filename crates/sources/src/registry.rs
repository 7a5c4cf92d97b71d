//! Where the user's package registries are: from the environment, the settings files and, last, the
//! package client's own answer. No registry's address is written in this program.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// What of a user's environment says where registries are.
#[derive(Clone, Debug, Default)]
pub struct UserSettings {
    /// Environment variables.
    pub variables: BTreeMap<String, String>,
    /// The home folder.
    pub home: PathBuf,
}

/// Why the address of a registry is not known.
#[derive(Debug, thiserror::Error)]
pub enum RegistryError {
    /// Nothing says it.
    #[error("no registry for npm packages is configured here")]
    NpmNotConfigured,
    /// Something says it, and it is not a URL.
    #[error("{place} says that the registry is {value:?}, which is not a URL")]
    NotAUrl {
        /// Where it is said.
        place: String,
        /// What is said.
        value: String,
    },
}

impl UserSettings {
    /// The settings of the user who runs this program.
    pub fn of_this_user() -> UserSettings {
        UserSettings {
            variables: std::env::vars_os()
                .filter_map(|(name, value)| {
                    Some((name.into_string().ok()?, value.into_string().ok()?))
                })
                .collect(),
            home: std::env::home_dir().unwrap_or_default(),
        }
    }

    /// The registry that serves `package` to this user's npm-protocol clients, with a `/` behind.
    ///
    /// A project's own `.npmrc` is left out: entering a folder must not change where programs come
    /// from.
    pub fn npm_registry(&self, package: &str) -> Result<String, RegistryError> {
        let scope = package
            .split_once('/')
            .map(|(scope, _)| format!("{scope}:registry"));
        let (place, value) = self
            .npm_variable()
            .or_else(|| self.npm_file(scope.as_deref()))
            .or_else(|| self.npm_answer())
            .ok_or(RegistryError::NpmNotConfigured)?;
        if !value.starts_with("http://") && !value.starts_with("https://") {
            return Err(RegistryError::NotAUrl { place, value });
        }
        Ok(format!("{}/", value.trim_end_matches('/')))
    }

    /// `npm_config_registry`, in any case of letters as the client takes it.
    fn npm_variable(&self) -> Option<(String, String)> {
        self.variables
            .iter()
            .find(|(name, value)| {
                name.eq_ignore_ascii_case("npm_config_registry") && !value.is_empty()
            })
            .map(|(name, value)| (name.clone(), value.clone()))
    }

    fn npm_file(&self, scope: Option<&str>) -> Option<(String, String)> {
        let file = self
            .variables
            .get("npm_config_userconfig")
            .map_or_else(|| self.home.join(".npmrc"), PathBuf::from);
        let text = fs::read_to_string(&file).ok()?;
        let place = file.display().to_string();
        let setting = |wanted: &str| {
            text.lines()
                .filter_map(|line| line.split_once('='))
                .find(|(key, _)| key.trim() == wanted)
                .map(|(_, value)| (place.clone(), self.expand(value.trim().trim_matches('"'))))
        };
        scope.and_then(setting).or_else(|| setting("registry"))
    }

    /// `${NAME}` in a settings file stands for that variable.
    fn expand(&self, value: &str) -> String {
        let mut expanded = String::new();
        let mut rest = value;
        while let Some((before, behind)) = rest.split_once("${")
            && let Some((name, after)) = behind.split_once('}')
        {
            expanded.push_str(before);
            expanded.push_str(self.variables.get(name).map_or("", String::as_str));
            rest = after;
        }
        expanded + rest
    }

    /// What the client itself says; it is asked from the home folder, outside of any project.
    fn npm_answer(&self) -> Option<(String, String)> {
        let path = self.variables.get("PATH")?;
        let client = std::env::split_paths(path)
            .map(|folder| folder.join("npm"))
            .find(|candidate| is_program(candidate))?;
        let output = Command::new(client)
            .args(["config", "get", "registry"])
            .current_dir(&self.home)
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .output()
            .ok()?;
        let answer = String::from_utf8(output.stdout).ok()?.trim().to_owned();
        (output.status.success() && !answer.is_empty() && answer != "undefined")
            .then(|| ("the package client".to_owned(), answer))
    }
}

fn is_program(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|found| found.is_file())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn settings(variables: &[(&str, &str)], npmrc: &str) -> (tempfile::TempDir, UserSettings) {
        let home = tempfile::tempdir().unwrap();
        fs::write(home.path().join(".npmrc"), npmrc).unwrap();
        let settings = UserSettings {
            variables: variables
                .iter()
                .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
                .collect(),
            home: home.path().to_owned(),
        };
        (home, settings)
    }

    #[rstest]
    #[case(&[("NPM_CONFIG_REGISTRY", "http://gull.example")], "registry=http://dune.example", "http://gull.example/")]
    #[case(&[], "registry = http://dune.example/npm/", "http://dune.example/npm/")]
    #[case(&[], "@tide:registry=http://tide.example\nregistry=http://dune.example", "http://tide.example/")]
    #[case(&[("HOST", "gull.example")], "registry=http://${HOST}/npm", "http://gull.example/npm/")]
    fn the_strongest_setting_holds(
        #[case] variables: &[(&str, &str)],
        #[case] npmrc: &str,
        #[case] expected: &str,
    ) {
        let (_home, settings) = settings(variables, npmrc);
        assert_eq!(settings.npm_registry("@tide/board").unwrap(), expected);
    }

    #[test]
    fn without_any_setting_the_error_says_so() {
        let (_home, nothing) = settings(&[], "");
        let error = nothing.npm_registry("marram").unwrap_err();
        assert_eq!(
            error.to_string(),
            "no registry for npm packages is configured here"
        );
        let (_home, odd) = settings(&[("npm_config_registry", "ftp://gull.example")], "");
        assert_eq!(
            odd.npm_registry("marram").unwrap_err().to_string(),
            "npm_config_registry says that the registry is \"ftp://gull.example\", which is not a URL"
        );
    }
}
