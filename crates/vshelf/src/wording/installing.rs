//! What was installed, adopted or restored, and what of it is active now.

use std::path::Path;
use std::time::Duration;

use vshelf_app::error::PackageAttempt;
use vshelf_app::outcome::{
    Conclusion, DefaultState, InstallResult, PackagesLost, Restored, SeveralConclusion,
    ShellAfterInstall,
};
use vshelf_core::Pick;
use vshelf_shelf::Install;
use vshelf_shelf::record::Built;
use vshelf_view::words::{lasted, listed, megabytes, printable};
use vshelf_view::{Cell, Column, Palette, Table};

use super::concerns::say_ended;
use super::errors::attempt_commands;
use super::paths::shown;
use super::shells::say_way_to_connect;
use super::versions::spine;
use crate::failure::Outcome;
use crate::ui::{Ui, styled};

/// Says what a single install resulted in.
pub fn say_result(ui: &Ui, result: &InstallResult) -> Outcome {
    let title = &result.title;
    let Some(new) = &result.new else {
        return ui.done(format!(
            "{title} is on the shelf already; nothing was fetched."
        ));
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
    let origin = match record.repack {
        true => format!(": a repack of it from {}", record.source),
        false => format!(", published by {}", record.publisher),
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
    for companion in &record.companions {
        let (package, version) = (&companion.package, &companion.version);
        ui.done(format!(
            "{package} {version} was added, because the build is without it."
        ))?;
    }
    say_always(ui, &result.always)?;
    say_broken(ui, &new.install);
    Ok(())
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

/// Shows what several installs resulted in, as one table.
pub fn show_results(ui: &Ui, results: &[InstallResult]) -> Outcome {
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
            None => ("was there already".to_owned(), String::new(), String::new()),
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
            say_broken(ui, &new.install);
        }
        if !result.always.is_empty() {
            ui.done(format!("To {}:", result.title))?;
            say_always(ui, &result.always)?;
        }
    }
    Ok(())
}

/// The default, with the selector that it was set as where that is another text.
fn default_in_words(default: &DefaultState) -> String {
    let selector = default.selector.clone().unwrap_or_default();
    match &default.shown {
        Some(shown) if *shown != selector => format!("{shown} ({selector})"),
        _ => selector,
    }
}

/// Says what is active now, and what the default is.
pub fn say_conclusion(ui: &Ui, conclusion: &Conclusion) -> Outcome {
    if let Some(line) = &conclusion.ended_line {
        say_ended(ui, line, conclusion.today);
    }
    let default = default_in_words(&conclusion.default);
    let became = conclusion.became_default;
    let kept = match became {
        true => "It is the default now".to_owned(),
        false => format!("The default stays {default}"),
    };
    match &conclusion.shell {
        ShellAfterInstall::AsRequired => ui.done(format!(
            "This shell uses it now, as the project here requires. {kept}."
        )),
        ShellAfterInstall::RequiredOther(required) => ui.done(format!(
            "{kept}, and this shell stays on {required}, as the project here requires."
        )),
        ShellAfterInstall::Switched => {
            let selector = conclusion.default.selector.clone().unwrap_or_default();
            let rest = match became {
                true => "and new shells do too: it is the default now".to_owned(),
                false => format!("new shells use the default, {selector}"),
            };
            ui.done(format!("This shell uses it now; {rest}."))
        }
        ShellAfterInstall::NotConnected(way) => {
            ui.done("It is the default now: new connected shells use it.")?;
            say_way_to_connect(ui, way);
            Ok(())
        }
        ShellAfterInstall::AsDefault => {
            ui.done("It is the default now: this shell and new ones use it.")
        }
        ShellAfterInstall::StaysSwitched(before) => {
            ui.done(format!(
                "It is the default now: new shells use it; this one stays on {before}, which it was switched to."
            ))?;
            ui.next("To follow the default here", "vshelf switch --follow");
            Ok(())
        }
        ShellAfterInstall::Active => ui.done("It is active in this shell."),
        ShellAfterInstall::Stays {
            answering,
            to_connect,
        } => {
            let here = match answering {
                Some(other) if other == Pick::System.as_str() => {
                    ", and this shell stays on the system's own copy".to_owned()
                }
                Some(other) => format!(", and this shell stays on {other}"),
                None => String::new(),
            };
            ui.done(format!("The default stays {default}{here}."))?;
            if let Some(way) = to_connect {
                say_way_to_connect(ui, way);
                return Ok(());
            }
            let selector = &conclusion.selector;
            ui.next("To use it here", &format!("vshelf switch {selector}"));
            ui.next(
                "To make it the default",
                &format!("vshelf default {selector}"),
            );
            Ok(())
        }
    }
}

/// Says what the default of a runtime is after several installs.
pub fn say_several(ui: &Ui, conclusion: &SeveralConclusion) -> Outcome {
    match &conclusion.new_default {
        Some(title) => ui.done(format!("{title} is the default now: new shells use it."))?,
        None => {
            let default = default_in_words(&conclusion.default);
            ui.done(format!(
                "The default of {} stays {default}.",
                conclusion.title
            ))?;
        }
    }
    if let Some(selector) = &conclusion.switchable {
        ui.next(
            "To use one of them here",
            &format!("vshelf switch {selector}"),
        );
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
    for command in attempt.iter().flat_map(|attempt| attempt_commands(attempt)) {
        ui.next("To install them again", &command);
    }
    Ok(())
}
