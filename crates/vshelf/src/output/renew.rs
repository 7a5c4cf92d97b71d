//! The plans of renewals, and why one failed.

use std::path::PathBuf;

use serde::Serialize;
use vshelf_app::Runtime;
use vshelf_app::keep::renew::{Follower, PlannedRenewal, RenewOptions, RenewalError};
use vshelf_core::outlook::Newer;
use vshelf_core::packages::Package;
use vshelf_core::tidy::Protection;
use vshelf_view::words::Count;
use vshelf_view::{Cell, Column, Palette, Table};

use super::json::Item;
use crate::failure::{Failure, Outcome};
use crate::ui::{Ui, styled};
use crate::wording::holders;
use crate::wording::paths::shown;
use crate::wording::versions::{phase_cell, spine};

/// The plans of renewals, by runtime.
type Plans<'c> = [(Runtime<'c>, Vec<PlannedRenewal>)];

/// A line that has a newer release, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// The line's name.
    line: String,
    /// The key of the newest install of the line.
    from: String,
    /// What is published since.
    to: Newer,
    /// The packages that come along, as `name@version`; null where they cannot be listed.
    packages: Option<Vec<String>>,
    /// What follows: `default`, `this shell`, labels.
    follows: Vec<String>,
    /// The requirement files that ask for the old release by its exact version.
    requirements: Vec<PathBuf>,
    /// What keeps the old release on the shelf; it is removed where nothing does.
    kept_by: Vec<Protection>,
}

impl Item for Report {
    const LIST: &'static str = "renewals";
}

/// The plans, for JSON.
pub fn reports(plans: &Plans<'_>) -> Vec<Report> {
    let reports = plans.iter().flat_map(|(runtime, plan)| {
        let report = |planned: &PlannedRenewal| Report {
            runtime: runtime.name().to_owned(),
            line: planned.line.clone(),
            from: planned.from.key.selector(),
            to: planned.to.clone(),
            packages: (planned.packages.as_ref().ok())
                .map(|packages| packages.iter().map(Package::spelled).collect()),
            follows: planned.followers.iter().map(follower).collect(),
            requirements: planned.exact_requirements.clone(),
            kept_by: planned.kept_by.clone(),
        };
        plan.iter().map(report)
    });
    reports.collect()
}

/// Why the renewal of a line failed, and what stays.
pub fn failure(error: RenewalError) -> Failure {
    let failure = Failure::from(error.error);
    match (error.stays, error.for_packages) {
        (None, _) => failure,
        (Some(old), false) => failure.say(format!("{old} stays as it was.")),
        (Some(old), true) => {
            failure.say(format!("{old} stays, so that its packages are not lost."))
        }
    }
}

/// Shows the plans as these options have them carried out.
pub fn show(ui: &Ui, plans: &Plans<'_>, options: RenewOptions) -> Outcome {
    for (runtime, plan) in plans.iter().filter(|(_, plan)| !plan.is_empty()) {
        show_plan(ui, runtime, plan, options)?;
        say_requirements(ui, plan, options.move_requirements);
    }
    Ok(())
}

/// Says which projects ask for the old release, and what becomes of that.
fn say_requirements(ui: &Ui, plan: &[PlannedRenewal], moves: bool) {
    for planned in plan {
        for file in &planned.exact_requirements {
            let (file, old, new) = (shown(file), &planned.from.version, &planned.to.version);
            ui.note(match moves {
                true => format!("{file} will say {new} instead of {old}."),
                false => {
                    format!(
                        "{file} requires {old}, which stays for it; --requirements changes it too."
                    )
                }
            });
        }
    }
}

/// What becomes of the old release.
fn becomes(planned: &PlannedRenewal, options: RenewOptions) -> String {
    let keeping = planned.keeping(options);
    match keeping.is_empty() {
        _ if options.keep_old => "stays: --keep-old".to_owned(),
        true => "removed".to_owned(),
        false => format!("stays: {}", holders::protections(keeping)),
    }
}

fn follower(follower: &Follower) -> String {
    match follower {
        Follower::Default => "default".to_owned(),
        Follower::ThisShell => "this shell".to_owned(),
        Follower::Label(label) => format!("label {label}"),
    }
}

fn show_plan(
    ui: &Ui,
    runtime: &Runtime<'_>,
    plan: &[PlannedRenewal],
    options: RenewOptions,
) -> Outcome {
    let title = styled(Palette::STRONG, &runtime.definition.title);
    ui.result(format!("{title}: {} to renew", Count(plan.len(), "line")))?;
    let columns = [
        Column::left("line"),
        Column::left("phase"),
        Column::left("from"),
        Column::left("to"),
        Column::left("why"),
        Column::left("packages"),
        Column::left("what follows"),
        Column::yielding("old release"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for planned in plan {
        let phase = runtime.published.phase_of(&planned.from.version);
        let follows: Vec<String> = planned.followers.iter().map(follower).collect();
        let packages = match planned.packages.as_ref().map(Vec::len) {
            Ok(0) => String::new(),
            Ok(count) => count.to_string(),
            Err(_) => "unknown".to_owned(),
        };
        table.row(
            spine(phase),
            [
                planned.line.clone().into(),
                phase_cell(phase),
                Cell::new(
                    runtime.names().selector_of(&planned.from.key),
                    Palette::STRONG,
                ),
                Cell::new(planned.to.version.to_string(), Palette::STRONG),
                match planned.to.fixes_security() {
                    true => Cell::new("security", Palette::WARNING),
                    false => "newer".into(),
                },
                packages.into(),
                follows.join(", ").into(),
                becomes(planned, options).into(),
            ],
        );
    }
    ui.table(&table)
}
