//! What an earlier version wrote is read as it was meant: a shelf with its history, and a project's lock, as version
//! 0.1.0 left them. A format that changes brings its own folder, and this one stays.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

use snapbox::str;

use crate::kills::{keep, reset};
use crate::scene::{PROGRAM, Scene};
use crate::shows;

/// Copies what version 0.1.0 wrote, over what is there.
fn take_over(scene: &Scene, from: &Path, to: &Path) {
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let target = to.join(entry.file_name());
        if entry.file_type().unwrap().is_symlink() {
            symlink(fs::read_link(entry.path()).unwrap(), target).unwrap();
        } else if entry.path().is_dir() {
            fs::create_dir_all(&target).unwrap();
            take_over(scene, &entry.path(), &target);
        } else {
            let text = fs::read_to_string(entry.path()).unwrap();
            let text = text
                .replace("[HOME]", &scene.home().to_string_lossy())
                .replace("[SERVER]", &scene.server().address());
            fs::write(target, text).unwrap();
        }
    }
}

/// A home as version 0.1.0 left it: three installs, a default, a label, one install that is kept, and one in
/// the trash with a package. The builds are those of this version, where that one put them.
fn written_by_0_1_0() -> Scene {
    let scene = Scene::new();
    let installs = ["6.20.2", "8.3.0", "dunefield/8.3.1", "8.3.1"];
    scene.does(&[&["--quiet", "install"][..], &installs].concat());
    scene.does(&["run", "8.3.1", "--", "tussock", "add", "kelp@2.0.0"]);
    let old = scene.path("old");
    for (key, former) in [
        ("saltmarsh-6.20.2", "shelf/marram/6.20.2"),
        ("saltmarsh-8.3.0", "shelf/marram/8.3.0"),
        ("dunefield-8.3.1", "shelf/marram/dunefield-8.3.1"),
        ("saltmarsh-8.3.1", "trash/marram/8.3.1"),
    ] {
        fs::create_dir_all(old.join(former)).unwrap();
        let build = scene.data("shelf/marram").join(key).join("build");
        fs::rename(build, old.join(former).join("build")).unwrap();
    }
    fs::remove_dir_all(scene.data("")).unwrap();
    fs::rename(old, scene.data("")).unwrap();
    let written = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/e2e/written_by_0_1_0");
    take_over(&scene, &written.join("data"), &scene.data(""));
    scene.write("tide-board/.marram-version", "6\n");
    take_over(
        &scene,
        &written.join("tide-board"),
        &scene.path("tide-board"),
    );
    scene
}

#[test]
fn a_shelf_of_version_0_1_0_is_read() {
    let scene = written_by_0_1_0();
    let project = scene.path("tide-board");
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
Marram: 3 installs, 1.0 MB
version          phase        support ends                       size  used   newer            marks
dunefield/8.3.1  lts          2029-04-30, in 2 years 5 months  0.4 MB  today
8.3.0            lts          2029-04-30, in 2 years 5 months  0.4 MB  today  8.3.1, security  label kept-saltmarsh-8.3.0
6.20.2           maintenance  2026-12-28, in 5 weeks           0.3 MB  today                   default, label workbench

"#]]
    );
    shows!(
        scene.vshelf(&["history"]),
        str![[r#"
when              version                 what       why, and its packages
2026-11-23 12:00  Marram 8.3.1            removed    with kelp@2.0.0
2026-11-23 12:00  Marram 8.3.0            installed
2026-11-23 12:00  Marram dunefield/8.3.1  installed
2026-11-23 12:00  Marram 6.20.2           installed
2026-11-23 12:00  Marram 8.3.1            installed
--- stderr
To get back what the last command removed: vshelf restore

"#]]
    );
    shows!(
        scene.vshelf(&["checkup"]),
        str![[r#"
~/.bashrc: does not connect new shells
  To fix it: vshelf connect
--- stderr
Error: the checkup has 1 finding.
--- exit 1

"#]]
    );
    shows!(
        scene.vshelf(&["label"]),
        str![[r#"
label                 stands for       on the shelf
kept-saltmarsh-8.3.0  saltmarsh/8.3.0  8.3.0
workbench             6                6.20.2

"#]]
    );
    let mut check = scene.command(PROGRAM);
    check.args(["lock", "--check"]).current_dir(&project);
    shows!(
        scene.run(&mut check),
        str![[r#"
All that is required here is locked in ~/tide-board/vivid-shelf.lock.

"#]]
    );
}

#[test]
fn former_paths_keep_working() {
    let scene = written_by_0_1_0();
    // A shell that 0.1.0 switched.
    let mut status = scene.command(PROGRAM);
    let former = scene.data("shelf/marram/8.3.0/build/bin");
    status
        .args(["status"])
        .env("VSHELF_SWITCHED", "marram=8.3.0")
        .env("PATH", format!("{}:/usr/bin:/bin", former.display()));
    let ran = scene.run(&mut status);
    assert!(
        ran.stdout
            .starts_with("Marram 8.3.0 is active here: this shell was switched to it.\n"),
        "{ran}"
    );
    // A path in a script or in the settings of an editor.
    let program = scene.data("shelf/marram/8.3.0/build/bin/marram");
    let ran = scene.run(scene.command(program.to_str().unwrap()).arg("--version"));
    assert_eq!(ran.stdout, "marram 8.3.0\n");
    // The entry in the trash comes back with its packages, and the mark of a kept install is a label now.
    scene.does(&["restore", "8.3.1"]);
    let packages = scene.does(&["run", "8.3.1", "--", "tussock", "list"]);
    assert_eq!(packages.stdout, "kelp 2.0.0\n");
    let plan = scene.does(&["tidy"]).stdout;
    assert!(plan.contains("label kept-saltmarsh-8.3.0"), "{plan}");
    // A link goes with its install.
    scene.does(&["label", "--remove", "kept-saltmarsh-8.3.0"]);
    scene.does(&["remove", "8.3.0"]);
    assert!(!scene.data("shelf/marram/8.3.0").is_symlink());
    scene.does(&["checkup", "8.3.1", "6.20.2"]);
}

#[test]
fn a_migration_killed_anywhere_is_resumed() {
    let scene = written_by_0_1_0();
    if !scene.can_tamper() {
        return;
    }
    let kept = tempfile::tempdir().unwrap();
    keep(&scene, kept.path());
    let seen = || {
        let commands = [
            &["list", "--json"][..],
            &["default"],
            &["label"],
            &["history"],
        ];
        commands.map(|arguments| scene.vshelf(arguments).to_string())
    };
    let expected = seen();
    let mut kills = 0;
    for call in [
        "rename",
        "renameat2",
        "symlink",
        "unlink",
        "mkdir",
        "fsync",
        "write",
    ] {
        for time in 1.. {
            reset(&scene, kept.path());
            let injection = format!("{call}:signal=KILL:when={time}");
            if scene.tampered(&injection, &["list"]).code == 0 {
                break;
            }
            kills += 1;
            assert_eq!(seen(), expected, "killed at {call} {time}");
            let links = ["6.20.2", "8.3.0"].map(|name| scene.data("shelf/marram").join(name));
            assert!(links.iter().all(|link| link.is_symlink()), "{call} {time}");
            scene.does(&["restore", "8.3.1"]);
            let packages = scene.does(&["run", "8.3.1", "--", "tussock", "list"]);
            assert_eq!(packages.stdout, "kelp 2.0.0\n", "killed at {call} {time}");
        }
    }
    assert!(kills > 20, "{kills} kills are too few");
}
