//! Every hint is a command that works here and now: each one that these scenes print is run, each in
//! a copy of the home that it was printed in.

use std::path::Path;

use rstest::rstest;

use crate::process;
use crate::scene::{PROGRAM, Ran, Scene};

/// The commands of ours that an output ends its lines with.
fn hints(ran: &Ran) -> Vec<String> {
    let text = format!("{}{}", ran.stdout, ran.stderr);
    let behind = text.lines().filter_map(|line| {
        let (_, command) = line.rsplit_once(": ")?;
        (command.starts_with("vshelf ") || command.starts_with("source "))
            .then(|| command.to_owned())
    });
    behind.collect()
}

/// Runs a hint with the home as it is now, and gives what it changed back.
fn outcome(scene: &Scene, folder: &str, hint: &str) -> Ran {
    let aside = scene.home().with_extension("aside");
    let copy = |from: &Path, to: &Path| {
        let copied = process::status(process::command("cp").arg("-a").args([from, to]));
        assert!(copied.success());
    };
    copy(scene.home(), &aside);
    // The program is found by its name alone, as a person types it.
    let script = format!(
        "PATH={}:$PATH\n{hint}",
        Path::new(PROGRAM).parent().unwrap().display()
    );
    let mut shell = scene.command("/bin/bash");
    shell.args(["--norc", "-c", &script]);
    let ran = scene.run(shell.current_dir(scene.path(folder)));
    std::fs::remove_dir_all(scene.home()).unwrap();
    copy(&aside, scene.home());
    std::fs::remove_dir_all(&aside).unwrap();
    ran
}

/// A shelf with a default, a label, a project, something outdated and something removed.
fn home() -> Scene {
    let scene = Scene::new();
    scene.does(&[
        "--quiet",
        "install",
        "8.3.0",
        "6.20.1",
        "4",
        "dunefield/8.3.1",
    ]);
    scene.does(&["label", "board", "6.20.1"]);
    scene.write("tide-board/.marram-version", "9\n");
    scene.write("buoy-api/.marram-version", "6.20.1\n");
    scene.does(&["--quiet", "remove", "4"]);
    scene
}

#[rstest]
#[case("", &["list"])]
#[case("", &["status"])]
#[case("tide-board", &["status"])]
#[case("buoy-api", &["status"])]
#[case("", &["default"])]
#[case("", &["default", "8"])]
#[case("", &["catalog"])]
#[case("", &["catalog", "8"])]
#[case("", &["catalog", "8.3.1"])]
#[case("", &["catalog", "zostera"])]
#[case("", &["catalog", "8.99"])]
#[case("", &["catalog", "marram@lts/eelgrass"])]
#[case("", &["history"])]
#[case("", &["tidy", "--dry-run"])]
#[case("", &["tidy"])]
#[case("", &["tidy", "--yes"])]
#[case("", &["renew"])]
#[case("", &["renew", "--yes"])]
#[case("", &["install", "8.3.1"])]
#[case("", &["install", "6.99"])]
#[case("", &["install", "dunefield/10"])]
#[case("", &["install"])]
#[case("tide-board", &["install"])]
#[case("tide-board", &["require"])]
#[case("", &["require"])]
#[case("", &["require", "7"])]
#[case("tide-board", &["require", "6"])]
#[case("", &["label", "old", "3"])]
#[case("", &["label", "gone"])]
#[case("", &["remove", "8.3.0"])]
#[case("", &["remove", "8.3.0", "--even-if-used"])]
#[case("", &["remove", "77"])]
#[case("", &["restore", "9.9.9"])]
#[case("", &["restore"])]
#[case("", &["switch", "8"])]
#[case("", &["run", "9", "--", "marram"])]
#[case("", &["path", "9"])]
#[case("", &["use", "8"])]
#[case("", &["ls"])]
#[case("", &["which"])]
#[case("", &["run", "8.3.0", "marram", "--version"])]
#[case("", &["runtimes"])]
#[case("", &["connect"])]
#[case("", &["timeline", "nothing"])]
#[case("", &["config"])]
fn each_hint_does_what_it_says(#[case] folder: &str, #[case] command: &[&str]) {
    let scene = home();
    let mut program = scene.command(PROGRAM);
    let ran = scene.run(program.args(command).current_dir(scene.path(folder)));
    for hint in hints(&ran) {
        assert!(!hint.contains("SELECTOR"), "{hint}\n{ran}");
        let hint_ran = outcome(&scene, folder, &hint);
        // A switch needs a connected shell, and a checkup may find something.
        let is_fine = match hint.split(' ').nth(1) {
            Some("switch") => [0, 7].contains(&hint_ran.code),
            Some("checkup") => [0, 1].contains(&hint_ran.code),
            _ => hint_ran.code == 0,
        };
        assert!(is_fine, "{command:?}\n{ran}\n{hint}\n{hint_ran}");
    }
}

#[test]
fn the_scenes_print_hints() {
    let scene = home();
    let printed = hints(&scene.vshelf(&["catalog", "8.3.1"]));
    assert_eq!(
        printed,
        ["vshelf install 8.3.1", "vshelf catalog dunefield/8.3.1"]
    );
}

#[test]
fn a_release_that_the_requirement_does_not_cover_is_not_said_to_help() {
    let scene = home();
    let mut status = scene.command(PROGRAM);
    let ran = scene.run(status.arg("status").current_dir(scene.path("buoy-api")));
    let require = "That is not covered here; to require it: vshelf require 6.20.2\n";
    assert!(ran.stderr.contains(require), "{ran}");
    scene.write("buoy-api/.marram-version", "6\n");
    let mut status = scene.command(PROGRAM);
    let ran = scene.run(status.arg("status").current_dir(scene.path("buoy-api")));
    assert!(
        ran.stderr.contains("To get it: vshelf install 6.20.2\n"),
        "{ran}"
    );
}
