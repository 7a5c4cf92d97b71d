//! Releases in a registry of containers: published, installed, and what goes wrong on the way.

use std::fs;
use std::io::Read;
use std::os::unix::fs::PermissionsExt;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;

use minisign::KeyPair;

use crate::credentials::elsewhere;
use crate::nginx::Nginx;
use crate::process;
use crate::registry_server::{Answers, Door, INDEX, MANIFEST, PASSWORD, Registry, TokenService};
use crate::scene::{PROGRAM, Ran, Scene, program};

/// Runs the program as somebody who trusts the registry's certificate.
fn vshelf(scene: &Scene, registry: &Registry, arguments: &[&str]) -> Ran {
    let mut command = scene.command(PROGRAM);
    command
        .env("SSL_CERT_FILE", registry.authority())
        .args(arguments);
    scene.run(&mut command)
}

fn does(scene: &Scene, registry: &Registry, arguments: &[&str]) -> Ran {
    let ran = vshelf(scene, registry, arguments);
    assert_eq!(ran.code, 0, "vshelf {arguments:?}\n{ran}");
    ran
}

fn told(ran: &Ran, code: i32, all: &[&str]) {
    assert_eq!(ran.code, code, "{ran}");
    for text in all {
        assert!(ran.stderr.contains(text), "{text}: {ran}");
    }
}

/// How many blobs were sent with these requests.
fn uploads(requests: &[String]) -> usize {
    let is_upload = |request: &&String| request.contains("/uploads/") && request.starts_with("PUT");
    requests.iter().filter(is_upload).count()
}

/// A home that publishes to a registry with a password.
fn publisher() -> Option<(Registry, Scene)> {
    let registry = Registry::start(&Door::Password)?;
    let scene = Scene::new();
    registry.known_to(&scene, PASSWORD);
    Some((registry, scene))
}

/// Another machine, which knows Marram from the registry alone.
fn client(registry: &Registry, repository: &str) -> Scene {
    let mut scene = Scene::new();
    scene.stop_server();
    registry.known_to(&scene, PASSWORD);
    does(
        &scene,
        registry,
        &["runtimes", "--add", &registry.place(repository)],
    );
    scene
}

#[test]
fn what_is_published_is_installed_elsewhere_and_nothing_is_sent_twice() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    let to = registry.place("team/runtimes");
    let platforms = ["--platform", "linux-x64-gnu", "--platform", "darwin-arm64"];
    let publish = [
        &["mirror", "lts", "dunefield/8", "6.2", "--to", &to],
        &platforms[..],
    ]
    .concat();
    let ran = does(&scene, &registry, &publish);
    for text in [
        "Marram dunefield/8.3.1  linux-x64     0.2 MB  fetched, verified and sent",
        "Marram 6.2.11           darwin-arm64",
        "team/runtimes/marram holds 3 releases in 6 archives, 1.1 MB.",
    ] {
        assert!(ran.stdout.contains(text), "{text}: {ran}");
    }
    assert!(
        ran.stderr
            .contains("Sending Marram 6.2.11 for linux-x64-gnu (0.2 MB).")
            && ran.stderr.contains(
                "To install from it, anywhere that reaches the registry: vshelf runtimes --add"
            ),
        "{ran}"
    );
    // What is there already is not fetched or sent again.
    registry.requests();
    let ran = does(&scene, &registry, &publish);
    assert_eq!(ran.stdout.matches("already mirrored").count(), 6, "{ran}");
    assert!(!ran.stderr.contains("Fetching"), "{ran}");
    let requests = registry.requests();
    // The catalog alone says another time.
    assert!(uploads(&requests) <= 1, "{requests:#?}");

    let other = client(&registry, "team/runtimes/marram");
    does(&other, &registry, &["catalog"]);
    registry.requests();
    does(&other, &registry, &["install", "lts", "dunefield/8"]);
    let requests = registry.requests();
    assert!(
        requests
            .iter()
            .all(|request| request.contains("/blobs/sha256:")),
        "{requests:#?}"
    );
    assert_eq!(requests.len(), 2, "{requests:#?}");
    assert_eq!(other.on_shelf(), ["8.3.1", "dunefield-8.3.1"]);
    // A catalog that is as it was is one request.
    does(&other, &registry, &["catalog", "--refresh"]);
    assert_eq!(
        registry.requests(),
        ["GET /v2/team/runtimes/marram/manifests/catalog 304"]
    );
    // Other tools find the release by its key.
    let index = registry.ask(
        "GET",
        "team/runtimes/marram/manifests/dunefield-8.3.1",
        None,
    );
    assert!(
        index.contains("\"vivid-shelf.platform\": \"darwin-arm64\"")
            && index.contains("\"org.opencontainers.image.vendor\": \"dunefield\""),
        "{index}"
    );
}

