//! The shelf of one runtime: what is on it, the default, adding and removing installs.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use vshelf_core::{Definition, InstallId, Key};
use vshelf_files::lock::{Lock, LockError};
use vshelf_files::{atomic, optional, system};

use crate::folders::Folders;
use crate::layout::{Layout, LayoutError};
use crate::manifest::Manifest;
use crate::record::{Record, RecordContents, RecordError};
use crate::sharing;
use crate::staging::Stage;
use crate::state::{State, StateError};
use crate::unfinished::{self, away_in, build_in};

/// How long one command waits for another that works on the same install.
const LOCK_PATIENCE: Duration = Duration::from_secs(600);

/// How long one command waits for another that changes the state file.
const STATE_PATIENCE: Duration = Duration::from_secs(10);

/// In the folder of an install: what it is and where it came from.
const RECORD: &str = "record.json";

/// In the folder of an install: every file of its build.
const MANIFEST: &str = "files";

/// The name of the log of how it was built, in an install's place.
const LOG: &str = "build.log";

/// What becomes an install.
#[derive(Debug)]
pub struct Staged<'s> {
    /// Its files: a folder in the stage, or a link to a folder.
    pub tree: &'s Path,
    /// What its record says.
    pub contents: RecordContents,
    /// The list of its files.
    pub manifest: &'s Manifest,
    /// The log of how it was built, where it was.
    pub log: Option<&'s Path>,
}

/// The shelf of one runtime.
#[derive(Clone, Debug)]
pub struct Shelf {
    pub(crate) runtime: String,
    pub(crate) layout: Layout,
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

/// What is on the shelf of a runtime.
#[derive(Clone, Debug, Default)]
pub struct Contents {
    /// The installs, newest first.
    pub installs: Vec<Install>,
    /// What stands among them and has no record that tells what it is.
    pub untold: Vec<Untold>,
}

/// Something on the shelf whose record tells nothing: it may be good all the same.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Untold {
    /// Its key.
    pub key: Key,
    /// Its folder, with the record and the build.
    pub folder: PathBuf,
    /// What is wrong with its record.
    pub error: RecordError,
}

/// One install on the shelf.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Install {
    /// What choosing sees of it.
    pub id: InstallId,
    /// The folder of its build.
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
    /// Something is on the shelf, and its record does not tell what.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// The data folder is laid out otherwise.
    #[error(transparent)]
    Layout(#[from] LayoutError),
}

pub(crate) fn failed(action: &'static str, path: &Path) -> impl FnOnce(io::Error) -> ShelfError {
    let path = path.to_owned();
    move |source| ShelfError::File {
        path,
        action,
        source,
    }
}

