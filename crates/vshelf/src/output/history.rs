//! What was done to the shelf.

use jiff::tz::TimeZone;
use serde::Serialize;
use vshelf_app::keep::history::History;
use vshelf_shelf::journal::{HistoryEntry, Operation, Outcome as Progress};
use vshelf_view::words::{Count, printable};
use vshelf_view::{Cell, Column, Palette, Table};

use super::json::{self, Item};
use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::holders::reason;
use crate::wording::paths::shown;
use crate::wording::versions::spine;

/// Something that was done, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// When, as an ISO 8601 time.
    at: String,
    /// What all that one command did has in common.
    command: String,
    /// `installed`, `adopted`, `removed`, `tidied` or `renewed`.
    operation: Operation,
    /// How far it came: `done`, `begun` or `given-up`.
    outcome: Progress,
    /// Why it was given up.
    problem: Option<String>,
    /// The runtime's name.
    runtime: String,
    /// The version as published.
    version: String,
    /// The publisher's id.
    publisher: String,
    /// The key on the shelf.
    key: String,
    /// Why.
    reasons: Vec<String>,
    /// The packages that went with it, as `name@version`.
    packages: Vec<String>,
    /// Whether an install with this key is on the shelf now.
    on_shelf: bool,
}

impl Item for Report {
    const LIST: &'static str = "entries";
}

/// Prints the history as JSON.
pub fn print(ui: &Ui, history: &History<'_>) -> Outcome {
    let reports = history.entries.iter().map(|entry| {
        let record = &entry.record;
        Report {
            at: entry.at.to_string(),
            command: entry.command.clone(),
            operation: entry.operation,
            outcome: entry.outcome,
            problem: entry.problem.clone(),
            runtime: record.runtime.clone(),
            version: record.version.to_string(),
            publisher: record.publisher.clone(),
            key: entry.key.selector(),
            reasons: why(entry),
            packages: entry.packages.clone(),
            on_shelf: history.is_on_shelf(entry),
        }
    });
    json::print_list(ui, &reports.collect::<Vec<_>>())
}

/// Why something was done, in words.
pub fn why(entry: &HistoryEntry) -> Vec<String> {
    let day = entry.at.to_zoned(TimeZone::UTC).date();
    let reasons = entry.reasons.iter().map(|why| reason(why, day));
    let replaced = entry.replaced_by.iter();
    let replaced = replaced.map(|version| format!("replaced by {version}"));
    let problem = entry.problem.iter().cloned();
    reasons.chain(replaced).chain(problem).collect()
}

/// Shows the history as a table, newest first.
pub fn show(ui: &Ui, history: &History<'_>) -> Outcome {
    if history.entries.is_empty() {
        ui.sentence("The history is empty: nothing was installed or removed yet.")?;
        ui.next("To see what can be installed", "vshelf catalog");
        return Ok(());
    }
    let columns = [
        Column::left("when"),
        Column::left("version"),
        Column::left("what"),
        Column::yielding("why, and its packages"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for entry in &history.entries {
        let record = &entry.record;
        let runtime = history.runtime_of(entry);
        let phase = runtime.and_then(|runtime| runtime.published.phase_of(&record.version));
        let called = match runtime {
            Some(runtime) => runtime.names().title_of(&entry.key),
            None => format!("{} {}", record.runtime, entry.key.selector()),
        };
        let mut about = why(entry);
        if !entry.packages.is_empty() {
            about.push(format!("with {}", entry.packages.join(", ")));
        }
        let when = entry.at.to_zoned(TimeZone::UTC).strftime("%Y-%m-%d %H:%M");
        table.row(
            spine(phase),
            [
                when.to_string().into(),
                Cell::new(called, Palette::STRONG),
                match entry.removed() {
                    true => Cell::new(in_words(entry), Palette::STRONG),
                    false => in_words(entry).into(),
                },
                printable(&about.join("; ")).into(),
            ],
        );
    }
    ui.page(&table)?;
    if let [first, ..] = history.not_understood[..] {
        let count = Count(history.not_understood.len(), "line");
        ui.warn(format!(
            "{} has {count} not understood here, at first line {first}: damaged, or written by a newer vshelf.",
            shown(&history.file)
        ));
    }
    if history.entries.iter().any(HistoryEntry::removed) {
        ui.next(
            "To get back what the last command removed",
            "vshelf restore",
        );
    }
    Ok(())
}

fn in_words(entry: &HistoryEntry) -> &'static str {
    match (entry.outcome, entry.operation) {
        (Progress::GivenUp, _) => "removal given up",
        (Progress::Done, Operation::Installed) => "installed",
        (Progress::Done, Operation::Adopted) => "adopted",
        (Progress::Done, Operation::Restored) => "restored",
        (Progress::Done, Operation::Removed) => "removed",
        (Progress::Done, Operation::Tidied) => "tidied",
        (Progress::Done, Operation::Renewed) => "renewed",
    }
}