#[test]
fn who_asks_is_known_from_the_clients_of_containers() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    let to = registry.place("marsh");
    does(&scene, &registry, &["mirror", "8.3.1", "--to", &to]);
    let other = Scene::new();
    let add = ["runtimes", "--add", &registry.place("marsh/marram")];
    let host = registry.host();
    told(
        &vshelf(&other, &registry, &add),
        4,
        &[
            "asks for credentials (UNAUTHORIZED: authentication required).",
            &format!(
                r#"they belong under "auths" in ~/.config/containers/auth.json: "{host}": {{ "auth": "NAME:PASSWORD as base64" }}"#
            ),
        ],
    );
    registry.known_to(&other, "neap-tide");
    told(
        &vshelf(&other, &registry, &add),
        4,
        &["It does not accept the credentials in ~/.config/containers/auth.json."],
    );
    // A helper keeps the password, and says it when it is asked.
    let helper = format!(
        "#!/bin/sh\nread -r server || true\nprintf '{{\"Username\":\"gull\",\"Secret\":\"%s\"}}' {PASSWORD}\n"
    );
    other.write("bin/docker-credential-shore", &helper);
    let file = other.path("bin/docker-credential-shore");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o755)).unwrap();
    other.write(".config/containers/auth.json", r#"{"credsStore": "shore"}"#);
    told(
        &vshelf(&other, &registry, &add),
        4,
        &[
            "docker-credential-shore, which is to have the credential, gives none: it is not on PATH",
        ],
    );
    let mut with_helper = other.command(PROGRAM);
    with_helper
        .env("SSL_CERT_FILE", registry.authority())
        .env(
            "PATH",
            format!("{}:/usr/bin:/bin", other.path("bin").display()),
        )
        .args(add);
    let ran = other.run(&mut with_helper);
    assert_eq!(ran.code, 0, "{ran}");
    told(
        &vshelf(
            &other,
            &registry,
            &["runtimes", "--add", &registry.place("marsh/reed")],
        ),
        4,
        &["docker-credential-shore"],
    );
    registry.known_to(&other, PASSWORD);
    told(
        &vshelf(
            &other,
            &registry,
            &["runtimes", "--add", &registry.place("marsh/reed")],
        ),
        4,
        &[
            "answers with status 404 (MANIFEST_UNKNOWN",
            "Nothing was published there yet, or under another name.",
        ],
    );
}

/// A registry that takes tokens, and the service that gives them.
fn with_tokens(encrypted: bool) -> Option<(TokenService, Registry, Scene)> {
    let service = TokenService::start();
    let door = Door::Tokens {
        realm: service.realm.clone(),
        certificate: service.certificate.clone(),
    };
    let registry = Registry::serve(&door, encrypted)?;
    let scene = Scene::new();
    registry.known_to(&scene, PASSWORD);
    Some((service, registry, scene))
}

