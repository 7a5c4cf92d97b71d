//! Suggestions for words, names and versions that are not understood, as data.

pub mod habit;
pub mod near;
pub mod spelling;
