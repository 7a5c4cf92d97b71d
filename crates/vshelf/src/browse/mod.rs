//! The full-screen view at work: a screen, what it shows at a moment, and the use cases that its keys
//! begin.

mod action;
mod cards;
mod screen;
mod session;
mod snapshot;

pub use session::{Left, look};
