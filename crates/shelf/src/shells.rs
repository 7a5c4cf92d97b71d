//! Which shells were switched to what, as commands noted it.

use std::fs;
use std::io;

use vshelf_files::{atomic, optional};

use crate::layout::Layout;
use crate::processes::start_of;
use crate::switches::{Switches, read_switches, write_switches};

/// A shell that was switched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SwitchedShell {
    /// Its process id.
    pub id: u32,
    /// What it was switched to.
    pub switches: Switches,
}

/// Notes what the shell with this process id is switched to, which may be nothing any more.
pub fn note_shell(layout: &Layout, id: u32, switches: &Switches) -> io::Result<()> {
    let path = layout.shells().join(id.to_string());
    let start = start_of(id).unwrap_or_default();
    let text = format!("{start}\n{}", write_switches(switches));
    atomic::write_quickly(&path, text.as_bytes())
}

/// Whether what shells are switched to can be noted, so that the notes can be relied on.
pub fn check_notes(layout: &Layout) -> io::Result<()> {
    optional::check_writable(&layout.shells())
}

/// The shells that were switched and still run. What is noted of others is deleted.
pub fn switched_shells(layout: &Layout) -> io::Result<Vec<SwitchedShell>> {
    let mut shells = Vec::new();
    for entry in optional::entries(&layout.shells())? {
        let path = entry.path();
        let Some(id) = entry
            .file_name()
            .to_str()
            .and_then(|name| name.parse().ok())
        else {
            continue;
        };
        let text = fs::read_to_string(&path)?;
        let (start, switches) = text.split_once('\n').unwrap_or((&text, ""));
        // Another process may have got the same number since.
        if start_of(id).as_deref() != Some(start) {
            fs::remove_file(&path)?;
            continue;
        }
        shells.push(SwitchedShell {
            id,
            switches: read_switches(switches, Some(layout)),
        });
    }
    shells.sort_by_key(|shell| shell.id);
    Ok(shells)
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;
    use crate::folders::Folders;
    use std::process::Command;

    #[test]
    fn only_shells_that_still_run_are_told() {
        let home = tempfile::tempdir().unwrap();
        let layout = Layout::of(&Folders::below(home.path()));
        let switches = read_switches("marram=saltmarsh-6.20.2", None);
        let mut shell = Command::new("sleep").arg("60").spawn().unwrap();
        note_shell(&layout, shell.id(), &switches).unwrap();
        // A number that another process has now.
        let reused = std::process::id();
        note_shell(&layout, reused, &switches).unwrap();
        let file = layout.shells().join(reused.to_string());
        fs::write(&file, "12\nmarram=saltmarsh-6.20.2").unwrap();
        let told = SwitchedShell {
            id: shell.id(),
            switches: switches.clone(),
        };
        assert_eq!(switched_shells(&layout).unwrap(), [told]);
        assert!(!file.exists());
        shell.kill().unwrap();
        shell.wait().unwrap();
        assert_eq!(switched_shells(&layout).unwrap(), []);
    }
}
