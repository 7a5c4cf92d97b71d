//! Credentials for registries of containers, in the file that their clients share (containers-auth.json(5)), and
//! from the programs that it names for them (the protocol of `docker-credential-helpers`).

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::Deserialize;
use url::Url;

use super::Credential;
use crate::registries::{RegistryError, UserSettings, settings_text, unreadable};

/// What a helper gives as the name of whoever has a token in the place of a password.
const TOKEN_NAME: &str = "<token>";

/// What the file holds.
#[derive(Deserialize)]
#[serde(default, rename_all = "camelCase")]
#[derive(Default)]
struct AuthFile {
    auths: BTreeMap<String, Auth>,
    cred_helpers: BTreeMap<String, String>,
    creds_store: Option<String>,
}

#[derive(Default, Deserialize)]
#[serde(default)]
struct Auth {
    /// A name and password with a `:` between, as base64.
    auth: Option<String>,
    /// A token with which the token service gives others.
    identitytoken: Option<String>,
}

/// What a helper answers.
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct HelperAnswer {
    username: String,
    secret: String,
}

/// The credential for a repository, such as `gull.example/runtimes/marram`, in the first of the files that has
/// one.
pub(super) fn of_repository(
    settings: &UserSettings,
    server: &Url,
    repository: &str,
) -> Result<Option<Credential>, RegistryError> {
    let Some(host) = server.host_str() else {
        return Ok(None);
    };
    let host = match server.port() {
        Some(port) => format!("{host}:{port}"),
        None => host.to_owned(),
    };
    for path in places(settings) {
        let Some(text) = settings_text(&path)? else {
            continue;
        };
        let file: AuthFile =
            serde_json::from_str(&text).map_err(|error| unreadable(&path, error.to_string()))?;
        let found = file.credential(settings, &path, &host, repository)?;
        if found.is_some() {
            return Ok(found);
        }
    }
    Ok(None)
}

/// The files that may be there, the one to read first in front.
fn places(settings: &UserSettings) -> Vec<PathBuf> {
    let variable = |name: &str| settings.variables.get(name).map(PathBuf::from);
    if let Some(named) = variable("REGISTRY_AUTH_FILE") {
        return vec![named];
    }
    let config = variable("XDG_CONFIG_HOME").unwrap_or_else(|| settings.home.join(".config"));
    let docker = variable("DOCKER_CONFIG").unwrap_or_else(|| settings.home.join(".docker"));
    let of_session = variable("XDG_RUNTIME_DIR").map(|folder| folder.join("containers/auth.json"));
    let others = [
        config.join("containers/auth.json"),
        docker.join("config.json"),
    ];
    of_session.into_iter().chain(others).collect()
}

impl AuthFile {
    fn credential(
        &self,
        settings: &UserSettings,
        path: &Path,
        host: &str,
        repository: &str,
    ) -> Result<Option<Credential>, RegistryError> {
        if let Some(helper) = self.cred_helpers.get(host) {
            return ask_helper(settings, path, helper, host);
        }
        if let Some(auth) = self.auth(host, repository) {
            return Ok(auth.credential(path));
        }
        match &self.creds_store {
            Some(helper) => ask_helper(settings, path, helper, host),
            None => Ok(None),
        }
    }

    /// The entry for the longest part of `host/repository`; of a key that is a URL, as clients wrote once, the
    /// host counts.
    fn auth(&self, host: &str, repository: &str) -> Option<&Auth> {
        let mut name = format!("{host}/{repository}");
        loop {
            if let Some(auth) = self.auths.get(&name) {
                return Some(auth);
            }
            match name.rfind('/') {
                Some(end) => name.truncate(end),
                None => break,
            }
        }
        let mut urls = self.auths.iter();
        let found = urls.find(|(key, _)| {
            let rest = key.split_once("://").map(|(_, rest)| rest);
            rest.and_then(|rest| rest.split('/').next()) == Some(host)
        });
        found.map(|(_, auth)| auth)
    }
}

