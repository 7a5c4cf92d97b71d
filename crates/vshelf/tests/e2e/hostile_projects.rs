//! Projects that were cloned from somebody hostile: whatever their files say, no program runs that the
//! publisher's sources do not vouch for.
//!
//! Each case is a project. Every command that acts on a project's files is given in it, with and without a
//! company's rules, and shells enter it that install what a project requires. A hostile archive leaves a file behind
//! when anything in it is started.

use std::fs;
use std::os::unix::fs::{PermissionsExt, chown, symlink};
use std::path::{Path, PathBuf};

use flate2::Compression;
use flate2::write::GzEncoder;

use crate::process;
use crate::scene::{PROGRAM, Scene, names_in, program};

/// The file that a hostile program leaves in the home.
const TRACE: &str = "hostile-program-ran";

/// The project's folder.
const PROJECT: &str = "board";

/// A home with a project whose lock names 8.3.1, and a hostile archive that looks like it.
struct Home {
    scene: Scene,
    /// The lock that `vshelf lock` wrote.
    lock: String,
    /// The digest of this platform's archive in it.
    good: String,
    /// The digest of the hostile archive.
    evil: String,
    archive: PathBuf,
}

/// A change by a hostile author, as the text of the lock.
type Change = fn(&Home) -> String;

impl Home {
    fn new() -> Home {
        let scene = Scene::new();
        scene.write(&format!("{PROJECT}/.marram-version"), "lts\n");
        scene.write(
            ".config/vivid-shelf/shelf.toml",
            "main-runtime = \"marram\"\nfollowing = \"install\"\n",
        );
        let mut lock = scene.command(PROGRAM);
        lock.arg("lock").current_dir(scene.path(PROJECT));
        let ran = scene.run(&mut lock);
        assert_eq!(ran.code, 0, "{ran}");
        let lock = fs::read_to_string(scene.path(&format!("{PROJECT}/vivid-shelf.lock"))).unwrap();
        let archive = hostile_archive(&scene);
        let good = digest_for(&lock, "linux-x64");
        let evil = format!("sha256:{}", sha256(&archive));
        // The person agreed before that what is required here is installed.
        let folder = serde_json::json!({ "folder": scene.path(PROJECT) });
        scene.write(
            ".local/share/vivid-shelf/installing.jsonl",
            &format!("{folder}\n"),
        );
        Home {
            scene,
            lock,
            good,
            evil,
            archive,
        }
    }

    /// The lock of version 0.1.0's format, with this digest and an address.
    fn former(&self, digest: &str, address: &str) -> String {
        let size = fs::metadata(&self.archive).unwrap().len();
        format!(
            "format = \"vivid-shelf-lock/1\"\n[[release]]\nruntime = \"marram\"\nrequired = \"lts\"\n\
             release = \"8.3.1\"\npublisher = \"saltmarsh\"\narchives = [\n  {{ platform = \"linux-x64\", \
             digest = \"{digest}\", size = {size}, source = \"stand-in\", address = \"{address}\" }},\n]\n"
        )
    }

    /// The good lock with lines of another table at its end.
    fn with(&self, lines: &str) -> String {
        format!("{}{lines}\n", self.lock)
    }

    /// The good lock with a text replaced.
    fn edited(&self, from: &str, to: &str) -> String {
        assert!(self.lock.contains(from), "{from}: {}", self.lock);
        self.lock.replace(from, to)
    }

    /// The good lock with a companion.
    fn companion(&self, package: &str, rest: &str) -> String {
        self.with(&format!(
            "companions = [{{ package = \"{package}\", version = \"1.0.0\", digest = \"{}\"{rest} }}]",
            self.evil
        ))
    }

    /// The address of the hostile archive.
    fn address(&self) -> String {
        self.archive.display().to_string()
    }

    /// The path of a file of the project.
    fn file(&self, name: &str) -> PathBuf {
        self.scene.path(PROJECT).join(name)
    }

