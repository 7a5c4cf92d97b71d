//! Where the user's package registries are: from the environment, the settings files and, last, the
//! package client's own answer. No registry's address is written in this program.

use std::collections::BTreeMap;
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;

use configparser::ini::Ini;
use vshelf_files::optional;

use crate::address::shown;

/// What of a user's environment says where registries are.
#[derive(Clone, Default)]
pub struct UserSettings {
    /// Environment variables.
    pub variables: Arc<BTreeMap<String, String>>,
    /// The home folder.
    pub home: PathBuf,
}

/// Variables may be credentials.
impl fmt::Debug for UserSettings {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the settings of {}", self.home.display())
    }
}

/// Why the address of a registry is not known.
#[derive(Debug, thiserror::Error)]
pub enum RegistryError {
    /// Nothing says it.
    #[error("no registry for npm packages is configured here")]
    NpmNotConfigured,
    /// No package index is known.
    #[error("no index of Python packages is configured here")]
    PythonNotConfigured,
    /// Nothing says where Maven's repository is.
    #[error("no Maven repository is configured here")]
    MavenNotConfigured,
    /// The settings block the repository.
    #[error("the mirror {mirror} in {file} blocks the repository")]
    Blocked {
        /// The settings file.
        file: PathBuf,
        /// The id of the mirror.
        mirror: String,
    },
    /// A password that only its own program can read.
    #[error(
        "the password of the server {server} in {file} is encrypted, and only Maven can read it"
    )]
    Encrypted {
        /// The settings file.
        file: PathBuf,
        /// The id of the server.
        server: String,
    },
    /// Something says it, and it is not a URL.
    #[error("{place} says that the registry is {value:?}, which is not a URL")]
    NotAUrl {
        /// Where it is said.
        place: String,
        /// What is said.
        value: String,
    },
    /// The program that is to have a credential does not give it.
    #[error("{program}, which is to have the credential, gives none: {problem} ({file} names it)")]
    Helper {
        /// The file that names the program.
        file: PathBuf,
        /// The program.
        program: String,
        /// What is wrong.
        problem: String,
    },
    /// A settings file that may say it cannot be read.
    #[error("{file} may say where the registry is, and cannot be read: {cause}")]
    Unreadable {
        /// The file.
        file: PathBuf,
        /// Why.
        cause: String,
    },
}

/// What says where a registry is, and the address.
pub(crate) type Said = (String, String);

/// Whose packages a registry has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Ecosystem {
    /// A registry that speaks the npm protocol.
    Npm,
    /// An index of Python packages.
    Python,
}

impl Ecosystem {
    /// The scope of a package, which may have a registry of its own.
    pub fn scope_of(self, package: &str) -> Option<&str> {
        match self {
            Ecosystem::Npm => package.split_once('/').map(|(scope, _)| scope),
            Ecosystem::Python => None,
        }
    }
}

impl UserSettings {
    /// The registry that serves `package` to this user's npm-protocol clients, with a `/` behind.
    ///
    /// A project's own `.npmrc` is left out: entering a folder must not change where programs come
    /// from.
    pub fn npm_registry(&self, package: &str) -> Result<String, RegistryError> {
        let (place, value) = match self.npm_said(package)? {
            Some(said) => said,
            None => self.npm_answer().ok_or(RegistryError::NpmNotConfigured)?,
        };
        with_slash(place, value)
    }

    /// What the person's variables and settings say of the registry that serves `package`, without asking
    /// the client. That of the package's scope comes before any other: whoever has a scope of their own
    /// must not get what somebody else published under the same name elsewhere.
    fn npm_said(&self, package: &str) -> Result<Option<Said>, RegistryError> {
        let file = self.npm_settings()?;
        let scope = Ecosystem::Npm
            .scope_of(package)
            .map(|scope| format!("{scope}:registry"));
        if let Some(scope) = scope {
            let said = self
                .npm_variable(&scope)
                .or_else(|| self.npm_setting(&file, &scope));
            if said.is_some() {
                return Ok(said);
            }
        }
        let said = self.npm_variable("registry");
        Ok(said.or_else(|| self.npm_setting(&file, "registry")))
    }

    /// What the person's variables and settings say of where `package` of the one kind of registry or the
    /// other comes from, as it may be written down: what was fetched from elsewhere counts no longer.
    pub fn said_of(&self, ecosystem: Ecosystem, package: &str) -> Result<String, RegistryError> {
        let said = match ecosystem {
            Ecosystem::Npm => self.npm_said(package)?,
            Ecosystem::Python => self.python_said()?,
        };
        let said = said.map(|(_, value)| shown(&value));
        Ok(said.unwrap_or_else(|| "the package client".to_owned()))
    }

    /// The package index that this user's Python clients ask, with a `/` behind.
    pub fn python_index(&self) -> Result<String, RegistryError> {
        let (place, value) = match self.python_said()? {
            Some(said) => said,
            None => self
                .python_answer()
                .ok_or(RegistryError::PythonNotConfigured)?,
        };
        with_slash(place, value)
    }