impl Install {
    /// The install of this record, in its folder on the shelf.
    fn at(place: &Path, record: Record) -> Install {
        Install {
            id: record.contents.id(),
            folder: build_in(place),
            record,
        }
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

    /// The folder of the build of the install with this key, whether or not it is there.
    pub fn install_folder(&self, key: &Key) -> PathBuf {
        build_in(&self.place(key))
    }

    /// The folder of the install with this key, whether or not it is there.
    pub fn place(&self, key: &Key) -> PathBuf {
        self.layout.install(&self.runtime, key)
    }

    /// The record of the install with this key, whether or not it is there.
    fn record_path(&self, key: &Key) -> PathBuf {
        self.place(key).join(RECORD)
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

    /// Everything on the shelf.
    pub fn contents(&self) -> Result<Contents, ShelfError> {
        let mut contents = Contents::default();
        let folder = self.installs_folder();
        for key in self.keys()? {
            let place = folder.join(key.as_str());
            match Record::read(&place.join(RECORD), &key) {
                Ok(record) => contents.installs.push(Install::at(&place, record)),
                Err(error) => contents.untold.extend(self.untold(key, error)),
            }
        }
        contents.installs.sort_by(|a, b| {
            let order = b.id.version.cmp(&a.id.version);
            order.then_with(|| a.id.key.cmp(&b.id.key))
        });
        Ok(contents)
    }

    /// What stands in the place of an install whose record tells nothing; nothing where no build does.
    fn untold(&self, key: Key, error: RecordError) -> Option<Untold> {
        let is_there = self.install_folder(&key).symlink_metadata().is_ok();
        is_there.then(|| Untold {
            folder: self.place(&key),
            key,
            error,
        })
    }

    /// The names of the folders among the installs that can be keys.
    fn keys(&self) -> Result<Vec<Key>, ShelfError> {
        let folder = self.installs_folder();
        let names = optional::names(&folder).map_err(failed("read", &folder))?;
        Ok(names.iter().filter_map(|name| name.parse().ok()).collect())
    }

    /// The install with this key. A record that does not tell what is there is an error.
    pub fn install(&self, key: &Key) -> Result<Option<Install>, ShelfError> {
        match Record::read(&self.record_path(key), key) {
            Ok(record) => Ok(Some(Install::at(&self.place(key), record))),
            Err(error) => match self.untold(key.clone(), error) {
                Some(untold) => Err(untold.error.into()),
                None => Ok(None),
            },
        }
    }

    /// What the install with this key consisted of when it was put on the shelf, where that was
    /// written down.
    pub fn manifest(&self, key: &Key) -> Result<Option<Manifest>, ShelfError> {
        let path = self.place(key).join(MANIFEST);
        Manifest::read(&path).map_err(failed("read", &path))
    }

    /// The default, the labels and what is kept. Where that is lost, the default is still what its link
    /// leads to.
    pub fn state(&self) -> Result<State, ShelfError> {
        let state = State::read(&self.layout.state(&self.runtime))?;
        Ok(state.unwrap_or_else(|| {
            let mut lost = State::default();
            lost.default_key = self.key_of_link();
            lost
        }))
    }

    /// The state, as [`Shelf::state`] gives it, with the default's link in line with it: a command that
    /// was cut off between the two left that to the next.
    pub fn settled_state(&self) -> Result<State, ShelfError> {
        let state = self.state()?;
        if self.link_agrees(&state) {
            return Ok(state);
        }
        // A shelf that may only be read stays as it is: a checkup tells.
        let settled = self.lock_state().and_then(|_lock| {
            let state = self.state()?;
            if !self.link_agrees(&state) {
                self.point_default(state.default_key.as_ref())?;
            }
            Ok(state)
        });
        Ok(settled.unwrap_or(state))
    }

    /// Whether the default's link leads where the state says.
    pub fn link_agrees(&self, state: &State) -> bool {
        self.key_of_link() == state.default_key
    }

    /// Changes the default, the labels or what is kept, one command at a time. Where the default becomes
    /// another, its link follows.
    pub fn change_state(&self, change: impl FnOnce(&mut State)) -> Result<(), ShelfError> {
        self.layout.claim()?;
        let _lock = self.lock_state()?;
        let mut state = self.state()?;
        change(&mut state);
        state.write(&self.layout.state(&self.runtime))?;
        match self.link_agrees(&state) {
            true => Ok(()),
            false => self.point_default(state.default_key.as_ref()),
        }
    }

    fn lock_state(&self) -> Result<Lock, ShelfError> {
        let path = self.layout.lock(&self.runtime, "state.lock");
        Ok(Lock::acquire(&path, STATE_PATIENCE, &mut |_| {})?)
    }

    /// Has the default's link lead to the install with this key, or removes it. The caller holds the
    /// lock of the state.
    pub(crate) fn point_default(&self, key: Option<&Key>) -> Result<(), ShelfError> {
        let link = self.default_link();
        match key {
            Some(key) => {
                // Relative, so that the shelf can be moved as a whole.
                let installs = Path::new("../shelf").join(&self.runtime);
                let target = build_in(&installs.join(key.as_str()));
                atomic::point_link(&link, &target).map_err(failed("written", &link))
            }
            None => optional::remove(&link)
                .map(drop)
                .map_err(failed("removed", &link)),
        }
    }

    /// The key that the default's link leads to, whether or not it is there.
    fn key_of_link(&self) -> Option<Key> {
        let target = fs::read_link(self.default_link()).ok()?;
        target.parent()?.file_name()?.to_str()?.parse().ok()
    }

    /// The key of the install that the default link leads to, if it is there.
    pub fn default_key(&self) -> Option<Key> {
        let key = self.key_of_link()?;
        self.install_folder(&key).is_dir().then_some(key)
    }

    /// Makes the install with this key the default, remembered as `selector`.
    pub fn set_default(&self, key: &Key, selector: &str) -> Result<(), ShelfError> {
        self.change_state(|state| {
            state.default = Some(selector.to_owned());
            state.default_key = Some(key.clone());
        })
    }

    /// Leaves the runtime without a default of its own; `selector` says what new shells get then, such
    /// as the system's copy.
    pub fn clear_default(&self, selector: Option<&str>) -> Result<(), ShelfError> {
        self.change_state(|state| {
            state.default = selector.map(str::to_owned);
            state.default_key = None;
        })
    }

    /// Keeps other commands off the install with this key; `on_wait` is told whom one waits for.
    pub fn lock(&self, key: &Key, on_wait: &mut dyn FnMut(&str)) -> Result<Lock, ShelfError> {
        let path = self.layout.lock(&self.runtime, key.as_str());
        Ok(Lock::acquire(&path, LOCK_PATIENCE, on_wait)?)
    }

    /// Finishes what processes that died had begun, as far as it can be.
    pub fn sweep(&self) {
        unfinished::sweep(&self.layout);
    }

    /// Begins an install named `purpose`: an empty folder that nobody else sees. What processes that
    /// died had begun is finished first.
    pub fn stage(&self, purpose: &str) -> Result<Stage, ShelfError> {
        self.layout.claim()?;
        self.sweep();
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

    /// Whether uses can be noted, so that what is known of them can be relied on.
    pub fn check_last_uses(&self) -> io::Result<()> {
        optional::check_writable(&self.layout.last_uses(&self.runtime))
    }

    /// When each install was used last, as far as that was noted.
    pub fn last_uses(&self) -> BTreeMap<Key, Timestamp> {
        let folder = self.layout.last_uses(&self.runtime);
        let last_use = |name: String| {
            let modified = fs::metadata(folder.join(&name)).ok()?.modified().ok()?;
            Some((name.parse().ok()?, modified.try_into().ok()?))
        };
        let names = optional::names(&folder).unwrap_or_default().into_iter();
        names.filter_map(last_use).collect()
    }

    /// Publishes what was staged on the shelf: build, record and list of files become visible together.
    ///
    /// The caller holds the lock of `key` and has verified the tree. An install that is there already
    /// changes places with it. Nothing is synced where `durability` says so.
    pub fn publish(
        &self,
        stage: &Stage,
        key: &Key,
        staged: Staged<'_>,
        durability: Durability,
    ) -> Result<Install, ShelfError> {
        let new = stage.path().join("install");
        fs::create_dir(&new)
            .and_then(|()| fs::rename(staged.tree, build_in(&new)))
            .map_err(failed("written", &new))?;
        let path = new.join(MANIFEST);
        (staged.manifest)
            .write(&path)
            .map_err(failed("written", &path))?;
        if let Some(log) = staged.log {
            let path = new.join(LOG);
            fs::copy(log, &path).map_err(failed("written", &path))?;
        }
        // The install is whole without it.
        let shared_size = self.share(stage, key, &build_in(&new), staged.manifest);
        let record = Record::new(RecordContents {
            shared_size: shared_size.unwrap_or_default(),
            ..staged.contents
        });
        let path = new.join(RECORD);
        record.write(&path).map_err(failed("written", &path))?;
        let place = self.place(key);
        let installs = self.installs_folder();
        fs::create_dir_all(&installs).map_err(failed("written", &installs))?;
        if durability == Durability::Synced {
            system::sync_tree(&new).map_err(failed("synced", &new))?;
        }
        self.put(stage, key, &new)
            .map_err(failed("written", &place))?;
        // Once the file is there, noting a use needs no space; a clean-up sees whether it can be.
        self.note_use(key, record.contents.installed)
            .unwrap_or_default();
        if durability == Durability::Synced {
            system::sync_folder(&installs).map_err(failed("synced", &installs))?;
        }
        Ok(Install::at(&place, record))
    }

    /// Has a new build share blocks with the other installs; gives back how many bytes it shares.
    fn share(
        &self,
        stage: &Stage,
        key: &Key,
        build: &Path,
        own: &Manifest,
    ) -> Result<u64, ShelfError> {
        // Most file systems cannot, and nothing has to be read for that.
        if !sharing::can_share(stage.path()).map_err(failed("written", stage.path()))? {
            return Ok(0);
        }
        let mut others = Vec::new();
        for other in self.keys()?.iter().filter(|other| *other != key) {
            let manifest = self.manifest(other)?;
            others.extend(manifest.map(|manifest| (self.install_folder(other), manifest)));
        }
        sharing::share(build, own, &others).map_err(failed("shared", build))
    }

    /// Puts the folder `new` in the place of the install with this key. What stood there before is in
    /// the stage then, and goes with it.
    fn put(&self, stage: &Stage, key: &Key, new: &Path) -> io::Result<()> {
        let place = self.place(key);
        if place.symlink_metadata().is_err() {
            return fs::rename(new, &place);
        }
        match system::exchange(new, &place) {
            Err(error) if error.kind() == io::ErrorKind::Unsupported => {
                // Whoever finds the stage of a process that died in between puts the old one back.
                let away = away_in(stage.path(), &self.runtime, key);
                fs::create_dir_all(away.parent().unwrap_or(stage.path()))?;
                fs::rename(&place, &away)?;
                fs::rename(new, &place).or_else(|error| {
                    fs::rename(&away, &place)?;
                    Err(error)
                })
            }
            exchanged => exchanged,
        }
    }

    /// Writes the record of what stands in the place of the install with this key: for one whose own
    /// record tells nothing.
    pub fn write_record(&self, key: &Key, contents: RecordContents) -> Result<(), ShelfError> {
        let _lock = self.lock(key, &mut |_| {})?;
        let path = self.record_path(key);
        let record = Record::new(contents);
        record.replace(&path).map_err(failed("written", &path))
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_default_is_found_through_its_link_and_on_path() {
        let home = tempfile::tempdir().unwrap();
        let shelf = Shelf::new(&Folders::below(home.path()), "marram");
        let key: Key = "saltmarsh/8.3.1".parse().unwrap();
        fs::create_dir_all(shelf.install_folder(&key).join("bin")).unwrap();
        assert_eq!(shelf.default_key(), None);
        shelf.set_default(&key, "lts").unwrap();
        assert_eq!(shelf.default_key(), Some(key.clone()));
        for base in [shelf.default_link(), shelf.install_folder(&key)] {
            assert!(base.join("bin").is_dir() && shelf.holds(&base));
            assert_eq!(shelf.key_on_path(&base.join("bin")), Some(key.clone()));
        }
        assert_eq!(shelf.key_on_path(Path::new("/usr/bin")), None);
        shelf.clear_default(None).unwrap();
        assert_eq!(
            (shelf.default_key(), shelf.state().unwrap().default),
            (None, None)
        );
    }

    #[test]
    fn a_link_that_was_not_reached_follows_the_state_at_the_next_look() {
        let home = tempfile::tempdir().unwrap();
        let folders = Folders::below(home.path());
        let shelf = Shelf::new(&folders, "marram");
        let [old, new]: [Key; 2] = ["saltmarsh/8.3.0", "saltmarsh/8.3.1"].map(|key| key.parse().unwrap());
        for key in [&old, &new] {
            fs::create_dir_all(shelf.install_folder(key)).unwrap();
        }
        shelf.set_default(&old, "8.3.0").unwrap();
        let mut state = shelf.state().unwrap();
        (state.default, state.default_key) = (Some("8".to_owned()), Some(new.clone()));
        state.write(&Layout::of(&folders).state("marram")).unwrap();
        assert_eq!(shelf.default_key(), Some(old));
        assert_eq!(shelf.settled_state().unwrap(), state);
        assert_eq!(shelf.default_key(), Some(new));
        state.forget(&state.default_key.clone().unwrap());
        state.write(&Layout::of(&folders).state("marram")).unwrap();
        shelf.settled_state().unwrap();
        assert!(!shelf.default_link().is_symlink());
    }

    #[test]
    fn the_last_use_is_kept() {
        let home = tempfile::tempdir().unwrap();
        let key: Key = "saltmarsh/8.3.1".parse().unwrap();
        let shelf = Shelf::new(&Folders::below(home.path()), "marram");
        assert!(shelf.last_uses().is_empty());
        for time in ["2026-11-23T10:00:00Z", "2026-11-24T10:00:00Z"] {
            let time: Timestamp = time.parse().unwrap();
            shelf.note_use(&key, time).unwrap();
            assert_eq!(shelf.last_uses(), BTreeMap::from([(key.clone(), time)]));
        }
    }
}
