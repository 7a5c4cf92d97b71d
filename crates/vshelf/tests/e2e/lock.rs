//! `vshelf lock`: one machine writes down what a requirement came to, and all others install just that.

use std::fs;

use crate::process;
use crate::scene::{PROGRAM, Ran, Scene};
use crate::shows;
use snapbox::str;

/// A home with a project that requires the newest long-term release, and what runs a command there.
struct Project {
    scene: Scene,
}

impl Project {
    fn new() -> Project {
        let project = Project {
            scene: Scene::new(),
        };
        project.scene.write("board/.marram-version", "lts\n");
        project
    }

    /// The same project on another machine, which has nothing on its shelf.
    fn elsewhere(&self) -> Project {
        let other = Project::new();
        other.scene.write("board/vivid-shelf.lock", &self.lock());
        other
    }

    fn vshelf(&self, arguments: &[&str]) -> Ran {
        let mut command = self.scene.command(PROGRAM);
        command
            .args(arguments)
            .current_dir(self.scene.path("board"));
        self.scene.run(&mut command)
    }

    fn does(&self, arguments: &[&str]) -> Ran {
        let ran = self.vshelf(arguments);
        assert_eq!(ran.code, 0, "{ran}");
        ran
    }

    fn lock(&self) -> String {
        fs::read_to_string(self.scene.path("board/vivid-shelf.lock")).unwrap()
    }

    /// Has the lock say something else.
    fn edit(&self, from: &str, to: &str) {
        let text = self.lock();
        assert!(text.contains(from), "{text}");
        self.scene
            .write("board/vivid-shelf.lock", &text.replace(from, to));
    }

    /// Fails unless a command fails so.
    fn told(&self, arguments: &[&str], code: i32, all: &[&str]) {
        let ran = self.vshelf(arguments);
        assert_eq!(ran.code, code, "{ran}");
        for text in all {
            assert!(ran.stderr.contains(text), "{text}: {ran}");
        }
    }
}

