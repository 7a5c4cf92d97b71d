//! The standing of a runtime in one folder: its requirement, the lock, the install that meets it, the active version and
//! the missing one.
//!
//! Every command that speaks of the project here renders a [`Standing`] and combines nothing itself. The order of
//! precedence: a switch of this shell, then the requirement unless the person declined it, then the default, then the
//! system's own copy. Of the requirements the nearest folder's counts, in it the first file that says something. A lock
//! counts only with a requirement in its own folder. A file that cannot be used ends the search: what it says is unknown,
//! which is not the same as saying nothing.

use crate::activation::{Activation, Claim, Place, Rule, decide};
use crate::install::{Key, Pick};
use crate::lock_file::LockedRelease;
use crate::selector::Request;

/// The statement of one file on a runtime. `E` is the error of a file that cannot be used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Statement<E> {
    /// A requirement.
    Requires(Stated<Request>),
    /// The release that a lock file has.
    Locks(Stated<LockedRelease>),
    /// Something that cannot be used.
    Unusable(E),
    /// A lock file that cannot be used.
    UnusableLock(E),
}

/// Something that a file states, with its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stated<T> {
    /// The file and line.
    pub place: Place,
    /// The request or release.
    pub what: T,
}

/// The state of a lock beside a requirement.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LockState {
    /// No lock has a release of this runtime.
    None,
    /// The lock's release meets the requirement beside it.
    Fits(Stated<LockedRelease>),
    /// The lock's release does not meet the requirement beside it.
    Stale(Stated<LockedRelease>),
    /// The lock's release meets the requirement, and has no archive for this platform.
    OtherPlatform(Stated<LockedRelease>),
    /// The lock's release meets the requirement, and the install with its key is not the locked one.
    Differs(Stated<LockedRelease>),
    /// Nothing in the lock's folder requires the runtime, so the lock does not count.
    Ignored(Stated<LockedRelease>),
}

impl LockState {
    /// The locked release, if it decides what is required.
    pub fn deciding(&self) -> Option<&Stated<LockedRelease>> {
        match self {
            LockState::Fits(locked) | LockState::OtherPlatform(locked) => Some(locked),
            LockState::None
            | LockState::Stale(_)
            | LockState::Differs(_)
            | LockState::Ignored(_) => None,
        }
    }

    /// The word for it in JSON.
    pub fn word(&self) -> &'static str {
        match self {
            LockState::None => "none",
            LockState::Fits(_) => "fits",
            LockState::Stale(_) => "stale",
            LockState::OtherPlatform(_) => "other-platform",
            LockState::Differs(_) => "differs",
            LockState::Ignored(_) => "ignored",
        }
    }
}

/// The comparisons of a lock with its requirement, this platform and the shelf.
#[derive(Clone, Copy)]
pub struct LockRules<'r> {
    /// Whether a locked release meets a requirement.
    pub meets: &'r dyn Fn(&LockedRelease, &Request) -> bool,
    /// Whether a locked release has an archive for this platform.
    pub is_for_platform: &'r dyn Fn(&LockedRelease) -> bool,
    /// Whether an install has the key of a locked release and other bytes.
    pub is_other_install: &'r dyn Fn(&LockedRelease) -> bool,
}

/// The requirement of a project on a runtime, and the lock beside it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Required<E> {
    /// The requirement, as its own file states it, whatever a lock says.
    pub stated: Option<Stated<Request>>,
    /// The lock beside it. If there is no requirement, the nearest lock that is ignored.
    pub lock: LockState,
    /// Why what the files say cannot be used: then what is required is unknown.
    pub unusable: Option<E>,
}

impl<E> Default for Required<E> {
    fn default() -> Self {
        Required {
            stated: None,
            lock: LockState::None,
            unusable: None,
        }
    }
}

