//! Two commands at once about the same install: whatever happens is what one after the other would do, and the
//! history says which came first.

use std::process::Stdio;

use serde_json::Value;

use crate::kills::{keep, prepare, reset};
use crate::process::Started;
use crate::scene::{PROGRAM, Scene, names_in};

/// How often two commands are started together.
const ROUNDS: usize = 12;

/// Starts both at once, again and again from the same home, and looks at each result with their exit statuses.
fn together(pair: [&[&str]; 2], look: impl Fn(&Scene, [i32; 2])) {
    let scene = Scene::new();
    prepare(&scene);
    let kept = tempfile::tempdir().unwrap();
    keep(&scene, kept.path());
    for round in 0..ROUNDS {
        reset(&scene, kept.path());
        let mut started = [0, 1].map(|place| {
            // Either may be first.
            let arguments = pair[(place + round) % 2];
            let mut command = scene.command(PROGRAM);
            command
                .args(arguments)
                .stdout(Stdio::null())
                .stderr(Stdio::null());
            Started::start(&mut command)
        });
        let mut statuses = started.each_mut().map(|one| one.wait().code().unwrap());
        statuses.rotate_left(round % 2);
        look(&scene, statuses);
        assert!(names_in(&scene.data("staging")).is_empty());
        assert_eq!(scene.vshelf(&["--offline", "checkup", "--fix"]).code, 0);
    }
}

fn json(scene: &Scene, arguments: &[&str]) -> Value {
    serde_json::from_str(&scene.does(arguments).stdout).unwrap()
}

/// The operations on a version that the history has, newest first.
fn operations(scene: &Scene, version: &str) -> Vec<String> {
    let history = json(scene, &["history", "--json"]);
    let entries = history["entries"].as_array().unwrap().iter();
    let of_it = entries.filter(|entry| entry["version"] == version && entry["outcome"] == "done");
    of_it
        .map(|entry| entry["operation"].as_str().unwrap().to_owned())
        .collect()
}

#[test]
fn a_default_never_leads_to_what_another_command_removes() {
    let pair = [
        &["default", "6.20.2"][..],
        &["remove", "6.20.2", "--even-if-used"],
    ];
    together(pair, |scene, [set, removed]| {
        assert_eq!(removed, 0);
        assert_eq!(scene.on_shelf(), ["6.20.1", "8.3.0"]);
        let default = &json(scene, &["default", "--json"])["defaults"][0]["key"];
        // Set first, it was taken away with the install; else there was nothing to set.
        if set == 0 {
            assert!(default.is_null(), "{default}");
        } else {
            assert_eq!(default, "saltmarsh/8.3.0");
        }
        assert_eq!(operations(scene, "6.20.2"), ["removed", "installed"]);
    });
}

#[test]
fn two_renewals_renew_once() {
    let renew = &["renew", "--yes"][..];
    together([renew, renew], |scene, _| {
        scene.does(renew);
        assert!(scene.on_shelf().contains(&"8.3.1".to_owned()));
        assert_eq!(operations(scene, "8.3.0"), ["renewed", "installed"]);
        assert_eq!(operations(scene, "8.3.1"), ["installed"]);
        let default = &json(scene, &["default", "--json"])["defaults"][0]["key"];
        assert_eq!(default, "saltmarsh/8.3.1");
    });
}

#[test]
fn a_return_and_an_install_of_the_same_end_with_one() {
    together(
        [&["restore", "4.8.3"], &["install", "4.8.3"]],
        |scene, statuses| {
            assert_eq!(statuses, [0, 0]);
            assert_eq!(scene.on_shelf(), ["4.8.3", "6.20.1", "6.20.2", "8.3.0"]);
            let operations = operations(scene, "4.8.3");
            assert_eq!(operations.len(), 3, "{operations:?}");
            // The entries that were not restored are still in the trash.
            let trash = names_in(&scene.data("trash/marram"));
            assert_eq!(trash.is_empty(), operations[0] == "restored", "{trash:?}");
        },
    );
}

#[test]
fn restoring_and_emptying_the_trash_exclude_each_other() {
    together(
        [&["restore", "4.8.3"], &["tidy", "--yes", "--for-good"]],
        |scene, [restored, _]| {
            assert_eq!(restored, 0);
            assert!(names_in(&scene.data("trash/marram")).is_empty());
            let packages = scene.data("shelf/marram/saltmarsh-4.8.3/build/lib/marram/packages");
            match operations(scene, "4.8.3")[0].as_str() {
                "restored" => assert_eq!(names_in(&packages), ["sand"]),
                // Deleted first, it was fetched again.
                "installed" => assert!(names_in(&packages).is_empty()),
                // Restored, and then tidied away as outdated.
                other => assert_eq!(other, "tidied"),
            }
        },
    );
}
