//! Build tools: from a Maven repository as its client is configured, on the runtime that they run on, and as a project's
//! wrapper says. With Reed, a made-up tool that runs on Marram.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use ring::digest::SHA512;
use rstest::rstest;

use crate::scene::{PROGRAM, Scene, names_in};
use crate::web_server::{Asked, Reply, WebServer, archive, digest, digest_by};

const DEFINITION: &str = r#"
    name = "reed"
    title = "Reed"
    program = "reed"
    probe = { arguments = ["--version"], answer = "reed {version}" }
    runs-on = [
      { runtime = "marram", releases = ">=4", version = ">=9" },
      { runtime = "marram", version = ">=7" },
    ]
    requirement-files = [
      { file = ".reed/wrapper/reed-wrapper.properties", line = "distributionUrl={any}/reed-tools-{selector}-bin.zip" },
    ]

    [[sources]]
    name = "repository"
    kind = "maven"
    publisher = "dunefield"
    artifact = "example.dunefield.reed:reed-tools"
    classifier = "bin"
    extension = "tar.gz"
"#;

const METADATA: &str = "<metadata><versioning><latest>3.0.0</latest><versions><version>3.1.0</version>
    <version>2.0.0</version><version>4.0.0</version><version>3.0.0</version></versions></versioning></metadata>";

/// The build of a version, whose program starts the Marram around it.
fn build(version: &str) -> Vec<u8> {
    let program = format!(
        "#!/bin/sh\ntest \"$MARRAM_HOME\" && marram=$(marram --version) || exit 7\n\
         echo \"reed {version}\"\necho \"on $marram\"\n"
    );
    archive(&[(&format!("reed-{version}/bin/reed"), &program)])
}

/// A repository that lets in nobody without a password, if `is_closed`. Of 3.0.0 it has the weaker digest alone, and of
/// 2.0.0 none.
fn repository(is_closed: bool) -> (WebServer, Arc<AtomicBool>) {
    let was_told = Arc::new(AtomicBool::new(false));
    let told = Arc::clone(&was_told);
    let server = WebServer::start(move |asked: &Asked| {
        // The name and password `gull:sand`.
        let knows = asked.header("authorization") == Some("Basic Z3VsbDpzYW5k");
        told.fetch_or(knows, Ordering::Relaxed);
        if is_closed && !knows {
            return Reply::status(401);
        }
        let Some(path) = asked
            .path
            .strip_prefix("/maven/example/dunefield/reed/reed-tools/")
        else {
            return Reply::status(404);
        };
        if path == "maven-metadata.xml" {
            return Reply::body(METADATA);
        }
        let (version, file) = path.split_once('/').unwrap();
        let bytes = build(version);
        match file.strip_prefix(&format!("reed-tools-{version}-bin.tar.gz")) {
            Some("") => Reply::body(bytes),
            Some(".sha512") if !["2.0.0", "3.0.0"].contains(&version) => {
                Reply::body(digest_by(&SHA512, &bytes))
            }
            Some(".sha256") if version == "3.0.0" => Reply::body(digest(&bytes)),
            _ => Reply::status(404),
        }
    });
    (server, was_told)
}

/// A home that knows Reed, and whose Maven client is configured for this repository.
fn scene(server: &WebServer, password: &str) -> Scene {
    let scene = Scene::new();
    scene.write(".config/vivid-shelf/runtimes/reed.toml", DEFINITION);
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"marram\"\n",
    );
    let settings = format!(
        "<settings><mirrors><mirror><id>board</id><mirrorOf>*</mirrorOf><url>{}/maven</url></mirror></mirrors>
         <servers><server><id>board</id><username>gull</username><password>{password}</password></server></servers></settings>",
        server.address()
    );
    scene.write(".m2/settings.xml", &settings);
    scene
}

#[test]
fn a_tool_is_started_on_the_runtime_that_it_runs_on() {
    let (server, _) = repository(false);
    let scene = scene(&server, "");
    // Nothing is fetched of what could not be started.
    let ran = scene.vshelf(&["install", "reed@3.1"]);
    assert_eq!(ran.code, 3, "{ran}");
    let told = "Error: Reed 3.1.0 runs on marram >=7, and there is none here.\n  To see what there is: vshelf catalog marram\n";
    assert!(ran.stderr.contains(told), "{ran}");
    assert!(
        !server
            .requests()
            .iter()
            .any(|request| request.ends_with("tar.gz"))
    );
    // One command can install both, in any order.
    let ran = scene.does(&["install", "reed@3.1", "marram@8.3.1"]);
    assert!(
        ran.stdout.contains("Reed 3.1.0 runs on Marram 8.3.1.\n"),
        "{ran}"
    );
    assert!(ran.stdout.contains("verified by sha512"), "{ran}");
    let ran = scene.does(&["run", "reed@3", "--", "reed", "--version"]);
    assert_eq!(ran.stdout, "reed 3.1.0\non marram 8.3.1\n", "{ran}");
    // A release that needs a newer one says so.
    let ran = scene.vshelf(&["install", "reed@4"]);
    assert!(
        ran.stderr
            .contains("Reed 4.0.0 runs on marram >=9, and there is none here."),
        "{ran}"
    );
    scene.does(&["install", "marram@9", "reed@4"]);
    let ran = scene.does(&["run", "reed@4", "--", "reed", "--version"]);
    assert!(ran.stdout.starts_with("reed 4.0.0\non marram 9."), "{ran}");
    let ran = scene.bash("vshelf switch reed@3 && vshelf status reed && vshelf checkup reed@3.1.0");
    for told in ["It runs on Marram 8.3.1.\n", "  runs on    Marram 8.3.1\n"] {
        assert!(
            format!("{}{}", ran.stderr, ran.stdout).contains(told),
            "{told}: {ran}"
        );
    }
    // Without it, everything says so and nothing is guessed.
    scene.does(&["remove", "8.3.1", "9", "--even-if-used", "--yes"]);
    let none = "runs on marram >=7, and there is none here";
    let ran =
        scene.bash("vshelf switch reed@3; vshelf status reed; vshelf checkup reed@3.1.0 || true");
    assert_eq!(
        format!("{}{}", ran.stderr, ran.stdout)
            .matches(none)
            .count(),
        3,
        "{ran}"
    );
}

