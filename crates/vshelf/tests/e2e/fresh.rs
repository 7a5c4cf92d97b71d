//! A home in which nothing is installed, several runtimes are known, and none is the main one.

use rstest::rstest;
use snapbox::str;

use crate::scene::{PROGRAM, Scene};
use crate::shows;
use crate::terminal::Terminal;

fn fresh() -> Scene {
    let scene = Scene::new();
    scene.write(".config/vivid-shelf/shelf.toml", "");
    scene
}

#[rstest]
#[case(&["list"])]
#[case(&["status"])]
#[case(&["default"])]
#[case(&["tidy"])]
#[case(&["renew"])]
fn what_only_reads_the_shelf_says_that_it_is_empty(#[case] command: &[&str]) {
    let ran = fresh().does(command);
    assert_eq!(
        ran.stdout, "The shelf is empty: nothing is installed yet.\n",
        "{ran}"
    );
    assert_eq!(
        ran.stderr,
        "To see what can be installed: vshelf runtimes\n"
    );
}

#[rstest]
#[case(&["list", "--json"], "runtimes")]
#[case(&["status", "--json"], "runtimes")]
#[case(&["default", "--json"], "defaults")]
#[case(&["renew", "--json"], "renewals")]
#[case(&["require", "--json"], "requirements")]
fn programs_get_an_empty_list(#[case] command: &[&str], #[case] list: &str) {
    let json = fresh().does(command).stdout;
    let report: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(report, serde_json::json!({ list: [] }));
}

#[rstest]
#[case("install lts --default", "install marram@lts --default")]
#[case("catalog", "catalog marram")]
#[case("catalog 8 --all", "catalog marram@8 --all")]
#[case("timeline", "timeline marram")]
#[case("label board 6", "label board marram@6")]
#[case("require 8", "require marram@8")]
fn a_missing_runtime_is_answered_with_the_likely_ones(#[case] typed: &str, #[case] answered: &str) {
    let words: Vec<&str> = typed.split(' ').collect();
    let ran = fresh().vshelf(&words);
    assert_eq!(ran.code, 2, "{ran}");
    // The person defined it.
    let first = format!("  For marram: vshelf {answered}\n");
    assert!(ran.stderr.contains(&first), "{first}{ran}");
    assert_eq!(ran.stderr.matches("  For ").count(), 2, "{ran}");
    assert!(
        ran.stderr.contains("vshelf runtimes --main marram"),
        "{ran}"
    );
}

#[rstest]
#[case("run 8 -- marram 8")]
#[case("remove 8 6")]
#[case("carry 6 8")]
fn commands_on_installs_say_that_there_are_none(#[case] typed: &str) {
    let words: Vec<&str> = typed.split(' ').collect();
    let ran = fresh().vshelf(&words);
    let told =
        "Error: nothing is installed yet.\n  To see what can be installed: vshelf runtimes\n";
    assert_eq!((ran.code, ran.stderr.as_str()), (3, told), "{ran}");
}

#[test]
fn the_form_that_is_answered_works_and_a_bare_name_is_its_stable_release() {
    for selector in ["marram@stable", "marram", "marram@"] {
        let scene = fresh();
        scene.does(&["--quiet", "install", selector]);
        assert_eq!(scene.on_shelf(), ["8.3.1"], "{selector}");
        // It is the only one on the shelf, and meant from now on.
        assert_eq!(scene.does(&["path", selector]).code, 0);
        scene.does(&["catalog", "8"]);
        scene.does(&["default", selector]);
    }
}

#[test]
fn what_a_project_requires_of_another_runtime_is_told() {
    let scene = fresh();
    scene.write("vivid-shelf.toml", "[runtimes]\nmarram = \"8\"\n");
    let ran = scene.does(&["require"]);
    assert!(
        ran.stdout.starts_with("The project here requires Marram 8"),
        "{ran}"
    );
}

#[test]
fn on_a_terminal_a_person_is_asked() {
    let scene = fresh();
    scene.write(".bashrc", "PS1='> '\n");
    let mut terminal = Terminal::open(&scene);
    let line = format!("{PROGRAM} --quiet install 8");
    // The end of it: "Which runtime? 1 bun, 2 deno, …"
    let question = " or 15 zig: ";
    terminal.asks(&line, question, "marram");
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
    let other = fresh();
    other.write(".bashrc", "PS1='> '\n");
    let mut terminal = Terminal::open(&other);
    let seen = terminal.asks(&line, question, "kelp");
    assert!(seen.contains("For marram:"), "{seen}");
    assert!(!other.data("shelf").exists());
}

