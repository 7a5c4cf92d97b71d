//! Removing, tidying, renewing, restoring, and what is written of it.

use std::fs;
use std::sync::Mutex;

use vshelf_app::checkup::{self, Finding, InstallProblem};
use vshelf_app::error::Need;
use vshelf_app::events::{Deleting, Event, Listener, Question, Task};
use vshelf_app::keep::history;
use vshelf_app::keep::lines::{LineWord, meant};
use vshelf_app::keep::remove::{RemoveRequest, remove};
use vshelf_app::keep::renew::{self, Follower, RenewOptions, plan_renewals};
use vshelf_app::keep::restore::restore;
use vshelf_app::keep::tidy::{self, TidyRequest, plan_tidy};
use vshelf_app::keep::trash;
use vshelf_app::{Answer, Class, Error, labels};
use vshelf_core::tidy::{Protection, Reason, Verdict};
use vshelf_shelf::journal::Operation;

use crate::scene::{Recorder, Scene, request, requests};

fn removal(selectors: &[&str]) -> RemoveRequest {
    RemoveRequest {
        requests: requests(selectors),
        ..RemoveRequest::default()
    }
}

#[test]
fn what_is_needed_is_only_removed_when_that_is_said() {
    let scene = Scene::with(&["8.3.1", "6"]);
    let environment = scene.environment();
    let recorder = Recorder::default();
    let error = remove(&environment, &removal(&["6", "8"]), &recorder).unwrap_err();
    assert!(
        matches!(
            error,
            Error::Needed {
                by: Need::Default,
                ..
            }
        ),
        "{error:?}"
    );
    // Everything is looked at before anything is removed.
    assert_eq!(scene.on_shelf(), ["8.3.1", "6.20.2"]);
    let asked = RemoveRequest {
        even_if_used: true,
        ..removal(&["8"])
    };
    remove(&environment, &asked, &recorder).unwrap();
    assert!(
        recorder.was_told(&["Removed(", "was_default: true"]),
        "{:?}",
        recorder.told()
    );
    assert_eq!(scene.on_shelf(), ["6.20.2"]);
    assert_eq!(scene.default(), None);
}

#[test]
fn several_installs_are_only_removed_when_that_is_said() {
    let scene = Scene::with(&["8.3.1", "6.20.2", "6.20.1"]);
    let environment = scene.environment();
    let error = remove(&environment, &removal(&["6"]), &Recorder::default()).unwrap_err();
    match error {
        Error::CoversSeveral { installs, .. } => assert_eq!(installs, ["6.20.2", "6.20.1"]),
        other => panic!("{other:?}"),
    }
    let asked = RemoveRequest {
        every: true,
        ..removal(&["6"])
    };
    remove(&environment, &asked, &Recorder::default()).unwrap();
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
}

#[test]
fn who_asked_for_what_was_removed_is_told_with_what_it_finds_now() {
    let scene = Scene::with(&["8.3.1", "6.20.2", "6.20.1"]);
    let environment = scene.environment();
    labels::set(&environment, "board", &request("6")).unwrap();
    let recorder = Recorder::default();
    remove(&environment, &removal(&["6.20.2"]), &recorder).unwrap();
    let told = ["Label(\"board\", \"6\")", "now: Some(\"6.20.1\")"];
    assert!(recorder.was_told(&told), "{:?}", recorder.told());
}

/// Plans a clean-up, asks, and carries it out where the answer is yes.
fn tidy(scene: &Scene, asked: &TidyRequest, recorder: &Recorder) -> Option<tidy::Tidied> {
    let environment = scene.environment();
    let meant = meant(&environment, &[]).unwrap();
    let mut plan = plan_tidy(&environment, &meant, asked).unwrap();
    match tidy::ask(&plan, recorder).unwrap() {
        Answer::Yes => Some(tidy::apply(&environment, &mut plan, recorder).unwrap()),
        Answer::No | Answer::Nobody => None,
    }
}

