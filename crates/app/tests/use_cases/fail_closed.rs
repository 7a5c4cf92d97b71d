//! What deletes fails closed, and what could not be written down is told.

use std::fs;
use std::process::Command;

use vshelf_app::Error;
use vshelf_app::adopt::{AdoptRequest, Name, adopt};
use vshelf_app::install::request::{InstallRequest, required};
use vshelf_app::install::run::install;
use vshelf_app::keep::history;
use vshelf_app::keep::lines::meant;
use vshelf_app::keep::remove::{RemoveRequest, remove};
use vshelf_app::keep::restore::restore;
use vshelf_app::keep::tidy::{TidyRequest, plan_tidy};
use vshelf_core::tidy::{Protection, Witness};
use vshelf_shelf::journal::{self, Operation, SeenProject};

use vshelf_app::session::hand_over;
use vshelf_app::switch::switch;

use crate::scene::{Recorder, Scene, request, requests};

fn remove_six(scene: &Scene) -> Result<(), Error> {
    let asked = RemoveRequest {
        requests: requests(&["6"]),
        ..RemoveRequest::default()
    };
    remove(&scene.environment(), &asked, &Recorder::default())
}

#[test]
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
    let history = history::read(&scene.environment()).unwrap().entries;
    let removed = history
        .iter()
        .filter(|entry| entry.operation == Operation::Removed);
    assert_eq!(removed.count(), 0);
}

#[test]
fn an_install_whose_packages_cannot_be_listed_is_not_removed_unasked() {
    let scene = Scene::with(&["8.3.1", "6"]);
    let tool = scene.install_folder("6.20.2").join("bin/tussock");
    fs::write(&tool, "#!/bin/sh\nexit 1\n").unwrap();
    remove_six(&scene).unwrap_err();
    assert_eq!(scene.on_shelf(), ["8.3.1", "6.20.2"]);
}

#[test]
fn unreadable_settings_refuse_installing_and_deleting() {
    let scene = Scene::with(&["8.3.1", "6"]);
    remove_six(&scene).unwrap();
    scene.write(
        "config/shelf.toml",
        "main-runtime = \"marram\"\nfollowing = 7\n",
    );
    let environment = scene.environment();
    let recorder = Recorder::default();
    let for_good = RemoveRequest {
        requests: requests(&["marram@8.3.1"]),
        even_if_used: true,
        for_good: true,
        ..RemoveRequest::default()
    };
    let folder = AdoptRequest {
        path: scene.install_folder("8.3.1"),
        name: Name::default(),
        link: true,
    };
    let asked = InstallRequest {
        requests: requests(&["marram@8.3.1"]),
        ..InstallRequest::default()
    };
    for refused in [
        remove(&environment, &for_good, &recorder),
        restore(&environment, &[], &recorder),
        adopt(&environment, folder, &recorder),
        install(&environment, asked, &recorder),
    ] {
        let error = refused.unwrap_err();
        assert!(matches!(error, Error::Settings { .. }), "{error:?}");
    }
    assert!(scene.install_folder("8.3.1").exists());
    assert!(!scene.install_folder("6.20.2").exists());
}

#[test]
fn a_project_that_cannot_be_noted_is_told() {
    let scene = Scene::with(&["8.3.1", "6"]);
    scene.write("project/.marram-version", "6\n");
    fs::create_dir(scene.path("data/projects.jsonl")).unwrap();
    let recorder = Recorder::default();
    let asked = InstallRequest {
        ..required(&scene.environment(), false, &recorder).unwrap()
    };
    install(&scene.environment(), asked, &recorder).unwrap();
    assert!(
        recorder.was_told(&["projects.jsonl"]),
        "{:?}",
        recorder.told()
    );
}

/// What keeps 6.20.2 in the plan of a clean-up that is told to take it.
fn what_keeps_six(scene: &Scene) -> Vec<Protection> {
    let environment = scene.environment();
    let meant = meant(&environment, &[]).unwrap();
    let plan = plan_tidy(&environment, &meant, &TidyRequest::default()).unwrap();
    let mut entries = plan.assessments();
    let six = entries.find(|entry| entry.install.key.version_text() == "6.20.2");
    six.unwrap().protections.clone()
}

