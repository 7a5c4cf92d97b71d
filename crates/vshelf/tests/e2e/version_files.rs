//! One-line version files that other programs write: proposed, read in all projects, and read no more.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use snapbox::str;

use crate::scene::{PROGRAM, Ran, Scene};
use crate::shows;

fn within(scene: &Scene, folder: &str, arguments: &[&str]) -> Ran {
    let mut command = scene.command(PROGRAM);
    scene.run(command.args(arguments).current_dir(scene.path(folder)))
}

#[test]
fn a_version_file_is_proposed_and_then_read_in_every_project() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8"]);
    scene.does(&["--quiet", "connect", "bash"]);
    scene.write("board/.jj/repo", "");
    scene.write("board/.tide-rc", "eelgrass\n");
    scene.write("board/src/.beach_v", "v8.3\n");
    for (name, text) in [
        (".greeting", "hello\n"),
        (".lines", "8\n6\n"),
        (".Upper", "8\n"),
        (".marram-version.d/x", "8\n"),
    ] {
        scene.write(&format!("board/src/{name}"), text);
    }
    for command in ["status", "require"] {
        let proposed = "~/board/src/.beach_v says 8.3, and is not read.
If it is for marram: vshelf require --read .beach_v marram
~/board/.tide-rc says eelgrass, and is not read.
If it is for marram: vshelf require --read .tide-rc marram
";
        let ran = within(&scene, "board/src", &[command]);
        assert!(ran.stderr.contains(proposed), "{ran}");
    }
    shows!(
        within(
            &scene,
            "board/src",
            &["require", "--read", ".tide-rc", "marram"]
        ),
        str![[r#"
.tide-rc is read for marram in all your projects now.

"#]]
    );
    shows!(
        scene.vshelf(&["require", "--read"]),
        str![[r#"
.tide-rc  marram

"#]]
    );
    scene.write("other/.tide-rc", "8\n");
    for folder in ["board/src", "other"] {
        let json = within(&scene, folder, &["require", "--json"]).stdout;
        let json: serde_json::Value = serde_json::from_str(&json).unwrap();
        assert_eq!(
            json["requirements"][0]["met_by"], "saltmarsh/8.3.1",
            "{json}"
        );
    }
    let watched = fs::read_to_string(scene.data("connect/runtimes.bash")).unwrap();
    assert!(watched.contains(".tide-rc"), "{watched}");
    // A project never chooses what is read.
    assert!(!scene.path("board/src/vivid-shelf.toml").exists());
    let settings = fs::read_to_string(scene.path(".config/vivid-shelf/shelf.toml")).unwrap();
    assert_eq!(
        settings,
        "main-runtime = \"marram\"\n\n[requirement-files]\nmarram = [\".tide-rc\"]\n"
    );
    scene.does(&["require", "--read", ".tide-rc", "marram", "--remove"]);
    let ran = within(&scene, "other", &["require"]);
    assert!(ran.stdout.contains("No project here requires"), "{ran}");
    assert_eq!(
        fs::read_to_string(scene.path(".config/vivid-shelf/shelf.toml")).unwrap(),
        "main-runtime = \"marram\"\n"
    );
    let watched = fs::read_to_string(scene.data("connect/runtimes.bash")).unwrap();
    assert!(!watched.contains(".tide-rc"), "{watched}");
}

#[test]
fn other_names_and_runtimes_are_refused() {
    let scene = Scene::new();
    for (arguments, code, said) in [
        (
            &["require", "--read", "../.x", "marram"][..],
            2,
            "\"../.x\" cannot be read in projects",
        ),
        (
            &["require", "--read", "x", "marram"],
            2,
            "begins with a period",
        ),
        (
            &["require", "--read", ".x"],
            2,
            "vshelf require --read .x RUNTIME",
        ),
        (
            &["require", "--read", ".x", "marrm"],
            3,
            "Did you mean marram?",
        ),
        (
            &["require", "--read", ".x", "marram", "--remove"],
            3,
            "vshelf require --read\n",
        ),
        (
            &["require", "--remove", "8"],
            2,
            "vshelf require --remove\n",
        ),
    ] {
        let ran = scene.vshelf(arguments);
        assert_eq!(ran.code, code, "{ran}");
        assert!(ran.stderr.contains(said), "{ran}");
    }
    scene.write("shared/.beach_v", "8\n");
    let open = fs::Permissions::from_mode(0o777);
    fs::set_permissions(scene.path("shared"), open).unwrap();
    let ran = within(&scene, "shared", &["status"]);
    assert!(!ran.stderr.contains(".beach_v"), "{ran}");
}
