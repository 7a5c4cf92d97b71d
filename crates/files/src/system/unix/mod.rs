//! POSIX systems.

pub mod deletion;
pub mod files;
pub mod processes;
