//! Command lines from habit: each is answered with one of ours, and that is understood.

use rstest::rstest;

use crate::scene::{PROGRAM, Scene};

/// A home with installs of two lines and a label.
fn scene() -> Scene {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8", "6"]);
    scene.does(&["label", "board", "6"]);
    scene
}

#[rstest]
#[case("help use", "switch")]
#[case("help ls", "list")]
#[case("use 8", "switch 8")]
#[case("off", "switch --follow")]
#[case("cache", "tidy")]
#[case("-v", "--version")]
#[case("plugin add marram", "runtimes")]
#[case("run marram --version", "run marram -- marram --version")]
#[case("run 8 marram --version", "run 8 -- marram --version")]
#[case("switch marram 8", "switch marram@8")]
#[case("switch --default 8", "default 8")]
#[case("install --force 8", "install --again 8")]
#[case("install --lts", "install lts")]
#[case("install --required", "install")]
#[case("list --remote", "catalog")]
#[case("list --all", "catalog --all")]
#[case("list --outdated", "tidy --dry-run")]
#[case("list --sort size", "list --size")]
#[case("remove --force 6", "remove --even-if-used 6")]
#[case("remove --every 6", "remove --all 6")]
#[case("tidy --line 6 --yes", "tidy 6 --yes")]
#[case("tidy --include 6", "remove 6")]
#[case("timeline --lines 6,8", "timeline 6 8")]
#[case("catalog --supported", "catalog --phase supported")]
#[case("catalog --newest-per-line", "catalog")]
#[case("catalog --newest 4", "catalog --all")]
#[case("catalog --publisher dunefield", "catalog PUBLISHER/")]
#[case("explain 8 --shelf", "explain 8")]
#[case("connect --shell bash", "connect bash")]
#[case("install 8 --verbose", "install 8")]
#[case("install 8 --jobs 4", "help install")]
#[case("require 8 --exact", "require 8")]
#[case("browse --filter lts", "browse")]
#[case("lock 8", "require 8")]
#[case("carry --from=6 --to 8", "carry 6 8")]
fn a_command_line_from_habit_is_answered_with_ours(#[case] typed: &str, #[case] ours: &str) {
    let scene = scene();
    let words: Vec<&str> = typed.split(' ').collect();
    let ran = scene.vshelf(&words);
    let answer = format!("  You probably meant: vshelf {ours}\n");
    assert!(
        ran.code == 2 && ran.stderr.contains(&answer),
        "{answer}{ran}"
    );
    let mut meant = scene.command(PROGRAM);
    let ran = scene.run(meant.args(ours.split(' ')));
    // Nothing here requires a version, and the view needs a terminal.
    assert!(
        ran.code != 2 || ["install", "browse"].contains(&ours),
        "{ran}"
    );
}

#[test]
fn the_title_of_a_runtime_names_it() {
    let scene = Scene::new();
    let ran = scene.vshelf(&["install", "nodejs"]);
    let answer = "  You probably meant: vshelf install node\n";
    assert!(ran.stderr.contains(answer), "{ran}");
    let ran = scene.vshelf(&["install", "seagrass"]);
    assert!(!ran.stderr.contains("You probably meant"), "{ran}");
    assert!(ran.stderr.contains("vshelf runtimes\n"), "{ran}");
}

#[test]
fn an_update_of_the_program_itself_is_another_job() {
    let ran = Scene::new().vshelf(&["self-update"]);
    let told = "vshelf is updated in the way in which it was installed.\n";
    assert!(ran.code == 2 && ran.stderr.contains(told), "{ran}");
}