#[test]
fn what_is_locked_is_what_every_machine_installs() {
    let project = Project::new();
    project.told(
        &["lock", "--check"],
        7,
        &[
            "Marram is required, and not locked.",
            "To lock it: vshelf lock",
        ],
    );
    project.told(
        &["install", "--locked"],
        7,
        &["Marram is required, and not locked."],
    );
    shows!(
        project.does(&["lock"]),
        str![[r#"
version       required  platforms
Marram 8.3.1  lts       darwin-arm64, darwin-x64, linux-arm64, linux-x64
~/board/vivid-shelf.lock was written.
--- stderr
To install what is locked: vshelf install --locked

"#]]
    );
    // What is written is the same a second time, and has a line for each archive.
    let text = project.lock();
    assert!(project.does(&["lock"]).stdout.contains("is as it was."));
    assert_eq!(project.lock(), text);
    assert_eq!(text.matches("\n  { platform = ").count(), 4);

    // Elsewhere the catalog may not even answer: nothing is asked for but the bytes.
    let other = project.elsewhere();
    let definition = ".config/vivid-shelf/runtimes/marram.toml";
    let address = other.scene.server().address();
    let text = fs::read_to_string(other.scene.path(definition)).unwrap();
    let unreachable = text.replace(&address, "http://127.0.0.1:9");
    other.scene.write(definition, &unreachable);
    let ran = other.does(&["install", "--locked"]);
    assert!(
        ran.stderr
            .contains("~/board/vivid-shelf.lock requires Marram saltmarsh/8.3.1."),
        "{ran}"
    );
    assert_eq!(other.scene.on_shelf(), ["8.3.1"]);
    // What is there is there, without a network.
    other.does(&["--offline", "install", "--locked"]);
    other.does(&["lock", "--check"]);
}

#[test]
fn a_lock_that_does_not_meet_the_requirement_any_more_stops_until_it_does() {
    let project = Project::new();
    project.does(&["lock"]);
    project.scene.write("board/.marram-version", "9\n");
    let told = [
        "Marram 8.3.1 is locked, and is not what is required now.",
        "It is locked in ~/board/vivid-shelf.lock, and ~/board/.marram-version requires 9.",
        "To lock what is required now: vshelf lock",
    ];
    project.told(&["install"], 7, &told);
    project.told(&["install", "--locked"], 7, &told);
    project.told(&["lock", "--check"], 7, &told);
    assert!(project.scene.on_shelf().is_empty());
    project.scene.does(&["install", "6"]);
    let checkup = project.vshelf(&["checkup"]).stdout;
    let found = "the project here: Marram 8.3.1 is locked, and is not what is required now\n  To fix it: vshelf lock\n";
    assert!(checkup.contains(found), "{checkup}");
    let ran = project.does(&["lock"]);
    assert!(
        ran.stdout.contains("Marram 9.2.0  9         8.3.1"),
        "{ran}"
    );
    // A range that has what is locked is met by it.
    project.scene.write("board/.marram-version", ">=8 <10\n");
    project.does(&["lock", "--check"]);
    // What nothing requires any more says nothing.
    fs::remove_file(project.scene.path("board/.marram-version")).unwrap();
    project.told(&["lock"], 2, &["no project here requires a version"]);
}

#[test]
fn locked_releases_stay_until_they_are_renewed() {
    let project = Project::new();
    project.scene.write("board/.marram-version", "8.3.0\n");
    project.does(&["lock"]);
    project.scene.write("board/.marram-version", "8\n");
    let ran = project.does(&["lock"]);
    assert!(ran.stdout.contains("Marram 8.3.0  8 "), "{ran}");
    project.told(
        &["lock", "--renew", "sedge"],
        3,
        &["sedge is not required here", "vshelf require"],
    );
    let ran = project.does(&["lock", "--renew", "marram"]);
    assert!(
        ran.stdout.contains("Marram 8.3.1  8         8.3.0"),
        "{ran}"
    );
    let ran = project.does(&["explain", "8"]);
    let locked = "The project here requires it, and is locked to 8.3.1 (~/board/vivid-shelf.lock).";
    assert!(ran.stdout.contains(locked), "{ran}");
    // A renewal of the shelf takes the lock along where that is asked for.
    project.edit("8.3.1", "8.3.0");
    project.scene.does(&["install", "8.3.0"]);
    project.does(&["require"]);
    project.does(&["lock", "--renew"]);
    assert!(project.lock().contains("release = \"8.3.1\""));
}

#[test]
fn renewing_a_line_renews_the_locks_that_have_it() {
    let project = Project::new();
    project.scene.write("board/.marram-version", "8.3.0\n");
    project.does(&["lock"]);
    project.does(&["install"]);
    let ran = project.does(&["renew", "8", "--requirements", "--yes"]);
    assert!(
        ran.stdout
            .contains("~/board/.marram-version says 8.3.1 now.")
            && ran
                .stdout
                .contains("~/board/vivid-shelf.lock has 8.3.1 now."),
        "{ran}"
    );
    project.does(&["lock", "--check"]);
    project.does(&["--offline", "install", "--locked"]);
    assert_eq!(project.scene.on_shelf(), ["8.3.1"]);
    let status = project.does(&["status"]).stdout;
    let place = "required   ~/board/vivid-shelf.lock, line 5, as it is locked";
    assert!(status.contains(place), "{status}");
}

#[test]
fn connected_shells_follow_the_locked_release() {
    let project = Project::new();
    project.scene.write("board/.marram-version", "8.3.0\n");
    project.does(&["lock"]);
    project.scene.write("board/.marram-version", "8\n");
    project.does(&["lock"]);
    project.scene.does(&["install", "8.3.0", "8.3.1", "9"]);
    project.scene.does(&["default", "9"]);
    project.scene.does(&["connect", "--shell", "bash"]);
    let script = "set -e; source ~/.bashrc; cd ~/board; eval \"$PROMPT_COMMAND\"; marram --version
        sed -i 's/8.3.0/8.3.1/' vivid-shelf.lock; eval \"$PROMPT_COMMAND\"; marram --version
        echo 9 >.marram-version; eval \"$PROMPT_COMMAND\"; marram --version; cd ~; eval \"$PROMPT_COMMAND\"; marram --version";
    let mut bash = project.scene.command("/bin/bash");
    bash.args(["--norc", "-ic", script]);
    let ran = project.scene.run(&mut bash);
    let answers: Vec<&str> = ran
        .stdout
        .lines()
        .filter(|line| line.starts_with("marram "))
        .collect();
    assert_eq!(
        answers,
        [
            "marram 8.3.0",
            "marram 8.3.1",
            "marram 9.2.0",
            "marram 9.2.0"
        ],
        "{ran}"
    );
    // What is locked and not met is told.
    assert!(
        ran.stderr
            .contains("is locked, and is not what is required now"),
        "{ran}"
    );
}

#[test]
fn other_platforms_are_locked_as_well() {
    let project = Project::new();
    let ran = project.does(&["lock", "--platform", "linux-arm64-gnu"]);
    assert!(
        ran.stdout.contains("Marram 8.3.1  lts       linux-arm64\n"),
        "{ran}"
    );
    if cfg!(all(target_os = "linux", target_arch = "x86_64")) {
        project.told(
            &["install", "--locked"],
            7,
            &[
                "Marram 8.3.1 is locked without an archive for linux-x64-",
                "vshelf lock --renew marram --platform linux-x64-",
            ],
        );
        project.told(
            &["lock", "--check"],
            7,
            &["without an archive for linux-x64-"],
        );
    }
    project.told(
        &["lock", "--platform", "tides"],
        2,
        &["\"tides\" is not a platform"],
    );
}

#[test]
fn what_a_lock_says_is_verified() {
    let project = Project::new();
    project.does(&["lock"]);
    let digest = |text: &str| {
        let at = text.rfind("sha256:").unwrap();
        text[at..at + 71].to_owned()
    };
    // Another digest than the bytes have.
    let good = digest(&project.lock());
    let other = project.elsewhere();
    other.edit(&good, &format!("sha256:{}", "0a".repeat(32)));
    let ran = other.vshelf(&["install", "--locked"]);
    assert_eq!(ran.code, 5, "{ran}");
    assert!(other.scene.on_shelf().is_empty());

    // An address that does not answer: another source of the publisher may have the same bytes.
    let other = project.elsewhere();
    other.edit(&other.scene.server().address(), "http://127.0.0.1:9");
    other.does(&["install", "--locked"]);
    assert_eq!(other.scene.on_shelf(), ["8.3.1"]);

    // A release that was withdrawn since is installed, and that is said.
    let other = project.elsewhere();
    // As it is, and not as this suite shows it.
    let mut card = other.scene.command(PROGRAM);
    let card = process::output(card.args(["catalog", "8.2.1", "--json"]));
    other.edit(&good, &digest(&String::from_utf8(card.stdout).unwrap()));
    other.edit("8.3.1", "8.2.1");
    other.scene.write("board/.marram-version", "8\n");
    let ran = other.does(&["install", "--locked"]);
    let withdrawn = "Marram 8.2.1 is locked, and was withdrawn: loses readings at midnight.";
    assert!(ran.stderr.contains(withdrawn), "{ran}");

    for (from, to, code, told) in [
        (
            "lock/1",
            "lock/2",
            3,
            "its format is \"vivid-shelf-lock/2\", which is newer than this program",
        ),
        (
            "[[release]]",
            "<<<<<<< ours\n[[release]]",
            3,
            "line 4: a merge left both versions here",
        ),
        (
            "\"stand-in\"",
            "\"gone\"",
            7,
            "locked from the source gone, which its definition does not have",
        ),
        (
            "publisher =",
            "published-by =",
            3,
            "it is not understood: missing field `publisher`",
        ),
    ] {
        let other = project.elsewhere();
        other.edit(from, to);
        other.told(&["install", "--locked"], code, &[told]);
        assert!(other.scene.on_shelf().is_empty());
        // All but what a newer program wrote can be locked anew.
        let renewed = other.vshelf(&["lock", "--renew"]);
        assert_eq!(renewed.code == 0, to != "lock/2", "{to}: {renewed}");
    }
}

#[test]
fn of_two_locks_that_of_the_nearest_requirement_counts() {
    let project = Project::new();
    project.does(&["lock"]);
    project.scene.write("board/deep/.marram-version", "6\n");
    let there = |arguments: &[&str]| {
        let mut command = project.scene.command(PROGRAM);
        command
            .args(arguments)
            .current_dir(project.scene.path("board/deep"));
        project.scene.run(&mut command)
    };
    // The inner requirement is not locked by the outer lock.
    let ran = there(&["lock", "--check"]);
    assert_eq!(ran.code, 7, "{ran}");
    let ran = there(&["lock"]);
    assert!(
        ran.stdout
            .contains("~/board/deep/vivid-shelf.lock was written."),
        "{ran}"
    );
    let ran = there(&["install", "--locked"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert_eq!(project.scene.on_shelf(), ["6.20.2"]);
    // The outer one is as it was.
    project.does(&["lock", "--check"]);
}

#[test]
fn packages_of_every_install_are_locked_too() {
    let project = Project::new();
    let settings = "main-runtime = \"marram\"\n[packages.always]\nmarram = [\"kelp@1.4.2\"]\n";
    project
        .scene
        .write(".config/vivid-shelf/shelf.toml", settings);
    project.does(&["lock"]);
    assert!(
        project
            .lock()
            .contains("packages = [\n  \"kelp@1.4.2\",\n]\n")
    );
    // A person without that setting gets them with what is locked, and only with that.
    let other = project.elsewhere();
    let ran = other.does(&["install", "--locked"]);
    assert!(ran.stdout.contains("kelp@1.4.2"), "{ran}");
    let tussock = process::output(
        process::command(
            other
                .scene
                .data("shelf/marram/saltmarsh-8.3.1/build/bin/tussock"),
        )
        .arg("list"),
    );
    assert!(String::from_utf8_lossy(&tussock.stdout).contains("kelp"));
    let ran = other.does(&["install", "9"]);
    assert!(!ran.stdout.contains("kelp"), "{ran}");
}

#[test]
fn what_is_installed_on_the_way_is_what_is_locked() {
    let project = Project::new();
    project.does(&["lock"]);
    let other = project.elsewhere();
    let run = ["run", "--here", "--install", "--", "marram", "--version"];
    assert_eq!(other.does(&run).stdout, "marram 8.3.1\n");
    // Bytes that are not those of the lock are refused, whatever the catalog says.
    let third = project.elsewhere();
    let digest = third.lock();
    let (_, digest) = digest.split_once("sha256:").unwrap();
    third.edit(&digest[..8], "00000000");
    third.told(&run, 5, &["is not what its catalog promises"]);
}
