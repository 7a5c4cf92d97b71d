//! Runtimes whose definition is gone or broken: what is on the shelf of them goes on working, and so does
//! everything about other runtimes.

use std::fs;

use crate::scene::Scene;

/// A home with installs of Marram, whose definition is then removed, and a built-in main runtime.
fn without_a_definition() -> Scene {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1", "6.20.2"]);
    scene.does(&["default", "8"]);
    let ran = scene.does(&["runtimes", "--remove", "marram"]);
    let told = "On the shelf: 2 installs, which can be used and removed; nothing new of it can be installed.";
    assert!(ran.stdout.contains(told), "{ran}");
    let way = "To remove what is there: vshelf remove marram@8.3.1 marram@6.20.2\n";
    assert!(ran.stderr.contains(way), "{ran}");
    scene
}

#[test]
fn installs_without_a_definition_are_listed_used_and_removed() {
    let scene = without_a_definition();
    let ran = scene.does(&["list"]);
    assert!(ran.stdout.starts_with("Marram: 2 installs, "), "{ran}");
    assert_eq!(ran.stdout.matches("no definition").count(), 2, "{ran}");
    let told = "The definition of Marram was removed, so nothing new of it can be installed.";
    assert!(ran.stderr.contains(told), "{ran}");
    let ran = scene.bash("vshelf switch 6 >/dev/null 2>&1; marram --version");
    assert_eq!(ran.stdout, "marram 6.20.2\n", "{ran}");
    let ran = scene.vshelf(&["install", "9"]);
    assert_eq!(ran.code, 3, "{ran}");
    let told =
        "Error: the definition of marram was removed, so nothing new of it can be installed.";
    assert!(ran.stderr.contains(told), "{ran}");
    for arguments in [
        &["status"][..],
        &["history"],
        &["checkup", "8.3.1"],
        &["label"],
    ] {
        assert_eq!(scene.vshelf(arguments).code, 0, "{arguments:?}");
    }
    scene.does(&["remove", "6.20.2"]);
    scene.does(&["restore"]);
    scene.does(&["remove", "8.3.1", "6.20.2", "--even-if-used"]);
    assert!(scene.on_shelf().is_empty());
}

#[test]
fn a_broken_definition_affects_no_other_runtime() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1"]);
    scene.write(".config/vivid-shelf/runtimes/sedge.toml", "name = ");
    scene.write("tide-board/.marram-version", "8\n");
    for arguments in [
        &["list"][..],
        &["status"],
        &["install", "6"],
        &["default", "6"],
        &["tidy"],
        &["require"],
        &["runtimes"],
        &["remove", "6", "--even-if-used"],
        &["restore"],
        &["connect"],
    ] {
        let ran = scene.vshelf(arguments);
        assert_eq!(ran.code, 0, "{arguments:?}: {ran}");
    }
    let mut required = scene.command(crate::scene::PROGRAM);
    required
        .arg("install")
        .current_dir(scene.path("tide-board"));
    assert_eq!(scene.run(&mut required).code, 0);
    let ran = scene.vshelf(&["catalog", "sedge"]);
    assert_eq!(ran.code, 6, "{ran}");
    // With installs of it on the shelf, the records replace the definition.
    let definition = scene.path(".config/vivid-shelf/runtimes/marram.toml");
    fs::write(definition, "name = ").unwrap();
    let ran = scene.does(&["list"]);
    assert!(
        ran.stderr
            .contains("marram.toml is not a definition of a runtime"),
        "{ran}"
    );
    scene.does(&["remove", "8.3.1", "--even-if-used"]);
}

#[test]
fn settings_and_definitions_of_any_size_are_not_read() {
    let scene = Scene::new();
    for (file, arguments) in [
        (".config/vivid-shelf/shelf.toml", &["config"][..]),
        (
            ".config/vivid-shelf/runtimes/marram.toml",
            &["catalog", "marram"],
        ),
    ] {
        let opened = fs::File::options().write(true).open(scene.path(file));
        // It takes no space.
        opened.unwrap().set_len(1 << 30).unwrap();
        let ran = scene.vshelf(arguments);
        assert_eq!(ran.code, 6, "{ran}");
        assert!(ran.stderr.contains("it is larger than 4 MB"), "{ran}");
        fs::remove_file(scene.path(file)).unwrap();
    }
}

#[test]
fn a_program_that_the_archive_does_not_have_is_named_with_what_it_has() {
    let scene = Scene::new();
    let file = ".config/vivid-shelf/runtimes/marram.toml";
    let text = fs::read_to_string(scene.path(file)).unwrap();
    scene.write(
        file,
        &text.replace("program = \"marram\"", "program = \"sedge\""),
    );
    let ran = scene.vshelf(&["install", "8.3.1"]);
    assert_eq!(ran.code, 5, "{ran}");
    for told in [
        "Error: Marram 8.3.1 has no bin/sedge.",
        "At its top are ",
        "bin/",
    ] {
        assert!(ran.stderr.contains(told), "{told}: {ran}");
    }
    assert!(scene.on_shelf().is_empty());
}

#[test]
fn an_empty_address_is_refused_where_it_is_set() {
    let scene = Scene::new();
    let settings = "main-runtime = \"marram\"\n[addresses]\n\"marram.stand-in\" = \"\"\n";
    scene.write(".config/vivid-shelf/shelf.toml", settings);
    let ran = scene.vshelf(&["catalog"]);
    assert_eq!(ran.code, 6, "{ran}");
    let told = "addresses.marram.stand-in is empty";
    assert!(ran.stderr.contains(told), "{ran}");
    let scene = Scene::new();
    let file = ".config/vivid-shelf/runtimes/marram.toml";
    let text = fs::read_to_string(scene.path(file)).unwrap();
    let address = text
        .lines()
        .find(|line| line.starts_with("address"))
        .unwrap();
    scene.write(file, &text.replace(address, "address = \" \""));
    let ran = scene.vshelf(&["catalog"]);
    assert!(ran.stderr.contains("sources.address is \" \""), "{ran}");
}

#[test]
fn a_check_tries_the_newest_release_if_the_person_agrees() {
    let scene = Scene::new();
    let file = scene.path(".config/vivid-shelf/runtimes/marram.toml");
    let text = fs::read_to_string(&file).unwrap();
    let check = |text: &str, agreed: &[&str]| {
        scene.write("marram.toml", text);
        let words = [&["runtimes", "--check", "marram.toml"], agreed].concat();
        scene.vshelf(&words)
    };
    let ran = check(&text, &["--yes"]);
    assert!(
        ran.stdout.contains("Marram 9.2.0 can be installed: "),
        "{ran}"
    );
    let ran = check(&text, &[]);
    assert!(
        ran.code == 0 && !ran.stdout.contains("can be installed"),
        "{ran}"
    );
    let ran = check(
        &text.replace("program = \"marram\"", "program = \"sedge\""),
        &["--yes"],
    );
    assert_eq!(ran.code, 5, "{ran}");
    assert!(
        ran.stderr.contains("Error: Marram 9.2.0 has no bin/sedge."),
        "{ran}"
    );
    assert!(scene.on_shelf().is_empty());
    let cache = fs::read_dir(scene.path(".cache/vivid-shelf")).unwrap();
    let names = cache.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let trials: Vec<String> = names.filter(|name| name.starts_with("trial-")).collect();
    assert!(trials.is_empty(), "{trials:?}");
}
