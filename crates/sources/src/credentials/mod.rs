//! What servers are told of who asks, as the clients of their registries are configured: the npm client's
//! settings, that of the Maven client, netrc and the file of containers' clients. A credential goes to the server that it is for, over an encrypted connection or to this
//! machine itself, and nowhere else.

mod containers;

use std::collections::HashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use percent_encoding::percent_decode_str;
use ureq::http::{HeaderName, HeaderValue};
use url::Url;

use crate::address::{Address, has_password, is_private, repository_of};
use crate::maven_settings::MavenSettings;
use crate::registries::{RegistryError, UserSettings, settings_text};

/// What says who asks. It is shown nowhere: there is nothing that writes it.
#[derive(Clone)]
pub struct Credential {
    secret: Secret,
    place: PathBuf,
}

#[derive(Clone)]
enum Secret {
    /// A value of the `authorization` header (RFC 9110, §11.6.2).
    Header(HeaderValue),
    /// A token with which a token service gives others (RFC 6749, §6).
    Identity(String),
}

impl Credential {
    /// A token of its own (RFC 6750, §2.1).
    fn bearer(token: &str, place: &Path) -> Option<Credential> {
        Credential::new(format!("Bearer {token}"), place)
    }

    /// A name and password (RFC 7617, §2).
    fn basic(name: &str, password: &str, place: &Path) -> Option<Credential> {
        Credential::encoded(&STANDARD.encode(format!("{name}:{password}")), place)
    }

    /// A name and password as base64 already.
    fn encoded(pair: &str, place: &Path) -> Option<Credential> {
        Credential::new(format!("Basic {pair}"), place)
    }

    /// Nothing where the text cannot be in a header.
    fn new(header: String, place: &Path) -> Option<Credential> {
        let mut header = HeaderValue::try_from(header).ok()?;
        header.set_sensitive(true);
        Some(Credential {
            secret: Secret::Header(header),
            place: place.to_owned(),
        })
    }

    /// A token for token services.
    fn identity(token: String, place: &Path) -> Credential {
        Credential {
            secret: Secret::Identity(token),
            place: place.to_owned(),
        }
    }

    /// The name and password in an address, which is what has them; nothing where it has none.
    pub(crate) fn of_address(url: &Url) -> Option<Credential> {
        if !has_password(url) {
            return None;
        }
        let plain = |text: &str| percent_decode_str(text).decode_utf8_lossy().into_owned();
        let name = plain(url.username());
        let password = plain(url.password().unwrap_or_default());
        Credential::basic(&name, &password, Path::new(""))
    }

    /// The value of the `authorization` header, unless it is for token services alone.
    pub(crate) fn header(&self) -> Option<&HeaderValue> {
        match &self.secret {
            Secret::Header(header) => Some(header),
            Secret::Identity(_) => None,
        }
    }

    /// The token for token services, where it is one.
    pub(crate) fn identity_token(&self) -> Option<&str> {
        match &self.secret {
            Secret::Header(_) => None,
            Secret::Identity(token) => Some(token),
        }
    }

    /// The file that has it.
    pub fn place(&self) -> &Path {
        &self.place
    }
}

impl fmt::Debug for Credential {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "a credential of {}", self.place.display())
    }
}

/// What a server is told with each request, such as a token in a header of its own.
#[derive(Clone)]
pub struct ServerHeader {
    server: String,
    name: HeaderName,
    value: HeaderValue,
}

impl ServerHeader {
    /// Reads a setting; `${NAME}` in the value stands for that variable of the person. The error says what is
    /// wrong, without the value.
    pub fn read(
        server: &str,
        name: &str,
        value: &str,
        person: &UserSettings,
    ) -> Result<ServerHeader, String> {
        let header = HeaderName::try_from(name);
        let header = header.map_err(|_| format!("{name:?} is not the name of a header"))?;
        let value = HeaderValue::try_from(person.expand(value));
        let mut value =
            value.map_err(|_| format!("the value of {name} for {server} cannot be in a header"))?;
        value.set_sensitive(true);
        Ok(ServerHeader {
            server: server.to_owned(),
            name: header,
            value,
        })
    }

