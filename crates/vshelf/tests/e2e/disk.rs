//! Disks that are full, leftovers that cannot be deleted, records that tell nothing.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use rustix::fs::{Mode, OFlags};
use snapbox::str;

use crate::builds::{INSTALL, recipe, told};
use crate::process;
use crate::scene::{PROGRAM, Ran, Scene, names_in, program, skipped};
use crate::shows;

/// Something mounted, until it is dropped.
struct Mounted(PathBuf);

impl Drop for Mounted {
    fn drop(&mut self) {
        // What another test just starts has this process's files open until it is another program.
        let is_unmounted = || {
            let unmounted = process::output(process::command("umount").arg(&self.0));
            unmounted.status.success()
        };
        let mut tries = 0..100;
        while !is_unmounted() {
            assert!(tries.next().is_some(), "{:?} stays busy", self.0);
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
    }
}

/// Mounts something, which only root can: `None` if it cannot be.
fn mount(arguments: &[&str], at: &Path) -> Option<Mounted> {
    let status = process::output(process::command("mount").args(arguments).arg(at));
    if !status.status.success() {
        skipped("nothing can be mounted here");
        return None;
    }
    Some(Mounted(at.to_owned()))
}

/// Has a home keep its data on a disk that is mounted with these arguments.
fn have_data_on(scene: &Scene, arguments: &[&str]) -> Option<Mounted> {
    let disk = scene.path("disk");
    fs::create_dir(&disk).unwrap();
    let mounted = mount(arguments, &disk)?;
    let data = scene.data("");
    fs::create_dir_all(data.parent().unwrap()).unwrap();
    symlink(disk, scene.path(".local/share/vivid-shelf")).unwrap();
    Some(mounted)
}

/// Has a home keep its data on a disk of 8 MiB.
fn have_data_on_small_disk(scene: &Scene) -> Option<Mounted> {
    have_data_on(scene, &["-t", "tmpfs", "-o", "size=8m", "tmpfs"])
}

#[test]
fn a_disk_without_a_free_byte_can_be_cleared() {
    let scene = Scene::new();
    let Some(disk) = have_data_on_small_disk(&scene) else {
        return;
    };
    scene.does(&["--quiet", "install", "8.3.0", "6.20.1", "6.20.2", "4.8.3"]);
    scene.does(&["default", "8.3.0"]);
    let filled = || {
        let output = process::output(
            process::command("dd")
                .args(["if=/dev/zero", "bs=4096"])
                .arg(format!("of={}", disk.0.join("ballast").display())),
        );
        assert!(!output.status.success(), "the disk is full");
    };
    filled();
    shows!(
        scene.vshelf(&["remove", "4.8.3"]),
        "Marram 4.8.3 was removed; 0.2 MB freed.\n"
    );
    filled();
    let ran = scene.does(&["remove", "8.3.0", "--even-if-used"]);
    assert!(!ran.stderr.contains("cannot be"), "{ran}");
    assert!(!scene.data("default/marram").is_symlink());
    filled();
    let ran = scene.does(&["tidy", "--yes"]);
    assert!(ran.stdout.contains("Marram 6.20.1 was removed."), "{ran}");
    assert_eq!(scene.on_shelf(), ["6.20.2"]);
    // What was removed can be restored: the history was written when there was room.
    let history = scene.does(&["history"]).stdout;
    for key in ["4.8.3", "8.3.0", "6.20.1"] {
        let told = history.lines().filter(|line| line.contains(key));
        assert_eq!(told.count(), 2, "{history}");
    }
    let checked = scene.vshelf(&["checkup", "--offline"]);
    assert!(!checked.stdout.contains("staging"), "{checked}");
}

/// Runs the program with few descriptors and a small stack.
fn with_little(scene: &Scene, arguments: &[&str]) -> Ran {
    let script = "ulimit -n 64; ulimit -s 1024; exec \"$0\" \"$@\"";
    let mut command = scene.command("/bin/bash");
    command.args(["-c", script, PROGRAM]).args(arguments);
    scene.run(&mut command)
}

#[test]
fn a_leftover_of_any_depth_is_deleted() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "6.20.2"]);
    scene.write(".local/share/vivid-shelf/staging/marram-9.9.9.7.0.lock", "");
    let left = scene.data("staging/marram-9.9.9.7.0");
    fs::create_dir(&left).unwrap();
    let mut at = std::os::fd::OwnedFd::from(fs::File::open(&left).unwrap());
    for _ in 0..1100 {
        rustix::fs::mkdirat(&at, "deeper", Mode::RWXU).unwrap();
        at = rustix::fs::openat(&at, "deeper", OFlags::DIRECTORY, Mode::empty()).unwrap();
    }
    let ran = with_little(&scene, &["remove", "6.20.2", "--even-if-used"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(names_in(&scene.data("staging")).is_empty());
}

#[test]
fn a_leftover_that_cannot_be_deleted_blocks_nothing_and_is_told() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "6.20.2", "8.3.0"]);
    let left = scene.data("staging/marram-9.9.9.7.0");
    fs::create_dir_all(left.join("busy")).unwrap();
    scene.write(".local/share/vivid-shelf/staging/marram-9.9.9.7.0.lock", "");
    fs::write(left.join("other"), "goes").unwrap();
    let busy = left.join("busy");
    let Some(_busy) = mount(&["-t", "tmpfs", "tmpfs"], &busy) else {
        return;
    };
    fs::write(busy.join("theirs"), "stays").unwrap();
    scene.does(&["install", "9.2.0"]);
    scene.does(&["remove", "6.20.2", "--even-if-used"]);
    let ran = scene.does(&["tidy", "--yes"]);
    let told = "staging/marram-9.9.9.7.0 cannot be deleted: busy: a file system is mounted there.";
    assert!(ran.stderr.contains(told), "{ran}");
    assert_eq!(scene.on_shelf(), ["8.3.0", "9.2.0"]);
    assert!(busy.join("theirs").exists() && !left.join("other").exists());
    assert_eq!(scene.vshelf(&["list"]).code, 0);
}

