//! Random worlds, in which every command has to give the same answer.
//!
//! A world is a home with installs of two runtimes, projects with requirement files and locks in nested folders, a
//! default, a switch, a label, a rule, a copy of the system's, a mirror and an install that is half removed. What `status`, `require`, `path`, `run --here`,
//! `install --dry-run`, `lock --check`, `checkup` and a real shell say of it is compared, and the next command that they
//! advise is run. `WORLDS` and `SEED` in the environment choose others (`scripts/worlds`).

use std::fmt::Write;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;

use serde_json::Value;

use crate::process;
use crate::scene::{PROGRAM, Ran, Scene};

/// The number of worlds of a usual run.
const USUAL: u64 = 500;

/// The runtimes with their titles, and the keys that the shelf can have of them.
const RUNTIMES: [(&str, &str, &[&str]); 2] = [
    (
        "marram",
        "Marram",
        &[
            "saltmarsh-8.3.1",
            "saltmarsh-8.3.0",
            "saltmarsh-6.20.2",
            "dunefield-8.3.1",
        ],
    ),
    ("reed", "Reed", &["saltmarsh-8.3.1", "saltmarsh-6.20.2"]),
];

/// A sequence of numbers that looks random, for a seed (splitmix64, Steele et al. 2014).
struct Random(u64);

impl Random {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// Whether something happens that does so this often in a hundred.
    fn percent(&mut self, often: u64) -> bool {
        self.next() % 100 < often
    }

    fn of<T: Copy>(&mut self, choices: &[T]) -> T {
        let at = self.next() % choices.len() as u64;
        choices[usize::try_from(at).unwrap()]
    }
}

/// A second runtime of the same catalog with another program.
fn define_reed(scene: &Scene) {
    let marram = scene.path(".config/vivid-shelf/runtimes/marram.toml");
    let reed = fs::read_to_string(marram).unwrap();
    let reed = [
        ("\"marram", "\"reed"),
        ("Marram", "Reed"),
        (".marram", ".reed"),
        ("MARRAM", "REED"),
    ]
    .iter()
    .fold(reed, |text, (from, to)| text.replace(from, to));
    scene.write(".config/vivid-shelf/runtimes/reed.toml", &reed);
}

/// Installs, catalogs and locks that worlds take from.
struct Stock {
    scene: Scene,
    locks: Vec<String>,
}

fn stock() -> &'static Stock {
    static STOCK: OnceLock<Stock> = OnceLock::new();
    STOCK.get_or_init(|| {
        let scene = Scene::new();
        define_reed(&scene);
        scene.does(&[
            "--quiet",
            "install",
            "8.3.1",
            "8.3.0",
            "6.20.2",
            "dunefield/8.3.1",
        ]);
        for version in ["8.3.1", "6.20.2"] {
            let program = format!("builds/{version}/bin/reed");
            scene.write(&program, &format!("#!/bin/sh\necho reed {version}\n"));
            let executable = fs::Permissions::from_mode(0o755);
            fs::set_permissions(scene.path(&program), executable).unwrap();
            let build = scene.path(&format!("builds/{version}"));
            let name = format!("reed@saltmarsh/{version}");
            scene.does(&["--quiet", "adopt", &build.to_string_lossy(), "--as", &name]);
        }
        scene.does(&["--quiet", "mirror", "8.3", "6", "--to", "site"]);
        let mut locks = Vec::new();
        for selector in ["8.3.0", "8", "6", "lts"] {
            scene.write(".marram-version", selector);
            scene.does(&["--quiet", "lock"]);
            locks.push(fs::read_to_string(scene.path("vivid-shelf.lock")).unwrap());
            fs::remove_file(scene.path("vivid-shelf.lock")).unwrap();
        }
        locks.push(locks[0].replace("linux-", "darwin-"));
        // Other digests than the installs have.
        let mut pieces = locks[1].split("sha256:");
        let first = pieces.next().unwrap_or_default().to_owned();
        locks.push(pieces.fold(first, |text, piece| text + "sha256:0000" + &piece[4..]));
        locks.push("format = \"vivid-shelf-lock/2\"\n[[release]\n".to_owned());
        fs::remove_file(scene.path(".marram-version")).unwrap();
        Stock { scene, locks }
    })
}