    /// The header's name and value for an address: of this server, and over a connection that nobody else can
    /// read along.
    pub(crate) fn for_address(&self, url: &Url) -> Option<(&HeaderName, &HeaderValue)> {
        let server = Address::Web(url.clone());
        let fits = server.server() == self.server && is_private(url);
        fits.then_some((&self.name, &self.value))
    }
}

impl fmt::Debug for ServerHeader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} for {}", self.name, self.server)
    }
}

/// The part of a server that a credential is for.
#[derive(Clone, Debug)]
struct Entry {
    /// The host, with its port where one is said.
    host: String,
    /// Whether it is for every port of that host.
    any_port: bool,
    /// What paths begin with there.
    path: String,
    held: Held,
}

/// The entry of a settings file for a server.
#[derive(Clone, Debug)]
enum Held {
    Credential(Credential),
    /// A password that only Maven can read.
    Encrypted {
        /// The id of the server.
        server: String,
        file: PathBuf,
    },
}

/// The credentials of a person.
#[derive(Debug, Default)]
pub struct Credentials {
    entries: Vec<Entry>,
    settings: UserSettings,
    /// Those for repositories of containers, as far as they were asked for.
    of_repositories: Mutex<HashMap<String, Option<Credential>>>,
}

impl Credentials {
    /// Reads what the person's clients are configured with.
    pub fn read(settings: &UserSettings) -> Result<Credentials, RegistryError> {
        let mut entries = Vec::new();
        let (file, text) = settings.npm_settings()?;
        let expanded: Vec<(String, String)> = text
            .lines()
            .filter_map(|line| line.split_once('='))
            .map(|(key, value)| {
                let value = settings.expand(value.trim().trim_matches('"'));
                (key.trim().to_owned(), value)
            })
            .collect();
        entries.extend(of_npm(&expanded, &file));
        let netrc = settings
            .variables
            .get("NETRC")
            .map_or_else(|| settings.home.join(".netrc"), PathBuf::from);
        if let Some(text) = settings_text(&netrc)? {
            entries.extend(of_netrc(&text, &netrc));
        }
        // Settings that cannot be read are an error for what comes from a Maven repository, and concern nothing else.
        entries.extend(of_maven(&MavenSettings::read(settings).unwrap_or_default()));
        // Of several that fit, the one for the longest path counts.
        entries.sort_by_key(|entry| std::cmp::Reverse(entry.path.len()));
        Ok(Credentials {
            entries,
            settings: settings.clone(),
            of_repositories: Mutex::default(),
        })
    }

    /// The credential for an address; none over a connection that others can read along. For a repository of
    /// containers, what their clients are told comes first.
    pub(crate) fn of(&self, url: &Url) -> Result<Option<Credential>, RegistryError> {
        if !is_private(url) {
            return Ok(None);
        }
        if let Some(repository) = repository_of(url) {
            let found = self.of_repository(url, repository)?;
            if found.is_some() {
                return Ok(found);
            }
        }
        match self.of_server(url) {
            None => Ok(None),
            Some(Held::Credential(credential)) => Ok(Some(credential.clone())),
            Some(Held::Encrypted { server, file }) => Err(RegistryError::Encrypted {
                file: file.clone(),
                server: server.clone(),
            }),
        }
    }

    fn of_repository(
        &self,
        url: &Url,
        repository: &str,
    ) -> Result<Option<Credential>, RegistryError> {
        let mut known = self.of_repositories.lock().expect("nothing panics in here");
        let name = format!("{}/{repository}", url.authority());
        if let Some(found) = known.get(&name) {
            return Ok(found.clone());
        }
        let found = containers::of_repository(&self.settings, url, repository)?;
        known.insert(name, found.clone());
        Ok(found)
    }

    /// The entry for a server, or for a part of it.
    fn of_server(&self, url: &Url) -> Option<&Held> {
        let host = url.host_str()?;
        let with_port = match url.port_or_known_default() {
            Some(port) => format!("{host}:{port}"),
            None => host.to_owned(),
        };
        let default_port = url.port().is_none();
        let fits = |entry: &&Entry| {
            let same_host =
                entry.host == with_port || ((default_port || entry.any_port) && entry.host == host);
            same_host && is_below(url.path(), &entry.path)
        };
        let found = self.entries.iter().find(fits)?;
        Some(&found.held)
    }
}

