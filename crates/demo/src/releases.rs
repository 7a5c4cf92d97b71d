//! All that Saltmarsh Foundation and Dunefield Builds published of Marram.

use jiff::ToSpan;
use jiff::civil::Date;

/// A release line: number, code name, and the dates start, lts, maintenance, end.
pub struct DemoLine {
    /// The leading number.
    pub line: &'static str,
    /// The code name.
    pub codename: Option<&'static str>,
    /// First day of the first final release.
    pub start: &'static str,
    /// First day of long-term support.
    pub lts: Option<&'static str>,
    /// First day of maintenance.
    pub maintenance: Option<&'static str>,
    /// Last day of support.
    pub end: &'static str,
    /// The versions that the main publisher released, oldest first.
    pub saltmarsh: &'static str,
    /// Those that the second publisher released.
    pub dunefield: &'static str,
}

/// The lines, oldest first.
pub const LINES: [DemoLine; 8] = [
    DemoLine {
        line: "3",
        codename: None,
        start: "2019-04-09",
        lts: None,
        maintenance: None,
        end: "2020-12-31",
        saltmarsh: "3.0.0 3.0.1 3.1.0 3.1.1 3.2.0 3.2.4",
        dunefield: "",
    },
    DemoLine {
        line: "4",
        codename: Some("Glasswort"),
        start: "2020-04-14",
        lts: Some("2020-10-20"),
        maintenance: Some("2022-10-18"),
        end: "2024-04-30",
        saltmarsh: "4.0.0 4.1.0 4.2.0 4.2.1 4.4.0 4.4.2 4.6.0 4.6.1 4.8.0 4.8.1 4.8.2 4.8.3",
        dunefield: "4.8.3",
    },
    DemoLine {
        line: "5",
        codename: None,
        start: "2021-04-13",
        lts: None,
        maintenance: None,
        end: "2022-06-30",
        saltmarsh: "5.0.0 5.0.1 5.1.0 5.2.0 5.2.1",
        dunefield: "",
    },
    DemoLine {
        line: "6",
        codename: Some("Samphire"),
        start: "2022-04-12",
        lts: Some("2022-10-18"),
        maintenance: Some("2025-10-21"),
        end: "2026-12-28",
        saltmarsh: "6.0.0 6.0.1 6.0.2 6.0.3 6.1.0 6.1.1 6.2.0 6.2.1 6.2.2 6.2.3 6.2.9 6.2.10 \
                    6.2.11 6.4.0 6.8.0 6.8.1 6.12.0 6.16.0 6.16.1 6.20.0 6.20.1 6.20.2",
        dunefield: "6.2.11 6.16.1 6.20.1 6.20.2",
    },
    DemoLine {
        line: "7",
        codename: None,
        start: "2024-04-09",
        lts: None,
        maintenance: None,
        end: "2025-06-30",
        saltmarsh: "7.0.0 7.0.1 7.1.0 7.2.0 7.2.1 7.2.2",
        dunefield: "7.2.2 7.2.3",
    },
    DemoLine {
        line: "8",
        codename: Some("Eelgrass"),
        start: "2025-04-15",
        lts: Some("2025-10-21"),
        maintenance: Some("2027-10-19"),
        end: "2029-04-30",
        saltmarsh: "8.0.0 8.0.1 8.1.0 8.1.1 8.1.2 8.2.0 8.2.1 8.2.2 8.3.0 8.3.1",
        dunefield: "8.1.2 8.2.2 8.3.0 8.3.1",
    },
    DemoLine {
        line: "9",
        codename: None,
        start: "2026-04-14",
        lts: None,
        maintenance: None,
        end: "2027-06-30",
        saltmarsh: "9.0.0 9.0.1 9.1.0 9.1.1 9.2.0",
        dunefield: "9.1.1",
    },
    DemoLine {
        line: "10",
        codename: None,
        start: "2027-04-13",
        lts: Some("2027-10-19"),
        maintenance: None,
        end: "2031-04-30",
        saltmarsh: "10.0.0-alpha.1 10.0.0-alpha.2 10.0.0-beta.1 10.0.0-beta.2 10.0.0-rc.1",
        dunefield: "",
    },
];

/// Releases that fix a security problem.
const SECURITY: [&str; 6] = ["4.8.3", "6.2.10", "6.20.2", "8.2.2", "8.3.1", "9.1.1"];

