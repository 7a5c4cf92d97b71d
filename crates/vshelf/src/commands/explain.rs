//! `vshelf explain`: how a selector becomes a release, step by step.

use clap::Args;
use jiff::civil::Date;
use vshelf_app::runtime::published::Extent;
use vshelf_app::{Environment, Runtime};

use super::command::{CommandArgs, RunCommand, release};
use crate::failure::Outcome;
use crate::output::explain;
use crate::ui::Ui;

/// Show step by step how a selector becomes a release
///
/// First among what is published, as `vshelf install` chooses; then among what is on the shelf, as
/// `vshelf switch` does, if that chooses something else.
#[derive(Debug, Args)]
pub struct Explain {
    /// The selector, such as lts or ">=6 <8"
    #[arg(value_name = "SELECTOR", allow_hyphen_values = true)]
    selector: String,
    /// Compute phases for this day
    #[arg(long, value_name = "DATE")]
    as_of: Option<Date>,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

impl CommandArgs for Explain {
    const NAME: &'static str = "explain";
    const GROUP: &'static str = "See";
}

impl RunCommand for Explain {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let request = release(environment, &self.selector)?;
        let mut runtime = Runtime::of_request(environment, &request)?;
        runtime.published.judge_on(self.as_of);
        runtime.published.load_and_tell(Extent::Releases, ui)?;
        if self.json {
            explain::print(ui, &runtime, &self.selector, &request)
        } else {
            explain::show(ui, &runtime, &request)
        }
    }
}
