//! `vshelf history`: what was done to the shelf.

use clap::Args;
use jiff::tz::TimeZone;
use serde::Serialize;
use vshelf_shelf::journal::{Deed, Event};
use vshelf_view::words::printable;
use vshelf_view::{Cell, Column, Palette, Table};

use crate::commands::{CommandArgs, print_json};
use crate::context::Context;
use crate::failure::Outcome;
use crate::keeping::record;
use crate::marks::spine;
use crate::runtime::Runtime;
use crate::ui::Ui;

/// List what was done to the shelf
///
/// Every install, adoption, removal, clean-up and renewal, newest first, with why it was done and the
/// packages that went. `vshelf restore` gets back what was taken off.
#[derive(Debug, Args)]
pub struct History {
    /// Only this runtime
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

/// Something that was done, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// When, as an ISO 8601 time.
    at: String,
    /// What all that one command did has in common.
    command: String,
    /// `installed`, `adopted`, `removed`, `tidied` or `renewed`.
    #[cfg_attr(test, schemars(with = "String"))]
    deed: Deed,
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

impl CommandArgs for History {
    const NAME: &'static str = "history";
    const GROUP: &'static str = "See";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let mut events = record::history(context)?;
        if let Some(name) = &self.runtime {
            let name = context.definition(name.trim_end_matches('@'))?.name;
            events.retain(|event| event.receipt.runtime == name);
        }
        events.reverse();
        let mut names: Vec<&str> = (events.iter())
            .map(|event| event.receipt.runtime.as_str())
            .collect();
        names.sort_unstable();
        names.dedup();
        // Of a runtime whose definition is gone there is still a history.
        let known = names
            .into_iter()
            .filter_map(|name| context.runtime(Some(name)).ok());
        let runtimes: Vec<Runtime<'_>> = known.collect();
        if self.json {
            let reports: Vec<Report> = events
                .iter()
                .map(|event| report(event, runtime_of(&runtimes, event)))
                .collect();
            return print_json(ui, &reports);
        }
        show(ui, &events, &runtimes)
    }
}

fn runtime_of<'r, 'c>(runtimes: &'r [Runtime<'c>], event: &Event) -> Option<&'r Runtime<'c>> {
    runtimes
        .iter()
        .find(|runtime| runtime.name() == event.receipt.runtime)
}

fn report(event: &Event, runtime: Option<&Runtime<'_>>) -> Report {
    let receipt = &event.receipt;
    Report {
        at: event.at.to_string(),
        command: event.command.clone(),
        deed: event.deed,
        runtime: receipt.runtime.clone(),
        version: receipt.version.to_string(),
        publisher: receipt.publisher.clone(),
        key: event.key.clone(),
        reasons: event.reasons.clone(),
        packages: event.packages.clone(),
        on_shelf: runtime.is_some_and(|runtime| runtime.install(&event.key).is_some()),
    }
}

fn show(ui: &Ui, events: &[Event], runtimes: &[Runtime<'_>]) -> Outcome {
    if events.is_empty() {
        ui.result("Nothing was done to the shelf yet.")?;
        ui.next("To see what can be installed", "vshelf catalog");
        return Ok(());
    }
    let columns = [
        Column::left("when"),
        Column::left("version"),
        Column::left("what"),
        Column::yielding("why, and what went with it"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for event in events {
        let receipt = &event.receipt;
        let runtime = runtime_of(runtimes, event);
        let line = runtime.and_then(|runtime| runtime.outline().line_of(&receipt.version));
        let phase = runtime.and_then(|runtime| Some(line?.phase_on(runtime.today)));
        let called = match runtime {
            Some(runtime) => runtime.called(&receipt.shelved(&event.key)),
            None => format!("{} {}", receipt.runtime, event.key),
        };
        let mut about = event.reasons.clone();
        if !event.packages.is_empty() {
            about.push(format!("with {}", event.packages.join(", ")));
        }
        let when = event.at.to_zoned(TimeZone::UTC).strftime("%Y-%m-%d %H:%M");
        let gone = event.deed.takes_off();
        table.row(
            spine(phase),
            [
                when.to_string().into(),
                Cell::new(called, Palette::STRONG),
                match gone {
                    true => Cell::new(in_words(event.deed), Palette::WARNING),
                    false => in_words(event.deed).into(),
                },
                printable(&about.join("; ")).into(),
            ],
        );
    }
    ui.page(&table)?;
    if events.iter().any(|event| event.deed.takes_off()) {
        ui.next(
            "To get back what the last command took off",
            "vshelf restore",
        );
    }
    Ok(())
}

fn in_words(deed: Deed) -> &'static str {
    match deed {
        Deed::Installed => "installed",
        Deed::Adopted => "adopted",
        Deed::Removed => "removed",
        Deed::Tidied => "tidied away",
        Deed::Renewed => "renewed",
    }
}
