//! The definitions that are built in, against stand-ins of their publishers' interfaces: the hosts may not be reachable
//! where the tests run. The shapes are those that the publishers document; vendors, versions and builds are made up.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use rstest::rstest;
use serde_json::{Value, json};

use crate::scene::{Scene, names_in};
use crate::web_server::{Asked, Reply, WebServer, archive, digest};

/// A program that answers with this line, as a build.
fn program(line: &str) -> String {
    format!("#!/bin/sh\nprintf '%s\\n' '{line}'\n")
}

/// A home in which a source of a runtime is a server, whose other addresses have nothing, as package registries neither.
fn scene(source: &str, address: &str) -> Scene {
    let scene = Scene::new();
    let (scheme, rest) = address.split_once("://").unwrap();
    let server = format!("{scheme}://{}", rest.split('/').next().unwrap());
    let settings = format!("[addresses]\n\"{source}\" = \"{address}\"\n");
    scene.write(".config/vivid-shelf/shelf.toml", &settings);
    scene.write(".npmrc", &format!("registry={server}/nothing/\n"));
    let index = format!("[global]\nindex-url = {server}/nothing/\n");
    scene.write(".config/pip/pip.conf", &index);
    scene
}

fn host(asked: &Asked) -> String {
    format!("http://{}", asked.header("host").unwrap())
}

/// A JDK with a second runtime inside, as those of line 8 have.
fn jdk(said: &str) -> Vec<u8> {
    let java = program(&format!("openjdk version \"{said}\" 2026-10-20"));
    archive(&[
        ("jdk-top/bin/java", &java),
        ("jdk-top/bin/javac", "#!/bin/sh\n"),
        ("jdk-top/jre/bin/java", &java),
        ("jdk-top/release", "JAVA_VERSION=\"made up\"\n"),
    ])
}

/// Adoptium's interface, version 3.
fn adoptium(asked: &Asked) -> Reply {
    let path = asked.path.split('?').next().unwrap();
    if path.starts_with("/nothing/") {
        return Reply::status(404);
    }
    if let Some(said) = path.strip_prefix("/archives/") {
        return Reply::body(jdk(said));
    }
    if path == "/v3/info/available_releases" {
        let document = json!({
            "available_lts_releases": [8, 21], "available_releases": [7, 8, 20, 21],
            "most_recent_lts": 21, "tip_version": 22
        });
        return Reply::body(document.to_string());
    }
    let line = path.strip_prefix("/v3/assets/feature_releases/").unwrap();
    let (os, page) = (asked.value("os").unwrap(), asked.value("page").unwrap());
    let release = |version: &str, said: &str| {
        let link = format!("{}/archives/{said}", host(asked));
        let bytes = jdk(said);
        let binary = |image: &str| {
            json!({
                "architecture": asked.value("architecture").unwrap(), "heap_size": "normal",
                "image_type": image, "jvm_impl": "hotspot", "os": os, "project": "jdk",
                "package": { "checksum": digest(&bytes), "link": link, "name": "j.tar.gz", "size": bytes.len() },
            })
        };
        json!({ "release_name": "x", "release_type": "ga", "timestamp": "2026-10-21T02:29:39Z", "vendor": "eclipse",
            "binaries": [binary("jdk"), binary("jre")],
            "version_data": { "openjdk_version": version, "semver": "0.0.0" } })
    };
    match (line, page) {
        ("8/ga", "0") => Reply::body(json!([release("1.8.0_512-b08", "1.8.0_512")]).to_string()),
        ("21/ga", "0") => Reply::body(json!([release("21.0.9+10-LTS", "21.0.9")]).to_string()),
        // A line without releases for this platform.
        _ => Reply::status(404),
    }
}

const ADOPTIUM: &str = "/v3/assets/feature_releases/{line}/ga?os={os}&architecture={architecture}&page={page}&page_size=20";

