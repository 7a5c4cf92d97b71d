//! Taking installs off the shelf, with what that means for the default, the labels and the shell.

use vshelf_core::tidy::Protection;
use vshelf_shelf::shelf::{Running, TakenOff};

use crate::failure::{Failure, Kind};
use crate::following;
use crate::keeping::packages;
use crate::keeping::record::{Done, record};
use crate::keeping::tidying::protection_in_words;
use crate::runtime::Runtime;
use crate::switching;
use crate::ui::Ui;

/// Takes the install with this key off the shelf, writes that into the history, and brings the
/// default and the calling shell in order. Says how many bytes are free again.
pub fn take_off(
    ui: &Ui,
    runtime: &Runtime<'_>,
    key: &str,
    done: Done,
    running: Running,
) -> Result<u64, Failure> {
    let context = runtime.context();
    let Some(install) = runtime.install(key) else {
        let message = format!("{key} is not on the shelf any more");
        return Err(Failure::new(Kind::NoMatch, message));
    };
    // Asked before it goes; an install whose package tool does not answer has none to tell.
    let packages = packages::list(runtime, key).unwrap_or_default();
    let was_default = runtime.default_key().as_deref() == Some(key);
    let written = || record(context, done, install, &packages);
    let freed = match runtime.shelf.take_off(key, running, written)? {
        TakenOff::Freed(freed) => freed,
        TakenOff::Spared(process) => {
            let why = protection_in_words(&Protection::Process {
                id: process.id,
                program: process.program,
            });
            let message = format!("{} stays: {why}", runtime.called(&install.shelved));
            return Err(
                Failure::new(Kind::Refused, message).say("It can go when that process has ended.")
            );
        }
    };
    following::forget(context)?;
    if runtime.state.kept.contains(key) {
        runtime.shelf.change_state(|state| {
            state.kept.remove(key);
        })?;
    }
    if was_default {
        runtime.shelf.clear_default()?;
        ui.note(format!(
            "It was the default; {} has none now.",
            runtime.definition.title
        ));
        ui.next("To set one", "vshelf default SELECTOR");
    }
    let shell = &context.shell;
    if shell.will_be_switched(runtime.name()).as_deref() == Some(key) && shell.can_change() {
        let runtime = Runtime::open(context, runtime.definition.clone())?;
        switching::plan_following(&runtime, None);
        ui.note("This shell was switched to it, and follows the default again.");
    }
    Ok(freed)
}
