//! `vshelf suggest`: what can stand where a person is typing, for completion in shells.

use std::collections::HashSet;

use clap::{Arg, Args, Command};
use vshelf_core::resolve::{Choice, Scope};
use vshelf_core::selector::KEYWORDS;
use vshelf_view::words::printable;

use super::CommandArgs;
use crate::activity::Activity;
use crate::context::Context;
use crate::definitions;
use crate::failure::Outcome;
use crate::keeping::record;
use crate::marks::marks;
use crate::runtime::Runtime;
use crate::ui::Ui;

/// How many releases are suggested for one beginning: more is no choice.
const MOST_RELEASES: usize = 80;

/// Print what can stand where you are typing
///
/// The completion of shells asks for it: a candidate and what it is, a line each with a tab between.
/// Everything comes from this machine; no server is asked.
#[derive(Debug, Args)]
pub struct Suggest {
    /// The words behind vshelf, the one that is being typed last
    #[arg(value_name = "WORD", last = true)]
    words: Vec<String>,
}

/// A candidate, and what it is.
type Candidate = (String, String);

impl CommandArgs for Suggest {
    const NAME: &'static str = "suggest";
    const GROUP: &'static str = "Connect";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let (typed, before) = match self.words.split_last() {
            Some((typed, before)) => (typed.as_str(), before),
            None => ("", &[] as &[String]),
        };
        for (candidate, about) in candidates(context, typed, before) {
            if candidate.starts_with(typed) {
                ui.result(format!("{candidate}\t{}", printable(&about)))?;
            }
        }
        Ok(())
    }
}

/// What can stand behind the words `before`; `typed` only decides which kind is looked for.
fn candidates(context: &Context, typed: &str, before: &[String]) -> Vec<Candidate> {
    let entries = super::all();
    let named = before.iter().find(|word| !word.starts_with('-'));
    let entry = named.and_then(|name| entries.iter().find(|entry| entry.name == *name));
    let Some(entry) = entry else {
        let about = |command: Command| command.get_about().map(ToString::to_string);
        return (entries.iter())
            .map(|entry| {
                let about = about((entry.build)()).unwrap_or_default();
                (entry.name.to_owned(), about)
            })
            .collect();
    };
    let command = (entry.build)();
    let option = before.last().and_then(|word| option_named(&command, word));
    if let Some(option) = option.filter(|option| option.get_action().takes_values()) {
        return values_of(context, option.get_id().as_str());
    }
    if typed.starts_with('-') {
        return (command.get_arguments())
            .filter_map(|option| Some((format!("--{}", option.get_long()?), help_of(option))))
            .collect();
    }
    match entry.name {
        "switch" | "default" | "run" | "remove" | "path" | "checkup" | "renew" => {
            versions(context, typed, Among::Shelf)
        }
        "install" | "catalog" | "explain" | "pin" | "label" => {
            versions(context, typed, Among::Published)
        }
        "list" | "status" | "tidy" | "history" => runtimes(context, "@"),
        "restore" => gone(context),
        "hook" => values_of(context, "shell"),
        _ => Vec::new(),
    }
}

/// What was taken off the shelf, newest first.
fn gone(context: &Context) -> Vec<Candidate> {
    let mut events = record::history(context).unwrap_or_default();
    events.retain(|event| event.deed.takes_off());
    let candidates = events.into_iter().rev().map(|event| {
        let prefix = context.prefix(&event.receipt.runtime).unwrap_or_default();
        (
            format!("{prefix}{}", event.receipt.version),
            event.reasons.join(", "),
        )
    });
    let mut candidates: Vec<Candidate> = candidates.collect();
    let mut seen = HashSet::new();
    candidates.retain(|(candidate, _)| seen.insert(candidate.clone()));
    candidates
}

fn option_named<'c>(command: &'c Command, word: &str) -> Option<&'c Arg> {
    let name = word.strip_prefix("--")?;
    command
        .get_arguments()
        .find(|option| option.get_long() == Some(name))
}

fn help_of(option: &Arg) -> String {
    option
        .get_help()
        .map(ToString::to_string)
        .unwrap_or_default()
}

/// The values of an option that has a few.
fn values_of(context: &Context, option: &str) -> Vec<Candidate> {
    match option {
        "shell" => vshelf_shell::Dialect::ALL
            .map(|dialect| (dialect.name().to_owned(), String::new()))
            .to_vec(),
        "main" => runtimes(context, ""),
        "from" | "to" | "carry_from" | "include" | "except" | "keep" | "let_go" => {
            versions(context, "", Among::Shelf)
        }
        _ => Vec::new(),
    }
}

