//! Several publishers and sources of one runtime: side by side on the shelf, fall-backs of each other, and
//! what is known of a release from whoever knows it. With Orache, whose lines have two numbers.

use std::fs;
use std::path::Path;

use serde_json::Value;
use snapbox::str;

use crate::scene::{PROGRAM, Ran, Scene};
use crate::shows;

/// A home that knows Orache, with its sources in folders of that home.
fn orache() -> Scene {
    let scene = Scene::new();
    for (path, bytes) in vshelf_demo::layouts::publish("http://gull.example") {
        if path.starts_with("/orache/") {
            let file = scene.path(&format!("published{path}"));
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(&file, bytes).unwrap();
            // The day of an archive in a folder is that of its file.
            let day: jiff::Timestamp = "2026-10-22T06:00:00Z".parse().unwrap();
            let file = fs::File::options().append(true).open(file).unwrap();
            file.set_modified(day.into()).unwrap();
        }
    }
    let place = scene.path("published").display().to_string();
    let definition = vshelf_demo::orache::definition(&place);
    scene.write(".config/vivid-shelf/runtimes/orache.toml", &definition);
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"orache\"\n",
    );
    scene
}

/// Has the publisher's own catalog gone.
fn without_catalog(scene: &Scene) {
    fs::remove_file(scene.path("published/orache/catalog.json")).unwrap();
}

fn json(ran: &Ran) -> Value {
    serde_json::from_str(&ran.stdout).unwrap()
}

#[test]
fn a_line_that_is_newer_than_all_dates_is_named() {
    let scene = orache();
    let file = scene.path("published/orache/catalog.json");
    let mut catalog: Value = serde_json::from_str(&fs::read_to_string(&file).unwrap()).unwrap();
    let begins = |entry: &Value, key: &str, numbers: &[&str]| {
        numbers
            .iter()
            .any(|number| entry[key].as_str().unwrap().starts_with(number))
    };
    let lines = catalog["lines"].as_array_mut().unwrap();
    lines.retain(|line| !begins(line, "line", &["2.6", "2.7"]));
    let releases = catalog["releases"].as_array_mut().unwrap();
    releases.retain(|release| !begins(release, "version", &["2.7"]));
    fs::write(&file, catalog.to_string()).unwrap();
    let ran = scene.does(&["catalog"]);
    let note = "Line 2.6 is newer than the known support dates of Orache.\n";
    assert!(ran.stderr.contains(note), "{ran}");
    assert!(ran.stdout.contains("unknown"), "{ran}");
}

#[test]
fn unknown_security_information_is_not_counted_as_none() {
    let scene = orache();
    without_catalog(&scene);
    let ran = scene.does(&["catalog", "--security", "--json"]);
    assert!(
        ran.stderr
            .contains(" releases have no security information.\n"),
        "{ran}"
    );
    assert_eq!(json(&ran)["releases"], serde_json::json!([]), "{ran}");
    scene.does(&["install", "dunefield/2.5.2"]);
    let list = json(&scene.does(&["list", "--json"]));
    let newer = &list["runtimes"][0]["installs"][0]["newer"];
    assert_eq!(newer["version"], "2.6.3", "{list}");
    assert!(newer["security"].is_null(), "{list}");
    let ran = scene.does(&["tidy", "--dry-run"]);
    let note = "Whether newer releases of Orache fix security problems is unknown.\n";
    assert!(ran.stderr.contains(note), "{ran}");
}