    fn python_said(&self) -> Result<Option<Said>, RegistryError> {
        match self.python_variable() {
            Some(said) => Ok(Some(said)),
            None => self.python_file(),
        }
    }

    fn python_variable(&self) -> Option<Said> {
        const NAME: &str = "PIP_INDEX_URL";
        let value = self.variables.get(NAME).filter(|value| !value.is_empty())?;
        Some((NAME.to_owned(), value.clone()))
    }

    /// What the client's settings files say, the person's own before the system's.
    fn python_file(&self) -> Result<Option<Said>, RegistryError> {
        let config = (self.variables.get("XDG_CONFIG_HOME"))
            .map_or_else(|| self.home.join(".config"), PathBuf::from);
        let named = self.variables.get("PIP_CONFIG_FILE").map(PathBuf::from);
        let usual = [
            config.join("pip/pip.conf"),
            self.home.join(".pip/pip.conf"),
            self.home.join("Library/Application Support/pip/pip.conf"),
            PathBuf::from("/etc/pip.conf"),
        ];
        for file in named.into_iter().chain(usual) {
            let Some(text) = settings_text(&file)? else {
                continue;
            };
            let index = index_in(&text).map_err(|cause| unreadable(&file, cause))?;
            if let Some(index) = index {
                return Ok(Some((file.display().to_string(), index)));
            }
        }
        Ok(None)
    }

    /// What the client itself says: its help tells the index that it asks when nothing else is
    /// said.
    fn python_answer(&self) -> Option<Said> {
        let answer = ["pip3", "pip"]
            .iter()
            .find_map(|client| self.ask_client(client, &["download", "--help"]))?;
        let words = answer.split_whitespace().collect::<Vec<_>>().join(" ");
        let (_, about) = words.split_once("--index-url")?;
        let (_, default) = about.split_once("(default ")?;
        let (url, _) = default.split_once(')')?;
        Some(("the package client".to_owned(), url.replace(' ', "")))
    }

    /// `npm_config_registry` and the like, in any case of letters as the client takes it.
    fn npm_variable(&self, key: &str) -> Option<Said> {
        let wanted = format!("npm_config_{key}");
        self.variables
            .iter()
            .find(|(name, value)| name.eq_ignore_ascii_case(&wanted) && !value.is_empty())
            .map(|(name, value)| (name.clone(), value.clone()))
    }

    /// The person's settings file of the npm client, and its text.
    pub(crate) fn npm_settings(&self) -> Result<(PathBuf, String), RegistryError> {
        let file = self
            .variables
            .get("npm_config_userconfig")
            .map_or_else(|| self.home.join(".npmrc"), PathBuf::from);
        let text = settings_text(&file)?.unwrap_or_default();
        Ok((file, text))
    }

    fn npm_setting(&self, (file, text): &(PathBuf, String), key: &str) -> Option<Said> {
        let settings = text.lines().filter_map(|line| line.split_once('='));
        let (_, value) = settings
            .into_iter()
            .find(|(known, _)| known.trim() == key)?;
        let value = self.expand(value.trim().trim_matches('"'));
        Some((file.display().to_string(), value))
    }

