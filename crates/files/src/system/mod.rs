//! What systems do in ways of their own: permissions, links, folders that are synced, trees that are deleted, groups of
//! processes. Every crate above asks here; there is one module for each kind of system.

mod sync;
#[cfg(unix)]
mod unix;
#[cfg(windows)]
mod windows;

#[cfg(unix)]
use self::unix as own;
#[cfg(windows)]
use self::windows as own;

pub use self::own::deletion::{is_mounted_within, mounted, remove_counting};
pub use self::own::files::{
    FileIdentity, are_same, bytes_of, check_writable, disk_bytes, exchange, free_bytes,
    identity_of, is_administrators_folder, is_deleted, is_executable, is_owned_by_another,
    is_quarantined, keep_permissions, make_executable, mount_of, names, open_foreign, owners,
    path_of, permission_bits, read_by, read_exact_at, set_permission_bits, share_blocks, stands_at,
    symlink, sync_folder, user_id, with_permission_bits,
};
pub use self::own::processes::{end_group, group_of, in_own_group, is_root};
pub use self::sync::sync_tree;
