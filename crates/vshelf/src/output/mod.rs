//! What commands show: tables, sentences and JSON of what the use cases gave back.

pub mod card;
pub mod carry;
pub mod catalog;
pub mod checkup;
pub mod config;
pub mod connect;
pub mod default;
pub mod definition_check;
pub mod explain;
pub mod history;
pub mod json;
pub mod label;
pub mod list;
pub mod lock;
pub mod mirror;
pub mod mirror_page;
pub mod outdated;
pub mod path;
pub mod renew;
pub mod require;
pub mod runtimes;
#[cfg(test)]
mod schemas;
pub mod standing;
pub mod status;
pub mod suggestions;
pub mod switch;
pub mod tidy;
pub mod timeline;