/// A world, and the folder that commands run in.
struct World {
    scene: Scene,
    here: PathBuf,
    switches: String,
    path: String,
    /// A description for failures.
    told: String,
}

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to.parent().unwrap()).unwrap();
    let mut copying = process::command("/bin/cp");
    copying.arg("-al").arg(from).arg(to);
    assert!(process::status(&mut copying).success());
}

impl World {
    fn new(seed: u64) -> World {
        let mut random = Random(seed);
        let stock = stock();
        let mut world = World {
            scene: Scene::new(),
            here: PathBuf::new(),
            switches: String::new(),
            path: "/usr/bin:/bin".to_owned(),
            told: format!("world {seed}:"),
        };
        define_reed(&world.scene);
        for name in [".cache/vivid-shelf", ".local/share/vivid-shelf/format"] {
            copy(&stock.scene.path(name), &world.scene.path(name));
        }
        if random.percent(15) {
            let place = stock.scene.path("site/marram/marram.toml");
            let place = place.to_string_lossy();
            world.scene.does(&["--quiet", "runtimes", "--add", &place]);
            world.told += " from a mirror,";
        }
        world.put_installs(&mut random);
        world.put_projects(&mut random);
        world.set_choices(&mut random);
        world
    }

    fn write(&mut self, name: &str, text: &str) {
        self.scene.write(name, text);
        write!(self.told, "\n  {name}: {text:?}").unwrap();
    }

    fn put_installs(&mut self, random: &mut Random) {
        let stock = stock();
        for (runtime, _, keys) in RUNTIMES {
            for key in keys {
                if random.percent(if runtime == "marram" { 45 } else { 25 }) {
                    let place = format!("shelf/{runtime}/{key}");
                    copy(&stock.scene.data(&place), &self.scene.data(&place));
                    write!(self.told, " {runtime}@{key}").unwrap();
                    if random.percent(5) {
                        // A hard link to the stock's record would change that.
                        fs::remove_file(self.scene.data(&place).join("record.json")).unwrap();
                        self.told += " (without its record)";
                    }
                }
            }
        }
    }

    fn put_projects(&mut self, random: &mut Random) {
        const SELECTORS: [&str; 12] = [
            "8",
            "8.3.0",
            "8.3.1",
            "6",
            "lts",
            "stable",
            ">=6 <9",
            "9.9",
            "dunefield/8",
            "7",
            "board",
            "twenty two",
        ];
        let mut folder = String::new();
        for level in ["tide", "board", "src"] {
            folder += level;
            fs::create_dir_all(self.scene.path(&folder)).unwrap();
            let mut selector = || random.of(&SELECTORS);
            let (a, b, c, d) = (selector(), selector(), selector(), selector());
            if random.percent(30) {
                self.write(&format!("{folder}/.marram-version"), a);
            }
            if random.percent(15) {
                self.write(&format!("{folder}/.reed-version"), b);
            }
            if random.percent(15) {
                let text = if random.percent(10) {
                    "{".to_owned()
                } else {
                    format!("{{\"engines\": {{\"marram\": \"{c}\"}}}}")
                };
                self.write(&format!("{folder}/station.json"), &text);
            }
            if random.percent(15) {
                let name = random.of(&["marram", "reed", "kelp"]);
                let text = format!("[runtimes]\n{name} = \"{d}\"\n");
                self.write(&format!("{folder}/vivid-shelf.toml"), &text);
            }
            if random.percent(20) {
                let at = usize::try_from(random.next()).unwrap_or_default() % stock().locks.len();
                let lock = stock().locks[at].clone();
                self.scene
                    .write(&format!("{folder}/vivid-shelf.lock"), &lock);
                write!(self.told, "\n  {folder}/vivid-shelf.lock: number {at}").unwrap();
            }
            folder += "/";
        }
        let here = random.of(&["tide", "tide/board", "tide/board/src"]);
        self.here = self.scene.path(here);
        write!(self.told, "\n  in {here}").unwrap();
    }

