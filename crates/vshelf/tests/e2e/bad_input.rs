//! Bad input: a clear error with the way out, its own exit code, nothing changed.

use snapbox::str;

use crate::scene::Scene;
use crate::shows;

#[test]
fn words_that_are_not_understood() {
    let scene = Scene::new();
    shows!(
        scene.vshelf(&["instal", "8"]),
        str![[r#"
--- stderr
Error: "instal" is not a command.
  You probably meant: vshelf install 8
--- exit 2

"#]]
    );
    shows!(
        scene.vshelf(&["8", "install"]),
        str![[r#"
--- stderr
Error: "8" is not a command.
  You probably meant: vshelf install 8
--- exit 2

"#]]
    );
    shows!(
        scene.vshelf(&["zostera"]),
        str![[r#"
--- stderr
Error: "zostera" is not a command.
  To see the commands: vshelf --help
--- exit 2

"#]]
    );
    shows!(
        scene.vshelf(&["list", "--jsn"]),
        str![[r#"
--- stderr
Error: "--jsn" is not understood here.
  Did you mean --json?
  To see what there is: vshelf list --help
--- exit 2

"#]]
    );
    shows!(
        scene.vshelf(&["install"]),
        str![[r#"
--- stderr
Error: no project here requires a version.
  Looked for vivid-shelf.toml, .marram-version, station.json from this folder upward.
  For example, to require the stable release: vshelf require stable
--- exit 2

"#]]
    );
}

#[test]
fn selectors_that_stand_for_nothing() {
    let scene = Scene::new();
    for (selector, expected) in [
        (
            "8..3",
            str![[r#"
--- stderr
Error: "8..3" is not a version.
  Because: a part of the version is empty.
  A selector is a version (8.3.1), the beginning of one (8), a range (">=6 <8"), a word (lts, latest, stable, preview), a code name or a label.
--- exit 2

"#]],
        ),
        (
            ">=",
            str![[r#"
--- stderr
Error: ">=" is not a range.
  Because: ">=" has no version behind it.
  A selector is a version (8.3.1), the beginning of one (8), a range (">=6 <8"), a word (lts, latest, stable, preview), a code name or a label.
--- exit 2

"#]],
        ),
        (
            "../../etc",
            str![[r#"
--- stderr
Error: ".." is not a name; names have letters, digits, '.', '_' and '-', and begin with a letter.
  A selector is a version (8.3.1), the beginning of one (8), a range (">=6 <8"), a word (lts, latest, stable, preview), a code name or a label.
--- exit 2

"#]],
        ),
        (
            "6.03",
            str![[r#"
--- stderr
Error: 6.03 is not published.
  Did you mean 6.0.3?
  To list what there is: vshelf catalog 6
--- exit 3

"#]],
        ),
        (
            "12",
            str![[r#"
--- stderr
Error: 12 is not published.
  To list what there is: vshelf catalog
--- exit 3

"#]],
        ),
        (
            "eelgras",
            str![[r#"
--- stderr
Error: "eelgras" is not a label, channel or code name.
  Did you mean Eelgrass?
  To see the lines, code names and channels: vshelf catalog
  To see the runtimes that are known: vshelf runtimes
--- exit 3

"#]],
        ),
        (
            "dunefeld/8",
            str![[r#"
--- stderr
Error: "dunefeld" is not a publisher of marram.
  Did you mean dunefield?
  The publishers are saltmarsh and dunefield.
--- exit 3

"#]],
        ),
        (
            "dunefield/9.2.0",
            str![[r#"
--- stderr
Error: 9.2.0 is not published by dunefield.
  It is published by saltmarsh.
  To take that one: vshelf install saltmarsh/9.2.0
--- exit 3

"#]],
        ),
        (
            "7.0.1",
            str![[r#"
--- stderr
Error: 7.0.1 is not built for linux-x64-gnu.
  It is built for darwin-arm64 and darwin-x64.
  To see the versions around it: vshelf catalog 7
--- exit 3

"#]],
        ),
        (
            "8.2.1",
            str![[r#"
--- stderr
Error: 8.2.1 was withdrawn by saltmarsh: loses readings at midnight.
  The newest release of its line that is not withdrawn: vshelf install 8.3.1
  To see its card: vshelf catalog 8.2.1
--- exit 3

"#]],
        ),
        (
            "kelp@8",
            str![[r#"
--- stderr
Error: "kelp" is not a known runtime.
  To see the runtimes: vshelf runtimes
--- exit 3

"#]],
        ),
        (
            "system",
            str![[r#"
--- stderr
Error: system is the copy that is there already, and cannot be installed.
  To put it on the shelf: vshelf adopt system
--- exit 7

"#]],
        ),
    ] {
        shows!(scene.vshelf(&["install", selector]), expected);
    }
    assert!(scene.on_shelf().is_empty());
}

#[test]
fn selectors_that_are_not_on_the_shelf() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    shows!(
        scene.vshelf(&["default", "9"]),
        str![[r#"
--- stderr
Error: 9 is not on the shelf.
  9.2.0 is published; to put it there: vshelf install 9.2.0
  To see what is there: vshelf list
--- exit 3

"#]]
    );
    shows!(
        scene.vshelf(&["path", "8.3.2"]),
        str![[r#"
--- stderr
Error: 8.3.2 is not on the shelf.
  Did you mean 8.3.1?
  To see what is there: vshelf list
--- exit 3

"#]]
    );
    shows!(
        scene.vshelf(&["run", "previous", "--", "true"]),
        str![[r#"
--- stderr
Error: this shell has not used another version before.
  To see what is there: vshelf list
--- exit 3

"#]]
    );
    assert_eq!(
        scene.does(&["default"]).stdout,
        "Marram: 8.3.1 is the default, set as 8.\n"
    );
}

#[test]
fn a_shell_that_is_not_connected() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    shows!(
        scene.vshelf(&["switch", "8"]),
        str![[r#"
--- stderr
Error: this shell is not connected to the shelf, so nothing here can change its version.
  To connect your shells: vshelf connect
  To run one command without a connection: vshelf help run
--- exit 7

"#]]
    );
    scene.does(&["connect"]);
    shows!(
        scene.vshelf(&["switch", "8"]),
        str![[r#"
--- stderr
Error: this shell is not connected to the shelf, so nothing here can change its version.
  New shells are connected; this one was opened before that, or does not read its start-up file.
  To connect this shell: source ~/.local/share/vivid-shelf/connect/shelf.bash
  To run one command without a connection: vshelf help run
--- exit 7

"#]]
    );
    shows!(
        scene.vshelf(&["connect", "kelpsh"]),
        str![[r#"
--- stderr
Error: "kelpsh" is not a shell that can be connected.
  Shells that can be connected: bash, zsh, fish, sh, ksh, mksh, elvish, tcsh, xonsh, nu and powershell.
  To use a version in any shell: vshelf help run
--- exit 2

"#]]
    );
}

#[test]
fn files_that_cannot_be_read() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    scene.write(".local/share/vivid-shelf/state/marram.json", "garbage");
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
--- stderr
Error: [HOME]/.local/share/vivid-shelf/state/marram.json is damaged: expected value at line 1 column 1.
  It holds the default and the labels; the installs are not touched by moving it away.
  To set it aside and start over: mv ~/.local/share/vivid-shelf/state/marram.json ~/.local/share/vivid-shelf/state/marram.json.damaged
--- exit 6

"#]]
    );
    std::fs::remove_file(scene.data("state/marram.json")).unwrap();
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtme = \"marram\"\n",
    );
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
Marram: 1 install, 0.4 MB
version    size  used   marks
8.3.1    0.4 MB  today  default

"#]]
    );
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"marram\"\n",
    );
    scene.write(
        ".config/vivid-shelf/runtimes/marram.toml",
        "name = \"marram\"\n",
    );
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
Marram: 1 install, 0.4 MB
version    size  used   marks
8.3.1    0.4 MB  today  broken definition, default
--- stderr
Warning: [HOME]/.config/vivid-shelf/runtimes/marram.toml is not a definition of a runtime: missing field `title`.

"#]]
    );
}

#[test]
fn a_day_that_is_none() {
    let scene = Scene::new();
    shows!(
        scene.run(
            scene
                .command(crate::scene::PROGRAM)
                .arg("list")
                .env("VSHELF_TODAY", "soon")
        ),
        str![[r#"
--- stderr
Error: VSHELF_TODAY is "soon", which is not a date.
  A date is written like 2026-11-23.
--- exit 2

"#]]
    );
}

#[test]
fn a_home_that_cannot_be_written() {
    let scene = Scene::new();
    scene.write("file", "");
    let mut command = scene.command(crate::scene::PROGRAM);
    let ran = scene.run(
        command
            .args(["install", "8"])
            .env("VSHELF_DATA", scene.path("file/shelf")),
    );
    shows!(
        ran,
        str![[r#"
--- stderr
Error: [HOME]/file/shelf/format cannot be used.
  Because: Not a directory (os error 20).
--- exit 6

"#]]
    );
}

#[test]
fn what_people_type_is_understood_or_answered_with_the_right_form() {
    let scene = Scene::new();
    let installed = scene.does(&["install", "marram"]).stdout;
    assert!(
        installed.starts_with("Marram 8.3.1 is on the shelf"),
        "{installed}"
    );
    let version = scene.does(&["run", "marram", "--", "marram", "--version"]);
    assert_eq!(version.stdout, "marram 8.3.1\n");
    for (typed, answer) in [
        (
            &["install", "marram", "6"][..],
            "A version of that runtime: vshelf install marram@6\n",
        ),
        (
            &["run", "8", "marram", "--version"],
            "You probably meant: vshelf run 8 -- marram --version\n",
        ),
        (&["use", "8"], "You probably meant: vshelf switch 8\n"),
        (&["uninstall", "8"], "You probably meant: vshelf remove 8\n"),
        (&["8"], "You probably meant: vshelf switch 8\n"),
        (&["--quiet", "ls"], "You probably meant: vshelf list\n"),
    ] {
        let ran = scene.vshelf(typed);
        assert_eq!(ran.code, 2, "{ran}");
        assert!(ran.stderr.ends_with(answer), "{ran}");
    }
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
}

#[test]
fn a_data_folder_of_another_layout_is_named_and_left_alone() {
    let scene = Scene::new();
    let kept = ".local/share/vivid-shelf/marram/installs/8.3.1/bin/marram";
    scene.write(kept, "");
    shows!(
        scene.vshelf(&["install", "8"]),
        str![[r#"
--- stderr
Error: [HOME]/.local/share/vivid-shelf is laid out as an older vshelf did it.
  That layout was never published and is not read; its installs can be made again.
  To move it aside: mv ~/.local/share/vivid-shelf ~/.local/share/vivid-shelf.older
--- exit 6

"#]]
    );
    scene.write(".local/share/vivid-shelf/format", "vivid-shelf-data/9\n");
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
--- stderr
Error: [HOME]/.local/share/vivid-shelf is of format "vivid-shelf-data/9", and this vshelf reads "vivid-shelf-data/4".
  Use the newer vshelf that wrote it.
--- exit 6

"#]]
    );
    assert!(scene.path(kept).exists());
    assert_eq!(
        crate::scene::names_in(&scene.data("")),
        ["format", "marram"]
    );
}

#[test]
fn every_command_has_help_that_says_what_it_does() {
    let scene = Scene::new();
    let overview = scene.does(&["--help"]).stdout;
    assert_eq!(scene.does(&["help"]).stdout, overview);
    let short = scene.does(&[]).stdout;
    assert!(short.lines().count() <= 23, "{short}");
    assert!(short.contains("All commands: vshelf help"), "{short}");
    let install = scene.does(&["install", "--help"]).stdout;
    assert_eq!(scene.does(&["install", "-h"]).stdout, install);
    // The long one begins with the same sentence, says more, and has examples.
    let long = scene.does(&["help", "install"]).stdout;
    assert!(long.lines().count() > install.lines().count(), "{long}");
    assert!(
        long.contains("\nExamples:\n  vshelf install lts\n"),
        "{long}"
    );
    assert!(!install.contains("Examples:"), "{install}");
    for command in [
        "catalog", "list", "status", "explain", "path", "install", "switch", "default", "require",
        "label", "run", "remove", "connect", "runtimes", "demo",
    ] {
        assert!(
            overview.contains(&format!("\n  {command} ")),
            "{command} is in the overview"
        );
        let help = scene.does(&[command, "--help"]).stdout;
        let undocumented = help.lines().map(str::trim).find(|line| {
            line.starts_with('-') && line.split_once("  ").is_none() && !line.contains("--help")
        });
        // Long help puts an option's text on the line below it.
        if let Some(option) = undocumented {
            let (_, behind) = help.split_once(option).unwrap();
            assert!(
                !behind.lines().nth(1).unwrap_or("").trim().is_empty(),
                "{command} {option}"
            );
        }
    }
}

#[rstest::rstest]
#[case(&["install", "marram-8", "--default"], "vshelf install marram@8 --default")]
#[case(&["run", "8@marram", "--", "marram", "8@marram"], "vshelf run marram@8 -- marram 8@marram")]
#[case(&["require", "latest-8"], "vshelf require 8")]
fn spellings_from_elsewhere_are_answered_with_ours(#[case] typed: &[&str], #[case] ours: &str) {
    let ran = Scene::new().vshelf(typed);
    assert_ne!(ran.code, 0, "{ran}");
    let first = ran.stderr.lines().find(|line| line.starts_with("  "));
    assert_eq!(
        first,
        Some(&*format!("  You probably meant: {ours}")),
        "{ran}"
    );
}

#[test]
fn a_code_name_behind_an_unknown_publisher_is_what_was_meant() {
    let ran = Scene::new().vshelf(&["catalog", "gull/eelgrass"]);
    assert_eq!(ran.code, 3, "{ran}");
    assert!(ran.stderr.contains("  Did you mean eelgrass?\n"), "{ran}");
}
