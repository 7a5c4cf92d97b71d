//! The shelf of one runtime: what is on it, the default, adding and removing installs.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use vshelf_core::{Definition, InstallId, Key};
use vshelf_files::lock::{Lock, LockError};
use vshelf_files::tree::remove_tree;
use vshelf_files::{atomic, optional};

use crate::folders::Folders;
use crate::layout::{Layout, LayoutError};
use crate::manifest::Manifest;
use crate::processes::{Process, processes_below};
use crate::record::{Record, RecordContents};
use crate::staging::{self, AbandonedStage, Stage};
use crate::state::{State, StateError};

/// How long one command waits for another that works on the same install.
const LOCK_PATIENCE: Duration = Duration::from_secs(600);

/// How long one command waits for another that changes the state file.
const STATE_PATIENCE: Duration = Duration::from_secs(10);

/// The shelf of one runtime.
#[derive(Clone, Debug)]
pub struct Shelf {
    runtime: String,
    layout: Layout,
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

/// What becomes of an install that a process runs from, when it is to be removed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Running {
    /// It stays.
    Spared,
    /// It goes all the same.
    Ignored,
}

/// What removing an install resulted in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Removal {
    /// It is gone; these bytes were freed.
    Freed(u64),
    /// It stays where it was, because this process runs from it.
    Spared(Process),
}

