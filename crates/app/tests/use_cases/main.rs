//! The use cases, each called as a function: a temporary shelf, a stand-in release server, a recorder
//! of events.

#![allow(
    clippy::unwrap_used,
    missing_docs,
    reason = "a test that cannot go on should say where, and nothing else"
)]

mod choosing;
mod fail_closed;
mod installing;
mod keeping;
mod projects;
mod scene;
mod shells;