#[test]
fn lines_have_two_numbers_and_nothing_undated_is_current() {
    let scene = orache();
    shows!(
        scene.vshelf(&["catalog"]),
        str![[r#"
line  phase    support ends              newest
 2.7  preview  2028-06-30, in 19 months  2.7.0-rc.1
 2.6  current  2027-06-30, in 7 months   2.6.3
 2.5  unknown                            2.5.3
--- stderr
2 other lines have ended; to see their releases: vshelf catalog orache --phase ended
dunefield has releases too; to see them: vshelf catalog dunefield/
To see the releases of a line: vshelf catalog 2.7

"#]]
    );
    let ran = scene.vshelf(&["catalog", "--phase", "unknown"]);
    assert!(
        ran.stdout.contains("2.5.2") && !ran.stdout.contains("2.6"),
        "{ran}"
    );
    let ran = scene.vshelf(&["catalog", "--phase", "supported"]);
    assert!(!ran.stdout.contains("2.5."), "{ran}");
    // What is newest of line 2.6 supersedes nothing of 2.5.
    scene.does(&["install", "2.5", "2.6"]);
    let ran = scene.does(&["tidy"]);
    assert!(ran.stdout.contains("There is nothing to remove."), "{ran}");
    let ran = scene.does(&["install", "2.3.8"]);
    let note = "Its line is no longer supported.\n";
    assert!(ran.stderr.contains(note), "no day is known: {ran}");
    let ran = scene.does(&["tidy", "--dry-run"]);
    assert!(ran.stdout.contains("support has ended"), "{ran}");
    // No line is long-term, and no hint says so.
    assert!(!scene.vshelf(&["catalog"]).stderr.contains("lts"));
}

#[test]
fn one_version_of_two_publishers_stands_side_by_side() {
    let scene = orache();
    scene.does(&["install", "dunefield/2.6.3", "2.6.3"]);
    let list = scene.does(&["list"]).stdout;
    assert!(
        list.contains("\n2.6.3 ") && list.contains("\ndunefield/2.6.3 "),
        "{list}"
    );
    let script = format!(
        "eval \"$({PROGRAM} connect --print bash)\"
        vshelf switch dunefield/2.6 2>&1
        orache -e 'send home'; orache -version 2>&1
        command -v reed || echo no reed
        vshelf switch 2.6.3 2>&1
        orache -e 'send home'; command -v reed"
    );
    let ran = scene.run(scene.command("/bin/bash").args(["-c", &script]));
    assert_eq!(ran.code, 0, "{ran}");
    assert_eq!(ran.stderr, "", "what is printed serves as it is");
    let home = |key: &str| format!("/shelf/orache/{key}/build\n");
    assert!(ran.stdout.contains(&home("dunefield-2.6.3")), "{ran}");
    assert!(
        ran.stdout.contains("orache version \"2.6.3\"\nno reed\n"),
        "{ran}"
    );
    assert!(ran.stdout.contains(&home("saltmarsh-2.6.3")), "{ran}");
    let suggested = scene.does(&["suggest", "--", "switch", "orache@d"]).stdout;
    assert!(suggested.contains("orache@dunefield/2.6.3"), "{suggested}");
    // The version alone names the install of the main publisher.
    scene.does(&["remove", "2.6.3"]);
    let list = scene.does(&["list"]).stdout;
    assert!(
        !list.contains("\n2.6.3 ") && list.contains("\ndunefield/2.6.3 "),
        "{list}"
    );
}

#[test]
fn details_say_where_each_fact_is_from_and_what_a_repack_lacks() {
    let scene = orache();
    shows!(
        scene.vshelf(&["catalog", "dunefield/2.6.3"]),
        str![[r#"
Orache dunefield/2.6.3
  published      2026-10-20, 4 weeks ago
  publisher      Dunefield Builds (dunefield)
  remark         a trimmed runtime, without its package tool reed
  line           2.6: current, support ends on 2027-06-30, in 7 months
  security       fixes a security problem
  build          any, 0.1 MB, a repack of 2026-10-22 from dunefield
  checksum here  sha256:[DIGEST]
  source         dunefield
  known from     saltmarsh: its day of publication, whether it fixes a security problem and the phase of its line
  on the shelf   no
--- stderr
To install it: vshelf install dunefield/2.6.3
saltmarsh publishes it too: vshelf catalog saltmarsh/2.6.3

"#]]
    );
    shows!(
        scene.vshelf(&["explain", "dunefield/2.6"]),
        str![[r#"
Orache dunefield/2.6, on 2026-11-23
 1  The catalog has 12 releases.
 2  2 of them come from dunefield.
 3  1 of them begins with 2.6.
 4  2.6.3 is the only version left.
Result: Orache 2.6.3 from dunefield, which is not on the shelf.
Its archive comes from the source dunefield, as a repack.
Known from saltmarsh: its day of publication, whether it fixes a security problem and the phase of its line.

"#]]
    );
    let card = json(&scene.vshelf(&["catalog", "dunefield/2.6.3", "--json"]));
    assert_eq!(card["told_by"]["date"], "saltmarsh", "{card}");
    assert_eq!(card["builds"][0]["repack"], true, "{card}");
    assert_eq!(card["builds"][0]["spelled"], "2.6.3.0", "{card}");
    scene.does(&["install", "dunefield/2.6.3"]);
    let record = scene.data("shelf/orache/dunefield-2.6.3/record.json");
    let record: Value = serde_json::from_str(&fs::read_to_string(record).unwrap()).unwrap();
    assert_eq!(record["spelled"], "2.6.3.0");
    // What the definition leaves out is not there.
    let build = scene.data("shelf/orache/dunefield-2.6.3/build");
    assert_eq!(crate::scene::names_in(&build), ["bin"]);
}

#[test]
fn a_fallback_is_asked_if_no_other_source_answers_and_takes_over_no_knowledge() {
    let scene = orache();
    scene.does(&["catalog"]);
    without_catalog(&scene);
    let ran = scene.vshelf(&["catalog"]);
    assert_eq!(ran.code, 0, "{ran}");
    let told = "The source saltmarsh was skipped: ";
    assert!(
        ran.stderr.contains(told) && ran.stderr.contains("What it said today is used."),
        "{ran}"
    );
    // Its former releases are still offered.
    assert!(
        ran.stdout.contains("current") && ran.stdout.contains("2.7.0"),
        "{ran}"
    );
    // With nothing known from before, the fallback offers its releases, and nothing is made up.
    let fresh = orache();
    without_catalog(&fresh);
    let ran = fresh.vshelf(&["catalog"]);
    assert!(ran.stderr.contains("Using packed instead."), "{ran}");
    assert!(
        ran.stdout.contains("unknown") && !ran.stdout.contains("current"),
        "{ran}"
    );
    assert!(!ran.stdout.contains("2.7.0"), "{ran}");
    let ran = fresh.vshelf(&["catalog", "2.6.3"]);
    assert!(!ran.stdout.contains("published"), "{ran}");
    shows!(
        fresh.vshelf(&["install", "2.6"]),
        str![[r#"
Orache 2.6.3 is on the shelf (repackaged by others, from packed).
0.1 MB fetched in [TIME] s from packed, verified by sha256; 0.1 MB on disk.
It is the default now: new connected shells use it.
--- stderr
Fetching Orache 2.6.3 (0.1 MB).
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    // The highest packing of a version is taken.
    let address =
        json(&fresh.vshelf(&["catalog", "2.6.3", "--json"]))["builds"][0]["address"].clone();
    assert!(
        address.as_str().unwrap().ends_with("orache-2.6.3.2.tar.gz"),
        "{address}"
    );
}

/// Two sources of one publisher without a fallback among them: what either has is offered, and the better facts win.
#[test]
fn sources_of_one_publisher_add_up() {
    let scene = orache();
    let file = ".config/vivid-shelf/runtimes/orache.toml";
    let text = fs::read_to_string(scene.path(file)).unwrap();
    scene.write(file, &text.replace("fallback = true\n", ""));
    let list = scene.path("published/orache/packed/SHA256SUMS");
    let lines = fs::read_to_string(&list).unwrap();
    let line = lines.lines().find(|line| line.contains("2.6.2.0")).unwrap();
    let own = line.replace("2.6.2.0", "2.6.9.0");
    fs::write(&list, format!("{lines}{own}\n")).unwrap();
    let archives = scene.path("published/orache/packed");
    fs::copy(
        archives.join("orache-2.6.2.0.tar.gz"),
        archives.join("orache-2.6.9.0.tar.gz"),
    )
    .unwrap();
    let ran = scene.does(&["catalog", "2.6"]);
    assert!(
        ran.stdout.contains("2.6.9") && ran.stdout.contains("2.6.3"),
        "{ran}"
    );
    let card = json(&scene.does(&["catalog", "2.6.3", "--json"]));
    let sources: Vec<&str> = (card["builds"].as_array().unwrap().iter())
        .filter_map(|build| build["source"].as_str())
        .collect();
    assert_eq!(sources, ["saltmarsh", "packed"], "{card}");
    assert_eq!(card["told_by"]["date"], "saltmarsh", "{card}");
}

#[test]
fn what_one_source_of_a_publisher_does_not_give_another_does() {
    let scene = orache();
    scene.does(&["catalog"]);
    fs::remove_dir_all(scene.path("published/orache/builds")).unwrap();
    let ran = scene.vshelf(&["install", "2.6.3"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(
        ran.stderr.contains("saltmarsh cannot provide Orache 2.6.3"),
        "{ran}"
    );
    assert!(ran.stderr.contains("Trying packed instead."), "{ran}");
    // Another publisher's build is no substitute.
    let ran = scene.vshelf(&["install", "2.5.2"]);
    assert_eq!(ran.code, 4, "{ran}");
    assert_eq!(
        crate::scene::names_in(&scene.data("shelf/orache")),
        ["saltmarsh-2.6.3"]
    );
}

#[test]
fn of_several_that_stand_in_one_with_the_same_bytes_comes_first() {
    let scene = orache();
    let published = |name: &str| scene.path(&format!("published/orache/{name}"));
    // Another packing of 2.6.3, with other bytes, in front of the one with the same.
    fs::create_dir(published("other")).unwrap();
    let archive = "orache-2.6.3.0.tar.gz";
    fs::copy(
        published("packed/orache-2.6.2.0.tar.gz"),
        published("other").join(archive),
    )
    .unwrap();
    let list = fs::read_to_string(published("packed/SHA256SUMS")).unwrap();
    let line = list.lines().find(|line| line.contains("2.6.2.0")).unwrap();
    let line = line.replace("2.6.2.0", "2.6.3.0");
    fs::write(published("other/SHA256SUMS"), line + "\n").unwrap();
    let place = scene.path("published").display().to_string();
    let text = vshelf_demo::orache::definition(&place);
    let (before, behind) = text.split_once("# The same builds, packed again").unwrap();
    let packed = behind
        .split_once("[[sources]]")
        .unwrap()
        .1
        .split_once("[[sources]]")
        .unwrap()
        .0;
    let other = packed
        .replace("\"packed\"", "\"other\"")
        .replace("/packed\"", "/other\"");
    let text = format!("{before}[[sources]]{other}# The same builds, packed again{behind}");
    scene.write(".config/vivid-shelf/runtimes/orache.toml", &text);
    scene.does(&["catalog"]);
    fs::remove_dir_all(published("builds")).unwrap();
    let ran = scene.vshelf(&["install", "2.6.3"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stderr.contains("Trying packed instead."), "{ran}");
}

#[test]
#[cfg(all(target_os = "linux", target_env = "gnu"))]
fn a_build_for_a_newer_c_library_is_refused_before_it_is_fetched() {
    let scene = orache();
    let file = scene.path("published/orache/catalog.json");
    let mut catalog: Value = serde_json::from_str(&fs::read_to_string(&file).unwrap()).unwrap();
    for release in catalog["releases"].as_array_mut().unwrap() {
        let build = &mut release["builds"][0];
        let arch = if cfg!(target_arch = "aarch64") {
            "arm64"
        } else {
            "x64"
        };
        build["platform"] = format!("linux-{arch}-gnu").into();
        build["oldest-libc"] = serde_json::json!([2, 99]);
    }
    fs::write(&file, catalog.to_string()).unwrap();
    let ran = scene.vshelf(&["catalog", "2.5.2"]);
    assert!(ran.stdout.contains("needs glibc 2.99 or newer"), "{ran}");
    let ran = scene.vshelf(&["install", "2.5.2"]);
    assert_eq!(ran.code, 5, "{ran}");
    let told = "Orache 2.5.2 needs glibc 2.99 or newer, and this system has glibc 2.";
    assert!(ran.stderr.contains(told), "{ran}");
    assert!(!scene.path(".cache/vivid-shelf/archives").exists());
    // Where another source has a build that starts, that is taken.
    let ran = scene.vshelf(&["install", "2.6.3"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stderr.contains("Trying packed instead."), "{ran}");
}

#[test]
fn packages_are_seen_without_starting_the_tool() {
    let scene = orache();
    scene.does(&["install", "2.6.2", "2.6.3"]);
    scene.does(&["run", "2.6.2", "--", "reed", "add", "kelp@1.0.0"]);
    let tool = scene.data("shelf/orache/saltmarsh-2.6.2/build/bin/reed");
    fs::write(&tool, "#!/bin/sh\necho broken; exit 1\n").unwrap();
    let ran = scene.does(&["carry", "2.6.2", "2.6.3"]);
    assert!(ran.stdout.contains("kelp"), "{ran}");
    let packages = scene.data("shelf/orache/saltmarsh-2.6.3/build/lib/orache/packages");
    assert_eq!(crate::scene::names_in(&packages), ["kelp-1.0.0"]);
}

#[test]
fn every_new_install_gets_the_packages_that_the_settings_name() {
    let scene = orache();
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"orache\"\n[packages.always]\norache = [\"kelp@2.0.0\", \"sand\"]\n",
    );
    let ran = scene.does(&["install", "2.6"]);
    assert!(
        ran.stdout
            .contains("kelp@2.0.0 and sand were added, as your settings say."),
        "{ran}"
    );
    let packages = scene.data("shelf/orache/saltmarsh-2.6.3/build/lib/orache/packages");
    assert_eq!(
        crate::scene::names_in(&packages),
        ["kelp-2.0.0", "sand-1.0.0"]
    );
    // A build without the tool is installed all the same, and what is missing is told.
    let ran = scene.vshelf(&["install", "dunefield/2.6"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stderr.contains("reed"), "{ran}");
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "[packages]\nalways = \"kelp\"\n",
    );
    let ran = scene.vshelf(&["install", "orache@2.5"]);
    assert_eq!(ran.code, 6, "{ran}");
    assert!(ran.stderr.contains("Line 2"), "{ran}");
}

#[test]
fn a_line_of_a_project_file_requires_a_version() {
    let scene = orache();
    scene.does(&["install", "2.5", "2.6"]);
    scene.write("buoy/tide.mod", "tide buoy\n\norache 2.5 // until spring\n");
    let here = |arguments: &[&str]| {
        let mut command = scene.command(PROGRAM);
        scene.run(command.args(arguments).current_dir(scene.path("buoy")))
    };
    let ran = here(&["require"]);
    assert!(
        ran.stdout
            .contains("requires Orache 2.5 (~/buoy/tide.mod, line 3)"),
        "{ran}"
    );
    let ran = here(&["require", "2.6", "--file", "tide.mod"]);
    assert_eq!(ran.code, 0, "{ran}");
    let text = fs::read_to_string(scene.path("buoy/tide.mod")).unwrap();
    assert_eq!(text, "tide buoy\n\norache 2.6\n");
    scene.write("buoy/tide.mod", "orache 2.5\norache 2.6\n");
    let ran = here(&["require"]);
    assert!(
        ran.stderr.contains("line 2: the file says a second thing"),
        "{ran}"
    );
    // A file of one's own kind, from the settings.
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"orache\"\n[requirement-files]\norache = [\".spray\"]\n",
    );
    scene.write("spray/.spray", "2.6\n");
    let mut command = scene.command(PROGRAM);
    let ran = scene.run(command.arg("require").current_dir(scene.path("spray")));
    assert!(
        ran.stdout.contains("requires Orache 2.6 (~/spray/.spray"),
        "{ran}"
    );
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "[requirement-files]\norache = [\"../x\"]\n",
    );
    let ran = scene.vshelf(&["list", "orache"]);
    assert_eq!(ran.code, 6, "{ran}");
    assert!(
        ran.stderr.contains("\"../x\" is not the name of a file"),
        "{ran}"
    );
}

#[test]
fn a_definition_is_checked_before_it_is_added() {
    let scene = orache();
    let place = scene.path("published").display().to_string();
    let text = vshelf_demo::orache::definition(&place);
    let check = |text: &str, more: &[&str]| {
        scene.write("orache.toml", text);
        let arguments = [&["runtimes", "--check", "orache.toml"], more].concat();
        scene.vshelf(&arguments)
    };
    shows!(
        check(
            &text.replace(
                "versions = [\"{3}.{repack}\"]\n\n",
                "versions = [\"{3}.{repack}\", \"{2}rc{repack}\"]\nonly = \">=2.6\"\n\n"
            ),
            &[]
        ),
        str![[r#"
Orache (orache), published by saltmarsh and dunefield
  saltmarsh       10 releases, newest 2.7.0-rc.1, 10 for this platform
  packed          2 releases, newest 2.6.3, 2 for this platform
    left out      2.4.6.0
    fits nothing  {2}rc{repack}
  dunefield       2 releases, newest 2.6.3, 2 for this platform
line  phase    support ends              releases  newest
 2.7  preview  2028-06-30, in 19 months         1  2.7.0-rc.1
 2.6  current  2027-06-30, in 7 months          4  2.6.3
 2.5  unknown                                   4  2.5.3
 2.4  ended    2026-06-30, 4 months ago         2  2.4.6
 2.3  ended                                     1  2.3.8
--- stderr
To add it: vshelf runtimes --add orache.toml

"#]]
    );
    let report = json(&check(&text, &["--json"]));
    assert_eq!(report["sources"][1]["releases"], 3, "{report}");
    assert_eq!(report["lines"][0]["phase"], "preview", "{report}");
    // Where a source gives nothing, it is named, and the command fails.
    let ran = check(&text.replace("/orache/trimmed", "/orache/trimed"), &[]);
    assert_eq!(ran.code, 4, "{ran}");
    assert!(ran.stdout.contains("trimed"), "{ran}");
    // A pattern that fits nothing at all leaves nothing to publish.
    let ran = check(
        &text.replacen("versions = [\"{3}.{repack}\"]", "versions = [\"{9}\"]", 1),
        &[],
    );
    assert_eq!(ran.code, 4, "{ran}");
    // Nothing is kept of any of it.
    assert!(!scene.path(".cache/vivid-shelf/catalogs").exists());
}

#[test]
fn what_is_wrong_with_a_definition_is_told_by_line_and_column() {
    let scene = orache();
    let text = vshelf_demo::orache::definition("/nowhere");
    for (good, bad, told) in [
        (
            "repack = true",
            "repak = true",
            ["unknown field `repak`", "repak = true"],
        ),
        (
            "id = \"dunefield\"",
            "id = \"saltmarsh\"",
            ["another publisher has this id", "id = \"saltmarsh\""],
        ),
        (
            "publisher = \"dunefield\"",
            "publisher = \"dunfield\"",
            ["such as dunefield", "publisher = \"dunfield\""],
        ),
        (
            "[\"{3}.{repack}\"]",
            "[\"{version}\", \"{3}.{repack}\"]",
            ["one in front of it fits all that it fits", "versions = "],
        ),
        (
            "folder = \"orache_trimmed/runtime\"",
            "companions = [{ package = \"reed\", folder = \"lib\", programs = {} }]",
            ["which version is added", "companions = "],
        ),
    ] {
        scene.write(
            ".config/vivid-shelf/runtimes/orache.toml",
            &text.replacen(good, bad, 1),
        );
        let ran = scene.vshelf(&["catalog"]);
        assert_eq!(ran.code, 6, "{ran}");
        assert!(told.iter().all(|told| ran.stderr.contains(told)), "{ran}");
        assert!(ran.stderr.contains(", column "), "{ran}");
    }
}

#[test]
fn a_catalog_that_is_kept_outlives_one_that_cannot_be_read() {
    let scene = orache();
    scene.does(&["catalog"]);
    let list = scene.path("published/orache/packed/SHA256SUMS");
    let catalog = scene.path("published/orache/catalog.json");
    // Spelled so, nothing in it is a version any more.
    let spelled = |path: &Path| {
        fs::read_to_string(path)
            .unwrap()
            .replace("orache-2", "orache-v2")
    };
    fs::write(&list, spelled(&list)).unwrap();
    fs::write(&catalog, "[]").unwrap();
    let ran = scene.vshelf(&["catalog"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stdout.contains("2.7.0-rc.1"), "{ran}");
    assert!(ran.stderr.contains("What it said today is used."), "{ran}");
    // An archive that is another one than the catalog promised is found out.
    let scene = orache();
    scene.does(&["catalog"]);
    let archive = scene.path("published/orache/trimmed/orache_trimmed-2.6.3.0.tar.gz");
    fs::copy(
        scene.path("published/orache/trimmed/orache_trimmed-2.5.2.0.tar.gz"),
        archive,
    )
    .unwrap();
    let ran = scene.vshelf(&["install", "dunefield/2.6.3"]);
    assert_eq!(ran.code, 5, "{ran}");
    assert!(!scene.data("shelf/orache").join("dunefield-2.6.3").exists());
}

#[test]
fn of_one_version_the_install_of_the_main_publisher_comes_first() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1", "dunefield/8.3.1"]);
    for arguments in [
        &["list"][..],
        &["catalog"],
        &["tidy", "--dry-run"],
        &["timeline"],
        &["suggest", "--", "switch", ""],
    ] {
        let ran = scene.does(arguments);
        assert!(!ran.stdout.contains("saltmarsh/"), "{ran}");
        let text = ran.stdout.replace(',', " ");
        let words: Vec<&str> = text.split_whitespace().collect();
        let at = |selector: &str| words.iter().position(|word| *word == selector).unwrap();
        assert!(at("8.3.1") < at("dunefield/8.3.1"), "{ran}");
    }
}

#[test]
fn a_selector_that_means_another_publisher_than_usual_says_so() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "dunefield/8.3.0"]);
    let ran = scene.bash("vshelf switch 8");
    let told = "No install from saltmarsh matches 8, so another publisher's was taken.\n";
    assert!(ran.stderr.contains(told), "{ran}");
    let ran = scene.bash("vshelf switch dunefield/8");
    assert!(!ran.stderr.contains("another publisher"), "{ran}");
    assert!(
        ran.stderr
            .contains("vshelf install dunefield/8.3.1 --switch"),
        "{ran}"
    );
    let ran = scene.does(&["install", "8"]);
    let told = "8 now means Marram 8.3.1; Marram dunefield/8.3.0, from another publisher, stays on the shelf.\n";
    assert!(ran.stderr.contains(told), "{ran}");
}
