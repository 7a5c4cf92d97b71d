//! Messages that are shown once, or at most once a day: a stamp in the cache holds the day.

use vshelf_files::{atomic, optional};

use crate::environment::Environment;
use crate::error::{Error, file_error};
use vshelf_files::action::FileAction;

/// Whether `name` was not said today, and reminders are wanted at all.
pub fn is_due(environment: &Environment, name: &str) -> Result<bool, Error> {
    if !environment.settings()?.reminds() {
        return Ok(false);
    }
    let stamp = stamp(environment, name)?;
    let today = environment.today()?.to_string();
    let said = optional::read_text(&stamp).map_err(file_error(&stamp, FileAction::Read))?;
    Ok(said.is_none_or(|said| said != today))
}

/// Whether `name` was never said, and reminders are wanted at all.
pub fn is_new(environment: &Environment, name: &str) -> Result<bool, Error> {
    Ok(environment.settings()?.reminds() && !stamp(environment, name)?.exists())
}

/// Notes that `name` was said today; where that cannot be noted, it is said again.
pub fn note(environment: &Environment, name: &str) -> Result<(), Error> {
    let today = environment.today()?.to_string();
    atomic::write_quickly(&stamp(environment, name)?, today.as_bytes()).unwrap_or_default();
    Ok(())
}

fn stamp(environment: &Environment, name: &str) -> Result<std::path::PathBuf, Error> {
    Ok(environment.folders()?.cache.join(name))
}
