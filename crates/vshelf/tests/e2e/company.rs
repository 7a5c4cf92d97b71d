//! Settings and rules of a company, below those of a person.

use std::fs;

use snapbox::str;

use crate::scene::{PROGRAM, Ran, Scene};
use crate::shows;

/// Runs a command on a machine of a company whose settings these are.
fn vshelf(scene: &Scene, settings: &str, arguments: &[&str]) -> Ran {
    scene.write("company/shelf.toml", settings);
    let mut command = scene.command(PROGRAM);
    command
        .env("VSHELF_COMPANY", scene.path("company"))
        .args(arguments);
    scene.run(&mut command)
}

const RULES: &str = r#"catalog-fresh-minutes = 5
main-runtime = "marram"
fixed = ["tidy.per-line"]

[tidy]
per-line = 3
idle-days = 90

[[rules.denied]]
runtime = "marram"
versions = "<=8.3.0 >=8"
why = "it loses readings; ask the tide desk"
from = 2026-11-01

[[rules.denied]]
runtime = "marram"
versions = "9"
why = "not before spring"
from = 2027-03-01

[rules.ended-lines]
why = "nobody fixes them any more"
"#;

#[test]
fn settings_of_the_company_count_below_those_of_the_person() {
    let scene = Scene::new();
    let own = "catalog-fresh-minutes = 30\n[tidy]\nper-line = 1\n";
    scene.write(".config/vivid-shelf/shelf.toml", own);
    shows!(
        vshelf(&scene, RULES, &["config"]),
        str![[r#"
setting                from                                      value
main-runtime           ~/company/shelf.toml, line 2              marram
following              default                                   announce
trusted-folders        default                                   unset
reminders              default                                   true
catalog-fresh-minutes  ~/.config/vivid-shelf/shelf.toml, line 1  30
build-jobs             default                                   unset
durable-installs       default                                   true
tidy.reasons           default                                   superseded, ended, withdrawn, final-out
tidy.idle-days         ~/company/shelf.toml, line 7              90
tidy.per-line          ~/company/shelf.toml, line 6, locked      3
trash.days             default                                   14
trash.megabytes        default                                   5000
rules.denied           ~/company/shelf.toml, line 9, locked      marram <=8.3.0 >=8: it loses readings; ask the tide desk, from 2026-11-01
rules.denied           ~/company/shelf.toml, line 15, locked     marram 9: not before spring, from 2027-03-01
rules.ended-lines      ~/company/shelf.toml, line 21, locked     nobody fixes them any more
VSHELF_DATA            default                                   ~/.local/share/vivid-shelf
VSHELF_CACHE           default                                   ~/.cache/vivid-shelf
VSHELF_CONFIG          default                                   ~/.config/vivid-shelf
VSHELF_COMPANY         environment                               ~/company
--- stderr
To change them: ${EDITOR:-vi} ~/.config/vivid-shelf/shelf.toml

"#]]
    );
}

#[test]
fn what_a_rule_forbids_is_refused_with_its_place_and_reason() {
    let scene = Scene::new();
    shows!(
        vshelf(&scene, RULES, &["install", "8.3.0"]),
        str![[r#"
--- stderr
Error: Marram 8.3.0 may not be installed: <=8.3.0 >=8 is denied.
  Why: it loses readings; ask the tide desk.
  The rule is ~/company/shelf.toml, line 9.
--- exit 7

"#]]
    );
    shows!(
        vshelf(&scene, RULES, &["install", "5"]),
        str![[r#"
--- stderr
Error: Marram 5.2.1 may not be installed: its line is no longer supported.
  Why: nobody fixes them any more.
  The rule is ~/company/shelf.toml, line 21.
--- exit 7

"#]]
    );
    assert!(scene.on_shelf().is_empty());
    // A lock and an explanation know of it.
    scene.write("board/.marram-version", "8.3.0\n");
    let mut lock = scene.command(PROGRAM);
    lock.env("VSHELF_COMPANY", scene.path("company"))
        .args(["lock"])
        .current_dir(scene.path("board"));
    let ran = scene.run(&mut lock);
    assert_eq!(ran.code, 7, "{ran}");
    assert!(!scene.path("board/vivid-shelf.lock").exists());
    let ran = vshelf(&scene, RULES, &["explain", "8.3.0"]);
    assert!(
        ran.stdout
            .contains("Marram 8.3.0 may not be installed: <=8.3.0 >=8 is denied."),
        "{ran}"
    );
    let card = vshelf(&scene, RULES, &["catalog", "8.3.0"]);
    let warning = "Warning: Marram 8.3.0 may not be installed: <=8.3.0 >=8 is denied.";
    assert!(card.stderr.contains(warning), "{card}");
    assert!(!card.stderr.contains("vshelf install 8.3.0"), "{card}");
    // It is neither mirrored nor renewed to.
    let ran = vshelf(&scene, RULES, &["mirror", "8.3.0", "--to", "site"]);
    assert_eq!(ran.code, 7, "{ran}");
    // What no rule forbids today is installed, and what is on the shelf already stays usable.
    assert_eq!(vshelf(&scene, RULES, &["install", "8", "9"]).code, 0);
    assert_eq!(
        vshelf(&scene, RULES, &["run", "8", "--", "marram", "--version"]).code,
        0
    );
}

#[test]
fn an_install_that_a_rule_forbids_is_not_enough_for_a_requirement() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0"]);
    scene.write(".marram-version", "8\n");
    let ran = vshelf(&scene, RULES, &["install"]);
    assert!(
        ran.stdout
            .contains("Marram 8.3.1 is on the shelf, published"),
        "{ran}"
    );
    scene.write(".marram-version", "8.3.0\n");
    let ran = vshelf(&scene, RULES, &["install"]);
    assert_eq!(ran.code, 7, "{ran}");
    assert!(
        ran.stderr.contains("Marram 8.3.0 may not be installed"),
        "{ran}"
    );
}

#[test]
fn denied_releases_stay_in_the_trash() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0", "6"]);
    scene.does(&["remove", "8.3.0", "6", "--even-if-used"]);
    let ran = vshelf(&scene, RULES, &["restore"]);
    assert_eq!(ran.code, 7, "{ran}");
    let told = "Marram 8.3.0 may not be installed: <=8.3.0 >=8 is denied.";
    assert!(ran.stderr.contains(told), "{ran}");
    assert_eq!(scene.on_shelf(), ["6.20.2"]);
    // It is still there when the rule is gone.
    fs::remove_dir_all(scene.path("company")).unwrap();
    let ran = scene.does(&["restore", "8.3.0"]);
    assert!(ran.stdout.contains("from the trash, as it was"), "{ran}");
}

#[test]
fn a_person_adds_rules_and_takes_none_away() {
    let scene = Scene::new();
    let own = "[rules]\nended-lines = { why = \"mine\", from = 2099-01-01 }\ndenied = [{ runtime = \"marram\", versions = \"10\", why = \"mine\" }]\n";
    scene.write(".config/vivid-shelf/shelf.toml", own);
    let ran = vshelf(&scene, RULES, &["install", "marram@5"]);
    assert!(ran.stderr.contains("nobody fixes them any more"), "{ran}");
    let ran = vshelf(&scene, RULES, &["install", "marram@10"]);
    assert!(
        ran.stderr
            .contains("The rule is ~/.config/vivid-shelf/shelf.toml, line 3."),
        "{ran}"
    );
}

#[test]
fn sources_that_may_not_be_used_are_passed_over_or_refused() {
    let scene = Scene::new();
    let only =
        |sources: &str| format!("main-runtime = \"marram\"\n[rules]\nsources = [{sources}]\n");
    let ran = vshelf(&scene, &only("\"marram.depot\""), &["install", "8"]);
    assert_eq!(ran.code, 7, "{ran}");
    assert!(
        ran.stderr
            .contains("the source marram.stand-in is not among those that may be used"),
        "{ran}"
    );
    assert!(ran.stderr.contains("company/shelf.toml, line 3."), "{ran}");
    assert_eq!(
        vshelf(&scene, &only("\"marram.stand-in\""), &["install", "8"]).code,
        0
    );
    let signed = "main-runtime = \"marram\"\n[rules]\nsigned-only = true\n";
    let ran = vshelf(&scene, signed, &["install", "9"]);
    assert!(
        ran.stderr
            .contains("the source marram.stand-in is no signed catalog"),
        "{ran}"
    );
    assert_eq!(
        vshelf(&scene, &signed.replace("true", "false"), &["install", "9"]).code,
        0
    );
}

#[test]
fn definitions_of_the_company_are_known_to_everybody() {
    let scene = Scene::new();
    let address = scene.server().address();
    scene.write(
        "company/runtimes/orache.toml",
        &vshelf_demo::orache::definition(&address),
    );
    let ran = vshelf(&scene, "", &["runtimes"]);
    assert!(
        ran.stdout.contains("orache   Orache   by the company"),
        "{ran}"
    );
    assert_eq!(vshelf(&scene, "", &["install", "orache@2.6"]).code, 0);
    // A person's own takes its place.
    let own = vshelf_demo::orache::definition(&address).replace("Orache", "My Orache");
    scene.write(".config/vivid-shelf/runtimes/orache.toml", &own);
    let ran = vshelf(&scene, "", &["runtimes"]);
    assert!(ran.stdout.contains("orache   My Orache  by you"), "{ran}");
    // What is wrong with it is told with its file.
    scene.write("company/runtimes/sedge.toml", "name = 3\n");
    let ran = vshelf(&scene, "", &["install", "sedge@1"]);
    assert_eq!(ran.code, 6, "{ran}");
    assert!(
        ran.stderr.contains("~/company/runtimes/sedge.toml")
            || ran.stderr.contains("[HOME]/company/runtimes/sedge.toml"),
        "{ran}"
    );
}

#[test]
fn wrong_settings_of_the_company_stop_what_needs_them() {
    let scene = Scene::new();
    for (settings, told) in [
        (
            "fixed = [\"tidy.per-line\"]\n",
            "\"tidy.per-line\" is fixed, and nothing here sets it",
        ),
        ("[rules]\ndenid = []\n", "unknown field `denid`"),
        (
            "[rules]\ndenied = [{ runtime = \"marram\" }]\n",
            "missing field `versions`",
        ),
        ("idle = 3\n", "unknown field `idle`"),
        ("[tidy\n", "shelf.toml"),
    ] {
        let ran = vshelf(&scene, settings, &["install", "marram@8"]);
        assert_eq!(ran.code, 6, "{ran}");
        assert!(
            ran.stderr.contains(told) && ran.stderr.contains("~/company/shelf.toml"),
            "{told}: {ran}"
        );
    }
    assert!(scene.on_shelf().is_empty());
}
