//! The process table: who runs programs from the shelf, and when processes started.
//!
//! Linux shows it as files, macOS and Windows tell it by calls; of other systems nothing is known, and there only the shells
//! that were switched are.

#[cfg(any(target_os = "macos", windows))]
mod by_calls;
#[cfg(target_os = "linux")]
mod linux;
#[cfg(not(any(target_os = "linux", target_os = "macos", windows)))]
mod other;
mod process;

#[cfg(any(target_os = "macos", windows))]
pub use self::by_calls::{
    calling_program, end_all_with, processes_below, start_of, started_switched,
};
#[cfg(target_os = "linux")]
pub use self::linux::{calling_program, end_all_with, processes_below, start_of, started_switched};
#[cfg(not(any(target_os = "linux", target_os = "macos", windows)))]
pub use self::other::{calling_program, end_all_with, processes_below, start_of, started_switched};
pub use self::process::Process;