    fn set_choices(&mut self, random: &mut Random) {
        if random.percent(30) {
            let system = self.scene.path("system/bin");
            let program = self.scene.path("system/bin/marram");
            self.scene
                .write("system/bin/marram", "#!/bin/sh\necho marram 5.0.0\n");
            let executable = fs::Permissions::from_mode(0o755);
            fs::set_permissions(program, executable).unwrap();
            self.path = format!("{}:{}", system.display(), self.path);
            self.told += ", a system copy";
        }
        for default in ["8.3.1", "6", "reed@6", "system"] {
            if random.percent(25) && self.vshelf(&["--quiet", "default", default]).code == 0 {
                write!(self.told, ", default {default}").unwrap();
            }
        }
        if random.percent(20) && self.vshelf(&["label", "board", "8"]).code == 0 {
            self.told += ", label board";
        }
        if random.percent(25) {
            self.switches = format!(
                "marram={}",
                random.of(&["saltmarsh-8.3.1", "saltmarsh-6.20.2", "system"])
            );
            write!(self.told, ", switched {}", self.switches).unwrap();
        }
        if random.percent(8) && self.scene.can_tamper() {
            // Killed behind the rename into the trash.
            let remove = ["remove", "marram@8.3.1", "--even-if-used"];
            let killed = self.scene.tampered("rename:signal=KILL:when=2", &remove);
            write!(self.told, ", half removed 8.3.1 ({})", killed.code).unwrap();
        }
        if random.percent(10) {
            let rule = "main-runtime = \"marram\"\n[[rules.denied]]\nruntime = \"marram\"\nversions = \"8.3.1\"\nwhy = \"tides\"\n";
            self.write(".config/vivid-shelf/shelf.toml", rule);
        }
    }

    fn command(&self, program: &str) -> Command {
        let mut command = self.scene.command(program);
        command.current_dir(&self.here).env("PATH", &self.path);
        if !self.switches.is_empty() {
            command.env("VSHELF_SWITCHED", &self.switches);
        }
        command
    }

    fn vshelf(&self, arguments: &[&str]) -> Ran {
        // The choices are made before there is a folder to be in.
        self.scene.run(self.command(PROGRAM).args(arguments))
    }

    fn reports(&self, command: &str, list: &str) -> Vec<Value> {
        let ran = self.vshelf(&[command, "--json"]);
        assert_eq!(ran.code, 0, "{}\n{command}: {ran}", self.told);
        let json: Value = serde_json::from_str(&ran.stdout).unwrap();
        json[list].as_array().unwrap().clone()
    }

    /// Compares all answers, and runs the next command of each runtime.
    fn check(&self) {
        let statuses = self.reports("status", "runtimes");
        let required = self.reports("require", "requirements");
        let named = |reports: &[Value]| -> Vec<String> {
            let names = reports.iter().map(|report| report["runtime"].to_string());
            names.collect()
        };
        assert_eq!(named(&statuses), named(&required), "{}", self.told);
        for (status, required) in statuses.iter().zip(&required) {
            let mut required = required.clone();
            required.as_object_mut().unwrap().remove("runtime");
            assert_eq!(status["required"], required, "{}", self.told);
            self.check_active(status);
        }
        self.check_shell(&statuses);
        self.check_checkup(&statuses);
        self.check_lock(&statuses);
        self.check_install(&statuses);
        self.follow_advice(&statuses);
    }

