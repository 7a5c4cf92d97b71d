//! Shells, editors and projects brought together with the shelf: what start-up files source, launchers,
//! and stamps that tell shells what projects resulted in.

pub mod connect;
pub mod desktop;
pub mod entering;
pub mod files;
pub mod launchers;
pub mod leaving;
pub mod login;
pub mod renewal;
pub mod stamps;
pub mod start_up_files;