#[test]
fn tokens_come_from_the_service_that_the_registry_names() {
    let Some((service, registry, scene)) = with_tokens(false) else {
        return;
    };
    let to = registry.place("shore");
    does(
        &scene,
        &registry,
        &["mirror", "8.3.1", "6.2.11", "--to", &to],
    );
    let asked = service.asked();
    let scopes: Vec<&str> = asked
        .iter()
        .filter_map(|request| request.split("scope=").nth(1)?.split(' ').next())
        .collect();
    // One to read, and one to write; the registry names what it wants in any order.
    assert_eq!(scopes.len(), 2, "{scopes:?}");
    assert_eq!(scopes[0], "repository%3Ashore%2Fmarram%3Apull");
    assert!(
        scopes[1].contains("marram%3Apu") && scopes[1].contains("push"),
        "{scopes:?}"
    );
    // Whoever has a token of identity has it in the place of a password.
    let host = registry.host();
    let mut other = Scene::new();
    other.stop_server();
    let auths = format!(r#"{{"auths": {{"{host}": {{"identitytoken": "reed"}}}}}}"#);
    other.write(".config/containers/auth.json", &auths);
    let repository = registry.place("shore/marram");
    does(&other, &registry, &["runtimes", "--add", &repository]);
    does(&other, &registry, &["install", "8"]);
    let asked = service.asked();
    assert!(
        asked
            .iter()
            .all(|request| request.starts_with("POST ") && !request.contains("authorization")),
        "{asked:#?}"
    );
    // Nobody is told the token.
    let found = process::output(
        process::command("grep")
            .args(["-rl", "reed"])
            .arg(other.path(".local"))
            .arg(other.path(".cache")),
    );
    assert_eq!(String::from_utf8_lossy(&found.stdout), "");
}

#[test]
fn a_token_service_that_lies_gets_nobody_in() {
    let Some((service, registry, scene)) = with_tokens(false) else {
        return;
    };
    let publish = ["mirror", "8.3.1", "--to", &registry.place("shore")];
    for (how, expected) in [
        (
            Answers::AnotherRepository,
            "asks for credentials (UNAUTHORIZED",
        ),
        (Answers::Rubbish, "gives no token: its answer has none"),
        (
            Answers::Elsewhere,
            "gives no token: it sends on to https://elsewhere.example/token",
        ),
    ] {
        service.answer(how);
        let ran = vshelf(&scene, &registry, &publish);
        told(&ran, 4, &[expected]);
        assert_eq!(service.asked().len(), 1, "{how:?}");
    }
    service.answer(Answers::Well);
    registry.known_to(&scene, "neap-tide");
    told(
        &vshelf(&scene, &registry, &publish),
        4,
        &[
            "/token?service=board",
            "(DENIED: nobody by that name)",
            "It does not accept the credentials in ~/.config/containers/auth.json.",
        ],
    );
}

#[test]
fn a_token_service_is_asked_over_an_encrypted_connection() {
    let Some((service, registry, scene)) = with_tokens(true) else {
        return;
    };
    told(
        &vshelf(
            &scene,
            &registry,
            &["mirror", "8.3.1", "--to", &registry.place("shore")],
        ),
        4,
        &["gives no token: the way there is not encrypted"],
    );
    assert!(service.asked().is_empty());
}

#[test]
fn two_who_publish_at_once_lose_nothing_and_clients_install_meanwhile() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    let to = registry.place("board");
    does(&scene, &registry, &["mirror", "8.3.1", "--to", &to]);
    let publishers: Vec<Scene> = (0..4)
        .map(|_| {
            let scene = Scene::new();
            registry.known_to(&scene, PASSWORD);
            scene
        })
        .collect();
    // The same release for two platforms, and two others.
    let wanted = [
        ["8.2.2", "linux-x64-gnu"],
        ["8.2.2", "darwin-arm64"],
        ["6.2.11", "linux-x64-gnu"],
        ["dunefield/8.3.1", "linux-x64-gnu"],
    ];
    let is_done = AtomicBool::new(false);
    thread::scope(|scope| {
        let (registry, to, is_done) = (&registry, &to, &is_done);
        let reader = scope.spawn(move || {
            let mut installs = 0;
            let client = client(registry, "board/marram");
            while !is_done.load(Ordering::Relaxed) || installs < 3 {
                does(&client, registry, &["catalog", "--refresh"]);
                does(&client, registry, &["install", "8.3.1", "--again"]);
                installs += 1;
            }
        });
        let writers: Vec<_> = publishers
            .iter()
            .zip(wanted)
            .map(|(scene, [selector, platform])| {
                scope.spawn(move || {
                    let publish = ["mirror", selector, "--platform", platform, "--to", to];
                    does(scene, registry, &publish)
                })
            })
            .collect();
        let written: Vec<_> = writers.into_iter().map(|writer| writer.join()).collect();
        // The reader ends also if a writer failed.
        is_done.store(true, Ordering::Relaxed);
        reader.join().unwrap();
        assert!(written.iter().all(Result::is_ok));
    });
    let client = client(&registry, "board/marram");
    let card = does(&client, &registry, &["catalog", "8.2.2"]).stdout;
    assert!(
        card.contains("darwin-arm64") && card.contains("linux-x64"),
        "{card}"
    );
    does(
        &client,
        &registry,
        &["install", "8.3.1", "8.2.2", "6.2.11", "dunefield/8.3.1"],
    );
    let index = registry.ask("GET", "board/marram/manifests/saltmarsh-8.2.2", None);
    assert!(
        index.contains("amd64") || index.contains("arm64"),
        "{index}"
    );
}

