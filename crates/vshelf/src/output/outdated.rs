//! What a clean-up makes of installs: a table, JSON, and what of it is outdated.

use jiff::civil::Date;
use serde::Serialize;
use vshelf_app::Runtime;
use vshelf_app::keep::tidy::TidyPlan;
use vshelf_core::Key;
use vshelf_core::outlook::Newer;
use vshelf_core::tidy::{Assessment, Protection, Reason, Verdict};
use vshelf_view::words::{ago, megabytes};
use vshelf_view::{Cell, Column, Palette, Table};

use super::json::Item;
use crate::ui::Ui;
use crate::wording::holders;
use crate::wording::versions::{phase_cell, spine};

/// What the plan says of an install, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct InstallReport {
    /// The runtime's name.
    runtime: String,
    /// The key on the shelf.
    key: Key,
    /// `remove`, `renew` or `keep`.
    verdict: Verdict,
    /// Why it is outdated.
    reasons: Vec<Reason>,
    /// What keeps it, outdated or not.
    kept_by: Vec<Protection>,
    /// The bytes of its files, as they were unpacked.
    size: u64,
    /// The day of its last use, or of its installation.
    used: Date,
    /// What came out since in its line and is not on the shelf.
    newer: Option<Newer>,
}

impl Item for InstallReport {
    const LIST: &'static str = "installs";
}

/// What a plan says of installs, for JSON.
pub fn reports(plan: &TidyPlan<'_, '_>) -> Vec<InstallReport> {
    let reports = plan.runtimes.iter().flat_map(|(runtime, plan)| {
        let report = |entry: &Assessment<'_>| {
            let install = runtime.snapshot.install(&entry.install.key);
            InstallReport {
                runtime: runtime.name().to_owned(),
                key: entry.install.key.clone(),
                verdict: entry.verdict,
                reasons: entry.reasons.clone(),
                kept_by: entry.protections.clone(),
                size: entry.bytes,
                used: install.map_or(runtime.today(), |install| runtime.used_on(install)),
                newer: entry.newer.clone(),
            }
        };
        plan.iter().map(report)
    });
    reports.collect()
}

/// Warns that a plan was made without knowing what a catalog tells, and says how to get one.
pub fn warn_without_catalog(ui: &Ui, plan: &TidyPlan<'_, '_>) {
    for (runtime, _) in plan.runtimes.iter().filter(|(one, _)| one.lacks_catalog()) {
        let title = &runtime.definition.title;
        ui.warn(format!(
            "No catalog of {title} is kept, so its newer releases and the ends of its lines are unknown."
        ));
        ui.next(
            "To get it",
            &format!("vshelf catalog {} --refresh", runtime.name()),
        );
    }
}

/// Says of which runtimes no source tells whether releases newer than an install fix a security problem.
pub fn say_unclear(ui: &Ui, plan: &TidyPlan<'_, '_>) {
    for (runtime, _) in &plan.runtimes {
        let installs = runtime.snapshot.installs.iter();
        let mut newer = installs.filter_map(|install| runtime.published.newer_than(&install.id));
        if newer.any(|newer| newer.security.is_none()) {
            ui.note(format!(
                "Whether newer releases of {} fix security problems is unknown.",
                runtime.definition.title
            ));
        }
    }
}

/// The plan as a table.
pub fn table(runtime: &Runtime<'_>, plan: &[Assessment<'_>]) -> Table {
    let columns = [
        Column::left("version"),
        Column::left("phase"),
        Column::right("size").optional(),
        Column::left("used").optional(),
        Column::left("plan"),
        Column::yielding("why"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for entry in plan {
        let phase = runtime.published.phase_of(&entry.install.version);
        let install = runtime.snapshot.install(&entry.install.key);
        let used = install.map(|install| ago(runtime.used_on(install), runtime.today()));
        table.row(
            spine(phase),
            [
                Cell::new(
                    runtime.names().selector_of(&entry.install.key),
                    Palette::STRONG,
                ),
                phase_cell(phase),
                megabytes(entry.bytes).into(),
                used.unwrap_or_default().into(),
                match entry.verdict {
                    Verdict::Remove => Cell::new("remove", Palette::STRONG),
                    Verdict::Renew => Cell::new("renew", Palette::STRONG),
                    Verdict::Keep => Cell::new("keep", Palette::QUIET),
                },
                why(runtime, entry).into(),
            ],
        );
    }
    table
}

/// Why the plan says what it says.
fn why(runtime: &Runtime<'_>, entry: &Assessment<'_>) -> String {
    let reasons = entry
        .reasons
        .iter()
        .map(|reason| holders::reason(reason, runtime.today()));
    let reasons = reasons.collect::<Vec<_>>().join(", ");
    let mut parts = vec![holders::protections(&entry.protections)];
    if let (Verdict::Renew, Some(newer)) = (entry.verdict, &entry.newer) {
        parts.insert(0, format!("{} fixes a security problem", newer.version));
    }
    match entry.protections.is_empty() {
        true => parts.push(reasons),
        false if reasons.is_empty() => {}
        false => parts.push(format!("though {reasons}")),
    }
    parts.retain(|part| !part.is_empty());
    parts.join("; ")
}
