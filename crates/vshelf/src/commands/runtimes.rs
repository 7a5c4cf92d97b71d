//! `vshelf runtimes`: the definitions that are known.

use clap::Args;
use vshelf_app::events::{Event, Listener};
use vshelf_app::{Environment, definition_trial, runtimes};

use super::command::{CommandArgs, RunCommand};
use crate::failure::{Failure, Outcome};
use crate::output;
use crate::ui::Ui;

/// List the runtimes that are known, or add one
///
/// A runtime is known by a small TOML file, its definition. Some are built in; your own are in
/// the config folder and take precedence.
#[derive(Debug, Args)]
pub struct Runtimes {
    /// Add or replace a runtime by the definition at this URL or path
    #[arg(long, value_name = "FILE")]
    add: Option<String>,
    /// Remove your own definition of this runtime; its installs stay
    #[arg(long, value_name = "NAME", conflicts_with = "add")]
    remove: Option<String>,
    /// Make this the main runtime: the one that selectors mean when they name none
    #[arg(long, value_name = "NAME", conflicts_with_all = ["add", "remove"])]
    main: Option<String>,
    /// Show what the definition at this URL or path would publish, and what is wrong with it; if you agree, also
    /// whether its newest release can be installed. Nothing is kept
    #[arg(long, value_name = "FILE", conflicts_with_all = ["add", "remove", "main"])]
    check: Option<String>,
    /// Show it as JSON
    #[arg(long, conflicts_with_all = ["add", "remove", "main"])]
    json: bool,
}

impl CommandArgs for Runtimes {
    const NAME: &'static str = "runtimes";
    const GROUP: &'static str = "Connect";
}

impl RunCommand for Runtimes {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if let Some(place) = &self.add {
            return match runtimes::add(environment, place, ui)? {
                Some((definition, file)) => {
                    output::runtimes::say_added(ui, environment, &definition, &file)
                }
                None => Ok(()),
            };
        }
        if let Some(name) = &self.remove {
            let (stay, is_defined) = runtimes::remove(environment, name)?;
            return output::runtimes::say_removed(ui, name, &stay, is_defined);
        }
        if let Some(main) = &self.main {
            runtimes::set_main(environment, main)?;
            return ui.done(format!("Selectors without a runtime mean {main} now."));
        }
        if let Some(place) = &self.check {
            return self.check(ui, environment, place);
        }
        let (known, broken) = runtimes::list(environment)?;
        for error in &broken {
            ui.tell(Event::LeftUndone(error));
        }
        match self.json {
            true => output::json::print_list(ui, &output::runtimes::reports(known)),
            false => output::runtimes::show(ui, known),
        }
    }
}

impl Runtimes {
    /// Shows what a definition would publish, and tries its newest release if the person agrees. Fails if one of its
    /// sources gives nothing.
    fn check(&self, ui: &Ui, environment: &Environment, place: &str) -> Outcome {
        let mut checked = runtimes::check(environment, place)?;
        output::definition_check::show(ui, &checked, self.json)?;
        let mut sources = checked.sources.drain(..);
        if let Some(error) = sources.find_map(|source| source.published.err()) {
            return Err(Failure::from(error));
        }
        drop(sources);
        let is_asked = !self.json || ui.says_yes();
        let tried = if is_asked {
            definition_trial::try_newest(environment, &checked, &ui.for_events(self.json))?
        } else {
            None
        };
        output::definition_check::say_sound(&ui.for_events(self.json), tried.as_deref(), place)
    }
}
