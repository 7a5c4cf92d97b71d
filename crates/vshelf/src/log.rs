//! Events for support cases: locks, requests, sources, decisions and recovery, on standard error.

use std::io;

use tracing_subscriber::filter::LevelFilter;

use crate::failure::{Class, Failure};

/// Sets how much is logged: `error`, `warn`, `info`, `debug` or `trace`. Nothing is if it is not set.
const VARIABLE: &str = "VSHELF_LOG";

/// Begins to log as the environment says. Addresses are logged without passwords, and headers not at all.
pub fn begin() -> Result<(), Failure> {
    let Some(level) = std::env::var_os(VARIABLE).filter(|level| !level.is_empty()) else {
        return Ok(());
    };
    let level = level.to_string_lossy();
    let filter: LevelFilter = level.parse().map_err(|_| {
        Failure::new(
            Class::Usage,
            format!("{VARIABLE} is {level:?}, which is not a level"),
        )
        .say("The levels are off, error, warn, info, debug and trace.")
    })?;
    tracing_subscriber::fmt()
        .with_max_level(filter)
        .with_writer(io::stderr)
        .with_ansi(false)
        .without_time()
        .init();
    Ok(())
}
