//! Connected shells: switching, following, connecting, launchers, running one command.

use std::fs;

use vshelf_app::integrate::connect::{self, ConnectionProblem};
use vshelf_app::integrate::launchers;
use vshelf_app::session::hand_over;
use vshelf_app::switch::{self, RunTarget, choose_for_run};
use vshelf_app::{Answer, Class, Error};
use vshelf_core::Pick;
use vshelf_shell::Dialect;
use vshelf_shell::start_up::Connection;

use crate::scene::{Recorder, Scene, names_in, request};

#[test]
fn a_shell_that_is_not_connected_is_not_switched() {
    let scene = Scene::with(&["8.3.1"]);
    let environment = scene.environment();
    let asked = || Some(request("8"));
    let switched = switch::switch(&environment, asked(), &Recorder::default());
    let error = switched.err().unwrap();
    assert!(
        matches!(error, Error::NotConnected { source_line: None }),
        "{error:?}"
    );
    connect::connect(&environment, Dialect::Bash).unwrap();
    let again = switch::switch(&environment, asked(), &Recorder::default());
    match again.err().unwrap() {
        Error::NotConnected {
            source_line: Some(line),
        } => assert!(line.contains("shelf.bash")),
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_switch_hands_over_what_changes_and_nothing_else() {
    let scene = Scene::with(&["8.3.1", "6"]);
    let environment = scene.connected();
    let switched = switch::switch(&environment, Some(request("6")), &Recorder::default()).unwrap();
    assert_eq!(
        switched.pick,
        Pick::Install("saltmarsh-6.20.2".parse().unwrap())
    );
    assert!(!switched.already);
    hand_over(&environment, &Recorder::default()).unwrap();
    let changes = fs::read_to_string(scene.path("changes")).unwrap();
    assert!(changes.contains("VSHELF_SWITCHED"), "{changes}");
    assert!(
        changes.contains("shelf/marram/saltmarsh-6.20.2/build"),
        "{changes}"
    );
}

#[test]
fn what_is_missing_is_offered_and_installed_where_somebody_says_yes() {
    let scene = Scene::with(&["8.3.1"]);
    let asked = Some(request("9"));
    let nobody = Recorder::default();
    let error = switch::switch(&scene.connected(), asked.clone(), &nobody)
        .err()
        .unwrap();
    assert_eq!(error.class(), Class::NoMatch);
    let somebody = Recorder::answering(Answer::Yes);
    let environment = scene.connected();
    let switched = switch::switch(&environment, asked, &somebody).unwrap();
    assert_eq!(
        switched.pick,
        Pick::Install("saltmarsh-9.2.0".parse().unwrap())
    );
    assert!(
        somebody.asked()[0].contains("InstallMissing"),
        "{:?}",
        somebody.asked()
    );
    assert_eq!(scene.on_shelf(), ["9.2.0", "8.3.1"]);
}

#[test]
fn a_shell_that_was_never_switched_has_nothing_to_follow_again() {
    let scene = Scene::with(&["8.3.1"]);
    let changes = scene.write("changes", "");
    let default = scene.path("data/default/marram/bin");
    let environment = scene.environment_with(&[
        ("VSHELF_SHELL", "bash"),
        ("VSHELF_EVALUATE", &changes.to_string_lossy()),
        ("PATH", &default.to_string_lossy()),
    ]);
    let followed = switch::follow(&environment, None).unwrap();
    assert!(!followed.changes);
    // Where its default does not answer, it is put in front.
    let environment = scene.connected();
    assert!(switch::follow(&environment, None).unwrap().changes);
}

#[test]
fn connecting_is_safe_to_repeat_and_can_be_taken_back() {
    let scene = Scene::new();
    scene.write(".bashrc", "alias tide='echo tide'\n");
    let first = connect::connect(&scene.environment(), Dialect::Bash).unwrap();
    assert!(first.new_lines.is_some() && first.renewed, "{first:?}");
    let again = connect::connect(&scene.environment(), Dialect::Bash).unwrap();
    assert!(again.new_lines.is_none() && !again.renewed, "{again:?}");
    assert_eq!(connect::problem(&scene.environment(), false).unwrap(), None);
    let (file, was_connected) = connect::disconnect(&scene.environment(), Dialect::Bash).unwrap();
    assert!(was_connected);
    assert_eq!(
        fs::read_to_string(file).unwrap(),
        "alias tide='echo tide'\n"
    );
    let problem = connect::problem(&scene.environment(), false).unwrap();
    let absent = Some(Connection::Absent);
    let state = problem.and_then(|problem| match problem {
        ConnectionProblem::StartUpFile(_, state) => Some(state),
        _ => None,
    });
    assert_eq!(state, absent);
}

#[test]
fn launchers_are_in_step_with_the_shelf() {
    let scene = Scene::new();
    let (folder, names) = launchers::make(&scene.environment()).unwrap();
    assert_eq!(names, ["marram"]);
    scene.install(&["8.3.1"]);
    assert_eq!(names_in(&folder), ["marram", "tussock"]);
    assert_eq!(
        launchers::remove(&scene.environment()).unwrap(),
        Some(folder)
    );
    assert_eq!(launchers::remove(&scene.environment()).unwrap(), None);
}

#[test]
fn one_command_runs_on_what_is_asked_for_or_active() {
    let scene = Scene::with(&["8.3.1", "6"]);
    let environment = scene.environment();
    let (_, pick) = choose_for_run(&environment, &RunTarget::Selected(request("6"))).unwrap();
    assert_eq!(pick.as_str(), "saltmarsh-6.20.2");
    let (_, pick) = choose_for_run(&environment, &RunTarget::Active(None)).unwrap();
    assert_eq!(pick.as_str(), "saltmarsh-8.3.1");
    let empty = Scene::new();
    let error = choose_for_run(&empty.environment(), &RunTarget::Active(None))
        .err()
        .unwrap();
    assert!(matches!(error, Error::NothingActive { .. }), "{error:?}");
}
