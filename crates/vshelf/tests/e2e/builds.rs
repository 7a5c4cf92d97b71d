//! Releases that come as source: what they need, how they are built, and what is told when that fails.

use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::thread;
use std::time::Duration;

use flate2::Compression;
use flate2::write::GzEncoder;
use rustix::process::{Pid, Signal, kill_process_group};
use serde_json::Value;
use snapbox::str;
use tempfile::TempDir;

use crate::process::{self, Started};
use crate::scene::{PROGRAM, Ran, Scene, names_in, skipped};
use crate::shows;

/// A home with a runtime that is published as the source of 1.0.0 alone: these scripts of its source archive
/// are its steps, and `more` belongs to its build.
pub fn recipe(scripts: &[(&str, &str)], more: &str) -> Scene {
    let scene = Scene::new();
    let mut archive = tar::Builder::new(GzEncoder::new(Vec::new(), Compression::fast()));
    for (name, text) in scripts {
        let text = format!("#!/bin/sh\n{text}\n");
        let mut header = tar::Header::new_ustar();
        header.set_mode(0o755);
        header.set_size(text.len() as u64);
        archive
            .append_data(&mut header, format!("bell-1.0.0/{name}"), text.as_bytes())
            .unwrap();
    }
    let bytes = archive.into_inner().and_then(GzEncoder::finish).unwrap();
    scene.write("published/README", "");
    let file = scene.path("published/bell-1.0.0.tar.gz");
    fs::write(&file, bytes).unwrap();
    let mut sums = process::command("sha256sum");
    sums.arg("bell-1.0.0.tar.gz")
        .current_dir(scene.path("published"));
    let sums = process::output(&mut sums);
    fs::write(scene.path("published/SHA256SUMS"), sums.stdout).unwrap();
    let steps: Vec<String> = scripts
        .iter()
        .map(|(name, _)| {
            format!("{{ name = {name:?}, run = [\"./{name}\", \"{{stage}}{{prefix}}\"] }}")
        })
        .collect();
    let address = scene.path("published");
    let definition = format!(
        r#"name = "bell"
title = "Bell"
program = "bell"
probe = {{ arguments = ["--version"], answer = "bell {{version}}" }}
[build]
steps = [{}]
{more}
[[sources]]
name = "gull-point"
kind = "folder"
publisher = "gull-point"
address = {address:?}
pattern = "bell-{{version}}.tar.gz"
platforms = {{ source = "source" }}
checksums = "SHA256SUMS"
"#,
        steps.join(", ")
    );
    scene.write(".config/vivid-shelf/runtimes/bell.toml", &definition);
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"bell\"\n",
    );
    scene
}

/// The script of a step that installs the program.
pub const INSTALL: &str = "mkdir -p \"$1/bin\" && printf '#!/bin/sh\\necho bell 1.0.0\\n' >\"$1/bin/bell\" && chmod +x \"$1/bin/bell\"";

/// The log of the only build that is under way or failed.
fn log(scene: &Scene) -> String {
    let builds = scene.data("builds");
    let names = names_in(&builds);
    let name = names.iter().find(|name| !name.ends_with(".lock")).unwrap();
    fs::read_to_string(builds.join(name).join("log")).unwrap()
}

pub fn told(ran: &Ran, code: i32, all: &[&str]) {
    assert_eq!(ran.code, code, "{ran}");
    for text in all {
        assert!(ran.stderr.contains(text), "{text}: {ran}");
    }
}

