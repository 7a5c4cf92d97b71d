//! What is active in the calling shell, and what really answers there.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use vshelf_core::activation::{Activation, Claim, Place, Rule, decide};

use crate::failure::{Failure, Kind};
use crate::project;
use crate::runtime::Runtime;
use crate::switching::LAUNCHERS;

/// A copy of a runtime's program on PATH.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Copy {
    /// The program.
    pub program: PathBuf,
    /// The key of the install it belongs to; nothing where it is not on the shelf.
    pub key: Option<String>,
}

/// What is active, and every copy on PATH in order.
#[derive(Debug)]
pub struct Activity {
    /// The rules, decided.
    pub activation: Activation,
    /// The copies on PATH; the first answers.
    pub copies: Vec<Copy>,
    /// Why the project's wish is not known, where a file says one that cannot be read.
    pub pin_failure: Option<Failure>,
}

impl Activity {
    /// Looks at the calling shell.
    pub fn of(runtime: &Runtime<'_>) -> Activity {
        let copies = copies(runtime, runtime.context().shell.path());
        let system = copies.iter().find(|copy| copy.key.is_none());
        let met = |key: &str| match key {
            "system" => system.is_some(),
            _ => runtime.install(key).is_some(),
        };
        let mut claims = Vec::new();
        if let Some(key) = runtime.context().shell.switched(runtime.name()) {
            claims.push(Claim {
                rule: Rule::Switch,
                wanted: key.to_owned(),
                met_by: met(key).then(|| key.to_owned()),
                place: None,
            });
        }
        let (wish, pin_failure) = match project::find_wish(runtime) {
            Ok(wish) => (wish, None),
            Err(failure) => (None, Some(failure)),
        };
        if let Some(found) = &wish {
            let key = runtime.key_meeting(&found.wish.request);
            claims.push(Claim {
                rule: Rule::Pin,
                wanted: found.wish.request.to_string(),
                met_by: key.filter(|key| met(key)),
                place: Some(Place {
                    file: found.file.clone(),
                    line: found.wish.line,
                }),
            });
        }
        if let Some(selector) = &runtime.state.default {
            claims.push(Claim {
                rule: Rule::Default,
                wanted: selector.clone(),
                met_by: runtime.default_key().filter(|key| met(key)),
                place: None,
            });
        }
        if let Some(system) = system {
            claims.push(Claim {
                rule: Rule::System,
                wanted: system.program.display().to_string(),
                met_by: Some("system".to_owned()),
                place: None,
            });
        }
        Activity {
            activation: decide(claims),
            copies,
            pin_failure,
        }
    }

    /// Whether the rules say one thing and PATH gives another.
    pub fn differs(&self) -> bool {
        self.answering_key() != self.active_key()
    }

    /// The key of what is active by the rules, or `system`.
    pub fn active_key(&self) -> Option<&str> {
        self.activation.active.as_ref()?.met_by.as_deref()
    }

    /// The project's wish, whether or not it holds.
    pub fn pin(&self) -> Option<&Claim> {
        let Activation {
            active,
            overrode,
            unmet,
        } = &self.activation;
        active
            .iter()
            .chain(overrode)
            .chain(unmet)
            .find(|claim| claim.rule == Rule::Pin)
    }

    /// The rule by which it is active.
    pub fn rule(&self) -> Option<Rule> {
        self.activation.active.as_ref().map(|claim| claim.rule)
    }

    /// The key of what really answers on PATH, or `system`.
    pub fn answering_key(&self) -> Option<&str> {
        self.copies
            .first()
            .map(|copy| copy.key.as_deref().unwrap_or("system"))
    }

    /// The system's own copy, or a failure that says there is none.
    pub fn need_system_copy(&self, runtime: &Runtime<'_>) -> Result<&Path, Failure> {
        self.system_copy().ok_or_else(|| {
            let program = &runtime.definition.program;
            let message = format!("there is no {program} on PATH besides the shelf's");
            Failure::new(Kind::NoMatch, message)
        })
    }

    /// The system's own copy.
    pub fn system_copy(&self) -> Option<&Path> {
        self.copies
            .iter()
            .find(|copy| copy.key.is_none())
            .map(|copy| copy.program.as_path())
    }
}

/// Every copy of the runtime's program on `path`, in order, each folder once.
fn copies(runtime: &Runtime<'_>, path: &OsStr) -> Vec<Copy> {
    let mut copies: Vec<Copy> = Vec::new();
    let mut seen = HashSet::new();
    let launchers = runtime.shelf.folder().with_file_name(LAUNCHERS);
    for folder in std::env::split_paths(path) {
        // A launcher is no copy, but starts one.
        if folder == launchers {
            continue;
        }
        let program = folder.join(&runtime.definition.program);
        if !is_program(&program) {
            continue;
        }
        // A folder can be on PATH by two names, as /bin and /usr/bin often are.
        let real = fs::canonicalize(&program).unwrap_or_else(|_| program.clone());
        let key = key_of(runtime, &folder);
        // An adopted system copy is on the shelf and beside it.
        if !seen.insert((real, key.is_some())) {
            continue;
        }
        copies.push(Copy { program, key });
    }
    copies
}

/// The key of the install that a folder on PATH belongs to.
fn key_of(runtime: &Runtime<'_>, folder: &Path) -> Option<String> {
    let below = folder.strip_prefix(runtime.shelf.folder()).ok()?;
    let mut parts = below.iter().filter_map(OsStr::to_str);
    match parts.next()? {
        "default" => runtime.shelf.default_key(),
        "installs" => parts.next().map(str::to_owned),
        _ => None,
    }
}

/// Whether a file can be started.
pub fn is_program(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|found| found.is_file() && found.permissions().mode() & 0o111 != 0)
}
