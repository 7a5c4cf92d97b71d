//! Bringing the data folder of layout 3 to layout 4, once.
//!
//! Layout 3 left the publisher out of the names of the main publisher's installs, had one entry for each
//! key in the trash, and moved installs that were being removed through `staging`. Every step can be done
//! again: a migration that is cut off is resumed by the next command, and no older program touches the folder
//! meanwhile, because the number of the layout changes first.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use serde::Deserialize;
use vshelf_core::Key;
use vshelf_files::lock::Lock;
use vshelf_files::{atomic, optional, system};

use crate::entry_name::EntryName;
use crate::former_names::key_of_former;
use crate::journal::{self, HistoryEntry, append_history};
use crate::layout::{Layout, LayoutError, LayoutState};
use crate::note::{self, Intent, Note};
use crate::record::{Record, RecordContents};
use crate::store::{RECORD, Shelf, build_in};
use crate::switches::{read_switches, write_switches};

/// How long one command waits for another that migrates the same folder.
const PATIENCE: Duration = Duration::from_secs(600);

/// In layout 3, the line of the history in the folder of an install that was being removed or in the trash.
const LEAVING: &str = "leaving.json";

/// In layout 3, the installs that were being replaced, in a stage.
const AWAY: &str = "away";

/// The publisher in the key of an install whose record does not say it.
const UNKNOWN: &str = "unknown";

/// Makes sure that the data folder has this program's layout. Nothing is written if it has.
pub fn prepare(layout: &Layout) -> Result<(), LayoutError> {
    match layout.condition()? {
        LayoutState::Current => return Ok(()),
        LayoutState::Former | LayoutState::Migrating => {}
    }
    migrate(layout).map_err(|source| LayoutError::Migration {
        data: layout.data().to_owned(),
        source,
    })
}

fn migrate(layout: &Layout) -> io::Result<()> {
    let lock = layout.data().join("locks").join("migration");
    let _lock = Lock::acquire(&lock, PATIENCE, &mut |_| {}).map_err(io::Error::other)?;
    // Another command may have done it meanwhile.
    if matches!(layout.condition(), Ok(LayoutState::Current)) {
        return Ok(());
    }
    layout.begin_migration()?;
    for stage in optional::entries(&layout.staging())? {
        rescue_stage(layout, &stage.path())?;
    }
    for runtime in optional::names(&layout.installs())? {
        migrate_installs(layout, &runtime)?;
        migrate_uses(layout, &runtime)?;
    }
    for runtime in optional::names(&layout.trash())? {
        migrate_trash(layout, &runtime)?;
    }
    for file in optional::names(&layout.states())? {
        if let Some(runtime) = file.strip_suffix(".json") {
            migrate_state(layout, runtime)?;
        }
    }
    migrate_shells(layout)?;
    note_missing_arrivals(layout)?;
    layout.end_migration()
}

/// Takes out of a stage what was on the shelf: an install that was being removed goes to the trash, one that
/// was being replaced goes back if its successor did not come. A stage whose lock is held belongs to a program
/// of layout 3 that still runs.
fn rescue_stage(layout: &Layout, stage: &Path) -> io::Result<()> {
    if !stage.is_dir() {
        return Ok(());
    }
    let mut lock_path = stage.as_os_str().to_owned();
    lock_path.push(".lock");
    let Some(_lock) = Lock::try_acquire(Path::new(&lock_path))? else {
        let text = format!("another vshelf is working in {}", stage.display());
        return Err(io::Error::new(io::ErrorKind::ResourceBusy, text));
    };
    let away = stage.join(AWAY);
    for runtime in optional::names(&away)? {
        for name in optional::names(&away.join(&runtime))? {
            let place = layout.installs_of(&runtime).join(&name);
            if place.symlink_metadata().is_err() {
                fs::rename(away.join(&runtime).join(&name), place)?;
            }
        }
    }
    match Record::read_any(&stage.join(RECORD)) {
        Some(record) if build_in(stage).symlink_metadata().is_ok() => {
            let runtime = record.runtime.clone();
            move_to_trash(layout, &runtime, stage, &record)
        }
        _ => Ok(()),
    }
}

