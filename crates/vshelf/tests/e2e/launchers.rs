//! Launchers: for programs that never run a shell's start-up file.

use crate::scene::{Ran, Scene, names_in};

/// Runs a command as an editor would: in a folder, with the launchers in front of PATH.
fn edited(scene: &Scene, folder: &str, words: &[&str]) -> Ran {
    let path = format!("{}:/usr/bin:/bin", scene.data("launchers").display());
    let mut command = scene.command(scene.data("launchers").join(words[0]).to_str().unwrap());
    scene.run(
        command
            .args(&words[1..])
            .env("PATH", path)
            .current_dir(scene.path(folder)),
    )
}

#[test]
fn a_launcher_runs_what_the_project_wants_and_else_the_default() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    scene.write("tide-board/.marram-version", "6\n");
    scene.write("tide-board/show.mar", "print version\n");
    let made = scene.does(&["launchers"]);
    assert_eq!(
        made.stdout,
        "~/.local/share/vivid-shelf/launchers launch what the project requires: marram, tussock\n"
    );
    assert_eq!(
        edited(&scene, "", &["marram", "--version"]).stdout,
        "marram 8.3.1\n"
    );
    assert_eq!(
        edited(&scene, "tide-board", &["marram", "--version"]).stdout,
        "marram 6.20.2\n"
    );
    let ran = edited(&scene, "tide-board", &["marram", "show.mar"]);
    assert_eq!(ran.stdout, "6.20.2\n", "{ran}");
    // They are in step with the shelf, and are no copy of the system's own.
    scene.does(&["default", "6"]);
    assert_eq!(
        edited(&scene, "", &["marram", "--version"]).stdout,
        "marram 6.20.2\n"
    );
    scene.does(&["remove", "6", "8", "--even-if-used"]);
    let none = edited(&scene, "", &["marram", "--version"]);
    assert_eq!(none.code, 3, "{none}");
    assert!(
        none.stderr.contains("no version of Marram is active here"),
        "{none}"
    );
    scene.does(&["launchers", "--remove"]);
    assert_eq!(names_in(&scene.data("launchers")), Vec::<String>::new());
    let again = scene.does(&["launchers", "--remove"]);
    assert_eq!(
        again.stdout,
        "There are no launchers; nothing was changed.\n"
    );
}

#[test]
fn a_launcher_needs_nothing_of_its_environment() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    scene.write("tide-board/.marram-version", "6\n");
    scene.does(&["launchers"]);
    let launcher = scene.data("launchers/marram");
    for (folder, version) in [(scene.path("tide-board"), "6.20.2"), ("/".into(), "8.3.1")] {
        let mut command = scene.command(&launcher.to_string_lossy());
        command
            .env_clear()
            .env("HOME", scene.home())
            .current_dir(folder);
        let ran = scene.run(command.arg("--version"));
        assert_eq!(ran.stdout, format!("marram {version}\n"), "{ran}");
        assert_eq!(ran.stderr, "", "{ran}");
    }
}

#[test]
fn run_here_names_its_runtime() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    let ran = scene.does(&["run", "--here", "marram@", "--", "marram", "--version"]);
    assert_eq!(ran.stdout, "marram 8.3.1\n");
    let ran = scene.does(&["run", "--here", "--", "marram", "--version"]);
    assert_eq!(ran.stdout, "marram 8.3.1\n");
    assert_eq!(scene.vshelf(&["run", "--", "marram"]).code, 2);
}
