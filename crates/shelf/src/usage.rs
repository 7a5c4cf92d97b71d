//! When installs were used last, and by whom they are used now.
//!
//! A use is a file's time: no lock, no reading, and nothing lost where two are noted at once. Who
//! uses an install now is read from the process table, which Linux shows as files (proc(5)); other
//! systems show none, and there only the shells that were switched are known.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;

use crate::atomic;
use crate::folders::Folders;
use crate::shelf::Shelf;

/// How many words of a command line are looked at: an interpreter, its options, a program.
const WORDS: usize = 4;

impl Shelf {
    pub(crate) fn used_path(&self, key: &str) -> PathBuf {
        self.folder().join("used").join(key)
    }

    /// Notes that the install with this key is used `now`.
    pub fn note_use(&self, key: &str, now: Timestamp) -> io::Result<()> {
        let path = self.used_path(key);
        let file = match File::options().write(true).open(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                fs::create_dir_all(self.folder().join("used"))?;
                File::create(&path)?
            }
            file => file?,
        };
        file.set_modified(now.into())
    }

    /// When the install with this key was used last, as far as that was noted.
    pub fn last_use(&self, key: &str) -> Option<Timestamp> {
        let modified = fs::metadata(self.used_path(key)).ok()?.modified().ok()?;
        modified.try_into().ok()
    }
}

/// A shell that was switched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SwitchedShell {
    /// Its process id.
    pub id: u32,
    /// The keys that it was switched to, by runtime.
    pub keys: BTreeMap<String, String>,
}

fn shells_folder(folders: &Folders) -> PathBuf {
    folders.data.join("shells")
}

/// What a text such as `marram=8.3.1 node=20.1.0` says, by runtime: how a switch stands in the
/// environment. Words of another form are left out.
pub fn read_switches(text: &str) -> BTreeMap<String, String> {
    text.split_whitespace()
        .filter_map(|word| word.split_once('='))
        .map(|(runtime, key)| (runtime.to_owned(), key.to_owned()))
        .collect()
}

/// Notes what the shell with this process id is switched to, which may be nothing any more.
pub fn note_shell(folders: &Folders, id: u32, keys: &BTreeMap<String, String>) -> io::Result<()> {
    let path = shells_folder(folders).join(id.to_string());
    let mut text = begun(id).unwrap_or_default();
    for (runtime, key) in keys {
        text.push_str(&format!("\n{runtime}={key}"));
    }
    atomic::write_quickly(&path, text.as_bytes())
}

/// The shells that were switched and still run. What is noted of others is deleted.
pub fn switched_shells(folders: &Folders) -> io::Result<Vec<SwitchedShell>> {
    let entries = match fs::read_dir(shells_folder(folders)) {
        Ok(entries) => entries,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let mut shells = Vec::new();
    for entry in entries {
        let path = entry?.path();
        let name = path.file_name().and_then(|name| name.to_str());
        let Some(id) = name.and_then(|name| name.parse().ok()) else {
            continue;
        };
        let text = fs::read_to_string(&path)?;
        let mut lines = text.lines();
        // Another process may have got the same number since.
        if begun(id).as_deref() != lines.next() {
            fs::remove_file(&path)?;
            continue;
        }
        let keys = lines.filter_map(|line| line.split_once('='));
        let keys = keys.map(|(runtime, key)| (runtime.to_owned(), key.to_owned()));
        shells.push(SwitchedShell {
            id,
            keys: keys.collect(),
        });
    }
    shells.sort_by_key(|shell| shell.id);
    Ok(shells)
}

/// When a process began, in the system's own count; nothing where it is gone.
#[cfg(target_os = "linux")]
fn begun(id: u32) -> Option<String> {
    stat_field(id, BEGUN)
}

/// The places of fields in the process table's line of a process (proc_pid_stat(5)): its group, and
/// when it began.
#[cfg(target_os = "linux")]
const GROUP: usize = 5;
#[cfg(target_os = "linux")]
const BEGUN: usize = 22;

/// A field of a process's line in the process table, counted from 1; not of the first two.
#[cfg(target_os = "linux")]
fn stat_field(id: u32, place: usize) -> Option<String> {
    let text = fs::read_to_string(format!("/proc/{id}/stat")).ok()?;
    // The second field is the program's name, which may hold anything.
    let (_, behind) = text.rsplit_once(')')?;
    behind.split_whitespace().nth(place - 3).map(str::to_owned)
}

/// Without a process table only whether the process is there is known.
#[cfg(not(target_os = "linux"))]
fn begun(id: u32) -> Option<String> {
    let id = rustix::process::Pid::from_raw(i32::try_from(id).ok()?)?;
    rustix::process::test_kill_process(id).ok()?;
    Some("running".to_owned())
}

/// A process that is running.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Process {
    /// Its process id.
    pub id: u32,
    /// Its program's name.
    pub program: String,
    /// The program, and what of its command line is a path to something that is there.
    paths: Vec<PathBuf>,
}

