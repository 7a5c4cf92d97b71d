//! The shell that called this program: what it was switched to, and how to change it.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs::OpenOptions;
use std::io::Write;
use std::path::PathBuf;

use vshelf_shelf::usage::read_switches;
use vshelf_shell::{Changes, Dialect};

use crate::failure::{Failure, Kind};

/// Names, by runtime, the version that a shell was switched to: `marram=8.3.1 node=20.1.0`.
pub const SWITCHED: &str = "VSHELF_SWITCHED";

/// Names, by runtime, the version that a shell used before.
const PREVIOUS: &str = "VSHELF_PREVIOUS";

/// Says which shell's function called this program.
pub const SHELL: &str = "VSHELF_SHELL";

/// Says which process the shell is.
const SHELL_ID: &str = "VSHELF_SHELL_ID";

/// Says where the shell waits for its changes: a descriptor's number, or a file's absolute path.
pub const EVALUATE: &str = "VSHELF_EVALUATE";

/// The calling shell, as its environment tells.
#[derive(Clone, Debug)]
pub struct CallingShell {
    dialect: Option<Dialect>,
    id: Option<u32>,
    waits_at: Option<PathBuf>,
    switched: BTreeMap<String, String>,
    previous: BTreeMap<String, String>,
    path: OsString,
    changes: RefCell<Changes>,
}

impl CallingShell {
    /// Reads the environment.
    pub fn read() -> CallingShell {
        let text = |name: &str| std::env::var(name).unwrap_or_default();
        CallingShell {
            dialect: text(SHELL).parse().ok(),
            id: text(SHELL_ID).parse().ok(),
            waits_at: waits_at(&text(EVALUATE)),
            switched: read_switches(&text(SWITCHED)),
            previous: read_switches(&text(PREVIOUS)),
            path: std::env::var_os("PATH").unwrap_or_default(),
            changes: RefCell::default(),
        }
    }

    /// The shell, where it is connected and its function called.
    pub fn dialect(&self) -> Option<Dialect> {
        self.dialect
    }

    /// The shell's process id, where its function says it.
    pub fn id(&self) -> Option<u32> {
        self.id
    }

    /// What the shell is switched to by this command, where that changes: keys by runtime.
    pub fn new_switches(&self) -> Option<BTreeMap<String, String>> {
        let changes = self.changes.borrow();
        let value = changes.value(SWITCHED)?;
        Some(read_switches(value.unwrap_or_default()))
    }

    /// The key that this shell is switched to when this command ends, as far as is planned now.
    pub fn will_be_switched(&self, runtime: &str) -> Option<String> {
        let switches = self.new_switches().unwrap_or_else(|| self.switched.clone());
        switches.get(runtime).cloned()
    }

    /// Whether this command can change the shell.
    pub fn can_change(&self) -> bool {
        self.dialect.is_some() && self.waits_at.is_some()
    }

    /// The key that this shell, or one that started it, was switched to.
    pub fn switched(&self, runtime: &str) -> Option<&str> {
        self.switched.get(runtime).map(String::as_str)
    }

    /// The key that this shell used before, or `system`.
    pub fn previous(&self, runtime: &str) -> Option<&str> {
        self.previous.get(runtime).map(String::as_str)
    }

    /// PATH.
    pub fn path(&self) -> &OsString {
        &self.path
    }

    /// A variable of the shell, as it is when what is planned is done.
    pub fn variable(&self, name: &str) -> Option<OsString> {
        match self.changes.borrow().value(name) {
            Some(planned) => planned.map(OsString::from),
            None => std::env::var_os(name),
        }
    }

    /// The shell as it is when what is planned is done, for the next of several commands.
    pub fn moved_on(self) -> CallingShell {
        let text = |name: &str| {
            let value = self.variable(name).unwrap_or_default();
            value.to_string_lossy().into_owned()
        };
        CallingShell {
            switched: read_switches(&text(SWITCHED)),
            previous: read_switches(&text(PREVIOUS)),
            path: self.variable("PATH").unwrap_or_default(),
            ..self
        }
    }

    /// Takes over what another command planned for the same shell.
    pub fn take_over(&self, other: CallingShell) {
        self.changes.replace(other.changes.into_inner());
    }

    /// Plans a change of a variable.
    pub fn set(&self, name: &str, value: Option<&str>) {
        match value {
            Some(value) => self.changes.borrow_mut().set(name, value),
            None => self.changes.borrow_mut().unset(name),
        }
    }

    /// Plans what the shell is switched to, and what it used before.
    pub fn set_switch(&self, runtime: &str, key: Option<&str>, before: Option<&str>) {
        self.set_pair(SWITCHED, &self.switched, runtime, key);
        if before.is_some() {
            self.set_pair(PREVIOUS, &self.previous, runtime, before);
        }
    }

    fn set_pair(
        &self,
        variable: &str,
        pairs: &BTreeMap<String, String>,
        runtime: &str,
        key: Option<&str>,
    ) {
        let mut pairs = pairs.clone();
        match key {
            Some(key) => pairs.insert(runtime.to_owned(), key.to_owned()),
            None => pairs.remove(runtime),
        };
        let words: Vec<String> = pairs
            .iter()
            .map(|(name, key)| format!("{name}={key}"))
            .collect();
        self.set(
            variable,
            (!words.is_empty()).then(|| words.join(" ")).as_deref(),
        );
    }

    /// Hands the planned changes to the shell.
    pub fn hand_over(&self) -> Result<(), Failure> {
        let changes = self.changes.borrow();
        let (Some(dialect), Some(waits_at)) = (self.dialect, &self.waits_at) else {
            return Ok(());
        };
        if *changes == Changes::default() {
            return Ok(());
        }
        OpenOptions::new()
            .write(true)
            .open(waits_at)
            .and_then(|mut shell| shell.write_all(changes.render(dialect).as_bytes()))
            .map_err(|error| {
                Failure::new(
                    Kind::Other,
                    format!("the shell does not take its changes: {error}"),
                )
            })
    }
}

fn waits_at(text: &str) -> Option<PathBuf> {
    match text.parse::<u32>() {
        Ok(descriptor) => Some(format!("/dev/fd/{descriptor}").into()),
        Err(_) => Some(PathBuf::from(text)).filter(|path| path.is_absolute()),
    }
}
