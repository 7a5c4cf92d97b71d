//! What can stand where a selector or a runtime is typed. Where nothing can be read nothing is
//! suggested: the command itself says why.

use std::collections::HashSet;

use vshelf_app::keep::history;
use vshelf_app::runtime::opening;
use vshelf_app::{Activity, Environment, Runtime, definitions, labels};
use vshelf_core::selector::KEYWORDS;
use vshelf_shelf::journal::HistoryEntry;
use vshelf_sources::cache::Excerpt;

use super::history::why;
use crate::wording::versions::marks;

/// How many releases are suggested for one beginning: more is no choice.
const MOST_RELEASES: usize = 80;

/// What can stand there, and what it is.
pub type Suggestion = (String, String);

/// The person's labels.
pub fn labels(environment: &Environment) -> Vec<Suggestion> {
    let (labels, _) = labels::all(environment).unwrap_or_default();
    let labels = labels.into_iter();
    let suggested = labels.map(|label| (label.name, format!("label: {}", label.selector)));
    suggested.collect()
}

/// What was removed, newest first.
pub fn gone(environment: &Environment) -> Vec<Suggestion> {
    let read = history::read(environment).map(|lines| lines.entries);
    let mut entries = read.unwrap_or_default();
    entries.retain(HistoryEntry::removed);
    let mut seen = HashSet::new();
    let suggested = entries.into_iter().rev().map(|entry| {
        let prefix = environment.prefix(&entry.record.runtime);
        let selector = format!("{prefix}{}", entry.record.version);
        (selector, why(&entry).join(", "))
    });
    suggested
        .filter(|(selector, _)| seen.insert(selector.clone()))
        .collect()
}

/// The runtimes that are known, each with this ending.
pub fn runtimes(environment: &Environment, ending: &str) -> Vec<Suggestion> {
    // Where nothing can be read, nothing is suggested: the command itself says why.
    let folders = environment.folders().ok();
    let names = folders.and_then(|folders| definitions::names(folders).ok());
    let titled = names.into_iter().flatten().filter_map(|name| {
        let title = environment.definition(&name).ok()?.title.clone();
        Some((format!("{name}{ending}"), title))
    });
    titled.collect()
}

/// Among what versions are suggested.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Among {
    /// What is on the shelf.
    Shelf,
    /// What is published.
    Published,
}

/// The versions and names that selectors can be.
pub fn versions(environment: &Environment, typed: &str, among: Among) -> Vec<Suggestion> {
    let named = typed.split_once('@').map(|(name, _)| name);
    let runtime = match named {
        Some(_) => Runtime::named(environment, named),
        None => opening::meant(environment),
    };
    let Ok(runtime) = runtime else {
        return runtimes(environment, "@");
    };
    let prefix = named.map(|name| format!("{name}@")).unwrap_or_default();
    let mut found = match among {
        Among::Shelf => on_shelf(&runtime),
        Among::Published => published(&runtime, &typed[prefix.len()..]),
    };
    let mut names: Vec<Suggestion> = Vec::new();
    for (label, selector) in &runtime.snapshot.state.labels {
        names.push((label.clone(), format!("label: {selector}")));
    }
    let catalog = runtime.published.outline();
    for line in &catalog.lines {
        if let Some(codename) = &line.codename {
            let phase = line.phase_on(runtime.today());
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
    let means_something = |(name, _): &Suggestion| {
        among == Among::Published
            || (name.parse())
                .is_ok_and(|request| runtime.choosing().pick_meeting(&request).is_some())
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
    let choosing = runtime.choosing();
    let now = match among {
        Among::Shelf => {
            (choosing.pick_meeting(&request)).map(|pick| runtime.names().selector_of_pick(&pick))
        }
        // Only the newest releases of lines matter.
        Among::Published => (choosing.newest_of_line(&request)).map(|version| version.to_string()),
    };
    match (word, now.filter(|now| now != word)) {
        (_, Some(now)) => format!("now {now}"),
        ("system", None) => "the system's own copy".to_owned(),
        ("previous", None) => "what this shell used before".to_owned(),
        (_, None) => String::new(),
    }
}

fn on_shelf(runtime: &Runtime<'_>) -> Vec<Suggestion> {
    let activity = Activity::of(runtime);
    let installs = runtime
        .names()
        .installs_main_first()
        .into_iter()
        .map(|install| {
            let phase = runtime.published.phase_of(&install.id.version);
            let phase = phase.map(|phase| phase.to_string());
            let marks = marks(runtime, &activity, &install.id.key);
            let about: Vec<String> = phase.into_iter().chain(marks).collect();
            (
                runtime.names().selector_of(&install.id.key),
                about.join(", "),
            )
        });
    installs.collect()
}

/// The lines, then the releases that begin as typed, newest first.
fn published(runtime: &Runtime<'_>, typed: &str) -> Vec<Suggestion> {
    let platform = runtime.environment().platform();
    let main = runtime.published.outline().main_publisher_id();
    let excerpt = Excerpt {
        is_named: &|version, publisher| {
            if main == Some(publisher) {
                version.starts_with(typed)
            } else {
                format!("{publisher}/{version}").starts_with(typed)
            }
        },
        counts: &|release| release.withdrawn.is_none() && release.runs_on(platform),
        most: MOST_RELEASES,
    };
    let catalogs = runtime.environment().catalogs().ok();
    let catalog = catalogs.and_then(|kept| kept.merged_excerpt(&runtime.definition, &excerpt));
    let Some(catalog) = catalog else {
        return Vec::new();
    };
    let lines = catalog.lines.iter().map(|line| {
        let phase = line.phase_on(runtime.today());
        let about = format!("the newest of line {}, {phase}", line.name);
        (line.name.clone(), about)
    });
    let releases = catalog.releases.iter().map(|release| {
        let spelled = catalog.selector_for(&release.version, &release.publisher);
        let date = release.date.map(|date| date.to_string());
        let security = release.fixes_security().then(|| "security".to_owned());
        let about: Vec<String> = date.into_iter().chain(security).collect();
        (spelled, about.join(", "))
    });
    lines.chain(releases).collect()
}
