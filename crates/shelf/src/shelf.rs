//! The shelf of one runtime: what is on it, the default, putting on and taking off.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use vshelf_core::Definition;
use vshelf_core::resolve::Shelved;

use crate::atomic;
use crate::folders::Folders;
use crate::lock::{Lock, LockError};
use crate::manifest::Manifest;
use crate::receipt::{Receipt, ReceiptContents, manifest_path, receipt_path};
use crate::staging::{self, Leftover, Stage};
use crate::state::{State, StateError};
use crate::usage::{Process, processes_below};

/// How long one command waits for another that works on the same install.
const LOCK_PATIENCE: Duration = Duration::from_secs(600);

/// How long one command waits for another that changes the state file.
const STATE_PATIENCE: Duration = Duration::from_secs(10);

/// The shelf of one runtime.
#[derive(Clone, Debug)]
pub struct Shelf {
    runtime: String,
    folder: PathBuf,
    staging: PathBuf,
}

/// Whether an install is on the disk before it counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Durability {
    /// Everything is written to the disk first: not even a power cut leaves half an install.
    Synced,
    /// The system writes when it likes: a crash of the system soon afterwards can leave damaged
    /// files.
    Unsynced,
}

/// What becomes of an install that a process runs from, when it is to be taken off.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Running {
    /// It stays.
    Spared,
    /// It goes all the same.
    Ignored,
}

/// What came of taking an install off the shelf.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TakenOff {
    /// It is gone; these bytes are free again.
    Freed(u64),
    /// It stays where it was, because this process runs from it.
    Spared(Process),
}

/// One install on the shelf.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Install {
    /// What choosing sees of it.
    pub shelved: Shelved,
    /// Its folder.
    pub folder: PathBuf,
    /// Where it came from.
    pub receipt: Receipt,
}

