//! Every use case of Vivid Shelf, with no terminal in it.
//!
//! A use case takes an [`Environment`] and a request, tells what happens to a [`Listener`] as data,
//! asks it where something is the person's to decide, and gives back an outcome or an [`Error`].
//! Words, colours and command lines are the interface's. The terminal, the full-screen view and the
//! tests listen to the same things.

pub mod activity;
pub mod admission;
pub mod adopt;
pub mod base;
pub mod calling_shell;
pub mod catalog;
pub mod checkup;
pub mod concerns;
pub mod conclude;
mod daily;
pub mod defaults;
pub mod definition_trial;
pub mod definitions;
mod diagnosis;
pub mod environment;
pub mod error;
pub mod events;
pub mod example_requirement;
pub mod foreign_file;
pub mod install;
pub mod integrate;
pub mod keep;
pub mod labels;
pub mod ledger;
pub mod line_links;
pub mod lock_check;
pub mod lock_difference;
pub mod locking;
mod manifest;
pub mod mirror;
pub mod mistakes;
pub mod other_copy;
pub mod outcome;
mod platform;
pub mod project;
pub mod require;
pub mod runtime;
pub mod runtimes;
pub mod session;
pub mod settings;
pub mod snapshot;
pub mod sourcing;
mod step_failure;
pub mod switch;
pub mod timeline;
pub mod variables;
pub mod version_files;

pub use activity::Activity;
pub use environment::Environment;
pub use error::{Class, Done, Error};
pub use events::{Answer, Event, Listener, Question};
pub use runtime::Runtime;
