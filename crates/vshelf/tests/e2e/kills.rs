//! Commands that are killed: whatever a person has on the shelf is afterwards as it was before or as it
//! should become, and the same command given again completes.
//!
//! The test compares the person's data: installs with their packages, the default, labels, what is kept,
//! the trash and the history. Nothing is installed again to hide a loss. The usual run kills removals,
//! returns and replacements; `scripts/kills` kills every command at every call that changes the disk, and at
//! random.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::thread;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::process::{self, Started};
use crate::scene::{PROGRAM, Scene, names_in, say};

/// The system calls before which a command is killed: those that change the disk, and the writes and closes
/// between them, so that each is also killed right after.
const CALLS: [&str; 18] = [
    "rename",
    "renameat",
    "renameat2",
    "unlink",
    "unlinkat",
    "rmdir",
    "mkdir",
    "mkdirat",
    "link",
    "linkat",
    "symlink",
    "symlinkat",
    "fsync",
    "fdatasync",
    "syncfs",
    "ftruncate",
    "write",
    "utimensat",
];

/// At most this many calls of one name are killed.
const MOST: u32 = 400;

/// A command, and what may be seen after it was cut off.
struct Case {
    arguments: &'static [&'static str],
    steps: Steps,
    /// Exit statuses of the same command given again that say it was done before.
    done_before: &'static [i32],
}

/// How many commit points a command has.
#[derive(PartialEq, Eq)]
enum Steps {
    /// One: the data are those before or those after.
    One,
    /// Several: nothing is lost, and the default is the one before or the one after.
    Several,
}

const fn one(arguments: &'static [&'static str], done_before: &'static [i32]) -> Case {
    Case {
        arguments,
        steps: Steps::One,
        done_before,
    }
}

const fn several(arguments: &'static [&'static str]) -> Case {
    Case {
        arguments,
        steps: Steps::Several,
        done_before: &[],
    }
}

/// The cases of the usual run.
const USUAL: [Case; 5] = [
    one(&["remove", "8.3.0", "--even-if-used"], &[3]),
    one(&["remove", "8.3.0", "--even-if-used", "--for-good"], &[3]),
    one(&["restore"], &[]),
    one(&["install", "--again", "6.20.2"], &[]),
    one(&["default", "6"], &[]),
];

const ALL: [Case; 17] = [
    one(&["install", "9.2.0"], &[]),
    one(&["install", "--again", "6.20.2"], &[]),
    one(&["remove", "6.20.1"], &[3]),
    one(&["remove", "8.3.0", "--even-if-used"], &[3]),
    one(&["remove", "8.3.0", "--even-if-used", "--for-good"], &[3]),
    one(&["restore"], &[]),
    one(&["default", "6"], &[]),
    one(&["default", "system"], &[]),
    one(&["label", "tide", "6"], &[]),
    one(&["label", "--remove", "board"], &[2, 3]),
    one(&["tidy", "--yes"], &[]),
    one(&["adopt", "built", "--as", "gull-point/8.3.9"], &[7]),
    one(
        &["adopt", "--link", "built", "--as", "gull-point/8.3.9"],
        &[7],
    ),
    several(&["install", "9.2.0", "--default"]),
    several(&["install", "9.2.0", "4.8.2", "6.2.0"]),
    several(&["carry", "8.3.0", "6.20.2"]),
    several(&["renew", "--yes"]),
];

/// The data of a person, as the disk and commands that only read show it.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Data {
    /// Installs with their packages.
    shelf: BTreeMap<String, Vec<String>>,
    /// Removed installs that can come back, with their packages.
    trash: BTreeMap<String, Vec<String>>,
    default: Value,
    labels: Value,
    history: Vec<String>,
}

