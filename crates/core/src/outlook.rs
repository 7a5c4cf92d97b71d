//! What has come out since a version: newer releases of its line, and whether they fix a security
//! problem.

use std::collections::HashSet;

use crate::catalog::{Catalog, Release};
use crate::platform::Platform;
use crate::version::Version;

/// The newest release of the same line and publisher that is newer than a version.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
pub struct Newer {
    /// Its version.
    pub version: Version,
    /// Whether it, or one between, fixes a security problem: `None` if none is known to, and no source
    /// says it of all of them.
    pub security: Option<bool>,
}

impl Newer {
    /// Whether it is known that it, or one between, fixes a security problem.
    pub fn fixes_security(&self) -> bool {
        self.security == Some(true)
    }
}

/// Whether one of two releases fixes a security problem, if that is known.
fn either(one: Option<bool>, other: Option<bool>) -> Option<bool> {
    match (one, other) {
        (Some(true), _) | (_, Some(true)) => Some(true),
        (Some(false), Some(false)) => Some(false),
        _ => None,
    }
}

/// What is newer than `version` of `publisher` in its line, final and built for `platform`.
pub fn newer(
    catalog: &Catalog,
    version: &Version,
    publisher: &str,
    platform: &Platform,
) -> Option<Newer> {
    let line = catalog.line_of(version)?;
    let of_line = catalog.releases_of(line);
    let since = of_line.take_while(|release| release.version > *version);
    let mut since = since.filter(|release| {
        *release.publisher == *publisher
            && !release.version.is_pre_release()
            && release.withdrawn.is_none()
            && release.runs_on(platform)
    });
    let newest = since.next()?;
    Some(Newer {
        version: newest.version.clone(),
        security: since.fold(newest.security, |known, release| {
            either(known, release.security)
        }),
    })
}

/// The releases that stand for their lines: of each line the newest final ones and the newest pre-releases, by
/// publisher, platforms and what is known of a security fix; and all that were withdrawn. Of them [`newer`] says the same as of
/// the whole catalog, and the newest of a line that runs somewhere is among them.
pub fn heads(catalog: &Catalog) -> impl Iterator<Item = &Release> {
    let mut seen = HashSet::new();
    catalog.releases.iter().filter(move |release| {
        let line = catalog.line_of(&release.version);
        let kind = (
            line.map(|line| &line.name),
            (&release.publisher, &release.platforms),
            (release.version.is_pre_release(), release.security),
        );
        release.withdrawn.is_some() || seen.insert(kind)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::{Line, Publisher, Release};
    use rstest::rstest;

    fn catalog() -> Catalog {
        let release =
            |version: &str, security: Option<bool>, withdrawn: bool, platform: &str| Release {
                version: version.parse().unwrap(),
                publisher: "saltmarsh".into(),
                date: None,
                security,
                withdrawn: withdrawn.then(|| "broken".into()),
                platforms: [platform.parse().unwrap()].into(),
            };
        let publisher = Publisher::new("saltmarsh", "Saltmarsh", true);
        Catalog {
            runtime: "marram".into(),
            publishers: vec![publisher],
            lines: vec![Line::undated("8"), Line::undated("9")],
            releases: vec![
                release("8.0.0", Some(false), false, "linux-x64"),
                release("8.1.0", Some(true), false, "linux-x64"),
                release("8.2.0", Some(false), false, "linux-x64"),
                release("8.2.1", Some(false), true, "linux-x64"),
                release("8.3.0", Some(true), false, "darwin-arm64"),
                release("8.4.0-rc.1", Some(true), false, "linux-x64"),
                release("9.0.0", Some(true), false, "linux-x64"),
                release("9.1.0", Some(false), false, "linux-x64"),
                release("9.2.0", None, false, "linux-x64"),
                release("9.3.0", Some(false), false, "linux-x64"),
                release("9.4.0", Some(false), false, "linux-x64"),
            ],
            ..Catalog::default()
        }
        .ordered()
    }

    #[rstest]
    #[case("8.0.0", Some(("8.2.0", Some(true))))]
    #[case("8.1.0", Some(("8.2.0", Some(false))))]
    #[case("8.2.0", None)]
    #[case::a_known_fix_outweighs_what_is_unknown("9.0.0-rc.1", Some(("9.4.0", Some(true))))]
    #[case::one_between_is_unknown("9.0.0", Some(("9.4.0", None)))]
    #[case("9.2.0", Some(("9.4.0", Some(false))))]
    #[case("9.4.0", None)]
    fn only_what_can_be_had_here_counts(
        #[case] version: &str,
        #[case] expected: Option<(&str, Option<bool>)>,
    ) {
        let version = version.parse().unwrap();
        let platform = "linux-x64-gnu".parse().unwrap();
        let catalog = catalog();
        let found = newer(&catalog, &version, "saltmarsh", &platform);
        let told = (found.as_ref()).map(|newer| (newer.version.as_str(), newer.security));
        assert_eq!(told, expected);
        let of_heads = Catalog {
            releases: heads(&catalog).cloned().collect(),
            ..catalog.clone()
        };
        let same = newer(&of_heads, &version, "saltmarsh", &platform);
        assert_eq!(same, found, "what stands for its line says the same");
    }

    #[test]
    fn of_each_line_the_newest_of_each_kind_stand_for_it() {
        let mut catalog = catalog();
        let older = |version: &str| Release {
            version: version.parse().unwrap(),
            ..catalog.releases.last().unwrap().clone()
        };
        catalog
            .releases
            .extend(["7.1.0", "7.0.0", "7.0.0-rc.2", "7.0.0-rc.1"].map(older));
        let catalog = catalog.ordered();
        let versions = heads(&catalog).map(|release| release.version.as_str());
        assert_eq!(
            versions.collect::<Vec<_>>(),
            [
                "9.4.0",
                "9.2.0",
                "9.0.0",
                "8.4.0-rc.1",
                "8.3.0",
                "8.2.1",
                "8.2.0",
                "8.1.0",
                "7.1.0",
                "7.0.0-rc.2",
            ]
        );
    }
}
