//! Clearing away what is outdated, with everything that keeps an install on the shelf.

use std::fs;

use snapbox::str;

use crate::process::{self, Started};
use crate::scene::{PROGRAM, Ran, Scene};
use crate::shows;

/// A shelf on which something speaks against five of seven installs.
fn cluttered() -> Scene {
    let scene = Scene::new();
    let versions = ["8.3.1", "8.3.0", "6.20.2", "6.20.1", "6.2.0", "4", "3"];
    scene.does(&[&["--quiet", "install"], &versions[..]].concat());
    scene
}

/// Puts a folder of a dead process into staging.
fn leave_behind(scene: &Scene) {
    let staging = ".local/share/vivid-shelf/staging/marram-9.9.9.0";
    scene.write(&format!("{staging}/half"), &"x".repeat(250_000));
    scene.write(&format!("{staging}.lock"), "");
}

fn plan(scene: &Scene, arguments: &[&str]) -> serde_json::Value {
    let ran = scene.does(&[&["tidy", "--json"], arguments].concat());
    serde_json::from_str(&ran.stdout).unwrap()
}

/// The keys with this verdict.
fn with_verdict(plan: &serde_json::Value, verdict: &str) -> Vec<String> {
    let installs = plan["installs"].as_array().unwrap().iter();
    let meant = installs.filter(|install| install["verdict"] == verdict);
    meant
        .map(|install| install["key"].as_str().unwrap())
        .map(|key| key.replace("saltmarsh/", ""))
        .collect()
}

