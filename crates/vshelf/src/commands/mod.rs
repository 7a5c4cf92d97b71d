//! The commands: one file each, with the arguments and what it does.

mod adopt;
mod browse;
mod carry;
mod catalog;
mod checkup;
mod config;
mod default;
mod demo;
pub mod examples;
mod explain;
mod history;
mod hook;
mod install;
mod label;
pub mod launchers;
mod list;
mod mirror;
mod path;
mod pin;
mod remove;
mod renew;
mod restore;
mod run;
mod runtimes;
#[cfg(test)]
mod schemas;
mod setup;
mod status;
mod suggest;
mod switch;
mod tidy;
mod timeline;

use clap::{ArgMatches, Args, Command, FromArgMatches};
use jiff::tz::TimeZone;
use serde::Serialize;
use vshelf_core::Phase;
use vshelf_view::Palette;
use vshelf_view::words::ago;

use crate::activity::Activity;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::marks::end_of_support;
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// The groups of commands in the overview.
pub const GROUPS: [&str; 4] = ["See", "Use", "Keep", "Connect"];

/// A command as the command line sees it.
pub struct Entry {
    /// Its name.
    pub name: &'static str,
    /// Its group in the overview.
    pub group: &'static str,
    /// Builds its parser.
    pub build: fn() -> Command,
    /// Runs it.
    pub run: fn(&ArgMatches, &Ui, &Context) -> Outcome,
}

/// A command: its arguments, whose doc comment is the help text, and what it does.
trait CommandArgs: Args + FromArgMatches {
    /// The command's name.
    const NAME: &'static str;
    /// Its group in the overview.
    const GROUP: &'static str;
    /// Does it.
    fn run(self, ui: &Ui, context: &Context) -> Outcome;
}

fn entry<C: CommandArgs>() -> Entry {
    Entry {
        name: C::NAME,
        group: C::GROUP,
        build: || {
            let command = Command::new(C::NAME).disable_help_flag(true);
            C::augment_args(command)
        },
        run: |matches, ui, context| {
            C::from_arg_matches(matches)
                .map_err(|error| Failure::new(Kind::Usage, error.to_string()))?
                .run(ui, context)
        },
    }
}

/// Every command, in the order of the overview.
pub fn all() -> Vec<Entry> {
    vec![
        entry::<catalog::Catalog>(),
        entry::<timeline::Timeline>(),
        entry::<browse::Browse>(),
        entry::<list::List>(),
        entry::<status::Status>(),
        entry::<explain::Explain>(),
        entry::<path::Path>(),
        entry::<checkup::Checkup>(),
        entry::<history::History>(),
        entry::<config::Config>(),
        entry::<install::Install>(),
        entry::<switch::Switch>(),
        entry::<default::Default>(),
        entry::<pin::Pin>(),
        entry::<label::Label>(),
        entry::<run::Run>(),
        entry::<adopt::Adopt>(),
        entry::<remove::Remove>(),
        entry::<tidy::Tidy>(),
        entry::<restore::Restore>(),
        entry::<renew::Renew>(),
        entry::<carry::Carry>(),
        entry::<mirror::Mirror>(),
        entry::<setup::Setup>(),
        entry::<hook::Hook>(),
        entry::<launchers::Launchers>(),
        entry::<suggest::Suggest>(),
        entry::<runtimes::Runtimes>(),
        entry::<demo::Demo>(),
    ]
}

/// Writes a report as JSON.
fn print_json(ui: &Ui, report: &impl Serialize) -> Outcome {
    let text = serde_json::to_string_pretty(report)
        .map_err(|error| Failure::new(Kind::Other, error.to_string()))?;
    ui.result(text)
}

/// Says how old the catalog is, where its source could not be asked.
fn say_age(ui: &Ui, runtime: &Runtime<'_>) {
    let Some(loaded) = runtime.kept_catalog() else {
        return;
    };
    let confirmed = loaded.origin.confirmed.to_zoned(TimeZone::UTC).date();
    let now = runtime.context().today().unwrap_or(runtime.today);
    let age = format!(
        "The catalog of {} was last confirmed {}",
        runtime.definition.title,
        ago(confirmed, now)
    );
    match &loaded.origin.not_renewed {
        Some(reason) => ui.note(styled(Palette::WARNING, format!("{age}: {reason}."))),
        None if runtime.context().transport.is_offline() => ui.note(format!("{age}.")),
        None => {
            let serving = &loaded.origin.source;
            for (source, reason) in runtime.passed_over() {
                ui.note(format!(
                    "The source {source} is passed over: {reason}. {serving} serves."
                ));
            }
        }
    }
}

/// Notes what is the matter with the default and the project's wish: an ended line, a security
/// release that is out. Nobody is asked for it.
fn say_concerns(ui: &Ui, runtime: &Runtime<'_>, activity: &Activity) {
    let default = runtime
        .default_key()
        .map(|key| ("The default", key, " --default"));
    let pin = activity.pin().and_then(|pin| pin.met_by.clone());
    let pin = pin.map(|key| ("What the project here wants", key, ""));
    let mut seen = Vec::new();
    for (who, key, option) in default.into_iter().chain(pin) {
        let Some(install) = runtime.install(&key) else {
            continue;
        };
        if seen.contains(&key) {
            continue;
        }
        let version = &install.shelved.version;
        let line = runtime.outline().line_of(version);
        if let Some(line) = line
            && line.phase_on(runtime.today) == Phase::Ended
        {
            let end = end_of_support(Some(line), runtime.today);
            let text = format!(
                "{who}, {key}, is of a line that is no longer supported: {} ended on {end}.",
                line.name
            );
            ui.note(styled(Palette::WARNING, text));
        }
        if let Some(newer) = runtime
            .newer_than(&install.shelved)
            .filter(|newer| newer.security)
        {
            let text = format!(
                "{who}, {key}, lacks a security release: {} is out.",
                newer.version
            );
            ui.note(styled(Palette::WARNING, text));
            let prefix = runtime.context().prefix(runtime.name()).unwrap_or_default();
            ui.next(
                "To get it",
                &format!("vshelf install {prefix}{}{option}", newer.version),
            );
        }
        seen.push(key);
    }
}
