//! `vshelf suggest`: what can stand where a person is typing, for completion in shells.

use clap::{Arg, Args, Command};
use vshelf_app::Environment;
use vshelf_app::error::shell_names;
use vshelf_app::integrate::connect;
use vshelf_shell::connection::package_completion;
use vshelf_view::words::printable;

use super::command::{CommandArgs, CommandEntry};
use crate::failure::Outcome;
use crate::output::suggestions::{self, Among, Suggestion};
use crate::ui::Ui;

/// Print completions for the word that you are typing
///
/// The completion of shells asks for it: a candidate and what it is, a line each with a tab between.
/// Everything comes from this machine; no server is asked.
#[derive(Debug, Args)]
pub struct Suggest {
    /// The words behind vshelf, the one that is being typed last
    #[arg(value_name = "WORD", last = true)]
    words: Vec<String>,
    /// Print the completion of this shell that packages install for shells that are not connected
    #[arg(long, value_name = "SHELL", hide = true, conflicts_with = "words")]
    for_package: Option<String>,
}

impl CommandArgs for Suggest {
    const NAME: &'static str = "suggest";
    const GROUP: &'static str = "Connect";
}

impl Suggest {
    /// Prints what can stand there of these commands and of what they take.
    pub fn among(self, commands: &[CommandEntry], ui: &Ui, environment: &Environment) -> Outcome {
        if let Some(shell) = &self.for_package {
            let text = package_completion(connect::read_shell(shell)?).unwrap_or_default();
            return ui.result(text.trim_end());
        }
        let (typed, before) = match self.words.split_last() {
            Some((typed, before)) => (typed.as_str(), before),
            None => ("", &[] as &[String]),
        };
        for (candidate, about) in candidates(commands, environment, typed, before) {
            if candidate.starts_with(typed) {
                ui.result(format!("{candidate}\t{}", printable(&about)))?;
            }
        }
        Ok(())
    }
}

/// What can stand behind the words `before`; `typed` only decides which kind is looked for.
fn candidates(
    commands: &[CommandEntry],
    environment: &Environment,
    typed: &str,
    before: &[String],
) -> Vec<Suggestion> {
    let named = before.iter().find(|word| !word.starts_with('-'));
    let entry = named.and_then(|name| commands.iter().find(|entry| entry.name == *name));
    let Some(entry) = entry else {
        return commands.iter().map(about_command).collect();
    };
    let command = (entry.build)();
    let option = before.last().and_then(|word| option_named(&command, word));
    if let Some(option) = option.filter(|option| option.get_action().takes_values()) {
        return match (entry.name, option.get_id().as_str()) {
            ("label", "remove") => suggestions::labels(environment),
            ("runtimes", "remove") => suggestions::runtimes(environment, ""),
            (_, option) => values_of(environment, option),
        };
    }
    if typed.starts_with('-') {
        return (command.get_arguments())
            .filter(|option| !option.is_hide_set())
            .filter_map(|option| Some((format!("--{}", option.get_long()?), help_of(option))))
            .collect();
    }
    match entry.name {
        "switch" | "default" | "run" | "remove" | "path" | "checkup" | "renew" => {
            suggestions::versions(environment, typed, Among::Shelf)
        }
        "label" if before.last().is_some_and(|word| word == "label") => {
            suggestions::labels(environment)
        }
        "install" | "catalog" | "explain" | "require" | "label" => {
            suggestions::versions(environment, typed, Among::Published)
        }
        "list" | "status" | "tidy" | "history" => suggestions::runtimes(environment, "@"),
        "restore" => suggestions::gone(environment),
        "connect" => shells(),
        _ => Vec::new(),
    }
}

fn shells() -> Vec<Suggestion> {
    let named = shell_names().into_iter();
    named.map(|name| (name.to_owned(), String::new())).collect()
}

fn about_command(entry: &CommandEntry) -> Suggestion {
    let about = (entry.build)().get_about().map(ToString::to_string);
    (entry.name.to_owned(), about.unwrap_or_default())
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
fn values_of(environment: &Environment, option: &str) -> Vec<Suggestion> {
    match option {
        "print" => shells(),
        "main" => suggestions::runtimes(environment, ""),
        "carry_from" | "except" => suggestions::versions(environment, "", Among::Shelf),
        _ => Vec::new(),
    }
}
