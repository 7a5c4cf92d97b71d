//! The built program, driven as a person would, in a home of its own.

#![allow(
    clippy::unwrap_used,
    clippy::too_many_lines,
    reason = "a test that cannot go on should say where, and nothing else"
)]

mod adopt;
mod bad_input;
mod browse;
mod build_tools;
mod builds;
mod checkup;
mod company;
mod completion;
mod concurrency;
mod connect;
mod credentials;
mod definitions;
mod demo;
mod disk;
mod docs;
mod faults;
mod formats;
mod fresh;
mod gate;
mod habit;
mod hints;
mod hostile_projects;
mod injected_faults;
mod interfaces;
mod job;
mod jobs;
mod json;
mod kills;
mod launchers;
mod line_links;
mod live;
mod lock;
mod mirror;
mod names;
mod network;
mod nginx;
mod official;
mod opens;
mod package_registry;
mod ports;
mod process;
mod publishers;
mod real_builds;
mod registry;
mod registry_server;
mod renew;
mod scene;
mod shells;
mod sources;
mod team;
mod terminal;
mod tidy;
mod timeline;
mod version_files;
mod watching;
mod web_server;
mod worlds;
