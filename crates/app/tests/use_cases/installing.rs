//! Installing, adopting, mirroring.

use std::fs;

use vshelf_app::adopt::{AdoptRequest, Name, adopt};
use vshelf_app::install::conclude::Takeover;
use vshelf_app::install::job::JobOptions;
use vshelf_app::install::request::InstallRequest;
use vshelf_app::install::run::install;
use vshelf_app::mirror::{Destination, MirrorRequest, PublishedCatalog, mirror};
use vshelf_app::runtime::published::Extent;
use vshelf_app::runtimes;
use vshelf_app::{Class, Error, Runtime};
use vshelf_demo::server::{Fault, StandIn};

use crate::scene::{Recorder, Scene, names_in, request, requests};

#[test]
fn the_first_install_becomes_the_default_and_later_ones_do_not() {
    let scene = Scene::new();
    let first = scene.install(&["lts"]);
    assert!(
        first.was_told(&["Installed(", "Marram 8.3.1"]),
        "{:?}",
        first.told()
    );
    assert!(
        first.was_told(&["Concluded {", "became_default: true"]),
        "{:?}",
        first.told()
    );
    let second = scene.install(&["6"]);
    assert!(
        second.was_told(&["Concluded {", "became_default: false"]),
        "{:?}",
        second.told()
    );
    assert_eq!(scene.on_shelf(), ["8.3.1", "6.20.2"]);
    assert_eq!(scene.default().as_deref(), Some("8.3.1"));
}

#[test]
fn what_is_there_is_not_fetched_again_unless_that_is_asked_for() {
    let scene = Scene::with(&["8.3.1"]);
    let archives = || {
        let requests = scene.server.requests();
        requests
            .iter()
            .filter(|request| request.contains("8.3.1"))
            .count()
    };
    let before = archives();
    let again = scene.install(&["8.3.1"]);
    assert!(
        again.was_told(&["Installed(", "new: None"]),
        "{:?}",
        again.told()
    );
    assert_eq!(archives(), before);
    let asked = InstallRequest {
        requests: requests(&["8.3.1"]),
        options: JobOptions {
            again: true,
            ..JobOptions::default()
        },
        ..InstallRequest::default()
    };
    install(&scene.environment(), asked, &Recorder::default()).unwrap();
    assert!(archives() > before);
}

#[test]
fn one_that_fails_stops_no_other_and_all_failures_are_told() {
    let scene = Scene::new();
    let recorder = Recorder::default();
    let asked = InstallRequest {
        requests: requests(&["77", "8.3.1", "9.99"]),
        ..InstallRequest::default()
    };
    let error = install(&scene.environment(), asked, &recorder).unwrap_err();
    assert_eq!(error.class(), Class::NoMatch);
    assert!(
        recorder.was_told(&["Failed(", "Resolve"]),
        "{:?}",
        recorder.told()
    );
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
}

/// A second source behind the first one of the definition.
fn with_second_source(scene: &Scene, second: &StandIn) {
    let source = |name: &str, address: &str| {
        format!(
            "[[sources]]\nname = \"{name}\"\nkind = \"catalog\"\naddress = \"{address}/catalog.json\"\n"
        )
    };
    let definition = vshelf_demo::definition(&scene.server.address());
    let head = definition.split("[[sources]]").next().unwrap();
    let sources = source("first", &scene.server.address()) + &source("second", &second.address());
    scene.write("config/runtimes/marram.toml", &format!("{head}{sources}"));
}

#[test]
fn another_source_gives_what_the_first_one_does_not() {
    let scene = Scene::new();
    let second = StandIn::start(None).unwrap();
    with_second_source(&scene, &second);
    let environment = scene.environment();
    let mut runtime = Runtime::named(&environment, None).unwrap();
    runtime.published.load(Extent::Releases).unwrap();
    scene.server.misbehave(&[Fault::Status(404)]);
    let recorder = scene.install(&["8.3.1"]);
    let told = ["SourceFailed", "source: \"first\"", "next: \"second\""];
    assert!(recorder.was_told(&told), "{:?}", recorder.told());
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
}

