//! The plan of a clean-up, and what carrying it out resulted in.

use serde::Serialize;
use vshelf_app::keep::leftovers::LeftoverKind;
use vshelf_app::keep::tidy::{Tidied, TidyPlan};
use vshelf_core::tidy::{Protection, Verdict, Witness};
use vshelf_view::Palette;
use vshelf_view::words::{Count, megabytes};

use super::outdated::{self, InstallReport};
use crate::failure::{Failure, Outcome};
use crate::ui::{Ui, styled};
use crate::wording::keeping::counted;
use crate::wording::paths::edit;

/// The plan of a clean-up, and what it resulted in, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// What is on the shelf.
    installs: Vec<InstallReport>,
    /// What commands left behind.
    leftovers: Vec<LeftoverReport>,
    /// The bytes that carrying out the plan frees.
    would_free: u64,
    /// The bytes that carrying out the plan moves to the trash.
    would_trash: u64,
    /// The bytes that were freed; null where the plan was not carried out.
    freed: Option<u64>,
    /// The bytes that were moved to the trash; null where the plan was not carried out.
    trashed: Option<u64>,
    /// What could not be removed, and why.
    failures: Vec<String>,
}

/// Something that commands left behind, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LeftoverReport {
    /// `unfinished-command`, `partial-download` or `unknown-catalog`.
    kind: LeftoverKind,
    /// Its bytes.
    size: u64,
}

impl Report {
    /// The plan, for JSON.
    pub fn of(plan: &TidyPlan<'_, '_>) -> Report {
        let leftovers = plan.leftovers.iter().map(|leftover| LeftoverReport {
            kind: leftover.kind,
            size: leftover.bytes,
        });
        Report {
            installs: outdated::reports(plan),
            leftovers: leftovers.collect(),
            would_free: plan.frees(),
            would_trash: plan.trashes(),
            freed: None,
            trashed: None,
            failures: Vec::new(),
        }
    }

    /// Adds what carrying it out resulted in.
    pub fn add(&mut self, tidied: Tidied) {
        self.freed = Some(tidied.freed);
        self.trashed = Some(tidied.trashed);
        let failures = tidied.errors.into_iter();
        let failures = failures.map(|error| Failure::from(error).message);
        self.failures = failures.collect();
    }
}

/// Shows the plan.
pub fn show(ui: &Ui, plan: &TidyPlan<'_, '_>) -> Outcome {
    if plan.runtimes.is_empty() && plan.leftovers.is_empty() {
        return ui.empty_shelf();
    }
    show_runtimes(ui, plan)?;
    for kind in LeftoverKind::ALL {
        let same = plan
            .leftovers
            .iter()
            .filter(|leftover| leftover.kind == kind);
        let bytes: Vec<u64> = same.map(|leftover| leftover.bytes).collect();
        if !bytes.is_empty() {
            let (what, size) = (counted(kind, bytes.len()), bytes.iter().sum());
            let place = if kind == LeftoverKind::RemovedInstall {
                "In the trash"
            } else {
                "Left behind"
            };
            ui.result(format!("{place}: {what}, {}", megabytes(size)))?;
        }
    }
    let frees = megabytes(plan.frees());
    ui.sentence(match (plan.trash, plan.trashes()) {
        _ if plan.is_empty() => "There is nothing to remove.".to_owned(),
        (Some((days, _)), trashes @ 1..) => {
            let moves = format!(
                "moves {} to the trash for {}",
                megabytes(trashes),
                Count(days as usize, "day")
            );
            match plan.frees() == 0 {
                true => format!("This {moves}."),
                false => format!("This frees {frees}, and {moves}."),
            }
        }
        _ => format!("This frees {frees}."),
    })?;
    if plan.count(Verdict::Renew) > 0 {
        ui.next("To get security releases that are out", "vshelf renew");
    }
    let is_unclear = |protection: &Protection| {
        let projects = Witness::Projects;
        matches!(protection, Protection::Unclear { what, .. } if *what == projects)
    };
    let mut assessments = plan.assessments();
    if assessments.any(|entry| entry.protections.iter().any(is_unclear))
        && let Some((runtime, _)) = plan.runtimes.first()
    {
        let list = runtime.environment().layout()?.projects();
        ui.next("To look at the list of projects", &edit(&list));
    }
    Ok(())
}

/// Shows what is to become of the installs of each runtime.
fn show_runtimes(ui: &Ui, plan: &TidyPlan<'_, '_>) -> Outcome {
    for (runtime, entries) in &plan.runtimes {
        if entries.is_empty() {
            ui.sentence(format!(
                "No version of {} is on the shelf.",
                runtime.definition.title
            ))?;
            continue;
        }
        let removed = entries.iter();
        let removed = removed.filter(|entry| entry.verdict == Verdict::Remove);
        let all = Count(entries.len(), "install");
        let title = styled(Palette::STRONG, &runtime.definition.title);
        ui.result(match removed.count() {
            0 => format!("{title}: nothing to remove of {all}"),
            count => format!("{title}: {count} of {all} to remove"),
        })?;
        ui.table(&outdated::table(runtime, entries))?;
    }
    Ok(())
}

/// Says what carrying the plan out resulted in.
pub fn say_tidied(ui: &Ui, plan: &TidyPlan<'_, '_>, tidied: &Tidied) -> Outcome {
    let freed = megabytes(tidied.freed);
    ui.done(match (tidied.trashed, tidied.freed) {
        (0, _) => format!("{freed} freed."),
        (trashed, 0) => format!("{} moved to the trash.", megabytes(trashed)),
        (trashed, _) => format!("{freed} freed, {} moved to the trash.", megabytes(trashed)),
    })?;
    if plan.count(Verdict::Remove) > 0 {
        ui.next("To get the installs back", "vshelf restore");
    }
    Ok(())
}
