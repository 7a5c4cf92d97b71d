//! `vshelf mirror`: what one machine wrote, another installs from.

use std::fs;

use vshelf_demo::server::Fault;

use crate::nginx::Nginx;
use crate::scene::{Ran, Scene, names_in};
use crate::shows;

/// Another machine, which knows Marram from the mirror in `place` alone.
fn other_machine(place: &str) -> Scene {
    let mut scene = Scene::new();
    // Nothing else than the mirror can serve it.
    scene.stop_server();
    scene.does(&["runtimes", "--add", place]);
    scene.does(&["connect", "bash"]);
    scene.does(&["runtimes", "--main", "marram"]);
    scene
}

fn mirrored(scene: &Scene) -> String {
    scene.path("site/marram/marram.toml").display().to_string()
}

#[test]
fn what_is_mirrored_installs_elsewhere_and_is_verified_again() {
    let scene = Scene::new();
    let ran = scene.does(&["mirror", "lts", "dunefield/8", "6.2", "--to", "site"]);
    shows!(
        ran,
        r#"version                 platform     size  result
Marram 8.3.1            linux-x64  0.2 MB  fetched and verified
Marram dunefield/8.3.1  linux-x64  0.2 MB  fetched and verified
Marram 6.2.11           linux-x64  0.2 MB  fetched and verified
site/marram holds 3 releases in 3 archives, 0.6 MB.
--- stderr
Fetching Marram 8.3.1 for linux-x64-gnu (0.2 MB).
Fetching Marram dunefield/8.3.1 for linux-x64-gnu (0.2 MB).
Fetching Marram 6.2.11 for linux-x64-gnu (0.2 MB).
To install from it, from a USB drive or by its URL: vshelf runtimes --add site/marram/marram.toml
"#
    );
    let other = other_machine(&mirrored(&scene));
    let listed = other.does(&["catalog"]).stdout;
    assert!(
        listed.contains("8  Eelgrass   lts") && !listed.contains("   9 "),
        "{listed}"
    );
    other.does(&["install", "lts", "dunefield/8"]);
    assert_eq!(other.on_shelf(), ["8.3.1", "dunefield-8.3.1"]);
    assert_eq!(
        other
            .does(&["run", "8", "--", "marram", "--version"])
            .stdout,
        "marram 8.3.1\n"
    );
    // What was changed on the way is not installed.
    let archive = scene.path("site/marram/files/saltmarsh/marram-6.2.11-linux-x64.tar.gz");
    let mut bytes = fs::read(&archive).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&archive, bytes).unwrap();
    let ran = other.vshelf(&["install", "6"]);
    assert_eq!(ran.code, 5, "{ran}");
    assert!(
        ran.stderr.contains("is not what its catalog promises"),
        "{ran}"
    );
    assert_eq!(other.on_shelf(), ["8.3.1", "dunefield-8.3.1"]);
    // The next run mends it.
    let ran = scene.does(&["mirror", "6.2", "8.3.1", "--to", "site"]);
    assert!(
        ran.stdout
            .contains("Marram 6.2.11  linux-x64  0.2 MB  fetched and verified"),
        "{ran}"
    );
    assert!(
        ran.stdout
            .contains("Marram 8.3.1   linux-x64  0.2 MB  already mirrored"),
        "{ran}"
    );
    assert!(
        ran.stdout.contains("holds 3 releases in 3 archives"),
        "{ran}"
    );
    other.does(&["install", "6"]);
}

#[test]
fn several_platforms_and_every_release_that_is_covered() {
    let scene = Scene::new();
    let platforms = ["--platform", "darwin-arm64", "--platform", "linux-x64-gnu"];
    let arguments = [
        &["mirror", "8.2", ">=8.2 <8.3", "--all", "--to", "site"],
        &platforms[..],
    ];
    let ran = scene.does(&arguments.concat());
    // 8.2.1 was withdrawn, and two selectors that cover the same are one wish.
    assert!(
        ran.stdout
            .ends_with("site/marram holds 3 releases in 6 archives, 1.1 MB.\n"),
        "{ran}"
    );
    assert_eq!(
        names_in(&scene.path("site/marram/files/saltmarsh")),
        [
            "marram-8.2.0-darwin-arm64.tar.xz",
            "marram-8.2.0-linux-x64.tar.xz",
            "marram-8.2.2-darwin-arm64.tar.xz",
            "marram-8.2.2-linux-x64.tar.xz",
        ]
    );
    let card = other_machine(&mirrored(&scene))
        .does(&["catalog", "8.2.2"])
        .stdout;
    for fact in [
        "build          darwin-arm64",
        "build          linux-x64",
        "fixes a security problem",
    ] {
        assert!(card.contains(fact), "{card}");
    }
}

