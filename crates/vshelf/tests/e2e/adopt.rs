//! Adopting what is on this machine, and checking that installs are as they came.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use snapbox::str;

use crate::scene::{Scene, names_in};
use crate::shows;

/// A home whose new shells are connected.
fn connected() -> Scene {
    let scene = Scene::new();
    scene.does(&["--quiet", "connect"]);
    scene
}

/// A folder with a Marram of this version that somebody built.
fn built(scene: &Scene, folder: &str, version: &str) {
    let program = format!("{folder}/bin/marram");
    scene.write(&program, &format!("#!/bin/sh\necho 'marram {version}'\n"));
    let permissions = fs::Permissions::from_mode(0o755);
    fs::set_permissions(scene.path(&program), permissions).unwrap();
    scene.write(&format!("{folder}/lib/bell.mar"), "ring\n");
}

#[test]
fn an_install_that_meets_a_requirement_is_enough() {
    let scene = connected();
    let install = |required: &str| {
        scene.write(".marram-version", required);
        scene.does(&["install"])
    };
    built(&scene, "build", "7.9.9");
    scene.does(&["--quiet", "adopt", "build"]);
    // Nobody publishes it.
    let ran = install("7.9\n");
    let enough = "Marram adopted/7.9.9 is already installed; nothing was fetched.\n";
    assert!(ran.stdout.contains(enough), "{ran}");
    scene.does(&["--quiet", "install", "8.3.0"]);
    let ran = install("8\n");
    let enough = "Marram 8.3.0 is already installed; nothing was fetched.\n";
    assert!(ran.stdout.contains(enough), "{ran}");
    let newer = "8.3.1 is out; to renew it: vshelf renew 8\n";
    assert!(ran.stderr.contains(newer), "{ran}");
    // A selector asks for the newest release that it means.
    let ran = scene.does(&["install", "8"]);
    assert!(
        ran.stdout
            .contains("Marram 8.3.1 is on the shelf, published"),
        "{ran}"
    );
    // A lock names one release.
    scene.does(&["--quiet", "remove", "8.3.1", "--even-if-used"]);
    scene.does(&["--quiet", "lock"]);
    let ran = scene.does(&["install"]);
    assert!(
        ran.stdout
            .contains("Marram 8.3.1 is on the shelf, published"),
        "{ran}"
    );
}