    /// Empties the shelf and resets the project.
    fn reset(&self) {
        for folder in [
            "shelf",
            "trash",
            "state",
            "default",
            "staging",
            "statements",
        ] {
            fs::remove_dir_all(self.scene.data(folder)).unwrap_or_default();
        }
        fs::remove_file(self.scene.data("history.jsonl")).unwrap_or_default();
        fs::remove_dir_all(self.scene.path(PROJECT)).unwrap();
        self.scene
            .write(&format!("{PROJECT}/.marram-version"), "lts\n");
    }

    /// Gives the commands that act on a project's files. Returns what ran.
    fn acts(&self, company: bool) -> Vec<String> {
        let mut all: Vec<Vec<String>> = Vec::new();
        let own = [
            vec!["install"],
            vec!["install", "--locked"],
            vec!["run", "--yes", "--here", "--", "marram", "--version"],
        ];
        for arguments in own {
            let mut line = vec![PROGRAM.to_owned()];
            line.extend(arguments.into_iter().map(str::to_owned));
            all.push(line);
        }
        for (shell, option) in [("bash", "--norc"), ("zsh", "-f"), ("fish", "--no-config")] {
            let dialect: vshelf_shell::Dialect = shell.parse().unwrap();
            let hook = vshelf_shell::connection::integration_file(dialect);
            let Some(shell) = program(shell) else {
                continue;
            };
            let hook = self.scene.data("connect").join(hook);
            let hook = hook.display();
            let script = format!("source '{hook}'; cd {PROJECT}; __vshelf_look; marram --version");
            all.push(vec![
                shell.display().to_string(),
                option.to_owned(),
                "-c".to_owned(),
                script,
            ]);
        }
        let mut shown = Vec::new();
        for line in all {
            let mut command = self.scene.command(&line[0]);
            command.args(&line[1..]);
            if line[0] == PROGRAM {
                command.current_dir(self.scene.path(PROJECT));
            }
            if company {
                command.env("VSHELF_COMPANY", self.scene.path("company"));
            }
            let ran = self.scene.run(&mut command);
            shown.push(format!("{line:?}\n{ran}"));
        }
        shown
    }

    /// Fails if a hostile program ran, or if what is on the shelf is not what the sources have.
    fn check(&self, name: &str, shown: &[String]) {
        let shown = shown.join("\n");
        assert!(
            !self.scene.path(TRACE).exists(),
            "{name}: a hostile program ran\n{shown}"
        );
        for key in names_in(&self.scene.data("shelf/marram")) {
            let record = self.scene.data(&format!("shelf/marram/{key}/record.json"));
            let record = fs::read_to_string(record).unwrap();
            assert!(
                !record.contains(&self.evil),
                "{name}: {key} is hostile\n{shown}"
            );
            let packages = format!("shelf/marram/{key}/build/lib/marram/packages");
            let packages = names_in(&self.scene.data(&packages));
            assert!(packages.is_empty(), "{name}: {packages:?}\n{shown}");
        }
    }
}

/// An archive whose programs leave a trace when they are started.
fn hostile_archive(scene: &Scene) -> PathBuf {
    let trace = scene.path(TRACE);
    let script = format!(
        "#!/bin/sh\ntouch '{}'\necho marram 8.3.1\n",
        trace.display()
    );
    let mut tar = tar::Builder::new(GzEncoder::new(Vec::new(), Compression::fast()));
    for name in [
        "marram-8.3.1/bin/marram",
        "marram-8.3.1/bin/tussock",
        "marram-8.3.1/bin/sh",
    ] {
        let mut header = tar::Header::new_gnu();
        header.set_mode(0o755);
        header.set_size(script.len() as u64);
        tar.append_data(&mut header, name, script.as_bytes())
            .unwrap();
    }
    let bytes = tar.into_inner().unwrap().finish().unwrap();
    let path = scene.path("elsewhere/marram-8.3.1.tar.gz");
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(&path, bytes).unwrap();
    path
}

