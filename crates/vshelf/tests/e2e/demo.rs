//! The demo, whole.

use std::io::{BufRead, BufReader};
use std::os::unix::fs::symlink;
use std::process::Stdio;

use rstest::rstest;

use crate::process::Started;
use crate::scene::{PROGRAM, Scene, names_in, program};

/// A folder with links to a few programs of this system, and no bash.
fn without_bash(scene: &Scene) -> String {
    std::fs::create_dir(scene.path("few")).unwrap();
    for name in [
        "cat", "cc", "cp", "dirname", "env", "as", "getconf", "gzip", "ld", "ls", "make", "mkdir",
        "mv", "printf", "rm", "sh", "tar", "touch",
    ] {
        if let Some(found) = program(name) {
            symlink(found, scene.path("few").join(name)).unwrap();
        }
    }
    scene.path("few").display().to_string()
}

#[rstest]
#[case("bash")]
#[case("sh")]
fn the_demo_tells_its_story_and_leaves_nothing_behind(#[case] shell: &str) {
    let scene = Scene::new();
    std::fs::create_dir(scene.path("tmp")).unwrap();
    let mut command = scene.command(PROGRAM);
    if shell == "sh" {
        command.env("PATH", without_bash(&scene));
    }
    let ran = scene.run(command.arg("demo").env("TMPDIR", scene.path("tmp")));
    assert_eq!(ran.code, 0, "{ran}");
    for step in vshelf_demo::story::steps(shell) {
        assert!(
            ran.stdout
                .contains(&format!("\n{}\n{}\n", step.why, step.command)),
            "{}",
            step.command
        );
    }
    for answer in [
        "8  Eelgrass   lts",
        "This shell uses Marram 6.20.2 now",
        "\n6.20.2\n",
        "\nmarram 8.3.1\n",
        "Marram 6.20.2 was removed",
    ] {
        assert!(ran.stdout.contains(answer), "{answer}\n{ran}");
    }
    assert!(ran.stderr.contains("Did you mean 6.2.0 or 6.0.2?"), "{ran}");
    assert!(names_in(&scene.path("tmp")).is_empty());
    assert!(
        scene.on_shelf().is_empty(),
        "the person's own shelf is untouched"
    );
}

#[test]
fn the_server_alone_prints_lines_that_work() {
    let scene = Scene::new();
    let mut command = scene.command(PROGRAM);
    command
        .args(["demo", "--serve", "--quiet"])
        .stdout(Stdio::piped());
    let mut server = Started::start(&mut command);
    let lines = BufReader::new(server.stdout.take().unwrap()).lines();
    let printed: Vec<String> = lines.take(7).map(Result::unwrap).collect();
    let script: String = printed[2..]
        .iter()
        .map(|line| line.trim().replace("vshelf ", &format!("{PROGRAM} ")) + "\n")
        .collect();
    let script = script.replace("/tmp/vshelf-demo", &scene.path("own").to_string_lossy());
    let ran = scene.run(scene.command("/bin/bash").args(["-e", "-c", &script]));
    server.end();
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stdout.contains("Eelgrass"), "{ran}");
}
