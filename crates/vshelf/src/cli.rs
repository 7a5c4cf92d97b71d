//! From words on the command line to a command, and from its outcome to an exit code.

use std::ffi::OsString;
use std::mem;
use std::num::ParseIntError;
use std::process::ExitCode;

use clap::{ArgAction, Args, Command, FromArgMatches};
use vshelf_app::integrate::renewal;
use vshelf_app::variables::Variables;
use vshelf_app::{Environment, definitions, session};
use vshelf_core::meant::habit;

use crate::commands;
use crate::commands::command::CommandEntry;
use crate::exit;
use crate::failure::{Class, Failure, Outcome};
use crate::help::{examples, named, overview, topics};
use crate::log;
use crate::ui::{Colour, Ui};
use crate::wording::advice::joined;

/// What goes with every command.
#[derive(Clone, Copy, Debug, Args)]
#[command(next_help_heading = "With every command")]
struct GlobalArgs {
    /// What the command does, and its options; `vshelf help COMMAND` says more
    #[arg(long, short, global = true, action = ArgAction::HelpShort)]
    help: Option<bool>,
    /// The long help
    #[arg(long = WHOLE_HELP, global = true, hide = true, action = ArgAction::HelpLong)]
    whole_help: Option<bool>,
    /// Print nothing but what was asked for
    #[arg(long, short, global = true)]
    quiet: bool,
    /// Answer yes to what the command asks before it goes on
    #[arg(long, short, global = true)]
    yes: bool,
    /// Ask no server; use what is on this machine
    #[arg(long, global = true)]
    offline: bool,
    /// When to colour the output: auto, always or never
    #[arg(
        long,
        global = true,
        value_enum,
        value_name = "WHEN",
        default_value = "auto",
        hide_default_value = true,
        hide_possible_values = true
    )]
    color: Colour,
}

/// What `vshelf help COMMAND` becomes an option of.
const WHOLE_HELP: &str = "whole-help";

/// Runs the command line and says how it ended.
pub fn run(words: Vec<OsString>) -> ExitCode {
    if let Some(text) = topic_of(&words) {
        let ui = Ui::new(Colour::Auto, false);
        return end(&ui, ui.result(text.trim_end()));
    }
    let entries = commands::all();
    let words = as_option(words, &entries);
    let matches = match parser(&entries, &words).try_get_matches_from(&words) {
        Ok(matches) => matches,
        Err(error) => return usage(&entries, &words, &error),
    };
    let global = GlobalArgs::from_arg_matches(&matches).unwrap_or(GlobalArgs {
        help: None,
        whole_help: None,
        color: Colour::Auto,
        quiet: false,
        yes: false,
        offline: false,
    });
    let ui = Ui::new(global.color, global.quiet).answering_yes(global.yes);
    if let Err(failure) = log::begin() {
        return end(&ui, Err(failure));
    }
    let environment = Environment::new(&Variables::of_process(), global.offline);
    let mut environment = environment.asking(ui.runtime_chooser());
    if let Some(on_wait) = ui.on_wait() {
        environment.transport = environment.transport.watched_by(on_wait);
    }
    if environment.shell.dialect().is_some() {
        // What cannot be read or written is the command's to tell; the shell goes on with what it has.
        renewal::renew_where_other(&environment).unwrap_or_default();
    }
    let outcome = match matches.subcommand() {
        Some((name, matches)) => match entries.iter().find(|entry| entry.name == name) {
            Some(entry) => (entry.run)(matches, &ui, &environment)
                .map_err(|failure| {
                    named::with_likely_runtimes(failure, entry, matches, &words, &environment)
                })
                .map_err(|failure| {
                    named::with_our_spelling(failure, entry, matches, &words, &environment)
                }),
            None => Err(Failure::new(
                Class::Usage,
                format!("{name:?} is not a command"),
            )),
        },
        None => ui.result(overview::short(&entries).trim_end()),
    };
    let told = outcome.and_then(|()| ui.kept_failure());
    let code = end(
        &ui,
        told.and_then(|()| Ok(session::hand_over(&environment, &ui)?)),
    );
    // The process ends now: the system takes its memory back at once, not piece by piece.
    mem::forget((environment, matches, entries));
    code
}