fn runtimes(context: &Context, ending: &str) -> Vec<Candidate> {
    // Where nothing can be read, nothing is suggested: the command itself says why.
    let folders = context.folders().ok();
    let names = folders.and_then(|folders| definitions::names(&folders.config).ok());
    let titled = names.into_iter().flatten().filter_map(|name| {
        let title = context.definition(&name).ok()?.title;
        Some((format!("{name}{ending}"), title))
    });
    titled.collect()
}

/// Among what versions are suggested.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Among {
    /// What is on the shelf.
    Shelf,
    /// What is published.
    Published,
}

fn versions(context: &Context, typed: &str, among: Among) -> Vec<Candidate> {
    let named = typed.split_once('@').map(|(name, _)| name);
    let Ok(runtime) = context.runtime(named) else {
        return runtimes(context, "@");
    };
    let prefix = named.map(|name| format!("{name}@")).unwrap_or_default();
    let mut found = match among {
        Among::Shelf => on_shelf(&runtime),
        Among::Published => published(&runtime, &typed[prefix.len()..]),
    };
    let mut names: Vec<Candidate> = Vec::new();
    for (label, selector) in &runtime.state.labels {
        names.push((label.clone(), format!("label: {selector}")));
    }
    let catalog = runtime.outline();
    for line in &catalog.lines {
        if let Some(codename) = &line.codename {
            let phase = line.phase_on(runtime.today);
            let about = format!("line {}, {phase}", line.name);
            names.push((codename.to_lowercase(), about));
        }
    }
    for (channel, selector) in &catalog.channels {
        names.push((channel.clone(), format!("channel: {selector}")));
    }
    for word in KEYWORDS {
        // A channel may have the name of a word, and then is what it means.
        if names.iter().all(|(name, _)| name != word) {
            names.push((word.to_owned(), meaning(&runtime, word, among)));
        }
    }
    // Of names, those that stand for something on the shelf.
    let means_something = |(name, _): &Candidate| {
        among == Among::Published
            || (name.parse()).is_ok_and(|request| runtime.key_meeting(&request).is_some())
    };
    found.extend(names.into_iter().filter(means_something));
    for (candidate, _) in &mut found {
        candidate.insert_str(0, &prefix);
    }
    found
}

/// What a word stands for now.
fn meaning(runtime: &Runtime<'_>, word: &str, among: Among) -> String {
    let Ok(request) = word.parse() else {
        return String::new();
    };
    let key = match among {
        Among::Shelf => runtime.key_meeting(&request),
        Among::Published => {
            let choice = runtime.explain(&request, Scope::Published).outcome.ok();
            choice.map(|choice| match choice {
                Choice::Version(chosen) => chosen.version.to_string(),
                Choice::System => "system".to_owned(),
            })
        }
    };
    match key.filter(|key| key != word) {
        Some(key) => format!("now {key}"),
        None => String::new(),
    }
}

fn on_shelf(runtime: &Runtime<'_>) -> Vec<Candidate> {
    let activity = Activity::of(runtime);
    let installs = runtime.installs.iter().map(|install| {
        let line = runtime.outline().line_of(&install.shelved.version);
        let phase = line.map(|line| line.phase_on(runtime.today).to_string());
        let marks = marks(runtime, &activity, &install.shelved.key);
        let about: Vec<String> = phase.into_iter().chain(marks).collect();
        (runtime.spelled(&install.shelved), about.join(", "))
    });
    installs.collect()
}

/// The lines, then the releases that begin as typed, newest first.
fn published(runtime: &Runtime<'_>, typed: &str) -> Vec<Candidate> {
    let Some(loaded) = runtime.kept_catalog() else {
        return Vec::new();
    };
    let catalog = &loaded.catalog;
    let main = catalog
        .main_publisher()
        .map(|publisher| publisher.id.as_str());
    let mut found = Vec::new();
    for line in &catalog.lines {
        let phase = line.phase_on(runtime.today);
        found.push((
            line.name.clone(),
            format!("the newest of line {}, {phase}", line.name),
        ));
    }
    let platform = &runtime.context().platform;
    let releases = catalog
        .releases
        .iter()
        .filter(|release| release.withdrawn.is_none() && release.runs_on(platform));
    let named = releases.map(|release| {
        let version = release.version.as_str();
        let spelled = match main == Some(&*release.publisher) {
            true => version.to_owned(),
            false => format!("{}/{version}", release.publisher),
        };
        let date = release.date.map(|date| date.to_string());
        let security = release.security.then(|| "security".to_owned());
        let about: Vec<String> = date.into_iter().chain(security).collect();
        (spelled, about.join(", "))
    });
    let fitting = named.filter(|(spelled, _)| spelled.starts_with(typed));
    found.extend(fitting.take(MOST_RELEASES));
    found
}