/// Gives every install of a runtime its new name. The old one stays as a link, because programs that were built
/// there, scripts of packages and settings of editors have it written down.
fn migrate_installs(layout: &Layout, runtime: &str) -> io::Result<()> {
    let installs = layout.installs_of(runtime);
    for name in optional::names(&installs)? {
        let place = installs.join(&name);
        if place.is_symlink() || !place.is_dir() || name.parse::<Key>().is_ok() {
            continue;
        }
        let record = Record::read_any(&place.join(RECORD));
        let Some(key) = new_key(&name, record.as_ref()) else {
            continue;
        };
        // Programs of layout 3 that began before hold the lock of the old name.
        let old_lock = layout.lock(runtime, &name);
        let _lock = Lock::acquire(&old_lock, PATIENCE, &mut |_| {}).map_err(io::Error::other)?;
        rename_leaving_link(&place, &installs.join(key.as_str()))?;
    }
    system::sync_folder(&installs)
}

/// Moves a folder, and leaves a link to it in its former place: both in one step if the system can.
fn rename_leaving_link(from: &Path, to: &Path) -> io::Result<()> {
    if to.is_symlink() {
        fs::remove_file(to)?;
    }
    let target = Path::new(to.file_name().unwrap_or_default());
    system::symlink(target, to)?;
    match system::exchange(from, to) {
        Err(error) if error.kind() == io::ErrorKind::Unsupported => {
            fs::remove_file(to)?;
            fs::rename(from, to)?;
            system::symlink(target, from)
        }
        exchanged => exchanged,
    }
}

/// The key of what layout 3 called `name`: `None` for what was no install.
fn new_key(name: &str, record: Option<&RecordContents>) -> Option<Key> {
    match record {
        Some(record) => Some(record.id().key),
        None => name
            .parse()
            .or_else(|_| format!("{UNKNOWN}-{name}").parse())
            .ok(),
    }
}

fn migrate_uses(layout: &Layout, runtime: &str) -> io::Result<()> {
    let folder = layout.last_uses(runtime);
    for name in optional::names(&folder)? {
        match key_of_former(layout, runtime, &name) {
            Some(key) if key.as_str() == name => {}
            Some(key) => fs::rename(folder.join(&name), folder.join(key.as_str()))?,
            // Of what is not on the shelf any more.
            None => drop(optional::remove(&folder.join(&name))?),
        }
    }
    Ok(())
}

fn migrate_trash(layout: &Layout, runtime: &str) -> io::Result<()> {
    let folder = layout.trash().join(runtime);
    for name in optional::names(&folder)? {
        let entry = folder.join(&name);
        if name.parse::<EntryName>().is_ok() {
            continue;
        }
        if let Some(record) = Record::read_any(&entry.join(RECORD)) {
            move_to_trash(layout, runtime, &entry, &record)?;
        }
    }
    Ok(())
}

/// Makes a removed install of layout 3 an entry of the trash, with the note of its removal.
fn move_to_trash(
    layout: &Layout,
    runtime: &str,
    folder: &Path,
    record: &RecordContents,
) -> io::Result<()> {
    let line = optional::read(&folder.join(LEAVING))?;
    let noted: Option<HistoryEntry> = line.and_then(|line| serde_json::from_slice(&line).ok());
    let key = record.id().key;
    let at = noted.as_ref().map_or_else(Timestamp::now, |entry| entry.at);
    if let Some(entry) = noted {
        let in_history = journal::history(layout)?.entries.contains(&entry);
        let removal = Note {
            intent: Intent::Leaving,
            entry,
            pointers: None,
        };
        // The history has this entry already.
        if in_history {
            note::conclude_removal(folder, &removal)?;
        } else {
            removal.write(folder)?;
        }
        optional::remove(&folder.join(LEAVING))?;
    }
    let entry = layout.trash_entry(runtime, &EntryName::new(&key, at));
    fs::create_dir_all(entry.parent().unwrap_or(folder))?;
    fs::rename(folder, entry)
}