#[test]
fn a_clean_up_asks_first_and_says_why_afterwards() {
    let scene = Scene::with(&["8.3.1", "6.20.2", "6.20.1", "4"]);
    let nobody = Recorder::default();
    assert!(tidy(&scene, &TidyRequest::default(), &nobody).is_none());
    assert_eq!(
        nobody.asked(),
        ["Tidy { installs: 2, leftovers: 0, empties_trash: false }"]
    );
    assert_eq!(scene.on_shelf().len(), 4);
    let somebody = Recorder::answering(Answer::Yes);
    let tidied = tidy(&scene, &TidyRequest::default(), &somebody).unwrap();
    assert!(tidied.errors.is_empty() && tidied.trashed > 0, "{tidied:?}");
    assert_eq!(scene.on_shelf(), ["8.3.1", "6.20.2"]);
    let history = history::read(&scene.environment()).unwrap().entries;
    let tidied: Vec<_> = (history.iter())
        .filter(|entry| entry.operation == Operation::Tidied)
        .map(|entry| (entry.key.version_text(), entry.reasons.clone()))
        .collect();
    let superseded = Reason::Superseded {
        by: "6.20.2".parse().unwrap(),
    };
    assert!(tidied.contains(&("6.20.1", vec![superseded])), "{tidied:?}");
}

#[test]
fn labelled_and_excluded_installs_stay() {
    let scene = Scene::with(&["8.3.1", "6.20.2", "6.20.1", "6.2.0"]);
    let environment = scene.environment();
    labels::set(&environment, "board", &request("6.2.0")).unwrap();
    let asked = TidyRequest {
        except: requests(&["6.20.1"]),
        ..TidyRequest::default()
    };
    let meant = meant(&environment, &[]).unwrap();
    let plan = plan_tidy(&environment, &meant, &asked).unwrap();
    assert_eq!(plan.count(Verdict::Remove), 0);
    let protections: Vec<&Protection> = plan.assessments().flat_map(|a| &a.protections).collect();
    let label = Protection::Label {
        label: "board".to_owned(),
    };
    for expected in [&label, &Protection::LeftOut, &Protection::Default] {
        assert!(
            protections.contains(&expected),
            "{expected:?}: {protections:?}"
        );
    }
}

#[test]
fn what_came_to_be_kept_since_the_plan_was_made_stays() {
    let scene = Scene::with(&["8.3.1", "6.20.2", "6.20.1"]);
    let environment = scene.environment();
    let meant = meant(&environment, &[]).unwrap();
    let mut plan = plan_tidy(&environment, &meant, &TidyRequest::default()).unwrap();
    assert_eq!(plan.count(Verdict::Remove), 1);
    // By another command, while the person is asked.
    labels::set(&scene.environment(), "board", &request("6.20.1")).unwrap();
    let tidied = tidy::apply(&environment, &mut plan, &Recorder::default()).unwrap();
    let [
        Error::InUse {
            since_planned: true,
            ..
        },
    ] = &tidied.errors[..]
    else {
        panic!("{tidied:?}");
    };
    assert_eq!(scene.on_shelf().len(), 3);
}

#[test]
fn a_line_that_is_misspelled_does_not_look_tidy() {
    let scene = Scene::with(&["8.3.1"]);
    let environment = scene.environment();
    let error = meant(&environment, &[LineWord::Line(request("77"))]).unwrap_err();
    assert_eq!(error.class(), Class::NoMatch, "{error:?}");
}

#[test]
fn what_one_command_removed_is_restored_together() {
    let scene = Scene::with(&["8.3.1", "6.20.2", "6.20.1"]);
    let asked = RemoveRequest {
        every: true,
        ..removal(&["6"])
    };
    remove(&scene.environment(), &asked, &Recorder::default()).unwrap();
    let recorder = Recorder::default();
    restore(&scene.environment(), &[], &recorder).unwrap();
    assert_eq!(scene.on_shelf(), ["8.3.1", "6.20.2", "6.20.1"]);
    assert!(
        recorder.was_told(&["Restored(", "Marram 6.20.1"]),
        "{:?}",
        recorder.told()
    );
    restore(&scene.environment(), &requests(&["6.20"]), &recorder).unwrap();
    assert!(recorder.was_told(&["NotGone"]), "{:?}", recorder.told());
    let error = restore(&scene.environment(), &requests(&["9.9.9"]), &recorder).unwrap_err();
    assert_eq!(error.class(), Class::NoMatch);
}

