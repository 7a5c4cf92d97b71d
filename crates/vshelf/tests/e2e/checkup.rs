//! Set-ups that are broken on purpose: each is found, and its mend mends it.

use std::fs;

use rstest::rstest;
use vshelf_demo::server::Fault;

use crate::scene::{PROGRAM, Ran, Scene};

/// A connected home with two installs.
fn sound() -> Scene {
    let scene = Scene::with_faults(&[]);
    scene.does(&["install", "8.3.1", "6"]);
    scene.does(&["connect"]);
    scene
}

fn sh(scene: &Scene, script: &str) -> Ran {
    let data = scene.data("");
    let mut command = scene.command("/bin/bash");
    command
        .env("DATA", data.to_str().unwrap().trim_end_matches('/'))
        .env("CACHE", scene.path(".cache/vivid-shelf"))
        .env("PROGRAM_PATH", PROGRAM);
    scene.run(command.args(["--noprofile", "--norc", "-c", script]))
}

/// What a checkup says in a connected shell that is opened now.
fn checkup(scene: &Scene) -> Ran {
    let script = "source ~/.bashrc
        # A shell that is not connected has the program alone.
        declare -F vshelf >/dev/null || vshelf() { \"$PROGRAM_PATH\" \"$@\"; }
        vshelf checkup";
    sh(scene, script)
}

#[test]
fn a_sound_set_up_has_no_finding() {
    let ran = checkup(&sound());
    assert_eq!(ran.stdout, "2 installs checked: all is well.\n", "{ran}");
    assert_eq!(ran.code, 0);
}

#[rstest]
#[case(
    "sed -i '/begins here/,/ends here/d' ~/.bashrc",
    "~/.bashrc: does not connect new shells"
)]
#[case(
    "cat ~/.bashrc ~/.bashrc > b; mv b ~/.bashrc",
    "~/.bashrc: has the Vivid Shelf block more than once"
)]
#[case(
    "sed -i '/ends here/d' ~/.bashrc",
    "~/.bashrc: has a Vivid Shelf block without its end"
)]
#[case(
    "sed -i 's/shelf.bash/shelf.old/g' ~/.bashrc",
    "~/.bashrc: sources another file"
)]
#[case(
    "rm $DATA/connect/shelf.bash",
    "shelf.bash: is missing, so new shells are not connected"
)]
#[case(
    "echo '# old' >> $DATA/connect/shelf.bash",
    "shelf.bash: was written by another version of vshelf"
)]
#[case(
    "echo kelp > $DATA/shelf/marram/saltmarsh-8.3.1/build/lib/marram/prelude.mar",
    "Marram 8.3.1: 1 of 7 files differ from what was unpacked"
)]
#[case(
    "rm $DATA/shelf/marram/saltmarsh-8.3.1/build/lib/marram/prelude.mar",
    "lib/marram/prelude.mar is missing"
)]
#[case(
    "chmod 644 $DATA/shelf/marram/saltmarsh-6.20.2/build/bin/marram",
    "bin/marram has other permissions"
)]
#[case(
    "ln -sfn /bin/false $DATA/shelf/marram/saltmarsh-6.20.2/build/bin/marram",
    "Marram 6.20.2: does not start"
)]
#[case(
    "rm -r $DATA/shelf/marram/saltmarsh-8.3.1/build",
    "the default of Marram: 8.3.1 matches nothing on the shelf"
)]
fn what_is_broken_is_found_and_mended_as_told(#[case] breaking: &str, #[case] found: &str) {
    let scene = sound();
    let broke = sh(&scene, breaking);
    assert_eq!(broke.code, 0, "{broke}");
    let ran = checkup(&scene);
    assert!(
        ran.stdout.contains(found) || ran.stderr.contains(found),
        "{breaking}\n{ran}"
    );
    assert_eq!(ran.code, 1, "{ran}");
    let mends = ran
        .stdout
        .lines()
        .filter_map(|line| line.trim().strip_prefix("To fix it: "));
    for mend in mends {
        let mend = mend
            .replace("vshelf", "\"$PROGRAM_PATH\"")
            .replace("SELECTOR", "6");
        let mended = sh(&scene, &mend);
        assert_eq!(mended.code, 0, "{mend}: {mended}");
    }
    let ran = checkup(&scene);
    assert_eq!(ran.code, 0, "{breaking}\n{ran}");
}

