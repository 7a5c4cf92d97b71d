//! Every kind of source, one after the other and several together.

use std::fs;
use std::io::Cursor;

use minisign::KeyPair;
use snapbox::str;
use vshelf_demo::layouts;
use vshelf_demo::server::{Fault, StandIn};

use crate::scene::{PROGRAM, Ran, Scene, names_in};
use crate::shows;

const INDEX: &str = r#"
    [[sources]]
    name = "index"
    kind = "release-list"
    publisher = "saltmarsh"
    address = "@ADDRESS@/dist/index.json"
    checksums = "v{version}/SHASUMS256.txt"
    [sources.archives.any]
    listed = "linux-x64"
    files = ["v{version}/marram-v{version}-linux-x64.tar.xz", "v{version}/marram-v{version}-linux-x64.tar.gz"]
"#;

pub const PACKAGES: &str = r#"
    [[sources]]
    name = "packages"
    kind = "npm"
    publisher = "saltmarsh"
    packages = { any = "@saltmarsh/marram" }
    [[sources.companions]]
    package = "@saltmarsh/bittern"
    engine = "marram"
    folder = "lib/bittern"
    programs = { "bin/bittern" = "bin/bittern.sh", "bin/heron" = "bin/heron.sh" }
"#;

const WHEELS: &str = r#"
    [[sources]]
    name = "wheels"
    kind = "wheels"
    package = "Marram"
    publisher = "saltmarsh"
"#;

const FOLDER: &str = r#"
    [[sources]]
    name = "folder"
    kind = "folder"
    publisher = "saltmarsh"
    address = "@ADDRESS@/folder"
    pattern = "marram-{version}.tar.xz"
    platforms = { any = "" }
    checksums = "SHA256SUMS"
"#;

/// Runs the program with the registries of the stand-in server configured.
fn vshelf(scene: &Scene, arguments: &[&str]) -> Ran {
    let address = scene.server().address();
    let mut command = scene.command(PROGRAM);
    command
        .env("npm_config_registry", format!("{address}/npm"))
        .env("PIP_INDEX_URL", format!("{address}/simple"));
    scene.run(command.args(arguments))
}

/// Installs, starts, and checks against the record.
fn comes_and_works(scene: &Scene, selector: &str, version: &str) {
    let ran = vshelf(scene, &["install", selector]);
    assert_eq!(ran.code, 0, "{ran}");
    let ran = vshelf(scene, &["run", selector, "--", "marram", "--version"]);
    assert_eq!(ran.stdout, format!("marram {version}\n"), "{ran}");
}

