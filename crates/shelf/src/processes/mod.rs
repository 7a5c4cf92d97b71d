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
pub use self::by_calls::{ProcessTable, calling_program, end_all_with, start_of};
#[cfg(target_os = "linux")]
pub use self::linux::{ProcessTable, calling_program, end_all_with, start_of};
#[cfg(not(any(target_os = "linux", target_os = "macos", windows)))]
pub use self::other::{ProcessTable, calling_program, end_all_with, start_of};
pub use self::process::Process;
