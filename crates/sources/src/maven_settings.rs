//! The configuration of the user's Maven client: mirrors, repositories and servers of `settings.xml`
//! (Maven documentation, "Settings Reference"), the person's own file before that of the installation.

use std::path::{Path, PathBuf};

use roxmltree::{Document, Node};
use url::Url;
use vshelf_files::optional;
use zip::ZipArchive;

use crate::address::shown;
use crate::registries::{RegistryError, Said, UserSettings, settings_text, unreadable, with_slash};

/// The id of the repository that Maven builds use by default.
const CENTRAL: &str = "central";

/// Mirrors, repositories and servers, those that count most in front.
#[derive(Debug, Default)]
pub(crate) struct MavenSettings {
    mirrors: Vec<Mirror>,
    /// Those of active profiles.
    repositories: Vec<Place>,
    servers: Vec<Server>,
}

/// An address with its id.
#[derive(Clone, Debug)]
struct Place {
    id: String,
    url: String,
    file: PathBuf,
}

#[derive(Debug)]
struct Mirror {
    place: Place,
    /// The ids of the repositories that it stands for, as patterns.
    of: String,
    is_blocked: bool,
}

#[derive(Debug)]
struct Server {
    id: String,
    file: PathBuf,
    login: Login,
}

/// A name and password. They are never printed.
pub(crate) struct Login {
    pub(crate) username: String,
    pub(crate) password: String,
}

impl std::fmt::Debug for Login {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a name and password")
    }
}

impl MavenSettings {
    /// Reads both files; an absent one says nothing.
    pub(crate) fn read(person: &UserSettings) -> Result<MavenSettings, RegistryError> {
        let own = person.home.join(".m2/settings.xml");
        let shared = client_folder(person).map(|client| client.join("conf/settings.xml"));
        let mut settings = MavenSettings::default();
        for file in [Some(own), shared].into_iter().flatten() {
            if let Some(text) = settings_text(&file)? {
                let read = settings.add(&text, &file, person);
                read.map_err(|cause| unreadable(&file, cause))?;
            }
        }
        Ok(settings)
    }

    fn add(&mut self, text: &str, file: &Path, person: &UserSettings) -> Result<(), String> {
        // A document type could name other files: it is refused.
        let document = Document::parse(text).map_err(|error| error.to_string())?;
        let root = document.root_element();
        let text_of = |node: Node<'_, '_>, name: &str| child_text(node, name, person);
        let place = |node: Node<'_, '_>| Place {
            id: text_of(node, "id"),
            url: text_of(node, "url"),
            file: file.to_owned(),
        };
        for mirror in listed(root, "mirrors", "mirror") {
            self.mirrors.push(Mirror {
                place: place(mirror),
                of: text_of(mirror, "mirrorOf"),
                is_blocked: text_of(mirror, "blocked") == "true",
            });
        }
        for server in listed(root, "servers", "server") {
            self.servers.push(Server {
                id: text_of(server, "id"),
                file: file.to_owned(),
                login: Login {
                    username: text_of(server, "username"),
                    password: text_of(server, "password"),
                },
            });
        }
        let named: Vec<String> = listed(root, "activeProfiles", "activeProfile")
            .map(|profile| profile.text().unwrap_or_default().trim().to_owned())
            .collect();
        let is_usual = |profile: Node<'_, '_>| {
            let activation = child(profile, "activation");
            activation.is_some_and(|one| text_of(one, "activeByDefault") == "true")
        };
        for profile in listed(root, "profiles", "profile") {
            // Those that are active by default are so unless others are named.
            let is_active = if named.is_empty() {
                is_usual(profile)
            } else {
                named.contains(&text_of(profile, "id"))
            };
            if is_active {
                let repositories = listed(profile, "repositories", "repository");
                self.repositories.extend(repositories.map(place));
            }
        }
        Ok(())
    }

    /// The address of the default repository, and the file that has it; `None` if the settings do not mention it.
    fn central(&self) -> Result<Option<Said>, RegistryError> {
        let own = self.repositories.iter().find(|place| place.id == CENTRAL);
        let said = |place: &Place| Some((place.file.display().to_string(), place.url.clone()));
        match self.mirror(own) {
            Some(mirror) if mirror.is_blocked => Err(RegistryError::Blocked {
                file: mirror.place.file.clone(),
                mirror: mirror.place.id.clone(),
            }),
            Some(mirror) => Ok(said(&mirror.place)),
            None => Ok(own.and_then(said)),
        }
    }