#[test]
fn a_release_list_tells_lines_marks_and_what_is_brought() {
    let scene = Scene::with_faults(&[]);
    scene.sources(INDEX);
    comes_and_works(&scene, "lts", "8.3.1");
    // The list says which of the two forms there is.
    comes_and_works(&scene, "6", "6.20.2");
    let asked = scene.server().requests();
    let archives: Vec<&String> = asked.iter().filter(|line| line.contains(".tar.")).collect();
    assert!(archives[0].contains("8.3.1-linux-x64.tar.xz"), "{asked:?}");
    assert!(archives[1].contains("6.20.2-linux-x64.tar.gz"), "{asked:?}");
    shows!(
        vshelf(&scene, &["catalog", "8.3.1"]),
        str![[r#"
Marram 8.3.1
  published      2026-10-14, 5 weeks ago
  publisher      saltmarsh
  line           8 Eelgrass: lts
  security       fixes a security problem
  brings         tussock 3.3.0
  build          any
  checksum here  listed in [SERVER]/dist/v8.3.1/SHASUMS256.txt
  source         index
  on the shelf   yes, as 8.3.1

"#]]
    );
}

#[test]
fn a_copy_of_the_index_on_this_machine_serves_as_well() {
    let scene = Scene::with_faults(&[]);
    for (path, bytes) in layouts::publish("http://gull.example") {
        if let Some(name) = path.strip_prefix("/dist/") {
            let file = scene.path("copy").join(name);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, bytes).unwrap();
        }
    }
    scene.sources(INDEX);
    // The settings say where it is, and the definition stays as it was shipped.
    let settings = format!(
        "main-runtime = \"marram\"\n[addresses]\n\"marram.index\" = \"{}\"\n",
        scene.path("copy/index.json").display()
    );
    scene.write(".config/vivid-shelf/shelf.toml", &settings);
    comes_and_works(&scene, "eelgrass", "8.3.1");
    assert_eq!(scene.server().requests(), Vec::<String>::new());
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "[addresses]\n\"marram.indx\" = \"/x\"\n",
    );
    shows!(
        vshelf(&scene, &["catalog", "marram@"]),
        str![[r#"
--- stderr
Error: ~/.config/vivid-shelf/shelf.toml has "marram.indx" in [addresses], and there is no such source with an address.
  To edit it: ${EDITOR:-vi} ~/.config/vivid-shelf/shelf.toml
--- exit 6

"#]]
    );
    // Without a runtime it would move nothing.
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "[addresses]\nindex = \"/x\"\n",
    );
    let ran = vshelf(&scene, &["catalog", "marram@"]);
    assert!(
        ran.stderr
            .contains("shelf.toml has \"index\" in [addresses]"),
        "{ran}"
    );
}

#[test]
fn a_scoped_package_comes_with_the_companion_that_fits() {
    let scene = Scene::with_faults(&[]);
    scene.sources(PACKAGES);
    shows!(
        vshelf(&scene, &["install", "8.3.1"]),
        str![[r#"
Marram 8.3.1 is on the shelf, published by saltmarsh.
0.3 MB fetched in [TIME] s from packages, verified by sha512; 0.4 MB on disk.
@saltmarsh/bittern 2.0.0 was added, because the build comes without it.
It is the default now: new connected shells use it.
--- stderr
Fetching Marram 8.3.1.
Fetching @saltmarsh/bittern 2.0.0.
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    let bittern = |selector: &str| {
        let ran = vshelf(&scene, &["run", selector, "--", "bittern"]);
        ran.stdout.trim().to_owned()
    };
    assert_eq!(bittern("8.3.1"), "bittern 2.0.0");
    comes_and_works(&scene, "6", "6.20.2");
    assert_eq!(bittern("6"), "bittern 1.4.0");
    let ran = vshelf(&scene, &["install", "10.0.0-rc.1"]);
    assert_eq!(ran.code, 0, "{ran}");
    let left_out =
        "No release of @saltmarsh/bittern supports Marram 10.0.0-rc.1; it is installed without.";
    assert!(ran.stderr.contains(left_out), "{ran}");
    let whole = vshelf(&scene, &["checkup", "8", "6", "10"]);
    assert_eq!(whole.code, 0, "{whole}");
}

#[test]
fn a_mirror_and_a_lock_have_the_companions_too() {
    let scene = Scene::with_faults(&[]);
    scene.sources(PACKAGES);
    let ran = vshelf(&scene, &["mirror", "8.3.1", "--to", "site"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(
        scene
            .path("site/marram/files/packages/saltmarsh-bittern-2.0.0.tgz")
            .exists()
    );
    // From there it comes with them, where no registry is.
    let other = Scene::new();
    let definition = scene.path("site/marram/marram.toml");
    other.does(&[
        "runtimes",
        "--add",
        &definition.display().to_string(),
        "--yes",
    ]);
    let ran = other.does(&["install", "8"]);
    assert!(
        ran.stdout.contains("@saltmarsh/bittern 2.0.0 was added"),
        "{ran}"
    );
    let bittern = |scene: &Scene| scene.does(&["run", "8", "--", "bittern"]).stdout;
    assert_eq!(bittern(&other), "bittern 2.0.0\n");
    // What is locked from the registry or the mirror has them as well.
    for machine in [&scene, &other] {
        machine.write("vivid-shelf.toml", "[runtimes]\nmarram = \"8.3.1\"\n");
        let ran = vshelf(machine, &["lock"]);
        assert_eq!(ran.code, 0, "{ran}");
        let locked = fs::read_to_string(machine.path("vivid-shelf.lock")).unwrap();
        assert!(
            locked.contains("{ package = \"@saltmarsh/bittern\", version = \"2.0.0\""),
            "{locked}"
        );
    }
    other.does(&["remove", "8", "--even-if-used"]);
    other.does(&["install", "--locked"]);
    assert_eq!(bittern(&other), "bittern 2.0.0\n");
    // What a catalog says of them stays in the install.
    let catalog = scene.path("site/marram/catalog.json");
    let text = fs::read_to_string(&catalog).unwrap();
    fs::write(&catalog, text.replace("\"lib/bittern\"", "\"../bittern\"")).unwrap();
    let ran = other.vshelf(&["catalog", "--refresh"]);
    assert!(
        ran.stderr
            .contains("\"../bittern\" leads out of the install"),
        "{ran}"
    );
}

#[test]
fn wheels_are_builds_too() {
    let scene = Scene::with_faults(&[]);
    scene.sources(WHEELS);
    comes_and_works(&scene, "latest", "8.3.1");
    comes_and_works(&scene, "10.0.0-rc.1", "10.0.0-rc.1");
    let yanked = vshelf(&scene, &["install", "8.2.1"]);
    let reason = "8.2.1 was withdrawn by saltmarsh: loses readings at midnight";
    assert!(yanked.stderr.contains(reason), "{yanked}");
    assert_eq!(yanked.code, 3);
}

#[test]
fn a_plain_folder_needs_no_more_than_a_checksum_list() {
    let scene = Scene::with_faults(&[]);
    scene.sources(FOLDER);
    comes_and_works(&scene, "6", "6.20.2");
    scene.server().misbehave(&[Fault::WrongBytes]);
    let ran = vshelf(&scene, &["install", "8"]);
    assert_eq!(ran.code, 5, "{ran}");
    assert_eq!(scene.on_shelf(), ["6.20.2"]);
}

#[test]
fn the_first_source_that_answers_serves_and_is_named() {
    let scene = Scene::with_faults(&[]);
    let gone = FOLDER.replace("@ADDRESS@", "http://127.0.0.1:9");
    scene.sources(&(gone + WHEELS));
    shows!(
        vshelf(&scene, &["install", "8"]),
        str![[r#"
Marram 8.3.1 is on the shelf, published by saltmarsh.
0.1 MB fetched in [TIME] s from wheels, verified by sha256; 0.1 MB on disk.
It is the default now: new connected shells use it.
--- stderr
The source folder was skipped: http://127.0.0.1:9/folder/SHA256SUMS does not answer. Using wheels instead.
This is said once a day; reminders = false in shelf.toml turns it off.
Fetching Marram 8.3.1 (0.1 MB).
This shell is not connected; to connect it: vshelf connect

"#]]
    );
    // While its catalog is fresh, nobody is asked in vain again.
    let ran = vshelf(&scene, &["catalog", "8"]);
    assert!(!ran.stderr.contains("passed over"), "{ran}");
    // Said once a day, or never.
    let quiet_now = vshelf(&scene, &["catalog", "--refresh"]);
    assert!(!quiet_now.stderr.contains("was skipped"), "{quiet_now}");
    fs::remove_file(scene.path(".cache/vivid-shelf/passed-over-marram")).unwrap();
    let again = vshelf(&scene, &["catalog", "--refresh"]);
    assert!(again.stderr.contains("was skipped"), "{again}");
    fs::remove_file(scene.path(".cache/vivid-shelf/passed-over-marram")).unwrap();
    let settings = "main-runtime = \"marram\"\nreminders = false\n";
    scene.write(".config/vivid-shelf/shelf.toml", settings);
    let never = vshelf(&scene, &["catalog", "--refresh"]);
    assert!(!never.stderr.contains("was skipped"), "{never}");
}

#[test]
fn another_source_takes_over_when_an_archive_does_not_come() {
    let scene = Scene::with_faults(&[]);
    let other = StandIn::start(None).unwrap();
    let broken = FOLDER.replace("@ADDRESS@", &other.address());
    scene.sources(&(broken + WHEELS));
    let ran = vshelf(&scene, &["catalog"]);
    assert_eq!(ran.code, 0, "{ran}");
    other.misbehave(&[Fault::Status(404)]);
    let ran = vshelf(&scene, &["install", "8"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(
        ran.stderr.contains("folder cannot provide Marram 8.3.1"),
        "{ran}"
    );
    assert!(
        ran.stdout.contains("from wheels, verified by sha256"),
        "{ran}"
    );
}

#[test]
fn a_mirror_goes_on_where_an_archive_breaks_off() {
    let scene = Scene::with_faults(&[]);
    let mirror = StandIn::start(None).unwrap();
    let sources = format!(
        "[[sources]]\nname = \"saltmarsh\"\nkind = \"catalog\"\naddress = \"@ADDRESS@/catalog.json\"\nmirrors = [\"{}/catalog.json\"]\n",
        mirror.address()
    );
    scene.sources(&sources);
    vshelf(&scene, &["catalog"]);
    scene.server().misbehave(&[Fault::Cut(70_000)]);
    let ran = vshelf(&scene, &["install", "8"]);
    assert_eq!(ran.code, 0, "{ran}");
    let asked = mirror.requests();
    assert!(
        asked.iter().any(|line| line.ends_with("206 from 70000")),
        "{asked:?}"
    );
    // The mirror serves the catalog too when the first address is gone.
    scene.server().misbehave(&[Fault::Status(404)]);
    let ran = vshelf(&scene, &["install", "6"]);
    assert_eq!(ran.code, 0, "{ran}");
}

/// A catalog in a folder, signed at a time, and the line that asks for the signature.
fn signed(scene: &Scene, keys: &KeyPair, updated: &str, signer: &KeyPair) {
    signed_until(scene, keys, updated, signer, None);
}

/// The same, to be relied on until a time.
fn signed_until(
    scene: &Scene,
    keys: &KeyPair,
    updated: &str,
    signer: &KeyPair,
    expires: Option<&str>,
) {
    let catalog = ureq::get(format!("{}/catalog.json", scene.server().address()))
        .call()
        .unwrap()
        .body_mut()
        .read_to_string()
        .unwrap();
    let address = scene.server().address();
    let catalog = catalog
        .replace(
            "2026-11-23T06:00:00Z\"",
            &match expires {
                Some(expires) => format!("{updated}\", \"expires\": \"{expires}\""),
                None => format!("{updated}\""),
            },
        )
        .replace("archives/", &format!("{address}/archives/"));
    scene.write("signed/catalog.json", &catalog);
    let signature = minisign::sign(
        Some(&signer.pk),
        &signer.sk,
        Cursor::new(&catalog),
        None,
        None,
    );
    scene.write(
        "signed/catalog.json.minisig",
        &signature.unwrap().into_string(),
    );
    let sources = format!(
        "[[sources]]\nname = \"signed\"\nkind = \"catalog\"\naddress = \"{}\"\nkey = \"{}\"\n",
        scene.path("signed/catalog.json").display(),
        keys.pk.to_base64()
    );
    scene.sources(&sources);
}

#[test]
fn a_signed_catalog_serves_and_another_signature_does_not() {
    let scene = Scene::with_faults(&[]);
    let keys = KeyPair::generate_unencrypted_keypair().unwrap();
    let stranger = KeyPair::generate_unencrypted_keypair().unwrap();
    signed(&scene, &keys, "2026-11-23T06:00:00Z", &stranger);
    shows!(
        vshelf(&scene, &["install", "8"]),
        str![[r#"
--- stderr
Error: the signature of [HOME]/signed/catalog.json is refused: it was not made with the key in the definition.
  Nothing of it was kept. If the publisher changed the key, change it in the definition.
--- exit 5

"#]]
    );
    fs::remove_file(scene.path("signed/catalog.json.minisig")).unwrap();
    let ran = vshelf(&scene, &["install", "8"]);
    assert!(
        ran.stderr.contains("catalog.json.minisig cannot be read"),
        "{ran}"
    );
    assert_eq!(ran.code, 5, "{ran}");
    signed(&scene, &keys, "2026-11-23T06:00:00Z", &keys);
    comes_and_works(&scene, "8", "8.3.1");
}

#[test]
fn the_settings_can_ask_for_a_signature() {
    let scene = Scene::with_faults(&[]);
    let keys = KeyPair::generate_unencrypted_keypair().unwrap();
    let stranger = KeyPair::generate_unencrypted_keypair().unwrap();
    signed(&scene, &keys, "2026-11-23T06:00:00Z", &stranger);
    let file = ".config/vivid-shelf/runtimes/marram.toml";
    let definition = fs::read_to_string(scene.path(file)).unwrap();
    let lines = definition
        .lines()
        .filter(|line| !line.starts_with("key = "));
    scene.write(file, &lines.collect::<Vec<_>>().join("\n"));
    comes_and_works(&scene, "8", "8.3.1");
    let key = keys.pk.to_base64();
    let settings = format!("main-runtime = \"marram\"\n[keys]\n\"marram.signed\" = {key:?}\n");
    scene.write(".config/vivid-shelf/shelf.toml", &settings);
    let ran = vshelf(&scene, &["install", "8", "--again"]);
    assert!(
        ran.stderr
            .contains("it was not made with the key in the definition"),
        "{ran}"
    );
    assert_eq!(ran.code, 5, "{ran}");
    let shown = scene.does(&["config"]).stdout;
    let mut rows = shown.lines();
    let row = rows
        .find(|row| row.starts_with("keys.marram.signed "))
        .unwrap();
    assert!(row.ends_with(&key), "{shown}");
}

#[test]
fn a_signed_catalog_older_than_the_one_seen_last_is_refused() {
    let scene = Scene::with_faults(&[]);
    let keys = KeyPair::generate_unencrypted_keypair().unwrap();
    signed(&scene, &keys, "2026-11-23T06:00:00Z", &keys);
    assert_eq!(vshelf(&scene, &["catalog"]).code, 0);
    signed(&scene, &keys, "2026-11-22T06:00:00Z", &keys);
    let ran = vshelf(&scene, &["catalog", "--refresh"]);
    // What was seen last still serves.
    assert_eq!(ran.code, 0, "{ran}");
    let note =
        "catalog.json is of 2026-11-22T06:00:00Z, and one of 2026-11-23T06:00:00Z was seen before";
    assert!(ran.stderr.contains(note), "{ran}");
    signed(&scene, &keys, "2026-11-24T06:00:00Z", &keys);
    let ran = vshelf(&scene, &["catalog", "--refresh"]);
    assert!(!ran.stderr.contains("was seen before"), "{ran}");
}

#[test]
fn a_damaged_note_of_the_catalog_seen_last_lets_no_older_one_pass() {
    let scene = Scene::with_faults(&[]);
    let keys = KeyPair::generate_unencrypted_keypair().unwrap();
    signed(&scene, &keys, "2026-11-23T06:00:00Z", &keys);
    assert_eq!(vshelf(&scene, &["catalog"]).code, 0);
    let noted = scene.data("signed");
    for name in names_in(&noted) {
        fs::write(noted.join(name), "yesterday").unwrap();
    }
    signed(&scene, &keys, "2026-11-22T06:00:00Z", &keys);
    let ran = vshelf(&scene, &["install", "8"]);
    assert_eq!(ran.code, 6, "{ran}");
    assert!(scene.on_shelf().is_empty());
}

#[test]
fn an_emptied_cache_brings_no_older_signed_catalog_back() {
    let scene = Scene::with_faults(&[]);
    let keys = KeyPair::generate_unencrypted_keypair().unwrap();
    signed(&scene, &keys, "2026-11-23T06:00:00Z", &keys);
    assert_eq!(vshelf(&scene, &["catalog"]).code, 0);
    fs::remove_dir_all(scene.path(".cache/vivid-shelf")).unwrap();
    signed(&scene, &keys, "2026-11-22T06:00:00Z", &keys);
    let ran = vshelf(&scene, &["catalog"]);
    assert_eq!(ran.code, 5, "{ran}");
    assert!(ran.stderr.contains("was seen before"), "{ran}");
}

#[test]
fn a_signed_catalog_is_relied_on_for_as_long_as_its_publisher_says() {
    let scene = Scene::with_faults(&[]);
    let keys = KeyPair::generate_unencrypted_keypair().unwrap();
    let until = |expires| {
        let made = "2026-11-23T06:00:00Z";
        signed_until(&scene, &keys, made, &keys, Some(expires));
    };
    until("2026-11-23T06:30:00Z");
    let ran = vshelf(&scene, &["catalog"]);
    assert_eq!(ran.code, 5, "{ran}");
    let told = "catalog.json was to be relied on until 2026-11-23T06:30:00Z";
    assert!(ran.stderr.contains(told), "{ran}");
    until("2026-12-01T00:00:00Z");
    assert_eq!(vshelf(&scene, &["catalog"]).code, 0);
    let mut later = scene.command(PROGRAM);
    later.env("VSHELF_TODAY", "2026-12-02").arg("catalog");
    let ran = scene.run(&mut later);
    // What is kept still serves, and why it is not renewed is told.
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stderr.contains("was to be relied on until"), "{ran}");
}

#[test]
fn a_catalog_in_a_folder_is_read_anew_each_time() {
    let scene = Scene::new();
    scene.does(&["mirror", "8.3.1", "--to", "site"]);
    let other = Scene::new();
    let place = scene.path("site/marram/marram.toml").display().to_string();
    other.does(&["runtimes", "--add", &place]);
    let first = other.does(&["catalog"]).stdout;
    assert!(!first.contains("6.20.2"), "{first}");
    scene.does(&["mirror", "8.3.1", "6.20.2", "--to", "site"]);
    let next = other.does(&["catalog"]).stdout;
    assert!(next.contains("6.20.2"), "{next}");
}

#[test]
fn every_source_that_was_asked_is_told() {
    let scene = Scene::with_faults(&[]);
    let source = |name: &str| {
        format!(
            "[[sources]]\nname = \"{name}\"\nkind = \"catalog\"\naddress = \"@ADDRESS@/{name}.json\"\n"
        )
    };
    scene.sources(&(source("near") + &source("far")));
    let ran = vshelf(&scene, &["catalog"]);
    assert_eq!(ran.code, 4, "{ran}");
    for told in [
        "Error: no source of Marram answers.",
        "near: [SERVER]/near.json answers with status 404",
        "far: [SERVER]/far.json answers with status 404",
    ] {
        assert!(ran.stderr.contains(told), "{told}\n{ran}");
    }
}

#[test]
fn a_password_in_an_address_is_seen_nowhere() {
    let scene = Scene::with_faults(&[]);
    let address = scene
        .server()
        .address()
        .replace("http://", "http://gull:s3cret@");
    let definition = vshelf_demo::definition(&address);
    scene.write(".config/vivid-shelf/runtimes/marram.toml", &definition);
    let mut said = String::new();
    for arguments in [
        &["catalog"][..],
        &["catalog", "8.3.1"],
        &["install", "8"],
        &["explain", "8"],
        &["runtimes"],
        &["config"],
        &["catalog", "8.3.1", "--json"],
        &["history", "--json"],
    ] {
        let ran = vshelf(&scene, arguments);
        assert_eq!(ran.code, 0, "{ran}");
        said += &ran.to_string();
    }
    scene.server().misbehave(&[Fault::Status(403)]);
    said += &vshelf(&scene, &["catalog", "--refresh"]).to_string();
    assert!(!said.contains("s3cret"), "{said}");
    let find = "grep -rl s3cret . --include='*' | sort";
    let found = scene.run(scene.command("/bin/sh").args(["-c", find]));
    assert_eq!(found.stdout, "./.config/vivid-shelf/runtimes/marram.toml\n");
}

#[test]
fn names_that_a_shell_or_terminal_would_understand_are_refused() {
    let scene = Scene::new();
    scene.does(&["mirror", "8.3.1", "--to", "site"]);
    let document = scene.path("site/marram/catalog.json");
    let sound = fs::read_to_string(&document).unwrap();
    let place = scene.path("site/marram/marram.toml").display().to_string();
    for (from, to) in [
        (
            "\"channels\": {",
            "\"channels\": {\"rr;touch${IFS}x;\": \"8.3.1\",",
        ),
        ("\"channels\": {", "\"channels\": {\"odd\": \"`id`\","),
        ("\"Eelgrass\"", "\"Eel\u{202e}grass\""),
        ("\"line\": \"8\"", "\"line\": \"8\\n\""),
    ] {
        let hostile = sound
            .replace(from, to)
            .replace(",}", "}")
            .replace(",\n  }", "\n  }");
        assert_ne!(hostile, sound, "{from}");
        fs::write(&document, hostile).unwrap();
        let other = Scene::new();
        other.does(&["runtimes", "--add", &place]);
        let ran = other.vshelf(&["catalog"]);
        assert_eq!(ran.code, 4, "{to}: {ran}");
        assert!(ran.stderr.contains("is not a catalog"), "{to}: {ran}");
    }
}