fn sha256(file: &Path) -> String {
    let output = process::output(process::command("sha256sum").arg(file));
    let text = String::from_utf8(output.stdout).unwrap();
    text.split(' ').next().unwrap().to_owned()
}

/// The digest of a platform's archive in a lock.
fn digest_for(lock: &str, platform: &str) -> String {
    let line = lock
        .lines()
        .find(|line| line.contains(&format!("\"{platform}\"")))
        .unwrap();
    let (_, rest) = line.split_once("digest = \"").unwrap();
    rest.split('"').next().unwrap().to_owned()
}

/// The digest of the archive of another release.
fn digest_of(home: &Home, selector: &str) -> String {
    let mut card = home.scene.command(PROGRAM);
    let card = process::output(card.args(["catalog", selector, "--json"]));
    let text = String::from_utf8(card.stdout).unwrap();
    let at = text.find("sha256:").unwrap();
    text[at..at + 71].to_owned()
}

const DIGESTS_AND_ADDRESSES: &[(&str, Change)] = &[
    ("former format, a path", |home| {
        home.former(&home.evil, &home.address())
    }),
    ("former format, a file URL", |home| {
        home.former(&home.evil, &format!("file://{}", home.address()))
    }),
    (
        "former format, the good digest at a hostile address",
        |home| home.former(&home.good, &home.address()),
    ),
    ("former format, another source", |home| {
        home.former(&home.evil, &home.address())
            .replace("stand-in", "elsewhere")
    }),
    ("former format, mirrors", |home| {
        home.former(&home.evil, &home.address()).replace(
            "size = ",
            &format!("mirrors = [\"{}\"], size = ", home.address()),
        )
    }),
    ("a hostile digest", |home| {
        home.edited(&home.good, &home.evil)
    }),
    ("a hostile digest with an address", |home| {
        let archive = format!("\"{}\", address = \"{}\"", home.evil, home.address());
        home.edited(&format!("\"{}\"", home.good), &archive)
    }),
    ("a hostile digest and its source", |home| {
        home.edited(&home.good, &home.evil)
            + &format!(
                "\n[[sources]]\nname = \"stand-in\"\nkind = \"folder\"\naddress = \"{}\"\n",
                home.address()
            )
    }),
    ("a hostile digest in front of the good one", |home| {
        let both = format!(
            "{}\" }},\n  {{ platform = \"linux-x64\", digest = \"{}",
            home.evil, home.good
        );
        home.edited(&home.good, &both)
    }),
    (
        "a hostile digest of the exact platform beside the good one",
        |home| {
            let both = format!(
                "{}\" }},\n  {{ platform = \"linux-x64-gnu\", digest = \"{}",
                home.good, home.evil
            );
            home.edited(&home.good, &both)
        },
    ),
    ("the digest of another release", |home| {
        home.edited(&home.good, &digest_of(home, "8.3.0"))
    }),
    ("the digest of another platform", |home| {
        home.edited(&home.good, &digest_for(&home.lock, "linux-arm64"))
    }),
    ("the digest of another publisher's build", |home| {
        home.edited(&home.good, &digest_of(home, "dunefield/8.3.1"))
    }),
    ("a digest of nothing", |home| {
        home.edited(&home.good, &format!("sha256:{}", "0".repeat(64)))
    }),
    ("a weak digest", |home| {
        home.edited(&home.good, &format!("md5:{}", "0a".repeat(16)))
    }),
    ("a digest of the other kind", |home| {
        home.edited(&home.good, &format!("sha512:{}", "0a".repeat(64)))
    }),
    ("no archives", |home| {
        let (head, rest) = home.lock.split_once("archives = [").unwrap();
        let (_, rest) = rest.split_once("\n]").unwrap();
        format!("{head}archives = []{rest}")
    }),
    ("no archive for this platform", |home| {
        home.edited("\"linux-x64\"", "\"linux-riscv64\"")
    }),
    ("a source in place of a build", |home| {
        home.edited("\"linux-x64\"", "\"source\"")
            .replace(&home.good, &home.evil)
    }),
];

