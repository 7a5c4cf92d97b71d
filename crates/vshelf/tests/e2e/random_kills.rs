//! Killed by a signal at a random moment: no state is inconsistent, and the same command given again
//! completes. Left out of the usual run: `scripts/kills` runs it.

use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::thread;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::process::{self, Started};
use crate::scene::{PROGRAM, Scene, names_in, say};

/// A command, and what must be when it is done.
struct Case {
    arguments: &'static [&'static str],
    /// Exit codes of the same command given again that say it was done before.
    done_before: &'static [i32],
    goal: fn(&Scene) -> bool,
}

fn has(scene: &Scene, key: &str) -> bool {
    scene.data("shelf/marram").join(key).exists()
}

fn default_is(scene: &Scene, key: &str) -> bool {
    let link = fs::read_link(scene.data("default/marram")).unwrap_or_default();
    link == Path::new("../shelf/marram").join(key).join("build")
}

const CASES: [Case; 20] = [
    Case {
        arguments: &["install", "9.2.0"],
        done_before: &[],
        goal: |scene| has(scene, "9.2.0"),
    },
    Case {
        arguments: &["install", "--again", "8.3.0"],
        done_before: &[],
        goal: |scene| has(scene, "8.3.0"),
    },
    Case {
        arguments: &["install", "9.2.0", "4.8.2", "6.2.0"],
        done_before: &[],
        goal: |scene| has(scene, "9.2.0"),
    },
    Case {
        arguments: &["install", "9.2.0", "--default"],
        done_before: &[],
        goal: |scene| default_is(scene, "9.2.0"),
    },
    Case {
        arguments: &["remove", "6.20.1"],
        done_before: &[3],
        goal: |scene| !has(scene, "6.20.1"),
    },
    Case {
        arguments: &["remove", "8.3.0", "--even-if-used"],
        done_before: &[3],
        goal: |scene| !has(scene, "8.3.0") && !scene.data("default/marram").is_symlink(),
    },
    Case {
        arguments: &["default", "6"],
        done_before: &[],
        goal: |scene| default_is(scene, "6.20.2"),
    },
    Case {
        arguments: &["default", "system"],
        done_before: &[],
        goal: |scene| !scene.data("default/marram").is_symlink(),
    },
    Case {
        arguments: &["tidy", "--yes"],
        done_before: &[],
        goal: |scene| !has(scene, "6.20.1") && has(scene, "6.20.2"),
    },
    Case {
        arguments: &["renew", "--yes"],
        done_before: &[],
        goal: |scene| default_is(scene, "8.3.1") && !has(scene, "8.3.0"),
    },
    Case {
        arguments: &["restore"],
        done_before: &[],
        goal: |scene| has(scene, "4.8.3"),
    },
    Case {
        arguments: &["adopt", "built", "--as", "gull-point/8.3.9"],
        done_before: &[7],
        goal: |scene| has(scene, "gull-point-8.3.9"),
    },
    Case {
        arguments: &["adopt", "--link", "built", "--as", "gull-point/8.3.9"],
        done_before: &[7],
        goal: |scene| has(scene, "gull-point-8.3.9"),
    },
    Case {
        arguments: &["mirror", "8.3.1", "6.20.2", "--to", "site"],
        done_before: &[],
        goal: |scene| scene.path("site/marram/marram.toml").exists(),
    },
    Case {
        arguments: &["label", "tide", "6"],
        done_before: &[],
        goal: |scene| read(scene, ".local/share/vivid-shelf/state/marram.json").contains("tide"),
    },
    Case {
        arguments: &["require", "8"],
        done_before: &[],
        goal: |scene| read(scene, ".marram-version") == "8\n",
    },
    Case {
        arguments: &["connect", "--shell", "zsh"],
        done_before: &[],
        goal: |scene| read(scene, ".zshrc").matches("connect/shelf.zsh").count() == 2,
    },
    Case {
        arguments: &["carry", "--from", "8.3.0", "--to", "6.20.2"],
        done_before: &[],
        goal: |_| true,
    },
    Case {
        arguments: &["runtimes", "--main", "marram"],
        done_before: &[],
        goal: |scene| read(scene, ".config/vivid-shelf/shelf.toml").contains("marram"),
    },
    Case {
        arguments: &["catalog", "--refresh"],
        done_before: &[],
        goal: |_| true,
    },
];

fn read(scene: &Scene, name: &str) -> String {
    fs::read_to_string(scene.path(name)).unwrap_or_default()
}

/// The home that every command begins with.
pub fn prepare(scene: &Scene) {
    scene.does(&["--quiet", "install", "6.20.1", "6.20.2", "4.8.3"]);
    scene.does(&["install", "8.3.0", "--default"]);
    scene.does(&["run", "8.3.0", "--", "tussock", "add", "kelp@2.0.0"]);
    scene.does(&["remove", "4.8.3"]);
    scene.does(&["connect", "--shell", "bash"]);
    let copied = process::status(
        process::command("cp")
            .arg("-a")
            .args([scene.data("shelf/marram/saltmarsh-6.20.1/build"), scene.path("built")]),
    );
    assert!(copied.success());
}

/// Copies the home to `kept`.
pub fn keep(scene: &Scene, kept: &Path) {
    let status = process::status(
        process::command("cp")
            .arg("-a")
            .arg(scene.path("."))
            .arg(kept),
    );
    assert!(status.success());
}

