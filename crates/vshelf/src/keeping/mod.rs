//! Keeping the shelf: what is outdated on it, taking that off, and the packages in what stays.

pub mod packages;
pub mod record;
pub mod removal;
pub mod tidying;