#[test]
fn without_a_process_table_nothing_is_tidied_away() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0", "6.20.1", "6.20.2"]);
    let hidden = |arguments: &str| {
        let script = format!("mount -t tmpfs tmpfs /proc || exit 99; exec {PROGRAM} {arguments}");
        let mut command = scene.command("unshare");
        scene.run(command.args(["--mount", "/bin/sh", "-c", &script]))
    };
    let ran = hidden("tidy --yes");
    if ran.code == 99 || ran.stderr.contains("unshare") {
        skipped("nothing can be mounted here");
        return;
    }
    assert!(ran.stdout.contains("running programs unknown: "), "{ran}");
    let ran = hidden("remove 6.20.1");
    assert_eq!(ran.code, 6, "{ran}");
    assert!(ran.stderr.contains("cannot be known to be unused"), "{ran}");
    assert_eq!(scene.on_shelf(), ["6.20.1", "6.20.2", "8.3.0"]);
    let ran = hidden("remove 6.20.1 --even-if-used");
    assert_eq!(ran.code, 0, "{ran}");
}

#[test]
fn what_is_mounted_in_an_install_keeps_it() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "6.20.2", "8.3.0"]);
    let build = scene.data("shelf/marram/saltmarsh-6.20.2/build");
    let at = build.display().to_string();
    let Some(_mounted) = mount(&["--bind", &at], &build) else {
        return;
    };
    let ran = scene.vshelf(&["remove", "6.20.2", "--even-if-used"]);
    assert_eq!(ran.code, 6, "{ran}");
    assert!(
        ran.stderr.contains("a file system is mounted there"),
        "{ran}"
    );
    assert!(build.join("bin/marram").exists());
    let history = scene.does(&["history"]).stdout;
    assert!(!history.contains("removed"), "{history}");
}