impl Auth {
    fn credential(&self, path: &Path) -> Option<Credential> {
        let given = |text: &Option<String>| text.clone().filter(|text| !text.is_empty());
        if let Some(token) = given(&self.identitytoken) {
            return Some(Credential::identity(token, path));
        }
        let pair = given(&self.auth)?;
        // Some clients put zeros behind the password.
        let pair = STANDARD.decode(pair).ok()?;
        let pair = String::from_utf8(pair).ok()?;
        let (name, password) = pair.trim_end_matches('\0').split_once(':')?;
        Credential::basic(name, password, path)
    }
}

/// What the program `docker-credential-HELPER` has for a server; nothing where it says that it has nothing.
fn ask_helper(
    settings: &UserSettings,
    path: &Path,
    helper: &str,
    server: &str,
) -> Result<Option<Credential>, RegistryError> {
    let program = format!("docker-credential-{helper}");
    let failed = |problem: String| RegistryError::Helper {
        file: path.to_owned(),
        program: program.clone(),
        problem,
    };
    let found = settings.program(&program);
    let found = found.filter(|_| !helper.contains('/'));
    let found = found.ok_or_else(|| failed("it is not on PATH".to_owned()))?;
    let run = || {
        let mut process = Command::new(&found)
            .arg("get")
            .env_clear()
            .envs(&*settings.variables)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()?;
        if let Some(mut stdin) = process.stdin.take() {
            // One that does not read it knows the server otherwise.
            stdin.write_all(server.as_bytes()).unwrap_or_default();
        }
        process.wait_with_output()
    };
    let output = run().map_err(|error| failed(error.to_string()))?;
    let text = String::from_utf8_lossy(&output.stdout);
    if !output.status.success() {
        return match text.contains("credentials not found") {
            true => Ok(None),
            false => Err(failed("it fails".to_owned())),
        };
    }
    // What it says may have the password: nothing of it is told.
    let answer: HelperAnswer = serde_json::from_str(&text)
        .map_err(|_| failed("its answer is no credential".to_owned()))?;
    let credential = match answer.username == TOKEN_NAME {
        true => Some(Credential::identity(answer.secret, path)),
        false => Credential::basic(&answer.username, &answer.secret, path),
    };
    Ok(credential)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::fs;
    use std::os::unix::fs::PermissionsExt;
    use std::sync::{Arc, OnceLock};

    /// `gull:sand`, `dune:kelp` and `reed:tide` for three parts of a server, and two helpers.
    const FILE: &str = r#"{
        "auths": {
            "gull.example": { "auth": "Z3VsbDpzYW5k" },
            "gull.example/runtimes": { "auth": "ZHVuZTprZWxw" },
            "gull.example:5000": { "auth": "cmVlZDp0aWRl" },
            "https://old.example/v1/": { "auth": "cmVlZDp0aWRl" },
            "token.example": { "auth": "", "identitytoken": "spring" },
            "empty.example": {}
        },
        "credHelpers": { "helped.example": "shore", "lost.example": "lost", "odd.example": "odd" }
    }"#;

    /// Helpers of which one knows one server, and one answers rubbish. They are written once, before any is run:
    /// a program that is still open for writing cannot be started.
    fn helpers() -> &'static Path {
        static FOLDER: OnceLock<tempfile::TempDir> = OnceLock::new();
        let written = || {
            let folder = tempfile::tempdir().unwrap();
            let shore = "#!/bin/sh\nread -r server || true\ncase $1-$server in\n\
                get-helped.example) echo '{\"ServerURL\":\"\",\"Username\":\"gull\",\"Secret\":\"wrack\"}' ;;\n\
                *) echo credentials not found in native keychain; exit 1 ;;\nesac\n";
            for (name, text) in [("shore", shore), ("odd", "#!/bin/sh\necho wrack\n")] {
                let program = folder.path().join(format!("docker-credential-{name}"));
                fs::write(&program, text).unwrap();
                fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
            }
            folder
        };
        FOLDER.get_or_init(written).path()
    }

    /// A home with the file, and the helpers.
    fn home(file: &str) -> (tempfile::TempDir, UserSettings) {
        let home = tempfile::tempdir().unwrap();
        let folder = home.path().join(".config/containers");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("auth.json"), file).unwrap();
        let folders = format!("{}:/usr/bin:/bin", helpers().display());
        let settings = UserSettings {
            variables: Arc::new([("PATH".to_owned(), folders)].into()),
            home: home.path().to_owned(),
        };
        (home, settings)
    }

    fn header(settings: &UserSettings, server: &str, repository: &str) -> Option<String> {
        let server = Url::parse(server).unwrap();
        let found = of_repository(settings, &server, repository).unwrap()?;
        Some(found.header().unwrap().to_str().unwrap().to_owned())
    }

    #[rstest]
    #[case("https://gull.example", "tide/marram", Some("gull:sand"))]
    #[case("https://gull.example", "runtimes/marram", Some("dune:kelp"))]
    #[case("https://gull.example", "runtimes-old/marram", Some("gull:sand"))]
    #[case("https://gull.example:5000", "marram", Some("reed:tide"))]
    #[case("https://old.example", "marram", Some("reed:tide"))]
    #[case("https://helped.example", "marram", Some("gull:wrack"))]
    #[case("https://empty.example", "marram", None)]
    #[case("https://elsewhere.example", "marram", None)]
    fn the_longest_part_of_a_repository_counts(
        #[case] server: &str,
        #[case] repository: &str,
        #[case] expected: Option<&str>,
    ) {
        let (_home, settings) = home(FILE);
        let expected = expected.map(|pair| format!("Basic {}", STANDARD.encode(pair)));
        assert_eq!(header(&settings, server, repository), expected);
    }

    #[test]
    fn a_store_serves_what_has_no_entry_of_its_own() {
        let (_home, settings) = home(r#"{ "credsStore": "shore" }"#);
        let known = header(&settings, "https://helped.example", "marram");
        assert_eq!(known.as_deref(), Some("Basic Z3VsbDp3cmFjaw=="));
        assert_eq!(header(&settings, "https://gull.example", "marram"), None);
    }

    #[test]
    fn a_token_of_identity_is_for_the_token_service_alone() {
        let (_home, settings) = home(FILE);
        let server = Url::parse("https://token.example").unwrap();
        let found = of_repository(&settings, &server, "marram")
            .unwrap()
            .unwrap();
        assert!(found.header().is_none());
        assert_eq!(found.identity_token(), Some("spring"));
        assert!(!format!("{found:?}").contains("spring"));
    }

    #[rstest]
    #[case(
        "https://lost.example",
        "docker-credential-lost, which is to have the credential, gives none: it is not on PATH"
    )]
    #[case("https://odd.example", "gives none: its answer is no credential")]
    fn a_helper_that_does_not_help_is_named(#[case] server: &str, #[case] expected: &str) {
        let (_home, settings) = home(FILE);
        let server = Url::parse(server).unwrap();
        let error = of_repository(&settings, &server, "marram").unwrap_err();
        let text = error.to_string();
        assert!(text.contains(expected) && !text.contains("wrack"), "{text}");
        assert!(text.contains("auth.json"), "{text}");
    }

    #[test]
    fn the_file_is_where_a_variable_says() {
        let (home, mut settings) = home("{");
        assert!(of_repository(&settings, &Url::parse("https://a.example").unwrap(), "m").is_err());
        let named = home.path().join("mine.json");
        fs::write(&named, FILE).unwrap();
        let named = named.display().to_string();
        Arc::make_mut(&mut settings.variables).insert("REGISTRY_AUTH_FILE".to_owned(), named);
        assert!(header(&settings, "https://gull.example", "marram").is_some());
    }
}