#[test]
fn a_release_that_comes_as_source_is_built() {
    let scene = Scene::new();
    let address = scene.server().address();
    scene.write(
        ".config/vivid-shelf/runtimes/orache.toml",
        &vshelf_demo::orache::definition(&address),
    );
    let ran = scene.vshelf(&["explain", "orache@2.5"]);
    for why in [
        "No build of it is published for this platform: it is built from source here.",
        "Its steps: configure, compile and install",
        "kelp is missing and optional",
    ] {
        assert!(ran.stdout.contains(why), "{why}: {ran}");
    }
    let ran = scene.vshelf(&["install", "orache@2.5"]);
    assert_eq!(ran.code, 0, "{ran}");
    for line in [
        "Orache 2.5.3 is built from source: configure, compile and install.",
        "kelp is missing and optional",
        "Orache 2.5.3: step 2 of 3, compile.",
        "It was built without compressed sending.",
    ] {
        assert!(ran.stderr.contains(line), "{line}: {ran}");
    }
    assert!(
        ran.stdout
            .contains("Orache 2.5.3 is on the shelf, built from source in "),
        "{ran}"
    );
    let record = scene.data("shelf/orache/saltmarsh-2.5.3/record.json");
    let record: Value = serde_json::from_str(&fs::read_to_string(record).unwrap()).unwrap();
    assert_eq!(record["platform"], "source");
    let built = &record["built"];
    assert_eq!(built["left_out"][0], "compressed sending");
    assert_eq!(built["steps"].as_array().map(Vec::len), Some(3));
    assert!(built["space"].as_u64().is_some_and(|bytes| bytes > 0));
    let log = scene.data("shelf/orache/saltmarsh-2.5.3/build.log");
    assert!(fs::read_to_string(log).unwrap().contains("./configure"));
    let ran = scene.does(&["run", "orache@2.5.3", "--", "orache", "-e", "send version"]);
    assert_eq!(ran.stdout, "2.5.3\n");
    // Nothing of the build is left, and it is an install like any other.
    assert!(names_in(&scene.data("builds")).is_empty());
    assert_eq!(scene.vshelf(&["checkup", "orache@2.5.3"]).code, 0);
    // A build that is published comes first, and what is not published as source cannot be built.
    told(
        &scene.vshelf(&["install", "--build", "orache@2.6.3"]),
        3,
        &["is not published as source"],
    );
    scene.does(&["remove", "orache@2.5.3", "--even-if-used"]);
    let ran = scene.does(&["install", "orache@2.5", "orache@2.6"]);
    let row = ran.stdout.lines().nth(1).unwrap();
    assert!(
        row.starts_with("Orache 2.5.3  built in ")
            && row.ends_with("0.1 MB  saltmarsh, verified by sha256"),
        "{ran}"
    );
    let left_out = "Orache 2.5.3 was built without compressed sending.";
    assert!(ran.stderr.contains(left_out), "{ran}");
    scene.does(&["remove", "orache@2.5.3", "--even-if-used"]);
    scene.does(&["restore"]);
    assert!(
        scene
            .data("shelf/orache/saltmarsh-2.5.3/build/bin/orache")
            .exists()
    );
}

