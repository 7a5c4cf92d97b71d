//! What is the matter with what is used here: an ended line, a security release that is out. Nobody is
//! asked for it.

use vshelf_core::outlook::Newer;
use vshelf_core::{Line, Phase, Pick, Request, Version};

use crate::activity::Activity;
use crate::daily;
use crate::environment::Environment;
use crate::error::Error;
use crate::runtime::Runtime;

/// What is the matter with one install that is used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Concern {
    /// Whether it is the default; else the project here requires it.
    pub is_default: bool,
    /// The install's selector.
    pub selector: String,
    /// Its line, where that has ended.
    pub ended: Option<Line>,
    /// The security release that is out.
    pub security_release: Option<SecurityRelease>,
}

/// A release of the same line that fixes a security problem.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SecurityRelease {
    /// Its version.
    pub version: Version,
    /// What commands need in front of it.
    pub prefix: String,
    /// How it comes to be used.
    pub way: SecurityWay,
}

/// How a security release comes to be used in the place of the install that lacks it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SecurityWay {
    /// The default is set as a selector that covers it, such as `8`, and moves with a renewal of this line.
    Renew(String),
    /// The default is set as an exact version, in whose place it is set.
    SetDefault,
    /// The project requires a selector that covers it.
    Install,
    /// The project requires a selector that does not cover it.
    Require,
}

/// What is the matter with the default and with what the project here requires.
pub fn find(runtime: &Runtime<'_>, activity: &Activity) -> Vec<Concern> {
    let default = runtime.snapshot.default_pick().map(|pick| (pick, true));
    let required = activity
        .requirement()
        .and_then(|claim| claim.met_by.as_ref());
    let required = required
        .filter(|pick| Some(*pick) != runtime.snapshot.default_pick())
        .map(|pick| (pick, false));
    let used = default.into_iter().chain(required);
    let required_selector = activity.requirement().map(|claim| claim.selector.as_str());
    let covers = |selector: Option<&str>, version: &Version| {
        let request: Option<Request> = selector.and_then(|selector| selector.parse().ok());
        request.map(|request| runtime.choosing().covers(&request, version))
    };
    let way = |is_default: bool, line: Option<&Line>, version: &Version| {
        if is_default {
            let covered = covers(runtime.snapshot.default_selector(), version) == Some(true);
            let line = line.filter(|_| covered);
            return line.map_or(SecurityWay::SetDefault, |line| {
                SecurityWay::Renew(line.name.clone())
            });
        }
        match covers(required_selector, version) {
            Some(false) => SecurityWay::Require,
            Some(true) | None => SecurityWay::Install,
        }
    };
    let concern = |(pick, is_default): (&Pick, bool)| {
        let id = &runtime.snapshot.picked(pick)?.id;
        let line = runtime.published.line_of(&id.version);
        let ended = line.filter(|line| line.phase_on(runtime.today()) == Phase::Ended);
        let newer = runtime
            .published
            .newer_than(id)
            .filter(Newer::fixes_security);
        let prefix = || runtime.environment().prefix(runtime.name());
        Some(Concern {
            is_default,
            selector: runtime.names().selector_of_pick(pick),
            ended: ended.cloned(),
            security_release: newer.map(|newer| SecurityRelease {
                way: way(is_default, line, &newer.version),
                version: newer.version,
                prefix: prefix(),
            }),
        })
    };
    used.filter_map(concern).collect()
}

/// The stamp of the reminder.
const REMINDED: &str = "reminded";

/// How many installs are of an ended line, and how many lack a security release.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Reminder {
    /// Of an ended line.
    pub ended: usize,
    /// Without a security release that is out.
    pub insecure: usize,
}

/// What to remind of today, unless that was done today already or there is nothing.
pub fn remind(
    environment: &Environment,
    runtimes: &[Runtime<'_>],
) -> Result<Option<Reminder>, Error> {
    if !daily::is_due(environment, REMINDED)? {
        return Ok(None);
    }
    let mut reminder = Reminder::default();
    for runtime in runtimes {
        for install in &runtime.snapshot.installs {
            let ended = runtime.published.phase_of(&install.id.version) == Some(Phase::Ended);
            let newer = runtime.published.newer_than(&install.id);
            reminder.ended += usize::from(ended);
            reminder.insecure += usize::from(newer.is_some_and(|newer| newer.fixes_security()));
        }
    }
    if reminder == Reminder::default() {
        return Ok(None);
    }
    daily::note(environment, REMINDED)?;
    Ok(Some(reminder))
}
