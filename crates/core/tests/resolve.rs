//! Resolving: every form of selector over a small catalog and shelf, its steps, and its errors.

#![allow(
    clippy::unwrap_used,
    reason = "a test that cannot go on should say where, and nothing else"
)]

use std::collections::BTreeMap;

use proptest::prelude::*;
use rstest::rstest;
use vshelf_core::catalog::{Catalog, Line, Publisher, Release};
use vshelf_core::resolve::{Choice, Filter, ResolveError, Scope, Step, World, covered, resolve};
use vshelf_core::template::VersionSpellings;
use vshelf_core::{InstallId, Pick, Platform, Request, Version};

const RELEASES: [(&str, &str, &str); 17] = [
    ("10.0.0-beta.1", "saltmarsh", "linux-x64"),
    ("10.0.0-rc.1", "saltmarsh", "linux-x64"),
    ("9.2.0", "saltmarsh", "linux-x64"),
    ("9.1.1", "saltmarsh", "linux-x64"),
    ("9.1.1", "dunefield", "linux-x64"),
    ("8.3.1", "saltmarsh", "linux-x64"),
    ("8.3.1", "dunefield", "linux-x64"),
    ("8.3.0", "saltmarsh", "linux-x64"),
    ("8.2.1", "saltmarsh", "linux-x64"),
    ("8.30.0-rc.1", "saltmarsh", "linux-x64"),
    ("7.2.3", "dunefield", "linux-x64"),
    ("7.0.1", "saltmarsh", "darwin-arm64"),
    ("7.0.1", "dunefield", "linux-x64"),
    ("6.20.0", "saltmarsh", "linux-x64"),
    ("6.2.0", "saltmarsh", "linux-x64"),
    ("6.0.2", "saltmarsh", "linux-x64"),
    ("3.1.0", "saltmarsh", "darwin-arm64"),
];

const WITHDRAWN: &str = "8.2.1";

fn catalog() -> Catalog {
    let publisher = |id: &str, main| Publisher::new(id, id, main);
    let line = |name: &str, codename: Option<&str>, dates: [&str; 3]| Line {
        codename: codename.map(Into::into),
        start: dates[0].parse().ok(),
        lts: dates[1].parse().ok(),
        end: dates[2].parse().ok(),
        ..Line::undated(name)
    };
    let releases = RELEASES
        .iter()
        .map(|(version, publisher, platform)| Release {
            version: version.parse().unwrap(),
            publisher: (*publisher).into(),
            date: None,
            security: Some(false),
            withdrawn: (*version == WITHDRAWN).then(|| "loses readings".into()),
            platforms: [platform.parse().unwrap()].into(),
        })
        .collect();
    Catalog {
        runtime: "marram".into(),
        publishers: vec![publisher("saltmarsh", true), publisher("dunefield", false)],
        channels: [("stable", "8"), ("next", "10")]
            .map(|(k, v)| (k.into(), v.into()))
            .into(),
        lines: vec![
            line("10", None, ["2027-04-13", "", ""]),
            line("9", None, ["2026-04-14", "", "2027-06-30"]),
            line(
                "8",
                Some("Eelgrass"),
                ["2025-04-15", "2025-10-21", "2029-04-30"],
            ),
            line("7", None, ["2024-04-09", "", "2025-06-30"]),
            line(
                "6",
                Some("Samphire"),
                ["2022-04-12", "2022-10-18", "2026-12-28"],
            ),
        ],
        releases,
        ..Catalog::default()
    }
    .ordered()
}

/// A world with this shelf, of `publisher/version` or `version` each.
struct Setting {
    catalog: Catalog,
    shelf: Vec<InstallId>,
    labels: BTreeMap<String, String>,
    spellings: VersionSpellings,
    default: Option<String>,
    previous: Option<Pick>,
    platform: Platform,
    today: &'static str,
}

impl Setting {
    fn new(shelf: &[&str]) -> Setting {
        let install = |text: &&str| {
            let (publisher, version) = text.split_once('/').unwrap_or(("saltmarsh", text));
            InstallId::new(version.parse().unwrap(), publisher)
        };
        Setting {
            catalog: catalog(),
            shelf: shelf.iter().map(install).collect(),
            labels: [
                ("board", "6.2.0"),
                ("lab", "latest"),
                ("round", "about"),
                ("about", "round"),
            ]
            .map(|(k, v)| (k.into(), v.into()))
            .into(),
            spellings: VersionSpellings::default(),
            default: Some("lts".into()),
            previous: "saltmarsh/6.2.0".parse().ok(),
            platform: "linux-x64-gnu".parse().unwrap(),
            today: "2026-11-23",
        }
    }