    /// `path` and `run --here` take the active version.
    fn check_active(&self, status: &Value) {
        let name = status["runtime"].as_str().unwrap();
        let active = answering(status);
        let path = self.vshelf(&["path", name, "--json"]);
        let script = format!("readlink -f \"$(command -v {name})\"");
        let ran = self.vshelf(&[
            "run",
            "--here",
            &format!("{name}@"),
            "--",
            "sh",
            "-c",
            &script,
        ]);
        let Some(active) = active else {
            assert!(
                path.code != 0 && ran.code != 0,
                "{}\n{status:#}\n{path}{ran}",
                self.told
            );
            return;
        };
        let key = serde_json::from_str::<Value>(&path.stdout).map(|path| path["key"].clone());
        assert_eq!(
            key.unwrap_or_default(),
            active,
            "{}\n{status:#}\n{path}",
            self.told
        );
        let place = match active {
            "system" => "/system/bin/".to_owned(),
            key => format!("/shelf/{name}/{}/", key.replace('/', "-")),
        };
        assert!(
            ran.stdout.contains(&place),
            "{}\n{active}\n{ran}",
            self.told
        );
    }

    /// A connected shell that enters the folder runs what is active, and reports what is missing or unusable.
    fn check_shell(&self, statuses: &[Value]) {
        let mut connect = self.scene.command(PROGRAM);
        let connected = self.scene.run(connect.args(["--quiet", "connect", "bash"]));
        assert_eq!(connected.code, 0, "{}\n{connected}", self.told);
        let names = RUNTIMES.map(|(name, ..)| name).join(" ");
        let script = format!(
            "source \"$HOOK\"\nfor name in {names}; do
             echo \"$name $(readlink -f \"$(command -v $name)\")\"\ndone"
        );
        let hook = self.scene.data("connect/shelf.bash");
        let mut bash = self.command("/bin/bash");
        bash.args(["--noprofile", "--norc", "-c", &script])
            .env("HOOK", hook);
        let ran = self.scene.run(&mut bash);
        for status in statuses {
            let name = status["runtime"].as_str().unwrap();
            let place = match answering(status) {
                None => format!("{name} \n"),
                Some("system") => format!("{name} [HOME]/system/bin/"),
                Some(key) => {
                    let key = key.replace('/', "-");
                    format!("{name} [HOME]/.local/share/vivid-shelf/shelf/{name}/{key}/build/")
                }
            };
            assert!(
                ran.stdout.contains(&place),
                "{}\n{status:#}\n{ran}",
                self.told
            );
            self.check_said(status, &ran.stderr, " requires");
        }
    }

    fn check_checkup(&self, statuses: &[Value]) {
        let ran = self.vshelf(&["checkup", "--offline"]);
        for status in statuses {
            self.check_said(status, &ran.stdout, "the project here: requires");
        }
    }

    /// A text reports what is missing of a runtime, and why its files cannot be used, if `status` does.
    fn check_said(&self, status: &Value, said: &str, requires: &str) {
        let told = format!("{}\n{status:#}\n{said}", self.told);
        let title = title_of(status["runtime"].as_str().unwrap());
        let required = &status["required"];
        let is_missing = !required["missing"].is_null();
        assert_eq!(
            said.contains(&format!("{requires} {title} ")),
            is_missing,
            "{told}"
        );
        if let Some(error) = required["error"].as_str() {
            let message = error.split(':').next().unwrap().trim_end_matches('.');
            assert!(said.contains(message), "{told}");
        }
    }

    /// Jobs may only go on if every requirement has a lock that fits.
    fn check_lock(&self, statuses: &[Value]) {
        let ran = self.vshelf(&["lock", "--check"]);
        let of_required = statuses.iter().map(|status| &status["required"]);
        let mut of_required = of_required
            .filter(|required| !required["selector"].is_null() || !required["error"].is_null());
        if ran.code == 0 {
            let all_fit = of_required.all(|required| required["lock"] == "fits");
            assert!(all_fit, "{}\n{statuses:#?}\n{ran}", self.told);
        }
    }

