//! `vshelf runtimes`: the definitions that are known.

use clap::Args;
use vshelf_app::events::{Event, Listener};
use vshelf_app::{Environment, runtimes};

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::output;
use crate::ui::Ui;

/// List the runtimes that are known, or add one
///
/// A runtime is known by a small TOML file, its definition. Some are built in; your own stand in
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
    /// Show what the definition at this URL or path would publish, and what is wrong with it; nothing
    /// is kept
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
            let checked = runtimes::check(environment, place, ui)?;
            return output::definition_check::show(ui, checked, place, self.json);
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
