//! `vshelf lock`: the releases that a project's requirements came to.

use clap::Args;
use vshelf_app::Environment;
use vshelf_app::locking::{self, LockRequest};

use super::command::{CommandArgs, RunCommand, platforms};
use crate::failure::Outcome;
use crate::output;
use crate::ui::Ui;

/// Record the exact releases that the project's requirements resolve to
///
/// A requirement such as lts or ">=20" means another release every month. vivid-shelf.lock beside it holds the
/// release, and the digests that its publisher's sources state for each platform: `vshelf install` without a selector
/// brings exactly that, on every machine, and connected shells follow it. It holds no addresses, so that a cloned
/// project never chooses what is fetched. A locked release stays as long as it
/// meets the requirement.
#[derive(Debug, Args)]
pub struct Lock {
    /// Write nothing; fail if a requirement is not locked for this platform, or if a digest is not what its sources
    /// state
    #[arg(long)]
    check: bool,
    /// Lock the newest release of this runtime, or of all that is required here if none is given
    #[arg(long, value_name = "RUNTIME", num_args = 0..=1, conflicts_with = "check")]
    renew: Option<Option<String>>,
    /// Lock archives for this platform, such as linux-arm64-gnu, and for those that are locked already, instead of all
    /// that the publisher serves; may be given several times
    #[arg(long, value_name = "PLATFORM", conflicts_with = "check")]
    platform: Vec<String>,
}

impl CommandArgs for Lock {
    const NAME: &'static str = "lock";
    const GROUP: &'static str = "Use";
}

impl RunCommand for Lock {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if self.check {
            return output::lock::say_checked(ui, &locking::check(environment)?);
        }
        let asked = LockRequest {
            renew: self.renew.map(|name| name.into_iter().collect()),
            platforms: platforms(&self.platform)?,
        };
        output::lock::show(ui, &locking::lock(environment, &asked, ui)?)
    }
}
