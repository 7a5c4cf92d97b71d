//! A home of its own on the demo's day, and somebody who listens.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use tempfile::TempDir;
use vshelf_app::install::request::InstallRequest;
use vshelf_app::install::run::install;
use vshelf_app::variables::Variables;
use vshelf_app::{Answer, Environment, Error, Event, Listener, Question, Runtime};
use vshelf_core::Request;
use vshelf_demo::TODAY;
use vshelf_demo::server::StandIn;

/// A home whose definitions know Marram.
pub struct Scene {
    home: TempDir,
    pub server: StandIn,
}

impl Scene {
    pub fn new() -> Scene {
        let server = StandIn::start(None).unwrap();
        let scene = Scene {
            home: tempfile::tempdir().unwrap(),
            server,
        };
        scene.write(
            "config/runtimes/marram.toml",
            &vshelf_demo::definition(&scene.server.address()),
        );
        scene.write("config/shelf.toml", "main-runtime = \"marram\"\n");
        scene
    }

    /// A home with these releases on the shelf.
    pub fn with(selectors: &[&str]) -> Scene {
        let scene = Scene::new();
        scene.install(selectors);
        scene
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.home.path().join(name)
    }

    pub fn write(&self, name: &str, text: &str) -> PathBuf {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, text).unwrap();
        path
    }

    /// The surroundings of a command in a shell that is not connected.
    pub fn environment(&self) -> Environment {
        self.environment_with(&[])
    }

    /// The surroundings of a command with these variables too.
    pub fn environment_with(&self, variables: &[(&str, &str)]) -> Environment {
        let path = |name: &str| self.path(name).to_string_lossy().into_owned();
        let usual = [
            ("HOME", path("")),
            ("SHELL", "/bin/bash".to_owned()),
            ("PATH", "/usr/bin:/bin".to_owned()),
            ("VSHELF_DATA", path("data")),
            ("VSHELF_CACHE", path("cache")),
            ("VSHELF_CONFIG", path("config")),
            ("VSHELF_TODAY", TODAY.to_owned()),
        ];
        let more = variables
            .iter()
            .map(|(name, value)| (*name, (*value).to_owned()));
        let variables: Variables = usual.into_iter().chain(more).collect();
        let project = self.path("project");
        fs::create_dir_all(&project).unwrap();
        Environment::new(&variables, false).in_folder(project)
    }

    /// The surroundings of a command in a connected bash, which waits for its changes in a file.
    pub fn connected(&self) -> Environment {
        let changes = self.write("changes", "");
        self.environment_with(&[
            ("VSHELF_SHELL", "bash"),
            ("VSHELF_EVALUATE", &changes.to_string_lossy()),
        ])
    }

    /// The same, of the shell with this process id.
    pub fn connected_as(&self, id: u32) -> Environment {
        let changes = self.write("changes", "");
        self.environment_with(&[
            ("VSHELF_SHELL", "bash"),
            ("VSHELF_SHELL_ID", &id.to_string()),
            ("VSHELF_EVALUATE", &changes.to_string_lossy()),
        ])
    }

    pub fn install(&self, selectors: &[&str]) -> Recorder {
        let recorder = Recorder::default();
        let asked = InstallRequest {
            requests: requests(selectors),
            ..InstallRequest::default()
        };
        install(&self.environment(), asked, &recorder).unwrap();
        recorder
    }

    /// The selectors of what is on the shelf, newest first.
    pub fn on_shelf(&self) -> Vec<String> {
        let environment = self.environment();
        let runtime = Runtime::named(&environment, None).unwrap();
        let installs = runtime.snapshot.installs.iter();
        (installs.map(|install| runtime.names().selector_of(&install.id.key))).collect()
    }

    /// The selector of the default.
    pub fn default(&self) -> Option<String> {
        let environment = self.environment();
        let runtime = Runtime::named(&environment, None).unwrap();
        (runtime.snapshot.default_pick()).map(|pick| runtime.names().selector_of_pick(pick))
    }

    /// The folder of the main publisher's build of this version.
    pub fn install_folder(&self, version: &str) -> PathBuf {
        let installs = self.path("data/shelf/marram");
        installs.join(format!("saltmarsh-{version}/build"))
    }
}

pub fn request(selector: &str) -> Request {
    selector.parse().unwrap()
}

pub fn requests(selectors: &[&str]) -> Vec<Request> {
    selectors.iter().map(|selector| request(selector)).collect()
}

/// The names in a folder, in order.
pub fn names_in(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder).into_iter().flatten();
    let mut names: Vec<String> = entries
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

/// Somebody who listens, and always answers the same.
pub struct Recorder {
    told: Mutex<Vec<String>>,
    asked: Mutex<Vec<String>>,
    answer: Answer,
}

impl Default for Recorder {
    fn default() -> Recorder {
        Recorder::answering(Answer::Nobody)
    }
}

impl Recorder {
    pub fn answering(answer: Answer) -> Recorder {
        Recorder {
            told: Mutex::default(),
            asked: Mutex::default(),
            answer,
        }
    }

    /// What was told, in the form of its type; how far transfers are is left out.
    pub fn told(&self) -> Vec<String> {
        self.told.lock().unwrap().clone()
    }

    /// Whether an event was told whose form has all of these texts.
    pub fn was_told(&self, texts: &[&str]) -> bool {
        let told = self.told();
        told.iter()
            .any(|event| texts.iter().all(|text| event.contains(text)))
    }

    pub fn asked(&self) -> Vec<String> {
        self.asked.lock().unwrap().clone()
    }
}

impl Listener for Recorder {
    fn tell(&self, event: Event<'_>) {
        if !matches!(event, Event::Transfer { .. }) {
            self.told.lock().unwrap().push(format!("{event:?}"));
        }
    }

    fn ask(&self, question: &Question<'_>) -> Result<Answer, Error> {
        self.asked.lock().unwrap().push(format!("{question:?}"));
        Ok(self.answer)
    }
}