    /// The mirror of the usual repository: one that names it before one whose pattern fits.
    fn mirror(&self, repository: Option<&Place>) -> Option<&Mirror> {
        let url = repository.map(|place| place.url.as_str());
        let mut mirrors = self.mirrors.iter();
        let named = mirrors.find(|mirror| mirror.of == CENTRAL);
        let mut mirrors = self.mirrors.iter();
        named.or_else(|| mirrors.find(|mirror| stands_for(&mirror.of, CENTRAL, url)))
    }

    /// Each address of the settings whose server has a login, the file that has it, and the login, or the id of the server
    /// if the password is encrypted.
    pub(crate) fn logins(&self) -> impl Iterator<Item = (Url, &Path, Result<&Login, &str>)> {
        let mirrors = self.mirrors.iter().map(|mirror| &mirror.place);
        let places = mirrors.chain(&self.repositories);
        places.filter_map(|place| {
            let server = self.servers.iter().find(|server| server.id == place.id)?;
            let login = if is_encrypted(&server.login.password) {
                Err(&*server.id)
            } else {
                Ok(&server.login)
            };
            Some((Url::parse(&place.url).ok()?, &*server.file, login))
        })
    }
}

impl UserSettings {
    /// The repository that this user's Maven client asks, with a `/` behind.
    pub fn maven_repository(&self) -> Result<String, RegistryError> {
        let client = || {
            let answer = client_answer(self);
            answer.map(|url| ("the package client".to_owned(), url))
        };
        let said = MavenSettings::read(self)?.central()?;
        let said = said.or_else(client);
        let (place, value) = said.ok_or(RegistryError::MavenNotConfigured)?;
        with_slash(place, value)
    }

    /// The same as the settings state it, without a password, for the names of cached files.
    pub(crate) fn maven_said(&self) -> Result<String, RegistryError> {
        let said = MavenSettings::read(self)?.central()?;
        let said = said.map(|(_, value)| shown(&value));
        Ok(said.unwrap_or_else(|| "the package client".to_owned()))
    }
}

/// Whether a password is one that Maven encrypted (Maven documentation, "Password Encryption").
fn is_encrypted(password: &str) -> bool {
    let opening = password.find('{');
    opening.is_some_and(|at| password[at..].trim_end().ends_with('}'))
}

/// Whether a mirror of these repositories is one of that with this id and address (Maven documentation, "Using Mirrors
/// for Repositories", "Advanced Mirror Specification").
fn stands_for(patterns: &str, id: &str, url: Option<&str>) -> bool {
    let mut stands = false;
    for pattern in patterns.split(',').map(str::trim) {
        match pattern {
            _ if pattern.strip_prefix('!') == Some(id) => return false,
            "external:http:*" => {
                stands |= url.is_some_and(|url| url.starts_with("http:") && is_external(url));
            }
            "external:*" => stands |= url.is_none_or(is_external),
            "*" => stands = true,
            _ => stands |= pattern == id,
        }
    }
    stands
}

fn is_external(url: &str) -> bool {
    let host = Url::parse(url).ok();
    let host = host.as_ref().and_then(Url::host_str).unwrap_or_default();
    !url.starts_with("file:") && !["localhost", "127.0.0.1"].contains(&host)
}

fn child<'a, 'd>(node: Node<'a, 'd>, name: &str) -> Option<Node<'a, 'd>> {
    node.children()
        .find(|child| child.tag_name().name() == name)
}

fn child_text(node: Node<'_, '_>, name: &str, person: &UserSettings) -> String {
    let text = child(node, name).and_then(|child| child.text());
    let text = text.unwrap_or_default().trim().replace("${env.", "${");
    person.expand(&text)
}

/// The elements of this name in the list of that name.
fn listed<'a, 'd: 'a>(
    node: Node<'a, 'd>,
    list: &'a str,
    name: &'a str,
) -> impl Iterator<Item = Node<'a, 'd>> {
    let list = child(node, list).into_iter();
    let elements = list.flat_map(|list| list.children());
    elements.filter(move |element| element.tag_name().name() == name)
}

/// The folder of the Maven client that the person has.
fn client_folder(person: &UserSettings) -> Option<PathBuf> {
    let program = person.program("mvn")?.canonicalize().ok()?;
    Some(program.parent()?.parent()?.to_owned())
}

