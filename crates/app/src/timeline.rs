//! The lines that are worth showing over time, and the years around them.

use jiff::ToSpan;
use jiff::civil::Date;
use vshelf_core::timeline::spans;
use vshelf_core::{Line, Phase};

use crate::error::Error;
use crate::runtime::Runtime;

/// How many years of the past are shown where nothing else is said.
const PAST: i16 = 2;

/// How many years to come are shown where nothing else is said.
const TO_COME: i16 = 4;

/// The lines that are meant: if no name is given, those on the shelf and those that have not ended
/// long ago.
pub fn choose_lines<'r>(
    runtime: &'r Runtime<'_>,
    names: &[String],
) -> Result<Vec<&'r Line>, Error> {
    let lines = &runtime.published.catalog().lines;
    let is_known = |name: &&String| lines.iter().any(|line| line.name == **name);
    if let Some(name) = names.iter().find(|name| !is_known(name)) {
        return Err(Error::UnknownLine {
            title: runtime.definition.title.clone(),
            line: name.clone(),
            known: lines.iter().map(|line| line.name.clone()).collect(),
        });
    }
    let recently = runtime.today().saturating_sub(1.year());
    let is_meant = |line: &&Line| {
        if !names.is_empty() {
            return names.contains(&line.name);
        }
        let phase = line.phase_on(runtime.today());
        let on_shelf = runtime.names().installs_of(line).next().is_some();
        let stands = match line.end {
            Some(end) => end >= recently,
            None => phase != Phase::Ended,
        };
        on_shelf || stands
    };
    Ok(lines.iter().filter(is_meant).collect())
}

/// The years in which there is something to see of these lines, within some years of today: the first
/// day, and the first day after them.
pub fn years_around(runtime: &Runtime<'_>, lines: &[&Line]) -> (Date, Date) {
    let today = runtime.today().year();
    let lives = lines
        .iter()
        .flat_map(|line| spans(runtime.published.catalog(), line));
    let (mut first, mut last) = (today, today);
    for life in lives {
        first = first.min(life.from.year());
        last = last.max(life.until.map_or(today + TO_COME, |until| until.year()));
    }
    let (first, last) = (first.max(today - PAST), last.min(today + TO_COME));
    // The calendar ends before the years around a day near its end do.
    (
        Date::new(first, 1, 1).unwrap_or(Date::MIN),
        Date::new(last + 1, 1, 1).unwrap_or(Date::MAX),
    )
}