#[test]
fn the_plan_is_shown_carried_out_on_demand_and_undone() {
    let scene = cluttered();
    leave_behind(&scene);
    scene.does(&["run", "3", "--", "tussock", "add", "kelp@2.0.0"]);
    scene.write("tide-board/.marram-version", "4\n");
    scene.enter("tide-board");
    let before = scene.on_shelf();
    shows!(
        scene.does(&["tidy"]),
        str![[r#"
Marram: 4 of 7 installs to remove
version  phase          size  used   plan    why
8.3.1    lts          0.4 MB  today  keep    default
8.3.0    lts          0.4 MB  today  remove  superseded by 8.3.1
6.20.2   maintenance  0.3 MB  today  keep
6.20.1   maintenance  0.3 MB  today  remove  superseded by 6.20.2
6.2.0    maintenance  0.3 MB  today  remove  superseded by 6.20.2
4.8.3    ended        0.2 MB  today  keep    required by tide-board; though support ended on 2024-04-30, 2 years 6 months ago
3.2.4    ended        0.2 MB  today  remove  support ended on 2020-12-31, 5 years 10 months ago
Left behind: 1 unfinished command, 0.3 MB
This frees 0.3 MB, and moves 1.0 MB to the trash for 14 days.
--- stderr
To carry it out: vshelf tidy --yes

"#]]
    );
    assert_eq!(scene.on_shelf(), before, "showing changes nothing");
    shows!(
        scene.does(&[
            "--quiet",
            "tidy",
            "--yes",
            "--except",
            "6.2.0",
            "--for-good"
        ]),
        str![""]
    );
    assert_eq!(scene.on_shelf(), ["4.8.3", "6.2.0", "6.20.2", "8.3.1"]);
    shows!(
        scene.does(&["--quiet", "history"]),
        str![[r#"
when              version        what       why, and its packages
2026-11-23 12:00  Marram 3.2.4   tidied     support ended on 2020-12-31, 5 years 10 months ago; with kelp@2.0.0
2026-11-23 12:00  Marram 6.20.1  tidied     superseded by 6.20.2
2026-11-23 12:00  Marram 8.3.0   tidied     superseded by 8.3.1
2026-11-23 12:00  Marram 3.2.4   installed
2026-11-23 12:00  Marram 4.8.3   installed
2026-11-23 12:00  Marram 6.2.0   installed
2026-11-23 12:00  Marram 6.20.1  installed
2026-11-23 12:00  Marram 6.20.2  installed
2026-11-23 12:00  Marram 8.3.0   installed
2026-11-23 12:00  Marram 8.3.1   installed

"#]]
    );
    let back = scene.does(&["restore"]);
    assert!(
        back.stdout.contains("It had these packages: kelp@2.0.0"),
        "{back}"
    );
    assert!(
        back.stderr
            .contains("To install them again: vshelf run 3.2.4 -- tussock add kelp@2.0.0"),
        "{back}"
    );
    assert_eq!(scene.on_shelf(), before);
}

#[test]
fn a_plan_without_a_catalog_warns() {
    let scene = cluttered();
    let kept = scene.path(".cache/vivid-shelf/catalogs");
    fs::remove_dir_all(&kept).unwrap();
    let ran = scene.does(&["--offline", "tidy", "--dry-run"]);
    let told =
        "No catalog of Marram is kept, so its newer releases and the ends of its lines are unknown";
    assert!(ran.stderr.contains(told), "{ran}");
    let refresh = "vshelf catalog marram --refresh";
    assert!(ran.stderr.contains(refresh), "{ran}");
    scene.does(&["catalog", "marram", "--refresh"]);
    let ran = scene.does(&["tidy", "--dry-run"]);
    assert!(!ran.stderr.contains("No catalog"), "{ran}");
}

#[test]
fn only_what_is_meant_is_looked_at() {
    let scene = cluttered();
    let goes = |arguments: &[&str]| with_verdict(&plan(&scene, arguments), "remove");
    assert_eq!(goes(&["6"]), ["6.20.1", "6.2.0"]);
    assert_eq!(goes(&["3", "marram@8"]), ["8.3.0", "3.2.4"]);
    assert_eq!(goes(&["8", "--except", "8.3.0"]), [""; 0]);
    let all = ["8.3.0", "6.20.1", "6.2.0", "4.8.3", "3.2.4"];
    assert_eq!(goes(&["marram"]), all);
    // What will have ended by then?
    let then = goes(&["--as-of", "2027-01-01"]);
    assert_eq!(
        then,
        ["8.3.0", "6.20.2", "6.20.1", "6.2.0", "4.8.3", "3.2.4"]
    );
    let settings = "main-runtime = \"marram\"\n[tidy]\nreasons = [\"superseded\"]\nper-line = 2\n";
    scene.write(".config/vivid-shelf/shelf.toml", settings);
    assert_eq!(goes(&[]), ["6.2.0"]);
    let config = scene.does(&["--quiet", "config"]).stdout;
    for line in [
        "tidy.reasons           ~/.config/vivid-shelf/shelf.toml, line 3  superseded\n",
        "tidy.idle-days         default                                   180\n",
        "tidy.per-line          ~/.config/vivid-shelf/shelf.toml, line 4  2\n",
    ] {
        assert!(config.contains(line), "{config}");
    }
    let settings = "main-runtime = \"marram\"\n[tidy]\nreasons = [\"idle\"]\nidle-days = 30\n";
    scene.write(".config/vivid-shelf/shelf.toml", settings);
    let mut later = scene.command(PROGRAM);
    later
        .args(["tidy", "--json"])
        .env("VSHELF_TODAY", "2027-03-01");
    let mut use_it = scene.command(PROGRAM);
    use_it
        .args(["run", "6.2.0", "--", "true"])
        .env("VSHELF_TODAY", "2027-02-20");
    assert_eq!(scene.run(&mut use_it).code, 0);
    let plan = serde_json::from_str(&scene.run(&mut later).stdout).unwrap();
    let idle = with_verdict(&plan, "remove");
    assert_eq!(idle, ["8.3.0", "6.20.2", "6.20.1", "4.8.3", "3.2.4"]);
}

/// Starts a program from an install, and waits until the system shows it as such.
fn start_from(scene: &Scene, key: &str) -> Started {
    let folder = scene.data(&format!("shelf/marram/saltmarsh-{key}/build/bin"));
    // A copy that this process wrote could not be started while another test forks.
    let copied = process::status(
        process::command("cp")
            .arg("/bin/sleep")
            .arg(folder.join("buoy")),
    );
    assert!(copied.success());
    Started::start(process::command(folder.join("buoy")).arg("300"))
}

#[test]
fn everything_that_needs_an_install_keeps_it() {
    let scene = cluttered();
    scene.does(&["label", "board", "6.20.1"]);
    scene.does(&["label", "pier", "6.2.0"]);
    let running = start_from(&scene, "3.2.4");
    // A shell that is switched, as its hook tells, and one that is gone.
    let mut shell = Started::start(process::command("sleep").arg("300"));
    let switched_by = |id: u32| {
        let mut switch = scene.command(PROGRAM);
        switch
            .args(["--quiet", "switch", "8.3.0"])
            .env("VSHELF_SHELL", "bash")
            .env("VSHELF_SHELL_ID", id.to_string())
            .env("VSHELF_EVALUATE", "1");
        assert_eq!(scene.run(&mut switch).code, 0);
    };
    switched_by(shell.id());
    let kept = plan(&scene, &[]);
    assert_eq!(with_verdict(&kept, "remove"), ["4.8.3"]);
    let why = scene.does(&["tidy"]).stdout;
    for words in [
        format!("shell {}; though superseded by 8.3.1", shell.id()),
        "label board; though superseded by 6.20.2".to_owned(),
        "label pier; though superseded by 6.20.2".to_owned(),
        format!("buoy runs ({}); though support ended", running.id()),
    ] {
        assert!(why.contains(&words), "{words}\n{why}");
    }
    // One that was started in a switched shell, such as a terminal program, knows it by its variables.
    // Another shelf may have the same versions.
    let of_this_shelf =
        scene.path(".local/share/vivid-shelf/shelf/marram/saltmarsh-4.8.3/build/bin");
    for (entry, needs_it) in [(of_this_shelf, true), (scene.path("other/shelf"), false)] {
        let mut nested = scene.command("sleep");
        nested
            .arg("300")
            .env("PATH", format!("{}:/usr/bin:/bin", entry.display()))
            .env("VSHELF_SWITCHED", "marram=saltmarsh-4.8.3");
        let nested = Started::start(&mut nested);
        let words = format!("sleep runs ({}); though support ended", nested.id());
        let why = scene.does(&["tidy"]).stdout;
        assert_eq!(why.contains(&words), needs_it, "{words}\n{why}");
    }
    // Each of them lets go.
    scene.does(&["label", "--remove", "board"]);
    scene.does(&["label", "--remove", "pier"]);
    drop(running);
    shell.end();
    let free = plan(&scene, &[]);
    assert_eq!(
        with_verdict(&free, "remove"),
        ["8.3.0", "6.20.1", "6.2.0", "4.8.3", "3.2.4"]
    );
    // A project that is gone, or asks for something else now, keeps nothing.
    scene.write("tide-board/.marram-version", "4\n");
    scene.enter("tide-board");
    assert!(!with_verdict(&plan(&scene, &[]), "remove").contains(&"4.8.3".to_owned()));
    scene.write("tide-board/.marram-version", "8\n");
    assert!(with_verdict(&plan(&scene, &[]), "remove").contains(&"4.8.3".to_owned()));
    fs::remove_dir_all(scene.path("tide-board")).unwrap();
    assert!(with_verdict(&plan(&scene, &[]), "remove").contains(&"4.8.3".to_owned()));
}

#[test]
fn a_removal_says_what_becomes_of_labels_and_projects() {
    let scene = cluttered();
    scene.does(&["label", "board", "6"]);
    scene.write("tide-board/.marram-version", "6.20.2\n");
    scene.enter("tide-board");
    shows!(
        scene.does(&["remove", "6.20.2"]),
        str![[r#"
Marram 6.20.2 was removed; its 0.3 MB stay in the trash until 2026-12-07.
--- stderr
The label board (6) stands for 6.20.1 now.
tide-board requires 6.20.2, which nothing on the shelf meets now.

"#]]
    );
    let pin = fs::read_to_string(scene.path("tide-board/.marram-version")).unwrap();
    assert_eq!(pin, "6.20.2\n", "what a project says is its own");
}

#[test]
fn a_shell_that_is_really_switched_is_known_in_the_next() {
    let scene = cluttered();
    let script = "vshelf --quiet switch 8.3.0 >/dev/null
        env -u VSHELF_SWITCHED -u VSHELF_SHELL_ID bash --norc -c 'source ~/.bashrc; vshelf tidy' >plan
        grep -c \"shell $$; though\" plan
        vshelf tidy | grep -c 'this shell; though'
        vshelf --quiet switch --follow
        vshelf tidy | grep '^8.3.0'";
    let ran = scene.bash(script);
    assert_eq!(
        ran.stdout.split_whitespace().collect::<Vec<_>>().join(" "),
        "1 1 8.3.0 lts 0.4 MB today remove superseded by 8.3.1",
        "{ran}"
    );
}

#[test]
fn what_runs_is_not_removed_and_one_failure_stops_no_other() {
    let scene = cluttered();
    let running = start_from(&scene, "6.2.0");
    shows!(
        scene.vshelf(&["remove", "6.2.0"]),
        format!(
            "--- stderr\nError: Marram 6.2.0 stays: buoy runs ({}).\n  \
             It can be removed when that process has ended.\n--- exit 7\n",
            running.id()
        )
    );
    scene.does(&["remove", "6.2.0", "--even-if-used"]);
    drop(running);
    // What cannot be moved away is told, and the others go.
    let mounted = process::status(process::command("mount").args(["--bind"]).args([
        scene.data("shelf/marram/saltmarsh-6.20.1/build"),
        scene.data("shelf/marram/saltmarsh-6.20.1/build"),
    ]));
    if !mounted.success() {
        crate::scene::skipped("a folder can only be made immovable by root");
        return;
    }
    let ran = scene.vshelf(&["tidy", "--yes"]);
    let unmounted = process::status(
        process::command("umount").arg(scene.data("shelf/marram/saltmarsh-6.20.1/build")),
    );
    assert!(unmounted.success());
    assert_eq!(ran.code, 1, "{ran}");
    assert!(
        ran.stderr.contains("1 install could not be removed"),
        "{ran}"
    );
    assert_eq!(scene.on_shelf(), ["6.20.1", "6.20.2", "8.3.1"]);
}

#[test]
fn two_at_once_do_not_get_in_each_others_way() {
    let scene = cluttered();
    let start = || {
        let mut command = scene.command(PROGRAM);
        command.args(["--quiet", "tidy", "--yes"]);
        command.stdout(std::process::Stdio::null());
        command.stderr(std::process::Stdio::null());
        Started::start(&mut command)
    };
    let mut both = [start(), start()];
    for one in &mut both {
        one.wait();
    }
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.1"]);
    assert!(crate::scene::names_in(&scene.data("staging")).is_empty());
    assert_eq!(scene.vshelf(&["list"]).code, 0);
}

#[test]
fn cached_things_that_nobody_needs_go_too() {
    let scene = cluttered();
    scene.write(".cache/vivid-shelf/catalogs/marram-old-0123.catalog", "old");
    scene.write(
        ".cache/vivid-shelf/archives/marram-1-sha256.partial",
        "half",
    );
    scene.write(
        ".cache/vivid-shelf/archives/marram-2-sha256.partial",
        "half",
    );
    let partial = |number: u8| {
        scene.path(&format!(
            ".cache/vivid-shelf/archives/marram-{number}-sha256.partial"
        ))
    };
    let stale = partial(1);
    let now = std::time::SystemTime::now();
    let long_ago = now - std::time::Duration::from_secs(8 * 86_400);
    for (path, written) in [(&stale, long_ago), (&partial(2), now)] {
        let file = fs::File::options().write(true).open(path).unwrap();
        file.set_modified(written).unwrap();
    }
    let shown = scene.does(&["tidy"]).stdout;
    for line in [
        "Left behind: 1 partial download, 0.1 MB\n",
        "Left behind: 1 catalog of sources that are gone, 0.1 MB\n",
    ] {
        assert!(shown.contains(line), "{shown}");
    }
    scene.does(&["tidy", "--yes"]);
    assert!(!stale.exists());
    let left = |folder: &str| crate::scene::names_in(&scene.path(folder));
    assert_eq!(
        left(".cache/vivid-shelf/archives"),
        ["marram-2-sha256.partial"]
    );
    // What the one source says, and what all of them say together.
    assert_eq!(left(".cache/vivid-shelf/catalogs").len(), 2);
    assert_eq!(
        scene.vshelf(&["tidy"]).stdout.lines().last(),
        Some("There is nothing to remove.")
    );
}

fn refused(ran: Ran, code: i32, words: &str) {
    assert_eq!(ran.code, code, "{ran}");
    assert!(ran.stderr.contains(words), "{ran}");
}

#[test]
fn bad_input_names_the_value_and_changes_nothing() {
    let scene = cluttered();
    let before = scene.on_shelf();
    refused(
        scene.vshelf(&["tidy", "77", "--yes"]),
        3,
        "Error: 77 is not on the shelf.",
    );
    refused(
        scene.vshelf(&["tidy", "--except", "9.9.9", "--yes"]),
        3,
        "Error: 9.9.9 is not on the shelf.",
    );
    refused(
        scene.vshelf(&["tidy", "--as-of", "tomorrow"]),
        2,
        "\"tomorrow\" is not a value for",
    );
    refused(
        scene.vshelf(&["restore"]),
        3,
        "Error: nothing was removed that could be restored.",
    );
    refused(
        scene.vshelf(&["restore", "lts"]),
        2,
        "Error: lts is not a version.",
    );
    scene.write(".config/vivid-shelf/shelf.toml", "[tidy]\nper-line = 0\n");
    refused(
        scene.vshelf(&["tidy", "marram", "--yes"]),
        6,
        "shelf.toml is not understood",
    );
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"marram\"\n",
    );
    // A state that is garbage is told, and an install that was deleted by hand is no obstacle.
    fs::remove_dir_all(scene.data("shelf/marram/saltmarsh-3.2.4")).unwrap();
    scene.write(".local/share/vivid-shelf/history.jsonl", "garbage\n");
    assert_eq!(
        with_verdict(&plan(&scene, &["6"]), "remove"),
        ["6.20.1", "6.2.0"]
    );
    scene.write(".local/share/vivid-shelf/state/marram.json", "garbage");
    refused(
        scene.vshelf(&["tidy", "--yes"]),
        6,
        "state/marram.json is damaged",
    );
    let mut left = before;
    left.retain(|key| key != "3.2.4");
    assert_eq!(scene.on_shelf(), left);
}
