//! How things look: one palette, one table, one way to write sizes, dates and spans of time.

pub mod browse;
mod markup;
pub mod page;
pub mod palette;
pub mod table;
pub mod timeline;
mod timeline_svg;
pub mod words;

pub use palette::Palette;
pub use table::{Cell, Column, Table};
