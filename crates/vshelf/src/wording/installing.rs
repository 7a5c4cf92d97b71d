//! What was installed, adopted or restored, and what of it is active now.

use std::path::Path;
use std::time::Duration;

use vshelf_app::error::PackageAttempt;
use vshelf_app::outcome::{InstallResult, NewInstall, PackagesLost, PlannedInstall, Restored};
use vshelf_shelf::Install;
use vshelf_shelf::record::Built;
use vshelf_view::words::{lasted, listed, megabytes, printable};
use vshelf_view::{Cell, Column, Palette, Table};

use super::advice::command;
use super::paths::shown;
use super::versions::spine;
use crate::failure::Outcome;
use crate::ui::{Ui, styled};

/// Says what installs resulted in: one in sentences, several as a table.
pub fn say_results(ui: &Ui, results: &[InstallResult]) -> Outcome {
    match results {
        [result] => say_result(ui, result),
        results => show_results(ui, results),
    }
}

/// Says what an install would bring, in a sentence for each release.
pub fn say_planned(ui: &Ui, planned: &[PlannedInstall]) -> Outcome {
    for PlannedInstall { title, fetch } in planned {
        let title = styled(Palette::STRONG, title);
        let Some(fetch) = fetch else {
            ui.sentence(format!("{title} is already installed."))?;
            continue;
        };
        let what = if fetch.is_built {
            "built from source"
        } else {
            "installed"
        };
        let size = fetch.size.map(|size| format!("{} ", megabytes(size)));
        ui.sentence(format!(
            "{title} would be {what}: {}from {}.",
            size.unwrap_or_default(),
            fetch.source
        ))?;
    }
    Ok(())
}

fn say_result(ui: &Ui, result: &InstallResult) -> Outcome {
    let title = &result.title;
    let Some(new) = &result.new else {
        ui.done(format!(
            "{title} is already installed; nothing was fetched."
        ))?;
        if let Some((version, line)) = &result.newer {
            let renew = format!("vshelf renew {line}");
            ui.next(&format!("{version} is out; to renew it"), &renew);
        }
        return Ok(());
    };
    let record = &new.install.record.contents;
    if let Some(built) = &record.built {
        ui.done(format!(
            "{} is on the shelf, built from source in {}.",
            styled(Palette::STRONG, title),
            steps_took(built)
        ))?;
        say_left_out(ui, "It", &new.install);
    }
    let origin = if record.repack {
        format!(" (repackaged by others, from {})", record.source)
    } else {
        format!(", published by {}", record.publisher)
    };
    if record.built.is_none() {
        let title = styled(Palette::STRONG, title);
        ui.done(format!("{title} is on the shelf{origin}."))?;
    }
    let time = match record.built {
        Some(_) => String::new(),
        None => format!(" in {}", lasted(new.took)),
    };
    let shared = match record.shared_size {
        0 => String::new(),
        shared => format!(", {} of it shared with other installs", megabytes(shared)),
    };
    ui.done(format!(
        "{} fetched{time} from {}, verified by {}; {} on disk{shared}.",
        megabytes(new.fetched),
        record.source,
        algorithm(&new.install),
        megabytes(record.unpacked_size),
    ))?;
    say_about(ui, "It", new)?;
    for companion in &record.companions {
        let (package, version) = (&companion.package, &companion.version);
        ui.done(format!(
            "{package} {version} was added, because the build comes without it."
        ))?;
    }
    say_always(ui, &result.always)?;
    say_broken(ui, &new.install);
    Ok(())
}

/// Says what its publisher left out of a new install, and which runtime it runs on.
fn say_about(ui: &Ui, what: &str, new: &NewInstall) -> Outcome {
    if let Some(remark) = &new.trimmed {
        ui.warn(format!("{what} is {remark}."));
    }
    match &new.base {
        Some(base) => ui.done(format!("{what} runs on {base}.")),
        None => Ok(()),
    }
}

/// Says which packages an install got because every one of its runtime gets them.
fn say_always(ui: &Ui, always: &[String]) -> Outcome {
    if always.is_empty() {
        return Ok(());
    }
    let verb = if always.len() > 1 { "were" } else { "was" };
    ui.done(format!(
        "{} {verb} added, as your settings say.",
        listed(always, "and")
    ))
}