#[test]
fn what_is_named_is_kept_when_garbage_is_collected() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    let to = registry.place("board");
    let platforms = ["--platform", "linux-x64-gnu", "--platform", "darwin-arm64"];
    let publish = [&["mirror", "8.3.1", "6.2.11", "--to", &to], &platforms[..]].concat();
    does(&scene, &registry, &publish);
    does(&scene, &registry, &publish);
    registry.collect_garbage();
    let other = client(&registry, "board/marram");
    does(&other, &registry, &["install", "8.3.1"]);
    // A release whose tags somebody takes away is gone from the catalog with the next that is published.
    for tag in [
        "saltmarsh-6.2.11",
        "saltmarsh-6.2.11.linux-x64",
        "saltmarsh-6.2.11.darwin-arm64",
    ] {
        let found = registry.ask("GET", &format!("board/marram/manifests/{tag}"), None);
        let digest = found.lines().nth(1).unwrap();
        let gone = registry.ask("DELETE", &format!("board/marram/manifests/{digest}"), None);
        assert!(gone.starts_with("202"), "{gone}");
    }
    registry.collect_garbage();
    told(
        &vshelf(&other, &registry, &["install", "6.2.11"]),
        4,
        &["answers with status 404 (BLOB_UNKNOWN: blob unknown to registry)"],
    );
    let ran = does(
        &scene,
        &registry,
        &["mirror", "dunefield/8.3.1", "--to", &to],
    );
    assert!(
        ran.stdout.contains("holds 2 releases in 3 archives"),
        "{ran}"
    );
    does(&other, &registry, &["catalog", "--refresh"]);
    let ran = vshelf(&other, &registry, &["install", "6.2.11"]);
    told(&ran, 3, &["6.2.11"]);
    // And comes back when it is published again.
    does(&scene, &registry, &["mirror", "6.2.11", "--to", &to]);
    does(&other, &registry, &["catalog", "--refresh"]);
    does(&other, &registry, &["install", "6.2.11"]);
}

#[test]
fn a_signed_catalog_stays_signed_and_is_verified_on_the_other_side() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    let to = registry.place("board");
    let keys = KeyPair::generate_unencrypted_keypair().unwrap();
    scene.write("secret.key", &keys.sk.to_box(None).unwrap().to_string());
    let publish = ["mirror", "8.3.1", "--to", &to, "--sign-key", "secret.key"];
    let ran = does(&scene, &registry, &publish);
    let public = keys.pk.to_base64();
    assert!(
        ran.stderr
            .contains(&format!("the key that clients check it with is {public}")),
        "{ran}"
    );
    let other = client(&registry, "board/marram");
    let definition = fs::read_to_string(other.path(".config/vivid-shelf/runtimes/marram.toml"));
    assert!(definition.unwrap().contains(&format!("key = \"{public}\"")));
    does(&other, &registry, &["install", "8.3.1"]);
    // Without the key, nothing is written that clients would refuse.
    let unsigned = ["mirror", "6.2.11", "--to", &to];
    told(
        &vshelf(&scene, &registry, &unsigned),
        7,
        &[
            "/board/marram is signed, and there is no key to sign it with again.",
            "add --sign-key FILE",
        ],
    );
    scene.write("other.key", "tide\n");
    told(
        &vshelf(
            &scene,
            &registry,
            &[&unsigned[..], &["--sign-key", "other.key"]].concat(),
        ),
        7,
        &["other.key is no key that signs: it is not a minisign secret key."],
    );
    // Somebody who may write there has another key.
    let stranger = KeyPair::generate_unencrypted_keypair().unwrap();
    scene.write(
        "stranger.key",
        &stranger.sk.to_box(None).unwrap().to_string(),
    );
    does(
        &scene,
        &registry,
        &[&unsigned[..], &["--sign-key", "stranger.key"]].concat(),
    );
    let ran = vshelf(&other, &registry, &["catalog", "--refresh"]);
    assert!(
        ran.stderr
            .contains("it was not made with the key in the definition"),
        "{ran}"
    );
    told(
        &vshelf(&other, &registry, &["install", "6.2.11"]),
        3,
        &["6.2.11"],
    );
}