#[test]
fn a_renewal_takes_the_default_and_labels_along_and_removes_the_old_release() {
    let scene = Scene::with(&["8.3.0", "6.20.2"]);
    let environment = scene.environment();
    labels::set(&environment, "board", &request("8")).unwrap();
    labels::set(&environment, "exact", &request("6.20.2")).unwrap();
    let recorder = Recorder::default();
    let plans = plan_renewals(&environment, &[], &recorder).unwrap();
    let [(_, plan)] = &plans[..] else {
        panic!("{} runtimes", plans.len());
    };
    let [planned] = &plan[..] else {
        panic!("{plan:?}");
    };
    assert_eq!(planned.to.version.as_str(), "8.3.1");
    let follows = [Follower::Default, Follower::Label("board".to_owned())];
    assert_eq!(planned.followers, follows);
    let errors = renew::apply(&environment, &plans, RenewOptions::default(), &recorder).unwrap();
    assert!(errors.is_empty(), "{errors:?}");
    assert_eq!(scene.on_shelf(), ["8.3.1", "6.20.2"]);
    assert_eq!(scene.default().as_deref(), Some("8.3.1"));
    let label = labels::find(&scene.environment(), "board").unwrap();
    assert_eq!(label.selector, "8");
    assert_eq!(label.shown.as_deref(), Some("8.3.1"));
    let history = history::read(&environment).unwrap().entries;
    let replaced = history
        .iter()
        .filter_map(|entry| entry.replaced_by.as_ref());
    assert_eq!(replaced.map(|v| v.as_str()).collect::<Vec<_>>(), ["8.3.1"]);
}

#[test]
fn a_checkup_finds_what_is_not_as_it_was_unpacked_and_what_stands_for_nothing() {
    let scene = Scene::with(&["8.3.1", "6"]);
    let environment = scene.environment();
    labels::set(&environment, "trial", &request("9")).unwrap();
    let prelude = scene.install_folder("8.3.1").join("lib/marram/prelude.mar");
    fs::write(prelude, "kelp").unwrap();
    let found = checkup::check(&environment, &[], false).unwrap();
    assert_eq!(found.installs, 2);
    let damaged = found.findings.iter().filter_map(|finding| match finding {
        Finding::Install(install) => Some((&install.title, &install.problem)),
        _ => None,
    });
    let damaged: Vec<_> = damaged.collect();
    let [(title, InstallProblem::Changed { differences, .. })] = &damaged[..] else {
        panic!("{damaged:?}");
    };
    assert_eq!((title.as_str(), differences.len()), ("Marram 8.3.1", 1));
    let is_label =
        |finding: &Finding| matches!(finding, Finding::Label { label, .. } if label == "trial");
    assert!(found.findings.iter().any(is_label), "{:?}", found.findings);
    let of_six = checkup::check(&environment, &requests(&["6"]), false).unwrap();
    assert!(of_six.findings.is_empty(), "{:?}", of_six.findings);
}

/// What is in the trash, removed last first.
fn in_trash(scene: &Scene) -> Vec<String> {
    let trashed = trash::all(&scene.environment()).unwrap();
    trashed
        .iter()
        .map(|one| one.key.version_text().to_owned())
        .collect()
}

#[test]
fn what_was_removed_comes_back_from_the_trash_as_it_was() {
    let scene = Scene::with(&["8.3.1", "6.20.2"]);
    let added = scene.install_folder("6.20.2").join("lib/added");
    fs::write(&added, "by hand").unwrap();
    let recorder = Recorder::default();
    remove(&scene.environment(), &removal(&["6"]), &recorder).unwrap();
    assert!(
        recorder.was_told(&["Removed(", "freed: 0", "2026-12-"]),
        "{:?}",
        recorder.told()
    );
    assert_eq!(in_trash(&scene), ["6.20.2"]);
    restore(&scene.environment(), &[], &recorder).unwrap();
    assert!(recorder.was_told(&["Restored(", "from_trash: true"]));
    assert_eq!(fs::read_to_string(&added).unwrap(), "by hand");
    assert_eq!(scene.on_shelf(), ["8.3.1", "6.20.2"]);
    assert!(in_trash(&scene).is_empty());
    let history = history::read(&scene.environment()).unwrap().entries;
    assert_eq!(history.last().unwrap().operation, Operation::Restored);
}