#[test]
fn labels_links_and_strange_folders_are_found() {
    let scene = sound();
    scene.does(&["label", "old", "6"]);
    scene.does(&["remove", "6"]);
    scene.write("built/bin/marram", "#!/bin/sh\necho 'marram 9.9.9'\n");
    let program = scene.path("built/bin/marram");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    fs::set_permissions(&program, mode).unwrap();
    scene.does(&["adopt", "--link", "built"]);
    fs::remove_dir_all(scene.path("built")).unwrap();
    fs::create_dir(scene.data("shelf/marram/stranger")).unwrap();
    let ran = checkup(&scene);
    for found in [
        "the label old of Marram: 6 matches nothing on the shelf",
        "Marram adopted/9.9.9: ~/built is missing, and the install is a link to it",
        "shelf/marram/stranger: holds no build, so it is not an install",
    ] {
        assert!(ran.stdout.contains(found), "{found}\n{ran}");
    }
    assert!(ran.stderr.contains("the checkup has 3 findings"), "{ran}");
}

#[test]
fn a_project_that_is_not_satisfied_and_another_copy_in_front_are_found() {
    let scene = sound();
    scene.write("tide-board/.marram-version", "4\n");
    let ran = sh(&scene, "source ~/.bashrc; cd tide-board; vshelf checkup");
    let found = "the project here: requires Marram 4, which is not on the shelf";
    assert!(ran.stdout.contains(found), "{ran}");
    scene.write("tide-board/.marram-version", "4 or 5\n");
    let ran = sh(&scene, "source ~/.bashrc; cd tide-board; vshelf checkup");
    assert!(
        ran.stdout
            .contains("the project here: ~/tide-board/.marram-version, line 1"),
        "{ran}"
    );
    scene.write("front/marram", "#!/bin/sh\necho 'marram 1.0'\n");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    fs::set_permissions(scene.path("front/marram"), mode).unwrap();
    let ran = sh(
        &scene,
        "source ~/.bashrc; PATH=~/front:$PATH; vshelf checkup",
    );
    let found = "Marram: 8.3.1 should be active in this shell, but ~/front/marram is first on PATH: \
        something put it there since this shell was opened\n  To fix it: vshelf switch --follow\n";
    assert!(ran.stdout.contains(found), "{ran}");
    // The start-up file says it itself.
    let start_up = fs::read_to_string(scene.path(".bashrc")).unwrap();
    scene.write(".bashrc", &format!("{start_up}PATH=~/front:$PATH\n"));
    let ran = sh(&scene, "source ~/.bashrc; vshelf checkup");
    let found =
        "~/front/marram is first on PATH: ~/.bashrc puts it there, behind the Vivid Shelf block";
    assert!(ran.stdout.contains(found), "{ran}");
    assert!(
        ran.stdout.contains("To fix it: ${EDITOR:-vi} ~/.bashrc"),
        "{ran}"
    );
}

#[test]
fn the_home_of_another_user_is_a_finding() {
    let scene = sound();
    // Only root can give something away, and it is root that works in others' homes.
    if std::os::unix::fs::chown(scene.home(), Some(65534), Some(65534)).is_err() {
        return;
    }
    let ran = scene.vshelf(&["--offline", "checkup"]);
    let found = "~: is the home of another user, who would not own what is installed here";
    assert!(ran.stdout.contains(found), "{ran}");
    assert_eq!(ran.code, 1, "{ran}");
}

