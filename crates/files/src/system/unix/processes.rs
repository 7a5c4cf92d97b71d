//! Groups of processes, and the user that they belong to.

use std::os::unix::process::CommandExt;
use std::process::{Child, Command};

use rustix::process::{Pid, Signal, getpgid, kill_process_group};

/// Whether this is root, who may do everything.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// Has a program start in a group of its own, with all that it starts.
pub fn in_own_group(command: &mut Command) -> &mut Command {
    command.process_group(0)
}

/// Ends what was started by [`in_own_group`] with all that it started. Whatever is left of it may have
/// ended by itself.
pub fn end_group(child: &Child) {
    kill_process_group(Pid::from_child(child), Signal::KILL).unwrap_or_default();
}

/// The group of a process, by the id of the process that leads it; nothing where it is gone.
pub fn group_of(process: u32) -> Option<u32> {
    let process = Pid::from_raw(i32::try_from(process).ok()?)?;
    let group = getpgid(Some(process)).ok()?;
    u32::try_from(group.as_raw_nonzero().get()).ok()
}
