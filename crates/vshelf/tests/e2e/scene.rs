//! A home of its own for each test: cleared environment, fixed date, stand-in release server.

use std::fmt;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;

use tempfile::TempDir;
use vshelf_demo::server::{Fault, StandIn};

use crate::process;

/// What sets the clock and its zone: `scripts/test-dates` runs the tests on other days.
const CLOCK: [&str; 6] = [
    "LD_PRELOAD",
    "FAKETIME",
    "FAKETIME_DONT_FAKE_MONOTONIC",
    "FAKETIME_FMT",
    "FAKETIME_SHARED",
    "TZ",
];

/// The program under test.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_vshelf");

/// What ran, whole.
pub struct Ran {
    pub stdout: String,
    pub stderr: String,
    pub code: i32,
}

impl fmt::Display for Ran {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.stdout)?;
        if !self.stderr.is_empty() {
            write!(f, "--- stderr\n{}", self.stderr)?;
        }
        if self.code != 0 {
            writeln!(f, "--- exit {}", self.code)?;
        }
        Ok(())
    }
}

/// A home, and the server that its Marram comes from.
pub struct Scene {
    home: TempDir,
    own_server: Option<StandIn>,
}

/// A well-behaved server that tests share.
fn shared_server() -> &'static StandIn {
    static SERVER: OnceLock<StandIn> = OnceLock::new();
    SERVER.get_or_init(|| StandIn::start(None).unwrap())
}

impl Scene {
    /// A home that knows Marram.
    pub fn new() -> Scene {
        Scene::on(None)
    }

    /// A home whose server misbehaves.
    pub fn with_faults(faults: &[Fault]) -> Scene {
        let server = StandIn::start(None).unwrap();
        server.misbehave(faults);
        Scene::on(Some(server))
    }

    fn on(own_server: Option<StandIn>) -> Scene {
        let scene = Scene {
            home: TempDir::new().unwrap(),
            own_server,
        };
        let definition = vshelf_demo::definition(&scene.server().address());
        scene.write(".config/vivid-shelf/runtimes/marram.toml", &definition);
        scene.write(
            ".config/vivid-shelf/shelf.toml",
            "main-runtime = \"marram\"\n",
        );
        scene
    }

    /// Ends the home's own server.
    pub fn stop_server(&mut self) {
        self.own_server = None;
    }

    pub fn server(&self) -> &StandIn {
        self.own_server.as_ref().unwrap_or_else(|| shared_server())
    }

    pub fn home(&self) -> &Path {
        self.home.path()
    }

    /// A path below the home.
    pub fn path(&self, name: &str) -> PathBuf {
        self.home.path().join(name)
    }

    /// A path below the shelf's data folder.
    pub fn data(&self, name: &str) -> PathBuf {
        self.path(".local/share/vivid-shelf").join(name)
    }

    /// Has Marram come from these sources instead.
    pub fn sources(&self, sources: &str) {
        let head = r#"
            name = "marram"
            title = "Marram"
            program = "marram"
            home-variable = "MARRAM_HOME"
            probe = { arguments = ["--version"], answer = "marram {version}" }
        "#;
        let sources = sources.replace("@ADDRESS@", &self.server().address());
        let file = ".config/vivid-shelf/runtimes/marram.toml";
        self.write(file, &format!("{head}\n{sources}"));
    }

    pub fn write(&self, name: &str, text: &str) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    /// A command in its own session, with the environment that every system has and no more of this machine's,
    /// and the clock that the tests are run with.
    pub fn command(&self, program: &str) -> Command {
        let mut command = process::command(program);
        command
            .env_clear()
            .env("HOME", self.home())
            .env("PATH", "/usr/bin:/bin")
            .env("SHELL", "/bin/bash")
            .env("VSHELF_TODAY", vshelf_demo::TODAY)
            .envs(
                CLOCK
                    .iter()
                    .filter_map(|name| Some((name, std::env::var_os(name)?))),
            )
            .current_dir(self.home());
        command
    }

    /// Runs the program.
    pub fn vshelf(&self, arguments: &[&str]) -> Ran {
        self.run(self.command(PROGRAM).args(arguments))
    }

    /// Runs the program and expects it to succeed.
    pub fn does(&self, arguments: &[&str]) -> Ran {
        let ran = self.vshelf(arguments);
        assert_eq!(ran.code, 0, "vshelf {arguments:?}\n{ran}");
        ran
    }

    /// Whether system calls can be tampered with here; says so where they cannot.
    pub fn can_tamper(&self) -> bool {
        let mut traced = self.strace();
        traced.args(["-o", "/dev/null", "/bin/true"]);
        let can = process::output(&mut traced).status.success();
        if !can {
            skipped("strace cannot trace here");
        }
        can
    }

    /// strace, where this machine has it.
    pub fn strace(&self) -> Command {
        let mut command = self.command("strace");
        command.env("PATH", std::env::var_os("PATH").unwrap_or_default());
        command
    }

