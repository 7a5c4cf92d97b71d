//! `vshelf lock`: one machine writes down what a requirement came to, and all others install just that.

use std::fs;

use crate::process;
use crate::scene::{PROGRAM, Ran, Scene};
use crate::shows;
use snapbox::str;

/// A home with a project that requires the newest long-term release, and what runs a command there.
struct Project {
    scene: Scene,
}

impl Project {
    fn new() -> Project {
        let project = Project {
            scene: Scene::new(),
        };
        project.scene.write("board/.marram-version", "lts\n");
        project
    }

    /// The same project on another machine, which has nothing on its shelf.
    fn elsewhere(&self) -> Project {
        let other = Project::new();
        other.scene.write("board/vivid-shelf.lock", &self.lock());
        other
    }

    fn vshelf(&self, arguments: &[&str]) -> Ran {
        let mut command = self.scene.command(PROGRAM);
        command
            .args(arguments)
            .current_dir(self.scene.path("board"));
        self.scene.run(&mut command)
    }

    fn does(&self, arguments: &[&str]) -> Ran {
        let ran = self.vshelf(arguments);
        assert_eq!(ran.code, 0, "{ran}");
        ran
    }

    fn lock(&self) -> String {
        fs::read_to_string(self.scene.path("board/vivid-shelf.lock")).unwrap()
    }

    /// Has the lock say something else.
    fn edit(&self, from: &str, to: &str) {
        let text = self.lock();
        assert!(text.contains(from), "{text}");
        self.scene
            .write("board/vivid-shelf.lock", &text.replace(from, to));
    }

    /// Fails unless a command fails so.
    fn told(&self, arguments: &[&str], code: i32, all: &[&str]) {
        let ran = self.vshelf(arguments);
        assert_eq!(ran.code, code, "{ran}");
        for text in all {
            assert!(ran.stderr.contains(text), "{text}: {ran}");
        }
    }
}

