//! Names: explaining, labels, pins, filters, days to come.

use std::fs;

use snapbox::str;

use crate::scene::{PROGRAM, Ran, Scene};
use crate::shows;

/// Runs the program in a folder below the home.
fn within(scene: &Scene, folder: &str, arguments: &[&str]) -> Ran {
    scene.run(
        scene
            .command(PROGRAM)
            .args(arguments)
            .current_dir(scene.path(folder)),
    )
}

#[test]
fn a_selector_is_explained_step_by_step() {
    let scene = Scene::new();
    scene.does(&["label", "board", "lts"]);
    shows!(
        scene.vshelf(&["explain", "board"]),
        str![[r#"
Marram board, on 2026-11-23
 1  Your label board stands for lts.
 2  The catalog has 83 releases.
 3  Line 8 is the newest in phase lts.
 4  14 of them are of line 8.
 5  10 of them come from saltmarsh.
 6  9 of them were not withdrawn.
 7  8.3.1 is the newest; the next is 8.3.0.
Result: Marram 8.3.1 from saltmarsh, which is not on the shelf.
Its archive and what is known of it come from the source stand-in.

"#]]
    );
    shows!(
        scene.vshelf(&["explain", ">=6 <8 || 8.2.1"]),
        str![[r#"
Marram >=6 <8 || 8.2.1, on 2026-11-23
 1  The catalog has 83 releases.
 2  35 of them are in >=6 <8 || 8.2.1.
 3  29 of them come from saltmarsh.
 4  28 of them are built for linux-x64-gnu.
 5  26 of them were not withdrawn.
 6  7.2.2 is the newest; the next is 7.2.1.
Result: Marram 7.2.2 from saltmarsh, which is not on the shelf.
Its archive and what is known of it come from the source stand-in.

"#]]
    );
    shows!(
        scene.vshelf(&["explain", "next"]),
        str![[r#"
Marram next, on 2026-11-23
 1  The publisher's channel next is 10 now.
 2  The catalog has 83 releases.
 3  5 of them begin with 10.
 4  All of them are pre-releases, so those count.
 5  10.0.0-rc.1 is the newest; the next is 10.0.0-beta.2.
Result: Marram 10.0.0-rc.1 from saltmarsh, which is not on the shelf.
Its archive and what is known of it come from the source stand-in.

"#]]
    );
    shows!(
        scene.vshelf(&["explain", "lts", "--as-of", "2025-10-20", "--quiet"]),
        str![[r#"
Marram lts, on 2025-10-20
 1  The catalog has 83 releases.
 2  Line 6 is the newest in phase lts.
 3  26 of them are of line 6.
 4  22 of them come from saltmarsh.
 5  21 of them were not withdrawn.
 6  6.20.2 is the newest; the next is 6.20.1.
Result: Marram 6.20.2 from saltmarsh, which is not on the shelf.
Its archive and what is known of it come from the source stand-in.

"#]]
    );
    scene.does(&["--quiet", "install", "6.2"]);
    shows!(
        scene.vshelf(&["explain", "6"]),
        str![[r#"
Marram 6, on 2026-11-23
 1  The catalog has 83 releases.
 2  26 of them begin with 6.
 3  22 of them come from saltmarsh.
 4  21 of them were not withdrawn.
 5  6.20.2 is the newest; the next is 6.20.1.
Result: Marram 6.20.2 from saltmarsh, which is not on the shelf.
Its archive and what is known of it come from the source stand-in.
Among what is on the shelf
 1  The shelf has 1 install.
 2  6.2.11 is the only version left.
Result: Marram 6.2.11 from saltmarsh.

"#]]
    );
    let json = scene.does(&["explain", "6", "--json"]).stdout;
    let report: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(report["chosen"], "6.20.2");
    assert_eq!(report["on_shelf"]["chosen"], "6.2.11");
    assert_eq!(report["steps"][1]["filter"]["value"], "6");
}

#[test]
fn labels_are_names_of_ones_own() {
    let scene = Scene::new();
    shows!(
        scene.vshelf(&["label"]),
        str![[r#"
There are no labels.
--- stderr
To see how to set one: vshelf help label

"#]]
    );
    shows!(
        scene.vshelf(&["label", "board", "6.20.2"]),
        str![[r#"
board stands for 6.20.2 now.
--- stderr
It is not on the shelf yet; to install it: vshelf install board

"#]]
    );
    scene.does(&["install", "board", "8"]);
    shows!(
        scene.vshelf(&["label", "lab", "lts"]),
        str![[r#"
lab stands for lts now.
--- stderr
To use it here: vshelf switch lab

"#]]
    );
    shows!(
        scene.vshelf(&["label"]),
        str![[r#"
label  stands for  on the shelf
board  6.20.2      6.20.2
lab    lts         8.3.1

"#]]
    );
    shows!(
        scene.vshelf(&["label", "BOARD"]),
        str![[r#"
board stands for 6.20.2, which is on the shelf.

"#]]
    );
    shows!(
        scene.vshelf(&["list", "--quiet"]),
        str![[r#"
Marram: 2 installs, 0.7 MB
version  phase        support ends                       size  used   marks
8.3.1    lts          2029-04-30, in 2 years 5 months  0.4 MB  today  label lab
6.20.2   maintenance  2026-12-28, in 5 weeks           0.3 MB  today  default, label board

"#]]
    );
    shows!(
        scene.vshelf(&["run", "lab", "--", "marram", "--version"]),
        str![[r#"
marram 8.3.1

"#]]
    );
    shows!(
        scene.vshelf(&["label", "board", "8"]),
        str![[r#"
board stands for 8 now, and no longer for 6.20.2.
--- stderr
To use it here: vshelf switch board

"#]]
    );
    shows!(
        scene.vshelf(&["label", "--remove", "board"]),
        str![[r#"
The label board is gone; what it stood for stays.

"#]]
    );
    shows!(
        scene.vshelf(&["label", "--remove", "boar"]),
        str![[r#"
--- stderr
Error: there is no label "boar".
  To see the labels: vshelf label
--- exit 3

"#]]
    );
}

#[test]
fn a_label_hides_nothing() {
    let scene = Scene::new();
    scene.does(&["catalog"]);
    for (name, selector, expected) in [
        (
            "lts",
            "8",
            str![[r#"
--- stderr
Error: "lts" is a keyword, and a label would hide it.
  Choose another name.
--- exit 7

"#]],
        ),
        (
            "eelgrass",
            "6",
            str![[r#"
--- stderr
Error: "eelgrass" is a code name, and a label would hide it.
  Choose another name.
--- exit 7

"#]],
        ),
        (
            "Next",
            "8",
            str![[r#"
--- stderr
Error: "Next" is a channel, and a label would hide it.
  Choose another name.
--- exit 7

"#]],
        ),
        (
            "v8",
            "8",
            str![[r#"
--- stderr
Error: "v8" is a version, and a label would hide it.
  Choose another name.
--- exit 7

"#]],
        ),
        (
            "8.3",
            "8",
            str![[r#"
--- stderr
Error: "8.3" is not a name.
  A label has letters, digits, '.', '_' and '-', and begins with a letter.
--- exit 2

"#]],
        ),
        (
            "a/b",
            "8",
            str![[r#"
--- stderr
Error: "a/b" is not a name.
  A label has letters, digits, '.', '_' and '-', and begins with a letter.
--- exit 2

"#]],
        ),
        (
            "board",
            "12",
            str![[r#"
--- stderr
Error: 12 is not published.
  To list what there is: vshelf catalog
--- exit 3

"#]],
        ),
        (
            "board",
            "board",
            str![[r#"
--- stderr
Error: "board" is not a label, channel or code name.
  To see the lines, code names and channels: vshelf catalog
  To see the runtimes that are known: vshelf runtimes
--- exit 3

"#]],
        ),
    ] {
        shows!(scene.vshelf(&["label", name, selector]), expected);
    }
    assert_eq!(scene.does(&["label"]).stdout, "There are no labels.\n");
}

#[test]
fn a_project_says_what_it_wants() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    scene.write("tide-board/src/notes", "");
    scene.does(&["label", "board", "6"]);
    within(&scene, "tide-board/src", &["require", "board"]);
    let pinned = fs::read_to_string(scene.path("tide-board/src/.marram-version")).unwrap();
    assert_eq!(pinned, "6\n", "a project does not know a person's labels");
    fs::remove_file(scene.path("tide-board/src/.marram-version")).unwrap();
    scene.does(&["label", "--remove", "board"]);
    shows!(
        within(&scene, "tide-board", &["require"]),
        str![[r#"
No project here requires a version.
--- stderr
For example, to require the stable release: vshelf require stable

"#]]
    );
    shows!(
        within(&scene, "tide-board", &["require", "samphire"]),
        str![[r#"
~/tide-board/.marram-version now requires samphire.
--- stderr
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    shows!(
        within(&scene, "tide-board/src", &["require"]),
        str![[r#"
The project here requires Marram samphire (~/tide-board/.marram-version, line 1); 6.20.2 on the shelf meets it.

"#]]
    );
    shows!(
        within(&scene, "tide-board/src", &["list", "--quiet"]),
        str![[r#"
Marram: 2 installs, 0.7 MB
version  phase        support ends                       size  used   marks
8.3.1    lts          2029-04-30, in 2 years 5 months  0.4 MB  today  default
6.20.2   maintenance  2026-12-28, in 5 weeks           0.3 MB  today  required by tide-board

"#]]
    );
    shows!(
        within(&scene, "tide-board", &["require", "9.2.0"]),
        str![[r#"
~/tide-board/.marram-version now requires 9.2.0.
--- stderr
Nothing on the shelf meets it; to install it: vshelf install

"#]]
    );
    let pinned = fs::read_to_string(scene.path("tide-board/.marram-version")).unwrap();
    assert_eq!(pinned, "9.2.0\n");
    shows!(
        within(&scene, "tide-board/src", &["require", "--remove"]),
        str![[r#"
--- stderr
Error: ~/tide-board/.marram-version, line 1, says what is required here, and is not a plain file of this folder.
  To edit it: ${EDITOR:-vi} ~/tide-board/.marram-version
--- exit 7

"#]]
    );
    shows!(
        within(&scene, "tide-board", &["status"]),
        str![[r#"
Marram 8.3.1 should be active here (it is the default, set as 8), but no marram is on PATH.
  line       8 Eelgrass: lts, support ends on 2029-04-30, in 2 years 5 months
  then       maintenance from 2027-10-19, in 10 months
  publisher  saltmarsh
  shell      not connected
--- stderr
Warning: The project here requires Marram 9.2.0 (~/tide-board/.marram-version, line 1), which is not on the shelf.
To put 9.2.0 there: vshelf install
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    shows!(
        within(&scene, "tide-board", &["install", "--quiet"]),
        str![""]
    );
    shows!(
        scene.bash(
            "cd tide-board/src; vshelf status; vshelf switch; marram --version; vshelf status"
        ),
        str![[r#"
Marram 9.2.0 is active here: tide-board requires 9.2.0.
  program    ~/.local/share/vivid-shelf/shelf/marram/saltmarsh-9.2.0/build/bin/marram
  line       9: current, support ends on 2027-06-30, in 7 months
  publisher  saltmarsh
  required   ~/tide-board/.marram-version, line 1
  overrode   the default, 8
  shell      bash, connected
This shell uses Marram 9.2.0 now.
marram 9.2.0
Marram 9.2.0 is active here: this shell was switched to it.
  program    ~/.local/share/vivid-shelf/shelf/marram/saltmarsh-9.2.0/build/bin/marram
  line       9: current, support ends on 2027-06-30, in 7 months
  publisher  saltmarsh
  required   tide-board requires 9.2.0 too (~/tide-board/.marram-version, line 1)
  overrode   the default, 8
  shell      bash, connected
--- stderr
New shells still get the default, 8.

"#]]
    );
}

#[test]
fn the_offered_release_is_named_if_a_catalog_is_kept() {
    let scene = Scene::new();
    let offered = |required: &str| {
        scene.write("tide-board/.marram-version", required);
        let ran = within(&scene, "tide-board", &["status", "--json"]);
        let status: serde_json::Value = serde_json::from_str(&ran.stdout).unwrap();
        let required = &status["runtimes"][0]["required"];
        (required["offered"].clone(), required["next"].clone())
    };
    let install = "vshelf install";
    assert_eq!(
        offered("8"),
        (serde_json::Value::Null, install.into()),
        "no catalog"
    );
    scene.does(&["catalog"]);
    assert_eq!(offered("8"), ("8.3.1".into(), install.into()));
    let look = "vshelf catalog marram";
    assert_eq!(offered("9.9"), (serde_json::Value::Null, look.into()));
    let ran = within(&scene, "tide-board", &["status"]);
    let hint =
        "The catalog has no release that meets it. To see what there is: vshelf catalog marram";
    assert!(ran.stderr.contains(hint), "{ran}");
    // A catalog of another day cannot tell what came out since.
    let mut later = scene.command(PROGRAM);
    later
        .args(["require", "--json"])
        .env("VSHELF_TODAY", "2026-11-25");
    let ran = scene.run(later.current_dir(scene.path("tide-board")));
    assert!(ran.stdout.contains("\"next\": \"vshelf install\""), "{ran}");
}

#[test]
fn a_word_is_undecided_without_a_catalog() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8"]);
    scene.write("tide-board/.marram-version", "lts");
    fs::remove_dir_all(scene.path(".cache/vivid-shelf/catalogs")).unwrap();
    let ran = within(&scene, "tide-board", &["status"]);
    let unknown = "whether an install meets it is unknown without a catalog.\n\
                   To get a catalog, which tells it: vshelf catalog marram\n";
    assert!(ran.stderr.contains(unknown), "{ran}");
    assert!(!ran.stderr.contains("not on the shelf"), "{ran}");
    scene.does(&["catalog", "marram"]);
    let ran = within(&scene, "tide-board", &["require"]);
    assert!(ran.stdout.contains("8.3.1 on the shelf meets it"), "{ran}");
}

#[test]
fn the_nearest_file_counts_and_our_own_speaks_for_several() {
    let scene = Scene::new();
    scene.write(
        "archive-tools/station.json",
        "{\n  \"engines\": { \"marram\": \">=6 <8\" }\n}\n",
    );
    scene.write(
        "archive-tools/inner/vivid-shelf.toml",
        "[runtimes]\nmarram = \"lts\"\n",
    );
    scene.write("archive-tools/inner/.marram-version", "9\n");
    shows!(
        within(&scene, "archive-tools", &["install"]),
        str![[r#"
Marram 7.2.2 is on the shelf, published by saltmarsh.
0.2 MB fetched in [TIME] s from stand-in, verified by sha256; 0.3 MB on disk.
It is the default now: new connected shells use it.
--- stderr
~/archive-tools/station.json requires Marram >=6 <8.
Fetching Marram 7.2.2 (0.2 MB).
Warning: Its line is no longer supported: it ended on 2025-06-30, 16 months ago.
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    shows!(
        within(&scene, "archive-tools/inner", &["install", "--quiet"]),
        str![""]
    );
    assert_eq!(scene.on_shelf(), ["7.2.2", "8.3.1"]);
}

#[test]
fn the_first_line_of_a_plain_file_counts_and_the_next_is_named() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8"]);
    scene.write("project/.marram-version", "8\n9\n");
    let named =
        "~/project/.marram-version, line 2, does not count: the first line with a selector does";
    for (arguments, answer) in [
        (["require"], "; 8.3.1 on the shelf meets it."),
        (["install"], "Marram 8.3.1 is already installed"),
    ] {
        let ran = within(&scene, "project", &arguments);
        assert!(
            ran.stdout.contains(answer) && ran.stderr.contains(named),
            "{ran}"
        );
    }
    let checkup = within(&scene, "project", &["checkup", "--offline"]);
    assert!(checkup.stdout.contains(named), "{checkup}");
}

#[test]
fn a_wish_that_is_not_understood_is_named_with_its_line() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    for (name, contents, expected) in [
        (
            ".marram-version",
            "8; touch pwned\n",
            str![[r#"
--- stderr
Error: ~/project/.marram-version, line 1: "8; touch pwned" is not a range.
  To write it again: vshelf require stable
--- exit 3

"#]],
        ),
        (
            ".marram-version",
            "../../../etc/passwd\n",
            str![[r#"
--- stderr
Error: ~/project/.marram-version, line 1: ".." is not a name; names have letters, digits, '.', '_' and '-', and begin with a letter.
  To write it again: vshelf require stable
--- exit 3

"#]],
        ),
        (
            ".marram-version",
            "8\u{1b}[2J\n",
            str![[r#"
--- stderr
Error: ~/project/.marram-version, line 1: it contains a byte that is not text.
  To write it again: vshelf require stable
--- exit 3

"#]],
        ),
        (
            ".marram-version",
            "previous\n",
            str![[r#"
--- stderr
Error: ~/project/.marram-version, line 1: previous means something else in every shell, and cannot be required.
  To write it again: vshelf require stable
--- exit 3

"#]],
        ),
        (
            "station.json",
            "{ \"engines\": { \"marram\": 8 } }",
            str![[r#"
--- stderr
Error: ~/project/station.json, line 1: engines.marram is not a text.
  To edit it: ${EDITOR:-vi} ~/project/station.json
--- exit 3

"#]],
        ),
        (
            "vivid-shelf.toml",
            "[runtimes",
            str![[r#"
--- stderr
Error: ~/project/vivid-shelf.toml, line 1: the file is not understood: unclosed table, expected `]`.
  To edit it: ${EDITOR:-vi} ~/project/vivid-shelf.toml
--- exit 3

"#]],
        ),
    ] {
        scene.write(&format!("project/{name}"), contents);
        shows!(within(&scene, "project", &["install"]), expected);
        let status = within(&scene, "project", &["status"]);
        assert_eq!(status.code, 0, "{status}");
        assert!(
            status
                .stderr
                .starts_with("Warning: The requirement of the project here cannot be used: "),
            "{status}"
        );
        fs::remove_file(scene.path(&format!("project/{name}"))).unwrap();
    }
    shows!(
        within(&scene, "project", &["install"]),
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
fn the_catalog_can_be_filtered() {
    let scene = Scene::new();
    let versions = |arguments: &[&str]| -> Vec<String> {
        let mut words = vec!["catalog", "--json"];
        words.extend(arguments);
        let json: serde_json::Value = serde_json::from_str(&scene.does(&words).stdout).unwrap();
        let releases = json["releases"].as_array().unwrap().iter();
        releases
            .map(|r| {
                format!(
                    "{}/{}",
                    r["publisher"].as_str().unwrap(),
                    r["version"].as_str().unwrap()
                )
            })
            .collect()
    };
    assert_eq!(
        versions(&["--all"]).len(),
        vshelf_demo::releases::all().len()
    );
    assert_eq!(
        versions(&["--phase", "lts"])[..2],
        ["saltmarsh/8.3.1", "dunefield/8.3.1"]
    );
    assert_eq!(
        versions(&["--security", "6"]),
        ["saltmarsh/6.20.2", "dunefield/6.20.2", "saltmarsh/6.2.10"]
    );
    assert_eq!(versions(&["--phase", "supported"])[0], "saltmarsh/9.2.0");
    assert_eq!(versions(&["dunefield/", "--since", "2026-06-01"]).len(), 4);
    assert!(
        versions(&["--phase", "lts", "--as-of", "2024-06-01"])
            .iter()
            .all(|v| v.contains("/6."))
    );
    shows!(
        scene.vshelf(&["catalog", "--since", "2026-11-01"]),
        str![[r#"
version        published   publisher  phase
10.0.0-rc.1    2026-11-17  saltmarsh  preview
10.0.0-beta.2  2026-11-03  saltmarsh  preview
9.2.0          2026-11-10  saltmarsh  current
--- stderr
To see one release: vshelf catalog 10.0.0-rc.1

"#]]
    );
    shows!(
        scene.vshelf(&["catalog", "dunfield/"]),
        str![[r#"
--- stderr
Error: "dunfield" is not a publisher of marram.
  Did you mean dunefield?
  The publishers are saltmarsh and dunefield.
--- exit 3

"#]]
    );
    shows!(
        scene.vshelf(&["catalog", "3", "--security"]),
        str![[r#"
--- stderr
No release passes all of these filters.

"#]]
    );
    shows!(
        scene.vshelf(&["catalog", "--since", "yesterday"]),
        str![[r#"
--- stderr
Error: "yesterday" is not a value for --since <DATE>.
  Write a date like 2026-11-23.
  To see what there is: vshelf catalog --help
--- exit 2

"#]]
    );
}

#[test]
fn what_ends_and_what_lacks_a_security_release_is_said() {
    let scene = Scene::new();
    scene.does(&["install", "8.2.0", "4", "dunefield/6.20.1"]);
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
Marram: 3 installs, 0.8 MB
version           phase        support ends                        size  used   newer             marks
8.2.0             lts          2029-04-30, in 2 years 5 months   0.4 MB  today  8.3.1, security   default
dunefield/6.20.1  maintenance  2026-12-28, in 5 weeks            0.3 MB  today  6.20.2, security
4.8.3             ended        2024-04-30, 2 years 6 months ago  0.2 MB  today
--- stderr
Warning: The default, 8.2.0, lacks a security release: 8.3.1 is out.
To get it: vshelf install 8.3.1 --default

"#]]
    );
    shows!(
        scene.vshelf(&["--offline", "list", "--as-of", "2029-06-01"]),
        str![[r#"
Marram: 3 installs, 0.8 MB
version           phase  support ends                        size  used                  newer             marks
8.2.0             ended  2029-04-30, 4 weeks ago           0.4 MB  2 years 6 months ago  8.3.1, security   default
dunefield/6.20.1  ended  2026-12-28, 2 years 5 months ago  0.3 MB  2 years 6 months ago  6.20.2, security
4.8.3             ended  2024-04-30, 5 years 1 month ago   0.2 MB  2 years 6 months ago
--- stderr
Warning: The default, 8.2.0, is of a line that is no longer supported: 8 ended on 2029-04-30, 4 weeks ago.
Warning: The default, 8.2.0, lacks a security release: 8.3.1 is out.
To get it: vshelf install 8.3.1 --default

"#]]
    );
    scene.does(&["default", "4"]);
    shows!(
        scene.bash("vshelf status"),
        str![[r#"
Marram 4.8.3 is active here: it is the default, set as 4.
  program    ~/.local/share/vivid-shelf/default/marram/bin/marram
  line       4 Glasswort: ended, support ended on 2024-04-30, 2 years 6 months ago
  publisher  saltmarsh
  shell      bash, connected
--- stderr
Warning: The default, 4.8.3, is of a line that is no longer supported: 4 ended on 2024-04-30, 2 years 6 months ago.
On the shelf: 1 install of an ended line and 2 installs without a security release; to see them: vshelf tidy --dry-run

"#]]
    );
}

#[test]
fn a_switch_says_what_newer_release_the_selector_would_cover() {
    let scene = Scene::new();
    scene.does(&["install", "8.2.0", "6.20.2"]);
    let ran =
        scene.bash("vshelf switch 8.2; vshelf switch latest; vshelf switch 8.2.0; vshelf switch 6");
    shows!(
        ran,
        str![[r#"
This shell uses Marram 8.2.0 now.
This shell uses Marram 8.2.0 already.
This shell uses Marram 8.2.0 already.
This shell uses Marram 6.20.2 now, and no longer Marram 8.2.0.
--- stderr
8.2.2 is published for 8.2; to get it: vshelf install 8.2.2 --switch
9.2.0 is published for latest; to get it: vshelf install 9.2.0 --switch
New shells still get the default, 8.2.0.

"#]]
    );
}

#[test]
fn a_switch_to_what_is_not_there_names_the_command_that_brings_it() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    shows!(
        scene.bash("vshelf switch 9 || echo \"exit $?\"; vshelf switch 8.4 || echo \"exit $?\""),
        str![[r#"
exit 3
exit 3
--- stderr
Error: 9 is not on the shelf.
  9.2.0 is published; to put it there: vshelf install 9.2.0
  To see what is there: vshelf list
Error: 8.4 is not on the shelf.
  Did you mean 8.3.1?
  To see what is there: vshelf list

"#]]
    );
}

#[test]
fn the_default_stays_the_install_it_is_until_it_is_set_anew() {
    let scene = Scene::new();
    scene.does(&["install", "8.3.0"]);
    scene.does(&["default", "8"]);
    scene.does(&["install", "8.3.1"]);
    let version = |selector: &str| {
        let ran = scene.does(&["run", selector, "--", "marram", "--version"]);
        ran.stdout
    };
    // What a new shell gets, and what the word means, are the same.
    assert_eq!(version("default"), "marram 8.3.0\n");
    assert_eq!(version("8"), "marram 8.3.1\n");
    let refused = scene.vshelf(&["remove", "default"]);
    assert!(
        refused.stderr.contains("Marram 8.3.0 is the default"),
        "{refused}"
    );
    scene.does(&["default", "8"]);
    assert_eq!(version("default"), "marram 8.3.1\n");
}

#[test]
fn a_requirement_goes_into_the_file_that_speaks_here() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8", "6"]);
    scene.write("tide-board/.marram-version", "6\n");
    scene.write("tide-board/src/tides.mar", "");
    // Also from a folder below.
    let said = within(&scene, "tide-board/src", &["require", "8"]).stdout;
    assert_eq!(said, "~/tide-board/.marram-version now requires 8.\n");
    assert!(!scene.path("tide-board/src/.marram-version").exists());
    // A manifest only when it is named, and with all else as it was.
    let manifest = "{\n  \"name\":   \"buoy\",\n  \"engines\": {\"marram\": \"6\"}\n}";
    scene.write("buoy-api/station.json", manifest);
    shows!(
        within(&scene, "buoy-api", &["require", ">=6 <9"]),
        str![[r#"
--- stderr
Error: ~/buoy-api/station.json, line 3, requires a version already, and is only written to when it is named.
  To write it there: vshelf require '>=6 <9' --file station.json
--- exit 7

"#]]
    );
    let named = ["require", ">=6 <9", "--file", "station.json"];
    let said = within(&scene, "buoy-api", &named).stdout;
    assert_eq!(said, "~/buoy-api/station.json now requires >=6 <9.\n");
    let text = fs::read_to_string(scene.path("buoy-api/station.json")).unwrap();
    assert_eq!(text, manifest.replace("\"6\"", "\">=6 <9\""));
    let own = ["require", "6", "--file", "vivid-shelf.toml"];
    within(&scene, "buoy-api", &own);
    let text = fs::read_to_string(scene.path("buoy-api/vivid-shelf.toml")).unwrap();
    assert_eq!(text, "[runtimes]\nmarram = \"6\"\n");
    let unknown = within(&scene, "buoy-api", &["require", "6", "--file", "Makefile"]);
    assert_eq!(unknown.code, 2, "{unknown}");
}

#[test]
fn mistakes_in_a_project_s_files_are_told() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8", "6"]);
    let text = "[runtime]\nmarram = \"8\"\n[runtimes]\nmarram = \"6\"\nmaram = \"8\"\n";
    scene.write("tide-board/vivid-shelf.toml", text);
    scene.write("tide-board/.marram-version", "8\n");
    shows!(
        within(&scene, "tide-board", &["require"]),
        str![[r#"
The project here requires Marram 6 (~/tide-board/vivid-shelf.toml, line 4); 6.20.2 on the shelf meets it.
--- stderr
Warning: ~/tide-board/vivid-shelf.toml, line 1: "runtime" is unknown and does not count; did you mean runtimes?
Warning: ~/tide-board/vivid-shelf.toml, line 5: "maram" is unknown and does not count; did you mean marram?
Warning: ~/tide-board/vivid-shelf.toml requires Marram 6, and takes precedence over ~/tide-board/.marram-version, which requires 8.

"#]]
    );
    let checked = within(&scene, "tide-board", &["checkup", "--offline"]);
    assert!(checked.stdout.contains("\"maram\" is unknown"), "{checked}");
    // In the home folder it rules everything below.
    let marks = |scene: &Scene| scene.does(&["list"]).stdout;
    assert!(
        !marks(&scene).contains("your home folder"),
        "{}",
        marks(&scene)
    );
    shows!(
        scene.does(&["require", "8"]),
        str![[r#"
~/.marram-version now requires 8.
--- stderr
Warning: This is your home folder: every folder below that has no file of its own follows it.
To choose a version for new shells instead: vshelf default 8
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    assert!(
        marks(&scene).contains("required by your home folder"),
        "{}",
        marks(&scene)
    );
}