#[test]
fn file_systems_that_cannot_exchange_or_link_are_used_all_the_same() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "6.20.2"]);
    if !scene.can_tamper() {
        return;
    }
    let before = fs::read(scene.data("shelf/marram/saltmarsh-6.20.2/record.json")).unwrap();
    let again = &["install", "--again", "6.20.2"];
    let ran = scene.tampered("renameat2:error=EINVAL", again);
    assert_eq!(ran.code, 0, "{ran}");
    assert_ne!(
        fs::read(scene.data("shelf/marram/saltmarsh-6.20.2/record.json")).unwrap(),
        before
    );
    assert!(names_in(&scene.data("staging")).is_empty());
    scene.does(&["checkup", "6.20.2"]);
    let script = "set -e
        cp -a \"$0\" m; ln m/bin/marram m/bin/twin; tar -czf twins.tar.gz m";
    let build = scene.data("shelf/marram/saltmarsh-6.20.2/build");
    let mut packing = scene.command("/bin/bash");
    let packed = scene.run(packing.args(["-c", script]).arg(build));
    assert_eq!(packed.code, 0, "{packed}");
    let adopt = &["adopt", "twins.tar.gz"];
    let ran = scene.tampered("linkat:error=EPERM", adopt);
    assert_eq!(ran.code, 0, "{ran}");
    let twin = scene.data("shelf/marram/adopted-6.20.2/build/bin/twin");
    assert!(fs::read_to_string(twin).unwrap().starts_with("#!"));
    scene.does(&["checkup", "adopted/6.20.2"]);
}

#[test]
fn the_history_tells_what_was_done_and_given_up() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0", "6.20.2"]);
    if !scene.can_tamper() {
        return;
    }
    let remove = &["remove", "6.20.2", "--even-if-used", "--for-good"];
    let told = || {
        let history = scene.does(&["history", "--json"]).stdout;
        let history: serde_json::Value = serde_json::from_str(&history).unwrap();
        let newest = &history["entries"][0];
        let text = |field: &str| newest[field].as_str().unwrap_or_default().to_owned();
        [text("operation"), text("outcome"), text("problem")]
    };
    // The folder cannot be moved: nothing is changed, and the reason is kept.
    let ran = scene.tampered("rename:error=EBUSY:when=1+", remove);
    assert_eq!(ran.code, 6, "{ran}");
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.0"]);
    let [operation, outcome, problem] = told();
    assert_eq!([operation, outcome], ["removed", "given-up"]);
    // Each C library has its own words in front of it.
    assert!(problem.ends_with("usy (os error 16)"), "{problem}");
    // Killed behind the rename into the trash: it is removed, and the next command that changes the shelf
    // completes what follows.
    scene.tampered("rename:signal=KILL:when=2", remove);
    assert_eq!(told(), ["removed", "done", ""]);
    assert_eq!(scene.on_shelf(), ["8.3.0"]);
    scene.does(&["default", "8.3.0"]);
    scene.does(&["--quiet", "install", "9.2.0"]);
    scene.does(&["remove", "9.2.0"]);
    let history = scene.does(&["history"]).stdout;
    let of_six: Vec<&str> = history
        .lines()
        .filter(|line| line.contains("6.20.2"))
        .collect();
    assert!(
        of_six.iter().any(|line| line.contains("  removed")),
        "{history}"
    );
    assert!(names_in(&scene.data("staging")).is_empty());
    scene.does(&["restore", "6.20.2"]);
}

/// A home with two installs, of which 8.3.0 has a record with this text.
fn with_record(text: Option<&str>) -> Scene {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0", "6.20.2"]);
    let record = scene.data("shelf/marram/saltmarsh-8.3.0/record.json");
    match text {
        Some(text) => fs::write(&record, text).unwrap(),
        None => fs::remove_file(&record).unwrap(),
    }
    scene
}

#[test]
fn a_damaged_record_is_told_everywhere_and_written_again_from_the_history() {
    let scene = with_record(Some("{\"format\""));
    let told = "Marram 8.3.0 is on the shelf, but \
        [HOME]/.local/share/vivid-shelf/shelf/marram/saltmarsh-8.3.0/record.json is damaged";
    for arguments in [
        &["list"][..],
        &["status"],
        &["tidy", "--dry-run"],
        &["renew", "--dry-run"],
        &["remove", "8.3.0", "--even-if-used"],
        &["default", "8.3.0"],
        &["run", "8.3.0", "--", "marram"],
        &["install", "8.3.0"],
    ] {
        let ran = scene.vshelf(arguments);
        let is_told = ran.stderr.contains(told) || ran.stderr.contains("record.json is damaged");
        assert!(is_told, "{arguments:?}: {ran}");
    }
    assert!(
        scene
            .data("shelf/marram/saltmarsh-8.3.0/build/bin/marram")
            .exists()
    );
    let ran = scene.vshelf(&["checkup"]);
    assert_eq!(ran.code, 1, "{ran}");
    assert!(
        ran.stdout.contains("To fix it: vshelf checkup --fix"),
        "{ran}"
    );
    scene.does(&["connect"]);
    let ran = scene.does(&["checkup", "--fix"]);
    assert_eq!(ran.stdout, "2 installs checked: all is well.\n");
    scene.does(&["run", "8.3.0", "--", "marram", "--version"]);
}

