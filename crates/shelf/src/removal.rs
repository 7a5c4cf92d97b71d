//! Removing an install: what points at it lets go of it, it is renamed away in one step, deleted, and written
//! into the history. Whoever finds it half done finishes it (`unfinished`).
//!
//! No free space is needed; what can only be written when there is some is written at the end.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::Key;
use vshelf_files::freed::Freed;
use vshelf_files::optional;
use vshelf_files::system::{is_mount_point, mounted};
use vshelf_files::tree::remove_tree_telling;

use crate::journal::{HistoryEntry, Outcome, append_history};
use crate::processes::{Process, ProcessTable};
use crate::staging::Stage;
use crate::state::{State, StateError};
use crate::store::{Shelf, ShelfError, failed};
use crate::trash::{self, Fate};
use crate::unfinished::{build_in, forget_leaving, note_leaving};

/// What becomes of an install that a process runs from, when it is to be removed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Running {
    /// It stays.
    Spared,
    /// It goes all the same.
    Ignored,
}

/// What removing an install resulted in.
#[derive(Debug)]
pub enum Removal {
    /// It is removed.
    Done {
        /// Whether it is in the trash.
        fate: Fate,
        /// The bytes that were freed.
        freed: u64,
        /// What could not be done all the same: deleted, or written down.
        failures: Vec<ShelfError>,
    },
    /// It stays where it was, because this process runs from it.
    Spared(Process),
}

/// An install that is being removed, with the lock of its key held.
struct Departure<'d> {
    shelf: &'d Shelf,
    key: &'d Key,
    entry: &'d HistoryEntry,
    running: Running,
    fate: Fate,
    /// Where it stands.
    place: PathBuf,
    /// The state as it was.
    before: State,
    /// How far deleting is.
    freed: &'d Freed,
}

/// Whether the state has let go of an install that is being removed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum LetGo {
    Done,
    /// It does so when there is room for it.
    Later,
}

impl Shelf {
    /// Removes the install with this key, of which the history is to have this entry; what deleting frees is
    /// told to `freed` as it goes on. Of a link to an adopted folder only the link goes.
    pub fn remove(
        &self,
        key: &Key,
        running: Running,
        fate: Fate,
        entry: &HistoryEntry,
        freed: &Freed,
    ) -> Result<Removal, ShelfError> {
        let _lock = self.lock(key, &mut |_| {})?;
        self.layout.claim()?;
        self.sweep();
        let departure = Departure {
            shelf: self,
            key,
            entry,
            running,
            fate,
            place: self.place(key),
            before: self.state()?,
            freed,
        };
        departure.carry_out()
    }
}

