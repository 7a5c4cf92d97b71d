//! What projects require, and what shells are told of it.

use std::fs;

use vshelf_app::install::request::required;
use vshelf_app::integrate::entering::{self, Notice};
use vshelf_app::outcome::WayToConnect;
use vshelf_app::require::{self, ShellAfterRequire};
use vshelf_app::{Answer, Error};
use vshelf_core::Pick;

use crate::scene::{Recorder, Scene, names_in, request};

#[test]
fn a_requirement_is_written_as_asked() {
    let scene = Scene::with(&["8.3.1"]);
    let environment = scene.environment();
    let written =
        require::write(&environment, &request("lts"), None, &Recorder::default()).unwrap();
    assert_eq!(
        written.shell,
        ShellAfterRequire::NotConnected(WayToConnect::Connect)
    );
    assert_eq!(fs::read_to_string(&written.file).unwrap(), "lts\n");
    let missing = require::write(&environment, &request("9"), None, &Recorder::default()).unwrap();
    assert_eq!(missing.shell, ShellAfterRequire::NotOnShelf);
    let [required] = &require::show(&environment).unwrap()[..] else {
        panic!("one runtime is on the shelf");
    };
    assert!(required.standing.missing.is_some() && required.standing.satisfied_by.is_none());
    for selector in ["-", "default"] {
        let error = require::write(&environment, &request(selector), None, &Recorder::default())
            .unwrap_err();
        assert!(matches!(error, Error::PersonalSelector { .. }), "{error:?}");
    }
    assert_eq!(fs::read_to_string(&missing.file).unwrap(), "9\n");
}

#[test]
fn a_requirement_is_only_removed_where_it_is_a_plain_file_of_this_folder() {
    let scene = Scene::with(&["8.3.1"]);
    let environment = scene.environment();
    let plain = scene.write("project/.marram-version", "8\n");
    assert_eq!(require::remove(&environment, None).unwrap(), plain);
    assert!(!plain.exists());
    let error = require::remove(&environment, None).unwrap_err();
    assert!(matches!(error, Error::NoRequirement { .. }), "{error:?}");
    for (name, text) in [
        ("project/station.json", "{\"engines\": {\"marram\": \"8\"}}"),
        (".marram-version", "8\n"),
    ] {
        let kept = scene.write(name, text);
        let error = require::remove(&environment, None).unwrap_err();
        assert!(
            matches!(error, Error::RequirementElsewhere { .. }),
            "{error:?}"
        );
        assert_eq!(fs::read_to_string(&kept).unwrap(), text);
        fs::remove_file(kept).unwrap();
    }
}

#[test]
fn what_the_project_requires_can_be_installed() {
    let scene = Scene::new();
    let error = required(&scene.environment(), false, &Recorder::default()).unwrap_err();
    assert!(matches!(error, Error::NoRequirement { .. }), "{error:?}");
    scene.write("project/.marram-version", "6\n");
    let recorder = Recorder::default();
    let found = required(&scene.environment(), false, &recorder).unwrap();
    assert_eq!(found.requests, [request("marram@6")]);
    assert!(
        recorder.was_told(&["RequirementFound"]),
        "{:?}",
        recorder.told()
    );
}

#[test]
fn a_stamp_says_what_a_project_resulted_in() {
    let scene = Scene::with(&["6.20.2"]);
    scene.write("project/.marram-version", "6\n");
    let followed = entering::look(&Recorder::default(), &scene.environment()).unwrap();
    let six = Pick::Install("saltmarsh-6.20.2".parse().unwrap());
    assert_eq!(followed.picks.get("marram"), Some(&Some(six)));
    // It stands below the folder of stamps where the file stands below the root.
    let file = scene.path("project/.marram-version");
    let stamp = scene
        .path("cache/stamps")
        .join(file.strip_prefix("/").unwrap());
    assert_eq!(
        fs::read_to_string(stamp).unwrap(),
        "marram=saltmarsh-6.20.2\n"
    );
    // What requirements result in may be otherwise after an install.
    scene.install(&["8.3.1"]);
    assert_eq!(names_in(&scene.path("cache/stamps")), Vec::<String>::new());
}

