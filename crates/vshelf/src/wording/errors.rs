//! Errors of use cases, in words: each has its message, class and advice; actions become commands here.

use vshelf_app::Error;
use vshelf_core::diagnosis::{Advice, Diagnosis};

use super::advice;
use super::holders;
use super::paths::shown;
use crate::failure::{Failure, Hint};

impl From<Error> for Failure {
    fn from(error: Error) -> Failure {
        Failure::from_told(&error)
    }
}

impl Failure {
    /// An error that a listener was told of, in words.
    pub fn from_told(error: &Error) -> Failure {
        let Diagnosis {
            class,
            causes,
            advice,
        } = error.diagnosis();
        Failure {
            causes: error.causes().into_iter().chain(causes).collect(),
            hints: advice.iter().map(hint).collect(),
            runtimes: match error {
                Error::SeveralRuntimes { names } => names.clone(),
                _ => Vec::new(),
            },
            ..Failure::new(class, message(error))
        }
    }
}

/// The message of an error. Options have the names that the command line gives them, and what protects an install is
/// worded like everywhere else.
fn message(error: &Error) -> String {
    match error {
        Error::InUse {
            title,
            protection,
            since_planned,
        } => {
            let why = holders::protection(protection);
            if *since_planned {
                format!("{title} stays: it is kept now ({why})")
            } else {
                format!("{title} stays: {why}")
            }
        }
        Error::AdoptName { text } => format!("--as is {text:?}, which is not a version"),
        Error::LinkToFile { path } => {
            format!("{} is not a folder, and --link needs one", shown(path))
        }
        error => error.to_string(),
    }
}

fn hint(advice: &Advice) -> Hint {
    match advice {
        Advice::Note(sentence) => Hint::Say(sentence.clone()),
        Advice::Option(hint) => Hint::Say(advice::about_option(hint)),
        Advice::Step { purpose, action } => Hint::Run {
            why: purpose.clone(),
            command: advice::command(action),
        },
    }
}
