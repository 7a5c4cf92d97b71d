//! Renewing lines and carrying packages, with what goes wrong on the way.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use snapbox::str;
use vshelf_demo::server::Fault;

use crate::faults::SmallDisk;
use crate::scene::{PROGRAM, Scene, names_in};
use crate::shows;

/// Two lines behind their newest release: the default with a label, and one with packages.
fn behind() -> Scene {
    let scene = Scene::with_faults(&[]);
    scene.does(&["--quiet", "install", "8.3.0"]);
    scene.does(&["--quiet", "install", "6.20.1"]);
    scene.does(&["label", "board", "6"]);
    for package in ["kelp@2.0.0", "sand@1.1.0"] {
        scene.does(&["run", "6.20.1", "--", "tussock", "add", package]);
    }
    scene
}

fn packages(scene: &Scene, version: &str) -> String {
    scene
        .does(&["run", version, "--", "tussock", "list"])
        .stdout
}

#[test]
fn lines_move_with_their_packages_labels_and_the_default() {
    let scene = behind();
    shows!(
        scene.does(&["renew"]),
        str![[r#"
Marram: 2 lines to renew
line  phase        from    to      why       packages  what follows  old release
8     lts          8.3.0   8.3.1   security            default       removed
6     maintenance  6.20.1  6.20.2  security  2         label board   removed
--- stderr
To carry it out: vshelf renew --yes

"#]]
    );
    assert_eq!(scene.on_shelf(), ["6.20.1", "8.3.0"]);
    shows!(scene.does(&["--quiet", "renew", "--yes"]), str![""]);
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.1"]);
    assert_eq!(packages(&scene, "board"), "kelp 2.0.0\nsand 1.1.0\n");
    let again = scene.does(&["renew", "--yes"]).stdout;
    assert_eq!(again, "Every line on the shelf has its newest release.\n");
    // And back, should the new one not be what was hoped for.
    scene.does(&["restore", "8.3.0"]);
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.0", "8.3.1"]);
}

#[test]
fn a_label_on_an_exact_release_stays_on_it() {
    let scene = behind();
    scene.does(&["label", "board", "6.20.1"]);
    shows!(
        scene.does(&["renew", "6", "--yes"]),
        str![[r#"
Marram: 1 line to renew
line  phase        from    to      why       packages  old release
6     maintenance  6.20.1  6.20.2  security  2         stays: label board
Marram 6.20.2 is on the shelf.
Marram 6.20.1 to 6.20.2: 2 packages
package     result
kelp@2.0.0  installed
sand@1.1.0  installed
Marram 6.20.1 stays: label board.
--- stderr
Fetching Marram 6.20.2 (0.2 MB).
Installing kelp.
Installing sand.

"#]]
    );
    assert_eq!(scene.on_shelf(), ["6.20.1", "6.20.2", "8.3.0"]);
    let label = scene.does(&["label", "board"]).stdout;
    assert_eq!(label, "board stands for 6.20.1, which is on the shelf.\n");
}

#[test]
fn one_line_or_the_old_releases_can_be_kept() {
    let scene = behind();
    scene.does(&["default", "8"]);
    scene.does(&["renew", "8", "--keep-old", "--yes"]);
    assert_eq!(scene.on_shelf(), ["6.20.1", "8.3.0", "8.3.1"]);
    // A selector that moves by itself stays what it was.
    let default = scene.does(&["default", "--json"]).stdout;
    assert!(default.contains("\"selector\": \"8\""), "{default}");
    let nothing = scene.vshelf(&["renew", "9"]);
    assert_eq!(nothing.code, 3, "{nothing}");
}

#[test]
fn projects_keep_what_they_ask_for_unless_they_are_moved_too() {
    let scene = behind();
    scene.write("tide-board/.marram-version", "6.20.1\n");
    scene.enter("tide-board");
    let ran = scene.does(&["renew", "6", "--yes"]);
    let stays = "~/tide-board/.marram-version requires 6.20.1, which stays for it; --requirements changes it too.";
    assert!(ran.stderr.contains(stays), "{ran}");
    assert!(
        ran.stdout
            .contains("Marram 6.20.1 stays: required by tide-board."),
        "{ran}"
    );
    scene.does(&["remove", "6.20.2"]);
    let ran = scene.does(&["renew", "6", "--yes", "--requirements"]);
    assert!(
        ran.stdout
            .contains("~/tide-board/.marram-version now requires 6.20.2."),
        "{ran}"
    );
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.0"]);
    let pin = fs::read_to_string(scene.path("tide-board/.marram-version")).unwrap();
    assert_eq!(pin, "6.20.2\n");
}

#[test]
fn the_shell_that_uses_the_old_release_goes_on_with_the_new() {
    let scene = behind();
    let script = "vshelf --quiet switch 6.20.1 >/dev/null
        vshelf --quiet renew 6 --yes >/dev/null
        marram --version
        vshelf list | grep -c '^6.20.1' || true";
    assert_eq!(scene.bash(script).stdout, "marram 6.20.2\n0\n");
}

#[test]
fn the_previous_version_is_named_with_its_successor_after_a_renewal() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0", "6.2.10"]);
    let script = "vshelf switch 6.2.10; vshelf switch 8.3.0; vshelf --quiet renew --yes
        vshelf switch - || vshelf switch 6.20.2; marram --version";
    let ran = scene.bash(script);
    let told =
        "Error: Marram 6.2.10 was renewed to 6.20.2.\n  To switch to that: vshelf switch 6.20.2\n";
    assert!(ran.stderr.contains(told), "{ran}");
    assert!(ran.stdout.ends_with("marram 6.20.2\n"), "{ran}");
}

#[test]
fn a_default_that_stands_for_a_line_stays_one() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0"]);
    scene.does(&["default", "8"]);
    let listed = scene.does(&["list"]).stderr;
    assert!(
        listed.contains("To renew the line: vshelf renew 8\n"),
        "{listed}"
    );
    let ran = scene.bash("vshelf install 8.3.1");
    let hint = "To make it the default: vshelf default 8\n";
    assert!(ran.stderr.contains(hint), "{ran}");
}

#[test]
fn a_failure_leaves_the_old_release_in_place() {
    let scene = behind();
    scene.does(&["catalog"]);
    scene.server().misbehave(&[Fault::WrongBytes]);
    let ran = scene.vshelf(&["renew", "8", "--yes"]);
    assert_eq!(ran.code, 5, "{ran}");
    assert!(
        ran.stderr.contains("Marram 8.3.0 stays as it was."),
        "{ran}"
    );
    assert_eq!(scene.on_shelf(), ["6.20.1", "8.3.0"]);
    let default = scene.does(&["path", "default", "--json"]).stdout;
    assert!(default.contains("8.3.0"), "{default}");
    scene.server().misbehave(&[]);
    // A package that does not come keeps the old release: it may be all there is of it.
    let list = scene.data("shelf/marram/saltmarsh-6.20.1/build/lib/marram/packages/Not A Name");
    fs::write(list, "1\n").unwrap();
    let ran = scene.vshelf(&["renew", "6", "--yes"]);
    assert_eq!(ran.code, 1, "{ran}");
    assert!(
        ran.stderr
            .contains("Error: 1 package could not be installed."),
        "{ran}"
    );
    let stays = "Marram 6.20.1 stays, so that its packages are not lost.";
    assert!(ran.stderr.contains(stays), "{ran}");
    assert_eq!(scene.on_shelf(), ["6.20.1", "6.20.2", "8.3.0"]);
    assert_eq!(packages(&scene, "6.20.2"), "kelp 2.0.0\nsand 1.1.0\n");
}

#[test]
fn packages_that_cannot_be_listed_are_not_given_up() {
    let scene = behind();
    scene.does(&["default", "6.20.1"]);
    let tool = scene.data("shelf/marram/saltmarsh-6.20.1/build/bin/tussock");
    fs::set_permissions(&tool, fs::Permissions::from_mode(0o644)).unwrap();
    let ran = scene.vshelf(&["renew", "6", "--yes"]);
    assert_eq!(ran.code, 1, "{ran}");
    assert!(ran.stdout.contains("6.20.2  security  unknown"), "{ran}");
    assert!(
        ran.stderr
            .contains("tussock of 6.20.1 does not list its packages"),
        "{ran}"
    );
    let stays = "Marram 6.20.1 stays, so that its packages are not lost.";
    assert!(ran.stderr.contains(stays), "{ran}");
    // What stood for it stands for it still, until the renewal is given again.
    assert_eq!(scene.on_shelf(), ["6.20.1", "6.20.2", "8.3.0"]);
    fs::set_permissions(&tool, fs::Permissions::from_mode(0o755)).unwrap();
    scene.does(&["renew", "6", "--yes"]);
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.0"]);
    assert_eq!(packages(&scene, "board"), "kelp 2.0.0\nsand 1.1.0\n");
}

#[test]
fn a_switch_says_once_which_packages_stay_behind() {
    let scene = Scene::new();
    let file = ".config/vivid-shelf/runtimes/marram.toml";
    let text = fs::read_to_string(scene.path(file)).unwrap();
    let found = "[packages]\nfound = [\"lib/marram/packages/{name}\"]";
    scene.write(file, &text.replace("[packages]", found));
    scene.does(&["--quiet", "install", "8.3.0", "6.20.1"]);
    scene.does(&["run", "8.3.0", "--", "tussock", "add", "sand"]);
    let ran =
        scene.bash("for version in 8.3.0 6.20.1 8.3.0 6.20.1; do vshelf switch $version; done");
    let told = "1 package of 8.3.0 is not in 6.20.1; to carry it over: vshelf carry 8.3.0 6.20.1\n";
    assert_eq!(ran.stderr.matches(told).count(), 1, "{ran}");
    assert_eq!(ran.stderr.matches("vshelf carry").count(), 1, "{ran}");
}

#[test]
fn packages_are_carried_on_demand_and_told_one_by_one() {
    let scene = behind();
    scene.does(&["run", "8.3.0", "--", "tussock", "add", "sand@3.0.0"]);
    shows!(
        scene.does(&["carry", "board", "8", "--dry-run"]),
        str![[r#"
Marram 6.20.1 to 8.3.0: 2 packages
package     result              why
kelp@2.0.0  would be installed
sand@1.1.0  already there       as 3.0.0

"#]]
    );
    assert_eq!(packages(&scene, "8"), "sand 3.0.0\n");
    let bad = scene.data("shelf/marram/saltmarsh-6.20.1/build/lib/marram/packages/UPPER");
    fs::write(bad, "1.0.0\n").unwrap();
    shows!(
        scene.vshelf(&["--quiet", "carry", "6", "8"]),
        str![[r#"
--- stderr
Error: 1 package could not be installed.
  To try again: vshelf run 8.3.0 -- tussock add UPPER@1.0.0
--- exit 1

"#]]
    );
    let json = scene.vshelf(&["carry", "6", "8", "--json"]).stdout;
    let report: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(report["packages"][1]["outcome"], "already-there");
    scene.does(&["install", "9", "--carry-from", "8"]);
    assert_eq!(packages(&scene, "9"), "kelp 2.0.0\nsand 3.0.0\n");
}

#[test]
fn what_cannot_be_carried_is_said_before_anything_is_done() {
    let scene = behind();
    for (arguments, code, words) in [
        (&["carry", "8", "8"][..], 2, "both selectors mean 8.3.0"),
        (&["carry", "8", "9"], 3, "is not on the shelf"),
        (
            &["install", "9", "--carry-from", "4"],
            3,
            "is not on the shelf",
        ),
        (
            &["install", "9", "4", "--carry-from", "8"],
            2,
            "--carry-from takes one selector",
        ),
    ] {
        let ran = scene.vshelf(arguments);
        assert_eq!(ran.code, code, "{ran}");
        assert!(ran.stderr.contains(words), "{ran}");
    }
    // A tool that does not start is told of.
    let tool = scene.data("shelf/marram/saltmarsh-6.20.1/build/bin/tussock");
    fs::set_permissions(&tool, fs::Permissions::from_mode(0o644)).unwrap();
    let ran = scene.vshelf(&["carry", "6", "8"]);
    assert_eq!(ran.code, 1, "{ran}");
    assert!(
        ran.stderr
            .contains("tussock of 6.20.1 does not list its packages"),
        "{ran}"
    );
    assert_eq!(scene.on_shelf(), ["6.20.1", "8.3.0"]);
}

#[test]
fn only_the_very_same_build_comes_back() {
    let scene = behind();
    scene.does(&["remove", "6.20.1"]);
    // What is offered now is another archive.
    let history = scene.data("history.jsonl");
    let text = fs::read_to_string(&history).unwrap();
    let digest = text.rsplit_once("\"digest\":\"sha256:").unwrap().1[..64].to_owned();
    fs::write(&history, text.replace(&digest, &"0".repeat(64))).unwrap();
    let ran = scene.vshelf(&["restore"]);
    assert_eq!(ran.code, 5, "{ran}");
    assert!(
        ran.stderr
            .contains("Marram 6.20.1 is now offered with a different digest"),
        "{ran}"
    );
    assert_eq!(scene.on_shelf(), ["8.3.0"]);
    // Nor does anything else come from a source that it did not come from.
    let from_gone = text.replace("\"source\":\"stand-in\"", "\"source\":\"gone\"");
    fs::write(&history, from_gone.replace(&digest, &"0".repeat(64))).unwrap();
    let ran = scene.vshelf(&["restore"]);
    assert_eq!(ran.code, 3, "{ran}");
    assert!(
        ran.stderr
            .contains("Marram 6.20.1 is no longer offered by gone"),
        "{ran}"
    );
    // The same bytes are the same build, whichever source gives them.
    fs::write(&history, from_gone).unwrap();
    scene.does(&["restore"]);
    assert_eq!(scene.on_shelf(), ["6.20.1", "8.3.0"]);
}

#[test]
fn the_list_has_its_orders_and_status_reminds_once_a_day() {
    let scene = behind();
    scene.does(&["--quiet", "install", "4"]);
    let first = |arguments: &[&str]| {
        let list = scene
            .does(&[&["--quiet", "list"], arguments].concat())
            .stdout;
        let row = list.lines().nth(2).unwrap().to_owned();
        row.split_whitespace().next().unwrap().to_owned()
    };
    let mut tomorrow = scene.command(PROGRAM);
    tomorrow
        .args(["run", "6", "--", "true"])
        .env("VSHELF_TODAY", "2026-11-24");
    assert_eq!(scene.run(&mut tomorrow).code, 0);
    fs::write(
        scene.data("shelf/marram/saltmarsh-4.8.3/build/big"),
        vec![0; 900_000],
    )
    .unwrap();
    assert_eq!(first(&[]), "8.3.0");
    assert_eq!(first(&["--size"]), "4.8.3");
    shows!(
        scene.does(&["tidy", "--dry-run"]),
        str![[r#"
Marram: 1 of 3 installs to remove
version  phase          size  used   plan    why
8.3.0    lts          0.4 MB  today  renew   8.3.1 fixes a security problem; default
6.20.1   maintenance  0.3 MB  today  renew   6.20.2 fixes a security problem; label board
4.8.3    ended        0.2 MB  today  remove  support ended on 2024-04-30, 2 years 6 months ago
This moves 0.2 MB to the trash for 14 days.
--- stderr
To get security releases that are out: vshelf renew

"#]]
    );
    let reminder = "On the shelf: 1 install of an ended line and 2 installs without a security \
                    release; to see them: vshelf tidy --dry-run";
    let reminds = |day: &str| {
        let mut status = scene.command(PROGRAM);
        let ran = scene.run(status.arg("status").env("VSHELF_TODAY", day));
        ran.stderr.contains(reminder)
    };
    assert!(reminds("2026-11-23") && !reminds("2026-11-23") && reminds("2026-11-24"));
    let settings = "main-runtime = \"marram\"\nreminders = false\n";
    scene.write(".config/vivid-shelf/shelf.toml", settings);
    assert!(!reminds("2026-11-25"));
}

#[test]
fn a_full_disk_leaves_the_old_release_active() {
    let scene = behind();
    let Some(small) = SmallDisk::mount(&scene, "700k") else {
        return;
    };
    let data = small.path.join("data");
    let run = |arguments: &[&str]| {
        let mut command = scene.command(PROGRAM);
        scene.run(command.args(arguments).env("VSHELF_DATA", &data))
    };
    assert_eq!(run(&["--quiet", "install", "8.3.0"]).code, 0);
    let ran = run(&["renew", "--yes"]);
    assert_eq!(ran.code, 6, "{ran}");
    assert!(
        ran.stderr
            .contains("The disk is full; nothing was changed."),
        "{ran}"
    );
    assert_eq!(
        run(&["run", "default", "--", "marram", "--version"]).stdout,
        "marram 8.3.0\n"
    );
    assert_eq!(names_in(&data.join("shelf/marram")), ["saltmarsh-8.3.0"]);
    assert_eq!(names_in(&data.join("staging")), Vec::<String>::new());
}