#[rstest]
#[case("3.0.0", "verified by sha256")]
#[case("3.1.0", "verified by sha512")]
fn the_digest_is_in_a_file_beside_the_archive(#[case] version: &str, #[case] told: &str) {
    let (server, _) = repository(false);
    let scene = scene(&server, "");
    scene.does(&["install", "marram@8.3.1"]);
    let ran = scene.does(&["install", &format!("reed@{version}")]);
    assert!(ran.stdout.contains(told), "{ran}");
}

#[test]
fn an_archive_without_a_digest_is_never_installed() {
    let (server, _) = repository(false);
    let scene = scene(&server, "");
    scene.does(&["install", "marram@8.3.1"]);
    let ran = scene.vshelf(&["install", "reed@2.0.0"]);
    assert_eq!(ran.code, 4, "{ran}");
    assert!(
        ran.stderr
            .contains("reed-tools-2.0.0-bin.tar.gz has no sha512 or sha256 digest beside it"),
        "{ran}"
    );
    assert!(names_in(&scene.data("shelf/reed")).is_empty());
}

#[test]
fn a_repository_gets_the_login_of_the_client_s_settings() {
    let (server, was_told) = repository(true);
    let scene = scene(&server, "${env.TIDE_PASSWORD}");
    scene.does(&["install", "marram@8.3.1"]);
    let with_password = |password: &str| {
        let mut command = scene.command(PROGRAM);
        command
            .env("TIDE_PASSWORD", password)
            .args(["install", "reed@3.1.0"]);
        scene.run(&mut command)
    };
    let ran = with_password("silt");
    assert_eq!(ran.code, 4, "{ran}");
    assert!(
        ran.stderr
            .contains("It does not accept the credentials in ~/.m2/settings.xml."),
        "{ran}"
    );
    let ran = with_password("sand");
    assert_eq!(ran.code, 0, "{ran}");
    assert!(was_told.load(Ordering::Relaxed));
}

#[test]
fn an_encrypted_password_is_a_clear_error() {
    let (server, _) = repository(true);
    let scene = scene(&server, "{COQLCE6DU6GtcS5P=}");
    let ran = scene.vshelf(&["catalog", "reed"]);
    assert_eq!(ran.code, 4, "{ran}");
    let told = "the password of the server board in [HOME]/.m2/settings.xml is encrypted, and only Maven can read it";
    assert!(ran.stderr.contains(told), "{ran}");
    assert!(
        ran.stderr
            .contains("Write ${env.NAME} there instead, and set that variable."),
        "{ran}"
    );
}

#[test]
fn a_projects_wrapper_says_which_version_and_not_where_it_is_from() {
    let (server, _) = repository(false);
    let scene = scene(&server, "");
    scene.does(&["install", "marram@8.3.1"]);
    scene.write(
        "tide-board/.reed/wrapper/reed-wrapper.properties",
        "# of the wrapper\ndistributionUrl=https\\://elsewhere.invalid/tools/reed-tools-3.1.0-bin.zip\n",
    );
    scene.write("tide-board/chart/notes", "");
    let here = |arguments: &[&str]| {
        let mut command = scene.command(PROGRAM);
        command
            .args(arguments)
            .current_dir(scene.path("tide-board/chart"));
        scene.run(&mut command)
    };
    let ran = here(&["install", "--yes"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(
        ran.stdout
            .contains("Reed 3.1.0 is on the shelf, published by dunefield."),
        "{ran}"
    );
    let ran = here(&["status", "reed"]);
    assert!(ran.stdout.contains("tide-board requires 3.1.0"), "{ran}");
    // The lock is beside the project's folders, not among those of the wrapper.
    let ran = here(&["lock"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(scene.path("tide-board/vivid-shelf.lock").exists(), "{ran}");
    let ran = here(&["require", "reed@3.0"]);
    assert_eq!(ran.code, 7, "{ran}");
    let ran = {
        let mut command = scene.command(PROGRAM);
        command
            .args(["require", "reed@3.0"])
            .current_dir(scene.path("tide-board"));
        scene.run(&mut command)
    };
    assert!(ran.stderr.contains("To edit it: "), "{ran}");
}
