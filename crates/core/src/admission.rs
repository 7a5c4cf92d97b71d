//! The gate onto the shelf: what may become an install, and what vouches for its bytes.
//!
//! Everything that reaches the shelf needs an [`Admitted`], and [`Grounds::admit`] is the only function
//! that makes one. It judges facts that were collected before; it reads nothing itself.

use std::path::PathBuf;

use jiff::civil::Date;

use crate::Range;
use crate::catalog::{Build, Digest};
use crate::definition::SourceDefinition;
use crate::install::Key;
use crate::lifecycle::Phase;
use crate::lock_file::LockedRelease;
use crate::platform::Platform;
use crate::rules::{Rule, RuleKind};
use crate::version::Version;

/// The facts that the gate judges: the rules in force, and one release.
#[derive(Clone, Debug)]
pub struct Grounds {
    /// The runtime.
    pub runtime: String,
    /// The version.
    pub version: Version,
    /// The publisher's id.
    pub publisher: String,
    /// The phase of its line today, if something dates it.
    pub phase: Option<Phase>,
    /// The rules in force.
    pub rules: Vec<Rule>,
    /// The day on which they are applied.
    pub today: Date,
    /// The platform that it is for.
    pub host: Platform,
    /// Which of the digests that sources state are accepted.
    pub narrowing: Narrowing,
}

/// Which of the digests that sources state are accepted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Narrowing {
    /// Any of them.
    Open,
    /// Those of a project's lock.
    Lock(Box<LockedRelease>),
    /// That of the install that was there before.
    Same(String),
}

/// Where something comes from that is about to become an install.
#[derive(Clone, Copy, Debug)]
pub enum Origin<'o> {
    /// An archive, or the archive of what it is built from, with the digest that its source stated.
    Source {
        /// The source.
        source: &'o SourceDefinition,
        /// The digest.
        stated: &'o Digest,
    },
    /// A folder or an archive that the person has.
    Adopted,
    /// An install that was on this shelf before. Its source is `None` if the definition does not have it
    /// any more.
    Former {
        /// The source.
        source: Option<&'o SourceDefinition>,
        /// Whether it was adopted.
        was_adopted: bool,
    },
}

/// Leave to put one install on the shelf.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Admitted {
    runtime: String,
    version: Version,
    key: Key,
    digest: Option<String>,
    source: Option<String>,
}

/// Why something may not be put on the shelf.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// A rule forbids it.
    #[error("{what}")]
    Forbidden {
        /// What about it is forbidden.
        what: Forbidden,
        /// The reason, if the rule gives one.
        why: Option<String>,
        /// The file that has the rule.
        file: PathBuf,
        /// The line, counted from 1.
        line: usize,
    },
    /// Its source states a digest that is not accepted.
    #[error("its source states {stated}")]
    OtherDigest {
        /// The digest that the source stated.
        stated: String,
        /// The digests that are accepted.
        accepted: Vec<String>,
    },
}

/// The part of a release that a rule forbids.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Forbidden {
    /// Its version.
    #[error("{0} is denied")]
    Version(Range),
    /// That its line has ended.
    #[error("its line is no longer supported")]
    EndedLine,
    /// Its source, by its full name.
    #[error("the source {0} is not among those that may be used")]
    Source(String),
    /// A source without a signature, by its full name.
    #[error("the source {0} is no signed catalog")]
    Unsigned(String),
    /// That no source vouches for it.
    #[error("it does not come from a source, and adopting is not allowed")]
    Adopting,
}

impl Admitted {
    /// The runtime.
    pub fn runtime(&self) -> &str {
        &self.runtime
    }

    /// The version.
    pub fn version(&self) -> &Version {
        &self.version
    }

    /// The key on the shelf.
    pub fn key(&self) -> &Key {
        &self.key
    }

    /// The digest that the archive must have, if it comes from a source.
    pub fn digest(&self) -> Option<&str> {
        self.digest.as_deref()
    }

    /// The name of the source, if it comes from one.
    pub fn source(&self) -> Option<&str> {
        self.source.as_deref()
    }
}

impl Grounds {
    /// Its key on the shelf.
    pub fn key(&self) -> Key {
        Key::new(&self.version, &self.publisher)
    }