#[test]
fn what_does_not_come_stops_nothing_else() {
    let scene = Scene::with_faults(&[]);
    scene.does(&["mirror", "8.3.1", "--to", "site"]);
    let before = fs::read_to_string(scene.path("site/marram/catalog.json")).unwrap();
    scene.server().misbehave(&[Fault::WrongBytes]);
    let ran = scene.vshelf(&["mirror", "8.3.1", "6.2.11", "--to", "site"]);
    assert_eq!(ran.code, 5, "{ran}");
    assert!(
        ran.stdout
            .contains("Marram 8.3.1  linux-x64  0.2 MB  already mirrored"),
        "{ran}"
    );
    let after = fs::read_to_string(scene.path("site/marram/catalog.json")).unwrap();
    let releases = |text: &str| text.split("\"releases\"").nth(1).map(str::to_owned);
    assert_eq!(releases(&before), releases(&after));
    let files = names_in(&scene.path("site/marram/files/saltmarsh"));
    assert_eq!(files, ["marram-8.3.1-linux-x64.tar.xz"]);
    // A line that breaks is gone on with.
    scene.server().misbehave(&[Fault::Cut(100_000)]);
    scene.does(&["mirror", "6.2.11", "--to", "site"]);
}

fn fails(ran: Ran, code: i32, words: &[&str]) {
    assert_eq!(ran.code, code, "{ran}");
    for words in words {
        assert!(ran.stderr.contains(words), "{words}\n{ran}");
    }
}

#[test]
fn bad_input_names_the_value_and_the_way_out() {
    let scene = Scene::new();
    let mirror = |arguments: &[&str]| scene.vshelf(&[&["mirror"], arguments].concat());
    fails(mirror(&["lts"]), 2, &["--to"]);
    fails(mirror(&["--to", "site"]), 2, &["<SELECTOR>..."]);
    let unknown = mirror(&["lts", "--to", "site", "--platform", "sun sparc"]);
    fails(
        unknown,
        2,
        &["\"sun sparc\" is not a platform", "linux-x64-gnu"],
    );
    let unbuilt = mirror(&["lts", "--to", "site", "--platform", "plan9-x64"]);
    fails(
        unbuilt,
        3,
        &[
            "8.3.1 is not built for plan9-x64",
            "It was asked for plan9-x64.",
        ],
    );
    fails(
        mirror(&["8.99", "--to", "site"]),
        3,
        &["8.99 is not published", "Did you mean"],
    );
    fails(
        mirror(&["system", "--to", "site"]),
        7,
        &["system is the copy on this machine"],
    );
    assert!(!scene.path("site/marram/catalog.json").exists());
    scene.write("site/marram/catalog.json", "{}");
    let other = mirror(&["lts", "--to", "site"]);
    fails(
        other,
        7,
        &[
            "is not a catalog that can be extended",
            "Choose another place",
        ],
    );
    assert_eq!(
        fs::read_to_string(scene.path("site/marram/catalog.json")).unwrap(),
        "{}"
    );
}

#[test]
fn any_web_server_can_serve_it() {
    let scene = Scene::new();
    scene.does(&["mirror", "lts", "--to", "site"]);
    let Some(nginx) = Nginx::start(&scene, "") else {
        return;
    };
    let place = format!("{}/marram/marram.toml", nginx.address());
    let other = other_machine(&place);
    let ran = other.does(&["install", "lts"]);
    assert!(
        ran.stdout.contains("from mirror, verified by sha256"),
        "{ran}"
    );
    assert_eq!(other.on_shelf(), ["8.3.1"]);
}

#[test]
fn a_folder_shows_people_what_it_has() {
    let scene = Scene::new();
    scene.does(&["mirror", "8.3.1", "dunefield/8", "--to", "site"]);
    let page = scene.path("site/marram/index.html");
    let text = fs::read_to_string(&page).unwrap();
    for expected in [
        "<h1>Marram</h1>",
        "vshelf install marram@8.3.1</pre>",
        "vshelf install marram@dunefield/8.3.1</pre>",
        "security release",
        "href=\"files/saltmarsh/marram-8.3.1-",
    ] {
        assert!(text.contains(expected), "{expected}\n{text}");
    }
    // Every archive that it links to is there.
    let links = text.split("href=\"files/").skip(1);
    let files: Vec<&str> = links.filter_map(|link| link.split('"').next()).collect();
    assert_eq!(files.len(), 2, "{files:?}");
    for file in files {
        assert!(
            scene.path("site/marram/files").join(file).exists(),
            "{file}"
        );
    }
    scene.does(&["mirror", "6.2.11", "--to", "site"]);
    let text = fs::read_to_string(&page).unwrap();
    assert!(text.contains("marram@6.2.11") && text.contains("3 releases in 3 archives"));
    // A page of somebody's own is nobody else's to write.
    fs::write(&page, "<h1>The tide desk</h1>\n").unwrap();
    scene.does(&["mirror", "6.2.0", "--to", "site"]);
    assert_eq!(
        fs::read_to_string(&page).unwrap(),
        "<h1>The tide desk</h1>\n"
    );
}
