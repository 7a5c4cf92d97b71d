//! `vshelf`: keeps several versions of a language runtime side by side.

mod browse;
mod cli;
mod commands;
mod exit;
mod failure;
mod help;
mod output;
mod progress;
mod sentences;
mod throwaway_home;
mod ui;
mod wording;

use std::process::ExitCode;

fn main() -> ExitCode {
    cli::run(std::env::args_os().collect())
}
