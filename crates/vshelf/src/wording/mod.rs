//! What use cases say, in words: errors, events, versions, what keeps an install.

pub mod advice;
pub mod building;
pub mod concerns;
pub mod conclusions;
pub mod errors;
pub mod events;
pub mod holders;
pub mod installing;
pub mod keeping;
pub mod other_copies;
pub mod paths;
pub mod shells;
pub mod standing;
pub mod versions;