#[test]
fn a_line_with_a_record_that_tells_nothing_is_not_renewed() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0", "6.20.1", "6.20.2"]);
    fs::write(scene.data("shelf/marram/saltmarsh-6.20.2/record.json"), "{").unwrap();
    let ran = scene.does(&["renew", "--yes"]);
    assert!(ran.stderr.contains("record.json is damaged"), "{ran}");
    assert_eq!(scene.on_shelf(), ["6.20.1", "6.20.2", "8.3.1"]);
}

#[test]
fn a_record_of_a_newer_program_is_left_to_it() {
    let newer = "{\"format\":\"vivid-shelf-record/2\"}";
    let scene = with_record(Some(newer));
    let ran = scene.vshelf(&["checkup", "--fix"]);
    assert_eq!(ran.code, 1, "{ran}");
    assert!(ran.stdout.contains("which a newer vshelf writes"), "{ran}");
    assert!(
        !ran.stdout.contains("rm ") && !ran.stdout.contains("--again"),
        "{ran}"
    );
    let record = scene.data("shelf/marram/saltmarsh-8.3.0/record.json");
    assert_eq!(fs::read_to_string(record).unwrap(), newer);
}

#[test]
fn a_missing_record_without_a_history_is_made_again_on_request() {
    let scene = with_record(None);
    fs::remove_file(scene.data("history.jsonl")).unwrap();
    let ran = scene.vshelf(&["checkup"]);
    let fix = "To fix it: vshelf install --again 8.3.0";
    assert!(ran.stdout.contains(fix), "{ran}");
    scene.does(&["install", "--again", "8.3.0"]);
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.0"]);
    scene.does(&["checkup", "8.3.0"]);
}

#[test]
fn packages_that_go_are_named() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1"]);
    scene.does(&["run", "8.3.1", "--", "tussock", "add", "kelp@2.0.0"]);
    let ran = scene.does(&["install", "--again", "8.3.1"]);
    let told = "Marram 8.3.1 was made again without its packages.\n\
        It had these packages: kelp@2.0.0\n";
    assert!(ran.stdout.contains(told), "{ran}");
    let hint = "vshelf run 8.3.1 -- tussock add kelp@2.0.0";
    assert!(ran.stderr.contains(hint), "{ran}");
    scene.does(&["run", "8.3.1", "--", "tussock", "add", "kelp@2.0.0"]);
    let ran = scene.does(&["remove", "8.3.1", "--even-if-used", "--for-good"]);
    let told = "Its packages went with it: kelp@2.0.0\n";
    assert!(ran.stderr.contains(told), "{ran}");
}

#[test]
fn an_install_whose_packages_cannot_be_listed_goes_on_request_alone() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1", "6.20.1", "6.20.2"]);
    let tool = scene.data("shelf/marram/saltmarsh-6.20.1/build/bin/tussock");
    fs::write(&tool, "#!/bin/sh\necho 'the bell is broken' >&2; exit 1\n").unwrap();
    shows!(
        scene.vshelf(&["remove", "6.20.1"]),
        "--- stderr
Error: the packages in Marram 6.20.1 cannot be listed, so it stays.
  Because: tussock of 6.20.1 does not list its packages: the bell is broken.
  To remove it with whatever it has: vshelf remove 6.20.1 --even-if-used
--- exit 7
"
    );
    let ran = scene.vshelf(&["tidy", "--yes"]);
    assert_eq!(ran.code, 1, "{ran}");
    assert_eq!(scene.on_shelf(), ["6.20.1", "6.20.2", "8.3.1"]);
    let ran = scene.does(&["remove", "6.20.1", "--even-if-used"]);
    assert!(ran.stderr.contains("does not list its packages"), "{ran}");
}

#[test]
fn lines_of_the_history_that_are_not_understood_are_told() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1"]);
    let history = scene.data("history.jsonl");
    let text = fs::read_to_string(&history).unwrap();
    fs::write(&history, format!("{text}{{\"form\":\"newer\"}}\n")).unwrap();
    let ran = scene.does(&["history"]);
    let told =
        "~/.local/share/vivid-shelf/history.jsonl has 1 line not understood here, at first line 2";
    assert!(ran.stderr.contains(told), "{ran}");
}