/// The state file of layout 3.
#[derive(Deserialize)]
struct FormerState {
    format: String,
    default: Option<String>,
    default_key: Option<String>,
    #[serde(default)]
    labels: BTreeMap<String, String>,
    #[serde(default)]
    kept: BTreeSet<String>,
    #[serde(default)]
    renewals: BTreeMap<String, String>,
}

impl FormerState {
    const FORMAT: &str = "vivid-shelf-state/1";

    fn read(path: &Path) -> io::Result<Option<FormerState>> {
        let text = optional::read(path)?;
        let state: Option<FormerState> = text.and_then(|text| serde_json::from_slice(&text).ok());
        Ok(state.filter(|state| state.format == FormerState::FORMAT))
    }
}

/// Rewrites the state with the new keys, and has the default's link lead to the new name. A damaged file is
/// left to whoever reads it.
fn migrate_state(layout: &Layout, runtime: &str) -> io::Result<()> {
    let path = layout.state(runtime);
    let shelf = Shelf::of(layout, runtime);
    let key_of = |former: &String| key_of_former(layout, runtime, former);
    if let Some(former) = FormerState::read(&path)? {
        let mut state = crate::state::State::default();
        match (&former.default_key, former.default) {
            (Some(key), Some(selector)) => {
                state
                    .defaults
                    .extend(key_of(key).map(|key| (key, selector)));
            }
            (None, selector) => state.without_link = selector,
            (Some(_), None) => {}
        }
        state.labels = former.labels;
        for key in former.kept.iter().filter_map(key_of) {
            state.label_kept(&key);
        }
        let renewals = former.renewals.iter();
        state.renewals = renewals
            .filter_map(|(from, to)| Some((key_of(from)?, key_of(to)?)))
            .collect();
        // The state decided in layout 3, whatever a command that was cut off left of the link.
        let default = former.default_key.as_ref().and_then(key_of);
        shelf
            .point_default(default.as_ref())
            .map_err(io::Error::other)?;
        state.write(&path).map_err(io::Error::other)?;
    } else if let Ok(link) = fs::read_link(layout.default_of(runtime))
        && let Some(name) = link.parent().and_then(Path::file_name)
        && let Some(key) = key_of(&name.to_string_lossy().into_owned())
    {
        shelf.point_default(Some(&key)).map_err(io::Error::other)?;
    }
    Ok(())
}

/// Rewrites what running shells were switched to.
fn migrate_shells(layout: &Layout) -> io::Result<()> {
    for entry in optional::entries(&layout.shells())? {
        let text = fs::read_to_string(entry.path())?;
        let Some((start, switches)) = text.split_once('\n') else {
            continue;
        };
        let switches = write_switches(&read_switches(switches, Some(layout)));
        atomic::write_quickly(&entry.path(), format!("{start}\n{switches}").as_bytes())?;
    }
    Ok(())
}

/// Writes into the history the arrivals that programs of layout 3 were cut off from writing down.
fn note_missing_arrivals(layout: &Layout) -> io::Result<()> {
    let entries = journal::history(layout)?.entries;
    let written: BTreeSet<(&str, &Key)> = (entries.iter())
        .filter(|entry| !entry.operation.removes())
        .map(|entry| (entry.command.as_str(), &entry.key))
        .collect();
    for runtime in optional::names(&layout.installs())? {
        let installs = layout.installs_of(&runtime);
        for name in optional::names(&installs)? {
            let place: PathBuf = installs.join(&name);
            let Some(record) =
                Record::read_any(&place.join(RECORD)).filter(|_| !place.is_symlink())
            else {
                continue;
            };
            let key = record.id().key;
            if !record.command.is_empty() && !written.contains(&(record.command.as_str(), &key)) {
                append_history(layout, &HistoryEntry::of_arrival(&record))?;
            }
        }
    }
    Ok(())
}
