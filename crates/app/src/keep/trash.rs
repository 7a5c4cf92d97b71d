//! How long removed installs stay in the trash, and how much of them: no longer than the settings say, no more than they
//! say, and never more than what is free on the disk, so that removing makes room where that is what is needed.

use jiff::SignedDuration;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use vshelf_core::admission::Admitted;
use vshelf_files::action::FileAction;
use vshelf_files::freed::Freed;
use vshelf_files::system;
use vshelf_shelf::Install;
use vshelf_shelf::journal::{HistoryEntry, Operation};
use vshelf_shelf::trash::{Fate, Running, Trashed, in_trash};

use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::events::{Deleting, Event, Listener, Task};
use crate::runtime::Runtime;

/// What becomes of an install that is removed now.
pub fn fate(environment: &Environment, install: &Install) -> Result<Fate, Error> {
    let settings = &environment.settings()?.trash;
    let fits = install.record.contents.unpacked_size <= room(environment)?;
    Ok(match settings.days() > 0 && fits {
        true => Fate::Trashed,
        false => Fate::Deleted,
    })
}

/// The last day on which what is removed now is in the trash.
pub fn kept_until(environment: &Environment) -> Result<Date, Error> {
    Ok(environment
        .today()?
        .saturating_add(time_in_trash(environment)?))
}

fn time_in_trash(environment: &Environment) -> Result<SignedDuration, Error> {
    let days = environment.settings()?.trash.days();
    Ok(SignedDuration::from_hours(24 * i64::from(days)))
}

/// How many bytes the trash may hold.
pub fn room(environment: &Environment) -> Result<u64, Error> {
    let layout = environment.layout()?;
    let most = environment.settings()?.trash.bytes();
    // If it is not known how much is free, the trash keeps what it has.
    let free = system::free_bytes(layout.data());
    Ok(free.map_or(most, |free| most.min(free)))
}

/// Everything in the trash, removed last first.
pub fn all(environment: &Environment) -> Result<Vec<Trashed>, Error> {
    let layout = environment.layout()?;
    in_trash(&layout).map_err(file_error(&layout.trash(), FileAction::Read))
}

/// What in the trash has been there for too long, or is too much, removed last first.
pub fn overdue(environment: &Environment) -> Result<Vec<Trashed>, Error> {
    let days = environment.settings()?.trash.days();
    let kept_since = environment
        .today()?
        .saturating_sub(time_in_trash(environment)?);
    let room = room(environment)?;
    let mut kept = 0;
    let mut trashed = all(environment)?;
    trashed.retain(|trashed| {
        let Some(since) = trashed.since() else {
            return false;
        };
        kept += trashed.unpacked_size();
        let day = since.to_zoned(TimeZone::UTC).date();
        days == 0 || day < kept_since || kept > room
    });
    Ok(trashed)
}

/// Deletes what is overdue. What cannot be deleted is in nobody's way, and told.
pub fn bound(environment: &Environment, listener: &dyn Listener) {
    let tell = |error: Error| listener.tell(Event::LeftUndone(&error));
    let delete = |trashed: Trashed| {
        let bytes = trashed.unpacked_size();
        let delete = |freed: &Freed| delete(trashed, Running::Spared, freed);
        Deleting::during(bytes, Task::RemovingLeftovers, listener, delete)
    };
    match overdue(environment) {
        Ok(overdue) => (overdue.into_iter())
            .filter_map(|trashed| delete(trashed).err())
            .for_each(tell),
        Err(error) => tell(error),
    }
}

/// Deletes something in the trash, tells `freed` as that goes on, and says how many bytes it freed.
pub fn delete(trashed: Trashed, running: Running, freed: &Freed) -> Result<u64, Error> {
    let folder = trashed.folder().to_owned();
    trashed
        .delete(running, freed)
        .map_err(file_error(&folder, FileAction::Delete))
}

/// Puts what is in the trash of a removal back on the shelf; says whether it did.
pub fn take_back(
    runtime: &Runtime<'_>,
    admitted: &Admitted,
    removal: &HistoryEntry,
) -> Result<bool, Error> {
    let Some(trashed) = runtime.shelf.trashed_by(removal)? else {
        return Ok(false);
    };
    let environment = runtime.environment();
    let entry = HistoryEntry::new(
        environment.now()?,
        environment.command_id()?,
        Operation::Restored,
        removal.record.clone(),
    );
    Ok(runtime.shelf.take_back(admitted, &trashed, &entry)?)
}
