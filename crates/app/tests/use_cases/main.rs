//! The use cases, each called as a function: a temporary shelf, a stand-in release server, a recorder
//! of events.

mod choosing;
mod installing;
mod keeping;
mod known_faults;
mod projects;
mod scene;
mod shells;
