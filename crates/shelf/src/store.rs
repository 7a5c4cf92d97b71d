//! The shelf of one runtime: what is on it, the default, adding and removing installs.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use vshelf_core::admission::Admitted;
use vshelf_core::{Definition, InstallId, Key};
use vshelf_files::action::FileAction;
use vshelf_files::lock::{Lock, LockError};
use vshelf_files::{atomic, optional, system};

use crate::arrival::Leave;
use crate::entry_name::EntryName;
use crate::folders::Folders;
use crate::former_names::key_of_former;
use crate::journal::HistoryEntry;
use crate::layout::{Layout, LayoutError};
use crate::manifest::Manifest;
use crate::note::{Intent, Note};
use crate::record::{Record, RecordContents, RecordError};
use crate::sharing;
use crate::staging::Stage;
use crate::state::{State, StateError};

/// How long one command waits for another that works on the same install.
const LOCK_PATIENCE: Duration = Duration::from_secs(600);

/// How long one command waits for another that changes the state file.
const STATE_PATIENCE: Duration = Duration::from_secs(10);

/// In the folder of an install: what it is and where it came from.
pub(crate) const RECORD: &str = "record.json";

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

/// A lock on the shelf. Releasing it makes snapshots from before stale, because its holder or an earlier one may have
/// changed the shelf.
#[derive(Debug)]
pub struct ShelfLock {
    _lock: Lock,
    layout: Layout,
}

impl ShelfLock {
    pub(crate) fn new(lock: Lock, layout: &Layout) -> ShelfLock {
        ShelfLock {
            _lock: lock,
            layout: layout.clone(),
        }
    }
}

impl Drop for ShelfLock {
    fn drop(&mut self) {
        self.layout.note_change();
    }
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

/// What new shells get.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DefaultChoice {
    /// The install, unless it is the system's copy.
    pub key: Option<Key>,
    /// The selector that it was set as.
    pub selector: String,
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
        /// The action that failed.
        action: FileAction,
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
    /// A folder of the shelf is on another file system than the rest of it.
    #[error("{path} is on another file system than the trash")]
    OtherDisk {
        /// The folder.
        path: PathBuf,
    },
    /// Another command removed an install meanwhile.
    #[error("{selector} of {runtime} is not on the shelf any more")]
    Gone {
        /// The runtime's name.
        runtime: String,
        /// The selector of the install.
        selector: String,
    },
}

/// The build in the folder of an install.
pub(crate) fn build_in(install: &Path) -> PathBuf {
    install.join("build")
}

impl Untold {
    /// The folder of its build, which may be good.
    pub fn build(&self) -> PathBuf {
        build_in(&self.folder)
    }
}