#[test]
fn each_cause_of_another_copy_answering_has_its_own_fix() {
    let scene = Scene::new();
    scene.write(".config/vivid-shelf/shelf.toml", "");
    scene.does(&["connect"]);
    // The shell is older than the install.
    let ran = sh(
        &scene,
        &format!(
            "source ~/.bashrc; {PROGRAM} --quiet install marram@8.3.1; vshelf status; vshelf switch --follow >/dev/null 2>&1; marram --version"
        ),
    );
    let cause = "Marram 8.3.1 should be active here (it is the default), but nothing of Marram is on PATH: \
        this shell was opened before it was installed, or set PATH anew.";
    assert!(ran.stdout.contains(cause), "{ran}");
    assert!(
        ran.stderr
            .contains("To change that: vshelf switch --follow"),
        "{ran}"
    );
    assert!(ran.stdout.ends_with("marram 8.3.1\n"), "{ran}");
    // Another runtime has a program of the same name.
    let definition = vshelf_demo::definition(&scene.server().address());
    let sedge = definition
        .replace("name = \"marram\"", "name = \"sedge\"")
        .replace("title = \"Marram\"", "title = \"Sedge\"")
        .replace("MARRAM_HOME", "SEDGE_HOME");
    scene.write(".config/vivid-shelf/runtimes/sedge.toml", &sedge);
    let adopted = scene
        .data("shelf/marram/saltmarsh-8.3.1/build")
        .display()
        .to_string();
    scene.does(&["adopt", &adopted, "--as", "sedge@gull-point/8.3.1"]);
    let ran = sh(
        &scene,
        "source ~/.bashrc; vshelf status marram; vshelf status sedge",
    );
    let cause = "which has a program of the same name, is first on PATH";
    assert!(ran.stdout.contains(cause), "{ran}");
    assert!(
        ran.stderr.contains("To change that: vshelf switch "),
        "{ran}"
    );
}

#[test]
fn a_source_that_is_gone_is_found_and_offline_asks_nobody() {
    let scene = sound();
    scene.server().misbehave(&[Fault::Status(404)]);
    let ran = checkup(&scene);
    assert!(
        ran.stdout
            .contains("the catalog of Marram: no source answers: "),
        "{ran}"
    );
    let before = scene.server().requests().len();
    let ran = sh(&scene, "source ~/.bashrc; vshelf checkup --offline");
    assert_eq!(ran.code, 0, "{ran}");
    assert_eq!(scene.server().requests().len(), before);
}

#[test]
fn a_checkup_of_some_installs_looks_at_nothing_else() {
    let scene = Scene::new();
    scene.does(&["install", "8.3.1", "6"]);
    let ran = scene.does(&["checkup", "8"]);
    assert_eq!(ran.stdout, "1 install checked: all is well.\n");
    let none = scene.vshelf(&["checkup", "9"]);
    assert_eq!(none.code, 3, "{none}");
}

#[test]
fn an_old_catalog_and_what_was_cut_off_are_found() {
    let scene = sound();
    scene.write(
        ".local/share/vivid-shelf/staging/marram-9.9.9.0/half",
        "half",
    );
    scene.write(".local/share/vivid-shelf/staging/marram-9.9.9.0.lock", "");
    let ran = scene.run(offline(&scene).env("VSHELF_TODAY", "2031-01-20"));
    let catalog = "the catalog of Marram: what is known is from 4 years 1 month ago
  To fix it: vshelf catalog marram --refresh\n";
    assert!(ran.stdout.contains(catalog), "{ran}");
    let staging = "~/.local/share/vivid-shelf/staging: holds 0.1 MB of 1 unfinished command
  To fix it: vshelf tidy\n";
    let ran = scene.run(&mut offline(&scene));
    assert!(ran.stdout.contains(staging), "{ran}");
    assert!(!ran.stdout.contains("catalog"), "{ran}");
}

fn offline(scene: &Scene) -> std::process::Command {
    let mut command = scene.command(PROGRAM);
    command.args(["--offline", "checkup"]);
    command
}

#[test]
fn a_killed_removal_is_reported_and_completed() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1", "6.20.2"]);
    scene.does(&["connect"]);
    if !scene.can_tamper() {
        return;
    }
    // Behind the rename into the trash.
    scene.tampered(
        "rename:signal=KILL:when=2",
        &["remove", "8.3.1", "--even-if-used"],
    );
    let ran = scene.vshelf(&["--offline", "checkup"]);
    assert_eq!(ran.code, 1, "{ran}");
    for told in [
        "/trash/marram/saltmarsh-8.3.1=",
        "was moved by a command that did not end",
        "default/marram: leads to an install that is not on the shelf any more",
    ] {
        assert!(ran.stdout.contains(told), "{told}\n{ran}");
    }
    let ran = scene.vshelf(&["--offline", "checkup", "--fix"]);
    assert_eq!(ran.code, 0, "{ran}");
    scene.does(&["restore"]);
    let default = scene.does(&["default"]).stdout;
    assert!(default.contains("8.3.1 is the default"), "{default}");
}