impl Data {
    fn of(scene: &Scene) -> Data {
        let shelf = scene.data("shelf/marram");
        let is_install = |key: &String| shelf.join(key).join("build").symlink_metadata().is_ok();
        let keys = names_in(&shelf).into_iter().filter(is_install);
        let trash = scene.data("trash/marram");
        // What arrives, is replaced or is deleted passes through, and is never offered.
        let passes = |name: &str| {
            let note = fs::read_to_string(trash.join(name).join("note.json")).unwrap_or_default();
            let intents = ["arriving", "replacing", "leaving-for-good"];
            intents
                .iter()
                .any(|intent| note.contains(&format!("\"intent\":\"{intent}\"")))
        };
        let entries = names_in(&trash).into_iter();
        let entries = entries.filter(|name| !passes(name)).map(|name| {
            let packages = packages_in(&trash.join(&name));
            (name.split('=').next().unwrap().to_owned(), packages)
        });
        let read = |arguments: &[&str]| -> Value {
            let ran = scene.vshelf(arguments);
            serde_json::from_str(&ran.stdout).unwrap_or_else(|error| panic!("{error}: {ran}"))
        };
        let state = fs::read_to_string(scene.data("state/marram.json")).unwrap_or_default();
        let state: Value = serde_json::from_str(&state).unwrap_or_default();
        let history = read(&["history", "--json"]);
        let told = |entry: &Value| {
            let text = |field: &str| entry[field].as_str().unwrap_or_default().to_owned();
            format!("{} {} {}", text("operation"), text("outcome"), text("key"))
        };
        let mut history: Vec<String> = (history["entries"].as_array().unwrap().iter())
            .map(told)
            .collect();
        history.sort();
        Data {
            shelf: keys
                .map(|key| (key.clone(), packages_in(&shelf.join(key))))
                .collect(),
            trash: entries.collect(),
            default: read(&["default", "--json"])["defaults"][0].clone(),
            labels: state["labels"].clone(),
            history,
        }
    }

    /// Whether everything of `before` is still on the shelf or in the trash, with its packages.
    fn has_all_of(&self, before: &Data) -> bool {
        let is_kept = |(key, packages): (&String, &Vec<String>)| {
            let mut places = [&self.shelf, &self.trash].into_iter();
            places.any(|place| {
                let there = place.get(key);
                there.is_some_and(|there| packages.iter().all(|package| there.contains(package)))
            })
        };
        before.shelf.iter().chain(&before.trash).all(is_kept)
    }
}

fn packages_in(install: &Path) -> Vec<String> {
    names_in(&install.join("build/lib/marram/packages"))
}

/// The home that every command begins with: a default with a package, one install in the trash with
/// another, a label, a connected shell.
pub fn prepare(scene: &Scene) {
    scene.does(&["--quiet", "install", "6.20.1", "6.20.2", "4.8.3"]);
    scene.does(&["install", "8.3.0", "--default"]);
    scene.does(&["run", "8.3.0", "--", "tussock", "add", "kelp@2.0.0"]);
    scene.does(&["run", "4.8.3", "--", "tussock", "add", "sand@1.4.0"]);
    scene.does(&["label", "board", "6"]);
    scene.does(&["remove", "4.8.3"]);
    scene.does(&["connect", "bash"]);
    let mut copy = process::command("cp");
    let build = scene.data("shelf/marram/saltmarsh-6.20.1/build");
    assert!(process::status(copy.arg("-a").args([build, scene.path("built")])).success());
}

/// Copies the home to `kept`.
pub fn keep(scene: &Scene, kept: &Path) {
    let mut copy = process::command("cp");
    copy.arg("-a").arg(scene.path(".")).arg(kept);
    assert!(process::status(&mut copy).success());
}

/// Puts the home back to what `kept` has.
pub fn reset(scene: &Scene, kept: &Path) {
    for name in names_in(scene.home()) {
        let path = scene.path(&name);
        if path.is_dir() && !path.is_symlink() {
            fs::remove_dir_all(path).unwrap();
        } else {
            fs::remove_file(path).unwrap();
        }
    }
    let mut copy = process::command("cp");
    copy.arg("-a").arg(kept.join(".")).arg(scene.home());
    assert!(process::status(&mut copy).success());
}

/// What commands left behind, anywhere in the home.
fn left_behind(scene: &Scene) -> Vec<String> {
    let find = "find . -name '*.vshelf-new' -o -path '*/staging/*' -o -name '*.partial' -o -name note.json -o -path '*/.deleting/*'";
    let ran = scene.run(scene.command("/bin/sh").args(["-c", find]));
    ran.stdout.lines().map(str::to_owned).collect()
}

/// The faults after `case` was cut off.
fn faults(scene: &Scene, case: &Case, before: &Data, after: &Data) -> Vec<String> {
    let mut faults = Vec::new();
    let mut look = |when: &str| {
        let now = Data::of(scene);
        let is_right = match case.steps {
            Steps::One => now == *before || now == *after,
            Steps::Several => {
                now.has_all_of(before)
                    && (now.default == before.default || now.default == after.default)
            }
        };
        if !is_right {
            faults.push(format!(
                "{when}: {now:#?}\nneither {before:#?}\nnor {after:#?}"
            ));
        }
        now
    };
    // Commands that only read see one of both, and the next that may write completes it.
    let seen = look("as it was left");
    scene.vshelf(&["--offline", "checkup", "--fix"]);
    let completed = look("after another command");
    if case.steps == Steps::One && (seen == *after) != (completed == *after) && seen != completed {
        faults.push("what was seen was not what was completed".to_owned());
    }
    let left: Vec<String> = left_behind(scene)
        .into_iter()
        .filter(|path| !path.ends_with(".partial"))
        .collect();
    if !left.is_empty() {
        faults.push(format!("left {left:?}"));
    }
    let again = scene.vshelf(case.arguments);
    if again.code != 0 && !case.done_before.contains(&again.code) {
        faults.push(format!("again: {again}"));
    }
    let done = Data::of(scene);
    let [done_keys, after_keys] =
        [&done, after].map(|data| data.shelf.keys().collect::<BTreeSet<_>>());
    if case.arguments[0] != "restore" && (done_keys != after_keys || done.default != after.default)
    {
        faults.push(format!("again: {done:#?}\nnot {after:#?}"));
    }
    faults
}

