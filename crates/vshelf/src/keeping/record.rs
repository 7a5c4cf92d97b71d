//! Writing into the history what was done to the shelf.

use vshelf_core::packages::Package;
use vshelf_shelf::Install;
use vshelf_shelf::journal::{self, Deed, Event};

use crate::context::Context;
use crate::failure::{Failure, Outcome, file_failure};

/// A deed, and what there is to say about it.
#[derive(Clone, Debug)]
pub struct Done {
    /// What was done.
    pub deed: Deed,
    /// Why, where a clean-up or renewal did it.
    pub reasons: Vec<String>,
}

impl Done {
    /// A deed that speaks for itself.
    pub fn plain(deed: Deed) -> Done {
        Done {
            deed,
            reasons: Vec::new(),
        }
    }
}

/// Writes down what was done to an install with these packages.
pub fn record(context: &Context, done: Done, install: &Install, packages: &[Package]) -> Outcome {
    let folders = context.folders()?;
    let event = Event {
        at: context.now()?,
        command: context.command_id()?,
        deed: done.deed,
        key: install.shelved.key.clone(),
        reasons: done.reasons,
        packages: packages.iter().map(Package::spelled).collect(),
        receipt: install.receipt.contents.clone(),
    };
    let failed = |error| file_failure(&journal::history_path(folders), "written", error);
    journal::record(folders, &event).map_err(failed)
}

/// Everything that was done, oldest first.
pub fn history(context: &Context) -> Result<Vec<Event>, Failure> {
    let folders = context.folders()?;
    let failed = |error| file_failure(&journal::history_path(folders), "read", error);
    journal::history(folders).map_err(failed)
}
