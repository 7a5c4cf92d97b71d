//! Snapshots of runtimes: a command reads each file once, until it changes the shelf.

use std::cell::{OnceCell, RefCell};
use std::collections::HashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::sync::Arc;

use vshelf_core::file_trust::Distrust;
use vshelf_core::requirement;
use vshelf_core::{Catalog, Definition, InstallId, Key, Pick};
use vshelf_files::action::FileAction;
use vshelf_files::tree::bytes_in;
use vshelf_shelf::store::{Contents, DefaultChoice, Untold};
use vshelf_shelf::{Install, Shelf, State};
use vshelf_sources::Loaded;

use crate::error::{Error, file_error};

/// The shelf of one runtime as it was read.
#[derive(Debug)]
pub struct ShelfSnapshot {
    /// The installs, newest first.
    pub installs: Vec<Install>,
    /// What else is among them, without a record that says what it is.
    pub untold: Vec<Untold>,
    /// The labels, what is kept, and the renewals under way.
    pub state: State,
    /// The installs, as choosing sees them.
    pub(crate) ids: Vec<InstallId>,
    pub(crate) default: Option<DefaultChoice>,
    default_pick: OnceCell<Option<Pick>>,
}

impl ShelfSnapshot {
    fn read(shelf: &Shelf) -> Result<ShelfSnapshot, Error> {
        let Contents { installs, untold } = shelf.contents()?;
        let state = shelf.state()?;
        Ok(ShelfSnapshot {
            ids: installs.iter().map(|install| install.id.clone()).collect(),
            default: shelf.default_choice(&state),
            default_pick: OnceCell::new(),
            installs,
            untold,
            state,
        })
    }

    /// The default: `None` if none is set, or if its build cannot be used.
    pub fn default_pick(&self) -> Option<&Pick> {
        let find = || {
            let Some(key) = &self.default.as_ref()?.key else {
                return Some(Pick::System);
            };
            self.has_build(key).then(|| key.clone().into())
        };
        self.default_pick.get_or_init(find).as_ref()
    }

    /// The same installs with the state that was just written.
    pub(crate) fn with_state(&self, shelf: &Shelf, state: State) -> ShelfSnapshot {
        ShelfSnapshot {
            installs: self.installs.clone(),
            untold: self.untold.clone(),
            ids: self.ids.clone(),
            default: shelf.default_choice(&state),
            default_pick: OnceCell::new(),
            state,
        }
    }

    /// Whether the build with this key can be run. A shell does so even if the record of the install tells nothing.
    pub fn has_build(&self, key: &Key) -> bool {
        let is_untold = |untold: &&Untold| untold.key == *key;
        match (self.install(key), self.untold.iter().find(is_untold)) {
            (Some(install), _) => install.folder.is_dir(),
            (None, Some(untold)) => untold.build().is_dir(),
            (None, None) => false,
        }
    }

    /// The install with this key.
    pub fn install(&self, key: &Key) -> Option<&Install> {
        self.installs.iter().find(|install| install.id.key == *key)
    }

    /// The install that is picked, unless that is the system's copy.
    pub fn picked(&self, pick: &Pick) -> Option<&Install> {
        self.install(pick.key()?)
    }

    /// The selector that the default was set as.
    pub fn default_selector(&self) -> Option<&str> {
        let default = self.default.as_ref()?;
        Some(&default.selector)
    }

    /// Whether the install with this key is the default.
    pub fn is_default(&self, key: &Key) -> bool {
        self.default_pick().is_some_and(|pick| pick.is(key))
    }
}

/// The bytes of an install on the disk, with the packages that came later. Of a link to an adopted folder only the link is
/// on the shelf.
pub fn size_on_disk(install: &Install) -> Result<u64, Error> {
    bytes_in(&install.folder).map_err(file_error(&install.folder, FileAction::Read))
}

/// The catalog of one runtime, as far as it was read from the cache or asked for.
#[derive(Debug, Default)]
pub struct PublishedSnapshot {
    pub(crate) catalog: OnceCell<Option<Loaded>>,
    pub(crate) outline: OnceCell<Catalog>,
    pub(crate) heads: OnceCell<Option<Loaded>>,
}

impl PublishedSnapshot {
    /// A catalog with all releases.
    pub(crate) fn of_all(loaded: Loaded) -> PublishedSnapshot {
        PublishedSnapshot {
            catalog: OnceCell::from(Some(loaded)),
            ..PublishedSnapshot::default()
        }
    }

