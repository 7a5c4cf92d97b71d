//! The page about a team: its commands are given one after another, each on the machine that it is about.

use std::fs;
use std::path::Path;

use crate::docs::{blocks, root};
use crate::registry_server::{Door, PASSWORD, Registry};
use crate::scene::{PROGRAM, Ran, Scene};

/// The commands below a heading, block by block.
fn commands(page: &str, heading: &str) -> Vec<Vec<String>> {
    let (_, section) = page.split_once(&format!("## {heading}\n")).unwrap();
    let section = section.split("\n## ").next().unwrap();
    let blocks = blocks(section, "sh").into_iter();
    blocks
        .map(|block| block.lines().map(str::to_owned).collect())
        .collect()
}

struct Machine<'r> {
    scene: Scene,
    registry: &'r Registry,
}

impl Machine<'_> {
    /// Gives a command as it is written, in a folder of the home.
    fn gives(&self, line: &str, folder: &Path) -> Ran {
        let line = line.split(" #").next().unwrap().trim();
        let line = line
            .strip_prefix("vshelf ")
            .unwrap()
            .replace("registry.gull.example", &self.registry.host());
        let script = format!("{PROGRAM} {line}");
        let mut shell = self.scene.command("/bin/sh");
        shell
            .env("SSL_CERT_FILE", self.registry.authority())
            .env("VSHELF_COMPANY", self.scene.path("company"))
            .args(["-c", &script])
            .current_dir(folder);
        self.scene.run(&mut shell)
    }

    fn does(&self, lines: &[String], folder: &Path) -> Vec<Ran> {
        let ran = lines.iter().map(|line| {
            let ran = self.gives(line, folder);
            assert_eq!(ran.code, 0, "{line}: {ran}");
            ran
        });
        ran.collect()
    }
}

/// A machine of somebody whom the registry knows, which cannot reach the publisher.
fn machine(registry: &Registry) -> Machine<'_> {
    let scene = Scene::new();
    fs::remove_dir_all(scene.path(".config")).unwrap();
    registry.known_to(&scene, PASSWORD);
    fs::create_dir(scene.path("project")).unwrap();
    Machine { scene, registry }
}

#[test]
fn the_page_about_a_team_is_true() {
    let Some(registry) = Registry::start(&Door::Password) else {
        return;
    };
    let page = fs::read_to_string(root().join("docs/team.md")).unwrap();
    let publisher = Machine {
        scene: Scene::new(),
        registry: &registry,
    };
    registry.known_to(&publisher.scene, PASSWORD);
    let (lead, other) = (machine(&registry), machine(&registry));
    let home = publisher.scene.home();
    let (project, copy) = (lead.scene.path("project"), other.scene.path("project"));

    let publishing = commands(&page, "On the machine that publishes");
    let ran = publisher.does(&publishing[0], home);
    assert!(
        ran[0].stdout.contains("holds 2 releases in 4 archives"),
        "{}",
        ran[0]
    );

    let in_project = commands(&page, "In the project");
    lead.does(&in_project[0], &project);
    let lock = fs::read_to_string(project.join("vivid-shelf.lock")).unwrap();
    assert!(
        lock.contains("6.2.10") && lock.contains("darwin-arm64"),
        "{lock}"
    );

    let take_over = || {
        for file in [".marram-version", "vivid-shelf.lock"] {
            fs::copy(project.join(file), copy.join(file)).unwrap();
        }
    };
    take_over();
    let elsewhere = commands(&page, "On everybody else's machine");
    let (known, installs) = elsewhere[0].split_at(2);
    other.does(known, &copy);
    registry.requests();
    let ran = other.does(installs, &copy);
    assert_eq!(ran[1].stdout, "marram 6.2.10\n");
    let requests = registry.requests();
    assert_eq!(requests.len(), 1, "{requests:#?}");
    assert!(requests[0].contains("/blobs/sha256:"), "{requests:#?}");
    registry.end();
    let ran = other.does(&elsewhere[1], &copy);
    assert_eq!(ran[1].stdout, "marram 6.2.10\n");
    registry.begin();

    let forbidden = page.split("## What the company forbids").nth(1).unwrap();
    let rule = forbidden
        .lines()
        .filter_map(|line| line.strip_prefix("    "));
    let rule: Vec<&str> = rule.take(4).collect();
    other.scene.write("company/shelf.toml", &rule.join("\n"));
    let refused = &commands(&page, "What the company forbids")[0];
    let ran = other.gives(&refused[0], &copy);
    assert_eq!(ran.code, 7, "{ran}");
    for text in [
        "it loses readings; ask the tide desk",
        "company/shelf.toml",
        "line 1",
    ] {
        assert!(ran.stderr.contains(text), "{text}: {ran}");
    }

    let renewing = commands(&page, "The lock is renewed");
    publisher.does(&renewing[0], home);
    lead.does(&renewing[1], &project);
    let before = lock;
    let lock = fs::read_to_string(project.join("vivid-shelf.lock")).unwrap();
    assert!(
        lock.contains("6.2.11") && !lock.contains("6.2.10"),
        "{lock}"
    );
    let changed = before.lines().filter(|line| !lock.contains(line));
    assert!(changed.count() <= 4, "{before}\n{lock}");
    take_over();
    let ran = other.does(&renewing[2], &copy);
    assert_eq!(ran[1].stdout, "marram 6.2.11\n");
}