/// The text of `vshelf help selectors`.
fn topic_of(words: &[OsString]) -> Option<&'static str> {
    match words {
        [_, help, topic] if help == "help" => topics::text(topic.to_str()?),
        _ => None,
    }
}

/// `vshelf help install` is an option of `vshelf install`, and `vshelf help` the overview. `vshelf help` with a word that
/// is no command is that word.
fn as_option(mut words: Vec<OsString>, entries: &[CommandEntry]) -> Vec<OsString> {
    if words.get(1).is_some_and(|word| word == "help") {
        words.remove(1);
        words.truncate(2);
        match words
            .get(1)
            .map(|word| entries.iter().any(|entry| *word == entry.name))
        {
            None => words.push("--help".into()),
            Some(true) => words.push(format!("--{WHOLE_HELP}").into()),
            Some(false) => {}
        }
    }
    words
}

fn end(ui: &Ui, outcome: Outcome) -> ExitCode {
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            ui.failure(&failure);
            ExitCode::from(exit::code(failure.class))
        }
    }
}

/// The parser. Where the first word names a command only that one is built: building all of them
/// costs more than most commands do.
fn parser(entries: &[CommandEntry], words: &[OsString]) -> Command {
    let first = words.get(1).and_then(|word| word.to_str());
    let root = GlobalArgs::augment_args(Command::new("vshelf"))
        .about("Keeps several versions of a language runtime side by side")
        .version(env!("CARGO_PKG_VERSION"))
        .disable_help_subcommand(true)
        .disable_help_flag(true)
        .max_term_width(100);
    match entries.iter().find(|entry| Some(entry.name) == first) {
        Some(entry) if asks_for_all(words) => root.subcommand(with_examples(entry)),
        Some(entry) => root.subcommand((entry.build)()),
        None => root
            .override_help(overview::all(entries))
            .subcommands(entries.iter().map(|entry| (entry.build)())),
    }
}

/// Whether these words ask for the long help.
fn asks_for_all(words: &[OsString]) -> bool {
    let last = words.last().and_then(|word| word.to_str());
    last.and_then(|word| word.strip_prefix("--")) == Some(WHOLE_HELP)
}

/// The parser of a command, with what only the long help and the manual page need.
fn with_examples(entry: &CommandEntry) -> Command {
    (entry.build)().after_long_help(examples::text(entry.name))
}

/// Words that are not understood, or that ask for help.
fn usage(entries: &[CommandEntry], words: &[OsString], error: &clap::Error) -> ExitCode {
    use clap::error::ErrorKind;
    let ui = Ui::new(Colour::Auto, false);
    if !error.use_stderr() {
        return end(&ui, ui.result(error.render().to_string().trim_end()));
    }
    let failure = match error.kind() {
        ErrorKind::InvalidSubcommand => unknown_command(entries, words, error),
        kind => {
            let words_read: Vec<&str> = words.iter().filter_map(|word| word.to_str()).collect();
            let meant = habit::run_without_dashes(&words_read)
                .or_else(|| habit::option_meant(&words_read))
                .or_else(|| habit::lock_of_version(&words_read))
                .or_else(|| habit::runtime_and_version(&words_read, &runtimes_known()))
                .or_else(|| (words_read[1..] == ["-v"]).then(|| vec!["--version".to_owned()]));
            let failure = misused(kind, error);
            match meant {
                Some(meant) => probably(failure, &meant),
                None => with_near_option(failure, entries, words, error)
                    .run("To see what there is", help_for(entries, words)),
            }
        }
    };
    end(&ui, Err(failure))
}