impl Process {
    /// Whether it runs a program from this folder, which is a real path.
    pub fn runs_from(&self, folder: &Path) -> bool {
        self.paths.iter().any(|path| path.starts_with(folder))
    }
}

/// Every process, with the folder that shows it; none where there is no such table.
#[cfg(target_os = "linux")]
fn process_table() -> impl Iterator<Item = (u32, PathBuf)> {
    let entries = fs::read_dir("/proc").into_iter().flatten();
    entries.filter_map(|entry| {
        let shown = entry.ok()?.path();
        let id = shown.file_name()?.to_str()?.parse().ok()?;
        Some((id, shown))
    })
}

/// The processes of this user whose programs are below `folder`, this one left out.
#[cfg(target_os = "linux")]
pub fn processes_below(folder: &Path) -> Vec<Process> {
    let real = fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
    let others = process_table().filter(|(id, _)| *id != std::process::id());
    let mut processes: Vec<Process> = others
        .filter_map(|(id, shown)| read_process(id, &shown, folder, &real))
        .collect();
    processes.sort_by_key(|process| process.id);
    processes
}

/// The processes of this user that were started in a shell switched to something on this shelf, as
/// the environment that each began with tells by this variable and by PATH: other shelves have the
/// same keys. This process is left out, with what it is in a pipeline with.
#[cfg(target_os = "linux")]
pub fn started_switched(
    folders: &Folders,
    variable: &str,
) -> Vec<(Process, BTreeMap<String, String>)> {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;
    let mark = format!("{variable}=");
    let own_group = stat_field(std::process::id(), GROUP);
    let started = process_table().filter_map(|(id, shown)| {
        let environment = fs::read(shown.join("environ")).ok()?;
        let value = |mark: &str| {
            let mut values = environment.split(|byte| *byte == 0);
            values.find_map(|value| value.strip_prefix(mark.as_bytes()))
        };
        let switches = read_switches(&String::from_utf8_lossy(value(&mark)?));
        let path = OsStr::from_bytes(value("PATH=")?);
        if !std::env::split_paths(path).any(|entry| entry.starts_with(&folders.data)) {
            return None;
        }
        let program = fs::read_to_string(shown.join("comm")).ok()?;
        let process = Process {
            id,
            program: program.trim_end().to_owned(),
            paths: Vec::new(),
        };
        (stat_field(id, GROUP) != own_group).then_some((process, switches))
    });
    started.collect()
}

/// No process is seen where the system does not show them as files.
#[cfg(not(target_os = "linux"))]
pub fn started_switched(_: &Folders, _: &str) -> Vec<(Process, BTreeMap<String, String>)> {
    Vec::new()
}

/// No process is seen where the system does not show them as files.
#[cfg(not(target_os = "linux"))]
pub fn processes_below(_: &Path) -> Vec<Process> {
    Vec::new()
}