    /// `${NAME}` in a settings file stands for that variable.
    pub(crate) fn expand(&self, value: &str) -> String {
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

    /// What the client itself says.
    fn npm_answer(&self) -> Option<Said> {
        let answer = self.ask_client("npm", &["config", "get", "registry"])?;
        let answer = answer.trim().to_owned();
        (!answer.is_empty() && answer != "undefined")
            .then(|| ("the package client".to_owned(), answer))
    }

    /// Where a program is on the person's PATH.
    pub(crate) fn program(&self, name: &str) -> Option<PathBuf> {
        let path = self.variables.get("PATH")?;
        let mut candidates = std::env::split_paths(path).map(|folder| folder.join(name));
        candidates.find(|candidate| candidate.is_file())
    }

    /// What a package client prints; it is asked from the home folder, outside of any project.
    fn ask_client(&self, client: &str, arguments: &[&str]) -> Option<String> {
        let output = Command::new(self.program(client)?)
            .args(arguments)
            .current_dir(&self.home)
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .output()
            .ok()?;
        let answer = String::from_utf8(output.stdout).ok()?;
        output.status.success().then_some(answer)
    }
}

/// The text of a settings file; nothing where there is none. One that cannot be read might say another
/// registry than the next best.
pub(crate) fn settings_text(file: &Path) -> Result<Option<String>, RegistryError> {
    let text = match optional::read(file) {
        Ok(Some(bytes)) => String::from_utf8(bytes).map_err(|_| "it is not UTF-8".to_owned()),
        Ok(None) => return Ok(None),
        Err(error) if error.kind() == io::ErrorKind::NotADirectory => return Ok(None),
        Err(error) => Err(error.to_string()),
    };
    text.map(Some).map_err(|cause| unreadable(file, cause))
}

pub(crate) fn unreadable(file: &Path, cause: String) -> RegistryError {
    RegistryError::Unreadable {
        file: file.to_owned(),
        cause,
    }
}

pub(crate) fn with_slash(place: String, value: String) -> Result<String, RegistryError> {
    match value.starts_with("http://") || value.starts_with("https://") {
        true => Ok(format!("{}/", value.trim_end_matches('/'))),
        false => Err(RegistryError::NotAUrl {
            value: shown(&value),
            place,
        }),
    }
}

/// The index in the text of a settings file of Python's package client, which is read as Python's own
/// `configparser` reads it (pip documentation, "Configuration"); the error says what is wrong with it.
fn index_in(text: &str) -> Result<Option<String>, String> {
    let mut settings = Ini::new();
    settings.read(text.to_owned())?;
    let sections = ["download", "install", "global"].iter();
    let names = ["index-url", "index_url"];
    let mut found = sections.flat_map(|section| names.map(|name| settings.get(section, name)));
    let index = found.find_map(|value| value.filter(|value| !value.is_empty()));
    Ok(index.map(|index| index.trim().to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::fs;

    fn settings(variables: &[(&str, &str)], npmrc: &str) -> (tempfile::TempDir, UserSettings) {
        let home = tempfile::tempdir().unwrap();
        fs::write(home.path().join(".npmrc"), npmrc).unwrap();
        let settings = UserSettings {
            variables: variables
                .iter()
                .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
                .collect::<BTreeMap<_, _>>()
                .into(),
            home: home.path().to_owned(),
        };
        (home, settings)
    }

    #[test]
    fn settings_that_cannot_be_read_are_an_error_and_not_another_registry() {
        let variables = [("npm_config_registry", "http://gull.example")];
        let (home, settings) = settings(&variables, "");
        let npmrc = home.path().join(".npmrc");
        fs::remove_file(&npmrc).unwrap();
        assert!(settings.npm_registry("board").is_ok());
        fs::create_dir(&npmrc).unwrap();
        let error = settings.npm_registry("board").unwrap_err().to_string();
        assert!(
            error.contains(".npmrc may say where the registry is"),
            "{error}"
        );
        let pip = home.path().join(".config/pip");
        fs::create_dir_all(&pip).unwrap();
        fs::write(pip.join("pip.conf"), [0xff, 0xfe]).unwrap();
        let error = settings.python_index().unwrap_err().to_string();
        assert!(
            error.contains("pip.conf may say where the registry is"),
            "{error}"
        );
    }

    #[rstest]
    #[case(&[("NPM_CONFIG_REGISTRY", "http://gull.example")], "registry=http://dune.example", "http://gull.example/")]
    #[case(&[], "registry = http://dune.example/npm/", "http://dune.example/npm/")]
    #[case(&[], "@tide:registry=http://tide.example\nregistry=http://dune.example", "http://tide.example/")]
    #[case(&[("npm_config_registry", "http://gull.example")], "@tide:registry=http://tide.example", "http://tide.example/")]
    #[case(&[("npm_config_@tide:registry", "http://gull.example")], "@tide:registry=http://tide.example", "http://gull.example/")]
    #[case(&[("HOST", "gull.example")], "registry=http://${HOST}/npm", "http://gull.example/npm/")]
    fn the_strongest_setting_holds(
        #[case] variables: &[(&str, &str)],
        #[case] npmrc: &str,
        #[case] expected: &str,
    ) {
        let (_home, settings) = settings(variables, npmrc);
        assert_eq!(settings.npm_registry("@tide/board").unwrap(), expected);
    }

    #[rstest]
    #[case(&[("PIP_INDEX_URL", "http://gull.example/simple")], "http://gull.example/simple/")]
    #[case(&[], "http://dune.example/simple/")]
    fn an_index_of_python_packages_is_found_too(
        #[case] variables: &[(&str, &str)],
        #[case] expected: &str,
    ) {
        let (home, settings) = settings(variables, "");
        let file = home.path().join(".config/pip/pip.conf");
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        let text = "[list]\nindex-url = http://x.example\n[global]\nindex-url: http://dune.example/simple/\n";
        fs::write(file, text).unwrap();
        assert_eq!(settings.python_index().unwrap(), expected);
    }

    #[test]
    fn the_client_tells_the_index_in_its_help() {
        let (home, mut settings) = settings(&[], "");
        let client = home.path().join("pip3");
        let script = "#!/bin/sh\necho '  -i, --index-url <url>  Base URL (default'\necho '   http://gull.example/simple). More'\n";
        fs::write(&client, script).unwrap();
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        fs::set_permissions(&client, mode).unwrap();
        let path = home.path().display().to_string();
        let variables = Arc::make_mut(&mut settings.variables);
        variables.insert("PATH".to_owned(), path);
        variables.insert("PIP_CONFIG_FILE".to_owned(), "/dev/null".to_owned());
        // A file of the whole system comes before the client's answer.
        if !Path::new("/etc/pip.conf").exists() {
            assert_eq!(
                settings.python_index().unwrap(),
                "http://gull.example/simple/"
            );
        }
        assert_eq!(
            settings.python_answer().unwrap().1,
            "http://gull.example/simple"
        );
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
