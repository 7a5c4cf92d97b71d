//! The process table of macOS (libproc) and Windows, which tell it by calls. It was compiled, and never run.

use std::ffi::OsString;
use std::fs;
use std::io;
use std::path::Path;
use std::thread;

use sysinfo::{ProcessRefreshKind, ProcessesToUpdate, System, UpdateKind};
use vshelf_files::system::group_of;

use super::process::{BETWEEN, Process, ROUNDS};
use crate::layout::Layout;
use crate::switches::{Switches, read_switches};

/// Every process of this user, with what is told of it; this one is among them, or nothing is known.
fn process_table() -> io::Result<System> {
    let mut system = System::new();
    let told = ProcessRefreshKind::nothing()
        .with_exe(UpdateKind::Always)
        .with_cmd(UpdateKind::Always)
        .with_environ(UpdateKind::Always);
    system.refresh_processes_specifics(ProcessesToUpdate::All, true, told);
    let own = sysinfo::Pid::from_u32(std::process::id());
    match system.process(own) {
        Some(_) => Ok(system),
        None => Err(io::Error::other("the system tells of no processes")),
    }
}

/// One process, where it is there.
fn process(id: u32) -> Option<System> {
    let id = sysinfo::Pid::from_u32(id);
    let mut system = System::new();
    let told = ProcessRefreshKind::nothing();
    system.refresh_processes_specifics(ProcessesToUpdate::Some(&[id]), true, told);
    system.process(id).is_some().then_some(system)
}

/// The name of the program that started this one.
pub fn calling_program() -> Option<String> {
    let own = std::process::id();
    let parent = process(own)?
        .process(sysinfo::Pid::from_u32(own))?
        .parent()?;
    let system = process(parent.as_u32())?;
    let caller = system.process(parent)?;
    Some(caller.name().to_string_lossy().into_owned())
}

/// When a process began, in seconds since 1970; nothing where it is gone.
pub fn start_of(id: u32) -> Option<String> {
    let system = process(id)?;
    let found = system.process(sysinfo::Pid::from_u32(id))?;
    Some(found.start_time().to_string())
}

/// Ends every process of this user with this entry in its environment, and what they start meanwhile.
pub fn end_all_with(entry: &str) {
    for _ in 0..ROUNDS {
        let Ok(system) = process_table() else {
            return;
        };
        let all = system.processes().values();
        let mut of_it = all
            .filter(|process| process.environ().iter().any(|one| one == entry))
            .peekable();
        if of_it.peek().is_none() {
            return;
        }
        for process in of_it {
            // It may have ended by itself.
            process.kill();
        }
        thread::sleep(BETWEEN);
    }
}

/// The processes of this user, as the system told of them.
#[derive(Debug)]
pub struct ProcessTable {
    system: System,
}

impl ProcessTable {
    /// Looks at all processes.
    pub fn read() -> io::Result<ProcessTable> {
        process_table().map(|system| ProcessTable { system })
    }

    /// The processes whose programs are below `folder`, this one left out.
    pub fn below(&self, folder: &Path) -> Vec<Process> {
        let real = fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
        let others = self.system.processes().iter();
        let others = others.filter(|(id, _)| id.as_u32() != std::process::id());
        let mut processes: Vec<Process> = others
            .filter_map(|(id, process)| {
                let program = process.exe()?.to_owned();
                let words = process.cmd().iter().map(OsString::as_os_str);
                Process::below(id.as_u32(), program, words, folder, &real)
            })
            .collect();
        processes.sort_by_key(|process| process.id);
        processes
    }

    /// The processes that were started in a shell switched to something on this shelf, as the environment that
    /// each began with tells by this variable and by PATH: other shelves have the same keys. This process is left
    /// out, with what it is in a pipeline with.
    pub fn started_switched(&self, layout: &Layout, variable: &str) -> Vec<(Process, Switches)> {
        let mark = format!("{variable}=");
        let own = std::process::id();
        let own_group = group_of(own);
        let is_with_this = |id| id == own || own_group.is_some() && group_of(id) == own_group;
        let started = self.system.processes().iter().filter_map(|(id, process)| {
            let value = |mark: &str| {
                let mut entries = process.environ().iter();
                entries.find_map(|entry| entry.to_str()?.strip_prefix(mark))
            };
            let switches = read_switches(value(&mark)?, Some(layout));
            let path = value("PATH=")?;
            if !std::env::split_paths(path).any(|entry| entry.starts_with(layout.data())) {
                return None;
            }
            let id = id.as_u32();
            let process = Process {
                id,
                program: process.name().to_string_lossy().into_owned(),
                paths: Vec::new(),
            };
            (!is_with_this(id)).then_some((process, switches))
        });
        started.collect()
    }
}
