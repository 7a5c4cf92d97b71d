//! Every system call that changes something fails once: the failure is told or does not matter, nothing is
//! half changed, and the same command given again completes. Left out of the usual run: `scripts/faults`
//! runs it.

use std::fs;

use crate::kills::{keep, prepare, reset};
use crate::scene::{PROGRAM, Ran, Scene, names_in, say};

/// The calls that change something on the disk, and those that open what is changed.
const CALLS: [&str; 16] = [
    "openat",
    "write",
    "mkdir",
    "rename",
    "renameat",
    "renameat2",
    "unlink",
    "unlinkat",
    "rmdir",
    "symlink",
    "linkat",
    "fsync",
    "syncfs",
    "ftruncate",
    "fchmod",
    "utimensat",
];

/// What they fail with, in turn.
const ERRORS: [&str; 3] = ["ENOSPC", "EIO", "EACCES"];

/// How often a call of one kind is let fail, each time at a later one.
const MOST: u32 = 60;

const COMMANDS: [&[&str]; 9] = [
    &["install", "9.2.0"],
    &["install", "--again", "8.3.0"],
    &["remove", "6.20.1"],
    &["remove", "8.3.0", "--even-if-used"],
    &["default", "6"],
    &["label", "tide", "6"],
    &["tidy", "--yes"],
    &["renew", "--yes"],
    &["adopt", "built", "--as", "gull-point/8.3.9"],
];

/// The inconsistencies on the disk, found without the program.
fn inconsistencies(scene: &Scene) -> Vec<String> {
    let shelf = scene.data("shelf/marram");
    let is_whole = |key: &String| {
        let mut parts = ["build", "files", "record.json"].into_iter();
        parts.all(|part| shelf.join(key).join(part).exists())
    };
    let keys = names_in(&shelf).into_iter();
    let mut found: Vec<String> = keys.filter(|key| !is_whole(key)).collect();
    let link = scene.data("default/marram");
    if link.is_symlink() && !link.exists() {
        found.push("the default's link leads nowhere".to_owned());
    }
    found
}

/// What of the shelf must not be half changed: installs, state, link.
fn state_of(scene: &Scene) -> (Vec<String>, String, String) {
    let state = fs::read_to_string(scene.data("state/marram.json")).unwrap_or_default();
    let link = fs::read_link(scene.data("default/marram")).unwrap_or_default();
    let link = link.to_string_lossy().into_owned();
    (names_in(&scene.data("shelf/marram")), state, link)
}

/// Runs a command whose `time`-th `call` fails; nothing where it makes fewer.
fn with_fault(
    scene: &Scene,
    arguments: &[&str],
    call: &str,
    error: &str,
    time: u32,
) -> Option<Ran> {
    let log = tempfile::NamedTempFile::new().unwrap();
    let mut command = scene.strace();
    let ran = scene.run(
        command
            .args(["-f", "-qq", "-o"])
            .arg(log.path())
            .args(["-e", &format!("trace={call}"), "-e"])
            .arg(format!("inject={call}:error={error}:when={time}"))
            .arg(PROGRAM)
            .args(arguments),
    );
    let log = fs::read_to_string(log.path()).unwrap();
    log.contains("(INJECTED)").then_some(ran)
}

#[test]
#[ignore = "takes minutes; scripts/faults runs it"]
fn each_system_call_that_fails_once_is_told_and_nothing_is_half_changed() {
    let scene = Scene::new();
    if !scene.can_tamper() {
        return;
    }
    prepare(&scene);
    let kept = tempfile::tempdir().unwrap();
    keep(&scene, kept.path());
    let (mut points, mut told) = (0, 0);
    let mut faults = Vec::new();
    for arguments in COMMANDS {
        reset(&scene, kept.path());
        let before = state_of(&scene);
        scene.does(arguments);
        let after = state_of(&scene);
        for call in CALLS {
            for time in 1..=MOST {
                let error = ERRORS[time as usize % ERRORS.len()];
                reset(&scene, kept.path());
                let Some(ran) = with_fault(&scene, arguments, call, error, time) else {
                    break;
                };
                // The loader did not come to the program.
                if ran.code == 127 {
                    continue;
                }
                points += 1;
                told += u32::from(!ran.stderr.is_empty() && ran.code != 0);
                let what = format!("{arguments:?}, {call} {time} fails with {error}");
                if ran.stderr.contains("panicked") || ![0, 1, 2, 3, 4, 5, 6, 7].contains(&ran.code)
                {
                    faults.push(format!("{what}: {ran}"));
                }
                let found = inconsistencies(&scene);
                // Another command completes committed work.
                scene.vshelf(&["--offline", "checkup", "--fix"]);
                let found = found
                    .into_iter()
                    .filter(|_| !inconsistencies(&scene).is_empty());
                faults.extend(found.map(|fault| format!("{what}: {fault}\n{ran}")));
                let now = state_of(&scene);
                let is_one_step = !matches!(arguments[0], "tidy" | "renew" | "install" | "adopt");
                // What cannot be read keeps what it may be about, and is told.
                let is_kept = [" unknown: ", " is on the shelf, but ", "are unknown"]
                    .iter()
                    .any(|words| ran.to_string().contains(words));
                if ran.code == 0 && now.0 != after.0 && !is_kept {
                    faults.push(format!("{what}: ended well with {:?}\n{ran}", now.0));
                }
                if ran.code != 0 && is_one_step && now.0 != before.0 && now.0 != after.0 {
                    faults.push(format!("{what}: half changed: {now:?}\n{ran}"));
                }
                let again = scene.vshelf(arguments);
                let is_completed = is_kept || state_of(&scene).0 == after.0;
                if ![0, 3, 7].contains(&again.code) || !is_completed {
                    faults.push(format!("{what}: again: {again}"));
                }
            }
        }
    }
    say(&format!(
        "{points} calls failed, {told} of them were told, {} faults\n",
        faults.len()
    ));
    assert!(
        faults.is_empty(),
        "{}",
        faults[..faults.len().min(25)].join("\n\n")
    );
}