#[test]
fn a_stamp_asks_again_if_anything_in_its_file_does() {
    let scene = Scene::with(&["8.3.1"]);
    let settings = "main-runtime = \"marram\"\nfollowing = \"ask\"\n";
    scene.write("config/shelf.toml", settings);
    scene.write("project/.marram-version", "lts\n");
    let yes = Recorder::answering(Answer::Yes);
    entering::look(&yes, &scene.environment()).unwrap();
    let file = scene.path("project/.marram-version");
    let stamps = scene.path("cache/stamps");
    let stamp = fs::read_to_string(stamps.join(file.strip_prefix("/").unwrap())).unwrap();
    // What lts means changes without anybody changing the file, whatever was answered.
    assert_eq!(stamp, "again marram=saltmarsh-8.3.1\n");
}

#[test]
fn a_person_is_asked_before_a_project_is_followed_where_the_settings_say_so() {
    let scene = Scene::with(&["6.20.2"]);
    scene.write(
        "config/shelf.toml",
        "main-runtime = \"marram\"\nfollowing = \"ask\"\n",
    );
    scene.write("project/.marram-version", "6\n");
    let no = Recorder::answering(Answer::No);
    let followed = entering::look(&no, &scene.environment()).unwrap();
    assert!(followed.picks.is_empty(), "{followed:?}");
    assert!(no.asked()[0].contains("FollowProject"), "{:?}", no.asked());
    let yes = Recorder::answering(Answer::Yes);
    let followed = entering::look(&yes, &scene.environment()).unwrap();
    assert_eq!(followed.picks.len(), 1);
}

#[test]
fn what_cannot_be_met_or_read_is_told() {
    let scene = Scene::with(&["6.20.2"]);
    scene.write("project/.marram-version", "9\n");
    let followed = entering::look(&Recorder::default(), &scene.environment()).unwrap();
    assert!(
        matches!(followed.notices[..], [Notice::Unmet { .. }]),
        "{followed:?}"
    );
    scene.write("project/.marram-version", ">=\n");
    let followed = entering::look(&Recorder::default(), &scene.environment()).unwrap();
    assert!(
        matches!(followed.notices[..], [Notice::Unusable(_)]),
        "{followed:?}"
    );
}

#[test]
fn what_a_project_requires_is_installed_where_a_person_agreed_to_it_once() {
    let scene = Scene::with(&["6.20.2"]);
    scene.write(
        "config/shelf.toml",
        "main-runtime = \"marram\"\nfollowing = \"install\"\n",
    );
    scene.write("project/.marram-version", "7.2.2\n");
    let look = |person: &Recorder| entering::look(person, &scene.environment()).unwrap();
    // Nobody to ask: nothing is fetched, and it is said what is missing.
    let followed = look(&Recorder::default());
    assert!(
        matches!(followed.notices[..], [Notice::Unmet { .. }]),
        "{followed:?}"
    );
    // A no is not discussed.
    let no = Recorder::answering(Answer::No);
    assert!(look(&no).notices.is_empty());
    assert!(no.asked()[0].contains("InstallRequired"));
    assert_eq!(scene.on_shelf(), ["6.20.2"]);
    let yes = Recorder::answering(Answer::Yes);
    let pick = |key: &str| Some(format!("saltmarsh-{key}").parse::<Pick>().unwrap());
    assert_eq!(look(&yes).picks["marram"], pick("7.2.2"));
    assert!(!yes.was_told(&["Concluded {"]), "{:?}", yes.told());
    // In this folder it goes without saying from now on.
    scene.write("project/.marram-version", "8.3.1\n");
    let nobody = Recorder::default();
    assert_eq!(look(&nobody).picks["marram"], pick("8.3.1"));
    assert_eq!(nobody.asked(), [] as [&str; 0]);
    // The reason why nothing could be installed is enough: the same command would fail again.
    scene.write("project/.marram-version", "99\n");
    let followed = look(&Recorder::default());
    assert!(
        matches!(followed.notices[..], [Notice::NotInstalled(_)]),
        "{followed:?}"
    );
}
