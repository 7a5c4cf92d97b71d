//! `vshelf list`: what is on the shelf.

use std::cmp::Reverse;
use std::path::Path;

use clap::Args;
use jiff::civil::Date;
use serde::Serialize;
use vshelf_core::Phase;
use vshelf_core::outlook::Newer;
use vshelf_shelf::staging::bytes_in;
use vshelf_view::words::{Count, ago, megabytes};
use vshelf_view::{Cell, Column, Palette, Table};

use crate::activity::Activity;
#[cfg(test)]
use crate::commands::schemas::NewerSchema;
use crate::commands::{CommandArgs, say_concerns};
use crate::context::Context;
use crate::failure::{Outcome, file_failure};
use crate::marks::{end_cell, marks, phase_cell, spine};
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// List what is on the shelf
///
/// Newest first, with the phase and end of support of each line, and marks in words: this shell,
/// default, labels.
#[derive(Debug, Args)]
pub struct List {
    /// Only this runtime
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Only what is outdated or lacks a security release, with why: what vshelf tidy would show
    #[arg(long, conflicts_with_all = ["sort", "size"])]
    outdated: bool,
    /// The order of the rows
    #[arg(long, value_name = "BY", value_enum, default_value = "version")]
    sort: Order,
    /// Measure the sizes on the disk, with the packages that came later
    #[arg(long)]
    size: bool,
    /// Compute phases for this day: what will have ended by then?
    #[arg(long, value_name = "DATE")]
    as_of: Option<Date>,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

/// The order of rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
enum Order {
    /// Newest version first
    Version,
    /// Used last first
    Used,
    /// Largest first
    Size,
}

/// One runtime's installs, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// Its installs, newest first.
    installs: Vec<InstallReport>,
}

/// One install, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct InstallReport {
    /// The version as published.
    version: String,
    /// The publisher's id.
    publisher: String,
    /// The key on the shelf.
    key: String,
    /// The install's folder.
    path: String,
    /// The release line.
    line: Option<String>,
    /// The line's phase: `preview`, `current`, `lts`, `maintenance` or `ended`.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    phase: Option<Phase>,
    /// The last day of support, as an ISO 8601 date.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    end: Option<Date>,
    /// The bytes of all files.
    size: u64,
    /// When it was installed, as an ISO 8601 time.
    installed: String,
    /// The day of its last use, or of its installation, as an ISO 8601 date.
    #[cfg_attr(test, schemars(with = "String"))]
    used: Date,
    /// Whether it is active in the calling shell.
    active: bool,
    /// Whether it is the default.
    default: bool,
    /// Marks in words.
    marks: Vec<String>,
    /// What came out since, in its line.
    #[cfg_attr(test, schemars(with = "Option<NewerSchema>"))]
    newer: Option<Newer>,
}

impl CommandArgs for List {
    const NAME: &'static str = "list";
    const GROUP: &'static str = "See";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let mut runtimes = context.shown_runtimes(self.runtime.as_deref())?;
        for runtime in &mut runtimes {
            runtime.today = self.as_of.unwrap_or(runtime.today);
        }
        if self.outdated {
            return super::tidy::list_outdated(ui, context, &runtimes, self.json);
        }
        let mut looked: Vec<(Activity, Report)> = Vec::new();
        for runtime in &runtimes {
            let activity = Activity::of(runtime);
            let mut report = report(runtime, &activity);
            if self.size {
                report.measure()?;
            }
            report.sort(self.sort);
            looked.push((activity, report));
        }
        if self.json {
            let reports: Vec<&Report> = looked.iter().map(|(_, report)| report).collect();
            return super::print_json(ui, &reports);
        }
        for (index, (runtime, (activity, report))) in runtimes.iter().zip(&looked).enumerate() {
            if index > 0 {
                ui.result("")?;
            }
            show(ui, runtime, activity, report)?;
        }
        Ok(())
    }
}

impl Report {
    /// Takes the sizes from the disk.
    fn measure(&mut self) -> Outcome {
        for install in &mut self.installs {
            let folder = Path::new(&install.path);
            // Of a link to an adopted folder only the link is on the shelf.
            install.size = bytes_in(folder).map_err(|e| file_failure(folder, "read", e))?;
        }
        Ok(())
    }

    fn sort(&mut self, by: Order) {
        match by {
            // They are so already.
            Order::Version => {}
            Order::Used => self.installs.sort_by_key(|install| Reverse(install.used)),
            Order::Size => self.installs.sort_by_key(|install| Reverse(install.size)),
        }
    }
}

fn report(runtime: &Runtime<'_>, activity: &Activity) -> Report {
    let default = runtime.default_key();
    let installs = runtime
        .installs
        .iter()
        .map(|install| {
            let shelved = &install.shelved;
            let line = runtime.outline().line_of(&shelved.version);
            InstallReport {
                version: shelved.version.to_string(),
                publisher: shelved.publisher.clone(),
                key: shelved.key.clone(),
                path: install.folder.to_string_lossy().into_owned(),
                line: line.map(|line| line.name.clone()),
                phase: line.map(|line| line.phase_on(runtime.today)),
                end: line.and_then(|line| line.end),
                size: install.receipt.contents.unpacked_size,
                used: runtime.used_on(install),
                installed: install.receipt.contents.installed.to_string(),
                active: activity.active_key() == Some(&shelved.key),
                default: default.as_deref() == Some(&shelved.key),
                marks: marks(runtime, activity, &shelved.key),
                newer: runtime.newer_than(shelved),
            }
        })
        .collect();
    Report {
        runtime: runtime.name().to_owned(),
        installs,
    }
}

fn show(ui: &Ui, runtime: &Runtime<'_>, activity: &Activity, report: &Report) -> Outcome {
    let title = &runtime.definition.title;
    if runtime.installs.is_empty() {
        ui.result(format!("No {title} is on the shelf."))?;
        let prefix = runtime.context().prefix(runtime.name())?;
        ui.next("To install one", &format!("vshelf install {prefix}stable"));
        return Ok(());
    }
    let bytes = report.installs.iter().map(|install| install.size).sum();
    let count = Count(report.installs.len(), "install");
    ui.result(format!(
        "{}: {count}, {}",
        styled(Palette::STRONG, title),
        megabytes(bytes)
    ))?;
    let columns = [
        Column::left("version"),
        Column::left("phase"),
        Column::left("support ends"),
        Column::right("size"),
        Column::left("used"),
        Column::left("newer"),
        Column::yielding("marks"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for report in &report.installs {
        let Some(install) = runtime.install(&report.key) else {
            continue;
        };
        let line = runtime.outline().line_of(&install.shelved.version);
        table.row(
            spine(report.phase),
            [
                Cell::new(runtime.spelled(&install.shelved), Palette::STRONG),
                phase_cell(report.phase),
                end_cell(line, runtime.today),
                megabytes(report.size).into(),
                ago(report.used, runtime.today).into(),
                newer_cell(report.newer.as_ref()),
                report.marks.join(", ").into(),
            ],
        );
    }
    ui.page(&table)?;
    say_concerns(ui, runtime, activity);
    Ok(())
}

fn newer_cell(newer: Option<&Newer>) -> Cell {
    match newer {
        Some(Newer {
            version,
            security: true,
        }) => Cell::new(format!("{version}, security"), Palette::WARNING),
        Some(Newer { version, .. }) => version.to_string().into(),
        None => Cell::default(),
    }
}