impl<E> Required<E> {
    /// Judges the statements of each folder, nearest folder first; within a folder in the order in which files count.
    /// Folders behind the one that decides are not asked for.
    pub fn judge(
        folders: impl IntoIterator<Item = impl IntoIterator<Item = Statement<E>>>,
        rules: LockRules<'_>,
    ) -> Required<E> {
        let mut ignored = LockState::None;
        for statements in folders {
            let judged = Required::of_folder(statements, rules);
            if judged.concerns() {
                return judged;
            }
            if ignored == LockState::None {
                ignored = judged.lock;
            }
        }
        Required {
            lock: ignored,
            ..Required::default()
        }
    }

    /// Judges the statements of one folder. Those behind the one that decides are not asked for.
    pub fn of_folder(
        statements: impl IntoIterator<Item = Statement<E>>,
        rules: LockRules<'_>,
    ) -> Required<E> {
        let mut required = Required::default();
        let (mut locked, mut unusable_lock) = (None, None);
        for statement in statements {
            match statement {
                Statement::UnusableLock(error) => unusable_lock = Some(error),
                Statement::Locks(lock) => locked = Some(lock),
                Statement::Requires(request) => {
                    required.stated = Some(request);
                    break;
                }
                Statement::Unusable(error) => {
                    required.unusable = Some(error);
                    break;
                }
            }
        }
        // A lock without a requirement beside it does not count, whatever is wrong with it.
        if required.stated.is_some() && unusable_lock.is_some() {
            required.unusable = unusable_lock;
        }
        let (Some(lock), None) = (locked, &required.unusable) else {
            return required;
        };
        required.lock = match &required.stated {
            None => LockState::Ignored(lock),
            Some(stated) if !(rules.meets)(&lock.what, &stated.what) => LockState::Stale(lock),
            Some(_) if !(rules.is_for_platform)(&lock.what) => LockState::OtherPlatform(lock),
            Some(_) if (rules.is_other_install)(&lock.what) => LockState::Differs(lock),
            Some(_) => LockState::Fits(lock),
        };
        required
    }

    /// Whether the project requires the runtime, or may do so in a file that cannot be used.
    pub fn concerns(&self) -> bool {
        self.stated.is_some() || self.unusable.is_some()
    }

    /// The requirement, whatever a lock says, or the error of a file that cannot be used.
    pub fn into_stated(self) -> Result<Option<Stated<Request>>, E> {
        match self.unusable {
            Some(error) => Err(error),
            None => Ok(self.stated),
        }
    }

    /// The request that shells go by: exactly the locked release, or else the requirement. `None` if nothing is required, or if that is unknown. A lock that
    /// is stale or that an install contradicts does not count.
    pub fn effective(&self) -> Option<Stated<Request>> {
        if self.unusable.is_some() {
            return None;
        }
        match self.lock.deciding() {
            Some(locked) => Some(Stated {
                place: locked.place.clone(),
                what: locked.what.request(),
            }),
            None => self.stated.clone(),
        }
    }
}

/// The selector of a rule, and the install that it stands for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    /// The selector.
    pub selector: String,
    /// The install or system copy that it stands for: `None` if that is gone.
    pub met_by: Option<Pick>,
}

/// The release that a catalog offers for a requirement.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Offer {
    /// No catalog was looked at, or none is kept.
    #[default]
    Unknown,
    /// The catalog has no release for this platform that meets it.
    Nothing,
    /// The release with this key.
    Release(Key),
}

/// A requirement that nothing on the shelf meets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Missing {
    /// The requirement: exactly the locked release, if a lock decides.
    pub request: Request,
    /// The release that an install would bring.
    pub offer: Offer,
}

/// The facts that decide the standing of a runtime.
#[derive(Clone, Debug)]
pub struct Facts<E> {
    /// The requirement and its lock.
    pub required: Required<E>,
    /// The requirement that counts, as a person names it, and the install that meets it.
    pub effective: Option<(Stated<Request>, Asked)>,
    /// The release for that requirement, if nothing on the shelf meets it.
    pub offer: Offer,
    /// Whether only a catalog could tell if an install meets it, and none is kept.
    pub is_undecided: bool,
    /// Whether the person was asked whether to follow it and said no.
    pub declined: bool,
    /// The switch of this shell.
    pub switch: Option<Asked>,
    /// The default.
    pub default: Option<Asked>,
    /// The system's own copy on PATH.
    pub system: Option<String>,
}