#[test]
fn wrong_bytes_are_no_reason_to_ask_another_source_and_leave_nothing() {
    let scene = Scene::new();
    let second = StandIn::start(None).unwrap();
    with_second_source(&scene, &second);
    scene.server.misbehave(&[Fault::WrongBytes]);
    let recorder = Recorder::default();
    let asked = InstallRequest {
        requests: requests(&["8.3.1"]),
        ..InstallRequest::default()
    };
    let error = install(&scene.environment(), asked, &recorder).unwrap_err();
    assert_eq!(error.class(), Class::Verification, "{error}");
    assert!(
        !recorder.was_told(&["SourceFailed"]),
        "{:?}",
        recorder.told()
    );
    assert_eq!(scene.on_shelf(), Vec::<String>::new());
    assert_eq!(names_in(&scene.path("data/staging")), Vec::<String>::new());
}

#[test]
fn packages_come_along_where_that_is_asked_for() {
    let scene = Scene::with(&["6.20.2"]);
    scene.write(
        "data/shelf/marram/saltmarsh-6.20.2/build/lib/marram/packages/tide-tables",
        "1.4.0\n",
    );
    let recorder = Recorder::default();
    let asked = InstallRequest {
        requests: requests(&["8"]),
        takeover: Takeover {
            default: true,
            switch: false,
        },
        carry_from: Some(request("6")),
        ..InstallRequest::default()
    };
    install(&scene.environment(), asked, &recorder).unwrap();
    assert!(
        recorder.was_told(&["Carried(", "tide-tables", "Installed"]),
        "{:?}",
        recorder.told()
    );
    assert_eq!(scene.default().as_deref(), Some("8.3.1"));
}

#[test]
fn a_folder_is_adopted_as_a_copy_or_as_a_link() {
    let scene = Scene::with(&["8.3.1"]);
    let build = scene.path("build");
    fs::rename(scene.install_folder("8.3.1"), &build).unwrap();
    let asked = |name: &str, link| AdoptRequest {
        path: build.clone(),
        name: Name::read(name).unwrap(),
        link,
    };
    let recorder = Recorder::default();
    adopt(&scene.environment(), asked("8.4.0", false), &recorder).unwrap();
    adopt(&scene.environment(), asked("8.5.0", true), &recorder).unwrap();
    assert!(
        recorder.was_told(&["Adopted", "8.4.0", "linked: false"]),
        "{:?}",
        recorder.told()
    );
    assert!(
        recorder.was_told(&["Adopted", "8.5.0", "linked: true"]),
        "{:?}",
        recorder.told()
    );
    let error = adopt(&scene.environment(), asked("8.4.0", false), &recorder).unwrap_err();
    assert!(matches!(error, Error::AlreadyAdopted { .. }), "{error:?}");
    let error = adopt(&scene.environment(), asked("marram@8.4.0", true), &recorder).unwrap_err();
    assert_eq!(error.class(), Class::Refused);
}

#[test]
fn a_mirror_is_a_source_of_its_own() {
    let scene = Scene::new();
    let asked = MirrorRequest {
        requests: requests(&["8.3.1", "6"]),
        to: Destination::Folder(scene.path("mirror")),
        sign_key: None,
        platforms: Vec::new(),
        every: false,
        builds: false,
    };
    let page = |runtime: &Runtime<'_>, published: &PublishedCatalog, key: Option<&str>| {
        let releases = published.catalog.releases.len();
        format!(
            "{} has {releases}, signed {}",
            runtime.name(),
            key.is_some()
        )
    };
    let mirrored = mirror(&scene.environment(), &asked, &page, &Recorder::default()).unwrap();
    let written = fs::read_to_string(scene.path("mirror/marram/index.html")).unwrap();
    assert_eq!(written, "marram has 2, signed false");
    assert!(mirrored.errors.is_empty(), "{:?}", mirrored.errors);
    let [marram] = &mirrored.runtimes[..] else {
        panic!("{mirrored:?}");
    };
    assert_eq!(
        (marram.builds.len(), marram.holds.0, marram.holds.1),
        (2, 2, 2)
    );

    let elsewhere = Scene::new();
    elsewhere.server.misbehave(&[Fault::Status(500)]);
    let definition = &marram.definition;
    runtimes::add(&elsewhere.environment(), definition, &Recorder::default()).unwrap();
    elsewhere.install(&["lts"]);
    assert_eq!(elsewhere.on_shelf(), ["8.3.1"]);
}
