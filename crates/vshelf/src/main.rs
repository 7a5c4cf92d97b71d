//! `vshelf`: keeps several versions of a language runtime side by side.

mod activity;
mod calling_shell;
mod cli;
mod commands;
mod context;
mod definitions;
mod exit;
mod failure;
mod fetch;
mod first_start;
mod following;
mod hooks;
mod keeping;
mod marks;
mod progress;
mod project;
mod runtime;
mod settings;
mod switching;
mod ui;

use std::process::ExitCode;

fn main() -> ExitCode {
    cli::run(std::env::args_os().collect())
}