/// One install on the shelf.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Install {
    /// What choosing sees of it.
    pub id: InstallId,
    /// Its folder.
    pub folder: PathBuf,
    /// Where it came from.
    pub record: Record,
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
    /// The data folder is laid out otherwise.
    #[error(transparent)]
    Layout(#[from] LayoutError),
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
            layout: Layout::of(folders),
        }
    }

    /// The runtimes that have a folder on the shelf, in order.
    pub fn runtimes(folders: &Folders) -> Result<Vec<String>, ShelfError> {
        let folder = Layout::of(folders).installs();
        optional::names(&folder).map_err(failed("read", &folder))
    }

    /// The folder of this runtime's installs.
    pub fn installs_folder(&self) -> PathBuf {
        self.layout.installs_of(&self.runtime)
    }

    /// The folder of the install with this key, whether or not it is there.
    pub fn install_folder(&self, key: &Key) -> PathBuf {
        self.installs_folder().join(key.as_str())
    }

    /// The stable path of the default.
    pub fn default_link(&self) -> PathBuf {
        self.layout.default_of(&self.runtime)
    }

    /// The folders that every entry of this runtime on PATH is in.
    pub fn folders_on_path(&self) -> [PathBuf; 2] {
        [self.default_link(), self.installs_folder()]
    }

    /// Whether a path leads to an install of this runtime, or to its default.
    pub fn holds(&self, path: &Path) -> bool {
        self.folders_on_path()
            .iter()
            .any(|folder| path.starts_with(folder))
    }

    /// The install that a folder on PATH is in.
    pub fn key_on_path(&self, folder: &Path) -> Option<Key> {
        if folder.starts_with(self.default_link()) {
            return self.default_key();
        }
        let below = folder.strip_prefix(self.installs_folder()).ok()?;
        below.iter().next()?.to_str()?.parse().ok()
    }

    /// The folder of launchers, which is the same for all runtimes.
    pub fn launchers(&self) -> PathBuf {
        self.layout.launchers()
    }

    /// Everything on the shelf, newest first. Folders without a record are not installs.
    pub fn installs(&self) -> Result<Vec<Install>, ShelfError> {
        let mut installs = Vec::new();
        for key in self.keys()? {
            installs.extend(self.install(&key)?);
        }
        installs.sort_by(|a, b| {
            let order = b.id.version.cmp(&a.id.version);
            order.then_with(|| a.id.key.cmp(&b.id.key))
        });
        Ok(installs)
    }

    /// The names of the folders among the installs that can be keys.
    fn keys(&self) -> Result<Vec<Key>, ShelfError> {
        let folder = self.installs_folder();
        let names = optional::names(&folder).map_err(failed("read", &folder))?;
        Ok(names.iter().filter_map(|name| name.parse().ok()).collect())
    }

    /// The install with this key.
    pub fn install(&self, key: &Key) -> Result<Option<Install>, ShelfError> {
        let folder = self.install_folder(key);
        // A link to an adopted folder that is gone is still an install, to be seen and removed.
        if folder.symlink_metadata().is_err() {
            return Ok(None);
        }
        let path = self.layout.record(&self.runtime, key);
        let record = Record::read(&path).map_err(failed("read", &path))?;
        Ok(record.map(|record| Install {
            id: record.contents.id(key),
            folder,
            record,
        }))
    }

    /// What the install with this key consisted of when it was put on the shelf, where that was
    /// written down.
    pub fn manifest(&self, key: &Key) -> Result<Option<Manifest>, ShelfError> {
        let path = self.layout.manifest(&self.runtime, key);
        Manifest::read(&path).map_err(failed("read", &path))
    }

    /// The default and the labels.
    pub fn state(&self) -> Result<State, ShelfError> {
        Ok(State::read(&self.layout.state(&self.runtime))?)
    }

    /// Changes the default or the labels, one command at a time.
    pub fn change_state(&self, change: impl FnOnce(&mut State)) -> Result<(), ShelfError> {
        self.layout.claim()?;
        let path = self.layout.lock(&self.runtime, "state.lock");
        let _lock = Lock::acquire(&path, STATE_PATIENCE, &mut |_| {})?;
        let mut state = self.state()?;
        change(&mut state);
        Ok(state.write(&self.layout.state(&self.runtime))?)
    }

    /// The key of the install that the default link leads to, if it is there.
    pub fn default_key(&self) -> Option<Key> {
        let target = fs::read_link(self.default_link()).ok()?;
        let key: Key = target.file_name()?.to_str()?.parse().ok()?;
        self.install_folder(&key).is_dir().then_some(key)
    }

    /// Makes the install with this key the default, remembered as `selector`.
    pub fn set_default(&self, key: &Key, selector: &str) -> Result<(), ShelfError> {
        self.change_state(|state| state.default = Some(selector.to_owned()))?;
        let link = self.default_link();
        // Relative, so that the shelf can be moved as a whole.
        let target = Path::new("../shelf").join(&self.runtime).join(key.as_str());
        atomic::point_link(&link, &target).map_err(failed("written", &link))
    }

    /// Leaves the runtime without a default.
    pub fn clear_default(&self) -> Result<(), ShelfError> {
        let link = self.default_link();
        optional::remove(&link).map_err(failed("removed", &link))?;
        self.change_state(|state| state.default = None)
    }

    /// Keeps other commands off the install with this key; `on_wait` is told whom one waits for.
    pub fn lock(&self, key: &Key, on_wait: &mut dyn FnMut(&str)) -> Result<Lock, ShelfError> {
        let path = self.layout.lock(&self.runtime, key.as_str());
        Ok(Lock::acquire(&path, LOCK_PATIENCE, on_wait)?)
    }

    /// Deletes what processes that died left behind under way.
    pub fn sweep(&self) -> Result<(), ShelfError> {
        let staging = self.layout.staging();
        staging::sweep(&staging).map_err(failed("swept", &staging))
    }

    /// What processes that died left behind under way, of any runtime.
    pub fn abandoned(folders: &Folders) -> Result<Vec<AbandonedStage>, ShelfError> {
        let staging = Layout::of(folders).staging();
        staging::abandoned(&staging).map_err(failed("read", &staging))
    }

    /// Begins an install named `purpose`: an empty folder that nobody else sees. What dead processes
    /// left behind is swept first.
    pub fn stage(&self, purpose: &str) -> Result<Stage, ShelfError> {
        self.layout.claim()?;
        self.sweep()?;
        let staging = self.layout.staging();
        Stage::begin(&staging, &format!("{}-{purpose}", self.runtime))
            .map_err(failed("written", &staging))
    }

    /// Notes that the install with this key is used `now`.
    pub fn note_use(&self, key: &Key, now: Timestamp) -> io::Result<()> {
        let path = self.layout.last_use(&self.runtime, key);
        let file = match fs::File::options().write(true).open(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                path.parent().map_or(Ok(()), fs::create_dir_all)?;
                fs::File::create(&path)?
            }
            file => file?,
        };
        file.set_modified(now.into())
    }

    /// When the install with this key was used last, as far as that was noted.
    pub fn last_use(&self, key: &Key) -> Option<Timestamp> {
        let path = self.layout.last_use(&self.runtime, key);
        let modified = fs::metadata(path).ok()?.modified().ok()?;
        modified.try_into().ok()
    }

    /// Publishes what was staged on the shelf: record, sync, rename. Only then is it visible.
    ///
    /// The caller holds the lock of `key` and has verified the staged `tree`, which is a folder or
    /// a link to one. An install that is there already changes places with it. Nothing is synced
    /// where `durability` says so.
    pub fn publish(
        &self,
        key: &Key,
        tree: &Path,
        contents: RecordContents,
        manifest: &Manifest,
        durability: Durability,
    ) -> Result<Install, ShelfError> {
        let path = self.layout.manifest(&self.runtime, key);
        manifest.write(&path).map_err(failed("written", &path))?;
        let record = Record::new(contents);
        let path = self.layout.record(&self.runtime, key);
        record.write(&path).map_err(failed("written", &path))?;
        let folder = self.install_folder(key);
        let installs = self.installs_folder();
        fs::create_dir_all(&installs).map_err(failed("written", &installs))?;
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
            atomic::sync_folder(&installs).map_err(failed("synced", &installs))?;
        }
        Ok(Install {
            id: record.contents.id(key),
            folder,
            record,
        })
    }

    /// Removes the install with this key: renamed away in one step, then deleted. Of a
    /// link to an adopted folder only the link goes. `before` is called when nothing is left but to
    /// do it: what it writes down is written even if this process dies in between.
    pub fn remove<E: From<ShelfError>>(
        &self,
        key: &Key,
        running: Running,
        before: impl FnOnce() -> Result<(), E>,
    ) -> Result<Removal, E> {
        let _lock = self.lock(key, &mut |_| {})?;
        let folder = self.install_folder(key);
        let stage = self.stage(key.as_str())?;
        let away = stage.path().join("removed");
        let user = |folder: &Path| match running {
            Running::Spared if !folder.is_symlink() => processes_below(folder).into_iter().next(),
            _ => None,
        };
        if let Some(process) = user(&folder) {
            return Ok(Removal::Spared(process));
        }
        before()?;
        fs::rename(&folder, &away).map_err(failed("moved away", &folder))?;
        // One that started just before the folder was moved is seen in its new place.
        if let Some(process) = user(&away) {
            fs::rename(&away, &folder).map_err(failed("put back", &folder))?;
            return Ok(Removal::Spared(process));
        }
        for path in [
            self.layout.record(&self.runtime, key),
            self.layout.manifest(&self.runtime, key),
            self.layout.last_use(&self.runtime, key),
        ] {
            optional::remove(&path).map_err(failed("removed", &path))?;
        }
        let freed = remove_tree(&away).map_err(failed("deleted", &away))?;
        Ok(Removal::Freed(freed))
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

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;
    use std::process::Command;

    #[test]
    fn the_default_is_found_through_its_link_and_on_path() {
        let home = tempfile::tempdir().unwrap();
        let shelf = Shelf::new(&Folders::below(home.path()), "marram");
        let key: Key = "8.3.1".parse().unwrap();
        fs::create_dir_all(shelf.install_folder(&key).join("bin")).unwrap();
        assert_eq!(shelf.default_key(), None);
        shelf.set_default(&key, "lts").unwrap();
        assert_eq!(shelf.default_key(), Some(key.clone()));
        for base in [shelf.default_link(), shelf.install_folder(&key)] {
            assert!(base.join("bin").is_dir() && shelf.holds(&base));
            assert_eq!(shelf.key_on_path(&base.join("bin")), Some(key.clone()));
        }
        assert_eq!(shelf.key_on_path(Path::new("/usr/bin")), None);
        shelf.clear_default().unwrap();
        assert_eq!(
            (shelf.default_key(), shelf.state().unwrap().default),
            (None, None)
        );
    }

    #[test]
    fn the_last_use_is_kept() {
        let home = tempfile::tempdir().unwrap();
        let key: Key = "8.3.1".parse().unwrap();
        let shelf = Shelf::new(&Folders::below(home.path()), "marram");
        assert_eq!(shelf.last_use(&key), None);
        for time in ["2026-11-23T10:00:00Z", "2026-11-24T10:00:00Z"] {
            let time: Timestamp = time.parse().unwrap();
            shelf.note_use(&key, time).unwrap();
            assert_eq!(shelf.last_use(&key), Some(time));
        }
    }

    #[test]
    fn what_a_process_starts_from_at_the_last_moment_is_put_back() {
        let home = tempfile::tempdir().unwrap();
        let key: Key = "8.3.1".parse().unwrap();
        let shelf = Shelf::new(&Folders::below(home.path()), "marram");
        let bin = shelf.install_folder(&key).join("bin");
        fs::create_dir_all(&bin).unwrap();
        let copied = Command::new("cp").arg("/bin/sleep").arg(&bin).status();
        assert!(copied.unwrap().success());
        let mut started = None;
        let taken = shelf.remove(&key, Running::Spared, || {
            let child = Command::new(bin.join("sleep")).arg("60").spawn().unwrap();
            let exe = format!("/proc/{}/exe", child.id());
            while !fs::read_link(&exe).unwrap().ends_with("8.3.1/bin/sleep") {
                std::thread::yield_now();
            }
            started = Some(child);
            Ok::<(), ShelfError>(())
        });
        let mut child = started.unwrap();
        let process = match taken.unwrap() {
            Removal::Spared(process) => process.id,
            Removal::Freed(freed) => panic!("{freed} bytes are gone"),
        };
        assert_eq!(process, child.id());
        assert!(bin.join("sleep").exists());
        child.kill().unwrap();
        child.wait().unwrap();
        let taken = shelf.remove(&key, Running::Spared, || Ok::<(), ShelfError>(()));
        assert!(matches!(taken, Ok(Removal::Freed(1..))));
        assert!(!shelf.install_folder(&key).exists());
    }
}
