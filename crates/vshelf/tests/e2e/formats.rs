//! What an earlier version wrote is read as it was meant: a shelf with its history, and a project's lock, as version
//! 0.1.0 left them. A format that changes brings its own folder, and this one stays.

use std::fs;
use std::path::Path;

use snapbox::str;

use crate::scene::{PROGRAM, Scene};
use crate::shows;

/// Puts what stands in a folder of this test in the place of what is there.
fn take_over(scene: &Scene, from: &Path, to: &Path) {
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
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

#[test]
fn a_shelf_of_version_0_1_0_is_read() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "6.20.2", "8.3.0"]);
    let written = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/e2e/written_by_0_1_0");
    take_over(&scene, &written.join("data"), &scene.data(""));
    scene.write("tide-board/.marram-version", "6\n");
    let project = scene.path("tide-board");
    take_over(&scene, &written.join("tide-board"), &project);
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
Marram: 2 installs, 0.7 MB
version  phase        support ends                       size  used   newer            marks
8.3.0    lts          2029-04-30, in 2 years 5 months  0.4 MB  today  8.3.1, security
6.20.2   maintenance  2026-12-28, in 5 weeks           0.3 MB  today                   default, label workbench

"#]]
    );
    shows!(
        scene.vshelf(&["history"]),
        str![[r#"
when              version        what       why, and its packages
2026-11-23 12:00  Marram 8.3.0   installed
2026-11-23 12:00  Marram 8.3.1   removed    with kelp@2.0.0
2026-11-23 12:00  Marram 6.20.2  installed
2026-11-23 12:00  Marram 8.3.1   installed
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
label      stands for  on the shelf
workbench  6           6.20.2

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