    /// Admits an install of this release, or says why not.
    pub fn admit(&self, origin: Origin<'_>) -> Result<Admitted, Refusal> {
        self.check_release()?;
        let (mut digest, mut named) = (None, None);
        match origin {
            Origin::Source { source, stated } => {
                self.check_source(source)?;
                self.check_digest(stated)?;
                digest = Some(stated.to_string());
                named = Some(source.name.clone());
            }
            Origin::Adopted => self.check_adopting()?,
            Origin::Former {
                was_adopted: true, ..
            }
            | Origin::Former { source: None, .. } => self.check_adopting()?,
            Origin::Former {
                source: Some(source),
                ..
            } => self.check_source(source)?,
        }
        Ok(Admitted {
            runtime: self.runtime.clone(),
            version: self.version.clone(),
            key: self.key(),
            digest,
            source: named,
        })
    }

    /// Fails if a rule forbids the release, whatever its source.
    pub fn check_release(&self) -> Result<(), Refusal> {
        let counts = |from: &Option<Date>| from.is_none_or(|from| from <= self.today);
        for rule in &self.rules {
            match &rule.kind {
                RuleKind::Denied(denied)
                    if denied.runtime == self.runtime
                        && denied.versions.contains(&self.version.to_final())
                        && counts(&denied.from) =>
                {
                    let what = Forbidden::Version(denied.versions.clone());
                    return Err(forbidden(what, Some(&denied.why), rule));
                }
                RuleKind::EndedLines(refusal)
                    if self.phase == Some(Phase::Ended) && counts(&refusal.from) =>
                {
                    return Err(forbidden(Forbidden::EndedLine, Some(&refusal.why), rule));
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Fails if a rule forbids to install from a source.
    pub fn check_source(&self, source: &SourceDefinition) -> Result<(), Refusal> {
        let name = format!("{}.{}", self.runtime, source.name);
        for rule in &self.rules {
            let what = match &rule.kind {
                RuleKind::Sources(allowed) if !allowed.contains(&name) => {
                    Forbidden::Source(name.clone())
                }
                RuleKind::SignedOnly if source.kind.key().is_none() => {
                    Forbidden::Unsigned(name.clone())
                }
                _ => continue,
            };
            return Err(forbidden(what, None, rule));
        }
        Ok(())
    }

    /// Fails if a rule asks for a source. A file with such a rule can allow adopting itself.
    fn check_adopting(&self) -> Result<(), Refusal> {
        let asks_for_source =
            |rule: &&Rule| matches!(rule.kind, RuleKind::Sources(_) | RuleKind::SignedOnly);
        let mut rules = self.rules.iter().filter(asks_for_source);
        match rules.find(|rule| !rule.adopting) {
            Some(rule) => Err(forbidden(Forbidden::Adopting, None, rule)),
            None => Ok(()),
        }
    }

    /// Fails if a digest that a source stated is not an accepted one.
    pub fn check_digest(&self, stated: &Digest) -> Result<(), Refusal> {
        let stated = stated.to_string();
        let accepted = match self.accepted() {
            Some(accepted) if !accepted.contains(&stated) => accepted,
            _ => return Ok(()),
        };
        Err(Refusal::OtherDigest { stated, accepted })
    }

    /// The digests that are accepted, or `None` if all are that sources state.
    pub fn accepted(&self) -> Option<Vec<String>> {
        match &self.narrowing {
            Narrowing::Open => None,
            Narrowing::Same(digest) => Some(vec![digest.clone()]),
            Narrowing::Lock(locked) => {
                let archives = locked.archives_for(&self.host).into_iter();
                Some(archives.map(|archive| archive.digest.to_string()).collect())
            }
        }
    }

    /// The lock that narrows what is accepted.
    pub fn lock(&self) -> Option<&LockedRelease> {
        match &self.narrowing {
            Narrowing::Lock(locked) => Some(locked),
            Narrowing::Open | Narrowing::Same(_) => None,
        }
    }
}

fn forbidden(what: Forbidden, why: Option<&String>, rule: &Rule) -> Refusal {
    Refusal::Forbidden {
        what,
        why: why.cloned(),
        file: rule.file.clone(),
        line: rule.line,
    }
}

/// The name under which a `sources` rule allows the packages of a runtime's package tool, which come from
/// the person's registry.
pub fn packages_source(runtime: &str) -> String {
    format!("{runtime}.packages")
}

/// Returns the rule that forbids to install packages with a runtime's package tool.
pub fn rule_against_packages<'r>(runtime: &str, rules: &'r [Rule]) -> Option<&'r Rule> {
    let name = packages_source(runtime);
    rules.iter().find(|rule| match &rule.kind {
        RuleKind::Sources(allowed) => !allowed.contains(&name),
        _ => false,
    })
}

/// Two builds of one file, in one form, for which different sources state different digests.
pub fn contradiction(builds: &[Build]) -> Option<(&Build, &Build)> {
    let contradicts = |one: &Build, other: &Build| {
        let digests = one.checksum.digest().zip(other.checksum.digest());
        let Some((one_digest, other_digest)) = digests else {
            return false;
        };
        one.source != other.source
            && one.platform == other.platform
            && one.repack.is_some() == other.repack.is_some()
            && file_name(&one.address) == file_name(&other.address)
            && one_digest.algorithm == other_digest.algorithm
            && one_digest != other_digest
    };
    builds.iter().enumerate().find_map(|(at, one)| {
        let mut others = builds[at + 1..].iter();
        others
            .find(|other| contradicts(one, other))
            .map(|other| (one, other))
    })
}

/// The name of the file at an address.
pub fn file_name(address: &str) -> &str {
    let path = address.split(['?', '#']).next().unwrap_or(address);
    path.rsplit(['/', '\\']).next().unwrap_or(path)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::Checksum;
    use crate::definition::SourceKind;
    use crate::lock_file::LockedArchive;
    use crate::rules::{Denied, Refusal as Ended};
    use rstest::rstest;

    fn digest(byte: &str) -> Digest {
        format!("sha256:{}", byte.repeat(32)).parse().unwrap()
    }

    fn rule(kind: RuleKind, adopting: bool) -> Rule {
        Rule {
            file: "/etc/vivid-shelf/shelf.toml".into(),
            line: 3,
            kind,
            adopting,
        }
    }

    fn grounds(rules: Vec<Rule>) -> Grounds {
        Grounds {
            runtime: "marram".into(),
            version: "8.3.1".parse().unwrap(),
            publisher: "saltmarsh".into(),
            phase: Some(Phase::Ended),
            rules,
            today: "2026-11-23".parse().unwrap(),
            host: "linux-x64-gnu".parse().unwrap(),
            narrowing: Narrowing::Open,
        }
    }

    fn source(key: Option<&str>) -> SourceDefinition {
        let kind = SourceKind::Catalog {
            address: "https://gull.example/catalog.json".into(),
            mirrors: Vec::new(),
            key: key.map(str::to_owned),
            publisher: None,
        };
        SourceDefinition::new("depot", kind)
    }

    fn sources(names: &[&str]) -> RuleKind {
        RuleKind::Sources(names.iter().map(ToString::to_string).collect())
    }

    fn denied(versions: &str, from: Option<&str>) -> RuleKind {
        RuleKind::Denied(Denied {
            runtime: "marram".into(),
            versions: versions.parse().unwrap(),
            why: "it loses readings".into(),
            from: from.map(|day| day.parse().unwrap()),
        })
    }

    fn ended(from: Option<&str>) -> RuleKind {
        RuleKind::EndedLines(Ended {
            why: "nobody fixes them".into(),
            from: from.map(|day| day.parse().unwrap()),
        })
    }

    #[rstest]
    #[case::none(vec![], true, true)]
    #[case::denied(vec![rule(denied("8", None), true)], false, false)]
    #[case::denied_later(vec![rule(denied("8", Some("2026-12-01")), false)], true, true)]
    #[case::other_version(vec![rule(denied("9", None), false)], true, true)]
    #[case::ended(vec![rule(ended(None), true)], false, false)]
    #[case::ended_later(vec![rule(ended(Some("2027-01-01")), false)], true, true)]
    #[case::allowed_source(vec![rule(sources(&["marram.depot"]), false)], true, false)]
    #[case::other_source(vec![rule(sources(&["marram.other"]), true)], false, true)]
    #[case::signed(vec![rule(RuleKind::SignedOnly, false)], false, false)]
    #[case::adopting_allowed_by_one_file(
        vec![rule(sources(&["marram.depot"]), true), rule(RuleKind::SignedOnly, false)], false, false
    )]
    fn rules_decide_what_comes_from_a_source_and_what_is_adopted(
        #[case] rules: Vec<Rule>,
        #[case] from_source: bool,
        #[case] adopted: bool,
    ) {
        let grounds = grounds(rules);
        let (depot, stated) = (source(None), digest("0a"));
        let origin = Origin::Source {
            source: &depot,
            stated: &stated,
        };
        assert_eq!(grounds.admit(origin).is_ok(), from_source);
        assert_eq!(grounds.admit(Origin::Adopted).is_ok(), adopted);
        // Former installs obey the same rules.
        for (source, was_adopted, expected) in [
            (Some(&depot), false, from_source),
            (Some(&depot), true, adopted),
            (None, false, adopted),
        ] {
            let origin = Origin::Former {
                source,
                was_adopted,
            };
            assert_eq!(grounds.admit(origin).is_ok(), expected);
        }
    }