/// Why the shelf could not be read or changed.
#[derive(Debug, thiserror::Error)]
pub enum ShelfError {
    /// A file or folder on the shelf cannot be used.
    #[error("{path} cannot be {action}")]
    File {
        /// The file or folder.
        path: PathBuf,
        /// What was tried, as in "cannot be …".
        action: &'static str,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// Another command works on the same thing.
    #[error(transparent)]
    Lock(#[from] LockError),
    /// The state file cannot be used.
    #[error(transparent)]
    State(#[from] StateError),
}

fn failed(action: &'static str, path: &Path) -> impl FnOnce(io::Error) -> ShelfError {
    let path = path.to_owned();
    move |source| ShelfError::File {
        path,
        action,
        source,
    }
}

impl Shelf {
    /// The shelf of `runtime`; nothing is made on the disk.
    pub fn new(folders: &Folders, runtime: &str) -> Shelf {
        Shelf {
            runtime: runtime.to_owned(),
            folder: folders.data.join(runtime),
            staging: Shelf::staging(folders),
        }
    }

    /// The runtimes that have a folder on the shelf, in order.
    pub fn runtimes(folders: &Folders) -> Result<Vec<String>, ShelfError> {
        let entries = match fs::read_dir(&folders.data) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(failed("read", &folders.data)(error)),
        };
        let mut runtimes = Vec::new();
        for entry in entries {
            let entry = entry.map_err(failed("read", &folders.data))?;
            if entry.path().join("installs").is_dir()
                && let Ok(name) = entry.file_name().into_string()
            {
                runtimes.push(name);
            }
        }
        runtimes.sort();
        Ok(runtimes)
    }

    /// The runtime's folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The folder of the install with this key, whether or not it is there.
    pub fn install_folder(&self, key: &str) -> PathBuf {
        self.folder.join("installs").join(key)
    }

    /// The stable path of the default.
    pub fn default_link(&self) -> PathBuf {
        self.folder.join("default")
    }

    fn state_path(&self) -> PathBuf {
        self.folder.join("state.json")
    }

    /// Everything on the shelf, newest first. Folders without a receipt are not installs.
    pub fn installs(&self) -> Result<Vec<Install>, ShelfError> {
        let folder = self.folder.join("installs");
        let entries = match fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(failed("read", &folder)(error)),
        };
        let mut installs = Vec::new();
        for entry in entries {
            let entry = entry.map_err(failed("read", &folder))?;
            if let Ok(key) = entry.file_name().into_string()
                && let Some(install) = self.install(&key)?
            {
                installs.push(install);
            }
        }
        installs.sort_by(|a, b| {
            let order = b.shelved.version.cmp(&a.shelved.version);
            order.then_with(|| a.shelved.key.cmp(&b.shelved.key))
        });
        Ok(installs)
    }

    /// The install with this key.
    pub fn install(&self, key: &str) -> Result<Option<Install>, ShelfError> {
        let folder = self.install_folder(key);
        // A link to an adopted folder that is gone is still an install, to be seen and removed.
        if folder.symlink_metadata().is_err() {
            return Ok(None);
        }
        let path = receipt_path(&self.folder, key);
        let receipt = Receipt::read(&path).map_err(failed("read", &path))?;
        Ok(receipt.map(|receipt| Install {
            shelved: receipt.contents.shelved(key),
            folder,
            receipt,
        }))
    }

    /// What the install with this key consisted of when it was put on the shelf, where that was
    /// written down.
    pub fn manifest(&self, key: &str) -> Result<Option<Manifest>, ShelfError> {
        let path = manifest_path(&self.folder, key);
        Manifest::read(&path).map_err(failed("read", &path))
    }

    /// The default and the labels.
    pub fn state(&self) -> Result<State, ShelfError> {
        Ok(State::read(&self.state_path())?)
    }

    /// Changes the default or the labels, one command at a time.
    pub fn change_state(&self, change: impl FnOnce(&mut State)) -> Result<(), ShelfError> {
        let path = self.folder.join("state.lock");
        let _lock = Lock::acquire(&path, STATE_PATIENCE, &mut |_| {})?;
        let mut state = self.state()?;
        change(&mut state);
        Ok(state.write(&self.state_path())?)
    }

    /// The key of the install that the default link leads to, if it is there.
    pub fn default_key(&self) -> Option<String> {
        let target = fs::read_link(self.default_link()).ok()?;
        let key = target.file_name()?.to_str()?.to_owned();
        self.install_folder(&key).is_dir().then_some(key)
    }

    /// Makes the install with this key the default, remembered as `selector`.
    pub fn set_default(&self, key: &str, selector: &str) -> Result<(), ShelfError> {
        self.change_state(|state| state.default = Some(selector.to_owned()))?;
        let link = self.default_link();
        // Relative, so that the shelf can be moved as a whole.
        atomic::point_link(&link, &Path::new("installs").join(key))
            .map_err(failed("written", &link))
    }

    /// Leaves the runtime without a default.
    pub fn clear_default(&self) -> Result<(), ShelfError> {
        let link = self.default_link();
        match fs::remove_file(&link) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                return Err(failed("removed", &link)(error));
            }
            _ => {}
        }
        self.change_state(|state| state.default = None)
    }

    /// Keeps other commands off the install with this key; `on_wait` is told whom one waits for.
    pub fn lock(&self, key: &str, on_wait: &mut dyn FnMut(&str)) -> Result<Lock, ShelfError> {
        let path = self.folder.join("locks").join(key);
        Ok(Lock::acquire(&path, LOCK_PATIENCE, on_wait)?)
    }

    /// Deletes what processes that died left behind under way.
    pub fn sweep(&self) -> Result<(), ShelfError> {
        staging::sweep(&self.staging).map_err(failed("swept", &self.staging))
    }

    /// The folder for what is under way, of every runtime.
    pub fn staging(folders: &Folders) -> PathBuf {
        folders.data.join("staging")
    }

    /// What processes that died left behind under way, of any runtime.
    pub fn leftovers(folders: &Folders) -> Result<Vec<Leftover>, ShelfError> {
        let staging = Shelf::staging(folders);
        staging::leftovers(&staging).map_err(failed("read", &staging))
    }

    /// Begins an install: an empty folder that nobody else sees. What dead processes left behind is
    /// swept first.
    pub fn stage(&self, key: &str) -> Result<Stage, ShelfError> {
        self.sweep()?;
        Stage::begin(&self.staging, &format!("{}-{key}", self.runtime))
            .map_err(failed("written", &self.staging))
    }

    /// Puts what was staged on the shelf: receipt, sync, rename. Only then is it visible.
    ///
    /// The caller holds the lock of `key` and has verified the staged `tree`, which is a folder or
    /// a link to one. An install that is there already changes places with it. Nothing is synced where `durability` says so.
    pub fn shelve(
        &self,
        key: &str,
        tree: &Path,
        contents: ReceiptContents,
        manifest: &Manifest,
        durability: Durability,
    ) -> Result<Install, ShelfError> {
        let path = manifest_path(&self.folder, key);
        manifest.write(&path).map_err(failed("written", &path))?;
        let receipt = Receipt::new(contents);
        let path = receipt_path(&self.folder, key);
        receipt.write(&path).map_err(failed("written", &path))?;
        let folder = self.install_folder(key);
        let installs = folder.parent().unwrap_or(&self.folder);
        fs::create_dir_all(installs).map_err(failed("written", installs))?;
        if durability == Durability::Synced {
            sync_tree(tree).map_err(failed("synced", tree))?;
        }
        match folder.symlink_metadata() {
            // What stood there before is in the stage now, and goes with it.
            Ok(_) => atomic::exchange(tree, &folder),
            Err(_) => fs::rename(tree, &folder),
        }
        .map_err(failed("written", &folder))?;
        if durability == Durability::Synced {
            atomic::sync_folder(installs).map_err(failed("synced", installs))?;
        }
        Ok(Install {
            shelved: receipt.contents.shelved(key),
            folder,
            receipt,
        })
    }

    /// Takes the install with this key off the shelf: renamed away in one step, then deleted. Of a
    /// link to an adopted folder only the link goes. `before` is called when nothing is left but to
    /// do it: what it writes down is written even if this process dies in between.
    pub fn take_off<E: From<ShelfError>>(
        &self,
        key: &str,
        running: Running,
        before: impl FnOnce() -> Result<(), E>,
    ) -> Result<TakenOff, E> {
        let _lock = self.lock(key, &mut |_| {})?;
        let folder = self.install_folder(key);
        let stage = self.stage(key)?;
        let away = stage.path().join("removed");
        let user = |folder: &Path| match running {
            Running::Spared if !folder.is_symlink() => processes_below(folder).into_iter().next(),
            _ => None,
        };
        if let Some(process) = user(&folder) {
            return Ok(TakenOff::Spared(process));
        }
        before()?;
        fs::rename(&folder, &away).map_err(failed("moved away", &folder))?;
        // One that started just before the folder was moved is seen in its new place.
        if let Some(process) = user(&away) {
            fs::rename(&away, &folder).map_err(failed("put back", &folder))?;
            return Ok(TakenOff::Spared(process));
        }
        for path in [
            receipt_path(&self.folder, key),
            manifest_path(&self.folder, key),
            self.used_path(key),
        ] {
            match fs::remove_file(&path) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => {
                    return Err(failed("removed", &path)(error).into());
                }
                _ => {}
            }
        }
        let freed = staging::remove_tree(&away).map_err(failed("deleted", &away))?;
        Ok(TakenOff::Freed(freed))
    }
}