#[test]
fn what_is_locked_is_what_every_machine_installs() {
    let project = Project::new();
    project.told(
        &["lock", "--check"],
        7,
        &[
            "Marram is required, and not locked.",
            "To lock it: vshelf lock",
        ],
    );
    project.told(
        &["install", "--locked"],
        7,
        &["Marram is required, and not locked."],
    );
    shows!(
        project.does(&["lock"]),
        str![[r#"
version       required  platforms
Marram 8.3.1  lts       darwin-arm64, darwin-x64, linux-arm64, linux-x64
~/board/vivid-shelf.lock was written.
--- stderr
To install what is locked: vshelf install --locked

"#]]
    );
    // What is written is the same a second time, and has a line for each archive.
    let text = project.lock();
    assert!(project.does(&["lock"]).stdout.contains("is as it was."));
    assert_eq!(project.lock(), text);
    assert_eq!(text.matches("\n  { platform = ").count(), 4);

    assert!(
        !text.contains("address") && !text.contains("http"),
        "{text}"
    );

    // Elsewhere, its sources have to state a locked digest. If they do not answer, the ledger is their word, as long as
    // their definition is unchanged.
    let other = project.elsewhere();
    let ran = other.does(&["install", "--locked"]);
    assert!(
        ran.stderr
            .contains("~/board/vivid-shelf.lock requires Marram saltmarsh/8.3.1."),
        "{ran}"
    );
    assert_eq!(other.scene.on_shelf(), ["8.3.1"]);
    other.does(&["--offline", "install", "--locked"]);
    fs::remove_dir_all(other.scene.path(".cache/vivid-shelf")).unwrap();
    other.does(&["--offline", "install", "--locked"]);
    other.does(&["--offline", "lock", "--check"]);
    let definition = ".config/vivid-shelf/runtimes/marram.toml";
    let address = other.scene.server().address();
    let text = fs::read_to_string(other.scene.path(definition)).unwrap();
    let unreachable = text.replace(&address, "http://127.0.0.1:9");
    other.scene.write(definition, &unreachable);
    let ran = other.vshelf(&["install", "--locked"]);
    assert_eq!(ran.code, 4, "{ran}");
}

/// Marram from its publisher's catalog, and from a folder with a repack of one release.
fn two_forms(project: &Project, catalog: &str, folder: &str) {
    project.scene.sources(&format!(
        "[[sources]]\nname = \"stand-in\"\nkind = \"catalog\"\npublisher = \"saltmarsh\"\naddress = \"{catalog}\"\n\
         [[sources]]\nname = \"packed\"\nkind = \"folder\"\npublisher = \"saltmarsh\"\nrepack = true\nfallback = true\n\
         address = \"{folder}\"\nchecksums = \"SHA256SUMS\"\npattern = \"marram-{{version}}.tar.gz\"\nplatforms = {{ any = \"any\" }}\n"
    ));
    project.scene.write("board/.marram-version", "8.3.1\n");
    let own = "[requirement-files]\nmarram = [\".marram-version\"]\n";
    let settings = format!("main-runtime = \"marram\"\n{own}");
    project
        .scene
        .write(".config/vivid-shelf/shelf.toml", &settings);
}

/// A colleague behind a mirror of any of the sources installs what is locked.
#[test]
fn each_form_of_an_archive_is_locked_whose_source_answers() {
    let project = Project::new();
    let catalog = format!("{}/catalog.json", project.scene.server().address());
    let folder = project.scene.path("packed").display().to_string();
    two_forms(&project, &catalog, &folder);
    project.does(&["install", "8.3.1"]);
    let pack = "cd \"$1\" && mkdir packed && tar -czf packed/marram-8.3.1.tar.gz -C \"$2\" build \
        && cd packed && sha256sum *.gz >SHA256SUMS";
    let mut shell = project.scene.command("/bin/sh");
    shell
        .args(["-c", pack, "sh"])
        .arg(project.scene.home())
        .arg(project.scene.data("shelf/marram/saltmarsh-8.3.1"));
    let ran = project.scene.run(&mut shell);
    assert_eq!(ran.code, 0, "{ran}");
    project.does(&["lock"]);
    let lock = project.lock();
    assert!(lock.contains("platform = \"any\""), "{lock}");
    assert!(lock.contains("platform = \"linux-x64\""), "{lock}");
    for (catalog, folder, source) in [
        (catalog.as_str(), "/nowhere", "stand-in"),
        ("/nowhere/catalog.json", folder.as_str(), "packed"),
    ] {
        let other = project.elsewhere();
        two_forms(&other, catalog, folder);
        let ran = other.does(&["install", "--locked"]);
        let told = format!("from {source}, verified");
        assert!(ran.stdout.contains(&told), "{ran}");
    }
    // Without the repack in the lock, it is no substitute.
    let line = lock.lines().find(|line| line.contains("\"any\"")).unwrap();
    project.edit(line, "");
    let other = project.elsewhere();
    two_forms(&other, "/nowhere/catalog.json", &folder);
    other.told(
        &["install", "--locked"],
        5,
        &["with a digest that no source states"],
    );
}

/// Without a network, a mirror in a folder states the digest and has the bytes.
#[test]
fn a_mirror_in_a_folder_serves_what_is_locked_without_a_network() {
    let project = Project::new();
    project.does(&["lock"]);
    project.scene.does(&["mirror", "8.3.1", "--to", "site"]);
    let other = project.elsewhere();
    other.told(
        &["--offline", "install", "--locked"],
        4,
        &["--offline forbids asking for it"],
    );
    let site = project.scene.path("site/marram/catalog.json");
    let settings =
        format!("main-runtime = \"marram\"\n[addresses]\n\"marram.stand-in\" = {site:?}\n");
    other
        .scene
        .write(".config/vivid-shelf/shelf.toml", &settings);
    other.does(&["--offline", "install", "--locked"]);
    assert_eq!(other.scene.on_shelf(), ["8.3.1"]);
    other.does(&["--offline", "lock", "--check"]);
}

#[test]
fn a_lock_is_compared_with_what_sources_state() {
    let project = Project::new();
    project.does(&["lock"]);
    let text = project.lock();
    let good = &text[text.rfind("sha256:").unwrap()..][..71];
    project.edit(good, &format!("sha256:{}", "0a".repeat(32)));
    let told = [
        "is locked with a digest that no source states.",
        "Locked: sha256:[DIGEST]",
        "Stated by its sources: sha256:[DIGEST]",
        "To lock what the sources state now: vshelf lock --renew marram",
    ];
    project.told(&["lock", "--check"], 5, &told);
    project.told(&["--offline", "lock", "--check"], 5, &told);
    project.told(&["lock"], 5, &told);
    project.told(&["install", "--locked"], 5, &told);
    project.does(&["lock", "--renew"]);
    assert_eq!(project.lock(), text);
    // A machine that knows nothing asks; one that cannot says so.
    let other = project.elsewhere();
    other.told(
        &["--offline", "lock", "--check"],
        5,
        &[
            "is locked, and no source has it.",
            "Its sources are marram.stand-in.",
        ],
    );
    other.does(&["lock", "--check"]);
}

#[test]
fn two_sources_that_state_different_digests_for_one_file_are_an_error() {
    let project = Project::new();
    let definition = ".config/vivid-shelf/runtimes/marram.toml";
    let text = fs::read_to_string(project.scene.path(definition)).unwrap();
    let address = project.scene.server().address();
    let catalog = ureq::get(format!("{address}/catalog.json")).call().unwrap();
    let catalog = catalog.into_body().read_to_string().unwrap();
    let mut card = project.scene.command(PROGRAM);
    let card = process::output(card.args(["catalog", "8.3.1", "--json"]));
    let card = String::from_utf8(card.stdout).unwrap();
    let digest = &card[card.find("sha256:").unwrap() + 7..][..64];
    let other = catalog.replace(digest, &"0a".repeat(32));
    assert_ne!(other, catalog);
    project.scene.write(
        "mirror/catalog.json",
        &other.replace("\"/", &format!("\"{address}/")),
    );
    let mirror = project.scene.path("mirror/catalog.json");
    let second =
        format!("\n[[sources]]\nname = \"mirror\"\nkind = \"catalog\"\naddress = {mirror:?}\n");
    project.scene.write(definition, &format!("{text}{second}"));
    for arguments in [vec!["install", "8.3.1"], vec!["lock"]] {
        project.told(
            &arguments,
            5,
            &["two sources of Marram 8.3.1 state different digests for saltmarsh-marram-8.3.1-"],
        );
    }
    // Other releases are not concerned.
    project.does(&["install", "9"]);
}

#[test]
fn a_lock_that_does_not_meet_the_requirement_any_more_stops_until_it_does() {
    let project = Project::new();
    project.does(&["lock"]);
    project.scene.write("board/.marram-version", "9\n");
    let told = [
        "Marram 8.3.1 is locked, and is not what is required now.",
        "It is locked in ~/board/vivid-shelf.lock, and ~/board/.marram-version requires 9.",
        "To lock what is required now: vshelf lock",
    ];
    project.told(&["install"], 7, &told);
    project.told(&["install", "--locked"], 7, &told);
    project.told(&["lock", "--check"], 7, &told);
    assert!(project.scene.on_shelf().is_empty());
    project.scene.does(&["install", "6"]);
    let checkup = project.vshelf(&["checkup"]).stdout;
    let found = "the project here: Marram 8.3.1 is locked, and is not what is required now\n  To fix it: vshelf lock\n";
    assert!(checkup.contains(found), "{checkup}");
    let ran = project.does(&["lock"]);
    assert!(
        ran.stdout.contains("Marram 9.2.0  9         8.3.1"),
        "{ran}"
    );
    // A range that has what is locked is met by it.
    project.scene.write("board/.marram-version", ">=8 <10\n");
    project.does(&["lock", "--check"]);
    // What nothing requires any more says nothing.
    fs::remove_file(project.scene.path("board/.marram-version")).unwrap();
    project.told(&["lock"], 2, &["no project here requires a version"]);
}

#[test]
fn a_locked_project_can_require_something_else() {
    let project = Project::new();
    project.does(&["--quiet", "lock"]);
    let before = project.lock();
    shows!(
        project.does(&["require", "6"]),
        str![[r#"
~/board/.marram-version now requires 6.
--- stderr
Warning: ~/board/vivid-shelf.lock still has 8.3.1, which does not meet that.
To bring it up to date: vshelf lock

"#]]
    );
    assert_eq!(project.lock(), before);
    let status = project.vshelf(&["status"]);
    let step = "To lock what is required now: vshelf lock\n";
    assert!(status.stderr.contains(step), "{status}");
    project.does(&["--quiet", "lock"]);
    project.does(&["lock", "--check"]);
    // The lock meets it already.
    let met = project.does(&["require", "6.20"]);
    assert!(!met.stderr.contains("lock"), "{met}");
    project.told(
        &["require", "8", "--file", "vivid-shelf.lock"],
        2,
        &["is not a file in which to require a version of Marram"],
    );
    project.does(&["require", "--remove"]);
    assert!(!project.scene.path("board/.marram-version").exists());
}

#[test]
fn locked_releases_stay_until_they_are_renewed() {
    let project = Project::new();
    project.scene.write("board/.marram-version", "8.3.0\n");
    project.does(&["lock"]);
    project.scene.write("board/.marram-version", "8\n");
    let ran = project.does(&["lock"]);
    assert!(ran.stdout.contains("Marram 8.3.0  8 "), "{ran}");
    project.told(
        &["lock", "--renew", "sedge"],
        3,
        &["nothing here requires sedge", "vshelf require"],
    );
    let ran = project.does(&["lock", "--renew", "marram"]);
    assert!(
        ran.stdout.contains("Marram 8.3.1  8         8.3.0"),
        "{ran}"
    );
    let ran = project.does(&["explain", "8"]);
    let locked = "The project here requires it, and is locked to 8.3.1 (~/board/vivid-shelf.lock).";
    assert!(ran.stdout.contains(locked), "{ran}");
    // A lock that does not meet the requirement can be renewed.
    project.edit("8.3.1", "8.3.0");
    project.does(&["lock", "--renew"]);
    assert!(project.lock().contains("release = \"8.3.1\""));
}

#[test]
fn renewing_a_line_renews_the_locks_that_have_it() {
    let project = Project::new();
    project.scene.write("board/.marram-version", "8.3.0\n");
    project.does(&["lock"]);
    project.does(&["install"]);
    let ran = project.does(&["renew", "8", "--requirements", "--yes"]);
    assert!(
        ran.stdout
            .contains("~/board/.marram-version now requires 8.3.1.")
            && ran
                .stdout
                .contains("~/board/vivid-shelf.lock has 8.3.1 now."),
        "{ran}"
    );
    project.does(&["lock", "--check"]);
    project.does(&["--offline", "install", "--locked"]);
    assert_eq!(project.scene.on_shelf(), ["8.3.1"]);
    let status = project.does(&["status"]).stdout;
    let place = "required   ~/board/vivid-shelf.lock, line 5, as it is locked";
    assert!(status.contains(place), "{status}");
}

#[test]
fn a_missing_locked_release_is_announced_with_the_command_that_installs_it_as_locked() {
    let project = Project::new();
    let look = ["connect", "--look", "bash"];
    let said = project.does(&look).stdout;
    assert!(
        said.ends_with("; to get it: vshelf install lts\n"),
        "{said}"
    );
    project.does(&["lock"]);
    let said = project.does(&look).stdout;
    let missing = "requires Marram 8.3.1, which is not on the shelf; to get it: vshelf install\n";
    assert!(said.ends_with(missing), "{said}");
}

#[test]
fn a_stale_lock_has_one_answer() {
    let project = Project::new();
    project.scene.write("board/.marram-version", "8.3.0\n");
    project.does(&["lock"]);
    project.scene.write("board/.marram-version", "9\n");
    project.scene.does(&["install", "9"]);
    for command in ["status", "require"] {
        let json = project.does(&[command, "--json"]).stdout;
        let report: serde_json::Value = serde_json::from_str(&json).unwrap();
        let report = &report[if command == "status" {
            "runtimes"
        } else {
            "requirements"
        }][0];
        let report = if command == "status" {
            &report["required"]
        } else {
            report
        };
        let told =
            ["selector", "lock", "locked", "met_by", "missing", "next"].map(|key| &report[key]);
        let expected =
            serde_json::json!(["9", "stale", null, "saltmarsh/9.2.0", null, "vshelf lock"]);
        assert_eq!(serde_json::json!(told), expected, "{command}");
    }
    let status = project.does(&["status"]);
    assert!(status.stdout.contains("board requires 9)"), "{status}");
    let next = "To lock what is required now: vshelf lock\n";
    assert!(status.stderr.contains(next), "{status}");
    assert!(project.does(&["path", "marram"]).stdout.contains("9.2.0"));
    project.told(&["install"], 7, &["Marram 8.3.0 is locked"]);
}

#[test]
fn connected_shells_follow_the_locked_release() {
    let project = Project::new();
    project.scene.write("board/.marram-version", "8.3.0\n");
    project.does(&["lock"]);
    project.scene.write("board/.marram-version", "8\n");
    project.does(&["lock"]);
    project.scene.does(&["install", "8.3.0", "8.3.1", "9"]);
    project.scene.does(&["default", "9"]);
    project.scene.does(&["connect", "bash"]);
    let script = "set -e; source ~/.bashrc; cd ~/board; eval \"$PROMPT_COMMAND\"; marram --version
        sed -i 's/8.3.0/8.3.1/' vivid-shelf.lock; eval \"$PROMPT_COMMAND\"; marram --version
        echo 9 >.marram-version; eval \"$PROMPT_COMMAND\"; marram --version; cd ~; eval \"$PROMPT_COMMAND\"; marram --version";
    let mut bash = project.scene.command("/bin/bash");
    bash.args(["--norc", "-ic", script]);
    let ran = project.scene.run(&mut bash);
    let answers: Vec<&str> = ran
        .stdout
        .lines()
        .filter(|line| line.starts_with("marram "))
        .collect();
    assert_eq!(
        answers,
        [
            "marram 8.3.0",
            "marram 8.3.1",
            "marram 9.2.0",
            "marram 9.2.0"
        ],
        "{ran}"
    );
    // A lock that does not meet the requirement is reported with the command that helps.
    let notice =
        "is locked, and is not what is required now; to lock what is required now: vshelf lock\n";
    assert!(ran.stderr.contains(notice), "{ran}");
}

#[test]
fn other_platforms_are_locked_as_well() {
    let project = Project::new();
    let ran = project.does(&["lock", "--platform", "linux-arm64-gnu"]);
    assert!(
        ran.stdout.contains("Marram 8.3.1  lts       linux-arm64\n"),
        "{ran}"
    );
    if cfg!(all(target_os = "linux", target_arch = "x86_64")) {
        project.told(
            &["install", "--locked"],
            7,
            &[
                "Marram 8.3.1 is locked without an archive for linux-x64-",
                "vshelf lock --renew marram --platform linux-x64-",
            ],
        );
        project.told(
            &["lock", "--check"],
            7,
            &["without an archive for linux-x64-"],
        );
    }
    // A platform is added to what is locked, also when the release is renewed.
    let ran = project.does(&["lock", "--platform", "linux-x64-gnu"]);
    assert!(
        ran.stdout
            .contains("Marram 8.3.1  lts       linux-arm64, linux-x64\n"),
        "{ran}"
    );
    project.scene.write("board/.marram-version", "9\n");
    let ran = project.does(&["lock", "--renew", "--platform", "darwin-arm64"]);
    assert!(
        ran.stdout
            .contains("8.3.1   darwin-arm64, linux-arm64, linux-x64\n"),
        "{ran}"
    );
    project.told(
        &["lock", "--platform", "tides"],
        2,
        &["\"tides\" is not a platform"],
    );
}

#[test]
fn a_withdrawn_release_is_installed_with_a_notice() {
    let project = Project::new();
    project.does(&["lock"]);
    // As it is, and not as this suite shows it.
    let mut card = project.scene.command(PROGRAM);
    let card = process::output(card.args(["catalog", "8.2.1", "--json"]));
    let card = String::from_utf8(card.stdout).unwrap();
    let digest = |text: &str, at: usize| text[at..at + 71].to_owned();
    let old = digest(&project.lock(), project.lock().rfind("sha256:").unwrap());
    project.edit(&old, &digest(&card, card.find("sha256:").unwrap()));
    project.edit("8.3.1", "8.2.1");
    project.scene.write("board/.marram-version", "8\n");
    let ran = project.does(&["install", "--locked"]);
    let withdrawn = "Marram 8.2.1 is locked, and was withdrawn: loses readings at midnight.";
    assert!(ran.stderr.contains(withdrawn), "{ran}");
}

#[test]
fn a_lock_that_is_not_understood_is_an_error_and_can_be_written_again() {
    let project = Project::new();
    project.does(&["lock"]);
    for (from, to, told) in [
        (
            "lock/2",
            "lock/3",
            "its format is \"vivid-shelf-lock/3\", which is newer than this program",
        ),
        (
            "[[release]]",
            "<<<<<<< ours\n[[release]]",
            "line 4: a merge left both versions here",
        ),
        (
            "publisher =",
            "published-by =",
            "it is not understood: missing field `publisher`",
        ),
    ] {
        let other = project.elsewhere();
        other.edit(from, to);
        other.told(&["install", "--locked"], 3, &[told]);
        assert!(other.scene.on_shelf().is_empty());
        // A lock of a newer format is not overwritten.
        let renewed = other.vshelf(&["lock", "--renew"]);
        assert_eq!(renewed.code == 0, to != "lock/3", "{to}: {renewed}");
    }
}

#[test]
fn of_two_locks_that_of_the_nearest_requirement_counts() {
    let project = Project::new();
    project.does(&["lock"]);
    project.scene.write("board/deep/.marram-version", "6\n");
    let there = |arguments: &[&str]| {
        let mut command = project.scene.command(PROGRAM);
        command
            .args(arguments)
            .current_dir(project.scene.path("board/deep"));
        project.scene.run(&mut command)
    };
    // The inner requirement is not locked by the outer lock.
    let ran = there(&["lock", "--check"]);
    assert_eq!(ran.code, 7, "{ran}");
    let ran = there(&["lock"]);
    assert!(
        ran.stdout
            .contains("~/board/deep/vivid-shelf.lock was written."),
        "{ran}"
    );
    let ran = there(&["install", "--locked"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert_eq!(project.scene.on_shelf(), ["6.20.2"]);
    // The outer one is as it was.
    project.does(&["lock", "--check"]);
}

#[test]
fn the_company_decides_which_packages_are_locked() {
    let settings = "main-runtime = \"marram\"\n[packages.always]\nmarram = [\"kelp@1.4.2\"]\n";
    let at_company = |project: &Project, arguments: &[&str]| {
        let mut command = project.scene.command(PROGRAM);
        command
            .env("VSHELF_COMPANY", project.scene.path("company"))
            .args(arguments)
            .current_dir(project.scene.path("board"));
        project.scene.run(&mut command)
    };
    let project = Project::new();
    // A person's own packages are not the project's.
    project
        .scene
        .write(".config/vivid-shelf/shelf.toml", settings);
    project.does(&["lock"]);
    assert!(!project.lock().contains("kelp"), "{}", project.lock());
    project.scene.write("company/shelf.toml", settings);
    assert_eq!(at_company(&project, &["lock", "--renew"]).code, 0);
    let packages = "packages = [\n  \"kelp@1.4.2\",\n]\n";
    assert!(project.lock().contains(packages), "{}", project.lock());
    // The lock narrows the version of a package that settings name, and brings none.
    let other = project.elsewhere();
    other.told(
        &["install", "--locked"],
        5,
        &[
            "is locked with the package kelp, which no setting here has every install get.",
            "[packages.always] marram = [\"kelp\"]",
        ],
    );
    assert!(other.scene.on_shelf().is_empty());
    other
        .scene
        .write("company/shelf.toml", &settings.replace("@1.4.2", ""));
    let ran = at_company(&other, &["install", "--locked"]);
    assert!(ran.stdout.contains("kelp@1.4.2"), "{ran}");
    let tussock = other
        .scene
        .data("shelf/marram/saltmarsh-8.3.1/build/bin/tussock");
    let listed = process::output(process::command(tussock).arg("list"));
    assert!(String::from_utf8_lossy(&listed.stdout).contains("kelp 1.4.2"));
    // Under a rule about sources, the person's registry is one of them.
    let rules = format!("{settings}[rules]\nsources = [\"marram.stand-in\"]\n");
    other.scene.write("company/shelf.toml", &rules);
    let ran = at_company(&other, &["install", "9"]);
    let told =
        "packages of Marram may not be installed: the source marram.packages is not among those";
    assert!(ran.stderr.contains(told), "{ran}");
    assert!(!ran.stdout.contains("kelp"), "{ran}");
}

#[test]
fn what_is_installed_on_the_way_is_what_is_locked() {
    let project = Project::new();
    project.does(&["lock"]);
    let other = project.elsewhere();
    let run = ["run", "--here", "--yes", "--", "marram", "--version"];
    assert_eq!(other.does(&run).stdout, "marram 8.3.1\n");
    // Bytes whose digest is not locked are refused, whatever the catalog says.
    let third = project.elsewhere();
    let digest = third.lock();
    let (_, digest) = digest.rsplit_once("sha256:").unwrap();
    third.edit(&digest[..8], "00000000");
    third.told(&run, 5, &["is locked with a digest that no source states"]);
}

#[test]
fn without_a_catalog_a_lock_is_not_judged_by_the_publisher_of_the_installs() {
    let project = Project::new();
    project.does(&["lock"]);
    project.does(&["--quiet", "install", "dunefield/8"]);
    project.edit("required = \"lts\"", "required = \">=6 <9\"");
    project.scene.write("board/.marram-version", ">=6 <9\n");
    // The definition names no publisher, and no catalog does.
    fs::remove_dir_all(project.scene.path(".cache/vivid-shelf/catalogs")).unwrap();
    let json = project.does(&["require", "--json"]).stdout;
    assert!(json.contains("\"lock\": \"fits\""), "{json}");
}
