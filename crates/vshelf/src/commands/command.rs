//! What a command is to the command line.

use clap::{ArgMatches, Args, Command, FromArgMatches};
use vshelf_app::keep::lines::LineWord;
use vshelf_app::runtime::opening;
use vshelf_app::{Environment, Error, definitions};
use vshelf_core::{Platform, Request};

use crate::failure::{Class, Failure, Outcome};
use crate::ui::Ui;

/// The groups of commands in the overview.
pub const GROUPS: [&str; 4] = ["See", "Use", "Keep", "Connect"];

/// A command as the command line sees it.
pub struct CommandEntry {
    /// Its name.
    pub name: &'static str,
    /// Its group in the overview.
    pub group: &'static str,
    /// Builds its parser.
    pub build: fn() -> Command,
    /// Runs it.
    pub run: fn(&ArgMatches, &Ui, &Environment) -> Outcome,
}

/// A command's arguments, whose doc comment is the help text.
pub trait CommandArgs: Args + FromArgMatches {
    /// The command's name.
    const NAME: &'static str;
    /// Its group in the overview.
    const GROUP: &'static str;
}

/// A command that takes nothing but its arguments.
pub trait RunCommand: CommandArgs {
    /// Carries it out.
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome;
}

/// The parser of a command.
pub fn build<C: CommandArgs>() -> Command {
    C::augment_args(Command::new(C::NAME).disable_help_flag(true))
}

/// A command's arguments as they were given.
pub fn read<C: CommandArgs>(matches: &ArgMatches) -> Result<C, Failure> {
    C::from_arg_matches(matches).map_err(|error| Failure::new(Class::Usage, error.to_string()))
}

/// The entry of a command.
pub fn entry<C: RunCommand>() -> CommandEntry {
    CommandEntry {
        name: C::NAME,
        group: C::GROUP,
        build: build::<C>,
        run: |matches, ui, environment| read::<C>(matches)?.run(ui, environment),
    }
}

/// The request that a selector is.
pub fn request(selector: &str) -> Result<Request, Failure> {
    Ok(selector.parse().map_err(Error::from)?)
}

/// The request that a selector is; the name of a runtime alone means its stable release.
pub fn release(environment: &Environment, selector: &str) -> Result<Request, Failure> {
    Ok(opening::read_name(environment, request(selector)?)?)
}

/// The runtime whose name is all that was typed, written `marram` or `marram@`.
pub fn runtime_alone(environment: &Environment, typed: &str) -> Result<Option<String>, Failure> {
    if let Some(name) = typed.strip_suffix('@') {
        return Ok(Some(name.to_owned()));
    }
    let known = definitions::names(environment.folders()?)?;
    Ok(known.into_iter().find(|name| name == typed))
}

/// The lines and runtimes that these words are.
pub fn lines(environment: &Environment, words: &[String]) -> Result<Vec<LineWord>, Failure> {
    let word = |typed: &String| match runtime_alone(environment, typed)? {
        Some(runtime) => Ok(LineWord::Runtime(runtime)),
        None => Ok(LineWord::Line(request(typed)?)),
    };
    words.iter().map(word).collect()
}

/// The platforms that these texts are.
pub fn platforms(texts: &[String]) -> Result<Vec<Platform>, Failure> {
    let read = |text: &String| {
        text.parse().map_err(|_| {
            Failure::new(Class::Usage, format!("{text:?} is not a platform"))
                .say("A platform is written like linux-x64-gnu, linux-arm64-musl or darwin-arm64.")
        })
    };
    texts.iter().map(read).collect()
}

/// The requests that several selectors are.
pub fn requests(selectors: &[String]) -> Result<Vec<Request>, Failure> {
    selectors.iter().map(|text| request(text)).collect()
}
