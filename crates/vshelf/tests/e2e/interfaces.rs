//! Publishers that answer over a JSON interface: in pages, with faults, and with limits. With Sedge, a made-up runtime
//! of twenty lines.

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};

use rstest::rstest;
use serde_json::{Value, json};

use crate::scene::{Scene, names_in};
use crate::web_server::{Asked, Reply, WebServer, archive, digest};

/// How the interface behaves.
#[derive(Clone, Copy, PartialEq)]
enum Behaviour {
    Well,
    /// It knows one release more.
    Newer,
    /// It answers nothing for an hour.
    Limited,
    /// Its newest release has no checksum.
    WithoutChecksum,
    /// Its releases are in another place.
    Reshaped,
    /// Each page is the first one.
    Endless,
    /// Its archives come from a server in the clear, elsewhere.
    Elsewhere,
}

const BEHAVIOURS: [Behaviour; 7] = [
    Behaviour::Well,
    Behaviour::Newer,
    Behaviour::Limited,
    Behaviour::WithoutChecksum,
    Behaviour::Reshaped,
    Behaviour::Endless,
    Behaviour::Elsewhere,
];

/// The lines, and the releases of each: 2,000 builds on 60 pages.
const LINES: std::ops::RangeInclusive<usize> = 8..=27;
const RELEASES: usize = 50;
const PAGE: usize = 20;

struct Harbour {
    server: WebServer,
    behaviour: Arc<AtomicU8>,
}

impl Harbour {
    fn start() -> Harbour {
        let behaviour = Arc::new(AtomicU8::new(0));
        let now = Arc::clone(&behaviour);
        let server = WebServer::start(move |asked| {
            answer(asked, BEHAVIOURS[usize::from(now.load(Ordering::Relaxed))])
        });
        Harbour { server, behaviour }
    }

    fn behave(&self, behaviour: Behaviour) {
        let at = BEHAVIOURS.iter().position(|one| *one == behaviour).unwrap();
        self.behaviour.store(at as u8, Ordering::Relaxed);
    }

    /// A home that knows Sedge from here, and from another publisher that only has line 8.
    fn scene(&self) -> Scene {
        let scene = Scene::new();
        let definition = DEFINITION.replace("@ADDRESS@", &self.server.address());
        scene.write(".config/vivid-shelf/runtimes/sedge.toml", &definition);
        let main = "main-runtime = \"sedge\"\n";
        scene.write(".config/vivid-shelf/shelf.toml", main);
        scene
    }
}

const DEFINITION: &str = r#"
    name = "sedge"
    title = "Sedge"
    program = "sedge"
    probe = { arguments = ["-version"], answer = ['sedge version "{version}"', "long sedge {version}"] }
    spellings = [
      { spelled = "1.{line}.0_{update}", means = "{line}.0.{update}" },
      { spelled = "1.{line}", means = "{line}" },
    ]
    requirement-files = [{ file = ".sedge-version" }]
    publishers = [
      { id = "harbour", name = "Harbour Board" },
      { id = "gull", name = "Gull Repacks", remark = "a trimmed runtime" },
    ]

    [[sources]]
    name = "harbour"
    kind = "json"
    publisher = "harbour"
    address = "@ADDRESS@/lines/{line}?os={os}&arch={arch}&page={page}"
    lines-from = { address = "@ADDRESS@/lines", path = "known", lts = "long" }
    pages = { size = 20 }
    releases = "[]"
    builds = "files[]"
    version = "version.full"
    versions = [{ spelled = "1.{line}.0_{update}-b{build}", means = "{line}.0.{update}+{build}" }, "{version}-LTS", "{version}"]
    date = "published"
    url = "file.link"
    size = "file.size"
    digest = { path = "file.checksum", algorithm = "sha256" }
    where = { kind = ["archive"] }
    root-with = "bin/sedge"
    platforms.linux-x64-gnu = { os = "linux", arch = "x64" }
    platforms.linux-arm64-gnu = { os = "linux", arch = "arm64" }
    platforms.linux-x64-musl = { os = "marsh", arch = "x64" }
    platforms.darwin-arm64 = { os = "mac", arch = "arm64" }

    [[sources]]
    name = "repacks"
    kind = "json"
    publisher = "gull"
    address = "@ADDRESS@/repacks"
    version = "v"
    releases = "[]"
    url = "@ADDRESS@/files/{file}"
    digest = { file = "{url}.sha256" }
    root-with = "bin/sedge"
    platforms.any = {}
"#;

fn spelling(line: usize, number: usize) -> String {
    match line {
        8 => format!("1.8.0_{}-b0{}", 300 + number, number % 9 + 1),
        21 => format!("21.0.{number}+7-LTS"),
        _ => format!("{line}.0.{number}+7"),
    }
}