const COMPANIONS_AND_PACKAGES: &[(&str, Change)] = &[
    ("a companion", |home| home.companion("evil", "")),
    ("a companion with an address", |home| {
        home.companion("evil", &format!(", address = \"{}\"", home.address()))
    }),
    ("a companion that replaces the shell", |home| {
        let rest = format!(
            ", address = \"{}\", folder = \"lib/evil\", programs = {{ \"bin/sh\" = \"bin/sh\" }}",
            home.address()
        );
        home.companion("evil", &rest)
    }),
    ("a companion that leads out of the install", |home| {
        home.companion(
            "evil",
            ", folder = \"../../..\", programs = { \"../sh\" = \"../sh\" }",
        )
    }),
    ("a companion named as the package tool", |home| {
        home.companion("tussock", "")
    }),
    ("a companion with a scope", |home| {
        home.companion("@evil/kelp", "")
    }),
    ("a companion named as an option", |home| {
        home.companion("--registry=http://gull.example", "")
    }),
    ("a companion in the former format", |home| {
        home.former(&home.good, &home.address())
            + &format!(
                "companions = [{{ package = \"evil\", version = \"1.0.0\", digest = \"{}\", address = \"{}\", \
                 folder = \"lib/evil\", programs = {{ \"bin/sh\" = \"bin/sh\" }} }}]\n",
                home.evil,
                home.address()
            )
    }),
    ("a package", |home| home.with("packages = [\"evil@1.0.0\"]")),
    ("a package with a scope", |home| {
        home.with("packages = [\"@evil/kelp@1.0.0\"]")
    }),
    ("a package without a version", |home| {
        home.with("packages = [\"evil\"]")
    }),
    ("a package by a tag", |home| {
        home.with("packages = [\"evil@latest\"]")
    }),
    ("a package from a repository", |home| {
        home.with("packages = [\"git+https://gull.example/evil\"]")
    }),
    ("a package from a path", |home| {
        home.with(&format!("packages = [\"{}\"]", home.address()))
    }),
    ("a package from a relative path", |home| {
        home.with("packages = [\"../elsewhere\"]")
    }),
    ("a package from an address", |home| {
        home.with("packages = [\"kelp@https://gull.example/kelp.tgz\"]")
    }),
    ("another registry", |home| {
        home.with("packages = [\"--registry=http://gull.example\"]")
    }),
    ("an option", |home| home.with("packages = [\"--prefix=/\"]")),
    ("two packages in one", |home| {
        home.with("packages = [\"kelp@1.0.0 evil@1.0.0\"]")
    }),
    ("a package with a line break", |home| {
        home.with("packages = [\"kelp@1.0.0\\n--global\"]")
    }),
    ("patches", |home| {
        home.with(&format!("patches = [\"{}\"]", home.evil))
    }),
];

