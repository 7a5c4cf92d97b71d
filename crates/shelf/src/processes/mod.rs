//! The process table: who runs programs from the shelf, and when processes started.
//!
//! Linux shows it as files, macOS tells it by calls; of other systems nothing is known, and there only the shells
//! that were switched are.

#[cfg(target_os = "linux")]
mod linux;
#[cfg(target_os = "macos")]
mod macos;
#[cfg(not(any(target_os = "linux", target_os = "macos")))]
mod other;
mod process;

#[cfg(target_os = "linux")]
pub use self::linux::{calling_program, end_all_with, processes_below, start_of, started_switched};
#[cfg(target_os = "macos")]
pub use self::macos::{calling_program, end_all_with, processes_below, start_of, started_switched};
#[cfg(not(any(target_os = "linux", target_os = "macos")))]
pub use self::other::{calling_program, end_all_with, processes_below, start_of, started_switched};
pub use self::process::Process;