/// The form that a date or number has, for errors of their parsers.
fn in_our_words(cause: &(dyn std::error::Error + 'static)) -> Option<&'static str> {
    if cause.is::<jiff::Error>() {
        return Some("Write a date like 2026-11-23.");
    }
    cause
        .is::<ParseIntError>()
        .then_some("Write a whole number, such as 3.")
}

/// The names of the runtimes that are known here, as far as that can be read.
fn runtimes_known() -> Vec<String> {
    let environment = Environment::new(&Variables::of_process(), true);
    let names = environment.folders().and_then(definitions::names);
    names.unwrap_or_default()
}

/// A known command with arguments that it does not take.
fn misused(kind: clap::error::ErrorKind, error: &clap::Error) -> Failure {
    use clap::error::{ContextKind, ErrorKind};
    let context = |wanted: ContextKind| error.get(wanted).map(ToString::to_string);
    let argument = context(ContextKind::InvalidArg).unwrap_or_default();
    let value = context(ContextKind::InvalidValue).unwrap_or_default();
    let message = match kind {
        ErrorKind::UnknownArgument => format!("{argument:?} is not understood here"),
        ErrorKind::MissingRequiredArgument => format!("{argument} is missing"),
        ErrorKind::InvalidValue if value.is_empty() => format!("{argument} needs a value"),
        ErrorKind::InvalidValue | ErrorKind::ValueValidation => {
            format!("{value:?} is not a value for {argument}")
        }
        ErrorKind::ArgumentConflict => {
            let other = context(ContextKind::PriorArg).unwrap_or_default();
            format!("{argument} and {other} do not go together")
        }
        _ => {
            let text = error.render().to_string();
            let first = text.lines().next().unwrap_or_default();
            first.trim_start_matches("error: ").to_owned()
        }
    };
    let mut failure = Failure::new(Class::Usage, message);
    if let Some(valid) = context(ContextKind::ValidValue).filter(|valid| !valid.is_empty()) {
        failure = failure.say(format!("It takes {valid}."));
    }
    if let Some(cause) = std::error::Error::source(error) {
        failure = match in_our_words(cause) {
            Some(note) => failure.say(note),
            None => {
                failure.causes.push(cause.to_string());
                failure
            }
        };
    }
    failure
}

/// Adds the known option that an unknown one is near to.
fn with_near_option(
    failure: Failure,
    entries: &[CommandEntry],
    words: &[OsString],
    error: &clap::Error,
) -> Failure {
    use clap::error::{ContextKind, ErrorKind};
    let Some(typed) = error.get(ContextKind::InvalidArg) else {
        return failure;
    };
    if error.kind() != ErrorKind::UnknownArgument {
        return failure;
    }
    let known = long_options(command_of(entries, words));
    match habit::option(&typed.to_string(), known.iter().map(String::as_str)) {
        Some(near) => failure.say(format!("Did you mean {near}?")),
        None => failure,
    }
}

/// The long options that a command's help shows, and those of every command.
fn long_options(command: Option<&CommandEntry>) -> Vec<String> {
    let global = GlobalArgs::augment_args(Command::new("vshelf"));
    let commands = command.map(|entry| (entry.build)()).into_iter();
    let arguments = commands.chain([global]).flat_map(|command| {
        let shown = command
            .get_arguments()
            .filter(|argument| !argument.is_hide_set());
        let longs =
            shown.filter_map(|argument| argument.get_long().map(|long| format!("--{long}")));
        longs.collect::<Vec<_>>()
    });
    arguments.collect()
}

/// The command that the words name.
fn command_of<'e>(entries: &'e [CommandEntry], words: &[OsString]) -> Option<&'e CommandEntry> {
    let mut words = words.iter().skip(1).filter_map(|word| word.to_str());
    words.find_map(|word| entries.iter().find(|entry| entry.name == word))
}

