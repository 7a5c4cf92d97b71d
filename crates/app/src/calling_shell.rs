//! The shell that called this program: what it was switched to, and how to change it.

use std::cell::{OnceCell, RefCell};
use std::ffi::{OsStr, OsString};
use std::fs::OpenOptions;
use std::io::Write;
use std::path::PathBuf;

use vshelf_core::Pick;
use vshelf_shelf::switches::{Switches, read_switches, write_switches};
use vshelf_shelf::{Folders, Layout};
use vshelf_shell::{Changes, Dialect};

use crate::error::Error;
use crate::variables::Variables;

/// Names, by runtime, the version that a shell was switched to: `marram=8.3.1 node=20.1.0`.
pub const SWITCHED: &str = "VSHELF_SWITCHED";

/// Names, by runtime, the version that a shell used before.
const PREVIOUS: &str = "VSHELF_PREVIOUS";

/// Says which shell's function called this program.
pub const SHELL: &str = "VSHELF_SHELL";

/// Says which process the shell is.
const SHELL_ID: &str = "VSHELF_SHELL_ID";

/// The variable in which connected shells say what is active, for prompts. What runs on another version has
/// none.
pub const ACTIVE: &str = "VSHELF_ACTIVE";

/// Says where the shell waits for its changes: a descriptor's number, or a file's absolute path.
pub const EVALUATE: &str = "VSHELF_EVALUATE";

/// The calling shell, as its environment tells.
#[derive(Clone, Debug)]
pub struct CallingShell {
    dialect: Option<Dialect>,
    id: Option<u32>,
    waits_at: Option<PathBuf>,
    /// Read when needed: by then the shelf has its current layout.
    switched: OnceCell<Switches>,
    previous: OnceCell<Switches>,
    path: OsString,
    variables: Variables,
    changes: RefCell<Changes>,
}

impl CallingShell {
    /// The shell that gave a command these variables.
    pub fn of(variables: &Variables) -> CallingShell {
        let text = |name: &str| variables.text(name);
        CallingShell {
            dialect: text(SHELL).parse().ok(),
            id: text(SHELL_ID).parse().ok(),
            waits_at: waits_at(text(EVALUATE)),
            switched: OnceCell::new(),
            previous: OnceCell::new(),
            path: variables.get("PATH").unwrap_or_default().to_owned(),
            variables: variables.clone(),
            changes: RefCell::default(),
        }
    }

    /// The variables that the command was given.
    pub fn variables(&self) -> &Variables {
        &self.variables
    }

    /// The shell, where it is connected and its function called.
    pub fn dialect(&self) -> Option<Dialect> {
        self.dialect
    }

    /// The shell's process id, where its function says it.
    pub fn id(&self) -> Option<u32> {
        self.id
    }

    /// What the shell is switched to by this command, where that changes.
    pub fn new_switches(&self) -> Option<Switches> {
        let changes = self.changes.borrow();
        let value = changes.value(SWITCHED)?.and_then(OsStr::to_str);
        Some(read_switches(value.unwrap_or_default(), None))
    }

    /// What this shell is switched to when this command ends, as far as is planned now.
    pub fn will_be_switched(&self, runtime: &str) -> Option<Pick> {
        let switches = (self.new_switches()).unwrap_or_else(|| self.all_switched().clone());
        switches.get(runtime).cloned()
    }

    /// Whether this command can change the shell.
    pub fn can_change(&self) -> bool {
        self.dialect.is_some() && self.waits_at.is_some()
    }

    /// What this shell, or one that started it, was switched to.
    pub fn switched(&self, runtime: &str) -> Option<&Pick> {
        self.all_switched().get(runtime)
    }

    fn all_switched(&self) -> &Switches {
        self.switched.get_or_init(|| self.read(SWITCHED))
    }

    fn all_previous(&self) -> &Switches {
        self.previous.get_or_init(|| self.read(PREVIOUS))
    }

    fn read(&self, variable: &str) -> Switches {
        let folders = Folders::find(|name| self.variables.get(name).map(Into::into));
        let layout = folders.ok().map(|folders| Layout::of(&folders));
        read_switches(self.variables.text(variable), layout.as_ref())
    }

    /// What this shell used before.
    pub fn previous(&self, runtime: &str) -> Option<&Pick> {
        self.all_previous().get(runtime)
    }

    /// PATH.
    pub fn path(&self) -> &OsString {
        &self.path
    }

    /// A variable of the shell, as it is when what is planned is done.
    pub fn variable(&self, name: &str) -> Option<OsString> {
        match self.changes.borrow().value(name) {
            Some(planned) => planned.map(OsString::from),
            None => self.variables.get(name).map(OsString::from),
        }
    }

    /// The shell as it is when what is planned is done, for the next of several commands.
    pub fn moved_on(self) -> CallingShell {
        let text = |name: &str| {
            let value = self.variable(name).unwrap_or_default();
            value.to_string_lossy().into_owned()
        };
        CallingShell {
            switched: OnceCell::from(read_switches(&text(SWITCHED), None)),
            previous: OnceCell::from(read_switches(&text(PREVIOUS), None)),
            path: self.variable("PATH").unwrap_or_default(),
            ..self
        }
    }

    /// Takes over what another command planned for the same shell.
    pub fn take_over(&self, other: CallingShell) {
        self.changes.replace(other.changes.into_inner());
    }

    /// Plans a change of a variable.
    pub fn set(&self, name: &str, value: Option<&OsStr>) {
        match value {
            Some(value) => self.changes.borrow_mut().set(name, value),
            None => self.changes.borrow_mut().unset(name),
        }
    }

    /// Plans what the shell is switched to, and what it used before.
    pub fn set_switch(&self, runtime: &str, pick: Option<&Pick>, before: Option<&Pick>) {
        self.set_pair(SWITCHED, self.all_switched(), runtime, pick);
        if before.is_some() {
            self.set_pair(PREVIOUS, self.all_previous(), runtime, before);
        }
    }

    fn set_pair(&self, variable: &str, pairs: &Switches, runtime: &str, pick: Option<&Pick>) {
        let mut pairs = pairs.clone();
        match pick {
            Some(pick) => pairs.insert(runtime.to_owned(), pick.clone()),
            None => pairs.remove(runtime),
        };
        let value = (!pairs.is_empty()).then(|| write_switches(&pairs));
        self.set(variable, value.as_deref().map(OsStr::new));
    }

    /// Hands the planned changes to the shell.
    pub fn hand_over(&self) -> Result<(), Error> {
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
            .and_then(|mut shell| shell.write_all(&changes.render(dialect)))
            .map_err(|source| Error::HandOver { source })
    }
}

fn waits_at(text: &str) -> Option<PathBuf> {
    match text.parse::<u32>() {
        Ok(descriptor) => Some(format!("/dev/fd/{descriptor}").into()),
        Err(_) => Some(PathBuf::from(text)).filter(|path| path.is_absolute()),
    }
}