    fn world(&self) -> World<'_> {
        World {
            catalog: &self.catalog,
            shelf: &self.shelf,
            labels: &self.labels,
            spellings: &self.spellings,
            default: self.default.as_deref(),
            default_pick: None,
            previous: self.previous.as_ref(),
            platform: &self.platform,
            today: self.today.parse().unwrap(),
        }
    }

    /// The choice as `publisher/version`, or the error as text.
    fn choice(&self, selector: &str, scope: Scope) -> String {
        let request: Request = selector.parse().unwrap();
        match resolve(&self.world(), &request, scope).outcome {
            Ok(Choice::System) => "system".into(),
            Ok(Choice::Version(chosen)) => format!("{}/{}", chosen.publisher, chosen.version),
            Err(error) => error.to_string(),
        }
    }
}

#[rstest]
#[case("8.3.1", "saltmarsh/8.3.1")]
#[case("8.3", "saltmarsh/8.3.1")]
#[case("8", "saltmarsh/8.3.1")]
#[case("6.2", "saltmarsh/6.2.0")]
#[case("6", "saltmarsh/6.20.0")]
#[case("10", "saltmarsh/10.0.0-rc.1")]
#[case("10.0.0-beta", "saltmarsh/10.0.0-beta.1")]
#[case(">=6 <8", "saltmarsh/6.20.0")]
#[case("^8.1", "saltmarsh/8.3.1")]
#[case("6 || 9", "saltmarsh/9.2.0")]
#[case("latest", "saltmarsh/9.2.0")]
#[case("lts", "saltmarsh/8.3.1")]
#[case("stable", "saltmarsh/8.3.1")]
#[case("preview", "saltmarsh/10.0.0-rc.1")]
#[case("next", "saltmarsh/10.0.0-rc.1")]
#[case("EELGRASS", "saltmarsh/8.3.1")]
#[case("dunefield/latest", "dunefield/9.1.1")]
#[case("dunefield/7", "dunefield/7.2.3")]
#[case("DUNEFIELD/lts", "dunefield/8.3.1")]
#[case("board", "saltmarsh/6.2.0")]
#[case("Lab", "saltmarsh/9.2.0")]
#[case("default", "saltmarsh/8.3.1")]
#[case("system", "system")]
fn among_what_is_published(#[case] selector: &str, #[case] expected: &str) {
    assert_eq!(
        Setting::new(&[]).choice(selector, Scope::Published),
        expected
    );
}

#[rstest]
#[case("8", "dunefield/8.3.1")]
#[case("lts", "dunefield/8.3.1")]
#[case("latest", "saltmarsh/9.1.1")]
#[case("6", "saltmarsh/6.2.0")]
#[case("stable", "dunefield/8.3.1")]
#[case("previous", "saltmarsh/6.2.0")]
#[case("-", "saltmarsh/6.2.0")]
#[case("default", "dunefield/8.3.1")]
#[case("9.2", "9.2 is not on the shelf")]
#[case("samphire", "saltmarsh/6.2.0")]
fn among_what_is_on_the_shelf(#[case] selector: &str, #[case] expected: &str) {
    let setting = Setting::new(&["9.1.1", "dunefield/8.3.1", "8.3.0", "6.2.0"]);
    assert_eq!(setting.choice(selector, Scope::Shelf), expected);
}

#[test]
fn where_no_line_is_known_to_be_supported_stable_is_of_one_that_may_be() {
    let mut setting = Setting::new(&[]);
    setting.catalog.channels.clear();
    for line in &mut setting.catalog.lines {
        (line.start, line.lts, line.maintenance) = (None, None, None);
        // Line 9 has ended, and the others are not dated.
        line.end = line.end.filter(|_| line.name == "9");
        if line.end.is_some() {
            line.end = "2026-06-30".parse().ok();
        }
    }
    let mut undated = setting.catalog.clone();
    setting.catalog = undated.clone().ordered();
    // What is older than a line that has ended has ended too.
    assert_eq!(
        setting.choice("stable", Scope::Published),
        "stable is not published"
    );
    undated.lines.retain(|line| line.name != "9");
    setting.catalog = undated.ordered();
    assert_eq!(
        setting.choice("stable", Scope::Published),
        "saltmarsh/9.2.0"
    );
    assert_eq!(
        setting.choice("lts", Scope::Published),
        "no published line is in phase lts on 2026-11-23"
    );
}