    /// An install brings what is missing, and nothing else.
    fn check_install(&self, statuses: &[Value]) {
        let ran = self.vshelf(&["install", "--dry-run"]);
        let mut fails = true;
        for status in statuses {
            let title = title_of(status["runtime"].as_str().unwrap());
            let required = &status["required"];
            let mentions = |end: &str| {
                let mut lines = ran.stdout.lines();
                lines.any(|line| line.starts_with(&format!("{title} ")) && line.contains(end))
            };
            let (is_there, would_come) = (
                mentions("is already installed"),
                mentions("would be installed"),
            );
            let told = format!("{}\n{status:#}\n{ran}", self.told);
            let is_named = required["offered"].as_str().is_none_or(|offered| {
                let line = format!("{title} {offered} ");
                ran.stdout.lines().any(|told| told.starts_with(&line))
            });
            assert!(is_named || ran.code != 0, "{told}");
            if !required["error"].is_null() {
                assert!(!is_there && !would_come && ran.code != 0, "{told}");
            } else if !required["undecided"].is_null() {
                // The catalog that it reads decides.
                fails &= !is_there && !would_come;
            } else if required["missing"].is_null() {
                let is_required = !required["selector"].is_null();
                // Without a catalog, the newest install counts as stable; an install reads the mirror's.
                let is_guessed = required["selector"] == "stable" && self.told.contains("a mirror");
                if is_guessed && would_come {
                    continue;
                }
                assert!(!would_come || self.told.contains("rules.denied"), "{told}");
                assert!(is_there == is_required || ran.code != 0, "{told}");
                fails &= !is_there;
            } else {
                assert!(!is_there && (would_come || ran.code != 0), "{told}");
                fails &= !would_come;
            }
        }
        assert!(
            ran.code == 0 || fails || ran.stderr.contains("Error: "),
            "{}\n{ran}",
            self.told
        );
    }

    /// The next command does what it says, or fails with a reason.
    fn follow_advice(&self, statuses: &[Value]) {
        for status in statuses {
            let next = status["required"]["next"].as_str();
            let Some(next) = next.filter(|next| !next.contains("EDITOR")) else {
                continue;
            };
            let mut advised = self.command("/bin/sh");
            let folder = Path::new(PROGRAM).parent().unwrap();
            advised.args(["-c", next]);
            advised.env("PATH", format!("{}:{}", folder.display(), self.path));
            let ran = self.scene.run(&mut advised);
            let name = &status["runtime"];
            let after = self.reports("status", "runtimes");
            let after = after.iter().find(|after| after["runtime"] == *name);
            let after = after.unwrap_or(&Value::Null);
            let told = format!("{}\n{status:#}\n{next}\n{ran}\n{after:#}", self.told);
            assert!(ran.code == 0 || ran.stderr.contains("Error: "), "{told}");
            // A lock with other digests than are published stays different, whatever is fetched, and the catalog is only
            // shown.
            let changes = !next.starts_with("vshelf catalog");
            if ran.code == 0 && changes && status["required"]["lock"] != "differs" {
                let before = &status["required"];
                assert_ne!(after["required"]["next"], before["next"], "{told}");
            }
        }
    }
}

/// The key of what has to answer, or `system`: `None` if nothing can.
fn answering(status: &Value) -> Option<&str> {
    let active = status["active"].as_str()?;
    let has_copy = !status["copies"].as_array().unwrap().is_empty();
    (active != "system" || has_copy).then_some(active)
}

fn title_of(name: &str) -> &'static str {
    let mut runtimes = RUNTIMES.iter();
    runtimes.find(|(runtime, ..)| *runtime == name).unwrap().1
}

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

#[test]
fn all_commands_give_one_answer() {
    let first = number("SEED").unwrap_or(1);
    let count = number("WORLDS").unwrap_or(USUAL);
    stock();
    let next = AtomicU64::new(first);
    thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                loop {
                    let seed = next.fetch_add(1, Ordering::Relaxed);
                    if seed >= first + count {
                        return;
                    }
                    World::new(seed).check();
                }
            });
        }
    });
}
