//! What was typed, with the runtime that it left out.

use std::ffi::OsString;

use clap::{ArgMatches, Command};

use super::meant::joined;
use crate::commands::command::CommandEntry;
use crate::failure::Failure;

/// What stands where a selector can have its runtime in front.
const SELECTORS: [&str; 2] = ["SELECTOR", "LINE"];

/// A failure for want of a runtime, with the same words for each runtime there is.
pub fn with_each_runtime(
    failure: Failure,
    entry: &CommandEntry,
    matches: &ArgMatches,
    words: &[OsString],
) -> Failure {
    let runtimes = failure.runtimes.clone();
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

/// The words behind the program's name, with this runtime in front of each selector; where there is
/// none it stands behind the command.
fn naming(command: &Command, matches: &ArgMatches, words: &[&str], runtime: &str) -> String {
    let selectors = command.get_arguments().filter(|argument| {
        let names = argument.get_value_names().unwrap_or_default();
        names.iter().any(|name| SELECTORS.contains(&name.as_str()))
    });
    let typed: Vec<&str> = selectors
        .filter_map(|argument| matches.get_raw(argument.get_id().as_str()))
        .flatten()
        .filter_map(|value| value.to_str())
        .filter(|value| !value.contains('@'))
        .collect();
    // What stands behind `--` belongs to another program.
    let own = words
        .iter()
        .position(|word| *word == "--")
        .unwrap_or(words.len());
    let (own, others) = words.split_at(own);
    let mut named: Vec<String> = own.iter().map(|word| (*word).to_owned()).collect();
    let is_option = |word: &str| {
        word.strip_prefix("--")
            .is_some_and(|rest| rest.contains('='))
    };
    for word in named.iter_mut().skip(1) {
        let selector = match word.split_once('=') {
            Some((_, value)) if is_option(word) => value,
            _ => word,
        };
        if typed.contains(&selector) {
            let at = word.len() - selector.len();
            word.insert_str(at, &format!("{runtime}@"));
        }
    }
    if typed.is_empty() {
        let behind = named.iter().position(|word| word == command.get_name());
        named.insert(behind.map_or(named.len(), |at| at + 1), runtime.to_owned());
    }
    let named = named.iter().map(String::as_str);
    joined(named.chain(others.iter().copied()))
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
            ("carry --from 6 --to=8", "carry --from sedge@6 --to=sedge@8"),
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