/// The standing of a runtime.
#[derive(Clone, Debug)]
pub struct Standing<E> {
    /// The requirement and its lock.
    pub required: Required<E>,
    /// The install or system copy that meets the requirement.
    pub satisfied_by: Option<Pick>,
    /// The rules, decided.
    pub activation: Activation,
    /// The requirement, if nothing on the shelf meets it.
    pub missing: Option<Missing>,
    /// The requirement, if only a catalog could tell whether an install meets it, and none is kept.
    pub undecided: Option<Request>,
}

/// The command that a person needs next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Next {
    /// Make the file usable, or the install what is locked.
    Repair,
    /// Write the lock again.
    Lock,
    /// Lock archives for this platform too.
    LockPlatform,
    /// Install what is missing.
    Install,
    /// See what is published, because no release meets the requirement.
    Look,
    /// Get a catalog, which tells what the requirement means.
    GetCatalog,
}

impl<E> Standing<E> {
    /// Decides by the facts.
    pub fn decide(facts: Facts<E>) -> Standing<E> {
        let mut claims = Vec::new();
        let claim = |rule, asked: Asked| Claim {
            rule,
            selector: asked.selector,
            met_by: asked.met_by,
            place: None,
        };
        claims.extend(facts.switch.map(|asked| claim(Rule::Switch, asked)));
        claims.extend(facts.default.map(|asked| claim(Rule::Default, asked)));
        claims.extend(facts.system.map(|program| {
            let met_by = Some(Pick::System);
            claim(
                Rule::System,
                Asked {
                    selector: program,
                    met_by,
                },
            )
        }));
        let (mut satisfied_by, mut declined) = (None, None);
        let (mut missing, mut undecided) = (None, None);
        if let Some((stated, asked)) = facts.effective {
            let Asked { selector, met_by } = asked;
            if met_by.is_none() && facts.is_undecided {
                undecided = Some(stated.what.clone());
            } else if met_by.is_none() {
                missing = Some(Missing {
                    request: stated.what.clone(),
                    offer: facts.offer,
                });
            }
            satisfied_by.clone_from(&met_by);
            let claim = Claim {
                rule: Rule::Requirement,
                selector,
                met_by,
                place: Some(stated.place),
            };
            if facts.declined {
                declined = Some(claim);
            } else {
                claims.push(claim);
            }
        }
        Standing {
            required: facts.required,
            satisfied_by,
            activation: Activation {
                declined,
                ..decide(claims)
            },
            missing,
            undecided,
        }
    }