/// The algorithm of the digest that an install was verified by.
fn algorithm(install: &Install) -> &str {
    let digest = install.record.contents.digest.as_deref();
    let algorithm = digest.and_then(|digest| digest.split(':').next());
    algorithm.unwrap_or("nothing")
}

fn say_broken(ui: &Ui, install: &Install) {
    if let Some(reason) = &install.record.contents.broken {
        ui.warn(format!(
            "It does not start here: {reason}. It was kept anyway."
        ));
    }
}

/// How long the steps of a build took.
fn steps_took(built: &Built) -> String {
    lasted(Duration::from_millis(built.took_ms))
}

/// Says what an install was built without; `what` is what it is called here.
fn say_left_out(ui: &Ui, what: &str, install: &Install) {
    let built = install.record.contents.built.as_ref();
    for left_out in built.into_iter().flat_map(|built| &built.left_out) {
        ui.warn(format!("{what} was built without {}.", printable(left_out)));
    }
}

fn show_results(ui: &Ui, results: &[InstallResult]) -> Outcome {
    const COLUMNS: [Column; 4] = [
        Column::left("version"),
        Column::left("result"),
        Column::right("fetched"),
        Column::yielding("from"),
    ];
    let mut table = Table::new(&COLUMNS, Palette::HEADING);
    for result in results {
        let (outcome, fetched, from) = match &result.new {
            Some(new) => {
                let algorithm = algorithm(&new.install);
                let from = format!("{}, verified by {algorithm}", result.source);
                let fetched = megabytes(new.fetched);
                match &new.install.record.contents.built {
                    Some(built) => (format!("built in {}", steps_took(built)), fetched, from),
                    None => {
                        let fetched = format!("{fetched} in {}", lasted(new.took));
                        ("on the shelf".to_owned(), fetched, from)
                    }
                }
            }
            None => ("already installed".to_owned(), String::new(), String::new()),
        };
        table.row(
            spine(result.phase),
            [
                Cell::new(&result.title, Palette::STRONG),
                outcome.into(),
                fetched.into(),
                from.into(),
            ],
        );
    }
    ui.done_table(&table)?;
    for result in results {
        if let Some(new) = &result.new {
            say_left_out(ui, &result.title, &new.install);
            say_about(ui, &result.title, new)?;
            say_broken(ui, &new.install);
        }
        if !result.always.is_empty() {
            ui.done(format!("To {}:", result.title))?;
            say_always(ui, &result.always)?;
        }
    }
    Ok(())
}

/// Says what was adopted.
pub fn say_adopted(ui: &Ui, title: &str, linked: bool, from: &Path) -> Outcome {
    let title = styled(Palette::STRONG, title);
    let how = match linked {
        false => "copied from",
        true => "as a link to",
    };
    ui.done(format!("{title} is on the shelf, {how} {}", shown(from)))
}

/// Says what was restored, and what belonged to it.
pub fn say_restored(ui: &Ui, restored: &Restored) -> Outcome {
    let title = styled(Palette::STRONG, &restored.title);
    ui.done(match restored.from_trash {
        true => format!("{title} is restored from the trash, as it was."),
        false => format!("{title} is restored, with the digest it had."),
    })?;
    if restored.became_default {
        ui.done("It is the default now, because there was none.")?;
    }
    say_packages_had(ui, &restored.packages, restored.attempt.as_ref())
}

/// Says which packages went as an install was made again.
pub fn say_packages_lost(ui: &Ui, lost: &PackagesLost) -> Outcome {
    ui.done(format!(
        "{} was made again without its packages.",
        lost.title
    ))?;
    say_packages_had(ui, &lost.packages, lost.attempt.as_ref())
}

fn say_packages_had(ui: &Ui, packages: &[String], attempt: Option<&PackageAttempt>) -> Outcome {
    if !packages.is_empty() {
        let had = packages.join(", ");
        ui.done(format!("It had these packages: {}", printable(&had)))?;
    }
    for action in attempt.iter().flat_map(|attempt| attempt.actions()) {
        ui.next("To install them again", &command(&action));
    }
    Ok(())
}
