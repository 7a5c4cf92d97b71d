//! What was removed, renewed and carried.

use vshelf_app::keep::leftovers::LeftoverKind;
use vshelf_app::outcome::{Asker, CarryOutcome, CarryReport, Reassigned, Removed, RenewalStep};
use vshelf_core::Request;
use vshelf_core::packages::Package;
use vshelf_shelf::journal::Operation;
use vshelf_view::words::{Count, megabytes, printable};
use vshelf_view::{Cell, Column, Palette, Table};

use super::holders::{self, first_few};
use super::paths::{project_name, shown};
use crate::failure::Outcome;
use crate::ui::{Ui, styled};

/// Says that an install was removed, and what that means for others.
pub fn say_removed(ui: &Ui, removed: &Removed) -> Outcome {
    if removed.was_default {
        ui.note(format!(
            "It was the default; {} has none now.",
            removed.runtime_title
        ));
        if let Some(newest) = &removed.newest_left {
            ui.next("To set one", &format!("vshelf default {newest}"));
        }
    }
    if removed.shell_follows_again {
        ui.note("This shell was switched to it, and follows the default again.");
    }
    let title = styled(Palette::STRONG, &removed.title);
    let space = match removed.trashed {
        Some((bytes, until)) => {
            format!("its {} stay in the trash until {until}", megabytes(bytes))
        }
        None => format!("{} freed", megabytes(removed.freed)),
    };
    ui.done(match (removed.operation, removed.linked) {
        (Operation::Tidied, _) => format!("{title} was removed."),
        (Operation::Renewed, _) => format!("{} was removed; {space}.", removed.title),
        (_, true) => {
            format!("{title} was removed; the folder that it was a link to stays.")
        }
        (_, false) => format!("{title} was removed; {space}."),
    })?;
    // What a renewal removes has its packages in the new release, and what is in the trash has its own.
    let is_lost = removed.trashed.is_none() && removed.operation != Operation::Renewed;
    if is_lost && !removed.packages.is_empty() {
        let had = removed.packages.join(", ");
        ui.note(format!("Its packages went with it: {}", printable(&had)));
    }
    for sentence in reassignments(&removed.reassigned) {
        ui.note(sentence);
    }
    Ok(())
}

/// What labels and projects that meant what was removed mean now. Projects with the same requirement are one sentence.
fn reassignments(all: &[Reassigned]) -> Vec<String> {
    let mut sentences = Vec::new();
    let mut projects: Vec<(&Request, Option<&str>, Vec<String>)> = Vec::new();
    for reassigned in all {
        let (request, now) = (&reassigned.request, reassigned.now.as_deref());
        match &reassigned.who {
            Asker::Label(label, selector) => sentences.push(format!(
                "The label {label} ({selector}) stands for {} now.",
                now.unwrap_or("nothing on the shelf")
            )),
            Asker::Project(file) => {
                let name = project_name(file);
                let mut known = projects.iter_mut();
                match known.find(|(known, meets, _)| *known == request && *meets == now) {
                    Some((.., names)) => names.push(name),
                    None => projects.push((request, now, vec![name])),
                }
            }
        }
    }
    sentences.extend(projects.into_iter().map(|(request, now, names)| {
        let require = if names.len() == 1 {
            "requires"
        } else {
            "require"
        };
        let now = now.unwrap_or("nothing on the shelf");
        format!(
            "{} {require} {request}, which {now} meets now.",
            first_few(names)
        )
    }));
    sentences
}

/// Says one step of a renewal.
pub fn say_renewal(ui: &Ui, step: &RenewalStep) -> Outcome {
    ui.done(match step {
        RenewalStep::Installed { title } => {
            format!("{} is on the shelf.", styled(Palette::STRONG, title))
        }
        RenewalStep::Default { selector } => {
            format!("It is the default now, set as {selector}.")
        }
        RenewalStep::ThisShell => "This shell uses it now.".to_owned(),
        RenewalStep::Label { label } => format!("The label {label} stands for it now."),
        RenewalStep::RequirementMoved { file, version } => {
            format!("{} now requires {version}.", shown(file))
        }
        RenewalStep::Locked { file, release } => {
            format!("{} has {release} now.", shown(file))
        }
        RenewalStep::RequirementLeft { file } => {
            ui.note(format!(
                "{} holds more than a version, and is yours to edit.",
                shown(file)
            ));
            return Ok(());
        }
        RenewalStep::OldStays { title, why: None } => format!("{title} stays on the shelf."),
        RenewalStep::OldStays {
            title,
            why: Some(protection),
        } => format!("{title} stays: {}.", holders::protection(protection)),
    })
}

/// Says which packages are being installed.
pub fn say_installing(ui: &Ui, packages: &[&Package]) {
    ui.note(match packages {
        [package] => format!("Installing {}.", printable(&package.name)),
        several => format!("Installing {} packages.", several.len()),
    });
}

/// Shows what carrying packages resulted in.
pub fn show_carried(ui: &Ui, report: &CarryReport) -> Outcome {
    let title = styled(Palette::STRONG, &report.title);
    let (from, to) = (&report.from_selector, &report.to_selector);
    let is_plan = (report.packages.iter()).any(|(_, outcome)| *outcome == CarryOutcome::Planned);
    if ui.is_quiet() && !is_plan {
        return Ok(());
    }
    if report.packages.is_empty() {
        return ui.done(format!("{title} {from} has no packages to carry."));
    }
    let count = Count(report.packages.len(), "package");
    ui.done(format!("{title} {from} to {to}: {count}"))?;
    let columns = [
        Column::left("package"),
        Column::left("result"),
        Column::yielding("why"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for (package, outcome) in &report.packages {
        let (word, style, why) = match outcome {
            CarryOutcome::Planned => ("would be installed", Palette::STRONG, String::new()),
            CarryOutcome::Installed => ("installed", Palette::STRONG, String::new()),
            CarryOutcome::AlreadyThere { version } => {
                let other = version.as_ref().filter(|_| *version != package.version);
                let why = other.map(|other| format!("as {other}")).unwrap_or_default();
                ("already there", Palette::QUIET, why)
            }
            CarryOutcome::FromElsewhere { from } => (
                "left out",
                Palette::WARNING,
                format!("was installed from {from}"),
            ),
            CarryOutcome::Failed { why } => ("failed", Palette::ERROR, why.clone()),
        };
        let name = Cell::new(printable(&package.spelled()), Palette::STRONG);
        table.row(
            Palette::QUIET,
            [name, Cell::new(word, style), printable(&why).into()],
        );
    }
    ui.table(&table)
}

/// So many leftovers of one kind.
pub fn counted(kind: LeftoverKind, count: usize) -> String {
    match kind {
        LeftoverKind::UnfinishedCommand => Count(count, "unfinished command").to_string(),
        LeftoverKind::PartialDownload => Count(count, "partial download").to_string(),
        LeftoverKind::RemovedInstall => Count(count, "removed install").to_string(),
        LeftoverKind::UnfinishedBuild => Count(count, "unfinished build").to_string(),
        LeftoverKind::UnknownCatalog => {
            format!("{} of sources that are gone", Count(count, "catalog"))
        }
    }
}
