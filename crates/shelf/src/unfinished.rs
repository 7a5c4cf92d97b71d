//! What processes that died had begun, and finishing it: an install that was not whole goes, one that was
//! being removed is removed, one that was being replaced and is missing comes back.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::Key;
use vshelf_files::tree::remove_tree;
use vshelf_files::{atomic, optional};

use crate::journal::{HistoryEntry, Outcome, append_history};
use crate::layout::Layout;
use crate::staging::{AbandonedStage, abandoned};

/// In the folder of an install that is being removed: the line of the history that says so.
const LEAVING: &str = "leaving.json";

/// In a stage: the install that is being replaced, at `RUNTIME/KEY` below, where it cannot change places
/// with its successor in one step.
const AWAY: &str = "away";

/// Something that a process which died had begun.
#[derive(Debug)]
pub struct Unfinished {
    stage: AbandonedStage,
    layout: Layout,
}

/// A leftover that cannot be deleted: it is in nobody's way.
#[derive(Debug, thiserror::Error)]
#[error("{folder} cannot be deleted")]
pub struct Stuck {
    /// Its folder, or its lock.
    pub folder: PathBuf,
    /// Why.
    #[source]
    pub source: io::Error,
}

/// What processes that died had begun, and what cannot even be looked at.
pub fn unfinished(layout: &Layout) -> io::Result<(Vec<Unfinished>, Vec<Stuck>)> {
    let found = abandoned(&layout.staging())?;
    let unfinished = found.stages.into_iter().map(|stage| Unfinished {
        stage,
        layout: layout.clone(),
    });
    let stuck = found.locked_out.into_iter();
    let stuck = stuck.map(|(folder, source)| Stuck { folder, source });
    Ok((unfinished.collect(), stuck.collect()))
}

/// Finishes what processes that died had begun, and gives back what cannot be finished: it stands in
/// nobody's way, and a checkup and a clean-up tell of it.
pub fn sweep(layout: &Layout) -> Vec<Stuck> {
    let mut stuck = Vec::new();
    for folder in layout.of_single_files() {
        if let Err(source) = atomic::sweep(&folder) {
            stuck.push(Stuck { folder, source });
        }
    }
    match unfinished(layout) {
        Ok((found, locked_out)) => {
            stuck.extend(locked_out);
            let failed = found.into_iter().map(Unfinished::finish);
            stuck.extend(failed.filter_map(Result::err));
        }
        Err(source) => stuck.push(Stuck {
            folder: layout.staging(),
            source,
        }),
    }
    stuck
}

impl Unfinished {
    /// Its folder, which may be gone.
    pub fn folder(&self) -> &Path {
        &self.stage.folder
    }

    /// Finishes it, and says how many bytes that set free.
    pub fn finish(self) -> Result<u64, Stuck> {
        let folder = self.folder().to_owned();
        self.finish_in(&folder)
            .map_err(|source| Stuck { folder, source })
    }

    fn finish_in(self, folder: &Path) -> io::Result<u64> {
        let away = folder.join(AWAY);
        for runtime in optional::names(&away)? {
            for name in optional::names(&away.join(&runtime))? {
                let Ok(key) = name.parse::<Key>() else {
                    continue;
                };
                let place = self.layout.install(&runtime, &key);
                if place.symlink_metadata().is_err() {
                    fs::rename(away.join(&runtime).join(&name), place)?;
                }
            }
        }
        let mut freed = 0;
        if let Some(entry) = leaving(folder)? {
            freed += remove_tree(&build_in(folder)).whole()?;
            append_history(&self.layout, &entry)?;
        }
        freed += remove_tree(folder).whole()?;
        self.stage.end()?;
        Ok(freed)
    }
}

/// The build in the folder of an install.
pub(crate) fn build_in(install: &Path) -> PathBuf {
    install.join("build")
}

/// Where an install with this key waits in a stage while another takes its place.
pub(crate) fn away_in(stage: &Path, runtime: &str, key: &Key) -> PathBuf {
    stage.join(AWAY).join(runtime).join(key.as_str())
}

/// Writes into the folder of an install that it is being removed: whoever finishes it writes this into
/// the history.
pub(crate) fn note_leaving(install: &Path, entry: &HistoryEntry) -> io::Result<()> {
    fs::write(install.join(LEAVING), serde_json::to_vec(entry)?)
}

/// Takes back what [`note_leaving`] wrote.
pub(crate) fn forget_leaving(install: &Path) -> io::Result<()> {
    optional::remove(&install.join(LEAVING)).map(drop)
}

/// What the history is to say of an install that is being removed.
pub(crate) fn leaving(install: &Path) -> io::Result<Option<HistoryEntry>> {
    let text = optional::read(&install.join(LEAVING))?;
    // Half a line was written on a full disk, before anything was moved.
    Ok(text.and_then(|text| serde_json::from_slice(&text).ok()))
}

/// The removals that were begun, and are under way or were cut off.
pub fn removals_begun(layout: &Layout) -> io::Result<Vec<HistoryEntry>> {
    let mut begun = Vec::new();
    for stage in optional::entries(&layout.staging())? {
        // A lock is a file, and one that is just being finished is gone.
        let entry = leaving(&stage.path()).unwrap_or_default();
        begun.extend(entry.map(|entry| HistoryEntry {
            outcome: Outcome::Begun,
            ..entry
        }));
    }
    Ok(begun)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::folders::Folders;
    use crate::staging::Stage;
    use vshelf_files::tree::bytes_in;

    #[test]
    fn only_what_nobody_works_in_is_swept() {
        let home = tempfile::tempdir().unwrap();
        let layout = Layout::of(&Folders::below(home.path()));
        let staging = layout.staging();
        assert!(sweep(&layout).is_empty());
        let stage = Stage::begin(&staging, "marram-8.3.1").unwrap();
        fs::write(stage.path().join("half"), "x").unwrap();
        let dead = staging.join("marram-6.2.0.1.0");
        fs::create_dir(&dead).unwrap();
        fs::write(staging.join("marram-6.2.0.1.0.lock"), "process 1").unwrap();
        fs::write(dead.join("half"), "seven b").unwrap();
        let (found, _) = unfinished(&layout).unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!(bytes_in(found[0].folder()).unwrap(), 7);
        assert!(unfinished(&layout).unwrap().0.is_empty(), "it is held");
        drop(found);
        for one in unfinished(&layout).unwrap().0 {
            assert_eq!(one.finish().unwrap(), 7);
        }
        assert!(stage.path().join("half").exists() && !dead.exists());
        drop(stage);
        assert_eq!(fs::read_dir(&staging).unwrap().count(), 0);
    }

    #[test]
    fn what_was_being_replaced_comes_back() {
        let home = tempfile::tempdir().unwrap();
        let layout = Layout::of(&Folders::below(home.path()));
        let key: Key = "saltmarsh/8.3.1".parse().unwrap();
        let stage = Stage::begin(&layout.staging(), "marram-8.3.1").unwrap();
        let away = away_in(stage.path(), "marram", &key);
        fs::create_dir_all(build_in(&away)).unwrap();
        fs::create_dir_all(layout.installs_of("marram")).unwrap();
        stage.abandon();
        assert!(sweep(&layout).is_empty());
        assert!(build_in(&layout.install("marram", &key)).is_dir());
        assert_eq!(fs::read_dir(layout.staging()).unwrap().count(), 0);
    }
}