pub(crate) fn failed(action: FileAction, path: &Path) -> impl FnOnce(io::Error) -> ShelfError {
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
        Shelf::of(&Layout::of(folders), runtime)
    }

    /// The shelf of `runtime` in this data folder; nothing is made on the disk.
    pub fn of(layout: &Layout, runtime: &str) -> Shelf {
        Shelf {
            runtime: runtime.to_owned(),
            layout: layout.clone(),
        }
    }

    /// The runtime's name.
    pub fn runtime(&self) -> &str {
        &self.runtime
    }

    /// How often this process has changed the data folder ([`Layout::changes`]).
    pub fn changes(&self) -> u64 {
        self.layout.changes()
    }

    /// The runtimes that have a folder on the shelf, in order.
    pub fn runtimes(folders: &Folders) -> Result<Vec<String>, ShelfError> {
        let folder = Layout::of(folders).installs();
        optional::names(&folder).map_err(failed(FileAction::Read, &folder))
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
        self.key_named(below.iter().next()?.to_str()?)
    }

    /// The key that a name among the installs means: its own, or the one that layout 3 gave to it.
    pub fn key_named(&self, name: &str) -> Option<Key> {
        let former = || key_of_former(&self.layout, &self.runtime, name);
        name.parse().ok().or_else(former)
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
        let names = optional::names(&folder).map_err(failed(FileAction::Read, &folder))?;
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
        Manifest::read(&path).map_err(failed(FileAction::Read, &path))
    }

    /// The choices of a person. If the file is lost, the default's link still says which install it is.
    pub fn state(&self) -> Result<State, ShelfError> {
        Ok(State::read(&self.layout.state(&self.runtime))?.unwrap_or_default())
    }

    /// The default: the install that the link leads to, or what holds without one. A link that leads to a
    /// removed install stays until the removal is completed, and counts as none.
    pub fn default_choice(&self, state: &State) -> Option<DefaultChoice> {
        match self.key_of_link() {
            Some(key) if self.place(&key).symlink_metadata().is_err() => None,
            Some(key) => Some(DefaultChoice {
                selector: state.default_selector(&key),
                key: Some(key),
            }),
            None => state.without_link.clone().map(|selector| DefaultChoice {
                key: None,
                selector,
            }),
        }
    }

    /// Whether the default's link leads to nothing on the shelf.
    pub fn has_dangling_default(&self) -> bool {
        let key = self.key_of_link();
        key.is_some_and(|key| self.place(&key).symlink_metadata().is_err())
    }

    /// Changes the labels or what is kept, one command at a time.
    pub fn change_state(&self, change: impl FnOnce(&mut State)) -> Result<(), ShelfError> {
        self.layout.claim()?;
        let _lock = self.lock_state()?;
        let mut state = self.state()?;
        change(&mut state);
        Ok(state.write(&self.layout.state(&self.runtime))?)
    }

    /// The innermost lock: who holds it takes no other.
    pub(crate) fn lock_state(&self) -> Result<ShelfLock, ShelfError> {
        let path = self.layout.lock(&self.runtime, "state.lock");
        let lock = Lock::acquire(&path, STATE_PATIENCE, &mut |_| {})?;
        Ok(ShelfLock::new(lock, &self.layout))
    }

    /// Makes the install with this key the default, remembered as `selector`. Returns the new state.
    pub fn set_default(&self, key: &Key, selector: &str) -> Result<State, ShelfError> {
        self.layout.claim()?;
        let _lock = self.lock(key, &mut |_| {})?;
        self.settle(key)?;
        if self.place(key).symlink_metadata().is_err() {
            return Err(ShelfError::Gone {
                runtime: self.runtime.clone(),
                selector: key.selector(),
            });
        }
        self.point_default_at(key, selector)
    }

    /// Like [`Shelf::set_default`], for who holds the key's lock.
    pub(crate) fn point_default_at(&self, key: &Key, selector: &str) -> Result<State, ShelfError> {
        let _lock = self.lock_state()?;
        let mut state = self.state()?;
        let before = self.key_of_link();
        // Until the link is replaced, the selector of the one before still counts.
        state
            .defaults
            .retain(|other, _| Some(other) == before.as_ref());
        state.defaults.insert(key.clone(), selector.to_owned());
        state.write(&self.layout.state(&self.runtime))?;
        // The commit point.
        self.point_default(Some(key))?;
        Ok(state)
    }

    /// Leaves the runtime without an install as the default; `selector` says what new shells get then, such
    /// as the system's copy. Returns the new state.
    pub fn clear_default(&self, selector: Option<&str>) -> Result<State, ShelfError> {
        self.layout.claim()?;
        let _lock = self.lock_state()?;
        let mut state = self.state()?;
        state.without_link = selector.map(str::to_owned);
        state.write(&self.layout.state(&self.runtime))?;
        // The commit point.
        self.point_default(None)?;
        Ok(state)
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
                atomic::point_link(&link, &target).map_err(failed(FileAction::Write, &link))
            }
            None => {
                let removed = optional::remove(&link).map_err(failed(FileAction::Remove, &link))?;
                let folder = self.layout.defaults();
                if removed {
                    system::sync_folder(&folder).map_err(failed(FileAction::Sync, &folder))?;
                }
                Ok(())
            }
        }
    }

    /// The link with this name among those to lines.
    pub fn line_link(&self, name: &str) -> PathBuf {
        self.layout.lines_of(&self.runtime).join(name)
    }

    /// The names of the links to lines.
    pub fn line_links(&self) -> Result<Vec<String>, ShelfError> {
        let folder = self.layout.lines_of(&self.runtime);
        optional::names(&folder).map_err(failed(FileAction::Read, &folder))
    }

    /// Has a link to a line lead to the install with this key.
    pub fn point_line(&self, name: &str, key: &Key) -> Result<(), ShelfError> {
        let link = self.line_link(name);
        // Relative, so that the shelf can be moved as a whole.
        let installs = Path::new("../../shelf").join(&self.runtime);
        let target = build_in(&installs.join(key.as_str()));
        if fs::read_link(&link).is_ok_and(|known| known == target) {
            return Ok(());
        }
        self.layout.claim()?;
        atomic::point_link(&link, &target).map_err(failed(FileAction::Write, &link))
    }

    /// The key that the default's link leads to, whether or not it is there.
    pub(crate) fn key_of_link(&self) -> Option<Key> {
        let target = fs::read_link(self.default_link()).ok()?;
        target.parent()?.file_name()?.to_str()?.parse().ok()
    }

    /// The key of the install that the default link leads to, if it is there.
    pub fn default_key(&self) -> Option<Key> {
        let key = self.key_of_link()?;
        self.install_folder(&key).is_dir().then_some(key)
    }

    /// Keeps other commands off the install with this key; `on_wait` is told whom one waits for.
    pub fn lock(&self, key: &Key, on_wait: &mut dyn FnMut(&str)) -> Result<ShelfLock, ShelfError> {
        let lock = Lock::acquire(&self.lock_path(key), LOCK_PATIENCE, on_wait)?;
        Ok(ShelfLock::new(lock, &self.layout))
    }

    pub(crate) fn lock_path(&self, key: &Key) -> PathBuf {
        self.layout.lock(&self.runtime, key.as_str())
    }

    /// Begins an install named `purpose`: an empty folder that nobody else sees.
    pub fn stage(&self, purpose: &str) -> Result<Stage, ShelfError> {
        self.layout.claim()?;
        let staging = self.layout.staging();
        Stage::begin(&staging, &format!("{}-{purpose}", self.runtime))
            .map_err(failed(FileAction::Write, &staging))
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

    /// Publishes what was staged on the shelf: build, record and list of files become visible together, and
    /// the history gets an entry.
    ///
    /// The caller holds the key's lock and has verified that the tree is what was admitted. An install that
    /// is there already is replaced. Nothing is synced if `durability` says so.
    pub fn publish(
        &self,
        stage: &Stage,
        admitted: &Admitted,
        staged: Staged<'_>,
        durability: Durability,
    ) -> Result<Install, ShelfError> {
        let key = admitted.key();
        self.settle(key)?;
        let new = stage.path().join("install");
        let record = self.prepare(stage, admitted, &new, staged)?;
        let place = self.place(key);
        let installs = self.installs_folder();
        // A trash that is there can take an install away from a full disk.
        for folder in [&installs, &self.layout.trash().join(&self.runtime)] {
            fs::create_dir_all(folder).map_err(failed(FileAction::Write, folder))?;
        }
        if durability == Durability::Synced {
            system::sync_tree(&new).map_err(failed(FileAction::Sync, &new))?;
        }
        if place.symlink_metadata().is_ok() {
            self.replace(admitted, &new, &record)?;
        } else {
            // The commit point of an install.
            (Leave::Admitted(admitted).rename(&new, &place))
                .map_err(failed(FileAction::Write, &place))?;
        }
        // Once the file is there, noting a use needs no space; a clean-up sees whether it can be.
        self.note_use(key, record.contents.installed)
            .unwrap_or_default();
        if durability == Durability::Synced {
            system::sync_folder(&installs).map_err(failed(FileAction::Sync, &installs))?;
        }
        // The install is there. If the history cannot be written now, the next command does it.
        self.settle(key).unwrap_or_default();
        Ok(Install::at(&place, record))
    }

    /// Makes the folder of an install in a stage, with the note of its arrival.
    fn prepare(
        &self,
        stage: &Stage,
        admitted: &Admitted,
        new: &Path,
        staged: Staged<'_>,
    ) -> Result<Record, ShelfError> {
        let key = admitted.key();
        fs::create_dir(new)
            .and_then(|()| fs::rename(staged.tree, build_in(new)))
            .map_err(failed(FileAction::Write, new))?;
        let path = new.join(MANIFEST);
        (staged.manifest)
            .write(&path)
            .map_err(failed(FileAction::Write, &path))?;
        if let Some(log) = staged.log {
            let path = new.join(LOG);
            fs::copy(log, &path).map_err(failed(FileAction::Write, &path))?;
        }
        // The install is whole without it.
        let shared_size = self.share(stage, key, &build_in(new), staged.manifest);
        let record = Record::new(RecordContents {
            shared_size: shared_size.unwrap_or_default(),
            ..staged.contents.of_admitted(admitted)
        });
        let path = new.join(RECORD);
        record
            .write(&path)
            .map_err(failed(FileAction::Write, &path))?;
        let arriving = Note {
            intent: Intent::Arriving,
            entry: HistoryEntry::of_arrival(&record.contents),
            pointers: None,
        };
        arriving
            .write_unseen(new)
            .map_err(failed(FileAction::Write, new))?;
        Ok(record)
    }

    /// Puts a new build in the place of the one with the same key, which is deleted.
    fn replace(&self, admitted: &Admitted, new: &Path, record: &Record) -> Result<(), ShelfError> {
        let key = admitted.key();
        let leave = Leave::Admitted(admitted);
        let place = self.place(key);
        self.check_movable(&place)?;
        let name = EntryName::new(key, record.contents.installed);
        let former = self.layout.trash_entry(&self.runtime, &name);
        let replacing = Note {
            intent: Intent::Replacing,
            entry: HistoryEntry::of_arrival(&record.contents),
            pointers: None,
        };
        replacing
            .write(&place)
            .map_err(failed(FileAction::Write, &place))?;
        // They change places through the one's future place in the trash, so that the old one is never
        // anywhere else than on the shelf or in the trash.
        let exchanged = fs::rename(new, &former).and_then(|()| leave.exchange(&former, &place));
        let replaced = match exchanged {
            Err(error) if error.kind() == io::ErrorKind::Unsupported => {
                let own = self
                    .layout
                    .trash_entry(&self.runtime, &EntryName::new(key, name.at));
                fs::rename(&place, own).and_then(|()| leave.rename(&former, &place))
            }
            exchanged => exchanged,
        };
        // Whatever happened, the notes say what is to be done now.
        let settled = self.settle(key).and_then(|()| self.settle_entries_of(key));
        replaced
            .map_err(failed(FileAction::Replace, &place))
            .and(settled)
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
        if !sharing::can_share(stage.path()).map_err(failed(FileAction::Write, stage.path()))? {
            return Ok(0);
        }
        let mut others = Vec::new();
        for other in self.keys()?.iter().filter(|other| *other != key) {
            let manifest = self.manifest(other)?;
            others.extend(manifest.map(|manifest| (self.install_folder(other), manifest)));
        }
        sharing::share(build, own, &others).map_err(failed(FileAction::Share, build))
    }

    /// Writes the record of what stands in the place of the install with this key: for one whose own
    /// record tells nothing.
    pub fn write_record(
        &self,
        admitted: &Admitted,
        contents: RecordContents,
    ) -> Result<(), ShelfError> {
        let key = admitted.key();
        let _lock = self.lock(key, &mut |_| {})?;
        let path = self.record_path(key);
        let record = Record::new(contents.of_admitted(admitted));
        record
            .replace(&path)
            .map_err(failed(FileAction::Write, &path))
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
        assert_eq!(shelf.default_key(), None);
        assert_eq!(shelf.default_choice(&shelf.state().unwrap()), None);
    }

    #[test]
    fn the_link_decides_which_selector_counts() {
        let home = tempfile::tempdir().unwrap();
        let folders = Folders::below(home.path());
        let shelf = Shelf::new(&folders, "marram");
        let [old, new]: [Key; 2] =
            ["saltmarsh/8.3.0", "saltmarsh/8.3.1"].map(|key| key.parse().unwrap());
        for key in [&old, &new] {
            fs::create_dir_all(shelf.install_folder(key)).unwrap();
        }
        let choice = || shelf.default_choice(&shelf.state().unwrap());
        let chosen = |key: &Key, selector: &str| {
            Some(DefaultChoice {
                key: Some(key.clone()),
                selector: selector.to_owned(),
            })
        };
        shelf.set_default(&old, "8.3.0").unwrap();
        // Cut off before the link is replaced, setting another default did nothing.
        let write = |change: fn(&mut State, Key)| {
            let mut state = shelf.state().unwrap();
            change(&mut state, new.clone());
            state.write(&Layout::of(&folders).state("marram")).unwrap();
        };
        write(|state, new| drop(state.defaults.insert(new, "8".to_owned())));
        assert_eq!(choice(), chosen(&old, "8.3.0"));
        shelf.point_default(Some(&new)).unwrap();
        assert_eq!(choice(), chosen(&new, "8"));
        // Neither does clearing it.
        write(|state, _| state.without_link = Some("system".to_owned()));
        assert_eq!(choice(), chosen(&new, "8"));
        shelf.point_default(None).unwrap();
        assert_eq!(choice().unwrap().selector, "system");
        // A removed install is not the default, and neither is the choice before it.
        shelf.set_default(&new, "8").unwrap();
        fs::remove_dir_all(shelf.place(&new)).unwrap();
        assert_eq!(choice(), None);
        let gone = shelf.set_default(&new, "8").unwrap_err();
        assert!(matches!(gone, ShelfError::Gone { .. }), "{gone:?}");
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