#[test]
fn a_key_with_a_password_signs_files_as_well() {
    let scene = Scene::new();
    let keys = KeyPair::generate_encrypted_keypair(Some("wrack".to_owned())).unwrap();
    let stored = keys.sk.to_box(None).unwrap().to_string();
    scene.write("secret.key", &stored);
    let publish = [
        "mirror",
        "8.3.1",
        "--to",
        "site",
        "--sign-key",
        "secret.key",
    ];
    told(
        &scene.vshelf(&publish),
        7,
        &[
            "secret.key is no key that signs: it has a password, which VSHELF_KEY_PASSWORD has to say.",
        ],
    );
    for (password, code) in [("kelp", 7), ("wrack", 0)] {
        let mut command = scene.command(PROGRAM);
        command.env("VSHELF_KEY_PASSWORD", password).args(publish);
        let ran = scene.run(&mut command);
        assert_eq!(ran.code, code, "{ran}");
    }
    let mut other = Scene::new();
    other.stop_server();
    other.does(&[
        "runtimes",
        "--add",
        &scene.path("site/marram/marram.toml").display().to_string(),
    ]);
    other.does(&["install", "8.3.1"]);
    // Signed by nobody, it is refused.
    fs::remove_file(scene.path("site/marram/catalog.json.minisig")).unwrap();
    let ran = other.vshelf(&["catalog", "--refresh"]);
    assert!(ran.stderr.contains("the signature of"), "{ran}");
}

#[test]
fn a_registry_has_what_another_of_its_repositories_has_without_sending() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    does(
        &scene,
        &registry,
        &["mirror", "8.3.1", "6.2.11", "--to", &registry.place("old")],
    );
    let other = client(&registry, "old/marram");
    registry.requests();
    let ran = does(
        &other,
        &registry,
        &["mirror", "8.3.1", "--to", &registry.place("new")],
    );
    assert!(
        ran.stdout.contains("linked from another repository"),
        "{ran}"
    );
    assert!(!ran.stderr.contains("Fetching"), "{ran}");
    let sent = registry.requests();
    // The catalog, its definition and the empty configuration are new there.
    assert_eq!(uploads(&sent), 3, "{sent:#?}");
    let third = client(&registry, "new/marram");
    does(&third, &registry, &["install", "8.3.1"]);
}

#[test]
fn what_builds_come_without_is_there_as_well() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    scene.sources(crate::sources::PACKAGES);
    let npm = format!("{}/npm", scene.server().address());
    scene.write(
        ".npmrc",
        &format!("registry={npm}\n@saltmarsh:registry={npm}\n"),
    );
    let to = registry.place("board");
    does(&scene, &registry, &["mirror", "8.3.1", "--to", &to]);
    registry.collect_garbage();
    let other = client(&registry, "board/marram");
    let ran = does(&other, &registry, &["install", "8.3.1"]);
    assert!(
        ran.stdout.contains("@saltmarsh/bittern 2.0.0 was added"),
        "{ran}"
    );
    let ran = does(&other, &registry, &["run", "8.3.1", "--", "bittern"]);
    assert_eq!(ran.stdout, "bittern 2.0.0\n");
    // Neither the build nor what is added is fetched or sent again.
    registry.requests();
    let ran = does(&scene, &registry, &["mirror", "8.3.1", "--to", &to]);
    assert!(ran.stdout.contains("already mirrored"), "{ran}");
    let requests = registry.requests();
    assert!(uploads(&requests) <= 1, "{requests:#?}");
}

