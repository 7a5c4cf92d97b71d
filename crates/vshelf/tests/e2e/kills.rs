//! Killed with SIGKILL at many system calls: whatever is half done, the next command recovers.

use crate::scene::{Scene, names_in};

/// The calls at which a command is killed: those that change something on the disk, and those that
/// start what does.
const CALLS: [&str; 15] = [
    "openat",
    "write",
    "mkdir",
    "mkdirat",
    "rename",
    "renameat2",
    "unlink",
    "unlinkat",
    "symlink",
    "fsync",
    "syncfs",
    "flock",
    "execve",
    "close",
    "read",
];

/// At the how-many-th of such a call.
const TIMES: [u32; 9] = [1, 2, 3, 4, 6, 9, 14, 30, 60];

/// Runs a command until its `time`-th `call`, or that of a thread or program that it started, where
/// that one is killed; says whether it came so far.
fn killed_at(scene: &Scene, arguments: &[&str], call: &str, time: u32) -> bool {
    let injection = format!("{call}:signal=KILL:when={time}");
    scene.tampered(&injection, arguments).code != 0
}

/// Whatever is on the shelf is whole.
fn is_sound(scene: &Scene, after: &str) {
    let ran = scene.vshelf(&["checkup", "--json", "--offline"]);
    let report: serde_json::Value = serde_json::from_str(&ran.stdout).unwrap();
    let findings = report["findings"].as_array().unwrap();
    // A default that was killed away is a finding with a mend; a damaged install never is one.
    let of_installs = findings.iter().find(|finding| {
        let about = finding["about"].as_str().unwrap();
        about.starts_with("Marram ") || about.contains("/shelf/")
    });
    assert!(of_installs.is_none(), "{after}: {ran}");
    assert_eq!(scene.vshelf(&["list"]).code, 0, "{after}");
}

fn is_tidy(scene: &Scene, after: &str) {
    let left = names_in(&scene.data("staging"));
    assert!(left.is_empty(), "{after}: {left:?}");
}

#[test]
fn an_install_killed_anywhere_leaves_nothing_half_done() {
    let scene = Scene::new();
    if !scene.can_tamper() {
        return;
    }
    scene.does(&["catalog"]);
    let mut points = 0;
    for call in CALLS {
        for time in TIMES {
            let killed = killed_at(&scene, &["install", "8.3.1"], call, time);
            let after = format!("killed at {call} {time}");
            is_sound(&scene, &after);
            scene.does(&["install", "8.3.1"]);
            is_sound(&scene, &after);
            is_tidy(&scene, &after);
            scene.does(&["remove", "8.3.1", "--even-if-used"]);
            if !killed {
                break;
            }
            points += 1;
        }
    }
    assert!(points > 40, "{points} points are too few");
}

#[test]
fn a_removal_or_replacement_killed_anywhere_is_done_or_not() {
    let scene = Scene::new();
    if !scene.can_tamper() {
        return;
    }
    scene.does(&["install", "6", "8.3.1"]);
    let mut points = 0;
    for arguments in [
        &["remove", "8.3.1", "--even-if-used"][..],
        &["install", "--again", "8.3.1"],
    ] {
        for call in CALLS {
            for time in TIMES {
                let killed = killed_at(&scene, arguments, call, time);
                let after = format!("{arguments:?} killed at {call} {time}");
                is_sound(&scene, &after);
                scene.does(&["install", "8.3.1"]);
                is_sound(&scene, &after);
                is_tidy(&scene, &after);
                if !killed {
                    break;
                }
                points += 1;
            }
        }
    }
    assert!(points > 40, "{points} points are too few");
}

#[test]
fn a_clean_up_or_renewal_killed_anywhere_can_be_given_again() {
    let scene = Scene::new();
    if !scene.can_tamper() {
        return;
    }
    scene.does(&["--quiet", "install", "8.3.0"]);
    scene.does(&["run", "8.3.0", "--", "tussock", "add", "kelp@2.0.0"]);
    let mut points = 0;
    for (arguments, finish) in [
        (&["tidy", "--yes"][..], &["tidy", "--yes"][..]),
        (&["renew", "--yes"], &["renew", "--yes"]),
    ] {
        for call in CALLS {
            for time in TIMES.into_iter().step_by(2) {
                let is_tidy_run = arguments[0] == "tidy";
                if is_tidy_run {
                    scene.does(&["--quiet", "install", "6.20.1", "6.20.2"]);
                }
                let killed = killed_at(&scene, arguments, call, time);
                let after = format!("{arguments:?} killed at {call} {time}");
                is_sound(&scene, &after);
                scene.does(finish);
                is_sound(&scene, &after);
                // The packages are in some install of the line, whatever happened.
                let new = if is_tidy_run { "8.3.0" } else { "8.3.1" };
                let packages = scene.does(&["run", new, "--", "tussock", "list"]).stdout;
                assert_eq!(packages, "kelp 2.0.0\n", "{after}");
                if is_tidy_run {
                    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.0"], "{after}");
                } else {
                    // Killed before the old one went, it stays beside the new one.
                    scene.does(&["tidy", "--yes"]);
                    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.1"], "{after}");
                    scene.does(&["restore", "8.3.0"]);
                    scene.does(&["run", "8.3.0", "--", "tussock", "add", "kelp@2.0.0"]);
                    scene.does(&["default", "8.3.0"]);
                    scene.does(&["remove", "8.3.1"]);
                }
                is_tidy(&scene, &after);
                if !killed {
                    break;
                }
                points += 1;
            }
        }
    }
    assert!(points > 40, "{points} points are too few");
}