fn build(version: &str) -> Vec<u8> {
    let said = match version.strip_prefix("1.8.0_") {
        Some(rest) => format!("1.8.0_{}", rest.split('-').next().unwrap()),
        None => version.split('+').next().unwrap().to_owned(),
    };
    let program = format!("#!/bin/sh\necho 'sedge version \"{said}\"' >&2\n");
    let root = format!("sedge-{version}/Contents/Home/bin/sedge");
    archive(&[("NOTICE", "notes"), (&root, &program)])
}

fn answer(asked: &Asked, behaviour: Behaviour) -> Reply {
    let host = format!("http://{}", asked.header("host").unwrap());
    let path = asked.path.split('?').next().unwrap();
    if behaviour == Behaviour::Limited {
        return Reply(429, vec!["retry-after: 3600".to_owned()], Vec::new());
    }
    if let Some(file) = path.strip_prefix("/files/") {
        return match (file.strip_suffix(".sha256"), behaviour) {
            (_, Behaviour::Elsewhere) => Reply::sends_on("http://gull.invalid/sedge.tar.gz"),
            (Some(file), _) => Reply::body(digest(&build(file)) + "\n"),
            // Most publishers keep their archives elsewhere.
            (None, _) => Reply::sends_on(&format!("{host}/kept/{file}")),
        };
    }
    if let Some(file) = path.strip_prefix("/kept/") {
        return Reply::body(build(&file.replace("%2B", "+")));
    }
    match path {
        "/repacks" => Reply::body(json!([{ "v": "8.0.999", "file": "8.0.999" }]).to_string()),
        "/lines" => {
            let known: Vec<usize> = LINES.collect();
            Reply::body(json!({ "known": known, "long": [8, 21] }).to_string())
        }
        _ => page(asked, &host, behaviour),
    }
}

fn page(asked: &Asked, host: &str, behaviour: Behaviour) -> Reply {
    let path = asked.path.split('?').next().unwrap();
    let line: usize = path.strip_prefix("/lines/").unwrap().parse().unwrap();
    let page: usize = match behaviour {
        Behaviour::Endless => 0,
        _ => asked.value("page").unwrap().parse().unwrap(),
    };
    let most = RELEASES + usize::from(behaviour == Behaviour::Newer && line == 27);
    // Newest first, as most publishers have it.
    let numbers: Vec<usize> = (0..most).rev().skip(page * PAGE).take(PAGE).collect();
    if numbers.is_empty() {
        return Reply::status(404);
    }
    let release = |number: usize| {
        let version = spelling(line, number);
        let bytes = match (line, number) {
            (27 | 21 | 8, 49..) => build(&version),
            _ => Vec::new(),
        };
        let file = |kind: &str| {
            let is_bare = behaviour == Behaviour::WithoutChecksum && number == 49 && line == 27;
            let checksum = if is_bare {
                String::new()
            } else {
                digest(&bytes)
            };
            json!({ "os": "linux", "kind": kind, "file": {
                "link": format!("{host}/files/{}", version.replace('+', "%2B")),
                "size": bytes.len(), "checksum": checksum,
            }})
        };
        let files = [file("archive"), file("installer")];
        json!({ "version": { "full": version }, "published": "2026-10-14T09:00:00Z", "files": files })
    };
    let releases: Vec<Value> = numbers.into_iter().map(release).collect();
    Reply::body(match behaviour {
        Behaviour::Reshaped => json!({ "releases": releases }).to_string(),
        _ => Value::from(releases).to_string(),
    })
}

fn is_page(request: &&String) -> bool {
    request.contains("/lines")
}

#[test]
fn each_page_is_asked_for_once_and_later_only_what_changed() {
    let harbour = Harbour::start();
    let scene = harbour.scene();
    let ran = scene.does(&["catalog"]);
    assert!(ran.stdout.contains("27.0.49+7"), "{ran}");
    let requests = harbour.server.requests();
    // One list of lines, and three pages of each: the last is short, so that none is asked for behind it.
    assert_eq!(requests.iter().filter(is_page).count(), 61, "{requests:?}");
    scene.does(&["catalog"]);
    assert_eq!(harbour.server.requests(), [""; 0]);
    harbour.behave(Behaviour::Newer);
    let ran = scene.does(&["catalog", "--refresh"]);
    assert!(ran.stdout.contains("27.0.50+7"), "{ran}");
    let requests = harbour.server.requests();
    assert_eq!(requests.iter().filter(is_page).count(), 61, "{requests:?}");
    let mut fetched = requests.iter().filter(|request| request.starts_with("200"));
    assert!(
        fetched.all(|request| request.contains("/lines/27?")),
        "{requests:?}"
    );
    harbour.behave(Behaviour::Limited);
    let ran = scene.does(&["--offline", "catalog"]);
    assert!(ran.stdout.contains("27.0.50+7"), "{ran}");
    assert_eq!(harbour.server.requests(), [""; 0]);
}