#[rstest]
#[case("java@21", "temurin-21.0.9+10")]
#[case("java@8", "temurin-8.0.512+8")]
#[case("java@1.8", "temurin-8.0.512+8")]
#[case("java@8u512", "temurin-8.0.512+8")]
#[case("java@lts", "temurin-21.0.9+10")]
fn java_is_a_whole_jdk_by_every_spelling(#[case] typed: &str, #[case] key: &str) {
    let server = WebServer::start(adoptium);
    let scene = scene("java.adoptium", &format!("{}{ADOPTIUM}", server.address()));
    let ran = scene.does(&["install", typed]);
    assert!(ran.stdout.contains("published by temurin"), "{ran}");
    assert_eq!(names_in(&scene.data("shelf/java")), [key]);
    // One document for each line from 8 on, and that which lists them.
    let requests = server.requests();
    let documents = requests.iter().filter(|request| request.contains("/v3/"));
    assert_eq!(documents.count(), 4, "{requests:?}");
}

#[test]
fn the_publishers_of_java_stay_readable() {
    let server = WebServer::start(adoptium);
    let scene = scene("java.adoptium", &format!("{}{ADOPTIUM}", server.address()));
    let ran = scene.does(&["catalog", "java"]);
    let rows: Vec<&str> = ran.stdout.lines().skip(1).collect();
    assert_eq!(rows.len(), 2, "{ran}");
    assert!(
        rows[0].contains("21") && rows[0].contains("lts") && rows[0].ends_with("21.0.9+10"),
        "{ran}"
    );
    let ran = scene.does(&["status", "java"]);
    assert!(!ran.stdout.contains("trimmed"), "{ran}");
    // A release that is not published stays an error.
    let ran = scene.vshelf(&["install", "java@17"]);
    assert_eq!(ran.code, 3, "{ran}");
}

#[test]
fn go_is_the_projects_own_build() {
    let build = |version: &str| {
        archive(&[(
            "go/bin/go",
            &program(&format!("go version go{version} linux/amd64")),
        )])
    };
    let server = WebServer::start(move |asked| {
        let path = asked.path.split('?').next().unwrap();
        if path.starts_with("/nothing/") {
            return Reply::status(404);
        }
        if let Some(name) = path.strip_prefix("/dl/").filter(|name| !name.is_empty()) {
            let version = name
                .strip_prefix("go")
                .unwrap()
                .split(".linux")
                .next()
                .unwrap();
            return Reply::body(build(version));
        }
        let file = |version: &str, os: &str, kind: &str, sum: &str| {
            json!({
                "filename": format!("go{version}.{os}-amd64.tar.gz"), "os": os, "arch": "amd64",
                "version": format!("go{version}"), "sha256": sum, "size": build(version).len(), "kind": kind,
            })
        };
        let release = |version: &str, stable: bool| {
            let sum = if version == "1.20" {
                String::new()
            } else {
                digest(&build(version))
            };
            json!({ "version": format!("go{version}"), "stable": stable, "files": [
                file(version, "", "source", &sum), file(version, "linux", "archive", &sum),
                file(version, "windows", "installer", &sum) ]})
        };
        let releases = [
            release("1.31rc1", false),
            release("1.30.1", true),
            release("1.20", true),
        ];
        Reply::body(Value::from(releases.to_vec()).to_string())
    });
    let scene = scene(
        "go.go-dev",
        &format!("{}/dl/?mode=json&include=all", server.address()),
    );
    scene.does(&["install", "go@stable"]);
    assert_eq!(names_in(&scene.data("shelf/go")), ["golang-1.30.1"]);
    // Old files have no digest.
    let ran = scene.vshelf(&["install", "go@1.20"]);
    assert!(
        ran.stderr
            .contains("1.20 of golang has nothing that can be installed"),
        "{ran}"
    );
    let ran = scene.does(&["catalog", "go@1.20", "--json"]);
    assert!(ran.stdout.contains("its sha256 is empty"), "{ran}");
}