#[test]
fn a_folder_is_copied_and_is_an_install_from_then_on() {
    let scene = connected();
    built(&scene, "build/out", "8.4.0");
    shows!(
        scene.vshelf(&["adopt", "build"]),
        str![[r#"
Marram 8.4.0 is on the shelf, copied from ~/build/out
It is the default now: new connected shells use it.
--- stderr
This shell is not connected; to connect it: source ~/.local/share/vivid-shelf/connect/shelf.bash

"#]]
    );
    fs::remove_dir_all(scene.path("build")).unwrap();
    let ran = scene.does(&["run", "8", "--", "marram", "--version"]);
    assert_eq!(ran.stdout, "marram 8.4.0\n");
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
Marram: 1 install, 0.1 MB
version          size  used   marks
adopted/8.4.0  0.1 MB  today  default

"#]]
    );
    scene.does(&["label", "ours", "adopted/8.4.0"]);
    scene.does(&["checkup"]);
    shows!(
        scene.vshelf(&["remove", "ours", "--even-if-used"]),
        str![[r#"
Marram adopted/8.4.0 was removed; its 0.1 MB stay in the trash until 2026-12-07.
--- stderr
Warning: tussock of adopted/8.4.0 does not list its packages: [HOME]/.local/share/vivid-shelf/shelf/marram/adopted-8.4.0/build/bin/tussock cannot be started.
It was the default; Marram has none now.
The label ours (adopted/8.4.0) stands for nothing on the shelf now.

"#]]
    );
}

#[test]
fn a_link_leaves_the_folder_where_it_is() {
    let scene = connected();
    scene.does(&["install", "6"]);
    built(&scene, "forge/marram", "8.4.0");
    shows!(
        scene.vshelf(&[
            "adopt",
            "--link",
            "forge/marram",
            "--as",
            "gull-point/9.9.0"
        ]),
        str![[r#"
Marram 9.9.0 is on the shelf, as a link to ~/forge/marram
The default stays 6.20.2 (6).
--- stderr
This shell is not connected; to connect it: source ~/.local/share/vivid-shelf/connect/shelf.bash

"#]]
    );
    built(&scene, "forge/marram", "8.4.1");
    let ran = scene.does(&["run", "gull-point/9.9.0", "--", "marram", "--version"]);
    assert_eq!(ran.stdout, "marram 8.4.1\n", "a rebuild is found");
    shows!(
        scene.vshelf(&["remove", "gull-point/9.9.0"]),
        str![[r#"
Marram gull-point/9.9.0 was removed; the folder that it was a link to stays.

"#]]
    );
    assert!(scene.path("forge/marram/lib/bell.mar").exists());
    scene.does(&["adopt", "--link", "forge/marram"]);
    fs::remove_dir_all(scene.path("forge")).unwrap();
    shows!(
        scene.vshelf(&["checkup"]),
        str![[r#"
Marram adopted/8.4.1: ~/forge/marram is missing, and the install is a link to it
  To fix it: vshelf remove --even-if-used adopted/8.4.1
--- stderr
Error: the checkup has 1 finding.
--- exit 1

"#]]
    );
    scene.does(&["remove", "adopted/8.4.1"]);
    assert_eq!(scene.on_shelf(), ["6.20.2"]);
}

#[test]
fn an_archive_from_a_colleague_is_unpacked_and_searched() {
    let scene = connected();
    let archive = scene.path("marram.tar.xz");
    let bytes = vshelf_demo::layouts::publish("http://gull.example");
    fs::write(&archive, &bytes["/folder/marram-8.3.1.tar.xz"]).unwrap();
    let ran = scene.vshelf(&["adopt", "marram.tar.xz"]);
    assert_eq!(ran.code, 0, "{ran}");
    let record = fs::read_to_string(scene.data("shelf/marram/adopted-8.3.1/record.json")).unwrap();
    let record: serde_json::Value = serde_json::from_str(&record).unwrap();
    assert!(record["digest"].as_str().unwrap().starts_with("sha256:"));
    assert_eq!(
        record["archive_size"],
        fs::metadata(&archive).unwrap().len()
    );
    let ran = scene.does(&["run", "8.3.1", "--", "tussock", "list"]);
    assert_eq!(ran.code, 0, "{ran}");
    // The same version from its publisher stands beside it.
    scene.does(&["install", "8.3.1"]);
    assert_eq!(scene.on_shelf(), ["8.3.1", "adopted-8.3.1"]);
    scene.does(&["checkup"]);
    let wheel = &bytes["/files/marram-6.20.2-py3-none-any.whl"];
    fs::write(scene.path("marram.zip"), wheel).unwrap();
    scene.does(&["adopt", "marram.zip"]);
    scene.write("marram.tar.gz", "<html>sign in first</html>");
    let ran = scene.vshelf(&["adopt", "marram.tar.gz"]);
    assert_eq!(ran.code, 5, "{ran}");
}

#[test]
fn the_systems_copy_can_be_adopted() {
    let scene = connected();
    built(&scene, "usr", "7.0.0");
    let path = format!("{}:/usr/bin:/bin", scene.path("usr/bin").display());
    let vshelf = |arguments: &[&str]| {
        let mut command = scene.command(crate::scene::PROGRAM);
        scene.run(command.env("PATH", &path).args(arguments))
    };
    let ran = vshelf(&["adopt", "system"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(
        ran.stdout
            .starts_with("Marram 7.0.0 is on the shelf, as a link to ~/usr/bin/marram"),
        "{ran}"
    );
    let ran = vshelf(&["run", "7", "--", "marram"]);
    assert_eq!(ran.stdout, "marram 7.0.0\n");
    // It is still the system's copy too.
    assert_eq!(vshelf(&["path", "system"]).code, 0);
    let none = scene.vshelf(&["adopt", "marram@system"]);
    assert_eq!(none.code, 3, "{none}");
}

#[test]
fn what_cannot_be_adopted_is_refused_and_leaves_nothing() {
    let scene = connected();
    scene.write("empty/readme", "nothing here");
    built(&scene, "odd", "is not a number");
    built(&scene, "good", "8.4.0");
    scene.does(&["adopt", "good"]);
    for (arguments, expected) in [
        (
            &["adopt", "empty"][..],
            str![[r#"
--- stderr
Error: ~/empty holds no runtime that is known here.
  Looked for bin/bun, deno, bin/go, bin/gradle, bin/java, bin/jruby, bin/lua, bin/marram, bin/mvn, bin/node, bin/pnpm, bin/python3, bin/ruby, bin/yarn, zig, at the top and three folders down.
--- exit 3

"#]],
        ),
        (
            &["adopt", "nowhere"],
            str![[r#"
--- stderr
Error: [HOME]/nowhere cannot be read.
  Because: No such file or directory (os error 2).
--- exit 6

"#]],
        ),
        (
            &["adopt", "odd"],
            str![[r#"
--- stderr
Error: ~/odd answers "marram is not a number", which says no version of Marram.
  To name the version yourself, add --as VERSION.
--- exit 5

"#]],
        ),
        (
            &["adopt", "good"],
            str![[r#"
--- stderr
Error: Marram adopted/8.4.0 is already installed.
  To adopt this one beside it, add --as with another version or publisher.
--- exit 7

"#]],
        ),
        (
            &["adopt", "good", "--as", "lts"],
            str![[r#"
--- stderr
Error: --as is "lts", which is not a version.
  A version is written like 8.3.1.
--- exit 2

"#]],
        ),
        (
            &["adopt", "--link", "good/bin/marram"],
            str![[r#"
--- stderr
Error: ~/good/bin/marram is not a folder, and --link needs one.
  Without --link an archive is unpacked.
--- exit 2

"#]],
        ),
    ] {
        shows!(scene.vshelf(arguments), expected);
    }
    assert_eq!(scene.on_shelf(), ["adopted-8.4.0"]);
    assert_eq!(names_in(&scene.data("staging")), Vec::<String>::new());
    scene.does(&["adopt", "odd", "--as", "1.0.0"]);
}

#[test]
fn a_checkup_says_which_files_changed_and_how_to_mend_it() {
    let scene = connected();
    scene.does(&["install", "8.3.1", "6"]);
    shows!(
        scene.vshelf(&["checkup"]),
        str![[r#"
2 installs checked: all is well.

"#]]
    );
    let install = scene.data("shelf/marram/saltmarsh-8.3.1/build");
    fs::write(install.join("lib/marram/prelude.mar"), "# changed\n").unwrap();
    fs::remove_file(install.join("share/doc/marram/README")).unwrap();
    fs::write(install.join("bin/marram"), "#!/bin/sh\nexit 3\n").unwrap();
    fs::write(install.join("lib/marram/packages/new"), "no finding").unwrap();
    scene.does(&["label", "old", "6"]);
    scene.does(&["remove", "6"]);
    shows!(
        scene.vshelf(&["checkup"]),
        str![[r#"
Marram 8.3.1: 3 of 7 files differ from what was unpacked
  bin/marram has other contents
  lib/marram/prelude.mar has other contents
  share/doc/marram/README is missing
  To fix it: vshelf install --again 8.3.1
Marram 8.3.1: does not start: it ends with exit status: 3
  To fix it: vshelf install --again 8.3.1
the label old of Marram: 6 matches nothing on the shelf
  To fix it: vshelf install 6
--- stderr
Error: the checkup has 3 findings.
--- exit 1

"#]]
    );
    let one = scene.vshelf(&["checkup", "8", "--json"]);
    let report: serde_json::Value = serde_json::from_str(&one.stdout).unwrap();
    assert_eq!(report["findings"].as_array().unwrap().len(), 2, "{one}");
    let ran = scene.does(&["install", "--again", "8.3.1"]);
    assert!(ran.stdout.contains("is on the shelf"), "{ran}");
    scene.does(&["label", "--remove", "old"]);
    scene.does(&["checkup"]);
    assert_eq!(names_in(&scene.data("staging")), Vec::<String>::new());
}

#[test]
fn what_does_not_start_is_kept_only_on_request() {
    let scene = connected();
    let ran = scene.vshelf(&["install", "--keep-broken", "dunefield/9.1.1"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(
        ran.stderr
            .contains("It does not start here: it needs the library libkelp.so.2"),
        "{ran}"
    );
    shows!(
        scene.vshelf(&["list"]),
        str![[r#"
Marram: 1 install, 0.4 MB
version          phase    support ends               size  used   marks
dunefield/9.1.1  current  2027-06-30, in 7 months  0.4 MB  today  default, does not start

"#]]
    );
    shows!(
        scene.vshelf(&["checkup"]),
        str![[r#"
Marram dunefield/9.1.1: does not start: it needs the library libkelp.so.2, which is not on this system
--- stderr
Error: the checkup has 1 finding.
--- exit 1

"#]]
    );
}

#[test]
fn a_build_for_newer_systems_is_told_by_the_version_that_it_asks_for() {
    let scene = connected();
    built(&scene, "new", "8.4.0");
    let complaint = "marram: /lib/libc.so.6: version `GLIBC_9.99' not found (required by marram)";
    scene.write(
        "new/bin/marram",
        &format!(
            "#!/bin/sh\necho \"{}\" >&2\nexit 1\n",
            complaint.replace('`', "\\`")
        ),
    );
    let ran = scene.vshelf(&["adopt", "new"]);
    assert_eq!(ran.code, 5, "{ran}");
    let because = "Because: it needs GLIBC_9.99, which the libc.so.6 of this system does not have.";
    assert!(ran.stderr.contains(because), "{ran}");
    assert!(ran.stderr.contains("An older release"), "{ran}");
    scene.write("new/bin/marram", "#!/no/such/loader\n");
    let ran = scene.vshelf(&["adopt", "new"]);
    let because = "Because: it is started by /no/such/loader, which is not on this system.";
    assert!(ran.stderr.contains(because), "{ran}");
}