impl Departure<'_> {
    fn carry_out(&self) -> Result<Removal, ShelfError> {
        let build = build_in(&self.place);
        // What is mounted there is not the shelf's to delete.
        if is_mount_point(&build).is_ok_and(|mounted| mounted) {
            return Err(failed("removed", &build)(mounted()));
        }
        let user = self.user(&self.place);
        if let Some(process) = user.map_err(failed("known to be unused", &build))? {
            return Ok(Removal::Spared(process));
        }
        let (staging, runtime) = (self.shelf.layout.staging(), &self.shelf.runtime);
        let purpose = format!("{runtime}-{}", self.key.as_str());
        let stage = Stage::reserve(&staging, &purpose).map_err(failed("written", &staging))?;
        // On a full disk nothing is known of a removal that is cut off but what it left.
        note_leaving(&self.place, self.entry).unwrap_or_default();
        let let_go = match self.let_go() {
            Ok(let_go) => let_go,
            Err(error) => {
                self.put_back(error.to_string())?;
                return Err(error);
            }
        };
        if let Err(error) = fs::rename(&self.place, stage.path()) {
            self.put_back(error.to_string())?;
            return Err(failed("moved away", &self.place)(error));
        }
        // One that started just before the folder was moved is seen in its new place. That the table of
        // processes can be read was seen a moment ago.
        if let Some(process) = self.user(stage.path()).unwrap_or_default() {
            fs::rename(stage.path(), &self.place).map_err(failed("put back", &self.place))?;
            self.put_back(format!("{} runs ({})", process.program, process.id))?;
            return Ok(Removal::Spared(process));
        }
        Ok(self.put_away(stage, let_go))
    }

    /// The process for which it stays, where it stands at `install`.
    fn user(&self, install: &Path) -> io::Result<Option<Process>> {
        let build = build_in(install);
        match self.running {
            Running::Spared if !build.is_symlink() => {
                let processes = ProcessTable::read()?.below(&build);
                Ok(processes.into_iter().next())
            }
            _ => Ok(None),
        }
    }

    /// Has the state, and the default's link, point at the install no more.
    fn let_go(&self) -> Result<LetGo, ShelfError> {
        if !self.before.mentions(self.key) {
            return Ok(LetGo::Done);
        }
        match self.shelf.change_state(|state| state.forget(self.key)) {
            Err(ShelfError::State(StateError::File { source, .. })) if is_full(&source) => {
                // Removing a link needs no space.
                if self.before.default_key.as_ref() == Some(self.key) {
                    self.shelf.point_default(None)?;
                }
                Ok(LetGo::Later)
            }
            changed => changed.map(|()| LetGo::Done),
        }
    }

    /// Has everything be as it was before, because of this problem.
    fn put_back(&self, problem: String) -> Result<(), ShelfError> {
        forget_leaving(&self.place).map_err(failed("changed", &self.place))?;
        if self.before.mentions(self.key) {
            let remember = |state: &mut State| state.remember(self.key, &self.before);
            self.shelf.change_state(remember)?;
        }
        let given_up = HistoryEntry {
            outcome: Outcome::GivenUp,
            problem: Some(problem),
            ..self.entry.clone()
        };
        // Nothing was done that the history would have to tell; why it was not is told in any case.
        append_history(&self.shelf.layout, &given_up).unwrap_or_default();
        Ok(())
    }

    /// Moves it from its stage into the trash, or deletes it there, and writes down what is left to be written.
    fn put_away(&self, stage: Stage, let_go: LetGo) -> Removal {
        let layout = &self.shelf.layout;
        let mut failures = Vec::new();
        let mut tell = |result: Result<(), ShelfError>| failures.extend(result.err());
        let fate = match self.fate {
            Fate::Trashed => trash::accept(layout, &self.shelf.runtime, self.key, stage.path()),
            Fate::Deleted => Ok(Fate::Deleted),
        };
        let fate = fate.unwrap_or_else(|error| {
            tell(Err(failed("moved to the trash", stage.path())(error)));
            Fate::Deleted
        });
        // What is still in its stage is deleted.
        let deleted = remove_tree_telling(&build_in(stage.path()), self.freed);
        let last_use = layout.last_use(&self.shelf.runtime, self.key);
        let forgotten = optional::remove(&last_use).map(drop);
        tell(forgotten.map_err(failed("removed", &last_use)));
        if let_go == LetGo::Later {
            tell(self.shelf.change_state(|state| state.forget(self.key)));
        }
        let written = append_history(layout, self.entry);
        // What the history says already is not written again by who deletes the rest.
        if written.is_ok() {
            forget_leaving(stage.path()).unwrap_or_default();
        }
        tell(written.map_err(failed("written", &layout.history())));
        match deleted.left {
            Some(error) => {
                tell(Err(failed("deleted", stage.path())(error)));
                stage.abandon();
            }
            None => drop(stage),
        }
        Removal::Done {
            fate,
            freed: deleted.freed,
            failures,
        }
    }
}

/// Whether something failed for want of space.
fn is_full(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded
    )
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;
    use crate::folders::Folders;
    use crate::layout::Layout;
    use std::process::Command;

    fn removal_of(key: &Key) -> HistoryEntry {
        let text = serde_json::json!({
            "at": "2026-11-24T12:00:00Z",
            "command": "1",
            "operation": "removed",
            "key": key,
            "record": {
                "runtime": "marram", "version": "8.3.1", "publisher": "eelgrass",
                "source": "index", "address": "", "platform": "", "digest": null,
                "archive_size": null, "unpacked_size": 0, "files": 0,
                "installed": "2026-11-24T12:00:00Z",
            },
        });
        serde_json::from_value(text).expect("it is an entry of the history")
    }

    #[test]
    fn what_a_process_runs_from_stays_and_goes_when_it_has_ended() {
        let home = tempfile::tempdir().unwrap();
        let key: Key = "saltmarsh/8.3.1".parse().unwrap();
        let folders = Folders::below(home.path());
        let shelf = Shelf::new(&folders, "marram");
        let bin = shelf.install_folder(&key).join("bin");
        fs::create_dir_all(&bin).unwrap();
        let copied = Command::new("cp").arg("/bin/sleep").arg(&bin).status();
        assert!(copied.unwrap().success());
        let mut child = Command::new(bin.join("sleep")).arg("60").spawn().unwrap();
        let exe = format!("/proc/{}/exe", child.id());
        while !fs::read_link(&exe).unwrap().ends_with("build/bin/sleep") {
            std::thread::yield_now();
        }
        let entry = removal_of(&key);
        let remove = || {
            let freed = Freed::default();
            let removed = shelf.remove(&key, Running::Spared, Fate::Deleted, &entry, &freed);
            removed.unwrap()
        };
        match remove() {
            Removal::Spared(process) => assert_eq!(process.id, child.id()),
            Removal::Done { freed, .. } => panic!("{freed} bytes are gone"),
        }
        assert!(bin.join("sleep").exists());
        child.kill().unwrap();
        child.wait().unwrap();
        assert!(matches!(remove(), Removal::Done { freed: 1.., .. }));
        assert!(!shelf.place(&key).exists());
        let history = crate::journal::history(&Layout::of(&folders)).unwrap();
        assert_eq!(history.entries, [entry]);
    }
}