#[test]
fn zig_is_the_projects_own_archive_and_its_development_build_has_a_version() {
    let build = |version: &str| archive(&[("zig-top/zig", &program(version))]);
    let versions = ["0.20.0-dev.12+0a0b0c0d0", "0.19.1"];
    let server = WebServer::start(move |asked| {
        if asked.path.starts_with("/nothing/") {
            return Reply::status(404);
        }
        if let Some(version) = asked.path.strip_prefix("/builds/") {
            return Reply::body(build(version));
        }
        let entry = |version: &str| {
            json!({ "tarball": format!("{}/builds/{version}", host(asked)),
            "shasum": digest(&build(version)), "size": build(version).len().to_string() })
        };
        let [next, stable] = versions;
        let document = json!({
            "master": { "version": next, "date": "2026-11-20", "docs": "https://zig.invalid/", "src": entry(next), "x86_64-linux": entry(next) },
            stable: { "date": "2026-09-02", "src": entry(stable), "bootstrap": entry(stable), "x86_64-linux": entry(stable) },
        });
        Reply::body(document.to_string())
    });
    let scene = scene(
        "zig.index",
        &format!("{}/download/index.json", server.address()),
    );
    scene.does(&["install", "zig@latest", "zig@preview"]);
    let keys = ["zig-0.19.1", "zig-0.20.0-dev.12+0a0b0c0d0"];
    assert_eq!(names_in(&scene.data("shelf/zig")), keys);
    let ran = scene.does(&["catalog", "zig@0.19.1"]);
    assert!(ran.stdout.contains("2026-09-02"), "{ran}");
}

#[test]
fn gradle_runs_on_the_java_that_fits_it() {
    let build = |version: &str| {
        let text = format!("\n-----\nGradle {version}\n-----\n");
        let script = format!("#!/bin/sh\ntest -x \"$JAVA_HOME/bin/java\" && printf '{text}'\n");
        archive(&[("gradle-top/bin/gradle", &script)])
    };
    let server = WebServer::start(move |asked| {
        if let Some(name) = asked.path.strip_prefix("/distributions/") {
            let version = name.split('-').nth(1).unwrap();
            if name.ends_with(".sha256") {
                return Reply::body(digest(&build(version)));
            }
            return Reply::sends_on(&format!(
                "http://localhost:{}/elsewhere/{version}",
                asked.header("host").unwrap().split(':').nth(1).unwrap()
            ));
        }
        if let Some(version) = asked.path.strip_prefix("/elsewhere/") {
            return Reply::body(build(version));
        }
        let release = |version: &str, snapshot: bool, broken: bool| {
            let url = format!("{}/distributions/gradle-{version}-bin.zip", host(asked));
            json!({ "version": version, "buildTime": "20261010123311+0000", "snapshot": snapshot, "nightly": false,
                "broken": broken, "rcFor": "", "milestoneFor": "", "downloadUrl": url, "checksumUrl": format!("{url}.sha256") })
        };
        let all = [
            release("12.1-20261101-x", true, false),
            release("12.0", false, true),
            release("9.4", false, false),
            release("7.0", false, false),
        ];
        Reply::body(Value::from(all.to_vec()).to_string())
    });
    let scene = scene(
        "gradle.versions",
        &format!("{}/versions/all", server.address()),
    );
    for version in ["17.0.3", "11.0.7"] {
        adopt_java(&scene, version);
    }
    let ran = scene.does(&["install", "gradle@latest"]);
    assert!(
        ran.stdout.contains("It runs on Java adopted/17.0.3.\n"),
        "{ran}"
    );
    let ran = scene.does(&["install", "gradle@7"]);
    assert!(
        ran.stdout.contains("It runs on Java adopted/11.0.7.\n"),
        "{ran}"
    );
    assert_eq!(
        names_in(&scene.data("shelf/gradle")),
        ["gradle-7.0", "gradle-9.4"]
    );
}

/// A ready-made Python with its package tool.
fn ready_python(version: &str) -> Vec<u8> {
    let interpreter = program(&format!("Python {version}"));
    archive(&[
        ("python/bin/python3", &interpreter),
        ("python/bin/pip3", "#!/bin/sh\n"),
    ])
}