    /// The command that a person needs next to have what the project requires: `None` if nothing is missing.
    pub fn next(&self) -> Option<Next> {
        if self.required.unusable.is_some() {
            return Some(Next::Repair);
        }
        match (&self.required.lock, &self.missing) {
            (LockState::Differs(_), _) => Some(Next::Repair),
            (LockState::Stale(_), _) => Some(Next::Lock),
            (LockState::OtherPlatform(_), Some(_)) => Some(Next::LockPlatform),
            (_, Some(missing)) if missing.offer == Offer::Nothing => Some(Next::Look),
            (_, Some(_)) => Some(Next::Install),
            (_, None) if self.undecided.is_some() => Some(Next::GetCatalog),
            (_, None) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lock_file::LockedRelease;
    use rstest::rstest;

    type Said = Statement<&'static str>;

    fn place(file: &str) -> Place {
        Place {
            file: file.into(),
            line: 1,
        }
    }

    fn requires(file: &str, selector: &str) -> Said {
        Statement::Requires(Stated {
            place: place(file),
            what: selector.parse().unwrap(),
        })
    }

    fn locks(file: &str, version: &str) -> Said {
        Statement::Locks(Stated {
            place: place(file),
            what: LockedRelease {
                runtime: "marram".to_owned(),
                version: version.parse().unwrap(),
                publisher: "saltmarsh".to_owned(),
                required: String::new(),
                archives: Vec::new(),
                companions: Vec::new(),
                packages: Vec::new(),
                patches: Vec::new(),
            },
        })
    }

    /// The file that states the requirement, the state of the lock, what counts, and what is unusable.
    fn judged(folders: Vec<Vec<Said>>, for_platform: bool, other_install: bool) -> String {
        let meets = |locked: &LockedRelease, request: &Request| {
            (locked.version.to_string()).starts_with(&request.to_string())
        };
        let is_for_platform = |_: &LockedRelease| for_platform;
        let is_other_install = |_: &LockedRelease| other_install;
        let rules = LockRules {
            meets: &meets,
            is_for_platform: &is_for_platform,
            is_other_install: &is_other_install,
        };
        let required = Required::judge(folders, rules);
        let effective = required.effective();
        format!(
            "{} {} {} {}",
            (required.stated).map_or("-".into(), |stated| stated.place.file.display().to_string()),
            required.lock.word(),
            effective.map_or("-".into(), |stated| stated.what.to_string()),
            required.unusable.unwrap_or("-"),
        )
    }

    #[rstest]
    #[case::nothing(vec![vec![], vec![]], "- none - -")]
    #[case::the_nearest_folder_counts(vec![vec![], vec![requires("b", "8")], vec![requires("a", "6")]], "b none 8 -")]
    #[case::the_first_file_of_a_folder_counts(vec![vec![requires("b", "8"), requires("c", "6")]], "b none 8 -")]
    #[case::a_lock_that_fits(vec![vec![locks("l", "8.3.1"), requires("b", "8")]], "b fits saltmarsh/8.3.1 -")]
    #[case::a_lock_that_is_stale(vec![vec![locks("l", "8.3.1"), requires("b", "6")]], "b stale 6 -")]
    #[case::a_lock_without_its_requirement(vec![vec![locks("l", "8.3.1")], vec![requires("a", "6")]], "a none 6 -")]
    #[case::only_a_lock(vec![vec![locks("l", "8.3.1")], vec![locks("m", "6.20.2")]], "- ignored - -")]
    #[case::a_lock_above(vec![vec![requires("b", "8")], vec![locks("l", "6.20.2"), requires("a", "6")]], "b none 8 -")]
    #[case::unusable_in_front(vec![vec![Statement::Unusable("x"), requires("b", "8")]], "- none - x")]
    #[case::unusable_behind(vec![vec![requires("b", "8"), Statement::Unusable("x")]], "b none 8 -")]
    #[case::unusable_below(vec![vec![Statement::Unusable("x")], vec![requires("a", "8")]], "- none - x")]
    #[case::unusable_beside_a_lock(vec![vec![locks("l", "8.3.1"), Statement::Unusable("x")]], "- none - x")]
    #[case::an_unusable_lock(vec![vec![Statement::UnusableLock("x"), requires("b", "8")]], "b none - x")]
    #[case::an_unusable_lock_alone(vec![vec![Statement::UnusableLock("x")], vec![requires("a", "8")]], "a none 8 -")]
    fn files_are_judged_in_order(#[case] folders: Vec<Vec<Said>>, #[case] expected: &str) {
        assert_eq!(judged(folders, true, false), expected);
    }

    #[test]
    fn a_lock_decides_without_archives_for_this_platform_but_not_against_an_install() {
        let folders = || vec![vec![locks("l", "8.3.1"), requires("b", "8")]];
        assert_eq!(
            judged(folders(), false, true),
            "b other-platform saltmarsh/8.3.1 -"
        );
        assert_eq!(judged(folders(), true, true), "b differs 8 -");
    }

    fn word(next: Next) -> &'static str {
        match next {
            Next::Repair => "repair",
            Next::Lock => "lock",
            Next::LockPlatform => "lock-platform",
            Next::Install => "install",
            Next::Look => "look",
            Next::GetCatalog => "get-catalog",
        }
    }

    /// The active rule, the missing selector and the next command, if no catalog was looked at.
    fn decided(lock: LockState, met_by: Option<&str>, default: Option<&str>) -> String {
        decided_with(lock, met_by, default, Offer::Unknown, false)
    }

    fn decided_with(
        lock: LockState,
        met_by: Option<&str>,
        default: Option<&str>,
        offer: Offer,
        is_undecided: bool,
    ) -> String {
        let key = |version: &str| -> Pick { format!("saltmarsh-{version}").parse().unwrap() };
        let stated = Stated {
            place: place("b"),
            what: "8".parse().unwrap(),
        };
        let standing = Standing::<&str>::decide(Facts {
            required: Required {
                stated: Some(stated.clone()),
                lock,
                unusable: None,
            },
            effective: Some((
                stated,
                Asked {
                    selector: "8".to_owned(),
                    met_by: met_by.map(key),
                },
            )),
            offer,
            is_undecided,
            declined: false,
            switch: None,
            default: default.map(|version| Asked {
                selector: version.to_owned(),
                met_by: Some(key(version)),
            }),
            system: None,
        });
        let active = standing.activation.active.as_ref();
        format!(
            "{} {} {}",
            active.map_or("-".into(), |claim| format!("{:?}", claim.rule)),
            standing
                .missing
                .as_ref()
                .map_or("-".into(), |missing| missing.request.to_string()),
            standing.next().map_or("-", word),
        )
    }

    #[test]
    fn the_next_command_follows_from_the_catalog_too() {
        let default = Some("6.20.2");
        let with =
            |offer, undecided| decided_with(LockState::None, None, default, offer, undecided);
        let release = "saltmarsh-8.3.1".parse().unwrap();
        assert_eq!(with(Offer::Release(release), false), "Default 8 install");
        assert_eq!(with(Offer::Nothing, false), "Default 8 look");
        assert_eq!(with(Offer::Unknown, true), "Default - get-catalog");
    }

    #[test]
    fn a_declined_requirement_is_met_and_not_active() {
        let key = |text: &str| -> Pick { text.parse().unwrap() };
        let asked = |version: &str| Asked {
            selector: version.to_owned(),
            met_by: Some(key(version)),
        };
        let stated = Stated {
            place: place("b"),
            what: "8".parse().unwrap(),
        };
        let standing = Standing::<&str>::decide(Facts {
            required: Required::default(),
            effective: Some((stated, asked("saltmarsh-8.3.1"))),
            offer: Offer::Unknown,
            is_undecided: false,
            declined: true,
            switch: None,
            default: Some(asked("saltmarsh-6.20.2")),
            system: None,
        });
        assert_eq!(standing.activation.active.unwrap().rule, Rule::Default);
        assert_eq!(
            standing.activation.declined.unwrap().rule,
            Rule::Requirement
        );
        assert_eq!(standing.satisfied_by, Some(key("saltmarsh-8.3.1")));
    }

    #[test]
    fn the_next_command_follows_from_lock_and_shelf() {
        let Statement::Locks(locked) = locks("l", "8.3.1") else {
            unreachable!()
        };
        let cases = [
            (LockState::None, Some("8.3.1"), "Requirement - -"),
            (LockState::None, None, "Default 8 install"),
            (LockState::Fits(locked.clone()), None, "Default 8 install"),
            (LockState::Stale(locked.clone()), None, "Default 8 lock"),
            (
                LockState::Stale(locked.clone()),
                Some("8.3.1"),
                "Requirement - lock",
            ),
            (
                LockState::OtherPlatform(locked.clone()),
                None,
                "Default 8 lock-platform",
            ),
            (
                LockState::OtherPlatform(locked),
                Some("8.3.1"),
                "Requirement - -",
            ),
        ];
        for (lock, met_by, expected) in cases {
            assert_eq!(decided(lock, met_by, Some("6.20.2")), expected);
        }
    }
}