fn is_unclear(protections: &[Protection], witness: Witness, words: &str) -> bool {
    protections.iter().any(|protection| match protection {
        Protection::Unclear { what, cause } => *what == witness && cause.contains(words),
        _ => false,
    })
}

#[test]
fn where_uses_cannot_be_noted_nothing_counts_as_unused() {
    let scene = Scene::with(&["8.3.1", "6"]);
    assert_eq!(what_keeps_six(&scene), []);
    fs::remove_dir_all(scene.path("data/used")).unwrap();
    scene.write("data/used", "no folder");
    let kept_by = what_keeps_six(&scene);
    assert!(
        is_unclear(&kept_by, Witness::LastUses, "Not a directory"),
        "{kept_by:?}"
    );
}

#[test]
fn where_shells_cannot_be_noted_nothing_counts_as_unused() {
    let scene = Scene::with(&["8.3.1", "6"]);
    scene.write("data/shells", "no folder");
    let kept_by = what_keeps_six(&scene);
    assert!(
        is_unclear(&kept_by, Witness::Shells, "not a directory"),
        "{kept_by:?}"
    );
    let recorder = Recorder::default();
    let environment = scene.connected_as(std::process::id());
    switch(&environment, Some(request("6")), &recorder).unwrap();
    hand_over(&environment, &recorder).unwrap();
    assert!(recorder.was_told(&["LeftUndone"]), "{:?}", recorder.told());
}

#[test]
fn a_pipe_in_the_place_of_a_requirement_file_is_passed_over() {
    let scene = Scene::with(&["8.3.1", "6"]);
    scene.write("project/.marram-version", "6\n");
    let environment = scene.environment();
    required(&environment, false, &Recorder::default()).unwrap();
    let file = scene.path("project/.marram-version");
    fs::remove_file(&file).unwrap();
    let made = Command::new("mkfifo").arg(&file).status();
    assert!(made.unwrap().success());
    assert_eq!(what_keeps_six(&scene), []);
}

#[test]
fn what_a_newer_program_wrote_of_projects_keeps_everything() {
    let scene = Scene::with(&["8.3.1", "6"]);
    let newer = "{\"form\":\"vivid-shelf-projects/2\",\"requires\":\"6\"}\n";
    scene.write("data/projects.jsonl", newer);
    let kept_by = what_keeps_six(&scene);
    let words = "line 1 of projects.jsonl is not understood";
    assert!(
        is_unclear(&kept_by, Witness::Projects, words),
        "{kept_by:?}"
    );
    let kept = fs::read_to_string(scene.path("data/projects.jsonl")).unwrap();
    assert_eq!(kept, newer);
}

#[test]
fn what_a_project_on_a_drive_that_is_away_required_stays() {
    let scene = Scene::with(&["8.3.1", "6"]);
    fs::create_dir(scene.path("drive")).unwrap();
    let note = |selector: &str| SeenProject {
        file: scene.path("drive/logbook/.marram-version"),
        runtime: "marram".to_owned(),
        selector: Some(selector.to_owned()),
        mounted_at: scene.path("drive"),
    };
    let layout = scene.environment().layout().unwrap();
    journal::note_project(&layout, &note("6")).unwrap();
    let file = note("6").file;
    assert_eq!(what_keeps_six(&scene), [Protection::ProjectAway { file }]);
    journal::note_project(&layout, &note("8")).unwrap();
    assert_eq!(what_keeps_six(&scene), []);
}

#[test]
fn a_requirement_that_cannot_be_understood_now_counts_as_it_was() {
    let scene = Scene::with(&["8.3.1", "6"]);
    scene.write("project/.marram-version", "6\n");
    let environment = scene.environment();
    required(&environment, false, &Recorder::default()).unwrap();
    scene.write("project/.marram-version", "$(six)\n");
    let file = scene.path("project/.marram-version");
    assert_eq!(what_keeps_six(&scene), [Protection::Requirement { file }]);
}