/// Puts the home back to what `kept` has.
pub fn reset(scene: &Scene, kept: &Path) {
    for name in names_in(scene.home()) {
        let path = scene.path(&name);
        match path.is_dir() {
            true => fs::remove_dir_all(path).unwrap(),
            false => fs::remove_file(path).unwrap(),
        }
    }
    let status = process::status(
        process::command("cp")
            .arg("-a")
            .arg(kept.join("."))
            .arg(scene.home()),
    );
    assert!(status.success());
}

/// What is inconsistent on the disk, looked at without the program.
pub fn inconsistencies(scene: &Scene) -> Vec<String> {
    let mut found = Vec::new();
    let shelf = scene.data("shelf/marram");
    for key in names_in(&shelf) {
        let record = fs::read_to_string(shelf.join(&key).join("record.json"));
        let record: Option<Value> = record
            .ok()
            .and_then(|text| serde_json::from_str(&text).ok());
        let whole = record.is_some_and(|record| key.ends_with(record["version"].as_str().unwrap()));
        let parts = ["build", "files"].map(|part| shelf.join(&key).join(part).exists());
        if !whole || parts.contains(&false) {
            found.push(format!("{key} is not whole"));
        }
    }
    let state = read(scene, ".local/share/vivid-shelf/state/marram.json");
    let state: Value = serde_json::from_str(&state).unwrap();
    let link = scene.data("default/marram");
    match state["default_key"].as_str() {
        Some(key) if !default_is(scene, key) => found.push(format!("no link leads to {key}")),
        None if link.is_symlink() => found.push("a link is left".to_owned()),
        Some(_) if !link.exists() => found.push("the link leads nowhere".to_owned()),
        _ => {}
    }
    for label in state["labels"].as_object().unwrap().keys() {
        if label != "tide" {
            found.push(format!("label {label}"));
        }
    }
    found
}

/// What commands left behind, anywhere in the home.
fn left_behind(scene: &Scene) -> Vec<String> {
    let find = "find . -name '*.vshelf-new' -o -path '*/staging/*' -o -name '*.partial'";
    let ran = scene.run(scene.command("/bin/sh").args(["-c", find]));
    ran.stdout.lines().map(str::to_owned).collect()
}

#[test]
#[ignore = "takes minutes; scripts/kills runs it"]
fn commands_killed_at_random_leave_nothing_inconsistent_and_complete_when_given_again() {
    let number = |name: &str, usual: u64| {
        let text = std::env::var(name).ok();
        text.map_or(usual, |text| text.parse().unwrap())
    };
    let (kills, mut seed) = (number("KILLS", 1000), number("SEED", 1));
    let scene = Scene::new();
    prepare(&scene);
    let kept = tempfile::tempdir().unwrap();
    keep(&scene, kept.path());
    let durations: Vec<Duration> = CASES
        .iter()
        .map(|case| {
            reset(&scene, kept.path());
            let begun = Instant::now();
            scene.does(case.arguments);
            assert!((case.goal)(&scene), "{:?}", case.arguments);
            begun.elapsed()
        })
        .collect();
    let (mut hit, mut faults) = (0, Vec::new());
    for kill in 0..kills {
        let at = (kill as usize) % CASES.len();
        let case = &CASES[at];
        reset(&scene, kept.path());
        // Knuth's constants for a linear congruence: good enough to spread moments.
        seed = seed
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        let share = (seed >> 33) as f64 / (1_u64 << 31) as f64;
        let signal = [Signal::KILL, Signal::TERM, Signal::INT, Signal::HUP]
            [(kill as usize / CASES.len()) % 4];
        let mut command = scene.command(PROGRAM);
        command
            .args(case.arguments)
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let mut child = Started::start(&mut command);
        thread::sleep(durations[at].mul_f64(share));
        // It may have ended before.
        kill_process(Pid::from_child(&child), signal).unwrap_or_default();
        let status = child.wait();
        hit += u64::from(!status.success());
        let what = format!("kill {kill}, {:?}, {signal:?}", case.arguments);
        // Any command, one that only reads too, brings the default's link in line.
        let listed = scene.vshelf(&["list"]);
        if listed.code != 0 {
            faults.push(format!("{what}: list: {listed}"));
        }
        faults.extend((inconsistencies(&scene).iter()).map(|fault| format!("{what}: {fault}")));
        let again = scene.vshelf(case.arguments);
        let done = again.code == 0 || case.done_before.contains(&again.code);
        if !done || !(case.goal)(&scene) {
            faults.push(format!("{what}: again: {again}"));
        }
        faults
            .extend((inconsistencies(&scene).iter()).map(|fault| format!("{what}: then {fault}")));
        let left = left_behind(&scene);
        if !left.is_empty() {
            faults.push(format!("{what}: left {left:?}"));
        }
        let checkup = scene.vshelf(&["--offline", "checkup", "--json"]);
        let report: Value = serde_json::from_str(&checkup.stdout).unwrap();
        for finding in report["findings"].as_array().unwrap() {
            let about = finding["about"].as_str().unwrap();
            if !about.contains("label") && !about.contains("the project") {
                faults.push(format!("{what}: checkup: {finding}"));
            }
        }
    }
    say(&format!(
        "{kills} signals, {hit} of them cut a command off, {} faults\n",
        faults.len()
    ));
    assert!(faults.is_empty(), "{:#?}", &faults[..faults.len().min(20)]);
}