#[test]
fn a_step_that_fills_the_disk_and_goes_on_is_stopped() {
    let compile = "dd if=/dev/zero of=objects bs=4k || true; sleep 600";
    let scene = recipe(&[("compile", compile), ("install", INSTALL)], "");
    let Some(_disk) = have_data_on_small_disk(&scene) else {
        return;
    };
    let ran = scene.vshelf(&["install", "bell@1"]);
    let stopped = "the step compile was stopped, because the disk is nearly full";
    told(&ran, 5, &[stopped]);
}

#[test]
fn a_build_without_space_says_so_and_goes_on_when_there_is_some() {
    let compile = "dd if=/dev/zero of=objects bs=1M count=12";
    let scene = recipe(&[("compile", compile), ("install", INSTALL)], "");
    let Some(disk) = have_data_on_small_disk(&scene) else {
        return;
    };
    let ran = scene.vshelf(&["install", "bell@1"]);
    told(
        &ran,
        5,
        &[
            "the step compile ended with",
            "No space left on device",
            "There was no space left",
        ],
    );
    assert!(scene.on_shelf().is_empty());
    // Room for the rest is made by whoever has some.
    let more = process::status(
        process::command("mount")
            .args(["-o", "remount,size=64m"])
            .arg(&disk.0),
    );
    assert!(more.success());
    scene.does(&["install", "bell@1"]);
    assert!(
        scene
            .data("shelf/bell/gull-point-1.0.0/build/bin/bell")
            .exists()
    );
    assert!(names_in(&scene.data("builds")).is_empty());
}

#[test]
fn what_installs_have_in_common_stands_on_the_disk_once_where_that_can_be() {
    let scene = Scene::new();
    let Some(mkfs) = program("mkfs.btrfs") else {
        return;
    };
    let image = scene.path("image");
    fs::File::create(&image)
        .unwrap()
        .set_len(128 << 20)
        .unwrap();
    let made = process::status(process::command(mkfs).arg("--quiet").arg(&image));
    assert!(made.success());
    let source = image.display().to_string();
    let Some(_disk) = have_data_on(&scene, &["-o", "loop", &source]) else {
        return;
    };
    let bell: Vec<u8> = (0..100_000_u32)
        .flat_map(|n| n.wrapping_mul(n).to_le_bytes())
        .collect();
    for (version, more) in [("8.4.0", "one"), ("8.4.1", "other")] {
        let folder = format!("forge/{version}");
        let text = format!("#!/bin/sh\necho marram {version}\n");
        let file = format!("{folder}/bin/marram");
        scene.write(&file, &text);
        fs::set_permissions(scene.path(&file), PermissionsExt::from_mode(0o755)).unwrap();
        scene.write(&format!("{folder}/lib/own"), &more.repeat(10_000));
        fs::write(scene.path(&format!("{folder}/lib/bell")), &bell).unwrap();
        scene.does(&["adopt", &folder]);
    }
    let listed = scene.does(&["list", "--json"]).stdout;
    let listed: serde_json::Value = serde_json::from_str(&listed).unwrap();
    let shared = |place: usize| listed["runtimes"][0]["installs"][place]["shared"].as_u64();
    assert_eq!((shared(0), shared(1)), (Some(400_000), Some(0)));
    shows!(
        scene.does(&["--quiet", "list", "--size"]),
        str![[r#"
Marram: 2 installs, 0.9 MB
version          size  share    of it shared  used   marks
adopted/8.4.1  0.5 MB  #######        0.4 MB  today
adopted/8.4.0  0.5 MB  ######                 today  default

"#]]
    );
    // What is written to one is not in the other.
    let bell_of =
        |version: &str| scene.data(&format!("shelf/marram/adopted-{version}/build/lib/bell"));
    let mut changed = fs::File::options()
        .append(true)
        .open(bell_of("8.4.0"))
        .unwrap();
    changed.write_all(b"cracked").unwrap();
    assert_eq!(fs::read(bell_of("8.4.1")).unwrap(), bell);
    scene.does(&["checkup", "adopted/8.4.1"]);
}
