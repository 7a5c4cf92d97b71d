//! The process table of Linux, which shows it as files (proc(5)).

use std::ffi::OsStr;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::process::parent_id;
use std::path::{Path, PathBuf};
use std::thread;

use rustix::process::{Pid, Signal, kill_process};
use vshelf_files::system;

use super::process::{BETWEEN, Process, ROUNDS};
use crate::layout::Layout;
use crate::switches::{Switches, read_switches};

/// The name of the program that started this one, where the process table tells it.
pub fn calling_program() -> Option<String> {
    let name = shown(parent_id(), "comm").ok()?;
    Some(String::from_utf8_lossy(&name).trim_end().to_owned())
}

/// Where Linux shows its processes.
const TABLE: &str = "/proc";

/// How much is read at a time of what is shown of a process: most environments as a whole. The system says no
/// size, and every reading costs it as much as reading a page.
const PIECE: usize = 16 << 10;

/// When a process began, in the system's own count; nothing where it is gone.
pub fn start_of(id: u32) -> Option<String> {
    stat_field(id, STARTED)
}

/// The places of fields in the process table's line of a process (proc_pid_stat(5)): its group, and
/// when it began.
const GROUP: usize = 5;
const STARTED: usize = 22;

/// A field of a process's line in the process table, counted from 1; not of the first two.
fn stat_field(id: u32, place: usize) -> Option<String> {
    let line = shown(id, "stat").ok()?;
    // The second field is the program's name, which may hold anything.
    let text = String::from_utf8_lossy(&line);
    let (_, behind) = text.rsplit_once(')')?;
    behind.split_whitespace().nth(place - 3).map(str::to_owned)
}

/// Ends every process of this user with this entry in its environment (proc_pid_environ(5)), and what they start
/// meanwhile. Without a process table nothing is ended.
pub fn end_all_with(entry: &str) {
    let has_entry = |id: &u32| {
        let environment = shown(*id, "environ").unwrap_or_default();
        let mut entries = environment.split(|byte| *byte == 0);
        entries.any(|one| one == entry.as_bytes())
    };
    for _ in 0..ROUNDS {
        let all = ids().unwrap_or_default().into_iter();
        let of_it = all.filter(has_entry);
        let ids: Vec<i32> = of_it.filter_map(|id| i32::try_from(id).ok()).collect();
        if ids.is_empty() {
            return;
        }
        for id in ids.into_iter().filter_map(Pid::from_raw) {
            // It may have ended by itself.
            kill_process(id, Signal::KILL).unwrap_or_default();
        }
        thread::sleep(BETWEEN);
    }
}

/// The ids of all processes. A table without this process is none.
fn ids() -> io::Result<Vec<u32>> {
    let names = system::names(Path::new(TABLE)).map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => io::Error::other(format!("there is no {TABLE} to show them")),
        _ => error,
    })?;
    let ids = names.iter().filter_map(|name| name.to_str()?.parse().ok());
    let ids: Vec<u32> = ids.collect();
    match ids.contains(&std::process::id()) {
        true => Ok(ids),
        false => Err(io::Error::other(format!("{TABLE} shows no processes"))),
    }
}

/// What the table shows of a process under this name.
fn shown(id: u32, name: &str) -> io::Result<Vec<u8>> {
    system::read_by(PIECE, Path::new(&format!("{TABLE}/{id}/{name}")))
}

/// The processes of this user with the programs that they run, as the system showed them. Others' processes, and
/// what the system itself runs, do not show any.
#[derive(Debug)]
pub struct ProcessTable {
    programs: Vec<(u32, PathBuf)>,
}

impl ProcessTable {
    /// Looks at all processes.
    pub fn read() -> io::Result<ProcessTable> {
        let ids = ids()?.into_iter();
        let programs =
            ids.filter_map(|id| Some((id, fs::read_link(format!("{TABLE}/{id}/exe")).ok()?)));
        let mut programs: Vec<_> = programs.collect();
        programs.sort_by_key(|(id, _)| *id);
        Ok(ProcessTable { programs })
    }

