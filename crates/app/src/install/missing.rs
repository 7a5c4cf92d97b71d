//! Installing what is missing on the way to something else: what follows from it is for that to say.

use vshelf_core::Request;
use vshelf_core::lock_file::LockedRelease;

use super::request::InstallRequest;
use super::run::install;
use crate::error::{Done, Error};
use crate::events::{Answer, Event, Listener, Question};
use crate::runtime::Runtime;

/// Installs what is asked for of a runtime, and reports what happens, but not what to do next. The release that a
/// project's lock has for the request is installed as it is locked.
pub fn install_missing(
    runtime: &Runtime<'_>,
    request: Request,
    locked: Option<LockedRelease>,
    listener: &dyn Listener,
) -> Done {
    let mut missing = InstallRequest::default();
    missing.add(request, locked);
    install(runtime.environment(), missing, &OnTheWay(listener))
}

/// Hears of everything but what an install resulted in, and is asked nothing about what may follow.
struct OnTheWay<'l>(&'l dyn Listener);

impl Listener for OnTheWay<'_> {
    fn tell(&self, event: Event<'_>) {
        match event {
            Event::Installed(_) | Event::Concluded { .. } => {}
            event => self.0.tell(event),
        }
    }

    fn ask(&self, question: &Question<'_>) -> Result<Answer, Error> {
        match question {
            Question::ConnectShell { .. } => Ok(Answer::Nobody),
            question => self.0.ask(question),
        }
    }
}