/// One process, where it runs something below `folder`, or `real`, which is the same. Others'
/// processes do not show what they run.
#[cfg(target_os = "linux")]
fn read_process(id: u32, shown: &Path, folder: &Path, real: &Path) -> Option<Process> {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;
    let mut paths = vec![fs::read_link(shown.join("exe")).ok()?];
    let line = fs::read(shown.join("cmdline")).unwrap_or_default();
    for word in line.split(|byte| *byte == 0).take(WORDS) {
        let path = Path::new(OsStr::from_bytes(word));
        // Through the default's link too.
        if path.starts_with(folder) || path.starts_with(real) {
            paths.extend(fs::canonicalize(path).ok());
        }
    }
    paths.retain(|path| path.starts_with(real));
    let name = paths.first()?.file_name()?.to_string_lossy().into_owned();
    Some(Process {
        id,
        program: name,
        paths,
    })
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;
    use crate::shelf::{Running, ShelfError, TakenOff};
    use std::os::unix::fs::symlink;
    use std::process::Command;

    #[test]
    fn the_last_use_is_kept() {
        let home = tempfile::tempdir().unwrap();
        let shelf = Shelf::new(&Folders::below(home.path()), "marram");
        assert_eq!(shelf.last_use("8.3.1"), None);
        for time in ["2026-11-23T10:00:00Z", "2026-11-24T10:00:00Z"] {
            let time: Timestamp = time.parse().unwrap();
            shelf.note_use("8.3.1", time).unwrap();
            assert_eq!(shelf.last_use("8.3.1"), Some(time));
        }
    }

    #[test]
    fn only_shells_that_still_run_are_told() {
        let home = tempfile::tempdir().unwrap();
        let folders = Folders::below(home.path());
        let keys = BTreeMap::from([("marram".to_owned(), "6.20.2".to_owned())]);
        let mut shell = Command::new("sleep").arg("60").spawn().unwrap();
        note_shell(&folders, shell.id(), &keys).unwrap();
        // A number that another process has now.
        let reused = std::process::id();
        note_shell(&folders, reused, &keys).unwrap();
        let file = folders.data.join(format!("shells/{reused}"));
        fs::write(&file, "12\nmarram=6.20.2").unwrap();
        let told = SwitchedShell {
            id: shell.id(),
            keys: keys.clone(),
        };
        assert_eq!(switched_shells(&folders).unwrap(), [told]);
        assert!(!file.exists());
        shell.kill().unwrap();
        shell.wait().unwrap();
        assert_eq!(switched_shells(&folders).unwrap(), []);
    }

    #[test]
    fn what_a_process_starts_from_at_the_last_moment_is_put_back() {
        let home = tempfile::tempdir().unwrap();
        let shelf = Shelf::new(&Folders::below(home.path()), "marram");
        let bin = shelf.install_folder("8.3.1").join("bin");
        fs::create_dir_all(&bin).unwrap();
        let copied = Command::new("cp").arg("/bin/sleep").arg(&bin).status();
        assert!(copied.unwrap().success());
        let mut started = None;
        let taken = shelf.take_off("8.3.1", Running::Spared, || {
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
            TakenOff::Spared(process) => process.id,
            TakenOff::Freed(freed) => panic!("{freed} bytes are gone"),
        };
        assert_eq!(process, child.id());
        assert!(bin.join("sleep").exists());
        child.kill().unwrap();
        child.wait().unwrap();
        let taken = shelf.take_off("8.3.1", Running::Spared, || Ok::<(), ShelfError>(()));
        assert!(matches!(taken, Ok(TakenOff::Freed(1..))));
        assert!(!shelf.install_folder("8.3.1").exists());
    }

    #[test]
    fn programs_and_scripts_are_seen_through_links() {
        let home = tempfile::tempdir().unwrap();
        let shelf = home.path().join("shelf");
        let bin = shelf.join("installs/8.3.1/bin");
        fs::create_dir_all(&bin).unwrap();
        // A copy that this process wrote could not be started while another test forks.
        let copied = Command::new("cp").arg("/bin/sleep").arg(&bin).status();
        assert!(copied.unwrap().success());
        // It waits without starting anything.
        fs::write(bin.join("marram"), "read line\n").unwrap();
        symlink("installs/8.3.1", shelf.join("default")).unwrap();
        let mut copied = Command::new(bin.join("sleep")).arg("60").spawn().unwrap();
        let mut script = Command::new("sh")
            .arg(shelf.join("default/bin/marram"))
            .stdin(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        let elsewhere = Command::new("sleep").arg("60").spawn();
        // A process that was only just started still shows the program that started it.
        let deadline = std::time::Instant::now() + std::time::Duration::from_secs(10);
        let mut seen = processes_below(&shelf);
        while seen.len() < 2 && std::time::Instant::now() < deadline {
            seen = processes_below(&shelf);
        }
        let mut found: Vec<(u32, &str)> = (seen.iter())
            .map(|process| (process.id, process.program.as_str()))
            .collect();
        found.sort_by_key(|(_, program)| program.to_owned());
        let real = fs::canonicalize(&shelf).unwrap();
        assert!(seen[0].runs_from(&real.join("installs/8.3.1")));
        assert!(!seen[0].runs_from(&real.join("installs/8.3")));
        assert_eq!(found, [(script.id(), "marram"), (copied.id(), "sleep")]);
        for process in [&mut copied, &mut script, &mut elsewhere.unwrap()] {
            process.kill().unwrap();
            process.wait().unwrap();
        }
    }
}
