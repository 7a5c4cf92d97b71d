//! The gate: every way onto the shelf obeys the rules of a company.

use std::fs;

use crate::scene::{PROGRAM, Ran, Scene, names_in};

const DENIED: &str = r#"main-runtime = "marram"
[[rules.denied]]
runtime = "marram"
versions = "8.3"
why = "it loses readings"
"#;

/// Brings a home to where a rule turns against one of the ways.
type Prepare = fn(&Scene);

/// Every way onto the shelf, and out of it, with the command that takes it. A new way belongs into this list.
const WAYS: &[(Prepare, &[&str])] = &[
    (nothing, &["install", "8.3.1"]),
    (nothing, &["install", "8.3.1", "--again"]),
    (requires, &["install"]),
    (locks, &["install"]),
    (locks, &["install", "--locked"]),
    (locks, &["lock", "--renew"]),
    (
        locks,
        &["run", "--yes", "--here", "--", "marram", "--version"],
    ),
    (
        requires,
        &["run", "--yes", "--here", "--", "marram", "--version"],
    ),
    (
        nothing,
        &["run", "--yes", "8.3.1", "--", "marram", "--version"],
    ),
    (enters, &["connect", "--look", "bash"]),
    (has_older, &["renew", "--yes"]),
    (has_removed, &["restore"]),
    (has_deleted, &["restore"]),
    (has_elsewhere, &["adopt", "../old"]),
    (has_elsewhere, &["adopt", "../old", "--link"]),
    (has_elsewhere, &["adopt", "system"]),
    (has_packed, &["adopt", "../old.tar.gz"]),
    (has_no_record, &["checkup", "--fix"]),
    (nothing, &["mirror", "8.3.1", "--to", "site"]),
];

fn nothing(_: &Scene) {}

fn requires(scene: &Scene) {
    scene.write("board/.marram-version", "8.3.1\n");
}

fn locks(scene: &Scene) {
    requires(scene);
    let mut lock = scene.command(PROGRAM);
    lock.arg("lock").current_dir(scene.path("board"));
    let ran = scene.run(&mut lock);
    assert_eq!(ran.code, 0, "{ran}");
}

/// The person agreed before that what is required is installed on entering.
fn enters(scene: &Scene) {
    requires(scene);
    let settings = "main-runtime = \"marram\"\nfollowing = \"install\"\n";
    scene.write(".config/vivid-shelf/shelf.toml", settings);
    let folder = serde_json::json!({ "folder": scene.path("board") });
    let agreed = ".local/share/vivid-shelf/installing.jsonl";
    scene.write(agreed, &format!("{folder}\n"));
}

fn has_older(scene: &Scene) {
    scene.does(&["install", "8.2.2"]);
}

fn has_removed(scene: &Scene) {
    scene.does(&["install", "8.3.1"]);
    scene.does(&["remove", "8.3.1", "--even-if-used"]);
}

fn has_deleted(scene: &Scene) {
    has_removed(scene);
    fs::remove_dir_all(scene.data("trash/marram")).unwrap();
}

/// A build outside the shelf, without a record.
fn has_elsewhere(scene: &Scene) {
    has_removed(scene);
    let trash = scene.data("trash/marram");
    let entry = names_in(&trash).remove(0);
    fs::rename(trash.join(entry).join("build"), scene.path("old")).unwrap();
    fs::remove_dir_all(&trash).unwrap();
}

fn has_packed(scene: &Scene) {
    has_elsewhere(scene);
    let mut tar = scene.command("tar");
    tar.args(["-czf", "old.tar.gz", "old"]);
    let ran = scene.run(&mut tar);
    assert_eq!(ran.code, 0, "{ran}");
}

fn has_no_record(scene: &Scene) {
    scene.does(&["install", "8.3.1"]);
    let record = scene.data("shelf/marram/saltmarsh-8.3.1/record.json");
    fs::remove_file(record).unwrap();
}

/// Runs a command on a machine of a company whose settings these are.
fn vshelf(scene: &Scene, settings: &str, arguments: &[&str]) -> Ran {
    scene.write("company/shelf.toml", settings);
    scene.write("board/keep", "");
    let path = format!("{}:/usr/bin:/bin", scene.path("old/bin").display());
    let mut command = scene.command(PROGRAM);
    command
        .env("VSHELF_COMPANY", scene.path("company"))
        .env("PATH", path)
        .args(arguments)
        .current_dir(scene.path("board"));
    scene.run(&mut command)
}

#[test]
fn every_way_onto_the_shelf_obeys_the_rules() {
    for (prepare, arguments) in WAYS {
        let scene = Scene::new();
        prepare(&scene);
        let installs = scene.data("shelf/marram");
        let before = names_in(&installs);
        let ran = vshelf(&scene, DENIED, arguments);
        let told = "may not be installed: 8.3 is denied";
        assert!(ran.to_string().contains(told), "{arguments:?}: {ran}");
        assert_eq!(before, names_in(&installs), "{arguments:?}: {ran}");
        let record = installs.join("saltmarsh-8.3.1/record.json");
        assert!(!record.exists(), "{arguments:?}: {ran}");
    }
}

#[test]
fn adopting_needs_leave_where_sources_are_prescribed() {
    let scene = Scene::new();
    has_elsewhere(&scene);
    let rules = |adopting: bool| {
        format!(
            "main-runtime = \"marram\"\n[rules]\nsources = [\"marram.stand-in\"]\nadopting = {adopting}\n"
        )
    };
    let ran = vshelf(&scene, &rules(false), &["adopt", "../old"]);
    assert_eq!(ran.code, 7, "{ran}");
    let told = "Marram 8.3.1 may not be installed: it does not come from a source, and adopting is not allowed.";
    assert!(ran.stderr.contains(told), "{ran}");
    // A person's own file cannot allow what the company's does not.
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"marram\"\n[rules]\nadopting = true\n",
    );
    assert_eq!(vshelf(&scene, &rules(false), &["adopt", "../old"]).code, 7);
    assert_eq!(vshelf(&scene, &rules(true), &["adopt", "../old"]).code, 0);
}

#[test]
fn a_rule_about_an_unknown_runtime_is_an_error() {
    let scene = Scene::new();
    for rule in [
        "denied = [{ runtime = \"Marram\", versions = \"8\", why = \"x\" }]",
        "sources = [\"marran.stand-in\", \"marram.stand-in\"]",
    ] {
        let rules = format!("main-runtime = \"marram\"\n[rules]\n{rule}\n");
        let ran = vshelf(&scene, &rules, &["install", "9"]);
        assert_eq!(ran.code, 6, "{ran}");
        assert!(
            ran.stderr.contains("and no runtime has that name."),
            "{ran}"
        );
        assert!(ran.stderr.contains("Did you mean marram?"), "{ran}");
        assert!(ran.stderr.contains("company/shelf.toml, line 3."), "{ran}");
    }
    assert!(scene.on_shelf().is_empty());
}