/// Whether a path is this one or below it.
fn is_below(path: &str, base: &str) -> bool {
    let base = base.trim_end_matches('/');
    let rest = path.strip_prefix(base);
    rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// Those in the npm client's settings: `//host/path/:_authToken`, `:_auth`, and `:username` with `:_password`, whose
/// value is base64 (npm documentation, "npmrc", "Auth related configuration").
fn of_npm(settings: &[(String, String)], file: &Path) -> Vec<Entry> {
    let value = |key: &str| {
        let mut all = settings.iter();
        all.find(|(known, _)| known == key)
            .map(|(_, value)| value.as_str())
    };
    let mut entries: Vec<Entry> = Vec::new();
    for (key, _) in settings {
        let Some((server, name)) = key.strip_prefix("//").and_then(|key| key.rsplit_once(':'))
        else {
            continue;
        };
        let of = |name: &str| value(&format!("//{server}:{name}"));
        let credential = match name {
            "_authToken" => of(name).and_then(|token| Credential::bearer(token, file)),
            "_auth" => of(name).and_then(|pair| Credential::encoded(pair, file)),
            "_password" => of("username").zip(of(name)).and_then(|(user, password)| {
                let password = String::from_utf8(STANDARD.decode(password).ok()?).ok()?;
                Credential::basic(user, &password, file)
            }),
            _ => None,
        };
        let (host, path) = server.split_once('/').unwrap_or((server, ""));
        entries.extend(credential.map(|credential| Entry {
            host: host.to_owned(),
            any_port: false,
            path: format!("/{path}"),
            held: Held::Credential(credential),
        }));
    }
    entries
}

/// Those of the servers in the Maven client's settings, for the addresses with their ids.
fn of_maven(settings: &MavenSettings) -> Vec<Entry> {
    let entries = settings.logins().filter_map(|(url, file, login)| {
        let held = match login {
            Ok(login) => {
                let credential = Credential::basic(&login.username, &login.password, file)?;
                Held::Credential(credential)
            }
            Err(server) => Held::Encrypted {
                server: server.to_owned(),
                file: file.to_owned(),
            },
        };
        let host = url.host_str()?;
        let port = url.port().map(|port| format!(":{port}"));
        Some(Entry {
            host: format!("{host}{}", port.unwrap_or_default()),
            any_port: false,
            path: url.path().to_owned(),
            held,
        })
    });
    entries.collect()
}

/// Those in a netrc: `machine`, `login` and `password` (GNU inetutils manual, "The .netrc file"). Its `default`
/// would go to every server, and counts for none.
fn of_netrc(text: &str, file: &Path) -> Vec<Entry> {
    let mut entries = Vec::new();
    let mut machine: Option<(&str, Option<&str>)> = None;
    let mut words = text
        .lines()
        .map(|line| line.split('#').next().unwrap_or_default())
        .flat_map(str::split_whitespace);
    while let Some(word) = words.next() {
        match word {
            "machine" => machine = words.next().map(|host| (host, None)),
            "default" => machine = None,
            "login" => {
                let login = words.next();
                machine = machine.map(|(host, _)| (host, login));
            }
            "password" => {
                let password = words.next();
                if let (Some((host, Some(login))), Some(password)) = (machine, password)
                    && let Some(credential) = Credential::basic(login, password, file)
                {
                    entries.push(Entry {
                        host: host.to_owned(),
                        any_port: true,
                        path: "/".to_owned(),
                        held: Held::Credential(credential),
                    });
                }
            }
            _ => {}
        }
    }
    entries
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::fs;
    use std::sync::Arc;

    fn credentials(npmrc: &str, netrc: &str) -> Credentials {
        let home = tempfile::tempdir().unwrap();
        fs::write(home.path().join(".npmrc"), npmrc).unwrap();
        fs::write(home.path().join(".netrc"), netrc).unwrap();
        let settings = UserSettings {
            variables: Arc::new([("TIDE_TOKEN".to_owned(), "flood".to_owned())].into()),
            home: home.path().to_owned(),
        };
        Credentials::read(&settings).unwrap()
    }

    fn header(credentials: &Credentials, url: &str) -> Option<String> {
        let found = credentials.of(&Url::parse(url).unwrap()).unwrap()?;
        Some(found.header().unwrap().to_str().unwrap().to_owned())
    }

    #[test]
    fn a_maven_repository_gets_the_login_of_its_server_and_an_encrypted_one_is_an_error() {
        let home = tempfile::tempdir().unwrap();
        fs::create_dir(home.path().join(".m2")).unwrap();
        let place = |list: &str, id: &str, url: &str| {
            format!("<{list}><id>{id}</id><mirrorOf>*</mirrorOf><url>{url}</url></{list}>")
        };
        let mirrors = place("mirror", "board", "https://board.example/maven")
            + &place("mirror", "sea", "https://sea.example/");
        let server = |id: &str, password: &str| {
            format!(
                "<server><id>{id}</id><username>gull</username><password>{password}</password></server>"
            )
        };
        let servers = server("board", "sand") + &server("sea", "{COQLCE6DU6GtcS5P=}");
        let text = format!(
            "<settings><mirrors>{mirrors}</mirrors><servers>{servers}</servers></settings>"
        );
        fs::write(home.path().join(".m2/settings.xml"), text).unwrap();
        let settings = UserSettings {
            home: home.path().to_owned(),
            ..UserSettings::default()
        };
        let all = Credentials::read(&settings).unwrap();
        let found = header(&all, "https://board.example/maven/org/board");
        assert_eq!(found.as_deref(), Some("Basic Z3VsbDpzYW5k"));
        assert_eq!(header(&all, "https://board.example/other"), None);
        let encrypted = Url::parse("https://sea.example/org/board").unwrap();
        let error = all.of(&encrypted).unwrap_err().to_string();
        assert!(
            error.contains("the server sea in") && error.contains("is encrypted"),
            "{error}"
        );
    }

    const NPMRC: &str = "registry=https://gull.example/npm/
//gull.example/npm/:_authToken=${TIDE_TOKEN}
//gull.example/npm/board/:_auth=Z3VsbDpzYW5k
//dune.example:8443/:username=dune
//dune.example:8443/:_password=c2FuZA==
//marsh.example/:_authToken=\"reed\"
//odd.example/:_password=c2FuZA==
always-auth=true
";
    const NETRC: &str = "# mine
machine kelp.example login kelp password tide
machine gull.example
  login other
  password other
default login anyone password anything
";

    #[rstest]
    #[case("https://gull.example/npm/marram", Some("Bearer flood"))]
    #[case(
        "https://gull.example/npm/board/-/board.tgz",
        Some("Basic Z3VsbDpzYW5k")
    )]
    #[case("https://gull.example/npmx", Some("Basic b3RoZXI6b3RoZXI="))]
    #[case("https://dune.example:8443/a", Some("Basic ZHVuZTpzYW5k"))]
    #[case("https://dune.example/a", None)]
    #[case("https://marsh.example:443/a", Some("Bearer reed"))]
    #[case("https://kelp.example/a", Some("Basic a2VscDp0aWRl"))]
    #[case("https://kelp.example:8443/a", Some("Basic a2VscDp0aWRl"))]
    #[case("https://odd.example/a", None)]
    #[case("https://elsewhere.example/", None)]
    // Others would read along.
    #[case("http://gull.example/npm/marram", None)]
    fn a_server_gets_what_is_for_it_and_for_the_longest_path(
        #[case] url: &str,
        #[case] expected: Option<&str>,
    ) {
        assert_eq!(header(&credentials(NPMRC, NETRC), url).as_deref(), expected);
    }

    #[test]
    fn this_machine_itself_gets_them_without_encryption() {
        let local = credentials("//127.0.0.1:4873/:_authToken=reed", "");
        let found = header(&local, "http://127.0.0.1:4873/marram");
        assert_eq!(found.as_deref(), Some("Bearer reed"));
        assert_eq!(header(&local, "http://127.0.0.1:4874/marram"), None);
    }

    #[test]
    fn nothing_shows_one() {
        let all = credentials(NPMRC, NETRC);
        let shown = format!("{all:?}");
        for secret in ["flood", "Z3VsbDpzYW5k", "sand", "c2FuZA", "reed", "tide"] {
            assert!(!shown.contains(secret), "{shown}");
        }
        assert!(shown.contains(".npmrc"));
    }
}
