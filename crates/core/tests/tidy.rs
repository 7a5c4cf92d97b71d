//! Every reason, every protection, and days around the edges.

#![allow(
    clippy::unwrap_used,
    reason = "a test that cannot go on should say where, and nothing else"
)]

use jiff::civil::Date;
use rstest::rstest;
use vshelf_core::tidy::{Held, Policy, Protection, Reason, ReasonKind, Verdict, plan};
use vshelf_core::{Catalog, InstallId, Line, Publisher, Release};

fn date(text: &str) -> Date {
    text.parse().unwrap()
}

fn catalog() -> Catalog {
    let release = |version: &str, security: bool, withdrawn: bool| Release {
        version: version.parse().unwrap(),
        publisher: "saltmarsh".into(),
        date: None,
        security: Some(security),
        withdrawn: withdrawn.then(|| "loses tides at midnight".into()),
        platforms: ["linux-x64".parse().unwrap()].into(),
    };
    let line = |name: &str, start: &str, end: &str| Line {
        start: Some(date(start)),
        end: Some(date(end)),
        ..Line::undated(name)
    };
    let publishers = ["saltmarsh", "dunefield"].map(|id| Publisher::new(id, id, id == "saltmarsh"));
    Catalog {
        runtime: "marram".into(),
        publishers: publishers.into(),
        lines: vec![
            line("4", "2021-04-20", "2024-04-30"),
            line("6", "2023-04-18", "2026-12-28"),
            line("8", "2025-04-15", "2029-04-30"),
            Line::undated("10"),
        ],
        releases: vec![
            release("4.9.1", false, false),
            release("6.2.0", false, false),
            release("6.2.1", false, true),
            release("6.20.1", true, false),
            release("6.20.2", false, false),
            release("8.3.0", false, false),
            release("8.3.1", true, false),
            release("10.0.0-rc.1", false, false),
            release("10.0.0", false, false),
        ],
        ..Catalog::default()
    }
    .ordered()
}

/// What the plan says of the first of these installs, on a day.
fn judged(
    installs: &[&str],
    policy: &Policy,
    day: &str,
    held: impl Fn(&mut Held<'_>),
) -> (Verdict, Vec<Reason>) {
    let shelf: Vec<InstallId> = installs.iter().map(|key| install(key)).collect();
    let all = shelf.iter().map(|install| Held {
        install,
        bytes: 1,
        used: date("2026-11-01"),
        asked: false,
        protections: Vec::new(),
    });
    let mut all: Vec<Held<'_>> = all.collect();
    held(&mut all[0]);
    let platform = "linux-x64-gnu".parse().unwrap();
    let entries = plan(&catalog(), all, policy, &platform, date(day));
    (entries[0].verdict, entries[0].reasons.clone())
}

fn install(key: &str) -> InstallId {
    let (publisher, version) = key
        .split_once('-')
        .filter(|(publisher, _)| *publisher == "dunefield")
        .unwrap_or(("saltmarsh", key));
    InstallId::new(version.parse().unwrap(), publisher)
}

const TODAY: &str = "2026-11-23";

/// One word for each reason, with what it names.
fn words(reasons: &[Reason]) -> String {
    let word = |reason: &Reason| match reason {
        Reason::Superseded { by } => format!("superseded by {by}"),
        Reason::Ended { end: Some(end) } => format!("ended {end}"),
        Reason::Ended { end: None } => "ended".to_owned(),
        Reason::Withdrawn { why } => format!("withdrawn: {why}"),
        Reason::FinalOut { version } => format!("final {version}"),
        Reason::Idle { days } => format!("idle {days}"),
        Reason::Asked => "asked".to_owned(),
    };
    reasons.iter().map(word).collect::<Vec<_>>().join(", ")
}

#[rstest]
#[case::alone(&["6.20.2"], Verdict::Keep, "")]
#[case::newer_on_shelf(&["6.20.1", "6.20.2"], Verdict::Remove, "superseded by 6.20.2")]
#[case::the_newest_counts(&["6.2.0", "6.20.1", "6.20.2"], Verdict::Remove, "superseded by 6.20.2")]
#[case::other_line(&["6.20.2", "8.3.1"], Verdict::Keep, "")]
#[case::other_publisher(&["6.20.1", "dunefield-6.20.2"], Verdict::Keep, "")]
#[case::same_publisher(&["dunefield-6.20.1", "dunefield-6.20.2"], Verdict::Remove, "superseded by 6.20.2")]
#[case::not_by_what_is_withdrawn(&["6.2.0", "6.2.1"], Verdict::Renew, "")]
#[case::withdrawn(&["6.2.1"], Verdict::Remove, "withdrawn: loses tides at midnight")]
#[case::both(&["6.2.1", "6.20.2"], Verdict::Remove, "superseded by 6.20.2, withdrawn: loses tides at midnight")]
#[case::ended(&["4.9.1"], Verdict::Remove, "ended 2024-04-30")]
#[case::pre_release(&["10.0.0-rc.1"], Verdict::Keep, "")]
#[case::final_on_shelf(&["10.0.0-rc.1", "10.0.0"], Verdict::Remove, "final 10.0.0")]
#[case::newer_pre_release(&["10.0.0-beta.1", "10.0.0-rc.1"], Verdict::Remove, "superseded by 10.0.0-rc.1")]
#[case::not_by_a_pre_release(&["10.0.0", "10.0.1-rc.1"], Verdict::Keep, "")]
#[case::security(&["8.3.0"], Verdict::Renew, "")]
#[case::unknown_line(&["77.1.0", "77.2.0"], Verdict::Keep, "")]
fn each_reason_holds_where_it_should(
    #[case] shelf: &[&str],
    #[case] verdict: Verdict,
    #[case] reasons: &str,
) {
    let (judged, found) = judged(shelf, &Policy::default(), TODAY, |_| {});
    assert_eq!((judged, words(&found).as_str()), (verdict, reasons));
}

#[rstest]
#[case("2026-12-28", Verdict::Keep)]
#[case("2026-12-29", Verdict::Remove)]
fn a_line_has_ended_from_the_day_after_its_last(#[case] day: &str, #[case] verdict: Verdict) {
    assert_eq!(
        judged(&["6.20.2"], &Policy::default(), day, |_| {}).0,
        verdict
    );
}

#[rstest]
#[case(179, "")]
#[case(180, "idle 180")]
#[case(-1, "")]
fn an_install_is_idle_from_a_certain_day_on(#[case] days: i64, #[case] reasons: &str) {
    let mut policy = Policy::default();
    let used = |held: &mut Held<'_>| {
        held.used = date(TODAY) - jiff::Span::new().days(days);
    };
    assert_eq!(
        words(&judged(&["8.3.1"], &policy, TODAY, used).1),
        "",
        "it does not count by itself"
    );
    policy.reasons.push(ReasonKind::Idle);
    assert_eq!(words(&judged(&["8.3.1"], &policy, TODAY, used).1), reasons);
}

