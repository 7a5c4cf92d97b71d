//! Keeping the shelf: what is outdated on it, removing and restoring that, renewing lines, and the
//! packages in what stays.

pub mod carry;
mod found_packages;
pub mod history;
pub mod holders;
pub mod leftovers;
pub mod lines;
pub mod packages;
pub mod plan;
pub mod remove;
pub mod renew;
pub mod restore;
pub mod tidy;
pub mod trash;
