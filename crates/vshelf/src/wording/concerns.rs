//! What is the matter with what is used here, and how old a catalog is.

use vshelf_app::concerns::{self, Reminder, SecurityWay};
use vshelf_app::events::CatalogStatus;
use vshelf_app::sourcing::Instead;
use vshelf_app::{Activity, Runtime};
use vshelf_view::words::{Count, ago, listed};

use super::versions::end_of_support;
use crate::ui::Ui;

/// Notes what is the matter with the default and with what the project requires.
pub fn say(ui: &Ui, runtime: &Runtime<'_>, activity: &Activity) {
    for concern in concerns::find(runtime, activity) {
        let who = match concern.is_default {
            true => "The default",
            false => "What the project here requires",
        };
        let selector = &concern.selector;
        if let Some(line) = &concern.ended {
            let end = end_of_support(line, runtime.today());
            let ended = end.map_or_else(String::new, |end| format!(" ended on {end}"));
            ui.warn(format!(
                "{who}, {selector}, is of a line that is no longer supported: {}{ended}.",
                line.name
            ));
        }
        if let Some(release) = &concern.security_release {
            let (version, prefix) = (&release.version, &release.prefix);
            ui.warn(format!(
                "{who}, {selector}, lacks a security release: {version} is out."
            ));
            let (purpose, command) = match &release.way {
                SecurityWay::Renew(line) => ("To renew the line", format!("renew {prefix}{line}")),
                SecurityWay::SetDefault => {
                    ("To get it", format!("install {prefix}{version} --default"))
                }
                SecurityWay::Install => ("To get it", format!("install {prefix}{version}")),
                SecurityWay::Require => (
                    "That is not covered here; to require it",
                    format!("require {prefix}{version}"),
                ),
            };
            ui.next(purpose, &format!("vshelf {command}"));
        }
    }
}

/// Says, at most once a day, that something on the shelf ended or lacks a security release.
pub fn say_reminder(ui: &Ui, reminder: Reminder) {
    let parts = [
        (reminder.ended, "of an ended line"),
        (reminder.insecure, "without a security release"),
    ];
    let parts = parts.into_iter().filter(|(count, _)| *count > 0);
    let parts: Vec<String> = parts
        .map(|(count, what)| format!("{} {what}", Count(count, "install")))
        .collect();
    let text = format!("On the shelf: {}; to see them", listed(&parts, "and"));
    ui.next(&text, "vshelf tidy --dry-run");
}

/// Says how old the catalog is, where its source could not be asked.
pub fn say_catalog(ui: &Ui, status: &CatalogStatus) {
    let age = format!(
        "The catalog of {} was last confirmed {}",
        status.title,
        ago(status.confirmed, status.today)
    );
    match &status.not_renewed {
        Some(reason) => ui.warn(format!("{age}: {reason}.")),
        None if status.offline => ui.note(format!("{age}.")),
        None => {
            for passed in &status.passed_over {
                let result = match &passed.instead {
                    Instead::Source(other) => format!("Using {other} instead."),
                    Instead::Kept(day) => {
                        format!("What it said {} is used.", ago(*day, status.today))
                    }
                    Instead::Nothing { has_builds: true } => {
                        "Releases that only it has cannot be seen.".to_owned()
                    }
                    Instead::Nothing { has_builds: false } => {
                        "Days, phases and security marks may be missing.".to_owned()
                    }
                };
                let (source, reason) = (&passed.source, &passed.reason);
                ui.note(format!(
                    "The source {source} was skipped: {reason}. {result}"
                ));
            }
            if !status.passed_over.is_empty() {
                ui.note("This is said once a day; reminders = false in shelf.toml turns it off.");
            }
        }
    }
}

/// Warns of an install's line that has ended.
pub fn say_ended(ui: &Ui, line: &vshelf_core::Line, today: jiff::civil::Date) {
    let end = end_of_support(line, today);
    let ended = end.map_or_else(String::new, |end| format!(": it ended on {end}"));
    ui.warn(format!("Its line is no longer supported{ended}."));
}
