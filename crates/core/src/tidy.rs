//! What on a shelf is outdated, why, and what keeps it all the same: the plan of a clean-up, as data.
//!
//! Nothing is removed here; the plan says of each install what there is to say, and the program
//! shows and carries it out.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use jiff::civil::Date;
use serde::{Deserialize, Serialize};

use crate::catalog::{Catalog, Line};
use crate::install::{InstallId, Key};
use crate::lifecycle::Phase;
use crate::outlook::{self, Newer};
use crate::platform::Platform;
use crate::version::Version;

/// Why an install is outdated.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(tag = "reason", rename_all = "kebab-case")]
pub enum Reason {
    /// Newer releases of its line, from the same publisher, are on the shelf.
    Superseded {
        /// The newest of them.
        by: Version,
    },
    /// Its line is no longer supported.
    Ended {
        /// The last day of support, where it is known.
        end: Option<Date>,
    },
    /// Its publisher took it back.
    Withdrawn {
        /// What the publisher says about it.
        why: String,
    },
    /// It is a pre-release of what is on the shelf as a final release.
    FinalOut {
        /// The final release.
        version: Version,
    },
    /// It was not used for a long time.
    Idle {
        /// The days since it was used last, or installed.
        days: u32,
    },
    /// The person named it.
    Asked,
}

/// A reason that a person can let count, or not.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ReasonKind {
    /// [`Reason::Superseded`].
    Superseded,
    /// [`Reason::Ended`].
    Ended,
    /// [`Reason::Withdrawn`].
    Withdrawn,
    /// [`Reason::FinalOut`].
    FinalOut,
    /// [`Reason::Idle`].
    Idle,
}

impl ReasonKind {
    /// Every reason, with its name in the settings.
    pub const ALL: [(ReasonKind, &'static str); 5] = [
        (ReasonKind::Superseded, "superseded"),
        (ReasonKind::Ended, "ended"),
        (ReasonKind::Withdrawn, "withdrawn"),
        (ReasonKind::FinalOut, "final-out"),
        (ReasonKind::Idle, "idle"),
    ];
}

impl fmt::Display for ReasonKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let named = ReasonKind::ALL.iter().find(|(kind, _)| kind == self);
        f.pad(named.map_or("", |(_, name)| name))
    }
}

/// A text that names no reason.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a reason")]
pub struct NoReason(String);

impl FromStr for ReasonKind {
    type Err = NoReason;

    fn from_str(text: &str) -> Result<Self, NoReason> {
        let named = ReasonKind::ALL.iter().find(|(_, name)| *name == text);
        named
            .map(|(kind, _)| *kind)
            .ok_or_else(|| NoReason(text.to_owned()))
    }
}

/// What keeps an install on the shelf, whatever speaks against it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum Protection {
    /// It is the default.
    Default,
    /// It is active in the calling shell.
    ThisShell,
    /// Another shell was switched to it.
    Shell {
        /// The shell's process id.
        id: u32,
    },
    /// A process runs from it.
    Process {
        /// The process id.
        id: u32,
        /// The program's name.
        program: String,
    },
    /// A project requires it.
    #[serde(rename = "requirement")]
    Requirement {
        /// The file that says so.
        file: PathBuf,
    },
    /// A label stands for it.
    Label {
        /// The label.
        label: String,
    },
    /// The person left it out this time.
    LeftOut,
    /// A project required it when its file was seen last, and the drive that it is on is away.
    ProjectAway {
        /// The file that said so.
        file: PathBuf,
    },
    /// Its renewal was begun and is not finished.
    RenewalUnfinished {
        /// The key of its successor.
        successor: Key,
    },
    /// It cannot be told who uses it.
    Unclear {
        /// What tells it otherwise.
        what: Witness,
        /// Why it cannot be read.
        cause: String,
    },
}

/// What tells who uses an install.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Witness {
    /// The list of projects that were seen.
    Projects,
    /// The system's table of processes.
    Processes,
    /// The notes of what shells were switched to.
    Shells,
    /// The notes of when installs were used last.
    LastUses,
}

/// What counts as outdated.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Policy {
    /// The reasons that count.
    pub reasons: Vec<ReasonKind>,
    /// After how many days without use an install is idle.
    pub idle_days: u32,
    /// How many releases of a line stay, newest first; at least one.
    pub per_line: usize,
}

impl Default for Policy {
    fn default() -> Self {
        Policy {
            reasons: vec![
                ReasonKind::Superseded,
                ReasonKind::Ended,
                ReasonKind::Withdrawn,
                ReasonKind::FinalOut,
            ],
            idle_days: 180,
            per_line: 1,
        }
    }
}

/// An install, and what only the disk and the system know of it.
#[derive(Clone, Debug)]
pub struct Held<'a> {
    /// The install.
    pub install: &'a InstallId,
    /// The bytes of its files, as they were unpacked.
    pub bytes: u64,
    /// The day of its last use, or else of its installation.
    pub used: Date,
    /// Whether the person named it.
    pub asked: bool,
    /// What keeps it.
    pub protections: Vec<Protection>,
}

