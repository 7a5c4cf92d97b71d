//! Jobs and containers: a fresh home, no terminal, no connected shell.

use snapbox::str;

use crate::scene::{PROGRAM, Ran, Scene};
use crate::shows;

/// A script in the folder of a project, in a shell that knows nothing of the shelf.
fn job(scene: &Scene, script: &str) -> Ran {
    scene.write("buoy-api/.marram-version", "6\n");
    let mut command = scene.command("sh");
    command
        .env("PROGRAM_PATH", PROGRAM)
        .env("PATH_FILE", scene.path("path-file"))
        .env("VARIABLES_FILE", scene.path("variables-file"))
        .env_remove("SHELL")
        .current_dir(scene.path("buoy-api"));
    let script = format!("set -eu\nvshelf() {{ \"$PROGRAM_PATH\" \"$@\"; }}\n{script}");
    scene.run(command.args(["-c", &script]))
}

#[test]
fn what_the_pin_says_becomes_the_default_without_a_question() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8"]);
    let ran = job(&scene, "vshelf install --default --quiet </dev/null");
    assert_eq!(ran.code, 0, "{ran}");
    assert_eq!(
        scene.does(&["default"]).stdout,
        "Marram: 6.20.2 is the default, set as 6.\n"
    );
    // Without a requirement there is nothing to make the default.
    let nothing = scene.vshelf(&["install", "--default"]);
    assert_eq!(nothing.code, 2, "{nothing}");
    // Each of several runtimes has a default of its own.
    scene.write(
        "both/vivid-shelf.toml",
        "[runtimes]\nmarram = \"8\"\nnode = \"22\"\n",
    );
    let several = job(&scene, "cd ../both; vshelf install --default");
    assert_eq!(several.code, 2, "{several}");
    assert!(
        several.stderr.contains("vshelf install marram@8 node@22"),
        "{several}"
    );
}

#[test]
fn a_job_gets_what_its_project_wants() {
    let scene = Scene::new();
    shows!(
        job(
            &scene,
            "vshelf install --quiet </dev/null
            vshelf run --here -- marram --version
            eval \"$(vshelf path --env sh)\"
            marram --version
            echo \"$MARRAM_HOME\"
            vshelf path --env folders >>\"$PATH_FILE\"; cat \"$PATH_FILE\"
            vshelf path --env variables >>\"$VARIABLES_FILE\"; cat \"$VARIABLES_FILE\"
            vshelf path --env dotenv >>.env
            (set -a; . ./.env; marram --version)"
        ),
        str![[r#"
marram 6.20.2
marram 6.20.2
[HOME]/.local/share/vivid-shelf/shelf/marram/saltmarsh-6.20.2/build
[HOME]/.local/share/vivid-shelf/shelf/marram/saltmarsh-6.20.2/build/bin
MARRAM_HOME=[HOME]/.local/share/vivid-shelf/shelf/marram/saltmarsh-6.20.2/build
marram 6.20.2

"#]]
    );
    // The second time nobody is asked.
    let again = job(
        &scene,
        "vshelf --offline install --quiet; vshelf --offline run --here -- marram --version",
    );
    assert_eq!(again.code, 0, "{again}");
    assert!(again.stdout.ends_with("marram 6.20.2\n"), "{again}");
}

#[test]
fn what_files_cannot_hold_is_refused() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    let mut odd = scene.command(PROGRAM);
    odd.args(["path", "--env", "dotenv", "8"])
        .env("PATH", "/usr/bin:/home/it's");
    shows!(
        scene.run(&mut odd),
        str![[r#"
--- stderr
Error: PATH holds a line break or apostrophe, which these files cannot.
  For a shell: vshelf path --env sh
--- exit 7

"#]]
    );
    let mut shell = scene.command(PROGRAM);
    shell
        .args(["path", "--env", "sh", "8"])
        .env("PATH", "/usr/bin:/home/it's");
    let ran = scene.run(&mut shell);
    assert!(ran.stdout.contains(r"/home/it'\''s'"), "{ran}");
    let both = scene.vshelf(&["path", "--env", "sh", "--json"]);
    assert_eq!(both.code, 2, "{both}");
}
