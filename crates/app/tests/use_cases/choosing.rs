//! Labels, defaults, runtimes, what is published.

use rstest::rstest;
use vshelf_app::catalog::{PhaseFilter, ReleaseFilter};
use vshelf_app::defaults::{self, ShellAfterDefault};
use vshelf_app::error::Taken;
use vshelf_app::outcome::WayToConnect;
use vshelf_app::runtime::published::Extent;
use vshelf_app::timeline::choose_lines;
use vshelf_app::{Class, Error, Runtime, labels, runtimes};
use vshelf_core::{Phase, Pick};

use crate::scene::{Scene, request};

#[test]
fn a_label_is_found_whatever_its_case_and_goes_by_its_name() {
    let scene = Scene::with(&["8.3.1", "6"]);
    let environment = scene.environment();
    let set = labels::set(&environment, "board", &request("6")).unwrap();
    assert!(set.on_shelf && set.before.is_none(), "{set:?}");
    let again = labels::set(&environment, "board", &request("8.3.1")).unwrap();
    assert_eq!(again.before.as_deref(), Some("6"));
    let found = labels::find(&environment, "BOARD").unwrap();
    assert_eq!(found.shown.as_deref(), Some("8.3.1"));
    assert_eq!(labels::remove(&environment, "Board").unwrap(), "board");
    let error = labels::find(&environment, "board").unwrap_err();
    assert!(matches!(error, Error::UnknownLabel { .. }), "{error:?}");
}

#[rstest]
#[case("lts", Taken::Keyword)]
#[case("v8", Taken::Version)]
#[case("samphire", Taken::CodeName)]
fn a_label_hides_nothing(#[case] name: &str, #[case] taken: Taken) {
    let scene = Scene::with(&["8.3.1"]);
    match labels::set(&scene.environment(), name, &request("8.3.1")) {
        Err(Error::NameTaken { by, .. }) => assert_eq!(by, taken),
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_default_is_kept_as_it_was_asked_for() {
    let scene = Scene::with(&["8.3.1", "6"]);
    let set = defaults::set(&scene.environment(), &request("marram@lts")).unwrap();
    assert_eq!(set.selector, "lts");
    assert_eq!(set.pick, Pick::Install("saltmarsh-8.3.1".parse().unwrap()));
    assert_eq!(
        set.shell,
        ShellAfterDefault::NotConnected(WayToConnect::Connect)
    );
    let error = defaults::set(&scene.environment(), &request("9")).unwrap_err();
    assert_eq!(error.class(), Class::NoMatch);
    assert_eq!(scene.default().as_deref(), Some("8.3.1"));
    let system = defaults::set(&scene.environment(), &request("system")).unwrap();
    assert_eq!(system.pick, Pick::System);
    assert_eq!(scene.default().as_deref(), Some("system"));
}

#[test]
fn a_runtime_is_meant_where_there_is_only_one_to_mean() {
    let scene = Scene::new();
    scene.write("config/shelf.toml", "");
    let error = Runtime::named(&scene.environment(), None).unwrap_err();
    let Error::SeveralRuntimes { names } = error else {
        panic!("{error:?}");
    };
    assert!(names.contains(&"marram".to_owned()), "{names:?}");
    runtimes::set_main(&scene.environment(), "marram").unwrap();
    let environment = scene.environment();
    assert_eq!(Runtime::named(&environment, None).unwrap().name(), "marram");
    match runtimes::set_main(&environment, "maram") {
        Err(Error::UnknownRuntime { near, .. }) => assert_eq!(near.as_deref(), Some("marram")),
        other => panic!("{other:?}"),
    }
}

#[rstest]
#[case(ReleaseFilter::default(), &["10.0.0-rc.1", "10.0.0-beta.2"])]
#[case(
    ReleaseFilter { phase: Some(PhaseFilter::Supported), ..ReleaseFilter::default() },
    &["9.2.0"]
)]
#[case(ReleaseFilter { phase: Some(PhaseFilter::In(Phase::Lts)), ..ReleaseFilter::default() }, &["8.3.1"])]
#[case(
    ReleaseFilter { since: Some("2026-11-05".parse().unwrap()), ..ReleaseFilter::default() },
    &["10.0.0-rc.1", "9.2.0"]
)]
fn what_is_published_is_filtered(#[case] filter: ReleaseFilter, #[case] expected: &[&str]) {
    let scene = Scene::new();
    let environment = scene.environment();
    let mut runtime = Runtime::named(&environment, None).unwrap();
    runtime.published.load(Extent::Releases).unwrap();
    let passed = filter
        .apply(&runtime, runtime.choosing().everything_published())
        .unwrap();
    let versions: Vec<&str> = (passed.releases.iter())
        .map(|passed| passed.version.as_str())
        .collect();
    assert_eq!(&versions[..expected.len()], expected);
}

#[test]
fn a_publisher_or_line_that_nobody_knows_is_named() {
    let scene = Scene::new();
    let environment = scene.environment();
    let mut runtime = Runtime::named(&environment, None).unwrap();
    runtime.published.load(Extent::Releases).unwrap();
    let filter = ReleaseFilter {
        publisher: Some("dunfield".to_owned()),
        ..ReleaseFilter::default()
    };
    match filter.apply(&runtime, runtime.choosing().everything_published()) {
        Err(Error::UnknownPublisher { known, .. }) => {
            assert!(known.contains(&"dunefield".to_owned()), "{known:?}");
        }
        other => panic!("{other:?}"),
    }
    let error = choose_lines(&runtime, &["77".to_owned()]).unwrap_err();
    assert_eq!(error.class(), Class::NoMatch);
}
