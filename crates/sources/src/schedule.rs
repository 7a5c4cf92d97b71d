//! The support life of release lines, as a release schedule: a JSON object from line to dates.

use std::collections::BTreeMap;

use jiff::civil::Date;
use serde::Deserialize;
use vshelf_core::catalog::Line;
use vshelf_core::definition::PackagedFile;

use crate::api::SourceError;
use crate::npm::NpmRegistry;
use crate::transport::Transport;

#[derive(Deserialize)]
struct ScheduledLine {
    start: Option<Date>,
    lts: Option<Date>,
    maintenance: Option<Date>,
    end: Option<Date>,
    codename: Option<String>,
}

/// The lines in the newest version of the schedule's package.
pub(crate) fn read_schedule(
    transport: &Transport,
    registry: &NpmRegistry,
    schedule: &PackagedFile,
) -> Result<Vec<Line>, SourceError> {
    let (text, address) = registry.packaged_file(transport, schedule)?;
    let entries: BTreeMap<String, ScheduledLine> = serde_json::from_str(&text)
        .map_err(|e| SourceError::document(&address, format!("{}: {e}", schedule.file)))?;
    Ok(entries
        .into_iter()
        .map(|(name, entry)| Line {
            codename: entry.codename.filter(|name| !name.is_empty()),
            start: entry.start,
            lts: entry.lts,
            maintenance: entry.maintenance,
            end: entry.end,
            ..Line::undated(name.trim_start_matches('v'))
        })
        .collect())
}