fn help_for(entries: &[CommandEntry], words: &[OsString]) -> String {
    match command_of(entries, words) {
        Some(entry) => format!("vshelf {} --help", entry.name),
        None => "vshelf --help".to_owned(),
    }
}

/// Adds the command line that was probably meant.
fn probably(failure: Failure, meant: &[String]) -> Failure {
    failure.run("You probably meant", format!("vshelf {}", joined(meant)))
}

fn unknown_command(entries: &[CommandEntry], words: &[OsString], error: &clap::Error) -> Failure {
    use clap::error::{ContextKind, ContextValue};
    let typed = match error.get(ContextKind::InvalidSubcommand) {
        Some(ContextValue::String(typed)) => typed.clone(),
        _ => String::new(),
    };
    let names: Vec<&str> = entries.iter().map(|entry| entry.name).collect();
    let failure = Failure::new(Class::Usage, format!("{typed:?} is not a command"));
    if ["self-update", "selfupdate", "self"].contains(&typed.as_str()) {
        return failure
            .say("vshelf is updated in the way in which it was installed.")
            .run("To see its version", "vshelf --version");
    }
    // Options in front of the command are not part of what is meant.
    let words = words.iter().filter_map(|word| word.to_str());
    let words: Vec<&str> = words.skip_while(|word| *word != typed).collect();
    match habit::command(&words, &names) {
        Some(meant) => probably(failure, &meant),
        None => failure.run("To see the commands", "vshelf --help"),
    }
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};
    use std::fs;
    use std::path::Path;

    use clap_mangen::Man;

    use super::*;

    /// Every manual page by its file name.
    fn manuals() -> BTreeMap<String, Vec<u8>> {
        let entries = commands::all();
        let mut pages = BTreeMap::new();
        let mut render = |command: Command| {
            let name = format!("{}.1", command.get_name());
            let mut page = Vec::new();
            Man::new(command)
                .render(&mut page)
                .expect("memory takes all");
            pages.insert(name, page);
        };
        render(parser(&entries, &[]));
        for entry in &entries {
            // Names of commands live as long as the program.
            let name: &'static str = format!("vshelf-{}", entry.name).leak();
            let own = with_examples(entry);
            let about = own.get_about().cloned().unwrap_or_default();
            let whole = own
                .get_long_about()
                .cloned()
                .unwrap_or_else(|| about.clone());
            let command = GlobalArgs::augment_args(own).about(about).long_about(whole);
            render(command.name(name).bin_name(name.replacen('-', " ", 1)));
        }
        pages
    }

    /// `UPDATE_MAN=1 cargo test -p vshelf manual` writes them anew.
    #[test]
    fn the_manual_pages_are_those_of_the_commands() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/man");
        let pages = manuals();
        if std::env::var_os("UPDATE_MAN").is_some() {
            fs::create_dir_all(&folder).unwrap();
            for (name, page) in &pages {
                fs::write(folder.join(name), page).unwrap();
            }
        }
        for (name, page) in &pages {
            let kept = fs::read(folder.join(name)).unwrap_or_default();
            assert!(kept == *page, "{name} is not what the command's help says");
        }
        let kept = fs::read_dir(&folder).unwrap().count();
        assert_eq!(kept, pages.len(), "a page is there whose command is gone");
    }

    #[test]
    fn every_plain_word_stands_for_one_command_that_is_understood() {
        let entries = commands::all();
        let mut seen = BTreeSet::new();
        for (word, meant) in habit::plain_words() {
            assert!(seen.insert(word), "{word} stands for two");
            assert!(entries.iter().all(|entry| entry.name != word), "{word}");
            if meant[0] == "--version" || meant[0] == "help" {
                continue;
            }
            let entry = entries.iter().find(|entry| entry.name == meant[0]);
            let parsed = (entry.unwrap().build)().try_get_matches_from(&meant);
            assert!(parsed.is_ok(), "{word}: {meant:?}: {parsed:?}");
        }
    }
}
