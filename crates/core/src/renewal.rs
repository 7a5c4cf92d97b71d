//! Which lines on a shelf have a newer patch: the plan of a renewal, as data.

use crate::catalog::Catalog;
use crate::install::{InstallId, Key};
use crate::outlook::{self, Newer};
use crate::platform::Platform;

/// A line of one publisher, to be moved to its newest release.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Renewal<'a> {
    /// The line's name.
    pub line: &'a str,
    /// The install that the new release takes the place of.
    pub from: &'a InstallId,
    /// All installs of the line, the newest first.
    pub members: Vec<&'a InstallId>,
    /// The newest release, which may be on the shelf already.
    pub to: Newer,
}

/// The lines on the shelf whose place is taken by a newer release for `platform`, in the order of the
/// shelf, which is newest first. Of each line and publisher one install moves: the first in `followed`,
/// the keys of what is the default, labelled and the like, or else the newest. So a renewal that was
/// cut off is gone on with. Pre-releases move to final releases, never the other way.
pub fn plan<'a>(
    catalog: &'a Catalog,
    shelf: &'a [InstallId],
    followed: &[Key],
    platform: &Platform,
) -> Vec<Renewal<'a>> {
    let mut groups: Vec<(&str, Vec<&InstallId>)> = Vec::new();
    for install in shelf {
        let Some(line) = catalog.line_of(&install.version) else {
            continue;
        };
        let same = |(name, members): &&mut (&str, Vec<&InstallId>)| {
            *name == line.name && members[0].publisher == install.publisher
        };
        match groups.iter_mut().find(same) {
            Some((_, members)) => members.push(install),
            None => groups.push((&line.name, vec![install])),
        }
    }
    let renewal = |(line, members): (&'a str, Vec<&'a InstallId>)| {
        let of_key = |key: &Key| members.iter().copied().find(|member| member.key == *key);
        let from = followed.iter().find_map(of_key).unwrap_or(members[0]);
        let to = outlook::newer(catalog, &from.version, &from.publisher, platform)?;
        Some(Renewal {
            line,
            from,
            members,
            to,
        })
    };
    groups.into_iter().filter_map(renewal).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::{Line, Publisher, Release};

    fn install(publisher: &str, version: &str) -> InstallId {
        InstallId::new(version.parse().unwrap(), publisher)
    }

    #[test]
    fn each_line_of_each_publisher_moves_once() {
        let release = |publisher: &str, version: &str, security: bool| Release {
            version: version.parse().unwrap(),
            publisher: publisher.into(),
            date: None,
            security: Some(security),
            withdrawn: None,
            platforms: ["linux-x64".parse().unwrap()].into(),
        };
        let publisher = |id: &str| Publisher::new(id, id, id == "saltmarsh");
        let catalog = Catalog {
            runtime: "marram".into(),
            publishers: vec![publisher("saltmarsh"), publisher("dunefield")],
            lines: vec![Line::undated("6"), Line::undated("8"), Line::undated("10")],
            releases: vec![
                release("saltmarsh", "6.2.0", false),
                release("saltmarsh", "6.20.2", true),
                release("dunefield", "6.2.1", false),
                release("saltmarsh", "8.3.1", false),
                release("saltmarsh", "10.0.0-rc.2", false),
                release("saltmarsh", "10.0.0", false),
            ],
            ..Catalog::default()
        }
        .ordered();
        let shelf = [
            install("saltmarsh", "77.0.0"),
            install("saltmarsh", "10.0.0-rc.1"),
            install("saltmarsh", "8.3.1"),
            install("saltmarsh", "6.2.0"),
            install("saltmarsh", "6.1.0"),
            install("dunefield", "6.2.0"),
        ];
        let platform = "linux-x64-gnu".parse().unwrap();
        let moves = |followed: &[Key]| -> Vec<(String, String, bool)> {
            let plan = plan(&catalog, &shelf, followed, &platform);
            let of = |renewal: &Renewal<'_>| {
                let to = &renewal.to;
                (
                    renewal.from.key.selector(),
                    to.version.to_string(),
                    to.fixes_security(),
                )
            };
            plan.iter().map(of).collect()
        };
        let expected = [
            ("saltmarsh/10.0.0-rc.1", "10.0.0", false),
            ("saltmarsh/6.2.0", "6.20.2", true),
            ("dunefield/6.2.0", "6.2.1", false),
        ];
        let expected = expected.map(|(from, to, security)| (from.into(), to.into(), security));
        assert_eq!(moves(&[]), expected);
        // What is followed moves, even where the newest is there already.
        let older = moves(&["saltmarsh/6.1.0".parse().unwrap()]);
        assert_eq!(older[1], ("saltmarsh/6.1.0".into(), "6.20.2".into(), true));
    }
}
