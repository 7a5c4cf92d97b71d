//! `vshelf browse`: look around and act, on the whole screen.

use clap::Args;
use vshelf_app::runtime::published::Extent;
use vshelf_app::{Environment, Runtime};

use super::command::{CommandArgs, RunCommand};
use crate::browse::{Left, look};
use crate::failure::{Class, Failure, Outcome};
use crate::ui::Ui;

/// Look around in a full-screen view: filter, install, switch, remove
///
/// The lines form a shelf; the selected line's releases are listed, and the chosen release's
/// details are shown. Keys do what the other commands do, and show which command that is.
/// The key ? shows all of them.
#[derive(Debug, Args)]
pub struct Browse {
    /// The runtime, where several are on the shelf
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
}

impl CommandArgs for Browse {
    const NAME: &'static str = "browse";
    const GROUP: &'static str = "See";
}

impl RunCommand for Browse {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let mut runtime = Runtime::named(environment, self.runtime.as_deref())?;
        if !ui.is_terminal() || !ui.can_ask() {
            let message = "browse needs a terminal";
            return Err(Failure::new(Class::Usage, message)
                .run("To list what is published", "vshelf catalog"));
        }
        runtime.published.load(Extent::Releases)?;
        match look(ui, runtime)? {
            Left::Quietly(shell) => {
                if let Some(shell) = shell {
                    environment.shell.take_over(shell);
                }
                Ok(())
            }
            Left::By(signal) => signal_hook::low_level::emulate_default_handler(signal)
                .map_err(|error| Failure::new(Class::Other, error.to_string())),
        }
    }
}