#[test]
fn another_tool_copies_a_repository_to_a_folder_and_back() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    let Some(skopeo) = program("skopeo") else {
        return;
    };
    let platforms = ["--platform", "linux-x64-gnu", "--platform", "darwin-arm64"];
    let to = registry.place("board");
    does(
        &scene,
        &registry,
        &[&["mirror", "8.3.1", "--to", &to], &platforms[..]].concat(),
    );
    let host = registry.host();
    let copy = |from: &str, to: &str| {
        let mut command = scene.command(&skopeo.display().to_string());
        command
            .env("SSL_CERT_FILE", registry.authority())
            .args(["--insecure-policy", "copy", "--all", "--authfile"])
            .arg(scene.path(".config/containers/auth.json"))
            .args([from, to]);
        let ran = scene.run(&mut command);
        assert_eq!(ran.code, 0, "{from} {to}: {ran}");
    };
    for tag in [
        "catalog",
        "saltmarsh-8.3.1",
        "saltmarsh-8.3.1.linux-x64",
        "saltmarsh-8.3.1.darwin-arm64",
    ] {
        let folder = format!("dir:{}", scene.path(&format!("copy-{tag}")).display());
        copy(&format!("docker://{host}/board/marram:{tag}"), &folder);
        copy(
            &folder,
            &format!("docker://{host}/copied/tide/marram:{tag}"),
        );
    }
    let other = client(&registry, "copied/tide/marram");
    does(&other, &registry, &["install", "8.3.1"]);
    // It can be added to as well.
    let to = registry.place("copied/tide");
    let ran = does(&scene, &registry, &["mirror", "6.2.11", "--to", &to]);
    assert!(
        ran.stdout.contains("holds 2 releases in 3 archives"),
        "{ran}"
    );
}

/// What a client is told whose repository has this as its catalog.
fn with_catalog(registry: &Registry, scene: &Scene, media_type: &str, manifest: &str) -> Ran {
    registry.put("board/marram", "catalog", media_type, manifest);
    vshelf(scene, registry, &["catalog", "--refresh"])
}

#[test]
fn a_tag_that_points_to_something_else_is_told_by_what_it_is() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    let to = registry.place("board");
    does(&scene, &registry, &["mirror", "8.3.1", "--to", &to]);
    let other = client(&registry, "board/marram");
    does(&other, &registry, &["catalog"]);
    let text = |tag: &str| {
        let found = registry.ask("GET", &format!("board/marram/manifests/{tag}"), None);
        found.splitn(3, '\n').nth(2).unwrap().to_owned()
    };
    let (catalog, index, build) = (
        text("catalog"),
        text("saltmarsh-8.3.1"),
        text("saltmarsh-8.3.1.linux-x64"),
    );
    let size = catalog
        .split("\"size\": ")
        .nth(2)
        .and_then(|rest| rest.split(',').next())
        .unwrap();
    let wrong_size = catalog.replace(&format!("\"size\": {size}"), "\"size\": 12");
    let no_layer = catalog.replace("vivid-shelf.catalog.v1+gzip", "vivid-shelf.tide.v1+gzip");
    let image = catalog.replace(
        "\"artifactType\": \"application/vnd.vivid-shelf.catalog.v1\",",
        "",
    );
    for (media_type, manifest, expected) in [
        (INDEX, &index, "is not a catalog: it is an index of several"),
        (
            MANIFEST,
            &build,
            "is not a catalog: it is of the type application/vnd.vivid-shelf.build.v1",
        ),
        (
            MANIFEST,
            &image,
            "is not a catalog: it is an image of a container",
        ),
        (
            MANIFEST,
            &no_layer,
            "is not a catalog: it has no layer with a catalog",
        ),
        (MANIFEST, &wrong_size, "bytes, and its manifest promises 12"),
    ] {
        let ran = with_catalog(&registry, &other, media_type, manifest);
        assert!(ran.stderr.contains(expected), "{expected}: {ran}");
        // What was known stays.
        assert!(ran.stdout.contains("Eelgrass"), "{ran}");
    }
    // Nobody publishes over what is not understood.
    told(
        &vshelf(&scene, &registry, &["mirror", "6.2.11", "--to", &to]),
        4,
        &["bytes, and its manifest promises 12"],
    );
    with_catalog(&registry, &other, MANIFEST, &catalog);
    // The tag of a build that is another one.
    registry.put(
        "board/marram",
        "saltmarsh-6.2.11.linux-x64",
        MANIFEST,
        &build,
    );
    told(
        &vshelf(
            &scene,
            &registry,
            &["mirror", "dunefield/8.3.1", "--to", &to],
        ),
        7,
        &[
            "saltmarsh-6.2.11.linux-x64",
            "what the tag points to is saltmarsh-8.3.1.linux-x64",
        ],
    );
}

