//! Faults that are known and not fixed yet: each test says what should be, and is left out until it is.

use std::fs;
use std::process::Command;

use vshelf_app::Runtime;
use vshelf_app::install::run::{InstallRequest, install, required};
use vshelf_app::keep::history;
use vshelf_app::keep::remove::{RemoveRequest, remove};
use vshelf_app::keep::tidy::{TidyRequest, plan_tidy};
use vshelf_shelf::journal::Operation;

use crate::scene::{Recorder, Scene, requests};

fn remove_six(scene: &Scene) -> Result<(), vshelf_app::Error> {
    let asked = RemoveRequest {
        requests: requests(&["6"]),
        ..RemoveRequest::default()
    };
    remove(&scene.environment(), &asked, &Recorder::default())
}

#[test]
#[ignore = "the history is written before the removal, and keeps what then failed"]
fn a_removal_that_failed_is_not_told_as_one_that_was_done() {
    let scene = Scene::with(&["8.3.1", "6"]);
    // What is mounted cannot be moved away; only root can mount.
    let folder = scene.install_folder("6.20.2");
    let mounted = Command::new("mount")
        .arg("--bind")
        .args([&folder, &folder])
        .status();
    assert!(mounted.unwrap().success());
    let removed = remove_six(&scene);
    let unmounted = Command::new("umount").arg(&folder).status();
    assert!(unmounted.unwrap().success());
    removed.unwrap_err();
    let history = history::read(&scene.environment()).unwrap();
    let removed = history
        .iter()
        .filter(|entry| entry.operation == Operation::Removed);
    assert_eq!(removed.count(), 0);
}

#[test]
#[ignore = "a package tool that does not answer counts as one that has no packages"]
fn an_install_whose_packages_cannot_be_listed_is_not_removed_unasked() {
    let scene = Scene::with(&["8.3.1", "6"]);
    let tool = scene.install_folder("6.20.2").join("bin/tussock");
    fs::write(&tool, "#!/bin/sh\nexit 1\n").unwrap();
    remove_six(&scene).unwrap_err();
    assert_eq!(scene.on_shelf(), ["8.3.1", "6.20.2"]);
}

#[test]
#[ignore = "a project that cannot be noted is passed over, and a clean-up knows nothing of it"]
fn a_project_that_cannot_be_noted_is_told() {
    let scene = Scene::with(&["8.3.1", "6"]);
    scene.write("project/.marram-version", "6\n");
    fs::create_dir(scene.path("data/projects.jsonl")).unwrap();
    let recorder = Recorder::default();
    let asked = InstallRequest {
        requests: required(&scene.environment(), &recorder).unwrap(),
        ..InstallRequest::default()
    };
    install(&scene.environment(), &asked, &recorder).unwrap();
    assert!(
        recorder.was_told(&["projects.jsonl"]),
        "{:?}",
        recorder.told()
    );
}

#[test]
#[ignore = "a use that cannot be noted is passed over, and a clean-up takes the install for idle"]
fn a_use_that_cannot_be_noted_is_told_by_the_clean_up() {
    let scene = Scene::with(&["8.3.1", "6"]);
    scene.write("data/used", "no folder");
    let environment = scene.environment();
    let runtimes = Runtime::shown(&environment, None).unwrap();
    let plan = plan_tidy(&environment, &runtimes, &TidyRequest::default());
    assert!(plan.is_err());
}
