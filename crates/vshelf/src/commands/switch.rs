//! `vshelf switch`: this shell, now.

use clap::Args;
use vshelf_app::{Environment, switch};

use super::command::{CommandArgs, RunCommand, release};
use crate::failure::Outcome;
use crate::output::switch::{say_followed, say_switched};
use crate::ui::Ui;

/// Use another version in this shell, now
///
/// The choice holds for this shell and what it starts, until `vshelf switch --follow`. New shells
/// get the default.
#[derive(Debug, Args)]
pub struct Switch {
    /// A version on the shelf, such as 8, lts or a label; `-`: the previous version; `system`: the
    /// system's own copy; omitted: what the project requires
    #[arg(value_name = "SELECTOR", allow_hyphen_values = true)]
    selector: Option<String>,
    /// Follow the project here, or else the default, again; of the runtime in SELECTOR, such as marram@,
    /// if one is given
    #[arg(long)]
    follow: bool,
}

impl CommandArgs for Switch {
    const NAME: &'static str = "switch";
    const GROUP: &'static str = "Use";
}

impl RunCommand for Switch {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if self.follow {
            let followed = switch::follow(environment, self.selector.as_deref())?;
            return say_followed(ui, &followed);
        }
        let asked = self.selector.as_deref();
        let asked = asked.map(|text| release(environment, text)).transpose()?;
        say_switched(ui, &switch::switch(environment, asked, ui)?)
    }
}