    #[test]
    fn a_signed_source_passes_a_rule_that_asks_for_signatures() {
        let grounds = grounds(vec![rule(RuleKind::SignedOnly, false)]);
        assert!(grounds.check_source(&source(Some("a key"))).is_ok());
        let refusal = grounds.check_source(&source(None)).unwrap_err();
        assert_eq!(
            refusal.to_string(),
            "the source marram.depot is no signed catalog"
        );
    }

    #[test]
    fn a_lock_and_a_former_install_narrow_the_accepted_digests() {
        let archive = |platform: &str, byte: &str| LockedArchive {
            platform: platform.parse().unwrap(),
            digest: digest(byte),
            size: None,
        };
        let locked = LockedRelease {
            runtime: "marram".into(),
            required: "8".into(),
            version: "8.3.1".parse().unwrap(),
            publisher: "saltmarsh".into(),
            archives: vec![
                archive("linux-x64-gnu", "0a"),
                archive("linux-x64-gnu", "0b"),
                archive("linux-arm64-gnu", "0c"),
            ],
            companions: Vec::new(),
            packages: Vec::new(),
            patches: Vec::new(),
        };
        let depot = source(None);
        let admits = |narrowing: Narrowing, byte: &str| {
            let grounds = Grounds {
                narrowing,
                ..grounds(Vec::new())
            };
            let admitted = grounds.admit(Origin::Source {
                source: &depot,
                stated: &digest(byte),
            });
            admitted.map(|admitted| admitted.digest().unwrap().to_owned())
        };
        let lock = || Narrowing::Lock(Box::new(locked.clone()));
        for byte in ["0a", "0b"] {
            assert_eq!(admits(lock(), byte), Ok(digest(byte).to_string()));
        }
        // The digest of another platform is not a digest of this one.
        for byte in ["0c", "0d"] {
            let refusal = admits(lock(), byte).unwrap_err();
            assert_eq!(
                refusal,
                Refusal::OtherDigest {
                    stated: digest(byte).to_string(),
                    accepted: vec![digest("0a").to_string(), digest("0b").to_string()],
                }
            );
        }
        let same = || Narrowing::Same(digest("0a").to_string());
        assert!(admits(same(), "0a").is_ok() && admits(same(), "0b").is_err());
    }

