//! `vshelf list`: what is on the shelf.

use clap::Args;
use jiff::civil::Date;
use serde::Serialize;
use vshelf_core::Phase;
use vshelf_core::outlook::Newer;
use vshelf_view::words::{Count, ago, megabytes};
use vshelf_view::{Cell, Column, Palette, Table};

use crate::activity::Activity;
#[cfg(test)]
use crate::commands::schemas::NewerSchema;
use crate::commands::{CommandArgs, say_concerns};
use crate::context::Context;
use crate::failure::Outcome;
use crate::marks::{end_of_support, marks, phase_cell, spine};
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
    /// Compute phases for this day: what will have ended by then?
    #[arg(long, value_name = "DATE")]
    as_of: Option<Date>,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
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
        let looked: Vec<(Activity, Report)> = runtimes
            .iter()
            .map(|runtime| {
                let activity = Activity::of(runtime);
                let report = report(runtime, &activity);
                (activity, report)
            })
            .collect();
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
        Column::left("installed"),
        Column::left("newer"),
        Column::yielding("marks"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for (install, report) in runtime.installs.iter().zip(&report.installs) {
        let line = runtime.outline().line_of(&install.shelved.version);
        let installed = install
            .receipt
            .contents
            .installed
            .to_zoned(jiff::tz::TimeZone::UTC)
            .date();
        table.row(
            spine(report.phase),
            [
                Cell::new(runtime.spelled(&install.shelved), Palette::STRONG),
                phase_cell(report.phase),
                end_of_support(line, runtime.today).into(),
                megabytes(report.size).into(),
                ago(installed, runtime.today).into(),
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