/// A page of releases of a software forge, of which the older one states no digests.
fn standalone(asked: &Asked) -> Reply {
    let path = asked.path.split('?').next().unwrap();
    if path.starts_with("/nothing/") {
        return Reply::status(404);
    }
    if path == "/python-org" {
        let url = format!("{}/source/Python-3.99.1.tar.xz", host(asked));
        return Reply::body(json!([{ "url": url, "sha256_sum": "0a".repeat(32) }]).to_string());
    }
    let name =
        |version: &str, date: &str, what: &str| format!("cpython-{version}+{date}-{what}.tar.gz");
    let linux = "x86_64-unknown-linux-gnu-install_only_stripped";
    if let Some(file) = path.strip_prefix("/download/") {
        let (date, file) = file.split_once('/').unwrap();
        let version = if date == "20250101" {
            "3.98.4"
        } else {
            "3.99.1"
        };
        return match file {
            "SHA256SUMS" => {
                let digest = digest(&ready_python(version));
                Reply::body(format!("{digest}  {}\n", name(version, date, linux)))
            }
            _ => Reply::body(ready_python(version)),
        };
    }
    let asset = |version: &str, date: &str, what: &str, has_digest: bool| {
        let bytes = ready_python(version);
        let name = name(version, date, what);
        let sum = has_digest.then(|| format!("sha256:{}", digest(&bytes)));
        json!({ "name": name, "size": bytes.len(), "digest": sum,
            "browser_download_url": format!("{}/download/{date}/{}", host(asked), name.replace('+', "%2B")) })
    };
    let release = |version: &str, date: &str, has_digest: bool| {
        let mut assets: Vec<Value> = (0..1_000)
            .map(|number| asset(version, date, &format!("other-{number}-debug-full"), false))
            .collect();
        let variants = [
            "x86_64_v3-unknown-linux-gnu-install_only_stripped",
            "x86_64-unknown-linux-gnu-freethreaded-install_only_stripped",
        ];
        assets.extend(variants.map(|what| asset(version, date, what, true)));
        assets.push(asset(version, date, linux, has_digest));
        json!({ "tag_name": date, "draft": false, "prerelease": false, "published_at": "2026-10-02T00:00:00Z", "assets": assets })
    };
    let releases = [
        release("3.99.1", "20261115", true),
        release("3.99.1", "20261001", true),
        release("3.98.4", "20250101", false),
    ];
    Reply::body(Value::from(releases.to_vec()).to_string())
}

#[test]
fn python_is_ready_made_and_its_last_packing_counts() {
    let server = WebServer::start(standalone);
    let address = format!("{}/releases?page={{page}}", server.address());
    let scene = scene("python.standalone", &address);
    let more = format!(
        "\"python.python-org\" = \"{}/python-org\"\n",
        server.address()
    );
    let settings = scene.path(".config/vivid-shelf/shelf.toml");
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(&settings, text + &more).unwrap();
    scene.does(&["install", "python@3.98", "python@latest"]);
    let keys = ["standalone-3.98.4", "standalone-3.99.1"];
    assert_eq!(names_in(&scene.data("shelf/python")), keys);
    let record = std::fs::read_to_string(scene.data("shelf/python/standalone-3.99.1/record.json"));
    assert!(record.unwrap().contains("3.99.1+20261115"));
    // Three thousand assets, of which three count, are one document.
    let pages = server.requests();
    let pages = pages
        .iter()
        .filter(|request| request.contains("/releases?"));
    assert_eq!(pages.count(), 1);
    // Builds from source come from another publisher, under its own key.
    let ran = scene.does(&["explain", "python@3.99"]);
    let way = "To build it here, from the source of psf: vshelf install --build 3.99.1\n";
    assert!(ran.stderr.contains(way), "{ran}");
    let ran = scene.does(&["install", "--build", "--dry-run", "python@3.99"]);
    assert!(
        ran.stdout.contains("Python psf/3.99.1 would be built"),
        "{ran}"
    );
}

/// Puts a JDK of this machine on the shelf.
fn adopt_java(scene: &Scene, version: &str) {
    let folder = scene.path(&format!("jdk-{version}/bin"));
    std::fs::create_dir_all(&folder).unwrap();
    write_program(
        &folder.join("java"),
        &program(&format!("openjdk version \"{version}\"")),
    );
    scene.does(&["adopt", folder.parent().unwrap().to_str().unwrap()]);
}

fn write_program(file: &Path, text: &str) {
    std::fs::write(file, text).unwrap();
    std::fs::set_permissions(file, PermissionsExt::from_mode(0o755)).unwrap();
}
