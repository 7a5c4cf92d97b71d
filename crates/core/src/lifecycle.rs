//! Where a release line stands in its support life on a given day.

use std::fmt;

use jiff::civil::Date;

use crate::catalog::{Line, Standing};

/// Where a line stands on a day. The order is that of a line's life.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Phase {
    /// Nothing final is out yet.
    Preview,
    /// Takes new features.
    Current,
    /// Long-term support.
    Lts,
    /// Critical and security fixes only.
    Maintenance,
    /// No more fixes of any kind.
    Ended,
    /// Final releases are out, and nothing tells whether they still get fixes.
    Unknown,
}

impl Phase {
    /// Every phase, in the order of a line's life.
    pub const ALL: [Phase; 6] = [
        Phase::Preview,
        Phase::Current,
        Phase::Lts,
        Phase::Maintenance,
        Phase::Ended,
        Phase::Unknown,
    ];

    /// The phase as it is written in tables and JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Phase::Preview => "preview",
            Phase::Current => "current",
            Phase::Lts => "lts",
            Phase::Maintenance => "maintenance",
            Phase::Ended => "ended",
            Phase::Unknown => "unknown",
        }
    }

    /// Whether final releases of the line are out and still get fixes.
    pub fn is_supported(self) -> bool {
        matches!(self, Phase::Current | Phase::Lts | Phase::Maintenance)
    }
}

impl fmt::Display for Phase {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl Line {
    /// The phase of this line on `day`.
    ///
    /// A phase begins on its date. The last day of support is `end` itself: the line has ended from
    /// the day after. A line that gives no start is in preview until it has a final release. Where no
    /// day is known, the other lines tell, or nothing does; a line that its publisher lists as one in long-term support
    /// is in it until then.
    pub fn phase_on(&self, day: Date) -> Phase {
        let reached = |date: Option<Date>| date.is_some_and(|date| date <= day);
        if !self.is_dated() && self.has_final {
            return match self.standing {
                Standing::Dropped => Phase::Ended,
                Standing::Outlived(end) if end < day => Phase::Ended,
                _ if self.long_term => Phase::Lts,
                Standing::Supported => Phase::Current,
                Standing::Outlived(_) | Standing::Unknown => Phase::Unknown,
            };
        }
        let dropped = self.is_dated() && self.end.is_none() && self.standing == Standing::Dropped;
        if dropped || self.end.is_some_and(|end| end < day) {
            Phase::Ended
        } else if reached(self.maintenance) {
            Phase::Maintenance
        } else if reached(self.lts) || self.is_undated_lts() {
            Phase::Lts
        } else if reached(self.start) || (self.start.is_none() && self.has_final) {
            Phase::Current
        } else {
            Phase::Preview
        }
    }

    /// Whether it is in long-term support since a day that nothing tells.
    fn is_undated_lts(&self) -> bool {
        self.long_term && self.lts.is_none() && self.has_final
    }

    /// The next change of phase after `day`: its first day and what the line becomes.
    pub fn next_phase_after(&self, day: Date) -> Option<(Date, Phase)> {
        let end = self.end.and_then(|end| end.tomorrow().ok());
        [self.start, self.lts, self.maintenance, end]
            .into_iter()
            .flatten()
            .filter(|date| *date > day)
            .min()
            .map(|date| (date, self.phase_on(date)))
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use rstest::rstest;

    fn date(text: &str) -> Date {
        text.parse().unwrap()
    }

    /// A line that goes through all phases.
    pub(crate) fn eelgrass() -> Line {
        Line {
            start: Some(date("2025-04-15")),
            lts: Some(date("2025-10-21")),
            maintenance: Some(date("2027-10-19")),
            end: Some(date("2029-04-30")),
            ..Line::undated("8")
        }
    }

    #[rstest]
    #[case("2025-04-14", Phase::Preview, Some(("2025-04-15", Phase::Current)))]
    #[case("2025-04-15", Phase::Current, Some(("2025-10-21", Phase::Lts)))]
    #[case("2025-10-21", Phase::Lts, Some(("2027-10-19", Phase::Maintenance)))]
    #[case("2027-10-19", Phase::Maintenance, Some(("2029-05-01", Phase::Ended)))]
    #[case("2029-04-30", Phase::Maintenance, Some(("2029-05-01", Phase::Ended)))]
    #[case("2029-05-01", Phase::Ended, None)]
    fn phases_turn_on_their_dates(
        #[case] day: &str,
        #[case] phase: Phase,
        #[case] next: Option<(&str, Phase)>,
    ) {
        let line = eelgrass();
        assert_eq!(line.phase_on(date(day)), phase);
        let next = next.map(|(day, phase)| (date(day), phase));
        assert_eq!(line.next_phase_after(date(day)), next);
    }

    #[test]
    fn a_line_without_a_known_end_ends_when_it_is_dropped() {
        let line = Line {
            end: None,
            standing: Standing::Dropped,
            ..eelgrass()
        };
        assert_eq!(line.phase_on(date("2026-11-23")), Phase::Ended);
        let known = Line {
            standing: Standing::Dropped,
            ..eelgrass()
        };
        assert_eq!(known.phase_on(date("2026-11-23")), Phase::Lts);
    }

    #[test]
    fn a_short_lived_line_ends_without_lts() {
        let line = Line {
            lts: None,
            maintenance: None,
            end: Some(date("2025-11-30")),
            ..eelgrass()
        };
        assert_eq!(line.phase_on(date("2025-11-30")), Phase::Current);
        assert_eq!(line.phase_on(date("2025-12-01")), Phase::Ended);
    }

    #[rstest]
    #[case(true, Standing::Unknown, Phase::Unknown)]
    #[case(true, Standing::Supported, Phase::Current)]
    #[case(true, Standing::Dropped, Phase::Ended)]
    #[case(true, Standing::Outlived(date("2026-11-22")), Phase::Ended)]
    #[case(true, Standing::Outlived(date("2026-11-23")), Phase::Unknown)]
    #[case(false, Standing::Unknown, Phase::Preview)]
    #[case(false, Standing::Dropped, Phase::Preview)]
    fn an_undated_line_goes_by_its_releases_and_the_other_lines(
        #[case] has_final: bool,
        #[case] standing: Standing,
        #[case] phase: Phase,
    ) {
        let line = Line {
            has_final,
            standing,
            ..Line::undated("3")
        };
        assert_eq!(line.phase_on(date("2026-11-23")), phase);
    }
}