/// What is to become of an install.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// It goes.
    Remove,
    /// It stays, and a release that fixes a security problem of it is out.
    Renew,
    /// It stays.
    Keep,
}

/// What the plan says of one install.
#[derive(Clone, Debug)]
pub struct Assessment<'a> {
    /// The install.
    pub install: &'a InstallId,
    /// The bytes of its files, as they were unpacked.
    pub bytes: u64,
    /// What is to become of it.
    pub verdict: Verdict,
    /// What speaks against it: every reason that counts and holds.
    pub reasons: Vec<Reason>,
    /// What keeps it.
    pub protections: Vec<Protection>,
    /// What came out since in its line, where that is not on the shelf.
    pub newer: Option<Newer>,
}

/// What is outdated on `today` among what is on one runtime's shelf. `catalog` has the lines, and
/// the releases of those that are on the shelf.
pub fn plan<'a>(
    catalog: &Catalog,
    held: Vec<Held<'a>>,
    policy: &Policy,
    platform: &Platform,
    today: Date,
) -> Vec<Assessment<'a>> {
    let shelf: Vec<&InstallId> = held.iter().map(|held| held.install).collect();
    let judge = Judge {
        catalog,
        shelf,
        policy,
        today,
    };
    let entry = |held: Held<'a>| {
        let InstallId {
            version, publisher, ..
        } = held.install;
        let mut reasons: Vec<Reason> = (ReasonKind::ALL.iter())
            .filter(|(kind, _)| policy.reasons.contains(kind))
            .filter_map(|(kind, _)| judge.reason(*kind, &held))
            .collect();
        reasons.extend(held.asked.then_some(Reason::Asked));
        let newer = outlook::newer(catalog, version, publisher, platform)
            .filter(|newer| !judge.is_on_shelf(&newer.version, publisher));
        let goes = !reasons.is_empty() && held.protections.is_empty();
        let verdict = match &newer {
            _ if goes => Verdict::Remove,
            Some(newer) if newer.fixes_security() => Verdict::Renew,
            _ => Verdict::Keep,
        };
        Assessment {
            install: held.install,
            bytes: held.bytes,
            verdict,
            reasons,
            protections: held.protections,
            newer,
        }
    };
    held.into_iter().map(entry).collect()
}

struct Judge<'a> {
    catalog: &'a Catalog,
    shelf: Vec<&'a InstallId>,
    policy: &'a Policy,
    today: Date,
}

impl Judge<'_> {
    fn reason(&self, kind: ReasonKind, held: &Held<'_>) -> Option<Reason> {
        let install = held.install;
        let line = self.catalog.line_of(&install.version);
        match kind {
            ReasonKind::Superseded => self.superseded(install, line?),
            ReasonKind::FinalOut => self.final_out(install, line?),
            ReasonKind::Ended => {
                let ended = line?.phase_on(self.today) == Phase::Ended;
                ended.then_some(Reason::Ended { end: line?.end })
            }
            ReasonKind::Withdrawn => Some(Reason::Withdrawn {
                why: self.withdrawn(install)?.to_owned(),
            }),
            ReasonKind::Idle => {
                let days = u32::try_from((self.today - held.used).get_days()).ok()?;
                (days >= self.policy.idle_days).then_some(Reason::Idle { days })
            }
        }
    }

    /// Enough newer releases of the line are there. Pre-releases do not stand in for final ones, nor
    /// does what was withdrawn for anything.
    fn superseded(&self, install: &InstallId, line: &Line) -> Option<Reason> {
        let mut newer = self.of_line(install, line);
        newer.retain(|other| {
            other.version > install.version
                && other.version.is_pre_release() == install.version.is_pre_release()
        });
        let enough = newer.len() >= self.policy.per_line.max(1);
        let newest = newer.iter().map(|other| &other.version).max()?;
        enough.then(|| Reason::Superseded { by: newest.clone() })
    }

    fn final_out(&self, install: &InstallId, line: &Line) -> Option<Reason> {
        if !install.version.is_pre_release() {
            return None;
        }
        let final_version = install.version.to_final();
        let finals = self
            .of_line(install, line)
            .into_iter()
            .filter(|other| !other.version.is_pre_release() && other.version >= final_version);
        let version = finals.map(|other| other.version.clone()).max()?;
        Some(Reason::FinalOut { version })
    }

    /// What is on the shelf of the same line and publisher, and not withdrawn.
    fn of_line(&self, install: &InstallId, line: &Line) -> Vec<&InstallId> {
        let mut same = self.shelf.clone();
        same.retain(|other| {
            other.publisher == install.publisher
                && line.covers(&other.version)
                && self.withdrawn(other).is_none()
        });
        same
    }

    fn withdrawn(&self, install: &InstallId) -> Option<&str> {
        let release = (self.catalog).release(&install.version, &install.publisher)?;
        release.withdrawn.as_deref()
    }

    fn is_on_shelf(&self, version: &Version, publisher: &str) -> bool {
        (self.shelf.iter()).any(|other| other.version == *version && other.publisher == publisher)
    }
}
