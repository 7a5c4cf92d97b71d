//! Actions on files, for errors that name the one that failed.

use std::fmt;

/// An action on a file or folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileAction {
    /// Changing it in place.
    Change,
    /// Knowing that no process uses it.
    CheckUnused,
    /// Deleting it with all that it holds.
    Delete,
    /// Finding it.
    Find,
    /// Locking it.
    Lock,
    /// Making it a program that can be started.
    MakeProgram,
    /// Moving it to its place from the trash.
    MoveBack,
    /// Moving it to the trash.
    MoveToTrash,
    /// Reading it.
    Read,
    /// Removing it.
    Remove,
    /// Putting another in its place.
    Replace,
    /// Sharing its blocks with another file.
    Share,
    /// Writing it through to the disk.
    Sync,
    /// Writing it.
    Write,
}

impl fmt::Display for FileAction {
    /// The action in the form that follows "cannot be".
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            FileAction::Change => "changed",
            FileAction::CheckUnused => "known to be unused",
            FileAction::Delete => "deleted",
            FileAction::Find => "found",
            FileAction::Lock => "locked",
            FileAction::MakeProgram => "made a program",
            FileAction::MoveBack => "moved back",
            FileAction::MoveToTrash => "moved to the trash",
            FileAction::Read => "read",
            FileAction::Remove => "removed",
            FileAction::Replace => "replaced",
            FileAction::Share => "shared",
            FileAction::Sync => "synced",
            FileAction::Write => "written",
        })
    }
}