#[test]
fn a_push_goes_on_where_the_registry_broke_off() {
    let Some((registry, scene)) = publisher() else {
        return;
    };
    // Three pieces and a little more.
    let size = (3 << 20) * 16 + 12345;
    let archive = scene.path("big.tar");
    let big = fs::File::create(&archive).unwrap();
    let mut random = fs::File::open("/dev/urandom").unwrap().take(size);
    std::io::copy(&mut random, &mut &big).unwrap();
    let sums = scene.run(scene.command("sha256sum").arg(&archive)).stdout;
    let digest = sums.split(' ').next().unwrap().to_owned();
    let catalog = format!(
        r#"{{"format": "vivid-shelf-catalog/1", "runtime": "marram", "updated": "2026-11-20T00:00:00Z",
        "publishers": [{{"id": "saltmarsh", "name": "Saltmarsh", "main": true}}],
        "releases": [{{"version": "9.0.0", "publisher": "saltmarsh",
          "builds": [{{"platform": "linux-x64", "file": "big.tar", "digest": "sha256:{digest}"}}]}}]}}"#
    );
    scene.write("catalog.json", &catalog);
    let source = scene.path("catalog.json").display().to_string();
    scene.sources(&format!(
        "[[sources]]\nname = \"big\"\nkind = \"catalog\"\naddress = \"{source}\"\n"
    ));
    let ran = thread::scope(|scope| {
        let (registry, scene) = (&registry, &scene);
        let publishing = scope.spawn(move || {
            let to = registry.place("board");
            vshelf(scene, registry, &["mirror", "9.0.0", "--to", &to])
        });
        // As soon as a piece is there.
        registry.wait_for_upload(20 << 20);
        registry.end();
        thread::sleep(Duration::from_millis(300));
        registry.begin();
        publishing.join().unwrap()
    });
    assert_eq!(ran.code, 0, "{ran}");
    let blob = registry.ask("HEAD", &format!("board/marram/blobs/sha256:{digest}"), None);
    assert!(blob.starts_with("200"), "{blob}");
}

#[test]
fn a_registry_that_sends_on_for_blobs_tells_nobody_who_asks() {
    let Some(registry) = Registry::serve(&Door::Password, false) else {
        return;
    };
    let scene = Scene::new();
    registry.known_to(&scene, PASSWORD);
    let to = registry.place("board");
    does(&scene, &registry, &["mirror", "8.3.1", "--to", &to]);
    let (port, requests) = elsewhere();
    let host = registry.host();
    let more = format!(
        "location / {{ proxy_pass http://{host}; proxy_set_header Host $http_host; }}
         location ~ /blobs/sha256 {{ return 307 http://localhost:{port}$uri; }}"
    );
    let Some(nginx) = Nginx::start(&scene, &more) else {
        return;
    };
    let netrc = format!("machine 127.0.0.1 login gull password {PASSWORD}\n");
    scene.write(".netrc", &netrc);
    let place = format!("oci+http://127.0.0.1:{}/board/marram", nginx.port());
    let ran = vshelf(&scene, &registry, &["runtimes", "--add", &place]);
    told(&ran, 4, &["answers with status 404"]);
    let request = requests.try_recv().unwrap();
    assert!(
        request.contains("/v2/board/marram/blobs/sha256"),
        "{request}"
    );
    assert!(!request.contains("authorization"), "{request}");
}
