//! What was typed, with the runtime that it left out.

use std::ffi::OsString;

use clap::{ArgMatches, Command};

use vshelf_app::Environment;
use vshelf_app::runtime::opening;
use vshelf_core::meant::spelling;
use vshelf_shelf::Shelf;

use crate::commands::command::CommandEntry;
use crate::failure::{Class, Failure, Hint};
use crate::wording::advice::joined;

/// What stands where a selector can have its runtime in front.
const SELECTORS: [&str; 4] = ["SELECTOR", "LINE", "FROM", "TO"];

/// The number of runtimes that are proposed at most.
const MOST: usize = 2;

/// The commands that choose among installs.
const OF_INSTALLS: [&str; 7] = [
    "switch", "default", "run", "path", "remove", "carry", "renew",
];

/// A failure for want of a runtime, with the same words for the runtimes that are most likely meant.
pub fn with_likely_runtimes(
    failure: Failure,
    entry: &CommandEntry,
    matches: &ArgMatches,
    words: &[OsString],
    environment: &Environment,
) -> Failure {
    if failure.runtimes.is_empty() {
        return failure;
    }
    let is_empty = environment
        .folders()
        .is_ok_and(|folders| Shelf::runtimes(folders).is_ok_and(|names| names.is_empty()));
    if is_empty && OF_INSTALLS.contains(&entry.name) {
        return Failure::new(Class::NoMatch, "nothing is installed yet")
            .run("To see what can be installed", "vshelf runtimes");
    }
    let mut runtimes = opening::likely(environment, failure.runtimes.clone());
    runtimes.truncate(MOST);
    let Some(words) = words
        .iter()
        .map(|word| word.to_str())
        .collect::<Option<Vec<_>>>()
    else {
        return failure;
    };
    let command = (entry.build)();
    let Some(first) = runtimes.first() else {
        return failure;
    };
    let always = format!("vshelf runtimes --main {first}");
    let named = runtimes.iter().fold(failure, |failure, runtime| {
        let words = naming(&command, matches, &words[1..], runtime);
        failure.run(format!("For {runtime}"), format!("vshelf {words}"))
    });
    named.run("To mean one of them always", always)
}

/// A failure over a selector that is spelled as elsewhere, with the same words in our spelling.
pub fn with_our_spelling(
    failure: Failure,
    entry: &CommandEntry,
    matches: &ArgMatches,
    words: &[OsString],
    environment: &Environment,
) -> Failure {
    if !matches!(failure.class, Class::Usage | Class::NoMatch) {
        return failure;
    }
    let words: Option<Vec<&str>> = words[1..].iter().map(|word| word.to_str()).collect();
    let Some(words) = words else {
        return failure;
    };
    let command = (entry.build)();
    let runtimes = opening::titles(environment);
    let names: Vec<String> = runtimes.iter().map(|(name, _)| name.clone()).collect();
    let ours = rewritten(&command, matches, &words, |selector| {
        spelling::runtime_of_title(selector, &runtimes).or_else(|| spelling::ours(selector, &names))
    });
    match ours == words {
        true => failure,
        false => {
            let ours = joined(ours.iter().map(String::as_str));
            let mut failure = failure;
            let meant = Hint::Run {
                why: "You probably meant".to_owned(),
                command: format!("vshelf {ours}"),
            };
            failure.hints.insert(0, meant);
            failure
        }
    }
}

/// The words behind the program's name, with this runtime in front of each selector; where there is
/// none it stands behind the command.
fn naming(command: &Command, matches: &ArgMatches, words: &[&str], runtime: &str) -> String {
    let mut named = rewritten(command, matches, words, |selector| {
        (!selector.contains('@')).then(|| format!("{runtime}@{selector}"))
    });
    if selectors(command, matches).is_empty() {
        let behind = named.iter().position(|word| word == command.get_name());
        named.insert(behind.map_or(named.len(), |at| at + 1), runtime.to_owned());
    }
    joined(named.iter().map(String::as_str))
}

/// The selectors that were typed.
fn selectors<'m>(command: &Command, matches: &'m ArgMatches) -> Vec<&'m str> {
    let arguments = command.get_arguments().filter(|argument| {
        let names = argument.get_value_names().unwrap_or_default();
        names.iter().any(|name| SELECTORS.contains(&name.as_str()))
    });
    let values = arguments.filter_map(|argument| matches.get_raw(argument.get_id().as_str()));
    values
        .flatten()
        .filter_map(|value| value.to_str())
        .collect()
}

/// The words with another text for each selector that has one.
fn rewritten(
    command: &Command,
    matches: &ArgMatches,
    words: &[&str],
    other: impl Fn(&str) -> Option<String>,
) -> Vec<String> {
    let typed = selectors(command, matches);
    let mut is_own = true;
    let mut is_command = true;
    let rewrite = |word: &&str| {
        // What stands behind `--` belongs to another program, and the command is no selector.
        is_own &= *word != "--";
        if std::mem::take(&mut is_command) || !is_own {
            is_command = is_own && word.starts_with('-');
            return (*word).to_owned();
        }
        let (option, selector) = match word.split_once('=') {
            Some((option, value)) if option.starts_with("--") => (Some(option), value),
            _ => (None, *word),
        };
        match other(selector).filter(|_| typed.contains(&selector)) {
            Some(other) => option.map_or(other.clone(), |option| format!("{option}={other}")),
            None => (*word).to_owned(),
        }
    };
    words.iter().map(rewrite).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commands;

    #[test]
    fn a_runtime_is_put_in_front_of_each_selector() {
        let cases = [
            ("install lts", "install sedge@lts"),
            ("install 8 sedge@9 6", "install sedge@8 sedge@9 sedge@6"),
            (
                "--quiet install 8 --switch",
                "--quiet install sedge@8 --switch",
            ),
            ("install >=6 <8", "install 'sedge@>=6' 'sedge@<8'"),
            ("carry 6 8", "carry sedge@6 sedge@8"),
            (
                "install 9 --carry-from=8",
                "install sedge@9 --carry-from=sedge@8",
            ),
            ("label board 6", "label board sedge@6"),
            ("run 8 -- marram 8", "run sedge@8 -- marram 8"),
            ("renew 6", "renew sedge@6"),
            ("catalog", "catalog sedge"),
            ("catalog --all", "catalog sedge --all"),
            ("timeline", "timeline sedge"),
        ];
        let entries = commands::all();
        for (typed, expected) in cases {
            let words: Vec<&str> = typed.split(' ').collect();
            let entry = entries
                .iter()
                .find(|entry| words.contains(&entry.name))
                .unwrap();
            let command = (entry.build)();
            let own = words.iter().filter(|word| **word != "--quiet");
            let matches = command.clone().try_get_matches_from(own).unwrap();
            assert_eq!(naming(&command, &matches, &words, "sedge"), expected);
        }
    }
}
