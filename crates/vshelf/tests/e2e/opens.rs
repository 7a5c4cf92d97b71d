//! How often a command opens what it reads: each file once, and once more under the lock if it writes it.

use std::collections::BTreeMap;
use std::fs;

use rstest::rstest;

use crate::process;
use crate::scene::{PROGRAM, Scene};

/// How often each file below the home was opened.
fn opened(scene: &Scene, arguments: &[&str]) -> BTreeMap<String, usize> {
    let trace = scene.path("trace");
    let mut command = scene.strace();
    command
        .args(["-f", "-qq", "-e", "trace=open,openat", "-o"])
        .arg(&trace)
        .arg(PROGRAM)
        .args(arguments)
        // As the function of a connected shell calls it.
        .env("VSHELF_SHELL", "bash")
        .env("VSHELF_EVALUATE", "1")
        .current_dir(scene.path("board"));
    let ran = process::output(&mut command);
    assert!(ran.status.success(), "{arguments:?}: {ran:?}");
    let home = format!("\"{}/", scene.home().display());
    let mut counts = BTreeMap::new();
    for line in fs::read_to_string(&trace).unwrap().lines() {
        let is_file = !line.contains("O_DIRECTORY") && !line.contains(" = -1 ");
        if let Some((_, rest)) = line.split_once(&home).filter(|_| is_file) {
            let file = rest.split('"').next().unwrap_or_default();
            *counts.entry(file.to_owned()).or_insert(0) += 1;
        }
    }
    fs::remove_file(trace).unwrap();
    counts
}

#[rstest]
#[case::list(&["list"])]
#[case::status(&["status"])]
#[case::path(&["path", "8"])]
#[case::switch(&["switch", "8"])]
#[case::clean_up(&["tidy", "--dry-run"])]
#[case::install_of_what_is_there(&["install", "8.3.1"])]
#[case::default(&["default", "8.3.0"])]
fn a_command_opens_each_file_once(#[case] arguments: &[&str]) {
    let scene = Scene::new();
    if !scene.can_tamper() {
        return;
    }
    scene.does(&["--quiet", "install", "8.3.1", "8.3.0", "6.20.1"]);
    // After an install, the project is looked at more than once.
    let project = if arguments[0] == "install" {
        "board/keep"
    } else {
        "board/.marram-version"
    };
    scene.write(project, "lts\n");
    let mut counts = opened(&scene, arguments);
    counts.retain(|file, count| {
        let is_read_twice = match arguments[0] {
            // The details of the release are another part of the catalog.
            "install" => file.ends_with(".catalog"),
            // Once more under the lock, because it is written.
            "default" => file.contains("/state/"),
            _ => false,
        };
        *count > if is_read_twice { 2 } else { 1 }
    });
    assert!(counts.is_empty(), "{arguments:?}: {counts:#?}");
}