/// Releases that were taken back, and why.
const WITHDRAWN: [(&str, &str); 2] = [
    ("8.2.1", "loses readings at midnight"),
    ("6.2.9", "cannot read its own tide tables"),
];

/// Dates that do not follow from the spacing of their line.
const DATES: [(&str, &str); 5] = [
    ("8.3.1", "2026-10-14"),
    ("9.2.0", "2026-11-10"),
    ("6.20.2", "2026-10-14"),
    ("10.0.0-beta.2", "2026-11-03"),
    ("10.0.0-rc.1", "2026-11-17"),
];

/// One release of the demo.
pub struct DemoRelease {
    /// The version.
    pub version: &'static str,
    /// The publisher's id.
    pub publisher: &'static str,
    /// The day of publication.
    pub date: Date,
    /// Whether it fixes a security problem.
    pub security: bool,
    /// Why it was taken back, if it was.
    pub withdrawn: Option<&'static str>,
    /// What it is built for.
    pub platforms: &'static [&'static str],
    /// The version of the package tool in it.
    pub tussock: String,
}

/// Every release of both publishers.
pub fn all() -> Vec<DemoRelease> {
    LINES.iter().flat_map(of_line).collect()
}

fn of_line(line: &'static DemoLine) -> Vec<DemoRelease> {
    let day = |text: &str| -> Date { text.parse().expect("the dates above are dates") };
    let versions: Vec<&str> = line.saltmarsh.split_whitespace().collect();
    let today = day(crate::TODAY);
    let start = day(line.start);
    // A line that is still to start has its pre-releases in the months before today.
    let (first, last) = match start > today {
        true => (today - 6.months(), today - 6.days()),
        false => (start, day(line.end).min(today - 40.days())),
    };
    let span = (last - first).get_days();
    let date_of = |index: usize| {
        first + (i64::from(span) * index as i64 / versions.len().max(1) as i64).days()
    };
    let release = |version: &'static str, publisher: &'static str, date: Date| DemoRelease {
        version,
        publisher,
        date: DATES
            .iter()
            .find(|(v, _)| *v == version)
            .map_or(date, |(_, d)| day(d)),
        security: SECURITY.contains(&version),
        withdrawn: WITHDRAWN
            .iter()
            .find(|(v, _)| *v == version && publisher == "saltmarsh")
            .map(|(_, reason)| *reason),
        platforms: platforms(version),
        tussock: tussock(version),
    };
    let mut releases: Vec<DemoRelease> = versions
        .iter()
        .enumerate()
        .map(|(index, version)| release(version, "saltmarsh", date_of(index)))
        .collect();
    for version in line.dunefield.split_whitespace() {
        let date = releases
            .iter()
            .find(|r| r.version == version)
            .map_or(last, |original| original.date);
        releases.push(release(version, "dunefield", (date + 3.days()).min(today)));
    }
    releases
}

fn platforms(version: &str) -> &'static [&'static str] {
    match version {
        "7.0.1" => &["darwin-arm64", "darwin-x64"],
        _ if version.starts_with(['3', '4']) => {
            &["linux-x64", "linux-arm64", "darwin-x64", "darwin-arm64"]
        }
        _ => &["linux-x64", "linux-arm64", "darwin-arm64", "darwin-x64"],
    }
}

/// The package tool's version follows the language's: 8.3.1 brings 3.3.
fn tussock(version: &str) -> String {
    let mut numbers = version.split(['.', '-']);
    let major: u32 = numbers.next().and_then(|n| n.parse().ok()).unwrap_or(0);
    let minor = numbers.next().unwrap_or("0");
    format!("{}.{minor}.0", major.saturating_sub(5).max(1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_world_holds_what_the_stories_need() {
        let releases = all();
        assert!(
            (80..=100).contains(&releases.len()),
            "{} releases",
            releases.len()
        );
        let by = |version: &str| -> Vec<&str> {
            releases
                .iter()
                .filter(|r| r.version == version)
                .map(|r| r.publisher)
                .collect()
        };
        assert_eq!(by("8.3.1"), ["saltmarsh", "dunefield"]);
        assert_eq!(by("9.2.0"), ["saltmarsh"]);
        assert_eq!(by("7.2.3"), ["dunefield"]);
        let today: Date = crate::TODAY.parse().unwrap();
        for release in &releases {
            assert!(
                release.date <= today,
                "{} is from {}",
                release.version,
                release.date
            );
        }
    }
}
