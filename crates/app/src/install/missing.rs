//! Installing what is missing on the way to something else: what follows from it is for that to say.

use vshelf_core::Request;

use super::run::{InstallRequest, install};
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::events::{Answer, Event, Listener, Question};

/// Installs what is asked for, and tells what happens, but not what to do next.
pub fn install_missing(
    environment: &Environment,
    request: Request,
    listener: &dyn Listener,
) -> Done {
    let missing = InstallRequest {
        requests: vec![request],
        ..InstallRequest::default()
    };
    install(environment, &missing, &OnTheWay(listener))
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
