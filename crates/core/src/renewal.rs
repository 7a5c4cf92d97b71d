//! Which lines on a shelf have a newer patch: the plan of a renewal, as data.

use crate::catalog::Catalog;
use crate::outlook::{self, Newer};
use crate::platform::Platform;
use crate::resolve::Shelved;

/// A line of one publisher, to be moved to its newest release.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Renewal<'a> {
    /// The line's name.
    pub line: &'a str,
    /// The newest install of it on the shelf.
    pub from: &'a Shelved,
    /// What is published since.
    pub to: Newer,
}

/// The lines on the shelf that have a newer release for `platform`, in the order of the shelf, which
/// is newest first. Of each line and publisher only the newest install counts, and pre-releases move
/// to final releases, never the other way.
pub fn plan<'a>(
    catalog: &'a Catalog,
    shelf: &'a [Shelved],
    platform: &Platform,
) -> Vec<Renewal<'a>> {
    let mut seen: Vec<(&str, &str)> = Vec::new();
    let mut renewals = Vec::new();
    for install in shelf {
        let Some(line) = catalog.line_of(&install.version) else {
            continue;
        };
        let group = (line.name.as_str(), install.publisher.as_str());
        if seen.contains(&group) {
            continue;
        }
        seen.push(group);
        let newer = outlook::newer(catalog, &install.version, &install.publisher, platform);
        renewals.extend(newer.map(|to| Renewal {
            line: group.0,
            from: install,
            to,
        }));
    }
    renewals
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::{Line, Publisher, Release};
    use std::collections::BTreeMap;

    fn shelved(publisher: &str, version: &str) -> Shelved {
        Shelved {
            key: format!("{publisher}-{version}"),
            version: version.parse().unwrap(),
            publisher: publisher.into(),
        }
    }

    #[test]
    fn each_line_of_each_publisher_moves_once() {
        let release = |publisher: &str, version: &str, security: bool| Release {
            version: version.parse().unwrap(),
            publisher: publisher.into(),
            date: None,
            security,
            withdrawn: None,
            platforms: ["linux-x64".parse().unwrap()].into(),
        };
        let publisher = |id: &str| Publisher {
            id: id.into(),
            name: id.into(),
            main: id == "saltmarsh",
        };
        let catalog = Catalog::new(
            "marram".into(),
            None,
            vec![publisher("saltmarsh"), publisher("dunefield")],
            BTreeMap::new(),
            vec![Line::undated("6"), Line::undated("8"), Line::undated("10")],
            vec![
                release("saltmarsh", "6.2.0", false),
                release("saltmarsh", "6.20.2", true),
                release("dunefield", "6.2.1", false),
                release("saltmarsh", "8.3.1", false),
                release("saltmarsh", "10.0.0-rc.2", false),
                release("saltmarsh", "10.0.0", false),
            ],
        );
        let shelf = [
            shelved("saltmarsh", "77.0.0"),
            shelved("saltmarsh", "10.0.0-rc.1"),
            shelved("saltmarsh", "8.3.1"),
            shelved("saltmarsh", "6.2.0"),
            shelved("saltmarsh", "6.1.0"),
            shelved("dunefield", "6.2.0"),
        ];
        let platform = "linux-x64-gnu".parse().unwrap();
        let plan = plan(&catalog, &shelf, &platform);
        let moves: Vec<(&str, &str, bool)> = (plan.iter())
            .map(|renewal| {
                (
                    renewal.from.key.as_str(),
                    renewal.to.version.as_str(),
                    renewal.to.security,
                )
            })
            .collect();
        let expected = [
            ("saltmarsh-10.0.0-rc.1", "10.0.0", false),
            ("saltmarsh-6.2.0", "6.20.2", true),
            ("dunefield-6.2.0", "6.2.1", false),
        ];
        assert_eq!(moves, expected);
    }
}