#[test]
fn a_project_that_requires_runtimes_without_installs_is_answered_about_them() {
    let scene = fresh();
    scene.write(
        "tide-board/vivid-shelf.toml",
        "[runtimes]\nmarram = \"8\"\nkelp = \"2\"\n",
    );
    scene.write("tide-board/.ferry-version", "20\n");
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "[requirement-files]\nnode = [\".ferry-version\"]\n",
    );
    scene.write("tide-board/src/package.json", "{}\n");
    let ran = |arguments: &[&str]| {
        let mut command = scene.command(PROGRAM);
        scene.run(
            command
                .args(arguments)
                .env("PATH", scene.path("no-programs"))
                .current_dir(scene.path("tide-board/src")),
        )
    };
    shows!(
        ran(&["status"]),
        str![[r#"
No version of Marram is active here.

No version of Node.js is active here.
--- stderr
Warning: The project here requires Marram 8 (~/tide-board/vivid-shelf.toml, line 2), which is not on the shelf.
To put it there: vshelf install
Warning: The project here requires Node.js 20 (~/tide-board/.ferry-version, line 1), which is not on the shelf.
To put it there: vshelf install

"#]]
    );
    shows!(
        ran(&["checkup", "--offline"]),
        str![[r#"
~/.bashrc: does not connect new shells
  To fix it: vshelf connect
the project here: requires Marram 8, which is not on the shelf
  To fix it: vshelf install
the project here: requires Node.js 20, which is not on the shelf
  To fix it: vshelf install
the project here: ~/tide-board/vivid-shelf.toml, line 3: "kelp" is unknown and does not count
  To fix it: ${EDITOR:-vi} ~/tide-board/vivid-shelf.toml
--- stderr
No source was asked (--offline).
Error: the checkup has 4 findings.
--- exit 1

"#]]
    );
    let json: serde_json::Value = serde_json::from_str(&ran(&["status", "--json"]).stdout).unwrap();
    let runtimes = json["runtimes"].as_array().unwrap().iter();
    let names: Vec<_> = runtimes
        .map(|report| report["runtime"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["marram", "node"]);
}

#[test]
fn an_unusable_file_stops_no_other_runtime() {
    let scene = fresh();
    scene.write("tide-board/.marram-version", "8\n");
    scene.write("tide-board/.node-version", "twenty two\n");
    let ran = |arguments: &[&str]| {
        let mut command = scene.command(PROGRAM);
        command.env("PATH", scene.path("no-programs"));
        scene.run(
            command
                .args(arguments)
                .current_dir(scene.path("tide-board")),
        )
    };
    let installed = ran(&["install"]);
    assert_eq!(
        (installed.code, scene.on_shelf()),
        (3, vec!["8.3.1".to_owned()]),
        "{installed}"
    );
    for (command, said) in [
        (
            "require",
            "The project here requires Marram 8 (~/tide-board/.marram-version, line 1); 8.3.1 on the shelf meets it.",
        ),
        ("status", "tide-board requires 8"),
    ] {
        let ran = ran(&[command]);
        assert!(ran.stdout.contains(said), "{ran}");
        let unusable = "The requirement of the project here cannot be used: ~/tide-board/.node-version, line 1: ";
        assert!(ran.stderr.contains(unusable), "{ran}");
    }
}

#[test]
fn a_manifest_says_which_runtime_an_example_is_for() {
    let scene = Scene::new();
    scene.write("site/package.json", "{}\n");
    let mut require = scene.command(PROGRAM);
    let ran = scene.run(require.arg("require").current_dir(scene.path("site")));
    assert!(
        ran.stderr.contains(": vshelf require node@stable\n"),
        "{ran}"
    );
    assert!(!ran.stderr.contains("Marram"), "{ran}");
    let ran = scene.vshelf(&["require"]);
    assert!(ran.stderr.contains(": vshelf require stable\n"), "{ran}");
}
