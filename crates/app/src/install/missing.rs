//! Installing what is missing on the way to something else: what follows from it is for that to say.

use std::path::Path;

use vshelf_core::Request;
use vshelf_core::lock::LOCK_FILE;

use super::run::{InstallRequest, install};
use crate::error::{Done, Error};
use crate::events::{Answer, Event, Listener, Question};
use crate::project;
use crate::runtime::Runtime;

/// Installs what is asked for of a runtime, and tells what happens, but not what to do next. What a project's lock has,
/// where that is the file which requires it, is installed as it is locked.
pub fn install_missing(
    runtime: &Runtime<'_>,
    request: Request,
    required_by: Option<&Path>,
    listener: &dyn Listener,
) -> Done {
    let lock = required_by.filter(|file| file.ends_with(LOCK_FILE));
    let locked = lock.map(|file| project::locked_in(runtime, file));
    let request = match required_by {
        // A file of another runtime names that by its own name.
        Some(_) => Request {
            runtime: Some(runtime.name().to_owned()),
            ..request
        },
        None => request,
    };
    let missing = InstallRequest {
        requests: vec![request],
        locked: locked.transpose()?.flatten().into_iter().collect(),
        ..InstallRequest::default()
    };
    install(runtime.environment(), &missing, &OnTheWay(listener))
}

/// Hears of everything but what an install resulted in, and is asked nothing about what may follow.
struct OnTheWay<'l>(&'l dyn Listener);

impl Listener for OnTheWay<'_> {
    fn tell(&self, event: Event<'_>) {
        match event {
            Event::Installed(_) | Event::Concluded(_) => {}
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
