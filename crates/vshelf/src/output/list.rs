//! What is on the shelf.

use std::cmp::Reverse;
use std::path::PathBuf;

use jiff::civil::Date;
use serde::Serialize;
use vshelf_app::events::{Event, Listener};
use vshelf_app::project::required_by_projects;
use vshelf_app::snapshot::size_on_disk;
use vshelf_app::{Activity, Error, Runtime};
use vshelf_core::outlook::Newer;
use vshelf_core::{Key, Phase, Pick};
use vshelf_view::words::{Count, ago, bar, megabytes};
use vshelf_view::{Cell, Column, Palette, Table};

use super::json::Item;
use crate::failure::{Failure, Outcome};
use crate::ui::{Ui, styled};
use crate::wording::concerns;
use crate::wording::versions::{end_cell, marks_with_projects, phase_cell, spine};

/// One runtime's installs, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// Its installs, newest first, or largest first if they were measured.
    installs: Vec<InstallReport>,
}

impl Item for Report {
    const LIST: &'static str = "runtimes";
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
    key: Key,
    /// The install's folder.
    path: String,
    /// The release line.
    line: Option<String>,
    /// The line's phase: `preview`, `current`, `lts`, `maintenance` or `ended`.
    phase: Option<Phase>,
    /// The last day of support, as an ISO 8601 date.
    end: Option<Date>,
    /// The bytes of all files.
    size: u64,
    /// Of those the bytes for which it shared blocks on the disk with other installs when it came.
    shared: u64,
    /// When it was installed, as an ISO 8601 time.
    installed: String,
    /// The day of its last use, or of its installation, as an ISO 8601 date.
    used: Date,
    /// Whether it is active in the calling shell.
    active: bool,
    /// Whether it is the default.
    default: bool,
    /// Marks in words.
    marks: Vec<String>,
    /// What came out since, in its line.
    newer: Option<Newer>,
}

/// One runtime's installs, with what is active of them.
pub struct Listed<'r> {
    runtime: &'r Runtime<'r>,
    activity: Activity,
    report: Report,
    measured: bool,
}

impl<'r> Listed<'r> {
    /// Looks at a runtime's shelf; with `measure` the sizes are taken from the disk, and the largest comes first.
    pub fn of(runtime: &'r Runtime<'r>, measure: bool) -> Result<Self, Failure> {
        // Its lines and its releases are looked at: both in one reading.
        runtime.published.heads();
        let activity = Activity::of(runtime);
        let mut report = report(runtime, &activity, &required_by_projects(runtime)?);
        if measure {
            report.measure(runtime)?;
        }
        Ok(Listed {
            runtime,
            activity,
            report,
            measured: measure,
        })
    }
}

/// The lists, for JSON.
pub fn reports(listed: Vec<Listed<'_>>) -> Vec<Report> {
    listed.into_iter().map(|listed| listed.report).collect()
}

impl Report {
    /// Takes the sizes from the disk.
    fn measure(&mut self, runtime: &Runtime<'_>) -> Outcome {
        for report in &mut self.installs {
            if let Some(install) = runtime.snapshot.install(&report.key) {
                report.size = size_on_disk(install)?;
            }
        }
        self.installs.sort_by_key(|install| Reverse(install.size));
        Ok(())
    }
}

fn report(runtime: &Runtime<'_>, activity: &Activity, required: &[(Pick, PathBuf)]) -> Report {
    let installs = (runtime.names().installs_main_first().into_iter())
        .map(|install| {
            let id = &install.id;
            let line = runtime.published.line_of(&id.version);
            InstallReport {
                version: id.version.to_string(),
                publisher: id.publisher.clone(),
                key: id.key.clone(),
                path: install.folder.to_string_lossy().into_owned(),
                line: line.map(|line| line.name.clone()),
                phase: line.map(|line| line.phase_on(runtime.today())),
                end: line.and_then(|line| line.end),
                size: install.record.contents.unpacked_size,
                shared: install.record.contents.shared_size,
                used: runtime.used_on(install),
                installed: install.record.contents.installed.to_string(),
                active: activity.is_active(&id.key),
                default: runtime.snapshot.is_default(&id.key),
                marks: marks_with_projects(runtime, activity, &id.key, required),
                newer: runtime.published.newer_than(id),
            }
        })
        .collect();
    Report {
        runtime: runtime.name().to_owned(),
        installs,
    }
}

/// Shows the lists.
pub fn show(ui: &Ui, listed: &[Listed<'_>]) -> Outcome {
    if listed.is_empty() {
        return ui.empty_shelf();
    }
    for (index, listed) in listed.iter().enumerate() {
        if index > 0 {
            ui.result("")?;
        }
        show_one(ui, listed)?;
    }
    Ok(())
}

fn show_one(ui: &Ui, listed: &Listed<'_>) -> Outcome {
    let Listed {
        runtime,
        activity,
        report,
        ..
    } = listed;
    let title = &runtime.definition.title;
    if runtime.snapshot.installs.is_empty() {
        ui.sentence(format!("No {title} is on the shelf."))?;
        let prefix = runtime.environment().prefix(runtime.name());
        ui.next("To install one", &format!("vshelf install {prefix}stable"));
        return Ok(());
    }
    let bytes: u64 = report.installs.iter().map(|install| install.size).sum();
    let count = Count(report.installs.len(), "install");
    ui.result(format!(
        "{}: {count}, {}",
        styled(Palette::STRONG, title),
        megabytes(bytes)
    ))?;
    ui.page(&table_of(ui, listed, bytes))?;
    match runtime.undefined() {
        Some(Error::UnknownRuntime { .. }) => ui.note(format!(
            "The definition of {title} was removed, so nothing new of it can be installed."
        )),
        Some(error) => ui.tell(Event::LeftUndone(error)),
        None => {}
    }
    concerns::say(ui, runtime, activity);
    Ok(())
}

/// The table of one runtime's installs, which have `bytes` bytes in all.
fn table_of(ui: &Ui, listed: &Listed<'_>, bytes: u64) -> Table {
    let Listed {
        runtime,
        report,
        measured,
        ..
    } = listed;
    let columns = [
        Column::left("version"),
        Column::left("phase"),
        Column::left("support ends"),
        Column::right("size").optional(),
        Column::left("share"),
        Column::right("of it shared"),
        Column::left("used").optional(),
        Column::left("newer"),
        Column::yielding("marks"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for report in &report.installs {
        let Some(install) = runtime.snapshot.install(&report.key) else {
            continue;
        };
        let line = runtime.published.line_of(&install.id.version);
        table.row(
            spine(report.phase),
            [
                Cell::new(
                    runtime.names().selector_of(&install.id.key),
                    Palette::STRONG,
                ),
                phase_cell(report.phase),
                end_cell(line, runtime.today()),
                megabytes(report.size).into(),
                match measured {
                    true => bar(report.size, bytes, ui.is_unicode()).into(),
                    false => Cell::default(),
                },
                match report.shared {
                    shared @ 1.. if *measured => megabytes(shared).into(),
                    _ => Cell::default(),
                },
                ago(report.used, runtime.today()).into(),
                newer_cell(report.newer.as_ref()),
                report.marks.join(", ").into(),
            ],
        );
    }
    table
}

fn newer_cell(newer: Option<&Newer>) -> Cell {
    match newer {
        Some(Newer {
            version,
            security: Some(true),
        }) => Cell::new(format!("{version}, security"), Palette::WARNING),
        Some(Newer { version, .. }) => version.to_string().into(),
        None => Cell::default(),
    }
}