const NAMES_AND_REQUIREMENTS: &[(&str, Change)] = &[
    ("another publisher in the key", |home| {
        home.edited("\"8.3.1\"", "\"dunefield/8.3.1\"")
    }),
    ("another publisher", |home| {
        home.edited("\"saltmarsh\"", "\"dunefield\"")
            .replace(&home.good, &home.evil)
    }),
    ("an unknown publisher", |home| {
        home.edited("\"saltmarsh\"", "\"evil\"")
    }),
    ("the publisher of what is adopted", |home| {
        home.edited("\"saltmarsh\"", "\"adopted\"")
    }),
    ("a publisher in other letters", |home| {
        home.edited("\"saltmarsh\"", "\"Saltmarsh\"")
    }),
    ("a publisher that is a path", |home| {
        home.edited("\"saltmarsh\"", "\"../saltmarsh\"")
    }),
    ("no publisher", |home| home.edited("\"saltmarsh\"", "\"\"")),
    ("a publisher with a line break", |home| {
        home.edited("\"saltmarsh\"", "\"salt\\nmarsh\"")
    }),
    ("a version that is a path", |home| {
        home.edited("\"8.3.1\"", "\"../8.3.1\"")
    }),
    ("a version with another build", |home| {
        home.edited("\"8.3.1\"", "\"8.3.1+evil\"")
    }),
    ("a version in another spelling", |home| {
        home.edited("\"8.3.1\"", "\"08.3.1\"")
    }),
    ("a part of a version", |home| {
        home.edited("\"8.3.1\"", "\"8.3\"")
    }),
    ("a version that nobody published", |home| {
        home.edited("\"8.3.1\"", "\"8.3.77\"")
    }),
    ("a runtime in other letters", |home| {
        home.edited("\"marram\"", "\"MARRAM\"")
    }),
    ("a runtime that is a path", |home| {
        home.edited("\"marram\"", "\"../marram\"")
    }),
    ("a second release of the runtime", |home| {
        let (_, release) = home.lock.split_once("[[release]]").unwrap();
        home.with(&format!(
            "[[release]]{}",
            release.replace(&home.good, &home.evil)
        ))
    }),
    ("a word that the release cannot mean", |home| {
        home.edited("\"8.3.1\"", "\"5.2.1\"")
            .replace(&home.good, &digest_of(home, "5.2.1"))
    }),
    ("equal texts that the release does not meet", |home| {
        fs::write(home.file(".marram-version"), "9\n").unwrap();
        home.edited("\"lts\"", "\"9\"")
    }),
    ("a format of later", |home| home.edited("lock/2", "lock/9")),
    ("a merge that was not finished", |home| {
        home.edited("[[release]]", "<<<<<<< ours\n[[release]]")
    }),
];

const NEIGHBOURS: &[(&str, Change)] = &[
    ("a lock of five million bytes", |home| {
        home.with(&"# tides\n".repeat(700_000))
    }),
    ("a lock of many tables", |home| {
        home.with(&"[[release]]\n".repeat(200_000))
    }),
    ("a lock that is not text", |home| {
        home.edited("lts", "\u{0}")
    }),
    ("a lock that is a link", |home| {
        let elsewhere = home.scene.path("elsewhere/vivid-shelf.lock");
        fs::write(&elsewhere, home.edited(&home.good, &home.evil)).unwrap();
        symlink(elsewhere, home.file("vivid-shelf.lock")).unwrap();
        String::new()
    }),
    ("a lock that is a folder", |home| {
        fs::create_dir(home.file("vivid-shelf.lock")).unwrap();
        String::new()
    }),
    ("a lock that is a device", |home| {
        symlink("/dev/zero", home.file("vivid-shelf.lock")).unwrap();
        String::new()
    }),
    ("a lock that is a pipe", |home| {
        let pipe = home.file("vivid-shelf.lock");
        assert!(
            process::output(process::command("mkfifo").arg(pipe))
                .status
                .success()
        );
        String::new()
    }),
    ("a requirement that is a link", |home| {
        fs::remove_file(home.file(".marram-version")).unwrap();
        symlink("/etc/hostname", home.file(".marram-version")).unwrap();
        home.lock.clone()
    }),
    ("a requirement of many bytes", |home| {
        fs::write(home.file(".marram-version"), "8".repeat(100_000)).unwrap();
        home.lock.clone()
    }),
    ("a requirement that is a command", |home| {
        let command = format!("$(touch {})\n", home.scene.path(TRACE).display());
        fs::write(home.file(".marram-version"), command).unwrap();
        String::new()
    }),
    ("settings in the project", |home| {
        let settings = format!(
            "[addresses]\n\"marram.stand-in\" = \"{}\"\n",
            home.address()
        );
        for file in [
            "shelf.toml",
            "vivid-shelf.toml",
            ".config/vivid-shelf/shelf.toml",
        ] {
            home.scene.write(&format!("{PROJECT}/{file}"), &settings);
        }
        home.edited(&home.good, &home.evil)
    }),
    ("a definition in the project", |home| {
        let definition = vshelf_demo::definition(&home.address());
        for folder in [
            "runtimes",
            ".vivid-shelf/runtimes",
            ".config/vivid-shelf/runtimes",
        ] {
            home.scene
                .write(&format!("{PROJECT}/{folder}/marram.toml"), &definition);
        }
        home.edited(&home.good, &home.evil)
    }),
    ("a package tool's settings in the project", |home| {
        home.scene.write(
            &format!("{PROJECT}/.npmrc"),
            "registry=http://gull.example\n",
        );
        home.edited(&home.good, &home.evil)
    }),
    ("a lock that everybody can replace", |home| {
        fs::set_permissions(home.scene.path(PROJECT), fs::Permissions::from_mode(0o777)).unwrap();
        home.edited(&home.good, &home.evil)
    }),
];