#[test]
fn the_trash_keeps_no_more_and_no_longer_than_the_settings_say() {
    let scene = Scene::with(&["8.3.1", "6.20.2", "6.20.1", "6.2.0"]);
    let remove_one = |selector: &str, settings: &str| {
        let settings = format!("main-runtime = \"marram\"\n{settings}");
        scene.write("config/shelf.toml", &settings);
        let recorder = Recorder::default();
        remove(&scene.environment(), &removal(&[selector]), &recorder).unwrap();
        recorder.was_told(&["trashed: Some"])
    };
    assert!(!remove_one("6.2.0", "[trash]\ndays = 0\n"));
    assert!(remove_one("6.20.1", ""));
    // There is no room for what is larger than all that is kept.
    assert!(!remove_one("6.20.2", "[trash]\nmegabytes = 0\n"));
    assert!(in_trash(&scene).is_empty(), "the older one had to go too");
    scene.write("config/shelf.toml", "main-runtime = \"marram\"\n");
    scene.install(&["6.20.2"]);
    assert!(remove_one("6.20.2", ""));
    let later = |today: &str| {
        let environment = scene.environment_with(&[("VSHELF_TODAY", today)]);
        trash::overdue(&environment).unwrap().len()
    };
    assert_eq!((later("2026-12-01"), later("2027-01-20")), (0, 1));
}

#[test]
fn what_is_removed_for_good_is_gone_and_the_trash_can_be_emptied() {
    let scene = Scene::with(&["8.3.1", "6.20.2", "6.20.1"]);
    remove(
        &scene.environment(),
        &removal(&["6.20.1"]),
        &Recorder::default(),
    )
    .unwrap();
    let asked = RemoveRequest {
        for_good: true,
        ..removal(&["6.20.2"])
    };
    remove(&scene.environment(), &asked, &Recorder::default()).unwrap();
    assert_eq!(in_trash(&scene), ["6.20.1"]);
    let asked = TidyRequest {
        leftovers: true,
        for_good: true,
        ..TidyRequest::default()
    };
    let yes = Recorder::answering(Answer::Yes);
    let tidied = tidy(&scene, &asked, &yes).unwrap();
    assert!(tidied.freed > 0 && tidied.trashed == 0, "{tidied:?}");
    assert!(in_trash(&scene).is_empty());
}

#[test]
fn a_plan_says_what_has_room_in_the_trash_and_what_is_freed() {
    let scene = Scene::with(&["8.3.1", "6.20.2", "6.20.1"]);
    let environment = scene.environment();
    let meant = meant(&environment, &[]).unwrap();
    let mut plan = plan_tidy(&environment, &meant, &TidyRequest::default()).unwrap();
    let all = plan.trashes();
    assert!(all > 1000 && plan.frees() == 0);
    plan.trash = Some((14, 1000));
    assert_eq!((plan.trashes(), plan.frees()), (1000, all - 1000));
    plan.trash = None;
    assert_eq!((plan.trashes(), plan.frees()), (0, all));
}

#[test]
fn a_renewal_leaves_nothing_in_the_trash_for_too_long() {
    let scene = Scene::with(&["8.3.0", "6.20.1", "6.20.2"]);
    let asked = removal(&["6.20.1"]);
    remove(&scene.environment(), &asked, &Recorder::default()).unwrap();
    assert_eq!(in_trash(&scene), ["6.20.1"]);
    // After a month what was removed then is there for too long.
    let environment = scene.environment_with(&[("VSHELF_TODAY", "2026-12-24")]);
    let recorder = Recorder::default();
    let plans = plan_renewals(&environment, &[], &recorder).unwrap();
    renew::apply(&environment, &plans, RenewOptions::default(), &recorder).unwrap();
    assert_eq!(in_trash(&scene), ["8.3.0"]);
}

/// Keeps what is told of how far deleting is.
#[derive(Default)]
struct Deletions(Mutex<Vec<Deleting>>);

impl Listener for Deletions {
    fn tell(&self, event: Event<'_>) {
        if let Event::TaskBegins(Task::Removing(_, deleting)) = event {
            self.0.lock().unwrap().push(deleting);
        }
    }

    fn ask(&self, _: &Question<'_>) -> Result<Answer, Error> {
        Ok(Answer::Nobody)
    }
}

#[test]
fn how_far_deleting_is_can_be_seen() {
    let scene = Scene::with(&["8.3.1", "6.20.2"]);
    let deletions = Deletions::default();
    let for_good = RemoveRequest {
        for_good: true,
        ..removal(&["6"])
    };
    remove(&scene.environment(), &for_good, &deletions).unwrap();
    let told = deletions.0.into_inner().unwrap();
    assert_eq!(told.len(), 1);
    assert!(told[0].bytes > 0);
    assert!(
        told[0].freed.bytes() >= told[0].bytes,
        "the record counts too"
    );
}