/// Kills commands before every call of these names; returns how many kills there were and what went wrong.
fn kill_at_calls(scene: &Scene, cases: &[Case]) -> (u32, Vec<String>) {
    prepare(scene);
    let kept = tempfile::tempdir().unwrap();
    keep(scene, kept.path());
    let before = Data::of(scene);
    let (mut kills, mut all) = (0, Vec::new());
    for case in cases {
        reset(scene, kept.path());
        scene.does(case.arguments);
        let after = Data::of(scene);
        for call in CALLS {
            for time in 1..=MOST {
                reset(scene, kept.path());
                let injection = format!("{call}:signal=KILL:when={time}");
                if scene.tampered(&injection, case.arguments).code == 0 {
                    break;
                }
                kills += 1;
                let found = faults(scene, case, &before, &after).into_iter();
                all.extend(
                    found.map(|fault| {
                        format!("{:?} killed at {call} {time}: {fault}", case.arguments)
                    }),
                );
            }
        }
    }
    (kills, all)
}

/// Fails with the first faults.
fn none(kills: u32, faults: &[String]) {
    say(&format!("{kills} kills, {} faults\n", faults.len()));
    let first = &faults[..faults.len().min(5)];
    assert!(faults.is_empty(), "{}", first.join("\n\n"));
}

#[test]
fn killed_removals_returns_and_replacements_keep_all_data() {
    let scene = Scene::new();
    if !scene.can_tamper() {
        return;
    }
    let (kills, faults) = kill_at_calls(&scene, &USUAL);
    assert!(kills > 60, "{kills} kills are too few");
    none(kills, &faults);
}

#[test]
#[ignore = "takes many minutes; scripts/kills runs it"]
fn every_command_killed_at_every_call_keeps_all_data() {
    let scene = Scene::new();
    assert!(scene.can_tamper());
    let (kills, faults) = kill_at_calls(&scene, &ALL);
    none(kills, &faults);
}

#[test]
#[ignore = "takes minutes; scripts/kills runs it"]
fn every_command_killed_at_random_keeps_all_data() {
    let number = |name: &str, usual: u64| {
        let text = std::env::var(name).ok();
        text.map_or(usual, |text| text.parse().unwrap())
    };
    let (count, mut seed) = (number("KILLS", 1000), number("SEED", 1));
    let scene = Scene::new();
    prepare(&scene);
    let kept = tempfile::tempdir().unwrap();
    keep(&scene, kept.path());
    let before = Data::of(&scene);
    let results: Vec<(Duration, Data)> = ALL
        .iter()
        .map(|case| {
            reset(&scene, kept.path());
            let begun = Instant::now();
            scene.does(case.arguments);
            (begun.elapsed(), Data::of(&scene))
        })
        .collect();
    let (mut kills, mut all) = (0, Vec::new());
    for kill in 0..count {
        let at = (kill as usize) % ALL.len();
        let (case, (duration, after)) = (&ALL[at], &results[at]);
        reset(&scene, kept.path());
        // Knuth's constants for a linear congruence: good enough to spread moments.
        seed = seed
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        let share = (seed >> 33) as f64 / (1_u64 << 31) as f64;
        let signal =
            [Signal::KILL, Signal::TERM, Signal::INT, Signal::HUP][(kill as usize / ALL.len()) % 4];
        let mut command = scene.command(PROGRAM);
        command
            .args(case.arguments)
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let mut child = Started::start(&mut command);
        thread::sleep(duration.mul_f64(share));
        // It may have ended before.
        kill_process(Pid::from_child(&child), signal).unwrap_or_default();
        kills += u32::from(!child.wait().success());
        let found = faults(&scene, case, &before, after).into_iter();
        all.extend(
            found.map(|fault| format!("kill {kill}, {:?}, {signal:?}: {fault}", case.arguments)),
        );
    }
    none(kills, &all);
}