/// Tries every case, and that each command does what it should in a project that is not hostile.
fn try_all(cases: &[(&str, Change)]) {
    let home = Home::new();
    for shell in ["bash", "zsh", "fish"] {
        home.scene.does(&["--quiet", "connect", shell]);
    }
    home.scene.write(
        "company/shelf.toml",
        "[rules]\nsources = [\"marram.stand-in\"]\n",
    );
    // A good project is followed by every command, so that a bad one is refused for what is bad about it.
    home.reset();
    fs::write(home.file("vivid-shelf.lock"), &home.lock).unwrap();
    for shown in home.acts(true) {
        let (_, ran) = shown.split_once('\n').unwrap();
        assert!(ran.contains("8.3.1") && !ran.contains("Error"), "{shown}");
    }
    for (name, change) in cases {
        for company in [false, true] {
            home.reset();
            let lock = change(&home);
            if !lock.is_empty() {
                fs::write(home.file("vivid-shelf.lock"), lock).unwrap();
            }
            let shown = home.acts(company);
            home.check(name, &shown);
        }
    }
}

#[test]
fn locks_choose_no_digests_and_no_addresses() {
    try_all(DIGESTS_AND_ADDRESSES);
}

#[test]
fn locks_choose_no_companions_and_no_packages() {
    try_all(COMPANIONS_AND_PACKAGES);
}

#[test]
fn locks_choose_no_names_and_meet_what_is_required() {
    try_all(NAMES_AND_REQUIREMENTS);
}

#[test]
fn files_beside_a_lock_choose_no_bytes() {
    try_all(NEIGHBOURS);
}

/// The archive would run if a command took it.
#[test]
fn the_hostile_archive_leaves_a_trace() {
    let home = Home::new();
    home.scene
        .does(&["adopt", &home.address(), "--as", "marram@8.3.1"]);
    assert!(home.scene.path(TRACE).exists());
}