#[test]
fn a_release_of_one_other_publisher_is_chosen_if_the_main_one_is_known() {
    let mut setting = Setting::new(&[]);
    let request: Request = "7.2.3".parse().unwrap();
    let explanation = resolve(&setting.world(), &request, Scope::Published).steps;
    let only = Step::OnlyPublisher {
        publisher: "dunefield".into(),
    };
    assert!(explanation.contains(&only), "{explanation:?}");
    assert_eq!(setting.choice("7.2.3", Scope::Published), "dunefield/7.2.3");
    let releases = &mut setting.catalog.releases;
    releases.retain(|release| *release.publisher != *"saltmarsh");
    let unknown = "nothing is known of what saltmarsh publishes, and 7.2.3 is of others";
    assert_eq!(setting.choice("7.2.3", Scope::Published), unknown);
}

#[rstest]
#[case("2.8", "saltmarsh/8.3.1")]
#[case("2.8.0", "saltmarsh/8.3.1")]
#[case("8", "saltmarsh/8.3.1")]
#[case("8.3.0", "saltmarsh/8.3.0")]
fn a_version_in_another_spelling_means_the_release(#[case] typed: &str, #[case] expected: &str) {
    let mut setting = Setting::new(&["8.3.1", "8.3.0"]);
    let spellings = r#"[{ "spelled": "2.{line}.0", "means": "{line}" }, { "spelled": "2.{line}", "means": "{line}" }]"#;
    setting.spellings = serde_json::from_str(spellings).unwrap();
    assert_eq!(setting.choice(typed, Scope::Shelf), expected);
}

#[test]
fn the_default_is_the_install_that_it_is_and_not_what_was_typed() {
    let setting = Setting::new(&["8.3.1", "8.3.0"]);
    let default: Pick = "saltmarsh/8.3.0".parse().unwrap();
    let world = World {
        default_pick: Some(&default),
        ..setting.world()
    };
    let chosen = |selector: &str| {
        let request = selector.parse().unwrap();
        let outcome = resolve(&world, &request, Scope::Shelf).outcome;
        let pick = outcome.unwrap().pick().unwrap();
        pick.short_selector(world.catalog.main_publisher_id())
    };
    assert_eq!(chosen("default"), "8.3.0");
    assert_eq!(chosen("lts"), "8.3.1");
}

#[rstest]
#[case("6.02", "6.02 is not published")]
#[case("12", "12 is not published")]
#[case("^11", "^11 is not published")]
#[case("eelgras", "\"eelgras\" is not a label, channel or code name")]
#[case("gulls/8", "\"gulls\" is not a publisher of marram")]
#[case("dunefield/9.2.0", "9.2.0 is not published by dunefield")]
#[case("7.0.1", "7.0.1 is not built for linux-x64-gnu")]
#[case("8.2.1", "8.2.1 was withdrawn by saltmarsh: loses readings")]
#[case("round", "the label \"round\" leads back to itself")]
fn what_stands_for_nothing_says_why(#[case] selector: &str, #[case] message: &str) {
    assert_eq!(
        Setting::new(&[]).choice(selector, Scope::Published),
        message
    );
}

/// Words are offered like versions if nothing on the shelf meets them.
#[rstest]
#[case("lts", "8.3.1")]
#[case("stable", "8.3.1")]
#[case("8", "8.3.1")]
fn a_missing_install_comes_with_its_published_release(
    #[case] selector: &str,
    #[case] expected: &str,
) {
    let setting = Setting::new(&["7.0.2"]);
    let request = selector.parse().unwrap();
    let outcome = resolve(&setting.world(), &request, Scope::Shelf).outcome;
    let Err(ResolveError::NotOnShelf { published, .. }) = outcome else {
        panic!("{outcome:?}");
    };
    assert_eq!(published, Some((None, expected.parse().unwrap())));
}