#[rstest]
#[case(1, Verdict::Remove)]
#[case(2, Verdict::Keep)]
fn as_many_of_a_line_stay_as_the_policy_says(#[case] per_line: usize, #[case] verdict: Verdict) {
    let policy = Policy {
        per_line,
        ..Policy::default()
    };
    let (second, _) = judged(&["6.20.1", "6.20.2", "6.2.0"], &policy, TODAY, |_| {});
    assert_eq!(second, verdict);
    let (third, _) = judged(&["6.2.0", "6.20.1", "6.20.2"], &policy, TODAY, |_| {});
    assert_eq!(third, Verdict::Remove);
}

#[test]
fn every_reason_can_be_left_out_and_every_protection_keeps() {
    // Each reason with a shelf on which it alone speaks against the first install.
    let cases: [(ReasonKind, &[&str]); 5] = [
        (ReasonKind::Superseded, &["6.20.1", "6.20.2"]),
        (ReasonKind::Ended, &["4.9.1"]),
        (ReasonKind::Withdrawn, &["6.2.1"]),
        (ReasonKind::FinalOut, &["10.0.0-rc.1", "10.0.0"]),
        (ReasonKind::Idle, &["8.3.1"]),
    ];
    let protections = [
        Protection::Default,
        Protection::ThisShell,
        Protection::Shell { id: 7 },
        Protection::Process {
            id: 7,
            program: "marram".into(),
        },
        Protection::Requirement {
            file: "tide-board/.marram-version".into(),
        },
        Protection::Label {
            label: "board".into(),
        },
        Protection::LeftOut,
    ];
    for (kind, shelf) in cases {
        let old = |held: &mut Held<'_>| held.used = date("2026-01-01");
        let policy = Policy {
            reasons: vec![kind],
            ..Policy::default()
        };
        let (verdict, reasons) = judged(shelf, &policy, TODAY, old);
        assert_eq!((verdict, reasons.len()), (Verdict::Remove, 1), "{kind}");
        for protection in &protections {
            let (verdict, kept) = judged(shelf, &policy, TODAY, |held| {
                old(held);
                held.protections.push(protection.clone());
            });
            assert_ne!(verdict, Verdict::Remove, "{kind}, {protection:?}");
            assert_eq!(kept, reasons, "what speaks against it is told all the same");
        }
        let others = ReasonKind::ALL
            .iter()
            .map(|(other, _)| *other)
            .filter(|other| *other != kind);
        let policy = Policy {
            reasons: others.collect(),
            ..Policy::default()
        };
        assert_eq!(
            judged(shelf, &policy, TODAY, |_| {}).1,
            [],
            "{kind} does not count"
        );
        assert_eq!(kind.to_string().parse(), Ok(kind));
    }
    assert!("tired".parse::<ReasonKind>().is_err());
}

#[test]
fn what_is_asked_for_goes_unless_something_keeps_it() {
    let policy = Policy::default();
    let (verdict, reasons) = judged(&["8.3.1"], &policy, TODAY, |held| held.asked = true);
    assert_eq!((verdict, reasons), (Verdict::Remove, vec![Reason::Asked]));
    let (verdict, _) = judged(&["8.3.1"], &policy, TODAY, |held| {
        held.asked = true;
        held.protections.push(Protection::Default);
    });
    assert_eq!(verdict, Verdict::Keep);
}