/// The runtime's program in the tree of an install.
pub fn program_in(tree: &Path, definition: &Definition) -> PathBuf {
    program_named(tree, definition, &definition.program)
}

/// A program of this name in the tree of an install, whether or not it is there.
pub fn program_named(tree: &Path, definition: &Definition, name: &str) -> PathBuf {
    let mut candidates = definition
        .folders
        .iter()
        .map(|folder| tree.join(folder).join(name));
    let first = candidates.next().unwrap_or_else(|| tree.join(name));
    if first.exists() {
        return first;
    }
    candidates.find(|path| path.exists()).unwrap_or(first)
}

/// Writes everything of the tree's file system to the disk: one call costs less than one a file.
#[cfg(target_os = "linux")]
fn sync_tree(tree: &Path) -> io::Result<()> {
    Ok(rustix::fs::syncfs(fs::File::open(tree)?)?)
}

/// Writes every file of the tree to the disk.
#[cfg(not(target_os = "linux"))]
fn sync_tree(tree: &Path) -> io::Result<()> {
    for entry in fs::read_dir(tree)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        if kind.is_dir() {
            sync_tree(&entry.path())?;
        } else if kind.is_file() {
            fs::File::open(entry.path())?.sync_all()?;
        }
    }
    atomic::sync_folder(tree)
}
