//! Servers and disks that misbehave: nothing half done, and the next attempt goes on.

use std::fs;
use std::io::Write;
use std::os::unix::process::ExitStatusExt;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use snapbox::str;
use vshelf_core::catalog::DigestAlgorithm;
use vshelf_demo::server::Fault;
use vshelf_sources::digest::digest_of;

use crate::process::{self, Started};
use crate::scene::{PROGRAM, Scene, names_in, skipped};
use crate::shows;

/// Nothing of a failed install is left that anyone would see.
fn nothing_left(scene: &Scene) {
    assert!(scene.on_shelf().is_empty());
    assert!(names_in(&scene.data("staging")).is_empty());
}

#[test]
fn wrong_bytes_are_refused() {
    let scene = Scene::with_faults(&[Fault::WrongBytes]);
    let ran = scene.vshelf(&["install", "8", "--quiet"]);
    assert_eq!(ran.code, 5, "{ran}");
    let first = ran.stderr.lines().next().unwrap();
    assert!(
        first.ends_with("is not what its catalog promises.") || first.contains("was refused"),
        "{ran}"
    );
    nothing_left(&scene);
    scene.server().misbehave(&[]);
    scene.does(&["install", "8"]);
}

#[test]
fn a_wrong_length_is_refused() {
    let scene = Scene::with_faults(&[Fault::WrongLength]);
    let ran = scene.vshelf(&["install", "8"]);
    assert_eq!(ran.code, 5, "{ran}");
    assert!(ran.stderr.contains("bytes, its catalog promises"), "{ran}");
    nothing_left(&scene);
}

#[test]
fn a_cut_off_body_is_resumed_where_it_broke_off() {
    let scene = Scene::with_faults(&[Fault::Cut(100_000)]);
    scene.does(&["install", "8.3.1"]);
    let requests = scene.server().requests();
    let archive: Vec<&String> = requests.iter().filter(|r| r.contains("archives")).collect();
    assert!(
        archive[0].ends_with(" 200") && archive[1].ends_with(" 206 from 100000"),
        "{archive:?}"
    );
}

#[test]
fn a_server_without_ranges_starts_over_and_the_bytes_still_add_up() {
    let scene = Scene::with_faults(&[Fault::Cut(100_000), Fault::NoRanges]);
    let ran = scene.vshelf(&["install", "8.3.1"]);
    assert_eq!(ran.code, 4, "it never gets beyond the cut\n{ran}");
    nothing_left(&scene);
    // What came is kept, and the next attempt goes on from there.
    scene.server().misbehave(&[]);
    scene.does(&["install", "8.3.1"]);
    let requests = scene.server().requests();
    assert!(
        requests.last().unwrap().ends_with(" 206 from 100000"),
        "{requests:?}"
    );
}

#[test]
fn a_busy_server_is_asked_again_and_a_redirect_followed() {
    let scene = Scene::with_faults(&[Fault::Busy(2), Fault::Redirect]);
    scene.does(&["install", "8.3.1"]);
    let requests = scene.server().requests();
    assert_eq!(
        requests.iter().filter(|r| r.ends_with(" 503")).count(),
        2,
        "{requests:?}"
    );
    assert!(
        requests.last().unwrap().starts_with("GET /moved"),
        "{requests:?}"
    );
}