    /// A catalog with those releases alone that stand for their lines.
    pub(crate) fn of_heads(loaded: Loaded) -> PublishedSnapshot {
        PublishedSnapshot {
            heads: OnceCell::from(Some(loaded)),
            ..PublishedSnapshot::default()
        }
    }
}

/// A file of a project, as far as it counts.
#[derive(Clone, Debug)]
pub enum ForeignFile {
    /// There is no file, or not a plain one.
    Missing,
    /// It may be somebody else's, and does not count.
    Distrusted(Distrust),
    /// The first bytes of a file that counts.
    Contents(Rc<requirement::Contents>),
}

/// The last snapshot of each runtime, with the value that says whether it still holds.
type Kept<K, S> = RefCell<HashMap<String, (K, Rc<S>)>>;

/// The snapshots that were taken last, by runtime.
#[derive(Default)]
pub struct Snapshots {
    /// With the number of changes that this process had made to the shelf.
    shelves: Kept<u64, ShelfSnapshot>,
    /// With the definition that says which sources there are.
    published: Kept<Arc<Definition>, PublishedSnapshot>,
    /// The files of projects, each with the limit up to which it was read.
    files: RefCell<HashMap<PathBuf, (usize, ForeignFile)>>,
}

impl fmt::Debug for Snapshots {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Snapshots")
    }
}

impl Snapshots {
    /// The shelf of a runtime as it was read last. It is read again after this process changed the shelf, or waited for
    /// a lock on it.
    pub fn of_shelf(&self, shelf: &Shelf) -> Result<Rc<ShelfSnapshot>, Error> {
        let changes = shelf.changes();
        if let Some((known, snapshot)) = self.shelves.borrow().get(shelf.runtime())
            && *known == changes
        {
            return Ok(Rc::clone(snapshot));
        }
        let snapshot = Rc::new(ShelfSnapshot::read(shelf)?);
        keep(&self.shelves, shelf.runtime(), (changes, &snapshot));
        Ok(snapshot)
    }

    /// Puts the snapshot after a change that this process just made in the place of the one before.
    pub(crate) fn renew_shelf(&self, shelf: &Shelf, snapshot: ShelfSnapshot) {
        let kept = (shelf.changes(), &Rc::new(snapshot));
        keep(&self.shelves, shelf.runtime(), kept);
    }

    /// Has the shelf of a runtime and the files of projects be read again: others may have changed them while a person
    /// was asked.
    pub fn forget_shelf(&self, runtime: &str) {
        self.shelves.borrow_mut().remove(runtime);
        self.forget_files();
    }

    /// A file of a project that was read up to this limit.
    pub(crate) fn file(&self, path: &Path, limit: usize) -> Option<ForeignFile> {
        let files = self.files.borrow();
        let (known_limit, file) = files.get(path)?;
        (*known_limit >= limit).then(|| file.clone())
    }

    pub(crate) fn keep_file(&self, path: &Path, limit: usize, file: &ForeignFile) {
        let mut files = self.files.borrow_mut();
        files.insert(path.to_owned(), (limit, file.clone()));
    }

    /// Has the files of projects be read again.
    pub(crate) fn forget_files(&self) {
        self.files.borrow_mut().clear();
    }

    /// The catalog of a definition's sources as it was read last.
    pub fn of_published(&self, definition: &Arc<Definition>) -> Rc<PublishedSnapshot> {
        let name = definition.name.as_str();
        if let Some((known, snapshot)) = self.published.borrow().get(name)
            && known == definition
        {
            return Rc::clone(snapshot);
        }
        let snapshot = Rc::new(PublishedSnapshot::default());
        keep(&self.published, name, (Arc::clone(definition), &snapshot));
        snapshot
    }

    /// Keeps the catalog that the sources of a definition just gave.
    pub fn renew_published(
        &self,
        definition: &Arc<Definition>,
        snapshot: PublishedSnapshot,
    ) -> Rc<PublishedSnapshot> {
        let snapshot = Rc::new(snapshot);
        let name = definition.name.as_str();
        keep(&self.published, name, (Arc::clone(definition), &snapshot));
        snapshot
    }
}

fn keep<K, S>(kept: &Kept<K, S>, name: &str, (of, snapshot): (K, &Rc<S>)) {
    let entry = (of, Rc::clone(snapshot));
    kept.borrow_mut().insert(name.to_owned(), entry);
}