#[test]
fn errors_carry_the_way_out() {
    let setting = Setting::new(&["8.3.0"]);
    let error = |selector: &str, scope| {
        resolve(&setting.world(), &selector.parse().unwrap(), scope)
            .outcome
            .unwrap_err()
    };
    let version = |text: &str| -> Version { text.parse().unwrap() };
    let ResolveError::OtherPlatform {
        elsewhere,
        platforms,
        ..
    } = error("7.0.1", Scope::Published)
    else {
        panic!("7.0.1 is built for another platform");
    };
    assert_eq!(
        (elsewhere.as_deref(), platforms),
        (Some("dunefield"), vec!["darwin-arm64".to_owned()])
    );
    let ResolveError::Withdrawn { instead, .. } = error("8.2.1", Scope::Published) else {
        panic!("8.2.1 was withdrawn");
    };
    assert_eq!(instead, Some(version("8.3.1")));
    let ResolveError::NotOnShelf { published, .. } = error("dunefield/9", Scope::Shelf) else {
        panic!("9 is not on the shelf");
    };
    assert_eq!(
        published,
        Some((Some("dunefield".to_owned()), version("9.1.1")))
    );
    let ResolveError::NotPublished { near, .. } = error("6.02", Scope::Published) else {
        panic!("6.02 is not published");
    };
    assert_eq!(near, [version("6.2.0"), version("6.0.2")]);
}

#[test]
fn lts_turns_with_the_day() {
    let mut setting = Setting::new(&[]);
    for (day, expected) in [
        ("2025-10-20", "saltmarsh/6.20.0"),
        ("2025-10-21", "saltmarsh/8.3.1"),
        (
            "2029-05-01",
            "no published line is in phase lts on 2029-05-01",
        ),
    ] {
        setting.today = day;
        assert_eq!(setting.choice("lts", Scope::Published), expected, "{day}");
    }
}

#[test]
fn every_step_is_told() {
    let setting = Setting::new(&[]);
    let explanation = resolve(
        &setting.world(),
        &"default".parse().unwrap(),
        Scope::Published,
    );
    let kept = |filter: Filter, count, passed_over: Option<&str>| Step::Kept {
        filter,
        count,
        passed_over: passed_over.map(|v| v.parse().unwrap()),
    };
    assert_eq!(
        explanation.steps,
        [
            Step::Default {
                selector: "lts".into()
            },
            Step::Candidates {
                scope: Scope::Published,
                count: RELEASES.len()
            },
            Step::Line {
                line: "8".into(),
                phase: vshelf_core::Phase::Lts
            },
            kept(Filter::Line("8".into()), 5, Some("10.0.0-rc.1")),
            kept(Filter::Final, 4, Some("8.30.0-rc.1")),
            kept(Filter::Publisher("saltmarsh".into()), 3, None),
            kept(Filter::NotWithdrawn, 2, None),
            Step::Chosen {
                version: "8.3.1".parse().unwrap(),
                publisher: "saltmarsh".into(),
                runner_up: "8.3.0".parse().ok(),
            },
        ]
    );
}

#[test]
fn a_list_covers_more_than_the_choice() {
    let setting = Setting::new(&[]);
    let world = setting.world();
    let listed: Vec<String> = covered(&world, &"7".parse().unwrap(), Scope::Published)
        .unwrap()
        .iter()
        .map(|c| format!("{}/{}", c.publisher, c.version))
        .collect();
    assert_eq!(
        listed,
        ["dunefield/7.2.3", "saltmarsh/7.0.1", "dunefield/7.0.1"]
    );
}

proptest! {
    /// Whatever range is asked for, the choice is in it and nothing newer that can be had is.
    #[test]
    fn the_choice_satisfies_the_selector_and_nothing_newer_does(
        low in 3u64..10, minor in 0u64..4, operator in prop::sample::select(vec!["^", "~", ">=", "<", "<=", "="]),
    ) {
        let setting = Setting::new(&[]);
        let text = format!("{operator}{low}.{minor}");
        let request: Request = text.parse().unwrap();
        let range: vshelf_core::Range = text.parse().unwrap();
        let fits = |release: &&Release| {
            range.contains(&release.version)
                && &*release.publisher == "saltmarsh"
                && release.withdrawn.is_none()
                && release.runs_on(&setting.platform)
        };
        let best = setting.catalog.releases.iter().filter(fits).map(|r| &r.version).max();
        let world = setting.world();
        match resolve(&world, &request, Scope::Published).outcome {
            Ok(Choice::Version(chosen)) if chosen.publisher == "saltmarsh" => {
                prop_assert_eq!(Some(chosen.version), best);
            }
            // Only if the main publisher has nothing that matches.
            Ok(Choice::Version(chosen)) => {
                prop_assert!(range.contains(chosen.version));
                prop_assert_eq!(best, None);
            }
            Ok(Choice::System) => prop_assert!(false, "a range is never the system's copy"),
            Err(_) => prop_assert_eq!(best, None),
        }
    }
}
