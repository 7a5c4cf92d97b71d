//! Processes with all that they started, and the user that they belong to.

use std::process::{Child, Command, Stdio};

/// Nobody installs packages here as another user.
pub fn is_root() -> bool {
    false
}

/// Every program is the root of a tree of its own already.
pub fn in_own_group(command: &mut Command) -> &mut Command {
    command
}

/// Ends a program with all that it started, as the system's own tool does. Whatever is left of it may have
/// ended by itself.
pub fn end_group(child: &Child) {
    let ended = Command::new("taskkill")
        .args(["/T", "/F", "/PID", &child.id().to_string()])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    ended.map(drop).unwrap_or_default();
}

/// There are no groups that a process could be told by.
pub fn group_of(_process: u32) -> Option<u32> {
    None
}