    /// The program, or what it starts, with some of its system calls tampered with, such as
    /// `rename:error=EBUSY:when=2` (strace(1), "Tampering").
    pub fn tampered(&self, injection: &str, arguments: &[&str]) -> Ran {
        let (call, _) = injection.split_once(':').unwrap();
        let mut command = self.strace();
        command
            .args(["-f", "-qq", "-o", "/dev/null", "-e"])
            .arg(format!("trace={call}"))
            .args(["-e", &format!("inject={injection}"), PROGRAM])
            .args(arguments);
        self.run(&mut command)
    }

    /// Has a shell enter a project, as its hook does.
    pub fn enter(&self, project: &str) {
        let mut hook = self.command(PROGRAM);
        hook.args(["--quiet", "connect", "--look", "bash"])
            .current_dir(self.path(project));
        let ran = self.run(&mut hook);
        assert_eq!(ran.code, 0, "{ran}");
    }

    /// Runs a script in bash, with the hook sourced first.
    pub fn bash(&self, script: &str) -> Ran {
        self.does(&["--quiet", "connect"]);
        let script = format!("set -eu\nsource \"$HOME/.bashrc\"\n{script}");
        self.run(
            self.command("/bin/bash")
                .args(["--noprofile", "--norc", "-c", &script]),
        )
    }

    /// Runs a command and gives back all it wrote, with what differs from run to run named.
    pub fn run(&self, command: &mut Command) -> Ran {
        let output = process::output(command);
        let text = |bytes: &[u8]| self.named(&String::from_utf8_lossy(bytes));
        Ran {
            stdout: text(&output.stdout),
            stderr: text(&output.stderr),
            code: output.status.code().unwrap_or(-1),
        }
    }

    fn named(&self, text: &str) -> String {
        let text = text
            .replace(&*self.home().to_string_lossy(), "[HOME]")
            // Whoever runs the tests may be root.
            .replace(
                "This ran as root: what root installs only root can change.\n",
                "",
            )
            .replace(&self.server().address(), "[SERVER]");
        let text = masked(&text, " fetched in ", |c| c == ' ', "[TIME]");
        let text = masked(&text, " MB in ", |c| c == ' ', "[TIME]");
        masked(&text, "sha256:", |c| !c.is_ascii_hexdigit(), "[DIGEST]")
    }

    /// The installs of Marram on the shelf, as the folder shows them: of the main publisher's only the version.
    pub fn on_shelf(&self) -> Vec<String> {
        let keys = names_in(&self.data("shelf/marram"));
        let own = |key: &str| key.strip_prefix("saltmarsh-").unwrap_or(key).to_owned();
        let mut names: Vec<String> = keys.iter().map(|key| own(key)).collect();
        names.sort();
        names
    }
}

/// The text with whatever stands between `before` and a character that ends it replaced.
fn masked(text: &str, before: &str, ends: impl Fn(char) -> bool, mask: &str) -> String {
    let mut parts = text.split(before);
    let first = parts.next().unwrap_or_default().to_owned();
    parts.fold(first, |masked, part| {
        let rest = part.find(&ends).map_or("", |at| &part[at..]);
        masked + before + mask + rest
    })
}

/// The names in a folder, in order; none where there is no folder.
pub fn names_in(folder: &Path) -> Vec<String> {
    let Ok(entries) = fs::read_dir(folder) else {
        return Vec::new();
    };
    let mut names: Vec<String> = entries
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

/// Where a program is that not every machine has; it is said where it is not.
pub fn program(name: &str) -> Option<PathBuf> {
    let places = ["/usr/bin", "/bin", "/usr/local/bin", "/usr/sbin"];
    let mut programs = places.iter().map(|place| Path::new(place).join(name));
    let found = programs.find(|program| program.exists());
    if found.is_none() {
        skipped(&format!("{name} is not installed"));
    }
    found
}

/// Says something past the test runner, which keeps what passing tests print.
pub fn say(line: &str) {
    std::io::stderr().write_all(line.as_bytes()).unwrap();
}

/// Says that a test was left out, past the test runner, which keeps what passing tests print, and in
/// the list that `scripts/test` shows in its last lines. Where nothing may be left out it fails.
pub fn skipped(why: &str) {
    assert!(
        std::env::var_os("NOTHING_SKIPPED").is_none(),
        "nothing may be skipped: {why}"
    );
    let line = format!("skipped: {why}\n");
    say(&line);
    if let Some(list) = std::env::var_os("SKIPPED_LIST") {
        let list = fs::File::options().create(true).append(true).open(list);
        list.unwrap().write_all(line.as_bytes()).unwrap();
    }
}

/// Compares all that ran with what is expected; `SNAPSHOTS=overwrite` writes it anew.
#[macro_export]
macro_rules! shows {
    ($ran:expr, $expected:expr) => {
        snapbox::assert_data_eq!($ran.to_string(), $expected)
    };
}