#[rstest]
#[case("27", "harbour-27.0.49+7")]
#[case("1.8", "harbour-8.0.349+5")]
#[case("1.8.0_349", "harbour-8.0.349+5")]
#[case("21.0.49+7", "harbour-21.0.49+7")]
#[case("lts", "harbour-21.0.49+7")]
#[case("gull/8", "gull-8.0.999")]
fn a_build_is_found_by_every_spelling_and_taken_from_its_folder(
    #[case] typed: &str,
    #[case] key: &str,
) {
    let harbour = Harbour::start();
    let scene = harbour.scene();
    scene.does(&["install", typed]);
    assert_eq!(names_in(&scene.data("shelf/sedge")), [key]);
    let tree = scene.data(&format!("shelf/sedge/{key}/build"));
    assert_eq!(names_in(&tree), ["bin"], "{}", tree.display());
}

#[test]
fn a_limit_is_reported_with_its_end_while_the_kept_catalog_serves() {
    let harbour = Harbour::start();
    let scene = harbour.scene();
    harbour.behave(Behaviour::Limited);
    let ran = scene.vshelf(&["catalog"]);
    assert_eq!(ran.code, 4, "{ran}");
    assert!(
        ran.stderr.contains(" answers no more requests until 20"),
        "{ran}"
    );
    // Nothing is tried again while the limit lasts.
    let requests = harbour.server.requests();
    assert!(requests.len() <= 3, "{requests:?}");
    harbour.behave(Behaviour::Well);
    scene.does(&["catalog"]);
    harbour.behave(Behaviour::Limited);
    let ran = scene.does(&["catalog", "--refresh"]);
    assert!(ran.stdout.contains("27.0.49+7"), "{ran}");
    assert!(
        ran.stderr.contains(" answers no more requests until 20"),
        "{ran}"
    );
}

#[test]
fn a_release_that_cannot_be_verified_is_listed_and_never_installed() {
    let harbour = Harbour::start();
    harbour.behave(Behaviour::WithoutChecksum);
    let scene = harbour.scene();
    let ran = scene.does(&["catalog", "27"]);
    assert!(ran.stdout.contains("not installable"), "{ran}");
    let ran = scene.does(&["catalog", "27.0.49+7"]);
    assert!(
        ran.stdout
            .contains("linux-x64-gnu: its file.checksum is empty"),
        "{ran}"
    );
    let ran = scene.vshelf(&["install", "27.0.49"]);
    assert_eq!(ran.code, 3, "{ran}");
    let told = "27.0.49+7 of harbour has nothing that can be installed";
    assert!(ran.stderr.contains(told), "{ran}");
    assert!(
        ran.stderr
            .contains("To see why: vshelf catalog 27.0.49+7\n"),
        "{ran}"
    );
    let ran = scene.does(&["install", "--dry-run", "27"]);
    assert!(ran.stdout.contains("27.0.48+7"), "{ran}");
}

#[rstest]
#[case(Behaviour::Reshaped, "invalid type: map, expected a list")]
#[case(Behaviour::Endless, "page 1 is the same as the one before it")]
fn an_interface_that_changes_its_shape_is_refused_and_the_others_offered(
    #[case] behaviour: Behaviour,
    #[case] problem: &str,
) {
    let harbour = Harbour::start();
    harbour.behave(behaviour);
    let scene = harbour.scene();
    let ran = scene.does(&["catalog", "8"]);
    assert!(ran.stderr.contains(problem), "{ran}");
    assert!(ran.stdout.contains("8.0.999"), "{ran}");
    scene.does(&["install", "gull/8"]);
}

#[test]
fn an_archive_is_not_fetched_in_the_clear() {
    let harbour = Harbour::start();
    let scene = harbour.scene();
    scene.does(&["catalog"]);
    harbour.behave(Behaviour::Elsewhere);
    let ran = scene.vshelf(&["install", "27"]);
    assert_eq!(ran.code, 4, "{ran}");
    assert!(names_in(&scene.data("shelf/sedge")).is_empty());
}

#[test]
fn a_check_says_of_each_row_why_it_is_skipped() {
    let harbour = Harbour::start();
    harbour.behave(Behaviour::WithoutChecksum);
    let scene = harbour.scene();
    let definition = scene.path(".config/vivid-shelf/runtimes/sedge.toml");
    let definition = definition.to_str().unwrap();
    let ran = scene.does(&["runtimes", "--check", definition]);
    for told in ["kind is \"installer\"", "27.0.49+7: digest is not known"] {
        assert!(ran.stdout.contains(told), "{told}: {ran}");
    }
    let ran = scene.does(&["runtimes", "--check", definition, "--json"]);
    let report: Value = serde_json::from_str(&ran.stdout).unwrap();
    assert_eq!(
        report["sources"][0]["skipped"].as_array().unwrap().len(),
        1_001
    );
}
