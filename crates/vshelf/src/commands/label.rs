//! `vshelf label`: a person's own names for selectors.

use clap::Args;
use vshelf_app::{Environment, labels};

use super::command::{CommandArgs, RunCommand, release};
use crate::failure::Outcome;
use crate::output::{json, label};
use crate::ui::Ui;

/// List, show or set your own names for selectors
///
/// A label can be typed wherever a selector can. One on a moving selector, such as lts, moves with
/// it; one on an exact version also keeps that install when the shelf is tidied.
#[derive(Debug, Args)]
pub struct Label {
    /// The label
    #[arg(value_name = "NAME")]
    name: Option<String>,
    /// The selector that it stands for, such as 8.3.1 or lts
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Remove this label; what it stood for stays
    #[arg(long, value_name = "NAME", conflicts_with_all = ["name", "selector", "json"])]
    remove: Option<String>,
    /// Show the list as JSON
    #[arg(long, conflicts_with_all = ["name", "selector"])]
    json: bool,
}

impl CommandArgs for Label {
    const NAME: &'static str = "label";
    const GROUP: &'static str = "Use";
}

impl RunCommand for Label {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        match (&self.remove, &self.name, &self.selector) {
            (Some(name), ..) => label::say_removed(ui, &labels::remove(environment, name)?),
            (None, Some(name), Some(selector)) => {
                let set = labels::set(environment, name, &release(environment, selector)?)?;
                label::say_set(ui, &set)
            }
            (None, Some(name), None) => label::show_one(ui, &labels::find(environment, name)?),
            (None, None, _) => {
                let (labels, several_runtimes) = labels::all(environment)?;
                match self.json {
                    true => json::print_list(ui, &label::reports(&labels)),
                    false => label::show(ui, &labels, several_runtimes),
                }
            }
        }
    }
}