/// An install that was adopted under the locked name is not what is locked, and neither is a changed one.
#[test]
fn installs_are_compared_with_the_lock() {
    let home = Home::new();
    let there = |arguments: &[&str]| {
        let mut command = home.scene.command(PROGRAM);
        command
            .args(arguments)
            .current_dir(home.scene.path(PROJECT));
        home.scene.run(&mut command)
    };
    home.scene
        .does(&["adopt", &home.address(), "--as", "marram@saltmarsh/8.3.1"]);
    let ran = there(&["install", "--locked"]);
    assert_eq!(ran.code, 7, "{ran}");
    assert!(
        ran.stderr.contains("is not what is locked: it was adopted"),
        "{ran}"
    );
    assert!(ran.stderr.contains("vshelf remove 8.3.1"), "{ran}");
    home.scene.does(&["remove", "8.3.1", "--even-if-used"]);
    assert_eq!(there(&["install", "--locked"]).code, 0);
    fs::write(
        home.scene
            .data("shelf/marram/saltmarsh-8.3.1/build/bin/marram"),
        "#!/bin/sh\n",
    )
    .unwrap();
    let ran = there(&["install", "--locked"]);
    assert!(ran.stderr.contains("bin/marram was changed"), "{ran}");
    home.scene.does(&["install", "8.3.1", "--again"]);
    assert_eq!(there(&["install", "--locked", "--offline"]).code, 0);
    // A record from before there was a ledger proves nothing until a source states its digest.
    fs::remove_dir_all(home.scene.data("statements")).unwrap();
    fs::remove_dir_all(home.scene.path(".cache/vivid-shelf")).unwrap();
    assert_ne!(there(&["install", "--locked", "--offline"]).code, 0);
    assert_eq!(there(&["install", "--locked"]).code, 0);
    assert_eq!(there(&["install", "--locked", "--offline"]).code, 0);
    // So a lock from then and the bytes that it chose do not vouch for each other.
    let both = format!(
        "{}\" }},\n  {{ platform = \"linux-x64\", digest = \"{}",
        home.evil, home.good
    );
    fs::write(
        home.file("vivid-shelf.lock"),
        home.edited(&home.good, &both),
    )
    .unwrap();
    let record = home.scene.data("shelf/marram/saltmarsh-8.3.1/record.json");
    let text = fs::read_to_string(&record).unwrap();
    fs::write(&record, text.replace(&home.good, &home.evil)).unwrap();
    let ran = there(&["install", "--locked"]);
    assert_eq!(ran.code, 7, "{ran}");
    assert!(ran.stderr.contains("no source states its archive"), "{ran}");
    let ran = home.scene.vshelf(&["checkup", "8.3.1"]);
    assert!(
        ran.stdout
            .contains("comes from an archive that no source states"),
        "{ran}"
    );
}

/// Files that another user put into a shared folder count for nobody, and a lock among them is no missing lock.
#[test]
fn files_of_another_user_in_a_shared_folder_do_not_count() {
    let home = Home::new();
    let shared = home.scene.path("shared");
    fs::create_dir(&shared).unwrap();
    fs::set_permissions(&shared, fs::Permissions::from_mode(0o1777)).unwrap();
    let there = |arguments: &[&str]| {
        let mut command = home.scene.command(PROGRAM);
        command.args(arguments).current_dir(shared.join("own"));
        home.scene.run(&mut command)
    };
    fs::create_dir(shared.join("own")).unwrap();
    let (requirement, lock) = (
        shared.join(".marram-version"),
        shared.join("vivid-shelf.lock"),
    );
    fs::write(&requirement, "lts\n").unwrap();
    fs::write(&lock, &home.lock).unwrap();
    assert_eq!(there(&["lock", "--check"]).code, 0);
    const NOBODY: u32 = 65534;
    if chown(&lock, Some(NOBODY), None).is_err() {
        // Only the administrator gives files away.
        fs::set_permissions(&shared, fs::Permissions::from_mode(0o777)).unwrap();
    }
    for arguments in [
        vec!["install"],
        vec!["install", "--locked"],
        vec!["run", "--yes", "--here", "--", "marram", "--version"],
    ] {
        let ran = there(&arguments);
        assert_eq!(ran.code, 7, "{ran}");
        assert!(
            ran.stderr
                .contains("~/shared/vivid-shelf.lock does not count: "),
            "{ran}"
        );
        assert!(ran.stderr.contains("trusted-folders = ["), "{ran}");
    }
    assert!(home.scene.on_shelf().is_empty());
    let trusted = format!("main-runtime = \"marram\"\ntrusted-folders = [{shared:?}]\n");
    home.scene.write(".config/vivid-shelf/shelf.toml", &trusted);
    assert_eq!(there(&["install", "--locked"]).code, 0);
    home.scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"marram\"\n",
    );
    // A requirement alone is passed over, and a checkup says so.
    fs::remove_file(&lock).unwrap();
    if chown(&requirement, Some(NOBODY), None).is_ok() {
        let ran = there(&["require"]);
        assert!(
            ran.stderr.contains(
                "~/shared/.marram-version does not count: it belongs to the user with the id 65534"
            ),
            "{ran}"
        );
    }
}
