//! Windows. It was compiled, and never run: docs/windows.md says what is missing.

pub mod deletion;
pub mod files;
pub mod processes;
