//! What builds from source needed here before.

use std::time::Duration;

use crate::error::Error;
use crate::events::LastBuild;
use crate::keep::history;
use crate::runtime::Runtime;

/// What the last build from source of this runtime needed here, as the history tells.
pub fn last_build(runtime: &Runtime<'_>) -> Result<Option<LastBuild>, Error> {
    let entries = history::read(runtime.environment())?.entries;
    let of_this = entries
        .iter()
        .rev()
        .filter(|entry| entry.record.runtime == runtime.name());
    let mut built = of_this.filter_map(|entry| entry.record.built.as_ref());
    Ok(built.next().map(|built| LastBuild {
        took: Duration::from_millis(built.took_ms),
        space: built.space,
    }))
}
