//! What is active in the calling shell, and what really answers there.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};

use vshelf_core::activation::{Activation, Claim, Place, Rule};
use vshelf_core::standing::{Asked, Facts, Offer, Standing};
use vshelf_core::{Key, Pick, Request};
use vshelf_files::system;

use crate::error::Error;
use crate::integrate::stamps;
use crate::project;
use crate::runtime::Runtime;

/// A copy of a runtime's program on PATH.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Copy {
    /// The program.
    pub program: PathBuf,
    /// The install it belongs to, or the system.
    pub pick: Pick,
}

/// The standing of a runtime in the calling shell, and every copy on PATH in order.
#[derive(Debug)]
pub struct Activity {
    /// The standing by the rules.
    pub standing: Standing<Error>,
    /// The copies on PATH; the first answers.
    pub copies: Vec<Copy>,
}

impl Activity {
    /// Looks at the calling shell, and at no catalog.
    pub fn of(runtime: &Runtime<'_>) -> Activity {
        Activity::with(runtime, |_| Offer::Unknown)
    }

    /// Looks at the calling shell, and at the kept catalog if a requirement is not met.
    pub fn with_offer(runtime: &Runtime<'_>) -> Activity {
        Activity::with(runtime, |request| project::offer(runtime, request))
    }

    fn with(runtime: &Runtime<'_>, offer: impl Fn(&Request) -> Offer) -> Activity {
        let shell = &runtime.environment().shell;
        let copies = copies(runtime, shell.path());
        let system = copies.iter().find(|copy| copy.pick == Pick::System);
        // A shell that was switched to the system's copy runs no install, even if the system has no copy.
        let there = |pick: &Pick| pick.key().is_none_or(|key| runtime.snapshot.has_build(key));
        let required = project::required(runtime);
        let effective = required.effective();
        let effective = effective.map(|stated| {
            let pick = runtime.choosing().pick_meeting(&stated.what);
            let asked = Asked {
                selector: runtime.names().shown(&stated.what).to_string(),
                met_by: pick.filter(there),
            };
            (stated, asked)
        });
        let is_declined =
            |place: &Place| shell.dialect().is_some() && stamps::is_declined(runtime, &place.file);
        let missing = effective
            .as_ref()
            .filter(|(_, asked)| asked.met_by.is_none());
        let facts = Facts {
            is_undecided: missing
                .is_some_and(|(stated, _)| project::is_undecided(runtime, &stated.what)),
            offer: missing.map_or(Offer::Unknown, |(stated, _)| offer(&stated.what)),
            declined: (effective.as_ref()).is_some_and(|(stated, _)| is_declined(&stated.place)),
            required,
            effective,
            switch: shell.switched(runtime.name()).map(|pick| Asked {
                selector: runtime.names().selector_of_pick(pick),
                met_by: Some(pick.clone()).filter(there),
            }),
            default: runtime.snapshot.default_selector().map(|selector| Asked {
                selector: selector.to_owned(),
                met_by: runtime.snapshot.default_pick().cloned().filter(there),
            }),
            system: system.map(|system| system.program.display().to_string()),
        };
        Activity {
            standing: Standing::decide(facts),
            copies,
        }
    }

    /// Whether the rules say one thing and PATH gives another.
    pub fn differs(&self) -> bool {
        self.answering() != self.active()
    }

    /// What is active by the rules.
    pub fn active(&self) -> Option<&Pick> {
        self.standing.activation.active.as_ref()?.met_by.as_ref()
    }

    /// Whether the install with this key is active by the rules.
    pub fn is_active(&self, key: &Key) -> bool {
        self.active().is_some_and(|pick| pick.is(key))
    }

    /// Whether this shell was switched to the install with this key.
    pub fn is_switched_to(&self, key: &Key) -> bool {
        self.rule() == Some(Rule::Switch) && self.is_active(key)
    }

    /// What the project requires, whether or not it holds.
    pub fn requirement(&self) -> Option<&Claim> {
        let Activation {
            active,
            overrode,
            unmet,
            declined,
        } = &self.standing.activation;
        let mut claims = active.iter().chain(overrode).chain(unmet).chain(declined);
        claims.find(|claim| claim.rule == Rule::Requirement)
    }

    /// The rule by which it is active.
    pub fn rule(&self) -> Option<Rule> {
        self.standing
            .activation
            .active
            .as_ref()
            .map(|claim| claim.rule)
    }

    /// What really answers on PATH.
    pub fn answering(&self) -> Option<&Pick> {
        self.copies.first().map(|copy| &copy.pick)
    }

    /// The system's own copy, or an error that says there is none.
    pub fn need_system_copy(&self, runtime: &Runtime<'_>) -> Result<&Path, Error> {
        self.system_copy().ok_or_else(|| Error::NoSystemCopy {
            program: runtime.definition.program.clone(),
        })
    }

    /// The system's own copy.
    pub fn system_copy(&self) -> Option<&Path> {
        let mut copies = self.copies.iter();
        let system = copies.find(|copy| copy.pick == Pick::System);
        system.map(|copy| copy.program.as_path())
    }
}

/// Every copy of the runtime's program on `path`, in order, each folder once.
fn copies(runtime: &Runtime<'_>, path: &OsStr) -> Vec<Copy> {
    let mut copies: Vec<Copy> = Vec::new();
    let mut seen = HashSet::new();
    let launchers = runtime.shelf.launchers();
    for folder in std::env::split_paths(path) {
        // A launcher is no copy, but starts one.
        if folder == launchers {
            continue;
        }
        let program = folder.join(&runtime.definition.program);
        let Ok(found) = fs::metadata(&program) else {
            continue;
        };
        if !can_start(&found) {
            continue;
        }
        // A folder can be on PATH by two names, as /bin and /usr/bin often are.
        let identity = system::identity_of(&program, &found);
        let pick = match runtime.shelf.key_on_path(&folder) {
            Some(key) => Pick::Install(key),
            None => Pick::System,
        };
        // An adopted system copy is on the shelf and beside it.
        if !seen.insert((identity, pick == Pick::System)) {
            continue;
        }
        copies.push(Copy { program, pick });
    }
    copies
}

/// Whether a file can be started.
pub fn is_program(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|found| can_start(&found))
}

fn can_start(found: &fs::Metadata) -> bool {
    found.is_file() && system::is_executable(found).unwrap_or(true)
}
