//! Help beyond that of the single options.

pub mod examples;
pub mod named;
pub mod overview;
pub mod topics;