    #[rstest]
    #[case::same_digest(("a", "m.tgz", false, "0a"), false)]
    #[case::other_digest(("a", "m.tgz", false, "0b"), true)]
    #[case::same_source(("first", "m.tgz", false, "0b"), false)]
    #[case::other_file(("a", "m.tar.xz", false, "0b"), false)]
    #[case::other_form(("a", "m.tgz", true, "0b"), false)]
    fn sources_contradict_each_other_about_one_file_in_one_form(
        #[case] (source, file, repack, byte): (&str, &str, bool, &str),
        #[case] expected: bool,
    ) {
        let build = |source: &str, address: String, repack: bool, byte: &str| Build {
            source: Some(source.to_owned()),
            repack: repack.then(Default::default),
            ..Build::new(
                "linux-x64-gnu".parse().unwrap(),
                address,
                Checksum::Digest(digest(byte)),
            )
        };
        let builds = [
            build("first", "https://one.example/m.tgz".into(), false, "0a"),
            build(
                source,
                format!("https://two.example/d/{file}?x=/y"),
                repack,
                byte,
            ),
        ];
        assert_eq!(contradiction(&builds).is_some(), expected);
    }

    #[test]
    fn a_rule_about_sources_names_the_packages_of_a_runtime() {
        let rules = |names: &[&str]| [rule(sources(names), false)];
        assert!(rule_against_packages("marram", &rules(&["marram.depot"])).is_some());
        assert!(rule_against_packages("marram", &rules(&["marram.packages"])).is_none());
        assert!(rule_against_packages("marram", &[]).is_none());
    }
}