#[test]
fn what_is_missing_is_told_before_anything_is_fetched() {
    let library = "libraries = [
        { name = \"kelp\", for = \"packages\", required = true, find = { header = \"no/such/kelp.h\" }, packages = { debian = \"libkelp-dev\" } },
        { name = \"sand\", for = \"castles\", find = { pkg-config = \"no-such-sand\" }, packages = { debian = \"libsand-dev\" } } ]
        tools = [\"no-such-tool\"]";
    let scene = recipe(&[("install", INSTALL)], library);
    let ran = scene.vshelf(&["install", "1"]);
    told(
        &ran,
        7,
        &[
            "Bell 1.0.0 cannot be built here: no-such-tool and kelp are missing.",
            "kelp is missing",
            ": it is for packages.",
            "sand is missing and optional",
            ": it is for castles.",
        ],
    );
    let os_release = fs::read_to_string("/etc/os-release").unwrap_or_default();
    if os_release.contains("ID=debian") {
        told(
            &ran,
            7,
            &[&format!(
                "To install what is missing: {}apt-get install libkelp-dev libsand-dev",
                if rustix::process::geteuid().is_root() {
                    ""
                } else {
                    "sudo "
                }
            )],
        );
    }
    assert!(!scene.data("builds").exists());
    assert!(!scene.path(".cache/vivid-shelf/archives").exists());
}

#[test]
fn a_step_that_fails_shows_its_first_error_and_leaves_nothing_on_the_shelf() {
    let compile = "for n in 1 2 3 4 5 6 7; do echo line $n; done
        echo 'a.c:3:10: fatal error: kelp/kelp.h: No such file or directory' >&2
        for n in 8 9; do echo line $n; done; exit 2";
    let scene = recipe(&[("compile", compile), ("install", INSTALL)], "");
    let ran = scene.vshelf(&["install", "1"]);
    told(
        &ran,
        5,
        &[
            "Bell 1.0.0 was not built: the step compile ended with exit status: 2.",
            "| line 3",
            "| a.c:3:10: fatal error: kelp/kelp.h",
            "| line 8",
            "The header kelp/kelp.h is missing",
            "/log",
        ],
    );
    assert!(!ran.stderr.contains("| line 2\n"), "{ran}");
    assert!(!scene.data("shelf/bell").exists() || names_in(&scene.data("shelf/bell")).is_empty());
    assert!(log(&scene).contains("# ./compile"));
    let ran = scene.vshelf(&["checkup"]);
    for told in [
        "the build of Bell 1.0.0: is not finished",
        "vshelf install bell@1.0.0",
    ] {
        assert!(
            ran.stdout.contains(told) || ran.stderr.contains(told),
            "{told}: {ran}"
        );
    }
    let ran = scene.does(&["tidy"]);
    assert!(ran.stdout.contains("1 unfinished build"), "{ran}");
    scene.does(&["tidy", "--yes"]);
    assert!(
        !names_in(&scene.data("builds"))
            .iter()
            .any(|name| !name.ends_with(".lock"))
    );
}

#[test]
fn an_interrupted_build_goes_on_from_its_step() {
    let configure = "echo configured >>configured.txt";
    // The first time it waits to be interrupted.
    let compile = "echo compiling; if [ ! -e begun ]; then : >begun; sleep 60; fi; echo went on";
    let scene = recipe(
        &[
            ("configure", configure),
            ("compile", compile),
            ("install", INSTALL),
        ],
        "",
    );
    let mut command = scene.command(PROGRAM);
    command
        .args(["install", "1"])
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    let mut first = Started::start(&mut command);
    let begun = || {
        let builds = scene.data("builds");
        let names = if builds.exists() {
            names_in(&builds)
        } else {
            Vec::new()
        };
        names
            .iter()
            .any(|name| builds.join(name).join("source/begun").exists())
    };
    let waited = (0..3000).any(|_| {
        thread::sleep(Duration::from_millis(20));
        begun()
    });
    assert!(waited, "the step begins");
    // As Ctrl-C does: the whole group gets it.
    kill_process_group(Pid::from_child(&first), Signal::INT).unwrap();
    assert!(!first.wait().success());
    assert!(!scene.data("shelf/bell/gull-point-1.0.0").exists());
    let ran = scene.vshelf(&["install", "1"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(
        ran.stderr
            .contains("Bell 1.0.0 goes on being built from source"),
        "{ran}"
    );
    assert!(!ran.stderr.contains("step 1 of 3"), "{ran}");
    assert!(ran.stderr.contains("step 2 of 3, compile"), "{ran}");
    assert_eq!(
        scene.does(&["run", "1", "--", "bell", "--version"]).stdout,
        "bell 1.0.0\n"
    );
}

#[test]
fn a_build_has_an_environment_of_its_own_and_leaves_nothing_running() {
    let look =
        "env; echo home holds: $(ls -A \"$HOME\"); cat /proc/self/net/dev; sleep 31415 & exit 0";
    let check = "exit 1";
    let scene = recipe(
        &[("look", look), ("stop", check), ("install", INSTALL)],
        "environment = { BELL_PLACE = \"{prefix}\" }",
    );
    let mut command = scene.command(PROGRAM);
    command
        .env("SECRET_OF_MINE", "tide")
        .env("RUBYOPT", "-w")
        .args(["install", "1"]);
    let ran = scene.run(&mut command);
    assert_eq!(ran.code, 5, "{ran}");
    let log = log(&scene);
    assert!(
        !log.contains("SECRET_OF_MINE") && !log.contains("RUBYOPT"),
        "{log}"
    );
    let place = format!(
        "BELL_PLACE={}",
        scene.data("shelf/bell/gull-point-1.0.0/build").display()
    );
    assert!(
        log.contains(&place) && log.contains("home holds:\n"),
        "{log}"
    );
    let alone = [
        "--user",
        "--map-current-user",
        "--net",
        "--pid",
        "--fork",
        "--kill-child",
        "true",
    ];
    if !process::output(process::command("unshare").args(alone))
        .status
        .success()
    {
        skipped("namespaces without rights, which this system does not allow");
        return;
    }
    let devices = log
        .lines()
        .filter(|line| line.trim_start().contains(": ") && line.contains(" 0 "));
    assert!(
        devices
            .clone()
            .all(|line| line.trim_start().starts_with("lo:")),
        "{log}"
    );
    let left = process::output(process::command("pgrep").args(["-f", "sleep 31415"]));
    assert!(left.stdout.is_empty(), "what a step started goes with it");
}

#[test]
fn what_a_build_says_of_itself_is_checked() {
    let check = "checks = [{ run = [\"{install}/bin/bell\", \"--ring\"], says = \"it rings\" }]";
    let mute = INSTALL.replace(
        "echo bell 1.0.0",
        "[ \"$1\" = --version ] && echo bell 1.0.0",
    );
    let scene = recipe(&[("install", &mute)], check);
    let ran = scene.vshelf(&["install", "1"]);
    told(
        &ran,
        5,
        &["Bell 1.0.0 was built, and does not pass its check: it rings."],
    );
    assert!(!scene.data("shelf/bell/gull-point-1.0.0").exists());
    let scene = recipe(&[("install", "true")], "");
    told(
        &scene.vshelf(&["install", "1"]),
        5,
        &["Bell 1.0.0 was built, and left nothing at"],
    );
    // A place is written into the source, which has to have room for it.
    let replace = "replace = [{ file = \"install\", text = \"NOWHERE\", by = \"{prefix}\" }]";
    let placed = INSTALL.replace("echo bell 1.0.0", "echo bell 1.0.0 NOWHERE");
    let scene = recipe(&[("install", &placed)], replace);
    scene.does(&["install", "1"]);
    let said = scene.does(&["run", "1", "--", "bell"]).stdout;
    assert!(
        said.starts_with("bell 1.0.0 ") && said.contains("/shelf/bell/gull-point-1.0.0/build"),
        "{said}"
    );
    let scene = recipe(&[("install", INSTALL)], replace);
    told(
        &scene.vshelf(&["install", "1"]),
        5,
        &["install does not hold \"NOWHERE\""],
    );
}

#[test]
fn a_build_names_its_log_and_runs_as_many_jobs_as_the_settings_say() {
    let compile = "echo one; echo two; echo jobs: $JOBS";
    let scene = recipe(
        &[("compile", compile), ("install", INSTALL)],
        "environment = { JOBS = \"{jobs}\" }",
    );
    let settings = ".config/vivid-shelf/shelf.toml";
    let with_jobs = |jobs: &str| format!("main-runtime = \"bell\"\nbuild-jobs = {jobs}\n");
    scene.write(settings, &with_jobs("7"));
    let ran = scene.vshelf(&["install", "1"]);
    told(
        &ran,
        0,
        &[
            "Its steps write to ~/",
            "Bell 1.0.0: step 1 of 2, compile.\nBell 1.0.0: step 2 of 2, install.\n",
        ],
    );
    let log = fs::read_to_string(scene.data("shelf/bell/gull-point-1.0.0/build.log")).unwrap();
    assert!(log.contains("one\ntwo\njobs: 7\n"), "{log}");
    let ran = scene.vshelf(&["install", "--again", "1"]);
    told(
        &ran,
        0,
        &["Bell 1.0.0 is built from source: compile and install; that took 0."],
    );
    assert!(
        ran.stderr
            .contains(" s here last time, and 0.1 MB on disk meanwhile."),
        "{ran}"
    );
    for wrong in ["0", "\"many\""] {
        scene.write(settings, &with_jobs(wrong));
        told(
            &scene.vshelf(&["install", "--again", "1"]),
            6,
            &["Line 2", "build-jobs", "expected a whole number"],
        );
    }
}

#[test]
fn a_build_that_lost_what_it_needs_is_found_by_checkup() {
    let check = "checks = [{ run = [\"{install}/bin/bell\", \"--ring\"], says = \"it rings\" }]
        libraries = [{ name = \"kelp\", for = \"ringing\", find = { pkg-config = \"kelp\", header = \"stdio.h\" } }]";
    let elsewhere = tempfile::tempdir().unwrap();
    let sound = elsewhere.path().join("sound");
    fs::write(&sound, "dong\n").unwrap();
    let rings = INSTALL.replace(
        "echo bell 1.0.0",
        &format!(
            "[ \"$1\" = --ring ] || exec echo bell 1.0.0\\nexec cat {}",
            sound.display()
        ),
    );
    let scene = recipe(&[("install", &rings)], check);
    scene.does(&["install", "1"]);
    assert_eq!(scene.vshelf(&["checkup", "1"]).code, 0);
    // What it was built with became another one, and what the check needs goes.
    let record = scene.data("shelf/bell/gull-point-1.0.0/record.json");
    let text = fs::read_to_string(&record).unwrap();
    let mut contents: Value = serde_json::from_str(&text).unwrap();
    contents["built"]["libraries"][0]["version"] = "1.2".into();
    fs::write(&record, contents.to_string()).unwrap();
    assert_eq!(scene.vshelf(&["checkup", "1"]).code, 0, "it still rings");
    fs::remove_file(&sound).unwrap();
    shows!(
        scene.vshelf(&["checkup", "1"]),
        str![[r#"
Bell 1.0.0: does not pass the check of its build any more: it rings
  it was built with another kelp
  To fix it: vshelf install --again 1.0.0
--- stderr
Error: the checkup has 1 finding.
--- exit 1

"#]]
    );
    fs::write(&sound, "dong\n").unwrap();
    // It works in one place only.
    let moved = scene.path("moved");
    fs::rename(scene.data(""), &moved).unwrap();
    let vshelf = |arguments: &[&str]| {
        let mut command = scene.command(PROGRAM);
        scene.run(command.env("VSHELF_DATA", &moved).args(arguments))
    };
    shows!(
        vshelf(&["checkup", "1"]),
        str![[r#"
Bell 1.0.0: was built for ~/.local/share/vivid-shelf/shelf/bell/gull-point-1.0.0/build, and works there only
  To fix it: vshelf install --again 1.0.0
--- stderr
Error: the checkup has 1 finding.
--- exit 1

"#]]
    );
    assert_eq!(vshelf(&["install", "--again", "1.0.0"]).code, 0);
    assert_eq!(vshelf(&["checkup", "1"]).code, 0);
}

#[test]
fn a_place_that_a_build_cannot_have_is_refused_before_it_is_fetched() {
    let scene = recipe(&[("install", INSTALL)], "");
    let odd = scene.path("my data");
    let install = |prefix: &str| {
        let mut command = scene.command(PROGRAM);
        let text =
            fs::read_to_string(scene.path(".config/vivid-shelf/runtimes/bell.toml")).unwrap();
        let text = text.replace("[build]\n", &format!("[build]\nprefix = {prefix:?}\n"));
        scene.write(".config/vivid-shelf/runtimes/bell.toml", &text);
        scene.run(command.env("VSHELF_DATA", &odd).args(["install", "1"]))
    };
    told(
        &install("final"),
        7,
        &["cannot be built for", "does not take ' ' in a path"],
    );
    assert!(!odd.join("builds").exists());
}

#[test]
fn a_definition_whose_steps_leave_the_build_is_refused() {
    let scene = recipe(&[("install", INSTALL)], "");
    let file = ".config/vivid-shelf/runtimes/bell.toml";
    let text = fs::read_to_string(scene.path(file)).unwrap();
    scene.write(file, &text.replace("\"./install\"", "\"/bin/sh\""));
    shows!(
        scene.vshelf(&["catalog"]),
        str![[r#"
--- stderr
Error: [HOME]/.config/vivid-shelf/runtimes/bell.toml is not a definition of a runtime: build.steps.run is "/bin/sh": one of the tools, or ./ and a program of the source, is expected.
  Line 6, column 37: steps = [{ name = "install", run = ["/bin/sh", "{stage}{prefix}"] }]
  To edit it: ${EDITOR:-vi} ~/.config/vivid-shelf/runtimes/bell.toml
--- exit 6

"#]]
    );
}

/// The script of a step that installs a program, which passes its check as long as `sea` is there.
fn install_with_check(sea: &Path) -> String {
    let check = format!(
        "#!/bin/sh\\n[ \"$1\" != check ] || exec ls {}\\n",
        sea.display()
    );
    INSTALL.replace("#!/bin/sh\\n", &check)
}

#[test]
fn a_build_that_can_be_moved_is_shared_and_checked_where_it_is_installed() {
    let folder = TempDir::new().unwrap();
    let sea = folder.path().join("sea");
    fs::write(&sea, "").unwrap();
    let more = "prefix = \"relocatable\"\n\
        checks = [{ run = [\"{install}/bin/bell\", \"check\"], says = \"it hears the sea\" }]";
    let scene = recipe(&[("install", &install_with_check(&sea))], more);
    told(
        &scene.vshelf(&["mirror", "1", "--builds", "--to", "site"]),
        7,
        &[
            "Bell 1.0.0 is not on the shelf, so that there is no build of it to share",
            "vshelf install --build 1.0.0",
        ],
    );
    scene.does(&["install", "--build", "bell@1.0.0"]);
    // What a person puts into an install is not shared.
    fs::write(scene.data("shelf/bell/gull-point-1.0.0/build/own"), "").unwrap();
    let ran = scene.does(&["mirror", "1", "--builds", "--to", "site"]);
    assert!(ran.stdout.contains("built here, and packed"), "{ran}");
    let ran = scene.does(&["mirror", "1", "--builds", "--to", "site"]);
    assert!(ran.stdout.contains("already mirrored"), "{ran}");

    let other = Scene::new();
    let definition = scene.path("site/bell/bell.toml");
    other.does(&["runtimes", "--add", &definition.display().to_string()]);
    let ran = other.does(&["install", "bell@1"]);
    assert!(!ran.stderr.contains("built from source"), "{ran}");
    let install = other.data("shelf/bell/gull-point-1.0.0");
    assert!(!install.join("build/own").exists());
    let record: Value =
        serde_json::from_str(&fs::read_to_string(install.join("record.json")).unwrap()).unwrap();
    assert_eq!(record["source"], "mirror");
    assert_eq!(record["repack"], true);
    assert_ne!(record["platform"], "source");
    let ran = other.does(&["run", "bell@1", "--", "bell"]);
    assert_eq!(ran.stdout, "bell 1.0.0\n");

    // Elsewhere it may not work, whatever its version says.
    other.does(&["remove", "bell@1", "--even-if-used"]);
    fs::remove_file(&sea).unwrap();
    told(
        &other.vshelf(&["install", "bell@1"]),
        5,
        &[
            "Bell 1.0.0 does not pass its check here: it hears the sea",
            "No such file or directory",
            "It was not put on the shelf.",
        ],
    );
    assert!(!install.exists());

    // What was changed since it was built is not shared.
    fs::write(scene.data("shelf/bell/gull-point-1.0.0/build/bin/bell"), "").unwrap();
    told(
        &scene.vshelf(&["mirror", "1", "--builds", "--to", "site"]),
        7,
        &["bin/bell changed", "vshelf install --build --again 1.0.0"],
    );
}

#[test]
fn a_build_for_its_place_is_not_shared() {
    let scene = recipe(&[("install", INSTALL)], "");
    scene.does(&["install", "bell@1"]);
    told(
        &scene.vshelf(&["mirror", "1", "--builds", "--to", "site"]),
        7,
        &["Bell 1.0.0 was built for its place on this shelf, and works nowhere else"],
    );
    // Its source is.
    let ran = scene.does(&["mirror", "1", "--to", "site"]);
    assert!(ran.stdout.contains("fetched and verified"), "{ran}");
}

#[test]
fn a_step_that_makes_a_link_of_the_stage_fails_the_build() {
    // The install would be the folder that the link leads to.
    let install = INSTALL.replace("$1", "$HOME/own");
    let install =
        format!("{install} && mkdir -p \"$(dirname \"$1\")\" && ln -s \"$HOME/own\" \"$1\"");
    let scene = recipe(&[("install", &install)], "");
    let ran = scene.vshelf(&["install", "1"]);
    told(&ran, 5, &["Bell 1.0.0 was built, and left nothing at "]);
    assert!(!scene.data("shelf/bell/gull-point-1.0.0").exists());
}

#[test]
fn a_killed_install_leaves_no_step_running() {
    let alone = process::output(process::command("setpriv").args([
        "--pdeathsig",
        "KILL",
        "unshare",
        "--user",
        "--net",
        "true",
    ]));
    if !alone.status.success() {
        skipped("namespaces without rights, which this system does not allow");
        return;
    }
    let folder = TempDir::new().unwrap();
    let begun = folder.path().join("begun");
    let wait = format!("touch {}; sleep 2719 & sleep 2719", begun.display());
    let scene = recipe(&[("wait", &wait), ("install", INSTALL)], "");
    let mut install = scene.command(PROGRAM);
    install
        .args(["install", "1"])
        .stderr(Stdio::null())
        .stdout(Stdio::null());
    let mut install = Started::start(&mut install);
    while !begun.exists() {
        thread::sleep(Duration::from_millis(10));
    }
    install.kill().unwrap();
    install.wait();
    let place = scene.data("builds").display().to_string();
    let is_running = || {
        let processes = fs::read_dir("/proc").unwrap().flatten();
        let mut environments =
            processes.filter_map(|process| fs::read_to_string(process.path().join("environ")).ok());
        environments.any(|environment| environment.contains(&place))
    };
    for _ in 0..200 {
        if !is_running() {
            return;
        }
        thread::sleep(Duration::from_millis(20));
    }
    panic!("a step goes on in {place}");
}

#[test]
fn a_clock_that_was_put_back_repeats_no_step() {
    let wait = "echo once >>../../../counted; exit 0";
    let folder = TempDir::new().unwrap();
    let ready = folder.path().join("ready");
    let install = format!("ls {} && {INSTALL}", ready.display());
    let scene = recipe(&[("wait", wait), ("install", &install)], "");
    assert_eq!(scene.vshelf(&["install", "1"]).code, 5);
    // All that is there was written in what is the future now.
    let mut touch = process::command("find");
    touch
        .arg(scene.data("builds"))
        .args(["-exec", "touch", "-h", "-d", "2040-01-01", "{}", "+"]);
    assert!(process::status(&mut touch).success());
    fs::write(ready, "").unwrap();
    let ran = scene.does(&["install", "1"]);
    let took = ran.stdout.lines().next().unwrap();
    assert!(took.contains("built from source in 0."), "{ran}");
    let counted = fs::read_to_string(scene.data("counted")).unwrap();
    assert_eq!(counted, "once\n");
}

#[test]
fn patches_of_a_release_are_verified_and_made_before_the_first_step() {
    let folder = TempDir::new().unwrap();
    let file = |name: &str, text: &str| {
        let path = folder.path().join(name);
        fs::write(&path, text).unwrap();
        let sum = process::output(process::command("sha256sum").arg(&path));
        let sum = String::from_utf8(sum.stdout).unwrap();
        (path, format!("sha256:{}", &sum[..64]))
    };
    let patch = "--- a/tide\n+++ b/tide\n@@ -1,2 +1,2 @@\n #!/bin/sh\n-echo ebb\n+echo flood\n";
    let (path, digest) = file("flood.patch", patch);
    let (other_path, other_digest) = file("other.patch", &patch.replace("ebb", "neap"));
    let scene_with = |more: &str, digest: &str| {
        let patches = format!(
            "patches = [{{ address = {path:?}, digest = {digest:?} }}, {{ address = {other_path:?}, digest = {other_digest:?}{more} }}]"
        );
        recipe(&[("tide", "echo ebb"), ("install", INSTALL)], &patches)
    };
    let scene = scene_with(", releases = \">1\"", &digest);
    scene.does(&["install", "1"]);
    let text = fs::read_to_string(scene.data("shelf/bell/gull-point-1.0.0/build.log")).unwrap();
    assert!(text.contains("\nflood\n"), "{text}");
    let record = fs::read_to_string(scene.data("shelf/bell/gull-point-1.0.0/record.json")).unwrap();
    let record: Value = serde_json::from_str(&record).unwrap();
    assert_eq!(record["built"]["patches"], serde_json::json!([digest]));

    // One that does not fit is a failed step, and says which.
    let scene = scene_with("", &digest);
    let ran = scene.vshelf(&["install", "1"]);
    told(
        &ran,
        5,
        &[
            "Bell 1.0.0 was not built: the step patch with",
            "other.patch",
        ],
    );
    assert!(log(&scene).contains("FAILED"));
    assert!(!ran.stderr.contains("step 1 of 2"), "{ran}");

    // One with other bytes is none.
    let scene = scene_with("", &format!("sha256:{}", "0a".repeat(32)));
    let ran = scene.vshelf(&["install", "1"]);
    told(&ran, 5, &["flood.patch", "sha256"]);
    assert!(!ran.stderr.contains("step 1 of 2"), "{ran}");
    assert!(scene.on_shelf().is_empty());
}