    /// The processes whose programs are below `folder`, this one left out.
    pub fn below(&self, folder: &Path) -> Vec<Process> {
        let real = fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
        let others = self.programs.iter();
        let others = others.filter(|(id, _)| *id != std::process::id());
        let below = others.filter_map(|(id, program)| {
            let line = shown(*id, "cmdline").unwrap_or_default();
            let words = line.split(|byte| *byte == 0).map(OsStr::from_bytes);
            Process::below(*id, program.clone(), words, folder, &real)
        });
        below.collect()
    }

    /// The processes that were started in a shell switched to something on this shelf, as the environment that
    /// each began with tells by this variable and by PATH: other shelves have the same keys. This process is left
    /// out, with what it is in a pipeline with.
    pub fn started_switched(&self, layout: &Layout, variable: &str) -> Vec<(Process, Switches)> {
        let mark = format!("{variable}=");
        let group = |id| stat_field(id, GROUP);
        let started = self.programs.iter().filter_map(|(id, _)| {
            let environment = shown(*id, "environ").ok()?;
            let value = |mark: &str| {
                let mut values = environment.split(|byte| *byte == 0);
                values.find_map(|value| value.strip_prefix(mark.as_bytes()))
            };
            let switches = read_switches(&String::from_utf8_lossy(value(&mark)?), Some(layout));
            let path = OsStr::from_bytes(value("PATH=")?);
            if !std::env::split_paths(path).any(|entry| entry.starts_with(layout.data())) {
                return None;
            }
            let program = shown(*id, "comm").ok()?;
            let process = Process {
                id: *id,
                program: String::from_utf8_lossy(&program).trim_end().to_owned(),
                paths: Vec::new(),
            };
            (group(*id) != group(std::process::id())).then_some((process, switches))
        });
        started.collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;
    use std::process::Command;
    use std::time::Duration;

    #[test]
    fn programs_and_scripts_are_seen_through_links() {
        let home = tempfile::tempdir().unwrap();
        let shelf = home.path().join("shelf");
        let bin = shelf.join("shelf/8.3.1/bin");
        fs::create_dir_all(&bin).unwrap();
        // A copy that this process wrote could not be started while another test forks.
        let copied = Command::new("cp").arg("/bin/sleep").arg(&bin).status();
        assert!(copied.unwrap().success());
        // It waits without starting anything.
        fs::write(bin.join("marram"), "read line\n").unwrap();
        symlink("shelf/8.3.1", shelf.join("default")).unwrap();
        let mut copied = Command::new(bin.join("sleep")).arg("60").spawn().unwrap();
        let mut script = Command::new("sh")
            .arg(shelf.join("default/bin/marram"))
            .stdin(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        let elsewhere = Command::new("sleep").arg("60").spawn();
        // A process that was only just started still shows the program that started it.
        let deadline = std::time::Instant::now() + Duration::from_secs(10);
        let mut seen = ProcessTable::read().unwrap().below(&shelf);
        while seen.len() < 2 && std::time::Instant::now() < deadline {
            seen = ProcessTable::read().unwrap().below(&shelf);
        }
        let mut found: Vec<(u32, &str)> = (seen.iter())
            .map(|process| (process.id, process.program.as_str()))
            .collect();
        found.sort_by_key(|(_, program)| program.to_owned());
        let real = fs::canonicalize(&shelf).unwrap();
        assert!(seen[0].runs_from(&real.join("shelf/8.3.1")));
        assert!(!seen[0].runs_from(&real.join("shelf/8.3")));
        assert_eq!(found, [(script.id(), "marram"), (copied.id(), "sleep")]);
        for process in [&mut copied, &mut script, &mut elsewhere.unwrap()] {
            process.kill().unwrap();
            process.wait().unwrap();
        }
    }
}
