//! The support life of a line as spans of time: what a timeline draws.

use jiff::civil::Date;

use crate::catalog::{Catalog, Line};
use crate::lifecycle::Phase;

/// A phase of a line, from its first day to the day before `until`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
pub struct Span {
    /// The phase.
    pub phase: Phase,
    /// Its first day.
    pub from: Date,
    /// The first day after it; none where no end is announced.
    pub until: Option<Date>,
}

/// The phases of a line in order, without what comes after its end. Before its start it is in
/// preview since its first release; a line that says nothing of its life begins with that too.
pub fn spans(catalog: &Catalog, line: &Line) -> Vec<Span> {
    let releases = catalog.releases_of(line);
    let first = releases.filter_map(|release| release.date).min();
    let end = line.end.and_then(|end| end.tomorrow().ok());
    let mut days: Vec<Date> = [first, line.start, line.lts, line.maintenance, end]
        .into_iter()
        .flatten()
        // Pre-releases of an old line may come later than its end.
        .filter(|day| end.is_none_or(|end| *day <= end))
        .collect();
    days.sort_unstable();
    days.dedup();
    let mut spans: Vec<Span> = Vec::new();
    for (place, from) in days.iter().enumerate() {
        let phase = line.phase_on(*from);
        let until = days.get(place + 1).copied();
        match spans.last_mut() {
            // A date that changes nothing, such as a first release on the day of the start.
            Some(last) if last.phase == phase => last.until = until,
            _ if phase == Phase::Ended => {}
            _ => spans.push(Span {
                phase,
                from: *from,
                until,
            }),
        }
    }
    spans
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::{Publisher, Release};
    use crate::lifecycle::tests::eelgrass;
    use rstest::rstest;

    fn date(text: &str) -> Date {
        text.parse().unwrap()
    }

    /// The spans of line 8, whose only pre-release is of this day, in a word each.
    fn drawn(line: Line, pre_release: Option<&str>) -> String {
        let release = pre_release.map(|day| Release {
            version: "8.0.0-alpha.1".parse().unwrap(),
            publisher: "saltmarsh".into(),
            date: Some(date(day)),
            security: Some(false),
            withdrawn: None,
            platforms: [].into(),
        });
        let publisher = Publisher::new("saltmarsh", "Saltmarsh", true);
        let releases = release.into_iter().collect();
        let catalog = Catalog {
            runtime: "marram".into(),
            publishers: vec![publisher],
            lines: vec![line],
            releases,
            ..Catalog::default()
        }
        .ordered();
        let word = |span: Span| {
            let until = span
                .until
                .map_or("open".to_owned(), |until| until.to_string());
            format!("{} {} {until}", span.phase, span.from)
        };
        let spans = spans(&catalog, &catalog.lines[0]);
        spans.into_iter().map(word).collect::<Vec<_>>().join(", ")
    }

    #[rstest]
    #[case(
        Some("2025-01-10"),
        "preview 2025-01-10 2025-04-15, current 2025-04-15 2025-10-21, lts 2025-10-21 2027-10-19, maintenance 2027-10-19 2029-05-01"
    )]
    #[case(
        Some("2026-01-10"),
        "current 2025-04-15 2025-10-21, lts 2025-10-21 2027-10-19, maintenance 2027-10-19 2029-05-01"
    )]
    #[case(
        None,
        "current 2025-04-15 2025-10-21, lts 2025-10-21 2027-10-19, maintenance 2027-10-19 2029-05-01"
    )]
    fn a_life_has_its_phases_in_order(#[case] pre_release: Option<&str>, #[case] expected: &str) {
        assert_eq!(drawn(eelgrass(), pre_release), expected);
    }

    #[test]
    fn what_is_not_known_is_left_open() {
        let open = Line {
            end: None,
            maintenance: None,
            ..eelgrass()
        };
        assert_eq!(
            drawn(open, None),
            "current 2025-04-15 2025-10-21, lts 2025-10-21 open"
        );
        let short = Line {
            lts: None,
            maintenance: None,
            ..eelgrass()
        };
        assert_eq!(drawn(short, None), "current 2025-04-15 2029-05-01");
        assert_eq!(
            drawn(Line::undated("8"), Some("2026-01-10")),
            "preview 2026-01-10 open"
        );
        assert_eq!(drawn(Line::undated("8"), None), "");
    }
}