/// The default repository of the client itself: it is in the model that every project inherits from
/// (Maven documentation, "Super POM").
fn client_answer(person: &UserSettings) -> Option<String> {
    const MODEL: &str = "org/apache/maven/model/pom-4.0.0.xml";
    let libraries = client_folder(person)?.join("lib");
    let mut names = optional::names(&libraries).ok()?;
    names.retain(|name| name.starts_with("maven-model-builder") || name.starts_with("maven-impl"));
    names.iter().find_map(|name| {
        let archive = std::fs::File::open(libraries.join(name)).ok()?;
        let mut archive = ZipArchive::new(archive).ok()?;
        let model = std::io::read_to_string(archive.by_name(MODEL).ok()?).ok()?;
        let model = Document::parse(&model).ok()?;
        let mut repositories = listed(model.root_element(), "repositories", "repository");
        let usual =
            repositories.find(|one| child(*one, "id").and_then(|id| id.text()) == Some(CENTRAL))?;
        Some(child(usual, "url")?.text()?.trim().to_owned())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::fs;
    use std::sync::Arc;

    fn person(settings: &str) -> (tempfile::TempDir, UserSettings) {
        let home = tempfile::tempdir().unwrap();
        fs::create_dir(home.path().join(".m2")).unwrap();
        fs::write(home.path().join(".m2/settings.xml"), settings).unwrap();
        let variables = [("TIDE_PASSWORD".to_owned(), "flood".to_owned())];
        let person = UserSettings {
            variables: Arc::new(variables.into()),
            home: home.path().to_owned(),
        };
        (home, person)
    }

    const BOARD: &str = "https://board.example/maven";

    fn with_mirror(of: &str, more: &str) -> String {
        format!(
            "<settings xmlns=\"http://maven.apache.org/SETTINGS/1.2.0\"><mirrors><mirror><id>board</id>
             <mirrorOf>{of}</mirrorOf><url>{BOARD}</url>{more}</mirror></mirrors></settings>"
        )
    }

    #[rstest]
    #[case("central", true)]
    #[case("*", true)]
    #[case("external:*", true)]
    #[case("other, central", true)]
    #[case("*,!central", false)]
    #[case("external:http:*", false)]
    #[case("other", false)]
    fn a_mirror_stands_for_what_its_pattern_names(#[case] of: &str, #[case] stands: bool) {
        let (_home, person) = person(&with_mirror(of, ""));
        let said = MavenSettings::read(&person).unwrap().central().unwrap();
        assert_eq!(said.map(|(_, url)| url), stands.then(|| BOARD.to_owned()));
    }

    #[test]
    fn an_active_profile_says_where_the_usual_repository_is() {
        let profile = |id: &str, url: &str| {
            format!(
                "<profile><id>{id}</id><repositories><repository><id>central</id><url>{url}</url></repository></repositories></profile>"
            )
        };
        let profiles = profile("sea", "https://sea.example/") + &profile("board", BOARD);
        let text = format!(
            "<settings><profiles>{profiles}</profiles><activeProfiles><activeProfile>board</activeProfile></activeProfiles></settings>"
        );
        let (_home, person) = person(&text);
        let said = MavenSettings::read(&person).unwrap().central().unwrap();
        assert_eq!(said.unwrap().1, BOARD);
    }

    #[rstest]
    #[case::blocked(&with_mirror("*", "<blocked>true</blocked>"), "blocks the repository")]
    #[case::document_type(
        "<!DOCTYPE s [<!ENTITY x SYSTEM \"file:///etc/passwd\">]><settings>&x;</settings>",
        "cannot be read"
    )]
    #[case::cut("<settings><mirrors>", "cannot be read")]
    fn settings_that_cannot_be_followed_are_an_error(#[case] text: &str, #[case] problem: &str) {
        let (_home, person) = person(text);
        let central = MavenSettings::read(&person).and_then(|settings| settings.central());
        let error = central.unwrap_err().to_string();
        assert!(error.contains(problem), "{error}");
    }

    #[rstest]
    #[case("${env.TIDE_PASSWORD}", Some("flood"))]
    #[case("ebb", Some("ebb"))]
    #[case("{COQLCE6DU6GtcS5P=}", None)]
    #[case("expires tomorrow {COQLCE6DU6GtcS5P=}", None)]
    fn a_server_has_the_login_of_its_id(#[case] password: &str, #[case] expected: Option<&str>) {
        let server = format!(
            "<servers><server><id>board</id><username>gull</username><password>{password}</password></server></servers></settings>"
        );
        let text = with_mirror("*", "").replace("</settings>", &server);
        let (_home, person) = person(&text);
        let settings = MavenSettings::read(&person).unwrap();
        let (url, _, login) = settings.logins().next().unwrap();
        assert_eq!(url.as_str(), BOARD);
        match (login, expected) {
            (Ok(login), Some(expected)) => {
                assert_eq!((&*login.username, &*login.password), ("gull", expected));
            }
            (Err(server), None) => assert_eq!(server, "board"),
            (login, _) => panic!("{login:?}"),
        }
        assert!(!format!("{settings:?}").contains("flood"));
    }
}
