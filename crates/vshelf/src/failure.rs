//! A failure on its way to the person: what, which value or path, why, and what to type next.

pub use vshelf_core::diagnosis::Class;
use vshelf_core::words::with_causes;

/// A failure in words.
#[derive(Debug)]
pub struct Failure {
    /// Its class, which is the exit code.
    pub class: Class,
    /// What went wrong, as a sentence without its period.
    pub message: String,
    /// Why, outermost first.
    pub causes: Vec<String>,
    /// The ways out.
    pub hints: Vec<Hint>,
    /// The runtimes one of which has to be named for the same words to be understood.
    pub runtimes: Vec<String>,
}

/// A way out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Hint {
    /// Something to know.
    Say(String),
    /// Something to type.
    Run {
        /// What it does.
        why: String,
        /// The command.
        command: String,
    },
}

/// What a command gives back.
pub type Outcome = Result<(), Failure>;

impl Failure {
    /// A failure with nothing but its message.
    pub fn new(class: Class, message: impl Into<String>) -> Failure {
        Failure {
            class,
            message: message.into(),
            causes: Vec::new(),
            hints: Vec::new(),
            runtimes: Vec::new(),
        }
    }

    /// What went wrong and why, in one sentence.
    pub fn sentence(&self) -> String {
        with_causes(&self.message, self.causes.iter().cloned()) + "."
    }

    /// The commands that help, each with its purpose.
    pub fn steps(&self) -> impl Iterator<Item = (&str, &str)> {
        self.hints.iter().filter_map(|hint| match hint {
            Hint::Run { why, command } => Some((why.as_str(), command.as_str())),
            Hint::Say(_) => None,
        })
    }

    /// Adds something to know.
    pub fn say(mut self, text: impl Into<String>) -> Failure {
        self.hints.push(Hint::Say(text.into()));
        self
    }

    /// Adds something to type.
    pub fn run(mut self, why: impl Into<String>, command: impl Into<String>) -> Failure {
        self.hints.push(Hint::Run {
            why: why.into(),
            command: command.into(),
        });
        self
    }
}
