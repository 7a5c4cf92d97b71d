//! Paths that stay the same: a link to the newest install of a line.

use crate::scene::Scene;

/// The answer of the program at the path of a line.
fn answer(scene: &Scene, name: &str) -> Option<String> {
    let program = scene.data("lines/marram").join(name).join("bin/marram");
    if !program.exists() {
        return None;
    }
    let mut command = scene.command(program.to_str().unwrap());
    Some(scene.run(command.arg("--version")).stdout.trim().to_owned())
}

#[test]
fn the_path_of_a_line_follows_installs_renewals_and_removals() {
    let scene = Scene::new();
    scene.does(&["install", "8.3.0", "6.20.2"]);
    let link = "[HOME]/.local/share/vivid-shelf/lines/marram/8\n";
    assert_eq!(scene.does(&["path", "--line", "8"]).stdout, link);
    let ran = scene.does(&["path", "--line", "marram@8", "--program"]);
    assert_eq!(ran.stdout, link.replace('\n', "/bin/marram\n"));
    let is_now = |expected: Option<&str>| {
        let expected = expected.map(|version| format!("marram {version}"));
        assert_eq!(answer(&scene, "8"), expected);
    };
    is_now(Some("8.3.0"));
    scene.does(&["renew", "8", "--yes"]);
    is_now(Some("8.3.1"));
    scene.does(&["install", "8.3.0"]);
    is_now(Some("8.3.1"));
    scene.does(&["remove", "8.3.1", "--even-if-used"]);
    is_now(Some("8.3.0"));
    scene.does(&["remove", "8.3.0", "--even-if-used"]);
    is_now(None);
    scene.does(&["install", "dunefield/8.3.1"]);
    is_now(Some("8.3.1"));
    scene.does(&["path", "--line", "dunefield/8"]);
    assert_eq!(
        answer(&scene, "dunefield-8").as_deref(),
        Some("marram 8.3.1")
    );
}

#[test]
fn only_the_numbers_of_a_line_on_the_shelf_name_one() {
    let scene = Scene::new();
    scene.does(&["install", "8.3.1"]);
    for (selector, told) in [
        (
            "lts",
            "\"lts\" does not name a line by its numbers, such as 8 or 1.23",
        ),
        ("marram@", "\"marram@\" does not name a line by its numbers"),
        ("6", "6 is not on the shelf"),
    ] {
        let ran = scene.vshelf(&["path", "--line", selector]);
        assert!(ran.code != 0 && ran.stderr.contains(told), "{ran}");
    }
    assert!(!scene.data("lines").exists());
}