#[test]
fn a_missing_page_is_named() {
    let scene = Scene::with_faults(&[Fault::Status(404)]);
    shows!(
        scene.vshelf(&["install", "8"]),
        str![[r#"
--- stderr
Error: [SERVER]/catalog.json answers with status 404.
  It may have moved; the source's address is in the runtime's definition.
--- exit 4

"#]]
    );
    nothing_left(&scene);
}

#[test]
fn a_server_that_is_gone_is_named_and_an_old_catalog_serves() {
    let mut scene = Scene::with_faults(&[]);
    scene.does(&["catalog"]);
    let address = scene.server().address();
    scene.stop_server();
    let ran = scene.vshelf(&["catalog", "8.3.1", "--refresh"]);
    assert_eq!(ran.code, 0, "{ran}");
    let note = format!(
        "Warning: The catalog of Marram was last confirmed today: {address}/catalog.json does not answer."
    );
    assert!(ran.stderr.starts_with(&note), "{ran}");
    let definition = vshelf_demo::definition("http://127.0.0.1:9");
    let fresh = Scene::new();
    fresh.write(".config/vivid-shelf/runtimes/marram.toml", &definition);
    shows!(
        fresh.vshelf(&["install", "8"]),
        str![[r#"
--- stderr
Error: stand-in, the source of Marram, does not answer.
  Because: stand-in: http://127.0.0.1:9/catalog.json does not answer: io: Connection refused (os error 111).
  Check the connection and the proxy settings, then run the same command again.
  A mirror of it can take its place, in shelf.toml: [addresses] "marram.stand-in" = "URL"
  To put a build that you have on the shelf: vshelf adopt PATH
--- exit 4

"#]]
    );
}

#[test]
fn a_build_that_does_not_start_stays_off_the_shelf() {
    let scene = Scene::new();
    shows!(
        scene.vshelf(&["install", "dunefield/9.1.1"]),
        str![[r#"
--- stderr
Fetching Marram dunefield/9.1.1 (0.2 MB).
Error: Marram dunefield/9.1.1 does not start.
  Because: it needs the library libkelp.so.2, which is not on this system.
  Install the package that brings libkelp.so.2.
  Marram dunefield/9.1.1 was not put on the shelf.
  To put it on the shelf anyway: vshelf install --keep-broken marram@dunefield/9.1.1
--- exit 5

"#]]
    );
    nothing_left(&scene);
}

/// A small disk of its own, for as long as the test runs.
pub struct SmallDisk {
    pub path: PathBuf,
}

impl SmallDisk {
    /// Mounts a disk of this size; nothing where that is not allowed.
    pub fn mount(scene: &Scene, size: &str) -> Option<SmallDisk> {
        let path = scene.path("small");
        fs::create_dir(&path).unwrap();
        let mounted = process::status(
            process::command("mount")
                .args(["-t", "tmpfs", "-o", &format!("size={size}"), "tmpfs"])
                .arg(&path),
        );
        if !mounted.success() {
            skipped("a small disk can only be mounted by root");
            return None;
        }
        Some(SmallDisk { path })
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let status = process::status(process::command("umount").arg(&self.path));
        assert!(status.success());
    }
}

#[test]
fn a_full_disk_leaves_nothing_behind() {
    let scene = Scene::new();
    let Some(small) = SmallDisk::mount(&scene, "300k") else {
        return;
    };
    let data = small.path.join("data");
    let mut command = scene.command(PROGRAM);
    let ran = scene.run(
        command
            .args(["install", "8", "--quiet"])
            .env("VSHELF_DATA", &data),
    );
    let installs = names_in(&data.join("shelf/marram"));
    let staging = names_in(&data.join("staging"));
    assert_eq!(ran.code, 6, "{ran}");
    assert!(
        ran.stderr
            .contains("The disk is full; nothing was changed."),
        "{ran}"
    );
    assert!(
        installs.is_empty() && staging.is_empty(),
        "{installs:?} {staging:?}"
    );
}

#[test]
fn ten_at_once_download_once() {
    let scene = Scene::with_faults(&[]);
    let mut running: Vec<_> = (0..10)
        .map(|_| {
            let mut command = scene.command(PROGRAM);
            let output = std::process::Stdio::null();
            command.args(["install", "8.3.1", "--quiet"]).stdout(output);
            Started::start(&mut command)
        })
        .collect();
    for child in &mut running {
        assert!(child.wait().success());
    }
    let requests = scene.server().requests();
    assert_eq!(
        requests.iter().filter(|r| r.contains("archives")).count(),
        1,
        "{requests:?}"
    );
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
}

/// Starts an install that takes a while, and waits until it is at work.
fn slow_install(scene: &Scene) -> Started {
    let mut command = scene.command(PROGRAM);
    let log = fs::File::create(scene.path("said")).unwrap();
    let child = Started::start(command.args(["install", "8.3.1"]).stderr(log));
    for _ in 0..200 {
        std::thread::sleep(Duration::from_millis(20));
        let partials = names_in(&scene.path(".cache/vivid-shelf/archives"));
        if !partials.is_empty() && !names_in(&scene.data("staging")).is_empty() {
            break;
        }
    }
    std::thread::sleep(Duration::from_millis(300));
    child
}

#[test]
fn ctrl_c_ends_an_install_at_once_and_what_came_is_gone_on_with() {
    let scene = Scene::with_faults(&[Fault::Slow(100_000)]);
    let mut child = slow_install(&scene);
    let asked = Instant::now();
    kill_process(Pid::from_child(&child), Signal::INT).unwrap();
    assert_eq!(child.wait().signal(), Some(2), "it dies by the signal");
    assert!(asked.elapsed() < Duration::from_secs(1));
    let said = fs::read_to_string(scene.path("said")).unwrap();
    let kept = " MB that came are kept; the same command resumes.\n";
    assert!(
        said.contains("Interrupted. 0.") && said.ends_with(kept),
        "{said}"
    );
    assert!(scene.on_shelf().is_empty());
    scene.server().misbehave(&[]);
    scene.does(&["install", "8.3.1"]);
    let last = scene.server().requests().pop().unwrap();
    assert!(last.contains(" 206 from "), "{last}");
    assert!(names_in(&scene.data("staging")).is_empty());
}

#[test]
fn a_verified_archive_is_not_fetched_again() {
    let scene = Scene::with_faults(&[]);
    if !scene.can_tamper() {
        return;
    }
    // Killed between the download and the shelf.
    scene.tampered("syncfs:signal=KILL:when=1", &["install", "8.3.1"]);
    assert!(scene.on_shelf().is_empty());
    scene.does(&["install", "8.3.1"]);
    let requests = scene.server().requests();
    let fetched = requests
        .iter()
        .filter(|request| request.contains("archives"));
    assert_eq!(fetched.count(), 1, "{requests:?}");
    assert!(names_in(&scene.path(".cache/vivid-shelf/archives")).is_empty());
}

#[test]
fn a_killed_install_is_swept_by_the_next() {
    let scene = Scene::with_faults(&[Fault::Slow(100_000)]);
    let mut child = slow_install(&scene);
    child.kill().unwrap();
    child.wait();
    assert!(scene.on_shelf().is_empty());
    assert!(
        !names_in(&scene.data("staging")).is_empty(),
        "it was killed at work"
    );
    scene.server().misbehave(&[]);
    scene.does(&["install", "8.3.1"]);
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
    assert!(names_in(&scene.data("staging")).is_empty());
}

#[test]
fn an_archive_that_leads_out_of_its_folder_is_refused() {
    let scene = Scene::new();
    let mut tar = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_ustar();
    let path = b"marram/../../../../evil";
    header.as_mut_bytes()[..path.len()].copy_from_slice(path);
    header.set_mode(0o644);
    header.set_size(4);
    header.set_cksum();
    tar.append(&header, &b"evil"[..]).unwrap();
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(&tar.into_inner().unwrap()).unwrap();
    let archive = gzip.finish().unwrap();
    let digest = digest_of(DigestAlgorithm::Sha256, &archive);
    fs::create_dir(scene.path("site")).unwrap();
    fs::write(scene.path("site/evil.tar.gz"), &archive).unwrap();
    let build = format!(r#"{{ "platform": "any", "file": "evil.tar.gz", "digest": "{digest}" }}"#);
    scene.write(
        "site/catalog.json",
        &format!(
            r#"{{ "format": "vivid-shelf-catalog/1", "runtime": "marram",
              "publishers": [{{ "id": "saltmarsh", "name": "Saltmarsh Foundation", "main": true }}],
              "releases": [{{ "version": "8.3.1", "publisher": "saltmarsh", "builds": [{build}] }}] }}"#
        ),
    );
    let definition = vshelf_demo::definition(&scene.path("site").to_string_lossy());
    scene.write(".config/vivid-shelf/runtimes/marram.toml", &definition);
    shows!(
        scene.vshelf(&["install", "8", "--quiet"]),
        str![[r#"
--- stderr
Error: [HOME]/site/evil.tar.gz was refused: its entry "marram/../../../../evil" leads out of the archive.
  Nothing of it was kept.
--- exit 5

"#]]
    );
    nothing_left(&scene);
    assert!(!scene.home().parent().unwrap().join("evil").exists());
}

#[test]
fn one_of_several_that_fails_stops_no_other_and_decides_the_exit_code() {
    let scene = Scene::new();
    let ran = scene.vshelf(&[
        "install",
        "8.3.1",
        "dunefield/9.1.1",
        "4.90",
        "6",
        "eelgrass",
    ]);
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.1"], "{ran}");
    // The first failure decides: 4.90 is found out before anything is fetched.
    assert_eq!(ran.code, 3, "{ran}");
    assert!(
        ran.stderr.contains("Marram dunefield/9.1.1 does not start"),
        "{ran}"
    );
    assert!(ran.stderr.contains("4.90 is not published"), "{ran}");
    let rows = ran
        .stdout
        .lines()
        .filter(|line| line.starts_with("Marram "));
    assert_eq!(rows.count(), 3, "two rows and the default: {ran}");
    let ran = scene.vshelf(&["install", "8", "6", "--default"]);
    assert_eq!(ran.code, 2, "{ran}");
}

#[test]
fn several_are_fetched_at_the_same_time() {
    let scene = Scene::with_faults(&[Fault::Slow(200_000)]);
    scene.does(&["install", "8.3.0", "9.2.0", "8.2.0", "6"]);
    let most = scene.server().most_at_once();
    assert!(most >= 3, "{most} at a time");
}

#[test]
fn folders_that_cannot_be_written_are_named_and_nothing_is_lost() {
    use std::os::unix::fs::{MetadataExt, PermissionsExt};
    use std::os::unix::process::CommandExt;
    let scene = Scene::new();
    scene.does(&["install", "6"]);
    let shelf = scene.data("shelf/marram");
    let mode = |mode| fs::set_permissions(&shelf, PermissionsExt::from_mode(mode)).unwrap();
    mode(0o555);
    let mut command = scene.command(PROGRAM);
    // Root may write everywhere, and tests often run as root.
    let me = fs::metadata("/proc/self").unwrap();
    let nobodys = tempfile::tempdir().unwrap();
    if me.uid() == 0 {
        for folder in [scene.home(), nobodys.path()] {
            fs::set_permissions(folder, PermissionsExt::from_mode(0o777)).unwrap();
        }
        command.uid(65534).gid(65534);
    }
    command.env("VSHELF_CACHE", nobodys.path());
    let ran = scene.run(command.args(["install", "8.3.1"]));
    mode(0o755);
    assert_eq!(ran.code, 6, "{ran}");
    assert!(ran.stderr.contains("cannot be written"), "{ran}");
    assert_eq!(scene.on_shelf(), ["6.20.2"]);
    scene.does(&["install", "8.3.1"]);
}
